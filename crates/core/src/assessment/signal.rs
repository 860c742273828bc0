//! Metrics of any signal of a trace, over any window and against any limits.

use super::approach::{rises, settles};
use super::metrics::{ErrorIntegrals, reversals, travel};
use crate::identification::noise_deviation;
use crate::simulation::{ColumnRole, Trace};
use crate::{Error, Result, check};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Share of the window at its end over which a signal's final value is the mean.
const FINAL_SHARE: f64 = 0.05;

/// What is to be measured.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Question {
    /// Tag of the column.
    pub tag: String,
    /// Beginning of the window in s; null for that of the trace.
    #[serde(default)]
    pub from: Option<f64>,
    /// End of the window in s; null for that of the trace.
    #[serde(default)]
    pub to: Option<f64>,
    /// Low limit, in the unit of the column.
    #[serde(default)]
    pub low: Option<f64>,
    /// High limit, in the unit of the column.
    #[serde(default)]
    pub high: Option<f64>,
}

/// What is measured on a signal.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct SignalMetrics {
    /// Tag of the column.
    pub tag: String,
    /// Its unit.
    pub unit: String,
    /// Beginning of the window in s.
    pub from: f64,
    /// End of the window in s.
    pub to: f64,
    /// Mean over time.
    pub mean: f64,
    /// Standard deviation about the mean.
    pub standard_deviation: f64,
    /// Lowest value.
    pub lowest: f64,
    /// Highest value.
    pub highest: f64,
    /// Sum of all moves.
    pub travel: f64,
    /// How often it turned.
    pub reversals: usize,
    /// The integral over time as energy or material used, where the unit is a power or a flow.
    pub used: Option<Used>,
    /// ∫|SP − PV| dt, of the PV only.
    pub integral_absolute_error: Option<f64>,
    /// ∫(SP − PV)² dt, of the PV only.
    pub integral_squared_error: Option<f64>,
    /// ∫ t·|SP − PV| dt with the time from the beginning of the window, of the PV only.
    pub integral_time_absolute_error: Option<f64>,
    /// PV − SP where it was farthest from 0, of the PV only.
    pub max_deviation: Option<f64>,
    /// Mean of PV − SP over the last twentieth of the window, of the PV only.
    pub offset: Option<f64>,
    /// The way from the first value of the window to the final one; null where they are the same.
    pub step: Option<StepMetrics>,
    /// What was outside the limits; null without limits.
    pub outside: Option<Outside>,
}

/// An amount.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct Used {
    /// How much.
    pub amount: f64,
    /// Its unit.
    pub unit: String,
}

/// How a signal goes from its first to its final value: that of the set point for the PV where it moved, else the mean
/// of the last twentieth of the window.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct StepMetrics {
    /// First value.
    pub from: f64,
    /// Final value.
    pub to: f64,
    /// How far it went beyond, in % of the way; 0 where that is within the noise.
    pub overshoot_percent: f64,
    /// From 10 to 90 % of the way, s; null where 90 % was not reached.
    pub rise_time: Option<f64>,
    /// Until it stays within ±5 % of the way about the final value, s from the beginning of the window; null when it does
    /// not, and where the band lies within the noise.
    pub settling_time_5: Option<f64>,
    /// Standard deviation of the noise by the second differences, in the unit of the column; 0 of a quiet signal.
    pub noise: f64,
    /// Samples over which a noisy signal was averaged for these figures, a tenth of its rise at most; 1 where it was not.
    pub averaged: usize,
}

/// What was outside the limits.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct Outside {
    /// How long, s.
    pub time: f64,
    /// ∫ of the distance beyond the limit dt.
    pub area: f64,
    /// How often it went outside.
    pub violations: usize,
    /// The farthest beyond a limit.
    pub worst: f64,
}

