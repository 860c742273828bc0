//! Files into records, in the background.

use crate::gate::compute_job;
use crate::jobs::{Job, Stage};
use crate::problem::{Body, Path, Problem};
use crate::state::AppState;
use antistasis_core::series::{Record, Role};
use antistasis_core::units::{Span, Unit};
use antistasis_exchange::{Mapping, read};
use antistasis_store::{LoopDetail, NewRecord, RecordInfo};
use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use serde::{Deserialize, Serialize};
use std::sync::Arc;
use utoipa::ToSchema;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;
use uuid::Uuid;

/// The share of an import that is reading; the rest is storing.
const READING: f64 = 0.8;

pub(super) fn router() -> OpenApiRouter<AppState> {
    OpenApiRouter::new().routes(routes!(start_import)).routes(routes!(import_state, cancel_import))
}

/// Which file becomes which record.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
struct ImportRequest {
    /// Identifier of the uploaded file.
    upload_id: Uuid,
    /// Name of the record, 1 to 120 characters.
    name: String,
    /// Which columns are what.
    mapping: Mapping,
}

/// An import.
#[derive(Debug, Serialize, ToSchema)]
struct ImportState {
    /// Identifier, good for an hour.
    id: Uuid,
    /// How it stands.
    stage: Stage,
    /// Which share is done, 0 to 1.
    share: f64,
    /// The record, once it is there.
    record: Option<RecordInfo>,
    /// What is wrong.
    problem: Option<Problem>,
}

impl ImportState {
    fn of(id: Uuid, import: &Job<RecordInfo>) -> Self {
        let (stage, record, problem) = import.standing();
        let record = record.map(|record| RecordInfo::clone(&record));
        Self { id, stage, share: import.share(), record, problem }
    }
}

/// Begins to make a record of an uploaded file. Nothing is stored when anything is wrong with it or it is cancelled.
#[utoipa::path(post, path = "/api/v1/loops/{tag}/imports", tag = "records",
    params(("tag" = String, Path, description = "Tag of the loop")), request_body = ImportRequest,
    responses((status = 202, body = ImportState), (status = 404, body = Problem), (status = 422, body = Problem)))]
async fn start_import(
    State(state): State<AppState>,
    Path(tag): Path<String>,
    Body(request): Body<ImportRequest>,
) -> Result<(StatusCode, Json<ImportState>), Problem> {
    let found = state.store.find_loop(&tag).await?;
    let name = super::name_of("name", &request.name, 120)?;
    check_names(&request.mapping)?;
    check_units(&request.mapping, &found)?;
    let upload = state.uploads.find(request.upload_id)?;
    let (id, import) = state.imports.begin()?;
    let job = Arc::clone(&import);
    tokio::spawn(async move {
        let carried_out = carry_out(&state, &job, found.id, &name, upload.name, upload.path, request.mapping).await;
        if carried_out.is_ok() {
            state.uploads.used(request.upload_id);
        }
        job.finish(carried_out);
    });
    Ok((StatusCode::ACCEPTED, Json(ImportState::of(id, &import))))
}

/// Tags and units that a channel can have.
fn check_names(mapping: &Mapping) -> Result<(), Problem> {
    for (k, channel) in mapping.channels.iter().enumerate() {
        super::name_of(&format!("mapping.channels.{k}.tag"), &channel.tag, 80)?;
        if channel.unit.chars().count() > 24 || channel.unit.chars().any(char::is_control) {
            let words =
                format!("The unit of {} is too long: at most 24 printable characters are allowed.", channel.tag);
            return Err(Problem::invalid_field(&format!("mapping.channels.{k}.unit"), words));
        }
    }
    Ok(())
}

