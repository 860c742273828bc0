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
    assert_eq!(model["structure"]["kind"], "fopdt");
    let parameter = |name: &str| {
        let all = model["parameters"].as_array().unwrap();
        all.iter().find(|parameter| parameter["name"] == name).unwrap().clone()
    };
    // The plant is a heater with a valve and a pipe: what was measured is what its linearisation comes nearest to.
    let analysis = printed(&antistasis(&["analyse", "demo/trials/TIC-204-step-test.json"]));
    let nearest = &analysis["channel"]["nearest"];
    assert!(nearest["largest_error"].as_f64().unwrap() < 4.0 && analysis["at_rest"] == true);
    for name in ["gain", "time_constant", "dead_time"] {
        let truth = nearest["process"][name].as_f64().unwrap();
        let estimate = parameter(name)["value"].as_f64().unwrap();
        assert!((estimate / truth - 1.0).abs() < 0.05, "{name}: {estimate} is not {truth}");
    }
    assert!(model["estimation"]["fit_simulated"].as_f64().unwrap() > 90.0);
    // Halves by default: the second was not seen by the fit.
    assert!(model["validation"]["performance"]["fit_simulated"].as_f64().unwrap() > 90.0);
    assert_eq!((&model["window"][1], &model["validation_window"][0]), (&2728.0.into(), &2730.0.into()));
    std::fs::write(path("model.json"), model.to_string()).unwrap();

    let model_file = path("model.json");
    let tuning = printed(&antistasis(&["tune", "--model", &model_file, "--rule", "simc", "--pv-span", "0:150"]));
    let value = |name: &str| parameter(name)["value"].as_f64().unwrap();
    let by_hand = value("time_constant") / (value("gain") * 2.0 * value("dead_time")) * 1.5;
    assert!((tuning["controller"]["gain"].as_f64().unwrap() / by_hand - 1.0).abs() < 1e-9);

    let words = ["tune", "--model", &model_file, "--pv-span", "0:150", "--minimise", "load-iae"];
    let best =
        printed(&antistasis(&[&words[..], &["--max-sensitivity", "1.6", "--demands", "travel below 2"]].concat()));
    assert_eq!((best["met"].as_bool(), best["structure"].as_str()), (Some(true), Some("pi")));
    assert!(best["figures"]["max_sensitivity"].as_f64().unwrap() < 1.6 * 1.005);
    assert!(best["derivation"].as_array().unwrap().len() > 4);

    let mut trial: Value =
        serde_json::from_slice(&std::fs::read(project().join("demo/trials/TIC-204-closed-loop.json")).unwrap())
            .unwrap();
    trial["candidate"]["controller"]["gain"] = tuning["controller"]["gain"].clone();
    std::fs::write(path("trial.json"), trial.to_string()).unwrap();
    let assessment = printed(&antistasis(&["simulate", &path("trial.json"), "--csv", &path("trace.csv")]));
    assert_eq!(assessment["margins"]["stable"], true);
    // What is claimed for a trial is what its loop has, with the filters of sensor and controller.
    trial["plant"]["sensor"] = serde_json::json!({ "filter": 12.0, "time_constant": 4.0 });
    trial["candidate"]["controller"]["filter_time"] = 8.0.into();
    std::fs::write(path("filtered.json"), trial.to_string()).unwrap();
    let best = printed(&antistasis(&[
        "tune",
        "--trial",
        &path("filtered.json"),
        "--minimise",
        "load-iae",
        "--max-sensitivity",
        "1.5",
    ]));
    assert_eq!(best["controller"]["filter_time"], 8.0);
    trial["candidate"]["controller"] = best["controller"].clone();
    std::fs::write(path("tuned.json"), trial.to_string()).unwrap();
    let tuned = printed(&antistasis(&["simulate", &path("tuned.json")]));
    let (claimed, simulated) = (&best["figures"]["max_sensitivity"], &tuned["margins"]["max_sensitivity"]);
    assert!((claimed.as_f64().unwrap() / simulated.as_f64().unwrap() - 1.0).abs() < 0.05, "{claimed} {simulated}");

    let trace = std::fs::read_to_string(path("trace.csv")).unwrap();
    assert!(trace.starts_with("time [s],TIC-204.SP [°C],TIC-204.PV [°C],TIC-204.OP [%],load [%],"));
    assert_eq!(trace.lines().count(), 752);
}

