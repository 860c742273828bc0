//! What data can tell of the unknowns at all: how far each is known, and which only show up together.

use super::super::data::DataSet;
use super::fitting::Prepared;
use super::following::{At, Stretch, TOLERANCE};
use super::options::{Channel, PhysicalOptions, Shown, SoughtKind, Task};
use crate::identification::Series;
use crate::numerics::NormalEquations;
use crate::series::TimeAxis;
use crate::verdict::{Tone, Verdict, readable};
use crate::{Error, Result, check};
use nalgebra::{DMatrix, SymmetricEigen};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A direction along which the unknowns are known to no better than this, relatively, is not told.
const UNTOLD: f64 = 1.0;
/// Smallest share of a direction that an unknown has to be named for it, and how equal two shares are that cancel.
const NAMED: f64 = 0.1;
const EQUAL: f64 = 0.15;
/// An input that stands still is moved by this share of its value, or of its range where that is 0, to see what it would tell.
const TRIED: f64 = 0.1;

/// How numbers that cannot be told apart show up.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Together {
    /// A single number that does not show up at all.
    Nothing,
    /// As a ratio: both may grow by the same factor.
    Ratio,
    /// As a product: one may grow by the factor by which the other shrinks.
    Product,
    /// As some combination.
    Combination,
}

/// Numbers that the data do not tell apart.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Untold {
    /// Their names.
    pub names: Vec<String>,
    /// How they show up.
    pub together: Together,
    /// Inputs that stood still and would tell them apart if they were moved.
    pub would_tell: Vec<String>,
    /// The same as a sentence.
    pub text: String,
}

/// What is expected of a number before it is fitted.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ExpectedNumber {
    /// Its name.
    pub name: String,
    /// Its unit.
    pub unit: String,
    /// Where the search begins.
    pub value: f64,
    /// Standard error that a fit would have, for noise without memory as strong as that of the record; null where the data do not
    /// tell.
    pub standard_error: Option<f64>,
}

/// What data can tell before anything is fitted, at the values where the search begins.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Telling {
    /// What is expected of each number that is sought.
    pub numbers: Vec<ExpectedNumber>,
    /// Correlations of the estimates, a row a number; empty where some are not told.
    pub correlations: Vec<Vec<f64>>,
    /// Singular values of the sensitivities by relative changes, in units of the noise, the largest first: below 1 the direction
    /// that belongs to it is not known to its own size.
    pub singular_values: Vec<f64>,
    /// What is not told.
    pub untold: Vec<Untold>,
    /// What it means.
    pub verdicts: Vec<Verdict>,
}

/// How the unknowns are known by a matrix of information.
pub(super) struct Known {
    /// Eigenvalues of the information by relative changes, the largest first, each with its direction.
    directions: Vec<(f64, Vec<f64>)>,
    /// What a relative change is relative to.
    references: Vec<f64>,
}

impl Known {
    /// From the information about all numbers of a search at a place: the states at the start are eliminated.
    pub(super) fn new(prepared: &Prepared<'_>, place: &[f64], information: &DMatrix<f64>) -> Self {
        let sought = prepared.scales.len();
        let states = information.nrows() - sought;
        let references: Vec<f64> = (0..sought).map(|k| reference(prepared, k, place)).collect();
        let by_relative = |k: usize| {
            let slope = prepared.scales[k].outer(place[k]).1;
            if slope == 0.0 { 0.0 } else { references[k] / slope }
        };
        let own = information.view((0, 0), (sought, sought)).into_owned();
        let mut reduced = own;
        if states > 0 {
            let cross = information.view((0, sought), (sought, states)).into_owned();
            let of_states = information.view((sought, sought), (states, states)).into_owned();
            let tolerance = 1e-12 * of_states.diagonal().max();
            if let Ok(inverse) = of_states.pseudo_inverse(tolerance.max(f64::MIN_POSITIVE)) {
                reduced -= &cross * inverse * cross.transpose();
            }
        }
        let scaled = DMatrix::from_fn(sought, sought, |i, j| {
            0.5 * (reduced[(i, j)] + reduced[(j, i)]) * by_relative(i) * by_relative(j)
        });
        let eigen = SymmetricEigen::new(scaled);
        let mut directions: Vec<(f64, Vec<f64>)> = (0..sought)
            .map(|k| (eigen.eigenvalues[k].max(0.0), eigen.eigenvectors.column(k).iter().copied().collect()))
            .collect();
        directions.sort_by(|a, b| b.0.total_cmp(&a.0));
        Self { directions, references }
    }

