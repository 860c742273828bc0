//! First order plus dead time by output-error least squares, the dead time not rounded to the sample.

use super::lag_one_correlation;
use crate::lti::{DeadTime, FirstOrderSample, first_order_response};
use crate::numerics::{NormalEquations, minimise};
use crate::process::ProcessSpec;
use crate::series::TimeAxis;
use crate::verdict::{Tone, Verdict, readable, readable_duration};
use crate::{Error, Result, check};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Fewest samples that a fit is made on: twice the number of unknowns.
const FEWEST_SAMPLES: usize = 10;
/// Samples of a coarse search: blocks of samples, averaged.
const COARSE_SAMPLES: usize = 250;
/// How much longer the blocks of one coarse search are than those of the next finer one.
const COARSENING: usize = 4;
const COARSE_DEAD_TIMES: usize = 18;
const COARSE_TIME_CONSTANTS: usize = 8;
/// How many of the best points of a grid are refined on its averaged data, for either assumption on the past.
const GRID_STARTS: usize = 3;
/// How many of the points found so are refined on all data.
const STARTS: usize = 2;
/// Relative change of the sum of squares at which a refinement ends: on averaged data, which are a start only, and on all.
const COARSE_TOLERANCE: f64 = 1e-2;
const TOLERANCE: f64 = 1e-9;

/// Positions of the unknowns.
const GAIN: usize = 0;
const OFFSET: usize = 1;
const TRANSIENT: usize = 2;
const LOG_TIME_CONSTANT: usize = 3;
const DEAD_TIME: usize = 4;
const UNKNOWNS: usize = 5;

/// The structure of a model.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Structure {
    /// First order plus dead time.
    Fopdt,
}

/// A parameter with its uncertainty.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Estimate {
    /// The estimate, in `unit`.
    pub value: f64,
    /// Standard error in the same unit, for white residuals; null where the data do not tell (parameter at a bound).
    pub standard_error: Option<f64>,
    /// The unit.
    pub unit: String,
}

/// The parameters of a first-order-plus-dead-time model.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct FopdtParameters {
    /// Gain, PV units per OP unit.
    pub gain: Estimate,
    /// Time constant in s.
    pub time_constant: Estimate,
    /// Dead time in s.
    pub dead_time: Estimate,
}

/// A point on the steady-state line of a model.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Operating {
    /// OP at the start of the data, in its unit.
    pub op: f64,
    /// The PV at which the model rests with this OP, in its unit.
    pub pv: f64,
}

/// A fitted first-order-plus-dead-time model.
///
/// `pv(t) = operating.pv + gain · x(t) + transient · exp(−t/τ)` with `τ x' = op(t − θ) − operating.op − x`, `x(0) = 0`,
/// and `op(t) = operating.op + earlier_input` before the data.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct FopdtModel {
    /// Always `fopdt`.
    pub structure: Structure,
    /// The parameters with their standard errors.
    pub parameters: FopdtParameters,
    /// Where the model rests.
    pub operating: Operating,
    /// What was left at the start of the data of moves before it, PV units.
    pub transient: f64,
    /// How far the OP is taken to have stood from its first value before the data, in its unit: 0 for a test that starts
    /// at rest, else to the mean of the OP, whichever fits better.
    pub earlier_input: f64,
    /// 100·(1 − ‖e‖/‖y − ȳ‖) of the simulated output.
    pub fit_percent: f64,
    /// Standard deviation of the residuals, PV units.
    pub residual_deviation: f64,
    /// Correlation of neighbouring residuals.
    pub residual_correlation: f64,
    /// Number of PV samples used.
    pub samples: usize,
    /// What the figures mean.
    pub verdicts: Vec<Verdict>,
}

/// What a model is fitted to.
#[derive(Debug, Clone, Copy)]
pub struct DataSet<'a> {
    /// The times of the samples.
    pub axis: &'a TimeAxis,
    /// OP, a value a sample, held until the next; NaN where missing.
    pub input: &'a [f64],
    /// PV, a value a sample; NaN where missing.
    pub output: &'a [f64],
    /// Unit of the OP.
    pub input_unit: &'a str,
    /// Unit of the PV.
    pub output_unit: &'a str,
}

