//! Who may ask: whoever has the token of this server, or a cookie that was given for it. Whoever else uses the machine is kept out.
//!
//! The token stands in the address that is printed at the start, and in a file that its owner alone may read. A page that is opened
//! with it gets a cookie for it (RFC 6265: HttpOnly, SameSite=Strict), which says a client of its own and is signed with the token
//! (HMAC, RFC 2104). Programs send it as a bearer token (RFC 6750).

use crate::frontend;
use crate::problem::Problem;
use crate::state::AppState;
use axum::extract::{Request, State};
use axum::http::{HeaderMap, Method, StatusCode, Uri, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use hmac::{Hmac, KeyInit, Mac};
use sha2::Sha256;
use std::fs::{File, OpenOptions};
use std::io::{ErrorKind, Read, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;

/// Bytes of a token, and of what tells clients apart.
const BYTES: usize = 32;
const CLIENT_BYTES: usize = 16;
/// How long a browser keeps its cookie, s: a year. Another token ends it at once.
const COOKIE_LASTS: u32 = 365 * 24 * 3600;
/// What a program that keeps watch may ask without a token: it tells nothing of the works.
const PUBLIC: [&str; 1] = ["/api/v1/health"];

tokio::task_local! {
    /// Who is asking, while a request is answered; nobody where clients cannot be told apart.
    static CLIENT: Option<String>;
}

/// Who is asking, where it is known.
pub(crate) fn client() -> Option<String> {
    CLIENT.try_with(Clone::clone).ok().flatten()
}

/// Does something as if this client asked for it.
#[cfg(test)]
pub(crate) async fn as_client<T>(client: &str, what: impl Future<Output = T>) -> T {
    CLIENT.scope(Some(client.to_owned()), what).await
}

/// Who may ask.
#[derive(Debug, Clone)]
pub enum Access {
    /// Everybody who reaches the port.
    Open,
    /// Whoever has this token.
    Token(Token),
}

/// A secret of 256 bits, in hexadecimal digits.
#[derive(Clone, PartialEq, Eq)]
pub struct Token(String);

impl std::fmt::Debug for Token {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Token(…)")
    }
}

fn hexadecimal(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}

impl Token {
    /// A token that nobody knows yet.
    #[must_use]
    pub fn random() -> Self {
        Self(hexadecimal(&rand::random::<[u8; BYTES]>()))
    }

    /// The token that a text is; None where it is none.
    #[must_use]
    pub fn parse(text: &str) -> Option<Self> {
        let text = text.trim();
        let is_token = text.len() == 2 * BYTES && text.bytes().all(|byte| matches!(byte, b'0'..=b'9' | b'a'..=b'f'));
        is_token.then(|| Self(text.to_owned()))
    }

    /// The token of a file that its owner alone may read.
    pub fn read(path: &Path) -> std::io::Result<Option<Self>> {
        let mut text = String::new();
        File::open(path)?.take(1024).read_to_string(&mut text)?;
        Ok(Self::parse(&text))
    }

    /// The token of this file, which is made where there is none: cookies hold over a restart.
    pub fn kept_in(path: &Path) -> std::io::Result<Self> {
        match Self::read(path) {
            Ok(Some(token)) => return Ok(token),
            // Cut off while it was written, or something else: nobody can have used it.
            Ok(None) => {}
            Err(error) if matches!(error.kind(), ErrorKind::NotFound | ErrorKind::InvalidData) => {}
            Err(error) => return Err(error),
        }
        let token = Self::random();
        let beside = path.with_extension("new");
        let _ = std::fs::remove_file(&beside);
        // A file that is made anew follows no link.
        let mut file = OpenOptions::new().write(true).create_new(true).mode(0o600).open(&beside)?;
        writeln!(file, "{}", token.0)?;
        file.sync_all()?;
        std::fs::rename(&beside, path)?;
        Ok(token)
    }

    /// The token as it is written into addresses and headers.
    #[must_use]
    pub fn text(&self) -> &str {
        &self.0
    }

    fn mac(&self, message: &str) -> Hmac<Sha256> {
        // HMAC takes keys of any length.
        #[allow(clippy::expect_used)]
        let mut mac = Hmac::<Sha256>::new_from_slice(self.0.as_bytes()).expect("a key of any length");
        mac.update(message.as_bytes());
        mac
    }

    /// Whether a text is the wanted one, in a time that tells nothing of it.
    fn same(&self, given: &str, wanted: &str) -> bool {
        self.mac(given).verify_slice(&self.mac(wanted).finalize().into_bytes()).is_ok()
    }

    /// Whether a text is this token.
    fn is(&self, given: &str) -> bool {
        self.same(given.trim(), &self.0)
    }

    fn signature(&self, client: &str) -> String {
        hexadecimal(&self.mac(&format!("client {client}")).finalize().into_bytes())
    }

    /// The value of a cookie for a new client.
    fn cookie(&self) -> String {
        let client = hexadecimal(&rand::random::<[u8; CLIENT_BYTES]>());
        format!("{client}.{}", self.signature(&client))
    }

    /// The client that a cookie was given to; None where it was given by nobody here.
    fn client_of(&self, cookie: &str) -> Option<String> {
        let (client, signature) = cookie.split_once('.')?;
        self.same(signature, &self.signature(client)).then(|| client.to_owned())
    }
}

/// The value of a cookie of this name (RFC 6265, section 4.2.1).
fn cookie<'a>(headers: &'a HeaderMap, name: &str) -> Option<&'a str> {
    let texts = headers.get_all(header::COOKIE).into_iter().filter_map(|value| value.to_str().ok());
    texts.flat_map(|text| text.split(';')).find_map(|pair| pair.trim().strip_prefix(name)?.strip_prefix('='))
}

