//! A works of one's own over the API: made, changed, deleted, brought back, taken elsewhere; and what two writers see.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

mod support;

use reqwest::{Method, StatusCode};
use serde_json::{Value, json};
use support::{Site, taken};

fn card(tag: &str) -> Value {
    json!({
        "tag": tag, "name": "tank", "difficulty": "", "notes": "drawn up by hand",
        "pv": { "tag": format!("{tag}.PV"), "span": { "low": 0.0, "high": 4.0, "unit": "m" } },
        "op": { "tag": format!("{tag}.OP"), "span": { "low": 0.0, "high": 100.0, "unit": "%" } },
    })
}

async fn made(site: &Site, tag: &str, area: &str) -> Value {
    let body = json!({ "area": area, "card": card(tag) });
    site.send(Method::POST, "/loops", &body, StatusCode::CREATED).await
}

fn step_test() -> String {
    let mut text = String::from("time [s],TIC-1.PV [°C],TIC-1.OP [%],FI-1.PV [t/h]\n");
    for k in 0..300 {
        let since = f64::from(k) - 60.0;
        let pv = 80.0 + if since > 0.0 { 12.0 * (1.0 - (-since / 20.0).exp()) } else { 0.0 };
        text += &format!("{k},{pv},{},{}\n", if k >= 55 { 60 } else { 50 }, k % 5);
    }
    text
}

#[tokio::test]
async fn loops_and_areas_are_made_renamed_moved_and_refused_at_their_field() {
    let site = Site::open().await;
    let first = made(&site, "LIC-7", "Brine").await;
    assert_eq!((&first["area"], &first["revision"]), (&json!("Brine"), &json!(1)));
    assert_eq!(first["notes"], json!("drawn up by hand"));

    for (change, field, words) in [
        (json!({ "tag": " " }), "tag", "The tag is empty"),
        (json!({ "tag": "A/B" }), "tag", "without / \\ ? # %"),
        (json!({ "tag": "x".repeat(41) }), "tag", "at most 40"),
        (json!({ "pv": { "tag": "P", "span": { "low": 5.0, "high": 5.0, "unit": "m" } } }), "pv.span.high", "above"),
        (json!({ "op": { "tag": "LIC-8.PV", "span": { "low": 0.0, "high": 1.0, "unit": "%" } } }), "op.tag", "both"),
    ] {
        let mut body = json!({ "area": "Brine", "card": card("LIC-8") });
        for (key, value) in change.as_object().unwrap() {
            body["card"][key] = value.clone();
        }
        let refused = site.refused("/loops", &body).await;
        assert_eq!(refused["field"], json!(field), "{refused}");
        assert!(refused["detail"].as_str().unwrap().contains(words), "{refused}");
    }
    let again = json!({ "area": "Brine", "card": card("LIC-7") });
    let taken_name = site.send(Method::POST, "/loops", &again, StatusCode::CONFLICT).await;
    assert_eq!((&taken_name["field"], &taken_name["status"]), (&json!("tag"), &json!(409)));

    // Renamed and moved in one act; the area that did not exist is made.
    let mut moved = card("LIC-70");
    moved["notes"] = json!("moved");
    let body = json!({ "area": "Storage", "card": moved });
    let changed = site.change("/loops/LIC-7", "\"1\"", &body, StatusCode::OK).await;
    assert_eq!(
        (&changed["tag"], &changed["area"], &changed["revision"]),
        (&json!("LIC-70"), &json!("Storage"), &json!(2))
    );
    assert_eq!(changed["id"], first["id"]);
    let areas = site.get("/areas").await;
    let names: Vec<&str> = areas.as_array().unwrap().iter().map(|area| area["name"].as_str().unwrap()).collect();
    assert_eq!(names, ["Area", "Brine", "Storage"], "an empty area stays until it is deleted");

    let brine = areas[1]["id"].as_str().unwrap();
    let path = format!("/areas/{brine}");
    let renamed = json!({ "name": "Brine side", "notes": "" });
    site.change(&path, "\"1\"", &renamed, StatusCode::OK).await;
    let same = json!({ "name": "Storage", "notes": "" });
    site.change(&path, "\"2\"", &same, StatusCode::CONFLICT).await;
}

