//! Exact response of first- and second-order dynamics with dead time to a recorded input, with its sensitivities.

use super::DeadTime;
use crate::series::TimeAxis;
use num_dual::{DualNum, DualSVec64};

/// Most parameters that the dynamics of a path have, gain and dead time aside.
pub const MOST_SHAPE_PARAMETERS: usize = 2;

type Dual = DualSVec64<MOST_SHAPE_PARAMETERS>;

/// Dynamics of at most second order with gain 1 (integrating ones: 1 per second).
///
/// The first state is the output `x`; the second, where there is one, is its slope `x'`.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Dynamics {
    /// `1 / (τs + 1)`.
    Lag {
        /// τ in s.
        time_constant: f64,
    },
    /// `1 / ((τ₁s + 1)(τ₂s + 1))`.
    TwoLags {
        /// τ₁ and τ₂ in s.
        time_constants: [f64; 2],
    },
    /// `1 / (τ²s² + 2ζτs + 1)`.
    SecondOrder {
        /// τ in s, the inverse of the natural frequency.
        time_constant: f64,
        /// Damping ratio ζ.
        damping: f64,
    },
    /// `1 / s`.
    Integrator,
    /// `1 / (s (τs + 1))`.
    IntegratorLag {
        /// τ in s.
        time_constant: f64,
    },
}

/// `x(h) = Φ x(0) + Γ u` over a stretch of constant input, with the derivatives by the logarithms of the parameters.
#[derive(Debug, Clone, Copy, Default)]
struct Transition {
    phi: [[f64; 2]; 2],
    gamma: [f64; 2],
    phi_by: [[[f64; 2]; 2]; MOST_SHAPE_PARAMETERS],
    gamma_by: [[f64; 2]; MOST_SHAPE_PARAMETERS],
}

impl Dynamics {
    /// Number of states.
    #[must_use]
    pub fn order(&self) -> usize {
        match self {
            Self::Lag { .. } | Self::Integrator => 1,
            _ => 2,
        }
    }

    /// Whether a constant input makes the output run away.
    #[must_use]
    pub fn is_integrating(&self) -> bool {
        matches!(self, Self::Integrator | Self::IntegratorLag { .. })
    }

    /// The state in which a constant input `u` leaves a self-regulating process, and an integrating one at output 0.
    #[must_use]
    pub fn equilibrium(&self, u: f64) -> [f64; 2] {
        match self {
            Self::Integrator => [0.0, 0.0],
            Self::IntegratorLag { .. } => [0.0, u],
            _ => [u, 0.0],
        }
    }

    /// `x'` and, for a zero in the numerator, `x''` at state `x` with (delayed) input `u`.
    fn slopes(&self, x: [f64; 2], u: f64) -> [f64; 2] {
        match *self {
            Self::Lag { time_constant } => [(u - x[0]) / time_constant, 0.0],
            Self::TwoLags { time_constants: [a, b] } => [x[1], (u - x[0] - (a + b) * x[1]) / (a * b)],
            Self::SecondOrder { time_constant, damping } => {
                [x[1], (u - x[0] - 2.0 * damping * time_constant * x[1]) / (time_constant * time_constant)]
            }
            Self::Integrator => [u, 0.0],
            Self::IntegratorLag { time_constant } => [x[1], (u - x[1]) / time_constant],
        }
    }

