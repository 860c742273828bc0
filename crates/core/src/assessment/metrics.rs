//! Metrics of a trace: each is a function of the trace (and limits) alone.

use super::approach::{rises, settles};
use crate::controller::OutputLimits;
use crate::simulation::{ColumnRole, Trace};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// In which units metrics are.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct MetricUnits {
    /// The PV unit; empty in metrics that were kept before it was told.
    pub pv: String,
    /// The unit of the output.
    pub op: String,
    /// The unit of time.
    pub time: String,
}

impl Default for MetricUnits {
    fn default() -> Self {
        Self { pv: String::new(), op: "%".to_owned(), time: "s".to_owned() }
    }
}

/// What is measured on a trace. Times are in s from the event, sizes in PV units unless said otherwise.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Metrics {
    /// In which units all that follows is.
    #[serde(default)]
    pub units: MetricUnits,
    /// ∫|SP − PV| dt over the whole trace, PV units · s.
    pub integral_absolute_error: f64,
    /// ∫(SP − PV)² dt over the whole trace, PV units² · s.
    #[serde(default)]
    pub integral_squared_error: f64,
    /// ∫ t·|SP − PV| dt over the whole trace, PV units · s².
    #[serde(default)]
    pub integral_time_absolute_error: f64,
    /// Sum of all moves of the output (total variation), %.
    pub output_travel: f64,
    /// How often the output turned.
    #[serde(default)]
    pub output_reversals: usize,
    /// Time the output spent at one of its limits, s.
    pub saturated_time: f64,
    /// The response to each set point step, in order.
    pub set_point_responses: Vec<SetPointResponse>,
    /// The response to each load step, in order.
    pub load_responses: Vec<LoadResponse>,
    /// All load steps together; null without one.
    #[serde(default)]
    pub loads: Option<LoadTotals>,
}

/// How the loop rejects all load steps of a trace together.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct LoadTotals {
    /// Sum of ∫|SP − PV| dt over the responses, PV units · s.
    pub integral_absolute_error: f64,
    /// The largest |PV − SP| of all, PV units.
    pub max_deviation: f64,
    /// The longest recovery time, s; null when one of them was not made good.
    pub recovery_time: Option<f64>,
}

impl LoadTotals {
    fn of(responses: &[LoadResponse]) -> Option<Self> {
        if responses.is_empty() {
            return None;
        }
        Some(Self {
            integral_absolute_error: responses.iter().map(|response| response.integral_absolute_error).sum(),
            max_deviation: responses.iter().map(|response| response.max_deviation.abs()).fold(0.0, f64::max),
            recovery_time: responses
                .iter()
                .try_fold(0.0, |longest: f64, response| Some(longest.max(response.recovery_time?))),
        })
    }
}

/// How the loop follows a step of the set point: what it does because of the step, whatever else happens.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct SetPointResponse {
    /// When the set point moved, s from the start of the trace.
    pub at: f64,
    /// Size of the step, PV units.
    pub step: f64,
    /// ∫|SP − PV| dt, PV units · s.
    pub integral_absolute_error: f64,
    /// How far the PV went beyond the new set point, PV units; 0 when it never did.
    pub overshoot: f64,
    /// The same in % of the step.
    pub overshoot_percent: f64,
    /// When the PV was farthest beyond, s from the event; null without overshoot.
    pub overshoot_time: Option<f64>,
    /// From 10 % to 90 % of the step, s; null when 90 % was not reached.
    pub rise_time: Option<f64>,
    /// Until the PV stays within ±2 % of the step about the set point, s; null when it does not.
    pub settling_time_2: Option<f64>,
    /// Until the PV stays within ±5 % of the step about the set point, s; null when it does not.
    pub settling_time_5: Option<f64>,
}

/// How the loop rejects a step of the load: what it does because of the step, whatever else happens.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct LoadResponse {
    /// When the load came, s from the start of the trace.
    pub at: f64,
    /// Size of the load, in its unit.
    pub step: f64,
    /// What moved: `load` where the OP acts, else the name of an input.
    #[serde(default = "load_tag")]
    pub tag: String,
    /// Unit of the size: % of OP, or that of the input.
    #[serde(default = "load_unit")]
    pub unit: String,
    /// ∫|SP − PV| dt, PV units · s.
    pub integral_absolute_error: f64,
    /// PV − SP where it was farthest from 0, PV units, with sign.
    pub max_deviation: f64,
    /// When that was, s from the event.
    pub max_deviation_time: f64,
    /// Half the width of the band for the recovery time, PV units.
    pub recovery_band: f64,
    /// Until the PV stays within ±`recovery_band` about the set point, s; null when it does not.
    pub recovery_time: Option<f64>,
}

