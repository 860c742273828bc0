//! Digital PID in the ideal (standard) form.

use super::{Controller, Explanation, Reading};
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

    fn sign(self) -> f64 {
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

impl Default for OutputLimits {
    fn default() -> Self {
        Self { low: 0.0, high: 100.0 }
    }
}

/// Settings of a PID controller: ideal form, % of span.
///
/// `u = Kc (b·r − y + 1/Ti ∫(r − y) dt − Td dy_f/dt)`, with `y_f` the PV behind a lag of `Td/N`
/// (Åström & Hägglund, Advanced PID Control, 2006, ch. 3 and 13).
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct PidSettings {
    /// Controller gain Kc, % of OP per % of PV span; above 0, its direction is `action`.
    pub gain: f64,
    /// Integral time Ti in s, above 0; null switches integration off.
    pub integral_time: Option<f64>,
    /// Derivative time Td in s, 0 or more; 0 switches the derivative off.
    #[serde(default)]
    pub derivative_time: f64,
    /// Derivative filter N: the derivative is filtered with a lag of Td/N; 1 to 100.
    #[serde(default = "default_derivative_filter")]
    pub derivative_filter: f64,
    /// Set point weight b of the proportional term, 0 to 1.
    #[serde(default = "default_set_point_weight")]
    pub set_point_weight: f64,
    /// Direction of action.
    #[serde(default)]
    pub action: Action,
    /// Limits of the output.
    #[serde(default)]
    pub output_limits: OutputLimits,
    /// Tracking time Tt of the anti-windup in s, above 0; null takes √(Ti·Td), or Ti without derivative.
    #[serde(default)]
    pub tracking_time: Option<f64>,
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
        }
    }

    /// Gain and times to three significant digits, as one types them into a controller.
    #[must_use]
    pub fn rounded(&self) -> Self {
        let round = |value: f64| format!("{value:.2e}").parse().unwrap_or(value);
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
        let OutputLimits { low, high } = self.output_limits;
        check::within("controller.output_limits.low", low, -1000.0, 1000.0, "%")?;
        check::within("controller.output_limits.high", high, -1000.0, 1000.0, "%")?;
        if high <= low {
            return Err(Error::invalid(
                "controller.output_limits.high",
                format!("{high} %"),
                format!("above the low limit, {low} %"),
            ));
        }
        if let Some(tracking_time) = self.tracking_time {
            check::positive("controller.tracking_time", tracking_time, "s")?;
        }
        Ok(())
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
        self.action.sign() * self.gain * (1.0 + integral + derivative)
    }

    /// The same of the digital controller that [`Pid`] is, scanned every `scan` seconds; `omega` up to `π/scan`.
    #[must_use]
    pub fn sampled_response(&self, omega: f64, scan: f64) -> Complex64 {
        let z = Complex64::from_polar(1.0, omega * scan);
        let integral = self.integral_time.map_or(Complex64::ZERO, |time| scan / time * z / (z - 1.0));
        let (memory, push) = self.derivative_factors(scan);
        let derivative = push * (z - 1.0) / (z - memory);
        self.action.sign() * (self.gain * (1.0 + integral) + derivative)
    }

    /// `(a, b)` of the derivative term `D[k] = a D[k−1] − b (y[k] − y[k−1])`: backward difference of a derivative
    /// with lag `Td/N` (Åström & Hägglund 2006, section 13.4).
    fn derivative_factors(&self, scan: f64) -> (f64, f64) {
        let (td, n) = (self.derivative_time, self.derivative_filter);
        if td == 0.0 {
            return (0.0, 0.0);
        }
        (td / (td + n * scan), self.gain * td * n / (td + n * scan))
    }
}

/// A PID controller at work: positional, with back-calculation at the output limits.
///
/// Each scan adds `Kc·h/Ti·(r − y)` to the integral before the output is formed, and then takes back `h/Tt` of what
/// the limits cut off, so that the output leaves a limit as soon as the terms point inwards
/// (back-calculation; Åström & Hägglund 2006, section 3.5).
#[derive(Debug, Clone)]
pub struct Pid {
    gain: f64,
    integral_factor: f64,
    derivative_memory: f64,
    derivative_push: f64,
    tracking_factor: f64,
    set_point_weight: f64,
    sign: f64,
    limits: OutputLimits,
    integral: f64,
    derivative: f64,
    last_measurement: Option<f64>,
    explanation: Explanation,
}

impl Pid {
    /// A controller scanned every `scan` seconds; it starts from output 0 % unless it is told to track another.
    pub fn new(settings: &PidSettings, scan: f64) -> Result<Self> {
        settings.validate()?;
        check::positive("scenario.scan", scan, "s")?;
        let (derivative_memory, derivative_push) = settings.derivative_factors(scan);
        Ok(Self {
            gain: settings.gain,
            integral_factor: settings.integral_time.map_or(0.0, |time| settings.gain * scan / time),
            derivative_memory,
            derivative_push,
            tracking_factor: settings.effective_tracking_time().map_or(0.0, |time| (scan / time).min(1.0)),
            set_point_weight: settings.set_point_weight,
            sign: settings.action.sign(),
            limits: settings.output_limits,
            integral: 0.0,
            derivative: 0.0,
            last_measurement: None,
            explanation: Explanation::default(),
        })
    }

    fn differentiate(&mut self, measurement: f64) {
        let change = measurement - self.last_measurement.unwrap_or(measurement);
        self.derivative = self.derivative_memory * self.derivative - self.sign * self.derivative_push * change;
        self.last_measurement = Some(measurement);
    }

    fn proportional(&self, reading: Reading) -> f64 {
        self.sign * self.gain * (self.set_point_weight * reading.set_point - reading.measurement)
    }
}

