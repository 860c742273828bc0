//! What is put in comes out again, to the bit, and in order.

#![allow(clippy::unwrap_used)]

use antistasis_cluster::Cluster;
use antistasis_core::assessment::{Assessment, assess};
use antistasis_core::controller::{ControllerSpec, PidSettings};
use antistasis_core::identification::{DataSet, FitOptions, Model, Series, Structure, fit_fopdt, validate};
use antistasis_core::instrument::SensorSpec;
use antistasis_core::preparation::{Operation, Step};
use antistasis_core::process::{LinearSpec, ProcessSpec};
use antistasis_core::proof::{Contender, Disturbance, PROOF_VERSION, Proof, ProvingSet, Uncertainty, prove};
use antistasis_core::series::{Channel, Record, Role, TimeAxis};
use antistasis_core::simulation::{Candidate, OperatingPoint, Plant, Scenario, Signal, TRIAL_VERSION, Trial};
use antistasis_core::units::Span;
use antistasis_store::{
    AreaSeed, DeletionKind, Error, Expected, Listed, LoopDetail, LoopSeed, LoopsAsked, NewModel, NewProof, NewRecord,
    NewTrial, Part, SavedKind, SavedSpec, Store,
};
use std::sync::OnceLock;
use std::sync::atomic::{AtomicUsize, Ordering};
use uuid::Uuid;

fn signal(tag: &str, high: f64, unit: &str) -> Signal {
    Signal { tag: tag.into(), span: Span::new(0.0, high, unit) }
}

/// A fresh database with one loop.
async fn fresh() -> (Store, LoopDetail) {
    let (store, found, _) = fresh_at().await;
    (store, found)
}

/// The same, with its address.
async fn fresh_at() -> (Store, LoopDetail, String) {
    static CLUSTER: OnceLock<Cluster> = OnceLock::new();
    static COUNT: AtomicUsize = AtomicUsize::new(0);
    let cluster = CLUSTER.get_or_init(|| antistasis_cluster::for_tests().unwrap());
    let name = format!("store_{}", COUNT.fetch_add(1, Ordering::Relaxed));
    let url = cluster.url(&name);
    let store = Store::open(&url).await.unwrap();
    let seed = LoopSeed {
        tag: "LIC-1".into(),
        name: "Tank".into(),
        difficulty: String::new(),
        pv: signal("LIC-1.PV", 4.0, "m"),
        op: signal("LIC-1.OP", 100.0, "%"),
    };
    store.seed_areas(&[AreaSeed { name: "Area".into(), loops: vec![seed] }]).await.unwrap();
    let found = store.find_loop("LIC-1").await.unwrap();
    (store, found, url)
}

fn channel(tag: &str, role: Role, values: Vec<f64>) -> Channel {
    Channel { tag: tag.into(), role, unit: "m".into(), values }
}

async fn keep(store: &Store, loop_id: Uuid, record: &Record) -> Uuid {
    let notes = ["a note".to_owned()];
    let new = NewRecord { name: "R", origin: "test", started: Some("2026-01-01T00:00:00"), notes: &notes, record };
    store.add_record(loop_id, new).await.unwrap()
}

#[tokio::test]
async fn a_record_of_several_chunks_comes_back_to_the_bit() {
    let (store, found) = fresh().await;
    let rows = 150_001;
    let times: Vec<f64> = (0..rows).map(|k| f64::from(k) + 0.3 * f64::from(k % 3)).collect();
    let mut values: Vec<f64> = (0..rows).map(|k| (f64::from(k) * 0.1).sin() / 3.0).collect();
    values[70_000..70_010].fill(f64::NAN);
    values[1] = -0.0;
    values[2] = f64::MIN_POSITIVE;
    let axis = TimeAxis::from_times(&times).unwrap();
    let channels = vec![channel("A", Role::Pv, values), channel("B", Role::Other, times.clone())];
    let record = Record::new(axis, channels).unwrap();
    let id = keep(&store, found.id, &record).await;
    let back = store.record(id).await.unwrap();
    assert_eq!((back.axis.clone(), back.content_hash()), (record.axis.clone(), record.content_hash()));
    let bits =
        |record: &Record| -> Vec<u64> { record.channels[0].values.iter().map(|value| value.to_bits()).collect() };
    assert_eq!(bits(&back), bits(&record));
    let info = store.record_info(id).await.unwrap();
    assert_eq!((info.length, info.sample_interval, info.notes.len()), (rows, None, 1));
    assert_eq!(info.content_hash, record.content_hash());
    let roles: Vec<Role> = info.channels.iter().map(|channel| channel.role).collect();
    assert_eq!(roles, [Role::Pv, Role::Other]);
    // The small trend on the home screen.
    let summary = store.loops(&LoopsAsked::default()).await.unwrap().rows.remove(0);
    assert!(summary.records == 1 && summary.thumbnail.is_some_and(|values| values.len() > 20 && values.len() < 200));
}

