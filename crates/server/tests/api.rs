//! The API against a real database: each test has a fresh one.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

mod support;

use antistasis_store::Store;
use reqwest::{Method, StatusCode};
use serde_json::{Value, json};
use support::{Site, taken};

fn fopdt(record: &Value) -> Value {
    json!({ "record_id": record["id"], "options": { "structure": { "kind": "fopdt" } } })
}

/// A parameter of a model by its name.
fn named<'a>(model: &'a Value, name: &str) -> &'a Value {
    model["model"]["parameters"].as_array().unwrap().iter().find(|parameter| parameter["name"] == json!(name)).unwrap()
}

/// A step test of K = 1.2 °C/%, τ = 40 s, θ = 12.5 s, by the analytic step response.
fn step_test() -> String {
    let mut text = String::from("time [s];TIC-1.PV [°C];TIC-1.OP [%]\n");
    for k in 0..600 {
        let t = f64::from(k);
        let since = t - 100.0 - 12.5;
        let pv = 80.0 + if since > 0.0 { 1.2 * 10.0 * (1.0 - (-since / 40.0).exp()) } else { 0.0 };
        let op = if t >= 100.0 { 60.0 } else { 50.0 };
        text += &format!("{t};{pv};{op}\n").replace('.', ",");
    }
    text
}

#[tokio::test]
async fn from_a_file_to_a_loop_that_holds_and_all_of_it_kept() {
    let site = Site::open().await;
    let record = site.import(step_test()).await;
    assert_eq!((&record["length"], &record["duration"]), (&json!(600), &json!(599.0)));

    let request = fopdt(&record);
    let model = site.send(Method::POST, "/loops/TIC-1/models", &request, StatusCode::CREATED).await;
    let parameter = |name: &str| named(&model, name)["value"].as_f64().unwrap();
    assert!((parameter("gain") - 1.2).abs() < 1e-6);
    assert!((parameter("time_constant") - 40.0).abs() < 1e-4);
    assert!((parameter("dead_time") - 12.5).abs() < 1e-4);

    let curve = site.get(&format!("/models/{}/curve", model["id"].as_str().unwrap())).await;
    let residuals = curve["residual"].as_array().unwrap();
    assert!(residuals.iter().all(|value| value.as_f64().unwrap().abs() < 1e-4));

    let choice = json!({ "model_id": null, "choice": { "closed_loop_time_constant": 25.0 } });
    let proposal = site.send(Method::POST, "/loops/TIC-1/propose", &choice, StatusCode::OK).await;
    // SIMC by hand: Kc = τ/(K(τc+θ)) = 40/(1.2·37.5) %/°C, times 2 °C a % of span; Ti = τ.
    let controller = &proposal["tuning"]["controller"];
    assert!((controller["gain"].as_f64().unwrap() - 2.0 * 40.0 / (1.2 * 37.5)).abs() < 1e-3);
    assert!((controller["integral_time"].as_f64().unwrap() - 40.0).abs() < 1e-3);

    let trial = &proposal["trial"];
    let run = site.send(Method::POST, "/simulate", trial, StatusCode::OK).await;
    assert_eq!(run["assessment"]["margins"]["stable"], json!(true));
    assert!((run["simc_time_constant"].as_f64().unwrap() - 25.0).abs() < 0.5);
    let keep = json!({ "trial": trial, "model_id": model["id"], "changed_from": null, "label": "SIMC" });
    let first = site.send(Method::POST, "/loops/TIC-1/trials", &keep, StatusCode::CREATED).await;
    let again = site.send(Method::POST, "/loops/TIC-1/trials", &keep, StatusCode::CREATED).await;
    assert_eq!(first["id"], again["id"], "the same trial stands once in the trail");
    let mut changed = trial.clone();
    changed["candidate"]["controller"]["gain"] = json!(2.5);
    let keep = json!({ "trial": changed, "model_id": model["id"], "changed_from": first["id"], "label": null });
    let second = site.send(Method::POST, "/loops/TIC-1/trials", &keep, StatusCode::CREATED).await;
    assert_eq!(second["label"], json!("gain 1.78 → 2.5"));
    assert_eq!((&first["model_id"], &second["model_id"]), (&model["id"], &model["id"]));
    // A trial does not claim a model whose process it no longer has, and has the model without claiming it.
    let mut other = trial.clone();
    other["plant"]["process"]["gain"] = json!(1.5 * other["plant"]["process"]["gain"].as_f64().unwrap());
    let keep = json!({ "trial": other, "model_id": model["id"], "changed_from": first["id"], "label": null });
    let edited = site.send(Method::POST, "/loops/TIC-1/trials", &keep, StatusCode::CREATED).await;
    assert_eq!(edited["model_id"], Value::Null, "{edited}");
    changed["candidate"]["controller"]["gain"] = json!(2.6);
    let keep = json!({ "trial": changed, "model_id": null, "changed_from": first["id"], "label": null });
    let unclaimed = site.send(Method::POST, "/loops/TIC-1/trials", &keep, StatusCode::CREATED).await;
    assert_eq!(unclaimed["model_id"], model["id"]);
    let pin = format!("/trials/{}/pin", second["id"].as_str().unwrap());
    site.send(Method::PUT, &pin, &json!({ "pinned": true }), StatusCode::OK).await;

    let paths = ["/loops", "/loops/TIC-1/records", "/loops/TIC-1/models", "/loops/TIC-1/trials"];
    let trace = format!("/trials/{}/trace", second["id"].as_str().unwrap());
    let mut before = Vec::new();
    for path in paths.iter().copied().chain([trace.as_str()]) {
        before.push(site.get(path).await);
    }
    let site = site.restarted().await;
    for (path, kept) in paths.iter().copied().chain([trace.as_str()]).zip(before) {
        assert_eq!(site.get(path).await, kept, "{path} after a restart");
    }
}

