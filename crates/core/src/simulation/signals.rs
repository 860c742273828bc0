//! The signals of a plant beside its PV and OP: where several loops meet on one process, and inputs that are measured.

use super::Signal;
use crate::instrument::{ActuatorSpec, SensorSpec};
use crate::process::{Description, Quantity};
use crate::units::Span;
use crate::{Error, Result, check};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Most signals of either kind beside the PV and the OP.
pub const MOST_FURTHER: usize = 15;

/// A measured signal beside the PV.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Measured {
    /// Tag, for example `TIC-321.PV`.
    pub tag: String,
    /// Span with its unit, which is that of the output.
    pub span: Span,
    /// Name of the output of the process.
    pub output: String,
    /// Where a linear process rests, in the unit of the span; null for where the process itself says. Of other processes it
    /// follows from where the plant rests.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rest: Option<f64>,
    /// Its sensor.
    #[serde(default, skip_serializing_if = "is_perfect")]
    pub sensor: SensorSpec,
}

/// An input of the process that no OP drives and that is measured: a disturbance that a feed-forward, a ratio or a predictive controller
/// can know of, as its sensor shows it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct MeasuredInput {
    /// Tag by which controllers read it, for example `FI-205`.
    pub tag: String,
    /// Span with its unit, which is that of the input.
    pub span: Span,
    /// Name of the input of the process.
    pub input: String,
    /// Its sensor.
    #[serde(default, skip_serializing_if = "is_perfect")]
    pub sensor: SensorSpec,
}

/// A signal beside the OP that drives the process, in 0 to 100 %.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Manipulated {
    /// Tag, for example `TIC-321.OP`.
    pub tag: String,
    /// Name of the input of the process that it drives: straight from one value at 0 % to another at 100 %.
    pub input: String,
    /// The input at 0 %, in its unit.
    pub at_0: f64,
    /// The input at 100 %, other than that at 0 %.
    pub at_100: f64,
    /// Where it stands before anything happens, %.
    #[schema(minimum = 0, maximum = 100)]
    pub at_start: f64,
    /// What it drives.
    #[serde(default, skip_serializing_if = "is_direct")]
    pub actuator: ActuatorSpec,
}

fn is_perfect(sensor: &SensorSpec) -> bool {
    *sensor == SensorSpec::default()
}

pub(super) fn is_direct(actuator: &ActuatorSpec) -> bool {
    *actuator == ActuatorSpec::Direct {}
}

/// Where an OP acts, resolved.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) struct Driven {
    /// Position of the input.
    pub input: usize,
    pub at_0: f64,
    /// Change of the input per %.
    pub rate: f64,
}

impl Driven {
    /// The input that runs straight from one value to another. Errors where it cannot have them, at `field`.
    pub fn new(input: usize, quantity: &Quantity, at_0: f64, at_100: f64, field: &str) -> Result<Self> {
        for (part, value) in [("at_0", at_0), ("at_100", at_100)] {
            check::within(&format!("{field}.{part}"), value, quantity.low, quantity.high, &quantity.unit)?;
        }
        if at_0 == at_100 {
            let allowed = format!("other than that at 0 %, {at_0}");
            return Err(Error::invalid(format!("{field}.at_100"), at_100, allowed));
        }
        Ok(Self { input, at_0, rate: (at_100 - at_0) / 100.0 })
    }

    /// The input at this % of the actuator's effect.
    pub fn value(self, effect: f64) -> f64 {
        self.at_0 + self.rate * effect
    }
}

/// Position of an output that is measured. Errors where it is in another unit than the span.
pub(super) fn measured_output(description: &Description, output: usize, span: &Span, field: &str) -> Result<usize> {
    let Quantity { name, unit, .. } = &description.outputs[output];
    if unit == &span.unit {
        return Ok(output);
    }
    let allowed = format!("{unit}, the unit of {name}");
    Err(Error::invalid(format!("{field}.span.unit"), format!("“{}”", span.unit), allowed))
}

/// Refuses a tag that cannot be one.
pub(super) fn check_tag(field: &str, tag: &str) -> Result<()> {
    if tag.trim().is_empty() || tag.chars().count() > 64 {
        return Err(Error::invalid(format!("{field}.tag"), format!("“{tag}”"), "1 to 64 characters"));
    }
    Ok(())
}

impl Measured {
    pub(super) fn validate(&self, field: &str) -> Result<()> {
        check_tag(field, &self.tag)?;
        self.span.validate(&format!("{field}.span"))?;
        if let Some(rest) = self.rest {
            check::finite(&format!("{field}.rest"), rest)?;
        }
        self.sensor.validate(&format!("{field}.sensor"))
    }

    pub(super) fn position(&self, description: &Description, field: &str) -> Result<usize> {
        let output = Description::position(&description.outputs, &self.output, &format!("{field}.output"))?;
        measured_output(description, output, &self.span, field)
    }

    /// Its tag and span.
    #[must_use]
    pub fn signal(&self) -> Signal {
        Signal { tag: self.tag.clone(), span: self.span.clone() }
    }
}

impl MeasuredInput {
    pub(super) fn validate(&self, field: &str) -> Result<()> {
        check_tag(field, &self.tag)?;
        self.span.validate(&format!("{field}.span"))?;
        self.sensor.validate(&format!("{field}.sensor"))
    }

    /// Position of the input. Errors where an OP drives it, or it is in another unit than the span.
    pub(super) fn position(&self, description: &Description, driven: &[usize], field: &str) -> Result<usize> {
        let input = Description::position(&description.inputs, &self.input, &format!("{field}.input"))?;
        if driven.contains(&input) {
            let sentence = format!("{} is driven by an OP, and no disturbance.", self.input);
            return Err(Error::said(format!("{field}.input"), sentence));
        }
        let Quantity { name, unit, .. } = &description.inputs[input];
        if unit == &self.span.unit {
            return Ok(input);
        }
        let allowed = format!("{unit}, the unit of {name}");
        Err(Error::invalid(format!("{field}.span.unit"), format!("“{}”", self.span.unit), allowed))
    }
}

impl Manipulated {
    pub(super) fn validate(&self, field: &str, scan: f64) -> Result<()> {
        check_tag(field, &self.tag)?;
        check::within(&format!("{field}.at_start"), self.at_start, 0.0, 100.0, "%")?;
        self.actuator.validate(&format!("{field}.actuator"), scan)
    }

    pub(super) fn driven(&self, description: &Description, field: &str) -> Result<Driven> {
        let input = Description::position(&description.inputs, &self.input, &format!("{field}.input"))?;
        Driven::new(input, &description.inputs[input], self.at_0, self.at_100, field)
    }
}
