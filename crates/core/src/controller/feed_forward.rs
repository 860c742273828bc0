//! Feed-forward of a measured disturbance: a gain, or a lead-lag with delay.

use crate::{Result, check};
use serde::{Deserialize, Serialize};
use std::collections::VecDeque;
use utoipa::ToSchema;

/// What is added to the output for a signal d: `Kff (T_lead s + 1)/(T_lag s + 1) exp(−L s)·d`. The ideal one for a process
/// `G` and a disturbance path `Gd` is `−Gd/G` (Seborg, Edgar & Mellichamp, Process Dynamics and Control, ch. 15).
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct FeedForward {
    /// An input or output of the process by name, or `load`.
    pub signal: String,
    /// Gain Kff in % of OP per unit of the signal.
    pub gain: f64,
    /// Lead in s, 0 or more.
    #[serde(default)]
    #[schema(minimum = 0)]
    pub lead: f64,
    /// Lag in s, 0 or more; above 0 where there is a lead.
    #[serde(default)]
    #[schema(minimum = 0)]
    pub lag: f64,
    /// Delay in s, in the nearest whole number of scans; 0 or more.
    #[serde(default)]
    #[schema(minimum = 0)]
    pub delay: f64,
}

impl FeedForward {
    pub(super) fn validate(&self) -> Result<()> {
        check::finite("controller.feed_forward.gain", self.gain)?;
        check::not_negative("controller.feed_forward.lead", self.lead, "s")?;
        check::not_negative("controller.feed_forward.lag", self.lag, "s")?;
        if self.lead > 0.0 {
            check::positive("controller.feed_forward.lag", self.lag, "s where there is a lead")?;
        }
        check::not_negative("controller.feed_forward.delay", self.delay, "s").map(drop)
    }
}

/// Feed-forward at work.
#[derive(Debug, Clone)]
pub(super) struct Forward {
    gain: f64,
    /// The part that passes at once, and the memory of the rest.
    direct: f64,
    memory: f64,
    delayed: VecDeque<f64>,
    delay: usize,
    lagged: Option<f64>,
}

impl Forward {
    pub fn new(settings: &FeedForward, scan: f64) -> Result<Self> {
        let scans = super::delay_in_scans("controller.feed_forward.delay", settings.delay, scan)?;
        let (delay, lag) = (scans.round() as usize, settings.lag);
        Ok(Self {
            gain: settings.gain,
            direct: if lag > 0.0 { settings.lead / lag } else { 1.0 },
            memory: if lag > 0.0 { (-scan / lag).exp() } else { 0.0 },
            delayed: VecDeque::with_capacity(delay + 1),
            delay,
            lagged: None,
        })
    }

    /// The contribution to the output in %, once a scan.
    ///
    /// `(T_lead s + 1)/(T_lag s + 1) = r + (1 − r)/(T_lag s + 1)` with `r = T_lead/T_lag`; the lag behind a hold.
    pub fn scan(&mut self, signal: f64) -> f64 {
        while self.delayed.len() < self.delay {
            self.delayed.push_back(signal);
        }
        self.delayed.push_back(signal);
        let now = self.delayed.pop_front().unwrap_or(signal);
        let lagged = self.lagged.unwrap_or(now);
        self.lagged = Some(now + self.memory * (lagged - now));
        if self.memory == 0.0 {
            return self.gain * now;
        }
        self.gain * (self.direct * now + (1.0 - self.direct) * lagged)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn step_response_of_a_lead_lag_with_delay_is_analytic() {
        // Kff (1 + (lead/lag − 1) exp(−t/lag)) from the delay on (exact mathematics).
        let settings = FeedForward { signal: "feed".into(), gain: -2.0, lead: 30.0, lag: 10.0, delay: 3.0 };
        settings.validate().unwrap();
        let mut forward = Forward::new(&settings, 1.0).unwrap();
        assert_eq!(forward.scan(5.0), -10.0);
        for k in 0..40 {
            let t = f64::from(k) - 3.0;
            let expected = if t < 0.0 { -10.0 } else { -10.0 - 2.0 * (1.0 + 2.0 * (-t / 10.0).exp()) };
            assert!((forward.scan(6.0) - expected).abs() < 1e-12, "{k}");
        }
    }

    #[test]
    fn a_lead_without_a_lag_is_refused() {
        let settings = FeedForward { signal: "feed".into(), gain: 1.0, lead: 3.0, lag: 0.0, delay: 0.0 };
        assert!(settings.validate().unwrap_err().to_string().contains("lag of the feed-forward is 0"));
    }
}