#[tokio::test]
async fn a_spike_among_many_samples_is_drawn() {
    let site = Site::open().await;
    let mut text = String::from("t,PV,OP\n");
    for k in 0..150_000 {
        let pv = if k == 77_777 { 99.5 } else { 20.0 + f64::from(k % 10) * 0.01 };
        text += &format!("{k},{pv},{}\n", 40 + k / 75_000);
    }
    let record = site.import(text).await;
    let path = format!("/records/{}/samples", record["id"].as_str().unwrap());
    let samples = site.get(&format!("{path}?buckets=500")).await;
    let highest = |samples: &Value| -> f64 {
        let values = samples["channels"][0]["values"].as_array().unwrap();
        values.iter().filter_map(Value::as_f64).fold(0.0, f64::max)
    };
    assert_eq!(highest(&samples), 99.5);
    assert!(samples["times"].as_array().unwrap().len() < 5001 && samples["available"] == json!(150_000));
    let near = site.get(&format!("{path}?buckets=500&from=100&to=300")).await;
    assert_eq!((near["available"].clone(), near["times"].as_array().unwrap().len()), (json!(201), 203));
    let refused = taken(
        site.request(Method::GET, &format!("{path}?from=5&to=1")).send().await.unwrap(),
        StatusCode::UNPROCESSABLE_ENTITY,
    );
    assert!(refused.await["detail"].as_str().unwrap().contains("(1 s) is before its start (5 s)"));
}

#[tokio::test]
async fn bad_input_gets_a_problem_document_and_nothing_is_stored() {
    let site = Site::open().await;
    let state = site.imported("t,PV,OP\n0,1,2\n5,1,2\n3,1,2\n".into()).await;
    assert_eq!((&state["stage"], &state["record"]), (&json!("failed"), &Value::Null));
    assert!(state["problem"]["detail"].as_str().unwrap().starts_with("line 4: time runs backwards"), "{state}");
    assert_eq!(site.get("/loops/TIC-1/records").await, json!([]));

    let flat: String = (0..50).map(|k| format!("{k},{},45\n", k % 7)).collect();
    let record = site.import(format!("t,PV,OP\n{flat}")).await;
    let request = fopdt(&record);
    let problem = site.refused("/loops/TIC-1/models", &request).await;
    assert!(problem["detail"].as_str().unwrap().starts_with("the OP never moves, it stands at 45 %"), "{problem}");
    let mut request = fopdt(&record);
    request["windows"] = json!({ "from": 400.0, "to": 500.0 });
    let problem = site.refused("/loops/TIC-1/models", &request).await;
    assert_eq!(
        problem["detail"],
        json!("The window is 400 to 500 s: it must be a stretch with samples, within 0 to 49 s.")
    );
    request["windows"] = json!({ "validation": { "kind": "none" } });
    request["options"]["structure"] = json!({ "kind": "arx", "na": 99, "nb": 2, "nk": 1 });
    let problem = site.refused("/loops/TIC-1/models", &request).await;
    assert_eq!(
        (&problem["field"], &problem["detail"]),
        (&json!("structure.na"), &json!("The number of coefficients of A is 99: it must be 0 to 30."))
    );
    assert_eq!(site.get("/loops/TIC-1/models").await, json!([]));

    let empty = site.request(Method::POST, "/uploads?name=x").body("").send().await.unwrap();
    assert!(taken(empty, StatusCode::UNPROCESSABLE_ENTITY).await["detail"].as_str().unwrap().contains("it is empty"));
    let mapping = json!({ "time": { "kind": "interval", "seconds": 1.0 }, "channels": [] });
    let gone = json!({ "upload_id": record["id"], "name": "x", "mapping": mapping });
    let problem = site.send(Method::POST, "/loops/TIC-1/imports", &gone, StatusCode::NOT_FOUND).await;
    assert!(problem["detail"].as_str().unwrap().contains("choose it again"));
}

