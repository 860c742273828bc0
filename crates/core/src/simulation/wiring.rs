//! Controllers wired by tags: what each measures, and where its output goes.

use super::plant::Plant;
use super::trial::Candidate;
use crate::controller::{ControllerSpec, FeedForward, PidSettings};
use crate::{Error, Result, check};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Most controllers beside the first.
pub const MOST_CONTROLLERS: usize = 15;

/// A controller beside the first one of a candidate.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Wired {
    /// Its name, for example `TIC-321`; its set point is the signal `TIC-321.SP`.
    pub name: String,
    /// Tag of the measured signal that it controls.
    pub measures: String,
    /// Where its output goes: one signal as a rule, several where its range is split.
    pub sets: Vec<Wire>,
    /// The controller.
    pub controller: ControllerSpec,
    /// Whether its set point follows its PV in manual.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub set_point_tracking: bool,
}

/// Where the output of a controller goes.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Wire {
    /// Tag of an OP, or the set point of another controller, `NAME.SP`, which then moves over the span of its PV.
    pub to: String,
    /// The output of the controller at which the signal stands at 0 %, and at which at 100 %: a split range. Null for all of it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub range: Option<[f64; 2]>,
    /// Which of several outputs that go to one signal is taken: an override. The one wire of them without it is the usual one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub select: Option<Select>,
}

/// What is taken of two outputs.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Select {
    /// The lower one.
    Lowest,
    /// The higher one.
    Highest,
}

impl Select {
    pub(super) fn of(self, a: f64, b: f64) -> f64 {
        match self {
            Self::Lowest => a.min(b),
            Self::Highest => a.max(b),
        }
    }
}

impl Wire {
    /// All of an output to the signal of this tag.
    #[must_use]
    pub fn to(tag: impl Into<String>) -> Self {
        Self { to: tag.into(), range: None, select: None }
    }
}

/// How the controllers of a candidate and the signals of its plant hang together while nothing is at a limit: what one unit, in %,
/// of the output of a controller does.
#[derive(Debug, Clone)]
pub struct Links {
    wiring: Wiring,
    /// The measured signal of each controller: 0 is the PV.
    pub measures: Vec<usize>,
    ops: Vec<String>,
    at_start: Vec<f64>,
}

impl Links {
    /// Of a candidate on a plant.
    pub fn of(plant: &Plant, candidate: &Candidate) -> Result<Self> {
        let wiring = Wiring::new(plant, candidate)?;
        let further = &plant.further_driven;
        let ops = plant.op_tags().into_iter().map(str::to_owned).collect();
        let at_start =
            std::iter::once(plant.operating_point.op).chain(further.iter().map(|one| one.at_start)).collect();
        Ok(Self { measures: wiring.measures.clone(), wiring, ops, at_start })
    }

    /// How much an OP moves with the output of a controller. What overrides stands by; of a split range the half that is at its end
    /// stands still.
    #[must_use]
    pub fn at_op(&self, controller: usize, op: usize) -> f64 {
        let lead = self.wiring.of(controller).find(|lead| lead.end == End::Op(op) && lead.select.is_none());
        let stands_still = |lead: &Lead| lead.range != WHOLE && !(0.0 < self.at_start[op] && self.at_start[op] < 100.0);
        lead.filter(|lead| !stands_still(lead)).map_or(0.0, |lead| 100.0 / (lead.range[1] - lead.range[0]))
    }

    /// How much the set point of one controller moves with the output of another.
    #[must_use]
    pub fn at_set_point(&self, controller: usize, of: usize) -> f64 {
        let lead = self.wiring.of(controller).find(|lead| lead.end == End::SetPoint(of) && lead.select.is_none());
        lead.map_or(0.0, |lead| 100.0 / (lead.range[1] - lead.range[0]))
    }

