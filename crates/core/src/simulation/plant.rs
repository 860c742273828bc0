//! A plant as plain data: a process with its actuator and sensor, and where it rests.

use super::signals::{
    Driven, MOST_FURTHER, Manipulated, Measured, MeasuredInput, check_tag, is_direct, measured_output,
};
use crate::instrument::{ActuatorSpec, SensorSpec};
use crate::lti::StateSpace;
use crate::process::{
    Bound, Description, Held, LinearProcess, Process, ProcessSpec, Quantity, Rest, SteadyState, at_ports,
    linear_channel, rests_at, steady_states,
};
use crate::units::Span;
use crate::{Error, Result, check};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use utoipa::ToSchema;

/// A process with its actuator and its sensor, and the spans of its signals.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Plant {
    /// The process.
    pub process: ProcessSpec,
    /// Process variable.
    pub pv: Signal,
    /// Controller output; its span must be 0–100 %.
    pub op: Signal,
    /// Where the process is before anything happens.
    pub operating_point: OperatingPoint,
    /// Name of the output that is measured; null for the first.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub measured: Option<String>,
    /// Which input the OP drives, and over which range; null for what is usual for the process.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub drive: Option<Drive>,
    /// Values of the other inputs before anything happens, by name, where they differ from the usual ones.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub inputs: BTreeMap<String, f64>,
    /// What the OP drives.
    #[serde(default, skip_serializing_if = "is_direct")]
    pub actuator: ActuatorSpec,
    /// The sensor of the process variable.
    #[serde(default)]
    pub sensor: SensorSpec,
    /// What is measured besides the PV, where several loops meet on one process.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub further_measured: Vec<Measured>,
    /// What drives the process besides the OP.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub further_driven: Vec<Manipulated>,
    /// The inputs that are measured, each by a sensor of its own.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub measured_disturbances: Vec<MeasuredInput>,
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

/// The input that the OP drives: straight from one value at 0 % to another at 100 % of the actuator's effect.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Drive {
    /// Name of the input.
    pub input: String,
    /// Its value at 0 %, in its unit.
    pub at_0: f64,
    /// Its value at 100 %, other than that at 0 %.
    pub at_100: f64,
}

/// What there is before the first event.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct OperatingPoint {
    /// Process variable, in its unit; the set point starts here. A process with balances is brought to rest at this value.
    pub pv: f64,
    /// Controller output in %. Where a process is brought to rest the OP follows from the PV; of several, that nearest to
    /// this one is taken.
    pub op: f64,
    /// States to start from, by name, instead of rest: of a batch, say. Those not named have their usual values.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub states: Option<BTreeMap<String, f64>>,
}

impl OperatingPoint {
    /// At rest.
    #[must_use]
    pub fn new(pv: f64, op: f64) -> Self {
        Self { pv, op, states: None }
    }
}

/// The first output at rest under the usual inputs, to four digits; of several that nearest to the usual states, and these
/// themselves where there is no rest.
fn usual_output(process: &ProcessSpec, description: &Description) -> Result<f64> {
    let running = process.build("%")?;
    let values = |quantities: &[Quantity]| quantities.iter().map(|quantity| quantity.value).collect::<Vec<f64>>();
    let (state, inputs) = (values(&description.states), values(&description.inputs));
    let mut outputs = vec![0.0; description.outputs.len()];
    running.outputs(&state, &at_ports(running.as_ref(), &inputs), Held::default(), &mut outputs);
    let first = outputs[0];
    let stays = description.batch || process.linear_process("%")?.is_some();
    let rests = if stays { Vec::new() } else { steady_states(running.as_ref(), &inputs) };
    let nearest = rests
        .iter()
        .map(|rest| rest.outputs[0])
        .min_by(|a, b| (a - first).abs().total_cmp(&(b - first).abs()))
        .unwrap_or(first);
    let digits = 10f64.powf(3.0 - nearest.abs().max(1e-9).log10().floor());
    Ok((nearest * digits).round() / digits)
}

