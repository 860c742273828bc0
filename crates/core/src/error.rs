//! What can be wrong with an input, in words that can be shown to the user.

/// The result of everything in the core that can refuse its input.
pub type Result<T> = std::result::Result<T, Error>;

/// A refused input: which quantity, its value, and what would be allowed.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
pub enum Error {
    /// A field holds a value outside what is allowed.
    #[error("{}", sentence(field, value, allowed))]
    Invalid {
        /// The field's name, as the user sees it (`scan`, `candidate.gain`).
        field: String,
        /// The value that was given, with its unit where it has one.
        value: String,
        /// What is allowed.
        allowed: String,
    },
    /// A field that cannot be as it is, for a reason that needs a sentence of its own.
    #[error("{sentence}")]
    Said {
        /// The field's name, as in a document.
        field: String,
        /// What is the matter, in a sentence.
        sentence: String,
    },
    /// Data that cannot answer the question put to it.
    #[error("{what}: {remedy}")]
    Unfit {
        /// What is the matter with the data, with the figure.
        what: String,
        /// What to do about it.
        remedy: String,
    },
}

impl Error {
    /// A field holds `value`, which is not one of `allowed`.
    pub fn invalid(field: impl Into<String>, value: impl ToString, allowed: impl Into<String>) -> Self {
        Self::Invalid { field: field.into(), value: value.to_string(), allowed: allowed.into() }
    }

    /// A field cannot be as it is: `sentence` says why.
    pub fn said(field: impl Into<String>, sentence: impl Into<String>) -> Self {
        Self::Said { field: field.into(), sentence: sentence.into() }
    }

    /// The data cannot answer: `what` is the matter, `remedy` is what to do.
    pub fn unfit(what: impl Into<String>, remedy: impl Into<String>) -> Self {
        Self::Unfit { what: what.into(), remedy: remedy.into() }
    }

    /// The same about a part of a larger document: a field under `part` is one under `place`.
    #[must_use]
    pub fn within(mut self, place: &str, part: &str) -> Self {
        if let Self::Invalid { field, .. } | Self::Said { field, .. } = &mut self
            && let Some(rest) = field.strip_prefix(part)
        {
            *field = format!("{place}{rest}");
        }
        self
    }

    /// The name of the field that was refused, if the error is about one.
    #[must_use]
    pub fn field(&self) -> Option<&str> {
        match self {
            Self::Invalid { field, .. } | Self::Said { field, .. } => Some(field),
            Self::Unfit { .. } => None,
        }
    }
}

/// What is the matter with a field, in a sentence about the thing that it stands for.
fn sentence(field: &str, value: &str, allowed: &str) -> String {
    let last = field.rsplit('.').next().unwrap_or(field);
    let named = ["tag", "parameter", "signal", "input", "output", "formula", "process"];
    if let Some(list) = allowed.strip_prefix("one of ").or_else(|| allowed.strip_prefix("the tags "))
        && named.contains(&last)
    {
        let thing = if last == "tag" || last == "formula" { "channel" } else { last };
        return format!("There is no {thing} {value}; there are {}.", list.replace('_', " "));
    }
    format!("The {} is {}: it must be {allowed}.", in_words(field), without_zeros(value))
}

/// A value in whose numbers nobody has to count zeros: `1e300 °C`.
fn without_zeros(value: &str) -> String {
    // What a person types so is a tag or a text, and stays.
    let short = |word: &str| match word.parse::<f64>() {
        Ok(number)
            if word.len() > 20 && number != 0.0 && !(1e-15..1e15).contains(&number.abs()) && number.is_finite() =>
        {
            format!("{number:e}")
        }
        _ => word.to_owned(),
    };
    value.split(' ').map(short).collect::<Vec<_>>().join(" ")
}

