//! Steps of the PV that nothing measured explains: a valve by hand, another feed, a sensor that was set anew.

use super::Fit;
use super::prepared::{Point, Prepared};
use super::unknowns::{Layout, Rest};
use crate::Result;
use crate::identification::data::DataSet;
use crate::identification::loss::ScaledLoss;
use crate::identification::noise::Whitening;
use crate::numerics::{NormalEquations, deviation_by_median};

/// Most steps that are sought.
const MOST: usize = 8;
/// By how many of its standard errors a step must differ from none: far beyond the largest that chance brings in a million
/// samples (five).
const SIGNIFICANT: f64 = 6.0;
/// Samples on either side that a step needs to be told from an end of the data.
const BESIDE: usize = 3;
/// Share of a step's own shape that must be left beside what level, gain and drift can make of it.
const OWN_SHARE: f64 = 1e-4;

/// A step that nothing measured explains.
#[derive(Debug, Clone, Copy)]
pub(super) struct Unexplained {
    pub(super) stretch: usize,
    /// Sample of the stretch.
    pub(super) at: usize,
    /// About how large it is, PV units.
    pub(super) size: f64,
}

impl Fit<'_> {
    /// The fit with the steps that nothing measured explains, found one after the other, each where it tells most.
    pub(super) fn with_steps(mut self, stretches: &[DataSet]) -> Result<Self> {
        for _ in 0..MOST {
            let Some(Unexplained { stretch, at, .. }) = self.unexplained_step(stretches) else { break };
            let mut steps = self.layout.steps();
            steps[stretch].push(at);
            steps[stretch].sort_unstable();
            let layout = Layout::with(self.options, stretches[0].inputs.len(), &steps, Rest::Unknown);
            let known = Point {
                unknowns: layout.taken_over(&self.layout, &self.point.unknowns),
                before: self.point.before.clone(),
                sum_of_squares: f64::INFINITY,
            };
            // A step can have put the whole fit into another valley: it is sought anew as well.
            self = Self::in_layout(stretches, self.options, layout, |prepared| {
                let near = prepared.refined(&known, super::search::TOLERANCE, &ScaledLoss::SQUARES);
                let anew = prepared.best();
                match (near, anew) {
                    (Some(near), Ok(anew)) if near.sum_of_squares <= anew.sum_of_squares => Ok(near),
                    (Some(near), Err(_)) => Ok(near),
                    (_, anew) => anew,
                }
            })?;
        }
        Ok(self)
    }

    /// The step that would explain most of what is left, where it is significant.
    pub(super) fn unexplained_step(&self, stretches: &[DataSet]) -> Option<Unexplained> {
        let prepared = Prepared::new(stretches, &self.layout, &self.bounds);
        let Point { unknowns, before, .. } = &self.point;
        let own = match &self.whitening {
            Some(whitening) => whitening.clone(),
            None => Whitening::of(&prepared.residuals(unknowns, before), false)?,
        };
        let whitened = prepared.whitened(Some(own));
        let whitening = whitened.whitening.as_ref()?;
        let sums = whitened.sums(unknowns, before, &ScaledLoss::SQUARES);
        let covariance = sums.inverse(&self.bounds.active(unknowns))?;
        let mut sizes: Vec<f64> =
            whitened.innovations(unknowns, before).into_iter().filter(|e| e.is_finite()).map(f64::abs).collect();
        // 1.4826 times the median of the absolute values is the standard deviation, whatever steps there are; with outliers it
        // is larger, but for the few values that steps make.
        let small = sizes.len().saturating_sub(MOST);
        if small < sizes.len() {
            sizes.select_nth_unstable_by(small, f64::total_cmp);
        }
        sizes.truncate(small);
        let power = sizes.iter().map(|e| e * e).sum::<f64>() / sizes.len().max(1) as f64;
        let deviation = deviation_by_median(&mut sizes).max(power.sqrt());
        if deviation <= 0.0 {
            return None;
        }
        let shape = whitening.step_shape();
        let mut best: Option<(Unexplained, f64)> = None;
        for (k, before) in before.iter().enumerate() {
            let rows = whitened.whitened_rows_in(k, unknowns, *before);
            let count = rows.len();
            let width = self.layout.count;
            // Sums of the rows from each sample to the end, and how many there are.
            let entries = width + 2;
            let mut suffix = vec![0.0; entries * (count + 1)];
            for at in (0..count).rev() {
                let (now, later) = suffix[entries * at..entries * (at + 2)].split_at_mut(entries);
                now.copy_from_slice(later);
                if let Some(row) = rows.get(at) {
                    now.iter_mut().zip(row).for_each(|(sum, value)| *sum += value);
                    now[width + 1] += 1.0;
                }
            }
            let mut along = vec![0.0; entries];
            let (early, lasting) = shape.split_at(shape.len() - 1);
            for at in BESIDE..count.saturating_sub(BESIDE) {
                let from = entries * (at + early.len()).min(count);
                along.iter_mut().zip(&suffix[from..from + entries]).for_each(|(to, sum)| *to = sum * lasting[0]);
                let mut power = along[width + 1] * lasting[0];
                for (lag, value) in early.iter().enumerate() {
                    if let Some(row) = rows.get(at + lag) {
                        row.iter().enumerate().for_each(|(j, entry)| along[j] += value * entry);
                        power += value * value;
                    }
                }
                // However little of the step the other unknowns leave to it, it cannot be more significant than this.
                let at_most = along[width].powi(2) / (OWN_SHARE * power * deviation * deviation);
                if at_most <= best.map_or(0.0, |(_, known)| known).max(SIGNIFICANT * SIGNIFICANT) {
                    continue;
                }
                let mut explained = 0.0;
                for i in 0..width {
                    let row: f64 = (0..width).map(|j| covariance[(i, j)] * along[j]).sum();
                    explained += along[i] * row;
                }
                let left = power - explained;
                if left < OWN_SHARE * power {
                    continue;
                }
                let significance = along[width].powi(2) / (left * deviation * deviation);
                if best.is_none_or(|(_, known)| significance > known) {
                    // The rows hold modelled minus measured.
                    best = Some((Unexplained { stretch: k, at, size: -along[width] / left }, significance));
                }
            }
        }
        let (found, significance) = best?;
        let known = &self.layout.stretches[found.stretch].steps;
        let is_known = known.iter().any(|step| step.at.abs_diff(found.at) <= 1);
        (significance > SIGNIFICANT * SIGNIFICANT && !is_known).then_some(found)
    }
}

/// The standard error of each step of a stretch, from the whitened normal equations.
pub(super) fn errors(sums: &NormalEquations, held: &[usize], places: &[usize], deviation: f64) -> Vec<Option<f64>> {
    let covariance = sums.inverse(held);
    places
        .iter()
        .map(|place| covariance.as_ref().map(|known| deviation * known[(*place, *place)].max(0.0).sqrt()))
        .collect()
}
