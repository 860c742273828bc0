//! The digital PID controller.

use super::feed_forward::Forward;
use super::{Action, AntiWindup, Controller, Explanation, OutputLimits, PidSettings, Reading};
use crate::{Result, check};

/// A PID controller at work.
///
/// Each scan adds `Kc·h/Ti·(r − y)` to the integral before the output is formed, and then takes back `h/Tt` of what
/// the limits cut off, so that the output leaves a limit as soon as the terms point inwards
/// (back-calculation; Åström & Hägglund 2006, section 3.5). The velocity algorithm is the same with all of it taken back
/// at once: `u[k] = limit(u[k−1] + ΔP + ΔI + ΔD)`.
#[derive(Debug, Clone)]
pub struct Pid {
    settings: PidSettings,
    scan: f64,
    sign: f64,
    gains: Gains,
    tracking_factor: f64,
    filter_memory: f64,
    limits: OutputLimits,
    most_change: f64,
    integral: f64,
    derivative: f64,
    forward: Option<Forward>,
    filtered: Option<f64>,
    last_difference: Option<f64>,
    last_output: Option<f64>,
    /// What the last scan added to the integral.
    increment: f64,
    explanation: Explanation,
}

/// Settings as factors of one scan.
#[derive(Debug, Clone, Copy, PartialEq)]
struct Gains {
    gain: f64,
    integral_factor: f64,
    derivative_memory: f64,
    derivative_push: f64,
}

impl Gains {
    fn new(settings: &PidSettings, scan: f64) -> Self {
        let (derivative_memory, derivative_push) = settings.derivative_factors(scan);
        Self {
            gain: settings.gain,
            integral_factor: settings.integral_time.map_or(0.0, |time| settings.gain * scan / time),
            derivative_memory,
            derivative_push,
        }
    }
}

impl Pid {
    /// A controller scanned every `scan` seconds; it starts from output 0 % unless it is told to track another.
    pub fn new(settings: &PidSettings, scan: f64) -> Result<Self> {
        settings.validate()?;
        check::positive("scenario.scan", scan, "s")?;
        Ok(Self {
            gains: Gains::new(settings, scan),
            tracking_factor: settings.tracking_factor(scan),
            filter_memory: settings.filter_memory(scan),
            sign: settings.action.sign(),
            limits: settings.output_limits,
            most_change: settings.rate_limit.map_or(f64::INFINITY, |rate| rate * scan),
            integral: 0.0,
            derivative: 0.0,
            forward: settings.feed_forward.as_ref().map(|forward| Forward::new(forward, scan)).transpose()?,
            filtered: None,
            last_difference: None,
            last_output: None,
            increment: 0.0,
            explanation: Explanation::default(),
            scan,
            settings: settings.clone(),
        })
    }

    /// The action.
    #[must_use]
    pub fn action(&self) -> Action {
        self.settings.action
    }

    /// Takes in a reading: returns the error that counts and the terms that follow from the reading alone, proportional and
    /// feed-forward.
    #[inline]
    fn take_in(&mut self, reading: Reading) -> (f64, f64, f64) {
        let measurement = if self.filter_memory > 0.0 {
            let last = self.filtered.unwrap_or(reading.measurement);
            reading.measurement + self.filter_memory * (last - reading.measurement)
        } else {
            reading.measurement
        };
        self.filtered = Some(measurement);
        let error = reading.set_point - measurement;
        let error = if self.settings.gap > 0.0 { self.settings.counted(error) } else { error };
        let weighted = self.sign * (error - (1.0 - self.settings.set_point_weight) * reading.set_point);
        if self.settings.schedule.is_some() {
            self.reschedule(reading, measurement, weighted);
        }
        let difference = self.settings.derivative_set_point_weight * reading.set_point - measurement;
        let change = difference - self.last_difference.unwrap_or(difference);
        let Gains { derivative_memory, derivative_push, .. } = self.gains;
        self.derivative = derivative_memory * self.derivative + self.sign * derivative_push * change;
        self.last_difference = Some(difference);
        let forward = match &mut self.forward {
            Some(forward) => forward.scan(reading.further.last().copied().unwrap_or(0.0)),
            None => 0.0,
        };
        (error, self.gains.gain * weighted, forward)
    }

