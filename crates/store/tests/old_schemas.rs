//! A database of any older version, with rows in it, is brought up to date and read.
//!
//! The documents in `old/` are as programs of those versions wrote them.

#![allow(clippy::unwrap_used)]

use antistasis_cluster::Cluster;
use antistasis_core::simulation::Trial;
use antistasis_store::{LoopsAsked, Store};
use serde_json::{Value, json};
use sqlx::migrate::MigrateDatabase;
use sqlx::{PgPool, Row};
use std::sync::OnceLock;
use uuid::Uuid;

const TRIALS: [&str; 2] = [include_str!("old/trial-1.json"), include_str!("old/trial-2.json")];
const ASSESSMENT: &str = include_str!("old/assessment-1.json");
const MODEL: &str = include_str!("old/model-4.json");

const LOOPS: [(u128, &str); 2] = [(21, "TIC-204"), (22, "LIC-110")];

/// The tables of a version with a works in them.
async fn works_of(version: usize, name: &str) -> String {
    static CLUSTER: OnceLock<Cluster> = OnceLock::new();
    let url = CLUSTER.get_or_init(|| antistasis_cluster::for_tests().unwrap()).url(name);
    sqlx::Postgres::create_database(&url).await.unwrap();
    let pool = PgPool::connect(&url).await.unwrap();
    let mut migrator = sqlx::migrate!();
    migrator.migrations = migrator.migrations[..version].to_vec().into();
    migrator.run(&pool).await.unwrap();
    let run = async |text: &'static str, values: &[Value], ids: &[u128]| {
        let mut query = sqlx::query(text);
        for id in ids {
            query = query.bind(Uuid::from_u128(*id));
        }
        for value in values {
            query = query.bind(value);
        }
        query.execute(&pool).await.unwrap();
    };
    run("insert into area (id, position, name) values ($1, 0, 'Preheating')", &[], &[1]).await;
    for (id, tag) in LOOPS {
        let signal = |end: &str, high: f64, unit: &str| json!({ "tag": format!("{tag}.{end}"), "span": { "low": 0.0, "high": high, "unit": unit } });
        run(
            "insert into control_loop (id, area_id, position, tag, name, difficulty, pv, op)
            values ($1, $2, 0, $3->>'tag', 'a loop', '', $4, $5)",
            &[json!({ "tag": tag }), signal("PV", 150.0, "°C"), signal("OP", 100.0, "%")],
            &[id, 1],
        )
        .await;
    }
    run(
        "insert into record (id, loop_id, name, origin, sample_interval, duration, length, content_hash, notes, thumbnail)
        values ($1, $2, 'Step test', 'old', 2, 4, 3, 'h', '[]', '[1, 2]')",
        &[],
        &[31, 21],
    )
    .await;
    for (position, tag, role) in [(0, "PV", "pv"), (1, "OP", "op")] {
        let samples: Vec<u8> = [1.0, 2.5, -3.25].iter().flat_map(|value: &f64| value.to_le_bytes()).collect();
        sqlx::query("insert into channel (record_id, position, tag, role, unit) values ($1, $2, $3, $4, '%')")
            .bind(Uuid::from_u128(31))
            .bind(position)
            .bind(tag)
            .bind(role)
            .execute(&pool)
            .await
            .unwrap();
        sqlx::query("insert into chunk (record_id, position, sequence, samples) values ($1, $2, 0, $3)")
            .bind(Uuid::from_u128(31))
            .bind(position)
            .bind(samples)
            .execute(&pool)
            .await
            .unwrap();
    }
    let assessment: Value = serde_json::from_str(ASSESSMENT).unwrap();
    for (k, text) in TRIALS.iter().enumerate() {
        let spec: Value = serde_json::from_str(text).unwrap();
        let digest: Trial = serde_json::from_str(text).unwrap();
        let more = json!({ "digest": digest.digest(), "label": format!("old trial {k}") });
        run(
            "insert into trial (id, loop_id, number, label, digest, spec, assessment, pinned)
            values ($1, $2, 1, $3->>'label', $3->>'digest', $4, $5, true)",
            &[more, spec, assessment.clone()],
            &[41 + k as u128, LOOPS[k].0],
        )
        .await;
    }
    if version >= 2 {
        let model: Value = serde_json::from_str(MODEL).unwrap();
        let part = |name: &str| model[name].clone();
        run(
            "insert into model (id, loop_id, number, record_id, record_hash, window_from, window_to, chosen, result, options,
                preparation, validation_from, validation_to, validation, reason)
            values ($1, $2, 1, $3, 'h', 0, 2, true, $4, $5, $6, 2, 4, $7, 'as good as any')",
            &[part("result"), part("options"), part("preparation"), part("validation")],
            &[51, 21, 31],
        )
        .await;
    }
    if version == 3 {
        let spec = serde_json::from_str::<Value>(TRIALS[0]).unwrap()["scenario"].clone();
        for id in [21, 22] {
            run(
                "insert into saved (loop_id, kind, name, spec) values ($1, 'scenario', 'step and load', $2)",
                std::slice::from_ref(&spec),
                &[id],
            )
            .await;
        }
    }
    pool.close().await;
    url
}

