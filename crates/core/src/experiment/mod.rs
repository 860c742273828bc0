//! Planning an experiment from what is roughly known of the process.

mod judgement;
mod sequence;

pub use sequence::SignalKind;

use crate::controller::ControllerSpec;
use crate::identification::{ExpectedError, Model, expected_errors};
use crate::numerics::rounded;
use crate::process::LinearSpec;
use crate::series::{Channel, Record, Role, TimeAxis};
use crate::simulation::{Candidate, Event, OperatingPoint, Plant, Scenario, TRIAL_VERSION, Trial, Wire, Wired};
use crate::units::Span;
use crate::verdict::Verdict;
use crate::{Error, Result, check};
use rustfft::FftPlanner;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use utoipa::ToSchema;

/// Most samples of a plan.
const MOST_SAMPLES: f64 = 20_000.0;
/// Share of the safe range that an amplitude chosen here fills.
const FILLED: f64 = 0.9;
/// Points of the spectrum.
const SPECTRUM_POINTS: usize = 60;

/// What is known, what is allowed, and the kind of signal.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ExperimentSpec {
    /// The process as it is roughly known.
    pub process: LinearSpec,
    /// By how much its gain may be off, in %; widens the band of the PV.
    #[serde(default = "usual_uncertainty")]
    #[schema(minimum = 0, maximum = 500)]
    pub gain_uncertainty: f64,
    /// Standard deviation of the PV's noise, in its unit; above 0.
    #[schema(exclusive_minimum = 0)]
    pub noise: f64,
    /// Where the process rests.
    pub operating_point: OperatingPoint,
    /// Safe range of the PV, in its unit.
    pub pv_range: [f64; 2],
    /// Range that the OP may use, in %.
    pub op_range: [f64; 2],
    /// How fast the OP may move, in % per s; null for at once.
    #[serde(default)]
    #[schema(exclusive_minimum = 0)]
    pub op_rate: Option<f64>,
    /// Sample time in s, above 0.
    #[schema(exclusive_minimum = 0)]
    pub sample_time: f64,
    /// How long one has, in s; at most 20,000 samples.
    #[schema(exclusive_minimum = 0)]
    pub duration: f64,
    /// Amplitude of the OP about its resting value, in %; null for the largest that the ranges allow.
    #[serde(default)]
    #[schema(minimum = 0.000001, maximum = 100)]
    pub amplitude: Option<f64>,
    /// The signal.
    pub signal: SignalKind,
    /// Seed of random signals.
    #[serde(default)]
    pub seed: u64,
    /// Unit of the PV, for the sentences.
    #[serde(default)]
    pub pv_unit: String,
    /// What nobody has said yet, so that its value is only a proposal.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub proposed: Vec<Proposed>,
}

/// Something of an experiment that begins with a proposal.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Proposed {
    /// What is roughly known of the process.
    Process,
    /// Where PV and OP rest.
    OperatingPoint,
    /// The safe range of the PV.
    PvRange,
    /// The noise.
    Noise,
}

fn usual_uncertainty() -> f64 {
    30.0
}

