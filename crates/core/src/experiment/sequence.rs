//! The sequences that an OP can be moved by.

use super::ExperimentSpec;
use crate::{Error, Result, check};
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Share of the time that the OP rests before the first move.
const REST: f64 = 0.05;

/// The kind of signal. All begin with a stretch of rest.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "kind", rename_all = "snake_case", deny_unknown_fields)]
pub enum SignalKind {
    /// One step up.
    Step,
    /// Up, down, and back to rest: drift and response are told apart, and the PV comes back.
    Doublet {
        /// Length of each half in s; null for a third of the time.
        #[serde(default)]
        width: Option<f64>,
    },
    /// Steps up to the amplitude and down again: shows whether the gain is the same everywhere.
    Staircase {
        /// Steps on the way up, 1 to 20.
        levels: usize,
    },
    /// Pseudo-random binary sequence of a shift register of maximum length.
    Prbs {
        /// Shortest time between moves in s; null for a quarter of the time constant (a clock of τ/3 to τ/5 is common
        /// practice).
        #[serde(default)]
        clock: Option<f64>,
    },
    /// Generalised binary noise (Tulleken, Automatica 26, 1990): a switch with the same probability at every sample.
    GeneralisedBinaryNoise {
        /// Mean time between switches in s; null for a third of the settling time.
        #[serde(default)]
        mean_switching_time: Option<f64>,
    },
    /// Sines at frequencies spaced evenly in their logarithm around the corner frequency, with phases that are sought so that
    /// the peak is low, beginning with Schroeder's (IEEE Trans. Information Theory 16, 1970).
    Multisine {
        /// Number of sines, 2 to 100.
        lines: usize,
    },
}

impl SignalKind {
    pub(super) fn validate(&self, spec: &ExperimentSpec) -> Result<()> {
        let time = |field: &str, value: &Option<f64>| match value {
            Some(value) => check::within(field, *value, spec.sample_time, 0.5 * spec.duration, "s").map(drop),
            None => Ok(()),
        };
        let count = |field: &str, value: usize, low: usize, high: usize| {
            if (low..=high).contains(&value) {
                Ok(())
            } else {
                Err(Error::invalid(field, value, format!("{low} to {high}")))
            }
        };
        match self {
            Self::Step => Ok(()),
            Self::Doublet { width } => time("signal.width", width),
            Self::Staircase { levels } => count("signal.levels", *levels, 1, 20),
            Self::Prbs { clock } => time("signal.clock", clock),
            Self::GeneralisedBinaryNoise { mean_switching_time } => {
                time("signal.mean_switching_time", mean_switching_time)
            }
            Self::Multisine { lines } => count("signal.lines", *lines, 2, 100),
        }
    }

    /// The sequence with amplitude 1, a value a sample.
    pub(super) fn sequence(&self, spec: &ExperimentSpec) -> Result<Vec<f64>> {
        let samples = spec.samples();
        let rest = ((REST * samples as f64).ceil() as usize).max(3);
        let moving = samples - rest;
        let in_samples = |seconds: f64| ((seconds / spec.sample_time).round() as usize).max(1);
        let lag = spec.process.time_scale() - spec.process.dead_time();
        let time_constant = if lag > 0.0 { lag } else { spec.settling() / 4.0 };
        let mut sequence = vec![0.0; samples];
        let after_rest = &mut sequence[rest..];
        match self {
            Self::Step => after_rest.fill(1.0),
            Self::Doublet { width } => {
                let width = width.map_or(moving / 3, in_samples).clamp(1, moving / 2);
                after_rest[..width].fill(1.0);
                after_rest[width..2 * width].fill(-1.0);
            }
            Self::Staircase { levels } => {
                let stretches = 2 * levels;
                for (k, value) in after_rest.iter_mut().enumerate() {
                    let stretch = k * stretches / moving + 1;
                    let level = if stretch <= *levels { stretch } else { stretches - stretch };
                    *value = level as f64 / *levels as f64;
                }
            }
            Self::Prbs { clock } => {
                let hold = in_samples(clock.unwrap_or(0.25 * time_constant));
                let mut register = Register::for_length(moving / hold, spec.seed);
                for chunk in after_rest.chunks_mut(hold) {
                    chunk.fill(register.next());
                }
            }
            Self::GeneralisedBinaryNoise { mean_switching_time } => {
                let mean = in_samples(mean_switching_time.unwrap_or(spec.settling() / 3.0)) as f64;
                let mut generator = ChaCha8Rng::seed_from_u64(spec.seed);
                let mut level = 1.0;
                for value in after_rest {
                    *value = level;
                    if generator.random::<f64>() < 1.0 / mean {
                        level = -level;
                    }
                }
            }
            Self::Multisine { lines } => {
                let period = moving as f64 * spec.sample_time;
                let corner = 1.0 / time_constant;
                let base = 2.0 * std::f64::consts::PI / period;
                let highest = (10.0 * corner).min(0.5 * std::f64::consts::PI / spec.sample_time);
                let lowest = (0.1 * corner).max(base).min(0.5 * highest);
                // Whole numbers of periods, each once: where two lines fall together, the later one moves up.
                let mut harmonics: Vec<usize> = Vec::with_capacity(*lines);
                for k in 0..*lines {
                    let omega = lowest * (highest / lowest).powf(k as f64 / (*lines - 1) as f64);
                    let next = harmonics.last().map_or(1, |last| last + 1);
                    harmonics.push(((omega / base).round() as usize).max(next));
                }
                if let Some(beyond) = harmonics.last().filter(|last| 2 * **last >= moving) {
                    return Err(Error::said(
                        "signal.lines",
                        format!(
                            "{lines} sines need {beyond} periods of the time of the test, which its {moving} samples do not show: \
                             ask for fewer, or test longer."
                        ),
                    ));
                }
                let phases = phases_of_low_peak(&harmonics, spec.seed);
                for (k, value) in after_rest.iter_mut().enumerate() {
                    let turn = 2.0 * std::f64::consts::PI * k as f64 / moving as f64;
                    *value = harmonics
                        .iter()
                        .zip(&phases)
                        .map(|(harmonic, phase)| (*harmonic as f64 * turn + phase).cos())
                        .sum();
                }
                let peak = after_rest.iter().map(|value| value.abs()).fold(f64::MIN_POSITIVE, f64::max);
                after_rest.iter_mut().for_each(|value| *value /= peak);
            }
        }
        Ok(sequence)
    }
}

