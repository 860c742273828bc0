//! A record judged before it is believed.

mod oscillation;
mod stiction;
#[cfg(test)]
mod tests;

pub use oscillation::Oscillation;
pub use stiction::Stiction;

use crate::identification::{held, noise_deviation};
use crate::numerics::{NormalEquations, range};
use crate::preparation::{Operation, Step, prepare};
use crate::series::{Record, Role, TimeAxis};
use crate::units::Span;
use crate::verdict::{Tone, Verdict, readable, readable_duration};
use crate::{Error, Result};
use rustfft::FftPlanner;
use serde::{Deserialize, Serialize};
use statrs::distribution::{ContinuousCDF, FisherSnedecor};
use utoipa::ToSchema;

/// Samples that the slower tests look at.
const ENOUGH: usize = 20_000;
/// Samples of rest of the OP in which an oscillation is looked for.
const REST_SAMPLES: usize = 60;

/// What a finding is about.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Topic {
    /// Size of the move against the noise.
    Move,
    /// Whether the OP excites enough, and in which band.
    Excitation,
    /// OP or PV at a limit.
    Saturation,
    /// A PV that does not change.
    Frozen,
    /// A PV in coarse steps.
    Quantised,
    /// An oscillation while the OP stands still.
    Oscillation,
    /// A valve that sticks.
    Stiction,
    /// Feedback in the data.
    ClosedLoop,
    /// Missing and uneven samples.
    Gaps,
    /// A filter on some of the signals.
    Filter,
}

/// One verdict, and where in the record it holds.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Finding {
    /// What it is about.
    pub topic: Topic,
    /// The sentence with its figure and the rule.
    pub verdict: Verdict,
    /// Stretches in s from the start of the record.
    pub stretches: Vec<[f64; 2]>,
}

impl Finding {
    fn new(topic: Topic, tone: Tone, text: String, rule: &str) -> Self {
        Self { topic, verdict: Verdict::new(tone, text, rule), stretches: Vec::new() }
    }

    fn at(mut self, stretches: Vec<[f64; 2]>) -> Self {
        self.stretches = stretches;
        self
    }
}

/// All that was found, the gravest first.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Inspection {
    /// The findings.
    pub findings: Vec<Finding>,
    /// Unit of the PV in all that is said.
    pub pv_unit: String,
    /// Standard deviation of the PV's noise, in its unit.
    pub noise: f64,
    /// Range of the PV over its noise.
    pub move_to_noise: Option<f64>,
    /// Periods between which 90 % of the OP's power lies, in s, the shorter first.
    pub band: Option<[f64; 2]>,
    /// The oscillation while the OP stood still.
    pub oscillation: Option<Oscillation>,
    /// The valve.
    pub stiction: Option<Stiction>,
    /// Whether the OP follows the PV; null where that cannot be told.
    pub feedback: Option<bool>,
}

/// What is known of the signals besides the record.
#[derive(Debug, Clone, PartialEq)]
pub struct Spans<'a> {
    /// Span of the PV.
    pub pv: Option<&'a Span>,
    /// Span of the OP; 0–100 % where none.
    pub op: Option<&'a Span>,
}

/// The PV and OP at hand, held; the middle of a long record.
struct Signals {
    pv: Vec<f64>,
    op: Vec<f64>,
}

/// Judges a record of a loop as its preparation leaves it, in the units of the loop, with stretches in s of the untouched
/// record.
///
/// Noise, feedback and swings are looked for before any filter: a filter takes the noise away, and one that runs forth and
/// back makes the PV move before the OP does.
///
/// Errors as [`inspect`] and [`prepare`] say.
pub fn inspect_prepared(record: &Record, steps: &[Step], pv: &Span, op: &Span) -> Result<Inspection> {
    let is_filter = |step: &Step| step.enabled && matches!(step.operation, Operation::LowPass { .. });
    let unfiltered: Vec<Step> = steps.iter().filter(|step| !is_filter(step)).cloned().collect();
    let prepared = prepare(record, &unfiltered)?;
    let alone = unequal_filter(&prepared.record, steps);
    let start = prepared.start;
    let seen = prepared.record.in_units_of(&pv.unit, &op.unit);
    // A span counts only where the record is in its unit.
    let in_unit = seen.channel(Role::Pv).is_some_and(|channel| channel.unit == pv.unit);
    let mut inspection = inspect(&seen, &Spans { pv: in_unit.then_some(pv), op: Some(op) })?;
    for stretch in inspection.findings.iter_mut().flat_map(|finding| &mut finding.stretches) {
        stretch.iter_mut().for_each(|time| *time += start);
    }
    inspection.findings.extend(alone);
    inspection.sort();
    Ok(inspection)
}

