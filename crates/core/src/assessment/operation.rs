//! A plant where it operates: where it can rest, its linearisation there, and the low-order model that comes nearest.

use crate::identification::{Structure, nearest_to_step};
use crate::process::{Description, LinearSpec, Linearisation, SteadyState, linearise, steady_state_of, steady_states};
use crate::simulation::{Plant, Started};
use crate::verdict::{Tone, Verdict, readable};
use crate::{Error, Result};
use num_complex::Complex64;
use serde::Serialize;
use utoipa::ToSchema;

/// Points of the step responses.
const POINTS: usize = 300;
/// A low-order model that is farther off than this, in % of the final value, is called rough.
const ROUGH: f64 = 10.0;

/// What is known of a plant besides its course.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct PlantAnalysis {
    /// The process.
    pub description: Description,
    /// Every way in which the process can rest at the wanted PV; empty for a linear process, which rests anywhere, and where
    /// none was found.
    pub rests: Vec<RestingPoint>,
    /// The states at the operating point: those from which a trial starts.
    pub state: Vec<f64>,
    /// The inputs there.
    pub inputs: Vec<f64>,
    /// The OP there, %.
    pub op: f64,
    /// Whether the plant is at rest there.
    pub at_rest: bool,
    /// The steady states under these inputs, the OP left where it is; empty for one that integrates and rests anywhere or
    /// nowhere. A linear process that does not integrate has one, that at the operating point.
    pub steady_states: Vec<SteadyState>,
    /// The process linearised at the operating point.
    pub linearisation: Linearisation,
    /// The way from the OP to the measured PV.
    pub channel: LoopChannel,
    /// What follows, in sentences.
    pub verdicts: Vec<Verdict>,
}

/// A way in which a process can rest at a wanted PV.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct RestingPoint {
    /// The OP that holds it there, %; outside 0 to 100 where the drive cannot.
    pub op: f64,
    /// The steady state.
    pub at: SteadyState,
}

/// The way from the OP in % to the measured PV, linear about the operating point, with the slope of the actuator and the
/// lag and dead time of the sensor.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct LoopChannel {
    /// PV units per %; null where it integrates or is not stable.
    pub gain: Option<f64>,
    /// Seconds between the points of the step response.
    pub interval: f64,
    /// What the PV does after the OP moved by 1 % at time 0, the first point being at 0.
    pub step_response: Vec<f64>,
    /// The low-order model that comes nearest; null where there is none.
    pub nearest: Option<Nearest>,
    /// Why there is no such model.
    pub without_nearest: Option<String>,
}

/// The low-order model whose step response comes nearest by least squares.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct Nearest {
    /// First order plus dead time, or integrating with dead time.
    pub process: LinearSpec,
    /// Its step response, at the same times.
    pub step_response: Vec<f64>,
    /// The largest difference in % of the final value, or of the last one where it integrates.
    pub largest_error: f64,
}

/// Analyses a plant at its operating point. Errors where the plant cannot be there.
pub fn analyse(plant: &Plant) -> Result<PlantAnalysis> {
    let Started { process, state, inputs, op, at_rest, .. } = plant_alone(plant).start()?;
    let description = process.description().clone();
    let linear = plant.process.linear_process(&plant.pv.span.unit)?.is_some();
    let rests = if linear { Vec::new() } else { resting_points(plant)? };
    let linearisation = linearise(process.as_ref(), &state, &inputs)?;
    let integrates = integrators(&linearisation.poles) > 0;
    let steady_states = match () {
        () if integrates => Vec::new(),
        () if linear => vec![steady_state_of(process.as_ref(), state.clone(), inputs.clone())],
        () => steady_states(process.as_ref(), &inputs),
    };
    let channel = loop_channel(plant)?;
    let verdicts = verdicts(&linearisation, &steady_states, &channel, at_rest, linear);
    Ok(PlantAnalysis {
        description,
        rests,
        state,
        inputs,
        op,
        at_rest,
        steady_states,
        linearisation,
        channel,
        verdicts,
    })
}

/// The plant with a perfect sensor: what the sensor adds belongs to the channel, not to the process.
fn plant_alone(plant: &Plant) -> Plant {
    Plant { sensor: Default::default(), further_measured: Vec::new(), ..plant.clone() }
}

fn resting_points(plant: &Plant) -> Result<Vec<RestingPoint>> {
    Ok(plant.rests()?.into_iter().map(|(at, op)| RestingPoint { op, at }).collect())
}

