//! What one trial changed from another, in words: the name of a row of the trail.

use super::{Event, Plant, Trial, Wire, Wired};
use crate::controller::predictive::ControlledVariable;
use crate::controller::{Action, ControllerSpec, PidSettings, PredictiveSettings};
use crate::process::{Description, EquationsSpec, ProcessSpec, Quantity};
use crate::verdict::{readable, readable_duration};
use serde::Serialize;
use serde_json::Value;
use std::collections::BTreeMap;

impl Trial {
    /// What is different from `before`, for example `gain 1.2 → 1.5`; empty when nothing is.
    #[must_use]
    pub fn difference(&self, before: &Self) -> Vec<String> {
        let mut changes = Changes::default();
        changes.controller(&before.candidate.controller, &self.candidate.controller);
        changes.document("ratio", &before.candidate.ratio, &self.candidate.ratio);
        if before.candidate.set_point_tracking != self.candidate.set_point_tracking {
            let word = if self.candidate.set_point_tracking { "follows the PV" } else { "stays" };
            changes.list.push(format!("set point {word} in manual"));
        }
        changes.wires("", &before.candidate.sets, &self.candidate.sets);
        changes.further(&before.candidate.further, &self.candidate.further);
        changes.plant(&before.plant, &self.plant);
        let (old, new) = (&before.scenario, &self.scenario);
        changes.time("scan", old.scan, new.scan);
        changes.time("duration", old.duration, new.duration);
        changes.events(&old.events, &new.events, &self.plant.pv.span.unit);
        let names: std::collections::BTreeSet<&String> = old.further.keys().chain(new.further.keys()).collect();
        for name in names {
            let of = |all: &BTreeMap<String, Vec<Event>>| all.get(name).cloned().unwrap_or_default();
            let unit = self.candidate.further.iter().find(|wired| wired.name == **name).and_then(|wired| {
                self.plant
                    .further_measured
                    .iter()
                    .find(|signal| signal.tag == wired.measures)
                    .map(|s| s.span.unit.as_str())
            });
            let mut own = Changes::default();
            own.events(&of(&old.further), &of(&new.further), unit.unwrap_or(&self.plant.pv.span.unit));
            changes.under(name, own);
        }
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

    /// What changed at a part that has a name.
    fn under(&mut self, name: &str, own: Changes) {
        self.list.extend(own.list.into_iter().map(|text| format!("{name}: {text}")));
    }

    fn wires(&mut self, name: &str, old: &[Wire], new: &[Wire]) {
        if old != new {
            let shown: Vec<String> = new.iter().map(|wire| wire.to.clone()).collect();
            let to = if shown.is_empty() { "its OP".to_owned() } else { shown.join(" and ") };
            self.list.push(format!("{name}{}sets {to}", if name.is_empty() { "" } else { " " }));
        }
    }

    fn further(&mut self, old: &[Wired], new: &[Wired]) {
        for wired in new {
            let Some(before) = old.iter().find(|other| other.name == wired.name) else {
                self.list.push(format!("with {}", wired.name));
                continue;
            };
            let mut own = Changes::default();
            own.controller(&before.controller, &wired.controller);
            if before.measures != wired.measures {
                own.list.push(format!("measures {}", wired.measures));
            }
            own.wires("", &before.sets, &wired.sets);
            if before.set_point_tracking != wired.set_point_tracking {
                let word = if wired.set_point_tracking { "follows the PV" } else { "stays" };
                own.list.push(format!("set point {word} in manual"));
            }
            self.under(&wired.name, own);
        }
        let gone = old.iter().filter(|wired| !new.iter().any(|other| other.name == wired.name));
        self.list.extend(gone.map(|wired| format!("without {}", wired.name)));
    }

    fn controller(&mut self, old: &ControllerSpec, new: &ControllerSpec) {
        match (old, new) {
            (ControllerSpec::Pid(old), ControllerSpec::Pid(new)) => self.pid(old, new),
            (ControllerSpec::Smith(old), ControllerSpec::Smith(new)) => {
                self.pid(&old.pid, &new.pid);
                self.document("predictor's model", &old.model, &new.model);
                self.time("prediction filter", old.filter_time, new.filter_time);
            }
            (ControllerSpec::Predictive(old), ControllerSpec::Predictive(new)) => self.predictive(old, new),
            (ControllerSpec::Manual, ControllerSpec::Pid(_)) => self.list.push("to automatic".to_owned()),
            (_, ControllerSpec::Manual) if old != new => self.list.push("to manual".to_owned()),
            _ if std::mem::discriminant(old) == std::mem::discriminant(new) => {
                self.document(new.title(), old, new);
            }
            _ => self.list.push(format!("now {}", new.title())),
        }
    }

    /// By the tags of what is controlled and moved.
    fn predictive(&mut self, old: &PredictiveSettings, new: &PredictiveSettings) {
        self.time("looks ahead", old.horizon, new.horizon);
        if old.moves != new.moves {
            self.list.push(format!("moves {} → {}", in_runs(&old.moves), in_runs(&new.moves)));
        }
        if old.model != new.model {
            self.list.push("another model".to_owned());
        }
        for new in &new.cvs {
            let Some(old) = old.cvs.iter().find(|old| old.tag == new.tag) else { continue };
            let known = new.set_point_known_ahead;
            self.document(&new.tag, &ControlledVariable { set_point_known_ahead: known, ..old.clone() }, new);
            if old.set_point_known_ahead != known {
                let word = if known { "known" } else { "not known" };
                self.list.push(format!("set points of {} {word} beforehand", new.tag));
            }
        }
        for new in &new.dvs {
            let old = old.dvs.iter().find(|old| old.signal == new.signal);
            if old.is_some_and(|old| old.known_ahead != new.known_ahead) {
                let word = if new.known_ahead { "forecast" } else { "no longer forecast" };
                self.list.push(format!("{} {word}", words(&new.signal)));
            }
        }
        for new in &new.mvs {
            if let Some(old) = old.mvs.iter().find(|old| old.tag == new.tag) {
                self.document(&new.tag, old, new);
            }
        }
        fn tags(settings: &PredictiveSettings) -> Vec<&str> {
            let signals = settings.cvs.iter().map(|cv| &cv.tag).chain(settings.mvs.iter().map(|mv| &mv.tag));
            signals.chain(settings.dvs.iter().map(|dv| &dv.signal)).map(String::as_str).collect()
        }
        let (before, after) = (tags(old), tags(new));
        self.list.extend(after.iter().filter(|tag| !before.contains(tag)).map(|tag| format!("with {tag}")));
        self.list.extend(before.iter().filter(|tag| !after.contains(tag)).map(|tag| format!("without {tag}")));
        if old.beyond_horizon != new.beyond_horizon {
            let word = if new.beyond_horizon { "counts" } else { "does not count" };
            self.list.push(format!("what comes beyond the horizon {word}"));
        }
        match (&old.learns, &new.learns) {
            (None, Some(_)) => self.list.push("learns how strongly its MVs act".to_owned()),
            (Some(_), None) => self.list.push("learns no longer how strongly its MVs act".to_owned()),
            (Some(old), Some(new)) => self.document("to learn", old, new),
            (None, None) => {}
        }
        self.number("solver steps at most", f64::from(old.most_steps), f64::from(new.most_steps), "");
    }

    fn pid(&mut self, old: &PidSettings, new: &PidSettings) {
        self.number("gain", old.gain, new.gain, "");
        self.optional_time("integral time", old.integral_time, new.integral_time);
        self.time("derivative time", old.derivative_time, new.derivative_time);
        self.number("derivative filter", old.derivative_filter, new.derivative_filter, "");
        self.number("set point weight", old.set_point_weight, new.set_point_weight, "");
        self.number("low limit", old.output_limits.low, new.output_limits.low, "%");
        self.number("high limit", old.output_limits.high, new.output_limits.high, "%");
        let weights = (old.derivative_set_point_weight, new.derivative_set_point_weight);
        self.number("set point weight of the derivative", weights.0, weights.1, "");
        self.time("PV filter", old.filter_time, new.filter_time);
        self.number("gap", old.gap, new.gap, "%");
        self.number("gap gain", old.gap_gain, new.gap_gain, "");
        if old.rate_limit != new.rate_limit {
            let shown = |rate: Option<f64>| rate.map_or("off".to_owned(), |rate| format!("{} %/s", readable(rate)));
            self.list.push(format!("rate limit {} → {}", shown(old.rate_limit), shown(new.rate_limit)));
        }
        self.document("algorithm", &old.algorithm, &new.algorithm);
        self.document("anti-windup", &old.anti_windup, &new.anti_windup);
        self.document("schedule", &old.schedule, &new.schedule);
        self.document("feed-forward", &old.feed_forward, &new.feed_forward);
        if old.tracking_time != new.tracking_time {
            self.optional_time("tracking time", old.effective_tracking_time(), new.effective_tracking_time());
        }
        if old.action != new.action {
            let word = if new.action == Action::Direct { "direct" } else { "reverse" };
            self.list.push(format!("action now {word}"));
        }
    }

    fn plant(&mut self, old: &Plant, new: &Plant) {
        let unit = &new.pv.span.unit;
        self.process(old, new);
        self.number("start PV", old.operating_point.pv, new.operating_point.pv, unit);
        self.number("start OP", old.operating_point.op, new.operating_point.op, "%");
        if old.operating_point.states != new.operating_point.states {
            self.list.push("start states".to_owned());
        }
        self.document("valve", &old.actuator, &new.actuator);
        self.document("sensor", &old.sensor, &new.sensor);
        if old.measured != new.measured {
            self.list.push(format!("measures {}", words(new.measured.as_deref().unwrap_or("the first output"))));
        }
        if old.drive != new.drive {
            self.document("drive", &old.drive, &new.drive);
        }
        self.document("further measured signals", &old.further_measured, &new.further_measured);
        self.document("measured disturbances", &old.measured_disturbances, &new.measured_disturbances);
        self.document("further driven signals", &old.further_driven, &new.further_driven);
        if old.pv != new.pv || old.op != new.op {
            self.list.push("tags or spans".to_owned());
        }
    }

    fn process(&mut self, old: &Plant, new: &Plant) {
        if old.process == new.process && old.inputs == new.inputs {
            return;
        }
        let (Ok(before), Ok(after)) = (old.describe(), new.describe()) else {
            self.list.push("another process".to_owned());
            return;
        };
        let same_equations = match (&old.process, &new.process) {
            (ProcessSpec::Linear(a), ProcessSpec::Linear(b)) => std::mem::discriminant(a) == std::mem::discriminant(b),
            _ => before.name == after.name && before.states.len() == after.states.len(),
        };
        if !same_equations {
            self.list.push(format!("now {}", after.title));
            return;
        }
        let count = self.list.len();
        let (was, is) = (parameters(&old.process, &before), parameters(&new.process, &after));
        for (quantity, value) in &is {
            let Some((_, old_value)) = was.iter().find(|(known, _)| known.name == quantity.name) else { continue };
            let unit = quantity.unit.as_str();
            let name = match (quantity.name.as_str(), unit) {
                ("gain", _) => "process gain".to_owned(),
                (name, _) => words(name),
            };
            match unit {
                "s" => self.time(&name, *old_value, *value),
                _ if unit.starts_with("PV unit") => self.number(&name, *old_value, *value, ""),
                _ => self.number(&name, *old_value, *value, unit),
            }
        }
        let inputs = |given: &BTreeMap<String, f64>, of: &Description| -> Vec<f64> {
            of.inputs.iter().map(|input| given.get(&input.name).copied().unwrap_or(input.value)).collect()
        };
        for ((input, old), new) in
            after.inputs.iter().zip(inputs(&old.inputs, &before)).zip(inputs(&new.inputs, &after))
        {
            self.number(&words(&input.name), old, new, &input.unit);
        }
        if self.list.len() == count {
            self.list.push(within(&old.process, &new.process));
        }
    }

    /// The numbers and words that differ between two documents of one kind.
    fn document(&mut self, what: &str, old: &impl Serialize, new: &impl Serialize) {
        let leaves = |document: &dyn Fn() -> serde_json::Result<Value>| {
            let mut found = BTreeMap::new();
            collect(&document().unwrap_or_default(), "", &mut found);
            found
        };
        let (old, new) = (leaves(&|| serde_json::to_value(old)), leaves(&|| serde_json::to_value(new)));
        match (old.is_empty(), new.is_empty()) {
            (true, true) => return,
            (true, false) => return self.list.push(format!("with {what}")),
            (false, true) => return self.list.push(format!("without {what}")),
            (false, false) => {}
        }
        let shown = |value: Option<&Value>| match value {
            Some(Value::Number(number)) => readable(number.as_f64().unwrap_or_default()),
            Some(Value::String(text)) => words(text),
            Some(Value::Bool(yes)) => (if *yes { "on" } else { "off" }).to_owned(),
            _ => "none".to_owned(),
        };
        let mut names: Vec<&String> = old.keys().chain(new.keys()).collect();
        names.sort();
        names.dedup();
        let changed: Vec<&String> = names.into_iter().filter(|name| old.get(*name) != new.get(*name)).collect();
        if let Some(kind) = changed.iter().find(|name| name.as_str() == "kind" || name.as_str() == "shape") {
            self.list.push(format!("{what} now {}", shown(new.get(*kind))));
            return;
        }
        for name in changed {
            let mut parts: Vec<&str> = name.split('/').filter(|part| part.parse::<usize>().is_err()).collect();
            let last = parts.pop().unwrap_or_default();
            // The noise of the sensor, the stroke time of the valve need not be said whose they are; a gain must.
            let own = parts.pop().filter(|part| ["inner", "outer", "model", "low", "high"].contains(part));
            let name_in_words = match (own, what) {
                (Some(own @ ("low" | "high")), _) if last == "value" => format!("{what} {own} limit"),
                (Some(own @ ("low" | "high")), _) => format!("{what} {own} limit's {last}"),
                _ if last.is_empty() => words(what),
                (Some(own), _) => words(&format!("{own} {last}")),
                (None, "sensor" | "valve") => words(last),
                (None, what) => words(&format!("{what} {last}")),
            };
            self.list.push(format!("{name_in_words} {} → {}", shown(old.get(name)), shown(new.get(name))));
        }
    }

    fn events(&mut self, old: &[Event], new: &[Event], pv_unit: &str) {
        if old.len() != new.len() {
            let without = |events: &[Event], others: &[Event]| -> Vec<String> {
                events.iter().filter(|event| !others.contains(event)).map(name_of).collect()
            };
            let (added, removed) = (without(new, old), without(old, new));
            if added.len() + removed.len() > 3 {
                self.list.push(format!("{} → {} events", old.len(), new.len()));
            } else {
                self.list.extend(added.into_iter().map(|name| format!("with {name}")));
                self.list.extend(removed.into_iter().map(|name| format!("without {name}")));
            }
            return;
        }
        for (old, new) in old.iter().zip(new) {
            if old == new {
                continue;
            }
            let name = name_of(new);
            if std::mem::discriminant(old) != std::mem::discriminant(new) {
                self.list.push(format!("now a {name}"));
                continue;
            }
            let count = self.list.len();
            let (before, after) =
                (serde_json::to_value(old).unwrap_or_default(), serde_json::to_value(new).unwrap_or_default());
            let number = |document: &Value, field: &str| document.get(field).and_then(Value::as_f64);
            for (field, part) in [("by", ""), ("to", " to")] {
                if let (Some(old), Some(value)) = (number(&before, field), number(&after, field)) {
                    let unit = match new {
                        Event::SetPointStep { .. } | Event::SetPointRamp { .. } => pv_unit,
                        Event::OutputStep { .. } => "%",
                        _ if new.load_input() == Some(None) => "%",
                        _ => "",
                    };
                    self.number(&format!("{name}{part}"), old, value, unit);
                }
            }
            for field in ["at", "over", "lasts", "period", "interval"] {
                self.optional_time(&format!("{name} {field}"), number(&before, field), number(&after, field));
            }
            if self.list.len() == count {
                self.list.push(format!("another {name}"));
            }
        }
    }
}

impl Event {
    /// What it is called, as in the trail: `load step`, `change of transfer`.
    #[must_use]
    pub fn title(&self) -> String {
        name_of(self)
    }
}

/// What an event is called.
fn name_of(event: &Event) -> String {
    let kind = serde_json::to_value(event).ok().and_then(|event| Some(event.get("kind")?.as_str()?.to_owned()));
    let kind = words(&kind.unwrap_or_default());
    match event {
        Event::ParameterChange { parameter, .. } => format!("change of {}", words(parameter)),
        Event::LimitMoves { cv, side, rank, .. } => format!("{} limit of {cv} (rank {rank})", side.in_words()),
        _ => match event.load_input() {
            Some(Some(input)) => kind.replace("load", &words(input)),
            _ => kind,
        },
    }
}

fn words(name: &str) -> String {
    name.replace('_', " ")
}

/// What differs inside a process whose parameters are the same: the one equation or element, or the matrices.
fn within(old: &ProcessSpec, new: &ProcessSpec) -> String {
    use crate::process::DetailedSpec::{Equations, StateSpace, TransferFunctions};
    let (ProcessSpec::Detailed(old), ProcessSpec::Detailed(new)) = (old, new) else {
        return "other equations".to_owned();
    };
    match (old, new) {
        (Equations(old), Equations(new)) => {
            let all = |spec: &EquationsSpec| -> Vec<(String, String)> {
                let named = |what: &str, name: &str| format!("{what}{}", words(name));
                let definitions = spec.definitions.iter().map(|one| (named("", &one.name), one.equals.clone()));
                let rates = spec.rates.iter().map(|one| (named("rate of ", &one.name), one.equals.clone()));
                let outputs = spec.outputs.iter().map(|one| (named("output ", &one.name), one.equals.clone()));
                definitions.chain(rates).chain(outputs).collect()
            };
            let before = all(old);
            match all(new).iter().filter(|one| !before.contains(one)).collect::<Vec<_>>()[..] {
                [(name, _)] => format!("another {name}"),
                _ => "other equations".to_owned(),
            }
        }
        (TransferFunctions(old), TransferFunctions(new)) => {
            match new.elements.iter().filter(|one| !old.elements.contains(one)).collect::<Vec<_>>()[..] {
                [one] => format!("another transfer function {} → {}", words(&one.input), words(&one.output)),
                _ => "other transfer functions".to_owned(),
            }
        }
        (StateSpace(_), StateSpace(_)) => "other matrices".to_owned(),
        _ => "another process".to_owned(),
    }
}

/// The parameters with their values; of a library process only those that can differ have to be given.
fn parameters(spec: &ProcessSpec, description: &Description) -> Vec<(Quantity, f64)> {
    let built = spec.build("").ok();
    description
        .parameters
        .iter()
        .enumerate()
        .map(|(k, quantity)| {
            let value = built.as_ref().and_then(|process| process.parameters().get(k).copied());
            (quantity.clone(), value.unwrap_or(quantity.value))
        })
        .collect()
}

fn collect(value: &Value, path: &str, found: &mut BTreeMap<String, Value>) {
    let under = |name: &str| if path.is_empty() { name.to_owned() } else { format!("{path}/{name}") };
    match value {
        Value::Object(fields) => fields.iter().for_each(|(name, value)| collect(value, &under(name), found)),
        Value::Array(items) => {
            items.iter().enumerate().for_each(|(k, value)| collect(value, &under(&k.to_string()), found));
        }
        Value::Null => {}
        leaf => {
            found.insert(path.to_owned(), leaf.clone());
        }
    }
}

/// Moves as they are typed: `1, 1, 2, 4 × 3`.
fn in_runs(moves: &[u32]) -> String {
    let runs = moves.chunk_by(|a, b| a == b).map(|run| match run.len() {
        count @ 3.. => format!("{} × {count}", run[0]),
        _ => run.iter().map(u32::to_string).collect::<Vec<_>>().join(", "),
    });
    runs.collect::<Vec<_>>().join(", ")
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::controller::FeedForward;
    use crate::simulation::Plant;
    use crate::simulation::trial::heater;

    #[test]
    fn what_comes_and_goes_is_called_by_its_name() {
        let before = heater();
        let mut after = before.clone();
        let ControllerSpec::Pid(pid) = &mut after.candidate.controller else { unreachable!() };
        let forward: FeedForward =
            serde_json::from_value(serde_json::json!({ "signal": "load", "gain": -0.6 })).unwrap();
        pid.feed_forward = Some(forward.clone());
        assert_eq!(after.difference(&before), ["with feed-forward"]);
        assert_eq!(before.difference(&after), ["without feed-forward"]);
        let mut stronger = after.clone();
        let ControllerSpec::Pid(pid) = &mut stronger.candidate.controller else { unreachable!() };
        pid.feed_forward = Some(FeedForward { gain: -0.8, ..forward });
        assert_eq!(stronger.difference(&after), ["feed-forward gain −0.6 → −0.8"]);
    }

    #[test]
    fn of_equations_the_one_that_is_another_is_named() {
        let plant = heater().plant;
        let on = |equals: &str, rate: &str| {
            let spec = serde_json::json!({
                "structure": "equations", "title": "tank",
                "states": [{ "name": "level", "value": 1.0, "unit": "m" }],
                "inputs": [{ "name": "inflow", "value": 1.0, "unit": "m³/h" }],
                "parameters": [],
                "definitions": [{ "name": "outflow", "equals": equals }],
                "rates": [{ "name": "level", "equals": rate }],
                "outputs": [{ "name": "height", "equals": "level", "unit": "m" }],
            });
            let process: ProcessSpec = serde_json::from_value(spec).unwrap();
            let mut trial = heater();
            trial.plant = Plant { process, drive: None, measured: None, inputs: BTreeMap::new(), ..plant.clone() };
            trial
        };
        let before = on("sqrt(level)", "(inflow - outflow) / 10");
        assert_eq!(on("2 * sqrt(level)", "(inflow - outflow) / 10").difference(&before), ["another outflow"]);
        assert_eq!(on("sqrt(level)", "(inflow - outflow) / 20").difference(&before), ["another rate of level"]);
        assert_eq!(on("level", "(inflow - outflow) / 20").difference(&before), ["other equations"]);
    }
}
