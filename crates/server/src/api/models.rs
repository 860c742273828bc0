//! Models from records.

use super::lists::{InPart, PartOfList};
use super::records::{View, picked};
use super::{annotation, name_of};
use crate::fitting::{Fit, IdentifyRequest, data_set};
use crate::gate::compute;
use crate::problem::{Body, Path, Problem, Query};
use crate::revision::{IfMatch, Revised};
use crate::state::AppState;
use antistasis_core::identification::{
    DataSet, FitOptions, Model, Reduction, ReductionMethod, Structure, StructureOffer, Validation, reduce, validate,
};
use antistasis_core::preparation::Prepared;
use antistasis_core::series::Record;
use antistasis_store::{BinItem, DeletionKind, Error, ModelRow, NewModel};
use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;
use uuid::Uuid;

pub(super) fn router() -> OpenApiRouter<AppState> {
    OpenApiRouter::new()
        .routes(routes!(list_structures))
        .routes(routes!(fit_model))
        .routes(routes!(list_models))
        .routes(routes!(change_model, delete_model))
        .routes(routes!(choose_model, choose_none))
        .routes(routes!(reduce_model))
        .routes(routes!(model_curve))
}

/// All structures that can be fitted, with orders to begin with and the range of each.
#[utoipa::path(get, path = "/api/v1/structures", tag = "models", responses((status = 200, body = Vec<StructureOffer>)))]
async fn list_structures() -> Json<Vec<StructureOffer>> {
    Json(Structure::offers())
}

/// Fits a model to a record, holds it against data that the fit has not seen, and keeps it. Choosing it is a step of its own.
#[utoipa::path(post, path = "/api/v1/loops/{tag}/models", tag = "models",
    params(("tag" = String, Path, description = "Tag of the loop")), request_body = IdentifyRequest,
    responses((status = 201, body = ModelRow), (status = 404, body = Problem), (status = 422, body = Problem)))]
async fn fit_model(
    State(state): State<AppState>,
    Path(tag): Path<String>,
    Body(mut request): Body<IdentifyRequest>,
) -> Result<(StatusCode, Json<ModelRow>), Problem> {
    let found = state.store.find_loop(&tag).await?;
    let fit = Fit::new(&state, &found, &mut request).await?;
    let (fit, fitted) = compute(move || fit.identified(&request)).await??;
    Ok((StatusCode::CREATED, Json(fit.keep(&state, fitted).await?)))
}

/// The signals of a model, out of a record.
pub(super) fn data_of_model(record: &Record, row: &ModelRow) -> Result<DataSet, Problem> {
    let data = data_set(record, row.model.output_unit(), &row.options)?;
    Ok(data.named(&row.model.inputs[0].tag, &row.model.outputs[0].tag))
}

/// The newest models of a loop, and besides, however old, the chosen one and those that trials stand on. The header
/// `X-Total-Count` tells how many there are in all.
#[utoipa::path(get, path = "/api/v1/loops/{tag}/models", tag = "models",
    params(("tag" = String, Path, description = "Tag of the loop"), PartOfList),
    responses((status = 200, body = Vec<ModelRow>, headers(("X-Total-Count" = i64, description = "Models in all"),
            ("X-Unreadable-Count" = i64, description = "Rows of this part that this version cannot read"))),
        (status = 404, body = Problem), (status = 422, body = Problem)))]
async fn list_models(
    State(state): State<AppState>,
    Path(tag): Path<String>,
    Query(part): Query<PartOfList>,
) -> Result<InPart<ModelRow>, Problem> {
    let part = part.checked()?;
    let found = state.store.find_loop(&tag).await?;
    Ok(InPart::from(state.store.newest_models(found.id, part).await?))
}

/// Why a model is chosen.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
struct Choice {
    /// The reason, in the words of the engineer; at most 1000 characters.
    #[serde(default)]
    reason: String,
}

/// Makes a model the one that Control works with, and keeps the reason.
#[utoipa::path(put, path = "/api/v1/models/{id}/chosen", tag = "models",
    params(("id" = Uuid, Path, description = "Identifier of the model")), request_body = Choice,
    responses((status = 200, body = ModelRow), (status = 404, body = Problem), (status = 422, body = Problem)))]
