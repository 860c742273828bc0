//! Predictive control under constraints.
//!
//! At each scan: what is measured corrects what is believed ([`observer`]); from that follows where to rest ([`targets`]), and the moves
//! that lead there at least cost within the limits ([`prediction`]); the first of them is made. A linear model in discrete state space
//! with dead times, disturbances that explain what it does not, and a cost beyond the horizon by the Riccati equation (Rawlings, Mayne &
//! Diehl, Model Predictive Control, 2nd ed. 2017, chapters 1 and 2; Muske & Badgwell, Journal of Process Control 12, 2002, for
//! disturbances and targets).

mod ahead;
mod along_path;
mod carrying;
mod explicit;
mod law;
mod learning;
mod moves;
mod nonlinear;
mod observer;
mod prediction;
mod settings;
mod shapes;
mod targets;
mod written;

pub use ahead::{AheadOfCv, AheadOfMv, EstimatedParameter, LimitAhead, LimitAtWork, LookAhead};
pub use explicit::{Explicit, LawOfMv, LawParameter, RegionMap, RegionOnMap};
pub use law::{Law, LawAtWork};
pub use learning::{Learning, LearntGain};
pub(crate) use moves::doubling;
pub use moves::{ClosedLoopPole, PlannedOver, ResponseToMv, ResponsesOfCv};
pub(crate) use settings::LimitOfCv;
pub use settings::{
    Band, ControlledVariable, DisturbanceAt, Drives, Estimated, MOST_SCANS_AHEAD, ManipulatedVariable,
    MeasuredDisturbance, PredictiveSettings, RankedLimit, Side,
};
pub use shapes::{Cell, Shapes};
pub use written::{Believed, WrittenCv, WrittenFilter, WrittenLaw, WrittenMv, WrittenRegion};

use crate::lti::{Discrete, TransferMatrix};
use crate::numerics::{Ending, RankedNormal, RankedProgram, Solved};
use crate::process::Description;
use crate::units::Span;
use crate::{Error, Result};
use learning::Learner;
use nalgebra::{DMatrix, DVector};
use nonlinear::NonLinear;
use observer::Observer;
use prediction::{Prediction, Weights};
use targets::{Targets, Wanted};

/// Effect of all moves on a CV below which they have none.
const NO_EFFECT: f64 = 1e-9;

/// Share of its way to what is set that a valve covers in a scan, at least, while it is moving.
const ON_ITS_WAY: f64 = 0.02;

/// A predictive controller at work. Everything it is told and tells is in %: of span for CVs, of what is set for MVs.
#[derive(Debug, Clone)]
pub struct Predictive {
    settings: PredictiveSettings,
    spans: Vec<Span>,
    /// All limits of the CVs, as they are now.
    limits: Vec<LimitOfCv>,
    scan: f64,
    observer: Observer,
    /// Of a model that is not linear: what is believed and expected, in the place of the observer and of what that expects.
    nonlinear: Option<Box<NonLinear>>,
    /// What learns how strongly the MVs act, where something does.
    learner: Option<Box<Learner>>,
    targets: Targets,
    prediction: Prediction,
    weights: Weights,
    program: RankedProgram,
    rows: Vec<Constraint>,
    /// Where the loop rested at first: CVs, MVs, measured disturbances.
    base: Base,
    /// Inputs of the model as they stood in the scan before, from there.
    inputs: DVector<f64>,
    /// MVs as they are set, %.
    outputs: Vec<f64>,
    last: Last,
}

#[derive(Debug, Clone, Default)]
struct Base {
    cvs: Vec<f64>,
    mvs: Vec<f64>,
    dvs: Vec<f64>,
}

/// The quadratic program of a plan, as any solver takes it: `min ½ xᵀG x + aᵀx` subject to `nᵢᵀx ≥ bᵢ`.
#[derive(Debug, Clone, PartialEq)]
pub struct PlanProgram {
    /// G: moves × moves, by MV, then by time.
    pub matrix: DMatrix<f64>,
    /// a.
    pub linear: Vec<f64>,
    /// The normals.
    pub normals: Vec<Vec<f64>>,
    /// Their bounds.
    pub bounds: Vec<f64>,
}