    /// Roots of the eigenvalues.
    fn singular_values(&self) -> Vec<f64> {
        self.directions.iter().map(|(value, _)| value.sqrt()).collect()
    }

    /// Covariances of the relative changes, directions of which nothing is known being known to a hundred million times their size.
    fn covariance(&self) -> DMatrix<f64> {
        let n = self.references.len();
        DMatrix::from_fn(n, n, |i, j| self.directions.iter().map(|(value, v)| v[i] * v[j] / value.max(1e-16)).sum())
    }

    /// Standard error of each number; None where it is not known to its own size.
    pub(super) fn errors(&self) -> Vec<Option<f64>> {
        let covariance = self.covariance();
        let of = |k: usize| {
            let relative = covariance[(k, k)].sqrt();
            (relative < UNTOLD).then_some(relative * self.references[k])
        };
        (0..self.references.len()).map(of).collect()
    }

    /// The numbers that are not told: each direction of which too little is known, with what has a share in it.
    fn untold(&self) -> Vec<Vec<(usize, f64)>> {
        let weak = self.directions.iter().filter(|(value, _)| *value < UNTOLD.powi(-2));
        let shares = |v: &Vec<f64>| {
            let largest = v.iter().fold(0.0, |largest: f64, share| largest.max(share.abs()));
            let named = |(k, share): (usize, &f64)| (share.abs() > NAMED * largest).then_some((k, *share));
            v.iter().enumerate().filter_map(named).collect::<Vec<_>>()
        };
        weak.map(|(_, v)| shares(v)).collect()
    }

    /// The same in words.
    pub(super) fn in_words(&self, prepared: &Prepared<'_>, place: &[f64], would_tell: &[String]) -> Vec<Untold> {
        let task = prepared.task;
        let words = |k: usize| task.unknowns[k].name.replace('_', " ");
        self.untold()
            .into_iter()
            .map(|shares| {
                let names: Vec<String> = shares.iter().map(|(k, _)| task.unknowns[*k].name.clone()).collect();
                let listed: Vec<String> = shares.iter().map(|(k, _)| words(*k)).collect();
                let (together, what) = match &shares[..] {
                    [(k, _)] => (Together::Nothing, format!("The data do not tell the {}", words(*k))),
                    [(_, a), (_, b)]
                        if (a.abs() / b.abs() - 1.0).abs() < EQUAL && goes_on_unseen(prepared, place, &shares) =>
                    {
                        let (kind, word) =
                            if a * b > 0.0 { (Together::Ratio, "ratio") } else { (Together::Product, "product") };
                        let both = format!("{} and {}", listed[0], listed[1]);
                        (kind, format!("{} only show up as a {word} here", capital(&both)))
                    }
                    _ => {
                        let (last, others) = listed
                            .split_last()
                            .map_or((String::new(), Vec::new()), |(last, others)| (last.clone(), others.to_vec()));
                        let all = format!("{} and {last}", others.join(", "));
                        (Together::Combination, format!("{} only show up together here", capital(&all)))
                    }
                };
                let remedy =
                    if together == Together::Nothing { "give it as known" } else { "give one of them as known" };
                let moves = match would_tell {
                    [] => String::new(),
                    inputs => format!(", or move the {}", list_or(inputs)),
                };
                let text = format!("{what}: {remedy}{moves}.");
                Untold { names, together, would_tell: would_tell.to_vec(), text }
            })
            .collect()
    }
}