/// What the last name of a path is called.
const NAMES: [(&str, &str); 24] = [
    ("pv", "PV"),
    ("op", "OP"),
    ("sp", "set point"),
    ("pv_range", "range of the PV"),
    ("op_range", "range of the OP"),
    ("op_rate", "rate of the OP"),
    ("at", "time"),
    ("by", "size"),
    ("from", "start"),
    ("to", "end"),
    ("na", "number of coefficients of A"),
    ("nb", "number of coefficients of B"),
    ("nc", "number of coefficients of C"),
    ("nd", "number of coefficients of D"),
    ("nf", "number of coefficients of F"),
    ("nk", "delay in samples"),
    ("lines", "number of lines"),
    ("windows", "window"),
    ("equals", "right-hand side"),
    ("parameters", "parameter"),
    ("at_0", "value at 0 % of OP"),
    ("at_100", "value at 100 % of OP"),
    ("low", "low end"),
    ("high", "high end"),
];
/// What a part of a document is called where something stands in it.
const PARTS: [(&str, &str); 19] = [
    ("further", "further controller"),
    ("further_measured", "further measured signal"),
    ("further_driven", "further driven signal"),
    ("controller", "controller"),
    ("process", "process"),
    ("sensor", "sensor"),
    ("actuator", "actuator"),
    ("operating_point", "operating point"),
    ("scenario", "scenario"),
    ("output_limits", "output limits"),
    ("schedule", "schedule"),
    ("feed_forward", "feed-forward"),
    ("characteristic", "characteristic"),
    ("moving_horizon", "moving horizon"),
    ("drive", "drive"),
    ("inner", "inner controller"),
    ("outer", "outer controller"),
    ("model", "model"),
    ("constraints", "what is known beforehand"),
];

/// The name of a field as a person says it: `scenario.events[0].at` is the time of event 1.
pub(crate) fn in_words(field: &str) -> String {
    // Some are words already, and options of the command line stay as they are typed.
    if field.contains(' ') || field.starts_with('-') {
        return field.to_owned();
    }
    // `events[0]` and `events.0` alike.
    let mut parts: Vec<(String, Option<usize>)> = Vec::new();
    for segment in field.split('.') {
        let (name, index) = match segment.split_once('[') {
            Some((name, rest)) => (name, rest.trim_end_matches(']').parse::<usize>().ok()),
            None => (segment, None),
        };
        match (name.parse::<usize>(), parts.last_mut()) {
            (Ok(index), Some(last)) => last.1 = Some(index),
            _ => parts.push((name.to_owned(), index)),
        }
    }
    let Some((last, own)) = parts.pop() else { return field.to_owned() };
    let plain = |name: &str| {
        let known = NAMES.iter().find(|(known, _)| *known == name);
        known.map_or_else(|| name.replace('_', " "), |(_, words)| (*words).to_owned())
    };
    let single = |name: &str| {
        plain(match name {
            "preparation" => "step",
            other => other.strip_suffix('s').unwrap_or(other),
        })
    };
    let before = parts.last().map(|(name, _)| name.as_str());
    let signal = |name: Option<&str>| name.filter(|name| ["pv", "op"].contains(name)).map(plain);
    let mut words = match (last.as_str(), before) {
        ("low", Some("span")) => "lower range value".to_owned(),
        ("high", Some("span")) => "upper range value".to_owned(),
        (name, _) => own.map_or_else(|| plain(name), |index| format!("{} {}", single(name), index + 1)),
    };
    for (name, index) in parts.iter().rev() {
        if let Some(index) = index {
            words += &format!(" of {} {}", single(name), index + 1);
            break;
        }
        if name == "span" {
            continue;
        }
        if let Some(signal) = signal(Some(name)) {
            words += &format!(" of the {signal}");
            break;
        }
        if let Some((_, part)) = PARTS.iter().find(|(known, _)| known == name) {
            let link = if *part == "what is known beforehand" { "in" } else { "of the" };
            words += &format!(" {link} {part}");
            break;
        }
    }
    words
}

/// Checks of single numbers; each names the field in its error.
pub mod check {
    use super::{Error, Result};

