//! Which candidate, in words, with what it costs.

use super::ProofResult;
use super::running::{ProofCell, Tried};
use super::{Figure, Share};
use crate::verdict::{Tone, Verdict, readable};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Candidates whose figures differ by less than this factor are alike.
const ALIKE: f64 = 1.1;
/// A number parts plants that pass from plants that fail where the shares that fail on its two sides differ by at least this.
const PARTS: f64 = 0.6;
/// Fewest plants that must fail, and that must pass, before a cause is named.
const FEWEST: usize = 5;

/// A verdict of a proof.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ProofVerdict {
    /// The sentence.
    #[serde(flatten)]
    pub verdict: Verdict,
    /// Place of the candidate that it is about; null where it is about the proof itself.
    pub candidate: Option<usize>,
}

pub(super) fn in_words(result: &ProofResult, passes: &[Vec<bool>]) -> Vec<ProofVerdict> {
    if result.limited == 0 {
        let text = "No figure has a limit: nothing passes or fails. Give each disturbance the most that is borne.";
        let verdict = Verdict::new(Tone::Caution, text, "acceptance limits");
        return vec![ProofVerdict { verdict, candidate: None }];
    }
    let about = |column: usize| move |verdict: Verdict| ProofVerdict { verdict, candidate: Some(column) };
    let order = &result.order;
    let best = order[0];
    let mut verdicts = vec![about(best)(of_best(result, best))];
    for column in order.iter().copied() {
        let of_column = failing(result, column).into_iter().chain(cause(result, column, &passes[column]));
        verdicts.extend(of_column.map(about(column)));
    }
    // The trade between the best and the one that is compared with, or the next best where that is it.
    let other = if result.compared_with == best { order.get(1).copied() } else { Some(result.compared_with) };
    verdicts.extend(other.and_then(|other| trade(result, best, other)).map(about(best)));
    verdicts
}

/// The candidates, the best first: by the share that passes everything, by the limits kept as it is, by the error.
pub(super) fn ranked(result: &ProofResult) -> Vec<usize> {
    let mut order: Vec<usize> = (0..result.candidates.len()).collect();
    let share = |column: usize| {
        let own = f64::from(u8::from(result.holds[column] == Some(true)));
        result.shares[column].as_ref().map_or(own, Share::value)
    };
    let error = |column: usize| {
        relative(result, column, |figure| *figure == Figure::IntegralAbsoluteError {}).unwrap_or(f64::INFINITY)
    };
    order.sort_by(|a, b| {
        share(*b)
            .total_cmp(&share(*a))
            .then_with(|| result.kept[*b].cmp(&result.kept[*a]))
            .then_with(|| error(*a).total_cmp(&error(*b)))
    });
    order
}

/// A figure of a candidate over that of the one that is compared with, the geometric mean over all disturbances under which both have
/// it; None where there is none.
fn relative(result: &ProofResult, column: usize, is: impl Fn(&Figure) -> bool) -> Option<f64> {
    ratio(result, column, result.compared_with, is)
}

fn ratio(result: &ProofResult, column: usize, to: usize, is: impl Fn(&Figure) -> bool) -> Option<f64> {
    let mut logs = Vec::new();
    for (row, cells) in result.rows.iter().zip(&result.cells) {
        let Some(k) = row.criteria.iter().position(|one| one.criterion.of.is_none() && is(&one.criterion.figure))
        else {
            continue;
        };
        let value = |cell: &ProofCell| cell.figures.get(k)?.middle().filter(|value| *value > 0.0);
        if let (Some(own), Some(other)) = (value(&cells[column]), value(&cells[to])) {
            logs.push((own / other).ln());
        }
    }
    (!logs.is_empty()).then(|| (logs.iter().sum::<f64>() / logs.len() as f64).exp())
}

