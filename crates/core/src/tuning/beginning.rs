//! Settings of another kind of controller to begin with, from a trial.

use super::{SimcChoice, begin_on_plant, begin_predictive, first_trial_on, predictive_scan, process_of, simc};
use crate::controller::adaptive::AdaptedGains;
use crate::controller::{
    Action, CascadeSettings, ControllerSpec, ModelReferenceSettings, OutputLimits, PidSettings, RelaySettings,
    SelfTuningSettings, SmithSettings,
};
use crate::process::{Held, LinearSpec};
use crate::simulation::{Candidate, Scenario, Trial, Wire, Wired};
use crate::units::Span;
use crate::{Error, Result};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A kind of controller, without settings.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum ControllerKind {
    /// Proportional–integral–derivative.
    Pid,
    /// Smith predictor.
    Smith,
    /// Cascade.
    Cascade,
    /// Model-reference adaptive.
    ModelReference,
    /// Self-tuning.
    SelfTuning,
    /// Relay experiment.
    Relay,
    /// Predictive control of all signals of the plant.
    Predictive,
    /// Manual.
    Manual,
}

/// A controller to begin with, and the scenario that suits it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Beginning {
    /// The controller.
    pub controller: ControllerSpec,
    /// Where its output goes; empty for the OP of the plant.
    pub sets: Vec<Wire>,
    /// The controllers beside it: those of the trial, but for seats of a predictive controller.
    pub further: Vec<Wired>,
    /// The scenario: that of the trial, but for a relay one in which nothing else moves, with time for a dozen swings, and for a predictive
    /// controller with a scan that it can work with.
    pub scenario: Scenario,
}

/// Settings of this kind for the plant of a trial: those that there are where they can be kept, else from the low-order process
/// that rules go by (choices of this project; the formulas are those of the rules). Errors where there is no such process, or
/// no second output for a cascade.
pub fn begin_with(kind: ControllerKind, trial: &Trial) -> Result<Beginning> {
    trial.validate()?;
    let of_candidate = |candidate: Candidate| {
        let Trial { candidate: Candidate { controller, sets, further, .. }, scenario, .. } =
            trial.with_candidate(candidate);
        Ok(Beginning { controller, sets, further, scenario })
    };
    if kind == ControllerKind::Predictive {
        let scan = predictive_scan(&trial.plant, trial.scenario.scan)?;
        let known: Vec<String> = trial.plant.measured_disturbances.iter().map(|one| one.input.clone()).collect();
        let begun = of_candidate(begin_predictive(&trial.plant, scan, &known)?)?;
        return Ok(Beginning { scenario: Scenario { scan, ..begun.scenario }, ..begun });
    }
    let has_seats =
        trial.candidate.controller.is_seat() || trial.candidate.further.iter().any(|one| one.controller.is_seat());
    if has_seats && kind == ControllerKind::Pid {
        let begun = begin_on_plant(&trial.plant, &SimcChoice::default())?.trial;
        let mut candidate = begun.candidate;
        // A pairing may begin with another OP than the trial does: then that is said.
        if candidate.sets.is_empty() && begun.plant.op.tag != trial.plant.op.tag {
            candidate.sets = vec![Wire::to(begun.plant.op.tag)];
        }
        return of_candidate(candidate);
    }
    let mut kept = trial.candidate.clone();
    for wired in &mut kept.further {
        if wired.controller.is_seat() {
            wired.controller = ControllerSpec::Manual;
        }
    }
    // A seat may set nothing; any other controller must.
    kept.further.retain(|wired| !wired.sets.is_empty());
    let same = |controller| of_candidate(Candidate { controller, ..kept.clone() });
    let before = trial.candidate.controller.main_pid();
    let span = &trial.plant.pv.span;
    match (kind, before) {
        (ControllerKind::Manual, _) => return same(ControllerSpec::Manual),
        (ControllerKind::Pid, Some(pid)) => return same(ControllerSpec::Pid(pid.clone())),
        (ControllerKind::Pid, None) => {
            return same(first_trial_on(&trial.plant, &SimcChoice::default())?.0.candidate.controller);
        }
        (ControllerKind::Cascade, _) => return same(ControllerSpec::Cascade(Box::new(cascade(trial)?))),
        _ => {}
    }
    let process = process_of(&trial.plant)?;
    let (dead_time, scan) = (process.dead_time(), trial.scenario.scan);
    let lag = (process.time_scale() - dead_time).max(scan);
    let action = Action::for_gain(process.gain());
    match kind {
        ControllerKind::Smith => same(ControllerSpec::Smith(smith(&process, span, scan, before)?)),
        ControllerKind::ModelReference => {
            let mut settings = ModelReferenceSettings {
                reference_time_constant: three_digits((0.5 * lag).max(4.0 * dead_time)),
                reference_damping: None,
                learning_gain: 0.0,
                normalised: true,
                leakage: 0.0,
                bound: Some(50.0),
                start: AdaptedGains::default(),
                action,
                output_limits: OutputLimits::default(),
            };
            let AdaptedGains { set_point, measurement, .. } = settings.matching(&process.half_rule()?.process, span)?;
            settings.start =
                AdaptedGains { set_point: three_digits(set_point), measurement: three_digits(measurement), rate: 0.0 };
            same(ControllerSpec::ModelReference(settings))
        }
        ControllerKind::SelfTuning => same(ControllerSpec::SelfTuning(SelfTuningSettings {
            dead_time: three_digits(dead_time),
            identification_time: three_digits(5.0 * lag + 3.0 * dead_time),
            amplitude: 3.0,
            clock: three_digits((0.25 * lag).max(scan)),
            forgetting: 1.0,
            keeps_learning: false,
            closed_loop_time_constant: three_digits((0.5 * lag).max(0.5 * dead_time)),
            action,
            output_limits: OutputLimits::default(),
            seed: 0,
        })),
        _ => {
            let noise = 100.0 * trial.plant.sensor.noise / span.width();
            let relay =
                RelaySettings { amplitude: 5.0, hysteresis: three_digits((3.0 * noise).max(0.1)), bias: 0.0, action };
            let time = 40.0 * dead_time + 3.0 * lag + 60.0 * scan;
            let duration = (time / scan).ceil() * scan;
            let scenario = Scenario { duration, events: Vec::new(), ..trial.scenario.clone() };
            let begun = same(ControllerSpec::Relay(relay))?;
            Ok(Beginning { scenario, ..begun })
        }
    }
}

