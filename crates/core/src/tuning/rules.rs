//! The published tuning rules, each with its source and the range for which it was made.
//!
//! A rule sees a process `K exp(−θs)/(τs + 1)` or `k' exp(−θs)/s`, `K` and `k'` in % of span per % of OP; what is of higher order is
//! reduced by the half rule first, unless the rule knows better.

use super::simc::pi_settings;
use super::ultimate::{UltimatePoint, ultimate_point};
use crate::controller::{Action, Form, Notation, PidSettings};
use crate::process::LinearSpec;
use crate::units::Span;
use crate::verdict::{Tone, Verdict, readable, readable_duration};
use crate::{Error, Result, check};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A tuning rule.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Rule {
    /// Ziegler–Nichols, closed loop: from the ultimate gain and period.
    ZieglerNicholsUltimate,
    /// Ziegler–Nichols, open loop: from the reaction curve.
    ZieglerNicholsReaction,
    /// Cohen–Coon.
    CohenCoon,
    /// Tyreus–Luyben.
    TyreusLuyben,
    /// Chien–Hrones–Reswick.
    ChienHronesReswick,
    /// Internal model control (lambda).
    InternalModel,
    /// SIMC.
    Simc,
    /// AMIGO.
    Amigo,
    /// Least integral of time and absolute error.
    TimeAbsoluteError,
    /// Averaging level control from the swing that is allowed.
    AveragingLevel,
}

impl Rule {
    /// All of them, in the order in which they were published.
    pub const ALL: [Self; 10] = [
        Self::ZieglerNicholsUltimate,
        Self::ZieglerNicholsReaction,
        Self::ChienHronesReswick,
        Self::CohenCoon,
        Self::TimeAbsoluteError,
        Self::InternalModel,
        Self::TyreusLuyben,
        Self::Simc,
        Self::Amigo,
        Self::AveragingLevel,
    ];

    /// What it is called.
    #[must_use]
    pub fn title(self) -> &'static str {
        match self {
            Self::ZieglerNicholsUltimate => "Ziegler–Nichols, closed loop",
            Self::ZieglerNicholsReaction => "Ziegler–Nichols, open loop",
            Self::CohenCoon => "Cohen–Coon",
            Self::TyreusLuyben => "Tyreus–Luyben",
            Self::ChienHronesReswick => "Chien–Hrones–Reswick",
            Self::InternalModel => "IMC (lambda)",
            Self::Simc => "SIMC",
            Self::Amigo => "AMIGO",
            Self::TimeAbsoluteError => "ITAE",
            Self::AveragingLevel => "averaging level",
        }
    }

    /// Where it was published.
    #[must_use]
    pub fn source(self) -> &'static str {
        match self {
            Self::ZieglerNicholsUltimate | Self::ZieglerNicholsReaction => {
                "Ziegler & Nichols, Trans. ASME 64, 1942, 759–768"
            }
            Self::CohenCoon => "Cohen & Coon, Trans. ASME 75, 1953, 827–834",
            Self::TyreusLuyben => "Tyreus & Luyben, Ind. Eng. Chem. Res. 31, 1992, 2625–2628",
            Self::ChienHronesReswick => "Chien, Hrones & Reswick, Trans. ASME 74, 1952, 175–185",
            Self::InternalModel => {
                "Rivera, Morari & Skogestad, Ind. Eng. Chem. Process Des. Dev. 25, 1986, 252–265; table in Seborg, Edgar & \
                 Mellichamp, Process Dynamics and Control, ch. 12"
            }
            Self::Simc => {
                "Skogestad, J. Process Control 13, 2003, 291–309; PID on first order: Grimholt & Skogestad, IFAC PID'12, 2012"
            }
            Self::Amigo => "Åström & Hägglund, J. Process Control 14, 2004, 635–650",
            Self::TimeAbsoluteError => {
                "Lopez et al., 1967, and Rovira et al., 1969, as in Seborg, Edgar & Mellichamp, table 12.3"
            }
            Self::AveragingLevel => {
                "critically damped level under PI control: peak 2Δd/(e Kc), from the exact load response (exact mathematics)"
            }
        }
    }

    /// The range for which it was made, in words.
    #[must_use]
    pub fn range(self) -> &'static str {
        match self {
            Self::ZieglerNicholsUltimate | Self::ZieglerNicholsReaction => "θ/τ 0.1 to 1",
            Self::CohenCoon => "θ/τ 0.1 to 1",
            Self::ChienHronesReswick => "θ/τ 0.1 to 1",
            Self::TimeAbsoluteError => "θ/τ 0.1 to 1",
            Self::TyreusLuyben => "lag-dominant and integrating processes: θ/τ at most 0.5",
            Self::InternalModel => "τc above 0.8 θ and 0.1 τ",
            Self::Simc => "τc at least θ/2",
            Self::Amigo => "any θ/τ for PI; PID for θ/τ at least 0.2",
            Self::AveragingLevel => "integrating processes with a dead time short against Ti",
        }
    }
}

