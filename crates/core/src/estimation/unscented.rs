//! The unscented Kalman filter: the covariance goes through the equations by a few points that stand for it.

use super::{Estimator, Gaussian, Innovations, Lost, Observed, add_unrest, symmetrise};
use nalgebra::{DMatrix, DVector};

/// The unscented Kalman filter with additive noise (Wan & van der Merwe, in Haykin, Kalman Filtering and Neural Networks, 2001, table
/// 7.3): α = 1, β = 2, κ = 0, so that no weight is negative and the covariance stays positive. Points are kept within the bounds of
/// their states (Kandepu, Foss & Imsland, Journal of Process Control 18, 2008).
#[derive(Debug, Clone)]
pub struct Unscented {
    now: Gaussian,
}

/// Weight of the middle point in a covariance, `1 − α² + β` more than in a mean, where it is 0.
const MIDDLE: f64 = 2.0;

impl Unscented {
    /// From an estimate at the first sample, before it is corrected by it.
    #[must_use]
    pub fn new(start: Gaussian) -> Self {
        Self { now: start }
    }

    /// The middle point, then two on each axis of the covariance.
    fn points(&self, system: &dyn Observed) -> Vec<DVector<f64>> {
        let n = self.now.mean.len();
        let root = root(&(&self.now.covariance * n as f64));
        let mut points = vec![self.now.mean.clone()];
        for sign in [1.0, -1.0] {
            points.extend(root.column_iter().map(|column| &self.now.mean + column * sign));
        }
        for point in &mut points {
            for (state, value) in point.iter_mut().enumerate() {
                let (low, high) = system.bounds(state);
                *value = value.clamp(low, high);
            }
        }
        points
    }
}

/// The lower triangular root of a covariance; of one that rounding has made not quite positive, of the nearest that is.
fn root(covariance: &DMatrix<f64>) -> DMatrix<f64> {
    // States have units of their own: scaled by their deviations first.
    let scale: Vec<f64> = covariance.diagonal().iter().map(|v| v.max(0.0).sqrt()).collect();
    let inverse = |value: f64| if value > 0.0 { value.recip() } else { 0.0 };
    let n = covariance.nrows();
    let mut correlation =
        DMatrix::from_fn(
            n,
            n,
            |i, j| {
                if i == j { 1.0 } else { covariance[(i, j)] * inverse(scale[i]) * inverse(scale[j]) }
            },
        );
    let mut more = 1e-14;
    loop {
        if let Some(root) = correlation.clone().cholesky() {
            let mut root = root.l();
            root.row_iter_mut().zip(&scale).for_each(|(mut row, scale)| row *= *scale);
            return root;
        }
        // With enough on its diagonal a correlation has a root; one that is no number has none.
        correlation.iter_mut().filter(|value| !value.is_finite()).for_each(|value| *value = 0.0);
        correlation += DMatrix::identity(n, n) * more;
        more *= 10.0;
    }
}

/// Mean of points, the middle one left out.
fn mean(points: &[DVector<f64>]) -> DVector<f64> {
    let spread = &points[1..];
    spread.iter().fold(DVector::zeros(points[0].len()), |sum, point| sum + point) / spread.len() as f64
}

/// Covariance of points about their means.
fn between(a: &[DVector<f64>], a_mean: &DVector<f64>, b: &[DVector<f64>], b_mean: &DVector<f64>) -> DMatrix<f64> {
    let weight = 1.0 / (a.len() - 1) as f64;
    let weights = std::iter::once(MIDDLE).chain(std::iter::repeat(weight));
    let mut sum = DMatrix::zeros(a_mean.len(), b_mean.len());
    for ((a, b), weight) in a.iter().zip(b).zip(weights) {
        sum += (a - a_mean) * (b - b_mean).transpose() * weight;
    }
    sum
}

impl Estimator for Unscented {
    fn now(&self) -> &Gaussian {
        &self.now
    }

    fn correct(&mut self, system: &mut dyn Observed, k: usize, innovations: &mut Innovations) -> Result<(), Lost> {
        let outputs = system.outputs();
        let seen: Vec<usize> = (0..outputs).filter(|output| system.measured(k, *output).is_finite()).collect();
        (0..outputs).filter(|output| !seen.contains(output)).for_each(|output| innovations.missing(output));
        if seen.is_empty() {
            return Ok(());
        }
        let points = self.points(system);
        let mut shown = vec![0.0; outputs];
        let images: Vec<DVector<f64>> = points
            .iter()
            .map(|point| {
                system.show(k, point.as_slice(), &mut shown, None);
                DVector::from_iterator(seen.len(), seen.iter().map(|output| shown[*output]))
            })
            .collect();
        let expected = mean(&images);
        let mut variance = between(&images, &expected, &images, &expected);
        for (i, output) in seen.iter().enumerate() {
            variance[(i, i)] += system.noise(*output);
        }
        let across = between(&points, &self.now.mean, &images, &expected);
        let new = DVector::from_iterator(seen.len(), seen.iter().map(|output| system.measured(k, *output))) - &expected;
        let root = variance.cholesky().ok_or(Lost)?;
        let gain = root.solve(&across.transpose()).transpose();
        self.now.mean += &gain * &new;
        let variance = root.l() * root.l().transpose();
        self.now.covariance -= &gain * &variance * gain.transpose();
        symmetrise(&mut self.now.covariance);
        // As independent ones: each beyond what the earlier ones let expect.
        let white = root.l().solve_lower_triangular(&new).ok_or(Lost)?;
        for (i, output) in seen.iter().enumerate() {
            let deviation = root.l_dirty()[(i, i)];
            innovations.add(*output, new[i], white[i] * deviation, deviation * deviation);
        }
        self.now.keep_within(system);
        Ok(())
    }

    fn predict(&mut self, system: &mut dyn Observed, k: usize) -> Result<(), Lost> {
        let mut points = self.points(system);
        for point in &mut points {
            system.advance(k, point.as_mut_slice(), None)?;
        }
        self.now.mean = mean(&points);
        self.now.covariance = between(&points, &self.now.mean, &points, &self.now.mean);
        add_unrest(system, k, &mut self.now.covariance);
        symmetrise(&mut self.now.covariance);
        self.now.keep_within(system);
        Ok(())
    }
}
