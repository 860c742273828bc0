//! The equations of a model that is not linear, carried through pieces of a scan in which all inputs stand.
//!
//! A tank that runs dry or spills in a piece is held there, and what would have been done to it before is done to nothing after that.

use crate::numerics::bisect;
use crate::numerics::ode::{Breakdown, Integrator, Rates};
use crate::process::{Bound, Held, Process, ProcessSpec};
use nalgebra::{DMatrix, DVector};
use std::sync::Arc;

/// Tolerances of the integration, relative and as a share of each state's size.
const TOLERANCES: [f64; 2] = [1e-7, 1e-9];
/// Steps of integration in one piece of a scan.
const MOST_STEPS: usize = 500;
/// How far beyond a bound a state counts as beyond it, as a share of its range.
const SLACK: f64 = 1e-12;
/// How far values are moved for differences, as a share of their size, and the least size.
const NUDGE: [f64; 2] = [1e-5, 1e-2];
/// Terms of the series of an exponential, of a matrix whose norm is no larger than [`SMALL`].
const TERMS: usize = 10;
const SMALL: f64 = 0.5;

/// Central differences of a function of several variables, by some of them.
fn slopes(
    at: &[f64],
    by: impl Iterator<Item = usize>,
    rows: usize,
    mut f: impl FnMut(&[f64], &mut [f64]),
) -> DMatrix<f64> {
    let (mut moved, mut up, mut down) = (at.to_vec(), vec![0.0; rows], vec![0.0; rows]);
    let mut all = Vec::new();
    let mut columns = 0;
    for j in by {
        let h = NUDGE[0] * at[j].abs().max(NUDGE[1]);
        moved[j] = at[j] + h;
        f(&moved, &mut up);
        moved[j] = at[j] - h;
        f(&moved, &mut down);
        moved[j] = at[j];
        all.extend(up.iter().zip(&down).map(|(up, down)| (up - down) / (2.0 * h)));
        columns += 1;
    }
    DMatrix::from_vec(rows, columns, all)
}

/// Φ and Γ of `x' = A x + B u` over a time in which `u` stands: the exponential of `[A B; 0 0]·t` (Van Loan, IEEE Trans. Automatic Control 23,
/// 1978) by its series and squarings; None where that is no number.
fn discrete(a: &DMatrix<f64>, b: &DMatrix<f64>, time: f64) -> Option<(DMatrix<f64>, DMatrix<f64>)> {
    let (n, p) = (a.nrows(), b.ncols());
    let mut block = DMatrix::zeros(n + p, n + p);
    block.view_mut((0, 0), (n, n)).copy_from(a);
    block.view_mut((0, n), (n, p)).copy_from(b);
    let norm = block.norm() * time;
    let squarings = if norm > SMALL { (norm / SMALL).log2().ceil() } else { 0.0 };
    if !squarings.is_finite() {
        return None;
    }
    block *= time / squarings.exp2();
    let mut carried = DMatrix::identity(n + p, n + p);
    let mut term = carried.clone();
    for k in 1..=TERMS {
        term = &term * &block / k as f64;
        carried += &term;
    }
    for _ in 0..squarings as usize {
        carried = &carried * &carried;
    }
    let is_sound = carried.iter().all(|value| value.is_finite());
    is_sound.then(|| (carried.view((0, 0), (n, n)).into_owned(), carried.view((0, n), (n, p)).into_owned()))
}

/// The right-hand side while all ports stand.
struct Standing<'a>(&'a dyn Process, &'a [f64], Held);

impl Rates for Standing<'_> {
    fn rates(&self, _: f64, x: &[f64], rates: &mut [f64]) {
        self.0.rates(x, self.1, self.2, rates);
    }
}

/// A parameter that drifts: a unit of its disturbance is so much of it, from what it was at first, within what it can be.
#[derive(Debug, Clone, Copy)]
pub(super) struct Drifting {
    pub index: usize,
    pub first: f64,
    pub unit: f64,
    pub range: (f64, f64),
}

