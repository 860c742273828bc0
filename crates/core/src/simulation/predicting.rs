//! The seats of a predictive controller: what each measures and sets, brought together for the one that plans for all.

use super::columns::Signal;
use super::controlling::Controlling;
use super::driving::Driving;
use super::engine::NO_PLAN;
use super::measuring::Measuring;
use super::measuring_inputs::MeasuringInput;
use super::plant::Plant;
use super::schedule::{LimitMove, Schedule};
use super::timeline::{Changes, Timeline};
use super::trial::{Candidate, Trial};
use super::wiring::{End, Wiring};
use crate::controller::ControllerSpec;
use crate::controller::predictive::{
    Explicit, KnownAhead, LimitOfCv, LookAhead, PlannedOver, Predictive, PredictiveSettings, Sight,
};
use crate::units::Span;
use crate::{Error, Result};

/// How near to an end of its span a signal stands at it, %.
const AT_END: f64 = 1e-9;

/// Which of the controllers of a candidate are seats of a predictive one, and what each is for.
struct Seats<'a> {
    /// The settings.
    settings: &'a PredictiveSettings,
    /// The controller that has them, which reads the disturbances.
    at: usize,
    /// The seats, that one among them.
    seats: Vec<usize>,
    /// The seats of the CVs; none of one that nothing measures.
    cvs: Vec<Option<usize>>,
    /// Those of the MVs, and what each sets.
    mvs: Vec<(usize, End)>,
    /// Spans of the CVs.
    spans: Vec<Span>,
}

/// The seats of a predictive controller among the controllers of a candidate.
pub(crate) struct SeatsAt {
    /// The settings.
    pub settings: PredictiveSettings,
    /// Spans of its CVs.
    pub spans: Vec<Span>,
    /// The controllers that measure its CVs, but for those that nothing measures, and those that set its MVs.
    pub cvs: Vec<usize>,
    pub mvs: Vec<usize>,
}

/// The seats of a candidate on a plant; None where nothing in it is predictive. Errors as [`Seats::of`].
pub(crate) fn seats(plant: &Plant, candidate: &Candidate) -> Result<Option<SeatsAt>> {
    let wiring = Wiring::new(plant, candidate)?;
    Ok(Seats::of(plant, candidate, &wiring)?.map(|Seats { settings, spans, cvs, mvs, .. }| SeatsAt {
        settings: settings.clone(),
        spans,
        cvs: cvs.into_iter().flatten().collect(),
        mvs: mvs.into_iter().map(|(seat, _)| seat).collect(),
    }))
}

impl Trial {
    /// What the model of its predictive controller does after a move of each MV by 1 %, how far the controller looks and plans over that, and
    /// how its loop settles by that model. Errors where no controller plans.
    pub fn planned_over(&self) -> Result<PlannedOver> {
        let seats = seats(&self.plant, &self.candidate)?;
        let seats = seats.ok_or_else(|| Error::said("candidate.controller.kind", NO_PLAN))?;
        seats.settings.planned_over(&seats.spans, self.scenario.scan)
    }
}

/// Where a controller stands in a document.
fn place(controller: usize) -> String {
    match controller {
        0 => "controller".to_owned(),
        k => format!("candidate.further[{}].controller", k - 1),
    }
}

