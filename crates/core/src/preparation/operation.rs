//! The single steps.

use super::{Prepared, filters, formula};
use crate::numerics::{deviation_by_median, median};
use crate::series::{Channel, Record, Role, TimeAxis};
use crate::verdict::{readable, readable_duration};
use crate::work::go_on;
use crate::{Error, Result, check};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Most samples that resampling makes.
const MOST_SAMPLES: f64 = 20e6;

/// What a step does. Where a `tag` is left out, it is done to the PV.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "kind", rename_all = "snake_case", deny_unknown_fields)]
pub enum Operation {
    /// Keeps what lies between two times.
    Window {
        /// Start in s.
        from: f64,
        /// End in s.
        to: f64,
    },
    /// Takes the samples of all channels between two times as missing.
    CutOut {
        /// Start in s.
        from: f64,
        /// End in s.
        to: f64,
    },
    /// Replaces outliers: samples further from the median of their neighbourhood than `threshold` times its scaled
    /// median absolute
    /// deviation (Hampel, J. American Statistical Association 69, 1974).
    Outliers {
        /// Tag of the channel.
        #[serde(default)]
        tag: Option<String>,
        /// Samples of the neighbourhood on either side, 1 to 1000.
        half_window: usize,
        /// Allowed distance in standard deviations, 1 to 20; 3 is common practice.
        threshold: f64,
        /// By what they are replaced.
        replacement: Replacement,
    },
    /// Fills missing samples in gaps up to a length, in all channels.
    FillGaps {
        /// Longest gap that is filled, in s.
        longest: f64,
        /// How.
        fill: Fill,
    },
    /// Splits the record at gaps of the PV or OP, or of time itself, and keeps one part.
    SplitAtGaps {
        /// Gaps longer than this split, in s.
        longer_than: f64,
        /// The part that is kept, from 1; null for the longest.
        #[serde(default)]
        part: Option<usize>,
    },
    /// Makes the samples even; missing samples stay missing.
    Resample {
        /// Seconds between samples, above 0.
        interval: f64,
        /// How they are made.
        method: Resampling,
    },
    /// Adds a number.
    Shift {
        /// Tag of the channel.
        #[serde(default)]
        tag: Option<String>,
        /// What is added, in the unit of the channel.
        by: f64,
    },
    /// Removes the mean, or the straight line of least squares; the mean of the channel is kept with a trend removed.
    Remove {
        /// Tag of the channel.
        #[serde(default)]
        tag: Option<String>,
        /// What is removed.
        what: Removed,
    },
    /// Low-pass of first order, or of two equal lags; without a phase shift where it is run forth and back, which
    /// doubles the order.
    LowPass {
        /// Tag of the channel.
        #[serde(default)]
        tag: Option<String>,
        /// Whether it is done to all channels alike, so that it cancels out of a model of them; `tag` then says nothing.
        #[serde(default, skip_serializing_if = "std::ops::Not::not")]
        all: bool,
        /// Time constant of each lag in s, above 0.
        time_constant: f64,
        /// Number of lags, 1 or 2.
        order: usize,
        /// Whether it runs forth and back.
        zero_phase: bool,
    },
    /// Converts a channel to another unit of the same quantity.
    Convert {
        /// Tag of the channel.
        #[serde(default)]
        tag: Option<String>,
        /// The unit.
        unit: String,
    },
    /// Makes a channel from others by a formula with their tags in braces: `{FIC-101.PV} * 4.19 * ({TI-2} - {TI-1})`. A
    /// channel with the same tag
    /// is replaced.
    Compute {
        /// Tag of the new channel.
        tag: String,
        /// Its unit.
        unit: String,
        /// What it is to the loop.
        role: Role,
        /// The formula: numbers, + − * / ^, parentheses, sqrt, abs, exp, ln, log10, sin, cos, tan, min and max are
        /// known.
        formula: String,
    },
}

/// What takes the place of an outlier.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Replacement {
    /// The median of the neighbourhood.
    Median,
    /// Nothing: the sample is missing.
    Missing,
}

/// How a gap is filled.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Fill {
    /// With the last value; OP and SP always are.
    Hold,
    /// Along a straight line.
    Line,
}

/// How samples between samples are made.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Resampling {
    /// Along a straight line between neighbours; OP and SP hold their value until the next one.
    Line,
    /// The mean of the samples from each time until the next, of all channels alike, so that none is delayed against
    /// another; where there
    /// is none, as along a line.
    Mean,
}

/// What is removed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Removed {
    /// The mean.
    Offset,
    /// The straight line.
    Trend,
}

