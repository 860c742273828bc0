//! The search for what is unknown: least squares over the true simulation, from several beginnings, with a model of the noise.

use super::super::data::Series;
use super::super::loss::ScaledLoss;
use super::super::model::Performance;
use super::super::noise::{Rows, Whitening};
use super::following::{At, Lost, Stretch, TOLERANCE};
use super::options::{SoughtKind, StartOfStates, Task, Unknown};
use super::told::ExpectedNumber;
use crate::numerics::{Compressed, Dual, NormalEquations, SEEDS, derivatives, in_parallel, minimise};
use crate::process::steady_states;
use crate::work;
use serde::{Deserialize, Serialize};
use std::f64::consts::FRAC_PI_2;
use std::sync::{Arc, Mutex, PoisonError};
use utoipa::ToSchema;

/// Tolerances of the integration and of the search while beginnings are compared, and relative change of the squares at which
/// a search is over.
const COARSE: f64 = 1e-5;
/// Share of a search that the beginnings take, and that of each later turn of what is left, about.
const COARSE_SHARE: f64 = 0.6;
const LATER_SHARE: f64 = 0.3;
const COARSE_SEARCH: f64 = 1e-4;
const SEARCH: f64 = 1e-10;
/// A number whose highest value is more than so many times its lowest is searched by ratio.
const BY_RATIO: f64 = 3.0;
/// Longest dead time that is sought, as a share of the stretch.
const LONGEST_DEAD_TIME: f64 = 0.5;

/// How the search sees an unknown: any number stands for one between its bounds, a sine of it along a line or a ratio.
#[derive(Debug, Clone, Copy)]
pub(super) struct Scale {
    low: f64,
    high: f64,
    by_ratio: bool,
}

impl Scale {
    fn new(unknown: &Unknown) -> Self {
        let (low, high) = (unknown.low, unknown.high);
        let by_ratio = low > 0.0 && high / low > BY_RATIO;
        if by_ratio { Self { low: low.ln(), high: high.ln(), by_ratio } } else { Self { low, high, by_ratio } }
    }

    /// The value, and its slope over the number of the search.
    pub(super) fn outer(&self, z: f64) -> (f64, f64) {
        let half = 0.5 * (self.high - self.low);
        let place = self.low + half * (1.0 + z.sin());
        let slope = half * z.cos();
        if self.by_ratio { (place.exp(), slope * place.exp()) } else { (place, slope) }
    }

    pub(super) fn inner(&self, value: f64) -> f64 {
        let place = if self.by_ratio { value.ln() } else { value };
        // Right at a bound the search would not feel the way back.
        (2.0 * (place - self.low) / (self.high - self.low) - 1.0).clamp(-0.9999, 0.9999).asin()
    }

    /// Whether a number of the search stands at a bound.
    pub(super) fn is_at_bound(&self, z: f64) -> bool {
        z.cos().abs() < 1e-3
    }
}

/// Where a search stands: numbers for what is sought, then the states where each stretch begins.
pub(super) type Place = Vec<f64>;

/// Rows of one shown output of a stretch: derivatives by the numbers of the search, and modelled less measured; NaN there where
/// missing.
pub(super) type OutputRows = Vec<f64>;

/// A place with the squares that are left there, in units of the noise.
#[derive(Debug, Clone)]
pub(super) struct Found {
    pub(super) place: Place,
    pub(super) squares: f64,
}

/// A task with its data, ready to be searched.
#[derive(Clone)]
pub(super) struct Prepared<'a> {
    pub(super) task: &'a Task,
    pub(super) stretches: &'a [Stretch],
    pub(super) scales: Vec<Scale>,
    /// Standard deviation of what each shown output leaves.
    pub(super) deviations: Vec<f64>,
    /// What makes that white.
    pub(super) whitening: Vec<Option<Whitening>>,
    pub(super) loss: ScaledLoss,
    tolerance: f64,
    /// The number that stays as it is while the others are searched.
    held: Option<usize>,
    /// What has been reached so far, for whoever listens.
    reached: Arc<Mutex<Reached>>,
    /// The rows of the place that was asked for last: a search, what follows it and what is told of it ask for the same one.
    last: Arc<Mutex<Option<(RowsOf, AllRows)>>>,
}

