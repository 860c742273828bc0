//! Models from records.

mod agreement;
mod covariance;
mod data;
mod loss;
mod model;
mod noise;
mod nonparametric;
mod polynomial;
mod process_model;
mod reading;
mod recursive;
mod reduction;
mod region;
mod residuals;
mod response;
#[cfg(test)]
mod response_tests;
mod state_space;
mod structure;
mod validation;
mod windows;

pub(crate) use data::held;
pub use data::{DataSet, Series};
pub use loss::Loss;
pub use model::{
    Constraint, Criteria, FitOptions, FoundStep, FurtherStretch, Matrices, Model, Operating, Parameter, Performance,
    SignalName, StartOfRecord,
};
pub use noise::{FittedNoise, NoiseModel};
pub use nonparametric::{Nonparametric, NonparametricOptions, nonparametric};
pub use polynomial::{OrderChoice, OrderSearch, search_orders};
pub use process_model::{ExpectedError, Profile, ProfilePoint};
pub use reading::{HandReading, Marks, MethodReading, read_by_hand, suggested_marks};
pub use recursive::{
    Course, Courses, MovingHorizonOptions, RecursiveOptions, moving_horizon, noise_deviation, recursive,
};
pub use reduction::{Reduction, ReductionMethod, nearest_to_step, reduce};
pub use region::{Region, region};
pub use residuals::{CrossCorrelation, ResidualTests, lag_one_correlation};
pub use response::{FrequencyResponse, Root, StepResponse};
pub use structure::{Order, Structure, StructureOffer};
pub use validation::{Validation, validate, validate_together};
pub use windows::{Identified, Part, Parts, ValidationWindow, Windows, identify, identify_together};

use crate::series::TimeAxis;
use crate::{Error, Result};

/// Fits a model of any structure.
///
/// Errors when the data cannot answer (too few samples, an input that stands still, uneven samples where even ones are
/// needed) and
/// when an option is out of range.
pub fn fit(data: &DataSet, options: &FitOptions) -> Result<Model> {
    fit_together(std::slice::from_ref(data), options)
}

/// Fits one model to several stretches of data, of one record or of several.
///
/// The process is the same in all; where it rested, a drift, and what was under way at the start are each stretch's own,
/// and no stretch knows what another ended with. Errors as [`fit`], and when the stretches have not the same signals in the
/// same units.
pub fn fit_together(stretches: &[DataSet], options: &FitOptions) -> Result<Model> {
    options.structure.validate()?;
    let outputs = stretches.first().map_or(&[][..], |data| &data.outputs);
    if outputs.len() > 1 && !matches!(options.structure, Structure::StateSpace { .. }) {
        let further: Vec<&str> = outputs[1..].iter().map(|series| series.tag.as_str()).collect();
        return Err(Error::invalid("outputs", further.join(", "), "none: only state space has several outputs"));
    }
    match options.structure {
        Structure::StateSpace { .. } => validation::completed(state_space::fit(stretches, options)?, stretches),
        polynomial if polynomial::is_polynomial(polynomial) => {
            validation::completed(polynomial::fit(stretches, options)?, stretches)
        }
        _ => process_model::fit(stretches, options),
    }
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
pub fn profile(stretches: &[DataSet], options: &FitOptions, model: &Model, parameter: &str) -> Result<Profile> {
    process_model::profile(stretches, options, model, parameter)
}

/// What a fit to such a record would know of the parameters of `process`, for white noise of this standard deviation.
pub(crate) fn expected_errors(
    process: &crate::process::LinearSpec,
    axis: &TimeAxis,
    op: &[f64],
    pv: &[f64],
    noise: f64,
    pv_unit: &str,
) -> Result<Vec<ExpectedError>> {
    let data =
        DataSet::single(axis.clone(), Series::new("OP", "%", op.to_vec()), Series::new("PV", pv_unit, pv.to_vec()));
    process_model::expected(process, &data, noise)
}
