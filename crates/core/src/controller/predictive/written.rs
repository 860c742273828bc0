//! The law of a small predictive controller in plain numbers, for whoever carries it elsewhere.

use super::explicit::Explicit;
use crate::numerics::dot;
use crate::units::Span;

/// A law written out, with the filter that tells it what it knows: a predictive controller without a solver. All in %, from where the loop
/// rested; it does what [`Predictive`](super::Predictive) does while all its MVs may be moved and what it knows stays within
/// [what it was made for](Explicit::within). Beyond that it takes the law of the nearest region.
#[derive(Debug, Clone, PartialEq)]
pub struct WrittenLaw {
    /// What is controlled.
    pub cvs: Vec<WrittenCv>,
    /// What is moved.
    pub mvs: Vec<WrittenMv>,
    /// The filter.
    pub filter: WrittenFilter,
    /// Where it is to rest: states of the process and MVs, by what it knows.
    pub rests: Vec<WrittenRegion>,
    /// The first move of each MV, by what it knows and where it is to rest.
    pub moves: Vec<WrittenRegion>,
}

/// A CV of a written law.
#[derive(Debug, Clone, PartialEq)]
pub struct WrittenCv {
    /// Its tag.
    pub tag: String,
    /// Its span.
    pub span: Span,
    /// Where it rested, %.
    pub rest: f64,
}

/// An MV of a written law.
#[derive(Debug, Clone, PartialEq)]
pub struct WrittenMv {
    /// Its tag.
    pub tag: String,
    /// Where it rested, %.
    pub rest: f64,
    /// Its lowest value, %.
    pub low: f64,
    /// Its highest.
    pub high: f64,
    /// How far it may move in a scan, %; None for as far as it will.
    pub rate: Option<f64>,
}

/// What is believed, from scan to scan: `x⁺ = Φx + Γu + Ed`, `y = Cx + Dd`, then both corrected by what was measured; rows of numbers.
#[derive(Debug, Clone, PartialEq)]
pub struct WrittenFilter {
    /// Φ.
    pub by_states: Vec<Vec<f64>>,
    /// Γ.
    pub by_inputs: Vec<Vec<f64>>,
    /// E.
    pub by_disturbances: Vec<Vec<f64>>,
    /// C.
    pub seen: Vec<Vec<f64>>,
    /// D.
    pub seen_disturbances: Vec<Vec<f64>>,
    /// What the states are corrected by, for each % that was not expected of a CV.
    pub states_gain: Vec<Vec<f64>>,
    /// What the disturbances are.
    pub disturbances_gain: Vec<Vec<f64>>,
}

/// A region of a law: it is where `aᵀθ ≥ b` for all its sides, and the answer there is `Kθ + k`.
#[derive(Debug, Clone, PartialEq)]
pub struct WrittenRegion {
    /// a and b of each side.
    pub sides: Vec<(Vec<f64>, f64)>,
    /// Rows of K, each with its k.
    pub law: Vec<(Vec<f64>, f64)>,
}

impl WrittenRegion {
    fn at(&self, theta: &[f64]) -> Vec<f64> {
        self.law.iter().map(|(by, at)| dot(by, theta) + at).collect()
    }

    /// The region that a point lies in: the first that it is not outside of, else that which it is least outside of.
    fn locate<'a>(all: &'a [Self], theta: &[f64]) -> Option<&'a Self> {
        let depth = |one: &Self| one.sides.iter().map(|(by, at)| dot(by, theta) - at).fold(f64::INFINITY, f64::min);
        let mut best: Option<(&Self, f64)> = None;
        for one in all {
            let depth = depth(one);
            if best.is_none_or(|(_, known)| known < 0.0 && depth > known) {
                best = Some((one, depth));
            }
        }
        best.map(|(one, _)| one)
    }

    fn numbers(&self) -> usize {
        self.sides.iter().chain(&self.law).map(|(by, _)| by.len() + 1).sum()
    }
}

/// What a written law believes; nothing has happened yet.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Believed {
    states: Vec<f64>,
    disturbances: Vec<f64>,
}

impl WrittenLaw {
    /// Numbers that it is written in.
    #[must_use]
    pub fn numbers(&self) -> usize {
        let WrittenFilter {
            by_states,
            by_inputs,
            by_disturbances,
            seen,
            seen_disturbances,
            states_gain,
            disturbances_gain,
        } = &self.filter;
        let all = [by_states, by_inputs, by_disturbances, seen, seen_disturbances, states_gain, disturbances_gain];
        let of_filter: usize = all.into_iter().flatten().map(Vec::len).sum();
        of_filter + self.rests.iter().chain(&self.moves).map(WrittenRegion::numbers).sum::<usize>()
    }

