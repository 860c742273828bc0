//! The law of a small predictive controller, written out: every region of what it knows, and what it does there.

use super::observer::Observer;
use super::settings::PredictiveSettings;
use super::{Constraint, Predictive, Wanted};
use crate::numerics::{ParametricProgram, Region, locate};
use crate::units::Span;
use crate::{Error, Result};
use nalgebra::{DMatrix, DVector};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Most regions of a law that is written out.
pub const MOST_REGIONS: usize = 2000;
/// Share of the room of the MVs that a disturbance at an input may take, and what one at an output may come to, % of span.
const ROOM_FOR_DISTURBANCES: f64 = 0.5;
const OUTPUT_DISTURBANCE: f64 = 50.0;
/// States run further than moves from end to end of the MVs bring them over the horizon, by this factor.
const SPARE: f64 = 1.5;
/// Polygons of a map that are smaller than this share of it are none.
const SMALLEST: f64 = 1e-9;

/// The unit of CVs.
const OF_SPAN: &str = "% of span";

/// What a parameter of the law is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Part {
    State(usize),
    /// Of a CV, with its unit.
    Disturbance(usize, &'static str),
    Before(usize),
    SetPoint(usize),
}

/// A parameter that a map can be drawn over.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct LawParameter {
    /// What it is, in words.
    pub title: String,
    /// Its unit.
    pub unit: String,
    /// Its least value.
    pub low: f64,
    /// Its greatest.
    pub high: f64,
    /// Where it rests.
    pub rests_at: f64,
}

/// The law over two of its parameters, all others at rest.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct RegionMap {
    /// The parameters that can be chosen.
    pub parameters: Vec<LawParameter>,
    /// The one to the right, and the one upwards, by their places.
    pub over: [usize; 2],
    /// The regions that the map cuts.
    pub regions: Vec<RegionOnMap>,
    /// Regions of the moves in all, and of where to rest.
    pub moves: usize,
    /// The latter.
    pub rests: usize,
    /// Parameters of the law in all, with the states of the model.
    pub knows: usize,
    /// Numbers that the law is written in.
    pub numbers: usize,
}

/// A region of the law on a map.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct RegionOnMap {
    /// Its corners, in order.
    pub corners: Vec<[f64; 2]>,
    /// What limits it, in words; none where the law is the unconstrained one.
    pub limits: Vec<String>,
    /// Of each MV what it is set to in it: by the two parameters, and that at their zero, %.
    pub law: Vec<LawOfMv>,
}

/// An affine law on a map: `right · x + up · y + offset`.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct LawOfMv {
    /// Tag of the MV.
    pub tag: String,
    /// % per unit of the parameter to the right.
    pub right: f64,
    /// % per unit of the one upwards.
    pub up: f64,
    /// What it is set to where both are 0, %.
    pub offset: f64,
}

/// An affine map.
#[derive(Debug, Clone)]
pub(super) struct Affine {
    pub by: DMatrix<f64>,
    pub at: DVector<f64>,
}

impl Affine {
    /// Of a function that is affine, by its differences.
    fn of(count: usize, mut answer: impl FnMut(&[f64]) -> DVector<f64>) -> Self {
        let mut theta = vec![0.0; count];
        let at = answer(&theta);
        let mut by = DMatrix::zeros(at.len(), count);
        for k in 0..count {
            theta[k] = 1.0;
            by.set_column(k, &(answer(&theta) - &at));
            theta[k] = 0.0;
        }
        Self { by, at }
    }

    fn rows(&self, from: usize, count: usize) -> (DMatrix<f64>, DVector<f64>) {
        (self.by.rows(from, count).into_owned(), self.at.rows(from, count).into_owned())
    }
}

