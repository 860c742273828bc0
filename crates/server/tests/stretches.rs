//! Models of several stretches and several records, over the API and into archives.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

mod support;

use reqwest::{Method, StatusCode};
use serde_json::{Value, json};
use support::{Site, taken};

/// Steps of a process of first order, 1.2 °C/%, 40 s and 12 s dead, which stands at this level; by its analytic response.
fn steps(level: f64, rest: f64, moves: &[(f64, f64)], pv: &str) -> String {
    let mut text = format!("time [s],{pv} [°C],TIC-1.OP [%]\n");
    for k in 0..300 {
        let t = 2.0 * f64::from(k);
        let lift = |(at, by): &(f64, f64)| 1.2 * by * (1.0 - (-(t - at - 12.0).max(0.0) / 40.0).exp());
        let op: f64 = rest + moves.iter().filter(|(at, _)| t >= *at).map(|(_, by)| by).sum::<f64>();
        text += &format!("{t},{},{op}\n", level + moves.iter().map(lift).sum::<f64>());
    }
    text
}

fn parameter(model: &Value, name: &str) -> f64 {
    let all = model["model"]["parameters"].as_array().unwrap();
    all.iter().find(|parameter| parameter["name"] == json!(name)).unwrap()["value"].as_f64().unwrap()
}

async fn two_records(site: &Site) -> (Value, Value) {
    let first = site.import(steps(80.0, 50.0, &[(100.0, 10.0), (350.0, -6.0)], "TIC-1.PV")).await;
    // The same instrument under another name: the role tells that it is the PV.
    let second = site.import(steps(95.0, 62.0, &[(60.0, -8.0)], "Outlet.PV")).await;
    (first, second)
}

#[tokio::test]
async fn one_model_of_two_records_is_drawn_analysed_and_goes_with_either() {
    let site = Site::open().await;
    let (first, second) = two_records(&site).await;
    let request = json!({
        "record_id": first["id"],
        "windows": { "from": 0.0, "to": 300.0, "validation": { "kind": "window", "from": 300.0, "to": 598.0 } },
        "further": [{ "record_id": second["id"] }, { "record_id": first["id"], "from": 320.0, "to": 500.0 }],
        "options": { "structure": { "kind": "fopdt" } }
    });
    let model = site.send(Method::POST, "/loops/TIC-1/models", &request, StatusCode::CREATED).await;
    let id = model["id"].as_str().unwrap();
    assert!((parameter(&model, "gain") - 1.2).abs() < 1e-3 && (parameter(&model, "dead_time") - 12.0).abs() < 0.05);
    assert_eq!(model["further"].as_array().unwrap().len(), 2);
    assert_eq!((&model["further"][0]["from"], &model["further"][0]["to"]), (&json!(0.0), &json!(598.0)));
    let level = |k: usize| model["model"]["further"][k]["operating"]["pv"].as_f64().unwrap();
    assert!((level(0) - 95.0).abs() < 0.01, "{}", level(0));
    assert!(model["validation"]["performance"]["fit_simulated"].as_f64().unwrap() > 99.0);

    // In the first record: the window, what it is held against, and between them nothing.
    let residuals =
        |curve: &Value| curve["residual"].as_array().unwrap().iter().filter_map(Value::as_f64).collect::<Vec<_>>();
    for query in [String::new(), format!("?record={}", second["id"].as_str().unwrap())] {
        let curve = site.get(&format!("/models/{id}/curve{query}")).await;
        let left = residuals(&curve);
        assert!(left.len() > 250 && left.iter().all(|e| e.abs() < 0.05), "{query}: {} of {left:?}", left.len());
    }
    let analysis = site.get(&format!("/models/{id}/analysis")).await;
    assert!(analysis["estimation"]["performance"]["fit_simulated"].as_f64().unwrap() > 99.0);
    let samples = analysis["estimation"]["performance"]["samples"].as_u64().unwrap();
    assert_eq!(samples, 151 + 300 + 91);
    let profile = site.get(&format!("/models/{id}/profile?parameter=time_constant")).await;
    assert!(profile["points"].as_array().unwrap().len() > 10);

    // Another preparation of either makes it stale.
    let stale = |rows: Value| rows[0]["stale"].as_bool().unwrap();
    assert!(!stale(site.get("/loops/TIC-1/models").await));
    let shift = json!([{ "operation": { "kind": "shift", "tag": null, "by": 0.1 }, "enabled": true }]);
    let preparation = format!("/records/{}/preparation", second["id"].as_str().unwrap());
    site.change(&preparation, "*", &shift, StatusCode::OK).await;
    assert!(stale(site.get("/loops/TIC-1/models").await));
    site.change(&preparation, "*", &json!([]), StatusCode::OK).await;

    // Out and in again elsewhere: its records are found by their new names.
    let archive = site.request(Method::GET, "/loops/TIC-1/archive").send().await.unwrap().bytes().await.unwrap();
    let elsewhere = Site::empty().await;
    let sent = elsewhere.request(Method::POST, "/archives").body(archive.to_vec()).send().await.unwrap();
    taken(sent, StatusCode::CREATED).await;
    let there = &elsewhere.get("/loops/TIC-1/models").await[0];
    let record = there["further"][0]["record_id"].as_str().unwrap();
    let curve = elsewhere.get(&format!("/models/{}/curve?record={record}", there["id"].as_str().unwrap())).await;
    assert_eq!(residuals(&curve).len(), 300);
    assert_eq!(there["stale"], json!(false));

    // The model goes with either of its records, which is told before, and comes back with it.
    let second_id = second["id"].as_str().unwrap();
    let hanging = site.get(&format!("/hanging/record/{second_id}")).await;
    assert_eq!(hanging["along"], json!(["model A"]));
    let gone = site.request(Method::DELETE, &format!("/records/{second_id}")).send().await.unwrap();
    let gone = taken(gone, StatusCode::OK).await;
    assert_eq!(site.get("/loops/TIC-1/models").await, json!([]));
    let restore = site.request(Method::POST, &format!("/bin/{}/restore", gone["id"].as_str().unwrap()));
    assert!(restore.send().await.unwrap().status().is_success());
    assert_eq!(site.get("/loops/TIC-1/models").await.as_array().unwrap().len(), 1);
}

