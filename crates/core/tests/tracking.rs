//! Physical models led along records whose truth is known: a heater that fouls, a feed nobody measures, a transmitter that drifts.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use antistasis_core::identification::{
    DataSet, Drifting, DriftingKind, Model, NoiseModel, PhysicalOptions, Tracked, TrackingMethod, TrackingOptions, fit,
    track,
};
use antistasis_core::series::TimeAxis;
use antistasis_core::verdict::Tone;

#[allow(dead_code)]
#[path = "support/truth.rs"]
mod truth;

use truth::{answer, input, moves, named, noise, options, output, physical, sought};

const INTERVAL: f64 = 60.0;
const NOISE: f64 = 0.15;
const METHODS: [TrackingMethod; 3] =
    [TrackingMethod::Extended, TrackingMethod::Unscented, TrackingMethod::MovingHorizon];

/// The flow-through heater by its balances (kJ, kW, t/h): power, flow, feed and ambient temperature, and the transfer as it is then.
fn rates(x: &[f64], u: &[f64]) -> Vec<f64> {
    let (holdup, capacity, element, loss) = (430.0, 4.0, 1500.0, 0.35);
    let stream = u[1] / 3.6 * capacity;
    let passed = u[4] * (x[1] - x[0]);
    vec![(stream * (u[2] - x[0]) + passed - loss * (x[0] - u[3])) / (holdup * capacity), (u[0] - passed) / element]
}

struct Truth {
    data: DataSet,
    transfer: Vec<f64>,
    feed: Vec<f64>,
    element: Vec<f64>,
}

/// A day and a half of it: power in steps, a transfer and a feed temperature of their own.
fn truth(seed: u64, transfer: impl Fn(f64) -> f64, feed: impl Fn(f64) -> f64, samples: usize) -> Truth {
    let at = |of: &dyn Fn(f64) -> f64| (0..samples).map(|k| of(k as f64 / samples as f64)).collect::<Vec<f64>>();
    let power: Vec<f64> = moves(samples, 20.0, 80.0, 50.0, seed).iter().map(|op| 8.0 * op).collect();
    let flow = moves(samples, 9.0, 11.0, 120.0, 50 + seed);
    let (transfer, feed) = (at(&transfer), at(&feed));
    let ambient = vec![15.0; samples];
    let inputs = [power.clone(), flow.clone(), feed.clone(), ambient, transfer.clone()];
    let start = [feed[0] + 32.0, feed[0] + 80.0];
    let states = answer(rates, &start, &inputs, INTERVAL, 20);
    let seen: Vec<f64> = states.iter().zip(noise(samples, NOISE, 0.0, 100 + seed)).map(|(x, e)| x[0] + e).collect();
    Truth {
        data: DataSet {
            axis: TimeAxis::uniform(INTERVAL, samples).unwrap(),
            inputs: vec![named("P", "kW", power), named("F", "t/h", flow), named("T_in", "°C", feed.clone())],
            outputs: vec![named("T", "°C", seen)],
        },
        transfer,
        feed,
        element: states.iter().map(|x| x[1]).collect(),
    }
}

fn heater(with_feed: bool) -> PhysicalOptions {
    let mut inputs = vec![input("power", "P"), input("feed_flow", "F")];
    if with_feed {
        inputs.push(input("feed_temperature", "T_in"));
    }
    let known = [("holdup", 430.0), ("heat_capacity", 4.0), ("element_capacity", 1500.0), ("loss", 0.35)];
    let mut own = physical(
        "stirred_heater",
        &known,
        inputs,
        vec![output("liquid_temperature", "T")],
        vec![sought("element_transfer", 5.0)],
    );
    own.rest.insert("ambient_temperature".into(), 15.0);
    own
}

/// A model from the first 400 samples, in which nothing drifts yet.
fn model_of(truth: &Truth, with_feed: bool) -> Model {
    let mut data = truth.data.slice(0..400);
    if !with_feed {
        data.inputs.truncate(2);
    }
    fit(&data, &options(heater(with_feed), NoiseModel::White)).unwrap()
}

fn drifting(kind: DriftingKind, name: &str, per_hour: f64) -> Drifting {
    Drifting { kind, name: name.into(), per_hour: Some(per_hour), ..Drifting::default() }
}

/// Share of the instants after the first hours at which a band of 95 % holds the truth.
fn held(tracked: &Tracked, name: &str, truth: &[f64]) -> f64 {
    let own = tracked.numbers.iter().find(|own| own.name == name).unwrap();
    let inside = |k: &usize| (own.values[*k] - truth[*k]).abs() <= 1.96 * own.deviations[*k];
    let judged: Vec<usize> = (200..truth.len()).collect();
    judged.iter().filter(|k| inside(k)).count() as f64 / judged.len() as f64
}

