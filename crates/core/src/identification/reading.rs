//! Gain, dead time and time constant read off a reaction curve by hand.

use super::data::{DataSet, held};
use super::recursive::noise_deviation;
use crate::verdict::readable;
use crate::{Error, Result};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The marks on a reaction curve.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Marks {
    /// When the OP moved, in s from the start of the record.
    pub start_of_move: f64,
    /// When the PV first reacted, in s.
    pub first_reaction: f64,
    /// When the PV has settled, in s: until there the curve is read.
    pub settled: f64,
    /// Final value of the PV, in its unit.
    pub final_value: f64,
}

/// One way of reading the curve.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct MethodReading {
    /// The method with its source.
    pub method: String,
    /// Dead time in s.
    pub dead_time: f64,
    /// Time constant in s.
    pub time_constant: f64,
}

/// What was read.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct HandReading {
    /// The marks that were read by.
    pub marks: Marks,
    /// PV before the move: its mean from the last move of the OP on.
    pub initial_value: f64,
    /// By how much the OP moved, in its unit.
    pub move_size: f64,
    /// Gain, PV units per unit of the OP.
    pub gain: f64,
    /// Unit of the gain.
    pub gain_unit: String,
    /// Time at which 28.3 % of the change is reached, in s of the record.
    pub at_28: f64,
    /// Time at which 63.2 % of the change is reached.
    pub at_63: f64,
    /// Ends of the tangent: where it leaves the initial and where it meets the final value.
    pub tangent: [[f64; 2]; 2],
    /// The readings.
    pub readings: Vec<MethodReading>,
}

/// Where the marks stand at first: at the largest move of the OP that is followed by rest, at the first sample beyond
/// three times the
/// noise, and at the mean of the last tenth before the OP moves again.
pub fn suggested_marks(data: &DataSet) -> Result<Marks> {
    data.validate(10)?;
    let op = held(&data.inputs[0].values);
    let pv = held(&data.output().values);
    let total = op.iter().copied().fold(f64::MIN, f64::max) - op.iter().copied().fold(f64::MAX, f64::min);
    let moves: Vec<usize> = (1..op.len()).filter(|k| (op[*k] - op[k - 1]).abs() > 0.02 * total).collect();
    let none =
        || Error::unfit("the OP makes no step that could be read", "record a step test, or fit the record instead");
    // Moves on neighbouring samples are one; each lasts to the next.
    let mut steps: Vec<(usize, usize)> = Vec::new();
    for (index, at) in moves.iter().enumerate() {
        let end = moves.get(index + 1).copied().unwrap_or(op.len());
        if end - at > 5 {
            steps.push((*at, end));
        }
    }
    let lift = |&(at, end): &(usize, usize)| (op[end - 1] - op[at - 1]).abs() * ((end - at) as f64).sqrt();
    let &(at, end) = steps.iter().max_by(|a, b| lift(a).total_cmp(&lift(b))).ok_or_else(none)?;
    let mean = |range: std::ops::Range<usize>| pv[range.clone()].iter().sum::<f64>() / range.len().max(1) as f64;
    let previous = moves.iter().rev().find(|k| **k < at).copied().unwrap_or(0);
    let initial = mean(previous + (at - previous) * 2 / 3..at);
    let final_value = mean(end - ((end - at) / 10).max(1)..end);
    let threshold = (3.0 * noise_deviation(&pv)).max(0.02 * (final_value - initial).abs());
    let reacts = (at..end).find(|k| (pv[*k] - initial) * (final_value - initial).signum() > threshold).unwrap_or(at);
    Ok(Marks {
        start_of_move: data.axis.at(at),
        first_reaction: data.axis.at(reacts),
        settled: data.axis.at(end - 1),
        final_value,
    })
}

