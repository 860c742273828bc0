//! Requests generated from the API document, hostile ones among them, many of them made from documents that are taken by changing
//! something in them: whatever is asked, the server answers, soon, and never with a failure of its own. `./run harden` sends many
//! thousands to every operation.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, dead_code)]

mod support;

use rand::seq::IndexedRandom;
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use reqwest::{Method, StatusCode};
use serde_json::{Map, Value, json};
use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::{Duration, Instant};
use support::corpus::{Corpus, referred};
use support::{Site, contract};

/// Requests in the test suite, in all.
const FEW: usize = 450;
/// Clients that ask at the same time.
const CLIENTS: u64 = 2;

/// Requests for each operation, where it is hardened: as many as `./run harden` was told.
fn hardening() -> Option<usize> {
    std::env::var("ANTISTASIS_HARDEN").ok().and_then(|count| count.parse().ok())
}

/// No answer takes longer. The suite runs beside others on machines of any kind, and tells only what hangs.
fn longest() -> Duration {
    Duration::from_secs(if hardening().is_some() { 10 } else { 70 })
}

/// A document that fits a schema, or nearly.
struct Generator {
    random: ChaCha8Rng,
    /// How often something that does not fit is put in its place.
    hostility: f64,
    corpus: Arc<Corpus>,
    /// Ids of rows that there are.
    known: Arc<Vec<String>>,
}

const NOWHERE: &str = "0192f0c1-2d3e-7a4b-8c5d-6e7f80910a1b";

const WORDS: [&str; 18] = [
    "TIC-1",
    "TIC-1.PV",
    "TIC-1.OP",
    "%",
    "°C",
    "m³/h",
    "gain",
    "",
    " ",
    "x' = -x + u",
    "{TIC-1.PV} * 2",
    "\u{202e}abc",
    "../../etc",
    "controller.gain",
    "process.dead_time",
    "temperature",
    "fopdt",
    "1e999",
];

const USUAL: [f64; 8] = [0.0, 1.0, -1.0, 0.5, 10.0, 60.0, 100.0, 600.0];
const WILD: [f64; 10] = [1e-9, 1e9, 1e15, -1e15, 1e-200, 1e300, 1e308, -1e308, 5e-324, 4_294_967_296.0];

/// Paths of everything in a document.
fn places(document: &Value, path: String, found: &mut Vec<String>) {
    match document {
        Value::Array(list) => list.iter().enumerate().for_each(|(k, one)| places(one, format!("{path}/{k}"), found)),
        Value::Object(fields) => fields.iter().for_each(|(name, one)| {
            places(one, format!("{path}/{}", name.replace('~', "~0").replace('/', "~1")), found);
        }),
        _ => {}
    }
    found.push(path);
}

impl Generator {
    fn number(&mut self) -> Value {
        if self.random.random_bool(self.hostility) {
            json!(WILD.choose(&mut self.random).unwrap())
        } else if self.random.random_bool(0.5) {
            json!(USUAL.choose(&mut self.random).unwrap())
        } else {
            json!(self.random.random_range(0.0..50.0))
        }
    }

    fn id(&mut self) -> String {
        let id = if self.random.random_bool(0.8) { self.known.choose(&mut self.random) } else { None };
        id.cloned().unwrap_or_else(|| NOWHERE.to_owned())
    }