/// The transfer falls by a third while the record runs; the temperature of the element is measured by nobody.
#[test]
fn fouling_is_followed_with_bands_that_hold_by_every_method() {
    let samples = 1500;
    let fouls = |share: f64| 6.5 - 2.2 * ((share - 0.3) / 0.7).max(0.0);
    for method in METHODS {
        let (mut of_transfer, mut of_element) = (0.0, 0.0);
        let records = 4;
        for seed in 0..records {
            let truth = truth(seed, fouls, |_| 12.0, samples);
            let options = TrackingOptions {
                method,
                drifting: vec![drifting(DriftingKind::Parameter, "element_transfer", 0.12)],
                noise: [("T".to_owned(), NOISE)].into(),
                unrest: 0.02,
                window: 8,
                ..TrackingOptions::default()
            };
            let tracked = track(&model_of(&truth, true), &truth.data, &options).unwrap();
            of_transfer += held(&tracked, "element_transfer", &truth.transfer) / records as f64;
            of_element += held(&tracked, "element_temperature", &truth.element) / records as f64;
            let last = tracked.numbers.last().unwrap();
            assert!(
                (last.values[samples - 1] - 4.3).abs() < 0.5 && last.per_hour == Some(0.12),
                "{method:?}: {}",
                last.values[samples - 1]
            );
            assert!(tracked.test.doubts.is_empty(), "{method:?}: {:?}", tracked.test);
            assert!(tracked.verdicts.iter().any(|own| own.text.contains("falls from")), "{:?}", tracked.verdicts);
        }
        assert!(of_transfer > 0.9 && of_element > 0.9, "{method:?}: {of_transfer} {of_element}");
    }
}

/// What falls and comes back is told with where it was, not as if nothing had happened.
#[test]
fn a_number_that_comes_back_is_told_with_where_it_was() {
    let cleaned = |share: f64| if share < 0.8 { 6.5 - 3.0 * share } else { 6.5 };
    let truth = truth(6, cleaned, |_| 12.0, 1200);
    let options = TrackingOptions {
        drifting: vec![drifting(DriftingKind::Parameter, "element_transfer", 0.4)],
        noise: [("T".to_owned(), NOISE)].into(),
        unrest: 0.02,
        ..TrackingOptions::default()
    };
    let tracked = track(&model_of(&truth, true), &truth.data, &options).unwrap();
    let text = &tracked.verdicts.last().unwrap().text;
    assert!(text.starts_with("The element transfer fell from ") && text.contains("and ends at 6."), "{text}");
    assert!(tracked.verdicts.iter().all(|own| !own.text.contains("no drift")), "{:?}", tracked.verdicts);
}

/// Without a number that drifts the same record is not believed.
#[test]
fn a_model_that_fouls_unseen_is_not_believed() {
    let truth = truth(9, |share| if share < 0.5 { 6.5 } else { 2.5 }, |_| 12.0, 1200);
    let options =
        TrackingOptions { unrest: 0.02, noise: [("T".to_owned(), NOISE)].into(), ..TrackingOptions::default() };
    let tracked = track(&model_of(&truth, true), &truth.data, &options).unwrap();
    let doubt = tracked.test.doubts.first().expect("a doubt");
    assert!(doubt.from >= 0.45 * 1200.0 * INTERVAL, "{doubt:?}");
    assert_eq!(tracked.verdicts[0].tone, Tone::Bad);
    // One that may drift follows it.
    let options =
        TrackingOptions { drifting: vec![drifting(DriftingKind::Parameter, "element_transfer", 0.6)], ..options };
    let tracked = track(&model_of(&truth, true), &truth.data, &options).unwrap();
    assert!(
        (tracked.numbers.last().unwrap().values[1199] - 2.5).abs() < 0.3,
        "{:?}",
        tracked.numbers.last().unwrap().values[1199]
    );
}

/// A feed temperature that no channel shows is found from what it does; a transmitter that drifts from what it shows of itself.
#[test]
fn an_input_that_nobody_measures_and_a_transmitter_that_drifts_are_found() {
    let samples = 1200;
    let truth_of_feed = truth(3, |_| 6.5, |share| 12.0 + 3.0 * (9.0 * share).sin(), samples);
    let model = {
        let mut own = heater(false);
        own.rest.insert("feed_temperature".into(), 12.0);
        let known = truth(4, |_| 6.5, |_| 12.0, 400);
        let mut data = known.data;
        data.inputs.truncate(2);
        fit(&data, &options(own, NoiseModel::White)).unwrap()
    };
    let mut data = truth_of_feed.data.clone();
    data.inputs.truncate(2);
    let mut options = TrackingOptions {
        drifting: vec![drifting(DriftingKind::Input, "feed_temperature", 1.0)],
        noise: [("T".to_owned(), NOISE)].into(),
        unrest: 0.02,
        ..TrackingOptions::default()
    };
    for method in [TrackingMethod::Extended, TrackingMethod::Unscented] {
        options.method = method;
        let tracked = track(&model, &data, &options).unwrap();
        let share = held(&tracked, "feed_temperature", &truth_of_feed.feed);
        assert!(share > 0.88, "{method:?}: {share}");
    }
    let steady = truth(5, |_| 6.5, |_| 12.0, samples);
    let mut data = steady.data.clone();
    let astray: Vec<f64> = (0..samples).map(|k| 2.0 * k as f64 / samples as f64).collect();
    data.outputs[0].values.iter_mut().zip(&astray).for_each(|(value, by)| *value += by);
    let offset = Drifting { at_start: Some(0.05), ..drifting(DriftingKind::Offset, "liquid_temperature", 0.2) };
    let options = TrackingOptions { drifting: vec![offset], unrest: 0.001, ..options };
    let tracked = track(&model_of(&steady, true), &data, &options).unwrap();
    let share = held(&tracked, "offset_of_liquid_temperature", &astray);
    assert!(share > 0.9, "{share}");
}

