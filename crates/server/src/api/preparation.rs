//! What is laid over a record, what is to be thought of it, and the way out into a file.

use crate::download::{attachment, content};
use crate::gate::compute;
use crate::problem::{Body, Path, Problem, Query};
use crate::revision::{IfMatch, Revised};
use crate::state::AppState;
use antistasis_core::assessment::{Inspection, inspect_prepared};
use antistasis_core::identification::{DataSet, HandReading, Marks, read_by_hand, suggested_marks};
use antistasis_core::preparation::{Prepared, Step};
use antistasis_exchange::Format;
use antistasis_store::{Error, LoopDetail};
use axum::Json;
use axum::extract::State;
use axum::response::Response;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;
use uuid::Uuid;

pub(super) fn router() -> OpenApiRouter<AppState> {
    OpenApiRouter::new()
        .routes(routes!(show_preparation, set_preparation))
        .routes(routes!(inspect_record))
        .routes(routes!(read_record))
        .routes(routes!(record_file))
}

/// Steps and what they did.
#[derive(Debug, Serialize, ToSchema)]
struct Applied {
    /// The steps, in their order.
    steps: Vec<Step>,
    /// What each did, a sentence each; null for a step that is off.
    notes: Vec<Option<String>>,
    /// Start of what is left, in s of the untouched record.
    start: f64,
    /// Length of what is left in s.
    duration: f64,
    /// Samples that are left.
    samples: usize,
    /// The revision of the record with these steps.
    revision: i64,
}

impl Applied {
    fn of(prepared: &Prepared, steps: Vec<Step>, revision: i64) -> Self {
        Self {
            steps,
            notes: prepared.notes.clone(),
            start: prepared.start,
            duration: prepared.record.axis.duration(),
            samples: prepared.record.axis.len(),
            revision,
        }
    }
}

/// The steps that lie over a record, and what each did.
#[utoipa::path(get, path = "/api/v1/records/{id}/preparation", tag = "records",
    params(("id" = Uuid, Path, description = "Identifier of the record")),
    responses((status = 200, body = Applied), (status = 404, body = Problem), (status = 422, body = Problem)))]
async fn show_preparation(State(state): State<AppState>, Path(id): Path<Uuid>) -> Result<Revised<Applied>, Problem> {
    let info = state.store.record_info(id).await?;
    let prepared = state.prepared(id, &info.preparation).await?;
    Ok(Revised(info.revision, Applied::of(&prepared, info.preparation, info.revision)))
}

/// Lays steps over a record, in place of those that lay there. The record itself stays as it is; when a step cannot be
/// done, so do the
/// steps.
#[utoipa::path(put, path = "/api/v1/records/{id}/preparation", tag = "records",
    params(("id" = Uuid, Path, description = "Identifier of the record"), ("If-Match" = String, Header, description = "Revision of the record that is changed")),
    request_body = Vec<Step>,
    responses((status = 200, body = Applied), (status = 404, body = Problem), (status = 412, body = Problem),
        (status = 422, body = Problem), (status = 428, body = Problem)))]
async fn set_preparation(
    State(state): State<AppState>,
    Path(id): Path<Uuid>,
    IfMatch(expected): IfMatch,
    Body(steps): Body<Vec<Step>>,
) -> Result<Revised<Applied>, Problem> {
    let prepared = state.prepared(id, &steps).await?;
    let done = state.store.set_preparation(id, expected, &steps).await;
    let info = state.store.record_info(id).await?;
    if let Err(Error::Changed) = done {
        let what = format!("the preparation of “{}”", info.name);
        return Err(Problem::changed(&what, expected, info.revision, &info));
    }
    done?;
    Ok(Revised(info.revision, Applied::of(&prepared, steps, info.revision)))
}

/// The loop, and the record as its preparation leaves it.
async fn found(state: &AppState, tag: &str, id: Uuid) -> Result<(LoopDetail, std::sync::Arc<Prepared>), Problem> {
    let found = state.store.find_loop(tag).await?;
    let steps = state.store.record_info(id).await?.preparation;
    Ok((found, state.prepared(id, &steps).await?))
}

