//! Margins of one loop of several, the others closed, and what becomes of each of them.

mod network;
mod together;

pub use together::{Locus, LoopsTogether, Peak};

use super::margins::Margins;
use super::{FrequencyCurves, Metrics, judge, metrics_of};
use crate::simulation::{Trace, Trial};
use crate::verdict::Verdict;
use crate::{Error, Result};
pub(crate) use network::Network;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A further controller of a trial, assessed as the first one is.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct FurtherLoop {
    /// Its name.
    pub name: String,
    /// Metrics of its loop.
    pub metrics: Metrics,
    /// Margins of its loop, the others closed; null in manual, where it stands by to override, and where they cannot be told.
    pub margins: Option<Margins>,
    /// What they mean, the gravest first.
    pub verdicts: Vec<Verdict>,
}

/// All further controllers that have a measured signal and an OP of their own.
pub(super) fn further_loops(trial: &Trial, trace: &Trace) -> Result<Vec<FurtherLoop>> {
    let mut all = Vec::new();
    let network = if trial.candidate.further.is_empty() { None } else { Network::of(trial)? };
    for (k, wired) in trial.candidate.further.iter().enumerate() {
        let (Some(seen), Some(own)) = (trial.seen_from(&wired.name)?, trial.trace_seen_from(&wired.name, trace)?)
        else {
            continue;
        };
        let metrics = metrics_of(&seen, &own)?;
        let margins = network.as_ref().and_then(|network| network.margins(k + 1));
        let verdicts = judge(&seen, &own, margins.as_ref(), &metrics, &[]);
        all.push(FurtherLoop { name: wired.name.clone(), metrics, margins, verdicts });
    }
    Ok(all)
}

/// The margins of the first loop of a trial with further controllers, these closed around it; see [`Network::margins`].
pub(super) fn first_margins(trial: &Trial) -> Result<Option<Margins>> {
    Ok(Network::of(trial)?.and_then(|network| network.margins(0)))
}

/// One loop of a trial with several controllers over frequency, and all of them together.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct OverFrequency {
    /// The loop of the controller that is asked for, the others closed; None where it has no loop of its own, see
    /// [`FurtherLoop::margins`].
    pub curves: Option<FrequencyCurves>,
    /// Its margins.
    pub margins: Option<Margins>,
    /// All loops together; None where fewer than two have a set point that comes from outside.
    pub together: Option<LoopsTogether>,
}

/// The loops of a trial over frequency, seen at the controller of this name, or at the first one. None where they are not linear, and
/// where the plant does not start at rest or runs away by itself.
///
/// Errors when there is no such controller.
pub fn over_frequency(trial: &Trial, name: Option<&str>) -> Result<Option<OverFrequency>> {
    let names: Vec<&str> = std::iter::once(trial.plant.loop_tag())
        .chain(trial.candidate.further.iter().map(|wired| wired.name.as_str()))
        .collect();
    let place = match name {
        None => 0,
        Some(name) => names
            .iter()
            .position(|known| *known == name)
            .ok_or_else(|| Error::invalid("controller", format!("“{name}”"), format!("one of {}", names.join(", "))))?,
    };
    let Some(network) = Network::of(trial)? else { return Ok(None) };
    Ok(Some(OverFrequency {
        curves: network.curves(place),
        margins: network.margins(place),
        together: LoopsTogether::of(&network, &names),
    }))
}
