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

impl Store {
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
