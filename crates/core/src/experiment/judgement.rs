//! What the figures of a plan mean.

use super::{ExperimentPlan, ExperimentSpec, Proposed, SignalKind};
use crate::verdict::{Tone, Verdict, readable, readable_duration};

/// The plan judged, the gravest first.
pub(super) fn judge(spec: &ExperimentSpec, plan: &ExperimentPlan) -> Vec<Verdict> {
    let mut verdicts = Vec::new();
    let unit = &spec.pv_unit;
    let [low, high] = spec.pv_range;
    let bands = plan.times.iter().zip(plan.pv.iter().zip(&plan.pv_half_width));
    let outside = bands.clone().find(|(_, (pv, half))| *pv - *half < low || *pv + *half > high);
    let least = bands.clone().map(|(_, (pv, half))| pv - half).fold(f64::MAX, f64::min);
    let most = bands.map(|(_, (pv, half))| pv + half).fold(f64::MIN, f64::max);
    let reach = format!("{} to {} {unit}", readable(least), readable(most));
    let is_proposed = spec.proposed.contains(&Proposed::PvRange);
    match outside {
        Some((time, _)) if is_proposed => verdicts.push(Verdict::new(
            Tone::Caution,
            format!(
                "The PV leaves the proposed range of {} to {} {unit} at {}: expect {reach}. Type the range that is safe, or \
                 take a smaller amplitude.",
                readable(low),
                readable(high),
                readable_duration(*time)
            ),
            "expected PV with the uncertain gain and twice the noise; nobody has said yet what is safe",
        )),
        Some((time, _)) => verdicts.push(Verdict::new(
            Tone::Bad,
            format!(
                "The PV leaves its safe range of {} to {} {unit} at {}: expect {reach}. Take a smaller amplitude.",
                readable(low),
                readable(high),
                readable_duration(*time)
            ),
            "expected PV with the uncertain gain and twice the noise",
        )),
        None if is_proposed => verdicts.push(Verdict::new(
            Tone::Caution,
            format!(
                "Expect the PV at {reach}. Whether that is safe is not known: the range of {} to {} {unit} is only proposed. \
                 Type the safe range.",
                readable(low),
                readable(high)
            ),
            "nobody has said yet what is safe",
        )),
        None => verdicts.push(Verdict::new(
            Tone::Good,
            format!(
                "The PV stays within the range that is set as safe, {} to {} {unit}: expect {reach}.",
                readable(low),
                readable(high)
            ),
            "expected PV with the uncertain gain and twice the noise",
        )),
    }
    let swing = plan.pv.iter().map(|pv| (pv - spec.operating_point.pv).abs()).fold(0.0, f64::max);
    if swing < 4.0 * spec.noise {
        verdicts.push(Verdict::new(
            Tone::Bad,
            format!(
                "The PV moves by {} times the noise only: take at least {} %.",
                readable(swing / spec.noise),
                readable(4.0 * spec.noise / swing.max(1e-12) * plan.amplitude)
            ),
            "a move should lift the PV by at least 4 times the noise (common practice)",
        ));
    }
    let left = plan.pv.last().map_or(0.0, |pv| pv - spec.operating_point.pv);
    if spec.process.integrators() > 0 && left.abs() > 4.0 * spec.noise {
        verdicts.push(Verdict::new(
            Tone::Caution,
            format!(
                "The process integrates: at the end the PV stands {} {unit} from where it began, and does not come back by \
                 itself. A doublet brings it back.",
                readable(left)
            ),
            "the integral of the OP's moves is not 0",
        ));
    }
    let settling = spec.settling();
    let fewest = match spec.signal {
        SignalKind::Step => 1.5,
        SignalKind::Doublet { .. } | SignalKind::Staircase { .. } => 3.0,
        _ => 5.0,
    };
    if spec.duration < fewest * settling {
        verdicts.push(Verdict::new(
            Tone::Caution,
            format!(
                "{} are {} settling times of {}; this signal wants at least {}.",
                readable_duration(spec.duration),
                readable(spec.duration / settling),
                readable_duration(settling),
                readable(fewest)
            ),
            "length of several settling times, dead time + 4 time constants each (common practice)",
        ));
    }
    let too_fast: f64 = plan
        .spectrum_omegas
        .iter()
        .zip(&plan.spectrum)
        .filter(|(omega, _)| **omega > 10.0 * plan.corner_frequency)
        .map(|(_, share)| share)
        .sum();
    if too_fast > 30.0 {
        verdicts.push(Verdict::new(
            Tone::Caution,
            format!("{} % of the OP's power lies above ten times the corner frequency, where the PV hardly answers: switch less often.", readable(too_fast)),
            "power belongs around the corner frequency (common practice)",
        ));
    }
    let poorly: Vec<String> = plan
        .expected
        .iter()
        .filter(|expected| expected.standard_error.is_none_or(|error| error > 0.1 * expected.value.abs()))
        .map(|expected| match expected.standard_error {
            Some(error) => format!("{} ± {} {}", expected.name.replace('_', " "), readable(error), expected.unit),
            None => format!("{} not at all", expected.name.replace('_', " ")),
        })
        .collect();
    if spec.proposed.contains(&Proposed::Process) {
        verdicts.push(Verdict::new(
            Tone::Caution,
            "Amplitude, expected PV and errors are those of a placeholder process: type what is roughly known of the gain and \
             the times."
                .to_owned(),
            "no model of this loop is chosen, and none was typed",
        ));
    } else if poorly.is_empty() {
        let worst = plan
            .expected
            .iter()
            .filter_map(|e| Some(100.0 * e.standard_error? / e.value.abs().max(1e-12)))
            .fold(0.0, f64::max);
        verdicts.push(Verdict::new(
            Tone::Good,
            format!("A fit will know every parameter to {} % or better (standard error).", readable(worst)),
            "covariance of the least-squares fit at the rough values, white noise",
        ));
    } else {
        verdicts.push(Verdict::new(
            Tone::Caution,
            format!("Poorly known afterwards: {}. A larger or longer test tells more.", poorly.join(", ")),
            "expected standard error above a tenth of the value",
        ));
    }
    verdicts.sort_by_key(|verdict| match verdict.tone {
        Tone::Bad => 0,
        Tone::Caution => 1,
        Tone::Good => 2,
    });
    verdicts
}
