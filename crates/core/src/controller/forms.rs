//! The forms and units in which controllers take PID settings, and the conversions between them.
//!
//! Everything inside is the ideal form with gain, seconds and times; what a controller on a plant wants is made here
//! (Åström & Hägglund, Advanced PID Control, 2006, section 3.2).

use super::PidSettings;
use crate::numerics::rounded;
use crate::units::Span;
use crate::{Error, Result, check};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The form of the algorithm.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Form {
    /// `Kc (1 + 1/(Ti s) + Td s)`, also called standard or non-interacting.
    #[default]
    Ideal,
    /// `Kp + Ki/s + Kd s`.
    Parallel,
    /// `K' (1 + 1/(Ti' s)) (1 + Td' s)`, also called interacting.
    Series,
}

/// How the proportional action is given.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum ProportionalAs {
    /// Gain, % per %.
    #[default]
    Gain,
    /// Proportional band, 100 % divided by the gain.
    Band,
}

/// How the integral action is given, in the ideal and series forms.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum IntegralAs {
    /// Integral (reset) time.
    #[default]
    Time,
    /// Integral rate: the gain divided by the integral time.
    Rate,
    /// Repeats per time unit: the inverse of the integral time.
    Repeats,
}

/// What the gain counts the PV in. The OP is in % always.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum GainOver {
    /// % of the span of the PV.
    #[default]
    Percent,
    /// The engineering unit of the PV.
    EngineeringUnit,
}

/// The unit of times.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum NotationTime {
    /// Seconds.
    #[default]
    Seconds,
    /// Minutes.
    Minutes,
}

impl NotationTime {
    fn seconds(self) -> f64 {
        match self {
            Self::Seconds => 1.0,
            Self::Minutes => 60.0,
        }
    }

    fn symbol(self) -> &'static str {
        match self {
            Self::Seconds => "s",
            Self::Minutes => "min",
        }
    }
}

/// How a controller on the plant takes its settings.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Notation {
    /// Form of the algorithm.
    #[serde(default)]
    pub form: Form,
    /// How the proportional action is given; the parallel form takes a gain.
    #[serde(default)]
    pub proportional: ProportionalAs,
    /// How the integral action is given; the parallel form takes a rate.
    #[serde(default)]
    pub integral: IntegralAs,
    /// Unit of times.
    #[serde(default)]
    pub time: NotationTime,
    /// What the gain counts the PV in.
    #[serde(default, skip_serializing_if = "is_percent")]
    pub gain_over: GainOver,
}

fn is_percent(gain_over: &GainOver) -> bool {
    *gain_over == GainOver::Percent
}

/// How a controller on the plant takes its settings, under a name of the works: a notation with the digits that are typed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct TargetController {
    /// The notation.
    pub notation: Notation,
    /// Significant digits, 2 to 6.
    #[schema(minimum = 2, maximum = 6)]
    pub digits: u8,
}

/// The digits that settings can be typed with.
pub const TYPED_DIGITS: std::ops::RangeInclusive<u8> = 2..=6;

impl TargetController {
    /// Refuses what no controller takes, naming the field.
    pub fn validate(self) -> Result<()> {
        self.notation.validate()?;
        check_digits(self.digits)
    }
}

/// Refuses digits that nothing is typed with.
pub(crate) fn check_digits(digits: u8) -> Result<()> {
    let (least, most) = (f64::from(*TYPED_DIGITS.start()), f64::from(*TYPED_DIGITS.end()));
    check::within("digits", f64::from(digits), least, most, "digits").map(drop)
}

/// The PV as a gain counts it: by how much a gain in %/% is multiplied, and the unit.
struct PvUnit<'a> {
    factor: f64,
    symbol: &'a str,
}

/// A number to type in.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Written {
    /// What it is called.
    pub name: String,
    /// The value.
    pub value: f64,
    /// Its unit.
    pub unit: String,
}

/// Proportional, integral and derivative action in a notation: P, I (null without integral action), D (0 without).
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct InNotation {
    /// The proportional setting.
    pub proportional: Written,
    /// The integral setting.
    pub integral: Option<Written>,
    /// The derivative setting.
    pub derivative: Written,
}

