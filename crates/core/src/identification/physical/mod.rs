//! Physical models: the unknown numbers of a first-principles process, estimated from records over its true simulation.
//!
//! Outputs are simulated from the measured inputs alone (output error) and compared with what was measured; derivatives by
//! everything that is sought are exact (dual numbers). States at the start belong to each stretch. The noise may have a memory,
//! which is found with the rest.

mod balances;
mod fitting;
mod following;
mod options;
mod profile;
mod proposal;
mod steady;
#[cfg(test)]
mod tests;
mod told;
mod tracking;
mod verdicts;

pub use balances::{BalanceOverTime, BalanceTerm, balances};
pub(super) use profile::profile;

pub use fitting::FitSoFar;
pub use options::{MappedInput, MappedOutput, PhysicalOptions, Sought, SoughtKind, StartOfStates, Tie};
pub use steady::{ImpliedValue, SteadyCheck, SteadyStretch, steady_check};
pub use told::{ExpectedNumber, Telling, Together, Untold, telling, telling_of_plan};
pub use tracking::{
    Drifting, DriftingKind, MayDrift, Tracked, TrackedNumber, TrackedOutput, TrackingMethod, TrackingOptions, track,
};

use super::agreement::differences;
use super::covariance::{LONG, quantile_95};
use super::data::{DataSet, Series};
use super::loss::Loss;
use super::model::{
    Criteria, FitOptions, FurtherStretch, Model, Operating, Parameter, Performance, SignalName, StartOfRecord,
};
use super::noise::{FittedNoise, NoiseModel, Whitening};
use super::structure::Structure;
use crate::process::{DetailedSpec, ProcessSpec};
use crate::{Error, Result};
use fitting::{Found, OutputRows, Prepared};
use following::{At, Stretch};
use nalgebra::DMatrix;
use options::Task;
use serde::{Deserialize, Serialize};
use told::Known;
use utoipa::ToSchema;

/// Fewest samples of an output that a fit is made on.
const FEWEST_SAMPLES: usize = 10;
/// Turns of process and noise, at most, and the change of the logarithm of the likelihood at which they are over.
const TURNS: usize = 12;
const SETTLED: f64 = 1e-2;

/// What a physical model is made of besides its parameters.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct PhysicalModel {
    /// What was fitted, with the estimates in their places: the process is ready to be simulated, and a further fit begins here.
    pub fitted: PhysicalOptions,
    /// The states where each stretch begins.
    pub starts: Vec<Vec<f64>>,
    /// How each output agrees with what was measured.
    pub outputs: Vec<OutputAgreement>,
    /// What these data do not tell.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub untold: Vec<Untold>,
}

/// Agreement of an output.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct OutputAgreement {
    /// Tag of its channel.
    pub tag: String,
    /// Name of the output.
    pub output: String,
    /// The figures.
    pub performance: Performance,
    /// The noise, where it was modelled.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub noise: Option<FittedNoise>,
}

/// Fits a physical model to several stretches of data.
///
/// Errors when the options do not fit the process or the data, and when nothing that was tried could be followed.
pub(super) fn fit(stretches: &[DataSet], options: &FitOptions) -> Result<Model> {
    let (task, data) = made_ready(stretches, options)?;
    let mut prepared = Prepared::new(&task, &data);
    let found = prepared.best();
    completed(stretches, options, prepared, found)
}

/// A fit whose beginnings are searched each by itself, wherever and in whatever order: what has been found makes the same model, bit for bit, as
/// a fit at one go.
pub struct DividedFit {
    stretches: Vec<DataSet>,
    options: FitOptions,
    task: Task,
    data: Vec<Stretch>,
}

/// What has been found from one beginning.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct FoundFrom {
    /// Sum of squares, in units of the noise that is expected; null where the process could not be followed.
    pub squares: Option<f64>,
    place: Vec<f64>,
    /// What that is in words and curves, for who waits.
    pub so_far: Option<FitSoFar>,
}