fn bearer(headers: &HeaderMap) -> Option<&str> {
    let (scheme, token) = headers.get(header::AUTHORIZATION)?.to_str().ok()?.split_once(' ')?;
    scheme.eq_ignore_ascii_case("bearer").then_some(token)
}

/// The token of an address, which may have been pasted as the whole address that was printed.
fn token_in(uri: &Uri) -> Option<&str> {
    let given = uri.query()?.split('&').find_map(|pair| pair.strip_prefix("token="))?;
    Some(given.rsplit("token%3D").next().unwrap_or(given).trim_matches('+'))
}

/// The same address without its token.
fn without_token(uri: &Uri) -> String {
    let rest: Vec<&str> = uri
        .query()
        .unwrap_or_default()
        .split('&')
        .filter(|pair| !pair.is_empty() && !pair.starts_with("token="))
        .collect();
    // More than one slash at the beginning would lead to another site.
    let path = format!("/{}", uri.path().trim_start_matches('/'));
    if rest.is_empty() { path } else { format!("{path}?{}", rest.join("&")) }
}

/// Lets through who has the token; exchanges the token of a page's address for a cookie.
pub(crate) async fn known_only(State(state): State<AppState>, request: Request, next: Next) -> Response {
    let Access::Token(token) = &*state.access else { return CLIENT.scope(None, next.run(request)).await };
    let uri = request.uri();
    let is_page = !uri.path().starts_with("/api/");
    if is_page && *request.method() == Method::GET {
        if let Some(given) = token_in(uri) {
            return if token.is(given) { welcome(&state, token, uri) } else { sign_in(true) };
        }
        if frontend::is_public(uri.path()) {
            return next.run(request).await;
        }
    }
    let client = match bearer(request.headers()) {
        Some(given) => token.is(given).then(|| "token".to_owned()),
        None => cookie(request.headers(), &state.cookie_name).and_then(|given| token.client_of(given)),
    };
    match client {
        Some(client) => CLIENT.scope(Some(client), next.run(request)).await,
        None if PUBLIC.contains(&uri.path()) => next.run(request).await,
        None if is_page => sign_in(false),
        None => {
            let mut response = Problem::unknown().into_response();
            response.headers_mut().insert(header::WWW_AUTHENTICATE, header::HeaderValue::from_static("Bearer"));
            response
        }
    }
}

fn welcome(state: &AppState, token: &Token, uri: &Uri) -> Response {
    let cookie =
        format!("{}={}; HttpOnly; SameSite=Strict; Path=/; Max-Age={COOKIE_LASTS}", state.cookie_name, token.cookie());
    let headers = [
        (header::SET_COOKIE, cookie),
        (header::LOCATION, without_token(uri)),
        (header::CACHE_CONTROL, "no-store".to_owned()),
    ];
    (StatusCode::SEE_OTHER, headers).into_response()
}

