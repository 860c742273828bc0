//! Several loops on one plant: PI controllers tuned together or one after the other, and decouplers between them.

mod another;
mod decouplers;
mod in_order;
mod settings;
mod signals;

pub use another::{Another, another_controller};
pub use in_order::{InOrder, tune_in_order};
pub use signals::{FurtherSignal, with_further};

use crate::assessment::InteractionQuestion;
use crate::controller::{Action, ControllerSpec, PidSettings};
use crate::lti::StateSpace;
use crate::numerics::rounded;
use crate::simulation::{Candidate, Event, Plant, Scenario, TRIAL_VERSION, Trial, Wire, Wired, round_down};
use crate::verdict::readable_duration;
use crate::{Error, Result, check};
use serde::{Deserialize, Serialize};
use settings::{Settled, crossing, settled, sign_at_rest};
use signals::plant_of_pairs;
use utoipa::ToSchema;

/// Pairs of signals that are to be controlled together on a plant.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct LoopsQuestion {
    /// The plant; its PV is one of the outputs.
    pub plant: Plant,
    /// Which signals: the first output is paired with the first input, and so on.
    pub pairs: InteractionQuestion,
    /// What is fed forward from each OP to the other loops.
    #[serde(default)]
    pub decoupler: Decoupler,
    /// How the loops are tuned.
    #[serde(default)]
    pub method: LoopsMethod,
    /// For `maximum_sensitivity`, the largest singular value of S that is allowed: 1.2 to 5; null for 2.
    #[serde(default)]
    #[schema(minimum = 1.2, maximum = 5)]
    pub most_sensitivity: Option<f64>,
}

impl LoopsQuestion {
    /// As it is asked where nothing else is said: without decouplers, by the largest log modulus.
    #[must_use]
    pub fn plain(plant: Plant, pairs: InteractionQuestion) -> Self {
        Self {
            plant,
            pairs,
            decoupler: Decoupler::None,
            method: LoopsMethod::LargestLogModulus,
            most_sensitivity: None,
        }
    }
}

/// How several loops are tuned.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum LoopsMethod {
    /// All detuned by one factor, until their largest log modulus is 2 dB a loop.
    #[default]
    LargestLogModulus,
    /// All detuned by one factor, until the largest singular value of S is within a limit.
    MaximumSensitivity,
    /// The quickest first, each with those before it closed.
    OneByOne,
}

/// What keeps one loop from being felt by the others.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Decoupler {
    /// Nothing: the loops feel each other.
    #[default]
    None,
    /// The ratio of the gains.
    Static,
    /// The ratio of the low-order models that come nearest: a gain, a lead-lag and a delay.
    Dynamic,
}

/// A trial of loops that were set up together.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct LoopsAnswer {
    /// The trial: the loops with their settings, a set point step of each after the other, and a load.
    pub trial: Trial,
    /// What is said of each loop.
    pub loops: Vec<TunedLoop>,
    /// The factor F by which the settings of each loop alone were detuned; null where they were tuned one by one.
    pub detuning: Option<f64>,
    /// The order in which they were tuned one by one, by their names.
    pub order: Vec<String>,
    /// The largest log modulus of the loops together, dB, without decouplers.
    pub largest_log_modulus: f64,
    /// The largest singular value of S of the loops together, without decouplers.
    pub largest_sensitivity: f64,
    /// What could not be done as it was wanted.
    pub remarks: Vec<String>,
}

/// One of several loops, with where its settings come from.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct TunedLoop {
    /// What it is called.
    pub name: String,
    /// Ultimate gain in %/% of the loop alone, or where they were tuned one by one with those before it closed.
    pub ultimate_gain: f64,
    /// Its ultimate period in s.
    pub ultimate_period: f64,
    /// Controller gain in %/%, above 0.
    pub gain: f64,
    /// Integral time in s.
    pub integral_time: f64,
}

/// The largest singular value of S that is allowed where nobody says (common practice, as of one loop).
const USUAL_SENSITIVITY: f64 = 2.0;

/// Dead time of a loop that never lags by half a turn, as a share of its longest lag (common practice: sensor and actuator lag, too).
const UNSEEN: f64 = 0.1;