impl ExperimentSpec {
    /// An experiment to begin with: round numbers out of what is known of the loop. Without a model the process is a
    /// placeholder, and so is where it rests; the safe range of the PV is always a proposal.
    #[must_use]
    pub fn first(pv: &Span, op: &Span, known: Option<&Model>, noise: Option<f64>) -> Self {
        let width = pv.high - pv.low;
        let round = |value: f64| rounded(value, 2);
        let of_model = known.and_then(|model| model.process().and_then(|process| process.half_rule()).ok());
        let noise = noise.filter(|noise| *noise > 0.0);
        let mut proposed = vec![Proposed::PvRange];
        if of_model.is_none() {
            proposed.extend([Proposed::Process, Proposed::OperatingPoint]);
        }
        if noise.is_none() {
            proposed.push(Proposed::Noise);
        }
        let known = known.filter(|_| of_model.is_some());
        let (process, settling) = match of_model.map(|found| found.process) {
            Some(LinearSpec::Integrating { gain, dead_time }) => {
                let dead_time = round(dead_time);
                (LinearSpec::Integrating { gain: round(gain), dead_time }, 5.0 * dead_time.max(1.0))
            }
            found => {
                let [gain, lag, late] = match found {
                    Some(LinearSpec::Fopdt { gain, time_constant, dead_time }) => [gain, time_constant, dead_time],
                    _ => [width / 100.0, 60.0, 15.0],
                };
                let (time_constant, dead_time) = (round(lag), round(late));
                let settling = dead_time + 4.0 * time_constant;
                (LinearSpec::Fopdt { gain: round(gain), time_constant, dead_time }, settling)
            }
        };
        let rest = OperatingPoint {
            pv: rounded(known.map_or(pv.low + 0.5 * width, |model| model.operating.pv), 3),
            states: None,
            op: known.map_or(0.5 * (op.low + op.high), |model| model.operating.op).round(),
        };
        Self {
            process,
            gain_uncertainty: usual_uncertainty(),
            noise: round(noise.unwrap_or(0.001 * width)),
            pv_range: [round(rest.pv - 0.05 * width), round(rest.pv + 0.05 * width)],
            op_range: [(rest.op - 25.0).max(0.0), (rest.op + 25.0).min(100.0)],
            operating_point: rest,
            op_rate: None,
            sample_time: round((settling / 150.0).max(0.1)),
            duration: round(10.0 * settling),
            amplitude: None,
            signal: SignalKind::Doublet { width: None },
            seed: 1,
            pv_unit: pv.unit.clone(),
            proposed,
        }
    }
}

/// A planned experiment.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ExperimentPlan {
    /// Amplitude of the OP in %.
    pub amplitude: f64,
    /// Times in s.
    pub times: Vec<f64>,
    /// OP in %, held until the next time.
    pub op: Vec<f64>,
    /// Expected PV, in its unit.
    pub pv: Vec<f64>,
    /// Half width of the band of the PV: the uncertain gain and twice the noise.
    pub pv_half_width: Vec<f64>,
    /// Angular frequencies of the spectrum in rad/s.
    pub spectrum_omegas: Vec<f64>,
    /// Share of the OP's power about each frequency, in %.
    pub spectrum: Vec<f64>,
    /// Corner frequency of the process in rad/s: 1 over its time scale without dead time.
    pub corner_frequency: f64,
    /// What a fit of the record would know.
    pub expected: Vec<ExpectedError>,
    /// What the figures mean.
    pub verdicts: Vec<Verdict>,
}

impl ExperimentSpec {
    /// Refuses what cannot be planned.
    pub fn validate(&self) -> Result<()> {
        self.process.validate()?;
        check::within("gain_uncertainty", self.gain_uncertainty, 0.0, 500.0, "%")?;
        check::positive("noise", self.noise, &self.pv_unit)?;
        check::positive("sample_time", self.sample_time, "s")?;
        check::within("duration", self.duration, 20.0 * self.sample_time, MOST_SAMPLES * self.sample_time, "s")?;
        check::finite("operating_point.pv", self.operating_point.pv)?;
        for (name, [low, high], inside) in
            [("pv_range", self.pv_range, self.operating_point.pv), ("op_range", self.op_range, self.operating_point.op)]
        {
            check::finite(name, low)?;
            check::finite(name, high)?;
            if !(low..=high).contains(&inside) || low == high {
                return Err(Error::invalid(
                    name,
                    format!("{low} to {high}"),
                    format!("a range around the resting value, {inside}"),
                ));
            }
        }
        check::within("op_range", self.op_range[0], 0.0, 100.0, "%")?;
        check::within("op_range", self.op_range[1], 0.0, 100.0, "%")?;
        if let Some(rate) = self.op_rate {
            check::positive("op_rate", rate, "%/s")?;
        }
        if let Some(amplitude) = self.amplitude {
            check::within("amplitude", amplitude, 1e-6, 100.0, "%")?;
        }
        self.signal.validate(self)
    }