/// The terms that the settings are to have.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Terms {
    /// Proportional.
    P,
    /// Proportional and integral.
    #[default]
    Pi,
    /// Proportional, integral and derivative.
    Pid,
}

/// What a rule is to be good at, where it knows a difference.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Aim {
    /// Rejecting a load.
    #[default]
    Load,
    /// Following the set point.
    SetPoint,
}

/// What the engineer chooses besides the rule.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct RuleChoice {
    /// The terms.
    #[serde(default)]
    pub terms: Terms,
    /// What it is to be good at (Chien–Hrones–Reswick, ITAE).
    #[serde(default)]
    pub aim: Aim,
    /// Whether 20 % of overshoot are allowed (Chien–Hrones–Reswick).
    #[serde(default)]
    pub overshoot: bool,
    /// Closed-loop time constant τc in s, above 0 (IMC, SIMC); null for the author's.
    #[serde(default)]
    #[schema(exclusive_minimum = 0)]
    pub closed_loop_time_constant: Option<f64>,
    /// Load that is expected, % of OP, above 0 (averaging level); null for 10 %.
    #[serde(default)]
    #[schema(exclusive_minimum = 0)]
    pub expected_load: Option<f64>,
    /// Swing of the level that is allowed either side, % of span, above 0 (averaging level); null for 20 %.
    #[serde(default)]
    #[schema(exclusive_minimum = 0)]
    pub allowed_swing: Option<f64>,
    /// Ultimate gain (% of OP per % of span) and period that a relay experiment has shown: rules that go by the ultimate
    /// point take it in place of the model's.
    #[serde(default)]
    pub measured_point: Option<UltimatePoint>,
}

/// Settings from a rule.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct RuleTuning {
    /// The rule.
    pub rule: Rule,
    /// What it is called.
    pub title: String,
    /// Where it was published.
    pub source: String,
    /// The range for which it was made.
    pub range: String,
    /// The settings: ideal form, % of span.
    pub controller: PidSettings,
    /// The same to three significant digits.
    pub to_type_in: PidSettings,
    /// How they came about, a step a line, with the numbers filled in.
    pub derivation: Vec<String>,
    /// What speaks against them: a process outside the rule's range.
    pub warnings: Vec<Verdict>,
}

/// A process as a rule sees it; an integrating one has no τ.
struct Seen {
    /// K, or k' per s.
    gain: f64,
    tau: Option<f64>,
    theta: f64,
}

/// P, I and D of a rule.
struct Settings {
    gain: f64,
    integral: Option<f64>,
    derivative: f64,
    set_point_weight: f64,
    steps: Vec<String>,
}

impl Settings {
    fn new(gain: f64, integral: Option<f64>, derivative: f64) -> Self {
        Self { gain, integral, derivative, set_point_weight: 1.0, steps: Vec::new() }
    }

    fn step(mut self, text: String) -> Self {
        self.steps.push(text);
        self
    }
}

