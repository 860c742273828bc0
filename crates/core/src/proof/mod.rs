//! Proof: candidates × disturbances × plants that may be, each run and held against acceptance limits.
//!
//! A [`Proof`] is plain data: a plant, the candidates for it, a [`ProvingSet`] of disturbances with limits, and how uncertain the plant
//! is. [`prove`] runs all of it with common random numbers (every candidate meets the same plants, noise and walks), so that two
//! candidates differ by what they do and not by what they met.

mod criteria;
mod found;
mod plants;
mod proposal;
mod proving_set;
mod running;
mod share;
mod verdicts;

pub use criteria::{Criterion, CriterionTold, Figure, FigureOffer, figure_offers};
pub use found::{FoundDisturbances, find_disturbances};
pub use plants::{ParameterRange, Uncertainty};
pub use proposal::propose_set;
pub use proving_set::{Changes, Disturbance, ProvingSet};
pub use running::{
    Difference, DrawnParameter, ProofCell, ProofResult, ProvenTrial, Proving, Spread, Total, Tried, prove,
};
pub use share::Share;
pub use verdicts::ProofVerdict;

use crate::simulation::{Candidate, Plant, Scenario, TRIAL_VERSION, Trial};
use crate::{Error, Result, check};
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};
use std::collections::BTreeMap;
use utoipa::ToSchema;

/// The version of the proof document that this code reads and writes.
pub const PROOF_VERSION: u32 = 1;

/// Most candidates of a proof.
const MOST_CANDIDATES: usize = 12;
/// Most trials of a proof.
const MOST_TRIALS: usize = 200_000;
/// Longest name, in characters.
const LONGEST_NAME: usize = 120;

/// Candidates, and what they are to be held against.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Proof {
    /// Version of this document: 1.
    pub version: u32,
    /// What is controlled.
    pub plant: Plant,
    /// Scan in s of the candidates that have none of their own, above 0.
    #[schema(exclusive_minimum = 0)]
    pub scan: f64,
    /// The candidates, 1 to 12, each with a name of its own.
    pub candidates: Vec<Contender>,
    /// Name of the candidate that the others are compared with; null for the first.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub compared_with: Option<String>,
    /// The disturbances with their limits.
    pub set: ProvingSet,
    /// How uncertain the plant is.
    #[serde(default, skip_serializing_if = "Uncertainty::is_none")]
    pub uncertainty: Uncertainty,
    /// Seed of the plants that are drawn, and of noise and walks.
    #[serde(default)]
    pub seed: u64,
}

/// A candidate under a name.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Contender {
    /// What it is called.
    pub name: String,
    /// What controls the plant.
    pub candidate: Candidate,
    /// Its scan in s, above 0; null for that of the proof.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(exclusive_minimum = 0)]
    pub scan: Option<f64>,
}

impl Proof {
    /// Refuses a proof that cannot be run, naming the field.
    pub fn validate(&self) -> Result<()> {
        if self.version != PROOF_VERSION {
            return Err(Error::invalid("version", self.version, PROOF_VERSION.to_string()));
        }
        check::positive("scan", self.scan, "s")?;
        self.plant.validate(self.scan)?;
        let count = self.candidates.len();
        if !(1..=MOST_CANDIDATES).contains(&count) {
            return Err(Error::invalid("candidates", count, format!("1 to {MOST_CANDIDATES}")));
        }
        for (k, contender) in self.candidates.iter().enumerate() {
            let field = format!("candidates[{k}]");
            check_name(&format!("{field}.name"), &contender.name)?;
            if self.candidates[..k].iter().any(|other| other.name == contender.name) {
                let allowed = "a name that no other candidate has";
                return Err(Error::invalid(format!("{field}.name"), format!("“{}”", contender.name), allowed));
            }
            if let Some(scan) = contender.scan {
                check::positive(&format!("{field}.scan"), scan, "s")?;
            }
        }
        if let Some(name) = &self.compared_with
            && !self.candidates.iter().any(|contender| contender.name == *name)
        {
            let names: Vec<&str> = self.candidates.iter().map(|contender| contender.name.as_str()).collect();
            return Err(Error::invalid("compared_with", format!("“{name}”"), format!("one of {}", names.join(", "))));
        }
        self.set.validate()?;
        for contender in &self.candidates {
            let scan = contender.scan.unwrap_or(self.scan);
            for (d, disturbance) in self.set.disturbances.iter().enumerate() {
                if scan > disturbance.duration {
                    let allowed = format!("at least a scan of “{}”, {scan} s", contender.name);
                    let field = format!("set.disturbances[{d}].duration");
                    return Err(Error::invalid(field, format!("{} s", disturbance.duration), allowed));
                }
            }
        }
        self.validate_candidates()?;
        self.validate_criteria()?;
        self.uncertainty.validate(&self.plant)?;
        let trials = count * self.set.disturbances.len() * (self.uncertainty.plants() + 1);
        if trials > MOST_TRIALS {
            let is = format!("{}, {trials} trials", self.uncertainty.plants());
            let allowed = format!("few enough for at most {MOST_TRIALS} trials in all");
            return Err(Error::invalid("uncertainty.plants", is, allowed));
        }
        Ok(())
    }