fn model() -> (Record, DataSet, Model) {
    let axis = TimeAxis::uniform(1.0, 200).unwrap();
    let input: Vec<f64> = (0..200).map(|k| if k < 20 { 40.0 } else { 50.0 }).collect();
    let output: Vec<f64> =
        (0..200).map(|k| if k < 25 { 1.0 } else { 2.0 - (-(f64::from(k) - 25.0) / 30.0).exp() }).collect();
    let data =
        DataSet::single(axis.clone(), Series::new("OP", "%", input.clone()), Series::new("PV", "m", output.clone()));
    let model = fit_fopdt(&data).unwrap();
    let channels = vec![channel("OP", Role::Op, input), channel("PV", Role::Pv, output)];
    (Record::new(axis, channels).unwrap(), data, model)
}

/// The newest of a list are there, and what something stands on, however old.
#[tokio::test]
async fn lists_come_in_parts_that_leave_nothing_out_that_is_needed() {
    let (store, found) = fresh().await;
    let (record, _, model) = model();
    let mut records = Vec::new();
    for _ in 0..6 {
        records.push(keep(&store, found.id, &record).await);
    }
    let hash = record.content_hash();
    let mut models = Vec::new();
    for k in 0..6 {
        let new = NewModel {
            // All but the last were fitted to the second record, the last to the newest.
            record_id: if k < 5 { records[1] } else { records[5] },
            record_hash: &hash,
            preparation: &[],
            window: (0.0, 99.0),
            further: &[],
            options: &FitOptions::new(Structure::Fopdt),
            model: &model,
            validation: None,
            reduced_from: None,
        };
        models.push(store.add_model(found.id, new).await.unwrap());
    }
    store.choose_model(models[2], "fits").await.unwrap();
    let (trial, assessment) = trial(1.0);
    let new =
        NewTrial { model_id: Some(models[0]), label: "a", trial: &trial, assessment: &assessment, replaces: None };
    store.add_trial(found.id, new).await.unwrap();
    // A dossier takes the model of its trial, and the chosen one to be told by.
    let around = store.archived_around(&found.tag, 1, None).await.unwrap();
    assert_eq!(around.models.iter().map(|own| own.id).collect::<Vec<_>>(), [models[0], models[2]]);
    let part = |newest, also| Part { newest, also };
    let ids = async |part| -> Vec<Uuid> {
        let Listed { rows, all, .. } = store.newest_models(found.id, part).await.unwrap();
        assert_eq!(all, 6);
        rows.into_iter().map(|row| row.id).collect()
    };
    // Newest first; the chosen one, the one that a trial stands on, the one that was asked for.
    assert_eq!(ids(part(1, None)).await, [models[5], models[2], models[0]]);
    assert_eq!(ids(part(1, Some(models[1]))).await, [models[5], models[2], models[1], models[0]]);
    assert_eq!(ids(part(3, Some(models[4]))).await, [models[5], models[4], models[3], models[2], models[0]]);
    assert_eq!(ids(part(1000, None)).await.len(), 6);
    let ids = async |part| -> Vec<Uuid> {
        let Listed { rows, all, .. } = store.newest_records(found.id, part).await.unwrap();
        assert_eq!(all, 6);
        rows.into_iter().map(|row| row.id).collect()
    };
    assert_eq!(ids(part(1, None)).await, [records[5], records[1]]);
    assert_eq!(ids(part(2, Some(records[0]))).await, [records[5], records[4], records[1], records[0]]);
    // What is in the bin counts no more.
    store.delete(DeletionKind::Record, records[4]).await.unwrap();
    let Listed { rows, all, .. } = store.newest_records(found.id, part(2, None)).await.unwrap();
    assert_eq!((rows.iter().map(|row| row.id).collect::<Vec<_>>(), all), (vec![records[5], records[3], records[1]], 5));
    // One that is asked for and belongs to another loop, or was deleted, is not there.
    let Listed { rows, .. } = store.newest_records(found.id, part(1, Some(records[4]))).await.unwrap();
    assert!(rows.iter().all(|row| row.id != records[4]));
}

