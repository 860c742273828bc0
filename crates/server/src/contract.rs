//! The API document as it is given out: what the types alone do not say is added, and what could never be satisfied is put right.

use serde_json::{Map, Value, json};

/// What a status code means where nothing else is said.
const MEANINGS: [(&str, &str); 18] = [
    ("200", "Done; the answer."),
    ("201", "Made; what was made."),
    ("202", "Begun; how far it is."),
    ("204", "Done; there is nothing to answer."),
    ("400", "The request cannot be read."),
    ("401", "It is not known who asks: neither the token of the server nor a cookie that was given for it came along."),
    ("403", "The request comes from another site."),
    ("404", "There is no such thing."),
    ("409", "It cannot be done as things stand."),
    ("412", "Somebody else has changed it meanwhile; with the document as it stands now."),
    ("413", "Too large."),
    ("415", "The body is not of the media type that is asked for."),
    ("422", "The input cannot be used: which field, its value, and what is allowed."),
    ("428", "It is not said which revision is changed."),
    ("500", "The server failed; its log says why."),
    ("503", "Not now: too much is being computed, or the database is being started again. Retry-After says when."),
    ("507", "The disk is full."),
    ("408", "The request did not come in time."),
];

/// The document with every answer described, all problems that any request can meet, and schemas that can be satisfied.
pub(crate) fn completed(mut document: Value) -> Value {
    if let Some(paths) = document["paths"].as_object_mut() {
        for (path, operations) in paths {
            let has_parameters = path.contains('{');
            for operation in operations.as_object_mut().into_iter().flat_map(Map::values_mut) {
                complete(operation, has_parameters);
            }
        }
    }
    document["components"]["securitySchemes"] = json!({
        "token": { "type": "http", "scheme": "bearer", "description": "The token in the file `token` of the data directory." },
        "cookie": {
            "type": "apiKey", "in": "cookie", "name": "antistasis-8207",
            "description": "What a page gets that is opened with `?token=`; its name ends in the port.",
        },
    });
    document["security"] = json!([{ "token": [] }, { "cookie": [] }]);
    let schemas = document["components"]["schemas"].clone();
    satisfiable(&mut document, &schemas, "#/components/schemas/");
    document
}

fn complete(operation: &mut Value, has_parameters: bool) {
    let takes_json = operation["requestBody"]["content"].get("application/json").is_some();
    let takes_body = operation.get("requestBody").is_some();
    let has_query = operation["parameters"].as_array().is_some_and(|list| list.iter().any(|one| one["in"] == "query"));
    let Some(answers) = operation["responses"].as_object_mut() else { return };
    let further: [(&str, bool); 8] = [
        ("400", has_parameters || has_query || takes_body),
        ("401", true),
        ("403", true),
        ("413", takes_body),
        ("415", takes_json),
        ("422", takes_json),
        ("500", true),
        ("503", true),
    ];
    for (status, _) in further.into_iter().filter(|(_, applies)| *applies) {
        answers.entry(status).or_insert_with(
            || json!({ "content": { "application/json": { "schema": { "$ref": "#/components/schemas/Problem" } } } }),
        );
    }
    for (status, answer) in answers.iter_mut() {
        if answer["description"].as_str().is_none_or(str::is_empty) {
            let meaning = MEANINGS.iter().find(|(known, _)| known == status).map_or("The answer.", |(_, words)| words);
            answer["description"] = meaning.into();
        }
        // Problems have a media type of their own (RFC 9457).
        let is_problem = answer["content"]["application/json"]["schema"]["$ref"] == "#/components/schemas/Problem";
        if let Some(content) = answer["content"].as_object_mut().filter(|_| is_problem)
            && let Some(problem) = content.remove("application/json")
        {
            content.insert("application/problem+json".to_owned(), problem);
        }
        if answer["content"].is_null()
            && let Some(fields) = answer.as_object_mut()
        {
            fields.remove("content");
        }
    }
}

/// A document that takes no other fields than its own cannot stand beside its tag in an `allOf`: the two are made one, everywhere
/// in a schema. `definitions` are the named schemas, which references begin with `prefix`.
pub fn satisfiable(schema: &mut Value, definitions: &Value, prefix: &str) {
    match schema {
        Value::Array(all) => all.iter_mut().for_each(|own| satisfiable(own, definitions, prefix)),
        Value::Object(fields) => {
            fields.values_mut().for_each(|own| satisfiable(own, definitions, prefix));
            if let Some(merged) = fields.get("allOf").and_then(|parts| merged(parts, definitions, prefix)) {
                fields.remove("allOf");
                for (name, value) in merged {
                    fields.entry(name).or_insert(value);
                }
            }
        }
        _ => {}
    }
}

fn merged(parts: &Value, definitions: &Value, prefix: &str) -> Option<Map<String, Value>> {
    let [named, tag] = parts.as_array()?.as_slice() else { return None };
    let name = named.get("$ref")?.as_str()?.strip_prefix(prefix)?;
    let mut merged = definitions.get(name)?.as_object()?.clone();
    let closed = merged.get("additionalProperties").is_some_and(|further| further == false);
    if !closed || tag.get("properties").is_none() {
        return None;
    }
    for (name, schema) in tag["properties"].as_object()? {
        merged.get_mut("properties")?.as_object_mut()?.insert(name.clone(), schema.clone());
    }
    let required = merged.entry("required").or_insert_with(|| json!([])).as_array_mut()?;
    required.extend(tag["required"].as_array().into_iter().flatten().cloned());
    Some(merged)
}
