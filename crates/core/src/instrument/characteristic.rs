//! How much a valve lets through at which opening.

use crate::{Error, Result, check};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The inherent characteristic: flow at constant pressure drop over the opening, both as shares of full.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "shape", rename_all = "snake_case", deny_unknown_fields)]
pub enum Characteristic {
    /// Flow as the opening.
    #[default]
    Linear,
    /// Equal steps of the opening change the flow by equal ratios: `R^(x − 1)`.
    EqualPercentage {
        /// Rangeability R, the ratio of the largest to the smallest flow that is controlled: above 1, to 1000.
        rangeability: f64,
    },
    /// Most of the flow early: `√x`.
    QuickOpening,
    /// Straight between points.
    Table {
        /// Opening and flow in %, both rising; from an opening of 0 to one of 100.
        points: Vec<[f64; 2]>,
    },
}

impl Characteristic {
    /// Refuses what no valve has; `field` names it.
    pub fn validate(&self, field: &str) -> Result<()> {
        match self {
            Self::EqualPercentage { rangeability } => {
                let allowed = "above 1, at most 1000";
                if !(*rangeability > 1.0 && *rangeability <= 1000.0) {
                    return Err(Error::invalid(format!("{field}.rangeability"), rangeability, allowed));
                }
            }
            Self::Table { points } => {
                let field = format!("{field}.points");
                if points.len() < 2 || points.len() > 100 {
                    return Err(Error::invalid(field, format!("{} points", points.len()), "2 to 100 points"));
                }
                for [opening, flow] in points {
                    check::within(&field, *opening, 0.0, 100.0, "%")?;
                    check::within(&field, *flow, 0.0, 100.0, "%")?;
                }
                if points.windows(2).any(|pair| pair[1][0] <= pair[0][0] || pair[1][1] < pair[0][1]) {
                    return Err(Error::invalid(field, "not rising", "openings that rise, flows that do not fall"));
                }
                if points[0][0] != 0.0 || points[points.len() - 1][0] != 100.0 {
                    return Err(Error::invalid(field, "cut short", "points from an opening of 0 % to one of 100 %"));
                }
            }
            Self::Linear | Self::QuickOpening => {}
        }
        Ok(())
    }

    /// The flow at an opening, both as shares from 0 to 1.
    #[must_use]
    pub fn flow(&self, opening: f64) -> f64 {
        let x = opening.clamp(0.0, 1.0);
        match self {
            Self::Linear => x,
            Self::EqualPercentage { rangeability } => rangeability.powf(x - 1.0),
            Self::QuickOpening => x.sqrt(),
            Self::Table { points } => {
                let percent = 100.0 * x;
                let after = points.partition_point(|point| point[0] <= percent).clamp(1, points.len() - 1);
                let ([x0, y0], [x1, y1]) = (points[after - 1], points[after]);
                (y0 + (y1 - y0) * (percent - x0) / (x1 - x0)) / 100.0
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn characteristics_are_what_their_names_say() {
        let equal = Characteristic::EqualPercentage { rangeability: 50.0 };
        // Equal steps of the opening, equal ratios of the flow; any valve handbook.
        let ratio = |x: f64| equal.flow(x + 0.1) / equal.flow(x);
        assert!((ratio(0.2) - ratio(0.7)).abs() < 1e-12 && (equal.flow(0.0) - 0.02).abs() < 1e-12);
        assert!((Characteristic::QuickOpening.flow(0.25) - 0.5).abs() < 1e-12);
        let table = Characteristic::Table { points: vec![[0.0, 0.0], [50.0, 20.0], [100.0, 100.0]] };
        assert!((table.flow(0.25) - 0.1).abs() < 1e-12 && (table.flow(0.75) - 0.6).abs() < 1e-12);
        assert_eq!((table.flow(1.2), table.flow(-1.0)), (1.0, 0.0));
    }

    #[test]
    fn impossible_characteristics_are_named() {
        let refused = |c: Characteristic| c.validate("plant.actuator.characteristic").unwrap_err().to_string();
        assert_eq!(
            refused(Characteristic::EqualPercentage { rangeability: 0.5 }),
            "The rangeability of the characteristic is 0.5: it must be above 1, at most 1000."
        );
        assert!(refused(Characteristic::Table { points: vec![[0.0, 5.0], [100.0, 2.0]] }).contains("not rising"));
        assert!(refused(Characteristic::Table { points: vec![[10.0, 0.0], [100.0, 2.0]] }).contains("cut short"));
    }
}
