//! The forms and units in which controllers take PID settings, and the conversions between them.
//!
//! Everything inside is the ideal form with gain, seconds and times; what a controller on a plant wants is made here
//! (Åström & Hägglund, Advanced PID Control, 2006, section 3.2).

use super::PidSettings;
use crate::numerics::rounded;
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

    /// Settings as they are written in this notation. Errors where there are none: a series form exists only for
    /// `Ti ≥ 4 Td`.
    pub fn write(self, settings: &PidSettings) -> Result<InNotation> {
        self.validate()?;
        let (mut gain, mut integral, mut derivative) =
            (settings.gain, settings.integral_time, settings.derivative_time);
        if self.form == Form::Series {
            (gain, integral, derivative) = ideal_to_series(gain, integral, derivative)?;
        }
        let (unit, symbol) = (self.time.seconds(), self.time.symbol());
        let written = |name: &str, value: f64, unit: String| Written { name: name.to_owned(), value, unit };
        if self.form == Form::Parallel {
            return Ok(InNotation {
                proportional: written("proportional gain", gain, "%/%".to_owned()),
                integral: integral.map(|time| written("integral gain", gain / time * unit, format!("%/(% {symbol})"))),
                derivative: written("derivative gain", gain * derivative / unit, format!("% {symbol}/%")),
            });
        }
        let proportional = match self.proportional {
            ProportionalAs::Gain => written("gain", gain, "%/%".to_owned()),
            ProportionalAs::Band => written("proportional band", 100.0 / gain, "%".to_owned()),
        };
        let integral = integral.map(|time| match self.integral {
            IntegralAs::Time => written("integral time", time / unit, symbol.to_owned()),
            IntegralAs::Rate => written("integral rate", gain / time * unit, format!("%/(% {symbol})")),
            IntegralAs::Repeats => written("repeats", unit / time, format!("1/{symbol}")),
        });
        Ok(InNotation {
            proportional,
            integral,
            derivative: written("derivative time", derivative / unit, symbol.to_owned()),
        })
    }

    /// What settings become where they are typed in with so many significant digits: written, rounded, read again.
    pub fn as_typed(self, settings: &PidSettings, digits: u8) -> Result<PidSettings> {
        let InNotation { proportional, integral, derivative } = self.write(settings)?;
        let typed = |one: &Written| rounded(one.value, digits.into());
        self.read(typed(&proportional), integral.as_ref().map(typed), typed(&derivative), settings)
    }

    /// The settings that are written so: P, I and D in the order of [`InNotation`], with everything else as in `others`.
    pub fn read(
        self,
        proportional: f64,
        integral: Option<f64>,
        derivative: f64,
        others: &PidSettings,
    ) -> Result<PidSettings> {
        self.validate()?;
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
        let settings = PidSettings { gain, integral_time, derivative_time, ..others.clone() };
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

    fn all() -> Vec<Notation> {
        let mut all = Vec::new();
        for form in [Form::Ideal, Form::Parallel, Form::Series] {
            for proportional in [ProportionalAs::Gain, ProportionalAs::Band] {
                for integral in [IntegralAs::Time, IntegralAs::Rate, IntegralAs::Repeats] {
                    for time in [NotationTime::Seconds, NotationTime::Minutes] {
                        all.push(Notation { form, proportional, integral, time });
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
            let Ok(written) = notation.write(&settings) else {
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
                    &settings,
                )
                .unwrap();
            let close = |a: f64, b: f64| (a / b - 1.0).abs() < 1e-12;
            assert!(close(back.gain, 2.5) && close(back.integral_time.unwrap(), 75.0), "{notation:?}");
            assert!(close(back.derivative_time, 12.0), "{notation:?}");
        }
        assert_eq!(exist, 12 + 12 + 2);
    }

    #[test]
    fn forms_are_one_transfer_function() {
        // The three expressions evaluated at a frequency (definitions of the forms).
        let settings = PidSettings { derivative_time: 15.0, ..PidSettings::pi(2.0, 80.0) };
        let s = Complex64::new(0.0, 0.03);
        let ideal = 2.0 * (1.0 + (80.0 * s).inv() + 15.0 * s);
        let values = |form, integral| {
            let written = Notation { form, integral, ..Notation::default() }.write(&settings).unwrap();
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
        let written = series.write(&with(20.0)).unwrap();
        assert_eq!((written.integral.unwrap().value, written.derivative.value), (40.0, 40.0));
        let error = series.write(&with(20.1)).unwrap_err().to_string();
        assert!(error.contains("more than a quarter") && error.contains("at most 20 s"), "{error}");
        let band = Notation { form: Form::Parallel, proportional: ProportionalAs::Band, ..Notation::default() };
        assert!(band.write(&with(0.0)).unwrap_err().to_string().contains("gain in the parallel form"));
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
        let written = minutes.write(&settings).unwrap();
        assert_eq!((written.proportional.value, written.proportional.unit.as_str()), (40.0, "%"));
        let repeats = written.integral.unwrap();
        assert!((repeats.value - 60.0 / 90.0).abs() < 1e-15 && repeats.unit == "1/min");
    }
}
