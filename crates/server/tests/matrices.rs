//! Models of several inputs and outputs over the API: from a record with two PVs and OPs to a trial of two loops.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

mod support;

use reqwest::{Method, StatusCode};
use serde_json::{Value, json};
use support::Site;

/// Gain, time constant and dead time of each cell: a row an output.
const CELLS: [[[f64; 3]; 2]; 2] = [[[1.2, 40.0, 12.5], [-0.5, 60.0, 5.0]], [[0.4, 20.0, 3.0], [0.9, 30.0, 8.5]]];

/// Steps of one OP after the other, by the closed step response of each cell; both move in either half.
fn record() -> String {
    let moves: [&[(f64, f64)]; 2] = [&[(100.0, 5.0), (900.0, -6.0)], &[(500.0, 4.0), (1300.0, -5.0)]];
    let mut text = String::from("time [s],TIC-1.PV [°C],TIC-1.OP [%],FIC-2.PV [m³/h],FIC-2.OP [%]\n");
    for k in 0..850 {
        let t = 2.0 * f64::from(k);
        let op = |j: usize| 50.0 + moves[j].iter().filter(|(at, _)| t >= *at).map(|(_, size)| size).sum::<f64>();
        let pv = |i: usize| {
            let of = |j: usize| {
                let [gain, lag, late] = CELLS[i][j];
                let answer = |(at, size): &(f64, f64)| -gain * size * (-(t - at - late).max(0.0) / lag).exp_m1();
                moves[j].iter().map(answer).sum::<f64>()
            };
            40.0 + of(0) + of(1)
        };
        text += &format!("{t},{},{},{},{}\n", pv(0), op(0), pv(1), op(1));
    }
    text
}

fn matrix(record: &Value, cells: &Value) -> Value {
    json!({
        "record_id": record["id"],
        "options": {
            "structure": { "kind": "matrix" }, "disturbances": ["FIC-2.OP"], "outputs": ["FIC-2.PV"], "cells": cells,
        },
    })
}

