//! What a physical model is fitted under: the process, what its signals are called in the record, what is known and what is
//! sought.

use super::super::data::DataSet;
use crate::process::{Description, DetailedSpec, Process, ProcessSpec, Quantity};
use crate::units::Unit;
use crate::{Error, Result, check};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use utoipa::ToSchema;

/// Most unknowns that are sought at once, the starts aside, and most beginnings of a search.
const MOST_SOUGHT: usize = 24;
const MOST_BEGINNINGS: usize = 64;
/// Most channels of inputs and of outputs, and most ties.
const MOST_MAPPED: usize = 100;

/// Range of the rangeability of a valve, and one to begin with.
const RANGEABILITY: (f64, f64) = (1.001, 1000.0);
const USUAL_RANGEABILITY: f64 = 30.0;

/// A first-principles process whose unknown numbers are estimated.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct PhysicalOptions {
    /// The process: one of the library, or equations of one's own. Parameters that are not sought are known, with these values.
    pub process: DetailedSpec,
    /// The inputs that were measured.
    pub inputs: Vec<MappedInput>,
    /// Values of the inputs that were not, by name; the usual ones where left out.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub rest: BTreeMap<String, f64>,
    /// The outputs that were measured.
    pub outputs: Vec<MappedOutput>,
    /// What is sought.
    pub sought: Vec<Sought>,
    /// Parameters that go with another one.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub tied: Vec<Tie>,
    /// What is known of the states where a stretch begins.
    #[serde(default)]
    pub start: StartOfStates,
    /// Beginnings of the search: the values given, and further ones spread over the bounds.
    #[serde(default = "usual_beginnings")]
    pub beginnings: usize,
}

pub(super) fn usual_beginnings() -> usize {
    6
}

/// An input with the channel that shows it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct MappedInput {
    /// Name of the input.
    pub input: String,
    /// Tag of the channel.
    pub tag: String,
    /// Values of the input at 0 and at 100 % where the channel is in %; those that are usual for the OP where left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub range: Option<[f64; 2]>,
    /// Whether it runs straight from sample to sample, as weather does, instead of standing until the next, as an OP does.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub straight: bool,
    /// Time in s until it acts, where that is known.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub dead_time: f64,
    /// Rangeability R of a valve with an equal-percentage characteristic behind a channel in %: at an OP of x the input is
    /// `at 0 % + (at 100 % − at 0 %) R^(x − 1)`. It goes straight from one to the other where left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rangeability: Option<f64>,
}

/// An output with the channel that shows it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct MappedOutput {
    /// Name of the output.
    pub output: String,
    /// Tag of the channel.
    pub tag: String,
    /// Time constant of the sensor in s, where that is known.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub lag: f64,
    /// By how much the transmitter shows too much, in the unit of the output, where that is known.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub offset: f64,
}

#[allow(clippy::trivially_copy_pass_by_ref, reason = "serde asks for a reference")]
fn is_zero(value: &f64) -> bool {
    *value == 0.0
}

/// What a number that is sought belongs to.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum SoughtKind {
    /// A parameter of the process.
    #[default]
    Parameter,
    /// The time until an input acts.
    DeadTime,
    /// The time constant of the sensor of an output.
    Lag,
    /// By how much the transmitter of an output shows too much.
    Offset,
    /// The rangeability of the valve behind an input.
    Rangeability,
}

/// A number that is sought.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Sought {
    /// What it belongs to.
    #[serde(default)]
    pub kind: SoughtKind,
    /// Name of the parameter, the input or the output.
    pub name: String,
    /// Where the search begins; the value that the process has where left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub value: Option<f64>,
    /// Lowest value; a thousandth of the first where left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub low: Option<f64>,
    /// Highest value; a thousand times the first where left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub high: Option<f64>,
    /// Standard deviation of what is known of it beforehand, about its first value; nothing where left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub deviation: Option<f64>,
}

/// A parameter that is a multiple of another one.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Tie {
    /// Name of the parameter.
    pub parameter: String,
    /// Name of the one that it goes with.
    pub to: String,
    /// By what that one is multiplied.
    pub factor: f64,
}

