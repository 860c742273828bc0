//! How strongly each MV acts, learnt from moves that are made for it.
//!
//! With the gain of its filter kept, what an observer does not expect of a measurement is linear in the factors `κ` by which the MVs act
//! more strongly than its model has it: `ε = ε₀ − Σ κⱼ ψⱼ`. `ε₀` is what an observer does not expect that knows of no MV, `ψⱼ` what one
//! expects that is told of nothing but the MV `j`. In a closed loop `ψ` goes with what disturbs, since the loop acts against that, and least
//! squares would take a load for what the MVs do. What the moves alone would bring about, `ζⱼ`, knows of no disturbance: with it for an
//! instrument, `Σ ζ (ε₀ − ψᵀκ) = 0` (Söderström & Stoica, System Identification, 1989, chapter 8; Ljung, System Identification, 2nd ed. 1999,
//! sections 7.6 and 13.4).

use super::observer::Observer;
use crate::instrument::Noise;
use crate::{Result, check};
use nalgebra::{DMatrix, DVector};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The least noise, % of span, in which anything is told.
const LEAST_NOISE: f64 = 0.01;
/// A factor is told where its standard error is this share of it at most.
const TOLD: f64 = 0.1;
/// What is planned with is changed where a factor has moved by so much of itself, and by so many standard errors.
const WORTH_IT: f64 = 0.02;
const ERRORS: f64 = 2.0;
/// Scans for which it stays at least.
const STAYS: usize = 10;
/// Samples since a stretch began, beyond the factors, before its noise is known well enough to tell anything.
const FEWEST_SAMPLES: f64 = 30.0;
/// What an MV may be found to do, in terms of what the model says.
const REACH: [f64; 2] = [0.1, 10.0];

/// Learns how strongly each MV acts, from moves that it makes beside those that are planned: its model keeps its shape, and the effect of each
/// MV in it is multiplied by what is found.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Learning {
    /// For how long all MVs are moved at random, s, from the beginning; within their limits, beside what is planned.
    #[schema(exclusive_minimum = 0, maximum = 10000000)]
    pub lasts: f64,
    /// How far to either side, %.
    #[schema(exclusive_minimum = 0, maximum = 50)]
    pub amplitude: f64,
    /// Shortest time between two moves of an MV, s.
    #[schema(exclusive_minimum = 0)]
    pub clock: f64,
    /// After how long it begins anew, s, counted from beginning to beginning; null for never. What was learnt is planned with until something
    /// else is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(exclusive_minimum = 0, maximum = 10000000)]
    pub again_after: Option<f64>,
    /// Seed of the moves.
    #[serde(default, skip_serializing_if = "is_none")]
    pub seed: u64,
}

// The signature is the one that serde asks for.
#[allow(clippy::trivially_copy_pass_by_ref)]
fn is_none(seed: &u64) -> bool {
    *seed == 0
}

impl Learning {
    /// Refuses what cannot be, naming the field.
    pub(super) fn validate(&self) -> Result<()> {
        check::positive("controller.learns.lasts", self.lasts, "s")?;
        check::within("controller.learns.lasts", self.lasts, 0.0, 1e7, "s")?;
        check::positive("controller.learns.amplitude", self.amplitude, "%")?;
        check::within("controller.learns.amplitude", self.amplitude, 0.0, 50.0, "%")?;
        check::positive("controller.learns.clock", self.clock, "s")?;
        self.again_after.map_or(Ok(()), |after| {
            check::within("controller.learns.again_after", after, self.lasts, 1e7, "s").map(drop)
        })
    }
}

/// What is known of how strongly an MV acts.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct LearntGain {
    /// How many times as strongly as the model says, as its moves tell; null as long as they tell nothing.
    pub factor: Option<f64>,
    /// Standard error of that.
    pub standard_error: Option<f64>,
    /// The factor that is planned with.
    pub planned_with: f64,
}