/// Settings for a process by a rule. Errors where the rule has none for such a process, or for these terms.
pub fn tune_by_rule(process: &LinearSpec, pv_span: &Span, rule: Rule, choice: &RuleChoice) -> Result<RuleTuning> {
    pv_span.validate("pv.span")?;
    process.validate()?;
    let percent = 100.0 / pv_span.width();
    let (settings, mut derivation) = settings_of(process, percent, rule, choice)?;
    derivation.extend(settings.steps.iter().cloned());
    derivation.push(in_words(&settings));
    let controller = PidSettings {
        action: Action::for_gain(process.gain()),
        integral_time: settings.integral,
        derivative_time: settings.derivative,
        set_point_weight: settings.set_point_weight,
        ..PidSettings::pi(settings.gain, 1.0)
    };
    controller.validate()?;
    Ok(RuleTuning {
        rule,
        title: format!("{} {}", rule.title(), terms_of(&controller)),
        source: rule.source().to_owned(),
        range: rule.range().to_owned(),
        to_type_in: controller.rounded(),
        warnings: warnings(process, rule, choice),
        controller,
        derivation,
    })
}

fn terms_of(settings: &PidSettings) -> &'static str {
    match (settings.integral_time, settings.derivative_time > 0.0) {
        (None, _) => "P",
        (Some(_), false) => "PI",
        (Some(_), true) => "PID",
    }
}

fn in_words(settings: &Settings) -> String {
    let mut text = format!("Kc = {} %/%", readable(settings.gain));
    if let Some(time) = settings.integral {
        text += &format!(", Ti = {}", readable_duration(time));
    }
    if settings.derivative > 0.0 {
        text += &format!(", Td = {}", readable_duration(settings.derivative));
    }
    text
}

fn refuse(rule: Rule, why: &str) -> Error {
    Error::unfit(format!("{} has no settings here: {why}", rule.title()), "choose another rule or other terms")
}

fn settings_of(process: &LinearSpec, percent: f64, rule: Rule, choice: &RuleChoice) -> Result<(Settings, Vec<String>)> {
    if matches!(rule, Rule::ZieglerNicholsUltimate | Rule::TyreusLuyben) {
        return by_ultimate_point(process, percent, rule, choice).map(|settings| (settings, Vec::new()));
    }
    if let (Rule::InternalModel | Rule::Simc, Terms::Pid, Some(settings)) =
        (rule, choice.terms, second_order(process, percent, rule, choice)?)
    {
        return Ok((settings, Vec::new()));
    }
    let reduced = process.half_rule()?;
    let mut steps = reduced.steps;
    let gain = (reduced.process.gain() * percent).abs();
    let seen = match reduced.process {
        LinearSpec::Fopdt { time_constant, dead_time, .. } => Seen { gain, tau: Some(time_constant), theta: dead_time },
        _ => Seen { gain, tau: None, theta: reduced.process.dead_time() },
    };
    steps.push(match seen.tau {
        Some(tau) => format!(
            "K = {} %/%, τ = {}, θ = {}, θ/τ = {}",
            readable(gain),
            readable_duration(tau),
            readable_duration(seen.theta),
            readable(seen.theta / tau)
        ),
        None => format!("k' = {gain:.3e} %/(% s), θ = {}", readable_duration(seen.theta)),
    });
    let needs_dead_time = !matches!(rule, Rule::InternalModel | Rule::Simc | Rule::AveragingLevel);
    if needs_dead_time && seen.theta <= 0.0 {
        return Err(refuse(rule, "the process has no dead time, and the gain would have no limit"));
    }
    let settings = match rule {
        Rule::ZieglerNicholsReaction => Ok(ziegler_nichols_reaction(&seen, choice.terms)),
        Rule::CohenCoon => cohen_coon(&seen, choice.terms),
        Rule::ChienHronesReswick => chien_hrones_reswick(&seen, choice),
        Rule::InternalModel => internal_model(&seen, choice),
        Rule::Simc => simc(&seen, choice),
        Rule::Amigo => amigo(&seen, choice.terms),
        Rule::TimeAbsoluteError => time_absolute_error(&seen, choice),
        Rule::AveragingLevel => averaging_level(&seen, choice),
        Rule::ZieglerNicholsUltimate | Rule::TyreusLuyben => Err(refuse(rule, "it goes by the ultimate point")),
    }?;
    Ok((settings, steps))
}