/// What is said where a filter is laid over some of PV and OP and not over the others alike.
fn unequal_filter(record: &Record, steps: &[Step]) -> Option<Finding> {
    let mut laid: [Vec<(u64, usize, bool)>; 2] = Default::default();
    let tags = [Role::Pv, Role::Op].map(|role| record.channel(role).map(|channel| channel.tag.as_str()));
    for step in steps.iter().filter(|step| step.enabled) {
        let Operation::LowPass { tag, all, time_constant, order, zero_phase } = &step.operation else { continue };
        for (k, own) in tags.iter().enumerate() {
            let meant = tag.as_deref().map_or(k == 0, |tag| Some(tag) == *own);
            if *all || meant {
                laid[k].push((time_constant.to_bits(), *order, *zero_phase));
            }
        }
    }
    let [pv, op] = &laid;
    (pv != op).then(|| {
        let both_ways = pv.iter().chain(op).any(|(_, _, zero_phase)| *zero_phase);
        let before = if both_ways { ", and the PV seems to answer before the OP moves" } else { "" };
        Finding::new(
            Topic::Filter,
            Tone::Caution,
            format!(
                "PV and OP are not filtered alike: a model of them has the filter in it. Its time constant and dead time are \
                 off by that{before}. Filter all channels alike, or leave the noise to the fit."
            ),
            "a filter on all signals cancels out of the model, one on a single signal becomes part of it (Ljung, System \
             Identification, 1999, section 14.4; from memory)",
        )
    })
}

/// Judges a record by its PV and OP.
///
/// Errors when it has neither, or fewer than 20 samples.
pub fn inspect(record: &Record, spans: &Spans<'_>) -> Result<Inspection> {
    let pv = record
        .channel(Role::Pv)
        .ok_or_else(|| Error::unfit("the record has no PV", "import it with a column for the PV"))?;
    let op = record.channel(Role::Op);
    let samples = record.axis.len();
    if samples < 20 {
        return Err(Error::unfit(format!("the record has {samples} samples"), "at least 20 are needed to judge it"));
    }
    let noise = noise_deviation(&pv.values);
    let mut inspection = Inspection {
        findings: Vec::new(),
        pv_unit: pv.unit.clone(),
        noise,
        move_to_noise: None,
        band: None,
        oscillation: None,
        stiction: None,
        feedback: None,
    };
    let findings = &mut inspection.findings;
    findings.extend(gaps(record));
    findings.extend(frozen(&pv.values, &record.axis, &pv.unit));
    findings.extend(quantised(&pv.values, noise, &pv.unit));
    findings.extend(saturated(&pv.values, &record.axis, spans.pv, "PV"));
    let Some(op) = op else {
        findings.push(Finding::new(
            Topic::Excitation,
            Tone::Bad,
            "The record has no OP: nothing can be fitted to it.".into(),
            "a model needs input and output (exact)",
        ));
        return Ok(inspection);
    };
    let full = Span::new(0.0, 100.0, "%");
    let op_span = spans.op.unwrap_or(&full);
    match beyond_span(&op.values, op_span) {
        Some(finding) => findings.push(finding),
        None => findings.extend(saturated(&op.values, &record.axis, Some(op_span), "OP")),
    }
    let signals = Signals::new(&pv.values, &op.values);
    let moves = move_places(&op.values);
    let (finding, ratio) = size_of_move(&pv.values, &op.values, noise, &pv.unit);
    findings.push(finding);
    inspection.move_to_noise = ratio;
    let feedback = feedback(&signals);
    let set_point_moved = record.channel(Role::Sp).is_some_and(|sp| {
        let mut finite = sp.values.iter().filter(|value| value.is_finite());
        finite.next().is_some_and(|first| finite.any(|value| value != first))
    });
    inspection.feedback = feedback.as_ref().map(|feedback| feedback.found);
    if let Some(closed) = closed_loop(feedback.as_ref(), set_point_moved) {
        findings.push(closed);
    }
    let (finding, band) = excitation(&op.values, record.axis.mean_interval(), &moves);
    findings.push(finding);
    inspection.band = band;
    if let Some((oscillation, finding)) = oscillation::while_at_rest(record, &pv.values, &op.values, noise) {
        findings.extend(finding);
        inspection.oscillation = Some(oscillation);
    }
    if let Some((stiction, finding)) = stiction::detect(&signals.op, &signals.pv, move_places(&signals.op).len()) {
        findings.extend(finding);
        inspection.stiction = Some(stiction);
    }
    inspection.sort();
    Ok(inspection)
}