#[tokio::test]
async fn an_import_can_be_cancelled_and_leaves_nothing() {
    let site = Site::open().await;
    let rows: String = (0..400_000).map(|k| format!("{k},{},{}\n", k % 97, k % 13)).collect();
    let uploaded = site.upload(format!("t,PV,OP\n{rows}")).await;
    let body = json!({ "upload_id": uploaded["id"], "name": "long", "mapping": uploaded["preview"]["guess"] });
    let started = site.send(Method::POST, "/loops/TIC-1/imports", &body, StatusCode::ACCEPTED).await;
    let path = format!("/imports/{}", started["id"].as_str().unwrap());
    taken(site.request(Method::DELETE, &path).send().await.unwrap(), StatusCode::OK).await;
    let state = site.ended(&started).await;
    assert_eq!(
        (&state["stage"], &state["problem"]["type"]),
        (&json!("failed"), &json!("/problems/cancelled")),
        "{state}"
    );
    assert_eq!(site.get("/loops/TIC-1/records").await, json!([]));
}

/// Random switches through K = 1.2 °C/%, τ = 20 s, θ = 3 s, with a little noise.
fn lively_test() -> String {
    let (mut text, mut seed, mut x, mut level) =
        (String::from("time [s],TIC-1.PV [°C],TIC-1.OP [%]\n"), 7u64, 0.0, 45.0);
    let mut ops = vec![45.0; 4];
    for k in 0..800 {
        seed = seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        let draw = (seed >> 33) as f64 / f64::from(1u32 << 31) - 0.5;
        if k % 15 == 0 {
            level = if draw > 0.0 { 50.0 } else { 45.0 };
        }
        text += &format!("{k},{},{level}\n", 80.0 + x + 0.1 * draw);
        ops.push(level);
        let a = (-1.0f64 / 20.0).exp();
        x = a * x + 1.2 * (1.0 - a) * (ops[ops.len() - 4] - 45.0);
    }
    text
}

