//! Disturbances that were really there: found in a record, as items of a proving set.

use super::proposal::Ground;
use super::{Disturbance, Figure, ProvingSet};
use crate::assessment::{LoadChange, LoadSwing, LoadsFound};
use crate::identification::{DataSet, Model};
use crate::numerics::rounded;
use crate::simulation::{Event, Trial};
use crate::verdict::{Tone, Verdict, readable, readable_duration};
use crate::{Error, Result};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// How many times the time in which a loop settles a stretch of the record is taken for.
const SETTLINGS: f64 = 6.0;
/// A walk that comes to less while a loop settles is none, % of OP.
const LEAST_WALK: f64 = 0.5;
/// Values of a stretch, at most.
const MOST_VALUES: usize = 1500;
/// A change that took longer than this share of the time in which a loop settles is a ramp.
const RAMP: f64 = 0.1;

/// What a record shows of the loads of a loop, and what becomes of it in a proving set.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct FoundDisturbances {
    /// The load over the record.
    pub loads: LoadsFound,
    /// Items of a proving set, with limits.
    pub disturbances: Vec<Disturbance>,
    /// What was found, in sentences.
    pub verdicts: Vec<Verdict>,
}

/// The loads that `data`, a record of this name, shows by a model, as disturbances for the plant of a trial: the liveliest stretch as it
/// was, the largest change of either sign, and a regular swing. Limits are found as in a [proposed set](super::propose_set).
///
/// Errors as [`LoadsFound::of`], and where nothing of it can happen to the plant.
pub fn find_disturbances(trial: &Trial, data: &DataSet, model: &Model, record: &str) -> Result<FoundDisturbances> {
    trial.validate()?;
    check_unit(model, trial)?;
    let loads = LoadsFound::of(data, model)?;
    let ground = Ground::of(trial)?;
    let mut all = vec![stretch(&ground, &loads, record)];
    let sign = |by: f64| loads.changes.iter().find(|change| change.by.signum() == by);
    all.extend([sign(1.0), sign(-1.0)].into_iter().flatten().map(|one| change(&ground, &loads, one, record)));
    all.extend(loads.swing.map(|one| swing(&ground, one, record)));
    all.extend(walk(&ground, &loads, record));
    let (mut disturbances, mut refused) = (Vec::new(), None);
    for mut one in all {
        match ground.limit(&mut one) {
            Ok(()) => disturbances.push(one),
            Err(error) => refused = refused.or(Some(error)),
        }
    }
    if let (true, Some(error)) = (disturbances.is_empty(), refused) {
        return Err(error);
    }
    let verdicts = vec![told(&loads, record)];
    Ok(FoundDisturbances { loads, disturbances, verdicts })
}

/// The liveliest stretch as it was, from where it begins.
fn stretch(ground: &Ground, loads: &LoadsFound, record: &str) -> Disturbance {
    let range = loads.liveliest(SETTLINGS * ground.settles);
    let every = range.len().div_ceil(MOST_VALUES);
    let (begins, first) = (loads.begins + range.start as f64 * loads.interval, loads.load[range.start]);
    let values: Vec<f64> =
        loads.load[range.clone()].iter().step_by(every).map(|load| rounded(load - first, 4)).collect();
    let lasts = (values.len() - 1) as f64 * loads.interval * every as f64;
    let [from, to] = [begins, begins + lasts].map(|time| readable_duration(time.max(0.0)));
    let reason = format!("the load as it was: the liveliest stretch of {record}, {from} to {to}");
    let mut one = ground.item(format!("load as in {record}"), &reason, ground.lead + lasts).with(Event::LoadChannel {
        at: ground.lead,
        tag: format!("load in {record}"),
        interval: loads.interval * every as f64,
        values,
        unit: None,
        input: None,
    });
    never_over(&mut one);
    one
}

/// What goes on and on never comes back: no time of recovery is asked of it.
fn never_over(one: &mut Disturbance) {
    one.criteria.retain(|criterion| !matches!(criterion.figure, Figure::RecoveryTime { .. }));
}

