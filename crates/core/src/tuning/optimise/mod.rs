//! Settings by optimisation: the least error under limits on robustness, overshoot, speed, travel and noise.

mod bench;
mod demands;
mod search;
mod trade_off;
mod wide;

pub use bench::Figures;
pub(in crate::tuning) use bench::{load_error, sampled};
pub use demands::{Demand, Demands};
pub use trade_off::{TradeOff, TradeOffPoint, trade_off};

use crate::controller::{Action, ControllerSpec, PidSettings, SmithSettings};
use crate::instrument::SensorSpec;
use crate::process::LinearSpec;
use crate::simulation::Trial;
use crate::tuning::controlled::Controlled;
use crate::units::Span;
use crate::verdict::{readable, readable_duration};
use crate::{Error, Result, check};
use bench::Bench;
use search::{Goal, MISSED, Search, Tried};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The controller whose settings are sought.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum ControllerStructure {
    /// Proportional and integral.
    #[default]
    Pi,
    /// With derivative.
    Pid,
    /// PI on the prediction of a Smith predictor with the nominal model.
    Smith,
}

impl ControllerStructure {
    /// What it is called.
    #[must_use]
    pub fn title(self) -> &'static str {
        match self {
            Self::Pi => "PI",
            Self::Pid => "PID",
            Self::Smith => "Smith predictor",
        }
    }
}

/// What is made as small as can be.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Objective {
    /// ∫|e| dt after a load step; over a scenario, of all of it.
    #[default]
    Load,
    /// ∫|e| dt after a set point step.
    SetPoint,
    /// Both, for a load of 1 % of OP and a step of 1 % of span.
    Both {
        /// Weight of the load, 0 to 1; the set point has the rest.
        load_weight: f64,
    },
}

/// A plant that differs from the model by these factors.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Variation {
    /// Factor on the gain, above 0.
    #[serde(default = "one")]
    pub gain: f64,
    /// Factor on all time constants, above 0.
    #[serde(default = "one")]
    pub time_constant: f64,
    /// Factor on the dead time, 0 or more.
    #[serde(default = "one")]
    pub dead_time: f64,
}

fn one() -> f64 {
    1.0
}

impl Variation {
    /// The model itself.
    pub const NONE: Self = Self { gain: 1.0, time_constant: 1.0, dead_time: 1.0 };

    /// The process that differs so.
    pub fn of(&self, process: &LinearSpec) -> Result<LinearSpec> {
        check::positive("family.gain", self.gain, "")?;
        check::positive("family.time_constant", self.time_constant, "")?;
        check::not_negative("family.dead_time", self.dead_time, "")?;
        let values: Vec<f64> = process
            .parameters()
            .into_iter()
            .map(|(name, _, value)| match name {
                "gain" => value * self.gain,
                "dead_time" => value * self.dead_time,
                "damping" => value,
                _ => value * self.time_constant,
            })
            .collect();
        let varied = process.with_parameters(&values);
        varied.validate()?;
        Ok(varied)
    }
}

/// What is to be optimised.
#[derive(Debug, Clone, PartialEq)]
pub struct Task {
    /// The model.
    pub process: LinearSpec,
    /// What stands between it and the controller.
    pub sensor: SensorSpec,
    /// Span of the PV.
    pub pv_span: Span,
    /// Scan in s.
    pub scan: f64,
    /// The controller whose settings are sought.
    pub structure: ControllerStructure,
    /// The controller in which the settings are put; its gain and times do not count.
    pub template: ControllerSpec,
    /// What is made small.
    pub objective: Objective,
    /// What must be kept.
    pub demands: Demands,
    /// Plants besides the model that must be kept in hand, too.
    pub family: Vec<Variation>,
    /// A trial whose scenario takes the place of the steps, on its own plant; None for steps on the model.
    pub scenario: Option<Trial>,
}