#[test]
fn experiments_are_planned_run_inspected_and_identified() {
    let directory = TempDir::new().unwrap();
    let path = |name: &str| directory.path().join(name).to_string_lossy().into_owned();
    let spec = serde_json::json!({
        "process": { "structure": "fopdt", "gain": 0.8, "time_constant": 90.0, "dead_time": 30.0 },
        "noise": 0.15, "operating_point": { "pv": 76.0, "op": 42.0 }, "pv_range": [68.0, 84.0], "op_range": [20.0, 70.0],
        "sample_time": 2.0, "duration": 5400.0, "signal": { "kind": "generalised_binary_noise" }, "pv_unit": "°C",
    });
    std::fs::write(path("spec.json"), spec.to_string()).unwrap();
    let (file, record) = (path("spec.json"), path("record.parquet"));
    let plan =
        printed(&antistasis(&["experiment", &file, "--out", &record, "--run", "demo/trials/TIC-204-step-test.json"]));
    assert_eq!(plan["op"].as_array().unwrap().len(), 2701);
    let expected = plan["expected"].as_array().unwrap();
    let inspection = printed(&antistasis(&["inspect", &record, "--pv-span", "0:150"]));
    assert!(
        inspection["findings"].as_array().unwrap().iter().all(|finding| finding["verdict"]["tone"] == "good"),
        "{inspection}"
    );
    for structure in ["two-lags", "arx:2,2,18", "oe:2,1,17", "bj:2,1,1,1,17", "armax:1,2,1,17", "ss:3"] {
        let model = printed(&antistasis(&["identify", &record, "--structure", structure, "--validate", "half"]));
        let found = model["validation"]["performance"]["fit_simulated"].as_f64().unwrap();
        assert!(found > 85.0, "{structure}: {found}");
    }
    let model = printed(&antistasis(&["identify", &record, "--validate", "none", "--known", "gain=0.7:0.9"]));
    for (parameter, truth) in model["parameters"].as_array().unwrap().iter().zip([0.88, 97.0, 36.0]) {
        let error = parameter["standard_error"].as_f64().unwrap();
        assert!((parameter["value"].as_f64().unwrap() / truth - 1.0).abs() < 0.06, "{parameter}");
        // What the plan promised, within what rough knowledge allows.
        let promised = expected.iter().find(|known| known["name"] == parameter["name"]).unwrap()["standard_error"]
            .as_f64()
            .unwrap();
        assert!((0.6..1.7).contains(&(error / promised)), "{parameter}: promised {promised}");
    }
    // The same record cut in two knows as much as it did whole; given twice, more than it can.
    let error = |model: &Value| model["parameters"][0]["white_error"].as_f64().unwrap();
    let parts = ["identify", &record, "--validate", "none", "--to", "2700", "--also", "2702:5400"];
    let in_parts = printed(&antistasis(&parts));
    assert_eq!(in_parts["further"].as_array().unwrap().len(), 1);
    assert!((0.9..1.3).contains(&(error(&in_parts) / error(&model))), "{} {}", error(&in_parts), error(&model));
    let twice = printed(&antistasis(&["identify", &record, "--validate", "none", "--with", &record]));
    assert!((error(&model) / error(&twice) / 2.0f64.sqrt() - 1.0).abs() < 0.05);
    assert!(refusal(&["identify", &record, "--also", "soon"]).contains("--also is soon: it must be FROM:TO in s"));
    assert!(refusal(&["identify", &record, "--with", "nowhere.csv"]).contains("nowhere.csv"));
    let csv = path("plan.csv");
    printed(&antistasis(&["experiment", &file, "--out", &csv]));
    assert!(std::fs::read_to_string(csv).unwrap().starts_with("time [s],OP [%],PV [°C]\n0,42,76\n"));
}

