//! The signals of a plant that are to be controlled together.

use crate::assessment::{DrivenInput, InteractionQuestion, MeasuredOutput, SignalOffers, usual_span};
use crate::process::{Description, Quantity};
use crate::simulation::{Drive, Manipulated, Measured, MeasuredInput, Plant};
use crate::{Error, Result};

/// The plant with all signals of the question, pair by pair: its PV and the input paired with it first.
pub(super) fn plant_of_pairs(plant: &Plant, pairs: &InteractionQuestion) -> Result<Plant> {
    pairs.check(plant)?;
    let description = plant.describe()?;
    let first_output = description.outputs.first().map_or("", |output| &output.name);
    let own_output = plant.measured.as_deref().unwrap_or(first_output).to_owned();
    let Some(own) = pairs.outputs.iter().position(|one| one.output == own_output) else {
        let names: Vec<&str> = pairs.outputs.iter().map(|one| one.output.as_str()).collect();
        let allowed = format!("with {own_output}, which the plant measures as its PV");
        return Err(Error::invalid("pairs.outputs", names.join(", "), allowed));
    };
    let mut built = plant.clone();
    let (known_measured, known_driven) = (plant.further_measured.clone(), plant.further_driven.clone());
    built.further_measured.clear();
    built.further_driven.clear();
    let mut order: Vec<usize> = (0..pairs.outputs.len()).collect();
    order.swap(0, own);
    for k in &order[1..] {
        let one = &pairs.outputs[*k];
        let known = known_measured.iter().find(|known| known.output == one.output).cloned();
        built.further_measured.push(known.unwrap_or_else(|| new_measured(one)));
    }
    let own_drive = own_drive(plant, &description);
    for (place, k) in order.iter().enumerate() {
        let one = &pairs.inputs[*k];
        if one.input == own_drive.input {
            if place > 0 {
                // Another loop has the input of the plant's own OP: it takes that OP with it.
                let at_start = plant.start()?.op;
                built.further_driven.push(Manipulated {
                    tag: plant.op.tag.clone(),
                    input: own_drive.input.clone(),
                    at_0: own_drive.at_0,
                    at_100: own_drive.at_100,
                    at_start,
                    actuator: plant.actuator.clone(),
                });
            }
            continue;
        }
        let known = known_driven.iter().find(|known| known.input == one.input).cloned();
        let driven = known.map_or_else(|| new_driven(plant, &description, one), Ok)?;
        if place == 0 {
            built.op.tag = driven.tag;
            built.drive = Some(Drive { input: driven.input, at_0: driven.at_0, at_100: driven.at_100 });
            built.actuator = driven.actuator;
            built.operating_point.op = driven.at_start;
        } else {
            built.further_driven.push(driven);
        }
        built.inputs.remove(&one.input);
    }
    built.start().map(|_| built)
}

fn own_drive(plant: &Plant, description: &Description) -> Drive {
    let usual = &description.drive;
    plant.drive.clone().unwrap_or_else(|| Drive { input: usual.input.clone(), at_0: usual.at_0, at_100: usual.at_100 })
}

/// A signal that a plant is to have besides those that it has.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FurtherSignal<'a> {
    /// An output of the process, measured.
    Output(&'a str),
    /// An input of the process, driven by an OP.
    Driven(&'a str),
    /// An input of the process that no OP drives, measured as a disturbance.
    Disturbance(&'a str),
}

/// A plant with more signals, on the spans that are usual for them. Errors where the process has no such output or input, or it is
/// measured or driven already.
pub fn with_further(plant: &Plant, signals: &[FurtherSignal]) -> Result<Plant> {
    let (description, offers) = (plant.describe()?, SignalOffers::of(plant)?);
    let mut with = plant.clone();
    for signal in signals {
        match *signal {
            FurtherSignal::Output(name) => {
                let place = Description::position(&description.outputs, name, "output")?;
                let own = plant.measured.as_ref().map_or(place == 0, |measured| measured == name);
                if own || with.further_measured.iter().any(|one| one.output == name) {
                    return Err(Error::invalid("output", format!("“{name}”"), "one that is not measured yet"));
                }
                with.further_measured.extend(offers.outputs.iter().filter(|one| one.output == name).map(new_measured));
            }
            FurtherSignal::Driven(name) => {
                Description::position(&description.inputs, name, "input")?;
                let own = own_drive(plant, &description).input == name;
                if own || with.further_driven.iter().any(|one| one.input == name) {
                    return Err(Error::invalid("input", format!("“{name}”"), "one that is not driven yet"));
                }
                for one in offers.inputs.iter().filter(|one| one.input == name) {
                    with.further_driven.push(new_driven(plant, &description, one)?);
                }
                with.inputs.remove(name);
            }
            FurtherSignal::Disturbance(name) => {
                let place = Description::position(&description.inputs, name, "disturbance")?;
                if with.measured_disturbances.iter().any(|one| one.input == name) {
                    return Err(Error::invalid("disturbance", format!("“{name}”"), "one that is not measured yet"));
                }
                with.measured_disturbances.push(new_disturbance(&with, &description.inputs[place]));
            }
        }
    }
    with.start().map(|_| with)
}

fn new_disturbance(plant: &Plant, input: &Quantity) -> MeasuredInput {
    let stands = plant.inputs.get(&input.name).copied().unwrap_or(input.value);
    MeasuredInput {
        tag: format!("{}.DV", input.name.replace('_', " ")),
        span: usual_span(&Quantity { value: stands, ..input.clone() }),
        input: input.name.clone(),
        sensor: Default::default(),
    }
}

fn new_measured(one: &MeasuredOutput) -> Measured {
    Measured {
        tag: format!("{}.PV", one.output.replace('_', " ")),
        span: one.span.clone(),
        output: one.output.clone(),
        rest: None,
        sensor: Default::default(),
    }
}

/// A driven signal where the plant had an input that stood still.
fn new_driven(plant: &Plant, description: &Description, one: &DrivenInput) -> Result<Manipulated> {
    let place = Description::position(&description.inputs, &one.input, "pairs.inputs")?;
    let stands = plant.inputs.get(&one.input).copied().unwrap_or(description.inputs[place].value);
    let at_start = 100.0 * (stands - one.at_0) / (one.at_100 - one.at_0);
    if !(0.0..=100.0).contains(&at_start) {
        let unit = &description.inputs[place].unit;
        let allowed = format!("a range that holds {stands} {unit}, where it stands");
        let value = format!("{} to {} {unit}", one.at_0, one.at_100);
        return Err(Error::invalid("pairs.inputs", value, allowed));
    }
    Ok(Manipulated {
        tag: format!("{}.OP", one.input.replace('_', " ")),
        input: one.input.clone(),
        at_0: one.at_0,
        at_100: one.at_100,
        at_start,
        actuator: crate::instrument::ActuatorSpec::Direct {},
    })
}
