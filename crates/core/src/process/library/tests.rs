use super::*;
use crate::process::{Rest, linearise, rests_at, steady_states};
use num_complex::Complex64;

fn process(name: &str, given: &[(&str, f64)]) -> LibraryProcess {
    LibraryProcess::new(name, &given.iter().map(|(name, value)| ((*name).to_owned(), *value)).collect()).unwrap()
}

fn usual_inputs(process: &LibraryProcess, given: &[(&str, f64)]) -> Vec<f64> {
    let given = given.iter().map(|(name, value)| ((*name).to_owned(), *value)).collect();
    process.description().inputs_with(&given, "inputs").unwrap()
}

#[test]
fn the_catalogue_is_complete_and_every_process_runs_at_its_usual_values() {
    for description in catalogue() {
        let process = process(&description.name, &[]);
        let values = |quantities: &[crate::process::Quantity]| quantities.iter().map(|q| q.value).collect::<Vec<_>>();
        let (x, u) = (values(&description.states), values(&description.inputs));
        let mut rates = vec![f64::NAN; x.len()];
        process.rates(&x, &u, Held::default(), &mut rates);
        let mut outputs = vec![f64::NAN; description.outputs.len()];
        process.outputs(&x, &u, Held::default(), &mut outputs);
        let mut terms = vec![f64::NAN; description.terms()];
        process.terms(&x, &u, Held::default(), &mut terms);
        for value in rates.iter().chain(&outputs).chain(&terms) {
            assert!(value.is_finite(), "{}", description.name);
        }
        for quantity in description.states.iter().chain(&description.inputs).chain(&description.parameters) {
            assert!(
                quantity.low <= quantity.value && quantity.value <= quantity.high,
                "{} {quantity:?}",
                description.name
            );
        }
        assert!(description.inputs.iter().any(|input| input.name == description.drive.input));
        assert!(!description.balances.is_empty());
    }
}

#[test]
fn terms_add_up_to_the_change_of_what_is_held() {
    // At random points: the contents' gradient along the rates against the sum of the terms with their signs.
    let mut noise = crate::instrument::Noise::new("points", 1);
    for description in catalogue() {
        let process = process(&description.name, &[]);
        for _ in 0..20 {
            let mut near = |q: &crate::process::Quantity| {
                (q.value * (0.5 + noise.uniform()) + 0.1 * noise.uniform()).clamp(q.low, q.high)
            };
            let x: Vec<f64> = description.states.iter().map(&mut near).collect();
            let u: Vec<f64> = description.inputs.iter().map(&mut near).collect();
            let mut rates = vec![0.0; x.len()];
            process.rates(&x, &u, Held::default(), &mut rates);
            let mut terms = vec![0.0; description.terms()];
            process.terms(&x, &u, Held::default(), &mut terms);
            // Contents are at most quadratic in the states: central differences along the rates are exact.
            let h = 1e-3 / rates.iter().map(|rate| rate.abs()).fold(1e-12, f64::max);
            let along = |sign: f64| {
                let moved: Vec<f64> = x.iter().zip(&rates).map(|(x, rate)| x + sign * h * rate).collect();
                let mut contents = vec![0.0; description.balances.len()];
                process.contents(&moved, &mut contents);
                contents
            };
            let (up, down) = (along(1.0), along(-1.0));
            let mut from = 0;
            for (k, balance) in description.balances.iter().enumerate() {
                let parts = &terms[from..from + balance.terms.len()];
                from += balance.terms.len();
                let sum: f64 = balance.terms.iter().zip(parts).map(|(term, value)| term.kind.sign() * value).sum();
                let size = parts.iter().map(|part| part.abs()).sum::<f64>() + 1e-9 * up[k].abs() / h;
                let change = (up[k] - down[k]) / (2.0 * h);
                assert!((change - sum).abs() < 1e-6 * size, "{} {}: {change} {sum}", description.name, balance.name);
            }
        }
    }
}

