//! What a process says of itself: its states, inputs, outputs, parameters and balances, by name and unit.

use crate::{Error, Result, check};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use utoipa::ToSchema;

/// A named number of a process.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct Quantity {
    /// The name, as it stands in trials: words joined by `_`.
    pub name: String,
    /// The unit, as text; empty for a pure number.
    pub unit: String,
    /// What it is, in a few words.
    pub text: String,
    /// The value where nothing else is said: of a state at the start, of an input at rest, of a parameter.
    pub value: f64,
    /// Lowest value that can be.
    pub low: f64,
    /// Highest value that can be; a state that passes it has run away.
    pub high: f64,
}

/// What a term of a balance does to what is held.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum TermKind {
    /// Comes in with a stream or is supplied.
    In,
    /// Leaves with a stream.
    Out,
    /// Made inside, as the heat of a reaction.
    Generated,
    /// Goes to the surroundings, is used up, or spills.
    Lost,
}

impl TermKind {
    /// +1 for what adds to the contents, −1 for what takes from them.
    #[must_use]
    pub fn sign(self) -> f64 {
        match self {
            Self::In | Self::Generated => 1.0,
            Self::Out | Self::Lost => -1.0,
        }
    }
}

/// One term of a balance.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct Term {
    /// The name, for example `feed`.
    pub name: String,
    /// What it does.
    pub kind: TermKind,
}

/// A conserved quantity: what is held changes by what comes in, leaves, is made and is lost.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct Balance {
    /// What is conserved, for example `energy`.
    pub name: String,
    /// Unit of what is held; the terms are in this unit per second.
    pub unit: String,
    /// Its terms.
    pub terms: Vec<Term>,
}

/// How the controller output acts on a process where nothing else is said.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct UsualDrive {
    /// Name of the input.
    pub input: String,
    /// Value of the input at an OP of 0 %.
    pub at_0: f64,
    /// Value of the input at an OP of 100 %.
    pub at_100: f64,
}

/// All that is known of a process besides its equations.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct Description {
    /// Whether it is charged and left to run, so that it starts from its states and not at rest.
    pub batch: bool,
    /// The name, as it stands in trials.
    pub name: String,
    /// What it is, in a line.
    pub title: String,
    /// The states, with their values at the start.
    pub states: Vec<Quantity>,
    /// The inputs, with their values at rest.
    pub inputs: Vec<Quantity>,
    /// The outputs; of these only name, unit and text mean something.
    pub outputs: Vec<Quantity>,
    /// The parameters, with their usual values.
    pub parameters: Vec<Quantity>,
    /// Its balances.
    pub balances: Vec<Balance>,
    /// How the OP acts on it where nothing else is said.
    pub drive: UsualDrive,
}

impl Quantity {
    /// A quantity with its usual value and the range of what can be.
    pub fn new(name: impl Into<String>, unit: &str, value: f64, range: (f64, f64), text: &str) -> Self {
        Self { name: name.into(), unit: unit.to_owned(), text: text.to_owned(), value, low: range.0, high: range.1 }
    }

    /// An output.
    pub fn output(name: impl Into<String>, unit: &str, text: &str) -> Self {
        Self::new(name, unit, 0.0, (f64::MIN, f64::MAX), text)
    }

    /// Whether it counts parts of a process, such as tanks in a row, and has no values between.
    #[must_use]
    pub fn is_count(&self) -> bool {
        matches!(self.name.as_str(), "cells" | "tanks")
    }

    /// Refuses a value outside the range; `place` goes before the name in the error.
    pub fn check(&self, place: &str, value: f64) -> Result<f64> {
        let field = if place.is_empty() { self.name.clone() } else { format!("{place}.{}", self.name) };
        check::within(&field, value, self.low, self.high, &self.unit)
    }
}

impl Balance {
    /// A balance of these terms.
    pub fn new(name: &str, unit: &str, terms: &[(&str, TermKind)]) -> Self {
        let terms = terms.iter().map(|(name, kind)| Term { name: (*name).to_owned(), kind: *kind }).collect();
        Self { name: name.to_owned(), unit: unit.to_owned(), terms }
    }
}

impl Description {
    /// Number of terms of all balances.
    #[must_use]
    pub fn terms(&self) -> usize {
        self.balances.iter().map(|balance| balance.terms.len()).sum()
    }

    /// The inputs at rest, those named in `given` with their given values; `place` names the field in errors.
    pub fn inputs_with(&self, given: &BTreeMap<String, f64>, place: &str) -> Result<Vec<f64>> {
        filled(&self.inputs, given, place, "the inputs")
    }

    /// The parameters, those named in `given` with their given values.
    pub fn parameters_with(&self, given: &BTreeMap<String, f64>, place: &str) -> Result<Vec<f64>> {
        filled(&self.parameters, given, place, "parameter")
    }

    /// The states at the start, those named in `given` with their given values.
    pub fn states_with(&self, given: &BTreeMap<String, f64>, place: &str) -> Result<Vec<f64>> {
        filled(&self.states, given, place, "state")
    }

    /// The place of a name among `quantities`; the error names `field` and lists what there is.
    pub fn position(quantities: &[Quantity], name: &str, field: &str) -> Result<usize> {
        quantities.iter().position(|quantity| quantity.name == name).ok_or_else(|| {
            let names: Vec<&str> = quantities.iter().map(|quantity| quantity.name.as_str()).collect();
            Error::invalid(field, format!("“{name}”"), format!("one of {}", names.join(", ")))
        })
    }
}

fn filled(quantities: &[Quantity], given: &BTreeMap<String, f64>, place: &str, what: &str) -> Result<Vec<f64>> {
    for name in given.keys() {
        if !quantities.iter().any(|quantity| quantity.name == *name) {
            let names: Vec<&str> = quantities.iter().map(|quantity| quantity.name.as_str()).collect();
            return Err(Error::said(place, format!("There is no {what} “{name}”; there are {}.", names.join(", "))));
        }
    }
    quantities
        .iter()
        .map(|quantity| given.get(&quantity.name).map_or(Ok(quantity.value), |value| quantity.check(place, *value)))
        .collect()
}
