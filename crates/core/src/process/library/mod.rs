//! The library: tanks, heaters, reactors and mixers, each by its balances.

mod heat;
mod mixing;
mod reactors;
mod tanks;

use super::description::Description;
use super::{Bound, Held, InDualNumbers, Port, Process};
use crate::lti::DeadTime;
use crate::numerics::{Dual, Number};
use crate::{Error, Result};
use std::collections::BTreeMap;

/// Where the equations of a process are evaluated.
#[derive(Clone, Copy)]
struct Point<'a, N> {
    /// Parameters.
    p: &'a [N],
    /// States.
    x: &'a [N],
    /// Inputs.
    u: &'a [N],
    held: Held,
}

/// What a library process says of itself.
trait Facts: Send + Sync {
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
    /// See [`Process::contents`].
    fn contents(&self, p: &[f64], x: &[f64], contents: &mut [f64]);
}

/// The equations of a library process, in plain or dual numbers.
trait Laws {
    /// See [`Process::rates`].
    fn rates<N: Number>(&self, at: Point<'_, N>, rates: &mut [N]);
    /// See [`Process::outputs`].
    fn outputs<N: Number>(&self, at: Point<'_, N>, outputs: &mut [N]);
    /// See [`Process::terms`].
    fn terms<N: Number>(&self, at: Point<'_, N>, terms: &mut [N]);
}

/// A library process, whichever it is.
trait Equations: Facts {
    fn plain_rates(&self, at: Point<'_, f64>, rates: &mut [f64]);
    fn plain_outputs(&self, at: Point<'_, f64>, outputs: &mut [f64]);
    fn plain_terms(&self, at: Point<'_, f64>, terms: &mut [f64]);
    fn dual_rates(&self, at: Point<'_, Dual>, rates: &mut [Dual]);
    fn dual_outputs(&self, at: Point<'_, Dual>, outputs: &mut [Dual]);
}

impl<E: Facts + Laws> Equations for E {
    fn plain_rates(&self, at: Point<'_, f64>, rates: &mut [f64]) {
        self.rates(at, rates);
    }

    fn plain_outputs(&self, at: Point<'_, f64>, outputs: &mut [f64]) {
        self.outputs(at, outputs);
    }

    fn plain_terms(&self, at: Point<'_, f64>, terms: &mut [f64]) {
        self.terms(at, terms);
    }

    fn dual_rates(&self, at: Point<'_, Dual>, rates: &mut [Dual]) {
        self.rates(at, rates);
    }

    fn dual_outputs(&self, at: Point<'_, Dual>, outputs: &mut [Dual]) {
        self.outputs(at, outputs);
    }
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
fn take<const COUNT: usize, N: Number>(values: &[N]) -> [N; COUNT] {
    std::array::from_fn(|i| values.get(i).copied().unwrap_or(N::from(f64::NAN)))
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

    fn at<'a>(&'a self, x: &'a [f64], u: &'a [f64], held: Held) -> Point<'a, f64> {
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
        self.equations.plain_rates(self.at(x, u, held), rates);
    }

    fn outputs(&self, x: &[f64], u: &[f64], held: Held, outputs: &mut [f64]) {
        self.equations.plain_outputs(self.at(x, u, held), outputs);
    }

    fn terms(&self, x: &[f64], u: &[f64], held: Held, terms: &mut [f64]) {
        self.equations.plain_terms(self.at(x, u, held), terms);
    }

    fn contents(&self, x: &[f64], contents: &mut [f64]) {
        self.equations.contents(&self.parameters, x, contents);
    }

    fn in_dual_numbers(&self) -> Option<&dyn InDualNumbers> {
        Some(self)
    }
}

impl InDualNumbers for LibraryProcess {
    fn dual_rates(&self, p: &[Dual], x: &[Dual], u: &[Dual], held: Held, rates: &mut [Dual]) {
        self.equations.dual_rates(Point { p, x, u, held }, rates);
    }

    fn dual_outputs(&self, p: &[Dual], x: &[Dual], u: &[Dual], held: Held, outputs: &mut [Dual]) {
        self.equations.dual_outputs(Point { p, x, u, held }, outputs);
    }
}

#[cfg(test)]
mod tests;
