//! Inputs of the process that are measured, at work: what comes in, behind the dead time and the lag of a sensor.

use super::plant::Plant;
use super::schedule::{Scans, Schedule};
use super::timeline::{Cursor, Timeline};
use crate::instrument::{Failure, Sensor, SensorSpec};
use crate::units::Span;
use nalgebra::{Matrix2, Vector2};

/// How near to an end of its span a signal stands at it, %.
const AT_END: f64 = 1e-9;

/// An input and its sensor.
pub(super) struct MeasuringInput {
    pub span: Span,
    pub input: usize,
    dead_time: f64,
    lag: Option<Lag>,
    sensor: Sensor,
    failing: Vec<(Scans, Failure)>,
    cursor: Cursor,
    /// What is seen behind dead time and lag has been followed until then, s.
    until: f64,
    /// What it shows.
    pub measurement: f64,
    /// What it last showed between the ends of its span, where nothing is to be believed (common practice).
    pub believed: f64,
}

/// The lag of a sensor: `τ² y'' + 2ζτ y' + y = u`, or `τ y' + y = u`.
struct Lag {
    time_constant: f64,
    damping: Option<f64>,
    /// What is shown, and how fast that moves.
    shown: Vector2<f64>,
}

impl Lag {
    fn of(sensor: &SensorSpec, at_rest: f64) -> Option<Self> {
        let SensorSpec { time_constant, damping, .. } = *sensor;
        (time_constant > 0.0).then(|| Self { time_constant, damping, shown: Vector2::new(at_rest, 0.0) })
    }

    /// Follows a signal that runs straight from `value` with `slope`, for `time` seconds. Exact: what is off from the answer to a ramp
    /// dies down by the matrix exponential.
    fn follow(&mut self, value: f64, slope: f64, time: f64) {
        let tau = self.time_constant;
        match self.damping {
            None => {
                let behind = self.shown[0] - (value - slope * tau);
                self.shown[0] = value + slope * (time - tau) + behind * (-time / tau).exp();
            }
            Some(damping) => {
                let behind = 2.0 * damping * tau * slope;
                let off = self.shown - Vector2::new(value - behind, slope);
                let rates = Matrix2::new(0.0, 1.0, -tau.powi(-2), -2.0 * damping / tau);
                self.shown = Vector2::new(value + slope * time - behind, slope) + (rates * time).exp() * off;
            }
        }
    }
}

impl MeasuringInput {
    /// Those of a plant, whose inputs are at `positions`, at rest.
    pub fn all(plant: &Plant, positions: &[usize], schedule: &mut Schedule, (seed, scan): (u64, f64)) -> Vec<Self> {
        let mut failing = std::mem::take(&mut schedule.disturbance_sensors).into_iter();
        let signals = plant.measured_disturbances.iter().zip(positions);
        signals
            .map(|(signal, input)| {
                let at_rest = schedule.inputs[*input].value(f64::NEG_INFINITY, 0.0);
                let ends = [signal.span.low, signal.span.high];
                Self {
                    span: signal.span.clone(),
                    input: *input,
                    dead_time: signal.sensor.dead_time,
                    lag: Lag::of(&signal.sensor, at_rest),
                    sensor: Sensor::new(&signal.sensor, &signal.tag, seed, scan, ends),
                    failing: failing.next().unwrap_or_default(),
                    cursor: Cursor::default(),
                    until: -signal.sensor.dead_time,
                    measurement: at_rest,
                    believed: at_rest,
                }
            })
            .collect()
    }

    /// Measures at a scan, at `time`.
    pub fn measure(&mut self, scan_number: usize, (time, slack): (f64, f64), inputs: &[Timeline]) {
        let (course, seen_at) = (&inputs[self.input], time - self.dead_time);
        let seen = match &mut self.lag {
            None => course.at(&mut self.cursor, seen_at, slack).0,
            Some(lag) => {
                while self.until < seen_at - slack {
                    let (value, slope, knot) = course.at(&mut self.cursor, self.until, slack);
                    let next = knot.min(seen_at);
                    lag.follow(value, slope, next - self.until);
                    self.until = next;
                }
                lag.shown[0]
            }
        };
        let failure = self.failing.iter().find(|(scans, _)| scans.contains(&scan_number));
        self.measurement = self.sensor.measure(seen, failure.map(|(_, how)| *how));
        let percent = self.span.to_percent(self.measurement);
        if percent.abs() > AT_END && (percent - 100.0).abs() > AT_END {
            self.believed = self.measurement;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::super::timeline::Changes;
    use super::*;
    use proptest::prelude::*;

    /// Two equations of the first order for the lag, by small steps of a method of its own.
    fn by_small_steps(sensor: &SensorSpec, course: &Timeline, until: f64) -> f64 {
        let (tau, steps) = (sensor.time_constant, 40_000);
        let h = until / f64::from(steps);
        let mut x = [course.value(0.0, 0.0), 0.0];
        let rates = |t: f64, x: [f64; 2]| match sensor.damping {
            None => [(course.value(t, 0.0) - x[0]) / tau, 0.0],
            Some(damping) => [x[1], ((course.value(t, 0.0) - x[0]) / tau - 2.0 * damping * x[1]) / tau],
        };
        for k in 0..steps {
            let t = f64::from(k) * h;
            let first = rates(t, x);
            let middle = rates(t + 0.5 * h, [x[0] + 0.5 * h * first[0], x[1] + 0.5 * h * first[1]]);
            x = [x[0] + h * middle[0], x[1] + h * middle[1]];
        }
        x[0]
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(24))]

        /// Against the equations of the lag by small steps: ramps and steps between scans.
        #[test]
        fn a_lag_follows_whatever_runs_straight_between_knots(
            tau in 0.5f64..20.0,
            damping in proptest::option::of(0.2f64..2.5),
            jumps in proptest::collection::vec((0.0f64..30.0, -3.0f64..3.0, 0.0f64..8.0), 1..5),
        ) {
            let mut changes = Changes::default();
            for (at, by, over) in &jumps {
                if *over < 1.0 { changes.step(*at, *by) } else { changes.ramp(*at, *by, *over) }
            }
            let course = [changes.timeline(5.0)];
            let sensor = SensorSpec { time_constant: tau, damping, ..SensorSpec::default() };
            let mut measuring = MeasuringInput {
                span: Span::new(0.0, 100.0, "%"),
                input: 0,
                dead_time: 0.0,
                lag: Lag::of(&sensor, 5.0),
                sensor: Sensor::new(&sensor, "F", 1, 1.0, [0.0, 100.0]),
                failing: Vec::new(),
                cursor: Cursor::default(),
                until: 0.0,
                measurement: 5.0,
                believed: 5.0,
            };
            for scan in 0..=40 {
                measuring.measure(scan, (scan as f64, 1e-9), &course);
            }
            let exact = by_small_steps(&sensor, &course[0], 40.0);
            prop_assert!((measuring.measurement - exact).abs() < 5e-3, "{} {exact}", measuring.measurement);
        }
    }
}
