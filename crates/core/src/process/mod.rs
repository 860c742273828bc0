//! What is controlled. Every process, linear or not, is used through the trait [`Process`].

mod half_rule;
mod linear;

pub use half_rule::HalfRule;
pub use linear::{LinearProcess, ProcessSpec};

use crate::lti::DeadTime;

/// A named quantity of a process with its unit.
#[derive(Debug, Clone, PartialEq)]
pub struct Quantity {
    /// The name, in the trade's words.
    pub name: &'static str,
    /// The unit, as text.
    pub unit: String,
}

impl Quantity {
    /// A quantity of this name and unit.
    pub fn new(name: &'static str, unit: impl Into<String>) -> Self {
        Self { name, unit: unit.into() }
    }
}

/// Something with states that inputs drive and outputs show.
pub trait Process: Send {
    /// The states, in the order of `x`.
    fn states(&self) -> &[Quantity];
    /// The inputs, in the order of `u`: first what the controller sets, then the load that acts at the same place.
    fn inputs(&self) -> &[Quantity];
    /// The outputs, in the order of `y`: first the process variable.
    fn outputs(&self) -> &[Quantity];
    /// The state in which the process rests at its operating point.
    fn initial_state(&self) -> Vec<f64>;
    /// `x'` in units per second, for state `x` and the inputs `u` that have arrived.
    fn derivatives(&self, x: &[f64], u: &[f64], derivatives: &mut [f64]);
    /// The outputs at state `x`.
    fn read(&self, x: &[f64], outputs: &mut [f64]);
    /// The dead time between an input and its effect on the states.
    fn dead_time(&self) -> DeadTime;
    /// Replaces `x` by the state `h` seconds later under inputs `u` that have arrived and stay constant meanwhile.
    fn advance(&mut self, x: &mut [f64], u: &[f64], h: f64);
}
