//! What is measured of a trial in a proof, and how much of it is borne.

use crate::assessment::{integral_absolute_error, reversals, settles, travel};
use crate::numerics::rounded;
use crate::process::Description;
use crate::simulation::{ColumnRole, Plant, Trace};
use crate::verdict::{readable, readable_duration};
use crate::{Error, Result, check};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Something that is measured of a trial, from the first event of the disturbance on; of the true value of the PV, not of what the sensor
/// shows.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "kind", rename_all = "snake_case", deny_unknown_fields)]
pub enum Figure {
    /// The largest |PV − SP|, PV units. A step of the set point itself counts until it is made good: ask for the overshoot there.
    LargestDeviation {},
    /// How far the PV goes beyond the new set point after a step of it, PV units; where the set point stands, to either side.
    Overshoot {},
    /// Until the PV stays within a band about the set point, s.
    RecoveryTime {
        /// Half the width of the band, PV units, above 0.
        #[schema(exclusive_minimum = 0)]
        band: f64,
    },
    /// ∫|SP − PV| dt, PV units · s.
    IntegralAbsoluteError {},
    /// How long the PV is outside limits, s.
    TimeOutside {
        /// Lower limit in PV units; null for none.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        low: Option<f64>,
        /// Upper limit in PV units; null for none.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        high: Option<f64>,
    },
    /// The area between the PV and limits that it is outside of, PV units · s.
    AreaOutside {
        /// Lower limit in PV units; null for none.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        low: Option<f64>,
        /// Upper limit in PV units; null for none.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        high: Option<f64>,
    },
    /// Sum of all moves of the OP, %.
    OutputTravel {},
    /// How often the OP turns.
    OutputReversals {},
    /// What a term of a balance brings or takes over the whole trial, without its sign: energy or material, in the unit of the balance.
    Used {
        /// Name of the balance.
        balance: String,
        /// Name of the term.
        term: String,
    },
}

/// A figure, and how much of it is borne.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Criterion {
    /// What is measured.
    pub figure: Figure,
    /// Name of the controller at whose loop it is measured; null for the first one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub of: Option<String>,
    /// The most that is borne; null where it is only to be seen.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub most: Option<f64>,
}

/// A criterion in words.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct CriterionTold {
    /// The criterion.
    #[serde(flatten)]
    pub criterion: Criterion,
    /// What it is called.
    pub title: String,
    /// The unit of its values.
    pub unit: String,
}

/// A figure that can be asked for.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct FigureOffer {
    /// What it is called.
    pub title: String,
    /// The criterion to begin with, without a limit.
    pub criterion: Criterion,
}

/// Half the band that is to be come back into where nothing else is said, as a share of the span: that of the trail.
pub(super) const BAND: f64 = 0.005;
/// How far below the upper end of the span a limit of the PV begins that nobody has typed yet, as a share of it.
const BELOW_THE_END: f64 = 0.1;

/// Figures that every trial has, by which candidates are compared.
pub(super) const STANDARD: [Figure; 3] =
    [Figure::LargestDeviation {}, Figure::IntegralAbsoluteError {}, Figure::OutputTravel {}];

/// All figures that can be asked for on a plant, each with a criterion to begin with; that of balances where it has any.
pub fn figure_offers(plant: &Plant) -> Result<Vec<FigureOffer>> {
    let width = plant.pv.span.width();
    let high = Some(rounded(plant.pv.span.high - BELOW_THE_END * width, 3));
    let mut all = vec![
        ("largest deviation", Figure::LargestDeviation {}),
        ("overshoot", Figure::Overshoot {}),
        ("time back within a band", Figure::RecoveryTime { band: rounded(BAND * width, 2) }),
        ("integral of the error", Figure::IntegralAbsoluteError {}),
        ("time outside limits", Figure::TimeOutside { low: None, high }),
        ("area outside limits", Figure::AreaOutside { low: None, high }),
        ("OP travel", Figure::OutputTravel {}),
        ("OP reversals", Figure::OutputReversals {}),
    ];
    let balances = plant.describe()?.balances;
    if let Some((balance, term)) = balances.last().and_then(|balance| Some((balance, balance.terms.first()?))) {
        let used = Figure::Used { balance: balance.name.clone(), term: term.name.clone() };
        all.push(("energy or material used", used));
    }
    let offer =
        |(title, figure): (&str, Figure)| FigureOffer { title: title.to_owned(), criterion: Criterion::shown(figure) };
    Ok(all.into_iter().map(offer).collect())
}