    /// A candidate on the plant as it is, and nothing happens.
    #[must_use]
    pub fn undisturbed(&self, candidate: usize) -> Trial {
        let contender = &self.candidates[candidate];
        let scan = contender.scan.unwrap_or(self.scan);
        Trial {
            version: TRIAL_VERSION,
            plant: self.plant.clone(),
            candidate: contender.candidate.clone(),
            scenario: Scenario { duration: scan, scan, seed: 0, events: Vec::new(), further: BTreeMap::new() },
        }
    }

    /// Every candidate must be wired to the plant as it is, whatever happens to it. What a disturbance asks for is said in its cell.
    fn validate_candidates(&self) -> Result<()> {
        for (k, undisturbed) in (0..self.candidates.len()).map(|k| (k, self.undisturbed(k))) {
            let place = format!("candidates[{k}].candidate.");
            let of_controller = format!("{place}controller");
            let named = |error: Error| error.within(&of_controller, "controller").within(&place, "candidate.");
            undisturbed.validate().map_err(named)?;
        }
        Ok(())
    }

    /// Every figure must be one of the plant and of a loop that some candidate has.
    fn validate_criteria(&self) -> Result<()> {
        let description = self.plant.describe()?;
        let further = self.candidates.iter().flat_map(|contender| &contender.candidate.further);
        let mut loops = vec![self.plant.loop_tag()];
        for wired in further {
            if !loops.contains(&wired.name.as_str()) {
                loops.push(&wired.name);
            }
        }
        for (d, disturbance) in self.set.disturbances.iter().enumerate() {
            for (c, criterion) in disturbance.criteria.iter().enumerate() {
                let field = format!("set.disturbances[{d}].criteria[{c}]");
                criterion.validate_on(&description, &loops, &field)?;
            }
        }
        Ok(())
    }

    /// The trial of a cell of the table: a candidate under a disturbance, on a plant that may be in the place of the proof's own.
    ///
    /// Errors where the disturbance cannot happen to that plant.
    pub fn trial(&self, disturbance: usize, candidate: usize, plant: &Plant, draw: u64) -> Result<Trial> {
        let (of, contender) = (&self.set.disturbances[disturbance], &self.candidates[candidate]);
        Ok(Trial {
            version: TRIAL_VERSION,
            plant: of.changes.applied(plant)?,
            candidate: contender.candidate.clone(),
            scenario: Scenario {
                duration: of.duration,
                scan: contender.scan.unwrap_or(self.scan),
                seed: self.seed.wrapping_add(draw),
                events: of.events.clone(),
                further: of.further.clone(),
            },
        })
    }

    /// The trial of a cell of the table on one of the plants that were drawn, counted from 0; None for the proof's own plant.
    pub fn trial_of_cell(&self, disturbance: usize, candidate: usize, plant: Option<usize>) -> Result<Trial> {
        self.validate()?;
        let within = |field: &str, index: usize, count: usize| {
            if index < count {
                return Ok(());
            }
            Err(Error::invalid(field, index, format!("below {count}, counted from 0")))
        };
        within("disturbance", disturbance, self.set.disturbances.len())?;
        within("candidate", candidate, self.candidates.len())?;
        let Some(draw) = plant else { return self.trial(disturbance, candidate, &self.plant, 0) };
        within("plant", draw, self.uncertainty.plants())?;
        let drawn = plants::drawn(&self.plant, &self.uncertainty, self.seed)?;
        let plant = drawn.plants[draw].as_ref().map_err(|why| Error::said("plant", why.clone()))?;
        self.trial(disturbance, candidate, plant, draw as u64 + 1)
    }

    /// Place of the candidate that the others are compared with.
    #[must_use]
    pub fn compared(&self) -> usize {
        let named = self.compared_with.as_ref();
        named.and_then(|name| self.candidates.iter().position(|contender| contender.name == *name)).unwrap_or(0)
    }

    /// SHA-256 of the proof as lower-case hexadecimal: two proofs with one digest have one table.
    #[must_use]
    pub fn digest(&self) -> String {
        crate::series::hex(&Sha256::digest(serde_json::to_vec(self).unwrap_or_default()))
    }
}

/// Refuses a name that is empty, too long, or of several lines.
fn check_name(field: &str, name: &str) -> Result<()> {
    let characters = name.chars().count();
    if name.trim().is_empty() || characters > LONGEST_NAME || name.chars().any(char::is_control) {
        let allowed = format!("1 to {LONGEST_NAME} characters on one line");
        return Err(Error::invalid(field, format!("“{}”", name.chars().take(40).collect::<String>()), allowed));
    }
    Ok(())
}