/// A predictive controller without a solver: where to rest, and the moves that lead there, each looked up by its region.
///
/// The parameters are the states of its model, the disturbances that it believes in, the MVs as they stand and the set points, in % from
/// where the loop rested. It is that of the controller to rounding, while these stay in the box that it was made for.
#[derive(Debug, Clone)]
pub struct Explicit {
    pub(super) parts: Vec<Part>,
    within: Vec<(f64, f64)>,
    /// Where to rest, by the parameters and the directions that are free.
    pub(super) rest: Affine,
    pub(super) rests: Vec<Region>,
    pub(super) moves: Vec<Region>,
    constraints: Vec<Constraint>,
    pub(super) blocks: usize,
    pub(super) settings: PredictiveSettings,
    pub(super) spans: Vec<Span>,
    pub(super) scan: f64,
    /// Where CVs and MVs rested, %.
    pub(super) base: (Vec<f64>, Vec<f64>),
    pub(super) observer: Observer,
}

impl Explicit {
    /// Of a controller with these settings, the spans of its CVs and its scan in s, about where CVs and MVs rest, in %. Errors where a limit
    /// can give way, something is known ahead, or there are too many regions.
    pub fn of(settings: &PredictiveSettings, spans: &[Span], scan: f64, [cvs, mvs]: [&[f64]; 2]) -> Result<Self> {
        let refused = |field: String, sentence: &str| Err(Error::said(format!("controller.{field}"), sentence));
        if let Some(k) = settings.cvs.iter().position(|cv| !cv.limits().is_empty()) {
            let sentence = "A law is written out where the MVs alone have limits: those of CVs may have to give way.";
            return refused(format!("cvs[{k}].{}", settings.cvs[k].limits()[0].0), sentence);
        }
        if let Some(k) = settings.cvs.iter().position(|cv| !cv.follows_set_point) {
            let sentence = "A law is written out of CVs that follow set points.";
            return refused(format!("cvs[{k}].follows_set_point"), sentence);
        }
        if settings.linear()?.is_none() {
            return refused("model".to_owned(), "A law is written out of a linear model.");
        }
        if settings.learns.is_some() {
            return refused("learns".to_owned(), "A law that is written out stays as it is: let nothing learn.");
        }
        if settings.knows_ahead() {
            return refused("cvs".to_owned(), "A law that is written out knows nothing beforehand.");
        }
        if let Some(k) = settings.mvs.iter().position(|mv| mv.follows_within.is_some()) {
            let sentence = "A law is written out of MVs whose positions are not read back.";
            return refused(format!("mvs[{k}].follows_within"), sentence);
        }
        if !settings.dvs.is_empty() {
            return refused("dvs".to_owned(), "A law is written out without measured disturbances.");
        }
        let mut poser = Poser::new(settings, spans, scan, [cvs, mvs])?;
        let (parts, within) = (poser.parts(), poser.within());
        let count = parts.len();
        let too_many = || {
            let sentence = format!(
                "The law has more than {MOST_REGIONS} regions: it can be written out with fewer moves, or fewer limits of rates."
            );
            Error::said("controller.moves", sentence)
        };
        let (matrix, normals) = poser.controller.targets.matrices.clone();
        let directions = matrix.nrows();
        let posed = Affine::of(count, |theta| poser.targets(theta));
        let (linear, bounds) = (posed.rows(0, directions), posed.rows(directions, normals.nrows()));
        let where_to = ParametricProgram { matrix, linear, normals, bounds, within: within.clone() };
        let rests = where_to.regions(MOST_REGIONS).ok_or_else(too_many)?;
        let rest = Affine::of(count + directions, |all| poser.rest(&all[..count], &all[count..]));
        let (program, _) = poser.controller.program();
        let moves = program.matrix.nrows();
        let resting = rest.at.len();
        let posed = Affine::of(count + resting, |all| poser.moves(&all[..count], &all[count..]));
        let (linear, bounds) = (posed.rows(0, moves), posed.rows(moves, program.normals.len()));
        let normals = DMatrix::from_fn(program.normals.len(), moves, |row, k| program.normals[row][k]);
        let mut wider = within.clone();
        wider.extend(poser.rests_within());
        let plan = ParametricProgram { matrix: program.matrix, linear, normals, bounds, within: wider };
        Ok(Self {
            moves: plan.regions(MOST_REGIONS).ok_or_else(too_many)?,
            constraints: poser.controller.rows.clone(),
            blocks: settings.moves.len(),
            settings: settings.clone(),
            spans: spans.to_vec(),
            scan,
            base: (cvs.to_vec(), mvs.to_vec()),
            observer: poser.controller.observer,
            parts,
            within,
            rest,
            rests,
        })
    }

