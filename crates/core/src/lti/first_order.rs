//! Exact response of a first-order lag with dead time to a recorded input, with its sensitivities.

use super::DeadTime;
use crate::series::TimeAxis;

/// The response at one sample.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct FirstOrderSample {
    /// `x`, the response of the lag with gain 1.
    pub value: f64,
    /// `∂x/∂τ`, per second.
    pub by_time_constant: f64,
    /// `∂x/∂θ`, per second.
    pub by_dead_time: f64,
}

/// Walks through `τ x' = u(t − θ) − x` along `axis` and hands each sample to `visit`.
///
/// The input holds each sample until the next one (zero-order hold) and held `input[0]` before the first; the lag
/// starts at rest, `x(0) = input[0]`. Between the instants at which the delayed input switches, the solution
/// `x(t + h) = u + (x(t) − u) exp(−h/τ)` is exact, so the dead time is not rounded to the sample. On a uniform axis
/// with dead time `(d + f)·Ts` it is
/// `x[k+1] = exp(−Ts/τ) x[k] + …` with `u[k−d−1]` acting for the first `f·Ts` and `u[k−d]` for the rest.
///
/// The sensitivity to the dead time is `−x'(t)`: a later input shifts the whole response.
/// `input` has one finite value a sample, `time_constant` > 0 in s.
pub fn first_order_response(
    axis: &TimeAxis,
    input: &[f64],
    time_constant: f64,
    dead_time: DeadTime,
    mut visit: impl FnMut(usize, FirstOrderSample),
) {
    let Some(&before) = input.first() else { return };
    let mut lag = Lag { value: before, by_time_constant: 0.0, rate: 1.0 / time_constant };
    match axis {
        TimeAxis::Uniform { interval, .. } => {
            let delay = dead_time.sampled(*interval);
            let early = Step::new(delay.remainder, time_constant);
            let late = Step::new(interval - delay.remainder, time_constant);
            let delayed = |k: usize, scans: usize| if k >= scans { input[k - scans] } else { before };
            for k in 0..input.len() {
                let (old, new) = (delayed(k, delay.scans + 1), delayed(k, delay.scans));
                visit(k, lag.sample(old));
                if delay.remainder > 0.0 {
                    lag.advance(old, &early);
                }
                lag.advance(new, &late);
            }
        }
        TimeAxis::Irregular(times) => {
            // `active` is the sample whose value has arrived; `switches` counts those that have.
            let (mut switches, mut active, theta) = (0, before, dead_time.seconds());
            let mut now = times[0];
            for k in 0..input.len() {
                while switches < times.len() && times[switches] + theta <= times[k] {
                    let at = times[switches] + theta;
                    lag.advance(active, &Step::new(at - now, time_constant));
                    (now, active) = (at, input[switches]);
                    switches += 1;
                }
                lag.advance(active, &Step::new(times[k] - now, time_constant));
                now = times[k];
                visit(k, lag.sample(active));
            }
        }
    }
}

/// The factors of an advance by one stretch of constant input.
struct Step {
    decay: f64,
    by_time_constant: f64,
}

impl Step {
    fn new(duration: f64, time_constant: f64) -> Self {
        let decay = (-duration / time_constant).exp();
        Self { decay, by_time_constant: decay * duration / (time_constant * time_constant) }
    }
}

struct Lag {
    value: f64,
    by_time_constant: f64,
    /// The inverse of the time constant.
    rate: f64,
}

impl Lag {
    #[inline]
    fn advance(&mut self, input: f64, step: &Step) {
        let gap = self.value - input;
        self.by_time_constant = step.decay * self.by_time_constant + gap * step.by_time_constant;
        self.value = input + gap * step.decay;
    }