impl Drifting {
    pub fn value(&self, disturbance: f64) -> f64 {
        (self.first + self.unit * disturbance).clamp(self.range.0, self.range.1)
    }
}

/// Derivatives of where a piece leads by where it begins, and by the ports that move, then the parameters that drift.
pub(super) struct Piece {
    pub by_states: DMatrix<f64>,
    pub by_ports: DMatrix<f64>,
    /// What stands at a bound in the end.
    pub held: Held,
}

/// The equations of a process, with what carries them on.
#[derive(Clone)]
pub(super) struct Equations {
    spec: ProcessSpec,
    process: Arc<dyn Process>,
    bounds: Vec<Bound>,
    integrator: Integrator,
}

impl Equations {
    pub fn new(spec: ProcessSpec, process: Box<dyn Process>) -> Self {
        let size = |value: f64| value.abs().max(1e-3);
        let absolute = process.description().states.iter().map(|state| TOLERANCES[1] * size(state.value)).collect();
        let bounds = process.bounds();
        Self { spec, process: process.into(), bounds, integrator: Integrator::new(TOLERANCES[0], absolute) }
    }

    pub fn process(&self) -> &dyn Process {
        self.process.as_ref()
    }

    /// Lets a parameter of the equations be this. What they refuse stays as it was.
    pub fn set_parameter(&mut self, index: usize, value: f64) {
        if self.process.parameters()[index] == value {
            return;
        }
        if Arc::get_mut(&mut self.process).is_none() {
            // Another controller has the same equations: these become its own.
            let Ok(mut own) = self.spec.build("") else { return };
            for (k, value) in self.process.parameters().iter().enumerate() {
                if own.parameters()[k] != *value && own.set_parameter(k, *value).is_err() {
                    return;
                }
            }
            self.process = own.into();
        }
        if let Some(process) = Arc::get_mut(&mut self.process) {
            process.set_parameter(index, value).ok();
            if !self.bounds.is_empty() {
                self.bounds = process.bounds();
            }
        }
    }

    /// Derivatives of a function of the equations by the parameters that drift, by a unit of each.
    pub fn by_parameters(
        &mut self,
        drifting: &[Drifting],
        rows: usize,
        f: impl Fn(&dyn Process, &mut [f64]),
    ) -> DMatrix<f64> {
        let mut slopes = DMatrix::zeros(rows, drifting.len());
        let (mut up, mut down) = (vec![0.0; rows], vec![0.0; rows]);
        for (column, &Drifting { index, unit, range, .. }) in drifting.iter().enumerate() {
            let now = self.process.parameters()[index];
            let h = NUDGE[0] * now.abs().max(unit);
            let (above, below) = ((now + h).min(range.1), (now - h).max(range.0));
            for (value, into) in [(above, &mut up), (below, &mut down)] {
                self.set_parameter(index, value);
                f(self.process.as_ref(), into);
            }
            self.set_parameter(index, now);
            for row in 0..rows {
                slopes[(row, column)] = unit * (up[row] - down[row]) / (above - below);
            }
        }
        slopes
    }

    /// States back within their bounds.
    pub fn keep_within(&self, x: &mut [f64]) {
        for Bound { state, low, high, .. } in &self.bounds {
            x[*state] = x[*state].clamp(*low, *high);
        }
    }

    /// What stands at a bound and is pressed against it.
    pub fn held(&self, x: &[f64], ports: &[f64]) -> Held {
        let mut held = Held::default();
        let at_bound = |bound: &&Bound| x[bound.state] <= bound.low || x[bound.state] >= bound.high;
        if !self.bounds.iter().any(|bound| at_bound(&bound)) {
            return held;
        }
        let mut rates = vec![0.0; x.len()];
        self.process.rates(x, ports, held, &mut rates);
        for Bound { state, low, .. } in self.bounds.iter().filter(at_bound) {
            if x[*state] <= *low && rates[*state] < 0.0 {
                held = held.with_low(*state);
            } else if x[*state] > *low && rates[*state] > 0.0 {
                held = held.with_high(*state);
            }
        }
        held
    }