    /// The parameters within which it holds: the least and the greatest value of each, in % from where the loop rested.
    #[must_use]
    pub fn within(&self) -> &[(f64, f64)] {
        &self.within
    }

    /// Regions of the moves, and of where to rest.
    #[must_use]
    pub fn regions(&self) -> (usize, usize) {
        (self.moves.len(), self.rests.len())
    }

    /// Numbers that it is written in: laws and sides of all regions.
    #[must_use]
    pub fn numbers(&self) -> usize {
        let of = |region: &Region| {
            let (rows, columns) = region.gain.shape();
            rows * (columns + 1) + region.sides.len() * (columns + 1)
        };
        self.moves.iter().chain(&self.rests).map(of).sum()
    }

    /// The first move of every MV, in %, at these parameters; None outside the box.
    #[must_use]
    pub fn at(&self, theta: &[f64]) -> Option<Vec<f64>> {
        let v = locate(&self.rests, theta)?.at(theta);
        let all = DVector::from_iterator(theta.len() + v.len(), theta.iter().chain(v.iter()).copied());
        let rest = &self.rest.by * all + &self.rest.at;
        let wider: Vec<f64> = theta.iter().chain(rest.iter()).copied().collect();
        let moves = locate(&self.moves, &wider)?.at(&wider);
        Some(moves.iter().step_by(self.blocks).copied().collect())
    }

    /// The parameters that a map can be drawn over, by their places among all.
    fn on_offer(&self) -> Vec<(usize, LawParameter)> {
        let named = |(place, part): (usize, &Part)| {
            let cv = |k: usize| &self.settings.cvs[k].tag;
            let (title, unit, base) = match *part {
                Part::State(_) => return None,
                Part::Disturbance(k, unit) => (format!("disturbance of {}", cv(k)), unit, 0.0),
                Part::Before(j) => (format!("{} before", self.settings.mvs[j].tag), "%", self.base.1[j]),
                Part::SetPoint(k) => (format!("set point of {}", cv(k)), OF_SPAN, self.base.0[k]),
            };
            let (low, high) = self.within[place];
            Some((
                place,
                LawParameter { title, unit: unit.to_owned(), low: low + base, high: high + base, rests_at: base },
            ))
        };
        // What is wanted first, then what stands in the way.
        let mut offers: Vec<(usize, LawParameter)> = self.parts.iter().enumerate().filter_map(named).collect();
        offers.sort_by_key(|(place, _)| match self.parts[*place] {
            Part::SetPoint(_) => 0,
            Part::Before(_) => 1,
            _ => 2,
        });
        offers
    }

