//! State space, its exact discretisation under a piecewise constant input, and its frequency response.

use super::{DeadTime, SampledDelay};
use crate::{Error, Result};
use nalgebra::{DMatrix, DVector};
use num_complex::Complex64;

/// `x' = A x + B u(t − θ)`, `y = C x`: one dead time for all inputs, no direct feed-through.
#[derive(Debug, Clone, PartialEq)]
pub struct StateSpace {
    a: DMatrix<f64>,
    b: DMatrix<f64>,
    c: DMatrix<f64>,
    dead_time: DeadTime,
}

impl StateSpace {
    /// From `a` (n × n, per s), `b` (n × inputs), `c` (outputs × n) and the dead time of the inputs.
    pub fn new(a: DMatrix<f64>, b: DMatrix<f64>, c: DMatrix<f64>, dead_time: DeadTime) -> Result<Self> {
        let shape = |matrix: &DMatrix<f64>| format!("{} × {}", matrix.nrows(), matrix.ncols());
        let n = a.nrows();
        for (name, matrix, fits, allowed) in [
            ("A", &a, n > 0 && a.ncols() == n, "square".to_owned()),
            ("B", &b, b.nrows() == n, format!("{n} rows")),
            ("C", &c, c.ncols() == n, format!("{n} columns")),
        ] {
            if !fits {
                return Err(Error::invalid(name, shape(matrix), allowed));
            }
            if matrix.iter().any(|value| !value.is_finite()) {
                return Err(Error::invalid(name, "not finite in every place", "finite numbers"));
            }
        }
        Ok(Self { a, b, c, dead_time })
    }

    /// Number of states.
    #[must_use]
    pub fn order(&self) -> usize {
        self.a.nrows()
    }

    /// Number of inputs.
    #[must_use]
    pub fn inputs(&self) -> usize {
        self.b.ncols()
    }

    /// The dead time of the inputs.
    #[must_use]
    pub fn dead_time(&self) -> DeadTime {
        self.dead_time
    }

    /// `x'` for state `x` and (already delayed) input `u`, into `derivatives`.
    pub fn derivatives(&self, x: &[f64], u: &[f64], derivatives: &mut [f64]) {
        for (i, derivative) in derivatives.iter_mut().enumerate() {
            *derivative = dot(&self.a, i, x) + dot(&self.b, i, u);
        }
    }

    /// `y = C x`, into `outputs`.
    pub fn outputs(&self, x: &[f64], outputs: &mut [f64]) {
        for (i, output) in outputs.iter_mut().enumerate() {
            *output = dot(&self.c, i, x);
        }
    }

    /// `(Φ, Γ)` with `x(t + h) = Φ x(t) + Γ u` for an input that is constant over `h` seconds.
    ///
    /// From the exponential of the block matrix `[A B; 0 0]·h` (Van Loan, IEEE Trans. Automatic Control 23, 1978).
    #[must_use]
    pub fn discretised(&self, h: f64) -> (DMatrix<f64>, DMatrix<f64>) {
        let (n, m) = (self.order(), self.inputs());
        let mut block = DMatrix::zeros(n + m, n + m);
        block.view_mut((0, 0), (n, n)).copy_from(&(&self.a * h));
        block.view_mut((0, n), (n, m)).copy_from(&(&self.b * h));
        let exponential = block.exp();
        (exponential.view((0, 0), (n, n)).into_owned(), exponential.view((0, n), (n, m)).into_owned())
    }

    /// `C (jωI − A)⁻¹ B exp(−jωθ)` from input 0 to output 0 at `omega` rad/s.
    #[must_use]
    pub fn response(&self, omega: f64) -> Complex64 {
        let n = self.order();
        let resolvent =
            DMatrix::from_fn(n, n, |i, j| Complex64::new(-self.a[(i, j)], if i == j { omega } else { 0.0 }));
        let b = self.b.column(0).map(Complex64::from);
        transfer(&self.c, resolvent, b) * self.dead_time.response(omega)
    }

    /// The response of the process as a digital controller sees it: a hold of `scan` seconds at its input, a sampler at
    /// its output. Returns a function of ω in rad/s (up to `π/scan`) from input 0 to output 0.
    ///
    /// With dead time `d·h + r`: `x[k+1] = Φ(h) x[k] + Φ(h−r) Γ(r) u[k−d−1] + Γ(h−r) u[k−d]`
    /// (Åström & Wittenmark, Computer-Controlled Systems, section 2.3).
    pub fn sampled_response(&self, scan: f64) -> impl Fn(f64) -> Complex64 + use<> {
        let SampledDelay { scans, remainder } = self.dead_time.sampled(scan);
        let (phi, _) = self.discretised(scan);
        let (phi_late, gamma_late) = self.discretised(scan - remainder);
        let gamma_early = if remainder > 0.0 {
            &phi_late * self.discretised(remainder).1
        } else {
            DMatrix::zeros(self.order(), self.inputs())
        };
        let (early, late) = (gamma_early.column(0).into_owned(), gamma_late.column(0).into_owned());
        let (n, c) = (self.order(), self.c.clone());
        move |omega| {
            let z = Complex64::from_polar(1.0, omega * scan);
            let resolvent = DMatrix::from_fn(n, n, |i, j| (if i == j { z } else { Complex64::ZERO }) - phi[(i, j)]);
            let input = late.map(Complex64::from) + early.map(Complex64::from) * z.inv();
            transfer(&c, resolvent, input) * Complex64::from_polar(1.0, -omega * scan * scans as f64)
        }
    }
}