/// The way from the OP to the PV of a plant at its operating point, and the low-order model that comes nearest.
pub fn loop_channel(plant: &Plant) -> Result<LoopChannel> {
    let Some(system) = plant.linearised()? else {
        return Ok(LoopChannel {
            gain: None,
            interval: 0.0,
            step_response: Vec::new(),
            nearest: None,
            without_nearest: Some("the plant does not start at rest".to_owned()),
        });
    };
    let poles = crate::numerics::eigenvalues(system.matrices().0.clone());
    let at_origin = |pole: &Complex64| is_integrator(pole, &poles);
    let integrating = integrators(&poles);
    let unstable = poles.iter().any(|pole| pole.re > 0.0 && !at_origin(pole));
    let slowest = poles
        .iter()
        .filter(|pole| !at_origin(pole))
        .map(|pole| pole.re.abs().max(1e-3 * pole.norm()))
        .fold(f64::INFINITY, f64::min);
    let lag = if slowest.is_finite() { slowest.recip() } else { 0.0 };
    let theta = system.dead_time().seconds();
    // An integrating process is looked at long after its lags, where its ramp runs straight.
    let lags = if unstable {
        3.0
    } else if integrating > 0 {
        60.0
    } else {
        7.0
    };
    let horizon = (lags * lag + 4.0 * theta).max(1.0);
    let interval = horizon / (POINTS - 1) as f64;
    let step_response = system.step_response(interval, POINTS);
    let stands = !unstable && integrating == 0;
    let gain = stands.then(|| system.response(0.0).re).filter(|gain| gain.is_finite());
    let structure = if integrating == 0 { Structure::Fopdt } else { Structure::Integrating };
    let found = if unstable || integrating > 1 {
        Err(Error::unfit(
            if unstable { "the process is unstable here" } else { "the process integrates twice" },
            "stabilise it first",
        ))
    } else if gain == Some(0.0) {
        Err(Error::unfit("the PV does not feel the OP here", "choose another input, output or operating point"))
    } else {
        nearest_to_step(&step_response, interval, structure)
    };
    let (nearest, without_nearest) = match found.and_then(|process| near(process, &step_response, interval)) {
        Ok(nearest) => (Some(nearest), None),
        Err(error) => (None, Some(error.to_string())),
    };
    Ok(LoopChannel { gain, interval, step_response, nearest, without_nearest })
}

/// Whether a pole among `poles` stands at the origin, by the size of the fastest.
fn is_integrator(pole: &Complex64, poles: &[Complex64]) -> bool {
    let fastest = poles.iter().map(|pole| pole.norm()).fold(0.0, f64::max);
    pole.norm() <= 1e-9 * fastest.max(1e-9)
}

fn integrators(poles: &[Complex64]) -> usize {
    poles.iter().filter(|pole| is_integrator(pole, poles)).count()
}

fn near(process: LinearSpec, exact: &[f64], interval: f64) -> Result<Nearest> {
    let step_response = process.state_space()?.step_response(interval, exact.len());
    let last = exact.last().map_or(1.0, |value| value.abs()).max(f64::MIN_POSITIVE);
    let largest = exact.iter().zip(&step_response).map(|(a, b)| (a - b).abs()).fold(0.0, f64::max);
    Ok(Nearest { process, step_response, largest_error: 100.0 * largest / last })
}