    /// The regions over two of the parameters on offer, by their places there, while all others are at rest. Errors where there are no such
    /// two.
    pub fn map(&self, over: [usize; 2]) -> Result<RegionMap> {
        let offers = self.on_offer();
        for (field, place) in [("over.0", over[0]), ("over.1", over[1])] {
            if place >= offers.len() {
                return Err(Error::invalid(field, place, format!("0 to {}", offers.len() - 1)));
            }
        }
        if over[0] == over[1] {
            return Err(Error::invalid("over.1", over[1], "another parameter than the one to the right"));
        }
        let chosen = over.map(|place| offers[place].0);
        let shift = over.map(|place| offers[place].1.rests_at);
        let [right, up] = chosen.map(|place| self.within[place]);
        let whole = vec![[right.0, up.0], [right.1, up.0], [right.1, up.1], [right.0, up.1]];
        let size = (right.1 - right.0) * (up.1 - up.0);
        let count = self.parts.len();
        // What the map cuts out of all parameters: columns for right and up, and the rest of them.
        let mut plane = Affine { by: DMatrix::zeros(count, 2), at: DVector::zeros(count) };
        plane.by[(chosen[0], 0)] = 1.0;
        plane.by[(chosen[1], 1)] = 1.0;
        let mut regions = Vec::new();
        for rest in &self.rests {
            let corners = cut(&whole, rest, &plane);
            if area(&corners) < SMALLEST * size {
                continue;
            }
            let with_v = Affine {
                by: stacked(&plane.by, &(&rest.gain * &plane.by)),
                at: stacked_vector(&plane.at, &(&rest.gain * &plane.at + &rest.offset)),
            };
            let wider = Affine {
                by: stacked(&plane.by, &(&self.rest.by * &with_v.by)),
                at: stacked_vector(&plane.at, &(&self.rest.by * &with_v.at + &self.rest.at)),
            };
            for moves in &self.moves {
                let corners = cut(&corners, moves, &wider);
                if area(&corners) < SMALLEST * size {
                    continue;
                }
                let (by, at) = (&moves.gain * &wider.by, &moves.gain * &wider.at + &moves.offset);
                let law = (0..self.settings.mvs.len()).map(|j| {
                    let row = j * self.blocks;
                    let before = self.parts.iter().position(|part| *part == Part::Before(j)).unwrap_or(0);
                    let stands = |k: usize| if chosen[k] == before { 1.0 } else { 0.0 };
                    let [right, up] = [by[(row, 0)] + stands(0), by[(row, 1)] + stands(1)];
                    LawOfMv {
                        tag: self.settings.mvs[j].tag.clone(),
                        offset: self.base.1[j] + at[row] - right * shift[0] - up * shift[1],
                        right,
                        up,
                    }
                });
                regions.push(RegionOnMap {
                    law: law.collect(),
                    limits: self.limits(&moves.active),
                    corners: corners.into_iter().map(|[x, y]| [x + shift[0], y + shift[1]]).collect(),
                });
            }
        }
        Ok(RegionMap {
            over,
            parameters: offers.into_iter().map(|(_, parameter)| parameter).collect(),
            moves: self.moves.len(),
            rests: self.rests.len(),
            knows: count,
            numbers: self.numbers(),
            regions,
        })
    }

    /// What constraints hold the moves, in words: what is now, and what only comes.
    fn limits(&self, active: &[usize]) -> Vec<String> {
        let mut said: Vec<String> = Vec::new();
        for row in active {
            let (mv, block, what) = match self.constraints[*row] {
                Constraint::Position { mv, block, high: false } => (mv, block, "at its low limit"),
                Constraint::Position { mv, block, high: true } => (mv, block, "at its high limit"),
                Constraint::Rate { mv, block, up: false } => (mv, block, "down as fast as it may"),
                Constraint::Rate { mv, block, up: true } => (mv, block, "up as fast as it may"),
                Constraint::Output { .. } => continue,
            };
            let now = format!("{} {what}", self.settings.mvs[mv].tag);
            let later = format!("{now} later");
            // What holds now is not said again of later; constraints come move by move.
            if block == 0 {
                said.push(now);
            } else if !said.contains(&now) && !said.contains(&later) {
                said.push(later);
            }
        }
        said
    }
}

fn stacked(above: &DMatrix<f64>, below: &DMatrix<f64>) -> DMatrix<f64> {
    let mut both = DMatrix::zeros(above.nrows() + below.nrows(), above.ncols());
    both.rows_mut(0, above.nrows()).copy_from(above);
    both.rows_mut(above.nrows(), below.nrows()).copy_from(below);
    both
}

