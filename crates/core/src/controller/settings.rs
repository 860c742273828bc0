//! The settings of a PID controller in the ideal (standard) form.

use super::{FeedForward, GainSchedule};
use crate::{Error, Result, check};
use num_complex::Complex64;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Which way the output goes when the PV rises.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Action {
    /// The output falls when the PV rises: for a process with positive gain.
    #[default]
    Reverse,
    /// The output rises when the PV rises: for a process with negative gain.
    Direct,
}

impl Action {
    /// The action that closes the loop negatively around a process of this gain.
    #[must_use]
    pub fn for_gain(process_gain: f64) -> Self {
        if process_gain < 0.0 { Self::Direct } else { Self::Reverse }
    }

    /// 1 or −1: which way the output goes when the error rises.
    #[must_use]
    pub fn sign(self) -> f64 {
        match self {
            Self::Reverse => 1.0,
            Self::Direct => -1.0,
        }
    }
}

/// Limits of the output, in %.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct OutputLimits {
    /// Lowest output in %.
    pub low: f64,
    /// Highest output in %; above `low`.
    pub high: f64,
}

impl OutputLimits {
    /// Refuses limits that leave no room.
    pub(super) fn validate(self) -> Result<()> {
        let Self { low, high } = self;
        check::within("controller.output_limits.low", low, -1000.0, 1000.0, "%")?;
        check::within("controller.output_limits.high", high, -1000.0, 1000.0, "%")?;
        if high <= low {
            return Err(Error::invalid(
                "controller.output_limits.high",
                format!("{high} %"),
                format!("above the low limit, {low} %"),
            ));
        }
        Ok(())
    }
}

impl Default for OutputLimits {
    fn default() -> Self {
        Self { low: 0.0, high: 100.0 }
    }
}

/// Settings of a PID controller: ideal form, % of span.
///
/// `u = Kc (b·r − y + 1/Ti ∫(r − y) dt + Td d(c·r − y)_f/dt)`, with `( )_f` behind a lag of `Td/N`
/// (Åström & Hägglund, Advanced PID Control, 2006, ch. 3 and 13).
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct PidSettings {
    /// Controller gain Kc, % of OP per % of PV span; above 0, its direction is `action`.
    #[schema(exclusive_minimum = 0)]
    pub gain: f64,
    /// Integral time Ti in s, above 0; null switches integration off.
    #[schema(exclusive_minimum = 0)]
    pub integral_time: Option<f64>,
    /// Derivative time Td in s, 0 or more; 0 switches the derivative off.
    #[serde(default)]
    #[schema(minimum = 0)]
    pub derivative_time: f64,
    /// Derivative filter N: the derivative is filtered with a lag of Td/N; 1 to 100.
    #[serde(default = "default_derivative_filter")]
    #[schema(minimum = 1, maximum = 100)]
    pub derivative_filter: f64,
    /// Set point weight b of the proportional term, 0 to 1.
    #[serde(default = "default_set_point_weight")]
    #[schema(minimum = 0, maximum = 1)]
    pub set_point_weight: f64,
    /// Direction of action.
    #[serde(default)]
    pub action: Action,
    /// Limits of the output.
    #[serde(default)]
    pub output_limits: OutputLimits,
    /// Tracking time Tt of back-calculation in s, above 0; null takes √(Ti·Td), or Ti without derivative.
    #[serde(default)]
    #[schema(exclusive_minimum = 0)]
    pub tracking_time: Option<f64>,
    /// Set point weight c of the derivative, 0 to 1: 0 is derivative on PV, 1 is derivative on error.
    #[serde(default)]
    #[schema(minimum = 0, maximum = 1)]
    pub derivative_set_point_weight: f64,
    /// Time constant in s of a first-order filter on the PV before all terms; 0 for none.
    #[serde(default)]
    #[schema(minimum = 0)]
    pub filter_time: f64,
    /// Half the width of the gap about the set point in which the error counts less, % of span; 0 for none.
    #[serde(default)]
    #[schema(minimum = 0, maximum = 100)]
    pub gap: f64,
    /// How much the error counts inside the gap, 0 (an error dead band) to 1.
    #[serde(default)]
    #[schema(minimum = 0, maximum = 1)]
    pub gap_gain: f64,
    /// Whether the algorithm forms the output or its change.
    #[serde(default)]
    pub algorithm: Algorithm,
    /// Fastest change of the output in % per second, above 0; null for no limit.
    #[serde(default)]
    #[schema(exclusive_minimum = 0)]
    pub rate_limit: Option<f64>,
    /// What keeps the integral in reach at a limit; the velocity algorithm needs nothing.
    #[serde(default)]
    pub anti_windup: AntiWindup,
    /// Gain and times that depend on a signal; null for fixed ones.
    #[serde(default)]
    pub schedule: Option<GainSchedule>,
    /// What is added to the output for a measured disturbance; null for nothing.
    #[serde(default)]
    pub feed_forward: Option<FeedForward>,
}

