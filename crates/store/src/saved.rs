//! Plants, scenarios, candidates, proving sets and target controllers saved for the works, to be used again in any loop.

use crate::unreadable::{Listed, Unreadable};
use crate::{DeletionKind, Error, Expected, Result, Store, found, taken};
use antistasis_core::controller::TargetController;
use antistasis_core::document::{Written, read};
use antistasis_core::proof::ProvingSet;
use antistasis_core::simulation::{Candidate, Plant, Scenario};
use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use sqlx::types::Json;
use utoipa::ToSchema;
use uuid::Uuid;

/// What can be saved.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum SavedKind {
    /// A plant.
    Plant,
    /// A scenario.
    Scenario,
    /// A candidate.
    Candidate,
    /// A proving set.
    ProvingSet,
    /// How a controller on the plant takes its settings.
    Target,
}

impl SavedKind {
    pub(crate) fn name(self) -> &'static str {
        match self {
            Self::Plant => "plant",
            Self::Scenario => "scenario",
            Self::Candidate => "candidate",
            Self::ProvingSet => "proving_set",
            Self::Target => "target",
        }
    }
}

/// Something to be saved.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(tag = "kind", content = "spec", rename_all = "snake_case", deny_unknown_fields)]
pub enum SavedSpec {
    /// A plant.
    Plant(Box<Plant>),
    /// A scenario.
    Scenario(Scenario),
    /// A candidate.
    Candidate(Box<Candidate>),
    /// A proving set.
    ProvingSet(ProvingSet),
    /// How a controller on the plant takes its settings.
    Target(TargetController),
}

impl SavedSpec {
    /// What it is.
    #[must_use]
    pub fn kind(&self) -> SavedKind {
        match self {
            Self::Plant(_) => SavedKind::Plant,
            Self::Scenario(_) => SavedKind::Scenario,
            Self::Candidate(_) => SavedKind::Candidate,
            Self::ProvingSet(_) => SavedKind::ProvingSet,
            Self::Target(_) => SavedKind::Target,
        }
    }

    fn value(&self) -> Result<serde_json::Value> {
        let value = match self {
            Self::Plant(plant) => serde_json::to_value(Written(&**plant)),
            Self::Scenario(scenario) => serde_json::to_value(Written(scenario)),
            Self::Candidate(candidate) => serde_json::to_value(Written(&**candidate)),
            Self::ProvingSet(set) => serde_json::to_value(Written(set)),
            Self::Target(target) => serde_json::to_value(Written(target)),
        };
        value.map_err(|error| sqlx::Error::Encode(error.into()).into())
    }

    /// What is saved as a kind.
    ///
    /// Errors where there is no such kind, or the document is none that this version reads.
    pub fn read(kind: &str, value: serde_json::Value) -> antistasis_core::Result<Self> {
        Ok(match kind {
            "plant" => Self::Plant(Box::new(read(value)?)),
            "scenario" => Self::Scenario(read(value)?),
            "proving_set" => Self::ProvingSet(read(value)?),
            "target" => Self::Target(read(value)?),
            "candidate" => Self::Candidate(Box::new(read(value)?)),
            other => {
                let allowed = "one of plant, scenario, candidate, proving_set, target";
                return Err(antistasis_core::Error::invalid("kind", other, allowed));
            }
        })
    }
}

/// Something saved under a name.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct SavedItem {
    /// Identifier.
    pub id: Uuid,
    /// The name, of its own among its kind.
    pub name: String,
    /// What the user wrote about it.
    pub remark: String,
    /// Tag of the loop that it was made in, where that is still there.
    pub made_in: Option<String>,
    /// Rises with each change.
    pub revision: i64,
    /// When it was saved.
    pub saved_at: DateTime<Utc>,
    /// What was saved.
    #[serde(flatten)]
    pub spec: SavedSpec,
}

/// Identifier and name, the document as it is stored, and what it is, where it can be read.
type SavedRow = ((Uuid, String), serde_json::Value, antistasis_core::Result<SavedItem>);

