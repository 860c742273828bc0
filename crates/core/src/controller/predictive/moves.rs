//! For how long planned moves are held, and how far they reach over what they do: rules, and what both horizons are seen against.

use super::law::Law;
use super::settings::{MOST_MOVES, MOST_SCANS_AHEAD, PredictiveSettings};
use super::shapes::{SETTLED, Shapes};
use crate::lti::Discrete;
use crate::process::Description;
use crate::units::Span;
use crate::{Result, check};
use num_complex::Complex64;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Most moves of all MVs together that are proposed.
const PROPOSED_MOVES: usize = 24;
/// The first moves of even ones, and into how many the rest is divided.
const FIRST: [u32; 4] = [1, 1, 2, 4];
const EVEN_PARTS: usize = 16;
/// A move that is held for no more scans is not held for long.
const SHORT: u32 = 8;
/// Scans after which a response that ever settles has done so.
const MUCH_LATER: usize = 5 * MOST_SCANS_AHEAD;
/// What decays to so little in a scan is gone.
const GONE: f64 = 0.05;
/// What turns by so little while it decays does not oscillate, but for rounding.
const STRAIGHT: f64 = 1e-4;
/// What decays by no more in a scan stays.
const STAYS: f64 = 1e-9;
/// Poles that are told.
const MOST_POLES: usize = 8;
/// How much further than the horizon a response is shown, until it has settled.
const BEYOND: f64 = 1.25;

/// What each MV does to each CV over time, and how far a controller looks and plans along it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct PlannedOver {
    /// Seconds between values; the first is a scan after the move.
    pub interval: f64,
    /// How far it looks ahead, s.
    pub looks_ahead: f64,
    /// When the last move is made, s.
    pub last_move: f64,
    /// When the slowest response has settled, s; null where one does not within what can be looked ahead.
    pub settles_after: Option<f64>,
    /// By CV.
    pub cvs: Vec<ResponsesOfCv>,
    /// The slowest poles of the closed loop, as its own model has it while no limit is felt; none where there is no such law.
    pub poles: Vec<ClosedLoopPole>,
}

/// A pole of a loop from scan to scan, or a pair of them.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ClosedLoopPole {
    /// How fast what is left of it decays: to a share of 1/e in so many seconds. Below 0 it grows; null where it stays.
    pub time_constant: Option<f64>,
    /// The period of its oscillation, s; null where it decays without one.
    pub period: Option<f64>,
    /// Its damping: 1 without an oscillation, 0 where it does not decay.
    pub damping: f64,
}

impl ClosedLoopPole {
    /// Of a pole in z; None of one that is gone within a scan or so.
    fn of(z: Complex64, scan: f64) -> Option<Self> {
        if z.norm() < GONE {
            return None;
        }
        let s = z.ln() / scan;
        let oscillates = s.im.abs() > STRAIGHT * s.re.abs();
        Some(Self {
            time_constant: (s.re.abs() * scan > STAYS).then(|| -1.0 / s.re),
            period: oscillates.then(|| std::f64::consts::TAU / s.im.abs()),
            damping: if oscillates { -s.re / s.norm() } else { 1.0 },
        })
    }
}

/// What a CV does after each MV has moved.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ResponsesOfCv {
    /// Its tag.
    pub tag: String,
    /// Its unit.
    pub unit: String,
    /// By MV.
    pub by: Vec<ResponseToMv>,
}

/// The response to a step of an MV by 1 %.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ResponseToMv {
    /// Tag of the MV.
    pub tag: String,
    /// Values in the unit of the CV.
    pub values: Vec<f64>,
}

/// For how many scans the next of moves that double in length is held.
fn next_doubled(made: usize) -> usize {
    if made < 2 { 1 } else { 1 << (made - 1).min(16) }
}

/// Blocks of moves that double in length until about `until` scans are covered; fewer where there are many MVs.
pub(crate) fn doubling(until: usize, mvs: usize) -> Vec<u32> {
    let most = (PROPOSED_MOVES / mvs).max(2);
    let (mut moves, mut covered) = (vec![1u32], 1);
    while moves.len() < most {
        let next = next_doubled(moves.len());
        if covered + next > until.max(2) {
            break;
        }
        covered += next;
        moves.push(next as u32);
    }
    moves
}