#[test]
fn bounds_hold_missing_samples_are_bridged_and_thinning_keeps_the_test() {
    let mut truth = truth(1, |share| 6.5 - 2.2 * share, |_| 12.0, 700);
    truth.data.outputs[0].values[300..340].fill(f64::NAN);
    let bounded = Drifting {
        low: Some(5.5),
        high: Some(7.0),
        limit: Some(0.02),
        ..drifting(DriftingKind::Parameter, "element_transfer", 0.2)
    };
    for method in METHODS {
        let options =
            TrackingOptions { method, drifting: vec![bounded.clone()], window: 6, ..TrackingOptions::default() };
        let tracked = track(&model_of(&truth, true), &truth.data, &options).unwrap();
        let transfer = tracked.numbers.last().unwrap();
        assert!(transfer.values.iter().all(|value| (5.5 - 1e-9..=7.0 + 1e-9).contains(value)), "{method:?}");
        // While nothing is measured less and less is known.
        assert!(transfer.deviations[339] > transfer.deviations[299], "{method:?}");
        assert!(tracked.outputs[0].innovations[320].is_none() && tracked.outputs[0].innovations[341].is_some());
        let test = tracked.test.clone();
        let thin = tracked.thinned(50);
        assert_eq!((thin.times.len(), thin.numbers[0].values.len(), thin.outputs[0].measured.len()), (50, 50, 50));
        assert_eq!((thin.times[0], thin.times[49]), (0.0, 699.0 * INTERVAL));
        assert_eq!(thin.test, test);
    }
}

#[test]
fn what_cannot_be_is_refused_at_its_field() {
    let truth = truth(2, |_| 6.5, |_| 12.0, 420);
    let model = model_of(&truth, true);
    let refused = |options: TrackingOptions| {
        let error = track(&model, &truth.data, &options).unwrap_err();
        (error.field().unwrap_or_default().to_owned(), error.to_string())
    };
    let one = |own: Drifting| TrackingOptions { drifting: vec![own], ..TrackingOptions::default() };
    let transfer = || drifting(DriftingKind::Parameter, "element_transfer", 0.1);
    for (options, field) in [
        (one(drifting(DriftingKind::Parameter, "nothing", 0.1)), "drifting[0].name"),
        (one(drifting(DriftingKind::Input, "power", 0.1)), "drifting[0].name"),
        (one(drifting(DriftingKind::Offset, "element_temperature", 0.1)), "drifting[0].name"),
        (one(drifting(DriftingKind::Parameter, "element_transfer", -1.0)), "drifting[0].per_hour"),
        (one(Drifting { at_start: Some(0.0), ..transfer() }), "drifting[0].at_start"),
        (one(Drifting { low: Some(9.0), high: Some(8.0), ..transfer() }), "drifting[0].low"),
        (one(Drifting { low: Some(30.0), ..transfer() }), "drifting[0].low"),
        (one(Drifting { limit: Some(f64::NAN), ..transfer() }), "drifting[0].limit"),
        (TrackingOptions { drifting: vec![transfer(), transfer()], ..TrackingOptions::default() }, "drifting[1].name"),
        (TrackingOptions { drifting: vec![transfer(); 13], ..TrackingOptions::default() }, "drifting"),
        (TrackingOptions { window: 0, ..TrackingOptions::default() }, "window"),
        (TrackingOptions { every: Some(0), ..TrackingOptions::default() }, "every"),
        (TrackingOptions { unrest: f64::INFINITY, ..TrackingOptions::default() }, "unrest"),
        (TrackingOptions { dead_band: -1.0, ..TrackingOptions::default() }, "dead_band"),
        (TrackingOptions { noise: [("X".to_owned(), 1.0)].into(), ..TrackingOptions::default() }, "noise"),
        (TrackingOptions { noise: [("T".to_owned(), 0.0)].into(), ..TrackingOptions::default() }, "noise.T"),
        (TrackingOptions { states: [("heat".to_owned(), 1.0)].into(), ..TrackingOptions::default() }, "states"),
    ] {
        assert_eq!(refused(options).0, field);
    }
    // A stretch that is hardly one is refused, and nothing panics.
    for samples in 1..10 {
        let error = track(&model, &truth.data.slice(0..samples), &TrackingOptions::default()).unwrap_err();
        assert!(error.to_string().contains("at least 10"), "{error}");
    }
}
