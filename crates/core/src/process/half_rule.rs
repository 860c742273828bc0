//! The half rule: a process of higher order as one of first order with more dead time.

use super::LinearSpec;
use crate::verdict::readable;
use crate::{Error, Result};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A process reduced to first order plus dead time, or to an integrator with dead time.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct HalfRule {
    /// The reduced process.
    pub process: LinearSpec,
    /// The steps with the numbers filled in; none where nothing was to be reduced.
    pub steps: Vec<String>,
}

impl LinearSpec {
    /// Skogestad's half rule (J. Process Control 13, 2003, section 2): half of the largest lag that is left out goes to
    /// the lag that is
    /// kept and half to the dead time, an inverse response goes to the dead time as a whole, and a lead is taken off a
    /// lag first (rules T1 to T3 there, with the dead time as the closed-loop time constant).
    ///
    /// Errors for an under-damped process, whose poles are not lags.
    pub fn half_rule(&self) -> Result<HalfRule> {
        self.validate()?;
        let seconds = |value: f64| format!("{} s", readable(value));
        match *self {
            Self::Fopdt { .. } | Self::Integrating { .. } => Ok(HalfRule { process: self.clone(), steps: Vec::new() }),
            Self::IntegratingLag { gain, time_constant, dead_time } => Ok(HalfRule {
                process: Self::Integrating { gain, dead_time: dead_time + 0.5 * time_constant },
                steps: vec![format!(
                    "half rule: θ = {} + {}/2 = {}; the integrator takes the other half",
                    seconds(dead_time),
                    seconds(time_constant),
                    seconds(dead_time + 0.5 * time_constant)
                )],
            }),
            Self::SecondOrder { damping, .. } if damping < 1.0 => Err(Error::unfit(
                format!("the process is under-damped (ζ = {}), its poles are not lags", readable(damping)),
                "match its step response by least squares instead",
            )),
            Self::SecondOrder { gain, time_constant, damping, dead_time } => {
                let root = (damping * damping - 1.0).sqrt();
                let lags = [time_constant * (damping + root), time_constant * (damping - root)];
                Ok(halved(gain, lags, dead_time, Vec::new()))
            }
            Self::TwoLags { gain, time_constant_1, time_constant_2, lead_time_constant: lead, dead_time } => {
                let (slow, fast) = (time_constant_1.max(time_constant_2), time_constant_1.min(time_constant_2));
                if lead == 0.0 {
                    return Ok(halved(gain, [slow, fast], dead_time, Vec::new()));
                }
                if lead < 0.0 {
                    let step = format!(
                        "inverse response: θ = {} + {} = {}",
                        seconds(dead_time),
                        seconds(-lead),
                        seconds(dead_time - lead)
                    );
                    return Ok(halved(gain, [slow, fast], dead_time - lead, vec![step]));
                }
                Ok(with_lead(gain, [slow, fast], lead, dead_time))
            }
        }
    }
}

/// A lead against the nearest lag that is not smaller, or against the slower lag where there is none.
fn with_lead(gain: f64, [slow, fast]: [f64; 2], lead: f64, dead_time: f64) -> HalfRule {
    let closed_loop = dead_time.max(f64::MIN_POSITIVE);
    let (lag, other) = if fast >= lead { (fast, slow) } else { (slow, fast) };
    let (factor, left, rule) = if lead >= lag {
        if lag >= closed_loop {
            (lead / lag, None, "T1")
        } else if lead >= closed_loop {
            (lead / closed_loop, None, "T1a")
        } else {
            (1.0, None, "T1b")
        }
    } else if lead >= 5.0 * closed_loop {
        (lead / lag, None, "T2")
    } else {
        let reach = lag.min(5.0 * closed_loop).max(lead);
        (reach / lag, Some(reach - lead), "T3")
    };
    let step = format!(
        "lead of {} s against the lag of {} s (rule {rule}): gain × {}{}",
        readable(lead),
        readable(lag),
        readable(factor),
        left.map_or(String::new(), |left| format!(", a lag of {} s is left", readable(left)))
    );
    match left.filter(|left| *left > 0.0) {
        Some(left) => halved(gain * factor, [other.max(left), other.min(left)], dead_time, vec![step]),
        None => HalfRule {
            process: LinearSpec::Fopdt { gain: gain * factor, time_constant: other, dead_time },
            steps: vec![step],
        },
    }
}

fn halved(gain: f64, [slow, fast]: [f64; 2], dead_time: f64, mut steps: Vec<String>) -> HalfRule {
    let (time_constant, longer) = (slow + 0.5 * fast, dead_time + 0.5 * fast);
    let half = |name: &str, value: f64, sum: f64| {
        format!("{name} = {} + {}/2 = {} s", readable(value), readable(fast), readable(sum))
    };
    steps.push(format!("half rule: {}, {}", half("τ", slow, time_constant), half("θ", dead_time, longer)));
    HalfRule { process: LinearSpec::Fopdt { gain, time_constant, dead_time: longer }, steps }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn reduced(spec: LinearSpec) -> (f64, f64, f64) {
        match spec.half_rule().unwrap().process {
            LinearSpec::Fopdt { gain, time_constant, dead_time } => (gain, time_constant, dead_time),
            LinearSpec::Integrating { gain, dead_time } => (gain, f64::INFINITY, dead_time),
            other => panic!("{other:?}"),
        }
    }

    #[test]
    fn worked_example_of_the_paper() {
        // Example E1: 1/((s + 1)(0.2 s + 1)) becomes τ = 1.1, θ = 0.1 (Skogestad 2003, table 3; from memory).
        let spec = LinearSpec::TwoLags {
            gain: 1.0,
            time_constant_1: 1.0,
            time_constant_2: 0.2,
            lead_time_constant: 0.0,
            dead_time: 0.0,
        };
        let (gain, tau, theta) = reduced(spec);
        assert!(gain == 1.0 && (tau - 1.1).abs() < 1e-12 && (theta - 0.1).abs() < 1e-12);
    }

    #[test]
    fn inverse_response_goes_to_the_dead_time_and_a_lead_comes_off_a_lag() {
        let lags = |lead| LinearSpec::TwoLags {
            gain: 2.0,
            time_constant_1: 10.0,
            time_constant_2: 4.0,
            lead_time_constant: lead,
            dead_time: 3.0,
        };
        assert_eq!(reduced(lags(-1.5)), (2.0, 12.0, 6.5));
        // T3: min(4, 15) − 3 = 1 is left of the lag of 4.
        assert_eq!(reduced(lags(3.0)), (2.0, 10.5, 3.5));
        assert_eq!(reduced(LinearSpec::IntegratingLag { gain: 0.1, time_constant: 6.0, dead_time: 1.0 }).2, 4.0);
        let ringing = LinearSpec::SecondOrder { gain: 1.0, time_constant: 3.0, damping: 0.4, dead_time: 1.0 };
        assert!(ringing.half_rule().unwrap_err().to_string().contains("under-damped (ζ = 0.4)"));
    }
}