/// One observer, taken apart: what one expects that is told of no MV, and what one does that is told of nothing but one of them.
#[derive(Debug, Clone)]
struct Parts {
    without: Observer,
    through: Vec<Observer>,
    input: DVector<f64>,
    nothing: Vec<f64>,
}

impl Parts {
    fn new(observer: &Observer, mvs: usize) -> Self {
        Self {
            without: observer.clone(),
            through: vec![observer.clone(); mvs],
            input: DVector::zeros(observer.model.inputs()),
            nothing: vec![0.0; observer.model.outputs()],
        }
    }

    fn rest(&mut self) {
        self.without.rest();
        self.through.iter_mut().for_each(Observer::rest);
    }

    /// Carried to the next scan, in which these inputs stood: the MVs first.
    fn advance(&mut self, inputs: &DVector<f64>) {
        let mvs = self.through.len();
        self.input.copy_from(inputs);
        self.input.rows_mut(0, mvs).fill(0.0);
        self.without.advance(&self.input);
        for (mv, through) in self.through.iter_mut().enumerate() {
            self.input.fill(0.0);
            self.input[mv] = inputs[mv];
            through.advance(&self.input);
        }
    }

    /// Corrected by what is measured, which is nothing of an MV alone; what is no number corrects nothing.
    fn correct(&mut self, measured: &[f64]) {
        for (nothing, measured) in self.nothing.iter_mut().zip(measured) {
            *nothing = if measured.is_finite() { 0.0 } else { f64::NAN };
        }
        self.without.correct(measured);
        self.through.iter_mut().for_each(|through| through.correct(&self.nothing));
    }

    /// Those that are told of an MV each, and then the one that is told of none.
    fn all(&self) -> impl Iterator<Item = &Observer> {
        self.through.iter().chain([&self.without])
    }

    /// The whole again, as if the MVs had acted so many times as strongly from the beginning.
    fn together(&self, factors: &[f64]) -> Observer {
        let mut whole = self.without.acting(factors);
        let own = whole.model.own();
        let inputs = whole.x.len() - own;
        for (through, factor) in self.through.iter().zip(factors) {
            whole.x.rows_mut(0, own).axpy(*factor, &through.x.rows(0, own), 1.0);
            // What is remembered of inputs is what they were.
            whole.x.rows_mut(own, inputs).axpy(1.0, &through.x.rows(own, inputs), 1.0);
            whole.d.axpy(*factor, &through.d, 1.0);
        }
        whole
    }
}

/// Sums over the samples since a stretch of moves began: all that is needed of them.
#[derive(Debug, Clone)]
struct Sums {
    /// Σ ζ ψᵀ, Σ ζ ε₀, Σ ζ ζᵀ.
    moved: DMatrix<f64>,
    told: DVector<f64>,
    moves: DMatrix<f64>,
    /// Σ ψ ψᵀ, Σ ψ ε₀, Σ ε₀².
    acted: DMatrix<f64>,
    seen: DVector<f64>,
    unexpected: f64,
    count: f64,
}

impl Sums {
    fn new(mvs: usize) -> Self {
        let (square, row) = (DMatrix::zeros(mvs, mvs), DVector::zeros(mvs));
        Self {
            moved: square.clone(),
            told: row.clone(),
            moves: square.clone(),
            acted: square,
            seen: row,
            unexpected: 0.0,
            count: 0.0,
        }
    }

    fn add(&mut self, instruments: &DVector<f64>, by_mv: &DVector<f64>, unexpected: f64) {
        self.moved.ger(1.0, instruments, by_mv, 1.0);
        self.moves.ger(1.0, instruments, instruments, 1.0);
        self.acted.ger(1.0, by_mv, by_mv, 1.0);
        self.told.axpy(unexpected, instruments, 1.0);
        self.seen.axpy(unexpected, by_mv, 1.0);
        self.unexpected += unexpected * unexpected;
        self.count += 1.0;
    }

