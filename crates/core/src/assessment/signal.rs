//! Metrics of any signal of a trace, over any window and against any limits.

use super::approach::{rises, settles};
use super::metrics::{ErrorIntegrals, reversals, travel};
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
    /// How far it went beyond, in % of the way.
    pub overshoot_percent: f64,
    /// From 10 to 90 % of the way, s; null where 90 % was not reached.
    pub rise_time: Option<f64>,
    /// Until it stays within ±5 % of the way about the final value, s from the beginning of the window; null when it does
    /// not.
    pub settling_time_5: Option<f64>,
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
        step: step(values, target, trace.scan),
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

fn step(values: &[f64], to: f64, scan: f64) -> Option<StepMetrics> {
    let from = values[0];
    let way = to - from;
    if way.abs() <= 1e-9 * (1.0 + from.abs()) {
        return None;
    }
    let share = |k: usize| (values[k] - from) / way;
    let highest = (0..values.len()).map(share).fold(f64::NEG_INFINITY, f64::max);
    Some(StepMetrics {
        from,
        to,
        overshoot_percent: 100.0 * (highest - 1.0).max(0.0),
        rise_time: rises(values.len(), share).map(|rows| rows * scan),
        settling_time_5: settles(values.len(), 0.05, |k| share(k) - 1.0).map(|rows| rows * scan),
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
    fn windows_and_tags_are_checked() {
        let trace = trace("flow", "m³/h", ColumnRole::ProcessOutput, |t| if t < 5.0 { 3.6 } else { 7.2 });
        let late = measure(&trace, &Question { from: Some(6.0), to: Some(8.0), ..question("flow") }).unwrap();
        assert!((late.mean - 7.2).abs() < 1e-12 && (late.used.unwrap().amount - 0.004).abs() < 1e-12);
        assert!(measure(&trace, &question("flo")).unwrap_err().to_string().contains("there are SP, flow"));
        let empty = Question { from: Some(6.0), to: Some(6.0), ..question("flow") };
        assert!(measure(&trace, &empty).unwrap_err().to_string().starts_with("The end is 6 s"));
    }
}