/// One of the changes, as a step, or, where it took its time, as a ramp.
fn change(ground: &Ground, loads: &LoadsFound, change: &LoadChange, record: &str) -> Disturbance {
    let by = rounded(change.by, 2);
    let sign = if by > 0.0 { "+" } else { "−" };
    let alike = loads.changes.iter().filter(|other| other.by.signum() == by.signum()).count();
    let reason = format!(
        "the largest of {alike} such change{} in {} of {record}, at {}",
        if alike == 1 { "" } else { "s" },
        readable_duration(3600.0 * loads.hours()),
        readable_duration(change.at.max(0.0))
    );
    let (at, over) = (ground.lead, rounded(change.over / 0.8, 2));
    if over > RAMP * ground.settles && change.over > loads.resolution {
        let name = format!("load {sign}{} % in {}, as found", readable(by.abs()), readable_duration(over));
        return ground.item(name, &reason, at + over + ground.settles).with(Event::LoadRamp {
            at,
            by,
            over,
            input: None,
        });
    }
    ground
        .item(format!("load {sign}{} %, step as found", readable(by.abs())), &reason, at + ground.settles)
        .with(Event::LoadStep { at, by, input: None })
}

/// The regular swing, as a sine.
fn swing(ground: &Ground, swing: LoadSwing, record: &str) -> Disturbance {
    let [by, period] = [swing.by, swing.period].map(|value| rounded(value, 3));
    let every = readable_duration(period);
    let reason = format!("how the load swings all through {record}: something upstream cycles");
    let duration = ground.lead + (3.0 * ground.settles).max(6.0 * period);
    let mut one = ground
        .item(format!("load ±{} % every {every}, as found", readable(by)), &reason, duration)
        .with(Event::LoadSine { at: ground.lead, by, period, lasts: None, input: None });
    never_over(&mut one);
    one
}

/// The walk that the load does besides, where it comes to something while a loop settles.
fn walk(ground: &Ground, loads: &LoadsFound, record: &str) -> Option<Disturbance> {
    let by = rounded(loads.walk, 2);
    let while_settling = by * (ground.settles / 3600.0).sqrt();
    let reason = format!("how far the load walks in {record}: {} % in an hour (standard deviation)", readable(by));
    let mut one = ground
        .item(format!("load, walk as in {record}"), &reason, ground.lead + SETTLINGS * ground.settles)
        .with(Event::LoadWalk { at: ground.lead, by, lasts: None, input: None });
    never_over(&mut one);
    (while_settling > LEAST_WALK).then_some(one)
}

fn told(loads: &LoadsFound, record: &str) -> Verdict {
    let rule = "a load that walks, behind the model, the likeliest one beside white noise of the sensor; changes from 4 standard errors on";
    let (hours, error) = (readable_duration(3600.0 * loads.hours()), readable(loads.error));
    let walks = readable(loads.walk);
    let swings = loads.swing.map_or(String::new(), |LoadSwing { period, by }| {
        let every = readable_duration(period);
        format!(" It swings by ±{} % every {every} all the time: look for what cycles upstream.", readable(by))
    });
    let Some(largest) = loads.changes.first() else {
        let text = format!(
            "In {hours} of {record} the load walks by {walks} % in an hour (standard deviation), known to ±{error} %; no single change stands out of that.{swings}"
        );
        return Verdict::new(Tone::Good, text, rule);
    };
    let count = loads.changes.len();
    let least = loads.changes.iter().map(|change| change.by.abs()).fold(f64::INFINITY, f64::min);
    let text = format!(
        "In {hours} of {record} the load changed {count} time{} by {} % of OP or more, by {} % at most, and walks by {walks} % in an hour besides (standard deviation); it is known to ±{error} %, and a change within {} cannot be told from a quicker one.{swings}",
        if count == 1 { "" } else { "s" },
        readable(least),
        readable(largest.by.abs()),
        readable_duration(loads.resolution)
    );
    Verdict::new(Tone::Good, text, rule)
}

impl ProvingSet {
    /// Takes disturbances in, each in the place of one of its name.
    pub fn take_in(&mut self, found: Vec<Disturbance>) {
        for one in found {
            match self.disturbances.iter_mut().find(|known| known.name == one.name) {
                Some(known) => *known = one,
                None => self.disturbances.push(one),
            }
        }
    }
}

/// Refuses a record that has nothing to do with the plant: its PV measures something else.
fn check_unit(model: &Model, trial: &Trial) -> Result<()> {
    let (own, unit) = (model.output_unit(), &trial.plant.pv.span.unit);
    crate::units::Unit::conversion("model", own, unit).map(drop).map_err(|_| {
        Error::unfit(format!("the model is of a PV in {own}, the plant has one in {unit}"), "take a model of this loop")
    })
}
