//! Physical models against records whose truth is known: processes written down here once more and carried by small steps of a
//! method of their own, with noise that remembers.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use antistasis_core::identification::{
    DataSet, Model, NoiseModel, PhysicalOptions, Series, Sought, SoughtKind, StartOfStates, Structure, Together,
    ValidationWindow, Windows, balances, fit, identify, profile, steady_check, telling, telling_of_plan,
};
use antistasis_core::process::{DetailedSpec, Equation, EquationsSpec, NamedValue, OwnOutput, catalogue};
use antistasis_core::series::TimeAxis;

#[path = "support/heater.rs"]
mod heater;
#[path = "support/truth.rs"]
mod truth;

use truth::{answer, input, moves, named, noise, options, output, physical, sought};

/// The flow-through heater by its balances (kJ, kW, t/h).
fn heater_rates(p: [f64; 5]) -> impl Fn(&[f64], &[f64]) -> Vec<f64> {
    let [holdup, capacity, element, transfer, loss] = p;
    move |x, u| {
        let stream = u[1] / 3.6 * capacity;
        let passed = transfer * (x[1] - x[0]);
        vec![(stream * (u[2] - x[0]) + passed - loss * (x[0] - u[3])) / (holdup * capacity), (u[0] - passed) / element]
    }
}

const HEATER: [f64; 5] = [430.0, 4.0, 75.0, 6.5, 0.35];

fn heater_record(seed: u64, deviation: f64, pole: f64) -> DataSet {
    let samples = 600;
    let op = moves(samples, 20.0, 80.0, 40.0, 10 + seed);
    let power: Vec<f64> = op.iter().map(|op| 6.0 * op).collect();
    let flow = moves(samples, 4.0, 8.0, 80.0, 20 + seed);
    let feed = moves(samples, 15.0, 25.0, 90.0, 30 + seed);
    let ambient = moves(samples, -5.0, 30.0, 60.0, 40 + seed);
    let states =
        answer(heater_rates(HEATER), &[55.0, 95.0], &[power, flow.clone(), feed.clone(), ambient.clone()], 5.0, 10);
    let e = noise(samples, deviation, pole, 1000 + seed);
    let pv = states.iter().zip(e).map(|(x, e)| x[0] + e).collect();
    DataSet {
        axis: TimeAxis::uniform(5.0, samples).unwrap(),
        inputs: vec![
            named("TIC.OP", "%", op),
            named("FI.PV", "kg/h", flow.iter().map(|flow| 1000.0 * flow).collect()),
            named("TI-1.PV", "°C", feed),
            named("TI-2.PV", "°F", ambient.iter().map(|value| 1.8 * value + 32.0).collect()),
        ],
        outputs: vec![named("TIC.PV", "°C", pv)],
    }
}

fn heater_options(unknown: Vec<Sought>) -> PhysicalOptions {
    physical(
        "stirred_heater",
        &[("heat_capacity", 4.0)],
        vec![
            input("power", "TIC.OP"),
            input("feed_flow", "FI.PV"),
            input("feed_temperature", "TI-1.PV"),
            input("ambient_temperature", "TI-2.PV"),
        ],
        vec![output("liquid_temperature", "TIC.PV")],
        unknown,
    )
}

fn value(model: &Model, name: &str) -> (f64, Option<f64>, Option<[f64; 2]>) {
    let own = model.parameters.iter().find(|own| own.name == name).unwrap();
    (own.value, own.standard_error, own.interval)
}

#[test]
fn a_heater_is_found_from_a_record_in_other_units() {
    let data = heater_record(1, 0.05, 0.0);
    let own = heater_options(vec![
        sought("holdup", 300.0),
        sought("element_capacity", 40.0),
        sought("element_transfer", 10.0),
        sought("loss", 0.1),
    ]);
    let model = fit(&data, &options(own, NoiseModel::White)).unwrap();
    for (name, truth) in [("holdup", 430.0), ("element_capacity", 75.0), ("element_transfer", 6.5), ("loss", 0.35)] {
        let (found, error, _) = value(&model, name);
        assert!((found - truth).abs() < 4.0 * error.unwrap(), "{name}: {found} ± {error:?}, true {truth}");
        // What the element does is over in seconds: it shows little at samples of five.
        let roughly = if name.starts_with("element") { 0.3 } else { 0.02 };
        assert!(error.unwrap() < roughly * truth, "{name} ± {error:?}");
    }
    assert!(model.estimation.fit_simulated > 98.0);
}

