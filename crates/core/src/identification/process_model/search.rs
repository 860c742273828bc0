//! The search for the minimum: coarse grids on several time scales, then Levenberg–Marquardt.

use super::prepared::{Before, Point, Prepared, Stretch};
use super::unknowns::{Path, Rest};
use crate::identification::loss::ScaledLoss;
use crate::identification::structure::Structure;
use crate::numerics::{in_parallel, minimise};
use crate::series::TimeAxis;
use crate::{Error, Result};

/// Samples of a coarse search: blocks of samples, averaged.
const COARSE_SAMPLES: usize = 250;
/// How much longer the blocks of one coarse search are than those of the next finer one.
const COARSENING: usize = 4;
/// Blocks that a short stretch beside a long one is left with at least.
const FEWEST_BLOCKS: usize = 20;
/// How many of the best points of a grid are refined on its averaged data, for either assumption on the past.
const GRID_STARTS: usize = 2;
/// How many of the points found so are refined on all data; more on short data, where it costs nothing.
const STARTS: usize = 2;
const STARTS_OF_SHORT_DATA: usize = 5;
const SHORT_DATA: usize = 3000;
/// Samples of the part on which long data are searched further (a fifth of them, between these), and the relative change at
/// which that ends.
const MIDDLE_SAMPLES: [usize; 2] = [1500, 8000];
const MIDDLE_TOLERANCE: f64 = 1e-5;
/// Blocks by which starts on long data are ranked.
const RANKING_SAMPLES: usize = 50_000;
/// By which factor the sum of squares at a start may exceed a minimum that was found.
const HOPELESS: f64 = 1.2;
/// Relative change of the sum of squares at which a refinement ends: on averaged data, which are a start only, and on
/// all.
pub(super) const COARSE_TOLERANCE: f64 = 1e-2;
pub(super) const TOLERANCE: f64 = 1e-9;
/// How often a refinement is taken up again because an unknown can leave its bound.
const RELEASES: usize = 4;

