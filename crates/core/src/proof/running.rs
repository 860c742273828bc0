//! A proof carried out: every candidate under every disturbance on every plant.

use super::criteria::{STANDARD, Seen};
use super::plants::{Drawn, drawn};
use super::verdicts::{ProofVerdict, in_words, ranked};
use super::{Criterion, CriterionTold, Disturbance, Figure, Proof, Share};
use crate::numerics::{NORMAL_95, in_parallel, quantile};
use crate::simulation::{ENGINE_VERSION, Simulation, Trial};
use crate::{Error, Result};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Points at which a distribution is told, both ends included.
const QUANTILES: usize = 21;

/// The table of a proof.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ProofResult {
    /// The version of the engine that computed it.
    pub engine: u32,
    /// What was measured under each disturbance: the rows.
    pub rows: Vec<Tried>,
    /// Names of the candidates: the columns.
    pub candidates: Vec<String>,
    /// A row a disturbance, a cell a candidate.
    pub cells: Vec<Vec<ProofCell>>,
    /// How many of the disturbances have a limit.
    pub limited: usize,
    /// Under how many of these each candidate keeps all limits, on the plant as it is.
    pub kept: Vec<usize>,
    /// Whether each candidate keeps all limits on the plant as it is; null where there is no limit.
    pub holds: Vec<Option<bool>>,
    /// Of each candidate, on how many of the plants that were drawn it keeps all limits; null without uncertainty or limits.
    pub shares: Vec<Option<Share>>,
    /// Places of the candidates, the best first: by the share that keeps all limits, by the limits that are kept, by the error.
    pub order: Vec<usize>,
    /// Place of the candidate that the others are compared with.
    pub compared_with: usize,
    /// The figures that every disturbance has, summed over all of them.
    pub totals: Vec<Total>,
    /// The numbers that were drawn, and what they are in each plant.
    pub drawn: Vec<DrawnParameter>,
    /// Which candidate, and why, in words.
    pub verdicts: Vec<ProofVerdict>,
}

/// A figure summed over all disturbances.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Total {
    /// What is summed.
    pub of: CriterionTold,
    /// The sum of each candidate: of the medians over the plants that were drawn and on which it was reached, or of the plant as it is
    /// where none was drawn; null where it was reached on none.
    pub values: Vec<Option<f64>>,
}

/// A number that was drawn.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct DrawnParameter {
    /// Its name.
    pub parameter: String,
    /// What it is in the plant of the proof.
    pub own: f64,
    /// What it is in each plant.
    pub values: Vec<f64>,
}

/// A disturbance that was tried, with what was measured.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Tried {
    /// Its name.
    pub name: String,
    /// What was measured: its criteria, then largest deviation, integral of the error and OP travel where they are none of these.
    pub criteria: Vec<CriterionTold>,
}

/// A candidate under a disturbance.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ProofCell {
    /// Why it could not be tried at all, or why the trial was stopped on the plant as it is.
    pub trouble: Option<String>,
    /// Whether it keeps the limits of the disturbance on the plant as it is; null where there is none.
    pub holds: Option<bool>,
    /// On how many of the plants that were drawn it keeps them; null without uncertainty or limits.
    pub share: Option<Share>,
    /// Whether it keeps them on every plant that was tried; null where there is none.
    pub passes: Option<bool>,
    /// The figures, in the order of [`Tried::criteria`].
    pub figures: Vec<Spread>,
    /// Place of the figure that this is read by: what passes its limit by most, or comes nearest to it; the first where none has one.
    pub decides: usize,
    /// The plant, counted from 0, on which it is worst: where limits are passed by most, else where the first figure is largest.
    pub worst_plant: Option<usize>,
}

/// A figure over the plants.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Spread {
    /// On the plant as it is; null where it was never reached, or the trial was stopped.
    pub own: Option<f64>,
    /// Quantiles from 0 to 100 % in steps of 5 % over the plants on which it was reached; empty without uncertainty.
    pub quantiles: Vec<f64>,
    /// On how many plants it was never reached.
    pub never: usize,
    /// The worst of all plants, that as it is included; null where it was once never reached.
    pub worst: Option<f64>,
    /// How it differs from that of the candidate that is compared with, plant by plant; null without uncertainty and for that candidate.
    pub difference: Option<Difference>,
}