#[test]
fn a_dead_time_a_sensor_lag_and_an_offset_are_found_beside_a_parameter() {
    // On a grid of half seconds: the power acts 17 s late, the sensor lags by 12 s and shows 1.5 °C too much.
    let (fine, samples, every) = (0.5, 500, 10);
    let op = moves(samples, 20.0, 80.0, 25.0, 5);
    let spread = |values: &[f64]| -> Vec<f64> { values.iter().flat_map(|value| [*value; 10]).collect() };
    let late: Vec<f64> = {
        let power: Vec<f64> = spread(&op).iter().map(|op| 6.0 * op).collect();
        (0..power.len()).map(|k| power[k.saturating_sub(34)]).collect()
    };
    let (flow, feed, ambient) = (vec![6.0; late.len()], vec![20.0; late.len()], vec![15.0; late.len()]);
    let [holdup, capacity, element, transfer, loss] = HEATER;
    let own = heater_rates([holdup, capacity, element, transfer, loss]);
    let with_lag = |x: &[f64], u: &[f64]| {
        let mut rates = own(&x[..2], u);
        rates.push((x[0] - x[2]) / 12.0);
        rates
    };
    let states = answer(with_lag, &[61.0, 107.0, 61.0], &[late, flow, feed, ambient], fine, 2);
    let e = noise(samples, 0.03, 0.0, 77);
    let pv: Vec<f64> = (0..samples).map(|k| states[k * every][2] + 1.5 + e[k]).collect();
    let data = DataSet {
        axis: TimeAxis::uniform(5.0, samples).unwrap(),
        inputs: vec![named("TIC.OP", "%", op)],
        outputs: vec![named("TIC.PV", "°C", pv)],
    };
    let of = |kind: SoughtKind, name: &str, value: f64| Sought { kind, ..sought(name, value) };
    let mut own = physical(
        "stirred_heater",
        &[("heat_capacity", capacity), ("element_capacity", element), ("element_transfer", transfer), ("loss", loss)],
        vec![input("power", "TIC.OP")],
        vec![output("liquid_temperature", "TIC.PV")],
        vec![
            sought("holdup", 300.0),
            of(SoughtKind::DeadTime, "power", 8.0),
            of(SoughtKind::Lag, "liquid_temperature", 5.0),
            of(SoughtKind::Offset, "liquid_temperature", 0.0),
        ],
    );
    own.beginnings = 4;
    let model = fit(&data, &options(own, NoiseModel::White)).unwrap();
    for (name, truth) in [
        ("holdup", 430.0),
        ("dead_time_of_power", 17.0),
        ("lag_of_liquid_temperature", 12.0),
        ("offset_of_liquid_temperature", 1.5),
    ] {
        let (found, error, _) = value(&model, name);
        assert!((found - truth).abs() < 4.0 * error.unwrap(), "{name}: {found} ± {error:?}, true {truth}");
        assert!(error.unwrap() < 0.1 * truth, "{name} ± {error:?}");
    }
    // Put in their places, they are those of the process that a trial would run.
    let fitted = &model.physical().unwrap().fitted;
    assert!((fitted.inputs[0].dead_time - 17.0).abs() < 1.0 && (fitted.outputs[0].offset - 1.5).abs() < 0.2);
}

/// A vessel without flow: only holdup times heat capacity shows, and so does a loss beside them.
fn still_record(ambient_moves: bool) -> (DataSet, Vec<f64>) {
    let samples = 400;
    let op = moves(samples, 0.0, 10.0, 60.0, 3);
    let power: Vec<f64> = op.iter().map(|op| 0.6 * op).collect();
    let ambient = if ambient_moves { moves(samples, -5.0, 30.0, 80.0, 9) } else { vec![15.0; samples] };
    let zero = vec![0.0; samples];
    let states = answer(
        heater_rates([400.0, 4.0, 60.0, 8.0, 0.15]),
        &[30.0, 30.5],
        &[power, zero.clone(), zero, ambient.clone()],
        30.0,
        20,
    );
    let e = noise(samples, 0.02, 0.0, 8);
    let pv = states.iter().zip(e).map(|(x, e)| x[0] + e).collect();
    let data = DataSet {
        axis: TimeAxis::uniform(30.0, samples).unwrap(),
        inputs: vec![named("TIC.OP", "%", op)],
        outputs: vec![named("TIC.PV", "°C", pv)],
    };
    (data, ambient)
}

#[test]
fn a_pair_that_cannot_be_told_apart_is_reported_and_found_when_one_is_known() {
    let (data, _) = still_record(false);
    let with = |unknown: Vec<Sought>, known: &[(&str, f64)]| {
        let mut power = input("power", "TIC.OP");
        power.range = Some([0.0, 60.0]);
        let mut own =
            physical("stirred_heater", known, vec![power], vec![output("liquid_temperature", "TIC.PV")], unknown);
        own.rest.insert("feed_flow".into(), 0.0);
        own
    };
    let both = with(vec![sought("holdup", 300.0), sought("heat_capacity", 3.0), sought("loss", 0.1)], &[]);
    let before = telling(std::slice::from_ref(&data), &both).unwrap();
    assert_eq!(before.untold.len(), 1, "{before:?}");
    assert_eq!(before.untold[0].together, Together::Product);
    assert_eq!(before.untold[0].names, ["holdup", "heat_capacity"]);
    assert!(before.untold[0].text.contains("only show up as a product"), "{}", before.untold[0].text);
    // With liquid flowing through, which carries heat but holds none, they would be told.
    assert!(before.untold[0].would_tell.contains(&"feed_flow".to_owned()), "{:?}", before.untold[0]);
    let loss = before.numbers.iter().find(|own| own.name == "loss").unwrap();
    assert!(loss.standard_error.is_some_and(|error| error < 0.05 * loss.value), "{loss:?}");
    let model = fit(&data, &options(both, NoiseModel::White)).unwrap();
    for name in ["holdup", "heat_capacity"] {
        let (_, error, interval) = value(&model, name);
        assert!(error.is_none() && interval.is_none(), "{name} has no figure of its own");
    }
    assert!(model.verdicts[0].text.contains("product"), "{:?}", model.verdicts);
    let (found, error, _) = value(&model, "loss");
    assert!((found - 0.15).abs() < 4.0 * error.unwrap(), "{found} ± {error:?}");
    // Known the one, the other is found; known roughly, both are, as well as that allows.
    let one = with(vec![sought("holdup", 300.0), sought("loss", 0.1)], &[("heat_capacity", 4.0)]);
    let model = fit(&data, &options(one, NoiseModel::White)).unwrap();
    let (found, error, _) = value(&model, "holdup");
    assert!((found - 400.0).abs() < 4.0 * error.unwrap() && error.unwrap() < 4.0, "{found} ± {error:?}");
    let roughly = Sought { deviation: Some(0.2), ..sought("heat_capacity", 4.1) };
    let model =
        fit(&data, &options(with(vec![sought("holdup", 300.0), roughly, sought("loss", 0.1)], &[]), NoiseModel::White))
            .unwrap();
    let (found, error, _) = value(&model, "heat_capacity");
    assert!((found - 4.1).abs() < 0.01 && (error.unwrap() - 0.2).abs() < 0.01, "{found} ± {error:?}");
    let (found, error, _) = value(&model, "holdup");
    assert!(
        (found - 1600.0 / 4.1).abs() < 3.0 && (error.unwrap() / found - 0.2 / 4.1).abs() < 0.005,
        "{found} ± {error:?}"
    );
}