fn load_tag() -> String {
    "load".to_owned()
}

fn load_unit() -> String {
    "%".to_owned()
}

/// How far the PV is off after a step, row by row from the step on.
pub(super) struct Response {
    pub scan: f64,
    /// When the step came, s from the start of the trace.
    pub at: f64,
    /// PV − SP, the set point being that after the step.
    pub deviations: Vec<f64>,
}

/// Measures the trace; `recovery_band` in PV units is the half width of the band of the recovery time.
///
/// They are of the true value where it is known, as in a simulation, whatever the sensor shows: noise is no response.
///
/// Definitions are the standard ones (for example Seborg, Edgar & Mellichamp, Process Dynamics and Control, ch. 6 and
/// 12): rise time from 10 to 90 %, settling when the PV enters a band for the last time. Between rows the PV is
/// taken as a straight line and the set point as constant.
#[must_use]
pub fn metrics(trace: &Trace, recovery_band: f64) -> Metrics {
    metrics_from(trace, recovery_band, None)
}

/// The same where it is known what the set point was before the first row.
pub(super) fn metrics_from(trace: &Trace, recovery_band: f64, set_point_before: Option<f64>) -> Metrics {
    let set_point = trace.values(ColumnRole::SetPoint);
    let output = trace.values(ColumnRole::Output);
    let last = trace.len().saturating_sub(1);
    let set_point_steps = steps(set_point, set_point_before.or(set_point.first().copied()).unwrap_or(0.0));
    let loads = trace.columns.iter().filter_map(|column| {
        let before = match column.role {
            ColumnRole::Load => 0.0,
            ColumnRole::Disturbance => column.values.first().copied().unwrap_or(0.0),
            _ => return None,
        };
        Some(steps(&column.values, before).into_iter().map(move |(row, size)| (row, size, column)))
    });
    let mut load_steps: Vec<_> = loads.flatten().collect();
    load_steps.sort_by_key(|step| step.0);
    let mut starts: Vec<usize> =
        set_point_steps.iter().map(|step| step.0).chain(load_steps.iter().map(|step| step.0)).collect();
    starts.sort_unstable();
    let stretch = |start: usize| {
        let end = starts.iter().copied().find(|next| *next > start).unwrap_or(last);
        let deviations = trace.controlled()[start..=end].iter().map(|value| value - set_point[start]).collect();
        Response { scan: trace.scan, at: trace.time(start), deviations }
    };
    let errors = ErrorIntegrals::of(trace, trace.controlled(), 0, last);
    let load_responses: Vec<LoadResponse> = load_steps
        .iter()
        .map(|(k, size, column)| stretch(*k).to_load(*size, &column.tag, &column.unit, recovery_band))
        .collect();
    let pv_unit = trace.columns.iter().find(|column| column.role == ColumnRole::ProcessVariable);
    let pv = pv_unit.map_or_else(String::new, |column| column.unit.clone());
    Metrics {
        units: MetricUnits { pv, ..MetricUnits::default() },
        integral_absolute_error: errors.absolute,
        integral_squared_error: errors.squared,
        integral_time_absolute_error: errors.time_absolute,
        output_travel: travel(output),
        output_reversals: reversals(output),
        saturated_time: time_at_limits(output, trace),
        set_point_responses: set_point_steps.iter().map(|(k, size)| stretch(*k).to_set_point(*size)).collect(),
        loads: LoadTotals::of(&load_responses),
        load_responses,
    }
}

/// How long an output stands at a limit of the trace, s; the last row holds for no time.
pub(super) fn time_at_limits(output: &[f64], trace: &Trace) -> f64 {
    let OutputLimits { low, high } = trace.output_limits;
    let rows = output.len().saturating_sub(1);
    let at_limit = output.iter().take(rows).filter(|value| **value <= low || **value >= high).count();
    at_limit as f64 * trace.scan
}

