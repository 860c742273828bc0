//! A process as plain data.

use super::equations::{EquationsSpec, OwnProcess};
use super::library::LibraryProcess;
use super::matrices::{LinearProcess, StateSpaceSpec, TransferFunctionsSpec};
use super::{Description, LinearSpec, Process};
use crate::{Error, Result};
use serde::{Deserialize, Deserializer, Serialize};
use std::collections::BTreeMap;
use utoipa::ToSchema;

/// What is simulated: a linear process of low order as identified from a record, or one described in detail.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
#[serde(untagged)]
pub enum ProcessSpec {
    /// Linear, of low order, with one input.
    Linear(LinearSpec),
    /// Anything else.
    Detailed(DetailedSpec),
}

/// A process described in detail.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "structure", rename_all = "snake_case", deny_unknown_fields)]
pub enum DetailedSpec {
    /// A balance from the library of tanks, heaters and reactors.
    Library {
        /// Name in the library, for example `stirred_reactor`.
        process: String,
        /// Parameters that differ from the usual ones, by name, in the units of the library.
        #[serde(default)]
        parameters: BTreeMap<String, f64>,
    },
    /// Transfer functions between several inputs and outputs.
    TransferFunctions(TransferFunctionsSpec),
    /// State space.
    StateSpace(StateSpaceSpec),
    /// Equations written down by the user.
    Equations(EquationsSpec),
}

/// The values of `structure` of a [`LinearSpec`].
const LINEAR: [&str; 5] = ["fopdt", "two_lags", "second_order", "integrating_lag", "integrating"];

impl<'de> Deserialize<'de> for ProcessSpec {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> std::result::Result<Self, D::Error> {
        let value = serde_json::Value::deserialize(deserializer)?;
        let structure = value.get("structure").and_then(|name| name.as_str()).unwrap_or_default();
        if LINEAR.contains(&structure) {
            serde_json::from_value(value).map(Self::Linear).map_err(serde::de::Error::custom)
        } else {
            serde_json::from_value(value).map(Self::Detailed).map_err(|error| {
                serde::de::Error::custom(error.to_string().replace(
                    "expected one of `library`",
                    "expected one of `fopdt`, `two_lags`, `second_order`, `integrating_lag`, `integrating`, `library`",
                ))
            })
        }
    }
}

impl From<LinearSpec> for ProcessSpec {
    fn from(spec: LinearSpec) -> Self {
        Self::Linear(spec)
    }
}

impl From<DetailedSpec> for ProcessSpec {
    fn from(spec: DetailedSpec) -> Self {
        Self::Detailed(spec)
    }
}

impl ProcessSpec {
    /// A process of the library with its usual parameters but these.
    pub fn library(process: &str, parameters: &[(&str, f64)]) -> Self {
        let parameters = parameters.iter().map(|(name, value)| ((*name).to_owned(), *value)).collect();
        Self::Detailed(DetailedSpec::Library { process: process.to_owned(), parameters })
    }

    /// The low-order linear process, where it is one.
    #[must_use]
    pub fn as_linear(&self) -> Option<&LinearSpec> {
        match self {
            Self::Linear(spec) => Some(spec),
            Self::Detailed(_) => None,
        }
    }

    /// The process, where it is linear, resting at its inputs' values; `unit` is that of the output of a low-order one.
    pub fn linear_process(&self, unit: &str) -> Result<Option<LinearProcess>> {
        Ok(match self {
            Self::Linear(spec) => Some(LinearProcess::of_spec(spec, unit)?),
            Self::Detailed(DetailedSpec::TransferFunctions(spec)) => Some(LinearProcess::of_transfer_functions(spec)?),
            Self::Detailed(DetailedSpec::StateSpace(spec)) => Some(LinearProcess::of_state_space(spec)?),
            Self::Detailed(_) => None,
        })
    }

    /// The process at work; `unit` is that of the output of a low-order one. Errors for parameters that cannot be.
    pub fn build(&self, unit: &str) -> Result<Box<dyn Process>> {
        if let Some(linear) = self.linear_process(unit)? {
            return Ok(Box::new(linear));
        }
        match self {
            Self::Detailed(DetailedSpec::Library { process, parameters }) => {
                Ok(Box::new(LibraryProcess::new(process, parameters)?))
            }
            Self::Detailed(DetailedSpec::Equations(spec)) => Ok(Box::new(OwnProcess::new(spec)?)),
            _ => Err(Error::invalid("process.structure", "unknown", "a structure that can be simulated")),
        }
    }

    /// What the process says of itself.
    pub fn describe(&self, unit: &str) -> Result<Description> {
        Ok(self.build(unit)?.description().clone())
    }

    /// Longest dead time between an input and its effect, in s.
    pub fn dead_time(&self, unit: &str) -> Result<f64> {
        Ok(self.build(unit)?.ports().iter().map(|port| port.dead_time.seconds()).fold(0.0, f64::max))
    }
}
