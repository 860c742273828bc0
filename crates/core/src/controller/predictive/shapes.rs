//! What the responses of a model look like, for what is proposed and what is said of settings.

use super::MOST_SCANS_AHEAD;
use nalgebra::DMatrix;

/// Share of its largest value within which a response must stay to have settled.
pub(super) const SETTLED: f64 = 0.02;
/// Scans that are looked ahead where nothing settles by itself.
const UNSETTLED: usize = 100;

/// What the step responses between MVs and CVs look like, in scans.
pub struct Shapes {
    mvs: usize,
    /// By CV.
    cells: Vec<Cell>,
    /// Scans to look ahead: until all has settled.
    pub horizon: usize,
    /// Whether all settles within what can be looked ahead.
    pub settles: bool,
}

/// What an MV does to a CV: how much by the end of the horizon, how late, and how slowly, in scans.
pub struct Cell {
    /// At the end of the horizon.
    pub gain: f64,
    /// Scans until it shows; what rises late counts as dead time, too.
    pub dead: f64,
    /// Scans from there to 63 %.
    pub lag: f64,
}

impl Shapes {
    /// From the step responses of each MV, scans × CVs.
    #[must_use]
    pub fn of(responses: &[DMatrix<f64>], cvs: usize) -> Self {
        let mvs = responses.len();
        let cell = |k: usize, j: usize| responses[j].column(k);
        // Until the last of them has settled; of what does not settle, so far as it is still near a line.
        let mut settled: usize = 1;
        for k in 0..cvs {
            for j in 0..mvs {
                let response = cell(k, j);
                let last = response[MOST_SCANS_AHEAD - 1];
                let off = response.iter().rposition(|value| (value - last).abs() > SETTLED * last.abs());
                settled = settled.max(off.map_or(1, |at| at + 2));
            }
        }
        let settles = settled + 2 < MOST_SCANS_AHEAD;
        let horizon = if settles { settled.max(10) } else { UNSETTLED };
        let cells = (0..cvs)
            .flat_map(|k| (0..mvs).map(move |j| (k, j)))
            .map(|(k, j)| {
                let response = cell(k, j);
                let gain = response[horizon - 1];
                // When it reaches a share of its gain, between scans; the first value is a scan after the move.
                let reached = |share: f64| {
                    let part = |at: usize| if at == 0 { 0.0 } else { response[at - 1] / gain };
                    let at = (1..=horizon).find(|at| part(*at) >= share).unwrap_or(horizon);
                    let (before, after) = (part(at - 1), part(at));
                    at as f64 - if after > before { (after - share).max(0.0) / (after - before) } else { 0.0 }
                };
                if gain == 0.0 {
                    return Cell { gain, dead: 0.0, lag: 1.0 };
                }
                // A lag with dead time through the points at 28.3 and 63.2 % (Smith 1972, from memory).
                let (early, late) = (reached(0.283), reached(0.632));
                let lag = (1.5 * (late - early)).max(0.1);
                Cell { gain, dead: (late - lag).max(0.0), lag }
            })
            .collect();
        Self { mvs, cells, horizon, settles }
    }

    /// What an MV does to a CV.
    #[must_use]
    pub fn cell(&self, cv: usize, mv: usize) -> &Cell {
        &self.cells[cv * self.mvs + mv]
    }

    /// The MV by which a CV is moved most.
    #[must_use]
    pub fn strongest(&self, cv: usize) -> usize {
        let gain = |mv: usize| self.cell(cv, mv).gain.abs();
        (0..self.mvs).max_by(|a, b| gain(*a).total_cmp(&gain(*b))).unwrap_or(0)
    }

    /// How soon a CV should be back, in scans: after its dead time, or a tenth of its lag where that is longer.
    #[must_use]
    pub fn back_after(&self, cv: usize) -> f64 {
        let Cell { dead, lag, .. } = self.cell(cv, self.strongest(cv));
        dead.max(0.1 * lag).max(3.0)
    }
}