/// What rows belong to: a place, the tolerance of the integration, and the number that was held.
type RowsOf = (Place, f64, Option<usize>);
/// Rows by stretch and by output.
pub(super) type AllRows = Arc<Vec<Vec<OutputRows>>>;

/// How far a search is.
#[derive(Debug, Clone, Copy)]
struct Reached {
    share: f64,
    squares: f64,
}

/// A fit on its way: the best so far.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct FitSoFar {
    /// Which share is done, 0 to 1, about.
    pub share: f64,
    /// Tag of the first output.
    pub tag: String,
    /// Its unit.
    pub unit: String,
    /// Fit of the first output in its first stretch, in %.
    pub fit: f64,
    /// What is sought, in its order.
    pub numbers: Vec<ExpectedNumber>,
    /// Times of that stretch in s from its start, at no more than a few hundred instants.
    pub times: Vec<f64>,
    /// What the first output showed there; null where missing.
    pub measured: Vec<Option<f64>>,
    /// What the best so far makes of it.
    pub modelled: Vec<Option<f64>>,
}

/// Instants of a curve that is shown on the way.
const INSTANTS: usize = 400;

impl<'a> Prepared<'a> {
    pub(super) fn new(task: &'a Task, stretches: &'a [Stretch]) -> Self {
        let longest = stretches.iter().filter_map(|stretch| stretch.times.last()).copied().fold(0.0, f64::max);
        let swing = |place: usize| {
            let values = stretches.iter().flat_map(|stretch| {
                let (factor, shift) = stretch.shown_by[place];
                stretch.outputs[place].iter().map(move |value| (value - shift) / factor)
            });
            let (low, high) = values
                .filter(|value| value.is_finite())
                .fold((f64::INFINITY, f64::NEG_INFINITY), |(low, high), value| (low.min(value), high.max(value)));
            (high - low).max(1e-6)
        };
        let scale = |unknown: &Unknown| {
            let mut bounded = unknown.clone();
            match unknown.kind {
                SoughtKind::DeadTime => {
                    bounded.high = bounded.high.min((LONGEST_DEAD_TIME * longest).max(unknown.value))
                }
                SoughtKind::Offset => {
                    let reach = 2.0 * swing(unknown.place);
                    bounded.low = bounded.low.max(unknown.value - reach);
                    bounded.high = bounded.high.min(unknown.value + reach);
                }
                SoughtKind::Lag => bounded.high = bounded.high.min(longest.max(unknown.value)),
                SoughtKind::Parameter | SoughtKind::Rangeability => {}
            }
            Scale::new(&bounded)
        };
        let outputs = task.shown.len();
        let deviations = (0..outputs).map(|k| 0.1 * stretches[0].shown_by[k].0.abs() * swing(k)).collect();
        Self {
            task,
            stretches,
            scales: task.unknowns.iter().map(scale).collect(),
            deviations,
            whitening: vec![None; outputs],
            loss: ScaledLoss::SQUARES,
            tolerance: TOLERANCE,
            held: None,
            reached: Arc::new(Mutex::new(Reached { share: 0.0, squares: f64::INFINITY })),
            last: Arc::default(),
        }
    }

    /// States that are estimated at the start of each stretch.
    pub(super) fn free_states(&self) -> usize {
        match self.task.options.start {
            StartOfStates::Estimated => self.task.process.description().states.len(),
            StartOfStates::Known => 0,
        }
    }

    /// Unknowns in all.
    pub(super) fn count(&self) -> usize {
        self.scales.len() + self.stretches.len() * self.free_states()
    }

    /// Places of the unknowns of a stretch among all of them.
    pub(super) fn places(&self, stretch: usize) -> Vec<usize> {
        let (sought, own) = (self.scales.len(), self.free_states());
        (0..sought).chain(sought + stretch * own..sought + (stretch + 1) * own).collect()
    }