    /// Carries states through a piece in which all ports stand.
    pub fn follow(&mut self, x: &mut DVector<f64>, ports: &[f64], time: f64) -> Result<(), Breakdown> {
        let mut held = self.held(x.as_slice(), ports);
        let mut system = Standing(self.process.as_ref(), ports, held);
        self.integrator.restart(&system, 0.0, x.as_slice())?;
        let (mut t, mut steps) = (0.0, 0);
        while t < time {
            let h = self.integrator.step(&system, x.as_mut_slice(), t, time)?;
            let passed = self.first_passed(x.as_slice());
            match passed {
                None => t += h,
                Some((share, state, bound)) => {
                    // Again, to where it comes to its bound.
                    let instant = t + share * h;
                    self.integrator.take_back(x.as_mut_slice());
                    while t < instant {
                        t += self.integrator.step(&system, x.as_mut_slice(), t, instant)?;
                    }
                    x[state] = bound;
                }
            }
            if passed.is_some() || held.any() {
                let now = self.held(x.as_slice(), ports);
                if now != held || passed.is_some() {
                    held = now;
                    system = Standing(self.process.as_ref(), ports, held);
                    self.integrator.restart(&system, t, x.as_slice())?;
                }
            }
            steps += 1;
            if steps > MOST_STEPS {
                return Err(Breakdown::StepTooSmall);
            }
        }
        Ok(())
    }

    /// The first state that has passed a bound in the last step: at what share of it, which, and the bound.
    fn first_passed(&self, x: &[f64]) -> Option<(f64, usize, f64)> {
        let passed = self.bounds.iter().filter_map(|Bound { state, low, high, .. }| {
            let slack = SLACK * (high - low);
            let bound = match x[*state] {
                value if value < low - slack => *low,
                value if value > high + slack => *high,
                _ => return None,
            };
            let share = bisect(0.0, 1.0, |share| self.integrator.between(x, *state, share) - bound);
            Some((share, *state, bound))
        });
        passed.min_by(|one, other| one.0.total_cmp(&other.0))
    }

    /// Carries states through a piece in which all ports stand; returns the derivatives of where they come to, from the equations linearised in
    /// the middle of the way. With `at_bounds` nothing changes what is held at a bound in the end; without, what would be were it free.
    pub fn carry(
        &mut self,
        x: &mut DVector<f64>,
        ports: &[f64],
        (moving, drifting): (&[usize], &[Drifting]),
        (time, at_bounds): (f64, bool),
    ) -> Result<Piece, Breakdown> {
        let before = x.clone();
        self.follow(x, ports, time)?;
        let middle = (&*x + before) * 0.5;
        let held = if at_bounds { self.held(x.as_slice(), ports) } else { Held::default() };
        let (process, n) = (self.process.as_ref(), middle.len());
        let a = slopes(middle.as_slice(), 0..n, n, |x, rates| process.rates(x, ports, held, rates));
        let mut b =
            slopes(ports, moving.iter().copied(), n, |u, rates| process.rates(middle.as_slice(), u, held, rates));
        let drifts =
            self.by_parameters(drifting, n, |process, rates| process.rates(middle.as_slice(), ports, held, rates));
        let first = b.ncols();
        b.resize_horizontally_mut(first + drifts.ncols(), 0.0);
        b.columns_mut(first, drifts.ncols()).copy_from(&drifts);
        let (mut by_states, mut by_ports) = discrete(&a, &b, time).ok_or(Breakdown::NotFinite(0))?;
        for Bound { state, .. } in
            self.bounds.iter().filter(|bound| held.is_low(bound.state) || held.is_high(bound.state))
        {
            by_states.row_mut(*state).fill(0.0);
            by_ports.row_mut(*state).fill(0.0);
        }
        Ok(Piece { by_states, by_ports, held })
    }