#[test]
fn the_balance_closes_where_the_process_is_right_and_shows_what_it_does_not_know() {
    let data = heater_record(2, 0.02, 0.0);
    let unknown = vec![sought("holdup", 300.0), sought("loss", 0.1)];
    let known = [("heat_capacity", 4.0), ("element_capacity", 75.0), ("element_transfer", 6.5)];
    let own = |known: &[(&str, f64)]| {
        let mut own = heater_options(unknown.clone());
        if let DetailedSpec::Library { parameters, .. } = &mut own.process {
            parameters.extend(known.iter().map(|(name, value)| ((*name).to_owned(), *value)));
        }
        own
    };
    let model = fit(&data, &options(own(&known), NoiseModel::White)).unwrap();
    let energy = &balances(&model, &data).unwrap()[0];
    assert_eq!((energy.unit.as_str(), energy.terms.len()), ("kW", 4));
    let largest = energy.left_over.iter().fold(0.0, |largest: f64, value| largest.max(value.abs()));
    let power = &energy.terms[0];
    let mean = power.values.iter().sum::<f64>() / power.values.len() as f64;
    assert!(largest < 0.05 * mean, "{largest} kW of {mean} kW are left over");
    assert!(energy.totals[3].abs() < 2e-3 * energy.totals[0], "{:?}", energy.totals);
    let beyond = energy.left_over.iter().filter(|value| value.abs() > 2.0 * energy.noise_band).count();
    assert!(beyond < energy.left_over.len() / 10, "{beyond} of {} beyond twice the band", energy.left_over.len());
    // Heat that nobody measured from the middle on: it is left over there, and nowhere else.
    let samples = data.axis.len();
    let mut other = data.clone();
    let extra: Vec<f64> = (0..samples).map(|k| if k > samples / 2 { 40.0 } else { 0.0 }).collect();
    let inputs: Vec<Vec<f64>> = vec![
        other.inputs[0].values.iter().zip(&extra).map(|(op, extra)| 6.0 * op + extra).collect(),
        other.inputs[1].values.iter().map(|flow| flow / 1000.0).collect(),
        other.inputs[2].values.clone(),
        other.inputs[3].values.iter().map(|value| (value - 32.0) / 1.8).collect(),
    ];
    let states = answer(heater_rates(HEATER), &[55.0, 95.0], &inputs, 5.0, 10);
    other.outputs[0].values = states.iter().map(|x| x[0]).collect();
    let energy = &balances(&model, &other).unwrap()[0];
    let half = energy.left_over.len() / 2;
    let mean = |values: &[f64]| values.iter().sum::<f64>() / values.len() as f64;
    let (before, after) = (mean(&energy.left_over[..half - 5]), mean(&energy.left_over[half + 10..]));
    assert!(
        (before - after - 40.0).abs() < 6.0 || (after - before + 40.0).abs() < 6.0,
        "{before} kW before, {after} kW after"
    );
}

#[test]
fn at_rest_the_balance_gives_a_parameter_without_a_fit() {
    // Four loads, each held until everything stands still.
    let samples = 1600;
    let op: Vec<f64> = (0..samples).map(|k| [30.0, 60.0, 45.0, 75.0][k / 400]).collect();
    let power: Vec<f64> = op.iter().map(|op| 6.0 * op).collect();
    let level = |value: f64| vec![value; samples];
    let states = answer(heater_rates(HEATER), &[40.0, 70.0], &[power, level(6.0), level(20.0), level(15.0)], 5.0, 10);
    let e = noise(samples, 0.05, 0.5, 4);
    let pv = states.iter().zip(e).map(|(x, e)| x[0] + e).collect();
    let data = DataSet {
        axis: TimeAxis::uniform(5.0, samples).unwrap(),
        inputs: vec![named("TIC.OP", "%", op)],
        outputs: vec![named("TIC.PV", "°C", pv)],
    };
    let own = physical(
        "stirred_heater",
        &[("heat_capacity", 4.0)],
        vec![input("power", "TIC.OP")],
        vec![output("liquid_temperature", "TIC.PV")],
        vec![sought("loss", 0.1)],
    );
    let check = steady_check(&data, &own, "loss").unwrap();
    assert!(check.stretches.len() >= 4, "{check:?}");
    assert!(check.stretches.iter().all(|own| own.implied.is_some()), "{check:?}");
    assert!((check.mean.unwrap() - 0.35).abs() < 0.02 && check.spread.unwrap() < 0.035, "{check:?}");
    assert_eq!(check.unit, "kW/K");
    // What does not show at rest is not found there.
    let still = steady_check(&data, &own, "holdup").unwrap();
    assert!(still.mean.is_none() && still.verdict.text.contains("No value"), "{still:?}");
    assert!(steady_check(&data, &own, "los").is_err());
}

