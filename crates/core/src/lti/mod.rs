//! Linear time-invariant processes with dead time: exact discretisation and frequency response.

mod delay;
mod discrete;
mod low_order;
mod matrix;
mod state_space;
mod zeros;

pub use delay::{DeadTime, SampledDelay};
pub use discrete::Discrete;
pub use low_order::{Dynamics, FreeResponse, MOST_SHAPE_PARAMETERS, Response, Sample};
pub use matrix::{DirectedZero, TransferMatrix};
pub use state_space::{Propagator, Sampled, StateSpace};
pub use zeros::transmission_zeros;
