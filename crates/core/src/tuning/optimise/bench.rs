//! The loops that settings are tried on: figures of merit from the frequency response and from simulated steps.

use super::{ControllerStructure, Demand, Demands, Objective, Task, Variation};
use crate::Result;
use crate::assessment::{Family, FrequencyGrid, OnGrid, Prediction, SampledLoop, metrics, rises, settles};
use crate::controller::predictive::Law;
use crate::controller::{ControllerSpec, OutputLimits, PidSettings, SmithSettings};
use crate::instrument::SensorSpec;
use crate::process::LinearSpec;
use crate::simulation::{
    Candidate, ColumnRole, Event, OperatingPoint, Plant, Scenario, Signal, Simulation, TRIAL_VERSION, Trial,
};
use crate::tuning::controlled::Controlled;
use crate::units::Span;
use serde::{Deserialize, Serialize};
use std::cell::Cell;
use std::sync::Arc;
use utoipa::ToSchema;

/// What settings achieve, the worst over all models. For a load of 1 % where the OP acts and a set point step of 1 % of span;
/// in a scenario, over the whole of it.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Figures {
    /// ∫|e| dt after the load, % of span · s; in a scenario over all of it.
    pub load_error: f64,
    /// ∫|e| dt after the set point step, % of span · s; null where nothing asked for it.
    pub set_point_error: Option<f64>,
    /// Overshoot after the set point step, %.
    pub overshoot: Option<f64>,
    /// Rise time 10 to 90 %, s; null where it was not asked for or never came.
    pub rise_time: Option<f64>,
    /// Settling time ±5 %, s; null where it was not asked for or never came.
    pub settling_time: Option<f64>,
    /// Way of the output after the load, %.
    pub output_travel: f64,
    /// Maximum sensitivity.
    pub max_sensitivity: f64,
    /// Standard deviation of the output per that of white noise at the PV, % per %.
    pub noise_gain: f64,
}

impl Figures {
    /// The value that a demand limits; infinite where it never came.
    #[must_use]
    pub fn value(&self, demand: Demand) -> f64 {
        match demand {
            Demand::MaxSensitivity => self.max_sensitivity,
            Demand::Overshoot => self.overshoot.unwrap_or(f64::INFINITY),
            Demand::RiseTime => self.rise_time.unwrap_or(f64::INFINITY),
            Demand::SettlingTime => self.settling_time.unwrap_or(f64::INFINITY),
            Demand::OutputTravel => self.output_travel,
            Demand::NoiseGain => self.noise_gain,
        }
    }

    /// By how much the worst demand is missed, as a share of its limit; 0 where all are met.
    #[must_use]
    pub fn violation(&self, demands: &Demands) -> f64 {
        demands.asked().map(|(demand, limit)| excess(self.value(demand), limit)).fold(0.0, f64::max)
    }

    fn worst(self, other: Self) -> Self {
        // What never came in one of the models never came.
        let both = |a: Option<f64>, b: Option<f64>| Some(a?.max(b?));
        Self {
            load_error: self.load_error.max(other.load_error),
            set_point_error: both(self.set_point_error, other.set_point_error),
            overshoot: both(self.overshoot, other.overshoot),
            rise_time: both(self.rise_time, other.rise_time),
            settling_time: both(self.settling_time, other.settling_time),
            output_travel: self.output_travel.max(other.output_travel),
            max_sensitivity: self.max_sensitivity.max(other.max_sensitivity),
            noise_gain: self.noise_gain.max(other.noise_gain),
        }
    }
}

/// By how much a value misses its limit, as a share of it; limits near 0 are taken as 1 %.
pub(super) fn excess(value: f64, limit: f64) -> f64 {
    ((value - limit) / limit.max(1.0)).clamp(0.0, 1e3)
}

/// One plant of the family.
pub(super) struct Model {
    grid: FrequencyGrid,
    /// The trial with a load, and with a set point step; of a scenario the trial itself.
    trial: Trial,
}

