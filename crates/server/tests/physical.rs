//! Physical models over the API: from a record to numbers, balances and a trial on the process that was found.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

mod support;

use reqwest::{Method, StatusCode};
use serde_json::{Value, json};
use support::Site;

/// The flow-through heater by its balances, in small steps: 600 kW at 100 %, 5 t/h of water of 20 °C, 15 °C around it.
fn record() -> String {
    let (holdup, capacity, element, transfer, loss) = (300.0, 4.2, 60.0, 8.0, 0.4);
    let (mut liquid, mut body) = (60.0, 92.0);
    let mut text = String::from("time [s],TIC-1.PV [°C],TIC-1.OP [%],FI-2.PV [t/h]\n");
    // Each load is held for ten time constants, so that the balances come to rest.
    for k in 0..1200 {
        let op = [45.0, 60.0, 38.0][k / 400];
        let flow = if k >= 800 { 6.0 } else { 5.0 };
        // Noise without memory, the same each time.
        let noise = 0.2 * ((f64::from(k as u32) * 12.9898).sin() * 43_758.545_3).rem_euclid(1.0) - 0.1;
        text += &format!("{},{},{op},{flow}\n", 5 * k, liquid + noise);
        for _ in 0..500 {
            let stream = flow / 3.6 * capacity;
            let passed = transfer * (body - liquid);
            liquid += 0.01 * (stream * (20.0 - liquid) + passed - loss * (liquid - 15.0)) / (holdup * capacity);
            body += 0.01 * (6.0 * op - passed) / element;
        }
    }
    text
}

fn number(value: &Value, name: &str) -> (f64, Option<f64>) {
    let all = value.as_array().unwrap();
    let own = all.iter().find(|own| own["name"] == json!(name)).unwrap_or_else(|| panic!("no {name} in {value}"));
    (own["value"].as_f64().unwrap(), own["standard_error"].as_f64())
}

/// The record, its flow a measured disturbance.
async fn imported(site: &Site) -> Value {
    let record = site.import(record()).await;
    let mut channels = record["channels"].clone();
    let flow = channels.as_array_mut().unwrap().iter_mut().find(|own| own["tag"] == json!("FI-2.PV")).unwrap();
    flow["role"] = json!("dv");
    let path = format!("/records/{}", record["id"].as_str().unwrap());
    let change = json!({ "name": "flow and heat", "remark": "", "channels": channels });
    site.change(&path, "*", &change, StatusCode::OK).await;
    record
}

/// A fit from many beginnings is shared by the workers and goes on after an end in the middle: it is the model of a fit at one go, kept
/// once, on the record as it was when it was asked for.
#[tokio::test(flavor = "multi_thread")]
async fn a_fit_from_many_beginnings_is_shared_and_goes_on_after_a_restart() {
    let site = Site::open().await;
    let record = imported(&site).await;
    let heater = json!({ "structure": "library", "process": "stirred_heater", "parameters": { "heat_capacity": 4.2 } });
    let ask = json!({ "record_id": record["id"], "process": heater });
    let mut physical =
        site.send(Method::POST, "/loops/TIC-1/models/physical", &ask, StatusCode::OK).await["options"].clone();
    physical["sought"] = json!([{ "name": "holdup" }, { "name": "loss", "value": 0.1, "low": 0.01, "high": 2.0 }]);
    physical["beginnings"] = json!(24);
    let fit = json!({
        "record_id": record["id"],
        "options": { "structure": { "kind": "physical" }, "physical": physical },
    });
    let at_once = site.send(Method::POST, "/loops/TIC-1/models", &fit, StatusCode::CREATED).await;

    let mut state = site.send(Method::POST, "/loops/TIC-1/fits", &fit, StatusCode::ACCEPTED).await;
    let path = format!("/fits/{}", state["id"].as_str().unwrap());
    // What is laid over the record from here on is of the next fit.
    let steps = json!([{ "operation": { "kind": "window", "from": 500.0, "to": 4000.0 } }]);
    let preparation = format!("/records/{}/preparation", record["id"].as_str().unwrap());
    site.change(&preparation, "*", &steps, StatusCode::OK).await;
    while state["outcome"]["so_far"].is_null() && state["stage"] == "running" {
        tokio::time::sleep(std::time::Duration::from_millis(5)).await;
        state = site.get(&path).await;
    }
    if state["stage"] == "running" {
        assert!(state["share"].as_f64().unwrap() > 0.0 && state["share"] == state["outcome"]["so_far"]["share"]);
    }
    let site = site.restarted().await;
    while state["stage"] == "running" {
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
        state = site.get(&path).await;
    }
    assert_eq!((&state["stage"], &state["share"]), (&json!("done"), &json!(1.0)), "{state}");
    let model = &state["outcome"]["model"];
    assert_eq!(model["model"], at_once["model"], "to the last bit");
    assert_eq!((&model["validation"], &model["preparation"]), (&at_once["validation"], &json!([])));
    let all = site.get("/loops/TIC-1/models").await;
    assert_eq!(all.as_array().unwrap().len(), 2, "{all}");
    // What cannot be fitted says so, at its field.
    let mut wrong = fit.clone();
    wrong["options"]["physical"]["sought"][0]["name"] = json!("holdups");
    let mut state = site.send(Method::POST, "/loops/TIC-1/fits", &wrong, StatusCode::ACCEPTED).await;
    let path = format!("/fits/{}", state["id"].as_str().unwrap());
    while state["stage"] == "running" {
        tokio::time::sleep(std::time::Duration::from_millis(20)).await;
        state = site.get(&path).await;
    }
    assert!(state["problem"]["field"].as_str().unwrap().contains("sought"), "{state}");
}

