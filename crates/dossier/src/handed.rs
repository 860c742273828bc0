//! The parts for the hand that types: in short, settings, operating instructions, warnings.

use crate::chart::{Curve, Panel, Style, over_time};
use crate::document::{Block, Fact};
use crate::settings::sheets;
use crate::sources::Sources;
use crate::spec::DossierSpec;
use crate::stale::stale;
use antistasis_core::controller::ControllerSpec;
use antistasis_core::simulation::{ColumnRole, Trace, TypedIn, letter};
use antistasis_core::verdict::{readable, readable_duration};
use antistasis_core::{Tone, Verdict};

/// Under how many disturbances the instructions say what was proven.
const SAID_OF_A_PROOF: usize = 4;

/// What it is for, what was chosen and why, and how that does.
pub(crate) fn summary(sources: &Sources, spec: &DossierSpec, trace: &Trace) -> Vec<Block> {
    let trial = &sources.trial;
    let name = letter(trial.number);
    let mut blocks = Vec::new();
    if !spec.purpose.trim().is_empty() {
        blocks.push(Block::text(spec.purpose.trim()));
    }
    let from = format!("trial {name}");
    let mut rows = vec![
        Fact::new("Handed over", format!("{name}: {}", trial.label), "trail"),
        Fact::new("Controlled", signal(&sources.pv), "loop"),
        Fact::new("Manipulated", signal(&sources.op), "loop"),
    ];
    if let Some(model) = &sources.model {
        rows.push(Fact::new(
            "Model",
            format!("{} {}", letter(model.number), model.name).trim().to_owned(),
            from.clone(),
        ));
    }
    let unit = &sources.trial.trial.plant.pv.span.unit;
    let metrics = &trial.assessment.metrics;
    if let Some(loads) = &metrics.loads {
        rows.push(Fact::new(
            "Largest deviation under its loads",
            format!("{} {unit}", readable(loads.max_deviation)),
            from.clone(),
        ));
        let back = loads.recovery_time.map_or("not within the trial".to_owned(), readable_duration);
        rows.push(Fact::new("Longest time back", back, from.clone()));
    }
    rows.push(Fact::new("OP travel", format!("{} %", readable(metrics.output_travel)), from.clone()));
    if let Some(margins) = &trial.assessment.margins {
        rows.extend(margins_of(margins, &from));
    }
    if !spec.reason.trim().is_empty() {
        blocks.push(Block::text(format!("Why this candidate: {}", spec.reason.trim())));
    }
    if let Some(proof) = &sources.proof
        && let Some(place) = proof.place_of(trial)
    {
        let own = proof.result.verdicts.iter().filter(|one| one.candidate == Some(place));
        blocks.extend(own.map(|one| Block::verdict(&one.verdict)));
    }
    blocks.push(strip(trace, unit, &name));
    blocks.push(Block::Facts { rows });
    blocks
}

fn signal(signal: &antistasis_core::simulation::Signal) -> String {
    let span = &signal.span;
    format!("{}, {} to {} {}", signal.tag, readable(span.low), readable(span.high), span.unit)
}

fn margins_of(margins: &antistasis_core::assessment::Margins, from: &str) -> Vec<Fact> {
    let mut rows = Vec::new();
    if let Some(gain) = margins.gain_margin {
        rows.push(Fact::new("Gain margin", readable(gain), from));
    }
    if let Some(phase) = margins.phase_margin {
        rows.push(Fact::new("Phase margin", format!("{}°", readable(phase)), from));
    }
    if let Some(delay) = margins.delay_margin {
        rows.push(Fact::new("Dead time that may be added", readable_duration(delay), from));
    }
    if let Some(sensitivity) = margins.max_sensitivity {
        rows.push(Fact::new("Largest sensitivity Ms", readable(sensitivity), from));
    }
    rows
}

/// PV with set point, and OP, of a trial.
fn strip(trace: &Trace, unit: &str, name: &str) -> Block {
    let times: Vec<f64> = (0..trace.len()).map(|k| trace.time(k)).collect();
    let curve = |name: &str, role: ColumnRole, style: Style| Curve {
        name: name.to_owned(),
        times: &times,
        values: trace.values(role),
        style,
        holds: role != ColumnRole::ProcessVariable,
    };
    let panels = [
        Panel {
            title: format!("PV, {unit}"),
            curves: vec![
                curve("PV", ColumnRole::ProcessVariable, Style::Plain),
                curve("set point", ColumnRole::SetPoint, Style::Reference),
            ],
        },
        Panel { title: "OP, %".to_owned(), curves: vec![curve("OP", ColumnRole::Output, Style::Plain)] },
    ];
    Block::Chart {
        caption: format!("Trial {name}, simulated: PV with its set point, and OP."),
        description: format!(
            "The PV begins at {} {unit}; the trial lasts {}.",
            trace.values(ColumnRole::ProcessVariable).first().map_or("no value".to_owned(), |first| readable(*first)),
            readable_duration(times.last().copied().unwrap_or(0.0))
        ),
        drawing: over_time(&panels, None),
    }
}