/// All plants of a task, and how often they were run.
pub(super) struct Bench {
    models: Arc<[Model]>,
    /// Of a predictor, what it adds to its PID controller, for each model.
    predictions: Vec<Prediction>,
    structure: ControllerStructure,
    template: ControllerSpec,
    pv_span: Span,
    scenario: bool,
    horizon: f64,
    needs_set_point: bool,
    pub gains: [f64; 2],
    pub times: [f64; 2],
    pub simulated: Cell<usize>,
    /// Least load error so far; a loop with many times more is not run to its end.
    pub least: Cell<f64>,
}

/// A loop with so many times the least error so far is hopeless.
const HOPELESS: f64 = 3.0;
/// A loop is through when its error has stayed below this share of its largest.
const THROUGH: f64 = 1e-3;
/// A loop that has not come to rest after so many scans counts as it is.
const MOST_SCANS: usize = 30_000;

/// The plants of a task: those of tasks that differ in controller, objective and demands alone are the same.
pub(super) fn models(task: &Task) -> Result<Arc<[Model]>> {
    let (process, span) = (&task.process, &task.pv_span);
    let seen = Controlled { process: process.clone(), sensor: task.sensor.clone() }.as_seen(task.scan);
    let model = |variation: &Variation| {
        let process = variation.of(process)?;
        let trial = match &task.scenario {
            Some(trial) => trial.clone(),
            None => standard(&process, &task.sensor, span, task.scan),
        };
        let sampled = sampled_of(&trial)?;
        let grid = FrequencyGrid::new(&sampled, 30.0 * process.time_scale(), seen.dead_time());
        Ok(Model { grid, trial })
    };
    task.variations().iter().map(model).collect()
}

impl Bench {
    pub fn new(task: &Task) -> Result<Self> {
        Self::with(task, models(task)?)
    }

    /// With the [`models`] of the task.
    pub fn with(task: &Task, models: Arc<[Model]>) -> Result<Self> {
        let span = &task.pv_span;
        let seen = Controlled { process: task.process.clone(), sensor: task.sensor.clone() }.as_seen(task.scan);
        let percent = 100.0 / span.width();
        let theta = seen.dead_time();
        let scale = seen.time_scale().max(task.scan);
        let slope =
            (seen.gain() * percent).abs() / if seen.integrators() > 0 { 1.0 } else { (scale - theta).max(task.scan) };
        // Two limits of the gain, of which the higher counts: by the slope over the dead time, and, of a process that settles,
        // by the gain itself, which is what limits one that is mostly dead time.
        let by_slope = 1.0 / (slope * (theta + 0.02 * scale));
        let by_gain = if seen.integrators() > 0 { 0.0 } else { 1.0 / (seen.gain() * percent).abs() };
        let natural = by_slope.max(by_gain);
        let longest = if seen.integrators() > 0 { 60.0 * (theta + scale) } else { 8.0 * (theta + scale) };
        // A controller on a prediction can be faster than the dead time.
        let (most, shortest) = if task.structure == ControllerStructure::Smith { (12.0, 0.05) } else { (3.0, 0.15) };
        let predictions = match &task.template {
            ControllerSpec::Smith(settings) => {
                models.iter().map(|model| Prediction::new(&model.grid, settings, span)).collect::<Result<_>>()?
            }
            _ => Vec::new(),
        };
        Ok(Self {
            predictions,
            structure: task.structure,
            template: task.template.clone(),
            pv_span: span.clone(),
            scenario: task.scenario.is_some(),
            horizon: 2.0 * (theta + scale),
            needs_set_point: task.scenario.is_none()
                && (task.objective != Objective::Load
                    || task.demands.asked().any(|(demand, _)| demand.needs_set_point())),
            gains: [2e-3 * natural, most * natural],
            times: [shortest * theta.max(0.1 * scale), longest],
            models,
            simulated: Cell::new(0),
            least: Cell::new(f64::INFINITY),
        })
    }

