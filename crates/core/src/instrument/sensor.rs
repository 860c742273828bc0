//! Sensors: what the controller sees of a signal.

use super::Noise;
use crate::{Result, check};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// How a sensor shows its signal: lag and dead time first, then bias, drift and noise, then the ends of the span and
/// the resolution, then the filter. Everything is off where it is not given.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SensorSpec {
    /// Standard deviation of the noise, in the signal's unit; 0 or more.
    #[serde(default)]
    #[schema(minimum = 0)]
    pub noise: f64,
    /// Time constant of coloured noise in s; 0 for white noise.
    #[serde(default)]
    #[schema(minimum = 0)]
    pub noise_time_constant: f64,
    /// Time constant of the lag in s; 0 for none.
    #[serde(default)]
    #[schema(minimum = 0)]
    pub time_constant: f64,
    /// Damping ratio of a lag of second order, above 0; null for one of first order.
    #[serde(default)]
    #[schema(minimum = 0.01, maximum = 100)]
    pub damping: Option<f64>,
    /// Dead time in s, exact, as of a pipe between process and sensor; 0 or more.
    #[serde(default)]
    #[schema(minimum = 0)]
    pub dead_time: f64,
    /// Shown beyond the true value, in the signal's unit.
    #[serde(default)]
    pub bias: f64,
    /// Change of the bias, in the signal's unit per hour.
    #[serde(default)]
    pub drift: f64,
    /// Steps in which the value is shown, in the signal's unit; 0 for none.
    #[serde(default)]
    #[schema(minimum = 0)]
    pub resolution: f64,
    /// Share of the scans at which no value comes and the last one stands, 0 to 0.99.
    #[serde(default)]
    #[schema(minimum = 0, maximum = 0.99)]
    pub drop_out: f64,
    /// Whether it shows nothing beyond the ends of its span.
    #[serde(default)]
    pub within_span: bool,
    /// Time constant in s of the filter between sensor and controller; 0 for none.
    #[serde(default)]
    #[schema(minimum = 0)]
    pub filter: f64,
}

impl SensorSpec {
    /// White noise of this standard deviation and nothing else.
    #[must_use]
    pub fn with_noise(noise: f64) -> Self {
        Self { noise, ..Self::default() }
    }

    /// Refuses a sensor that cannot be.
    pub fn validate(&self, field: &str) -> Result<()> {
        let name = |part: &str| format!("{field}.{part}");
        for (part, value, unit) in [
            ("noise", self.noise, ""),
            ("noise_time_constant", self.noise_time_constant, "s"),
            ("time_constant", self.time_constant, "s"),
            ("dead_time", self.dead_time, "s"),
            ("resolution", self.resolution, ""),
            ("filter", self.filter, "s"),
        ] {
            check::not_negative(&name(part), value, unit)?;
        }
        if let Some(damping) = self.damping {
            check::within(&name("damping"), damping, 0.01, 100.0, "")?;
        }
        check::finite(&name("bias"), self.bias)?;
        check::finite(&name("drift"), self.drift)?;
        check::within(&name("drop_out"), self.drop_out, 0.0, 0.99, "").map(drop)
    }

    /// Whether nothing stands between the process and its measurement but what happens at a scan.
    #[must_use]
    pub fn is_prompt(&self) -> bool {
        self.time_constant == 0.0 && self.dead_time == 0.0
    }

    /// Factor by which the filter keeps its last value at a scan.
    #[must_use]
    pub fn filter_memory(&self, scan: f64) -> f64 {
        if self.filter > 0.0 { (-scan / self.filter).exp() } else { 0.0 }
    }
}

/// What a failed sensor shows.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Failure {
    /// The last value.
    Stuck,
    /// The lower end of its span.
    Low,
    /// The upper end of its span.
    High,
}

/// A sensor at work.
#[derive(Debug, Clone)]
pub struct Sensor {
    spec: SensorSpec,
    span: [f64; 2],
    noise: Noise,
    losses: Noise,
    memory: f64,
    push: f64,
    coloured: Option<f64>,
    filter_memory: f64,
    scan: f64,
    scans: f64,
    shown: Option<f64>,
    filtered: Option<f64>,
}

impl Sensor {
    /// The sensor of signal `tag` in a run with `seed`, read every `scan` s; `span` are the ends of its span.
    ///
    /// The noise depends on the tag and the seed alone, so that adding another source does not change it.
    #[must_use]
    pub fn new(spec: &SensorSpec, tag: &str, seed: u64, scan: f64, span: [f64; 2]) -> Self {
        let memory = if spec.noise_time_constant > 0.0 { (-scan / spec.noise_time_constant).exp() } else { 0.0 };
        Self {
            span,
            noise: Noise::new(tag, seed),
            losses: Noise::new(&format!("{tag} losses"), seed),
            memory,
            push: spec.noise * (1.0 - memory * memory).sqrt(),
            coloured: None,
            filter_memory: spec.filter_memory(scan),
            scan,
            scans: 0.0,
            shown: None,
            filtered: None,
            spec: spec.clone(),
        }
    }