impl DividedFit {
    /// Of several stretches. Errors as a fit at one go.
    pub fn new(stretches: Vec<DataSet>, options: FitOptions) -> Result<Self> {
        options.check_belongings()?;
        let (task, data) = made_ready(&stretches, &options)?;
        Ok(Self { stretches, options, task, data })
    }

    /// How many beginnings there are.
    #[must_use]
    pub fn beginnings(&self) -> usize {
        self.task.options.beginnings.max(1)
    }

    /// Searches from one of them.
    #[must_use]
    pub fn search(&self, beginning: usize) -> FoundFrom {
        let prepared = Prepared::new(&self.task, &self.data).coarse();
        let found = prepared.found_from(beginning);
        let so_far = found.as_ref().and_then(|found| prepared.so_far(&found.place, 0.0));
        let squares = found.as_ref().map(|found| found.squares);
        FoundFrom { squares, place: found.map_or_else(Vec::new, |found| found.place), so_far }
    }

    /// The model, from what was found from all of them, in their order.
    pub fn model(&self, found: Vec<FoundFrom>) -> Result<Model> {
        let prepared = Prepared::new(&self.task, &self.data);
        let of = |own: FoundFrom| own.squares.map(|squares| Found { place: own.place, squares });
        let best = prepared.best_of(found.into_iter().map(of).collect());
        completed(&self.stretches, &self.options, prepared, best)
    }
}

/// The task with its data, where they fit each other.
fn made_ready(stretches: &[DataSet], options: &FitOptions) -> Result<(Task, Vec<Stretch>)> {
    let own = options.physical.as_ref().ok_or_else(|| {
        Error::said("physical", "A physical model needs a process, the channels of its signals, and what is sought.")
    })?;
    options.loss.validate()?;
    let task = own.task()?;
    let Some(first) = stretches.first() else { return Err(Error::unfit("there are no data", "choose a record")) };
    for (k, series) in first.outputs.iter().enumerate() {
        if !task.shown.iter().any(|shown| shown.tag == series.tag) {
            let words = format!("{} shows none of the outputs: say which one it is.", series.tag);
            return Err(Error::said(if k == 0 { "physical.outputs" } else { "outputs" }, words));
        }
    }
    let data = stretches.iter().map(|data| Stretch::new(&task, data)).collect::<Result<Vec<_>>>()?;
    for (stretch, shown) in data.iter().flat_map(|stretch| stretch.outputs.iter().zip(&task.shown)) {
        let samples = stretch.iter().filter(|value| value.is_finite()).count();
        if samples < FEWEST_SAMPLES {
            return Err(Error::unfit(
                format!("only {samples} samples of {} are usable", shown.tag),
                format!("a fit needs at least {FEWEST_SAMPLES}"),
            ));
        }
    }
    Ok((task, data))
}

/// The model of what was found by squares alone.
fn completed(
    stretches: &[DataSet],
    options: &FitOptions,
    mut prepared: Prepared<'_>,
    found: Option<Found>,
) -> Result<Model> {
    let found = found.ok_or_else(|| {
        Error::unfit(
            "the process could not be followed from any beginning: it runs away, or is far faster than the samples",
            "begin with other values, or narrow the bounds",
        )
    })?;
    let found = with_noise(&mut prepared, found, options)?;
    Fit { options, task: prepared.task, prepared, found }.model(stretches)
}