/// What a constraint of the moves holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Constraint {
    /// An MV from its move `block` on, above its low limit, or below its high one.
    Position { mv: usize, block: usize, high: bool },
    /// A move, not further than its rate: down, or up.
    Rate { mv: usize, block: usize, up: bool },
    /// A CV after so many scans, within one of all limits.
    Output { limit: usize, after: usize },
}

/// What was worked with at the last scan.
#[derive(Debug, Clone)]
struct Last {
    /// States and disturbances.
    state: DVector<f64>,
    /// Steps of the measured disturbances.
    steps: DVector<f64>,
    acting: DVector<f64>,
    outputs: DVector<f64>,
    free: Vec<f64>,
    /// Whether that, and what moves add to it, is told all along a path of a model that is not linear.
    is_told: bool,
    linear: DVector<f64>,
    bounds: Vec<f64>,
    /// The limits of the CVs, in % from where the loop rested at first.
    limits: Vec<f64>,
    mv_limits: Vec<(f64, f64)>,
    set_points: Vec<f64>,
    /// Where each CV should be after each scan, of those whose set point is known ahead.
    courses: Vec<Vec<f64>>,
    /// Steps of the measured disturbances that are known ahead, by scan from now on.
    coming: Vec<Vec<f64>>,
    /// Set points and disturbances at the end of the horizon, where they are known, and where it is to rest there.
    at_end: Option<AtEnd>,
    followed: Vec<bool>,
    believed: Vec<bool>,
    /// MVs that may be moved, and those that follow what is set.
    available: Vec<bool>,
    follows: Vec<bool>,
    /// Where the MVs stood at the scan before, %, and where their moves are made from, in % from where they rested at first.
    stood: Vec<f64>,
    from: Vec<f64>,
    wishes: Vec<f64>,
    /// MVs before the move, from where they rested at first.
    before: Vec<f64>,
    now: DVector<f64>,
    solved: Solved,
}

/// What is at the end of the horizon, other than now.
#[derive(Debug, Clone)]
struct AtEnd {
    set_points: Vec<f64>,
    acting: DVector<f64>,
    states: Vec<f64>,
    mvs: Vec<f64>,
}

/// What a predictive controller sees at a scan, in %.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Sight<'a> {
    /// The CVs as measured; no number for one that is not to be believed, or that nothing measures.
    pub measured: &'a [f64],
    /// Their set points.
    pub set_points: &'a [f64],
    /// What really stood at the MVs since the scan before.
    pub applied: &'a [f64],
    /// What is set at them: the same where no position is read back.
    pub set: &'a [f64],
    /// Which MVs it may move.
    pub available: &'a [bool],
    /// The measured disturbances, in their units.
    pub disturbances: &'a [f64],
    /// What is known of the scans to come.
    pub ahead: KnownAhead<'a>,
}

/// What is known beforehand: of each signal its values at the scans to come, the next one first; nothing where they are not known.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct KnownAhead<'a> {
    /// The set points, in %: those that are [known ahead](ControlledVariable::set_point_known_ahead).
    pub set_points: &'a [Vec<f64>],
    /// The measured disturbances, in their units: those that are [known ahead](MeasuredDisturbance::known_ahead).
    pub disturbances: &'a [Vec<f64>],
}

impl PredictiveSettings {
    /// The model from MVs and measured disturbances to CVs, in % of these widths of their spans.
    fn matrix(&self, widths: impl Iterator<Item = f64>) -> Result<TransferMatrix> {
        let (all, description) = self.all_responses()?;
        let (mut outputs, mut inputs) = (Vec::new(), Vec::new());
        for (k, (cv, width)) in self.cvs.iter().zip(widths).enumerate() {
            let field = format!("controller.cvs[{k}].output");
            outputs.push((Description::position(&description.outputs, &cv.output, &field)?, 100.0 / width));
        }
        let per_percent = |mv: &ManipulatedVariable| mv.drives.map_or(1.0, |ends| (ends.at_100 - ends.at_0) / 100.0);
        let mvs = self.mvs.iter().enumerate();
        let mvs = mvs.map(|(k, mv)| (format!("controller.mvs[{k}].input"), &mv.input, per_percent(mv)));
        let dvs = self.dvs.iter().enumerate();
        let dvs = dvs.map(|(k, dv)| (format!("controller.dvs[{k}].input"), &dv.input, 1.0));
        for (field, input, per_unit) in mvs.chain(dvs) {
            inputs.push((Description::position(&description.inputs, input, &field)?, per_unit));
        }
        Ok(all.part(&outputs, &inputs))
    }