impl Notation {
    /// Refuses what does not exist: the parallel form has gains only.
    fn validate(self) -> Result<()> {
        if self.form != Form::Parallel {
            return Ok(());
        }
        if self.proportional == ProportionalAs::Band {
            return Err(Error::invalid("notation.proportional", "band", "gain in the parallel form"));
        }
        if self.integral != IntegralAs::Rate {
            let given = if self.integral == IntegralAs::Time { "time" } else { "repeats" };
            return Err(Error::invalid("notation.integral", given, "rate in the parallel form"));
        }
        Ok(())
    }

    /// The unit of the PV in which the gain is given.
    fn pv_unit(self, span: &Span) -> Result<PvUnit<'_>> {
        match self.gain_over {
            GainOver::Percent => Ok(PvUnit { factor: 1.0, symbol: "%" }),
            GainOver::EngineeringUnit => {
                span.validate("pv.span")?;
                Ok(PvUnit { factor: 100.0 / span.width(), symbol: &span.unit })
            }
        }
    }

    /// Settings as they are written in this notation, of a controller on a PV of this span. Errors where there are none: a series form
    /// exists only for `Ti ≥ 4 Td`.
    pub fn write(self, settings: &PidSettings, span: &Span) -> Result<InNotation> {
        self.validate()?;
        let PvUnit { factor, symbol } = self.pv_unit(span)?;
        // `%/(kg/s)`, and a band in kg/s.
        let pv = if symbol.contains(['/', ' ']) { format!("({symbol})") } else { symbol.to_owned() };
        let band = symbol.to_owned();
        let (mut gain, mut integral, mut derivative) =
            (settings.gain, settings.integral_time, settings.derivative_time);
        if self.form == Form::Series {
            (gain, integral, derivative) = ideal_to_series(gain, integral, derivative)?;
        }
        gain *= factor;
        let (unit, symbol) = (self.time.seconds(), self.time.symbol());
        let written = |name: &str, value: f64, unit: String| Written { name: name.to_owned(), value, unit };
        if self.form == Form::Parallel {
            return Ok(InNotation {
                proportional: written("proportional gain", gain, format!("%/{pv}")),
                integral: integral
                    .map(|time| written("integral gain", gain / time * unit, format!("%/({pv} {symbol})"))),
                derivative: written("derivative gain", gain * derivative / unit, format!("% {symbol}/{pv}")),
            });
        }
        let proportional = match self.proportional {
            ProportionalAs::Gain => written("gain", gain, format!("%/{pv}")),
            ProportionalAs::Band => written("proportional band", 100.0 / gain, band),
        };
        let integral = integral.map(|time| match self.integral {
            IntegralAs::Time => written("integral time", time / unit, symbol.to_owned()),
            IntegralAs::Rate => written("integral rate", gain / time * unit, format!("%/({pv} {symbol})")),
            IntegralAs::Repeats => written("repeats", unit / time, format!("1/{symbol}")),
        });
        Ok(InNotation {
            proportional,
            integral,
            derivative: written("derivative time", derivative / unit, symbol.to_owned()),
        })
    }

    /// What settings become where they are typed in with so many significant digits: written, rounded, read again.
    pub fn as_typed(self, settings: &PidSettings, span: &Span, digits: u8) -> Result<PidSettings> {
        let InNotation { proportional, integral, derivative } = self.write(settings, span)?;
        let typed = |one: &Written| rounded(one.value, digits.into());
        self.read(typed(&proportional), integral.as_ref().map(typed), typed(&derivative), (settings, span))
    }

    /// The settings that are written so: P, I and D in the order of [`InNotation`], with everything else as in `others`, of a controller
    /// on a PV of this span.
    pub fn read(
        self,
        proportional: f64,
        integral: Option<f64>,
        derivative: f64,
        (others, span): (&PidSettings, &Span),
    ) -> Result<PidSettings> {
        self.validate()?;
        let PvUnit { factor, .. } = self.pv_unit(span)?;
        check::positive("proportional", proportional, "")?;
        if let Some(integral) = integral {
            check::positive("integral", integral, "")?;
        }
        check::not_negative("derivative", derivative, "")?;
        let unit = self.time.seconds();
        let (gain, time, derivative) = if self.form == Form::Parallel {
            let gain = proportional;
            (gain, integral.map(|rate| gain / rate * unit), derivative * unit / gain)
        } else {
            let gain = match self.proportional {
                ProportionalAs::Gain => proportional,
                ProportionalAs::Band => 100.0 / proportional,
            };
            let time = integral.map(|value| match self.integral {
                IntegralAs::Time => value * unit,
                IntegralAs::Rate => gain / value * unit,
                IntegralAs::Repeats => unit / value,
            });
            (gain, time, derivative * unit)
        };
        let (gain, integral_time, derivative_time) = match self.form {
            Form::Series => series_to_ideal(gain, time, derivative),
            _ => (gain, time, derivative),
        };
        let settings = PidSettings { gain: gain / factor, integral_time, derivative_time, ..others.clone() };
        settings.validate()?;
        Ok(settings)
    }
}

