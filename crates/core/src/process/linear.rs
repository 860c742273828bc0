//! Linear processes in deviations from an operating point.

use crate::lti::{DeadTime, Dynamics, Response, StateSpace};
use crate::series::TimeAxis;
use crate::{Error, Result, check};
use nalgebra::DMatrix;
use num_complex::Complex64;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A linear process with one controlled input, as identified from a record.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "structure", rename_all = "snake_case", deny_unknown_fields)]
pub enum LinearSpec {
    /// First order plus dead time, `K exp(−θs) / (τs + 1)`.
    Fopdt {
        /// Gain K, in PV units per % of OP; not 0.
        gain: f64,
        /// Time constant τ in s, above 0.
        time_constant: f64,
        /// Dead time θ in s, 0 or more.
        dead_time: f64,
    },
    /// Two lags, and a lead where that is not 0: `K (Tz s + 1) exp(−θs) / ((τ₁s + 1)(τ₂s + 1))`.
    TwoLags {
        /// Gain K, in PV units per % of OP; not 0.
        gain: f64,
        /// Time constant τ₁ in s, above 0.
        time_constant_1: f64,
        /// Time constant τ₂ in s, above 0.
        time_constant_2: f64,
        /// Lead Tz in s; below 0 for inverse response.
        #[serde(default)]
        lead_time_constant: f64,
        /// Dead time θ in s, 0 or more.
        dead_time: f64,
    },
    /// Second order, possibly oscillating: `K exp(−θs) / (τ²s² + 2ζτs + 1)`.
    SecondOrder {
        /// Gain K, in PV units per % of OP; not 0.
        gain: f64,
        /// Time constant τ in s, above 0: the inverse of the natural frequency.
        time_constant: f64,
        /// Damping ratio ζ, above 0.
        damping: f64,
        /// Dead time θ in s, 0 or more.
        dead_time: f64,
    },
    /// Integrating with lag and dead time, `k' exp(−θs) / (s (τs + 1))`.
    IntegratingLag {
        /// Integrating gain k', in PV units per second and % of OP; not 0.
        gain: f64,
        /// Time constant τ in s, above 0.
        time_constant: f64,
        /// Dead time θ in s, 0 or more.
        dead_time: f64,
    },
    /// Integrating with dead time, `k' exp(−θs) / s`.
    Integrating {
        /// Integrating gain k', in PV units per second and % of OP; not 0.
        gain: f64,
        /// Dead time θ in s, 0 or more.
        dead_time: f64,
    },
}

impl LinearSpec {
    /// Refuses parameters that no process has.
    pub fn validate(&self) -> Result<()> {
        match self {
            Self::Fopdt { time_constant, .. } | Self::IntegratingLag { time_constant, .. } => {
                check::positive("process.time_constant", *time_constant, "s")?;
            }
            Self::TwoLags { time_constant_1, time_constant_2, lead_time_constant, .. } => {
                check::positive("process.time_constant_1", *time_constant_1, "s")?;
                check::positive("process.time_constant_2", *time_constant_2, "s")?;
                check::finite("process.lead_time_constant", *lead_time_constant)?;
            }
            Self::SecondOrder { time_constant, damping, .. } => {
                check::positive("process.time_constant", *time_constant, "s")?;
                check::positive("process.damping", *damping, "")?;
            }
            Self::Integrating { .. } => {}
        }
        let gain = check::finite("process.gain", self.gain())?;
        if gain == 0.0 {
            return Err(Error::invalid("process.gain", gain, "other than 0"));
        }
        check::not_negative("process.dead_time", self.dead_time(), "s").map(drop)
    }

