//! Plants that may be: drawn from the covariance of a model, or from stated ranges.

use crate::controller::ControllerSpec;
use crate::identification::Model;
use crate::instrument::Noise;
use crate::numerics::{rounded, square_root};
use crate::simulation::{Candidate, Plant, Scenario, TRIAL_VERSION, Trial, sweep_targets};
use crate::{Error, Result, check};
use nalgebra::{DMatrix, DVector};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Most plants of a proof.
const MOST_PLANTS: usize = 5000;
/// Most numbers of a plant that are uncertain.
const MOST_PARAMETERS: usize = 40;
/// Where a draw would change the sign of a number it is this share of it: beyond 0 it would be another kind of plant.
const LEAST_SHARE: f64 = 1e-3;

/// How uncertain the plant is.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "kind", rename_all = "snake_case", deny_unknown_fields)]
pub enum Uncertainty {
    /// The plant is taken as it is.
    #[default]
    None,
    /// Numbers of the plant vary together, normally about what they are.
    Covariance {
        /// How many plants are drawn, 2 to 5000.
        #[schema(minimum = 2, maximum = 5000)]
        plants: usize,
        /// Which numbers: names of parameters of the process, or places in the plant document as JSON pointers, such as
        /// `/sensor/dead_time`.
        parameters: Vec<String>,
        /// Their covariance, in the units of the plant.
        covariance: Vec<Vec<f64>>,
    },
    /// Numbers of the plant lie anywhere in their ranges, each by itself.
    Ranges {
        /// How many plants are drawn, 2 to 5000.
        #[schema(minimum = 2, maximum = 5000)]
        plants: usize,
        /// Which numbers, and from where to where.
        ranges: Vec<ParameterRange>,
    },
}

/// Ranges that are proposed are this much either side (this project's choice): what a model out of a good test leaves open.
const USUAL_RANGE: f64 = 0.2;
/// Numbers of a plant for which ranges are proposed, at most.
const MOST_PROPOSED: usize = 8;

/// A number of a plant, and where it may be.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ParameterRange {
    /// Name of a parameter of the process, or its place in the plant document as a JSON pointer.
    pub parameter: String,
    /// Lowest value, in its unit.
    pub low: f64,
    /// Highest value, above the lowest.
    pub high: f64,
}

impl Uncertainty {
    /// Whether the plant is taken as it is.
    #[must_use]
    pub fn is_none(&self) -> bool {
        *self == Self::None
    }

    /// How many plants are drawn.
    #[must_use]
    pub fn plants(&self) -> usize {
        match self {
            Self::None => 0,
            Self::Covariance { plants, .. } | Self::Ranges { plants, .. } => *plants,
        }
    }

    /// Which numbers vary.
    #[must_use]
    pub fn parameters(&self) -> Vec<&str> {
        match self {
            Self::None => Vec::new(),
            Self::Covariance { parameters, .. } => parameters.iter().map(String::as_str).collect(),
            Self::Ranges { ranges, .. } => ranges.iter().map(|range| range.parameter.as_str()).collect(),
        }
    }

    /// What a model leaves open of a plant that stands on it, for so many plants.
    ///
    /// Errors where the plant stands on another process than the model's, or the model does not tell how uncertain its numbers are.
    pub fn of_model(model: &Model, plant: &Plant, plants: usize) -> Result<Self> {
        if !model.as_process().is_ok_and(|own| own == plant.process) {
            return Err(Error::unfit("the plant stands on another process than this model's", "state ranges instead"));
        }
        let (names, covariance): (Vec<String>, Vec<Vec<f64>>) = if model.is_physical() {
            let names = model.parameters.iter().map(|parameter| parameter.name.clone()).collect();
            (names, model.covariance.clone())
        } else {
            let process = model.process()?;
            (process.parameters().into_iter().map(|own| own.0.to_owned()).collect(), model.process_covariance()?)
        };
        // What was given, stands at a bound, or is no number of the process (a dead time of a channel, say) does not vary.
        let known = |name: &String| places(plant, &[name.as_str()]).is_ok();
        let told: Vec<usize> = (0..names.len())
            .filter(|k| covariance.get(*k).is_some_and(|row| row[*k] > 0.0) && known(&names[*k]))
            .collect();
        if told.is_empty() {
            let what = "the model does not tell how uncertain its numbers are";
            return Err(Error::unfit(what, "state ranges instead"));
        }
        Ok(Self::Covariance {
            plants,
            parameters: told.iter().map(|k| names[*k].clone()).collect(),
            covariance: told.iter().map(|i| told.iter().map(|j| covariance[*i][*j]).collect()).collect(),
        })
    }