#[tokio::test]
async fn each_older_version_is_brought_up_to_date_with_all_that_it_held() {
    for version in 1..sqlx::migrate!().migrations.len() {
        let name = format!("old_{version}");
        let url = works_of(version, &name).await;
        let store = Store::open(&url).await.unwrap();
        // A second start changes nothing.
        store.close().await;
        let store = Store::open(&url).await.unwrap();
        let loops = store.loops(&LoopsAsked::default()).await.unwrap().rows;
        assert_eq!(loops.len(), 2, "version {version}");
        let found = store.find_loop("TIC-204").await.unwrap();
        let records = store.records(found.id).await.unwrap();
        assert_eq!((records.len(), records[0].length, records[0].preparation.len()), (1, 3, 0));
        let record = store.record(records[0].id).await.unwrap();
        assert_eq!(record.channels[0].values, [1.0, 2.5, -3.25]);
        for (k, (_, tag)) in LOOPS.iter().enumerate() {
            let found = store.find_loop(tag).await.unwrap();
            let trials = store.trials(found.id).await.unwrap();
            assert_eq!(trials.len(), 1, "version {version}, {tag}");
            assert_eq!((trials[0].label.as_str(), trials[0].pinned), (format!("old trial {k}").as_str(), true));
            let trial = store.trial(trials[0].id).await.unwrap();
            let spec = &trial.trial;
            // It still runs, and says what it said.
            assert!(
                spec.run().unwrap().columns.iter().all(|column| column.values.iter().all(|value| value.is_finite()))
            );
            let kept: Trial = serde_json::from_str(TRIALS[k]).unwrap();
            assert_eq!(spec.digest(), kept.digest());
        }
        let models = store.models(found.id).await.unwrap();
        assert_eq!(models.len(), usize::from(version >= 2), "version {version}");
        for model in &models {
            assert!(model.chosen && !model.stale && model.further.is_empty() && model.reason == "as good as any");
            assert!(model.model.process().is_ok() && model.validation.is_some());
        }
        let saved = store.saved(None).await.unwrap().rows;
        assert_eq!(saved.len(), if version == 3 { 2 } else { 0 });
        // Two of one name are told apart.
        if let [one, other] = &saved[..] {
            assert!(one.name != other.name && one.name.starts_with("step and load ("), "{} {}", one.name, other.name);
        }
        store.close().await;
        let pool = PgPool::connect(&url).await.unwrap();
        let row = sqlx::query("select count(*) from _sqlx_migrations where success").fetch_one(&pool).await.unwrap();
        assert_eq!(row.get::<i64, _>(0) as usize, sqlx::migrate!().migrations.len());
    }
}
