//! The settings of a predictive controller.

use super::learning::Learning;
use super::nonlinear::about_rest;
use crate::lti::TransferMatrix;
use crate::process::{Description, LinearProcess, Process, ProcessSpec};
use crate::units::Span;
use crate::{Error, Result, check};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use utoipa::ToSchema;

/// Most controlled variables, manipulated ones, and measured disturbances.
pub const MOST_SIGNALS: usize = 8;
/// Most scans that it looks ahead, and most moves of one manipulated variable that it plans.
pub const MOST_SCANS_AHEAD: usize = 300;
/// Most moves of all manipulated variables together.
pub(super) const MOST_MOVES: usize = 160;
/// Most bands of a CV beside its first limits: with them there is one of each rank.
const MOST_BANDS: usize = 8;
/// Lowest rank of a limit.
const LOWEST_RANK: u32 = 9;

/// A predictive controller over several signals: at each scan it plans the moves that bring the controlled variables where they should
/// be at least cost, within all limits, and makes the first of them.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct PredictiveSettings {
    /// The model; its outputs in the units of the measured signals, its inputs in % of what is set where nothing else is said of an MV.
    ///
    /// One that is not linear is integrated, and linearised along the path that was planned last; what is believed is carried by an extended
    /// Kalman filter.
    pub model: ProcessSpec,
    /// Values of the other inputs of a model that is not linear, by name, where they differ from the usual ones.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub inputs: BTreeMap<String, f64>,
    /// What is controlled.
    #[schema(min_items = 1, max_items = 8)]
    pub cvs: Vec<ControlledVariable>,
    /// What is moved.
    #[schema(min_items = 1, max_items = 8)]
    pub mvs: Vec<ManipulatedVariable>,
    /// Disturbances that are measured.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub dvs: Vec<MeasuredDisturbance>,
    /// How far it looks ahead, s: 1 to 300 scans.
    #[schema(exclusive_minimum = 0)]
    pub horizon: f64,
    /// The moves that it plans: for how many scans each is held. The last one is held to the end.
    #[schema(min_items = 1, max_items = 300)]
    pub moves: Vec<u32>,
    /// Whether what comes beyond the horizon counts, too: the cost of the best law without limits from there on. Not with a model that is
    /// not linear.
    #[serde(default = "yes", skip_serializing_if = "is_yes")]
    pub beyond_horizon: bool,
    /// How it learns while it runs how strongly its MVs act; null where it goes by the model that it has been given. Not with a model that
    /// is not linear: let a parameter of that drift.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub learns: Option<Learning>,
    /// Most steps of the solver for one plan.
    #[serde(default = "usual_steps", skip_serializing_if = "is_usual_steps")]
    #[schema(minimum = 1, maximum = 10_000)]
    pub most_steps: u32,
}

/// Something that is controlled: it has a set point, limits, or both.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ControlledVariable {
    /// Tag of the measured signal; any other name for one that is only estimated.
    pub tag: String,
    /// The output of the model that it is.
    pub output: String,
    /// Where nothing measures it: it is what the model makes of it, as corrected by what is measured of others. It keeps within limits, and
    /// follows no set point. Null for a measured signal.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub estimated: Option<Estimated>,
    /// Whether it is led to its set point; otherwise it only keeps within its limits.
    #[serde(default = "yes", skip_serializing_if = "is_yes")]
    pub follows_set_point: bool,
    /// Whether the course of the set point is known beforehand, over the whole horizon: a recipe, a schedule.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub set_point_known_ahead: bool,
    /// Lowest value.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub low: Option<RankedLimit>,
    /// Highest value.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub high: Option<RankedLimit>,
    /// Further limits of other ranks, as where a narrow band is given up before a wide one.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    #[schema(max_items = 8)]
    pub bands: Vec<Band>,
    /// How soon it should come back: the time constant of the way to the set point, and from beyond a limit, s; 0 for as soon as the
    /// moves allow.
    #[serde(default)]
    #[schema(minimum = 0)]
    pub response_time: f64,
    /// How much an error counts.
    #[serde(default = "one", skip_serializing_if = "is_one")]
    #[schema(exclusive_minimum = 0)]
    pub weight: f64,
    /// Where what the model does not explain is thought to come from; null for at the output where that can be told, else at an input.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub disturbance: Option<DisturbanceAt>,
    /// How soon a deviation that the model does not explain is believed, s: 0 for at once, long where the measurement is noisy. Null for
    /// the response time, and four scans at least.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(minimum = 0)]
    pub believed_after: Option<f64>,
}

