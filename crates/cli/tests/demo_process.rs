//! The application as a process: starts, starts again on the same data, leaves nothing behind, and is worked on by
//! commands while it runs.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use nix::sys::signal::{Signal, kill};
use nix::unistd::Pid;
use serde_json::{Value, json};
use std::io::{BufRead, BufReader, Read, Write};
use std::net::{TcpListener, TcpStream};
use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};
use tempfile::TempDir;

fn start(command: &str, data: &Path, port: u16) -> Child {
    start_with(&[command], data, port)
}

fn start_with(words: &[&str], data: &Path, port: u16) -> Child {
    Command::new(env!("CARGO_BIN_EXE_antistasis"))
        .args(words)
        .args(["--port", &port.to_string(), "--data"])
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
    let deadline = Instant::now() + Duration::from_secs(60);
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
        let mut child = start("demo", data.path(), port);
        let said = first_line(&mut child);
        assert!(said.contains(&format!("http://localhost:{port}")), "{said}");
        assert!(before.elapsed() < Duration::from_secs(120));
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
    let output = start("demo", data.path(), port).wait_with_output().unwrap();
    assert_eq!(output.status.code(), Some(2));
    let text = String::from_utf8_lossy(&output.stderr);
    let line = text.lines().last().unwrap();
    assert!(line.contains(&format!("port {port} is in use by another program")) && line.contains("--port"), "{text}");
    all_gone(data.path());
}

#[test]
fn works_are_made_changed_and_carried_elsewhere_by_commands() {
    let (data, port) = (data(), free_port());
    let mut child = start("serve", data.path(), port);
    first_line(&mut child);
    let address = format!("http://127.0.0.1:{port}");
    let run = |words: &[&str]| {
        let output = Command::new(env!("CARGO_BIN_EXE_antistasis"))
            .args(["works", "--server", &address, "--data", data.path().to_str().unwrap()])
            .args(words)
            .current_dir(data.path())
            .output()
            .unwrap();
        let document = serde_json::from_slice::<Value>(&output.stdout).unwrap_or_default();
        (output.status.success(), document, String::from_utf8(output.stderr).unwrap())
    };
    let done = |words: &[&str]| {
        let (success, document, text) = run(words);
        assert!(success, "{words:?}: {text}");
        document
    };
    let refused = |words: &[&str]| {
        let (success, _, text) = run(words);
        assert!(!success && text.lines().count() == 1, "{words:?}: {text}");
        text
    };

    assert_eq!(done(&["list"]), json!({ "areas": [], "loops": [] }));
    done(&["add-area", "Boilers", "--notes", "two of three run"]);
    let made = done(&["add-loop", "FIC-7", "--area", "Boilers", "--pv-unit", "m³/h", "--pv-span", "-5:40"]);
    assert_eq!(made["pv"], json!({ "tag": "FIC-7.PV", "span": { "low": -5.0, "high": 40.0, "unit": "m³/h" } }));
    assert!(refused(&["add-loop", "FIC-7", "--area", "Boilers"]).contains("FIC-7"));
    assert!(refused(&["add-loop", "FIC-8", "--area", "Boilers", "--pv-span", "wide"]).contains("--pv-span is “wide”"));

    let changed = done(&["change-loop", "FIC-7", "--tag", "FIC-70", "--area", "Feed water", "--notes", "weir"]);
    assert_eq!(
        (&changed["tag"], &changed["area"], &changed["notes"]),
        (&"FIC-70".into(), &"Feed water".into(), &"weir".into())
    );
    assert_eq!(changed["pv"]["span"], made["pv"]["span"]);
    assert_eq!(done(&["change-area", "Boilers", "--name", "Steam"])["notes"], "two of three run");
    assert!(refused(&["change-area", "Boilers", "--name", "Steam"]).contains("there are "));
    assert!(refused(&["change-loop", "FIC-7", "--name", "x"]).contains("there is no loop “FIC-7”"));

    done(&["export", "FIC-70", "-o", "loop.zip"]);
    assert!(refused(&["import", "loop.zip"]).contains("FIC-70"));
    done(&["delete", "FIC-70"]);
    assert_eq!(done(&["bin"])[0]["title"], "loop FIC-70");
    done(&["restore", "FIC-70"]);
    assert!(refused(&["restore", "FIC-70"]).contains("no “FIC-70” in the bin"));
    assert_eq!(done(&["list"])["loops"][0]["tag"], "FIC-70");

    kill(Pid::from_raw(child.id() as i32), Signal::SIGINT).unwrap();
    child.wait().unwrap();
    assert!(refused(&["list"]).contains(&format!("No server answers at {address}")));
    all_gone(data.path());
}