/// A plant brought to where it starts.
pub struct Started {
    /// The process; of a linear one the sensor's lag is part.
    pub process: Box<dyn Process>,
    /// Its states.
    pub state: Vec<f64>,
    /// Its inputs.
    pub inputs: Vec<f64>,
    /// The OP in %.
    pub op: f64,
    /// The PV.
    pub pv: f64,
    /// Position of the measured output.
    pub output: usize,
    pub(super) driven: Driven,
    /// The same of the further measured and driven signals.
    pub(super) further_outputs: Vec<usize>,
    pub(super) further_drives: Vec<Driven>,
    /// Whether nothing moves by itself.
    pub at_rest: bool,
    /// Whether the sensor's lag is in the process already.
    pub lag_inside: bool,
}

impl Started {
    /// Positions of the measured outputs, that of the PV first.
    #[must_use]
    pub fn measured_outputs(&self) -> Vec<usize> {
        std::iter::once(self.output).chain(self.further_outputs.iter().copied()).collect()
    }

    /// The inputs that the OPs of `plant`, which this has become of, drive, that of its own first: which, and how much it changes per % of
    /// OP where the plant starts.
    #[must_use]
    pub fn driven_inputs(&self, plant: &Plant) -> Vec<(usize, f64)> {
        let own = (&self.driven, &plant.actuator, self.op);
        let further = self.further_drives.iter().zip(&plant.further_driven);
        std::iter::once(own)
            .chain(further.map(|(driven, one)| (driven, &one.actuator, one.at_start)))
            .map(|(driven, actuator, op)| (driven.input, driven.rate * slope(actuator, op)))
            .collect()
    }
}

/// The inputs that OPs drive, that of the plant's own first.
fn inputs_of(driven: Driven, further: &[Driven]) -> Vec<usize> {
    std::iter::once(&driven).chain(further).map(|drive| drive.input).collect()
}

/// Change of what an actuator does per % of OP.
fn slope(actuator: &ActuatorSpec, op: f64) -> f64 {
    let nudge = 0.05;
    (actuator.effect(op + nudge) - actuator.effect(op - nudge)) / (2.0 * nudge)
}

/// Time constants of a sensor below this, in s, are not seen in a linearisation.
const SHORTEST_LAG: f64 = 1e-6;

impl Plant {
    /// A process measured and driven at its first output and input, without anything in between.
    pub fn plain(process: impl Into<ProcessSpec>, pv: Signal, op: Signal, operating_point: OperatingPoint) -> Self {
        Self {
            process: process.into(),
            pv,
            op,
            operating_point,
            measured: None,
            drive: None,
            inputs: BTreeMap::new(),
            actuator: ActuatorSpec::Direct {},
            sensor: SensorSpec::default(),
            further_measured: Vec::new(),
            further_driven: Vec::new(),
            measured_disturbances: Vec::new(),
        }
    }

    /// What the loop of the PV and the OP is called: the tag of the PV without its `.PV`.
    #[must_use]
    pub fn loop_tag(&self) -> &str {
        self.pv.tag.strip_suffix(".PV").unwrap_or(&self.pv.tag)
    }

    /// All sensors, with where they stand in the document.
    pub fn sensors(&self) -> impl Iterator<Item = (String, &SensorSpec)> {
        let further = self.further_measured.iter().enumerate();
        std::iter::once(("plant.sensor".to_owned(), &self.sensor))
            .chain(further.map(|(k, signal)| (format!("plant.further_measured[{k}].sensor"), &signal.sensor)))
    }

    /// The sensors of inputs that are measured, with where they stand in the document.
    pub fn disturbance_sensors(&self) -> impl Iterator<Item = (String, &SensorSpec)> {
        let all = self.measured_disturbances.iter().enumerate();
        all.map(|(k, signal)| (format!("plant.measured_disturbances[{k}].sensor"), &signal.sensor))
    }

    /// What a controller reads to know of an input: the tag of its sensor, or the name of the input itself, which nobody measures.
    #[must_use]
    pub fn signal_of_input<'a>(&'a self, input: &'a str) -> &'a str {
        self.measured_disturbances.iter().find(|one| one.input == input).map_or(input, |one| &one.tag)
    }