/// Reads the curve by the marks: the two-point method (Smith 1972: times at 28.3 % and 63.2 % of the change), the
/// tangent at the steepest
/// point (Ziegler & Nichols 1942), and the first reaction with the time at 63.2 %.
///
/// Errors when the marks are out of order, the OP does not move between them, or the PV does not cross the two levels.
pub fn read_by_hand(data: &DataSet, marks: &Marks) -> Result<HandReading> {
    data.validate(10)?;
    let Marks { start_of_move, first_reaction, settled, final_value } = *marks;
    let (begin, end) = (data.axis.at(0), data.axis.at(data.axis.len() - 1));
    for (name, value, low) in [
        ("start_of_move", start_of_move, begin),
        ("first_reaction", first_reaction, start_of_move),
        ("settled", settled, first_reaction),
    ] {
        if !(low..=end).contains(&value) {
            return Err(Error::invalid(
                format!("marks.{name}"),
                format!("{value} s"),
                format!("{low} to {end} s, the marks in order"),
            ));
        }
    }
    let op = held(&data.inputs[0].values);
    let pv = held(&data.output().values);
    let first = data.axis.window(start_of_move, settled);
    // The OP stands at its new value one sample after the mark; before it, the last stretch of rest counts.
    let at = first.start;
    let tolerance = 1e-9 * (1.0 + op[at].abs());
    let moved_at =
        (at.saturating_sub(1)..(at + 2).min(op.len())).rev().find(|k| *k > 0 && (op[*k] - op[k - 1]).abs() > tolerance);
    let Some(moved_at) = moved_at else {
        return Err(Error::unfit(
            format!("the OP does not move at {} s", readable(start_of_move)),
            "draw the mark of the start to a step of the OP",
        ));
    };
    let before = op[moved_at - 1];
    let rest = (0..moved_at).rev().take_while(|k| (op[*k] - before).abs() <= tolerance).last().unwrap_or(0);
    // What the move before left has died down in the last third of the rest.
    let calm = rest + (moved_at - rest) * 2 / 3..moved_at;
    let initial_value = pv[calm.clone()].iter().sum::<f64>() / calm.len().max(1) as f64;
    let reached = op[first.clone()].iter().skip(1).copied().fold((0.0, 0usize), |(sum, n), value| (sum + value, n + 1));
    let move_size = reached.0 / reached.1.max(1) as f64 - before;
    let change = final_value - initial_value;
    if move_size.abs() < tolerance || change == 0.0 {
        return Err(Error::unfit(
            "OP or PV do not change between the marks",
            "draw the final value away from the initial one",
        ));
    }
    let window = data.axis.window(start_of_move, settled);
    let noise = noise_deviation(&pv);
    let half = if noise < 1e-3 * change.abs() { 1 } else { (window.len() / 60).clamp(1, 50) };
    let smooth: Vec<f64> = window.clone().map(|k| local_line(&pv, k, half).0).collect();
    let time = |k: usize| data.axis.at(window.start + k);
    let crossing = |share: f64| -> Result<f64> {
        let level = |k: usize| (smooth[k] - initial_value) / change - share;
        let k = (1..smooth.len()).find(|k| level(*k) >= 0.0).ok_or_else(|| {
            Error::unfit(
                format!("the PV does not reach {} % of its change before the curve ends", readable(100.0 * share)),
                "draw the final value to where the PV settles",
            )
        })?;
        let (a, b) = (level(k - 1), level(k));
        Ok(time(k - 1) + if b > a { (-a / (b - a)).clamp(0.0, 1.0) } else { 1.0 } * (time(k) - time(k - 1)))
    };
    let (at_28, at_63) = (crossing(0.283)?, crossing(0.632)?);
    let start = data.axis.at(moved_at);
    let two_point = 1.5 * (at_63 - at_28);
    let slope_at = |k: usize| local_line(&pv, k, half).1 * change.signum();
    // Only where the line has its full length: a short one follows the noise.
    let whole = window.start.max(half)..window.end.min(pv.len() - half);
    let steepest = whole.max_by(|a, b| slope_at(*a).total_cmp(&slope_at(*b))).unwrap_or(window.start);
    let (level, a_sample) = local_line(&pv, steepest, half);
    let slope = a_sample / data.axis.mean_interval();
    let leaves = data.axis.at(steepest) - (level - initial_value) / slope;
    let meets = leaves + change / slope;
    let reading = |method: &str, dead_time: f64, time_constant: f64| MethodReading {
        method: method.into(),
        dead_time: dead_time.max(0.0),
        time_constant,
    };
    Ok(HandReading {
        marks: *marks,
        initial_value,
        move_size,
        gain: change / move_size,
        gain_unit: format!("{}/{}", data.output().unit, data.inputs[0].unit),
        at_28,
        at_63,
        tangent: [[leaves, initial_value], [meets, final_value]],
        readings: vec![
            reading("two points, 28.3 % and 63.2 % (Smith 1972)", at_63 - two_point - start, two_point),
            reading("tangent at the steepest point (Ziegler & Nichols 1942)", leaves - start, meets - leaves),
            reading("first reaction and 63.2 % (common practice)", first_reaction - start, at_63 - first_reaction),
        ],
    })
}

