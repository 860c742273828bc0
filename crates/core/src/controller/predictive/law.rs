//! What a predictive controller does while it feels no limit: a linear law with a memory.

use super::settings::PredictiveSettings;
use super::{KnownAhead, Predictive, Sight};
use crate::Result;
use crate::controller::{Controller, Explanation, Reading};
use crate::lti::Discrete;
use crate::numerics::eigenvalues;
use crate::units::Span;
use nalgebra::{DMatrix, DVector, Hessenberg};
use num_complex::Complex64;

/// By how much it is moved to see what it does, %; less where that brings an MV near an end of its span.
const NUDGES: [f64; 3] = [1e-2, 1e-4, 1e-6];
/// How far an MV may be moved by that, %.
const FAR: f64 = 40.0;
/// What an MV costs that is pushed: so little that no end of its span is come to, and enough that it is led to where it rests.
const COST: f64 = 1e-9;
/// How near to the unit circle a pole stands on it.
const ON_CIRCLE: f64 = 1e-6;

/// `s⁺ = A s + B y, u = C s + D y`: from the CVs as measured, in % of span, to the MVs in %, from scan to scan, with the set points and
/// the measured disturbances where they are. `s` is all that it remembers: the states of its model, the disturbances that it believes
/// in, and the MVs as they stand.
#[derive(Debug, Clone)]
pub struct Law {
    /// A in the form of Hessenberg, `A = Q H Qᵀ`; QᵀB, C Q, and D.
    h: DMatrix<f64>,
    b: DMatrix<f64>,
    c: DMatrix<f64>,
    d: DMatrix<f64>,
    scan: f64,
    integrators: usize,
    unstable: usize,
}

impl Law {
    /// Of a controller with these settings, the spans of its CVs, and its scan in s; CVs that nothing measures have limits only, and no part
    /// in it. None where it follows no set point: without a limit
    /// it does nothing then; with a model that is not linear, whose law is another one everywhere; and where it answers so strongly that no nudge leaves its MVs off their ends.
    pub fn of(settings: &PredictiveSettings, spans: &[Span], scan: f64) -> Result<Option<Self>> {
        if !settings.cvs.iter().any(|cv| cv.follows_set_point) || settings.linear()?.is_none() {
            return Ok(None);
        }
        let mut free = settings.clone();
        let spans: Vec<Span> =
            spans.iter().zip(&settings.cvs).filter(|(_, cv)| cv.is_measured()).map(|(span, _)| span.clone()).collect();
        free.cvs.retain(super::ControlledVariable::is_measured);
        for mv in &mut free.mvs {
            (mv.low, mv.high, mv.rate) = (0.0, 100.0, None);
            mv.cost = if mv.cost == 0.0 { 0.0 } else { COST.copysign(mv.cost) };
        }
        for cv in &mut free.cvs {
            (cv.low, cv.high, cv.bands) = (None, None, Vec::new());
        }
        let mut probe = Probe::new(&free, &spans, scan)?;
        let (states, p, m) = (probe.states(), free.cvs.len(), free.mvs.len());
        let Some(whole) = probe.linear() else { return Ok(None) };
        let a = whole.view((0, 0), (states, states)).into_owned();
        let roots = eigenvalues(a.clone());
        let (q, h) = Hessenberg::new(a).unpack();
        Ok(Some(Self {
            b: q.transpose() * whole.view((0, states), (states, p)),
            c: whole.view((states, 0), (m, states)) * q,
            d: whole.view((states, states), (m, p)).into_owned(),
            h,
            scan,
            integrators: roots.iter().filter(|root| (*root - 1.0).norm() < ON_CIRCLE).count(),
            unstable: roots.iter().filter(|root| root.norm() > 1.0 + ON_CIRCLE).count(),
        }))
    }

