//! Planning with a model that is not linear: Newton's method along the path of the last plan, within a region in which it is trusted.

use super::settings::LimitOfCv;
use super::{Constraint, Predictive, constraints};
use crate::numerics::RankedProgram;

/// Where the equations make of a plan what was expected of it, to so much of span in %, another one would not differ.
const AS_EXPECTED: f64 = 0.005;
/// A plan that moves an MV by less than this, in %, is the same one: what Newton's method would still add is of its square.
const SAME_PLAN: f64 = 0.2;
/// So is one whose cost differs by less than this share.
const SAME_COST: f64 = 1e-4;
/// Most plans that are made at a scan.
const MOST_PLANS: usize = 8;
/// How much nearer to the path a plan must stay that the equations have made worse than the path was.
const NEARER: f64 = 0.25;
/// What a limit of a CV that the equations miss counts beside its error, where it is the first to be given up.
const MISSED: f64 = 100.0;
/// How much more one counts that is given up after another.
const MORE_BY_RANK: f64 = 10.0;
/// Where a path tells nothing of its moves, an MV is led to each end of its range and to what parts that into so many.
const PLACES: usize = 8;

/// What each limit of a CV counts that the equations miss.
fn missed_costs(limits: &[LimitOfCv]) -> Vec<f64> {
    let mut ranks: Vec<u32> = limits.iter().map(|one| one.limit.rank).collect();
    ranks.sort_unstable();
    ranks.dedup();
    let given_up_before = |rank: u32| ranks.iter().filter(|other| **other > rank).count();
    limits.iter().map(|one| MISSED * MORE_BY_RANK.powi(given_up_before(one.limit.rank) as i32)).collect()
}

impl Predictive {
    /// Plans with a model that is not linear: along the path of the last plan, until that leads along itself.
    pub(super) fn plan_along_path(&mut self) {
        let dvs = self.disturbances_ahead();
        // What was planned at the scan before does not begin its moves where this plan can: seen through those blocks both are
        // plans of the same kind, so that one can be told to be better than the other.
        let mut path =
            self.nonlinear.as_ref().map_or_else(Vec::new, |one| in_blocks(one.planned(), &self.prediction.begins));
        if let Some(nonlinear) = &mut self.nonlinear {
            nonlinear.take(path.clone());
        }
        let (mut cost, mut room, mut steps) = (None, f64::INFINITY, 0);
        self.pose();
        if !self.last.is_told
            && let Some((other, found)) = self.cheaper(&path, &dvs)
        {
            (path, cost) = (other, Some(found));
            if let Some(nonlinear) = &mut self.nonlinear {
                nonlinear.take(path.clone());
            }
            self.pose();
        }
        for left in (0..MOST_PLANS).rev() {
            self.stay_near(&path, room);
            self.solve();
            steps += self.last.solved.steps;
            let planned = self.planned();
            let (now, missed) = self.cost_along(&planned, &dvs);
            let mut is_settled = missed <= AS_EXPECTED;
            if !is_settled {
                let before = cost.unwrap_or_else(|| self.cost_along(&path, &dvs).0);
                let further = furthest(&planned, &path);
                // What changes no cost is not worth another plan: moves far ahead are told by little else.
                is_settled = further <= SAME_PLAN || (before.is_finite() && (now - before).abs() <= SAME_COST * before);
                if now > before && !is_settled && left > 0 {
                    (cost, room) = (Some(before), NEARER * further);
                    continue;
                }
            }
            (path, cost, room) = (planned, Some(now), 2.0 * room);
            if let Some(nonlinear) = &mut self.nonlinear {
                nonlinear.take(path.clone());
            }
            if is_settled {
                break;
            }
            if left > 0 {
                self.pose();
            }
        }
        self.last.solved.steps = steps;
    }