#[tokio::test]
async fn models_made_at_once_get_numbers_of_their_own_and_one_is_chosen() {
    let (store, found) = fresh().await;
    let (record, data, model) = model();
    let validation = validate(&model, &data, false).unwrap();
    let record_id = keep(&store, found.id, &record).await;
    let hash = record.content_hash();
    let tasks: Vec<_> = (0..12)
        .map(|k| {
            let (store, model, hash, validation) = (store.clone(), model.clone(), hash.clone(), validation.clone());
            tokio::spawn(async move {
                // One of them was fitted to something that the record no longer is.
                let hash = if k == 0 { "another" } else { &hash };
                let new = NewModel {
                    record_id,
                    record_hash: hash,
                    preparation: &[],
                    window: (0.0, 99.0),
                    further: &[],
                    options: &FitOptions::new(Structure::Fopdt),
                    model: &model,
                    validation: (k > 5).then_some(((100.0, 199.0), &validation)),
                    reduced_from: None,
                };
                store.add_model(found.id, new).await.unwrap()
            })
        })
        .collect();
    for task in tasks {
        task.await.unwrap();
    }
    let rows = store.models(found.id).await.unwrap();
    let numbers: Vec<i32> = rows.iter().map(|row| row.number).collect();
    assert_eq!(numbers, (1..=12).rev().collect::<Vec<_>>());
    assert!(!rows.iter().any(|row| row.chosen), "only a person chooses a model");
    assert_eq!(rows.iter().filter(|row| row.stale).count(), 1);
    assert!(rows.iter().all(|row| row.model == model), "a model is kept to the bit");
    assert_eq!(rows.iter().filter(|row| row.validation.as_ref() == Some(&validation)).count(), 6);
    // Another preparation makes them all stale.
    let steps = [Step::new(Operation::Shift { tag: None, by: 1.0 / 3.0 })];
    store.set_preparation(record_id, Expected::Any, &steps).await.unwrap();
    assert_eq!(store.record_info(record_id).await.unwrap().preparation, steps);
    assert!(store.models(found.id).await.unwrap().iter().all(|row| row.stale));
    store.choose_model(rows[7].id, "fits best on new data").await.unwrap();
    assert_eq!(store.model(rows[7].id).await.unwrap().reason, "fits best on new data");
    let chosen: Vec<Uuid> =
        store.models(found.id).await.unwrap().iter().filter(|row| row.chosen).map(|row| row.id).collect();
    assert_eq!(chosen, [rows[7].id]);
}

fn trial(gain: f64) -> (Trial, Assessment) {
    let trial = Trial {
        version: TRIAL_VERSION,
        plant: Plant {
            sensor: SensorSpec::with_noise(0.01),
            ..Plant::plain(
                LinearSpec::Fopdt { gain: 0.1, time_constant: 30.0, dead_time: 1.0 / 3.0 },
                signal("LIC-1.PV", 4.0, "m"),
                signal("LIC-1.OP", 100.0, "%"),
                OperatingPoint::new(2.0, 45.0),
            )
        },
        candidate: Candidate::new(ControllerSpec::Pid(PidSettings::pi(gain, 30.0))),
        scenario: Scenario {
            duration: 50.0,
            scan: 1.0,
            seed: u64::from(u32::MAX),
            events: vec![],
            further: Default::default(),
        },
    };
    let assessment = assess(&trial, &trial.run().unwrap()).unwrap();
    (trial, assessment)
}

#[tokio::test]
async fn a_plant_stands_behind_a_loop_once_it_is_put_there() {
    let (store, found) = fresh().await;
    assert!(!found.has_plant && store.plant("LIC-1").await.unwrap().is_none());
    let plant = trial(1.0).0.plant;
    store.set_plant("LIC-1", Some(&plant)).await.unwrap();
    assert_eq!(store.plant("LIC-1").await.unwrap(), Some(plant));
    assert!(store.find_loop("LIC-1").await.unwrap().has_plant);
}

