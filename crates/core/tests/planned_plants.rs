//! Plants on which a predictive controller has to show what it is for: unstable and coupled ones under tight limits, the four tanks in
//! both phases, a reactor held where it does not stay by itself, a hall with a weather forecast.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

#[path = "support/planned.rs"]
#[allow(dead_code)]
mod planned;

use antistasis_core::controller::{ControllerSpec, PidSettings};
use antistasis_core::instrument::{ActuatorSpec, SensorSpec};
use antistasis_core::process::{DetailedSpec, ProcessSpec};
use antistasis_core::simulation::{
    Candidate, ColumnRole, Drive, Event, Manipulated, Measured, OperatingPoint, Plant, Scenario, TRIAL_VERSION, Trace,
    Trial,
};
use antistasis_core::tuning::begin_predictive;
use antistasis_core::units::Span;
use planned::{column, further, plant, predictive, process, settings, trial};

/// Two unstable lags that drive each other, by MVs of 8 % either way: `x' = x/τ` is lost for good once it is further off than the MV can
/// hold.
#[test]
fn an_unstable_plant_of_two_is_held_and_follows_under_tight_limits() {
    let cells = vec![vec![[1.0, 20.0, 1.0], [0.4, 15.0, 2.0]], vec![[-0.3, 12.0, 1.0], [1.0, 30.0, 2.0]]];
    let unstable = || {
        let mut model = process(&cells);
        if let ProcessSpec::Detailed(DetailedSpec::TransferFunctions(spec)) = &mut model {
            for element in spec.elements.iter_mut().filter(|one| one.output[1..] == one.input[1..]) {
                element.denominator[1] = -1.0;
            }
        }
        model
    };
    let mut settings = settings(&cells, 2, 60.0, vec![1, 1, 2, 4, 8]);
    settings.model = unstable();
    for mv in &mut settings.mvs {
        (mv.low, mv.high, mv.usual_move) = (42.0, 58.0, 2.0);
    }
    let mut plant = plant(&cells, 2);
    plant.process = unstable();
    let mut both = trial(plant, settings, 1.0, 900.0);
    both.scenario.events = vec![Event::set_point(20.0, 3.0), Event::load(500.0, 2.0)];
    further(&mut both, "Y2", vec![Event::set_point(250.0, -2.0)]);
    let trace = both.run().unwrap();
    assert!(trace.stopped.is_none(), "{:?}", trace.stopped);
    for tag in ["Y1.OP", "Y2.OP"] {
        assert!(column(&trace, tag).iter().all(|u| (42.0..=58.0).contains(u)), "{tag}");
    }
    let (y1, y2) = (column(&trace, "Y1.PV"), column(&trace, "Y2.PV"));
    assert!((y1[240] - 53.0).abs() < 0.02 && (y2[240] - 50.0).abs() < 0.02, "{} {}", y1[240], y2[240]);
    assert!((y1[490] - 53.0).abs() < 0.02 && (y2[490] - 48.0).abs() < 0.02, "{} {}", y1[490], y2[490]);
    assert!((y1[899] - 53.0).abs() < 0.02 && (y2[899] - 48.0).abs() < 0.02, "{} {}", y1[899], y2[899]);
    // Left alone it is lost.
    let open = both.in_open_loop();
    let alone = Trial { candidate: Candidate::new(ControllerSpec::Manual), ..open };
    let mut alone = alone;
    alone.scenario.further.clear();
    alone.scenario.events = vec![Event::load(500.0, 2.0)];
    let lost = alone.run().unwrap();
    assert!(column(&lost, "Y1.PV").iter().any(|y| (y - 50.0).abs() > 40.0));
}