fn stacked_vector(above: &DVector<f64>, below: &DVector<f64>) -> DVector<f64> {
    DVector::from_iterator(above.len() + below.len(), above.iter().chain(below.iter()).copied())
}

/// The part of a polygon that lies in a region, cut side by side (Sutherland & Hodgman 1974).
fn cut(corners: &[[f64; 2]], region: &Region, plane: &Affine) -> Vec<[f64; 2]> {
    let mut left = corners.to_vec();
    for (normal, bound) in &region.sides {
        let across = plane.by.tr_mul(normal);
        let from = normal.dot(&plane.at) - bound;
        let depth = |[x, y]: [f64; 2]| across[0] * x + across[1] * y + from;
        let mut kept = Vec::with_capacity(left.len() + 1);
        for (k, corner) in left.iter().enumerate() {
            let next = left[(k + 1) % left.len()];
            let (here, there) = (depth(*corner), depth(next));
            if here >= 0.0 {
                kept.push(*corner);
            }
            if (here >= 0.0) != (there >= 0.0) {
                let share = here / (here - there);
                kept.push([corner[0] + share * (next[0] - corner[0]), corner[1] + share * (next[1] - corner[1])]);
            }
        }
        left = kept;
    }
    left
}

fn area(corners: &[[f64; 2]]) -> f64 {
    let turns = corners.iter().zip(corners.iter().cycle().skip(1));
    0.5 * turns.map(|([x, y], [to_x, to_y])| x * to_y - to_x * y).sum::<f64>().abs()
}

/// A controller whose programs are posed from any parameters.
struct Poser {
    controller: Predictive,
    order: usize,
    disturbances: usize,
}

impl Poser {
    fn new(settings: &PredictiveSettings, spans: &[Span], scan: f64, [cvs, mvs]: [&[f64]; 2]) -> Result<Self> {
        let mut controller = Predictive::new(settings, spans, scan)?;
        controller.rest(cvs, mvs, &[]);
        let last = &mut controller.last;
        for (j, mv) in settings.mvs.iter().enumerate() {
            last.mv_limits[j] = (mv.low - mvs[j], mv.high - mvs[j]);
            last.wishes[j] = mv.rests_at.map_or(f64::NAN, |wish| wish - mvs[j]);
        }
        let (order, disturbances) = (controller.observer.x.len(), controller.observer.d.len());
        Ok(Self { controller, order, disturbances })
    }

    fn parts(&self) -> Vec<Part> {
        let settings = &self.controller.settings;
        let states = (0..self.order).map(Part::State);
        let disturbances = self.controller.observer.places.iter().map(|(cv, place)| {
            let at_input = matches!(place, super::DisturbanceAt::Input(_));
            Part::Disturbance(*cv, if at_input { "%" } else { OF_SPAN })
        });
        let before = (0..settings.mvs.len()).map(Part::Before);
        states.chain(disturbances).chain(before).chain((0..settings.cvs.len()).map(Part::SetPoint)).collect()
    }

    /// The box of the parameters.
    fn within(&self) -> Vec<(f64, f64)> {
        let Predictive { settings, observer, base, .. } = &self.controller;
        let ends = |j: usize| (settings.mvs[j].low - base.mvs[j], settings.mvs[j].high - base.mvs[j]);
        let room = |j: usize| ROOM_FOR_DISTURBANCES * ends(j).1.min(-ends(j).0).max(1.0);
        let reach = self.reach();
        let mut within: Vec<(f64, f64)> = reach.iter().map(|reach| (-reach, *reach)).collect();
        within.extend(observer.places.iter().map(|(_, place)| match place {
            super::DisturbanceAt::Input(name) => {
                let at = settings.mvs.iter().position(|mv| mv.input == *name).map_or(OUTPUT_DISTURBANCE, room);
                (-at, at)
            }
            _ => (-OUTPUT_DISTURBANCE, OUTPUT_DISTURBANCE),
        }));
        within.extend((0..settings.mvs.len()).map(ends));
        within.extend(base.cvs.iter().map(|rest| (-rest, 100.0 - rest)));
        within
    }

