//! Between which signals interaction is asked for, and on which scales.

use super::MOST_PAIRS;
use crate::process::{Description, Quantity};
use crate::simulation::Plant;
use crate::units::Span;
use crate::{Error, Result, check};
use serde::{Deserialize, Serialize};
use std::collections::HashSet;
use utoipa::ToSchema;

/// Between which outputs and inputs of a process interaction is looked at: as many of each, 2 to 6.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct InteractionQuestion {
    /// The outputs that are to be controlled.
    pub outputs: Vec<MeasuredOutput>,
    /// The inputs that are to control them.
    pub inputs: Vec<DrivenInput>,
}

/// An output with the span over which it is measured.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct MeasuredOutput {
    /// Its name.
    pub output: String,
    /// Its span, in its unit.
    pub span: Span,
}

/// An input with the range over which an output of a controller drives it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct DrivenInput {
    /// Its name.
    pub input: String,
    /// Its value at 0 %, in its unit.
    pub at_0: f64,
    /// Its value at 100 %, other than that at 0 %.
    pub at_100: f64,
}

/// Twice its usual value, or a little more.
fn high(quantity: &Quantity) -> f64 {
    if quantity.value == 0.0 { 100.0 } else { 2.5 * crate::simulation::round_down(quantity.value.abs().max(1e-6)) }
}

/// The one that is named, and the others.
fn first_and_others<'a>(all: &'a [Quantity], named: &str) -> (Option<&'a Quantity>, Vec<&'a Quantity>) {
    let (named, others): (Vec<&Quantity>, Vec<&Quantity>) = all.iter().partition(|one| one.name == named);
    (named.first().copied(), others)
}

/// Signals by their places, each with the factor that takes it to %.
type Scales = Vec<(usize, f64)>;

/// Ranges beyond this are no more than bounds of what can be typed.
const NO_RANGE: f64 = 1e6;

impl InteractionQuestion {
    /// What one would ask of a plant first: that output which it measures and another, that input which it drives and another, the
    /// first that can be moved apart. What it measures and drives stands on the spans that it has, other signals on spans that hold
    /// twice their usual values. None where there are not two of each.
    pub fn usual(plant: &Plant) -> Result<Option<Self>> {
        let description = &plant.describe()?;
        let all = (&description.outputs, &description.inputs);
        let first = all.0.first().map_or("", |output| &output.name);
        let measured = plant.measured.as_deref().unwrap_or(first);
        let usual = &description.drive;
        let (driven, at_0, at_100) = match &plant.drive {
            Some(drive) => (&drive.input, drive.at_0, drive.at_100),
            None => (&usual.input, usual.at_0, usual.at_100),
        };
        let asked_output = |output: &Quantity| {
            let own = output.name == measured;
            let span = if own { plant.pv.span.clone() } else { Span::new(0.0, high(output), &output.unit) };
            MeasuredOutput { output: output.name.clone(), span }
        };
        let asked_input = |input: &Quantity| {
            // Bounds of what can be typed are no range over which anything is driven.
            let is_range = input.low.abs() < NO_RANGE && input.high.abs() < NO_RANGE;
            let (at_0, at_100) = match input.value {
                _ if input.name == *driven => (at_0, at_100),
                0.0 if is_range => (input.low, input.high),
                _ => (0.0, high(input)),
            };
            DrivenInput { input: input.name.clone(), at_0, at_100 }
        };
        let (outputs, inputs) = (first_and_others(all.0, measured), first_and_others(all.1, driven));
        let mut questions = inputs.1.iter().flat_map(|input| outputs.1.iter().map(move |output| (output, input))).map(
            |(output, input)| Self {
                outputs: outputs.0.iter().chain([output]).map(|one| asked_output(one)).collect(),
                inputs: inputs.0.iter().chain([input]).map(|one| asked_input(one)).collect(),
            },
        );
        let Some(first) = questions.next() else { return Ok(None) };
        // Where it cannot be looked at, the answer to the question says why.
        let Ok(matrix) = super::matrix_of(plant) else { return Ok(Some(first)) };
        let moves_apart = |question: &Self| {
            question
                .scales(description)
                .is_ok_and(|(outputs, inputs)| super::can_be_moved(&matrix.part(&outputs, &inputs)))
        };
        if moves_apart(&first) {
            return Ok(Some(first));
        }
        Ok(Some(questions.find(moves_apart).unwrap_or(first)))
    }

    /// Refuses a question that does not fit a plant.
    pub(crate) fn check(&self, plant: &Plant) -> Result<()> {
        self.scales(&plant.describe()?).map(drop)
    }

    /// Names of the outputs and of the inputs.
    pub(super) fn names(&self) -> (Vec<String>, Vec<String>) {
        let outputs = self.outputs.iter().map(|one| one.output.clone()).collect();
        (outputs, self.inputs.iter().map(|one| one.input.clone()).collect())
    }

    /// The places of the signals and their factors to %. Errors name what does not fit.
    pub(super) fn scales(&self, description: &Description) -> Result<(Scales, Scales)> {
        let (outputs, inputs) = (self.outputs.len(), self.inputs.len());
        if outputs != inputs || !(2..=MOST_PAIRS).contains(&outputs) {
            let allowed = format!("as many of each, 2 to {MOST_PAIRS}");
            return Err(Error::invalid("inputs", format!("{outputs} outputs and {inputs} inputs"), allowed));
        }
        let mut known = HashSet::new();
        let mut of_outputs = Vec::new();
        for (k, one) in self.outputs.iter().enumerate() {
            let field = format!("outputs[{k}]");
            let place = Description::position(&description.outputs, &one.output, &format!("{field}.output"))?;
            let unit = &description.outputs[place].unit;
            one.span.validate(&format!("{field}.span"))?;
            if !known.insert(place) {
                return Err(Error::invalid(format!("{field}.output"), &one.output, "each output once"));
            }
            if *unit != one.span.unit {
                return Err(Error::invalid(format!("{field}.span.unit"), &one.span.unit, format!("{unit}, its unit")));
            }
            of_outputs.push((place, 100.0 / one.span.width()));
        }
        known.clear();
        let mut of_inputs = Vec::new();
        for (k, one) in self.inputs.iter().enumerate() {
            let field = format!("inputs[{k}]");
            let place = Description::position(&description.inputs, &one.input, &format!("{field}.input"))?;
            check::within(&format!("{field}.at_0"), one.at_0, -1e9, 1e9, "")?;
            check::within(&format!("{field}.at_100"), one.at_100, -1e9, 1e9, "")?;
            if !known.insert(place) {
                return Err(Error::invalid(format!("{field}.input"), &one.input, "each input once"));
            }
            if one.at_0 == one.at_100 {
                let allowed = format!("other than that at 0 %, {}", one.at_0);
                return Err(Error::invalid(format!("{field}.at_100"), one.at_100, allowed));
            }
            of_inputs.push((place, (one.at_100 - one.at_0) / 100.0));
        }
        Ok((of_outputs, of_inputs))
    }
}
