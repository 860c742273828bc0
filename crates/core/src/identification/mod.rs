//! Models from records.

mod fopdt;
mod residuals;

pub use fopdt::{DataSet, Estimate, FopdtModel, FopdtParameters, Operating, Structure, fit_fopdt};
pub use residuals::lag_one_correlation;
