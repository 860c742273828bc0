//! The search: for each pair of times the best gain, then the best times.

use super::bench::{Bench, Figures, excess};
use super::{ControllerStructure, Demand, Demands, Objective};
use crate::Result;
use crate::assessment::Family;
use crate::numerics::longest_run;

/// What is made small: an objective, or how far one figure can be brought down.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) enum Goal {
    Objective(Objective),
    Figure(Demand),
}

/// Settings tried, and what they are worth.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) struct Tried {
    pub gain: f64,
    pub integral: f64,
    pub derivative: f64,
    pub figures: Figures,
    /// What is made small where all demands are met, and above [`MISSED`] where not.
    pub score: f64,
}

/// Scores from here on miss a demand.
pub(super) const MISSED: f64 = 1e9;

/// Gains tried over frequency, and of those that are allowed, in simulation.
const GAINS: usize = 48;
const SIMULATED_GAINS: usize = 7;
/// Integral times of the coarse grid for two times, places on it from which a simplex begins, and by how much such a place
/// may be worse than the best.
const COARSE_TIMES: usize = 9;
const SIMPLEX_STARTS: usize = 3;
const FAR: f64 = 1.6;
/// Integral times of the coarse grid for one.
const TIMES: usize = 12;
/// By how much a gain is raised, and how often, until it no longer keeps what one beside it keeps: then all are looked at.
const RISE: f64 = 1.25;
const RISES: i32 = 6;
/// Shares of the highest gain that keeps the limits at which it is looked coarsely.
const SHARES: [f64; 6] = [1.0, 0.85, 0.65, 0.4, 0.15, 0.02];
/// How far below the highest gain that keeps the limits it is looked whether a lower one does better.
const BELOW: f64 = 0.97;
/// And how far below it the best is looked for then, before all are.
const QUARTER: f64 = 0.25;
const INVERSE_GOLDEN: f64 = 0.618_033_988_749_894_8;

/// How the best gain for a pair of times is looked for.
#[derive(Debug, Clone, Copy, PartialEq)]
enum Look {
    /// Over all gains that keep the limits, at a few of them: well enough to tell which times are worth a closer look.
    Coarsely,
    /// To the last digits: at the highest of them first, which is the best, as a rule, beside times that were looked at
    /// already, with this gain. Where a gain just below does better, below it; where that comes to nothing, over all.
    Closely(f64),
}

pub(super) struct Search<'a> {
    pub bench: &'a Bench,
    pub demands: &'a Demands,
    pub goal: Goal,
    /// Called now and then with what has been tried; stops the search when it says so.
    pub goes_on: &'a dyn Fn(usize) -> bool,
}

