//! A channel computed from others.

use crate::numerics::read_arithmetic;
use crate::series::Record;
use crate::{Error, Result};

/// Longest formula in characters.
const LONGEST: usize = 500;

/// The values of a formula over the channels whose tags stand in braces. A sample is missing where one of them is, or
/// where the result is not a
/// number.
pub(super) fn evaluate(formula: &str, record: &Record) -> Result<Vec<f64>> {
    if formula.trim().is_empty() || formula.chars().count() > LONGEST {
        return Err(Error::invalid("formula", formula, format!("1 to {LONGEST} characters")));
    }
    let allowed = "a formula such as 2 * {TAG-1} + sqrt({TAG-2})";
    let expression =
        read_arithmetic(formula).map_err(|error| Error::invalid("formula", formula, format!("{allowed} ({error})")))?;
    let mut channels = Vec::new();
    for name in expression.names() {
        // A name without braces is a tag, too, where it is one.
        let tag = name.trim_matches(['{', '}']);
        let channel = record.channels.iter().find(|channel| channel.tag == tag).ok_or_else(|| {
            let tags: Vec<&str> = record.channels.iter().map(|channel| channel.tag.as_str()).collect();
            Error::invalid("formula", tag, format!("the tags {}", tags.join(", ")))
        })?;
        channels.push(&channel.values);
    }
    let mut inputs = vec![0.0; channels.len()];
    let value_at = |k: usize| {
        inputs.iter_mut().zip(&channels).for_each(|(input, values)| *input = values[k]);
        let value = if inputs.iter().all(|value| value.is_finite()) { expression.value(&inputs) } else { f64::NAN };
        if value.is_finite() { value } else { f64::NAN }
    };
    Ok((0..record.axis.len()).map(value_at).collect())
}