    /// Takes over the settings of the schedule; the integral takes up what the proportional term would jump by.
    fn reschedule(&mut self, reading: Reading, measurement: f64, weighted: f64) {
        let Some(schedule) = &self.settings.schedule else { return };
        let output = self.last_output.unwrap_or(0.0);
        let settings = schedule.settings(&self.settings, reading, measurement, output);
        let gains = Gains::new(&settings, self.scan);
        if gains.gain != self.gains.gain {
            self.integral += (self.gains.gain - gains.gain) * weighted;
            self.derivative *= gains.gain / self.gains.gain;
        }
        self.gains = gains;
    }

    /// Whether the integral is kept within the limits of the output.
    fn clamps(&self) -> bool {
        self.tracking_factor == 0.0 && self.settings.anti_windup == AntiWindup::Clamping
    }

    /// An output within the limits, in reach of the last one.
    fn limited(&self, output: f64) -> f64 {
        let within = output.clamp(self.limits.low, self.limits.high);
        match self.last_output {
            Some(last) if self.most_change < f64::INFINITY => {
                within.clamp(last - self.most_change, last + self.most_change)
            }
            _ => within,
        }
    }

    /// Takes back what the last scan added to the integral, where it points the way of `direction`: something below cannot
    /// follow that way.
    pub(super) fn hold_back(&mut self, direction: f64) {
        if self.increment * direction > 0.0 {
            self.integral -= self.increment;
            self.increment = 0.0;
        }
    }
}

impl Controller for Pid {
    fn scan(&mut self, reading: Reading) -> f64 {
        let (error, proportional, feed_forward) = self.take_in(reading);
        self.increment = self.sign * self.gains.integral_factor * error;
        self.integral += self.increment;
        if self.clamps() {
            // What the weight of the set point takes off the proportional term stands in the integral: its room is shifted by
            // as much, and so it is by a feed-forward.
            let weight = self.settings.set_point_weight;
            let shift = feed_forward - self.sign * self.gains.gain * (1.0 - weight) * reading.set_point;
            self.integral = self.integral.clamp(self.limits.low - shift, self.limits.high - shift);
        }
        let unlimited = proportional + self.integral + self.derivative + feed_forward;
        let limited = self.limited(unlimited);
        self.explanation = Explanation {
            proportional,
            integral: self.integral,
            derivative: self.derivative,
            feed_forward,
            unlimited,
            limited,
        };
        let excess = unlimited - limited;
        if excess != 0.0 {
            match self.settings.anti_windup {
                _ if self.tracking_factor > 0.0 => self.integral -= self.tracking_factor * excess,
                AntiWindup::Conditional => self.hold_back(excess),
                _ => {}
            }
        }
        self.last_output = Some(limited);
        limited
    }

    fn track(&mut self, reading: Reading, output: f64) {
        let (_, proportional, feed_forward) = self.take_in(reading);
        self.integral = output - proportional - self.derivative - feed_forward;
        self.increment = 0.0;
        self.last_output = Some(output);
        self.explanation = Explanation {
            proportional,
            integral: self.integral,
            derivative: self.derivative,
            feed_forward,
            unlimited: output,
            limited: output,
        };
    }

    fn explain(&self) -> Explanation {
        self.explanation
    }

    fn overridden(&mut self, by: f64) {
        let excess = self.explanation.limited - by;
        match self.settings.anti_windup {
            _ if self.tracking_factor > 0.0 => self.integral -= self.tracking_factor * excess,
            AntiWindup::Conditional | AntiWindup::Clamping => self.hold_back(excess),
            _ => {}
        }
        self.last_output = Some(by);
    }

