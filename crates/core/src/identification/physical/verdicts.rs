//! What the figures of a physical model mean.

use super::super::model::Model;
use super::options::{SoughtKind, Task};
use crate::verdict::{Tone, Verdict, readable};

/// Fits in % below which a model says nothing, and little.
const WORTHLESS: f64 = 10.0;
const LITTLE: f64 = 40.0;
/// A fit in % beyond which what is left is rounding.
const EXACT: f64 = 99.9999;
/// Correlation of neighbouring residuals above which something slow is left.
const CORRELATED: f64 = 0.3;
/// Samples without memory that data should count as, at least.
const FEW: f64 = 12.0;

fn words(name: &str) -> String {
    name.replace('_', " ")
}

/// The model judged, the gravest first; `held` are the numbers that stand at a bound.
pub(super) fn judge(model: &Model, task: &Task, held: &[usize], effective: Option<f64>) -> Vec<Verdict> {
    let mut verdicts = Vec::new();
    let Some(physical) = &model.physical else { return verdicts };
    for untold in &physical.untold {
        verdicts.push(Verdict::new(
            Tone::Bad,
            untold.text.clone(),
            "sensitivities of the outputs by relative changes, against what is left: a direction known to no better than its own \
             size is not told",
        ));
    }
    for own in &physical.outputs {
        let fit = own.performance.fit_simulated;
        let rule = "a model that explains less than a tenth of the swing says nothing, one below four tenths little (common practice)";
        if fit < LITTLE {
            let tone = if fit < WORTHLESS { Tone::Bad } else { Tone::Caution };
            let text = format!(
                "The model explains {} % of the swing of {}: check the channels and their units, and what is taken as known.",
                readable(fit),
                own.tag
            );
            verdicts.push(Verdict::new(tone, text, rule));
        }
    }
    for k in held {
        let (unknown, parameter) = (&task.unknowns[*k], &model.parameters[*k]);
        let span = unknown.high - unknown.low;
        let end = if (parameter.value - unknown.low).abs() < 0.5 * span { "lowest" } else { "highest" };
        let rule = "a number at a bound of its search";
        let (tone, text) = if unknown.kind == SoughtKind::DeadTime && parameter.value < 1e-6 {
            (Tone::Caution, format!("The best {} is 0: the data show none.", words(&parameter.name)))
        } else {
            (
                Tone::Bad,
                format!(
                    "The {} stands at the {end} value that was allowed, {} {}: the data would go further. Loosen the bound, or look for \
                     what else is taken as known and is not.",
                    words(&parameter.name),
                    readable(parameter.value),
                    parameter.unit
                ),
            )
        };
        verdicts.push(Verdict::new(tone, text, rule));
    }
    for (parameter, unknown) in model.parameters.iter().zip(&task.unknowns) {
        let Some(error) = parameter.standard_error else { continue };
        if unknown.kind == SoughtKind::Parameter && error > 0.25 * parameter.value.abs() {
            verdicts.push(Verdict::new(
                Tone::Caution,
                format!(
                    "The {} is poorly known: {} ± {} {}.",
                    words(&parameter.name),
                    readable(parameter.value),
                    readable(error),
                    parameter.unit
                ),
                "standard error above a quarter of the value",
            ));
        }
    }
    let is_exact = physical.outputs.iter().all(|own| own.performance.fit_simulated > EXACT);
    if let Some(effective) = effective.filter(|effective| *effective < FEW && !is_exact) {
        verdicts.push(Verdict::new(
            Tone::Caution,
            format!(
                "The noise is so slow that the data tell no more of what varies slowly than about {} samples without memory would: the \
                 intervals are rough. Record longer.",
                readable(effective.max(1.0).round())
            ),
            "as many samples as the noise leaves independent; below twelve the intervals are rough (common practice)",
        ));
    }
    for own in physical.outputs.iter().filter(|own| !is_exact && own.performance.residual_correlation > CORRELATED) {
        verdicts.push(Verdict::new(
            Tone::Caution,
            format!(
                "What is left of {} remembers ({} from sample to sample): a disturbance, or a part of the process that the balance \
                 leaves out. The intervals allow for it as far as it goes on like this; a fit with a noise model uses the data better.",
                own.tag,
                readable(own.performance.residual_correlation)
            ),
            "correlation of neighbouring residuals above 0.3",
        ));
    }
    if verdicts.is_empty() {
        let fits: Vec<String> = physical
            .outputs
            .iter()
            .map(|own| format!("{} % of {}", readable(own.performance.fit_simulated), own.tag))
            .collect();
        verdicts.push(Verdict::new(
            Tone::Good,
            format!("The balance explains {}; what is left is noise, and every number is told.", fits.join(" and ")),
            "fit of the simulated outputs; sensitivities; correlation of neighbouring residuals below 0.3",
        ));
    }
    verdicts
}
