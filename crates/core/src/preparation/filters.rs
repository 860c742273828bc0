//! First-order lags along a time axis.

use crate::series::TimeAxis;

/// `τ x' = u − x`, exact for samples that hold; starts at the first value, passes missing samples over.
pub(super) fn lag(values: &mut [f64], axis: &TimeAxis, time_constant: f64) {
    let mut state: Option<(f64, f64)> = None;
    for (k, value) in values.iter_mut().enumerate() {
        step(&mut state, value, axis.at(k), time_constant);
    }
}

/// The same from the end to the start.
pub(super) fn lag_backward(values: &mut [f64], axis: &TimeAxis, time_constant: f64) {
    let mut state: Option<(f64, f64)> = None;
    for (k, value) in values.iter_mut().enumerate().rev() {
        step(&mut state, value, -axis.at(k), time_constant);
    }
}

fn step(state: &mut Option<(f64, f64)>, value: &mut f64, time: f64, time_constant: f64) {
    if !value.is_finite() {
        return;
    }
    *value = match *state {
        None => *value,
        Some((last, at)) => *value + (last - *value) * (-(time - at) / time_constant).exp(),
    };
    *state = Some((*value, time));
}