async fn choose_model(
    State(state): State<AppState>,
    Path(id): Path<Uuid>,
    Body(choice): Body<Choice>,
) -> Result<Json<ModelRow>, Problem> {
    let reason = choice.reason.trim();
    if reason.chars().count() > 1000 {
        return Err(Problem::invalid(format!(
            "The reason has {} characters: at most 1000 are kept.",
            reason.chars().count()
        )));
    }
    state.store.choose_model(id, reason).await?;
    Ok(Json(state.store.model(id).await?))
}

/// Takes the mark of the chosen one off a model.
#[utoipa::path(delete, path = "/api/v1/models/{id}/chosen", tag = "models",
    params(("id" = Uuid, Path, description = "Identifier of the model")),
    responses((status = 200, body = ModelRow), (status = 404, body = Problem)))]
async fn choose_none(State(state): State<AppState>, Path(id): Path<Uuid>) -> Result<Json<ModelRow>, Problem> {
    state.store.choose_no_model(id).await?;
    Ok(Json(state.store.model(id).await?))
}

/// What a model is called.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
struct ModelChange {
    /// A name besides its letter and structure, at most 80 characters; may be empty.
    #[serde(default)]
    name: String,
    /// What there is to say about it.
    #[serde(default)]
    remark: String,
}

/// Names and annotates a model.
#[utoipa::path(put, path = "/api/v1/models/{id}", tag = "models",
    params(("id" = Uuid, Path, description = "Identifier of the model"), ("If-Match" = String, Header, description = "Revision that is changed")),
    request_body = ModelChange,
    responses((status = 200, body = ModelRow), (status = 404, body = Problem), (status = 412, body = Problem),
        (status = 422, body = Problem), (status = 428, body = Problem)))]
async fn change_model(
    State(state): State<AppState>,
    Path(id): Path<Uuid>,
    IfMatch(expected): IfMatch,
    Body(change): Body<ModelChange>,
) -> Result<Revised<ModelRow>, Problem> {
    let name = if change.name.trim().is_empty() { String::new() } else { name_of("name", &change.name, 80)? };
    let done = state.store.set_model(id, expected, &name, annotation("remark", &change.remark)?).await;
    let row = state.store.model(id).await?;
    if let Err(Error::Changed) = done {
        return Err(Problem::changed("the model", expected, row.revision, &row));
    }
    done?;
    Ok(Revised(row.revision, row))
}

/// Puts a model into the bin; trials on it keep their process.
#[utoipa::path(delete, path = "/api/v1/models/{id}", tag = "models",
    params(("id" = Uuid, Path, description = "Identifier of the model")),
    responses((status = 200, body = BinItem), (status = 404, body = Problem)))]
async fn delete_model(State(state): State<AppState>, Path(id): Path<Uuid>) -> Result<Json<BinItem>, Problem> {
    Ok(Json(state.store.delete(DeletionKind::Model, id).await?))
}

/// How a model is reduced.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
struct ReduceRequest {
    /// The structure to be had.
    structure: Structure,
    /// The method.
    method: ReductionMethod,
    /// Whether the reduced model is kept in the trail.
    #[serde(default)]
    keep: bool,
}

/// A reduction, and the model in the trail where it is kept.
#[derive(Debug, Serialize, ToSchema)]
struct ReducedModel {
    /// What was reduced, and the error.
    reduction: Reduction,
    /// The model in the trail.
    kept: Option<ModelRow>,
}

/// Reduces the way from the OP to the PV to a structure with dead time.
#[utoipa::path(post, path = "/api/v1/models/{id}/reduction", tag = "models",
    params(("id" = Uuid, Path, description = "Identifier of the model")), request_body = ReduceRequest,
    responses((status = 200, body = ReducedModel), (status = 404, body = Problem), (status = 422, body = Problem)))]