/// Fits gain, time constant and dead time by least squares of the simulated output, and with them the offset and the
/// transient that moves before the data left behind.
///
/// What was still under way through the dead time when the data began cannot be estimated freely, since it would explain any
/// single step by itself. It is taken as the first value of the OP (a test that starts at rest) or as its mean (a record
/// of ordinary operation), whichever fits better.
///
/// Grids over dead time and time constant, on which the others follow by linear least squares, give the starts: on all data
/// averaged in blocks, and on ever shorter stretches with ever shorter blocks, where the OP moves most, so that a fast
/// process is found in a long record. The best are refined by Levenberg–Marquardt over all five with exact derivatives.
/// Standard errors are those of non-linear least squares for white residuals, `σ²(JᵀJ)⁻¹` (Seber & Wild, Nonlinear Regression, 1989, ch. 2).
///
/// Errors when a series does not fit the axis, has fewer than ten usable samples, or does not move.
pub fn fit_fopdt(data: DataSet<'_>) -> Result<FopdtModel> {
    let prepared = Prepared::new(data)?;
    let bounds = Bounds::of(&prepared.axis);
    let mut starts: Vec<Start> = prepared
        .coarse_searches()
        .iter()
        .flat_map(Prepared::coarse_minima)
        .flat_map(|start| prepared.linear_fits(start.time_constant(), start.dead_time()))
        .collect();
    starts.sort_by(|a, b| a.sum_of_squares.total_cmp(&b.sum_of_squares));
    starts.dedup_by(|a, b| a.is_near(b));
    let best = starts
        .iter()
        .take(STARTS)
        .filter_map(|start| prepared.refined(start, &bounds, TOLERANCE))
        .min_by(|a, b| a.sum_of_squares.total_cmp(&b.sum_of_squares))
        .ok_or_else(|| {
            Error::unfit("no model fits these data", "check that the OP and PV columns are the right ones")
        })?;
    Ok(prepared.model(&best, &bounds, data))
}

/// What the OP is taken to have been before the data.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Before {
    AtFirstValue,
    AtMean,
}

/// A point of the search.
#[derive(Debug, Clone)]
struct Start {
    unknowns: [f64; UNKNOWNS],
    before: Before,
    sum_of_squares: f64,
}

impl Start {
    fn time_constant(&self) -> f64 {
        self.unknowns[LOG_TIME_CONSTANT].exp()
    }

    fn dead_time(&self) -> f64 {
        self.unknowns[DEAD_TIME]
    }

    /// Whether a refinement from here and from `other` would go the same way.
    fn is_near(&self, other: &Self) -> bool {
        let scale = self.time_constant() + self.dead_time();
        self.before == other.before
            && (self.unknowns[LOG_TIME_CONSTANT] - other.unknowns[LOG_TIME_CONSTANT]).abs() < 0.1
            && (self.dead_time() - other.dead_time()).abs() < 0.1 * scale
    }
}

impl FopdtModel {
    /// The model as a process to be simulated.
    #[must_use]
    pub fn process(&self) -> ProcessSpec {
        ProcessSpec::Fopdt {
            gain: self.parameters.gain.value,
            time_constant: self.parameters.time_constant.value,
            dead_time: self.parameters.dead_time.value,
        }
    }

    /// The simulated PV at each sample of `axis` for this OP, in the record that the model was fitted to.
    pub fn simulate(&self, axis: &TimeAxis, input: &[f64]) -> Result<Vec<f64>> {
        let time_constant = check::positive("time_constant", self.parameters.time_constant.value, "s")?;
        let dead_time = DeadTime::new(self.parameters.dead_time.value)?;
        if axis.is_empty() {
            return Ok(Vec::new());
        }
        let input = held(input);
        let mut simulated = Vec::with_capacity(input.len());
        let mut pasts = Pasts::new(axis, time_constant, dead_time.seconds());
        first_order_response(axis, &input, time_constant, dead_time, |k, sample| {
            let past = pasts.at(k);
            let deviation = sample.value - self.operating.op + self.earlier_input * past.earlier;
            simulated
                .push(self.operating.pv + self.parameters.gain.value * deviation + self.transient * past.transient);
        });
        Ok(simulated)
    }
}

/// What is left, at a time after the start, of the unknown past.
#[derive(Debug, Clone, Copy, Default)]
struct Past {
    /// `exp(−t/τ)`: of the state at the start.
    transient: f64,
    /// Its derivative by ln τ.
    transient_by_log: f64,
    /// Of a unit input that was under way through the dead time: it acts from 0 to θ.
    earlier: f64,
    /// Its derivative by ln τ.
    earlier_by_log: f64,
    /// Its derivative by θ, per s.
    earlier_by_dead_time: f64,
}

impl Past {
    /// Time constants after which nothing is left in double precision.
    const FORGOTTEN: f64 = 40.0;
}

/// Walks through what is left of the past, sample by sample.
struct Pasts<'a> {
    axis: &'a TimeAxis,
    start: f64,
    dead_time: f64,
    /// The inverse of the time constant.
    rate: f64,
    /// The decay over one sample, where the samples are evenly spaced.
    decay: Option<f64>,
    transient: f64,
    released: f64,
}

impl<'a> Pasts<'a> {
    /// Samples after which the decays are computed afresh, before rounding adds up.
    const REFRESH: usize = 64;