#[test]
fn the_documents_of_the_demo_run_with_balances_and_are_swept() {
    let directory = TempDir::new().unwrap();
    let file = directory.path().join("trace.xlsx").to_string_lossy().into_owned();
    for name in ["TIC-310-fouling", "LIC-110-averaging"] {
        let document = format!("demo/trials/{name}.json");
        let done = printed(&antistasis(&["simulate", &document, "--balances", "--out", &file]));
        assert!(done["margins"]["stable"] == true && done.get("stopped").is_none(), "{name}: {done}");
        for balance in done["balances"].as_array().unwrap() {
            assert!(balance["closure"].as_f64().unwrap() < 1e-6, "{name}: {balance}");
        }
        assert!(std::fs::metadata(&file).unwrap().len() > 10_000);
    }
    let over = "/plant/process/parameters/transfer=100000:500000:5";
    let swept = printed(&antistasis(&["sweep", "demo/trials/TIC-310-fouling.json", "--over", over]));
    let points = swept.as_array().unwrap();
    let op_travel = |k: usize| points[k]["outcome"]["metrics"]["output_travel"].as_f64();
    assert!(points.len() == 5 && points[2]["values"][0] == 300_000.0);
    // The cooler wall needs less of the valve for the same heat; the dirtiest cannot hold the temperature at all.
    assert!(op_travel(4) < op_travel(2) && points[0]["refusal"].as_str().unwrap().contains("operating point"));
    let refused = refusal(&["sweep", "demo/trials/TIC-310-fouling.json", "--over", "/plant/process=1:2"]);
    assert!(refused.contains("--over is /plant/process=1:2: it must be POINTER=FROM:TO:COUNT"));
}

/// Every document that a command prints, held against the schema that the command itself gives for it, by a validator
/// that knows nothing of this program.
#[test]
fn what_is_printed_is_as_its_schema_says() {
    let directory = TempDir::new().unwrap();
    let path = |name: &str| directory.path().join(name).to_string_lossy().into_owned();
    let (step, heater) = ("demo/trials/TIC-204-step-test.json", "demo/trials/TIC-204-closed-loop.json");
    let record = path("record.csv");
    antistasis(&["simulate", step, "--csv", &record]);
    let identify = ["identify", &record, "--structure", "fopdt"];
    std::fs::write(path("model.json"), printed(&antistasis(&identify)).to_string()).unwrap();
    let model = path("model.json");
    let over = "/candidate/controller/gain=1:2:2";
    let physical = ["identify", &record, "--structure", "physical", "--process", "stirred_heater", "--beginnings", "1"];
    let maps = ["--map", "power=TIC-204.OP:0:600", "--map", "liquid_temperature=TIC-204.PV"];
    let known = ["--known", "holdup=140", "--known", "element_capacity=80", "--known", "feed_temperature=18"];
    let heat = [&physical[..], &maps, &known, &["--free", "loss", "--free", "dead_time_of_power=1:10:100"]].concat();
    std::fs::write(path("heat.json"), printed(&antistasis(&heat)).to_string()).unwrap();
    let heat = path("heat.json");
    let track = ["track", &heat, &record, "--drift", "loss=0.05"];
    let printing: [(&str, Vec<&str>); 15] = [
        ("tracking", track.to_vec()),
        ("tracking", [&track[..], &["--method", "moving-horizon", "--window", "3", "--to", "400"]].concat()),
        ("model", identify.to_vec()),
        ("model", [&identify[..], &["--noise", "autoregression"]].concat()),
        ("assessment", vec!["simulate", heater, "--balances"]),
        ("assessment", vec!["simulate", step]),
        ("analysis", vec!["analyse", heater]),
        ("interaction", vec!["interaction", "demo/trials/AIC-320-step-test.json"]),
        ("loops", vec!["loops", "demo/trials/AIC-320-step-test.json", "--decoupler", "dynamic"]),
        ("assessment", vec!["simulate", "demo/trials/TIC-310-cascade.json"]),
        ("tuning", vec!["tune", "--trial", heater, "--rule", "simc"]),
        ("optimum", vec!["tune", "--model", &model, "--pv-span", "0:150", "--minimise", "load-iae"]),
        ("findings", vec!["inspect", &record]),
        ("plan", vec!["experiment", "demo/experiments/TIC-204-prbs.json"]),
        ("sweep", vec!["sweep", heater, "--over", over]),
    ];
    for (name, arguments) in printing {
        let schema = printed(&antistasis(&["schema", name]));
        assert!(jsonschema::meta::is_valid(&schema), "{name}");
        let validator = jsonschema::validator_for(&schema).unwrap();
        let document = printed(&antistasis(&arguments));
        let faults: Vec<String> =
            validator.iter_errors(&document).map(|e| format!("{}: {e}", e.instance_path())).collect();
        assert!(faults.is_empty(), "{arguments:?}: {faults:#?}");
        // A schema that allows everything would say nothing.
        assert!(!validator.is_valid(&serde_json::json!({ "nothing": 1 })), "{name}");
    }
    // What is read, too: every trial and experiment of the demo, and none with a field that nobody knows.
    for (name, folder) in [("trial", "demo/trials"), ("experiment", "demo/experiments")] {
        let validator = jsonschema::validator_for(&printed(&antistasis(&["schema", name]))).unwrap();
        for entry in std::fs::read_dir(project().join(folder)).unwrap() {
            let path = entry.unwrap().path();
            let mut document: Value = serde_json::from_slice(&std::fs::read(&path).unwrap()).unwrap();
            let faults: Vec<String> =
                validator.iter_errors(&document).map(|e| format!("{}: {e}", e.instance_path())).collect();
            assert!(faults.is_empty(), "{}: {faults:#?}", path.display());
            document["colour"] = "green".into();
            assert!(!validator.is_valid(&document), "{}", path.display());
        }
    }
    // Metrics say in which units they are.
    let units = &printed(&antistasis(&["simulate", heater]))["metrics"]["units"];
    assert_eq!(units, &serde_json::json!({ "pv": "°C", "op": "%", "time": "s" }));
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
    let model = printed(&antistasis(&["schema", "model"]));
    assert!(model["$defs"]["Model"]["properties"]["parameters"].is_object(), "{model}");
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
    assert!(refusal(&["tune", "--model", &model]).contains("model.json"));
    assert!(refusal(&["identify", &flat, "--structure", "arx:2,2"]).contains("structure is arx:2,2: it must be fopdt"));
    assert!(refusal(&["identify", &flat, "--validate", "later"]).contains("--validate is later: it must be half"));
    assert!(refusal(&["identify", &flat, "--known", "gain"]).contains("--known is gain: it must be NAME=VALUE"));
    let plan = file("plan.json", "{\"noise\": 1}");
    assert!(refusal(&["experiment", &plan]).contains("plan.json"));
    let trial = file("trial.json", "{\"version\": 1,");
    assert!(refusal(&["simulate", &trial]).contains("trial.json"));
    assert!(refusal(&["tune", "--model", &model, "--rule", "guess"]).contains("simc"));
    assert!(refusal(&["schema", "dream"]).contains("trial"));
    assert!(refusal(&["identify"]).contains("RECORD"));
}