/// What has to be known of a controlled variable that nothing measures.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Estimated {
    /// The range whose % it counts in.
    pub span: Span,
    /// What it is where the loop rests at first, in the unit of the span: of a linear model, which tells only how far it moves from there.
    pub at_start: f64,
}

/// Limits of a CV beside the first ones: the low one, the high one, or both.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Band {
    /// Lowest value.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub low: Option<RankedLimit>,
    /// Highest value.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub high: Option<RankedLimit>,
}

/// On which side of a CV a limit is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Side {
    /// Below: the lowest value.
    Low,
    /// Above: the highest value.
    High,
}

impl Side {
    /// `low` or `high`.
    #[must_use]
    pub fn in_words(self) -> &'static str {
        if self == Self::Low { "low" } else { "high" }
    }

    /// 1 where the CV is to be above, -1 where below.
    pub(super) fn sign(self) -> f64 {
        if self == Self::Low { 1.0 } else { -1.0 }
    }
}

/// A limit of one of the CVs.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) struct LimitOfCv {
    /// Which CV.
    pub cv: usize,
    pub side: Side,
    /// Its value in the unit of the CV, and its rank.
    pub limit: RankedLimit,
}

/// A limit with its rank.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct RankedLimit {
    /// The limit, in the unit of the signal.
    pub value: f64,
    /// Its rank: where not all limits can be kept, those of rank 9 are given up first, and those of rank 1 last.
    #[schema(minimum = 1, maximum = 9)]
    pub rank: u32,
}

/// Where a deviation that the model does not explain comes from.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum DisturbanceAt {
    /// It is added to the measured signal, and stays.
    Output,
    /// It is added to this input of the model, and stays.
    Input(String),
    /// This parameter of the equations has drifted: it is estimated with the states, and stays as it is estimated in what is planned. Not with
    /// a linear model.
    Parameter(String),
    /// Nowhere: the model is right. What it does not explain is taken for noise, and an offset stays.
    Nowhere,
}

/// Something that is moved, within limits that are always kept.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ManipulatedVariable {
    /// What is moved: the tag of an OP, or the set point of a controller below, `NAME.SP`.
    pub tag: String,
    /// The input of the model that it is.
    pub input: String,
    /// What that input is at 0 % and at 100 %, straight in between; null where it is in % itself. A model that is not linear must know it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub drives: Option<Drives>,
    /// Lowest value, %.
    #[serde(default, skip_serializing_if = "is_zero")]
    #[schema(minimum = 0, maximum = 100)]
    pub low: f64,
    /// Highest value, %; above the lowest.
    #[serde(default = "hundred", skip_serializing_if = "is_hundred")]
    #[schema(minimum = 0, maximum = 100)]
    pub high: f64,
    /// How fast it may move, %/s; null for as fast as it will.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(exclusive_minimum = 0)]
    pub rate: Option<f64>,
    /// How calm it is: the move in % that costs as much as an error of 1 % of span at one scan.
    #[schema(exclusive_minimum = 0)]
    pub usual_move: f64,
    /// Where its position is read back: how far from what is set, in %, it may stand still before it does not follow. What stands there is then
    /// believed, not what was set; one that does not follow is left where it is, and the others do the work. Null where nothing is read back.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(minimum = 0.1, maximum = 100)]
    pub follows_within: Option<f64>,
    /// Where it should rest when there is a choice, %.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(minimum = 0, maximum = 100)]
    pub rests_at: Option<f64>,
    /// What an hour at 1 % more costs, beside 1 for an error of 1 % of span: above 0 it is pushed down, below 0 up, as far as limits
    /// and set points leave room.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub cost: f64,
}

/// What an input of a model is at both ends of an MV.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Drives {
    /// At 0 %, in its unit.
    pub at_0: f64,
    /// At 100 %, other than that at 0 %.
    pub at_100: f64,
}

/// A disturbance that is measured.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct MeasuredDisturbance {
    /// The signal: an input of the process by name, `load`, or the tag of a signal of the plant.
    pub signal: String,
    /// The input of the model that it is, in the unit of the signal.
    pub input: String,
    /// Whether its course is known beforehand, over the whole horizon: a forecast, a schedule. Of an input of the process, or a load.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub known_ahead: bool,
}

fn yes() -> bool {
    true
}

// The signature is the one that serde asks for.
#[allow(clippy::trivially_copy_pass_by_ref)]
fn is_yes(value: &bool) -> bool {
    *value
}

fn one() -> f64 {
    1.0
}