#[test]
fn intervals_hold_beside_noise_that_remembers() {
    // 24 records: each of three numbers outside its 95 % interval in 1.2 of them on the average; 5 or more of 24 in 1 of 150.
    let mut out = [0; 3];
    for seed in 0..24 {
        let data = heater_record(100 + seed, 0.1, 0.85);
        let mut own = heater_options(vec![sought("holdup", 300.0), sought("heat_capacity", 3.0), sought("loss", 0.1)]);
        if let DetailedSpec::Library { parameters, .. } = &mut own.process {
            parameters.extend([("element_capacity", 75.0), ("element_transfer", 6.5)].map(|(n, v)| (n.to_owned(), v)));
        }
        own.beginnings = 1;
        let model = fit(&data, &options(own, NoiseModel::Autoregression)).unwrap();
        for (k, (name, truth)) in [("holdup", 430.0), ("heat_capacity", 4.0), ("loss", 0.35)].iter().enumerate() {
            let (_, _, interval) = value(&model, name);
            out[k] += usize::from(interval.is_none_or(|[low, high]| *truth < low || *truth > high));
        }
    }
    assert!(out.iter().all(|out| *out <= 4), "{out:?} of 24 outside");
}

#[test]
fn another_record_is_held_against_the_model_and_several_are_fitted_together() {
    let stretches: Vec<DataSet> = (5..8).map(|seed| heater_record(seed, 0.05, 0.0)).collect();
    let own = heater_options(vec![sought("holdup", 300.0), sought("loss", 0.1)]);
    let known = options(
        PhysicalOptions {
            process: DetailedSpec::Library {
                process: "stirred_heater".into(),
                parameters: [("element_capacity", 75.0), ("element_transfer", 6.5)]
                    .map(|(n, v)| (n.to_owned(), v))
                    .into(),
            },
            ..own
        },
        NoiseModel::White,
    );
    let together = antistasis_core::identification::fit_together(&stretches[..2], &known).unwrap();
    let alone = fit(&stretches[0], &known).unwrap();
    let (both, one) = (value(&together, "loss").1.unwrap(), value(&alone, "loss").1.unwrap());
    assert!(both < 0.85 * one, "two records know it better: {both} {one}");
    assert_eq!((together.physical().unwrap().starts.len(), together.further.len()), (2, 1));
    let held = antistasis_core::identification::validate(&together, &stretches[2], false).unwrap();
    assert!(held.performance.fit_simulated > 98.0, "{:?}", held.performance);
    // Halves, though nothing says that every input moves in both.
    let windows = Windows { validation: ValidationWindow::Half, ..Windows::default() };
    let halves = identify(&stretches[0], 0.0, &windows, &known).unwrap();
    assert!(halves.validation.unwrap().1.performance.fit_simulated > 97.0);
}

#[test]
fn what_cannot_be_is_refused_at_its_field() {
    let data = heater_record(1, 0.05, 0.0);
    let usual = || heater_options(vec![sought("loss", 0.1)]);
    let refused = |edit: &dyn Fn(&mut PhysicalOptions)| {
        let mut own = usual();
        edit(&mut own);
        match fit(&data, &options(own, NoiseModel::White)) {
            Ok(_) => String::new(),
            Err(antistasis_core::Error::Invalid { field, .. } | antistasis_core::Error::Said { field, .. }) => field,
            Err(other) => other.to_string(),
        }
    };
    assert_eq!(refused(&|_| ()), "");
    assert_eq!(refused(&|own| own.sought.clear()), "physical.sought");
    assert_eq!(refused(&|own| own.sought[0].name = "los".into()), "physical.sought[0].name");
    assert_eq!(refused(&|own| own.sought[0].value = Some(-1.0)), "physical.sought[0].value");
    assert_eq!(refused(&|own| own.sought[0].low = Some(0.2)), "physical.sought[0].value");
    assert_eq!(
        refused(&|own| (own.sought[0].low, own.sought[0].high) = (Some(0.5), Some(0.2))),
        "physical.sought[0].low"
    );
    assert_eq!(refused(&|own| own.sought[0].deviation = Some(0.0)), "physical.sought[0].deviation");
    assert_eq!(refused(&|own| own.sought.push(sought("loss", 0.2))), "physical.sought[1].name");
    assert_eq!(refused(&|own| own.inputs[1].input = "flow".into()), "physical.inputs[1].input");
    assert_eq!(refused(&|own| own.inputs[1].input = "power".into()), "physical.inputs[1].input");
    assert_eq!(refused(&|own| own.inputs[1].tag = "FI-9.PV".into()), "physical.inputs[1].tag");
    assert_eq!(refused(&|own| own.inputs[2].tag = "FI.PV".into()), "physical.inputs[2].tag");
    assert_eq!(refused(&|own| own.inputs[1].range = Some([0.0, 1.0])), "physical.inputs[1].range");
    assert_eq!(refused(&|own| own.inputs[0].range = Some([1.0, 1.0])), "physical.inputs[0].range[1]");
    assert_eq!(refused(&|own| own.outputs[0].output = "level".into()), "physical.outputs[0].output");
    assert_eq!(refused(&|own| own.outputs.clear()), "physical.outputs");
    assert_eq!(refused(&|own| own.rest = [("power".to_owned(), 3.0)].into()), "physical.rest");
    assert_eq!(refused(&|own| own.beginnings = 0), "physical.beginnings");
    assert_eq!(
        refused(&|own| own.process = DetailedSpec::Library { process: "heater".into(), parameters: Default::default() }),
        "physical.process.process"
    );
    let mut other = options(usual(), NoiseModel::White);
    other.structure = Structure::Fopdt;
    let single = data.of(["TIC.OP"], ["TIC.PV"]);
    assert!(fit(&single, &other).unwrap_err().to_string().contains("A process is for a physical model"));
    assert!(catalogue().iter().any(|own| own.name == "stirred_heater"));
}

