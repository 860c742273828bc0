//! The program as a process that is asked over its port.

use serde_json::Value;
use std::io::{BufRead, BufReader, Read, Write};
use std::net::{TcpListener, TcpStream};
use std::process::{Child, Command, Stdio};
use std::time::Duration;

pub fn free_port() -> u16 {
    TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port()
}

/// A process of the program, once it has said its first line.
pub fn begun(words: &[&str]) -> (Child, String) {
    let mut child = Command::new(env!("CARGO_BIN_EXE_antistasis"))
        .args(words)
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    let mut line = String::new();
    BufReader::new(child.stdout.take().unwrap()).read_line(&mut line).unwrap();
    (child, line)
}

/// The answer to a request: its status and document; None where the server did not answer.
pub fn ask(port: u16, token: &str, method: &str, path: &str, body: &Value) -> Option<(u16, Value)> {
    let mut stream = TcpStream::connect(("127.0.0.1", port)).ok()?;
    stream.set_read_timeout(Some(Duration::from_secs(60))).ok()?;
    let body = body.to_string();
    // A version of HTTP that knows no chunks.
    write!(
        stream,
        "{method} /api/v1{path} HTTP/1.0\r\nHost: localhost:{port}\r\nAuthorization: Bearer {token}\r\nContent-Type: application/json\r\nContent-Length: {}\r\n\r\n{body}",
        body.len()
    )
    .ok()?;
    let mut answer = String::new();
    stream.read_to_string(&mut answer).ok()?;
    let status = answer.split(' ').nth(1)?.parse().ok()?;
    let (_, document) = answer.split_once("\r\n\r\n")?;
    Some((status, serde_json::from_str(document).unwrap_or(Value::Null)))
}