#[test]
fn columns_have_one_part_to_play_and_unknown_fields_are_refused() {
    let directory = TempDir::new().unwrap();
    let record = directory.path().join("record.csv").to_string_lossy().into_owned();
    antistasis(&["simulate", "demo/trials/TIC-204-step-test.json", "--csv", &record]);
    let (op, pv) = ("TIC-204.OP", "TIC-204.PV");
    let same = refusal(&["identify", &record, "--input", pv, "--output", pv]);
    assert!(same.contains("--output TIC-204.PV is what --input names"), "{same}");
    let disturbance = refusal(&["identify", &record, "--input", op, "--output", pv, "--disturbance", op]);
    assert!(disturbance.contains("--disturbance TIC-204.OP is what --input names"), "{disturbance}");
    let time = refusal(&["identify", &record, "--time", "time", "--input", "time", "--output", pv]);
    assert!(time.contains("is the time column"), "{time}");
    // A field that a direct actuator does not have, and an OP that no valve can have.
    let text = std::fs::read_to_string(project().join("demo/trials/TIC-204-step-test.json")).unwrap();
    let mut trial: Value = serde_json::from_str(&text).unwrap();
    let written = |trial: &Value| {
        let path = directory.path().join("trial.json");
        std::fs::write(&path, trial.to_string()).unwrap();
        path.to_string_lossy().into_owned()
    };
    trial["plant"]["actuator"] = serde_json::json!({ "kind": "direct", "stroke_time": 5.0 });
    let unknown = refusal(&["simulate", &written(&trial)]);
    assert!(unknown.contains("stroke_time"), "{unknown}");
    trial["plant"]["actuator"] = serde_json::json!({ "kind": "direct" });
    trial["plant"]["operating_point"]["op"] = 150.0.into();
    let beyond = refusal(&["simulate", &written(&trial)]);
    assert!(beyond.contains("150") && beyond.contains("100"), "{beyond}");
}