/// Against SciPy's `least_squares` over `solve_ivp` (`reference/physical_models.py`).
#[test]
fn estimates_and_standard_errors_are_those_of_a_general_library() {
    let cases: serde_json::Value =
        serde_json::from_str(include_str!("../../../reference/data/physical_models.json")).unwrap();
    let list = |value: &serde_json::Value| -> Vec<f64> {
        value.as_array().unwrap().iter().map(|v| v.as_f64().unwrap()).collect()
    };
    for (case, process, names, inputs, outputs) in [
        (
            &cases[0],
            "stirred_heater",
            &["holdup", "element_capacity", "element_transfer", "loss"][..],
            &[("power", "kW"), ("feed_flow", "t/h"), ("feed_temperature", "°C"), ("ambient_temperature", "°C")][..],
            &[("liquid_temperature", "°C")][..],
        ),
        (
            &cases[1],
            "jacketed_reactor",
            &["activation_temperature", "reaction_heat", "transfer", "jacket_heat", "volume"][..],
            &[
                ("coolant_flow", "L/min"),
                ("feed_flow", "L/min"),
                ("feed_concentration", "mol/L"),
                ("feed_temperature", "°C"),
                ("coolant_inlet", "°C"),
            ][..],
            &[("temperature", "°C"), ("jacket_temperature", "°C")][..],
        ),
    ] {
        let interval = case["interval"].as_f64().unwrap();
        let of = |key: &str, k: usize| list(&case[key][k]);
        let samples = of("inputs", 0).len();
        let data = DataSet {
            axis: TimeAxis::uniform(interval, samples).unwrap(),
            inputs: inputs.iter().enumerate().map(|(k, (name, unit))| named(name, unit, of("inputs", k))).collect(),
            outputs: outputs
                .iter()
                .enumerate()
                .map(|(k, (name, unit))| named(&format!("{name}.PV"), unit, of("measured", k)))
                .collect(),
        };
        let start = list(&case["start"]);
        let mut own = physical(
            process,
            &[("heat_capacity", if process == "stirred_heater" { 4.0 } else { 0.239 })],
            inputs.iter().map(|(name, _)| input(name, name)).collect(),
            outputs.iter().map(|(name, _)| output(name, &format!("{name}.PV"))).collect(),
            names.iter().zip(&start).map(|(name, value)| sought(name, *value)).collect(),
        );
        own.beginnings = 1;
        let model = fit(&data, &options(own, NoiseModel::White)).unwrap();
        let (estimates, errors) = (list(&case["estimates"]), list(&case["errors"]));
        for (k, name) in names.iter().enumerate() {
            let own = model.parameters.iter().find(|own| own.name == *name).unwrap();
            let apart = (own.value - estimates[k]).abs();
            assert!(
                apart < if outputs.len() == 1 { 1e-4 } else { 0.05 } * errors[k],
                "{process}, {name}: {} for {}",
                own.value,
                estimates[k]
            );
            let white = own.white_error.unwrap();
            // Of two outputs ours go by what each of them leaves, SciPy's by what was put into both.
            let near = if outputs.len() == 1 { 1e-3 } else { 0.05 };
            assert!((white / errors[k] - 1.0).abs() < near, "{process}, {name}: ± {white} for {}", errors[k]);
        }
    }
}