impl Task {
    /// The least load error for a model, without demands.
    #[must_use]
    pub fn new(process: &LinearSpec, pv_span: &Span, scan: f64, structure: ControllerStructure) -> Self {
        let pid = PidSettings {
            action: Action::for_gain(process.gain()),
            ..PidSettings::pi(1.0, process.time_scale().max(scan))
        };
        let template = match structure {
            ControllerStructure::Smith => ControllerSpec::Smith(SmithSettings {
                pid,
                model: process.clone(),
                filter_time: if process.integrators() > 0 { process.dead_time().max(scan) } else { 0.0 },
            }),
            _ => ControllerSpec::Pid(pid),
        };
        Self {
            process: process.clone(),
            sensor: SensorSpec::default(),
            pv_span: pv_span.clone(),
            scan,
            structure,
            template,
            objective: Objective::Load,
            demands: Demands::default(),
            family: Vec::new(),
            scenario: None,
        }
    }

    /// The same for a process with its sensor.
    #[must_use]
    pub fn on(controlled: &Controlled, pv_span: &Span, scan: f64, structure: ControllerStructure) -> Self {
        // A predictor predicts what the controller sees.
        let mut task = Self::new(&controlled.as_seen(0.0), pv_span, scan, structure);
        task.process = controlled.process.clone();
        task.sensor = controlled.sensor.clone();
        task
    }

    /// Takes over everything of these settings but gain and times: weights, filters, action.
    pub fn take_over(&mut self, settings: &PidSettings) {
        let taken = PidSettings { schedule: None, feed_forward: None, gap: 0.0, ..settings.clone() };
        match &mut self.template {
            ControllerSpec::Smith(smith) => smith.pid = taken,
            other => *other = ControllerSpec::Pid(taken),
        }
    }

    fn validate(&self) -> Result<()> {
        self.process.validate()?;
        self.sensor.validate("sensor")?;
        self.pv_span.validate("pv.span")?;
        check::positive("scan", self.scan, "s")?;
        self.demands.validate()?;
        if let Objective::Both { load_weight } = self.objective {
            check::within("objective.load_weight", load_weight, 0.0, 1.0, "")?;
        }
        if let Some(trial) = &self.scenario {
            trial.validate()?;
            if self.objective != Objective::Load {
                return Err(Error::invalid("objective", "a set point step", "load: over a scenario all error counts"));
            }
            let needs = self.demands.asked().any(|(demand, _)| demand.needs_set_point());
            if needs && !bench::moves_set_point(trial) {
                return Err(Error::unfit(
                    "overshoot, rise and settling are asked for, but the scenario does not move the set point",
                    "add a set point step",
                ));
            }
        }
        Ok(())
    }

    /// The model, and those that differ from it; a scenario runs on its own plant.
    fn variations(&self) -> Vec<Variation> {
        let others = if self.scenario.is_some() { &[][..] } else { &self.family[..] };
        std::iter::once(Variation::NONE).chain(others.iter().copied()).collect()
    }
}

/// A demand that would have to give way.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Relaxation {
    /// The demand.
    pub demand: Demand,
    /// What was asked.
    pub asked: f64,
    /// What can be reached while all others are kept; null where even without it they cannot.
    pub reachable: Option<f64>,
    /// The same as a sentence.
    pub text: String,
}

/// The best settings found, and how they came about.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Optimum {
    /// The controller.
    pub structure: ControllerStructure,
    /// With its settings.
    pub controller: ControllerSpec,
    /// What they achieve.
    pub figures: Figures,
    /// Whether all demands are met.
    pub met: bool,
    /// Demands that stand at their limit: relaxing them would pay.
    pub active: Vec<Demand>,
    /// What would have to give way, where not all can be met.
    pub relaxations: Vec<Relaxation>,
    /// The derivation, a step a line.
    pub derivation: Vec<String>,
    /// Loops that were simulated.
    pub simulated: usize,
}

/// A demand within this share of its limit is active.
const ACTIVE: f64 = 5e-3;

