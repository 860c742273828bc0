//! Models identified from records.

use crate::unreadable::{Listed, each_that_can_be_read};
use crate::{Error, Expected, Part, Result, Store, found};
use antistasis_core::document::{Stored, Written};
use antistasis_core::identification::{FitOptions, Model, Validation};
use antistasis_core::preparation::Step;
use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use sqlx::types::Json;
use utoipa::ToSchema;
use uuid::Uuid;

/// A stretch beyond the first that a model was fitted to.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct FurtherWindow {
    /// The record.
    pub record_id: Uuid,
    /// The content hash of that record.
    pub record_hash: String,
    /// The preparation that lay over the record.
    pub preparation: Vec<Step>,
    /// Start in s from the start of the record.
    pub from: f64,
    /// End in s from the start of the record.
    pub to: f64,
}

/// A model to be kept.
#[derive(Debug)]
pub struct NewModel<'a> {
    /// The record it was fitted to.
    pub record_id: Uuid,
    /// The content hash of that record.
    pub record_hash: &'a str,
    /// The preparation that lay over the record.
    pub preparation: &'a [Step],
    /// The window of the record in s from its start.
    pub window: (f64, f64),
    /// Further stretches that it was fitted to together with that window.
    pub further: &'a [FurtherWindow],
    /// What it was fitted under.
    pub options: &'a FitOptions,
    /// The model.
    pub model: &'a Model,
    /// The window that it was held against, and the result.
    pub validation: Option<((f64, f64), &'a Validation)>,
    /// The model that it was reduced from.
    pub reduced_from: Option<Uuid>,
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
    /// What the user calls it; empty for its letter and structure alone.
    pub name: String,
    /// What the user wrote about it.
    pub remark: String,
    /// Rises with each change.
    pub revision: i64,
    /// Whether a record has another content or another preparation than it had when the model was fitted.
    pub stale: bool,
    /// The preparation that lay over the record.
    pub preparation: Vec<Step>,
    /// Start of the window in s from the start of the record.
    pub window_from: f64,
    /// End of the window in s from the start of the record.
    pub window_to: f64,
    /// Further stretches that it was fitted to together with that window.
    pub further: Vec<FurtherWindow>,
    /// Start of the window that it was held against, in s; null where it was held against none.
    pub validation_from: Option<f64>,
    /// End of that window.
    pub validation_to: Option<f64>,
    /// How it agrees with that window.
    pub validation: Option<Validation>,
    /// Whether it is the model that Control works with.
    pub chosen: bool,
    /// Why it was chosen, in the words of the engineer.
    pub reason: String,
    /// The model that it was reduced from.
    pub reduced_from: Option<Uuid>,
    /// What it was fitted under.
    pub options: FitOptions,
    /// The model.
    pub model: Model,
    /// When it was made.
    pub created_at: DateTime<Utc>,
}

impl ModelRow {
    /// Whether it was fitted to a record, or to a part of it.
    #[must_use]
    pub fn is_of(&self, record: Uuid) -> bool {
        self.record_id == record || self.further.iter().any(|window| window.record_id == record)
    }
}

impl Store {
    /// Keeps a model. Which one is *the* model only a person says.
    pub async fn add_model(&self, loop_id: Uuid, new: NewModel<'_>) -> Result<Uuid> {
        let id = Uuid::now_v7();
        self.add_model_once(id, loop_id, new).await?;
        Ok(id)
    }