/// How the output is formed.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Algorithm {
    /// The sum of the terms.
    #[default]
    Positional,
    /// The last output and the changes of the terms.
    Velocity,
}

/// What is done about the integral while the output stands at a limit (Åström & Hägglund 2006, section 3.5).
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum AntiWindup {
    /// Nothing: it winds up.
    None,
    /// No integration while it would drive the output further beyond the limit.
    Conditional,
    /// The integral is itself held between the limits of the output.
    Clamping,
    /// What the limits cut off is taken back with the tracking time.
    #[default]
    BackCalculation,
}

fn default_derivative_filter() -> f64 {
    10.0
}

fn default_set_point_weight() -> f64 {
    1.0
}

impl PidSettings {
    /// A PI controller of this gain (% per %) and integral time (s) with everything else at its default.
    #[must_use]
    pub fn pi(gain: f64, integral_time: f64) -> Self {
        Self {
            gain,
            integral_time: Some(integral_time),
            derivative_time: 0.0,
            derivative_filter: default_derivative_filter(),
            set_point_weight: default_set_point_weight(),
            action: Action::default(),
            output_limits: OutputLimits::default(),
            tracking_time: None,
            derivative_set_point_weight: 0.0,
            filter_time: 0.0,
            gap: 0.0,
            gap_gain: 0.0,
            algorithm: Algorithm::default(),
            rate_limit: None,
            anti_windup: AntiWindup::default(),
            schedule: None,
            feed_forward: None,
        }
    }

    /// Gain and times to three significant digits, as one types them into a controller.
    #[must_use]
    pub fn rounded(&self) -> Self {
        let round = |value: f64| crate::numerics::rounded(value, 3);
        Self {
            gain: round(self.gain),
            integral_time: self.integral_time.map(round),
            derivative_time: round(self.derivative_time),
            ..self.clone()
        }
    }

    /// Refuses settings that cannot work, naming the field.
    pub fn validate(&self) -> Result<()> {
        check::positive("controller.gain", self.gain, "%/%")?;
        if let Some(integral_time) = self.integral_time {
            check::positive("controller.integral_time", integral_time, "s")?;
        }
        check::not_negative("controller.derivative_time", self.derivative_time, "s")?;
        check::within("controller.derivative_filter", self.derivative_filter, 1.0, 100.0, "")?;
        check::within("controller.set_point_weight", self.set_point_weight, 0.0, 1.0, "")?;
        self.output_limits.validate()?;
        if let Some(tracking_time) = self.tracking_time {
            check::positive("controller.tracking_time", tracking_time, "s")?;
        }
        check::within("controller.derivative_set_point_weight", self.derivative_set_point_weight, 0.0, 1.0, "")?;
        check::not_negative("controller.filter_time", self.filter_time, "s")?;
        check::within("controller.gap", self.gap, 0.0, 100.0, "%")?;
        check::within("controller.gap_gain", self.gap_gain, 0.0, 1.0, "")?;
        if let Some(rate) = self.rate_limit {
            check::positive("controller.rate_limit", rate, "%/s")?;
        }
        if self.algorithm == Algorithm::Velocity && self.integral_time.is_none() {
            return Err(Error::invalid(
                "controller.algorithm",
                "velocity without integral action",
                "positional, or an integral time: changes alone do not hold a set point",
            ));
        }
        if let Some(schedule) = &self.schedule {
            schedule.validate(self)?;
        }
        self.feed_forward.as_ref().map_or(Ok(()), FeedForward::validate)
    }