    /// The values of what is sought.
    pub(super) fn sought(&self, place: &[f64]) -> Vec<f64> {
        self.scales.iter().zip(place).map(|(scale, z)| scale.outer(*z).0).collect()
    }

    /// The states where a stretch begins.
    pub(super) fn states(&self, stretch: usize, place: &[f64]) -> Vec<f64> {
        let own = self.free_states();
        if own == 0 {
            return self.task.process.description().states.iter().map(|state| state.value).collect();
        }
        place[self.scales.len() + stretch * own..][..own].to_vec()
    }

    /// Values of what is sought, as the search has them.
    pub(super) fn place_of(&self, sought: &[f64], states: &[Vec<f64>]) -> Place {
        let own = self.scales.iter().zip(sought).map(|(scale, value)| scale.inner(*value));
        let at_start = if self.free_states() == 0 { &[][..] } else { states };
        own.chain(at_start.iter().flatten().copied()).collect()
    }

    /// States to begin with, for these values of what is sought: at rest under the first inputs, what is measured as it is.
    pub(super) fn states_at_start(&self, sought: &[f64]) -> Vec<Vec<f64>> {
        let description = self.task.process.description();
        self.stretches
            .iter()
            .map(|stretch| {
                let mut inputs = self.task.rest.clone();
                for (k, (channel, values)) in self.task.channels.iter().zip(&stretch.inputs).enumerate() {
                    inputs[channel.input] = self.task.behind_valve(k, values[0], stretch.ends[k], sought);
                }
                let usual: Vec<f64> = description.states.iter().map(|state| state.value).collect();
                let measured: Vec<(usize, f64)> = self
                    .task
                    .shown
                    .iter()
                    .enumerate()
                    .filter_map(|(k, shown)| {
                        let name = &description.outputs[shown.output].name;
                        let state = description.states.iter().position(|state| state.name == *name)?;
                        let first = stretch.outputs[k].iter().find(|value| value.is_finite())?;
                        let (factor, shift) = stretch.shown_by[k];
                        Some((state, (first - shift) / factor))
                    })
                    .collect();
                let rests = self.task.process_with(sought).map(|process| steady_states(process.as_ref(), &inputs));
                // Of several rests the one that is nearest to what was measured.
                let far = |state: &[f64]| measured.iter().map(|(i, value)| (state[*i] - value).powi(2)).sum::<f64>();
                let nearest = rests.unwrap_or_default().into_iter().map(|rest| rest.state);
                let mut state = nearest.min_by(|a, b| far(a).total_cmp(&far(b))).unwrap_or(usual);
                for (i, value) in measured {
                    state[i] = value.clamp(description.states[i].low, description.states[i].high);
                }
                state
            })
            .collect()
    }

    /// The rows of each shown output of a stretch; None where the process cannot be followed.
    pub(super) fn rows(&self, stretch: usize, place: &[f64]) -> Option<Vec<OutputRows>> {
        let own = self.scales.len() + self.free_states();
        let chunks: Vec<usize> = (0..own.max(1)).step_by(SEEDS).collect();
        let (sought, states) = (self.sought(place), self.states(stretch, place));
        let slope = |k: usize| match self.scales.get(k) {
            _ if self.held == Some(k) => 0.0,
            Some(scale) => scale.outer(place[k]).1,
            None => 1.0,
        };
        let slopes: Vec<f64> = (0..own).map(slope).collect();
        let data = &self.stretches[stretch];
        let (width, samples) = (own + 1, data.times.len());
        let parts: Vec<Option<Vec<OutputRows>>> = in_parallel(&chunks, |from| {
            let seeds = *from..(from + SEEDS).min(own);
            let mut rows = vec![vec![0.0; width * samples]; self.task.shown.len()];
            let at = At { sought: &sought, states: &states };
            let followed = self.task.follow(data, at, &seeds, self.tolerance, |k, seen: &[Dual], _, _| {
                for ((rows, value), measured) in rows.iter_mut().zip(seen).zip(&data.outputs) {
                    let row = &mut rows[k * width..(k + 1) * width];
                    for (j, by) in seeds.clone().zip(derivatives(value)) {
                        row[j] = by * slopes[j];
                    }
                    row[own] = value.re - measured[k];
                }
            });
            followed.ok().map(|()| rows)
        });
        let mut parts = parts.into_iter().collect::<Option<Vec<_>>>()?.into_iter();
        let mut whole = parts.next()?;
        for (from, part) in chunks[1..].iter().zip(parts) {
            for (rows, more) in whole.iter_mut().zip(part) {
                for (row, more) in rows.chunks_exact_mut(width).zip(more.chunks_exact(width)) {
                    row[*from..own].copy_from_slice(&more[*from..own]);
                }
            }
        }
        Some(whole)
    }

