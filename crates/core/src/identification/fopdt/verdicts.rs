//! What the figures of a fit mean.

use super::data::Prepared;
use super::{DataSet, FopdtModel};
use crate::verdict::{Tone, Verdict, readable, readable_duration};

impl Prepared {
    /// The model judged against the data, the gravest first as they come.
    pub(super) fn judge(&self, model: &FopdtModel, data: DataSet<'_>) -> Vec<Verdict> {
        let mut verdicts = Vec::new();
        let (gain, tau) = (&model.parameters.gain, model.parameters.time_constant.value);
        let duration = self.axis.duration();
        let looks_integrating = tau > duration;
        if looks_integrating {
            verdicts.push(Verdict::new(
                Tone::Bad,
                format!(
                    "The time constant of {} is longer than the record of {}: the process looks integrating here, and gain and \
                     time constant are known only by their ratio.",
                    readable_duration(tau),
                    readable_duration(duration)
                ),
                "a time constant must fit into the record (common practice)",
            ));
        }
        let range = |series: &[f64]| {
            let finite = series.iter().filter(|value| value.is_finite());
            finite.fold((f64::MAX, f64::MIN), |(low, high), value| (low.min(*value), high.max(*value)))
        };
        let (low, high) = range(&self.input);
        let lifts = (gain.value * (high - low)).abs() / model.residual_deviation.max(f64::MIN_POSITIVE);
        if lifts < 4.0 {
            verdicts.push(Verdict::new(
                Tone::Bad,
                format!(
                    "The move of {} {} lifts the PV by {} times the noise: repeat it with at least {} {}.",
                    readable(high - low),
                    data.input_unit,
                    readable(lifts),
                    readable(4.0 * (high - low) / lifts.max(0.1)),
                    data.input_unit
                ),
                "a move should lift the PV by at least 4 times the noise (common practice)",
            ));
        }
        let named = [
            ("gain", &model.parameters.gain),
            ("time constant", &model.parameters.time_constant),
            ("dead time", &model.parameters.dead_time),
        ];
        for (name, estimate) in named {
            match estimate.standard_error {
                None if name == "dead time" && estimate.value == 0.0 => verdicts.push(Verdict::new(
                    Tone::Caution,
                    "The best dead time is 0: the data show none.",
                    "dead time is 0 or more",
                )),
                None if looks_integrating => {}
                None => verdicts.push(Verdict::new(
                    Tone::Bad,
                    format!("The data do not determine the {name}."),
                    "a parameter at its bound, or without effect on the output",
                )),
                Some(error) if name != "dead time" && error > 0.25 * estimate.value.abs() => {
                    verdicts.push(Verdict::new(
                        Tone::Caution,
                        format!(
                            "The {name} is poorly known: {} ± {} {}.",
                            readable(estimate.value),
                            readable(error),
                            estimate.unit
                        ),
                        "standard error above a quarter of the value",
                    ));
                }
                Some(_) => {}
            }
        }
        let correlation = model.residual_correlation;
        if correlation > 0.3 {
            // For a first-order autoregression the variance of a mean is (1+ρ)/(1−ρ) times that of white noise.
            let factor = ((1.0 + correlation) / (1.0 - correlation).max(0.01)).sqrt();
            verdicts.push(Verdict::new(
                Tone::Caution,
                format!(
                    "Neighbouring residuals are correlated ({}): the standard errors are too small by a factor of up to about {}.",
                    readable(correlation),
                    readable(factor)
                ),
                "standard errors assume white residuals; √((1+ρ)/(1−ρ)) for correlation ρ",
            ));
        }
        if verdicts.is_empty() {
            verdicts.push(Verdict::new(
                Tone::Good,
                format!(
                    "The model explains {} % of the PV's swing; what is left ({} {}) is noise without memory.",
                    readable(model.fit_percent),
                    readable(model.residual_deviation),
                    data.output_unit
                ),
                "fit of the simulated output; correlation of neighbouring residuals below 0.3",
            ));
        }
        verdicts
    }
}
