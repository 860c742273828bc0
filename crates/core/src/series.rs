//! Records: plant data as channels on one time axis, never altered once made.

use crate::units::Unit;
use crate::{Error, Result, check};
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};
use std::borrow::Cow;
use utoipa::ToSchema;

/// Least time between two samples in s, on average.
const SHORTEST_INTERVAL: f64 = 1e-6;

/// When the samples were taken, in seconds from the record's start.
#[derive(Debug, Clone, PartialEq)]
pub enum TimeAxis {
    /// One sample every `interval` seconds, `len` of them, the first at 0.
    Uniform {
        /// Seconds between samples, above 0.
        interval: f64,
        /// Number of samples.
        len: usize,
    },
    /// Samples at these strictly increasing times.
    Irregular(Vec<f64>),
}

impl TimeAxis {
    /// A uniform axis; `interval` in s.
    pub fn uniform(interval: f64, len: usize) -> Result<Self> {
        check::positive("sample time", interval, "s")?;
        Ok(Self::Uniform { interval, len })
    }

    /// An axis through the given times, uniform where they are evenly spaced.
    ///
    /// Evenly spaced means that no time is further than 0.1 % of the interval from its place, which covers the
    /// rounding of printed time stamps. The times must increase strictly.
    pub fn from_times(times: &[f64]) -> Result<Self> {
        for (row, pair) in times.windows(2).enumerate() {
            if pair[1].partial_cmp(&pair[0]) != Some(std::cmp::Ordering::Greater) {
                return Err(Error::invalid(
                    format!("time at sample {}", row + 2),
                    format!("{} s", pair[1]),
                    format!("later than the sample before, {} s", pair[0]),
                ));
            }
        }
        let Some((&first, &last)) = times.first().zip(times.last()) else { return Ok(Self::Irregular(Vec::new())) };
        if !(first.is_finite() && last.is_finite()) {
            return Err(Error::invalid("time", format!("{first} to {last} s"), "finite numbers"));
        }
        let shifted: Vec<f64> = times.iter().map(|time| time - first).collect();
        if times.len() < 2 {
            return Ok(Self::Irregular(shifted));
        }
        let interval = (last - first) / (times.len() - 1) as f64;
        if interval < SHORTEST_INTERVAL {
            return Err(Error::invalid("time between samples", format!("{interval:e} s"), "at least 1e-6 s"));
        }
        let even = shifted.iter().enumerate().all(|(k, time)| (time - k as f64 * interval).abs() <= 1e-3 * interval);
        Ok(if even { Self::Uniform { interval, len: times.len() } } else { Self::Irregular(shifted) })
    }

    /// Number of samples.
    #[must_use]
    pub fn len(&self) -> usize {
        match self {
            Self::Uniform { len, .. } => *len,
            Self::Irregular(times) => times.len(),
        }
    }

    /// Whether there is no sample.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// Time of sample `k`, in s.
    #[must_use]
    pub fn at(&self, k: usize) -> f64 {
        match self {
            Self::Uniform { interval, .. } => k as f64 * interval,
            Self::Irregular(times) => times[k],
        }
    }

    /// Seconds between the first and the last sample.
    #[must_use]
    pub fn duration(&self) -> f64 {
        if self.is_empty() { 0.0 } else { self.at(self.len() - 1) - self.at(0) }
    }

    /// Mean seconds between samples; 0 with fewer than two.
    #[must_use]
    pub fn mean_interval(&self) -> f64 {
        if self.len() < 2 { 0.0 } else { self.duration() / (self.len() - 1) as f64 }
    }

    /// The samples whose time lies in `from..=to`, as a range of indices.
    #[must_use]
    pub fn window(&self, from: f64, to: f64) -> std::ops::Range<usize> {
        let first_at_or_after = |time: f64| match self {
            Self::Uniform { interval, len } => ((time / interval - 1e-9).ceil().max(0.0) as usize).min(*len),
            Self::Irregular(times) => times.partition_point(|t| *t < time),
        };
        let first_after = |time: f64| match self {
            Self::Uniform { interval, len } => {
                ((time / interval + 1e-9).floor() + 1.0).clamp(0.0, *len as f64) as usize
            }
            Self::Irregular(times) => times.partition_point(|t| *t <= time),
        };
        let start = first_at_or_after(from);
        start..first_after(to).max(start)
    }

    /// The part of the axis with these indices, starting at 0 again.
    #[must_use]
    pub fn slice(&self, range: std::ops::Range<usize>) -> Self {
        match self {
            Self::Uniform { interval, .. } => Self::Uniform { interval: *interval, len: range.len() },
            Self::Irregular(times) => {
                let start = times.get(range.start).copied().unwrap_or(0.0);
                Self::Irregular(times[range].iter().map(|time| time - start).collect())
            }
        }
    }
}