    /// The rows of all stretches.
    pub(super) fn all_rows(&self, place: &[f64]) -> Option<AllRows> {
        let known = |last: &Option<(RowsOf, AllRows)>| {
            let (of, rows) = last.as_ref()?;
            (of.0 == place && of.1 == self.tolerance && of.2 == self.held).then(|| rows.clone())
        };
        if let Some(rows) = known(&self.last.lock().unwrap_or_else(PoisonError::into_inner)) {
            return Some(rows);
        }
        let all = in_parallel(&Vec::from_iter(0..self.stretches.len()), |stretch| self.rows(*stretch, place));
        let rows: AllRows = Arc::new(all.into_iter().collect::<Option<Vec<_>>>()?);
        let of = (place.to_vec(), self.tolerance, self.held);
        *self.last.lock().unwrap_or_else(PoisonError::into_inner) = Some((of, rows.clone()));
        Some(rows)
    }

    /// Visits rows of one output as the search weighs them: in units of the noise, made white, missing ones left out.
    pub(super) fn weighed(&self, output: usize, rows: &[f64], width: usize, mut visit: impl FnMut(&[f64])) {
        let weight = self.deviations[output].recip();
        let mut scaled = vec![0.0; width];
        let mut filter = self.whitening[output].as_ref().map(|whitening| whitening.filter(width));
        for row in rows.chunks_exact(width) {
            scaled.iter_mut().zip(row).for_each(|(to, from)| *to = weight * from);
            match &mut filter {
                Some(filter) => {
                    if let Some(new) = filter.pass(&scaled) {
                        visit(new);
                    }
                }
                None if scaled[width - 1].is_finite() => visit(&scaled),
                None => {}
            }
        }
    }

    /// The rows of what is known beforehand, in units of its deviation.
    fn known(&self, place: &[f64]) -> Vec<(usize, f64, f64)> {
        let of = |(k, unknown): (usize, &Unknown)| {
            let deviation = unknown.deviation?;
            let (value, slope) = self.scales[k].outer(place[k]);
            let slope = if self.held == Some(k) { 0.0 } else { slope };
            Some((k, slope / deviation, (value - unknown.value) / deviation))
        };
        self.task.unknowns.iter().enumerate().filter_map(of).collect()
    }

    fn sums(&self, place: &[f64]) -> Option<NormalEquations> {
        let all = self.all_rows(place)?;
        let mut sums = NormalEquations::new(self.count());
        for (stretch, outputs) in all.iter().enumerate() {
            let places = self.places(stretch);
            let width = places.len() + 1;
            let mut part = NormalEquations::new(places.len());
            let mut robust = vec![0.0; width];
            for (k, rows) in outputs.iter().enumerate() {
                self.weighed(k, rows, width, |row| {
                    if self.loss.is_squares() {
                        part.add(row);
                        return;
                    }
                    let (root, factor, ..) = self.loss.of(row[width - 1]);
                    robust.iter_mut().zip(row).for_each(|(to, from)| *to = factor * from);
                    robust[width - 1] = root;
                    part.add(&robust);
                });
            }
            sums.add_at(&places, &part);
        }
        let mut row = vec![0.0; self.count() + 1];
        for (k, slope, miss) in self.known(place) {
            row.fill(0.0);
            (row[k], row[self.count()]) = (slope, miss);
            sums.add(&row);
        }
        self.tell(place, sums.sum_of_squares());
        Some(sums)
    }

