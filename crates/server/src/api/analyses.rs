//! What else can be asked of a model or a record: responses, poles, residuals, orders, parameters over time.

use super::models::{OfOutput, data_of_model};
use crate::fitting::data_set;
use crate::gate::compute;
use crate::problem::{Body, Path, Problem, Query};
use crate::state::AppState;
use antistasis_core::identification::{
    Cells, Courses, DataSet, FitOptions, FrequencyResponse, MovingHorizonOptions, Nonparametric, NonparametricOptions,
    OrderChoice, OrderSearch, Parts, Profile, RecursiveOptions, Region, Root, SignalName, StepResponse, Structure,
    Validation, Windows, moving_horizon, nonparametric, profile, recursive, region, search_orders, validate,
    validate_together,
};
use antistasis_store::ModelRow;
use axum::Json;
use axum::extract::State;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;
use uuid::Uuid;

/// Models of an order search that are sent.
const SHOWN_ORDERS: usize = 40;

pub(super) fn router() -> OpenApiRouter<AppState> {
    OpenApiRouter::new()
        .routes(routes!(analyse))
        .routes(routes!(cells_of_model))
        .routes(routes!(parameter_profile))
        .routes(routes!(try_orders))
        .routes(routes!(without_structure))
        .routes(routes!(over_time))
}

/// All that a model says of the process, and what it leaves.
#[derive(Debug, Serialize, ToSchema)]
struct Analysis {
    /// The inputs that act on the output that is asked for, in the order of the responses.
    inputs: Vec<SignalName>,
    /// Against the data of the fit.
    estimation: Validation,
    /// Against data that the fit has not seen.
    validation: Option<Validation>,
    /// Response of the output that is asked for (the PV) to a unit step of each input, the OP first, with bands.
    steps: Vec<StepResponse>,
    /// Frequency response from each input.
    frequencies: Vec<FrequencyResponse>,
    /// Poles of the way from the first input to the output.
    poles: Vec<Root>,
    /// Zeros of that way, dead time aside.
    zeros: Vec<Root>,
    /// Joint 95 % regions of pairs of parameters.
    regions: Vec<Region>,
}

/// The stretches that a model was fitted to, and the data that it was held against.
async fn data_of(state: &AppState, row: &ModelRow) -> Result<(Vec<DataSet>, Option<DataSet>), Problem> {
    let prepared = state.prepared(row.record_id, &row.preparation).await?;
    let data = data_of_model(&prepared.record, row)?;
    let part = |from, to| data.slice(prepared.window(from, to));
    let other = row.validation_from.zip(row.validation_to).map(|(from, to)| part(from, to));
    let mut stretches = vec![part(row.window_from, row.window_to)];
    for window in &row.further {
        let prepared = state.prepared(window.record_id, &window.preparation).await?;
        let data = data_of_model(&prepared.record, row)?;
        stretches.push(data.slice(prepared.window(window.from, window.to)));
    }
    Ok((stretches, other))
}

/// Responses with bands, poles and zeros, residual tests and joint regions of a model.
#[utoipa::path(get, path = "/api/v1/models/{id}/analysis", tag = "models",
    params(("id" = Uuid, Path, description = "Identifier of the model"), OfOutput),
    responses((status = 200, body = Analysis), (status = 404, body = Problem), (status = 422, body = Problem)))]