/// A heat balance of two bodies, heater and outlet, behind a dead time, over the laboratory heater record (an open record of a real
/// heater; Debian package libslicot-doc).
#[test]
fn two_bodies_explain_the_laboratory_heater_at_least_as_well_as_a_lag() {
    let (power, outlet) = heater::record();
    let equation = |name: &str, equals: &str| Equation { name: name.into(), equals: equals.into() };
    let quantity = |name: &str, unit: &str, value: f64| NamedValue {
        name: name.into(),
        unit: unit.into(),
        value,
        low: None,
        high: None,
    };
    let start = outlet[0];
    let spec = EquationsSpec {
        title: "heater and what it warms".into(),
        states: vec![quantity("heater", "V", start), quantity("outlet", "V", start)],
        inputs: vec![quantity("power", "W", power[0])],
        parameters: vec![
            quantity("k", "V/W", 0.2),
            quantity("heater_time", "s", 0.5),
            quantity("outlet_time", "s", 1.0),
            quantity("cold", "V", 4.0),
        ],
        definitions: vec![],
        rates: vec![
            equation("heater", "(k*power - (heater - outlet))/heater_time"),
            equation("outlet", "((heater - outlet) - (outlet - cold))/outlet_time"),
        ],
        outputs: vec![OwnOutput { name: "outlet".into(), unit: "V".into(), equals: "outlet".into() }],
    };
    let own = PhysicalOptions {
        process: DetailedSpec::Equations(spec),
        inputs: vec![input("power", "heater")],
        rest: Default::default(),
        outputs: vec![output("outlet", "outlet")],
        sought: vec![
            Sought { low: Some(1e-3), high: Some(10.0), ..sought("k", 0.2) },
            sought("heater_time", 0.5),
            sought("outlet_time", 1.0),
            Sought { low: Some(-20.0), high: Some(20.0), ..sought("cold", 4.0) },
            Sought { kind: SoughtKind::DeadTime, low: Some(0.0), high: Some(2.0), ..sought("power", 0.3) },
        ],
        tied: Vec::new(),
        start: StartOfStates::Estimated,
        beginnings: 3,
    };
    let all = heater::data(power, outlet);
    let whole = fit(&all, &options(own.clone(), NoiseModel::White)).unwrap();
    let lag = antistasis_core::identification::fit_fopdt(&all).unwrap();
    let (balance, first_order) = (whole.estimation.fit_simulated, lag.estimation.fit_simulated);
    println!("{balance} {first_order} {:#?}", whole.parameters);
    assert!(balance >= 85.32 && balance >= first_order - 1e-6, "{balance} % by balance, {first_order} % by a lag");
    // What one half says holds on the other.
    let half = |range: std::ops::Range<usize>| {
        fit(&all.slice(range), &options(own.clone(), NoiseModel::Autoregression)).unwrap()
    };
    let (first, second) = (half(0..500), half(500..1000));
    for (a, b) in first.parameters.iter().zip(&second.parameters) {
        println!("{} {} ± {:?}, {} ± {:?}", a.name, a.value, a.standard_error, b.value, b.standard_error);
        let (Some(one), Some(other)) = (a.standard_error, b.standard_error) else { continue };
        assert!(
            (a.value - b.value).abs() < 3.0 * one.hypot(other),
            "{}: {} ± {one} and {} ± {other}",
            a.name,
            a.value,
            b.value
        );
    }
    let held = antistasis_core::identification::validate(&first, &all.slice(500..1000), false).unwrap();
    assert!(held.performance.fit_simulated > 75.0, "{}", held.performance.fit_simulated);
}

/// The efficiency goes into the temperatures as a factor of the power, with states at the start that are free: the squares rise with
/// the square of its distance from the estimate, exactly, and the interval of the profile is that of the standard error.
#[test]
fn a_profile_of_a_number_that_acts_linearly_is_a_parabola() {
    let data = heater_record(3, 0.2, 0.0);
    let mut own = heater_options(vec![sought("efficiency", 0.8)]);
    let known = [
        ("holdup", 430.0),
        ("heat_capacity", 4.0),
        ("element_capacity", 75.0),
        ("element_transfer", 6.5),
        ("loss", 0.35),
    ];
    own.process = physical("stirred_heater", &known, Vec::new(), Vec::new(), Vec::new()).process;
    let fit_options = options(own, NoiseModel::White);
    let model = fit(&data, &fit_options).unwrap();
    let found = &model.parameters[0];
    let (error, white) = (found.standard_error.unwrap(), found.white_error.unwrap());
    assert!((found.value - 1.0).abs() < 4.0 * error, "{}", found.value);
    let profile = profile(std::slice::from_ref(&data), &fit_options, &model, "efficiency").unwrap();
    assert!(profile.points.len() >= 15, "{}", profile.points.len());
    let freedom = 600.0 - 3.0;
    for point in &profile.points {
        let parabola = ((point.value - found.value) / white).powi(2) / freedom;
        assert!((point.rise - parabola).abs() < 1e-3 * parabola + 1e-7, "{point:?} {parabola}");
    }
    let [low, high] = profile.interval.map(Option::unwrap);
    assert!(((high - low) / (2.0 * 1.96 * error) - 1.0).abs() < 0.01, "{low} {high} ± {error}");
}

