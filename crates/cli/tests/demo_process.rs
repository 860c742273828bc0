//! The demo as a process: starts, starts again on the same data, and leaves nothing behind.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use nix::sys::signal::{Signal, kill};
use nix::unistd::Pid;
use std::io::{BufRead, BufReader};
use std::net::TcpListener;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};
use tempfile::TempDir;

fn start(data: &Path, port: u16) -> Child {
    Command::new(env!("CARGO_BIN_EXE_antistasis"))
        .args(["demo", "--port", &port.to_string(), "--data"])
        .arg(data)
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap()
}

fn first_line(child: &mut Child) -> String {
    let mut line = String::new();
    BufReader::new(child.stdout.take().unwrap()).read_line(&mut line).unwrap();
    line
}

/// The processes whose command line names this directory.
fn processes_on(data: &Path) -> Vec<String> {
    let wanted = data.to_string_lossy().into_owned();
    std::fs::read_dir("/proc")
        .unwrap()
        .flatten()
        .filter_map(|entry| std::fs::read(entry.path().join("cmdline")).ok())
        .map(|words| String::from_utf8_lossy(&words).replace('\0', " "))
        .filter(|words| words.contains(&wanted))
        .collect()
}

fn all_gone(data: &Path) {
    let deadline = Instant::now() + Duration::from_secs(20);
    while !processes_on(data).is_empty() {
        assert!(Instant::now() < deadline, "left behind: {:?}", processes_on(data));
        std::thread::yield_now();
    }
}

fn free_port() -> u16 {
    TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port()
}

fn data() -> TempDir {
    let data = TempDir::with_prefix("antistasis-demo-").unwrap();
    std::fs::set_permissions(data.path(), std::fs::Permissions::from_mode(0o755)).unwrap();
    data
}

#[test]
fn ends_with_its_signal_or_without_and_starts_again_in_seconds() {
    let (data, port) = (data(), free_port());
    for signal in [Signal::SIGINT, Signal::SIGKILL, Signal::SIGTERM] {
        let before = Instant::now();
        let mut child = start(data.path(), port);
        let said = first_line(&mut child);
        assert!(said.contains(&format!("http://localhost:{port}")), "{said}");
        assert!(before.elapsed() < Duration::from_secs(30));
        assert!(processes_on(data.path()).iter().any(|words| words.contains("postgres")));
        kill(Pid::from_raw(child.id() as i32), signal).unwrap();
        let status = child.wait().unwrap();
        assert_eq!(status.success(), signal != Signal::SIGKILL, "{signal}: {status}");
        all_gone(data.path());
    }
}

#[test]
fn a_port_in_use_is_said_in_one_line() {
    let data = data();
    let taken = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = taken.local_addr().unwrap().port();
    let output = start(data.path(), port).wait_with_output().unwrap();
    assert_eq!(output.status.code(), Some(2));
    let text = String::from_utf8_lossy(&output.stderr);
    let line = text.lines().last().unwrap();
    assert!(line.contains(&format!("port {port} is in use by another program")) && line.contains("--port"), "{text}");
    all_gone(data.path());
}
