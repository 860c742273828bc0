//! State space, its exact discretisation under a piecewise constant input, and its frequency response.

use super::{DeadTime, SampledDelay};
use crate::{Error, Result};
use nalgebra::{DMatrix, DVector};
use num_complex::Complex64;

/// `x' = A x + B u(t − θ)`, `y = C x`: one dead time for all inputs. The first output may feel the first input directly.
#[derive(Debug, Clone, PartialEq)]
pub struct StateSpace {
    a: DMatrix<f64>,
    b: DMatrix<f64>,
    c: DMatrix<f64>,
    /// From the first input to the first output.
    direct: f64,
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
        Ok(Self { a, b, c, direct: 0.0, dead_time })
    }

    /// The same with a first output that feels the first input directly.
    #[must_use]
    pub fn with_feed_through(self, direct: f64) -> Self {
        Self { direct, ..self }
    }

    /// The same with inputs that count `factor` times.
    #[must_use]
    pub fn scaled(mut self, factor: f64) -> Self {
        self.b *= factor;
        self.direct *= factor;
        self
    }

    /// The same with another dead time of its inputs.
    #[must_use]
    pub fn with_dead_time(self, dead_time: DeadTime) -> Self {
        Self { dead_time, ..self }
    }

    /// The same with more dead time, in s.
    pub fn later_by(self, seconds: f64) -> Result<Self> {
        let dead_time = DeadTime::new(self.dead_time.seconds() + seconds)?;
        Ok(self.with_dead_time(dead_time))
    }

    /// Its poles, and how fast one must be not to stand at the origin, in 1/s.
    fn poles(&self) -> (Vec<Complex64>, f64) {
        let poles = crate::numerics::eigenvalues(self.matrices().0.clone());
        let fastest = poles.iter().map(|pole| pole.norm()).fold(0.0, f64::max);
        (poles, 1e-9 * fastest.max(1e-9))
    }

    /// Whether it has a pole at the origin.
    #[must_use]
    pub fn integrates(&self) -> bool {
        let (poles, origin) = self.poles();
        poles.iter().any(|pole| pole.norm() <= origin)
    }

    /// Whether it has a pole in the right half-plane.
    #[must_use]
    pub fn runs_away(&self) -> bool {
        let (poles, origin) = self.poles();
        poles.iter().any(|pole| pole.re > 0.0 && pole.norm() > origin)
    }

    /// Its longest time constant in s, integrators left out; 0 where there is none.
    #[must_use]
    pub fn longest_lag(&self) -> f64 {
        let (poles, origin) = self.poles();
        poles.iter().map(|pole| pole.norm()).filter(|norm| *norm > origin).map(f64::recip).fold(0.0, f64::max)
    }

    /// Its first output seen through a lag: `1/(τs + 1)`, or `1/(τ²s² + 2ζτs + 1)` with a damping ratio ζ.
    pub fn behind_lag(self, time_constant: f64, damping: Option<f64>) -> Result<Self> {
        let (n, m, more) = (self.order(), self.inputs(), if damping.is_some() { 2 } else { 1 });
        let mut a = DMatrix::zeros(n + more, n + more);
        a.view_mut((0, 0), (n, n)).copy_from(&self.a);
        let rate = time_constant.recip();
        match damping {
            None => {
                a.view_mut((n, 0), (1, n)).copy_from(&(self.c.row(0) * rate));
                a[(n, n)] = -rate;
            }
            Some(damping) => {
                a[(n, n + 1)] = 1.0;
                a.view_mut((n + 1, 0), (1, n)).copy_from(&(self.c.row(0) * (rate * rate)));
                a[(n + 1, n)] = -rate * rate;
                a[(n + 1, n + 1)] = -2.0 * damping * rate;
            }
        }
        let mut b = DMatrix::zeros(n + more, m);
        b.view_mut((0, 0), (n, m)).copy_from(&self.b);
        b[(n + more - 1, 0)] = self.direct * rate.powi(more as i32);
        let mut c = DMatrix::zeros(1, n + more);
        c[(0, n)] = 1.0;
        Self::new(a, b, c, self.dead_time)
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

    /// `y = C x`, without what is felt directly, into `outputs`.
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

    /// `(Φ, Γ, Λ)` with `x(t + h) = Φ x(t) + Γ u + Λ s` for an input that starts at `u` and rises by `s` a second.
    ///
    /// As [`StateSpace::discretised`], with one more block for the slope.
    #[must_use]
    pub fn discretised_ramp(&self, h: f64) -> (DMatrix<f64>, DMatrix<f64>, DMatrix<f64>) {
        let (n, m) = (self.order(), self.inputs());
        let mut block = DMatrix::zeros(n + 2 * m, n + 2 * m);
        block.view_mut((0, 0), (n, n)).copy_from(&(&self.a * h));
        block.view_mut((0, n), (n, m)).copy_from(&(&self.b * h));
        for k in 0..m {
            block[(n + k, n + m + k)] = h;
        }
        let exponential = block.exp();
        let part = |column: usize, width: usize| exponential.view((0, column), (n, width)).into_owned();
        (part(0, n), part(n, m), part(n + m, m))
    }

    /// The matrices A, B and C.
    #[must_use]
    pub fn matrices(&self) -> (&DMatrix<f64>, &DMatrix<f64>, &DMatrix<f64>) {
        (&self.a, &self.b, &self.c)
    }

    /// What the first output does after a unit step of the first input at time 0, every `interval` seconds from 0 on.
    #[must_use]
    pub fn step_response(&self, interval: f64, points: usize) -> Vec<f64> {
        let theta = self.dead_time.seconds();
        let (mut propagator, mut x) = (Propagator::new(self.clone()), vec![0.0; self.order()]);
        let mut input = vec![0.0; self.inputs()];
        input[0] = 1.0;
        let mut at = 0.0;
        (0..points)
            .map(|k| {
                let since = k as f64 * interval - theta;
                if since < 0.0 {
                    return 0.0;
                }
                propagator.advance(&mut x, &input, since - at);
                at = since;
                dot(&self.c, 0, &x) + self.direct
            })
            .collect()
    }

    /// `(C (jωI − A)⁻¹ B + D) exp(−jωθ)` from input 0 to output 0 at `omega` rad/s.
    #[must_use]
    pub fn response(&self, omega: f64) -> Complex64 {
        let n = self.order();
        let resolvent =
            DMatrix::from_fn(n, n, |i, j| Complex64::new(-self.a[(i, j)], if i == j { omega } else { 0.0 }));
        let b = self.b.column(0).map(Complex64::from);
        (transfer(&self.c, resolvent, b) + self.direct) * self.dead_time.response(omega)
    }

    /// What a hold of `scan` seconds at the first input makes of it.
    #[must_use]
    pub fn sampled(&self, scan: f64) -> Sampled {
        let SampledDelay { scans, remainder } = self.dead_time.sampled(scan);
        let (phi, _) = self.discretised(scan);
        let (phi_late, gamma_late) = self.discretised(scan - remainder);
        let late = gamma_late.column(0).into_owned();
        let early = if remainder > 0.0 {
            (&phi_late * self.discretised(remainder).1).column(0).into_owned()
        } else {
            DVector::zeros(self.order())
        };
        Sampled { phi, early, late, scans }
    }

    /// The response of the process as a digital controller sees it: a hold of `scan` seconds at its input, a sampler at
    /// its output. Returns a function of ω in rad/s (up to `π/scan`) from input 0 to output 0.
    ///
    /// What is felt directly is sampled before the new input acts, as a controller does that measures first: `D u[k−d−1]`
    /// after `d` whole scans of dead time.
    pub fn sampled_response(&self, scan: f64) -> impl Fn(f64) -> Complex64 + use<> {
        let Sampled { phi, early, late, scans } = self.sampled(scan);
        let (n, c, direct) = (self.order(), self.c.clone(), self.direct);
        move |omega| {
            let z = Complex64::from_polar(1.0, omega * scan);
            let resolvent = DMatrix::from_fn(n, n, |i, j| (if i == j { z } else { Complex64::ZERO }) - phi[(i, j)]);
            let input = late.map(Complex64::from) + early.map(Complex64::from) * z.inv();
            (transfer(&c, resolvent, input) + direct * z.inv())
                * Complex64::from_polar(1.0, -omega * scan * scans as f64)
        }
    }
}

