//! Disturbance rejection over frequency, by what a record shows: what came in, what each candidate leaves of it, and how good any
//! controller could be.

mod arrived;
mod least_variance;
mod loads;
mod swing;
#[cfg(test)]
mod tests;

pub use arrived::{Arrived, Rejected};
pub use least_variance::LeastVariance;
pub use loads::{LoadChange, LoadsFound};
pub use swing::LoadSwing;

use crate::identification::{DataSet, Model};
use crate::numerics::longest_run;
use crate::preparation::Prepared;
use crate::series::{Record, Role, TimeAxis};
use crate::simulation::Trial;
use crate::verdict::{Tone, Verdict, readable, readable_duration};
use crate::{Error, Result, check};
use serde::{Deserialize, Serialize};
use std::ops::Range;
use utoipa::ToSchema;

/// Share of samples at which the OP moves, from which on a controller moves it.
const MOVED_BY_A_CONTROLLER: f64 = 0.1;
/// Dead times after a set point move until a loop counts as in operation again (this project's choice).
const SETTLING: f64 = 10.0;
/// Share of the samples with the OP at an end from which on the loop does not control.
const AT_AN_END: f64 = 0.05;
/// An index from which on nothing is gained by tuning, and one below which much is (common practice).
const GOOD: f64 = 0.8;
const POOR: f64 = 0.5;
/// Share of a disturbance that a candidate may make worse without a word.
const MADE_WORSE: f64 = 0.2;

/// What a record tells of disturbance rejection.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Rejection {
    /// The disturbance at the PV: what the model does not owe to the OP. Null where none can be told.
    pub arrived: Option<Arrived>,
    /// What each candidate leaves of it.
    pub candidates: Vec<Rejected>,
    /// The loop as it ran in the record, against the best that any could; null where it did not run by itself.
    pub present: Option<LeastVariance>,
    /// Where in the record that was, s.
    pub stretch: Option<[f64; 2]>,
    /// Dead time that all this stands on, s.
    pub dead_time: f64,
    /// Unit of the PV.
    pub unit: String,
    /// What follows, in sentences.
    pub verdicts: Vec<Verdict>,
}

impl Rejection {
    /// Of a prepared record, `data` being what `model` takes of it, for candidates each in a trial on the plant. Where no dead time is
    /// given it is that of the model.
    pub fn of(
        (prepared, data): (&Prepared, &DataSet),
        model: &Model,
        dead_time: Option<f64>,
        candidates: &[(String, Trial)],
    ) -> Result<Self> {
        let (unit, dead_time) = (model.output_unit(), dead_time_of(model, dead_time)?);
        let mut found = Self {
            arrived: None,
            candidates: Vec::new(),
            present: None,
            stretch: None,
            dead_time,
            unit: unit.to_owned(),
            verdicts: Vec::new(),
        };
        match arrived(data, model, dead_time) {
            Ok(arrived) => {
                found.candidates = candidates.iter().map(|(name, trial)| arrived.through(name, trial)).collect();
                found.arrived = Some(arrived);
            }
            Err(error) => found.verdicts.push(Verdict::new(
                Tone::Caution,
                format!("What came in cannot be told: {error}"),
                "the disturbance is what the model does not owe to the OP",
            )),
        }
        match operating(&prepared.record, unit, dead_time) {
            Ok(operating) => {
                let Operating { error, op, interval, .. } = &operating;
                match LeastVariance::of(error, op, *interval, dead_time) {
                    Ok(present) => {
                        found.verdicts.extend(operating.at_an_end());
                        found.verdicts.push(of_present(&present, unit, dead_time));
                        found.present = Some(present);
                        let Range { start, end } = operating.range;
                        found.stretch = Some([prepared.time(start), prepared.time(end - 1)]);
                    }
                    Err(error) => found.verdicts.push(no_index(&error)),
                }
            }
            Err(error) => found.verdicts.push(no_index(&error)),
        }
        found.verdicts.splice(0..0, of_candidates(&found));
        Ok(found)
    }
}

/// The dead time that was given, else that of the model; an error where that has none of its own.
fn dead_time_of(model: &Model, given: Option<f64>) -> Result<f64> {
    if let Some(given) = given {
        return check::not_negative("dead_time", given, "s");
    }
    let of_model = model.process().map(|process| process.dead_time());
    of_model.map_err(|_| Error::invalid("dead_time", "none", "given in s where the model has none of its own"))
}

fn no_index(error: &Error) -> Verdict {
    Verdict::new(
        Tone::Caution,
        format!("How near the loop came to the best that any could is not told: {error}"),
        "an index needs a loop in automatic",
    )
}

/// The part of the PV that the model does not owe to the OP, over frequency.
fn arrived(data: &DataSet, model: &Model, dead_time: f64) -> Result<Arrived> {
    let (left, interval, _) = left(data, model)?;
    Arrived::of(&left, interval, dead_time)
}

/// The part of the PV that the model does not owe to the OP, over the longest whole stretch; seconds between its samples, and when it
/// begins.
fn left(data: &DataSet, model: &Model) -> Result<(Vec<f64>, f64, f64)> {
    // The longest stretch without a gap.
    let is_whole = |k: usize| data.inputs.iter().chain(&data.outputs).all(|series| series.values[k].is_finite());
    let range = longest_run((0..data.axis.len()).map(is_whole));
    if range.len() < 2 {
        return Err(Error::unfit("the record has no whole stretch", "fill its gaps at Measure"));
    }
    let first = range.start;
    let data = data.slice(range);
    let simulated = model.simulate_on(&data)?.swap_remove(0);
    let left = data.outputs[0].values.iter().zip(simulated).map(|(measured, own)| measured - own).collect();
    let interval = evenly(&data.axis)?;
    Ok((left, interval, first as f64 * interval))
}

