//! The documents of a loop as its dossier takes them, from the database or from an archive alike.

use crate::problem::Problem;
use antistasis_core::preparation::Step;
use antistasis_core::proof::Proof;
use antistasis_core::series::Record;
use antistasis_core::simulation::{Trial, letter};
use antistasis_dossier::{
    DossierSpec, ModelSource, ProofSource, RecordSource, Sources, TrialSource, proposed_instructions,
};
use antistasis_store::{ArchivedLoop, ArchivedModel, ArchivedProof, ArchivedRecord, ArchivedTrial};
use chrono::{DateTime, SecondsFormat, Utc};
use serde::Deserialize;
use serde::de::DeserializeOwned;
use serde_json::Value;

fn when(time: DateTime<Utc>) -> String {
    time.to_rfc3339_opts(SecondsFormat::Secs, true)
}

fn read<T: DeserializeOwned>(value: &Value, what: &str) -> Result<T, Problem> {
    T::deserialize(value).map_err(|error| Problem::invalid(format!("{what} cannot be read: {error}.")))
}

/// What was written for the dossier of a loop.
pub fn written(archived: &ArchivedLoop) -> Result<Option<DossierSpec>, Problem> {
    let spec = archived.dossier.as_ref().map(|dossier| read(&dossier.spec, "the dossier"));
    spec.transpose()
}

/// The trial that a dossier is about.
fn trial_of<'a>(archived: &'a ArchivedLoop, spec: &DossierSpec) -> Result<&'a ArchivedTrial, Problem> {
    archived.trials.iter().find(|trial| trial.number == spec.trial).ok_or_else(|| {
        let text = format!("There is no trial {} in {}.", letter(spec.trial), archived.tag);
        Problem::invalid_field("trial", text)
    })
}

fn model_of<'a>(archived: &'a ArchivedLoop, trial: &ArchivedTrial) -> Option<&'a ArchivedModel> {
    archived.models.iter().find(|model| Some(model.id) == trial.model_id)
}

/// Place among the records of the loop of the one that the dossier needs the samples of.
pub fn record_needed(archived: &ArchivedLoop, spec: &DossierSpec) -> Result<Option<usize>, Problem> {
    let model = model_of(archived, trial_of(archived, spec)?);
    Ok(model.and_then(|model| archived.records.iter().position(|record| record.id == model.record_id)))
}

/// The documents that a dossier is made from; `record` are the samples of the one that is [needed](record_needed).
pub fn sources(archived: &ArchivedLoop, spec: &DossierSpec, record: Option<Record>) -> Result<Sources, Problem> {
    let trial = trial_of(archived, spec)?;
    let model = model_of(archived, trial);
    let info = record_needed(archived, spec)?.map(|place| &archived.records[place]);
    let proof = match spec.proof {
        Some(number) => Some(archived.proofs.iter().find(|proof| proof.number == number).ok_or_else(|| {
            Problem::invalid_field("proof", format!("There is no proof {number} in {}.", archived.tag))
        })?),
        None => None,
    };
    Ok(Sources {
        tag: archived.tag.clone(),
        name: archived.name.clone(),
        area: archived.area.clone(),
        pv: archived.pv.clone(),
        op: archived.op.clone(),
        written_at: archived.dossier.as_ref().map_or(String::new(), |dossier| when(dossier.written_at)),
        trial: of_trial(trial)?,
        model: model.map(of_model).transpose()?,
        record: info.zip(record).map(|(info, record)| of_record(info, record)),
        chosen_model: archived.models.iter().find(|model| model.chosen).map(|model| model.number),
        proof: proof.map(of_proof).transpose()?,
    })
}

fn of_trial(trial: &ArchivedTrial) -> Result<TrialSource, Problem> {
    let what = format!("trial {}", letter(trial.number));
    Ok(TrialSource {
        number: trial.number,
        label: trial.label.clone(),
        trial: read(&trial.spec, &what)?,
        assessment: read(&trial.assessment, &what)?,
        engine: trial.engine,
        made_at: when(trial.created_at),
    })
}

fn of_model(model: &ArchivedModel) -> Result<ModelSource, Problem> {
    let what = format!("model {}", letter(model.number));
    Ok(ModelSource {
        number: model.number,
        name: model.name.clone(),
        reason: model.reason.clone(),
        model: read(&model.result, &what)?,
        options: read(&model.options, &what)?,
        preparation: read::<Vec<Step>>(&model.preparation, &what)?,
        window: [model.window_from, model.window_to],
        validation_window: model.validation_from.zip(model.validation_to).map(|(from, to)| [from, to]),
        validation: model.validation.as_ref().map(|validation| read(validation, &what)).transpose()?,
        record_hash: model.record_hash.clone(),
        made_at: when(model.created_at),
    })
}

fn of_record(info: &ArchivedRecord, record: Record) -> RecordSource {
    RecordSource {
        name: info.name.clone(),
        origin: info.origin.clone(),
        started: info.started.clone(),
        remark: info.remark.clone(),
        preparation: info.preparation.clone(),
        content_hash: info.content_hash.clone(),
        record,
    }
}

fn of_proof(proof: &ArchivedProof) -> Result<ProofSource, Problem> {
    let what = format!("proof {}", proof.number);
    Ok(ProofSource {
        number: proof.number,
        label: proof.label.clone(),
        proof: read::<Proof>(&proof.spec, &what)?,
        result: read(&proof.result, &what)?,
        engine: proof.engine,
        digest: proof.digest.clone(),
        made_at: when(proof.created_at),
    })
}

/// A dossier to begin with: of the best candidate of the newest proof, where its trial is still there, else of the pinned trial, else
/// of the newest. None where the loop has no trial.
pub fn proposed(archived: &ArchivedLoop) -> Result<Option<DossierSpec>, Problem> {
    let newest = archived.proofs.iter().max_by_key(|proof| proof.number).map(of_proof).transpose()?;
    let best = newest.as_ref().and_then(|proof| proof.proof.candidates.get(*proof.result.order.first()?));
    let is_best = |trial: &&ArchivedTrial| {
        let known = Trial::deserialize(&trial.spec);
        best.is_some_and(|best| known.is_ok_and(|known| known.candidate == best.candidate))
    };
    let trials = || archived.trials.iter();
    let newest_trial = || trials().max_by_key(|trial| trial.number);
    let Some(trial) =
        trials().rev().find(is_best).or_else(|| trials().find(|trial| trial.pinned)).or_else(newest_trial)
    else {
        return Ok(None);
    };
    let mut spec = DossierSpec::of_trial(trial.number, newest.map(|proof| proof.number));
    spec.instructions = proposed_instructions(&sources(archived, &spec, None)?);
    Ok(Some(spec))
}