#[tokio::test]
async fn a_record_is_prepared_judged_read_and_written_and_itself_never_altered() {
    let site = Site::open().await;
    let record = site.import(step_test()).await;
    let at = format!("/records/{}", record["id"].as_str().unwrap());
    let steps = json!([
        { "operation": { "kind": "window", "from": 50.0, "to": 500.0 } },
        { "operation": { "kind": "shift", "by": 5.0 }, "enabled": false },
    ]);
    let applied = site.change(&format!("{at}/preparation"), "\"1\"", &steps, StatusCode::OK).await;
    assert_eq!(
        (&applied["start"], &applied["samples"], &applied["notes"][1]),
        (&json!(50.0), &json!(451), &Value::Null)
    );
    let (before, after) =
        (site.get(&format!("{at}/samples")).await, site.get(&format!("{at}/samples?prepared=true")).await);
    assert_eq!(
        (&before["available"], &after["available"], &after["times"][0]),
        (&json!(600), &json!(451), &json!(50.0))
    );
    let wrong = json!([{ "operation": { "kind": "shift", "tag": "NO", "by": 1.0 } }]);
    let problem = site.change(&format!("{at}/preparation"), "*", &wrong, StatusCode::UNPROCESSABLE_ENTITY).await;
    assert_eq!(problem["detail"], json!("There is no channel NO; there are TIC-1.PV, TIC-1.OP."));
    assert_eq!(site.get("/loops/TIC-1/records").await[0]["preparation"].as_array().unwrap().len(), 2, "the steps stay");

    let inspection = site.get(&format!("/loops/TIC-1{at}/inspection")).await;
    let excitation = inspection["findings"]
        .as_array()
        .unwrap()
        .iter()
        .find(|finding| finding["topic"] == json!("excitation"))
        .unwrap();
    assert!(excitation["verdict"]["text"].as_str().unwrap().starts_with("The OP makes one move"), "{excitation}");

    let reading =
        site.send(Method::POST, &format!("/loops/TIC-1{at}/reading"), &json!({ "marks": null }), StatusCode::OK).await;
    assert!(
        (reading["gain"].as_f64().unwrap() - 1.2).abs() < 0.02 && reading["marks"]["start_of_move"] == json!(100.0),
        "{reading}"
    );
    let mut marks = reading["marks"].clone();
    marks["final_value"] = json!(92.0);
    let again =
        site.send(Method::POST, &format!("/loops/TIC-1{at}/reading"), &json!({ "marks": marks }), StatusCode::OK).await;
    let two_point = &again["readings"][0];
    assert!(
        (two_point["time_constant"].as_f64().unwrap() - 40.0).abs() < 0.5
            && (two_point["dead_time"].as_f64().unwrap() - 12.5).abs() < 0.5,
        "{again}"
    );

    for format in ["csv", "tsv", "xlsx", "parquet", "json"] {
        let response =
            site.request(Method::GET, &format!("{at}/file?format={format}&prepared=true")).send().await.unwrap();
        assert_eq!(response.status(), StatusCode::OK);
        let bytes = response.bytes().await.unwrap();
        let back = site.upload(bytes).await;
        assert_eq!(back["preview"]["columns"].as_array().unwrap().len(), 3, "{format}");
    }
    let refused = site.request(Method::GET, &format!("{at}/file?format=doc")).send().await.unwrap();
    assert!(
        taken(refused, StatusCode::UNPROCESSABLE_ENTITY).await["detail"].as_str().unwrap().contains("csv, tsv, xlsx")
    );
}

