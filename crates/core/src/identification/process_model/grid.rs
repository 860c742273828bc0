//! The coarse search over dead time and time constants of one path: a response that comes later by whole samples is the same
//! response, so that one walk serves all dead times.

use super::prepared::{Before, Point, Prepared, Stretch};
use super::unknowns::{LONGEST_DEAD_TIME, Path};
use crate::lti::{DeadTime, FreeResponse, Response};
use crate::numerics::dot;
use crate::series::TimeAxis;

const DEAD_TIMES: usize = 24;
const TIME_CONSTANTS: usize = 8;
/// Of so many dead times, the best ones, the other unknowns are found.
const KEPT: usize = 4;
/// Most columns of a linear fit that is made in place.
const MOST_COLUMNS: usize = 16;

/// A place of the grid, and what a linear fit leaves there.
struct Place {
    dead_time: f64,
    shape: [f64; 2],
    side: usize,
    left: f64,
}

/// What a linear fit leaves at a dead time, under one of the assumptions on the past.
struct Left {
    side: usize,
    dead_time: f64,
    left: f64,
}

/// Everything of a stretch that does not come from the path in question, whitened: columns, and the output last.
struct Fixed {
    columns: Vec<Vec<f64>>,
}

impl Prepared<'_> {
    /// The points of a grid over dead time and time constant of a path, the best for each dead time and past, in rising order
    /// of the squares; the best of them with their linear unknowns.
    pub(super) fn grid(&self, path: &Path, unknowns: &[f64]) -> Vec<Point> {
        let index = self.layout.paths.iter().position(|other| std::ptr::eq(other, path)).unwrap_or(0);
        let mut best: Vec<Place> = Vec::new();
        for shape in self.shapes(path) {
            let mut there = unknowns.to_vec();
            path.shape.iter().zip(shape).for_each(|(place, value)| there[*place] = value.ln());
            let there = self.bounds.clamped(&there);
            for Left { side, dead_time, left } in self.over_dead_times(index, &there) {
                let known = best.iter_mut().find(|known| known.side == side && known.dead_time == dead_time);
                match known {
                    Some(known) if known.left <= left => {}
                    Some(known) => (known.shape, known.left) = (shape, left),
                    None => best.push(Place { dead_time, shape, side, left }),
                }
            }
        }
        best.sort_by(|a, b| a.left.total_cmp(&b.left));
        let mut points: Vec<Point> = Vec::new();
        for side in 0..Before::BOTH.len() {
            for place in best.iter().filter(|place| place.side == side).take(KEPT) {
                let mut there = unknowns.to_vec();
                there[path.dead_time] = place.dead_time;
                path.shape.iter().zip(place.shape).for_each(|(at, value)| there[*at] = value.ln());
                let fits = self.linear_fits(&self.bounds.clamped(&there));
                points.extend(fits.into_iter().filter(|point| point.before[0] == Before::BOTH[side]));
            }
        }
        points.sort_by(|a, b| a.sum_of_squares.total_cmp(&b.sum_of_squares));
        points
    }

    fn shapes(&self, path: &Path) -> Vec<[f64; 2]> {
        let (fastest, slowest) = (0.5 * self.interval(), 2.0 * self.duration());
        let count = if path.shape.is_empty() { 1 } else { TIME_CONSTANTS };
        let scale = |j: usize| fastest * (slowest / fastest).powf(j as f64 / (TIME_CONSTANTS - 1) as f64);
        (0..count).flat_map(|j| path.structure.shapes_of_scale(scale(j))).collect()
    }

    /// What linear fits leave at each dead time of the grid, under either assumption on the past.
    fn over_dead_times(&self, index: usize, unknowns: &[f64]) -> Vec<Left> {
        let (path, interval) = (&self.layout.paths[index], self.interval());
        let limits = self.bounds.ranges[path.dead_time];
        let in_samples = self.stretches.iter().all(|stretch| {
            matches!(stretch.axis, TimeAxis::Uniform { interval: own, .. } if (own / interval - 1.0).abs() < 1e-9)
        });
        let longest = LONGEST_DEAD_TIME * self.duration();
        // Closer together towards 0, where most dead times are.
        let mut dead_times: Vec<f64> = (0..DEAD_TIMES)
            .map(|i| longest * (i as f64 / (DEAD_TIMES - 1) as f64).powi(2))
            .map(|dead_time| if in_samples { (dead_time / interval).round() * interval } else { dead_time })
            .map(|dead_time| dead_time.clamp(limits.0, limits.1))
            .collect();
        dead_times.dedup();
        let columns = 1 + usize::from(path.lead.is_some());
        let others: usize =
            self.layout.paths.iter().map(|path| 1 + usize::from(path.lead.is_some())).sum::<usize>() - columns;
        let own: usize = self.layout.stretches.iter().map(|own| others + own.count()).sum();
        let whole = |dead_time: &f64| ((dead_time / interval).round() * interval - dead_time).abs() < 1e-9 * interval;
        let is_free = !self.bounds.is_fixed(path.gain);
        if !in_samples || !is_free || columns + own + 1 > MOST_COLUMNS || !dead_times.iter().all(whole) {
            return self.one_by_one(path, unknowns, &dead_times);
        }
        (0..Before::BOTH.len()).flat_map(|side| self.shifted(index, unknowns, side, &dead_times)).collect()
    }

    /// The same by one response, shifted by whole samples.
    fn shifted(&self, index: usize, unknowns: &[f64], side: usize, dead_times: &[f64]) -> Vec<Left> {
        let (path, interval) = (&self.layout.paths[index], self.interval());
        let columns = 1 + usize::from(path.lead.is_some());
        let fixed: Vec<Fixed> =
            self.stretches.iter().enumerate().map(|(k, _)| self.fixed(index, k, unknowns, side)).collect();
        let total = columns + fixed.iter().map(|fixed| fixed.columns.len() - 1).sum::<usize>();
        let bases: Vec<Base> =
            self.stretches.iter().map(|stretch| Base::new(stretch, index, path, unknowns, side)).collect();
        let mut gram = self.fixed_gram(&fixed, columns);
        let mut moved: Vec<Vec<f64>> = vec![Vec::new(); columns];
        let width = total + 1;
        dead_times
            .iter()
            .map(|&dead_time| {
                let scans = (dead_time / interval).round() as usize;
                (0..columns).for_each(|i| gram[i * MOST_COLUMNS..i * MOST_COLUMNS + width].fill(0.0));
                let mut first = columns;
                for (base, fixed) in bases.iter().zip(&fixed) {
                    base.late(scans, interval, &mut moved);
                    moved.iter_mut().for_each(|column| self.whiten(column));
                    for (i, column) in moved.iter().enumerate() {
                        for (j, other) in moved[..=i].iter().enumerate() {
                            gram[i * MOST_COLUMNS + j] += dot(column, other);
                        }
                        for (j, other) in fixed.columns.iter().enumerate() {
                            // The output is the last column of all.
                            let at = if j + 1 == fixed.columns.len() { total } else { first + j };
                            gram[i * MOST_COLUMNS + at] += dot(column, other);
                        }
                    }
                    first += fixed.columns.len() - 1;
                }
                Left { side, dead_time, left: left_over(&gram, columns, width) }
            })
            .collect()
    }

    /// The same by a linear fit for each dead time: of uneven samples, a gain that is given, or too many columns.
    fn one_by_one(&self, path: &Path, unknowns: &[f64], dead_times: &[f64]) -> Vec<Left> {
        let of = |dead_time: &f64| {
            let mut there = unknowns.to_vec();
            there[path.dead_time] = *dead_time;
            let fits = self.linear_fits(&self.bounds.clamped(&there));
            let left = |point: Point| Left {
                side: usize::from(point.before[0] == Before::BOTH[1]),
                dead_time: *dead_time,
                left: point.sum_of_squares,
            };
            fits.into_iter().map(left).collect::<Vec<Left>>()
        };
        dead_times.iter().flat_map(of).collect()
    }

    /// The columns of a stretch that the dead time of the path does not touch, the output last.
    fn fixed(&self, index: usize, stretch: usize, unknowns: &[f64], side: usize) -> Fixed {
        let (stretch, own) = (&self.stretches[stretch], &self.layout.stretches[stretch]);
        let mut columns: Vec<Vec<f64>> = Vec::new();
        for (k, path) in self.layout.paths.iter().enumerate().filter(|(k, _)| *k != index) {
            let dead_time = DeadTime::new(unknowns[path.dead_time]).unwrap_or_default();
            let earlier = stretch.earlier(k, Before::BOTH[side]);
            let response =
                Response::new(path.dynamics(unknowns), &stretch.axis, &stretch.inputs[k], earlier, dead_time).bare();
            let (values, slopes) = response.values(path.lead.is_some());
            columns.push(values);
            if path.lead.is_some() {
                columns.push(slopes);
            }
        }
        for transient in &own.transients {
            let dynamics = self.layout.paths[transient.path].dynamics(unknowns);
            columns.push(FreeResponse::new(dynamics, &stretch.axis, transient.state).map(|(value, _)| value).collect());
        }
        columns.extend(stretch.steps.iter().cloned());
        if own.drift.is_some() {
            columns.push((0..stretch.output.len()).map(|k| stretch.share(k)).collect());
        }
        if own.offset.is_some() {
            columns.push(vec![1.0; stretch.output.len()]);
        }
        // A grid gives starts only: what is missing is held.
        columns.push(crate::identification::data::held(&stretch.output));
        columns.iter_mut().for_each(|column| self.whiten(column));
        Fixed { columns }
    }

    /// The products of all columns that do not move, in a square of `MOST_COLUMNS`, those that do first.
    fn fixed_gram(&self, fixed: &[Fixed], moving: usize) -> Vec<f64> {
        let total = moving + fixed.iter().map(|fixed| fixed.columns.len() - 1).sum::<usize>();
        let mut gram = vec![0.0; MOST_COLUMNS * MOST_COLUMNS];
        if total + 1 > MOST_COLUMNS {
            return gram;
        }
        let mut first = moving;
        for Fixed { columns } in fixed {
            let place = |j: usize| if j + 1 == columns.len() { total } else { first + j };
            for (i, column) in columns.iter().enumerate() {
                for (j, other) in columns[..=i].iter().enumerate() {
                    // In the lower half, a row a column.
                    gram[place(i) * MOST_COLUMNS + place(j)] += dot(column, other);
                }
            }
            first += columns.len() - 1;
        }
        gram
    }

    fn whiten(&self, column: &mut [f64]) {
        if let Some(whitening) = &self.whitening {
            whitening.apply(column);
        }
    }
}