impl Prepared<'_> {
    /// The best least-squares minimum that is found.
    pub(super) fn best(&self) -> Result<Point> {
        let apart = self.starts();
        let count = if self.samples <= SHORT_DATA { STARTS_OF_SHORT_DATA } else { STARTS };
        // On short data all are brought near their minima first, and only the best of them to the end.
        let mut near: Vec<Point> = apart.into_iter().take(count).collect();
        if self.samples <= SHORT_DATA && near.len() > 1 {
            near =
                near.iter().filter_map(|start| self.refined(start, COARSE_TOLERANCE, &ScaledLoss::SQUARES)).collect();
            near.sort_by(|a, b| a.sum_of_squares.total_cmp(&b.sum_of_squares));
            near.truncate(STARTS);
        }
        let mut best: Option<Point> = None;
        for start in &near {
            // A start that is clearly worse than a minimum stands in another valley; of long data, one beside it goes the same
            // way.
            let is_idle = best.as_ref().is_some_and(|best| {
                if self.samples > SHORT_DATA {
                    !self.is_apart(start, best)
                } else {
                    start.sum_of_squares > HOPELESS * best.sum_of_squares
                }
            });
            if is_idle {
                continue;
            }
            let found = self.refined(start, TOLERANCE, &ScaledLoss::SQUARES);
            let is_better = |found: &Point| best.as_ref().is_none_or(|best| found.sum_of_squares < best.sum_of_squares);
            if let Some(found) = found.filter(is_better) {
                best = Some(found);
            }
        }
        let best = best.ok_or_else(|| {
            Error::unfit("no model fits these data", "check that the OP and PV columns are the right ones")
        })?;
        Ok(if self.stretches.len() > 1 { self.with_own_pasts(best) } else { best })
    }

    /// The minimum that is reached where the non-linear unknowns are known roughly; from nothing where none is.
    pub(super) fn best_near(&self, unknowns: &[f64]) -> Result<Point> {
        let starts = self.linear_fits(&self.bounds.clamped(unknowns)).into_iter();
        let refined = starts.filter_map(|start| self.refined(&start, TOLERANCE, &ScaledLoss::SQUARES));
        match refined.min_by(|a, b| a.sum_of_squares.total_cmp(&b.sum_of_squares)) {
            Some(point) => Ok(point),
            None => self.best(),
        }
    }

    /// Where refinements begin: the minima of the coarse searches, the best first, those that lie together being one.
    fn starts(&self) -> Vec<Point> {
        let is_long = self.samples > SHORT_DATA;
        // The finest first, which are known best; on long data those that stand together are one.
        let searches: Vec<Self> = self.coarse_searches().into_iter().rev().collect();
        let found: Vec<Vec<Point>> = if is_long {
            in_parallel(&searches, Self::coarse_minima)
        } else {
            searches.iter().map(Self::coarse_minima).collect()
        };
        let mut minima: Vec<Point> = found.into_iter().flatten().collect();
        if is_long {
            let seen = self.apart(minima);
            minima = self.apart(in_parallel(&seen, |minimum| self.on_middle_scale(minimum)));
        }
        if is_long {
            // Which are worth a pass over all data is told by their blocks; what is fast beside a block, by the finest search.
            let blocks = self.in_blocks(RANKING_SAMPLES, self.samples.div_ceil(RANKING_SAMPLES));
            let finest = minima.first().cloned();
            let left = |start: &Point| {
                blocks.linear_fits(&start.unknowns).iter().map(|fit| fit.sum_of_squares).fold(f64::INFINITY, f64::min)
            };
            minima.sort_by_cached_key(|start| ordered(left(start)));
            minima.truncate(STARTS);
            minima.extend(finest.filter(|finest| !minima.iter().any(|other| self.is_near(finest, other))));
        }
        let fits_of = |start: &Point| self.linear_fits(&start.unknowns);
        let fits: Vec<Vec<Point>> =
            if is_long { in_parallel(&minima, fits_of) } else { minima.iter().map(fits_of).collect() };
        let mut starts: Vec<Point> = fits.into_iter().flatten().collect();
        starts.sort_by(|a, b| a.sum_of_squares.total_cmp(&b.sum_of_squares));
        self.apart(starts)
    }

    /// The first of those that lie together.
    fn apart(&self, points: Vec<Point>) -> Vec<Point> {
        let mut apart: Vec<Point> = Vec::new();
        for point in points {
            if !apart.iter().any(|other| self.is_near(&point, other)) {
                apart.push(point);
            }
        }
        apart
    }

    /// The best point of the grids, by all data.
    pub(super) fn best_start(&self) -> Option<Point> {
        let searches = self.coarse_searches();
        let points = searches.iter().flat_map(|search| {
            let of_order =
                |order: &Vec<&Path>| search.first_points(order).into_iter().take(GRID_STARTS).collect::<Vec<_>>();
            search.orders().iter().flat_map(of_order).collect::<Vec<Point>>()
        });
        let starts = points.flat_map(|point| self.linear_fits(&point.unknowns));
        starts.min_by(|a, b| a.sum_of_squares.total_cmp(&b.sum_of_squares))
    }

    /// A minimum of a coarse search on long data taken further on a part of them, in blocks that its own lag spans by tens:
    /// passes over all data are few then.
    fn on_middle_scale(&self, start: &Point) -> Point {
        let interval = self.interval();
        let scale = self.layout.paths.iter().map(|path| path.scale(&start.unknowns)).fold(f64::INFINITY, f64::min);
        let part = (self.samples / 5).clamp(MIDDLE_SAMPLES[0], MIDDLE_SAMPLES[1]);
        let block = ((scale / (20.0 * interval)) as usize).clamp(1, 1 + self.samples / part);
        let middle = self.in_blocks(part, block);
        let starts = middle.linear_fits(&start.unknowns);
        let best = starts.into_iter().min_by(|a, b| a.sum_of_squares.total_cmp(&b.sum_of_squares));
        best.and_then(|best| middle.refined(&best, MIDDLE_TOLERANCE, &ScaledLoss::SQUARES))
            .unwrap_or_else(|| start.clone())
    }

    /// The minimum where the past of each stretch is what fits it best; the searches took all alike.
    fn with_own_pasts(&self, mut best: Point) -> Point {
        for k in 0..self.stretches.len() {
            let mut other = best.clone();
            other.before[k] = match best.before[k] {
                Before::AtFirstValue => Before::AtMean,
                Before::AtMean => Before::AtFirstValue,
            };
            let found = self.refined(&other, TOLERANCE, &ScaledLoss::SQUARES);
            if let Some(found) = found.filter(|found| found.sum_of_squares < best.sum_of_squares) {
                best = found;
            }
        }
        best
    }

    /// Whether a refinement from here and from there would go the same way.
    fn is_near(&self, a: &Point, b: &Point) -> bool {
        let near = |path: &Path| {
            let shapes = path.shape.iter().all(|place| (a.unknowns[*place] - b.unknowns[*place]).abs() < 0.1);
            let scale = path.scale(&a.unknowns) + a.unknowns[path.dead_time];
            shapes && (a.unknowns[path.dead_time] - b.unknowns[path.dead_time]).abs() < 0.1 * scale
        };
        // What was before the data hardly matters for long ones: the better assumption at the start is kept.
        (a.before == b.before || self.samples > SHORT_DATA) && self.layout.paths.iter().all(near)
    }

    /// Whether a point lies in a valley of its own that may be as deep as that of a minimum.
    pub(super) fn is_apart(&self, point: &Point, minimum: &Point) -> bool {
        point.sum_of_squares <= HOPELESS * minimum.sum_of_squares && !self.is_near(point, minimum)
    }

    /// The minimum that is reached from `start`.
    ///
    /// Beyond a bound the residuals do not change with the unknown, and the solver sees that. An unknown that stands at
    /// its bound in the end, where moving inward would help, is let go again from a little inside.
    pub(super) fn refined(&self, start: &Point, tolerance: f64, loss: &ScaledLoss) -> Option<Point> {
        let before = &start.before;
        let mut unknowns = self.bounds.clamped(&start.unknowns);
        let mut sum_of_squares = f64::INFINITY;
        for _ in 0..RELEASES {
            let outcome = minimise(&unknowns, tolerance, |p| {
                let inside = self.bounds.clamped(p);
                let mut sums = self.sums(&inside, before, loss);
                for place in 0..p.len() {
                    if inside[place] != p[place] || self.bounds.is_fixed(place) {
                        sums.hold(place);
                    }
                }
                sums.compress()
            });
            unknowns = self.bounds.clamped(&outcome.parameters);
            sum_of_squares = outcome.sum_of_squares;
            if !self.released(&mut unknowns, before, loss) {
                break;
            }
        }
        sum_of_squares.is_finite().then_some(Point { unknowns, before: before.clone(), sum_of_squares })
    }

    /// Moves unknowns off their bounds where the gradient points inward; whether there was any.
    fn released(&self, unknowns: &mut [f64], before: &[Before], loss: &ScaledLoss) -> bool {
        let active: Vec<usize> =
            self.bounds.active(unknowns).into_iter().filter(|k| !self.bounds.is_fixed(*k)).collect();
        if active.is_empty() {
            return false;
        }
        let compressed = self.sums(unknowns, before, loss).compress();
        let gradient = compressed.jacobian.transpose() * &compressed.residual;
        let size = compressed.residual.norm();
        let mut any = false;
        for place in active {
            let (low, high) = self.bounds.ranges[place];
            let at_low = unknowns[place] <= low;
            let inward = if at_low { -gradient[place] } else { gradient[place] };
            // The cosine of the angle between the residuals and their derivative: below this, the bound is where it
            // belongs.
            if inward > 1e-6 * size * compressed.jacobian.column(place).norm() {
                let room = (high - low).min(1.0 + unknowns[place].abs());
                unknowns[place] += if at_low { 1e-3 * room } else { -1e-3 * room };
                any = true;
            }
        }
        any
    }

    /// The data of the coarse searches: all of it in long blocks first, then ever shorter stretches in ever shorter
    /// ones.
    fn coarse_searches(&self) -> Vec<Self> {
        let mut searches = Vec::new();
        let longest = self.stretches.iter().map(|stretch| stretch.output.len()).max().unwrap_or(0);
        let mut block = longest.div_ceil(COARSE_SAMPLES);
        loop {
            searches.push(self.in_blocks(COARSE_SAMPLES, block));
            if block <= 1 {
                return searches;
            }
            block = block.div_ceil(COARSENING);
        }
    }

    /// So many blocks of samples of each stretch, averaged, where the OP moves most.
    fn in_blocks(&self, count: usize, block: usize) -> Self {
        let averaged = |stretch: &Stretch| {
            // A stretch that is much shorter than the longest keeps its shape.
            let own = block.min((stretch.output.len() / FEWEST_BLOCKS).max(1));
            stretch.averaged(stretch.liveliest(count * own), own, self.layout.rest())
        };
        Prepared {
            layout: self.layout,
            bounds: self.bounds,
            stretches: self.stretches.iter().map(averaged).collect(),
            samples: self.samples,
            whitening: self.whitening.as_ref().map(|whitening| whitening.of_blocks(block)),
        }
    }

    /// The least-squares minima of a coarse search, the best for either assumption on the past and each order of the inputs.
    fn coarse_minima(&self) -> Vec<Point> {
        let of_order = |order: &Vec<&Path>| {
            let mut points = self.first_points(order);
            // With several inputs, each is searched anew once the others are roughly known.
            for _ in 1..order.len() {
                let Some(best) = points.first().map(|point| point.unknowns.clone()) else { return Vec::new() };
                points = self.swept(order, best);
            }
            let minimum = |before: Before| {
                let starts = points.iter().filter(|point| point.before[0] == before).take(GRID_STARTS);
                let minima = starts.filter_map(|start| self.refined(start, COARSE_TOLERANCE, &ScaledLoss::SQUARES));
                minima.min_by(|a, b| a.sum_of_squares.total_cmp(&b.sum_of_squares))
            };
            Before::BOTH.into_iter().filter_map(minimum).collect::<Vec<Point>>()
        };
        self.orders().iter().flat_map(of_order).collect()
    }

    /// The orders in which the paths are searched: with several inputs one that is small, searched first, takes up what a large
    /// one leaves, and neither finds its place then. Of any two, each comes first in one of these.
    fn orders(&self) -> Vec<Vec<&Path>> {
        let last_first: Vec<&Path> = self.layout.paths.iter().rev().collect();
        if last_first.len() == 1 {
            return vec![last_first];
        }
        vec![last_first, self.layout.paths.iter().collect()]
    }

    fn first_points(&self, order: &[&Path]) -> Vec<Point> {
        let mut unknowns = vec![0.0; self.layout.count];
        for path in &self.layout.paths {
            for (k, place) in path.shape.iter().enumerate() {
                unknowns[*place] =
                    if path.structure == Structure::Underdamped && k == 1 { 1.0 } else { self.duration() / 20.0 }.ln();
            }
        }
        self.swept(order, self.bounds.clamped(&unknowns))
    }

    /// One grid for each path after the other, the best of each kept for the next; the points of the last.
    fn swept(&self, order: &[&Path], mut unknowns: Vec<f64>) -> Vec<Point> {
        let mut points = Vec::new();
        for path in order {
            points = self.grid(path, &unknowns);
            let several = order.len() > 1;
            // A grid is coarse: which valley is deepest beside other inputs is told from within it.
            let refined = points
                .iter()
                .take(if several { GRID_STARTS } else { 0 })
                .filter_map(|point| self.refined(point, COARSE_TOLERANCE, &ScaledLoss::SQUARES));
            if let Some(best) = refined.min_by(|a, b| a.sum_of_squares.total_cmp(&b.sum_of_squares)) {
                points.insert(0, best);
            }
            if let Some(best) = points.first() {
                unknowns.clone_from(&best.unknowns);
            }
        }
        points
    }
}

