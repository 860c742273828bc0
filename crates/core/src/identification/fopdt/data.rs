//! A record made ready for the fit, and its residuals with their derivatives at given unknowns.

use super::past::{Past, Pasts};
use super::search::{Before, Bounds, Start};
use super::{DataSet, Estimate, FopdtModel, FopdtParameters, Operating, Structure};
use crate::identification::lag_one_correlation;
use crate::lti::{DeadTime, FirstOrderSample, first_order_response};
use crate::numerics::NormalEquations;
use crate::series::TimeAxis;
use crate::verdict::readable;
use crate::{Error, Result};

/// Fewest samples that a fit is made on: twice the number of unknowns.
const FEWEST_SAMPLES: usize = 10;
/// Positions of the unknowns.
pub(super) const GAIN: usize = 0;
pub(super) const OFFSET: usize = 1;
pub(super) const TRANSIENT: usize = 2;
pub(super) const LOG_TIME_CONSTANT: usize = 3;
pub(super) const DEAD_TIME: usize = 4;
pub(super) const UNKNOWNS: usize = 5;

/// Data without gaps in the input, both series about their means.
pub(super) struct Prepared {
    pub(super) axis: TimeAxis,
    pub(super) input: Vec<f64>,
    pub(super) output: Vec<f64>,
    pub(super) input_mean: f64,
    pub(super) output_mean: f64,
    /// First value of the input, from its mean.
    pub(super) first_input: f64,
    pub(super) samples: usize,
}

impl Prepared {
    pub(super) fn new(data: DataSet<'_>) -> Result<Self> {
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

    /// From the first value of the OP to what it is taken to have been before.
    pub(super) fn earlier(&self, before: Before) -> f64 {
        match before {
            Before::AtFirstValue => 0.0,
            Before::AtMean => -self.first_input,
        }
    }

    /// The best linear unknowns for a given time constant and dead time, for either assumption on the past.
    pub(super) fn linear_fits(&self, time_constant: f64, dead_time: f64) -> impl Iterator<Item = Start> {
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

    /// The normal equations at these unknowns.
    pub(super) fn sums(&self, unknowns: &[f64; UNKNOWNS], earlier: f64) -> NormalEquations<6> {
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
    pub(super) fn walk(
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

    pub(super) fn model(&self, best: &Start, data: DataSet<'_>) -> FopdtModel {
        let unknowns = best.unknowns;
        let earlier = self.earlier(best.before);
        let held = Bounds::of(&self.axis).active(&unknowns);
        let sums = self.sums(&unknowns, earlier);
        let freedom = (self.samples - (UNKNOWNS - held.len())).max(1);
        let variance = sums.sum_of_squares() / freedom as f64;
        let covariance = sums.inverse::<UNKNOWNS>(&held);
        let error = |index: usize, scale: f64| {
            // With the time constant at a bound, only its ratio to the gain is known.
            let tied = index == GAIN && held.contains(&LOG_TIME_CONSTANT);
            let known = covariance.as_ref().filter(|_| !held.contains(&index) && !tied)?;
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

    pub(super) fn residuals(&self, unknowns: &[f64; UNKNOWNS], earlier: f64) -> Vec<f64> {
        let [gain, offset, transient, log_time_constant, dead_time] = *unknowns;
        let mut residuals = Vec::with_capacity(self.samples);
        self.walk(log_time_constant.exp(), dead_time, earlier, |sample, past, output| {
            residuals.push(gain * sample.value + offset + transient * past.transient - output);
        });
        residuals
    }
}

/// Missing inputs filled with the last known one, leading ones with the first.
pub(super) fn held(input: &[f64]) -> Vec<f64> {
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
