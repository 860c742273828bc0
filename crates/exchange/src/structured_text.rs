//! A PID controller as a function block in Structured Text (IEC 61131-3), for a controller on the plant.
//!
//! The block does what [`antistasis_core::controller::Pid`] does, operation by operation, so that both give the same output from the
//! same readings; only what the settings ask for is written. It is called once a scan by a task of that interval.

use antistasis_core::controller::{Action, AntiWindup, ControllerSpec, GainSchedule, PidSettings, ScheduledOver};
use antistasis_core::simulation::Trial;
use antistasis_core::units::Span;
use antistasis_core::verdict::readable;
use antistasis_core::{Error, Result};
use serde::Serialize;
use std::fmt::Write;
use utoipa::ToSchema;

/// The controllers of a trial as text.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct ControllersAsText {
    /// A block a PID controller, in the order of the candidate.
    pub blocks: Vec<WrittenBlock>,
    /// How the blocks are wired, and what has no text.
    pub remarks: Vec<String>,
}

/// A function block of one controller.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct WrittenBlock {
    /// Name of the controller.
    pub name: String,
    /// The block, in Structured Text.
    pub text: String,
}

/// What stands before the wiring of several blocks.
const ONE_BY_ONE: &str = "Each block alone does what its controller does in the simulation. How they work together is told here in words, to be programmed and tried on the target: a controller that tracks is in MANUAL meanwhile, with OP_MANUAL at what it tracks in %, and one that takes over from another may differ from the simulation in that scan.";

/// Every PID controller of a trial as a function block, with how they are wired. Errors where the trial cannot be run.
pub fn trial_as_text(trial: &Trial) -> Result<ControllersAsText> {
    trial.validate()?;
    let (plant, candidate) = (&trial.plant, &trial.candidate);
    let (tags, spans) = (plant.measured_tags(), plant.measured_spans());
    let (mut blocks, mut remarks) = (Vec::new(), Vec::new());
    let first = (plant.loop_tag(), plant.pv.tag.as_str(), &candidate.controller);
    let further = candidate.further.iter().map(|own| (own.name.as_str(), own.measures.as_str(), &own.controller));
    for (name, measures, controller) in std::iter::once(first).chain(further) {
        let span = tags.iter().position(|tag| *tag == measures).map(|place| spans[place]);
        let (ControllerSpec::Pid(settings), Some(pv_span)) = (controller, span) else {
            remarks.push(format!("{name} has no text: a {} is none that this is written for.", controller.title()));
            continue;
        };
        let block = Block { name, settings, pv_span, scan: trial.scenario.scan };
        blocks.push(WrittenBlock { name: name.to_owned(), text: function_block(&block)? });
    }
    remarks.extend(trial.wiring_in_words());
    if blocks.len() > 1 {
        remarks.insert(0, ONE_BY_ONE.to_owned());
    }
    Ok(ControllersAsText { blocks, remarks })
}

/// What a block is made for.
#[derive(Debug, Clone, Copy)]
pub struct Block<'a> {
    /// What the loop is called: letters of the name that an identifier cannot have become `_`.
    pub name: &'a str,
    /// The settings.
    pub settings: &'a PidSettings,
    /// Span of the PV, in whose unit PV and SP come.
    pub pv_span: &'a Span,
    /// Interval of the task in s.
    pub scan: f64,
}

/// The function block. Errors where the settings or the scan cannot be.
///
/// Inputs: `PV` and `SP` in the unit of the span; `MANUAL`, in which `OP` is `OP_MANUAL`; the signal of a feed-forward and of a schedule
/// by name. Output: `OP` in %. The first call takes `OP_MANUAL` over as it stands, in automatic, too, so that the output does not jump.
pub fn function_block(block: &Block) -> Result<String> {
    let Block { name, settings: pid, pv_span, scan } = *block;
    // What the core would refuse is refused here alike.
    antistasis_core::controller::Pid::new(pid, scan)?;
    pv_span.validate("pv.span")?;
    let mut text = Text::default();
    let title = identifier(name)?;
    text.line(format!("FUNCTION_BLOCK {title}"));
    text.comment(&heading(name, pid, scan));
    declarations(&mut text, block);
    body(&mut text, block);
    text.line("END_FUNCTION_BLOCK");
    Ok(text.written)
}