/// The response of the path in question without dead time, and what stands before it comes.
struct Base {
    values: Vec<f64>,
    slopes: Vec<f64>,
    /// Value and slope at rest.
    rest: [f64; 2],
}

impl Base {
    fn new(stretch: &Stretch, index: usize, path: &Path, unknowns: &[f64], side: usize) -> Self {
        let earlier = stretch.earlier(index, Before::BOTH[side]);
        let dynamics = path.dynamics(unknowns);
        let response =
            Response::new(dynamics, &stretch.axis, &stretch.inputs[index], earlier, DeadTime::default()).bare();
        let (values, slopes) = response.values(path.lead.is_some());
        // An integrator runs on as its input stood; anything else stands.
        let rest = if dynamics.is_integrating() { [0.0, earlier] } else { [earlier, 0.0] };
        Self { values, slopes, rest }
    }

    /// The response so many samples later: values, and slopes where there is room for them.
    fn late(&self, scans: usize, interval: f64, moved: &mut [Vec<f64>]) {
        let count = self.values.len();
        let [level, slope] = self.rest;
        let begun = slope * interval * scans as f64;
        if let Some(values) = moved.first_mut() {
            values.clear();
            values.extend((0..scans.min(count)).map(|k| level + slope * interval * k as f64));
            values.extend(self.values[..count - scans.min(count)].iter().map(|value| value + begun));
        }
        if let Some(slopes) = moved.get_mut(1) {
            slopes.clear();
            slopes.extend(std::iter::repeat_n(slope, scans.min(count)));
            slopes.extend_from_slice(&self.slopes[..count - scans.min(count)]);
        }
    }
}