/// Johansson, IEEE Trans. Control Systems Technology 8 (2000) 456: the plant with its zero on either side (parameters as in the paper).
#[test]
#[allow(clippy::approx_constant, reason = "a pump of the paper happens to give 3.14 cm³/(V s)")]
fn the_four_tanks_follow_in_both_phases() {
    let phases = [([0.70, 0.60, 3.33, 3.35], 12.4, 30.0, 150.0), ([0.43, 0.34, 3.14, 3.29], 12.6, 31.5, 900.0)];
    for ([split_1, split_2, gain_1, gain_2], level, op, within) in phases {
        let parameters = [("split_1", split_1), ("split_2", split_2), ("pump_gain_1", gain_1), ("pump_gain_2", gain_2)];
        let mut tanks = Plant::usual(ProcessSpec::library("four_tanks", &parameters), "L1").unwrap();
        let span = || Span::new(0.0, 20.0, "cm");
        tanks.pv.span = span();
        tanks.operating_point = OperatingPoint::new(level, op);
        tanks.drive = Some(Drive { input: "pump_1".into(), at_0: 0.0, at_100: 10.0 });
        tanks.further_measured = vec![Measured {
            tag: "L2.PV".into(),
            span: span(),
            output: "level_2".into(),
            rest: None,
            sensor: SensorSpec::default(),
        }];
        tanks.further_driven = vec![Manipulated {
            tag: "L2.OP".into(),
            input: "pump_2".into(),
            at_0: 0.0,
            at_100: 10.0,
            at_start: op,
            actuator: ActuatorSpec::Direct {},
        }];
        let candidate = begin_predictive(&tanks, 3.0, &[]).unwrap();
        let scenario = Scenario {
            duration: 3000.0,
            scan: 3.0,
            seed: 1,
            events: vec![Event::set_point(90.0, 1.0)],
            further: Default::default(),
        };
        let trial = Trial { version: TRIAL_VERSION, plant: tanks, candidate, scenario };
        let trace = trial.run().unwrap();
        let wanted = [level + 1.0, *column(&trace, "L2.SP").last().unwrap()];
        let both = column(&trace, "L1.PV").iter().zip(column(&trace, "L2.PV"));
        let off: Vec<f64> = both.map(|(a, b)| (a - wanted[0]).abs().max((b - wanted[1]).abs())).collect();
        let settled = off.iter().rposition(|off| *off > 0.05).map_or(0.0, |k| 3.0 * k as f64 - 90.0);
        assert!(settled < within, "phase {split_1}: settled after {settled} s");
        // Sooner than two PIs with the settings of the paper, which take 400 and 4000 s (`several_loops.rs`).
        assert!(off.last().unwrap() < &1e-3);
    }
}

/// The reactor of Seborg, Edgar & Mellichamp at its middle state, 0.5 mol/L and 350 K: eigenvalues −0.454 and +2.834 1/min.
#[test]
fn the_stirred_reactor_is_held_at_its_unstable_middle_state() {
    let mut reactor = Plant::usual(ProcessSpec::library("stirred_reactor", &[]), "R").unwrap();
    reactor.operating_point.pv = 76.85;
    let candidate = begin_predictive(&reactor, 1.0, &[]).unwrap();
    let scenario = Scenario {
        duration: 1200.0,
        scan: 1.0,
        seed: 1,
        events: vec![Event::load(60.0, 1.0), Event::set_point(500.0, 1.0)],
        further: Default::default(),
    };
    let trial = Trial { version: TRIAL_VERSION, plant: reactor, candidate, scenario };
    let trace = trial.run().unwrap();
    assert!(trace.stopped.is_none(), "{:?}", trace.stopped);
    let pv = trace.values(ColumnRole::ProcessVariable);
    assert!(pv.iter().all(|pv| (pv - 77.0).abs() < 3.0), "{:?}", pv.iter().copied().fold(0.0, f64::max));
    assert!((pv[490] - 76.85).abs() < 0.02 && (pv[1199] - 77.85).abs() < 0.02, "{} {}", pv[490], pv[1199]);
}

// --- a week in the hall ----------------------------------------------------------------------------------------------

const HOUR: f64 = 3600.0;
/// What the hall is kept within, °C.
const KEPT: (f64, f64) = (21.0, 24.0);

/// A week of weather by the hour, as a record would have it: a day's and a night's course under fronts that come and go, and a sun that
/// some days do not see.
fn week() -> Vec<Event> {
    let hours: Vec<f64> = (0..=168).map(f64::from).collect();
    let front = [4.0, -3.0, 1.0, 6.0, -5.0, -1.0, 3.0, 2.0];
    let clear = [1.0, 0.2, 0.9, 0.0, 0.7, 1.0, 0.4, 0.8];
    let outdoor = hours.iter().map(|hour| {
        let (day, rest) = ((hour / 24.0) as usize, hour % 24.0 / 24.0);
        5.0 + front[day] * (1.0 - rest) + front[(day + 1) % 8] * rest
            - 6.0 * (std::f64::consts::TAU * (rest - 0.1)).cos()
    });
    let sun = hours.iter().map(|hour| {
        let of_day = hour % 24.0;
        350.0 * clear[(hour / 24.0) as usize] * (std::f64::consts::PI * (of_day - 6.0) / 13.0).sin().max(0.0)
    });
    let channel = |tag: &str, values: Vec<f64>| Event::LoadChannel {
        at: 0.0,
        tag: tag.into(),
        interval: HOUR,
        values,
        unit: None,
        input: Some(tag.into()),
    };
    vec![
        channel("outdoor_temperature", outdoor.collect()),
        channel("sun", sun.map(|value: f64| value.max(0.0)).collect()),
    ]
}