#[tokio::test]
async fn what_two_change_is_never_lost_in_silence() {
    let site = Site::open().await;
    let record = site.import(step_test()).await;
    let id = record["id"].as_str().unwrap();
    let path = format!("/records/{id}/preparation");
    let step = |by: f64| json!([{ "operation": { "kind": "shift", "tag": null, "by": by }, "enabled": true }]);

    // Without a revision nothing is taken.
    let missing = site.send(Method::PUT, &path, &step(1.0), StatusCode::PRECONDITION_REQUIRED).await;
    assert_eq!(missing["type"], json!("/problems/revision"));
    // The second of two who began from the same is told of the first, with what stands there now.
    let first = site.change(&path, "\"1\"", &step(1.0), StatusCode::OK).await;
    assert_eq!(first["revision"], json!(2));
    let second = site.change(&path, "\"1\"", &step(2.0), StatusCode::PRECONDITION_FAILED).await;
    assert!(second["detail"].as_str().unwrap().contains("yours began from revision 1, it stands at revision 2"));
    assert_eq!(second["current"]["preparation"], step(1.0));
    // Overwritten only by saying so.
    site.change(&path, "*", &step(2.0), StatusCode::OK).await;

    // Of many who begin from the same revision just one is taken; nobody gets anything but 200 or 412.
    let revision = site.get("/loops/TIC-1").await["revision"].as_i64().unwrap();
    let mut card = card("TIC-1");
    let attempts: Vec<_> = (0..12)
        .map(|k| {
            card["notes"] = json!(format!("writer {k}"));
            let body = json!({ "area": "Area", "card": card });
            let request = site.request(Method::PUT, "/loops/TIC-1").header("If-Match", format!("\"{revision}\""));
            tokio::spawn(request.json(&body).send())
        })
        .collect();
    let mut codes = Vec::new();
    for attempt in attempts {
        codes.push(attempt.await.unwrap().unwrap().status().as_u16());
    }
    codes.sort_unstable();
    assert_eq!(codes[0], 200);
    assert!(codes[1..].iter().all(|code| *code == 412), "{codes:?}");
    // The answer carries its revision.
    let answer = site.request(Method::GET, "/loops/TIC-1").send().await.unwrap();
    assert_eq!(answer.headers()["etag"].to_str().unwrap(), format!("\"{}\"", revision + 1));
}

#[tokio::test]
async fn channels_are_put_right_after_the_import() {
    let site = Site::open().await;
    let record = site.import(step_test()).await;
    let id = record["id"].as_str().unwrap();
    let steps = json!([
        { "operation": { "kind": "shift", "tag": "FI-1.PV", "by": 2.0 }, "enabled": true },
        { "operation": { "kind": "compute", "tag": "double", "role": "other", "unit": "t/h", "formula": "2 * {FI-1.PV}" }, "enabled": true }
    ]);
    site.change(&format!("/records/{id}/preparation"), "\"1\"", &steps, StatusCode::OK).await;
    let fit = json!({ "record_id": id, "options": { "structure": { "kind": "fopdt" } } });
    let model = site.send(Method::POST, "/loops/TIC-1/models", &fit, StatusCode::CREATED).await;
    assert_eq!((&model["stale"], &model["chosen"]), (&json!(false), &json!(false)));

    let channels = |flow: &str, role: &str| {
        json!([{ "tag": "TIC-1.PV", "role": "pv", "unit": "°C" }, { "tag": "TIC-1.OP", "role": "op", "unit": "%" },
            { "tag": flow, "role": role, "unit": "kg/s" }])
    };
    let body = |channels: Value| json!({ "name": "renamed", "remark": "feed was mislabelled", "channels": channels });
    let path = format!("/records/{id}");
    for (given, field) in [(channels("TIC-1.PV", "dv"), "channels.2.tag"), (json!([]), "channels")] {
        let refused = site.change(&path, "\"2\"", &body(given), StatusCode::UNPROCESSABLE_ENTITY).await;
        assert_eq!(refused["field"], json!(field), "{refused}");
    }
    let changed = site.change(&path, "\"2\"", &body(channels("FI-9.PV", "dv")), StatusCode::OK).await;
    assert_eq!((&changed["name"], &changed["channels"][2]["role"]), (&json!("renamed"), &json!("dv")));
    assert_eq!(changed["channels"][2]["unit"], json!("kg/s"));
    // Steps speak of the channel by its new tag, and still do what they did.
    assert_eq!(changed["preparation"][0]["operation"]["tag"], json!("FI-9.PV"));
    assert_eq!(changed["preparation"][1]["operation"]["formula"], json!("2 * {FI-9.PV}"));
    let samples = site.get(&format!("/records/{id}/samples?prepared=true")).await;
    assert_eq!(samples["channels"][2]["tag"], json!("FI-9.PV"));
    // What was fitted to the record as it was says so.
    assert_eq!(site.get("/loops/TIC-1/models").await[0]["stale"], json!(true));
}