    /// Derivatives of all outputs by the states, and by the ports that move.
    pub fn outputs_by(&self, x: &[f64], ports: &[f64], moving: &[usize]) -> [DMatrix<f64>; 2] {
        let (process, held) = (self.process.as_ref(), self.held(x, ports));
        let outputs = process.description().outputs.len();
        [
            slopes(x, 0..x.len(), outputs, |x, shown| process.outputs(x, ports, held, shown)),
            slopes(ports, moving.iter().copied(), outputs, |u, shown| process.outputs(x, u, held, shown)),
        ]
    }

    /// All outputs.
    pub fn outputs(&self, x: &[f64], ports: &[f64]) -> Vec<f64> {
        let mut outputs = vec![0.0; self.process.description().outputs.len()];
        self.process.outputs(x, ports, self.held(x, ports), &mut outputs);
        outputs
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        /// The exponential by its series is nalgebra's, by Padé's fractions, for slow and for fast equations.
        #[test]
        fn a_piece_is_carried_as_the_exponential_has_it(
            numbers in proptest::collection::vec(-1f64..1.0, 12),
            size in -3f64..2.0,
        ) {
            let a = DMatrix::from_column_slice(3, 3, &numbers[..9]) * 10f64.powf(size) - DMatrix::identity(3, 3) * 10f64.powf(size);
            let b = DMatrix::from_column_slice(3, 1, &numbers[9..]);
            let (phi, gamma) = discrete(&a, &b, 1.5).unwrap();
            let mut block = DMatrix::zeros(4, 4);
            block.view_mut((0, 0), (3, 3)).copy_from(&(&a * 1.5));
            block.view_mut((0, 3), (3, 1)).copy_from(&(&b * 1.5));
            let exact = block.exp();
            let scale = exact.amax().max(1.0);
            prop_assert!((phi - exact.view((0, 0), (3, 3))).amax() < 1e-8 * scale);
            prop_assert!((gamma - exact.view((0, 3), (3, 1))).amax() < 1e-8 * scale);
        }

        /// What differences make of a function whose derivatives are known.
        #[test]
        fn slopes_are_those_of_the_function(x in -3f64..3.0, y in 0.2f64..3.0) {
            let found = slopes(&[x, y], [0, 1].into_iter(), 2, |at, into| {
                into[0] = at[0].sin() * at[1];
                into[1] = at[1].powi(3) - at[0];
            });
            let exact = [[x.cos() * y, x.sin()], [-1.0, 3.0 * y * y]];
            for (i, row) in exact.iter().enumerate() {
                for (j, exact) in row.iter().enumerate() {
                    prop_assert!((found[(i, j)] - exact).abs() < 1e-7 * exact.abs().max(1.0), "{} {}", found[(i, j)], exact);
                }
            }
        }
    }

    fn equations(name: &str) -> Equations {
        let spec = ProcessSpec::library(name, &[]);
        Equations::new(spec.clone(), spec.build("").unwrap())
    }

    /// Torricelli: in a cone `h^1.5 h' = −k H³/(3 V)`, so that `h^2.5` falls evenly until nothing is left.
    #[test]
    fn a_cone_runs_dry_when_it_does_by_torricelli_and_stays_so() {
        let mut own = equations("cone_tank");
        let (height, full, begin) = (4.0f64, std::f64::consts::PI * 9.0 * 4.0 / 12.0, 2.5f64);
        let k = 0.62 * 20e-4 * (2.0 * 9.81f64).sqrt();
        let fall = 2.5 * k * height.powi(3) / (3.0 * full);
        let dry = begin.powf(2.5) / fall;
        for share in [0.2, 0.5, 0.9, 0.99, 1.01, 3.0] {
            let mut x = DVector::from_element(1, full * (begin / height).powi(3));
            own.follow(&mut x, &[0.0, 100.0], share * dry).unwrap();
            let exact = (begin.powf(2.5) - fall * share * dry).max(0.0).powf(0.4);
            let level = own.outputs(x.as_slice(), &[0.0, 100.0])[0];
            assert!((level - exact).abs() < 1e-4, "{share} of the time: {level} {exact}");
            assert!(x[0] >= 0.0);
        }
    }

