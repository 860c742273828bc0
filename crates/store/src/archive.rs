//! Loops as they leave for another database, and as they come in: documents as they stand in the tables, row for row.

use crate::records::{NewRecord, insert_record};
use crate::{Error, Result, Store, taken};
use antistasis_core::document::Stored;
use antistasis_core::preparation::Step;
use antistasis_core::series::Record;
use antistasis_core::simulation::{Plant, Signal};
use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use sqlx::types::Json;
use uuid::Uuid;

/// A loop with all that is in it but the samples of its records.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ArchivedLoop {
    /// Identifier.
    pub id: Uuid,
    /// Name of its area.
    pub area: String,
    /// Notes on the area.
    pub area_notes: String,
    /// Tag of the loop.
    pub tag: String,
    /// What it is.
    pub name: String,
    /// What is hard about it.
    pub difficulty: String,
    /// Notes of any length.
    pub notes: String,
    /// Process variable.
    pub pv: Signal,
    /// Controller output.
    pub op: Signal,
    /// The simulated plant behind it.
    pub plant: Option<Stored<Plant>>,
    /// Whether the span of the PV was guessed from data.
    pub span_is_guess: bool,
    /// When it was made.
    pub made_at: DateTime<Utc>,
    /// Its records, the oldest first.
    #[serde(skip)]
    pub records: Vec<ArchivedRecord>,
    /// Its models, in the order of their numbers.
    #[serde(skip)]
    pub models: Vec<ArchivedModel>,
    /// Its trials, in the order of their numbers.
    #[serde(skip)]
    pub trials: Vec<ArchivedTrial>,
    /// Its proofs, in the order of their numbers.
    #[serde(skip)]
    pub proofs: Vec<ArchivedProof>,
    /// What was saved in it for the works.
    #[serde(skip)]
    pub saved: Vec<ArchivedSaved>,
    /// What was written for its dossier.
    #[serde(skip)]
    pub dossier: Option<ArchivedDossier>,
}

/// A record without its samples.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
#[allow(missing_docs)]
pub struct ArchivedRecord {
    pub id: Uuid,
    pub name: String,
    pub origin: String,
    pub started: Option<String>,
    pub sample_interval: Option<f64>,
    pub length: i32,
    pub content_hash: String,
    pub notes: Vec<String>,
    pub remark: String,
    pub preparation: Vec<Stored<Step>>,
    pub channels: Vec<crate::ChannelInfo>,
    pub created_at: DateTime<Utc>,
}

/// A model. What was computed stands as it was stored.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
#[allow(missing_docs)]
pub struct ArchivedModel {
    pub id: Uuid,
    pub number: i32,
    pub record_id: Uuid,
    pub record_hash: String,
    pub window_from: f64,
    pub window_to: f64,
    /// Further stretches; archives from before there were any have none.
    #[serde(default)]
    pub further: Json<Vec<crate::FurtherWindow>>,
    pub validation_from: Option<f64>,
    pub validation_to: Option<f64>,
    pub name: String,
    pub remark: String,
    pub chosen: bool,
    pub reason: String,
    pub reduced_from: Option<Uuid>,
    pub options: Value,
    pub preparation: Value,
    pub result: Value,
    pub validation: Option<Value>,
    pub created_at: DateTime<Utc>,
}

fn first_engine() -> i32 {
    1
}

/// A trial. What was computed stands as it was stored.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
#[allow(missing_docs)]
pub struct ArchivedTrial {
    pub id: Uuid,
    pub number: i32,
    pub model_id: Option<Uuid>,
    pub label: String,
    pub remark: String,
    pub starred: bool,
    pub pinned: bool,
    pub digest: String,
    pub spec: Value,
    pub assessment: Value,
    /// The engine that assessed it; archives from before it was noted come from the first one.
    #[serde(default = "first_engine")]
    pub engine: i32,
    pub created_at: DateTime<Utc>,
}