/// What a channel is to the loop.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Role {
    /// Process variable.
    Pv,
    /// Controller output.
    Op,
    /// Set point.
    Sp,
    /// Disturbance variable.
    Dv,
    /// Anything else that was recorded.
    Other,
}

impl Role {
    /// The role as the trade writes it: PV, OP, SP, DV, or `other`.
    #[must_use]
    pub fn symbol(self) -> &'static str {
        match self {
            Self::Pv => "PV",
            Self::Op => "OP",
            Self::Sp => "SP",
            Self::Dv => "DV",
            Self::Other => "other",
        }
    }
}

/// One signal of a record. A missing sample is NaN.
#[derive(Debug, Clone, PartialEq)]
pub struct Channel {
    /// Tag of the signal, for example `TIC-204.PV`.
    pub tag: String,
    /// What it is to the loop.
    pub role: Role,
    /// Unit of the values.
    pub unit: String,
    /// One value a sample; NaN where the sample is missing.
    pub values: Vec<f64>,
}

impl Channel {
    /// The values in another unit of the same quantity; a channel without a unit is taken to be in it already.
    ///
    /// Errors when the units differ and are not both known, or measure different things.
    pub fn values_in(&self, unit: &str) -> Result<Cow<'_, [f64]>> {
        let same =
            |a: &str, b: &str| a == b || Unit::parse(a).ok().zip(Unit::parse(b).ok()).is_some_and(|(a, b)| a == b);
        if self.unit.trim().is_empty() || unit.trim().is_empty() || same(self.unit.trim(), unit.trim()) {
            return Ok(Cow::Borrowed(&self.values));
        }
        let refused = || {
            Error::invalid(
                format!("unit of {}", self.tag),
                &self.unit,
                format!("{unit}, or a unit that converts into it"),
            )
        };
        let (from, to) = (Unit::parse(&self.unit).map_err(|_| refused())?, Unit::parse(unit).map_err(|_| refused())?);
        from.convert(0.0, &to).map_err(|_| refused())?;
        self.values.iter().map(|value| from.convert(*value, &to)).collect::<Result<Vec<_>>>().map(Cow::Owned)
    }

    /// Number of missing samples.
    #[must_use]
    pub fn missing(&self) -> usize {
        self.values.iter().filter(|value| value.is_nan()).count()
    }
}

/// Plant data: channels on one time axis.
#[derive(Debug, Clone, PartialEq)]
pub struct Record {
    /// When the samples were taken.
    pub axis: TimeAxis,
    /// The signals; each has as many values as the axis has samples.
    pub channels: Vec<Channel>,
}

impl Record {
    /// A record whose channels all fit the axis.
    pub fn new(axis: TimeAxis, channels: Vec<Channel>) -> Result<Self> {
        for channel in &channels {
            if channel.values.len() != axis.len() {
                return Err(Error::invalid(
                    format!("number of samples of {}", channel.tag),
                    channel.values.len(),
                    format!("{}, one for each time", axis.len()),
                ));
            }
        }
        Ok(Self { axis, channels })
    }

    /// Whether PV, SP and OP are in these units by their names.
    #[must_use]
    pub fn is_in_units_of(&self, pv_unit: &str, op_unit: &str) -> bool {
        self.channels.iter().all(|channel| match channel.role {
            Role::Pv | Role::Sp => channel.unit == pv_unit,
            Role::Op => channel.unit == op_unit,
            Role::Dv | Role::Other => true,
        })
    }

    /// The record as a loop sees it: PV and SP in the unit of its PV, the OP in that of its output. A channel that does not
    /// convert, or has no unit, is left as it is.
    #[must_use]
    pub fn in_units_of(mut self, pv_unit: &str, op_unit: &str) -> Self {
        for channel in &mut self.channels {
            let unit = match channel.role {
                Role::Pv | Role::Sp => pv_unit,
                Role::Op => op_unit,
                Role::Dv | Role::Other => continue,
            };
            if let Ok(values) = channel.values_in(unit) {
                channel.values = values.into_owned();
                unit.clone_into(&mut channel.unit);
            }
        }
        self
    }