impl<'a> Seats<'a> {
    /// Of a candidate on a plant; None where nothing in it is predictive. Errors where the settings and the seats do not fit.
    fn of(plant: &Plant, candidate: &'a Candidate, wiring: &Wiring) -> Result<Option<Self>> {
        let specs: Vec<&ControllerSpec> = std::iter::once(&candidate.controller)
            .chain(candidate.further.iter().map(|wired| &wired.controller))
            .collect();
        let seats: Vec<usize> = (0..specs.len()).filter(|k| specs[*k].is_seat()).collect();
        let with_settings: Vec<usize> = seats.iter().copied().filter(|k| specs[*k].predictive().is_some()).collect();
        let (at, settings) = match (&with_settings[..], seats.first()) {
            ([], None) => return Ok(None),
            ([], Some(seat)) => {
                let sentence = "A seat needs a predictive controller in the candidate that it belongs to.";
                return Err(Error::said(format!("{}.kind", place(*seat)), sentence));
            }
            ([at], _) => match specs[*at].predictive() {
                Some(settings) => (*at, settings),
                None => return Ok(None),
            },
            ([_, other, ..], _) => {
                let sentence = "There is one predictive controller in a candidate: the other signals are its seats.";
                return Err(Error::said(format!("{}.kind", place(*other)), sentence));
            }
        };
        let (measured, spans_of, ops) = (plant.measured_tags(), plant.measured_spans(), plant.op_tags());
        let name_of = |end: End| match end {
            End::Op(op) => ops[op].to_owned(),
            End::SetPoint(of) => format!("{}.SP", wiring.names[of]),
        };
        if let Some(seat) = seats.iter().find(|seat| wiring.of(**seat).count() > 1) {
            return Err(Error::said(wiring.field(*seat), "A seat of a predictive controller sets one signal."));
        }
        let ends: Vec<(usize, End)> =
            seats.iter().flat_map(|seat| wiring.of(*seat).map(|lead| (*seat, lead.end))).collect();
        let (mut cvs, mut spans) = (Vec::new(), Vec::new());
        for (k, cv) in settings.cvs.iter().enumerate() {
            if let Some(estimated) = &cv.estimated {
                if measured.contains(&cv.tag.as_str()) {
                    let sentence = format!("{} is measured: it need not be estimated.", cv.tag);
                    return Err(Error::said(format!("{}.cvs[{k}].estimated", place(at)), sentence));
                }
                cvs.push(None);
                spans.push(estimated.span.clone());
                continue;
            }
            let seat = seats.iter().copied().find(|seat| measured[wiring.measures[*seat]] == cv.tag);
            let known: Vec<&str> = seats.iter().map(|seat| measured[wiring.measures[*seat]]).collect();
            let field = format!("{}.cvs[{k}].tag", place(at));
            let seat = seat.ok_or_else(|| Error::invalid(field, format!("“{}”", cv.tag), known.join(", ")))?;
            cvs.push(Some(seat));
            spans.push(spans_of[wiring.measures[seat]].clone());
        }
        let mut mvs = Vec::new();
        for (k, mv) in settings.mvs.iter().enumerate() {
            let end = ends.iter().copied().find(|(_, end)| name_of(*end) == mv.tag);
            let known: Vec<String> = ends.iter().map(|(_, end)| name_of(*end)).collect();
            let field = format!("{}.mvs[{k}].tag", place(at));
            let end = end.ok_or_else(|| Error::invalid(field, format!("“{}”", mv.tag), known.join(", ")))?;
            if let (Some(_), (_, End::SetPoint(_))) = (mv.follows_within, end) {
                let sentence = format!("{} is a set point: only a valve has a position that is read back.", mv.tag);
                return Err(Error::said(format!("{}.mvs[{k}].follows_within", place(at)), sentence));
            }
            mvs.push(end);
        }
        if let Some((seat, end)) = ends.iter().find(|end| !mvs.contains(end)) {
            let sentence =
                format!("{} is set here, but is none of the MVs of the predictive controller.", name_of(*end));
            return Err(Error::said(wiring.field(*seat), sentence));
        }
        Ok(Some(Self { settings, at, seats, cvs, mvs, spans }))
    }

    /// Where the controller with the settings stands in the document.
    fn place(&self) -> String {
        place(self.at)
    }
}

/// A predictive controller at work over its seats.
pub(super) struct Predicting {
    controller: Predictive,
    /// The controllers of the candidate that are seats, that with the settings among them.
    pub seats: Vec<usize>,
    /// That with the settings, which reads the disturbances.
    at: usize,
    /// The seats of CVs, none of one that nothing measures, and of MVs, and what each MV sets.
    cvs: Vec<Option<usize>>,
    mvs: Vec<(usize, End)>,
    measured: Vec<f64>,
    set_points: Vec<f64>,
    applied: Vec<f64>,
    set: Vec<f64>,
    available: Vec<bool>,
    /// Of which MVs the position is read back.
    reads_back: Vec<bool>,
    /// What it knows of the scans to come, and where that stands: nothing of what it does not know.
    set_points_ahead: Vec<Vec<f64>>,
    disturbances_ahead: Vec<Vec<f64>>,
    courses: Vec<Option<Timeline>>,
    /// Limits that the scenario moves, and where they are over time.
    limits: Vec<(usize, Timeline)>,
    scan: f64,
}