    /// One scan, as [`Predictive::scan`](super::Predictive::scan): the MVs in % that follow from the CVs as measured (no number for one that is
    /// not to be believed), their set points, and what stood at the MVs since the scan before, all in %.
    #[must_use]
    pub fn scan(&self, believed: &mut Believed, measured: &[f64], set_points: &[f64], applied: &[f64]) -> Vec<f64> {
        let filter = &self.filter;
        believed.states.resize(filter.by_states.len(), 0.0);
        believed.disturbances.resize(filter.disturbances_gain.len(), 0.0);
        let before: Vec<f64> = applied.iter().zip(&self.mvs).map(|(applied, mv)| applied - mv.rest).collect();
        let Believed { states, disturbances } = believed;
        let rows = filter.by_states.iter().zip(&filter.by_inputs).zip(&filter.by_disturbances);
        let mut x: Vec<f64> = rows
            .map(|((by_states, by_inputs), by_disturbances)| {
                dot(by_states, states) + dot(by_inputs, &before) + dot(by_disturbances, disturbances)
            })
            .collect();
        let shown = filter.seen.iter().zip(&filter.seen_disturbances);
        let shown = shown.map(|(by_states, by_disturbances)| dot(by_states, &x) + dot(by_disturbances, disturbances));
        let new: Vec<f64> = shown
            .zip(measured.iter().zip(&self.cvs))
            .map(|(shown, (measured, cv))| if measured.is_finite() { measured - cv.rest - shown } else { 0.0 })
            .collect();
        for (state, gain) in x.iter_mut().zip(&filter.states_gain) {
            *state += dot(gain, &new);
        }
        for (disturbance, gain) in disturbances.iter_mut().zip(&filter.disturbances_gain) {
            *disturbance += dot(gain, &new);
        }
        states.clone_from(&x);
        let mut theta = x;
        theta.extend_from_slice(disturbances);
        theta.extend_from_slice(&before);
        theta.extend(set_points.iter().zip(&self.cvs).map(|(set_point, cv)| set_point - cv.rest));
        let rest = WrittenRegion::locate(&self.rests, &theta).map(|region| region.at(&theta));
        theta.extend(rest.unwrap_or_default());
        let moves = WrittenRegion::locate(&self.moves, &theta).map(|region| region.at(&theta)).unwrap_or_default();
        self.mvs
            .iter()
            .zip(applied)
            .zip(moves)
            .map(|((mv, applied), by)| {
                let rate = mv.rate.unwrap_or(f64::INFINITY);
                (applied + by.clamp(-rate, rate)).clamp(mv.low.min(*applied), mv.high.max(*applied))
            })
            .collect()
    }
}

impl Explicit {
    /// The law in plain numbers.
    #[must_use]
    pub fn in_numbers(&self) -> WrittenLaw {
        let (settings, observer) = (&self.settings, &self.observer);
        let rows = |matrix: &nalgebra::DMatrix<f64>| -> Vec<Vec<f64>> {
            matrix.row_iter().map(|row| row.iter().copied().collect()).collect()
        };
        let (phi, gamma, seen) = observer.model.matrices();
        let order = phi.nrows();
        // Of states that only hold what is on its way nothing is corrected, and nothing disturbs them.
        let whole = |part: &nalgebra::DMatrix<f64>| rows(&part.clone().resize_vertically(order, 0.0));
        let (states_gain, disturbances_gain) = observer.gains();
        let plain = |normal: &nalgebra::DVector<f64>, at: f64| (normal.as_slice().to_vec(), at);
        let sides = |region: &crate::numerics::Region| region.sides.iter().map(|(a, b)| plain(a, *b)).collect();
        let count = self.parts.len();
        let rests = self.rests.iter().map(|region| {
            // Where to rest by what is known alone: the directions that are free follow from that.
            let free = self.rest.by.columns(count, self.rest.by.ncols() - count);
            let by = self.rest.by.columns(0, count) + free * &region.gain;
            let at = &self.rest.at + free * &region.offset;
            let law = rows(&by).into_iter().zip(at.iter().copied()).collect();
            WrittenRegion { sides: sides(region), law }
        });
        let moves = self.moves.iter().map(|region| {
            let all = rows(&region.gain).into_iter().zip(region.offset.iter().copied());
            WrittenRegion { sides: sides(region), law: all.step_by(self.blocks).collect() }
        });
        let cvs = settings.cvs.iter().zip(&self.spans).zip(&self.base.0);
        let mvs = settings.mvs.iter().zip(&self.base.1);
        WrittenLaw {
            cvs: cvs
                .map(|((cv, span), rest)| WrittenCv { tag: cv.tag.clone(), span: span.clone(), rest: *rest })
                .collect(),
            mvs: mvs
                .map(|(mv, rest)| WrittenMv {
                    tag: mv.tag.clone(),
                    rest: *rest,
                    low: mv.low,
                    high: mv.high,
                    rate: mv.rate.map(|rate| rate * self.scan),
                })
                .collect(),
            filter: WrittenFilter {
                by_states: rows(phi),
                by_inputs: rows(gamma),
                by_disturbances: whole(&observer.to_states),
                seen: rows(seen),
                seen_disturbances: rows(&observer.to_outputs),
                states_gain: whole(&states_gain),
                disturbances_gain: rows(&disturbances_gain),
            },
            rests: rests.collect(),
            moves: moves.collect(),
        }
    }
}
