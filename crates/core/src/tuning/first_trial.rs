//! The trial that a loop begins with: a model as the process, SIMC settings, the standard scenario.

use super::loops::{FurtherSignal, LoopsAnswer, LoopsQuestion, begin_loops, with_further};
use super::{SimcChoice, Tuning, simc};
use crate::assessment::{InteractionQuestion, loop_channel};
use crate::controller::ControllerSpec;
use crate::identification::{Model, SignalName};
use crate::instrument::{ActuatorSpec, Characteristic, ValveSpec};
use crate::process::LinearSpec;
use crate::simulation::{Candidate, Drive, Manipulated, OperatingPoint, Plant, Scenario, Signal, TRIAL_VERSION, Trial};
use crate::verdict::{readable, readable_duration};
use crate::{Error, Result};
use serde::Serialize;
use utoipa::ToSchema;

/// Closed-loop time constant of a model without dead time, where SIMC has no default, as a share of the time constant
/// (this project's choice).
const SHARE_WITHOUT_DEAD_TIME: f64 = 0.1;

/// A trial to begin with.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct FirstTrial {
    /// The trial: settings, and a scenario that shows what they do.
    pub trial: Trial,
    /// Where the settings come from, in a few words.
    pub settings: String,
    /// Of one loop, its tuning.
    pub tuning: Option<Tuning>,
}

impl FirstTrial {
    /// Of one loop.
    fn of_one((trial, tuning): (Trial, Tuning)) -> Self {
        let settings = format!("SIMC, τc = {}", readable_duration(tuning.closed_loop_time_constant));
        Self { trial, settings, tuning: Some(tuning) }
    }

    /// Of several.
    fn of_several(answer: LoopsAnswer) -> Self {
        let factor = readable(answer.detuning.unwrap_or(1.0));
        let settings = format!("{} loops, detuned together by {factor} (largest log modulus)", answer.loops.len());
        Self { trial: answer.trial, settings, tuning: None }
    }
}

/// A trial on a model between the signals `pv` and `op` of the loop: one loop by SIMC, or of a matrix one a pair of signals.
///
/// Errors when the model is in another unit than the span of the PV, and for one that cannot be simulated.
pub fn begin_on_model(model: &Model, pv: &Signal, op: &Signal, choice: &SimcChoice) -> Result<FirstTrial> {
    if model.is_physical() {
        return begin_on_plant(&plant_of_physical(model, pv, op)?, choice);
    }
    if !model.is_matrix() {
        return first_trial(model, pv, op, choice).map(FirstTrial::of_one);
    }
    begin_on_plant(&plant_of_matrix(model, pv, op)?, choice)
}

/// A trial on a plant: one loop by SIMC, or one a pair where it measures and drives several signals.
pub fn begin_on_plant(plant: &Plant, choice: &SimcChoice) -> Result<FirstTrial> {
    let several = plant.further_measured.len().min(plant.further_driven.len()) > 0;
    let pairs = if several { InteractionQuestion::recommended(plant).ok().flatten() } else { None };
    match pairs {
        Some(pairs) => {
            let question = LoopsQuestion::plain(plant.clone(), pairs);
            begin_loops(&question).map(FirstTrial::of_several)
        }
        None => first_trial_on(plant, choice).map(FirstTrial::of_one),
    }
}

/// The same on a plant of several loops, each signal with the OP that stands beside it: no other pairing is chosen.
pub fn begin_as_paired(plant: &Plant, choice: &SimcChoice) -> Result<FirstTrial> {
    match InteractionQuestion::usual(plant)? {
        Some(pairs) => begin_loops(&LoopsQuestion::plain(plant.clone(), pairs)).map(FirstTrial::of_several),
        None => begin_on_plant(plant, choice),
    }
}

/// A matrix as a plant: its outputs measured, its inputs in % driven, what else acts on it standing where it rests.
fn plant_of_matrix(model: &Model, pv: &Signal, op: &Signal) -> Result<Plant> {
    same_unit(model, pv)?;
    let process = model.as_process()?;
    let description = process.describe(&pv.span.unit)?;
    let operating = &model.operating;
    let mut plant = Plant::plain(process, pv.clone(), op.clone(), OperatingPoint::new(operating.pv, operating.op));
    plant.measured = description.outputs.first().map(|output| output.name.clone());
    plant.drive = description.inputs.first().map(|input| Drive { input: input.name.clone(), at_0: 0.0, at_100: 100.0 });
    for (own, output) in model.outputs.iter().zip(&description.outputs).skip(1) {
        plant = with_further(&plant, &[FurtherSignal::Output(&output.name)])?;
        plant.further_measured.iter_mut().rev().take(1).for_each(|signal| signal.tag.clone_from(&own.tag));
    }
    let inputs = model.inputs.iter().zip(&description.inputs).zip(&operating.inputs).skip(1);
    for ((own, input), at_start) in inputs.filter(|((own, _), _)| own.unit == "%") {
        plant.further_driven.push(Manipulated {
            tag: own.tag.clone(),
            input: input.name.clone(),
            at_0: 0.0,
            at_100: 100.0,
            at_start: *at_start,
            actuator: ActuatorSpec::Direct {},
        });
    }
    plant.start().map(|_| plant)
}