async fn analyse(
    State(state): State<AppState>,
    Path(id): Path<Uuid>,
    Query(of): Query<OfOutput>,
) -> Result<Json<Analysis>, Problem> {
    let row = state.store.model(id).await?;
    let output = of.position(&row.model)?;
    let (stretches, other) = data_of(&state, &row).await?;
    compute(move || {
        // An output of a matrix has a model of its own.
        let (model, output) =
            if row.model.is_matrix() { (row.model.of_output(output)?, 0) } else { (&row.model, output) };
        let stretches: Vec<DataSet> = stretches.iter().map(|data| model.own_data(data).into_owned()).collect();
        let other = other.map(|other| model.own_data(&other).into_owned());
        let data = &stretches[0];
        // A physical model answers otherwise at every load: it has no response of its own.
        let inputs = 0..if model.is_physical() { 0 } else { model.inputs.len() };
        let known: Vec<&str> = model
            .parameters
            .iter()
            .filter(|parameter| {
                parameter.standard_error.is_some() && model.parameter(&parameter.name) == Some(parameter)
            })
            .map(|parameter| parameter.name.as_str())
            .collect();
        let pairs =
            known.iter().enumerate().flat_map(|(k, first)| known[k + 1..].iter().map(move |second| (*first, *second)));
        Ok(Json(Analysis {
            inputs: model.inputs.clone(),
            estimation: if row.reduced_from.is_some() {
                validate(model, data, true)?
            } else {
                validate_together(model, &stretches)?
            },
            validation: other.map(|other| validate(model, &other, false)).transpose()?,
            steps: inputs
                .clone()
                .map(|input| model.step_response(Some(data), input, output, None))
                .collect::<Result<_, _>>()?,
            frequencies: inputs
                .map(|input| model.frequency_response(Some(data), input, output))
                .collect::<Result<_, _>>()?,
            poles: model.poles(),
            zeros: model.zeros(),
            regions: pairs.take(10).filter_map(|(first, second)| region(model, first, second).ok()).collect(),
        }))
    })
    .await?
}

/// The responses of every output to a step of every input, on one time axis, with bands: all of a model at once.
#[utoipa::path(get, path = "/api/v1/models/{id}/cells", tag = "models",
    params(("id" = Uuid, Path, description = "Identifier of the model")),
    responses((status = 200, body = Cells), (status = 404, body = Problem), (status = 422, body = Problem)))]
async fn cells_of_model(State(state): State<AppState>, Path(id): Path<Uuid>) -> Result<Json<Cells>, Problem> {
    let row = state.store.model(id).await?;
    let (stretches, _) = data_of(&state, &row).await?;
    compute(move || Ok(Json(row.model.cells(stretches.first())?))).await?
}

#[derive(Debug, Deserialize, IntoParams)]
struct Which {
    /// Name of the parameter, such as `dead_time`.
    parameter: String,
}

/// The profile of a parameter of a process structure, with the interval that it gives.
#[utoipa::path(get, path = "/api/v1/models/{id}/profile", tag = "models",
    params(("id" = Uuid, Path, description = "Identifier of the model"), Which),
    responses((status = 200, body = Profile), (status = 404, body = Problem), (status = 422, body = Problem)))]
async fn parameter_profile(
    State(state): State<AppState>,
    Path(id): Path<Uuid>,
    Query(which): Query<Which>,
) -> Result<Json<Profile>, Problem> {
    let row = state.store.model(id).await?;
    let (stretches, _) = data_of(&state, &row).await?;
    compute(move || Ok(Json(profile(&stretches, &row.options, &row.model, &which.parameter)?))).await?
}

/// Part of a record.
#[derive(Debug, Deserialize, ToSchema)]
struct Stretch {
    /// The record; its preparation is applied.
    record_id: Uuid,
    /// The windows.
    windows: Windows,
    /// Tags of measured disturbances, which are further inputs.
    #[serde(default)]
    disturbances: Vec<String>,
}

impl Stretch {
    async fn parts(&self, state: &AppState, tag: &str) -> Result<Parts, Problem> {
        let found = state.store.find_loop(tag).await?;
        let steps = state.store.record_info(self.record_id).await?.preparation;
        let prepared = state.prepared(self.record_id, &steps).await?;
        // The structure does not matter for the signals.
        let options = FitOptions { disturbances: self.disturbances.clone(), ..FitOptions::new(Structure::Fopdt) };
        let data = data_set(&prepared.record, &found.pv.span.unit, &options)?;
        Ok(self.windows.cut(&data, prepared.start)?)
    }
}

