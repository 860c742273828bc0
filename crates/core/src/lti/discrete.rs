//! One discrete state space: what every linear process becomes behind the holds of a digital controller.

use super::{DeadTime, SampledDelay, StateSpace, TransferMatrix};
use crate::numerics::eigenvalues;
use crate::{Error, Result};
use nalgebra::{DMatrix, DVector};

/// Most states, those that remember inputs among them.
const MOST_STATES: usize = 240;
/// Scans over which states are looked at to scale them; of what runs away fewer, so that it has not grown by more than this.
const SCALED_OVER: usize = 300;
const GROWN: f64 = 100.0;

/// `x[k+1] = Φ x[k] + Γ u[k]`, `y[k] = C x[k]`: inputs held over a scan, outputs sampled before the new inputs act.
///
/// The first states are those of the process; behind them stand the inputs of the scans before, as many as its dead times reach back,
/// each input at least once: `x = (process; u₁[k−1], u₁[k−2], …; u₂[k−1], …)`.
#[derive(Debug, Clone, PartialEq)]
pub struct Discrete {
    phi: DMatrix<f64>,
    gamma: DMatrix<f64>,
    c: DMatrix<f64>,
    /// States of the process.
    own: usize,
    /// Where the memory of each input begins; at the end where the last one ends.
    memory: Vec<usize>,
    scan: f64,
}

impl Discrete {
    /// A matrix of transfer functions with dead times, behind a hold of `scan` seconds. Exact: a dead time that is no whole number of
    /// scans is split (Åström & Wittenmark, Computer-Controlled Systems, section 2.3). Errors where its dead times take too many scans.
    pub fn of(matrix: &TransferMatrix, scan: f64) -> Result<Self> {
        let (own, inputs) = (matrix.a.nrows(), matrix.inputs);
        let delays: Vec<SampledDelay> =
            matrix.ways.iter().map(|way| Ok(DeadTime::new(way.dead_time)?.sampled(scan))).collect::<Result<_>>()?;
        let feels = |k: usize| matrix.d.column(k).iter().any(|value| *value != 0.0);
        let mut reach = vec![1; inputs];
        for (k, (way, delay)) in matrix.ways.iter().zip(&delays).enumerate() {
            let back = delay.scans + usize::from(delay.remainder > 0.0 || feels(k));
            reach[way.input] = reach[way.input].max(back);
        }
        let states = own + reach.iter().sum::<usize>();
        if states > MOST_STATES {
            let longest = matrix.longest_dead_time();
            let value = format!("{scan} s, with dead times of up to {} scans", (longest / scan).ceil());
            let allowed = format!("longer, so that all that is remembered comes to {MOST_STATES} numbers at most");
            return Err(Error::invalid("scan", value, allowed));
        }
        let mut memory = vec![own];
        for reach in &reach {
            memory.push(memory[memory.len() - 1] + reach);
        }
        let system = StateSpace::new(matrix.a.clone(), matrix.b.clone(), matrix.c.clone(), DeadTime::default())?;
        let (mut phi, mut gamma) = (DMatrix::zeros(states, states), DMatrix::zeros(states, inputs));
        let mut c = DMatrix::zeros(matrix.outputs(), states);
        phi.view_mut((0, 0), (own, own)).copy_from(&system.discretised(scan).0);
        c.view_mut((0, 0), (matrix.outputs(), own)).copy_from(&matrix.c);
        for (k, (way, delay)) in matrix.ways.iter().zip(&delays).enumerate() {
            let SampledDelay { scans, remainder } = *delay;
            let (of_rest, late) = system.discretised(scan - remainder);
            // The input of so many scans ago; that of none ago comes in.
            let mut add = |ago: usize, column: &DMatrix<f64>| match ago.checked_sub(1) {
                None => gamma.view_mut((0, way.input), (own, 1)).zip_apply(column, |value, more| *value += more),
                Some(place) => phi
                    .view_mut((0, memory[way.input] + place), (own, 1))
                    .zip_apply(column, |value, more| *value += more),
            };
            add(scans, &late.columns(k, 1).into_owned());
            if remainder > 0.0 {
                add(scans + 1, &(of_rest * system.discretised(remainder).1.columns(k, 1)));
            }
            if feels(k) {
                let mut felt = c.column_mut(memory[way.input] + scans);
                felt += matrix.d.column(k);
            }
        }
        for input in 0..inputs {
            gamma[(memory[input], input)] = 1.0;
            for place in memory[input] + 1..memory[input + 1] {
                phi[(place, place - 1)] = 1.0;
            }
        }
        let mut discrete = Self { phi, gamma, c, own, memory, scan };
        discrete.scale();
        Ok(discrete)
    }

