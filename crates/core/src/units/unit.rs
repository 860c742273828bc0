//! The units a plant writes on its instruments.

use crate::{Error, Result};
use Quantity::{
    AmountConcentration, Current, Energy, Length, MassConcentration, MassFlow, Power, Pressure, Ratio, Speed,
    Temperature, Time, Voltage, Volume, VolumeFlow,
};

/// What a unit measures; only units of one quantity convert into each other.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[allow(missing_docs)]
pub enum Quantity {
    AmountConcentration,
    Current,
    Energy,
    Length,
    MassConcentration,
    MassFlow,
    Power,
    Pressure,
    Ratio,
    Speed,
    Temperature,
    Time,
    Voltage,
    Volume,
    VolumeFlow,
}

impl Quantity {
    /// The quantity in words, for messages.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            AmountConcentration => "amount concentration",
            Current => "current",
            Energy => "energy",
            Length => "length",
            MassConcentration => "mass concentration",
            MassFlow => "mass flow",
            Power => "power",
            Pressure => "pressure",
            Ratio => "ratio",
            Speed => "speed",
            Temperature => "temperature",
            Time => "time",
            Voltage => "voltage",
            Volume => "volume",
            VolumeFlow => "volume flow",
        }
    }
}

/// A unit of measure: `SI value = factor · value + offset`.
///
/// Factors are exact by the definitions of the SI and of the international yard and pound agreement (1959),
/// US liquid gallon 231 in³.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Unit {
    symbol: &'static str,
    quantity: Quantity,
    factor: f64,
    offset: f64,
}

const fn unit(symbol: &'static str, quantity: Quantity, factor: f64, offset: f64) -> Unit {
    Unit { symbol, quantity, factor, offset }
}

const MINUTE: f64 = 60.0;
const HOUR: f64 = 3600.0;
const DAY: f64 = 86_400.0;
const FOOT: f64 = 0.3048;
const POUND: f64 = 0.453_592_37;
const US_GALLON: f64 = 0.003_785_411_784;
const PSI: f64 = 6_894.757_293_168_361;

const UNITS: &[Unit] = &[
    unit("mol/L", AmountConcentration, 1000.0, 0.0),
    unit("mol/m³", AmountConcentration, 1.0, 0.0),
    unit("A", Current, 1.0, 0.0),
    unit("mA", Current, 1e-3, 0.0),
    unit("J", Energy, 1.0, 0.0),
    unit("kJ", Energy, 1e3, 0.0),
    unit("MJ", Energy, 1e6, 0.0),
    unit("kWh", Energy, 3.6e6, 0.0),
    unit("m", Length, 1.0, 0.0),
    unit("cm", Length, 0.01, 0.0),
    unit("mm", Length, 0.001, 0.0),
    unit("in", Length, 0.0254, 0.0),
    unit("ft", Length, FOOT, 0.0),
    unit("g/L", MassConcentration, 1.0, 0.0),
    unit("mg/L", MassConcentration, 1e-3, 0.0),
    unit("kg/m³", MassConcentration, 1.0, 0.0),
    unit("kg/s", MassFlow, 1.0, 0.0),
    unit("kg/min", MassFlow, 1.0 / MINUTE, 0.0),
    unit("kg/h", MassFlow, 1.0 / HOUR, 0.0),
    unit("t/h", MassFlow, 1000.0 / HOUR, 0.0),
    unit("t/d", MassFlow, 1000.0 / DAY, 0.0),
    unit("lb/h", MassFlow, POUND / HOUR, 0.0),
    unit("W", Power, 1.0, 0.0),
    unit("kW", Power, 1e3, 0.0),
    unit("MW", Power, 1e6, 0.0),
    unit("Pa", Pressure, 1.0, 0.0),
    unit("kPa", Pressure, 1e3, 0.0),
    unit("MPa", Pressure, 1e6, 0.0),
    unit("mbar", Pressure, 100.0, 0.0),
    unit("bar", Pressure, 1e5, 0.0),
    unit("psi", Pressure, PSI, 0.0),
    unit("%", Ratio, 0.01, 0.0),
    unit("1", Ratio, 1.0, 0.0),
    unit("ppm", Ratio, 1e-6, 0.0),
    unit("m/s", Speed, 1.0, 0.0),
    unit("K", Temperature, 1.0, 0.0),
    unit("°C", Temperature, 1.0, 273.15),
    unit("°F", Temperature, 5.0 / 9.0, 459.67 * 5.0 / 9.0),
    unit("ms", Time, 1e-3, 0.0),
    unit("s", Time, 1.0, 0.0),
    unit("min", Time, MINUTE, 0.0),
    unit("h", Time, HOUR, 0.0),
    unit("d", Time, DAY, 0.0),
    unit("V", Voltage, 1.0, 0.0),
    unit("mV", Voltage, 1e-3, 0.0),
    unit("m³", Volume, 1.0, 0.0),
    unit("L", Volume, 1e-3, 0.0),
    unit("m³/s", VolumeFlow, 1.0, 0.0),
    unit("m³/h", VolumeFlow, 1.0 / HOUR, 0.0),
    unit("L/s", VolumeFlow, 1e-3, 0.0),
    unit("L/min", VolumeFlow, 1e-3 / MINUTE, 0.0),
    unit("L/h", VolumeFlow, 1e-3 / HOUR, 0.0),
    unit("gal/min", VolumeFlow, US_GALLON / MINUTE, 0.0),
];