#[tokio::test]
async fn models_of_every_kind_are_fitted_validated_analysed_reduced_and_chosen() {
    let site = Site::open().await;
    let record = site.import(lively_test()).await;
    let structures = [
        json!({ "kind": "fopdt" }),
        json!({ "kind": "arx", "na": 2, "nb": 2, "nk": 4 }),
        json!({ "kind": "output_error", "nb": 1, "nf": 1, "nk": 4 }),
        json!({ "kind": "state_space", "order": 0 }),
    ];
    let mut models = Vec::new();
    for structure in &structures {
        let request = json!({ "record_id": record["id"], "options": { "structure": structure } });
        let model = site.send(Method::POST, "/loops/TIC-1/models", &request, StatusCode::CREATED).await;
        assert_eq!((&model["window_to"], &model["validation_from"]), (&json!(399.0), &json!(400.0)), "halves");
        assert!(
            model["validation"]["performance"]["fit_simulated"].as_f64().unwrap() > 85.0,
            "{structure}: {}",
            model["validation"]
        );
        let id = model["id"].as_str().unwrap().to_owned();
        let analysis = site.get(&format!("/models/{id}/analysis")).await;
        let step = &analysis["steps"][0];
        let last = step["values"].as_array().unwrap().last().unwrap().as_f64().unwrap();
        assert!(
            (last - 1.2).abs() < 0.05 && !step["half_widths"].as_array().unwrap().is_empty(),
            "{structure}: {last}"
        );
        assert!(!analysis["poles"].as_array().unwrap().is_empty());
        let curve = site.get(&format!("/models/{id}/curve")).await;
        assert_eq!(curve["times"].as_array().unwrap().len(), 800);
        models.push(model);
    }
    let fopdt = models[0]["id"].as_str().unwrap();
    let profile = site.get(&format!("/models/{fopdt}/profile?parameter=dead_time")).await;
    assert!(
        profile["interval"][0].as_f64().unwrap() < 3.0 + 0.5 && profile["interval"][1].as_f64().unwrap() > 2.5,
        "{profile}"
    );
    assert_eq!(site.get(&format!("/models/{fopdt}/analysis")).await["regions"].as_array().unwrap().len(), 3);

    let difference_equation = models[2]["id"].as_str().unwrap();
    let body = json!({ "structure": { "kind": "fopdt" }, "method": "step_response", "keep": true });
    let reduced =
        site.send(Method::POST, &format!("/models/{difference_equation}/reduction"), &body, StatusCode::OK).await;
    assert!(reduced["reduction"]["largest_error"].as_f64().unwrap() < 5.0);
    assert_eq!(reduced["kept"]["reduced_from"], models[2]["id"]);
    assert!(
        (named(&reduced["kept"], "time_constant")["value"].as_f64().unwrap() - 20.0).abs() < 1.5,
        "{}",
        reduced["kept"]
    );

    let choice = json!({ "reason": "simplest that fits" });
    let chosen = site.send(Method::PUT, &format!("/models/{fopdt}/chosen"), &choice, StatusCode::OK).await;
    assert_eq!((&chosen["chosen"], &chosen["reason"]), (&json!(true), &json!("simplest that fits")));

    let stretch = json!({ "record_id": record["id"], "windows": {} });
    let mut orders = stretch.clone();
    orders["search"] = json!({ "na": 3, "nb": 3, "nk": 8 });
    let found = site.send(Method::POST, "/loops/TIC-1/orders", &orders, StatusCode::OK).await;
    let delay = found[0]["structure"]["nk"].as_u64().unwrap();
    // A(q) of any order spreads white measurement noise; the delay of 3 s and the hold's own sample stay.
    assert!((2..=4).contains(&delay) && found.as_array().unwrap().len() == 40, "{}", found[0]);
    let mut plain = stretch.clone();
    plain["windows"] = json!({ "validation": { "kind": "none" } });
    plain["options"] = json!({ "horizon": 80.0 });
    let shown = site.send(Method::POST, "/loops/TIC-1/nonparametric", &plain, StatusCode::OK).await;
    assert!((shown["step"]["values"].as_array().unwrap().last().unwrap().as_f64().unwrap() - 1.2).abs() < 0.1);
    for method in [
        json!({ "kind": "recursive_least_squares", "na": 1, "nb": 1, "nk": 4, "forgetting": 0.99, "covariance_bound": 10.0, "dead_zone": 0.0 }),
        json!({ "kind": "moving_horizon", "window": 150.0, "dead_time": 3.0, "gain": [0.1, 5.0], "time_constant": [2.0, 100.0] }),
    ] {
        let mut request = plain.clone();
        request.as_object_mut().unwrap().remove("options");
        request["method"] = method;
        let courses = site.send(Method::POST, "/loops/TIC-1/over-time", &request, StatusCode::OK).await;
        let gain =
            courses["courses"].as_array().unwrap().iter().find(|course| course["name"] == json!("gain")).unwrap();
        assert!(
            (gain["values"].as_array().unwrap().last().unwrap().as_f64().unwrap() - 1.2).abs() < 0.15,
            "{}",
            request["method"]
        );
    }
}

#[tokio::test]
async fn an_experiment_is_planned_and_needs_a_plant_to_be_run() {
    let site = Site::open().await;
    let experiment = json!({
        "process": { "structure": "fopdt", "gain": 1.0, "time_constant": 30.0, "dead_time": 5.0 },
        "noise": 0.2, "operating_point": { "pv": 80.0, "op": 45.0 }, "pv_range": [75.0, 85.0], "op_range": [20.0, 70.0],
        "sample_time": 1.0, "duration": 600.0, "signal": { "kind": "prbs" }, "pv_unit": "°C",
    });
    let plan = site.send(Method::POST, "/experiments/plan", &experiment, StatusCode::OK).await;
    assert_eq!(plan["op"].as_array().unwrap().len(), 601);
    let run = json!({ "experiment": experiment, "name": "PRBS" });
    let problem = site.send(Method::POST, "/loops/TIC-1/experiments", &run, StatusCode::NOT_FOUND).await;
    assert!(problem["detail"].as_str().unwrap().starts_with("no simulated plant stands behind TIC-1"));
    let store = Store::open(&site.database).await.unwrap();
    let plant = json!({
        "process": { "structure": "fopdt", "gain": 1.1, "time_constant": 28.0, "dead_time": 6.0 },
        "pv": { "tag": "TIC-1.PV", "span": { "low": 0, "high": 200, "unit": "°C" } },
        "op": { "tag": "TIC-1.OP", "span": { "low": 0, "high": 100, "unit": "%" } },
        "operating_point": { "pv": 80.0, "op": 45.0 }, "sensor": { "noise": 0.2 },
    });
    store.set_plant("TIC-1", Some(&serde_json::from_value(plant).unwrap())).await.unwrap();
    let record = site.send(Method::POST, "/loops/TIC-1/experiments", &run, StatusCode::CREATED).await;
    let model = site.send(Method::POST, "/loops/TIC-1/models", &fopdt(&record), StatusCode::CREATED).await;
    let gain = named(&model, "gain");
    assert!((gain["value"].as_f64().unwrap() - 1.1).abs() < 4.0 * gain["standard_error"].as_f64().unwrap(), "{gain}");
}

