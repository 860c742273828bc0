//! Initial value problems: an explicit method with error control, and an implicit one that takes over where the
//! equations are stiff.
//!
//! A simulated loop restarts its integration at every scan and every switching instant, takes a step back to the instant
//! at which a tank runs dry, and must go on where the equations turn stiff in mid-run. These two keep their step size from one
//! stretch to the next, can take the last step back, and tell states within it. A library is as fast on a smooth stretch
//! (`benches/loop_speed.rs` runs one beside) but was not found to do these three.

mod exact;
mod explicit;
mod implicit;

pub use exact::ExactIntegrator;
use explicit::Explicit;
use implicit::Implicit;

/// The right-hand side of `x' = f(t, x)`.
pub trait Rates {
    /// `x'` at time `t` and state `x`, into `rates`.
    fn rates(&self, t: f64, x: &[f64], rates: &mut [f64]);
}

/// Why an integration cannot go on.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Breakdown {
    /// The rate of this state is not a finite number.
    NotFinite(usize),
    /// The rate of this state is no number just beyond: of a root whose argument is about to become negative, say.
    Edge(usize),
    /// The step would have to be smaller than the time can resolve.
    StepTooSmall,
}

/// Carries a state forward in time, one accepted step after another.
#[derive(Debug, Clone)]
pub struct Integrator {
    relative: f64,
    absolute: Vec<f64>,
    /// The step that the last error estimate suggests, in s; 0 before the first.
    suggested: f64,
    explicit: Explicit,
    implicit: Option<Implicit>,
    before: Vec<f64>,
    rates_before: Vec<f64>,
    rates_after: Vec<f64>,
    last_step: f64,
}

impl Integrator {
    /// An integrator for as many states as there are absolute tolerances, with this relative tolerance of each.
    #[must_use]
    pub fn new(relative: f64, absolute: Vec<f64>) -> Self {
        let n = absolute.len();
        Self {
            relative,
            absolute,
            suggested: 0.0,
            explicit: Explicit::new(n),
            implicit: None,
            before: vec![0.0; n],
            rates_before: vec![0.0; n],
            rates_after: vec![0.0; n],
            last_step: 0.0,
        }
    }

    /// Whether the implicit method has taken over.
    #[must_use]
    pub fn is_implicit(&self) -> bool {
        self.implicit.is_some()
    }

    /// The rates change abruptly at `t`: to be called before the first step of each stretch.
    pub fn restart(&mut self, system: &impl Rates, t: f64, x: &[f64]) -> Result<(), Breakdown> {
        system.rates(t, x, &mut self.rates_after);
        finite(&self.rates_after)
    }

    /// One accepted step of at most `until − t` seconds from `t`; returns its size.
    pub fn step(&mut self, system: &impl Rates, x: &mut [f64], t: f64, until: f64) -> Result<f64, Breakdown> {
        let room = until - t;
        self.before.copy_from_slice(x);
        self.rates_before.copy_from_slice(&self.rates_after);
        if self.suggested == 0.0 {
            self.suggested = self.first_step(room);
        }
        let smallest = 16.0 * f64::EPSILON * t.abs().max(until.abs());
        let mut h = self.suggested.min(room);
        loop {
            // The last bit of a stretch is taken along rather than left for a step of its own.
            if room - h < 1e-9 * room {
                h = room;
            }
            let (error, order) = match &mut self.implicit {
                None => (self.explicit.attempt(system, t, h, &self.before, &self.rates_before, x), explicit::ORDER),
                Some(method) => (method.attempt(system, t, h, &self.before, &self.rates_before, x), implicit::ORDER),
            };
            let norm = error
                .map_or(f64::INFINITY, |error| weighted_norm(error, &self.before, x, self.relative, &self.absolute));
            if norm <= 1.0 {
                // Where the error is next to nothing the step grows as far as it may, and no root need be taken.
                let growth = if norm < 1e-4 { 5.0 } else { (0.9 * norm.powf(-1.0 / order)).clamp(0.2, 5.0) };
                // A step cut short by the end of the stretch says little about the next.
                self.suggested = if h < self.suggested { self.suggested.max(h * growth) } else { h * growth };
                break;
            }
            let shrink = if norm.is_finite() { (0.9 * norm.powf(-1.0 / order)).clamp(0.1, 0.9) } else { 0.1 };
            h *= shrink;
            self.suggested = h;
            if h <= smallest {
                x.copy_from_slice(&self.before);
                system.rates(t, x, &mut self.rates_after);
                finite(&self.rates_after)?;
                return Err(self.edge(system, t, smallest).map_or(Breakdown::StepTooSmall, Breakdown::Edge));
            }
        }
        match &self.implicit {
            None => self.rates_after.copy_from_slice(self.explicit.last_rates()),
            Some(_) => system.rates(t + h, x, &mut self.rates_after),
        }
        finite(&self.rates_after)?;
        if self.implicit.is_none() && self.explicit.is_stiff() {
            self.implicit = Some(Implicit::new(self.absolute.len()));
        }
        self.last_step = h;
        Ok(h)
    }

    /// Takes the last step back: `x` is again what it was before.
    pub fn take_back(&mut self, x: &mut [f64]) {
        x.copy_from_slice(&self.before);
        self.rates_after.copy_from_slice(&self.rates_before);
    }

    /// State `i` at the share `s` of the last step, from 0 to 1, by the cubic through its ends (Hermite), where `x` is the
    /// state at the end of the step.
    #[must_use]
    pub fn between(&self, x: &[f64], i: usize, s: f64) -> f64 {
        let (a, b) = (self.before[i], x[i]);
        let (fa, fb) = (self.last_step * self.rates_before[i], self.last_step * self.rates_after[i]);
        let r = 1.0 - s;
        a * r * r * (1.0 + 2.0 * s) + b * s * s * (3.0 - 2.0 * s) + fa * s * r * r - fb * s * s * r
    }

    /// The first state whose rate stops being a number a little further on, where the rates at the start of the step lead.
    fn edge(&self, system: &impl Rates, t: f64, smallest: f64) -> Option<usize> {
        let mut rates = vec![0.0; self.before.len()];
        (0..=40).find_map(|doublings| {
            let h = smallest * f64::from(doublings).exp2();
            let ahead: Vec<f64> = self.before.iter().zip(&self.rates_after).map(|(x, rate)| x + h * rate).collect();
            system.rates(t + h, &ahead, &mut rates);
            rates.iter().position(|rate| rate.is_nan())
        })
    }

    /// A step that moves no state by more than a thousandth of its size.
    fn first_step(&self, room: f64) -> f64 {
        self.before
            .iter()
            .zip(&self.rates_before)
            .map(|(x, rate)| 1e-3 * x.abs().max(1e-3) / rate.abs().max(1e-12))
            .fold(room, f64::min)
            .max(1e-6 * room)
    }
}

fn finite(rates: &[f64]) -> Result<(), Breakdown> {
    match rates.iter().position(|rate| !rate.is_finite()) {
        Some(state) => Err(Breakdown::NotFinite(state)),
        None => Ok(()),
    }
}

/// Root of the mean square of the errors, each in units of its tolerance.
fn weighted_norm(error: &[f64], before: &[f64], after: &[f64], relative: f64, absolute: &[f64]) -> f64 {
    let sum: f64 = (0..error.len())
        .map(|i| (error[i] / (absolute[i] + relative * before[i].abs().max(after[i].abs()))).powi(2))
        .sum();
    let norm = (sum / error.len().max(1) as f64).sqrt();
    if norm.is_nan() { f64::INFINITY } else { norm }
}

#[cfg(test)]
mod tests;
