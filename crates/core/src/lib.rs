//! The computation of Antistasis: identification, simulation, tuning and assessment of control loops.
//!
//! Nothing here reads a clock, a file, a socket or a database. Lower modules know nothing of higher ones:
//!
//! ```text
//! tuning  assessment                     settings from models; judging a trace or a loop
//! identification                         models from records
//! simulation                             plant + control + scenario -> trace, scan by scan
//! controller                             PID
//! process   instrument                   what is controlled; sensors
//! lti                                    state space with dead time, discretisation, frequency response
//! series   units   numerics              records; units and spans; roots and least squares
//! ```
//!
//! Time is in seconds, angular frequency in rad/s, controller output (OP) in % everywhere.

pub mod assessment;
pub mod controller;
mod error;
pub mod identification;
pub mod instrument;
pub mod lti;
pub mod numerics;
pub mod process;
pub mod series;
pub mod simulation;
pub mod tuning;
pub mod units;
mod verdict;

pub use error::{Error, Result, check};
pub use verdict::{Tone, Verdict};
