//! A plant over its range of operation: what it is like at each load, whether one setting does for all, and a gain schedule where it
//! does not.

use super::{SimcChoice, process_of, simc};
use crate::assessment::SampledLoop;
use crate::controller::{ControllerSpec, GainSchedule, PidSettings, SchedulePoint, ScheduledOver};
use crate::numerics::{in_parallel, rounded};
use crate::process::LinearSpec;
use crate::simulation::{Event, OperatingPoint, Plant, Scenario, Trial};
use crate::verdict::{Tone, Verdict, readable};
use crate::{Error, Result, check};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Loads that are looked at, at most.
const MOST: usize = 41;
/// A maximum sensitivity that is good everywhere, and one that is not good anywhere.
const GOOD: f64 = 2.0;
const POOR: f64 = 3.0;
/// Points of a proposed schedule, at most.
const SCHEDULED: usize = 5;

/// Over what a plant is looked at.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct LoadQuestion {
    /// The trial: its plant, and the controller that is to do for all loads.
    pub trial: Trial,
    /// Name of the input that changes with load, the PV resting where it does; null for the PV itself, the OP following.
    #[serde(default)]
    pub over: Option<String>,
    /// Lowest value; three tenths of the span below where the plant rests, or half the value of the input, where left out.
    #[serde(default)]
    pub from: Option<f64>,
    /// Highest value; the like above where left out.
    #[serde(default)]
    pub to: Option<f64>,
    /// How many, 3 to 41.
    #[serde(default = "usual_points")]
    #[schema(minimum = 3, maximum = 41)]
    pub points: usize,
}

fn usual_points() -> usize {
    13
}

/// A plant at one load.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct LoadPoint {
    /// The value of what changes.
    pub at: f64,
    /// The PV at rest there, in its unit.
    pub pv: f64,
    /// The OP at rest there in %; null where the plant cannot rest.
    pub op: Option<f64>,
    /// The low-order process that comes nearest there.
    pub process: Option<LinearSpec>,
    /// Why there is none.
    pub why_not: Option<String>,
    /// Maximum sensitivity of the loop with the settings of the trial there; null where it is unstable.
    pub max_sensitivity: Option<f64>,
    /// SIMC settings for the process there.
    pub settings: Option<PidSettings>,
}

/// A plant over its range of operation.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct OverLoad {
    /// What changes, in words.
    pub over: String,
    /// Its unit.
    pub unit: String,
    /// The plant at each value.
    pub points: Vec<LoadPoint>,
    /// What it means for the settings.
    pub verdict: Verdict,
    /// Settings with a schedule over the range, from SIMC at each load; null where fewer than two loads have settings.
    pub scheduled: Option<PidSettings>,
    /// A trial that goes through the range with the schedule.
    pub proof: Option<Trial>,
}

