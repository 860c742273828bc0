//! Proofs against counts and figures made outside, analytic values, and the trials that they are made of.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use antistasis_core::controller::{ControllerSpec, PidSettings};
use antistasis_core::process::{LinearSpec, ProcessSpec};
use antistasis_core::proof::{
    Changes, Contender, Criterion, Disturbance, Figure, PROOF_VERSION, ParameterRange, Proof, ProofResult, ProvenTrial,
    Proving, ProvingSet, Uncertainty, figure_offers, propose_set, prove,
};
use antistasis_core::simulation::{
    Candidate, ColumnRole, Event, OperatingPoint, Plant, Signal, Simulation, Trial, Wire,
};
use antistasis_core::tuning::{ControllerKind, SimcChoice, begin_on_plant, begin_with};
use antistasis_core::units::Span;
use antistasis_core::verdict::Tone;
use proptest::prelude::*;

/// Made by `reference/proof.py` with NumPy and SciPy's `solve_ivp`.
const REFERENCE: &str = include_str!("../../../reference/data/proof.json");

fn plant(gain: f64, time_constant: f64, dead_time: f64) -> Plant {
    let signal = |tag: &str, unit: &str| Signal { tag: tag.to_owned(), span: Span::new(0.0, 100.0, unit) };
    let process = LinearSpec::Fopdt { gain, time_constant, dead_time };
    Plant::plain(process, signal("TIC-1.PV", "°C"), signal("TIC-1.OP", "%"), OperatingPoint::new(50.0, 50.0))
}

fn contender(name: &str, gain: f64, integral_time: f64) -> Contender {
    let candidate = Candidate::new(ControllerSpec::Pid(PidSettings::pi(gain, integral_time)));
    Contender { name: name.to_owned(), candidate, scan: None }
}

fn load(name: &str, at: f64, by: f64, duration: f64, criteria: Vec<Criterion>) -> Disturbance {
    Disturbance {
        name: name.to_owned(),
        reason: String::new(),
        duration,
        events: vec![Event::load(at, by)],
        further: Default::default(),
        changes: Changes::default(),
        criteria,
    }
}

fn range(parameter: &str, low: f64, high: f64) -> ParameterRange {
    ParameterRange { parameter: parameter.to_owned(), low, high }
}

fn proof(candidates: Vec<Contender>, disturbances: Vec<Disturbance>, uncertainty: Uncertainty) -> Proof {
    Proof {
        version: PROOF_VERSION,
        plant: plant(1.2, 20.0, 8.0),
        scan: 1.0,
        candidates,
        compared_with: None,
        set: ProvingSet { name: "loads".to_owned(), note: String::new(), disturbances },
        uncertainty,
        seed: 1,
    }
}

/// The proof that the reference was made for.
fn counted(plants: usize) -> (Proof, serde_json::Value) {
    let reference: serde_json::Value = serde_json::from_str(REFERENCE).unwrap();
    let number = |path: &str| reference.pointer(path).and_then(serde_json::Value::as_f64).unwrap();
    let criteria = vec![
        Criterion::at_most(Figure::LargestDeviation {}, number("/limits/largest_deviation")),
        Criterion::at_most(Figure::RecoveryTime { band: number("/band") }, number("/limits/recovery_time")),
    ];
    let candidates = ["calm", "brisk"].map(|name| {
        let of = |part: &str| number(&format!("/candidates/{name}/{part}"));
        contender(name, of("gain"), of("integral_time"))
    });
    let ends = |name: &str| [0, 1].map(|k| number(&format!("/ranges/{name}/{k}")));
    let ranges = ["gain", "time_constant", "dead_time"].map(|name| range(name, ends(name)[0], ends(name)[1]));
    let disturbance = load("load", number("/at"), number("/load"), number("/duration"), criteria);
    let uncertainty = Uncertainty::Ranges { plants, ranges: ranges.to_vec() };
    (proof(candidates.to_vec(), vec![disturbance], uncertainty), reference)
}

fn figure(result: &ProofResult, row: usize, column: usize, is: Figure) -> usize {
    assert!(column < result.candidates.len());
    result.rows[row].criteria.iter().position(|one| one.criterion.figure == is).unwrap()
}