fn by_ultimate_point(process: &LinearSpec, percent: f64, rule: Rule, choice: &RuleChoice) -> Result<Settings> {
    let terms = choice.terms;
    let (ku, tu, from) = match choice.measured_point {
        Some(measured) => {
            let gain = check::positive("measured_point.gain", measured.gain, "%/%")?;
            (gain, check::positive("measured_point.period", measured.period, "s")?, "of the relay experiment: ")
        }
        None => {
            let point = ultimate_point(process).ok_or_else(|| {
                refuse(rule, "the process never lags by 180°, so that no gain makes it swing for ever")
            })?;
            (point.gain / percent, point.period, "")
        }
    };
    let step = format!("{from}ultimate gain Ku = {} %/%, ultimate period Tu = {}", readable(ku), readable_duration(tu));
    let settings = match (rule, terms) {
        (Rule::TyreusLuyben, Terms::P) => return Err(refuse(rule, "it gives PI and PID only")),
        (Rule::TyreusLuyben, Terms::Pi) => Settings::new(ku / 3.2, Some(2.2 * tu), 0.0),
        (Rule::TyreusLuyben, Terms::Pid) => Settings::new(ku / 2.2, Some(2.2 * tu), tu / 6.3),
        (_, Terms::P) => Settings::new(0.5 * ku, None, 0.0),
        (_, Terms::Pi) => Settings::new(0.45 * ku, Some(tu / 1.2), 0.0),
        (_, Terms::Pid) => Settings::new(0.6 * ku, Some(tu / 2.0), tu / 8.0),
    };
    Ok(settings.step(step))
}

impl Seen {
    /// `K/τ`, or k': the steepest slope after a step, per s.
    fn slope(&self) -> f64 {
        self.tau.map_or(self.gain, |tau| self.gain / tau)
    }

    fn lag(&self, rule: Rule) -> Result<f64> {
        self.tau.ok_or_else(|| refuse(rule, "it is for processes that settle by themselves"))
    }
}

fn ziegler_nichols_reaction(seen: &Seen, terms: Terms) -> Settings {
    let (theta, a) = (seen.theta, seen.slope() * seen.theta);
    let settings = match terms {
        Terms::P => Settings::new(1.0 / a, None, 0.0),
        Terms::Pi => Settings::new(0.9 / a, Some(theta / 0.3), 0.0),
        Terms::Pid => Settings::new(1.2 / a, Some(2.0 * theta), 0.5 * theta),
    };
    settings.step(format!("a = Kθ/τ = {}", readable(a)))
}

fn cohen_coon(seen: &Seen, terms: Terms) -> Result<Settings> {
    let tau = seen.lag(Rule::CohenCoon)?;
    let (theta, r) = (seen.theta, seen.theta / tau);
    let per = 1.0 / (seen.gain * r);
    Ok(match terms {
        Terms::P => Settings::new(per * (1.0 + r / 3.0), None, 0.0),
        Terms::Pi => Settings::new(per * (0.9 + r / 12.0), Some(theta * (30.0 + 3.0 * r) / (9.0 + 20.0 * r)), 0.0),
        Terms::Pid => Settings::new(
            per * (4.0 / 3.0 + r / 4.0),
            Some(theta * (32.0 + 6.0 * r) / (13.0 + 8.0 * r)),
            4.0 * theta / (11.0 + 2.0 * r),
        ),
    })
}