    /// What the responses of its model look like at this scan; gains in the units of the CVs per %.
    pub fn shapes(&self, scan: f64) -> Result<Shapes> {
        Ok(Shapes::of(&self.step_responses(scan, MOST_SCANS_AHEAD)?, self.cvs.len()))
    }

    /// What its model does after a step of each MV by 1 %, in the units of the CVs: scans × CVs.
    fn step_responses(&self, scan: f64, scans: usize) -> Result<Vec<DMatrix<f64>>> {
        let model = Discrete::of(&self.matrix(self.cvs.iter().map(|_| 100.0))?, scan)?;
        Ok((0..self.mvs.len()).map(|j| model.step_response(j, scans)).collect())
    }
}

impl Predictive {
    /// With the spans of its CVs, to be scanned every `scan` seconds. Errors where settings and model do not fit.
    pub fn new(settings: &PredictiveSettings, spans: &[Span], scan: f64) -> Result<Self> {
        settings.validate()?;
        let scans = settings.scans_ahead(scan)?;
        let model = Discrete::of(&settings.matrix(spans.iter().map(Span::width))?, scan)?;
        for (k, mv) in settings.mvs.iter().enumerate() {
            if model.step_response(k, scans).iter().all(|value| value.abs() < NO_EFFECT) {
                let allowed = format!("longer, or another MV: {} moves nothing within it", mv.tag);
                return Err(Error::invalid("controller.horizon", format!("{} s", settings.horizon), allowed));
            }
        }
        let observer = Observer::new(settings, model)?;
        let targets = Targets::new(settings, &observer)?;
        let linear = settings.linear()?.is_some();
        let weights = Weights::of(settings, linear);
        let prediction = Prediction::new(settings, &observer, scans, &weights);
        let nonlinear =
            if linear { None } else { Some(Box::new(NonLinear::new(settings, spans, scan, scans, &observer.places)?)) };
        let learner = settings.learns.as_ref();
        let learner = learner.map(|own| Box::new(Learner::new(own, &observer, settings.mvs.len())));
        let limits = settings.limits();
        let (rows, normals) = constraints(settings, &limits, &prediction);
        let program = RankedProgram::new(&prediction.cost(&weights), &normals).ok_or_else(|| {
            Error::said("controller.model", "The cost of the moves cannot be computed with this model and horizon.")
        })?;
        let (m, p) = (settings.mvs.len(), settings.cvs.len());
        let zeros = DVector::zeros;
        let last = Last {
            state: zeros(observer.x.len() + observer.d.len()),
            steps: zeros(settings.dvs.len()),
            acting: zeros(observer.d.len() + settings.dvs.len()),
            outputs: zeros(p),
            free: vec![0.0; scans * p],
            is_told: true,
            linear: zeros(prediction.moves),
            bounds: vec![f64::NEG_INFINITY; rows.len()],
            limits: vec![0.0; limits.len()],
            mv_limits: vec![(0.0, 0.0); m],
            set_points: vec![0.0; p],
            courses: settings
                .cvs
                .iter()
                .map(|cv| if cv.set_point_known_ahead { vec![0.0; scans] } else { Vec::new() })
                .collect(),
            coming: settings.dvs.iter().map(|dv| if dv.known_ahead { vec![0.0; scans] } else { Vec::new() }).collect(),
            at_end: settings.knows_ahead().then(|| AtEnd {
                set_points: vec![0.0; p],
                acting: zeros(observer.d.len() + settings.dvs.len()),
                states: vec![0.0; observer.model.own()],
                mvs: vec![0.0; m],
            }),
            followed: vec![true; p],
            believed: vec![true; p],
            available: vec![true; m],
            follows: vec![true; m],
            stood: vec![0.0; m],
            from: vec![0.0; m],
            wishes: vec![f64::NAN; m],
            before: vec![0.0; m],
            now: zeros(observer.model.own() + m),
            solved: Solved { ending: Ending::Solved, steps: 0, gave_way: false },
        };
        Ok(Self {
            inputs: zeros(m + settings.dvs.len()),
            outputs: vec![0.0; m],
            base: Base { cvs: vec![0.0; p], mvs: vec![0.0; m], dvs: vec![0.0; settings.dvs.len()] },
            settings: settings.clone(),
            spans: spans.to_vec(),
            limits,
            scan,
            observer,
            nonlinear,
            learner,
            targets,
            prediction,
            weights,
            program,
            rows,
            last,
        })
    }

