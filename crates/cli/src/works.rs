//! The works of a server that runs: its areas and loops, made, changed, deleted, brought back, and as archives.

use crate::Failure;
use crate::files::print;
use crate::host::{DATABASES, TOKEN, data_directory};
use antistasis_server::Token;
use clap::{Args, Subcommand};
use reqwest::{Method, Response, StatusCode};
use serde_json::{Value, json};
use std::path::PathBuf;

#[derive(Debug, Args)]
pub(crate) struct WorksOptions {
    /// Address of the server, as a browser uses it.
    #[arg(long, global = true, env = "ANTISTASIS_SERVER", default_value = "http://127.0.0.1:8207")]
    server: String,
    /// Token of the server; the one in its data directory when left out.
    #[arg(long, global = true, env = "ANTISTASIS_TOKEN", hide_env_values = true)]
    token: Option<String>,
    /// Data directory of the server.
    #[arg(long, global = true)]
    data: Option<PathBuf>,
    #[command(subcommand)]
    job: Job,
}

#[derive(Debug, Subcommand)]
enum Job {
    /// Prints the areas and loops as JSON.
    List,
    /// Makes an area.
    AddArea(AreaOptions),
    /// Gives an area another name or other notes.
    ChangeArea {
        /// Its name now.
        area: String,
        /// Its new name.
        #[arg(long)]
        name: Option<String>,
        /// Its new notes.
        #[arg(long)]
        notes: Option<String>,
    },
    /// Makes a loop; its area is made too where there is none of that name.
    AddLoop {
        /// Tag of the loop.
        tag: String,
        #[command(flatten)]
        card: CardOptions,
    },
    /// Changes a loop; what is left out stays.
    ChangeLoop {
        /// Its tag now.
        tag: String,
        /// Its new tag.
        #[arg(long = "tag", value_name = "TAG")]
        new_tag: Option<String>,
        #[command(flatten)]
        card: CardOptions,
    },
    /// Puts a loop, or with --area an area and its loops, in the bin, from which it can be restored for 30 days.
    Delete {
        /// Tag of the loop, or name of the area.
        name: String,
        /// The name is that of an area.
        #[arg(long)]
        area: bool,
    },
    /// Prints what is in the bin as JSON.
    Bin,
    /// Brings back out of the bin.
    Restore {
        /// Its title in the bin, or the id where several have the same.
        name: String,
    },
    /// Writes a loop, or with --area an area, to an archive that another server can take in.
    Export {
        /// Tag of the loop, or name of the area.
        name: String,
        /// The name is that of an area.
        #[arg(long)]
        area: bool,
        /// The file; NAME.zip when left out.
        #[arg(long, short)]
        output: Option<PathBuf>,
    },
    /// Takes the loops of an archive in.
    Import {
        /// The archive.
        archive: PathBuf,
    },
}

#[derive(Debug, Args)]
struct AreaOptions {
    /// Its name.
    name: String,
    /// Notes on it.
    #[arg(long, default_value = "")]
    notes: String,
}

#[derive(Debug, Args)]
struct CardOptions {
    /// Name of its area.
    #[arg(long)]
    area: Option<String>,
    /// What the loop is.
    #[arg(long)]
    name: Option<String>,
    /// What is hard about it.
    #[arg(long)]
    difficulty: Option<String>,
    /// Notes.
    #[arg(long)]
    notes: Option<String>,
    /// Tag of the process variable; the tag of the loop with .PV behind it when left out.
    #[arg(long, value_name = "TAG")]
    pv_tag: Option<String>,
    /// Unit of the process variable.
    #[arg(long, value_name = "UNIT")]
    pv_unit: Option<String>,
    /// Span of the process variable: 0:150.
    #[arg(long, value_name = "LOW:HIGH", allow_hyphen_values = true)]
    pv_span: Option<String>,
    /// Tag of the controller output; the tag of the loop with .OP behind it when left out.
    #[arg(long, value_name = "TAG")]
    op_tag: Option<String>,
    /// Unit of the controller output.
    #[arg(long, value_name = "UNIT")]
    op_unit: Option<String>,
    /// Span of the controller output: 0:100.
    #[arg(long, value_name = "LOW:HIGH", allow_hyphen_values = true)]
    op_span: Option<String>,
}

impl CardOptions {
    /// Writes what was given over `card`.
    fn write(&self, card: &mut Value) -> Result<(), Failure> {
        for (field, given) in [("name", &self.name), ("difficulty", &self.difficulty), ("notes", &self.notes)] {
            set(&mut card[field], given.as_ref());
        }
        for (signal, tag, unit, span, option) in [
            ("pv", &self.pv_tag, &self.pv_unit, &self.pv_span, "--pv-span"),
            ("op", &self.op_tag, &self.op_unit, &self.op_span, "--op-span"),
        ] {
            set(&mut card[signal]["tag"], tag.as_ref());
            set(&mut card[signal]["span"]["unit"], unit.as_ref());
            if let Some(text) = span {
                let ends = text
                    .split_once(':')
                    .and_then(|(low, high)| Some((low.trim().parse::<f64>().ok()?, high.trim().parse::<f64>().ok()?)));
                let (low, high) = ends.ok_or_else(|| {
                    Failure::new(format!("The {option} is “{text}”: it must be two numbers with a colon, as in 0:150."))
                })?;
                card[signal]["span"]["low"] = json!(low);
                card[signal]["span"]["high"] = json!(high);
            }
        }
        Ok(())
    }
}

