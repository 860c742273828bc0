//! A dossier of a loop that was recorded, modelled, tuned and proven: whole, in its order, the same each time, and true about what is
//! stale.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use antistasis_core::assessment::assess;
use antistasis_core::controller::{ControllerSpec, IntegralAs, Notation, NotationTime, PidSettings, ProportionalAs};
use antistasis_core::identification::{DataSet, FitOptions, Structure, fit, validate};
use antistasis_core::process::LinearSpec;
use antistasis_core::proof::{Contender, PROOF_VERSION, ParameterRange, Proof, Uncertainty, propose_set, prove};
use antistasis_core::series::{Channel, Record, Role, TimeAxis};
use antistasis_core::simulation::{
    Candidate, ENGINE_VERSION, Event, OperatingPoint, Plant, Scenario, Signal, TRIAL_VERSION, Trial,
};
use antistasis_core::units::Span;
use antistasis_dossier::{
    Block, Dossier, DossierSpec, ModelSource, Part, ProofSource, RecordSource, Sources, TrialSource, dossier, html,
    pdf, proposed_instructions,
};
use proptest::prelude::*;
use std::sync::LazyLock;

fn signal(tag: &str, unit: &str) -> Signal {
    Signal { tag: tag.to_owned(), span: Span::new(0.0, 100.0, unit) }
}

fn trial(gain: f64) -> Trial {
    let plant = Plant::plain(
        LinearSpec::Fopdt { gain: 1.2, time_constant: 20.0, dead_time: 6.0 },
        signal("TIC-1.PV", "°C"),
        signal("TIC-1.OP", "%"),
        OperatingPoint::new(50.0, 40.0),
    );
    let scenario = Scenario {
        duration: 300.0,
        scan: 1.0,
        seed: 1,
        events: vec![Event::load(20.0, 10.0)],
        further: Default::default(),
    };
    let pid = PidSettings { derivative_time: 2.0, ..PidSettings::pi(gain, 16.0) };
    let candidate = Candidate::new(ControllerSpec::Pid(pid));
    Trial { version: TRIAL_VERSION, plant, candidate, scenario }
}

/// A step test of the plant by its solution: first order with dead time.
fn recorded() -> Record {
    let times: Vec<f64> = (0..400).map(f64::from).collect();
    let op: Vec<f64> = times.iter().map(|t| if (50.0..220.0).contains(t) { 48.0 } else { 40.0 }).collect();
    let rise = |t: f64| if t <= 0.0 { 0.0 } else { 1.0 - (-t / 20.0).exp() };
    let pv = |t: f64| 50.0 + 1.2 * 8.0 * (rise(t - 56.0) - rise(t - 226.0)) + 0.05 * (12.9898 * t).sin();
    let channel = |tag: &str, role: Role, unit: &str, values: Vec<f64>| Channel {
        tag: tag.to_owned(),
        role,
        unit: unit.to_owned(),
        values,
    };
    let pv = channel("TIC-1.PV", Role::Pv, "°C", times.iter().map(|t| pv(*t)).collect());
    Record::new(TimeAxis::uniform(1.0, 400).unwrap(), vec![pv, channel("TIC-1.OP", Role::Op, "%", op)]).unwrap()
}

fn made() -> Sources {
    let own = trial(1.4);
    let proof = Proof {
        version: PROOF_VERSION,
        plant: own.plant.clone(),
        scan: 1.0,
        candidates: [("A", 1.4), ("B", 0.1)]
            .map(|(name, gain)| Contender { name: name.to_owned(), candidate: trial(gain).candidate, scan: None })
            .to_vec(),
        compared_with: None,
        set: propose_set(&own).unwrap(),
        uncertainty: Uncertainty::Ranges {
            plants: 8,
            ranges: vec![ParameterRange { parameter: "gain".to_owned(), low: 1.0, high: 1.4 }],
        },
        seed: 1,
    };
    let result = prove(&proof).unwrap();
    let record = recorded();
    let options = FitOptions::new(Structure::Fopdt);
    let data = DataSet::of_record(&record, "°C", &[], &[]).unwrap();
    let model = fit(&data.slice(0..200), &options).unwrap();
    let validation = validate(&model, &data.slice(200..400), false).unwrap();
    let hash = record.content_hash();
    let when = || "2026-11-30T09:00:00Z".to_owned();
    let assessment = assess(&own, &own.run().unwrap()).unwrap();
    Sources {
        tag: "TIC-1".into(),
        name: "Outlet".into(),
        area: "Hall".into(),
        pv: signal("TIC-1.PV", "°C"),
        op: signal("TIC-1.OP", "%"),
        written_at: when(),
        trial: TrialSource {
            number: 3,
            label: "gain 1.2 → 1.4".into(),
            trial: own,
            assessment,
            engine: ENGINE_VERSION as i32,
            made_at: when(),
        },
        model: Some(ModelSource {
            number: 1,
            name: "of the step".into(),
            reason: "the only one".into(),
            model,
            options,
            preparation: vec![],
            window: [0.0, 199.0],
            validation_window: Some([200.0, 399.0]),
            validation: Some(validation),
            record_hash: hash.clone(),
            made_at: when(),
        }),
        record: Some(RecordSource {
            name: "Step test".into(),
            origin: "hall.csv".into(),
            started: None,
            remark: String::new(),
            preparation: vec![],
            content_hash: hash,
            record,
        }),
        chosen_model: Some(1),
        proof: Some(ProofSource {
            number: 2,
            label: "spring".into(),
            digest: proof.digest(),
            proof,
            result,
            engine: ENGINE_VERSION as i32,
            made_at: when(),
        }),
    }
}