    /// Ranges to begin with: each number of the process, and the dead time of its sensor, a fifth either side.
    pub fn usual_ranges(plant: &Plant, plants: usize) -> Result<Self> {
        let numbers = sweep_targets(&bare(plant))?.into_iter().filter(|target| {
            let is_process = target.pointer.starts_with("/plant/process/") && !target.whole;
            (is_process || target.pointer == "/plant/sensor/dead_time") && target.value != 0.0
        });
        let description = plant.describe()?;
        let name = |pointer: &str| {
            let last = pointer.rsplit('/').next().unwrap_or_default();
            let linear = plant.process.as_linear().is_some() && pointer == format!("/plant/process/{last}");
            let library = pointer == format!("/plant/process/parameters/{last}");
            let is_named = linear || (library && description.parameters.iter().any(|own| own.name == last));
            if is_named { last.to_owned() } else { pointer.trim_start_matches("/plant").to_owned() }
        };
        let range = |pointer: &str, value: f64| {
            let ends = [(1.0 - USUAL_RANGE) * value, (1.0 + USUAL_RANGE) * value].map(|end| rounded(end, 3));
            ParameterRange { parameter: name(pointer), low: ends[0].min(ends[1]), high: ends[0].max(ends[1]) }
        };
        let ranges: Vec<ParameterRange> =
            numbers.map(|target| range(&target.pointer, target.value)).take(MOST_PROPOSED).collect();
        if ranges.is_empty() {
            return Err(Error::unfit("the process has no numbers that could be others", "prove on the plant as it is"));
        }
        Ok(Self::Ranges { plants, ranges })
    }

    pub(super) fn validate(&self, plant: &Plant) -> Result<()> {
        if self.is_none() {
            return Ok(());
        }
        check::within("uncertainty.plants", self.plants() as f64, 2.0, MOST_PLANTS as f64, "")?;
        let names = self.parameters();
        if !(1..=MOST_PARAMETERS).contains(&names.len()) {
            return Err(Error::invalid("uncertainty.parameters", names.len(), format!("1 to {MOST_PARAMETERS}")));
        }
        for (k, name) in names.iter().enumerate() {
            if names[..k].contains(name) {
                return Err(Error::said(
                    "uncertainty.parameters",
                    format!("{} is given twice.", name.replace('_', " ")),
                ));
            }
        }
        places(plant, &names)?;
        match self {
            Self::Covariance { covariance, .. } => {
                let n = names.len();
                let whole = covariance.len() == n
                    && covariance.iter().all(|row| row.len() == n && row.iter().all(|value| value.is_finite()));
                if !whole {
                    let (is, allowed) = (format!("{} rows", covariance.len()), format!("{n} rows of {n} numbers"));
                    return Err(Error::invalid("uncertainty.covariance", is, allowed));
                }
            }
            Self::Ranges { ranges, .. } => {
                for (k, range) in ranges.iter().enumerate() {
                    let field = format!("uncertainty.ranges[{k}]");
                    check::finite(&format!("{field}.low"), range.low)?;
                    check::finite(&format!("{field}.high"), range.high)?;
                    if range.high <= range.low {
                        let allowed = format!("above the low end, {}", range.low);
                        return Err(Error::invalid(format!("{field}.high"), range.high, allowed));
                    }
                }
            }
            Self::None => {}
        }
        Ok(())
    }
}

/// The plants that were drawn.
#[derive(Debug)]
pub(super) struct Drawn {
    /// What each number is in each plant, in the order of [`Uncertainty::parameters`].
    pub values: Vec<Vec<f64>>,
    /// What each number is in the proof's own plant.
    pub own: Vec<f64>,
    /// The plants, or why one cannot be.
    pub plants: Vec<std::result::Result<Plant, String>>,
}