/// From the plain minimum on: outputs weighed by what they leave, noise with a memory, another loss than squares.
fn with_noise(prepared: &mut Prepared<'_>, found: Found, options: &FitOptions) -> Result<Found> {
    let lost = || Error::unfit("the process could not be followed near the best values", "narrow the bounds");
    let mut found = found;
    let turns = if prepared.task.shown.len() > 1 { 3 } else { 1 };
    for _ in 0..turns {
        prepared.weigh_by(&found.place).map_err(|_| lost())?;
        // One output by itself has its minimum where it has it, however it is weighed.
        found = if prepared.weighs() { prepared.again(&found) } else { prepared.as_it_is(found) }.ok_or_else(lost)?;
    }
    if options.noise != NoiseModel::White {
        found = likeliest(prepared, found, options.noise == NoiseModel::Integrated)?;
    }
    if options.loss != Loss::Squares {
        for _ in 0..2 {
            let all = prepared.all_rows(&found.place).ok_or_else(lost)?;
            let left: Vec<f64> = innovations(prepared, &all).into_iter().flatten().collect();
            prepared.loss = options.loss.scaled(&left);
            found = prepared.again(&found).ok_or_else(lost)?;
        }
    }
    Ok(found)
}

/// What is new in each output, in units of its noise: measured less modelled.
fn innovations(prepared: &Prepared<'_>, all: &[Vec<OutputRows>]) -> Vec<Vec<f64>> {
    (0..prepared.task.shown.len())
        .map(|output| {
            let of_stretch = |(stretch, outputs): (usize, &Vec<OutputRows>)| {
                let width = prepared.places(stretch).len() + 1;
                let mut new = Vec::new();
                prepared.weighed(output, &outputs[output], width, |row| new.push(-row[width - 1]));
                new
            };
            all.iter().enumerate().flat_map(of_stretch).collect()
        })
        .collect()
}

/// Process and noise by maximum likelihood, in turn, until neither changes; at last what the process has taken out of the noise is
/// given back to its memory.
fn likeliest(prepared: &mut Prepared<'_>, squares: Found, integrated: bool) -> Result<Found> {
    let none = || Error::unfit("the residuals tell no noise model", "fit without one");
    let mut found = squares;
    let mut reached = f64::NEG_INFINITY;
    for _ in 0..TURNS {
        let residuals = prepared.residuals(&found.place).ok_or_else(none)?;
        prepared.whitening.iter_mut().for_each(|whitening| *whitening = None);
        prepared.weigh_by(&found.place).map_err(|_| none())?;
        for (k, left) in residuals.iter().enumerate() {
            prepared.whitening[k] = Some(Whitening::of(left, integrated).ok_or_else(none)?);
        }
        let next = prepared.again(&found).ok_or_else(none)?;
        let likelihood = likelihood(prepared, &next).ok_or_else(none)?;
        let settled = likelihood - reached < SETTLED;
        if likelihood > reached {
            (found, reached) = (next, likelihood);
        }
        if settled {
            break;
        }
    }
    let samples: usize = prepared.stretches.iter().map(|stretch| stretch.times.len()).sum();
    if samples <= LONG {
        let all = prepared.all_rows(&found.place).ok_or_else(none)?;
        for output in 0..prepared.whitening.len() {
            let rows = prepared.rows_of(output, &all);
            if let Some(whitening) = &mut prepared.whitening[output] {
                *whitening = whitening.restricted(&rows).0;
            }
        }
        // The innovations are the unit now.
        let all = prepared.all_rows(&found.place).ok_or_else(none)?;
        let new = innovations(prepared, &all);
        for (deviation, new) in prepared.deviations.iter_mut().zip(new) {
            *deviation *= (new.iter().map(|e| e * e).sum::<f64>() / new.len().max(1) as f64).sqrt();
        }
        found = prepared.again(&found).ok_or_else(none)?;
    }
    Ok(found)
}

/// Twice the logarithm of the likelihood of all outputs, but for constants.
fn likelihood(prepared: &Prepared<'_>, found: &Found) -> Option<f64> {
    let all = prepared.all_rows(&found.place)?;
    let stretches = prepared.stretches.len();
    let of = |(output, new): (usize, Vec<f64>)| {
        let squares: f64 = new.iter().map(|e| e * e).sum::<f64>() * prepared.deviations[output].powi(2);
        prepared.whitening[output].as_ref().map_or(0.0, |whitening| whitening.likelihood(squares, new.len(), stretches))
    };
    Some(innovations(prepared, &all).into_iter().enumerate().map(of).sum())
}

