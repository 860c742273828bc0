//! Linear processes in deviations from an operating point.

use super::{Process, Quantity};
use crate::lti::{DeadTime, Dynamics, Propagator, Response, StateSpace};
use crate::series::TimeAxis;
use crate::{Error, Result, check};
use nalgebra::DMatrix;
use num_complex::Complex64;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A linear process with one controlled input, as identified from a record.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "structure", rename_all = "snake_case", deny_unknown_fields)]
pub enum ProcessSpec {
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

impl ProcessSpec {
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

    /// The dynamics from (OP, load) in % to the deviation of the PV; both inputs act at the same place.
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
        let input = DMatrix::from_fn(n, 2, |i, _| if i + 1 == n { 1.0 } else { 0.0 });
        StateSpace::new(companion, input, DMatrix::from_row_slice(1, n, &output), DeadTime::new(self.dead_time())?)
    }
}

/// A [`ProcessSpec`] at an operating point.
#[derive(Debug, Clone)]
pub struct LinearProcess {
    propagator: Propagator,
    resting_pv: f64,
    resting_inputs: [f64; 2],
    states: Vec<Quantity>,
    inputs: [Quantity; 2],
    outputs: [Quantity; 1],
}

impl LinearProcess {
    /// A process that rests at `resting_pv` (in `pv_unit`) when the OP is `resting_op` % and there is no load.
    pub fn new(spec: &ProcessSpec, resting_pv: f64, resting_op: f64, pv_unit: &str) -> Result<Self> {
        let propagator = Propagator::new(spec.state_space()?);
        Ok(Self {
            states: (0..propagator.system().order()).map(|_| Quantity::new("state", "")).collect(),
            propagator,
            resting_pv: check::finite("operating_point.pv", resting_pv)?,
            resting_inputs: [check::finite("operating_point.op", resting_op)?, 0.0],
            inputs: [Quantity::new("OP", "%"), Quantity::new("load", "%")],
            outputs: [Quantity::new("PV", pv_unit)],
        })
    }

    fn deviation(&self, u: &[f64]) -> [f64; 2] {
        [u[0] - self.resting_inputs[0], u[1] - self.resting_inputs[1]]
    }
}

impl Process for LinearProcess {
    fn states(&self) -> &[Quantity] {
        &self.states
    }

    fn inputs(&self) -> &[Quantity] {
        &self.inputs
    }

    fn outputs(&self) -> &[Quantity] {
        &self.outputs
    }

    fn initial_state(&self) -> Vec<f64> {
        vec![0.0; self.states.len()]
    }

    fn derivatives(&self, x: &[f64], u: &[f64], derivatives: &mut [f64]) {
        self.propagator.system().derivatives(x, &self.deviation(u), derivatives);
    }

    fn read(&self, x: &[f64], outputs: &mut [f64]) {
        self.propagator.system().outputs(x, outputs);
        outputs[0] += self.resting_pv;
    }

    fn dead_time(&self) -> DeadTime {
        self.propagator.system().dead_time()
    }

    fn advance(&mut self, x: &mut [f64], u: &[f64], h: f64) {
        let deviation = self.deviation(u);
        self.propagator.advance(x, &deviation, h);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn frequency_response_of_fopdt_is_the_formula() {
        let spec = ProcessSpec::Fopdt { gain: -2.0, time_constant: 30.0, dead_time: 7.0 };
        let response = spec.state_space().unwrap().response(0.05);
        let s = num_complex::Complex64::new(0.0, 0.05);
        assert!((response - -2.0 * (-7.0 * s).exp() / (30.0 * s + 1.0)).norm() < 1e-14);
    }

    #[test]
    fn frequency_responses_of_second_order_are_the_formulas() {
        let s = num_complex::Complex64::new(0.0, 0.05);
        let (gain, dead_time) = (1.5, 3.0);
        let common = gain * (-dead_time * s).exp();
        let lags = ProcessSpec::TwoLags {
            gain,
            time_constant_1: 30.0,
            time_constant_2: 8.0,
            lead_time_constant: -5.0,
            dead_time,
        };
        let second = ProcessSpec::SecondOrder { gain, time_constant: 12.0, damping: 0.3, dead_time };
        let integrating = ProcessSpec::IntegratingLag { gain, time_constant: 7.0, dead_time };
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
    fn rests_at_its_operating_point() {
        let spec = ProcessSpec::Fopdt { gain: 1.5, time_constant: 9.0, dead_time: 0.0 };
        let process = LinearProcess::new(&spec, 76.0, 42.0, "°C").unwrap();
        let (x, mut slope, mut y) = (process.initial_state(), [1.0], [0.0]);
        process.derivatives(&x, &[42.0, 0.0], &mut slope);
        process.read(&x, &mut y);
        assert_eq!((slope[0], y[0]), (0.0, 76.0));
    }

    #[test]
    fn impossible_parameters_are_named() {
        let refused = |spec: ProcessSpec| spec.validate().unwrap_err().to_string();
        assert_eq!(
            refused(ProcessSpec::Fopdt { gain: 1.0, time_constant: -3.0, dead_time: 0.0 }),
            "process.time_constant is -3 s; allowed: above 0"
        );
        assert_eq!(
            refused(ProcessSpec::Integrating { gain: 0.0, dead_time: 0.0 }),
            "process.gain is 0; allowed: other than 0"
        );
        assert!(refused(ProcessSpec::Integrating { gain: 1.0, dead_time: f64::NAN }).contains("dead_time"));
    }
}