    /// Something else than what stands there: of the same kind, of another kind, or from another place of the document.
    fn instead_of(&mut self, own: &Value, other: &Value) -> Value {
        match (own, self.random.random_range(0..8)) {
            (_, 0) => Value::Null,
            (_, 1) => other.clone(),
            (Value::Number(own), 2..=4) => {
                let factor = [-1.0, 0.0, 1e-3, 0.1, 0.5, 2.0, 10.0, 1e3, 1e6].choose(&mut self.random).unwrap();
                json!(own.as_f64().unwrap_or(1.0) * factor)
            }
            (Value::Number(_), 5) => json!(USUAL.choose(&mut self.random).unwrap()),
            (Value::Number(_), _) => json!(WILD.choose(&mut self.random).unwrap()),
            (Value::Bool(own), _) => json!(!own),
            (Value::String(_), 2) => json!("x".repeat(self.random.random_range(0..100_000))),
            (Value::String(own), 3) => json!(format!("{own}{own}")),
            (Value::String(_), _) => json!(WORDS.choose(&mut self.random).unwrap()),
            (Value::Array(own), kind) if !own.is_empty() => {
                let mut changed = own.clone();
                let at = self.random.random_range(0..changed.len());
                match kind {
                    2 => drop(changed.remove(at)),
                    3 | 4 => changed.push(changed[at].clone()),
                    5 => changed.reverse(),
                    6 => changed = vec![changed[at].clone(); self.random.random_range(1..300)],
                    _ => changed.clear(),
                }
                Value::Array(changed)
            }
            (Value::Object(own), kind) => {
                let mut changed = own.clone();
                let name = own.keys().collect::<Vec<_>>().choose(&mut self.random).map(|name| (*name).clone());
                match (name, kind) {
                    (Some(name), 2..=5) => drop(changed.remove(&name)),
                    _ => drop(changed.insert("surprise".into(), other.clone())),
                }
                Value::Object(changed)
            }
            _ => json!([]),
        }
    }

    /// A document that is taken, with something else in some of its places.
    fn mutated(&mut self, mut document: Value) -> Value {
        let times = *[0, 1, 1, 2, 4].choose(&mut self.random).unwrap();
        for _ in 0..times {
            let mut found = Vec::new();
            places(&document, String::new(), &mut found);
            let place = found.choose(&mut self.random).unwrap();
            let other = document.pointer(found.choose(&mut self.random).unwrap()).unwrap().clone();
            let own = document.pointer(place).unwrap().clone();
            let changed = self.instead_of(&own, &other);
            *document.pointer_mut(place).unwrap() = changed;
        }
        document
    }

    fn of(&mut self, schema: &Value, depth: usize) -> Value {
        if self.random.random_bool(self.hostility * 0.3) {
            let other = [json!(null), json!([]), json!({}), json!("x"), json!(-1), json!(1e308), json!(true)];
            return other.choose(&mut self.random).unwrap().clone();
        }
        if let Some(name) = referred(schema) {
            let corpus = self.corpus.clone();
            if let (Some(taken), true) = (corpus.of(name).choose(&mut self.random), self.random.random_bool(0.7)) {
                return self.mutated(taken.clone());
            }
            return self.of(&contract::schemas()[name], depth + 1);
        }
        for choice in ["oneOf", "anyOf"] {
            if let Some(all) = schema[choice].as_array() {
                let simple = all.iter().find(|one| one["type"] == "null");
                if let (Some(_), true) = (simple, depth > 12) {
                    return Value::Null;
                }
                let chosen = all.choose(&mut self.random).unwrap().clone();
                return self.of(&chosen, depth + 1);
            }
        }
        if let Some(all) = schema["allOf"].as_array() {
            let mut merged = Map::new();
            for part in all {
                if let Value::Object(fields) = self.of(part, depth + 1) {
                    merged.extend(fields);
                }
            }
            return Value::Object(merged);
        }
        if let Some(all) = schema["enum"].as_array() {
            return all.choose(&mut self.random).unwrap().clone();
        }
        let kind = match &schema["type"] {
            Value::Array(all) => all.choose(&mut self.random).unwrap().clone(),
            one => one.clone(),
        };
        match kind.as_str() {
            Some("number") => self.number(),
            Some("integer") => json!(self.random.random_range(0..20)),
            Some("boolean") => json!(self.random.random_bool(0.5)),
            Some("string") if schema["format"] == "uuid" => json!(self.id()),
            Some("string") => {
                let text = *WORDS.choose(&mut self.random).unwrap();
                if self.random.random_bool(self.hostility * 0.2) { json!("x".repeat(100_000)) } else { json!(text) }
            }
            Some("array") => {
                let most = if depth > 10 { 0 } else { 3 };
                let many = self.random.random_bool(self.hostility * 0.1);
                let count = if many { 3000 } else { self.random.random_range(0..=most) };
                let one = self.of(&schema["items"], depth + 1);
                if many {
                    json!(vec![one; count])
                } else {
                    (0..count).map(|_| self.of(&schema["items"], depth + 1)).collect()
                }
            }
            Some("object") => {
                let required: Vec<&str> =
                    schema["required"].as_array().into_iter().flatten().filter_map(Value::as_str).collect();
                let mut fields = Map::new();
                for (name, own) in schema["properties"].as_object().into_iter().flatten() {
                    let is_there = required.contains(&name.as_str()) && !self.random.random_bool(self.hostility * 0.1);
                    if is_there || (depth < 10 && self.random.random_bool(0.3)) {
                        fields.insert(name.clone(), self.of(own, depth + 1));
                    }
                }
                Value::Object(fields)
            }
            _ => Value::Null,
        }
    }
}