    /// The transition over `h` seconds, the derivatives by dual numbers.
    fn transition(&self, h: f64) -> Transition {
        let constant = |value: f64| Dual::from_re(value);
        // A logarithm as the unknown: dτ/d(ln τ) = τ.
        let logarithmic = |value: f64, index: usize| unknown(value.ln(), index).exp();
        let (phi, gamma): ([[Dual; 2]; 2], [Dual; 2]) = match *self {
            Self::Lag { time_constant } => {
                let decay = (-logarithmic(time_constant, 0).recip() * h).exp();
                ([[decay, constant(0.0)], [constant(0.0); 2]], [-decay + 1.0, constant(0.0)])
            }
            Self::TwoLags { time_constants } => {
                let rates = [logarithmic(time_constants[0], 0).recip(), logarithmic(time_constants[1], 1).recip()];
                let half_gap = (rates[0] - rates[1]) * 0.5;
                second_order((rates[0] + rates[1]) * 0.5, half_gap * half_gap, rates[0] * rates[1], h)
            }
            Self::SecondOrder { time_constant, damping } => {
                let rate = logarithmic(time_constant, 0).recip();
                let zeta = logarithmic(damping, 1);
                second_order(zeta * rate, (zeta * zeta - 1.0) * rate * rate, rate * rate, h)
            }
            Self::Integrator => ([[constant(1.0), constant(0.0)], [constant(0.0); 2]], [constant(h), constant(0.0)]),
            Self::IntegratorLag { time_constant } => {
                let tau = logarithmic(time_constant, 0);
                let decay = (-tau.recip() * h).exp();
                let lagged = tau * (-decay + 1.0);
                ([[constant(1.0), lagged], [constant(0.0), decay]], [-lagged + h, -decay + 1.0])
            }
        };
        let by = |value: Dual, index: usize| value.eps.unwrap_generic(nalgebra::U2, nalgebra::U1)[index];
        let mut transition = Transition {
            phi: phi.map(|row| row.map(|value| value.re)),
            gamma: gamma.map(|value| value.re),
            ..Transition::default()
        };
        for p in 0..MOST_SHAPE_PARAMETERS {
            transition.phi_by[p] = phi.map(|row| row.map(|value| by(value, p)));
            transition.gamma_by[p] = gamma.map(|value| by(value, p));
        }
        transition
    }
}

/// `value` as the unknown with this index.
fn unknown(value: f64, index: usize) -> Dual {
    let mut direction = nalgebra::SVector::<f64, MOST_SHAPE_PARAMETERS>::zeros();
    direction[index] = 1.0;
    Dual::new(value, num_dual::Derivative::some(direction))
}

/// `(Φ, Γ)` of `x'' = a₀ (u − x) − 2 s x'` over `h` seconds, where `q = s² − a₀`: real, equal and complex poles alike.
///
/// With `A` the system matrix, `exp(Ah) = exp(−sh)·[cosh(√q h) I + sinh(√q h)/√q (A + s I)]`, as `(A + sI)² = q I`.
fn second_order(s: Dual, q: Dual, a0: Dual, h: f64) -> ([[Dual; 2]; 2], [Dual; 2]) {
    let square = q.re * h * h;
    let (cosine, sine) = if square > 1e-2 {
        let root = q.sqrt();
        let (slow, fast) = ((-(s - root) * h).exp(), (-(s + root) * h).exp());
        ((slow + fast) * 0.5, (slow - fast) * 0.5 / root)
    } else if square < -1e-2 {
        let root = (-q).sqrt();
        let decay = (-s * h).exp();
        (decay * (root * h).cos(), decay * (root * h).sin() / root)
    } else {
        let (x, decay) = (q * (h * h), (-s * h).exp());
        let cosine = ((x / 56.0 + 1.0) * x / 30.0 + 1.0) * x / 12.0 + 1.0;
        let sine = ((x / 72.0 + 1.0) * x / 42.0 + 1.0) * x / 20.0 + 1.0;
        (decay * (cosine * x / 2.0 + 1.0), decay * ((sine * x / 6.0 + 1.0) * h))
    };
    let phi = [[cosine + s * sine, sine], [-a0 * sine, cosine - s * sine]];
    (phi, [-phi[0][0] + 1.0, -phi[1][0]])
}

/// The response at one sample.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct Sample {
    /// `x`, the response with gain 1.
    pub value: f64,
    /// `x'`, per second; `−x'` is the sensitivity to the dead time, as a later input shifts the whole response.
    pub slope: f64,
    /// `x''`, for the dead time of a response with a zero.
    pub bend: f64,
    /// `∂x/∂ln p` for each parameter of the dynamics.
    pub value_by: [f64; MOST_SHAPE_PARAMETERS],
    /// `∂x'/∂ln p`; 0 for first-order dynamics.
    pub slope_by: [f64; MOST_SHAPE_PARAMETERS],
}