    /// The feed-forward of a controller from an OP, which OP that is, and whether it is read as it stood a scan ago.
    #[must_use]
    pub fn forward<'a>(&self, controller: usize, pid: &'a PidSettings) -> Option<(&'a FeedForward, usize, bool)> {
        let forward = pid.feed_forward.as_ref()?;
        let op = self.ops.iter().position(|tag| *tag == forward.signal)?;
        let place = |one: usize| self.wiring.order.iter().position(|known| *known == one);
        let setter = self.wiring.leads.iter().find(|lead| lead.end == End::Op(op)).map(|lead| lead.from);
        Some((forward, op, setter.and_then(place) > place(controller)))
    }
}

/// Where a wire ends, resolved.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum End {
    /// At an OP: 0 is that of the plant, then come the further ones.
    Op(usize),
    /// At the set point of a controller.
    SetPoint(usize),
}

/// A wire, resolved.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Lead {
    /// The controller from which it comes.
    pub from: usize,
    /// Where it leads.
    pub end: End,
    /// The output of the controller at which the signal stands at 0 %, and at which at 100 %.
    pub range: [f64; 2],
    /// Which of several signals is taken, where this one overrides.
    pub select: Option<Select>,
}

impl Lead {
    /// Whether all of an output goes there as it is.
    #[must_use]
    pub fn is_whole(&self) -> bool {
        self.range == WHOLE
    }

    /// The signal in % that an output of the controller gives.
    #[must_use]
    pub fn signal(&self, output: f64) -> f64 {
        let [low, high] = self.range;
        if self.range == WHOLE { output } else { (100.0 * (output - low) / (high - low)).clamp(0.0, 100.0) }
    }

    /// The output of the controller that gives a signal.
    #[must_use]
    pub fn output(&self, signal: f64) -> f64 {
        let [low, high] = self.range;
        if self.range == WHOLE { signal } else { low + signal * (high - low) / 100.0 }
    }
}

const WHOLE: [f64; 2] = [0.0, 100.0];

/// The wiring of a candidate on a plant: the first controller is the candidate's own, measured signal 0 the PV, OP 0 the OP.
#[derive(Debug, Clone, PartialEq)]
pub struct Wiring {
    /// What each controller is called.
    pub names: Vec<String>,
    /// The measured signal of each.
    pub measures: Vec<usize>,
    /// All wires; the usual one of a signal before those that override it.
    pub leads: Vec<Lead>,
    /// The order in which they are scanned: what sets a set point comes before what has it.
    pub order: Vec<usize>,
}

impl Wiring {
    /// Errors where a wire leads nowhere, or what it leads to is set by others without a choice.
    pub fn new(plant: &Plant, candidate: &Candidate) -> Result<Self> {
        let (measured, ops) = (plant.measured_tags(), plant.op_tags());
        if candidate.further.len() > MOST_CONTROLLERS {
            let allowed = format!("at most {MOST_CONTROLLERS} beside the first");
            return Err(Error::invalid("candidate.further", candidate.further.len(), allowed));
        }
        let names: Vec<String> = std::iter::once(plant.loop_tag().to_owned())
            .chain(candidate.further.iter().map(|wired| wired.name.clone()))
            .collect();
        let mut measures = vec![0];
        for (k, wired) in candidate.further.iter().enumerate() {
            let field = format!("candidate.further[{k}]");
            if wired.name.trim().is_empty() || wired.name.chars().count() > 64 {
                let value = format!("“{}”", wired.name);
                return Err(Error::invalid(format!("{field}.name"), value, "1 to 64 characters"));
            }
            if names[..=k].contains(&wired.name) {
                let allowed = "a name that no other controller of the candidate has";
                return Err(Error::invalid(format!("{field}.name"), format!("“{}”", wired.name), allowed));
            }
            measures.push(position(&measured, &wired.measures, &format!("{field}.measures"))?);
            wired.controller.validate().map_err(|error| error.within(&format!("{field}.controller"), "controller"))?;
        }
        let own = [Wire::to(plant.op.tag.clone())];
        let all = std::iter::once(if candidate.sets.is_empty() { &own[..] } else { &candidate.sets[..] })
            .chain(candidate.further.iter().map(|wired| wired.sets.as_slice()));
        let mut leads = Vec::new();
        for (from, wires) in all.enumerate() {
            let field =
                if from == 0 { "candidate.sets".into() } else { format!("candidate.further[{}].sets", from - 1) };
            let is_seat = from > 0 && candidate.further[from - 1].controller == ControllerSpec::Seat;
            if wires.is_empty() && !is_seat {
                return Err(Error::invalid(
                    field,
                    "nothing",
                    "the tag of an OP, or the set point of another controller",
                ));
            }
            for (w, wire) in wires.iter().enumerate() {
                leads.push(lead(from, wire, &ops, &names, &format!("{field}[{w}]"))?);
            }
        }
        let mut wiring = Self { names, measures, leads, order: Vec::new() };
        wiring.check_joins(candidate, &ops)?;
        wiring.leads.sort_by_key(|lead| lead.select.is_some());
        wiring.order = wiring.in_order()?;
        Ok(wiring)
    }