fn chien_hrones_reswick(seen: &Seen, choice: &RuleChoice) -> Result<Settings> {
    let tau = seen.lag(Rule::ChienHronesReswick)?;
    let (theta, a) = (seen.theta, seen.gain * seen.theta / tau);
    let (gain, integral, derivative) = match (choice.aim, choice.overshoot, choice.terms) {
        (_, false, Terms::P) => (0.3, None, 0.0),
        (_, true, Terms::P) => (0.7, None, 0.0),
        (Aim::SetPoint, false, Terms::Pi) => (0.35, Some(1.2 * tau), 0.0),
        (Aim::SetPoint, true, Terms::Pi) => (0.6, Some(tau), 0.0),
        (Aim::SetPoint, false, Terms::Pid) => (0.6, Some(tau), 0.5 * theta),
        (Aim::SetPoint, true, Terms::Pid) => (0.95, Some(1.4 * tau), 0.47 * theta),
        (Aim::Load, false, Terms::Pi) => (0.6, Some(4.0 * theta), 0.0),
        (Aim::Load, true, Terms::Pi) => (0.7, Some(2.3 * theta), 0.0),
        (Aim::Load, false, Terms::Pid) => (0.95, Some(2.4 * theta), 0.42 * theta),
        (Aim::Load, true, Terms::Pid) => (1.2, Some(2.0 * theta), 0.42 * theta),
    };
    Ok(Settings::new(gain / a, integral, derivative).step(format!("a = Kθ/τ = {}", readable(a))))
}

/// τc as chosen, or as the authors advise.
fn closed_loop_time_constant(choice: &RuleChoice, rule: Rule, advised: f64) -> Result<f64> {
    match choice.closed_loop_time_constant {
        Some(value) => check::positive("closed_loop_time_constant", value, "s"),
        None if advised > 0.0 => Ok(advised),
        None => Err(refuse(rule, "the process has no dead time to take τc from; give one")),
    }
}

fn internal_model(seen: &Seen, choice: &RuleChoice) -> Result<Settings> {
    let theta = seen.theta;
    let advised = (0.8 * theta).max(0.1 * seen.tau.unwrap_or(0.0));
    let tc = closed_loop_time_constant(choice, Rule::InternalModel, advised)?;
    let settings = match (seen.tau, choice.terms) {
        (_, Terms::P) => return Err(refuse(Rule::InternalModel, "it gives PI and PID only")),
        (Some(tau), Terms::Pi) => Settings::new(tau / (seen.gain * (tc + theta)), Some(tau), 0.0),
        (Some(tau), Terms::Pid) => Settings::new(
            (tau + 0.5 * theta) / (seen.gain * (tc + 0.5 * theta)),
            Some(tau + 0.5 * theta),
            tau * theta / (2.0 * tau + theta),
        ),
        (None, Terms::Pi) => {
            let reach = 2.0 * tc + theta;
            Settings::new(reach / (seen.gain * (tc + theta).powi(2)), Some(reach), 0.0)
        }
        (None, Terms::Pid) => {
            let reach = 2.0 * tc + theta;
            let derivative = (tc * theta + 0.25 * theta * theta) / reach;
            Settings::new(reach / (seen.gain * (tc + 0.5 * theta).powi(2)), Some(reach), derivative)
        }
    };
    Ok(settings.step(format!("closed-loop time constant τc = {}", readable_duration(tc))))
}

fn simc(seen: &Seen, choice: &RuleChoice) -> Result<Settings> {
    let theta = seen.theta;
    // With derivative action the same robustness allows half the time constant (Grimholt & Skogestad 2012).
    let advised = if choice.terms == Terms::Pid { 0.5 * theta } else { theta };
    let tc = closed_loop_time_constant(choice, Rule::Simc, advised)?;
    let (gain, integral) = pi_settings(seen.slope(), seen.tau, theta, tc);
    let step = format!("closed-loop time constant τc = {}", readable_duration(tc));
    match choice.terms {
        Terms::P => Err(refuse(Rule::Simc, "it gives PI and PID only")),
        Terms::Pi => Ok(Settings::new(gain, Some(integral), 0.0).step(step)),
        Terms::Pid => from_series(gain, integral, theta / 3.0, vec![step]),
    }
}

/// Series settings as ideal ones.
fn from_series(gain: f64, integral: f64, derivative: f64, mut steps: Vec<String>) -> Result<Settings> {
    let series = Notation { form: Form::Series, ..Notation::default() };
    let ideal =
        series.read(gain, Some(integral), derivative, (&PidSettings::pi(1.0, 1.0), &Span::new(0.0, 100.0, "%")))?;
    steps.push(format!(
        "series form: Kc = {} %/%, Ti = {}, Td = {}",
        readable(gain),
        readable_duration(integral),
        readable_duration(derivative)
    ));
    Ok(Settings { steps, ..Settings::new(ideal.gain, ideal.integral_time, ideal.derivative_time) })
}