/// Draws the plants; the same seed draws the same ones.
pub(super) fn drawn(plant: &Plant, uncertainty: &Uncertainty, seed: u64) -> Result<Drawn> {
    let names = uncertainty.parameters();
    let places = places(plant, &names)?;
    let own: Vec<f64> = places.iter().map(|place| place.value).collect();
    let count = uncertainty.plants();
    let values: Vec<Vec<f64>> = match uncertainty {
        Uncertainty::None => Vec::new(),
        Uncertainty::Covariance { covariance, .. } => {
            let n = own.len();
            let root = square_root(&DMatrix::from_fn(n, n, |i, j| 0.5 * (covariance[i][j] + covariance[j][i])));
            let mut noise = Noise::new("plants of a proof", seed);
            let mut draw = || {
                let offset = &root * DVector::from_fn(n, |_, _| noise.normal());
                own.iter().zip(offset.iter()).map(|(mean, offset)| same_sign(*mean, mean + offset)).collect()
            };
            (0..count).map(|_| draw()).collect()
        }
        Uncertainty::Ranges { ranges, .. } => {
            // A stream for each number: to add one changes none of the others.
            let streams = ranges.iter().map(|range| {
                let mut noise = Noise::new(&format!("plants of a proof: {}", range.parameter), seed);
                (0..count).map(|_| range.low + noise.uniform() * (range.high - range.low)).collect::<Vec<f64>>()
            });
            let columns: Vec<Vec<f64>> = streams.collect();
            (0..count).map(|k| columns.iter().map(|column| column[k]).collect()).collect()
        }
    };
    let plants = values.iter().map(|values| with_values(plant, &places, values).map_err(|error| error.to_string()));
    Ok(Drawn { plants: plants.collect(), values, own })
}

/// A draw, kept on the side of 0 of what it was drawn about.
fn same_sign(mean: f64, value: f64) -> f64 {
    if mean == 0.0 || value * mean > 0.0 { value } else { LEAST_SHARE * mean }
}

/// Where a number stands in the plant document, and what it is there.
struct Place {
    pointer: String,
    value: f64,
}

/// A trial that is only a plant: what changes numbers of trials changes it.
fn bare(plant: &Plant) -> Trial {
    let scenario = Scenario { duration: 1.0, scan: 1.0, seed: 0, events: Vec::new(), further: Default::default() };
    Trial { version: TRIAL_VERSION, plant: plant.clone(), candidate: Candidate::new(ControllerSpec::Manual), scenario }
}

/// Where the numbers of these names are. Errors where there is none.
fn places(plant: &Plant, names: &[&str]) -> Result<Vec<Place>> {
    let description = plant.process.describe(&plant.pv.span.unit)?;
    let document = serde_json::to_value(plant).unwrap_or_default();
    let linear = plant.process.as_linear().map(|process| process.parameters()).unwrap_or_default();
    let place = |name: &&str| {
        if name.starts_with('/') {
            let value = document.pointer(name).and_then(serde_json::Value::as_f64);
            let value = value.ok_or_else(|| {
                let allowed = "the place of a number in the plant document";
                Error::invalid("uncertainty.parameters", format!("“{name}”"), allowed)
            })?;
            return Ok(Place { pointer: format!("/plant{name}"), value });
        }
        if let Some((known, _, value)) = linear.iter().find(|(known, ..)| known == name) {
            return Ok(Place { pointer: format!("/plant/process/{known}"), value: *value });
        }
        let known = description.parameters.iter().find(|own| own.name == **name).ok_or_else(|| {
            let own = description.parameters.iter().map(|own| own.name.as_str());
            let all: Vec<&str> = linear.iter().map(|own| own.0).chain(own).collect();
            let allowed = match all.join(", ") {
                list if list.is_empty() => "a place in the plant document, such as /sensor/dead_time".to_owned(),
                list => format!("one of {list}, or a place in the plant document, such as /sensor/dead_time"),
            };
            Error::invalid("uncertainty.parameters", format!("“{name}”"), allowed)
        })?;
        let pointer = format!("/plant/process/parameters/{name}");
        let value = document.pointer(&format!("/process/parameters/{name}")).and_then(serde_json::Value::as_f64);
        Ok(Place { pointer, value: value.unwrap_or(known.value) })
    };
    names.iter().map(place).collect()
}

