//! The explicit method in dual numbers: states with their exact derivatives by parameters, starts and instants.
//!
//! The derivatives are those of the steps as they are taken, whose sizes follow the states alone. A step may end at an instant
//! that depends on an unknown, a dead time: then its size is a dual number, and what the switch there does to the states is
//! carried along like all else.

use super::explicit::{ERROR_WEIGHTS, NODES, ORDER, WEIGHTS};
use super::{Breakdown, weighted_norm};
use crate::numerics::Dual;

/// `x'` at a time and a state, into the last argument, all in dual numbers.
pub type DualRates<'a> = dyn FnMut(Dual, &[Dual], &mut [Dual]) + 'a;

/// Carries states and their derivatives forward in time.
#[derive(Debug, Clone)]
pub struct ExactIntegrator {
    relative: f64,
    absolute: Vec<f64>,
    suggested: f64,
    stages: [Vec<Dual>; 7],
    at: Vec<Dual>,
    after: Vec<Dual>,
    plain: [Vec<f64>; 3],
}

impl ExactIntegrator {
    /// One for as many states as there are absolute tolerances, with this relative tolerance of each.
    #[must_use]
    pub fn new(relative: f64, absolute: Vec<f64>) -> Self {
        let n = absolute.len();
        let zeros = || vec![Dual::from(0.0); n];
        Self {
            relative,
            absolute,
            suggested: 0.0,
            stages: std::array::from_fn(|_| zeros()),
            at: zeros(),
            after: zeros(),
            plain: std::array::from_fn(|_| vec![0.0; n]),
        }
    }

    /// One accepted step from `t` towards `until`, and not beyond; returns where it has come to.
    pub fn step(&mut self, rates: &mut DualRates<'_>, x: &mut [Dual], t: Dual, until: Dual) -> Result<Dual, Breakdown> {
        let room = (until - t).re;
        let smallest = 16.0 * f64::EPSILON * t.re.abs().max(until.re.abs()).max(room);
        rates(t, x, &mut self.stages[0]);
        if let Some(state) = self.stages[0].iter().position(|rate| !rate.re.is_finite()) {
            return Err(Breakdown::NotFinite(state));
        }
        if self.suggested == 0.0 {
            self.suggested = room;
        }
        let mut size = self.suggested.min(room);
        loop {
            let is_last = room - size < 1e-9 * room;
            // What depends on an unknown is where the stretch ends, not how it is divided.
            let h = if is_last { until - t } else { Dual::from(size) };
            self.attempt(rates, x, t, h);
            let norm = self.error(h.re, x);
            if norm <= 1.0 {
                let growth = (0.9 * norm.max(1e-10).powf(-1.0 / ORDER)).clamp(0.2, 5.0);
                self.suggested = if is_last { self.suggested.max(size * growth) } else { size * growth };
                x.copy_from_slice(&self.after);
                return Ok(if is_last { until } else { t + h });
            }
            size *= if norm.is_finite() { (0.9 * norm.powf(-1.0 / ORDER)).clamp(0.1, 0.9) } else { 0.1 };
            self.suggested = size;
            if size <= smallest {
                return Err(Breakdown::StepTooSmall);
            }
        }
    }

    fn attempt(&mut self, rates: &mut DualRates<'_>, x: &[Dual], t: Dual, h: Dual) {
        for stage in 0..6 {
            let (done, rest) = self.stages.split_at_mut(stage + 1);
            for (i, (at, x)) in self.at.iter_mut().zip(x).enumerate() {
                let weights = done.iter().zip(&WEIGHTS[stage]).filter(|(_, weight)| **weight != 0.0);
                *at = *x + h * weights.map(|(k, weight)| k[i] * *weight).sum::<Dual>();
            }
            if stage == 5 {
                self.after.copy_from_slice(&self.at);
            }
            rates(t + h * NODES[stage], &self.at, &mut rest[0]);
        }
    }

    /// The error of the states themselves, in units of the tolerance.
    fn error(&mut self, h: f64, x: &[Dual]) -> f64 {
        let [error, before, after] = &mut self.plain;
        for i in 0..x.len() {
            error[i] = h * self.stages.iter().zip(ERROR_WEIGHTS).map(|(k, weight)| weight * k[i].re).sum::<f64>();
            (before[i], after[i]) = (x[i].re, self.after[i].re);
        }
        weighted_norm(error, before, after, self.relative, &self.absolute)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::numerics::{derivatives, seeded};

    /// A lag that is switched at an instant of its own: x' = (u − x)/τ, u from 0 to 1 at θ. Exactly x(t) = 1 − exp(−(t − θ)/τ), and
    /// its derivatives by τ, θ and the start follow by hand.
    #[test]
    fn derivatives_by_a_time_constant_a_start_and_the_instant_of_a_switch_are_exact() {
        let (tau, theta, start) = (3.0, 1.3, 0.4);
        let (lag, late) = (seeded(tau, 0), seeded(theta, 1));
        let mut x = [seeded(start, 2)];
        let mut integrator = ExactIntegrator::new(1e-10, vec![1e-10]);
        for (u, until) in [(0.0, late), (1.0, Dual::from(5.0))] {
            let mut t = if u == 0.0 { Dual::from(0.0) } else { late };
            while t.re < until.re {
                t = integrator.step(&mut |_, x, rates| rates[0] = (-x[0] + u) / lag, &mut x, t, until).unwrap();
            }
        }
        let (end, rise) = ((-5.0f64 / tau).exp(), (-(5.0 - theta) / tau).exp());
        let [by_tau, by_theta, by_start, ..] = derivatives(&x[0]);
        assert!((x[0].re - (1.0 - rise + start * end)).abs() < 1e-9);
        assert!((by_tau - (start * end * 5.0 - rise * (5.0 - theta)) / (tau * tau)).abs() < 1e-8, "{by_tau}");
        assert!((by_theta + rise / tau).abs() < 1e-8, "{by_theta}");
        assert!((by_start - end).abs() < 1e-8, "{by_start}");
    }

    #[test]
    fn what_runs_away_is_told() {
        let mut x = [seeded(1.0, 0)];
        let mut integrator = ExactIntegrator::new(1e-8, vec![1e-8]);
        let (mut t, until) = (Dual::from(0.0), Dual::from(2.0));
        let broken = loop {
            match integrator.step(&mut |_, x, rates| rates[0] = x[0] * x[0], &mut x, t, until) {
                Ok(next) => t = next,
                Err(breakdown) => break breakdown,
            }
        };
        // x' = x² from 1 is infinite at 1.
        assert!((t.re - 1.0).abs() < 1e-3 && broken == Breakdown::StepTooSmall, "{} {broken:?}", t.re);
        let nothing = integrator.step(&mut |_, _, rates| rates[0] = Dual::from(f64::NAN), &mut x, t, until);
        assert_eq!(nothing, Err(Breakdown::NotFinite(0)));
    }
}
