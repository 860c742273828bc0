//! What settings must meet, as numbers and as words.

use crate::verdict::readable;
use crate::{Error, Result, check};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Limits that settings must keep; what is null is not asked.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Demands {
    /// Largest maximum sensitivity Ms, above 1.
    #[serde(default)]
    pub max_sensitivity: Option<f64>,
    /// Largest overshoot after a set point step, % of the step, 0 or more.
    #[serde(default)]
    pub overshoot: Option<f64>,
    /// Longest rise time (10 to 90 %) after a set point step, s, above 0.
    #[serde(default)]
    pub rise_time: Option<f64>,
    /// Longest settling time (±5 %) after a set point step, s, above 0.
    #[serde(default)]
    pub settling_time: Option<f64>,
    /// Longest way of the output after a load step, % of OP per % of load, above 1; in a scenario the whole way in %.
    #[serde(default)]
    pub output_travel: Option<f64>,
    /// Largest standard deviation of the output per that of white noise at the PV, % per %, above 0.
    #[serde(default)]
    pub noise_gain: Option<f64>,
}

/// One of the demands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Demand {
    /// Maximum sensitivity.
    MaxSensitivity,
    /// Overshoot.
    Overshoot,
    /// Rise time.
    RiseTime,
    /// Settling time.
    SettlingTime,
    /// Travel of the output.
    OutputTravel,
    /// Noise amplification.
    NoiseGain,
}

impl Demand {
    /// All of them.
    pub const ALL: [Self; 6] = [
        Self::MaxSensitivity,
        Self::Overshoot,
        Self::RiseTime,
        Self::SettlingTime,
        Self::OutputTravel,
        Self::NoiseGain,
    ];

    /// Its name and unit.
    #[must_use]
    pub fn title(self) -> (&'static str, &'static str) {
        match self {
            Self::MaxSensitivity => ("maximum sensitivity", ""),
            Self::Overshoot => ("overshoot", "%"),
            Self::RiseTime => ("rise time", "s"),
            Self::SettlingTime => ("settling time", "s"),
            Self::OutputTravel => ("output travel", ""),
            Self::NoiseGain => ("noise amplification", "%/%"),
        }
    }

    /// A value of it with its unit.
    #[must_use]
    pub fn with_unit(self, value: f64) -> String {
        format!("{} {}", readable(value), self.title().1).trim_end().to_owned()
    }

    /// Whether a set point step must be simulated to know it.
    pub(super) fn needs_set_point(self) -> bool {
        matches!(self, Self::Overshoot | Self::RiseTime | Self::SettlingTime)
    }
}

impl Demands {
    /// The limit of a demand, if it is asked.
    #[must_use]
    pub fn limit(&self, demand: Demand) -> Option<f64> {
        match demand {
            Demand::MaxSensitivity => self.max_sensitivity,
            Demand::Overshoot => self.overshoot,
            Demand::RiseTime => self.rise_time,
            Demand::SettlingTime => self.settling_time,
            Demand::OutputTravel => self.output_travel,
            Demand::NoiseGain => self.noise_gain,
        }
    }

    /// The same with another limit of one.
    #[must_use]
    pub fn with(&self, demand: Demand, limit: Option<f64>) -> Self {
        let mut demands = self.clone();
        *match demand {
            Demand::MaxSensitivity => &mut demands.max_sensitivity,
            Demand::Overshoot => &mut demands.overshoot,
            Demand::RiseTime => &mut demands.rise_time,
            Demand::SettlingTime => &mut demands.settling_time,
            Demand::OutputTravel => &mut demands.output_travel,
            Demand::NoiseGain => &mut demands.noise_gain,
        } = limit;
        demands
    }