/// Whom the processes on this directory belong to.
fn owners(data: &Path) -> Vec<u32> {
    let wanted = data.to_string_lossy().into_owned();
    let entries = std::fs::read_dir("/proc").unwrap().flatten();
    let on_it = entries.filter(|entry| {
        let words = std::fs::read(entry.path().join("cmdline")).unwrap_or_default();
        String::from_utf8_lossy(&words).replace('\0', " ").contains(&wanted)
    });
    on_it
        .filter_map(|entry| Some(std::os::unix::fs::MetadataExt::uid(&std::fs::metadata(entry.path()).ok()?)))
        .collect()
}

fn post(port: u16, path: &str, body: &Value) -> TcpStream {
    let text = body.to_string();
    let mut stream = TcpStream::connect(("127.0.0.1", port)).unwrap();
    write!(
        stream,
        "POST /api/v1{path} HTTP/1.1\r\nHost: localhost:{port}\r\nContent-Type: application/json\r\nContent-Length: {}\r\n\r\n{text}",
        text.len()
    )
    .unwrap();
    stream
}

#[test]
fn ends_in_seconds_while_everything_is_computing() {
    let (data, port) = (data(), free_port());
    let mut child = start_with(&["serve", "--open"], data.path(), port);
    first_line(&mut child);
    let signal = |tag: &str| json!({ "tag": tag, "span": { "low": 0.0, "high": 100.0, "unit": "%" } });
    let trial = json!({
        "version": 1,
        "plant": {
            "process": { "structure": "fopdt", "gain": 1.0, "time_constant": 10.0, "dead_time": 4.0 },
            "pv": signal("PV"), "op": signal("OP"), "operating_point": { "pv": 50.0, "op": 50.0 },
        },
        "candidate": { "controller": { "kind": "pid", "gain": 1.0, "integral_time": 10.0 } },
        "scenario": { "duration": 400_000.0, "scan": 0.2, "seed": 1, "events": [] },
    });
    // A sweep of thousands, a trade-off, and answers that many wait for, one of which was only half asked for.
    let axis =
        json!({ "pointer": "/candidate/controller/gain", "from": 0.1, "to": 2.0, "count": 1000, "by_ratio": true });
    let mut asked = vec![
        post(port, "/sweeps", &json!({ "trial": trial, "axes": [axis], "question": null })),
        post(port, "/tunings", &json!({ "trial": trial, "kind": "trade_off" })),
    ];
    asked.extend((0..8).map(|_| post(port, "/simulate", &trial)));
    let mut half = TcpStream::connect(("127.0.0.1", port)).unwrap();
    half.write_all(b"GET /api/v1/loops HTTP/1.1\r\nHost: ").unwrap();
    std::thread::sleep(Duration::from_millis(700));
    let begun = Instant::now();
    kill(Pid::from_raw(child.id() as i32), Signal::SIGINT).unwrap();
    assert!(child.wait().unwrap().success());
    // The server itself within two seconds; the database writes what it holds and ends with it.
    println!("ended after {:?}", begun.elapsed());
    assert!(begun.elapsed() < Duration::from_secs(40), "{:?}", begun.elapsed());
    all_gone(data.path());
}

