//! What a number means, in a sentence.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// How a verdict is to be taken.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Tone {
    /// As it should be.
    Good,
    /// Worth knowing before relying on it.
    Caution,
    /// Not to be relied on.
    Bad,
}

/// A sentence with its figure, and the rule that it applies.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Verdict {
    /// How it is to be taken.
    pub tone: Tone,
    /// The sentence.
    pub text: String,
    /// The rule and its source.
    pub rule: String,
}

impl Verdict {
    /// A verdict of this tone, applying `rule`.
    pub fn new(tone: Tone, text: impl Into<String>, rule: impl Into<String>) -> Self {
        Self { tone, text: text.into(), rule: rule.into() }
    }
}

/// A number with three significant digits, as it is read in a sentence, with a true minus sign.
#[must_use]
pub fn readable(value: f64) -> String {
    if value < 0.0 {
        return format!("−{}", readable(-value));
    }
    if value == 0.0 || !value.is_finite() {
        return value.to_string();
    }
    let magnitude = value.abs().log10().floor() as i32;
    // As it is written in the trade: so many zeros are not counted by eye.
    if magnitude < -5 {
        let mantissa = readable(value / 10f64.powi(magnitude));
        return format!("{mantissa}·10{}", superscript(magnitude));
    }
    let digits = 2 - magnitude;
    let rounded = if digits > 0 {
        format!("{value:.*}", digits as usize)
    } else {
        let unit = 10f64.powi(-digits);
        return format!("{:.0}", (value / unit).round() * unit);
    };
    rounded.trim_end_matches('0').trim_end_matches('.').to_owned()
}

/// A whole number as an exponent.
fn superscript(value: i32) -> String {
    const DIGITS: [char; 10] = ['⁰', '¹', '²', '³', '⁴', '⁵', '⁶', '⁷', '⁸', '⁹'];
    let sign = if value < 0 { "⁻" } else { "" };
    let digits = value.unsigned_abs().to_string();
    sign.chars().chain(digits.bytes().map(|digit| DIGITS[usize::from(digit - b'0')])).collect()
}

/// A duration in the unit in which it reads best.
#[must_use]
pub fn readable_duration(seconds: f64) -> String {
    match seconds.abs() {
        s if s >= 345_600.0 => format!("{} d", readable(seconds / 86_400.0)),
        s if s >= 7200.0 => format!("{} h", readable(seconds / 3600.0)),
        s if s >= 600.0 => format!("{} min", readable(seconds / 60.0)),
        _ => format!("{} s", readable(seconds)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_read_well() {
        let shown: Vec<_> = [0.0, 1.0, 2.345, 14.04, 148.2, 1234.0, 0.001_234, -99.96, 9.996].map(readable).into();
        assert_eq!(shown, ["0", "1", "2.35", "14", "148", "1230", "0.00123", "−100", "10"]);
        assert_eq!([1.77e-13, -2e-6, 1.2e-5].map(readable), ["1.77·10⁻¹³", "−2·10⁻⁶", "0.000012"]);
        assert_eq!(readable_duration(90.0), "90 s");
        assert_eq!(readable_duration(900.0), "15 min");
        assert_eq!(readable_duration(9000.0), "2.5 h");
    }
}
