//! Long work in the queue: shared by workers, gone on with after an end in the middle, and always the same to the last bit.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, dead_code)]

mod support;

use antistasis_core::proof::{Proof, prove};
use antistasis_store::Store;
use reqwest::{Method, StatusCode};
use serde_json::{Value, json};
use std::time::Duration;
use support::{Site, trial};

/// Two candidates under the proposed disturbances on so many plants.
async fn proof(site: &Site, plants: usize) -> Value {
    let controller = |gain: f64| json!({ "kind": "pid", "gain": gain, "integral_time": 10.0 });
    let trial = trial(&controller(1.0));
    let set = site.send(Method::POST, "/proofs/propose", &trial, StatusCode::OK).await;
    let ask = json!({ "plant": trial["plant"], "plants": plants });
    let uncertainty = site.send(Method::POST, "/proofs/uncertainty", &ask, StatusCode::OK).await;
    let candidate = |name: &str, gain: f64| json!({ "name": name, "candidate": { "controller": controller(gain) } });
    json!({
        "version": 1, "plant": trial["plant"], "scan": 0.25, "set": set, "uncertainty": uncertainty, "seed": 3,
        "candidates": [candidate("A", 1.0), candidate("B", 0.2)],
    })
}

async fn begun(site: &Site, proof: &Value) -> String {
    let state = site.send(Method::POST, "/loops/TIC-1/proofs", &json!({ "proof": proof }), StatusCode::ACCEPTED).await;
    format!("/proofs/jobs/{}", state["id"].as_str().unwrap())
}

/// The state of a job once it is as wanted.
async fn until(site: &Site, address: &str, wanted: impl Fn(&Value) -> bool) -> Value {
    for _ in 0..12_000 {
        let state = site.get(address).await;
        if wanted(&state) {
            return state;
        }
        assert_ne!(state["stage"], "failed", "{state}");
        tokio::time::sleep(Duration::from_millis(10)).await;
    }
    panic!("it does not come");
}

async fn done(site: &Site, address: &str) -> Value {
    until(site, address, |state| state["stage"] == "done").await
}