impl Inspection {
    /// The gravest first.
    fn sort(&mut self) {
        self.findings.sort_by_key(|finding| match finding.verdict.tone {
            Tone::Bad => 0,
            Tone::Caution => 1,
            Tone::Good => 2,
        });
    }
}

impl Signals {
    /// The middle of the record at full resolution: samples averaged in blocks would show the PV answering in the same block, which looks
    /// like feedback.
    fn new(pv: &[f64], op: &[f64]) -> Self {
        let spare = pv.len().saturating_sub(ENOUGH) / 2;
        let middle = spare..pv.len() - spare;
        Self { pv: held(&pv[middle.clone()]), op: held(&op[middle]) }
    }
}

/// Samples at which the OP differs from the one before.
fn move_places(op: &[f64]) -> Vec<usize> {
    let (low, high) = range(op);
    let least = 1e-6 * (high - low).max(0.0);
    let steady = held(op);
    (1..steady.len()).filter(|k| (steady[*k] - steady[k - 1]).abs() > least).collect()
}

/// Stretches of samples for which `is` holds, of at least `least` samples, in s.
fn stretches(axis: &TimeAxis, least: usize, is: impl Fn(usize) -> bool) -> Vec<[f64; 2]> {
    let mut found = Vec::new();
    let mut start = None;
    for k in 0..=axis.len() {
        match (start, k < axis.len() && is(k)) {
            (None, true) => start = Some(k),
            (Some(from), false) => {
                if k - from >= least {
                    found.push([axis.at(from), axis.at(k - 1)]);
                }
                start = None;
            }
            _ => {}
        }
    }
    found
}

fn gaps(record: &Record) -> Vec<Finding> {
    let mut findings = Vec::new();
    for channel in record.channels.iter().filter(|channel| matches!(channel.role, Role::Pv | Role::Op)) {
        let missing = channel.missing();
        if missing > 0 {
            let places = stretches(&record.axis, 1, |k| channel.values[k].is_nan());
            let longest = places.iter().map(|[from, to]| to - from).fold(0.0, f64::max) + record.axis.mean_interval();
            findings.push(
                Finding::new(
                    Topic::Gaps,
                    Tone::Caution,
                    format!(
                        "{} of {} {}: fill the short ones, split at the long ones.",
                        if missing == 1 { "1 sample".to_owned() } else { format!("{missing} samples") },
                        channel.tag,
                        match (missing, places.len()) {
                            (1, _) => "is missing".to_owned(),
                            (_, 1) => format!("are missing, in a gap of {}", readable_duration(longest)),
                            (_, gaps) => {
                                format!("are missing in {gaps} gaps, the longest {}", readable_duration(longest))
                            }
                        },
                    ),
                    "structures with dead time and ARX pass over gaps, the others cannot",
                )
                .at(places),
            );
        }
    }
    if let TimeAxis::Irregular(times) = &record.axis {
        let mut intervals: Vec<f64> = times.windows(2).map(|pair| pair[1] - pair[0]).collect();
        let usual = crate::numerics::median(&mut intervals);
        findings.push(Finding::new(
            Topic::Gaps,
            Tone::Caution,
            format!(
                "The samples are uneven, {} apart as a rule: resample them for difference equations and state space.",
                readable_duration(usual)
            ),
            "structures with dead time take uneven samples as they are",
        ));
    }
    findings
}

