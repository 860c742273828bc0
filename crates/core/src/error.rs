//! What can be wrong with an input, in words that can be shown to the user.

/// The result of everything in the core that can refuse its input.
pub type Result<T> = std::result::Result<T, Error>;

/// A refused input: which quantity, its value, and what would be allowed.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
pub enum Error {
    /// A field holds a value outside what is allowed.
    #[error("{field} is {value}; allowed: {allowed}")]
    Invalid {
        /// The field's name, as the user sees it (`scan`, `candidate.gain`).
        field: String,
        /// The value that was given, with its unit where it has one.
        value: String,
        /// What is allowed.
        allowed: String,
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

    /// The data cannot answer: `what` is the matter, `remedy` is what to do.
    pub fn unfit(what: impl Into<String>, remedy: impl Into<String>) -> Self {
        Self::Unfit { what: what.into(), remedy: remedy.into() }
    }

    /// The name of the field that was refused, if the error is about one.
    #[must_use]
    pub fn field(&self) -> Option<&str> {
        match self {
            Self::Invalid { field, .. } => Some(field),
            Self::Unfit { .. } => None,
        }
    }
}

/// Checks of single numbers; each names the field in its error.
pub mod check {
    use super::{Error, Result};

    /// Beyond this no quantity of a plant makes sense, and computations would overflow.
    const LARGEST: f64 = 1e9;
    /// Below this, something that must be above 0 makes no sense.
    const SMALLEST: f64 = 1e-9;

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
