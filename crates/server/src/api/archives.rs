//! Loops and areas as one open file, out and in.

use crate::archive::{self, Whole};
use crate::download::named_file;
use crate::gate::compute;
use crate::problem::{Path, Problem};
use crate::state::AppState;
use antistasis_core::series::Record;
use antistasis_store::{AreaInfo, Error, LoopDetail};
use axum::Json;
use axum::body::Body as RawBody;
use axum::extract::{DefaultBodyLimit, State};
use axum::http::StatusCode;
use axum::response::Response;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;
use uuid::Uuid;

pub(super) fn router() -> OpenApiRouter<AppState> {
    OpenApiRouter::new()
        .routes(routes!(take_in))
        .layer(DefaultBodyLimit::disable())
        .routes(routes!(loop_archive))
        .routes(routes!(area_archive))
}

async fn whole(state: &AppState, tag: &str) -> Result<Whole, Problem> {
    let archived = state.store.archived(tag).await?;
    let mut records = Vec::with_capacity(archived.records.len());
    for info in &archived.records {
        records.push(Record::clone(&*state.record(info.id).await?));
    }
    Ok((archived, records))
}

async fn archive_of(state: &AppState, name: &str, tags: &[String]) -> Result<Response, Problem> {
    let mut loops = Vec::with_capacity(tags.len());
    for tag in tags {
        loops.push(whole(state, tag).await?);
    }
    let bytes = compute(move || archive::write(&loops)).await??;
    Ok(named_file(name, "zip", "application/zip", bytes))
}

/// A loop with all that is in it, as one file (ZIP: JSON documents, Parquet samples, a README that says what is what).
#[utoipa::path(get, path = "/api/v1/loops/{tag}/archive", tag = "works",
    params(("tag" = String, Path, description = "Tag of the loop")),
    responses((status = 200, content_type = "application/zip", body = Vec<u8>), (status = 404, body = Problem)))]
async fn loop_archive(State(state): State<AppState>, Path(tag): Path<String>) -> Result<Response, Problem> {
    archive_of(&state, &tag, std::slice::from_ref(&tag)).await
}

/// An area with its loops, as one file.
#[utoipa::path(get, path = "/api/v1/areas/{id}/archive", tag = "works",
    params(("id" = Uuid, Path, description = "Identifier of the area")),
    responses((status = 200, content_type = "application/zip", body = Vec<u8>), (status = 404, body = Problem)))]
async fn area_archive(State(state): State<AppState>, Path(id): Path<Uuid>) -> Result<Response, Problem> {
    let AreaInfo { name, .. } = state.store.area(id).await?;
    let tags = state.store.tags_of_area(id).await?;
    archive_of(&state, &name, &tags).await
}

/// Takes the loops of an archive in; the body is the file itself. All of them come in, or none. Their tags must be free.
#[utoipa::path(post, path = "/api/v1/archives", tag = "works",
    request_body(content = String, content_type = "application/zip"),
    responses((status = 201, body = Vec<LoopDetail>), (status = 409, body = Problem), (status = 413, body = Problem), (status = 422, body = Problem)))]
async fn take_in(State(state): State<AppState>, body: RawBody) -> Result<(StatusCode, Json<Vec<LoopDetail>>), Problem> {
    let (_, upload) = state.uploads.take("archive".into(), body).await?;
    let loops = compute(move || archive::read(&upload.path)).await??;
    state.store.take_in(&loops).await.map_err(|error| match error {
        // Its tags are in the archive: what can be named otherwise is the loop that is here.
        Error::Taken { name, .. } => Problem::conflict(format!(
            "There is already a loop “{name}”: rename or delete it first. Nothing of the archive was taken in."
        )),
        other => other.into(),
    })?;
    let mut taken = Vec::with_capacity(loops.len());
    for (archived, _) in &loops {
        taken.push(state.store.find_loop(&archived.tag).await?);
    }
    Ok((StatusCode::CREATED, Json(taken)))
}