#[tokio::test]
async fn what_is_deleted_comes_back_with_what_went_along() {
    let site = Site::open().await;
    let record = site.import(step_test()).await;
    let record_id = record["id"].as_str().unwrap();
    let fit = json!({ "record_id": record_id, "options": { "structure": { "kind": "fopdt" } } });
    let model = site.send(Method::POST, "/loops/TIC-1/models", &fit, StatusCode::CREATED).await;
    let model_id = model["id"].as_str().unwrap();
    let reason = json!({ "reason": "the only one" });
    site.send(Method::PUT, &format!("/models/{model_id}/chosen"), &reason, StatusCode::OK).await;
    let choice = json!({ "model_id": null, "choice": { "closed_loop_time_constant": null } });
    let proposal = site.send(Method::POST, "/loops/TIC-1/propose", &choice, StatusCode::OK).await;
    let keep = json!({ "trial": proposal["trial"], "model_id": model_id, "changed_from": null, "label": "first" });
    let trial = site.send(Method::POST, "/loops/TIC-1/trials", &keep, StatusCode::CREATED).await;

    // Computed again by the same engine it is the same; and nothing in this loop cannot be read.
    let again = format!("/trials/{}/assess", trial["id"].as_str().unwrap());
    let assessed = site.send(Method::POST, &again, &Value::Null, StatusCode::OK).await;
    assert_eq!((&assessed["differs"], &assessed["row"]["of_older_engine"]), (&json!(false), &json!(false)));
    assert!(site.get("/loops/TIC-1/unreadable").await.as_array().unwrap().is_empty());

    let hanging = site.get(&format!("/hanging/record/{record_id}")).await;
    assert_eq!(hanging["along"], json!(["model A, the chosen one"]));
    assert_eq!(hanging["stays"], json!(["1 trial, which keeps the process"]));
    let gone = site.send(Method::DELETE, &format!("/records/{record_id}"), &Value::Null, StatusCode::OK).await;
    assert!(site.get("/loops/TIC-1/records").await.as_array().unwrap().is_empty());
    assert!(site.get("/loops/TIC-1/models").await.as_array().unwrap().is_empty());
    assert_eq!(site.get("/loops/TIC-1/trials").await.as_array().unwrap().len(), 1);
    let bin = site.get("/bin").await;
    assert_eq!((bin[0]["title"].as_str().unwrap(), &bin[0]["loop_tag"]), ("record “record”", &json!("TIC-1")));
    site.send(
        Method::POST,
        &format!("/bin/{}/restore", gone["id"].as_str().unwrap()),
        &Value::Null,
        StatusCode::NO_CONTENT,
    )
    .await;
    assert_eq!(site.get("/loops/TIC-1/models").await[0]["chosen"], json!(true));

    // A model that was deleted before its record waits for the record.
    let model_gone = site.send(Method::DELETE, &format!("/models/{model_id}"), &Value::Null, StatusCode::OK).await;
    let record_gone = site.send(Method::DELETE, &format!("/records/{record_id}"), &Value::Null, StatusCode::OK).await;
    // The bin comes in parts, the newest first, and with one that is asked for.
    let newest = site.get("/bin?newest=1").await;
    assert_eq!((newest.as_array().unwrap().len(), &newest[0]["id"]), (1, &record_gone["id"]));
    let both = site.get(&format!("/bin?newest=1&also={}", model_gone["id"].as_str().unwrap())).await;
    assert_eq!((both.as_array().unwrap().len(), &both[1]["id"]), (2, &model_gone["id"]));
    let restore = |item: &Value| format!("/bin/{}/restore", item["id"].as_str().unwrap());
    let refused = site.send(Method::POST, &restore(&model_gone), &Value::Null, StatusCode::CONFLICT).await;
    assert!(refused["detail"].as_str().unwrap().contains("bring that back first"), "{refused}");
    site.send(Method::POST, &restore(&record_gone), &Value::Null, StatusCode::NO_CONTENT).await;
    site.send(Method::POST, &restore(&model_gone), &Value::Null, StatusCode::NO_CONTENT).await;
    assert_eq!(site.get(&format!("/models/{model_id}/curve")).await["times"].as_array().unwrap().len(), 300);

    // A loop goes with all that is in it; its tag is free meanwhile, and then it cannot come back under it.
    let loop_gone = site.send(Method::DELETE, "/loops/TIC-1", &Value::Null, StatusCode::OK).await;
    assert_eq!(loop_gone["along"], json!(["1 record", "1 model", "1 trial"]));
    made(&site, "TIC-1", "Area").await;
    let refused = site.send(Method::POST, &restore(&loop_gone), &Value::Null, StatusCode::CONFLICT).await;
    assert!(refused["detail"].as_str().unwrap().contains("another one is called that"), "{refused}");
    let rename = json!({ "area": "Area", "card": card("TIC-2") });
    site.change("/loops/TIC-1", "*", &rename, StatusCode::OK).await;
    site.send(Method::POST, &restore(&loop_gone), &Value::Null, StatusCode::NO_CONTENT).await;
    assert_eq!(site.get("/loops/TIC-1/trials").await[0]["id"], trial["id"]);
    // For good.
    let trial_gone = site
        .send(Method::DELETE, &format!("/trials/{}", trial["id"].as_str().unwrap()), &Value::Null, StatusCode::OK)
        .await;
    let path = format!("/bin/{}", trial_gone["id"].as_str().unwrap());
    site.send(Method::DELETE, &path, &Value::Null, StatusCode::NO_CONTENT).await;
    site.send(Method::POST, &restore(&trial_gone), &Value::Null, StatusCode::NOT_FOUND).await;
}