#[test]
fn a_noise_model_and_steps_are_asked_for_on_the_command_line() {
    let directory = TempDir::new().unwrap();
    let record = directory.path().join("record.csv").to_string_lossy().into_owned();
    antistasis(&["simulate", "demo/trials/TIC-204-step-test.json", "--csv", &record]);
    let model = printed(&antistasis(&["identify", &record, "--noise", "autoregression", "--find-steps"]));
    assert!(model["noise"]["coefficients"].is_array() && model["noise"]["deviation"].as_f64().unwrap() > 0.0);
    assert_eq!(model["method"], "maximum likelihood with autoregressive noise");
    let wrong = antistasis(&["identify", &record, "--noise", "pink"]);
    assert!(!wrong.status.success() && String::from_utf8_lossy(&wrong.stderr).contains("integrated"));
}

#[test]
fn a_matrix_is_identified_and_several_loops_are_tuned_as_they_are_asked_for() {
    let directory = TempDir::new().unwrap();
    let path = |name: &str| directory.path().join(name).to_string_lossy().into_owned();
    // The blend of the demo: both OPs moved, one after the other.
    antistasis(&["simulate", "demo/trials/AIC-320-step-test.json", "--csv", &path("record.csv")]);
    let record = path("record.csv");
    let signals = [
        "--time",
        "time",
        "--input",
        "AIC-320.OP",
        "--output",
        "AIC-320.PV",
        "--disturbance",
        "FIC-322.OP",
        "--further-output",
        "FIC-322.PV",
        "--structure",
        "matrix",
    ];
    let asked = |more: &[&str]| -> Vec<String> {
        ["identify", &record].iter().chain(&signals).chain(more).map(|text| (*text).to_owned()).collect()
    };
    let run = |more: &[&str]| {
        let all = asked(more);
        antistasis(&all.iter().map(String::as_str).collect::<Vec<_>>())
    };
    let model = printed(&run(&[]));
    let gain = |row: usize, input: &str| {
        let all = model["rows"][row]["parameters"].as_array().unwrap();
        let found = all.iter().find(|own| own["name"] == "gain" && own["input"] == input).unwrap();
        found["value"].as_f64().unwrap()
    };
    // Both flows run from 0 to 15 m³/h over their OPs, and the product is their sum: 0.15 m³/h per %, by conservation.
    for input in ["AIC-320.OP", "FIC-322.OP"] {
        assert!((gain(1, input) - 0.15).abs() < 0.001, "{}", gain(1, input));
    }
    assert!(gain(0, "AIC-320.OP") > 0.0 && gain(0, "FIC-322.OP") < 0.0);
    let sparse = printed(&run(&["--cell", "FIC-322.PV:AIC-320.OP=none", "--cell", "AIC-320.PV:AIC-320.OP=two-lags"]));
    assert_eq!(sparse["rows"][1]["inputs"].as_array().unwrap().len(), 1);
    assert_eq!(sparse["rows"][0]["structure"]["kind"], "two_lags");
    let refused = |more: &[&str]| {
        let all = asked(more);
        refusal(&all.iter().map(String::as_str).collect::<Vec<_>>())
    };
    assert!(refused(&["--cell", "FIC-322.PV=none"]).contains("outputs are AIC-320.PV, FIC-322.PV"));
    assert!(refused(&["--cell", "nonsense"]).contains("OUTPUT:INPUT=STRUCTURE"));
    assert!(refused(&["--cell", "FIC-322.PV:AIC-320.OP=arx:1,1,1"]).contains("dead time"));

    let trial = "demo/trials/AIC-320-step-test.json";
    let loops = |more: &[&str]| printed(&antistasis(&["loops", trial].iter().chain(more).copied().collect::<Vec<_>>()));
    let plain = loops(&[]);
    let calm = loops(&["--method", "maximum-sensitivity", "--most-sensitivity", "1.4"]);
    assert!(calm["largest_sensitivity"].as_f64().unwrap() < 1.41, "{}", calm["largest_sensitivity"]);
    assert!(calm["detuning"].as_f64() > plain["detuning"].as_f64());
    let by_turns = loops(&["--method", "one-by-one"]);
    assert_eq!((by_turns["order"].as_array().unwrap().len(), &by_turns["detuning"]), (2, &Value::Null));
    std::fs::write(path("pair.json"), serde_json::to_string(&plain["trial"]).unwrap()).unwrap();
    let ordered = printed(&antistasis(&["loops", &path("pair.json"), "--in-order"]));
    assert_eq!(ordered["loops"].as_array().unwrap().len(), 2);
    assert!(refusal(&["loops", trial, "--most-sensitivity", "9"]).contains("1.2 to 5"));
}

