//! Equations of one's own as plain text, a line each, read and written.
//!
//! ```text
//! # Tank with a drain
//! state level = 2 m (0 to 4)
//! input inflow = 0.01 m³/s
//! parameter area = 3 m² (0.1 to 100)
//! parameter k = 0.007
//! outflow = k * sqrt(level)
//! dlevel/dt = (inflow - outflow) / area
//! output height [m] = level
//! ```

use super::equations::{Equation, EquationsSpec, NamedValue, OwnOutput};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What is wrong with a line.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct TextFault {
    /// The line, from 1.
    pub line: usize,
    /// What is wrong, in a sentence.
    pub message: String,
}

/// Which line something stands in, by its field in the document.
#[derive(Default)]
struct Places(Vec<(String, usize)>);

impl Places {
    fn line_of(&self, field: &str) -> Option<usize> {
        let own = field.strip_prefix("process.").unwrap_or(field);
        self.0.iter().find(|(place, _)| own.starts_with(place.as_str())).map(|(_, line)| *line)
    }
}

impl EquationsSpec {
    /// Reads equations from text, as far as they can be read, and tells everything that is wrong by its line.
    #[must_use]
    pub fn read(text: &str) -> (Self, Vec<TextFault>) {
        let mut spec = Self {
            title: String::new(),
            states: Vec::new(),
            inputs: Vec::new(),
            parameters: Vec::new(),
            definitions: Vec::new(),
            rates: Vec::new(),
            outputs: Vec::new(),
        };
        let mut faults = Vec::new();
        let mut places = Places::default();
        for (line, written) in (1..).zip(text.lines()) {
            let content = written.trim();
            if let Some(remark) = content.strip_prefix('#') {
                if spec.title.is_empty() {
                    spec.title = remark.trim().to_owned();
                }
                continue;
            }
            if content.is_empty() {
                continue;
            }
            match read_line(content, &mut spec) {
                Ok(place) => places.0.push((place, line)),
                Err(message) => faults.push(TextFault { line, message }),
            }
        }
        let last = text.lines().count().max(1);
        if faults.is_empty() {
            // What is wrong in itself is told where it stands; what is missing, at the end.
            faults.extend(spec.problems().into_iter().map(|problem| TextFault {
                line: problem.field().and_then(|field| places.line_of(field)).unwrap_or(last),
                message: problem.to_string(),
            }));
        }
        (spec, faults)
    }

    /// The equations as text that reads back as the same.
    #[must_use]
    pub fn written(&self) -> String {
        let mut lines = Vec::new();
        if !self.title.is_empty() {
            lines.push(format!("# {}", self.title.replace('\n', " ")));
        }
        for (kind, list) in [("state", &self.states), ("input", &self.inputs), ("parameter", &self.parameters)] {
            lines.extend(list.iter().map(|named| {
                let unit = if named.unit.is_empty() { String::new() } else { format!(" [{}]", named.unit) };
                let bounds = match (named.low, named.high) {
                    (None, None) => String::new(),
                    (low, high) => {
                        let end = |value: Option<f64>| value.map_or_else(String::new, |value| value.to_string());
                        format!(" ({} to {})", end(low), end(high)).replace("( to", "(to").replace("to )", "to)")
                    }
                };
                format!("{kind} {} = {}{unit}{bounds}", named.name, named.value)
            }));
        }
        lines.extend(self.definitions.iter().map(|equation| format!("{} = {}", equation.name, equation.equals)));
        lines.extend(self.rates.iter().map(|equation| format!("d{}/dt = {}", equation.name, equation.equals)));
        lines.extend(self.outputs.iter().map(|output| {
            let unit = if output.unit.is_empty() { String::new() } else { format!(" [{}]", output.unit) };
            format!("output {}{unit} = {}", output.name, output.equals)
        }));
        lines.join("\n") + "\n"
    }
}

/// Takes one line in; the place in the document that it went to, or what is wrong with it.
fn read_line(line: &str, spec: &mut EquationsSpec) -> Result<String, String> {
    let Some((left, right)) = line.split_once('=') else {
        return Err(
            "The line has no “=”. Write “state level = 2 m”, “dlevel/dt = …”, “output height [m] = level”, or a name and \
             what it stands for."
                .into(),
        );
    };
    let (left, right) = (left.trim(), right.trim());
    if right.is_empty() {
        return Err(format!("Nothing stands behind “{left} =”."));
    }
    let mut words = left.splitn(2, char::is_whitespace);
    let (first, rest) = (words.next().unwrap_or_default(), words.next().unwrap_or_default().trim());
    match first.to_lowercase().as_str() {
        "state" | "input" | "parameter" if !rest.is_empty() => {
            let named = named_value(rest, right)?;
            let (kind, list) = match first.to_lowercase().as_str() {
                "state" => ("states", &mut spec.states),
                "input" => ("inputs", &mut spec.inputs),
                _ => ("parameters", &mut spec.parameters),
            };
            list.push(named);
            Ok(format!("{kind}[{}]", list.len() - 1))
        }
        "output" if !rest.is_empty() => {
            let (name, unit) = with_unit(rest);
            spec.outputs.push(OwnOutput { name, unit, equals: right.to_owned() });
            Ok(format!("outputs[{}]", spec.outputs.len() - 1))
        }
        _ => {
            let whole: String = left.split_whitespace().collect();
            let rate = whole
                .strip_suffix("/dt")
                .and_then(|name| name.strip_prefix('d'))
                .or_else(|| whole.strip_suffix('\'').or_else(|| whole.strip_suffix('′')));
            let equation = |name: &str| Equation { name: name.to_owned(), equals: right.to_owned() };
            if let Some(name) = rate.filter(|name| !name.is_empty()) {
                spec.rates.push(equation(name));
                return Ok(format!("rates[{}]", spec.rates.len() - 1));
            }
            if left.contains(char::is_whitespace) {
                return Err(format!(
                    "“{left}” is no name: a line begins with state, input, parameter or output, with “d…/dt”, or with one name."
                ));
            }
            spec.definitions.push(equation(left));
            Ok(format!("definitions[{}]", spec.definitions.len() - 1))
        }
    }
}

