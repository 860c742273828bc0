//! Channels that get other tags, in the documents that speak of them.

use serde_json::Value;

/// The document with every tag replaced by its new one: where it is a whole text, and in braces within a formula.
///
/// All are replaced at once, so that two channels can change their names with each other.
pub fn renamed(value: &mut Value, pairs: &[(String, String)]) {
    let new = |tag: &str| pairs.iter().find(|(from, _)| from == tag).map(|(_, to)| to.as_str());
    match value {
        Value::String(text) => {
            if let Some(to) = new(text) {
                to.clone_into(text);
            } else if text.contains('{') {
                *text = in_braces(text, new);
            }
        }
        Value::Array(values) => values.iter_mut().for_each(|value| renamed(value, pairs)),
        Value::Object(fields) => fields.values_mut().for_each(|value| renamed(value, pairs)),
        _ => {}
    }
}

fn in_braces<'n>(text: &str, new: impl Fn(&str) -> Option<&'n str>) -> String {
    let mut pieces = text.split('{');
    let mut whole = pieces.next().unwrap_or_default().to_owned();
    for piece in pieces {
        let (tag, rest) = piece.split_once('}').map_or((piece, None), |(tag, rest)| (tag, Some(rest)));
        whole.push('{');
        whole.push_str(new(tag).filter(|_| rest.is_some()).unwrap_or(tag));
        if let Some(rest) = rest {
            whole.push('}');
            whole.push_str(rest);
        }
    }
    whole
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    fn pairs(of: &[(&str, &str)]) -> Vec<(String, String)> {
        of.iter().map(|(from, to)| ((*from).to_owned(), (*to).to_owned())).collect()
    }

    #[test]
    fn tags_and_formulas_follow_and_nothing_else_does() {
        let mut document = json!([
            { "kind": "shift", "tag": "A", "by": 1 },
            { "kind": "compute", "tag": "C", "formula": "{A} + 2*{B}/{A B} - A", "unit": "A/s" },
            ["B", { "A": "A" }, 3.5, null, true],
        ]);
        renamed(&mut document, &pairs(&[("A", "FT-1"), ("B", "FT-2")]));
        assert_eq!(
            document,
            json!([
                { "kind": "shift", "tag": "FT-1", "by": 1 },
                { "kind": "compute", "tag": "C", "formula": "{FT-1} + 2*{FT-2}/{A B} - A", "unit": "A/s" },
                ["FT-2", { "A": "FT-1" }, 3.5, null, true],
            ])
        );
    }

    #[test]
    fn two_can_change_names_with_each_other() {
        let mut document = json!(["A", "B", "{A}-{B}", "{open A", "}{A}{"]);
        let swap = pairs(&[("A", "B"), ("B", "A")]);
        renamed(&mut document, &swap);
        assert_eq!(document, json!(["B", "A", "{B}-{A}", "{open A", "}{B}{"]));
        renamed(&mut document, &swap);
        assert_eq!(document, json!(["A", "B", "{A}-{B}", "{open A", "}{A}{"]));
    }
}
