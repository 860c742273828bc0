//! The thorough search, for what the quick one cannot be trusted with: demands that may not go together, and how far a
//! single figure can be brought down.

use super::ControllerStructure;
use super::search::{Search, Tried};
use crate::Result;
use crate::numerics::rounded;

/// Gains and integral times of the grid, and how far the times go beyond those of the quick search.
const GAINS: usize = 16;
const TIMES: usize = 14;
const BEYOND: f64 = 6.0;
/// How far beyond them a pattern search goes.
const FARTHEST: f64 = 100.0;
/// Places of the grid from which a pattern search begins.
const STARTS: usize = 6;
/// First and last step of a pattern search, of the logarithms of gain and times.
const FIRST_STEP: f64 = 0.25;
const LAST_STEP: f64 = 2e-3;
/// Where a pattern search looks: of two demands that pull apart the way between them lies along neither axis.
const DIRECTIONS: [Place; 14] = [
    [1.0, 0.0, 0.0],
    [-1.0, 0.0, 0.0],
    [0.0, 1.0, 0.0],
    [0.0, -1.0, 0.0],
    [1.0, 1.0, 0.0],
    [-1.0, -1.0, 0.0],
    [1.0, -1.0, 0.0],
    [-1.0, 1.0, 0.0],
    [0.0, 0.0, 1.0],
    [0.0, 0.0, -1.0],
    [0.4, 1.0, 0.0],
    [-0.4, -1.0, 0.0],
    [1.0, 0.4, 0.0],
    [-1.0, -0.4, 0.0],
];
/// Digits of the settings that are given out.
const DIGITS: usize = 4;

/// Logarithms of gain, integral time and ratio of derivative to integral time.
type Place = [f64; 3];

