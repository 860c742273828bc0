//! A check that fits in one's head: at the steady stretches of a record a balance gives a parameter without any fit.

use super::super::data::DataSet;
use super::following::Stretch;
use super::options::{PhysicalOptions, SoughtKind, Task};
use crate::Result;
use crate::numerics::bisect;
use crate::process::steady_states;
use crate::verdict::{Tone, Verdict, readable};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Blocks that a record is looked at in, at most, and samples of each, at least.
const BLOCKS: usize = 60;
const SAMPLES: usize = 8;
/// Blocks that a steady stretch lasts, at least.
const LASTS: usize = 4;
/// What a signal may move over a steady stretch: by no more than a share of its swing, and along a line by no more than a smaller
/// share, or by no more than the scatter of its blocks about the line lets it seem.
const RANGE: f64 = 0.02;
const DRIFT: f64 = 0.003;
const SEEMS: f64 = 2.0;
/// The same of noise, in standard deviations of a block's mean.
const NOISY: f64 = 8.0;
/// Places at which a parameter is tried.
const TRIED: usize = 24;

/// A stretch of a record in which nothing moves.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct SteadyStretch {
    /// Its start, s from the start of the data.
    pub from: f64,
    /// Its end.
    pub to: f64,
    /// What it implies; null where no value of the parameter explains it.
    pub implied: Option<ImpliedValue>,
}

/// A parameter by a steady stretch.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ImpliedValue {
    /// Its value.
    pub value: f64,
    /// Its standard error by the noise of the output alone.
    pub standard_error: f64,
}

/// A parameter by the steady stretches of a record.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct SteadyCheck {
    /// Name of the parameter.
    pub parameter: String,
    /// Its unit.
    pub unit: String,
    /// The steady stretches.
    pub stretches: Vec<SteadyStretch>,
    /// Mean of the values; null where there is none.
    pub mean: Option<f64>,
    /// Their standard deviation; null with fewer than two.
    pub spread: Option<f64>,
    /// What it means.
    pub verdict: Verdict,
}

/// Means of a stretch: inputs in the order of the process, and the first shown output.
struct Means {
    inputs: Vec<f64>,
    output: f64,
    /// Standard error of the mean of the output.
    error: f64,
}

/// What the steady stretches of a record imply for a parameter, all others being as they are known or where their search begins.
///
/// Errors when the parameter is not among those of the process.
pub fn steady_check(data: &DataSet, options: &PhysicalOptions, parameter: &str) -> Result<SteadyCheck> {
    let task = options.task()?;
    let description = task.process.description();
    let place = crate::process::Description::position(&description.parameters, parameter, "parameter")?;
    let quantity = &description.parameters[place];
    let stretch = Stretch::new(&task, data)?;
    let own = task.unknowns.iter().find(|own| own.kind == SoughtKind::Parameter && own.place == place);
    let usual = task.process.parameters()[place];
    let (low, high) =
        own.map_or(((1e-3 * usual).max(quantity.low), (1e3 * usual).min(quantity.high)), |own| (own.low, own.high));
    let found = steady(&stretch);
    let stretches: Vec<SteadyStretch> = found
        .iter()
        .map(|(from, to)| SteadyStretch {
            from: stretch.times[*from],
            to: stretch.times[*to],
            implied: implied(&task, place, &means(&task, &stretch, *from, *to), (low, high)),
        })
        .collect();
    let values: Vec<f64> = stretches.iter().filter_map(|own| Some(own.implied?.value)).collect();
    let mean = (!values.is_empty()).then(|| values.iter().sum::<f64>() / values.len() as f64);
    let spread = mean.filter(|_| values.len() > 1).map(|mean| {
        (values.iter().map(|value| (value - mean).powi(2)).sum::<f64>() / (values.len() - 1) as f64).sqrt()
    });
    let verdict = verdict(quantity, &stretches, mean, spread);
    Ok(SteadyCheck { parameter: parameter.to_owned(), unit: quantity.unit.clone(), stretches, mean, spread, verdict })
}

fn verdict(
    quantity: &crate::process::Quantity,
    stretches: &[SteadyStretch],
    mean: Option<f64>,
    spread: Option<f64>,
) -> Verdict {
    let rule =
        "balances at rest over stretches in which no signal drifts by more than 0.3 % of its swing, or its scatter";
    let name = quantity.name.replace('_', " ");
    let with_unit = |value: f64| format!("{} {}", readable(value), quantity.unit).trim_end().to_owned();
    match (mean, spread) {
        _ if stretches.is_empty() => Verdict::new(
            Tone::Caution,
            "There is no stretch in which everything stands still: the balances at rest say nothing here.",
            rule,
        ),
        (None, _) => Verdict::new(
            Tone::Bad,
            format!("No value of the {name} explains the steady stretches: another number is off, or a channel."),
            rule,
        ),
        (Some(mean), Some(spread)) if spread > 0.1 * mean.abs() => Verdict::new(
            Tone::Caution,
            format!(
                "The steady stretches imply {} for the {name}, but spread by ± {}: it changes with load, or another number is off.",
                with_unit(mean),
                with_unit(spread)
            ),
            rule,
        ),
        (Some(mean), _) => Verdict::new(
            Tone::Good,
            match spread {
                Some(spread) => format!(
                    "The balances at rest alone imply {} ± {} for the {name}, over {} steady stretches.",
                    with_unit(mean),
                    with_unit(spread),
                    stretches.len()
                ),
                None => format!("The balances at rest of one stretch imply {} for the {name}.", with_unit(mean)),
            },
            rule,
        ),
    }
}

/// A signal in means of blocks, with its swing and the noise of a mean.
struct Blocks {
    means: Vec<f64>,
    swing: f64,
    noise: f64,
}