    /// Of one that moves one MV by one measured CV on this span; None of any other, and where there is none.
    pub fn of_one(settings: &PredictiveSettings, span: &Span, scan: f64) -> Result<Option<Self>> {
        if settings.mvs.len() != 1 || settings.cvs.iter().filter(|cv| cv.is_measured()).count() != 1 {
            return Ok(None);
        }
        let spans: Vec<Span> = vec![span.clone(); settings.cvs.len()];
        Self::of(settings, &spans, scan)
    }

    /// From the CVs (columns) to the MVs (rows) at `omega` rad/s, % per % of span.
    #[must_use]
    pub fn response(&self, omega: f64) -> DMatrix<Complex64> {
        let z = Complex64::from_polar(1.0, omega * self.scan);
        let complex = |matrix: &DMatrix<f64>| matrix.map(Complex64::from);
        complex(&self.c) * behind(&self.h, z, complex(&self.b)) + complex(&self.d)
    }

    /// The poles of the loop that it closes around a model of so many MVs first among its inputs and the CVs that it measures at these places
    /// among its outputs: in z.
    pub(super) fn closed_around(&self, model: &Discrete, cvs: &[usize]) -> Vec<Complex64> {
        let (phi, gamma, seen) = model.matrices();
        let (order, own, mvs) = (phi.nrows(), self.h.nrows(), self.c.nrows());
        let (gamma, seen) = (gamma.columns(0, mvs), seen.select_rows(cvs));
        let mut all = DMatrix::zeros(order + own, order + own);
        all.view_mut((0, 0), (order, order)).copy_from(&(phi + gamma * &self.d * &seen));
        all.view_mut((0, order), (order, own)).copy_from(&(gamma * &self.c));
        all.view_mut((order, 0), (own, order)).copy_from(&(&self.b * &seen));
        all.view_mut((order, order), (own, own)).copy_from(&self.h);
        eigenvalues(all)
    }

    /// Its poles at rest: as many as there are CVs whose offset it takes away, as a rule.
    #[must_use]
    pub fn integrators(&self) -> usize {
        self.integrators
    }

    /// Its unstable poles.
    #[must_use]
    pub fn unstable_poles(&self) -> usize {
        self.unstable
    }
}

/// The law of one MV by one CV at work: what a loop far from all limits does, without a plan at every scan.
#[derive(Debug, Clone)]
pub struct LawAtWork {
    law: Law,
    s: DVector<f64>,
    next: DVector<f64>,
    /// Where it rested: the CV in % of span, and the MV in %.
    rest: [f64; 2],
    output: f64,
}

impl Law {
    /// At work, at rest.
    #[must_use]
    pub fn at_work(&self) -> LawAtWork {
        let none = DVector::zeros(self.h.nrows());
        LawAtWork { law: self.clone(), s: none.clone(), next: none, rest: [0.0; 2], output: 0.0 }
    }
}

impl Controller for LawAtWork {
    fn scan(&mut self, reading: Reading) -> f64 {
        let Self { law, s, next, rest, .. } = self;
        let off = reading.measurement - rest[0];
        self.output = rest[1] + law.c.row(0).tr_dot(s) + law.d[(0, 0)] * off;
        next.gemv(1.0, &law.h, s, 0.0);
        next.axpy(off, &law.b.column(0), 1.0);
        std::mem::swap(s, next);
        self.output
    }

    fn track(&mut self, reading: Reading, output: f64) {
        self.s.fill(0.0);
        self.rest = [reading.measurement, output];
        self.output = output;
    }

    fn explain(&self) -> Explanation {
        Explanation { unlimited: self.output, limited: self.output, ..Explanation::default() }
    }
}