/// Judges a record as its preparation leaves it, in the units of the loop; noise, feedback and swings before any filter.
#[utoipa::path(get, path = "/api/v1/loops/{tag}/records/{id}/inspection", tag = "records",
    params(("tag" = String, Path, description = "Tag of the loop"), ("id" = Uuid, Path, description = "Identifier of the record")),
    responses((status = 200, body = Inspection), (status = 404, body = Problem), (status = 422, body = Problem)))]
async fn inspect_record(
    State(state): State<AppState>,
    Path((tag, id)): Path<(String, Uuid)>,
) -> Result<Json<Inspection>, Problem> {
    let found = state.store.find_loop(&tag).await?;
    let steps = state.store.record_info(id).await?.preparation;
    let record = state.record(id).await?;
    let inspection = compute(move || inspect_prepared(&record, &steps, &found.pv.span, &found.op.span)).await??;
    Ok(Json(inspection))
}

/// Marks to read by.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
struct MarksRequest {
    /// The marks, in s of the untouched record; null for suggested ones.
    marks: Option<Marks>,
}

/// Reads gain, dead time and time constant off the reaction curve by marks.
#[utoipa::path(post, path = "/api/v1/loops/{tag}/records/{id}/reading", tag = "records",
    params(("tag" = String, Path, description = "Tag of the loop"), ("id" = Uuid, Path, description = "Identifier of the record")),
    request_body = MarksRequest,
    responses((status = 200, body = HandReading), (status = 404, body = Problem), (status = 422, body = Problem)))]
async fn read_record(
    State(state): State<AppState>,
    Path((tag, id)): Path<(String, Uuid)>,
    Body(request): Body<MarksRequest>,
) -> Result<Json<HandReading>, Problem> {
    let (found, prepared) = found(&state, &tag, id).await?;
    compute(move || {
        let data = DataSet::of_record(&prepared.record, &found.pv.span.unit, &[], &[])?;
        let by = |marks: Marks, shift: f64| Marks {
            start_of_move: marks.start_of_move + shift,
            first_reaction: marks.first_reaction + shift,
            settled: marks.settled + shift,
            ..marks
        };
        let marks = match request.marks {
            Some(marks) => by(marks, -prepared.start),
            None => suggested_marks(&data)?,
        };
        let mut reading = read_by_hand(&data, &marks)?;
        reading.marks = by(reading.marks, prepared.start);
        reading.at_28 += prepared.start;
        reading.at_63 += prepared.start;
        reading.tangent.iter_mut().for_each(|end| end[0] += prepared.start);
        Ok(Json(reading))
    })
    .await?
}

#[derive(Debug, Deserialize, IntoParams)]
struct FileForm {
    /// `csv`, `tsv`, `xlsx`, `parquet` or `json`.
    format: String,
    /// Whether the steps of the preparation are applied.
    #[serde(default)]
    prepared: bool,
}

/// A record as a file.
#[utoipa::path(get, path = "/api/v1/records/{id}/file", tag = "records",
    params(("id" = Uuid, Path, description = "Identifier of the record"), FileForm),
    responses((status = 200, content_type = "application/octet-stream", body = Vec<u8>), (status = 404, body = Problem), (status = 422, body = Problem)))]
async fn record_file(
    State(state): State<AppState>,
    Path(id): Path<Uuid>,
    Query(form): Query<FileForm>,
) -> Result<Response, Problem> {
    let format = Format::of_ending(&form.format)?;
    let info = state.store.record_info(id).await?;
    let steps = if form.prepared { info.preparation } else { Vec::new() };
    let prepared = state.prepared(id, &steps).await?;
    let bytes = compute(move || content(&prepared.record, prepared.start, format)).await??;
    Ok(attachment(&info.name, format, bytes))
}