/// Phases for which the sum of sines peaks low: from Schroeder's, which are made for lines that lie evenly, and from random
/// ones, each is turned to where the peak is lowest, line after line, until none helps (in the spirit of Van der Ouderaa,
/// Schoukens & Renneboog, IEEE Trans. Instrumentation and Measurement 37, 1988).
fn phases_of_low_peak(harmonics: &[usize], seed: u64) -> Vec<f64> {
    const STARTS: usize = 6;
    const PASSES: usize = 6;
    const TURNS: usize = 16;
    const FULL: f64 = std::f64::consts::TAU;
    let points = (16 * harmonics.last().copied().unwrap_or(1)).clamp(256, 4096);
    let line = |harmonic: usize, phase: f64| {
        (0..points).map(move |k| ((harmonic * k % points) as f64 * FULL / points as f64 + phase).cos())
    };
    let mut generator = ChaCha8Rng::seed_from_u64(seed);
    let mut best: (f64, Vec<f64>) = (f64::INFINITY, Vec::new());
    for start in 0..STARTS {
        let count = harmonics.len() as f64;
        let schroeder = |j: usize| -std::f64::consts::PI * (j * (j + 1)) as f64 / count;
        let mut phases: Vec<f64> = (0..harmonics.len())
            .map(|j| if start == 0 { schroeder(j) } else { FULL * generator.random::<f64>() })
            .collect();
        let mut sum = vec![0.0; points];
        for (harmonic, phase) in harmonics.iter().zip(&phases) {
            sum.iter_mut().zip(line(*harmonic, *phase)).for_each(|(sum, value)| *sum += value);
        }
        let peak_of = |values: &[f64]| values.iter().map(|value| value.abs()).fold(0.0, f64::max);
        let mut peak = peak_of(&sum);
        for _ in 0..PASSES {
            let before = peak;
            for (harmonic, phase) in harmonics.iter().zip(&mut phases) {
                let others: Vec<f64> = sum.iter().zip(line(*harmonic, *phase)).map(|(sum, own)| sum - own).collect();
                for turn in 0..TURNS {
                    let other = FULL * turn as f64 / TURNS as f64;
                    let there: Vec<f64> =
                        others.iter().zip(line(*harmonic, other)).map(|(others, own)| others + own).collect();
                    let lower = peak_of(&there);
                    if lower < peak {
                        (peak, *phase) = (lower, other);
                        sum = there;
                    }
                }
            }
            if peak > 0.995 * before {
                break;
            }
        }
        if peak < best.0 {
            best = (peak, phases);
        }
    }
    best.1
}

/// A shift register with feedback that runs through all states but 0.
struct Register {
    state: u32,
    taps: [u32; 2],
    length: u32,
}

impl Register {
    /// Primitive trinomials `x^n + x^m + 1` (Golomb, Shift Register Sequences, 1967; each is checked by a test).
    const TAPS: [[u32; 2]; 9] = [[3, 2], [4, 3], [5, 3], [6, 5], [7, 6], [9, 5], [10, 7], [11, 9], [15, 14]];

    /// The longest one whose period is no longer than `clocks`; started by the seed.
    fn for_length(clocks: usize, seed: u64) -> Self {
        let fits = |taps: &&[u32; 2]| (1usize << taps[0]) - 1 <= clocks.max(7);
        let taps = *Self::TAPS.iter().rev().find(fits).unwrap_or(&Self::TAPS[0]);
        let states = (1u64 << taps[0]) - 1;
        Self { state: (1 + seed % states) as u32, taps, length: taps[0] }
    }

    fn next(&mut self) -> f64 {
        let bit = self.taps.iter().fold(0, |bit, tap| bit ^ (self.state >> (tap - 1)));
        self.state = ((self.state << 1) | (bit & 1)) & ((1 << self.length) - 1);
        if self.state & 1 == 1 { 1.0 } else { -1.0 }
    }
}