    /// Samples of the plan.
    fn samples(&self) -> usize {
        (self.duration / self.sample_time).round() as usize + 1
    }

    /// Dead time and four time constants, in s; of an integrating process, over which a lag is seen.
    pub(crate) fn settling(&self) -> f64 {
        let scale = self.process.time_scale() - self.process.dead_time();
        self.process.dead_time()
            + 4.0 * if scale > 0.0 { scale } else { self.process.dead_time().max(5.0 * self.sample_time) }
    }

    /// Corner frequency in rad/s.
    fn corner(&self) -> f64 {
        let lag = self.process.time_scale() - self.process.dead_time();
        1.0 / if lag > 0.0 { lag } else { self.process.dead_time().max(5.0 * self.sample_time) }
    }

    /// The plan: sequence, expected PV, spectrum, expected errors.
    ///
    /// Errors as [`validate`](Self::validate) says.
    pub fn plan(&self) -> Result<ExperimentPlan> {
        self.validate()?;
        let axis = TimeAxis::uniform(self.sample_time, self.samples())?;
        let unit = self.signal.sequence(self)?;
        let shape = self.process.response_to(&axis, &unit)?;
        let rest = self.operating_point.op;
        let amplitude = match self.amplitude {
            Some(amplitude) => amplitude,
            None => self.largest_amplitude(&unit, &shape, |amplitude| {
                let moves: Vec<f64> = self.output(&unit, amplitude).iter().map(|op| op - rest).collect();
                self.process.response_to(&axis, &moves)
            })?,
        };
        let op = self.output(&unit, amplitude);
        let deviations: Vec<f64> = op.iter().map(|value| value - rest).collect();
        let response = self.process.response_to(&axis, &deviations)?;
        let pv: Vec<f64> = response.iter().map(|value| self.operating_point.pv + value).collect();
        let share = self.gain_uncertainty / 100.0;
        let pv_half_width: Vec<f64> = response.iter().map(|value| share * value.abs() + 2.0 * self.noise).collect();
        let (spectrum_omegas, spectrum) = spectrum(&deviations, self.sample_time);
        let expected = expected_errors(&self.process, &axis, &op, &pv, self.noise, &self.pv_unit)?;
        let mut plan = ExperimentPlan {
            amplitude,
            times: (0..axis.len()).map(|k| axis.at(k)).collect(),
            op,
            pv,
            pv_half_width,
            spectrum_omegas,
            spectrum,
            corner_frequency: self.corner(),
            expected,
            verdicts: Vec::new(),
        };
        plan.verdicts = judgement::judge(self, &plan);
        Ok(plan)
    }

    /// The OP at this amplitude, in its range and no faster than it may move.
    fn output(&self, unit: &[f64], amplitude: f64) -> Vec<f64> {
        let rest = self.operating_point.op;
        let [low, high] = self.op_range;
        let wanted: Vec<f64> = unit.iter().map(|value| (rest + amplitude * value).clamp(low, high)).collect();
        sequence::limited(&wanted, rest, self.op_rate.map(|rate| rate * self.sample_time))
    }