#[test]
fn figures_are_those_of_an_outside_integrator_and_of_theory() {
    let (proof, reference) = counted(2);
    let result = prove(&proof).unwrap();
    for (column, name) in ["calm", "brisk"].into_iter().enumerate() {
        let wanted = |part: &str| reference["candidates"][name][part].as_f64().unwrap();
        let value = |is: Figure| result.cells[0][column].figures[figure(&result, 0, column, is)].own.unwrap();
        let deviation = value(Figure::LargestDeviation {});
        assert!((deviation - wanted("largest_deviation")).abs() < 1e-8 * deviation, "{name}: {deviation}");
        assert!((deviation - wanted("peak_by_solve_ivp")).abs() < 1e-8 * deviation);
        let back = value(Figure::RecoveryTime { band: 0.5 });
        assert!((back - wanted("recovery_time")).abs() < 1e-6 * back, "{name}: {back}");
        let travel = value(Figure::OutputTravel {});
        assert!((travel - wanted("output_travel")).abs() < 1e-8 * travel, "{name}: {travel}");
    }
    // ∫e = Ti/Kc·Δd; where the PV never goes to the other side that is the integral of |e| (Seborg, Edgar & Mellichamp).
    let settings = reference["candidates"]["calm"].clone();
    let theory = 10.0 * settings["integral_time"].as_f64().unwrap() / settings["gain"].as_f64().unwrap();
    let own = result.cells[0][0].figures[figure(&result, 0, 0, Figure::IntegralAbsoluteError {})].own.unwrap();
    assert!((own - theory).abs() < 2e-3 * theory, "{own} is not {theory}");
}

#[test]
fn shares_lie_within_their_interval_of_a_count_made_outside() {
    let (proof, reference) = counted(400);
    let result = prove(&proof).unwrap();
    for (column, name) in ["calm", "brisk"].into_iter().enumerate() {
        let truth = reference["candidates"][name]["share"].as_f64().unwrap();
        let share = result.shares[column].as_ref().unwrap();
        assert!((share.interval[0]..=share.interval[1]).contains(&truth), "{name}: {share:?} without {truth}");
        // One disturbance: its share is that of the whole.
        assert_eq!(result.cells[0][column].share.as_ref(), Some(share));
        let spread = &result.cells[0][column].figures[0];
        for (k, place) in [1, 10, 19].into_iter().enumerate() {
            let wanted = reference["candidates"][name]["quantiles_of_deviation"][k].as_f64().unwrap();
            assert!((spread.quantiles[place] - wanted).abs() < 0.04 * wanted, "{name} {k}");
        }
        assert!(spread.quantiles.is_sorted());
    }
    // What parts plants that pass from plants that fail is the gain or the dead time, and is said with a figure.
    let cause = result.verdicts.iter().find(|verdict| verdict.verdict.text.contains("fails where"));
    assert!(
        cause.is_none_or(|cause| cause.verdict.text.contains("dead time") || cause.verdict.text.contains("gain")),
        "{cause:?}"
    );
}

#[test]
fn a_cell_is_the_trial_that_it_names() {
    let (proof, _) = counted(40);
    let result = prove(&proof).unwrap();
    for column in 0..2 {
        let cell = &result.cells[0][column];
        let trial = proof.trial_of_cell(0, column, cell.worst_plant).unwrap();
        let trace = trial.run().unwrap();
        let pv = trace.values(ColumnRole::TrueValue);
        let pv = if pv.is_empty() { trace.values(ColumnRole::ProcessVariable) } else { pv };
        let largest = pv.iter().map(|value| (value - 50.0).abs()).fold(0.0, f64::max);
        // The worst of this candidate is worst by one of the two figures.
        let (deviation, back) = (&cell.figures[0], &cell.figures[1]);
        let by_deviation = (largest - deviation.quantiles[20]).abs() < 1e-9;
        assert!(by_deviation || back.never > 0 || largest <= deviation.quantiles[20], "{column}: {largest}");
        let own = proof.trial_of_cell(0, column, None).unwrap();
        assert_eq!(own.plant, proof.plant);
    }
    let error = proof.trial_of_cell(0, 0, Some(40)).unwrap_err();
    assert_eq!(error.field(), Some("plant"));
}