/// A trace of the loop that is looked at, and where in it the disturbance begins.
pub(super) struct Seen<'a> {
    pub trace: &'a Trace,
    pub begins: f64,
}

impl Criterion {
    /// A figure of the first loop without a limit.
    #[must_use]
    pub fn shown(figure: Figure) -> Self {
        Self { figure, of: None, most: None }
    }

    /// A figure of the first loop with a limit.
    #[must_use]
    pub fn at_most(figure: Figure, most: f64) -> Self {
        Self { figure, of: None, most: Some(most) }
    }

    pub(super) fn validate(&self, field: &str) -> Result<()> {
        let name = |part: &str| format!("{field}.figure.{part}");
        match &self.figure {
            Figure::RecoveryTime { band } => {
                check::positive(&name("band"), *band, "")?;
            }
            Figure::TimeOutside { low, high } | Figure::AreaOutside { low, high } => match (low, high) {
                (None, None) => {
                    let sentence = "Give a lower limit, an upper limit, or both, that the PV is to be outside of.";
                    return Err(Error::said(name("low"), sentence));
                }
                (low, high) => {
                    check::finite(&name("low"), low.unwrap_or(0.0))?;
                    check::finite(&name("high"), high.unwrap_or(0.0))?;
                    if let (Some(low), Some(high)) = (low, high)
                        && high <= low
                    {
                        return Err(Error::invalid(name("high"), high, format!("above the lower limit, {low}")));
                    }
                }
            },
            Figure::Used { balance, term } if balance.is_empty() || term.is_empty() => {
                return Err(Error::said(name("term"), "Name the balance and the term whose amount counts."));
            }
            _ => {}
        }
        if let Some(most) = self.most {
            check::not_negative(&format!("{field}.most"), most, "")?;
        }
        Ok(())
    }

    /// Refuses a loop that no candidate has, and a term of a balance that the process does not have.
    pub(super) fn validate_on(&self, description: &Description, loops: &[&str], field: &str) -> Result<()> {
        if let Some(of) = &self.of
            && !loops.contains(&of.as_str())
        {
            return Err(Error::invalid(
                format!("{field}.of"),
                format!("“{of}”"),
                format!("one of {}", loops.join(", ")),
            ));
        }
        let Figure::Used { balance, term } = &self.figure else { return Ok(()) };
        let refused = |part: &str, value: &str, known: Vec<&str>| {
            let allowed = match known.join(", ") {
                names if names.is_empty() => "one that the process has: it has none".to_owned(),
                names => format!("one of {names}"),
            };
            Err(Error::invalid(format!("{field}.figure.{part}"), format!("“{value}”"), allowed))
        };
        let Some(own) = description.balances.iter().find(|own| own.name == *balance) else {
            return refused("balance", balance, description.balances.iter().map(|own| own.name.as_str()).collect());
        };
        if own.terms.iter().any(|own| own.name == *term) {
            return Ok(());
        }
        refused("term", term, own.terms.iter().map(|own| own.name.as_str()).collect())
    }

    /// This in words, on a plant with this description.
    #[must_use]
    pub fn told(&self, plant: &Plant, description: &Description) -> CriterionTold {
        let usual = plant.pv.span.unit.as_str();
        let pv_unit = self.of.as_deref().map_or(usual, |of| unit_at(plant, of));
        CriterionTold { title: self.title(pv_unit), unit: self.unit(pv_unit, description), criterion: self.clone() }
    }

    /// What this is called.
    fn title(&self, pv_unit: &str) -> String {
        let title = match &self.figure {
            Figure::LargestDeviation {} => "largest deviation".to_owned(),
            Figure::Overshoot {} => "overshoot".to_owned(),
            Figure::RecoveryTime { band } => format!("back within ±{} {pv_unit}", readable(*band)),
            Figure::IntegralAbsoluteError {} => "integral of the error".to_owned(),
            Figure::TimeOutside { low, high } => format!("time {}", outside(*low, *high, pv_unit)),
            Figure::AreaOutside { low, high } => format!("area {}", outside(*low, *high, pv_unit)),
            Figure::OutputTravel {} => "OP travel".to_owned(),
            Figure::OutputReversals {} => "OP reversals".to_owned(),
            Figure::Used { balance, term } => format!("{term} of {balance}"),
        };
        self.of.as_ref().map_or(title.clone(), |of| format!("{title} of {of}"))
    }

