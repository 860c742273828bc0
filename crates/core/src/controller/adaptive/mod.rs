//! Controllers that learn while they control.

mod model_reference;
mod self_tuning;

pub use model_reference::{AdaptedGains, ModelReference, ModelReferenceSettings};
pub use self_tuning::{SelfTuning, SelfTuningSettings};