/// Whether a fifth more of the one and a fifth more or less of the other leave the outputs within the noise: a ratio or a product
/// goes on like this, a sum does not.
fn goes_on_unseen(prepared: &Prepared<'_>, place: &[f64], shares: &[(usize, f64)]) -> bool {
    const FAR: f64 = 0.2;
    let mut moved = prepared.sought(place);
    for (k, share) in shares {
        moved[*k] *= (FAR * share.signum()).exp();
    }
    let states: Vec<Vec<f64>> = (0..prepared.stretches.len()).map(|k| prepared.states(k, place)).collect();
    let (before, after) = (prepared.residuals(place), prepared.residuals(&prepared.place_of(&moved, &states)));
    let Some((before, after)) = before.zip(after) else { return false };
    before.iter().zip(&after).zip(&prepared.deviations).all(|((before, after), deviation)| {
        let moves = before.iter().zip(after).map(|(a, b)| (a - b).powi(2)).filter(|square| square.is_finite());
        let (sum, count) = moves.fold((0.0, 0usize), |(sum, count), square| (sum + square, count + 1));
        (sum / count.max(1) as f64).sqrt() < 0.1 * deviation
    })
}

fn list_or(names: &[String]) -> String {
    let words: Vec<String> = names.iter().map(|name| name.replace('_', " ")).collect();
    words.join(" or the ")
}

fn capital(words: &str) -> String {
    let mut characters = words.chars();
    characters.next().map_or_else(String::new, |first| first.to_uppercase().chain(characters).collect())
}

/// What a change of a number is compared with: its own size; of an offset ten times the noise, and of a dead time at least a sample.
fn reference(prepared: &Prepared<'_>, k: usize, place: &[f64]) -> f64 {
    let unknown = &prepared.task.unknowns[k];
    let value = prepared.scales[k].outer(place[k]).0.abs();
    match unknown.kind {
        SoughtKind::Offset => {
            10.0 * prepared.deviations[unknown.place] / prepared.stretches[0].shown_by[unknown.place].0.abs()
        }
        SoughtKind::DeadTime => {
            let times = &prepared.stretches[0].times;
            value.max(times.last().copied().unwrap_or(1.0) / times.len() as f64)
        }
        _ => value.max(1e-9 * (unknown.high - unknown.low)),
    }
}

/// The information about all numbers at a place, in units of the noise.
pub(super) fn information(prepared: &Prepared<'_>, place: &[f64]) -> Option<DMatrix<f64>> {
    let all = prepared.all_rows(place)?;
    let mut sums = NormalEquations::new(prepared.count());
    for (stretch, outputs) in all.iter().enumerate() {
        let places = prepared.places(stretch);
        let mut part = NormalEquations::new(places.len());
        for (k, rows) in outputs.iter().enumerate() {
            prepared.weighed(k, rows, places.len() + 1, |row| part.add(row));
        }
        sums.add_at(&places, &part);
    }
    let mut information = sums.information();
    for (k, unknown) in prepared.task.unknowns.iter().enumerate() {
        if let Some(deviation) = unknown.deviation {
            information[(k, k)] += (prepared.scales[k].outer(place[k]).1 / deviation).powi(2);
        }
    }
    Some(information)
}