/// Orders to be tried.
#[derive(Debug, Deserialize, ToSchema)]
struct OrdersRequest {
    /// The data.
    #[serde(flatten)]
    stretch: Stretch,
    /// The highest orders.
    search: OrderSearch,
}

/// All ARX models up to the given orders, compared: the 40 best by BIC.
#[utoipa::path(post, path = "/api/v1/loops/{tag}/orders", tag = "models",
    params(("tag" = String, Path, description = "Tag of the loop")), request_body = OrdersRequest,
    responses((status = 200, body = Vec<OrderChoice>), (status = 404, body = Problem), (status = 422, body = Problem)))]
async fn try_orders(
    State(state): State<AppState>,
    Path(tag): Path<String>,
    Body(request): Body<OrdersRequest>,
) -> Result<Json<Vec<OrderChoice>>, Problem> {
    let parts = request.stretch.parts(&state, &tag).await?;
    compute(move || {
        let other = parts.validation.as_ref().map(|part| &part.data);
        let mut found = search_orders(&parts.estimation.data, other, &request.search)?;
        found.truncate(SHOWN_ORDERS);
        Ok(Json(found))
    })
    .await?
}

/// What is estimated without a structure.
#[derive(Debug, Deserialize, ToSchema)]
struct NonparametricRequest {
    /// The data.
    #[serde(flatten)]
    stretch: Stretch,
    /// Horizon and smoothing.
    #[serde(default)]
    options: NonparametricOptions,
}

/// Step and frequency response of the PV to the OP without a structure, with bands.
#[utoipa::path(post, path = "/api/v1/loops/{tag}/nonparametric", tag = "models",
    params(("tag" = String, Path, description = "Tag of the loop")), request_body = NonparametricRequest,
    responses((status = 200, body = Nonparametric), (status = 404, body = Problem), (status = 422, body = Problem)))]
async fn without_structure(
    State(state): State<AppState>,
    Path(tag): Path<String>,
    Body(request): Body<NonparametricRequest>,
) -> Result<Json<Nonparametric>, Problem> {
    let parts = request.stretch.parts(&state, &tag).await?;
    compute(move || Ok(Json(nonparametric(&parts.estimation.data, &request.options)?))).await?
}

/// How parameters are followed.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(tag = "kind", rename_all = "snake_case")]
enum Following {
    /// Recursive least squares on an ARX model.
    RecursiveLeastSquares(RecursiveOptions),
    /// First order in a sliding window, with bounds.
    MovingHorizon(MovingHorizonOptions),
}

/// Parameters over time are asked for.
#[derive(Debug, Deserialize, ToSchema)]
struct OverTimeRequest {
    /// The data.
    #[serde(flatten)]
    stretch: Stretch,
    /// The method.
    method: Following,
}

/// Parameters over time with their bands, next to the prediction. Times are those of the untouched record.
#[utoipa::path(post, path = "/api/v1/loops/{tag}/over-time", tag = "models",
    params(("tag" = String, Path, description = "Tag of the loop")), request_body = OverTimeRequest,
    responses((status = 200, body = Courses), (status = 404, body = Problem), (status = 422, body = Problem)))]
async fn over_time(
    State(state): State<AppState>,
    Path(tag): Path<String>,
    Body(request): Body<OverTimeRequest>,
) -> Result<Json<Courses>, Problem> {
    let parts = request.stretch.parts(&state, &tag).await?;
    compute(move || {
        let mut courses = match &request.method {
            Following::RecursiveLeastSquares(options) => recursive(&parts.estimation.data, options)?,
            Following::MovingHorizon(options) => moving_horizon(&parts.estimation.data, options)?,
        };
        courses.times.iter_mut().for_each(|time| *time += parts.estimation.window.0);
        Ok(Json(courses))
    })
    .await?
}
