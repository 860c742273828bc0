//! Linear time-invariant processes with dead time: exact discretisation and frequency response.

mod delay;
mod first_order;
mod state_space;

pub use delay::{DeadTime, SampledDelay};
pub use first_order::{FirstOrderSample, first_order_response};
pub use state_space::{Propagator, StateSpace};