    /// The same under an identifier that is known; one that is there already stays as it is.
    pub async fn add_model_once(&self, id: Uuid, loop_id: Uuid, new: NewModel<'_>) -> Result<()> {
        let mut transaction = self.pool.begin().await?;
        // One at a time in a loop: the number is the next one.
        sqlx::query_scalar!("select id from control_loop where id = $1 for update", loop_id)
            .fetch_one(&mut *transaction)
            .await?;
        let validation = new.validation.map(|(_, validation)| Json(Written(validation)));
        sqlx::query!(
            "insert into model (id, loop_id, number, record_id, record_hash, window_from, window_to, chosen, result, options,
                preparation, validation_from, validation_to, validation, reduced_from, further)
            values ($1, $2, (select coalesce(max(number), 0) + 1 from model where loop_id = $2), $3, $4, $5, $6, false, $7, $8,
                $9, $10, $11, $12, $13, $14)
            on conflict (id) do nothing",
            id,
            loop_id,
            new.record_id,
            new.record_hash,
            new.window.0,
            new.window.1,
            Json(Written(new.model)) as _,
            Json(Written(new.options)) as _,
            Json(new.preparation.iter().map(Written).collect::<Vec<_>>()) as _,
            new.validation.map(|(window, _)| window.0),
            new.validation.map(|(window, _)| window.1),
            validation as _,
            new.reduced_from,
            Json(new.further) as _
        )
        .execute(&mut *transaction)
        .await?;
        Ok(transaction.commit().await?)
    }

    /// The models of a loop, the newest first.
    pub async fn models(&self, loop_id: Uuid) -> Result<Vec<ModelRow>> {
        Ok(self.newest_models(loop_id, Part { newest: i64::MAX, also: None }).await?.rows)
    }

    /// Part of the models of a loop, and besides the chosen one and those that trials stand on; with how many there are in all.
    pub async fn newest_models(&self, loop_id: Uuid, part: Part) -> Result<Listed<ModelRow>> {
        let all = sqlx::query_scalar!(
            r#"select count(*) as "count!" from model where loop_id = $1 and deletion_id is null"#,
            loop_id
        )
        .fetch_one(&self.pool)
        .await?;
        let ids = sqlx::query_scalar!(
            r#"select id as "id!" from model where loop_id = $1 and deletion_id is null and (chosen or id = $3 or exists (
                select from trial where trial.loop_id = $1 and trial.deletion_id is null and trial.model_id = model.id))
            union
            (select id from model where loop_id = $1 and deletion_id is null order by number desc limit $2)"#,
            loop_id,
            part.newest,
            part.also
        )
        .fetch_all(&self.pool)
        .await?;
        let mut rows = each_that_can_be_read(&ids, |ids| async move { self.model_rows(&ids).await }).await?;
        rows.sort_by_key(|row| std::cmp::Reverse(row.number));
        Ok(Listed::of(&ids, rows, all))
    }

    /// One model.
    pub async fn model(&self, id: Uuid) -> Result<ModelRow> {
        found(self.model_rows(&[id]).await?.pop(), "model", id)
    }

    /// The loop that a model belongs to.
    pub async fn loop_of_model(&self, id: Uuid) -> Result<Uuid> {
        let row = sqlx::query_scalar!("select loop_id from model where id = $1 and deletion_id is null", id)
            .fetch_optional(&self.pool)
            .await?;
        found(row, "model", id)
    }

    async fn model_rows(&self, ids: &[Uuid]) -> Result<Vec<ModelRow>> {
        let rows = sqlx::query_as!(
            ModelRecord,
            r#"select model.id, number, record_id, record.name as record_name, model.name, model.remark, model.revision,
                (record.content_hash <> record_hash or record.preparation <> model.preparation or exists (
                    select from jsonb_array_elements(further) as other(stretch)
                        join record as its on its.id = (stretch ->> 'record_id')::uuid
                    where its.content_hash <> stretch ->> 'record_hash' or its.preparation <> stretch -> 'preparation'
                )) as "stale!", further as "further: Json<Vec<FurtherWindow>>",
                model.preparation as "preparation: Json<Vec<Stored<Step>>>", window_from, window_to, validation_from, validation_to,
                validation as "validation: Json<Stored<Validation>>", chosen, reason, reduced_from,
                options as "options: Json<Stored<FitOptions>>", result as "model: Json<Stored<Model>>", model.created_at
            from model join record on record.id = record_id
            where model.id = any($1) and model.deletion_id is null
            order by number desc"#,
            ids
        )
        .fetch_all(&self.pool)
        .await?;
        Ok(rows.into_iter().map(ModelRow::from).collect())
    }

    /// Makes a model the one that Control works with, for a reason.
    pub async fn choose_model(&self, id: Uuid, reason: &str) -> Result<()> {
        let mut transaction = self.pool.begin().await?;
        let row = sqlx::query!("select loop_id from model where id = $1 and deletion_id is null", id)
            .fetch_optional(&mut *transaction)
            .await?;
        let loop_id = found(row, "model", id)?.loop_id;
        // One at a time in a loop: one model is chosen.
        sqlx::query_scalar!("select id from control_loop where id = $1 for update", loop_id)
            .fetch_one(&mut *transaction)
            .await?;
        sqlx::query!(
            "update model set chosen = false, revision = revision + 1
            where loop_id = $1 and chosen and deletion_id is null and id <> $2",
            loop_id,
            id
        )
        .execute(&mut *transaction)
        .await?;
        sqlx::query!("update model set chosen = true, reason = $2, revision = revision + 1 where id = $1", id, reason)
            .execute(&mut *transaction)
            .await?;
        transaction.commit().await?;
        Ok(())
    }

    /// Takes the mark off the model that is chosen.
    pub async fn choose_no_model(&self, id: Uuid) -> Result<()> {
        let done = sqlx::query!(
            "update model set chosen = false, revision = revision + 1 where id = $1 and deletion_id is null",
            id
        )
        .execute(&self.pool)
        .await?;
        found((done.rows_affected() > 0).then_some(()), "model", id)
    }

    /// Names and annotates a model.
    pub async fn set_model(&self, id: Uuid, expected: Expected, name: &str, remark: &str) -> Result<()> {
        let done = sqlx::query!(
            "update model set name = $3, remark = $4, revision = revision + 1
            where id = $1 and deletion_id is null and revision = coalesce($2, revision)",
            id,
            expected.revision(),
            name,
            remark
        )
        .execute(&self.pool)
        .await?;
        if done.rows_affected() == 0 {
            self.model(id).await?;
            return Err(Error::Changed);
        }
        Ok(())
    }
}

struct ModelRecord {
    id: Uuid,
    number: i32,
    record_id: Uuid,
    record_name: String,
    name: String,
    remark: String,
    revision: i64,
    stale: bool,
    preparation: Json<Vec<Stored<Step>>>,
    window_from: f64,
    window_to: f64,
    further: Json<Vec<FurtherWindow>>,
    validation_from: Option<f64>,
    validation_to: Option<f64>,
    validation: Option<Json<Stored<Validation>>>,
    chosen: bool,
    reason: String,
    reduced_from: Option<Uuid>,
    options: Json<Stored<FitOptions>>,
    model: Json<Stored<Model>>,
    created_at: DateTime<Utc>,
}

impl From<ModelRecord> for ModelRow {
    fn from(row: ModelRecord) -> Self {
        Self {
            id: row.id,
            number: row.number,
            record_id: row.record_id,
            record_name: row.record_name,
            name: row.name,
            remark: row.remark,
            revision: row.revision,
            stale: row.stale,
            preparation: row.preparation.0.into_iter().map(|step| step.0).collect(),
            window_from: row.window_from,
            window_to: row.window_to,
            further: row.further.0,
            validation_from: row.validation_from,
            validation_to: row.validation_to,
            validation: row.validation.map(|validation| validation.0.0),
            chosen: row.chosen,
            reason: row.reason,
            reduced_from: row.reduced_from,
            options: row.options.0.0,
            model: row.model.0.0,
            created_at: row.created_at,
        }
    }
}