    /// Whether a controller is a seat that only moves something: what it measures belongs to one before it.
    pub(super) fn only_moves(&self, candidate: &Candidate, controller: usize) -> bool {
        let Some(at) = controller.checked_sub(1) else { return false };
        candidate.further[at].controller == ControllerSpec::Seat
            && self.measures[..controller].contains(&self.measures[controller])
    }

    /// The wires of a controller.
    pub fn of(&self, controller: usize) -> impl Iterator<Item = &Lead> {
        self.leads.iter().filter(move |lead| lead.from == controller)
    }

    /// The first OP that a controller sets itself.
    #[must_use]
    pub fn op_of(&self, controller: usize) -> Option<usize> {
        self.ops_of(controller).next()
    }

    /// The OPs that a controller sets itself.
    pub(super) fn ops_of(&self, controller: usize) -> impl Iterator<Item = usize> {
        self.of(controller).filter_map(|lead| if let End::Op(op) = lead.end { Some(op) } else { None })
    }

    /// Whether what a controller puts out can be told from no signal: it is overridden, or its range is split.
    pub(super) fn puts_out_another(&self, controller: usize) -> bool {
        self.of(controller)
            .any(|lead| lead.range != WHOLE || self.leads.iter().filter(|other| other.end == lead.end).count() > 1)
    }

    /// Refuses signals that several controllers set without a choice between them, and controllers that cannot be told what
    /// became of their outputs.
    fn check_joins(&self, candidate: &Candidate, ops: &[&str]) -> Result<()> {
        let name = |end: End| match end {
            End::Op(op) => ops[op].to_owned(),
            End::SetPoint(of) => format!("{}.SP", self.names[of]),
        };
        for (k, one) in self.leads.iter().enumerate() {
            let field = self.field(one.from);
            let with: Vec<&Lead> = self.leads.iter().filter(|other| other.end == one.end).collect();
            let (usual, selects): (Vec<&Lead>, Vec<&Lead>) = with.iter().partition(|lead| lead.select.is_none());
            if usual.len() != 1 {
                let who = if usual.is_empty() { "Nothing else sets" } else { "Several controllers set" };
                let rule = "one controller sets a signal, and others override it by `select`";
                return Err(Error::said(field, format!("{who} {}: {rule}.", name(one.end))));
            }
            if selects.iter().any(|lead| lead.select != selects[0].select) {
                let said = format!("{} is set by the lowest and by the highest: it is one of them.", name(one.end));
                return Err(Error::said(field, said));
            }
            if self.leads[..k].iter().any(|other| other.from == one.from && other.end == one.end) {
                let said = format!("Two wires of one controller lead to {}: one is enough.", name(one.end));
                return Err(Error::said(field, said));
            }
            let is_plain_seat = with.len() == 1 && !self.sets_its(one.from);
            let told = with.len() > 1 || matches!(one.end, End::SetPoint(_)) || self.sets_its(one.from);
            let spec = if one.from == 0 { &candidate.controller } else { &candidate.further[one.from - 1].controller };
            let can_be_told = matches!(spec, ControllerSpec::Pid(_) | ControllerSpec::Manual);
            if told && !can_be_told && !(spec.is_seat() && is_plain_seat) {
                let allowed = "a PID controller where outputs are selected or set points are set by another";
                return Err(Error::invalid(field.replace(".sets", ".controller.kind"), spec.title(), allowed));
            }
        }
        Ok(())
    }

