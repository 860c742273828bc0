//! Rows whose documents this version cannot read: each is shown as such, and hides no other.

use crate::{DeletionKind, Error, Result, Store};
use antistasis_core::assessment::Assessment;
use antistasis_core::document::{Document, Stored};
use antistasis_core::identification::{FitOptions, Model, Validation};
use antistasis_core::preparation::Step;
use antistasis_core::proof::{Proof, ProofResult};
use antistasis_core::simulation::Trial;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use utoipa::ToSchema;
use uuid::Uuid;

/// A row of a loop that cannot be read.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct Unreadable {
    /// What it is.
    pub kind: DeletionKind,
    /// Its identifier.
    pub id: Uuid,
    /// Its number in the trail or among the models; null of a record.
    pub number: Option<i32>,
    /// What it is called.
    pub name: String,
    /// Why it cannot be read.
    pub why: String,
    /// The document as it is stored.
    #[schema(value_type = Object)]
    pub document: Value,
}

/// Some of the rows of a list.
#[derive(Debug, Clone)]
pub struct Listed<T> {
    /// Those that can be read.
    pub rows: Vec<T>,
    /// How many there are in all.
    pub all: i64,
    /// How many of those that were wanted cannot be read.
    pub unreadable: usize,
}

impl<T> Listed<T> {
    pub(crate) fn of(ids: &[Uuid], rows: Vec<T>, all: i64) -> Self {
        Self { unreadable: ids.len() - rows.len(), rows, all }
    }
}

/// Rows by their identifiers, all at once; where one of them cannot be read, each by itself, without those that cannot.
pub(crate) async fn each_that_can_be_read<T, Rows: Future<Output = Result<Vec<T>>>>(
    ids: &[Uuid],
    rows: impl Fn(Vec<Uuid>) -> Rows,
) -> Result<Vec<T>> {
    match rows(ids.to_vec()).await {
        Err(error) if error.is_unreadable() => {}
        other => return other,
    }
    let mut found = Vec::new();
    for id in ids {
        match rows(vec![*id]).await {
            Ok(mut one) => found.append(&mut one),
            Err(error) if error.is_unreadable() => {}
            Err(error) => return Err(error),
        }
    }
    Ok(found)
}

/// What is wrong with one of several documents.
fn fault<T: Document>(what: &str, document: &Value) -> Option<String> {
    Stored::<T>::deserialize(document).err().map(|error| format!("{what}: {error}"))
}

fn fault_of_steps(steps: &Value) -> Option<String> {
    Vec::<Stored<Step>>::deserialize(steps).err().map(|error| format!("its preparation: {error}"))
}

impl Error {
    /// Whether a stored document is none that this version reads.
    #[must_use]
    pub fn is_unreadable(&self) -> bool {
        matches!(self, Self::Database(sqlx::Error::ColumnDecode { .. }))
    }
}

impl Store {
    /// The trials, proofs, models and records of a loop that cannot be read.
    pub async fn unreadable(&self, loop_id: Uuid) -> Result<Vec<Unreadable>> {
        let trials = sqlx::query!(
            "select id, number, label, spec, assessment from trial where loop_id = $1 and deletion_id is null order by number",
            loop_id
        )
        .fetch_all(&self.pool)
        .await?;
        let trials = trials.into_iter().filter_map(|row| {
            let why = fault::<Trial>("the trial", &row.spec)
                .or_else(|| fault::<Assessment>("its assessment", &row.assessment))?;
            let (number, name) = (Some(row.number), row.label);
            Some(Unreadable { kind: DeletionKind::Trial, id: row.id, number, name, why, document: row.spec })
        });
        let models = sqlx::query!(
            "select id, number, name, result, options, validation, preparation from model
            where loop_id = $1 and deletion_id is null order by number",
            loop_id
        )
        .fetch_all(&self.pool)
        .await?;
        let models = models.into_iter().filter_map(|row| {
            let why = fault::<Model>("the model", &row.result)
                .or_else(|| fault::<FitOptions>("how it was fitted", &row.options))
                .or_else(|| fault_of_steps(&row.preparation))
                .or_else(|| row.validation.as_ref().and_then(|found| fault::<Validation>("its validation", found)))?;
            let (number, name) = (Some(row.number), row.name);
            Some(Unreadable { kind: DeletionKind::Model, id: row.id, number, name, why, document: row.result })
        });
        let records = sqlx::query!(
            "select id, name, preparation from record where loop_id = $1 and deletion_id is null order by created_at",
            loop_id
        )
        .fetch_all(&self.pool)
        .await?;
        let records = records.into_iter().filter_map(|row| {
            let why = fault_of_steps(&row.preparation)?;
            let kind = DeletionKind::Record;
            Some(Unreadable { kind, id: row.id, number: None, name: row.name, why, document: row.preparation })
        });
        let proofs = sqlx::query!(
            "select id, number, label, spec, result from proof where loop_id = $1 and deletion_id is null order by number",
            loop_id
        )
        .fetch_all(&self.pool)
        .await?;
        let proofs = proofs.into_iter().filter_map(|row| {
            let why =
                fault::<Proof>("the proof", &row.spec).or_else(|| fault::<ProofResult>("its table", &row.result))?;
            let (number, name) = (Some(row.number), row.label);
            Some(Unreadable { kind: DeletionKind::Proof, id: row.id, number, name, why, document: row.spec })
        });
        Ok(trials.chain(models).chain(records).chain(proofs).collect())
    }
}