    /// Rests here: CVs, MVs and measured disturbances have long been as they are; CVs that are only estimated as their settings say.
    pub fn rest(&mut self, measured: &[f64], outputs: &[f64], disturbances: &[f64]) {
        let at_start = |(k, cv): (usize, &ControlledVariable)| match &cv.estimated {
            Some(estimated) => estimated.span.to_percent(estimated.at_start),
            None => measured[k],
        };
        let cvs = self.settings.cvs.iter().enumerate().map(at_start).collect();
        self.base = Base { cvs, mvs: outputs.to_vec(), dvs: disturbances.to_vec() };
        self.observer.rest();
        if let Some(learner) = &mut self.learner {
            learner.rest();
        }
        if let Some(nonlinear) = &mut self.nonlinear {
            for (disturbance, mv) in nonlinear.rest(measured, outputs, disturbances) {
                self.observer.places[disturbance].1 = DisturbanceAt::Input(self.settings.mvs[mv].input.clone());
            }
            self.observer.d.copy_from_slice(nonlinear.disturbances());
        }
        self.inputs.fill(0.0);
        self.last.stood.copy_from_slice(outputs);
        self.outputs.copy_from_slice(outputs);
    }

    /// One scan: the MVs in % that follow from what it sees. One that it may not move stays where it stands.
    pub fn scan(&mut self, sight: &Sight) -> &[f64] {
        match self.learner.take() {
            Some(mut learner) => {
                self.scan_and_learn(&mut learner, sight);
                self.learner = Some(learner);
            }
            None => self.scan_as_planned(sight),
        }
        &self.outputs
    }

    fn scan_as_planned(&mut self, sight: &Sight) {
        let m = self.settings.mvs.len();
        for (j, (input, applied)) in self.inputs.iter_mut().zip(sight.applied).enumerate() {
            *input = applied - self.base.mvs[j];
        }
        match &mut self.nonlinear {
            Some(nonlinear) => {
                let stood = self.inputs.iter().skip(m).zip(&self.base.dvs);
                nonlinear.advance(sight.applied, &stood.map(|(by, base)| base + by).collect::<Vec<_>>());
            }
            None => self.observer.advance(&self.inputs),
        }
        for (k, value) in sight.disturbances.iter().enumerate() {
            let value = value - self.base.dvs[k];
            self.last.steps[k] = value - self.inputs[m + k];
            self.inputs[m + k] = value;
        }
        let last = &mut self.last;
        for (k, measured) in sight.measured.iter().enumerate() {
            last.outputs[k] = measured - self.base.cvs[k];
        }
        match &mut self.nonlinear {
            Some(nonlinear) => {
                nonlinear.correct(sight.measured);
                let shown = nonlinear.outputs().into_iter().zip(&self.base.cvs).map(|(shown, base)| shown - base);
                last.outputs.iter_mut().zip(shown).for_each(|(own, shown)| *own = shown);
                self.observer.d.copy_from_slice(nonlinear.disturbances());
            }
            None => {
                self.observer.correct(last.outputs.as_slice());
                self.observer.outputs(&mut last.outputs);
            }
        }
        self.see(sight);
        self.see_ahead(&sight.ahead);
        self.seek_targets();
        self.plan();
        for j in 0..m {
            let (low, high) = self.last.mv_limits[j];
            let (moved, from) = (self.program.x()[j * self.prediction.begins.len()], self.last.from[j]);
            let mut to = from + moved;
            if let Some(rate) = self.settings.mvs[j].rate {
                let most = rate * self.scan;
                to = to.clamp(from - most, from + most);
            }
            to = to.clamp(low.min(from), high.max(from));
            self.outputs[j] = if self.last.available[j] { self.base.mvs[j] + to } else { sight.set[j] };
        }
    }