/// The rows at which a signal steps, and by how much: it stood before and stands afterwards. `before` is its value before
/// the first row. What ramps, swings or walks has no steps.
fn steps(values: &[f64], before: f64) -> Vec<(usize, f64)> {
    let at = |k: usize| if k == 0 { before } else { values[k - 1] };
    let same = |a: f64, b: f64| (a - b).abs() <= 1e-12 * (1.0 + before.abs());
    (0..values.len())
        .filter(|k| !same(values[*k], at(*k)))
        .filter(|k| *k < 2 || same(values[*k - 1], values[*k - 2]))
        .filter(|k| values.get(k + 1).is_none_or(|next| same(*next, values[*k])))
        .map(|k| (k, values[k] - at(k)))
        .collect()
}

/// Sum of all moves.
pub(crate) fn travel(values: &[f64]) -> f64 {
    values.windows(2).map(|pair| (pair[1] - pair[0]).abs()).sum()
}

/// How often a signal turned.
pub(crate) fn reversals(values: &[f64]) -> usize {
    let mut direction = 0.0;
    let mut count = 0;
    for pair in values.windows(2) {
        let move_by = pair[1] - pair[0];
        if move_by != 0.0 {
            count += usize::from(direction * move_by < 0.0);
            direction = move_by;
        }
    }
    count
}

/// Integrals of the error between set point and PV.
pub(super) struct ErrorIntegrals {
    pub absolute: f64,
    pub squared: f64,
    pub time_absolute: f64,
}

impl ErrorIntegrals {
    /// Between two rows; the time of the third is counted from the first row.
    pub fn of(trace: &Trace, pv: &[f64], start: usize, end: usize) -> Self {
        let set_point = trace.values(ColumnRole::SetPoint);
        let mut sums = Self { absolute: absolute_error(trace, pv, start, end), squared: 0.0, time_absolute: 0.0 };
        for k in start..end {
            let (a, b) = (set_point[k] - pv[k], set_point[k] - pv[k + 1]);
            // Straight from a to b.
            sums.squared += trace.scan * (a * a + a * b + b * b) / 3.0;
            let time = trace.scan * ((k - start) as f64 + 0.5);
            sums.time_absolute += trace.scan * time * 0.5 * (a.abs() + b.abs());
        }
        sums
    }
}

/// ∫|SP − PV| dt between two rows, exact for a PV that runs straight between rows.
#[must_use]
pub fn integral_absolute_error(trace: &Trace, start: usize, end: usize) -> f64 {
    absolute_error(trace, trace.controlled(), start, end)
}

fn absolute_error(trace: &Trace, pv: &[f64], start: usize, end: usize) -> f64 {
    let set_point = trace.values(ColumnRole::SetPoint);
    (start..end)
        .map(|k| {
            let (a, b) = (set_point[k] - pv[k], set_point[k] - pv[k + 1]);
            straight_area(a, b) * trace.scan
        })
        .sum()
}

impl Metrics {
    /// Puts other responses in the place of those that were read off the columns.
    pub(super) fn take_responses(&mut self, set_points: Vec<SetPointResponse>, loads: Vec<LoadResponse>) {
        self.loads = LoadTotals::of(&loads);
        (self.set_point_responses, self.load_responses) = (set_points, loads);
    }
}

impl Response {
    fn seconds(&self, rows: f64) -> f64 {
        rows * self.scan
    }

    /// When the deviation enters ±`band` for the last time: s from the event; None when it ends outside.
    fn settles(&self, band: f64) -> Option<f64> {
        settles(self.deviations.len(), band, |k| self.deviations[k]).map(|rows| self.seconds(rows))
    }

    fn farthest(&self, measure: impl Fn(f64) -> f64) -> (usize, f64) {
        let sizes = self.deviations.iter().map(|deviation| measure(*deviation)).enumerate();
        sizes.fold((0, f64::MIN), |best, next| if next.1 > best.1 { next } else { best })
    }

    fn absolute_error(&self) -> f64 {
        self.deviations.windows(2).map(|pair| straight_area(pair[0], pair[1]) * self.scan).sum()
    }