    /// Scales the states of the process so that unit inputs make them about 1 within a while: by powers of two, which change no digit.
    fn scale(&mut self) {
        let standing = self.of_standing_inputs();
        let phi = self.phi.view((0, 0), (self.own, self.own)).into_owned();
        let fastest = eigenvalues(phi.clone()).iter().map(|root| root.norm()).fold(0.0, f64::max);
        let over = if fastest > 1.0 {
            (GROWN.ln() / fastest.ln()).ceil().min(SCALED_OVER as f64) as usize
        } else {
            SCALED_OVER
        };
        let mut reached = vec![0.0f64; self.own];
        for input in 0..self.inputs() {
            let mut x = DVector::zeros(self.own);
            for _ in 0..over {
                x = &phi * x + standing.column(input);
                reached.iter_mut().zip(x.iter()).for_each(|(most, x)| *most = most.max(x.abs()));
            }
        }
        for (k, most) in reached.into_iter().enumerate() {
            let scale = if most.is_normal() { most.log2().round().clamp(-200.0, 200.0).exp2() } else { 1.0 };
            self.phi.row_mut(k).scale_mut(scale.recip());
            self.gamma.row_mut(k).scale_mut(scale.recip());
            self.phi.column_mut(k).scale_mut(scale);
            self.c.column_mut(k).scale_mut(scale);
        }
    }

    /// The same where the first inputs act so many times as strongly: what is remembered of them is what they were.
    #[must_use]
    pub(crate) fn acting(&self, factors: &[f64]) -> Self {
        let mut other = self.clone();
        for (input, factor) in factors.iter().enumerate() {
            other.gamma.view_mut((0, input), (self.own, 1)).scale_mut(*factor);
            for place in self.memory(input) {
                other.phi.view_mut((0, place), (self.own, 1)).scale_mut(*factor);
                other.c.column_mut(place).scale_mut(*factor);
            }
        }
        other
    }

    /// The matrices Φ, Γ and C.
    #[must_use]
    pub fn matrices(&self) -> (&DMatrix<f64>, &DMatrix<f64>, &DMatrix<f64>) {
        (&self.phi, &self.gamma, &self.c)
    }

    /// Number of states, those that remember inputs among them.
    #[must_use]
    pub fn order(&self) -> usize {
        self.phi.nrows()
    }

    /// Number of states of the process itself, which come first.
    #[must_use]
    pub fn own(&self) -> usize {
        self.own
    }

    /// Number of inputs.
    #[must_use]
    pub fn inputs(&self) -> usize {
        self.gamma.ncols()
    }

    /// Number of outputs.
    #[must_use]
    pub fn outputs(&self) -> usize {
        self.c.nrows()
    }

    /// Seconds between samples.
    #[must_use]
    pub fn scan(&self) -> f64 {
        self.scan
    }

    /// Where an input is remembered, that of the scan before first.
    #[must_use]
    pub fn memory(&self, input: usize) -> std::ops::Range<usize> {
        self.memory[input]..self.memory[input + 1]
    }

    /// What inputs that stand do to the process a scan, dead times being over: own states × inputs.
    #[must_use]
    pub fn of_standing_inputs(&self) -> DMatrix<f64> {
        let mut all = self.gamma.rows(0, self.own).into_owned();
        for input in 0..self.inputs() {
            for place in self.memory(input) {
                let mut column = all.column_mut(input);
                column += self.phi.view((0, place), (self.own, 1));
            }
        }
        all
    }

    /// What outputs feel directly of inputs that stand: outputs × inputs.
    #[must_use]
    pub fn felt_directly(&self) -> DMatrix<f64> {
        DMatrix::from_fn(self.outputs(), self.inputs(), |output, input| {
            self.memory(input).map(|place| self.c[(output, place)]).sum()
        })
    }

