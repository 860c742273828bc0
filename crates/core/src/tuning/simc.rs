//! SIMC rules (Skogestad, J. Process Control 13, 2003, 291–309).

use crate::controller::{Action, PidSettings};
use crate::process::{HalfRule, LinearSpec};
use crate::units::Span;
use crate::{Error, Result, check};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The one choice that SIMC leaves to the engineer.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SimcChoice {
    /// Closed-loop time constant τc in s, above 0; null takes the dead time, the author's recommendation for tight
    /// control.
    pub closed_loop_time_constant: Option<f64>,
}

/// Settings and how they came about.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Tuning {
    /// The settings: ideal form, % of span.
    pub controller: PidSettings,
    /// The same to three significant digits, as one types them into a controller.
    pub to_type_in: PidSettings,
    /// The closed-loop time constant in force, s.
    pub closed_loop_time_constant: f64,
    /// The rule and its source.
    pub rule: String,
    /// The derivation, a step a line, with the numbers filled in.
    pub derivation: Vec<String>,
}

/// SIMC PI settings for a process.
///
/// First order plus dead time, equations 24 and 25: `Kc = τ / (K (τc + θ))`, `Ti = min(τ, 4 (τc + θ))`; integrating,
/// equations 26
/// and 27 for first order: `Kc = 1 / (k' (τc + θ))`, `Ti = 4 (τc + θ)`. `K` is in PV units per %; the gain is given
/// in % of OP per % of `pv_span`. A process of higher order is reduced by the [half rule](LinearSpec::half_rule)
/// first.
pub fn simc(process: &LinearSpec, pv_span: &Span, choice: &SimcChoice) -> Result<Tuning> {
    pv_span.validate("pv.span")?;
    let HalfRule { process, steps } = &process.half_rule()?;
    let theta = process.dead_time();
    let tau_c = match choice.closed_loop_time_constant {
        Some(value) => check::positive("closed_loop_time_constant", value, "s")?,
        None if theta > 0.0 => theta,
        None => {
            return Err(Error::invalid(
                "closed_loop_time_constant",
                "not given",
                "a number of seconds above 0: the model has no dead time to take it from",
            ));
        }
    };
    let unit = &pv_span.unit;
    let reach = 4.0 * (tau_c + theta);
    let ((gain_in_units, integral_time), derivation) = match process {
        LinearSpec::Fopdt { gain, time_constant, .. } => (
            pi_settings(gain / time_constant, Some(*time_constant), theta, tau_c),
            vec![
                format!("τc = {tau_c:.4} s, θ = {theta:.4} s, τ = {time_constant:.4} s, K = {gain:.4} {unit}/%"),
                format!("Kc = τ / (K (τc + θ)) = {:.4} %/{unit}", time_constant / (gain * (tau_c + theta))),
                format!("Ti = min(τ, 4 (τc + θ)) = min({time_constant:.4}, {reach:.4}) s"),
            ],
        ),
        LinearSpec::Integrating { gain, .. } => (
            pi_settings(*gain, None, theta, tau_c),
            vec![
                format!("τc = {tau_c:.4} s, θ = {theta:.4} s, k' = {gain:.4e} {unit}/(% s)"),
                format!("Kc = 1 / (k' (τc + θ)) = {:.4} %/{unit}", 1.0 / (gain * (tau_c + theta))),
                format!("Ti = 4 (τc + θ) = {reach:.4} s"),
            ],
        ),
        _ => return Err(Error::invalid("process.structure", "of higher order", "one that the half rule reduces")),
    };
    let per_span = gain_in_units * pv_span.width() / 100.0;
    let mut derivation: Vec<String> = steps.iter().cloned().chain(derivation).collect();
    derivation.push(format!(
        "in % of the PV span of {} {unit}: Kc = {:.4} %/% ({} acting)",
        pv_span.width(),
        per_span.abs(),
        if per_span < 0.0 { "direct" } else { "reverse" },
    ));
    let controller =
        PidSettings { action: Action::for_gain(process.gain()), ..PidSettings::pi(per_span.abs(), integral_time) };
    controller.validate()?;
    Ok(Tuning {
        to_type_in: controller.rounded(),
        controller,
        closed_loop_time_constant: tau_c,
        rule: "SIMC PI (Skogestad, J. Process Control 13, 2003)".to_owned(),
        derivation,
    })
}

/// Gain and integral time of SIMC for a process whose output rises by `slope` a second after a unit step (K/τ, or k'):
/// `Kc = 1/(slope (τc + θ))`, `Ti = min(τ, 4 (τc + θ))`, without τ where it integrates.
pub(super) fn pi_settings(slope: f64, time_constant: Option<f64>, dead_time: f64, tau_c: f64) -> (f64, f64) {
    let reach = 4.0 * (tau_c + dead_time);
    (1.0 / (slope * (tau_c + dead_time)), time_constant.map_or(reach, |tau| tau.min(reach)))
}

