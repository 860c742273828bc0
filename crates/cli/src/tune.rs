//! Settings for a model or a trial, by rule or by optimisation.

use crate::Failure;
use crate::files::{print, read_document};
use antistasis_core::assessment::scan_verdicts;
use antistasis_core::controller::ControllerSpec;
use antistasis_core::identification::Model;
use antistasis_core::simulation::{Event, Signal, Trial, round_down};
use antistasis_core::tuning::{
    Aim, Controlled, ControllerStructure, Demands, Objective, Rule, RuleChoice, SimcChoice, Task, Terms,
    begin_on_model, begin_predictive, optimise, predictive_scan, tune_by_rule, with_equations,
};
use antistasis_core::units::Span;
use clap::{Args, ValueEnum};
use std::path::{Path, PathBuf};

#[derive(Debug, Args)]
pub(crate) struct TuneOptions {
    /// Model, as `identify` prints it.
    #[arg(long, required_unless_present = "trial", conflicts_with = "trial")]
    model: Option<PathBuf>,
    /// Trial whose plant is tuned for; `antistasis schema trial` prints its schema.
    #[arg(long)]
    trial: Option<PathBuf>,
    /// Tuning rule.
    #[arg(long, value_enum, default_value_t = RuleName::Simc, conflicts_with = "minimise")]
    rule: RuleName,
    /// Terms that the rule gives.
    #[arg(long, value_enum, default_value_t = TermsName::Pi)]
    terms: TermsName,
    /// What the rule is to be good at, where it knows a difference.
    #[arg(long, value_enum, default_value_t = AimName::Load)]
    aim: AimName,
    /// Closed-loop time constant in s, for the rules that take one; the author's advice when left out.
    #[arg(long)]
    closed_loop_time_constant: Option<f64>,
    /// Set up a predictive controller over all signals of the trial's plant, and print the trial with it.
    #[arg(long, requires = "trial", conflicts_with_all = ["minimise", "rule"])]
    predictive: bool,
    /// Inputs of the process that the predictive controller is told of as they come, by name, with commas between.
    #[arg(long, requires = "predictive", value_delimiter = ',')]
    measured: Vec<String>,
    /// Let the predictive controller plan with the equations of the plant, which need not be linear.
    #[arg(long, requires = "predictive")]
    equations: bool,
    /// What is made as small as can be, instead of following a rule.
    #[arg(long, value_enum)]
    minimise: Option<ObjectiveName>,
    /// The controller whose settings are sought.
    #[arg(long, value_enum, default_value_t = StructureName::Pi)]
    structure: StructureName,
    /// Largest maximum sensitivity.
    #[arg(long)]
    max_sensitivity: Option<f64>,
    /// Further demands in words: "overshoot below 20 %, rise below 1 min".
    #[arg(long)]
    demands: Option<String>,
    /// Scan in s; of a trial its own, of a model a fortieth of its time scale when left out.
    #[arg(long)]
    scan: Option<f64>,
    /// Span of the PV of a model as LOW:HIGH, in its unit; the gain is in % of it.
    #[arg(long, default_value = "0:100", allow_hyphen_values = true)]
    pv_span: String,
}

#[derive(Debug, Clone, Copy, ValueEnum)]
enum RuleName {
    /// Ziegler and Nichols 1942, from the ultimate gain and period.
    ZieglerNicholsUltimate,
    /// Ziegler and Nichols 1942, from the reaction curve.
    ZieglerNicholsReaction,
    /// Cohen and Coon 1953.
    CohenCoon,
    /// Tyreus and Luyben 1992.
    TyreusLuyben,
    /// Chien, Hrones and Reswick 1952.
    ChienHronesReswick,
    /// Internal model control (lambda), Rivera, Morari and Skogestad 1986.
    Imc,
    /// Skogestad 2003.
    Simc,
    /// Åström and Hägglund 2004.
    Amigo,
    /// Least integral of time and absolute error.
    Itae,
    /// Averaging level control.
    AveragingLevel,
}

impl RuleName {
    fn rule(self) -> Rule {
        match self {
            Self::ZieglerNicholsUltimate => Rule::ZieglerNicholsUltimate,
            Self::ZieglerNicholsReaction => Rule::ZieglerNicholsReaction,
            Self::CohenCoon => Rule::CohenCoon,
            Self::TyreusLuyben => Rule::TyreusLuyben,
            Self::ChienHronesReswick => Rule::ChienHronesReswick,
            Self::Imc => Rule::InternalModel,
            Self::Simc => Rule::Simc,
            Self::Amigo => Rule::Amigo,
            Self::Itae => Rule::TimeAbsoluteError,
            Self::AveragingLevel => Rule::AveragingLevel,
        }
    }
}

#[derive(Debug, Clone, Copy, ValueEnum)]
enum TermsName {
    P,
    Pi,
    Pid,
}

#[derive(Debug, Clone, Copy, ValueEnum)]
enum AimName {
    Load,
    SetPoint,
}

#[derive(Debug, Clone, Copy, ValueEnum)]
enum ObjectiveName {
    /// ∫|e| dt after a load step.
    #[value(name = "load-iae")]
    Load,
    /// ∫|e| dt after a set point step.
    #[value(name = "set-point-iae")]
    SetPoint,
    /// ∫|e| dt over the whole scenario of the trial, on its plant.
    #[value(name = "scenario-iae")]
    Scenario,
}

#[derive(Debug, Clone, Copy, ValueEnum)]
enum StructureName {
    Pi,
    Pid,
    Smith,
}

