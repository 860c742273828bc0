//! Linear processes in deviations from an operating point.

use super::{Process, Quantity};
use crate::lti::{DeadTime, Propagator, StateSpace};
use crate::{Error, Result, check};
use nalgebra::DMatrix;
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
        let (gain, dead_time) = match self {
            Self::Fopdt { gain, time_constant, dead_time } => {
                check::positive("process.time_constant", *time_constant, "s")?;
                (gain, dead_time)
            }
            Self::Integrating { gain, dead_time } => (gain, dead_time),
        };
        check::finite("process.gain", *gain)?;
        if *gain == 0.0 {
            return Err(Error::invalid("process.gain", gain, "other than 0"));
        }
        check::not_negative("process.dead_time", *dead_time, "s").map(drop)
    }

    /// Gain: PV units per % (and second, where integrating).
    #[must_use]
    pub fn gain(&self) -> f64 {
        match self {
            Self::Fopdt { gain, .. } | Self::Integrating { gain, .. } => *gain,
        }
    }

    /// Dead time in s.
    #[must_use]
    pub fn dead_time(&self) -> f64 {
        match self {
            Self::Fopdt { dead_time, .. } | Self::Integrating { dead_time, .. } => *dead_time,
        }
    }

    /// How long the process takes to answer: dead time and time constant together, in s.
    #[must_use]
    pub fn time_scale(&self) -> f64 {
        match self {
            Self::Fopdt { time_constant, dead_time, .. } => time_constant + dead_time,
            Self::Integrating { dead_time, .. } => *dead_time,
        }
    }

    /// Number of poles at the origin.
    #[must_use]
    pub fn integrators(&self) -> usize {
        match self {
            Self::Fopdt { .. } => 0,
            Self::Integrating { .. } => 1,
        }
    }

    /// The dynamics from (OP, load) in % to the deviation of the PV; both inputs act at the same place.
    pub fn state_space(&self) -> Result<StateSpace> {
        self.validate()?;
        let (a, b) = match self {
            Self::Fopdt { gain, time_constant, .. } => (-1.0 / time_constant, gain / time_constant),
            Self::Integrating { gain, .. } => (0.0, *gain),
        };
        StateSpace::new(
            DMatrix::from_element(1, 1, a),
            DMatrix::from_element(1, 2, b),
            DMatrix::from_element(1, 1, 1.0),
            DeadTime::new(self.dead_time())?,
        )
    }
}

/// A [`ProcessSpec`] at an operating point.
#[derive(Debug, Clone)]
pub struct LinearProcess {
    propagator: Propagator,
    resting_pv: f64,
    resting_inputs: [f64; 2],
    states: [Quantity; 1],
    inputs: [Quantity; 2],
    outputs: [Quantity; 1],
}

impl LinearProcess {
    /// A process that rests at `resting_pv` (in `pv_unit`) when the OP is `resting_op` % and there is no load.
    pub fn new(spec: &ProcessSpec, resting_pv: f64, resting_op: f64, pv_unit: &str) -> Result<Self> {
        Ok(Self {
            propagator: Propagator::new(spec.state_space()?),
            resting_pv: check::finite("operating_point.pv", resting_pv)?,
            resting_inputs: [check::finite("operating_point.op", resting_op)?, 0.0],
            states: [Quantity::new("deviation of the PV", pv_unit)],
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
        vec![0.0]
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