#[tokio::test]
async fn stretches_that_do_not_fit_are_refused_at_their_field() {
    let site = Site::open().await;
    let (first, second) = two_records(&site).await;
    let with = |further: Value| json!({ "record_id": first["id"], "further": further, "options": { "structure": { "kind": "fopdt" } } });
    let nowhere = with(json!([{ "record_id": second["id"], "from": 5000.0, "to": 6000.0 }]));
    let problem = site.refused("/loops/TIC-1/models", &nowhere).await;
    assert_eq!(problem["field"], json!("further[0]"));
    assert!(problem["detail"].as_str().unwrap().contains("within 0 to 598 s"), "{problem}");
    let short = with(json!([{ "record_id": second["id"], "from": 0.0, "to": 10.0 }]));
    let problem = site.refused("/loops/TIC-1/models", &short).await;
    assert!(problem["detail"].as_str().unwrap().contains("in stretch 2"), "{problem}");
    let many = with(json!(vec![json!({ "record_id": second["id"] }); 60]));
    let problem = site.refused("/loops/TIC-1/models", &many).await;
    assert_eq!(problem["field"], json!("further"));
    let unknown = with(json!([{ "record_id": "00000000-0000-7000-8000-000000000000" }]));
    site.send(Method::POST, "/loops/TIC-1/models", &unknown, StatusCode::NOT_FOUND).await;
    let good = with(json!([{ "record_id": second["id"] }]));
    let model = site.send(Method::POST, "/loops/TIC-1/models", &good, StatusCode::CREATED).await;
    let other = site.import("t,PV,OP\n0,1,2\n1,,3\n3.5,-0.1,4\n9,2,5\n".into()).await;
    let path = format!("/models/{}/curve?record={}", model["id"].as_str().unwrap(), other["id"].as_str().unwrap());
    let answer = site.request(Method::GET, &path).send().await.unwrap();
    let problem = taken(answer, StatusCode::UNPROCESSABLE_ENTITY).await;
    assert_eq!(problem["field"], json!("record"));
}

#[tokio::test]
async fn a_model_follows_the_new_tag_of_its_disturbance() {
    let site = Site::open().await;
    let mut text = String::from("time [s],TIC-1.PV [°C],TIC-1.OP [%],F [t/h]\n");
    let (mut x, pole) = (0.0, (-2.0f64 / 30.0).exp());
    for k in 0..300 {
        let (op, feed) = (if k >= 40 { 55.0 } else { 50.0 }, if k >= 160 { 14.0 } else { 12.0 });
        text += &format!("{},{},{op},{feed}\n", 2 * k, 80.0 + x);
        x = pole * x + (1.0 - pole) * (1.5 * (op - 50.0) - 2.0 * (feed - 12.0));
    }
    let record = site.import(text).await;
    let id = record["id"].as_str().unwrap();
    let shift = json!([{ "operation": { "kind": "shift", "tag": "F", "by": 1.0 }, "enabled": true }]);
    site.change(&format!("/records/{id}/preparation"), "*", &shift, StatusCode::OK).await;
    let fit = json!({ "record_id": id, "options": { "structure": { "kind": "fopdt" }, "disturbances": ["F"] } });
    let model = site.send(Method::POST, "/loops/TIC-1/models", &fit, StatusCode::CREATED).await;
    let tags = |channel: &str, role: &str| {
        json!({ "name": "record", "channels": [{ "tag": "TIC-1.PV", "role": "pv", "unit": "°C" },
            { "tag": "TIC-1.OP", "role": "op", "unit": "%" }, { "tag": channel, "role": role, "unit": "t/h" }] })
    };
    let role = record["channels"][2]["role"].as_str().unwrap();
    site.change(&format!("/records/{id}"), "*", &tags("FI-9.PV", role), StatusCode::OK).await;
    let row = &site.get("/loops/TIC-1/models").await[0];
    assert_eq!((&row["stale"], &row["options"]["disturbances"]), (&json!(false), &json!(["FI-9.PV"])));
    assert_eq!(row["model"]["inputs"][1]["tag"], json!("FI-9.PV"));
    assert_eq!(row["preparation"][0]["operation"]["tag"], json!("FI-9.PV"));
    let path = format!("/models/{}", model["id"].as_str().unwrap());
    let curve = site.get(&format!("{path}/curve")).await;
    assert_eq!(curve["disturbances"][0]["tag"], json!("FI-9.PV"));
    assert!(curve["residual"].as_array().unwrap().iter().filter_map(Value::as_f64).all(|e| e.abs() < 0.1));
    site.get(&format!("{path}/analysis")).await;
    // Another role is another record: the model is of what it was.
    site.change(&format!("/records/{id}"), "*", &tags("FI-9.PV", "other"), StatusCode::OK).await;
    assert_eq!(site.get("/loops/TIC-1/models").await[0]["stale"], json!(role != "other"));
}