impl Blocks {
    fn new(values: &[f64], each: usize) -> Self {
        let mean = |block: &[f64]| {
            let (sum, count) = block
                .iter()
                .filter(|value| value.is_finite())
                .fold((0.0, 0usize), |(sum, count), value| (sum + value, count + 1));
            sum / count as f64
        };
        let (low, high) = crate::numerics::range(values);
        Self {
            means: values.chunks_exact(each).map(mean).collect(),
            swing: high - low,
            noise: super::super::noise_deviation(values) / (each as f64).sqrt(),
        }
    }

    /// Whether it stands still over some blocks.
    fn stands(&self, from: usize, to: usize) -> bool {
        let own = &self.means[from..to];
        let (low, high) = crate::numerics::range(own);
        // Where a block has no value at all there is nothing to be said.
        if own.iter().any(|mean| mean.is_nan()) || high - low > (RANGE * self.swing).max(NOISY * self.noise) {
            return false;
        }
        // The line through the means, its drift over the stretch, and how far scatter alone would make it seem to drift.
        let n = own.len() as f64;
        let (middle, mean) = (0.5 * (n - 1.0), own.iter().sum::<f64>() / n);
        let spread: f64 = (0..own.len()).map(|k| (k as f64 - middle).powi(2)).sum();
        let slope = own.iter().enumerate().map(|(k, y)| (k as f64 - middle) * (y - mean)).sum::<f64>() / spread;
        let scatter = own.iter().enumerate().map(|(k, y)| (y - mean - slope * (k as f64 - middle)).powi(2));
        let error = (scatter.sum::<f64>() / (n - 2.0) / spread).sqrt();
        (slope * n).abs() <= (DRIFT * self.swing).max(SEEMS * error * n)
    }
}

/// First and last sample of the stretches in which no signal moves; the first third of each, in which what was under way dies out,
/// is left out.
fn steady(stretch: &Stretch) -> Vec<(usize, usize)> {
    let each = stretch.times.len().div_ceil(BLOCKS).max(SAMPLES);
    let blocks = stretch.times.len() / each;
    let signals: Vec<Blocks> =
        stretch.inputs.iter().chain(&stretch.outputs).map(|values| Blocks::new(values, each)).collect();
    let all_stand = |from: usize, to: usize| signals.iter().all(|signal| signal.stands(from, to));
    let mut found = Vec::new();
    let mut from = 0;
    while from + LASTS <= blocks {
        if !all_stand(from, from + LASTS) {
            from += 1;
            continue;
        }
        let mut to = from + LASTS;
        while to < blocks && all_stand(from, to + 1) {
            to += 1;
        }
        let (first, last) = (from * each, to * each - 1);
        found.push((first + (last - first) / 3, last));
        from = to;
    }
    found
}

fn means(task: &Task, stretch: &Stretch, from: usize, to: usize) -> Means {
    let mean = |values: &[f64]| {
        let own = values[from..=to].iter().filter(|value| value.is_finite());
        let (sum, count) = own.fold((0.0, 0usize), |(sum, count), value| (sum + value, count + 1));
        (sum / count as f64, count)
    };
    let mut inputs = task.rest.clone();
    let sought: Vec<f64> = task.unknowns.iter().map(|own| own.value).collect();
    for (k, (channel, values)) in task.channels.iter().zip(&stretch.inputs).enumerate() {
        inputs[channel.input] = task.behind_valve(k, mean(values).0, stretch.ends[k], &sought);
    }
    let (factor, shift) = stretch.shown_by[0];
    let (shown, count) = mean(&stretch.outputs[0]);
    let noise = super::super::noise_deviation(&stretch.outputs[0][from..=to]);
    Means {
        inputs,
        output: (shown - shift) / factor - task.shown[0].offset,
        error: noise / (count as f64).sqrt() / factor.abs(),
    }
}

/// The value of a parameter at which the process rests where it was measured.
fn implied(task: &Task, place: usize, means: &Means, (low, high): (f64, f64)) -> Option<ImpliedValue> {
    let sought: Vec<f64> = task.unknowns.iter().map(|own| own.value).collect();
    let mut process = task.process_with(&sought).ok()?;
    let output = task.shown[0].output;
    let mut at = |value: f64| -> Option<f64> {
        process.set_parameter(place, value).ok()?;
        let rests = steady_states(process.as_ref(), &means.inputs);
        let far = |rest: f64| (rest - means.output).abs();
        rests.into_iter().map(|rest| rest.outputs[output]).min_by(|a, b| far(*a).total_cmp(&far(*b)))
    };
    let by_ratio = low > 0.0;
    let place_of = |share: f64| if by_ratio { low * (high / low).powf(share) } else { low + share * (high - low) };
    let mut miss = |share: f64| at(place_of(share)).map(|output| output - means.output);
    let shares: Vec<f64> = (0..TRIED).map(|k| k as f64 / (TRIED - 1) as f64).collect();
    let misses: Vec<Option<f64>> = shares.iter().map(|share| miss(*share)).collect();
    let k = (1..TRIED).find(|k| misses[k - 1].zip(misses[*k]).is_some_and(|(a, b)| a * b <= 0.0))?;
    let share = {
        let miss = std::cell::RefCell::new(&mut miss);
        bisect(shares[k - 1], shares[k], |share| (*miss.borrow_mut())(share).unwrap_or(f64::NAN))
    };
    let value = place_of(share);
    let nudge = 1e-4;
    let slope = (miss(share + nudge)? - miss(share - nudge)?) / (place_of(share + nudge) - place_of(share - nudge));
    Some(ImpliedValue { value, standard_error: (means.error / slope).abs() }).filter(|own| own.value.is_finite())
}
