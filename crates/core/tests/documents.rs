//! Documents of every version that there was open, and give what they gave.
//!
//! `documents/trial-N` holds trials of version N as the server of that time stored them, with rows of the trace that its engine
//! gave; `examples/keep_documents.rs` wrote them. `documents/others-N` holds one of every other kind of document.

#![allow(clippy::unwrap_used, clippy::panic)]

use antistasis_core::assessment::Assessment;
use antistasis_core::controller::TargetController;
use antistasis_core::document::{Document, Written, all_kinds, read, read_text};
use antistasis_core::experiment::ExperimentSpec;
use antistasis_core::identification::{FitOptions, Model, Validation};
use antistasis_core::preparation::Step;
use antistasis_core::proof::{Proof, ProofResult, ProvingSet};
use antistasis_core::simulation::{Candidate, Column, Plant, Scenario, Trial};
use serde::Deserialize;
use serde_json::Value;
use std::path::{Path, PathBuf};

#[derive(Deserialize)]
struct Kept {
    trial: serde_json::Value,
    every: usize,
    rows: usize,
    columns: Vec<Column>,
}

fn kept() -> Vec<(PathBuf, Kept)> {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/documents");
    let inside = |path: &Path| std::fs::read_dir(path).unwrap().map(|entry| entry.unwrap().path()).collect::<Vec<_>>();
    let of_trials = |directory: &&PathBuf| directory.file_name().unwrap().to_string_lossy().starts_with("trial-");
    let mut files: Vec<PathBuf> =
        inside(&root).iter().filter(of_trials).flat_map(|directory| inside(directory)).collect();
    files.sort();
    let read = |path: PathBuf| {
        let text = std::fs::read_to_string(&path).unwrap();
        let kept = serde_json::from_str(&text).unwrap_or_else(|error| panic!("{}: {error}", path.display()));
        (path, kept)
    };
    files.into_iter().map(read).collect()
}

/// Of the largest value of a column.
const ALIKE: f64 = 1e-12;

#[test]
fn old_trials_open_and_give_the_same_trace() {
    let all = kept();
    assert!(all.len() >= 29, "{}", all.len());
    for (path, Kept { trial, every, rows, columns }) in all {
        let name = path.file_stem().unwrap().to_string_lossy().into_owned();
        let trial: Trial = serde_json::from_value(trial).unwrap_or_else(|error| panic!("{name}: {error}"));
        let trace = trial.run().unwrap_or_else(|error| panic!("{name}: {error}"));
        assert_eq!(trace.len(), rows, "{name}");
        for old in columns {
            let new = trace
                .columns
                .iter()
                .find(|column| column.tag == old.tag && column.role == old.role && column.unit == old.unit)
                .unwrap_or_else(|| panic!("{name}: there is no {} any more", old.tag));
            let size = old.values.iter().fold(f64::MIN_POSITIVE, |size, value| size.max(value.abs()));
            for (k, (new, old)) in new.values.iter().step_by(every).zip(&old.values).enumerate() {
                let tag = &trace.columns[0].tag;
                assert!((new - old).abs() <= ALIKE * size, "{name}: {tag} in row {}: {new}, was {old}", k * every);
            }
        }
    }
}

/// What is written is read again as it was, so that nothing is lost on the way through the store.
#[test]
fn what_is_read_is_written_as_it_was() {
    for (path, Kept { trial, .. }) in kept() {
        let read: Trial = serde_json::from_value(trial).unwrap();
        let again: Trial = serde_json::from_str(&serde_json::to_string(&read).unwrap()).unwrap();
        assert_eq!((&again, again.digest()), (&read, read.digest()), "{}", path.display());
    }
}

/// Reads a document of a kind, of whatever version, and writes it again.
fn again<T: Document>(document: &Value) -> antistasis_core::Result<Value> {
    let read: T = read(document.clone())?;
    assert!(read_text::<T>(&document.to_string()).is_ok());
    Ok(serde_json::to_value(Written(&read)).unwrap())
}