/// `(z I − H)⁻¹ X` for an `H` with one diagonal below the main one: that is eliminated row by row.
fn behind(h: &DMatrix<f64>, z: Complex64, mut x: DMatrix<Complex64>) -> DMatrix<Complex64> {
    let n = h.nrows();
    let mut rows = h.map(|value| -Complex64::from(value));
    for k in 0..n {
        rows[(k, k)] += z;
    }
    for k in 0..n.saturating_sub(1) {
        if rows[(k + 1, k)].norm() > rows[(k, k)].norm() {
            rows.swap_rows(k, k + 1);
            x.swap_rows(k, k + 1);
        }
        let factor = if rows[(k, k)] == Complex64::ZERO { Complex64::ZERO } else { rows[(k + 1, k)] / rows[(k, k)] };
        for j in k..n {
            let above = rows[(k, j)];
            rows[(k + 1, j)] -= factor * above;
        }
        for j in 0..x.ncols() {
            let above = x[(k, j)];
            x[(k + 1, j)] -= factor * above;
        }
    }
    for j in 0..x.ncols() {
        for k in (0..n).rev() {
            let later: Complex64 = (k + 1..n).map(|i| rows[(k, i)] * x[(i, j)]).sum();
            x[(k, j)] = (x[(k, j)] - later) / rows[(k, k)];
        }
    }
    x
}

/// A controller that is asked what it does from any state.
struct Probe {
    controller: Predictive,
    order: usize,
    disturbances: usize,
    mvs: usize,
    cvs: usize,
    dvs: Vec<f64>,
}

/// Where it rests while it is asked, %.
const MIDDLE: f64 = 50.0;

impl Probe {
    fn new(settings: &PredictiveSettings, spans: &[Span], scan: f64) -> Result<Self> {
        let mut controller = Predictive::new(settings, spans, scan)?;
        let (cvs, mvs, dvs) = (settings.cvs.len(), settings.mvs.len(), vec![0.0; settings.dvs.len()]);
        controller.rest(&vec![MIDDLE; cvs], &vec![MIDDLE; mvs], &dvs);
        let (order, disturbances) = (controller.observer.x.len(), controller.observer.d.len());
        Ok(Self { controller, order, disturbances, mvs, cvs, dvs })
    }

    fn states(&self) -> usize {
        self.order + self.disturbances + self.mvs
    }

    /// The state a scan later and the MVs (rows) by the state and the CVs (columns); None where that brings an MV near an end of its span.
    fn linear(&mut self) -> Option<DMatrix<f64>> {
        let (states, width) = (self.states(), self.states() + self.cvs);
        let still = self.answer(&DVector::zeros(width));
        let mut whole = DMatrix::zeros(states + self.mvs, width);
        for k in 0..width {
            let column = NUDGES.into_iter().find_map(|nudge| {
                let mut from = DVector::zeros(width);
                from[k] = nudge;
                let moved = self.answer(&from);
                let is_near = moved.rows(states, self.mvs).amax() <= FAR;
                is_near.then(|| (moved - &still) / nudge)
            })?;
            whole.set_column(k, &column);
        }
        Some(whole)
    }

    /// The state a scan later and the MVs, from a state and the CVs.
    fn answer(&mut self, from: &DVector<f64>) -> DVector<f64> {
        let (order, count) = (self.order, self.disturbances);
        let observer = &mut self.controller.observer;
        observer.x.copy_from(&from.rows(0, order));
        observer.d.copy_from(&from.rows(order, count));
        let shifted = |at: usize, length: usize| -> Vec<f64> {
            from.rows(at, length).iter().map(|value| MIDDLE + value).collect()
        };
        let applied = shifted(order + count, self.mvs);
        let measured = shifted(order + count + self.mvs, self.cvs);
        let sight = Sight {
            measured: &measured,
            set_points: &vec![MIDDLE; self.cvs],
            applied: &applied,
            set: &applied,
            available: &vec![true; self.mvs],
            disturbances: &self.dvs,
            ahead: KnownAhead::default(),
        };
        let outputs = self.controller.scan(&sight).to_vec();
        let observer = &self.controller.observer;
        let mvs: Vec<f64> = outputs.iter().map(|output| output - MIDDLE).collect();
        let states = observer.x.iter().chain(observer.d.iter()).chain(&mvs);
        DVector::from_iterator(self.states() + self.mvs, states.chain(&mvs).copied())
    }
}