/// What the core makes of a proof in one go.
fn table(proof: &Value) -> Value {
    let proof: Proof = serde_json::from_value(proof.clone()).unwrap();
    serde_json::to_value(prove(&proof).unwrap()).unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn two_workers_share_a_proof_and_the_table_is_that_of_one() {
    let site = Site::open().await;
    let store = Store::open(&site.database).await.unwrap();
    let (_end, ended) = tokio::sync::watch::channel(false);
    let other = tokio::spawn(antistasis_server::work(store, 1, ended));
    let proof = proof(&site, 60).await;
    let address = begun(&site, &proof).await;
    let state = done(&site, &address).await;
    other.abort();
    assert!(state["pieces"].as_i64().unwrap() > 1, "{state}");
    assert_eq!((&state["pieces_done"], &state["share"]), (&state["pieces"], &json!(1.0)));
    assert_eq!(state["outcome"]["row"]["result"], table(&proof));
}

#[tokio::test(flavor = "multi_thread")]
async fn what_was_under_way_goes_on_when_the_server_is_started_again() {
    let site = Site::open().await;
    let proof = proof(&site, 400).await;
    let address = begun(&site, &proof).await;
    let before = until(&site, &address, |state| state["pieces_done"].as_i64().unwrap() > 0).await;
    // It ends like a process that is killed: what it had taken up stays locked until its heart has been silent for a while.
    let site = site.restarted().await;
    let state = done(&site, &address).await;
    assert_eq!(state["pieces"], before["pieces"], "it was not cut again");
    assert_eq!(state["outcome"]["row"]["result"], table(&proof));
    assert_eq!(site.get("/loops/TIC-1/proofs").await.as_array().unwrap().len(), 1);
    // Once more from the beginning, and the same is there once.
    let again = begun(&site, &proof).await;
    assert_eq!(done(&site, &again).await["outcome"]["row"]["id"], state["outcome"]["row"]["id"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_cancelled_ends_and_short_work_passes_long() {
    let site = Site::open().await;
    let long = begun(&site, &proof(&site, 3000).await).await;
    until(&site, &long, |state| state["pieces"].as_i64().unwrap() > 0).await;
    // What takes a moment does not wait for what takes minutes.
    let short = begun(&site, &proof(&site, 2).await).await;
    done(&site, &short).await;
    let state = site.get(&long).await;
    assert_eq!(state["stage"], "running", "{state}");
    // Whoever opens the page now finds it, and follows it to its end.
    let under_way = site.get("/loops/TIC-1/proofs/under-way").await;
    let found: Vec<String> = under_way
        .as_array()
        .unwrap()
        .iter()
        .map(|one| format!("/proofs/jobs/{}", one["id"].as_str().unwrap()))
        .collect();
    assert_eq!(found, std::slice::from_ref(&long));
    // Under another kind it is not there, and goes on.
    let as_sweep = long.replace("/proofs/jobs/", "/sweeps/");
    let answer = site.request(Method::DELETE, &as_sweep).send().await.unwrap();
    assert_eq!(answer.status(), StatusCode::NOT_FOUND);
    assert_eq!(site.get(&long).await["stage"], "running");
    let gone = site.send(Method::DELETE, &long, &Value::Null, StatusCode::OK).await;
    assert_eq!((&gone["stage"], &gone["problem"]["detail"]), (&json!("failed"), &json!("The proof was cancelled.")));
    let done_then = site.get(&long).await["pieces_done"].clone();
    tokio::time::sleep(Duration::from_millis(600)).await;
    assert_eq!(site.get(&long).await["pieces_done"], done_then, "nothing of it is done any more");
    assert_eq!(site.get("/loops/TIC-1/proofs/under-way").await, json!([]));
    assert_eq!(site.get("/loops/TIC-1/proofs").await.as_array().unwrap().len(), 1);
    // Too many at once are put off, and cancelled ones make room.
    let mut all = Vec::new();
    let body = json!({ "proof": proof(&site, 3000).await });
    loop {
        let answer = site.request(Method::POST, "/loops/TIC-1/proofs").json(&body).send().await.unwrap();
        if answer.status() != StatusCode::ACCEPTED {
            assert_eq!(answer.status(), StatusCode::SERVICE_UNAVAILABLE);
            break;
        }
        all.push(answer.json::<Value>().await.unwrap()["id"].as_str().unwrap().to_owned());
    }
    assert_eq!(all.len(), 16);
    for id in all {
        site.send(Method::DELETE, &format!("/proofs/jobs/{id}"), &Value::Null, StatusCode::OK).await;
    }
    let last = begun(&site, &proof(&site, 2).await).await;
    done(&site, &last).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_sweep_is_the_trials_one_by_one() {
    let site = Site::open().await;
    let trial = trial(&json!({ "kind": "pid", "gain": 1.0, "integral_time": 10.0 }));
    let axis =
        json!({ "pointer": "/candidate/controller/gain", "from": 0.5, "to": 2.0, "count": 40, "by_ratio": true });
    let ask = json!({ "trial": trial, "axes": [axis], "question": null });
    let state = site.send(Method::POST, "/sweeps", &ask, StatusCode::ACCEPTED).await;
    let state = done(&site, &format!("/sweeps/{}", state["id"].as_str().unwrap())).await;
    let points = state["outcome"]["points"].as_array().unwrap();
    assert_eq!(points.len(), 40);
    for place in [0, 17, 39] {
        let mut own = trial.clone();
        own["candidate"]["controller"]["gain"] = points[place]["values"][0].clone();
        let run = site.send(Method::POST, "/simulate", &own, StatusCode::OK).await;
        assert_eq!(points[place]["outcome"]["assessment"], run["assessment"], "{place}");
    }
}