/// The transition from sample to sample where the delayed input switches between them: `x⁺ = Φ x + Γ₁ old + Γ₂ new`, with
/// derivatives by the logarithms of the parameters.
#[derive(Debug, Clone, Copy, Default)]
struct SplitTransition {
    phi: [[f64; 2]; 2],
    old: [f64; 2],
    new: [f64; 2],
    phi_by: [[[f64; 2]; 2]; MOST_SHAPE_PARAMETERS],
    old_by: [[f64; 2]; MOST_SHAPE_PARAMETERS],
    new_by: [[f64; 2]; MOST_SHAPE_PARAMETERS],
}

impl SplitTransition {
    /// `early` under the old input, then `late` under the new one.
    fn of(early: &Transition, late: &Transition) -> Self {
        let product =
            |a: [[f64; 2]; 2], b: [[f64; 2]; 2]| [0, 1].map(|i| [0, 1].map(|j| a[i][0] * b[0][j] + a[i][1] * b[1][j]));
        let times = |a: [[f64; 2]; 2], b: [f64; 2]| [0, 1].map(|i| a[i][0] * b[0] + a[i][1] * b[1]);
        let mut split = Self {
            phi: product(late.phi, early.phi),
            old: times(late.phi, early.gamma),
            new: late.gamma,
            new_by: late.gamma_by,
            ..Self::default()
        };
        for p in 0..MOST_SHAPE_PARAMETERS {
            let (before, after) = (product(late.phi_by[p], early.phi), product(late.phi, early.phi_by[p]));
            split.phi_by[p] = [0, 1].map(|i| [0, 1].map(|j| before[i][j] + after[i][j]));
            let (before, after) = (times(late.phi_by[p], early.gamma), times(late.phi, early.gamma_by[p]));
            split.old_by[p] = [0, 1].map(|i| before[i] + after[i]);
        }
        split
    }
}

/// The state and its sensitivities.
#[derive(Debug, Clone, Copy)]
struct State {
    x: [f64; 2],
    by: [[f64; 2]; MOST_SHAPE_PARAMETERS],
}

impl State {
    #[inline]
    fn advance(&mut self, t: &Transition, u: f64) {
        let x = self.x;
        for p in 0..MOST_SHAPE_PARAMETERS {
            let by = self.by[p];
            for i in 0..2 {
                self.by[p][i] = t.phi[i][0] * by[0]
                    + t.phi[i][1] * by[1]
                    + t.phi_by[p][i][0] * x[0]
                    + t.phi_by[p][i][1] * x[1]
                    + t.gamma_by[p][i] * u;
            }
        }
        for i in 0..2 {
            self.x[i] = t.phi[i][0] * x[0] + t.phi[i][1] * x[1] + t.gamma[i] * u;
        }
    }

    /// First-order dynamics need a third of the work.
    #[inline]
    fn advance_first_order(&mut self, t: &Transition, u: f64) {
        let x = self.x[0];
        self.by[0][0] = t.phi[0][0] * self.by[0][0] + t.phi_by[0][0][0] * x + t.gamma_by[0][0] * u;
        self.x[0] = t.phi[0][0] * x + t.gamma[0] * u;
    }

    /// From sample to sample, where `old` goes on for a while and `new` follows.
    #[inline]
    fn advance_split(&mut self, t: &SplitTransition, old: f64, new: f64) {
        let x = self.x;
        for p in 0..MOST_SHAPE_PARAMETERS {
            let by = self.by[p];
            for i in 0..2 {
                self.by[p][i] = t.phi[i][0] * by[0]
                    + t.phi[i][1] * by[1]
                    + t.phi_by[p][i][0] * x[0]
                    + t.phi_by[p][i][1] * x[1]
                    + t.old_by[p][i] * old
                    + t.new_by[p][i] * new;
            }
        }
        self.advance_split_bare(t, old, new);
    }

    #[inline]
    fn advance_split_first_order(&mut self, t: &SplitTransition, old: f64, new: f64) {
        let x = self.x[0];
        self.by[0][0] =
            t.phi[0][0] * self.by[0][0] + t.phi_by[0][0][0] * x + t.old_by[0][0] * old + t.new_by[0][0] * new;
        self.x[0] = t.phi[0][0] * x + t.old[0] * old + t.new[0] * new;
    }