/// Measures a signal. Errors for a tag that the trace does not have, and for an empty window.
pub fn measure(trace: &Trace, question: &Question) -> Result<SignalMetrics> {
    let column = trace.columns.iter().find(|column| column.tag == question.tag).ok_or_else(|| {
        let tags: Vec<&str> = trace.columns.iter().map(|column| column.tag.as_str()).collect();
        Error::invalid("tag", format!("“{}”", question.tag), format!("one of {}", tags.join(", ")))
    })?;
    let last = trace.len().saturating_sub(1);
    let end = trace.time(last);
    let (from, to) = (question.from.unwrap_or(0.0), question.to.unwrap_or(end).min(end));
    check::within("from", from, 0.0, end, "s")?;
    if to <= from {
        return Err(Error::invalid("to", format!("{to} s"), format!("above `from`, {from} s, and within the trace")));
    }
    if let (Some(low), Some(high)) = (question.low, question.high)
        && high <= low
    {
        return Err(Error::invalid("high", high, format!("above `low`, {low}")));
    }
    let row = |time: f64| (time / trace.scan).round() as usize;
    let (start, stop) = (row(from), row(to).clamp(1, last));
    let start = start.min(stop - 1);
    let values = &column.values[start..=stop];
    let window = (stop - start) as f64 * trace.scan;
    // The signal runs straight between rows.
    let integral = |f: &dyn Fn(f64) -> f64| -> f64 {
        values.windows(2).map(|pair| 0.5 * trace.scan * (f(pair[0]) + f(pair[1]))).sum()
    };
    let total = integral(&|value| value);
    let mean = total / window;
    let tail = ((FINAL_SHARE * values.len() as f64).ceil() as usize).clamp(1, values.len());
    let mean_of = |values: &[f64]| values.iter().sum::<f64>() / values.len() as f64;
    let set_point = trace.values(ColumnRole::SetPoint);
    // The measured PV and the true one have a set point; which is meant is said by the choice of the signal.
    let is_pv = matches!(column.role, ColumnRole::ProcessVariable | ColumnRole::TrueValue);
    let errors = is_pv.then(|| ErrorIntegrals::of(trace, &column.values, start, stop));
    let deviations: Vec<f64> =
        if is_pv { (start..=stop).map(|k| column.values[k] - set_point[k]).collect() } else { Vec::new() };
    let moved = is_pv && (set_point[stop] - values[0]).abs() > 1e-9 * (1.0 + values[0].abs());
    let target = if moved { set_point[stop] } else { mean_of(&values[values.len() - tail..]) };
    Ok(SignalMetrics {
        tag: column.tag.clone(),
        unit: column.unit.clone(),
        from: trace.time(start),
        to: trace.time(stop),
        mean,
        standard_deviation: (integral(&|value| (value - mean).powi(2)) / window).sqrt(),
        lowest: values.iter().copied().fold(f64::INFINITY, f64::min),
        highest: values.iter().copied().fold(f64::NEG_INFINITY, f64::max),
        travel: travel(values),
        reversals: reversals(values),
        used: amount(&column.unit, total),
        integral_absolute_error: errors.as_ref().map(|errors| errors.absolute),
        integral_squared_error: errors.as_ref().map(|errors| errors.squared),
        integral_time_absolute_error: errors.as_ref().map(|errors| errors.time_absolute),
        max_deviation: deviations.iter().copied().max_by(|a, b| a.abs().total_cmp(&b.abs())),
        offset: is_pv.then(|| mean_of(&deviations[deviations.len() - tail..])),
        step: step(&column.values[..=stop], start, target, trace.scan),
        outside: outside(values, question, trace.scan),
    })
}

/// The integral of a power or a flow, given in unit · s, as an amount.
fn amount(unit: &str, total: f64) -> Option<Used> {
    let used = |amount: f64, unit: &str| Some(Used { amount, unit: unit.to_owned() });
    match unit {
        "W" => used(total / 3600.0, "Wh"),
        "kW" => used(total / 3600.0, "kWh"),
        "MW" => used(total / 3600.0, "MWh"),
        _ => [("/h", 3600.0), ("/min", 60.0), ("/s", 1.0), ("/d", 86_400.0)]
            .into_iter()
            .find_map(|(per, seconds)| Some(used(total / seconds, unit.strip_suffix(per)?)))?,
    }
}

