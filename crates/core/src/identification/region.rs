//! The joint confidence region of two parameters.

use super::model::Model;
use crate::{Error, Result};
use serde::{Deserialize, Serialize};
use statrs::distribution::{ChiSquared, ContinuousCDF};
use utoipa::ToSchema;

/// Points of the outline.
const POINTS: usize = 96;

/// An ellipse in which both parameters lie together with 95 % probability.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Region {
    /// Names of the parameters.
    pub parameters: [String; 2],
    /// Their units.
    pub units: [String; 2],
    /// The estimates.
    pub centre: [f64; 2],
    /// Points of the outline.
    pub outline: Vec<[f64; 2]>,
    /// Correlation of the two estimates.
    pub correlation: f64,
}

/// The 95 % region of two parameters of the OP's path: `Δᵀ Σ⁻¹ Δ ≤ χ²₂` with their corrected covariance (Seber & Wild,
/// Nonlinear Regression, 1989,
/// section 5.1).
pub fn region(model: &Model, first: &str, second: &str) -> Result<Region> {
    let at = |name: &str| {
        let found = model.parameter(name).and_then(|parameter| {
            let place = model.parameters.iter().position(|known| std::ptr::eq(known, parameter))?;
            parameter.standard_error.map(|_| place)
        });
        found.ok_or_else(|| {
            let known: Vec<&str> =
                model.parameters.iter().filter(|p| p.standard_error.is_some()).map(|p| p.name.as_str()).collect();
            Error::invalid("region.parameter", name, format!("one with a standard error: {}", known.join(", ")))
        })
    };
    let (i, j) = (at(first)?, at(second)?);
    if i == j {
        return Err(Error::invalid("region.parameter", second, "two different parameters"));
    }
    let (a, b, c) = (model.covariance[i][i], model.covariance[i][j], model.covariance[j][j]);
    let radius = ChiSquared::new(2.0).map_or(5.991, |distribution| distribution.inverse_cdf(0.95)).sqrt();
    // Σ = L Lᵀ: the circle of that radius, stretched by L.
    let l = [a.sqrt(), b / a.sqrt(), (c - b * b / a).max(0.0).sqrt()];
    let centre = [model.parameters[i].value, model.parameters[j].value];
    let point = |k: usize| {
        let (sine, cosine) = (2.0 * std::f64::consts::PI * k as f64 / POINTS as f64).sin_cos();
        [centre[0] + radius * l[0] * cosine, centre[1] + radius * (l[1] * cosine + l[2] * sine)]
    };
    Ok(Region {
        parameters: [first.to_owned(), second.to_owned()],
        units: [model.parameters[i].unit.clone(), model.parameters[j].unit.clone()],
        centre,
        outline: (0..=POINTS).map(point).collect(),
        correlation: b / (a * c).sqrt(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::identification::{DataSet, FitOptions, Series, Structure, fit};
    use crate::series::TimeAxis;
    use rand::SeedableRng;
    use rand_distr::{Distribution, StandardNormal};

    #[test]
    fn both_truths_lie_inside_together_in_95_of_100() {
        let axis = TimeAxis::uniform(1.0, 300).unwrap();
        let input: Vec<f64> = (0..300).map(|k| if k / 30 % 2 == 1 { 1.0 } else { 0.0 }).collect();
        let mut inside = 0;
        for seed in 0..120 {
            let mut generator = rand_chacha::ChaCha8Rng::seed_from_u64(seed);
            let mut x = 0.0;
            let output: Vec<f64> = input
                .iter()
                .map(|u| {
                    let deviate: f64 = StandardNormal.sample(&mut generator);
                    let now = x + 0.2 * deviate;
                    x = 0.9 * x + 0.2 * u;
                    now
                })
                .collect();
            let data =
                DataSet::single(axis.clone(), Series::new("OP", "%", input.clone()), Series::new("PV", "m", output));
            let model = fit(&data, &FitOptions::new(Structure::Fopdt)).unwrap();
            let region = region(&model, "gain", "time_constant").unwrap();
            // The point relative to the ellipse: inside when its winding number is not 0.
            let truth = [2.0, -1.0 / 0.9f64.ln()];
            let turns: f64 = region
                .outline
                .windows(2)
                .map(|pair| {
                    let angle = |p: &[f64; 2]| {
                        ((p[1] - truth[1]) / region.centre[1]).atan2((p[0] - truth[0]) / region.centre[0])
                    };
                    let turn = angle(&pair[1]) - angle(&pair[0]);
                    turn - 2.0 * std::f64::consts::PI * (turn / (2.0 * std::f64::consts::PI)).round()
                })
                .sum();
            inside += usize::from(turns.abs() > 1.0);
        }
        assert!((106..=120).contains(&inside), "{inside} of 120");
    }
}
