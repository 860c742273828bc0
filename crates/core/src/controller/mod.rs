//! Controllers: once a scan, from set point and measurement to an output.

mod pid;

pub use pid::{Action, OutputLimits, Pid, PidSettings};

use crate::Result;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What a controller sees at a scan, both in % of the PV's span.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Reading {
    /// Set point.
    pub set_point: f64,
    /// Measured process variable.
    pub measurement: f64,
}

/// Why the last output is what it is, in % of OP.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct Explanation {
    /// Proportional term.
    pub proportional: f64,
    /// Integral term, with the bias.
    pub integral: f64,
    /// Derivative term.
    pub derivative: f64,
    /// The sum of the terms.
    pub unlimited: f64,
    /// The output after its limits.
    pub limited: f64,
}

/// A controller at work.
pub trait Controller: Send {
    /// One scan: the output in % that follows from `reading`.
    fn scan(&mut self, reading: Reading) -> f64;
    /// One scan in which something else sets the output: takes on `output` so that the next [`Controller::scan`] goes
    /// on from there without a bump.
    fn track(&mut self, reading: Reading, output: f64);
    /// The terms of the last output.
    fn explain(&self) -> Explanation;
}

/// The settings of any kind of controller.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "kind", rename_all = "snake_case")]
pub enum ControllerSpec {
    /// Proportional–integral–derivative.
    Pid(PidSettings),
    /// No control: the output stands where it is, and moves by the scenario's output steps. For tests of the process.
    Manual,
}

impl ControllerSpec {
    /// Refuses settings that no controller can work with.
    pub fn validate(&self) -> Result<()> {
        match self {
            Self::Pid(settings) => settings.validate(),
            Self::Manual => Ok(()),
        }
    }

    /// The controller, to be scanned every `scan` seconds.
    pub fn build(&self, scan: f64) -> Result<Box<dyn Controller>> {
        match self {
            Self::Pid(settings) => Ok(Box::new(Pid::new(settings, scan)?)),
            Self::Manual => Ok(Box::new(Manual::default())),
        }
    }

    /// The PID settings, where it is one.
    #[must_use]
    pub fn pid(&self) -> Option<&PidSettings> {
        match self {
            Self::Pid(settings) => Some(settings),
            Self::Manual => None,
        }
    }

    /// The limits of the output.
    #[must_use]
    pub fn output_limits(&self) -> OutputLimits {
        self.pid().map_or_else(OutputLimits::default, |settings| settings.output_limits)
    }
}

/// A controller in manual: it holds the output that it was last told to track.
#[derive(Debug, Clone, Default)]
struct Manual {
    output: f64,
}

impl Controller for Manual {
    fn scan(&mut self, _: Reading) -> f64 {
        self.output
    }

    fn track(&mut self, _: Reading, output: f64) {
        self.output = output;
    }

    fn explain(&self) -> Explanation {
        Explanation { unlimited: self.output, limited: self.output, ..Explanation::default() }
    }
}