#[test]
fn candidates_meet_the_same_plants_whoever_is_beside_them() {
    let (both, _) = counted(30);
    let mut alone = both.clone();
    alone.candidates.remove(0);
    let (with, without) = (prove(&both).unwrap(), prove(&alone).unwrap());
    assert_eq!(with.drawn, without.drawn);
    assert_eq!(with.cells[0][1].share, without.cells[0][0].share);
    for (a, b) in with.cells[0][1].figures.iter().zip(&without.cells[0][0].figures) {
        assert_eq!((a.own, &a.quantiles), (b.own, &b.quantiles));
    }
    // Paired, so that a difference is sharper than the spread of either.
    let difference = with.cells[0][1].figures[0].difference.clone().unwrap();
    let quantiles = &with.cells[0][1].figures[0].quantiles;
    assert!(difference.interval[1] - difference.interval[0] < 0.2 * (quantiles[19] - quantiles[1]));
    assert!(difference.mean < 0.0 && difference.smaller == 30, "{difference:?}");
    assert_eq!(prove(&both).unwrap(), with, "the same proof gives the same table");
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(12))]

    /// Run one by one in any order, and carried from one machine to another as text, the trials make the same table to the last bit.
    #[test]
    fn a_proof_in_pieces_is_the_proof(order in Just((0..2 * 2 * 8).collect::<Vec<usize>>()).prop_shuffle(), by in -30.0..30.0f64) {
        let disturbances = vec![
            load("up", 10.0, by, 300.0, vec![Criterion::at_most(Figure::LargestDeviation {}, 9.0)]),
            load("at once", 0.0, -by / 3.0, 200.0, Vec::new()),
        ];
        let ranges = vec![range("gain", 0.9, 4.0), range("dead_time", 4.0, 12.0)];
        // The second runs away on plants of high gain: what never comes back goes from machine to machine as well.
        let candidates = vec![contender("calm", 0.8, 20.0), contender("wild", 2.0, 6.0)];
        let proof = proof(candidates, disturbances, Uncertainty::Ranges { ranges, plants: 7 });
        let proving = Proving::new(proof.clone()).unwrap();
        prop_assert_eq!(proving.trials(), order.len());
        let mut pieces: Vec<(usize, String)> =
            order.iter().map(|trial| (*trial, serde_json::to_string(&proving.run(*trial)).unwrap())).collect();
        pieces.sort();
        let trials: Vec<ProvenTrial> = pieces.iter().map(|(_, text)| serde_json::from_str(text).unwrap()).collect();
        let text = |result: &ProofResult| serde_json::to_string(result).unwrap();
        prop_assert_eq!(text(&proving.table(&trials).unwrap()), text(&prove(&proof).unwrap()));
        prop_assert!(proving.table(&trials[1..]).is_err(), "one is missing");
    }
}

#[test]
fn a_cause_is_named_where_one_number_tells() {
    let criteria = vec![Criterion::at_most(Figure::LargestDeviation {}, 5.3)];
    let uncertainty = Uncertainty::Ranges {
        plants: 120,
        ranges: vec![range("dead_time", 6.0, 11.0), range("time_constant", 19.9, 20.1)],
    };
    let result =
        prove(&proof(vec![contender("A", 1.7, 16.0)], vec![load("load", 20.0, 10.0, 300.0, criteria)], uncertainty))
            .unwrap();
    let cause = result.verdicts.iter().find(|verdict| verdict.verdict.text.contains("fails where")).unwrap();
    assert!(cause.verdict.text.starts_with("A fails where the dead time is above 8."), "{}", cause.verdict.text);
    assert!(cause.verdict.text.contains("% of what it is taken to be"), "{}", cause.verdict.text);
    // The largest deviation of a load rises with the dead time alone here: the cut is clean.
    assert!(
        cause.verdict.text.ends_with(" 0 of 49 elsewhere.") || cause.verdict.text.contains(" 0 of "),
        "{}",
        cause.verdict.text
    );
}

fn first_verdict(result: &ProofResult) -> &str {
    &result.verdicts[0].verdict.text
}

#[test]
fn verdicts_count_what_has_limits_and_no_other() {
    let most = |most: f64| vec![Criterion::at_most(Figure::LargestDeviation {}, most)];
    let two = |first: Vec<Criterion>, second: Vec<Criterion>| {
        let both = vec![load("up", 20.0, 10.0, 300.0, first), load("down", 20.0, -10.0, 300.0, second)];
        prove(&proof(vec![contender("A", 1.7, 16.0)], both, Uncertainty::None)).unwrap()
    };
    let result = two(most(100.0), most(100.0));
    assert_eq!((result.limited, &result.kept), (2, &vec![2]));
    assert!(first_verdict(&result).starts_with("A keeps every limit under all 2 disturbances on the plant"));
    // What has no limit is neither kept nor missed.
    let result = two(most(100.0), vec![]);
    assert_eq!((result.limited, &result.kept, &result.holds), (1, &vec![1], &vec![Some(true)]));
    assert!(first_verdict(&result).starts_with("A keeps every limit under the disturbance that has one on the plant"));
    let result = two(most(0.1), vec![]);
    assert_eq!((result.limited, &result.kept, &result.holds), (1, &vec![0], &vec![Some(false)]));
    assert!(first_verdict(&result).ends_with("A comes nearest: under 0 of 1 disturbances with limits."));
    let result = two(vec![], vec![]);
    assert_eq!((result.limited, &result.kept, &result.holds), (0, &vec![0], &vec![None]));
    assert!(first_verdict(&result).starts_with("No figure has a limit") && result.verdicts.len() == 1);
    assert_eq!(result.verdicts[0].candidate, None, "it is about the proof, not about a candidate");
}

