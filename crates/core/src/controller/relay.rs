//! The relay of a tuning experiment.

use super::{Action, Controller, Explanation, Reading};
use crate::{Result, check};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A relay with hysteresis and bias: the output stands `amplitude` above or below where it took over, and the bias beyond
/// (Åström & Hägglund, Automatica 20, 1984; the bias after Luyben & Eskinat, Int. J. Control 59, 1994, from memory).
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct RelaySettings {
    /// Amplitude d in % of OP, above 0.
    #[schema(exclusive_minimum = 0, maximum = 100)]
    pub amplitude: f64,
    /// Half the width of the hysteresis ε in % of span, 0 or more; more than the noise.
    #[serde(default)]
    #[schema(minimum = 0, maximum = 50)]
    pub hysteresis: f64,
    /// By how much the middle of the relay lies above the output at which it took over, %.
    #[serde(default)]
    pub bias: f64,
    /// Direction of action.
    #[serde(default)]
    pub action: Action,
}

impl RelaySettings {
    /// Refuses settings that cannot work, naming the field.
    pub fn validate(&self) -> Result<()> {
        check::positive("controller.amplitude", self.amplitude, "%")?;
        check::within("controller.amplitude", self.amplitude, 0.0, 100.0, "%")?;
        check::within("controller.hysteresis", self.hysteresis, 0.0, 50.0, "%")?;
        check::within("controller.bias", self.bias, -self.amplitude, self.amplitude, "%").map(drop)
    }
}

/// A relay at work.
pub struct Relay {
    settings: RelaySettings,
    rest: Option<f64>,
    up: bool,
    output: f64,
}

impl Relay {
    /// A relay.
    pub fn new(settings: &RelaySettings) -> Result<Self> {
        settings.validate()?;
        Ok(Self { settings: settings.clone(), rest: None, up: true, output: 0.0 })
    }
}

impl Controller for Relay {
    fn scan(&mut self, reading: Reading) -> f64 {
        let rest = *self.rest.get_or_insert(self.output);
        let error = self.settings.action.sign() * (reading.set_point - reading.measurement);
        if error > self.settings.hysteresis {
            self.up = true;
        } else if error < -self.settings.hysteresis {
            self.up = false;
        }
        let swing = if self.up { self.settings.amplitude } else { -self.settings.amplitude };
        self.output = (rest + self.settings.bias + swing).clamp(0.0, 100.0);
        self.output
    }

    fn track(&mut self, _: Reading, output: f64) {
        self.output = output;
        self.rest = Some(output);
    }

    fn explain(&self) -> Explanation {
        Explanation { unlimited: self.output, limited: self.output, ..Explanation::default() }
    }
}