impl Spread {
    /// A figure on the plant as it is and on those that were drawn.
    fn of(own: Option<f64>, drawn: &[Option<f64>], difference: Option<Difference>) -> Self {
        let mut reached: Vec<f64> = drawn.iter().flatten().copied().collect();
        let never = drawn.len() - reached.len();
        let quantiles = match reached.len() {
            0 => Vec::new(),
            _ => (0..QUANTILES).map(|q| quantile(&mut reached, q as f64 / (QUANTILES - 1) as f64)).collect(),
        };
        let worst = quantiles.last().copied().into_iter().chain(own).reduce(f64::max);
        Self { own, quantiles, never, worst: worst.filter(|_| never == 0 && own.is_some()), difference }
    }

    /// The median over the plants on which it was reached; the plant as it is where there are no others.
    pub(super) fn middle(&self) -> Option<f64> {
        self.quantiles.get(self.quantiles.len() / 2).copied().or(self.own)
    }
}

/// How a figure differs between two candidates on the same plants, noise and walks.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Difference {
    /// Mean of the differences, plant by plant.
    pub mean: f64,
    /// Its 95 % interval.
    pub interval: [f64; 2],
    /// On how many plants it is smaller.
    pub smaller: usize,
    /// On how many it is larger.
    pub larger: usize,
}

/// What came out of one trial of a proof: its figures, and why it was stopped.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct ProvenTrial {
    values: Vec<Option<f64>>,
    trouble: Option<String>,
}

impl ProvenTrial {
    /// Whether all limits are kept.
    fn keeps(&self, criteria: &[Criterion]) -> bool {
        criteria.iter().zip(&self.values).all(|(criterion, value)| criterion.bears(*value))
    }
}

/// What is measured under a disturbance: what was asked for, and what candidates are compared by.
fn measured(disturbance: &Disturbance) -> Vec<Criterion> {
    let mut all = disturbance.criteria.clone();
    for figure in STANDARD {
        let criterion = Criterion::shown(figure);
        if !all.iter().any(|own| own.same_figure(&criterion)) {
            all.push(criterion);
        }
    }
    all
}

/// A proof made ready: its plants are drawn, and its trials counted, so that any of them can be run by itself, anywhere and in any order,
/// before the table is made of all.
#[derive(Debug)]
pub struct Proving {
    proof: Proof,
    criteria: Vec<Vec<Criterion>>,
    drawn: Drawn,
}

impl Proving {
    /// Draws the plants. Errors where the proof cannot be run at all; a cell that cannot be tried says so itself.
    pub fn new(proof: Proof) -> Result<Self> {
        proof.validate()?;
        proof.plant.start()?;
        let drawn = drawn(&proof.plant, &proof.uncertainty, proof.seed)?;
        let criteria = proof.set.disturbances.iter().map(measured).collect();
        Ok(Self { proof, criteria, drawn })
    }

    /// The proof.
    #[must_use]
    pub fn proof(&self) -> &Proof {
        &self.proof
    }

    /// How many trials there are: every candidate under every disturbance, on the plant as it is and on those that were drawn.
    #[must_use]
    pub fn trials(&self) -> usize {
        self.criteria.len() * self.proof.candidates.len() * self.plants()
    }

    fn plants(&self) -> usize {
        self.drawn.plants.len() + 1
    }

    /// Row, column and plant of a trial; the plant as it is comes first, then those that were drawn.
    fn place(&self, trial: usize) -> (usize, usize, usize) {
        let (cell, plant) = (trial / self.plants(), trial % self.plants());
        let columns = self.proof.candidates.len();
        (cell / columns, cell % columns, plant)
    }

    /// How many scans a trial has, and whose candidate's they are.
    #[must_use]
    pub fn scans(&self, trial: usize) -> (f64, usize) {
        let (row, column, _) = self.place(trial);
        let scan = self.proof.candidates[column].scan.unwrap_or(self.proof.scan);
        (self.proof.set.disturbances[row].duration / scan, column)
    }

    /// Runs one trial, counted from 0 and below [`trials`](Self::trials), and measures it.
    #[must_use]
    pub fn run(&self, trial: usize) -> ProvenTrial {
        let (row, column, draw) = self.place(trial);
        let criteria = &self.criteria[row];
        let failed = |trouble: String| ProvenTrial { values: vec![None; criteria.len()], trouble: Some(trouble) };
        let plant = match draw.checked_sub(1).map(|k| &self.drawn.plants[k]) {
            None => &self.proof.plant,
            Some(Ok(plant)) => plant,
            Some(Err(why)) => return failed(why.clone()),
        };
        let begins = self.proof.set.disturbances[row].begins();
        let trial = self.proof.trial(row, column, plant, draw as u64);
        trial.and_then(|trial| measure(&trial, criteria, begins)).unwrap_or_else(|error| failed(error.to_string()))
    }