    fn new(axis: &'a TimeAxis, time_constant: f64, dead_time: f64) -> Self {
        let rate = 1.0 / time_constant;
        let decay = match axis {
            TimeAxis::Uniform { interval, .. } => Some((-interval * rate).exp()),
            TimeAxis::Irregular(_) => None,
        };
        Self { axis, start: axis.at(0), dead_time, rate, decay, transient: 0.0, released: 0.0 }
    }

    /// At sample `k`; the samples are asked for one after the other.
    #[inline]
    fn at(&mut self, k: usize) -> Past {
        let time = self.axis.at(k) - self.start;
        let (age, since) = (time * self.rate, (time - self.dead_time) * self.rate);
        if since > Past::FORGOTTEN {
            return Past::default();
        }
        match self.decay {
            Some(decay) if self.released > 0.0 && !k.is_multiple_of(Self::REFRESH) => {
                self.transient *= decay;
                self.released *= decay;
            }
            _ => {
                self.transient = (-age).exp();
                self.released = if since < 0.0 { 0.0 } else { (-since).exp() };
            }
        }
        let transient_by_log = age * self.transient;
        let (earlier, earlier_by_log) = if since < 0.0 {
            (1.0 - self.transient, -transient_by_log)
        } else {
            (self.released - self.transient, since * self.released - transient_by_log)
        };
        Past {
            transient: self.transient,
            transient_by_log,
            earlier,
            earlier_by_log,
            earlier_by_dead_time: self.released * self.rate,
        }
    }
}

/// Missing inputs filled with the last known one, leading ones with the first.
fn held(input: &[f64]) -> Vec<f64> {
    let mut last = input.iter().copied().find(|value| value.is_finite()).unwrap_or(0.0);
    input
        .iter()
        .map(|value| {
            if value.is_finite() {
                last = *value;
            }
            last
        })
        .collect()
}

/// The range of dead time and time constant that data of this length can tell.
struct Bounds {
    dead_time: f64,
    log_time_constant: (f64, f64),
}

impl Bounds {
    fn of(axis: &TimeAxis) -> Self {
        let (interval, duration) = (axis.mean_interval(), axis.duration());
        Self { dead_time: 0.5 * duration, log_time_constant: ((0.05 * interval).ln(), (20.0 * duration).ln()) }
    }

    fn clamped(&self, unknowns: &[f64; UNKNOWNS]) -> [f64; UNKNOWNS] {
        let mut inside = *unknowns;
        let (low, high) = self.log_time_constant;
        inside[LOG_TIME_CONSTANT] = inside[LOG_TIME_CONSTANT].clamp(low, high);
        inside[DEAD_TIME] = inside[DEAD_TIME].clamp(0.0, self.dead_time);
        inside
    }

    /// The unknowns that stand at or beyond a bound.
    fn active(&self, unknowns: &[f64; UNKNOWNS]) -> Vec<usize> {
        let inside = self.clamped(unknowns);
        let at_dead_time = inside[DEAD_TIME] <= 0.0 || inside[DEAD_TIME] >= self.dead_time;
        let (low, high) = self.log_time_constant;
        let at_time_constant = inside[LOG_TIME_CONSTANT] <= low || inside[LOG_TIME_CONSTANT] >= high;
        [(LOG_TIME_CONSTANT, at_time_constant), (DEAD_TIME, at_dead_time)]
            .into_iter()
            .filter_map(|(index, active)| active.then_some(index))
            .collect()
    }

    /// Beyond a bound the residuals no longer change with the unknown, and the solver must see that.
    fn held(&self, unknowns: &[f64; UNKNOWNS], mut sums: NormalEquations<6>) -> NormalEquations<6> {
        let inside = self.clamped(unknowns);
        for index in [LOG_TIME_CONSTANT, DEAD_TIME] {
            if inside[index] != unknowns[index] {
                sums.hold(index);
            }
        }
        sums
    }
}

/// Data without gaps in the input, both series about their means.
struct Prepared {
    axis: TimeAxis,
    input: Vec<f64>,
    output: Vec<f64>,
    input_mean: f64,
    output_mean: f64,
    /// First value of the input, from its mean.
    first_input: f64,
    samples: usize,
}