    /// How far each state can be brought over the horizon by MVs from end to end and disturbances.
    fn reach(&self) -> Vec<f64> {
        let Predictive { settings, observer, prediction, base, .. } = &self.controller;
        let model = &observer.model;
        let (phi, gamma, _) = model.matrices();
        let mut reach = vec![0.0; self.order];
        let mut follow = |into: DVector<f64>, size: f64| {
            let mut x = DVector::zeros(self.order);
            let mut furthest = vec![0.0_f64; self.order];
            for _ in 0..prediction.scans {
                x = phi * x + &into;
                furthest.iter_mut().zip(x.iter()).for_each(|(most, x)| *most = most.max(x.abs()));
            }
            reach.iter_mut().zip(furthest).for_each(|(reach, most)| *reach += size * most);
        };
        for (j, mv) in settings.mvs.iter().enumerate() {
            let size = (mv.high - base.mvs[j]).max(base.mvs[j] - mv.low);
            follow(gamma.column(j).into_owned(), size);
        }
        for at in 0..self.disturbances {
            let mut into = DVector::zeros(self.order);
            into.rows_mut(0, observer.to_states.nrows()).copy_from(&observer.to_states.column(at));
            follow(into, OUTPUT_DISTURBANCE);
        }
        reach.into_iter().map(|reach: f64| SPARE * reach.max(1e-3)).collect()
    }

    /// The box of where it rests: states, then MVs.
    fn rests_within(&self) -> Vec<(f64, f64)> {
        let Predictive { settings, observer, base, .. } = &self.controller;
        let own = observer.model.own();
        let reach = self.reach();
        // At rest nothing is on its way any more: states may stand further off than a horizon brings them.
        let states = reach.into_iter().take(own).map(|reach| (-10.0 * reach, 10.0 * reach));
        let mvs = settings.mvs.iter().zip(&base.mvs).map(|(mv, base)| (mv.low - base - 1.0, mv.high - base + 1.0));
        states.chain(mvs).collect()
    }

    /// Takes parameters for what is known now.
    fn know(&mut self, theta: &[f64]) {
        let (order, count) = (self.order, self.disturbances);
        let controller = &mut self.controller;
        let (m, own) = (controller.settings.mvs.len(), controller.observer.model.own());
        let (x, rest) = theta.split_at(order);
        let (d, rest) = rest.split_at(count);
        let (before, set_points) = rest.split_at(m);
        controller.observer.x.copy_from_slice(x);
        controller.observer.d.copy_from_slice(d);
        let last = &mut controller.last;
        controller.observer.outputs(&mut last.outputs);
        last.state.rows_mut(0, order).copy_from_slice(x);
        last.state.rows_mut(order, count).copy_from_slice(d);
        last.acting.copy_from_slice(d);
        last.before.copy_from_slice(before);
        last.set_points.copy_from_slice(set_points);
        last.now.rows_mut(0, own).copy_from_slice(&x[..own]);
        last.now.rows_mut(own, m).copy_from_slice(before);
    }

    /// Linear term and bounds of where to rest.
    fn targets(&mut self, theta: &[f64]) -> DVector<f64> {
        self.know(theta);
        let Predictive { targets, settings, last, .. } = &mut self.controller;
        let wanted = Wanted {
            set_points: &last.set_points,
            followed: &last.followed,
            limits: &last.limits,
            mv_limits: &last.mv_limits,
            wishes: &last.wishes,
        };
        targets.pose(settings, &last.now, &last.acting, &wanted);
        let (linear, bounds) = targets.posed();
        DVector::from_iterator(linear.len() + bounds.len(), linear.iter().chain(bounds).copied())
    }