/// Finds the settings with the least error that keep the demands; where none keep all, those that miss them least. They have
/// four digits, to be typed in, and the figures are theirs.
///
/// For each pair of integral and derivative time the gains that keep what is known over frequency are found by bisection, and the
/// best of them by simulated steps and golden section; over the times goes a coarse grid, refined by golden section or by the
/// simplex of Nelder and Mead. `goes_on` is called with the number of loops simulated and stops the search when it returns
/// false. Errors when nothing is stable, or the search was stopped.
pub fn optimise(task: &Task, goes_on: &dyn Fn(usize) -> bool) -> Result<Optimum> {
    task.validate()?;
    let bench = Bench::new(task)?;
    let search =
        |demands: &Demands, goal: Goal, known: f64| Search { bench: &bench, demands, goal, goes_on }.run(known);
    let goal = Goal::Objective(task.objective);
    let unstable = || {
        Error::unfit(
            "no settings were found that keep the loop stable",
            "check the model, or choose another controller",
        )
    };
    let asked = Search { bench: &bench, demands: &task.demands, goal, goes_on };
    let mut best = asked.run(f64::INFINITY)?.ok_or_else(unstable)?;
    if best.score >= MISSED
        && let Some(other) = asked.widely()?.filter(|other| other.score < best.score)
    {
        best = other;
    }
    // How far each demand alone can be brought down while the others are kept: what would have to give way, or, where
    // one comes below its own limit, settings that keep them all.
    let mut reached: Vec<(Demand, f64, Option<Tried>)> = Vec::new();
    if best.score >= MISSED {
        for (demand, limit) in task.demands.asked() {
            let without = task.demands.with(demand, None);
            let search = Search { bench: &bench, demands: &without, goal: Goal::Figure(demand), goes_on };
            let lowest = search.widely()?.map(|tried| search.to_type_in(tried)).transpose()?;
            let lowest = lowest.filter(|tried| tried.score < MISSED);
            if let Some(kept) = lowest.map(|tried| asked.scored(tried)).filter(|tried| tried.score < MISSED) {
                best = asked.refined(kept)?;
                break;
            }
            reached.push((demand, limit, lowest));
        }
    }
    let best = asked.to_type_in(best)?;
    let met = best.score < MISSED;
    let active = if met { active(&best, &task.demands) } else { Vec::new() };
    let relaxation = |(demand, asked, lowest): (Demand, f64, Option<Tried>)| {
        let value = lowest.map(|tried| tried.figures.value(demand)).filter(|value| value.is_finite());
        let reachable = value.map(rounded_up);
        Relaxation { demand, asked, reachable, text: relaxed(demand, asked, reachable) }
    };
    let relaxations = if met { Vec::new() } else { reached.into_iter().map(relaxation).collect() };
    let derivation = derivation(task, &bench, &best, &active, met, &search)?;
    Ok(Optimum {
        structure: task.structure,
        controller: bench.controller(best.gain, best.integral, best.derivative),
        figures: best.figures,
        met,
        active,
        relaxations,
        derivation,
        simulated: bench.simulated.get(),
    })
}

/// The best settings that keep the demands on a bench of the task, to be typed in, with their figures, and nothing about them;
/// None where none are found. Errors as [`optimise`] says.
fn best_kept(task: &Task, bench: &Bench, goes_on: &dyn Fn(usize) -> bool) -> Result<Option<(ControllerSpec, Figures)>> {
    task.validate()?;
    let search = Search { bench, demands: &task.demands, goal: Goal::Objective(task.objective), goes_on };
    let Some(found) = search.run(f64::INFINITY)?.filter(|found| found.score < MISSED) else { return Ok(None) };
    let best = search.to_type_in(found)?;
    Ok((best.score < MISSED).then(|| (bench.controller(best.gain, best.integral, best.derivative), best.figures)))
}

/// To three digits, upwards: a limit that is written so can be kept.
fn rounded_up(value: f64) -> f64 {
    let nearest = crate::numerics::rounded(value, 3);
    if nearest >= value { nearest } else { crate::numerics::rounded(value * 1.005, 3).max(value) }
}