    /// One scan in which it moves the MVs beside its plan, to learn how strongly they act. The plan takes no notice of these moves: they are taken
    /// off what stands at the MVs, and what they bring about off what is measured.
    fn scan_and_learn(&mut self, learner: &mut Learner, sight: &Sight) {
        let mut stood = self.inputs.clone();
        for (j, (input, applied)) in stood.iter_mut().zip(sight.applied).enumerate() {
            *input = applied - self.base.mvs[j];
        }
        learner.advance(&stood);
        let measured: Vec<f64> = sight.measured.iter().zip(&self.base.cvs).map(|(value, base)| value - base).collect();
        learner.correct(&measured);
        let without = |all: &[f64], by: &[f64]| all.iter().zip(by).map(|(value, by)| value - by).collect::<Vec<f64>>();
        let beside = learner.beside().to_vec();
        let as_planned = Sight {
            measured: &without(sight.measured, learner.brought_about().as_slice()),
            applied: &without(sight.applied, &beside),
            set: &without(sight.set, &beside),
            ..*sight
        };
        self.scan_as_planned(&as_planned);
        for (j, mv) in self.settings.mvs.iter().enumerate() {
            let by = learner.moves_by(j);
            let planned = self.outputs[j];
            if self.last.available[j] {
                let most = mv.rate.map_or(f64::INFINITY, |rate| rate * self.scan);
                let (low, high) = (mv.low.min(planned), mv.high.max(planned));
                let moved = (planned + by).clamp(low, high);
                self.outputs[j] = moved.clamp(sight.applied[j] - most, sight.applied[j] + most);
            } else {
                self.outputs[j] = sight.set[j];
            }
            learner.is_moved_by(j, if self.last.available[j] { self.outputs[j] - planned } else { 0.0 });
        }
        learner.pass();
        if let Some((factors, observer)) = learner.renewed()
            && self.plans_with(observer)
        {
            learner.takes_up(factors);
        }
    }

    /// Plans from now on with another observer; whether that can be.
    fn plans_with(&mut self, observer: Observer) -> bool {
        let Ok(targets) = Targets::new(&self.settings, &observer) else { return false };
        let prediction = Prediction::new(&self.settings, &observer, self.prediction.scans, &self.weights);
        let (rows, normals) = constraints(&self.settings, &self.limits, &prediction);
        let Some(program) = RankedProgram::new(&prediction.cost(&self.weights), &normals) else { return false };
        self.last.bounds.resize(rows.len(), f64::NEG_INFINITY);
        (self.observer, self.targets, self.prediction) = (observer, targets, prediction);
        (self.rows, self.program) = (rows, program);
        true
    }

    /// What has been learnt of each MV; nothing where nothing learns.
    pub(crate) fn learnt(&self) -> impl Iterator<Item = LearntGain> {
        let mvs = 0..self.settings.mvs.len();
        self.learner.iter().flat_map(move |learner| mvs.clone().map(|mv| learner.known(mv)))
    }

    /// Notes what limits, set points and wishes come to, in % from where the loop rested at first.
    fn see(&mut self, sight: &Sight) {
        let last = &mut self.last;
        for (j, mv) in self.settings.mvs.iter().enumerate() {
            let before = sight.applied[j] - self.base.mvs[j];
            let (low, high) = (mv.low - self.base.mvs[j], mv.high - self.base.mvs[j]);
            last.before[j] = before;
            let (gap, covered) = (sight.set[j] - sight.applied[j], sight.applied[j] - last.stood[j]);
            let on_its_way = covered.abs() >= ON_ITS_WAY * gap.abs();
            last.stood[j] = sight.applied[j];
            last.follows[j] = on_its_way || mv.follows_within.is_none_or(|within| gap.abs() < within);
            // A valve that has stopped short of what is set needs more than the move that is planned: that is made from what is set.
            last.from[j] = before + if on_its_way { 0.0 } else { gap };
            last.available[j] = sight.available[j] && last.follows[j];
            last.mv_limits[j] = match (last.available[j], mv.rate) {
                (false, _) => (before, before),
                // One that stands outside is brought back as fast as it may move.
                (true, Some(_)) => (low.min(before), high.max(before)),
                (true, None) => (low, high),
            };
            last.wishes[j] = mv.rests_at.map_or(f64::NAN, |wish| wish - self.base.mvs[j]);
        }
        for (held, LimitOfCv { cv, limit, .. }) in last.limits.iter_mut().zip(&self.limits) {
            *held = self.spans[*cv].to_percent(limit.value) - self.base.cvs[*cv];
        }
        for (k, cv) in self.settings.cvs.iter().enumerate() {
            last.believed[k] = sight.measured[k].is_finite();
            // Of what nothing measures there is no set point.
            last.set_points[k] = if cv.is_measured() { sight.set_points[k] - self.base.cvs[k] } else { 0.0 };
            last.followed[k] = cv.follows_set_point && last.believed[k];
        }
        let order = self.observer.x.len();
        last.state.rows_mut(0, order).copy_from(&self.observer.x);
        last.state.rows_mut(order, self.observer.d.len()).copy_from(&self.observer.d);
        let count = self.observer.d.len();
        last.acting.rows_mut(0, count).copy_from(&self.observer.d);
        last.acting
            .rows_mut(count, self.settings.dvs.len())
            .copy_from(&self.inputs.rows(self.settings.mvs.len(), self.settings.dvs.len()));
    }

