//! Server and database are killed at random moments while somebody writes: nothing that was acknowledged is lost, nothing is half
//! there, and everything is up again within seconds. `./run harden` does it fifty times.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use nix::sys::signal::{Signal, kill};
use nix::unistd::Pid;
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use serde_json::{Value, json};
use std::io::{BufRead, BufReader, Read, Write};
use std::net::{TcpListener, TcpStream};
use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Mutex, OnceLock};
use std::time::{Duration, Instant};
use tempfile::TempDir;

/// How often something is killed; many more times for `./run harden`.
fn rounds() -> usize {
    if std::env::var_os("ANTISTASIS_HARDEN").is_some() { 50 } else { 4 }
}

/// The token of the server, as it was printed at its first start.
static TOKEN: OnceLock<String> = OnceLock::new();

/// Longest time until the server answers again.
const UP_AGAIN: Duration = Duration::from_secs(5);

fn start(data: &Path, port: u16) -> Child {
    let mut child = Command::new(env!("CARGO_BIN_EXE_antistasis"))
        .args(["serve", "--port", &port.to_string(), "--data"])
        .arg(data)
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    let mut line = String::new();
    BufReader::new(child.stdout.take().unwrap()).read_line(&mut line).unwrap();
    assert!(line.contains("http://"), "{line}");
    let (_, token) = line.split_once("?token=").unwrap();
    // It stays the same over every start: who was let in stays in.
    let token = token.split_whitespace().next().unwrap();
    assert_eq!(TOKEN.get_or_init(|| token.to_owned()), token);
    child
}

/// The answer to a request: its status and document; None where the server did not answer.
fn ask(port: u16, method: &str, path: &str, body: &str) -> Option<(u16, Value)> {
    let mut stream = TcpStream::connect(("127.0.0.1", port)).ok()?;
    stream.set_read_timeout(Some(Duration::from_secs(10))).ok()?;
    write!(
        stream,
        "{method} /api/v1{path} HTTP/1.1\r\nHost: localhost:{port}\r\nConnection: close\r\nAuthorization: Bearer {}\r\nContent-Type: application/json\r\nContent-Length: {}\r\n\r\n{body}",
        TOKEN.get().map_or("", String::as_str),
        body.len()
    )
    .ok()?;
    let mut answer = String::new();
    stream.read_to_string(&mut answer).ok()?;
    let status = answer.split(' ').nth(1)?.parse().ok()?;
    let (_, document) = answer.split_once("\r\n\r\n")?;
    // Chunks have their lengths between them; documents here are one chunk.
    let document = document.find(['{', '[']).map_or("", |from| &document[from..]);
    let document = document.rfind(['}', ']']).map_or("", |to| &document[..=to]);
    Some((status, serde_json::from_str(document).unwrap_or(Value::Null)))
}

/// The database server on this data directory.
fn database(data: &Path) -> Option<i32> {
    let lock = std::fs::read_to_string(data.join("work/postgres/postmaster.pid")).ok()?;
    lock.lines().next()?.trim().parse().ok()
}

fn wait_until_up(port: u16) -> Duration {
    let begun = Instant::now();
    while ask(port, "GET", "/health", "").map(|(status, _)| status) != Some(200) {
        assert!(begun.elapsed() < Duration::from_secs(30), "it does not come up again");
        std::thread::sleep(Duration::from_millis(20));
    }
    begun.elapsed()
}

#[test]
fn nothing_that_was_acknowledged_is_lost_whatever_is_killed_when() {
    let data = TempDir::with_prefix("antistasis-faults-").unwrap();
    std::fs::set_permissions(data.path(), std::fs::Permissions::from_mode(0o755)).unwrap();
    let port = TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
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
                    match ask(port, "POST", "/areas", &json!({ "name": name }).to_string()) {
                        Some((201, _)) => acknowledged.lock().unwrap().push(name),
                        Some((status, said)) => assert!(status == 503, "{status}: {said}"),
                        None => std::thread::sleep(Duration::from_millis(20)),
                    }
                }
            });
        }
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
        over.store(true, Ordering::Relaxed);
    });
    let (status, areas) = ask(port, "GET", "/areas", "").unwrap();
    assert_eq!(status, 200);
    let names: Vec<&str> = areas.as_array().unwrap().iter().map(|area| area["name"].as_str().unwrap()).collect();
    let acknowledged = acknowledged.into_inner().unwrap();
    assert!(acknowledged.len() > 20, "{}", acknowledged.len());
    for name in &acknowledged {
        assert_eq!(names.iter().filter(|known| *known == name).count(), 1, "{name}");
    }
    println!("{} acknowledged, {} there, up again after {slowest:?} at most", acknowledged.len(), names.len());
    assert!(slowest < UP_AGAIN + Duration::from_secs(5), "{slowest:?}");
    kill(Pid::from_raw(server.id() as i32), Signal::SIGINT).unwrap();
    server.wait().unwrap();
}