    /// Where it rests: states, then MVs, by what is known and the directions that are free.
    fn rest(&mut self, theta: &[f64], v: &[f64]) -> DVector<f64> {
        self.know(theta);
        let Predictive { targets, last, .. } = &mut self.controller;
        targets.take(&DVector::from_column_slice(v), &last.acting);
        targets.rest.clone()
    }

    /// Linear term and bounds of the moves.
    fn moves(&mut self, theta: &[f64], rest: &[f64]) -> DVector<f64> {
        self.know(theta);
        self.controller.targets.rest.copy_from_slice(rest);
        self.controller.pose();
        let last = &self.controller.last;
        let all = last.linear.iter().chain(&last.bounds);
        DVector::from_iterator(last.linear.len() + last.bounds.len(), all.copied())
    }
}

#[cfg(test)]
mod tests {
    use super::super::{ControlledVariable, DisturbanceAt, ManipulatedVariable};
    use super::*;
    use proptest::prelude::*;

    /// A lag behind a dead time of two scans, three moves.
    fn settings(rate: Option<f64>, moves: Vec<u32>, integrating: bool) -> PredictiveSettings {
        let model = if integrating {
            serde_json::json!({ "structure": "integrating", "gain": 0.05, "dead_time": 2.0 })
        } else {
            serde_json::json!({ "structure": "fopdt", "gain": 1.5, "time_constant": 20.0, "dead_time": 4.0 })
        };
        PredictiveSettings {
            model: serde_json::from_value(model).unwrap(),
            cvs: vec![ControlledVariable {
                tag: "PV".into(),
                output: "output".into(),
                estimated: None,
                follows_set_point: true,
                set_point_known_ahead: false,
                low: None,
                high: None,
                bands: Vec::new(),
                response_time: 4.0,
                weight: 1.0,
                disturbance: integrating.then(|| DisturbanceAt::Input("input".into())),
                believed_after: None,
            }],
            mvs: vec![ManipulatedVariable {
                tag: "OP".into(),
                input: "input".into(),
                low: 0.0,
                high: 100.0,
                rate,
                usual_move: 1.0,
                follows_within: None,
                rests_at: None,
                cost: 0.0,
                drives: None,
            }],
            inputs: Default::default(),
            dvs: Vec::new(),
            horizon: 60.0,
            moves,
            beyond_horizon: true,
            learns: None,
            most_steps: 400,
        }
    }

    fn explicit(settings: &PredictiveSettings) -> (Explicit, Poser) {
        let spans = [Span::new(0.0, 100.0, "%")];
        let at = [&[40.0][..], &[35.0][..]];
        (Explicit::of(settings, &spans, 2.0, at).unwrap(), Poser::new(settings, &spans, 2.0, at).unwrap())
    }

    /// The first move of the controller itself, by its solver.
    fn on_line(poser: &mut Poser, theta: &[f64]) -> Vec<f64> {
        poser.know(theta);
        poser.controller.seek_targets();
        poser.controller.plan();
        let blocks = poser.controller.prediction.begins.len();
        poser.controller.program.x().iter().step_by(blocks).copied().collect()
    }

    /// Ten thousand states, disturbances, OPs and set points of three controllers: what is looked up is what is solved for.
    #[test]
    fn what_is_written_out_is_what_is_solved_for() {
        let cases = [
            settings(None, vec![1, 2, 4], false),
            settings(Some(2.0), vec![1, 3], false),
            settings(None, vec![1, 2, 4], true),
        ];
        for (case, settings) in cases.iter().enumerate() {
            let (law, mut poser) = explicit(settings);
            assert!(law.regions().0 > 3 && law.regions().1 >= 1, "{:?}", law.regions());
            let mut bound = 0;
            for k in 0..3_334u32 {
                let theta: Vec<f64> = law
                    .within()
                    .iter()
                    .enumerate()
                    .map(|(i, (low, high))| {
                        // A lattice by the golden ratio's kin of as many dimensions, drawn towards the middle.
                        let share = (f64::from(k) * (f64::from(i as u32) * 0.618_033_9 + 0.754_877_7)).fract();
                        low + (high - low) * (0.1 + 0.8 * share)
                    })
                    .collect();
                let written = law.at(&theta).unwrap_or_else(|| panic!("case {case}: nothing at {theta:?}"));
                let solved = on_line(&mut poser, &theta);
                bound += u32::from(poser.controller.program.multipliers().count() > 0);
                for (written, solved) in written.iter().zip(&solved) {
                    assert!(
                        (written - solved).abs() < 1e-8 * solved.abs().max(1.0),
                        "case {case}: {written} {solved} at {theta:?}"
                    );
                }
            }
            assert!(bound > 300, "case {case}: {bound}");
        }
    }