    /// A plan that the equations find cheaper than this one, with what it costs: MV by MV towards some place in its range and on there.
    fn cheaper(&mut self, path: &[Vec<f64>], dvs: &[Vec<f64>]) -> Option<(Vec<Vec<f64>>, f64)> {
        let (mut best, mut least) = (path.to_vec(), self.cost_along(path, dvs).0);
        let at_first = least;
        for j in (0..path.len()).filter(|j| self.last.available[*j]).collect::<Vec<_>>() {
            let (low, high) = (self.settings.mvs[j].low, self.settings.mvs[j].high);
            let mut among = best.clone();
            let (mut middle, mut width) = (0.5 * (low + high), high - low);
            // All over its range, then about the best of that.
            for _ in 0..2 {
                let mut there = (middle, f64::INFINITY);
                for place in 0..=PLACES {
                    let to = (middle + width * (place as f64 / PLACES as f64 - 0.5)).clamp(low, high);
                    among[j] = self.towards(j, to);
                    let (cost, _) = self.cost_along(&among, dvs);
                    if cost < there.1 {
                        there = (to, cost);
                    }
                    if cost < least {
                        (best, least) = (among.clone(), cost);
                    }
                }
                (middle, width) = (there.0, 2.0 * width / PLACES as f64);
            }
        }
        (least < at_first).then_some((best, least))
    }

    /// An MV that goes to a value, in %, by as much at each of its moves, which costs least, and no faster than it may.
    fn towards(&self, mv: usize, to: f64) -> Vec<f64> {
        let begins = &self.prediction.begins;
        let most = self.settings.mvs[mv].rate.map_or(f64::INFINITY, |rate| rate * self.scan);
        let mut value = self.base.mvs[mv] + self.last.before[mv];
        let step = ((to - value) / begins.len() as f64).clamp(-most, most);
        let course = (0..self.prediction.scans).map(|scan| {
            if begins.contains(&scan) {
                value += step;
            }
            value
        });
        course.collect()
    }

    /// MVs as the last program has them, in %, by MV and by scan.
    fn planned(&self) -> Vec<Vec<f64>> {
        let (scans, blocks) = (self.prediction.scans, self.prediction.begins.len());
        let of_mv = |j: usize| {
            let (low, high) = (self.settings.mvs[j].low, self.settings.mvs[j].high);
            let before = self.base.mvs[j] + self.last.before[j];
            let (low, high) = (low.min(before), high.max(before));
            let moves = self.prediction.begins.iter().zip(&self.program.x()[j * blocks..(j + 1) * blocks]);
            let made =
                |scan: usize| moves.clone().filter(move |(begin, _)| **begin <= scan).map(|(_, by)| by).sum::<f64>();
            (0..scans).map(|scan| (before + made(scan)).clamp(low, high)).collect()
        };
        (0..self.settings.mvs.len()).map(of_mv).collect()
    }

    /// Keeps MVs within so much of a path, in %, beside their limits.
    fn stay_near(&mut self, path: &[Vec<f64>], room: f64) {
        for row in 0..self.rows.len() {
            let mut bound = self.bound(self.rows[row]);
            if let Constraint::Position { mv, block, high } = self.rows[row]
                && self.last.available[mv]
            {
                let by = path[mv][self.prediction.begins[block]] - self.base.mvs[mv] - self.last.before[mv];
                bound = bound.max(if high { -by - room } else { by - room });
            }
            self.last.bounds[row] = bound;
        }
    }