/// On a plant of less gain than it is taken to have, what is too much for the plant as it is serves best.
#[test]
fn the_best_over_the_plants_is_not_said_to_hold_where_only_another_does() {
    let back = Figure::RecoveryTime { band: 1.0 };
    let proved = |most: Option<f64>| {
        let criterion = Criterion { most, ..Criterion::at_most(back.clone(), 0.0) };
        let uncertainty = Uncertainty::Ranges { plants: 20, ranges: vec![range("gain", 0.4, 0.6)] };
        let both = vec![contender("soft", 0.5, 20.0), contender("fierce", 4.2, 40.0)];
        prove(&proof(both, vec![load("load", 20.0, 10.0, 600.0, vec![criterion])], uncertainty)).unwrap()
    };
    let figures = |column: usize| proved(None).cells[0][column].figures[0].clone();
    let (soft, fierce) = (figures(0), figures(1));
    // By the theory of the loop (ultimate gain 3.83 at a gain of 1.2): fierce never comes back on the plant as it is.
    assert!(fierce.own.is_none() && fierce.quantiles[20] < soft.own.unwrap(), "{fierce:?}");
    assert!(soft.own.unwrap() < soft.quantiles[0], "{soft:?}");
    let result = proved(Some(f64::midpoint(soft.own.unwrap(), soft.quantiles[0])));
    assert_eq!((&result.holds, &result.order), (&vec![Some(true), Some(false)], &vec![1, 0]));
    assert_eq!(
        first_verdict(&result),
        "fierce keeps every limit on 20 of 20 plants that it may be, more than any other, but not on the plant as it is: there \
         soft does."
    );
    assert_eq!(result.verdicts[0].candidate, Some(1));
}

#[test]
fn what_is_stopped_or_cannot_be_tried_fails_and_says_why() {
    let criteria = || vec![Criterion::at_most(Figure::LargestDeviation {}, 100.0)];
    let mut at_another = load("at a loop that is not there", 20.0, 5.0, 200.0, criteria());
    at_another.further.insert("LIC-9".to_owned(), vec![Event::set_point(5.0, 1.0)]);
    let wild = load("load", 20.0, 10.0, 4000.0, criteria());
    let pid = PidSettings {
        output_limits: antistasis_core::controller::OutputLimits { low: -1000.0, high: 1000.0 },
        ..PidSettings::pi(40.0, 5.0)
    };
    let wild_one =
        Contender { name: "wild".to_owned(), candidate: Candidate::new(ControllerSpec::Pid(pid)), scan: None };
    let result = prove(&proof(vec![contender("A", 0.9, 20.0), wild_one], vec![at_another, wild], Uncertainty::None));
    let result = result.unwrap();
    assert!(result.cells[0][0].trouble.as_ref().unwrap().contains("LIC-9"), "{:?}", result.cells[0][0]);
    assert_eq!(result.cells[0][0].holds, Some(false));
    assert_eq!(result.cells[1][0].holds, Some(true));
    assert_eq!(result.cells[1][1].holds, Some(false));
    assert!(result.cells[1][1].figures[0].own.unwrap() > 100.0);
    assert_eq!(result.holds, [Some(false), Some(false)]);
    assert_eq!(result.verdicts[0].verdict.tone, Tone::Bad);
    // Without limits there is no verdict about passing.
    let none = load("load", 20.0, 10.0, 200.0, vec![]);
    let result = prove(&proof(vec![contender("A", 0.9, 20.0)], vec![none], Uncertainty::None)).unwrap();
    assert_eq!((result.holds[0], result.cells[0][0].holds), (None, None));
    assert!(result.verdicts[0].verdict.text.contains("No figure has a limit"));
    assert_eq!(result.cells[0][0].figures.len(), 3);
}