/// The closed-loop time constant in s for which SIMC gives these settings, if there is one.
///
/// Gain and integral time may differ by the rounding of [`PidSettings::rounded`].
#[must_use]
pub fn simc_choice_of(process: &LinearSpec, pv_span: &Span, settings: &PidSettings) -> Option<f64> {
    let gain_in_units = settings.gain * 100.0 / pv_span.width();
    let process = &process.half_rule().ok()?.process;
    let reach = match process {
        LinearSpec::Fopdt { gain, time_constant, .. } => time_constant / (gain.abs() * gain_in_units),
        LinearSpec::Integrating { gain, .. } => 1.0 / (gain.abs() * gain_in_units),
        _ => return None,
    };
    let time_constant = reach - process.dead_time();
    let choice = SimcChoice { closed_loop_time_constant: Some(time_constant) };
    let expected = simc(process, pv_span, &choice).ok()?.controller;
    let same = |a: f64, b: f64| (a / b - 1.0).abs() < 6e-3;
    let is_simc = settings.action == expected.action
        && settings.derivative_time == 0.0
        && same(settings.integral_time?, expected.integral_time?);
    is_simc.then_some(time_constant)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn pi(process: &LinearSpec, span: &Span, tau_c: Option<f64>) -> PidSettings {
        simc(process, span, &SimcChoice { closed_loop_time_constant: tau_c }).unwrap().controller
    }

    #[test]
    fn worked_example_of_the_paper() {
        // Skogestad 2003, example E1 by the half rule: k = 1, τ1 = 1.1, θ = 0.15 reduced from 1/((s+1)(0.2s+1)), here
        // with θ = 0.1, τ = 1.1, τc = θ: Kc = 1.1/0.2 = 5.5, Ti = min(1.1, 0.8) = 0.8 (table 3, row E1, from memory;
        // the arithmetic is the rule's own).
        let process = LinearSpec::Fopdt { gain: 1.0, time_constant: 1.1, dead_time: 0.1 };
        let settings = pi(&process, &Span::new(0.0, 100.0, "1"), None);
        assert!((settings.gain - 5.5).abs() < 1e-12 && (settings.integral_time.unwrap() - 0.8).abs() < 1e-12);
    }

    #[test]
    fn gain_is_in_percent_of_span_and_the_sign_in_the_action() {
        let process = LinearSpec::Fopdt { gain: -1.5, time_constant: 60.0, dead_time: 20.0 };
        let settings = pi(&process, &Span::new(0.0, 150.0, "°C"), Some(40.0));
        assert!((settings.gain - 60.0 / (1.5 * 60.0) * 1.5).abs() < 1e-12);
        assert_eq!((settings.integral_time, settings.action), (Some(60.0), Action::Direct));
    }

    #[test]
    fn the_choice_is_known_again_from_the_settings() {
        let span = Span::new(0.0, 150.0, "°C");
        let processes = [
            LinearSpec::Fopdt { gain: -0.85, time_constant: 96.15, dead_time: 33.98 },
            LinearSpec::Integrating { gain: 0.004, dead_time: 12.0 },
        ];
        for process in processes {
            let tuning = simc(&process, &span, &SimcChoice { closed_loop_time_constant: Some(27.0) }).unwrap();
            let exact = simc_choice_of(&process, &span, &tuning.controller).unwrap();
            let rounded = simc_choice_of(&process, &span, &tuning.to_type_in).unwrap();
            assert!((exact - 27.0).abs() < 1e-9 && (rounded - 27.0).abs() < 0.5);
            let other = PidSettings { integral_time: Some(20.0), ..tuning.controller };
            assert_eq!(simc_choice_of(&process, &span, &other), None);
        }
    }

    #[test]
    fn without_dead_time_the_choice_must_be_made() {
        let process = LinearSpec::Fopdt { gain: 1.0, time_constant: 10.0, dead_time: 0.0 };
        let span = Span::new(0.0, 100.0, "°C");
        let refused =
            |tau_c| simc(&process, &span, &SimcChoice { closed_loop_time_constant: tau_c }).unwrap_err().to_string();
        assert!(refused(None).contains("the model has no dead time"));
        assert_eq!(refused(Some(-2.0)), "The closed loop time constant is -2 s: it must be above 0.");
        assert_eq!(pi(&process, &span, Some(5.0)).integral_time, Some(10.0));
    }
}