impl Prepared {
    fn new(data: DataSet<'_>) -> Result<Self> {
        for (name, series) in [("OP", data.input), ("PV", data.output)] {
            if series.len() != data.axis.len() {
                return Err(Error::invalid(
                    format!("number of {name} samples"),
                    series.len(),
                    format!("{}, one for each time", data.axis.len()),
                ));
            }
        }
        let samples = data.output.iter().filter(|value| value.is_finite()).count();
        if samples < FEWEST_SAMPLES {
            return Err(Error::unfit(
                format!("only {samples} samples of the PV are usable"),
                format!("a fit needs at least {FEWEST_SAMPLES}"),
            ));
        }
        moves("OP", data.input, data.input_unit, "record a test in which it moves")?;
        moves("PV", data.output, data.output_unit, "check the transmitter and the choice of the column")?;
        let mut input = held(data.input);
        let input_mean = input.iter().sum::<f64>() / input.len() as f64;
        let output_mean = data.output.iter().filter(|value| value.is_finite()).sum::<f64>() / samples as f64;
        input.iter_mut().for_each(|value| *value -= input_mean);
        let output =
            data.output.iter().map(|value| if value.is_finite() { value - output_mean } else { f64::NAN }).collect();
        let first_input = input[0];
        Ok(Self { axis: data.axis.clone(), input, output, input_mean, output_mean, first_input, samples })
    }

    /// The data of the coarse searches: all of it in long blocks first, then ever shorter stretches in ever shorter ones.
    fn coarse_searches(&self) -> Vec<Self> {
        let mut searches = Vec::new();
        let mut block = self.input.len().div_ceil(COARSE_SAMPLES);
        loop {
            let stretch = self.liveliest(COARSE_SAMPLES * block);
            searches.push(self.averaged(stretch, block));
            if block == 1 {
                return searches;
            }
            block = block.div_ceil(COARSENING);
        }
    }

    /// The stretch of this many samples in which the input moves most.
    fn liveliest(&self, samples: usize) -> std::ops::Range<usize> {
        if samples >= self.input.len() {
            return 0..self.input.len();
        }
        let move_at = |k: usize| (self.input[k] - self.input[k - 1]).abs();
        let mut moves: f64 = (1..samples).map(move_at).sum();
        let (mut most, mut start) = (moves, 0);
        for end in samples..self.input.len() {
            moves += move_at(end) - move_at(end + 1 - samples);
            // What comes after the moves tells, not what comes before: of stretches with the same moves the last is taken.
            if moves >= most * (1.0 - 1e-12) {
                (most, start) = (moves.max(most), end + 1 - samples);
            }
        }
        start..start + samples
    }

    /// A stretch of the data, averaged in blocks.
    fn averaged(&self, stretch: std::ops::Range<usize>, block: usize) -> Self {
        let axis = self.axis.slice(stretch.clone());
        let mean = |chunk: &[f64]| {
            let finite = chunk.iter().filter(|value| value.is_finite());
            let (sum, count) = finite.fold((0.0, 0), |(sum, count), value| (sum + value, count + 1));
            if count == 0 { f64::NAN } else { sum / f64::from(count) }
        };
        let input: Vec<f64> = self.input[stretch.clone()].chunks_exact(block).map(mean).collect();
        let output = self.output[stretch].chunks_exact(block).map(mean).collect();
        let axis = match axis {
            TimeAxis::Uniform { interval, .. } => {
                TimeAxis::Uniform { interval: interval * block as f64, len: input.len() }
            }
            TimeAxis::Irregular(times) => {
                TimeAxis::Irregular(times.chunks_exact(block).map(|chunk| chunk[0]).collect())
            }
        };
        let first_input = input[0] - input.iter().sum::<f64>() / input.len() as f64;
        Self { axis, input, output, first_input, ..*self }
    }

    /// The least-squares minima of a coarse search, the best for either assumption on the past.
    fn coarse_minima(&self) -> Vec<Start> {
        let bounds = Bounds::of(&self.axis);
        let points = self.grid(&bounds);
        [Before::AtFirstValue, Before::AtMean]
            .into_iter()
            .filter_map(|before| {
                let starts = points.iter().filter(|point| point.before == before).take(GRID_STARTS);
                let minima = starts.filter_map(|start| self.refined(start, &bounds, COARSE_TOLERANCE));
                minima.min_by(|a, b| a.sum_of_squares.total_cmp(&b.sum_of_squares))
            })
            .collect()
    }

    /// The points of a grid over dead time and time constant, the best for each dead time, in rising order of the squares.
    fn grid(&self, bounds: &Bounds) -> Vec<Start> {
        let (interval, duration) = (self.axis.mean_interval(), self.axis.duration());
        let (fastest, slowest) = (0.5 * interval, 2.0 * duration);
        let mut points = Vec::with_capacity(2 * COARSE_DEAD_TIMES);
        for i in 0..COARSE_DEAD_TIMES {
            // Closer together towards 0, where most dead times are.
            let dead_time = bounds.dead_time * (i as f64 / COARSE_DEAD_TIMES as f64).powi(2);
            let row: Vec<Start> = (0..COARSE_TIME_CONSTANTS)
                .flat_map(|j| {
                    let share = j as f64 / (COARSE_TIME_CONSTANTS - 1) as f64;
                    self.linear_fits(fastest * (slowest / fastest).powf(share), dead_time)
                })
                .collect();
            for before in [Before::AtFirstValue, Before::AtMean] {
                let of_this = row.iter().filter(|point| point.before == before);
                points.extend(of_this.min_by(|a, b| a.sum_of_squares.total_cmp(&b.sum_of_squares)).cloned());
            }
        }
        points.sort_by(|a, b| a.sum_of_squares.total_cmp(&b.sum_of_squares));
        points
    }

