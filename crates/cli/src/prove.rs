//! Proofs on files: proposed, carried out, reported.

use crate::Failure;
use crate::files::{print, read_json};
use antistasis_core::proof::{Contender, PROOF_VERSION, Proof, ProofResult, Uncertainty, propose_set, prove};
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
        print(&proposed(&options.proof)?)?;
        return Ok(true);
    }
    let [path] = &options.proof[..] else {
        return Err(Failure::new("one proof at a time: with --propose several trials become one proof"));
    };
    let proof: Proof = read_json(path)?;
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
fn proposed(paths: &[PathBuf]) -> Result<Proof, Failure> {
    let trials: Vec<(&PathBuf, Trial)> =
        paths.iter().map(|path| read_json(path).map(|trial| (path, trial))).collect::<Result<_, _>>()?;
    let (path, first) = &trials[0];
    let set = propose_set(first).map_err(|error| Failure::of(path, error))?;
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