/// `(Kc, Ti, Td)` of `K' (1 + 1/(Ti' s)) (1 + Td' s)`: always exists.
fn series_to_ideal(gain: f64, integral: Option<f64>, derivative: f64) -> (f64, Option<f64>, f64) {
    match integral {
        None => (gain, None, derivative),
        Some(time) => {
            let factor = 1.0 + derivative / time;
            (gain * factor, Some(time + derivative), derivative / factor)
        }
    }
}

/// The inverse: `Ti'` and `Td'` are the roots of `x² − Ti x + Ti Td`, the longer one integrating.
fn ideal_to_series(gain: f64, integral: Option<f64>, derivative: f64) -> Result<(f64, Option<f64>, f64)> {
    let Some(time) = integral else { return Ok((gain, None, derivative)) };
    let inside = 1.0 - 4.0 * derivative / time;
    if inside < 0.0 {
        return Err(Error::invalid(
            "controller.derivative_time",
            format!("{derivative} s, more than a quarter of the integral time, {time} s"),
            format!("at most {} s for a series form: it has real zeros only", time / 4.0),
        ));
    }
    let share = 0.5 * (1.0 + inside.sqrt());
    Ok((gain * share, Some(time * share), time * (1.0 - share)))
}

#[cfg(test)]
mod tests {
    use super::*;
    use num_complex::Complex64;

    fn span() -> Span {
        Span::new(0.0, 150.0, "°C")
    }

    fn all() -> Vec<Notation> {
        let mut all = Vec::new();
        for form in [Form::Ideal, Form::Parallel, Form::Series] {
            for proportional in [ProportionalAs::Gain, ProportionalAs::Band] {
                for integral in [IntegralAs::Time, IntegralAs::Rate, IntegralAs::Repeats] {
                    for time in [NotationTime::Seconds, NotationTime::Minutes] {
                        for gain_over in [GainOver::Percent, GainOver::EngineeringUnit] {
                            all.push(Notation { form, proportional, integral, time, gain_over });
                        }
                    }
                }
            }
        }
        all
    }

    #[test]
    fn every_notation_that_exists_round_trips() {
        let settings = PidSettings { derivative_time: 12.0, ..PidSettings::pi(2.5, 75.0) };
        let mut exist = 0;
        for notation in all() {
            let Ok(written) = notation.write(&settings, &span()) else {
                assert_eq!(notation.form, Form::Parallel);
                continue;
            };
            exist += 1;
            let value = |written: &Written| written.value;
            let back = notation
                .read(
                    value(&written.proportional),
                    written.integral.as_ref().map(value),
                    written.derivative.value,
                    (&settings, &span()),
                )
                .unwrap();
            let close = |a: f64, b: f64| (a / b - 1.0).abs() < 1e-12;
            assert!(close(back.gain, 2.5) && close(back.integral_time.unwrap(), 75.0), "{notation:?}");
            assert!(close(back.derivative_time, 12.0), "{notation:?}");
        }
        assert_eq!(exist, 2 * (12 + 12 + 2));
    }

