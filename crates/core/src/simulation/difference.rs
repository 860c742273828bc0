//! What one trial changed from another, in words: the name of a row of the trail.

use super::{Event, Trial};
use crate::controller::{Action, ControllerSpec, PidSettings};
use crate::process::ProcessSpec;
use crate::verdict::{readable, readable_duration};

impl Trial {
    /// What is different from `before`, for example `gain 1.2 → 1.5`; empty when nothing is.
    #[must_use]
    pub fn difference(&self, before: &Self) -> Vec<String> {
        let mut changes = Changes::default();
        changes.controller(&before.candidate.controller, &self.candidate.controller);
        changes.process(&before.plant.process, &self.plant.process);
        let (old, new) = (&before.plant, &self.plant);
        let unit = &new.pv.span.unit;
        changes.number("noise", old.sensor.noise, new.sensor.noise, unit);
        changes.number("start PV", old.operating_point.pv, new.operating_point.pv, unit);
        changes.number("start OP", old.operating_point.op, new.operating_point.op, "%");
        if old.pv != new.pv || old.op != new.op {
            changes.list.push("tags or spans".to_owned());
        }
        let (old, new) = (&before.scenario, &self.scenario);
        changes.time("scan", old.scan, new.scan);
        changes.time("duration", old.duration, new.duration);
        changes.events(&old.events, &new.events, unit);
        if old.seed != new.seed {
            changes.list.push(format!("seed {} → {}", old.seed, new.seed));
        }
        changes.list
    }
}

#[derive(Default)]
struct Changes {
    list: Vec<String>,
}

impl Changes {
    fn number(&mut self, name: &str, old: f64, new: f64, unit: &str) {
        if old != new {
            let unit = if unit.is_empty() { String::new() } else { format!(" {unit}") };
            self.list.push(format!("{name} {} → {}{unit}", readable(old), readable(new)));
        }
    }

    fn time(&mut self, name: &str, old: f64, new: f64) {
        self.optional_time(name, Some(old), Some(new));
    }

    fn optional_time(&mut self, name: &str, old: Option<f64>, new: Option<f64>) {
        if old != new {
            let shown = |time: Option<f64>| time.map_or("off".to_owned(), readable_duration);
            self.list.push(format!("{name} {} → {}", shown(old), shown(new)));
        }
    }

    fn controller(&mut self, old: &ControllerSpec, new: &ControllerSpec) {
        match (old, new) {
            (ControllerSpec::Pid(old), ControllerSpec::Pid(new)) => self.pid(old, new),
            (ControllerSpec::Pid(_), ControllerSpec::Manual) => self.list.push("to manual".to_owned()),
            (ControllerSpec::Manual, ControllerSpec::Pid(_)) => self.list.push("to automatic".to_owned()),
            (ControllerSpec::Manual, ControllerSpec::Manual) => {}
        }
    }

    fn pid(&mut self, old: &PidSettings, new: &PidSettings) {
        self.number("gain", old.gain, new.gain, "");
        self.optional_time("integral time", old.integral_time, new.integral_time);
        self.time("derivative time", old.derivative_time, new.derivative_time);
        self.number("derivative filter", old.derivative_filter, new.derivative_filter, "");
        self.number("set point weight", old.set_point_weight, new.set_point_weight, "");
        self.number("low limit", old.output_limits.low, new.output_limits.low, "%");
        self.number("high limit", old.output_limits.high, new.output_limits.high, "%");
        if old.tracking_time != new.tracking_time {
            self.optional_time("tracking time", old.effective_tracking_time(), new.effective_tracking_time());
        }
        if old.action != new.action {
            let word = if new.action == Action::Direct { "direct" } else { "reverse" };
            self.list.push(format!("action now {word}"));
        }
    }

    fn process(&mut self, old: &ProcessSpec, new: &ProcessSpec) {
        if std::mem::discriminant(old) != std::mem::discriminant(new) {
            self.list.push("another process".to_owned());
            return;
        }
        self.number("process gain", old.gain(), new.gain(), "");
        if let (ProcessSpec::Fopdt { time_constant: old, .. }, ProcessSpec::Fopdt { time_constant: new, .. }) =
            (old, new)
        {
            self.time("time constant", *old, *new);
        }
        self.time("dead time", old.dead_time(), new.dead_time());
    }

    fn events(&mut self, old: &[Event], new: &[Event], pv_unit: &str) {
        if old.len() != new.len() {
            self.list.push(format!("{} → {} events", old.len(), new.len()));
            return;
        }
        for (old, new) in old.iter().zip(new) {
            let (name, unit) = match new {
                Event::SetPointStep { .. } => ("set point step", pv_unit),
                Event::LoadStep { .. } => ("load step", "%"),
                Event::OutputStep { .. } => ("output step", "%"),
            };
            if std::mem::discriminant(old) != std::mem::discriminant(new) {
                self.list.push(format!("now a {name}"));
                continue;
            }
            self.number(name, old.by(), new.by(), unit);
            self.time(&format!("{name} at"), old.at(), new.at());
        }
    }
}
