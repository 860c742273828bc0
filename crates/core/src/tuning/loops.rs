//! Several loops on one plant: PI controllers detuned together, and decouplers between them.

use crate::assessment::{InteractionQuestion, MeasuredOutput, SignalOffers, loop_channel};
use crate::controller::{Action, ControllerSpec, FeedForward, PidSettings};
use crate::lti::StateSpace;
use crate::numerics::{bisect, peak_in, rounded};
use crate::process::{Description, LinearSpec};
use crate::simulation::{
    Candidate, Drive, Event, Manipulated, Measured, Plant, Scenario, TRIAL_VERSION, Trial, Wire, Wired, round_down,
};
use crate::verdict::readable_duration;
use crate::{Error, Result};
use nalgebra::DMatrix;
use num_complex::Complex64;
use serde::{Deserialize, Serialize};
use std::f64::consts::PI;
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
    /// The factor F by which the settings of each loop alone were detuned.
    pub detuning: f64,
    /// The largest log modulus of the loops together that this gives, dB.
    pub largest_log_modulus: f64,
    /// What could not be done as it was wanted.
    pub remarks: Vec<String>,
}

/// One of several loops, with where its settings come from.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct TunedLoop {
    /// What it is called.
    pub name: String,
    /// Ultimate gain in %/% of the loop alone.
    pub ultimate_gain: f64,
    /// Its ultimate period in s.
    pub ultimate_period: f64,
    /// Controller gain in %/%, above 0.
    pub gain: f64,
    /// Integral time in s.
    pub integral_time: f64,
}

/// Dead time of a loop that never lags by half a turn, as a share of its longest lag (common practice: sensor and actuator lag, too).
const UNSEEN: f64 = 0.1;

/// Sets up and tunes the loops of a question. Errors name what does not fit, or the loop that cannot be tuned so.
pub fn begin_loops(question: &LoopsQuestion) -> Result<LoopsAnswer> {
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
    let settings = detuned(&elements, scan);
    let loops: Vec<TunedLoop> = names
        .iter()
        .zip(&settings.alone)
        .zip(&settings.together)
        .map(|((name, alone), together)| TunedLoop {
            name: name.clone(),
            ultimate_gain: alone.0,
            ultimate_period: alone.1,
            gain: rounded(together.0, 3),
            integral_time: rounded(together.1, 3),
        })
        .collect();
    let mut pids: Vec<PidSettings> = loops
        .iter()
        .enumerate()
        .map(|(k, one)| PidSettings {
            action: Action::for_gain(sign_at_rest(&elements[k][k])),
            feed_forward: forward(question.decoupler, k, &plant, &elements, &names, &mut remarks),
            ..PidSettings::pi(one.gain, one.integral_time)
        })
        .collect();
    one_way_where_needed(&mut pids, &plant, &names, &mut remarks);
    let trial = trial_of(plant, pids, &names, &loops, scan);
    trial.validate()?;
    let Detuned { factor: detuning, log_modulus: largest_log_modulus, .. } = settings;
    Ok(LoopsAnswer { trial, loops, detuning, largest_log_modulus, remarks })
}

fn names(plant: &Plant) -> Vec<String> {
    let further = plant.further_measured.iter().map(|one| one.tag.strip_suffix(".PV").unwrap_or(&one.tag).to_owned());
    std::iter::once(plant.loop_tag().to_owned()).chain(further).collect()
}

