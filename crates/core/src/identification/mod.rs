//! Models from records.

mod agreement;
mod cells;
mod covariance;
mod data;
mod loss;
mod matrix;
mod model;
mod noise;
mod nonparametric;
mod physical;
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

pub use cells::{Cell, Cells};
pub(crate) use data::held;
pub use data::{DataSet, Series};
pub use loss::Loss;
pub use model::{
    Constraint, Criteria, FitOptions, FoundStep, FurtherStretch, Matrices, Model, Operating, Parameter, Performance,
    SignalName, StartOfRecord,
};
pub use noise::{FittedNoise, NoiseModel};
pub use nonparametric::{Nonparametric, NonparametricOptions, nonparametric};
pub use physical::{
    BalanceOverTime, BalanceTerm, DividedFit, Drifting, DriftingKind, ExpectedNumber, FitSoFar, FoundFrom,
    ImpliedValue, MappedInput, MappedOutput, MayDrift, OutputAgreement, PhysicalModel, PhysicalOptions, Sought,
    SoughtKind, StartOfStates, SteadyCheck, SteadyStretch, Telling, Tie, Together, Tracked, TrackedNumber,
    TrackedOutput, TrackingMethod, TrackingOptions, Untold, balances, steady_check, telling, telling_of_plan, track,
};
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
pub use windows::{Identified, Part, Parts, ValidationWindow, Windows, identified, identify, identify_together};

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
    if outputs.len() > 1
        && !matches!(options.structure, Structure::StateSpace { .. } | Structure::Matrix | Structure::Physical)
    {
        let further: Vec<&str> = outputs[1..].iter().map(|series| series.tag.as_str()).collect();
        return Err(Error::invalid(
            "outputs",
            further.join(", "),
            "none: only a matrix, state space and a physical model have several outputs",
        ));
    }
    options.check_belongings()?;
    match options.structure {
        Structure::Matrix => matrix::fit(stretches, options),
        Structure::Physical => physical::fit(stretches, options),
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
    ///
    /// Errors for structures other than process structures, and when the inputs are not as many as the model has.
    pub fn simulate(&self, axis: &TimeAxis, inputs: &[&[f64]]) -> Result<Vec<f64>> {
        if !self.structure.is_process() {
            return Err(Error::unfit(
                format!("a model of structure {} has no start of its own in the record", self.structure.name()),
                "simulate a row of it, or hold it against data",
            ));
        }
        if inputs.len() != self.inputs.len() {
            return Err(Error::invalid("inputs", format!("{} series", inputs.len()), format!("{}", self.inputs.len())));
        }
        process_model::simulate(self, axis, inputs)
    }
}

/// The profile of a parameter of the OP's path: see [`Profile`].
pub fn profile(stretches: &[DataSet], options: &FitOptions, model: &Model, parameter: &str) -> Result<Profile> {
    if model.is_matrix() {
        return Err(Error::unfit("profiles are made of models of one output", "fit this output by itself to see one"));
    }
    if model.is_physical() {
        return physical::profile(stretches, options, model, parameter);
    }
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
