//! What a person chose and wrote for the dossier of a loop; the document itself is made anew each time.

use crate::{Error, Expected, Result, Store};
use chrono::{DateTime, Utc};
use serde_json::Value;
use uuid::Uuid;

/// What was written for a dossier.
#[derive(Debug, Clone, PartialEq)]
pub struct WrittenDossier {
    /// The specification, as it was written.
    pub spec: Value,
    /// Rises with each change.
    pub revision: i64,
    /// When it was last changed.
    pub written_at: DateTime<Utc>,
}

/// A trial as far as it is needed to know what could be handed over.
#[derive(Debug, Clone, PartialEq)]
pub struct TriedCandidate {
    /// Its identifier.
    pub id: Uuid,
    /// Its number.
    pub number: i32,
    /// Whether others are compared with it.
    pub pinned: bool,
    /// Its candidate.
    pub candidate: Option<Value>,
}

/// A proof as far as it is needed to know what could be handed over.
#[derive(Debug, Clone, PartialEq)]
pub struct ProvenCandidates {
    /// Its number.
    pub number: i32,
    /// The proof.
    pub spec: Value,
    /// The places of its candidates, the best first.
    pub order: Option<Value>,
}

impl Store {
    /// The trials of a loop without what came out of them, by number.
    pub async fn tried_candidates(&self, loop_id: Uuid) -> Result<Vec<TriedCandidate>> {
        let rows = sqlx::query_as!(
            TriedCandidate,
            r#"select id, number, pinned, spec->'candidate' as "candidate" from trial
            where loop_id = $1 and deletion_id is null order by number"#,
            loop_id
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// The proofs of a loop without their figures, by number.
    pub async fn proven_candidates(&self, loop_id: Uuid) -> Result<Vec<ProvenCandidates>> {
        let rows = sqlx::query_as!(
            ProvenCandidates,
            r#"select number, spec, result->'order' as "order" from proof where loop_id = $1 and deletion_id is null
            order by number"#,
            loop_id
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// What was written for the dossier of a loop; nothing where nobody has yet.
    pub async fn dossier(&self, loop_id: Uuid) -> Result<Option<WrittenDossier>> {
        let row = sqlx::query_as!(
            WrittenDossier,
            "select spec, revision, written_at from dossier where loop_id = $1",
            loop_id
        );
        Ok(row.fetch_optional(&self.pool).await?)
    }

    /// Writes the dossier of a loop; one that nobody has written yet has revision 0. Returns the new revision.
    pub async fn set_dossier(&self, loop_id: Uuid, expected: Expected, spec: &Value) -> Result<i64> {
        // Without a row there is nothing to update, and what is inserted meanwhile by another is a row.
        let written = sqlx::query_scalar!(
            "insert into dossier as kept (loop_id, spec) values ($1, $3)
            on conflict (loop_id) do update set spec = $3, revision = kept.revision + 1, written_at = now()
                where kept.revision = coalesce($2, kept.revision)
            returning revision",
            loop_id,
            expected.revision(),
            spec
        )
        .fetch_optional(&self.pool)
        .await?;
        written.ok_or(Error::Changed)
    }
}