/// A heater that fouls over three weeks, led along its record by a model of a step test.
#[test]
fn a_physical_model_is_led_along_a_record() {
    let directory = TempDir::new().unwrap();
    let path = |name: &str| directory.path().join(name).to_string_lossy().into_owned();
    antistasis(&["simulate", "demo/trials/TIC-204-step-test.json", "--csv", &path("step.csv")]);
    antistasis(&["simulate", "demo/trials/TIC-204-weeks.json", "--csv", &path("weeks.csv")]);
    let (step, weeks, model) = (path("step.csv"), path("weeks.csv"), path("model.json"));
    let identify = ["identify", &step, "--structure", "physical", "--process", "stirred_heater", "--beginnings", "1"];
    let maps = ["--map", "power=TIC-204.OP:0:600", "--map", "liquid_temperature=TIC-204.PV"];
    let known = ["--known", "holdup=140", "--known", "element_capacity=80", "--known", "feed_temperature=18"];
    let sought = ["--free", "loss", "--free", "dead_time_of_power=1:10:100"];
    let identified = printed(&antistasis(&[&identify[..], &maps, &known, &sought].concat()));
    std::fs::write(&model, identified.to_string()).unwrap();
    // Settings for it: those for what its linearisation comes nearest to where the record began.
    let tuned = printed(&antistasis(&["tune", "--model", &model, "--pv-span", "0:150", "--rule", "simc"]));
    let found = printed(&antistasis(&["tune", "--trial", "demo/trials/TIC-204-step-test.json", "--rule", "simc"]));
    let gain = |tuned: &serde_json::Value| tuned["controller"]["gain"].as_f64().unwrap();
    assert!((gain(&tuned) / gain(&found) - 1.0).abs() < 0.15, "{tuned} {found}");
    let track = ["track", &model, &weeks, "--noise", "TIC-204.PV=0.15", "--unrest", "0.01"];
    let drift = ["--drift", "efficiency=0.006:0.03", "--bound", "efficiency=0.5:1.2"];
    let tracked = printed(&antistasis(&[&track[..], &drift].concat()));
    let efficiency = tracked["numbers"].as_array().unwrap().last().unwrap().clone();
    let at = |list: &str, day: f64| efficiency[list][(day * 288.0) as usize].as_f64().unwrap();
    // As the trial has it: 1 until the fourth day, 0.86 on the eighteenth, 1 again after the nineteenth, on which it is cleaned.
    for (day, truth) in [(3.5, 1.0), (11.0, 0.93), (18.5, 0.86), (20.5, 1.0)] {
        let miss = (at("values", day) - truth).abs();
        assert!(miss < 3.0 * at("deviations", day) + 0.003, "day {day}: {}", at("values", day));
    }
    let horizon = ["--method", "moving-horizon", "--window", "5", "--limit", "efficiency=0.01", "--to", "400000"];
    let tracked = printed(&antistasis(&[&track[..], &drift, &horizon].concat()));
    let values = tracked["numbers"].as_array().unwrap().last().unwrap()["values"].as_array().unwrap().clone();
    assert!(values.iter().all(|value| (0.5..=1.2).contains(&value.as_f64().unwrap())));
    for (arguments, said) in [
        (vec!["--drift", "efficiency"], "NAME=PER_HOUR"),
        (vec!["--drift", "glow=1"], "glow"),
        (vec!["--drift", "power=1"], "is shown by TIC-204.OP"),
        (vec!["--bound", "loss=0:1"], "no --drift names it"),
        (vec!["--drift", "loss=0.1", "--limit", "loss=x"], "NAME=NUMBER"),
        (vec!["--noise", "X=1"], "an output of the model: TIC-204.PV"),
        (vec!["--window", "0"], "1 to 100 samples"),
        (vec!["--state", "glow=1"], "glow"),
    ] {
        let text = refusal(&[&track[..3], &arguments].concat());
        assert!(text.contains(said), "{arguments:?}: {text}");
    }
}