static SOURCES: LazyLock<Sources> = LazyLock::new(made);

fn spec() -> DossierSpec {
    let mut spec = DossierSpec::of_trial(3, Some(2));
    spec.author = "shift A".into();
    spec.purpose = "Keeps the outlet warm enough.".into();
    spec.instructions = proposed_instructions(&SOURCES);
    spec
}

fn section(dossier: &Dossier, part: Part) -> &[Block] {
    &dossier.sections.iter().find(|section| section.part == part).unwrap().blocks
}

fn facts(dossier: &Dossier, part: Part) -> Vec<(String, String)> {
    let of = |block: &Block| match block {
        Block::Facts { rows } => rows.iter().map(|row| (row.name.clone(), row.value.clone())).collect(),
        _ => Vec::new(),
    };
    section(dossier, part).iter().flat_map(of).collect()
}

fn value(dossier: &Dossier, part: Part, name: &str) -> String {
    let found = facts(dossier, part).into_iter().find(|(own, _)| own == name);
    found.unwrap_or_else(|| panic!("no {name} in {:?}", facts(dossier, part))).1
}

#[test]
fn it_holds_what_was_chosen_in_that_order_with_the_numbers_of_its_documents() {
    let mut spec = spec();
    spec.parts = vec![Part::Settings, Part::Model, Part::Summary];
    spec.notation = Notation {
        proportional: ProportionalAs::Band,
        integral: IntegralAs::Repeats,
        time: NotationTime::Minutes,
        ..Notation::default()
    };
    let made = dossier(&SOURCES, &spec).unwrap();
    assert_eq!(made.sections.iter().map(|section| section.part).collect::<Vec<_>>(), spec.parts);
    assert_eq!(made.title, "TIC-1 Outlet");
    // Settings by hand: band 100/1.4, 60/16 repeats a minute, 2 s.
    assert_eq!(value(&made, Part::Settings, "Proportional band"), "71.4 %");
    assert_eq!(value(&made, Part::Settings, "Repeats"), "3.75 1/min");
    assert_eq!(value(&made, Part::Settings, "Derivative time"), "0.0333 min");
    assert_eq!(value(&made, Part::Settings, "Action"), "reverse: OP falls when the PV rises");
    // The plant is known: gain 1.2, time constant 20 s, dead time 6 s.
    let Some(Block::Table { rows, .. }) =
        section(&made, Part::Model).iter().find(|block| matches!(block, Block::Table { .. }))
    else {
        panic!("no table of numbers")
    };
    let estimate = |name: &str| {
        let row = rows.iter().find(|row| row[0].text == name).unwrap();
        row[1].text.split(' ').next().unwrap().parse::<f64>().unwrap()
    };
    assert!((estimate("gain") - 1.2).abs() < 0.02 && (estimate("time constant") - 20.0).abs() < 0.4, "{rows:?}");
    assert!((estimate("dead time") - 6.0).abs() < 0.2, "{rows:?}");
    assert!(
        rows.iter().flatten().skip(1).step_by(4).all(|cell| cell.text.contains(' ')),
        "each with its unit: {rows:?}"
    );
}

#[test]
fn the_same_documents_give_the_same_bytes() {
    let (one, other) = (dossier(&SOURCES, &spec()).unwrap(), dossier(&made(), &spec()).unwrap());
    assert_eq!(serde_json::to_string(&one).unwrap(), serde_json::to_string(&other).unwrap());
    assert_eq!(html(&one), html(&other));
    assert_eq!(pdf(&one).unwrap(), pdf(&other).unwrap());
    // As a document it comes back as it was.
    let back: Dossier = serde_json::from_str(&serde_json::to_string(&one).unwrap()).unwrap();
    assert_eq!(pdf(&back).unwrap(), pdf(&one).unwrap());
}