#[test]
fn the_stirred_reactor_has_three_steady_states() {
    // Seborg, Edgar & Mellichamp's parameters; states and eigenvalues recomputed with SciPy (reference values to the digits
    // given): (0.8773, 324.48 K), (0.5, 350.0 K), (0.2088, 369.7 K); at the middle one −0.454 and +2.834 1/min, at the hot one
    // 1.357 ± 1.540 j: a limit cycle about it.
    let reactor = process("stirred_reactor", &[]);
    let states = steady_states(&reactor, &usual_inputs(&reactor, &[]));
    assert_eq!(states.len(), 3, "{states:?}");
    for (state, (c, kelvin, stable)) in
        states.iter().zip([(0.2088, 369.7, false), (0.5, 350.0, false), (0.8773, 324.48, true)])
    {
        assert!(
            (state.state[0] - c).abs() < 1e-4 && (state.state[1] + ZERO_CELSIUS - kelvin).abs() < 0.05,
            "{state:?}"
        );
        assert_eq!(state.stable, stable);
    }
    let mut eigenvalues: Vec<f64> = states[1].eigenvalues.iter().map(|value| 60.0 * value.re).collect();
    eigenvalues.sort_by(f64::total_cmp);
    assert!((eigenvalues[0] + 0.454).abs() < 1e-3 && (eigenvalues[1] - 2.834).abs() < 1e-3, "{eigenvalues:?}");
}

#[test]
fn a_wanted_output_is_found_with_its_input() {
    let reactor = process("stirred_reactor", &[]);
    let rest = Rest { input: 0, output: 0, wanted: 350.0 - ZERO_CELSIUS };
    let found = rests_at(&reactor, &usual_inputs(&reactor, &[("coolant_temperature", 10.0)]), rest);
    assert_eq!(found.len(), 1);
    assert!((found[0].inputs[0] - (300.0 - ZERO_CELSIUS)).abs() < 0.01 && !found[0].stable, "{found:?}");
    // Van de Vusse: B has a maximum over the flow, so that below it two flows give the same B (analytic).
    let series = process("series_parallel_reactor", &[]);
    let two = rests_at(&series, &usual_inputs(&series, &[]), Rest { input: 0, output: 0, wanted: 1.0 });
    assert_eq!(two.len(), 2, "{two:?}");
}

#[test]
fn series_parallel_reactor_at_its_published_operating_point() {
    // F/V = 4/7 1/min gives a = 3 and b = 1.117 mol/L (Bequette; from memory, and by hand from the balances).
    let series = process("series_parallel_reactor", &[]);
    let state = &steady_states(&series, &usual_inputs(&series, &[]))[0];
    assert!((state.state[0] - 3.0).abs() < 1e-9 && (state.state[1] - 2.5 / (4.0 / 7.0 + 5.0 / 3.0)).abs() < 1e-9);
    // Beyond the maximum of B the product answers inversely: a zero in the right half plane.
    let beyond = usual_inputs(&series, &[("feed_flow", 30.0)]);
    let state = &steady_states(&series, &beyond)[0];
    let linear = linearise(&series, &state.state, &beyond).unwrap();
    let channel = linear.channels.iter().find(|c| c.input == "feed_flow" && c.output == "product").unwrap();
    assert!(channel.zeros[0].re > 0.0 && channel.gain.unwrap() > 0.0, "{channel:?}");
}

fn sorted(zeros: &[Complex64]) -> Vec<f64> {
    let mut real: Vec<f64> = zeros.iter().map(|zero| zero.re).collect();
    real.sort_by(f64::total_cmp);
    real
}