    /// A channel at equal intervals, at most `most` samples, straight between those that are there: what a scenario can
    /// follow. Errors for a tag that the record does not have, and for a channel without two values.
    pub fn evenly(&self, tag: &str, most: usize) -> Result<(f64, Vec<f64>)> {
        let channel = self.channels.iter().find(|channel| channel.tag == tag).ok_or_else(|| {
            let tags: Vec<&str> = self.channels.iter().map(|channel| channel.tag.as_str()).collect();
            Error::invalid("tag", format!("“{tag}”"), format!("one of {}", tags.join(", ")))
        })?;
        let known: Vec<(f64, f64)> = channel
            .values
            .iter()
            .enumerate()
            .filter(|(_, value)| value.is_finite())
            .map(|(k, value)| (self.axis.at(k), *value))
            .collect();
        let (Some(first), Some(last), true) = (known.first(), known.last(), known.len() > 1) else {
            return Err(Error::invalid(tag, format!("{} values", known.len()), "two values or more"));
        };
        let count = channel.values.len().clamp(2, most.max(2));
        let interval = (last.0 - first.0) / (count - 1) as f64;
        let mut after = 1;
        let values = (0..count)
            .map(|k| {
                let time = first.0 + k as f64 * interval;
                while after + 1 < known.len() && known[after].0 < time {
                    after += 1;
                }
                let ((t0, y0), (t1, y1)) = (known[after - 1], known[after]);
                y0 + (y1 - y0) * ((time - t0) / (t1 - t0)).clamp(0.0, 1.0)
            })
            .collect();
        Ok((interval, values))
    }

    /// The first channel with this role.
    #[must_use]
    pub fn channel(&self, role: Role) -> Option<&Channel> {
        self.channels.iter().find(|channel| channel.role == role)
    }

    /// SHA-256 of the times and values, as lower-case hexadecimal: what derived things remember their origin by.
    #[must_use]
    pub fn content_hash(&self) -> String {
        let mut hasher = Sha256::new();
        match &self.axis {
            TimeAxis::Uniform { interval, len } => {
                hasher.update(b"uniform");
                hasher.update(interval.to_le_bytes());
                hasher.update((*len as u64).to_le_bytes());
            }
            TimeAxis::Irregular(times) => {
                hasher.update(b"irregular");
                times.iter().for_each(|time| hasher.update(time.to_le_bytes()));
            }
        }
        for channel in &self.channels {
            hasher.update(channel.tag.as_bytes());
            hasher.update([0]);
            channel.values.iter().for_each(|value| hasher.update(value.to_le_bytes()));
        }
        hex(&hasher.finalize())
    }

    /// The hash of a record whose channels were put right: roles and units count, too, since what was derived from the
    /// record means something else now.
    #[must_use]
    pub fn corrected_hash(&self) -> String {
        let mut hasher = Sha256::new();
        hasher.update(self.content_hash().as_bytes());
        for channel in &self.channels {
            hasher.update(channel.role.symbol().as_bytes());
            hasher.update([0]);
            hasher.update(channel.unit.as_bytes());
            hasher.update([0]);
        }
        hex(&hasher.finalize())
    }
}

/// Bytes as lower-case hexadecimal.
pub(crate) fn hex(bytes: &[u8]) -> String {
    use std::fmt::Write;
    bytes.iter().fold(String::with_capacity(2 * bytes.len()), |mut text, byte| {
        let _ = write!(text, "{byte:02x}");
        text
    })
}

