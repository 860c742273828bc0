//! Files in, records, and their samples for drawing.

use super::lists::{InPart, PartOfList};
use super::{annotation, name_of};
use crate::gate::compute;
use crate::problem::{Body, Path, Problem, Query};
use crate::revision::{IfMatch, Revised};
use crate::state::AppState;
use antistasis_core::preparation::{Step, prepare};
use antistasis_core::series::{Record, Role, extremes};
use antistasis_exchange::{Preview, Reading, preview};
use antistasis_store::{BinItem, ChannelInfo, DeletionKind, Error, Expected, RecordInfo, renamed};
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
        .routes(routes!(look_again))
        .routes(routes!(list_records))
        .routes(routes!(show_record, change_record, delete_record))
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
    let preview = compute(move || preview(&path, &Reading::default())).await??;
    let file = UploadedFile { id, name: upload.name, bytes: upload.bytes, preview };
    Ok((StatusCode::CREATED, Json(file)))
}

/// Reads an uploaded file in another way: another sheet, another row of names, another form.
#[utoipa::path(post, path = "/api/v1/uploads/{id}/preview", tag = "records",
    params(("id" = Uuid, Path, description = "Identifier of the uploaded file")), request_body = Reading,
    responses((status = 200, body = UploadedFile), (status = 404, body = Problem), (status = 422, body = Problem)))]
async fn look_again(
    State(state): State<AppState>,
    Path(id): Path<Uuid>,
    Body(reading): Body<Reading>,
) -> Result<Json<UploadedFile>, Problem> {
    let upload = state.uploads.find(id)?;
    let path = upload.path.clone();
    let preview = compute(move || preview(&path, &reading)).await??;
    Ok(Json(UploadedFile { id, name: upload.name, bytes: upload.bytes, preview }))
}

/// One record, without its samples.
#[utoipa::path(get, path = "/api/v1/records/{id}", tag = "records",
    params(("id" = Uuid, Path, description = "Identifier of the record")),
    responses((status = 200, body = RecordInfo), (status = 404, body = Problem)))]
async fn show_record(State(state): State<AppState>, Path(id): Path<Uuid>) -> Result<Revised<RecordInfo>, Problem> {
    let info = state.store.record_info(id).await?;
    Ok(Revised(info.revision, info))
}

/// What is edited of a record; its samples never change.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
struct RecordChange {
    /// What it is called, 1 to 120 characters.
    name: String,
    /// What there is to say about it.
    #[serde(default)]
    remark: String,
    /// Tag, role and unit of each channel, in the order of the record; null leaves them.
    #[serde(default)]
    channels: Option<Vec<ChannelInfo>>,
}

/// Renames and annotates a record, and puts right tags, roles and units of its channels. Preparation steps and models follow a tag.
#[utoipa::path(put, path = "/api/v1/records/{id}", tag = "records",
    params(("id" = Uuid, Path, description = "Identifier of the record"), ("If-Match" = String, Header, description = "Revision that is changed")),
    request_body = RecordChange,
    responses((status = 200, body = RecordInfo), (status = 404, body = Problem), (status = 412, body = Problem),
        (status = 422, body = Problem), (status = 428, body = Problem)))]
async fn change_record(
    State(state): State<AppState>,
    Path(id): Path<Uuid>,
    IfMatch(expected): IfMatch,
    Body(change): Body<RecordChange>,
) -> Result<Revised<RecordInfo>, Problem> {
    let before = state.store.record_info(id).await?;
    let name = name_of("name", &change.name, 120)?;
    let channels = change.channels.unwrap_or_else(|| before.channels.clone());
    let channels = checked_channels(&before, channels)?;
    let mut hash = before.content_hash.clone();
    let mut steps = before.preparation.clone();
    if channels != before.channels {
        let record = state.record(id).await?;
        let own = channels.clone();
        let corrected = compute(move || {
            let mut corrected = Record::clone(&record);
            for (channel, info) in corrected.channels.iter_mut().zip(own) {
                (channel.tag, channel.role, channel.unit) = (info.tag, info.role, info.unit);
            }
            corrected
        })
        .await?;
        steps = with_tags(&steps, &new_tags(&before.channels, &channels));
        let (laid, copy) = (steps.clone(), corrected.clone());
        compute(move || prepare(&copy, &laid)).await??;
        hash = compute(move || corrected.corrected_hash()).await?;
    }
    let texts = (name.as_str(), annotation("remark", &change.remark)?);
    let mut done = state.store.set_record(id, expected, texts, &channels, &hash).await;
    if done.is_ok() && steps != before.preparation {
        done = state.store.set_preparation(id, Expected::Any, &steps).await;
    }
    let pairs = new_tags(&before.channels, &channels);
    if done.is_ok() && !pairs.is_empty() {
        let only_tags = before.channels.iter().zip(&channels).all(|(a, b)| a.role == b.role && a.unit == b.unit);
        let same_data = only_tags.then_some((before.content_hash.as_str(), hash.as_str()));
        state.store.rename_in_models(id, &pairs, same_data).await?;
    }
    state.forget_record(id).await;
    let info = state.store.record_info(id).await?;
    if let Err(Error::Changed) = done {
        return Err(Problem::changed(&format!("the record “{}”", info.name), expected, info.revision, &info));
    }
    done?;
    Ok(Revised(info.revision, info))
}

