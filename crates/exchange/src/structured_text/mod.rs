//! Controllers as function blocks in Structured Text (IEC 61131-3), for a controller on the plant: PID, the Smith predictor, the law of a
//! small predictive controller, and several loops wired to each other.
//!
//! A block does what [`antistasis_core::controller::Pid`], [`antistasis_core::controller::Smith`] or
//! [`antistasis_core::controller::predictive::WrittenLaw`] does, operation by operation, so that
//! both give the same output from the same readings; only what the settings ask for is written. It is called once a scan by a task of that
//! interval. All blocks of a trial together are a project in the XML of PLCopen, too.

mod pid;
mod plcopen;
mod predictive;
mod smith;
mod text;
mod wired;

use antistasis_core::Result;
use antistasis_core::controller::{ControllerSpec, PidSettings, SmithSettings};
use antistasis_core::simulation::Trial;
use antistasis_core::units::Span;
use serde::Serialize;
use utoipa::ToSchema;

/// The controllers of a trial as text.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct ControllersAsText {
    /// A block a controller that has one, in the order of the candidate.
    pub blocks: Vec<WrittenBlock>,
    /// How the blocks are called and wired.
    pub remarks: Vec<String>,
    /// Which controllers have no text, and why.
    pub without: Vec<String>,
    /// All blocks as a project in the XML of PLCopen (Technical Committee 6, version 2.01); empty where there is none.
    pub plcopen: String,
}

/// A function block of one controller.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct WrittenBlock {
    /// Name of the controller.
    pub name: String,
    /// The block, in Structured Text.
    pub text: String,
}

/// What stands before blocks that are wired by nothing but words.
const ONE_BY_ONE: &str = "Each block alone does what its controller does in the simulation. How they work together is told here in words, to be programmed and tried on the target: a controller that tracks is in MANUAL meanwhile, with OP_MANUAL at what it tracks in %, and one that takes over from another may differ from the simulation in that scan.";

/// Every PID controller and Smith predictor of a trial as a function block, and a predictive controller whose law can be written out. Where
/// outputs lead to set points, are selected or split, the last block calls the others and is wired like the trial; how, is told in words
/// besides. Errors where the trial cannot be run.
pub fn trial_as_text(trial: &Trial) -> Result<ControllersAsText> {
    trial.validate()?;
    let (plant, candidate, scan) = (&trial.plant, &trial.candidate, trial.scenario.scan);
    if wired::has_wires(trial)
        && let Some(written) = wired::units(trial)?
    {
        let mut remarks = trial.wiring_in_words();
        remarks.insert(0, called(written.last().map_or("", |(name, _)| name)));
        return as_text(plant.loop_tag(), written, remarks, Vec::new());
    }
    let is_wired = false;
    let (tags, spans) = (plant.measured_tags(), plant.measured_spans());
    let (mut units, mut remarks, mut without) = (Vec::new(), Vec::new(), Vec::new());
    let first = (plant.loop_tag(), plant.pv.tag.as_str(), &candidate.controller);
    let further = candidate.further.iter().map(|own| (own.name.as_str(), own.measures.as_str(), &own.controller));
    let law = trial.candidate.predictive().map(|_| trial.written_out().map(|law| law.in_numbers()));
    let (mut in_law, mut is_law_written) = (Vec::new(), false);
    for (name, measures, controller) in std::iter::once(first).chain(further) {
        if *controller == ControllerSpec::Seat {
            in_law.push(name);
            continue;
        }
        let span = tags.iter().position(|tag| *tag == measures).map(|place| spans[place]);
        let unit = match (controller, span) {
            (ControllerSpec::Pid(settings), Some(pv_span)) => {
                pid::unit(&Block { name, settings, pv_span, scan, is_wired })?
            }
            (ControllerSpec::Smith(settings), Some(pv_span)) => {
                smith::unit(&Block { name, settings, pv_span, scan, is_wired })?
            }
            (ControllerSpec::Predictive(_), _) => {
                let written = match &law {
                    Some(Ok(law)) => predictive::unit(name, law, scan),
                    Some(Err(error)) => Err(error.clone()),
                    None => continue,
                };
                match written {
                    Ok(unit) => {
                        is_law_written = true;
                        unit
                    }
                    Err(error) => {
                        without.push(format!("{name} has no text: {error}"));
                        continue;
                    }
                }
            }
            _ => {
                without.push(format!("{name} has no text: a {} is none that this is written for.", controller.title()));
                continue;
            }
        };
        units.push((name.to_owned(), unit));
    }
    if let Some(Ok(law)) = &law
        && is_law_written
    {
        remarks.extend(predictive::remarks(law, &in_law));
    }
    remarks.extend(trial.wiring_in_words());
    if units.len() > 1 {
        remarks.insert(0, ONE_BY_ONE.to_owned());
    }
    as_text(plant.loop_tag(), units, remarks, without)
}

fn as_text(
    name: &str,
    written: Vec<(String, text::Unit)>,
    remarks: Vec<String>,
    without: Vec<String>,
) -> Result<ControllersAsText> {
    let (names, units): (Vec<String>, Vec<text::Unit>) = written.into_iter().unzip();
    let plcopen = if units.is_empty() {
        String::new()
    } else {
        plcopen::project(name, &units, &[&remarks[..], &without[..]].concat())?
    };
    let write = |(name, unit): (String, &text::Unit)| WrittenBlock { name, text: unit.structured_text() };
    Ok(ControllersAsText { blocks: names.into_iter().zip(&units).map(write).collect(), remarks, without, plcopen })
}

/// How the block of all loops is used.
fn called(name: &str) -> String {
    format!(
        "The block “{name}” calls the others and wires them as in the simulation: call it alone, once a scan. Give each controller its output \
         back in …_BY_HAND while it is in automatic, so that manual begins where the output stands."
    )
}

/// What a block is made for.
#[derive(Debug, Clone, Copy)]
pub struct Block<'a, Settings> {
    /// What the loop is called: letters of the name that an identifier cannot have become `_`.
    pub name: &'a str,
    /// The settings.
    pub settings: &'a Settings,
    /// Span of the PV, in whose unit PV and SP come.
    pub pv_span: &'a Span,
    /// Interval of the task in s.
    pub scan: f64,
    /// Whether a block that wires several calls it: then it is told what became of its output, too.
    pub is_wired: bool,
}

/// The function block of a PID controller. Errors where the settings or the scan cannot be.
///
/// Inputs: `PV` and `SP` in the unit of the span; `MANUAL`, in which `OP` is `OP_MANUAL`; the signal of a feed-forward and of a schedule
/// by name. Output: `OP` in %. The first call takes `OP_MANUAL` over as it stands, in automatic, too, so that the output does not jump.
pub fn function_block(block: &Block<PidSettings>) -> Result<String> {
    Ok(pid::unit(block)?.structured_text())
}

/// The function block of a Smith predictor, with the same inputs and output. Errors where the settings or the scan cannot be.
pub fn smith_block(block: &Block<SmithSettings>) -> Result<String> {
    Ok(smith::unit(block)?.structured_text())
}