#[tokio::test]
async fn a_record_in_another_unit_is_converted_or_refused() {
    let site = Site::open().await;
    let in_fahrenheit = |unit: &str| {
        let mut lines = step_test().replace("TIC-1.PV [°C]", &format!("TIC-1.PV [{unit}]"));
        if unit == "°F" {
            lines = lines
                .lines()
                .map(|line| {
                    let cells: Vec<&str> = line.split(';').collect();
                    match cells[1].replace(',', ".").parse::<f64>() {
                        Ok(celsius) => format!(
                            "{};{};{}\n",
                            cells[0],
                            (1.8 * celsius + 32.0).to_string().replace('.', ","),
                            cells[2]
                        ),
                        Err(_) => format!("{line}\n"),
                    }
                })
                .collect();
        }
        lines
    };
    let record = site.import(in_fahrenheit("°F")).await;
    let request = fopdt(&record);
    let model = site.send(Method::POST, "/loops/TIC-1/models", &request, StatusCode::CREATED).await;
    let gain = named(&model, "gain");
    assert!((gain["value"].as_f64().unwrap() - 1.2).abs() < 1e-6 && gain["unit"] == json!("°C/%"), "{gain}");
    // What is drawn, judged and planned from for the loop is in its unit; the record itself stays in its own.
    let id = record["id"].as_str().unwrap();
    let first = |samples: &Value| {
        (samples["channels"][0]["unit"].clone(), samples["channels"][0]["values"][0].as_f64().unwrap())
    };
    let own = first(&site.get(&format!("/records/{id}/samples")).await);
    let seen = first(&site.get(&format!("/records/{id}/samples?prepared=true&loop=TIC-1")).await);
    assert_eq!((&own.0, &seen.0), (&json!("°F"), &json!("°C")));
    assert!((own.1 - (32.0 + 1.8 * seen.1)).abs() < 1e-9, "{own:?} {seen:?}");
    let request = site.request(Method::GET, &format!("/records/{id}/samples?loop=TIC-9"));
    let problem = taken(request.send().await.unwrap(), StatusCode::NOT_FOUND).await;
    assert!(problem["detail"].as_str().unwrap().contains("TIC-9"), "{problem}");
    let inspection = site.get(&format!("/loops/TIC-1/records/{id}/inspection")).await;
    assert_eq!(inspection["pv_unit"], json!("°C"));
    assert!(!inspection["findings"].to_string().contains("°F"), "{inspection}");
    let spec = site.get("/loops/TIC-1/experiments/first?noise=0.3").await;
    assert_eq!((&spec["noise"], &spec["pv_unit"]), (&json!(0.3), &json!("°C")));
    assert!(spec["proposed"].as_array().unwrap().contains(&json!("pv_range")), "{spec}");
    // A unit that cannot be converted is refused before anything is stored.
    let uploaded = site.upload(in_fahrenheit("bar")).await;
    let body = json!({ "upload_id": uploaded["id"], "name": "record", "mapping": uploaded["preview"]["guess"] });
    let problem = site.refused("/loops/TIC-1/imports", &body).await;
    assert!(
        problem["detail"].as_str().unwrap().starts_with("TIC-1.PV is in “bar”, and the PV of TIC-1 in °C"),
        "{problem}"
    );
    // A span in another unit makes the model a stranger.
    let signals = json!({ "area": "Area", "card": {
        "tag": "TIC-1",
        "pv": { "tag": "TIC-1.PV", "span": { "low": 32, "high": 392, "unit": "°F" } },
        "op": { "tag": "TIC-1.OP", "span": { "low": 0, "high": 100, "unit": "%" } },
    } });
    site.change("/loops/TIC-1", "*", &signals, StatusCode::OK).await;
    let nothing = json!({ "model_id": null, "choice": { "closed_loop_time_constant": null } });
    let problem = site.refused("/loops/TIC-1/propose", &nothing).await;
    assert!(problem["detail"].as_str().unwrap().starts_with("the model is in °C and the span of TIC-1.PV in °F"));
}