    /// The largest amplitude that keeps the OP in its range and the PV with its band in [`FILLED`] of the safe range, to two
    /// digits. `shape` is the response to the sequence of amplitude 1 at any speed, `response` that to the OP as it may move
    /// at an amplitude.
    fn largest_amplitude(
        &self,
        unit: &[f64],
        shape: &[f64],
        response: impl Fn(f64) -> Result<Vec<f64>>,
    ) -> Result<f64> {
        let wide = 1.0 + self.gain_uncertainty / 100.0;
        let noise = 2.0 * self.noise;
        // How far there is to go, above or below where it rests.
        let room = |[low, high]: [f64; 2], rest: f64, up: bool| if up { high - rest } else { rest - low };
        let op_room = |value: f64| room(self.op_range, self.operating_point.op, value > 0.0);
        let pv_room = |value: f64| FILLED * room(self.pv_range, self.operating_point.pv, value > 0.0) - noise;
        let least = |pairs: &mut dyn Iterator<Item = (f64, f64)>| {
            pairs.filter(|(reach, _)| *reach != 0.0).map(|(reach, room)| room / reach.abs()).fold(f64::MAX, f64::min)
        };
        let by_op = least(&mut unit.iter().map(|value| (*value, op_room(*value))));
        let by_pv = least(&mut shape.iter().map(|value| (wide * value, pv_room(*value))));
        let mut largest = by_op.min(by_pv);
        if self.op_rate.is_some() && largest > 1e-6 && largest < f64::MAX {
            // An OP that cannot jump moves the PV by less: what fits is sought between nothing and the end of the OP's range.
            let fits =
                |amplitude: f64| Ok(response(amplitude)?.iter().all(|value| wide * value.abs() <= pv_room(*value)));
            let (mut low, mut high) = if fits(largest)? { (largest, by_op) } else { (0.0, largest) };
            if fits(high)? {
                low = high;
            }
            for _ in 0..20 {
                let middle = 0.5 * (low + high);
                if fits(middle)? { low = middle } else { high = middle }
            }
            largest = low;
        }
        if largest > 1e-6 && largest.is_finite() {
            // Two digits that are no larger.
            let unit = 10f64.powf(largest.log10().floor() - 1.0);
            Ok((largest / unit + 1e-9).floor() * unit)
        } else {
            Err(Error::unfit(
                "the safe range leaves no room for any move beside the noise",
                "widen the range of the PV or of the OP, or take the resting values away from their ends",
            ))
        }
    }
}

impl ExperimentPlan {
    /// Carries the plan out on a simulated plant: a trial in manual whose output moves as planned. The plant's own
    /// operating point counts; the
    /// moves are relative to it. A plant that is driven by several OPs is moved by one after the other, each as planned.
    pub fn trial(&self, plant: &Plant, sample_time: f64, seed: u64) -> Result<Trial> {
        let turn = self.times.last().copied().unwrap_or(0.0) + sample_time;
        let mut candidate = Candidate::new(ControllerSpec::Manual);
        let mut further = BTreeMap::new();
        for (k, driven) in plant.further_driven.iter().enumerate() {
            // The whole tag: without its ending it may be the name of the plant's own loop, which another OP drives.
            let name = driven.tag.clone();
            further.insert(name.clone(), self.moves((k + 1) as f64 * turn));
            candidate.further.push(Wired {
                name,
                // In manual nothing comes of what it measures; where there are fewer PVs than OPs the PV serves.
                measures: plant.further_measured.get(k).map_or(&plant.pv.tag, |own| &own.tag).clone(),
                sets: vec![Wire::to(&driven.tag)],
                controller: ControllerSpec::Manual,
                set_point_tracking: false,
            });
        }
        let duration = (plant.further_driven.len() + 1) as f64 * turn - sample_time;
        let trial = Trial {
            version: TRIAL_VERSION,
            plant: plant.clone(),
            candidate,
            scenario: Scenario { duration, scan: sample_time, seed, events: self.moves(0.0), further },
        };
        trial.validate()?;
        Ok(trial)
    }

    /// The moves of the OP, `from` s after the start.
    fn moves(&self, from: f64) -> Vec<Event> {
        let moved = self.op.windows(2).zip(self.times.iter().skip(1)).filter(|(pair, _)| pair[0] != pair[1]);
        moved.map(|(pair, at)| Event::OutputStep { at: from + at, by: pair[1] - pair[0] }).collect()
    }

