//! Proofs on files: proposed, carried out, reported.

use crate::Failure;
use crate::files::{print, read_document};
use crate::records::data_of_model;
use antistasis_core::identification::Model;
use antistasis_core::proof::{
    Contender, PROOF_VERSION, Proof, ProofResult, Uncertainty, find_disturbances, propose_set, prove,
};
use antistasis_core::simulation::Trial;
use antistasis_exchange::junit;
use clap::Args;
use std::path::{Path, PathBuf};

#[derive(Debug, Args)]
pub(crate) struct ProveOptions {
    /// Proof; `antistasis schema proof` prints its schema. With --propose, trials that become its candidates.
    #[arg(required = true)]
    proof: Vec<PathBuf>,
    /// Print a proof to begin with instead: the trials' candidates on the plant of the first one, and a proposed proving set.
    #[arg(long)]
    propose: bool,
    /// With --propose: a record in which disturbances that were really there are looked for; they become items of the set.
    #[arg(long, value_name = "FILE", requires = "propose", requires = "model")]
    record: Option<PathBuf>,
    /// The model behind which they are looked for, as `antistasis identify` prints it.
    #[arg(long, value_name = "FILE", requires = "record")]
    model: Option<PathBuf>,
    /// File that the report is written to as JUnit XML.
    #[arg(long, value_name = "FILE", conflicts_with = "propose")]
    junit: Option<PathBuf>,
    /// File that the table is written to as JSON, instead of being printed.
    #[arg(long, value_name = "FILE", conflicts_with = "propose")]
    out: Option<PathBuf>,
}

/// Carries a proof out; whether every candidate keeps every limit.
pub(crate) fn run(options: &ProveOptions) -> Result<bool, Failure> {
    if options.propose {
        print(&proposed(options)?)?;
        return Ok(true);
    }
    let [path] = &options.proof[..] else {
        return Err(Failure::new("one proof at a time: with --propose several trials become one proof"));
    };
    let proof: Proof = read_document(path)?;
    let result = prove(&proof).map_err(|error| Failure::of(path, error))?;
    if let Some(file) = &options.junit {
        let text = junit(&proof.set.name, &result).map_err(|error| Failure::of(file, error))?;
        std::fs::write(file, text).map_err(|error| Failure::of(file, error))?;
    }
    match &options.out {
        Some(file) => {
            let text = serde_json::to_string_pretty(&result).map_err(Failure::new)?;
            std::fs::write(file, text + "\n").map_err(|error| Failure::of(file, error))?;
        }
        None => print(&result)?,
    }
    Ok(is_kept(&result))
}

/// Whether nothing fails: what has no limit does not.
fn is_kept(result: &ProofResult) -> bool {
    result.cells.iter().flatten().all(|cell| cell.trouble.is_none() && cell.passes != Some(false))
}

/// A proof of the candidates of some trials.
fn proposed(options: &ProveOptions) -> Result<Proof, Failure> {
    let paths = &options.proof;
    let trials: Vec<(&PathBuf, Trial)> =
        paths.iter().map(|path| read_document(path).map(|trial| (path, trial))).collect::<Result<_, _>>()?;
    let (path, first) = &trials[0];
    let mut set = propose_set(first).map_err(|error| Failure::of(path, error))?;
    if let Some((record, model)) = options.record.as_ref().zip(options.model.as_ref()) {
        let model: Model = read_document(model)?;
        let name = record.file_stem().unwrap_or_default().to_string_lossy();
        let found = find_disturbances(first, &data_of_model(record, &model)?, &model, &name)
            .map_err(|error| Failure::of(record, error))?;
        found.verdicts.iter().for_each(|verdict| eprintln!("{}", verdict.text));
        set.take_in(found.disturbances);
    }
    let mut candidates: Vec<Contender> = Vec::new();
    for (path, trial) in &trials {
        let stem = Path::new(path).file_stem().map_or_else(String::new, |stem| stem.to_string_lossy().into_owned());
        let taken = candidates
            .iter()
            .filter(|other| other.name == stem || other.name.starts_with(&format!("{stem} (")))
            .count();
        let name = if taken == 0 { stem } else { format!("{stem} ({})", taken + 1) };
        let scan = (trial.scenario.scan != first.scenario.scan).then_some(trial.scenario.scan);
        candidates.push(Contender { name, candidate: trial.candidate.clone(), scan });
    }
    let proof = Proof {
        version: PROOF_VERSION,
        plant: first.plant.clone(),
        scan: first.scenario.scan,
        candidates,
        compared_with: None,
        set,
        uncertainty: Uncertainty::None,
        seed: 1,
    };
    proof.validate().map_err(|error| Failure::of(path, error))?;
    Ok(proof)
}