#[tokio::test]
async fn the_trail_is_tidied_and_edits_on_the_way_make_room() {
    let site = Site::open().await;
    let record = site.import(step_test()).await;
    let fit = json!({ "record_id": record["id"], "options": { "structure": { "kind": "fopdt" } } });
    site.send(Method::POST, "/loops/TIC-1/models", &fit, StatusCode::CREATED).await;
    // Nobody has chosen a model: the newest serves, and stays unchosen.
    let choice = json!({ "model_id": null, "choice": { "closed_loop_time_constant": null } });
    let proposal = site.send(Method::POST, "/loops/TIC-1/propose", &choice, StatusCode::OK).await;
    let keep = async |gain: f64, from: &Value, replaces: &Value| {
        let mut trial = proposal["trial"].clone();
        trial["candidate"]["controller"]["gain"] = json!(gain);
        let body =
            json!({ "trial": trial, "model_id": null, "changed_from": from, "label": null, "replaces": replaces });
        site.send(Method::POST, "/loops/TIC-1/trials", &body, StatusCode::CREATED).await
    };
    let first = keep(1.0, &Value::Null, &Value::Null).await;
    let passed = keep(1.1, &first["id"], &Value::Null).await;
    let last = keep(1.5, &first["id"], &passed["id"]).await;
    assert_eq!(last["label"], json!("gain 1 → 1.5"));
    let rows = site.get("/loops/TIC-1/trials").await;
    assert_eq!(rows.as_array().unwrap().len(), 2, "{rows}");
    // What somebody starred does not make room.
    let path = format!("/trials/{}", last["id"].as_str().unwrap());
    let edit = json!({ "label": "the calm one", "remark": "for the night shift", "starred": true });
    let starred = site.change(&path, "\"1\"", &edit, StatusCode::OK).await;
    assert_eq!((&starred["label"], &starred["starred"]), (&json!("the calm one"), &json!(true)));
    keep(2.0, &first["id"], &last["id"]).await;
    assert_eq!(site.get("/loops/TIC-1/trials").await.as_array().unwrap().len(), 3);
    site.change(&path, "\"1\"", &edit, StatusCode::PRECONDITION_FAILED).await;
}

