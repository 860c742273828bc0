//! A proof as a test report in the form of JUnit, which build servers read: a suite a candidate, a case a disturbance.
//!
//! The crate `quick-junit` writes it: it is the writer of a widely used test runner, escapes what XML does not bear, and holds to the
//! schema that build servers agree upon.

use antistasis_core::proof::{ProofCell, ProofResult, Tried};
use antistasis_core::verdict::readable;
use quick_junit::{NonSuccessKind, Report, TestCase, TestCaseStatus, TestSuite};

/// A proof as JUnit XML, named after its proving set. The same result gives the same bytes: there is no time in it.
///
/// A case fails where a limit is passed on the plant as it is or on any that was drawn; it is an error where it could not be tried, and
/// skipped where no figure has a limit.
///
/// Errors where a text cannot be written as XML.
pub fn junit(name: &str, result: &ProofResult) -> Result<String, crate::Error> {
    let mut report = Report::new(name);
    for (column, candidate) in result.candidates.iter().enumerate() {
        let mut suite = TestSuite::new(candidate.as_str());
        for (row, cells) in result.rows.iter().zip(&result.cells) {
            let mut case = TestCase::new(row.name.as_str(), status(row, &cells[column]));
            case.set_classname(candidate.as_str());
            case.set_system_out(figures(row, &cells[column]));
            suite.add_test_case(case);
        }
        report.add_test_suite(suite);
    }
    let text = report.to_string().map_err(|error| crate::Error::Io(std::io::Error::other(error)))?;
    Ok(text)
}

fn status(row: &Tried, cell: &ProofCell) -> TestCaseStatus {
    if let Some(trouble) = &cell.trouble {
        let mut status = TestCaseStatus::non_success(NonSuccessKind::Error);
        status.set_message(trouble.as_str());
        return status;
    }
    match cell.passes {
        None => TestCaseStatus::skipped(),
        Some(true) => TestCaseStatus::success(),
        Some(false) => {
            let mut status = TestCaseStatus::non_success(NonSuccessKind::Failure);
            let missed: Vec<String> = missed(row, cell).collect();
            let on = cell
                .share
                .as_ref()
                .filter(|share| !share.is_whole())
                .map_or(String::new(), |share| format!(" on {} of {} plants", share.of - share.passes, share.of));
            status.set_message(format!("limits passed{on}: {}", missed.join("; ")));
            status
        }
    }
}

/// The figures that pass their limits: value against limit.
fn missed<'a>(row: &'a Tried, cell: &'a ProofCell) -> impl Iterator<Item = String> + 'a {
    row.criteria.iter().zip(&cell.figures).filter_map(|(one, figure)| {
        let most = one.criterion.most?;
        let said = |value| one.criterion.said(value, &one.unit);
        let text = || format!("{} {} against {}", one.title, said(figure.worst), said(Some(most)));
        (!one.criterion.bears(figure.worst)).then(text)
    })
}

/// All figures, a line each: on the plant as it is, the worst of all, the limit.
fn figures(row: &Tried, cell: &ProofCell) -> String {
    let lines = row.criteria.iter().zip(&cell.figures).map(|(one, figure)| {
        let said = |value| one.criterion.said(value, &one.unit);
        let worst =
            if figure.quantiles.is_empty() { String::new() } else { format!(", at worst {}", said(figure.worst)) };
        let most = one.criterion.most.map_or(String::new(), |most| format!(", at most {}", said(Some(most))));
        format!("{}: {}{worst}{most}", one.title, said(figure.own))
    });
    let share = cell.share.as_ref().map(|share| {
        format!(
            "keeps the limits on {} of {} plants ({} to {} %)",
            share.passes,
            share.of,
            readable(100.0 * share.interval[0]),
            readable(100.0 * share.interval[1])
        )
    });
    lines.chain(share).collect::<Vec<_>>().join("\n")
}

#[cfg(test)]
mod tests {
    use super::*;
    use antistasis_core::proof::{Criterion, CriterionTold, Figure, Share, Spread};

    fn result(cells: Vec<ProofCell>) -> ProofResult {
        let cells_of = cells.len();
        let told = |figure: Figure, most: f64, title: &str| CriterionTold {
            criterion: Criterion::at_most(figure, most),
            title: title.to_owned(),
            unit: "°C".to_owned(),
        };
        ProofResult {
            engine: 1,
            rows: vec![Tried {
                name: "load <+10 %> & \"more\"".to_owned(),
                criteria: vec![told(Figure::LargestDeviation {}, 8.0, "largest deviation")],
            }],
            candidates: (0..cells.len()).map(|k| format!("candidate {k}")).collect(),
            holds: cells.iter().map(|cell| cell.holds).collect(),
            shares: cells.iter().map(|cell| cell.share.clone()).collect(),
            cells: vec![cells],
            limited: 1,
            kept: vec![0; cells_of],
            totals: Vec::new(),
            order: (0..cells_of).collect(),
            compared_with: 0,
            drawn: Vec::new(),
            verdicts: Vec::new(),
        }
    }

    fn cell(own: Option<f64>, worst: f64, passes: usize) -> ProofCell {
        let holds = own.is_some_and(|own| own <= 8.0);
        ProofCell {
            trouble: None,
            holds: Some(holds),
            share: Some(Share::new(passes, 50)),
            passes: Some(holds && passes == 50),
            decides: 0,
            figures: vec![Spread { own, quantiles: vec![1.0, worst], never: 0, worst: Some(worst), difference: None }],
            worst_plant: Some(3),
        }
    }

    #[test]
    fn what_fails_says_by_how_much_and_text_is_escaped() {
        let none = ProofCell { holds: None, share: None, passes: None, ..cell(Some(3.0), 5.0, 50) };
        let trouble = ProofCell { trouble: Some("the loop swings".to_owned()), ..cell(None, 5.0, 0) };
        let text =
            junit("set", &result(vec![cell(Some(3.0), 5.0, 50), cell(Some(3.0), 9.4, 44), trouble, none])).unwrap();
        assert!(text.contains("load &lt;+10 %&gt; &amp; &quot;more&quot;"), "{text}");
        assert!(text.contains("limits passed on 6 of 50 plants: largest deviation 9.4 °C against 8 °C"), "{text}");
        assert!(text.contains("<error message=\"the loop swings\""), "{text}");
        let count = |what: &str| text.matches(what).count();
        assert_eq!((count("<testcase "), count("<failure "), count("<error "), count("<skipped")), (4, 1, 1, 1));
        assert!(text.contains("tests=\"4\""), "{text}");
    }

    #[test]
    fn the_same_result_gives_the_same_bytes() {
        let one = result(vec![cell(Some(3.0), 5.0, 50)]);
        assert_eq!(junit("set", &one).unwrap(), junit("set", &one).unwrap());
        assert!(!junit("set", &one).unwrap().contains("time"));
    }
}