/// A PV that keeps one value for long while it moves elsewhere.
fn frozen(pv: &[f64], axis: &TimeAxis, unit: &str) -> Option<Finding> {
    let changes = pv.windows(2).filter(|pair| pair[0] != pair[1]).count();
    // How long equal runs are as a rule tells what is unusual.
    let usual = pv.len() / (changes + 1);
    let least = (20 * usual).max(20);
    let places = stretches(axis, least, |k| {
        pv[k] == if k > 0 && pv[k - 1] == pv[k] { pv[k - 1] } else { *pv.get(k + 1).unwrap_or(&f64::NAN) }
    });
    if places.is_empty() {
        return None;
    }
    let length = |[from, to]: &[f64; 2]| to - from;
    let run = places.iter().max_by(|a, b| length(a).total_cmp(&length(b)))?;
    let longest = length(run);
    let share = 100.0 * places.iter().map(|[from, to]| to - from).sum::<f64>() / axis.duration().max(f64::MIN_POSITIVE);
    let value = pv[axis.window(run[0], run[1]).start];
    let others = places.len() - 1;
    let in_all = match others {
        0 => format!("{} % of the record", readable(share)),
        1 => format!("and once more at one value for less, {} % of the record in all", readable(share)),
        _ => format!("and {others} times more at one value for less, {} % of the record in all", readable(share)),
    };
    Some(
        Finding::new(
            Topic::Frozen,
            if share > 20.0 { Tone::Bad } else { Tone::Caution },
            format!(
                "The PV freezes: it stands at exactly {} {unit} for {} ({in_all}). Look at the transmitter or the historian's compression, and cut these stretches out.",
                readable(value),
                readable_duration(longest)
            ),
            "a run of equal values 20 times as long as usual (common practice)",
        )
        .at(places),
    )
}

/// A PV in steps that are coarse beside its noise.
fn quantised(pv: &[f64], noise: f64, unit: &str) -> Option<Finding> {
    let mut levels: Vec<f64> = pv.iter().copied().filter(|value| value.is_finite()).collect();
    levels.sort_by(f64::total_cmp);
    let mut gaps: Vec<f64> = levels.windows(2).map(|pair| pair[1] - pair[0]).filter(|gap| *gap > 0.0).collect();
    let count = gaps.len() + 1;
    let (low, high) = (*levels.first()?, *levels.last()?);
    if gaps.len() < 2 || high <= low {
        return None;
    }
    let step = crate::numerics::median(&mut gaps);
    // Steps are of one size, and few for the number of samples.
    let regular = gaps.iter().filter(|gap| ((*gap / step).round() - *gap / step).abs() < 0.05).count();
    let coarse = count * 10 < levels.len() && regular * 10 > gaps.len() * 9;
    let share = 100.0 * step / (high - low);
    (coarse && (step > 2.0 * noise || share > 2.0)).then(|| {
        Finding::new(
            Topic::Quantised,
            if share > 10.0 { Tone::Bad } else { Tone::Caution },
            format!(
                "The PV comes in steps of {} {unit}, {} % of its swing: noise estimates and small moves are off. Use the transmitter's full resolution.",
                readable(step),
                readable(share)
            ),
            "steps above twice the noise or 2 % of the swing (common practice)",
        )
    })
}

/// An OP that goes beyond its span is not in % of it: it was recorded as a deviation, say.
fn beyond_span(op: &[f64], span: &Span) -> Option<Finding> {
    let (low, high) = range(op);
    let slack = 0.02 * span.width();
    (low < span.low - slack || high > span.high + slack).then(|| {
        Finding::new(
            Topic::Saturation,
            Tone::Caution,
            format!(
                "The OP runs from {} to {}, beyond its span of {} to {} {}: it is no share of the valve's travel, but a \
                 deviation or in another unit. Gain and times can be fitted; where it stands at a limit cannot be seen.",
                readable(low),
                readable(high),
                readable(span.low),
                readable(span.high),
                span.unit
            ),
            "more than 2 % of the span beyond an end of it",
        )
    })
}