    /// Notes what is known of the scans to come. What is not told of them stays as it is now.
    fn see_ahead(&mut self, ahead: &KnownAhead) {
        let last = &mut self.last;
        let Some(at_end) = &mut last.at_end else { return };
        at_end.set_points.copy_from_slice(&last.set_points);
        at_end.acting.copy_from(&last.acting);
        for (k, course) in last.courses.iter_mut().enumerate().filter(|(_, course)| !course.is_empty()) {
            let told = ahead.set_points.get(k).map_or(&[][..], Vec::as_slice);
            // The way to where it should be: a lag of the first order behind the set point, from where it is.
            let time = self.settings.cvs[k].response_time;
            let left = if time > 0.0 { (-self.scan / time).exp() } else { 0.0 };
            let (mut way, mut set_point) = (last.outputs[k], last.set_points[k]);
            for (after, wanted) in course.iter_mut().enumerate() {
                set_point = told.get(after).map_or(set_point, |told| told - self.base.cvs[k]);
                way = set_point + (way - set_point) * left;
                *wanted = way;
            }
            at_end.set_points[k] = set_point;
        }
        let dvs = last.acting.len() - self.settings.dvs.len();
        for (k, coming) in last.coming.iter_mut().enumerate().filter(|(_, coming)| !coming.is_empty()) {
            let told = ahead.disturbances.get(k).map_or(&[][..], Vec::as_slice);
            let mut before = last.acting[dvs + k];
            for (made, step) in coming.iter_mut().enumerate().skip(1) {
                let value = told.get(made - 1).map_or(before, |told| told - self.base.dvs[k]);
                *step = value - before;
                before = value;
            }
            at_end.acting[dvs + k] = before;
        }
    }

    fn seek_targets(&mut self) {
        let (own, last) = (self.observer.model.own(), &mut self.last);
        if self.nonlinear.is_some() {
            // Nothing is sought beyond the horizon: it rests where it is wanted, or where it is.
            for k in 0..last.outputs.len() {
                self.targets.outputs[k] = if last.followed[k] { last.set_points[k] } else { last.outputs[k] };
            }
            for (j, (wish, before)) in last.wishes.iter().zip(&last.before).enumerate() {
                self.targets.rest[own + j] = if wish.is_finite() { *wish } else { *before };
            }
            return;
        }
        last.now.rows_mut(0, own).copy_from(&self.observer.x.rows(0, own));
        for (j, before) in last.before.iter().enumerate() {
            last.now[own + j] = *before;
        }
        let wanted = Wanted {
            set_points: &last.set_points,
            followed: &last.followed,
            limits: &last.limits,
            mv_limits: &last.mv_limits,
            wishes: &last.wishes,
        };
        if let Some(at_end) = &mut last.at_end {
            let wanted = Wanted { set_points: &at_end.set_points, ..wanted };
            self.targets.seek(&self.settings, &last.now, &at_end.acting, &wanted);
            at_end.states.copy_from_slice(self.targets.states());
            at_end.mvs.copy_from_slice(self.targets.mvs());
        }
        self.targets.seek(&self.settings, &last.now, &last.acting, &wanted);
    }