/// A stretch of a record in which a loop runs by itself, its set point standing still.
struct Operating {
    error: Vec<f64>,
    op: Vec<f64>,
    /// Seconds between samples.
    interval: f64,
    range: Range<usize>,
}

/// Seconds between samples; an error where they are not even.
fn evenly(axis: &TimeAxis) -> Result<f64> {
    match axis {
        TimeAxis::Uniform { interval, .. } => Ok(*interval),
        TimeAxis::Irregular(_) => Err(Error::unfit("the record is sampled unevenly", "resample it at Measure")),
    }
}

fn operating(record: &Record, unit: &str, dead_time: f64) -> Result<Operating> {
    let need = |role, name: &str| {
        record
            .channel(role)
            .ok_or_else(|| Error::unfit(format!("the record has no {name}"), format!("take one with a {name}")))
    };
    let pv = need(Role::Pv, "PV")?.values_in(unit)?.into_owned();
    let op = need(Role::Op, "OP")?.values_in("%")?.into_owned();
    let sp = record.channel(Role::Sp).map(|channel| channel.values_in(unit)).transpose()?;
    let interval = evenly(&record.axis)?;
    let stands = |k: usize| sp.as_ref().is_none_or(|sp| sp[k].is_finite() && (k == 0 || sp[k] == sp[k - 1]));
    let holds = |k: usize| pv[k].is_finite() && op[k].is_finite() && stands(k);
    let mut range = longest_run((0..pv.len()).map(holds));
    // After a move of the set point the loop is still on its way.
    if sp.is_some() && range.start > 0 {
        let settling = ((SETTLING * dead_time / interval) as usize).min(range.len() / 4);
        range.start += settling;
    }
    let op = op[range.clone()].to_vec();
    let moves = op.windows(2).filter(|pair| pair[0] != pair[1]).count();
    if (moves as f64) < MOVED_BY_A_CONTROLLER * op.len() as f64 {
        return Err(Error::unfit(
            "the OP was moved by hand, or hardly at all",
            "take a record of the loop in automatic",
        ));
    }
    let own = &pv[range.clone()];
    let set_point = match &sp {
        Some(sp) => sp[range.start],
        None => own.iter().sum::<f64>() / own.len() as f64,
    };
    Ok(Operating { error: own.iter().map(|value| value - set_point).collect(), op, interval, range })
}

impl Operating {
    fn at_an_end(&self) -> Option<Verdict> {
        let (low, high) = crate::numerics::range(&self.op);
        let stands = |end: f64| {
            self.op.windows(2).filter(|pair| pair[0] == end && pair[1] == end).count() as f64 / self.op.len() as f64
        };
        let share = stands(low).max(stands(high));
        (share > AT_AN_END).then(|| {
            Verdict::new(
                Tone::Caution,
                format!(
                    "The OP stands at an end of its range for {} % of the time: there the loop does not control.",
                    readable(100.0 * share)
                ),
                "an index is of a loop that works all the time",
            )
        })
    }
}

fn of_present(present: &LeastVariance, unit: &str, dead_time: f64) -> Verdict {
    let [low, high] = present.interval;
    let what = format!(
        "In the record the PV varied by {} {unit} (standard deviation) about its set point; with a dead time of {} no feedback could have left less than {} {unit}: an index of {} ({} to {}).",
        readable(present.deviation),
        readable_duration(dead_time),
        readable(present.least_deviation),
        readable(present.index),
        readable(low),
        readable(high)
    );
    let (tone, follows) = if low >= GOOD {
        (Tone::Good, " Tuning gains nothing more against what came in: only less dead time, or a feed-forward, would.")
    } else if high < POOR {
        (Tone::Caution, " Much of it could be taken away by tuning.")
    } else {
        (Tone::Good, "")
    };
    Verdict::new(
        tone,
        what + follows,
        "minimum variance by the dead time (Harris 1989); 1 is as good as feedback gets, below 0.5 there is much to gain (common practice)",
    )
}

/// Which candidate leaves least of what came in, and which make much of it worse.
fn of_candidates(found: &Rejection) -> Vec<Verdict> {
    let Some(arrived) = &found.arrived else { return Vec::new() };
    let rule = "the spectrum of the disturbance, weighed by the square of |S|; linear, without limits of the OP";
    let unit = &found.unit;
    let mut told: Vec<(&Rejected, f64)> =
        found.candidates.iter().filter_map(|own| Some((own, own.deviation?))).collect();
    told.sort_by(|a, b| a.1.total_cmp(&b.1));
    let mut verdicts = Vec::new();
    if !told.is_empty() {
        let all: Vec<String> =
            told.iter().map(|(own, left)| format!("{} {} {unit}", own.name, readable(*left))).collect();
        let least = arrived
            .least_deviation
            .map_or(String::new(), |least| format!("; no feedback could leave less than {} {unit}", readable(least)));
        verdicts.push(Verdict::new(
            Tone::Good,
            format!(
                "Of a disturbance of {} {unit} (standard deviation) there would be left: {}{least}.",
                readable(arrived.deviation),
                all.join(", ")
            ),
            rule,
        ));
    }
    for (own, _) in &told {
        let worse = own.made_worse;
        if let Some(([slow, fast], [peak, _])) = own.worse.zip(own.largest)
            && worse > MADE_WORSE
        {
            let text = format!(
                "{} makes worse what comes with periods of {} to {}, by up to {} times, where {} % of the disturbance is.",
                own.name,
                readable_duration(fast),
                readable_duration(slow),
                readable(peak),
                readable(100.0 * worse)
            );
            verdicts.push(Verdict::new(Tone::Caution, text, rule));
        }
    }
    verdicts
}