    #[test]
    fn forms_are_one_transfer_function() {
        // The three expressions evaluated at a frequency (definitions of the forms).
        let settings = PidSettings { derivative_time: 15.0, ..PidSettings::pi(2.0, 80.0) };
        let s = Complex64::new(0.0, 0.03);
        let ideal = 2.0 * (1.0 + (80.0 * s).inv() + 15.0 * s);
        let values = |form, integral| {
            let written = Notation { form, integral, ..Notation::default() }.write(&settings, &span()).unwrap();
            (written.proportional.value, written.integral.unwrap().value, written.derivative.value)
        };
        let (k, ti, td) = values(Form::Series, IntegralAs::Time);
        assert!((k * (1.0 + (ti * s).inv()) * (1.0 + td * s) - ideal).norm() < 1e-12);
        let (kp, ki, kd) = values(Form::Parallel, IntegralAs::Rate);
        assert!((kp + ki / s + kd * s - ideal).norm() < 1e-12);
    }

    #[test]
    fn a_series_form_that_does_not_exist_says_so() {
        // It exists only when Ti ≥ 4 Td (Åström & Hägglund 2006, section 3.2).
        let series = Notation { form: Form::Series, ..Notation::default() };
        let with = |derivative_time| PidSettings { derivative_time, ..PidSettings::pi(2.0, 80.0) };
        let written = series.write(&with(20.0), &span()).unwrap();
        assert_eq!((written.integral.unwrap().value, written.derivative.value), (40.0, 40.0));
        let error = series.write(&with(20.1), &span()).unwrap_err().to_string();
        assert!(error.contains("more than a quarter") && error.contains("at most 20 s"), "{error}");
        let band = Notation { form: Form::Parallel, proportional: ProportionalAs::Band, ..Notation::default() };
        assert!(band.write(&with(0.0), &span()).unwrap_err().to_string().contains("gain in the parallel form"));
    }

    #[test]
    fn engineering_units_are_of_the_span() {
        // 2 % of OP for 1 % of 150 °C, which is 1.5 °C: 4/3 % for 1 °C; all of the OP over 75 °C.
        let settings = PidSettings { derivative_time: 12.0, ..PidSettings::pi(2.0, 60.0) };
        let over = |notation: Notation| {
            let notation = Notation { gain_over: GainOver::EngineeringUnit, ..notation };
            notation.write(&settings, &span()).unwrap()
        };
        let told = |one: &Written| (crate::numerics::rounded(one.value, 12), one.unit.clone());
        let plain = over(Notation::default());
        assert_eq!(told(&plain.proportional), (rounded(4.0 / 3.0, 12), "%/°C".to_owned()));
        assert_eq!(told(&plain.integral.unwrap()), (60.0, "s".to_owned()));
        let band = over(Notation { proportional: ProportionalAs::Band, ..Notation::default() });
        assert_eq!(told(&band.proportional), (75.0, "°C".to_owned()));
        let parallel = over(Notation { form: Form::Parallel, integral: IntegralAs::Rate, ..Notation::default() });
        assert_eq!(told(&parallel.integral.unwrap()), (rounded(4.0 / 180.0, 12), "%/(°C s)".to_owned()));
        assert_eq!(told(&parallel.derivative), (16.0, "% s/°C".to_owned()));
        let flat = Span::new(5.0, 5.0, "m");
        let notation = Notation { gain_over: GainOver::EngineeringUnit, ..Notation::default() };
        assert!(notation.write(&settings, &flat).is_err());
    }

    #[test]
    fn units_of_the_trade() {
        let settings = PidSettings::pi(2.5, 90.0);
        let minutes = Notation {
            proportional: ProportionalAs::Band,
            integral: IntegralAs::Repeats,
            time: NotationTime::Minutes,
            ..Notation::default()
        };
        let written = minutes.write(&settings, &span()).unwrap();
        assert_eq!((written.proportional.value, written.proportional.unit.as_str()), (40.0, "%"));
        let repeats = written.integral.unwrap();
        assert!((repeats.value - 60.0 / 90.0).abs() < 1e-15 && repeats.unit == "1/min");
    }
}