fn saturated(values: &[f64], axis: &TimeAxis, span: Option<&Span>, name: &str) -> Option<Finding> {
    let span = span?;
    let slack = 1e-6 * span.width();
    let places = stretches(axis, 3, |k| values[k] <= span.low + slack || values[k] >= span.high - slack);
    if places.is_empty() {
        return None;
    }
    let share = 100.0 * places.iter().map(|[from, to]| to - from).sum::<f64>() / axis.duration().max(f64::MIN_POSITIVE);
    let what = if name == "OP" {
        "no model is fitted to what the valve cannot do"
    } else {
        "its true value is not known there"
    };
    Some(
        Finding::new(
            Topic::Saturation,
            if share > 10.0 { Tone::Bad } else { Tone::Caution },
            format!(
                "The {name} stands at an end of its span for {} % of the record: {what}; cut these stretches out.",
                readable(share)
            ),
            "at the lower or upper range value for three samples or more",
        )
        .at(places),
    )
}

fn size_of_move(pv: &[f64], op: &[f64], noise: f64, unit: &str) -> (Finding, Option<f64>) {
    let (low, high) = range(op);
    let moved = (high - low).max(0.0);
    let rule = "a move should lift the PV by at least 4 times the noise, better 10 (common practice)";
    if moved == 0.0 {
        return (
            Finding::new(Topic::Move, Tone::Bad, "The OP never moves: there is nothing to fit.".into(), rule),
            None,
        );
    }
    let mut sorted: Vec<f64> = pv.iter().copied().filter(|value| value.is_finite()).collect();
    sorted.sort_by(f64::total_cmp);
    // The outermost 1 % aside, which outliers may be.
    let at = |share: f64| sorted[((sorted.len() - 1) as f64 * share).round() as usize];
    let swing = at(0.99) - at(0.01);
    // Noise alone spans 4.65 standard deviations between these.
    let lifted = (swing * swing - (4.65 * noise).powi(2)).max(0.0).sqrt();
    if noise <= 1e-9 * swing {
        return (
            Finding::new(
                Topic::Move,
                Tone::Good,
                format!("The PV moves by {} {unit}; no noise is seen.", readable(swing)),
                rule,
            ),
            None,
        );
    }
    let ratio = lifted / noise;
    let figure = format!(
        "The PV moves by {} {unit}, {} times its noise of {} {unit}",
        readable(lifted),
        readable(ratio),
        readable(noise)
    );
    let finding = if ratio < 4.0 {
        let wanted = 4.0 * moved / ratio.max(0.1);
        Finding::new(
            Topic::Move,
            Tone::Bad,
            format!("{figure}: repeat the test with moves of at least {} %.", readable(wanted)),
            rule,
        )
    } else if ratio < 10.0 {
        Finding::new(Topic::Move, Tone::Caution, format!("{figure}: enough to see, little to fit."), rule)
    } else {
        Finding::new(Topic::Move, Tone::Good, format!("{figure}."), rule)
    };
    (finding, Some(ratio))
}

/// How the OP excites: moves, and the band of its power.
fn excitation(op: &[f64], interval: f64, moves: &[usize]) -> (Finding, Option<[f64; 2]>) {
    let rule = "an input of one step excites order 1, more moves higher ones (Söderström & Stoica, System Identification, 1989, section 5.4)";
    if moves.is_empty() {
        return (Finding::new(Topic::Excitation, Tone::Bad, "The OP excites nothing.".into(), rule), None);
    }
    let band = power_band(&held(op), interval);
    let within = band.map_or(String::new(), |[short, long]| {
        format!("; 90 % of its power has periods of {} to {}", readable_duration(short), readable_duration(long))
    });
    let count = moves.len();
    let finding = match count {
        1 => Finding::new(
            Topic::Excitation,
            Tone::Caution,
            format!(
                "The OP makes one move{within}: gain, dead time and time constant can be fitted if nothing else moved the PV. A second move the other way tells a drift from the response."
            ),
            rule,
        ),
        2..=3 => Finding::new(
            Topic::Excitation,
            Tone::Good,
            format!("The OP makes {count} moves{within}: enough for three or four parameters."),
            rule,
        ),
        _ => Finding::new(Topic::Excitation, Tone::Good, format!("The OP makes {count} moves{within}."), rule),
    };
    (finding, band)
}