    /// The factors with their standard errors, for white noise; None as long as the moves do not tell them apart.
    fn found(&self) -> Option<Vec<(f64, f64)>> {
        let mvs = self.told.len();
        let spare = self.count - mvs as f64;
        if spare < FEWEST_SAMPLES {
            return None;
        }
        let inverse = self.moved.clone().try_inverse()?;
        let factors = &inverse * &self.told;
        let left = self.unexpected - 2.0 * factors.dot(&self.seen) + factors.dot(&(&self.acted * &factors));
        let variance = (left / spare).max(LEAST_NOISE * LEAST_NOISE);
        let covariance = &inverse * &self.moves * inverse.transpose() * variance;
        let found: Vec<(f64, f64)> = (0..mvs).map(|mv| (factors[mv], covariance[(mv, mv)].sqrt())).collect();
        found.iter().all(|(factor, error)| factor.is_finite() && error.is_finite()).then_some(found)
    }
}

/// What learns.
#[derive(Debug, Clone)]
pub(super) struct Learner {
    parts: Parts,
    /// Told of the moves that are made to learn, as they were meant, and of nothing that is measured.
    meant: Parts,
    /// What these moves bring about by the model, as they were made.
    brought: Parts,
    sums: Sums,
    found: Option<Vec<(f64, f64)>>,
    in_use: Vec<f64>,
    since: usize,
    /// Scans that have passed since a stretch began, that it takes, and after which the next one begins.
    passed: usize,
    lasts: usize,
    again_after: usize,
    clock: usize,
    amplitude: f64,
    /// By how much each MV is to be moved now beside the plan, and is.
    wanted: DVector<f64>,
    beside: DVector<f64>,
    chooser: Noise,
    /// Room: what is expected through each MV, of its moves alone, and without any.
    expected: Vec<DVector<f64>>,
    of_moves: Vec<DVector<f64>>,
}

impl Learner {
    /// For an observer of the model as it was given, with so many MVs among its inputs.
    pub fn new(settings: &Learning, observer: &Observer, mvs: usize) -> Self {
        let (outputs, scan) = (observer.model.outputs(), observer.model.scan());
        let scans = |time: f64| (time / scan).round().max(1.0) as usize;
        Self {
            parts: Parts::new(observer, mvs),
            meant: Parts::new(observer, mvs),
            brought: Parts::new(observer, mvs),
            sums: Sums::new(mvs),
            found: None,
            in_use: vec![1.0; mvs],
            since: 0,
            passed: 0,
            lasts: scans(settings.lasts),
            again_after: settings.again_after.map_or(usize::MAX, scans),
            clock: scans(settings.clock),
            amplitude: settings.amplitude,
            wanted: DVector::zeros(observer.model.inputs()),
            beside: DVector::zeros(observer.model.inputs()),
            chooser: Noise::new("predictive learning", settings.seed),
            expected: vec![DVector::zeros(outputs); mvs + 1],
            of_moves: vec![DVector::zeros(outputs); mvs],
        }
    }

    /// Rests as the observer does.
    pub fn rest(&mut self) {
        self.parts.rest();
        self.meant.rest();
        self.brought.rest();
    }

    /// Carried to the next scan, in which these inputs stood: the MVs first.
    pub fn advance(&mut self, inputs: &DVector<f64>) {
        self.parts.advance(inputs);
        self.meant.advance(&self.wanted);
        self.brought.advance(&self.beside);
    }

    /// Learns from what is measured, in % of span from where the loop rested at first; what is no number teaches nothing.
    pub fn correct(&mut self, measured: &[f64]) {
        let mvs = self.in_use.len();
        if self.passed <= self.lasts {
            for (observer, expected) in self.parts.all().zip(&mut self.expected) {
                observer.outputs(expected);
            }
            for (observer, expected) in self.meant.through.iter().zip(&mut self.of_moves) {
                observer.outputs(expected);
            }
            for (output, measured) in measured.iter().enumerate().filter(|(_, measured)| measured.is_finite()) {
                let of = |all: &[DVector<f64>]| DVector::from_fn(mvs, |mv, _| all[mv][output]);
                let unexpected = measured - self.expected[mvs][output];
                self.sums.add(&of(&self.of_moves), &of(&self.expected), unexpected);
            }
            self.found = self.sums.found().or_else(|| self.found.take());
        }
        self.parts.correct(measured);
        self.meant.correct(measured);
        self.since += 1;
    }