    /// Tells who listens what has been reached, where it is the best so far.
    fn tell(&self, place: &[f64], squares: f64) {
        let share = {
            let mut reached = self.reached.lock().unwrap_or_else(PoisonError::into_inner);
            if squares >= reached.squares {
                return;
            }
            reached.squares = squares;
            reached.share
        };
        if work::is_heard()
            && let Some(so_far) = self.so_far(place, share)
        {
            work::tell(&so_far);
        }
    }

    /// What a place comes to, for who waits.
    pub(super) fn so_far(&self, place: &[f64], share: f64) -> Option<FitSoFar> {
        let left = self.residuals(place)?;
        let stretch = &self.stretches[0];
        let (measured, samples) = (&stretch.outputs[0], stretch.times.len());
        let (tag, unit) = (self.task.shown[0].tag.clone(), stretch.units[0].clone());
        let series = Series::new(&tag, &unit, measured.clone());
        let each = samples.div_ceil(INSTANTS).max(1);
        let places = || (0..samples).step_by(each);
        let some = |value: f64| value.is_finite().then_some(value);
        let number = |(unknown, value): (&Unknown, f64)| ExpectedNumber {
            name: unknown.name.clone(),
            unit: unknown.unit.clone(),
            value,
            standard_error: None,
        };
        Some(FitSoFar {
            share,
            fit: Performance::of(&series, &left[0][..samples], &[]).fit_simulated,
            tag,
            unit,
            numbers: self.task.unknowns.iter().zip(self.sought(place)).map(number).collect(),
            times: places().map(|k| stretch.times[k]).collect(),
            measured: places().map(|k| some(measured[k])).collect(),
            modelled: places().map(|k| some(measured[k] - left[0][k])).collect(),
        })
    }

    /// A further part of the search is done.
    fn advance(&self, part: f64) {
        self.reached.lock().unwrap_or_else(PoisonError::into_inner).share += part;
    }

    /// The squares are of other weights from now on.
    fn begin_anew(&self) {
        self.reached.lock().unwrap_or_else(PoisonError::into_inner).squares = f64::INFINITY;
    }

    /// The minimum that is reached from a place; None where the process cannot be followed there.
    pub(super) fn refined(&self, start: &[f64], tolerance: f64) -> Option<Found> {
        self.sums(start)?;
        let outcome = minimise(start, tolerance, |place| {
            self.sums(place).map_or_else(|| Compressed::hopeless(self.count()), |sums| sums.compress())
        });
        let squares = outcome.sum_of_squares;
        squares.is_finite().then_some(Found { place: outcome.parameters, squares })
    }

    /// The same with one number that stays as it is.
    pub(super) fn refined_beside(&self, start: &[f64], held: usize) -> Option<Found> {
        let beside = Prepared { held: Some(held), ..self.clone() };
        beside.refined(start, SEARCH)
    }

    /// The best minimum from the values given and from beginnings spread over the bounds (the points of Halton, Numerische
    /// Mathematik 2, 1960).
    pub(super) fn best(&mut self) -> Option<Found> {
        let beginnings: Vec<usize> = (0..self.task.options.beginnings.max(1)).collect();
        self.tolerance = COARSE;
        let found: Vec<Option<Found>> = in_parallel(&beginnings, |k| {
            let found = self.found_from(*k);
            self.advance(COARSE_SHARE / beginnings.len() as f64);
            found
        });
        self.tolerance = TOLERANCE;
        self.best_of(found)
    }

    /// The same, to be asked for what is found from one beginning.
    pub(super) fn coarse(self) -> Self {
        Self { tolerance: COARSE, ..self }
    }

    /// What is found from one beginning: 0 is the values given.
    pub(super) fn found_from(&self, beginning: usize) -> Option<Found> {
        let spread =
            |(place, scale): (usize, &Scale)| scale.outer(0.8 * FRAC_PI_2 * (2.0 * halton(beginning, place) - 1.0)).0;
        let sought: Vec<f64> = match beginning {
            0 => self.task.unknowns.iter().map(|unknown| unknown.value).collect(),
            _ => self.scales.iter().enumerate().map(spread).collect(),
        };
        let place = self.place_of(&sought, &self.states_at_start(&sought));
        self.refined(&place, COARSE_SEARCH)
    }