    /// Names, units and values of the parameters.
    #[must_use]
    pub fn parameters(&self) -> Vec<(&'static str, &'static str, f64)> {
        let gain = ("gain", if self.integrators() > 0 { "PV unit/(% s)" } else { "PV unit/%" }, self.gain());
        let mut all = vec![gain];
        match *self {
            Self::Fopdt { time_constant, .. } | Self::IntegratingLag { time_constant, .. } => {
                all.push(("time_constant", "s", time_constant));
            }
            Self::TwoLags { time_constant_1, time_constant_2, lead_time_constant, .. } => all.extend([
                ("time_constant_1", "s", time_constant_1),
                ("time_constant_2", "s", time_constant_2),
                ("lead_time_constant", "s", lead_time_constant),
            ]),
            Self::SecondOrder { time_constant, damping, .. } => {
                all.extend([("time_constant", "s", time_constant), ("damping", "", damping)]);
            }
            Self::Integrating { .. } => {}
        }
        all.push(("dead_time", "s", self.dead_time()));
        all
    }

    /// The same structure with other values, in the order of [`LinearSpec::parameters`].
    #[must_use]
    pub fn with_parameters(&self, values: &[f64]) -> Self {
        match (self, values) {
            (Self::Fopdt { .. }, &[gain, time_constant, dead_time]) => Self::Fopdt { gain, time_constant, dead_time },
            (Self::IntegratingLag { .. }, &[gain, time_constant, dead_time]) => {
                Self::IntegratingLag { gain, time_constant, dead_time }
            }
            (Self::TwoLags { .. }, &[gain, time_constant_1, time_constant_2, lead_time_constant, dead_time]) => {
                Self::TwoLags { gain, time_constant_1, time_constant_2, lead_time_constant, dead_time }
            }
            (Self::SecondOrder { .. }, &[gain, time_constant, damping, dead_time]) => {
                Self::SecondOrder { gain, time_constant, damping, dead_time }
            }
            (Self::Integrating { .. }, &[gain, dead_time]) => Self::Integrating { gain, dead_time },
            _ => self.clone(),
        }
    }