    #[inline]
    fn advance_split_bare(&mut self, t: &SplitTransition, old: f64, new: f64) {
        let x = self.x;
        for i in 0..2 {
            self.x[i] = t.phi[i][0] * x[0] + t.phi[i][1] * x[1] + t.old[i] * old + t.new[i] * new;
        }
    }

    /// Without derivatives.
    #[inline]
    fn advance_bare(&mut self, t: &Transition, u: f64) {
        let x = self.x;
        for i in 0..2 {
            self.x[i] = t.phi[i][0] * x[0] + t.phi[i][1] * x[1] + t.gamma[i] * u;
        }
    }

    #[inline]
    fn sample(&self, dynamics: &Dynamics, delayed_input: f64) -> Sample {
        let [slope, bend] = dynamics.slopes(self.x, delayed_input);
        Sample {
            value: self.x[0],
            slope,
            bend,
            value_by: [self.by[0][0], self.by[1][0]],
            slope_by: [self.by[0][1], self.by[1][1]],
        }
    }
}

/// The response of `dynamics` to `u(t − θ)`, sample by sample along an axis.
///
/// The input holds each sample until the next one (zero-order hold) and held `before` before the first; the walk starts
/// in
/// the [equilibrium](Dynamics::equilibrium) with `before`. Between the instants at which the delayed input switches,
/// the
/// solution is exact, so the dead time is not rounded to the sample.
#[derive(Debug)]
pub struct Response<'a> {
    dynamics: Dynamics,
    input: &'a [f64],
    before: f64,
    state: State,
    next: usize,
    pace: Pace<'a>,
    /// Whether derivatives are computed, too.
    with_derivatives: bool,
}

/// How the switching instants lie between the samples.
#[derive(Debug)]
enum Pace<'a> {
    /// After whole scans, always alike.
    Even { scans: usize, transition: Box<Transition> },
    /// After whole scans and a remainder, always alike.
    Split { scans: usize, transition: Box<SplitTransition> },
    /// Anywhere: `switches` inputs have arrived up to the time `now`, the last of them is `active`.
    Uneven { times: &'a [f64], dead_time: f64, switches: usize, now: f64, active: f64 },
}

impl<'a> Response<'a> {
    /// The response to `input`, which has one finite value a sample of `axis`.
    #[must_use]
    pub fn new(dynamics: Dynamics, axis: &'a TimeAxis, input: &'a [f64], before: f64, dead_time: DeadTime) -> Self {
        let pace = match axis {
            TimeAxis::Uniform { interval, .. } => {
                let delay = dead_time.sampled(*interval);
                let (scans, remainder) = (delay.scans, delay.remainder);
                let late = dynamics.transition(interval - remainder);
                if remainder > 0.0 {
                    let early = dynamics.transition(remainder);
                    Pace::Split { scans, transition: Box::new(SplitTransition::of(&early, &late)) }
                } else {
                    Pace::Even { scans, transition: Box::new(late) }
                }
            }
            TimeAxis::Irregular(times) => Pace::Uneven {
                times,
                dead_time: dead_time.seconds(),
                switches: 0,
                now: times.first().copied().unwrap_or(0.0),
                active: before,
            },
        };
        let state = State { x: dynamics.equilibrium(before), by: [[0.0; 2]; MOST_SHAPE_PARAMETERS] };
        Self { dynamics, input, before, state, next: 0, pace, with_derivatives: true }
    }

    /// The same with values and slopes only: the derivatives by the parameters are 0, and it takes a third of the time.
    #[must_use]
    pub fn bare(mut self) -> Self {
        self.with_derivatives = false;
        self
    }

