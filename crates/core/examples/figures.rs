//! Writes what the benchmarks measured last into the table of `docs/figures.md`: part of `./run bench`.

#![allow(clippy::unwrap_used)]

use serde_json::Value;
use std::collections::BTreeMap;
use std::path::Path;

/// Between these the table stands.
const MARKS: [&str; 2] = ["<!-- measured by ./run bench -->", "<!-- end of what ./run bench measured -->"];

/// A time in ns with its unit, to three digits.
fn readable(nanoseconds: f64) -> String {
    let (value, unit) = match nanoseconds {
        ns if ns < 1e3 => (ns, "ns"),
        ns if ns < 1e6 => (ns / 1e3, "µs"),
        ns if ns < 1e9 => (ns / 1e6, "ms"),
        ns => (ns / 1e9, "s"),
    };
    let digits = (2 - value.log10().floor() as i32).max(0) as usize;
    format!("{value:.digits$} {unit}")
}

/// Every benchmark below a directory with the median and its 95 % interval, by group.
fn measured(directory: &Path, into: &mut BTreeMap<String, Vec<(String, [f64; 3])>>) {
    let Ok(entries) = std::fs::read_dir(directory) else { return };
    for path in entries.filter_map(|entry| entry.ok().map(|entry| entry.path())).filter(|path| path.is_dir()) {
        let read = |name: &str| -> Option<Value> {
            serde_json::from_slice(&std::fs::read(path.join("new").join(name)).ok()?).ok()
        };
        if let (Some(benchmark), Some(estimates)) = (read("benchmark.json"), read("estimates.json")) {
            let text = |field: &str| benchmark[field].as_str().unwrap_or_default().to_owned();
            let median = &estimates["median"];
            let number = |value: &Value| value.as_f64().unwrap_or(f64::NAN);
            let interval = &median["confidence_interval"];
            let times = [&median["point_estimate"], &interval["lower_bound"], &interval["upper_bound"]].map(number);
            into.entry(text("group_id")).or_default().push((text("function_id"), times));
        } else {
            measured(&path, into);
        }
    }
}

fn main() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let mut groups = BTreeMap::new();
    measured(&root.join("target/criterion"), &mut groups);
    let mut table = String::from("| benchmark | median | 95 % interval of the median |\n|---|---|---|\n");
    for (group, mut rows) in groups {
        rows.sort_by(|a, b| a.0.cmp(&b.0));
        for (name, [median, low, high]) in rows {
            let what = if name.is_empty() { group.clone() } else { format!("{group}: {name}") };
            table += &format!("| {what} | {} | {} to {} |\n", readable(median), readable(low), readable(high));
        }
    }
    // What the interface takes from key to curve is measured in the browser.
    if let Ok(reaction) = std::fs::read_to_string(root.join("target/reaction.md")) {
        table += &format!("\n{reaction}");
    }
    // A predictive controller is measured scan by scan, by a program of its own.
    if let Ok(predictive) = std::fs::read_to_string(root.join("target/predictive.md")) {
        table += &format!("\n{predictive}");
    }
    let place = root.join("docs/figures.md");
    let document = std::fs::read_to_string(&place).unwrap();
    let (before, rest) = document.split_once(MARKS[0]).unwrap();
    let (_, after) = rest.split_once(MARKS[1]).unwrap();
    std::fs::write(place, format!("{before}{}\n\n{table}\n{}{after}", MARKS[0], MARKS[1])).unwrap();
}
