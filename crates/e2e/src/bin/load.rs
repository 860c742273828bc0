//! Fifty people at work for a while: each keeps a trial every three seconds, looks at the trail and at a strip, and simulates. Prints how
//! long that takes, as a table: `load BINARY [SECONDS]`.

use antistasis_e2e::{Application, Result};
use serde_json::{Value, json};
use std::collections::BTreeMap;
use std::path::PathBuf;
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

const PEOPLE: usize = 50;
/// Each keeps a trial so often.
const EVERY: Duration = Duration::from_secs(3);
/// Loops of the demo that have trials.
const LOOPS: [&str; 3] = ["TIC-204", "TIC-310", "LIC-110"];

type Times = Arc<Mutex<BTreeMap<&'static str, Vec<f64>>>>;

struct Person {
    client: reqwest::Client,
    base: String,
    times: Times,
}

impl Person {
    /// The answer as it came: whoever reads it all on the same cores would be what is measured.
    async fn ask(&self, what: &'static str, request: reqwest::RequestBuilder) -> Result<String> {
        let begun = Instant::now();
        let answer = request.send().await?;
        let status = answer.status();
        let text = answer.text().await?;
        self.times.lock().map_err(|_| "poisoned")?.entry(what).or_default().push(begun.elapsed().as_secs_f64());
        if status.is_success() { Ok(text) } else { Err(format!("{what}: {status} {text}").into()) }
    }

    async fn work(&self, number: usize, until: Instant) -> Result<()> {
        let tag = LOOPS[number % LOOPS.len()];
        let records = self.ask("records", self.client.get(format!("{}/loops/{tag}/records", self.base))).await?;
        let records: Value = serde_json::from_str(&records)?;
        let record = records[0]["id"].as_str().ok_or("no record")?.to_owned();
        let trials = self.ask("trail", self.client.get(format!("{}/loops/{tag}/trials", self.base))).await?;
        let trials: Value = serde_json::from_str(&trials)?;
        let mut trial = trials[0]["trial"].clone();
        // Not all at the same moment.
        tokio::time::sleep(EVERY.mul_f64(number as f64 / PEOPLE as f64)).await;
        let mut round = 0;
        while Instant::now() < until {
            let begun = Instant::now();
            let gain = trial.pointer_mut("/candidate/controller/gain").ok_or("no gain")?;
            let value = gain.as_f64().ok_or("no number")? * 1.0001 + 1e-6 * (number * 1000 + round) as f64;
            *gain = json!(value);
            let simulate = self.client.post(format!("{}/simulate?rows=1200", self.base)).json(&trial);
            self.ask("simulate", simulate).await?;
            let kept = json!({ "trial": trial, "label": format!("person {number}, {round}") });
            self.ask("keep", self.client.post(format!("{}/loops/{tag}/trials", self.base)).json(&kept)).await?;
            self.ask("trail", self.client.get(format!("{}/loops/{tag}/trials", self.base))).await?;
            self.ask("strip", self.client.get(format!("{}/records/{record}/samples?buckets=600", self.base))).await?;
            round += 1;
            tokio::time::sleep(EVERY.saturating_sub(begun.elapsed())).await;
        }
        Ok(())
    }
}

#[tokio::main]
async fn main() -> Result<()> {
    let mut words = std::env::args().skip(1);
    let binary = PathBuf::from(words.next().ok_or("give the antistasis binary")?);
    let seconds: u64 = words.next().map_or(Ok(60), |text| text.parse())?;
    let application = Application::start(&binary)?;
    let times = Times::default();
    let until = Instant::now() + Duration::from_secs(seconds);
    let mut people = Vec::new();
    for number in 0..PEOPLE {
        let client = application.signed_in().await?;
        let person = Person { client, base: application.bare_address("/api/v1"), times: Arc::clone(&times) };
        people.push(tokio::spawn(async move { person.work(number, until).await }));
    }
    // Whoever keeps watch is answered at once, whatever is being computed.
    let watch = tokio::spawn({
        let (times, address) = (Arc::clone(&times), application.bare_address("/api/v1/health"));
        async move {
            let client = reqwest::Client::new();
            while Instant::now() < until {
                let begun = Instant::now();
                client.get(&address).send().await?.error_for_status()?;
                times.lock().map_err(|_| "poisoned")?.entry("health").or_default().push(begun.elapsed().as_secs_f64());
                tokio::time::sleep(Duration::from_millis(50)).await;
            }
            Result::Ok(())
        }
    });
    // After a tenth of the time everything has been done once; what is held then is held in the end, too.
    tokio::time::sleep(Duration::from_secs(seconds) / 10).await;
    let early = application.memory();
    let mut failures = 0;
    for person in people {
        if let Err(error) = person.await? {
            failures += 1;
            eprintln!("{error}");
        }
    }
    watch.await??;
    println!("| fifty people for {seconds} s | times | median | 99 of 100 | longest |\n|---|---|---|---|---|");
    let mut times = times.lock().map_err(|_| "poisoned")?;
    for (what, list) in times.iter_mut() {
        list.sort_by(f64::total_cmp);
        let at = |share: f64| 1000.0 * list[(share * (list.len() - 1) as f64).round() as usize];
        println!("| {what} | {} | {:.0} ms | {:.0} ms | {:.0} ms |", list.len(), at(0.5), at(0.99), at(1.0));
    }
    println!(
        "\nMemory of the server: {early:.0} MB after a tenth of the time, {:.0} MB at the end.",
        application.memory()
    );
    if failures > 0 { Err(format!("{failures} of {PEOPLE} met an error").into()) } else { Ok(()) }
}