/// Equal moves behind the first few, to the end of a horizon of so many scans: what is known to come is met wherever it comes.
fn even(scans: usize) -> Vec<u32> {
    let first = FIRST.iter().sum::<u32>() as usize;
    let left = scans.saturating_sub(first);
    if left == 0 {
        let count = if scans > FIRST.len() { FIRST.len() } else { scans.saturating_sub(1).max(1) };
        return FIRST[..count].to_vec();
    }
    let held = left.div_ceil(EVEN_PARTS).max(2);
    FIRST.into_iter().chain(std::iter::repeat_n(held as u32, left.div_ceil(held))).collect()
}

impl PredictiveSettings {
    /// With moves that double in length until the last is made about `until` seconds ahead. Errors where that is beyond the horizon.
    pub fn with_moves_until(&self, until: f64, scan: f64) -> Result<Self> {
        let ahead = self.scans_ahead(scan)?;
        check::within("until", until, 0.0, (ahead - 1) as f64 * scan, "s")?;
        let wanted = (until / scan).round() as usize;
        let most = MOST_MOVES / self.mvs.len();
        // Doubled as far as that goes below; what is left is the length of the last that is not held to the end.
        let (mut moves, mut covered) = (Vec::new(), 0);
        while covered < wanted && moves.len() + 2 <= most {
            let next = next_doubled(moves.len());
            let next = if 2 * next > wanted - covered { wanted - covered } else { next };
            moves.push(next as u32);
            covered += next;
        }
        moves.push(1);
        let with = Self { moves, ..self.clone() };
        with.validate().map(|()| with)
    }

    /// With moves none of which is held for long, over the whole horizon.
    pub fn with_even_moves(&self, scan: f64) -> Result<Self> {
        let with = Self { moves: even(self.scans_ahead(scan)?), ..self.clone() };
        with.validate().map(|()| with)
    }

    /// For how many scans a move is held for so long that what is known to come within it cannot be met as it comes; None where nothing is
    /// known beforehand, or none is.
    #[must_use]
    pub fn held_too_long(&self, scan: f64) -> Option<u32> {
        let ahead = self.scans_ahead(scan).ok().filter(|_| self.knows_ahead())? as u32;
        let (last, before) = self.moves.split_last()?;
        // The last one is held to the end.
        let longest = before.iter().copied().chain([(ahead - before.iter().sum::<u32>()).max(*last)]).max()?;
        let even = 2 * ahead.saturating_sub(SHORT).div_ceil(EVEN_PARTS as u32);
        (longest > even.max(SHORT)).then_some(longest)
    }

    /// When its last move is made, s.
    #[must_use]
    pub fn last_move(&self, scan: f64) -> f64 {
        let before = self.moves.len().saturating_sub(1);
        f64::from(self.moves[..before].iter().sum::<u32>()) * scan
    }

    /// When the slowest response of its model has settled, s; None where one goes on beyond what can be looked ahead, however flat it looks
    /// there.
    pub fn settles_after(&self, scan: f64) -> Result<Option<f64>> {
        let responses = self.step_responses(scan, MUCH_LATER)?;
        let seen: Vec<_> = responses.iter().map(|all| all.rows(0, MOST_SCANS_AHEAD).into_owned()).collect();
        let shapes = Shapes::of(&seen, self.cvs.len());
        let stays = responses.iter().all(|all| {
            let (now, then) = (all.row(MOST_SCANS_AHEAD - 1), all.row(MUCH_LATER - 1));
            now.iter().zip(then.iter()).all(|(now, then)| (then - now).abs() <= SETTLED * then.abs())
        });
        Ok((shapes.settles && stays).then_some(shapes.horizon as f64 * scan))
    }

    /// The slowest poles of the loop that it closes around its own model, with the spans of its CVs, the slowest first.
    fn closed_loop_poles(&self, spans: &[Span], scan: f64) -> Result<Vec<ClosedLoopPole>> {
        let Some(law) = Law::of(self, spans, scan)? else { return Ok(Vec::new()) };
        let model = Discrete::of(&self.matrix(spans.iter().map(Span::width))?, scan)?;
        let measured: Vec<usize> = (0..self.cvs.len()).filter(|k| self.cvs[*k].is_measured()).collect();
        let all = law.closed_around(&model, &measured).into_iter().filter(|z| z.im >= 0.0);
        let mut poles: Vec<ClosedLoopPole> = all.filter_map(|z| ClosedLoopPole::of(z, scan)).collect();
        // What grows comes first, then what decays slowest.
        let rate = |pole: &ClosedLoopPole| pole.time_constant.map_or(0.0, f64::recip);
        poles.sort_by(|a, b| rate(a).total_cmp(&rate(b)));
        poles.truncate(MOST_POLES);
        Ok(poles)
    }

