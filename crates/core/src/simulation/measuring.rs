//! A measured signal at work: its sensor and the dead time of what it sees.

use super::schedule::Scans;
use crate::instrument::{Failure, Sensor};
use crate::lti::SampledDelay;
use crate::units::Span;
use std::collections::VecDeque;

/// How far a signal may be off, in % of span, before a trial says no more than that it runs away.
pub(super) const RUN_AWAY: f64 = 2000.0;

/// A measured signal at work.
pub(super) struct Measuring {
    pub tag: String,
    pub span: Span,
    pub sensor: Sensor,
    pub delay: SampledDelay,
    /// What the sensor saw before its dead time, the oldest first.
    seen: VecDeque<f64>,
    failing: Vec<(Scans, Failure)>,
    /// What a perfect sensor would show, and what this one shows.
    pub true_value: f64,
    pub measurement: f64,
}

impl Measuring {
    /// Before anything happens, when it shows `at_start`.
    pub fn new(
        tag: &str,
        span: Span,
        sensor: Sensor,
        delay: SampledDelay,
        failing: Vec<(Scans, Failure)>,
        at_start: f64,
    ) -> Self {
        let late = delay.scans + usize::from(delay.remainder > 0.0);
        let mut seen = VecDeque::with_capacity(late + 2);
        seen.extend(std::iter::repeat_n(at_start, late));
        let tag = tag.to_owned();
        Self { tag, span, sensor, delay, seen, failing, true_value: at_start, measurement: at_start }
    }

    /// Whether there is no more to say than that it runs away.
    #[inline]
    pub fn is_far_off(&self) -> bool {
        (self.true_value - self.span.low).abs() > 0.01 * RUN_AWAY * self.span.width()
    }

    /// Seconds into a scan at which what is seen is to be noted, where the dead time ends between two scans.
    #[inline]
    pub fn note_at(&self, scan: f64) -> Option<f64> {
        (self.delay.remainder > 0.0).then_some(scan - self.delay.remainder)
    }

    /// Notes what is seen between two scans.
    pub fn note(&mut self, seen: f64) {
        self.seen.push_back(seen);
    }

    /// Measures at a scan, where `seen` is what the sensor sees then and `true_value` what there is.
    #[inline]
    pub fn measure(&mut self, scan_number: usize, seen: f64, true_value: f64) {
        self.true_value = true_value;
        let shown = self.delayed(seen);
        let failure = self.failing.iter().find(|(scans, _)| scans.contains(&scan_number));
        self.measurement = self.sensor.measure(shown, failure.map(|(_, how)| *how));
    }

    /// What the sensor shows now of what it saw a dead time ago.
    #[inline]
    fn delayed(&mut self, seen: f64) -> f64 {
        let SampledDelay { scans, remainder } = self.delay;
        if remainder > 0.0 {
            // What lies between two scans was noted on the way.
            return self.seen.pop_front().unwrap_or(seen);
        }
        if scans == 0 {
            return seen;
        }
        self.seen.push_back(seen);
        self.seen.pop_front().unwrap_or(seen)
    }
}