fn hundred() -> f64 {
    100.0
}

fn usual_steps() -> u32 {
    400
}

#[allow(clippy::trivially_copy_pass_by_ref)]
fn is_one(value: &f64) -> bool {
    *value == 1.0
}

#[allow(clippy::trivially_copy_pass_by_ref)]
fn is_zero(value: &f64) -> bool {
    *value == 0.0
}

#[allow(clippy::trivially_copy_pass_by_ref)]
fn is_hundred(value: &f64) -> bool {
    *value == 100.0
}

#[allow(clippy::trivially_copy_pass_by_ref)]
fn is_usual_steps(value: &u32) -> bool {
    *value == usual_steps()
}

impl PredictiveSettings {
    /// Refuses settings that cannot work, naming the field.
    pub fn validate(&self) -> Result<()> {
        let counts = [("cvs", self.cvs.len(), 1), ("mvs", self.mvs.len(), 1), ("dvs", self.dvs.len(), 0)];
        for (name, count, least) in counts {
            if !(least..=MOST_SIGNALS).contains(&count) {
                return Err(Error::invalid(format!("controller.{name}"), count, format!("{least} to {MOST_SIGNALS}")));
            }
        }
        check::positive("controller.horizon", self.horizon, "s")?;
        let moves = self.moves.len();
        if moves == 0 || moves * self.mvs.len() > MOST_MOVES || self.moves.contains(&0) {
            let most = MOST_MOVES / self.mvs.len();
            let value = if self.moves.contains(&0) { "held for 0 scans".to_owned() } else { moves.to_string() };
            return Err(Error::invalid(
                "controller.moves",
                value,
                format!("1 to {most}, each held for 1 scan or more"),
            ));
        }
        check::within("controller.most_steps", f64::from(self.most_steps), 1.0, 10_000.0, "")?;
        for (k, cv) in self.cvs.iter().enumerate() {
            cv.validate(&format!("controller.cvs[{k}]"))?;
        }
        for (k, mv) in self.mvs.iter().enumerate() {
            mv.validate(&format!("controller.mvs[{k}]"))?;
        }
        let repeated = |tags: Vec<&str>, name: &str| match (1..tags.len()).find(|k| tags[..*k].contains(&tags[*k])) {
            Some(k) => {
                let field = format!("controller.{name}[{k}]");
                Err(Error::invalid(field, format!("“{}”", tags[k]), "one that has not been named before"))
            }
            None => Ok(()),
        };
        if self.cvs.iter().all(|cv| cv.estimated.is_some()) {
            return Err(Error::said("controller.cvs", "One CV at least must be measured."));
        }
        repeated(self.cvs.iter().map(|cv| cv.tag.as_str()).collect(), "cvs")?;
        repeated(self.mvs.iter().map(|mv| mv.tag.as_str()).collect(), "mvs")?;
        repeated(self.used_inputs().collect(), "mvs")?;
        repeated(self.cvs.iter().map(|cv| cv.output.as_str()).collect(), "cvs")?;
        self.learns.as_ref().map_or(Ok(()), Learning::validate)?;
        if self.linear()?.is_none() { self.validate_non_linear() } else { self.validate_linear() }
    }

    /// What only equations can do is refused with a linear model.
    fn validate_linear(&self) -> Result<()> {
        match self.cvs.iter().position(|cv| matches!(cv.disturbance, Some(DisturbanceAt::Parameter(_)))) {
            Some(k) => {
                let sentence = "A linear model has no parameters that could drift: plan with the plant's equations.";
                Err(Error::said(format!("controller.cvs[{k}].disturbance"), sentence))
            }
            None => Ok(()),
        }
    }

    /// What only a linear model can do is refused with one that is not.
    fn validate_non_linear(&self) -> Result<()> {
        if self.beyond_horizon {
            let sentence = "With a model that is not linear nothing can be counted beyond the horizon: leave that out.";
            return Err(Error::said("controller.beyond_horizon", sentence));
        }
        if self.learns.is_some() {
            let sentence =
                "How strongly MVs act is learnt of a linear model: with equations, let a parameter of them drift.";
            return Err(Error::said("controller.learns", sentence));
        }
        if self.cvs.iter().any(|cv| cv.follows_set_point)
            && let Some(k) = self.mvs.iter().position(|mv| mv.cost != 0.0)
        {
            let sentence = "With a model that is not linear an MV has a cost only where no CV follows a set point.";
            return Err(Error::said(format!("controller.mvs[{k}].cost"), sentence));
        }
        Ok(())
    }