impl Controller for Pid {
    fn scan(&mut self, reading: Reading) -> f64 {
        self.differentiate(reading.measurement);
        let proportional = self.proportional(reading);
        self.integral += self.sign * self.integral_factor * (reading.set_point - reading.measurement);
        let unlimited = proportional + self.integral + self.derivative;
        let limited = unlimited.clamp(self.limits.low, self.limits.high);
        self.explanation =
            Explanation { proportional, integral: self.integral, derivative: self.derivative, unlimited, limited };
        self.integral += self.tracking_factor * (limited - unlimited);
        limited
    }

    fn track(&mut self, reading: Reading, output: f64) {
        self.differentiate(reading.measurement);
        let proportional = self.proportional(reading);
        self.integral = output - proportional - self.derivative;
        self.explanation = Explanation {
            proportional,
            integral: self.integral,
            derivative: self.derivative,
            unlimited: output,
            limited: output,
        };
    }

    fn explain(&self) -> Explanation {
        self.explanation
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn reading(set_point: f64, measurement: f64) -> Reading {
        Reading { set_point, measurement }
    }

    #[test]
    fn integral_repeats_the_proportional_move_in_the_integral_time() {
        // The definition of the integral time of the ideal form.
        let mut pid = Pid::new(&PidSettings::pi(2.0, 10.0), 0.01).unwrap();
        pid.track(reading(50.0, 50.0), 40.0);
        for _ in 0..1000 {
            pid.scan(reading(53.0, 50.0));
        }
        let terms = pid.explain();
        assert!((terms.limited - (40.0 + 2.0 * 3.0 + 2.0 * 3.0)).abs() < 1e-9, "{terms:?}");
    }

    #[test]
    fn takes_over_without_a_bump() {
        let settings = PidSettings { derivative_time: 2.0, ..PidSettings::pi(3.0, 20.0) };
        let mut pid = Pid::new(&settings, 1.0).unwrap();
        for k in 0..5 {
            pid.track(reading(60.0, 58.0 + f64::from(k)), 33.0);
        }
        // At rest and on set point the next output differs by the decaying derivative alone.
        let before = pid.explain().derivative;
        let output = pid.scan(reading(60.0, 62.0));
        let integral_step = 3.0 / 20.0 * -2.0;
        assert!((output - (33.0 + integral_step + pid.explain().derivative - before)).abs() < 1e-12);
    }

    #[test]
    fn leaves_the_limit_when_the_error_turns() {
        let run = |tracking_time| {
            let settings = PidSettings { tracking_time, ..PidSettings::pi(1.0, 5.0) };
            let mut pid = Pid::new(&settings, 1.0).unwrap();
            pid.track(reading(50.0, 50.0), 95.0);
            for _ in 0..500 {
                assert_eq!(pid.scan(reading(60.0, 50.0)), 100.0);
            }
            (1..1000).find(|_| pid.scan(reading(60.0, 62.0)) < 100.0)
        };
        assert_eq!(run(None), Some(1));
        assert!(run(Some(1e9)).unwrap_or(1000) > 400, "without back-calculation it winds up");
    }

    #[test]
    fn direct_action_mirrors_reverse_action() {
        let output = |action, pv: f64| {
            let mut pid =
                Pid::new(&PidSettings { action, derivative_time: 1.0, ..PidSettings::pi(1.0, 5.0) }, 1.0).unwrap();
            pid.track(reading(50.0, 50.0), 50.0);
            pid.scan(reading(50.0, pv));
            pid.scan(reading(50.0, pv))
        };
        assert!((output(Action::Reverse, 52.0) - output(Action::Direct, 48.0)).abs() < 1e-12);
        assert!(output(Action::Reverse, 52.0) < 50.0);
    }

    #[test]
    fn sampled_response_is_that_of_the_code() {
        // Drive the controller open loop with a sine and compare the settled output with the response.
        let settings = PidSettings {
            derivative_time: 4.0,
            derivative_filter: 8.0,
            output_limits: OutputLimits { low: -1000.0, high: 1000.0 },
            ..PidSettings::pi(1.7, 12.0)
        };
        let (scan, omega) = (0.5, 0.3);
        let expected = settings.sampled_response(omega, scan);
        let mut pid = Pid::new(&settings, scan).unwrap();
        let tone = |k: u32| Complex64::from_polar(1.0, omega * scan * f64::from(k));
        pid.track(reading(0.0, -1.0), (expected * tone(0)).re);
        let mut offset = Vec::new();
        for k in 1..600 {
            let output = pid.scan(reading(0.0, -tone(k).re));
            offset.push(output - (expected * tone(k)).re);
        }
        // What is left is the constant that the integral started with.
        let last = offset[598];
        assert!(offset[300..].iter().all(|value| (value - last).abs() < 1e-9));
        // And for fast scans it is the continuous one.
        assert!((settings.sampled_response(omega, 1e-6) - settings.response(omega)).norm() < 1e-5);
    }

    #[test]
    fn settings_that_cannot_work_are_named() {
        let refused = |settings: PidSettings| settings.validate().unwrap_err().to_string();
        assert_eq!(refused(PidSettings::pi(-1.0, 5.0)), "controller.gain is -1 %/%; allowed: above 0");
        assert_eq!(refused(PidSettings::pi(1.0, 0.0)), "controller.integral_time is 0 s; allowed: above 0");
        let limits = OutputLimits { low: 80.0, high: 20.0 };
        assert_eq!(
            refused(PidSettings { output_limits: limits, ..PidSettings::pi(1.0, 1.0) }),
            "controller.output_limits.high is 20 %; allowed: above the low limit, 80 %"
        );
        assert!(refused(PidSettings { set_point_weight: 1.5, ..PidSettings::pi(1.0, 1.0) }).contains("0 to 1"));
    }
}
