//! Models from records.

mod data;
mod loss;
mod model;
mod process_model;
mod residuals;
mod structure;

pub use data::{DataSet, Series};
pub use loss::Loss;
pub use model::{
    Constraint, Criteria, FitOptions, Matrices, Model, Operating, Parameter, Performance, SignalName, StartOfRecord,
};
pub use process_model::{Profile, ProfilePoint};
pub use residuals::{CrossCorrelation, ResidualTests, lag_one_correlation};
pub use structure::Structure;

use crate::Result;
use crate::series::TimeAxis;

/// Fits a model of any structure.
///
/// Errors when the data cannot answer (too few samples, an input that stands still, uneven samples where even ones are needed) and
/// when an option is out of range.
pub fn fit(data: &DataSet, options: &FitOptions) -> Result<Model> {
    options.structure.validate()?;
    process_model::fit(data, options)
}

/// Fits first order plus dead time by least squares.
pub fn fit_fopdt(data: &DataSet) -> Result<Model> {
    fit(data, &FitOptions::new(Structure::Fopdt))
}

impl Model {
    /// The simulated PV at each sample of `axis` for these inputs, in the record that the model was fitted to.
    pub fn simulate(&self, axis: &TimeAxis, inputs: &[&[f64]]) -> Result<Vec<f64>> {
        process_model::simulate(self, axis, inputs)
    }
}

/// The profile of a parameter of the OP's path: see [`Profile`].
pub fn profile(data: &DataSet, options: &FitOptions, model: &Model, parameter: &str) -> Result<Profile> {
    process_model::profile(data, options, model, parameter)
}
