//! The block of all loops: the controllers of a trial as blocks of their own, wired as they are in the simulation.
//!
//! It does what the simulation does at a scan: modes first, then the controllers from the outermost inwards, each with a set point of its own
//! or from above, then back again what became of every output, so that nothing winds up. A block is told that in its next call.

use super::text::{Kind, Text, Unit, Variable, identifier, real, remark};
use super::{Block, pid, smith};
use antistasis_core::Result;
use antistasis_core::controller::{ControllerSpec, PidSettings, ScheduledOver};
use antistasis_core::simulation::{End, Lead, Plant, Select, Trial, Wiring};
use antistasis_core::units::Span;
use std::collections::BTreeSet;

/// Whether there is anything to wire.
pub(super) fn has_wires(trial: &Trial) -> bool {
    !trial.candidate.further.is_empty() || trial.candidate.sets.iter().any(|wire| wire.range.is_some())
}

/// The blocks of the controllers by name, and last the one that calls them. None where a controller has no text.
pub(super) fn units(trial: &Trial) -> Result<Option<Vec<(String, Unit)>>> {
    let (plant, candidate, scan) = (&trial.plant, &trial.candidate, trial.scenario.scan);
    let wiring = Wiring::new(plant, candidate)?;
    let own = (&candidate.controller, candidate.set_point_tracking);
    let further = candidate.further.iter().map(|wired| (&wired.controller, wired.set_point_tracking));
    let specs: Vec<(&ControllerSpec, bool)> = std::iter::once(own).chain(further).collect();
    if specs.iter().any(|(spec, _)| settings(spec).is_none() && **spec != ControllerSpec::Manual) {
        return Ok(None);
    }
    let spans = plant.measured_spans();
    let mut names = Names(BTreeSet::from(["STARTED".to_owned()]));
    let mut signals = Signals::of(plant, &mut names)?;
    let (mut seats, mut units) = (Vec::new(), Vec::new());
    for (k, (spec, set_point_tracking)) in specs.into_iter().enumerate() {
        let (name, pv_span) = (wiring.names[k].as_str(), spans[wiring.measures[k]]);
        let mut unit = match spec {
            ControllerSpec::Pid(settings) => pid::unit(&Block { name, settings, pv_span, scan, is_wired: true })?,
            ControllerSpec::Smith(settings) => smith::unit(&Block { name, settings, pv_span, scan, is_wired: true })?,
            _ => Unit::default(),
        };
        let id = names.give(name, &OF_SEAT)?;
        let pid = settings(spec);
        let block = pid.is_some().then(|| {
            unit.title.clone_from(&id);
            units.push((name.to_owned(), unit));
            id.clone()
        });
        let scheduled_by = pid.and_then(|pid| pid.schedule.as_ref()).and_then(|schedule| match &schedule.over {
            ScheduledOver::Signal(name) => Some(name),
            _ => None,
        });
        let mut read = |name: Option<&String>| name.map(|name| signals.read(plant, name, &mut names)).transpose();
        seats.push(Seat {
            scheduled_by: read(scheduled_by)?,
            fed_forward: read(pid.and_then(|pid| pid.feed_forward.as_ref()).map(|forward| &forward.signal))?,
            name: name.to_owned(),
            pv: signals.measured[wiring.measures[k]].clone(),
            span: pv_span.clone(),
            sense: pid.map_or(1.0, |pid| pid.action.sign()),
            set_point_tracking,
            id,
            block,
        });
    }
    let (first, further) = (plant.loop_tag(), seats.len() - 1);
    let name = match further {
        0 => format!("{first} wired"),
        1 => format!("{first} and {}", seats[1].name),
        _ => format!("{first} and {further} more"),
    };
    let title = names.give(&name, &[])?;
    let mut room = Room { wiring: &wiring, seats: &seats, signals: &signals, unit: Unit::default() };
    room.declare(plant);
    let body = room.body();
    let heading =
        format!("All loops of {first}, wired. Call it once every {scan} s; the other blocks are called by it.");
    units.push((name, Unit { title, heading: remark(&heading), body, ..room.unit }));
    Ok(Some(units))
}