#[tokio::test(flavor = "multi_thread")]
async fn from_a_record_to_numbers_balances_and_a_trial() {
    let site = Site::open().await;
    let record = imported(&site).await;

    // What it begins with: the channels by unit and name, and the process with its parameters.
    let heater = json!({ "structure": "library", "process": "stirred_heater", "parameters": { "heat_capacity": 4.2 } });
    let ask = json!({ "record_id": record["id"], "process": heater });
    let begun = site.send(Method::POST, "/loops/TIC-1/models/physical", &ask, StatusCode::OK).await;
    let mut physical = begun["options"].clone();
    assert_eq!(physical["outputs"][0], json!({ "output": "liquid_temperature", "tag": "TIC-1.PV" }));
    assert_eq!(physical["inputs"][0], json!({ "input": "power", "tag": "TIC-1.OP", "range": [0.0, 600.0] }));
    assert_eq!(physical["inputs"][1], json!({ "input": "feed_flow", "tag": "FI-2.PV" }));
    assert_eq!(number(&begun["description"]["parameters"], "heat_capacity").0, 4.2);
    let level = json!({ "record_id": record["id"], "process": { "structure": "library", "process": "upright_tank" } });
    let refused = site.refused("/loops/TIC-1/models/physical", &level).await;
    assert!(refused["detail"].as_str().unwrap().contains("this process has level in m"), "{refused}");

    // What can be told, before anything is fitted.
    let fit = |physical: &Value| {
        json!({
            "record_id": record["id"],
            "options": { "structure": { "kind": "physical" }, "physical": physical },
        })
    };
    let unsought = site.refused("/loops/TIC-1/models/telling", &fit(&physical)).await;
    assert_eq!(unsought["field"], json!("physical.sought"), "{unsought}");
    physical["sought"] = json!([{ "name": "holdup" }, { "name": "loss", "value": 0.1, "low": 0.01, "high": 2.0 }]);
    let told = site.send(Method::POST, "/loops/TIC-1/models/telling", &fit(&physical), StatusCode::OK).await;
    assert_eq!((&told["untold"], &told["verdicts"][0]["tone"]), (&json!([]), &json!("good")), "{told}");
    let mut wide = physical.clone();
    wide["sought"].as_array_mut().unwrap().push(json!({ "kind": "offset", "name": "liquid_temperature" }));
    wide["sought"].as_array_mut().unwrap().push(json!({ "kind": "parameter", "name": "element_transfer" }));
    assert_eq!(
        site.send(Method::POST, "/loops/TIC-1/models/telling", &fit(&wide), StatusCode::OK).await["numbers"]
            .as_array()
            .unwrap()
            .len(),
        4
    );
    let mut other = fit(&physical);
    other["options"]["structure"] = json!({ "kind": "fopdt" });
    assert_eq!(site.refused("/loops/TIC-1/models/telling", &other).await["field"], json!("options.physical"));

    // At rest, without a fit.
    let rest = json!({ "fit": fit(&physical), "parameter": "loss" });
    let steady = site.send(Method::POST, "/loops/TIC-1/models/steady", &rest, StatusCode::OK).await;
    assert!((steady["mean"].as_f64().unwrap() - 0.4).abs() < 0.05, "{steady}");
    let rest = json!({ "fit": fit(&physical), "parameter": "los" });
    assert_eq!(site.refused("/loops/TIC-1/models/steady", &rest).await["field"], json!("parameter"));

    // As a job it tells how far it is, and ends where it is not wanted any more: nothing is kept then.
    let mut hard = fit(&physical);
    hard["options"]["physical"]["beginnings"] = json!(64);
    hard["options"]["noise"] = json!("autoregression");
    let begun = site.send(Method::POST, "/loops/TIC-1/fits", &hard, StatusCode::ACCEPTED).await;
    let path = format!("/fits/{}", begun["id"].as_str().unwrap());
    // Whoever comes back to the loop finds it.
    let under_way = || async { site.get("/loops/TIC-1/fits/under-way").await };
    assert_eq!((&under_way().await[0]["id"], &under_way().await[1]), (&begun["id"], &Value::Null));
    let nowhere = site.request(Method::GET, "/loops/TIC-2/fits/under-way").send().await.unwrap();
    assert_eq!(nowhere.status(), StatusCode::NOT_FOUND);
    let mut state = begun;
    while state["outcome"]["so_far"].is_null() {
        assert_eq!(state["stage"], json!("running"), "{state}");
        tokio::time::sleep(std::time::Duration::from_millis(20)).await;
        state = site.get(&path).await;
    }
    let so_far = &state["outcome"]["so_far"];
    assert!(so_far["fit"].as_f64().unwrap() <= 100.0 && so_far["numbers"][0]["name"] == json!("holdup"), "{so_far}");
    assert_eq!(so_far["times"].as_array().unwrap().len(), so_far["modelled"].as_array().unwrap().len());
    site.send(Method::DELETE, &path, &Value::Null, StatusCode::OK).await;
    while state["stage"] == json!("running") {
        tokio::time::sleep(std::time::Duration::from_millis(20)).await;
        state = site.get(&path).await;
    }
    assert_eq!(state["stage"], json!("failed"), "{state}");
    assert_eq!(under_way().await, json!([]));
    assert_eq!(site.get("/loops/TIC-1/models").await.as_array().unwrap().len(), 0);

    // The fit; the channels follow from the process, and the model is there like any other.
    let model = site.send(Method::POST, "/loops/TIC-1/models", &fit(&physical), StatusCode::CREATED).await;
    let parameters = &model["model"]["parameters"];
    for (name, truth) in [("holdup", 300.0), ("loss", 0.4)] {
        let (value, error) = number(parameters, name);
        assert!((value - truth).abs() < 0.01 * truth && error.unwrap() < 0.02 * truth, "{name} {value} ± {error:?}");
    }
    assert_eq!(model["options"]["disturbances"], json!(["FI-2.PV"]));
    // In the background it finds the same.
    let begun = site.send(Method::POST, "/loops/TIC-1/fits", &fit(&physical), StatusCode::ACCEPTED).await;
    let path = format!("/fits/{}", begun["id"].as_str().unwrap());
    let mut state = begun;
    while state["stage"] == json!("running") {
        tokio::time::sleep(std::time::Duration::from_millis(20)).await;
        state = site.get(&path).await;
    }
    assert_eq!(&state["outcome"]["model"]["model"]["parameters"], parameters, "{state}");
    let profile = site.get(&format!("/models/{}/profile?parameter=loss", model["id"].as_str().unwrap())).await;
    assert!(
        profile["interval"][0].as_f64().unwrap() < 0.4 && profile["interval"][1].as_f64().unwrap() > 0.39,
        "{profile}"
    );
    let id = model["id"].as_str().unwrap();
    let curve = site.get(&format!("/models/{id}/curve")).await;
    let left: Vec<f64> = curve["residual"].as_array().unwrap().iter().filter_map(Value::as_f64).collect();
    assert!(left.len() > 400 && left.iter().all(|value| value.abs() < 0.2), "the curve follows the record");
    let analysis = site.get(&format!("/models/{id}/analysis")).await;
    assert_eq!((analysis["steps"].clone(), analysis["regions"].as_array().unwrap().len()), (json!([]), 1));
    let balances = site.get(&format!("/models/{id}/balances")).await;
    let energy = &balances["balances"][0];
    assert_eq!((&energy["unit"], &energy["verdict"]["tone"]), (&json!("kW"), &json!("good")), "{}", energy["verdict"]);
    let totals: Vec<f64> = energy["totals"].as_array().unwrap().iter().map(|own| own.as_f64().unwrap()).collect();
    assert!((totals[0] - totals[1] - totals[2] - totals[3]).abs() < 1e-6 * totals[0], "{totals:?}");
    assert!(totals[3].abs() < 2e-3 * totals[0], "{totals:?}");
    let answer = site.request(Method::GET, &format!("/models/{id}/balances?stretch=1")).send().await.unwrap();
    assert_eq!(answer.status(), StatusCode::UNPROCESSABLE_ENTITY);

    // On line: what the loss does over the record, with bands and the test that says whether to believe them.
    let path = format!("/models/{id}/tracking");
    let plain = site.send(Method::POST, &path, &json!({}), StatusCode::OK).await;
    let drifting: Vec<&str> =
        plain["tracked"]["may_drift"].as_array().unwrap().iter().map(|own| own["name"].as_str().unwrap()).collect();
    assert!(drifting.contains(&"loss") && drifting.contains(&"feed_temperature") && !drifting.contains(&"power"));
    assert_eq!(plain["tracked"]["times"].as_array().unwrap().len(), 1000);
    assert_eq!(plain["tracked"]["test"]["doubts"], json!([]), "{}", plain["tracked"]["test"]);
    for method in ["extended", "unscented", "moving_horizon"] {
        let options = json!({ "method": method, "window": 4, "drifting": [{ "name": "loss", "per_hour": 0.05 }] });
        let asked = json!({ "record_id": record["id"], "from": 0, "to": 2000, "options": options });
        let found = site.send(Method::POST, &path, &asked, StatusCode::OK).await;
        let loss = found["tracked"]["numbers"].as_array().unwrap().last().unwrap().clone();
        assert_eq!((&loss["name"], &loss["per_hour"]), (&json!("loss"), &json!(0.05)));
        let last = |list: &str| loss[list].as_array().unwrap().last().unwrap().as_f64().unwrap();
        assert!((last("values") - 0.4).abs() < 4.0 * last("deviations"), "{method}: {}", last("values"));
    }
    let wrong = json!({ "options": { "drifting": [{ "kind": "input", "name": "power" }] } });
    let refused = site.refused(&path, &wrong).await;
    assert_eq!(refused["field"], json!("options.drifting[0].name"), "{refused}");
    assert!(refused["detail"].as_str().unwrap().contains("is shown by TIC-1.OP"), "{refused}");

    // A trial on the process that was found stands on the model, and rests where the record began.
    let choice = json!({ "model_id": id, "choice": { "closed_loop_time_constant": null } });
    let proposal = site.send(Method::POST, "/loops/TIC-1/propose", &choice, StatusCode::OK).await;
    assert_eq!(proposal["model_id"], json!(id));
    let trial = &proposal["trial"];
    let found = trial["plant"]["process"]["parameters"]["holdup"].as_f64().unwrap();
    assert!((found - 300.0).abs() < 3.0, "{found}");
    let run = site.send(Method::POST, "/simulate", trial, StatusCode::OK).await;
    assert_eq!(run["assessment"]["margins"]["stable"], json!(true), "{}", run["assessment"]["margins"]);
    // Kept, it stands on the model as long as its process is that one's, and its dossier has the numbers.
    let keep = |trial: &Value| json!({ "trial": trial, "model_id": id });
    let kept = site.send(Method::POST, "/loops/TIC-1/trials", &keep(trial), StatusCode::CREATED).await;
    assert_eq!(kept["model_id"], json!(id), "{kept}");
    let mut edited = trial.clone();
    edited["plant"]["process"]["parameters"]["holdup"] = json!(found + 1.0);
    let edited = site.send(Method::POST, "/loops/TIC-1/trials", &keep(&edited), StatusCode::CREATED).await;
    assert_eq!(edited["model_id"], Value::Null);
    let alone = json!({ "trial": trial, "label": "by somebody who names no model", "model_id": null });
    let alone = site.send(Method::POST, "/loops/TIC-1/trials", &alone, StatusCode::CREATED).await;
    assert_eq!(alone["id"], kept["id"], "one that is there already is not kept twice");
    let body = json!({ "plant": trial["plant"], "model_id": id, "plants": 20 });
    let open = site.send(Method::POST, "/proofs/uncertainty", &body, StatusCode::OK).await;
    assert_eq!(open["parameters"], json!(["holdup", "loss"]), "{open}");
    // An own structure's balances are refused in words.
    let plain = json!({ "record_id": record["id"], "options": { "structure": { "kind": "fopdt" } } });
    let lag = site.send(Method::POST, "/loops/TIC-1/models", &plain, StatusCode::CREATED).await;
    let path = format!("/models/{}/balances", lag["id"].as_str().unwrap());
    let answer = site.request(Method::GET, &path).send().await.unwrap();
    let text = answer.text().await.unwrap();
    assert!(text.contains("has no balances"), "{text}");
    let path = format!("/models/{}/tracking", lag["id"].as_str().unwrap());
    assert!(site.refused(&path, &json!({})).await["detail"].as_str().unwrap().contains("has no balances"));
}
