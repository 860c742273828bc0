//! The block of a PID controller.

use super::Block;
use super::text::{Kind, Text, Unit, Variable, real};
use antistasis_core::Result;
use antistasis_core::controller::{Action, AntiWindup, GainSchedule, Pid, PidSettings, ScheduledOver};
use antistasis_core::verdict::readable;

/// The block. Errors where the settings or the scan cannot be.
pub(super) fn unit(block: &Block<PidSettings>) -> Result<Unit> {
    let Block { name, settings: pid, pv_span, scan, .. } = *block;
    // What the core would refuse is refused here alike.
    Pid::new(pid, scan)?;
    pv_span.validate("pv.span")?;
    let heading = format!("{name}: PID, ideal form, {}. {}", in_words(pid), caller(block));
    let mut unit = Unit::new(name, heading, &pv_span.unit)?;
    declare(&mut unit, pid, block);
    unit.body = body(pid, block, |_| {}, |_| {});
    Ok(unit)
}

/// Its settings in words.
pub(super) fn in_words(pid: &PidSettings) -> String {
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
    format!("{}, {action} action", parts.join(", "))
}

/// Who calls it.
pub(super) fn caller<Settings>(block: &Block<Settings>) -> String {
    match block.is_wired {
        true => "The block of all loops calls it.".to_owned(),
        false => format!("Call it once every {} s.", block.scan),
    }
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

/// What it takes besides PV, SP and mode, its constants, and what it remembers.
pub(super) fn declare<Settings>(unit: &mut Unit, pid: &PidSettings, block: &Block<Settings>) {
    let Block { pv_span, scan, is_wired, .. } = *block;
    let parts = Parts::of(pid, scan);
    if is_wired {
        declare_wires(unit);
    }
    let input = |name: &str, signal: &str| Variable::new(name, Kind::Real).is(signal);
    unit.inputs.extend(schedule_signal(pid).map(|signal| input("SCHEDULED_BY", signal)));
    unit.inputs.extend(pid.feed_forward.as_ref().map(|forward| input("FED_FORWARD", &forward.signal)));
    let mut constant = |name: &str, value: f64, what: &str| unit.constants.push(Variable::constant(name, value, what));
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
    unit.locals.push(Variable::new("started", Kind::Logical).begins("FALSE"));
    let mut names = vec!["measurement", "set_point", "error", "weighted", "proportional", "integral", "derivative"];
    names.extend(["fed", "limited", "excess", "last_output", "increment", "gain", "integral_factor"]);
    if !is_wired {
        names.push("unlimited");
    }
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
    unit.locals.extend(names.into_iter().map(Variable::real));
    if parts.delay > 0 {
        unit.locals.push(Variable::new("line", Kind::Array(parts.delay - 1)));
        unit.locals.push(Variable::new("place", Kind::Whole).begins("0"));
        unit.locals.push(Variable::new("k", Kind::Whole).begins("0"));
    }
}

/// What a block among others is told, and tells, besides.
fn declare_wires(unit: &mut Unit) {
    let logical = |name: &str, what: &str| Variable::new(name, Kind::Logical).is(what);
    unit.inputs.extend([
        logical("TAKES_OVER", "TRUE: goes to automatic in this call, from OP_MANUAL"),
        logical("TOLD", "TRUE: another output than its own was set after the call before"),
        Variable::new("STOOD", Kind::Real).is("that output, %"),
        logical("WAIT_UP", "TRUE: what it sets could not follow upwards"),
        logical("WAIT_DOWN", "TRUE: what it sets could not follow downwards"),
    ]);
    unit.outputs.push(Variable::new("UNLIMITED", Kind::Real).is("output without limits, %"));
    unit.locals.extend(["pass", "passes"].map(|name| Variable::new(name, Kind::Whole).begins("0")));
}

/// The statements; `predict` stands between what is measured and what the controller takes in, `after` behind its output.
pub(super) fn body<Settings>(
    pid: &PidSettings,
    block: &Block<Settings>,
    predict: impl FnOnce(&mut Text),
    after: impl FnOnce(&mut Text),
) -> String {
    let mut text = Text::default();
    let parts = Parts::of(pid, block.scan);
    if block.is_wired {
        was_told(&mut text, pid, &parts);
        text.line("");
        text.comment("who takes over tracks first, in the same call");
        text.line("passes := 1;");
        text.within("IF TAKES_OVER AND started AND NOT MANUAL THEN", "END_IF;", |text| text.line("passes := 2;"));
        text.within("FOR pass := 1 TO passes DO", "END_FOR;", |text| {
            statements(text, pid, &parts, "MANUAL OR NOT started OR pass < passes", predict);
            after(text);
        });
    } else {
        statements(&mut text, pid, &parts, "MANUAL OR NOT started", predict);
        after(&mut text);
    }
    text.line("OP := last_output;");
    text.written
}

/// What became of the output of the call before: nothing winds up.
fn was_told(text: &mut Text, pid: &PidSettings, parts: &Parts) {
    let hold_back = |text: &mut Text| {
        text.line("integral := integral - increment;");
        text.line("increment := 0.0;");
    };
    text.line("");
    text.within("IF WAIT_UP AND increment > 0.0 OR WAIT_DOWN AND increment < 0.0 THEN", "END_IF;", hold_back);
    text.within("IF TOLD THEN", "END_IF;", |text| {
        text.line("excess := last_output - STOOD;");
        if parts.tracks {
            text.line("integral := integral - TRACKING * excess;");
        } else if matches!(pid.anti_windup, AntiWindup::Conditional | AntiWindup::Clamping) {
            text.within("IF increment * excess > 0.0 THEN", "END_IF;", hold_back);
        }
        text.line("last_output := STOOD;");
    });
}

fn statements(text: &mut Text, pid: &PidSettings, parts: &Parts, tracks: &str, predict: impl FnOnce(&mut Text)) {
    text.line("");
    text.line("measurement := 100.0 * (PV - PV_LOW) / (PV_HIGH - PV_LOW);");
    text.line("set_point := 100.0 * (SP - PV_LOW) / (PV_HIGH - PV_LOW);");
    predict(text);
    take_in(text, pid, parts);
    text.line("");
    text.within(&format!("IF {tracks} THEN"), "ELSE", |text| {
        text.comment("what is set elsewhere is taken over, so that the next output goes on from there");
        text.line("integral := OP_MANUAL - proportional - derivative - fed;");
        text.line("increment := 0.0;");
        text.line("last_output := OP_MANUAL;");
        text.line("unlimited := OP_MANUAL;");
        text.line("started := TRUE;");
    });
    text.depth += 1;
    scan(text, pid, parts);
    text.depth -= 1;
    text.line("END_IF;");
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
