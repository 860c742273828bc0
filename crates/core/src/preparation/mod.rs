//! Preparation: steps laid over a record, which itself is never altered.

mod filters;
mod formula;
mod operation;
#[cfg(test)]
mod tests;

pub use operation::{Fill, Operation, Removed, Replacement, Resampling};

use crate::series::Record;
use crate::work::go_on;
use crate::{Error, Result};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Most steps of a preparation.
const MOST_STEPS: usize = 50;

/// One step. Times are in s from the start of the untouched record.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Step {
    /// What is done.
    pub operation: Operation,
    /// Whether it is done; a step that is off is kept.
    #[serde(default = "yes")]
    pub enabled: bool,
}

fn yes() -> bool {
    true
}

impl Step {
    /// A step that is on.
    #[must_use]
    pub fn new(operation: Operation) -> Self {
        Self { operation, enabled: true }
    }
}

/// A record with its preparation applied.
#[derive(Debug, Clone, PartialEq)]
pub struct Prepared {
    /// The record as the steps leave it; its axis begins at 0 again.
    pub record: Record,
    /// Where it begins, in s from the start of the untouched record.
    pub start: f64,
    /// What each step did, a sentence each; null for a step that is off.
    pub notes: Vec<Option<String>>,
}

impl Prepared {
    /// Time of sample `k`, in s from the start of the untouched record.
    #[must_use]
    pub fn time(&self, k: usize) -> f64 {
        self.start + self.record.axis.at(k)
    }

    /// The samples whose time lies in `from..=to`, which are in s from the start of the untouched record.
    #[must_use]
    pub fn window(&self, from: f64, to: f64) -> std::ops::Range<usize> {
        self.record.axis.window(from - self.start, to - self.start)
    }
}

/// Applies the steps in their order.
///
/// Errors name the step (`preparation[2]`, from 0) with what is wrong with it.
pub fn prepare(record: &Record, steps: &[Step]) -> Result<Prepared> {
    if steps.len() > MOST_STEPS {
        return Err(Error::invalid("preparation", format!("{} steps", steps.len()), format!("at most {MOST_STEPS}")));
    }
    let mut prepared = Prepared { record: record.clone(), start: 0.0, notes: Vec::with_capacity(steps.len()) };
    for (index, step) in steps.iter().enumerate() {
        go_on();
        let note = if step.enabled {
            let in_step = |error: Error| match error {
                Error::Said { field, sentence } => Error::said(format!("preparation[{index}].{field}"), sentence),
                Error::Invalid { field, value, allowed } => {
                    Error::Invalid { field: format!("preparation[{index}].{field}"), value, allowed }
                }
                Error::Unfit { what, remedy } => Error::Unfit { what: format!("step {}: {what}", index + 1), remedy },
            };
            Some(step.operation.apply(&mut prepared).map_err(in_step)?)
        } else {
            None
        };
        prepared.notes.push(note);
    }
    Ok(prepared)
}