/// First row of `c` times `resolvent⁻¹ b`.
fn transfer(c: &DMatrix<f64>, resolvent: DMatrix<Complex64>, b: DVector<Complex64>) -> Complex64 {
    if b.len() == 1 {
        return b[0] * c[(0, 0)] / resolvent[(0, 0)];
    }
    let states =
        resolvent.lu().solve(&b).unwrap_or_else(|| DVector::from_element(b.len(), Complex64::from(f64::INFINITY)));
    states.iter().zip(c.row(0).iter()).map(|(x, c)| x * c).sum()
}

fn dot(matrix: &DMatrix<f64>, row: usize, vector: &[f64]) -> f64 {
    vector.iter().enumerate().map(|(j, value)| matrix[(row, j)] * value).sum()
}

/// Advances the state of a [`StateSpace`] exactly; remembers the matrices of the durations it has met.
#[derive(Debug, Clone)]
pub struct Propagator {
    system: StateSpace,
    steps: Vec<(f64, DMatrix<f64>, DMatrix<f64>)>,
    next: Vec<f64>,
}

impl Propagator {
    /// Durations remembered; a loop meets two or three again and again, disturbances add some that it meets once.
    const REMEMBERED: usize = 16;

    /// A propagator for `system`.
    #[must_use]
    pub fn new(system: StateSpace) -> Self {
        let next = vec![0.0; system.order()];
        Self { system, steps: Vec::with_capacity(Self::REMEMBERED), next }
    }

    /// The system that it advances.
    #[must_use]
    pub fn system(&self) -> &StateSpace {
        &self.system
    }

    /// Replaces `x` by the state `h` seconds later under the constant, already delayed input `u`.
    pub fn advance(&mut self, x: &mut [f64], u: &[f64], h: f64) {
        if h <= 0.0 {
            return;
        }
        let known = self.steps.iter().position(|step| step.0 == h);
        let index = known.unwrap_or_else(|| {
            if self.steps.len() == Self::REMEMBERED {
                self.steps.pop();
            }
            let (phi, gamma) = self.system.discretised(h);
            self.steps.push((h, phi, gamma));
            self.steps.len() - 1
        });
        let (_, phi, gamma) = &self.steps[index];
        for (i, next) in self.next.iter_mut().enumerate() {
            *next = dot(phi, i, x) + dot(gamma, i, u);
        }
        x.copy_from_slice(&self.next);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn second_order(dead_time: f64) -> StateSpace {
        // y'' + 3 y' + 10 y = u, which settles at 2 for u = 20 (exact mathematics).
        StateSpace::new(
            DMatrix::from_row_slice(2, 2, &[0.0, 1.0, -10.0, -3.0]),
            DMatrix::from_row_slice(2, 1, &[0.0, 1.0]),
            DMatrix::from_row_slice(1, 2, &[1.0, 0.0]),
            DeadTime::new(dead_time).unwrap(),
        )
        .unwrap()
    }

    #[test]
    fn step_response_of_an_underdamped_system_is_analytic() {
        let mut propagator = Propagator::new(second_order(0.0));
        let (mut x, mut y) = ([0.0, 0.0], [0.0]);
        let (sigma, omega) = (1.5, (10.0f64 - 2.25).sqrt());
        for k in 1..=100 {
            propagator.advance(&mut x, &[20.0], 0.1);
            propagator.system.outputs(&x, &mut y);
            let t = 0.1 * f64::from(k);
            let expected = 2.0 - 2.0 * (-sigma * t).exp() * ((omega * t).cos() + sigma / omega * (omega * t).sin());
            assert!((y[0] - expected).abs() < 1e-12, "t = {t}");
        }
        assert!((y[0] - 2.0).abs() < 1e-5);
    }

    #[test]
    fn frequency_response_is_the_transfer_function() {
        for omega in [0.01, 1.0, 3.0, 40.0] {
            let s = Complex64::new(0.0, omega);
            let expected = (s * s + 3.0 * s + 10.0).inv() * (-s * 0.7).exp();
            assert!((second_order(0.7).response(omega) - expected).norm() < 1e-14);
        }
    }

    #[test]
    fn sampled_response_matches_a_sine_through_hold_and_sampler() {
        // After the transient, samples of the output to u[k] = exp(jωkh) are G(ω) exp(jωkh).
        let (scan, omega, theta) = (0.2, 2.0, 0.57);
        let system = second_order(theta);
        let expected = system.sampled_response(scan)(omega);
        let mut propagator = Propagator::new(system);
        let sine = |k: i32, part: fn(f64) -> f64| part(omega * scan * f64::from(k));
        for part in [f64::cos as fn(f64) -> f64, f64::sin] {
            let (mut x, mut y) = ([0.0, 0.0], [0.0]);
            for k in 0..200 {
                if k == 199 {
                    propagator.system.outputs(&x, &mut y);
                    let phase = expected * Complex64::from_polar(1.0, omega * scan * f64::from(k));
                    let wanted = if part(0.0) > 0.5 { phase.re } else { phase.im };
                    assert!((y[0] - wanted).abs() < 1e-12);
                }
                propagator.advance(&mut x, &[sine(k - 3, part)], 0.17);
                propagator.advance(&mut x, &[sine(k - 2, part)], 0.03);
            }
        }
    }

    #[test]
    fn shapes_are_checked() {
        let one = || DMatrix::from_element(1, 1, 1.0);
        let theta = DeadTime::new(0.0).unwrap();
        let error = StateSpace::new(one(), DMatrix::zeros(2, 1), one(), theta).unwrap_err();
        assert_eq!(error.to_string(), "B is 2 × 1; allowed: 1 rows");
        assert!(StateSpace::new(DMatrix::from_element(1, 1, f64::NAN), one(), one(), theta).is_err());
    }
}