/// A point of a profile is what a fit leaves in which the number is known.
#[test]
fn a_profile_is_what_fits_with_the_number_known_leave() {
    let data = heater_record(5, 0.4, 0.0).slice(0..150);
    let own = heater_options(vec![sought("holdup", 300.0), sought("loss", 0.1)]);
    let fit_options = options(own.clone(), NoiseModel::White);
    let model = fit(&data, &fit_options).unwrap();
    let profile = profile(std::slice::from_ref(&data), &fit_options, &model, "loss").unwrap();
    let squares = |model: &Model| {
        let left = &model.physical.as_ref().unwrap().outputs[0].performance;
        left.residual_deviation.powi(2) * left.samples as f64
    };
    let least = squares(&model);
    for point in profile.points.iter().step_by(5) {
        // The same fit with the loss as known.
        let mut known = heater_options(vec![sought("holdup", 300.0)]);
        let parameters = [("heat_capacity", 4.0), ("loss", point.value)];
        known.process = physical("stirred_heater", &parameters, Vec::new(), Vec::new(), Vec::new()).process;
        let other = fit(&data, &options(known, NoiseModel::White)).unwrap();
        let rise = squares(&other) / least - 1.0;
        assert!((rise - point.rise).abs() < 1e-3 * point.rise + 2e-5, "{point:?}: {rise}");
    }
    let refused = antistasis_core::identification::profile(std::slice::from_ref(&data), &fit_options, &model, "glow");
    assert_eq!(refused.unwrap_err().field(), Some("parameter"));
}

/// Of a vessel without flow only ratios of holdup, loss and efficiency show; with one of them known the others are found.
#[test]
fn loss_and_efficiency_only_show_up_together_where_nothing_else_is_known() {
    let samples = 600;
    let power = moves(samples, 1.0, 4.0, 80.0, 3);
    let rates = |x: &[f64], u: &[f64]| {
        let passed = 0.5 * (x[1] - x[0]);
        vec![(passed - 0.05 * (x[0] - 15.0)) / (40.0 * 4.0), (0.7 * u[0] - passed) / 5.0]
    };
    let states = answer(rates, &[45.0, 48.0], std::slice::from_ref(&power), 30.0, 20);
    let pv = states.iter().zip(noise(samples, 0.1, 0.0, 9)).map(|(x, e)| x[0] + e).collect();
    let data = DataSet {
        axis: TimeAxis::uniform(30.0, samples).unwrap(),
        inputs: vec![named("P", "kW", power)],
        outputs: vec![named("T", "°C", pv)],
    };
    let with = |unknown: Vec<Sought>, more: &[(&str, f64)]| {
        let known = [&[("heat_capacity", 4.0), ("element_capacity", 5.0), ("element_transfer", 0.5)], more].concat();
        let outputs = vec![output("liquid_temperature", "T")];
        let mut own = physical("stirred_heater", &known, vec![input("power", "P")], outputs, unknown);
        own.rest.insert("feed_flow".into(), 0.0);
        own
    };
    let all = vec![sought("holdup", 30.0), sought("loss", 0.1), sought("efficiency", 0.9)];
    let told = telling(std::slice::from_ref(&data), &with(all, &[])).unwrap();
    assert_eq!(told.untold.len(), 1, "{told:?}");
    let mut names = told.untold[0].names.clone();
    names.sort();
    assert_eq!(names, ["efficiency", "holdup", "loss"], "{told:?}");
    assert!(told.numbers.iter().all(|own| own.standard_error.is_none()));
    // Found again where one of them is known.
    let two = vec![sought("holdup", 30.0), sought("loss", 0.1)];
    let model = fit(&data, &options(with(two, &[("efficiency", 0.7)]), NoiseModel::White)).unwrap();
    for (name, truth) in [("holdup", 40.0), ("loss", 0.05)] {
        let (found, error, _) = value(&model, name);
        assert!(
            (found - truth).abs() < 4.0 * error.unwrap() && error.unwrap() < 0.1 * truth,
            "{name}: {found} ± {error:?}"
        );
    }
}

