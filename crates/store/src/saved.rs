//! Plants and scenarios saved with a loop.

use crate::{Result, Store, found};
use chrono::{DateTime, Utc};
use serde::Serialize;
use serde::de::DeserializeOwned;
use sqlx::types::Json;
use uuid::Uuid;

/// What can be saved with a loop.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SavedKind {
    /// A plant.
    Plant,
    /// A scenario.
    Scenario,
}

impl SavedKind {
    fn name(self) -> &'static str {
        match self {
            Self::Plant => "plant",
            Self::Scenario => "scenario",
        }
    }
}

/// Something saved under a name.
#[derive(Debug, Clone)]
pub struct Saved<T> {
    /// The name.
    pub name: String,
    /// What was saved.
    pub spec: T,
    /// When.
    pub saved_at: DateTime<Utc>,
}

impl Store {
    /// All of a kind that is saved with a loop, by name.
    pub async fn saved<T: DeserializeOwned>(&self, loop_id: Uuid, kind: SavedKind) -> Result<Vec<Saved<T>>> {
        let rows = sqlx::query!(
            r#"select name, spec as "spec: Json<serde_json::Value>", saved_at from saved
            where loop_id = $1 and kind = $2 order by name"#,
            loop_id,
            kind.name()
        )
        .fetch_all(&self.pool)
        .await?;
        rows.into_iter()
            .map(|row| {
                let spec = serde_json::from_value(row.spec.0).map_err(|error| sqlx::Error::Decode(error.into()))?;
                Ok(Saved { name: row.name, spec, saved_at: row.saved_at })
            })
            .collect()
    }

    /// Saves something under a name, in place of what was saved under it before.
    pub async fn save<T: Serialize>(&self, loop_id: Uuid, kind: SavedKind, name: &str, spec: &T) -> Result<()> {
        let spec = serde_json::to_value(spec).map_err(|error| sqlx::Error::Encode(error.into()))?;
        sqlx::query!(
            "insert into saved (loop_id, kind, name, spec) values ($1, $2, $3, $4)
            on conflict (loop_id, kind, name) do update set spec = excluded.spec, saved_at = now()",
            loop_id,
            kind.name(),
            name,
            spec
        )
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// Forgets what is saved under a name.
    pub async fn forget(&self, loop_id: Uuid, kind: SavedKind, name: &str) -> Result<()> {
        let done = sqlx::query!(
            "delete from saved where loop_id = $1 and kind = $2 and name = $3",
            loop_id,
            kind.name(),
            name
        )
        .execute(&self.pool)
        .await?;
        found((done.rows_affected() > 0).then_some(()), kind.name(), name)
    }
}