/// Other spellings that exports use for the units above.
const SPELLINGS: &[(&str, &str)] = &[
    ("degC", "°C"),
    ("deg C", "°C"),
    ("C", "°C"),
    ("ºC", "°C"),
    ("degF", "°F"),
    ("deg F", "°F"),
    ("F", "°F"),
    ("pct", "%"),
    ("percent", "%"),
    ("sec", "s"),
    ("seconds", "s"),
    ("minutes", "min"),
    ("hr", "h"),
    ("hours", "h"),
    ("m3", "m³"),
    ("m3/h", "m³/h"),
    ("m3/s", "m³/s"),
    ("l/min", "L/min"),
    ("l/h", "L/h"),
    ("l/s", "L/s"),
    ("l", "L"),
    ("gpm", "gal/min"),
    ("kg/m3", "kg/m³"),
    ("mol/l", "mol/L"),
    ("mol/m3", "mol/m³"),
];

impl Unit {
    /// The unit with this symbol or one of its common spellings (`degC` is `°C`).
    pub fn parse(text: &str) -> Result<Self> {
        let trimmed = text.trim();
        let symbol = SPELLINGS.iter().find(|(spelling, _)| *spelling == trimmed).map_or(trimmed, |(_, symbol)| symbol);
        UNITS.iter().find(|unit| unit.symbol == symbol).copied().ok_or_else(|| {
            let known: Vec<_> = UNITS.iter().map(|unit| unit.symbol).collect();
            Error::invalid("unit", format!("“{text}”"), format!("one of {}", known.join(", ")))
        })
    }

    /// The symbol as it is printed.
    #[must_use]
    pub fn symbol(&self) -> &'static str {
        self.symbol
    }

    /// What the unit measures.
    #[must_use]
    pub fn quantity(&self) -> Quantity {
        self.quantity
    }

    /// Factor and offset that make a value in the unit `from` one in the unit `to`; None where these are spelt alike.
    ///
    /// Errors at `field` when one of them is not known, or measures something else.
    pub fn conversion(field: &str, from: &str, to: &str) -> Result<Option<(f64, f64)>> {
        if from.trim() == to.trim() {
            return Ok(None);
        }
        let units = Self::parse(from).ok().zip(Self::parse(to).ok());
        let (from, to) = units.filter(|(from, to)| from.quantity == to.quantity).ok_or_else(|| {
            let allowed = match to.trim() {
                "" => "empty, since the input is a pure number".to_owned(),
                to => format!("{to}, or a unit that converts into it"),
            };
            Error::invalid(field, format!("“{from}”"), allowed)
        })?;
        Ok(Some((from.factor / to.factor, (from.offset - to.offset) / to.factor)))
    }

    /// A value in this unit, in another unit of the same quantity.
    pub fn convert(&self, value: f64, to: &Self) -> Result<f64> {
        if self.quantity != to.quantity {
            return Err(Error::invalid(
                "unit",
                format!("{} ({})", to.symbol, to.quantity.name()),
                format!("a unit of {}, as {} is", self.quantity.name(), self.symbol),
            ));
        }
        Ok((self.factor * value + self.offset - to.offset) / to.factor)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn convert(value: f64, from: &str, to: &str) -> f64 {
        Unit::parse(from).unwrap().convert(value, &Unit::parse(to).unwrap()).unwrap()
    }

    #[test]
    fn fixed_points_and_definitions() {
        // Water boils at 100 °C = 212 °F = 373.15 K; absolute zero is −459.67 °F (definition of the scales).
        assert!((convert(100.0, "°C", "°F") - 212.0).abs() < 1e-9);
        assert!((convert(100.0, "degC", "K") - 373.15).abs() < 1e-9);
        assert!((convert(0.0, "K", "°F") + 459.67).abs() < 1e-9);
        // 1 bar = 14.503 773 773 psi (NIST SP 811, appendix B).
        assert!((convert(1.0, "bar", "psi") - 14.503_773_773).abs() < 1e-8);
        // 1 US gal/min = 0.227 124 707 m³/h, from 231 in³.
        assert!((convert(1.0, "gpm", "m³/h") - 0.227_124_707_04).abs() < 1e-12);
        assert_eq!(convert(90.0, "min", "h"), 1.5);
    }

    #[test]
    fn a_quantity_is_not_turned_into_another() {
        let error = Unit::parse("bar").unwrap().convert(1.0, &Unit::parse("°C").unwrap()).unwrap_err();
        assert_eq!(error.to_string(), "The unit is °C (temperature): it must be a unit of pressure, as bar is.");
        assert!(
            Unit::parse("furlong").unwrap_err().to_string().starts_with("The unit is “furlong”: it must be one of ")
        );
    }
}
