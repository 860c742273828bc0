//! What a predictive controller sees coming, plans, and is held by: its explanation of a scan.

use super::settings::{LimitOfCv, Side};
use super::{Constraint, DisturbanceAt, LearntGain, Predictive};
use crate::numerics::Ending;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What gives way by less, in % of span, does so by rounding.
const UNSEEN: f64 = 1e-6;

/// What is ahead at a scan.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct LookAhead {
    /// Time of the scan, s.
    pub at: f64,
    /// Seconds between the points ahead.
    pub interval: f64,
    /// What each CV is expected to do.
    pub cvs: Vec<AheadOfCv>,
    /// What is planned of each MV.
    pub mvs: Vec<AheadOfMv>,
    /// What limits the plan, the dearest first.
    pub limits: Vec<LimitAtWork>,
    /// Steps that the solver took.
    pub steps: usize,
    /// How it stands, in a sentence.
    pub verdict: String,
}

/// What a CV is expected to do, in the unit of its span; the first point is a scan ahead.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct AheadOfCv {
    /// Its tag.
    pub tag: String,
    /// Its unit.
    pub unit: String,
    /// What it is believed to be now.
    pub now: f64,
    /// Whether what is measured is believed: not at an end of its span.
    pub believed: bool,
    /// Whether nothing measures it: it is what the model makes of it.
    pub estimated: bool,
    /// Expected with the moves that are planned.
    pub expected: Vec<f64>,
    /// Expected if nothing were moved any more.
    pub by_itself: Vec<f64>,
    /// Where it should be; empty where it has no set point.
    pub wanted: Vec<f64>,
    /// Its limits, as they are held.
    pub limits: Vec<LimitAhead>,
    /// Where it is to rest.
    pub rests_at: f64,
    /// What the model does not explain: at the output in the unit of the CV, at an input in that of the input; null for none.
    pub disturbance: Option<f64>,
    /// The input at which that acts; null for the output.
    pub disturbance_at: Option<String>,
    /// The parameter that is estimated instead; null for none.
    pub parameter: Option<EstimatedParameter>,
}

/// A parameter of the equations as it is estimated.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct EstimatedParameter {
    /// Its name.
    pub name: String,
    /// Its unit.
    pub unit: String,
    /// What it is believed to be.
    pub value: f64,
    /// What the model has been given for it.
    pub given: f64,
}

/// A limit of a CV over the horizon.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct LimitAhead {
    /// On which side.
    pub side: Side,
    /// Its rank: 1 is given up last.
    pub rank: u32,
    /// The limit; the first point is a scan ahead.
    pub values: Vec<f64>,
    /// By how much it gives way where the CV is to rest, in the unit of the CV.
    pub gives_way: f64,
}

/// What is planned of an MV, %; the first value is that of this scan, which stands until the next.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct AheadOfMv {
    /// Its tag.
    pub tag: String,
    /// Before this scan.
    pub before: f64,
    /// Whether it may be moved: not in manual, and its valve follows.
    pub available: bool,
    /// Whether its valve follows what is set, as far as its position is read back.
    pub follows: bool,
    /// What has been learnt of how strongly it acts; null where nothing learns.
    pub learnt: Option<LearntGain>,
    /// From this scan on.
    pub planned: Vec<f64>,
    /// Its limits.
    pub low: f64,
    /// The high one.
    pub high: f64,
    /// Where it is to rest.
    pub rests_at: f64,
}

/// A limit that the plan runs along.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct LimitAtWork {
    /// Tag of what is limited.
    pub tag: String,
    /// Which limit.
    pub limit: LimitKind,
    /// Seconds ahead where it is felt first.
    pub ahead: f64,
    /// What it costs: how much the cost of the plan would fall for 1 % more room, in squares of 1 % of span; that of all points together.
    /// Null where limits give way: there it is not room that is short.
    pub cost: Option<f64>,
    /// Its rank; null for one that is always kept.
    pub rank: Option<u32>,
    /// By how much it gives way at most, in the unit of the CV.
    pub gives_way: f64,
}

/// A kind of limit.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum LimitKind {
    /// The lowest value.
    Low,
    /// The highest value.
    High,
    /// How fast it may fall.
    Fall,
    /// How fast it may rise.
    Rise,
}

impl LimitKind {
    fn in_words(self) -> &'static str {
        match self {
            Self::Low => "its low limit",
            Self::High => "its high limit",
            Self::Fall => "how fast it may fall",
            Self::Rise => "how fast it may rise",
        }
    }
}