#[test]
fn a_demo_that_was_cut_off_is_completed_and_what_a_person_deleted_stays_away() {
    let (data, port) = (data(), free_port());
    // Cut off at several moments of the first start.
    for moment in [1500, 2500, 3500] {
        let mut child = start("demo", data.path(), port);
        std::thread::sleep(Duration::from_millis(moment));
        kill(Pid::from_raw(child.id() as i32), Signal::SIGKILL).unwrap();
        child.wait().unwrap();
        all_gone(data.path());
    }
    let run = |words: &[&str]| {
        let address = format!("http://127.0.0.1:{port}");
        let words: Vec<&str> = ["works", "--server", &address, "--data", data.path().to_str().unwrap()]
            .into_iter()
            .chain(words.iter().copied())
            .collect();
        Command::new(env!("CARGO_BIN_EXE_antistasis")).args(words).output().unwrap()
    };
    // Where the disk is busy the server may ask to come again in a moment.
    let listed = || {
        let begun = Instant::now();
        loop {
            let output = run(&["list"]);
            if output.status.success() {
                return serde_json::from_slice::<Value>(&output.stdout).unwrap();
            }
            let said = String::from_utf8_lossy(&output.stderr);
            assert!(begun.elapsed() < Duration::from_secs(60), "{said}");
        }
    };
    let mut child = start("demo", data.path(), port);
    first_line(&mut child);
    let document = listed();
    let loops = document["loops"].as_array().unwrap();
    assert_eq!(loops.len(), 7, "{document}");
    let count = |tag: &str, what: &str| loops.iter().find(|one| one["tag"] == tag).unwrap()[what].as_u64().unwrap();
    assert_eq!((count("TIC-204", "models"), count("TIC-204", "records"), count("LIC-110", "records")), (4, 3, 1));
    let archive = run(&["export", "TIC-204", "-o", data.path().join("whole.zip").to_str().unwrap()]);
    assert!(archive.status.success(), "{}", String::from_utf8_lossy(&archive.stderr));
    assert!(run(&["delete", "LIC-110"]).status.success());
    kill(Pid::from_raw(child.id() as i32), Signal::SIGINT).unwrap();
    child.wait().unwrap();
    all_gone(data.path());
    let mut child = start("demo", data.path(), port);
    first_line(&mut child);
    let document = listed();
    assert_eq!(document["loops"].as_array().unwrap().len(), 6, "{document}");
    // Nothing of it runs as root, where the other user can reach what a build for development reads.
    let open = |path: &Path| std::fs::metadata(path).is_ok_and(|there| there.permissions().mode() & 0o001 != 0);
    if Path::new(env!("CARGO_MANIFEST_DIR")).ancestors().all(open) {
        assert!(owners(data.path()).iter().all(|owner| *owner != 0), "{:?}", owners(data.path()));
    }
    kill(Pid::from_raw(child.id() as i32), Signal::SIGINT).unwrap();
    child.wait().unwrap();
    all_gone(data.path());
}

/// A request of a program to the server that runs on this port; status and answer.
fn asked(port: u16, path: &str, header: &str) -> (u16, String) {
    let mut stream = TcpStream::connect(("127.0.0.1", port)).unwrap();
    write!(stream, "GET {path} HTTP/1.1\r\nHost: localhost:{port}\r\nConnection: close\r\n{header}\r\n").unwrap();
    let mut answer = String::new();
    stream.read_to_string(&mut answer).unwrap();
    (answer.split(' ').nth(1).unwrap().parse().unwrap(), answer)
}

#[test]
fn the_printed_address_lets_in_and_the_file_of_the_token_is_its_owners() {
    let (data, port) = (data(), free_port());
    let mut child = start("serve", data.path(), port);
    let said = first_line(&mut child);
    let token = said.split_once("?token=").unwrap().1.split_whitespace().next().unwrap().to_owned();
    let file = data.path().join("work/token");
    assert_eq!(std::fs::read_to_string(&file).unwrap().trim(), token);
    assert_eq!(std::fs::metadata(&file).unwrap().permissions().mode() & 0o777, 0o600);
    assert_eq!(asked(port, "/api/v1/loops", "").0, 401);
    assert_eq!(asked(port, "/api/v1/loops", &format!("Authorization: Bearer {token}\r\n")).0, 200);
    let (status, answer) = asked(port, &format!("/?token={token}"), "");
    assert_eq!(status, 303);
    let cookie = answer.lines().find_map(|line| line.strip_prefix("set-cookie: ")).unwrap();
    let cookie = format!("Cookie: {}\r\n", cookie.split(';').next().unwrap());
    assert_eq!(asked(port, "/api/v1/loops", &cookie).0, 200);
    // The command line takes it from the data directory, from its own words, or says where it is to be had.
    let address = format!("http://127.0.0.1:{port}");
    let works = |words: &[&str]| {
        let command = ["works", "list", "--server", &address];
        let output = Command::new(env!("CARGO_BIN_EXE_antistasis"))
            .args(command)
            .args(words)
            .env("XDG_DATA_HOME", data.path().join("nothing"))
            .env("HOME", data.path())
            .output()
            .unwrap();
        (output.status.code(), String::from_utf8_lossy(&output.stderr).into_owned())
    };
    assert_eq!(works(&["--data", data.path().to_str().unwrap()]).0, Some(0));
    assert_eq!(works(&["--token", &token]).0, Some(0));
    let (code, said) = works(&[]);
    assert_eq!(code, Some(2));
    assert!(said.contains("--token") && said.contains("--data"), "{said}");
    let (code, said) = works(&["--token", &"0".repeat(64)]);
    assert_eq!(code, Some(2));
    assert!(said.contains("needs the token"), "{said}");
    // Who was let in stays in after a restart; another token lets nobody in who had the old one.
    for (renewed, expected) in [(false, 200), (true, 401)] {
        kill(Pid::from_raw(child.id() as i32), Signal::SIGINT).unwrap();
        child.wait().unwrap();
        all_gone(data.path());
        if renewed {
            std::fs::remove_file(&file).unwrap();
        }
        child = start("serve", data.path(), port);
        assert_eq!(first_line(&mut child).contains(&token), !renewed);
        assert_eq!(asked(port, "/api/v1/loops", &cookie).0, expected);
    }
    kill(Pid::from_raw(child.id() as i32), Signal::SIGINT).unwrap();
    child.wait().unwrap();
    // Open, it says so.
    let mut child = start_with(&["serve", "--open"], data.path(), port);
    assert!(first_line(&mut child).contains("open: every user of this machine may change everything"));
    assert_eq!(asked(port, "/api/v1/loops", "").0, 200);
    kill(Pid::from_raw(child.id() as i32), Signal::SIGINT).unwrap();
    child.wait().unwrap();
    all_gone(data.path());
}