    /// A controller of these settings.
    pub fn controller(&self, gain: f64, integral: f64, derivative: f64) -> ControllerSpec {
        let set = |pid: &PidSettings| PidSettings {
            gain,
            integral_time: Some(integral),
            derivative_time: derivative,
            ..pid.clone()
        };
        match &self.template {
            ControllerSpec::Smith(settings) => {
                ControllerSpec::Smith(SmithSettings { pid: set(&settings.pid), ..settings.clone() })
            }
            other => ControllerSpec::Pid(other.main_pid().map_or_else(|| PidSettings::pi(gain, integral), set)),
        }
    }

    /// The responses of controllers of these times and any gain, one for each plant.
    pub fn families(&self, integral: f64, derivative: f64) -> Vec<Family> {
        let controller = self.controller(1.0, integral, derivative);
        let Some(pid) = controller.main_pid() else { return Vec::new() };
        let family = |(k, model): (usize, &Model)| match self.predictions.get(k) {
            Some(prediction) => Family::smith(&model.grid, prediction, pid),
            None => Family::pid(&model.grid, pid),
        };
        self.models.iter().enumerate().map(family).collect()
    }

    /// The worst of all plants over frequency.
    pub fn over_frequency(&self, families: &[Family], gain: f64) -> OnGrid {
        let mut worst = OnGrid { stable: true, max_sensitivity: 0.0, noise_to_output: 0.0, noise_to_move: 0.0 };
        for (model, family) in self.models.iter().zip(families) {
            let one = family.close(&model.grid, gain);
            worst.stable &= one.stable;
            worst.max_sensitivity = worst.max_sensitivity.max(one.max_sensitivity);
            worst.noise_to_output = worst.noise_to_output.max(one.noise_to_output);
            worst.noise_to_move = worst.noise_to_move.max(one.noise_to_move);
            if !worst.stable {
                break;
            }
        }
        worst
    }

    /// Whether a gain is stable with all plants and keeps their maximum sensitivities at `limit` or below.
    pub fn keeps(&self, families: &[Family], gain: f64, limit: f64) -> bool {
        self.models.iter().zip(families).all(|(model, family)| family.keeps(&model.grid, gain, limit))
    }

    /// What a controller achieves that is stable with all plants.
    pub fn figures(&self, controller: &ControllerSpec, over_frequency: OnGrid) -> Result<Figures> {
        let mut all: Option<Figures> = None;
        for model in self.models.iter() {
            let one =
                if self.scenario { self.of_scenario(model, controller) } else { self.of_steps(model, controller) }?;
            all = Some(all.map_or(one, |worst| worst.worst(one)));
        }
        let figures = all.unwrap_or_default();
        Ok(Figures {
            max_sensitivity: over_frequency.max_sensitivity,
            noise_gain: over_frequency.noise_to_output,
            ..figures
        })
    }

    fn of_scenario(&self, model: &Model, controller: &ControllerSpec) -> Result<Figures> {
        self.simulated.set(self.simulated.get() + 1);
        let trial = Trial {
            candidate: Candidate { controller: controller.clone(), ..model.trial.candidate.clone() },
            ..model.trial.clone()
        };
        let trace = trial.run()?;
        let percent = 100.0 / self.pv_span.width();
        let metrics = metrics(&trace, 0.005 * self.pv_span.width());
        let responses = &metrics.set_point_responses;
        let longest = |time: fn(&crate::assessment::SetPointResponse) -> Option<f64>| {
            responses.iter().try_fold(0.0, |longest: f64, response| Some(longest.max(time(response)?)))
        };
        // A trial that was stopped is worse than any that went through.
        let broken = if trace.stopped.is_some() { 1e6 } else { 1.0 };
        Ok(Figures {
            load_error: metrics.integral_absolute_error * percent * broken,
            set_point_error: None,
            overshoot: Some(responses.iter().map(|response| response.overshoot_percent).fold(0.0, f64::max)),
            rise_time: longest(|response| response.rise_time),
            settling_time: longest(|response| response.settling_time_5),
            output_travel: metrics.output_travel,
            ..Figures::default()
        })
    }