fn verdicts(
    linearisation: &Linearisation,
    steady_states: &[SteadyState],
    channel: &LoopChannel,
    at_rest: bool,
    linear: bool,
) -> Vec<Verdict> {
    let mut verdicts = Vec::new();
    let mut say = |tone, text: String, rule: &str| verdicts.push(Verdict::new(tone, text, rule));
    if !at_rest {
        say(
            Tone::Caution,
            "The plant does not start at rest: the linearisation holds at the first instant only.".to_owned(),
            "states are given at the start",
        );
    }
    let unstable = linearisation.poles.iter().filter(|pole| pole.re > 1e-9).count();
    if unstable > 0 {
        say(
            Tone::Caution,
            format!(
                "{unstable} of {} poles are unstable here: with the OP left alone the plant moves away from this point.",
                linearisation.poles.len()
            ),
            "a pole with a positive real part",
        );
    }
    if linear && integrators(&linearisation.poles) == 0 {
        say(
            Tone::Good,
            if unstable > 0 {
                "A linear process: one steady state for each value of the inputs, and the process leaves it by itself."
            } else {
                "A linear process: one steady state for each value of the inputs, at which the process comes to rest by itself."
            }
            .to_owned(),
            "no pole at the origin",
        );
    }
    if integrators(&linearisation.poles) > 0 {
        say(
            Tone::Caution,
            "The process integrates: it rests at any value as long as its inputs agree, and nowhere when they do not."
                .to_owned(),
            "a pole at the origin",
        );
    }
    if steady_states.len() > 1 {
        let stable = steady_states.iter().filter(|state| state.stable).count();
        say(
            Tone::Caution,
            format!(
                "{} steady states under the same inputs, {stable} of them stable: a large upset can end at another one.",
                steady_states.len()
            ),
            "all solutions that Newton's method finds from spread starts",
        );
    }
    let beyond = |zero: &&Complex64| zero.re > 1e-9;
    if let Some(zero) = linearisation.zeros.iter().filter(beyond).map(|zero| zero.re).reduce(f64::min) {
        say(
            Tone::Caution,
            format!(
                "A transmission zero at +{} 1/s: no controller of these inputs and outputs can be faster than about {} s.",
                readable(zero),
                readable(2.0 / zero)
            ),
            "bandwidth below half of a right-half-plane zero (Skogestad & Postlethwaite, section 5.7; from memory)",
        );
    }
    match &channel.nearest {
        Some(nearest) if nearest.largest_error > ROUGH => say(
            Tone::Caution,
            format!(
                "The nearest low-order model is off by up to {} % of the final value: tune on the plant itself.",
                readable(nearest.largest_error)
            ),
            "a difference above 10 % is worth a second look (common practice)",
        ),
        Some(nearest) => say(
            Tone::Good,
            format!(
                "A low-order model follows the plant here to {} % of the final value.",
                readable(nearest.largest_error)
            ),
            "least squares between the step responses",
        ),
        None => {}
    }
    verdicts
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::process::ProcessSpec;
    use crate::simulation::{OperatingPoint, Signal};
    use crate::units::Span;

    fn plant(process: impl Into<ProcessSpec>, unit: &str, high: f64, pv: f64) -> Plant {
        let signal = |tag: &str, high, unit: &str| Signal { tag: tag.into(), span: Span::new(0.0, high, unit) };
        Plant::plain(process, signal("PV", high, unit), signal("OP", 100.0, "%"), OperatingPoint::new(pv, 50.0))
    }

    #[test]
    fn a_low_order_process_is_its_own_nearest_model() {
        let process = LinearSpec::Fopdt { gain: -1.2, time_constant: 40.0, dead_time: 9.5 };
        let found = analyse(&plant(process, "°C", 100.0, 50.0)).unwrap().channel;
        let LinearSpec::Fopdt { gain, time_constant, dead_time } = found.nearest.as_ref().unwrap().process else {
            panic!("{found:?}")
        };
        assert!((gain + 1.2).abs() < 1e-3 && (time_constant - 40.0).abs() < 0.1 && (dead_time - 9.5).abs() < 0.1);
        let integrating = LinearSpec::Integrating { gain: 0.02, dead_time: 4.0 };
        let found = analyse(&plant(integrating, "m", 4.0, 2.0)).unwrap().channel;
        let LinearSpec::Integrating { gain, dead_time } = found.nearest.as_ref().unwrap().process else {
            panic!("{found:?}")
        };
        assert!(found.gain.is_none() && (gain - 0.02).abs() < 1e-5 && (dead_time - 4.0).abs() < 0.05);
    }

    #[test]
    fn a_tank_that_runs_out_by_gravity_is_a_first_order_lag_about_its_level() {
        // A dh/dt = q − c √h: τ = 2 A √h / c, gain 2 √h / c (exact mathematics).
        let found = analyse(&plant(ProcessSpec::library("upright_tank", &[]), "m", 4.0, 1.0)).unwrap();
        let channel = &found.linearisation.channels[0];
        let (gain, pole) = (channel.gain.unwrap(), channel.poles[0].re);
        assert!((gain * -pole - channel.numerator[0]).abs() < 1e-9 * gain.abs() && found.at_rest);
        let nearest = found.channel.nearest.unwrap();
        assert!(nearest.largest_error < 0.5, "{}", nearest.largest_error);
        assert!((nearest.process.time_scale() * -pole - 1.0).abs() < 0.01);
    }

    #[test]
    fn an_unstable_reactor_says_so_and_has_no_low_order_model() {
        let found = analyse(&plant(ProcessSpec::library("stirred_reactor", &[]), "°C", 200.0, 76.85)).unwrap();
        assert!(found.channel.nearest.is_none() && found.channel.without_nearest.unwrap().contains("unstable"));
        assert!(found.steady_states.len() == 3 && found.verdicts.iter().any(|v| v.text.contains("3 steady states")));
    }
}
