//! Each step is charged with what it does and with nothing else, whatever happens beside it.

#![allow(clippy::unwrap_used)]

use antistasis_core::assessment::{Assessment, assess};
use antistasis_core::controller::{ControllerSpec, PidSettings};
use antistasis_core::instrument::SensorSpec;
use antistasis_core::process::{LinearSpec, ProcessSpec};
use antistasis_core::simulation::{Candidate, Event, OperatingPoint, Plant, Scenario, Signal, TRIAL_VERSION, Trial};
use antistasis_core::units::Span;
use proptest::prelude::*;

const PROCESS: LinearSpec = LinearSpec::Fopdt { gain: 1.2, time_constant: 40.0, dead_time: 8.0 };

fn trial(events: Vec<Event>, noise: f64) -> Trial {
    let signal = |tag: &str| Signal { tag: tag.to_owned(), span: Span::new(0.0, 100.0, "%") };
    let plant = Plant::plain(PROCESS, signal("L.PV"), signal("L.OP"), OperatingPoint::new(50.0, 50.0));
    Trial {
        version: TRIAL_VERSION,
        plant: Plant { sensor: SensorSpec::with_noise(noise), ..plant },
        candidate: Candidate::new(ControllerSpec::Pid(PidSettings::pi(2.0, 35.0))),
        scenario: Scenario { duration: 1500.0, scan: 1.0, seed: 11, events, further: Default::default() },
    }
}

fn assessed(trial: &Trial) -> Assessment {
    assess(trial, &trial.run().unwrap()).unwrap()
}

fn walk(at: f64) -> Event {
    Event::LoadWalk { at, by: 8.0, lasts: None, input: None }
}

#[test]
fn a_walk_noise_and_other_steps_are_no_part_of_a_response() {
    // Alone, on a quiet loop: what the linear loop does because of each step is that, whatever else happens (superposition).
    let (set_point, load) = (Event::set_point(100.0, 5.0), Event::load(103.0, -6.0));
    let alone = assessed(&trial(vec![set_point.clone()], 0.0)).metrics.set_point_responses[0].clone();
    let rejected = assessed(&trial(vec![load.clone()], 0.0)).metrics.load_responses[0].clone();
    for (others, noise) in [
        (vec![], 0.0),
        (vec![walk(20.0)], 0.0),
        (vec![], 0.3),
        (vec![walk(20.0), Event::load(900.0, 4.0), Event::set_point(400.0, -3.0)], 0.2),
    ] {
        let mut events = vec![set_point.clone(), load.clone()];
        events.extend(others);
        let found = assessed(&trial(events.clone(), noise)).metrics;
        let (step, load) = (&found.set_point_responses[0], &found.load_responses[0]);
        assert!((step.overshoot_percent - alone.overshoot_percent).abs() < 0.05, "{events:?}: {step:?} {alone:?}");
        assert!((step.rise_time.unwrap() - alone.rise_time.unwrap()).abs() < 0.05, "{step:?} {alone:?}");
        assert!((step.settling_time_5.unwrap() - alone.settling_time_5.unwrap()).abs() < 0.5, "{step:?} {alone:?}");
        assert!((load.max_deviation - rejected.max_deviation).abs() < 1e-3, "{load:?} {rejected:?}");
        assert!((load.recovery_time.unwrap() - rejected.recovery_time.unwrap()).abs() < 0.5, "{load:?} {rejected:?}");
        assert_eq!((load.step, load.tag.as_str(), load.unit.as_str()), (-6.0, "load", "%"));
    }
}

