//! Whether scan, horizon and moves of a predictive controller suit its model.

use crate::controller::PredictiveSettings;
use crate::controller::predictive::MOST_SCANS_AHEAD;
use crate::verdict::readable_duration;
use crate::{Tone, Verdict};

/// Fewest scans in a rise from 10 to 90 %.
const SCANS_IN_RISE: f64 = 5.0;
/// A lag rises from 10 to 90 % in so many time constants: ln 9.
const RISE: f64 = 2.197;

/// What is to be said of them; nothing of settings that cannot be worked with.
pub(super) fn horizon_verdicts(settings: &PredictiveSettings, scan: f64) -> Vec<Verdict> {
    let (Ok(shapes), Ok(ahead)) = (settings.shapes(scan), settings.scans_ahead(scan)) else { return Vec::new() };
    let mut verdicts = Vec::new();
    for (k, cv) in settings.cvs.iter().enumerate() {
        let cell = shapes.cell(k, shapes.strongest(k));
        let rise = RISE * cell.lag;
        if rise < SCANS_IN_RISE {
            verdicts.push(Verdict::new(
                Tone::Caution,
                format!(
                    "{} rises within {} scans of {}: it is over before the controller has seen it. Scan faster.",
                    cv.tag,
                    rise.round(),
                    readable_duration(scan)
                ),
                "10 to 20 scans in the rise time, and 5 at least (common practice)",
            ));
        }
        if ahead as f64 <= cell.dead + 1.0 {
            verdicts.push(Verdict::new(
                Tone::Bad,
                format!(
                    "It looks ahead by {}, and {} shows nothing of a move before {}: look further ahead.",
                    readable_duration(ahead as f64 * scan),
                    cv.tag,
                    readable_duration(cell.dead * scan)
                ),
                "a horizon beyond the dead time",
            ));
        }
    }
    if let Some(held) = settings.held_too_long(scan) {
        verdicts.push(Verdict::new(
            Tone::Caution,
            format!(
                "A move is held for {held} scans ({}): what is known to come within them cannot be met as it comes. Spread the moves evenly.",
                readable_duration(f64::from(held) * scan)
            ),
            "moves no longer than twice an even division of the horizon (a choice of this project)",
        ));
    }
    if shapes.settles && !settings.beyond_horizon && (ahead as f64) < 0.8 * shapes.horizon as f64 {
        // With equations that are not linear nothing can be counted beyond the horizon.
        let or = if settings.model.linear_process("").is_ok_and(|linear| linear.is_some()) {
            ", or let what comes beyond the horizon count"
        } else {
            ""
        };
        let slowest = match settings.settles_after(scan) {
            Ok(Some(after)) => format!("settles after {}", readable_duration(after)),
            _ => format!("goes on beyond {}", readable_duration(MOST_SCANS_AHEAD as f64 * scan)),
        };
        verdicts.push(Verdict::new(
            Tone::Caution,
            format!(
                "It looks ahead by {}, and the slowest response {slowest}: what comes later does not count. Look further ahead{or}.",
                readable_duration(ahead as f64 * scan)
            ),
            "a horizon beyond settling (common practice)",
        ));
    }
    verdicts
}