async fn reduce_model(
    State(state): State<AppState>,
    Path(id): Path<Uuid>,
    Body(request): Body<ReduceRequest>,
) -> Result<Json<ReducedModel>, Problem> {
    let row = state.store.model(id).await?;
    let (loop_id, source) = (state.store.loop_of_model(id).await?, row.clone());
    let mut reduction = compute(move || reduce(&row.model, request.structure, request.method)).await??;
    let mut kept = None;
    if request.keep {
        // It is held against the same data as the one that it came from.
        let prepared = state.prepared(source.record_id, &source.preparation).await?;
        let model = reduction.model.clone();
        let windows = source.clone();
        let (model, validation) = compute(move || judged_anew(model, &prepared, &windows)).await??;
        reduction.model = model;
        let options = FitOptions::new(request.structure);
        let record_hash = state.store.record_info(source.record_id).await?.content_hash;
        let window = source.validation_from.zip(source.validation_to);
        let new = NewModel {
            record_id: source.record_id,
            record_hash: &record_hash,
            preparation: &source.preparation,
            window: (source.window_from, source.window_to),
            further: &[],
            options: &options,
            model: &reduction.model,
            validation: window.zip(validation.as_ref()),
            reduced_from: Some(id),
        };
        let id = state.store.add_model(loop_id, new).await?;
        kept = Some(state.store.model(id).await?);
    }
    Ok(Json(ReducedModel { reduction, kept }))
}

/// The performance of a reduced model in the windows of the one it came from.
fn judged_anew(
    mut model: Model,
    prepared: &Prepared,
    source: &ModelRow,
) -> Result<(Model, Option<Validation>), Problem> {
    let unit = source.model.output_unit();
    let data = DataSet::of_record(&prepared.record, unit, &[], &[])?;
    model.estimation =
        validate(&model, &data.slice(prepared.window(source.window_from, source.window_to)), true)?.performance;
    let validation = match source.validation_from.zip(source.validation_to) {
        Some((from, to)) => Some(validate(&model, &data.slice(prepared.window(from, to)), false)?),
        None => None,
    };
    Ok((model, validation))
}

/// Which output of a model is asked for.
#[derive(Debug, Deserialize, IntoParams)]
pub(super) struct OfOutput {
    /// Tag of the output; the PV where left out.
    pub output: Option<String>,
}

impl OfOutput {
    /// The position of the output in the model.
    pub fn position(&self, model: &Model) -> Result<usize, Problem> {
        let Some(tag) = &self.output else { return Ok(0) };
        model.outputs.iter().position(|output| output.tag == *tag).ok_or_else(|| {
            let known: Vec<&str> = model.outputs.iter().map(|output| output.tag.as_str()).collect();
            Problem::invalid_field("output", format!("The model has no output {tag}; it has {}.", known.join(", ")))
        })
    }
}

/// A model over the whole record, for drawing.
#[derive(Debug, Serialize, ToSchema)]
struct Curve {
    /// Times in s from the start of the untouched record.
    times: Vec<f64>,
    /// The output that is shown.
    output: ShownOutput,
    /// OP as recorded, in its unit.
    input: Vec<Option<f64>>,
    /// Measured disturbances that are inputs of the model.
    disturbances: Vec<ShownSeries>,
    /// The output as recorded, in its unit.
    measured: Vec<Option<f64>>,
    /// The output as the model simulates it, in each window from a start of its own; null outside its windows.
    modelled: Vec<Option<f64>>,
    /// Measured minus simulated.
    residual: Vec<Option<f64>>,
}

/// The output that a curve shows.
#[derive(Debug, Serialize, ToSchema)]
struct ShownOutput {
    /// Its tag.
    tag: String,
    /// Its unit.
    unit: String,
}

/// A further signal of a curve.
#[derive(Debug, Serialize, ToSchema)]
struct ShownSeries {
    /// Its tag.
    tag: String,
    /// Its unit.
    unit: String,
    /// One value a time.
    values: Vec<Option<f64>>,
}

/// Which of the records of a model is asked for.
#[derive(Debug, Deserialize, IntoParams)]
struct OfRecord {
    /// The record; the first one where left out.
    record: Option<Uuid>,
}

/// A model over the data of a record that it was fitted to and held against, decimated like samples.
#[utoipa::path(get, path = "/api/v1/models/{id}/curve", tag = "models",
    params(("id" = Uuid, Path, description = "Identifier of the model"), View, OfOutput, OfRecord),
    responses((status = 200, body = Curve), (status = 404, body = Problem), (status = 422, body = Problem)))]