/// An OP that goes through a valve of equal percentage: its rangeability is found with the loss, and the trial on the model has it.
#[test]
fn the_rangeability_of_a_valve_is_found_with_the_rest() {
    use antistasis_core::instrument::{ActuatorSpec, Characteristic};
    let samples = 900;
    let op = moves(samples, 25.0, 95.0, 40.0, 17);
    // 600 kW at 100 %, a 25th of it at 0 %.
    let power: Vec<f64> = op.iter().map(|op| 600.0 * 25f64.powf(op / 100.0 - 1.0)).collect();
    let steady = |value: f64| vec![value; samples];
    let inputs = [power, steady(6.0), steady(18.0), steady(12.0)];
    let states = answer(heater_rates(HEATER), &[40.0, 70.0], &inputs, 5.0, 10);
    let pv = states.iter().zip(noise(samples, 0.15, 0.0, 4)).map(|(x, e)| x[0] + e).collect();
    let data = DataSet {
        axis: TimeAxis::uniform(5.0, samples).unwrap(),
        inputs: vec![named("TIC.OP", "%", op)],
        outputs: vec![named("TIC.PV", "°C", pv)],
    };
    let known = [("holdup", 430.0), ("heat_capacity", 4.0), ("element_capacity", 75.0), ("element_transfer", 6.5)];
    let mut power = input("power", "TIC.OP");
    power.range = Some([0.0, 600.0]);
    let rangeability = |value: f64| Sought { kind: SoughtKind::Rangeability, ..sought("power", value) };
    let mut own = physical(
        "stirred_heater",
        &known,
        vec![power],
        vec![output("liquid_temperature", "TIC.PV")],
        vec![sought("loss", 0.1), rangeability(60.0)],
    );
    for (name, value) in [("feed_flow", 6.0), ("feed_temperature", 18.0), ("ambient_temperature", 12.0)] {
        own.rest.insert(name.into(), value);
    }
    // At rest the balance alone gives the loss, through the valve as it is taken to be.
    own.sought[1].value = Some(25.0);
    let rest = steady_check(&data, &own, "loss");
    assert!(rest.is_ok(), "{rest:?}");
    own.sought[1].value = Some(60.0);
    let model = fit(&data, &options(own.clone(), NoiseModel::White)).unwrap();
    for (name, truth) in [("rangeability_of_power", 25.0), ("loss", 0.35)] {
        let (found, error, _) = value(&model, name);
        assert!(
            (found - truth).abs() < 4.0 * error.unwrap() && error.unwrap() < 0.2 * truth,
            "{name}: {found} ± {error:?}"
        );
    }
    let (pv, op) = (signal("TIC.PV", 0.0, 150.0, "°C"), signal("TIC.OP", 0.0, 100.0, "%"));
    let trial = antistasis_core::tuning::begin_on_model(&model, &pv, &op, &Default::default()).unwrap().trial;
    let ActuatorSpec::Valve(valve) = &trial.plant.actuator else { panic!("{:?}", trial.plant.actuator) };
    let Characteristic::EqualPercentage { rangeability: found } = valve.characteristic else { panic!("{valve:?}") };
    assert_eq!(found, value(&model, "rangeability_of_power").0);
    // Only a channel in % goes through a valve.
    let mut wrong = own;
    wrong.inputs[0].range = None;
    let mut in_kw = data;
    in_kw.inputs[0].unit = "kW".into();
    let error = fit(&in_kw, &options(wrong, NoiseModel::White)).unwrap_err();
    assert_eq!(error.field(), Some("physical.inputs[0].rangeability"), "{error}");
}

fn signal(tag: &str, low: f64, high: f64, unit: &str) -> antistasis_core::simulation::Signal {
    antistasis_core::simulation::Signal { tag: tag.into(), span: antistasis_core::units::Span::new(low, high, unit) }
}

/// What a planned test says beforehand is what a fit to a record of that test says afterwards; a test that cannot tell is told.
#[test]
fn a_planned_test_expects_the_errors_that_its_fit_has() {
    let samples = 500;
    let op = moves(samples, 35.0, 65.0, 40.0, 31);
    let times: Vec<f64> = (0..samples).map(|k| 5.0 * k as f64).collect();
    let steady = |value: f64| vec![value; samples];
    let power: Vec<f64> = op.iter().map(|op| 6.0 * op).collect();
    let inputs = [power.clone(), steady(6.0), steady(18.0), steady(12.0)];
    // From rest under the first power.
    let rest =
        answer(heater_rates(HEATER), &[50.0, 90.0], &inputs.clone().map(|values| vec![values[0]; 2000]), 5.0, 10);
    let states = answer(heater_rates(HEATER), rest.last().unwrap(), &inputs, 5.0, 10);
    let pv = states.iter().zip(noise(samples, 0.2, 0.0, 8)).map(|(x, e)| x[0] + e).collect();
    let data = DataSet {
        axis: TimeAxis::uniform(5.0, samples).unwrap(),
        inputs: vec![named("TIC.OP", "%", op.clone())],
        outputs: vec![named("TIC.PV", "°C", pv)],
    };
    let own = |unknown: Vec<Sought>, flow: f64| {
        let known = [("heat_capacity", 4.0), ("element_capacity", 75.0), ("element_transfer", 6.5)];
        let mut power = input("power", "TIC.OP");
        power.range = Some([0.0, 600.0]);
        let mut own =
            physical("stirred_heater", &known, vec![power], vec![output("liquid_temperature", "TIC.PV")], unknown);
        for (name, value) in [("feed_flow", flow), ("feed_temperature", 18.0), ("ambient_temperature", 12.0)] {
            own.rest.insert(name.into(), value);
        }
        own
    };
    let sought_of = || vec![sought("holdup", 430.0), sought("loss", 0.35)];
    let planned = telling_of_plan(&times, ("TIC.OP", &op), 0.2, &own(sought_of(), 6.0)).unwrap();
    let model = fit(&data, &options(own(sought_of(), 6.0), NoiseModel::White)).unwrap();
    for (expected, found) in planned.numbers.iter().zip(&model.parameters) {
        let (before, after) = (expected.standard_error.unwrap(), found.white_error.unwrap());
        assert!((before / after - 1.0).abs() < 0.1, "{}: {before} {after}", found.name);
    }
    // A vessel without flow and an efficiency besides: the OP alone never tells them apart, and that is said with what would.
    let all = vec![sought("holdup", 430.0), sought("loss", 0.35), sought("efficiency", 1.0)];
    let blind = telling_of_plan(&times, ("TIC.OP", &op), 0.2, &own(all, 0.0)).unwrap();
    assert_eq!(blind.untold.len(), 1, "{blind:?}");
    assert!(blind.untold[0].would_tell.contains(&"feed_flow".to_owned()), "{blind:?}");
    let other = telling_of_plan(&times, ("X.OP", &op), 0.2, &own(sought_of(), 6.0)).unwrap_err();
    assert_eq!(other.field(), Some("physical.inputs"));
}
