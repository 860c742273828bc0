//! Plant, controller and scenario in, trace out: one engine for every use.

mod beginning;
mod columns;
mod controlling;
mod difference;
mod driving;
mod dynamics;
mod engine;
mod measuring;
mod measuring_inputs;
mod plant;
mod predicting;
mod scenario;
mod schedule;
mod seen;
mod signals;
mod standard;
mod sweep;
mod swept;
mod timeline;
mod trace;
mod trial;
mod typed_in;
mod wiring;

pub use beginning::{EventKind, begin_event};
pub use engine::{Row, Simulation};
pub use plant::{Drive, OperatingPoint, Plant, Signal, Started};
pub(crate) use predicting::seats;
pub use scenario::{Event, Scenario};
pub use signals::{Manipulated, Measured, MeasuredInput};
pub use standard::round_down;
pub use sweep::{Axis, Sweep, SweepPoint};
pub use swept::{SweepTarget, sweep_targets};
pub use trace::{BalanceSheet, Column, ColumnRole, Happening, TermTotal, Trace};
pub use trial::{Candidate, ENGINE_VERSION, Ratio, TRIAL_VERSION, Trial, letter};
pub use typed_in::{Sheet, TypedIn, TypedSetting};
pub use wiring::{End, Lead, Links, Select, Wire, Wired, Wiring};
