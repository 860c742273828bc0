//! Models identified from records.

use crate::{Result, Store, found};
use antistasis_core::identification::FopdtModel;
use chrono::{DateTime, Utc};
use serde::Serialize;
use sqlx::types::Json;
use utoipa::ToSchema;
use uuid::Uuid;

/// A model to be kept.
#[derive(Debug)]
pub struct NewModel<'a> {
    /// The record it was fitted to.
    pub record_id: Uuid,
    /// The content hash of that record.
    pub record_hash: &'a str,
    /// The window of the record in s from its start.
    pub window: (f64, f64),
    /// The model.
    pub model: &'a FopdtModel,
}

/// A model as kept.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct ModelRow {
    /// Identifier.
    pub id: Uuid,
    /// Number in the loop's trail of models, from 1.
    pub number: i32,
    /// The record it was fitted to.
    pub record_id: Uuid,
    /// Name of that record.
    pub record_name: String,
    /// Whether the record has another content than it had when the model was fitted.
    pub stale: bool,
    /// Start of the window in s from the start of the record.
    pub window_from: f64,
    /// End of the window in s from the start of the record.
    pub window_to: f64,
    /// Whether it is the model that Control works with.
    pub chosen: bool,
    /// The model.
    pub model: FopdtModel,
    /// When it was made.
    pub created_at: DateTime<Utc>,
}

impl Store {
    /// Keeps a model, and makes it the chosen one.
    pub async fn add_model(&self, loop_id: Uuid, new: NewModel<'_>) -> Result<Uuid> {
        let id = Uuid::now_v7();
        let mut transaction = self.pool.begin().await?;
        // One at a time in a loop: the number is the next one, and one model is chosen.
        sqlx::query_scalar!("select id from control_loop where id = $1 for update", loop_id)
            .fetch_one(&mut *transaction)
            .await?;
        sqlx::query!("update model set chosen = false where loop_id = $1 and chosen", loop_id)
            .execute(&mut *transaction)
            .await?;
        sqlx::query!(
            "insert into model (id, loop_id, number, record_id, record_hash, window_from, window_to, chosen, result)
            values ($1, $2, (select coalesce(max(number), 0) + 1 from model where loop_id = $2), $3, $4, $5, $6, true, $7)",
            id,
            loop_id,
            new.record_id,
            new.record_hash,
            new.window.0,
            new.window.1,
            Json(new.model) as _
        )
        .execute(&mut *transaction)
        .await?;
        transaction.commit().await?;
        Ok(id)
    }

    /// The models of a loop, the newest first.
    pub async fn models(&self, loop_id: Uuid) -> Result<Vec<ModelRow>> {
        self.model_rows(Some(loop_id), None).await
    }

    /// One model.
    pub async fn model(&self, id: Uuid) -> Result<ModelRow> {
        found(self.model_rows(None, Some(id)).await?.pop(), "model", id)
    }

    async fn model_rows(&self, loop_id: Option<Uuid>, id: Option<Uuid>) -> Result<Vec<ModelRow>> {
        let rows = sqlx::query_as!(
            ModelRecord,
            r#"select model.id, number, record_id, record.name as record_name,
                record.content_hash <> record_hash as "stale!", window_from, window_to, chosen,
                result as "model: Json<FopdtModel>", model.created_at
            from model join record on record.id = record_id
            where model.loop_id = coalesce($1, model.loop_id) and model.id = coalesce($2, model.id)
            order by number desc"#,
            loop_id,
            id
        )
        .fetch_all(&self.pool)
        .await?;
        Ok(rows.into_iter().map(ModelRow::from).collect())
    }

    /// Makes a model the one that Control works with.
    pub async fn choose_model(&self, id: Uuid) -> Result<()> {
        let mut transaction = self.pool.begin().await?;
        let row = sqlx::query!("select loop_id from model where id = $1", id).fetch_optional(&mut *transaction).await?;
        let loop_id = found(row, "model", id)?.loop_id;
        sqlx::query!("update model set chosen = false where loop_id = $1 and chosen", loop_id)
            .execute(&mut *transaction)
            .await?;
        sqlx::query!("update model set chosen = true where id = $1", id).execute(&mut *transaction).await?;
        transaction.commit().await?;
        Ok(())
    }
}

struct ModelRecord {
    id: Uuid,
    number: i32,
    record_id: Uuid,
    record_name: String,
    stale: bool,
    window_from: f64,
    window_to: f64,
    chosen: bool,
    model: Json<FopdtModel>,
    created_at: DateTime<Utc>,
}

impl From<ModelRecord> for ModelRow {
    fn from(row: ModelRecord) -> Self {
        Self {
            id: row.id,
            number: row.number,
            record_id: row.record_id,
            record_name: row.record_name,
            stale: row.stale,
            window_from: row.window_from,
            window_to: row.window_to,
            chosen: row.chosen,
            model: row.model.0,
            created_at: row.created_at,
        }
    }
}