    /// What the structure is called.
    #[must_use]
    pub fn title(&self) -> &'static str {
        match self {
            Self::Fopdt { .. } => "First order plus dead time",
            Self::TwoLags { .. } => "Two lags and a lead with dead time",
            Self::SecondOrder { .. } => "Second order with dead time",
            Self::IntegratingLag { .. } => "Integrating with lag and dead time",
            Self::Integrating { .. } => "Integrating with dead time",
        }
    }

    /// Gain: PV units per % (and second, where integrating).
    #[must_use]
    pub fn gain(&self) -> f64 {
        match self {
            Self::Fopdt { gain, .. }
            | Self::TwoLags { gain, .. }
            | Self::SecondOrder { gain, .. }
            | Self::IntegratingLag { gain, .. }
            | Self::Integrating { gain, .. } => *gain,
        }
    }

    /// Dead time in s.
    #[must_use]
    pub fn dead_time(&self) -> f64 {
        match self {
            Self::Fopdt { dead_time, .. }
            | Self::TwoLags { dead_time, .. }
            | Self::SecondOrder { dead_time, .. }
            | Self::IntegratingLag { dead_time, .. }
            | Self::Integrating { dead_time, .. } => *dead_time,
        }
    }

    /// Lead in s; 0 for structures without one.
    #[must_use]
    pub fn lead(&self) -> f64 {
        if let Self::TwoLags { lead_time_constant, .. } = self { *lead_time_constant } else { 0.0 }
    }

    /// The dynamics, with gain 1.
    #[must_use]
    pub fn dynamics(&self) -> Dynamics {
        match *self {
            Self::Fopdt { time_constant, .. } => Dynamics::Lag { time_constant },
            Self::TwoLags { time_constant_1, time_constant_2, .. } => {
                Dynamics::TwoLags { time_constants: [time_constant_1, time_constant_2] }
            }
            Self::SecondOrder { time_constant, damping, .. } => Dynamics::SecondOrder { time_constant, damping },
            Self::IntegratingLag { time_constant, .. } => Dynamics::IntegratorLag { time_constant },
            Self::Integrating { .. } => Dynamics::Integrator,
        }
    }

    /// The deviation of the PV for deviations of the OP from rest, a value a sample of the axis, held until the next.
    pub fn response_to(&self, axis: &TimeAxis, deviations: &[f64]) -> Result<Vec<f64>> {
        let (gain, lead) = (self.gain(), self.lead());
        let response = Response::new(self.dynamics(), axis, deviations, 0.0, DeadTime::new(self.dead_time())?);
        Ok(response.map(|sample| gain * (sample.value + lead * sample.slope)).collect())
    }

    /// `G(jω)` at `omega` rad/s, above 0.
    #[must_use]
    pub fn response(&self, omega: f64) -> Complex64 {
        let s = Complex64::new(0.0, omega);
        let denominator = match *self {
            Self::Fopdt { time_constant, .. } => s * time_constant + 1.0,
            Self::TwoLags { time_constant_1, time_constant_2, .. } => {
                (s * time_constant_1 + 1.0) * (s * time_constant_2 + 1.0)
            }
            Self::SecondOrder { time_constant, damping, .. } => {
                let scaled = s * time_constant;
                scaled * scaled + scaled * (2.0 * damping) + 1.0
            }
            Self::IntegratingLag { time_constant, .. } => s * (s * time_constant + 1.0),
            Self::Integrating { .. } => s,
        };
        self.gain() * (s * self.lead() + 1.0) * (-s * self.dead_time()).exp() / denominator
    }

    /// The poles in 1/s.
    #[must_use]
    pub fn poles(&self) -> Vec<Complex64> {
        let real = |value: f64| Complex64::new(value, 0.0);
        match *self {
            Self::Fopdt { time_constant, .. } => vec![real(-1.0 / time_constant)],
            Self::TwoLags { time_constant_1, time_constant_2, .. } => {
                vec![real(-1.0 / time_constant_1), real(-1.0 / time_constant_2)]
            }
            Self::SecondOrder { time_constant, damping, .. } => {
                let root = Complex64::from(damping * damping - 1.0).sqrt();
                vec![(root - damping) / time_constant, (-root - damping) / time_constant]
            }
            Self::IntegratingLag { time_constant, .. } => vec![real(0.0), real(-1.0 / time_constant)],
            Self::Integrating { .. } => vec![real(0.0)],
        }
    }

    /// How long the process takes to answer: dead time and time constants together, in s.
    #[must_use]
    pub fn time_scale(&self) -> f64 {
        self.dead_time()
            + match self {
                Self::Fopdt { time_constant, .. } | Self::IntegratingLag { time_constant, .. } => *time_constant,
                Self::TwoLags { time_constant_1, time_constant_2, .. } => time_constant_1 + time_constant_2,
                Self::SecondOrder { time_constant, damping, .. } => 2.0 * time_constant * damping.max(1.0),
                Self::Integrating { .. } => 0.0,
            }
    }

    /// Number of poles at the origin.
    #[must_use]
    pub fn integrators(&self) -> usize {
        usize::from(matches!(self, Self::Integrating { .. } | Self::IntegratingLag { .. }))
    }

    /// Numerator and denominator without the dead time: coefficients of s in seconds, the highest power first.
    #[must_use]
    pub fn polynomials(&self) -> (Vec<f64>, Vec<f64>) {
        let denominator = match *self {
            Self::Fopdt { time_constant, .. } => vec![time_constant, 1.0],
            Self::TwoLags { time_constant_1, time_constant_2, .. } => {
                vec![time_constant_1 * time_constant_2, time_constant_1 + time_constant_2, 1.0]
            }
            Self::SecondOrder { time_constant, damping, .. } => {
                vec![time_constant * time_constant, 2.0 * damping * time_constant, 1.0]
            }
            Self::IntegratingLag { time_constant, .. } => vec![time_constant, 1.0, 0.0],
            Self::Integrating { .. } => vec![1.0, 0.0],
        };
        let (gain, lead) = (self.gain(), self.lead());
        (if lead == 0.0 { vec![gain] } else { vec![gain * lead, gain] }, denominator)
    }

    /// The dynamics from the OP in % to the deviation of the PV.
    pub fn state_space(&self) -> Result<StateSpace> {
        self.validate()?;
        // Controllable form: the last state takes the input, the output is a combination of the states.
        let (a, output): (Vec<f64>, Vec<f64>) = match *self {
            Self::Fopdt { gain, time_constant, .. } => (vec![-1.0 / time_constant], vec![gain / time_constant]),
            Self::Integrating { gain, .. } => (vec![0.0], vec![gain]),
            Self::TwoLags { gain, time_constant_1, time_constant_2, lead_time_constant, .. } => {
                let (product, sum) = (time_constant_1 * time_constant_2, time_constant_1 + time_constant_2);
                (vec![-1.0 / product, -sum / product], vec![gain / product, gain * lead_time_constant / product])
            }
            Self::SecondOrder { gain, time_constant, damping, .. } => {
                let square = time_constant * time_constant;
                (vec![-1.0 / square, -2.0 * damping / time_constant], vec![gain / square, 0.0])
            }
            Self::IntegratingLag { gain, time_constant, .. } => {
                (vec![0.0, -1.0 / time_constant], vec![gain / time_constant, 0.0])
            }
        };
        let n = a.len();
        let companion = DMatrix::from_fn(n, n, |i, j| {
            if i + 1 == n {
                a[j]
            } else if j == i + 1 {
                1.0
            } else {
                0.0
            }
        });
        let input = DMatrix::from_fn(n, 1, |i, _| if i + 1 == n { 1.0 } else { 0.0 });
        StateSpace::new(companion, input, DMatrix::from_row_slice(1, n, &output), DeadTime::new(self.dead_time())?)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn frequency_response_of_fopdt_is_the_formula() {
        let spec = LinearSpec::Fopdt { gain: -2.0, time_constant: 30.0, dead_time: 7.0 };
        let response = spec.state_space().unwrap().response(0.05);
        let s = num_complex::Complex64::new(0.0, 0.05);
        assert!((response - -2.0 * (-7.0 * s).exp() / (30.0 * s + 1.0)).norm() < 1e-14);
    }

    #[test]
    fn frequency_responses_of_second_order_are_the_formulas() {
        let s = num_complex::Complex64::new(0.0, 0.05);
        let (gain, dead_time) = (1.5, 3.0);
        let common = gain * (-dead_time * s).exp();
        let lags = LinearSpec::TwoLags {
            gain,
            time_constant_1: 30.0,
            time_constant_2: 8.0,
            lead_time_constant: -5.0,
            dead_time,
        };
        let second = LinearSpec::SecondOrder { gain, time_constant: 12.0, damping: 0.3, dead_time };
        let integrating = LinearSpec::IntegratingLag { gain, time_constant: 7.0, dead_time };
        for (spec, expected) in [
            (lags, common * (-5.0 * s + 1.0) / ((30.0 * s + 1.0) * (8.0 * s + 1.0))),
            (second, common / (144.0 * s * s + 7.2 * s + 1.0)),
            (integrating, common / (s * (7.0 * s + 1.0))),
        ] {
            let close = |found: num_complex::Complex64| (found - expected).norm() < 1e-12 * expected.norm();
            assert!(close(spec.state_space().unwrap().response(0.05)) && close(spec.response(0.05)), "{spec:?}");
        }
    }

    #[test]
    fn impossible_parameters_are_named() {
        let refused = |spec: LinearSpec| spec.validate().unwrap_err().to_string();
        assert_eq!(
            refused(LinearSpec::Fopdt { gain: 1.0, time_constant: -3.0, dead_time: 0.0 }),
            "The time constant of the process is -3 s: it must be above 0."
        );
        assert_eq!(
            refused(LinearSpec::Integrating { gain: 0.0, dead_time: 0.0 }),
            "The gain of the process is 0: it must be other than 0."
        );
        assert!(
            refused(LinearSpec::Integrating { gain: 1.0, dead_time: f64::NAN })
                .starts_with("The dead time of the process is NaN s")
        );
    }
}