    /// The table, from what came out of all trials in their order.
    pub fn table(&self, trials: &[ProvenTrial]) -> Result<ProofResult> {
        if trials.len() != self.trials() {
            return Err(Error::invalid("trials", trials.len(), format!("all {} of the proof", self.trials())));
        }
        let (proof, criteria, drawn) = (&self.proof, &self.criteria, &self.drawn);
        let (rows, columns, draws) = (criteria.len(), proof.candidates.len(), drawn.plants.len());
        let of_cell = |row: usize, column: usize| {
            let start = (row * columns + column) * (draws + 1);
            &trials[start..start + draws + 1]
        };
        let compared_with = proof.compared();
        let cells: Vec<Vec<ProofCell>> = (0..rows)
            .map(|row| {
                let other = of_cell(row, compared_with);
                (0..columns)
                    .map(|column| {
                        let other = (column != compared_with).then_some(other);
                        cell(&criteria[row], of_cell(row, column), other)
                    })
                    .collect()
            })
            .collect();
        // A plant passes where every limit of every disturbance is kept on it.
        let keeps = |row: usize, column: usize, draw: usize| of_cell(row, column)[draw].keeps(&criteria[row]);
        let limited: Vec<usize> =
            (0..rows).filter(|row| criteria[*row].iter().any(|criterion| criterion.most.is_some())).collect();
        let all_kept = |column: usize, draw: usize| limited.iter().all(|row| keeps(*row, column, draw));
        let passes: Vec<Vec<bool>> =
            (0..columns).map(|column| (1..=draws).map(|draw| all_kept(column, draw)).collect()).collect();
        let share = |passes: &Vec<bool>| {
            let count = passes.iter().filter(|passes| **passes).count();
            (draws > 0 && !limited.is_empty()).then(|| Share::new(count, draws))
        };
        let description = proof.plant.describe()?;
        let told = |criterion: &Criterion| criterion.told(&proof.plant, &description);
        let total = |figure: Figure| {
            let summed = Criterion::shown(figure);
            let of_row = |column: usize| {
                let places = criteria.iter().map(|row| row.iter().position(|one| one.same_figure(&summed)));
                let all = places.zip(&cells).map(move |(place, row)| row[column].figures.get(place?)?.middle());
                all.sum::<Option<f64>>()
            };
            Total { of: told(&summed), values: (0..columns).map(of_row).collect() }
        };
        let mut result = ProofResult {
            engine: ENGINE_VERSION,
            rows: proof
                .set
                .disturbances
                .iter()
                .zip(criteria)
                .map(|(one, criteria)| Tried { name: one.name.clone(), criteria: criteria.iter().map(told).collect() })
                .collect(),
            candidates: proof.candidates.iter().map(|contender| contender.name.clone()).collect(),
            totals: STANDARD.into_iter().map(total).collect(),
            limited: limited.len(),
            kept: (0..columns).map(|column| limited.iter().filter(|row| keeps(**row, column, 0)).count()).collect(),
            cells,
            holds: (0..columns).map(|column| (!limited.is_empty()).then(|| all_kept(column, 0))).collect(),
            shares: passes.iter().map(share).collect(),
            order: Vec::new(),
            compared_with,
            drawn: proof
                .uncertainty
                .parameters()
                .into_iter()
                .enumerate()
                .map(|(k, name)| DrawnParameter {
                    parameter: name.to_owned(),
                    own: drawn.own[k],
                    values: drawn.values.iter().map(|values| values[k]).collect(),
                })
                .collect(),
            verdicts: Vec::new(),
        };
        result.order = ranked(&result);
        result.verdicts = in_words(&result, &passes);
        Ok(result)
    }
}

/// Carries a proof out. Nothing depends on how many threads there are, or in which order they work.
///
/// Errors where the proof cannot be run at all; a cell that cannot be tried says so itself.
pub fn prove(proof: &Proof) -> Result<ProofResult> {
    let proving = Proving::new(proof.clone())?;
    let all: Vec<usize> = (0..proving.trials()).collect();
    proving.table(&in_parallel(&all, |trial| proving.run(*trial)))
}