    /// From the first value of the OP to what it is taken to have been before.
    fn earlier(&self, before: Before) -> f64 {
        match before {
            Before::AtFirstValue => 0.0,
            Before::AtMean => -self.first_input,
        }
    }

    /// The best linear unknowns for a given time constant and dead time, for either assumption on the past.
    fn linear_fits(&self, time_constant: f64, dead_time: f64) -> impl Iterator<Item = Start> {
        let mut sums = NormalEquations::<5>::default();
        self.walk(time_constant, dead_time, 0.0, |sample, past, output| {
            sums.add(&[sample.value, past.earlier, 1.0, past.transient, output]);
        });
        [Before::AtFirstValue, Before::AtMean].into_iter().filter_map(move |before| {
            let response = [1.0, self.earlier(before), 0.0, 0.0, 0.0];
            let others = [[0.0, 0.0, 1.0, 0.0, 0.0], [0.0, 0.0, 0.0, 1.0, 0.0], [0.0, 0.0, 0.0, 0.0, 1.0]];
            let ([gain, offset, transient], sum_of_squares) =
                sums.transformed(&[response, others[0], others[1], others[2]]).linear_solution::<3>()?;
            Some(Start { unknowns: [gain, offset, transient, time_constant.ln(), dead_time], before, sum_of_squares })
        })
    }

    /// The minimum that is reached from `start`.
    fn refined(&self, start: &Start, bounds: &Bounds, tolerance: f64) -> Option<Start> {
        let earlier = self.earlier(start.before);
        let outcome = minimise(start.unknowns, tolerance, |p| {
            Some(bounds.held(p, self.sums(&bounds.clamped(p), earlier)).compress())
        });
        let unknowns = bounds.clamped(&outcome.parameters);
        let sum_of_squares = outcome.sum_of_squares;
        sum_of_squares.is_finite().then_some(Start { unknowns, before: start.before, sum_of_squares })
    }

    /// The normal equations at these unknowns.
    fn sums(&self, unknowns: &[f64; UNKNOWNS], earlier: f64) -> NormalEquations<6> {
        let [gain, offset, transient, log_time_constant, dead_time] = *unknowns;
        let time_constant = log_time_constant.exp();
        let mut sums = NormalEquations::default();
        self.walk(time_constant, dead_time, earlier, |sample, past, output| {
            sums.add(&[
                sample.value,
                1.0,
                past.transient,
                gain * sample.by_time_constant * time_constant + transient * past.transient_by_log,
                gain * sample.by_dead_time,
                gain * sample.value + offset + transient * past.transient - output,
            ]);
        });
        sums
    }

    /// Visits every usable sample: response to the OP, what remains of the past, measured output.
    fn walk(
        &self,
        time_constant: f64,
        dead_time: f64,
        earlier: f64,
        mut visit: impl FnMut(FirstOrderSample, Past, f64),
    ) {
        let Ok(theta) = DeadTime::new(dead_time) else { return };
        let mut pasts = Pasts::new(&self.axis, time_constant, dead_time);
        let rate = 1.0 / time_constant;
        first_order_response(&self.axis, &self.input, time_constant, theta, |k, mut sample| {
            let past = pasts.at(k);
            let output = self.output[k];
            if output.is_finite() {
                sample.value += earlier * past.earlier;
                sample.by_time_constant += earlier * past.earlier_by_log * rate;
                sample.by_dead_time += earlier * past.earlier_by_dead_time;
                visit(sample, past, output);
            }
        });
    }

