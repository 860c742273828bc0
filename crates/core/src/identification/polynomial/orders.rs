//! Which orders and which delay: all ARX models up to a limit from one pass over the data.

use super::predictor::Deviations;
use crate::identification::data::DataSet;
use crate::identification::model::Criteria;
use crate::identification::structure::Structure;
use crate::numerics::NormalEquations;
use crate::{Error, Result};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Most models that are compared at once.
const MOST_MODELS: usize = 20_000;

/// The orders that are tried.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct OrderSearch {
    /// Highest order of A, 1 to 10.
    #[schema(minimum = 1, maximum = 10)]
    pub na: usize,
    /// Most coefficients of B, 1 to 10.
    #[schema(minimum = 1, maximum = 10)]
    pub nb: usize,
    /// Longest delay in samples, 1 to 200; the shortest is 1.
    #[schema(minimum = 1, maximum = 200)]
    pub nk: usize,
}

/// One of the models that were tried.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct OrderChoice {
    /// The structure.
    pub structure: Structure,
    /// Figures on the estimation data.
    pub criteria: Criteria,
    /// One-step fit on the estimation data in %.
    pub estimation_fit: f64,
    /// One-step fit on the validation data in %, where there are any.
    pub validation_fit: Option<f64>,
}

/// Sums over all lags at once; those of any model are a part of them.
struct AllLags {
    sums: NormalEquations,
    swing: f64,
}

impl AllLags {
    fn of(deviations: &Deviations, search: &OrderSearch) -> Self {
        let inputs = deviations.inputs.len();
        let lags = search.nk + search.nb;
        let columns = search.na + inputs * lags;
        let mut sums = NormalEquations::new(columns);
        let mut row = vec![0.0; columns + 1];
        let (mut swing, mut total, mut count) = (0.0, 0.0, 0usize);
        for k in search.na.max(lags)..deviations.output.len() {
            for lag in 1..=search.na {
                row[lag - 1] = -deviations.output[k - lag];
            }
            for input in 0..inputs {
                for lag in 1..=lags {
                    row[search.na + input * lags + lag - 1] = deviations.earlier(input, k, lag);
                }
            }
            row[columns] = deviations.output[k];
            if row.iter().all(|value| value.is_finite()) {
                sums.add(&row);
                swing += row[columns] * row[columns];
                total += row[columns];
                count += 1;
            }
        }
        Self { sums, swing: swing - total * total / count.max(1) as f64 }
    }

    fn part(&self, search: &OrderSearch, inputs: usize, na: usize, nb: usize, nk: usize) -> NormalEquations {
        let lags = search.nk + search.nb;
        let mut columns: Vec<usize> = (0..na).collect();
        for input in 0..inputs {
            columns.extend((nk..nk + nb).map(|lag| search.na + input * lags + lag - 1));
        }
        self.sums.selected(&columns)
    }

    fn fit(&self, squares: f64) -> f64 {
        100.0 * (1.0 - (squares / self.swing.max(f64::MIN_POSITIVE)).sqrt())
    }
}

/// All ARX models up to these orders, the best by BIC first; each also judged one sample ahead on `validation`.
///
/// All are compared on the same samples: those whose lags are all in the data.
pub fn search_orders(data: &DataSet, validation: Option<&DataSet>, search: &OrderSearch) -> Result<Vec<OrderChoice>> {
    for (name, value, most) in [("na", search.na, 10), ("nb", search.nb, 10), ("nk", search.nk, 200)] {
        if !(1..=most).contains(&value) {
            return Err(Error::invalid(format!("orders.{name}"), value, format!("1 to {most}")));
        }
    }
    let models = search.na * search.nb * search.nk;
    if models > MOST_MODELS {
        return Err(Error::invalid("orders", format!("{models} models"), format!("at most {MOST_MODELS} at once")));
    }
    data.validate(4 * (search.na + search.nb + search.nk))?;
    data.sample_time()?;
    let means = data.means();
    let estimation = AllLags::of(&Deviations::new(data, &means), search);
    let other = validation.map(|data| AllLags::of(&Deviations::new(data, &means), search));
    let inputs = data.inputs.len();
    let mut choices = Vec::with_capacity(models);
    for na in 1..=search.na {
        for nb in 1..=search.nb {
            for nk in 1..=search.nk {
                let part = estimation.part(search, inputs, na, nb, nk);
                let Some((theta, squares)) = part.linear_solution() else { continue };
                let known: Vec<(usize, f64)> = theta.into_iter().enumerate().collect();
                let validation_fit = other
                    .as_ref()
                    .map(|all| all.fit(all.part(search, inputs, na, nb, nk).less(&known).sum_of_squares().max(0.0)));
                choices.push(OrderChoice {
                    structure: Structure::Arx { na, nb, nk },
                    criteria: Criteria::new(squares, part.samples(), known.len()),
                    estimation_fit: estimation.fit(squares),
                    validation_fit,
                });
            }
        }
    }
    choices.sort_by(|a, b| a.criteria.bic.total_cmp(&b.criteria.bic));
    if choices.is_empty() {
        return Err(Error::unfit("no ARX model fits these data", "take a livelier input or lower orders"));
    }
    Ok(choices)
}