/// A proof with its table. What was computed stands as it was stored.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
#[allow(missing_docs)]
pub struct ArchivedProof {
    pub id: Uuid,
    pub number: i32,
    pub model_id: Option<Uuid>,
    pub label: String,
    pub remark: String,
    pub digest: String,
    pub spec: Value,
    pub result: Value,
    pub engine: i32,
    pub created_at: DateTime<Utc>,
}

/// What a person chose and wrote for the dossier.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
#[allow(missing_docs)]
pub struct ArchivedDossier {
    pub spec: Value,
    pub written_at: DateTime<Utc>,
}

/// A plant, scenario, candidate or proving set saved for the works.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
#[allow(missing_docs)]
pub struct ArchivedSaved {
    pub id: Uuid,
    pub kind: String,
    pub name: String,
    pub remark: String,
    pub spec: Value,
    pub saved_at: DateTime<Utc>,
}

impl Store {
    /// A loop with everything but the samples of its records, and what is in the bin.
    pub async fn archived(&self, tag: &str) -> Result<ArchivedLoop> {
        self.gathered(tag, None).await
    }

    /// A loop with one trial, the model that it stands on, the chosen model, and a proof if one is named: what a dossier takes of it.
    pub async fn archived_around(&self, tag: &str, trial: i32, proof: Option<i32>) -> Result<ArchivedLoop> {
        self.gathered(tag, Some((trial, proof))).await
    }

    async fn gathered(&self, tag: &str, around: Option<(i32, Option<i32>)>) -> Result<ArchivedLoop> {
        // Numbers of the trials and proofs; null for all.
        let wanted: Option<Vec<i32>> = around.map(|(trial, _)| vec![trial]);
        let wanted_proofs: Option<Vec<i32>> = around.map(|(_, proof)| proof.into_iter().collect());
        let detail = self.find_loop(tag).await?;
        let more = sqlx::query!(
            r#"select area.notes as area_notes, l.plant as "plant: Json<Stored<Plant>>", l.made_at
            from control_loop l join area on area.id = l.area_id where l.id = $1"#,
            detail.id
        )
        .fetch_one(&self.pool)
        .await?;
        let mut records: Vec<ArchivedRecord> = self
            .records(detail.id)
            .await?
            .into_iter()
            .map(|info| ArchivedRecord {
                id: info.id,
                name: info.name,
                origin: info.origin,
                started: info.started,
                sample_interval: info.sample_interval,
                length: info.length,
                content_hash: info.content_hash,
                notes: info.notes,
                remark: info.remark,
                preparation: info.preparation.into_iter().map(Stored).collect(),
                channels: info.channels,
                created_at: info.created_at,
            })
            .collect();
        records.reverse();
        let models = sqlx::query_as!(
            ArchivedModel,
            r#"select id, number, record_id, record_hash, window_from, window_to,
                further as "further: Json<Vec<crate::FurtherWindow>>", validation_from, validation_to, name, remark, chosen,
                reason, reduced_from, options, preparation, result, validation, created_at
            from model where loop_id = $1 and deletion_id is null and ($2::int4[] is null or chosen
                or id in (select model_id from trial where loop_id = $1 and number = any($2)))
            order by number"#,
            detail.id,
            wanted.as_deref() as Option<&[i32]>
        )
        .fetch_all(&self.pool)
        .await?;
        let trials = sqlx::query_as!(
            ArchivedTrial,
            "select id, number, model_id, label, remark, starred, pinned, digest, spec, assessment, engine, created_at
            from trial where loop_id = $1 and deletion_id is null and ($2::int4[] is null or number = any($2))
            order by number",
            detail.id,
            wanted.as_deref() as Option<&[i32]>
        )
        .fetch_all(&self.pool)
        .await?;
        let proofs = sqlx::query_as!(
            ArchivedProof,
            "select id, number, model_id, label, remark, digest, spec, result, engine, created_at
            from proof where loop_id = $1 and deletion_id is null and ($2::int4[] is null or number = any($2))
            order by number",
            detail.id,
            wanted_proofs.as_deref() as Option<&[i32]>
        )
        .fetch_all(&self.pool)
        .await?;
        let saved = sqlx::query_as!(
            ArchivedSaved,
            "select id, kind, name, remark, spec, saved_at from saved where loop_id = $1 and deletion_id is null
            order by kind, name",
            detail.id
        )
        .fetch_all(&self.pool)
        .await?;
        let dossier = self.dossier(detail.id).await?;
        Ok(ArchivedLoop {
            id: detail.id,
            area: detail.area,
            area_notes: more.area_notes,
            tag: detail.tag,
            name: detail.name,
            difficulty: detail.difficulty,
            notes: detail.notes,
            pv: detail.pv,
            op: detail.op,
            plant: more.plant.map(|plant| plant.0),
            span_is_guess: detail.span_is_guess,
            made_at: more.made_at,
            records,
            models,
            trials,
            proofs,
            saved,
            dossier: dossier.map(|written| ArchivedDossier { spec: written.spec, written_at: written.written_at }),
        })
    }

