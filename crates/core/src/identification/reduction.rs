//! From any stable linear model to one of low order with dead time.

use super::data::{DataSet, Series};
use super::model::{FitOptions, Model, Parameter, SignalName, StartOfRecord};
use super::process_model;
use super::response::StepResponse;
use super::structure::Structure;
use crate::process::LinearSpec;
use crate::series::TimeAxis;
use crate::verdict::{Tone, Verdict, readable};
use crate::{Error, Result};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Points of the step response that is matched.
const POINTS: usize = 400;

/// How a model is reduced.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum ReductionMethod {
    /// Skogestad's half rule. A difference equation or state space is matched by two lags and a lead first.
    HalfRule,
    /// Least squares between the step responses.
    StepResponse,
}

/// A reduced model and how far it is from the one it came from.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Reduction {
    /// The reduced model; it rests where the other one does. Its parameters have no standard errors.
    pub model: Model,
    /// Largest difference of the step responses, in % of the final value.
    pub largest_error: f64,
    /// Root of the mean square of the difference until it has settled, in % of the final value.
    pub mean_error: f64,
    /// The step response of the model that was reduced.
    pub before: StepResponse,
    /// The step response of the reduced model, at the same times.
    pub after: StepResponse,
    /// The steps of the rule with the numbers filled in.
    pub steps: Vec<String>,
}

/// Reduces the way from the OP to the PV to `structure`, which is a process structure.
///
/// Errors for a model that is not stable (an integrating one is reduced by the half rule only), and when the half rule
/// is asked for another
/// structure than first order or integrating.
pub fn reduce(model: &Model, structure: Structure, method: ReductionMethod) -> Result<Reduction> {
    structure.validate()?;
    if model.is_matrix() {
        return Err(Error::unfit(
            "the cells of a matrix are of low order already",
            "begin a trial with the matrix, or fit it with other structures",
        ));
    }
    let first_order = matches!(structure, Structure::Fopdt | Structure::Integrating);
    let (mut reduced, steps) = match method {
        ReductionMethod::HalfRule if !first_order => {
            return Err(Error::invalid(
                "structure",
                structure.name(),
                "first order plus dead time, or integrating with dead time, by the half rule",
            ));
        }
        ReductionMethod::HalfRule => {
            let mut steps = Vec::new();
            let process = match model.process() {
                Ok(process) => process,
                Err(_) => {
                    let matched = matched(model, Structure::TwoLagsLead)?;
                    steps.push("step response matched by two lags and a lead".to_owned());
                    matched.process()?
                }
            };
            let halved = process.half_rule()?;
            let integrates = halved.process.integrators() > 0;
            if integrates != structure.is_integrating() {
                let (is, instead) = if integrates {
                    ("integrates", Structure::Integrating)
                } else {
                    ("settles by itself", Structure::Fopdt)
                };
                return Err(Error::said(
                    "structure",
                    format!("The model {is}: the half rule makes it {}, not {}.", instead.name(), structure.name()),
                ));
            }
            steps.extend(halved.steps);
            (Model::of_process(model, &halved.process), steps)
        }
        ReductionMethod::StepResponse => {
            (matched(model, structure)?, vec!["least squares between the step responses".to_owned()])
        }
    };
    let horizon = model.transfer(0, 0)?.settling().max(reduced.transfer(0, 0)?.settling());
    let before = model.step_response(None, 0, 0, Some(horizon))?;
    let after = at_times(&reduced, &before.times)?;
    let last = before.values.last().copied().unwrap_or(1.0);
    let scale = 100.0 / last.abs().max(f64::MIN_POSITIVE);
    let misses: Vec<f64> = before.values.iter().zip(&after).map(|(a, b)| scale * (a - b).abs()).collect();
    let largest_error = misses.iter().copied().fold(0.0, f64::max);
    let mean_error = (misses.iter().map(|e| e * e).sum::<f64>() / misses.len() as f64).sqrt();
    reduced.verdicts = vec![Verdict::new(
        match largest_error {
            e if e > 30.0 => Tone::Bad,
            e if e > 10.0 => Tone::Caution,
            _ => Tone::Good,
        },
        format!(
            "Reduced from {}: the step responses differ by at most {} % of the final value, {} % on average.",
            model.structure.name(),
            readable(largest_error),
            readable(mean_error)
        ),
        "a difference above 10 % is worth a second look, one above 30 % is another process (common practice)",
    )];
    let after = StepResponse { times: before.times.clone(), values: after, half_widths: Vec::new() };
    Ok(Reduction { model: reduced, largest_error, mean_error, before, after, steps })
}

/// The step response at given times, the first of which is 0.
fn at_times(model: &Model, times: &[f64]) -> Result<Vec<f64>> {
    model.process()?.response_to(&TimeAxis::from_times(times)?, &vec![1.0; times.len()])
}

