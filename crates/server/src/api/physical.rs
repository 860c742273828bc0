//! Physical models: what one begins with, what data can tell before they are fitted, the balances at rest and over time.

use super::models::data_of_model;
use crate::fitting::{CutStretches, IdentifyRequest, stretches_of};
use crate::gate::compute;
use crate::problem::{Body, Path, Problem, Query};
use crate::state::AppState;
use antistasis_core::identification::{
    BalanceOverTime, FitOptions, PhysicalOptions, SteadyCheck, Structure, Telling, Tracked, TrackingOptions,
    ValidationWindow, Windows, balances, steady_check, telling, track,
};
use antistasis_core::process::{Description, DetailedSpec};
use axum::Json;
use axum::extract::State;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;
use uuid::Uuid;

pub(super) fn router() -> OpenApiRouter<AppState> {
    OpenApiRouter::new()
        .routes(routes!(begin_physical))
        .routes(routes!(tell))
        .routes(routes!(check_at_rest))
        .routes(routes!(balances_of_model))
        .routes(routes!(track_model))
}

/// What a physical model is to be of.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
struct BeginPhysicalRequest {
    /// The record; its preparation is applied.
    record_id: Uuid,
    /// The process: one of the library, or equations of one's own.
    process: DetailedSpec,
}

/// What a physical model begins with.
#[derive(Debug, Serialize, ToSchema)]
struct PhysicalBeginning {
    /// The process with the channels of the record where names and units tell which is which; nothing is sought yet.
    options: PhysicalOptions,
    /// The names, units and ranges of the process, its parameters with the values that they have.
    description: Description,
}

/// What a physical model begins with on a record: which channel is likely to be which signal.
#[utoipa::path(post, path = "/api/v1/loops/{tag}/models/physical", tag = "models",
    params(("tag" = String, Path, description = "Tag of the loop")), request_body = BeginPhysicalRequest,
    responses((status = 200, body = PhysicalBeginning), (status = 404, body = Problem), (status = 422, body = Problem)))]
async fn begin_physical(
    State(state): State<AppState>,
    Path(tag): Path<String>,
    Body(request): Body<BeginPhysicalRequest>,
) -> Result<Json<PhysicalBeginning>, Problem> {
    let found = state.store.find_loop(&tag).await?;
    let info = state.store.record_info(request.record_id).await?;
    let prepared = state.prepared(request.record_id, &info.preparation).await?;
    compute(move || {
        let options = PhysicalOptions::begin(request.process, &prepared.record, &found.pv.span.unit)?;
        let description = options.described()?;
        Ok(Json(PhysicalBeginning { options, description }))
    })
    .await?
}

/// What a record can tell of what is sought, before anything is fitted: expected errors, and what only shows up together.
#[utoipa::path(post, path = "/api/v1/loops/{tag}/models/telling", tag = "models",
    params(("tag" = String, Path, description = "Tag of the loop")), request_body = IdentifyRequest,
    responses((status = 200, body = Telling), (status = 404, body = Problem), (status = 422, body = Problem)))]
async fn tell(
    State(state): State<AppState>,
    Path(tag): Path<String>,
    Body(mut request): Body<IdentifyRequest>,
) -> Result<Json<Telling>, Problem> {
    let found = state.store.find_loop(&tag).await?;
    let stretches = stretches_of(&state, &found, &mut request).await?;
    compute(move || {
        let CutStretches { parts, further, .. } = stretches.cut(&request)?;
        let all: Vec<_> = std::iter::once(parts.estimation.data).chain(further).collect();
        Ok(Json(telling(&all, physical_of(&request.options)?)?))
    })
    .await?
}

fn physical_of(options: &FitOptions) -> Result<&PhysicalOptions, Problem> {
    options.physical.as_deref().filter(|_| options.structure == Structure::Physical).ok_or_else(|| {
        Problem::invalid_field(
            "options.physical",
            "Only a physical model has numbers that are sought: choose a process.",
        )
    })
}

/// A check at rest.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
struct SteadyRequest {
    /// The fit: record, window and process.
    fit: IdentifyRequest,
    /// Name of the parameter that the balances at rest are to give.
    parameter: String,
}

/// What the steady stretches of a record imply for a parameter without any fit.
#[utoipa::path(post, path = "/api/v1/loops/{tag}/models/steady", tag = "models",
    params(("tag" = String, Path, description = "Tag of the loop")), request_body = SteadyRequest,
    responses((status = 200, body = SteadyCheck), (status = 404, body = Problem), (status = 422, body = Problem)))]