/// What the candidate that stands first does.
fn of_best(result: &ProofResult, best: usize) -> Verdict {
    let (name, count) = (&result.candidates[best], result.limited);
    let what = match (count, result.rows.len()) {
        (1, 1) => "the disturbance".to_owned(),
        (1, _) => "the disturbance that has one".to_owned(),
        (count, all) if count == all => format!("all {count} disturbances"),
        (count, _) => format!("all {count} disturbances that have one"),
    };
    let rule = "every limit of every disturbance on the same plant, noise and walks";
    match (&result.shares[best], result.holds[best]) {
        (Some(share), Some(true)) if share.is_whole() => {
            let low = percent(share.interval[0]);
            let text = format!(
                "{name} keeps every limit under {what} on the plant as it is and on all {} that it may be: on at least {low} of \
                 such plants (95 %).",
                share.of
            );
            Verdict::new(Tone::Good, text, rule)
        }
        (Some(share), Some(true)) => {
            let text = format!(
                "{name} keeps every limit on the plant as it is, and on {} of {} that it may be ({} to {}): no other does on more.",
                share.passes,
                share.of,
                percent(share.interval[0]),
                percent(share.interval[1])
            );
            Verdict::new(Tone::Caution, text, rule)
        }
        (None, Some(true)) => {
            let text =
                format!("{name} keeps every limit under {what} on the plant as it is; no other plant was tried.");
            Verdict::new(Tone::Good, text, rule)
        }
        _ => {
            let kept = result.kept[best];
            let holding: Vec<&str> = (0..result.candidates.len())
                .filter(|column| result.holds[*column] == Some(true))
                .map(|column| result.candidates[column].as_str())
                .collect();
            let text = match &result.shares[best] {
                // Another one keeps them there, but on fewer of the plants that may be.
                Some(share) if !holding.is_empty() => format!(
                    "{name} keeps every limit on {} of {} plants that it may be, more than any other, but not on the plant as it \
                     is: there {} does.",
                    share.passes,
                    share.of,
                    holding.join(", ")
                ),
                Some(share) if share.passes > 0 => format!(
                    "No candidate keeps every limit on the plant as it is. Of those that it may be {name} does on most: on {} of {}.",
                    share.passes, share.of
                ),
                _ => format!(
                    "No candidate keeps every limit on the plant as it is. {name} comes nearest: under {kept} of {count} \
                     disturbances with limits."
                ),
            };
            Verdict::new(Tone::Bad, text, rule)
        }
    }
}

fn percent(share: f64) -> String {
    format!("{} %", readable((1000.0 * share).floor() / 10.0))
}

/// Where a candidate fails worst: under which disturbance, by which figure.
fn failing(result: &ProofResult, column: usize) -> Option<Verdict> {
    let name = &result.candidates[column];
    let fails = |cell: &ProofCell| {
        let own = if cell.holds == Some(false) { 1.0 } else { 0.0 };
        (cell.share.as_ref().map_or(own, |share| 1.0 - share.value()), own)
    };
    let rows = result.rows.iter().zip(&result.cells).map(|(row, cells)| (row, &cells[column]));
    let failing: Vec<(&Tried, &ProofCell)> = rows.filter(|(_, cell)| fails(cell) > (0.0, 0.0)).collect();
    // Of those alike the first.
    let (row, cell) = failing.iter().rev().max_by(|a, b| {
        let (a, b) = (fails(a.1), fails(b.1));
        a.0.total_cmp(&b.0).then_with(|| a.1.total_cmp(&b.1))
    })?;
    let others = match failing.len() - 1 {
        0 => String::new(),
        1 => ", and under one other".to_owned(),
        n => format!(", and under {n} others"),
    };
    let rule = "acceptance limits of the disturbance";
    if let Some(trouble) = &cell.trouble {
        let text = format!("{name} fails under “{}”: {}{others}.", row.name, trouble.trim_end_matches('.'));
        return Some(Verdict::new(Tone::Bad, text, rule));
    }
    let where_ = match &cell.share {
        Some(share) if share.passes == 0 => format!("on every one of {} plants", share.of),
        Some(share) if cell.holds == Some(false) => {
            format!("on the plant as it is and on {} of {} that it may be", share.of - share.passes, share.of)
        }
        Some(share) => format!("on {} of {} plants that it may be", share.of - share.passes, share.of),
        None => "on the plant as it is".to_owned(),
    };
    let tone = if cell.holds == Some(false) { Tone::Bad } else { Tone::Caution };
    let figure = worst_figure(row, cell).map_or(String::new(), |figure| format!(": {figure}"));
    let text = format!("{name} fails under “{}” {where_}{figure}{others}.", row.name);
    Some(Verdict::new(tone, text, rule))
}