/// The plant with all signals of the question, pair by pair: its PV and the input paired with it first.
fn plant_of_pairs(plant: &Plant, pairs: &InteractionQuestion) -> Result<Plant> {
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

/// A plant with one more measured signal, one more driven signal, or both, on the spans that are usual for it. Errors where the
/// process has no such output or input, or it is measured or driven already.
pub fn with_further(plant: &Plant, output: Option<&str>, input: Option<&str>) -> Result<Plant> {
    let (description, offers) = (plant.describe()?, SignalOffers::of(plant)?);
    let mut with = plant.clone();
    if let Some(name) = output {
        let place = Description::position(&description.outputs, name, "output")?;
        let own = plant.measured.as_ref().map_or(place == 0, |measured| measured == name);
        if own || plant.further_measured.iter().any(|one| one.output == name) {
            return Err(Error::invalid("output", format!("“{name}”"), "one that is not measured yet"));
        }
        with.further_measured.extend(offers.outputs.iter().filter(|one| one.output == name).map(new_measured));
    }
    if let Some(name) = input {
        Description::position(&description.inputs, name, "input")?;
        let own = own_drive(plant, &description).input == name;
        if own || plant.further_driven.iter().any(|one| one.input == name) {
            return Err(Error::invalid("input", format!("“{name}”"), "one that is not driven yet"));
        }
        for one in offers.inputs.iter().filter(|one| one.input == name) {
            with.further_driven.push(new_driven(plant, &description, one)?);
        }
        with.inputs.remove(name);
    }
    with.start().map(|_| with)
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
fn new_driven(plant: &Plant, description: &Description, one: &crate::assessment::DrivenInput) -> Result<Manipulated> {
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

/// The direction in which a system answers slow changes.
fn sign_at_rest(system: &StateSpace) -> f64 {
    let poles = crate::numerics::eigenvalues(system.matrices().0.clone());
    let slowest = poles.iter().map(|pole| pole.norm()).filter(|norm| *norm > 1e-12).fold(1.0, f64::min);
    let slow = system.response(1e-4 * slowest);
    // Of one that integrates the answer lags by a quarter of a turn.
    if slow.im.abs() > slow.re.abs() { -slow.im } else { slow.re }
}

/// The ultimate gain and period of a system, `hold` seconds of dead time added: its first lag of half a turn.
fn crossing(system: &StateSpace, hold: f64) -> Option<(f64, f64)> {
    let sign = sign_at_rest(system).signum();
    let response = |omega: f64| sign * system.response(omega) * Complex64::from_polar(1.0, -omega * hold);
    let poles = crate::numerics::eigenvalues(system.matrices().0.clone());
    let sizes: Vec<f64> = poles.iter().map(|pole| pole.norm()).filter(|norm| *norm > 1e-12).collect();
    let slowest = sizes.iter().copied().fold(f64::MAX, f64::min).min(1e3);
    let fastest = sizes.iter().copied().fold(0.0, f64::max);
    let late = system.dead_time().seconds() + hold;
    let (mut omega, end) = (1e-3 * slowest, (1e3 * fastest).max(20.0 / late.max(1e-9)).min(1e9));
    while omega < end {
        let next = omega + (0.02 * omega).min(0.1 / late.max(1e-12));
        if response(omega).im < 0.0 && response(next).im >= 0.0 {
            let at = bisect(omega, next, |omega| response(omega).im);
            return Some((response(at).norm().recip(), 2.0 * PI / at));
        }
        omega = next;
    }
    None
}

struct Detuned {
    /// Ultimate gain and period of each loop alone.
    alone: Vec<(f64, f64)>,
    /// Gain and integral time of each.
    together: Vec<(f64, f64)>,
    factor: f64,
    log_modulus: f64,
}

/// The settings of Ziegler & Nichols (1942) for each loop alone, `Ku/2.2` and `Pu/1.2`, all gains divided and all integral times
/// multiplied by one factor, so that the largest log modulus of the loops together, `20 log |W/(1 + W)|` with
/// `W = −1 + det(I + G C)`, is 2 dB a loop (Luyben, Ind. Eng. Chem. Process Des. Dev. 25 (1986) 654).
fn detuned(elements: &[Vec<StateSpace>], scan: f64) -> Detuned {
    let n = elements.len();
    let hold = 0.5 * scan;
    let alone: Vec<(f64, f64)> = (0..n).map(|k| crossing(&elements[k][k], hold).unwrap_or((1.0, 1.0))).collect();
    let signs: Vec<f64> = (0..n).map(|k| sign_at_rest(&elements[k][k]).signum()).collect();
    let settings = |factor: f64| -> Vec<(f64, f64)> {
        alone.iter().map(|(gain, period)| (gain / 2.2 / factor, period / 1.2 * factor)).collect()
    };
    let slowest = alone.iter().map(|point| point.1).fold(0.0, f64::max);
    let fastest = alone.iter().map(|point| point.1).fold(f64::MAX, f64::min);
    let log_modulus = |factor: f64, omega: f64| -> f64 {
        let loops = settings(factor);
        let late = Complex64::from_polar(1.0, -omega * hold);
        let returned = DMatrix::from_fn(n, n, |i, j| {
            let (gain, time) = loops[j];
            let controller = signs[j] * gain * (1.0 + (Complex64::new(0.0, omega) * time).inv());
            let identity = if i == j { Complex64::ONE } else { Complex64::ZERO };
            identity + elements[i][j].response(omega) * late * controller
        });
        let w = returned.determinant() - 1.0;
        20.0 * (w / (1.0 + w)).norm().log10()
    };
    // The peak lies near the crossings; below them everything follows.
    let (low, high) = ((0.02 / slowest).ln(), (4.0 * PI / fastest).ln());
    const POINTS: usize = 400;
    let at = |k: usize| low + (high - low) * k as f64 / POINTS as f64;
    let largest = |factor: f64| -> f64 {
        let best =
            (0..=POINTS).max_by(|a, b| log_modulus(factor, at(*a).exp()).total_cmp(&log_modulus(factor, at(*b).exp())));
        let best = best.unwrap_or(0);
        peak_in(30, at(best.saturating_sub(1)), at((best + 1).min(POINTS)), |omega| log_modulus(factor, omega.exp())).1
    };
    let wanted = 2.0 * n as f64;
    // More detuning lowers the peak; not even loops that do not feel each other are made quicker than alone.
    let factor =
        if largest(1.0) <= wanted { 1.0 } else { bisect_falling(1.0, 200.0, |factor| largest(factor) - wanted) };
    let (together, log_modulus) = (settings(factor), largest(factor));
    Detuned { alone, together, factor, log_modulus }
}

/// Where a falling function is 0, to four digits; its highest argument where it stays above.
fn bisect_falling(mut low: f64, mut high: f64, f: impl Fn(f64) -> f64) -> f64 {
    while high / low > 1.0 + 1e-4 {
        let middle = (low * high).sqrt();
        if f(middle) > 0.0 { low = middle } else { high = middle }
    }
    high
}

/// What loop `k` is fed forward: of the loops that move its PV the one that moves it most.
fn forward(
    decoupler: Decoupler,
    k: usize,
    plant: &Plant,
    elements: &[Vec<StateSpace>],
    names: &[String],
    remarks: &mut Vec<String>,
) -> Option<FeedForward> {
    if decoupler == Decoupler::None {
        return None;
    }
    let slow = |i: usize, j: usize| (!elements[i][j].integrates()).then(|| elements[i][j].response(0.0).re);
    let mut others: Vec<(usize, f64)> = (0..elements.len())
        .filter(|j| *j != k)
        .filter_map(|j| Some((j, slow(k, j)?)))
        .filter(|one| one.1 != 0.0)
        .collect();
    others.sort_by(|a, b| b.1.abs().total_cmp(&a.1.abs()));
    let Some(own) = slow(k, k) else {
        remarks.push(format!("{} integrates: it has no gain at rest, and is not decoupled.", names[k]));
        return None;
    };
    let (j, gain) = *others.first()?;
    if others.len() > 1 {
        remarks.push(format!("{} is decoupled from {} only, which moves it most.", names[k], names[j]));
    }
    let signal = if j == 0 { plant.op.tag.clone() } else { plant.further_driven[j - 1].tag.clone() };
    let ratio = rounded(-gain / own, 4);
    let fixed = FeedForward { signal, gain: ratio, lead: 0.0, lag: 0.0, delay: 0.0 };
    if decoupler == Decoupler::Static {
        return Some(fixed);
    }
    let nearest = |i: usize, j: usize| {
        let channel = plant.seen_at(i, j).and_then(|seen| loop_channel(&seen)).ok()?;
        match channel.nearest?.process {
            LinearSpec::Fopdt { time_constant, dead_time, .. } => Some((time_constant, dead_time)),
            _ => None,
        }
    };
    match (nearest(k, k), nearest(k, j)) {
        (Some((own_lag, own_late)), Some((lag, late))) => {
            if late < own_late {
                remarks.push(format!(
                    "{} answers later than it is disturbed by {}: what comes before is not decoupled.",
                    names[k], names[j]
                ));
            }
            Some(FeedForward {
                lead: rounded(own_lag, 3),
                lag: rounded(lag, 3),
                delay: rounded((late - own_late).max(0.0), 3),
                ..fixed
            })
        }
        _ => {
            remarks
                .push(format!("No low-order model comes near {}: its decoupler is the ratio of the gains.", names[k]));
            Some(fixed)
        }
    }
}

/// Decouplers that feed each other multiply: their ring answers `1/(1 − d₁₂ d₂₁)` times, and runs away from 1 on. Beyond this product one of
/// the two is left out (common practice: no more than twice).
const BOTH_WAYS: f64 = 0.5;

/// Leaves out the second of two decouplers that would drive each other.
fn one_way_where_needed(pids: &mut [PidSettings], plant: &Plant, names: &[String], remarks: &mut Vec<String>) {
    let ops: Vec<&str> =
        std::iter::once(plant.op.tag.as_str()).chain(plant.further_driven.iter().map(|one| one.tag.as_str())).collect();
    // At once a lead-lag gives more than its gain where it leads.
    let strength = |forward: &FeedForward| {
        forward.gain.abs() * if forward.lag > 0.0 { (forward.lead / forward.lag).max(1.0) } else { 1.0 }
    };
    let fed_by = |pid: &PidSettings, op: &str| pid.feed_forward.as_ref().filter(|one| one.signal == op).map(strength);
    for i in 0..pids.len() {
        for j in i + 1..pids.len() {
            let (Some(a), Some(b)) = (fed_by(&pids[i], ops[j]), fed_by(&pids[j], ops[i])) else { continue };
            if a * b > BOTH_WAYS {
                pids[j].feed_forward = None;
                remarks.push(format!(
                    "Both ways the decouplers of {} and {} would drive each other: only {} is decoupled.",
                    names[i], names[j], names[i]
                ));
            }
        }
    }
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_column_is_detuned_as_published() {
        // Luyben (1986), table for the column of Wood & Berry (from memory): F 2.55, gains 0.375 and 0.075, integral times 8.29 and
        // 23.6 min, for 4 dB.
        let minute = 60.0;
        let element = |gain: f64, tau: f64, late: f64| {
            LinearSpec::Fopdt { gain, time_constant: minute * tau, dead_time: minute * late }.state_space().unwrap()
        };
        let column = vec![
            vec![element(12.8, 16.7, 1.0), element(-18.9, 21.0, 3.0)],
            vec![element(6.6, 10.9, 7.0), element(-19.4, 14.4, 3.0)],
        ];
        let found = detuned(&column, 0.0);
        let near = |value: f64, published: f64| (value / published - 1.0).abs() < 0.01;
        assert!(near(found.factor, 2.55), "{}", found.factor);
        assert!(near(found.together[0].0, 0.375) && near(found.together[1].0, 0.075), "{:?}", found.together);
        assert!(
            near(found.together[0].1, 8.29 * minute) && near(found.together[1].1, 23.6 * minute),
            "{:?}",
            found.together
        );
        assert!((found.log_modulus - 4.0).abs() < 1e-2, "{}", found.log_modulus);
        // Loops that do not feel each other stay as they are alone where that is robust enough.
        let apart = vec![
            vec![element(1.0, 10.0, 1.0), element(1e-9, 1.0, 0.0)],
            vec![element(1e-9, 1.0, 0.0), element(1.0, 10.0, 1.0)],
        ];
        let apart = detuned(&apart, 0.0);
        assert!(apart.factor < found.factor && apart.together[0] == apart.together[1], "{}", apart.factor);
    }
}