fn set(place: &mut Value, given: Option<&String>) {
    if let Some(text) = given {
        *place = json!(text);
    }
}

pub(crate) fn works(options: WorksOptions) -> Result<(), Failure> {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().map_err(Failure::new)?;
    runtime.block_on(async {
        let server = Server::of(&options).await?;
        server.perform(options.job).await
    })
}

struct Server {
    address: String,
    client: reqwest::Client,
    token: Option<String>,
}

impl Server {
    /// The server with the token that was given, or with that of the data directory that it takes.
    async fn of(options: &WorksOptions) -> Result<Self, Failure> {
        let address = options.server.trim_end_matches('/').to_owned();
        let with = |token| Self { address: address.clone(), client: reqwest::Client::new(), token };
        if let Some(token) = &options.token {
            return Ok(with(Some(token.trim().to_owned())));
        }
        let directory = data_directory(options.data.as_deref())?;
        let mut unread = None;
        // The token of a server of this machine is shown to no other.
        let is_here = reqwest::Url::parse(&address)
            .is_ok_and(|url| matches!(url.host_str(), Some("localhost" | "127.0.0.1" | "[::1]")));
        let known: &[&str] = if is_here { &DATABASES } else { &[] };
        for path in known.iter().map(|name| directory.join(name).join(TOKEN)) {
            match Token::read(&path) {
                Ok(Some(token)) => {
                    let server = with(Some(token.text().to_owned()));
                    let answer = server.request(Method::GET, "/areas").send().await;
                    if answer.is_ok_and(|answer| answer.status() != StatusCode::UNAUTHORIZED) {
                        return Ok(server);
                    }
                }
                Ok(None) => {}
                Err(error) if error.kind() == std::io::ErrorKind::NotFound => {}
                Err(error) => unread = Some(Failure::of(&path, error)),
            }
        }
        // It may be an open one.
        let server = with(None);
        let answer = server.request(Method::GET, "/areas").send().await;
        if answer.is_ok_and(|answer| answer.status() == StatusCode::UNAUTHORIZED) {
            return Err(unread.unwrap_or_else(|| {
                Failure(format!(
                    "{address} asks for its token: give the data directory of the server with --data, or the token with --token (it \
                     stands in the address that the server printed)"
                ))
            }));
        }
        Ok(server)
    }