/// The way of the values from row `start` on. Noise is no response: a noisy signal begins at the mean of what was just before
/// the window, is averaged over a small part of its rise, and what then still lies within the noise counts as nothing.
fn step(all: &[f64], start: usize, to: f64, scan: f64) -> Option<StepMetrics> {
    /// Times its noise that a way must be to be one.
    const TIMES_NOISE: f64 = 5.0;
    /// Rows before the window that tell where it began.
    const BEFORE: usize = 20;
    const MOST_AVERAGED: usize = 201;
    let values = &all[start..];
    let (low, high) = crate::numerics::range(values);
    let noise = noise_deviation(values);
    // Second differences of a clean curve are no noise.
    let is_noisy = noise > 1e-3 * (high - low);
    let noise = if is_noisy { noise } else { 0.0 };
    let before = &all[start.saturating_sub(BEFORE)..=start];
    let from = if is_noisy { before.iter().sum::<f64>() / before.len() as f64 } else { values[0] };
    let way = to - from;
    if way.abs() <= (TIMES_NOISE * noise).max(1e-9 * (1.0 + from.abs())) {
        return None;
    }
    let rough = rises(values.len(), |k| (values[k] - from) / way).unwrap_or(0.0);
    let averaged = if is_noisy { 2 * ((rough / 20.0) as usize).min(MOST_AVERAGED / 2) + 1 } else { 1 };
    // Where nothing was before the window, its first samples tell where it began.
    let begins_here = is_noisy && start < BEFORE;
    let from = if begins_here { values[..averaged].iter().sum::<f64>() / averaged as f64 } else { from };
    let way = to - from;
    let mut sums = vec![0.0];
    sums.extend(values.iter().scan(0.0, |sum, value| {
        *sum += value;
        Some(*sum)
    }));
    let smooth: Vec<f64> = (0..values.len())
        .map(|k| {
            // As many at the ends as in the middle.
            let first = k.saturating_sub(averaged / 2).min(values.len().saturating_sub(averaged));
            let end = (first + averaged).min(values.len());
            if averaged == 1 { values[k] } else { (sums[end] - sums[first]) / (end - first) as f64 }
        })
        .collect();
    let share = |k: usize| (smooth[k] - from) / way;
    // What a single average is off by, and the highest of many.
    let off = noise / (averaged as f64).sqrt() / way.abs();
    let highest = (0..smooth.len()).map(share).fold(f64::NEG_INFINITY, f64::max) - 1.0;
    let settles_at = if 3.0 * off < 0.05 { settles(smooth.len(), 0.05, |k| share(k) - 1.0) } else { None };
    Some(StepMetrics {
        from,
        to,
        overshoot_percent: if highest > 4.5 * off { 100.0 * highest } else { 0.0 },
        rise_time: rises(smooth.len(), share).map(|rows| rows * scan),
        settling_time_5: settles_at.map(|rows| rows * scan),
        noise,
        averaged,
    })
}