    /// The plan as a record: the OP sequence and the expected PV.
    pub fn record(&self, op_tag: &str, pv_tag: &str, pv_unit: &str) -> Result<Record> {
        let channel = |tag: &str, role, unit: &str, values: &[f64]| Channel {
            tag: tag.into(),
            role,
            unit: unit.into(),
            values: values.to_vec(),
        };
        let channels = vec![channel(op_tag, Role::Op, "%", &self.op), channel(pv_tag, Role::Pv, pv_unit, &self.pv)];
        Record::new(TimeAxis::from_times(&self.times)?, channels)
    }
}

/// Shares of the power in %, in bands evenly spaced in the logarithm of the frequency, from the periodogram.
fn spectrum(deviations: &[f64], interval: f64) -> (Vec<f64>, Vec<f64>) {
    use num_complex::Complex64;
    let mean = deviations.iter().sum::<f64>() / deviations.len() as f64;
    let mut buffer: Vec<Complex64> = deviations.iter().map(|value| Complex64::from(value - mean)).collect();
    let size = buffer.len();
    FftPlanner::new().plan_fft_forward(size).process(&mut buffer);
    let omega = |k: usize| 2.0 * std::f64::consts::PI * k as f64 / (size as f64 * interval);
    let powers: Vec<f64> = (1..=size / 2).map(|k| buffer[k].norm_sqr()).collect();
    let total: f64 = powers.iter().sum::<f64>().max(f64::MIN_POSITIVE);
    let (low, high) = (omega(1), omega(size / 2) * (1.0 + 1e-9));
    let mut shares = vec![0.0; SPECTRUM_POINTS];
    let place = |omega: f64| ((omega / low).ln() / (high / low).ln() * SPECTRUM_POINTS as f64) as usize;
    for (k, power) in powers.iter().enumerate() {
        shares[place(omega(k + 1)).min(SPECTRUM_POINTS - 1)] += 100.0 * power / total;
    }
    let middle = |band: usize| low * (high / low).powf((band as f64 + 0.5) / SPECTRUM_POINTS as f64);
    let bands: Vec<usize> = (0..SPECTRUM_POINTS).filter(|band| shares[*band] > 0.0).collect();
    (bands.iter().map(|band| middle(*band)).collect(), bands.iter().map(|band| shares[*band]).collect())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::identification::{DataSet, FitOptions, Series, Structure, fit};
    use rand::SeedableRng;
    use rand_distr::{Distribution, StandardNormal};

    pub(super) fn spec(signal: SignalKind) -> ExperimentSpec {
        ExperimentSpec {
            process: LinearSpec::Fopdt { gain: 0.8, time_constant: 60.0, dead_time: 15.0 },
            gain_uncertainty: 30.0,
            noise: 0.2,
            operating_point: OperatingPoint::new(70.0, 45.0),
            pv_range: [64.0, 76.0],
            op_range: [20.0, 80.0],
            op_rate: None,
            sample_time: 2.0,
            duration: 2400.0,
            amplitude: None,
            signal,
            seed: 5,
            pv_unit: "°C".into(),
            proposed: Vec::new(),
        }
    }

    const SIGNALS: [SignalKind; 6] = [
        SignalKind::Step,
        SignalKind::Doublet { width: None },
        SignalKind::Staircase { levels: 4 },
        SignalKind::Prbs { clock: None },
        SignalKind::GeneralisedBinaryNoise { mean_switching_time: None },
        SignalKind::Multisine { lines: 12 },
    ];

    #[test]
    fn the_chosen_amplitude_fills_the_ranges_and_leaves_none() {
        for signal in SIGNALS {
            let spec = spec(signal.clone());
            let plan = spec.plan().unwrap();
            assert!(plan.op.iter().all(|op| (20.0..=80.0).contains(op)));
            let reach =
                plan.pv.iter().zip(&plan.pv_half_width).map(|(pv, half)| (pv - 70.0).abs() + half).fold(0.0, f64::max);
            assert!((4.0..=6.0).contains(&reach), "{signal:?}: {reach}");
            assert!(
                !plan.verdicts.iter().any(|verdict| verdict.text.contains("leaves its safe range")),
                "{:?}",
                plan.verdicts
            );
            assert!((plan.spectrum.iter().sum::<f64>() - 100.0).abs() < 1e-6);
            // Too large an amplitude is warned of.
            let bold = ExperimentSpec { amplitude: Some(25.0), ..spec }.plan().unwrap();
            assert!(bold.verdicts.iter().any(|verdict| verdict.text.contains("leaves its safe range")), "{signal:?}");
        }
    }

    #[test]
    fn expected_errors_are_those_of_a_fit_to_such_a_record() {
        for signal in [SignalKind::Step, SignalKind::Prbs { clock: None }] {
            let plan = spec(signal.clone()).plan().unwrap();
            let fits: Vec<_> = (0..40)
                .map(|seed| {
                    let mut generator = rand_chacha::ChaCha8Rng::seed_from_u64(seed);
                    let noisy = plan.pv.iter().map(|pv| {
                        let deviate: f64 = StandardNormal.sample(&mut generator);
                        pv + 0.2 * deviate
                    });
                    let output = Series::new("PV", "°C", noisy.collect());
                    let axis = TimeAxis::uniform(2.0, plan.op.len()).unwrap();
                    fit(
                        &DataSet::single(axis, Series::new("OP", "%", plan.op.clone()), output),
                        &FitOptions::new(Structure::Fopdt),
                    )
                    .unwrap()
                })
                .collect();
            for (k, expected) in plan.expected.iter().enumerate() {
                let spread = (fits.iter().map(|fit| (fit.parameters[k].value - expected.value).powi(2)).sum::<f64>()
                    / 40.0)
                    .sqrt();
                // 40 repetitions tell the spread to 11 %; three of these.
                assert!(
                    (spread / expected.standard_error.unwrap() - 1.0).abs() < 0.36,
                    "{signal:?} {expected:?}: {spread}"
                );
            }
        }
    }

    #[test]
    fn an_output_that_may_not_jump_moves_farther_for_the_same_range() {
        for signal in SIGNALS {
            let largest = |op_rate: Option<f64>| {
                let spec = ExperimentSpec { op_rate, op_range: [0.0, 100.0], ..spec(signal.clone()) };
                let plan = spec.plan().unwrap();
                let half = plan.pv.iter().zip(&plan.pv_half_width).map(|(pv, half)| (pv - 70.0).abs() + half);
                (plan.amplitude, half.fold(0.0, f64::max), plan.op.iter().copied().fold(f64::MIN, f64::max))
            };
            let (at_once, ..) = largest(None);
            // Fast enough, nothing changes; slowly, more is moved until the PV or the OP is at the end of what it may.
            let (fast, ..) = largest(Some(1e6));
            assert!((fast / at_once - 1.0).abs() < 0.03, "{signal:?}: {fast} {at_once}");
            let (slow, reach, op) = largest(Some(0.02));
            assert!(slow >= at_once, "{signal:?}: {slow} {at_once}");
            assert!(reach <= 6.0 && (reach > 5.2 || op > 45.5 || slow > 54.0), "{signal:?}: {slow} {reach} {op}");
        }
    }

    #[test]
    fn a_proposal_is_not_judged_as_if_somebody_had_said_it() {
        let texts = |proposed: Vec<Proposed>| {
            let plan = ExperimentSpec { proposed, ..spec(SignalKind::Doublet { width: None }) }.plan().unwrap();
            plan.verdicts.into_iter().map(|verdict| (verdict.tone, verdict.text)).collect::<Vec<_>>()
        };
        let all = texts(vec![]);
        assert!(all.iter().any(|(tone, text)| *tone == crate::verdict::Tone::Good && text.contains("set as safe")));
        let own = texts(vec![Proposed::PvRange, Proposed::Process]);
        assert!(own.iter().all(|(_, text)| !text.contains("set as safe")), "{own:?}");
        let cautions: Vec<&String> =
            own.iter().filter(|(tone, _)| *tone == crate::verdict::Tone::Caution).map(|(_, text)| text).collect();
        assert!(cautions.iter().any(|text| text.contains("only proposed")), "{own:?}");
        assert!(cautions.iter().any(|text| text.contains("placeholder")), "{own:?}");
        assert!(own.iter().all(|(tone, _)| *tone != crate::verdict::Tone::Good), "{own:?}");
    }

    #[test]
    fn a_process_that_integrates_is_told_where_it_ends() {
        let tank = |signal: SignalKind| {
            let process = LinearSpec::Integrating { gain: 0.002, dead_time: 8.0 };
            ExperimentSpec { process, gain_uncertainty: 0.0, noise: 0.01, ..spec(signal) }
        };
        let ends = |signal: SignalKind| {
            let plan = tank(signal).plan().unwrap();
            (plan.pv.last().unwrap() - 70.0, plan.verdicts.into_iter().map(|v| v.text).collect::<Vec<_>>())
        };
        // Up and down for the same time: by the integral of the OP the PV is back; after a step it goes on.
        let (end, words) = ends(SignalKind::Doublet { width: None });
        assert!(end.abs() < 1e-9 && words.iter().all(|text| !text.contains("integrates")), "{end} {words:?}");
        let (end, words) = ends(SignalKind::Step);
        assert!(
            end > 3.0 && words.iter().any(|text| text.contains("integrates") && text.contains("doublet")),
            "{words:?}"
        );
        // Gain and dead time of such a record are known as well as a fit knows them.
        let plan = tank(SignalKind::Doublet { width: None }).plan().unwrap();
        assert!(plan.expected.iter().all(|expected| expected.standard_error.is_some_and(|error| error > 0.0)));
    }

    #[test]
    fn on_a_plant_the_output_moves_as_planned() {
        let spec = ExperimentSpec { op_rate: Some(0.5), ..spec(SignalKind::Doublet { width: None }) };
        let plan = spec.plan().unwrap();
        assert!(plan.op.windows(2).all(|pair| (pair[1] - pair[0]).abs() <= 1.0 + 1e-9), "0.5 %/s over 2 s");
        let signal = |tag: &str, high, unit: &str| crate::simulation::Signal {
            tag: tag.into(),
            span: crate::units::Span::new(0.0, high, unit),
        };
        let plant = Plant::plain(
            spec.process.clone(),
            signal("T.PV", 150.0, "°C"),
            signal("T.OP", 100.0, "%"),
            OperatingPoint::new(70.0, 45.0),
        );
        let trace = plan.trial(&plant, 2.0, 1).unwrap().run().unwrap();
        let column = |role| trace.columns.iter().find(|column| column.role == role).unwrap();
        let op = &column(crate::simulation::ColumnRole::Output).values;
        assert!(op.iter().zip(&plan.op).all(|(a, b)| (a - b).abs() < 1e-9));
        let pv = &column(crate::simulation::ColumnRole::ProcessVariable).values;
        assert!(pv.iter().zip(&plan.pv).all(|(a, b)| (a - b).abs() < 1e-6));
    }

    #[test]
    fn what_cannot_be_planned_is_named() {
        let refused = |change: fn(&mut ExperimentSpec)| {
            let mut changed = spec(SignalKind::Step);
            change(&mut changed);
            changed.plan().unwrap_err().to_string()
        };
        assert!(
            refused(|s| s.pv_range = [80.0, 90.0])
                .starts_with("The range of the PV is 80 to 90: it must be a range around the resting value, 70")
        );
        assert!(refused(|s| s.duration = 1e6).starts_with("The duration is 1000000 s"));
        assert!(refused(|s| s.noise = 0.0).starts_with("The noise is 0 °C"));
        assert!(refused(|s| s.signal = SignalKind::Prbs { clock: Some(0.5) }).contains("clock is 0.5 s"));
        assert!(refused(|s| s.noise = 50.0).contains("no room for any move"));
    }
}
