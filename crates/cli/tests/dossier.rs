//! The dossier of a loop out of an archive, as it was written when dossiers were new.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use serde_json::{Value, json};
use std::path::{Path, PathBuf};
use std::process::{Command, Output};
use tempfile::TempDir;

fn archive() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/archives/TIC-204.zip")
}

fn run(directory: &TempDir, words: &[&str]) -> Output {
    let mut command = Command::new(env!("CARGO_BIN_EXE_antistasis"));
    command.arg("dossier").arg(archive()).args(words).current_dir(directory.path()).output().unwrap()
}

fn done(directory: &TempDir, words: &[&str]) -> Output {
    let output = run(directory, words);
    assert!(output.status.success(), "{words:?}: {}", String::from_utf8_lossy(&output.stderr));
    output
}

fn refused(directory: &TempDir, words: &[&str]) -> String {
    let output = run(directory, words);
    let text = String::from_utf8(output.stderr).unwrap();
    assert!(output.status.code() == Some(2) && text.lines().count() == 1, "{words:?}: {text}");
    text
}

#[test]
fn an_archive_gives_its_dossier_in_every_form() {
    let directory = TempDir::new().unwrap();
    let file = |name: &str| std::fs::read(directory.path().join(name)).unwrap();
    done(&directory, &["--out", "a.html"]);
    done(&directory, &["--form", "pdf", "--out", "a.pdf"]);
    done(&directory, &["--form", "pdf", "--out", "b.pdf"]);
    done(&directory, &["--form", "json", "--out", "a.json"]);
    assert_eq!(file("a.pdf"), file("b.pdf"), "the same documents give the same bytes");
    let document: Value = serde_json::from_slice(&file("a.json")).unwrap();
    let titles: Vec<&str> =
        document["sections"].as_array().unwrap().iter().map(|section| section["title"].as_str().unwrap()).collect();
    assert_eq!(titles[..2], ["In short", "Settings to type in"]);
    // The settings are those of the trial in the archive: SIMC for gain 0.88 %/%, time constant 97.4 s, dead time 35 s.
    let settings = document["sections"][1]["blocks"][1]["rows"].as_array().unwrap();
    let value = |name: &str| {
        let row = settings.iter().find(|row| row["name"] == name).unwrap();
        row["value"].as_str().unwrap().split(' ').next().unwrap().parse::<f64>().unwrap()
    };
    let span_ratio = 150.0 / 100.0;
    assert!((value("Gain") - span_ratio * 97.4 / (0.88 * 70.0)).abs() < 0.01, "{settings:?}");
    assert!((value("Integral time") - 97.4).abs() < 0.05, "{settings:?}");
    let page = String::from_utf8(file("a.html")).unwrap();
    assert!(page.starts_with("<!DOCTYPE html>") && page.contains("2.37 %/%") && !page.contains("<script"), "{page}");
}

/// What an outside checker (html-validate, after the HTML standard and WCAG) says of a page; whether it lets it pass.
fn checked(page: &Path) -> (bool, String) {
    let checker =
        Path::new(env!("CARGO_MANIFEST_DIR")).join("../../web/node_modules/html-validate/bin/html-validate.mjs");
    let output =
        Command::new("node").arg(checker).args(["--preset", "standard,a11y,document"]).arg(page).output().unwrap();
    (output.status.success(), String::from_utf8_lossy(&output.stdout).into_owned())
}

#[test]
fn the_page_is_html_as_the_standard_has_it() {
    let directory = TempDir::new().unwrap();
    done(&directory, &["--out", "page.html"]);
    let page = directory.path().join("page.html");
    let (passes, said) = checked(&page);
    assert!(passes, "{said}");
    // One end tag less, and it would not.
    let broken = std::fs::read_to_string(&page).unwrap().replacen("</table>", "", 1);
    std::fs::write(&page, broken).unwrap();
    let (passes, said) = checked(&page);
    assert!(!passes && said.contains("close-order"), "{said}");
}

#[test]
fn what_is_to_be_in_it_can_be_changed() {
    let directory = TempDir::new().unwrap();
    let proposed: Value = serde_json::from_slice(&done(&directory, &["--propose"]).stdout).unwrap();
    assert_eq!((&proposed["trial"], &proposed["proof"]), (&json!(6), &json!(1)));
    let with = |change: &dyn Fn(&mut Value)| {
        let mut spec = proposed.clone();
        change(&mut spec);
        std::fs::write(directory.path().join("spec.json"), spec.to_string()).unwrap();
    };
    with(&|spec| {
        spec["parts"] = json!(["instructions"]);
        spec["instructions"] = json!(["Ring the bell."]);
    });
    done(&directory, &["--spec", "spec.json", "--out", "a.html"]);
    let page = std::fs::read_to_string(directory.path().join("a.html")).unwrap();
    assert!(page.contains("<li>Ring the bell.</li>") && !page.contains("Settings to type in"), "{page}");
    let refusal = |change: &dyn Fn(&mut Value)| {
        with(change);
        refused(&directory, &["--spec", "spec.json", "--out", "b.html"])
    };
    assert!(refusal(&|spec| spec["trial"] = json!(9)).contains("There is no trial I in TIC-204"));
    assert!(refusal(&|spec| spec["proof"] = json!(9)).contains("There is no proof 9 in TIC-204"));
    assert!(refusal(&|spec| spec["parts"] = json!([])).contains("parts"));
    assert!(refusal(&|spec| spec["digits"] = json!(12)).contains("digits"));
    assert!(refusal(&|spec| spec["parts"] = json!(["prof"])).contains("unknown variant `prof`"));
    assert!(refused(&directory, &["--loop", "XIC-9", "--out", "b.html"]).contains("there is no XIC-9"));
    assert!(refused(&directory, &["--out", "none/b.html"]).contains("none/b.html"));
    assert!(refused(&directory, &["--form", "pdf"]).contains("--out"));
    assert!(!directory.path().join("b.html").exists(), "what was refused wrote nothing");
}