#[tokio::test]
async fn plants_scenarios_and_candidates_are_saved_for_the_works() {
    let site = Site::open().await;
    made(&site, "LIC-7", "Area").await;
    let spec =
        json!({ "kind": "candidate", "spec": { "controller": { "kind": "pid", "gain": 2.0, "integral_time": 30.0 } } });
    let body = json!({ "name": "calm", "remark": "", "made_in": "LIC-7", "content": spec });
    let saved = site.send(Method::POST, "/saved", &body, StatusCode::CREATED).await;
    assert_eq!((&saved["made_in"], &saved["kind"]), (&json!("LIC-7"), &json!("candidate")));
    let again = site.send(Method::POST, "/saved", &body, StatusCode::CONFLICT).await;
    assert!(again["detail"].as_str().unwrap().contains("already a candidate “calm”"), "{again}");
    assert_eq!(site.get("/saved?kind=candidate").await.as_array().unwrap().len(), 1);
    assert!(site.get("/saved?kind=plant").await.as_array().unwrap().is_empty());
    assert!(site.get("/saved/unreadable").await.as_array().unwrap().is_empty());
    let path = format!("/saved/{}", saved["id"].as_str().unwrap());
    let other = json!({ "name": "calmer", "content": { "kind": "scenario", "spec": { "duration": 10.0, "scan": 1.0, "events": [] } } });
    let refused = site.change(&path, "\"1\"", &other, StatusCode::CONFLICT).await;
    assert!(refused["detail"].as_str().unwrap().contains("a scenario cannot take its place"), "{refused}");
    let renamed = site.change(&path, "\"1\"", &json!({ "name": "calmer" }), StatusCode::OK).await;
    assert_eq!((&renamed["name"], &renamed["spec"]), (&json!("calmer"), &saved["spec"]));
    site.send(Method::DELETE, &path, &Value::Null, StatusCode::OK).await;
    assert!(site.get("/saved").await.as_array().unwrap().is_empty());
}

