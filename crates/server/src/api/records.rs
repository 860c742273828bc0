//! Files in, records, and their samples for drawing.

use crate::problem::{Path, Problem, Query};
use crate::state::{AppState, compute};
use antistasis_core::series::{Record, Role, extremes};
use antistasis_exchange::{Preview, preview};
use antistasis_store::RecordInfo;
use axum::Json;
use axum::body::Body as RawBody;
use axum::extract::{DefaultBodyLimit, State};
use axum::http::StatusCode;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;
use uuid::Uuid;

/// Most stretches that a strip is divided into.
const MOST_BUCKETS: usize = 4000;

pub(super) fn router() -> OpenApiRouter<AppState> {
    OpenApiRouter::new()
        .routes(routes!(upload_file))
        .layer(DefaultBodyLimit::disable())
        .routes(routes!(list_records))
        .routes(routes!(samples))
        .routes(routes!(even_channel))
}

#[derive(Debug, Deserialize, IntoParams)]
struct UploadName {
    /// Name of the file.
    name: String,
}

/// A file that was taken in, and what it seems to hold.
#[derive(Debug, Serialize, ToSchema)]
struct UploadedFile {
    /// Identifier, good for an hour.
    id: Uuid,
    /// Name of the file.
    name: String,
    /// Size in bytes.
    bytes: u64,
    /// What it seems to hold.
    preview: Preview,
}

/// Takes a file in (CSV, TSV, XLSX, Parquet or JSON; the body is the file itself, up to 1 GiB) and tells what it seems
/// to hold.
#[utoipa::path(post, path = "/api/v1/uploads", tag = "records", params(UploadName),
    request_body(content = String, content_type = "application/octet-stream"),
    responses((status = 201, body = UploadedFile), (status = 413, body = Problem), (status = 422, body = Problem)))]
async fn upload_file(
    State(state): State<AppState>,
    Query(UploadName { name }): Query<UploadName>,
    body: RawBody,
) -> Result<(StatusCode, Json<UploadedFile>), Problem> {
    let (id, upload) = state.uploads.take(name, body).await?;
    let path = upload.path.clone();
    let preview = compute(move || preview(&path)).await??;
    let file = UploadedFile { id, name: upload.name, bytes: upload.bytes, preview };
    Ok((StatusCode::CREATED, Json(file)))
}

/// The records of a loop, the newest first.
#[utoipa::path(get, path = "/api/v1/loops/{tag}/records", tag = "records",
    params(("tag" = String, Path, description = "Tag of the loop")),
    responses((status = 200, body = Vec<RecordInfo>), (status = 404, body = Problem)))]
async fn list_records(
    State(state): State<AppState>,
    Path(tag): Path<String>,
) -> Result<Json<Vec<RecordInfo>>, Problem> {
    let found = state.store.find_loop(&tag).await?;
    Ok(Json(state.store.records(found.id).await?))
}

/// A stretch of time, and how finely it is drawn.
#[derive(Debug, Deserialize, IntoParams)]
pub(super) struct View {
    /// Start in s from the start of the record; the start where left out.
    pub from: Option<f64>,
    /// End in s from the start of the record; the end where left out.
    pub to: Option<f64>,
    /// Number of stretches, such as the width of the strip in pixels; 1 to 4000.
    pub buckets: Option<usize>,
}

impl View {
    /// The indices to draw of a record, so that no extreme of any series is lost.
    pub fn indices(&self, record: &Record, series: &[&[f64]]) -> Result<Vec<usize>, Problem> {
        let buckets = self.buckets.unwrap_or(800);
        if !(1..=MOST_BUCKETS).contains(&buckets) {
            return Err(Problem::invalid(format!("buckets is {buckets}; allowed: 1 to {MOST_BUCKETS}")));
        }
        let (from, to) = (self.from.unwrap_or(0.0), self.to.unwrap_or(f64::MAX));
        if from.is_nan() || to.is_nan() || from > to {
            return Err(Problem::invalid(format!("to is {to} s; allowed: from, {from} s, or later")));
        }
        let window = record.axis.window(from, to);
        // One sample beyond either end, so that the curves reach the edges.
        let range = window.start.saturating_sub(1)..(window.end + 1).min(record.axis.len());
        let mut indices: Vec<usize> =
            series.iter().flat_map(|values| extremes(values, range.clone(), buckets)).collect();
        indices.sort_unstable();
        indices.dedup();
        Ok(indices)
    }
}