/// The sum of squares that a linear fit leaves of the last column, from the products of all.
///
/// Rows of moving columns hold their products with all that do not move, the others' rows the lower half.
fn left_over(gram: &[f64], moving: usize, width: usize) -> f64 {
    let at = |i: usize, j: usize| {
        let (i, j) = (i.max(j), i.min(j));
        if j < moving && i >= moving { gram[j * MOST_COLUMNS + i] } else { gram[i * MOST_COLUMNS + j] }
    };
    let mut lower = [[0.0; MOST_COLUMNS]; MOST_COLUMNS];
    for j in 0..width {
        let own = at(j, j);
        let rest = own - (0..j).map(|k| lower[j][k] * lower[j][k]).sum::<f64>();
        if j + 1 == width {
            return rest.max(0.0);
        }
        // A column that others make up adds nothing.
        if rest <= 1e-12 * own {
            continue;
        }
        lower[j][j] = rest.sqrt();
        for i in j + 1..width {
            let sum: f64 = (0..j).map(|k| lower[i][k] * lower[j][k]).sum();
            lower[i][j] = (at(i, j) - sum) / lower[j][j];
        }
    }
    0.0
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::identification::process_model::unknowns::{Bounds, Layout};
    use crate::identification::{DataSet, FitOptions, Series, Structure};
    use proptest::prelude::*;

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(40))]

        /// What the shifted responses leave is what a linear fit leaves at each of the dead times, for all structures, with
        /// a disturbance, drift and both pasts.
        #[test]
        fn shifted_responses_leave_what_linear_fits_leave(
            kind in 0usize..6, disturbed: bool, drift: bool, seed in 0u64..1000, scale in 1.0..30.0f64,
        ) {
            let axis = TimeAxis::uniform(2.0, 90).unwrap();
            let wave = |a: u64, b: f64| (0..90u64).map(|k| ((k * k * a + k * seed + a) % 23) as f64 * b).collect::<Vec<f64>>();
            let mut data = DataSet::single(axis, Series::new("OP", "%", wave(7, 0.3)), Series::new("PV", "m", wave(5, 1.0)));
            if disturbed {
                data.inputs.push(Series::new("DV", "m", wave(3, 2.0)));
            }
            let options = FitOptions { drift, ..FitOptions::new(Structure::PROCESS[kind]) };
            let layout = Layout::new(&options, data.inputs.len(), 1);
            let tags: Vec<String> = data.inputs.iter().map(|series| series.tag.clone()).collect();
            let bounds = Bounds::new(&layout, &[&data.axis], &tags, &[]).unwrap();
            let prepared = Prepared::new(std::slice::from_ref(&data), &layout, &bounds);
            let mut unknowns = vec![0.0; layout.count];
            for path in &layout.paths {
                path.shape.iter().enumerate().for_each(|(k, place)| unknowns[*place] = (scale / (k + 1) as f64).ln());
                unknowns[path.dead_time] = 4.0;
            }
            let swept = prepared.over_dead_times(0, &unknowns);
            let dead_times: Vec<f64> = swept.iter().filter(|at| at.side == 0).map(|at| at.dead_time).collect();
            let plain = prepared.one_by_one(&layout.paths[0], &unknowns, &dead_times);
            let total: f64 = prepared.stretches[0].output.iter().map(|y| y * y).sum();
            prop_assert_eq!(swept.len(), 2 * dead_times.len());
            for exact in plain {
                let same = |at: &&Left| at.side == exact.side && at.dead_time == exact.dead_time;
                let left = swept.iter().find(same).map_or(f64::NAN, |at| at.left);
                prop_assert!((left - exact.left).abs() < 1e-6 * total, "{} s: {} {}", exact.dead_time, left, exact.left);
            }
        }
    }
}