#[tokio::test]
async fn the_trail_keeps_each_trial_once_and_pins_one() {
    let (store, found) = fresh().await;
    let mut ids = Vec::new();
    for gain in [1.0, 2.0, 1.0 / 3.0, 2.0] {
        let (trial, assessment) = trial(gain);
        let new = NewTrial { model_id: None, label: "x", trial: &trial, assessment: &assessment, replaces: None };
        ids.push(store.add_trial(found.id, new).await.unwrap());
    }
    assert_eq!(ids[1], ids[3]);
    let rows = store.trials(found.id).await.unwrap();
    assert_eq!(rows.iter().map(|row| row.number).collect::<Vec<_>>(), [3, 2, 1]);
    let (third, assessment) = trial(1.0 / 3.0);
    assert_eq!((&rows[0].trial, &rows[0].assessment), (&third, &assessment), "kept to the bit");
    assert_eq!(rows[0].trial.digest(), third.digest());
    for id in [ids[0], ids[2]] {
        store.pin_trial(id, true).await.unwrap();
    }
    let pinned = |rows: Vec<antistasis_store::TrialRow>| -> Vec<Uuid> {
        rows.into_iter().filter(|row| row.pinned).map(|row| row.id).collect()
    };
    assert_eq!(pinned(store.trials(found.id).await.unwrap()), [ids[2]]);
    // What is needed to know what could be handed over: the candidates of all, and one trial alone.
    let tried = store.tried_candidates(found.id).await.unwrap();
    assert_eq!(
        tried.iter().map(|own| (own.id, own.number)).collect::<Vec<_>>(),
        [(ids[0], 1), (ids[1], 2), (ids[2], 3)]
    );
    assert_eq!(tried.iter().map(|own| own.pinned).collect::<Vec<_>>(), [false, false, true]);
    assert_eq!(tried[1].candidate.as_ref().unwrap()["controller"]["gain"], 2.0);
    let around = store.archived_around(&found.tag, 2, None).await.unwrap();
    assert_eq!(around.trials.iter().map(|own| own.id).collect::<Vec<_>>(), [ids[1]]);
    assert!(around.proofs.is_empty() && around.models.is_empty());
    assert!(store.archived_around(&found.tag, 9, None).await.unwrap().trials.is_empty());
    store.pin_trial(ids[2], false).await.unwrap();
    assert!(pinned(store.trials(found.id).await.unwrap()).is_empty());
}

#[tokio::test]
async fn a_proof_is_kept_once_to_the_bit_and_changes_its_loop() {
    let (store, found) = fresh().await;
    let of_loop = async || store.loops(&LoopsAsked::default()).await.unwrap().rows.remove(0);
    let before = of_loop().await.changed_at;
    let (trial, _) = trial(1.0 / 3.0);
    let proof = Proof {
        version: PROOF_VERSION,
        set: ProvingSet {
            name: "one".into(),
            note: String::new(),
            disturbances: vec![Disturbance::of_trial(&trial, "as it ran", "")],
        },
        plant: trial.plant,
        scan: trial.scenario.scan,
        candidates: vec![Contender { name: "A".into(), candidate: trial.candidate, scan: None }],
        compared_with: None,
        uncertainty: Uncertainty::default(),
        seed: 1,
    };
    let result = prove(&proof).unwrap();
    let keep = async |label: &str, proof: &Proof| {
        store.add_proof(found.id, NewProof { model_id: None, label, proof, result: &result }).await.unwrap()
    };
    let first = keep("first", &proof).await;
    assert_eq!(keep("again", &proof).await, first);
    let other = keep("of other plants", &Proof { seed: 2, ..proof.clone() }).await;
    let listed = store.newest_proofs(found.id, Part { newest: 10, also: None }).await.unwrap();
    let told: Vec<_> = listed.rows.iter().map(|row| (row.id, row.number, row.label.as_str())).collect();
    assert_eq!((listed.all, told), (2, vec![(other, 2, "of other plants"), (first, 1, "first")]));
    assert_eq!((&listed.rows[1].proof, &listed.rows[1].result), (&proof, &result), "kept to the bit");
    assert!(of_loop().await.changed_at > before, "a proof is a change of its loop");

    // One that is asked for besides is there however old it is.
    let listed = store.newest_proofs(found.id, Part { newest: 1, also: Some(first) }).await.unwrap();
    assert_eq!(listed.rows.iter().map(|row| row.number).collect::<Vec<_>>(), [2, 1]);
    // A change on the ground of an older revision is refused.
    store.set_proof(first, Expected::Revision(1), ("spring", "as asked")).await.unwrap();
    assert!(store.set_proof(first, Expected::Revision(1), ("summer", "")).await.is_err());
    let row = store.proof(first).await.unwrap();
    assert_eq!((row.label.as_str(), row.remark.as_str(), row.revision), ("spring", "as asked", 2));
}