    /// The model at work; None where it is not linear.
    pub(super) fn linear(&self) -> Result<Option<LinearProcess>> {
        self.model.linear_process("")
    }

    /// The model from all its inputs to all its outputs, in their units: of one that is not linear about its usual state of rest.
    pub(super) fn all_responses(&self) -> Result<(TransferMatrix, Description)> {
        Ok(match self.linear()? {
            Some(linear) => (linear.transfer_matrix(), linear.description().clone()),
            None => (about_rest(self)?, self.model.describe("")?),
        })
    }

    /// The inputs of the model: those that are moved, then those that are measured.
    pub(super) fn used_inputs(&self) -> impl Iterator<Item = &str> {
        self.mvs.iter().map(|mv| mv.input.as_str()).chain(self.dvs.iter().map(|dv| dv.input.as_str()))
    }

    /// The parameters that are estimated, as they come among the CVs: names and units.
    pub(crate) fn drifting(&self) -> Vec<(String, String)> {
        let named = |cv: &ControlledVariable| match &cv.disturbance {
            Some(DisturbanceAt::Parameter(name)) => Some(name.clone()),
            _ => None,
        };
        let mut all: Vec<(String, String)> =
            self.cvs.iter().filter_map(named).map(|name| (name, String::new())).collect();
        if !all.is_empty()
            && let Ok(description) = self.model.describe("")
        {
            for (name, unit) in &mut all {
                let known = description.parameters.iter().find(|known| known.name == *name);
                *unit = known.map_or_else(String::new, |known| known.unit.clone());
            }
        }
        all
    }

    /// What is learnt of each MV, in words.
    pub(crate) fn learnt(&self) -> Vec<String> {
        let of_mv = |mv: &ManipulatedVariable| format!("{} acts, as learnt", mv.tag);
        if self.learns.is_some() { self.mvs.iter().map(of_mv).collect() } else { Vec::new() }
    }

    /// All limits of all CVs.
    pub(crate) fn limits(&self) -> Vec<LimitOfCv> {
        let of_cv = |(cv, one): (usize, &ControlledVariable)| -> Vec<LimitOfCv> {
            one.limits().into_iter().map(|(_, side, limit)| LimitOfCv { cv, side, limit }).collect()
        };
        self.cvs.iter().enumerate().flat_map(of_cv).collect()
    }

    /// Whether the course of anything is known beforehand.
    pub(super) fn knows_ahead(&self) -> bool {
        self.cvs.iter().any(|cv| cv.set_point_known_ahead) || self.dvs.iter().any(|dv| dv.known_ahead)
    }

    /// Scans that it looks ahead. Errors where the horizon is too long or too short for the scan.
    pub fn scans_ahead(&self, scan: f64) -> Result<usize> {
        let scans = (self.horizon / scan).round();
        let (held, last) = self.moves.split_at(self.moves.len().saturating_sub(1));
        let least = held.iter().sum::<u32>() as f64 + last.len() as f64;
        if scans < least {
            let allowed = format!("{} s or more: the moves reach over {least} scans", least * scan);
            return Err(Error::invalid("controller.horizon", format!("{} s", self.horizon), allowed));
        }
        if scans > MOST_SCANS_AHEAD as f64 {
            let allowed = format!("{} s at most, {MOST_SCANS_AHEAD} scans", MOST_SCANS_AHEAD as f64 * scan);
            return Err(Error::invalid("controller.horizon", format!("{} s", self.horizon), allowed));
        }
        Ok(scans as usize)
    }
}

impl ControlledVariable {
    fn validate(&self, field: &str) -> Result<()> {
        self.validate_limits(field)?;
        if self.set_point_known_ahead && !self.follows_set_point {
            let sentence = format!("{} follows no set point that could be known ahead.", self.tag);
            return Err(Error::said(format!("{field}.set_point_known_ahead"), sentence));
        }
        if let Some(estimated) = &self.estimated {
            estimated.span.validate(&format!("{field}.estimated.span"))?;
            check::finite(&format!("{field}.estimated.at_start"), estimated.at_start)?;
            if self.follows_set_point {
                let sentence =
                    format!("{} is not measured: it can keep within limits, but follow no set point.", self.tag);
                return Err(Error::said(format!("{field}.follows_set_point"), sentence));
            }
            if self.disturbance.as_ref().is_some_and(|at| *at != DisturbanceAt::Nowhere) {
                let sentence = format!("{} is not measured: what disturbs it cannot be told.", self.tag);
                return Err(Error::said(format!("{field}.disturbance"), sentence));
            }
        }
        check::not_negative(&format!("{field}.response_time"), self.response_time, "s")?;
        check::positive(&format!("{field}.weight"), self.weight, "")?;
        if let Some(after) = self.believed_after {
            check::not_negative(&format!("{field}.believed_after"), after, "s")?;
        }
        Ok(())
    }