/// The page that asks for the token.
fn sign_in(refused: bool) -> Response {
    let said =
        if refused { r#"<p class="text-limit" role="alert">That is not the token of this server.</p>"# } else { "" };
    let page = include_str!("sign_in.html")
        .replace("{stylesheet}", &frontend::stylesheet().unwrap_or_default())
        .replace("{refused}", said);
    let headers = [(header::CONTENT_TYPE, "text/html; charset=utf-8"), (header::CACHE_CONTROL, "no-store")];
    (StatusCode::UNAUTHORIZED, headers, page).into_response()
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used)]

    use super::*;
    use std::os::unix::fs::PermissionsExt;

    #[test]
    fn a_cookie_holds_for_its_token_and_no_other() {
        let (token, other) = (Token::random(), Token::random());
        let (first, second) = (token.cookie(), token.cookie());
        let client = token.client_of(&first).unwrap();
        assert_ne!(Some(client.clone()), token.client_of(&second), "clients are told apart");
        assert_eq!(other.client_of(&first), None);
        let (_, signature) = first.split_once('.').unwrap();
        for forged in [
            format!("{client}0.{signature}"),
            format!("{client}.{}", &signature[2..]),
            format!("{client}.{}00", &signature[..62]),
            format!("{client}."),
            client,
            String::new(),
            "é.é".to_owned(),
        ] {
            assert_eq!(token.client_of(&forged), None, "{forged}");
        }
        assert!(token.is(token.text()) && token.is(&format!(" {}\n", token.text())));
        assert!(!token.is(other.text()) && !token.is("") && !token.is(&token.text()[1..]));
    }

    #[test]
    fn a_signature_is_that_of_the_standard() {
        // RFC 4231, test case 2: key "Jefe", data "what do ya want for nothing?".
        let mac = Token("Jefe".to_owned()).mac("what do ya want for nothing?").finalize().into_bytes();
        assert_eq!(hexadecimal(&mac), "5bdcc146bf60754e6a042426089575c75a003f089d2739839dec58b964ec3843");
    }

    #[test]
    fn a_file_keeps_the_token_for_its_owner_alone() {
        let directory = tempfile::tempdir().unwrap();
        let path = directory.path().join("token");
        let token = Token::kept_in(&path).unwrap();
        assert_eq!(std::fs::metadata(&path).unwrap().permissions().mode() & 0o777, 0o600);
        assert_eq!(Token::kept_in(&path).unwrap(), token);
        // What was cut off, and what is no text, is made anew; a link that lies in the way is not followed.
        for spoilt in [&b""[..], b"abc", &[0xff, 0xfe]] {
            std::fs::write(&path, spoilt).unwrap();
            let elsewhere = directory.path().join("elsewhere");
            std::fs::write(&elsewhere, "untouched").unwrap();
            let _ = std::os::unix::fs::symlink(&elsewhere, path.with_extension("new"));
            let made = Token::kept_in(&path).unwrap();
            assert_ne!(made, token);
            assert_eq!(Token::read(&path).unwrap(), Some(made));
            assert_eq!(std::fs::read_to_string(&elsewhere).unwrap(), "untouched");
        }
        assert!(format!("{token:?}").len() < 12, "a token is not written into logs");
    }

    #[test]
    fn an_address_loses_its_token_and_nothing_else() {
        for (given, wanted) in [
            ("/?token=1", "/"),
            ("/loops/TIC-204/control?token=1", "/loops/TIC-204/control"),
            ("/loops/A?view=plan&token=1&x=2", "/loops/A?view=plan&x=2"),
            ("//evil.example/?token=1", "/evil.example/"),
            ("///evil.example?token=1", "/evil.example"),
        ] {
            assert_eq!(without_token(&given.parse().unwrap()), wanted);
        }
        assert_eq!(token_in(&"/?a=1&token=abc".parse().unwrap()), Some("abc"));
        assert_eq!(token_in(&"/?token=http%3A%2F%2Flocalhost%3A1%2F%3Ftoken%3Dabc".parse().unwrap()), Some("abc"));
        assert_eq!(token_in(&"/?tokens=1".parse().unwrap()), None);
    }

    #[test]
    fn cookies_are_found_among_others() {
        let mut headers = HeaderMap::new();
        headers.append(header::COOKIE, "other=1; antistasis-82070=no; antistasis-8207=yes; last=2".parse().unwrap());
        assert_eq!(cookie(&headers, "antistasis-8207"), Some("yes"));
        assert_eq!(cookie(&headers, "antistasis-820"), None);
        headers.append(header::AUTHORIZATION, "bearer abc".parse().unwrap());
        assert_eq!(bearer(&headers), Some("abc"));
    }
}
