//! Loops.

use super::lists::{InPart, rows_wanted};
use super::{annotation, name_of};
use crate::problem::{Body, Path, Problem, Query};
use crate::revision::{IfMatch, Revised};
use crate::state::AppState;
use antistasis_core::simulation::{Plant, Signal};
use antistasis_store::{
    BinItem, DeletionKind, Error, LoopCard, LoopDetail, LoopOrder, LoopSummary, LoopsAsked, NewLoop, Part, Unreadable,
};
use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use serde::Deserialize;
use utoipa::{IntoParams, ToSchema};
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;
use uuid::Uuid;

pub(super) fn router() -> OpenApiRouter<AppState> {
    OpenApiRouter::new()
        .routes(routes!(list_loops, make_loop))
        .routes(routes!(show_loop, change_loop, delete_loop))
        .routes(routes!(set_plant, take_plant_away))
        .routes(routes!(list_unreadable))
}

/// Which loops are wanted.
#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
struct LoopsQuery {
    /// The first so many, 1 to 1000; 100 where left out.
    #[param(minimum = 1, maximum = 1000)]
    first: Option<i64>,
    /// One that is to be there besides, wherever it stands.
    also: Option<Uuid>,
    /// In which order: by area where left out.
    #[serde(default)]
    #[param(inline)]
    order: LoopOrder,
    /// Words that must all stand in tag, name, area or difficulty, in any case; at most 200 characters.
    #[serde(default)]
    #[param(max_length = 200)]
    words: String,
}

/// The first loops in an order. The header `X-Total-Count` tells how many there are in all.
#[utoipa::path(get, path = "/api/v1/loops", tag = "loops", params(LoopsQuery),
    responses((status = 200, body = Vec<LoopSummary>, headers(("X-Total-Count" = i64, description = "Loops in all"))),
        (status = 422, body = Problem)))]
async fn list_loops(
    State(state): State<AppState>,
    Query(query): Query<LoopsQuery>,
) -> Result<InPart<LoopSummary>, Problem> {
    let words = match query.words.trim() {
        "" => String::new(),
        words => name_of("words", words, 200)?,
    };
    let part = Part { newest: rows_wanted("first", query.first)?, also: query.also };
    let asked = LoopsAsked { words, order: query.order, part };
    Ok(InPart::from(state.store.loops(&asked).await?))
}

/// The trials, models and records of a loop that this version cannot read, as they are stored. They stay, and hide no other.
#[utoipa::path(get, path = "/api/v1/loops/{tag}/unreadable", tag = "loops",
    params(("tag" = String, Path, description = "Tag of the loop")),
    responses((status = 200, body = Vec<Unreadable>), (status = 404, body = Problem)))]
async fn list_unreadable(
    State(state): State<AppState>,
    Path(tag): Path<String>,
) -> Result<Json<Vec<Unreadable>>, Problem> {
    let found = state.store.find_loop(&tag).await?;
    Ok(Json(state.store.unreadable(found.id).await?))
}

/// A loop to be made.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
struct NewLoopRequest {
    /// Name of its area; made where there is none of that name.
    area: String,
    /// What it is called and controls.
    card: LoopCard,
    /// A simulated plant behind it, on which experiments can be run.
    #[serde(default)]
    plant: Option<Plant>,
    /// Whether the span of the PV was guessed from data: the loop says so until somebody sets it.
    #[serde(default)]
    span_is_guess: bool,
}

/// Makes a loop. It may begin with a plant behind it, with a record that is imported afterwards, or with nothing.
#[utoipa::path(post, path = "/api/v1/loops", tag = "loops", request_body = NewLoopRequest,
    responses((status = 201, body = LoopDetail), (status = 409, body = Problem), (status = 422, body = Problem)))]
async fn make_loop(
    State(state): State<AppState>,
    Body(request): Body<NewLoopRequest>,
) -> Result<(StatusCode, Revised<LoopDetail>), Problem> {
    let card = checked(request.card)?;
    if let Some(plant) = &request.plant {
        plant.start()?;
    }
    let area_id = area_called(&state, &request.area).await?;
    let new = NewLoop { area_id, card: &card, plant: request.plant.as_ref(), span_is_guess: request.span_is_guess };
    let id = state.store.add_loop(new).await?;
    let made = state.store.loop_by_id(id).await?;
    Ok((StatusCode::CREATED, Revised(made.revision, made)))
}

/// The area of this name, made where there is none.
async fn area_called(state: &AppState, name: &str) -> Result<Uuid, Problem> {
    let name = name_of("area", name, 80)?;
    let known = state.store.areas().await?.into_iter().find(|area| area.name == name);
    match known {
        Some(area) => Ok(area.id),
        None => Ok(state.store.add_area(&name, "").await?),
    }
}

