//! What the figures of a process model mean.

use super::super::data::DataSet;
use super::super::loss::Usual;
use super::super::model::{Constraint, FitOptions, Model, Parameter, Performance};
use super::super::residuals::lag_one_correlation;
use super::super::structure::Structure;
use super::super::validation::verdict_of_stretches;
use super::EXACT;
use super::effect::{verdict_of_effect, without_effect};
use super::steps::Unexplained;
use crate::numerics::NormalEquations;
use crate::verdict::{Tone, Verdict, readable, readable_duration};

/// The words for a parameter in a sentence.
fn words(name: &str) -> String {
    name.replace('_', " ")
}

/// The model judged against the data, the gravest first as they come.
///
/// `usual` is what is left beside outliers, where the loss leaves these aside: they are no noise to be judged by.
pub(super) fn judge(model: &Model, stretches: &[DataSet], options: &FitOptions, usual: &Usual) -> Vec<Verdict> {
    let known = &options.constraints;
    let mut verdicts = Vec::new();
    let fit = fit_beside_outliers(model, usual);
    verdicts.extend(level_of_fit(fit));
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
    verdicts.extend(size_of_move(model, stretches, duration, usual.deviation));
    verdicts.extend(faster_than_the_samples(model, stretches));
    verdicts.extend(shorter_than_the_answer(model, stretches));
    verdicts.extend(closed_loop(model, stretches));
    let silent = if model.inputs.len() > 1 { without_effect(model) } else { Vec::new() };
    verdicts.extend(silent.iter().map(|gain| verdict_of_effect(model, gain)));
    for parameter in &model.parameters {
        // What an input without effect would do slowly or late says nothing.
        if silent.iter().any(|gain| gain.input == parameter.input) {
            continue;
        }
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
            None if parameter.name == "dead_time" && parameter.value >= 0.999 * LONGEST_DEAD_TIME * duration => {
                verdicts.push(Verdict::new(
                    Tone::Bad,
                    format!(
                        "The {name} stands at {}, the longest that is sought in a record of {}: it may be longer. Record on \
                         until the PV has answered the move.",
                        readable_duration(parameter.value),
                        readable_duration(duration)
                    ),
                    "a dead time is sought up to nine tenths of the data",
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
    let correlation = lag_one_correlation(&usual.residuals);
    if correlation > 0.3 && model.estimation.fit_simulated <= EXACT {
        let inflations = model.parameters.iter().filter_map(|parameter| {
            let (error, white) = (parameter.standard_error?, parameter.white_error?);
            (white > 0.0).then_some(error / white)
        });
        let largest = inflations.fold(1.0, f64::max);
        verdicts.push(Verdict::new(
            Tone::Caution,
            format!(
                "Neighbouring residuals are correlated ({}): something slow is left over, a disturbance or a part of the process. \
                 The standard errors allow for it as far as it goes on like this; they are up to {} times those for white \
                 residuals. A fit with a noise model uses the data better.",
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
                "The model explains {} % of the PV's swing{}; what is left ({} {}) is noise without memory.",
                readable(fit),
                match usual.outliers {
                    0 => String::new(),
                    1 => " beside one outlier".to_owned(),
                    n => format!(" beside {n} outliers"),
                },
                readable(usual.deviation),
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

/// The share of the swing that the model explains, outliers aside, in %.
fn fit_beside_outliers(model: &Model, usual: &Usual) -> f64 {
    let Performance { fit_simulated, residual_deviation, .. } = model.estimation;
    if usual.outliers == 0 || residual_deviation <= 0.0 {
        return fit_simulated;
    }
    100.0 - (100.0 - fit_simulated) * usual.deviation / residual_deviation
}

/// Share of the longest stretch up to which a dead time is sought.
pub(super) const LONGEST_DEAD_TIME: f64 = 0.9;

/// A model that hardly explains anything is not good, however white its residuals.
fn level_of_fit(fit: f64) -> Option<Verdict> {
    let rule = "a model that explains less than a tenth of the swing says nothing, one below four tenths little (common practice)";
    if fit < 10.0 {
        let text = format!(
            "The model explains {} % of the PV's swing: in these data the PV hardly follows the OP, or follows something else.",
            readable(fit)
        );
        Some(Verdict::new(Tone::Bad, text, rule))
    } else if fit < 40.0 {
        let text = format!(
            "The model explains {} % of the PV's swing: most of it is noise, or has another cause. Check the channels, or repeat \
             the test with a larger move.",
            readable(fit)
        );
        Some(Verdict::new(Tone::Caution, text, rule))
    } else {
        None
    }
}

/// A step that the fit was made without.
pub(super) fn of_unexplained_step(step: Unexplained, stretches: &[DataSet]) -> Verdict {
    let data = &stretches[step.stretch];
    let time = data.axis.at(step.at) - data.axis.at(0);
    Verdict::new(
        Tone::Bad,
        format!(
            "{} after the start of the data the PV steps by about {} {} for a reason that was not measured: the figures are bent by \
             it. Have such steps found and fitted, or cut the stretch out.",
            readable_duration(time),
            readable(step.size),
            data.output().unit
        ),
        "a step of the PV of more than six standard errors beside the model and its noise (common practice)",
    )
}

/// Too few samples to tell whether the noise has a memory at all.
pub(super) fn short(samples: usize) -> Option<Verdict> {
    const SHORT: usize = 60;
    (samples < SHORT).then(|| {
        Verdict::new(
            Tone::Caution,
            format!(
                "{samples} samples hardly tell how long the noise remembers: where it does, the intervals are too narrow and hold the \
                 truth in about eight records of ten. Record longer, or sample faster."
            ),
            "below 60 samples; counted on 200 records of 50 samples whose noise has a memory of five",
        )
    })
}

/// A dead time beside noise that drifts: its interval is that of a straight line.
pub(super) fn dead_time_beside_drift(model: &Model) -> Option<Verdict> {
    let drifts = model.noise.as_ref().is_some_and(|noise| noise.integrated);
    let has_dead_time = model.parameters.iter().any(|own| own.name == "dead_time" && own.standard_error.is_some());
    (drifts && has_dead_time).then(|| {
        Verdict::new(
            Tone::Caution,
            "Where the noise drifts the interval of the dead time is rough: it holds the truth in about nine records of ten. \
             Its profile, under Uncertainty, tells more.",
            "counted on 200 records each of six kinds of noise, fitted with noise that drifts: 87.5 to 96.5 %",
        )
    })
}

/// Noise so slow that little in the data is independent.
pub(super) fn few_samples(effective: f64, samples: usize) -> Option<Verdict> {
    const FEW: f64 = 12.0;
    // From so few samples the memory itself is known so roughly that it may be twice as long and more.
    const SHORT: usize = 100;
    const SHARE: f64 = 0.6;
    let few = if samples < SHORT { (SHARE * samples as f64).max(FEW) } else { FEW };
    (effective < few && samples > 0).then(|| {
        Verdict::new(
            Tone::Caution,
            format!(
                "The noise is so slow that {samples} samples tell no more of level and gain than about {} would without memory: the \
                 intervals are rough. Record longer, or move the OP more often.",
                readable(effective.max(1.0).round())
            ),
            "as many samples as the noise leaves independent; below twelve (of fewer than 100 samples, which tell its memory badly, \
             six in ten) the intervals are rough (common practice)",
        )
    })
}

/// Puts a verdict after the others; what was good is then no longer all there is to say.
pub(super) fn put_last(model: &mut Model, verdict: Option<Verdict>) {
    if let Some(verdict) = verdict {
        model.verdicts.retain(|other| other.tone != Tone::Good);
        model.verdicts.push(verdict);
    }
}

/// Puts a verdict before the others; what was good is then no longer all there is to say.
pub(super) fn put_first(model: &mut Model, verdict: Option<Verdict>) {
    if let Some(verdict) = verdict {
        model.verdicts.retain(|other| other.tone != Tone::Good);
        model.verdicts.insert(0, verdict);
    }
}

/// A record that ends before the process has answered.
fn shorter_than_the_answer(model: &Model, stretches: &[DataSet]) -> Option<Verdict> {
    if model.structure.is_integrating() {
        return None;
    }
    let lags: f64 = model
        .parameters
        .iter()
        .filter(|parameter| parameter.name.starts_with("time_constant"))
        .filter(|parameter| parameter.input.as_ref().is_none_or(|tag| *tag == model.inputs[0].tag))
        .map(|parameter| parameter.value)
        .sum();
    let after_first_move = |data: &DataSet| {
        let input = &data.inputs[0].values;
        let moved = (1..input.len()).find(|k| input[*k] != input[k - 1]).unwrap_or(0);
        data.axis.duration() - (data.axis.at(moved) - data.axis.at(0))
    };
    let longest = stretches.iter().map(after_first_move).fold(0.0, f64::max);
    (longest < 3.0 * lags && lags < longest).then(|| {
        Verdict::new(
            Tone::Caution,
            format!(
                "The data end {} after the first move, less than three times the lags of {}: where the PV comes to rest is \
                 guessed, and the true errors can be larger than the standard errors. Record on until it has settled.",
                readable_duration(longest),
                readable_duration(lags)
            ),
            "a first-order process has made 95 % of its way after three time constants (exact)",
        )
    })
}

/// The OP follows the PV: the data are from a closed loop.
fn closed_loop(model: &Model, stretches: &[DataSet]) -> Option<Verdict> {
    let feedback = stretches.iter().filter_map(feedback).max_by(|a, b| a.usual.total_cmp(&b.usual))?;
    if feedback.all > ALONE {
        return Some(Verdict::new(
            Tone::Bad,
            "A controller moves the OP, and nothing else does: such data tell what the controller does, not what the process \
             does. Move the set point, or test in manual."
                .to_owned(),
            "the moves of the OP follow from the PV to 99.9 % (a loop without set point moves cannot be identified by its \
             response; Ljung, System Identification, 2nd ed. 1999, section 13.4)",
        ));
    }
    (feedback.usual > FEEDBACK && !model.has_noise_model()).then(|| {
        Verdict::new(
            Tone::Caution,
            "The OP follows the PV: the data are from a closed loop, where a fit without a noise model is biased. Fit with one."
                .to_owned(),
            "most moves of the OP follow from the PV; output-error fits are biased in closed loop (Ljung 1999, section 13.4)",
        )
    })
}

/// Share of the OP's moves above which it is a controller that makes most of them, and all of them.
const FEEDBACK: f64 = 0.8;
const ALONE: f64 = 0.999;

/// How far the moves of the OP follow from the PV.
struct Feedback {
    /// Share of all moves' squares.
    all: f64,
    /// The same without the largest misses, which set point moves make.
    usual: f64,
}

/// Moves of the OP by a linear controller on the last three values of the PV. None where the OP hardly ever moves.
fn feedback(data: &DataSet) -> Option<Feedback> {
    const COLUMNS: usize = 4;
    let (op, pv) = (&data.inputs[0].values, &data.output().values);
    let mean = data.output().mean();
    let mut rows: Vec<[f64; COLUMNS + 1]> = (2..op.len())
        .map(|k| [1.0, pv[k] - mean, pv[k - 1] - mean, pv[k - 2] - mean, op[k] - op[k - 1]])
        .filter(|row| row.iter().all(|value| value.is_finite()))
        .collect();
    let moving = rows.iter().filter(|row| row[COLUMNS] != 0.0).count();
    if rows.len() < 30 || 2 * moving < rows.len() {
        return None;
    }
    let mut shares = [0.0; 2];
    for share in &mut shares {
        let mut sums = NormalEquations::new(COLUMNS);
        rows.iter().for_each(|row| sums.add(row));
        let (by, left) = sums.linear_solution()?;
        *share = 1.0 - left / sums.sum_of_squares().max(f64::MIN_POSITIVE);
        let miss = |row: &[f64; COLUMNS + 1]| {
            (row[COLUMNS] - by.iter().zip(row).map(|(by, value)| by * value).sum::<f64>()).abs()
        };
        rows.sort_by(|a, b| miss(a).total_cmp(&miss(b)));
        rows.truncate(rows.len() - rows.len() / 20);
    }
    Some(Feedback { all: shares[0], usual: shares[1] })
}

/// A lag that is over within a sample cannot be told from a dead time.
fn faster_than_the_samples(model: &Model, stretches: &[DataSet]) -> Option<Verdict> {
    let interval = stretches.iter().map(|data| data.axis.mean_interval()).fold(f64::INFINITY, f64::min);
    let lag = ["time_constant", "time_constant_1"].iter().find_map(|name| model.parameter(name))?;
    (!lag.fixed && lag.value < 0.5 * interval).then(|| {
        Verdict::new(
            Tone::Caution,
            format!(
                "The time constant of {} is shorter than half the sample time of {}: only its sum with the dead time is known, not \
                 how it divides. Sample faster to tell them apart.",
                readable_duration(lag.value),
                readable_duration(interval)
            ),
            "what is over between two samples leaves no shape (common practice)",
        )
    })
}

/// A move that hardly lifts the PV out of the noise.
fn size_of_move(model: &Model, stretches: &[DataSet], duration: f64, noise: f64) -> Option<Verdict> {
    let ranges = stretches.iter().map(|data| data.inputs[0].range());
    let (low, high) = ranges.max_by(|a, b| (a.1 - a.0).total_cmp(&(b.1 - b.0)))?;
    let gain = model.parameter("gain")?.value;
    let reach = if model.structure.is_integrating() { 0.5 * duration } else { 1.0 };
    let noise = noise.max(f64::MIN_POSITIVE);
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
