//! The command as its user meets it: files in, JSON and exit status out.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use serde_json::Value;
use std::path::{Path, PathBuf};
use std::process::{Command, Output};
use tempfile::TempDir;

fn antistasis(arguments: &[&str]) -> Output {
    Command::new(env!("CARGO_BIN_EXE_antistasis")).args(arguments).current_dir(project()).output().unwrap()
}

fn project() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..")
}

fn printed(output: &Output) -> Value {
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    serde_json::from_slice(&output.stdout).unwrap()
}

/// Exit status 2 and one line on standard error.
fn refusal(arguments: &[&str]) -> String {
    let output = antistasis(arguments);
    let text = String::from_utf8(output.stderr).unwrap();
    assert_eq!((output.status.code(), text.lines().count()), (Some(2), 1), "{arguments:?}: {text}");
    assert!(output.stdout.is_empty());
    text
}

#[test]
fn identify_tune_simulate_one_after_the_other() {
    let directory = TempDir::new().unwrap();
    let path = |name: &str| directory.path().join(name).to_string_lossy().into_owned();
    // The demo's step test as a CSV file, made by `simulate` from a trial in manual.
    antistasis(&["simulate", "demo/trials/TIC-204-step-test.json", "--csv", &path("record.csv")]);
    let columns = ["--time", "time", "--input", "TIC-204.OP", "--output", "TIC-204.PV"];
    let record = path("record.csv");
    let identify: Vec<&str> =
        ["identify", &record].into_iter().chain(columns).chain(["--structure", "fopdt"]).collect();
    let model = printed(&antistasis(&identify));
    assert_eq!(model["structure"], "fopdt");
    // The demo plant's own parameters: within four standard errors.
    for (name, truth) in [("gain", 0.85), ("time_constant", 95.0), ("dead_time", 34.6)] {
        let estimate = &model["parameters"][name];
        let error = estimate["standard_error"].as_f64().unwrap();
        assert!((estimate["value"].as_f64().unwrap() - truth).abs() < 4.0 * error, "{name}: {estimate}");
    }
    assert!(model["fit_percent"].as_f64().unwrap() > 90.0);
    std::fs::write(path("model.json"), model.to_string()).unwrap();

    let model_file = path("model.json");
    let tuning = printed(&antistasis(&["tune", "--model", &model_file, "--rule", "simc", "--pv-span", "0:150"]));
    let value = |name: &str| model["parameters"][name]["value"].as_f64().unwrap();
    let by_hand = value("time_constant") / (value("gain") * 2.0 * value("dead_time")) * 1.5;
    assert!((tuning["controller"]["gain"].as_f64().unwrap() / by_hand - 1.0).abs() < 1e-9);

    let mut trial: Value =
        serde_json::from_slice(&std::fs::read(project().join("demo/trials/TIC-204-closed-loop.json")).unwrap())
            .unwrap();
    trial["candidate"]["controller"]["gain"] = tuning["controller"]["gain"].clone();
    std::fs::write(path("trial.json"), trial.to_string()).unwrap();
    let assessment = printed(&antistasis(&["simulate", &path("trial.json"), "--csv", &path("trace.csv")]));
    assert_eq!(assessment["margins"]["stable"], true);
    let trace = std::fs::read_to_string(path("trace.csv")).unwrap();
    assert_eq!(trace.lines().next(), Some("time [s],TIC-204.SP [°C],TIC-204.PV [°C],TIC-204.OP [%],load [%]"));
    assert_eq!(trace.lines().count(), 752);
}

#[test]
fn schemas_describe_the_documents() {
    let schema = printed(&antistasis(&["schema", "trial"]));
    assert_eq!(schema["$schema"], "https://json-schema.org/draft/2020-12/schema");
    let text = schema.to_string();
    assert!(!text.contains("#/components/"), "every reference leads to a definition");
    let references = text.split("\"#/$defs/").skip(1).map(|rest| rest.split('"').next().unwrap());
    for name in references {
        assert!(schema["$defs"][name].is_object(), "{name}");
    }
    assert!(printed(&antistasis(&["schema", "model"]))["properties"]["parameters"].is_object());
    assert_eq!(printed(&antistasis(&["openapi"]))["info"]["title"], "Antistasis");
}

#[test]
fn bad_input_is_told_in_one_line() {
    let directory = TempDir::new().unwrap();
    let file = |name: &str, content: &str| {
        let path = directory.path().join(name);
        std::fs::write(&path, content).unwrap();
        path.to_string_lossy().into_owned()
    };
    assert!(refusal(&["identify", "nowhere.csv", "--input", "u", "--output", "y"]).contains("nowhere.csv"));
    let flat = file("flat.csv", &(0..30).fold("t,u,y\n".to_owned(), |text, k| format!("{text}{k},5,{k}\n")));
    let columns = ["--time", "t", "--input", "u", "--output", "y"];
    let words: Vec<&str> = ["identify", &flat].into_iter().chain(columns).collect();
    assert!(refusal(&words).contains("the OP never moves, it stands at 5"));
    assert!(refusal(&["identify", &flat, "--input", "x", "--output", "y"]).contains("its columns are t, u, y"));
    let model = file("model.json", "{\"structure\": \"fopdt\"}");
    assert!(refusal(&["tune", "--model", &model]).contains("parameters"));
    let trial = file("trial.json", "{\"version\": 1,");
    assert!(refusal(&["simulate", &trial]).contains("trial.json"));
    assert!(refusal(&["tune", "--model", &model, "--rule", "guess"]).contains("simc"));
    assert!(refusal(&["schema", "dream"]).contains("trial"));
    assert!(refusal(&["identify"]).contains("RECORD"));
}