#[tokio::test]
async fn a_refused_trial_names_its_field() {
    let site = Site::open().await;
    let trial = |scan: Value| {
        let signal = |tag: &str, high: f64| json!({ "tag": tag, "span": { "low": 0, "high": high, "unit": "%" } });
        json!({
            "version": 1,
            "plant": {
                "process": { "structure": "fopdt", "gain": 1.0, "time_constant": 10.0, "dead_time": 1.0 },
                "pv": signal("A.PV", 10.0), "op": signal("A.OP", 100.0),
                "operating_point": { "pv": 5.0, "op": 50.0 },
            },
            "candidate": { "controller": { "kind": "pid", "gain": 1.0, "integral_time": 10.0 } },
            "scenario": { "duration": 100.0, "scan": scan, "events": [] },
        })
    };
    let problem = site.refused("/simulate", &trial(json!(0.0))).await;
    assert_eq!(problem["field"], json!("scenario.scan"));
    assert_eq!(problem["detail"], json!("The scan of the scenario is 0 s: it must be above 0."));
    let problem = site.refused("/simulate", &trial(json!("soon"))).await;
    assert!(problem["detail"].as_str().unwrap().contains("scenario.scan"), "{problem}");
    let mut misspelt = trial(json!(1.0));
    misspelt["scenario"]["durration"] = json!(5);
    assert!(site.refused("/simulate", &misspelt).await["detail"].as_str().unwrap().contains("durration"));
    site.send(Method::POST, "/simulate", &trial(json!(1.0)), StatusCode::OK).await;
}