/// A physical model as a plant: the PV is the output that it shows, with what was found of its sensor and of the dead time of the
/// OP, the OP drives its input, and all other inputs stand as they did where the record began.
fn plant_of_physical(model: &Model, pv: &Signal, op: &Signal) -> Result<Plant> {
    same_unit(model, pv)?;
    let physical = model.physical()?;
    let of_pv = &model.outputs[0].tag;
    let shown = physical.fitted.outputs.iter().find(|own| own.tag == *of_pv);
    let shown = shown.ok_or_else(|| Error::unfit("the PV shows no output of the model", "fit it with one"))?;
    let of_op = &model.inputs[0].tag;
    let Some((input, [at_0, at_100])) = physical.range_of(of_op)? else {
        let what = format!("{of_op} drives no input of the model");
        return Err(Error::unfit(what, "fit it with the OP as the channel of an input"));
    };
    let process = model.as_process()?;
    let description = process.describe(&pv.span.unit)?;
    let channels: Vec<(&SignalName, f64)> = model.inputs.iter().zip(model.operating.inputs.iter().copied()).collect();
    let inputs = description.inputs.iter().zip(physical.inputs_at(&channels)?);
    let others = inputs.filter(|(own, _)| own.name != input).map(|(own, value)| (own.name.clone(), value));
    let others: std::collections::BTreeMap<String, f64> = others.collect();
    let mapped = physical.fitted.inputs.iter().find(|own| own.input == input);
    let late = mapped.map_or(0.0, |own| own.dead_time);
    let tenth = |value: f64| (10.0 * value).round() / 10.0;
    let point = OperatingPoint::new(tenth(model.operating.pv - shown.offset), tenth(model.operating.op));
    let mut plant = Plant::plain(process, pv.clone(), op.clone(), point);
    plant.measured = Some(shown.output.clone());
    plant.drive = Some(Drive { input, at_0, at_100 });
    plant.inputs = others;
    if let Some(rangeability) = mapped.and_then(|own| own.rangeability) {
        let characteristic = Characteristic::EqualPercentage { rangeability };
        plant.actuator = ActuatorSpec::Valve(ValveSpec { characteristic, ..ValveSpec::default() });
    }
    // What is late at the input is late at the output: between them nothing else acts.
    plant.sensor.dead_time = late;
    plant.sensor.time_constant = shown.lag;
    plant.sensor.bias = shown.offset;
    plant.start().map(|_| plant)
}

fn same_unit(model: &Model, pv: &Signal) -> Result<()> {
    let (model_unit, span_unit) = (model.output_unit(), &pv.span.unit);
    if model_unit == span_unit {
        return Ok(());
    }
    Err(Error::unfit(
        format!("the model is in {model_unit} and the span of {} in {span_unit}", pv.tag),
        "fit the record again",
    ))
}

/// A trial on `model` between the signals `pv` and `op`, and the tuning that its settings are from.
///
/// The settings are those to type in, to three digits; the operating point is rounded to a tenth, being a place to
/// start
/// from and not an estimate. Errors when the model is in another unit than the span of the PV.
pub fn first_trial(model: &Model, pv: &Signal, op: &Signal, choice: &SimcChoice) -> Result<(Trial, Tuning)> {
    same_unit(model, pv)?;
    let process = model.process()?;
    let tenth = |value: f64| (10.0 * value).round() / 10.0;
    let operating_point = OperatingPoint::new(tenth(model.operating.pv), tenth(model.operating.op));
    tuned_for(&process, Plant::plain(process.clone(), pv.clone(), op.clone(), operating_point), choice)
}

/// A trial on a plant, tuned for the low-order process that it is or that comes nearest to it where it rests. Errors where
/// there is none.
pub fn first_trial_on(plant: &Plant, choice: &SimcChoice) -> Result<(Trial, Tuning)> {
    tuned_for(&process_of(plant)?, plant.clone(), choice)
}

