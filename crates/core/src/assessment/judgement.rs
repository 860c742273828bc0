//! A simulated loop, judged in sentences.

use super::{FurtherLoop, LoadResponse, Margins, Metrics};
use crate::controller::ControllerSpec;
use crate::simulation::{Event, Trace, Trial};
use crate::verdict::{Tone, Verdict, readable, readable_duration};

/// Above this maximum sensitivity a loop is usually held to be too little robust; 1.4 is a careful one
/// (Åström & Hägglund, Advanced PID Control, 2006, section 4.6: 1.2 to 2.0).
const USUAL_MAX_SENSITIVITY: f64 = 2.0;
/// Overshoot that is worth a remark, in % of the step (common practice).
const REMARKABLE_OVERSHOOT: f64 = 10.0;

/// What the margins and the metrics of a trial mean, the gravest first.
#[must_use]
pub fn judge(
    trial: &Trial,
    trace: &Trace,
    margins: Option<&Margins>,
    metrics: &Metrics,
    further: &[FurtherLoop],
) -> Vec<Verdict> {
    let mut verdicts = happenings(trace);
    verdicts.extend(unheard(trial));
    verdicts.extend(of_further_loops(trial, margins, further));
    if margins.is_some_and(|margins| !margins.stable) {
        verdicts.extend(robustness_verdicts(margins, &trial.candidate.controller));
        return verdicts;
    }
    if trial.candidate.controller == ControllerSpec::Manual {
        // Nobody answers set point or load.
        return verdicts;
    }
    verdicts.extend(robustness_verdicts(margins, &trial.candidate.controller));
    verdicts.extend(scan_verdicts(&trial.candidate.controller, trial.scenario.scan));
    let integrates = has_integral_action(&trial.candidate.controller);
    let is_predictive = trial.candidate.controller.is_seat();
    verdicts.extend(metrics.set_point_responses.iter().filter_map(|response| {
        if response.settling_time_5.is_none() && !integrates {
            Some(Verdict::new(
                Tone::Caution,
                "Does not come to the set point within ±5 % of the step: without integral action an offset stays. Give it an \
                 integral time.",
                "a controller without integral action leaves an offset (exact)",
            ))
        } else if response.settling_time_5.is_none() && learns(&trial.candidate.controller) {
            Some(Verdict::new(
                Tone::Bad,
                "Does not settle within ±5 % of the set point step by the end: what the controller has learned does not hold this \
                 process. Look at what it learned (Signals), and whether the sign of the process and its dead time are those \
                 that it was told.",
                "an adaptive controller that was told a wrong sign or too short a dead time cannot come to rest",
            ))
        } else if response.settling_time_5.is_none() {
            Some(Verdict::new(
                Tone::Caution,
                format!(
                    "Does not settle within ±5 % of the set point step by the end: give it more time, or {}.",
                    if is_predictive {
                        "look ahead at which limit holds it, and whether another set point takes its part"
                    } else {
                        "shorten the integral time"
                    }
                ),
                "settling time ±5 %",
            ))
        } else if response.overshoot_percent > REMARKABLE_OVERSHOOT {
            Some(Verdict::new(
                Tone::Caution,
                format!(
                    "Overshoots the set point by {} %: {}.",
                    readable(response.overshoot_percent),
                    if is_predictive {
                        "the model may be too slow or its gain too low; let it be back later, or deviations be believed later"
                    } else {
                        "lower the set point weight, or lengthen the integral time"
                    }
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
                    "{} throws the PV off by {} {}; it is back within {band} after {}.",
                    moved(response),
                    readable(response.max_deviation),
                    trial.plant.pv.span.unit,
                    readable_duration(time)
                ),
                "recovery into a band about the set point",
            ),
            None if !integrates => Verdict::new(
                Tone::Caution,
                format!(
                    "{} leaves an offset outside {band}: a controller without integral action does not make it good.",
                    moved(response)
                ),
                "a controller without integral action leaves an offset (exact)",
            ),
            None => Verdict::new(
                Tone::Caution,
                format!("{} is not made good within {band} by the end.", moved(response)),
                "recovery into a band about the set point",
            ),
        }
    }));
    let saturated = metrics.saturated_time / trial.scenario.duration;
    if saturated > 0.0 {
        verdicts.push(Verdict::new(
            match saturated {
                share if share > 0.5 => Tone::Bad,
                share if share > 0.1 => Tone::Caution,
                _ => Tone::Good,
            },
            format!(
                "The output stands at a limit for {} ({} % of the run).",
                readable_duration(metrics.saturated_time),
                readable(100.0 * saturated)
            ),
            "more than a tenth of the time at a limit is worth a look, more than half is no control (common practice)",
        ));
    }
    verdicts.sort_by_key(|verdict| match verdict.tone {
        Tone::Bad => 0,
        Tone::Caution => 1,
        Tone::Good => 2,
    });
    verdicts
}

/// What is to be said of a trial with several loops: whether they hold together, and which of them bears the least.
fn of_further_loops(trial: &Trial, margins: Option<&Margins>, further: &[FurtherLoop]) -> Vec<Verdict> {
    if further.is_empty() {
        return Vec::new();
    }
    const RULE: &str = "the margins of each loop with the others closed";
    let automatic = |controller: &ControllerSpec| *controller != ControllerSpec::Manual;
    let all_automatic = trial.candidate.further.iter().all(|wired| automatic(&wired.controller));
    let own = (trial.plant.loop_tag(), margins);
    let of_each = std::iter::once(own).chain(further.iter().map(|one| (one.name.as_str(), one.margins.as_ref())));
    let is_predictive = trial.candidate.controller.is_seat();
    if automatic(&trial.candidate.controller) && all_automatic && margins.is_none() && !is_predictive {
        let text = "No margins can be told: the other loops are not stable without this one, or something is not linear or runs away \
                    by itself. Look whether the pairing is the right one (Interaction).";
        return vec![Verdict::new(Tone::Caution, text, RULE)];
    }
    let weakest = of_each
        .filter_map(|(name, margins)| Some((name, margins?.max_sensitivity?)))
        .max_by(|a, b| a.1.total_cmp(&b.1));
    weakest
        .filter(|(name, sensitivity)| *name != own.0 && *sensitivity > USUAL_MAX_SENSITIVITY)
        .map(|(name, sensitivity)| {
            let text =
                format!("{name} is the least robust loop: with the others closed its Ms is {}.", readable(sensitivity));
            Verdict::new(Tone::Caution, text, RULE)
        })
        .into_iter()
        .collect()
}

/// Settings that are quicker than the scan lets them be.
#[must_use]
pub fn scan_verdicts(controller: &ControllerSpec, scan: f64) -> Vec<Verdict> {
    /// Scans that an integral time should span at least.
    const SCANS: f64 = 4.0;
    if let Some(settings) = controller.predictive() {
        return super::horizons::horizon_verdicts(settings, scan);
    }
    let Some(pid) = controller.main_pid() else { return Vec::new() };
    let mut verdicts = Vec::new();
    if let Some(integral) = pid.integral_time.filter(|time| *time < SCANS * scan) {
        verdicts.push(Verdict::new(
            Tone::Caution,
            format!(
                "The integral time of {} is shorter than {SCANS} scans of {}: the output moves by jumps from scan to scan. Scan \
                 faster, or be content with a slower loop.",
                readable_duration(integral),
                readable_duration(scan)
            ),
            "an integral time of four scans and more (common practice)",
        ));
    }
    if pid.derivative_time > 0.0 && pid.derivative_time < scan {
        verdicts.push(Verdict::new(
            Tone::Caution,
            format!(
                "The derivative time of {} is shorter than a scan of {}: it acts on the noise of one scan only. Leave it out.",
                readable_duration(pid.derivative_time),
                readable_duration(scan)
            ),
            "a derivative time of a scan and more (common practice)",
        ));
    }
    verdicts
}

/// Whether a controller finds its settings while it runs.
fn learns(controller: &ControllerSpec) -> bool {
    matches!(controller, ControllerSpec::ModelReference(_) | ControllerSpec::SelfTuning(_))
}

/// Whether a load is made good at all; an adaptive controller is taken to.
fn has_integral_action(controller: &ControllerSpec) -> bool {
    controller.main_pid().is_none_or(|pid| pid.integral_time.is_some())
}

/// What margins alone mean of a controller; nothing of none.
#[must_use]
pub fn robustness_verdicts(margins: Option<&Margins>, controller: &ControllerSpec) -> Vec<Verdict> {
    margins
        .map(|margins| {
            if margins.stable {
                let mut verdict = robustness(margins);
                if let (true, Some(rest)) = (controller.is_seat(), verdict.text.strip_prefix("Stays stable")) {
                    verdict.text = format!("While it feels no limit it stays stable{rest}");
                }
                return verdict;
            }
            if controller.is_seat() {
                return Verdict::new(
                    Tone::Bad,
                    "Unstable, but for its limits: the plant is too far from the model. Make its moves calmer, let the CV be back \
                     later, or mend the model.",
                    "Nyquist criterion on what the controller does while it feels no limit, with the plant as it is",
                );
            }
            if let Some(factor) = margins.needs_gain {
                let text = format!(
                    "Unstable: the plant runs away by itself, and the gain is too low to hold it. About {} times as much does.",
                    readable(factor)
                );
                return Verdict::new(Tone::Bad, text, "Nyquist criterion on the sampled loop, for rising gains");
            }
            Verdict::new(
                Tone::Bad,
                "Unstable: the loop oscillates ever more, held only by the limits of the output. Lower the gain or raise the \
                 integral time.",
                "Nyquist criterion on the sampled loop",
            )
        })
        .into_iter()
        .collect()
}

/// What of the scenario has no effect: events after its end, and channels that end before it.
fn unheard(trial: &Trial) -> Vec<Verdict> {
    let duration = trial.scenario.duration;
    let told = |event: &Event| match event {
        _ if event.at() > duration => Some(Verdict::new(
            Tone::Caution,
            format!(
                "The {} at {} lies after the end at {}: it does not happen.",
                event.title(),
                readable_duration(event.at()),
                readable_duration(duration)
            ),
            "events after the end of a scenario are kept and do nothing",
        )),
        Event::LoadChannel { at, tag, interval, values, .. } => {
            let end = at + interval * values.len().saturating_sub(1) as f64;
            (end < duration - interval).then(|| {
                Verdict::new(
                    Tone::Caution,
                    format!(
                        "{tag} ends at {} of {}: its last value is held from there on.",
                        readable_duration(end),
                        readable_duration(duration)
                    ),
                    "a channel that ends holds its last value",
                )
            })
        }
        _ => None,
    };
    trial.scenario.events.iter().filter_map(told).collect()
}

/// What stopped the trial, and what happened besides: the first time of each, and how often.
fn happenings(trace: &Trace) -> Vec<Verdict> {
    let mut verdicts: Vec<Verdict> = trace
        .stopped
        .iter()
        .map(|stop| {
            let text = format!("Stopped at {}: {}.", readable_duration(stop.at), stop.text);
            Verdict::new(Tone::Bad, text, "a trial ends where its process cannot go on")
        })
        .collect();
    let mut seen: Vec<(&str, f64, usize)> = Vec::new();
    for happening in &trace.happenings {
        match seen.iter_mut().find(|known| known.0 == happening.text) {
            Some(known) => known.2 += 1,
            None => seen.push((&happening.text, happening.at, 1)),
        }
    }
    verdicts.extend(seen.into_iter().map(|(text, at, times)| {
        let often = if times > 1 { format!(", {times} times in all") } else { String::new() };
        let mut sentence = format!("{text} at {}{often}.", readable_duration(at));
        if let Some(first) = sentence.get(..1).map(str::to_uppercase) {
            sentence.replace_range(..1, &first);
        }
        Verdict::new(Tone::Caution, sentence, "a tank holds nothing below its bottom nor above its rim")
    }));
    verdicts
}

/// What moved and by how much.
fn moved(response: &LoadResponse) -> String {
    let (size, unit) = (readable(response.step), &response.unit);
    if response.tag == "load" {
        format!("A load of {size} {unit}")
    } else {
        format!("{} by {size} {unit}", response.tag.replace('_', " "))
    }
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
    let stays = match margins.lower_gain_margin {
        Some(factor) => format!("{stays} It needs at least {} times the model's gain to be held.", readable(factor)),
        None => stays,
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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::assessment::assess;
    use crate::process::ProcessSpec;
    use crate::simulation::Plant;
    use crate::tuning::{SimcChoice, first_trial_on};

    #[test]
    fn what_does_not_happen_is_said() {
        let plant = Plant::usual(ProcessSpec::library("stirred_heater", &[]), "T").unwrap();
        let (mut trial, _) = first_trial_on(&plant, &SimcChoice::default()).unwrap();
        let duration = trial.scenario.duration;
        trial.scenario.events = vec![
            Event::LoadStep { at: 2.0 * duration, by: 1.0, input: None },
            Event::LoadChannel {
                at: 0.0,
                tag: "TI-1.PV".into(),
                interval: 0.1 * duration,
                values: vec![0.0; 4],
                unit: None,
                input: None,
            },
        ];
        let texts: Vec<String> =
            assess(&trial, &trial.run().unwrap()).unwrap().verdicts.into_iter().map(|verdict| verdict.text).collect();
        assert!(
            texts.iter().any(|text| text.starts_with("The load step at") && text.contains("does not happen")),
            "{texts:?}"
        );
        assert!(texts.iter().any(|text| text.starts_with("TI-1.PV ends at") && text.contains("held")), "{texts:?}");
    }

    #[test]
    fn settings_quicker_than_the_scan_are_told() {
        let plant = Plant::usual(ProcessSpec::library("stirred_heater", &[]), "T").unwrap();
        let (trial, _) = first_trial_on(&plant, &SimcChoice::default()).unwrap();
        let scan = trial.scenario.scan;
        let texts = |integral: f64, derivative: f64| -> Vec<String> {
            let mut quick = trial.clone();
            let ControllerSpec::Pid(pid) = &mut quick.candidate.controller else { unreachable!() };
            (pid.integral_time, pid.derivative_time) = (Some(integral), derivative);
            scan_verdicts(&quick.candidate.controller, scan).into_iter().map(|verdict| verdict.text).collect()
        };
        assert!(texts(4.0 * scan, scan).is_empty());
        let told = texts(0.4 * scan, 0.5 * scan);
        assert!(told[0].contains("shorter than 4 scans") && told[1].contains("shorter than a scan"), "{told:?}");
    }

    #[test]
    fn a_loop_that_runs_away_is_stopped_and_named() {
        let plant = Plant::usual(ProcessSpec::library("stirred_heater", &[]), "T").unwrap();
        let (trial, _) = first_trial_on(&plant, &SimcChoice::default()).unwrap();
        let mut wild = trial.with_number("/candidate/controller/gain", 900.0).unwrap();
        wild.plant = Plant {
            process: ProcessSpec::Linear(crate::process::LinearSpec::Integrating { gain: 1.0, dead_time: 30.0 }),
            drive: None,
            measured: None,
            inputs: Default::default(),
            ..wild.plant
        };
        let ControllerSpec::Pid(pid) = &mut wild.candidate.controller else { unreachable!() };
        (pid.output_limits.low, pid.output_limits.high) = (-1000.0, 1000.0);
        let trace = wild.run().unwrap();
        let stopped = trace.stopped.clone().unwrap();
        assert!(stopped.text.contains("spans off") && stopped.at < wild.scenario.duration, "{stopped:?}");
        let verdicts = assess(&wild, &trace).unwrap().verdicts;
        assert!(verdicts.iter().any(|verdict| verdict.text.contains("spans off")), "{verdicts:?}");
    }
}
