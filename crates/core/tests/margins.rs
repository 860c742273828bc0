//! Margins of random sampled loops against python-control.

#![allow(clippy::unwrap_used)]

use antistasis_core::assessment::sampled_margins;
use antistasis_core::controller::PidSettings;
use antistasis_core::process::LinearSpec;
use antistasis_core::units::Span;

/// Made by `reference/margins.py`.
const REFERENCE: &str = include_str!("../../../reference/data/margins.json");

#[test]
fn fifty_random_loops() {
    let cases: Vec<serde_json::Value> = serde_json::from_str(REFERENCE).unwrap();
    let span = Span::new(0.0, 100.0, "°C");
    assert_eq!(cases.len(), 50);
    for case in cases {
        let number = |name: &str| case[name].as_f64().unwrap();
        let process = LinearSpec::Fopdt {
            gain: number("gain"),
            time_constant: number("time_constant"),
            dead_time: number("dead_time"),
        };
        let pid = PidSettings {
            derivative_time: number("derivative_time"),
            ..PidSettings::pi(number("controller_gain"), number("integral_time"))
        };
        let margins = sampled_margins(&process, &span, &pid, number("scan")).unwrap();
        assert_eq!(margins.stable, case["stable"].as_bool().unwrap(), "{case}");
        if !margins.stable {
            continue;
        }
        let agrees = |name: &str, ours: Option<f64>| match case[name].as_f64() {
            Some(theirs) => {
                let ours = ours.unwrap_or(f64::NAN);
                assert!((ours / theirs - 1.0).abs() < 1e-4, "{name}: {ours} is not {theirs} in {case}");
            }
            None => assert_eq!(ours, None, "{name} in {case}"),
        };
        agrees("gain_margin", margins.gain_margin);
        agrees("phase_margin", margins.phase_margin);
        agrees("max_sensitivity", margins.max_sensitivity);
    }
}
