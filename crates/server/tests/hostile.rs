//! Requests that mean harm, or are clumsy: refused in words at the field they are about, quickly, and without a failure of the
//! server; and a server that stays there, whatever happens to what it stands on.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, dead_code)]

mod support;

use antistasis_cluster::{Cluster, Durability};
use antistasis_store::Store;
use reqwest::{Method, StatusCode};
use serde_json::{Value, json};
use std::io::{Read, Write};
use std::net::TcpStream;
use std::time::{Duration, Instant};
use support::Site;

fn trial() -> Value {
    support::trial(&json!({ "kind": "pid", "gain": 1.0, "integral_time": 10.0 }))
}

/// Every text of a document in turn, with a way to put another in its place.
fn texts(document: &Value, path: String, found: &mut Vec<String>) {
    match document {
        Value::String(_) => found.push(path),
        Value::Array(list) => list.iter().enumerate().for_each(|(k, value)| texts(value, format!("{path}/{k}"), found)),
        Value::Object(fields) => fields.iter().for_each(|(name, value)| texts(value, format!("{path}/{name}"), found)),
        _ => {}
    }
}

#[tokio::test]
async fn a_text_that_cannot_be_kept_is_refused_wherever_it_stands() {
    let site = Site::open().await;
    let bodies = [
        ("/simulate", Method::POST, trial()),
        ("/loops/TIC-1/trials", Method::POST, json!({ "trial": trial(), "label": "first" })),
        (
            "/loops",
            Method::POST,
            json!({
                "tag": "TIC-2", "name": "Second", "difficulty": "", "notes": "n", "area": "Area",
                "pv": { "tag": "TIC-2.PV", "span": { "low": 0.0, "high": 1.0, "unit": "m" } },
                "op": { "tag": "TIC-2.OP", "span": { "low": 0.0, "high": 100.0, "unit": "%" } },
            }),
        ),
        ("/areas", Method::POST, json!({ "name": "Another" })),
        (
            "/saved",
            Method::POST,
            json!({ "name": "mine", "kind": "plant", "spec": trial()["plant"], "from_loop": "TIC-1" }),
        ),
        ("/processes/read", Method::POST, json!({ "text": "x' = 1" })),
    ];
    for (path, method, body) in bodies {
        let mut found = Vec::new();
        texts(&body, String::new(), &mut found);
        for place in found {
            let mut hostile = body.clone();
            *hostile.pointer_mut(&place).unwrap() = json!("a\u{0}b");
            let answer = site.request(method.clone(), path).json(&hostile).send().await.unwrap();
            assert!(answer.status().is_client_error(), "{path} {place}: {}", answer.status());
        }
    }
    for path in ["/loops/TIC-1%00", "/loops/%00/trials", "/loops?x=%00", "/records/%00", "/uploads?name=%00"] {
        let answer = site.request(Method::GET, path).send().await.unwrap();
        assert!(answer.status().is_client_error(), "{path}: {}", answer.status());
    }
    // Where it stands is said.
    let mut named = json!({ "name": "a" });
    named["name"] = json!("a\u{0}");
    let said = site.send(Method::POST, "/areas", &named, StatusCode::UNPROCESSABLE_ENTITY).await;
    assert_eq!(said["field"], "name");
    // So are names of fields; a backslash before such letters is no such character.
    let mut plant = json!({ "kind": "plant", "spec": trial()["plant"] });
    plant["spec"]["process"] =
        json!({ "structure": "library", "process": "stirred_reactor", "parameters": { "a\u{0}": 1.0 } });
    let said = site.refused("/saved", &json!({ "name": "mine", "content": plant })).await;
    assert_eq!(said["field"], "content.spec.process.parameters", "{said}");
    site.send(Method::POST, "/areas", &json!({ "name": r"C:\u0000" }), StatusCode::CREATED).await;
}