#[tokio::test]
async fn an_archive_goes_out_and_comes_in_elsewhere_to_the_bit() {
    let site = Site::open().await;
    let record = site.import(step_test()).await;
    site.import("t,PV,OP\n0,1,2\n1,,3\n3.5,-0.1,4\n9,2,5\n".into()).await;
    let id = record["id"].as_str().unwrap();
    let steps = json!([{ "operation": { "kind": "shift", "tag": null, "by": 0.1 }, "enabled": true }]);
    site.change(&format!("/records/{id}/preparation"), "\"1\"", &steps, StatusCode::OK).await;
    let fit = json!({ "record_id": id, "options": { "structure": { "kind": "two_lags" } } });
    let model = site.send(Method::POST, "/loops/TIC-1/models", &fit, StatusCode::CREATED).await;
    let choice = json!({ "model_id": null, "choice": { "closed_loop_time_constant": null } });
    let proposal = site.send(Method::POST, "/loops/TIC-1/propose", &choice, StatusCode::OK).await;
    let keep = json!({ "trial": proposal["trial"], "model_id": model["id"], "changed_from": null, "label": "first" });
    site.send(Method::POST, "/loops/TIC-1/trials", &keep, StatusCode::CREATED).await;
    let archive = |site: &Site, path: &str| {
        let request = site.request(Method::GET, path);
        async move {
            let answer = request.send().await.unwrap();
            assert_eq!(answer.status(), StatusCode::OK);
            answer.bytes().await.unwrap()
        }
    };
    let bytes = archive(&site, "/loops/TIC-1/archive").await;
    assert_eq!(&bytes[..2], b"PK");

    // Here its tag is taken; elsewhere it comes in whole, and goes out again as the same bytes.
    let post = |site: &Site, bytes: Vec<u8>| site.request(Method::POST, "/archives").body(bytes).send();
    let refused = taken(post(&site, bytes.to_vec()).await.unwrap(), StatusCode::CONFLICT).await;
    assert!(refused["detail"].as_str().unwrap().contains("already a loop “TIC-1”: rename or delete it"), "{refused}");
    let elsewhere = Site::empty().await;
    taken(post(&elsewhere, bytes.to_vec()).await.unwrap(), StatusCode::CREATED).await;
    assert!(bytes == archive(&elsewhere, "/loops/TIC-1/archive").await, "another archive");
    for path in ["/loops/TIC-1/records", "/loops/TIC-1/models", "/loops/TIC-1/trials"] {
        let (mut here, mut there) = (site.get(path).await, elsewhere.get(path).await);
        for rows in [&mut here, &mut there] {
            rows.as_array_mut().unwrap().iter_mut().for_each(|row| row["revision"] = json!(0));
        }
        assert_eq!(here, there, "{path}");
    }
    // A whole area as well, as a copy beside the original once that has another tag.
    let areas = site.get("/areas").await;
    let area = archive(&site, &format!("/areas/{}/archive", areas[0]["id"].as_str().unwrap())).await;
    site.change("/loops/TIC-1", "*", &json!({ "area": "Area", "card": card("TIC-9") }), StatusCode::OK).await;
    taken(post(&site, area.to_vec()).await.unwrap(), StatusCode::CREATED).await;
    assert_eq!(site.get("/loops/TIC-1/models").await.as_array().unwrap().len(), 1);

    // A broken one is refused whole.
    let mut broken = bytes.to_vec();
    let middle = broken.len() / 2;
    broken[middle] ^= 0x55;
    let fresh = Site::empty().await;
    let refused = post(&fresh, broken).await.unwrap().status();
    assert!(refused == StatusCode::UNPROCESSABLE_ENTITY || refused == StatusCode::CREATED, "{refused}");
    let refused = taken(post(&fresh, b"no archive".to_vec()).await.unwrap(), StatusCode::UNPROCESSABLE_ENTITY).await;
    assert!(refused["detail"].as_str().unwrap().contains("ZIP"), "{refused}");
}

#[tokio::test]
async fn every_page_hears_of_changes() {
    use futures_util::StreamExt;
    let site = Site::open().await;
    let answer = site.request(Method::GET, "/events").send().await.unwrap();
    let mut told = answer.bytes_stream();
    let mut text = String::new();
    let mut hear = async |wanted: &str, patience: u64| {
        let deadline = tokio::time::Instant::now() + std::time::Duration::from_millis(patience);
        while !text.contains(wanted) {
            let Ok(piece) = tokio::time::timeout_at(deadline, told.next()).await else { return false };
            text += &String::from_utf8_lossy(&piece.unwrap().unwrap());
        }
        true
    };
    assert!(hear("event: hello", 20_000).await);
    // The listener of the database may come a moment after the page.
    let mut heard = false;
    for k in 0..60 {
        let made = made(&site, &format!("LIC-{k}"), "Area").await;
        heard = hear(made["id"].as_str().unwrap(), 500).await;
        if heard {
            break;
        }
    }
    assert!(heard && hear("control_loop", 1).await && hear("event: change", 1).await);
    let record = site.import(step_test()).await;
    assert!(hear(record["id"].as_str().unwrap(), 20_000).await);
}