    #[inline]
    fn sample(&self, delayed_input: f64) -> FirstOrderSample {
        FirstOrderSample {
            value: self.value,
            by_time_constant: self.by_time_constant,
            by_dead_time: (self.value - delayed_input) * self.rate,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn respond(axis: &TimeAxis, input: &[f64], tau: f64, theta: f64) -> Vec<FirstOrderSample> {
        let mut samples = Vec::new();
        first_order_response(axis, input, tau, DeadTime::new(theta).unwrap(), |_, sample| samples.push(sample));
        samples
    }

    #[test]
    fn zero_order_hold_recursion() {
        // y[k+1] = a y[k] + K (1 − a) u[k−d], a = exp(−Ts/τ): Ts = 1, τ = 5, K = 5 gives 0.8187 and 0.9063 (exact
        // mathematics; Åström & Wittenmark, Computer-Controlled Systems, ch. 2).
        let axis = TimeAxis::uniform(1.0, 12).unwrap();
        let mut input = vec![1.0; 12];
        input[0] = 0.0;
        let y: Vec<f64> = respond(&axis, &input, 5.0, 2.0).iter().map(|sample| 5.0 * sample.value).collect();
        assert_eq!(y[..4], [0.0; 4]);
        assert!((y[4] - 0.9063).abs() < 5e-5);
        assert!((y[5] - (0.8187 * 0.9063 + 0.9063)).abs() < 2e-4);
    }

    #[test]
    fn step_response_with_fractional_dead_time_is_analytic() {
        let axis = TimeAxis::uniform(0.5, 80).unwrap();
        let mut input = vec![2.0; 80];
        input[..4].fill(-1.0);
        for theta in [0.0, 0.2, 0.5, 1.185, 3.0] {
            for (k, sample) in respond(&axis, &input, 4.0, theta).iter().enumerate() {
                let since = axis.at(k) - 2.0 - theta;
                let expected = if since > 0.0 { 2.0 - 3.0 * (-since / 4.0).exp() } else { -1.0 };
                assert!((sample.value - expected).abs() < 1e-13, "θ = {theta}, k = {k}");
            }
        }
    }

    #[test]
    fn irregular_axis_agrees_with_uniform_one() {
        let times: Vec<f64> = (0..200).map(|k| 0.25 * f64::from(k)).collect();
        let input: Vec<f64> = (0..200).map(|k| f64::from(k * k % 17)).collect();
        let uniform = TimeAxis::uniform(0.25, 200).unwrap();
        for theta in [0.0, 0.1, 0.25, 3.3] {
            let pairs = respond(&uniform, &input, 2.0, theta).into_iter().zip(respond(
                &TimeAxis::Irregular(times.clone()),
                &input,
                2.0,
                theta,
            ));
            for (k, (a, b)) in pairs.enumerate() {
                assert!((a.value - b.value).abs() < 1e-11, "θ = {theta}, k = {k}: {a:?} {b:?}");
                assert!((a.by_time_constant - b.by_time_constant).abs() < 1e-11);
            }
        }
    }

    #[test]
    fn sensitivities_are_the_derivatives() {
        let axis = TimeAxis::uniform(1.0, 60).unwrap();
        let input: Vec<f64> = (0..60).map(|k| f64::from(k / 13 % 2)).collect();
        let (tau, theta, h) = (6.0, 2.4, 1e-6);
        let center = respond(&axis, &input, tau, theta);
        let difference = |a: Vec<FirstOrderSample>, b: Vec<FirstOrderSample>| -> Vec<f64> {
            a.iter().zip(b).map(|(a, b)| (a.value - b.value) / (2.0 * h)).collect()
        };
        let by_tau = difference(respond(&axis, &input, tau + h, theta), respond(&axis, &input, tau - h, theta));
        let by_theta = difference(respond(&axis, &input, tau, theta + h), respond(&axis, &input, tau, theta - h));
        for k in 0..60 {
            assert!((center[k].by_time_constant - by_tau[k]).abs() < 1e-8);
            assert!((center[k].by_dead_time - by_theta[k]).abs() < 1e-8);
        }
    }
}