/// What is written of a controller.
fn settings(spec: &ControllerSpec) -> Option<&PidSettings> {
    match spec {
        ControllerSpec::Pid(pid) => Some(pid),
        ControllerSpec::Smith(smith) => Some(&smith.pid),
        _ => None,
    }
}

/// Names of variables and blocks, each given once: capitals and small letters are the same.
struct Names(BTreeSet<String>);

impl Names {
    /// A name that is free, and stays so with each of these behind it.
    fn give(&mut self, name: &str, with: &[&str]) -> Result<String> {
        let plain = identifier(name)?;
        let wanted = |own: &str| -> Vec<String> {
            let further = with.iter().map(|what| format!("{own}_{what}"));
            std::iter::once(own.to_owned()).chain(further).map(|name| name.to_uppercase()).collect()
        };
        let mut all = std::iter::once(plain.clone()).chain((2..).map(|k| format!("{plain}_{k}")));
        let own = all.find(|own| wanted(own).iter().all(|name| !self.0.contains(name))).unwrap_or(plain);
        self.0.extend(wanted(&own));
        Ok(own)
    }
}

/// What stands behind the name of an OP, and behind that of a controller.
const OF_OP: [&str; 1] = ["STANDS"];
const OF_SEAT: [&str; 14] = [
    "SP",
    "MANUAL",
    "BY_HAND",
    "OUT",
    "block",
    "set",
    "stood",
    "offset",
    "was_manual",
    "taking_over",
    "held",
    "told",
    "wait_up",
    "wait_down",
];

/// The variables that hold what is measured, set, and read besides.
struct Signals {
    measured: Vec<String>,
    ops: Vec<String>,
    /// Further ones by what they are called in the trial.
    further: Vec<(String, String)>,
}

impl Signals {
    fn of(plant: &Plant, names: &mut Names) -> Result<Self> {
        let mut all =
            |tags: Vec<&str>, with| tags.into_iter().map(|tag| names.give(tag, with)).collect::<Result<Vec<_>>>();
        let measured = all(plant.measured_tags(), &[])?;
        Ok(Self { measured, ops: all(plant.op_tags(), &OF_OP)?, further: Vec::new() })
    }

    /// The variable of a signal that a controller reads: as in a trial, a measured disturbance goes before the signals of the loops.
    fn read(&mut self, plant: &Plant, name: &str, names: &mut Names) -> Result<String> {
        if !plant.measured_disturbances.iter().any(|one| one.tag == name) {
            let place = |tags: &[&str]| tags.iter().position(|tag| *tag == name);
            if let Some(k) = place(&plant.measured_tags()) {
                return Ok(self.measured[k].clone());
            }
            if let Some(k) = place(&plant.op_tags()) {
                return Ok(self.ops[k].clone());
            }
        }
        if let Some((_, variable)) = self.further.iter().find(|(known, _)| known == name) {
            return Ok(variable.clone());
        }
        let variable = names.give(name, &[])?;
        self.further.push((name.to_owned(), variable.clone()));
        Ok(variable)
    }
}

/// A controller among the others.
struct Seat {
    /// What it is called, and what the names of its variables begin with.
    name: String,
    id: String,
    /// Its block; none where its output is set by hand for ever.
    block: Option<String>,
    /// What it measures, reads for its schedule, and feeds forward.
    pv: String,
    scheduled_by: Option<String>,
    fed_forward: Option<String>,
    span: Span,
    sense: f64,
    set_point_tracking: bool,
}

impl Seat {
    /// A variable of its own.
    fn own(&self, what: &str) -> String {
        format!("{}_{what}", self.id)
    }

    fn in_percent(&self) -> String {
        let (low, high) = (real(self.span.low), real(self.span.high));
        format!("100.0 * ({} - {low}) / ({high} - {low})", self.pv)
    }
}

/// The block that calls the others, as it comes to be.
struct Room<'a> {
    wiring: &'a Wiring,
    seats: &'a [Seat],
    signals: &'a Signals,
    unit: Unit,
}

