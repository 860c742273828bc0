//! A Rosenbrock method for stiff equations: order 4 with an error estimate of order 3, stiffly accurate.

use super::Rates;
use nalgebra::{DMatrix, DVector};

/// Order of the error estimate plus one.
pub(super) const ORDER: f64 = 4.0;

/// Coefficients of RODAS (Hairer & Wanner, Solving Ordinary Differential Equations II, section IV.7 and the appendix; from
/// memory, held to order 4 by a test).
const GAMMA: f64 = 0.25;
const A: [[f64; 5]; 6] = [
    [0.0; 5],
    [1.544, 0.0, 0.0, 0.0, 0.0],
    [0.946_678_528_081_582_6, 0.255_701_169_898_328_4, 0.0, 0.0, 0.0],
    [3.314_825_187_068_521, 2.896_124_015_972_201, 0.998_641_913_997_781_7, 0.0, 0.0],
    [1.221_224_509_226_641, 6.019_134_481_288_629, 12.537_083_329_320_87, -0.687_886_036_105_895, 0.0],
    [1.221_224_509_226_641, 6.019_134_481_288_629, 12.537_083_329_320_87, -0.687_886_036_105_895, 1.0],
];
const C: [[f64; 5]; 6] = [
    [0.0; 5],
    [-5.668_8, 0.0, 0.0, 0.0, 0.0],
    [-2.430_093_356_833_875, -0.206_359_915_709_191_5, 0.0, 0.0, 0.0],
    [-0.107_352_905_815_137_5, -9.594_562_251_023_355, -20.470_286_148_096_16, 0.0, 0.0],
    [7.496_443_313_967_647, -10.246_804_314_643_52, -33.999_903_528_199_05, 11.708_908_932_061_6, 0.0],
    [
        8.083_246_795_921_522,
        -7.981_132_988_064_893,
        -31.521_594_328_743_71,
        16.319_305_431_231_36,
        -6.058_818_238_834_054,
    ],
];
const NODES: [f64; 6] = [0.0, 0.386, 0.21, 0.63, 1.0, 1.0];
const TIME_SLOPES: [f64; 6] = [0.25, -0.1043, 0.1035, -0.036_200_000_000_000_23, 0.0, 0.0];

/// Room for the six stages, the Jacobian and its factors.
#[derive(Debug, Clone)]
pub(super) struct Implicit {
    stages: [DVector<f64>; 6],
    jacobian: DMatrix<f64>,
    time_slope: Vec<f64>,
    at: Vec<f64>,
    rates: Vec<f64>,
}

impl Implicit {
    pub(super) fn new(n: usize) -> Self {
        Self {
            stages: std::array::from_fn(|_| DVector::zeros(n)),
            jacobian: DMatrix::zeros(n, n),
            time_slope: vec![0.0; n],
            at: vec![0.0; n],
            rates: vec![0.0; n],
        }
    }

    /// Tries a step of `h` from `x` with these rates at its start: the new state into `after`; returns the error estimate,
    /// or None where the equations of the step cannot be solved.
    pub(super) fn attempt(
        &mut self,
        system: &impl Rates,
        t: f64,
        h: f64,
        x: &[f64],
        rates: &[f64],
        after: &mut [f64],
    ) -> Option<&[f64]> {
        let n = x.len();
        self.linearise(system, t, h, x, rates);
        let mut matrix = -&self.jacobian;
        for i in 0..n {
            matrix[(i, i)] += 1.0 / (h * GAMMA);
        }
        let factors = matrix.lu();
        for stage in 0..6 {
            let (done, rest) = self.stages.split_at_mut(stage);
            for i in 0..n {
                self.at[i] = x[i] + done.iter().zip(&A[stage]).map(|(k, weight)| weight * k[i]).sum::<f64>();
            }
            if stage == 5 {
                after.copy_from_slice(&self.at);
            }
            system.rates(t + NODES[stage] * h, &self.at, &mut self.rates);
            let right = &mut rest[0];
            for i in 0..n {
                let pull: f64 = done.iter().zip(&C[stage]).map(|(k, weight)| weight * k[i]).sum();
                right[i] = self.rates[i] + pull / h + TIME_SLOPES[stage] * h * self.time_slope[i];
            }
            if !factors.solve_mut(right) {
                return None;
            }
        }
        for (after, last) in after.iter_mut().zip(self.stages[5].iter()) {
            *after += last;
        }
        Some(self.stages[5].as_slice())
    }

    /// The Jacobian and the slope over time, by forward differences.
    fn linearise(&mut self, system: &impl Rates, t: f64, h: f64, x: &[f64], rates: &[f64]) {
        self.at.copy_from_slice(x);
        for (j, here) in x.iter().enumerate() {
            let nudge = 1e-7 * here.abs().max(1e-4);
            self.at[j] = here + nudge;
            system.rates(t, &self.at, &mut self.rates);
            for (i, before) in rates.iter().enumerate() {
                self.jacobian[(i, j)] = (self.rates[i] - before) / (self.at[j] - here);
            }
            self.at[j] = *here;
        }
        let nudge = 1e-4 * h;
        system.rates(t + nudge, x, &mut self.rates);
        for (i, before) in rates.iter().enumerate() {
            self.time_slope[i] = (self.rates[i] - before) / nudge;
        }
    }
}