/// Periods in s between which 90 % of the power about the mean lies.
fn power_band(op: &[f64], interval: f64) -> Option<[f64; 2]> {
    use num_complex::Complex64;
    let mean = op.iter().sum::<f64>() / op.len() as f64;
    let mut buffer: Vec<Complex64> = op.iter().map(|value| Complex64::from(value - mean)).collect();
    let size = buffer.len();
    FftPlanner::new().plan_fft_forward(size).process(&mut buffer);
    let powers: Vec<f64> = (1..=size / 2).map(|k| buffer[k].norm_sqr()).collect();
    let total: f64 = powers.iter().sum();
    if total <= 0.0 {
        return None;
    }
    let mut sum = 0.0;
    let cumulated: Vec<f64> = powers
        .iter()
        .map(|power| {
            sum += power / total;
            sum
        })
        .collect();
    let period = |share: f64| {
        let k = cumulated.iter().position(|value| *value >= share).unwrap_or(powers.len() - 1) + 1;
        size as f64 * interval / k as f64
    };
    Some([period(0.95), period(0.05)])
}

/// Whether the OP follows the PV.
struct Feedback {
    found: bool,
    probability: f64,
}

/// Whether past PVs help to predict the OP beyond its own past (Granger, Econometrica 37, 1969): an F test of the
/// regression of the moves of the OP
/// on their own last lags, with and without those of the PV's moves.
fn feedback(signals: &Signals) -> Option<Feedback> {
    const LAGS: usize = 6;
    // A controller that answers each sample shows at a few lags; a slower one shows once samples are averaged.
    let differences = |values: &[f64]| -> Vec<f64> { values.windows(2).map(|pair| pair[1] - pair[0]).collect() };
    let (du, dy) = (differences(&signals.op), differences(&signals.pv));
    let mut sums = NormalEquations::new(2 * LAGS + 1);
    let mut row = vec![0.0; 2 * LAGS + 2];
    let mut moving = 0;
    for k in LAGS..du.len() {
        for lag in 0..LAGS {
            row[lag] = du[k - 1 - lag];
            // The PV of the same sample is what the controller has read.
            row[LAGS + lag] = dy[k - lag];
        }
        row[2 * LAGS] = 1.0;
        row[2 * LAGS + 1] = du[k];
        moving += usize::from(du[k] != 0.0);
        sums.add(&row);
    }
    // An OP that rarely moves is set by hand: a controller that moves once in ten samples or less is not told here.
    if moving * 10 < du.len() {
        return Some(Feedback { found: false, probability: 1.0 });
    }
    let own: Vec<usize> = (0..LAGS).chain([2 * LAGS]).collect();
    let without = sums.selected(&own).linear_solution()?.1;
    let with = sums.linear_solution()?.1;
    let freedom = sums.samples().saturating_sub(2 * LAGS + 1) as f64;
    if freedom < 30.0 || with <= 0.0 {
        return None;
    }
    let statistic = ((without - with) / LAGS as f64) / (with / freedom);
    let probability = FisherSnedecor::new(LAGS as f64, freedom).ok()?.sf(statistic.max(0.0));
    // With many samples a trace of a correlation is significant; it must explain something, too.
    Some(Feedback { found: probability < 1e-3 && with < 0.97 * without, probability })
}

fn closed_loop(feedback: Option<&Feedback>, set_point_moved: bool) -> Option<Finding> {
    let feedback = feedback?;
    if !feedback.found {
        return None;
    }
    let probability = if feedback.probability < 1e-6 {
        "below 1 in a million".to_owned()
    } else {
        format!("{:.1e}", feedback.probability)
    };
    let rule = "F test whether past PVs predict the OP (Granger 1969); direct prediction-error identification (Ljung 1999, section 13.4)";
    Some(if set_point_moved {
        Finding::new(
            Topic::ClosedLoop,
            Tone::Caution,
            format!(
                "The OP follows the PV (by chance: {probability}), and the SP moves: closed-loop data. Fit ARX, ARMAX, Box–Jenkins or state space, whose noise model \
                 must be right; output-error structures are biased where disturbances are large beside the set point moves."
            ),
            rule,
        )
    } else {
        Finding::new(
            Topic::ClosedLoop,
            Tone::Bad,
            format!(
                "The OP follows the PV (by chance: {probability}) and no SP moves: a fit may find the controller's inverse instead of the process. Move the \
                 set point, or test in manual."
            ),
            rule,
        )
    })
}
