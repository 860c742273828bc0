//! What changes in the database, told as it happens, by whichever program it was made.

use crate::{Result, Store};
use serde::{Deserialize, Serialize};
use sqlx::postgres::PgListener;
use utoipa::ToSchema;
use uuid::Uuid;

/// The channel that the triggers of the tables speak on.
const CHANNEL: &str = "antistasis_changes";

/// A row that was made, changed or deleted.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Change {
    /// The table: `area`, `control_loop`, `record`, `model`, `trial`, `proof`, `dossier`, `saved` or `deletion`.
    pub kind: String,
    /// `insert`, `update` or `delete`.
    pub action: String,
    /// Identifier of the row.
    pub id: Uuid,
    /// The loop that it belongs to, where it belongs to one.
    pub loop_id: Option<Uuid>,
    /// Its revision, where it has one.
    pub revision: Option<i64>,
}

/// Listens to the changes.
#[derive(Debug)]
pub struct Changes(PgListener);

impl Store {
    /// Begins to listen.
    pub async fn listen(&self) -> Result<Changes> {
        let mut listener = PgListener::connect_with(&self.pool).await?;
        listener.listen(CHANNEL).await?;
        Ok(Changes(listener))
    }
}

impl Changes {
    /// The next change; None where the connection was lost meanwhile, so that any number may have been missed.
    pub async fn next(&mut self) -> Result<Option<Change>> {
        loop {
            let Some(told) = self.0.try_recv().await? else { return Ok(None) };
            if let Ok(change) = serde_json::from_str(told.payload()) {
                return Ok(Some(change));
            }
        }
    }
}
