//! The search for the minimum: coarse grids on several time scales, then Levenberg–Marquardt.

use super::data::{DEAD_TIME, LOG_TIME_CONSTANT, Prepared, UNKNOWNS};
use crate::numerics::{NormalEquations, minimise};
use crate::series::TimeAxis;
use crate::{Error, Result};

/// Samples of a coarse search: blocks of samples, averaged.
const COARSE_SAMPLES: usize = 250;
/// How much longer the blocks of one coarse search are than those of the next finer one.
const COARSENING: usize = 4;
const COARSE_DEAD_TIMES: usize = 18;
const COARSE_TIME_CONSTANTS: usize = 8;
/// How many of the best points of a grid are refined on its averaged data, for either assumption on the past.
const GRID_STARTS: usize = 3;
/// How many of the points found so are refined on all data.
const STARTS: usize = 2;
/// Relative change of the sum of squares at which a refinement ends: on averaged data, which are a start only, and on all.
const COARSE_TOLERANCE: f64 = 1e-2;
const TOLERANCE: f64 = 1e-9;

/// What the OP is taken to have been before the data.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Before {
    AtFirstValue,
    AtMean,
}

/// A point of the search.
#[derive(Debug, Clone)]
pub(super) struct Start {
    pub(super) unknowns: [f64; UNKNOWNS],
    pub(super) before: Before,
    pub(super) sum_of_squares: f64,
}

impl Start {
    pub(super) fn time_constant(&self) -> f64 {
        self.unknowns[LOG_TIME_CONSTANT].exp()
    }

    pub(super) fn dead_time(&self) -> f64 {
        self.unknowns[DEAD_TIME]
    }

    /// Whether a refinement from here and from `other` would go the same way.
    pub(super) fn is_near(&self, other: &Self) -> bool {
        let scale = self.time_constant() + self.dead_time();
        self.before == other.before
            && (self.unknowns[LOG_TIME_CONSTANT] - other.unknowns[LOG_TIME_CONSTANT]).abs() < 0.1
            && (self.dead_time() - other.dead_time()).abs() < 0.1 * scale
    }
}
/// The range of dead time and time constant that data of this length can tell.
pub(super) struct Bounds {
    dead_time: f64,
    log_time_constant: (f64, f64),
}

impl Bounds {
    pub(super) fn of(axis: &TimeAxis) -> Self {
        let (interval, duration) = (axis.mean_interval(), axis.duration());
        Self { dead_time: 0.5 * duration, log_time_constant: ((0.05 * interval).ln(), (20.0 * duration).ln()) }
    }

    pub(super) fn clamped(&self, unknowns: &[f64; UNKNOWNS]) -> [f64; UNKNOWNS] {
        let mut inside = *unknowns;
        let (low, high) = self.log_time_constant;
        inside[LOG_TIME_CONSTANT] = inside[LOG_TIME_CONSTANT].clamp(low, high);
        inside[DEAD_TIME] = inside[DEAD_TIME].clamp(0.0, self.dead_time);
        inside
    }

    /// The unknowns that stand at or beyond a bound.
    pub(super) fn active(&self, unknowns: &[f64; UNKNOWNS]) -> Vec<usize> {
        let inside = self.clamped(unknowns);
        let at_dead_time = inside[DEAD_TIME] <= 0.0 || inside[DEAD_TIME] >= self.dead_time;
        let (low, high) = self.log_time_constant;
        let at_time_constant = inside[LOG_TIME_CONSTANT] <= low || inside[LOG_TIME_CONSTANT] >= high;
        [(LOG_TIME_CONSTANT, at_time_constant), (DEAD_TIME, at_dead_time)]
            .into_iter()
            .filter_map(|(index, active)| active.then_some(index))
            .collect()
    }

    /// Beyond a bound the residuals no longer change with the unknown, and the solver must see that.
    pub(super) fn held(&self, unknowns: &[f64; UNKNOWNS], mut sums: NormalEquations<6>) -> NormalEquations<6> {
        let inside = self.clamped(unknowns);
        for index in [LOG_TIME_CONSTANT, DEAD_TIME] {
            if inside[index] != unknowns[index] {
                sums.hold(index);
            }
        }
        sums
    }
}
impl Prepared {
    /// The best minimum that is found.
    pub(super) fn best(&self) -> Result<Start> {
        let bounds = Bounds::of(&self.axis);
        let mut starts: Vec<Start> = self
            .coarse_searches()
            .iter()
            .flat_map(Prepared::coarse_minima)
            .flat_map(|start| self.linear_fits(start.time_constant(), start.dead_time()))
            .collect();
        starts.sort_by(|a, b| a.sum_of_squares.total_cmp(&b.sum_of_squares));
        starts.dedup_by(|a, b| a.is_near(b));
        let refined = starts.iter().take(STARTS).filter_map(|start| self.refined(start, &bounds, TOLERANCE));
        refined.min_by(|a, b| a.sum_of_squares.total_cmp(&b.sum_of_squares)).ok_or_else(|| {
            Error::unfit("no model fits these data", "check that the OP and PV columns are the right ones")
        })
    }

