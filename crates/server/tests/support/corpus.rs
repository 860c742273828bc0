//! Documents that are taken, and all that they are made of, by the name of their schema: what hostile ones are made from.

use super::contract;
use serde_json::Value;
use std::collections::HashMap;
use std::path::Path;

/// Of one schema no more than so many are kept, so that what is everywhere does not crowd out what is rare.
const MOST_OF_A_KIND: usize = 60;

/// Which schema the kept documents of a kind have, by how their files are called.
const KINDS: [(&str, &str); 10] = [
    ("candidate-", "Candidate"),
    ("experiment-", "ExperimentSpec"),
    ("model-", "Model"),
    ("options-", "FitOptions"),
    ("plant-", "Plant"),
    ("proof-", "Proof"),
    ("scenario-", "Scenario"),
    ("set-", "ProvingSet"),
    ("target-", "TargetController"),
    ("validation-", "Validation"),
];

pub struct Corpus(HashMap<String, Vec<Value>>);

impl Corpus {
    /// Of the documents that are kept of every version, and of the trials of the demo.
    pub fn of_kept_documents() -> Self {
        let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
        let mut corpus = Self(HashMap::new());
        let mut kept = files(&root.join("demo/trials"));
        kept.extend(files(&root.join("crates/core/tests/documents/trial-1")));
        kept.extend(files(&root.join("crates/core/tests/documents/others-1")));
        for (name, document) in kept {
            if let Some(trial) = document.get("trial") {
                corpus.gather("Trial", trial);
            } else if let Some((_, schema)) = KINDS.iter().find(|(begins, _)| name.starts_with(begins)) {
                corpus.gather(schema, &document);
            } else if document.get("scenario").is_some() {
                corpus.gather("Trial", &document);
            } else if let (true, Some(steps)) = (name.starts_with("preparation-"), document.as_array()) {
                steps.iter().for_each(|step| corpus.gather("Step", step));
            }
        }
        corpus
    }

    /// Those of a schema.
    pub fn of(&self, schema: &str) -> &[Value] {
        self.0.get(schema).map_or(&[], Vec::as_slice)
    }

    fn gather(&mut self, name: &str, document: &Value) {
        let known = self.0.entry(name.to_owned()).or_default();
        if known.len() < MOST_OF_A_KIND && !known.contains(document) {
            known.push(document.clone());
        }
        self.within(&contract::schemas()[name], document);
    }

    fn within(&mut self, schema: &Value, document: &Value) {
        if let Some(name) = referred(schema) {
            return self.gather(name, document);
        }
        for choice in ["oneOf", "anyOf", "allOf"] {
            let all = schema[choice].as_array().into_iter().flatten();
            let fitting: Vec<&Value> = all.filter(|one| is_of(one, document)).collect();
            fitting.into_iter().for_each(|one| self.within(one, document));
        }
        for (field, own) in schema["properties"].as_object().into_iter().flatten() {
            if let Some(value) = document.get(field) {
                self.within(own, value);
            }
        }
        for item in document.as_array().into_iter().flatten().filter(|_| schema["items"].is_object()) {
            self.within(&schema["items"], item);
        }
    }
}

/// The JSON files of a directory, with their names.
fn files(directory: &Path) -> Vec<(String, Value)> {
    let mut all: Vec<(String, Value)> = std::fs::read_dir(directory)
        .unwrap()
        .map(|entry| entry.unwrap().path())
        .filter(|path| path.extension().is_some_and(|kind| kind == "json"))
        .map(|path| {
            let text = std::fs::read_to_string(&path).unwrap();
            (path.file_name().unwrap().to_string_lossy().into_owned(), serde_json::from_str(&text).unwrap())
        })
        .collect();
    all.sort_by(|a, b| a.0.cmp(&b.0));
    all
}

/// The name that a schema refers to.
pub fn referred(schema: &Value) -> Option<&str> {
    schema["$ref"].as_str()?.rsplit('/').next()
}

/// Whether a document looks like one of a schema: its required fields, and what it says of its kind.
fn is_of(schema: &Value, document: &Value) -> bool {
    if let Some(name) = referred(schema) {
        return is_of(&contract::schemas()[name], document);
    }
    if let Some(all) = schema["oneOf"].as_array().or(schema["anyOf"].as_array()) {
        return all.iter().any(|one| is_of(one, document));
    }
    if let Some(all) = schema["allOf"].as_array() {
        return all.iter().all(|one| is_of(one, document));
    }
    if let Some(all) = schema["enum"].as_array() {
        return all.contains(document);
    }
    let mut required = schema["required"].as_array().into_iter().flatten().filter_map(Value::as_str);
    let names_of_kinds =
        schema["properties"].as_object().into_iter().flatten().filter(|(_, own)| own["enum"].is_array());
    match schema["type"].as_str() {
        Some("object") => {
            document.is_object()
                && required.all(|field| document.get(field).is_some())
                && names_of_kinds
                    .into_iter()
                    .all(|(field, own)| document.get(field).is_none_or(|value| is_of(own, value)))
        }
        Some("array") => document.is_array(),
        Some("string") => document.is_string(),
        Some("number" | "integer") => document.is_number(),
        Some("boolean") => document.is_boolean(),
        Some("null") => document.is_null(),
        _ => true,
    }
}