#[tokio::test]
async fn a_file_proposes_loops_and_a_span_that_nobody_set_follows_the_data() {
    let site = Site::empty().await;
    assert_eq!(site.get("/loops").await, json!([]));
    let text: String = (0..60).map(|k| format!("{k},{},{},{},{}\n", 88 + k % 9, 40 + k / 30, k % 3, 50)).collect();
    let uploaded = site.upload(format!("t,TIC-1.PV [°C],TIC-1.OP [%],LIC-2.PV [m],LIC-2.OP [%]\n{text}")).await;
    let loops = &uploaded["preview"]["loops"];
    assert_eq!((&loops[0]["tag"], &loops[1]["tag"]), (&json!("TIC-1"), &json!("LIC-2")));
    let body = json!({ "area": "Brine", "card": card("TIC-1"), "span_is_guess": true });
    let mut body = body;
    body["card"]["pv"]["span"]["unit"] = json!("°C");
    let detail = site.send(Method::POST, "/loops", &body, StatusCode::CREATED).await;
    assert_eq!(detail["span_is_guess"], json!(true));
    let mapping = json!({ "time": uploaded["preview"]["guess"]["time"], "channels": loops[0]["channels"] });
    let request = json!({ "upload_id": uploaded["id"], "name": "first", "mapping": mapping });
    let started = site.send(Method::POST, "/loops/TIC-1/imports", &request, StatusCode::ACCEPTED).await;
    assert_eq!(site.ended(&started).await["stage"], json!("done"));
    let detail = site.get("/loops/TIC-1").await;
    assert_eq!(detail["pv"]["span"], json!({ "low": 86.0, "high": 98.0, "unit": "°C" }));
    // Set by a person, it is no guess any more.
    let mut set = card("TIC-1");
    set["pv"]["span"] = json!({ "low": 0.0, "high": 150.0, "unit": "°C" });
    let changed = site.change("/loops/TIC-1", "*", &json!({ "area": "Brine", "card": set }), StatusCode::OK).await;
    assert_eq!(changed["span_is_guess"], json!(false));
    // A unit that cannot be meant is refused before anything is stored, at its field.
    let mut wrong = request;
    wrong["mapping"]["channels"][0]["unit"] = json!("furlong");
    let refused = site.refused("/loops/TIC-1/imports", &wrong).await;
    assert_eq!(refused["field"], json!("mapping.channels.0.unit"), "{refused}");
}

#[tokio::test]
async fn a_long_trail_comes_in_parts_with_what_must_not_be_missed() {
    let site = Site::open().await;
    let mut ids = Vec::new();
    for k in 0..12 {
        let mut one = support::trial(&json!({ "kind": "pid", "gain": 1.0, "integral_time": 10.0 }));
        one["candidate"]["controller"]["gain"] = json!(1.0 + 0.1 * f64::from(k));
        let row = site.send(Method::POST, "/loops/TIC-1/trials", &json!({ "trial": one }), StatusCode::CREATED).await;
        ids.push(row["id"].as_str().unwrap().to_owned());
    }
    let numbers = |rows: &Value| -> Vec<i64> {
        rows.as_array().unwrap().iter().map(|row| row["number"].as_i64().unwrap()).collect()
    };
    assert_eq!(numbers(&site.get("/loops/TIC-1/trials").await), (1..=12).rev().collect::<Vec<_>>());
    assert_eq!(numbers(&site.get("/loops/TIC-1/trials?newest=3").await), [12, 11, 10]);
    // Pinned, starred, and the one that somebody looks at.
    site.send(Method::PUT, &format!("/trials/{}/pin", ids[1]), &json!({ "pinned": true }), StatusCode::OK).await;
    let starred = json!({ "label": "kept", "remark": "", "starred": true });
    site.change(&format!("/trials/{}", ids[4]), "*", &starred, StatusCode::OK).await;
    let also = format!("/loops/TIC-1/trials?newest=3&also={}", ids[0]);
    let rows = site.get(&also).await;
    assert_eq!(numbers(&rows), [12, 11, 10, 5, 2, 1]);
    let answer = site.request(Method::GET, &also).send().await.unwrap();
    assert_eq!(answer.headers()["x-total-count"], "12");
    // What is deleted counts no more, and makes room for the next.
    site.send(Method::DELETE, &format!("/trials/{}", ids[11]), &json!(null), StatusCode::OK).await;
    assert_eq!(numbers(&site.get("/loops/TIC-1/trials?newest=2").await), [11, 10, 5, 2]);
    for wrong in ["0", "1001", "-1"] {
        let answer = site.request(Method::GET, &format!("/loops/TIC-1/trials?newest={wrong}")).send().await.unwrap();
        assert_eq!(answer.status(), StatusCode::UNPROCESSABLE_ENTITY);
    }
    let answer = site.request(Method::GET, "/loops/TIC-1/trials?also=nobody").send().await.unwrap();
    assert_eq!(answer.status(), StatusCode::BAD_REQUEST);
}