impl Search<'_> {
    pub(super) fn score(&self, figures: &Figures) -> f64 {
        let missed = figures.violation(self.demands);
        // What is missed by rounding alone is met.
        if missed > 1e-4 {
            return MISSED * (1.0 + missed);
        }
        match self.goal {
            Goal::Objective(Objective::Load) => figures.load_error,
            Goal::Objective(Objective::SetPoint) => figures.set_point_error.unwrap_or(f64::INFINITY),
            Goal::Objective(Objective::Both { load_weight }) => {
                load_weight * figures.load_error
                    + (1.0 - load_weight) * figures.set_point_error.unwrap_or(f64::INFINITY)
            }
            Goal::Figure(demand) => figures.value(demand),
        }
        .min(0.5 * MISSED)
    }

    /// By how much a gain misses what is known over frequency; None where the loop is unstable.
    fn missed_over_frequency(&self, families: &[Family], gain: f64) -> Option<f64> {
        let point = self.bench.over_frequency(families, gain);
        let values = [(Demand::MaxSensitivity, point.max_sensitivity), (Demand::NoiseGain, point.noise_to_output)];
        point.stable.then(|| {
            values
                .into_iter()
                .filter_map(|(demand, value)| Some(excess(value, self.demands.limit(demand)?)))
                .fold(0.0, f64::max)
        })
    }

    /// Whether a gain is stable and keeps what is known over frequency.
    fn keeps_over_frequency(&self, families: &[Family], gain: f64) -> bool {
        match (self.demands.limit(Demand::MaxSensitivity), self.demands.limit(Demand::NoiseGain)) {
            (Some(limit), None) => self.bench.keeps(families, gain, limit),
            _ => self.missed_over_frequency(families, gain).is_some_and(|missed| missed <= 0.0),
        }
    }

    pub(super) fn try_at(&self, families: &[Family], gain: f64, integral: f64, derivative: f64) -> Result<Tried> {
        let point = self.bench.over_frequency(families, gain);
        let controller = self.bench.controller(gain, integral, derivative);
        let figures = self.bench.figures(&controller, point)?;
        let score = self.score(&figures);
        if self.goal == Goal::Objective(Objective::Load) && score < self.bench.least.get() {
            self.bench.least.set(score);
        }
        Ok(Tried { gain, integral, derivative, figures, score })
    }

    /// The best gain for these times; None where no gain is stable, or the search was stopped.
    fn best_gain(&self, integral: f64, derivative: f64, look: Look) -> Result<Option<Tried>> {
        if !(self.goes_on)(self.bench.simulated.get()) {
            return Ok(None);
        }
        let families = self.bench.families(integral, derivative);
        let [low, high] = self.bench.gains;
        let gain_at = |k: usize| low * (high / low).powf(k as f64 / (GAINS - 1) as f64);
        let allowed = |gain: f64| self.keeps_over_frequency(&families, gain);
        let at = |gain: f64| self.try_at(&families, gain, integral, derivative);
        if let Look::Closely(beside) = look
            && let Some(last) = edge_beside(beside.clamp(low, high), high, &allowed)
        {
            let highest = at(last)?;
            if highest.score <= at(BELOW * last)?.score {
                return Ok(Some(highest));
            }
        }
        let kept = longest_run((0..GAINS).map(|k| allowed(gain_at(k))));
        if kept.is_empty() {
            // Nothing keeps it: the gain that misses it least.
            let missed: Vec<Option<f64>> =
                (0..GAINS).map(|k| self.missed_over_frequency(&families, gain_at(k))).collect();
            let least = (0..GAINS)
                .filter(|k| missed[*k].is_some())
                .min_by(|a, b| missed[*a].unwrap_or(f64::MAX).total_cmp(&missed[*b].unwrap_or(f64::MAX)));
            let Some(k) = least else { return Ok(None) };
            return self.try_at(&families, gain_at(k), integral, derivative).map(Some);
        }
        let (from, to) = (kept.start, kept.end - 1);
        let halvings = if look == Look::Coarsely { 4 } else { 14 };
        let edge = |inside: f64, outside: f64| edge(inside, outside, halvings, &allowed);
        let last = if to + 1 == GAINS { high } else { edge(gain_at(to), gain_at(to + 1)) };
        if matches!(look, Look::Closely(_)) {
            let highest = at(last)?;
            if highest.score <= at(BELOW * last)?.score {
                return Ok(Some(highest));
            }
            let low = QUARTER * last;
            let found = golden(low.ln(), last.ln(), 10, |log_gain| at(log_gain.exp()))?;
            if found.gain > 1.1 * low && found.score < highest.score {
                return Ok(Some(found));
            }
        }
        let first = if from == 0 { low } else { edge(gain_at(from), gain_at(from - 1)) };
        let first = first.max(last * 5e-3);
        let place = |k: usize| first * (last / first).powf(k as f64 / (SIMULATED_GAINS - 1) as f64);
        if look == Look::Coarsely {
            let tried = SHARES.iter().map(|share| at((share * last).max(first))).collect::<Result<Vec<_>>>()?;
            return Ok(tried.into_iter().min_by(|a, b| a.score.total_cmp(&b.score)));
        }
        let tried: Vec<Tried> = (0..SIMULATED_GAINS).map(|k| at(place(k))).collect::<Result<_>>()?;
        let best = (0..tried.len()).fold(0, |best, k| if tried[k].score < tried[best].score { k } else { best });
        if best + 1 == tried.len() {
            let beside = at(0.99 * last)?;
            if beside.score >= tried[best].score {
                return Ok(Some(tried[best]));
            }
        }
        let from = place(best.saturating_sub(1)).ln();
        let to = place((best + 1).min(SIMULATED_GAINS - 1)).ln();
        let refined = golden(from, to, 11, |log_gain| at(log_gain.exp()))?;
        Ok(Some(if refined.score < tried[best].score { refined } else { tried[best] }))
    }

    /// The best settings; None where none is stable, or the search was stopped. Where settings with an error of `known` are
    /// known already, what is far worse is not looked at closely.
    pub fn run(&self, known: f64) -> Result<Option<Tried>> {
        self.bench.least.set(if self.goal == Goal::Objective(Objective::Load) { known } else { f64::INFINITY });
        match self.bench.structure() {
            ControllerStructure::Pid => self.over_two_times(),
            ControllerStructure::Smith => {
                // The gains that keep a limit need not lie together: the best of one run is not the end.
                let Some(found) = self.over_integral_time(3 * TIMES)? else { return Ok(None) };
                self.refined(found).map(Some)
            }
            ControllerStructure::Pi => self.over_integral_time(TIMES),
        }
    }

    fn over_integral_time(&self, times: usize) -> Result<Option<Tried>> {
        let [low, high] = self.bench.times.map(f64::ln);
        let place = |k: usize| low + (high - low) * k as f64 / (times - 1) as f64;
        let mut best: Option<(usize, Tried)> = None;
        for k in 0..times {
            if let Some(tried) = self.best_gain(place(k).exp(), 0.0, Look::Coarsely)?
                && best.is_none_or(|(_, known)| tried.score < known.score)
            {
                best = Some((k, tried));
            }
        }
        let Some((k, coarse)) = best else { return Ok(None) };
        let (from, to) = (place(k.saturating_sub(1)), place((k + 1).min(times - 1)));
        let nowhere = Tried { score: f64::INFINITY, ..coarse };
        let refined = golden(from, to, 13, |log_time| {
            Ok(self.best_gain(log_time.exp(), 0.0, Look::Closely(coarse.gain))?.unwrap_or(nowhere))
        })?;
        Ok(Some(if refined.score < coarse.score { refined } else { coarse }))
    }

    /// Over integral time and the ratio of derivative to integral time: a coarse grid, then from its best places the simplex of
    /// Nelder and Mead (Computer J. 7, 1965). Where a limit of the gain turns from one end of the frequencies to another the
    /// error has an edge, at which a simplex can stay; from several sides one of them comes past it.
    fn over_two_times(&self) -> Result<Option<Tried>> {
        let [low, high] = self.bench.times.map(f64::ln);
        let mut coarse: Vec<([f64; 2], Tried)> = Vec::new();
        for i in 0..COARSE_TIMES {
            for ratio in [0.04f64, 0.12, 0.25, 0.5] {
                let place = [low + (high - low) * i as f64 / (COARSE_TIMES - 1) as f64, ratio.ln()];
                coarse.extend(self.at_times(place, Look::Coarsely)?.map(|tried| (place, tried)));
            }
        }
        coarse.sort_by(|a, b| a.1.score.total_cmp(&b.1.score));
        let mut best: Option<Tried> = None;
        let mut starts: Vec<[f64; 2]> = Vec::new();
        for (place, tried) in &coarse {
            let apart = |start: &[f64; 2]| (start[0] - place[0]).abs() + 0.5 * (start[1] - place[1]).abs();
            let is_near = starts.iter().any(|start| apart(start) < 1.1 * (high - low) / (COARSE_TIMES - 1) as f64);
            if is_near
                || starts.len() >= SIMPLEX_STARTS
                || (!starts.is_empty() && tried.score > FAR * coarse[0].1.score)
            {
                continue;
            }
            starts.push(*place);
            let found = self.simplex(*place, *tried, (high - low) / (2 * COARSE_TIMES) as f64)?;
            if best.is_none_or(|known| found.score < known.score) {
                best = Some(found);
            }
        }
        // Once more from the best, so that a simplex that has fallen flat is not the end.
        let Some(found) = best else { return Ok(None) };
        let place = [found.integral.ln(), (found.derivative / found.integral).ln()];
        let again = self.simplex(place, found, 0.08)?;
        Ok(Some(if again.score < found.score { again } else { found }))
    }

    /// The best gain at the logarithms of the integral time and of the ratio of the times.
    fn at_times(&self, place: [f64; 2], look: Look) -> Result<Option<Tried>> {
        let [low, high] = self.bench.times.map(f64::ln);
        let (x, y) = (place[0].clamp(low, high), place[1].clamp(0.01f64.ln(), 1.0f64.ln()));
        self.best_gain(x.exp(), x.exp() * y.exp(), look)
    }

    fn simplex(&self, start: [f64; 2], known: Tried, spread: f64) -> Result<Tried> {
        let nowhere = Tried { score: f64::INFINITY, ..known };
        let look = Look::Closely(known.gain);
        let worth = |place: [f64; 2]| -> Result<Tried> { Ok(self.at_times(place, look)?.unwrap_or(nowhere)) };
        let mut simplex = vec![(start, known)];
        for place in [[start[0] + spread, start[1]], [start[0], start[1] + 2.0 * spread]] {
            simplex.push((place, worth(place)?));
        }
        for _ in 0..36 {
            simplex.sort_by(|a, b| a.1.score.total_cmp(&b.1.score));
            let size = (0..2).map(|i| (simplex[0].0[i] - simplex[2].0[i]).abs()).fold(0.0, f64::max);
            if size < 4e-3 {
                break;
            }
            let (worst, middle) = (simplex[2], [0, 1].map(|i| 0.5 * (simplex[0].0[i] + simplex[1].0[i])));
            let along = |share: f64| [0, 1].map(|i| middle[i] + share * (worst.0[i] - middle[i]));
            let reflected = (along(-1.0), worth(along(-1.0))?);
            if reflected.1.score < simplex[0].1.score {
                let further = (along(-2.0), worth(along(-2.0))?);
                simplex[2] = if further.1.score < reflected.1.score { further } else { reflected };
            } else if reflected.1.score < simplex[1].1.score {
                simplex[2] = reflected;
            } else {
                let share = if reflected.1.score < worst.1.score { -0.5 } else { 0.5 };
                let nearer = (along(share), worth(along(share))?);
                if nearer.1.score < worst.1.score.min(reflected.1.score) {
                    simplex[2] = nearer;
                } else {
                    for k in 1..3 {
                        let place = [0, 1].map(|i| 0.5 * (simplex[0].0[i] + simplex[k].0[i]));
                        simplex[k] = (place, worth(place)?);
                    }
                }
            }
        }
        simplex.sort_by(|a, b| a.1.score.total_cmp(&b.1.score));
        Ok(simplex[0].1)
    }
}