/// SIMC for the model: without its dead time, which the predictor takes away, and half of it as closed-loop time constant; an
/// integrating model keeps it, since its filter does not take it away from a load.
fn smith(process: &LinearSpec, span: &Span, scan: f64, before: Option<&PidSettings>) -> Result<SmithSettings> {
    let dead_time = process.dead_time();
    let integrates = process.integrators() > 0;
    let values: Vec<f64> = process
        .parameters()
        .into_iter()
        .map(|(name, _, value)| if name == "dead_time" && !integrates { 0.0 } else { value })
        .collect();
    let choice = SimcChoice { closed_loop_time_constant: Some((0.5 * dead_time).max(2.0 * scan)) };
    let settings = simc(&process.with_parameters(&values), span, &choice)?.to_type_in;
    let pid =
        PidSettings { output_limits: before.map_or_else(OutputLimits::default, |pid| pid.output_limits), ..settings };
    let model = process.parameters().into_iter().map(|(.., value)| four_digits(value)).collect::<Vec<f64>>();
    Ok(SmithSettings {
        pid,
        model: process.with_parameters(&model),
        filter_time: if integrates { three_digits(dead_time.max(scan)) } else { 0.0 },
    })
}

/// The settings that there are outside, and faster ones inside about the first other output.
fn cascade(trial: &Trial) -> Result<CascadeSettings> {
    let started = trial.plant.start()?;
    let description = started.process.description();
    let Some(between) = (0..description.outputs.len()).find(|k| *k != started.output) else {
        return Err(Error::unfit("the process has one output only", "a cascade needs a second one in between"));
    };
    let mut outputs = vec![0.0; description.outputs.len()];
    started.process.outputs(&started.state, &started.inputs, Held::default(), &mut outputs);
    let (quantity, at) = (&description.outputs[between], outputs[between]);
    let outer = trial.candidate.controller.main_pid().cloned().unwrap_or_else(|| PidSettings::pi(1.0, 60.0));
    let integral = outer.integral_time.unwrap_or(60.0);
    let inner = PidSettings::pi(2.0, three_digits((0.2 * integral).max(2.0 * trial.scenario.scan)));
    let reach = three_digits((2.0 * at.abs()).max(1e-6));
    let span = Span::new(if at < 0.0 { -reach } else { 0.0 }, reach, quantity.unit.clone());
    Ok(CascadeSettings { outer, inner, signal: quantity.name.clone(), span })
}

fn three_digits(value: f64) -> f64 {
    crate::numerics::rounded(value, 3)
}

fn four_digits(value: f64) -> f64 {
    crate::numerics::rounded(value, 4)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::assessment::trial_margins;
    use crate::simulation::{OperatingPoint, Plant, Signal, TRIAL_VERSION};

    #[test]
    fn every_kind_begins_with_a_trial_that_runs() {
        let signal = |tag: &str| Signal { tag: tag.to_owned(), span: Span::new(0.0, 100.0, "%") };
        for process in [
            LinearSpec::Fopdt { gain: -1.25, time_constant: 40.0, dead_time: 6.0 },
            LinearSpec::Integrating { gain: 0.02, dead_time: 8.0 },
        ] {
            let plant = Plant::plain(process.clone(), signal("L.PV"), signal("L.OP"), OperatingPoint::new(50.0, 50.0));
            let scenario = Scenario::standard(&process, &plant.pv.span, 10.0);
            let candidate = Candidate::new(ControllerSpec::Manual);
            let mut trial = Trial { version: TRIAL_VERSION, plant, candidate, scenario };
            use ControllerKind::{Manual, ModelReference, Pid, Predictive, Relay, SelfTuning, Smith};
            for kind in [Manual, Pid, Predictive, Pid, Smith, SelfTuning, Relay, ModelReference] {
                let begun = begin_with(kind, &trial);
                if kind == ModelReference && process.integrators() > 0 {
                    assert!(begun.unwrap_err().to_string().contains("first order"), "{kind:?}");
                    continue;
                }
                let Beginning { controller, sets, further, scenario } = begun.unwrap();
                let candidate = Candidate { sets, further, ..Candidate::new(controller) };
                let other = Trial { candidate, scenario, ..trial.clone() };
                assert!(other.run().unwrap().stopped.is_none(), "{kind:?}");
                if kind == Smith {
                    assert!(trial_margins(&other).unwrap().unwrap().stable, "{process:?}");
                }
                if kind == Pid || kind == Predictive {
                    trial = other;
                }
            }
            let error = begin_with(ControllerKind::Cascade, &trial).unwrap_err().to_string();
            assert!(error.contains("one output only"), "{error}");
        }
    }
}