#[tokio::test]
async fn from_two_pvs_and_ops_to_two_loops() {
    let site = Site::open().await;
    let record = site.import(record()).await;
    let lag = json!({ "kind": "fopdt" });
    let request = matrix(&record, &json!([[lag, lag], [lag, lag]]));
    let model = site.send(Method::POST, "/loops/TIC-1/models", &request, StatusCode::CREATED).await;
    for (row, cells) in model["model"]["rows"].as_array().unwrap().iter().zip(CELLS) {
        let values: Vec<f64> =
            row["parameters"].as_array().unwrap().iter().map(|own| own["value"].as_f64().unwrap()).collect();
        for (value, wanted) in values.iter().zip(cells.concat()) {
            assert!((value - wanted).abs() < 1e-2 * wanted.abs().max(1.0), "{value} for {wanted}");
        }
    }
    assert_eq!(model["validation"]["outputs"].as_array().unwrap().len(), 2);

    // All ways over one time; each output by itself; curves of either.
    let id = model["id"].as_str().unwrap();
    let cells = site.get(&format!("/models/{id}/cells")).await;
    let last = |i: usize, j: usize| cells["rows"][i][j]["step"]["times"].as_array().unwrap().last().cloned();
    assert_eq!(last(0, 0), last(1, 1));
    let settled = cells["rows"][0][1]["step"]["values"].as_array().unwrap().last().unwrap().as_f64().unwrap();
    assert!((settled + 0.5).abs() < 0.01, "{settled}");
    let own = site.get(&format!("/models/{id}/analysis?output=FIC-2.PV")).await;
    let tags: Vec<&Value> = own["inputs"].as_array().unwrap().iter().map(|input| &input["tag"]).collect();
    assert_eq!(tags, [&json!("TIC-1.OP"), &json!("FIC-2.OP")]);
    assert_eq!(own["steps"].as_array().unwrap().len(), 2);
    for tag in ["TIC-1.PV", "FIC-2.PV"] {
        let curve = site.get(&format!("/models/{id}/curve?output={tag}")).await;
        assert_eq!(curve["output"]["tag"], json!(tag));
        let left: Vec<f64> = curve["residual"].as_array().unwrap().iter().filter_map(Value::as_f64).collect();
        assert!(!left.is_empty() && left.iter().all(|value| value.abs() < 0.01), "{tag}");
    }

    // A trial of one loop a pair, which stands on the model and keeps it; an edited cell does not.
    let choice = json!({ "model_id": id, "choice": { "closed_loop_time_constant": null } });
    let proposal = site.send(Method::POST, "/loops/TIC-1/propose", &choice, StatusCode::OK).await;
    assert_eq!((&proposal["tuning"], &proposal["model_id"]), (&Value::Null, &json!(id)));
    assert!(proposal["settings"].as_str().unwrap().starts_with("2 loops"), "{}", proposal["settings"]);
    let mut trial = proposal["trial"].clone();
    assert_eq!(trial["candidate"]["further"][0]["sets"][0]["to"], json!("FIC-2.OP"));
    let run = site.send(Method::POST, "/simulate", &trial, StatusCode::OK).await;
    assert_eq!(run["assessment"]["further"][0]["margins"]["stable"], json!(true));
    let keep = json!({ "trial": trial, "model_id": id, "changed_from": null, "label": "two loops" });
    let kept = site.send(Method::POST, "/loops/TIC-1/trials", &keep, StatusCode::CREATED).await;
    assert_eq!(kept["model_id"], json!(id));
    trial["plant"]["process"]["elements"][0]["numerator"] = json!([9.0]);
    let keep = json!({ "trial": trial, "model_id": id, "changed_from": kept["id"], "label": null });
    let edited = site.send(Method::POST, "/loops/TIC-1/trials", &keep, StatusCode::CREATED).await;
    assert_eq!(edited["model_id"], Value::Null);

    // Over frequency: either loop with the other closed, and both together; who is not there is refused at its field.
    let mut trial = kept["trial"].clone();
    for name in ["TIC-1", "FIC-2"] {
        let path = format!("/robustness/frequency?controller={name}");
        let found = site.send(Method::POST, &path, &trial, StatusCode::OK).await;
        assert_eq!(found["together"]["loops"], json!(["TIC-1", "FIC-2"]));
        assert!(found["together"]["stable"] == json!(true) && !found["curves"].is_null(), "{name}");
    }
    let refused = site.refused("/robustness/frequency?controller=LIC-9", &trial).await;
    assert_eq!(refused["field"], json!("controller"));
    // One after the other, and one more.
    let ordered = site.send(Method::POST, "/tune/in-order", &trial, StatusCode::OK).await;
    assert_eq!(ordered["loops"].as_array().unwrap().len(), 2, "{ordered}");
    let run = site.send(Method::POST, "/simulate", &ordered["trial"], StatusCode::OK).await;
    assert_eq!(run["assessment"]["margins"]["stable"], json!(true));
    assert_eq!(run["stands_alone"], json!(true));
    let more = site.send(Method::POST, "/tune/another", &trial, StatusCode::OK).await;
    assert_eq!(more["wired"]["sets"][0]["select"], json!("lowest"), "{more}");
    // What asks for one loop is refused where there is none by itself.
    trial["candidate"]["further"].as_array_mut().unwrap().push(more["wired"].clone());
    let alone = site.send(Method::POST, "/simulate", &trial, StatusCode::OK).await;
    assert_eq!(alone["stands_alone"], json!(false));
    let refused = site.refused("/robustness/mismatch", &json!({ "trial": trial })).await;
    assert!(refused["detail"].as_str().unwrap().contains("sets no OP by itself"), "{refused}");

    // What was stored is what was fitted.
    let models = site.get("/loops/TIC-1/models").await;
    assert_eq!(models[0]["model"]["rows"], model["model"]["rows"]);
}