    /// What is known of an MV.
    pub fn known(&self, mv: usize) -> LearntGain {
        let found = self.found.as_ref().map(|found| found[mv]);
        LearntGain {
            factor: found.map(|found| found.0),
            standard_error: found.map(|found| found.1),
            planned_with: self.in_use[mv],
        }
    }

    /// The factors to plan with from now on, where others are told than those in use, and the observer for them: it believes what it would
    /// had the MVs acted like that from the beginning.
    pub fn renewed(&self) -> Option<(Vec<f64>, Observer)> {
        if self.since < STAYS {
            return None;
        }
        let told = |(in_use, (factor, error)): (&f64, &(f64, f64))| {
            let is_other = (factor - in_use).abs() > (WORTH_IT * in_use).max(ERRORS * error);
            if *error <= TOLD * factor.abs() && is_other { factor.clamp(REACH[0], REACH[1]) } else { *in_use }
        };
        let told: Vec<f64> = self.in_use.iter().zip(self.found.as_ref()?).map(told).collect();
        if told == self.in_use {
            return None;
        }
        // Of the plan, which takes no notice of what is moved beside it.
        let mut observer = self.parts.together(&told);
        observer.x -= &self.brought.together(&told).x;
        Some((told, observer))
    }

    /// Notes which factors are planned with from now on.
    pub fn takes_up(&mut self, factors: Vec<f64>) {
        (self.in_use, self.since) = (factors, 0);
    }

    /// By how much each MV stands beside what was planned, %; measured disturbances come behind them.
    pub fn beside(&self) -> &[f64] {
        &self.beside.as_slice()[..self.in_use.len()]
    }

    /// What that brings about, in % of span, by the model that is planned with.
    pub fn brought_about(&self) -> DVector<f64> {
        let mut all = DVector::zeros(self.brought.without.model.outputs());
        let mut one = all.clone();
        for (through, factor) in self.brought.through.iter().zip(&self.in_use) {
            through.outputs(&mut one);
            all.axpy(*factor, &one, 1.0);
        }
        all
    }

    /// By how much an MV is to be moved beside what is planned, %.
    pub fn moves_by(&mut self, mv: usize) -> f64 {
        // One after the other, so that they are told apart.
        let turn = self.passed + self.clock - mv * self.clock / self.in_use.len();
        if self.passed >= self.lasts {
            self.wanted[mv] = 0.0;
        } else if turn.is_multiple_of(self.clock) {
            self.wanted[mv] = if self.chooser.uniform() < 0.5 { self.amplitude } else { -self.amplitude };
        }
        self.wanted[mv]
    }

    /// Notes by how much it is, as limits and hands allow.
    pub fn is_moved_by(&mut self, mv: usize, by: f64) {
        self.beside[mv] = by;
    }