/// A card with its texts trimmed; refused where a loop cannot be called or controlled so.
fn checked(card: LoopCard) -> Result<LoopCard, Problem> {
    let tag = name_of("tag", &card.tag, 40)?;
    if tag.contains(['/', '\\', '?', '#', '%']) || tag == "." || tag == ".." {
        let allowed = "letters, digits, dots, dashes and the like, without / \\ ? # %";
        return Err(Problem::invalid_field("tag", format!("A loop cannot be called “{tag}”: a tag has {allowed}.")));
    }
    let signal = |field: &str, signal: Signal| -> Result<Signal, Problem> {
        signal.span.validate(&format!("{field}.span"))?;
        let tag = name_of(&format!("{field}.tag"), &signal.tag, 80)?;
        let mut span = signal.span;
        span.unit = span.unit.trim().to_owned();
        Ok(Signal { tag, span })
    };
    let (pv, op) = (signal("pv", card.pv)?, signal("op", card.op)?);
    if pv.tag == op.tag {
        let words = format!("PV and OP are both called {}: each signal has a tag of its own.", pv.tag);
        return Err(Problem::invalid_field("op.tag", words));
    }
    let line = |field: &str, text: &str, most: usize| -> Result<String, Problem> {
        let text = text.trim();
        if text.is_empty() { Ok(String::new()) } else { name_of(field, text, most) }
    };
    Ok(LoopCard {
        tag,
        name: line("name", &card.name, 120)?,
        difficulty: line("difficulty", &card.difficulty, 300)?,
        notes: annotation("notes", &card.notes)?.to_owned(),
        pv,
        op,
    })
}

/// One loop.
#[utoipa::path(get, path = "/api/v1/loops/{tag}", tag = "loops", params(("tag" = String, Path, description = "Tag of the loop")),
    responses((status = 200, body = LoopDetail), (status = 404, body = Problem)))]
async fn show_loop(State(state): State<AppState>, Path(tag): Path<String>) -> Result<Revised<LoopDetail>, Problem> {
    let detail = state.store.find_loop(&tag).await?;
    Ok(Revised(detail.revision, detail))
}

/// A loop as it is to be.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
struct LoopChange {
    /// Name of the area that it belongs to; made where there is none of that name.
    area: String,
    /// What it is called and controls.
    card: LoopCard,
}

/// Renames, annotates and moves a loop, and sets tags, spans and units of its signals.
#[utoipa::path(put, path = "/api/v1/loops/{tag}", tag = "loops",
    params(("tag" = String, Path, description = "Tag of the loop"), ("If-Match" = String, Header, description = "Revision that is changed")),
    request_body = LoopChange,
    responses((status = 200, body = LoopDetail), (status = 404, body = Problem), (status = 409, body = Problem),
        (status = 412, body = Problem), (status = 422, body = Problem), (status = 428, body = Problem)))]
async fn change_loop(
    State(state): State<AppState>,
    Path(tag): Path<String>,
    IfMatch(expected): IfMatch,
    Body(change): Body<LoopChange>,
) -> Result<Revised<LoopDetail>, Problem> {
    let found = state.store.find_loop(&tag).await?;
    let card = checked(change.card)?;
    let area_id = area_called(&state, &change.area).await?;
    let done = state.store.set_loop(found.id, expected, &card, area_id).await;
    let now = state.store.loop_by_id(found.id).await?;
    if let Err(Error::Changed) = done {
        return Err(Problem::changed(&format!("the loop {}", now.tag), expected, now.revision, &now));
    }
    done?;
    Ok(Revised(now.revision, now))
}

/// Puts a loop into the bin, with all that is in it.
#[utoipa::path(delete, path = "/api/v1/loops/{tag}", tag = "loops",
    params(("tag" = String, Path, description = "Tag of the loop")),
    responses((status = 200, body = BinItem), (status = 404, body = Problem)))]
async fn delete_loop(State(state): State<AppState>, Path(tag): Path<String>) -> Result<Json<BinItem>, Problem> {
    let found = state.store.find_loop(&tag).await?;
    Ok(Json(state.store.delete(DeletionKind::Loop, found.id).await?))
}

/// Puts a simulated plant behind a loop: experiments can be run on it, and trials begin on it.
#[utoipa::path(put, path = "/api/v1/loops/{tag}/plant", tag = "loops",
    params(("tag" = String, Path, description = "Tag of the loop")), request_body = Plant,
    responses((status = 200, body = LoopDetail), (status = 404, body = Problem), (status = 422, body = Problem)))]
async fn set_plant(
    State(state): State<AppState>,
    Path(tag): Path<String>,
    Body(plant): Body<Plant>,
) -> Result<Json<LoopDetail>, Problem> {
    plant.start()?;
    state.store.set_plant(&tag, Some(&plant)).await?;
    Ok(Json(state.store.find_loop(&tag).await?))
}

/// Takes the simulated plant behind a loop away; trials on it stay.
#[utoipa::path(delete, path = "/api/v1/loops/{tag}/plant", tag = "loops",
    params(("tag" = String, Path, description = "Tag of the loop")),
    responses((status = 200, body = LoopDetail), (status = 404, body = Problem)))]
async fn take_plant_away(State(state): State<AppState>, Path(tag): Path<String>) -> Result<Json<LoopDetail>, Problem> {
    state.store.set_plant(&tag, None).await?;
    Ok(Json(state.store.find_loop(&tag).await?))
}
