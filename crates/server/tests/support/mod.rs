//! An application on a database of its own, for the tests of the API.

pub mod contract;
#[allow(dead_code)]
pub mod corpus;

use antistasis_cluster::Cluster;
use antistasis_core::simulation::Signal;
use antistasis_core::units::Span;
use antistasis_server::{Access, AppState};
use antistasis_store::{AreaSeed, LoopSeed, Store};
use reqwest::{Client, Method, Response, StatusCode};
use serde_json::{Value, json};
use std::sync::OnceLock;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::Duration;
use tokio::net::TcpListener;
use tokio::task::JoinHandle;

/// One database server for all tests of this process; it ends with the process.
pub fn cluster() -> &'static Cluster {
    static CLUSTER: OnceLock<Cluster> = OnceLock::new();
    CLUSTER.get_or_init(|| antistasis_cluster::for_tests().unwrap())
}

pub struct Site {
    pub client: Client,
    pub port: u16,
    #[allow(dead_code)]
    pub database: String,
    pub server: JoinHandle<()>,
}

impl Site {
    /// An application with one loop on a fresh database.
    pub async fn open() -> Self {
        static COUNT: AtomicUsize = AtomicUsize::new(0);
        let database = cluster().url(&format!("api_{}", COUNT.fetch_add(1, Ordering::Relaxed)));
        let store = Store::open(&database).await.unwrap();
        let signal = |tag: &str, high, unit: &str| Signal { tag: tag.into(), span: Span::new(0.0, high, unit) };
        let seed = LoopSeed {
            tag: "TIC-1".into(),
            name: "Test".into(),
            difficulty: String::new(),
            pv: signal("TIC-1.PV", 200.0, "°C"),
            op: signal("TIC-1.OP", 100.0, "%"),
        };
        store.seed_areas(&[AreaSeed { name: "Area".into(), loops: vec![seed] }]).await.unwrap();
        Self::on(database).await
    }

    /// An application on a fresh database with nothing in it.
    #[allow(dead_code)]
    pub async fn empty() -> Self {
        static COUNT: AtomicUsize = AtomicUsize::new(0);
        Self::on(cluster().url(&format!("empty_{}", COUNT.fetch_add(1, Ordering::Relaxed)))).await
    }

    /// An application on a database that exists.
    pub async fn on(database: String) -> Self {
        let store = Store::open(&database).await.unwrap();
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let port = listener.local_addr().unwrap().port();
        let state = AppState::new(store, port, &[], None, Access::Open).unwrap();
        let server = tokio::spawn(async move {
            antistasis_server::serve(listener, state, std::future::pending()).await.unwrap();
        });
        // The server closes a connection that says nothing for ten seconds: none is taken up again that is about to be.
        let client = Client::builder().pool_idle_timeout(Duration::from_secs(5)).build().unwrap();
        Self { client, port, database, server }
    }

    /// The same database behind another server.
    #[allow(dead_code)]
    pub async fn restarted(self) -> Self {
        self.server.abort();
        let _ = self.server.await;
        Self::on(self.database).await
    }

    pub fn request(&self, method: Method, path: &str) -> reqwest::RequestBuilder {
        self.client.request(method, format!("http://localhost:{}/api/v1{path}", self.port))
    }

    pub async fn get(&self, path: &str) -> Value {
        let answer = taken(self.request(Method::GET, path).send().await.unwrap(), StatusCode::OK).await;
        contract::holds(&Method::GET, path, StatusCode::OK, &answer);
        answer
    }

    pub async fn send(&self, method: Method, path: &str, body: &Value, expected: StatusCode) -> Value {
        let answer = taken(self.request(method.clone(), path).json(body).send().await.unwrap(), expected).await;
        contract::holds(&method, path, expected, &answer);
        if expected.is_success() && !body.is_null() {
            contract::takes(&method, path, body);
        }
        answer
    }

    /// Sends a change that begins from a revision (`"3"`), or from any (`*`).
    #[allow(dead_code)]
    pub async fn change(&self, path: &str, revision: &str, body: &Value, expected: StatusCode) -> Value {
        let request = self.request(Method::PUT, path).header("If-Match", revision).json(body);
        let answer = taken(request.send().await.unwrap(), expected).await;
        contract::holds(&Method::PUT, path, expected, &answer);
        answer
    }

    pub async fn refused(&self, path: &str, body: &Value) -> Value {
        self.send(Method::POST, path, body, StatusCode::UNPROCESSABLE_ENTITY).await
    }

    /// Uploads a file; the answer has its preview.
    pub async fn upload(&self, content: impl Into<reqwest::Body>) -> Value {
        let request = self.request(Method::POST, "/uploads?name=test.csv").body(content);
        taken(request.send().await.unwrap(), StatusCode::CREATED).await
    }

    /// Uploads and imports with the guessed mapping; how it ended.
    pub async fn imported(&self, content: String) -> Value {
        let uploaded = self.upload(content).await;
        let body = json!({ "upload_id": uploaded["id"], "name": "record", "mapping": uploaded["preview"]["guess"] });
        let started = self.send(Method::POST, "/loops/TIC-1/imports", &body, StatusCode::ACCEPTED).await;
        self.ended(&started).await
    }

    /// How an import ended.
    pub async fn ended(&self, started: &Value) -> Value {
        loop {
            let state = self.get(&format!("/imports/{}", started["id"].as_str().unwrap())).await;
            if state["stage"] != json!("running") {
                return state;
            }
            tokio::time::sleep(Duration::from_millis(5)).await;
        }
    }

    pub async fn import(&self, content: String) -> Value {
        let state = self.imported(content).await;
        assert_eq!(state["stage"], json!("done"), "{state}");
        state["record"].clone()
    }
}

pub async fn taken(response: Response, expected: StatusCode) -> Value {
    let status = response.status();
    let kind = response.headers().get("content-type").map(|value| value.to_str().unwrap().to_owned());
    let text = response.text().await.unwrap();
    assert_eq!(status, expected, "{text}");
    if !status.is_success() {
        assert_eq!(kind.as_deref(), Some("application/problem+json"));
    }
    if text.is_empty() {
        return Value::Null;
    }
    serde_json::from_str(&text).unwrap_or_else(|_| panic!("not JSON: {text}"))
}

/// A trial on a first-order process with dead time: a set point step, then a load.
#[allow(dead_code)]
pub fn trial(controller: &Value) -> Value {
    let signal = |tag: &str| json!({ "tag": tag, "span": { "low": 0.0, "high": 100.0, "unit": "%" } });
    json!({
        "version": 1,
        "plant": {
            "process": { "structure": "fopdt", "gain": 1.25, "time_constant": 10.0, "dead_time": 4.0 },
            "pv": signal("TIC-1.PV"), "op": signal("TIC-1.OP"),
            "operating_point": { "pv": 50.0, "op": 50.0 },
        },
        "candidate": { "controller": controller },
        "scenario": {
            "duration": 200.0, "scan": 0.25, "seed": 1,
            "events": [{ "kind": "set_point_step", "at": 5.0, "by": 5.0 }, { "kind": "load_step", "at": 100.0, "by": -5.0 }],
        },
    })
}