/// What is known of the states where a stretch begins.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum StartOfStates {
    /// Nothing: they are estimated, for each stretch its own.
    #[default]
    Estimated,
    /// They are those that the process has at its start: a batch that was charged, say.
    Known,
}

/// A number that is sought, with its place, beginning and bounds.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Unknown {
    pub(super) kind: SoughtKind,
    /// Position of the parameter, the port or the mapped output.
    pub(super) place: usize,
    /// Name in the model, such as `loss` or `dead_time_of_power`.
    pub(super) name: String,
    pub(super) unit: String,
    pub(super) value: f64,
    pub(super) low: f64,
    pub(super) high: f64,
    pub(super) deviation: Option<f64>,
}

/// How an input comes from its channel.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Channel {
    /// Position of the input.
    pub(super) input: usize,
    /// Tag of the channel, and its place among the inputs of a data set.
    pub(super) tag: String,
    pub(super) straight: bool,
    pub(super) dead_time: f64,
    pub(super) range: Option<[f64; 2]>,
    /// Rangeability of the valve where there is one: a known one, or where the search for it begins.
    pub(super) rangeability: Option<f64>,
}

/// How an output goes to its channel.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Shown {
    /// Position of the output.
    pub(super) output: usize,
    pub(super) tag: String,
    pub(super) lag: f64,
    pub(super) offset: f64,
    /// Whether the sensor has a lag at all: a known one, or one that is sought.
    pub(super) lags: bool,
}

/// Options that were checked against their process.
pub(super) struct Task {
    pub(super) options: PhysicalOptions,
    pub(super) process: Box<dyn Process>,
    pub(super) channels: Vec<Channel>,
    pub(super) shown: Vec<Shown>,
    pub(super) unknowns: Vec<Unknown>,
    /// Parameter, the one that it goes with, and the factor.
    pub(super) ties: Vec<(usize, usize, f64)>,
    /// Values of all inputs where no channel shows them.
    pub(super) rest: Vec<f64>,
}

impl PhysicalOptions {
    /// Tags of the channels that are read besides those of the OP and the PV: inputs, and outputs.
    #[must_use]
    pub fn further_tags(&self, op: &str, pv: &str) -> (Vec<String>, Vec<String>) {
        let inputs = self.inputs.iter().map(|own| own.tag.clone()).filter(|tag| tag != op);
        let outputs = self.outputs.iter().map(|own| own.tag.clone()).filter(|tag| tag != pv);
        (inputs.collect(), outputs.collect())
    }

    /// The options checked; errors name the field below `physical`.
    pub(super) fn task(&self) -> Result<Task> {
        if self.sought.is_empty() || self.sought.len() > MOST_SOUGHT {
            let allowed = format!("1 to {MOST_SOUGHT}");
            return Err(Error::invalid("physical.sought", format!("{} numbers", self.sought.len()), allowed));
        }
        self.checked()
    }

    /// The same with nothing that is sought: everything is as it stands in the options.
    pub(super) fn known(&self) -> Result<Task> {
        let tied = self.tied.clone();
        let mut task = Self { sought: Vec::new(), tied: Vec::new(), ..self.clone() }.checked()?;
        // They are not laid over what is known any more, but still said.
        task.options.tied = tied;
        Ok(task)
    }

    fn checked(&self) -> Result<Task> {
        for (part, count) in [("inputs", self.inputs.len()), ("outputs", self.outputs.len()), ("tied", self.tied.len())]
        {
            if count > MOST_MAPPED {
                let allowed = format!("at most {MOST_MAPPED}");
                return Err(Error::invalid(format!("physical.{part}"), format!("{count} of them"), allowed));
            }
        }
        let process = ProcessSpec::Detailed(self.process.clone()).build("").map_err(|error| below(error, "process"))?;
        if process.in_dual_numbers().is_none() {
            let sentence =
                "A linear process is fitted as a structure of its own: choose a balance of the library, or equations.";
            return Err(Error::said("physical.process", sentence));
        }
        let description = process.description().clone();
        let channels = self.channels(&description)?;
        let shown = self.shown(&description)?;
        let ties = self.ties(&description)?;
        let unknowns = self.unknowns(process.as_ref(), &channels, &shown, &ties)?;
        check::within("physical.beginnings", self.beginnings as f64, 1.0, MOST_BEGINNINGS as f64, "")?;
        let rest = description.inputs_with(&self.rest, "physical.rest")?;
        Ok(Task { options: self.clone(), process, channels, shown, unknowns, ties, rest })
    }