impl Search<'_> {
    /// The best settings over a grid that goes beyond the range of the quick search, each of its best places followed by a
    /// pattern search (Hooke & Jeeves, J. ACM 8, 1961), which needs no smooth score: a settling time jumps where a swing
    /// leaves its band. None where nothing is stable, or the search was stopped.
    pub fn widely(&self) -> Result<Option<Tried>> {
        let ratios: &[f64] =
            if self.bench.structure() == ControllerStructure::Pid { &[0.05, 0.2, 0.4] } else { &[0.0] };
        let ([low, high], [short, long]) = (self.bench.gains, self.bench.times);
        let (short, long) = (short / BEYOND, long * BEYOND);
        let mut found: Vec<(Place, Tried)> = Vec::new();
        for i in 0..TIMES {
            let integral = short * (long / short).powf(i as f64 / (TIMES - 1) as f64);
            for ratio in ratios {
                for j in 0..GAINS {
                    let gain = low * (high / low).powf(j as f64 / (GAINS - 1) as f64);
                    let place = [gain.ln(), integral.ln(), ratio.ln()];
                    found.extend(self.at_place(place)?.map(|tried| (place, tried)));
                }
            }
        }
        found.sort_by(|a, b| a.1.score.total_cmp(&b.1.score));
        let mut starts: Vec<(Place, Tried)> = Vec::new();
        for (place, tried) in found {
            let apart = |start: &(Place, Tried)| (0..2).map(|i| (start.0[i] - place[i]).abs()).fold(0.0, f64::max);
            if starts.iter().all(|start| apart(start) > 0.6) {
                starts.push((place, tried));
            }
            if starts.len() == STARTS {
                break;
            }
        }
        let mut best: Option<Tried> = None;
        for (place, tried) in starts {
            let reached = self.pattern(place, tried, FIRST_STEP)?;
            if best.is_none_or(|known| reached.score < known.score) {
                best = Some(reached);
            }
        }
        Ok(best)
    }

    /// The same settings by what this search makes small.
    pub fn scored(&self, tried: Tried) -> Tried {
        Tried { score: self.score(&tried.figures), ..tried }
    }

    /// The best that a pattern search comes to from settings that are known.
    pub fn refined(&self, known: Tried) -> Result<Tried> {
        let place = [known.gain, known.integral, known.derivative / known.integral].map(f64::ln);
        self.pattern(place, known, FIRST_STEP)
    }

    /// Goes on from a place along the axes and diagonals as long as that helps, in ever shorter steps.
    fn pattern(&self, mut place: Place, mut best: Tried, first_step: f64) -> Result<Tried> {
        let with_ratio = place[2].is_finite();
        let mut step = first_step;
        while step > LAST_STEP {
            let before = place;
            for direction in DIRECTIONS {
                if direction[2] != 0.0 && !with_ratio {
                    continue;
                }
                let there =
                    std::array::from_fn(
                        |i| if direction[i] == 0.0 { place[i] } else { place[i] + step * direction[i] },
                    );
                if let Some(tried) = self.at_place(there)?.filter(|tried| tried.score < best.score) {
                    (place, best) = (there, tried);
                    break;
                }
            }
            if place == before {
                step *= 0.5;
                continue;
            }
            // On along the way that has just paid.
            let on = std::array::from_fn(|i| if place[i].is_finite() { 2.0 * place[i] - before[i] } else { place[i] });
            if let Some(tried) = self.at_place(on)?.filter(|tried| tried.score < best.score) {
                (place, best) = (on, tried);
            }
        }
        Ok(best)
    }

    /// None where the loop is unstable, or the search was stopped.
    fn at_place(&self, place: Place) -> Result<Option<Tried>> {
        if !(self.goes_on)(self.bench.simulated.get()) {
            return Ok(None);
        }
        let [gain, integral, ratio] = place.map(f64::exp);
        let ([low, high], [short, long]) = (self.bench.gains, self.bench.times);
        let is_far = !(low / FARTHEST..=high * FARTHEST).contains(&gain)
            || !(short / FARTHEST..=long * FARTHEST).contains(&integral)
            || ratio > 1.0;
        if is_far {
            return Ok(None);
        }
        self.settings(gain, integral, ratio * integral)
    }

    fn settings(&self, gain: f64, integral: f64, derivative: f64) -> Result<Option<Tried>> {
        let families = self.bench.families(integral, derivative);
        let stable = self.bench.over_frequency(&families, gain).stable;
        if stable { self.try_at(&families, gain, integral, derivative).map(Some) } else { Ok(None) }
    }

    /// The same settings with as many digits as are typed in, and what these achieve; where rounding costs, the best of the
    /// neighbours that can be typed in.
    pub fn to_type_in(&self, best: Tried) -> Result<Tried> {
        /// A loss that rounding may make.
        const SMALL: f64 = 1e-3;
        let exact = [best.gain, best.integral, best.derivative];
        let beside = |value: f64, steps: i32| {
            let last = 10f64.powi(value.abs().max(f64::MIN_POSITIVE).log10().floor() as i32 - DIGITS as i32 + 1);
            rounded(rounded(value, DIGITS) + f64::from(steps) * last, DIGITS)
        };
        let mut found: Option<Tried> = None;
        for steps in
            [[0, 0, 0], [-1, 0, 0], [-1, 1, 0], [0, 1, 0], [1, 0, 0], [0, -1, 0], [-2, 0, 0], [-3, 1, 0], [-5, 0, 0]]
        {
            let [gain, integral, derivative] =
                std::array::from_fn(|i| if exact[i] == 0.0 { 0.0 } else { beside(exact[i], steps[i]) });
            let tried = self.settings(gain, integral, derivative)?;
            if let Some(tried) = tried.filter(|tried| found.is_none_or(|known| tried.score < known.score)) {
                found = Some(tried);
            }
            if found.is_some_and(|found| found.score <= best.score * (1.0 + SMALL)) {
                break;
            }
        }
        Ok(found.unwrap_or(best))
    }
}