#[test]
fn a_predictive_controller_is_proposed_tried_and_looked_into() {
    let directory = TempDir::new().unwrap();
    let path = directory.path().join("predictive.json").to_string_lossy().into_owned();
    // Two loops on one plant; what an operator moved in the step test is told to be left out.
    let step_test = "demo/trials/AIC-320-step-test.json";
    let output = antistasis(&["tune", "--predictive", "--trial", step_test]);
    assert!(String::from_utf8_lossy(&output.stderr).contains("left out"));
    let mut trial = printed(&output);
    assert_eq!(trial["candidate"]["further"][0]["controller"]["kind"], "seat");
    trial["scenario"]["events"] = serde_json::json!([{ "kind": "set_point_step", "at": 100, "by": 2 }]);
    std::fs::write(&path, trial.to_string()).unwrap();
    let result = printed(&antistasis(&["simulate", &path, "--ahead", "100"]));
    let ahead = &result["ahead"];
    assert_eq!(ahead["cvs"].as_array().unwrap().len(), 2);
    // The other loop is left in peace: less than a tenth of the step, of whose size its span is half.
    let off = result["further"][0]["metrics"]["integral_absolute_error"].as_f64().unwrap();
    assert!(off < 0.1 * 2.0 * 6000.0, "{off}");
    // A disturbance that is measured is named by its input.
    let known = ["tune", "--predictive", "--trial", "demo/trials/TIC-204-closed-loop.json", "--measured", "feed_flow"];
    let known = printed(&antistasis(&known));
    assert_eq!(known["candidate"]["controller"]["dvs"][0]["signal"], "feed_flow");
    let wrong = ["tune", "--predictive", "--trial", "demo/trials/TIC-204-closed-loop.json", "--measured", "moon"];
    assert!(refusal(&wrong).contains("moon"));
    assert!(refusal(&["simulate", "demo/trials/TIC-204-closed-loop.json", "--ahead", "5"]).contains("predictive"));

    // With the equations of the plant, and its law written out.
    let equations = ["tune", "--predictive", "--equations", "--trial", "demo/trials/TIC-204-closed-loop.json"];
    let planned = printed(&antistasis(&equations));
    assert_eq!(planned["candidate"]["controller"]["model"], planned["plant"]["process"]);
    std::fs::write(&path, planned.to_string()).unwrap();
    let run = printed(&antistasis(&["simulate", &path]));
    assert!(run["stopped"].is_null(), "{run}");
    assert!(refusal(&["simulate", &path, "--regions", "0,1"]).contains("linear model"));
    assert!(refusal(&["simulate", &path, "--regions", "0"]).contains("no pair of places"));
    let mut linear = printed(&antistasis(&["tune", "--predictive", "--trial", "demo/trials/TIC-204-closed-loop.json"]));
    linear["candidate"]["controller"]["moves"] = serde_json::json!([1, 3]);
    std::fs::write(&path, linear.to_string()).unwrap();
    let map = printed(&antistasis(&["simulate", &path, "--regions", "0,1"]));
    assert!(map["regions"]["regions"].as_array().unwrap().len() >= 3, "{map}");
}

