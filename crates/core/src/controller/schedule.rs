//! Gains that depend on a signal.

use super::{PidSettings, Reading};
use crate::{Error, Result, check};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What a schedule goes by.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum ScheduledOver {
    /// The PV in % of span.
    Measurement,
    /// The set point in % of span.
    SetPoint,
    /// The size of the error in % of span: a gain that adapts to how far off the PV is.
    Error,
    /// The last output in %.
    Output,
    /// An output or input of the process by name, in its unit.
    Signal(String),
}

/// Settings at a value of what a schedule goes by.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SchedulePoint {
    /// The value.
    pub at: f64,
    /// Factor on the controller gain there, above 0.
    #[schema(exclusive_minimum = 0)]
    pub gain_factor: f64,
    /// Factor on integral and derivative time there, above 0.
    #[serde(default = "one")]
    #[schema(exclusive_minimum = 0)]
    pub time_factor: f64,
}

fn one() -> f64 {
    1.0
}

/// A gain schedule: straight between its points, constant beyond them (Åström & Hägglund 2006, section 9.3).
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct GainSchedule {
    /// What it goes by.
    pub over: ScheduledOver,
    /// At least two points, rising in `at`.
    pub points: Vec<SchedulePoint>,
}

impl GainSchedule {
    pub(super) fn validate(&self, settings: &PidSettings) -> Result<()> {
        let field = "controller.schedule.points";
        if self.points.len() < 2 {
            return Err(Error::invalid(field, format!("{} of them", self.points.len()), "at least two"));
        }
        for (k, point) in self.points.iter().enumerate() {
            check::finite(&format!("{field}.{k}.at"), point.at)?;
            check::positive(&format!("{field}.{k}.gain_factor"), point.gain_factor, "")?;
            check::positive(&format!("{field}.{k}.time_factor"), point.time_factor, "")?;
            check::finite(&format!("{field}.{k}.gain_factor"), point.gain_factor * settings.gain)?;
        }
        if let Some(k) = self.points.windows(2).position(|pair| pair[1].at <= pair[0].at) {
            let (at, before) = (self.points[k + 1].at, self.points[k].at);
            return Err(Error::invalid(
                format!("{field}.{}.at", k + 1),
                at,
                format!("above the point before, {before}"),
            ));
        }
        Ok(())
    }

    /// The signal of the process that it goes by, if it does.
    pub(super) fn signal(&self) -> Option<&str> {
        if let ScheduledOver::Signal(name) = &self.over { Some(name) } else { None }
    }

    /// The settings in force.
    pub(super) fn settings(&self, base: &PidSettings, reading: Reading, measurement: f64, output: f64) -> PidSettings {
        let at = match self.over {
            ScheduledOver::Measurement => measurement,
            ScheduledOver::SetPoint => reading.set_point,
            ScheduledOver::Error => (reading.set_point - measurement).abs(),
            ScheduledOver::Output => output,
            ScheduledOver::Signal(_) => reading.further.first().copied().unwrap_or(0.0),
        };
        let (gain, time) = self.factors(at);
        let time_of = |value: f64| value * time;
        PidSettings {
            gain: base.gain * gain,
            integral_time: base.integral_time.map(time_of),
            derivative_time: time_of(base.derivative_time),
            schedule: None,
            feed_forward: None,
            ..base.clone()
        }
    }

    /// Factors on gain and times at a value.
    fn factors(&self, at: f64) -> (f64, f64) {
        let after = self.points.partition_point(|point| point.at <= at).clamp(1, self.points.len() - 1);
        let (a, b) = (self.points[after - 1], self.points[after]);
        let share = ((at - a.at) / (b.at - a.at)).clamp(0.0, 1.0);
        let between = |from: f64, to: f64| from + share * (to - from);
        (between(a.gain_factor, b.gain_factor), between(a.time_factor, b.time_factor))
    }
}

#[cfg(test)]
mod tests {
    use super::super::{Controller, Pid};
    use super::*;

    fn scheduled(over: ScheduledOver) -> PidSettings {
        let point = |at, gain_factor| SchedulePoint { at, gain_factor, time_factor: 1.0 };
        let points = vec![point(20.0, 1.0), point(60.0, 3.0)];
        PidSettings { schedule: Some(GainSchedule { over, points }), ..PidSettings::pi(2.0, 50.0) }
    }

    #[test]
    fn factors_are_straight_between_points_and_constant_beyond() {
        let settings = scheduled(ScheduledOver::Measurement);
        let schedule = settings.schedule.as_ref().unwrap();
        assert_eq!([0.0, 20.0, 30.0, 60.0, 90.0].map(|at| schedule.factors(at).0), [1.0, 1.0, 1.5, 3.0, 3.0]);
    }

    #[test]
    fn a_gain_that_changes_at_rest_on_an_error_does_not_bump_the_output() {
        let mut pid = Pid::new(&scheduled(ScheduledOver::Signal("feed".to_owned())), 1.0).unwrap();
        let reading = |feed: &'static [f64]| Reading { set_point: 50.0, measurement: 45.0, further: feed };
        pid.track(reading(&[20.0]), 40.0);
        let first = pid.scan(reading(&[20.0]));
        // Only integration goes on, three times as fast.
        let second = pid.scan(reading(&[60.0]));
        assert!((first - 40.2).abs() < 1e-12 && (second - 40.8).abs() < 1e-12, "{first} {second}");
    }

    #[test]
    fn points_out_of_order_are_refused() {
        let mut settings = scheduled(ScheduledOver::Output);
        settings.schedule.as_mut().unwrap().points[1].at = 5.0;
        let error = settings.validate().unwrap_err().to_string();
        assert_eq!(error, "The time of point 2 is 5: it must be above the point before, 20.");
    }
}
