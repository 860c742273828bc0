//! What was new at each sample, and whether that is what the estimator had to expect.

use crate::numerics::NORMAL_95;
use crate::verdict::{Tone, Verdict, readable, readable_duration};
use serde::{Deserialize, Serialize};
use statrs::distribution::{ChiSquared, ContinuousCDF};
use utoipa::ToSchema;

/// Samples that are judged together where a stretch is doubted.
const BLOCK: usize = 25;
/// Probability of a false doubt about a whole record.
const FALSE_DOUBT: f64 = 0.01;
/// Correlation of neighbouring innovations above which something slow is left.
const CORRELATED: f64 = 0.3;
/// How many times the variance that was expected the innovations may have before bands are called too narrow, and its inverse.
const APART: f64 = 1.5;

/// Innovations of every output, sample by sample.
#[derive(Debug, Clone, Default)]
pub struct Innovations {
    /// Measured less expected; NaN where missing.
    pub new: Vec<Vec<f64>>,
    /// The deviation that was expected of it, NaN where missing. Outputs of one sample are taken one after the other: each after what
    /// the ones before it have told.
    pub deviation: Vec<Vec<f64>>,
    /// In units of what was expected: white with variance 1 where model and noise are right.
    white: Vec<Vec<f64>>,
}

/// Whether what came was what had to be expected.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct InnovationTest {
    /// Samples that were judged.
    pub samples: usize,
    /// Share of the innovations within the band that 95 % should keep.
    pub share_within: f64,
    /// Mean of their squares in units of the variance that was expected: 1 where model and noise are right (Bar-Shalom, Li &
    /// Kirubarajan, Estimation with Applications, 2001, section 5.4).
    pub ratio: f64,
    /// Correlation of neighbouring ones: 0 where nothing slow is left.
    pub correlation: f64,
    /// Stretches in which the estimates should not be believed.
    pub doubts: Vec<Doubt>,
}

/// A stretch in which what came was not what had to be expected.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Doubt {
    /// Its beginning in s from the start of the data.
    pub from: f64,
    /// Its end.
    pub to: f64,
    /// Mean square of the innovations there in units of the variance that was expected.
    pub ratio: f64,
}

impl Innovations {
    /// Of so many outputs.
    #[must_use]
    pub fn new(outputs: usize) -> Self {
        Self { new: vec![Vec::new(); outputs], deviation: vec![Vec::new(); outputs], white: vec![Vec::new(); outputs] }
    }

    /// A sample of an output: what was new, what of it the outputs before had not told, and the variance of that.
    pub fn add(&mut self, output: usize, new: f64, beyond: f64, variance: f64) {
        let deviation = variance.sqrt();
        self.new[output].push(new);
        self.deviation[output].push(deviation);
        self.white[output].push(beyond / deviation);
    }

    /// A sample that is missing.
    pub fn missing(&mut self, output: usize) {
        for list in [&mut self.new, &mut self.deviation, &mut self.white] {
            list[output].push(f64::NAN);
        }
    }

    /// The test; the first `settling` samples, in which an estimator finds its way, are left out.
    #[must_use]
    pub fn test(&self, times: &[f64], settling: usize) -> InnovationTest {
        let mut judged: Vec<(usize, f64)> = self
            .white
            .iter()
            .flat_map(|list| list.iter().copied().enumerate().skip(settling))
            .filter(|(_, value)| value.is_finite())
            .collect();
        judged.sort_by_key(|(at, _)| *at);
        let count = judged.len().max(1) as f64;
        let within = judged.iter().filter(|(_, value)| value.abs() <= NORMAL_95).count();
        let correlations: Vec<f64> =
            self.white.iter().map(|list| neighbours(list.get(settling..).unwrap_or_default())).collect();
        let correlation = correlations.into_iter().max_by(|a, b| a.abs().total_cmp(&b.abs())).unwrap_or(0.0);
        InnovationTest {
            samples: judged.len(),
            share_within: within as f64 / count,
            ratio: judged.iter().map(|(_, value)| value * value).sum::<f64>() / count,
            correlation,
            doubts: doubts(&judged, times),
        }
    }
}