/// A PV must be in a unit that converts into that of the loop's span, before anything is stored.
fn check_units(mapping: &Mapping, found: &LoopDetail) -> Result<(), Problem> {
    for (k, channel) in mapping.channels.iter().enumerate() {
        let unit = match channel.role {
            Role::Pv | Role::Sp => &found.pv.span.unit,
            Role::Op => &found.op.span.unit,
            _ => continue,
        };
        let (own, unit) = (channel.unit.trim(), unit.trim());
        if own.is_empty() || unit.is_empty() || own == unit {
            continue;
        }
        let convertible = Unit::parse(own).and_then(|own| own.convert(0.0, &Unit::parse(unit)?));
        if convertible.is_err() {
            let role = channel.role.symbol();
            return Err(Problem::invalid_field(
                &format!("mapping.channels.{k}.unit"),
                format!(
                    "{} is in “{own}”, and the {role} of {} in {unit}: give a unit that converts into it, or leave it empty.",
                    channel.column, found.tag
                ),
            ));
        }
    }
    Ok(())
}

async fn carry_out(
    state: &AppState,
    job: &Arc<Job<RecordInfo>>,
    loop_id: Uuid,
    name: &str,
    origin: String,
    path: std::path::PathBuf,
    mapping: Mapping,
) -> Result<RecordInfo, Problem> {
    let reading = Arc::clone(job);
    let imported = compute_job(move || read(&path, &mapping, &mut |share| reading.advance(READING * share))).await??;
    if !job.advance(READING) {
        return Err(Problem::cancelled("The import was cancelled; nothing was stored."));
    }
    let new = NewRecord {
        name,
        origin: &origin,
        started: imported.start.as_deref(),
        notes: &imported.notes,
        record: &imported.record,
    };
    let id = tokio::select! {
        id = state.store.add_record(loop_id, new) => id?,
        // Dropping the query rolls its transaction back.
        () = cancelled(job) => return Err(Problem::cancelled("The import was cancelled; nothing was stored.")),
    };
    suggest_span(state, loop_id, &imported.record).await?;
    job.advance(1.0);
    Ok(state.store.record_info(id).await?)
}

/// A span that nobody has set yet follows the data.
async fn suggest_span(state: &AppState, loop_id: Uuid, record: &Record) -> Result<(), Problem> {
    let detail = state.store.loop_by_id(loop_id).await?;
    let Some(pv) = record.channel(Role::Pv).filter(|_| detail.span_is_guess) else { return Ok(()) };
    let known = pv.values.iter().copied().filter(|value| value.is_finite());
    let (low, high) = known.fold((f64::MAX, f64::MIN), |(low, high), value| (low.min(value), high.max(value)));
    if low <= high {
        let mut signal = detail.pv.clone();
        signal.span = Span::about(low, high, if pv.unit.is_empty() { &detail.pv.span.unit } else { &pv.unit });
        state.store.suggest_span(loop_id, &signal).await?;
    }
    Ok(())
}

async fn cancelled(job: &Job<RecordInfo>) {
    while !job.is_cancelled() {
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
    }
}

/// How far an import is.
#[utoipa::path(get, path = "/api/v1/imports/{id}", tag = "records",
    params(("id" = Uuid, Path, description = "Identifier of the import")),
    responses((status = 200, body = ImportState), (status = 404, body = Problem)))]
async fn import_state(State(state): State<AppState>, Path(id): Path<Uuid>) -> Result<Json<ImportState>, Problem> {
    Ok(Json(ImportState::of(id, &*state.imports.find(id)?)))
}

/// Ends an import that is under way; nothing is stored then. One that is done stays.
#[utoipa::path(delete, path = "/api/v1/imports/{id}", tag = "records",
    params(("id" = Uuid, Path, description = "Identifier of the import")),
    responses((status = 200, body = ImportState), (status = 404, body = Problem)))]
async fn cancel_import(State(state): State<AppState>, Path(id): Path<Uuid>) -> Result<Json<ImportState>, Problem> {
    let import = state.imports.find(id)?;
    import.cancel();
    Ok(Json(ImportState::of(id, &import)))
}