    /// A scan is over.
    pub fn pass(&mut self) {
        self.passed += 1;
        if self.passed >= self.again_after {
            (self.passed, self.sums) = (0, Sums::new(self.in_use.len()));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::controller::predictive::PredictiveSettings;
    use crate::lti::Discrete;
    use proptest::prelude::*;

    /// Two CVs by two MVs with dead times and a measured disturbance, disturbed at an output and at an MV.
    fn observer() -> Observer {
        let named = |name: &str| serde_json::json!({ "name": name, "unit": "%", "value": 50.0 });
        let element = |output: &str, input: &str, gain: f64, lag: f64, dead_time: f64| serde_json::json!({ "output": output, "input": input, "numerator": [gain], "denominator": [lag, 1.0], "dead_time": dead_time });
        let mv = |k: usize| serde_json::json!({ "tag": format!("U{k}"), "input": format!("u{k}"), "usual_move": 1.0 });
        let settings: PredictiveSettings = serde_json::from_value(serde_json::json!({
            "model": {
                "structure": "transfer_functions",
                "inputs": [named("u1"), named("u2"), named("v")], "outputs": [named("y1"), named("y2")],
                "elements": [
                    element("y1", "u1", 1.3, 12.0, 3.4), element("y1", "u2", -0.4, 20.0, 0.0), element("y2", "u2", 0.9, 9.0, 5.0),
                    element("y2", "v", 0.5, 15.0, 2.0),
                ],
            },
            "cvs": [{ "tag": "Y1", "output": "y1" }, { "tag": "Y2", "output": "y2", "disturbance": { "input": "u2" } }],
            "mvs": [mv(1), mv(2)], "dvs": [{ "signal": "load", "input": "v" }], "horizon": 60.0, "moves": [1, 2, 4],
        }))
        .unwrap();
        let model = Discrete::of(&settings.matrix([100.0, 100.0].into_iter()).unwrap(), 1.0).unwrap();
        Observer::new(&settings, model).unwrap()
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(32))]

        /// Put together again with any factors, the parts believe what an observer believes that had these factors from the beginning.
        #[test]
        fn the_parts_are_together_what_the_whole_would_be(
            factors in proptest::array::uniform2(0.1f64..5.0),
            courses in proptest::collection::vec(proptest::array::uniform5(-8f64..8.0), 5..60),
        ) {
            let whole = observer();
            let (mut parts, mut scaled) = (Parts::new(&whole, 2), whole.acting(&factors));
            for [u1, u2, v, y1, y2] in courses {
                let inputs = DVector::from_vec(vec![u1, u2, v]);
                // Now and then a transmitter fails.
                let measured = [y1, if y2 > 6.0 { f64::NAN } else { y2 }];
                parts.advance(&inputs);
                parts.correct(&measured);
                scaled.advance(&inputs);
                scaled.correct(&measured);
            }
            let together = parts.together(&factors);
            prop_assert!((&together.x - &scaled.x).amax() < 1e-9 && (&together.d - &scaled.d).amax() < 1e-9);
            prop_assert_eq!(together.model.matrices(), scaled.model.matrices());
        }

        /// Factors are those of the normal equations of the instruments, whatever was seen; with what acted for an instrument, those of least
        /// squares. Of too few samples nothing is said.
        #[test]
        fn sums_hold_all_that_is_needed(
            samples in proptest::collection::vec(proptest::array::uniform3(-2f64..2.0), 20..60),
        ) {
            let mut sums = Sums::new(2);
            let (mut by_mv, mut told) = (DMatrix::zeros(samples.len(), 2), DVector::zeros(samples.len()));
            for (k, [a, b, noise]) in samples.iter().enumerate() {
                let own = DVector::from_vec(vec![*a, *b]);
                let unexpected = 0.7 * a + 1.6 * b + 0.1 * noise;
                sums.add(&own, &own, unexpected);
                by_mv.set_row(k, &own.transpose());
                told[k] = unexpected;
            }
            if samples.len() < 32 {
                prop_assert!(sums.found().is_none());
                return Ok(());
            }
            let least = by_mv.clone().svd(true, true).solve(&told, 1e-12).unwrap();
            let left = (&told - &by_mv * &least).norm_squared() / (samples.len() as f64 - 2.0);
            let inverse = (by_mv.transpose() * &by_mv).try_inverse().unwrap();
            for (k, (factor, error)) in sums.found().unwrap().into_iter().enumerate() {
                prop_assert!((factor - least[k]).abs() < 1e-9);
                prop_assert!((error / (left.max(1e-4) * inverse[(k, k)]).sqrt() - 1.0).abs() < 1e-6);
            }
        }
    }
}