#[tokio::test]
async fn what_refers_to_nothing_is_no_failure_of_the_server() {
    let site = Site::open().await;
    let unknown = "01890000-0000-7000-8000-000000000000";
    let kept = json!({ "trial": trial(), "label": "a", "model_id": unknown, "replaces": unknown });
    let answer = site.request(Method::POST, "/loops/TIC-1/trials").json(&kept).send().await.unwrap();
    assert!(!answer.status().is_server_error(), "{}", answer.status());
    let changed = json!({ "trial": trial(), "changed_from": unknown });
    site.send(Method::POST, "/loops/TIC-1/trials", &changed, StatusCode::NOT_FOUND).await;
    for path in ["/models/", "/trials/", "/records/", "/imports/", "/sweeps/", "/tunings/"] {
        let answer = site.request(Method::GET, &format!("{path}{unknown}")).send().await.unwrap();
        assert!(answer.status().is_client_error(), "{path}: {}", answer.status());
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn small_requests_for_immense_work_are_refused_and_the_server_stays_awake() {
    let site = Site::open().await;
    let named = |name: &str| json!({ "name": name, "unit": "%", "value": 0.0 });
    let element = json!({
        "input": "u", "output": "y", "numerator": [1.0], "denominator": vec![1.0; 60], "dead_time": 0.0,
    });
    let many = json!({ "process": {
        "structure": "transfer_functions", "inputs": [named("u")], "outputs": [named("y")], "elements": vec![element; 2000],
    }, "pv_unit": "%" });
    let begun = Instant::now();
    let said = site.refused("/processes/describe", &many).await;
    assert!(said["detail"].as_str().unwrap().contains("at most 100"), "{said}");
    assert!(begun.elapsed() < Duration::from_secs(20));

    let names: Vec<Value> = (0..500).map(|k| named(&format!("p{k}"))).collect();
    let wide = json!({ "process": {
        "structure": "equations", "states": [named("x")], "inputs": [named("u")], "parameters": names,
        "rates": [{ "name": "x", "equals": "-x + u" }], "outputs": [{ "name": "y", "unit": "%", "equals": "x" }],
    }, "pv_unit": "%" });
    let said = site.refused("/processes/describe", &wide).await;
    assert!(said["detail"].as_str().unwrap().contains("at most 100"), "{said}");

    let mut sensor = trial();
    sensor["plant"]["sensor"] = json!({ "time_constant": 1e300 });
    site.refused("/simulate", &sensor).await;
    let mut span = trial();
    span["plant"]["pv"]["span"]["high"] = json!(1e-308);
    let said = site.refused("/simulate", &span).await;
    assert_eq!(said["field"], "plant.pv.span.high", "{said}");
    for number in [1e308, 1e-200, 1e300, -1e308] {
        let mut wild = trial();
        wild["plant"]["process"]["time_constant"] = json!(number);
        site.refused("/simulate", &wild).await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn while_everything_is_busy_the_server_says_how_it_is() {
    let site = Site::open().await;
    let mut long = trial();
    long["scenario"] = json!({ "duration": 400_000.0, "scan": 0.2, "seed": 1, "events": [] });
    let address = format!("http://localhost:{}/api/v1/simulate", site.port);
    let asked: Vec<_> = (0..12).map(|_| tokio::spawn(site.client.post(&address).json(&long).send())).collect();
    tokio::time::sleep(Duration::from_millis(100)).await;
    let mut slowest = Duration::ZERO;
    for _ in 0..20 {
        let begun = Instant::now();
        site.get("/health").await;
        slowest = slowest.max(begun.elapsed());
        tokio::time::sleep(Duration::from_millis(10)).await;
    }
    // Whoever leaves takes the work along.
    asked.iter().for_each(tokio::task::JoinHandle::abort);
    println!("health took {slowest:?} at most");
    assert!(slowest < Duration::from_secs(5), "{slowest:?}");
    let begun = Instant::now();
    site.send(Method::POST, "/simulate", &trial(), StatusCode::OK).await;
    assert!(begun.elapsed() < Duration::from_secs(60), "{:?}", begun.elapsed());
}

#[tokio::test]
async fn too_many_jobs_are_put_off_and_the_server_says_when_to_come_again() {
    let site = Site::open().await;
    let request = json!({ "trial": trial(), "kind": "trade_off" });
    let mut begun = Vec::new();
    let mut refused = None;
    for _ in 0..40 {
        let answer = site.request(Method::POST, "/tunings").json(&request).send().await.unwrap();
        match answer.status() {
            StatusCode::ACCEPTED => {
                begun.push(answer.json::<Value>().await.unwrap()["id"].as_str().unwrap().to_owned())
            }
            status => {
                assert_eq!(status, StatusCode::SERVICE_UNAVAILABLE);
                refused = Some(answer.headers()["retry-after"].to_str().unwrap().to_owned());
                break;
            }
        }
    }
    assert_eq!(refused.as_deref(), Some("1"));
    assert_eq!(begun.len(), 16);
    for id in begun {
        site.send(Method::DELETE, &format!("/tunings/{id}"), &json!(null), StatusCode::OK).await;
    }
}

#[tokio::test]
async fn a_request_that_never_says_what_it_wants_is_cut_off() {
    let site = Site::open().await;
    let port = site.port;
    let waited = tokio::task::spawn_blocking(move || {
        let mut half = TcpStream::connect(("127.0.0.1", port)).unwrap();
        half.write_all(b"GET /api/v1/health HTTP/1.1\r\nHost: local").unwrap();
        half.set_read_timeout(Some(Duration::from_secs(120))).unwrap();
        let begun = Instant::now();
        let mut rest = Vec::new();
        let _ = half.read_to_end(&mut rest);
        begun.elapsed()
    });
    assert!(waited.await.unwrap() < Duration::from_secs(60));
    site.get("/health").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_database_that_is_killed_comes_back_and_nothing_that_was_acknowledged_is_lost() {
    let directory = std::env::temp_dir().join(format!("antistasis-killed-{}", std::process::id()));
    let _ = std::fs::remove_dir_all(&directory);
    // What is written must survive: this one waits for the disk.
    let cluster = Cluster::start(&directory, Durability::Kept).unwrap();
    let database = cluster.url("killed");
    drop(Store::open(&database).await.unwrap());
    let site = Site::on(database).await;
    let mut kept = Vec::new();
    for round in 0..3 {
        for k in 0..5 {
            let name = format!("Area {round} {k}");
            site.send(Method::POST, "/areas", &json!({ "name": name }), StatusCode::CREATED).await;
            kept.push(name);
        }
        let process = cluster.process().to_string();
        assert!(std::process::Command::new("kill").args(["-9", &process]).status().unwrap().success());
        // While it is away the server says so at once, and asks to come again; then it answers by itself.
        let begun = Instant::now();
        let mut was_away = false;
        loop {
            let asked = Instant::now();
            let answer = site.request(Method::GET, "/health").send().await.unwrap();
            assert!(asked.elapsed() < Duration::from_secs(20), "{:?}", asked.elapsed());
            match answer.status() {
                StatusCode::OK if was_away || begun.elapsed() > Duration::from_secs(1) => break,
                StatusCode::OK => {}
                status => {
                    assert_eq!(status, StatusCode::SERVICE_UNAVAILABLE, "{:?}", answer.text().await);
                    was_away = true;
                }
            }
            assert!(begun.elapsed() < Duration::from_secs(120), "it does not come back");
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
        let areas = site.get("/areas").await;
        let names: Vec<&str> = areas.as_array().unwrap().iter().map(|area| area["name"].as_str().unwrap()).collect();
        assert!(kept.iter().all(|name| names.contains(&name.as_str())), "{names:?}");
    }
    site.server.abort();
    drop(cluster);
    let _ = std::fs::remove_dir_all(&directory);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 4)]
async fn a_hundred_and_twenty_pins_at_once_leave_one() {
    let site = Site::open().await;
    let mut ids = Vec::new();
    for k in 0..4 {
        let mut one = trial();
        one["candidate"]["controller"]["gain"] = json!(1.0 + f64::from(k));
        let row = site.send(Method::POST, "/loops/TIC-1/trials", &json!({ "trial": one }), StatusCode::CREATED).await;
        ids.push(row["id"].as_str().unwrap().to_owned());
    }
    let pins: Vec<_> = (0..120)
        .map(|k| {
            let request =
                site.request(Method::PUT, &format!("/trials/{}/pin", ids[k % 4])).json(&json!({ "pinned": true }));
            tokio::spawn(request.send())
        })
        .collect();
    for pin in pins {
        let answer = pin.await.unwrap().unwrap();
        assert!(answer.status().is_success(), "{}: {}", answer.status(), answer.text().await.unwrap());
    }
    let trials = site.get("/loops/TIC-1/trials").await;
    assert_eq!(trials.as_array().unwrap().iter().filter(|row| row["pinned"] == true).count(), 1);
}

#[tokio::test]
async fn nothing_is_stored_that_no_trial_and_no_record_could_be_made_of() {
    let site = Site::open().await;
    let mut scenario = trial()["scenario"].clone();
    scenario["duration"] = json!(-5.0);
    let saved = json!({ "name": "never", "content": { "kind": "scenario", "spec": scenario } });
    let said = site.refused("/saved", &saved).await;
    assert!(said["detail"].as_str().unwrap().contains("duration"), "{said}");
    let candidate = json!({ "controller": { "kind": "pid", "gain": 1.0, "integral_time": -1.0 } });
    let saved = json!({ "name": "never", "content": { "kind": "candidate", "spec": candidate } });
    assert!(site.refused("/saved", &saved).await["detail"].as_str().unwrap().contains("integral time"));

    let rows: String = (0..30).map(|k| format!("{k},{},40\n", 50 + k % 3)).collect();
    let uploaded = site.upload(format!("time,PV,OP\n{rows}")).await;
    for (part, value, field) in [
        ("tag", String::new(), "mapping.channels.0.tag"),
        ("tag", "  ".into(), "mapping.channels.0.tag"),
        ("tag", "x".repeat(1_000_000), "mapping.channels.0.tag"),
        ("tag", "a\nb".into(), "mapping.channels.0.tag"),
        ("unit", "u".repeat(100), "mapping.channels.0.unit"),
    ] {
        let mut mapping = uploaded["preview"]["guess"].clone();
        mapping["channels"][0][part] = json!(value);
        let body = json!({ "upload_id": uploaded["id"], "name": "record", "mapping": mapping });
        let said = site.refused("/loops/TIC-1/imports", &body).await;
        assert_eq!(said["field"], field, "{part}: {said}");
    }
    assert_eq!(site.get("/loops/TIC-1/records").await, json!([]));
}
