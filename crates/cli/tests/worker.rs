//! Workers as processes: a proof is shared by the server and two others while these are killed again and again, and its table is the one
//! that a single process makes, to the last bit. `./run harden` kills ten times.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

mod support;

use antistasis_cluster::Cluster;
use nix::sys::signal::{Signal, kill};
use nix::unistd::Pid;
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use serde_json::{Value, json};
use std::path::Path;
use std::process::{Child, Command};
use std::sync::OnceLock;
use std::time::{Duration, Instant};
use support::{begun, free_port};

fn rounds() -> usize {
    if std::env::var_os("ANTISTASIS_HARDEN").is_some() { 10 } else { 3 }
}

fn worker(database: &str) -> Child {
    let (child, said) = begun(&["worker", "--database", database, "--threads", "1"]);
    assert_eq!(said, "Working with 1 thread (Ctrl+C ends it)\n");
    child
}

fn ask(port: u16, method: &str, path: &str, body: &Value) -> Value {
    let (status, document) = support::ask(port, "", method, path, body).unwrap();
    assert!((200..300).contains(&status), "{path}: {status} {document}");
    document
}

/// A proof that takes a processor some seconds: three candidates on many plants.
fn proof(port: u16, plants: usize) -> Value {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let trial = root.join("demo/trials/TIC-204-closed-loop.json");
    let output =
        Command::new(env!("CARGO_BIN_EXE_antistasis")).args(["prove", "--propose"]).arg(trial).output().unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    let mut proof: Value = serde_json::from_slice(&output.stdout).unwrap();
    let first = proof["candidates"][0].clone();
    for (name, factor) in [("calm", 0.4), ("brisk", 1.6)] {
        let mut other = first.clone();
        other["name"] = json!(name);
        let gain = &mut other["candidate"]["controller"]["gain"];
        *gain = json!(gain.as_f64().unwrap() * factor);
        proof["candidates"].as_array_mut().unwrap().push(other);
    }
    let usual = json!({ "plant": proof["plant"], "plants": plants });
    proof["uncertainty"] = ask(port, "POST", "/proofs/uncertainty", &usual);
    proof
}

/// One database server for all tests of this process.
fn cluster() -> &'static Cluster {
    static CLUSTER: OnceLock<Cluster> = OnceLock::new();
    CLUSTER.get_or_init(|| antistasis_cluster::for_tests().unwrap())
}

/// A server with so many threads of its own worker on a fresh database, with a loop in it; and its port.
fn server(database: &str, threads: usize) -> (Child, u16) {
    let port = free_port();
    let words = ["--port", &port.to_string(), "--database-url", database, "--worker-threads", &threads.to_string()];
    let (server, _) = begun(&[&["serve", "--open"], &words[..]].concat());
    let signal = |tag: &str| json!({ "tag": tag, "span": { "low": 0.0, "high": 100.0, "unit": "%" } });
    let card = json!({ "tag": "TIC-204", "name": "", "pv": signal("TIC-204.PV"), "op": signal("TIC-204.OP") });
    ask(port, "POST", "/loops", &json!({ "area": "Area", "card": card }));
    (server, port)
}

/// The state of a proof once it is done.
fn done(port: u16, job: &Value) -> Value {
    let address = format!("/proofs/jobs/{}", job["id"].as_str().unwrap());
    let begun = Instant::now();
    loop {
        let state = ask(port, "GET", &address, &Value::Null);
        assert!(begun.elapsed() < Duration::from_secs(400), "{}", state["share"]);
        assert_ne!(state["stage"], "failed", "{state}");
        if state["stage"] == "done" {
            return state;
        }
        std::thread::sleep(Duration::from_millis(20));
    }
}

fn end(mut process: Child) {
    kill(Pid::from_raw(process.id() as i32), Signal::SIGINT).unwrap();
    assert!(process.wait().unwrap().success());
}

#[test]
fn workers_that_are_killed_lose_nothing_and_do_nothing_twice() {
    let database = cluster().url("killed");
    let (server, port) = server(&database, 1);
    let proof = proof(port, 20 * rounds().pow(2));
    let file = tempfile::NamedTempFile::new().unwrap();
    std::fs::write(file.path(), proof.to_string()).unwrap();
    let alone = Command::new(env!("CARGO_BIN_EXE_antistasis")).arg("prove").arg(file.path()).output().unwrap();
    let alone: Value = serde_json::from_slice(&alone.stdout).unwrap();

    let mut workers = [worker(&database), worker(&database)];
    let job = ask(port, "POST", "/loops/TIC-204/proofs", &json!({ "proof": proof }));
    let mut random = ChaCha8Rng::seed_from_u64(16);
    for round in 0..rounds() {
        std::thread::sleep(Duration::from_millis(random.random_range(100..700)));
        let one = &mut workers[round % 2];
        kill(Pid::from_raw(one.id() as i32), Signal::SIGKILL).unwrap();
        one.wait().unwrap();
        *one = worker(&database);
    }
    let state = done(port, &job);
    println!("{} pieces by {} workers", state["pieces"], state["workers"]);
    assert_eq!(state["outcome"]["row"]["result"].to_string(), alone.to_string());
    let kept = ask(port, "GET", "/loops/TIC-204/proofs", &Value::Null);
    assert_eq!(kept.as_array().unwrap().len(), 1);
    // They end when they are told to, with nothing left to say.
    workers.into_iter().for_each(end);
    end(server);
}

/// How long one worker with one thread takes, and two of them.
#[test]
#[ignore = "a measurement, for ./run harden"]
fn two_workers_take_half_as_long() {
    let seconds = |count: usize| {
        let database = cluster().url(&format!("shared_{count}"));
        let (server, port) = server(&database, 0);
        let workers: Vec<Child> = (0..count).map(|_| worker(&database)).collect();
        let proof = proof(port, 300);
        let begun = Instant::now();
        let job = ask(port, "POST", "/loops/TIC-204/proofs", &json!({ "proof": proof }));
        let state = done(port, &job);
        let seconds = begun.elapsed().as_secs_f64();
        assert_eq!(state["workers"].as_u64(), Some(count as u64), "{state}");
        workers.into_iter().for_each(end);
        end(server);
        seconds
    };
    let (one, two) = (seconds(1), seconds(2));
    println!("one worker {one:.2} s, two {two:.2} s: {:.2} times as fast", one / two);
}

#[test]
fn a_worker_without_a_database_says_what_is_missing() {
    let run = |words: &[&str]| {
        let output = Command::new(env!("CARGO_BIN_EXE_antistasis"))
            .arg("worker")
            .args(words)
            .env_remove("ANTISTASIS_DATABASE_URL")
            .output()
            .unwrap();
        (output.status.code(), String::from_utf8(output.stderr).unwrap())
    };
    let (status, said) = run(&[]);
    assert!(status == Some(2) && said.contains("--database"), "{said}");
    let (status, said) = run(&["--database", "postgres://nobody@127.0.0.1:1/works"]);
    let last = said.lines().last().unwrap();
    assert!(status == Some(2) && last.starts_with("antistasis: the database failed"), "{said}");
    let (status, said) = run(&["--database", "postgres://nobody@127.0.0.1:1/works", "--threads", "0"]);
    assert!(status == Some(2) && said.contains("1..=1024"), "{said}");
}
