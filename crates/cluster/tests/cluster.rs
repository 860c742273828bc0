//! A server is started, found again, and gone when its owner is.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use antistasis_cluster::{Cluster, Durability, Error};
use std::net::TcpStream;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

fn directory(name: &str) -> PathBuf {
    let path = std::env::temp_dir().join(format!("antistasis-cluster-{name}-{}", std::process::id()));
    let _ = std::fs::remove_dir_all(&path);
    path
}

fn port(cluster: &Cluster) -> u16 {
    let url = cluster.url(Cluster::FIRST_DATABASE);
    url.rsplit_once(':').unwrap().1.split('/').next().unwrap().parse().unwrap()
}

fn gone(process: u32) -> bool {
    let deadline = Instant::now() + Duration::from_secs(60);
    while Path::new(&format!("/proc/{process}")).exists() {
        if Instant::now() > deadline {
            return false;
        }
        std::thread::yield_now();
    }
    true
}

#[test]
fn starts_twice_on_one_directory_and_leaves_no_process() {
    let directory = directory("twice");
    let first = Cluster::start(&directory, Durability::Fleeting).unwrap();
    let (first_port, process) = (port(&first), first.process());
    TcpStream::connect(("127.0.0.1", first_port)).unwrap();
    match Cluster::start(&directory, Durability::Fleeting).map(drop).unwrap_err() {
        Error::InUse { process: user, .. } => assert_eq!(user as u32, process),
        error => panic!("{error}"),
    }
    drop(first);
    assert!(gone(process) && TcpStream::connect(("127.0.0.1", first_port)).is_err());
    let again = Cluster::start(&directory, Durability::Fleeting).unwrap();
    TcpStream::connect(("127.0.0.1", port(&again))).unwrap();
    drop(again);
    std::fs::remove_dir_all(&directory).unwrap();
}

#[test]
fn what_stands_in_the_way_is_named() {
    let directory = directory("blocked");
    std::fs::write(&directory, "a file").unwrap();
    let error = Cluster::start(&directory, Durability::Fleeting).map(drop).unwrap_err();
    assert!(error.to_string().contains("antistasis-cluster-blocked"), "{error}");
    std::fs::remove_file(&directory).unwrap();
}

fn answers(port: u16, within: Duration) -> bool {
    let deadline = Instant::now() + within;
    while Instant::now() < deadline {
        if TcpStream::connect(("127.0.0.1", port)).is_ok() {
            return true;
        }
        std::thread::sleep(Duration::from_millis(20));
    }
    false
}

fn kill(process: u32) {
    let status = std::process::Command::new("kill").args(["-9", &process.to_string()]).status().unwrap();
    assert!(status.success());
}

#[test]
fn a_server_that_is_killed_is_there_again_under_its_address_and_ends_with_its_owner() {
    let directory = directory("killed");
    let cluster = Cluster::start(&directory, Durability::Fleeting).unwrap();
    let port = port(&cluster);
    for _ in 0..3 {
        let process = cluster.process();
        kill(process);
        assert!(gone(process));
        let deadline = Instant::now() + Duration::from_secs(60);
        while cluster.process() == 0 || cluster.process() == process {
            assert!(Instant::now() < deadline, "it is not started again");
            std::thread::sleep(Duration::from_millis(20));
        }
        assert!(answers(port, Duration::from_secs(60)), "it does not answer again");
    }
    // Wait until it has come up for good, so that its end is that of a server at work.
    std::thread::sleep(Duration::from_millis(500));
    let last = cluster.process();
    drop(cluster);
    assert!(gone(last) && TcpStream::connect(("127.0.0.1", port)).is_err());
    std::fs::remove_dir_all(&directory).unwrap();
}

#[test]
fn a_first_start_that_was_cut_off_begins_anew() {
    let directory = directory("cut-off");
    // What initdb has written when the power goes: version and a part of the rest, under the name that is not yet valid.
    let unfinished = directory.join("postgres.unfinished");
    std::fs::create_dir_all(&unfinished).unwrap();
    std::fs::write(unfinished.join("PG_VERSION"), "15\n").unwrap();
    std::fs::write(directory.join("password"), "half").unwrap();
    let cluster = Cluster::start(&directory, Durability::Fleeting).unwrap();
    assert!(answers(port(&cluster), Duration::from_secs(60)));
    assert!(!unfinished.exists());
    drop(cluster);
    std::fs::remove_dir_all(&directory).unwrap();
}

#[test]
fn a_lock_that_names_another_program_does_not_keep_the_server_out() {
    let directory = directory("stale");
    drop(Cluster::start(&directory, Durability::Fleeting).unwrap());
    let other = Cluster::start(&directory.with_extension("other"), Durability::Fleeting).unwrap();
    // After a power cut the number of the old server belongs to somebody else: to this test, or to another PostgreSQL.
    for process in [std::process::id(), other.process()] {
        let lock = directory.join("postgres/postmaster.pid");
        std::fs::write(&lock, format!("{process}\n/nowhere\n0\n5432\n\n127.0.0.1\n\nready\n")).unwrap();
        let cluster = Cluster::start(&directory, Durability::Fleeting).unwrap();
        assert!(answers(port(&cluster), Duration::from_secs(60)));
    }
    drop(other);
    std::fs::remove_dir_all(directory.with_extension("other")).unwrap();
    std::fs::remove_dir_all(&directory).unwrap();
}