/// Degree-hours outside what is to be kept, and percent-hours of heating.
fn cost(trace: &Trace) -> (f64, f64) {
    let hours = trace.scan / HOUR;
    let outside = |value: &f64| (KEPT.0 - value).max(0.0) + (value - KEPT.1).max(0.0);
    let off: f64 = trace.values(ColumnRole::TrueValue).iter().map(outside).sum();
    let heating: f64 = trace.values(ColumnRole::Output).iter().sum();
    (off * hours, heating * hours)
}

#[test]
fn a_hall_takes_less_heat_and_is_kept_better_than_by_the_best_pi() {
    let demo = |text: &str| -> Trial {
        let mut trial: Trial = serde_json::from_str(text).unwrap();
        (trial.scenario.duration, trial.scenario.scan, trial.scenario.events) = (168.0 * HOUR, 240.0, week());
        trial
    };
    let planned = demo(include_str!("../../../demo/trials/TIC-501-predictive.json"));
    let forecast = |known: bool, margin: f64| {
        let mut trial = planned.clone();
        let settings = predictive(&mut trial);
        // Where a sun is known to come moves must not be held for hours.
        settings.moves = [vec![1, 1, 2, 4], vec![8; 16]].concat();
        for mv in &mut settings.mvs {
            mv.usual_move *= 5.0;
        }
        for dv in &mut settings.dvs {
            dv.known_ahead = known;
        }
        let cv = &mut settings.cvs[0];
        (cv.low.as_mut().unwrap().value, cv.high.as_mut().unwrap().value) = (KEPT.0 + margin, KEPT.1 - margin);
        cost(&trial.run().unwrap())
    };
    let (with, without) = (forecast(true, 0.15), forecast(false, 0.15));
    let by_pi = demo(include_str!("../../../demo/trials/TIC-501-split-range.json"));
    let mut tried = Vec::new();
    for gain in [3.0, 8.0, 15.0] {
        for integral_time in [1200.0, 1800.0, 3600.0] {
            for set_point in [21.1, 21.2, 21.3, 21.4, 21.5, 21.7, 22.0] {
                let mut trial = by_pi.clone();
                let ControllerSpec::Pid(pid) = &mut trial.candidate.controller else { panic!() };
                *pid = PidSettings { gain, integral_time: Some(integral_time), ..pid.clone() };
                trial.scenario.events.push(Event::set_point(0.0, set_point - trial.plant.operating_point.pv));
                tried.push((gain, integral_time, set_point, cost(&trial.run().unwrap())));
            }
        }
    }
    tried.sort_by(|a, b| a.3.0.total_cmp(&b.3.0));
    println!("                                degree-hours outside   heating, %h");
    println!("predictive, weather forecast    {:>10.2} {:>20.0}", with.0, with.1);
    println!("predictive, weather measured    {:>10.2} {:>20.0}", without.0, without.1);
    for (gain, integral, set_point, (off, heat)) in tried.iter().take(12) {
        println!("PI {gain:>4} %/%, {integral:>5} s, {set_point:>5} °C {off:>10.2} {heat:>20.0}");
    }
    // What may happen in a week: a twentieth of a degree for an hour.
    for own in [with, without] {
        assert!(own.0 < 0.05, "{own:?}");
        let as_well = tried.iter().filter(|(.., (off, _))| *off < 0.05).map(|(.., cost)| cost.1);
        let least = as_well.fold(f64::MAX, f64::min);
        assert!(own.1 < 0.97 * least, "{own:?}, {least}");
        assert!(tried.iter().all(|(.., (_, heat))| own.1 < *heat), "{own:?}");
    }
}