/// A fit with all that is told of it.
struct Fit<'a> {
    options: &'a FitOptions,
    task: &'a Task,
    prepared: Prepared<'a>,
    found: Found,
}

/// How well the numbers of a search are known.
struct Uncertainty {
    /// Covariance of all of them, corrected for coloured residuals.
    coloured: DMatrix<f64>,
    /// The same for white ones.
    white: DMatrix<f64>,
    /// As how many samples without memory the data count.
    effective: f64,
}

impl Fit<'_> {
    /// `H⁻¹ Ω H⁻¹` with `H` the information and `Ω` that of derivatives filtered by the noise that is left (as in
    /// [`super::covariance`], output by output); numbers that stand at a bound, and directions that are not told, are left out.
    fn uncertainty(&self, all: &[Vec<OutputRows>], held: &[usize]) -> Option<Uncertainty> {
        let prepared = &self.prepared;
        let count = prepared.count();
        let mut information = DMatrix::<f64>::zeros(count, count);
        let mut middle = DMatrix::<f64>::zeros(count, count);
        let (mut effective, mut freedom) = (0.0f64, 1.0);
        for output in 0..prepared.task.shown.len() {
            let rows = self.rows_with_gaps(all, output, held);
            let width = count + 1;
            let residuals: Vec<f64> = rows.values.chunks_exact(width).map(|row| row[count]).collect();
            let samples = residuals.iter().filter(|value| value.is_finite()).count();
            let found = Whitening::of(&residuals, false);
            let noise = found.map(|found| if samples <= LONG { found.restricted(&rows) } else { (found, 1.0) });
            let (coefficients, variance) = match &noise {
                Some((whitening, variance)) => (whitening.coefficients().to_vec(), *variance),
                None => (Vec::new(), 1.0),
            };
            let of_noise = prepared.whitening[output].as_ref().or(noise.as_ref().map(|(whitening, _)| whitening));
            effective = effective.max(of_noise.map_or(samples as f64, |noise| noise.effective_samples(samples)));
            freedom = samples as f64 / samples.saturating_sub(count).max(1) as f64;
            let order = coefficients.len();
            let mut past = vec![vec![0.0; count]; order.max(1)];
            let (mut plain, mut filtered) =
                (crate::numerics::NormalEquations::new(count), crate::numerics::NormalEquations::new(count));
            let mut row_now = vec![0.0; width];
            for (at, row) in rows.values.chunks_exact(width).enumerate() {
                let missing = !row[count].is_finite();
                for (to, from) in row_now.iter_mut().zip(row) {
                    *to = if missing { 0.0 } else { *from };
                }
                row_now[count] = 0.0;
                plain.add(&row_now);
                for (lag, a) in coefficients.iter().enumerate() {
                    let earlier = &past[(at + order - 1 - lag) % order];
                    row_now.iter_mut().zip(earlier).for_each(|(to, from)| *to -= a * from);
                }
                filtered.add(&row_now);
                if order > 0 {
                    past[at % order].copy_from_slice(&row_now[..count]);
                }
            }
            information += plain.information();
            middle += filtered.information() * variance;
        }
        for (k, unknown) in self.task.unknowns.iter().enumerate().filter(|(k, _)| !held.contains(k)) {
            if let Some(deviation) = unknown.deviation {
                let own = (prepared.scales[k].outer(self.found.place[k]).1 / deviation).powi(2);
                information[(k, k)] += own;
                middle[(k, k)] += own;
            }
        }
        let inverse = scaled_inverse(&information)?;
        let white = &inverse * freedom;
        Some(Uncertainty { coloured: &inverse * middle * &inverse, white, effective })
    }

    /// The weighed rows of an output with gaps where they are missing, derivatives of what is held being 0.
    fn rows_with_gaps(&self, all: &[Vec<OutputRows>], output: usize, held: &[usize]) -> super::noise::Rows {
        let mut rows = self.prepared.rows_of(output, all);
        let width = rows.width;
        let weight = self.prepared.deviations[output].recip();
        let mut filter = self.prepared.whitening[output].as_ref().map(|whitening| whitening.filter(width));
        for row in rows.values.chunks_exact_mut(width) {
            row.iter_mut().for_each(|value| *value *= weight);
            held.iter().for_each(|place| row[*place] = 0.0);
            if let Some(filter) = &mut filter {
                match filter.pass(row) {
                    Some(new) => row.copy_from_slice(new),
                    None => row[width - 1] = f64::NAN,
                }
            }
        }
        rows
    }

    fn model(self, stretches: &[DataSet]) -> Result<Model> {
        let lost = || Error::unfit("the process could not be followed with the best values", "narrow the bounds");
        let (prepared, place) = (&self.prepared, &self.found.place);
        let all = prepared.all_rows(place).ok_or_else(lost)?;
        let sought = prepared.sought(place);
        let held: Vec<usize> = (0..sought.len()).filter(|k| prepared.scales[*k].is_at_bound(place[*k])).collect();
        let mut information = told::information(prepared, place).ok_or_else(lost)?;
        for k in &held {
            // Of what stands at its bound nothing is asked.
            information.row_mut(*k).fill(0.0);
            information.column_mut(*k).fill(0.0);
            information[(*k, *k)] = 1e12;
        }
        let known = Known::new(prepared, place, &information);
        let told = known.errors();
        let untold = known.in_words(prepared, place, &told::would_tell(prepared, place, &known));
        let uncertainty = self.uncertainty(&all, &held);
        let (parameters, covariance) = self.parameters(&sought, &held, &told, uncertainty.as_ref());
        let outputs = self.agreements(stretches, &all);
        let of_pv = outputs
            .iter()
            .find(|own| own.tag == stretches[0].outputs[0].tag)
            .map_or_else(Performance::default, |own| own.performance.clone());
        let name = |series: &Series| SignalName { tag: series.tag.clone(), unit: series.unit.clone() };
        let new = innovations(prepared, &all);
        let samples: usize = new.iter().map(Vec::len).sum();
        let squares: f64 =
            new.iter().zip(&prepared.deviations).map(|(new, d)| new.iter().map(|e| (e * d).powi(2)).sum::<f64>()).sum();
        let free = prepared.count() - held.len();
        let of_noise =
            outputs.iter().find(|own| own.tag == stretches[0].outputs[0].tag).and_then(|own| own.noise.clone());
        let further = (1..stretches.len())
            .map(|k| FurtherStretch {
                operating: operating(&stretches[k]),
                start: StartOfRecord::default(),
                performance: self.in_stretch(stretches, &all, k),
            })
            .collect();
        let mut model = Model {
            structure: Structure::Physical,
            method: self.method(),
            inputs: stretches[0].inputs.iter().map(name).collect(),
            outputs: stretches[0].outputs.iter().map(name).collect(),
            sample_time: None,
            parameters,
            covariance,
            matrices: None,
            paths: Vec::new(),
            rows: Vec::new(),
            physical: Some(Box::new(PhysicalModel {
                fitted: self.fitted(&sought),
                starts: (0..stretches.len()).map(|k| prepared.states(k, place)).collect(),
                outputs,
                untold,
            })),
            operating: operating(&stretches[0]),
            start: StartOfRecord::default(),
            further,
            first_stretch: (stretches.len() > 1).then(|| self.in_stretch(stretches, &all, 0)),
            noise: of_noise,
            estimation: of_pv,
            criteria: Some(Criteria::new(squares, samples, free)),
            verdicts: Vec::new(),
        };
        model.verdicts = verdicts::judge(&model, self.task, &held, uncertainty.map(|own| own.effective));
        Ok(model)
    }

    fn method(&self) -> String {
        let noise = match self.options.noise {
            NoiseModel::White => "least squares",
            NoiseModel::Autoregression => "maximum likelihood with autoregressive noise",
            NoiseModel::Integrated => "maximum likelihood with integrated noise",
        };
        let loss = match self.options.loss {
            Loss::Squares => String::new(),
            Loss::Huber { width } => format!(", Huber loss of width {width}"),
            Loss::Absolute => ", absolute value".to_owned(),
            Loss::DeadBand { width } => format!(", dead band of {width} times the noise"),
        };
        format!("output error over the simulated process, {noise}{loss}")
    }

    fn parameters(
        &self,
        sought: &[f64],
        held: &[usize],
        told: &[Option<f64>],
        uncertainty: Option<&Uncertainty>,
    ) -> (Vec<Parameter>, Vec<Vec<f64>>) {
        let slope = |k: usize| self.prepared.scales[k].outer(self.found.place[k]).1;
        let is_told = |k: usize| told[k].is_some() && !held.contains(&k);
        let between = |own: &DMatrix<f64>, i: usize, j: usize| own[(i, j)] * slope(i) * slope(j);
        let n = sought.len();
        let covariance: Vec<Vec<f64>> = (0..n)
            .map(|i| {
                (0..n)
                    .map(|j| match uncertainty {
                        Some(own) if is_told(i) && is_told(j) => between(&own.coloured, i, j),
                        _ => 0.0,
                    })
                    .collect()
            })
            .collect();
        let quantile = uncertainty.map_or(1.96, |own| quantile_95(own.effective - (n - held.len()) as f64));
        let parameter = |(k, unknown): (usize, &options::Unknown)| {
            let error = uncertainty.filter(|_| is_told(k)).map(|own| between(&own.coloured, k, k).max(0.0).sqrt());
            Parameter {
                name: unknown.name.clone(),
                input: None,
                value: sought[k],
                standard_error: error,
                white_error: uncertainty.filter(|_| is_told(k)).map(|own| between(&own.white, k, k).max(0.0).sqrt()),
                interval: error.map(|error| [sought[k] - quantile * error, sought[k] + quantile * error]),
                unit: unknown.unit.clone(),
                fixed: false,
            }
        };
        (self.task.unknowns.iter().enumerate().map(parameter).collect(), covariance)
    }

    /// How each output agrees with the data.
    fn agreements(&self, stretches: &[DataSet], all: &[Vec<OutputRows>]) -> Vec<OutputAgreement> {
        let description = self.task.process.description();
        let new = innovations(&self.prepared, all);
        self.task
            .shown
            .iter()
            .enumerate()
            .map(|(k, shown)| {
                let measured: Vec<f64> = stretches
                    .iter()
                    .filter_map(|data| data.outputs.iter().find(|series| series.tag == shown.tag))
                    .flat_map(|series| series.values.iter().copied())
                    .collect();
                let left: Vec<f64> = (0..stretches.len()).flat_map(|stretch| self.left(all, stretch, k)).collect();
                let whitening = self.prepared.whitening[k].as_ref();
                let deviation = self.prepared.deviations[k];
                let one_step: Vec<f64> = match whitening {
                    Some(_) => {
                        // In their places: a sample without predecessors has no innovation.
                        let mut new = new[k].iter().map(|e| e * deviation);
                        left.iter()
                            .map(|e| if e.is_finite() { new.next().unwrap_or(f64::NAN) } else { f64::NAN })
                            .collect()
                    }
                    None => left.clone(),
                };
                let power = new[k].iter().map(|e| e * e).sum::<f64>() / new[k].len().max(1) as f64;
                let series = Series::new(&shown.tag, "", measured);
                OutputAgreement {
                    tag: shown.tag.clone(),
                    output: description.outputs[shown.output].name.clone(),
                    performance: Performance::of(&series, &left, &one_step),
                    noise: whitening.map(|whitening| whitening.fitted(deviation * power.sqrt())),
                }
            })
            .collect()
    }

    /// What an output leaves in a stretch, measured less modelled.
    fn left(&self, all: &[Vec<OutputRows>], stretch: usize, output: usize) -> Vec<f64> {
        let width = self.prepared.places(stretch).len() + 1;
        all[stretch][output].chunks_exact(width).map(|row| -row[width - 1]).collect()
    }

    /// How the PV agrees in one stretch.
    fn in_stretch(&self, stretches: &[DataSet], all: &[Vec<OutputRows>], stretch: usize) -> Performance {
        let pv = stretches[stretch].output();
        let output = self.task.shown.iter().position(|shown| shown.tag == pv.tag).unwrap_or(0);
        let left = self.left(all, stretch, output);
        Performance::of(pv, &left, &left)
    }

    /// The options with the estimates in their places.
    fn fitted(&self, sought: &[f64]) -> PhysicalOptions {
        let mut fitted = self.task.options.clone();
        let description = self.task.process.description();
        let set = |process: &mut DetailedSpec, place: usize, value: f64| match process {
            DetailedSpec::Library { parameters, .. } => {
                parameters.insert(description.parameters[place].name.clone(), value);
            }
            DetailedSpec::Equations(spec) => spec.parameters[place].value = value,
            _ => {}
        };
        for ((unknown, value), own) in self.task.unknowns.iter().zip(sought).zip(&mut fitted.sought) {
            match unknown.kind {
                SoughtKind::Parameter => set(&mut fitted.process, unknown.place, *value),
                SoughtKind::DeadTime => fitted.inputs[unknown.place].dead_time = *value,
                SoughtKind::Lag => fitted.outputs[unknown.place].lag = *value,
                SoughtKind::Offset => fitted.outputs[unknown.place].offset = *value,
                SoughtKind::Rangeability => fitted.inputs[unknown.place].rangeability = Some(*value),
            }
            // What was known beforehand is about the first value: that stays.
            if own.deviation.is_none() {
                own.value = Some(*value);
            }
        }
        for (parameter, to, factor) in &self.task.ties {
            let of = |place: usize| {
                let known =
                    self.task.unknowns.iter().position(|own| own.kind == SoughtKind::Parameter && own.place == place);
                known.map_or(self.task.process.parameters()[place], |k| sought[k])
            };
            set(&mut fitted.process, *parameter, of(*to) * factor);
        }
        fitted
    }
}

