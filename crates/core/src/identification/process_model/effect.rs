//! Whether an input acts on the output at all.

use super::super::model::{Model, Parameter};
use crate::verdict::{Tone, Verdict, readable};
use nalgebra::DMatrix;

/// Standard errors within which a gain may as well be 0: more than usual, since the dead time that shows the most of it was sought.
const NO_EFFECT: f64 = 3.5;

/// The gains of the inputs of which the data show no effect.
///
/// The square of a gain over its variance with the input's own dead time and time constants held is, to first order, what the
/// likelihood would lose without the input, twice. (With these free as well the variance of a gain says little: a slow answer
/// seen in part has a gain that is hardly known, and an effect beyond doubt.)
pub(in super::super) fn without_effect(model: &Model) -> Vec<&Parameter> {
    let variance = |k: usize| model.covariance.get(k).and_then(|row| row.get(k)).copied().unwrap_or(0.0);
    let is_silent = |gain: usize| {
        let parameter = &model.parameters[gain];
        let own: Vec<usize> = (0..model.parameters.len())
            .filter(|k| model.parameters[*k].input == parameter.input && variance(*k) > 0.0)
            .collect();
        let place = own.iter().position(|k| *k == gain)?;
        let together = DMatrix::from_fn(own.len(), own.len(), |i, j| model.covariance[own[i]][own[j]]);
        let information = together.try_inverse()?[(place, place)];
        Some(parameter.value * parameter.value * information < NO_EFFECT * NO_EFFECT)
    };
    (0..model.parameters.len())
        .filter(|k| model.parameters[*k].name == "gain" && is_silent(*k) == Some(true))
        .map(|k| &model.parameters[k])
        .collect()
}

/// What is said of a gain without effect.
pub(in super::super) fn verdict_of_effect(model: &Model, gain: &Parameter) -> Verdict {
    let first = model.inputs[0].tag.as_str();
    let tag = gain.input.as_deref().unwrap_or(first);
    let way_out = if tag == first { "" } else { "fit without it, or " };
    Verdict::new(
        Tone::Caution,
        format!(
            "No effect of {tag} on the PV is to be seen in these data (gain {} ± {} {}): {way_out}record a larger move of it.",
            readable(gain.value),
            readable(gain.standard_error.unwrap_or_default()),
            gain.unit
        ),
        "the gain is within 3.5 standard errors of 0, its dead time and time constants taken as they are (common practice)",
    )
}