    /// What is asked, with its limits.
    pub fn asked(&self) -> impl Iterator<Item = (Demand, f64)> + '_ {
        Demand::ALL.into_iter().filter_map(|demand| Some((demand, self.limit(demand)?)))
    }

    /// Refuses limits that nothing can keep, naming the field.
    pub fn validate(&self) -> Result<()> {
        for (demand, limit) in self.asked() {
            let field = format!("demands.{}", demand.title().0.replace(' ', "_"));
            match demand {
                Demand::Overshoot => check::not_negative(&field, limit, "%")?,
                Demand::MaxSensitivity if limit <= 1.0 => {
                    return Err(Error::invalid(field, limit, "above 1: no loop with dead time is below it"));
                }
                _ => check::positive(&field, limit, demand.title().1)?,
            };
        }
        Ok(())
    }

    /// Demands in words, parted by commas or “and”: `overshoot below 20 %, rise below 1 s and Ms < 1.6`. Times can be given in
    /// s, min or h.
    pub fn read(text: &str) -> Result<Self> {
        let mut demands = Self::default();
        for part in text.replace(" and ", ",").split([',', ';', '\n']).map(str::trim).filter(|part| !part.is_empty()) {
            let (demand, limit) = read_one(part)?;
            demands = demands.with(demand, Some(limit));
        }
        demands.validate()?;
        Ok(demands)
    }
}

/// Words that may stand between a demand and its number.
const BELOW: [&str; 11] = ["below", "under", "at", "most", "less", "than", "<", "<=", "≤", "within", "time"];

fn read_one(part: &str) -> Result<(Demand, f64)> {
    let refuse = || {
        Error::invalid(
            "demands",
            format!("“{part}”"),
            "like “overshoot below 20 %”, “rise below 1 s”, “settling below 5 min”, “Ms below 1.6”, “travel below 3”, “noise below 2”",
        )
    };
    let spaced: String = part
        .chars()
        .flat_map(|c| if "<≤=%".contains(c) { vec![' ', c, ' '] } else { vec![c] })
        .collect::<String>()
        .replace("<  =", "<=");
    let words: Vec<&str> = spaced.split_whitespace().filter(|word| *word != "=").collect();
    let at = words.iter().position(|word| word.starts_with(|c: char| c.is_ascii_digit())).ok_or_else(refuse)?;
    let split = words[at].find(|c: char| c.is_alphabetic() && c != 'e').unwrap_or(words[at].len());
    let (number, joined) = words[at].split_at(split);
    let value: f64 = number.parse().map_err(|_| refuse())?;
    let name: Vec<String> =
        words[..at].iter().filter(|word| !BELOW.contains(word)).map(|word| word.to_lowercase()).collect();
    let demand = match name.join(" ").as_str() {
        "overshoot" => Demand::Overshoot,
        "rise" => Demand::RiseTime,
        "settling" | "settles" | "settle" => Demand::SettlingTime,
        "ms" | "maximum sensitivity" | "max sensitivity" | "sensitivity" => Demand::MaxSensitivity,
        "travel" | "output travel" | "op travel" => Demand::OutputTravel,
        "noise" | "noise amplification" | "noise gain" => Demand::NoiseGain,
        _ => return Err(refuse()),
    };
    let unit = if joined.is_empty() { words.get(at + 1..).unwrap_or_default().join(" ") } else { joined.to_owned() };
    let is_time = matches!(demand, Demand::RiseTime | Demand::SettlingTime);
    let factor = match (is_time, unit.trim()) {
        (true, "s" | "sec" | "seconds") => 1.0,
        (true, "min" | "minutes") => 60.0,
        (true, "h" | "hours") => 3600.0,
        (false, "" | "%" | "%/%") => 1.0,
        _ => return Err(refuse()),
    };
    Ok((demand, value * factor))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn demands_are_read_from_words() {
        let demands =
            Demands::read("Overshoot below 20 %, rise time < 1 s and Ms<=1.6; settling under 2.5min").unwrap();
        assert_eq!(
            demands,
            Demands {
                overshoot: Some(20.0),
                rise_time: Some(1.0),
                settling_time: Some(150.0),
                max_sensitivity: Some(1.6),
                ..Demands::default()
            }
        );
        for wrong in ["fast please", "overshoot", "rise below 3", "overshoot below 5 s", "colour below 2"] {
            let error = Demands::read(wrong).unwrap_err().to_string();
            assert!(error.contains(wrong) && error.contains("overshoot below 20 %"), "{error}");
        }
        assert!(Demands::read("Ms below 0.9").unwrap_err().to_string().contains("above 1"));
    }
}