/// Sets up and tunes the loops of a question. Errors name what does not fit, or the loop that cannot be tuned so.
pub fn begin_loops(question: &LoopsQuestion) -> Result<LoopsAnswer> {
    let most = question.most_sensitivity.unwrap_or(USUAL_SENSITIVITY);
    check::within("most_sensitivity", most, 1.2, 5.0, "")?;
    let plant = plant_of_pairs(&question.plant, &question.pairs)?;
    let mut elements = elements(&plant)?;
    let names = names(&plant);
    let mut remarks = Vec::new();
    let mut quickest = f64::MAX;
    for (k, name) in names.iter().enumerate() {
        // A mere integrator has no time of its own.
        let lag = Some(elements[k][k].longest_lag()).filter(|lag| *lag > 0.0).unwrap_or(1.0);
        let slowly = 1e-3 / lag;
        if elements[k][k].response(slowly).norm() <= 1e-12 {
            let op = if k == 0 { &plant.op.tag } else { &plant.further_driven[k - 1].tag };
            return Err(Error::invalid(
                "pairs.inputs",
                format!("{name} by {op}"),
                "a pair in which the one moves the other",
            ));
        }
        if crossing(&elements[k][k], 0.0).is_none() {
            // What is not in a model lags, too.
            let late = rounded(UNSEEN * lag, 2);
            for element in &mut elements[k] {
                *element = element.clone().later_by(late)?;
            }
            remarks.push(format!(
                "{name} never lags by half a turn: it is tuned as if its sensor were {} late.",
                readable_duration(late)
            ));
        }
        let point = crossing(&elements[k][k], 0.0).ok_or_else(|| {
            let what = format!("{name} never lags by half a turn: it has no ultimate gain");
            Error::unfit(what, "give its sensor a lag or dead time, or tune it by itself")
        })?;
        quickest = quickest.min(point.1);
    }
    let scan = round_down(quickest / 40.0).clamp(0.01, 60.0);
    let Settled { ultimate, settings, factor, order, log_modulus, sensitivity } =
        settled(&elements, &names, scan, question.method, most)?;
    let loops: Vec<TunedLoop> = names
        .iter()
        .zip(&ultimate)
        .zip(&settings)
        .map(|((name, (ultimate_gain, ultimate_period)), (gain, integral_time))| TunedLoop {
            name: name.clone(),
            ultimate_gain: *ultimate_gain,
            ultimate_period: *ultimate_period,
            gain: rounded(*gain, 3),
            integral_time: rounded(*integral_time, 3),
        })
        .collect();
    let mut pids: Vec<PidSettings> = loops
        .iter()
        .enumerate()
        .map(|(k, one)| PidSettings {
            action: Action::for_gain(sign_at_rest(&elements[k][k])),
            feed_forward: decouplers::forward(question.decoupler, k, &plant, &elements, &names, &mut remarks),
            ..PidSettings::pi(one.gain, one.integral_time)
        })
        .collect();
    decouplers::one_way_where_needed(&mut pids, &plant, &names, &mut remarks);
    let trial = trial_of(plant, pids, &names, &loops, scan);
    trial.validate()?;
    Ok(LoopsAnswer {
        trial,
        loops,
        detuning: factor,
        order: order.unwrap_or_default().into_iter().map(|k| names[k].clone()).collect(),
        largest_log_modulus: log_modulus,
        largest_sensitivity: sensitivity,
        remarks,
    })
}

fn names(plant: &Plant) -> Vec<String> {
    let further = plant.further_measured.iter().map(|one| one.tag.strip_suffix(".PV").unwrap_or(&one.tag).to_owned());
    std::iter::once(plant.loop_tag().to_owned()).chain(further).collect()
}

/// From each OP (columns) to each measured signal (rows), in % of span per %.
fn elements(plant: &Plant) -> Result<Vec<Vec<StateSpace>>> {
    let count = plant.further_measured.len() + 1;
    let element = |i: usize, j: usize| {
        let seen = plant.seen_at(i, j)?;
        let Some(system) = seen.linearised()? else {
            return Err(Error::unfit("the plant does not start at rest", "choose a steady state"));
        };
        Ok(system.scaled(100.0 / seen.pv.span.width()))
    };
    (0..count).map(|i| (0..count).map(|j| element(i, j)).collect()).collect()
}

/// The trial: each set point moves after the one before has settled, then a load comes where the first OP acts.
fn trial_of(plant: Plant, pids: Vec<PidSettings>, names: &[String], loops: &[TunedLoop], scan: f64) -> Trial {
    let slowest = loops.iter().map(|one| one.integral_time.max(one.ultimate_period)).fold(0.0, f64::max);
    let settles = 10.0 * round_down(slowest * 0.6).max(scan);
    let spans: Vec<f64> = std::iter::once(&plant.pv.span)
        .chain(plant.further_measured.iter().map(|one| &one.span))
        .map(crate::units::Span::width)
        .collect();
    let step = |k: usize| Event::set_point(settles * (k as f64 + 0.1), round_down(0.04 * spans[k]));
    let mut pids = pids.into_iter();
    let first = pids.next().unwrap_or_else(|| PidSettings::pi(1.0, 60.0));
    let further: Vec<Wired> = pids
        .enumerate()
        .map(|(k, pid)| Wired {
            name: names[k + 1].clone(),
            measures: plant.further_measured[k].tag.clone(),
            sets: vec![Wire::to(plant.further_driven[k].tag.clone())],
            controller: ControllerSpec::Pid(pid),
            set_point_tracking: false,
        })
        .collect();
    let load = Event::load(settles * (names.len() as f64 + 0.1), -5.0);
    Trial {
        version: TRIAL_VERSION,
        candidate: Candidate { further, ..Candidate::new(ControllerSpec::Pid(first)) },
        scenario: Scenario {
            duration: settles * (names.len() as f64 + 1.1),
            scan,
            seed: 1,
            events: vec![step(0), load],
            further: (1..names.len()).map(|k| (names[k].clone(), vec![step(k)])).collect(),
        },
        plant,
    }
}
