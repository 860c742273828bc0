//! Planning an experiment from what is roughly known of the process.

mod judgement;
mod sequence;

pub use sequence::SignalKind;

use crate::identification::{ExpectedError, Model, expected_errors};
use crate::numerics::rounded;
use crate::process::LinearSpec;
use crate::series::{Channel, Record, Role, TimeAxis};
use crate::simulation::{Candidate, Event, OperatingPoint, Plant, Scenario, TRIAL_VERSION, Trial};
use crate::units::Span;
use crate::verdict::Verdict;
use crate::{Error, Result, check};
use rustfft::FftPlanner;
use serde::{Deserialize, Serialize};
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
}

fn usual_uncertainty() -> f64 {
    30.0
}

impl ExperimentSpec {
    /// An experiment to begin with: round numbers out of what is known of the loop. Without a model, time constant and dead
    /// time are placeholders.
    #[must_use]
    pub fn first(pv: &Span, op: &Span, known: Option<&Model>, noise: Option<f64>) -> Self {
        let width = pv.high - pv.low;
        let round = |value: f64| rounded(value, 2);
        let of = |name: &str| known.and_then(|model| model.parameter(name)).map(|parameter| parameter.value);
        let (gain, time_constant) = (of("gain").unwrap_or(width / 100.0), of("time_constant").unwrap_or(60.0));
        let dead_time = of("dead_time").unwrap_or(15.0);
        let settling = round(dead_time) + 4.0 * round(time_constant);
        let rest = OperatingPoint {
            pv: rounded(known.map_or(pv.low + 0.5 * width, |model| model.operating.pv), 3),
            states: None,
            op: known.map_or(0.5 * (op.low + op.high), |model| model.operating.op).round(),
        };
        Self {
            process: LinearSpec::Fopdt {
                gain: round(gain),
                time_constant: round(time_constant),
                dead_time: round(dead_time),
            },
            gain_uncertainty: usual_uncertainty(),
            noise: round(noise.filter(|noise| *noise > 0.0).unwrap_or(0.001 * width)),
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
        let amplitude = match self.amplitude {
            Some(amplitude) => amplitude,
            None => self.largest_amplitude(&unit, &shape)?,
        };
        let rest = self.operating_point.op;
        let wanted: Vec<f64> =
            unit.iter().map(|value| (rest + amplitude * value).clamp(self.op_range[0], self.op_range[1])).collect();
        let op = sequence::limited(&wanted, rest, self.op_rate.map(|rate| rate * self.sample_time));
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

    /// The largest amplitude that keeps the OP in its range and the PV with its band in [`FILLED`] of the safe range.
    fn largest_amplitude(&self, unit: &[f64], shape: &[f64]) -> Result<f64> {
        let wide = 1.0 + self.gain_uncertainty / 100.0;
        let (mut largest, noise) = (f64::MAX, 2.0 * self.noise);
        for (reach, room) in unit
            .iter()
            .map(|value| {
                (
                    *value,
                    if *value > 0.0 {
                        self.op_range[1] - self.operating_point.op
                    } else {
                        self.operating_point.op - self.op_range[0]
                    },
                )
            })
            .chain(shape.iter().map(|value| {
                let end = if *value > 0.0 {
                    self.pv_range[1] - self.operating_point.pv
                } else {
                    self.operating_point.pv - self.pv_range[0]
                };
                (wide * value, FILLED * end - noise)
            }))
        {
            if reach != 0.0 {
                largest = largest.min(room / reach.abs());
            }
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
    /// moves are relative to it.
    pub fn trial(&self, plant: &Plant, sample_time: f64, seed: u64) -> Result<Trial> {
        let mut events = Vec::new();
        let mut last = self.op.first().copied().unwrap_or(plant.operating_point.op);
        for (time, op) in self.times.iter().zip(&self.op) {
            if *op != last {
                events.push(Event::OutputStep { at: *time, by: op - last });
                last = *op;
            }
        }
        let trial = Trial {
            version: TRIAL_VERSION,
            plant: plant.clone(),
            candidate: Candidate::new(crate::controller::ControllerSpec::Manual),
            scenario: Scenario { duration: self.times.last().copied().unwrap_or(0.0), scan: sample_time, seed, events },
        };
        trial.validate()?;
        Ok(trial)
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