    fn of_steps(&self, model: &Model, controller: &ControllerSpec) -> Result<Figures> {
        let scan = model.trial.scenario.scan;
        let run = |event: Event, most_error: f64| {
            self.simulated.set(self.simulated.get() + 1);
            let mut trial = model.trial.clone();
            trial.candidate.controller = freed(controller);
            trial.scenario.events = vec![event];
            answer(&trial, &self.pv_span, self.horizon, most_error)
        };
        let load = run(Event::load(0.0, 1.0), HOPELESS * self.least.get())?;
        let mut figures = Figures { load_error: load.error(scan), output_travel: load.travel, ..Figures::default() };
        if self.needs_set_point {
            let step = 0.01 * self.pv_span.width();
            let answer = run(Event::set_point(0.0, step), f64::INFINITY)?;
            let values: Vec<f64> = answer.errors.iter().map(|error| 1.0 - error).collect();
            figures.set_point_error = Some(answer.error(scan));
            figures.overshoot = Some(100.0 * (values.iter().copied().fold(f64::NEG_INFINITY, f64::max) - 1.0).max(0.0));
            let share = |k: usize| values[k];
            figures.rise_time = rises(values.len(), share).map(|rows| rows * scan);
            figures.settling_time = settles(values.len(), 0.05, |k| share(k) - 1.0).map(|rows| rows * scan);
        }
        Ok(figures)
    }

    pub fn structure(&self) -> ControllerStructure {
        self.structure
    }
}

/// Scans after which the error of a plant that is far from the model counts as it is.
const MOST_MISMATCH_SCANS: usize = 4000;

/// ∫|e| dt in % of span · s after a load of 1 % on a plant with a controller, far from all limits; with the `law` of a predictive one, which
/// says what it does there.
pub(in crate::tuning) fn load_error(
    plant: &Controlled,
    pv_span: &Span,
    scan: f64,
    controller: &ControllerSpec,
    law: Option<&Law>,
) -> Result<f64> {
    let mut trial = standard(&plant.process, &plant.sensor, pv_span, scan);
    trial.scenario.duration = MOST_MISMATCH_SCANS as f64 * scan;
    trial.scenario.events = vec![Event::load(0.0, 1.0)];
    let horizon = 2.0 * plant.as_seen(scan).time_scale();
    // What a law says is what the controller does that has it: that one holds its place.
    trial.candidate.controller = match law {
        Some(_) => ControllerSpec::Pid(PidSettings::pi(1.0, 1.0)),
        None => freed(controller),
    };
    let mut simulation = Simulation::new(&trial)?;
    if let Some(law) = law {
        simulation.put_in_place(Box::new(law.at_work()));
    }
    Ok(answer_of(simulation, &trial, pv_span, horizon, f64::INFINITY).error(scan))
}

/// The error in % of span of a trial with one event at its beginning, until it has been quiet for `horizon` s and the
/// integral time, or ∫|e| dt is above `most_error`.
fn answer(trial: &Trial, pv_span: &Span, horizon: f64, most_error: f64) -> Result<Answer> {
    Ok(answer_of(Simulation::new(trial)?, trial, pv_span, horizon, most_error))
}

