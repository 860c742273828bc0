//! A simulated loop, judged in sentences.

use super::{Margins, Metrics};
use crate::simulation::Trial;
use crate::verdict::{Tone, Verdict, readable, readable_duration};

/// Above this maximum sensitivity a loop is usually held to be too little robust; 1.4 is a careful one
/// (Åström & Hägglund, Advanced PID Control, 2006, section 4.6: 1.2 to 2.0).
const USUAL_MAX_SENSITIVITY: f64 = 2.0;
/// Overshoot that is worth a remark, in % of the step (common practice).
const REMARKABLE_OVERSHOOT: f64 = 10.0;

/// What the margins and the metrics of a trial mean, the gravest first.
#[must_use]
pub fn judge(trial: &Trial, margins: Option<&Margins>, metrics: &Metrics) -> Vec<Verdict> {
    if margins.is_some_and(|margins| !margins.stable) {
        return vec![Verdict::new(
            Tone::Bad,
            "Unstable: the loop oscillates ever more, held only by the limits of the output. Lower the gain or raise the \
             integral time.",
            "Nyquist criterion on the sampled loop",
        )];
    }
    let mut verdicts: Vec<Verdict> = margins.map(robustness).into_iter().collect();
    verdicts.extend(metrics.set_point_responses.iter().filter_map(|response| {
        if response.settling_time_5.is_none() {
            Some(Verdict::new(
                Tone::Caution,
                "Does not settle within ±5 % of the set point step before the next event: give it more time, or shorten the \
                 integral time.",
                "settling time ±5 %",
            ))
        } else if response.overshoot_percent > REMARKABLE_OVERSHOOT {
            Some(Verdict::new(
                Tone::Caution,
                format!(
                    "Overshoots the set point by {} %: lower the set point weight, or lengthen the integral time.",
                    readable(response.overshoot_percent)
                ),
                "overshoot above 10 % of the step (common practice)",
            ))
        } else {
            None
        }
    }));
    verdicts.extend(metrics.load_responses.iter().map(|response| {
        let band = format!("±{} {}", readable(response.recovery_band), trial.plant.pv.span.unit);
        match response.recovery_time {
            Some(time) => Verdict::new(
                Tone::Good,
                format!(
                    "A load of {} % throws the PV off by {} {}; it is back within {band} after {}.",
                    readable(response.step),
                    readable(response.max_deviation),
                    trial.plant.pv.span.unit,
                    readable_duration(time)
                ),
                "recovery into a band about the set point",
            ),
            None => Verdict::new(
                Tone::Caution,
                format!("A load of {} % is not made good within {band} by the end.", readable(response.step)),
                "recovery into a band about the set point",
            ),
        }
    }));
    let saturated = metrics.saturated_time / trial.scenario.duration;
    if saturated > 0.0 {
        verdicts.push(Verdict::new(
            if saturated > 0.1 { Tone::Caution } else { Tone::Good },
            format!(
                "The output stands at a limit for {} ({} % of the run).",
                readable_duration(metrics.saturated_time),
                readable(100.0 * saturated)
            ),
            "more than a tenth of the time at a limit is worth a look (common practice)",
        ));
    }
    verdicts.sort_by_key(|verdict| match verdict.tone {
        Tone::Bad => 0,
        Tone::Caution => 1,
        Tone::Good => 2,
    });
    verdicts
}

fn robustness(margins: &Margins) -> Verdict {
    let mut limits = Vec::new();
    if let Some(factor) = margins.gain_margin {
        limits.push(format!("the process gain is {} times the model's", readable(factor)));
    }
    if let Some(delay) = margins.delay_margin {
        limits.push(format!("its dead time is {} longer", readable_duration(delay)));
    }
    let highest = margins.max_sensitivity.unwrap_or(f64::INFINITY);
    let sensitivity = readable(highest);
    let stays = if limits.is_empty() {
        "Stays stable at any gain.".to_owned()
    } else {
        format!("Stays stable until {}.", limits.join(" or "))
    };
    if highest > USUAL_MAX_SENSITIVITY {
        Verdict::new(
            Tone::Caution,
            format!("{stays} Maximum sensitivity {sensitivity} is above 2: little room for a wrong model."),
            "maximum sensitivity 1.2 to 2.0 (Åström & Hägglund 2006)",
        )
    } else {
        Verdict::new(
            Tone::Good,
            format!("{stays} Maximum sensitivity {sensitivity}."),
            "maximum sensitivity 1.2 to 2.0 (Åström & Hägglund 2006)",
        )
    }
}
