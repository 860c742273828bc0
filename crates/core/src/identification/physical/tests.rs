//! Derivatives against differences, for every process of the library and for equations of one's own.

use super::following::{At, Stretch};
use super::options::{MappedInput, MappedOutput, PhysicalOptions, Sought, SoughtKind, StartOfStates, Task};
use super::{DividedFit, FoundFrom};
use crate::identification::{DataSet, FitOptions, NoiseModel, Series, Structure, fit};
use crate::numerics::{Dual, SEEDS, derivatives};
use crate::process::{
    Description, DetailedSpec, Equation, EquationsSpec, NamedValue, OwnOutput, ProcessSpec, catalogue,
};
use crate::series::TimeAxis;
use proptest::prelude::*;

/// Tight enough that differences of what is simulated are those of the process.
const TIGHT: f64 = 1e-11;

/// All inputs moved a little, each in its own rhythm, and all outputs shown.
fn record(description: &Description, interval: f64, samples: usize) -> DataSet {
    let series = |k: usize, quantity: &crate::process::Quantity| {
        // What stands at 0, as the sun at night, is moved so that it shows.
        let by = if quantity.value == 0.0 {
            0.3 * (quantity.high - quantity.low).min(100.0)
        } else {
            0.03 * quantity.value.abs()
        };
        let value = |i: usize| {
            let level = f64::from(u8::from(i / (7 + 2 * k) % 2 == 1));
            (quantity.value + by * level).clamp(quantity.low, quantity.high)
        };
        Series::new(quantity.name.clone(), quantity.unit.clone(), (0..samples).map(value).collect())
    };
    let outputs = description.outputs.iter().map(|own| Series::new(&own.name, &own.unit, vec![0.0; samples]));
    DataSet {
        axis: TimeAxis::uniform(interval, samples).unwrap(),
        inputs: description.inputs.iter().enumerate().map(|(k, own)| series(k, own)).collect(),
        outputs: outputs.collect(),
    }
}

fn options(process: DetailedSpec, description: &Description, dead_time: f64, lag: f64) -> PhysicalOptions {
    let parameter = |own: &crate::process::Quantity| {
        // What counts cells or tanks is no number to be estimated.
        (!own.is_count() && own.value != 0.0).then(|| Sought { name: own.name.clone(), ..Sought::default() })
    };
    let mut sought: Vec<Sought> = description.parameters.iter().filter_map(parameter).collect();
    let of = |kind: SoughtKind, name: &str, value: f64| Sought {
        kind,
        name: name.to_owned(),
        value: Some(value),
        ..Sought::default()
    };
    sought.push(of(SoughtKind::DeadTime, &description.inputs[0].name, dead_time));
    sought.push(of(SoughtKind::Lag, &description.outputs[0].name, lag));
    sought.push(of(SoughtKind::Offset, &description.outputs[0].name, 0.3));
    PhysicalOptions {
        process,
        inputs: description
            .inputs
            .iter()
            .enumerate()
            .map(|(k, own)| MappedInput {
                input: own.name.clone(),
                tag: own.name.clone(),
                range: None,
                // Some run straight.
                straight: k == 1,
                dead_time: 0.0,
                rangeability: None,
            })
            .collect(),
        rest: Default::default(),
        outputs: description
            .outputs
            .iter()
            .map(|own| MappedOutput { output: own.name.clone(), tag: own.name.clone(), lag: 0.0, offset: 0.0 })
            .collect(),
        sought,
        tied: Vec::new(),
        start: StartOfStates::Estimated,
        beginnings: 1,
    }
}

/// The outputs over the record, sample by sample, and their derivatives by all unknowns.
fn followed(task: &Task, stretch: &Stretch, sought: &[f64], states: &[f64]) -> (Vec<f64>, Vec<Vec<f64>>) {
    let count = sought.len() + states.len();
    let (mut values, mut slopes) = (Vec::new(), vec![Vec::new(); count]);
    for from in (0..count).step_by(SEEDS) {
        let seeds = from..(from + SEEDS).min(count);
        values.clear();
        task.follow(stretch, At { sought, states }, &seeds, TIGHT, |_, seen: &[Dual], _, _| {
            for value in seen {
                values.push(value.re);
                for (k, by) in seeds.clone().zip(derivatives(value)) {
                    slopes[k].push(by);
                }
            }
        })
        .unwrap();
    }
    (values, slopes)
}

