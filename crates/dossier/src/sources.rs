//! What a dossier is made from: the documents of a loop, as they stand.

use antistasis_core::assessment::Assessment;
use antistasis_core::identification::{DataSet, FitOptions, Model, Validation};
use antistasis_core::preparation::Step;
use antistasis_core::proof::{Proof, ProofResult};
use antistasis_core::series::Record;
use antistasis_core::simulation::{Signal, Trial};
use antistasis_core::{Result, preparation};

/// The documents of a loop that a dossier is made from.
#[derive(Debug, Clone)]
pub struct Sources {
    /// Tag of the loop.
    pub tag: String,
    /// What it is.
    pub name: String,
    /// Its area.
    pub area: String,
    /// Process variable.
    pub pv: Signal,
    /// Controller output.
    pub op: Signal,
    /// When the texts of the dossier were last written; empty where nobody has yet.
    pub written_at: String,
    /// The trial whose candidate is handed over.
    pub trial: TrialSource,
    /// The model that the trial stands on.
    pub model: Option<ModelSource>,
    /// The record of that model.
    pub record: Option<RecordSource>,
    /// Number of the model that is chosen now.
    pub chosen_model: Option<i32>,
    /// The proof that is shown.
    pub proof: Option<ProofSource>,
}

/// A trial.
#[derive(Debug, Clone)]
pub struct TrialSource {
    /// Its number in the trail.
    pub number: i32,
    /// What it is called.
    pub label: String,
    /// The trial.
    pub trial: Trial,
    /// Its assessment.
    pub assessment: Assessment,
    /// The version of the engine that assessed it.
    pub engine: i32,
    /// When it was made.
    pub made_at: String,
}

/// A model.
#[derive(Debug, Clone)]
pub struct ModelSource {
    /// Its number.
    pub number: i32,
    /// What it is called.
    pub name: String,
    /// Why it was chosen.
    pub reason: String,
    /// The model.
    pub model: Model,
    /// How it was fitted.
    pub options: FitOptions,
    /// What its data were prepared by.
    pub preparation: Vec<Step>,
    /// The stretch that it was fitted to, s.
    pub window: [f64; 2],
    /// The stretch that it was held against, s.
    pub validation_window: Option<[f64; 2]>,
    /// How it did there.
    pub validation: Option<Validation>,
    /// Hash of the record as it was then.
    pub record_hash: String,
    /// When it was made.
    pub made_at: String,
}

/// A record.
#[derive(Debug, Clone)]
pub struct RecordSource {
    /// What it is called.
    pub name: String,
    /// Where it came from.
    pub origin: String,
    /// When it begins, as it stood in the file.
    pub started: Option<String>,
    /// What was written about it.
    pub remark: String,
    /// What it is prepared by now.
    pub preparation: Vec<Step>,
    /// Its hash now.
    pub content_hash: String,
    /// Its samples.
    pub record: Record,
}

/// A proof.
#[derive(Debug, Clone)]
pub struct ProofSource {
    /// Its number.
    pub number: i32,
    /// What it is called.
    pub label: String,
    /// The proof.
    pub proof: Proof,
    /// What came out.
    pub result: ProofResult,
    /// The version of the engine that computed it.
    pub engine: i32,
    /// Hash of the proof.
    pub digest: String,
    /// When it was made.
    pub made_at: String,
}

impl ProofSource {
    /// The place of the candidate of a trial among those of the proof.
    #[must_use]
    pub fn place_of(&self, trial: &TrialSource) -> Option<usize> {
        self.proof.candidates.iter().position(|own| own.candidate == trial.trial.candidate)
    }
}

/// Measured and modelled values over a stretch.
pub(crate) struct Modelled {
    pub times: Vec<f64>,
    pub measured: Vec<f64>,
    pub modelled: Vec<f64>,
    /// Where the stretch that it was held against begins.
    pub new_data_from: Option<f64>,
    pub tag: String,
    pub unit: String,
}

impl Sources {
    /// The first output of the model over the stretches that it was fitted to and held against.
    pub(crate) fn modelled(&self) -> Result<Option<Modelled>> {
        let (Some(source), Some(record)) = (&self.model, &self.record) else { return Ok(None) };
        let prepared = preparation::prepare(&record.record, &source.preparation)?;
        let options = &source.options;
        let data = DataSet::of_record(&prepared.record, &self.pv.span.unit, &options.disturbances, &options.outputs)?;
        let mut found = Modelled {
            times: Vec::new(),
            measured: Vec::new(),
            modelled: Vec::new(),
            new_data_from: source.validation_window.map(|[from, _]| from),
            tag: data.outputs[0].tag.clone(),
            unit: data.outputs[0].unit.clone(),
        };
        for [from, to] in std::iter::once(source.window).chain(source.validation_window) {
            let range = prepared.window(from, to);
            let part = data.slice(range.clone());
            let simulated = source.model.simulate_on(&part)?.swap_remove(0);
            if !found.times.is_empty() {
                // A gap between the stretches.
                found.times.push(from);
                found.measured.push(f64::NAN);
                found.modelled.push(f64::NAN);
            }
            found.times.extend(range.clone().map(|k| prepared.time(k)));
            found.measured.extend_from_slice(&data.outputs[0].values[range]);
            found.modelled.extend(simulated);
        }
        Ok(Some(found))
    }
}