/// PID of the rules that know processes of second order; None for others.
fn second_order(process: &LinearSpec, percent: f64, rule: Rule, choice: &RuleChoice) -> Result<Option<Settings>> {
    let gain = (process.gain() * percent).abs();
    let theta = process.dead_time();
    let advised = |slowest: f64| if rule == Rule::Simc { theta } else { (0.8 * theta).max(0.1 * slowest) };
    let chosen = |slowest: f64| closed_loop_time_constant(choice, rule, advised(slowest));
    let step = |tc: f64| format!("closed-loop time constant τc = {}", readable_duration(tc));
    Ok(match (process, rule) {
        (&LinearSpec::TwoLags { time_constant_1: a, time_constant_2: b, lead_time_constant: 0.0, .. }, _) => {
            let (slow, fast, tc) = (a.max(b), a.min(b), chosen(a.max(b))?);
            Some(if rule == Rule::Simc {
                from_series(slow / (gain * (tc + theta)), slow.min(4.0 * (tc + theta)), fast, vec![step(tc)])?
            } else {
                let sum = slow + fast;
                Settings::new(sum / (gain * (tc + theta)), Some(sum), slow * fast / sum).step(step(tc))
            })
        }
        (&LinearSpec::SecondOrder { time_constant, damping, .. }, Rule::InternalModel) => {
            let (sum, tc) = (2.0 * damping * time_constant, chosen(time_constant)?);
            let derivative = time_constant / (2.0 * damping);
            Some(Settings::new(sum / (gain * (tc + theta)), Some(sum), derivative).step(step(tc)))
        }
        (&LinearSpec::IntegratingLag { time_constant, .. }, Rule::Simc) => {
            let tc = chosen(time_constant)?;
            let settings = from_series(1.0 / (gain * (tc + theta)), 4.0 * (tc + theta), time_constant, vec![step(tc)])?;
            Some(settings)
        }
        _ => None,
    })
}

fn amigo(seen: &Seen, terms: Terms) -> Result<Settings> {
    let theta = seen.theta;
    let settings = match (seen.tau, terms) {
        (_, Terms::P) => return Err(refuse(Rule::Amigo, "it gives PI and PID only")),
        (None, Terms::Pi) => Settings::new(0.35 / (seen.gain * theta), Some(13.4 * theta), 0.0),
        (None, Terms::Pid) => Settings::new(0.45 / (seen.gain * theta), Some(8.0 * theta), 0.5 * theta),
        (Some(tau), Terms::Pi) => {
            let sum = theta + tau;
            let gain = (0.15 + (0.35 - theta * tau / (sum * sum)) * tau / theta) / seen.gain;
            let below = tau * tau + 12.0 * theta * tau + 7.0 * theta * theta;
            Settings::new(gain, Some(0.35 * theta + 13.0 * theta * tau * tau / below), 0.0)
        }
        (Some(tau), Terms::Pid) => Settings::new(
            (0.2 + 0.45 * tau / theta) / seen.gain,
            Some(theta * (0.4 * theta + 0.8 * tau) / (theta + 0.1 * tau)),
            0.5 * theta * tau / (0.3 * theta + tau),
        ),
    };
    // The paper's set point weight: 0 where the lag dominates, 1 where the dead time does.
    let share = seen.tau.map_or(0.0, |tau| theta / (theta + tau));
    let set_point_weight = if share > 0.5 { 1.0 } else { 0.0 };
    let step = format!("θ/(θ + τ) = {}: set point weight b = {set_point_weight}", readable(share));
    Ok(Settings { set_point_weight, ..settings.step(step) })
}