    fn model(&self, best: &Start, bounds: &Bounds, data: DataSet<'_>) -> FopdtModel {
        let unknowns = best.unknowns;
        let earlier = self.earlier(best.before);
        let held = bounds.active(&unknowns);
        let sums = self.sums(&unknowns, earlier);
        let freedom = (self.samples - (UNKNOWNS - held.len())).max(1);
        let variance = sums.sum_of_squares() / freedom as f64;
        let covariance = sums.inverse::<UNKNOWNS>(&held);
        let error = |index: usize, scale: f64| {
            let known = covariance.as_ref().filter(|_| !held.contains(&index))?;
            Some((known[(index, index)] * variance).sqrt() * scale)
        };
        let time_constant = unknowns[LOG_TIME_CONSTANT].exp();
        let total: f64 = self.output.iter().filter(|value| value.is_finite()).map(|value| value * value).sum();
        let estimate = |value, standard_error, unit: &str| Estimate { value, standard_error, unit: unit.to_owned() };
        let resting_input = self.first_input;
        let mut model = FopdtModel {
            structure: Structure::Fopdt,
            parameters: FopdtParameters {
                gain: estimate(unknowns[GAIN], error(GAIN, 1.0), &format!("{}/{}", data.output_unit, data.input_unit)),
                time_constant: estimate(time_constant, error(LOG_TIME_CONSTANT, time_constant), "s"),
                dead_time: estimate(unknowns[DEAD_TIME], error(DEAD_TIME, 1.0), "s"),
            },
            operating: Operating {
                op: resting_input + self.input_mean,
                pv: self.output_mean + unknowns[OFFSET] + unknowns[GAIN] * resting_input,
            },
            transient: unknowns[TRANSIENT],
            earlier_input: earlier,
            fit_percent: 100.0 * (1.0 - (sums.sum_of_squares() / total).sqrt()),
            residual_deviation: variance.sqrt(),
            residual_correlation: lag_one_correlation(&self.residuals(&unknowns, earlier)),
            samples: self.samples,
            verdicts: Vec::new(),
        };
        model.verdicts = self.judge(&model, data);
        model
    }

    fn residuals(&self, unknowns: &[f64; UNKNOWNS], earlier: f64) -> Vec<f64> {
        let [gain, offset, transient, log_time_constant, dead_time] = *unknowns;
        let mut residuals = Vec::with_capacity(self.samples);
        self.walk(log_time_constant.exp(), dead_time, earlier, |sample, past, output| {
            residuals.push(gain * sample.value + offset + transient * past.transient - output);
        });
        residuals
    }

    fn judge(&self, model: &FopdtModel, data: DataSet<'_>) -> Vec<Verdict> {
        let mut verdicts = Vec::new();
        let (gain, tau) = (&model.parameters.gain, model.parameters.time_constant.value);
        let duration = self.axis.duration();
        if tau > duration {
            verdicts.push(Verdict::new(
                Tone::Bad,
                format!(
                    "The time constant of {} is longer than the record of {}: the process looks integrating here, and gain and \
                     time constant are known only by their ratio.",
                    readable_duration(tau),
                    readable_duration(duration)
                ),
                "a time constant must fit into the record (common practice)",
            ));
        }
        let range = |series: &[f64]| {
            let finite = series.iter().filter(|value| value.is_finite());
            finite.fold((f64::MAX, f64::MIN), |(low, high), value| (low.min(*value), high.max(*value)))
        };
        let (low, high) = range(&self.input);
        let lifts = (gain.value * (high - low)).abs() / model.residual_deviation.max(f64::MIN_POSITIVE);
        if lifts < 4.0 {
            verdicts.push(Verdict::new(
                Tone::Bad,
                format!(
                    "The move of {} {} lifts the PV by {} times the noise: repeat it with at least {} {}.",
                    readable(high - low),
                    data.input_unit,
                    readable(lifts),
                    readable(4.0 * (high - low) / lifts.max(0.1)),
                    data.input_unit
                ),
                "a move should lift the PV by at least 4 times the noise (common practice)",
            ));
        }
        let named = [
            ("gain", &model.parameters.gain),
            ("time constant", &model.parameters.time_constant),
            ("dead time", &model.parameters.dead_time),
        ];
        for (name, estimate) in named {
            match estimate.standard_error {
                None if name == "dead time" && estimate.value == 0.0 => verdicts.push(Verdict::new(
                    Tone::Caution,
                    "The best dead time is 0: the data show none.",
                    "dead time is 0 or more",
                )),
                None => verdicts.push(Verdict::new(
                    Tone::Bad,
                    format!("The data do not determine the {name}."),
                    "a parameter at its bound, or without effect on the output",
                )),
                Some(error) if name != "dead time" && error > 0.25 * estimate.value.abs() => {
                    verdicts.push(Verdict::new(
                        Tone::Caution,
                        format!(
                            "The {name} is poorly known: {} ± {} {}.",
                            readable(estimate.value),
                            readable(error),
                            estimate.unit
                        ),
                        "standard error above a quarter of the value",
                    ));
                }
                Some(_) => {}
            }
        }
        let correlation = model.residual_correlation;
        if correlation > 0.3 {
            // For a first-order autoregression the variance of a mean is (1+ρ)/(1−ρ) times that of white noise.
            let factor = ((1.0 + correlation) / (1.0 - correlation).max(0.01)).sqrt();
            verdicts.push(Verdict::new(
                Tone::Caution,
                format!(
                    "Neighbouring residuals are correlated ({}): the standard errors are too small by a factor of up to about {}.",
                    readable(correlation),
                    readable(factor)
                ),
                "standard errors assume white residuals; √((1+ρ)/(1−ρ)) for correlation ρ",
            ));
        }
        if verdicts.is_empty() {
            verdicts.push(Verdict::new(
                Tone::Good,
                format!(
                    "The model explains {} % of the PV's swing; what is left ({} {}) is noise without memory.",
                    readable(model.fit_percent),
                    readable(model.residual_deviation),
                    data.output_unit
                ),
                "fit of the simulated output; correlation of neighbouring residuals below 0.3",
            ));
        }
        verdicts
    }
}