#[tokio::test]
async fn what_is_written_for_a_dossier_has_a_revision_and_is_told() {
    let (store, found) = fresh().await;
    let mut changes = store.listen().await.unwrap();
    assert!(store.dossier(found.id).await.unwrap().is_none());
    let written = |purpose: &str| serde_json::json!({ "version": 1, "purpose": purpose });
    for (k, purpose) in ["warm", "warm and dry"].into_iter().enumerate() {
        let revision = store.set_dossier(found.id, Expected::Revision(k as i64), &written(purpose)).await.unwrap();
        assert_eq!(revision, k as i64 + 1);
        let change = changes.next().await.unwrap().unwrap();
        assert_eq!(
            (change.kind.as_str(), change.loop_id, change.revision),
            ("dossier", Some(found.id), Some(revision))
        );
    }
    // A change on the ground of what stood before is refused, and what stands there stays.
    let late = store.set_dossier(found.id, Expected::Revision(1), &written("cold")).await;
    assert!(matches!(late, Err(Error::Changed)), "{late:?}");
    let kept = store.dossier(found.id).await.unwrap().unwrap();
    assert_eq!((kept.revision, &kept.spec), (2, &written("warm and dry")));
    assert_eq!(store.set_dossier(found.id, Expected::Any, &written("cold")).await.unwrap(), 3);
    // Many at once: each change is one revision.
    let many = (0..8).map(|k| {
        let (store, spec) = (store.clone(), written(&k.to_string()));
        tokio::spawn(async move { store.set_dossier(found.id, Expected::Any, &spec).await.unwrap() })
    });
    let mut revisions = Vec::new();
    for one in many.collect::<Vec<_>>() {
        revisions.push(one.await.unwrap());
    }
    revisions.sort_unstable();
    assert_eq!(revisions, (4..=11).collect::<Vec<_>>());
}

#[tokio::test]
async fn what_is_not_there_is_named() {
    let (store, _) = fresh().await;
    let id = Uuid::nil();
    let said = |error: Error| {
        assert!(matches!(error, Error::NotFound { .. }), "{error}");
        error.to_string()
    };
    assert_eq!(said(store.find_loop("XIC-9").await.unwrap_err()), "there is no loop “XIC-9”");
    assert!(said(store.record(id).await.unwrap_err()).starts_with("there is no record"));
    assert!(said(store.model(id).await.unwrap_err()).starts_with("there is no model"));
    assert!(said(store.proof(id).await.unwrap_err()).starts_with("there is no proof"));
    assert!(said(store.pin_trial(id, true).await.unwrap_err()).starts_with("there is no trial"));
    assert!(said(store.choose_model(id, "").await.unwrap_err()).starts_with("there is no model"));
    assert!(said(store.set_preparation(id, Expected::Any, &[]).await.unwrap_err()).starts_with("there is no record"));
    assert!(said(store.set_plant("XIC-9", None).await.unwrap_err()).starts_with("there is no loop"));
    assert!(said(store.delete_for_good(id).await.unwrap_err()).starts_with("there is no deletion"));
}