/// A value without what is only rounding about 0.
fn tidy(value: f64) -> f64 {
    if value.abs() < 1e-9 { 0.0 } else { value }
}

impl Predictive {
    /// What was seen ahead at the last scan, which was at `at` seconds.
    #[must_use]
    pub fn ahead(&self, at: f64) -> LookAhead {
        let limits = self.at_work();
        let steps = self.steps();
        let verdict = self.verdict(&limits);
        LookAhead {
            at,
            interval: self.scan,
            cvs: (0..self.settings.cvs.len()).map(|cv| self.ahead_of_cv(cv)).collect(),
            mvs: (0..self.settings.mvs.len()).map(|mv| self.ahead_of_mv(mv)).collect(),
            limits,
            steps,
            verdict,
        }
    }

    fn ahead_of_cv(&self, cv: usize) -> AheadOfCv {
        let (settings, span) = (&self.settings.cvs[cv], &self.spans[cv]);
        let value = |percent: f64| tidy(span.from_percent(self.base.cvs[cv] + percent));
        let points = || 1..=self.prediction.scans;
        let by_itself = |after: usize| self.last.free[self.prediction.row(cv, after)];
        let moved = |after: usize| {
            crate::numerics::dot(self.prediction.effect(self.prediction.row(cv, after)), self.program.x())
        };
        let width = span.width() / 100.0;
        let limit = |(k, LimitOfCv { side, limit, .. }): (usize, &LimitOfCv)| LimitAhead {
            side: *side,
            rank: limit.rank,
            values: points().map(|after| value(self.held(k, after))).collect(),
            gives_way: self.targets.given(k) * width,
        };
        let place = self.observer.places.iter().position(|(of, _)| *of == cv);
        let at_output = |k: &usize| !matches!(self.observer.places[*k].1, DisturbanceAt::Input(_));
        AheadOfCv {
            tag: settings.tag.clone(),
            unit: span.unit.clone(),
            now: value(self.last.outputs[cv]),
            believed: self.last.believed[cv] || !settings.is_measured(),
            estimated: !settings.is_measured(),
            expected: points().map(|after| value(by_itself(after) + moved(after))).collect(),
            by_itself: points().map(|after| value(by_itself(after))).collect(),
            wanted: if settings.follows_set_point {
                points().map(|after| value(self.wanted(cv, after))).collect()
            } else {
                Vec::new()
            },
            limits: self.limits_of(cv).map(limit).collect(),
            rests_at: value(self.targets.outputs[cv]),
            parameter: self.estimated_parameters().into_iter().find_map(|(of, one)| (of == cv).then_some(one)),
            disturbance: place
                .filter(|k| !matches!(self.observer.places[*k].1, DisturbanceAt::Parameter(_)))
                .map(|k| tidy(self.observer.d[k] * if at_output(&k) { width } else { 1.0 })),
            disturbance_at: place.and_then(|k| match &self.observer.places[k].1 {
                DisturbanceAt::Input(name) => Some(name.clone()),
                _ => None,
            }),
        }
    }

    /// The parameters that are estimated, each with the CV that tells of it.
    pub(crate) fn estimated_parameters(&self) -> Vec<(usize, EstimatedParameter)> {
        let Some(nonlinear) = &self.nonlinear else { return Vec::new() };
        nonlinear
            .estimated()
            .map(|(disturbance, name, unit, value, given)| {
                let parameter = EstimatedParameter { name: name.to_owned(), unit: unit.to_owned(), value, given };
                (self.observer.places[disturbance].0, parameter)
            })
            .collect()
    }

    fn ahead_of_mv(&self, mv: usize) -> AheadOfMv {
        let (settings, base, blocks) = (&self.settings.mvs[mv], self.base.mvs[mv], self.prediction.begins.len());
        let before = base + self.last.before[mv];
        let mut at = before;
        let mut planned = Vec::with_capacity(self.prediction.scans);
        for scan in 0..self.prediction.scans {
            if let Some(block) = self.prediction.begins.iter().position(|begin| *begin == scan) {
                at += self.program.x()[mv * blocks + block];
            }
            planned.push(tidy(at));
        }
        AheadOfMv {
            tag: settings.tag.clone(),
            before,
            available: self.last.available[mv],
            follows: self.last.follows[mv],
            learnt: self.learnt().nth(mv),
            planned,
            low: settings.low,
            high: settings.high,
            rests_at: tidy(base + self.targets.mvs()[mv]),
        }
    }