/// The settings of every controller.
pub(crate) fn settings(sources: &Sources, spec: &DossierSpec, typed: &TypedIn) -> Vec<Block> {
    let mut blocks = sheets(typed, spec.digits, &letter(sources.trial.number));
    let scan = sources.trial.trial.scenario.scan;
    blocks.push(Block::text(format!(
        "The controller is called every {} s. Another scan is another loop: prove it anew.",
        readable(scan)
    )));
    blocks
}

/// Operating instructions, as they were written.
pub(crate) fn instructions(spec: &DossierSpec) -> Vec<Block> {
    let items: Vec<String> =
        spec.instructions.iter().map(|text| text.trim().to_owned()).filter(|text| !text.is_empty()).collect();
    if items.is_empty() { vec![Block::text("None were written.")] } else { vec![Block::List { items }] }
}

/// Operating instructions to begin with, from what is known of the loop.
#[must_use]
pub fn proposed_instructions(sources: &Sources) -> Vec<String> {
    let trial = &sources.trial;
    let (tag, unit) = (&sources.tag, &trial.trial.plant.pv.span.unit);
    let mut all =
        vec![format!("To put {tag} in automatic, bring the set point to the PV first, so that the OP does not jump.")];
    if let ControllerSpec::Pid(pid) = &trial.trial.candidate.controller {
        let limits = pid.output_limits;
        all.push(format!(
            "The OP works between {} and {} %: while it stands at an end, the PV is not held.",
            readable(limits.low),
            readable(limits.high)
        ));
        if let Some(forward) = &pid.feed_forward {
            all.push(format!(
                "The controller reads {}: switch the feed-forward off when its transmitter fails.",
                forward.signal
            ));
        }
    }
    if let Some(proof) = &sources.proof
        && let Some(place) = proof.place_of(trial)
    {
        let worst = proof.result.rows.iter().zip(&proof.result.cells).filter_map(|(row, cells)| {
            let limited =
                row.criteria.iter().zip(&cells[place].figures).find(|(told, _)| told.criterion.most.is_some());
            let (told, figure) = limited?;
            Some(format!("{} {} {} under “{}”", told.title, readable(figure.worst?), told.unit, row.name))
        });
        let worst: Vec<String> = worst.take(SAID_OF_A_PROOF).collect();
        if !worst.is_empty() {
            all.push(format!("Look for the cause when it is more than was proven: {}.", worst.join(", ")));
        }
    } else if let Some(loads) = &trial.assessment.metrics.loads {
        all.push(format!(
            "Under the loads that were tried the PV departs by at most {} {unit}: look for the cause when it is more.",
            readable(loads.max_deviation)
        ));
    }
    let margins = trial.assessment.margins.as_ref();
    if let Some(frequency) = margins.and_then(|margins| margins.phase_crossover).filter(|frequency| *frequency > 0.0) {
        all.push(format!(
            "Swings with a period near {} say that the loop is at its limit: put it in manual, and lower the gain.",
            readable_duration(std::f64::consts::TAU / frequency)
        ));
    }
    all
}

/// What speaks against relying on it, `typed` being how it is typed in.
#[must_use]
pub fn warnings(sources: &Sources, typed: &TypedIn) -> Vec<Verdict> {
    let stale = stale(sources);
    let mut found: Vec<Verdict> = Vec::new();
    for text in stale.model.iter().chain(&stale.trial).chain(&stale.proof) {
        if !found.iter().any(|known| known.text == *text) {
            found.push(Verdict::new(Tone::Bad, text, "what is upstream was changed since"));
        }
    }
    let name = letter(sources.trial.number);
    match &sources.proof {
        None => found.push(Verdict::new(
            Tone::Bad,
            format!("{name} was not proven."),
            "every candidate is held against the proving set",
        )),
        Some(proof) => {
            let place = proof.place_of(&sources.trial);
            let failing = place.and_then(|place| match &proof.result.shares[place] {
                _ if proof.result.holds[place] == Some(false) => Some("on the plant as it is".to_owned()),
                Some(share) if share.passes < share.of => {
                    Some(format!("on {} of {} plants that it may be", share.of - share.passes, share.of))
                }
                _ => None,
            });
            if let Some(which) = failing {
                let text = format!("{name} does not keep every limit of proof {} {which}.", proof.number);
                found.push(Verdict::new(Tone::Bad, text, "acceptance limits of the proof"));
            }
        }
    }
    if sources.model.is_none() {
        let text = format!("{name} stands on no model of a record: its plant was put in by hand.");
        found.push(Verdict::new(Tone::Caution, text, "a plant is known by its records"));
    }
    found.extend(typed.rounding.clone());
    let own =
        sources.trial.assessment.verdicts.iter().chain(sources.model.iter().flat_map(|model| &model.model.verdicts));
    found.extend(own.filter(|verdict| verdict.tone != Tone::Good).cloned());
    found
}

/// The warnings as they stand in the document.
pub(crate) fn warned(sources: &Sources, typed: &TypedIn) -> Vec<Block> {
    let found = warnings(sources, typed);
    if found.is_empty() { vec![Block::text("None.")] } else { found.iter().map(Block::verdict).collect() }
}