/// The figure that passes its limit by most: `largest deviation 9.4 °C against 8 °C at worst`.
fn worst_figure(row: &Tried, cell: &ProofCell) -> Option<String> {
    let each = row.criteria.iter().zip(&cell.figures).filter_map(|(one, figure)| {
        let most = one.criterion.most?;
        let worst = figure.worst;
        let over = worst.map_or(f64::INFINITY, |worst| worst / most.max(f64::MIN_POSITIVE));
        (over > 1.0).then_some((one, worst, most, over))
    });
    let (one, worst, most, _) = each.max_by(|a, b| a.3.total_cmp(&b.3))?;
    let at_worst = if cell.share.is_some() { " at worst" } else { "" };
    let said = |value| one.criterion.said(value, &one.unit);
    Some(format!("{} {}{at_worst} against {}", one.title, said(worst), said(Some(most))))
}

/// The number on whose value it hangs whether a candidate passes, where one number tells.
fn cause(result: &ProofResult, column: usize, passes: &[bool]) -> Option<Verdict> {
    let failing = passes.iter().filter(|passes| !**passes).count();
    if failing < FEWEST || passes.len() - failing < FEWEST {
        return None;
    }
    let mut best: Option<(f64, String)> = None;
    for drawn in &result.drawn {
        let mut order: Vec<(f64, bool)> = drawn.values.iter().copied().zip(passes.iter().copied()).collect();
        order.sort_by(|a, b| a.0.total_cmp(&b.0));
        let mut low = order[..FEWEST - 1].iter().filter(|one| !one.1).count();
        for cut in FEWEST..=order.len() - FEWEST {
            let (below, above) = order.split_at(cut);
            low += usize::from(!below[cut - 1].1);
            let high = failing - low;
            let (share_low, share_high) = (low as f64 / below.len() as f64, high as f64 / above.len() as f64);
            // How well the cut tells who fails: those that do on the one side, less those that do not.
            let passing = (order.len() - failing) as f64;
            let told = (high as f64 / failing as f64 - (above.len() - high) as f64 / passing).abs();
            if told < PARTS || best.as_ref().is_some_and(|best| told <= best.0) {
                continue;
            }
            let at = 0.5 * (below[cut - 1].0 + above[0].0);
            let (side, here, there) = if share_high > share_low {
                ("above", (high, above.len()), (low, below.len()))
            } else {
                ("below", (low, below.len()), (high, above.len()))
            };
            let of = if drawn.own != 0.0 {
                format!(" ({} % of what it is taken to be)", readable((100.0 * at / drawn.own).round()))
            } else {
                String::new()
            };
            let words = drawn.parameter.trim_start_matches('/').replace(['_', '/'], " ");
            let text = format!(
                "{} fails where the {words} is {side} {}{of}: {} of {} plants there, {} of {} elsewhere.",
                result.candidates[column],
                readable(at),
                here.0,
                here.1,
                there.0,
                there.1
            );
            best = Some((told, text));
        }
    }
    best.map(|(_, text)| {
        Verdict::new(
            Tone::Caution,
            text,
            "the cut in one number that parts plants that pass from plants that fail best",
        )
    })
}

/// What one candidate gains on another, and what that costs.
fn trade(result: &ProofResult, best: usize, other: usize) -> Option<Verdict> {
    let error = ratio(result, best, other, |figure| *figure == Figure::IntegralAbsoluteError {})?;
    let travel = ratio(result, best, other, |figure| *figure == Figure::OutputTravel {})?;
    let error = in_times(error, ["has", "of the error"]);
    let travel = in_times(travel, ["moves the OP", "as much"]);
    if error.is_none() && travel.is_none() {
        return None;
    }
    let parts: Vec<String> = [error.map(|text| text.replace("times of the error", "times the error")), travel]
        .into_iter()
        .flatten()
        .collect();
    let text = format!("Against {}, {} {}.", result.candidates[other], result.candidates[best], parts.join(" and "));
    Some(Verdict::new(Tone::Good, text, "geometric mean over the disturbances, of medians over the plants"))
}

/// A ratio in words; None where two are alike.
fn in_times(ratio: f64, [verb, of]: [&str; 2]) -> Option<String> {
    if ratio.max(1.0 / ratio) < ALIKE {
        return None;
    }
    Some(if ratio < 1.0 {
        format!("{verb} {} % {of}", readable((100.0 * ratio).round().max(1.0)))
    } else {
        format!("{verb} {} times {of}", readable((10.0 * ratio).round() / 10.0))
    })
}