#[test]
fn prove_ends_with_status_1_when_a_limit_is_passed() {
    let directory = TempDir::new().unwrap();
    let path = |name: &str| directory.path().join(name).to_string_lossy().into_owned();
    // A trial on a linear plant, so that the proof takes no time.
    let signal = |tag: &str| serde_json::json!({ "tag": tag, "span": { "low": 0.0, "high": 100.0, "unit": "%" } });
    let trial = |gain: f64| {
        serde_json::json!({
            "version": 1,
            "plant": {
                "process": { "structure": "fopdt", "gain": 1.25, "time_constant": 10.0, "dead_time": 4.0 },
                "pv": signal("L.PV"), "op": signal("L.OP"), "operating_point": { "pv": 50.0, "op": 50.0 },
            },
            "candidate": { "controller": { "kind": "pid", "gain": gain, "integral_time": 10.0 } },
            "scenario": { "duration": 200.0, "scan": 0.5, "events": [] },
        })
        .to_string()
    };
    std::fs::write(path("sound.json"), trial(1.0)).unwrap();
    std::fs::write(path("timid.json"), trial(0.1)).unwrap();
    let both = printed(&antistasis(&["prove", "--propose", &path("sound.json"), &path("timid.json")]));
    assert_eq!((&both["candidates"][0]["name"], &both["candidates"][1]["name"]), (&"sound".into(), &"timid".into()));
    std::fs::write(path("both.json"), both.to_string()).unwrap();
    let failed =
        antistasis(&["prove", &path("both.json"), "--junit", &path("report.xml"), "--out", &path("table.json")]);
    assert_eq!(
        (failed.status.code(), failed.stdout.len()),
        (Some(1), 0),
        "{}",
        String::from_utf8_lossy(&failed.stderr)
    );
    let report = std::fs::read_to_string(path("report.xml")).unwrap();
    assert!(
        report.contains("<testsuite name=\"timid\"") && report.contains("<failure message=\"limits passed"),
        "{report}"
    );
    let table: Value = serde_json::from_slice(&std::fs::read(path("table.json")).unwrap()).unwrap();
    assert_eq!(table["holds"], serde_json::json!([true, false]));
    assert_eq!(table["order"], serde_json::json!([0, 1]));

    let alone = printed(&antistasis(&["prove", "--propose", &path("sound.json")]));
    std::fs::write(path("alone.json"), alone.to_string()).unwrap();
    let passed = antistasis(&["prove", &path("alone.json")]);
    assert_eq!(printed(&passed)["holds"], serde_json::json!([true]));

    // What a record shows comes into the set.
    let mut record = "time [s],L.OP [%],L.PV [%]\n".to_owned();
    let (mut x, mut delayed) = (0.0f64, [0.0f64; 8]);
    for k in 0..1200 {
        let op = if (k / 120) % 2 == 0 { 50.0 } else { 58.0 };
        delayed.rotate_left(1);
        delayed[7] = op - 50.0 + if k > 700 { 6.0 } else { 0.0 };
        x += 0.05 * (1.25 * delayed[0] - x);
        record += &format!("{},{op},{}\n", 0.5 * f64::from(k), 50.0 + x + 0.02 * f64::from(k % 5));
    }
    std::fs::write(path("monday.csv"), record).unwrap();
    let model = printed(&antistasis(&["identify", &path("monday.csv"), "--to", "300"]));
    std::fs::write(path("model.json"), model.to_string()).unwrap();
    let with =
        ["prove", "--propose", &path("sound.json"), "--record", &path("monday.csv"), "--model", &path("model.json")];
    let output = antistasis(&with);
    let told = String::from_utf8_lossy(&output.stderr).into_owned();
    assert!(told.contains("of monday the load changed 1 time by"), "{told}");
    let names: Vec<String> = printed(&output)["set"]["disturbances"]
        .as_array()
        .unwrap()
        .iter()
        .map(|one| one["name"].as_str().unwrap().to_owned())
        .collect();
    assert!(names.contains(&"load as in monday".to_owned()), "{names:?}");
    assert!(names.iter().any(|name| name.starts_with("load +") && name.ends_with("as found")), "{names:?}");
    assert!(refusal(&["prove", &path("alone.json"), "--record", &path("monday.csv")]).contains("--model"));

    let mut wrong = alone;
    wrong["set"]["disturbances"][0]["duration"] = 0.into();
    std::fs::write(path("wrong.json"), wrong.to_string()).unwrap();
    let text = refusal(&["prove", &path("wrong.json")]);
    assert!(text.contains("wrong.json") && text.contains("duration"), "{text}");
    assert!(refusal(&["prove", &path("alone.json"), &path("both.json")]).contains("one proof at a time"));
}

#[test]
fn controllers_are_written_as_text() {
    let output = antistasis(&["structured-text", "demo/trials/TIC-310-cascade.json"]);
    let text = String::from_utf8(output.stdout).unwrap();
    assert!(output.status.success() && text.matches("FUNCTION_BLOCK TIC_31").count() == 3, "{text}");
    assert!(text.contains("\nFUNCTION_BLOCK TIC_310_and_TIC_311\n"), "{text}");
    assert!(text.contains("\n(* The OP of TIC-310 is the set point of TIC-311"), "{text}");
    assert!(
        refusal(&["structured-text", "demo/trials/TIC-501-predictive.json"])
            .contains("where the MVs alone have limits")
    );
}
