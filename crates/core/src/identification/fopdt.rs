//! First order plus dead time by output-error least squares, the dead time not rounded to the sample.

use super::lag_one_correlation;
use crate::lti::{DeadTime, FirstOrderSample, first_order_response};
use crate::numerics::{NormalEquations, Outcome, minimise};
use crate::process::ProcessSpec;
use crate::series::TimeAxis;
use crate::verdict::{Tone, Verdict, readable, readable_duration};
use crate::{Error, Result, check};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Fewest samples that a fit is made on: twice the number of unknowns.
const FEWEST_SAMPLES: usize = 10;
/// Samples of the coarse search; longer records are averaged in blocks for it.
const COARSE_SAMPLES: usize = 500;
const COARSE_DEAD_TIMES: usize = 24;
const COARSE_TIME_CONSTANTS: usize = 12;
/// How many of the best coarse points are refined.
const STARTS: usize = 4;

/// Positions of the unknowns.
const GAIN: usize = 0;
const OFFSET: usize = 1;
const TRANSIENT: usize = 2;
const EARLIER: usize = 3;
const LOG_TIME_CONSTANT: usize = 4;
const DEAD_TIME: usize = 5;
const UNKNOWNS: usize = 6;

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
    /// How far the OP stood from its first value during the dead time before the data, in its unit.
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

/// Fits gain, time constant and dead time by least squares of the simulated output, and with them what is unknown of the
/// start: the offset, the transient of earlier moves, and the input that was still under way through the dead time.
///
/// A grid over dead time and time constant, on which the others follow by linear least squares, gives the starts;
/// the best are refined by Levenberg–Marquardt over all six with exact derivatives. Standard errors are those of
/// non-linear least squares for white residuals, `σ²(JᵀJ)⁻¹` (Seber & Wild, Nonlinear Regression, 1989, ch. 2).
///
/// Errors when a series does not fit the axis, has fewer than ten usable samples, or does not move.
pub fn fit_fopdt(data: DataSet<'_>) -> Result<FopdtModel> {
    let prepared = Prepared::new(data)?;
    let coarse = prepared.averaged(COARSE_SAMPLES);
    let bounds = Bounds::of(&prepared.axis);
    let best = coarse
        .starts(&bounds)
        .into_iter()
        .map(|start| minimise(start, |p| Some(bounds.held(p, prepared.sums(&bounds.clamped(p))).compress())))
        .filter(|outcome| outcome.sum_of_squares.is_finite())
        .min_by(|a, b| a.sum_of_squares.total_cmp(&b.sum_of_squares))
        .ok_or_else(|| {
            Error::unfit("no model fits these data", "check that the OP and PV columns are the right ones")
        })?;
    Ok(prepared.model(&best, &bounds, data))
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
        let input = held(input);
        let mut simulated = Vec::with_capacity(input.len());
        first_order_response(axis, &input, time_constant, dead_time, |k, sample| {
            let start = Start::at(axis.at(k) - axis.at(0), time_constant, dead_time.seconds());
            let deviation = sample.value - self.operating.op + self.earlier_input * start.earlier;
            simulated
                .push(self.operating.pv + self.parameters.gain.value * deviation + self.transient * start.transient);
        });
        Ok(simulated)
    }
}

/// What is left, at a time after the start, of the unknown past.
#[derive(Debug, Clone, Copy, Default)]
struct Start {
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

impl Start {
    /// Time constants after which nothing is left in double precision.
    const FORGOTTEN: f64 = 40.0;

