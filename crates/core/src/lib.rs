//! The computation of Antistasis: identification, simulation, tuning and assessment of control loops.
//!
//! Nothing here reads a clock, a file, a socket or a database. Lower modules know nothing of higher ones:
//!
//! ```text
//! proof                                  candidates × disturbances × plants that may be, against limits
//! tuning  assessment  experiment         settings from models; judging a trace, a loop, a record; planning a test
//! identification                         models from records
//! simulation                             plant + control + scenario -> trace, scan by scan
//! controller                             PID, Smith predictor, cascade, adaptive ones, predictive, relay
//! estimation                             Kalman filters and a moving horizon for what cannot be measured
//! process   instrument                   tanks, heaters, reactors, linear ones; valves and sensors
//! lti                                    state space with dead time, discretisation, frequency response
//! preparation                            steps laid over a record
//! series   units   numerics              records; units and spans; roots, least squares, integration
//! work                                   what can be ended from outside
//! document                               versions of what is stored, and the ways up (knows every kind)
//! ```
//!
//! Time is in seconds, angular frequency in rad/s, controller output (OP) in % everywhere.

pub mod assessment;
pub mod controller;
pub mod document;
mod error;
pub mod estimation;
pub mod experiment;
pub mod identification;
pub mod instrument;
pub mod lti;
pub mod numerics;
pub mod preparation;
pub mod process;
pub mod proof;
pub mod series;
pub mod simulation;
pub mod tuning;
pub mod units;
pub mod verdict;
pub mod work;

pub use error::{Error, Result, check};
pub use verdict::{Tone, Verdict};
