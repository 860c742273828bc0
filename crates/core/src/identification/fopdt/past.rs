//! What is left, in a record, of moves before it.

use crate::series::TimeAxis;

/// What is left, at a time after the start, of the unknown past.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Past {
    /// `exp(−t/τ)`: of the state at the start.
    pub(super) transient: f64,
    /// Its derivative by ln τ.
    pub(super) transient_by_log: f64,
    /// Of a unit input that was under way through the dead time: it acts from 0 to θ.
    pub(super) earlier: f64,
    /// Its derivative by ln τ.
    pub(super) earlier_by_log: f64,
    /// Its derivative by θ, per s.
    pub(super) earlier_by_dead_time: f64,
}

impl Past {
    /// Time constants after which nothing is left in double precision.
    const FORGOTTEN: f64 = 40.0;
}

/// Walks through what is left of the past, sample by sample.
pub(super) struct Pasts<'a> {
    axis: &'a TimeAxis,
    start: f64,
    dead_time: f64,
    /// The inverse of the time constant.
    rate: f64,
    /// The decay over one sample, where the samples are evenly spaced.
    decay: Option<f64>,
    transient: f64,
    released: f64,
}

impl<'a> Pasts<'a> {
    /// Samples after which the decays are computed afresh, before rounding adds up.
    const REFRESH: usize = 64;

    pub(super) fn new(axis: &'a TimeAxis, time_constant: f64, dead_time: f64) -> Self {
        let rate = 1.0 / time_constant;
        let decay = match axis {
            TimeAxis::Uniform { interval, .. } => Some((-interval * rate).exp()),
            TimeAxis::Irregular(_) => None,
        };
        Self { axis, start: axis.at(0), dead_time, rate, decay, transient: 0.0, released: 0.0 }
    }

    /// At sample `k`; the samples are asked for one after the other.
    #[inline]
    pub(super) fn at(&mut self, k: usize) -> Past {
        let time = self.axis.at(k) - self.start;
        let (age, since) = (time * self.rate, (time - self.dead_time) * self.rate);
        if since > Past::FORGOTTEN {
            return Past::default();
        }
        match self.decay {
            Some(decay) if self.released > 0.0 && !k.is_multiple_of(Self::REFRESH) => {
                self.transient *= decay;
                self.released *= decay;
            }
            _ => {
                self.transient = (-age).exp();
                self.released = if since < 0.0 { 0.0 } else { (-since).exp() };
            }
        }
        let transient_by_log = age * self.transient;
        let (earlier, earlier_by_log) = if since < 0.0 {
            (1.0 - self.transient, -transient_by_log)
        } else {
            (self.released - self.transient, since * self.released - transient_by_log)
        };
        Past {
            transient: self.transient,
            transient_by_log,
            earlier,
            earlier_by_log,
            earlier_by_dead_time: self.released * self.rate,
        }
    }
}