impl Operation {
    /// Does the step; what it did, in a sentence.
    pub(super) fn apply(&self, prepared: &mut Prepared) -> Result<String> {
        match self {
            Self::Window { from, to } => {
                let range = stretch(prepared, *from, *to)?;
                keep(prepared, range.clone());
                Ok(format!("{} samples from {} to {}.", range.len(), readable_duration(*from), readable_duration(*to)))
            }
            Self::CutOut { from, to } => {
                let range = stretch(prepared, *from, *to)?;
                for channel in &mut prepared.record.channels {
                    channel.values[range.clone()].fill(f64::NAN);
                }
                let pv = prepared.record.channel(crate::series::Role::Pv);
                if pv.is_some_and(|pv| pv.missing() == pv.values.len()) {
                    let words = format!("From {from} to {to} s is all that the PV has: leave some of it.");
                    return Err(Error::said("to", words));
                }
                Ok(format!("{} samples taken out.", range.len()))
            }
            Self::Outliers { tag, half_window, threshold, replacement } => {
                if !(1..=1000).contains(half_window) {
                    return Err(Error::invalid("half_window", half_window, "1 to 1000"));
                }
                check::within("threshold", *threshold, 1.0, 20.0, "")?;
                let channel = channel(prepared, tag.as_deref())?;
                let found = outliers(&channel.values, *half_window, *threshold);
                for (k, centre) in &found {
                    channel.values[*k] = if *replacement == Replacement::Median { *centre } else { f64::NAN };
                }
                Ok(format!("{} outliers of {} replaced.", found.len(), channel.tag))
            }
            Self::FillGaps { longest, fill } => {
                check::positive("longest", *longest, "s")?;
                let axis = prepared.record.axis.clone();
                let filled: usize =
                    prepared.record.channels.iter_mut().map(|channel| fill_gaps(channel, &axis, *longest, *fill)).sum();
                Ok(format!("{filled} missing samples filled."))
            }
            Self::SplitAtGaps { longer_than, part } => split(prepared, *longer_than, *part),
            Self::Resample { interval, method } => resample(prepared, *interval, *method),
            Self::Shift { tag, by } => {
                check::finite("by", *by)?;
                let channel = channel(prepared, tag.as_deref())?;
                channel.values.iter_mut().for_each(|value| *value += by);
                Ok(format!("{} shifted by {} {}.", channel.tag, readable(*by), channel.unit))
            }
            Self::Remove { tag, what } => {
                let axis = prepared.record.axis.clone();
                let channel = channel(prepared, tag.as_deref())?;
                let (mean, middle, slope) = line(&channel.values, &axis);
                match what {
                    Removed::Offset => channel.values.iter_mut().for_each(|value| *value -= mean),
                    Removed::Trend => {
                        let level = |k: usize| slope * (axis.at(k) - middle);
                        channel.values.iter_mut().enumerate().for_each(|(k, value)| *value -= level(k));
                    }
                }
                Ok(match what {
                    Removed::Offset => {
                        format!("Mean of {} {} taken off {}.", readable(mean), channel.unit, channel.tag)
                    }
                    Removed::Trend => {
                        let an_hour = slope * 3600.0;
                        format!("Trend of {} {} an hour taken off {}.", readable(an_hour), channel.unit, channel.tag)
                    }
                })
            }
            Self::LowPass { tag, all, time_constant, order, zero_phase } => {
                check::positive("time_constant", *time_constant, "s")?;
                if !(1..=2).contains(order) {
                    return Err(Error::invalid("order", order, "1 or 2"));
                }
                let axis = prepared.record.axis.clone();
                let filter = |channel: &mut Channel| {
                    for _ in 0..*order {
                        filters::lag(&mut channel.values, &axis, *time_constant);
                        if *zero_phase {
                            filters::lag_backward(&mut channel.values, &axis, *time_constant);
                        }
                    }
                };
                let way = if *zero_phase { ", forth and back" } else { "" };
                let how = format!("{order} × {}{way}", readable_duration(*time_constant));
                if *all {
                    prepared.record.channels.iter_mut().for_each(filter);
                    return Ok(format!("All channels filtered alike: {how}."));
                }
                let channel = channel(prepared, tag.as_deref())?;
                filter(channel);
                let others = if matches!(channel.role, Role::Pv | Role::Op) {
                    " The others are not: a model of them has this filter in it."
                } else {
                    ""
                };
                Ok(format!("{} filtered: {how}.{others}", channel.tag))
            }
            Self::Convert { tag, unit } => {
                let channel = channel(prepared, tag.as_deref())?;
                if unit.trim().is_empty() {
                    let words =
                        format!("Give the unit that {} is to be converted to; it is in {}.", channel.tag, channel.unit);
                    return Err(Error::said("unit", words));
                }
                if channel.unit.trim().is_empty() {
                    return Err(Error::unfit(
                        format!("{} has no unit to convert from", channel.tag),
                        "give it one at the import",
                    ));
                }
                channel.values = channel.values_in(unit)?.into_owned();
                let note = format!("{} from {} to {unit}.", channel.tag, channel.unit);
                channel.unit.clone_from(unit);
                Ok(note)
            }
            Self::Compute { tag, unit, role, formula } => {
                if tag.trim().is_empty() || tag.chars().count() > 60 {
                    return Err(Error::invalid("tag", tag, "1 to 60 characters"));
                }
                let values = formula::evaluate(formula, &prepared.record)?;
                let missing = values.iter().filter(|value| value.is_nan()).count();
                if missing == values.len() {
                    let words = format!(
                        "The formula of {tag} gives no number for any sample: look for a division by zero, or a root or \
                         logarithm of a negative number."
                    );
                    return Err(Error::said("formula", words));
                }
                let computed = Channel { tag: tag.clone(), role: *role, unit: unit.clone(), values };
                let channels = &mut prepared.record.channels;
                match channels.iter_mut().find(|known| known.tag == *tag) {
                    Some(known) => *known = computed,
                    // The first channel of a role stands for it: a computed PV or OP takes its place.
                    None if matches!(role, Role::Pv | Role::Op | Role::Sp) => channels.insert(0, computed),
                    None => channels.push(computed),
                }
                Ok(format!("{tag} computed; {missing} samples missing."))
            }
        }
    }
}

