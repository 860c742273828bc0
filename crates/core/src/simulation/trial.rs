//! A trial as plain data: what is simulated, controlled how, under which scenario.

use crate::controller::ControllerSpec;
use crate::instrument::SensorSpec;
use crate::process::ProcessSpec;
use crate::series::hex;
use crate::units::Span;
use crate::{Error, Result, check};
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};
use utoipa::ToSchema;

/// The version of the trial document that this code reads and writes.
pub const TRIAL_VERSION: u32 = 1;

/// Longest run, in scans; longer ones are refused before anything is computed.
const MOST_SCANS: f64 = 2e6;
/// Longest dead time, in scans.
const MOST_DELAY_SCANS: f64 = 1e5;
const MOST_EVENTS: usize = 20_000;

/// Plant + candidate + scenario. The same trial gives the same trace, bit for bit.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Trial {
    /// Version of this document: 1.
    pub version: u32,
    /// What is controlled.
    pub plant: Plant,
    /// What controls it.
    pub candidate: Candidate,
    /// What happens.
    pub scenario: Scenario,
}

/// A process with its sensor, and the spans of its signals.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Plant {
    /// The process.
    pub process: ProcessSpec,
    /// Process variable.
    pub pv: Signal,
    /// Controller output; its span must be 0–100 %.
    pub op: Signal,
    /// Where the process rests before anything happens.
    pub operating_point: OperatingPoint,
    /// The sensor of the process variable.
    #[serde(default)]
    pub sensor: SensorSpec,
}

/// The tag and span of a signal.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Signal {
    /// Tag, for example `TIC-204.PV`.
    pub tag: String,
    /// Span with its unit.
    pub span: Span,
}

/// The rest before the first event.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct OperatingPoint {
    /// Process variable, in its unit; the set point starts here.
    pub pv: f64,
    /// Controller output in %.
    pub op: f64,
}

/// One controller with its settings.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Candidate {
    /// The controller.
    pub controller: ControllerSpec,
}

/// The timeline of a trial.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Scenario {
    /// Length in s, above 0 and at most 2 million scans.
    pub duration: f64,
    /// Sample period of the controller in s, above 0.
    pub scan: f64,
    /// Seed of the noise.
    #[serde(default)]
    pub seed: u64,
    /// What happens, in any order.
    pub events: Vec<Event>,
}

/// Something that happens at a time.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "kind", rename_all = "snake_case", deny_unknown_fields)]
pub enum Event {
    /// The set point moves at the first scan at or after `at`.
    SetPointStep {
        /// Time in s, within the duration.
        at: f64,
        /// Size, in PV units.
        by: f64,
    },
    /// A load acts at the process input, like a move of the OP by as much; at `at` exactly, not rounded to the scan.
    LoadStep {
        /// Time in s, within the duration.
        at: f64,
        /// Size, in % of OP.
        by: f64,
    },
    /// The operator moves the output at the first scan at or after `at`; the controller must be in manual.
    OutputStep {
        /// Time in s, within the duration.
        at: f64,
        /// Size, in %.
        by: f64,
    },
}

impl Event {
    /// Time of the event in s.
    #[must_use]
    pub fn at(&self) -> f64 {
        match self {
            Self::SetPointStep { at, .. } | Self::LoadStep { at, .. } | Self::OutputStep { at, .. } => *at,
        }
    }

    /// Size of the event, in its own unit.
    #[must_use]
    pub fn by(&self) -> f64 {
        match self {
            Self::SetPointStep { by, .. } | Self::LoadStep { by, .. } | Self::OutputStep { by, .. } => *by,
        }
    }
}

impl Trial {
    /// Refuses a trial that cannot be run, naming the field, its value and what is allowed.
    pub fn validate(&self) -> Result<()> {
        if self.version != TRIAL_VERSION {
            return Err(Error::invalid("version", self.version, TRIAL_VERSION.to_string()));
        }
        self.plant.validate()?;
        self.candidate.controller.validate()?;
        self.scenario.validate()?;
        let manual = self.candidate.controller == ControllerSpec::Manual;
        let moved = |event: &Event| matches!(event, Event::OutputStep { .. });
        if let (Some(index), false) = (self.scenario.events.iter().position(moved), manual) {
            return Err(Error::invalid(
                format!("scenario.events[{index}].kind"),
                "output_step",
                "only with a controller in manual",
            ));
        }
        let delay = self.plant.process.dead_time() / self.scenario.scan;
        if delay > MOST_DELAY_SCANS {
            return Err(Error::invalid(
                "process.dead_time",
                format!("{} s, {delay:.0} scans", self.plant.process.dead_time()),
                format!("at most {MOST_DELAY_SCANS} scans"),
            ));
        }
        Ok(())
    }

    /// SHA-256 of the trial as lower-case hexadecimal: two trials with one digest have one trace.
    #[must_use]
    pub fn digest(&self) -> String {
        // The order of the fields is that of the types, so that equal trials give equal text.
        let text = serde_json::to_vec(self).unwrap_or_default();
        hex(&Sha256::digest(text))
    }
}

impl Plant {
    fn validate(&self) -> Result<()> {
        self.process.validate()?;
        for (field, signal) in [("plant.pv", &self.pv), ("plant.op", &self.op)] {
            if signal.tag.trim().is_empty() || signal.tag.chars().count() > 64 {
                return Err(Error::invalid(format!("{field}.tag"), format!("“{}”", signal.tag), "1 to 64 characters"));
            }
            signal.span.validate(&format!("{field}.span"))?;
        }
        if (self.op.span.low, self.op.span.high) != (0.0, 100.0) {
            return Err(Error::invalid(
                "plant.op.span",
                format!("{} to {}", self.op.span.low, self.op.span.high),
                "0 to 100 %: the output of a controller is in % of its own span",
            ));
        }
        check::finite("plant.operating_point.pv", self.operating_point.pv)?;
        check::within("plant.operating_point.op", self.operating_point.op, -1000.0, 1000.0, "%")?;
        self.sensor.validate("plant.sensor")
    }
}

impl Scenario {
    fn validate(&self) -> Result<()> {
        check::positive("scenario.duration", self.duration, "s")?;
        check::positive("scenario.scan", self.scan, "s")?;
        if self.scan > self.duration {
            return Err(Error::invalid(
                "scenario.scan",
                format!("{} s", self.scan),
                format!("at most the duration, {} s", self.duration),
            ));
        }
        let scans = self.duration / self.scan;
        if scans > MOST_SCANS {
            return Err(Error::invalid(
                "scenario.duration",
                format!("{} s, {scans:.0} scans", self.duration),
                format!("at most {MOST_SCANS} scans of {} s", self.scan),
            ));
        }
        if self.events.len() > MOST_EVENTS {
            return Err(Error::invalid("scenario.events", self.events.len(), format!("at most {MOST_EVENTS}")));
        }
        for (index, event) in self.events.iter().enumerate() {
            check::within(&format!("scenario.events[{index}].at"), event.at(), 0.0, self.duration, "s")?;
            check::within(&format!("scenario.events[{index}].by"), event.by(), -1e9, 1e9, "")?;
        }
        Ok(())
    }

    /// Number of scans, the first at time 0.
    #[must_use]
    pub fn scans(&self) -> usize {
        (self.duration / self.scan + 1e-9).floor() as usize + 1
    }
}
