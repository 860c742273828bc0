//! What a physical model begins with: which channel of a record is which signal of the process, as far as names and units tell.

use super::options::{MappedInput, MappedOutput, PhysicalOptions, StartOfStates};
use crate::process::{Description, DetailedSpec, ProcessSpec, Quantity};
use crate::series::{Channel, Record, Role};
use crate::units::Unit;
use crate::{Error, Result};
use std::collections::BTreeMap;

/// Whether a unit is that of a quantity, or converts into it.
fn converts(unit: &str, quantity: &Quantity) -> bool {
    Unit::conversion("", unit, &quantity.unit).is_ok()
}

/// How many words of a quantity's name stand in a tag; the more, the likelier it is shown there.
fn likeness(tag: &str, quantity: &Quantity) -> usize {
    let tag = tag.to_lowercase();
    quantity.name.split('_').filter(|word| word.len() > 2 && tag.contains(word)).count()
}

impl PhysicalOptions {
    /// The process with the channels of a record, nothing sought yet: the PV shows the first output whose unit it has, the OP drives
    /// what is usual, and measured disturbances are inputs of their units in their order.
    ///
    /// Errors when the PV shows no output of the process.
    pub fn begin(process: DetailedSpec, record: &Record, pv_unit: &str) -> Result<Self> {
        let description = ProcessSpec::Detailed(process.clone()).describe("")?;
        let pv = record
            .channel(Role::Pv)
            .ok_or_else(|| Error::unfit("the record has no PV", "import it with a column for the PV"))?;
        let shown = description.outputs.iter().find(|output| converts(pv_unit, output)).ok_or_else(|| {
            let outputs: Vec<String> = description
                .outputs
                .iter()
                .map(|own| format!("{} in {}", own.name.replace('_', " "), own.unit))
                .collect();
            Error::said("process", format!("{} is in {pv_unit}: this process has {}.", pv.tag, outputs.join(", ")))
        })?;
        let mut inputs: Vec<MappedInput> = Vec::new();
        let mapped = |input: &str, channel: &Channel| MappedInput {
            input: input.to_owned(),
            tag: channel.tag.clone(),
            range: None,
            straight: false,
            dead_time: 0.0,
            rangeability: None,
        };
        if let Some(op) = record.channel(Role::Op) {
            inputs.push(mapped(&description.drive.input, op));
            let wanted = description.inputs.iter().find(|own| own.name == description.drive.input);
            if wanted.is_some_and(|own| own.unit != "%") {
                inputs[0].range = Some([description.drive.at_0, description.drive.at_100]);
            }
        }
        let mut free: Vec<&Quantity> =
            description.inputs.iter().filter(|own| own.name != description.drive.input).collect();
        for channel in record.channels.iter().filter(|channel| channel.role == Role::Dv) {
            let likely = (0..free.len())
                .filter(|k| converts(&channel.unit, free[*k]))
                .max_by_key(|k| (likeness(&channel.tag, free[*k]), std::cmp::Reverse(*k)));
            if let Some(k) = likely {
                inputs.push(mapped(&free.remove(k).name, channel));
            }
        }
        Ok(Self {
            inputs,
            rest: BTreeMap::new(),
            outputs: vec![MappedOutput { output: shown.name.clone(), tag: pv.tag.clone(), lag: 0.0, offset: 0.0 }],
            sought: Vec::new(),
            tied: Vec::new(),
            start: if description.batch { StartOfStates::Known } else { StartOfStates::Estimated },
            beginnings: super::options::usual_beginnings(),
            process,
        })
    }

    /// What the process says of itself, with the values that it has here.
    pub fn described(&self) -> Result<Description> {
        let process = ProcessSpec::Detailed(self.process.clone()).build("")?;
        let mut description = process.description().clone();
        for (parameter, value) in description.parameters.iter_mut().zip(process.parameters()) {
            parameter.value = *value;
        }
        Ok(description)
    }
}