    fn channels(&self, description: &Description) -> Result<Vec<Channel>> {
        let mut channels: Vec<Channel> = Vec::new();
        for (k, own) in self.inputs.iter().enumerate() {
            let field = format!("physical.inputs[{k}]");
            let input = Description::position(&description.inputs, &own.input, &format!("{field}.input"))?;
            if channels.iter().any(|other| other.input == input) {
                return Err(Error::said(
                    format!("{field}.input"),
                    format!("Two channels cannot both be {}.", own.input),
                ));
            }
            if self.rest.contains_key(&own.input) {
                let words = format!("{} is shown by {}: it has no value of its own.", own.input, own.tag);
                return Err(Error::said("physical.rest", words));
            }
            check::within(&format!("{field}.dead_time"), own.dead_time, 0.0, 1e9, "s")?;
            if let Some([low, high]) = own.range {
                check::finite(&format!("{field}.range[0]"), low)?;
                check::finite(&format!("{field}.range[1]"), high)?;
                if low == high {
                    return Err(Error::invalid(format!("{field}.range[1]"), high, "another value than at 0 %"));
                }
            }
            if let Some(own) = own.rangeability {
                check::within(&format!("{field}.rangeability"), own, RANGEABILITY.0, RANGEABILITY.1, "")?;
            }
            let is_sought = |sought: &&Sought| sought.kind == SoughtKind::Rangeability && sought.name == own.input;
            let sought = self.sought.iter().find(is_sought).map(|sought| sought.value.unwrap_or(USUAL_RANGEABILITY));
            channels.push(Channel {
                input,
                tag: own.tag.clone(),
                straight: own.straight,
                dead_time: own.dead_time,
                range: own.range,
                rangeability: own.rangeability.or(sought),
            });
        }
        Ok(channels)
    }

    fn shown(&self, description: &Description) -> Result<Vec<Shown>> {
        let mut shown: Vec<Shown> = Vec::new();
        for (k, own) in self.outputs.iter().enumerate() {
            let field = format!("physical.outputs[{k}]");
            let output = Description::position(&description.outputs, &own.output, &format!("{field}.output"))?;
            if shown.iter().any(|other| other.tag == own.tag) {
                return Err(Error::said(format!("{field}.tag"), format!("{} cannot show two outputs.", own.tag)));
            }
            check::within(&format!("{field}.lag"), own.lag, 0.0, 1e9, "s")?;
            check::finite(&format!("{field}.offset"), own.offset)?;
            let is_sought = |sought: &Sought| sought.kind == SoughtKind::Lag && sought.name == own.output;
            shown.push(Shown {
                output,
                tag: own.tag.clone(),
                lag: own.lag,
                offset: own.offset,
                lags: own.lag > 0.0 || self.sought.iter().any(is_sought),
            });
        }
        if shown.is_empty() {
            return Err(Error::said("physical.outputs", "No output was measured: choose the channel that shows one."));
        }
        Ok(shown)
    }

    /// Parameters that go with another one: which, with which, and how many times.
    pub(super) fn ties(&self, description: &Description) -> Result<Vec<(usize, usize, f64)>> {
        let mut ties: Vec<(usize, usize, f64)> = Vec::new();
        for (k, own) in self.tied.iter().enumerate() {
            let field = format!("physical.tied[{k}]");
            let of = |name: &str, part: &str| {
                Description::position(&description.parameters, name, &format!("{field}.{part}"))
            };
            let (parameter, to) = (of(&own.parameter, "parameter")?, of(&own.to, "to")?);
            check::finite(&format!("{field}.factor"), own.factor)?;
            if parameter == to || self.tied.iter().any(|other| other.parameter == own.to) {
                let allowed = "a parameter that goes with no other";
                return Err(Error::invalid(format!("{field}.to"), &own.to, allowed));
            }
            if ties.iter().any(|other| other.0 == parameter) {
                return Err(Error::invalid(format!("{field}.parameter"), &own.parameter, "one that is tied only once"));
            }
            ties.push((parameter, to, own.factor));
        }
        Ok(ties)
    }