    /// Its unit.
    fn unit(&self, pv_unit: &str, description: &Description) -> String {
        let of_balance =
            |name: &str| description.balances.iter().find(|own| own.name == name).map(|own| own.unit.clone());
        match &self.figure {
            Figure::LargestDeviation {} | Figure::Overshoot {} => pv_unit.to_owned(),
            Figure::RecoveryTime { .. } | Figure::TimeOutside { .. } => "s".to_owned(),
            Figure::IntegralAbsoluteError {} | Figure::AreaOutside { .. } => format!("{pv_unit} s"),
            Figure::OutputTravel {} => "%".to_owned(),
            Figure::OutputReversals {} => String::new(),
            Figure::Used { balance, .. } => of_balance(balance).unwrap_or_default(),
        }
    }

    /// Whether it measures what another one does, whatever is borne of it.
    pub(super) fn same_figure(&self, other: &Self) -> bool {
        self.figure == other.figure && self.of == other.of
    }

    /// Whether it needs the balances of the process.
    pub(super) fn needs_balances(&self) -> bool {
        matches!(self.figure, Figure::Used { .. })
    }

    /// Its value; None where it was never reached (a band that is not come back to) or the trial was stopped.
    pub(super) fn measure(&self, seen: &Seen) -> Option<f64> {
        let trace = seen.trace;
        if trace.stopped.is_some() || trace.len() < 2 {
            return None;
        }
        let last = trace.len() - 1;
        let first = ((seen.begins / trace.scan - 1e-9).ceil().max(0.0) as usize).min(last);
        let (pv, set_point) = (trace.controlled(), trace.values(ColumnRole::SetPoint));
        let deviation = |k: usize| pv[k] - set_point[k];
        match &self.figure {
            Figure::LargestDeviation {} => Some((first..=last).map(|k| deviation(k).abs()).fold(0.0, f64::max)),
            Figure::Overshoot {} => Some(overshoot(pv, set_point, first)),
            Figure::RecoveryTime { band } => {
                settles(last + 1 - first, *band, |k| deviation(first + k)).map(|rows| rows * trace.scan)
            }
            Figure::IntegralAbsoluteError {} => Some(integral_absolute_error(trace, first, last)),
            Figure::TimeOutside { low, high } => Some(trace.scan * time_outside(&pv[first..], *low, *high)),
            Figure::AreaOutside { low, high } => Some(trace.scan * area_outside(&pv[first..], *low, *high)),
            Figure::OutputTravel {} => Some(travel(moved(trace, first))),
            Figure::OutputReversals {} => Some(reversals(moved(trace, first)) as f64),
            Figure::Used { balance, term } => {
                let sheet = trace.balances.iter().find(|sheet| sheet.name == *balance)?;
                sheet.terms.iter().find(|one| one.name == *term).map(|one| one.amount.abs())
            }
        }
    }

    /// A value in words.
    #[must_use]
    pub fn said(&self, value: Option<f64>, unit: &str) -> String {
        match (value, &self.figure) {
            (None, Figure::RecoveryTime { .. }) => "never".to_owned(),
            (None, _) => "no end".to_owned(),
            (Some(value), _) if unit == "s" => readable_duration(value),
            (Some(value), _) => format!("{} {unit}", readable(value)).trim_end().to_owned(),
        }
    }

    /// Whether a value is borne.
    #[must_use]
    pub fn bears(&self, value: Option<f64>) -> bool {
        self.most.is_none_or(|most| value.is_some_and(|value| value <= most))
    }
}

/// The OP from the row before `first` on, so that its move there counts.
fn moved(trace: &Trace, first: usize) -> &[f64] {
    &trace.values(ColumnRole::Output)[first.saturating_sub(1)..]
}

/// Unit of what a controller measures: it is called after its signal, as a rule.
fn unit_at<'a>(plant: &'a Plant, of: &str) -> &'a str {
    let tag = format!("{of}.PV");
    let known = plant.further_measured.iter().find(|signal| signal.tag == tag || signal.tag == of);
    known.map_or(&plant.pv.span.unit, |signal| &signal.span.unit)
}

fn outside(low: Option<f64>, high: Option<f64>, unit: &str) -> String {
    match (low, high) {
        (Some(low), Some(high)) => format!("outside {} to {} {unit}", readable(low), readable(high)),
        (Some(low), None) => format!("below {} {unit}", readable(low)),
        (_, high) => format!("above {} {unit}", readable(high.unwrap_or(f64::INFINITY))),
    }
}

