//! Difference equations by prediction error: ARX, ARMAX, output error, Box–Jenkins.
//!
//! All are cases of `A(q) y = Σ Bᵢ(q)/Fᵢ(q) uᵢ(t − nk) + C(q)/D(q) e` (Ljung, System Identification, 2nd ed. 1999,
//! section 4.2), for the
//! deviations of inputs and outputs from their means; but for ARX, the level of the output is estimated, too. Inputs
//! are taken to have stood at their first value before the data; what
//! the states of the `1/F` were then is estimated with the parameters.

mod orders;
mod predictor;
mod starts;
#[cfg(test)]
mod tests;
mod together;

pub use orders::{OrderChoice, OrderSearch, search_orders};
pub(super) use predictor::Shape;

use super::covariance::{Estimate, NORMAL_95};
use super::data::DataSet;
use super::loss::ScaledLoss;
use super::model::{
    Criteria, FitOptions, FurtherStretch, Model, Operating, Parameter, Performance, SignalName, StartOfRecord,
};
use super::structure::Structure;
use crate::{Error, Result};
use predictor::Deviations;
use together::Together;

/// Fits a polynomial structure: ARX by linear least squares, the others by Levenberg–Marquardt on the prediction errors
/// with exact
/// derivatives, from several starts.
pub(super) fn fit(stretches: &[DataSet], options: &FitOptions) -> Result<Model> {
    let inputs = stretches.first().map_or(0, |data| data.inputs.len());
    let Some(shape) = Shape::of(options.structure, inputs) else {
        return Err(Error::invalid("structure", options.structure.name(), "a polynomial one"));
    };
    if let Some(constraint) = options.constraints.first() {
        return Err(Error::invalid(
            "constraints.parameter",
            &constraint.parameter,
            "no constraint: coefficients of difference equations are not known beforehand",
        ));
    }
    options.loss.validate()?;
    // Alone, a stretch has to tell all unknowns; beside others, where it began.
    let own = shape.count() - shape.coefficients();
    let fewest = if stretches.len() > 1 { shape.warm_up() + 2 * own.max(5) } else { 2 * shape.count().max(5) };
    DataSet::validate_together(stretches, fewest)?;
    DataSet::sample_time_of(stretches)?;
    if !shape.is_arx() {
        stretches.iter().try_for_each(DataSet::without_gaps)?;
    }
    let together = Together::new(stretches, shape);
    let free = together.usable();
    if free < 2 * together.count() {
        return Err(Error::unfit(
            format!("only {free} samples are usable for {} parameters", together.count()),
            "take lower orders or a longer stretch",
        ));
    }
    let squares = least_squares(&together, &shape)?;
    let (theta, loss) = robust(&together, &shape, squares, options);
    model(stretches, &together, &shape, &theta, &loss, options)
}

fn least_squares(together: &Together, shape: &Shape) -> Result<Vec<f64>> {
    let none =
        || Error::unfit("the data do not tell these coefficients apart", "take lower orders or a livelier input");
    if shape.is_arx() {
        return together.arx().ok_or_else(none);
    }
    let refined = together.starts().into_iter().map(|start| together.refined(&start, &ScaledLoss::SQUARES));
    let stable = refined.filter(|(theta, sum)| sum.is_finite() && shape.is_predictor_stable(theta));
    stable.min_by(|a, b| a.1.total_cmp(&b.1)).map(|(theta, _)| theta).ok_or_else(none)
}

/// The minimum of another loss than squares, from the least-squares one.
fn robust(together: &Together, shape: &Shape, squares: Vec<f64>, options: &FitOptions) -> (Vec<f64>, ScaledLoss) {
    if options.loss == super::Loss::Squares {
        return (squares, ScaledLoss::SQUARES);
    }
    let (mut theta, mut scaled) = (squares, ScaledLoss::SQUARES);
    for _ in 0..2 {
        scaled = options.loss.scaled(&together.residuals(&theta));
        let (better, sum) = together.refined(&theta, &scaled);
        if sum.is_finite() && shape.is_predictor_stable(&better) {
            theta = better;
        }
    }
    (theta, scaled)
}