impl Predicting {
    /// Of a candidate on a plant; None where nothing in it is predictive. Errors where the settings and the seats do not fit.
    pub fn new(plant: &Plant, candidate: &Candidate, wiring: &Wiring, scan: f64) -> Result<Option<Self>> {
        let Some(found) = Seats::of(plant, candidate, wiring)? else { return Ok(None) };
        let own = found.place();
        let Seats { settings, at, seats, cvs, mvs, spans } = found;
        let controller = Predictive::new(settings, &spans, scan).map_err(|error| error.within(&own, "controller"))?;
        let ahead = |knows: bool| vec![0.0; if knows { controller.scans_ahead() } else { 0 }];
        Ok(Some(Self {
            set_points_ahead: settings.cvs.iter().map(|cv| ahead(cv.set_point_known_ahead)).collect(),
            disturbances_ahead: settings.dvs.iter().map(|dv| ahead(dv.known_ahead)).collect(),
            courses: vec![None; settings.dvs.len()],
            limits: Vec::new(),
            scan,
            measured: vec![0.0; cvs.len()],
            set_points: vec![0.0; cvs.len()],
            applied: vec![0.0; mvs.len()],
            set: vec![0.0; mvs.len()],
            available: vec![true; mvs.len()],
            reads_back: settings.mvs.iter().map(|mv| mv.follows_within.is_some()).collect(),
            controller,
            seats,
            at,
            cvs,
            mvs,
        }))
    }

    /// Takes from the scenario what its settings say is known beforehand. Errors where nobody can know it.
    pub fn foresee(
        &mut self,
        candidate: &Candidate,
        all: &[Controlling],
        (schedule, disturbances): (&Schedule, &[MeasuringInput]),
    ) -> Result<()> {
        let Some(settings) = candidate.predictive() else { return Ok(()) };
        self.take_limits(settings, schedule)?;
        let place = place(self.at);
        for (k, cv) in settings.cvs.iter().enumerate() {
            if cv.set_point_known_ahead && self.cvs[k].is_some_and(|seat| !all[seat].has_own_set_point()) {
                let sentence =
                    format!("The set point of {} follows a signal, whose course nobody knows beforehand.", cv.tag);
                return Err(Error::said(format!("{place}.cvs[{k}].set_point_known_ahead"), sentence));
            }
        }
        for (k, dv) in settings.dvs.iter().enumerate().filter(|(_, dv)| dv.known_ahead) {
            self.courses[k] = match all[self.at].reads[k] {
                Signal::Input(input) => Some(schedule.inputs[input].clone()),
                Signal::Disturbance(k) | Signal::Believed(k) => Some(schedule.inputs[disturbances[k].input].clone()),
                Signal::Load => Some(schedule.drives[0].load.clone()),
                Signal::Output(_) | Signal::Measured(_) | Signal::Op(_) => {
                    let sentence = format!(
                        "{} is what the plant makes of it: only the course of an input, or of the load, can be known beforehand.",
                        dv.signal
                    );
                    return Err(Error::said(format!("{place}.dvs[{k}].known_ahead"), sentence));
                }
            };
        }
        Ok(())
    }

    /// Takes from the scenario where limits are moved. Errors where there is no such limit.
    fn take_limits(&mut self, settings: &PredictiveSettings, schedule: &Schedule) -> Result<()> {
        let all = settings.limits();
        let mut moved: Vec<(usize, Changes)> = Vec::new();
        for LimitMove { cv, side, rank, course: (at, over, to), field } in &schedule.limits {
            let own = |one: &&LimitOfCv| settings.cvs[one.cv].tag == *cv;
            if !all.iter().any(|one| own(&one)) {
                let known: Vec<&str> = settings.cvs.iter().map(|cv| cv.tag.as_str()).collect();
                return Err(Error::invalid(format!("{field}.cv"), format!("“{cv}”"), known.join(", ")));
            }
            let Some(limit) = all.iter().position(|one| own(&one) && one.side == *side && one.limit.rank == *rank)
            else {
                let ranks = all.iter().filter(own).filter(|one| one.side == *side);
                let ranks: Vec<String> = ranks.map(|one| one.limit.rank.to_string()).collect();
                let allowed = match ranks.join(", ") {
                    ranks if ranks.is_empty() => format!("none: {cv} has no {} limit", side.in_words()),
                    ranks => format!("{ranks}, those of the {} limits of {cv}", side.in_words()),
                };
                return Err(Error::invalid(format!("{field}.rank"), rank, allowed));
            };
            let known = moved.iter().position(|(of, _)| *of == limit).unwrap_or_else(|| {
                moved.push((limit, Changes::default()));
                moved.len() - 1
            });
            moved[known].1.lead((*at, *over), all[limit].limit.value, *to, 1e-9 * self.scan);
        }
        let timeline = |(limit, changes): (usize, Changes)| (limit, changes.timeline(all[limit].limit.value));
        self.limits = moved.into_iter().map(timeline).collect();
        Ok(())
    }

    /// Where a limit is that the scenario moves: they are numbered as their first moves are in time.
    pub fn moved_limit(&self, k: usize, time: f64, slack: f64) -> f64 {
        self.limits[k].1.value(time, slack)
    }