    /// The response to a step of the set point by so much.
    pub(super) fn to_set_point(&self, step: f64) -> SetPointResponse {
        let (sign, size) = (step.signum(), step.abs());
        let (row, beyond) = self.farthest(|deviation| sign * deviation);
        let overshoot = beyond.max(0.0);
        let rise = rises(self.deviations.len(), |k| 1.0 + sign * self.deviations[k] / size);
        SetPointResponse {
            at: self.at,
            step,
            integral_absolute_error: self.absolute_error(),
            overshoot,
            overshoot_percent: 100.0 * overshoot / size,
            overshoot_time: (overshoot > 0.0).then(|| self.seconds(row as f64)),
            rise_time: rise.map(|rows| self.seconds(rows)),
            settling_time_2: self.settles(0.02 * size),
            settling_time_5: self.settles(0.05 * size),
        }
    }

    /// The response to a load of so much, in the unit of what moved.
    pub(super) fn to_load(&self, step: f64, tag: &str, unit: &str, recovery_band: f64) -> LoadResponse {
        let (row, _) = self.farthest(f64::abs);
        LoadResponse {
            at: self.at,
            step,
            tag: tag.to_owned(),
            unit: unit.to_owned(),
            integral_absolute_error: self.absolute_error(),
            max_deviation: self.deviations.get(row).copied().unwrap_or(0.0),
            max_deviation_time: self.seconds(row as f64),
            recovery_band,
            recovery_time: self.settles(recovery_band),
        }
    }
}

