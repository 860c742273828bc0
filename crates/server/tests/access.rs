//! Who is let in: with the token, or with a cookie that was given for it; nobody else reads or writes anything.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

#[allow(dead_code)]
mod support;

use antistasis_server::{Access, AppState, Token};
use antistasis_store::Store;
use reqwest::header::{AUTHORIZATION, COOKIE, LOCATION, ORIGIN, SET_COOKIE, WWW_AUTHENTICATE};
use reqwest::redirect::Policy;
use reqwest::{Client, Method, StatusCode};
use serde_json::Value;
use std::sync::atomic::{AtomicUsize, Ordering};
use support::{Site, cluster};
use tokio::net::TcpListener;

struct Locked {
    client: Client,
    address: String,
    port: u16,
    token: Token,
}

impl Locked {
    async fn open() -> Self {
        static COUNT: AtomicUsize = AtomicUsize::new(0);
        let store =
            Store::open(&cluster().url(&format!("access_{}", COUNT.fetch_add(1, Ordering::Relaxed)))).await.unwrap();
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let port = listener.local_addr().unwrap().port();
        let token = Token::random();
        let state = AppState::new(store, port, &[], None, Access::Token(token.clone())).unwrap();
        tokio::spawn(antistasis_server::serve(listener, state, std::future::pending()));
        let client = Client::builder().redirect(Policy::none()).build().unwrap();
        Self { client, address: format!("http://localhost:{port}"), port, token }
    }

    async fn cookie(&self) -> String {
        let answer = self.client.get(format!("{}/?token={}", self.address, self.token.text())).send().await.unwrap();
        assert_eq!(answer.status(), StatusCode::SEE_OTHER);
        assert_eq!(answer.headers()[LOCATION], "/");
        answer.headers()[SET_COOKIE].to_str().unwrap().to_owned()
    }