/// Inputs that stand still in all stretches and would, moved by a tenth in the middle of the first, tell what is not told.
pub(super) fn would_tell(prepared: &Prepared<'_>, place: &[f64], known: &Known) -> Vec<String> {
    let untold = known.untold().len();
    if untold == 0 {
        return Vec::new();
    }
    let task = prepared.task;
    let description = task.process.description();
    let still = |(k, _): &(usize, &crate::process::Quantity)| {
        let channel = task.channels.iter().position(|channel| channel.input == *k);
        channel.is_none_or(|channel| {
            prepared
                .stretches
                .iter()
                .all(|stretch| stretch.inputs[channel].iter().all(|u| *u == stretch.inputs[channel][0]))
        })
    };
    let tells = |input: usize| -> Option<bool> {
        let quantity = &description.inputs[input];
        let samples = prepared.stretches[0].times.len();
        let before = task.channels.iter().position(|channel| channel.input == input);
        let level = before.map_or(task.rest[input], |channel| prepared.stretches[0].inputs[channel][0]);
        let by = if level.abs() > 1e-9 { TRIED * level } else { TRIED * (quantity.high - quantity.low).min(100.0) };
        let moved = (level + by).clamp(quantity.low, quantity.high);
        let values = |moves: bool, samples: usize| -> Vec<f64> {
            (0..samples).map(|k| if moves && 3 * k >= samples && 3 * k < 2 * samples { moved } else { level }).collect()
        };
        let mut options = task.options.clone();
        options.rest.remove(&quantity.name);
        let mut other = options.task().ok()?;
        let mut stretches = prepared.stretches.to_vec();
        match before {
            Some(channel) => stretches[0].replace(channel, values(true, samples)),
            None => {
                let channel = Channel {
                    input,
                    tag: String::new(),
                    straight: false,
                    dead_time: 0.0,
                    range: None,
                    rangeability: None,
                };
                other.channels.push(channel);
                for (k, stretch) in stretches.iter_mut().enumerate() {
                    let samples = stretch.times.len();
                    stretch.push(values(k == 0, samples));
                }
            }
        }
        let mut tried = Prepared::new(&other, &stretches);
        tried.deviations.clone_from(&prepared.deviations);
        let information = information(&tried, place)?;
        Some(Known::new(&tried, place, &information).untold().len() < untold)
    };
    let inputs = description.inputs.iter().enumerate().filter(still);
    inputs.filter(|(k, _)| tells(*k) == Some(true)).map(|(_, input)| input.name.clone()).collect()
}

/// What stretches of data can tell of what is sought, before anything is fitted.
pub fn telling(stretches: &[DataSet], options: &PhysicalOptions) -> Result<Telling> {
    let task = options.task()?;
    let data = stretches.iter().map(|data| Stretch::new(&task, data)).collect::<Result<Vec<_>>>()?;
    let mut prepared = Prepared::new(&task, &data);
    for (k, deviation) in prepared.deviations.iter_mut().enumerate() {
        let noise = super::super::noise_deviation(&data[0].outputs[k]);
        if noise > 0.0 && noise.is_finite() {
            *deviation = noise;
        }
    }
    let sought: Vec<f64> = task.unknowns.iter().map(|unknown| unknown.value).collect();
    let place = prepared.place_of(&sought, &prepared.states_at_start(&sought));
    told_at(&prepared, &place)
}

