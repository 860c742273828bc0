//! The profile of a number of a physical model: how the squares rise when it is held away from its estimate and the others follow.

use super::super::data::DataSet;
use super::super::model::{FitOptions, Model};
use super::super::process_model::{Profile, ProfilePoint, REACH};
use super::fitting::{Found, Prepared};
use super::following::Stretch;
use super::with_noise;
use crate::numerics::in_parallel;
use crate::{Error, Result};

/// Points to either side of the estimate.
const HALF: u32 = 8;

/// See [`super::super::profile`].
pub(in super::super) fn profile(
    stretches: &[DataSet],
    options: &FitOptions,
    model: &Model,
    name: &str,
) -> Result<Profile> {
    let physical = model.physical()?;
    let place = model.parameters.iter().position(|known| known.name == name).ok_or_else(|| {
        let names: Vec<&str> = model.parameters.iter().map(|known| known.name.as_str()).collect();
        Error::invalid("parameter", name, format!("one of {}", names.join(", ")))
    })?;
    let parameter = &model.parameters[place];
    let (Some(error), Some(white)) = (parameter.standard_error, parameter.white_error) else {
        let words = name.replace('_', " ");
        return Err(Error::unfit(format!("the data do not tell the {words}"), "its profile would tell nothing"));
    };
    let task = physical.fitted.task()?;
    let data = stretches.iter().map(|data| Stretch::new(&task, data)).collect::<Result<Vec<_>>>()?;
    let mut prepared = Prepared::new(&task, &data);
    let values: Vec<f64> = model.parameters.iter().map(|known| known.value).collect();
    let start = prepared.place_of(&values, &physical.starts);
    // Noise and outputs as the fit weighed them: it ends where it began.
    let squares = f64::INFINITY;
    let best = with_noise(&mut prepared, Found { place: start, squares }, options)?;
    let (low, high) = (task.unknowns[place].low, task.unknowns[place].high);
    let outward = |direction: &f64| {
        let mut points = Vec::new();
        let (mut before, mut from) = (best.place.clone(), best.place.clone());
        for k in 1..=HALF {
            let value = parameter.value + direction * f64::from(k) / f64::from(HALF) * REACH * error;
            if value <= low || value >= high {
                break;
            }
            // Where the two points before lead.
            let mut start: Vec<f64> = from.iter().zip(&before).map(|(now, earlier)| 2.0 * now - earlier).collect();
            start[place] = prepared.scales[place].inner(value);
            let Some(found) = prepared.refined_beside(&start, place) else { break };
            points.push(ProfilePoint { value, rise: found.squares / best.squares - 1.0 });
            before = std::mem::replace(&mut from, found.place);
        }
        points
    };
    let mut points = vec![ProfilePoint { value: parameter.value, rise: 0.0 }];
    points.extend(in_parallel(&[-1.0, 1.0], outward).into_iter().flatten());
    let samples: usize = data.iter().flat_map(|own| &own.outputs).flatten().filter(|value| value.is_finite()).count();
    let freedom = samples.saturating_sub(prepared.count());
    // Where the noise has a model its innovations are white.
    let coloured = if prepared.whitening.iter().any(Option::is_some) { 1.0 } else { error / white };
    Ok(Profile::of_points(parameter, points, Profile::allowed(freedom, coloured)))
}