fn outside(values: &[f64], question: &Question, scan: f64) -> Option<Outside> {
    if question.low.is_none() && question.high.is_none() {
        return None;
    }
    let beyond = |value: f64| -> f64 {
        let above = question.high.map_or(0.0, |high| value - high);
        let below = question.low.map_or(0.0, |low| low - value);
        above.max(below).max(0.0)
    };
    let (mut time, mut area) = (0.0, 0.0);
    for pair in values.windows(2) {
        let (a, b) = (beyond(pair[0]), beyond(pair[1]));
        // The part of the scan on the far side of the limit, the signal running straight.
        let share = match (a > 0.0, b > 0.0) {
            (true, true) => 1.0,
            (false, false) => 0.0,
            _ => a.max(b) / (pair[1] - pair[0]).abs(),
        };
        time += scan * share;
        area += scan * share * 0.5 * (a + b);
    }
    let is_out: Vec<bool> = values.iter().map(|value| beyond(*value) > 0.0).collect();
    let entered = is_out.windows(2).filter(|pair| !pair[0] && pair[1]).count();
    Some(Outside {
        time,
        area,
        violations: entered + usize::from(is_out[0]),
        worst: values.iter().map(|value| beyond(*value)).fold(0.0, f64::max),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::simulation::Column;

    fn trace(tag: &str, unit: &str, role: ColumnRole, value: impl Fn(f64) -> f64) -> Trace {
        let values = |f: &dyn Fn(f64) -> f64| (0..=1000).map(|k| f(f64::from(k) * 0.01)).collect();
        let column = |tag: &str, role, f: &dyn Fn(f64) -> f64| Column {
            tag: tag.to_owned(),
            unit: unit.to_owned(),
            role,
            of: None,
            values: values(f),
        };
        let columns = vec![column("SP", ColumnRole::SetPoint, &|_| 1.0), column(tag, role, &value)];
        Trace { scan: 0.01, columns, ..Trace::default() }
    }

    fn question(tag: &str) -> Question {
        Question { tag: tag.to_owned(), ..Question::default() }
    }

    #[test]
    fn a_lag_has_the_metrics_of_its_exponential() {
        // 1 − exp(−t/τ) with τ = 1 over 10 s: rise τ ln 9, settling τ ln 20, IAE τ, ISE τ/2, ITAE τ² (exact mathematics, the
        // tail beyond 10 s being below 5e-4).
        let trace = trace("PV", "m", ColumnRole::ProcessVariable, |t| 1.0 - (-t).exp());
        let found = measure(&trace, &question("PV")).unwrap();
        let step = found.step.unwrap();
        assert!((step.rise_time.unwrap() - 9f64.ln()).abs() < 1e-3 && step.overshoot_percent == 0.0);
        assert!((step.settling_time_5.unwrap() - 20f64.ln()).abs() < 0.011);
        assert!((found.integral_absolute_error.unwrap() - 1.0).abs() < 1e-4);
        assert!((found.integral_squared_error.unwrap() - 0.5).abs() < 1e-4);
        assert!((found.integral_time_absolute_error.unwrap() - 1.0).abs() < 1e-3);
        assert!((found.max_deviation.unwrap() + 1.0).abs() < 1e-12 && found.offset.unwrap().abs() < 1e-3);
    }

    #[test]
    fn a_sine_is_outside_its_limits_for_the_share_that_geometry_says() {
        // |sin| > 1/2 for a third of a turn on either side; the area above is 2(√3/2 − π/6) a half turn.
        let turn = std::f64::consts::TAU;
        let trace = trace("load", "kW", ColumnRole::Disturbance, |t| (turn * t / 5.0).sin());
        let limits = Question { low: Some(-0.5), high: Some(0.5), ..question("load") };
        let found = measure(&trace, &limits).unwrap();
        let outside = found.outside.unwrap();
        assert!((outside.time - 20.0 / 3.0).abs() < 1e-2 && outside.violations == 4);
        let half = 2.0 * (3f64.sqrt() / 2.0 - std::f64::consts::PI / 6.0);
        assert!((outside.area - 4.0 * half * 5.0 / turn).abs() < 1e-3 && (outside.worst - 0.5).abs() < 1e-4);
        assert!((found.standard_deviation - 0.5f64.sqrt()).abs() < 1e-4 && found.reversals == 4);
        assert!(found.used.is_some_and(|used| used.unit == "kWh" && used.amount.abs() < 1e-6));
        assert!((found.travel - 8.0).abs() < 1e-2);
    }

    #[test]
    fn noise_is_no_overshoot_and_no_step() {
        use rand::SeedableRng;
        use rand_distr::{Distribution, StandardNormal};
        for seed in 0..30 {
            let mut generator = rand_chacha::ChaCha8Rng::seed_from_u64(seed);
            let noise: Vec<f64> = (0..=1000).map(|_| StandardNormal.sample(&mut generator)).collect();
            let noisy = |response: &dyn Fn(f64) -> f64| {
                trace("PV", "m", ColumnRole::ProcessVariable, |t| {
                    response(t) + 0.05 * noise[((t / 0.01).round() as usize).min(1000)]
                })
            };
            // A lag of 1 s without overshoot, and with noise of a twentieth of the step: raw, it "overshoots" by some 15 %.
            let lag = measure(&noisy(&|t| if t < 1.0 { 0.0 } else { 1.0 - (1.0 - t).exp() }), &question("PV")).unwrap();
            let step = lag.step.unwrap();
            assert!(step.overshoot_percent < 3.0 && (step.noise - 0.05).abs() < 0.01, "{step:?}");
            assert!((step.rise_time.unwrap() - 9f64.ln()).abs() < 0.3, "{step:?}");
            // ζ = 0.5: 16.3 % (any control textbook); the highest of noisy means is off by two of their deviations.
            let root = 0.75f64.sqrt();
            let ringing = |t: f64| {
                let t = 2.0 * (t - 1.0);
                if t < 0.0 { 0.0 } else { 1.0 - (-0.5 * t).exp() * ((root * t).cos() + 0.5 / root * (root * t).sin()) }
            };
            let step = measure(&noisy(&ringing), &question("PV")).unwrap().step.unwrap();
            assert!((step.overshoot_percent - 16.3).abs() < 6.5, "{step:?}");
            // Nothing but noise about the set point of 1: no way, no figures.
            assert!(measure(&noisy(&|_| 1.0), &question("PV")).unwrap().step.is_none());
        }
    }

    #[test]
    fn windows_and_tags_are_checked() {
        let trace = trace("flow", "m³/h", ColumnRole::ProcessOutput, |t| if t < 5.0 { 3.6 } else { 7.2 });
        let late = measure(&trace, &Question { from: Some(6.0), to: Some(8.0), ..question("flow") }).unwrap();
        assert!((late.mean - 7.2).abs() < 1e-12 && (late.used.unwrap().amount - 0.004).abs() < 1e-12);
        assert!(measure(&trace, &question("flo")).unwrap_err().to_string().contains("there are SP, flow"));
        let empty = Question { from: Some(6.0), to: Some(6.0), ..question("flow") };
        assert!(measure(&trace, &empty).unwrap_err().to_string().starts_with("The end is 6 s"));
    }
}