    async fn status(&self, path: &str, headers: &[(&str, &str)]) -> StatusCode {
        let request =
            headers.iter().fold(self.client.get(format!("{}{path}", self.address)), |request, (name, value)| {
                request.header(*name, *value)
            });
        request.send().await.unwrap().status()
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn no_address_of_the_api_answers_without_a_token() {
    let locked = Locked::open().await;
    let document = serde_json::to_value(antistasis_server::openapi()).unwrap();
    let mut asked = 0;
    for (path, operations) in document["paths"].as_object().unwrap() {
        // An identifier alone opens nothing, whether it exists or not.
        let mut address = path.clone();
        while let (Some(from), Some(to)) = (address.find('{'), address.find('}')) {
            address.replace_range(from..=to, "01920000-0000-7000-8000-000000000000");
        }
        for method in operations.as_object().unwrap().keys() {
            let method = Method::from_bytes(method.to_uppercase().as_bytes()).unwrap();
            let request = locked.client.request(method.clone(), format!("{}{address}", locked.address));
            let answer = request.header("Content-Type", "application/json").body("{}").send().await.unwrap();
            if path == "/api/v1/health" {
                assert_eq!(answer.status(), StatusCode::OK);
                continue;
            }
            assert_eq!(answer.status(), StatusCode::UNAUTHORIZED, "{method} {path}");
            assert_eq!(answer.headers()[WWW_AUTHENTICATE], "Bearer");
            assert_eq!(answer.headers()["content-type"], "application/problem+json");
            let problem: Value = serde_json::from_str(&answer.text().await.unwrap()).unwrap();
            support::contract::holds(
                &method,
                path.strip_prefix("/api/v1").unwrap(),
                StatusCode::UNAUTHORIZED,
                &problem,
            );
            asked += 1;
        }
    }
    assert!(asked > 80, "{asked}");
    // Nor do addresses that do not exist tell themselves apart from those that do.
    assert_eq!(locked.status("/api/v1/nothing", &[]).await, StatusCode::UNAUTHORIZED);
    assert_eq!(locked.status("/api/v1/health/../loops", &[]).await, StatusCode::UNAUTHORIZED);
    assert_eq!(locked.status("//api/v1/loops", &[]).await, StatusCode::UNAUTHORIZED);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_page_exchanges_the_token_for_a_cookie_of_its_own() {
    let locked = Locked::open().await;
    let cookie = locked.cookie().await;
    for part in ["HttpOnly", "SameSite=Strict", "Path=/", &format!("antistasis-{}=", locked.port)] {
        assert!(cookie.contains(part), "{cookie}");
    }
    assert!(!cookie.contains(locked.token.text()), "the cookie does not tell the token");
    let pair = cookie.split(';').next().unwrap();
    assert_eq!(locked.status("/api/v1/loops", &[(COOKIE.as_str(), pair)]).await, StatusCode::OK);
    assert_eq!(locked.status("/loops/TIC-1/control", &[(COOKIE.as_str(), pair)]).await, StatusCode::OK);
    assert_ne!(locked.cookie().await, cookie, "every browser has one of its own");
    // The rest of the address stays; the token goes.
    let address = format!("{}/loops/TIC-1/measure?view=plan&token={}", locked.address, locked.token.text());
    let answer = locked.client.get(address).send().await.unwrap();
    assert_eq!(answer.headers()[LOCATION], "/loops/TIC-1/measure?view=plan");
    // A cookie lets a page in that is this site's, and no other's.
    let write = locked.client.post(format!("{}/api/v1/areas", locked.address)).header(COOKIE, pair);
    let foreign = write.header(ORIGIN, "http://evil.example").body("{}").send().await.unwrap();
    assert_eq!(foreign.status(), StatusCode::FORBIDDEN);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_no_token_and_no_cookie_opens_nothing() {
    let locked = Locked::open().await;
    let other = Locked::open().await;
    let cookie = locked.cookie().await;
    let pair = cookie.split(';').next().unwrap();
    let value = pair.split_once('=').unwrap().1;
    let of_other = other.cookie().await.split(';').next().unwrap().split_once('=').unwrap().1.to_owned();
    let name = format!("antistasis-{}", locked.port);
    for forged in [
        String::new(),
        "x".into(),
        of_other,
        value[1..].to_owned(),
        value.replace('.', ""),
        format!("{value}0"),
        value.to_uppercase(),
        format!("{}.{}", value.split_once('.').unwrap().0, "0".repeat(64)),
        "\u{fc}.\u{fc}".into(),
    ] {
        let header = format!("{name}={forged}");
        assert_eq!(
            locked.status("/api/v1/loops", &[(COOKIE.as_str(), &header)]).await,
            StatusCode::UNAUTHORIZED,
            "{header}"
        );
    }
    let right = locked.token.text();
    for (authorization, expected) in [
        (format!("Bearer {right}"), StatusCode::OK),
        (format!("bearer {right}"), StatusCode::OK),
        (format!("Bearer {}", other.token.text()), StatusCode::UNAUTHORIZED),
        (format!("Bearer {}", &right[..63]), StatusCode::UNAUTHORIZED),
        (format!("Basic {right}"), StatusCode::UNAUTHORIZED),
        ("Bearer".to_owned(), StatusCode::UNAUTHORIZED),
        (String::new(), StatusCode::UNAUTHORIZED),
    ] {
        assert_eq!(
            locked.status("/api/v1/loops", &[(AUTHORIZATION.as_str(), &authorization)]).await,
            expected,
            "{authorization}"
        );
    }
    // A page says what is missing, whatever is in its way; scripts and styles are no secret.
    for path in ["/", "/loops/TIC-1/control", "/licences", "/index.html", "/?token=wrong", "/?token="] {
        let answer = locked.client.get(format!("{}{path}", locked.address)).send().await.unwrap();
        assert_eq!(answer.status(), StatusCode::UNAUTHORIZED, "{path}");
        assert!(answer.headers().get(SET_COOKIE).is_none());
        assert!(answer.text().await.unwrap().contains("needs the token of the server"), "{path}");
    }
    let page = locked.client.get(format!("{}/", locked.address)).header(COOKIE, pair).send().await.unwrap();
    let page = page.text().await.unwrap();
    let script = page.split('"').find(|text| text.starts_with("/assets/") && text.ends_with(".js")).unwrap();
    assert_eq!(locked.status(script, &[]).await, StatusCode::OK);
    // What was typed is not said back: nothing that could run stands in the page.
    let typed = locked.client.get(format!("{}/?token=%3Cscript%3E", locked.address)).send().await.unwrap();
    assert!(!typed.text().await.unwrap().contains("<script>"));
}

#[tokio::test(flavor = "multi_thread")]
async fn an_open_server_asks_for_nothing() {
    let site = Site::empty().await;
    assert_eq!(site.get("/loops").await, serde_json::json!([]));
}