/// The inverse of a matrix of information, scaled by its diagonal; what nothing is known of is left out. Directions known worse
/// than a millionth of a millionth of the best are left out, too.
fn scaled_inverse(information: &DMatrix<f64>) -> Option<DMatrix<f64>> {
    let n = information.nrows();
    let scale: Vec<f64> =
        (0..n).map(|k| if information[(k, k)] > 0.0 { information[(k, k)].sqrt().recip() } else { 0.0 }).collect();
    let scaled = DMatrix::from_fn(n, n, |i, j| information[(i, j)] * scale[i] * scale[j]);
    let inverse = scaled.pseudo_inverse(1e-12).ok()?;
    Some(DMatrix::from_fn(n, n, |i, j| inverse[(i, j)] * scale[i] * scale[j]))
}

/// Where a stretch begins.
fn operating(data: &DataSet) -> Operating {
    let first = |series: &Series| series.values.iter().copied().find(|value| value.is_finite()).unwrap_or(0.0);
    let inputs: Vec<f64> = data.inputs.iter().map(first).collect();
    let outputs: Vec<f64> = data.outputs.iter().map(first).collect();
    Operating { op: inputs[0], pv: outputs[0], inputs, outputs }
}

impl Model {
    /// Whether it is a physical one.
    #[must_use]
    pub fn is_physical(&self) -> bool {
        self.structure == Structure::Physical
    }