    /// Beyond this no quantity of a plant makes sense, and computations would overflow.
    const LARGEST: f64 = 1e9;
    /// Below this, something that must be above 0 makes no sense.
    const SMALLEST: f64 = 1e-9;
    /// Largest value of a sample, whatever its unit.
    pub const LARGEST_SAMPLE: f64 = 1e15;
    /// Least change of a signal that is told from none.
    pub const LEAST_CHANGE: f64 = 1e-15;

    /// `value` must be a number of at most 1e9 either side of 0.
    pub fn finite(field: &str, value: f64) -> Result<f64> {
        if value.abs() <= LARGEST { Ok(value) } else { Err(Error::invalid(field, value, "a number from -1e9 to 1e9")) }
    }

    /// `value` must be above 0, from 1e-9 to 1e9.
    pub fn positive(field: &str, value: f64, unit: &str) -> Result<f64> {
        if (SMALLEST..=LARGEST).contains(&value) {
            Ok(value)
        } else if value <= 0.0 {
            Err(Error::invalid(field, with_unit(value, unit), "above 0"))
        } else {
            Err(Error::invalid(field, with_unit(value, unit), "1e-9 to 1e9"))
        }
    }

    /// `value` must be 0 or more, at most 1e9.
    pub fn not_negative(field: &str, value: f64, unit: &str) -> Result<f64> {
        if (0.0..=LARGEST).contains(&value) {
            Ok(value)
        } else if value < 0.0 {
            Err(Error::invalid(field, with_unit(value, unit), "0 or more"))
        } else {
            Err(Error::invalid(field, with_unit(value, unit), "at most 1e9"))
        }
    }

    /// `value` must lie in `low..=high`.
    pub fn within(field: &str, value: f64, low: f64, high: f64, unit: &str) -> Result<f64> {
        if value.is_finite() && (low..=high).contains(&value) {
            Ok(value)
        } else {
            Err(Error::invalid(field, with_unit(value, unit), format!("{low} to {}", with_unit(high, unit))))
        }
    }

    fn with_unit(value: f64, unit: &str) -> String {
        if unit.is_empty() { value.to_string() } else { format!("{value} {unit}") }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nobody_counts_zeros() {
        let said = |value: &str| Error::invalid("gain", value, "at most 5").to_string();
        assert_eq!(said(&1e300.to_string()), "The gain is 1e300: it must be at most 5.");
        assert_eq!(said(&format!("only {} °C", -1e-308)), "The gain is only -1e-308 °C: it must be at most 5.");
        for plain in ["0", "0.0001", "-12.5 s", "100000000000", "1000000000000000", "none", "2 lags"] {
            assert_eq!(said(plain), format!("The gain is {plain}: it must be at most 5."));
        }
    }

    #[test]
    fn a_path_is_said_in_words() {
        for (field, words) in [
            ("scenario.events[0].at", "time of event 1"),
            ("controller.schedule.points.1.at", "time of point 2"),
            ("pv.span.high", "upper range value of the PV"),
            ("plant.pv.span.unit", "unit of the PV"),
            ("candidate.controller.integral_time", "integral time of the controller"),
            ("plant.operating_point.pv", "PV of the operating point"),
            ("preparation[2].part", "part of step 3"),
            ("process.states[1].name", "name of state 2"),
            ("scenario.scan", "scan of the scenario"),
            ("structure.na", "number of coefficients of A"),
            ("unit of T", "unit of T"),
            ("--known", "--known"),
        ] {
            assert_eq!(in_words(field), words, "{field}");
        }
        assert_eq!(sentence("scenario.scan", "0 s", "above 0"), "The scan of the scenario is 0 s: it must be above 0.");
        let tag = sentence("preparation[0].tag", "NO", "one of TIC-1.PV, TIC-1.OP");
        assert_eq!(tag, "There is no channel NO; there are TIC-1.PV, TIC-1.OP.");
    }
}