/// Correlation of neighbours among numbers whose mean should be 0.
fn neighbours(values: &[f64]) -> f64 {
    let squares: f64 = values.iter().filter(|v| v.is_finite()).map(|v| v * v).sum();
    let products: f64 = values.windows(2).map(|pair| pair[0] * pair[1]).filter(|product| product.is_finite()).sum();
    if squares > 0.0 { products / squares } else { 0.0 }
}

/// Blocks whose squares are larger than noise makes them in one of a hundred records, those that touch taken together.
fn doubts(judged: &[(usize, f64)], times: &[f64]) -> Vec<Doubt> {
    let blocks: Vec<&[(usize, f64)]> = judged.chunks(BLOCK).filter(|block| block.len() == BLOCK).collect();
    let Ok(distribution) = ChiSquared::new(BLOCK as f64) else { return Vec::new() };
    let limit = distribution.inverse_cdf(1.0 - FALSE_DOUBT / blocks.len().max(1) as f64);
    // First and last block of each run, and the squares in it.
    let mut runs: Vec<(usize, usize, f64)> = Vec::new();
    for (at, block) in blocks.iter().enumerate() {
        let squares: f64 = block.iter().map(|(_, value)| value * value).sum();
        if squares <= limit {
            continue;
        }
        match runs.last_mut() {
            Some((_, last, sum)) if *last + 1 == at => (*last, *sum) = (at, *sum + squares),
            _ => runs.push((at, at, squares)),
        }
    }
    let doubt = |(first, last, squares): (usize, usize, f64)| Doubt {
        from: times[blocks[first][0].0],
        to: times[blocks[last][BLOCK - 1].0],
        ratio: squares / ((last + 1 - first) * BLOCK) as f64,
    };
    runs.into_iter().map(doubt).collect()
}

impl InnovationTest {
    /// What it means.
    #[must_use]
    pub fn verdicts(&self) -> Vec<Verdict> {
        let rule = "innovations in units of what was expected of them: white, with variance 1, where model and noise are right";
        let mut verdicts = Vec::new();
        if self.samples < 2 * BLOCK {
            let text = format!("{} samples do not tell whether the estimates can be believed.", self.samples);
            return vec![Verdict::new(Tone::Caution, text, rule)];
        }
        for doubt in self.doubts.iter().take(3) {
            let text = format!(
                "Not to be believed from {} to {}: measured and expected part by {} times what noise would make of it.",
                readable_duration(doubt.from),
                readable_duration(doubt.to),
                readable(doubt.ratio.sqrt()),
            );
            verdicts.push(Verdict::new(Tone::Bad, text, rule));
        }
        if self.doubts.len() > 3 {
            let text = format!("{} further stretches are not to be believed.", self.doubts.len() - 3);
            verdicts.push(Verdict::new(Tone::Bad, text, rule));
        }
        if self.correlation > CORRELATED {
            let text = format!(
                "Neighbouring innovations go together (correlation {}): something slow is left that the estimator does not know. Let \
                 another number drift, or let what drifts do so faster; until then the bands are too narrow.",
                readable(self.correlation)
            );
            verdicts.push(Verdict::new(Tone::Caution, text, rule));
        }
        if verdicts.is_empty() {
            if self.ratio > APART {
                let text = format!(
                    "What comes is {} times as far from what was expected as the noise allows: more noise, or faster drift, would be honest.",
                    readable(self.ratio.sqrt())
                );
                verdicts.push(Verdict::new(Tone::Caution, text, rule));
            } else if self.ratio < APART.recip() {
                let text = format!(
                    "What comes is nearer to what was expected than the noise should let it ({} times): the noise is put in too large, so that \
                     the bands are too wide and the estimates slow.",
                    readable(self.ratio.sqrt())
                );
                verdicts.push(Verdict::new(Tone::Caution, text, rule));
            } else {
                let text = format!(
                    "What comes is what was expected: {} % of the innovations lie within their 95 % band.",
                    readable(100.0 * self.share_within)
                );
                verdicts.push(Verdict::new(Tone::Good, text, rule));
            }
        }
        verdicts
    }
}