    #[inline]
    fn at(time: f64, time_constant: f64, dead_time: f64) -> Self {
        let (age, since) = (time / time_constant, (time - dead_time) / time_constant);
        if since > Self::FORGOTTEN {
            return Self::default();
        }
        let transient = (-age).exp();
        let transient_by_log = age * transient;
        if since < 0.0 {
            return Self {
                transient,
                transient_by_log,
                earlier: 1.0 - transient,
                earlier_by_log: -transient_by_log,
                earlier_by_dead_time: 0.0,
            };
        }
        let released = (-since).exp();
        Self {
            transient,
            transient_by_log,
            earlier: released - transient,
            earlier_by_log: since * released - transient_by_log,
            earlier_by_dead_time: released / time_constant,
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
    fn held(&self, unknowns: &[f64; UNKNOWNS], mut sums: NormalEquations<7>) -> NormalEquations<7> {
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
        Ok(Self { axis: data.axis.clone(), input, output, input_mean, output_mean, samples })
    }

    /// The same data averaged in blocks, so that at most `most` samples remain.
    fn averaged(&self, most: usize) -> Self {
        let block = self.input.len().div_ceil(most);
        if block == 1 {
            return Self { axis: self.axis.clone(), input: self.input.clone(), output: self.output.clone(), ..*self };
        }
        let input: Vec<f64> =
            self.input.chunks_exact(block).map(|chunk| chunk.iter().sum::<f64>() / block as f64).collect();
        let output = self
            .output
            .chunks_exact(block)
            .map(|chunk| {
                let (sum, count) = chunk
                    .iter()
                    .filter(|value| value.is_finite())
                    .fold((0.0, 0), |(sum, count), value| (sum + value, count + 1));
                if count == 0 { f64::NAN } else { sum / f64::from(count) }
            })
            .collect();
        let axis = match &self.axis {
            TimeAxis::Uniform { interval, .. } => {
                TimeAxis::Uniform { interval: interval * block as f64, len: input.len() }
            }
            TimeAxis::Irregular(times) => {
                TimeAxis::Irregular(times.chunks_exact(block).map(|chunk| chunk[0]).collect())
            }
        };
        Self { axis, input, output, ..*self }
    }

    /// The best points of a grid over dead time and time constant, one a dead time.
    fn starts(&self, bounds: &Bounds) -> Vec<[f64; UNKNOWNS]> {
        let (interval, duration) = (self.axis.mean_interval(), self.axis.duration());
        let (fastest, slowest) = (0.5 * interval, 2.0 * duration);
        let mut candidates: Vec<(f64, [f64; UNKNOWNS])> = (0..COARSE_DEAD_TIMES)
            .filter_map(|i| {
                // Closer together towards 0, where most dead times are.
                let dead_time = bounds.dead_time * (i as f64 / COARSE_DEAD_TIMES as f64).powi(2);
                (0..COARSE_TIME_CONSTANTS)
                    .filter_map(|j| {
                        let share = j as f64 / (COARSE_TIME_CONSTANTS - 1) as f64;
                        let time_constant = fastest * (slowest / fastest).powf(share);
                        let (linear, rest) = self.linear_fit(time_constant, dead_time)?;
                        let [gain, offset, transient, earlier] = linear;
                        Some((rest, [gain, offset, transient, earlier, time_constant.ln(), dead_time]))
                    })
                    .min_by(|a, b| a.0.total_cmp(&b.0))
            })
            .collect();
        candidates.sort_by(|a, b| a.0.total_cmp(&b.0));
        candidates.into_iter().take(STARTS).map(|candidate| candidate.1).collect()
    }

    /// The linear unknowns for a given time constant and dead time, and the sum of squares that remains.
    fn linear_fit(&self, time_constant: f64, dead_time: f64) -> Option<([f64; 4], f64)> {
        let mut sums = NormalEquations::<5>::default();
        self.walk(time_constant, dead_time, |sample, start, output| {
            sums.add(&[sample.value, 1.0, start.transient, start.earlier, output]);
        });
        sums.linear_solution::<4>()
    }

    /// The normal equations at these unknowns.
    fn sums(&self, unknowns: &[f64; UNKNOWNS]) -> NormalEquations<7> {
        let [gain, offset, transient, earlier, log_time_constant, dead_time] = *unknowns;
        let time_constant = log_time_constant.exp();
        let mut sums = NormalEquations::default();
        self.walk(time_constant, dead_time, |sample, start, output| {
            sums.add(&[
                sample.value,
                1.0,
                start.transient,
                start.earlier,
                gain * sample.by_time_constant * time_constant
                    + transient * start.transient_by_log
                    + earlier * start.earlier_by_log,
                gain * sample.by_dead_time + earlier * start.earlier_by_dead_time,
                gain * sample.value + offset + transient * start.transient + earlier * start.earlier - output,
            ]);
        });
        sums
    }

    /// Visits every usable sample: forced response, what remains of the start, measured output.
    fn walk(&self, time_constant: f64, dead_time: f64, mut visit: impl FnMut(FirstOrderSample, Start, f64)) {
        let Ok(theta) = DeadTime::new(dead_time) else { return };
        let first = self.axis.at(0);
        first_order_response(&self.axis, &self.input, time_constant, theta, |k, sample| {
            let output = self.output[k];
            if output.is_finite() {
                visit(sample, Start::at(self.axis.at(k) - first, time_constant, dead_time), output);
            }
        });
    }

    fn model(&self, best: &Outcome<UNKNOWNS>, bounds: &Bounds, data: DataSet<'_>) -> FopdtModel {
        let unknowns = bounds.clamped(&best.parameters);
        let held = bounds.active(&unknowns);
        let sums = self.sums(&unknowns);
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
        let resting_input = self.input[0];
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
            earlier_input: if unknowns[GAIN] == 0.0 { 0.0 } else { unknowns[EARLIER] / unknowns[GAIN] },
            fit_percent: 100.0 * (1.0 - (sums.sum_of_squares() / total).sqrt()),
            residual_deviation: variance.sqrt(),
            residual_correlation: lag_one_correlation(&self.residuals(&unknowns)),
            samples: self.samples,
            verdicts: Vec::new(),
        };
        model.verdicts = self.judge(&model, data);
        model
    }

    fn residuals(&self, unknowns: &[f64; UNKNOWNS]) -> Vec<f64> {
        let [gain, offset, transient, earlier, log_time_constant, dead_time] = *unknowns;
        let mut residuals = Vec::with_capacity(self.samples);
        self.walk(log_time_constant.exp(), dead_time, |sample, start, output| {
            let model = gain * sample.value + offset + transient * start.transient + earlier * start.earlier;
            residuals.push(model - output);
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
        let parts: [(&str, f64, fn(&FopdtModel) -> &Estimate); 3] = [
            ("gain", gain, |model| &model.parameters.gain),
            ("time constant", tau, |model| &model.parameters.time_constant),
            ("dead time", theta, |model| &model.parameters.dead_time),
        ];
        for (name, truth, part) in parts {
            let spread = (fits.iter().map(|model| (part(model).value - truth).powi(2)).sum::<f64>() / 100.0).sqrt();
            let claimed = fits.iter().map(|model| part(model).standard_error.unwrap()).sum::<f64>() / 100.0;
            // The spread of 100 repetitions is itself known to 7 %: three of these.
            assert!((spread / claimed - 1.0).abs() < 0.22, "{name}: spread {spread}, claimed {claimed}");
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