async fn model_curve(
    State(state): State<AppState>,
    Path(id): Path<Uuid>,
    Query(view): Query<View>,
    Query(of): Query<OfOutput>,
    Query(in_record): Query<OfRecord>,
) -> Result<Json<Curve>, Problem> {
    let row = state.store.model(id).await?;
    let record = in_record.record.unwrap_or(row.record_id);
    let Some(windows) = windows_in(&row, record) else {
        let name = state.store.record_info(record).await?.name;
        return Err(Problem::invalid_field("record", format!("The model was not fitted to “{name}”.")));
    };
    let preparation = row.further.iter().find(|window| window.record_id == record).map(|window| &window.preparation);
    let preparation = preparation.filter(|_| record != row.record_id).unwrap_or(&row.preparation);
    let prepared = state.prepared(record, preparation).await?;
    compute(move || {
        let data = data_of_model(&prepared.record, &row)?;
        let output = of.position(&row.model)?;
        let mut modelled = vec![f64::NAN; prepared.record.axis.len()];
        for Shown { from, to, stretch } in windows {
            let range = prepared.window(from, to);
            let part = data.slice(range.clone());
            let own = row.model.in_stretch(stretch.unwrap_or(0));
            let simulated = simulated(&own, &part, stretch.is_some() && row.reduced_from.is_none(), output)?;
            modelled[range].copy_from_slice(&simulated);
        }
        let measured = &data.outputs[output];
        let pairs = measured.values.iter().zip(&modelled);
        let residual: Vec<f64> = pairs.map(|(measured, model)| measured - model).collect();
        let start = prepared.start;
        let own = View { from: view.from.map(|t| t - start), to: view.to.map(|t| t - start), buckets: view.buckets };
        let mut series: Vec<&[f64]> = vec![&measured.values, &modelled, &residual];
        series.extend(data.inputs.iter().map(|input| input.values.as_slice()));
        let indices = own.indices(&prepared.record, &series)?;
        let disturbances = data.inputs.iter().skip(1).map(|input| ShownSeries {
            tag: input.tag.clone(),
            unit: input.unit.clone(),
            values: picked(&input.values, &indices),
        });
        Ok(Json(Curve {
            times: indices.iter().map(|k| prepared.time(*k)).collect(),
            output: ShownOutput { tag: measured.tag.clone(), unit: measured.unit.clone() },
            input: picked(&data.inputs[0].values, &indices),
            disturbances: disturbances.collect(),
            measured: picked(&measured.values, &indices),
            modelled: picked(&modelled, &indices),
            residual: picked(&residual, &indices),
        }))
    })
    .await?
}

/// A window of a curve, and which stretch of the fit it is; validation is none.
struct Shown {
    from: f64,
    to: f64,
    stretch: Option<usize>,
}

/// The windows of a model in a record; none where it has nothing to do with it.
fn windows_in(row: &ModelRow, record: Uuid) -> Option<Vec<Shown>> {
    let mut windows = Vec::new();
    if row.record_id == record {
        windows.push(Shown { from: row.window_from, to: row.window_to, stretch: Some(0) });
        let validation = row.validation_from.zip(row.validation_to);
        windows.extend(validation.map(|(from, to)| Shown { from, to, stretch: None }));
    }
    let further = row.further.iter().enumerate().filter(|(_, window)| window.record_id == record);
    windows.extend(further.map(|(k, window)| Shown { from: window.from, to: window.to, stretch: Some(k + 1) }));
    (!windows.is_empty()).then_some(windows)
}

/// An output as it is simulated; in the data of the fit with what the fit found of their start and drift.
fn simulated(model: &Model, data: &DataSet, own: bool, output: usize) -> Result<Vec<f64>, Problem> {
    if model.is_matrix() {
        let row = model.of_output(output)?;
        return simulated(row, &row.own_data(data), own, 0);
    }
    if own && model.structure.is_process() {
        let inputs: Vec<&[f64]> = data.inputs.iter().map(|series| series.values.as_slice()).collect();
        return Ok(model.simulate(&data.axis, &inputs)?);
    }
    Ok(model.simulate_on(data)?.swap_remove(output))
}