#[test]
fn a_proof_that_cannot_be_is_refused_at_its_field() {
    let good = || counted(2).0;
    let refused = |change: &dyn Fn(&mut Proof)| {
        let mut proof = good();
        change(&mut proof);
        let error = prove(&proof).unwrap_err();
        (error.field().unwrap_or_default().to_owned(), error.to_string())
    };
    type Change<'a> = (&'static str, &'a dyn Fn(&mut Proof));
    let cases: [Change; 15] = [
        ("version", &|proof| proof.version = 2),
        ("scan", &|proof| proof.scan = 0.0),
        ("candidates", &|proof| proof.candidates.clear()),
        ("candidates[1].name", &|proof| proof.candidates[1].name = "calm".to_owned()),
        ("candidates[0].name", &|proof| proof.candidates[0].name = " ".to_owned()),
        ("candidates[1].scan", &|proof| proof.candidates[1].scan = Some(-1.0)),
        ("compared_with", &|proof| proof.compared_with = Some("C".to_owned())),
        ("set.disturbances", &|proof| proof.set.disturbances.clear()),
        ("set.disturbances[0].duration", &|proof| proof.set.disturbances[0].duration = f64::NAN),
        ("set.disturbances[0].criteria[0].most", &|proof| proof.set.disturbances[0].criteria[0].most = Some(-1.0)),
        ("set.disturbances[0].changes.stick", &|proof| proof.set.disturbances[0].changes.stick = Some(80.0)),
        ("set.disturbances[0].criteria[0].of", &|proof| {
            proof.set.disturbances[0].criteria[0].of = Some("a loop of nobody".to_owned());
        }),
        ("candidates[1].candidate.sets[0].to", &|proof| {
            proof.candidates[1].candidate.sets = vec![Wire { to: "no such OP".to_owned(), range: None, select: None }];
        }),
        ("uncertainty.plants", &|proof| {
            // Each is allowed by itself, but not all of them together.
            let one = proof.set.disturbances[0].clone();
            let named = |k: usize| Disturbance { name: format!("disturbance {k}"), ..one.clone() };
            proof.set.disturbances = (0..40).map(named).collect();
            proof.uncertainty = Uncertainty::Ranges { plants: 5000, ranges: vec![range("gain", 1.0, 2.0)] };
        }),
        ("uncertainty.plants", &|proof| {
            proof.uncertainty = Uncertainty::Ranges { plants: 1_000_000, ranges: vec![range("gain", 1.0, 2.0)] };
        }),
    ];
    for (field, change) in cases {
        let (found, text) = refused(change);
        assert_eq!(found, field, "{text}");
    }
    let (field, text) = refused(&|proof| proof.set.disturbances[0].events[0] = Event::load(-5.0, 1.0));
    assert!(field.starts_with("set.disturbances[0].events[0]"), "{field}: {text}");
    let (field, text) = refused(&|proof| {
        let ControllerSpec::Pid(pid) = &mut proof.candidates[1].candidate.controller else { panic!() };
        pid.gain = f64::NAN;
    });
    assert!(field.starts_with("candidates[1].candidate.controller"), "{field}: {text}");
}

/// A trial on a plant with settings that SIMC gives.
fn begun(process: ProcessSpec) -> Trial {
    let plant = Plant::usual(process, "T").unwrap();
    begin_on_plant(&plant, &SimcChoice::default()).unwrap().trial
}

fn proposed(trial: &Trial, candidates: Vec<Contender>) -> Proof {
    Proof {
        version: PROOF_VERSION,
        plant: trial.plant.clone(),
        scan: trial.scenario.scan,
        candidates,
        compared_with: None,
        set: propose_set(trial).unwrap(),
        uncertainty: Uncertainty::None,
        seed: 7,
    }
}

fn with_gain(trial: &Trial, name: &str, factor: f64, integral: f64) -> Contender {
    let mut candidate = trial.candidate.clone();
    let ControllerSpec::Pid(pid) = &mut candidate.controller else { panic!("no PID") };
    pid.gain *= factor;
    pid.integral_time = pid.integral_time.map(|time| time * integral);
    Contender { name: name.to_owned(), candidate, scan: None }
}

#[test]
fn the_proposed_set_finds_what_is_weak_and_lets_pass_what_is_sound() {
    let fopdt = LinearSpec::Fopdt { gain: 1.2, time_constant: 20.0, dead_time: 8.0 };
    for process in [ProcessSpec::from(fopdt), ProcessSpec::library("stirred_heater", &[])] {
        let trial = begun(process);
        let mut no_integral = with_gain(&trial, "without integral action", 1.0, 1.0);
        if let ControllerSpec::Pid(pid) = &mut no_integral.candidate.controller {
            pid.integral_time = None;
        }
        let all = vec![
            with_gain(&trial, "as tuned", 1.0, 1.0),
            with_gain(&trial, "a fifth of the gain", 0.2, 1.0),
            with_gain(&trial, "twice and a half", 2.5, 0.5),
            no_integral,
        ];
        let result = prove(&proposed(&trial, all)).unwrap();
        let why = |column: usize| -> Vec<&str> {
            let rows = result.rows.iter().zip(&result.cells);
            rows.filter(|(_, cells)| cells[column].holds == Some(false)).map(|(row, _)| row.name.as_str()).collect()
        };
        assert!(result.holds[0] == Some(true), "{:?}", why(0));
        let verdicts: Vec<&str> = result.verdicts.iter().map(|told| told.verdict.text.as_str()).collect();
        assert!(verdicts[0].starts_with("as tuned keeps every limit"), "{verdicts:#?}");
        for column in 1..4 {
            assert_eq!(result.holds[column], Some(false), "{}", result.candidates[column]);
            let says = format!("{} fails under", result.candidates[column]);
            assert!(verdicts.iter().any(|text| text.starts_with(&says)), "{verdicts:#?}");
        }
        // Too little gain lets loads through; too much is found by swinging and by noise; no integral action never comes back.
        assert!(why(1).iter().any(|name| name.starts_with("load +")), "{:?}", why(1));
        assert!(why(2).iter().any(|name| name.starts_with("noise")), "{:?}", why(2));
        let never = result.cells.iter().flat_map(|row| row[3].figures.iter()).any(|figure| figure.own.is_none());
        assert!(never, "{:?}", why(3));
        // Each item says why it is there, and the set where its limits come from.
        let set = propose_set(&trial).unwrap();
        assert!(set.disturbances.iter().all(|one| !one.reason.is_empty()));
        assert!(set.note.contains("1.5 times what settings by SIMC, τc = "), "{}", set.note);
    }
}