fn model(
    stretches: &[DataSet],
    together: &Together,
    shape: &Shape,
    theta: &[f64],
    loss: &ScaledLoss,
    options: &FitOptions,
) -> Result<Model> {
    let data = &stretches[0];
    let residuals = together.residuals(theta);
    let finite = residuals.iter().filter(|value| value.is_finite());
    let (squares, samples) = finite.fold((0.0, 0usize), |(sum, count), e| (sum + e * e, count + 1));
    let estimate = Estimate { count: together.count(), held: &[], loss, residuals: &residuals, whitening: None };
    let covariances = estimate.covariances(|visit| together.walk(theta, visit));
    let tags: Vec<&str> = data.inputs.iter().map(|series| series.tag.as_str()).collect();
    let names = shape.names(&tags);
    let parameters: Vec<Parameter> = names
        .into_iter()
        .zip(theta)
        .enumerate()
        .map(|(k, ((name, input), value))| {
            let error = |matrix: &nalgebra::DMatrix<f64>| Some(matrix[(k, k)].sqrt()).filter(|error| *error > 0.0);
            let standard_error = covariances.as_ref().and_then(|known| error(&known.coloured));
            Parameter {
                name,
                input,
                value: *value,
                standard_error,
                white_error: covariances.as_ref().and_then(|known| error(&known.white)),
                interval: standard_error.map(|error| [value - NORMAL_95 * error, value + NORMAL_95 * error]),
                unit: String::new(),
                fixed: false,
            }
        })
        .collect();
    let kept = shape.coefficients();
    let covariance = covariances.map_or_else(Vec::new, |known| {
        (0..kept).map(|i| (0..kept).map(|j| known.coloured[(i, j)]).collect()).collect()
    });
    let operating = |k: usize| {
        let (inputs, mut outputs) = stretches[k].means();
        let own = together.of_stretch(k, theta);
        // A level in A y is one in y through 1/A.
        outputs[0] += shape.level(&own) / (1.0 + shape.a(&own).iter().sum::<f64>());
        Operating { op: inputs[0], pv: outputs[0], inputs, outputs: vec![outputs[0]] }
    };
    let name = |series: &super::Series| SignalName { tag: series.tag.clone(), unit: series.unit.clone() };
    Ok(Model {
        structure: options.structure,
        method: if shape.is_arx() && options.loss == super::Loss::Squares {
            "linear least squares".into()
        } else if options.loss == super::Loss::Squares {
            "prediction error, least squares".into()
        } else {
            "prediction error, robust loss".into()
        },
        inputs: data.inputs.iter().map(name).collect(),
        outputs: vec![name(data.output())],
        sample_time: Some(data.sample_time()?),
        parameters,
        covariance,
        matrices: None,
        paths: Vec::new(),
        rows: Vec::new(),
        physical: None,
        operating: operating(0),
        start: StartOfRecord::default(),
        further: (1..stretches.len()).map(|k| FurtherStretch::at(operating(k))).collect(),
        first_stretch: None,
        noise: None,
        // Completed once it can be simulated.
        estimation: Performance::default(),
        criteria: Some(Criteria::new(squares, samples, kept + if shape.is_arx() { 0 } else { stretches.len() })),
        verdicts: Vec::new(),
    })
}

/// One-step prediction errors of the PV in these data.
pub(super) fn prediction_errors(model: &Model, data: &DataSet) -> Result<Vec<f64>> {
    let Some(shape) = Shape::of(model.structure, model.inputs.len()) else { return Ok(Vec::new()) };
    let deviations = Deviations::new(data, &(model.operating.inputs.clone(), model.operating.outputs.clone()));
    let mut theta = model.values();
    theta.resize(shape.count(), 0.0);
    if !shape.is_arx() {
        data.without_gaps()?;
        deviations.fit_transients(&shape, &mut theta);
    }
    Ok(deviations.residuals(&shape, &theta))
}

/// Simulated deviation of the PV from rest for the inputs of these data, without what was under way before.
pub(super) fn forced_response(model: &Model, data: &DataSet) -> Vec<f64> {
    let Some(shape) = Shape::of(model.structure, model.inputs.len()) else { return Vec::new() };
    let deviations = Deviations::new(data, &(model.operating.inputs.clone(), model.operating.outputs.clone()));
    deviations.forced(&shape, &model.values())
}

/// What states at the start leave behind: solutions of `A y = 0` and `Fᵢ w = 0` with `w` through `1/A`.
pub(super) fn free_responses(model: &Model, samples: usize) -> Vec<Vec<f64>> {
    let Some(shape) = Shape::of(model.structure, model.inputs.len()) else { return Vec::new() };
    shape.free_responses(&model.values(), samples)
}

/// Whether the structure is one of this module.
pub(super) fn is_polynomial(structure: Structure) -> bool {
    Shape::of(structure, 1).is_some()
}

/// `x/A` from rest, `A` without its leading 1.
pub(super) fn through(x: &[f64], tail: &[f64]) -> Vec<f64> {
    predictor::filtered(x, tail)
}
