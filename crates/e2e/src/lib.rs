//! The real application in a real browser: the `antistasis` binary, headless Chromium, and a page to drive.

use fantoccini::elements::Element;
use fantoccini::key::Key;
use fantoccini::wd::WebDriverCompatibleCommand;
use fantoccini::{Client, ClientBuilder, Locator};
use hyper_util::client::legacy::connect::HttpConnector;
use reqwest::{Method, Url};
use serde_json::{Value, json};
use std::io::{BufRead, BufReader};
use std::net::TcpListener;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::str::FromStr;
use std::time::{Duration, Instant};
use tempfile::TempDir;

/// Whatever went wrong, in words.
pub type Result<T> = std::result::Result<T, Box<dyn std::error::Error + Send + Sync>>;

/// How long something on the page may take to appear: long, since a loaded machine with a slow disk is no defect.
const PATIENCE: Duration = Duration::from_secs(90);

/// The root of the project.
#[must_use]
pub fn project() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..")
}

/// A port that is free now.
pub fn free_port() -> Result<u16> {
    Ok(TcpListener::bind(("127.0.0.1", 0))?.local_addr()?.port())
}

/// A program that ends when this value is dropped.
struct Program(Child);

impl Drop for Program {
    fn drop(&mut self) {
        let _ = Command::new("kill").args(["-INT", &self.0.id().to_string()]).status();
        let deadline = Instant::now() + Duration::from_secs(60);
        while Instant::now() < deadline {
            if !matches!(self.0.try_wait(), Ok(None)) {
                return;
            }
            std::thread::sleep(Duration::from_millis(20));
        }
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

/// The application on a data directory of its own that can outlive it.
pub struct Application {
    program: Option<Program>,
    binary: PathBuf,
    command: &'static str,
    data: TempDir,
    port: u16,
    /// What the printed address says besides: whoever opens a page gives it.
    token: String,
}

impl Application {
    /// Starts the demo; `binary` is the `antistasis` binary.
    pub fn start(binary: &Path) -> Result<Self> {
        Self::of(binary, "demo")
    }

    /// Starts with nothing in it.
    pub fn empty(binary: &Path) -> Result<Self> {
        Self::of(binary, "serve")
    }

    fn of(binary: &Path, command: &'static str) -> Result<Self> {
        let data = TempDir::with_prefix("antistasis-e2e-")?;
        // The user under whom the database runs must be able to enter.
        std::fs::set_permissions(data.path(), std::os::unix::fs::PermissionsExt::from_mode(0o755))?;
        let mut application =
            Self { program: None, binary: binary.to_owned(), command, data, port: free_port()?, token: String::new() };
        application.run()?;
        Ok(application)
    }

    fn run(&mut self) -> Result<()> {
        let mut child = Command::new(&self.binary)
            .args([self.command, "--port", &self.port.to_string(), "--data"])
            .arg(self.data.path())
            .stdout(Stdio::piped())
            .spawn()?;
        let output = child.stdout.take().ok_or("no output")?;
        self.program = Some(Program(child));
        let mut line = String::new();
        BufReader::new(output).read_line(&mut line)?;
        let address = line.split_whitespace().find(|word| word.starts_with("http://"));
        let token = address.and_then(|address| address.split_once("?token="));
        self.token = token.ok_or_else(|| format!("the application said “{line}”"))?.1.to_owned();
        Ok(())
    }

    /// Ends the application and starts it again on the same data.
    pub fn restart(&mut self) -> Result<()> {
        self.stop();
        self.run()
    }

    /// Ends the application.
    pub fn stop(&mut self) {
        self.program = None;
    }

    /// Starts the application again on the same data.
    pub fn resume(&mut self) -> Result<()> {
        self.run()
    }

    /// The memory that the application holds at the moment, in MB.
    #[must_use]
    pub fn memory(&self) -> f64 {
        let process = self.program.as_ref().map_or(0, |program| program.0.id());
        let status = std::fs::read_to_string(format!("/proc/{process}/status")).unwrap_or_default();
        let line = status.lines().find(|line| line.starts_with("VmRSS")).unwrap_or_default();
        line.split_whitespace().nth(1).and_then(|text| text.parse::<f64>().ok()).unwrap_or(0.0) / 1000.0
    }

    /// The address of a page, with the token that lets a browser in.
    #[must_use]
    pub fn address(&self, path: &str) -> String {
        let sign = if path.contains('?') { '&' } else { '?' };
        format!("{}{sign}token={}", self.bare_address(path), self.token)
    }

    /// The address of a page for whoever was let in, or was not.
    #[must_use]
    pub fn bare_address(&self, path: &str) -> String {
        format!("http://localhost:{}{path}", self.port)
    }

    /// A client of its own that was let in, as a browser is.
    pub async fn signed_in(&self) -> Result<reqwest::Client> {
        let new = || reqwest::Client::builder().redirect(reqwest::redirect::Policy::none());
        let answer = new().build()?.get(self.address("/")).send().await?;
        let cookie = answer.headers().get("set-cookie").ok_or("no cookie was given")?.to_str()?.to_owned();
        let pair = cookie.split(';').next().unwrap_or_default();
        let headers = [(reqwest::header::COOKIE, pair.parse()?)].into_iter().collect();
        Ok(new().default_headers(headers).build()?)
    }
}

/// A command of Chromium's own protocol, which its driver passes on.
#[derive(Debug)]
struct Devtools(Value);

impl WebDriverCompatibleCommand for Devtools {
    fn endpoint(&self, base: &Url, session: Option<&str>) -> std::result::Result<Url, <Url as FromStr>::Err> {
        base.join(&format!("session/{}/goog/cdp/execute", session.unwrap_or_default()))
    }

    fn method_and_body(&self, _: &Url) -> (Method, Option<String>) {
        (Method::POST, Some(self.0.to_string()))
    }
}

/// A page in headless Chromium.
pub struct Page {
    /// The WebDriver client, for what the methods here do not do.
    pub client: Client,
    _driver: Program,
}

/// The `antistasis` binary beside this test.
pub fn binary() -> Result<PathBuf> {
    let test = std::env::current_exe()?;
    let directory = test.ancestors().nth(2).ok_or("no target directory")?;
    let binary = directory.join("antistasis");
    if binary.exists() { Ok(binary) } else { Err("build it first: cargo build -p antistasis".into()) }
}

impl Page {
    /// Opens a browser with a window of this size.
    pub async fn open(width: u32, height: u32) -> Result<Self> {
        let port = free_port()?;
        let driver = Command::new("chromedriver")
            .arg(format!("--port={port}"))
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .map_err(|error| {
                format!("chromedriver: {error}; install the Debian packages chromium and chromium-driver")
            })?;
        let driver = Program(driver);
        let address = format!("http://127.0.0.1:{port}");
        let deadline = Instant::now() + PATIENCE;
        while reqwest::get(format!("{address}/status")).await.is_err() {
            if Instant::now() > deadline {
                return Err("chromedriver does not answer".into());
            }
            tokio::time::sleep(Duration::from_millis(30)).await;
        }
        let arguments = [
            "--headless",
            "--no-sandbox",
            "--disable-gpu",
            "--disable-quic",
            "--no-first-run",
            "--disable-background-networking",
            "--disable-component-update",
            "--disable-sync",
            "--disable-dev-shm-usage",
            "--hide-scrollbars",
            &format!("--window-size={width},{height}"),
        ];
        // Where four browsers share two cores the accessibility rules take their time.
        let capabilities = json!({ "goog:chromeOptions": { "args": arguments }, "timeouts": { "script": 150_000 } });
        let Value::Object(capabilities) = capabilities else { unreachable!() };
        let client = ClientBuilder::new(HttpConnector::new()).capabilities(capabilities).connect(&address).await?;
        let page = Self { client, _driver: driver };
        page.fit_window(width, height).await?;
        Ok(page)
    }

    /// The window has borders even without a screen: makes the page itself this large.
    async fn fit_window(&self, width: u32, height: u32) -> Result<()> {
        let inner = self.script("return [outerWidth - innerWidth, outerHeight - innerHeight]").await?;
        let border = |k: usize| inner[k].as_u64().and_then(|value| u32::try_from(value).ok()).unwrap_or(0);
        self.client.set_window_size(width + border(0), height + border(1)).await?;
        Ok(())
    }

    /// Gives the page another size.
    pub async fn size(&self, width: u32, height: u32) -> Result<()> {
        self.devtools(
            "Emulation.setDeviceMetricsOverride",
            json!({ "width": width, "height": height, "deviceScaleFactor": 1, "mobile": false }),
        )
        .await
    }

    /// Shows the page as on this medium: `print`, or as on the screen for an empty word.
    pub async fn media(&self, medium: &str) -> Result<()> {
        self.devtools("Emulation.setEmulatedMedia", json!({ "media": medium })).await
    }

    /// Makes the processor this many times slower.
    pub async fn slow_down(&self, times: f64) -> Result<()> {
        self.devtools("Emulation.setCPUThrottlingRate", json!({ "rate": times })).await
    }

    /// A command of Chromium's own protocol.
    async fn devtools(&self, command: &str, parameters: Value) -> Result<()> {
        self.client.issue_cmd(Devtools(json!({ "cmd": command, "params": parameters }))).await?;
        Ok(())
    }

    /// Goes to an address.
    pub async fn go(&self, address: &str) -> Result<()> {
        self.client.goto(address).await?;
        Ok(())
    }

    /// The place of the predictive trial of a loop of the demo, with what else is asked for (`view=ahead&`), from a page of the application.
    pub async fn predictive_trial(&self, tag: &str, query: &str) -> Result<String> {
        let find = format!(
            "return (async () => {{
                const rows = await (await fetch('/api/v1/loops/{tag}/trials')).json();
                return rows.find((row) => row.label.startsWith('predictive')).id;
            }})()"
        );
        let row = self.script(&find).await?;
        Ok(format!("/loops/{tag}/control?{query}trial={}", row.as_str().ok_or("no predictive trial")?))
    }

    /// Runs a script and returns its value.
    pub async fn script(&self, text: &str) -> Result<Value> {
        Ok(self.client.execute(text, vec![]).await?)
    }

    /// Waits until a script returns true.
    pub async fn until(&self, what: &str, script: &str) -> Result<()> {
        let deadline = Instant::now() + PATIENCE;
        while self.script(script).await? != Value::Bool(true) {
            if Instant::now() > deadline {
                let text = self.script("return document.body.innerText").await?;
                return Err(format!("{what} did not come; the page says: {}", text.as_str().unwrap_or_default()).into());
            }
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
        Ok(())
    }

    /// Waits until the page shows a text.
    pub async fn shows(&self, text: &str) -> Result<()> {
        let wanted = Value::from(text);
        self.until(&format!("“{text}”"), &format!("return document.body.innerText.includes({wanted})")).await
    }

    /// Waits until all strips and plots are drawn and nothing moves any more.
    pub async fn drawn(&self) -> Result<()> {
        self.until(
            "a strip",
            "return document.querySelectorAll('canvas, section svg[role=img]').length > 0 && document.fonts.status === 'loaded'",
        )
        .await?;
        let settle = "const done = arguments[0]; requestAnimationFrame(() => requestAnimationFrame(() => done(true)))";
        self.client.execute_async(settle, vec![]).await?;
        Ok(())
    }

    /// Waits until nothing is on its way: neither a text nor a picture changes for a while.
    pub async fn settled(&self) -> Result<()> {
        let settle = "const done = arguments[0];
            let timer = setTimeout(end, 250);
            const last = setTimeout(end, 3000);
            const watcher = new MutationObserver(() => { clearTimeout(timer); timer = setTimeout(end, 250); });
            watcher.observe(document.body, { subtree: true, childList: true, characterData: true, attributes: true });
            function end() { clearTimeout(timer); clearTimeout(last); watcher.disconnect(); done(true); }";
        self.client.execute_async(settle, vec![]).await?;
        Ok(())
    }

    /// Clicks the first visible button, link or other clickable thing with this text.
    pub async fn click(&self, text: &str) -> Result<()> {
        let path = format!(
            "//*[self::button or self::a or self::summary or self::label[.//input[@type='checkbox']]][contains(normalize-space(.), \"{text}\")]"
        );
        self.found(&path, text).await?.click().await?;
        Ok(())
    }

    /// Clicks the button of a radio group with this label.
    pub async fn click_radio(&self, label: &str) -> Result<()> {
        let path = format!("//label[contains(normalize-space(.), \"{label}\")]//input[@type='radio']");
        self.found(&path, label).await?.click().await?;
        Ok(())
    }

    /// The element at a path, as soon as it is there; what it is called stands in the error.
    async fn found(&self, path: &str, name: &str) -> Result<Element> {
        let waited = self.client.wait().at_most(PATIENCE).for_element(Locator::XPath(path)).await;
        match waited {
            Ok(element) => Ok(element),
            Err(error) => {
                let text = self.script("return document.body.innerText").await?;
                Err(format!("“{name}” did not come ({error}); the page says: {}", text.as_str().unwrap_or_default())
                    .into())
            }
        }
    }

    /// Types into the entry with this label, in place of what stands there.
    pub async fn enter(&self, label: &str, text: &str) -> Result<()> {
        let entry = self.entry(label).await?;
        entry.click().await?;
        entry.send_keys(&format!("{}a{}", char::from(Key::Control), char::from(Key::Null))).await?;
        entry.send_keys(text).await?;
        Ok(())
    }

    /// Chooses an option, by its value, of the list with this label.
    pub async fn select(&self, label: &str, value: &str) -> Result<()> {
        let path =
            format!("//select[@aria-label='{label}' or ancestor::label[contains(normalize-space(.), '{label}')]]");
        let list = self.found(&path, label).await?;
        list.select_by_value(value).await?;
        Ok(())
    }

    /// Chooses what is called so in a list.
    pub async fn pick(&self, label: &str, title: &str) -> Result<()> {
        let path =
            format!("//select[@aria-label='{label}' or ancestor::label[contains(normalize-space(.), '{label}')]]");
        self.found(&path, label).await?.select_by_label(title).await?;
        Ok(())
    }

    /// The entry with this label.
    pub async fn entry(&self, label: &str) -> Result<Element> {
        let path = format!("//label[starts-with(normalize-space(.), \"{label}\")] | //input[@aria-label=\"{label}\"]");
        let found = self.found(&path, label).await?;
        if found.tag_name().await? == "input" {
            return Ok(found);
        }
        match found.attr("for").await? {
            Some(id) => Ok(self.client.find(Locator::Id(&id)).await?),
            None => Ok(found.find(Locator::Css("input, textarea")).await?),
        }
    }

    /// Presses a key on the page.
    pub async fn key(&self, key: &str) -> Result<()> {
        self.client.find(Locator::Css("body")).await?.send_keys(key).await?;
        Ok(())
    }

    /// Types where the focus is.
    pub async fn type_keys(&self, keys: &str) -> Result<()> {
        self.client.active_element().await?.send_keys(keys).await?;
        Ok(())
    }

    /// Presses Tab until the focus is on what is called this.
    pub async fn tab_to(&self, name: &str) -> Result<()> {
        let wanted = Value::from(name);
        let at = format!(
            "const at = document.activeElement;
             const words = [at.getAttribute('aria-label'), at.labels?.[0]?.innerText, at.innerText]
                 .find((text) => text?.trim());
             return words?.trim().startsWith({wanted}) ? true : words ?? at.tagName"
        );
        self.until(&format!("“{name}”"), &format!("return document.body.innerText.includes({wanted}) || document.querySelector(`[aria-label^={wanted}]`) !== null"))
            .await?;
        let mut passed = Vec::new();
        for _ in 0..150 {
            let now = self.script(&at).await?;
            if now == true {
                return Ok(());
            }
            passed.push(now);
            self.type_keys(&Key::Tab.to_string()).await?;
        }
        Err(format!("Tab does not come to “{name}”, only to {passed:?}").into())
    }

    /// Clicks the first element that a selector finds.
    pub async fn press(&self, selector: &str) -> Result<()> {
        let wait = self.client.wait().at_most(PATIENCE);
        wait.for_element(Locator::Css(selector)).await?.click().await?;
        Ok(())
    }

    /// Saves a picture of the page.
    pub async fn picture(&self, path: &Path) -> Result<()> {
        std::fs::write(path, self.client.screenshot().await?)?;
        Ok(())
    }

    /// From a trial at Control over a first proof to the dossier, in which these words must stand.
    pub async fn prove_and_hand_over(&self, tag: &str, words: &[&str]) -> Result<()> {
        self.script("document.activeElement.blur()").await?;
        self.type_keys("4").await?;
        self.shows("Not proven yet").await?;
        self.shows("look whether the limits are what the plant bears").await?;
        self.press("section [class*='button-main']").await?;
        let kept = format!(
            "return (async () => {{ const all = await (await fetch('/api/v1/loops/{tag}/proofs')).json(); return all.length === 1; }})()"
        );
        self.until("the proof", &kept).await?;
        self.shows("Table").await?;
        self.script("document.activeElement.blur()").await?;
        self.type_keys("5").await?;
        self.shows("What stands behind it").await?;
        self.click("Dossier").await?;
        for text in words {
            let on_page = format!(
                "return document.querySelector('iframe')?.contentDocument?.body?.textContent.includes({text:?}) ?? false"
            );
            self.until(text, &on_page).await?;
        }
        Ok(())
    }

    /// Ends the browser.
    pub async fn close(self) -> Result<()> {
        self.client.close().await?;
        Ok(())
    }
}
