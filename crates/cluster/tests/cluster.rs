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
    let deadline = Instant::now() + Duration::from_secs(10);
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