    fn unknowns(
        &self,
        process: &dyn Process,
        channels: &[Channel],
        shown: &[Shown],
        ties: &[(usize, usize, f64)],
    ) -> Result<Vec<Unknown>> {
        let description = process.description();
        let mut unknowns: Vec<Unknown> = Vec::new();
        for (k, own) in self.sought.iter().enumerate() {
            let field = format!("physical.sought[{k}]");
            let name = format!("{field}.name");
            let input = || Description::position(&description.inputs, &own.name, &name);
            let output = || Description::position(&description.outputs, &own.name, &name);
            let of_channel =
                |words: &str| Error::said(&name, format!("{} has no channel: {words} is not to be had.", own.name));
            let unknown = match own.kind {
                SoughtKind::Parameter => {
                    let place = Description::position(&description.parameters, &own.name, &name)?;
                    let quantity = &description.parameters[place];
                    let Quantity { unit, low, high, .. } = quantity;
                    if ties.iter().any(|tie| tie.0 == place) {
                        return Err(Error::said(&name, format!("{} goes with another parameter.", own.name)));
                    }
                    if *low == high.round() || quantity.is_count() {
                        return Err(Error::said(&name, format!("{} is a count and not estimated.", own.name)));
                    }
                    let value = own.value.unwrap_or(process.parameters()[place]);
                    own.unknown(&field, place, own.name.clone(), unit, value, (*low, *high))?
                }
                SoughtKind::DeadTime => {
                    let input = input()?;
                    let found = channels.iter().position(|channel| channel.input == input);
                    let place = found.ok_or_else(|| of_channel("a dead time"))?;
                    let value = own.value.unwrap_or(channels[place].dead_time);
                    own.unknown(&field, place, format!("dead_time_of_{}", own.name), "s", value, (0.0, 1e9))?
                }
                SoughtKind::Rangeability => {
                    let input = input()?;
                    let found = channels.iter().position(|channel| channel.input == input);
                    let place = found.ok_or_else(|| of_channel("a valve"))?;
                    let value = own.value.or(channels[place].rangeability).unwrap_or(USUAL_RANGEABILITY);
                    own.unknown(&field, place, format!("rangeability_of_{}", own.name), "", value, RANGEABILITY)?
                }
                SoughtKind::Lag | SoughtKind::Offset => {
                    let output = output()?;
                    let found = shown.iter().position(|own| own.output == output);
                    let place = found.ok_or_else(|| of_channel("a sensor"))?;
                    if own.kind == SoughtKind::Lag {
                        let value = own.value.unwrap_or(if shown[place].lag > 0.0 { shown[place].lag } else { 1.0 });
                        own.unknown(&field, place, format!("lag_of_{}", own.name), "s", value, (1e-3, 1e9))?
                    } else {
                        let unit = &description.outputs[output].unit;
                        let value = own.value.unwrap_or(shown[place].offset);
                        own.unknown(&field, place, format!("offset_of_{}", own.name), unit, value, (-1e9, 1e9))?
                    }
                }
            };
            if unknowns.iter().any(|other| other.name == unknown.name) {
                return Err(Error::invalid(&name, &own.name, "one that is sought only once"));
            }
            unknowns.push(unknown);
        }
        Ok(unknowns)
    }
}

/// By how much the bounds of what is sought lie apart from where the search begins, where none are given.
const APART: f64 = 1e3;