/// A missing sample is null in JSON.
pub(super) fn picked(values: &[f64], indices: &[usize]) -> Vec<Option<f64>> {
    indices.iter().map(|k| Some(values[*k]).filter(|value| value.is_finite())).collect()
}

/// Samples for drawing.
#[derive(Debug, Serialize, ToSchema)]
struct Samples {
    /// Times in s from the start of the record.
    times: Vec<f64>,
    /// The channels, a value a time.
    channels: Vec<ChannelSamples>,
    /// Number of samples in the stretch, of which these are the extremes.
    available: usize,
}

/// Samples of one channel.
#[derive(Debug, Serialize, ToSchema)]
struct ChannelSamples {
    /// Tag of the signal.
    tag: String,
    /// What it is to the loop.
    role: Role,
    /// Unit of the values.
    unit: String,
    /// One value a time; null where missing.
    values: Vec<Option<f64>>,
}

#[derive(Debug, Deserialize, IntoParams)]
struct Preparation {
    /// Whether the steps of the preparation are applied; false shows the record untouched.
    #[serde(default)]
    prepared: bool,
}

/// Samples of a record for drawing: where there are more than can be drawn, the extremes of each stretch, so that no
/// spike
/// is lost. Times are those of the untouched record.
#[utoipa::path(get, path = "/api/v1/records/{id}/samples", tag = "records",
    params(("id" = Uuid, Path, description = "Identifier of the record"), View, Preparation),
    responses((status = 200, body = Samples), (status = 404, body = Problem), (status = 422, body = Problem)))]
async fn samples(
    State(state): State<AppState>,
    Path(id): Path<Uuid>,
    Query(view): Query<View>,
    Query(Preparation { prepared }): Query<Preparation>,
) -> Result<Json<Samples>, Problem> {
    if prepared {
        let steps = state.store.record_info(id).await?.preparation;
        let prepared = state.prepared(id, &steps).await?;
        return compute(move || drawn(&prepared.record, prepared.start, &view)).await?.map(Json);
    }
    let record = state.record(id).await?;
    compute(move || drawn(&record, 0.0, &view)).await?.map(Json)
}

#[derive(Debug, Deserialize, IntoParams)]
struct EvenChannel {
    /// Tag of the channel.
    tag: String,
    /// Most samples; 2 to 100000, 2000 where left out.
    samples: Option<usize>,
}

/// A channel at equal intervals.
#[derive(Debug, Serialize, ToSchema)]
struct EvenSamples {
    /// Seconds between the samples.
    interval: f64,
    /// The samples.
    values: Vec<f64>,
}

/// A channel of a prepared record at equal intervals, straight between its samples: for a scenario to follow.
#[utoipa::path(get, path = "/api/v1/records/{id}/channel", tag = "records",
    params(("id" = Uuid, Path, description = "Identifier of the record"), EvenChannel),
    responses((status = 200, body = EvenSamples), (status = 404, body = Problem), (status = 422, body = Problem)))]
async fn even_channel(
    State(state): State<AppState>,
    Path(id): Path<Uuid>,
    Query(EvenChannel { tag, samples }): Query<EvenChannel>,
) -> Result<Json<EvenSamples>, Problem> {
    let samples = samples.unwrap_or(2000);
    if !(2..=100_000).contains(&samples) {
        return Err(Problem::invalid(format!("samples is {samples}; allowed: 2 to 100000")));
    }
    let steps = state.store.record_info(id).await?.preparation;
    let prepared = state.prepared(id, &steps).await?;
    let (interval, values) = compute(move || prepared.record.evenly(&tag, samples)).await??;
    Ok(Json(EvenSamples { interval, values }))
}

/// The samples to draw of a record that begins at `start`.
fn drawn(record: &Record, start: f64, view: &View) -> Result<Samples, Problem> {
    let own =
        View { from: view.from.map(|time| time - start), to: view.to.map(|time| time - start), buckets: view.buckets };
    let series: Vec<&[f64]> = record.channels.iter().map(|channel| channel.values.as_slice()).collect();
    let indices = own.indices(record, &series)?;
    Ok(Samples {
        times: indices.iter().map(|k| start + record.axis.at(*k)).collect(),
        channels: record
            .channels
            .iter()
            .map(|channel| ChannelSamples {
                tag: channel.tag.clone(),
                role: channel.role,
                unit: channel.unit.clone(),
                values: picked(&channel.values, &indices),
            })
            .collect(),
        available: record.axis.window(own.from.unwrap_or(0.0), own.to.unwrap_or(f64::MAX)).len(),
    })
}