    /// Where a CV should be after so many scans, in % from where the loop rested at first.
    fn wanted(&self, cv: usize, after: usize) -> f64 {
        let last = &self.last;
        // To its set point, not to where it is to rest: what cannot be reached in the end is still wanted on the way there
        // (Rawlings, Bonné, Jørgensen, Venkat & Jørgensen, IEEE Trans. Automatic Control 53, 2008).
        let (now, goal) =
            (last.outputs[cv], if last.followed[cv] { last.set_points[cv] } else { self.targets.outputs[cv] });
        let course = last.courses[cv].get(after - 1).filter(|_| last.followed[cv]).copied();
        course.unwrap_or_else(|| goal + (now - goal) * self.left_of_way(cv, after))
    }

    /// A limit as it is held after so many scans, in % from where the loop rested at first: from beyond it the CV comes back on the way on
    /// which it comes to its set point.
    fn held(&self, limit: usize, after: usize) -> f64 {
        let LimitOfCv { cv, side, .. } = self.limits[limit];
        let (now, value) = (self.last.outputs[cv], self.last.limits[limit]);
        if side.sign() * (value - now) > 0.0 { value + (now - value) * self.left_of_way(cv, after) } else { value }
    }

    /// Share of the way back of a CV that is left after so many scans.
    fn left_of_way(&self, cv: usize, after: usize) -> f64 {
        let time = self.settings.cvs[cv].response_time;
        if time > 0.0 { (-(after as f64) * self.scan / time).exp() } else { 0.0 }
    }

    /// Moves a limit, which is one of [all](PredictiveSettings::limits): to a value in the unit of its CV.
    pub(crate) fn move_limit(&mut self, limit: usize, to: f64) {
        self.limits[limit].limit.value = to;
    }

    fn plan(&mut self) {
        if self.nonlinear.is_some() {
            return self.plan_along_path();
        }
        self.pose();
        self.solve();
    }

    /// The limits of a CV, with their places among all.
    fn limits_of(&self, cv: usize) -> impl Iterator<Item = (usize, &LimitOfCv)> {
        self.limits.iter().enumerate().filter(move |(_, limit)| limit.cv == cv)
    }

    fn solve(&mut self) {
        let most = self.settings.most_steps as usize;
        self.last.solved = self.program.solve(self.last.linear.as_slice(), &self.last.bounds, most);
    }

    /// Poses the program of the moves: by what its linear term and its bounds are.
    fn pose(&mut self) {
        let (scans, p, blocks) = (self.prediction.scans, self.prediction.outputs, self.prediction.begins.len());
        if self.nonlinear.is_some() {
            self.foresee_non_linear();
        } else {
            let Last { state, steps, free, coming, .. } = &mut self.last;
            self.prediction.free_response(state.as_slice(), steps.as_slice(), free);
            self.prediction.add_known(coming, free);
        }
        let mut linear = std::mem::replace(&mut self.last.linear, DVector::zeros(0));
        linear.fill(0.0);
        for cv in (0..p).filter(|cv| self.weights.errors[*cv] > 0.0 && self.last.followed[*cv]) {
            for after in 1..=scans {
                let row = self.prediction.row(cv, after);
                let off = self.weights.errors[cv] * (self.last.free[row] - self.wanted(cv, after));
                linear.iter_mut().zip(self.prediction.effect(row)).for_each(|(sum, effect)| *sum += off * effect);
            }
        }
        // Where no set point is followed what MVs cost counts on the way, too; else it would move the set points.
        let hours = if self.last.followed.contains(&true) { 0.0 } else { self.scan / 3600.0 };
        for (j, weight) in self.weights.positions.iter().enumerate() {
            let off = weight * (self.last.before[j] - self.targets.mvs()[j]) + hours * self.settings.mvs[j].cost;
            for (b, begin) in self.prediction.begins.iter().enumerate() {
                linear[j * blocks + b] += (scans - begin) as f64 * off;
            }
        }
        if let Some(beyond) = &mut self.prediction.beyond {
            let rest = match &self.last.at_end {
                Some(at_end) => [&at_end.states[..], &at_end.mvs],
                None => [self.targets.states(), self.targets.mvs()],
            };
            beyond.linear(&self.observer, &self.last.state, (&self.last.steps, &self.last.coming), rest, &mut linear);
        }
        for row in 0..self.rows.len() {
            self.last.bounds[row] = self.bound(self.rows[row]);
        }
        self.last.linear = linear;
    }