    fn wait(&mut self, direction: f64) {
        self.hold_back(direction);
    }

    fn sense(&self) -> f64 {
        self.sign
    }
}

#[cfg(test)]
mod tests {
    use super::super::Algorithm;
    use super::*;
    use num_complex::Complex64;
    use proptest::prelude::*;

    fn reading(set_point: f64, measurement: f64) -> Reading<'static> {
        Reading { set_point, measurement, further: &[] }
    }

    #[test]
    fn integral_repeats_the_proportional_move_in_the_integral_time() {
        // The definition of the integral time of the ideal form.
        let mut pid = Pid::new(&PidSettings::pi(2.0, 10.0), 0.01).unwrap();
        pid.track(reading(50.0, 50.0), 40.0);
        for _ in 0..1000 {
            pid.scan(reading(53.0, 50.0));
        }
        let terms = pid.explain();
        assert!((terms.limited - (40.0 + 2.0 * 3.0 + 2.0 * 3.0)).abs() < 1e-9, "{terms:?}");
    }

    #[test]
    fn takes_over_without_a_bump() {
        let settings = PidSettings { derivative_time: 2.0, ..PidSettings::pi(3.0, 20.0) };
        let mut pid = Pid::new(&settings, 1.0).unwrap();
        for k in 0..5 {
            pid.track(reading(60.0, 58.0 + f64::from(k)), 33.0);
        }
        // At rest and on set point the next output differs by the decaying derivative alone.
        let before = pid.explain().derivative;
        let output = pid.scan(reading(60.0, 62.0));
        let integral_step = 3.0 / 20.0 * -2.0;
        assert!((output - (33.0 + integral_step + pid.explain().derivative - before)).abs() < 1e-12);
    }

    #[test]
    fn leaves_the_limit_when_the_error_turns() {
        let run = |tracking_time| {
            let settings = PidSettings { tracking_time, ..PidSettings::pi(1.0, 5.0) };
            let mut pid = Pid::new(&settings, 1.0).unwrap();
            pid.track(reading(50.0, 50.0), 95.0);
            for _ in 0..500 {
                assert_eq!(pid.scan(reading(60.0, 50.0)), 100.0);
            }
            (1..1000).find(|_| pid.scan(reading(60.0, 62.0)) < 100.0)
        };
        assert_eq!(run(None), Some(1));
        assert!(run(Some(1e9)).unwrap_or(1000) > 400, "without back-calculation it winds up");
    }

    #[test]
    fn direct_action_mirrors_reverse_action() {
        let output = |action, pv: f64| {
            let mut pid =
                Pid::new(&PidSettings { action, derivative_time: 1.0, ..PidSettings::pi(1.0, 5.0) }, 1.0).unwrap();
            pid.track(reading(50.0, 50.0), 50.0);
            pid.scan(reading(50.0, pv));
            pid.scan(reading(50.0, pv))
        };
        assert!((output(Action::Reverse, 52.0) - output(Action::Direct, 48.0)).abs() < 1e-12);
        assert!(output(Action::Reverse, 52.0) < 50.0);
    }

    #[test]
    fn sampled_response_is_that_of_the_code() {
        // Drive the controller open loop with a sine and compare the settled output with the response.
        let settings = PidSettings {
            derivative_time: 4.0,
            derivative_filter: 8.0,
            output_limits: OutputLimits { low: -1000.0, high: 1000.0 },
            ..PidSettings::pi(1.7, 12.0)
        };
        let (scan, omega) = (0.5, 0.3);
        let expected = settings.sampled_response(omega, scan);
        let mut pid = Pid::new(&settings, scan).unwrap();
        let tone = |k: u32| Complex64::from_polar(1.0, omega * scan * f64::from(k));
        pid.track(reading(0.0, -1.0), (expected * tone(0)).re);
        let mut offset = Vec::new();
        for k in 1..600 {
            let output = pid.scan(reading(0.0, -tone(k).re));
            offset.push(output - (expected * tone(k)).re);
        }
        // What is left is the constant that the integral started with.
        let last = offset[598];
        assert!(offset[300..].iter().all(|value| (value - last).abs() < 1e-9));
        // And for fast scans it is the continuous one.
        assert!((settings.sampled_response(omega, 1e-6) - settings.response(omega)).norm() < 1e-5);
    }

    #[test]
    fn settings_that_cannot_work_are_named() {
        let refused = |settings: PidSettings| settings.validate().unwrap_err().to_string();
        assert_eq!(refused(PidSettings::pi(-1.0, 5.0)), "The gain of the controller is -1 %/%: it must be above 0.");
        assert_eq!(
            refused(PidSettings::pi(1.0, 0.0)),
            "The integral time of the controller is 0 s: it must be above 0."
        );
        let limits = OutputLimits { low: 80.0, high: 20.0 };
        assert_eq!(
            refused(PidSettings { output_limits: limits, ..PidSettings::pi(1.0, 1.0) }),
            "The high end of the output limits is 20 %: it must be above the low limit, 80 %."
        );
        assert!(refused(PidSettings { set_point_weight: 1.5, ..PidSettings::pi(1.0, 1.0) }).contains("0 to 1"));
    }

    const WAYS: [AntiWindup; 4] =
        [AntiWindup::BackCalculation, AntiWindup::Conditional, AntiWindup::Clamping, AntiWindup::None];

    proptest! {
        /// While the set point stands, its weight changes nothing, in and out of every limit, whatever guards the integral:
        /// the integral carries what the weight takes off.
        #[test]
        fn the_weight_of_a_set_point_that_stands_changes_nothing(
            weight in 0.0..1.0f64,
            gain in 0.2..8.0f64,
            integral_time in 1.0..50.0f64,
            set_point in 5.0..95.0f64,
            start in 5.0..95.0f64,
            steps in proptest::collection::vec((-40.0..40.0f64, 1usize..30), 1..12),
            way in 0usize..5,
        ) {
            let settings = |set_point_weight: f64| PidSettings {
                set_point_weight,
                anti_windup: WAYS[way.min(3)],
                algorithm: if way == 4 { Algorithm::Velocity } else { Algorithm::Positional },
                ..PidSettings::pi(gain, integral_time)
            };
            let mut pair = [1.0, weight].map(|weight| Pid::new(&settings(weight), 1.0).unwrap());
            for pid in &mut pair {
                pid.track(reading(set_point, set_point), start);
            }
            for (error, count) in steps {
                for _ in 0..count {
                    let [a, b] = &mut pair;
                    let (a, b) = (a.scan(reading(set_point, set_point - error)), b.scan(reading(set_point, set_point - error)));
                    prop_assert!((a - b).abs() < 1e-8, "{a} {b}");
                }
            }
        }

        /// Of the ways that guard the integral every one leaves the limit as soon as the error has turned for good; the
        /// one that does not guard it stays.
        #[test]
        fn what_guards_the_integral_leaves_the_limit_when_the_error_turns(
            gain in 0.5..5.0f64, integral_time in 2.0..20.0f64, weight in 0.0..1.0f64, long in 100usize..400,
        ) {
            for way in WAYS {
                let settings =
                    PidSettings { anti_windup: way, set_point_weight: weight, ..PidSettings::pi(gain, integral_time) };
                let mut pid = Pid::new(&settings, 1.0).unwrap();
                pid.track(reading(50.0, 50.0), 60.0);
                for _ in 0..long {
                    pid.scan(reading(50.0, 30.0));
                }
                let stays = (0..60).take_while(|_| pid.scan(reading(50.0, 55.0)) >= 100.0 - 1e-9).count();
                if way == AntiWindup::None {
                    prop_assert!(stays > 20, "{way:?} {stays}");
                } else {
                    prop_assert!(stays <= 1, "{way:?} {stays}");
                }
            }
        }
    }
}