    /// Shows all samples that are left, in their order, until one is not wanted any more: the same as one after the other, with less to look up.
    #[inline]
    pub fn each(mut self, mut visit: impl FnMut(Sample) -> bool) {
        // What is the same in every sample is looked up before.
        let is_first_order = self.dynamics.order() == 1;
        match (&self.pace, self.with_derivatives) {
            (Pace::Split { scans, transition: by }, false) => {
                self.walk(*scans, visit, |state, old, new| state.advance_split_bare(by, old, new));
            }
            (Pace::Split { scans, transition: by }, true) if is_first_order => {
                self.walk(*scans, visit, |state, old, new| state.advance_split_first_order(by, old, new));
            }
            (Pace::Split { scans, transition: by }, true) => {
                self.walk(*scans, visit, |state, old, new| state.advance_split(by, old, new));
            }
            (Pace::Even { scans, transition: by }, false) => {
                self.walk(*scans, visit, |state, _, new| state.advance_bare(by, new));
            }
            (Pace::Even { scans, transition: by }, true) if is_first_order => {
                self.walk(*scans, visit, |state, _, new| state.advance_first_order(by, new));
            }
            (Pace::Even { scans, transition: by }, true) => {
                self.walk(*scans, visit, |state, _, new| state.advance(by, new));
            }
            (Pace::Uneven { .. }, _) => while self.next().is_some_and(&mut visit) {},
        }
    }

    /// All values that are left, and all slopes where they are wanted.
    #[must_use]
    pub fn values(self, with_slopes: bool) -> (Vec<f64>, Vec<f64>) {
        let left = self.input.len() - self.next;
        let mut values = Vec::with_capacity(left);
        let mut slopes = Vec::with_capacity(if with_slopes { left } else { 0 });
        self.each(|sample| {
            values.push(sample.value);
            if with_slopes {
                slopes.push(sample.slope);
            }
            true
        });
        (values, slopes)
    }

    /// From sample to sample of an even axis, where the input arrives so many scans late: `advance` goes on under what arrived before and
    /// what arrives now.
    #[inline]
    fn walk(&self, scans: usize, mut visit: impl FnMut(Sample) -> bool, mut advance: impl FnMut(&mut State, f64, f64)) {
        let mut state = self.state;
        let mut old = self.delayed(scans + 1);
        let waiting = scans.saturating_sub(self.next).min(self.input.len() - self.next);
        let arrived = &self.input[self.next.saturating_sub(scans)..][..self.input.len() - self.next - waiting];
        for new in std::iter::repeat_n(&self.before, waiting).chain(arrived) {
            if !visit(state.sample(&self.dynamics, old)) {
                return;
            }
            advance(&mut state, old, *new);
            old = *new;
        }
    }

    #[inline]
    fn delayed(&self, scans: usize) -> f64 {
        if self.next >= scans { self.input[self.next - scans] } else { self.before }
    }
}

impl Iterator for Response<'_> {
    type Item = Sample;

    #[inline]
    fn next(&mut self) -> Option<Sample> {
        if self.next >= self.input.len() {
            return None;
        }
        let is_first_order = self.dynamics.order() == 1;
        let with_derivatives = self.with_derivatives;
        let advance = |state: &mut State, transition: &Transition, u: f64| {
            if !with_derivatives {
                state.advance_bare(transition, u);
            } else if is_first_order {
                state.advance_first_order(transition, u)
            } else {
                state.advance(transition, u)
            }
        };
        let sample;
        match &self.pace {
            Pace::Even { scans, transition } => {
                let (old, new) = (self.delayed(scans + 1), self.delayed(*scans));
                sample = self.state.sample(&self.dynamics, old);
                advance(&mut self.state, transition, new);
            }
            Pace::Split { scans, transition } => {
                let (old, new) = (self.delayed(scans + 1), self.delayed(*scans));
                sample = self.state.sample(&self.dynamics, old);
                if !with_derivatives {
                    self.state.advance_split_bare(transition, old, new);
                } else if is_first_order {
                    self.state.advance_split_first_order(transition, old, new);
                } else {
                    self.state.advance_split(transition, old, new);
                }
            }
            &Pace::Uneven { times, dead_time, mut switches, mut now, mut active } => {
                let time = times[self.next];
                while switches < times.len() && times[switches] + dead_time <= time {
                    let at = times[switches] + dead_time;
                    advance(&mut self.state, &self.dynamics.transition(at - now), active);
                    (now, active) = (at, self.input[switches]);
                    switches += 1;
                }
                advance(&mut self.state, &self.dynamics.transition(time - now), active);
                sample = self.state.sample(&self.dynamics, active);
                self.pace = Pace::Uneven { times, dead_time, switches, now: time, active };
            }
        }
        self.next += 1;
        Some(sample)
    }
}