#[tokio::test]
async fn loops_come_in_parts_by_words_and_in_the_order_that_is_asked_for() {
    let site = Site::open().await;
    for (tag, area) in [("LIC-9", "Wash"), ("TIC-2", "Kiln"), ("FIC-5", "Wash"), ("TIC-11", "Kiln")] {
        made(&site, tag, area).await;
    }
    let tags = async |query: &str| -> (Vec<String>, String) {
        let answer = site.request(Method::GET, &format!("/loops{query}")).send().await.unwrap();
        let all = answer.headers()["x-total-count"].to_str().unwrap().to_owned();
        let rows: Value = answer.json().await.unwrap();
        (rows.as_array().unwrap().iter().map(|row| row["tag"].as_str().unwrap().to_owned()).collect(), all)
    };
    let all = tags("?order=tag").await;
    assert_eq!(all, (["FIC-5", "LIC-9", "TIC-1", "TIC-11", "TIC-2"].map(String::from).to_vec(), "5".to_owned()));
    assert_eq!(tags("?order=changed&first=2").await, (vec!["TIC-11".into(), "FIC-5".into()], "5".to_owned()));
    // All words count, in any case and wherever they stand; how many there are in all is told of those that have them.
    assert_eq!(tags("?words=tic%20KILN&first=1&order=tag").await, (vec!["TIC-11".into()], "2".to_owned()));
    assert_eq!(tags("?words=%25").await, (vec![], "0".to_owned()), "a percent sign is no pattern");
    // One that stands further down is there where it is asked for, and where it is no more nothing takes its place.
    let id = site.get("/loops/TIC-2").await["id"].as_str().unwrap().to_owned();
    assert_eq!(tags(&format!("?order=tag&first=1&also={id}")).await.0, ["FIC-5", "TIC-2"]);
    site.send(Method::DELETE, "/loops/TIC-2", &json!({}), StatusCode::OK).await;
    assert_eq!(tags(&format!("?order=tag&first=1&also={id}")).await, (vec!["FIC-5".into()], "4".to_owned()));
    // Areas keep their order, loops theirs in it.
    let (by_area, _) = tags("").await;
    let of = |tag: &str| by_area.iter().position(|one| one == tag).unwrap();
    assert!(of("LIC-9") < of("FIC-5") && of("FIC-5") < of("TIC-11"), "{by_area:?}");
    for (wrong, field) in [("?first=0", "first"), ("?first=1001", "first")] {
        let answer = site.request(Method::GET, &format!("/loops{wrong}")).send().await.unwrap();
        assert_eq!(answer.status(), StatusCode::UNPROCESSABLE_ENTITY, "{wrong}");
        assert_eq!(answer.json::<Value>().await.unwrap()["field"], json!(field));
    }
    let long = "x".repeat(201);
    let answer = site.request(Method::GET, &format!("/loops?words={long}")).send().await.unwrap();
    assert_eq!(answer.json::<Value>().await.unwrap()["field"], json!("words"));
}
