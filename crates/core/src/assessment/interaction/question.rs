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

/// A span that holds its usual value and as much again.
pub(crate) fn usual_span(quantity: &Quantity) -> Span {
    let [low, high] = if quantity.value < 0.0 { [-high(quantity), 0.0] } else { [0.0, high(quantity)] };
    Span::new(low, high, &quantity.unit)
}

/// Signals by their places, each with the factor that takes it to %.
type Scales = Vec<(usize, f64)>;

/// Ranges beyond this are no more than bounds of what can be typed.
const NO_RANGE: f64 = 1e6;

/// All signals of the process of a plant that can be measured or driven, on the spans that one would take: what the plant measures and
/// drives on the spans that it has, others on spans that hold twice their usual values. The plant's own PV and OP come first.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct SignalOffers {
    /// The outputs.
    pub outputs: Vec<MeasuredOutput>,
    /// The inputs.
    pub inputs: Vec<DrivenInput>,
    /// Between how many of each interaction can be looked at.
    pub most_pairs: usize,
}

impl SignalOffers {
    /// Of a plant.
    pub fn of(plant: &Plant) -> Result<Self> {
        let description = &plant.describe()?;
        let first = description.outputs.first().map_or("", |output| &output.name);
        let measured = plant.measured.as_deref().unwrap_or(first);
        let usual = &description.drive;
        let (driven, at_0, at_100) = match &plant.drive {
            Some(drive) => (&drive.input, drive.at_0, drive.at_100),
            None => (&usual.input, usual.at_0, usual.at_100),
        };
        let output = |quantity: &Quantity| {
            let further = plant.further_measured.iter().find(|one| one.output == quantity.name).map(|one| &one.span);
            let own = (quantity.name == measured).then_some(&plant.pv.span);
            let span = own.or(further).cloned().unwrap_or_else(|| usual_span(quantity));
            MeasuredOutput { output: quantity.name.clone(), span }
        };
        let input = |quantity: &Quantity| {
            let further = plant.further_driven.iter().find(|one| one.input == quantity.name);
            // Bounds of what can be typed are no range over which anything is driven.
            let is_range = quantity.low.abs() < NO_RANGE && quantity.high.abs() < NO_RANGE;
            let (at_0, at_100) = match quantity.value {
                _ if quantity.name == *driven => (at_0, at_100),
                _ if further.is_some() => further.map_or((0.0, 100.0), |one| (one.at_0, one.at_100)),
                0.0 if is_range => (quantity.low, quantity.high),
                _ => (0.0, high(quantity)),
            };
            DrivenInput { input: quantity.name.clone(), at_0, at_100 }
        };
        let rank_output = |one: &MeasuredOutput| match &one.output {
            name if name == measured => 0,
            name if plant.further_measured.iter().any(|known| known.output == *name) => 1,
            _ => 2,
        };
        let rank_input = |one: &DrivenInput| match &one.input {
            name if name == driven => 0,
            name if plant.further_driven.iter().any(|known| known.input == *name) => 1,
            _ => 2,
        };
        let mut outputs: Vec<MeasuredOutput> = description.outputs.iter().map(output).collect();
        let mut inputs: Vec<DrivenInput> = description.inputs.iter().map(input).collect();
        outputs.sort_by_key(rank_output);
        inputs.sort_by_key(rank_input);
        Ok(Self { outputs, inputs, most_pairs: MOST_PAIRS })
    }
}

impl InteractionQuestion {
    /// What one would ask of a plant first: the signals that it measures and drives, where it has several; else that output which it
    /// measures and another, that input which it drives and another, the first that can be moved apart. None where there are not two of
    /// each.
    pub fn usual(plant: &Plant) -> Result<Option<Self>> {
        let description = &plant.describe()?;
        let SignalOffers { outputs, inputs, .. } = SignalOffers::of(plant)?;
        let known = plant.further_measured.len().min(plant.further_driven.len());
        if known > 0 {
            let pairs = (known + 1).min(MOST_PAIRS);
            return Ok(Some(Self { outputs: outputs[..pairs].to_vec(), inputs: inputs[..pairs].to_vec() }));
        }
        let (Some((output, other_outputs)), Some((input, other_inputs))) =
            (outputs.split_first(), inputs.split_first())
        else {
            return Ok(None);
        };
        let mut questions = other_inputs.iter().flat_map(|second_input| {
            other_outputs.iter().map(move |second_output| Self {
                outputs: vec![output.clone(), second_output.clone()],
                inputs: vec![input.clone(), second_input.clone()],
            })
        });
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

    /// The usual question with its inputs in the order of the pairing that is to be preferred. None where there is none.
    pub fn recommended(plant: &Plant) -> Result<Option<Self>> {
        let Some(usual) = Self::usual(plant)? else { return Ok(None) };
        let interaction = super::Interaction::of(plant, &usual)?;
        Ok(interaction.pairings.first().map(|pairing| usual.paired(pairing)))
    }

    /// The same signals, the inputs in the order of a pairing.
    #[must_use]
    pub fn paired(&self, pairing: &super::Pairing) -> Self {
        let of = |output: &MeasuredOutput| {
            let pair = pairing.pairs.iter().find(|pair| pair.output == output.output)?;
            self.inputs.iter().find(|input| input.input == pair.input).cloned()
        };
        Self { outputs: self.outputs.clone(), inputs: self.outputs.iter().filter_map(of).collect() }
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
