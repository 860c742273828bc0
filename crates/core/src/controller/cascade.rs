//! Cascade: an outer controller that sets the set point of an inner one.

use super::{Controller, Explanation, Pid, PidSettings, Reading};
use crate::units::Span;
use crate::{Error, Result};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Two PID controllers in cascade (Seborg, Edgar & Mellichamp, Process Dynamics and Control, ch. 16). The output of the
/// outer one, 0 to 100 %, is the set point of the inner one over its span. While the inner one cannot follow, the integral
/// of the outer one waits in that direction; in manual the outer output tracks the inner PV.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct CascadeSettings {
    /// The controller of the PV.
    pub outer: PidSettings,
    /// The controller of the signal in between.
    pub inner: PidSettings,
    /// The signal in between: an output of the process by name.
    pub signal: String,
    /// Its span.
    pub span: Span,
}

impl CascadeSettings {
    /// Refuses settings that cannot work, naming the field.
    pub fn validate(&self) -> Result<()> {
        self.outer.validate()?;
        self.inner.validate()?;
        self.span.validate("controller.span")?;
        if !self.outer.reads().is_empty() || !self.inner.reads().is_empty() {
            return Err(Error::invalid(
                "controller",
                "a cascade with schedules or feed-forward over signals",
                "schedules over measurement, set point, error or output",
            ));
        }
        Ok(())
    }
}

/// A cascade at work.
pub struct Cascade {
    outer: Pid,
    inner: Pid,
    span: Span,
}

impl Cascade {
    /// A cascade scanned every `scan` seconds.
    pub fn new(settings: &CascadeSettings, scan: f64) -> Result<Self> {
        settings.validate()?;
        Ok(Self {
            outer: Pid::new(&settings.outer, scan)?,
            inner: Pid::new(&settings.inner, scan)?,
            span: settings.span.clone(),
        })
    }

    fn inner_percent(&self, reading: Reading) -> f64 {
        self.span.to_percent(reading.further.first().copied().unwrap_or(0.0))
    }
}

impl Controller for Cascade {
    fn scan(&mut self, reading: Reading) -> f64 {
        let measurement = self.inner_percent(reading);
        let set_point = self.outer.scan(Reading { further: &[], ..reading });
        let output = self.inner.scan(Reading { set_point, measurement, further: &[] });
        let excess = self.inner.explain().unlimited - output;
        if excess != 0.0 {
            // A higher inner set point moves the output the way of the inner action.
            self.outer.hold_back(excess * self.inner.action().sign());
        }
        output
    }

    fn track(&mut self, reading: Reading, output: f64) {
        let measurement = self.inner_percent(reading);
        self.outer.track(Reading { further: &[], ..reading }, measurement);
        self.inner.track(Reading { set_point: measurement, measurement, further: &[] }, output);
    }

    fn explain(&self) -> Explanation {
        self.inner.explain()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_outer_integral_waits_while_the_inner_output_is_at_its_limit() {
        let settings = CascadeSettings {
            outer: PidSettings::pi(1.0, 20.0),
            inner: PidSettings::pi(3.0, 5.0),
            signal: "jacket".into(),
            span: Span::new(0.0, 200.0, "°C"),
        };
        let mut cascade = Cascade::new(&settings, 1.0).unwrap();
        let reading = |set_point: f64| Reading { set_point, measurement: 50.0, further: &[100.0] };
        cascade.track(reading(50.0), 90.0);
        // The jacket does not move: the inner output runs into its limit, and the outer one stays in reach of it.
        let outputs: Vec<f64> = (0..400).map(|_| cascade.scan(reading(52.0))).collect();
        assert_eq!(outputs[399], 100.0);
        assert!(cascade.outer.explain().limited < 56.0, "{:?}", cascade.outer.explain());
        assert!(cascade.scan(reading(40.0)) < 100.0);
    }
}