/// A number of which all can be put in order, by its size where it is not negative.
fn ordered(value: f64) -> u64 {
    value.max(0.0).to_bits()
}

impl Stretch {
    /// The part of this many samples in which the OP moves most.
    fn liveliest(&self, samples: usize) -> std::ops::Range<usize> {
        let input = &self.inputs[0];
        if samples >= input.len() {
            return 0..input.len();
        }
        // Moves are few as a rule, and what a part holds changes only where one comes in at its end or leaves at its start.
        let moves: Vec<(usize, f64)> = input
            .windows(2)
            .enumerate()
            .filter(|(_, pair)| pair[0] != pair[1])
            .map(|(k, pair)| (k + 1, (pair[1] - pair[0]).abs()))
            .collect();
        let last = input.len() - samples;
        let (mut coming, mut leaving) = (moves.iter().peekable(), moves.iter().peekable());
        let (mut within, mut most, mut start) = (0.0, 0.0, 0);
        let mut at = 0;
        loop {
            while let Some((_, size)) = coming.next_if(|(k, _)| *k < at + samples) {
                within += size;
            }
            while let Some((_, size)) = leaving.next_if(|(k, _)| *k <= at) {
                within -= size;
            }
            let next = [coming.peek().map(|(k, _)| k + 1 - samples), leaving.peek().map(|(k, _)| *k)];
            let next = next.into_iter().flatten().min().unwrap_or(usize::MAX).min(last + 1);
            // What comes after the moves tells, not what comes before: of parts with the same moves the last is taken.
            if within >= most * (1.0 - 1e-12) {
                (most, start) = (within.max(most), next - 1);
            }
            if next > last {
                break;
            }
            at = next;
        }
        start..start + samples
    }

