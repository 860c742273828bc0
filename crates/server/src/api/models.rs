//! Models from records.

use super::records::{View, picked};
use crate::problem::{Body, Path, Problem, Query};
use crate::state::{AppState, compute};
use antistasis_core::identification::{DataSet, FopdtModel, fit_fopdt};
use antistasis_core::series::{Channel, Record, Role, TimeAxis};
use antistasis_store::{ModelRow, NewModel};
use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;
use uuid::Uuid;

pub(super) fn router() -> OpenApiRouter<AppState> {
    OpenApiRouter::new()
        .routes(routes!(identify))
        .routes(routes!(list_models))
        .routes(routes!(choose_model))
        .routes(routes!(model_curve))
}

/// What a model is fitted to.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
struct IdentifyRequest {
    /// The record; it must have a PV and an OP.
    record_id: Uuid,
    /// Start of the window in s from the start of the record; null for the start.
    from: Option<f64>,
    /// End of the window in s from the start of the record; null for the end.
    to: Option<f64>,
}

/// A window of a record with the two signals that a fit needs, in the units of the loop.
struct Window {
    axis: TimeAxis,
    range: std::ops::Range<usize>,
    pv: Vec<f64>,
    op: Vec<f64>,
}

/// The unit of every controller output.
const OP_UNIT: &str = "%";

impl Window {
    fn of(record: &Record, pv_unit: &str, from: Option<f64>, to: Option<f64>) -> Result<Self, Problem> {
        let range = record.axis.window(from.unwrap_or(0.0), to.unwrap_or(f64::MAX));
        let values = |role, unit| -> Result<Vec<f64>, Problem> {
            Ok(signal(record, role)?.values_in(unit)?[range.clone()].to_vec())
        };
        let (pv, op) = (values(Role::Pv, pv_unit)?, values(Role::Op, OP_UNIT)?);
        Ok(Self { axis: record.axis.slice(range.clone()), range, pv, op })
    }

    fn fit(&self, pv_unit: &str) -> Result<FopdtModel, Problem> {
        Ok(fit_fopdt(DataSet {
            axis: &self.axis,
            input: &self.op,
            output: &self.pv,
            input_unit: OP_UNIT,
            output_unit: pv_unit,
        })?)
    }
}

fn signal(record: &Record, role: Role) -> Result<&Channel, Problem> {
    let name = if role == Role::Pv { "PV" } else { "OP" };
    record.channel(role).ok_or_else(|| Problem::invalid(format!("the record has no {name}: import it with one")))
}

/// Fits a first-order-plus-dead-time model to a record, keeps it, and makes it the chosen one.
#[utoipa::path(post, path = "/api/v1/loops/{tag}/models", tag = "models",
    params(("tag" = String, Path, description = "Tag of the loop")), request_body = IdentifyRequest,
    responses((status = 201, body = ModelRow), (status = 404, body = Problem), (status = 422, body = Problem)))]
async fn identify(
    State(state): State<AppState>,
    Path(tag): Path<String>,
    Body(request): Body<IdentifyRequest>,
) -> Result<(StatusCode, Json<ModelRow>), Problem> {
    let found = state.store.find_loop(&tag).await?;
    let loop_id = found.id;
    let info = state.store.record_info(request.record_id).await?;
    let record = state.record(request.record_id).await?;
    let (model, from, to) = compute(move || {
        let pv_unit = &found.pv.span.unit;
        let window = Window::of(&record, pv_unit, request.from, request.to)?;
        let model = window.fit(pv_unit)?;
        let range = &window.range;
        Ok::<_, Problem>((model, record.axis.at(range.start), record.axis.at(range.end - 1)))
    })
    .await??;
    let new = NewModel { record_id: info.id, record_hash: &info.content_hash, window: (from, to), model: &model };
    let id = state.store.add_model(loop_id, new).await?;
    Ok((StatusCode::CREATED, Json(state.store.model(id).await?)))
}

/// The models of a loop, the newest first.
#[utoipa::path(get, path = "/api/v1/loops/{tag}/models", tag = "models",
    params(("tag" = String, Path, description = "Tag of the loop")),
    responses((status = 200, body = Vec<ModelRow>), (status = 404, body = Problem)))]
async fn list_models(State(state): State<AppState>, Path(tag): Path<String>) -> Result<Json<Vec<ModelRow>>, Problem> {
    let found = state.store.find_loop(&tag).await?;
    Ok(Json(state.store.models(found.id).await?))
}

/// Makes a model the one that Control works with.
#[utoipa::path(put, path = "/api/v1/models/{id}/chosen", tag = "models",
    params(("id" = Uuid, Path, description = "Identifier of the model")),
    responses((status = 200, body = ModelRow), (status = 404, body = Problem)))]
async fn choose_model(State(state): State<AppState>, Path(id): Path<Uuid>) -> Result<Json<ModelRow>, Problem> {
    state.store.choose_model(id).await?;
    Ok(Json(state.store.model(id).await?))
}

/// A model over its data, for drawing.
#[derive(Debug, Serialize, ToSchema)]
struct Curve {
    /// Times in s from the start of the record.
    times: Vec<f64>,
    /// OP as recorded, in its unit.
    input: Vec<Option<f64>>,
    /// PV as recorded, in its unit.
    measured: Vec<Option<f64>>,
    /// PV as the model has it.
    modelled: Vec<Option<f64>>,
    /// Measured minus modelled.
    residual: Vec<Option<f64>>,
}

/// A model over the data that it was fitted to, decimated like samples.
#[utoipa::path(get, path = "/api/v1/models/{id}/curve", tag = "models",
    params(("id" = Uuid, Path, description = "Identifier of the model"), View),
    responses((status = 200, body = Curve), (status = 404, body = Problem), (status = 422, body = Problem)))]
async fn model_curve(
    State(state): State<AppState>,
    Path(id): Path<Uuid>,
    Query(view): Query<View>,
) -> Result<Json<Curve>, Problem> {
    let row = state.store.model(id).await?;
    let record = state.record(row.record_id).await?;
    compute(move || {
        let pv_unit = row.model.output_unit();
        let window = Window::of(&record, pv_unit, Some(row.window_from), Some(row.window_to))?;
        let modelled = row.model.simulate(&window.axis, &window.op)?;
        let residual: Vec<f64> = window.pv.iter().zip(&modelled).map(|(measured, model)| measured - model).collect();
        let channels = [window.pv.as_slice(), &modelled, &residual, &window.op];
        let part = Record { axis: window.axis.clone(), channels: Vec::new() };
        let shift = |time: Option<f64>| time.map(|time| time - row.window_from);
        let inner = View { from: shift(view.from), to: shift(view.to), buckets: view.buckets };
        let indices = inner.indices(&part, &channels)?;
        Ok(Json(Curve {
            times: indices.iter().map(|k| record.axis.at(window.range.start + k)).collect(),
            input: picked(&window.op, &indices),
            measured: picked(&window.pv, &indices),
            modelled: picked(&modelled, &indices),
            residual: picked(&residual, &indices),
        }))
    })
    .await?
}