/// Value and slope a sample of the straight line of least squares through `half` samples on either side, fewer at the
/// ends of the record.
fn local_line(values: &[f64], k: usize, half: usize) -> (f64, f64) {
    let reach = half.min(k).min(values.len() - 1 - k);
    let count = (2 * reach + 1) as f64;
    let (mut sum, mut cross, mut power) = (0.0, 0.0, 0.0);
    for (j, value) in values[k - reach..=k + reach].iter().enumerate() {
        let from = j as f64 - reach as f64;
        sum += value;
        cross += from * value;
        power += from * from;
    }
    (sum / count, if power > 0.0 { cross / power } else { 0.0 })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::identification::Series;
    use crate::series::TimeAxis;

    /// Gain 1.5, time constant 40 s, dead time 12 s; the OP steps by 4 % at 50 s.
    fn data() -> DataSet {
        let axis = TimeAxis::uniform(0.5, 900).unwrap();
        let op = (0..900).map(|k| if axis.at(k) < 50.0 { 40.0 } else { 44.0 }).collect();
        let since = |k: usize| axis.at(k) - 62.0;
        let pv = (0..900)
            .map(|k| 70.0 + if since(k) > 0.0 { 6.0 * (1.0 - (-since(k) / 40.0).exp()) } else { 0.0 })
            .collect();
        DataSet::single(axis, Series::new("OP", "%", op), Series::new("PV", "°C", pv))
    }

    #[test]
    fn a_first_order_curve_is_read_exactly_by_two_points() {
        let data = data();
        let marks = suggested_marks(&data).unwrap();
        assert!((marks.start_of_move - 50.0).abs() < 1e-9 && (62.0..64.0).contains(&marks.first_reaction), "{marks:?}");
        let reading = read_by_hand(&data, &Marks { final_value: 76.0, ..marks }).unwrap();
        assert!((reading.gain - 1.5).abs() < 1e-9 && (reading.initial_value - 70.0).abs() < 1e-9, "{reading:?}");
        // −ln(1 − 0.283) = 0.3327 and −ln(1 − 0.632) = 0.9997, so that 1.5 (t63 − t28) = 1.0005 τ (exact mathematics).
        let two = &reading.readings[0];
        assert!((two.time_constant / 40.0 - 1.0).abs() < 2e-3 && (two.dead_time - 12.0).abs() < 0.1, "{two:?}");
        // The tangent at the start of a first-order curve meets the final value one time constant later.
        let tangent = &reading.readings[1];
        assert!(
            (tangent.time_constant / 40.0 - 1.0).abs() < 0.03 && (tangent.dead_time - 12.0).abs() < 0.5,
            "{tangent:?}"
        );
        assert_eq!(reading.gain_unit, "°C/%");
    }

    #[test]
    fn noise_does_not_lead_the_tangent_astray() {
        use rand::SeedableRng;
        use rand_distr::{Distribution, StandardNormal};
        let mut generator = rand_chacha::ChaCha8Rng::seed_from_u64(1);
        let mut data = data();
        data.outputs[0].values.iter_mut().for_each(|value| {
            let deviate: f64 = StandardNormal.sample(&mut generator);
            *value += 0.1 * deviate;
        });
        let reading = read_by_hand(&data, &suggested_marks(&data).unwrap()).unwrap();
        for row in &reading.readings {
            assert!((row.dead_time - 12.0).abs() < 4.0 && (row.time_constant / 40.0 - 1.0).abs() < 0.12, "{row:?}");
        }
    }

    #[test]
    fn marks_out_of_place_are_named() {
        let data = data();
        let marks = suggested_marks(&data).unwrap();
        let refused = |marks: Marks| read_by_hand(&data, &marks).unwrap_err().to_string();
        assert!(refused(Marks { first_reaction: 10.0, ..marks }).starts_with("The first reaction is 10 s"));
        assert!(refused(Marks { start_of_move: 20.0, ..marks }).contains("does not move at 20 s"));
        assert!(refused(Marks { final_value: 90.0, ..marks }).contains("does not reach"));
    }
}