fn time_absolute_error(seen: &Seen, choice: &RuleChoice) -> Result<Settings> {
    let rule = Rule::TimeAbsoluteError;
    let tau = seen.lag(rule)?;
    let r = seen.theta / tau;
    let power = |a: f64, b: f64| a * r.powf(b);
    Ok(match (choice.aim, choice.terms) {
        (_, Terms::P) => return Err(refuse(rule, "it gives PI and PID only")),
        (Aim::Load, Terms::Pi) => {
            Settings::new(power(0.859, -0.977) / seen.gain, Some(tau / power(0.674, -0.680)), 0.0)
        }
        (Aim::Load, Terms::Pid) => {
            Settings::new(power(1.357, -0.947) / seen.gain, Some(tau / power(0.842, -0.738)), tau * power(0.381, 0.995))
        }
        (Aim::SetPoint, Terms::Pi) => {
            Settings::new(power(0.586, -0.916) / seen.gain, Some(tau / (1.03 - 0.165 * r)), 0.0)
        }
        (Aim::SetPoint, Terms::Pid) => {
            Settings::new(power(0.965, -0.85) / seen.gain, Some(tau / (0.796 - 0.1465 * r)), tau * power(0.308, 0.929))
        }
    })
}

fn averaging_level(seen: &Seen, choice: &RuleChoice) -> Result<Settings> {
    let rule = Rule::AveragingLevel;
    if seen.tau.is_some() {
        return Err(refuse(rule, "it is for levels, which integrate"));
    }
    let load = check::positive("expected_load", choice.expected_load.unwrap_or(10.0), "%")?;
    let swing = check::positive("allowed_swing", choice.allowed_swing.unwrap_or(20.0), "%")?;
    let step = format!("a load of {} % may swing the level by {} % of span", readable(load), readable(swing));
    match choice.terms {
        Terms::P => Ok(Settings::new(load / swing, None, 0.0).step(step)),
        Terms::Pi => {
            let gain = 2.0 / std::f64::consts::E * load / swing;
            Ok(Settings::new(gain, Some(4.0 / (seen.gain * gain)), 0.0).step(step))
        }
        Terms::Pid => Err(refuse(rule, "a level that is to be averaged wants no derivative")),
    }
}

/// What speaks against a rule for this process.
fn warnings(process: &LinearSpec, rule: Rule, choice: &RuleChoice) -> Vec<Verdict> {
    let mut warnings = Vec::new();
    let mut warn = |text: String| {
        warnings.push(Verdict::new(Tone::Caution, text, format!("made for: {}", rule.range())));
    };
    let Ok(reduced) = process.half_rule() else { return warnings };
    let theta = reduced.process.dead_time();
    if let LinearSpec::Fopdt { time_constant: tau, .. } = reduced.process {
        let r = theta / tau;
        let (low, high) = match rule {
            Rule::TyreusLuyben => (0.0, 0.5),
            Rule::Amigo if choice.terms == Terms::Pid => (0.2, f64::INFINITY),
            Rule::InternalModel | Rule::Simc | Rule::Amigo | Rule::AveragingLevel => (0.0, f64::INFINITY),
            _ => (0.1, 1.0),
        };
        if r < low - 1e-9 || r > high + 1e-9 {
            warn(format!("θ/τ is {}, outside the range that the rule was made for.", readable(r)));
        }
        if rule == Rule::TimeAbsoluteError && choice.aim == Aim::SetPoint && r > 5.0 {
            warn("The set point relation ends near θ/τ = 6, where its integral time has no sense.".to_owned());
        }
    }
    if let Some(tc) = choice.closed_loop_time_constant {
        let least = match rule {
            Rule::InternalModel => 0.8 * theta,
            Rule::Simc => 0.5 * theta,
            _ => 0.0,
        };
        if tc < least {
            warn(format!(
                "τc is {}, below {}: little room for a wrong model.",
                readable_duration(tc),
                readable_duration(least)
            ));
        }
    }
    if matches!(rule, Rule::ZieglerNicholsUltimate | Rule::ZieglerNicholsReaction | Rule::CohenCoon) {
        warnings.push(Verdict::new(
            Tone::Caution,
            "Made for a decay of the swing to a quarter from peak to peak: lively, with a maximum sensitivity often above 2.",
            "quarter amplitude decay (Ziegler & Nichols 1942)",
        ));
    }
    warnings
}
