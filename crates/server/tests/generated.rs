//! Requests generated from the API document, hostile ones among them: whatever is asked, the server answers, soon, and never with
//! a failure of its own. `./run harden` sends many thousands.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, dead_code)]

mod support;

use rand::seq::IndexedRandom;
use rand::{Rng, RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use reqwest::{Method, StatusCode};
use serde_json::{Map, Value, json};
use std::time::{Duration, Instant};
use support::{Site, contract};

/// Requests; many more for `./run harden`.
fn count() -> usize {
    std::env::var("ANTISTASIS_HARDEN").ok().and_then(|count| count.parse().ok()).unwrap_or(400)
}

/// A document that fits a schema, or nearly.
struct Generator {
    random: ChaCha8Rng,
    /// How often something that does not fit is put in its place.
    hostility: f64,
}

const WORDS: [&str; 12] = [
    "TIC-1",
    "TIC-1.PV",
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
];

impl Generator {
    fn number(&mut self) -> Value {
        let usual = [0.0, 1.0, -1.0, 0.5, 10.0, 60.0, 100.0, 600.0];
        let wild = [1e-9, 1e9, 1e15, -1e15, 1e-200, 1e300, 1e308, -1e308, 5e-324, 4_294_967_296.0];
        if self.random.random_bool(self.hostility) {
            json!(wild.choose(&mut self.random).unwrap())
        } else if self.random.random_bool(0.5) {
            json!(usual.choose(&mut self.random).unwrap())
        } else {
            json!(self.random.random_range(0.0..50.0))
        }
    }

    fn of(&mut self, schema: &Value, depth: usize) -> Value {
        if self.random.random_bool(self.hostility * 0.3) {
            let other = [json!(null), json!([]), json!({}), json!("x"), json!(-1), json!(1e308), json!(true)];
            return other.choose(&mut self.random).unwrap().clone();
        }
        if let Some(name) = schema["$ref"].as_str() {
            let name = name.rsplit('/').next().unwrap();
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
            Some("string") if schema["format"] == "uuid" => json!("0192f0c1-2d3e-7a4b-8c5d-6e7f80910a1b"),
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

fn address(template: &str, random: &mut impl Rng) -> String {
    let id = "0192f0c1-2d3e-7a4b-8c5d-6e7f80910a1b";
    let path = template.strip_prefix("/api/v1").unwrap_or(template);
    path.split('/')
        .map(|part| match part {
            "{tag}" => "TIC-1",
            open if open.starts_with('{') => [id, "not-an-id", "%20"].choose(random).copied().unwrap(),
            fixed => fixed,
        })
        .collect::<Vec<_>>()
        .join("/")
}

#[tokio::test(flavor = "multi_thread")]
async fn whatever_is_asked_the_server_answers_soon_and_does_not_fail() {
    let site = Site::open().await;
    let operations = contract::operations();
    assert!(operations.len() > 40);
    let mut generator = Generator { random: ChaCha8Rng::seed_from_u64(20_261_129), hostility: 0.0 };
    let (mut done, mut slowest) = (std::collections::BTreeMap::<u16, usize>::new(), (Duration::ZERO, String::new()));
    for k in 0..count() {
        let (method, template, schema) = &operations[k % operations.len()];
        generator.hostility = *[0.0, 0.02, 0.1].choose(&mut generator.random).unwrap();
        let body = generator.of(schema, 0);
        let path = address(template, &mut generator.random);
        if body.to_string().len() > 1_900_000 {
            // Refused at the door, while it is still being sent.
            continue;
        }
        let begun = Instant::now();
        let request = site.request(method.clone(), &path).header("If-Match", "*").json(&body);
        let answer = request.timeout(Duration::from_secs(90)).send().await.unwrap();
        let status = answer.status();
        let said = answer.text().await.unwrap();
        let took = begun.elapsed();
        let shown: String = body.to_string().chars().take(2000).collect();
        assert!(
            !status.is_server_error() || status == StatusCode::SERVICE_UNAVAILABLE,
            "{method} {path}: {status} {said}\n{shown}"
        );
        assert!(took < Duration::from_secs(70), "{method} {path} took {took:?}\n{shown}");
        if took > slowest.0 {
            slowest = (took, format!("{method} {path} {status}"));
        }
        *done.entry(status.as_u16()).or_default() += 1;
        // What was begun need not be done.
        if let (StatusCode::ACCEPTED, Ok(state)) = (status, serde_json::from_str::<Value>(&said)) {
            let base = path.strip_prefix("/loops/TIC-1").unwrap_or(&path);
            let id = state["id"].as_str().unwrap_or_default();
            let _ = site.request(Method::DELETE, &format!("{base}/{id}")).send().await;
        }
    }
    println!("{done:?}, slowest {slowest:?}");
    site.get("/health").await;
    // Documents that fit are taken now and then: the generator is not lost at the door.
    assert!(done.get(&200).copied().unwrap_or(0) > 0, "{done:?}");
}