    /// The measurement of `value`, once a scan.
    pub fn measure(&mut self, value: f64, failure: Option<Failure>) -> f64 {
        let mut shown = value + self.spec.bias + self.spec.drift * self.scans * self.scan / 3600.0;
        self.scans += 1.0;
        if self.spec.noise > 0.0 {
            let deviate = self.noise.normal();
            // The first value of coloured noise is as large as all others.
            let noise =
                self.coloured.map_or(self.spec.noise * deviate, |last| self.memory * last + self.push * deviate);
            self.coloured = Some(noise);
            shown += noise;
        }
        if self.spec.within_span {
            shown = shown.clamp(self.span[0], self.span[1]);
        }
        if self.spec.resolution > 0.0 {
            shown = (shown / self.spec.resolution).round() * self.spec.resolution;
        }
        let lost = self.spec.drop_out > 0.0 && self.losses.uniform() < self.spec.drop_out;
        shown = match failure {
            Some(Failure::Stuck) => self.shown.unwrap_or(shown),
            Some(Failure::Low) => self.span[0],
            Some(Failure::High) => self.span[1],
            None if lost => self.shown.unwrap_or(shown),
            None => shown,
        };
        self.shown = Some(shown);
        let before = self.filtered.unwrap_or(shown);
        let filtered = if self.filter_memory > 0.0 { shown + self.filter_memory * (before - shown) } else { shown };
        self.filtered = Some(filtered);
        filtered
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn sensor(spec: &SensorSpec, tag: &str, seed: u64) -> Sensor {
        Sensor::new(spec, tag, seed, 1.0, [0.0, 100.0])
    }

    fn deviation(values: &[f64]) -> f64 {
        let mean = values.iter().sum::<f64>() / values.len() as f64;
        (values.iter().map(|value| (value - mean).powi(2)).sum::<f64>() / values.len() as f64).sqrt()
    }

    #[test]
    fn noise_has_the_given_deviation_and_belongs_to_its_signal() {
        let spec = SensorSpec::with_noise(0.5);
        let draw = |tag: &str, seed| -> Vec<f64> {
            let mut sensor = sensor(&spec, tag, seed);
            (0..20_000).map(|_| sensor.measure(3.0, None)).collect()
        };
        let values = draw("A", 1);
        let mean = values.iter().sum::<f64>() / 2e4;
        // Five standard errors of mean and standard deviation.
        assert!((mean - 3.0).abs() < 5.0 * 0.5 / 2e4f64.sqrt());
        assert!((deviation(&values) - 0.5).abs() < 5.0 * 0.5 / 4e4f64.sqrt());
        assert_eq!(values, draw("A", 1));
        assert_ne!(values[..5], draw("A", 2)[..5]);
        assert_ne!(values[..5], draw("B", 1)[..5]);
    }

    #[test]
    fn coloured_noise_has_the_same_deviation_and_a_memory() {
        let spec = SensorSpec { noise_time_constant: 10.0, ..SensorSpec::with_noise(0.5) };
        let mut sensor = sensor(&spec, "A", 3);
        let values: Vec<f64> = (0..100_000).map(|_| sensor.measure(0.0, None)).collect();
        let correlation = values.windows(2).map(|pair| pair[0] * pair[1]).sum::<f64>() / 1e5 / 0.25;
        // An autoregression with exp(−h/τ); about ten independent samples in 200.
        assert!((deviation(&values) - 0.5).abs() < 0.03 && (correlation - (-0.1f64).exp()).abs() < 0.05);
    }

    #[test]
    fn everything_a_sensor_does_wrong() {
        let shown = |spec: SensorSpec, values: &[f64]| -> Vec<f64> {
            let mut sensor = sensor(&spec, "A", 1);
            values.iter().map(|value| sensor.measure(*value, None)).collect()
        };
        let none = SensorSpec::default();
        assert_eq!(shown(SensorSpec { bias: 2.0, drift: 3600.0, ..none.clone() }, &[1.0, 1.0]), [3.0, 4.0]);
        assert_eq!(shown(SensorSpec { resolution: 0.5, ..none.clone() }, &[1.2, 1.3]), [1.0, 1.5]);
        assert_eq!(shown(SensorSpec { within_span: true, ..none.clone() }, &[-5.0, 120.0]), [0.0, 100.0]);
        let filtered = shown(SensorSpec { filter: 1.0, ..none.clone() }, &[0.0, 1.0, 1.0]);
        assert!((filtered[2] - (1.0 - (-2.0f64).exp())).abs() < 1e-12);
        let kept = shown(SensorSpec { drop_out: 0.4, ..none.clone() }, &(0..5000).map(f64::from).collect::<Vec<_>>());
        let losses = kept.windows(2).filter(|pair| pair[0] == pair[1]).count();
        assert!((losses as f64 - 2000.0).abs() < 200.0, "{losses}");
        let mut failing = sensor(&none, "A", 1);
        failing.measure(7.0, None);
        assert_eq!(failing.measure(9.0, Some(Failure::Stuck)), 7.0);
        assert_eq!(failing.measure(9.0, Some(Failure::High)), 100.0);
        assert_eq!(failing.measure(9.0, None), 9.0);
    }
}
