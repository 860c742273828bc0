//! Server and database are killed at random moments while somebody writes: nothing that was acknowledged is lost, nothing is half
//! there, and everything is up again. `./run harden` does it fifty times, and says how soon.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

mod support;

use nix::sys::signal::{Signal, kill};
use nix::unistd::Pid;
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use serde_json::{Value, json};
use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use std::process::Child;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Mutex, OnceLock};
use std::time::{Duration, Instant};
use support::{begun, free_port};
use tempfile::TempDir;

/// How often something is killed; many more times for `./run harden`.
fn rounds() -> usize {
    if std::env::var_os("ANTISTASIS_HARDEN").is_some() { 50 } else { 4 }
}

/// The token of the server, as it was printed at its first start.
static TOKEN: OnceLock<String> = OnceLock::new();

fn start(data: &Path, port: u16) -> Child {
    let (child, line) = begun(&["serve", "--port", &port.to_string(), "--data", data.to_str().unwrap()]);
    assert!(line.contains("http://"), "{line}");
    let (_, token) = line.split_once("?token=").unwrap();
    // It stays the same over every start: who was let in stays in.
    let token = token.split_whitespace().next().unwrap();
    assert_eq!(TOKEN.get_or_init(|| token.to_owned()), token);
    child
}

fn ask(port: u16, method: &str, path: &str, body: &Value) -> Option<(u16, Value)> {
    support::ask(port, TOKEN.get().map_or("", String::as_str), method, path, body)
}

/// The database server on this data directory.
fn database(data: &Path) -> Option<i32> {
    let lock = std::fs::read_to_string(data.join("work/postgres/postmaster.pid")).ok()?;
    lock.lines().next()?.trim().parse().ok()
}

/// Says that it is over when it goes, be it by a failure.
struct Over<'a>(&'a AtomicBool);

impl Drop for Over<'_> {
    fn drop(&mut self) {
        self.0.store(true, Ordering::Relaxed);
    }
}

fn wait_until_up(port: u16) -> Duration {
    let begun = Instant::now();
    while ask(port, "GET", "/health", &Value::Null).map(|(status, _)| status) != Some(200) {
        assert!(begun.elapsed() < Duration::from_secs(120), "it does not come up again");
        std::thread::sleep(Duration::from_millis(20));
    }
    begun.elapsed()
}

#[test]
fn nothing_that_was_acknowledged_is_lost_whatever_is_killed_when() {
    let data = TempDir::with_prefix("antistasis-faults-").unwrap();
    std::fs::set_permissions(data.path(), std::fs::Permissions::from_mode(0o755)).unwrap();
    let port = free_port();
    let mut server = start(data.path(), port);
    let (over, count) = (AtomicBool::new(false), AtomicUsize::new(0));
    let acknowledged = Mutex::new(Vec::<String>::new());
    let mut random = ChaCha8Rng::seed_from_u64(12);
    let mut slowest = Duration::ZERO;
    std::thread::scope(|scope| {
        for _ in 0..3 {
            scope.spawn(|| {
                while !over.load(Ordering::Relaxed) {
                    let name = format!("Area {}", count.fetch_add(1, Ordering::Relaxed));
                    match ask(port, "POST", "/areas", &json!({ "name": name })) {
                        Some((201, _)) => acknowledged.lock().unwrap().push(name),
                        Some((status, said)) => assert!(status == 503, "{status}: {said}"),
                        None => std::thread::sleep(Duration::from_millis(20)),
                    }
                }
            });
        }
        let _over = Over(&over);
        for round in 0..rounds() {
            std::thread::sleep(Duration::from_millis(random.random_range(50..600)));
            let begun = Instant::now();
            if round % 2 == 0 {
                let process = database(data.path()).unwrap();
                let _ = kill(Pid::from_raw(process), Signal::SIGKILL);
                // It may take a moment until it is noticed that it is gone.
                std::thread::sleep(Duration::from_millis(30));
            } else {
                kill(Pid::from_raw(server.id() as i32), Signal::SIGKILL).unwrap();
                server.wait().unwrap();
                server = start(data.path(), port);
            }
            wait_until_up(port);
            slowest = slowest.max(begun.elapsed());
        }
    });
    let (status, areas) = ask(port, "GET", "/areas", &Value::Null).unwrap();
    assert_eq!(status, 200);
    let names: Vec<&str> = areas.as_array().unwrap().iter().map(|area| area["name"].as_str().unwrap()).collect();
    let acknowledged = acknowledged.into_inner().unwrap();
    // How many there are is the disk's business, which each of them waits for.
    assert!(acknowledged.len() > rounds(), "{}", acknowledged.len());
    for name in &acknowledged {
        assert_eq!(names.iter().filter(|known| *known == name).count(), 1, "{name}");
    }
    println!("{} acknowledged, {} there, up again after {slowest:?} at most", acknowledged.len(), names.len());
    kill(Pid::from_raw(server.id() as i32), Signal::SIGINT).unwrap();
    server.wait().unwrap();
}
