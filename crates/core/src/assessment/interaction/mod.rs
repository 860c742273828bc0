//! How several loops on one process act on each other: relative gains, which signals to pair, singular values, zeros.

mod frequency;
mod pairing;
mod question;
mod verdicts;

pub use frequency::InteractionCurves;
pub use pairing::{Pair, Pairing};
pub(crate) use question::usual_span;
pub use question::{DrivenInput, InteractionQuestion, MeasuredOutput, SignalOffers};

use crate::lti::TransferMatrix;
use crate::process::transfer_matrix;
use crate::simulation::{Plant, Started};
use crate::verdict::Verdict;
use crate::{Error, Result};
use nalgebra::DMatrix;
use num_complex::Complex64;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Most pairs: their pairings are all looked at.
pub const MOST_PAIRS: usize = 6;

/// What is known of a process between several inputs and as many outputs, in % of span per % of what drives it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Interaction {
    /// Names of the outputs.
    pub outputs: Vec<String>,
    /// Names of the inputs.
    pub inputs: Vec<String>,
    /// Gains at rest in %/%, a row an output; null where something integrates.
    pub gains: Option<Vec<Vec<f64>>>,
    /// Relative gains at rest, or, where something integrates, in the limit of slow changes; a row an output. Null where the
    /// gains cannot be inverted.
    pub relative_gains: Option<Vec<Vec<f64>>>,
    /// Singular values of the gains at rest, the largest first; null where something integrates.
    pub singular_values: Option<Vec<f64>>,
    /// The largest singular value over the smallest; null where something integrates or nothing comes through in a direction.
    pub condition_number: Option<f64>,
    /// Every way to give each output an input of its own, the one to be preferred first.
    pub pairings: Vec<Pairing>,
    /// The transmission zeros, the slowest first.
    pub zeros: Vec<Zero>,
    /// All of it over frequency.
    pub curves: InteractionCurves,
    /// What it means.
    pub verdicts: Vec<Verdict>,
}

/// A transmission zero.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Zero {
    /// Real part in 1/s.
    pub real: f64,
    /// Imaginary part in 1/s, 0 or more: the other of a pair is not listed.
    pub imaginary: f64,
    /// The direction of the outputs that nothing comes through to, one entry an output.
    pub output_direction: Vec<f64>,
    /// The direction of the inputs that has no effect, one entry an input.
    pub input_direction: Vec<f64>,
}

impl Interaction {
    /// Analyses the process of a plant where it rests. Errors where the question does not fit, or the plant does not begin at rest.
    pub fn of(plant: &Plant, question: &InteractionQuestion) -> Result<Self> {
        let (outputs, inputs) = question.scales(&plant.describe()?)?;
        let matrix = matrix_of(plant)?;
        Ok(Self::between(&matrix.part(&outputs, &inputs), question.names()))
    }

    /// Analyses a square matrix that is in % of span per % already.
    #[must_use]
    pub fn between(matrix: &TransferMatrix, (outputs, inputs): (Vec<String>, Vec<String>)) -> Self {
        let gains = matrix.at_rest();
        let slow = slow_gains(matrix);
        let relative = slow.as_ref().and_then(pairing::relative_gains);
        let singular_values = slow.as_ref().filter(|_| gains.is_some()).and_then(frequency::singular_values);
        let condition_number = singular_values.as_ref().and_then(|sizes| frequency::ratio(sizes));
        let curves = InteractionCurves::new(matrix);
        let pairings = match (&slow, &relative) {
            (Some(slow), Some(relative)) => pairing::all(slow, relative, &outputs, &inputs),
            _ => Vec::new(),
        };
        let zeros: Vec<Zero> = matrix
            .zeros()
            .into_iter()
            .map(|zero| Zero {
                real: zero.at.re,
                imaginary: zero.at.im,
                output_direction: zero.output_direction,
                input_direction: zero.input_direction,
            })
            .collect();
        let mut interaction = Self {
            outputs,
            inputs,
            gains: gains.as_ref().map(rows),
            relative_gains: relative.as_ref().map(rows),
            singular_values,
            condition_number,
            pairings,
            zeros,
            curves,
            verdicts: Vec::new(),
        };
        interaction.verdicts = verdicts::of(&interaction);
        interaction
    }
}

/// All ways in and outputs of the process of a plant where it rests.
fn matrix_of(plant: &Plant) -> Result<TransferMatrix> {
    if let Some(linear) = plant.process.linear_process(&plant.pv.span.unit)? {
        return Ok(linear.transfer_matrix());
    }
    let Started { process, state, inputs, at_rest, .. } = plant.start()?;
    if !at_rest {
        return Err(Error::unfit("the plant does not start at rest", "choose a steady state"));
    }
    transfer_matrix(process.as_ref(), &state, &inputs)
}

/// The gains at rest, or, where something integrates, those of changes far slower than everything: relative gains and indices do
/// not depend on what whole rows and columns are multiplied by, and so have a limit.
fn slow_gains(matrix: &TransferMatrix) -> Option<DMatrix<Complex64>> {
    match matrix.at_rest() {
        Some(gains) => Some(gains.map(|gain| Complex64::new(gain, 0.0))),
        None => frequency::slow(matrix),
    }
}

/// Whether the outputs can be moved apart from each other.
fn can_be_moved(matrix: &TransferMatrix) -> bool {
    slow_gains(matrix).as_ref().and_then(pairing::relative_gains).is_some()
}

fn rows(matrix: &DMatrix<f64>) -> Vec<Vec<f64>> {
    matrix.row_iter().map(|row| row.iter().copied().collect()).collect()
}

#[cfg(test)]
mod tests;