    /// Takes loops in, each with the samples of its records in their order; all of them, or on an error none.
    ///
    /// Areas are found by name or made. Identifiers are kept where they are free, so that what goes out again is the same
    /// to the bit; where they are taken (here is a copy of what is there already), all get new ones. Tags must be free.
    pub async fn take_in(&self, loops: &[(ArchivedLoop, Vec<Record>)]) -> Result<()> {
        let mut transaction = self.pool.begin().await?;
        for (archived, samples) in loops {
            let ids: Vec<Uuid> = std::iter::once(archived.id)
                .chain(archived.records.iter().map(|record| record.id))
                .chain(archived.models.iter().map(|model| model.id))
                .chain(archived.trials.iter().map(|trial| trial.id))
                .chain(archived.proofs.iter().map(|proof| proof.id))
                .collect();
            let is_taken = sqlx::query_scalar!(
                r#"select exists (select 1 from control_loop where id = any($1) union select 1 from record where id = any($1)
                    union select 1 from model where id = any($1) union select 1 from trial where id = any($1)
                    union select 1 from proof where id = any($1)) as "taken!""#,
                &ids
            )
            .fetch_one(&mut *transaction)
            .await?;
            let fresh: std::collections::HashMap<Uuid, Uuid> =
                ids.iter().map(|id| (*id, if is_taken { Uuid::now_v7() } else { *id })).collect();
            let new = |id: Uuid| fresh.get(&id).copied();
            let must = |id: Uuid| {
                new(id).ok_or_else(|| Error::Refused(format!("the archive refers to {id}, which is not in it")))
            };
            let area_id =
                match sqlx::query_scalar!("select id from area where name = $1 and deletion_id is null", archived.area)
                    .fetch_optional(&mut *transaction)
                    .await?
                {
                    Some(id) => id,
                    None => {
                        let id = Uuid::now_v7();
                        sqlx::query!(
                            "insert into area (id, position, name, notes)
                        values ($1, (select coalesce(max(position), -1) + 1 from area), $2, $3)",
                            id,
                            archived.area,
                            archived.area_notes
                        )
                        .execute(&mut *transaction)
                        .await?;
                        id
                    }
                };
            let loop_id = must(archived.id)?;
            sqlx::query!(
                "insert into control_loop (id, area_id, position, tag, name, difficulty, notes, pv, op, plant, span_is_guess,
                    made_at)
                values ($1, $2, (select coalesce(max(position), -1) + 1 from control_loop where area_id = $2), $3, $4, $5, $6,
                    $7, $8, $9, $10, $11)",
                loop_id,
                area_id,
                archived.tag,
                archived.name,
                archived.difficulty,
                archived.notes,
                Json(&archived.pv) as _,
                Json(&archived.op) as _,
                archived.plant.as_ref().map(Json) as _,
                archived.span_is_guess,
                archived.made_at
            )
            .execute(&mut *transaction)
            .await
            .map_err(|error| taken(error, "loop", &archived.tag))?;
            for (info, record) in archived.records.iter().zip(samples) {
                let id = must(info.id)?;
                let new = NewRecord {
                    name: &info.name,
                    origin: &info.origin,
                    started: info.started.as_deref(),
                    notes: &info.notes,
                    record,
                };
                insert_record(&mut transaction, id, loop_id, new).await?;
                sqlx::query!(
                    "update record set remark = $2, preparation = $3, created_at = $4 where id = $1",
                    id,
                    info.remark,
                    Json(&info.preparation) as _,
                    info.created_at
                )
                .execute(&mut *transaction)
                .await?;
            }
            for model in &archived.models {
                let own = |window: &crate::FurtherWindow| {
                    must(window.record_id).map(|record_id| crate::FurtherWindow { record_id, ..window.clone() })
                };
                let further = model.further.iter().map(own).collect::<Result<Vec<_>>>()?;
                sqlx::query!(
                    "insert into model (id, loop_id, number, record_id, record_hash, window_from, window_to, validation_from,
                        validation_to, name, remark, chosen, reason, reduced_from, options, preparation, result, validation,
                        created_at, further)
                    values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15, $16, $17, $18, $19, $20)",
                    must(model.id)?,
                    loop_id,
                    model.number,
                    must(model.record_id)?,
                    model.record_hash,
                    model.window_from,
                    model.window_to,
                    model.validation_from,
                    model.validation_to,
                    model.name,
                    model.remark,
                    model.chosen,
                    model.reason,
                    model.reduced_from.and_then(new),
                    model.options,
                    model.preparation,
                    model.result,
                    model.validation,
                    model.created_at,
                    Json(further) as _
                )
                .execute(&mut *transaction)
                .await?;
            }
            for trial in &archived.trials {
                sqlx::query!(
                    "insert into trial (id, loop_id, number, model_id, label, remark, starred, pinned, digest, spec, assessment,
                        created_at, engine)
                    values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13)",
                    must(trial.id)?,
                    loop_id,
                    trial.number,
                    trial.model_id.and_then(new),
                    trial.label,
                    trial.remark,
                    trial.starred,
                    trial.pinned,
                    trial.digest,
                    trial.spec,
                    trial.assessment,
                    trial.created_at,
                    trial.engine
                )
                .execute(&mut *transaction)
                .await?;
            }
            for proof in &archived.proofs {
                sqlx::query!(
                    "insert into proof (id, loop_id, number, model_id, label, remark, digest, spec, result, engine, created_at)
                    values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11)",
                    must(proof.id)?,
                    loop_id,
                    proof.number,
                    proof.model_id.and_then(new),
                    proof.label,
                    proof.remark,
                    proof.digest,
                    proof.spec,
                    proof.result,
                    proof.engine,
                    proof.created_at
                )
                .execute(&mut *transaction)
                .await?;
            }
            if let Some(dossier) = &archived.dossier {
                sqlx::query!(
                    "insert into dossier (loop_id, spec, written_at) values ($1, $2, $3)",
                    loop_id,
                    dossier.spec,
                    dossier.written_at
                )
                .execute(&mut *transaction)
                .await?;
            }
            for saved in &archived.saved {
                // What is saved under that name here stays.
                sqlx::query!(
                    "insert into saved (id, kind, name, remark, loop_id, spec, saved_at)
                    select coalesce((select gen_random_uuid() from saved where id = $1), $1), $2, $3, $4, $5, $6, $7
                    where not exists (select 1 from saved where kind = $2 and name = $3 and deletion_id is null)",
                    saved.id,
                    saved.kind,
                    saved.name,
                    saved.remark,
                    loop_id,
                    saved.spec,
                    saved.saved_at
                )
                .execute(&mut *transaction)
                .await?;
            }
        }
        transaction.commit().await?;
        Ok(())
    }
}