/// A name as an identifier: letters, digits and single underscores, a letter first.
fn identifier(name: &str) -> Result<String> {
    let mut plain = String::new();
    for c in name.chars() {
        if c.is_ascii_alphanumeric() {
            plain.push(c);
        } else if !plain.is_empty() && !plain.ends_with('_') {
            plain.push('_');
        }
    }
    let plain = plain.trim_end_matches('_').to_owned();
    match plain.chars().next() {
        Some(first) if first.is_ascii_alphabetic() => Ok(plain),
        Some(_) => Ok(format!("LOOP_{plain}")),
        None => Err(Error::invalid("name", format!("“{name}”"), "a name with a letter or a digit in it")),
    }
}

/// Text that is being written.
#[derive(Default)]
struct Text {
    written: String,
    depth: usize,
}

impl Text {
    fn line(&mut self, line: impl AsRef<str>) {
        let _ = writeln!(self.written, "{:indent$}{}", "", line.as_ref(), indent = 2 * self.depth);
    }

    fn comment(&mut self, text: &str) {
        self.line(format!("(* {} *)", remark(text)));
    }

    fn within(&mut self, begin: &str, end: &str, inner: impl FnOnce(&mut Self)) {
        self.line(begin);
        self.depth += 1;
        inner(self);
        self.depth -= 1;
        self.line(end);
    }
}

/// A text that ends no comment, and begins none.
fn remark(text: &str) -> String {
    text.replace("*)", "* )").replace("(*", "( *")
}

/// A literal that reads back as the same bits: with a point, as that of a real number must have.
fn literal(value: f64) -> String {
    let size = value.abs();
    let text = if value == 0.0 || (1e-4..1e15).contains(&size) {
        format!("{size:?}")
    } else {
        let text = format!("{size:e}");
        match text.split_once('e') {
            Some((mantissa, exponent)) if mantissa.contains('.') => format!("{mantissa}E{exponent}"),
            Some((mantissa, exponent)) => format!("{mantissa}.0E{exponent}"),
            None => text,
        }
    };
    if value < 0.0 { format!("-{text}") } else { text }
}

/// The same within an expression, where what is negative stands in brackets.
fn real(value: f64) -> String {
    if value < 0.0 { format!("({})", literal(value)) } else { literal(value) }
}

fn heading(name: &str, pid: &PidSettings, scan: f64) -> String {
    let mut parts = vec![format!("gain {} % of OP per % of span", readable(pid.gain))];
    parts.extend(pid.integral_time.map(|time| format!("integral time {} s", readable(time))));
    if pid.derivative_time > 0.0 {
        parts.push(format!(
            "derivative time {} s, N {}",
            readable(pid.derivative_time),
            readable(pid.derivative_filter)
        ));
    }
    let action = if pid.action == Action::Reverse { "reverse" } else { "direct" };
    format!("{name}: PID, ideal form, {}, {action} action. Call it once every {scan} s.", parts.join(", "))
}

/// Which parts of the block there are.
struct Parts {
    filter: bool,
    derivative: bool,
    integral: bool,
    schedule: bool,
    forward: bool,
    delay: usize,
    /// Whether the feed-forward lags.
    lag: bool,
    rate: bool,
    tracks: bool,
}

impl Parts {
    fn of(pid: &PidSettings, scan: f64) -> Self {
        Self {
            filter: pid.filter_time > 0.0,
            derivative: pid.derivative_time > 0.0,
            integral: pid.integral_time.is_some(),
            schedule: pid.schedule.is_some(),
            forward: pid.feed_forward.is_some(),
            delay: pid.feed_forward.as_ref().map_or(0, |forward| (forward.delay / scan).round() as usize),
            lag: pid
                .feed_forward
                .as_ref()
                .is_some_and(|forward| forward.lag > 0.0 && (-scan / forward.lag).exp() > 0.0),
            rate: pid.rate_limit.is_some(),
            tracks: pid.tracking_factor(scan) > 0.0,
        }
    }
}

