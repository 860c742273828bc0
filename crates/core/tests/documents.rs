//! Documents of every version that there was open, and give what they gave.
//!
//! `documents/trial-N` holds trials of version N as the server of that time stored them, with rows of the trace that its engine
//! gave; `examples/keep_documents.rs` wrote them.

#![allow(clippy::unwrap_used, clippy::panic)]

use antistasis_core::simulation::{Column, Trial};
use serde::Deserialize;
use std::path::{Path, PathBuf};

#[derive(Deserialize)]
struct Kept {
    trial: serde_json::Value,
    every: usize,
    rows: usize,
    columns: Vec<Column>,
}

fn kept() -> Vec<(PathBuf, Kept)> {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/documents");
    let inside = |path: &Path| std::fs::read_dir(path).unwrap().map(|entry| entry.unwrap().path()).collect::<Vec<_>>();
    let mut files: Vec<PathBuf> = inside(&root).iter().flat_map(|directory| inside(directory)).collect();
    files.sort();
    let read = |path: PathBuf| {
        let text = std::fs::read_to_string(&path).unwrap();
        let kept = serde_json::from_str(&text).unwrap_or_else(|error| panic!("{}: {error}", path.display()));
        (path, kept)
    };
    files.into_iter().map(read).collect()
}

/// Of the largest value of a column.
const ALIKE: f64 = 1e-12;

#[test]
fn old_trials_open_and_give_the_same_trace() {
    let all = kept();
    assert!(all.len() >= 20, "{}", all.len());
    for (path, Kept { trial, every, rows, columns }) in all {
        let name = path.file_stem().unwrap().to_string_lossy().into_owned();
        let trial: Trial = serde_json::from_value(trial).unwrap_or_else(|error| panic!("{name}: {error}"));
        let trace = trial.run().unwrap_or_else(|error| panic!("{name}: {error}"));
        assert_eq!(trace.len(), rows, "{name}");
        for old in columns {
            let new = trace
                .columns
                .iter()
                .find(|column| column.tag == old.tag && column.role == old.role && column.unit == old.unit)
                .unwrap_or_else(|| panic!("{name}: there is no {} any more", old.tag));
            let size = old.values.iter().fold(f64::MIN_POSITIVE, |size, value| size.max(value.abs()));
            for (k, (new, old)) in new.values.iter().step_by(every).zip(&old.values).enumerate() {
                let tag = &trace.columns[0].tag;
                assert!((new - old).abs() <= ALIKE * size, "{name}: {tag} in row {}: {new}, was {old}", k * every);
            }
        }
    }
}

/// What is written is read again as it was, so that nothing is lost on the way through the store.
#[test]
fn what_is_read_is_written_as_it_was() {
    for (path, Kept { trial, .. }) in kept() {
        let read: Trial = serde_json::from_value(trial).unwrap();
        let again: Trial = serde_json::from_str(&serde_json::to_string(&read).unwrap()).unwrap();
        assert_eq!((&again, again.digest()), (&read, read.digest()), "{}", path.display());
    }
}