#[tokio::test]
async fn many_at_once_choose_and_pin_and_one_is() {
    let (store, found) = fresh().await;
    let (record, _, model) = model();
    let record_id = keep(&store, found.id, &record).await;
    let mut ids = Vec::new();
    for gain in 1..7 {
        let (trial, assessment) = trial(f64::from(gain));
        let new = NewTrial { model_id: None, label: "x", trial: &trial, assessment: &assessment, replaces: None };
        let trial = store.add_trial(found.id, new).await.unwrap();
        let new = NewModel {
            record_id,
            record_hash: "h",
            preparation: &[],
            window: (0.0, 99.0),
            further: &[],
            options: &FitOptions::new(Structure::Fopdt),
            model: &model,
            validation: None,
            reduced_from: None,
        };
        ids.push((store.add_model(found.id, new).await.unwrap(), trial));
    }
    let tasks: Vec<_> = (0..60)
        .map(|k| {
            let (store, (model, trial)) = (store.clone(), ids[k % ids.len()]);
            tokio::spawn(async move {
                store.choose_model(model, "r").await.unwrap();
                store.pin_trial(trial, true).await.unwrap();
            })
        })
        .collect();
    for task in tasks {
        task.await.unwrap();
    }
    assert_eq!(store.models(found.id).await.unwrap().iter().filter(|row| row.chosen).count(), 1);
    assert_eq!(store.trials(found.id).await.unwrap().iter().filter(|row| row.pinned).count(), 1);
}

#[tokio::test]
async fn what_is_older_than_thirty_days_leaves_the_bin_for_good() {
    let (store, found) = fresh().await;
    let (record, ..) = model();
    let record_id = keep(&store, found.id, &record).await;
    let item = store.delete(DeletionKind::Record, record_id).await.unwrap();
    assert_eq!((item.gone_at - item.deleted_at).num_days(), 30);
    assert_eq!(store.empty_bin(item.deleted_at).await.unwrap(), 0, "not what is as young as that");
    let part = Part { newest: 10, also: None };
    assert_eq!(store.bin(part).await.unwrap().1, 1);
    assert_eq!(store.empty_bin(item.gone_at).await.unwrap(), 1);
    assert!(store.bin(part).await.unwrap().0.is_empty());
    assert!(store.restore(item.id).await.is_err());
    // The samples went with it.
    assert!(matches!(store.record(record_id).await, Err(Error::NotFound { .. })));
}