fn answer_of(mut simulation: Simulation, trial: &Trial, pv_span: &Span, horizon: f64, most_error: f64) -> Answer {
    let most = most_error / trial.scenario.scan;
    let mut sum = 0.0;
    let percent = 100.0 / pv_span.width();
    let integral = trial.candidate.controller.main_pid().and_then(|pid| pid.integral_time).unwrap_or(0.0);
    let quiet = ((horizon + integral) / trial.scenario.scan).ceil() as usize;
    let mut answer = Answer { errors: Vec::new(), travel: 0.0 };
    let (mut largest, mut last_loud, mut last): (f64, usize, Option<f64>) = (0.0, 0, None);
    while let Some(row) = simulation.step() {
        let error = (row.set_point - row.true_value) * percent;
        answer.travel += last.map_or(0.0, |before: f64| (row.output - before).abs());
        last = Some(row.output);
        largest = largest.max(error.abs());
        answer.errors.push(error);
        sum += error.abs();
        if sum > most {
            break;
        }
        let now = answer.errors.len();
        if error.abs() > THROUGH * largest || largest == 0.0 {
            last_loud = now;
        } else if now - last_loud > quiet {
            break;
        }
    }
    answer
}

struct Answer {
    errors: Vec<f64>,
    travel: f64,
}

impl Answer {
    /// ∫|e| dt, straight between scans.
    fn error(&self, scan: f64) -> f64 {
        self.errors.windows(2).map(|pair| 0.5 * (pair[0].abs() + pair[1].abs()) * scan).sum()
    }
}

/// The linear loop of a trial: the one description that margins, searches and maps go by.
fn sampled_of(trial: &Trial) -> Result<SampledLoop> {
    SampledLoop::of(trial)?
        .ok_or_else(|| crate::Error::unfit("the plant does not start at rest", "choose a steady state"))
}

/// The linear loop around a process with its sensor.
pub(in crate::tuning) fn sampled(plant: &Controlled, pv_span: &Span, scan: f64) -> Result<SampledLoop> {
    sampled_of(&standard(&plant.process, &plant.sensor, pv_span, scan))
}

/// A trial of a linear process with its sensor, far from all limits.
fn standard(process: &LinearSpec, sensor: &SensorSpec, pv_span: &Span, scan: f64) -> Trial {
    let signal = |tag: &str, span: Span| Signal { tag: tag.to_owned(), span };
    let (pv, op) = (signal("PV", pv_span.clone()), signal("OP", Span::new(0.0, 100.0, "%")));
    let middle = pv_span.low + 0.5 * pv_span.width();
    let controller = ControllerSpec::Pid(PidSettings::pi(1.0, 1.0));
    Trial {
        version: TRIAL_VERSION,
        plant: Plant {
            sensor: sensor.clone(),
            ..Plant::plain(process.clone(), pv, op, OperatingPoint::new(middle, 50.0))
        },
        candidate: Candidate::new(controller),
        scenario: Scenario {
            duration: MOST_SCANS as f64 * scan,
            scan,
            seed: 0,
            events: Vec::new(),
            further: Default::default(),
        },
    }
}

/// The controller with limits that it never reaches.
pub(super) fn freed(controller: &ControllerSpec) -> ControllerSpec {
    let mut controller = controller.clone();
    match &mut controller {
        ControllerSpec::Pid(pid) => pid.output_limits = FREE,
        ControllerSpec::Smith(settings) => settings.pid.output_limits = FREE,
        // On the bench it has the signals of the bench, and far from its limits it feels none.
        ControllerSpec::Predictive(settings) => {
            for cv in &mut settings.cvs {
                (cv.tag, cv.low, cv.high) = ("PV".to_owned(), None, None);
            }
            for mv in &mut settings.mvs {
                (mv.tag, mv.low, mv.high, mv.rate) = ("OP".to_owned(), 0.0, 100.0, None);
            }
            settings.dvs.clear();
        }
        _ => {}
    }
    controller
}

/// Limits that settings on the bench never reach.
const FREE: OutputLimits = OutputLimits { low: -1000.0, high: 1000.0 };

/// Whether a trace has a set point that moves.
pub(super) fn moves_set_point(trial: &Trial) -> bool {
    trial.run().is_ok_and(|trace| {
        let set_point = trace.values(ColumnRole::SetPoint);
        set_point.iter().any(|value| *value != set_point[0])
    })
}
