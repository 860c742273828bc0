//! The documents of a loop as its dossier takes them, from the database or from an archive alike.

use crate::problem::Problem;
use antistasis_core::document::Document;
use antistasis_core::preparation::Step;
use antistasis_core::proof::Proof;
use antistasis_core::series::Record;
use antistasis_core::simulation::{Candidate, letter};
use antistasis_dossier::{
    DossierSpec, ModelSource, ProofSource, RecordSource, Sources, TrialSource, proposed_instructions,
};
use antistasis_store::{
    ArchivedLoop, ArchivedModel, ArchivedProof, ArchivedRecord, ArchivedTrial, ProvenCandidates, TriedCandidate,
};
use chrono::{DateTime, SecondsFormat, Utc};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use utoipa::ToSchema;
use uuid::Uuid;

fn when(time: DateTime<Utc>) -> String {
    time.to_rfc3339_opts(SecondsFormat::Secs, true)
}

fn read<T: Document>(value: &Value, what: &str) -> Result<T, Problem> {
    antistasis_core::document::read(value.clone())
        .map_err(|error| Problem::invalid(format!("{what} cannot be read: {error}.")))
}

fn steps(value: &Value, what: &str) -> Result<Vec<Step>, Problem> {
    let steps = value.as_array().into_iter().flatten();
    steps.map(|step| read(step, what)).collect()
}

/// What was written for the dossier of a loop.
pub fn written(spec: &Value) -> Result<DossierSpec, Problem> {
    read(spec, "the dossier")
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
        preparation: steps(&model.preparation, &what)?,
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
        preparation: info.preparation.iter().map(|step| step.0.clone()).collect(),
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

/// What of a loop could be handed over.
#[derive(Debug, PartialEq)]
pub struct Candidates {
    /// The trial that is proposed: of the best candidate of the newest proof, where its trial is still there, else the pinned one, else
    /// the newest. None where there is no trial.
    pub proposed: Option<ProposedTrial>,
    /// Number of the newest proof.
    pub newest_proof: Option<i32>,
    /// The newest proof that each trial was held in; trials that were in none are left out.
    pub proven: Vec<Proven>,
}

/// The trial that is proposed to be handed over.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, ToSchema)]
pub struct ProposedTrial {
    /// Its identifier.
    pub id: Uuid,
    /// Its number.
    pub trial: i32,
}

/// A trial whose candidate was held in a proof.
#[derive(Debug, PartialEq, Eq, Serialize, ToSchema)]
pub struct Proven {
    /// Number of the trial.
    pub trial: i32,
    /// Number of the newest proof with its candidate.
    pub proof: i32,
    /// Place of the candidate in that proof.
    pub place: usize,
}

/// What could be handed over, of the trials and proofs of a loop. Those that cannot be read are passed over.
pub fn candidates(trials: &[TriedCandidate], proofs: &[ProvenCandidates]) -> Candidates {
    let tried: Vec<(&TriedCandidate, Candidate)> =
        trials.iter().filter_map(|own| Some((own, Candidate::deserialize(own.candidate.as_ref()?).ok()?))).collect();
    let mut held: Vec<(i32, Proof, Option<usize>)> = proofs
        .iter()
        .filter_map(|own| {
            let order = own.order.as_ref().and_then(|order| Vec::<usize>::deserialize(order).ok());
            Some((own.number, Proof::deserialize(&own.spec).ok()?, order?.first().copied()))
        })
        .collect();
    held.sort_by_key(|(number, ..)| std::cmp::Reverse(*number));
    let proven = tried.iter().filter_map(|(trial, candidate)| {
        held.iter().find_map(|(proof, spec, _)| {
            let place = spec.candidates.iter().position(|own| own.candidate == *candidate)?;
            Some(Proven { trial: trial.number, proof: *proof, place })
        })
    });
    let best = held.first().and_then(|(_, proof, best)| proof.candidates.get((*best)?));
    let is_best = |candidate: &Candidate| best.is_some_and(|best| best.candidate == *candidate);
    let of_best = tried.iter().filter(|(_, own)| is_best(own)).max_by_key(|(trial, _)| trial.number);
    let proposed = of_best
        .or_else(|| tried.iter().find(|(trial, _)| trial.pinned))
        .or_else(|| tried.iter().max_by_key(|(trial, _)| trial.number));
    Candidates {
        proposed: proposed.map(|(trial, _)| ProposedTrial { id: trial.id, trial: trial.number }),
        newest_proof: held.first().map(|(number, ..)| *number),
        proven: proven.collect(),
    }
}

/// What of an archived loop could be handed over.
fn candidates_of(archived: &ArchivedLoop) -> Candidates {
    let tried = |trial: &ArchivedTrial| TriedCandidate {
        id: trial.id,
        number: trial.number,
        pinned: trial.pinned,
        candidate: trial.spec.get("candidate").cloned(),
    };
    let proven = |proof: &ArchivedProof| ProvenCandidates {
        number: proof.number,
        spec: proof.spec.clone(),
        order: proof.result.get("order").cloned(),
    };
    let trials: Vec<TriedCandidate> = archived.trials.iter().map(tried).collect();
    let proofs: Vec<ProvenCandidates> = archived.proofs.iter().map(proven).collect();
    candidates(&trials, &proofs)
}

/// A dossier to begin with, of the [proposed](Candidates::proposed) trial. None where the loop has no trial.
pub fn proposed(archived: &ArchivedLoop) -> Result<Option<DossierSpec>, Problem> {
    let found = candidates_of(archived);
    let Some(ProposedTrial { trial, .. }) = found.proposed else { return Ok(None) };
    begun(archived, trial, found.newest_proof).map(Some)
}

/// A dossier to begin with, of this trial and proof.
pub fn begun(archived: &ArchivedLoop, trial: i32, proof: Option<i32>) -> Result<DossierSpec, Problem> {
    let mut spec = DossierSpec::of_trial(trial, proof);
    spec.instructions = proposed_instructions(&sources(archived, &spec, None)?);
    Ok(spec)
}