    /// A part in blocks of samples, averaged.
    fn averaged(&self, part: std::ops::Range<usize>, block: usize, rest: Rest) -> Self {
        let mean = |chunk: &[f64]| {
            let finite = chunk.iter().filter(|value| value.is_finite());
            let (sum, count) = finite.fold((0.0, 0), |(sum, count), value| (sum + value, count + 1));
            if count == 0 { f64::NAN } else { sum / f64::from(count) }
        };
        let blocks = |series: &[f64]| -> Vec<f64> { series[part.clone()].chunks_exact(block).map(mean).collect() };
        let about_mean = |mut series: Vec<f64>| {
            let mean = if rest == Rest::AtZero { 0.0 } else { series.iter().sum::<f64>() / series.len() as f64 };
            series.iter_mut().for_each(|value| *value -= mean);
            series
        };
        let inputs: Vec<Vec<f64>> = self.inputs.iter().map(|series| about_mean(blocks(series))).collect();
        let output = blocks(&self.output);
        let axis = match self.axis.slice(part.clone()) {
            TimeAxis::Uniform { interval, .. } => {
                TimeAxis::Uniform { interval: interval * block as f64, len: output.len() }
            }
            TimeAxis::Irregular(times) => {
                TimeAxis::Irregular(times.chunks_exact(block).map(|chunk| chunk[0] - times[0]).collect())
            }
        };
        Self {
            firsts: inputs.iter().map(|series| series[0]).collect(),
            duration: axis.duration().max(f64::MIN_POSITIVE),
            axis,
            inputs,
            output,
            input_means: self.input_means.clone(),
            output_mean: self.output_mean,
            steps: self.steps.iter().map(|shape| blocks(shape)).collect(),
        }
    }
}
