//! All loops of a trial together: what they do to disturbances from any direction, and how far they are from oscillating.

use super::super::frequency::highest;
use super::network::Network;
use crate::verdict::{Tone, Verdict, readable};
use nalgebra::{DMatrix, Schur};
use num_complex::Complex64;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Points of curves for drawing, at most.
const DRAWN: usize = 600;

/// Several loops over frequency, in % of the spans of what they measure: the loops of a cascade count by the outer one.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct LoopsTogether {
    /// The controllers whose set points come from outside.
    pub loops: Vec<String>,
    /// Whether all loops together are stable: the generalised Nyquist criterion on `det(I + L)` (MacFarlane & Postlethwaite, Int. J.
    /// Control 25, 1977).
    pub stable: bool,
    /// Angular frequencies in rad/s.
    pub omega: Vec<f64>,
    /// The largest singular value of S = (I + L)⁻¹ at each: by how much disturbances at the PVs come through from the worst direction.
    pub largest_sensitivity: Vec<f64>,
    /// The smallest one: from the best direction.
    pub smallest_sensitivity: Vec<f64>,
    /// The largest singular value of T = I − S at each.
    pub largest_complementary: Vec<f64>,
    /// The smallest one.
    pub smallest_complementary: Vec<f64>,
    /// The eigenvalues of L, each a curve: the characteristic loci.
    pub loci: Vec<Locus>,
    /// The highest of the largest singular values of S, and where it is; null where the loops are not stable.
    pub peak_sensitivity: Option<Peak>,
    /// The same of T.
    pub peak_complementary: Option<Peak>,
    /// What they mean.
    pub verdicts: Vec<Verdict>,
}

/// An eigenvalue of the loops over frequency.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Locus {
    /// Real part.
    pub real: Vec<f64>,
    /// Imaginary part.
    pub imaginary: Vec<f64>,
}

/// The highest point of a curve.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Peak {
    /// Its height.
    pub height: f64,
    /// Where it is, rad/s.
    pub omega: f64,
}

impl LoopsTogether {
    /// Of a network whose controllers have these names. None with fewer than two loops.
    pub(super) fn of(network: &Network, names: &[&str]) -> Option<Self> {
        let at_work = network.at_work();
        let own = network.with_own_set_point(&at_work);
        if own.len() < 2 {
            return None;
        }
        let determinant = |omega: f64| network.determinant(&at_work, omega) - 1.0;
        let stable = network.forwards_hold() && network.as_loop_gain(determinant).margins().stable;
        let grid = network.grid();
        let mut curves = Self {
            loops: own.iter().map(|k| names[*k].to_owned()).collect(),
            stable,
            omega: Vec::new(),
            largest_sensitivity: Vec::new(),
            smallest_sensitivity: Vec::new(),
            largest_complementary: Vec::new(),
            smallest_complementary: Vec::new(),
            loci: vec![Locus::default(); own.len()],
            peak_sensitivity: None,
            peak_complementary: None,
            verdicts: Vec::new(),
        };
        let mut before: Option<Vec<Complex64>> = None;
        for omega in grid.iter().step_by(grid.len().div_ceil(DRAWN).max(1)) {
            let Some(sensitivity) = network.sensitivity(&at_work, &own, *omega) else { continue };
            let [largest, smallest] = ends(&sensitivity);
            let [largest_t, smallest_t] = ends(&complementary(&sensitivity));
            let Some(mut loci) = loci(&sensitivity) else { continue };
            in_order_of(&mut loci, before.as_deref());
            curves.omega.push(*omega);
            curves.largest_sensitivity.push(largest);
            curves.smallest_sensitivity.push(smallest);
            curves.largest_complementary.push(largest_t);
            curves.smallest_complementary.push(smallest_t);
            for (curve, value) in curves.loci.iter_mut().zip(&loci) {
                curve.real.push(value.re);
                curve.imaginary.push(value.im);
            }
            before = Some(loci);
        }
        if stable {
            let at = |omega: f64| network.sensitivity(&at_work, &own, omega);
            let peak = |values: &[f64], of: &dyn Fn(f64) -> f64| {
                highest(&curves.omega, values, of).map(|(omega, height)| Peak { height, omega })
            };
            let largest = |omega: f64| at(omega).map_or(0.0, |s| ends(&s)[0]);
            let largest_t = |omega: f64| at(omega).map_or(0.0, |s| ends(&complementary(&s))[0]);
            let (s, t) = (peak(&curves.largest_sensitivity, &largest), peak(&curves.largest_complementary, &largest_t));
            (curves.peak_sensitivity, curves.peak_complementary) = (s, t);
        }
        curves.verdicts = vec![curves.judged()];
        Some(curves)
    }

    fn judged(&self) -> Verdict {
        let rule =
            "the largest singular value of S: up to 2 is robust, above 3 is not (as Ms of one loop; common practice)";
        let Some(Peak { height, omega }) = self.peak_sensitivity else {
            let text = "Together the loops are not stable: each can hold by itself and still drive the others. Lower their gains, the \
                        quickest last, or pair the signals otherwise.";
            return Verdict::new(Tone::Bad, text, "generalised Nyquist criterion on the sampled loops");
        };
        let tone = match height {
            height if height > 3.0 => Tone::Bad,
            height if height > 2.0 => Tone::Caution,
            _ => Tone::Good,
        };
        let text = format!(
            "Together the loops let a disturbance from the worst direction through {} times at {} rad/s, at every other frequency \
             less.",
            readable(height),
            readable(omega)
        );
        Verdict::new(tone, text, rule)
    }
}

/// T = I − S.
fn complementary(sensitivity: &DMatrix<Complex64>) -> DMatrix<Complex64> {
    DMatrix::identity(sensitivity.nrows(), sensitivity.nrows()) - sensitivity
}

/// The largest and the smallest singular value.
fn ends(matrix: &DMatrix<Complex64>) -> [f64; 2] {
    let values = matrix.clone().singular_values();
    [values.max(), values.min()]
}

/// The eigenvalues of L = S⁻¹ − I.
fn loci(sensitivity: &DMatrix<Complex64>) -> Option<Vec<Complex64>> {
    let opened =
        sensitivity.clone().try_inverse()? - DMatrix::<Complex64>::identity(sensitivity.nrows(), sensitivity.nrows());
    let schur = Schur::try_new(opened, f64::EPSILON, 10_000)?;
    let (_, triangle) = schur.unpack();
    Some(triangle.diagonal().iter().copied().collect())
}

/// Puts each eigenvalue into the place of the one that it comes from.
fn in_order_of(values: &mut Vec<Complex64>, before: Option<&[Complex64]>) {
    let Some(before) = before else {
        values.sort_by(|a, b| b.norm().total_cmp(&a.norm()));
        return;
    };
    let mut left = std::mem::take(values);
    for known in before {
        let nearest = (0..left.len()).min_by(|a, b| (left[*a] - known).norm().total_cmp(&(left[*b] - known).norm()));
        values.extend(nearest.map(|k| left.swap_remove(k)));
    }
}
