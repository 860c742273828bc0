//! Plant, controller and scenario in, trace out: one engine for every use.

mod difference;
mod engine;
mod standard;
mod trace;
mod trial;

pub use engine::{Row, Simulation};
pub use standard::round_down;
pub use trace::{Column, ColumnRole, Trace};
pub use trial::{Candidate, Event, OperatingPoint, Plant, Scenario, Signal, TRIAL_VERSION, Trial};