#[test]
fn a_parameter_that_changes_later_is_not_charged_to_a_step_of_an_input() {
    let plant = Plant::usual(ProcessSpec::library("stirred_heater", &[]), "T").unwrap();
    let (mut heater, _) = antistasis_core::tuning::first_trial_on(&plant, &Default::default()).unwrap();
    let (input, parameter) = {
        let process = plant.process.build("°C").unwrap();
        let built = process.description();
        let input = built.inputs.iter().find(|input| input.name.contains("temperature")).unwrap().name.clone();
        let fouled = built.parameters.iter().find(|parameter| parameter.name.contains("loss")).unwrap();
        (input, (fouled.name.clone(), fouled.value))
    };
    let duration = heater.scenario.duration;
    let step = Event::LoadStep { at: 0.2 * duration, by: 2.0, input: Some(input.clone()) };
    heater.scenario.events = vec![step.clone()];
    let alone = assessed(&heater).metrics.load_responses[0].clone();
    let change =
        Event::ParameterChange { at: 0.5 * duration, parameter: parameter.0, to: 3.0 * parameter.1, over: 0.0 };
    heater.scenario.events = vec![step, change];
    let found = assessed(&heater).metrics.load_responses[0].clone();
    assert_eq!(found.tag, input);
    assert!(
        (found.max_deviation - alone.max_deviation).abs() < 0.02 * alone.max_deviation.abs(),
        "{found:?} {alone:?}"
    );
    assert!((found.max_deviation_time - alone.max_deviation_time).abs() < 2.0, "{found:?} {alone:?}");
}

#[test]
fn what_comes_later_does_not_lengthen_a_response_where_the_process_is_not_linear() {
    let plant = Plant::usual(ProcessSpec::library("stirred_reactor", &[]), "T").unwrap();
    let (mut reactor, _) = antistasis_core::tuning::first_trial_on(&plant, &Default::default()).unwrap();
    let duration = reactor.scenario.duration;
    let step = Event::set_point(0.1 * duration, 0.02 * plant.pv.span.width());
    reactor.scenario.events = vec![step.clone()];
    let alone = assessed(&reactor).metrics.set_point_responses[0].clone();
    // A walk makes it a difference; a large load later would be answered otherwise one step further up.
    reactor.scenario.events = vec![step, walk(0.05 * duration), Event::load(0.6 * duration, -6.0)];
    let found = assessed(&reactor).metrics.set_point_responses[0].clone();
    assert!((found.overshoot_percent - alone.overshoot_percent).abs() < 6.0, "{found:?} {alone:?}");
    let settled = |response: &antistasis_core::assessment::SetPointResponse| response.settling_time_5.unwrap();
    assert!((settled(&found) - settled(&alone)).abs() < 0.25 * settled(&alone), "{found:?} {alone:?}");
}

#[test]
fn a_controller_without_integral_action_is_told_of_its_offset() {
    let mut proportional = trial(vec![Event::set_point(100.0, 5.0), Event::load(800.0, -6.0)], 0.0);
    let settings = PidSettings { integral_time: None, ..PidSettings::pi(2.0, 35.0) };
    proportional.candidate.controller = ControllerSpec::Pid(settings);
    let texts: Vec<String> = assessed(&proportional).verdicts.into_iter().map(|verdict| verdict.text).collect();
    assert!(texts.iter().any(|text| text.contains("without integral action an offset stays")), "{texts:?}");
    assert!(texts.iter().any(|text| text.contains("leaves an offset outside")), "{texts:?}");
    assert!(texts.iter().all(|text| !text.contains("shorten the integral time")), "{texts:?}");
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    /// In a linear loop the response to a step is that of the step alone, with any other steps before, after and beside it.
    #[test]
    fn steps_superpose(
        first in 40.0..700.0f64, second in 40.0..700.0f64, size in 1.0..4.0f64, other in -4.0..4.0f64, seed in 0u64..100,
    ) {
        let alone = assessed(&trial(vec![Event::set_point(first, size)], 0.0)).metrics.set_point_responses[0].clone();
        let mut both = trial(vec![Event::load(second, other), Event::set_point(first, size), walk(30.0)], 0.1);
        both.scenario.seed = seed;
        let found = assessed(&both).metrics.set_point_responses[0].clone();
        prop_assert!((found.overshoot_percent - alone.overshoot_percent).abs() < 0.1, "{:?} {:?}", found, alone);
        prop_assert!((found.integral_absolute_error / alone.integral_absolute_error - 1.0).abs() < 0.01);
        prop_assert!((found.rise_time.unwrap() - alone.rise_time.unwrap()).abs() < 0.1);
    }
}
