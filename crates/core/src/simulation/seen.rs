//! A trial as it is seen from another of its loops: that loop's signals and controller in the place of the first ones, for all that
//! is computed of one loop.

use super::plant::{Drive, OperatingPoint, Plant, Signal};
use super::signals::{Manipulated, Measured};
use super::trace::{Column, ColumnRole};
use super::trial::Trial;
use super::wiring::{Wire, Wired, Wiring};
use super::{Event, Trace};
use crate::Result;
use crate::controller::ControllerSpec;
use crate::process::Held;
use std::mem::swap;

impl Plant {
    /// The same plant with measured signal `measured` as its PV and driven signal `driven` as its OP; 0 are the present ones.
    /// Errors where it cannot rest.
    pub fn seen_at(&self, measured: usize, driven: usize) -> Result<Self> {
        let mut seen = self.clone();
        if measured == 0 && driven == 0 {
            return Ok(seen);
        }
        let started = self.start()?;
        let description = started.process.description();
        let linear = self.process.linear_process(&self.pv.span.unit)?.is_some();
        let (mut pv, mut op) = (self.operating_point.pv, started.op);
        if let Some(k) = measured.checked_sub(1) {
            let mut outputs = vec![0.0; description.outputs.len()];
            started.process.outputs(&started.state, &started.inputs, Held::default(), &mut outputs);
            pv = outputs[started.further_outputs[k]];
            let other = &mut seen.further_measured[k];
            let own = Measured {
                tag: self.pv.tag.clone(),
                span: self.pv.span.clone(),
                output: description.outputs[started.output].name.clone(),
                rest: linear.then_some(self.operating_point.pv),
                sensor: self.sensor.clone(),
            };
            let Measured { tag, span, output, sensor, .. } = std::mem::replace(other, own);
            (seen.pv, seen.measured, seen.sensor) = (Signal { tag, span }, Some(output), sensor);
        }
        if let Some(k) = driven.checked_sub(1) {
            let other = &mut seen.further_driven[k];
            let own = Manipulated {
                tag: self.op.tag.clone(),
                input: description.inputs[started.driven.input].name.clone(),
                at_0: started.driven.at_0,
                at_100: started.driven.value(100.0),
                at_start: started.op,
                actuator: self.actuator.clone(),
            };
            let Manipulated { tag, input, at_0, at_100, at_start, actuator } = std::mem::replace(other, own);
            op = at_start;
            (seen.op.tag, seen.drive, seen.actuator) = (tag, Some(Drive { input, at_0, at_100 }), actuator);
        }
        seen.operating_point = OperatingPoint { pv, op, states: self.operating_point.states.clone() };
        Ok(seen)
    }
}

