//! The library: tanks, heaters, reactors and mixers, each by its balances.

mod heat;
mod mixing;
mod reactors;
mod tanks;

use super::description::Description;
use super::{Bound, Held, Port, Process};
use crate::lti::DeadTime;
use crate::{Error, Result};
use std::collections::BTreeMap;

/// Where the equations of a process are evaluated.
#[derive(Clone, Copy)]
struct Point<'a> {
    /// Parameters.
    p: &'a [f64],
    /// States.
    x: &'a [f64],
    /// Inputs.
    u: &'a [f64],
    held: Held,
}

/// The equations of a library process.
trait Equations: Send + Sync {
    /// Names, units and ranges; the sizes may follow from the parameters, which are empty for the usual ones.
    fn describe(&self, p: &[f64]) -> Description;
    /// See [`Process::bounds`].
    fn bounds(&self, _p: &[f64]) -> Vec<Bound> {
        Vec::new()
    }
    /// Parameters that say how many states there are, and so cannot change while it runs.
    fn sizes(&self) -> &'static [usize] {
        &[]
    }
    /// See [`Process::rates`].
    fn rates(&self, at: Point<'_>, rates: &mut [f64]);
    /// See [`Process::outputs`].
    fn outputs(&self, at: Point<'_>, outputs: &mut [f64]);
    /// See [`Process::terms`].
    fn terms(&self, at: Point<'_>, terms: &mut [f64]);
    /// See [`Process::contents`].
    fn contents(&self, p: &[f64], x: &[f64], contents: &mut [f64]);
}

/// Seconds in a minute and in an hour.
const MINUTE: f64 = 60.0;
const HOUR: f64 = 3600.0;
/// 0 °C in K.
const ZERO_CELSIUS: f64 = 273.15;
/// Standard gravity in m/s² (as in most textbooks).
const GRAVITY: f64 = 9.81;

/// All processes of the library, in the order in which they are offered.
const ALL: [&dyn Equations; 19] = [
    &tanks::Tank { shape: tanks::Shape::Upright, outflow: tanks::Outflow::Gravity },
    &tanks::Tank { shape: tanks::Shape::Lying, outflow: tanks::Outflow::Gravity },
    &tanks::Tank { shape: tanks::Shape::Cone, outflow: tanks::Outflow::Gravity },
    &tanks::Tank { shape: tanks::Shape::Sphere, outflow: tanks::Outflow::Gravity },
    &tanks::Tank { shape: tanks::Shape::Upright, outflow: tanks::Outflow::Pumped },
    &tanks::Series { interacting: false },
    &tanks::Series { interacting: true },
    &tanks::FourTanks,
    &heat::StirredHeater,
    &heat::TwoBodies,
    &heat::JacketedVessel,
    &heat::HeatExchanger,
    &heat::HeatedHall,
    &reactors::StirredReactor { with_jacket: false },
    &reactors::StirredReactor { with_jacket: true },
    &reactors::SeriesParallel,
    &reactors::Batch,
    &mixing::MixingTank,
    &mixing::BlendingTank,
];

/// Every process of the library with its usual parameters.
#[must_use]
pub fn catalogue() -> Vec<Description> {
    ALL.iter().map(|equations| equations.describe(&[])).collect()
}

/// The kind of the process at this place of the catalogue.
pub(super) fn kind(index: usize) -> &'static str {
    match index {
        ..8 => "tanks",
        8..13 => "heat",
        13..17 => "reactors",
        _ => "mixing",
    }
}

/// The first values of a slice as an array, so that they can be named; NaN where there are too few.
fn take<const N: usize>(values: &[f64]) -> [f64; N] {
    std::array::from_fn(|i| values.get(i).copied().unwrap_or(f64::NAN))
}

/// A process of the library at work.
pub(super) struct LibraryProcess {
    equations: &'static dyn Equations,
    description: Description,
    parameters: Vec<f64>,
    ports: Vec<Port>,
}

impl LibraryProcess {
    /// The process of this name with its usual parameters but those given.
    pub(super) fn new(name: &str, given: &BTreeMap<String, f64>) -> Result<Self> {
        let equations = *ALL.iter().find(|equations| equations.describe(&[]).name == name).ok_or_else(|| {
            let names: Vec<String> = catalogue().into_iter().map(|description| description.name).collect();
            Error::invalid("process.process", format!("“{name}”"), format!("one of {}", names.join(", ")))
        })?;
        let parameters = equations.describe(&[]).parameters_with(given, "process.parameters")?;
        let description = equations.describe(&parameters);
        let dead_time = DeadTime::new(0.0)?;
        let ports = (0..description.inputs.len()).map(|input| Port { input, dead_time }).collect();
        Ok(Self { equations, description, parameters, ports })
    }

    fn at<'a>(&'a self, x: &'a [f64], u: &'a [f64], held: Held) -> Point<'a> {
        Point { p: &self.parameters, x, u, held }
    }
}

impl Process for LibraryProcess {
    fn description(&self) -> &Description {
        &self.description
    }

    fn ports(&self) -> &[Port] {
        &self.ports
    }

    fn parameters(&self) -> &[f64] {
        &self.parameters
    }

    fn set_parameter(&mut self, index: usize, value: f64) -> Result<()> {
        let parameter = &self.description.parameters[index];
        if self.equations.sizes().contains(&index) {
            return Err(Error::invalid("parameter", &parameter.name, "one that does not set the number of states"));
        }
        self.parameters[index] = parameter.check("process.parameters", value)?;
        // A tank that is made wider holds more: what its states can be goes with the parameters.
        let states = self.equations.describe(&self.parameters).states;
        for (state, now) in self.description.states.iter_mut().zip(states) {
            (state.low, state.high) = (now.low, now.high);
        }
        Ok(())
    }

    fn bounds(&self) -> Vec<Bound> {
        self.equations.bounds(&self.parameters)
    }

    fn rates(&self, x: &[f64], u: &[f64], held: Held, rates: &mut [f64]) {
        self.equations.rates(self.at(x, u, held), rates);
    }

    fn outputs(&self, x: &[f64], u: &[f64], held: Held, outputs: &mut [f64]) {
        self.equations.outputs(self.at(x, u, held), outputs);
    }

    fn terms(&self, x: &[f64], u: &[f64], held: Held, terms: &mut [f64]) {
        self.equations.terms(self.at(x, u, held), terms);
    }

    fn contents(&self, x: &[f64], contents: &mut [f64]) {
        self.equations.contents(&self.parameters, x, contents);
    }
}

#[cfg(test)]
mod tests;