/// The model of `structure` whose step response comes nearest, by the fit that is used on records.
fn matched(model: &Model, structure: Structure) -> Result<Model> {
    if structure.process_parameters().is_empty() {
        return Err(Error::invalid("structure", structure.name(), "a structure with dead time"));
    }
    let transfer = model.transfer(0, 0)?;
    if model.structure.is_integrating()
        || model.poles().iter().any(|pole| pole.discrete_modulus.map_or(pole.re >= 0.0, |r| r >= 1.0))
    {
        return Err(Error::unfit(
            "the model is not stable, its step response does not settle",
            "reduce an integrating process by the half rule, or fit an integrating structure to the record",
        ));
    }
    let horizon = transfer.settling();
    let interval = transfer.interval().unwrap_or(horizon / POINTS as f64);
    let count = ((horizon / interval).ceil() as usize + 1).clamp(60, 20_000);
    let response = transfer.step(interval, count)?;
    let signal = |of: &SignalName| Series::new(&of.tag, &of.unit, Vec::new());
    let mut found = fit_to_step(&response, interval, structure, signal(&model.inputs[0]), signal(&model.outputs[0]))?;
    without_errors(&mut found);
    found.operating = model.operating.clone();
    found.operating.inputs.truncate(1);
    found.operating.outputs.truncate(1);
    found.inputs = model.inputs[..1].to_vec();
    found.outputs = model.outputs[..1].to_vec();
    found.method = format!("reduced from {}, step response", model.structure.name());
    found.start =
        StartOfRecord { inputs: found.operating.inputs.clone(), transients: Vec::new(), drift: 0.0, steps: Vec::new() };
    found.estimation = model.estimation.clone();
    found.criteria = None;
    Ok(found)
}

/// The process of `structure` whose answer to a unit step at time 0 comes nearest to `response`, sampled every `interval`
/// seconds from 0 on.
pub fn nearest_to_step(response: &[f64], interval: f64, structure: Structure) -> Result<LinearSpec> {
    let (input, output) = (Series::new("u", "", Vec::new()), Series::new("y", "", Vec::new()));
    fit_to_step(response, interval, structure, input, output)?.process()
}

/// The fit that is used on records, of a step and its response; `input` and `output` give tag and unit.
fn fit_to_step(
    response: &[f64],
    interval: f64,
    structure: Structure,
    mut input: Series,
    mut output: Series,
) -> Result<Model> {
    if response.iter().any(|value| !value.is_finite()) {
        return Err(Error::unfit("the step response is not finite", "check the poles"));
    }
    // As long at rest as on the move, so that a process that is mostly dead time is found, too.
    let rest = response.len();
    input.values = (0..rest + response.len()).map(|k| if k < rest { 0.0 } else { 1.0 }).collect();
    output.values = std::iter::repeat_n(0.0, rest).chain(response.iter().copied()).collect();
    let axis = TimeAxis::uniform(interval, output.values.len())?;
    process_model::fit_from_rest(&DataSet::single(axis, input, output), &FitOptions::new(structure))
}

/// What was matched to a curve without noise has no standard errors.
fn without_errors(model: &mut Model) {
    for parameter in &mut model.parameters {
        (parameter.standard_error, parameter.white_error, parameter.interval) = (None, None, None);
    }
    model.covariance = Vec::new();
}