/// A trial of the demo, with the candidate under its own scan.
fn demo(name: &str) -> (Trial, Contender) {
    let path = format!("{}/../../demo/trials/{name}.json", env!("CARGO_MANIFEST_DIR"));
    let trial: Trial = serde_json::from_str(&std::fs::read_to_string(path).unwrap()).unwrap();
    let own = Contender { name: name.to_owned(), candidate: trial.candidate.clone(), scan: None };
    (trial, own)
}

#[test]
fn what_plans_ahead_and_what_is_paired_otherwise_gets_a_set_on_its_own_scan() {
    for name in ["AIC-320-predictive", "AIC-320-step-test", "TIC-501-predictive"] {
        let (trial, own) = demo(name);
        let mut proof = proposed(&trial, vec![own]);
        assert!(proof.set.disturbances.len() >= 8, "{name}: {}", proof.set.disturbances.len());
        let limited = |one: &&Disturbance| one.criteria.iter().any(|criterion| criterion.most.is_some());
        assert!(proof.set.disturbances.iter().filter(limited).count() >= 8, "{name}");
        // What was proposed for it can be tried on it.
        proof.set.disturbances.truncate(1);
        let result = prove(&proof).unwrap();
        assert_eq!(result.cells[0][0].trouble, None, "{name}");
    }
}

#[test]
fn controllers_of_every_kind_meet_one_set() {
    let trial = begun(ProcessSpec::from(LinearSpec::Fopdt { gain: 1.2, time_constant: 20.0, dead_time: 8.0 }));
    let kinds = [ControllerKind::Pid, ControllerKind::Smith, ControllerKind::SelfTuning, ControllerKind::Predictive];
    let candidates = kinds.map(|kind| {
        let begun = begin_with(kind, &trial).unwrap();
        let mut candidate = Candidate::new(begun.controller.clone());
        candidate.sets.clone_from(&begun.sets);
        candidate.further.clone_from(&begun.further);
        Contender { name: format!("{kind:?}"), candidate, scan: None }
    });
    let result = prove(&proposed(&trial, candidates.to_vec())).unwrap();
    for row in &result.cells {
        for cell in row {
            assert!(cell.trouble.is_none(), "{cell:?}");
        }
    }
    // Behind dead time a predictor bears a load step no worse than the PI that limits are taken from.
    assert_eq!(result.holds[0], Some(true));
}

/// The blend of the demo: two signals, two valves, and a predictive controller over both.
const BLEND: &str = include_str!("../../../demo/trials/AIC-320-predictive.json");