    /// Notes what is known of the scans that come after `time`, and where limits have been moved.
    pub fn look_ahead(
        &mut self,
        all: &[Controlling],
        measures: &[usize],
        measured: &[Measuring],
        (time, slack): (f64, f64),
    ) {
        for (limit, course) in &self.limits {
            self.controller.move_limit(*limit, course.value(time, slack));
        }
        let times = |after: usize| time + (after + 1) as f64 * self.scan;
        for (known, seat) in self.set_points_ahead.iter_mut().zip(&self.cvs) {
            let Some(seat) = seat else { continue };
            let span = &measured[measures[*seat]].span;
            for (after, value) in known.iter_mut().enumerate() {
                *value = span.to_percent(all[*seat].set_point_at(times(after), slack));
            }
        }
        for (known, course) in self.disturbances_ahead.iter_mut().zip(&self.courses) {
            let Some(course) = course else { continue };
            for (after, value) in known.iter_mut().enumerate() {
                *value = course.value(times(after), slack);
            }
        }
    }

    /// Rests as the controllers of its seats do; `percent` is what each measures, in % of its span.
    pub fn rest(&mut self, all: &[Controlling], percent: impl Fn(usize) -> f64) {
        let measured: Vec<f64> = self.cvs.iter().map(|seat| seat.map_or(f64::NAN, &percent)).collect();
        let outputs: Vec<f64> = self.mvs.iter().map(|(seat, _)| all[*seat].output).collect();
        self.controller.rest(&measured, &outputs, &all[self.at].further);
    }

    /// Plans once for all seats, which have their set points and modes of this scan: moves those that may be moved. `held` tells where
    /// the output of a seat is made to stand.
    pub fn scan(
        &mut self,
        all: &mut [Controlling],
        measures: &[usize],
        measured: &[Measuring],
        drives: &[Driving],
        held: &[Option<f64>],
    ) {
        for (k, seat) in self.cvs.iter().enumerate() {
            let Some(seat) = seat else {
                self.measured[k] = f64::NAN;
                continue;
            };
            let measuring = &measured[measures[*seat]];
            let percent = measuring.span.to_percent(measuring.measurement);
            // A transmitter that fails goes to an end of its range, and one that works stands there when there is more: nothing there is
            // to be believed (common practice).
            let at_end = percent.abs() < AT_END || (percent - 100.0).abs() < AT_END;
            self.measured[k] = if at_end { f64::NAN } else { percent };
            self.set_points[k] = measuring.span.to_percent(all[*seat].set_point);
        }
        for (k, (seat, end)) in self.mvs.iter().enumerate() {
            (self.set[k], self.applied[k]) = match (end, held[*seat]) {
                (End::Op(op), _) if self.reads_back[k] => (drives[*op].output, drives[*op].stands_at()),
                (End::Op(op), _) => (drives[*op].output, drives[*op].output),
                (End::SetPoint(_), Some(held)) => (held, held),
                (End::SetPoint(_), None) => (all[*seat].output, all[*seat].output),
            };
            self.available[k] = !all[*seat].manual && held[*seat].is_none();
        }
        let sight = Sight {
            measured: &self.measured,
            set_points: &self.set_points,
            applied: &self.applied,
            set: &self.set,
            available: &self.available,
            disturbances: &all[self.at].further,
            ahead: KnownAhead { set_points: &self.set_points_ahead, disturbances: &self.disturbances_ahead },
        };
        let outputs = self.controller.scan(&sight);
        for ((seat, _), output) in self.mvs.iter().zip(outputs) {
            let one = &mut all[*seat];
            if let Some(held) = held[*seat] {
                one.output = held;
            } else if !one.manual {
                one.output = *output;
            }
        }
    }

    /// What the controller with the settings tells of itself, as named by [`ControllerSpec::learns`].
    pub fn tell(&self, values: &mut [f64]) {
        let told = [
            self.controller.steps() as f64,
            self.controller.limits_at_work() as f64,
            f64::from(u8::from(self.controller.gave_way())),
        ];
        let estimated = self.controller.estimated_parameters().into_iter().map(|(_, one)| one.value);
        let learnt = self.controller.learnt().map(|one| one.planned_with);
        values.iter_mut().zip(told.into_iter().chain(estimated).chain(learnt)).for_each(|(value, told)| *value = told);
    }

    /// Its law about where the trial begins, written out.
    pub fn written_out(&self) -> Result<Explicit> {
        self.controller.written_out()
    }

    /// What it saw ahead at the last scan, at `time`.
    pub fn ahead(&self, time: f64) -> LookAhead {
        self.controller.ahead(time)
    }
}
