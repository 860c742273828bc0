//! Tuning and robustness through the API.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, dead_code)]

mod support;

use reqwest::{Method, StatusCode};
use serde_json::{Value, json};
use std::time::Duration;
use support::{Site, trial};

fn pi() -> Value {
    json!({ "kind": "pid", "gain": 1.0, "integral_time": 10.0 })
}

async fn found(site: &Site, request: &Value) -> Value {
    let begun = site.send(Method::POST, "/tunings", request, StatusCode::ACCEPTED).await;
    let address = format!("/tunings/{}", begun["id"].as_str().unwrap());
    for _ in 0..600 {
        let state = site.get(&address).await;
        if state["stage"] != "running" {
            return state;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    panic!("the search has no end");
}

#[tokio::test]
async fn rules_notations_and_the_relay() {
    let site = Site::open().await;
    let trial = trial(&pi());
    let rules = site.send(Method::POST, "/tune/rules", &json!({ "plant": trial["plant"] }), StatusCode::OK).await;
    let of = |name: &str| rules["rules"].as_array().unwrap().iter().find(|rule| rule["rule"] == name).unwrap();
    // SIMC by hand: 10/(1.25 · 8) = 1, Ti = 10 (Skogestad 2003).
    assert_eq!(of("simc")["tuning"]["to_type_in"]["gain"], 1.0);
    assert!(of("averaging_level")["without"].as_str().unwrap().contains("integrate"));
    assert!(of("cohen_coon")["tuning"]["source"].as_str().unwrap().contains("1953"));

    let settings = json!({ "gain": 2.0, "integral_time": 90.0 });
    let notation = json!({ "proportional": "band", "integral": "repeats", "time": "minutes" });
    let request = json!({ "settings": settings, "notation": notation });
    let written = site.send(Method::POST, "/notation/write", &request, StatusCode::OK).await;
    assert_eq!(
        (written["proportional"]["value"].as_f64(), written["integral"]["unit"].as_str()),
        (Some(50.0), Some("1/min"))
    );
    let back = json!({ "notation": notation, "proportional": 50.0, "integral": 60.0 / 90.0, "others": settings });
    let read = site.send(Method::POST, "/notation/read", &back, StatusCode::OK).await;
    assert!((read["integral_time"].as_f64().unwrap() - 90.0).abs() < 1e-9 && read["gain"] == 2.0);
    // Over the engineering unit of the PV: 2 % for 1 % of 50 °C is 4 % for 1 °C, and back.
    let units = json!({ "settings": settings, "notation": { "gain_over": "engineering_unit" },
        "pv_span": { "low": 10.0, "high": 60.0, "unit": "°C" } });
    let written = site.send(Method::POST, "/notation/write", &units, StatusCode::OK).await;
    assert_eq!((&written["proportional"]["value"], &written["proportional"]["unit"]), (&json!(4.0), &json!("%/°C")));
    let back = json!({ "notation": units["notation"], "pv_span": units["pv_span"], "proportional": 4.0, "integral": 90.0, "others": settings });
    assert_eq!(site.send(Method::POST, "/notation/read", &back, StatusCode::OK).await["gain"], 2.0);

    let series = json!({ "settings": { "gain": 2.0, "integral_time": 8.0, "derivative_time": 4.0 }, "notation": { "form": "series" } });
    assert!(site.refused("/notation/write", &series).await["detail"].as_str().unwrap().contains("a quarter"));

    let mut relay = self::trial(&json!({ "kind": "relay", "amplitude": 5.0 }));
    relay["scenario"]["events"] = json!([]);
    let reading = site.send(Method::POST, "/tune/relay", &relay, StatusCode::OK).await;
    assert!((reading["ultimate_period"].as_f64().unwrap() / 14.0 - 1.0).abs() < 0.1, "{reading}");
    assert!(site.refused("/tune/relay", &trial).await["detail"].as_str().unwrap().contains("no relay"));
}

#[tokio::test]
async fn a_search_keeps_demands_in_words_and_can_be_cancelled() {
    let site = Site::open().await;
    let trial = trial(&pi());
    let request =
        json!({ "trial": trial, "demands": { "max_sensitivity": 1.6 }, "demands_in_words": "travel below 2" });
    let state = found(&site, &request).await;
    let optimum = &state["outcome"]["optimum"];
    assert!(optimum["met"] == true && optimum["figures"]["max_sensitivity"].as_f64().unwrap() < 1.608, "{state}");
    // The settings are those of a trial that can be run as it is.
    let mut best = trial.clone();
    best["candidate"]["controller"] = optimum["controller"].clone();
    let run = site.send(Method::POST, "/simulate", &best, StatusCode::OK).await;
    assert!((run["assessment"]["margins"]["max_sensitivity"].as_f64().unwrap() - 1.6).abs() < 0.01);

    let wrong = json!({ "trial": trial, "demands_in_words": "be quick" });
    assert!(site.refused("/tunings", &wrong).await["detail"].as_str().unwrap().contains("“be quick”"));
    let scenario = json!({ "trial": trial, "kind": "trade_off" });
    let begun = site.send(Method::POST, "/tunings", &scenario, StatusCode::ACCEPTED).await;
    let address = format!("/tunings/{}", begun["id"].as_str().unwrap());
    site.send(Method::DELETE, &address, &json!(null), StatusCode::OK).await;
    for _ in 0..400 {
        let state = site.get(&address).await;
        if state["stage"] != "running" {
            assert!(state["problem"]["detail"].as_str().unwrap().contains("cancelled"), "{state}");
            return;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    panic!("the search was not cancelled");
}

#[tokio::test]
async fn the_trade_off_falls_and_the_rules_stand_on_it_or_above() {
    let site = Site::open().await;
    let state = found(&site, &json!({ "trial": trial(&pi()), "kind": "trade_off" })).await;
    let trade_off = &state["outcome"]["trade_off"];
    let figure = |point: &Value, name: &str| point["figures"][name].as_f64().unwrap();
    let curves = trade_off["curves"].as_array().unwrap();
    assert_eq!(curves.len(), 3, "{state}");
    for curve in curves {
        for pair in curve.as_array().unwrap().windows(2) {
            assert!(figure(&pair[1], "load_error") < 1.005 * figure(&pair[0], "load_error"), "{pair:?}");
        }
    }
    // No PI rule is better than the best PI of the same sensitivity.
    let best = curves[0].as_array().unwrap();
    for rule in
        trade_off["rules"].as_array().unwrap().iter().filter(|rule| rule["title"].as_str().unwrap().ends_with(" PI"))
    {
        let looser = best.iter().find(|point| figure(point, "max_sensitivity") >= figure(rule, "max_sensitivity"));
        if let Some(point) = looser {
            assert!(figure(rule, "load_error") > 0.99 * figure(point, "load_error"), "{rule}");
        }
    }
}

#[tokio::test]
async fn a_trade_off_is_there_in_part_while_it_is_under_way() {
    let site = Site::open().await;
    let request = json!({ "trial": trial(&pi()), "kind": "trade_off" });
    let begun = site.send(Method::POST, "/tunings", &request, StatusCode::ACCEPTED).await;
    let address = format!("/tunings/{}", begun["id"].as_str().unwrap());
    let points = |state: &Value| -> usize {
        let curves = state["outcome"]["trade_off"]["curves"].as_array();
        curves.map_or(0, |curves| curves.iter().map(|curve| curve.as_array().unwrap().len()).sum())
    };
    let mut counts = Vec::new();
    for _ in 0..3000 {
        let state = site.get(&address).await;
        counts.push((state["stage"] == "running", points(&state)));
        if state["stage"] != "running" {
            break;
        }
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    let last = counts.last().unwrap().1;
    assert!(counts.windows(2).all(|pair| pair[0].1 <= pair[1].1), "{counts:?}");
    assert!(counts.iter().any(|(is_running, count)| *is_running && *count > 0 && *count < last), "{counts:?}");
}

#[tokio::test]
async fn robustness_is_computed_for_what_is_linear_and_refused_for_what_is_not() {
    let site = Site::open().await;
    let trial = trial(&pi());
    let frequency = site.send(Method::POST, "/robustness/frequency", &trial, StatusCode::OK).await;
    let highest = |name: &str| {
        let values = frequency["curves"][name].as_array().unwrap();
        values.iter().map(|value| value.as_f64().unwrap()).fold(0.0, f64::max)
    };
    let margin = frequency["margins"]["max_sensitivity"].as_f64().unwrap();
    assert!((highest("sensitivity") / margin - 1.0).abs() < 0.01);
    let request = json!({ "trial": trial, "question": { "points": 8 } });
    let map = site.send(Method::POST, "/robustness/mismatch", &request, StatusCode::OK).await;
    assert_eq!(map["degradation"].as_array().unwrap().len(), 8);
    let request = json!({ "trial": trial, "relative_error": 0.05, "draws": 20 });
    let envelope = site.send(Method::POST, "/robustness/envelope", &request, StatusCode::OK).await;
    assert!(envelope["unstable"] == 0 && envelope["low"].as_array().unwrap().len() > 100);

    let relay = self::trial(&json!({ "kind": "relay", "amplitude": 5.0 }));
    let frequency = site.send(Method::POST, "/robustness/frequency", &relay, StatusCode::OK).await;
    assert!(frequency["curves"].is_null());
    let refused = site.refused("/robustness/mismatch", &json!({ "trial": relay })).await;
    assert!(refused["detail"].as_str().unwrap().contains("a relay has no response"), "{refused}");
    let wild = json!({ "trial": self::trial(&json!({ "kind": "pid", "gain": 50.0, "integral_time": 10.0 })) });
    assert!(site.refused("/robustness/mismatch", &wild).await["detail"].as_str().unwrap().contains("unstable"));
}

#[tokio::test]
async fn a_predictive_controller_is_begun_with_looks_ahead_and_gives_way_to_others() {
    let site = Site::open().await;
    let before = trial(&pi());
    let begun =
        site.send(Method::POST, "/tune/begin", &json!({ "trial": before, "kind": "predictive" }), StatusCode::OK).await;
    assert_eq!(begun["controller"]["kind"], "predictive");
    assert_eq!(begun["controller"]["cvs"][0]["tag"], before["plant"]["pv"]["tag"]);
    let mut predictive = before.clone();
    predictive["candidate"]["controller"] = begun["controller"].clone();
    let result = site.send(Method::POST, "/simulate", &predictive, StatusCode::OK).await;
    let tags: Vec<&str> =
        result["trace"]["columns"].as_array().unwrap().iter().map(|column| column["tag"].as_str().unwrap()).collect();
    assert!(tags.contains(&"solver steps") && tags.contains(&"limits at work"), "{tags:?}");

    // At the last scan the plan is the one that leads to the set point; before the first event nothing is felt.
    let ahead = json!({ "trial": predictive, "at": 0.0 });
    let ahead = site.send(Method::POST, "/simulate/ahead", &ahead, StatusCode::OK).await;
    assert!(ahead["limits"].as_array().unwrap().is_empty() && ahead["at"] == 0.0, "{ahead}");
    let points = ahead["cvs"][0]["expected"].as_array().unwrap().len();
    assert_eq!(ahead["mvs"][0]["planned"].as_array().unwrap().len(), points);

    let refused = site.refused("/simulate/ahead", &json!({ "trial": before, "at": 0.0 })).await;
    assert_eq!(refused["field"], "candidate.controller.kind");
    let refused = site.refused("/simulate/ahead", &json!({ "trial": predictive, "at": 1e9 })).await;
    assert_eq!(refused["field"], "at");
    let mut narrow = predictive.clone();
    narrow["candidate"]["controller"]["mvs"][0]["high"] = json!(0.0);
    let refused = site.refused("/simulate", &narrow).await;
    assert!(refused["field"].as_str().unwrap().ends_with("controller.mvs[0].high"), "{refused}");

    // Its law, written out, over its set point and where its OP stands.
    let mut small = predictive.clone();
    small["candidate"]["controller"]["moves"] = json!([1, 3]);
    let map = site
        .send(Method::POST, "/predictive/regions", &json!({ "trial": small, "over": [0, 1] }), StatusCode::OK)
        .await;
    let regions = map["regions"].as_array().unwrap();
    assert!(
        regions.len() >= 3 && regions.iter().any(|region| region["limits"].as_array().unwrap().is_empty()),
        "{map}"
    );
    assert_eq!(map["parameters"].as_array().unwrap().len(), 3);
    let refused = site.refused("/predictive/regions", &json!({ "trial": small, "over": [0, 7] })).await;
    assert_eq!(refused["field"], "over.1");
    let refused = site.refused("/predictive/regions", &json!({ "trial": before })).await;
    assert_eq!(refused["field"], "candidate.controller.kind");
    let mut limited = small.clone();
    limited["candidate"]["controller"]["cvs"][0]["high"] = json!({ "value": 60.0, "rank": 1 });
    let refused = site.refused("/predictive/regions", &json!({ "trial": limited })).await;
    assert!(refused["detail"].as_str().unwrap().contains("give way"), "{refused}");

    // A linear plant has no other equations; what has none to choose says so.
    let refused = site.refused("/predictive/model", &json!({ "trial": predictive, "equations": true })).await;
    assert!(refused["detail"].as_str().unwrap().contains("linear"), "{refused}");
    let same = json!({ "trial": predictive, "equations": false });
    let same = site.send(Method::POST, "/predictive/model", &same, StatusCode::OK).await;
    assert_eq!(same["model"], predictive["candidate"]["controller"]["model"]);
    let refused = site.refused("/predictive/model", &json!({ "trial": before, "equations": true })).await;
    assert_eq!(refused["field"], "trial.candidate.controller.kind");

    // What asks for one loop's settings says that this is none.
    let back = json!({ "trial": predictive, "kind": "pid" });
    let back = site.send(Method::POST, "/tune/begin", &back, StatusCode::OK).await;
    assert_eq!((&back["controller"]["kind"], &back["further"]), (&json!("pid"), &json!([])));
}

#[tokio::test]
async fn a_predictive_controller_gets_other_moves_and_limits_of_what_nothing_measures() {
    let site = Site::open().await;
    let process = json!({ "structure": "library", "process": "jacketed_reactor" });
    let request = json!({ "process": process, "tag": "TIC-1" });
    let plant = site.send(Method::POST, "/plants/usual", &request, StatusCode::OK).await;
    let mut trial = trial(&pi());
    trial["plant"] = plant;
    trial["scenario"] = json!({ "duration": 600.0, "scan": 6.0, "seed": 1, "events": [] });
    let begun =
        site.send(Method::POST, "/tune/begin", &json!({ "trial": trial, "kind": "predictive" }), StatusCode::OK).await;
    trial["candidate"]["controller"] = begun["controller"].clone();
    trial["scenario"] = begun["scenario"].clone();
    let scan = trial["scenario"]["scan"].as_f64().unwrap();

    // Over what it looks: the response of each pair, and where both horizons end.
    let over = site.send(Method::POST, "/predictive/responses", &trial, StatusCode::OK).await;
    let values = over["cvs"][0]["by"][0]["values"].as_array().unwrap();
    assert!(values.len() as f64 * scan >= over["looks_ahead"].as_f64().unwrap(), "{over}");
    assert_eq!((&over["cvs"][0]["unit"], &over["interval"]), (&json!("°C"), &json!(scan)));

    // The last move where it is wanted, and moves of one length.
    let moved = |until: Value| json!({ "trial": trial, "until": until });
    let until = (0.5 * over["looks_ahead"].as_f64().unwrap() / scan).round() * scan;
    let other = site.send(Method::POST, "/predictive/moves", &moved(json!(until)), StatusCode::OK).await;
    let lengths: Vec<f64> = other["moves"].as_array().unwrap().iter().map(|held| held.as_f64().unwrap()).collect();
    assert!((lengths[..lengths.len() - 1].iter().sum::<f64>() * scan - until).abs() < 1e-9, "{lengths:?}");
    let even = site.send(Method::POST, "/predictive/moves", &moved(Value::Null), StatusCode::OK).await;
    assert!(even["moves"].as_array().unwrap().len() > 4, "{even}");
    let refused = site.refused("/predictive/moves", &moved(json!(1e6))).await;
    assert_eq!(refused["field"], "until");

    // How strongly the MV acts can be learnt, by moves that suit the model.
    let learning = site.send(Method::POST, "/predictive/learning", &trial, StatusCode::OK).await;
    assert!(learning["learns"]["lasts"].as_f64().unwrap() > 10.0 * learning["learns"]["clock"].as_f64().unwrap());
    let mut learns = trial.clone();
    learns["candidate"]["controller"]["learns"] = learning["learns"].clone();
    learns["candidate"]["controller"]["learns"]["amplitude"] = json!(-1);
    let refused = site.refused("/simulate", &learns).await;
    assert_eq!(refused["field"], "controller.learns.amplitude");
    let refused = site.refused("/predictive/learning", &support::trial(&pi())).await;
    assert_eq!(refused["field"], "candidate.controller.kind");

    // The jacket is an output of the process that no signal measures.
    let model = |output: &str| json!({ "trial": trial, "equations": false, "estimated": output });
    let jacket = site.send(Method::POST, "/predictive/model", &model("jacket_temperature"), StatusCode::OK).await;
    let own = &jacket["cvs"][1];
    assert_eq!((&own["tag"], &own["estimated"]["span"]["unit"]), (&json!("jacket_temperature"), &json!("°C")));
    let mut limited = trial.clone();
    limited["candidate"]["controller"] = jacket.clone();
    limited["candidate"]["controller"]["kind"] = json!("predictive");
    let start = own["estimated"]["at_start"].as_f64().unwrap();
    limited["candidate"]["controller"]["cvs"][1]["high"] = json!({ "value": start + 1.0, "rank": 1 });
    let result = site.send(Method::POST, "/simulate", &limited, StatusCode::OK).await;
    assert!(result["trace"]["stopped"].is_null(), "{}", result["trace"]["stopped"]);
    let ahead =
        site.send(Method::POST, "/simulate/ahead", &json!({ "trial": limited, "at": 0.0 }), StatusCode::OK).await;
    assert_eq!(ahead["cvs"][1]["estimated"], true);
    let refused = site.refused("/predictive/model", &model("temperature")).await;
    assert_eq!(refused["field"], "estimated");
    let refused = site.refused("/predictive/responses", &support::trial(&pi())).await;
    assert_eq!(refused["field"], "candidate.controller.kind");
}