    /// The output of a controller at which everything that it sets stands where it is at rest: `ops` the OPs, `percent_of` a
    /// measured signal in % of its span. Errors where there is none.
    pub(super) fn output_at_rest(
        &self,
        controller: usize,
        ops: &[f64],
        percent_of: impl Fn(usize) -> f64,
    ) -> Result<f64> {
        let stands = |lead: &Lead| match lead.end {
            End::Op(op) => ops[op],
            End::SetPoint(below) => percent_of(self.measures[below]),
        };
        let leads: Vec<&Lead> = self.of(controller).collect();
        // Of a split range the signal that is between its ends tells.
        let telling = leads.iter().find(|lead| (0.0..100.0).contains(&stands(lead)) && stands(lead) > 0.0);
        let Some(lead) = telling.or(leads.first()) else { return Ok(0.0) };
        let output = lead.output(stands(lead));
        for lead in leads {
            if (lead.signal(output) - stands(lead)).abs() > 1e-6 {
                let value = format!("{} where its signals stand at the start", crate::verdict::readable(output));
                let allowed = format!(
                    "one output for all that it sets: one of them stands at {} %, and it would set {} %",
                    crate::verdict::readable(stands(lead)),
                    crate::verdict::readable(lead.signal(output))
                );
                return Err(Error::invalid(self.field(controller), value, allowed));
            }
        }
        Ok(output)
    }

    /// Whether another controller sets the set point of this one.
    #[must_use]
    pub fn sets_its(&self, controller: usize) -> bool {
        self.leads.iter().any(|lead| lead.end == End::SetPoint(controller))
    }

    /// The field in which it is said where a controller's output goes.
    pub(super) fn field(&self, controller: usize) -> String {
        if controller == 0 { "candidate.sets".into() } else { format!("candidate.further[{}].sets", controller - 1) }
    }

    fn in_order(&self) -> Result<Vec<usize>> {
        let mut order: Vec<usize> = Vec::new();
        while order.len() < self.names.len() {
            let free = (0..self.names.len()).find(|one| {
                !order.contains(one)
                    && self.leads.iter().all(|lead| lead.end != End::SetPoint(*one) || order.contains(&lead.from))
            });
            let Some(next) = free else {
                let ring: Vec<&str> =
                    (0..self.names.len()).filter(|k| !order.contains(k)).map(|k| self.names[k].as_str()).collect();
                let allowed = "set points that are set from above, without a ring";
                return Err(Error::invalid(
                    "candidate.further",
                    format!("{} set each other", ring.join(", ")),
                    allowed,
                ));
            };
            order.push(next);
        }
        Ok(order)
    }
}

fn position(known: &[&str], tag: &str, field: &str) -> Result<usize> {
    known
        .iter()
        .position(|other| *other == tag)
        .ok_or_else(|| Error::invalid(field, format!("“{tag}”"), known.join(", ")))
}

fn lead(from: usize, wire: &Wire, ops: &[&str], names: &[String], field: &str) -> Result<Lead> {
    let set_point = wire.to.strip_suffix(".SP").and_then(|name| names.iter().position(|known| known == name));
    let end = match (ops.iter().position(|op| *op == wire.to), set_point) {
        (Some(op), _) => End::Op(op),
        (None, Some(of)) if of != from => End::SetPoint(of),
        _ => {
            let others = names.iter().enumerate().filter(|(k, _)| *k != from).map(|(_, name)| format!("{name}.SP"));
            let allowed: Vec<String> = ops.iter().map(|op| (*op).to_owned()).chain(others).collect();
            return Err(Error::invalid(format!("{field}.to"), format!("“{}”", wire.to), allowed.join(", ")));
        }
    };
    let range = wire.range.unwrap_or(WHOLE);
    for value in range {
        check::within(&format!("{field}.range"), value, 0.0, 100.0, "%")?;
    }
    if range[0] == range[1] {
        let value = format!("{} to {} %", range[0], range[1]);
        return Err(Error::invalid(format!("{field}.range"), value, "two different ends"));
    }
    Ok(Lead { from, end, range, select: wire.select })
}