    /// Its physical part; the error says what to do without one.
    pub fn physical(&self) -> Result<&PhysicalModel> {
        self.physical.as_deref().ok_or_else(|| {
            Error::unfit(
                format!("a model of structure {} has no balances", self.structure.name()),
                "fit a physical model to the record",
            )
        })
    }
}

/// A model ready to follow data: nothing is sought but the states at the start.
fn ready(model: &Model, data: &DataSet) -> Result<(Task, Stretch)> {
    let task = model.physical()?.fitted.known()?;
    let stretch = Stretch::new(&task, data)?;
    Ok((task, stretch))
}

/// The states at the start that fit the data best.
fn states_at_start(task: &Task, stretch: &Stretch) -> Result<Vec<f64>> {
    let stretches = std::slice::from_ref(stretch);
    let prepared = Prepared::new(task, stretches);
    let start = prepared.place_of(&[], &prepared.states_at_start(&[]));
    if start.is_empty() {
        return Ok(prepared.states(0, &start));
    }
    let found = prepared.refined(&start, 1e-8).ok_or_else(|| {
        Error::unfit("the process cannot be followed over these data: it runs away", "hold it against other data")
    })?;
    Ok(prepared.states(0, &found.place))
}

/// The outputs of a physical model over data, in the order of its outputs; the states at the start are those that fit best.
pub(super) fn simulate(model: &Model, data: &DataSet) -> Result<Vec<Vec<f64>>> {
    let (task, stretch) = ready(model, data)?;
    let states = states_at_start(&task, &stretch)?;
    let mut outputs = vec![Vec::with_capacity(stretch.times.len()); task.shown.len()];
    let at = At { sought: &[], states: &states };
    task.follow(&stretch, at, &(0..0), following::TOLERANCE, |_, seen, _, _| {
        outputs.iter_mut().zip(seen).for_each(|(list, value)| list.push(value.re));
    })
    .map_err(|_| {
        Error::unfit("the process cannot be followed over these data: it runs away", "hold it against other data")
    })?;
    let of = |name: &SignalName| {
        let place = task.shown.iter().position(|shown| shown.tag == name.tag);
        place.map(|place| outputs[place].clone()).unwrap_or_default()
    };
    Ok(model.outputs.iter().map(of).collect())
}