impl Sought {
    /// With its bounds: those given, within what can be.
    fn unknown(
        &self,
        field: &str,
        place: usize,
        name: String,
        unit: &str,
        value: f64,
        (least, most): (f64, f64),
    ) -> Result<Unknown> {
        let field = |part: &str| format!("{field}.{part}");
        check::within(&field("value"), value, least, most, unit)?;
        let (usual_low, usual_high) = match self.kind {
            SoughtKind::Parameter | SoughtKind::Lag if value > 0.0 => (value / APART, value * APART),
            _ => (least, most),
        };
        let low = self.low.unwrap_or(usual_low.max(least));
        let high = self.high.unwrap_or(usual_high.min(most));
        check::within(&field("low"), low, least, most, unit)?;
        check::within(&field("high"), high, least, most, unit)?;
        if low >= high {
            let words = format!("The lowest {} ({low}) is not below the highest ({high}).", name.replace('_', " "));
            return Err(Error::said(field("low"), words));
        }
        check::within(&field("value"), value, low, high, unit)?;
        if let Some(deviation) = self.deviation {
            check::positive(&field("deviation"), deviation, unit)?;
        }
        let deviation = self.deviation;
        Ok(Unknown { kind: self.kind, place, name, unit: unit.to_owned(), value, low, high, deviation })
    }
}

/// An error about the process, at its field below `physical`.
fn below(error: Error, part: &str) -> Error {
    error.within(&format!("physical.{part}"), part)
}

impl Task {
    /// What makes values of the channel of an input values of the input: factor and offset.
    pub(super) fn conversion(&self, k: usize, unit: &str) -> Result<(f64, f64)> {
        let description = self.process.description();
        let channel = &self.channels[k];
        let wanted = &description.inputs[channel.input];
        let usual =
            (description.drive.input == wanted.name).then_some([description.drive.at_0, description.drive.at_100]);
        let range = channel.range.or(usual.filter(|_| unit == "%" && wanted.unit != "%"));
        if let Some([at_0, at_100]) = range {
            if unit != "%" {
                let words = format!("{} is in {unit}: only a channel in % has values at 0 and 100 %.", channel.tag);
                return Err(Error::said(format!("physical.inputs[{k}].range"), words));
            }
            return Ok(((at_100 - at_0) / 100.0, at_0));
        }
        if unit == "%" && wanted.unit != "%" {
            let words =
                format!("{} is in %: say what {} is at 0 and at 100 %.", channel.tag, wanted.name.replace('_', " "));
            return Err(Error::said(format!("physical.inputs[{k}].range"), words));
        }
        if channel.rangeability.is_some() && unit != "%" {
            let words = format!("{} is in {unit}: only a channel in % goes through a valve.", channel.tag);
            return Err(Error::said(format!("physical.inputs[{k}].rangeability"), words));
        }
        let field = format!("physical.inputs[{k}].tag");
        Ok(Unit::conversion(&field, unit, &wanted.unit)?.unwrap_or((1.0, 0.0)))
    }

    /// What makes values of an output values of its channel.
    pub(super) fn shown_in(&self, k: usize, unit: &str) -> Result<(f64, f64)> {
        let own = &self.process.description().outputs[self.shown[k].output];
        let field = format!("physical.outputs[{k}].tag");
        Ok(Unit::conversion(&field, &own.unit, unit)?.unwrap_or((1.0, 0.0)))
    }

    /// The channels of a data set in the order of the maps; errors name a tag that is not there.
    pub(super) fn check_tags(&self, data: &DataSet) -> Result<()> {
        let has = |list: &[super::super::Series], tag: &str| list.iter().any(|series| series.tag == tag);
        let tags = |list: &[super::super::Series]| {
            list.iter().map(|series| series.tag.as_str()).collect::<Vec<_>>().join(", ")
        };
        for (k, channel) in self.channels.iter().enumerate() {
            if !has(&data.inputs, &channel.tag) {
                let allowed = format!("an input of the data: {}", tags(&data.inputs));
                return Err(Error::invalid(format!("physical.inputs[{k}].tag"), &channel.tag, allowed));
            }
        }
        for (k, shown) in self.shown.iter().enumerate() {
            if !has(&data.outputs, &shown.tag) {
                let allowed = format!("an output of the data: {}", tags(&data.outputs));
                return Err(Error::invalid(format!("physical.outputs[{k}].tag"), &shown.tag, allowed));
            }
        }
        Ok(())
    }
}