#[test]
#[allow(clippy::approx_constant, reason = "a pump gain of the paper that looks like π")]
fn four_tanks_have_their_published_levels_gains_and_zeros() {
    // Johansson (2000): minimum phase at k = 3.33, 3.35, γ = 0.70, 0.60; zeros recomputed at the paper's rounded levels:
    // −0.058 and −0.0172 (the paper prints −0.060, −0.018). Gains of G₋, with 0.5 V/cm: 2.6, 1.5; 1.4, 2.8.
    let tanks = process("four_tanks", &[]);
    let inputs = usual_inputs(&tanks, &[]);
    let state = &steady_states(&tanks, &inputs)[0];
    for (level, printed) in state.state.iter().zip([12.4, 12.7, 1.8, 1.4]) {
        assert!((level - printed).abs() < 0.2, "{:?}", state.state);
    }
    let linear = linearise(&tanks, &[12.4, 12.7, 1.8, 1.4], &inputs).unwrap();
    let zeros = sorted(&linear.zeros);
    assert!(zeros.len() == 2 && (zeros[0] + 0.058).abs() < 5e-4 && (zeros[1] + 0.0172).abs() < 5e-5, "{zeros:?}");
    let gain = |input: &str, output: &str| {
        let channel = linear.channels.iter().find(|c| c.input == input && c.output == output).unwrap();
        0.5 * channel.gain.unwrap()
    };
    for (input, output, printed) in
        [("pump_1", "level_1", 2.6), ("pump_2", "level_1", 1.5), ("pump_1", "level_2", 1.4), ("pump_2", "level_2", 2.8)]
    {
        assert!((gain(input, output) - printed).abs() < 0.06, "{input} {output} {}", gain(input, output));
    }
    // Non-minimum phase: zeros −0.0562 and +0.0128 (the paper: −0.057, 0.013).
    let crossed =
        process("four_tanks", &[("pump_gain_1", 3.14), ("pump_gain_2", 3.29), ("split_1", 0.43), ("split_2", 0.34)]);
    let linear = linearise(&crossed, &[12.6, 13.0, 4.8, 4.9], &[3.15, 3.15]).unwrap();
    let zeros = sorted(&linear.zeros);
    assert!((zeros[0] + 0.0562).abs() < 2e-4 && (zeros[1] - 0.0128).abs() < 2e-4, "{zeros:?}");
}

#[test]
fn the_exchanger_comes_to_the_effectiveness_of_counter_current_flow() {
    // With 50 cells near the textbook formula ε = (1 − e^{−N(1−C)})/(1 − C e^{−N(1−C)}) (effectiveness–NTU method).
    let exchanger = process("heat_exchanger", &[("cells", 50.0)]);
    let inputs = usual_inputs(&exchanger, &[("hot_flow", 12.0), ("cold_flow", 10.0)]);
    let state = &steady_states(&exchanger, &inputs)[0];
    let (hot, cold) = (12.0 / 3.6 * 4.2, 10.0 / 3.6 * 4.0);
    let (n, c) = (18.0 / cold, cold / hot);
    let pull = f64::exp(-n * (1.0 - c));
    let effectiveness = (1.0 - pull) / (1.0 - c * pull);
    let found = (state.outputs[0] - 15.0) / (95.0 - 15.0);
    assert!((found - effectiveness).abs() < 0.012, "{found} {effectiveness}");
}

#[test]
fn linearisation_gives_transfer_functions_and_step_responses() {
    // Two bodies: linear, so that its poles and gains follow by hand.
    let bodies = process("two_bodies", &[]);
    let inputs = usual_inputs(&bodies, &[]);
    let linear = linearise(&bodies, &[60.0, 50.0], &inputs).unwrap();
    let [c1, c2, k, l1, l2] = take(bodies.parameters());
    let (a, b, d) = ((k + l1) / c1, (k + l2) / c2, k * k / (c1 * c2));
    let channel = linear.channels.iter().find(|c| c.input == "power" && c.output == "body_temperature").unwrap();
    for (found, expected) in channel.denominator.iter().zip([1.0, a + b, a * b - d]) {
        assert!((found / expected - 1.0).abs() < 1e-6, "{channel:?}");
    }
    assert!((channel.gain.unwrap() / (k / (c1 * c2) / (a * b - d)) - 1.0).abs() < 1e-6);
    assert!(channel.zeros.is_empty() && (channel.step_response[399] / channel.gain.unwrap() - 1.0).abs() < 3e-3);
}

#[test]
fn what_cannot_be_is_named() {
    let refused = |name: &str, given: &[(&str, f64)]| {
        let given = given.iter().map(|(name, value)| ((*name).to_owned(), *value)).collect();
        LibraryProcess::new(name, &given).err().unwrap().to_string()
    };
    assert_eq!(
        refused("upright_tank", &[("area", -2.0)]),
        "The area of the process is -2 m²: it must be 0.001 to 1000000 m²."
    );
    assert!(refused("upright_tank", &[("aria", 2.0)]).contains("There is no parameter “aria”; there are area"));
    assert!(refused("tank", &[]).contains("There is no process “tank”; there are upright tank, lying tank"));
    let mut exchanger = process("heat_exchanger", &[]);
    assert!(exchanger.set_parameter(0, 5.0).unwrap_err().to_string().contains("number of states"));
}