/// What each output misses one sample ahead.
pub(super) fn prediction_errors(model: &Model, data: &DataSet) -> Result<Vec<Vec<f64>>> {
    let simulated = simulate(model, data)?;
    let physical = model.physical()?;
    Ok(data
        .outputs
        .iter()
        .zip(simulated)
        .map(|(series, simulated)| {
            let left = differences(series, &simulated);
            let own = physical.outputs.iter().find(|own| own.tag == series.tag);
            own.and_then(|own| own.noise.as_ref()).map_or_else(|| left.clone(), |noise| noise.innovations(&left))
        })
        .collect())
}

impl PhysicalModel {
    /// The process as it was found.
    #[must_use]
    pub fn process(&self) -> ProcessSpec {
        ProcessSpec::Detailed(self.fitted.process.clone())
    }

    /// Values of all inputs of the process for these values of the channels, by tag; those without a channel as they are known.
    pub fn inputs_at(&self, channels: &[(&SignalName, f64)]) -> Result<Vec<f64>> {
        let task = self.fitted.known()?;
        let mut inputs = task.rest.clone();
        for (k, channel) in task.channels.iter().enumerate() {
            if let Some((name, value)) = channels.iter().find(|(name, _)| name.tag == channel.tag) {
                let (factor, offset) = task.conversion(k, &name.unit)?;
                let ends = (offset, offset + 100.0 * factor);
                inputs[channel.input] = task.behind_valve(k, factor * value + offset, ends, &[]);
            }
        }
        Ok(inputs)
    }

    /// The values of an input at 0 and at 100 % of its channel, where that is in %.
    pub fn range_of(&self, tag: &str) -> Result<Option<(String, [f64; 2])>> {
        let task = self.fitted.known()?;
        let Some(k) = task.channels.iter().position(|channel| channel.tag == tag) else { return Ok(None) };
        let (factor, offset) = task.conversion(k, "%")?;
        let name = task.process.description().inputs[task.channels[k].input].name.clone();
        Ok(Some((name, [offset, offset + 100.0 * factor])))
    }
}