/// One scan of a [`StateSpace`] behind a hold, from its first input.
///
/// With dead time `d·h + r`: `x[k+1] = Φ(h) x[k] + Φ(h−r) Γ(r) u[k−d−1] + Γ(h−r) u[k−d]`
/// (Åström & Wittenmark, Computer-Controlled Systems, section 2.3).
#[derive(Debug, Clone)]
pub struct Sampled {
    phi: DMatrix<f64>,
    early: DVector<f64>,
    late: DVector<f64>,
    scans: usize,
}

impl Sampled {
    /// Φ, and what an input does in a scan that stood until its last part had passed, and one that stands from then on.
    #[must_use]
    pub fn matrices(&self) -> (&DMatrix<f64>, &DVector<f64>, &DVector<f64>) {
        (&self.phi, &self.early, &self.late)
    }

    /// Replaces `x` by the state a scan later, where the input was `before` until its last part of a scan had passed, and
    /// `now` from then on; `next` is room for the states.
    #[inline]
    pub fn advance(&self, x: &mut [f64], next: &mut [f64], before: f64, now: f64) {
        if let [state] = x {
            *state = self.phi[0] * *state + self.early[0] * before + self.late[0] * now;
            return;
        }
        for (i, next) in next.iter_mut().enumerate() {
            *next = dot(&self.phi, i, x) + self.early[i] * before + self.late[i] * now;
        }
        x.copy_from_slice(next);
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
    steps: Vec<Step>,
    next: Vec<f64>,
}

/// The matrices of one duration.
#[derive(Debug, Clone)]
struct Step {
    h: f64,
    phi: DMatrix<f64>,
    gamma: DMatrix<f64>,
    /// The effect of the slopes; there once an input has risen or fallen over such a duration.
    lambda: Option<DMatrix<f64>>,
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
        self.advance_ramp(x, u, &[], h);
    }