    fn validate_limits(&self, field: &str) -> Result<()> {
        if self.bands.len() > MOST_BANDS {
            let allowed = format!("at most {MOST_BANDS} beside the first limits");
            return Err(Error::invalid(format!("{field}.bands"), self.bands.len(), allowed));
        }
        let limits = self.limits();
        for (place, _, limit) in &limits {
            check::finite(&format!("{field}.{place}.value"), limit.value)?;
            check::within(&format!("{field}.{place}.rank"), f64::from(limit.rank), 1.0, f64::from(LOWEST_RANK), "")?;
        }
        if let Some(k) = self.bands.iter().position(|band| *band == Band::default()) {
            let sentence = "A band has a low limit, a high one, or both.";
            return Err(Error::said(format!("{field}.bands[{k}]"), sentence));
        }
        for (place, Band { low, high }) in self.places_of_limits() {
            if let (Some(low), Some(high)) = (low, high)
                && high.value < low.value
            {
                let allowed = format!("{} or more, the low limit", low.value);
                return Err(Error::invalid(format!("{field}.{place}high.value"), high.value, allowed));
            }
        }
        for (k, (place, side, limit)) in limits.iter().enumerate() {
            if limits[..k].iter().any(|(_, other, before)| other == side && before.rank == limit.rank) {
                let allowed = format!("a rank that no other {} limit of {} has", side.in_words(), self.tag);
                return Err(Error::invalid(format!("{field}.{place}.rank"), limit.rank, allowed));
            }
        }
        Ok(())
    }

    /// All its limits, and where each stands among its settings: `low`, `bands[1].high`.
    pub(crate) fn limits(&self) -> Vec<(String, Side, RankedLimit)> {
        let both = |(place, Band { low, high }): (String, Band)| {
            let low = low.map(|limit| (format!("{place}low"), Side::Low, limit));
            low.into_iter().chain(high.map(|limit| (format!("{place}high"), Side::High, limit)))
        };
        self.places_of_limits().flat_map(both).collect()
    }

    /// The first limits and the further bands, and what stands before the names of their ends among the settings.
    fn places_of_limits(&self) -> impl Iterator<Item = (String, Band)> {
        let first = (String::new(), Band { low: self.low, high: self.high });
        std::iter::once(first).chain(self.bands.iter().enumerate().map(|(k, band)| (format!("bands[{k}]."), *band)))
    }

    /// Whether a signal of the plant measures it.
    #[must_use]
    pub fn is_measured(&self) -> bool {
        self.estimated.is_none()
    }

    /// How soon a deviation is believed, s.
    pub(super) fn believes_after(&self, scan: f64) -> f64 {
        self.believed_after.unwrap_or(self.response_time.max(4.0 * scan))
    }
}

impl ManipulatedVariable {
    fn validate(&self, field: &str) -> Result<()> {
        check::within(&format!("{field}.low"), self.low, 0.0, 100.0, "%")?;
        check::within(&format!("{field}.high"), self.high, 0.0, 100.0, "%")?;
        if self.high <= self.low {
            let allowed = format!("above the lowest, {} %", self.low);
            return Err(Error::invalid(format!("{field}.high"), format!("{} %", self.high), allowed));
        }
        if let Some(rate) = self.rate {
            check::positive(&format!("{field}.rate"), rate, "%/s")?;
        }
        check::within(&format!("{field}.usual_move"), self.usual_move, 1e-3, 1e3, "%")?;
        if let Some(within) = self.follows_within {
            check::within(&format!("{field}.follows_within"), within, 0.1, 100.0, "%")?;
        }
        if let Some(rests_at) = self.rests_at {
            check::within(&format!("{field}.rests_at"), rests_at, 0.0, 100.0, "%")?;
        }
        if let Some(Drives { at_0, at_100 }) = self.drives {
            check::finite(&format!("{field}.drives.at_0"), at_0)?;
            check::finite(&format!("{field}.drives.at_100"), at_100)?;
            if at_0 == at_100 {
                let allowed = format!("other than that at 0 %, {at_0}");
                return Err(Error::invalid(format!("{field}.drives.at_100"), at_100, allowed));
            }
        }
        check::within(&format!("{field}.cost"), self.cost, -1e3, 1e3, "").map(|_| ())
    }
}