    /// The bound of a constraint as it stands.
    fn bound(&self, constraint: Constraint) -> f64 {
        let last = &self.last;
        match constraint {
            Constraint::Position { mv, high: false, .. } => last.mv_limits[mv].0 - last.before[mv],
            Constraint::Position { mv, high: true, .. } => last.before[mv] - last.mv_limits[mv].1,
            Constraint::Rate { mv, .. } => {
                self.settings.mvs[mv].rate.map_or(f64::NEG_INFINITY, |rate| -rate * self.scan)
            }
            Constraint::Output { limit, after } => {
                let LimitOfCv { cv, side, .. } = self.limits[limit];
                side.sign() * (self.held(limit, after) - last.free[self.prediction.row(cv, after)])
            }
        }
    }

    /// The program of the last plan, for whoever wants to solve it by other means, and the moves that were found.
    #[must_use]
    pub fn program(&self) -> (PlanProgram, &[f64]) {
        let (_, normals) = constraints(&self.settings, &self.limits, &self.prediction);
        let program = PlanProgram {
            matrix: self.prediction.cost(&self.weights),
            linear: self.last.linear.as_slice().to_vec(),
            normals: normals.into_iter().map(|(normal, _)| normal).collect(),
            bounds: self.last.bounds.clone(),
        };
        (program, self.program.x())
    }

    /// Its law about where it rests, written out. Errors as [`Explicit::of`].
    pub fn written_out(&self) -> Result<Explicit> {
        Explicit::of(&self.settings, &self.spans, self.scan, [&self.base.cvs, &self.base.mvs])
    }

    /// Scans that it looks ahead.
    #[must_use]
    pub fn scans_ahead(&self) -> usize {
        self.prediction.scans
    }

    /// Steps that the solver took at the last scan.
    #[must_use]
    pub fn steps(&self) -> usize {
        self.last.solved.steps + self.targets.solved.steps
    }

    /// Limits that the last plan runs along.
    #[must_use]
    pub fn limits_at_work(&self) -> usize {
        self.program.multipliers().filter(|(row, _)| self.is_a_limit(*row)).count()
    }

    /// Whether a constraint holds the plan at a limit, and not only near the path that it was made along.
    fn is_a_limit(&self, row: usize) -> bool {
        self.last.bounds[row] <= self.bound(self.rows[row]) + 1e-9
    }

    /// Whether limits of CVs gave way at the last scan, in the plan or where it is to rest.
    #[must_use]
    pub fn gave_way(&self) -> bool {
        self.last.solved.gave_way || self.targets.solved.gave_way
    }
}

/// All constraints of the moves with their normals and ranks.
fn constraints(
    settings: &PredictiveSettings,
    limits: &[LimitOfCv],
    prediction: &Prediction,
) -> (Vec<Constraint>, Vec<RankedNormal>) {
    let (blocks, moves) = (prediction.begins.len(), prediction.moves);
    let (mut rows, mut normals) = (Vec::new(), Vec::new());
    for (mv, one) in settings.mvs.iter().enumerate() {
        for block in 0..blocks {
            for (high, sign) in [(false, 1.0), (true, -1.0)] {
                let mut normal = vec![0.0; moves];
                normal[mv * blocks..=mv * blocks + block].fill(sign);
                rows.push(Constraint::Position { mv, block, high });
                normals.push((normal, None));
            }
            for (up, sign) in [(false, 1.0), (true, -1.0)].into_iter().filter(|_| one.rate.is_some()) {
                let mut normal = vec![0.0; moves];
                normal[mv * blocks + block] = sign;
                rows.push(Constraint::Rate { mv, block, up });
                normals.push((normal, None));
            }
        }
    }
    for (k, LimitOfCv { cv, side, limit }) in limits.iter().enumerate() {
        for after in &prediction.limit_points {
            let effect = prediction.effect(prediction.row(*cv, *after));
            if effect.iter().all(|value| value.abs() < NO_EFFECT) {
                continue;
            }
            rows.push(Constraint::Output { limit: k, after: *after });
            normals.push((effect.iter().map(|value| side.sign() * value).collect(), Some(limit.rank)));
        }
    }
    (rows, normals)
}
