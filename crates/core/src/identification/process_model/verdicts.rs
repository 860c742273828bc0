//! What the figures of a process model mean.

use super::super::data::DataSet;
use super::super::model::{Constraint, Model, Parameter};
use super::super::structure::Structure;
use super::super::validation::verdict_of_stretches;
use crate::verdict::{Tone, Verdict, readable, readable_duration};

/// The words for a parameter in a sentence.
fn words(name: &str) -> String {
    name.replace('_', " ")
}

/// The model judged against the data, the gravest first as they come.
pub(super) fn judge(model: &Model, stretches: &[DataSet], known: &[Constraint]) -> Vec<Verdict> {
    let mut verdicts = Vec::new();
    let duration = stretches.iter().map(|data| data.axis.duration()).fold(0.0, f64::max);
    let slowest = model
        .parameters
        .iter()
        .filter(|parameter| {
            parameter.name.starts_with("time_constant")
                && parameter.input.as_ref().is_none_or(|tag| *tag == model.inputs[0].tag)
        })
        .map(|parameter| parameter.value)
        .fold(0.0, f64::max);
    let looks_integrating = slowest > duration && !model.structure.is_integrating();
    if looks_integrating {
        verdicts.push(Verdict::new(
            Tone::Bad,
            format!(
                "The time constant of {} is longer than the record of {}: the process looks integrating here, and gain and \
                 time constant are known only by their ratio. Fit the structure “integrating”.",
                readable_duration(slowest),
                readable_duration(duration)
            ),
            "a time constant must fit into the record (common practice)",
        ));
    }
    verdicts.extend(verdict_of_stretches(model));
    if let Some(verdict) = size_of_move(model, stretches, duration) {
        verdicts.push(verdict);
    }
    for parameter in &model.parameters {
        let name = match &parameter.input {
            Some(tag) if *tag != model.inputs[0].tag => format!("{} of {tag}", words(&parameter.name)),
            _ => words(&parameter.name),
        };
        match parameter.standard_error {
            _ if parameter.fixed => {}
            None if parameter.name == "dead_time" && parameter.value == 0.0 => verdicts.push(Verdict::new(
                Tone::Caution,
                format!("The best {name} is 0: the data show none."),
                "dead time is 0 or more",
            )),
            None if looks_integrating => {}
            None if at_given_bound(parameter, known).is_some() => {
                let end = at_given_bound(parameter, known).unwrap_or_default();
                verdicts.push(Verdict::new(
                    Tone::Caution,
                    format!(
                        "The {name} stands at the {end} value that was allowed, {} {}: the data would go further. Loosen the \
                         bound, or give it exactly where it is known.",
                        readable(parameter.value),
                        parameter.unit
                    ),
                    "a parameter at a bound that was given",
                ));
            }
            None => verdicts.push(Verdict::new(
                Tone::Bad,
                format!("The data do not determine the {name}."),
                "a parameter at its bound, or without effect on the output",
            )),
            Some(error) if parameter.name != "dead_time" && error > 0.25 * parameter.value.abs() => {
                verdicts.push(Verdict::new(
                    Tone::Caution,
                    format!(
                        "The {name} is poorly known: {} ± {} {}.",
                        readable(parameter.value),
                        readable(error),
                        parameter.unit
                    ),
                    "standard error above a quarter of the value",
                ));
            }
            Some(_) => {}
        }
    }
    if model.structure == Structure::TwoLags || model.structure == Structure::TwoLagsLead {
        let lags: Vec<f64> = ["time_constant_1", "time_constant_2"]
            .iter()
            .filter_map(|name| model.parameter(name).map(|parameter| parameter.value))
            .collect();
        if let [first, second] = lags[..]
            && (first / second - 1.0).abs() < 0.01
        {
            verdicts.push(Verdict::new(
                Tone::Caution,
                "The two lags fall together: the data may be of an under-damped process.",
                "two equal lags are damped critically (exact)",
            ));
        }
    }
    let correlation = model.estimation.residual_correlation;
    if correlation > 0.3 {
        let inflations =
            model.parameters.iter().filter_map(|parameter| Some(parameter.standard_error? / parameter.white_error?));
        let largest = inflations.fold(1.0, f64::max);
        verdicts.push(Verdict::new(
            Tone::Caution,
            format!(
                "Neighbouring residuals are correlated ({}): something slow is left over, a disturbance or a part of the process. \
                 The standard errors allow for it; they are up to {} times those for white residuals.",
                readable(correlation),
                readable(largest)
            ),
            "covariance from an autoregression fitted to the residuals",
        ));
    }
    if verdicts.is_empty() {
        verdicts.push(Verdict::new(
            Tone::Good,
            format!(
                "The model explains {} % of the PV's swing; what is left ({} {}) is noise without memory.",
                readable(model.estimation.fit_simulated),
                readable(model.estimation.residual_deviation),
                model.output_unit()
            ),
            "fit of the simulated output; correlation of neighbouring residuals below 0.3",
        ));
    }
    verdicts
}

/// Which of its given bounds a parameter stands at, in a word.
fn at_given_bound(parameter: &Parameter, known: &[Constraint]) -> Option<&'static str> {
    let own = known.iter().find(|one| one.parameter == parameter.name)?;
    let near = |bound: f64| (parameter.value - bound).abs() <= 1e-6 * bound.abs().max(1e-9);
    if own.low.is_some_and(near) {
        Some("lowest")
    } else if own.high.is_some_and(near) {
        Some("highest")
    } else {
        None
    }
}

/// A move that hardly lifts the PV out of the noise.
fn size_of_move(model: &Model, stretches: &[DataSet], duration: f64) -> Option<Verdict> {
    let ranges = stretches.iter().map(|data| data.inputs[0].range());
    let (low, high) = ranges.max_by(|a, b| (a.1 - a.0).total_cmp(&(b.1 - b.0)))?;
    let gain = model.parameter("gain")?.value;
    let reach = if model.structure.is_integrating() { 0.5 * duration } else { 1.0 };
    let noise = model.estimation.residual_deviation.max(f64::MIN_POSITIVE);
    let lifts = (gain * reach * (high - low)).abs() / noise;
    let unit = &model.inputs[0].unit;
    (lifts < 4.0).then(|| {
        Verdict::new(
            Tone::Bad,
            format!(
                "The move of {} {unit} lifts the PV by {} times the noise: repeat it with at least {} {unit}.",
                readable(high - low),
                readable(lifts),
                readable(4.0 * (high - low) / lifts.max(0.1)),
            ),
            "a move should lift the PV by at least 4 times the noise (common practice)",
        )
    })
}