/// The channel with this tag, or the PV.
fn channel<'a>(prepared: &'a mut Prepared, tag: Option<&str>) -> Result<&'a mut Channel> {
    let tags = prepared.record.channels.iter().map(|channel| channel.tag.clone()).collect::<Vec<_>>().join(", ");
    let wanted = |channel: &&mut Channel| match tag {
        Some(tag) => channel.tag == tag,
        None => channel.role == Role::Pv,
    };
    let found = prepared.record.channels.iter_mut().find(wanted);
    found.ok_or_else(|| Error::invalid("tag", tag.unwrap_or("PV"), format!("one of {tags}")))
}

/// The samples between two times of the untouched record, at least one.
fn stretch(prepared: &Prepared, from: f64, to: f64) -> Result<std::ops::Range<usize>> {
    let (begin, end) = (prepared.start, prepared.start + prepared.record.axis.duration());
    if from.is_nan() || to.is_nan() || from >= to {
        return Err(Error::invalid("to", format!("{to} s"), format!("later than from, {from} s")));
    }
    let range = prepared.window(from, to);
    if range.is_empty() {
        return Err(Error::invalid(
            "from",
            format!("{from} to {to} s"),
            format!("a stretch with samples, within {begin} to {end} s"),
        ));
    }
    Ok(range)
}

fn keep(prepared: &mut Prepared, range: std::ops::Range<usize>) {
    prepared.start += prepared.record.axis.at(range.start);
    prepared.record.axis = prepared.record.axis.slice(range.clone());
    for channel in &mut prepared.record.channels {
        channel.values = channel.values[range.clone()].to_vec();
    }
}

/// Places of outliers with the medians of their neighbourhoods.
fn outliers(values: &[f64], half: usize, threshold: f64) -> Vec<(usize, f64)> {
    let mut found = Vec::new();
    let mut near = Vec::with_capacity(2 * half + 1);
    for (k, value) in values.iter().enumerate().filter(|(_, value)| value.is_finite()) {
        go_on();
        let neighbourhood = &values[k.saturating_sub(half)..(k + half + 1).min(values.len())];
        near.clear();
        near.extend(neighbourhood.iter().filter(|value| value.is_finite()));
        if near.len() < 3 {
            continue;
        }
        let centre = median(&mut near);
        near.iter_mut().for_each(|value| *value = (*value - centre).abs());
        let deviation = deviation_by_median(&mut near);
        // Where most samples are the same, any other one is taken for an outlier only if it is far off beside rounding.
        if (value - centre).abs() > threshold * deviation.max(1e-9 * centre.abs()) {
            found.push((k, centre));
        }
    }
    found
}

/// Fills gaps of at most `longest` seconds between samples that are there; how many samples.
fn fill_gaps(channel: &mut Channel, axis: &TimeAxis, longest: f64, fill: Fill) -> usize {
    let held = fill == Fill::Hold || matches!(channel.role, Role::Op | Role::Sp);
    let values = &mut channel.values;
    let (mut filled, mut k) = (0, 0);
    while k < values.len() {
        if values[k].is_finite() {
            k += 1;
            continue;
        }
        let end = (k..values.len()).find(|j| values[*j].is_finite()).unwrap_or(values.len());
        if k > 0 && end < values.len() && axis.at(end) - axis.at(k - 1) <= longest + 1e-9 {
            let (from, to) = (values[k - 1], values[end]);
            let span = axis.at(end) - axis.at(k - 1);
            for (j, value) in values.iter_mut().enumerate().take(end).skip(k) {
                let share = if held { 0.0 } else { (axis.at(j) - axis.at(k - 1)) / span };
                *value = from + share * (to - from);
            }
            filled += end - k;
        }
        k = end;
    }
    filled
}