/// Looks at the plant of a trial over its range.
///
/// Errors where the input is not one of the process, the range is empty, or the trial has no PID controller.
pub fn over_load(question: &LoadQuestion) -> Result<OverLoad> {
    let trial = &question.trial;
    trial.validate()?;
    trial.check_stands_alone()?;
    check::within("points", question.points as f64, 3.0, MOST as f64, "")?;
    let plant = &trial.plant;
    let span = &plant.pv.span;
    let Some(pid) = trial.candidate.controller.main_pid().cloned() else {
        return Err(Error::said("trial.candidate", "In manual there are no settings that could do for all loads."));
    };
    let (over, unit, middle, range) = match &question.over {
        None => {
            (format!("{} at rest", plant.pv.tag), span.unit.clone(), plant.operating_point.pv, [span.low, span.high])
        }
        Some(name) => {
            let description = plant.process.describe(&span.unit)?;
            let place = crate::process::Description::position(&description.inputs, name, "over")?;
            let quantity = &description.inputs[place];
            let driven = plant.drive.as_ref().map_or(&description.drive.input, |drive| &drive.input);
            if driven == name {
                let words = "The OP drives this input: over the range of the PV it follows by itself.";
                return Err(Error::said("over", words));
            }
            let value = plant.inputs.get(name).copied().unwrap_or(quantity.value);
            (name.replace('_', " "), quantity.unit.clone(), value, [quantity.low, quantity.high])
        }
    };
    let reach = if question.over.is_none() {
        0.3 * span.width()
    } else {
        0.5 * middle.abs().max(1e-3 * (range[1] - range[0]).min(1e3))
    };
    let from = question.from.unwrap_or((middle - reach).max(range[0]));
    let to = question.to.unwrap_or((middle + reach).min(range[1]));
    check::within("from", from, range[0], range[1], &unit)?;
    check::within("to", to, range[0], range[1], &unit)?;
    if from >= to {
        return Err(Error::invalid("to", format!("{to} {unit}"), format!("above {from} {unit}")));
    }
    let all = |from: f64, to: f64| {
        let place = |k: usize| from + (to - from) * k as f64 / (question.points - 1) as f64;
        let values: Vec<f64> = (0..question.points).map(place).collect();
        in_parallel(&values, |at| at_load(trial, question.over.as_deref(), *at))
    };
    let mut points = all(from, to);
    // Where nobody asked for a range, the one in which the plant can rest is looked at closely.
    let reached = || points.iter().filter(|point| point.op.is_some()).map(|point| point.at);
    let (low, high) = (reached().fold(f64::INFINITY, f64::min), reached().fold(f64::NEG_INFINITY, f64::max));
    let asked = question.from.is_some() || question.to.is_some();
    if !asked && low < high && points.iter().any(|point| point.op.is_none()) {
        points = all(low, high);
    }
    let scheduled = schedule(&points, &pid, question.over.as_deref(), plant);
    let proof = scheduled.as_ref().and_then(|settings| proof(trial, settings, &points, question.over.as_deref()));
    let verdict = verdict(&points, &over, &unit, scheduled.is_some());
    Ok(OverLoad { over, unit, points, verdict, scheduled, proof })
}

/// The plant with the PV at rest at a value, or an input at one.
fn plant_at(plant: &Plant, over: Option<&str>, at: f64) -> Plant {
    let mut there = plant.clone();
    match over {
        None => there.operating_point = OperatingPoint::new(at, plant.operating_point.op),
        Some(name) => {
            there.inputs.insert(name.to_owned(), at);
        }
    }
    there
}

fn at_load(trial: &Trial, over: Option<&str>, at: f64) -> LoadPoint {
    let plant = plant_at(&trial.plant, over, at);
    let pv = plant.operating_point.pv;
    let nowhere = |why: String| LoadPoint {
        at,
        pv,
        op: None,
        process: None,
        why_not: Some(why),
        max_sensitivity: None,
        settings: None,
    };
    let op = match plant.start() {
        Ok(started) if (0.0..=100.0).contains(&started.op) => started.op,
        Ok(started) => return nowhere(format!("the OP would have to stand at {} %", readable(started.op))),
        Err(error) => return nowhere(error.to_string()),
    };
    let scenario = Scenario { events: Vec::new(), further: Default::default(), ..trial.scenario.clone() };
    let there = Trial { plant: plant.clone(), scenario, ..trial.clone() };
    let margins = SampledLoop::of(&there).ok().flatten().and_then(|sampled| {
        let opened = sampled.with(&trial.candidate.controller).ok().flatten()?;
        Some(opened.margins())
    });
    let (process, why_not) = match process_of(&plant) {
        Ok(process) => (Some(process), None),
        Err(error) => (None, Some(error.to_string())),
    };
    let settings = process
        .as_ref()
        .and_then(|process| simc(process, &plant.pv.span, &SimcChoice::default()).ok())
        .map(|tuning| tuning.to_type_in);
    LoadPoint {
        at,
        pv,
        op: Some(op),
        process,
        why_not,
        max_sensitivity: margins.filter(|margins| margins.stable).and_then(|margins| margins.max_sensitivity),
        settings,
    }
}

/// SIMC at a few of the loads as factors on the settings in the middle of them.
fn schedule(points: &[LoadPoint], pid: &PidSettings, over: Option<&str>, plant: &Plant) -> Option<PidSettings> {
    let known: Vec<(&LoadPoint, &PidSettings)> =
        points.iter().filter_map(|point| Some((point, point.settings.as_ref()?))).collect();
    if known.len() < 2 {
        return None;
    }
    let base = known[known.len() / 2].1.clone();
    let count = known.len().min(SCHEDULED);
    let integral = base.integral_time?;
    let point = |k: usize| {
        let (load, own) = known[k * (known.len() - 1) / (count - 1)];
        Some(SchedulePoint {
            at: match over {
                None => rounded(plant.pv.span.to_percent(load.pv), 4),
                Some(_) => rounded(load.at, 4),
            },
            gain_factor: rounded(own.gain / base.gain, 3),
            time_factor: rounded(own.integral_time? / integral, 3),
        })
    };
    let points = (0..count).map(point).collect::<Option<Vec<_>>>()?;
    let over = over.map_or(ScheduledOver::Measurement, |name| ScheduledOver::Signal(name.to_owned()));
    Some(PidSettings {
        gain: base.gain,
        integral_time: base.integral_time,
        derivative_time: 0.0,
        action: base.action,
        schedule: Some(GainSchedule { over, points }),
        ..pid.clone()
    })
}

