//! Units of measure and the spans of signals.

mod unit;

pub use unit::{Quantity, Unit};

use crate::{Error, Result, check};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Least width of a span, in its unit.
const NARROWEST: f64 = 1e-9;

/// The lower and upper range value of a signal with its unit.
///
/// Controllers work in % of span: 0 % is `low`, 100 % is `high`.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Span {
    /// Lower range value, in `unit`.
    pub low: f64,
    /// Upper range value, in `unit`; above `low`.
    pub high: f64,
    /// The unit as written on the instrument, for example `°C`.
    pub unit: String,
}

impl Span {
    /// A span from `low` to `high` in `unit`.
    pub fn new(low: f64, high: f64, unit: impl Into<String>) -> Self {
        Self { low, high, unit: unit.into() }
    }

    /// Refuses a span whose ends are not numbers or not in order; `field` names it in the error.
    pub fn validate(&self, field: &str) -> Result<()> {
        check::finite(&format!("{field}.low"), self.low)?;
        check::finite(&format!("{field}.high"), self.high)?;
        let width = self.high - self.low;
        if width <= 0.0 || !width.is_finite() {
            return Err(Error::invalid(
                format!("{field}.high"),
                format!("{} {}", self.high, self.unit),
                format!("above the lower range value, {} {}", self.low, self.unit),
            ));
        }
        if width < NARROWEST {
            let given = format!("only {width:e} {} above the lower range value", self.unit);
            return Err(Error::invalid(format!("{field}.high"), given, format!("at least {NARROWEST:e} above it")));
        }
        if self.unit.chars().count() > 24 || self.unit.chars().any(char::is_control) {
            return Err(Error::invalid(format!("{field}.unit"), &self.unit, "at most 24 printable characters"));
        }
        Ok(())
    }

    /// A span about values that were seen, for a signal whose transmitter nobody has named yet: a quarter of their range
    /// either side, to round numbers, from 0 where they are far above it. Common practice; percentages get 0 to 100.
    #[must_use]
    pub fn about(low: f64, high: f64, unit: &str) -> Self {
        if unit.trim() == "%" && low >= -1.0 && high <= 101.0 {
            return Self::new(0.0, 100.0, unit);
        }
        let range = (high - low).max(1e-3 * high.abs().max(low.abs())).max(1e-6);
        let size = 10f64.powf((range / 4.0).log10().floor());
        let step = [1.0, 2.0, 5.0, 10.0].into_iter().map(|factor| factor * size).find(|step| 4.0 * step >= range);
        let step = step.unwrap_or(size);
        let from_zero = low >= 0.0 && low - range < 0.5 * low.max(range);
        let bottom = if from_zero { 0.0 } else { ((low - 0.25 * range) / step).floor() * step };
        let top = ((high + 0.25 * range) / step).ceil() * step;
        // Without the dust of binary fractions.
        let clean = |value: f64| format!("{value:.9e}").parse().unwrap_or(value);
        Self::new(clean(bottom), clean(top), unit)
    }

    /// Upper minus lower range value.
    #[must_use]
    pub fn width(&self) -> f64 {
        self.high - self.low
    }

    /// A value in the span's unit as % of span.
    #[must_use]
    pub fn to_percent(&self, value: f64) -> f64 {
        100.0 * (value - self.low) / self.width()
    }

    /// A % of span as a value in the span's unit.
    #[must_use]
    pub fn from_percent(&self, percent: f64) -> f64 {
        self.low + self.width() * percent / 100.0
    }

    /// The same span in another unit of the same quantity.
    pub fn converted(&self, to: &str) -> Result<Self> {
        let (from, target) = (Unit::parse(&self.unit)?, Unit::parse(to)?);
        Ok(Self::new(from.convert(self.low, &target)?, from.convert(self.high, &target)?, to))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn percent_of_span_goes_there_and_back() {
        let span = Span::new(-50.0, 150.0, "°C");
        assert_eq!(span.to_percent(50.0), 50.0);
        for value in [-80.0, -50.0, 3.7, 150.0, 410.0] {
            assert!((span.from_percent(span.to_percent(value)) - value).abs() < 1e-12);
        }
    }

    #[test]
    fn a_span_about_values_holds_them_and_is_round() {
        let about = |low, high| Span::about(low, high, "°C");
        assert_eq!(about(88.0, 97.0), Span::new(85.0, 100.0, "°C"));
        assert_eq!(about(1.0, 9.0), Span::new(0.0, 12.0, "°C"));
        assert_eq!(Span::about(20.0, 60.0, "%"), Span::new(0.0, 100.0, "%"));
        for (low, high) in [(-3.2, 4.1), (0.0, 0.0), (1e-4, 2e-4), (1000.0, 1000.5), (-50.0, -20.0)] {
            let span = about(low, high);
            assert!(span.low <= low && span.high >= high && span.validate("pv").is_ok(), "{span:?}");
        }
    }

    #[test]
    fn a_span_names_what_is_wrong_with_it() {
        let error = Span::new(10.0, 10.0, "bar").validate("pv.span").unwrap_err();
        assert_eq!(
            error.to_string(),
            "The upper range value of the PV is 10 bar: it must be above the lower range value, 10 bar."
        );
        assert!(Span::new(f64::NAN, 1.0, "bar").validate("pv.span").is_err());
        assert!(Span::new(-f64::MAX, f64::MAX, "bar").validate("pv.span").is_err());
    }

    #[test]
    fn a_span_converts_with_its_zero() {
        let fahrenheit = Span::new(0.0, 100.0, "°C").converted("°F").unwrap();
        assert!((fahrenheit.low - 32.0).abs() < 1e-9 && (fahrenheit.high - 212.0).abs() < 1e-9);
        let error = Span::new(0.0, 1.0, "bar").converted("°C").unwrap_err();
        assert!(error.to_string().contains("pressure"), "{error}");
    }
}