impl Room<'_> {
    fn declare(&mut self, plant: &Plant) {
        let (tags, spans) = (plant.measured_tags(), plant.measured_spans());
        let Unit { inputs, outputs, locals, .. } = &mut self.unit;
        let input = |name: &str, kind: Kind, what: &str| Variable::new(name, kind).is(what);
        for (k, variable) in self.signals.measured.iter().enumerate() {
            inputs.push(input(variable, Kind::Real, &format!("{}, {}", tags[k], spans[k].unit)));
        }
        inputs.extend(self.signals.further.iter().map(|(name, variable)| input(variable, Kind::Real, name)));
        for (op, tag) in self.signals.ops.iter().zip(plant.op_tags()) {
            inputs.push(input(
                &format!("{op}_STANDS"),
                Kind::Real,
                &format!("{tag} as it stands at the first call, %"),
            ));
            outputs.push(input(op, Kind::Real, &format!("{tag}, %")));
        }
        locals.push(Variable::logical("started"));
        for (k, seat) in self.seats.iter().enumerate() {
            let Seat { name, span, .. } = seat;
            if !self.wiring.sets_its(k) && seat.block.is_some() {
                inputs.push(input(&seat.own("SP"), Kind::Real, &format!("set point of {name}, {}", span.unit)));
            }
            if seat.block.is_some() {
                inputs.push(input(&seat.own("MANUAL"), Kind::Logical, &format!("TRUE: {name} is in manual")));
            }
            inputs.push(input(&seat.own("BY_HAND"), Kind::Real, &format!("output of {name} in manual, %")));
            outputs.push(input(&seat.own("OUT"), Kind::Real, &format!("output of {name}, %")));
            let Some(block) = &seat.block else { continue };
            locals.push(Variable::new(&seat.own("block"), Kind::Block(block.clone())));
            locals.extend(["set", "stood"].map(|what| Variable::real(&seat.own(what))));
            locals.extend(seat.set_point_tracking.then(|| Variable::real(&seat.own("offset"))));
            let modes = ["was_manual", "taking_over", "held", "told", "wait_up", "wait_down"];
            locals.extend(modes.map(|what| Variable::logical(&seat.own(what))));
        }
    }

    fn body(&self) -> String {
        let mut text = Text::default();
        self.begin(&mut text);
        text.line("");
        text.comment("modes: who goes to automatic takes over what stands");
        for seat in self.written() {
            let own = |what: &str| seat.own(what);
            text.within("IF NOT started THEN", "END_IF;", |text| {
                text.line(format!("{} := {};", own("was_manual"), own("MANUAL")));
            });
            text.line(format!("IF {} THEN", own("MANUAL")));
            text.line(format!("  {} := FALSE;", own("taking_over")));
            text.line(format!("ELSIF {} THEN", own("was_manual")));
            text.line(format!("  {} := TRUE;", own("taking_over")));
            text.line("END_IF;");
            text.line(format!("{} := {};", own("was_manual"), own("MANUAL")));
        }
        for k in &self.wiring.order {
            self.scan(&mut text, *k);
        }
        self.tell_back(&mut text);
        text.line("started := TRUE;");
        text.written
    }

    /// The controllers that have a block.
    fn written(&self) -> impl Iterator<Item = &Seat> {
        self.seats.iter().filter(|seat| seat.block.is_some())
    }

    /// The output of each controller at the first call: the one at which what it sets stands where it stands.
    fn begin(&self, text: &mut Text) {
        text.line("");
        text.within("IF NOT started THEN", "END_IF;", |text| {
            for op in &self.signals.ops {
                text.line(format!("{op} := {op}_STANDS;"));
            }
            for (k, seat) in self.seats.iter().enumerate() {
                let leads: Vec<&Lead> = self.wiring.of(k).collect();
                let out = seat.own("OUT");
                let from = |lead: &Lead| format!("{out} := {};", output(lead, &self.stands(lead)));
                let Some((first, others)) = leads.split_first() else { continue };
                text.line(from(first));
                // Of a split range the signal that is between its ends tells.
                for lead in others.iter().rev().chain([first]).filter(|_| !others.is_empty()) {
                    let stands = self.stands(lead);
                    text.line(format!("IF {stands} > 0.0 AND {stands} < 100.0 THEN"));
                    text.line(format!("  {}", from(lead)));
                    text.line("END_IF;");
                }
            }
        });
    }

    /// Where a wire's end stands, in %.
    fn stands(&self, lead: &Lead) -> String {
        match lead.end {
            End::Op(op) => self.signals.ops[op].clone(),
            End::SetPoint(below) => self.seats[below].in_percent(),
        }
    }

    /// What comes to one end of the wires.
    fn joined(&self, end: End) -> String {
        let leads = self.wiring.leads.iter().filter(|lead| lead.end == end);
        let comes = |lead: &Lead| signal(lead, &self.seats[lead.from].own("OUT"));
        leads.fold(String::new(), |joined, lead| match (joined.is_empty(), lead.select) {
            (false, Some(Select::Lowest)) => format!("MIN({joined}, {})", comes(lead)),
            (false, Some(Select::Highest)) => format!("MAX({joined}, {})", comes(lead)),
            _ => comes(lead),
        })
    }

    /// One controller: its set point, its output, and what it sets.
    fn scan(&self, text: &mut Text, k: usize) {
        let seat = &self.seats[k];
        let own = |what: &str| seat.own(what);
        text.line("");
        text.comment(&seat.name);
        if seat.block.is_some() {
            self.set_point(text, k);
            self.hold(text, k);
            text.line(format!("IF {} AND NOT {} THEN", own("MANUAL"), own("held")));
            text.line(format!("  {} := {};", own("OUT"), own("BY_HAND")));
            text.line("END_IF;");
            let mut given = vec![
                format!("PV := {}, SP := {}", seat.pv, own("set")),
                format!("MANUAL := {} OR {}, OP_MANUAL := {}", own("MANUAL"), own("held"), own("OUT")),
                format!("TAKES_OVER := {}, TOLD := {}, STOOD := {}", own("taking_over"), own("told"), own("stood")),
                format!("WAIT_UP := {}, WAIT_DOWN := {}", own("wait_up"), own("wait_down")),
            ];
            given.extend(seat.scheduled_by.as_ref().map(|signal| format!("SCHEDULED_BY := {signal}")));
            given.extend(seat.fed_forward.as_ref().map(|signal| format!("FED_FORWARD := {signal}")));
            text.line(format!("{}({});", own("block"), given.join(",\n  ")));
            text.line(format!("{} := {}.OP;", own("OUT"), own("block")));
            text.line(format!("IF NOT {} AND NOT {} THEN", own("MANUAL"), own("held")));
            text.line(format!("  {} := FALSE;", own("taking_over")));
            text.line("END_IF;");
        } else {
            text.line(format!("{} := {};", own("OUT"), own("BY_HAND")));
        }
        for lead in self.wiring.of(k) {
            if let End::Op(op) = lead.end {
                text.line(format!("{} := {};", self.signals.ops[op], self.joined(lead.end)));
            }
        }
    }

    fn set_point(&self, text: &mut Text, k: usize) {
        let seat = &self.seats[k];
        let own = |what: &str| seat.own(what);
        if self.wiring.sets_its(k) {
            let (low, high) = (real(seat.span.low), real(seat.span.high));
            text.line(format!("IF {} OR NOT started THEN", own("MANUAL")));
            text.line(format!("  {} := {};", own("set"), seat.pv));
            text.line("ELSE");
            text.line(format!(
                "  {} := {low} + ({high} - {low}) * {} / 100.0;",
                own("set"),
                self.joined(End::SetPoint(k))
            ));
            text.line("END_IF;");
            return;
        }
        if !seat.set_point_tracking {
            text.line(format!("{} := {};", own("set"), own("SP")));
        } else {
            text.within(&format!("IF {} THEN", own("MANUAL")), "END_IF;", |text| {
                text.comment("the set point follows");
                text.line(format!("{} := {} - {};", own("offset"), seat.pv, own("SP")));
            });
            text.line(format!("{} := {} + {};", own("set"), own("SP"), own("offset")));
        }
    }

    /// Who sets nothing but set points stands where the signals below stand, while all of them are in manual.
    fn hold(&self, text: &mut Text, k: usize) {
        let seat = &self.seats[k];
        let below: Option<Vec<(&Lead, &Seat)>> = self
            .wiring
            .of(k)
            .map(|lead| match lead.end {
                End::SetPoint(below) => Some((lead, &self.seats[below])),
                End::Op(_) => None,
            })
            .collect();
        let Some(below) = below.filter(|below| !below.is_empty()) else { return };
        let stand_still: Vec<String> = below
            .iter()
            .filter(|(_, seat)| seat.block.is_some())
            .map(|(_, seat)| format!("({} OR {})", seat.own("MANUAL"), seat.own("taking_over")))
            .collect();
        let all = if stand_still.is_empty() { "TRUE".to_owned() } else { stand_still.join(" AND ") };
        text.line(format!("{} := {all};", seat.own("held")));
        if let Some((lead, _)) = below.last() {
            text.within(&format!("IF {} THEN", seat.own("held")), "END_IF;", |text| {
                text.line(format!("{} := {};", seat.own("OUT"), output(lead, &self.stands(lead))));
            });
        }
    }

    /// What became of every output, from the innermost outwards.
    fn tell_back(&self, text: &mut Text) {
        text.line("");
        text.comment("what became of each output: it is told in the next call");
        for seat in self.written() {
            text.line(format!("{} := FALSE;", seat.own("wait_up")));
            text.line(format!("{} := FALSE;", seat.own("wait_down")));
        }
        for k in self.wiring.order.iter().rev() {
            let seat = &self.seats[*k];
            if seat.block.is_none() {
                continue;
            }
            let own = |what: &str| seat.own(what);
            text.line(format!("{} := {};", own("stood"), own("OUT")));
            for lead in self.wiring.of(*k) {
                let End::Op(op) = lead.end else { continue };
                let op = &self.signals.ops[op];
                text.within(&format!("IF {} <> {op} THEN", signal(lead, &own("stood"))), "END_IF;", |text| {
                    text.line(format!("{} := {};", own("stood"), output(lead, op)));
                });
            }
            text.line(format!("{} := NOT {} AND {} <> {};", own("told"), own("MANUAL"), own("stood"), own("OUT")));
            for lead in self.wiring.leads.iter().filter(|lead| lead.end == End::SetPoint(*k)) {
                let above = &self.seats[lead.from];
                if above.block.is_none() {
                    continue;
                }
                // What is cut off, in the direction in which the output above would have to go on.
                let rises = seat.sense * (lead.range[1] - lead.range[0]) > 0.0;
                let (up, down) = if rises { ("wait_up", "wait_down") } else { ("wait_down", "wait_up") };
                text.within(&format!("IF NOT {} THEN", own("MANUAL")), "END_IF;", |text| {
                    for (what, sign) in [(up, ">"), (down, "<")] {
                        let excess = format!("{}.UNLIMITED {sign} {}", own("block"), own("stood"));
                        text.line(format!("{0} := {0} OR {excess};", above.own(what)));
                    }
                });
            }
        }
    }
}

/// The signal that an output gives, in %.
fn signal(lead: &Lead, output: &str) -> String {
    if lead.is_whole() {
        return output.to_owned();
    }
    let (low, high) = (real(lead.range[0]), real(lead.range[1]));
    format!("LIMIT(0.0, 100.0 * ({output} - {low}) / ({high} - {low}), 100.0)")
}

/// The output that gives a signal.
fn output(lead: &Lead, signal: &str) -> String {
    if lead.is_whole() {
        return signal.to_owned();
    }
    let (low, high) = (real(lead.range[0]), real(lead.range[1]));
    format!("{low} + ({signal}) * ({high} - {low}) / 100.0")
}