    async fn perform(&self, job: Job) -> Result<(), Failure> {
        match job {
            Job::List => {
                let (areas, loops) = (self.get("/areas").await?, self.get("/loops").await?);
                print(&json!({ "areas": areas, "loops": loops }))
            }
            Job::AddArea(AreaOptions { name, notes }) => {
                print(&self.send(Method::POST, "/areas", &json!({ "name": name, "notes": notes })).await?)
            }
            Job::ChangeArea { area, name, notes } => {
                let before = self.area(&area).await?;
                let mut body = json!({ "name": before["name"], "notes": before["notes"] });
                set(&mut body["name"], name.as_ref());
                set(&mut body["notes"], notes.as_ref());
                print(&self.replace(&format!("/areas/{}", text(&before["id"])), &before, &body).await?)
            }
            Job::AddLoop { tag, card } => {
                let area = card.area.clone().ok_or_else(|| Failure::new("Give the area of the loop with --area."))?;
                let signal = |role: &str, unit: &str| json!({ "tag": format!("{tag}.{role}"), "span": { "low": 0.0, "high": 100.0, "unit": unit } });
                let mut body = json!({
                    "tag": tag, "name": "", "difficulty": "", "notes": "",
                    "pv": signal("PV", ""), "op": signal("OP", "%"),
                });
                card.write(&mut body)?;
                let guessed = card.pv_span.is_none();
                let body = json!({ "area": area, "card": body, "span_is_guess": guessed });
                print(&self.send(Method::POST, "/loops", &body).await?)
            }
            Job::ChangeLoop { tag, new_tag, card } => {
                let place = format!("/loops/{tag}");
                let before = self.get(&place).await?;
                let fields = ["tag", "name", "difficulty", "notes", "pv", "op"];
                let mut changed: Value =
                    fields.iter().map(|field| ((*field).to_owned(), before[*field].clone())).collect();
                card.write(&mut changed)?;
                set(&mut changed["tag"], new_tag.as_ref());
                let area = card.area.as_deref().unwrap_or_else(|| text(&before["area"]));
                let body = json!({ "area": area, "card": changed });
                print(&self.replace(&place, &before, &body).await?)
            }
            Job::Delete { name, area } => {
                print(&json_of(self.request(Method::DELETE, &self.place(&name, area).await?).send().await).await?)
            }
            Job::Bin => print(&self.get("/bin").await?),
            Job::Restore { name } => {
                let bin = self.get("/bin").await?;
                let items = bin.as_array().map(Vec::as_slice).unwrap_or_default();
                let same: Vec<&Value> = items
                    .iter()
                    .filter(|item| {
                        let title = text(&item["title"]);
                        item["id"] == name.as_str() || title == name || title.ends_with(&format!(" {name}"))
                    })
                    .collect();
                match same[..] {
                    [item] => print(
                        &json_of(
                            self.request(Method::POST, &format!("/bin/{}/restore", text(&item["id"]))).send().await,
                        )
                        .await?,
                    ),
                    [] => Err(Failure::new(format!("There is no “{name}” in the bin."))),
                    _ => Err(Failure::new(format!(
                        "There are {} of the name “{name}” in the bin: give the id of one.",
                        same.len()
                    ))),
                }
            }
            Job::Export { name, area, output } => {
                let place = format!("{}/archive", self.place(&name, area).await?);
                let response = checked(self.request(Method::GET, &place).send().await).await?;
                let bytes = response.bytes().await.map_err(Failure::new)?;
                let path = output.unwrap_or_else(|| PathBuf::from(format!("{}.zip", name.replace(['/', '\\'], "-"))));
                std::fs::write(&path, &bytes).map_err(|error| Failure::of(&path, error))?;
                print(&json!({ "file": path, "bytes": bytes.len() }))
            }
            Job::Import { archive } => {
                let bytes = std::fs::read(&archive).map_err(|error| Failure::of(&archive, error))?;
                let request =
                    self.request(Method::POST, "/archives").header("Content-Type", "application/zip").body(bytes);
                print(&json_of(request.send().await).await?)
            }
        }
    }

    /// The path of a loop, or of the area of this name.
    async fn place(&self, name: &str, is_area: bool) -> Result<String, Failure> {
        Ok(if is_area { format!("/areas/{}", text(&self.area(name).await?["id"])) } else { format!("/loops/{name}") })
    }

    async fn area(&self, name: &str) -> Result<Value, Failure> {
        let areas = self.get("/areas").await?;
        let areas = areas.as_array().map(Vec::as_slice).unwrap_or_default();
        let found = areas.iter().find(|area| area["name"] == name);
        found.cloned().ok_or_else(|| {
            let names: Vec<&str> = areas.iter().map(|area| text(&area["name"])).collect();
            Failure::new(format!("There is no area “{name}”; there are {}.", names.join(", ")))
        })
    }

    fn request(&self, method: Method, path: &str) -> reqwest::RequestBuilder {
        let request = self.client.request(method, format!("{}/api/v1{path}", self.address));
        match &self.token {
            Some(token) => request.bearer_auth(token),
            None => request,
        }
    }

    async fn get(&self, path: &str) -> Result<Value, Failure> {
        json_of(self.request(Method::GET, path).send().await).await
    }

    async fn send(&self, method: Method, path: &str, body: &Value) -> Result<Value, Failure> {
        json_of(self.request(method, path).json(body).send().await).await
    }

    /// Puts `body` in place of the document `before`, unless somebody else has changed it since.
    async fn replace(&self, path: &str, before: &Value, body: &Value) -> Result<Value, Failure> {
        let tag = format!("\"{}\"", before["revision"]);
        json_of(self.request(Method::PUT, path).header("If-Match", tag).json(body).send().await).await
    }
}

fn text(value: &Value) -> &str {
    value.as_str().unwrap_or_default()
}

/// The response, unless the server refused or is not there.
async fn checked(response: reqwest::Result<Response>) -> Result<Response, Failure> {
    let response = response.map_err(|error| {
        let address = error.url().map(|url| url.origin().ascii_serialization()).unwrap_or_default();
        if error.is_builder() {
            return Failure::new(format!("--server is no address: {error}"));
        }
        Failure::new(format!("No server answers at {address}: start one with `antistasis serve`, or give --server."))
    })?;
    if response.status().is_success() {
        return Ok(response);
    }
    let status = response.status();
    let problem: Value = response.json().await.unwrap_or_default();
    Err(Failure::new(
        problem["detail"].as_str().map_or_else(|| format!("The server answered {status}."), str::to_owned),
    ))
}

/// The document of a response; nothing where there is none.
async fn json_of(response: reqwest::Result<Response>) -> Result<Value, Failure> {
    let bytes = checked(response).await?.bytes().await.map_err(Failure::new)?;
    if bytes.is_empty() { Ok(Value::Null) } else { serde_json::from_slice(&bytes).map_err(Failure::new) }
}