fn schedule_signal(pid: &PidSettings) -> Option<&str> {
    match pid.schedule.as_ref().map(|schedule| &schedule.over) {
        Some(ScheduledOver::Signal(name)) => Some(name),
        _ => None,
    }
}

fn declarations(text: &mut Text, block: &Block) {
    let Block { settings: pid, pv_span, scan, .. } = *block;
    let parts = Parts::of(pid, scan);
    text.within("VAR_INPUT", "END_VAR", |text| {
        text.line(format!("PV : LREAL; (* process variable, {} *)", remark(&pv_span.unit)));
        text.line(format!("SP : LREAL; (* set point, {} *)", remark(&pv_span.unit)));
        text.line("MANUAL : BOOL; (* TRUE: the output is OP_MANUAL *)");
        text.line("OP_MANUAL : LREAL; (* output in manual, and at the first call, % *)");
        if let Some(signal) = schedule_signal(pid) {
            text.line(format!("SCHEDULED_BY : LREAL; (* {} *)", remark(signal)));
        }
        if let Some(forward) = &pid.feed_forward {
            text.line(format!("FED_FORWARD : LREAL; (* {} *)", remark(&forward.signal)));
        }
    });
    text.within("VAR_OUTPUT", "END_VAR", |text| text.line("OP : LREAL; (* output, % *)"));
    text.within("VAR CONSTANT", "END_VAR", |text| {
        let mut constant = |name: &str, value: f64, what: &str| {
            text.line(format!("{name} : LREAL := {}; (* {what} *)", literal(value)));
        };
        constant("PV_LOW", pv_span.low, "lower end of the span");
        constant("PV_HIGH", pv_span.high, "upper end of the span");
        constant("SCAN", scan, "interval of the task, s");
        constant("KC", pid.gain, "gain, % of OP per % of span");
        constant("SENSE", pid.action.sign(), "1 reverse, -1 direct action");
        if let Some(time) = pid.integral_time {
            constant("TI", time, "integral time, s");
        }
        if parts.derivative {
            constant("TD", pid.derivative_time, "derivative time, s");
            constant("TD_N", pid.derivative_filter, "filter of the derivative: lag of TD/TD_N");
            constant("WEIGHT_D", pid.derivative_set_point_weight, "weight of the set point in the derivative");
        }
        constant("WEIGHT_P", pid.set_point_weight, "weight of the set point in the proportional term");
        constant("OP_LOW", pid.output_limits.low, "%");
        constant("OP_HIGH", pid.output_limits.high, "%");
        if let Some(rate) = pid.rate_limit {
            constant("MOST_CHANGE", rate * scan, "of the output at a call, %");
        }
        if parts.filter {
            constant("FILTER_MEMORY", (-scan / pid.filter_time).exp(), "of the filter of the PV");
        }
        if pid.gap > 0.0 {
            constant("GAP", pid.gap, "half the gap about the set point, % of span");
            constant("GAP_GAIN", pid.gap_gain, "how much the error counts in it");
        }
        if parts.tracks {
            constant("TRACKING", pid.tracking_factor(scan), "of what the limits cut off is taken back at a call");
        }
        if let Some(forward) = &pid.feed_forward {
            constant("FORWARD_GAIN", forward.gain, "% of OP per unit of the signal");
            if parts.lag {
                constant("FORWARD_DIRECT", forward.lead / forward.lag, "part that passes at once");
                constant("FORWARD_MEMORY", (-scan / forward.lag).exp(), "of the lag");
            }
        }
    });
    text.within("VAR", "END_VAR", |text| {
        text.line("started : BOOL := FALSE;");
        let mut names = vec!["measurement", "set_point", "error", "weighted", "proportional", "integral", "derivative"];
        names.extend(["fed", "unlimited", "limited", "excess", "last_output", "increment", "gain", "integral_factor"]);
        if parts.derivative {
            names.extend(["difference", "last_difference", "derivative_memory", "derivative_push"]);
        }
        if parts.filter {
            names.push("filtered");
        }
        if parts.schedule {
            names.extend(["scheduled_at", "gain_factor", "time_factor", "new_gain"]);
        }
        if parts.forward {
            names.extend(["delayed", "lagged", "next_lagged"]);
        }
        for name in names {
            text.line(format!("{name} : LREAL := 0.0;"));
        }
        if parts.delay > 0 {
            text.line(format!("line : ARRAY[0..{}] OF LREAL;", parts.delay - 1));
            text.line("place : INT := 0;");
            text.line("k : INT := 0;");
        }
    });
}

