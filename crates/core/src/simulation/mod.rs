//! Plant, controller and scenario in, trace out: one engine for every use.

mod engine;
mod trace;
mod trial;

pub use engine::Simulation;
pub use trace::{Column, ColumnRole, Trace};
pub use trial::{Candidate, Event, OperatingPoint, Plant, Scenario, Signal, TRIAL_VERSION, Trial};
