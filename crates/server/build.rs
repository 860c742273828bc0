//! Makes sure that there is a front end to embed, if only a page that says how to build it, and gathers the licences of all crates
//! that the program is made of.

use serde_json::Value;
use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::Path;
use std::process::Command;

const NOT_BUILT: &str =
    "<!doctype html><title>Antistasis</title><p>The front end is not built: run <code>./run build</code>.";

/// The crate whose program is built.
const PROGRAM: &str = "antistasis";

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let here = Path::new(env!("CARGO_MANIFEST_DIR"));
    let built = here.join("../../web/dist");
    println!("cargo:rerun-if-changed={}", built.display());
    println!("cargo:rerun-if-changed={}", here.join("../../Cargo.lock").display());
    println!("cargo:rerun-if-changed=build.rs");
    let index = built.join("index.html");
    if !index.exists() {
        fs::create_dir_all(&built)?;
        fs::write(&index, NOT_BUILT)?;
    }
    let target = Path::new(&std::env::var("OUT_DIR")?).join("licences.txt");
    fs::write(target, licences(&here.join("../cli/Cargo.toml"))?)?;
    Ok(())
}

/// Crates by the text of their licences: most share one.
fn licences(manifest: &Path) -> Result<String, Box<dyn std::error::Error>> {
    let output = Command::new(std::env::var("CARGO")?)
        .args(["metadata", "--format-version", "1", "--locked"])
        .args(["--filter-platform", &std::env::var("TARGET")?, "--manifest-path"])
        .arg(manifest)
        .output()?;
    if !output.status.success() {
        return Err(String::from_utf8_lossy(&output.stderr).into_owned().into());
    }
    let metadata: Value = serde_json::from_slice(&output.stdout)?;
    let list = |value: &Value| value.as_array().cloned().unwrap_or_default();
    let text = |value: &Value| value.as_str().unwrap_or_default().to_owned();
    let packages: BTreeMap<String, Value> =
        list(&metadata["packages"]).into_iter().map(|package| (text(&package["id"]), package)).collect();
    let needs: BTreeMap<String, Vec<String>> = list(&metadata["resolve"]["nodes"])
        .iter()
        .map(|node| {
            let in_binary =
                |dependency: &Value| list(&dependency["dep_kinds"]).iter().any(|kind| kind["kind"].is_null());
            let own = list(&node["deps"]).iter().filter(|one| in_binary(one)).map(|one| text(&one["pkg"])).collect();
            (text(&node["id"]), own)
        })
        .collect();
    let mut open: Vec<String> =
        packages.iter().filter(|(_, package)| package["name"] == PROGRAM).map(|(id, _)| id.clone()).collect();
    let mut reached = BTreeSet::new();
    while let Some(id) = open.pop() {
        if reached.insert(id.clone()) {
            open.extend(needs.get(&id).into_iter().flatten().cloned());
        }
    }
    let mut by_text: BTreeMap<String, Vec<String>> = BTreeMap::new();
    let crates = reached.iter().filter_map(|id| packages.get(id)).filter(|package| !package["source"].is_null());
    for package in crates {
        let title = format!("{} {}: {}", text(&package["name"]), text(&package["version"]), text(&package["license"]));
        let directory = text(&package["manifest_path"]);
        let texts = Path::new(&directory).parent().map(texts_in).unwrap_or_default();
        by_text.entry(texts).or_default().push(title);
    }
    let line = "-".repeat(80);
    Ok(by_text.iter().map(|(texts, titles)| format!("{}\n\n{texts}\n{line}\n\n", titles.join("\n"))).collect())
}

/// The texts of licences that a crate comes with.
fn texts_in(directory: &Path) -> String {
    let mut files: Vec<_> = fs::read_dir(directory).into_iter().flatten().flatten().map(|entry| entry.path()).collect();
    files.sort();
    let is_licence = |path: &Path| {
        let name = path.file_name().unwrap_or_default().to_string_lossy().to_lowercase();
        path.is_file() && ["license", "licence", "copying", "notice"].iter().any(|start| name.starts_with(start))
    };
    let texts = files.iter().filter(|path| is_licence(path)).filter_map(|path| fs::read(path).ok());
    texts.map(|bytes| format!("{}\n\n", String::from_utf8_lossy(&bytes).trim())).collect()
}
