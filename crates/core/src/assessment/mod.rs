//! Judging a trace or a loop: metrics, stability margins, and what they mean in a sentence.

mod judgement;
mod margins;
mod metrics;

pub use judgement::judge;
pub use margins::{LoopGain, Margins, sampled_margins};
pub use metrics::{LoadResponse, Metrics, SetPointResponse, integral_absolute_error, metrics};