/// What is tuned for: the low-order process, the span of its PV and the scan.
fn subject(options: &TuneOptions) -> Result<(Controlled, Span, f64, Option<Trial>), Failure> {
    if let Some(path) = &options.trial {
        let trial: Trial = read_document(path)?;
        trial.validate().and_then(|()| trial.check_stands_alone()).map_err(|error| Failure::of(path, error))?;
        let plant = Controlled::of(&trial.plant).map_err(|error| Failure::of(path, error))?;
        let scan = options.scan.unwrap_or(trial.scenario.scan);
        return Ok((plant, trial.plant.pv.span.clone(), scan, Some(trial)));
    }
    let Some(path) = &options.model else {
        return Err(Failure("Give --model or --trial: one of them is needed.".to_owned()));
    };
    let model: Model = read_document(path)?;
    let in_model = |error: antistasis_core::Error| Failure::of(path, error);
    let ends = options.pv_span.split_once(':').and_then(|(low, high)| Some((low.parse().ok()?, high.parse().ok()?)));
    let Some((low, high)) = ends else {
        return Err(Failure(format!("--pv-span is {}: it must be LOW:HIGH, for example 0:150", options.pv_span)));
    };
    let span = Span::new(low, high, model.output_unit());
    let plant = if model.is_physical() {
        // A balance is tuned for where its record began, with what was found of its sensor and valve.
        let signal = |tag: &str, span: Span| Signal { tag: tag.to_owned(), span };
        let (pv, op) = (&model.outputs[0].tag, &model.inputs[0].tag);
        let (pv, op) = (signal(pv, span.clone()), signal(op, Span::new(0.0, 100.0, "%")));
        let begun = begin_on_model(&model, &pv, &op, &SimcChoice::default()).map_err(in_model)?;
        Controlled::of(&begun.trial.plant).map_err(in_model)?
    } else {
        Controlled::plain(model.process().map_err(in_model)?)
    };
    let scan = options.scan.unwrap_or_else(|| round_down(plant.process.time_scale() / 40.0).clamp(0.01, 60.0));
    Ok((plant, span, scan, None))
}

/// The trial with a predictive controller in the place of its own.
fn predictive(path: &Path, options: &TuneOptions) -> Result<Trial, Failure> {
    let in_trial = |error: antistasis_core::Error| Failure::of(path, error);
    let mut trial: Trial = read_document(path)?;
    trial.validate().map_err(in_trial)?;
    trial.scenario.scan = match options.scan {
        Some(scan) => scan,
        None => predictive_scan(&trial.plant, trial.scenario.scan).map_err(in_trial)?,
    };
    let candidate = begin_predictive(&trial.plant, trial.scenario.scan, &options.measured).map_err(in_trial)?;
    let mut trial = trial.with_candidate(candidate);
    if let (true, ControllerSpec::Predictive(settings)) = (options.equations, &mut trial.candidate.controller) {
        **settings = with_equations(&trial.plant, settings).map_err(in_trial)?;
    }
    // What an operator moved in manual nobody moves now.
    let mut moved = 0;
    let scenario = &mut trial.scenario;
    for events in std::iter::once(&mut scenario.events).chain(scenario.further.values_mut()) {
        let before = events.len();
        events.retain(|event| !matches!(event, Event::OutputStep { .. }));
        moved += before - events.len();
    }
    if moved > 0 {
        eprintln!("antistasis: left out {moved} moves of an operator, who is in manual no more");
    }
    trial.validate().map_err(in_trial)?;
    Ok(trial)
}

pub(crate) fn tune(options: &TuneOptions) -> Result<(), Failure> {
    if let (true, Some(path)) = (options.predictive, &options.trial) {
        return print(&predictive(path, options)?);
    }
    let (plant, span, scan, trial) = subject(options)?;
    let Some(objective) = options.minimise else {
        let choice = RuleChoice {
            terms: match options.terms {
                TermsName::P => Terms::P,
                TermsName::Pi => Terms::Pi,
                TermsName::Pid => Terms::Pid,
            },
            aim: match options.aim {
                AimName::Load => Aim::Load,
                AimName::SetPoint => Aim::SetPoint,
            },
            closed_loop_time_constant: options.closed_loop_time_constant,
            ..RuleChoice::default()
        };
        // A rule knows of a scan that was given, not of one that would be taken.
        let scan = if trial.is_some() || options.scan.is_some() { scan } else { 0.0 };
        let seen = plant.as_seen(scan);
        let mut tuning = tune_by_rule(&seen, &span, options.rule.rule(), &choice).map_err(Failure::new)?;
        tuning.warnings.extend(scan_verdicts(&ControllerSpec::Pid(tuning.to_type_in.clone()), scan));
        return print(&tuning);
    };
    let structure = match options.structure {
        StructureName::Pi => ControllerStructure::Pi,
        StructureName::Pid => ControllerStructure::Pid,
        StructureName::Smith => ControllerStructure::Smith,
    };
    let mut task = Task::on(&plant, &span, scan, structure);
    if let Some(pid) = trial.as_ref().and_then(|trial| trial.candidate.controller.main_pid()) {
        task.take_over(pid);
    }
    if let Some(words) = &options.demands {
        task.demands = Demands::read(words).map_err(Failure::new)?;
    }
    task.demands.max_sensitivity = options.max_sensitivity.or(task.demands.max_sensitivity);
    match objective {
        ObjectiveName::Load => {}
        ObjectiveName::SetPoint => task.objective = Objective::SetPoint,
        ObjectiveName::Scenario => {
            let Some(trial) = trial else {
                return Err(Failure("--minimise scenario-iae needs --trial: a model alone has no scenario".to_owned()));
            };
            task.scenario = Some(trial);
        }
    }
    print(&optimise(&task, &|_| true).map_err(Failure::new)?)
}