fn with_values(plant: &Plant, places: &[Place], values: &[f64]) -> Result<Plant> {
    let mut trial = bare(plant);
    for (place, value) in places.iter().zip(values) {
        trial = trial.with_number(&place.pointer, *value)?;
    }
    trial.plant.validate(1e9)?;
    trial.plant.start()?;
    Ok(trial.plant)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::process::ProcessSpec;

    fn heater() -> Plant {
        Plant::usual(ProcessSpec::library("stirred_heater", &[]), "T").unwrap()
    }

    #[test]
    fn draws_have_the_covariance_and_the_ranges_that_were_asked() {
        let plant = heater();
        let parameters = vec!["holdup".to_owned(), "loss".to_owned()];
        let n = 4000;
        let own = drawn(
            &plant,
            &Uncertainty::Covariance {
                plants: 2,
                parameters: parameters.clone(),
                covariance: vec![vec![1e-12, 0.0], vec![0.0, 1e-12]],
            },
            1,
        )
        .unwrap()
        .own;
        let (a, b) = (0.05 * own[0], 0.1 * own[1].abs().max(1e-3));
        let covariance = vec![vec![a * a, 0.6 * a * b], vec![0.6 * a * b, b * b]];
        let uncertainty = Uncertainty::Covariance { plants: n, parameters, covariance: covariance.clone() };
        let found = drawn(&plant, &uncertainty, 3).unwrap();
        let mean = |k: usize| found.values.iter().map(|values| values[k]).sum::<f64>() / n as f64;
        let about = [mean(0), mean(1)];
        let product = |i: usize, j: usize| {
            found.values.iter().map(|values| (values[i] - about[i]) * (values[j] - about[j])).sum::<f64>() / n as f64
        };
        for (i, j) in [(0, 0), (0, 1), (1, 1)] {
            let scale = (covariance[i][i] * covariance[j][j]).sqrt();
            assert!((product(i, j) - covariance[i][j]).abs() < 0.08 * scale, "{i} {j}");
        }
        assert_eq!(drawn(&plant, &uncertainty, 3).unwrap().values, found.values);
        let range = |parameter: &str| ParameterRange { parameter: parameter.into(), low: 2.0, high: 4.0 };
        let ranges = |ranges| drawn(&plant, &Uncertainty::Ranges { plants: 500, ranges }, 3).unwrap().values;
        let one = ranges(vec![range("holdup")]);
        let two = ranges(vec![range("/sensor/dead_time"), range("holdup")]);
        assert!(one.iter().all(|values| (2.0..4.0).contains(&values[0])));
        // Another number changes nothing in what is drawn of the first.
        assert!(one.iter().zip(&two).all(|(one, two)| one[0] == two[1]));
    }

    #[test]
    fn numbers_that_are_not_there_are_named() {
        let plant = heater();
        let with = |parameter: &str| {
            let ranges = vec![ParameterRange { parameter: parameter.into(), low: 1.0, high: 2.0 }];
            Uncertainty::Ranges { plants: 10, ranges }.validate(&plant).unwrap_err().to_string()
        };
        assert!(with("colour").contains("holdup"), "{}", with("colour"));
        assert!(with("/sensor/colour").contains("the place of a number"));
        let twice = ParameterRange { parameter: "holdup".into(), low: 1.0, high: 2.0 };
        let error =
            Uncertainty::Ranges { plants: 10, ranges: vec![twice.clone(), twice] }.validate(&plant).unwrap_err();
        assert!(error.to_string().contains("holdup is given twice"), "{error}");
        let few = Uncertainty::Ranges { plants: 1, ranges: vec![] }.validate(&plant).unwrap_err();
        assert!(few.to_string().contains("2 to 5000"), "{few}");
    }

    #[test]
    fn a_draw_stays_on_its_side_of_zero() {
        assert_eq!([same_sign(2.0, -1.0), same_sign(-2.0, 0.5), same_sign(0.0, -1.0)], [0.002, -0.002, -1.0]);
    }
}