    /// The outputs 1, 2, … scans after a unit step of an input: row by row, one a scan.
    #[must_use]
    pub fn step_response(&self, input: usize, scans: usize) -> DMatrix<f64> {
        let mut x = DVector::zeros(self.order());
        let mut responses = DMatrix::zeros(scans, self.outputs());
        for k in 0..scans {
            x = &self.phi * x + self.gamma.column(input);
            responses.row_mut(k).copy_from(&(&self.c * &x).transpose());
        }
        responses
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// `K (αs + 1)/(τs + 1) e^(−θs)` from each of its inputs to one output; `τ` below 0 runs away.
    fn lags(cells: &[[f64; 4]]) -> TransferMatrix {
        let n = cells.len();
        let of = |value: &dyn Fn(&[f64; 4]) -> f64| DVector::from_iterator(n, cells.iter().map(value));
        let through = of(&|[gain, lead, tau, _]| gain * lead / tau);
        let a = DMatrix::from_diagonal(&of(&|[_, _, tau, _]| -1.0 / tau));
        let b = DMatrix::from_diagonal(&of(&|[gain, lead, tau, _]| gain * (1.0 - lead / tau) / tau));
        let ways = cells.iter().enumerate().map(|(k, cell)| (k, DeadTime::new(cell[3]).unwrap()));
        TransferMatrix::new(
            [a, b, DMatrix::from_element(1, n, 1.0), DMatrix::from_row_slice(1, n, through.as_slice())],
            ways,
            n,
        )
    }

    /// Each against `K (1 − (1 − α/τ) e^(−(t − θ)/τ))`, the first moment at which a hold's step is felt counted out (exact mathematics).
    #[test]
    fn responses_to_steps_are_those_of_the_formula_between_scans_too() {
        let cells = [
            [1.5, 0.0, 20.0, 0.0],
            [-2.0, 0.0, 7.0, 3.0],
            [0.4, 0.0, 1e4, 7.3],
            [0.7, 3.0, 9.0, 2.45],
            [1.2, 0.0, -30.0, 0.6],
        ];
        let scan = 0.8;
        let discrete = Discrete::of(&lags(&cells), scan).unwrap();
        for (input, [gain, lead, tau, theta]) in cells.into_iter().enumerate() {
            let response = discrete.step_response(input, 60);
            for k in 1..=60 {
                let since = k as f64 * scan - theta;
                // What is felt directly is sampled before it acts.
                let formula = if since > 1e-9 { gain * (1.0 - (1.0 - lead / tau) * (-since / tau).exp()) } else { 0.0 };
                let own = response[(k - 1, 0)];
                assert!(
                    (own - formula).abs() < 1e-11 * formula.abs().max(1.0),
                    "input {input}, scan {k}: {own} {formula}"
                );
            }
        }
    }

    #[test]
    fn inputs_that_stand_do_what_they_do_when_dead_times_are_over() {
        let discrete = Discrete::of(&lags(&[[1.5, 0.0, 20.0, 3.3], [0.7, 3.0, 9.0, 2.0]]), 1.0).unwrap();
        let own = discrete.own();
        let phi = discrete.matrices().0.view((0, 0), (own, own)).into_owned();
        let rest = (DMatrix::identity(own, own) - phi).lu().solve(&discrete.of_standing_inputs()).unwrap();
        let gains = discrete.matrices().2.columns(0, own) * rest + discrete.felt_directly();
        assert!((gains[0] - 1.5).abs() < 1e-12 && (gains[1] - 0.7).abs() < 1e-12, "{gains}");
        assert_eq!((discrete.memory(0).len(), discrete.memory(1).len(), discrete.order()), (4, 3, own + 7));
    }

    #[test]
    fn states_are_scaled_to_about_one_though_something_runs_away() {
        // 300 scans would carry it to e^150.
        let discrete = Discrete::of(&lags(&[[1.0, 0.0, -2.0, 0.0], [1e-6, 0.0, 5.0, 0.0]]), 1.0).unwrap();
        let (_, gamma, c) = discrete.matrices();
        for k in 0..2 {
            let (into, out) = (gamma.row(k).amax(), c[(0, k)].abs());
            assert!((1e-4..=2.0).contains(&into), "state {k}: {into} {out}");
        }
        let error = Discrete::of(&lags(&[[1.0, 0.0, 5.0, 1000.0]]), 1.0).unwrap_err();
        assert_eq!(error.field(), Some("scan"), "{error}");
    }
}