fn active(best: &Tried, demands: &Demands) -> Vec<Demand> {
    demands
        .asked()
        .filter(|(demand, limit)| (best.figures.value(*demand) - limit).abs() <= ACTIVE * limit.max(1.0))
        .map(|(demand, _)| demand)
        .collect()
}

fn relaxed(demand: Demand, asked: f64, reachable: Option<f64>) -> String {
    let (name, _) = demand.title();
    match reachable {
        Some(value) => format!(
            "With {name} allowed up to {} instead of {}, all others can be kept.",
            demand.with_unit(value),
            demand.with_unit(asked)
        ),
        None => format!("Giving up {name} alone is not enough."),
    }
}

fn settings_in_words(tried: &Tried) -> String {
    let mut text = format!("Kc = {} %/%, Ti = {}", readable(tried.gain), readable_duration(tried.integral));
    if tried.derivative > 0.0 {
        text += &format!(", Td = {}", readable_duration(tried.derivative));
    }
    text
}

/// A search under demands for a goal, where an error is known already.
type Searching<'a> = dyn Fn(&Demands, Goal, f64) -> Result<Option<Tried>> + 'a;

fn derivation(
    task: &Task,
    bench: &Bench,
    best: &Tried,
    active: &[Demand],
    met: bool,
    search: &Searching,
) -> Result<Vec<String>> {
    let goal = match task.objective {
        _ if task.scenario.is_some() => "∫|e| dt over the scenario, on its plant".to_owned(),
        Objective::Load => "∫|e| dt after a load of 1 % where the OP acts".to_owned(),
        Objective::SetPoint => "∫|e| dt after a set point step of 1 % of span".to_owned(),
        Objective::Both { load_weight } => {
            format!("{} of ∫|e| dt after a load of 1 %, the rest after a set point step of 1 %", readable(load_weight))
        }
    };
    let mut steps = vec![
        format!("Sought: settings of a {} with the least {goal}.", task.structure.title()),
        match task.variations().len() {
            1 => format!("Tried on one plant, scanned every {}.", readable_duration(task.scan)),
            n => format!("The worst of {n} plants counts, scanned every {}.", readable_duration(task.scan)),
        },
    ];
    let limits: Vec<String> = task
        .demands
        .asked()
        .map(|(demand, limit)| format!("{} at most {}", demand.title().0, demand.with_unit(limit)))
        .collect();
    steps.push(if limits.is_empty() { "No demands.".to_owned() } else { format!("Kept: {}.", limits.join(", ")) });
    steps.push(format!(
        "For integral times from {} to {} the gains that are stable and keep what is known over frequency, by bisection; among \
         them the best, by simulated steps.",
        readable_duration(bench.times[0]),
        readable_duration(bench.times[1])
    ));
    steps.push(format!(
        "Best: {}, with an error of {} % s.",
        settings_in_words(best),
        readable(best.figures.load_error)
    ));
    for (demand, limit) in task.demands.asked() {
        let state = if active.contains(&demand) { "at its limit" } else { "limit" };
        let value = best.figures.value(demand);
        steps.push(format!("{}: {}, {state} {}.", demand.title().0, demand.with_unit(value), demand.with_unit(limit)));
    }
    if met {
        for demand in active {
            let without = search(&task.demands.with(*demand, None), Goal::Objective(task.objective), best.score)?;
            if let Some(free) = without.filter(|free| free.score < MISSED) {
                steps.push(format!(
                    "Without the limit on {} the error would be {} % s ({} % less), with {} {}.",
                    demand.title().0,
                    readable(free.figures.load_error),
                    readable(100.0 * (1.0 - free.figures.load_error / best.figures.load_error)),
                    demand.title().0,
                    demand.with_unit(free.figures.value(*demand))
                ));
            }
        }
    } else {
        steps.push("No settings keep all demands; these miss them least.".to_owned());
    }
    steps.push(format!("{} loops were simulated.", bench.simulated.get()));
    Ok(steps)
}

#[cfg(test)]
mod tests;