    /// A plant to begin with: the process driven and measured as usual, at rest where it usually is, `tag` before the tags
    /// of its signals, and spans that hold twice the usual values.
    pub fn usual(process: ProcessSpec, tag: &str) -> Result<Self> {
        const PLAIN: &str = "%";
        let description = process.describe(PLAIN)?;
        let signal = |part: &str, high: f64, unit: &str| Signal {
            tag: format!("{tag}.{part}"),
            span: Span::new(0.0, high, unit),
        };
        let op = signal("OP", 100.0, "%");
        if process.as_linear().is_some() {
            let pv = signal("PV", 100.0, PLAIN);
            return Ok(Self::plain(process, pv, op, OperatingPoint::new(50.0, 50.0)));
        }
        let drive = &description.drive;
        let input = Description::position(&description.inputs, &drive.input, "drive")?;
        let usual_op = 100.0 * (description.inputs[input].value - drive.at_0) / (drive.at_100 - drive.at_0);
        let unit = description.outputs[0].unit.clone();
        let value = usual_output(&process, &description)?;
        let pv = signal("PV", 2.5 * super::round_down(value.abs().max(1e-6)), &unit);
        let states = description.batch.then(BTreeMap::new);
        Ok(Self::plain(process, pv, op, OperatingPoint { pv: value, op: usual_op, states }))
    }

    /// What its process says of itself.
    pub fn describe(&self) -> Result<Description> {
        self.process.describe(&self.pv.span.unit)
    }