#[test]
fn several_loops_are_held_against_each_others_disturbances() {
    let of_demo: Trial = serde_json::from_str(BLEND).unwrap();
    // Pairs are wired by the plant's own order of signals: what is held beside them is set up on the same.
    let pairs = begin_on_plant(&of_demo.plant, &SimcChoice::default()).unwrap().trial;
    let begun = begin_with(ControllerKind::Predictive, &pairs).unwrap();
    let mut predictive = Candidate::new(begun.controller);
    (predictive.sets, predictive.further) = (begun.sets, begun.further);
    let other = pairs.candidate.further[0].name.clone();
    let mut set = propose_set(&pairs).unwrap();
    let of_other = set.disturbances.iter().find(|one| one.further.contains_key(&other)).unwrap();
    assert!(of_other.criteria.iter().filter(|one| one.of.as_ref() == Some(&other)).count() == 2, "{of_other:?}");
    // Every load is looked at from both loops.
    assert!(set.disturbances[0].criteria.iter().any(|one| one.of.is_some() && one.most.is_some()));
    set.disturbances.retain(|one| one.name == "load +10 %, step" || one.further.contains_key(&other));
    let proof = Proof {
        version: PROOF_VERSION,
        scan: 2.0,
        candidates: vec![
            Contender { name: "PI pairs".into(), candidate: pairs.candidate, scan: Some(pairs.scenario.scan) },
            Contender { name: "predictive".into(), candidate: predictive, scan: Some(begun.scenario.scan) },
        ],
        compared_with: Some("PI pairs".into()),
        set,
        uncertainty: Uncertainty::None,
        seed: 1,
        plant: pairs.plant,
    };
    let result = prove(&proof).unwrap();
    assert!(result.cells.iter().flatten().all(|cell| cell.trouble.is_none()), "{result:?}");
    let told = result.rows.iter().flat_map(|row| &row.criteria).find(|one| one.criterion.of.is_some()).unwrap();
    let signal = proof.plant.further_measured.iter().find(|signal| signal.tag.starts_with(&other)).unwrap();
    assert_eq!(told.title, format!("largest deviation of {other}"));
    assert_eq!(told.unit, signal.span.unit);
}

#[test]
fn energy_counts_where_the_process_has_balances() {
    let trial = begun(ProcessSpec::library("stirred_heater", &[]));
    let used = |term: &str| Criterion::shown(Figure::Used { balance: "energy".to_owned(), term: term.to_owned() });
    let description = trial.plant.describe().unwrap();
    let energy = description.balances.iter().find(|balance| balance.name == "energy").unwrap();
    let criteria: Vec<Criterion> = energy.terms.iter().map(|term| used(&term.name)).collect();
    let mut proof = proposed(&trial, vec![with_gain(&trial, "A", 1.0, 1.0)]);
    proof.set.disturbances = vec![load("load", 10.0, 5.0, 600.0, criteria)];
    let result = prove(&proof).unwrap();
    // The sheet of the trial itself says the same.
    let of_cell = proof.trial_of_cell(0, 0, None).unwrap();
    let trace = Simulation::with_balances(&of_cell).unwrap().run();
    let sheet = trace.balances.iter().find(|sheet| sheet.name == "energy").unwrap();
    assert!(sheet.terms.len() > 1);
    for (k, term) in sheet.terms.iter().enumerate() {
        assert_eq!(result.cells[0][0].figures[k].own, Some(term.amount.abs()), "{}", term.name);
        assert_eq!(result.rows[0].criteria[k].unit, energy.unit);
    }
    // A term that the process does not have is refused before anything runs.
    proof.set.disturbances[0].criteria[0] = used("nothing of that name");
    let error = prove(&proof).unwrap_err();
    assert_eq!(error.field(), Some("set.disturbances[0].criteria[0].figure.term"), "{error}");
    assert!(error.to_string().contains(&energy.terms[0].name), "{error}");
}

#[test]
fn what_can_be_asked_for_is_offered_in_the_words_of_the_plant() {
    let plain = figure_offers(&plant(1.2, 30.0, 8.0)).unwrap();
    assert_eq!(plain.len(), 8, "a process without balances uses nothing: {plain:?}");
    let heater = begun(ProcessSpec::library("stirred_heater", &[]));
    let offers = figure_offers(&heater.plant).unwrap();
    assert_eq!(offers.len(), 9);
    // Each of them can be measured as it is offered.
    let mut proof = proposed(&heater, vec![with_gain(&heater, "A", 1.0, 1.0)]);
    let criteria = offers.into_iter().map(|offer| offer.criterion).collect();
    proof.set.disturbances = vec![load("load", 10.0, 5.0, 600.0, criteria)];
    let result = prove(&proof).unwrap();
    assert_eq!(result.cells[0][0].trouble, None);
    assert!(result.rows[0].criteria.iter().all(|told| !told.title.is_empty()));
    assert_eq!(result.limited, 0);
}

/// A proof and its table as they were written by version 1 of the document.
const OLD: &str = include_str!("documents/proof-1/ranges.json");