/// Refuses a series that stands still.
fn moves(name: &str, series: &[f64], unit: &str, remedy: &str) -> Result<()> {
    let mut finite = series.iter().filter(|value| value.is_finite());
    let Some(first) = finite.next() else {
        return Err(Error::unfit(format!("the {name} has no usable sample"), remedy));
    };
    if finite.all(|value| value == first) {
        let shown = if unit.is_empty() { readable(*first) } else { format!("{} {unit}", readable(*first)) };
        return Err(Error::unfit(format!("the {name} never moves, it stands at {shown}"), remedy));
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use rand::SeedableRng;
    use rand_chacha::ChaCha8Rng;
    use rand_distr::{Distribution, StandardNormal};

    /// Data of a known model by the analytic step response, not by the code under test.
    fn step_test(gain: f64, tau: f64, theta: f64, noise: f64, seed: u64) -> (TimeAxis, Vec<f64>, Vec<f64>) {
        let mut generator = ChaCha8Rng::seed_from_u64(seed);
        let steps = [(60.0, 5.0), (400.0, -8.0)];
        let axis = TimeAxis::uniform(1.0, 800).unwrap();
        let mut series = (Vec::new(), Vec::new());
        for k in 0..800 {
            let t = axis.at(k);
            let deviate: f64 = StandardNormal.sample(&mut generator);
            series.0.push(40.0 + steps.iter().filter(|step| t >= step.0).map(|step| step.1).sum::<f64>());
            let response: f64 = steps
                .iter()
                .filter(|step| t > step.0 + theta)
                .map(|step| step.1 * (1.0 - (-(t - step.0 - theta) / tau).exp()))
                .sum();
            series.1.push(75.0 + gain * response + noise * deviate);
        }
        (axis, series.0, series.1)
    }

    fn fit(axis: &TimeAxis, input: &[f64], output: &[f64]) -> FopdtModel {
        fit_fopdt(DataSet { axis, input, output, input_unit: "%", output_unit: "°C" }).unwrap()
    }

    #[test]
    fn recovers_an_exact_model_with_fractional_dead_time() {
        for (gain, tau, theta) in [(1.2, 70.0, 23.37), (-0.4, 8.0, 0.0), (3.0, 150.0, 61.9), (0.5, 2.0, 100.5)] {
            let (axis, input, output) = step_test(gain, tau, theta, 0.0, 0);
            let model = fit(&axis, &input, &output);
            let p = &model.parameters;
            assert!((p.gain.value / gain - 1.0).abs() < 1e-6, "{gain} {tau} {theta}: {p:?}");
            assert!((p.time_constant.value / tau - 1.0).abs() < 1e-6, "{gain} {tau} {theta}: {p:?}");
            assert!((p.dead_time.value - theta).abs() < 1e-5, "{gain} {tau} {theta}: {p:?}");
            assert!((model.operating.pv - 75.0).abs() < 1e-6 && model.operating.op == 40.0);
            assert!(model.fit_percent > 99.999);
        }
    }

    #[test]
    fn standard_errors_are_the_spread_over_repetitions() {
        let (gain, tau, theta) = (1.2, 40.0, 15.4);
        let fits: Vec<FopdtModel> = (0..100)
            .map(|seed| {
                let (axis, input, output) = step_test(gain, tau, theta, 0.5, seed);
                fit(&axis, &input, &output)
            })
            .collect();
        for (index, truth) in [gain, tau, theta].into_iter().enumerate() {
            let estimates = fits.iter().map(|model| {
                let FopdtParameters { gain, time_constant, dead_time } = &model.parameters;
                [gain, time_constant, dead_time][index]
            });
            let spread = (estimates.clone().map(|p| (p.value - truth).powi(2)).sum::<f64>() / 100.0).sqrt();
            let claimed = estimates.map(|p| p.standard_error.unwrap()).sum::<f64>() / 100.0;
            // The spread of 100 repetitions is itself known to 7 %: three of these.
            assert!((spread / claimed - 1.0).abs() < 0.22, "parameter {index}: spread {spread}, claimed {claimed}");
        }
    }

    #[test]
    fn a_single_step_is_not_explained_by_the_past() {
        // An input before the record, a dead time of 112.5 s ago, would explain this response just as well.
        let axis = TimeAxis::uniform(1.0, 600).unwrap();
        let input: Vec<f64> = (0..600).map(|k| if k < 100 { 50.0 } else { 60.0 }).collect();
        let since = |k: usize| axis.at(k) - 112.5;
        let output: Vec<f64> = (0..600)
            .map(|k| 80.0 + if since(k) > 0.0 { 12.0 * (1.0 - (-since(k) / 40.0).exp()) } else { 0.0 })
            .collect();
        let model = fit(&axis, &input, &output);
        assert!((model.parameters.gain.value - 1.2).abs() < 1e-6, "{model:?}");
        assert!((model.parameters.dead_time.value - 12.5).abs() < 1e-6 && model.earlier_input == 0.0);
    }

    #[test]
    fn a_fast_process_is_found_in_a_long_record() {
        // Blocks of all data are far longer here than dead time and time constant, and the input is periodic.
        let axis = TimeAxis::uniform(1.0, 200_000).unwrap();
        let input: Vec<f64> = (0..200_000).map(|k| if k / 97 % 2 == 1 { 55.0 } else { 45.0 }).collect();
        let mut generator = ChaCha8Rng::seed_from_u64(9);
        let mut output = Vec::new();
        first_order_response(&axis, &input, 40.0, DeadTime::new(12.37).unwrap(), |_, sample| {
            let deviate: f64 = StandardNormal.sample(&mut generator);
            output.push(20.0 + 1.2 * sample.value + 0.3 * deviate);
        });
        let p = fit(&axis, &input, &output).parameters;
        for (estimate, truth) in [(&p.gain, 1.2), (&p.time_constant, 40.0), (&p.dead_time, 12.37)] {
            assert!((estimate.value - truth).abs() < 4.0 * estimate.standard_error.unwrap(), "{p:?}");
        }
    }

    #[test]
    fn missing_samples_and_a_start_in_motion_do_no_harm() {
        let (axis, mut input, mut output) = step_test(1.2, 70.0, 23.37, 0.0, 0);
        for k in (0..800).step_by(7) {
            output[k] = f64::NAN;
        }
        input[200..210].fill(f64::NAN);
        for (k, value) in output.iter_mut().enumerate() {
            *value += 3.0 * (-axis.at(k) / 70.0).exp();
        }
        let model = fit(&axis, &input, &output);
        assert!((model.parameters.gain.value - 1.2).abs() < 1e-5, "{model:?}");
        assert!((model.parameters.dead_time.value - 23.37).abs() < 1e-4);
        assert!((model.transient - 3.0).abs() < 1e-4);
        assert_eq!(model.samples, 800 - 115);
    }

    #[test]
    fn irregular_samples_give_the_same_model() {
        let (axis, input, output) = step_test(1.2, 70.0, 23.37, 0.0, 0);
        let kept: Vec<usize> =
            (0..800).filter(|k| (59..62).contains(k) || (399..402).contains(k) || k * k % 5 != 1).collect();
        let times: Vec<f64> = kept.iter().map(|k| axis.at(*k)).collect();
        let pick = |series: &[f64]| -> Vec<f64> { kept.iter().map(|k| series[*k]).collect() };
        let model = fit(&TimeAxis::from_times(&times).unwrap(), &pick(&input), &pick(&output));
        assert!((model.parameters.dead_time.value - 23.37).abs() < 1e-4, "{model:?}");
        assert!((model.parameters.time_constant.value - 70.0).abs() < 1e-3);
    }

    #[test]
    fn data_that_cannot_answer_say_why() {
        let refused = |input: &[f64], output: &[f64]| {
            let axis = TimeAxis::uniform(1.0, input.len()).unwrap();
            fit_fopdt(DataSet { axis: &axis, input, output, input_unit: "%", output_unit: "°C" })
                .unwrap_err()
                .to_string()
        };
        let moving: Vec<f64> = (0..20).map(f64::from).collect();
        assert_eq!(
            refused(&[45.0; 20], &moving),
            "the OP never moves, it stands at 45 %: record a test in which it moves"
        );
        assert!(refused(&moving, &[3.0; 20]).starts_with("the PV never moves, it stands at 3 °C"));
        assert!(refused(&moving[..4], &moving[..4]).starts_with("only 4 samples"));
        assert!(refused(&moving, &[f64::NAN; 20]).starts_with("only 0 samples"));
        assert!(refused(&moving, &moving[..3]).starts_with("number of PV samples is 3"));
    }

    #[test]
    fn noise_alone_is_called_so() {
        let (axis, input, output) = step_test(0.02, 40.0, 10.0, 1.0, 3);
        let model = fit(&axis, &input, &output);
        assert!(model.verdicts.iter().any(|verdict| verdict.text.contains("times the noise")), "{:?}", model.verdicts);
    }
}
