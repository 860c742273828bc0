//! What is controlled. Every process, linear or not, from the library or written down by the user, is used through the
//! trait [`Process`].

mod description;
mod equations;
mod equations_text;
mod half_rule;
mod library;
mod linear;
mod linearisation;
mod matrices;
mod offers;
mod spec;
mod steady;

pub use description::{Balance, Description, Quantity, Term, TermKind, UsualDrive};
pub use equations::{Equation, EquationsSpec, NamedValue, OwnOutput, name_for};
pub use equations_text::TextFault;
pub use half_rule::HalfRule;
pub use library::catalogue;
pub use linear::LinearSpec;
pub(crate) use linearisation::transfer_matrix;
pub use linearisation::{Channel, Linearisation, linear_channel, linearise};
pub use matrices::{Element, LinearProcess, StateSpaceSpec, StepOfPair, StepTable, TransferFunctionsSpec};
pub use offers::{Offer, offers};
pub use spec::{DetailedSpec, ProcessSpec};
pub(crate) use steady::described as steady_state_of;
pub use steady::{Rest, SteadyState, rests_at, steady_states};

use crate::Result;
use crate::lti::{DeadTime, Propagator};
use crate::numerics::Dual;

/// One way on which an input acts: in general an input may act on different states after different dead times.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Port {
    /// Position of the input.
    pub input: usize,
    /// The time until it acts.
    pub dead_time: DeadTime,
}

/// A state that cannot leave a range: a tank cannot hold less than nothing nor more than to its rim.
#[derive(Debug, Clone, PartialEq)]
pub struct Bound {
    /// Position of the state.
    pub state: usize,
    /// Its lowest value.
    pub low: f64,
    /// Its highest value.
    pub high: f64,
    /// What happens at the lowest value, for example `tank 1 runs dry`.
    pub at_low: String,
    /// What happens at the highest value, for example `tank 1 spills over its rim`.
    pub at_high: String,
}

/// Which states stand at a bound.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Held {
    low: u64,
    high: u64,
}

impl Held {
    /// Whether state `i` stands at its lowest value.
    #[must_use]
    pub fn is_low(self, i: usize) -> bool {
        i < 64 && self.low >> i & 1 == 1
    }

    /// Whether state `i` stands at its highest value.
    #[must_use]
    pub fn is_high(self, i: usize) -> bool {
        i < 64 && self.high >> i & 1 == 1
    }

    /// Whether any state stands at a bound.
    #[must_use]
    pub fn any(self) -> bool {
        self.low | self.high != 0
    }

    /// With state `i` (below 64) at its lowest value.
    #[must_use]
    pub fn with_low(self, i: usize) -> Self {
        Self { low: self.low | 1 << i, high: self.high & !(1 << i) }
    }

    /// With state `i` (below 64) at its highest value.
    #[must_use]
    pub fn with_high(self, i: usize) -> Self {
        Self { low: self.low & !(1 << i), high: self.high | 1 << i }
    }

    /// With state `i` (below 64) free.
    #[must_use]
    pub fn without(self, i: usize) -> Self {
        Self { low: self.low & !(1 << i), high: self.high & !(1 << i) }
    }
}

/// Something with states that inputs drive and outputs show.
///
/// Everywhere `x` are the states and `u` the inputs as they have arrived, one value a port.
pub trait Process: Send + Sync {
    /// What it is, and its names and units.
    fn description(&self) -> &Description;

    /// How the inputs arrive; one port an input, without dead time, where nothing else is said.
    fn ports(&self) -> &[Port];

    /// The parameters as they are now.
    fn parameters(&self) -> &[f64];

    /// Changes a parameter. Errors when it cannot be that value, or cannot change while the process runs.
    fn set_parameter(&mut self, index: usize, value: f64) -> Result<()>;

    /// The states that cannot leave a range.
    fn bounds(&self) -> Vec<Bound> {
        Vec::new()
    }

    /// `x'` in units per second. A state that is held at a bound has the rate 0, and what it would have gained or lost
    /// spills or is not delivered.
    fn rates(&self, x: &[f64], u: &[f64], held: Held, rates: &mut [f64]);

    /// The outputs.
    fn outputs(&self, x: &[f64], u: &[f64], held: Held, outputs: &mut [f64]);

    /// Whether the outputs depend on the inputs at the same instant.
    fn feeds_through(&self) -> bool {
        true
    }

    /// The terms of all balances, one after the other, in units per second; with the signs of [`TermKind::sign`] they sum
    /// to the rate of change of [`Process::contents`].
    fn terms(&self, _x: &[f64], _u: &[f64], _held: Held, _terms: &mut [f64]) {}

    /// What is held of each balanced quantity.
    fn contents(&self, _x: &[f64], _contents: &mut [f64]) {}

    /// The same equations in dual numbers, which carry exact derivatives along; None where they are not written so.
    fn in_dual_numbers(&self) -> Option<&dyn InDualNumbers> {
        None
    }

    /// What advances the states exactly under an input that runs straight, where the process is linear: its inputs are
    /// deviations from [`Process::rest`].
    fn propagator(&mut self) -> Option<(&mut Propagator, &[f64])> {
        None
    }
}

/// The equations of a process in dual numbers: what rates and outputs are, and how they change with parameters, states and inputs.
pub trait InDualNumbers: Send + Sync {
    /// See [`Process::rates`]; `p` are the parameters.
    fn dual_rates(&self, p: &[Dual], x: &[Dual], u: &[Dual], held: Held, rates: &mut [Dual]);

    /// See [`Process::outputs`].
    fn dual_outputs(&self, p: &[Dual], x: &[Dual], u: &[Dual], held: Held, outputs: &mut [Dual]);
}

/// The inputs as they stand at the ports when nothing is under way.
#[must_use]
pub(crate) fn at_ports(process: &dyn Process, inputs: &[f64]) -> Vec<f64> {
    process.ports().iter().map(|port| inputs[port.input]).collect()
}