    /// The best of what was found from all beginnings, taken to its end.
    pub(super) fn best_of(&self, found: Vec<Option<Found>>) -> Option<Found> {
        let mut found: Vec<Found> = found.into_iter().flatten().collect();
        found.sort_by(|a, b| a.squares.total_cmp(&b.squares));
        // The second best can lie in another valley that goes deeper.
        let best = found.iter().take(2).filter_map(|found| self.refined(&found.place, SEARCH));
        best.min_by(|a, b| a.squares.total_cmp(&b.squares))
    }

    /// Again from a place that is near.
    pub(super) fn again(&self, found: &Found) -> Option<Found> {
        let left = 1.0 - self.reached.lock().unwrap_or_else(PoisonError::into_inner).share;
        self.advance(LATER_SHARE * left);
        self.refined(&found.place, SEARCH)
    }

    /// The place itself, with the squares that are left there now.
    pub(super) fn as_it_is(&self, found: Found) -> Option<Found> {
        let squares = self.sums(&found.place)?.sum_of_squares();
        Some(Found { squares, ..found })
    }

    /// What each shown output leaves in all stretches, measured less modelled, apart from each other.
    pub(super) fn residuals(&self, place: &[f64]) -> Option<Vec<Vec<f64>>> {
        let all = self.all_rows(place)?;
        let width = self.scales.len() + self.free_states() + 1;
        let left = |output: usize| {
            super::super::data::apart(
                all.iter().map(|outputs| outputs[output].chunks_exact(width).map(|row| -row[width - 1]).collect()),
            )
        };
        Some((0..self.task.shown.len()).map(left).collect())
    }

    /// Whether it matters how the outputs are weighed: beside each other, or beside what is known beforehand.
    pub(super) fn weighs(&self) -> bool {
        self.task.shown.len() > 1 || self.task.unknowns.iter().any(|unknown| unknown.deviation.is_some())
    }

    /// Takes the noise of each output from what is left at a place.
    pub(super) fn weigh_by(&mut self, place: &[f64]) -> std::result::Result<(), Lost> {
        let residuals = self.residuals(place).ok_or(Lost)?;
        for (deviation, left) in self.deviations.iter_mut().zip(residuals) {
            let (sum, samples) = left
                .iter()
                .filter(|value| value.is_finite())
                .fold((0.0, 0usize), |(sum, count), value| (sum + value * value, count + 1));
            // An exact model leaves rounding, which is no noise to go by.
            *deviation = (sum / samples.max(1) as f64).sqrt().max(1e-9 * *deviation);
        }
        self.begin_anew();
        Ok(())
    }

    /// The rows of an output in all stretches with the unknowns in their places, and the residuals; for the memory of its noise.
    pub(super) fn rows_of(&self, output: usize, all: &[Vec<OutputRows>]) -> Rows {
        let width = self.count() + 1;
        let mut values = Vec::new();
        for (stretch, outputs) in all.iter().enumerate() {
            let places = self.places(stretch);
            for row in outputs[output].chunks_exact(places.len() + 1) {
                let start = values.len();
                values.resize(start + width, 0.0);
                for (place, value) in places.iter().zip(row) {
                    values[start + place] = *value;
                }
                values[start + width - 1] = row[places.len()];
            }
            let start = values.len();
            values.resize(start + width, 0.0);
            values[start + width - 1] = f64::NAN;
        }
        Rows { width, values }
    }
}

/// The k-th point of Halton's sequence along an axis, above 0 and below 1.
fn halton(k: usize, axis: usize) -> f64 {
    const PRIMES: [usize; 24] =
        [2, 3, 5, 7, 11, 13, 17, 19, 23, 29, 31, 37, 41, 43, 47, 53, 59, 61, 67, 71, 73, 79, 83, 89];
    let base = PRIMES[axis % PRIMES.len()];
    let (mut rest, mut share, mut value) = (k, 1.0, 0.0);
    while rest > 0 {
        share /= base as f64;
        value += share * (rest % base) as f64;
        rest /= base;
    }
    value
}