#[test]
fn a_page_needs_nothing_beside_itself_and_runs_nothing() {
    let mut spec = spec();
    spec.purpose = "<script>alert('x')</script> & \"more\"".into();
    spec.instructions = vec!["<img src=x onerror=alert(1)>".into()];
    let page = html(&dossier(&SOURCES, &spec).unwrap());
    assert!(!page.contains("<script") && !page.contains("<img") && page.contains("&#60;script&#62;"), "{page}");
    let addresses: Vec<&str> = page.match_indices("http").map(|(at, _)| &page[at..at + 27]).collect();
    assert!(addresses.iter().all(|one| one.starts_with("http://www.w3.org/2000/svg")), "{addresses:?}");
    assert!(!page.contains("NaN") && !page.contains("inf "), "every number is one");
    for section in &dossier(&SOURCES, &spec).unwrap().sections {
        assert!(page.contains(&format!(">{}</h2>", section.title)));
    }
}

#[test]
fn what_was_changed_upstream_is_said_at_all_that_stands_on_it() {
    let stale = |sources: &Sources| -> Vec<(Part, usize)> {
        let made = dossier(sources, &spec()).unwrap();
        made.sections
            .iter()
            .filter(|section| !section.stale.is_empty())
            .map(|section| (section.part, section.stale.len()))
            .collect()
    };
    assert!(stale(&SOURCES).is_empty());
    // A record that was changed: the model, what was tried on it, and the proof.
    let mut changed = SOURCES.clone();
    changed.record.as_mut().unwrap().content_hash = "another".into();
    let all = [Part::Summary, Part::Settings, Part::Proof, Part::Candidates, Part::Model];
    assert_eq!(stale(&changed), all.map(|part| (part, 1)));
    let warnings = section(&dossier(&changed, &spec()).unwrap(), Part::Warnings).to_vec();
    let told = |text: &str| {
        warnings.iter().filter(|block| matches!(block, Block::Verdict { text: own, .. } if own.contains(text))).count()
    };
    assert_eq!(
        told("“Step test” was changed after model A was fitted to it."),
        1,
        "once, not once a part: {warnings:?}"
    );
    // Another model was chosen: what was tried and proven on this one, but not the model itself.
    let mut chosen = SOURCES.clone();
    chosen.chosen_model = Some(2);
    assert_eq!(stale(&chosen), all.map(|part| (part, 1))[..4]);
    // Another candidate than the one that was proven.
    let mut other = SOURCES.clone();
    other.trial.trial = trial(1.5);
    assert_eq!(stale(&other), [(Part::Proof, 1), (Part::Candidates, 1)]);
    // An older engine.
    let mut older = SOURCES.clone();
    older.proof.as_mut().unwrap().engine = 0;
    assert_eq!(stale(&older), [(Part::Proof, 1), (Part::Candidates, 1)]);
}

#[test]
fn without_proof_model_or_record_it_says_so() {
    let mut bare = SOURCES.clone();
    (bare.proof, bare.model, bare.record, bare.chosen_model) = (None, None, None, None);
    let mut spec = spec();
    spec.proof = None;
    let made = dossier(&bare, &spec).unwrap();
    let page = html(&made);
    for text in [
        "C was not proven.",
        "stands on no model of a record",
        "There is no proof.",
        "There is no record behind this trial.",
    ] {
        assert!(page.contains(text), "{text} is not in {page}");
    }
    assert!(pdf(&made).unwrap().starts_with(b"%PDF-"));
}

#[test]
fn what_cannot_be_is_refused_at_its_field() {
    let refused = |change: &dyn Fn(&mut DossierSpec)| {
        let mut spec = spec();
        change(&mut spec);
        dossier(&SOURCES, &spec).unwrap_err().field().unwrap_or_default().to_owned()
    };
    assert_eq!(refused(&|spec| spec.version = 2), "version");
    assert_eq!(refused(&|spec| spec.digits = 9), "digits");
    assert_eq!(refused(&|spec| spec.parts.clear()), "parts");
    assert_eq!(refused(&|spec| spec.parts = vec![Part::Model, Part::Model]), "parts[1]");
    assert_eq!(refused(&|spec| spec.purpose = "x".repeat(5000)), "purpose");
    assert_eq!(refused(&|spec| spec.instructions = vec!["ring \u{7} twice".into()]), "instructions[0]");
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(16))]

    /// Whatever is typed, the page shows it as it was typed, and the PDF can be made.
    #[test]
    fn what_is_typed_is_what_is_read(purpose in "[ -~äöüß€°µ∫→一-三]{1,300}", author in "[ -~]{0,60}") {
        let mut spec = spec();
        (spec.purpose, spec.author, spec.parts) = (purpose.clone(), author, vec![Part::Summary]);
        let made = dossier(&SOURCES, &spec).unwrap();
        prop_assert!(pdf(&made).unwrap().len() > 1000);
        let page = html(&made);
        let unescaped = page.replace("&#60;", "<").replace("&#62;", ">").replace("&#34;", "\"").replace("&#39;", "'").replace("&#38;", "&");
        prop_assert!(unescaped.contains(purpose.trim()), "{}", purpose);
    }
}