impl Model {
    /// A model with the parameters of a process that stands where `origin` does.
    fn of_process(origin: &Self, process: &LinearSpec) -> Self {
        let (structure, values) = Structure::of_process(process);
        let names = structure.process_parameters();
        let per = if structure.is_integrating() { "/s" } else { "" };
        let unit = format!("{}/{}{per}", origin.outputs[0].unit, origin.inputs[0].unit);
        let parameters = names.iter().zip(values).map(|((name, _), value)| Parameter {
            name: (*name).to_owned(),
            input: None,
            value,
            standard_error: None,
            white_error: None,
            interval: None,
            unit: if *name == "gain" { unit.clone() } else { "s".to_owned() },
            fixed: false,
        });
        let mut operating = origin.operating.clone();
        operating.inputs.truncate(1);
        operating.outputs.truncate(1);
        Self {
            structure,
            method: format!("reduced from {}, half rule", origin.structure.name()),
            inputs: origin.inputs[..1].to_vec(),
            outputs: origin.outputs[..1].to_vec(),
            sample_time: None,
            parameters: parameters.collect(),
            covariance: Vec::new(),
            matrices: None,
            paths: Vec::new(),
            rows: Vec::new(),
            physical: None,
            start: StartOfRecord {
                inputs: operating.inputs.clone(),
                transients: Vec::new(),
                drift: 0.0,
                steps: Vec::new(),
            },
            further: Vec::new(),
            first_stretch: None,
            noise: None,
            operating,
            estimation: origin.estimation.clone(),
            criteria: None,
            verdicts: Vec::new(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::identification::fit;
    use crate::lti::{DeadTime, Dynamics, Response};

    /// A record of two lags with dead time, without noise.
    fn two_lags() -> DataSet {
        let axis = TimeAxis::uniform(1.0, 600).unwrap();
        let input: Vec<f64> = (0..600).map(|k| if k / 70 % 2 == 1 { 55.0 } else { 45.0 }).collect();
        let dynamics = Dynamics::TwoLags { time_constants: [20.0, 6.0] };
        let response = Response::new(dynamics, &axis, &input, 45.0, DeadTime::new(4.0).unwrap());
        let output = response.map(|sample| 1.5 * sample.value).collect();
        DataSet::single(axis, Series::new("OP", "%", input), Series::new("PV", "m", output))
    }

    fn values(reduction: &Reduction) -> Vec<f64> {
        reduction.model.values()
    }

    #[test]
    fn the_half_rule_and_the_step_response_come_near() {
        let model = fit(&two_lags(), &FitOptions::new(Structure::TwoLags)).unwrap();
        let halved = reduce(&model, Structure::Fopdt, ReductionMethod::HalfRule).unwrap();
        for (value, exact) in values(&halved).iter().zip([1.5, 23.0, 7.0]) {
            assert!((value - exact).abs() < 1e-2, "{halved:?}");
        }
        let matched = reduce(&model, Structure::Fopdt, ReductionMethod::StepResponse).unwrap();
        assert!((values(&matched)[0] - 1.5).abs() < 0.03);
        // Least squares is the better of the two, by its own measure.
        assert!(matched.model.criteria.is_none() && halved.model.criteria.is_none());
        assert!(
            matched.mean_error < halved.mean_error && matched.largest_error < 8.0,
            "{} {}",
            matched.mean_error,
            halved.mean_error
        );
    }

    /// Made by `reference/low_order.py`: the least-squares optimum by SciPy from many starts.
    #[test]
    fn the_nearest_model_is_the_least_squares_optimum() {
        #[derive(Deserialize)]
        struct Case {
            name: String,
            interval: f64,
            response: Vec<f64>,
            least: f64,
        }
        let cases: Vec<Case> = serde_json::from_str(include_str!("../../../../reference/data/low_order.json")).unwrap();
        for case in cases {
            let found = nearest_to_step(&case.response, case.interval, Structure::Fopdt).unwrap();
            let response = found.state_space().unwrap().step_response(case.interval, case.response.len());
            let squares: f64 = response.iter().zip(&case.response).map(|(a, b)| (a - b) * (a - b)).sum();
            assert!(squares < 1.0001 * case.least + 1e-12, "{}: {squares} for {}, {found:?}", case.name, case.least);
        }
    }

    #[test]
    fn a_difference_equation_and_a_state_space_become_the_lags_they_were_fitted_to() {
        let data = two_lags();
        for structure in [Structure::OutputError { nb: 3, nf: 2, nk: 4 }, Structure::StateSpace { order: 6 }] {
            let model = fit(&data, &FitOptions::new(structure)).unwrap();
            let reduced = reduce(&model, Structure::TwoLags, ReductionMethod::StepResponse).unwrap();
            let mut lags = values(&reduced)[1..3].to_vec();
            lags.sort_by(f64::total_cmp);
            // The difference equation acts at the samples, its hold shows in the dead time.
            assert!(
                (lags[0] / 6.0 - 1.0).abs() < 0.1 && (lags[1] / 20.0 - 1.0).abs() < 0.05,
                "{structure:?}: {:?}",
                values(&reduced)
            );
            assert!(reduced.largest_error < 3.0 && (values(&reduced)[3] - 4.0).abs() < 1.0, "{reduced:?}");
            let halved = reduce(&model, Structure::Fopdt, ReductionMethod::HalfRule).unwrap();
            assert!((values(&halved)[1] - 23.0).abs() < 2.0 && halved.steps.len() >= 2, "{:?}", halved.steps);
        }
    }

    #[test]
    fn what_cannot_be_reduced_says_so() {
        let axis = TimeAxis::uniform(1.0, 300).unwrap();
        let input: Vec<f64> = (0..300).map(|k| if k / 40 % 2 == 1 { 51.0 } else { 49.0 }).collect();
        let about: Vec<f64> = input.iter().map(|u| u - 50.0).collect();
        let output = Response::new(Dynamics::Integrator, &axis, &about, 0.0, DeadTime::new(3.0).unwrap());
        let output = output.map(|sample| 0.1 * sample.value).collect();
        let data = DataSet::single(axis, Series::new("OP", "%", input), Series::new("PV", "m", output));
        let model = fit(&data, &FitOptions::new(Structure::Integrating)).unwrap();
        assert!(
            reduce(&model, Structure::Fopdt, ReductionMethod::StepResponse)
                .unwrap_err()
                .to_string()
                .contains("not stable")
        );
        let settling = fit(&two_lags(), &FitOptions::new(Structure::TwoLags)).unwrap();
        for (model, structure, words) in [
            (&settling, Structure::Integrating, "settles by itself: the half rule makes it first order plus dead time"),
            (&model, Structure::Fopdt, "integrates: the half rule makes it integrating"),
        ] {
            let error = reduce(model, structure, ReductionMethod::HalfRule).unwrap_err().to_string();
            assert!(error.contains(words), "{error}");
        }
        assert!(
            reduce(&model, Structure::TwoLags, ReductionMethod::HalfRule)
                .unwrap_err()
                .to_string()
                .contains("half rule")
        );
    }
}