/// The path of an operation, with ids that there are, or not.
fn address(template: &str, generator: &mut Generator) -> String {
    let path = template.strip_prefix("/api/v1").unwrap_or(template);
    path.split('/')
        .map(|part| match part {
            "{tag}" => "TIC-1".to_owned(),
            open if open.starts_with('{') => match generator.random.random_range(0..8) {
                0 => "not-an-id".to_owned(),
                1 => "%20".to_owned(),
                _ => generator.id(),
            },
            fixed => fixed.to_owned(),
        })
        .collect::<Vec<_>>()
        .join("/")
}

/// What came of the requests to an operation.
#[derive(Default)]
struct Told {
    statuses: BTreeMap<u16, usize>,
    slowest: Duration,
}

/// A record with a step, a model of it, a trial: rows that requests can be about.
async fn furnished(site: &Site) -> Vec<String> {
    let rows = (0..400).map(|k| {
        let (t, op) = (f64::from(k), if k < 40 { 50.0 } else { 60.0 });
        let risen = if t > 45.0 { 12.0 * (1.0 - (-(t - 45.0) / 30.0).exp()) } else { 0.0 };
        format!("{t},{},{op}\n", 80.0 + risen + 0.1 * (7.0 * t).sin())
    });
    let file = std::iter::once("time,TIC-1.PV,TIC-1.OP\n".to_owned()).chain(rows).collect::<String>();
    let record = site.import(file).await;
    let fit = json!({ "record_id": record["id"], "options": { "structure": { "kind": "fopdt" } } });
    let model = site.send(Method::POST, "/loops/TIC-1/models", &fit, StatusCode::CREATED).await;
    let trial = support::trial(&json!({ "kind": "pid", "gain": 1.0, "integral_time": 10.0 }));
    let kept = json!({ "trial": trial, "label": "first" });
    let trial = site.send(Method::POST, "/loops/TIC-1/trials", &kept, StatusCode::CREATED).await;
    let ids = [&record, &model, &trial].map(|row| row["id"].as_str().map(str::to_owned));
    ids.into_iter().flatten().collect()
}