    /// More is drawn than flows in until nothing is left, then less: what was before is forgotten, and what is now counts.
    #[test]
    fn a_dry_tank_forgets_what_was_before() {
        let mut own = equations("pumped_tank");
        let mut x = DVector::from_element(1, 1.0);
        let (by, ports) = ((&[0, 1][..], &[][..]), [30.0, 12.0]);
        let wet = own.carry(&mut x, &ports, by, (100.0, true)).unwrap();
        assert!((x[0] - (1.0 - 18.0 / 36.0)).abs() < 1e-9 && !wet.held.any());
        let rates = [wet.by_ports[(0, 0)] * 36.0, wet.by_ports[(0, 1)] * 36.0];
        assert!(
            (wet.by_states[(0, 0)] - 1.0).abs() < 1e-9
                && (rates[0] + 1.0).abs() < 1e-7
                && (rates[1] - 1.0).abs() < 1e-7
        );
        let dry = own.carry(&mut x, &ports, by, (1000.0, true)).unwrap();
        assert!(x[0] == 0.0 && dry.held.is_low(0));
        assert!(dry.by_states.amax() == 0.0 && dry.by_ports.amax() == 0.0);
        // What flows out of it is what flows in.
        assert!((own.outputs(x.as_slice(), &ports)[1] - 12.0).abs() < 1e-9);
        // Were it free, it would remember.
        let free = own.carry(&mut x, &ports, by, (1000.0, false)).unwrap();
        assert!((free.by_states[(0, 0)] - 1.0).abs() < 1e-9 && !free.held.any());
        let filled = own.carry(&mut x, &[6.0, 12.0], by, (300.0, true)).unwrap();
        assert!((x[0] - 0.5).abs() < 1e-9 && !filled.held.any());
        assert!((filled.by_ports[(0, 1)] * 12.0 - 1.0).abs() < 1e-7);
    }

    proptest! {
        /// A tank whose flows stand takes what they bring, between nothing and its rim; beyond that it spills.
        #[test]
        fn a_tank_holds_between_nothing_and_its_rim(
            begin in 0f64..24.0,
            pieces in proptest::collection::vec((0f64..90.0, 0f64..90.0, 1f64..3000.0), 1..8),
        ) {
            let mut own = equations("pumped_tank");
            let (mut x, mut exact) = (DVector::from_element(1, begin), begin);
            for (out, into, time) in pieces {
                own.follow(&mut x, &[out, into], time).unwrap();
                exact = (exact + (into - out) / 3600.0 * time).clamp(0.0, 24.0);
                prop_assert!((x[0] - exact).abs() < 1e-8, "{} {exact}", x[0]);
                let spill = own.outputs(x.as_slice(), &[out, into])[2];
                let expected = if exact == 24.0 { (into - out).max(0.0) } else { 0.0 };
                prop_assert!((spill - expected).abs() < 1e-9, "{spill} {expected}");
            }
        }
    }

    #[test]
    fn what_is_no_number_is_not_carried() {
        let none = DMatrix::from_element(1, 1, f64::NAN);
        assert!(discrete(&none, &DMatrix::zeros(1, 1), 1.0).is_none());
        assert!(discrete(&DMatrix::from_element(1, 1, 1e6), &DMatrix::zeros(1, 1), 1.0).is_none());
    }
}