#[tokio::test]
async fn what_is_no_matrix_is_refused_at_its_cell() {
    let site = Site::open().await;
    let record = site.import(record()).await;
    let lag = json!({ "kind": "fopdt" });
    let refused = site.refused("/loops/TIC-1/models", &matrix(&record, &json!([[lag, lag]]))).await;
    assert_eq!(refused["field"], json!("cells"), "{refused}");
    let refused = site.refused("/loops/TIC-1/models", &matrix(&record, &json!([[lag, lag], [null, null]]))).await;
    assert_eq!(
        (refused["field"].as_str(), refused["detail"].as_str()),
        (Some("cells[1]"), Some("No input acts on FIC-2.PV: give it one, or leave it out."))
    );
    let arx = json!({ "kind": "arx", "na": 1, "nb": 1, "nk": 1 });
    let refused = site.refused("/loops/TIC-1/models", &matrix(&record, &json!([[lag, arx], [lag, lag]]))).await;
    assert_eq!(refused["field"], json!("cells[0][1]"), "{refused}");
    // Cells that are empty have no response to be asked for, and none of it breaks the analysis.
    let diagonal = matrix(&record, &json!([[lag, null], [null, lag]]));
    let model = site.send(Method::POST, "/loops/TIC-1/models", &diagonal, StatusCode::CREATED).await;
    let id = model["id"].as_str().unwrap();
    let cells = site.get(&format!("/models/{id}/cells")).await;
    assert_eq!(cells["rows"][0][1], Value::Null);
    let own = site.get(&format!("/models/{id}/analysis?output=FIC-2.PV")).await;
    assert_eq!(own["inputs"].as_array().unwrap().len(), 1);
    let reduce = json!({ "structure": lag, "method": "half_rule" });
    let refused = site.refused(&format!("/models/{id}/reduction"), &reduce).await;
    assert!(refused["detail"].as_str().unwrap().contains("low order already"), "{refused}");
    let path = format!("/models/{id}/profile?parameter=dead_time");
    let answer = site.request(Method::GET, &path).send().await.unwrap();
    assert_eq!(answer.status(), StatusCode::UNPROCESSABLE_ENTITY);
}

#[tokio::test]
async fn a_record_may_have_several_pvs_and_the_plant_is_moved_by_one_op_after_the_other() {
    let site = Site::open().await;
    let record = site.import(record()).await;
    let id = record["id"].as_str().unwrap();
    let mut channels = record["channels"].clone();
    for channel in channels.as_array_mut().unwrap() {
        match channel["tag"].as_str().unwrap() {
            "FIC-2.PV" => channel["role"] = json!("pv"),
            "FIC-2.OP" => channel["role"] = json!("op"),
            _ => {}
        }
    }
    let before = record["revision"].to_string();
    let body = json!({ "name": "record", "remark": "", "channels": channels });
    let changed = site.change(&format!("/records/{id}"), &format!("\"{before}\""), &body, StatusCode::OK).await;
    let roles: Vec<&Value> = changed["channels"].as_array().unwrap().iter().map(|own| &own["role"]).collect();
    assert_eq!(roles.iter().filter(|role| **role == "pv").count(), 2, "{changed}");

    // A plant with two of each is tested by one OP after the other.
    let lag = json!({ "kind": "fopdt" });
    let request = matrix(&record, &json!([[lag, lag], [lag, lag]]));
    let model = site.send(Method::POST, "/loops/TIC-1/models", &request, StatusCode::CREATED).await;
    let choice = json!({ "model_id": model["id"], "choice": { "closed_loop_time_constant": null } });
    let proposal = site.send(Method::POST, "/loops/TIC-1/propose", &choice, StatusCode::OK).await;
    let plant = &proposal["trial"]["plant"];
    site.send(Method::PUT, "/loops/TIC-1/plant", plant, StatusCode::OK).await;
    let experiment = site.get("/loops/TIC-1/experiments/first").await;
    let body = json!({ "experiment": experiment, "name": "both" });
    let tested = site.send(Method::POST, "/loops/TIC-1/experiments", &body, StatusCode::CREATED).await;
    let duration = experiment["duration"].as_f64().unwrap();
    assert!((tested["duration"].as_f64().unwrap() / (2.0 * duration) - 1.0).abs() < 0.02, "{tested}");
    let half = format!("/records/{}/samples?buckets=2000", tested["id"].as_str().unwrap());
    let samples = site.get(&half).await;
    let times: Vec<f64> = samples["times"].as_array().unwrap().iter().filter_map(Value::as_f64).collect();
    for (tag, moves_early) in [("TIC-1.OP", true), ("FIC-2.OP", false)] {
        let found = samples["channels"].as_array().unwrap().iter().find(|own| own["tag"] == json!(tag)).unwrap();
        let values: Vec<f64> = found["values"].as_array().unwrap().iter().map(|own| own.as_f64().unwrap()).collect();
        let moved = |early: bool| {
            let mut own = times.iter().zip(&values).filter(|(at, _)| (**at < duration) == early);
            let first = own.next().unwrap().1;
            own.any(|(_, value)| value != first)
        };
        assert_eq!((moved(true), moved(false)), (moves_early, !moves_early), "{tag}");
    }
}