/// The highest gain that is allowed, by halving the way between one that is and one that is not.
fn edge(inside: f64, outside: f64, halvings: usize, allowed: &dyn Fn(f64) -> bool) -> f64 {
    let (mut inside, mut outside) = (inside.ln(), outside.ln());
    for _ in 0..halvings {
        let middle = 0.5 * (inside + outside);
        if allowed(middle.exp()) {
            inside = middle;
        } else {
            outside = middle;
        }
    }
    inside.exp()
}

/// The same near a gain; None where it is not found there.
fn edge_beside(gain: f64, high: f64, allowed: &dyn Fn(f64) -> bool) -> Option<f64> {
    let is_inside = allowed(gain);
    let step = if is_inside { RISE } else { RISE.recip() };
    let next = (1..=RISES).map(|k| gain * step.powi(k)).find(|next| *next >= high || allowed(*next) != is_inside)?;
    if next >= high {
        return None;
    }
    let before = next / step;
    let (inside, outside) = if is_inside { (before, next) } else { (next, before) };
    Some(edge(inside, outside, 12, allowed))
}

/// The least score between two places, by golden section.
fn golden(mut low: f64, mut high: f64, steps: usize, at: impl Fn(f64) -> Result<Tried>) -> Result<Tried> {
    let mut left = at(high - INVERSE_GOLDEN * (high - low))?;
    let mut right = at(low + INVERSE_GOLDEN * (high - low))?;
    for _ in 0..steps {
        if left.score <= right.score {
            (high, right) = (low + INVERSE_GOLDEN * (high - low), left);
            left = at(high - INVERSE_GOLDEN * (high - low))?;
        } else {
            (low, left) = (high - INVERSE_GOLDEN * (high - low), right);
            right = at(low + INVERSE_GOLDEN * (high - low))?;
        }
    }
    Ok(if left.score <= right.score { left } else { right })
}