/// The largest miss of each unknown's derivatives against central differences, as a share of the largest of them.
fn misses(options: &PhysicalOptions, data: &DataSet) -> Vec<(String, f64)> {
    let task = options.task().unwrap();
    let stretch = Stretch::new(&task, data).unwrap();
    let sought: Vec<f64> = task.unknowns.iter().map(|own| own.value).collect();
    // Tanks side by side do not begin at one level, where the flow between them turns with a slope without end.
    let description = task.process.description().clone();
    let states: Vec<f64> =
        description.states.iter().enumerate().map(|(k, own)| own.value * (1.0 - 0.05 * k as f64)).collect();
    let (values, slopes) = followed(&task, &stretch, &sought, &states);
    let all: Vec<f64> = sought.iter().chain(&states).copied().collect();
    (0..all.len())
        .map(|k| {
            let h = 1e-4 * all[k].abs().max(1e-3);
            let at = |by: f64| {
                let mut moved = all.clone();
                moved[k] += by;
                followed(&task, &stretch, &moved[..sought.len()], &moved[sought.len()..]).0
            };
            // Extrapolated from two steps (Richardson), so that what is left is of fourth order.
            let central = |h: f64| -> Vec<f64> {
                at(h).iter().zip(at(-h)).map(|(above, below)| (above - below) / (2.0 * h)).collect()
            };
            let differences =
                central(h).into_iter().zip(central(0.5 * h)).map(|(wide, near)| (4.0 * near - wide) / 3.0);
            let largest = slopes[k].iter().fold(0.0, |largest: f64, slope| largest.max(slope.abs()));
            let miss = slopes[k]
                .iter()
                .zip(differences)
                .map(|(slope, difference)| (slope - difference).abs())
                .fold(0.0, f64::max);
            let name =
                task.unknowns.get(k).map_or_else(|| format!("state {}", k - sought.len()), |own| own.name.clone());
            // Where a number hardly shows, the differences are made of the tolerance of the integration.
            let rounding = 5.0 * TIGHT * values.iter().fold(0.0, |most: f64, value| most.max(value.abs())) / h;
            (name, miss / (largest + 1e6 * rounding).max(f64::MIN_POSITIVE))
        })
        .collect()
}

#[test]
fn derivatives_of_every_process_of_the_library_are_those_of_differences() {
    for description in catalogue() {
        let process = DetailedSpec::Library { process: description.name.clone(), parameters: Default::default() };
        let interval = 7.0;
        let data = record(&description, interval, 40);
        let options = options(process, &description, 11.3, 9.0);
        for (name, miss) in misses(&options, &data) {
            assert!(miss < 1e-6, "{}: {name} is off by {miss:e} of its largest derivative", description.name);
        }
    }
}

fn named(name: &str, value: f64) -> NamedValue {
    NamedValue { name: name.into(), unit: String::new(), value, low: None, high: None }
}

/// Two states that decay, are driven and act on each other by one of several laws.
fn equations(law: usize, p: [f64; 4]) -> EquationsSpec {
    let laws = [
        "a*tanh(u - y)",
        "a*exp(-b*x^2)*u",
        "a*sqrt(x^2 + b) - u*y",
        "max(a*u, b*y) + sin(b*x)",
        "a*x/(b + abs(x)) + u^2",
        "a*atan(y) + ln(1 + b*u^2)",
    ];
    let equation = |name: &str, equals: String| Equation { name: name.into(), equals };
    EquationsSpec {
        title: String::new(),
        states: vec![named("x", 0.4), named("y", 0.7)],
        inputs: vec![named("u", 1.0)],
        parameters: ["a", "b", "c", "d"].iter().zip(p).map(|(name, value)| named(name, value)).collect(),
        definitions: vec![equation("push", laws[law % laws.len()].to_owned())],
        rates: vec![equation("x", "push - c*x".into()), equation("y", "d*(x - y) + 0.1*c*u".into())],
        outputs: vec![OwnOutput { name: "seen".into(), unit: String::new(), equals: "x + 0.5*y^2".into() }],
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(40))]
    #[test]
    fn derivatives_of_equations_of_ones_own_are_those_of_differences(
        law in 0usize..6,
        p in [0.3f64..1.5, 0.3f64..1.5, 0.8f64..2.0, 0.3f64..2.0],
        dead_time in 0.11f64..0.89,
    ) {
        let spec = equations(law, p);
        let description = ProcessSpec::Detailed(DetailedSpec::Equations(spec.clone())).describe("").unwrap();
        let data = record(&description, 0.25, 30);
        let options = options(DetailedSpec::Equations(spec), &description, dead_time, 0.4);
        for (name, miss) in misses(&options, &data) {
            // A corner of the law that is passed within the record has no derivative there.
            prop_assert!(miss < 1e-6 || law == 3, "{}: {} off by {:e}", law, name, miss);
        }
    }
}