/// The first place at which something of the old document is not in the new one; what is new there does not count, and what is
/// nothing (null, an empty list) may be left out.
fn lost(old: &Value, new: Option<&Value>, at: &str) -> Option<String> {
    let is_nothing = |value: &Value| value.is_null() || value.as_array().is_some_and(Vec::is_empty);
    let Some(new) = new else { return (!is_nothing(old)).then(|| at.to_owned()) };
    match (old, new) {
        (Value::Object(old), Value::Object(new)) => {
            old.iter().find_map(|(key, value)| lost(value, new.get(key), &format!("{at}.{key}")))
        }
        (Value::Array(old), Value::Array(own)) if old.len() == own.len() => {
            old.iter().zip(own).enumerate().find_map(|(k, (old, new))| lost(old, Some(new), &format!("{at}[{k}]")))
        }
        (Value::Number(old), Value::Number(new)) => (old.as_f64() != new.as_f64()).then(|| at.to_owned()),
        _ => (old != new).then(|| at.to_owned()),
    }
}

#[test]
fn every_other_kind_of_document_opens_and_loses_nothing() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/documents");
    let mut kinds = std::collections::BTreeMap::<&str, usize>::new();
    // As many directories as versions: whoever raises one keeps what there was of the one before.
    let newest = all_kinds().iter().map(|(_, version)| *version).max().unwrap();
    let directories = (1..=newest).map(|version| root.join(format!("others-{version}")));
    for entry in directories.flat_map(|directory| std::fs::read_dir(directory).unwrap()) {
        let path = entry.unwrap().path();
        let name = path.file_stem().unwrap().to_string_lossy().into_owned();
        let kind = name.split('-').next().unwrap();
        let old: Value = serde_json::from_str(&std::fs::read_to_string(&path).unwrap()).unwrap();
        let steps = |old: &Value| old.as_array().unwrap().iter().map(again::<Step>).collect::<Result<_, _>>();
        let (kind, new) = match kind {
            "model" => (Model::KIND, again::<Model>(&old)),
            "options" => (FitOptions::KIND, again::<FitOptions>(&old)),
            "validation" => (Validation::KIND, again::<Validation>(&old)),
            "experiment" => (ExperimentSpec::KIND, again::<ExperimentSpec>(&old)),
            "preparation" => (Step::KIND, steps(&old).map(Value::Array)),
            "candidate" => (Candidate::KIND, again::<Candidate>(&old)),
            "scenario" => (Scenario::KIND, again::<Scenario>(&old)),
            "plant" => (Plant::KIND, again::<Plant>(&old)),
            "assessment" => (Assessment::KIND, again::<Assessment>(&old)),
            "proof" => (Proof::KIND, again::<Proof>(&old)),
            "result" => (ProofResult::KIND, again::<ProofResult>(&old)),
            "set" => (ProvingSet::KIND, again::<ProvingSet>(&old)),
            "target" => (TargetController::KIND, again::<TargetController>(&old)),
            other => panic!("{name}: nothing is known of the kind {other}"),
        };
        let new = new.unwrap_or_else(|error| panic!("{name}: {error}"));
        assert_eq!(lost(&old, Some(&new), ""), None, "{name}");
        *kinds.entry(kind).or_default() += 1;
    }
    // Trials have directories of their own.
    for (kind, _) in all_kinds().iter().filter(|(kind, _)| *kind != Trial::KIND) {
        assert!(kinds.contains_key(kind), "no {kind} is kept");
    }
    assert!(kinds[Model::KIND] >= 7, "{kinds:?}");
}

/// A model that was stored goes on where it was: it answers a step as its parameters say.
#[test]
fn stored_models_still_answer() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/documents/others-1");
    let model = |name: &str| -> Model {
        serde_json::from_str(&std::fs::read_to_string(root.join(format!("model-{name}.json"))).unwrap()).unwrap()
    };
    let first = model("fopdt");
    let settled = *first.step_response(None, 0, 0, None).unwrap().values.last().unwrap();
    let gain = first.parameter("gain").unwrap().value;
    assert!((settled / gain - 1.0).abs() < 0.01, "{settled} for {gain}");
    let matrix = model("matrix");
    assert_eq!(matrix.rows.len(), 2);
    let cells = matrix.cells(None).unwrap();
    assert!(cells.rows[0].iter().all(Option::is_some) && cells.rows[1][1].is_none());
    for name in ["noise-and-steps", "integrating", "arx", "disturbance", "state-space"] {
        let own = model(name);
        for input in 0..own.inputs.len() {
            assert!(
                own.step_response(None, input, 0, None).unwrap().values.iter().all(|value| value.is_finite()),
                "{name}"
            );
        }
    }
}