#[test]
fn with_few_file_handles_it_takes_what_it_can_and_goes_on() {
    let (data, port) = (data(), free_port());
    let mut child = Command::new("prlimit")
        .args(["--nofile=128:128", env!("CARGO_BIN_EXE_antistasis"), "serve", "--open", "--port", &port.to_string()])
        .arg("--data")
        .arg(data.path())
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    assert!(first_line(&mut child).contains("http://"));
    // Three times as many as there are handles; each has said half of what it wants.
    let half: Vec<TcpStream> = (0..400)
        .map_while(|_| {
            let address = ([127, 0, 0, 1], port).into();
            let mut stream = TcpStream::connect_timeout(&address, Duration::from_secs(2)).ok()?;
            stream.write_all(b"GET /api/v1/loops HTTP/1.1\r\nHost: ").ok()?;
            Some(stream)
        })
        .collect();
    assert!(half.len() > 128, "{}", half.len());
    // Those that were taken are cut off, then those that waited; then everybody is answered again.
    let begun = Instant::now();
    loop {
        let mut stream = TcpStream::connect(("127.0.0.1", port)).unwrap();
        stream.set_read_timeout(Some(Duration::from_secs(2))).unwrap();
        let request = format!("GET /api/v1/loops HTTP/1.1\r\nHost: localhost:{port}\r\nConnection: close\r\n\r\n");
        let mut answer = String::new();
        let _ = stream.write_all(request.as_bytes()).and_then(|()| stream.read_to_string(&mut answer).map(drop));
        if answer.starts_with("HTTP/1.1 200") {
            break;
        }
        assert!(begun.elapsed() < Duration::from_secs(120), "it does not answer again: {answer}");
        assert!(child.try_wait().unwrap().is_none(), "it has ended");
    }
    drop(half);
    kill(Pid::from_raw(child.id() as i32), Signal::SIGINT).unwrap();
    assert!(child.wait().unwrap().success());
    all_gone(data.path());
}

#[test]
fn beside_somebody_elses_database_nothing_runs_as_root_either() {
    let cluster = antistasis_cluster::for_tests().unwrap();
    let url = cluster.url("elsewhere");
    let port = free_port();
    let mut child = Command::new(env!("CARGO_BIN_EXE_antistasis"))
        .args(["serve", "--port", &port.to_string(), "--database-url", &url])
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    let said = first_line(&mut child);
    let token = said.split_once("?token=").unwrap().1.split_whitespace().next().unwrap().to_owned();
    assert_eq!(asked(port, "/api/v1/loops", "").0, 401);
    assert_eq!(asked(port, "/api/v1/loops", &format!("Authorization: Bearer {token}\r\n")).0, 200);
    let status = std::fs::read_to_string(format!("/proc/{}/status", child.id())).unwrap();
    let users = status.lines().find(|line| line.starts_with("Uid:")).unwrap();
    let open = |path: &Path| std::fs::metadata(path).is_ok_and(|there| there.permissions().mode() & 0o001 != 0);
    if Path::new(env!("CARGO_MANIFEST_DIR")).ancestors().all(open) {
        // Real, effective, saved and of the file system.
        assert!(users.split_whitespace().skip(1).all(|user| user != "0"), "{users}");
    }
    // Nothing is kept of a token beside a database that is not the program's own: each start has another one.
    kill(Pid::from_raw(child.id() as i32), Signal::SIGINT).unwrap();
    child.wait().unwrap();
    let mut again = Command::new(env!("CARGO_BIN_EXE_antistasis"))
        .args(["serve", "--port", &port.to_string(), "--database-url", &url])
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    assert!(!first_line(&mut again).contains(&token));
    kill(Pid::from_raw(again.id() as i32), Signal::SIGINT).unwrap();
    again.wait().unwrap();
}