impl Store {
    /// All that is saved, or all of a kind, by name, without what cannot be read.
    pub async fn saved(&self, kind: Option<SavedKind>) -> Result<Listed<SavedItem>> {
        let rows = self.saved_rows(kind, None).await?;
        let all = rows.len();
        let rows: Vec<SavedItem> = rows.into_iter().filter_map(|(_, _, item)| item.ok()).collect();
        Ok(Listed { unreadable: all - rows.len(), rows, all: all as i64 })
    }

    /// One saved thing.
    pub async fn saved_item(&self, id: Uuid) -> Result<SavedItem> {
        let (_, _, item) = found(self.saved_rows(None, Some(id)).await?.pop(), "saved thing", id)?;
        item.map_err(|error| sqlx::Error::ColumnDecode { index: "spec".to_owned(), source: error.into() }.into())
    }

    /// What is saved and cannot be read, or what of a kind.
    pub async fn unreadable_saved(&self, kind: Option<SavedKind>) -> Result<Vec<Unreadable>> {
        let rows = self.saved_rows(kind, None).await?.into_iter();
        Ok(rows
            .filter_map(|((id, name), document, item)| {
                let why = item.err()?.to_string();
                Some(Unreadable { kind: DeletionKind::Saved, id, number: None, name, why, document })
            })
            .collect())
    }

    async fn saved_rows(&self, kind: Option<SavedKind>, id: Option<Uuid>) -> Result<Vec<SavedRow>> {
        let rows = sqlx::query!(
            r#"select saved.id, kind, saved.name, remark, control_loop.tag as "made_in?", saved.revision,
                spec as "spec: Json<serde_json::Value>", saved_at
            from saved left join control_loop on control_loop.id = loop_id and control_loop.deletion_id is null
            where saved.deletion_id is null and kind = coalesce($1, kind) and saved.id = coalesce($2, saved.id)
            order by kind, saved.name"#,
            kind.map(SavedKind::name),
            id
        )
        .fetch_all(&self.pool)
        .await?;
        Ok(rows
            .into_iter()
            .map(|row| {
                let item = SavedSpec::read(&row.kind, row.spec.0.clone()).map(|spec| SavedItem {
                    spec,
                    id: row.id,
                    name: row.name.clone(),
                    remark: row.remark,
                    made_in: row.made_in,
                    revision: row.revision,
                    saved_at: row.saved_at,
                });
                ((row.id, row.name), row.spec.0, item)
            })
            .collect())
    }

    /// Saves something under a new name.
    pub async fn save(&self, name: &str, remark: &str, loop_id: Option<Uuid>, spec: &SavedSpec) -> Result<Uuid> {
        let id = Uuid::now_v7();
        sqlx::query!(
            "insert into saved (id, kind, name, remark, loop_id, spec) values ($1, $2, $3, $4, $5, $6)",
            id,
            spec.kind().name(),
            name,
            remark,
            loop_id,
            spec.value()?
        )
        .execute(&self.pool)
        .await
        .map_err(|error| taken(error, spec.kind().name(), name))?;
        Ok(id)
    }

    /// Renames, annotates, and where a spec is given replaces what is saved.
    pub async fn set_saved(
        &self,
        id: Uuid,
        expected: Expected,
        (name, remark): (&str, &str),
        spec: Option<&SavedSpec>,
    ) -> Result<()> {
        let before = self.saved_item(id).await?;
        if let Some(spec) = spec.filter(|spec| spec.kind() != before.spec.kind()) {
            let (is, given) = (before.spec.kind().name(), spec.kind().name());
            return Err(Error::Refused(format!("“{}” is a {is}: a {given} cannot take its place", before.name)));
        }
        let done = sqlx::query!(
            "update saved set name = $3, remark = $4, spec = coalesce($5, spec), revision = revision + 1, saved_at = now()
            where id = $1 and deletion_id is null and revision = coalesce($2, revision)",
            id,
            expected.revision(),
            name,
            remark,
            spec.map(SavedSpec::value).transpose()?
        )
        .execute(&self.pool)
        .await
        .map_err(|error| taken(error, before.spec.kind().name(), name))?;
        if done.rows_affected() == 0 {
            return Err(Error::Changed);
        }
        Ok(())
    }
}