/// The low-order process that rules go by: the plant's own where nothing stands between it and the signals, else the one
/// that comes nearest where the plant rests. Errors where there is none.
pub fn process_of(plant: &Plant) -> Result<LinearSpec> {
    let plain = plant.actuator == ActuatorSpec::Direct {} && plant.drive.is_none() && plant.sensor.is_prompt();
    if let (Some(process), true) = (plant.process.as_linear(), plain) {
        return Ok(process.clone());
    }
    let channel = loop_channel(plant)?;
    let nearest = channel.nearest.ok_or_else(|| {
        Error::unfit(
            format!("there is no rule for this plant: {}", channel.without_nearest.unwrap_or_default()),
            "set gain and times by hand, or choose another operating point",
        )
    })?;
    Ok(nearest.process)
}

/// A trial on `plant` with SIMC settings for `process`.
fn tuned_for(process: &LinearSpec, plant: Plant, choice: &SimcChoice) -> Result<(Trial, Tuning)> {
    // What a fit leaves of no dead time at all is below what a controller feels.
    let without_dead_time =
        (process.dead_time() < 1e-3 * process.time_scale()).then(|| SHARE_WITHOUT_DEAD_TIME * process.time_scale());
    let closed_loop_time_constant = choice.closed_loop_time_constant.or(without_dead_time);
    let tuning = simc(process, &plant.pv.span, &SimcChoice { closed_loop_time_constant })?;
    let trial = Trial {
        version: TRIAL_VERSION,
        scenario: Scenario::standard(process, &plant.pv.span, tuning.closed_loop_time_constant),
        plant,
        candidate: Candidate::new(ControllerSpec::Pid(tuning.to_type_in.clone())),
    };
    Ok((trial, tuning))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::identification::{DataSet, Series, fit_fopdt};
    use crate::process::ProcessSpec;
    use crate::series::TimeAxis;
    use crate::simulation::ColumnRole;
    use crate::units::Span;

    #[test]
    fn a_stirred_heater_gets_a_trial_that_holds_its_set_point() {
        let signal = |tag: &str, high, unit: &str| Signal { tag: tag.into(), span: Span::new(0.0, high, unit) };
        let (pv, op) = (signal("T.PV", 150.0, "°C"), signal("T.OP", 100.0, "%"));
        let heater = ProcessSpec::library("stirred_heater", &[]);
        let plant = Plant::plain(heater, pv, op, OperatingPoint::new(60.0, 50.0));
        let (trial, _) = first_trial_on(&plant, &SimcChoice::default()).unwrap();
        let trace = trial.run().unwrap();
        let last = |role| *trace.values(role).last().unwrap();
        assert!((last(ColumnRole::ProcessVariable) - last(ColumnRole::SetPoint)).abs() < 0.1);
        let reactor = Plant { process: ProcessSpec::library("stirred_reactor", &[]), ..plant };
        let unstable = Plant { operating_point: OperatingPoint::new(76.85, 50.0), ..reactor };
        let error = first_trial_on(&unstable, &SimcChoice::default()).unwrap_err().to_string();
        assert!(error.contains("no rule for this plant"), "{error}");
    }

    #[test]
    fn a_model_without_dead_time_gets_a_trial_that_runs() {
        let axis = TimeAxis::uniform(1.0, 200).unwrap();
        let input: Vec<f64> = (0..200).map(|k| if k < 20 { 40.0 } else { 50.0 }).collect();
        let output: Vec<f64> =
            (0..200).map(|k| if k < 20 { 1.0 } else { 2.0 - (-(f64::from(k) - 20.0) / 30.0).exp() }).collect();
        let data = DataSet::single(axis, Series::new("L.OP", "%", input), Series::new("L.PV", "m", output));
        let mut model = fit_fopdt(&data).unwrap();
        model.parameters[2].value = 0.0;
        let signal = |tag: &str, high, unit: &str| Signal { tag: tag.into(), span: Span::new(0.0, high, unit) };
        let (pv, op) = (signal("L.PV", 4.0, "m"), signal("L.OP", 100.0, "%"));
        let (trial, tuning) = first_trial(&model, &pv, &op, &SimcChoice::default()).unwrap();
        assert!((tuning.closed_loop_time_constant - 3.0).abs() < 1e-3);
        assert!(trial.run().unwrap().len() > 40);
        let error = first_trial(&model, &signal("L.PV", 400.0, "cm"), &op, &SimcChoice::default()).unwrap_err();
        assert_eq!(error.to_string(), "the model is in m and the span of L.PV in cm: fit the record again");
    }
}