    /// The tracking time in force, in s; None without integral action.
    #[must_use]
    pub fn effective_tracking_time(&self) -> Option<f64> {
        let integral_time = self.integral_time?;
        Some(self.tracking_time.unwrap_or(if self.derivative_time > 0.0 {
            (integral_time * self.derivative_time).sqrt()
        } else {
            integral_time
        }))
    }

    /// Which part of what the limits cut off is taken back from the integral at a scan, 0 to 1.
    #[must_use]
    pub fn tracking_factor(&self, scan: f64) -> f64 {
        match (self.algorithm, self.anti_windup) {
            (Algorithm::Velocity, _) => 1.0,
            (_, AntiWindup::BackCalculation) => {
                self.effective_tracking_time().map_or(0.0, |time| (scan / time).min(1.0))
            }
            _ => 0.0,
        }
    }

    /// Number of poles of the controller at the origin.
    #[must_use]
    pub fn integrators(&self) -> usize {
        usize::from(self.integral_time.is_some())
    }

    /// `−(% of OP per % of PV)` at angular frequency `omega` in rad/s of the continuous controller, with the sign of
    /// its action: times the process it gives the loop transfer function.
    #[must_use]
    pub fn response(&self, omega: f64) -> Complex64 {
        let s = Complex64::new(0.0, omega);
        let integral = self.integral_time.map_or(Complex64::ZERO, |time| (s * time).inv());
        let td = self.derivative_time;
        let derivative = s * td / (1.0 + s * td / self.derivative_filter);
        self.action.sign() * self.gain * (1.0 + integral + derivative) / (1.0 + s * self.filter_time)
    }

    /// The same of the digital controller that [`Pid`] is, scanned every `scan` seconds; `omega` up to `π/scan`.
    #[must_use]
    pub fn sampled_response(&self, omega: f64, scan: f64) -> Complex64 {
        self.response_at(Complex64::from_polar(1.0, omega * scan), scan)
    }

    /// The same at `z = exp(iωh)`, h being the scan.
    #[must_use]
    pub fn response_at(&self, z: Complex64, scan: f64) -> Complex64 {
        let integral = self.integral_time.map_or(Complex64::ZERO, |time| scan / time * z / (z - 1.0));
        let (memory, push) = self.derivative_factors(scan);
        let derivative = push * (z - 1.0) / (z - memory);
        let filter_memory = self.filter_memory(scan);
        let filter = if filter_memory > 0.0 { (1.0 - filter_memory) * z / (z - filter_memory) } else { Complex64::ONE };
        self.action.sign() * (self.gain * (1.0 + integral) + derivative) * filter
    }

    /// Factor by which the filter keeps its last value at a scan.
    pub(super) fn filter_memory(&self, scan: f64) -> f64 {
        if self.filter_time > 0.0 { (-scan / self.filter_time).exp() } else { 0.0 }
    }

    /// What counts of an error, both in % of span: all of it without a gap.
    pub(super) fn counted(&self, error: f64) -> f64 {
        if error.abs() <= self.gap {
            self.gap_gain * error
        } else {
            error - error.signum() * self.gap * (1.0 - self.gap_gain)
        }
    }

    /// The further signals that it reads: of the schedule first, then of the feed-forward.
    #[must_use]
    pub fn reads(&self) -> Vec<&str> {
        let scheduled = self.schedule.as_ref().and_then(GainSchedule::signal);
        scheduled.into_iter().chain(self.feed_forward.as_ref().map(|forward| forward.signal.as_str())).collect()
    }

    /// `(a, b)` of the derivative term `D[k] = a D[k−1] − b (y[k] − y[k−1])`: backward difference of a derivative
    /// with lag `Td/N` (Åström & Hägglund 2006, section 13.4).
    pub(super) fn derivative_factors(&self, scan: f64) -> (f64, f64) {
        let (td, n) = (self.derivative_time, self.derivative_filter);
        if td == 0.0 {
            return (0.0, 0.0);
        }
        (td / (td + n * scan), self.gain * td * n / (td + n * scan))
    }
}
