//! Where a job is cut: by how long its trials take, so that a piece is neither more trouble than work nor long enough to be missed.

use super::Divided;
use std::collections::HashMap;
use std::ops::Range;
use std::time::Instant;

/// What a piece takes on one processor, s: at most, and at least.
const LONGEST: f64 = 1.0;
const SHORTEST: f64 = 0.05;
/// A job that takes less than this is cut finer, into so many pieces, so that several processors have an even share of it.
const FEWEST: f64 = 16.0;
/// Most pieces of a job.
const MOST: usize = 5_000;

/// A job in pieces.
#[derive(Debug, PartialEq)]
pub(super) struct Cut {
    /// Trials of each piece.
    pub pieces: Vec<Range<usize>>,
    /// How long all of it takes one processor, s, by estimate.
    pub seconds: f64,
}

/// Cuts a job by the time that the first trial of each controller takes; where nothing tells that, each trial is a piece, and long.
pub(super) fn cut(job: &dyn Divided) -> Cut {
    let mut per_scan: HashMap<usize, f64> = HashMap::new();
    let expected: Vec<f64> = (0..job.trials())
        .map(|trial| {
            let Some((scans, group)) = job.scans(trial) else { return LONGEST };
            let rate = per_scan.entry(group).or_insert_with(|| {
                let begun = Instant::now();
                let _ = job.run(trial);
                begun.elapsed().as_secs_f64() / scans.max(1.0)
            });
            *rate * scans
        })
        .collect();
    by_time(&expected)
}

/// Trials that take so long, in pieces of about the same time.
fn by_time(expected: &[f64]) -> Cut {
    let seconds: f64 = expected.iter().sum();
    let wanted = (seconds / FEWEST).clamp(SHORTEST, LONGEST).max(seconds / MOST as f64);
    let (mut pieces, mut first, mut so_far) = (Vec::new(), 0, 0.0);
    for (trial, time) in expected.iter().enumerate() {
        so_far += time;
        if so_far > (1.0 - 1e-9) * wanted || trial + 1 == expected.len() {
            pieces.push(first..trial + 1);
            (first, so_far) = (trial + 1, 0.0);
        }
    }
    Cut { pieces, seconds }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn every_trial_is_in_one_piece_and_no_piece_is_long(expected in prop::collection::vec(1e-5..3.0f64, 1..400)) {
            let cut = by_time(&expected);
            let all: Vec<usize> = cut.pieces.iter().cloned().flatten().collect();
            prop_assert_eq!(all, (0..expected.len()).collect::<Vec<_>>());
            for piece in &cut.pieces {
                // All but its last trial take less than a second.
                prop_assert!(expected[piece.start..piece.end - 1].iter().sum::<f64>() < LONGEST);
            }
            prop_assert!((cut.seconds - expected.iter().sum::<f64>()).abs() < 1e-9);
        }
    }

    #[test]
    fn short_work_is_shared_and_immense_work_has_a_bounded_number_of_pieces() {
        assert_eq!(by_time(&[0.1; 32]).pieces.len(), 16);
        assert_eq!(by_time(&[0.001; 20]).pieces.len(), 1);
        let immense = by_time(&vec![5.0; 200_000]);
        assert!(immense.pieces.len() <= MOST, "{}", immense.pieces.len());
        assert!(by_time(&[]).pieces.is_empty());
    }
}
