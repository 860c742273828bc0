//! First order plus dead time by output-error least squares, the dead time not rounded to the sample.

mod data;
mod past;
mod search;
#[cfg(test)]
mod tests;
mod verdicts;

use crate::lti::{DeadTime, first_order_response};
use crate::process::ProcessSpec;
use crate::series::TimeAxis;
use crate::verdict::Verdict;
use crate::{Result, check};
use data::{Prepared, held};
use past::Pasts;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

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
    let best = prepared.best()?;
    Ok(prepared.model(&best, data))
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

    /// The unit of the PV in which the model was fitted; empty where none was given.
    #[must_use]
    pub fn output_unit(&self) -> &str {
        // The gain is in PV units per OP unit, and units may hold a slash of their own: `t/h/%`.
        self.parameters.gain.unit.rsplit_once('/').map_or("", |(output, _)| output)
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