/// Channels that can stand together: one tag each. Of several PVs or OPs the first is that of the loop.
fn checked_channels(before: &RecordInfo, channels: Vec<ChannelInfo>) -> Result<Vec<ChannelInfo>, Problem> {
    let (given, there) = (channels.len(), before.channels.len());
    if given != there {
        let words =
            format!("The record has {there} channels, and {given} are given: give each of them, in their order.");
        return Err(Problem::invalid_field("channels", words));
    }
    let mut checked: Vec<ChannelInfo> = Vec::with_capacity(channels.len());
    for (k, channel) in channels.into_iter().enumerate() {
        let tag = name_of(&format!("channels.{k}.tag"), &channel.tag, 80)?;
        if checked.iter().any(|other| other.tag == tag) {
            let words = format!("Two channels are called {tag}: give each a tag of its own.");
            return Err(Problem::invalid_field(&format!("channels.{k}.tag"), words));
        }
        if channel.unit.chars().count() > 24 || channel.unit.chars().any(char::is_control) {
            let words = format!("The unit of {tag} is too long: at most 24 printable characters are allowed.");
            return Err(Problem::invalid_field(&format!("channels.{k}.unit"), words));
        }
        checked.push(ChannelInfo { tag, role: channel.role, unit: channel.unit.trim().to_owned() });
    }
    Ok(checked)
}

/// Tags before and after, of the channels that get another.
fn new_tags(before: &[ChannelInfo], after: &[ChannelInfo]) -> Vec<(String, String)> {
    let pairs = before.iter().zip(after).filter(|(before, after)| before.tag != after.tag);
    pairs.map(|(before, after)| (before.tag.clone(), after.tag.clone())).collect()
}

/// Steps that speak of the channels by their new tags.
fn with_tags(steps: &[Step], pairs: &[(String, String)]) -> Vec<Step> {
    let Ok(mut value) = serde_json::to_value(steps) else { return steps.to_vec() };
    renamed(&mut value, pairs);
    serde_json::from_value(value).unwrap_or_else(|_| steps.to_vec())
}

/// Puts a record into the bin, with the models fitted to it.
#[utoipa::path(delete, path = "/api/v1/records/{id}", tag = "records",
    params(("id" = Uuid, Path, description = "Identifier of the record")),
    responses((status = 200, body = BinItem), (status = 404, body = Problem)))]
async fn delete_record(State(state): State<AppState>, Path(id): Path<Uuid>) -> Result<Json<BinItem>, Problem> {
    Ok(Json(state.store.delete(DeletionKind::Record, id).await?))
}

/// The newest records of a loop, and besides, however old, those that models were fitted to. The header `X-Total-Count` tells
/// how many there are in all.
#[utoipa::path(get, path = "/api/v1/loops/{tag}/records", tag = "records",
    params(("tag" = String, Path, description = "Tag of the loop"), PartOfList),
    responses((status = 200, body = Vec<RecordInfo>, headers(("X-Total-Count" = i64, description = "Records in all"),
            ("X-Unreadable-Count" = i64, description = "Rows of this part that this version cannot read"))),
        (status = 404, body = Problem), (status = 422, body = Problem)))]
async fn list_records(
    State(state): State<AppState>,
    Path(tag): Path<String>,
    Query(part): Query<PartOfList>,
) -> Result<InPart<RecordInfo>, Problem> {
    let part = part.checked()?;
    let found = state.store.find_loop(&tag).await?;
    Ok(InPart::from(state.store.newest_records(found.id, part).await?))
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
            return Err(Problem::invalid(format!(
                "The number of buckets is {buckets}: it must be 1 to {MOST_BUCKETS}."
            )));
        }
        let (from, to) = (self.from.unwrap_or(0.0), self.to.unwrap_or(f64::MAX));
        if from.is_nan() || to.is_nan() || from > to {
            return Err(Problem::invalid(format!("The end of the window ({to} s) is before its start ({from} s).")));
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
    /// Tag of the loop in whose units PV, SP and OP are given; the record's own where left out.
    r#loop: Option<String>,
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
    Query(Preparation { prepared, r#loop }): Query<Preparation>,
) -> Result<Json<Samples>, Problem> {
    let seen_by = match r#loop {
        Some(tag) => Some(state.store.find_loop(&tag).await?),
        None => None,
    };
    let units = seen_by.map(|found| (found.pv.span.unit, found.op.span.unit));
    if prepared {
        let steps = state.store.record_info(id).await?.preparation;
        let prepared = state.prepared(id, &steps).await?;
        return compute(move || drawn(&prepared.record, prepared.start, &view, units)).await?.map(Json);
    }
    let record = state.record(id).await?;
    compute(move || drawn(&record, 0.0, &view, units)).await?.map(Json)
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
    /// Their unit, as text; null where the record tells none.
    unit: Option<String>,
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
        return Err(Problem::invalid(format!("The number of samples is {samples}: it must be 2 to 100000.")));
    }
    let steps = state.store.record_info(id).await?.preparation;
    let prepared = state.prepared(id, &steps).await?;
    let channel = prepared.record.channels.iter().find(|channel| channel.tag == tag);
    let unit = channel.map(|channel| channel.unit.clone()).filter(|unit| !unit.is_empty());
    let (interval, values) = compute(move || prepared.record.evenly(&tag, samples)).await??;
    Ok(Json(EvenSamples { interval, values, unit }))
}

/// The samples to draw of a record that begins at `start`, PV and OP in these units where some are given.
fn drawn(record: &Record, start: f64, view: &View, units: Option<(String, String)>) -> Result<Samples, Problem> {
    let converted;
    let record = match units {
        // Nothing is copied for a record that is in these units already.
        Some((pv, op)) if !record.is_in_units_of(&pv, &op) => {
            converted = record.clone().in_units_of(&pv, &op);
            &converted
        }
        _ => record,
    };
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