async fn check_at_rest(
    State(state): State<AppState>,
    Path(tag): Path<String>,
    Body(mut request): Body<SteadyRequest>,
) -> Result<Json<SteadyCheck>, Problem> {
    let found = state.store.find_loop(&tag).await?;
    let stretches = stretches_of(&state, &found, &mut request.fit).await?;
    // At rest there is nothing to be held back for.
    request.fit.windows.validation = ValidationWindow::None;
    compute(move || {
        let part = stretches.cut(&request.fit)?.parts.estimation;
        let (data, start) = (part.data, part.window.0);
        let mut check = steady_check(&data, physical_of(&request.fit.options)?, &request.parameter)?;
        for own in &mut check.stretches {
            (own.from, own.to) = (own.from + start, own.to + start);
        }
        Ok(Json(check))
    })
    .await?
}

/// Which stretch of a model is asked for.
#[derive(Debug, Deserialize, IntoParams)]
struct OfStretch {
    /// Number of the stretch that it was fitted to, from 0; the first where left out.
    stretch: Option<usize>,
}

/// Balances of a stretch, with its place in the record.
#[derive(Debug, Serialize, ToSchema)]
struct StretchBalances {
    /// Start of the stretch in s from the start of the untouched record; times of the balances count from here.
    from: f64,
    /// The balances.
    balances: Vec<BalanceOverTime>,
}

/// The balances of a physical model over the data that it was fitted to: where what is conserved came from and went, and what is
/// left over.
#[utoipa::path(get, path = "/api/v1/models/{id}/balances", tag = "models",
    params(("id" = Uuid, Path, description = "Identifier of the model"), OfStretch),
    responses((status = 200, body = StretchBalances), (status = 404, body = Problem), (status = 422, body = Problem)))]
async fn balances_of_model(
    State(state): State<AppState>,
    Path(id): Path<Uuid>,
    Query(of): Query<OfStretch>,
) -> Result<Json<StretchBalances>, Problem> {
    let row = state.store.model(id).await?;
    let stretch = of.stretch.unwrap_or(0);
    let window = match stretch.checked_sub(1) {
        None => Some((row.record_id, row.preparation.clone(), row.window_from, row.window_to)),
        Some(k) => row.further.get(k).map(|own| (own.record_id, own.preparation.clone(), own.from, own.to)),
    };
    let Some((record, preparation, from, to)) = window else {
        let text = format!("The model was fitted to {} stretches, counted from 0.", row.further.len() + 1);
        return Err(Problem::invalid_field("stretch", text));
    };
    let prepared = state.prepared(record, &preparation).await?;
    compute(move || {
        let data = data_of_model(&prepared.record, &row)?.slice(prepared.window(from, to));
        Ok(Json(StretchBalances { from, balances: balances(&row.model, &data)? }))
    })
    .await?
}

/// Instants of a replay that an answer shows, at most; the test is that of all samples.
const MOST_INSTANTS: usize = 1000;

/// A replay of a physical model along a record.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
struct TrackingRequest {
    /// The record, its preparation applied; the one that the model was fitted to where left out.
    record_id: Option<Uuid>,
    /// Start of the stretch in s from the start of the untouched record; the first sample where left out.
    from: Option<f64>,
    /// Its end; the last sample where left out.
    to: Option<f64>,
    /// How the estimate is led along.
    #[serde(default)]
    options: TrackingOptions,
}

/// A replay, with its place in the record.
#[derive(Debug, Serialize, ToSchema)]
struct TrackedRecord {
    /// The record.
    record_id: Uuid,
    /// Start of the stretch in s from the start of the untouched record; times of the replay count from here.
    from: f64,
    /// The replay, at no more than 1000 instants.
    tracked: Tracked,
}

/// Leads a physical model along a record: what is not measured, and numbers that drift, estimated sample by sample from what had been
/// measured until then, with bands and the test that says when not to believe them.
#[utoipa::path(post, path = "/api/v1/models/{id}/tracking", tag = "models",
    params(("id" = Uuid, Path, description = "Identifier of the model")), request_body = TrackingRequest,
    responses((status = 200, body = TrackedRecord), (status = 404, body = Problem), (status = 422, body = Problem)))]
async fn track_model(
    State(state): State<AppState>,
    Path(id): Path<Uuid>,
    Body(request): Body<TrackingRequest>,
) -> Result<Json<TrackedRecord>, Problem> {
    let row = state.store.model(id).await?;
    let record_id = request.record_id.unwrap_or(row.record_id);
    let info = state.store.record_info(record_id).await?;
    let prepared = state.prepared(record_id, &info.preparation).await?;
    compute(move || {
        let data = data_of_model(&prepared.record, &row)?;
        let windows = Windows { from: request.from, to: request.to, validation: ValidationWindow::None };
        let cut = windows.cut(&data, prepared.start)?.estimation;
        let of_options = |error: antistasis_core::Error| error.within("options.", "");
        let tracked = track(&row.model, &cut.data, &request.options).map_err(of_options)?;
        Ok(Json(TrackedRecord { record_id, from: cut.window.0, tracked: tracked.thinned(MOST_INSTANTS) }))
    })
    .await?
}
