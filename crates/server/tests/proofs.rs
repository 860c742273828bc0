//! Proofs through the API: proposed, carried out, kept, deleted, packed and taken in again.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, dead_code)]

mod support;

use reqwest::{Method, StatusCode};
use serde_json::{Value, json};
use std::time::Duration;
use support::{Site, trial};

fn pi(gain: f64) -> Value {
    json!({ "kind": "pid", "gain": gain, "integral_time": 10.0 })
}

/// Two candidates under the first two proposed disturbances.
async fn small(site: &Site) -> Value {
    let trial = trial(&pi(1.0));
    let mut set = site.send(Method::POST, "/proofs/propose", &trial, StatusCode::OK).await;
    let kept: Vec<Value> = set["disturbances"].as_array().unwrap()[..2].to_vec();
    set["disturbances"] = json!(kept);
    let candidate = |gain: f64| json!({ "controller": pi(gain) });
    json!({
        "version": 1,
        "plant": trial["plant"],
        "scan": 0.25,
        "candidates": [{ "name": "A", "candidate": candidate(1.0) }, { "name": "B", "candidate": candidate(0.2) }],
        "set": set,
        "seed": 3,
    })
}

async fn ended(site: &Site, begun: &Value) -> Value {
    let address = format!("/proofs/jobs/{}", begun["id"].as_str().unwrap());
    for _ in 0..1200 {
        let state = site.get(&address).await;
        if state["stage"] != "running" {
            return state;
        }
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    panic!("the proof has no end");
}

async fn proven(site: &Site, proof: &Value) -> Value {
    let body = json!({ "proof": proof });
    let begun = site.send(Method::POST, "/loops/TIC-1/proofs", &body, StatusCode::ACCEPTED).await;
    let state = ended(site, &begun).await;
    assert_eq!(state["stage"], "done", "{state}");
    state["outcome"]["row"].clone()
}

#[tokio::test]
async fn a_proof_is_proposed_carried_out_and_kept() {
    let site = Site::open().await;
    let proof = small(&site).await;
    let row = proven(&site, &proof).await;
    assert_eq!((row["number"].as_i64(), row["of_older_engine"].as_bool()), (Some(1), Some(false)));
    assert_eq!(row["label"], "2 candidates, 2 disturbances, the plant as it is");
    // Limits are half as much again as SIMC reaches: gain 1 is SIMC, a fifth of it is not enough.
    assert_eq!(row["result"]["holds"], json!([true, false]));
    let says = row["result"]["verdicts"][0]["text"].as_str().unwrap();
    assert!(says.starts_with("A keeps every limit under all 2 disturbances"), "{says}");
    // The same proof is not kept twice.
    assert_eq!(proven(&site, &proof).await["id"], row["id"]);
    assert_eq!(site.get("/loops/TIC-1/proofs").await.as_array().unwrap().len(), 1);

    // A cell is a trial that can be run as it is, and its figure that of the table.
    let cell = json!({ "proof": proof, "disturbance": 0, "candidate": 1 });
    let behind = site.send(Method::POST, "/proofs/trial", &cell, StatusCode::OK).await;
    let run = site.send(Method::POST, "/simulate", &behind, StatusCode::OK).await;
    let largest = run["assessment"]["metrics"]["loads"]["max_deviation"].as_f64().unwrap();
    let own = row["result"]["cells"][0][1]["figures"][0]["own"].as_f64().unwrap();
    assert!((largest - own).abs() < 1e-9 * own, "{largest} is not {own}");

    // Renamed, with the revision told; another one's change is not overwritten.
    let address = format!("/proofs/{}", row["id"].as_str().unwrap());
    let change = json!({ "label": "spring", "remark": "as asked" });
    let renamed = site.change(&address, "\"1\"", &change, StatusCode::OK).await;
    assert_eq!((renamed["label"].as_str(), renamed["revision"].as_i64()), (Some("spring"), Some(2)));
    site.change(&address, "\"1\"", &change, StatusCode::PRECONDITION_FAILED).await;

    // As a report for build servers.
    let path = format!("{address}/export?form=junit");
    let report = site.request(Method::GET, &path).send().await.unwrap().text().await.unwrap();
    assert!(report.contains("<testsuite name=\"A\" tests=\"2\"") && report.contains("<failure"), "{report}");
    let path = format!("{address}/export?form=proof");
    let again: Value = site.request(Method::GET, &path).send().await.unwrap().json().await.unwrap();
    assert_eq!(again, row["proof"]);

    // Into the bin and back.
    let gone = site.send(Method::DELETE, &address, &Value::Null, StatusCode::OK).await;
    assert_eq!((gone["kind"].as_str(), gone["title"].as_str()), (Some("proof"), Some("proof 1, spring")));
    assert!(site.get("/loops/TIC-1/proofs").await.as_array().unwrap().is_empty());
    let back = format!("/bin/{}/restore", gone["id"].as_str().unwrap());
    site.request(Method::POST, &back).send().await.unwrap().error_for_status().unwrap();
    assert_eq!(site.get("/loops/TIC-1/proofs").await[0]["label"], "spring");
}

#[tokio::test]
async fn what_a_plant_may_be_comes_from_ranges() {
    let site = Site::open().await;
    let mut proof = small(&site).await;
    let ask = json!({ "plant": proof["plant"], "plants": 40 });
    let ranges = site.send(Method::POST, "/proofs/uncertainty", &ask, StatusCode::OK).await;
    let names: Vec<&str> =
        ranges["ranges"].as_array().unwrap().iter().map(|range| range["parameter"].as_str().unwrap()).collect();
    assert_eq!(names, ["dead_time", "gain", "time_constant"]);
    assert_eq!(ranges["ranges"][1], json!({ "parameter": "gain", "low": 1.0, "high": 1.5 }));
    proof["uncertainty"] = ranges;
    let row = proven(&site, &proof).await;
    let share = &row["result"]["shares"][0];
    assert_eq!(share["of"], 40);
    let passes = share["passes"].as_f64().unwrap() / 40.0;
    assert!(share["interval"][0].as_f64().unwrap() <= passes && passes <= share["interval"][1].as_f64().unwrap());
    assert_eq!(row["result"]["drawn"][0]["values"].as_array().unwrap().len(), 40);
}

#[tokio::test]
async fn what_is_wrong_is_named_and_a_proof_can_be_cancelled() {
    let site = Site::open().await;
    let good = small(&site).await;
    let refused = async |pointer: &str, value: Value| {
        let mut proof = good.clone();
        *proof.pointer_mut(pointer).unwrap() = value;
        let problem = site.refused("/loops/TIC-1/proofs", &json!({ "proof": proof })).await;
        (problem["field"].as_str().unwrap_or_default().to_owned(), problem["detail"].as_str().unwrap().to_owned())
    };
    let (field, text) = refused("/candidates/1/name", json!("A")).await;
    assert!(
        field.ends_with("candidates[1].name") && text.contains("a name that no other candidate has"),
        "{field} {text}"
    );
    let (field, text) = refused("/set/disturbances/0/criteria/0/most", json!(-1)).await;
    assert!(field.ends_with("set.disturbances[0].criteria[0].most"), "{field} {text}");
    let (_, text) = refused("/candidates", json!([])).await;
    assert!(text.contains("1 to 12"), "{text}");

    let mut long = good.clone();
    long["uncertainty"] = json!({ "kind": "ranges", "plants": 5000,
        "ranges": [{ "parameter": "gain", "low": 1.0, "high": 1.5 }] });
    let begun = site.send(Method::POST, "/loops/TIC-1/proofs", &json!({ "proof": long }), StatusCode::ACCEPTED).await;
    let address = format!("/proofs/jobs/{}", begun["id"].as_str().unwrap());
    site.send(Method::DELETE, &address, &Value::Null, StatusCode::OK).await;
    let state = ended(&site, &begun).await;
    assert!(state["problem"]["detail"].as_str().unwrap().contains("cancelled"), "{state}");
    assert!(site.get("/loops/TIC-1/proofs").await.as_array().unwrap().is_empty(), "nothing is kept");
}

#[tokio::test]
async fn criteria_are_told_in_words_and_a_trial_becomes_a_disturbance() {
    let site = Site::open().await;
    let mut plant = trial(&pi(1.0))["plant"].clone();
    let asked = |of: Value| {
        json!({ "name": "one", "reason": "", "duration": 100.0, "events": [], "criteria": [
            { "figure": { "kind": "recovery_time", "band": 0.75 }, "most": 60.0 },
            { "figure": { "kind": "largest_deviation" }, "of": of },
            { "figure": { "kind": "used", "balance": "no such", "term": "steam" } }] })
    };
    let set = json!({ "name": "set", "disturbances": [asked(Value::Null), asked(json!("FIC-2"))] });
    // Measured beside the PV, in another unit.
    let span = json!({ "low": 0.0, "high": 50.0, "unit": "t/h" });
    plant["further_measured"] = json!([{ "tag": "FIC-2.PV", "span": span, "output": "flow" }]);
    let body = json!({ "plant": plant, "set": set });
    let words = site.send(Method::POST, "/proofs/words", &body, StatusCode::OK).await;
    let told = |d: usize, c: usize| {
        let own = &words["told"][d][c];
        (own["title"].as_str().unwrap().to_owned(), own["unit"].as_str().unwrap().to_owned(), own["most"].clone())
    };
    assert_eq!(told(0, 0), ("back within ±0.75 %".into(), "s".into(), json!(60.0)));
    assert_eq!(told(0, 1), ("largest deviation".into(), "%".into(), Value::Null));
    assert_eq!(told(1, 1), ("largest deviation of FIC-2".into(), "t/h".into(), Value::Null));
    // What the plant has not is told all the same: a set of another plant can be read before it is put right.
    assert_eq!(told(0, 2).0, "steam of no such");
    let offered: Vec<&str> = words["figures"]
        .as_array()
        .unwrap()
        .iter()
        .map(|offer| offer["criterion"]["figure"]["kind"].as_str().unwrap())
        .collect();
    assert_eq!(offered[0], "largest_deviation");
    assert!(!offered.contains(&"used"), "a plant without balances offers none");

    let body = json!({ "trial": trial(&pi(1.0)), "name": "as on Monday", "reason": "seen on Monday" });
    let made = site.send(Method::POST, "/proofs/disturbance", &body, StatusCode::OK).await;
    let scenario = trial(&pi(1.0))["scenario"].clone();
    assert_eq!((&made["events"], &made["duration"]), (&scenario["events"], &scenario["duration"]));
    assert_eq!((made["name"].as_str(), made["reason"].as_str()), (Some("as on Monday"), Some("seen on Monday")));
    let kinds: Vec<&str> =
        made["criteria"].as_array().unwrap().iter().map(|own| own["figure"]["kind"].as_str().unwrap()).collect();
    assert_eq!(kinds, ["largest_deviation", "recovery_time", "output_travel"]);
    assert!(made["criteria"].as_array().unwrap().iter().all(|own| own["most"].is_null()), "{made}");

    // It is proved as it is; with a term that the plant has not, it is refused where that stands.
    let mut proof = small(&site).await;
    proof["set"]["disturbances"] = json!([made]);
    let row = proven(&site, &proof).await;
    assert_eq!((row["result"]["limited"].as_u64(), &row["result"]["holds"]), (Some(0), &json!([null, null])));
    proof["set"]["disturbances"][0]["criteria"][0]["figure"] =
        json!({ "kind": "used", "balance": "heat", "term": "steam" });
    let problem = site.refused("/loops/TIC-1/proofs", &json!({ "proof": proof })).await;
    let field = problem["field"].as_str().unwrap();
    assert!(field.contains("set.disturbances[0].criteria[0]"), "{problem}");
}

#[tokio::test]
async fn sets_are_saved_for_the_works_and_proofs_travel_with_their_loop() {
    let site = Site::open().await;
    let proof = small(&site).await;
    let content = json!({ "kind": "proving_set", "spec": proof["set"] });
    let body = json!({ "name": "usual year", "made_in": "TIC-1", "content": content });
    site.send(Method::POST, "/saved", &body, StatusCode::CREATED).await;
    let saved = site.get("/saved?kind=proving_set").await;
    assert_eq!((saved[0]["name"].as_str(), &saved[0]["spec"]), (Some("usual year"), &proof["set"]));
    let mut wrong = body.clone();
    wrong["name"] = json!("empty");
    wrong["content"]["spec"]["disturbances"] = json!([]);
    assert!(site.refused("/saved", &wrong).await["detail"].as_str().unwrap().contains("1 to 40"));

    // Controllers that settings are typed into, too.
    let target = json!({ "notation": { "form": "series", "gain_over": "engineering_unit" }, "digits": 3 });
    let content = json!({ "kind": "target", "spec": target });
    let body = json!({ "name": "old panel", "content": content });
    site.send(Method::POST, "/saved", &body, StatusCode::CREATED).await;
    let spec = &site.get("/saved?kind=target").await[0]["spec"];
    assert_eq!((&spec["notation"]["gain_over"], &spec["digits"]), (&json!("engineering_unit"), &json!(3)));
    let mut wrong = body.clone();
    wrong["name"] = json!("another");
    wrong["content"]["spec"]["digits"] = json!(9);
    assert!(site.refused("/saved", &wrong).await["detail"].as_str().unwrap().contains("2 to 6"));
    wrong["content"]["spec"] = json!({ "notation": { "form": "parallel", "proportional": "band" }, "digits": 3 });
    assert!(site.refused("/saved", &wrong).await["detail"].as_str().unwrap().contains("gain in the parallel form"));

    let row = proven(&site, &proof).await;
    let archive = site.request(Method::GET, "/loops/TIC-1/archive").send().await.unwrap().bytes().await.unwrap();
    let other = Site::empty().await;
    let uploaded = other.request(Method::POST, "/archives").body(archive).send().await.unwrap();
    assert!(uploaded.status().is_success(), "{}", uploaded.text().await.unwrap());
    let there = other.get("/loops/TIC-1/proofs").await;
    assert_eq!((&there[0]["proof"], &there[0]["result"]), (&row["proof"], &row["result"]));
    assert_eq!(there[0]["id"], row["id"]);
}

#[tokio::test]
async fn a_dossier_is_proposed_written_and_the_same_from_an_archive() {
    use antistasis_dossier::{dossier, html, pdf};
    use antistasis_server::dossier::{record_needed, sources, written};
    let site = Site::open().await;
    let address = "/loops/TIC-1/dossier";
    assert_eq!(site.get(address).await["spec"], Value::Null, "nothing to hand over yet");
    let none = site.request(Method::GET, &format!("{address}/export?form=pdf")).send().await.unwrap();
    assert_eq!(none.status(), StatusCode::UNPROCESSABLE_ENTITY);

    let body = json!({ "trial": trial(&pi(1.0)), "label": "first" });
    site.send(Method::POST, "/loops/TIC-1/trials", &body, StatusCode::CREATED).await;
    proven(&site, &small(&site).await).await;
    let proposed = site.get(address).await;
    assert_eq!(
        (&proposed["revision"], &proposed["spec"]["trial"], &proposed["spec"]["proof"]),
        (&json!(0), &json!(1), &json!(1))
    );
    let instructions = proposed["spec"]["instructions"].as_array().unwrap();
    assert!(instructions[0].as_str().unwrap().starts_with("To put TIC-1 in automatic"), "{instructions:?}");

    // Written; a change on the ground of what stood before is not lost in silence.
    let mut spec = proposed["spec"].clone();
    spec["purpose"] = json!("Keeps it warm.");
    let kept = site.change(address, "\"0\"", &spec, StatusCode::OK).await;
    assert_eq!((&kept["revision"], &kept["spec"]), (&json!(1), &spec));
    site.change(address, "\"0\"", &spec, StatusCode::PRECONDITION_FAILED).await;
    spec["purpose"] = json!("Keeps it warm and dry.");
    assert_eq!(site.change(address, "\"1\"", &spec, StatusCode::OK).await["revision"], 2);
    // What it is about must be there.
    for (field, value) in [("trial", 7), ("proof", 9), ("digits", 1)] {
        let mut wrong = spec.clone();
        wrong[field] = json!(value);
        let problem = site.change(address, "\"2\"", &wrong, StatusCode::UNPROCESSABLE_ENTITY).await;
        assert_eq!(problem["field"], field, "{problem}");
    }

    // The bytes are those that anyone makes of the archive.
    let archive = site.request(Method::GET, "/loops/TIC-1/archive").send().await.unwrap().bytes().await.unwrap();
    let file = tempfile::NamedTempFile::new().unwrap();
    std::fs::write(file.path(), &archive).unwrap();
    let (archived, mut records) = antistasis_server::archive::read(file.path()).unwrap().remove(0);
    let own = written(&archived.dossier.as_ref().unwrap().spec).unwrap();
    let record = record_needed(&archived, &own).unwrap().map(|place| records.remove(place));
    let document = dossier(&sources(&archived, &own, record).unwrap(), &own).unwrap();
    let export = async |form: &str| {
        let path = format!("{address}/export?form={form}");
        let answer = site.request(Method::GET, &path).send().await.unwrap().error_for_status().unwrap();
        (answer.headers().clone(), answer.bytes().await.unwrap())
    };
    assert_eq!(export("html").await.1, html(&document).as_bytes());
    assert_eq!(export("pdf").await.1, pdf(&document).unwrap());
    let (headers, page) = export("page").await;
    assert_eq!(page, html(&document).as_bytes());
    let policy = headers["content-security-policy"].to_str().unwrap();
    assert!(policy.contains("default-src 'none'") && policy.contains("frame-ancestors 'self'"), "{policy}");
    assert!(headers["content-type"].to_str().unwrap().starts_with("text/html"));
    let as_document: Value = serde_json::from_slice(&export("json").await.1).unwrap();
    assert_eq!(as_document, serde_json::to_value(&document).unwrap());
    // And elsewhere, once it was taken in there.
    let other = Site::empty().await;
    other.request(Method::POST, "/archives").body(archive).send().await.unwrap().error_for_status().unwrap();
    let path = format!("{address}/export?form=pdf");
    let there = other.request(Method::GET, &path).send().await.unwrap().bytes().await.unwrap();
    assert_eq!(there, export("pdf").await.1);
}

#[tokio::test]
async fn what_is_handed_over_is_told_by_trial_with_its_warnings() {
    let site = Site::open().await;
    let none = site.get("/loops/TIC-1/hand-over").await;
    assert_eq!((&none["proposed"], none["proven"].as_array().map(Vec::len)), (&Value::Null, Some(0)));
    let keep = async |gain: f64, label: &str| {
        let body = json!({ "trial": trial(&pi(gain)), "label": label });
        site.send(Method::POST, "/loops/TIC-1/trials", &body, StatusCode::CREATED).await
    };
    keep(1.0, "proven").await;
    keep(7.654_321, "wild").await;
    assert_eq!(site.get("/loops/TIC-1/hand-over").await["proposed"]["trial"], 2, "the newest where nothing is proven");
    let proof = proven(&site, &small(&site).await).await;
    let place = proof["proof"]["candidates"]
        .as_array()
        .unwrap()
        .iter()
        .position(|own| own["candidate"]["controller"]["gain"] == 1.0);
    let found = site.get("/loops/TIC-1/hand-over").await;
    assert_eq!(found["proven"], json!([{ "trial": 1, "proof": 1, "place": place.unwrap() }]));
    assert_eq!(found["proposed"]["trial"], 1, "what was proven");

    let request = json!({ "notation": {}, "digits": 3, "proof": 1 });
    let handed = site.send(Method::POST, "/loops/TIC-1/hand-over/1", &request, StatusCode::OK).await;
    let sheet = &handed["typed"]["sheets"][0];
    assert_eq!((&sheet["rows"][0]["text"], &sheet["rows"][0]["unit"]), (&json!("1"), &json!("%/%")));
    assert_eq!(sheet["rows"][1]["unit"], "s");
    let warned = |handed: &Value| -> Vec<String> {
        handed["warnings"].as_array().unwrap().iter().map(|own| own["text"].as_str().unwrap().to_owned()).collect()
    };
    assert!(!warned(&handed).iter().any(|text| text.contains("not proven") || text.contains("made without candidate")));
    // Another trial than the one that was proven, and typed with fewer digits than it has.
    let handed = site.send(Method::POST, "/loops/TIC-1/hand-over/2", &request, StatusCode::OK).await;
    let texts = warned(&handed);
    assert!(texts.iter().any(|text| text == "Proof 1 was made without candidate B as it is now."), "{texts:?}");
    // 7.65 for 7.654321 is 0.0564 % less.
    assert!(texts.iter().any(|text| text.contains("by up to 0.0565 % (gain of TIC-1)")), "{texts:?}");
    assert_eq!(handed["typed"]["trial"]["candidate"]["controller"]["gain"], 7.65);
    let none = json!({ "notation": {}, "digits": 3 });
    let texts = warned(&site.send(Method::POST, "/loops/TIC-1/hand-over/2", &none, StatusCode::OK).await);
    assert!(texts.iter().any(|text| text == "B was not proven."), "{texts:?}");

    for (path, body, field) in [
        ("/loops/TIC-1/hand-over/9", request.clone(), "trial"),
        ("/loops/TIC-1/hand-over/1", json!({ "notation": {}, "digits": 3, "proof": 4 }), "proof"),
        ("/loops/TIC-1/hand-over/1", json!({ "notation": {}, "digits": 12 }), "digits"),
    ] {
        assert_eq!(site.refused(path, &body).await["field"], field);
    }
}

#[tokio::test]
async fn rejection_is_told_by_a_record_and_a_model() {
    let site = Site::open().await;
    let row = proven(&site, &small(&site).await).await;
    let address = format!("/proofs/{}/rejection", row["id"].as_str().unwrap());
    let refused = async |query: &str| {
        let answer = site.request(Method::GET, &format!("{address}{query}")).send().await.unwrap();
        support::taken(answer, StatusCode::UNPROCESSABLE_ENTITY).await
    };
    assert_eq!(refused("").await["field"], "model", "it stands on none");

    // Steps of the OP, and a PV that follows them with a slow wave beside it.
    let mut text = "time [s],TIC-1.PV [°C],TIC-1.OP [%]\n".to_owned();
    let (mut x, mut before) = (0.0f64, 40.0f64);
    for k in 0..600 {
        let op = if (k / 100) % 2 == 0 { 40.0 } else { 50.0 };
        x += 0.1 * (before - 40.0 - x);
        before = op;
        let t = 0.5 * f64::from(k);
        text += &format!("{t},{},{op}\n", 30.0 + x + 0.3 * (t / 7.0).sin() + 0.05 * (t * 1.7).cos());
    }
    let record = site.import(text).await;
    let id = record["id"].as_str().unwrap();
    let fit = json!({ "record_id": id, "options": { "structure": { "kind": "fopdt" } } });
    let model = site.send(Method::POST, "/loops/TIC-1/models", &fit, StatusCode::CREATED).await;
    let query = format!("?model={}", model["id"].as_str().unwrap());
    let found = site.get(&format!("{address}{query}")).await;
    let names: Vec<&str> =
        found["candidates"].as_array().unwrap().iter().map(|own| own["name"].as_str().unwrap()).collect();
    assert_eq!(names, ["A", "B"]);
    let came = found["arrived"]["deviation"].as_f64().unwrap();
    // A sine of 0.3 has a standard deviation of 0.212.
    assert!((0.15..0.3).contains(&came), "{came}");
    let points = found["arrived"]["omega"].as_array().unwrap().len();
    assert_eq!(found["candidates"][0]["sensitivity"].as_array().unwrap().len(), points);
    // The OP was moved by hand: there is no loop to be judged.
    assert_eq!(found["present"], Value::Null);
    assert!(found["verdicts"].to_string().contains("moved by hand"), "{}", found["verdicts"]);
    let longer = site.get(&format!("{address}{query}&dead_time=4&record={id}")).await;
    assert_eq!(longer["dead_time"], 4.0);
    assert!(longer["arrived"]["least_deviation"].as_f64() >= found["arrived"]["least_deviation"].as_f64());
    assert_eq!(refused(&format!("{query}&dead_time=-1")).await["field"], "dead_time");
    let nobody =
        site.request(Method::GET, &format!("{address}?model={}", row["id"].as_str().unwrap())).send().await.unwrap();
    assert_eq!(nobody.status(), StatusCode::NOT_FOUND);

    // The wave as a load, and as items of a set.
    let of =
        |trial: &Value, model: &Value, record: Value| json!({ "trial": trial, "model_id": model, "record_id": record });
    let mut own = trial(&pi(1.0));
    let other = of(&own, &model["id"], Value::Null);
    let refused = site.send(Method::POST, "/proofs/found", &other, StatusCode::UNPROCESSABLE_ENTITY).await;
    assert!(refused["detail"].as_str().unwrap().contains("the plant has one in %"), "{refused}");
    own["plant"]["pv"]["span"]["unit"] = json!("°C");
    let look = |model: &Value, record: Value| of(&own, model, record);
    let found = site.send(Method::POST, "/proofs/found", &look(&model["id"], Value::Null), StatusCode::OK).await;
    let loads = &found["loads"];
    assert_eq!((loads["load"].as_array().unwrap().len(), &loads["interval"]), (600, &json!(0.5)));
    let stretch = &found["disturbances"][0];
    assert_eq!(stretch["name"], format!("load as in {}", record["name"].as_str().unwrap()));
    assert_eq!(stretch["events"][0]["kind"], "load_channel");
    assert!(stretch["criteria"][0]["most"].as_f64().unwrap() > 0.0, "{stretch}");
    assert!(found["verdicts"][0]["text"].as_str().unwrap().contains(record["name"].as_str().unwrap()));
    let same = site.send(Method::POST, "/proofs/found", &look(&model["id"], json!(id)), StatusCode::OK).await;
    assert_eq!(same, found);
    site.send(Method::POST, "/proofs/found", &look(&row["id"], Value::Null), StatusCode::NOT_FOUND).await;
    site.send(Method::POST, "/proofs/found", &look(&model["id"], row["id"].clone()), StatusCode::NOT_FOUND).await;
}

#[tokio::test]
async fn controllers_are_handed_over_as_text() {
    let site = Site::open().await;
    let text = site.send(Method::POST, "/hand-over/structured-text", &trial(&pi(1.2)), StatusCode::OK).await;
    let block = &text["blocks"][0];
    assert_eq!((block["name"].as_str(), text["remarks"].as_array().map(Vec::len)), (Some("TIC-1"), Some(0)));
    assert!(block["text"].as_str().unwrap().contains("KC : LREAL := 1.2;"), "{block}");
    let wrong = trial(&pi(-1.0));
    let problem = site.refused("/hand-over/structured-text", &wrong).await;
    assert!(problem["field"].as_str().unwrap().contains("gain"), "{problem}");
}