/// The area under the size of what runs straight from a to b, over a width of 1.
fn straight_area(a: f64, b: f64) -> f64 {
    if a * b >= 0.0 { 0.5 * (a + b).abs() } else { 0.5 * (a * a + b * b) / (a - b).abs() }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::simulation::Column;

    fn trace(
        scan: f64,
        rows: usize,
        pv: impl Fn(f64) -> f64,
        sp: impl Fn(f64) -> f64,
        load: impl Fn(f64) -> f64,
    ) -> Trace {
        let column = |role, f: &dyn Fn(f64) -> f64| Column {
            tag: String::new(),
            unit: String::new(),
            role,
            of: None,
            values: (0..rows).map(|k| f(k as f64 * scan)).collect(),
        };
        Trace {
            scan,
            output_limits: OutputLimits::default(),
            columns: vec![
                column(ColumnRole::SetPoint, &sp),
                column(ColumnRole::ProcessVariable, &pv),
                column(ColumnRole::Output, &|t| if t < 5.0 { 100.0 } else { 60.0 }),
                column(ColumnRole::Load, &load),
            ],
            ..Trace::default()
        }
    }

    #[test]
    fn second_order_step_response_has_the_textbook_metrics() {
        // ζ = 0.5, ωn = 1: overshoot exp(−πζ/√(1−ζ²)) = 16.3 % at π/(ωn√(1−ζ²)) = 3.628 s; any control textbook.
        let (zeta, omega): (f64, f64) = (0.5, (0.75f64).sqrt());
        let response = |t: f64| {
            let t = t - 1.0;
            if t <= 0.0 {
                return 0.0;
            }
            1.0 - (-zeta * t).exp() * ((omega * t).cos() + zeta / omega * (omega * t).sin())
        };
        let trace = trace(0.005, 6001, response, |t| if t > 0.9975 { 1.0 } else { 0.0 }, |_| 0.0);
        let result = &metrics(&trace, 0.1).set_point_responses[0];
        assert!((result.at - 1.0).abs() < 1e-9 && result.step == 1.0);
        assert!((result.overshoot_percent - 16.303_4).abs() < 1e-3, "{result:?}");
        assert!((result.overshoot_time.unwrap() - 3.627_6).abs() < 5e-3);
        // From SciPy (brentq on the same response): rise 1.638 s, 5 % settling 5.29 s, 2 % settling 8.08 s.
        let crossing =
            |level: f64, from: f64, to: f64| crate::numerics::bisect(from, to, |t| response(t + 1.0) - level);
        let rise = crossing(0.9, 1.0, 3.0) - crossing(0.1, 0.01, 1.5);
        assert!((result.rise_time.unwrap() - rise).abs() < 1e-4);
        assert!((result.settling_time_5.unwrap() - 5.29).abs() < 0.01, "{result:?}");
        assert!((result.settling_time_2.unwrap() - 8.08).abs() < 0.01, "{result:?}");
    }

    #[test]
    fn integral_of_the_absolute_error_of_an_exponential() {
        // ∫ exp(−t/τ) dt = τ.
        let trace = trace(0.01, 10_001, |t| 1.0 - (-t / 4.0).exp(), |_| 1.0, |_| 0.0);
        assert!((metrics(&trace, 0.1).integral_absolute_error - 4.0).abs() < 1e-5);
    }

    #[test]
    fn sign_change_within_a_scan_is_integrated_exactly() {
        let trace = trace(2.0, 2, |t| t - 0.5, |_| 0.0, |_| 0.0);
        assert!((integral_absolute_error(&trace, 0, 1) - (0.125 + 1.125)).abs() < 1e-12);
    }

    #[test]
    fn load_response_recovers_into_its_band() {
        let pv = |t: f64| if t < 10.0 { 50.0 } else { 50.0 - 4.0 * (-(t - 10.0) / 5.0).exp() };
        let trace = trace(0.1, 601, pv, |_| 50.0, |t| if t > 9.95 { -8.0 } else { 0.0 });
        let all = metrics(&trace, 0.5);
        let load = &all.load_responses[0];
        assert_eq!((load.step, all.set_point_responses.len()), (-8.0, 0));
        assert!((load.max_deviation + 4.0).abs() < 1e-9 && load.max_deviation_time.abs() < 1e-9);
        assert!((load.recovery_time.unwrap() - 5.0 * 8.0f64.ln()).abs() < 2e-3);
        assert!((all.saturated_time - 5.0).abs() < 0.11 && (all.output_travel - 40.0).abs() < 1e-12);
    }

    #[test]
    fn figures_are_of_the_true_value_and_noise_is_no_response() {
        // A first-order answer without any overshoot, and a sensor that shows ±0.4 beside it.
        let sp = |t: f64| if t > 0.5 { 1.0 } else { 0.0 };
        let truth = |t: f64| if t > 1.0 { 1.0 - (-(t - 1.0) / 5.0).exp() } else { 0.0 };
        let shown = |t: f64| truth(t) + 0.4 * (37.0 * t).sin();
        let mut noisy = trace(0.1, 800, shown, sp, |_| 0.0);
        let measured = metrics(&noisy, 0.1).set_point_responses[0].clone();
        let exact = trace(0.1, 800, truth, sp, |_| 0.0);
        noisy.columns.push(Column {
            tag: "true value".into(),
            unit: String::new(),
            role: ColumnRole::TrueValue,
            of: None,
            values: exact.controlled().to_vec(),
        });
        let (found, wanted) = (metrics(&noisy, 0.1), metrics(&exact, 0.1));
        assert!(measured.overshoot_percent > 30.0 && found.set_point_responses[0].overshoot_percent < 1e-9);
        assert_eq!(found.set_point_responses, wanted.set_point_responses);
        assert_eq!(found.integral_absolute_error, wanted.integral_absolute_error);
    }

    #[test]
    fn what_was_not_reached_is_not_given() {
        let trace = trace(1.0, 20, |t| 0.02 * t, |t| if t > 0.5 { 1.0 } else { 0.0 }, |_| 0.0);
        let result = &metrics(&trace, 0.1).set_point_responses[0];
        assert_eq!((result.rise_time, result.settling_time_5, result.overshoot_time), (None, None, None));
        assert_eq!(result.overshoot, 0.0);
    }

    #[test]
    fn several_loads_add_up_and_one_that_is_not_made_good_leaves_no_recovery_time() {
        let response = |integral_absolute_error, max_deviation, recovery_time| LoadResponse {
            at: 0.0,
            step: 1.0,
            tag: load_tag(),
            unit: load_unit(),
            integral_absolute_error,
            max_deviation,
            max_deviation_time: 1.0,
            recovery_band: 0.1,
            recovery_time,
        };
        let both = [response(3.0, -2.0, Some(5.0)), response(4.0, 1.0, Some(9.0))];
        let totals = LoadTotals { integral_absolute_error: 7.0, max_deviation: 2.0, recovery_time: Some(9.0) };
        assert_eq!(LoadTotals::of(&both), Some(totals));
        assert_eq!(LoadTotals::of(&[both[0].clone(), response(1.0, 1.0, None)]).unwrap().recovery_time, None);
        assert_eq!(LoadTotals::of(&[]), None);
    }
}