    /// What a plan costs as the equations have it, infinite where they cannot be carried on under it; and by how much they miss at most, in
    /// % of span, what the last program expects of its own plan.
    fn cost_along(&mut self, planned: &[Vec<f64>], dvs: &[Vec<f64>]) -> (f64, f64) {
        let Some(path) = self.nonlinear.as_mut().and_then(|nonlinear| nonlinear.path(planned, dvs)) else {
            return (f64::INFINITY, f64::INFINITY);
        };
        let (p, costs) = (self.settings.cvs.len(), missed_costs(&self.limits));
        let (mut cost, mut missed) = (0.0, 0.0f64);
        for (row, value) in path.iter().enumerate() {
            let (cv, value) = (row % p, value - self.base.cvs[row % p]);
            let expected = self.last.free[row] + crate::numerics::dot(self.prediction.effect(row), self.program.x());
            missed = missed.max((value - expected).abs());
            let after = row / p + 1;
            if self.last.followed[cv] {
                cost += self.weights.errors[cv] * (value - self.wanted(cv, after)).powi(2);
            }
            for (limit, LimitOfCv { side, .. }) in self.limits_of(cv) {
                let beyond = side.sign() * (self.held(limit, after) - value);
                cost += costs[limit] * beyond.max(0.0).powi(2);
            }
        }
        let hours = if self.last.followed.contains(&true) { 0.0 } else { self.scan / 3600.0 };
        for (j, course) in planned.iter().enumerate() {
            let mut before = self.base.mvs[j] + self.last.before[j];
            let rest = self.base.mvs[j] + self.targets.mvs()[j];
            for mv in course {
                cost += self.weights.moves[j] * (mv - before).powi(2);
                cost += self.weights.positions[j] * (mv - rest).powi(2);
                cost += 2.0 * hours * self.settings.mvs[j].cost * mv;
                before = *mv;
            }
        }
        (cost, missed)
    }

    /// The measured disturbances at the scans ahead, in their units.
    fn disturbances_ahead(&self) -> Vec<Vec<f64>> {
        let m = self.settings.mvs.len();
        let of_dv = |k: usize| {
            let mut value = self.base.dvs[k] + self.inputs[m + k];
            let coming = self.last.coming[k].iter().copied().chain(std::iter::repeat(0.0));
            let course = coming.enumerate().map(|(scan, step)| {
                value += if scan == 0 { 0.0 } else { step };
                value
            });
            course.take(self.prediction.scans).collect()
        };
        (0..self.settings.dvs.len()).map(of_dv).collect()
    }

    /// What is expected with a model that is not linear: the free response and the effect of moves, and the program that follows from them.
    pub(super) fn foresee_non_linear(&mut self) {
        let dvs = self.disturbances_ahead();
        let Some(nonlinear) = &mut self.nonlinear else { return };
        let last = &mut self.last;
        let before: Vec<f64> = last.before.iter().zip(&self.base.mvs).map(|(by, base)| base + by).collect();
        last.is_told =
            nonlinear.foresee((&before, &dvs), &self.prediction.begins, &mut last.free, &mut self.prediction.of_moves);
        for (value, base) in last.free.iter_mut().zip(self.base.cvs.iter().cycle()) {
            *value -= base;
        }
        let (rows, normals) = constraints(&self.settings, &self.limits, &self.prediction);
        last.bounds.resize(rows.len(), f64::NEG_INFINITY);
        self.rows = rows;
        if let Some(program) = RankedProgram::new(&self.prediction.cost(&self.weights), &normals) {
            self.program = program;
        }
    }
}

/// A plan that moves only where blocks begin, on the average of each block as another is.
fn in_blocks(planned: &[Vec<f64>], begins: &[usize]) -> Vec<Vec<f64>> {
    let of_mv = |course: &Vec<f64>| {
        let ends = begins.iter().skip(1).copied().chain([course.len()]);
        let blocks = begins.iter().zip(ends).flat_map(|(begin, end)| {
            let mean = course[*begin..end].iter().sum::<f64>() / (end - begin) as f64;
            std::iter::repeat_n(mean, end - begin)
        });
        blocks.collect()
    };
    planned.iter().map(of_mv).collect()
}

/// By how much two plans differ at most, in %.
fn furthest(one: &[Vec<f64>], other: &[Vec<f64>]) -> f64 {
    one.iter().flatten().zip(other.iter().flatten()).map(|(a, b)| (a - b).abs()).fold(0.0, f64::max)
}
