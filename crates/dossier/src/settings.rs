//! The settings of every controller of a trial as they are typed in.

use crate::document::Fact;
use antistasis_core::controller::{ControllerSpec, Notation, PidSettings, Written};
use antistasis_core::simulation::Trial;

/// A controller with its settings.
pub(crate) struct Sheet {
    /// Its name.
    pub name: String,
    /// What it is.
    pub title: &'static str,
    /// Its settings; why they cannot be written so, where they cannot.
    pub rows: Result<Vec<Fact>, String>,
}

/// A number to so many significant digits, as it is typed: never as a power of ten.
pub(crate) fn typed(value: f64, digits: u8) -> String {
    if value == 0.0 || !value.is_finite() {
        return value.to_string();
    }
    let places = i32::from(digits) - 1 - value.abs().log10().floor() as i32;
    let text = if places > 0 {
        format!("{value:.*}", places as usize)
    } else {
        let unit = 10f64.powi(-places);
        format!("{:.0}", (value / unit).round() * unit)
    };
    let text = if text.contains('.') { text.trim_end_matches('0').trim_end_matches('.') } else { &text };
    text.replace('-', "−")
}

/// All controllers of a trial, the first one first.
pub(crate) fn sheets(trial: &Trial, notation: Notation, digits: u8, from: &str) -> Vec<Sheet> {
    let (plant, candidate) = (&trial.plant, &trial.candidate);
    let first = (plant.loop_tag().to_owned(), &candidate.controller);
    let further = candidate.further.iter().map(|own| (own.name.clone(), &own.controller));
    let sheet = |(name, controller): (String, &ControllerSpec)| Sheet {
        name,
        title: controller.title(),
        rows: match controller {
            ControllerSpec::Pid(settings) => of_pid(settings, notation, digits, from),
            other => {
                Err(format!("A {} has no settings to type in: trial {from} holds them as a document.", other.title()))
            }
        },
    };
    std::iter::once(first).chain(further).map(sheet).collect()
}

fn of_pid(settings: &PidSettings, notation: Notation, digits: u8, from: &str) -> Result<Vec<Fact>, String> {
    let written = notation.write(settings).map_err(|error| error.to_string())?;
    let source = format!("trial {from}, to {digits} digits");
    let fact = |one: Written| {
        let mut name = one.name;
        name[..1].make_ascii_uppercase();
        Fact::new(name, format!("{} {}", typed(one.value, digits), one.unit).trim_end().to_owned(), source.clone())
    };
    let derivative = Some(written.derivative).filter(|derivative| derivative.value != 0.0);
    let mut rows: Vec<Fact> =
        [Some(written.proportional), written.integral, derivative].into_iter().flatten().map(fact).collect();
    let others = settings.others_in_words().into_iter();
    rows.extend(others.map(|(name, value)| Fact::new(name, value, format!("trial {from}"))));
    Ok(rows)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn numbers_are_typed_in_full() {
        for (value, digits, text) in [
            (1.23456, 3, "1.23"),
            (0.000_123_4, 2, "0.00012"),
            (98_765.0, 3, "98800"),
            (2.0, 4, "2"),
            (-0.5, 3, "−0.5"),
        ] {
            assert_eq!(typed(value, digits), text);
        }
    }

    proptest! {
        /// What is typed is read back within half of its last digit.
        #[test]
        fn what_is_typed_is_near(value in 1e-6..1e6f64, digits in 2u8..=6) {
            let read: f64 = typed(value, digits).parse().unwrap();
            prop_assert!((read - value).abs() <= 0.5001 * 10f64.powi(1 - i32::from(digits)) * 10f64.powf(value.log10().floor()));
        }
    }
}