#[tokio::test]
async fn only_this_site_may_ask_and_write() {
    let site = Site::open().await;
    let get = |host: String| site.request(Method::GET, "/health").header("host", host).send();
    assert_eq!(get(format!("localhost:{}", site.port)).await.unwrap().status(), StatusCode::OK);
    assert_eq!(get(format!("127.0.0.1:{}", site.port)).await.unwrap().status(), StatusCode::OK);
    for rebound in ["evil.example".to_owned(), format!("evil.example:{}", site.port), "localhost".to_owned()] {
        let problem = taken(get(rebound).await.unwrap(), StatusCode::FORBIDDEN).await;
        assert!(problem["detail"].as_str().unwrap().contains("does not answer to the name"));
    }
    let signals = json!({ "area": "Area", "card": {
        "tag": "TIC-1",
        "pv": { "tag": "TIC-1.PV", "span": { "low": 0, "high": 120, "unit": "°C" } },
        "op": { "tag": "TIC-1.OP", "span": { "low": 0, "high": 100, "unit": "%" } },
    } });
    let write = |headers: &[(&'static str, String)]| {
        let request = site.request(Method::PUT, "/loops/TIC-1").header("If-Match", "*").json(&signals);
        headers.iter().fold(request, |request, (name, value)| request.header(*name, value)).send()
    };
    let own = format!("http://localhost:{}", site.port);
    let foreign = [("origin", "http://evil.example".to_owned())];
    assert_eq!(write(&foreign).await.unwrap().status(), StatusCode::FORBIDDEN);
    assert_eq!(write(&[("origin", "null".to_owned())]).await.unwrap().status(), StatusCode::FORBIDDEN);
    assert_eq!(write(&[("sec-fetch-site", "cross-site".to_owned())]).await.unwrap().status(), StatusCode::FORBIDDEN);
    assert_eq!(site.get("/loops/TIC-1").await["pv"]["span"]["high"], json!(200.0));
    assert_eq!(write(&[("origin", own)]).await.unwrap().status(), StatusCode::OK);
    assert_eq!(site.get("/loops/TIC-1").await["pv"]["span"]["high"], json!(120.0));
}

#[tokio::test]
async fn what_is_not_there_is_said_so() {
    let site = Site::open().await;
    for path in ["/loops/XIC-9", "/records/0192f0c1-2d3e-7a4b-8c5d-6e7f80910a1b/samples", "/nothing"] {
        let response = site.request(Method::GET, path).send().await.unwrap();
        let problem = taken(response, StatusCode::NOT_FOUND).await;
        assert!(problem["detail"].as_str().unwrap().starts_with("there is no "), "{problem}");
    }
    let response = site.request(Method::GET, "/records/not-an-id/samples").send().await.unwrap();
    assert_eq!(taken(response, StatusCode::BAD_REQUEST).await["type"], json!("/problems/request"));
    let nothing = json!({ "model_id": null, "choice": { "closed_loop_time_constant": null } });
    let problem = site.send(Method::POST, "/loops/TIC-1/propose", &nothing, StatusCode::NOT_FOUND).await;
    assert_eq!(problem["detail"], json!("TIC-1 has no model yet: fit one first"));
}

#[tokio::test]
async fn the_front_end_is_served_with_its_policy() {
    let site = Site::open().await;
    for path in ["/", "/loops/TIC-1/model"] {
        let response = site.client.get(format!("http://localhost:{}{path}", site.port)).send().await.unwrap();
        assert_eq!(response.status(), StatusCode::OK);
        let policy = response.headers()["content-security-policy"].to_str().unwrap().to_owned();
        assert!(policy.contains("default-src 'self'") && policy.contains("frame-ancestors 'none'"));
        assert!(response.text().await.unwrap().contains("<title>Antistasis</title>"));
    }
}

#[tokio::test]
async fn the_licences_of_all_that_is_in_the_program_are_shown() {
    let site = Site::open().await;
    let address = format!("http://localhost:{}/licences", site.port);
    let response = site.client.get(address).send().await.unwrap();
    assert_eq!(response.headers()["content-type"], "text/plain; charset=utf-8");
    let text = response.text().await.unwrap();
    // Some of each kind: the server, the numerics, files, the database, and the pages with their fonts.
    for name in ["axum ", "nalgebra ", "parquet ", "sqlx ", "tokio ", "\nvue ", "uplot ", "atkinson-hyperlegible-next "]
    {
        assert!(text.contains(name), "{name}");
    }
    for licence in ["Apache License", "Permission is hereby granted", "SIL OPEN FONT LICENSE"] {
        assert!(text.contains(licence), "{licence}");
    }
    // What only builds or tests is not in the program.
    for name in ["proptest ", "vitest ", "criterion "] {
        assert!(!text.contains(&format!("\n{name}")), "{name}");
    }
}

/// The committed document, which the front end's client is generated from.
#[test]
fn the_committed_openapi_document_is_current() {
    let committed: Value = serde_json::from_str(include_str!("../../../docs/openapi.json")).unwrap();
    let current = antistasis_server::openapi();
    assert!(committed == current, "run `./run client`");
    let mut names: Vec<&str> = current["paths"]
        .as_object()
        .unwrap()
        .values()
        .flat_map(|path| path.as_object().unwrap().values())
        .filter_map(|operation| operation["operationId"].as_str())
        .collect();
    let count = names.len();
    names.sort_unstable();
    names.dedup();
    assert_eq!(names.len(), count, "operation names must be unique");
}

/// Two types of one name would share one schema in the API document, and one of them would be described wrongly.
#[test]
fn every_type_of_the_document_has_a_name_of_its_own() {
    fn sources(folder: &std::path::Path, found: &mut Vec<std::path::PathBuf>) {
        for entry in std::fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path()) {
            if entry.is_dir() {
                sources(&entry, found);
            } else if entry.extension().is_some_and(|ending| ending == "rs") {
                found.push(entry);
            }
        }
    }
    let mut files = Vec::new();
    for name in ["core", "store", "exchange", "server"] {
        sources(&std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join(format!("../{name}/src")), &mut files);
    }
    let mut seen = std::collections::HashMap::new();
    for file in files {
        let text = std::fs::read_to_string(&file).unwrap();
        let mut described = false;
        for line in text.lines() {
            described |= line.starts_with("#[derive") && line.contains("ToSchema");
            let name = ["struct ", "enum "].iter().find_map(|kind| Some(line.split_once(kind)?.1));
            let is_item = line.starts_with("pub") || line.starts_with("struct") || line.starts_with("enum");
            if let Some(name) = name.filter(|_| is_item) {
                let name: String = name.chars().take_while(|letter| letter.is_alphanumeric()).collect();
                if std::mem::take(&mut described)
                    && let Some(other) = seen.insert(name.clone(), file.clone())
                {
                    panic!("{name} stands in {} and in {}", other.display(), file.display());
                }
            }
        }
    }
    assert!(seen.len() > 150, "{}", seen.len());
}