    /// Refuses a plant that cannot be, but for where it starts.
    pub fn validate(&self, scan: f64) -> Result<()> {
        for (field, signal) in [("plant.pv", &self.pv), ("plant.op", &self.op)] {
            check_tag(field, &signal.tag)?;
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
        check::within("plant.operating_point.op", self.operating_point.op, 0.0, 100.0, "%")?;
        self.actuator.validate("plant.actuator", scan)?;
        self.sensor.validate("plant.sensor")?;
        self.validate_further(scan)
    }

    fn validate_further(&self, scan: f64) -> Result<()> {
        let counts = [
            ("further_measured", self.further_measured.len()),
            ("further_driven", self.further_driven.len()),
            ("measured_disturbances", self.measured_disturbances.len()),
        ];
        for (list, count) in counts {
            if count > MOST_FURTHER {
                return Err(Error::invalid(format!("plant.{list}"), count, format!("at most {MOST_FURTHER}")));
            }
        }
        for (k, signal) in self.further_measured.iter().enumerate() {
            signal.validate(&format!("plant.further_measured[{k}]"))?;
        }
        for (k, signal) in self.further_driven.iter().enumerate() {
            signal.validate(&format!("plant.further_driven[{k}]"), scan)?;
        }
        for (k, signal) in self.measured_disturbances.iter().enumerate() {
            signal.validate(&format!("plant.measured_disturbances[{k}]"))?;
        }
        let mut known = vec![self.pv.tag.as_str()];
        let measured =
            self.further_measured.iter().enumerate().map(|(k, one)| (format!("further_measured[{k}]"), &one.tag));
        let driven = self.further_driven.iter().enumerate().map(|(k, one)| (format!("further_driven[{k}]"), &one.tag));
        let disturbances = self
            .measured_disturbances
            .iter()
            .enumerate()
            .map(|(k, one)| (format!("measured_disturbances[{k}]"), &one.tag));
        let all = std::iter::once(("op".to_owned(), &self.op.tag)).chain(measured).chain(driven).chain(disturbances);
        for (field, tag) in all {
            // A plant of one loop may call both alike, as it always could.
            let alone =
                known.len() == 1 && field == "op" && self.further_measured.is_empty() && self.further_driven.is_empty();
            if !alone && known.contains(&tag.as_str()) {
                let allowed = "a tag that no other signal of the plant has";
                return Err(Error::invalid(format!("plant.{field}.tag"), format!("“{tag}”"), allowed));
            }
            known.push(tag);
        }
        Ok(())
    }

    /// The further driven signals, resolved. Errors where two drive one input.
    pub(super) fn further_drives(&self, description: &Description) -> Result<Vec<Driven>> {
        let mut taken = vec![self.driven(description)?.input];
        let mut drives = Vec::new();
        for (k, signal) in self.further_driven.iter().enumerate() {
            let field = format!("plant.further_driven[{k}]");
            let driven = signal.driven(description, &field)?;
            if taken.contains(&driven.input) {
                let allowed = "an input that no other OP drives";
                return Err(Error::invalid(format!("{field}.input"), format!("“{}”", signal.input), allowed));
            }
            taken.push(driven.input);
            drives.push(driven);
        }
        Ok(drives)
    }

    /// Positions of the inputs that are measured. Errors where an OP drives one, or one is measured twice.
    pub(super) fn measured_inputs(&self, description: &Description, driven: &[usize]) -> Result<Vec<usize>> {
        let mut inputs: Vec<usize> = Vec::new();
        for (k, signal) in self.measured_disturbances.iter().enumerate() {
            let field = format!("plant.measured_disturbances[{k}]");
            let input = signal.position(description, driven, &field)?;
            if inputs.contains(&input) {
                let allowed = "an input that is not measured already";
                return Err(Error::invalid(format!("{field}.input"), format!("“{}”", signal.input), allowed));
            }
            inputs.push(input);
        }
        Ok(inputs)
    }

    fn further_outputs(&self, description: &Description) -> Result<Vec<usize>> {
        let all = self.further_measured.iter().enumerate();
        all.map(|(k, signal)| signal.position(description, &format!("plant.further_measured[{k}]"))).collect()
    }

    /// All inputs before anything happens, with the further driven ones where their OPs put them.
    fn inputs_at_start(&self, description: &Description, drives: &[Driven]) -> Result<Vec<f64>> {
        let mut inputs = description.inputs_with(&self.inputs, "plant.inputs")?;
        for (signal, drive) in self.further_driven.iter().zip(drives) {
            inputs[drive.input] = drive.value(signal.actuator.effect(signal.at_start));
        }
        Ok(inputs)
    }

    pub(super) fn driven(&self, description: &Description) -> Result<Driven> {
        let usual = &description.drive;
        let (name, at_0, at_100) = match &self.drive {
            Some(drive) => (&drive.input, drive.at_0, drive.at_100),
            None => (&usual.input, usual.at_0, usual.at_100),
        };
        let input = Description::position(&description.inputs, name, "plant.drive.input")?;
        Driven::new(input, &description.inputs[input], at_0, at_100, "plant.drive")
    }

    /// Position of the measured output. Errors where it is in another unit than the span of the PV.
    pub(super) fn output(&self, description: &Description) -> Result<usize> {
        let output = match &self.measured {
            Some(name) => Description::position(&description.outputs, name, "plant.measured")?,
            None => 0,
        };
        measured_output(description, output, &self.pv.span, "plant.pv")
    }

    /// The time constants of a sensor's lag, where it is one of first order or over-damped.
    pub(crate) fn lags_of(sensor: &SensorSpec) -> Option<Vec<f64>> {
        let tau = sensor.time_constant;
        match sensor.damping {
            _ if tau == 0.0 => Some(Vec::new()),
            None => Some(vec![tau]),
            Some(damping) if damping >= 1.0 => {
                let root = (damping * damping - 1.0).sqrt();
                Some(vec![tau * (damping + root), tau * (damping - root)])
            }
            Some(_) => None,
        }
    }

    /// The tags of the measured signals, that of the PV first.
    #[must_use]
    pub fn measured_tags(&self) -> Vec<&str> {
        std::iter::once(&self.pv.tag)
            .chain(self.further_measured.iter().map(|one| &one.tag))
            .map(String::as_str)
            .collect()
    }

    /// The tags of the OPs, that of the plant's own first.
    #[must_use]
    pub fn op_tags(&self) -> Vec<&str> {
        std::iter::once(&self.op.tag)
            .chain(self.further_driven.iter().map(|one| &one.tag))
            .map(String::as_str)
            .collect()
    }

    /// The spans of the measured signals, that of the PV first.
    #[must_use]
    pub fn measured_spans(&self) -> Vec<&Span> {
        std::iter::once(&self.pv.span).chain(self.further_measured.iter().map(|one| &one.span)).collect()
    }

    /// Brings the plant to where it starts. Errors where it cannot rest there.
    pub fn start(&self) -> Result<Started> {
        let OperatingPoint { pv, op, states } = &self.operating_point;
        if let Some(linear) = self.process.linear_process(&self.pv.span.unit)? {
            return self.start_linear(linear, *pv, *op);
        }
        let process = self.process.build(&self.pv.span.unit)?;
        let description = process.description();
        let (driven, output) = (self.driven(description)?, self.output(description)?);
        let (further_drives, further_outputs) = (self.further_drives(description)?, self.further_outputs(description)?);
        self.measured_inputs(description, &inputs_of(driven, &further_drives))?;
        if let Some(k) = self.further_measured.iter().position(|signal| signal.rest.is_some()) {
            let allowed = "none: where it rests follows from the process";
            return Err(Error::invalid(format!("plant.further_measured[{k}].rest"), "given", allowed));
        }
        let mut inputs = self.inputs_at_start(description, &further_drives)?;
        inputs[driven.input] = driven.value(self.actuator.effect(*op));
        let (state, op, at_rest) = if let Some(states) = states {
            let state = description.states_with(states, "plant.operating_point.states")?;
            for Bound { state: i, low, high, .. } in process.bounds() {
                let Quantity { name, unit, .. } = &description.states[i];
                check::within(&format!("plant.operating_point.states.{name}"), state[i], low, high, unit)?;
            }
            (state, *op, false)
        } else {
            let (rest, op) = self.rest(process.as_ref(), &inputs, driven, output)?;
            inputs = rest.inputs;
            (rest.state, op, true)
        };
        let pv = *pv;
        let lag_inside = false;
        Ok(Started {
            process,
            state,
            inputs,
            op,
            pv,
            output,
            driven,
            further_outputs,
            further_drives,
            at_rest,
            lag_inside,
        })
    }

    fn start_linear(&self, mut linear: LinearProcess, pv: f64, op: f64) -> Result<Started> {
        if self.operating_point.states.is_some() {
            let allowed = "none for a linear process, which starts at rest";
            return Err(Error::invalid("plant.operating_point.states", "given", allowed));
        }
        let description = linear.description();
        let (driven, output) = (self.driven(description)?, self.output(description)?);
        let (further_drives, further_outputs) = (self.further_drives(description)?, self.further_outputs(description)?);
        self.measured_inputs(description, &inputs_of(driven, &further_drives))?;
        let mut inputs = self.inputs_at_start(description, &further_drives)?;
        inputs[driven.input] = driven.value(self.actuator.effect(op));
        for (signal, output) in self.further_measured.iter().zip(&further_outputs) {
            linear.rest(&inputs, *output, signal.rest.unwrap_or(linear.description().outputs[*output].value));
        }
        linear.rest(&inputs, output, pv);
        // Lags that can be part of the process are, where all can.
        let lags: Option<Vec<Vec<f64>>> = self.sensors().map(|(_, sensor)| Self::lags_of(sensor)).collect();
        let lag_inside = lags.is_some();
        for (output, lags) in std::iter::once(&output).chain(&further_outputs).zip(lags.unwrap_or_default()) {
            linear = linear.behind_lag(*output, &lags)?;
        }
        let state = vec![0.0; linear.description().states.len()];
        let process = Box::new(linear);
        let at_rest = true;
        Ok(Started {
            process,
            state,
            inputs,
            op,
            pv,
            output,
            driven,
            further_outputs,
            further_drives,
            at_rest,
            lag_inside,
        })
    }

    /// The way from % of OP to the measured PV, linear about where the plant rests: with the slope of the actuator, and the
    /// lag and dead time of the sensor. None where it does not start at rest.
    pub fn linearised(&self) -> Result<Option<StateSpace>> {
        // A low-order process as it is; anything else by its derivatives.
        let (system, driven, op) = if let Some(spec) = self.process.as_linear() {
            (spec.state_space()?, self.driven(&self.describe()?)?, self.operating_point.op)
        } else {
            let mut sensorless = Self { sensor: SensorSpec::default(), ..self.clone() };
            sensorless.further_measured.clear();
            let started = sensorless.start()?;
            if !started.at_rest {
                return Ok(None);
            }
            let Started { process, state, inputs, output, driven, op, .. } = &started;
            (linear_channel(process.as_ref(), state, inputs, driven.input, *output)?, *driven, *op)
        };
        let mut system = system.scaled(slope(&self.actuator, op) * driven.rate);
        let SensorSpec { time_constant, damping, dead_time, .. } = self.sensor;
        // A lag that is over before anything is scanned is none, and its rate would swamp all others.
        if time_constant > SHORTEST_LAG {
            system = system.behind_lag(time_constant, damping)?;
        }
        Ok(Some(system.later_by(dead_time)?))
    }

    /// Every way in which the process can rest at the operating point's PV, with the OP that holds it there.
    pub fn rests(&self) -> Result<Vec<(SteadyState, f64)>> {
        let process = self.process.build(&self.pv.span.unit)?;
        let description = process.description();
        let (driven, output) = (self.driven(description)?, self.output(description)?);
        let inputs = self.inputs_at_start(description, &self.further_drives(description)?)?;
        Ok(self.found_rests(process.as_ref(), &inputs, driven, output).1)
    }

    /// All rests, and those that the actuator can hold.
    fn found_rests(
        &self,
        process: &dyn Process,
        inputs: &[f64],
        driven: Driven,
        output: usize,
    ) -> (Vec<SteadyState>, Vec<(SteadyState, f64)>) {
        let rest = Rest { input: driven.input, output, wanted: self.operating_point.pv };
        let all = rests_at(process, inputs, rest);
        let held = all
            .iter()
            .filter_map(|state| {
                let effect = (state.inputs[driven.input] - driven.at_0) / driven.rate;
                Some((state.clone(), self.actuator.position_for(effect)?))
            })
            .filter(|(_, op)| matches!(self.actuator, ActuatorSpec::Direct {}) || (-1e-6..=100.0 + 1e-6).contains(op))
            .collect();
        (all, held)
    }

    fn rest(&self, process: &dyn Process, inputs: &[f64], driven: Driven, output: usize) -> Result<(SteadyState, f64)> {
        let wanted = &self.operating_point;
        let (all, held) = self.found_rests(process, inputs, driven, output);
        let within = |op: &f64| (-1e-6..=100.0 + 1e-6).contains(op);
        let nearest = held
            .into_iter()
            .filter(|(_, op)| within(op))
            .min_by(|a, b| (a.1 - wanted.op).abs().total_cmp(&(b.1 - wanted.op).abs()));
        nearest.ok_or_else(|| {
            let input = &process.description().inputs[driven.input];
            let needed: Vec<String> =
                all.iter().map(|state| crate::verdict::readable(state.inputs[driven.input])).collect();
            let unit = &self.pv.span.unit;
            let allowed = if needed.is_empty() {
                format!("a PV at which the process can rest under some {}, or states to start from", input.name)
            } else {
                format!(
                    "a PV that the drive can hold: this one needs {} = {} {}, and the drive gives {} to {}",
                    input.name,
                    needed.join(" or "),
                    input.unit,
                    driven.value(self.actuator.effect(0.0)),
                    driven.value(self.actuator.effect(100.0))
                )
            };
            Error::invalid("plant.operating_point.pv", format!("{} {unit}", wanted.pv), allowed)
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::controller::ControllerSpec;
    use crate::process::offers;
    use crate::simulation::{Candidate, Event, Scenario, TRIAL_VERSION, Trial};

    #[test]
    fn everything_on_offer_makes_a_plant_that_rests_and_runs() {
        for offer in offers() {
            let plant = Plant::usual(offer.process, "X-1").unwrap();
            let scenario = Scenario {
                duration: 600.0,
                scan: 2.0,
                seed: 1,
                events: vec![Event::OutputStep { at: 100.0, by: 2.0 }],
                further: Default::default(),
            };
            let candidate = Candidate::new(ControllerSpec::Manual);
            let trial = Trial { version: TRIAL_VERSION, plant, candidate, scenario };
            let trace = trial.run().unwrap_or_else(|error| panic!("{}: {error}", offer.title));
            let pv = trace.values(crate::simulation::ColumnRole::ProcessVariable);
            assert!(trace.stopped.is_none() && pv[0] != pv[300], "{}", offer.title);
            let batch = trial.plant.operating_point.states.is_some();
            assert!(batch || (pv[50] - pv[0]).abs() < 1e-6 * (1.0 + pv[0].abs()), "{} does not rest", offer.title);
        }
    }
}