    /// What its model does after a move of each MV, and how far it looks and plans over that.
    pub fn planned_over(&self, spans: &[Span], scan: f64) -> Result<PlannedOver> {
        self.validate()?;
        let looks_ahead = self.scans_ahead(scan)? as f64 * scan;
        let settles_after = self.settles_after(scan)?;
        let shown = (BEYOND * looks_ahead.max(settles_after.unwrap_or(0.0)) / scan).ceil() as usize;
        let responses = self.step_responses(scan, shown.min(MOST_SCANS_AHEAD))?;
        let (_, description) = self.all_responses()?;
        let mut cvs = Vec::new();
        for (k, cv) in self.cvs.iter().enumerate() {
            let place =
                Description::position(&description.outputs, &cv.output, &format!("controller.cvs[{k}].output"))?;
            let by = self.mvs.iter().zip(&responses).map(|(mv, response)| ResponseToMv {
                tag: mv.tag.clone(),
                values: response.column(k).iter().copied().collect(),
            });
            let unit = description.outputs[place].unit.clone();
            cvs.push(ResponsesOfCv { tag: cv.tag.clone(), unit, by: by.collect() });
        }
        let poles = self.closed_loop_poles(spans, scan)?;
        Ok(PlannedOver { interval: scan, looks_ahead, last_move: self.last_move(scan), settles_after, cvs, poles })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// A lag of 400 scans is within 2 % of where it stands at the end of what can be looked ahead long before it has settled.
    #[test]
    fn what_goes_on_beyond_what_can_be_seen_has_not_settled() {
        let over = |lag: f64| {
            let model =
                serde_json::json!({ "structure": "fopdt", "gain": 2.0, "time_constant": lag, "dead_time": 0.0 });
            let settings: PredictiveSettings = serde_json::from_value(serde_json::json!({
                "model": model, "horizon": 100.0, "moves": [1, 1, 2],
                "cvs": [{ "tag": "A.PV", "output": "output" }], "mvs": [{ "tag": "A.OP", "input": "input", "usual_move": 1.0 }],
            }))
            .unwrap();
            settings.planned_over(&[Span::new(0.0, 100.0, "%")], 1.0).unwrap()
        };
        let (quick, slow) = (over(20.0), over(400.0));
        // 2 % are left of a lag after 3.9 time constants.
        assert!((quick.settles_after.unwrap() - 79.0).abs() < 3.0, "{:?}", quick.settles_after);
        assert_eq!((slow.settles_after, slow.looks_ahead, slow.last_move), (None, 100.0, 2.0));
        assert!((quick.cvs[0].by[0].values[19] - 2.0 * (1.0 - (-1f64).exp())).abs() < 1e-9);
    }

    proptest! {
        /// None reaches beyond the horizon, none is held for long, and they begin at once.
        #[test]
        fn even_moves_fill_a_horizon(scans in 2usize..300) {
            let moves = even(scans);
            let made: u32 = moves[..moves.len() - 1].iter().sum();
            prop_assert!((made as usize) < scans && moves[0] == 1, "{moves:?}");
            let longest = moves.iter().max().copied().unwrap();
            prop_assert!(longest as usize <= (scans.saturating_sub(8)).div_ceil(16).max(4));
            // What is left at the end is no longer than the others.
            prop_assert!(scans - made as usize <= longest.max(8) as usize, "{moves:?} of {scans}");
        }

        #[test]
        fn doubling_moves_cover_what_they_should_and_no_more(until in 2usize..200, mvs in 1usize..8) {
            let moves = doubling(until, mvs);
            prop_assert!(moves.iter().sum::<u32>() as usize <= until.max(2) && moves.len() * mvs <= 24.max(2 * mvs));
            prop_assert!(moves.windows(2).all(|pair| pair[1] == 2 * pair[0] || pair == [1, 1]));
        }
    }
}