fn measure(trial: &Trial, criteria: &[Criterion], begins: f64) -> Result<ProvenTrial> {
    let balances = criteria.iter().any(Criterion::needs_balances);
    let simulation = if balances { Simulation::with_balances(trial) } else { Simulation::new(trial) };
    let trace = simulation?.run();
    let trouble = trace.stopped.as_ref().map(|stopped| stopped.text.clone());
    let mut values = Vec::with_capacity(criteria.len());
    for criterion in criteria {
        let value: Option<f64> = match criterion.of.as_deref().filter(|of| *of != trial.plant.loop_tag()) {
            None => criterion.measure(&Seen { trace: &trace, begins }),
            Some(of) => match trial.trace_seen_from(of, &trace)? {
                Some(seen) => criterion.measure(&Seen { trace: &seen, begins }),
                None => {
                    let sentence = format!("There is no controller {of} with a loop of its own in this candidate.");
                    return Err(Error::said("criteria.of", sentence));
                }
            },
        };
        // What is no number was not reached; and only numbers come whole from one machine to another.
        values.push(value.filter(|value| value.is_finite()));
    }
    Ok(ProvenTrial { values, trouble })
}

/// A cell from its trials, that on the plant as it is first, and those of the candidate that is compared with.
fn cell(criteria: &[Criterion], own: &[ProvenTrial], other: Option<&[ProvenTrial]>) -> ProofCell {
    let limited = criteria.iter().any(|criterion| criterion.most.is_some());
    let keeps = |outcome: &ProvenTrial| outcome.keeps(criteria);
    let drawn = &own[1..];
    let figures = (0..criteria.len()).map(|k| {
        let values: Vec<Option<f64>> = drawn.iter().map(|outcome| outcome.values[k]).collect();
        Spread::of(own[0].values[k], &values, other.and_then(|other| difference(drawn, &other[1..], k)))
    });
    let figures: Vec<Spread> = figures.collect();
    let worst: Vec<Option<f64>> = figures.iter().map(|figure| figure.worst).collect();
    ProofCell {
        trouble: own[0].trouble.clone(),
        holds: limited.then(|| keeps(&own[0])),
        share: (limited && !drawn.is_empty())
            .then(|| Share::new(drawn.iter().filter(|outcome| keeps(outcome)).count(), drawn.len())),
        passes: limited.then(|| own.iter().all(keeps)),
        decides: badness(criteria, &worst).0,
        figures,
        worst_plant: worst_plant(criteria, drawn),
    }
}

/// Which figure passes its limit by most or comes nearest to it, and its share of it; the first one and its value where none has a limit.
/// Of those alike the first.
fn badness(criteria: &[Criterion], values: &[Option<f64>]) -> (usize, f64) {
    let limited = criteria.iter().any(|criterion| criterion.most.is_some());
    let each = criteria.iter().zip(values).enumerate().filter_map(|(k, (criterion, value))| {
        let value = value.unwrap_or(f64::INFINITY);
        match criterion.most {
            Some(most) => Some((k, value / most.max(f64::MIN_POSITIVE))),
            None => (!limited && k == 0).then_some((k, value)),
        }
    });
    each.reduce(|worst, next| if next.1 > worst.1 { next } else { worst }).unwrap_or((0, f64::NEG_INFINITY))
}

/// The plant on which limits are passed by most, as shares of them; where there is none, on which the first figure is largest.
fn worst_plant(criteria: &[Criterion], drawn: &[ProvenTrial]) -> Option<usize> {
    let all = drawn.iter().map(|outcome| badness(criteria, &outcome.values).1).enumerate();
    all.reduce(|worst, next| if next.1 > worst.1 { next } else { worst }).map(|worst| worst.0)
}

/// The differences of a figure plant by plant, where both reached it.
fn difference(own: &[ProvenTrial], other: &[ProvenTrial], k: usize) -> Option<Difference> {
    let pairs = own.iter().zip(other).filter_map(|(own, other)| Some(own.values[k]? - other.values[k]?));
    let all: Vec<f64> = pairs.collect();
    if all.len() < 2 {
        return None;
    }
    let n = all.len() as f64;
    let mean = all.iter().sum::<f64>() / n;
    let variance = all.iter().map(|value| (value - mean).powi(2)).sum::<f64>() / (n - 1.0);
    let half = NORMAL_95 * (variance / n).sqrt();
    Some(Difference {
        mean,
        interval: [mean - half, mean + half],
        smaller: all.iter().filter(|value| **value < 0.0).count(),
        larger: all.iter().filter(|value| **value > 0.0).count(),
    })
}