fn split(prepared: &mut Prepared, longer_than: f64, part: Option<usize>) -> Result<String> {
    check::positive("longer_than", longer_than, "s")?;
    let record = &prepared.record;
    let telling: Vec<&Channel> =
        record.channels.iter().filter(|channel| matches!(channel.role, Role::Pv | Role::Op)).collect();
    let is_there = |k: &usize| telling.iter().all(|channel| channel.values[*k].is_finite());
    let mut parts: Vec<std::ops::Range<usize>> = Vec::new();
    let mut last: Option<usize> = None;
    for k in (0..record.axis.len()).filter(is_there) {
        match (last, parts.last_mut()) {
            (Some(before), Some(open)) if record.axis.at(k) - record.axis.at(before) <= longer_than => open.end = k + 1,
            _ => parts.push(k..k + 1),
        }
        last = Some(k);
    }
    let count = parts.len();
    let longest = |range: &&std::ops::Range<usize>| record.axis.at(range.end - 1) - record.axis.at(range.start);
    let kept = match part {
        Some(number) if (1..=count).contains(&number) => parts.swap_remove(number - 1),
        Some(number) => return Err(Error::invalid("part", number, format!("1 to {count}"))),
        None => parts
            .iter()
            .max_by(|a, b| longest(a).total_cmp(&longest(b)))
            .cloned()
            .ok_or_else(|| Error::unfit("no sample has both PV and OP", "check the columns"))?,
    };
    let note = format!("{count} parts; kept the one of {} samples.", kept.len());
    keep(prepared, kept);
    Ok(note)
}

fn resample(prepared: &mut Prepared, interval: f64, method: Resampling) -> Result<String> {
    check::positive("interval", interval, "s")?;
    let old = &prepared.record;
    let count = (old.axis.duration() / interval + 1e-9).floor() + 1.0;
    if count > MOST_SAMPLES {
        return Err(Error::invalid(
            "interval",
            format!("{interval} s"),
            format!("at least {} s, for 20 million samples", old.axis.duration() / MOST_SAMPLES),
        ));
    }
    let axis = TimeAxis::uniform(interval, count as usize)?;
    let channels = old
        .channels
        .iter()
        .map(|channel| {
            let held = matches!(channel.role, Role::Op | Role::Sp);
            Channel { values: resampled(&channel.values, &old.axis, &axis, held, method), ..channel.clone() }
        })
        .collect();
    let note = format!("{} samples became {}.", old.axis.len(), axis.len());
    prepared.record = Record::new(axis, channels)?;
    Ok(note)
}

fn resampled(values: &[f64], old: &TimeAxis, new: &TimeAxis, held: bool, method: Resampling) -> Vec<f64> {
    let slack = 1e-9 * old.mean_interval();
    let mut next = 0;
    (0..new.len())
        .map(|k| {
            let time = new.at(k);
            while next < values.len() && old.at(next) <= time + slack {
                next += 1;
            }
            // The last sample at or before now; the axis begins with the first one.
            let before = next.saturating_sub(1);
            if method == Resampling::Mean {
                let first = if old.at(before) >= time - slack { before } else { next };
                let until = if k + 1 < new.len() { new.at(k + 1) - slack } else { f64::MAX };
                let here = (first..values.len()).take_while(|j| old.at(*j) < until).map(|j| values[j]);
                let (sum, count, any) = here.fold((0.0, 0usize, false), |(sum, count, _), value| {
                    if value.is_finite() { (sum + value, count + 1, true) } else { (sum, count, true) }
                });
                if any {
                    return if count > 0 { sum / count as f64 } else { f64::NAN };
                }
            }
            match values.get(next) {
                Some(after) if !held && old.at(before) < time - slack => {
                    let share = (time - old.at(before)) / (old.at(next) - old.at(before));
                    values[before] + share * (after - values[before])
                }
                _ => values[before],
            }
        })
        .collect()
}

/// Mean of the values that are there, the mean of their times, and the slope of the line of least squares per second.
fn line(values: &[f64], axis: &TimeAxis) -> (f64, f64, f64) {
    let there = || values.iter().enumerate().filter(|(_, value)| value.is_finite());
    let count = there().count().max(1) as f64;
    let mean = there().map(|(_, value)| value).sum::<f64>() / count;
    let middle = there().map(|(k, _)| axis.at(k)).sum::<f64>() / count;
    let (cross, power) = there().fold((0.0, 0.0), |(cross, power), (k, value)| {
        let from = axis.at(k) - middle;
        (cross + from * (value - mean), power + from * from)
    });
    (mean, middle, if power > 0.0 { cross / power } else { 0.0 })
}