/// `temperature [°C]` into name and unit.
fn with_unit(text: &str) -> (String, String) {
    match text.split_once('[') {
        Some((name, rest)) => (name.trim().to_owned(), rest.trim().trim_end_matches(']').trim().to_owned()),
        None => (text.to_owned(), String::new()),
    }
}

/// `2.5 m (0 to 4)`, the unit in brackets or not.
fn named_value(name: &str, text: &str) -> Result<NamedValue, String> {
    let (name, own_unit) = with_unit(name);
    let (text, bounds) = match text.rsplit_once('(') {
        Some((before, inside)) if inside.trim_end().ends_with(')') && inside.contains("to") => {
            (before.trim(), Some(inside.trim_end().trim_end_matches(')')))
        }
        _ => (text, None),
    };
    let number = |text: &str| text.trim().replace(',', ".").replace('−', "-").parse::<f64>().ok();
    let end = text.find(|c: char| !(c.is_ascii_digit() || matches!(c, '.' | ',' | '-' | '−' | '+' | 'e' | 'E')));
    // The e of an exponent is not the first letter of a unit.
    let (value, unit) = (0..=end.unwrap_or(text.len()))
        .rev()
        .filter(|at| text.is_char_boundary(*at))
        .find_map(|at| number(&text[..at]).map(|value| (value, text[at..].trim())))
        .ok_or_else(|| format!("“{text}” is no number: write “{name} = 2.5 m”."))?;
    let unit = unit.trim_start_matches('[').trim_end_matches(']').trim();
    let (mut low, mut high) = (None, None);
    if let Some((from, to)) = bounds.and_then(|bounds| bounds.split_once("to")) {
        let bound = |text: &str| -> Result<Option<f64>, String> {
            if text.trim().is_empty() {
                return Ok(None);
            }
            number(text).map(Some).ok_or_else(|| format!("“{}” is no bound of {name}: write “(0 to 4)”.", text.trim()))
        };
        (low, high) = (bound(from)?, bound(to)?);
    }
    let unit = if unit.is_empty() { own_unit } else { unit.to_owned() };
    Ok(NamedValue { name, unit, value, low, high })
}

#[cfg(test)]
mod tests {
    use super::*;

    const TANK: &str = "# Tank with a drain\nstate level = 2 m (0 to 4)\ninput inflow = 0,01 [m³/s]\n\
                        parameter area = 3 m² (0.1 to 100)\nparameter k = 7e-3\n\noutflow = k * sqrt(level)\n\
                        dlevel/dt = (inflow - outflow) / area\noutput height [m] = level\n";

    #[test]
    fn lines_become_equations_and_are_written_again() {
        let (spec, faults) = EquationsSpec::read(TANK);
        assert_eq!(faults, []);
        assert_eq!(
            (spec.title.as_str(), spec.states[0].high, spec.inputs[0].value),
            ("Tank with a drain", Some(4.0), 0.01)
        );
        assert_eq!((spec.parameters[0].unit.as_str(), spec.parameters[1].value), ("m²", 0.007));
        assert_eq!((spec.rates[0].name.as_str(), spec.outputs[0].unit.as_str()), ("level", "m"));
        assert_eq!(EquationsSpec::read(&spec.written()), (spec, vec![]));
        let (primed, faults) = EquationsSpec::read(&TANK.replace("dlevel/dt", "level'"));
        assert!(faults.is_empty() && primed.rates[0].name == "level");
    }

    #[test]
    fn what_is_wrong_is_told_by_its_line() {
        let fault = |text: &str| {
            let faults = EquationsSpec::read(text).1;
            (faults[0].line, faults[0].message.clone())
        };
        assert_eq!(fault(&TANK.replace("2 m (", "two m (")).0, 2);
        assert_eq!(fault(&TANK.replace("outflow = k", "outflow k")).0, 7);
        let (line, message) = fault(&TANK.replace("sqrt(level)", "sqrt(lvel)"));
        assert!(line == 7 && message.contains("lvel"), "{line} {message}");
        let (line, message) = fault(&TANK.replace("k = 7e-3", "k = 7e-3\nparameter k = 1"));
        assert!(line == 6 && message.contains("name of its own"), "{line} {message}");
        let (_, message) = fault(&TANK.replace("dlevel/dt = (inflow - outflow) / area\n", ""));
        assert!(message.contains("level is missing"), "{message}");
        let (line, message) = fault(&TANK.replace("= 2 m (0 to 4)", "= 5 m (0 to 4)"));
        assert!(line == 2 && message.contains("0 to 4"), "{line} {message}");
    }
}
