//! What may go wrong around the server: the disk is full, connections say nothing, a body stops in the middle.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

#[allow(dead_code)]
mod support;

use reqwest::{Method, StatusCode};
use serde_json::{Value, json};
use sqlx::{Connection, PgConnection};
use std::time::Duration;
use support::{Site, taken, trial};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;

/// Makes every insert into a table fail as it does when the disk is full (SQLSTATE 53100), or lets them through again.
async fn disk(database: &str, is_full: bool) {
    let mut connection = PgConnection::connect(database).await.unwrap();
    let statements: &[&str] = if is_full {
        &[
            "create function no_space() returns trigger language plpgsql as $$
                begin raise exception 'could not extend file: No space left on device' using errcode = '53100'; end $$",
            "create trigger no_space after insert on trial for each row execute function no_space()",
            "create trigger no_space after insert on chunk for each row execute function no_space()",
        ]
    } else {
        &["drop function no_space cascade"]
    };
    for statement in statements {
        sqlx::query(*statement).execute(&mut connection).await.unwrap();
    }
    connection.close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_full_disk_is_said_and_leaves_nothing_half_done() {
    let site = Site::open().await;
    disk(&site.database, true).await;
    let kept = json!({ "trial": trial(&json!({ "kind": "pid", "gain": 1.0, "integral_time": 10.0 })), "label": "a" });
    let refused = site.request(Method::POST, "/loops/TIC-1/trials").json(&kept).send().await.unwrap();
    let refused = taken(refused, StatusCode::INSUFFICIENT_STORAGE).await;
    assert!(refused["detail"].as_str().unwrap().contains("disk with the database is full"), "{refused}");
    assert!(refused["detail"].as_str().unwrap().starts_with("Nothing was changed"), "{refused}");
    let rows = |from: u32, to: u32| -> String { (from..to).map(|k| format!("{k},{},50\n", 20 + k % 7)).collect() };
    let imported = site.imported(format!("time,TIC-1.PV,TIC-1.OP\n{}{}", rows(0, 50), rows(50, 100))).await;
    assert_eq!(imported["stage"], json!("failed"), "{imported}");
    assert!(imported["problem"]["detail"].as_str().unwrap().contains("disk with the database is full"), "{imported}");
    assert_eq!(site.get("/loops/TIC-1/trials").await, json!([]));
    assert_eq!(site.get("/loops/TIC-1/records").await, json!([]));
    // With room again everything goes on.
    disk(&site.database, false).await;
    site.send(Method::POST, "/loops/TIC-1/trials", &kept, StatusCode::CREATED).await;
    site.import(format!("time,TIC-1.PV,TIC-1.OP\n{}", rows(0, 100))).await;
    assert_eq!(site.get("/loops/TIC-1/trials").await.as_array().unwrap().len(), 1);
}

async fn connected(site: &Site, said: &str) -> TcpStream {
    let mut stream = TcpStream::connect(("127.0.0.1", site.port)).await.unwrap();
    stream.write_all(said.as_bytes()).await.unwrap();
    stream
}

async fn answer(stream: &mut TcpStream) -> String {
    let mut text = Vec::new();
    let ended = tokio::time::timeout(Duration::from_secs(60), stream.read_to_end(&mut text)).await;
    assert!(ended.is_ok(), "the connection is held open: {text:?}");
    String::from_utf8_lossy(&text).into_owned()
}

#[tokio::test]
async fn a_body_that_stops_in_the_middle_is_not_waited_for() {
    let site = Site::empty().await;
    // Nothing but time can bring this forward: the clock of the test jumps, and the seconds of the server cost none.
    tokio::time::pause();
    let head = format!(
        "POST /api/v1/simulate HTTP/1.1\r\nHost: localhost:{}\r\nContent-Type: application/json\r\nContent-Length: 1000\r\n\r\n{{\"version\"",
        site.port
    );
    let begun = tokio::time::Instant::now();
    let mut stream = connected(&site, &head).await;
    let said = answer(&mut stream).await;
    let waited = begun.elapsed();
    assert!(waited >= Duration::from_secs(29) && waited < Duration::from_secs(60), "{waited:?}");
    let status: u16 = said.split(' ').nth(1).unwrap_or_else(|| panic!("no answer: {said}")).parse().unwrap();
    assert!((400..500).contains(&status), "{said}");
    assert!(said.contains("application/problem+json"), "{said}");
}

#[tokio::test(flavor = "multi_thread")]
async fn connections_that_say_nothing_give_their_places_back() {
    let site = Site::empty().await;
    // More than there are places: some say nothing at all, some half a head.
    let mut silent = Vec::new();
    for k in 0..560 {
        let said = if k % 2 == 0 { "" } else { "GET /api/v1/health HTTP/1.1\r\nHost: local" };
        silent.push(connected(&site, said).await);
    }
    let begun = tokio::time::Instant::now();
    let request = format!("GET /api/v1/areas HTTP/1.1\r\nHost: localhost:{}\r\nConnection: close\r\n\r\n", site.port);
    let mut late = connected(&site, &request).await;
    let said = answer(&mut late).await;
    assert!(said.starts_with("HTTP/1.1 200"), "{said}");
    // It had to wait for places that those before it held, and those were taken from them.
    assert!(
        begun.elapsed() >= Duration::from_secs(5) && begun.elapsed() < Duration::from_secs(55),
        "{:?}",
        begun.elapsed()
    );
    let body: Value = serde_json::from_str(said.split_once("\r\n\r\n").unwrap().1).unwrap();
    assert_eq!(body, json!([]));
    for (k, stream) in silent.iter_mut().enumerate() {
        assert!(!answer(stream).await.contains("200"), "{k}: nothing was asked");
    }
}