/// What a test that is planned would tell of what is sought: the OP moves as planned, everything else stands as it does in the process,
/// from rest, and every output has this noise.
///
/// `op` is the tag of the channel that moves, and its course over the times; errors when it drives no input of the process.
pub fn telling_of_plan(times: &[f64], op: (&str, &[f64]), noise: f64, options: &PhysicalOptions) -> Result<Telling> {
    check::positive("experiment.noise", noise, "")?;
    let (op, course) = op;
    let task = options.task()?;
    if !task.channels.iter().any(|channel| channel.tag == op) {
        let words = format!("{op} drives no input of the process: choose the one that it does.");
        return Err(Error::said("physical.inputs", words));
    }
    let description = task.process.description();
    let still = |channel: &Channel| {
        let input = &description.inputs[channel.input];
        let value = options.rest.get(&input.name).copied().unwrap_or(input.value);
        Series::new(&channel.tag, &input.unit, vec![value; times.len()])
    };
    let series =
        |channel: &Channel| if channel.tag == op { Series::new(op, "%", course.to_vec()) } else { still(channel) };
    // Nothing is measured yet: the outputs are what the process shows.
    let unknown = |shown: &Shown| {
        let output = &description.outputs[shown.output];
        Series::new(&shown.tag, &output.unit, vec![f64::NAN; times.len()])
    };
    let data = DataSet {
        axis: TimeAxis::from_times(times)?,
        inputs: task.channels.iter().map(series).collect(),
        outputs: task.shown.iter().map(unknown).collect(),
    };
    let mut stretches = vec![Stretch::new(&task, &data)?];
    let sought: Vec<f64> = task.unknowns.iter().map(|unknown| unknown.value).collect();
    let states = Prepared::new(&task, &stretches).states_at_start(&sought);
    let mut outputs = vec![Vec::with_capacity(times.len()); task.shown.len()];
    let at = At { sought: &sought, states: &states[0] };
    task.follow(&stretches[0], at, &(0..0), TOLERANCE, |_, seen, _, _| {
        outputs.iter_mut().zip(seen).for_each(|(list, value)| list.push(value.re));
    })
    .map_err(|_| lost())?;
    stretches[0].outputs = outputs;
    let mut prepared = Prepared::new(&task, &stretches);
    prepared.deviations.fill(noise);
    let place = prepared.place_of(&sought, &states);
    told_at(&prepared, &place)
}

fn lost() -> Error {
    Error::unfit(
        "the process cannot be followed with the values where the search begins: it runs away, or is far faster than the samples",
        "begin with other values",
    )
}

/// What data tell at a place of the search.
fn told_at(prepared: &Prepared<'_>, place: &[f64]) -> Result<Telling> {
    let task = prepared.task;
    let information = information(prepared, place).ok_or_else(lost)?;
    let known = Known::new(prepared, place, &information);
    let untold = known.in_words(prepared, place, &would_tell(prepared, place, &known));
    let errors = known.errors();
    let numbers = task
        .unknowns
        .iter()
        .zip(&errors)
        .map(|(unknown, error)| ExpectedNumber {
            name: unknown.name.clone(),
            unit: unknown.unit.clone(),
            value: unknown.value,
            standard_error: *error,
        })
        .collect();
    let covariance = known.covariance();
    let correlation = |i: usize, j: usize| covariance[(i, j)] / (covariance[(i, i)] * covariance[(j, j)]).sqrt();
    let n = task.unknowns.len();
    let correlations = if untold.is_empty() {
        (0..n).map(|i| (0..n).map(|j| correlation(i, j)).collect()).collect()
    } else {
        Vec::new()
    };
    let verdicts = verdicts(task, &untold, &errors);
    Ok(Telling { numbers, correlations, singular_values: known.singular_values(), untold, verdicts })
}

fn verdicts(task: &Task, untold: &[Untold], errors: &[Option<f64>]) -> Vec<Verdict> {
    let rule = "sensitivities of the outputs by relative changes, against the noise: a direction known to no better than its own size \
                is not told";
    let mut verdicts: Vec<Verdict> =
        untold.iter().map(|untold| Verdict::new(Tone::Bad, untold.text.clone(), rule)).collect();
    if verdicts.is_empty() {
        let worst = task
            .unknowns
            .iter()
            .zip(errors)
            .filter(|(unknown, _)| unknown.kind == SoughtKind::Parameter && unknown.value != 0.0)
            .filter_map(|(unknown, error)| Some((unknown, error.as_ref()? / unknown.value.abs())))
            .max_by(|a, b| a.1.total_cmp(&b.1));
        let text = match worst {
            Some((unknown, relative)) => format!(
                "These data tell all that is sought; least known will be the {}, to about ±{} %.",
                unknown.name.replace('_', " "),
                readable(100.0 * relative)
            ),
            None => "These data tell all that is sought.".to_owned(),
        };
        verdicts.push(Verdict::new(Tone::Good, text, rule));
    }
    verdicts
}