/// Sends requests to all operations in turn; what came of each.
async fn client(site: Arc<Site>, mut generator: Generator, requests: usize) -> Vec<Told> {
    let operations = contract::operations();
    let mut told: Vec<Told> = operations.iter().map(|_| Told::default()).collect();
    for k in 0..requests {
        let (method, template, schema) = &operations[k % operations.len()];
        generator.hostility = *[0.0, 0.02, 0.1].choose(&mut generator.random).unwrap();
        let body = generator.of(schema, 0);
        let path = address(template, &mut generator);
        if body.to_string().len() > 1_900_000 {
            // Refused at the door, while it is still being sent.
            continue;
        }
        let begun = Instant::now();
        let request = site.request(method.clone(), &path).header("If-Match", "*").json(&body);
        let answer = request.timeout(Duration::from_secs(90)).send().await;
        let shown = || body.to_string().chars().take(6000).collect::<String>();
        let answer = answer.unwrap_or_else(|error| panic!("{method} {path}: {error}\n{}", shown()));
        let status = answer.status();
        let said = answer.text().await.unwrap();
        let took = begun.elapsed();
        assert!(
            !status.is_server_error() || status == StatusCode::SERVICE_UNAVAILABLE,
            "{method} {path}: {status} {said}\n{}",
            shown()
        );
        assert!(took < longest(), "{method} {path} took {took:?}: {status}\n{}", shown());
        let own = &mut told[k % operations.len()];
        own.slowest = own.slowest.max(took);
        *own.statuses.entry(status.as_u16()).or_default() += 1;
        let answer = serde_json::from_str::<Value>(&said).unwrap_or_default();
        // What was begun need not be done, and the loop keeps its name.
        if status == StatusCode::ACCEPTED {
            let base = path.strip_prefix("/loops/TIC-1").unwrap_or(&path);
            let id = answer["id"].as_str().unwrap_or_default();
            let _ = site.request(Method::DELETE, &format!("{base}/{id}")).send().await;
        } else if let (true, Some(tag)) = (path == "/loops/TIC-1" && status.is_success(), answer["tag"].as_str()) {
            let signal = |tag, high, unit| json!({ "tag": tag, "span": { "low": 0.0, "high": high, "unit": unit } });
            let card = json!({
                "tag": "TIC-1", "name": "Test", "difficulty": "", "notes": "",
                "pv": signal("TIC-1.PV", 200.0, "°C"), "op": signal("TIC-1.OP", 100.0, "%"),
            });
            let renamed: String = tag.bytes().map(|byte| format!("%{byte:02X}")).collect();
            // Where the other client has made a loop of that name meanwhile, that takes its place.
            let back = site.request(Method::PUT, &format!("/loops/{renamed}")).header("If-Match", "*");
            let _ = back.json(&json!({ "area": "Area", "card": card })).send().await;
        }
    }
    told
}

#[tokio::test(flavor = "multi_thread")]
async fn whatever_is_asked_the_server_answers_soon_and_does_not_fail() {
    let site = Arc::new(Site::open().await);
    let known = Arc::new(furnished(&site).await);
    assert_eq!(known.len(), 3);
    let corpus = Arc::new(Corpus::of_kept_documents());
    assert!(corpus.of("Trial").len() > 20 && corpus.of("Event").len() > 20 && corpus.of("Model").len() > 4);
    let operations = contract::operations();
    assert!(operations.len() > 40);
    let requests = hardening().map_or(FEW, |each| each * operations.len()) / CLIENTS as usize;
    let clients = (0..CLIENTS).map(|client_number| {
        let generator = Generator {
            random: ChaCha8Rng::seed_from_u64(20_261_129 + client_number),
            hostility: 0.0,
            corpus: corpus.clone(),
            known: known.clone(),
        };
        tokio::spawn(client(site.clone(), generator, requests))
    });
    let mut told: Vec<Told> = operations.iter().map(|_| Told::default()).collect();
    for client in clients.collect::<Vec<_>>() {
        for (all, own) in told.iter_mut().zip(client.await.unwrap()) {
            all.slowest = all.slowest.max(own.slowest);
            own.statuses.into_iter().for_each(|(status, count)| *all.statuses.entry(status).or_default() += count);
        }
    }
    for ((method, path, _), own) in operations.iter().zip(&told) {
        println!("{method} {path}: {:?}, slowest {:?}", own.statuses, own.slowest);
    }
    site.get("/health").await;
    // Documents that fit are taken now and then: the generator is not lost at the door.
    let taken = told.iter().filter(|own| own.statuses.keys().any(|status| (200..300).contains(status))).count();
    println!("{taken} of {} operations took a document", operations.len());
    assert!(taken * 3 > operations.len(), "{taken}");
}