    #[test]
    fn a_map_covers_its_rectangle_and_says_what_limits() {
        let (law, mut poser) = explicit(&settings(None, vec![1, 2, 4], false));
        let map = law.map([0, 1]).unwrap();
        assert_eq!((map.parameters[0].low, map.parameters[0].high), (0.0, 100.0));
        let whole: f64 = map.regions.iter().map(|region| area(&region.corners)).sum();
        assert!((whole - 1e4).abs() < 1e-3, "{whole}");
        assert!(map.regions.iter().any(|region| region.limits.is_empty()));
        assert!(map.regions.iter().any(|region| region.limits.contains(&"OP at its high limit".to_owned())));
        // The law of a region, at its middle, is what the solver does there.
        for region in &map.regions {
            let count = region.corners.len() as f64;
            let middle = [0, 1].map(|k| region.corners.iter().map(|corner| corner[k]).sum::<f64>() / count);
            let mut theta = vec![0.0; law.within().len()];
            let places = law.on_offer();
            theta[places[0].0] = middle[0] - 40.0;
            theta[places[1].0] = middle[1] - 35.0;
            let moved = middle[1] + on_line(&mut poser, &theta)[0];
            let own = &region.law[0];
            let said = own.right * middle[0] + own.up * middle[1] + own.offset;
            assert!((moved - said).abs() < 1e-6, "{moved} {said}");
        }
        assert!(law.map([0, 0]).is_err() && law.map([0, 9]).is_err());
    }

    #[test]
    fn what_cannot_be_written_out_is_told() {
        let spans = [Span::new(0.0, 100.0, "%")];
        let refused = |change: &dyn Fn(&mut PredictiveSettings)| {
            let mut settings = settings(None, vec![1, 2, 4], false);
            change(&mut settings);
            Explicit::of(&settings, &spans, 2.0, [&[40.0], &[35.0]]).err().map(|error| error.to_string())
        };
        assert!(refused(&|_| {}).is_none());
        let limited = refused(&|own| own.cvs[0].high = Some(super::super::RankedLimit { value: 60.0, rank: 1 }));
        assert!(limited.unwrap().contains("give way"));
        let many = refused(&|own| (own.mvs[0].rate, own.moves) = (Some(1.0), vec![1; 10]));
        assert!(many.unwrap().contains("regions"));
    }

    proptest! {
        /// Cutting keeps the area: both sides of a line together are the whole.
        #[test]
        fn both_sides_of_a_line_are_the_whole(a in -1f64..1.0, b in -1f64..1.0, c in -1f64..1.0) {
            prop_assume!(a.hypot(b) > 0.1);
            let square = [[-1.0, -1.0], [1.0, -1.0], [1.0, 1.0], [-1.0, 1.0]];
            let plane = Affine { by: DMatrix::identity(2, 2), at: DVector::zeros(2) };
            let half = |sign: f64| {
                let side = (DVector::from_vec(vec![sign * a, sign * b]), sign * c);
                let region = Region { active: vec![], gain: DMatrix::zeros(1, 2), offset: DVector::zeros(1), sides: vec![side] };
                area(&cut(&square, &region, &plane))
            };
            prop_assert!((half(1.0) + half(-1.0) - 4.0).abs() < 1e-9);
        }
    }
}