/// A dead time of a whole number of samples: the input switches right at a sample, and still moves with the dead time. A lag, exactly:
/// x(t) = 1 − exp(−(t − θ)/τ), whose derivative by θ is −exp(−(t − θ)/τ)/τ.
#[test]
fn a_switch_right_at_a_sample_moves_with_the_dead_time() {
    let (tau, theta, interval, samples) = (7.0, 6.0, 2.0, 20);
    let equation = |name: &str, equals: &str| Equation { name: name.into(), equals: equals.into() };
    let spec = EquationsSpec {
        title: String::new(),
        states: vec![named("x", 0.0)],
        inputs: vec![named("u", 0.0)],
        parameters: vec![named("tau", tau)],
        definitions: Vec::new(),
        rates: vec![equation("x", "(u - x)/tau")],
        outputs: vec![OwnOutput { name: "y".into(), unit: String::new(), equals: "x".into() }],
    };
    let own = PhysicalOptions {
        process: DetailedSpec::Equations(spec),
        inputs: vec![MappedInput {
            input: "u".into(),
            tag: "u".into(),
            range: None,
            straight: false,
            dead_time: 0.0,
            rangeability: None,
        }],
        rest: Default::default(),
        outputs: vec![MappedOutput { output: "y".into(), tag: "y".into(), lag: 0.0, offset: 0.0 }],
        sought: vec![Sought { kind: SoughtKind::DeadTime, name: "u".into(), value: Some(theta), ..Sought::default() }],
        tied: Vec::new(),
        start: StartOfStates::Known,
        beginnings: 1,
    };
    let task: Task = own.task().unwrap();
    let steps = (0..samples).map(|k| f64::from(u8::from(k >= 2))).collect();
    let data = DataSet {
        axis: TimeAxis::uniform(interval, samples).unwrap(),
        inputs: vec![Series::new("u", "", steps)],
        outputs: vec![Series::new("y", "", vec![0.0; samples])],
    };
    let stretch = Stretch::new(&task, &data).unwrap();
    let at = At { sought: &[theta], states: &[0.0] };
    let mut seen = Vec::new();
    task.follow(&stretch, at, &(0..1), TIGHT, |_, shown, _, _| seen.push(shown[0])).unwrap();
    let arrives = 2.0 * interval + theta;
    for (k, value) in seen.iter().enumerate() {
        let since = interval * k as f64 - arrives;
        let (exact, slope) =
            if since > 0.0 { (1.0 - (-since / tau).exp(), -(-since / tau).exp() / tau) } else { (0.0, 0.0) };
        assert!((value.re - exact).abs() < 1e-9, "sample {k}: {} {exact}", value.re);
        assert!((derivatives(value)[0] - slope).abs() < 1e-8, "sample {k}: {} {slope}", derivatives(value)[0]);
    }
}

/// Searched from each beginning by itself, in another order, and told in text on the way, it is the same model to the last bit.
#[test]
fn a_divided_fit_is_the_fit_at_one_go() {
    let process = ProcessSpec::library("stirred_heater", &[]).build("°C").unwrap();
    let description = process.description().clone();
    let mut data = record(&description, 20.0, 160);
    let mut own = options(
        DetailedSpec::Library { process: "stirred_heater".to_owned(), parameters: Default::default() },
        &description,
        0.0,
        0.0,
    );
    own.sought = ["holdup", "loss"].map(|name| Sought { name: name.to_owned(), ..Sought::default() }).to_vec();
    own.beginnings = 5;
    // The PV as the process has it, and noise that is the same each time.
    let task = own.task().unwrap();
    let stretch = Stretch::new(&task, &data).unwrap();
    let states: Vec<f64> = description.states.iter().map(|state| state.value).collect();
    let (all, _) = followed(&task, &stretch, &[1.3 * 300.0, 0.5], &states);
    let shown = description.outputs.len();
    for (k, series) in data.outputs.iter_mut().enumerate() {
        for (i, value) in series.values.iter_mut().enumerate() {
            *value = all[i * shown + k] + 0.05 * (12.9898 * (i * shown + k) as f64).sin();
        }
    }
    let mut options = FitOptions::new(Structure::Physical);
    options.noise = NoiseModel::Autoregression;
    options.physical = Some(Box::new(own));
    let at_once = fit(&data, &options).unwrap();
    let divided = DividedFit::new(vec![data], options).unwrap();
    assert_eq!(divided.beginnings(), 5);
    let mut found: Vec<(usize, String)> =
        [3, 0, 4, 2, 1].map(|k| (k, serde_json::to_string(&divided.search(k)).unwrap())).to_vec();
    found.sort_by_key(|(k, _)| *k);
    let found: Vec<FoundFrom> = found.iter().map(|(_, text)| serde_json::from_str(text).unwrap()).collect();
    let least = found.iter().min_by(|a, b| a.squares.unwrap().total_cmp(&b.squares.unwrap())).unwrap();
    let so_far = least.so_far.as_ref().unwrap();
    assert!(so_far.fit > 90.0 && so_far.numbers.len() == 2, "{so_far:?}");
    let model = divided.model(found).unwrap();
    assert_eq!(serde_json::to_value(&model).unwrap(), serde_json::to_value(&at_once).unwrap());
    // Where nothing could be followed it says so, as at one go.
    let none = FoundFrom { squares: None, so_far: None, ..divided.search(0) };
    assert!(divided.model(vec![none; 5]).unwrap_err().to_string().contains("from any beginning"));
}