fn body(text: &mut Text, block: &Block) {
    let pid = block.settings;
    let parts = Parts::of(pid, block.scan);
    text.line("");
    text.line("measurement := 100.0 * (PV - PV_LOW) / (PV_HIGH - PV_LOW);");
    text.line("set_point := 100.0 * (SP - PV_LOW) / (PV_HIGH - PV_LOW);");
    take_in(text, pid, &parts);
    text.line("");
    text.within("IF MANUAL OR NOT started THEN", "ELSE", |text| {
        text.comment("what is set elsewhere is taken over, so that the next output goes on from there");
        text.line("integral := OP_MANUAL - proportional - derivative - fed;");
        text.line("increment := 0.0;");
        text.line("last_output := OP_MANUAL;");
        text.line("started := TRUE;");
    });
    text.depth += 1;
    scan(text, pid, &parts);
    text.depth -= 1;
    text.line("END_IF;");
    text.line("OP := last_output;");
}

/// The error that counts, the terms of the reading alone.
fn take_in(text: &mut Text, pid: &PidSettings, parts: &Parts) {
    if parts.filter {
        text.within("IF started THEN", "END_IF;", |text| {
            text.line("measurement := measurement + FILTER_MEMORY * (filtered - measurement);");
        });
        text.line("filtered := measurement;");
    }
    text.line("error := set_point - measurement;");
    if pid.gap > 0.0 {
        text.line("IF ABS(error) <= GAP THEN");
        text.line("  error := GAP_GAIN * error;");
        text.line("ELSIF error > 0.0 THEN");
        text.line("  error := error - GAP * (1.0 - GAP_GAIN);");
        text.line("ELSE");
        text.line("  error := error + GAP * (1.0 - GAP_GAIN);");
        text.line("END_IF;");
    }
    text.line("weighted := SENSE * (error - (1.0 - WEIGHT_P) * set_point);");
    gains(text, pid);
    if parts.derivative {
        text.line("difference := WEIGHT_D * set_point - measurement;");
        text.within("IF NOT started THEN", "END_IF;", |text| text.line("last_difference := difference;"));
        text.line(
            "derivative := derivative_memory * derivative + SENSE * derivative_push * (difference - last_difference);",
        );
        text.line("last_difference := difference;");
    }
    if parts.forward {
        if parts.delay > 0 {
            let last = parts.delay - 1;
            text.within("IF NOT started THEN", "END_IF;", |text| {
                text.within(&format!("FOR k := 0 TO {last} DO"), "END_FOR;", |text| {
                    text.line("line[k] := FED_FORWARD;")
                });
            });
            text.line("delayed := line[place];");
            text.line("line[place] := FED_FORWARD;");
            text.line(format!("place := (place + 1) MOD {};", parts.delay));
        } else {
            text.line("delayed := FED_FORWARD;");
        }
        if parts.lag {
            text.within("IF NOT started THEN", "END_IF;", |text| text.line("lagged := delayed;"));
            text.line("next_lagged := delayed + FORWARD_MEMORY * (lagged - delayed);");
            text.line("fed := FORWARD_GAIN * (FORWARD_DIRECT * delayed + (1.0 - FORWARD_DIRECT) * lagged);");
            text.line("lagged := next_lagged;");
        } else {
            text.line("fed := FORWARD_GAIN * delayed;");
        }
    }
    text.line("proportional := gain * weighted;");
}

