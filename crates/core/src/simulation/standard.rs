//! The scenario that every loop begins with: a set point step, then a load, both seen through to the end.

use super::{Event, Scenario};
use crate::process::LinearSpec;
use crate::units::Span;

impl Scenario {
    /// A set point step and then a load step at the process input, for a loop of this closed-loop time constant (s).
    ///
    /// The scan is about a fortieth of dead time plus time constant (10 to 20 scans in the rise time, common practice),
    /// the set point moves by about 4 % of span, the load is as large as a move of the OP by 10 %. All are round
    /// numbers.
    #[must_use]
    pub fn standard(process: &LinearSpec, pv_span: &Span, closed_loop_time_constant: f64) -> Self {
        let scale = process.time_scale().max(closed_loop_time_constant);
        let scan = round_down(process.time_scale() / 40.0).clamp(0.01, 60.0);
        let lag = process.time_scale() - process.dead_time();
        let settles = round_up(7.0 * (closed_loop_time_constant + process.dead_time()) + lag);
        let lead = round_up(0.4 * scale);
        Self {
            duration: lead + 2.0 * settles,
            scan,
            seed: 1,
            events: vec![
                Event::set_point(lead, round_down(0.04 * pv_span.width())),
                Event::load(lead + settles, -10.0),
            ],
            further: Default::default(),
        }
    }
}

/// The next number of 1, 2 or 5 times a power of ten at or below `value`, which is above 0.
#[must_use]
pub fn round_down(value: f64) -> f64 {
    let power = 10f64.powf(value.log10().floor());
    [5.0, 2.0].into_iter().find(|step| step * power <= value * (1.0 + 1e-9)).unwrap_or(1.0) * power
}

/// The next multiple of a tenth of a power of ten at or above `value`, which is above 0.
fn round_up(value: f64) -> f64 {
    let step = round_down(value / 10.0);
    (value / step).ceil() * step
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_are_round() {
        assert_eq!([0.7, 1.0, 2.0, 4.9, 5.0, 38.0, 0.02].map(round_down), [0.5, 1.0, 2.0, 2.0, 5.0, 20.0, 0.02]);
        assert_eq!([101.0, 120.0, 7.3].map(round_up), [110.0, 120.0, 7.5]);
    }

    #[test]
    fn every_loop_gets_a_scenario_that_can_be_run() {
        let span = Span::new(0.0, 150.0, "°C");
        for (tau, theta, tau_c) in [(0.05, 0.01, 0.02), (95.0, 34.6, 34.6), (1.0, 600.0, 600.0), (40_000.0, 0.0, 900.0)]
        {
            let process = LinearSpec::Fopdt { gain: 1.0, time_constant: tau, dead_time: theta };
            let scenario = Scenario::standard(&process, &span, tau_c);
            assert!(scenario.scans() > 40 && scenario.scans() < 200_000, "{scenario:?}");
            assert!(scenario.events.iter().all(|event| event.at() < scenario.duration));
        }
    }
}