/// The sequence with moves of at most `largest` a sample.
pub(super) fn limited(wanted: &[f64], start: f64, largest: Option<f64>) -> Vec<f64> {
    let Some(largest) = largest else { return wanted.to_vec() };
    let mut now = start;
    let follow = |value: &f64| {
        now += (value - now).clamp(-largest, largest);
        now
    };
    wanted.iter().map(follow).collect()
}

#[cfg(test)]
mod tests {
    use super::super::tests::spec;
    use super::*;

    #[test]
    fn every_register_runs_through_all_its_states() {
        for taps in Register::TAPS {
            let mut register = Register { state: 1, taps, length: taps[0] };
            let period = (1..1u32 << 16).find(|_| {
                register.next();
                register.state == 1
            });
            assert_eq!(period, Some((1 << taps[0]) - 1), "{taps:?}");
        }
    }

    #[test]
    fn signals_have_their_properties() {
        let of = |signal: SignalKind| signal.sequence(&spec(signal.clone())).unwrap();
        let doublet = of(SignalKind::Doublet { width: Some(400.0) });
        assert!((doublet.iter().sum::<f64>()).abs() < 1e-12 && *doublet.last().unwrap() == 0.0);
        let stairs = of(SignalKind::Staircase { levels: 4 });
        let mut levels: Vec<i64> = stairs.iter().map(|value| (value * 100.0).round() as i64).collect();
        levels.dedup();
        assert_eq!(levels, [0, 25, 50, 75, 100, 75, 50, 25, 0]);
        // Moves of a PRBS lie on its clock of 16 s (8 samples), a binary noise has about the mean time that was asked
        // for.
        let prbs = of(SignalKind::Prbs { clock: Some(16.0) });
        let rest = prbs.iter().position(|value| *value != 0.0).unwrap();
        let moves: Vec<usize> = (rest + 1..prbs.len()).filter(|k| prbs[*k] != prbs[k - 1]).collect();
        assert!(moves.iter().all(|k| (k - rest).is_multiple_of(8)) && moves.len() > 40);
        let noise = of(SignalKind::GeneralisedBinaryNoise { mean_switching_time: Some(20.0) });
        let switches = noise.windows(2).filter(|pair| pair[0] * pair[1] < 0.0).count();
        assert!((85..=145).contains(&switches), "{switches} in 1140 samples of 2 s");
    }

    fn crest(values: &[f64]) -> f64 {
        let effective = (values.iter().map(|value| value * value).sum::<f64>() / values.len() as f64).sqrt();
        values.iter().map(|value| value.abs()).fold(0.0, f64::max) / effective
    }

    #[test]
    fn a_multisine_peaks_lower_than_any_of_a_hundred_with_random_phases() {
        let mut generator = ChaCha8Rng::seed_from_u64(3);
        for harmonics in [vec![1, 2, 3, 5, 8, 13, 21, 34], vec![2, 3, 5, 7, 10, 15, 22, 32, 47, 69, 100, 147]] {
            let made = |phases: &[f64]| -> Vec<f64> {
                (0..6000)
                    .map(|k| {
                        let turn = std::f64::consts::TAU * f64::from(k) / 6000.0;
                        harmonics.iter().zip(phases).map(|(h, phase)| (*h as f64 * turn + phase).cos()).sum()
                    })
                    .collect()
            };
            let ours = crest(&made(&phases_of_low_peak(&harmonics, 1)));
            let lowest = (0..100)
                .map(|_| {
                    let phases: Vec<f64> =
                        harmonics.iter().map(|_| std::f64::consts::TAU * generator.random::<f64>()).collect();
                    crest(&made(&phases))
                })
                .fold(f64::INFINITY, f64::min);
            assert!(ours < lowest, "{ours} instead of {lowest}");
        }
    }

    #[test]
    fn a_multisine_has_as_many_lines_as_were_asked_for_or_says_why_not() {
        // The power at each whole number of periods of the moving part, by its Fourier sum.
        let made = spec(SignalKind::Multisine { lines: 12 });
        let sines = made.signal.sequence(&made).unwrap();
        let start = sines.iter().position(|value| *value != 0.0).unwrap();
        let moving = &sines[start..];
        let n = moving.len();
        let power = |harmonic: usize| {
            let (mut real, mut imaginary) = (0.0, 0.0);
            for (k, value) in moving.iter().enumerate() {
                let angle = std::f64::consts::TAU * (harmonic * k % n) as f64 / n as f64;
                (real, imaginary) = (real + value * angle.cos(), imaginary + value * angle.sin());
            }
            real.hypot(imaginary) / n as f64
        };
        let powers: Vec<f64> = (1..n / 2).map(power).collect();
        let highest = powers.iter().copied().fold(0.0, f64::max);
        assert_eq!(powers.iter().filter(|power| **power > 0.3 * highest).count(), 12);
        let many = spec(SignalKind::Multisine { lines: 100 });
        if let Err(error) = many.signal.sequence(&many) {
            assert!(error.to_string().contains("ask for fewer"), "{error}");
        }
    }
}