/// A trial through the range, with the schedule: from load to load, as long at each as it takes to settle.
fn proof(trial: &Trial, settings: &PidSettings, points: &[LoadPoint], over: Option<&str>) -> Option<Trial> {
    let reached: Vec<&LoadPoint> = points.iter().filter(|point| point.settings.is_some()).collect();
    let slowest = reached.iter().filter_map(|point| Some(point.process.as_ref()?.time_scale())).fold(0.0, f64::max);
    let (first, last) = (*reached.first()?, *reached.last()?);
    let middle = reached[reached.len() / 2];
    let way = [first, middle, last, middle];
    let mut plant = trial.plant.clone();
    let scan = trial.scenario.scan;
    let lasts = (8.0 * slowest / scan).ceil() * scan;
    let start = match over {
        None => plant.operating_point.pv,
        Some(name) => plant.inputs.get(name).copied().unwrap_or(middle.at),
    };
    if over.is_some() {
        plant.inputs.insert(over?.to_owned(), start);
    }
    let mut events = Vec::new();
    let mut now = start;
    for (k, load) in way.iter().enumerate() {
        let at = (k as f64 + 0.25) * lasts;
        let by = load.at - now;
        now = load.at;
        if by.abs() < 1e-9 {
            continue;
        }
        events.push(match over {
            None => Event::SetPointStep { at, by },
            Some(name) => Event::LoadStep { at, by, input: Some(name.to_owned()) },
        });
    }
    let mut proof = trial.clone();
    proof.plant = plant;
    proof.candidate.controller = ControllerSpec::Pid(settings.clone());
    proof.scenario = Scenario {
        duration: (way.len() as f64 + 0.25) * lasts,
        events,
        further: Default::default(),
        ..trial.scenario.clone()
    };
    proof.validate().ok().map(|()| proof)
}

fn verdict(points: &[LoadPoint], over: &str, unit: &str, has_schedule: bool) -> Verdict {
    let rule = "maximum sensitivity of the loop linearised at each load: good up to 2, poor above 3 (common practice; Åström & Hägglund 2006)";
    let at = |point: &LoadPoint| format!("{} {unit}", readable(point.at));
    let reached: Vec<&LoadPoint> = points.iter().filter(|point| point.op.is_some()).collect();
    if reached.is_empty() {
        return Verdict::new(Tone::Bad, format!("The plant rests nowhere in this range of {over}."), rule);
    }
    let way_out = if has_schedule { " A gain schedule is proposed." } else { "" };
    if let Some(unstable) = reached.iter().find(|point| point.max_sensitivity.is_none()) {
        let text =
            format!("One setting does not do for all: at {over} {} the loop is unstable.{way_out}", at(unstable));
        return Verdict::new(Tone::Bad, text, rule);
    }
    let of = |point: &&&LoadPoint| point.max_sensitivity.unwrap_or(f64::INFINITY);
    let (Some(least), Some(most)) =
        (reached.iter().min_by(|a, b| of(a).total_cmp(&of(b))), reached.iter().max_by(|a, b| of(a).total_cmp(&of(b))))
    else {
        return Verdict::new(Tone::Bad, format!("The plant rests nowhere in this range of {over}."), rule);
    };
    let (low, high) = (of(&least), of(&most));
    if high <= GOOD {
        let text =
            format!("One setting does for all: Ms runs from {} to {} over this range.", readable(low), readable(high));
        return Verdict::new(Tone::Good, text, rule);
    }
    let tone = if high > POOR { Tone::Bad } else { Tone::Caution };
    let text = format!(
        "One setting hardly does for all: Ms runs from {} to {}, the largest at {over} {}.{way_out}",
        readable(low),
        readable(high),
        at(most)
    );
    Verdict::new(tone, text, rule)
}