/// What is left, sample by sample, of a state at the start: the solution without input, with its derivatives by the
/// logarithms of the parameters.
#[derive(Debug)]
pub struct FreeResponse<'a> {
    dynamics: Dynamics,
    axis: &'a TimeAxis,
    even: Option<Box<Transition>>,
    state: State,
    next: usize,
    forgotten: bool,
}

impl<'a> FreeResponse<'a> {
    /// Below this share nothing of the start is seen in double precision.
    const FORGOTTEN: f64 = 1e-18;

    /// From the unit state `index` at the start: 1 for the output (0), 1 per second for its slope (1).
    #[must_use]
    pub fn new(dynamics: Dynamics, axis: &'a TimeAxis, index: usize) -> Self {
        let mut x = [0.0; 2];
        x[index] = 1.0;
        let even = match axis {
            TimeAxis::Uniform { interval, .. } => Some(Box::new(dynamics.transition(*interval))),
            TimeAxis::Irregular(_) => None,
        };
        let state = State { x, by: [[0.0; 2]; MOST_SHAPE_PARAMETERS] };
        Self { dynamics, axis, even, state, next: 0, forgotten: false }
    }
}

impl Iterator for FreeResponse<'_> {
    type Item = (f64, [f64; MOST_SHAPE_PARAMETERS]);

    #[inline]
    fn next(&mut self) -> Option<Self::Item> {
        let k = self.next;
        if k >= self.axis.len() {
            return None;
        }
        self.next += 1;
        if self.forgotten {
            return Some((0.0, [0.0; MOST_SHAPE_PARAMETERS]));
        }
        if k > 0 {
            match &self.even {
                Some(transition) if self.dynamics.order() == 1 => self.state.advance_first_order(transition, 0.0),
                Some(transition) => self.state.advance(transition, 0.0),
                None => {
                    let transition = self.dynamics.transition(self.axis.at(k) - self.axis.at(k - 1));
                    self.state.advance(&transition, 0.0);
                }
            }
        }
        let State { x, by } = self.state;
        // Looked at now and then: what is left is as good as 0 for a while before.
        self.forgotten = k.is_multiple_of(32)
            && [x, by[0], by[1]].iter().all(|pair| pair[0].abs() + pair[1].abs() < Self::FORGOTTEN);
        Some((x[0], [by[0][0], by[1][0]]))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const ALL: [Dynamics; 7] = [
        Dynamics::Lag { time_constant: 6.0 },
        Dynamics::TwoLags { time_constants: [6.0, 2.0] },
        Dynamics::TwoLags { time_constants: [4.0, 4.000_01] },
        Dynamics::SecondOrder { time_constant: 3.0, damping: 0.4 },
        Dynamics::SecondOrder { time_constant: 3.0, damping: 1.4 },
        Dynamics::Integrator,
        Dynamics::IntegratorLag { time_constant: 5.0 },
    ];

    fn respond(dynamics: &Dynamics, axis: &TimeAxis, input: &[f64], theta: f64) -> Vec<Sample> {
        Response::new(*dynamics, axis, input, input[0], DeadTime::new(theta).unwrap()).collect()
    }

    #[test]
    fn all_samples_at_once_are_those_one_after_the_other() {
        let input: Vec<f64> = (0..40).map(|k| ((k * k) % 7) as f64 - 2.0).collect();
        let times: Vec<f64> = (0..40).map(|k| f64::from(k) + 0.3 * f64::from(k % 3)).collect();
        let uneven = TimeAxis::from_times(&times).unwrap();
        for axis in [TimeAxis::uniform(1.0, 40).unwrap(), uneven] {
            for dynamics in ALL {
                for (theta, passed) in [(0.0, 0), (0.4, 3), (3.0, 0), (3.7, 2), (5.2, 7), (100.0, 1)] {
                    let begin = || {
                        let mut response =
                            Response::new(dynamics, &axis, &input, input[0], DeadTime::new(theta).unwrap());
                        response.by_ref().take(passed).for_each(drop);
                        response
                    };
                    let mut all = Vec::new();
                    begin().each(|sample| {
                        all.push(sample);
                        true
                    });
                    assert_eq!(all, begin().collect::<Vec<_>>(), "{dynamics:?} {theta}");
                    let mut first = Vec::new();
                    begin().each(|sample| {
                        first.push(sample);
                        first.len() < 4
                    });
                    assert_eq!(first, all[..4], "{dynamics:?} {theta}");
                    let (values, slopes) = begin().bare().values(true);
                    let bare: Vec<(f64, f64)> = begin().bare().map(|sample| (sample.value, sample.slope)).collect();
                    assert_eq!(values.into_iter().zip(slopes).collect::<Vec<_>>(), bare, "{dynamics:?} {theta}");
                    assert!(begin().values(false).1.is_empty());
                }
            }
        }
    }

    #[test]
    fn zero_order_hold_recursion() {
        // y[k+1] = a y[k] + K (1 − a) u[k−d], a = exp(−Ts/τ): Ts = 1, τ = 5, K = 5 gives 0.8187 and 0.9063 (exact
        // mathematics; Åström & Wittenmark, Computer-Controlled Systems, ch. 2).
        let axis = TimeAxis::uniform(1.0, 12).unwrap();
        let mut input = vec![1.0; 12];
        input[0] = 0.0;
        let samples = respond(&Dynamics::Lag { time_constant: 5.0 }, &axis, &input, 2.0);
        let y: Vec<f64> = samples.iter().map(|sample| 5.0 * sample.value).collect();
        assert_eq!(y[..4], [0.0; 4]);
        assert!((y[4] - 0.9063).abs() < 5e-5);
        assert!((y[5] - (0.8187 * 0.9063 + 0.9063)).abs() < 2e-4);
    }

    /// Unit step responses by the tables of Laplace transforms.
    fn step(dynamics: &Dynamics, t: f64) -> f64 {
        if t <= 0.0 {
            return 0.0;
        }
        match *dynamics {
            Dynamics::Lag { time_constant } => 1.0 - (-t / time_constant).exp(),
            Dynamics::TwoLags { time_constants: [a, b] } => 1.0 - (a * (-t / a).exp() - b * (-t / b).exp()) / (a - b),
            Dynamics::SecondOrder { time_constant, damping } if damping < 1.0 => {
                let root = (1.0 - damping * damping).sqrt();
                let (sigma, omega) = (damping / time_constant, root / time_constant);
                1.0 - (-sigma * t).exp() * ((omega * t).cos() + damping / root * (omega * t).sin())
            }
            Dynamics::SecondOrder { time_constant, damping } => {
                let root = (damping * damping - 1.0).sqrt();
                step(
                    &Dynamics::TwoLags {
                        time_constants: [time_constant / (damping - root), time_constant / (damping + root)],
                    },
                    t,
                )
            }
            Dynamics::Integrator => t,
            Dynamics::IntegratorLag { time_constant } => t - time_constant * (1.0 - (-t / time_constant).exp()),
        }
    }

    #[test]
    fn step_responses_with_fractional_dead_time_are_analytic() {
        let axis = TimeAxis::uniform(0.5, 80).unwrap();
        let mut input = vec![3.0; 80];
        input[..4].fill(0.0);
        for dynamics in ALL {
            for theta in [0.0, 0.2, 0.5, 1.185, 3.0] {
                for (k, sample) in respond(&dynamics, &axis, &input, theta).iter().enumerate() {
                    let expected = 3.0 * step(&dynamics, axis.at(k) - 2.0 - theta);
                    // Nearly equal lags: the analytic formula itself loses six digits.
                    let allowed = if dynamics == ALL[2] { 1e-9 } else { 1e-12 };
                    assert!((sample.value - expected).abs() < allowed, "{dynamics:?}, θ = {theta}, k = {k}");
                }
            }
        }
    }

    #[test]
    fn irregular_axis_agrees_with_uniform_one() {
        let times: Vec<f64> = (0..200).map(|k| 0.25 * f64::from(k)).collect();
        let input: Vec<f64> = (0..200).map(|k| f64::from(k * k % 17)).collect();
        let uniform = TimeAxis::uniform(0.25, 200).unwrap();
        for dynamics in ALL {
            for theta in [0.0, 0.1, 0.25, 3.3] {
                let even = respond(&dynamics, &uniform, &input, theta);
                let uneven = respond(&dynamics, &TimeAxis::Irregular(times.clone()), &input, theta);
                for (a, b) in even.iter().zip(&uneven) {
                    let close = |a: f64, b: f64| (a - b).abs() < 1e-9 * (1.0 + a.abs());
                    assert!(close(a.value, b.value) && close(a.value_by[0], b.value_by[0]), "{dynamics:?} {theta}");
                }
            }
        }
    }

    fn parameters(dynamics: &Dynamics) -> Vec<f64> {
        match *dynamics {
            Dynamics::Lag { time_constant } | Dynamics::IntegratorLag { time_constant } => vec![time_constant],
            Dynamics::TwoLags { time_constants } => time_constants.to_vec(),
            Dynamics::SecondOrder { time_constant, damping } => vec![time_constant, damping],
            Dynamics::Integrator => vec![],
        }
    }

    fn with(dynamics: &Dynamics, p: &[f64]) -> Dynamics {
        match dynamics {
            Dynamics::Lag { .. } => Dynamics::Lag { time_constant: p[0] },
            Dynamics::TwoLags { .. } => Dynamics::TwoLags { time_constants: [p[0], p[1]] },
            Dynamics::SecondOrder { .. } => Dynamics::SecondOrder { time_constant: p[0], damping: p[1] },
            Dynamics::Integrator => Dynamics::Integrator,
            Dynamics::IntegratorLag { .. } => Dynamics::IntegratorLag { time_constant: p[0] },
        }
    }

    #[test]
    fn sensitivities_are_the_derivatives() {
        let axis = TimeAxis::uniform(1.0, 60).unwrap();
        let input: Vec<f64> = (0..60).map(|k| f64::from(k / 13 % 2)).collect();
        let (theta, h) = (2.4, 1e-6);
        for dynamics in ALL {
            let center = respond(&dynamics, &axis, &input, theta);
            let later = respond(&dynamics, &axis, &input, theta + h);
            let sooner = respond(&dynamics, &axis, &input, theta - h);
            for k in 0..60 {
                let by_dead_time = (later[k].value - sooner[k].value) / (2.0 * h);
                assert!((center[k].slope + by_dead_time).abs() < 1e-7, "{dynamics:?} {k}");
                if dynamics.order() == 2 {
                    let slope_by_dead_time = (later[k].slope - sooner[k].slope) / (2.0 * h);
                    assert!((center[k].bend + slope_by_dead_time).abs() < 1e-6, "{dynamics:?} {k}");
                }
            }
            for (index, _) in parameters(&dynamics).iter().enumerate() {
                let moved = |by: f64| {
                    let mut p = parameters(&dynamics);
                    p[index] *= f64::exp(by);
                    respond(&with(&dynamics, &p), &axis, &input, theta)
                };
                let (up, down) = (moved(h), moved(-h));
                for k in 0..60 {
                    let value_by = (up[k].value - down[k].value) / (2.0 * h);
                    let slope_by = (up[k].slope - down[k].slope) / (2.0 * h);
                    assert!((center[k].value_by[index] - value_by).abs() < 1e-7, "{dynamics:?} {index} {k}");
                    if dynamics.order() == 2 {
                        assert!((center[k].slope_by[index] - slope_by).abs() < 1e-7, "{dynamics:?} {index} {k}");
                    }
                }
            }
        }
    }

    #[test]
    fn free_responses_are_what_the_start_leaves_behind() {
        // Started at rest with 0 and with 1, the two differ by what is left of the difference of the states.
        let axis = TimeAxis::uniform(0.7, 50).unwrap();
        let dynamics = Dynamics::SecondOrder { time_constant: 3.0, damping: 0.4 };
        let theta = DeadTime::new(0.0).unwrap();
        let left = FreeResponse::new(dynamics, &axis, 0);
        let difference = Response::new(dynamics, &axis, &[0.0; 50], 1.0, theta);
        for ((left, _), difference) in left.zip(difference) {
            assert!((left - difference.value).abs() < 1e-14);
        }
    }
}