    /// The minimum that is reached from `start`.
    fn refined(&self, start: &Start, bounds: &Bounds, tolerance: f64) -> Option<Start> {
        let earlier = self.earlier(start.before);
        let outcome = minimise(start.unknowns, tolerance, |p| {
            Some(bounds.held(p, self.sums(&bounds.clamped(p), earlier)).compress())
        });
        let unknowns = bounds.clamped(&outcome.parameters);
        let sum_of_squares = outcome.sum_of_squares;
        sum_of_squares.is_finite().then_some(Start { unknowns, before: start.before, sum_of_squares })
    }

    /// The data of the coarse searches: all of it in long blocks first, then ever shorter stretches in ever shorter ones.
    pub(super) fn coarse_searches(&self) -> Vec<Self> {
        let mut searches = Vec::new();
        let mut block = self.input.len().div_ceil(COARSE_SAMPLES);
        loop {
            let stretch = self.liveliest(COARSE_SAMPLES * block);
            searches.push(self.averaged(stretch, block));
            if block == 1 {
                return searches;
            }
            block = block.div_ceil(COARSENING);
        }
    }

    /// The stretch of this many samples in which the input moves most.
    pub(super) fn liveliest(&self, samples: usize) -> std::ops::Range<usize> {
        if samples >= self.input.len() {
            return 0..self.input.len();
        }
        let move_at = |k: usize| (self.input[k] - self.input[k - 1]).abs();
        let mut moves: f64 = (1..samples).map(move_at).sum();
        let (mut most, mut start) = (moves, 0);
        for end in samples..self.input.len() {
            moves += move_at(end) - move_at(end + 1 - samples);
            // What comes after the moves tells, not what comes before: of stretches with the same moves the last is taken.
            if moves >= most * (1.0 - 1e-12) {
                (most, start) = (moves.max(most), end + 1 - samples);
            }
        }
        start..start + samples
    }

    /// A stretch of the data, averaged in blocks.
    pub(super) fn averaged(&self, stretch: std::ops::Range<usize>, block: usize) -> Self {
        let axis = self.axis.slice(stretch.clone());
        let mean = |chunk: &[f64]| {
            let finite = chunk.iter().filter(|value| value.is_finite());
            let (sum, count) = finite.fold((0.0, 0), |(sum, count), value| (sum + value, count + 1));
            if count == 0 { f64::NAN } else { sum / f64::from(count) }
        };
        let input: Vec<f64> = self.input[stretch.clone()].chunks_exact(block).map(mean).collect();
        let output = self.output[stretch].chunks_exact(block).map(mean).collect();
        let axis = match axis {
            TimeAxis::Uniform { interval, .. } => {
                TimeAxis::Uniform { interval: interval * block as f64, len: input.len() }
            }
            TimeAxis::Irregular(times) => {
                TimeAxis::Irregular(times.chunks_exact(block).map(|chunk| chunk[0]).collect())
            }
        };
        let first_input = input[0] - input.iter().sum::<f64>() / input.len() as f64;
        Self { axis, input, output, first_input, ..*self }
    }

    /// The least-squares minima of a coarse search, the best for either assumption on the past.
    pub(super) fn coarse_minima(&self) -> Vec<Start> {
        let bounds = Bounds::of(&self.axis);
        let points = self.grid(&bounds);
        [Before::AtFirstValue, Before::AtMean]
            .into_iter()
            .filter_map(|before| {
                let starts = points.iter().filter(|point| point.before == before).take(GRID_STARTS);
                let minima = starts.filter_map(|start| self.refined(start, &bounds, COARSE_TOLERANCE));
                minima.min_by(|a, b| a.sum_of_squares.total_cmp(&b.sum_of_squares))
            })
            .collect()
    }

    /// The points of a grid over dead time and time constant, the best for each dead time, in rising order of the squares.
    pub(super) fn grid(&self, bounds: &Bounds) -> Vec<Start> {
        let (interval, duration) = (self.axis.mean_interval(), self.axis.duration());
        let (fastest, slowest) = (0.5 * interval, 2.0 * duration);
        let mut points = Vec::with_capacity(2 * COARSE_DEAD_TIMES);
        for i in 0..COARSE_DEAD_TIMES {
            // Closer together towards 0, where most dead times are.
            let dead_time = bounds.dead_time * (i as f64 / COARSE_DEAD_TIMES as f64).powi(2);
            let row: Vec<Start> = (0..COARSE_TIME_CONSTANTS)
                .flat_map(|j| {
                    let share = j as f64 / (COARSE_TIME_CONSTANTS - 1) as f64;
                    self.linear_fits(fastest * (slowest / fastest).powf(share), dead_time)
                })
                .collect();
            for before in [Before::AtFirstValue, Before::AtMean] {
                let of_this = row.iter().filter(|point| point.before == before);
                points.extend(of_this.min_by(|a, b| a.sum_of_squares.total_cmp(&b.sum_of_squares)).cloned());
            }
        }
        points.sort_by(|a, b| a.sum_of_squares.total_cmp(&b.sum_of_squares));
        points
    }
}