    /// The same under an input that starts at `u` and changes by `slope` a second; an empty `slope` is 0.
    pub fn advance_ramp(&mut self, x: &mut [f64], u: &[f64], slope: &[f64], h: f64) {
        if h <= 0.0 {
            return;
        }
        let index = self.steps.iter().position(|step| step.h == h).unwrap_or_else(|| {
            if self.steps.len() == Self::REMEMBERED {
                self.steps.pop();
            }
            let (phi, gamma) = self.system.discretised(h);
            self.steps.push(Step { h, phi, gamma, lambda: None });
            self.steps.len() - 1
        });
        let Step { phi, gamma, lambda, .. } = &mut self.steps[index];
        if let ([state], [input], [] | [0.0]) = (&mut *x, u, slope) {
            // A single lag under a constant input, the commonest of all.
            *state = phi[0] * *state + gamma[0] * input;
            return;
        }
        for (i, next) in self.next.iter_mut().enumerate() {
            *next = dot(phi, i, x) + dot(gamma, i, u);
        }
        if slope.iter().any(|value| *value != 0.0) {
            let lambda = lambda.get_or_insert_with(|| self.system.discretised_ramp(h).2);
            for (i, next) in self.next.iter_mut().enumerate() {
                *next += dot(lambda, i, slope);
            }
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
    fn ramp_response_of_a_lag_is_analytic() {
        // τ y' + y = s t from rest: y = s (t − τ + τ exp(−t/τ)); exact mathematics.
        let (tau, slope) = (4.0, 1.5);
        let one = |value| DMatrix::from_element(1, 1, value);
        let lag = StateSpace::new(one(-1.0 / tau), one(1.0 / tau), one(1.0), DeadTime::new(0.0).unwrap()).unwrap();
        let (mut propagator, mut x) = (Propagator::new(lag), [0.0]);
        for k in 0..20 {
            propagator.advance_ramp(&mut x, &[slope * 0.5 * f64::from(k)], &[slope], 0.5);
        }
        assert!((x[0] - slope * (10.0 - tau + tau * (-10.0 / tau).exp())).abs() < 1e-12);
    }

    #[test]
    fn a_lead_over_a_lag_jumps_and_settles() {
        // (3 s + 1)/(2 s + 1) = 1.5 − 0.5/(2 s + 1): the step begins at 1.5 and ends at 1 (exact mathematics).
        let one = |value| DMatrix::from_element(1, 1, value);
        let theta = DeadTime::new(0.5).unwrap();
        let lead = StateSpace::new(one(-0.5), one(0.5), one(-0.5), theta).unwrap().with_feed_through(1.5);
        let step = lead.step_response(0.25, 50);
        assert_eq!(step[1], 0.0);
        for (k, value) in step.iter().enumerate().skip(2) {
            let since = 0.25 * k as f64 - 0.5;
            assert!((value - (1.0 + 0.5 * (-since / 2.0).exp())).abs() < 1e-12, "{k}: {value}");
        }
        let omega = 0.7;
        let s = Complex64::new(0.0, omega);
        let expected = (3.0 * s + 1.0) / (2.0 * s + 1.0) * (-0.5 * s).exp();
        assert!((lead.response(omega) - expected).norm() < 1e-12);
        let lagged = lead.behind_lag(4.0, None).unwrap();
        assert!((lagged.response(omega) - expected / (4.0 * s + 1.0)).norm() < 1e-12);
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
        assert_eq!(error.to_string(), "The B is 2 × 1: it must be 1 rows.");
        assert!(StateSpace::new(DMatrix::from_element(1, 1, f64::NAN), one(), one(), theta).is_err());
    }
}