/// How far a signal goes beyond where the set point goes last, on the side to which that moved; where it stands, to either side.
fn overshoot(pv: &[f64], set_point: &[f64], first: usize) -> f64 {
    let end = set_point[set_point.len() - 1];
    let moved = end - set_point[first.saturating_sub(1)];
    let beyond = |value: f64| if moved == 0.0 { (value - end).abs() } else { moved.signum() * (value - end) };
    pv[first..].iter().map(|value| beyond(*value)).fold(0.0, f64::max)
}

/// The part of a straight stretch from `a` to `b` that is above 0, and the area there, both of a stretch of length 1.
fn above(a: f64, b: f64) -> (f64, f64) {
    match (a > 0.0, b > 0.0) {
        (true, true) => (1.0, 0.5 * (a + b)),
        (false, false) => (0.0, 0.0),
        _ => {
            let (over, under) = if a > 0.0 { (a, -b) } else { (b, -a) };
            let part = over / (over + under);
            (part, 0.5 * part * over)
        }
    }
}

fn sum_outside(pv: &[f64], low: Option<f64>, high: Option<f64>, of: impl Fn((f64, f64)) -> f64) -> f64 {
    pv.windows(2)
        .map(|pair| {
            let below = low.map_or(0.0, |low| of(above(low - pair[0], low - pair[1])));
            below + high.map_or(0.0, |high| of(above(pair[0] - high, pair[1] - high)))
        })
        .sum()
}

/// Rows outside limits, the PV being straight between rows.
fn time_outside(pv: &[f64], low: Option<f64>, high: Option<f64>) -> f64 {
    sum_outside(pv, low, high, |part| part.0)
}

/// The area outside limits, in PV units times rows.
fn area_outside(pv: &[f64], low: Option<f64>, high: Option<f64>) -> f64 {
    sum_outside(pv, low, high, |part| part.1)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_lies_outside_is_exact_for_straight_lines() {
        // A triangle from 0 to 2 and back: above 1 for half of the time, with an area of half a row.
        let pv = [0.0, 2.0, 0.0];
        assert_eq!(time_outside(&pv, None, Some(1.0)), 1.0);
        assert_eq!(area_outside(&pv, None, Some(1.0)), 0.5);
        assert_eq!(time_outside(&pv, Some(1.0), None), 1.0);
        assert_eq!(area_outside(&pv, Some(-1.0), Some(3.0)), 0.0);
        assert_eq!(area_outside(&[5.0, 5.0], Some(6.0), Some(7.0)), 1.0);
    }

    #[test]
    fn overshoot_is_on_the_side_of_the_step() {
        let set_point = [1.0, 3.0, 3.0, 3.0];
        assert_eq!(overshoot(&[1.0, 1.0, 3.5, 2.0], &set_point, 1), 0.5);
        assert_eq!(overshoot(&[3.0, 3.0, 0.5, 1.5], &[3.0, 1.0, 1.0, 1.0], 1), 0.5);
        assert_eq!(overshoot(&[1.0, 1.0, 2.0, 2.9], &set_point, 1), 0.0);
        // Where it stands there is no side.
        assert_eq!(overshoot(&[2.0, 1.2, 2.1], &[2.0; 3], 1), 0.8);
    }

    #[test]
    fn a_criterion_names_what_is_wrong_with_it() {
        let wrong = |figure: Figure| Criterion::shown(figure).validate("criteria[0]").unwrap_err().to_string();
        assert!(wrong(Figure::RecoveryTime { band: 0.0 }).contains("band"));
        assert!(wrong(Figure::TimeOutside { low: None, high: None }).contains("lower limit"));
        assert!(wrong(Figure::AreaOutside { low: Some(3.0), high: Some(2.0) }).contains("above the lower limit, 3"));
        let negative = Criterion::at_most(Figure::OutputTravel {}, -1.0).validate("criteria[0]").unwrap_err();
        assert_eq!(negative.field(), Some("criteria[0].most"));
        let never = Criterion::at_most(Figure::RecoveryTime { band: 1.0 }, 10.0);
        assert!(!never.bears(None) && never.bears(Some(10.0)) && !never.bears(Some(10.1)));
        assert_eq!(never.said(None, "s"), "never");
    }
}
