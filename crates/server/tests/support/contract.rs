//! Every answer of the tests is held against the API document, by an outside validator of JSON Schema.

use jsonschema::Validator;
use reqwest::{Method, StatusCode};
use serde_json::{Value, json};
use std::collections::HashMap;
use std::sync::{Arc, LazyLock, Mutex};

static DOCUMENT: LazyLock<Value> = LazyLock::new(antistasis_server::openapi);
static VALIDATORS: LazyLock<Mutex<HashMap<String, Option<Arc<Validator>>>>> = LazyLock::new(Mutex::default);

/// A schema of the document with all that it may refer to.
pub fn validator(schema: &Value) -> Validator {
    let whole = json!({ "allOf": [schema], "$defs": DOCUMENT["components"]["schemas"] });
    let text = whole.to_string().replace("#/components/schemas/", "#/$defs/");
    jsonschema::draft202012::new(&serde_json::from_str(&text).unwrap()).unwrap()
}

/// The template of the document that a path belongs to; where several fit, the one with fewest parts left open.
fn template(path: &str) -> Option<&'static str> {
    let path = format!("/api/v1{}", path.split('?').next().unwrap_or(path));
    let parts: Vec<&str> = path.split('/').collect();
    let fits = |known: &&String| {
        let own: Vec<&str> = known.split('/').collect();
        own.len() == parts.len() && own.iter().zip(&parts).all(|(own, part)| own == part || own.starts_with('{'))
    };
    let all = DOCUMENT["paths"].as_object().unwrap();
    all.keys().filter(fits).min_by_key(|known| known.matches('{').count()).map(String::as_str)
}

/// Fails where an answer is none that the document describes.
pub fn holds(method: &Method, path: &str, status: StatusCode, answer: &Value) {
    let Some(template) = template(path) else {
        assert_eq!(status, StatusCode::NOT_FOUND, "the document knows no {path}");
        return;
    };
    let verb = method.as_str().to_lowercase();
    let operation = &DOCUMENT["paths"][template][&verb];
    assert!(operation.is_object(), "the document knows no {method} {template}");
    let described = &operation["responses"][status.as_str()];
    assert!(described.is_object(), "{method} {template} answers {status}, of which the document says nothing");
    let key = format!("{verb} {template} {status}");
    let known = VALIDATORS.lock().unwrap().get(&key).cloned();
    let validator = known.unwrap_or_else(|| {
        let made = schema_of(&described["content"]).map(|schema| Arc::new(validator(schema)));
        VALIDATORS.lock().unwrap().insert(key.clone(), made.clone());
        made
    });
    if let Some(validator) = validator {
        fits(&key, &validator, answer);
    }
}

/// Fails where a request that was taken is none that the document describes.
pub fn takes(method: &Method, path: &str, request: &Value) {
    let Some(template) = template(path) else { return };
    let body = &DOCUMENT["paths"][template][method.as_str().to_lowercase()]["requestBody"]["content"];
    if let Some(schema) = schema_of(body) {
        fits(&format!("{method} {template} asks"), &validator(schema), request);
    }
}

fn schema_of(content: &Value) -> Option<&Value> {
    let (_, media) = content.as_object()?.iter().find(|(kind, _)| kind.ends_with("json"))?;
    media.get("schema")
}

fn fits(what: &str, validator: &Validator, document: &Value) {
    let errors: Vec<String> =
        validator.iter_errors(document).take(3).map(|error| format!("{}: {error}", error.instance_path())).collect();
    assert!(errors.is_empty(), "{what}: {errors:#?}");
}

/// All operations that take a document, with its schema.
#[allow(dead_code)]
pub fn operations() -> Vec<(Method, String, Value)> {
    let paths = DOCUMENT["paths"].as_object().unwrap();
    let each =
        paths.iter().flat_map(|(path, all)| all.as_object().unwrap().iter().map(move |(verb, one)| (path, verb, one)));
    each.filter_map(|(path, verb, operation)| {
        let schema = schema_of(&operation["requestBody"]["content"])?.clone();
        Some((Method::from_bytes(verb.to_uppercase().as_bytes()).unwrap(), path.clone(), schema))
    })
    .collect()
}

/// The named schemas of the document.
#[allow(dead_code)]
pub fn schemas() -> &'static Value {
    &DOCUMENT["components"]["schemas"]
}