    /// The limits that the plan runs along, each once; of one CV those of each rank.
    fn at_work(&self) -> Vec<LimitAtWork> {
        let mut all: Vec<LimitAtWork> = Vec::new();
        let given = (0..self.rows.len()).filter(|row| self.program.given(*row) > 0.0).map(|row| (row, 0.0));
        let active = self.program.multipliers().filter(|(row, _)| self.is_a_limit(*row));
        for (row, multiplier) in active.chain(given) {
            let (tag, limit, ahead, rank, width) = match self.rows[row] {
                Constraint::Position { mv, block, high } => {
                    // One that may not be moved is no limit that anybody could widen.
                    let (low, top) = self.last.mv_limits[mv];
                    if low == top {
                        continue;
                    }
                    let limit = if high { LimitKind::High } else { LimitKind::Low };
                    (&self.settings.mvs[mv].tag, limit, self.prediction.begins[block], None, 1.0)
                }
                Constraint::Rate { mv, block, up } => {
                    let limit = if up { LimitKind::Rise } else { LimitKind::Fall };
                    (&self.settings.mvs[mv].tag, limit, self.prediction.begins[block], None, 1.0)
                }
                Constraint::Output { limit, after } => {
                    let LimitOfCv { cv, side, limit } = self.limits[limit];
                    let kind = if side == Side::Low { LimitKind::Low } else { LimitKind::High };
                    let width = self.spans[cv].width() / 100.0;
                    (&self.settings.cvs[cv].tag, kind, after, Some(limit.rank), width)
                }
            };
            let given = self.program.given(row);
            let (ahead, gives_way) = (ahead as f64 * self.scan, if given > UNSEEN { given * width } else { 0.0 });
            let cost = (!self.last.solved.gave_way).then_some(multiplier);
            match all.iter_mut().find(|known| known.tag == *tag && known.limit == limit && known.rank == rank) {
                Some(known) => {
                    known.cost = known.cost.zip(cost).map(|(known, more)| known + more);
                    known.ahead = known.ahead.min(ahead);
                    known.gives_way = known.gives_way.max(gives_way);
                }
                None => all.push(LimitAtWork { tag: tag.clone(), limit, ahead, cost, rank, gives_way }),
            }
        }
        let cost = |one: &LimitAtWork| one.cost.unwrap_or(0.0);
        all.sort_by(|a, b| b.gives_way.total_cmp(&a.gives_way).then(cost(b).total_cmp(&cost(a))));
        all
    }

    fn verdict(&self, limits: &[LimitAtWork]) -> String {
        if self.last.solved.ending == Ending::Limit {
            return format!(
                "The plan was not finished in {} steps: the best move within the limits so far is made.",
                self.settings.most_steps
            );
        }
        if let Some(stuck) = self.last.follows.iter().position(|follows| !follows) {
            let at = |percent: f64| crate::verdict::readable(percent);
            let stands = self.base.mvs[stuck] + self.last.before[stuck];
            return format!(
                "{} does not follow: it stands at {} %, and {} % is set. It is left there, and what others can do is done.",
                self.settings.mvs[stuck].tag,
                at(stands),
                at(self.outputs[stuck])
            );
        }
        let mut given: Vec<&LimitAtWork> = limits.iter().filter(|limit| limit.gives_way > 0.0).collect();
        // Told first is what is given up last.
        given.sort_by_key(|limit| limit.rank);
        if let [first, others @ ..] = &given[..] {
            let unit = self
                .settings
                .cvs
                .iter()
                .position(|cv| cv.tag == first.tag)
                .map_or("%", |cv| self.spans[cv].unit.as_str());
            let ranked = |limit: &LimitAtWork| limit.rank.map(|rank| format!(" (rank {rank})")).unwrap_or_default();
            let others: Vec<String> = others
                .iter()
                .map(|other| {
                    let whose = if other.tag == first.tag { "" } else { &format!("{}: ", other.tag) };
                    format!("{whose}{}{}", other.limit.in_words(), ranked(other))
                })
                .collect();
            let others =
                if others.is_empty() { String::new() } else { format!(" Given up, too: {}.", others.join(", ")) };
            return format!(
                "{} cannot keep {}{}: it gives way by up to {} {unit}.{others}",
                first.tag,
                first.limit.in_words(),
                ranked(first),
                crate::verdict::readable(first.gives_way)
            );
        }
        match limits.first() {
            None => "No limit is felt: this is the best there is.".to_owned(),
            Some(first) => format!("What holds it most is {}: {}.", first.tag, first.limit.in_words()),
        }
    }
}