#[test]
fn an_old_proof_opens_and_gives_the_same_table() {
    let old: serde_json::Value = serde_json::from_str(OLD).unwrap();
    let proof: Proof = serde_json::from_value(old["proof"].clone()).unwrap();
    let then: ProofResult = serde_json::from_value(old["result"].clone()).unwrap();
    let now = prove(&proof).unwrap();
    assert_eq!((&now.order, &now.holds, &now.candidates), (&then.order, &then.holds, &then.candidates));
    let near = |a: f64, b: f64| (a - b).abs() <= 1e-9 * (1.0 + b.abs());
    for (now, then) in now.cells.iter().flatten().zip(then.cells.iter().flatten()) {
        assert_eq!((now.holds, &now.share, now.worst_plant), (then.holds, &then.share, then.worst_plant));
        for (now, then) in now.figures.iter().zip(&then.figures) {
            assert_eq!((now.own.is_some(), now.never), (then.own.is_some(), then.never));
            assert!(now.own.zip(then.own).is_none_or(|(a, b)| near(a, b)), "{now:?} is not {then:?}");
            assert!(now.quantiles.iter().zip(&then.quantiles).all(|(a, b)| near(*a, *b)), "{now:?} is not {then:?}");
        }
    }
    let said = |result: &ProofResult| result.verdicts.iter().map(|one| one.verdict.text.clone()).collect::<Vec<_>>();
    assert_eq!(said(&now), said(&then));
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    /// Whatever the loop, the plants and the limits: shares, intervals and quantiles are in order, a cell holds where its figures do,
    /// and the document comes back as it went.
    #[test]
    fn tables_are_consistent(
        gain in 0.2..3.0f64, integral in 4.0..60.0f64, most in 0.5..12.0f64, back in 20.0..200.0f64,
        spread in 0.01..0.5f64, seed in 0..1000u64,
    ) {
        let criteria = vec![
            Criterion::at_most(Figure::LargestDeviation {}, most),
            Criterion::at_most(Figure::RecoveryTime { band: 0.5 }, back),
        ];
        let uncertainty = Uncertainty::Covariance {
            plants: 12,
            parameters: vec!["gain".to_owned(), "dead_time".to_owned()],
            covariance: vec![vec![spread * spread, 0.0], vec![0.0, 4.0 * spread * spread]],
        };
        let other = contender("B", 0.5 * gain, 2.0 * integral);
        let disturbances = vec![load("load", 20.0, 10.0, 240.0, criteria)];
        let mut proof = proof(vec![contender("A", gain, integral), other], disturbances, uncertainty);
        proof.seed = seed;
        let document = serde_json::to_string(&proof).unwrap();
        prop_assert_eq!(&serde_json::from_str::<Proof>(&document).unwrap(), &proof);
        let result = prove(&proof).unwrap();
        for (column, cell) in result.cells[0].iter().enumerate() {
            let share = cell.share.as_ref().unwrap();
            prop_assert!(share.passes <= share.of && share.interval[0] <= share.value() && share.value() <= share.interval[1]);
            prop_assert_eq!(Some(share), result.shares[column].as_ref());
            let kept = cell.figures[0].own.is_some_and(|own| own <= most) && cell.figures[1].own.is_some_and(|own| own <= back);
            prop_assert_eq!(cell.holds, Some(kept));
            prop_assert_eq!(cell.passes, Some(kept && share.passes == share.of));
            prop_assert_eq!((result.limited, result.kept[column]), (1, usize::from(kept)));
            // It is read by what is worst against its limit.
            let over = |k: usize, most: f64| cell.figures[k].worst.map_or(f64::INFINITY, |worst| worst / most);
            prop_assert_eq!(cell.decides, usize::from(over(1, back) > over(0, most)));
            // One disturbance: its total is its own middle.
            for total in &result.totals {
                let k = result.rows[0].criteria.iter().position(|one| one.title == total.of.title).unwrap();
                let middle = cell.figures[k].quantiles.get(10).copied().or(cell.figures[k].own);
                prop_assert_eq!(total.values[column], middle, "{}", total.of.title);
            }
            for figure in &cell.figures {
                prop_assert!(figure.quantiles.is_sorted());
                prop_assert!(figure.worst.is_none_or(|worst| figure.own.is_some_and(|own| worst >= own)));
            }
            // As many plants pass as keep both limits, counted by hand.
            let mut by_hand = 0;
            for plant in 0..12 {
                let trace = proof.trial_of_cell(0, column, Some(plant)).unwrap().run().unwrap();
                let deviations: Vec<f64> =
                    trace.values(ColumnRole::ProcessVariable)[20..].iter().map(|pv| pv - 50.0).collect();
                // Between the last row outside and the next the line crosses the band.
                let settled = match deviations.iter().rposition(|value| value.abs() > 0.5) {
                    None => true,
                    Some(last) if last + 1 == deviations.len() => false,
                    Some(last) => {
                        let (a, b) = (deviations[last], deviations[last + 1]);
                        last as f64 + (0.5 * a.signum() - a) / (b - a) <= back
                    }
                };
                by_hand += usize::from(deviations.iter().all(|value| value.abs() <= most) && settled);
            }
            prop_assert!(by_hand == share.passes, "{} of {:?}", by_hand, share);
        }
    }
}