#[tokio::test]
async fn a_row_that_cannot_be_read_hides_no_other_and_is_kept_as_it_is() {
    let (store, found, url) = fresh_at().await;
    let (record, _, model) = model();
    let record_id = keep(&store, found.id, &record).await;
    let mut trials = Vec::new();
    for gain in [1.0, 2.0, 3.0] {
        let (trial, assessment) = trial(gain);
        let new = NewTrial { model_id: None, label: "x", trial: &trial, assessment: &assessment, replaces: None };
        trials.push(store.add_trial(found.id, new).await.unwrap());
    }
    let hash = record.content_hash();
    let mut models = Vec::new();
    for _ in 0..2 {
        let new = NewModel {
            record_id,
            record_hash: &hash,
            preparation: &[],
            window: (0.0, 99.0),
            further: &[],
            options: &FitOptions::new(Structure::Fopdt),
            model: &model,
            validation: None,
            reduced_from: None,
        };
        models.push(store.add_model(found.id, new).await.unwrap());
    }
    assert!(store.unreadable(found.id).await.unwrap().is_empty());

    // As a version to come might write them.
    let raw = sqlx::PgPool::connect(&url).await.unwrap();
    let strange = "update trial set spec = spec || '{\"version\": 99, \"of_the_future\": [1, 2]}' where number = 2";
    assert_eq!(sqlx::query(strange).execute(&raw).await.unwrap().rows_affected(), 1);
    sqlx::query("update model set result = '{}' where number = 1").execute(&raw).await.unwrap();
    let plant = Plant::usual(ProcessSpec::library("stirred_heater", &[]), "T").unwrap();
    store.set_plant("LIC-1", Some(&plant)).await.unwrap();
    let mut saved = Vec::new();
    for name in ["now", "later"] {
        saved.push(store.save(name, "", None, &SavedSpec::Plant(Box::new(plant.clone()))).await.unwrap());
    }
    let later = "update saved set spec = spec || '{\"version\": 2}' where name = 'later'";
    assert_eq!(sqlx::query(later).execute(&raw).await.unwrap().rows_affected(), 1);
    let part = Part { newest: 10, also: None };
    let listed = store.newest_trials(found.id, part).await.unwrap();
    let numbers: Vec<i32> = listed.rows.iter().map(|row| row.number).collect();
    assert_eq!((numbers, listed.all, listed.unreadable), (vec![3, 1], 3, 1));
    let listed = store.newest_models(found.id, part).await.unwrap();
    assert_eq!((listed.rows.len(), listed.rows[0].number, listed.unreadable), (1, 2, 1));
    assert!(store.trial(trials[1]).await.unwrap_err().is_unreadable());

    let unreadable = store.unreadable(found.id).await.unwrap();
    assert_eq!(unreadable.len(), 2);
    assert_eq!((unreadable[0].kind, unreadable[0].id, unreadable[0].number), (DeletionKind::Trial, trials[1], Some(2)));
    assert!(unreadable[0].why.contains("This trial is of version 99, and this program reads"), "{}", unreadable[0].why);
    assert_eq!(unreadable[0].document["of_the_future"], serde_json::json!([1, 2]));
    assert_eq!(unreadable[0].document["version"], 99);
    assert_eq!((unreadable[1].kind, unreadable[1].id), (DeletionKind::Model, models[0]));
    // What is saved for the works the same.
    let listed = store.saved(Some(SavedKind::Plant)).await.unwrap();
    assert_eq!((listed.rows.len(), listed.rows[0].id, listed.all, listed.unreadable), (1, saved[0], 2, 1));
    let lost = store.unreadable_saved(None).await.unwrap();
    assert_eq!(
        (lost.len(), lost[0].kind, lost[0].id, lost[0].name.as_str()),
        (1, DeletionKind::Saved, saved[1], "later")
    );
    assert!(lost[0].why.starts_with("This plant is of version 2"), "{}", lost[0].why);
    assert!(store.unreadable_saved(Some(SavedKind::Target)).await.unwrap().is_empty());
    assert!(store.saved_item(saved[1]).await.unwrap_err().is_unreadable());
    // A later plant behind the loop is not taken for one of today, and goes when another takes its place.
    assert_eq!(store.plant("LIC-1").await.unwrap().as_ref(), Some(&plant));
    let later = "update control_loop set plant = plant || '{\"version\": 2}' where tag = 'LIC-1'";
    assert_eq!(sqlx::query(later).execute(&raw).await.unwrap().rows_affected(), 1);
    assert!(store.plant("LIC-1").await.unwrap_err().is_unreadable());
    store.set_plant("LIC-1", Some(&plant)).await.unwrap();
    assert_eq!(store.plant("LIC-1").await.unwrap().as_ref(), Some(&plant));
    // A step that is not known yet hides its record only.
    let step = "update record set preparation = '[{\"kind\": \"cut_out\", \"version\": 7}]'";
    assert_eq!(sqlx::query(step).execute(&raw).await.unwrap().rows_affected(), 1);
    let why = store.unreadable(found.id).await.unwrap().pop().unwrap().why;
    assert!(why.contains("its preparation: This preparation step is of version 7"), "{why}");
    sqlx::query("update record set preparation = '[]'").execute(&raw).await.unwrap();
    // It can be deleted and brought back like any other.
    let gone = store.delete(DeletionKind::Trial, trials[1]).await.unwrap();
    assert_eq!(gone.title, "trial B, x");
    assert_eq!(store.newest_trials(found.id, part).await.unwrap().unreadable, 0);
    store.restore(gone.id).await.unwrap();
    assert_eq!(store.unreadable(found.id).await.unwrap()[0].document, unreadable[0].document);
}

#[tokio::test]
async fn what_an_older_engine_computed_says_so_until_it_is_computed_again() {
    let (store, found, url) = fresh_at().await;
    let (trial, assessment) = trial(1.0);
    let new = NewTrial { model_id: None, label: "x", trial: &trial, assessment: &assessment, replaces: None };
    let id = store.add_trial(found.id, new).await.unwrap();
    assert!(!store.trial(id).await.unwrap().of_older_engine);
    let raw = sqlx::PgPool::connect(&url).await.unwrap();
    sqlx::query("update trial set engine = 0").execute(&raw).await.unwrap();
    let row = store.trial(id).await.unwrap();
    assert!(row.of_older_engine && row.engine == 0);
    store.assess_again(id, &assessment).await.unwrap();
    let again = store.trial(id).await.unwrap();
    assert!(!again.of_older_engine && again.revision > row.revision);
    assert!(matches!(store.assess_again(Uuid::nil(), &assessment).await, Err(Error::NotFound { .. })));
}