impl Trial {
    /// The same trial seen from its further controller `name`: the trace is the same, with that loop first. None where there is no
    /// such controller.
    pub fn seen_from(&self, name: &str) -> Result<Option<Self>> {
        let wiring = Wiring::new(&self.plant, &self.candidate)?;
        let Some(k) = wiring.names.iter().skip(1).position(|known| known == name) else { return Ok(None) };
        let controller = k + 1;
        let (measured, driven) = (wiring.measures[controller], wiring.op_of(controller).unwrap_or(0));
        let mut seen = self.clone();
        seen.plant = self.plant.seen_at(measured, driven)?;
        // The first controller is called after its PV; set points are named after controllers.
        let (old, new) = (self.plant.loop_tag().to_owned(), seen.plant.loop_tag().to_owned());
        // Where two controllers measure one signal the one that steps back needs a name of its own.
        let stepped_back = if old == new { format!("{old} (first)") } else { old.clone() };
        let candidate = &mut seen.candidate;
        let other = &mut candidate.further[k];
        swap(&mut candidate.controller, &mut other.controller);
        swap(&mut candidate.sets, &mut other.sets);
        swap(&mut candidate.set_point_tracking, &mut other.set_point_tracking);
        candidate.ratio = None;
        other.name.clone_from(&stepped_back);
        other.measures.clone_from(&self.plant.pv.tag);
        if other.sets.is_empty() {
            other.sets = vec![Wire::to(self.plant.op.tag.clone())];
        }
        let renamed = |tag: &mut String| {
            if *tag == format!("{name}.SP") {
                *tag = format!("{new}.SP");
            } else if *tag == format!("{old}.SP") {
                *tag = format!("{stepped_back}.SP");
            }
        };
        let wires = candidate.sets.iter_mut().chain(candidate.further.iter_mut().flat_map(|wired| &mut wired.sets));
        wires.for_each(|wire| renamed(&mut wire.to));
        let controllers = std::iter::once(&mut candidate.controller)
            .chain(candidate.further.iter_mut().map(|wired| &mut wired.controller));
        for controller in controllers {
            // What a predictive controller moves is named in its settings, too.
            if let ControllerSpec::Predictive(settings) = controller {
                settings.mvs.iter_mut().for_each(|mv| renamed(&mut mv.tag));
            }
        }
        let own = seen.scenario.further.remove(name).unwrap_or_default();
        let before = std::mem::replace(&mut seen.scenario.events, own);
        // What happens to the process stays with the loop itself, and a load on an OP with what sets that.
        let mut of_loop = Vec::new();
        for event in before {
            let on_op = event.load_input() == Some(None) && wiring.op_of(0).is_none();
            let of_process = matches!(event, Event::ParameterChange { .. }) || event.load_input().flatten().is_some();
            let below = wiring.names.iter().enumerate().find(|(c, _)| wiring.ops_of(*c).any(|op| op == 0));
            match below.filter(|_| on_op) {
                Some((c, name)) if c != controller => {
                    seen.scenario.further.entry(name.clone()).or_default().push(event)
                }
                Some(_) => seen.scenario.events.push(event),
                None if on_op => {
                    // Nothing sets that OP any more: the load is one on its input.
                    let description = self.plant.describe()?;
                    let driven = self.plant.driven(&description)?;
                    seen.scenario.events.push(event.on_input(&description.inputs[driven.input].name, driven.rate));
                }
                None if of_process => seen.scenario.events.push(event),
                None => of_loop.push(event),
            }
        }
        if !of_loop.is_empty() {
            seen.scenario.further.insert(stepped_back, of_loop);
        }
        Ok(Some(seen))
    }

    /// The trace of this trial as it is seen from a further controller: its set point, measured signal and OP in the place of those of
    /// the first loop, for all that is computed from a trace, with its limits. None where it sets no OP, or nothing that is measured is its own.
    pub fn trace_seen_from(&self, name: &str, trace: &Trace) -> Result<Option<Trace>> {
        let wiring = Wiring::new(&self.plant, &self.candidate)?;
        let Some(k) = wiring.names.iter().skip(1).position(|known| known == name) else { return Ok(None) };
        let wired: &Wired = &self.candidate.further[k];
        if wiring.only_moves(&self.candidate, k + 1) {
            return Ok(None);
        }
        let Some(op) = wiring.op_of(k + 1) else { return Ok(None) };
        let op = op.checked_sub(1).map_or(&self.plant.op.tag, |further| &self.plant.further_driven[further].tag);
        let true_value = match wiring.measures[k + 1] {
            0 => "true value".to_owned(),
            _ => format!("{} true value", wired.measures),
        };
        let set_point = format!("{name}.SP");
        let load = if *op == self.plant.op.tag { "load".to_owned() } else { format!("{name} load") };
        let put_out = format!("{name} puts out");
        let measures = wired.measures.strip_suffix(".PV").unwrap_or(&wired.measures);
        let columns = [&set_point, &wired.measures, op, &load, &true_value, &put_out]
            .into_iter()
            .filter_map(|tag| trace.columns.iter().find(|column| column.tag == *tag))
            .map(|column| {
                // There the controller is called after what it measures.
                let tag = if column.tag == put_out { format!("{measures} puts out") } else { column.tag.clone() };
                Column { of: None, tag, ..column.clone() }
            });
        // What the process itself does is the same from everywhere.
        let disturbances = trace
            .columns
            .iter()
            .filter(|column| matches!(column.role, ColumnRole::Disturbance | ColumnRole::MeasuredDisturbance))
            .cloned();
        Ok(Some(Trace {
            columns: columns.chain(disturbances).collect(),
            output_limits: self.candidate.output_limits(&wired.controller, op),
            ..trace.clone()
        }))
    }
}