/// Indices of the samples that a strip `buckets` wide needs: the first, lowest, highest and last of each bucket.
///
/// No spike is lost, since both extremes of each stretch are kept; a missing stretch stays missing, since one NaN
/// of each is kept. At most `5 · buckets` indices in rising order; all of them when there are no more samples.
#[must_use]
pub fn extremes(values: &[f64], range: std::ops::Range<usize>, buckets: usize) -> Vec<usize> {
    let buckets = buckets.max(1);
    if range.len() <= 5 * buckets {
        return range.collect();
    }
    let mut kept = Vec::with_capacity(5 * buckets);
    for bucket in 0..buckets {
        let start = range.start + range.len() * bucket / buckets;
        let end = range.start + range.len() * (bucket + 1) / buckets;
        let (mut low, mut high, mut gap) = (start, start, None);
        for k in start..end {
            let value = values[k];
            if value.is_nan() {
                gap.get_or_insert(k);
            } else {
                if values[low].is_nan() || value < values[low] {
                    low = k;
                }
                if values[high].is_nan() || value > values[high] {
                    high = k;
                }
            }
        }
        let from = kept.len();
        kept.extend([start, low, high, end - 1]);
        kept.extend(gap);
        kept[from..].sort_unstable();
    }
    kept.dedup();
    kept
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_channel_with_gaps_becomes_even() {
        // A straight line stays one, however it was sampled (exact mathematics).
        let times = [0.0, 1.0, 2.5, 3.0, 7.0, 8.0];
        let values = times.map(|t| if t == 2.5 { f64::NAN } else { 3.0 - 0.5 * t });
        let channel = Channel { tag: "T".into(), role: Role::Dv, unit: "°C".into(), values: values.to_vec() };
        let record = Record::new(TimeAxis::from_times(&times).unwrap(), vec![channel]).unwrap();
        let (interval, even) = record.evenly("T", 5).unwrap();
        assert!((interval - 2.0).abs() < 1e-12 && even.len() == 5);
        assert!(even.iter().enumerate().all(|(k, value)| (value - (3.0 - k as f64)).abs() < 1e-12), "{even:?}");
        assert!(record.evenly("X", 5).unwrap_err().to_string().contains("there are T"));
    }

    #[test]
    fn even_times_become_a_uniform_axis() {
        let times: Vec<f64> = (0..1000).map(|k| 1.7e9 + 0.25 * f64::from(k)).collect();
        assert_eq!(TimeAxis::from_times(&times).unwrap(), TimeAxis::Uniform { interval: 0.25, len: 1000 });
        let TimeAxis::Irregular(shifted) = TimeAxis::from_times(&[5.0, 6.0, 8.0]).unwrap() else { panic!() };
        assert_eq!(shifted, [0.0, 1.0, 3.0]);
    }

    #[test]
    fn time_running_backwards_is_named() {
        let error = TimeAxis::from_times(&[0.0, 2.0, 1.0]).unwrap_err();
        assert_eq!(error.to_string(), "The time at sample 3 is 1 s: it must be later than the sample before, 2 s.");
        assert!(TimeAxis::from_times(&[0.0, f64::NAN]).is_err());
    }

    #[test]
    fn windows_include_both_ends() {
        let uniform = TimeAxis::uniform(0.1, 100).unwrap();
        assert_eq!(uniform.window(1.0, 2.0), 10..21);
        assert_eq!(uniform.window(-5.0, 0.0), 0..1);
        assert_eq!(uniform.window(8.0, 99.0), 80..100);
        assert!(uniform.window(50.0, 60.0).is_empty());
        let irregular = TimeAxis::Irregular(vec![0.0, 1.0, 4.0, 9.0]);
        assert_eq!(irregular.window(1.0, 4.0), 1..3);
        assert_eq!(irregular.slice(1..4), TimeAxis::Irregular(vec![0.0, 3.0, 8.0]));
    }

    #[test]
    fn no_spike_is_lost_to_decimation() {
        let mut values: Vec<f64> = (0..100_000).map(|k| (f64::from(k) * 1e-3).sin()).collect();
        values[31_337] = 40.0;
        values[77_777] = -40.0;
        values[50_000..50_100].fill(f64::NAN);
        let kept = extremes(&values, 0..values.len(), 800);
        assert!(kept.len() <= 4000 && kept.is_sorted());
        assert!(kept.contains(&31_337) && kept.contains(&77_777));
        assert!(kept.iter().any(|k| values[*k].is_nan()));
        assert_eq!((kept[0], kept[kept.len() - 1]), (0, 99_999));
    }

    #[test]
    fn values_come_in_the_unit_that_is_asked_for() {
        let channel = |unit: &str| Channel {
            tag: "T".into(),
            role: Role::Pv,
            unit: unit.into(),
            values: vec![32.0, f64::NAN, 212.0],
        };
        let fahrenheit = channel("degF");
        let celsius = fahrenheit.values_in("°C").unwrap();
        assert!((celsius[0]).abs() < 1e-9 && celsius[1].is_nan() && (celsius[2] - 100.0).abs() < 1e-9);
        assert_eq!(channel("").values_in("°C").unwrap()[2], 212.0);
        assert_eq!(channel("pH").values_in("pH").unwrap()[2], 212.0);
        assert_eq!(channel("degC").values_in("°C").unwrap()[2], 212.0);
        let refused = |from: &str, to: &str| channel(from).values_in(to).unwrap_err().to_string();
        assert_eq!(refused("bar", "°C"), "The unit of T is bar: it must be °C, or a unit that converts into it.");
        assert_eq!(refused("pH", "°C"), "The unit of T is pH: it must be °C, or a unit that converts into it.");
    }

    #[test]
    fn the_hash_follows_the_content() {
        let record = |last: f64| {
            let channel = Channel { tag: "T".into(), role: Role::Pv, unit: "°C".into(), values: vec![1.0, last] };
            Record::new(TimeAxis::uniform(1.0, 2).unwrap(), vec![channel]).unwrap()
        };
        assert_eq!(record(2.0).content_hash(), record(2.0).content_hash());
        assert_ne!(record(2.0).content_hash(), record(2.0 + 1e-15 * 4.0).content_hash());
        assert_eq!(record(2.0).content_hash().len(), 64);
    }
}