/// Gain and factors of this call; those of a schedule change without a bump.
fn gains(text: &mut Text, pid: &PidSettings) {
    let (gain, time) = match &pid.schedule {
        None => ("KC", "1.0"),
        Some(schedule) => {
            lookup(text, schedule);
            ("KC * gain_factor", "time_factor")
        }
    };
    if pid.schedule.is_some() {
        text.within("IF NOT started THEN", "END_IF;", |text| text.line("gain := KC;"));
        text.line(format!("new_gain := {gain};"));
        text.within("IF new_gain <> gain THEN", "END_IF;", |text| {
            text.line("integral := integral + (gain - new_gain) * weighted;");
            text.line("derivative := derivative * (new_gain / gain);");
        });
        text.line("gain := new_gain;");
    } else {
        text.line("gain := KC;");
    }
    let times = |name: &str| if pid.schedule.is_some() { format!("({name} * {time})") } else { name.to_owned() };
    if pid.integral_time.is_some() {
        text.line(format!("integral_factor := gain * SCAN / {};", times("TI")));
    }
    if pid.derivative_time > 0.0 {
        let td = times("TD");
        text.line(format!("derivative_memory := {td} / ({td} + TD_N * SCAN);"));
        text.line(format!("derivative_push := gain * {td} * TD_N / ({td} + TD_N * SCAN);"));
    }
}

/// The factors of a schedule: straight between its points, constant beyond them.
fn lookup(text: &mut Text, schedule: &GainSchedule) {
    let over = match &schedule.over {
        ScheduledOver::Measurement => "measurement",
        ScheduledOver::SetPoint => "set_point",
        ScheduledOver::Error => "ABS(set_point - measurement)",
        ScheduledOver::Output => "last_output",
        ScheduledOver::Signal(_) => "SCHEDULED_BY",
    };
    text.line(format!("scheduled_at := {over};"));
    let last = schedule.points.len() - 1;
    for (k, pair) in schedule.points.windows(2).enumerate() {
        let [a, b] = [pair[0], pair[1]];
        let condition = match k {
            0 if last == 1 => None,
            k if k + 1 == last => Some("ELSE".to_owned()),
            0 => Some(format!("IF scheduled_at < {} THEN", real(b.at))),
            _ => Some(format!("ELSIF scheduled_at < {} THEN", real(b.at))),
        };
        if let Some(condition) = &condition {
            text.line(condition);
        }
        let indent = if condition.is_some() { "  " } else { "" };
        let share = format!("LIMIT(0.0, (scheduled_at - {0}) / ({1} - {0}), 1.0)", real(a.at), real(b.at));
        let between = |from: f64, to: f64| format!("{0} + {share} * ({1} - {0})", real(from), real(to));
        text.line(format!("{indent}gain_factor := {};", between(a.gain_factor, b.gain_factor)));
        text.line(format!("{indent}time_factor := {};", between(a.time_factor, b.time_factor)));
    }
    if last > 1 {
        text.line("END_IF;");
    }
}

/// A scan in automatic: integral, limits, and what is done about the integral at a limit.
fn scan(text: &mut Text, pid: &PidSettings, parts: &Parts) {
    if parts.integral {
        text.line("increment := SENSE * integral_factor * error;");
    } else {
        text.line("increment := 0.0;");
    }
    text.line("integral := integral + increment;");
    if !parts.tracks && pid.anti_windup == AntiWindup::Clamping {
        let shift = "(fed - SENSE * gain * (1.0 - WEIGHT_P) * set_point)";
        text.line(format!("integral := LIMIT(OP_LOW - {shift}, integral, OP_HIGH - {shift});"));
    }
    text.line("unlimited := proportional + integral + derivative + fed;");
    text.line("limited := LIMIT(OP_LOW, unlimited, OP_HIGH);");
    if parts.rate {
        text.line("limited := LIMIT(last_output - MOST_CHANGE, limited, last_output + MOST_CHANGE);");
    }
    text.line("excess := unlimited - limited;");
    if parts.tracks {
        text.line("integral := integral - TRACKING * excess;");
    } else if pid.anti_windup == AntiWindup::Conditional {
        text.within("IF increment * excess > 0.0 THEN", "END_IF;", |text| {
            text.line("integral := integral - increment;");
            text.line("increment := 0.0;");
        });
    }
    text.line("last_output := limited;");
}
