//! Proofs of a loop, with the tables that came out: they take minutes to make, so that these are kept.

use crate::unreadable::{Listed, each_that_can_be_read};
use crate::{Error, Expected, Part, Result, Store, found};
use antistasis_core::document::{Stored, Written};
use antistasis_core::proof::{Proof, ProofResult};
use antistasis_core::simulation::ENGINE_VERSION;
use chrono::{DateTime, Utc};
use serde::Serialize;
use sqlx::types::Json;
use utoipa::ToSchema;
use uuid::Uuid;

/// The engine that proves now.
const ENGINE: i32 = ENGINE_VERSION as i32;

/// A proof to be kept.
#[derive(Debug)]
pub struct NewProof<'a> {
    /// The model that the uncertainty of its plant comes from.
    pub model_id: Option<Uuid>,
    /// What it is called.
    pub label: &'a str,
    /// The proof.
    pub proof: &'a Proof,
    /// What came out.
    pub result: &'a ProofResult,
}

/// A proof as kept.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct ProofRow {
    /// Identifier.
    pub id: Uuid,
    /// Number among the proofs of the loop, from 1.
    pub number: i32,
    /// The model that the uncertainty of its plant comes from.
    pub model_id: Option<Uuid>,
    /// What it is called.
    pub label: String,
    /// What the user wrote about it.
    pub remark: String,
    /// Rises with each change of label or remark.
    pub revision: i64,
    /// The proof.
    pub proof: Proof,
    /// What came out.
    pub result: ProofResult,
    /// The version of the engine that computed it.
    pub engine: i32,
    /// Whether that was another one than the present: its figures may differ.
    pub of_older_engine: bool,
    /// When it was made.
    pub created_at: DateTime<Utc>,
}

impl Store {
    /// Keeps a proof; one that is there already is not kept twice. Returns its identifier.
    pub async fn add_proof(&self, loop_id: Uuid, new: NewProof<'_>) -> Result<Uuid> {
        let mut transaction = self.pool.begin().await?;
        sqlx::query_scalar!("select id from control_loop where id = $1 for update", loop_id)
            .fetch_one(&mut *transaction)
            .await?;
        let digest = new.proof.digest();
        let same = sqlx::query_scalar!(
            "select id from proof where loop_id = $1 and digest = $2 and deletion_id is null",
            loop_id,
            digest
        )
        .fetch_optional(&mut *transaction)
        .await?;
        let id = same.unwrap_or_else(Uuid::now_v7);
        if same.is_some() {
            // What the present engine makes of it takes the place of what an older one did.
            sqlx::query!(
                "update proof set result = $2, engine = $3, revision = revision + 1 where id = $1 and engine <> $3",
                id,
                Json(Written(new.result)) as _,
                ENGINE
            )
            .execute(&mut *transaction)
            .await?;
        } else {
            sqlx::query!(
                "insert into proof (id, loop_id, number, model_id, label, digest, spec, result, engine)
                values ($1, $2, (select coalesce(max(number), 0) + 1 from proof where loop_id = $2), $3, $4, $5, $6, $7, $8)",
                id,
                loop_id,
                new.model_id,
                new.label,
                digest,
                Json(Written(new.proof)) as _,
                Json(Written(new.result)) as _,
                ENGINE
            )
            .execute(&mut *transaction)
            .await?;
        }
        transaction.commit().await?;
        Ok(id)
    }

    /// The newest proofs of a loop; with how many there are in all.
    pub async fn newest_proofs(&self, loop_id: Uuid, part: Part) -> Result<Listed<ProofRow>> {
        let all = sqlx::query_scalar!(
            r#"select count(*) as "count!" from proof where loop_id = $1 and deletion_id is null"#,
            loop_id
        )
        .fetch_one(&self.pool)
        .await?;
        let ids = sqlx::query_scalar!(
            r#"select id as "id!" from proof where loop_id = $1 and deletion_id is null and id = $3
            union (select id from proof where loop_id = $1 and deletion_id is null order by number desc limit $2)"#,
            loop_id,
            part.newest,
            part.also
        )
        .fetch_all(&self.pool)
        .await?;
        let mut rows = each_that_can_be_read(&ids, |ids| async move { self.proof_rows(&ids).await }).await?;
        rows.sort_by_key(|row| std::cmp::Reverse(row.number));
        Ok(Listed::of(&ids, rows, all))
    }

    /// One proof.
    pub async fn proof(&self, id: Uuid) -> Result<ProofRow> {
        found(self.proof_rows(&[id]).await?.pop(), "proof", id)
    }

    async fn proof_rows(&self, ids: &[Uuid]) -> Result<Vec<ProofRow>> {
        let rows = sqlx::query!(
            r#"select id, number, model_id, label, remark, revision, spec as "spec: Json<Stored<Proof>>",
                result as "result: Json<Stored<ProofResult>>", engine, created_at
            from proof where id = any($1) and deletion_id is null order by number desc"#,
            ids
        )
        .fetch_all(&self.pool)
        .await?;
        Ok(rows
            .into_iter()
            .map(|row| ProofRow {
                id: row.id,
                number: row.number,
                model_id: row.model_id,
                label: row.label,
                remark: row.remark,
                revision: row.revision,
                proof: row.spec.0.0,
                result: row.result.0.0,
                engine: row.engine,
                of_older_engine: row.engine != ENGINE,
                created_at: row.created_at,
            })
            .collect())
    }

    /// Renames and annotates a proof.
    pub async fn set_proof(&self, id: Uuid, expected: Expected, (label, remark): (&str, &str)) -> Result<()> {
        let done = sqlx::query!(
            "update proof set label = $3, remark = $4, revision = revision + 1
            where id = $1 and deletion_id is null and revision = coalesce($2, revision)",
            id,
            expected.revision(),
            label,
            remark
        )
        .execute(&self.pool)
        .await?;
        if done.rows_affected() == 0 {
            self.proof(id).await?;
            return Err(Error::Changed);
        }
        Ok(())
    }
}
