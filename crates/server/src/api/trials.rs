//! Tuning, simulation, and the trail of trials.

use super::lists::{InPart, PartOfList};
use super::{annotation, name_of};
use crate::download::{attachment, content};
use crate::gate::compute;
use crate::problem::{Body, Path, Problem, Query};
use crate::revision::{IfMatch, Revised};
use crate::state::AppState;
use antistasis_core::assessment::{Assessment, Question, SignalMetrics, assess, measure};
use antistasis_core::controller::ControllerSpec;
use antistasis_core::controller::predictive::LookAhead;
use antistasis_core::process::{DetailedSpec, ProcessSpec};
use antistasis_core::simulation::{Event, EventKind, Plant, Simulation, Trace, Trial, begin_event};
use antistasis_core::tuning::{
    FirstTrial, SimcChoice, Tuning, begin_on_model, begin_on_plant, first_trial_on, read_relay, simc_choice_of,
};
use antistasis_core::verdict::{readable, readable_duration};
use antistasis_exchange::Format;
use antistasis_store::{BinItem, DeletionKind, Error, ModelRow, NewTrial, TrialEdit, TrialRow, letter};
use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::Response;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::sync::Arc;
use utoipa::{IntoParams, ToSchema};
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;
use uuid::Uuid;

/// Rows of a trace that are sent for drawing when nothing else is asked.
const DRAWN_ROWS: usize = 4000;

pub(super) fn router() -> OpenApiRouter<AppState> {
    OpenApiRouter::new()
        .routes(routes!(tune))
        .routes(routes!(propose))
        .routes(routes!(simulate))
        .routes(routes!(simulate_open))
        .routes(routes!(look_ahead))
        .routes(routes!(event_to_begin_with))
        .routes(routes!(trial_on_plant))
        .routes(routes!(list_trials))
        .routes(routes!(assess_again))
        .routes(routes!(keep_trial))
        .routes(routes!(trial_trace))
        .routes(routes!(change_trial, delete_trial))
        .routes(routes!(pin_trial))
        .routes(routes!(measure_signal))
        .routes(routes!(export_trial))
}

/// A plant to be tuned for.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
struct TuneRequest {
    /// The plant.
    plant: Plant,
    /// What SIMC leaves to the engineer.
    choice: SimcChoice,
}

/// SIMC PI settings for a plant: for its process where that is linear and of low order with nothing between, else for the
/// low-order model that comes nearest where the plant rests.
#[utoipa::path(post, path = "/api/v1/tune", tag = "control", request_body = TuneRequest,
    responses((status = 200, body = Tuning), (status = 422, body = Problem)))]
async fn tune(Body(request): Body<TuneRequest>) -> Result<Json<Tuning>, Problem> {
    let (_, tuning) = compute(move || first_trial_on(&request.plant, &request.choice)).await??;
    Ok(Json(tuning))
}

/// What a trial is to stand on.
#[derive(Debug, Clone, Copy, Default, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
enum Basis {
    /// A model.
    #[default]
    Model,
    /// A plant: the one given, or the simulated one behind the loop.
    Plant,
}

/// What to begin with.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
struct ProposeRequest {
    /// What the trial is to stand on.
    #[serde(default)]
    on: Basis,
    /// The model; null for the chosen one, or the newest where none is chosen.
    model_id: Option<Uuid>,
    /// The plant; null for the one behind the loop.
    #[serde(default)]
    plant: Option<Plant>,
    /// What SIMC leaves to the engineer.
    choice: SimcChoice,
}

/// A trial to begin with.
#[derive(Debug, Serialize, ToSchema)]
struct Proposal {
    /// The model that it stands on; null where it stands on the plant behind the loop.
    model_id: Option<Uuid>,
    /// The trial: model or plant, settings, a set point step of each loop and a load.
    trial: Trial,
    /// Where the settings come from, in a few words.
    settings: String,
    /// Of one loop, its tuning; null where several were tuned together.
    tuning: Option<Tuning>,
}

impl Proposal {
    fn of(model_id: Option<Uuid>, FirstTrial { trial, settings, tuning }: FirstTrial) -> Self {
        Self { model_id, trial, settings, tuning }
    }
}

/// A trial to begin with: a model as the process, or the plant behind the loop; SIMC settings, on the plant for the
/// low-order model that comes nearest; and the standard scenario. A matrix, and a plant that measures and drives several signals,
/// get one loop a pair, tuned together by the largest log modulus.
#[utoipa::path(post, path = "/api/v1/loops/{tag}/propose", tag = "control",
    params(("tag" = String, Path, description = "Tag of the loop")), request_body = ProposeRequest,
    responses((status = 200, body = Proposal), (status = 404, body = Problem), (status = 422, body = Problem)))]
async fn propose(
    State(state): State<AppState>,
    Path(tag): Path<String>,
    Body(request): Body<ProposeRequest>,
) -> Result<Json<Proposal>, Problem> {
    let found = state.store.find_loop(&tag).await?;
    if matches!(request.on, Basis::Plant) {
        let plant = match request.plant {
            Some(plant) => plant,
            None => state
                .store
                .plant(&tag)
                .await?
                .ok_or_else(|| Problem::not_found(format!("no simulated plant stands behind {tag}")))?,
        };
        let first = compute(move || begin_on_plant(&plant, &request.choice)).await??;
        return Ok(Json(Proposal::of(None, first)));
    }
    let model = match request.model_id {
        Some(id) => state.store.model(id).await?,
        None => model_to_begin_with(state.store.models(found.id).await?)
            .ok_or_else(|| Problem::not_found(format!("{tag} has no model yet: fit one first")))?,
    };
    let id = model.id;
    let first = compute(move || begin_on_model(&model.model, &found.pv, &found.op, &request.choice)).await??;
    Ok(Json(Proposal::of(Some(id), first)))
}

/// The chosen model; where nobody has chosen one, the newest of a structure with dead time.
fn model_to_begin_with(models: Vec<ModelRow>) -> Option<ModelRow> {
    let mut models = models.into_iter();
    let chosen = models.clone().find(|model| model.chosen);
    chosen.or_else(|| models.find(|model| model.model.as_process().is_ok()))
}

/// What came out of a trial.
#[derive(Debug, Serialize, ToSchema)]
struct TrialResult {
    /// The course, thinned for drawing.
    trace: Trace,
    /// Metrics of the whole course, margins, verdicts.
    assessment: Assessment,
    /// The closed-loop time constant in s for which SIMC gives these settings; null when they are others.
    simc_time_constant: Option<f64>,
    /// SHA-256 of the trial: the same digest, the same trace.
    digest: String,
    /// Whether the first controller sets the OP by itself and can be looked at as if all others stood still.
    stands_alone: bool,
}

#[derive(Debug, Deserialize, IntoParams)]
struct Drawing {
    /// Most rows of the trace to send; 10 to 100000.
    rows: Option<usize>,
    /// Whether to send the terms of the balances over time, and the balance sheets.
    #[serde(default)]
    balances: bool,
}

impl Drawing {
    fn rows(&self) -> Result<usize, Problem> {
        let rows = self.rows.unwrap_or(DRAWN_ROWS);
        if (10..=100_000).contains(&rows) {
            Ok(rows)
        } else {
            Err(Problem::invalid(format!("The number of rows is {rows}: it must be 10 to 100000.")))
        }
    }
}

async fn run(trial: Trial, rows: usize, with_balances: bool) -> Result<TrialResult, Problem> {
    compute(move || {
        let simulation = if with_balances { Simulation::with_balances(&trial) } else { Simulation::new(&trial) };
        let trace = simulation?.run();
        let assessment = assess(&trial, &trace)?;
        let settings = trial.candidate.controller.pid();
        let simc_time_constant = settings
            .zip(trial.plant.process.as_linear())
            .and_then(|(settings, process)| simc_choice_of(process, &trial.plant.pv.span, settings));
        Ok(TrialResult {
            trace: trace.thinned(rows),
            assessment,
            simc_time_constant,
            digest: trial.digest(),
            stands_alone: trial.stands_alone(),
        })
    })
    .await?
}

/// Runs a trial without keeping it.
#[utoipa::path(post, path = "/api/v1/simulate", tag = "control", params(Drawing), request_body = Trial,
    responses((status = 200, body = TrialResult), (status = 422, body = Problem)))]
async fn simulate(
    State(state): State<AppState>,
    Query(drawing): Query<Drawing>,
    Body(trial): Body<Trial>,
) -> Result<Json<TrialResult>, Problem> {
    let result = run(trial, drawing.rows()?, drawing.balances).await?;
    // Whoever keeps it next has it judged already.
    state.assessed.insert(result.digest.clone(), Arc::new(result.assessment.clone())).await;
    Ok(Json(result))
}

/// What is to be said of a trial: as it was said when it was simulated last, or after running it.
async fn assessed(state: &AppState, trial: &Trial) -> Result<Arc<Assessment>, Problem> {
    match state.assessed.get(&trial.digest()).await {
        Some(known) => Ok(known),
        None => Ok(Arc::new(run(trial.clone(), DRAWN_ROWS, false).await?.assessment)),
    }
}

/// A trial, and the kind of event that is to be added.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
struct EventRequest {
    /// The trial.
    trial: Trial,
    /// The kind.
    kind: EventKind,
    /// Of a channel of a record, the unit of its samples.
    #[serde(default)]
    unit: Option<String>,
}

/// An event to begin with, of a kind that is to be added to a trial.
#[utoipa::path(post, path = "/api/v1/scenarios/event", tag = "control", request_body = EventRequest,
    responses((status = 200, body = Event), (status = 422, body = Problem)))]
async fn event_to_begin_with(Body(request): Body<EventRequest>) -> Result<Json<Event>, Problem> {
    Ok(Json(compute(move || begin_event(request.kind, &request.trial, request.unit.as_deref())).await??))
}

/// Runs a trial with the output standing still: in manual, and without what an operator does.
#[utoipa::path(post, path = "/api/v1/simulate/open-loop", tag = "control", params(Drawing), request_body = Trial,
    responses((status = 200, body = TrialResult), (status = 422, body = Problem)))]
async fn simulate_open(Query(drawing): Query<Drawing>, Body(trial): Body<Trial>) -> Result<Json<TrialResult>, Problem> {
    Ok(Json(run(trial.in_open_loop(), drawing.rows()?, drawing.balances).await?))
}

/// A trial, and the scan of it that is looked at.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
struct AheadRequest {
    /// The trial.
    trial: Trial,
    /// Seconds from its start: the last scan that is not after.
    #[schema(minimum = 0)]
    at: f64,
}

/// What the predictive controller of a trial sees ahead at one scan: what it expects, plans, and is held by.
#[utoipa::path(post, path = "/api/v1/simulate/ahead", tag = "control", request_body = AheadRequest,
    responses((status = 200, body = LookAhead), (status = 422, body = Problem)))]
async fn look_ahead(Body(request): Body<AheadRequest>) -> Result<Json<LookAhead>, Problem> {
    Ok(Json(compute(move || request.trial.ahead(request.at)).await??))
}

/// A trial that is to move to another plant.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
struct MoveRequest {
    /// The trial.
    trial: Trial,
    /// The plant.
    plant: Plant,
}

/// A trial on another plant.
#[derive(Debug, Serialize, ToSchema)]
struct Moved {
    /// The trial.
    trial: Trial,
    /// Events that act on what the plant does not have, and so are not in the trial.
    left_out: Vec<Event>,
}

/// The same settings and scenario on another plant.
#[utoipa::path(post, path = "/api/v1/trials/on-plant", tag = "control", request_body = MoveRequest,
    responses((status = 200, body = Moved), (status = 422, body = Problem)))]
async fn trial_on_plant(Body(request): Body<MoveRequest>) -> Result<Json<Moved>, Problem> {
    let (trial, left_out) = compute(move || request.trial.on_plant(request.plant)).await??;
    Ok(Json(Moved { trial, left_out }))
}

/// The newest rows of the trail of a loop, and besides, however old, those that are pinned or starred. The header
/// `X-Total-Count` tells how many there are in all.
#[utoipa::path(get, path = "/api/v1/loops/{tag}/trials", tag = "control",
    params(("tag" = String, Path, description = "Tag of the loop"), PartOfList),
    responses((status = 200, body = Vec<TrialRow>, headers(("X-Total-Count" = i64, description = "Rows in all"),
            ("X-Unreadable-Count" = i64, description = "Rows of this part that this version cannot read"))),
        (status = 404, body = Problem), (status = 422, body = Problem)))]
async fn list_trials(
    State(state): State<AppState>,
    Path(tag): Path<String>,
    Query(part): Query<PartOfList>,
) -> Result<InPart<TrialRow>, Problem> {
    let part = part.checked()?;
    let found = state.store.find_loop(&tag).await?;
    Ok(InPart::from(state.store.newest_trials(found.id, part).await?))
}

/// A trial that was assessed again.
#[derive(Debug, Serialize, ToSchema)]
struct AssessedAgain {
    /// The trial with its figures as they are now.
    row: TrialRow,
    /// Its assessment as it was.
    before: Assessment,
    /// Whether any figure differs by more than rounding.
    differs: bool,
}

/// Numbers that differ by less than this share of themselves are the same.
const ROUNDING: f64 = 1e-9;

/// Whether two documents say the same, but for rounding.
fn alike(a: &Value, b: &Value) -> bool {
    match (a, b) {
        (Value::Number(a), Value::Number(b)) => {
            let (a, b) = (a.as_f64().unwrap_or(f64::NAN), b.as_f64().unwrap_or(f64::NAN));
            (a - b).abs() <= ROUNDING * a.abs().max(b.abs())
        }
        (Value::Array(a), Value::Array(b)) => a.len() == b.len() && a.iter().zip(b).all(|(a, b)| alike(a, b)),
        (Value::Object(a), Value::Object(b)) => {
            a.len() == b.len() && a.iter().all(|(name, a)| b.get(name).is_some_and(|b| alike(a, b)))
        }
        _ => a == b,
    }
}

/// Runs a trial of the trail with the present engine, and gives it the figures that come out.
#[utoipa::path(post, path = "/api/v1/trials/{id}/assess", tag = "control",
    params(("id" = Uuid, Path, description = "Identifier of the trial")),
    responses((status = 200, body = AssessedAgain), (status = 404, body = Problem), (status = 422, body = Problem)))]
async fn assess_again(State(state): State<AppState>, Path(id): Path<Uuid>) -> Result<Json<AssessedAgain>, Problem> {
    let TrialRow { trial, assessment: before, .. } = state.store.trial(id).await?;
    let assessment = run(trial, DRAWN_ROWS, false).await?.assessment;
    state.store.assess_again(id, &assessment).await?;
    let document = |assessment: &Assessment| serde_json::to_value(assessment).map_err(|_| Problem::internal());
    let differs = !alike(&document(&before)?, &document(&assessment)?);
    Ok(Json(AssessedAgain { row: state.store.trial(id).await?, before, differs }))
}

/// A trial for the trail.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
struct KeepRequest {
    /// The trial.
    trial: Trial,
    /// The model that its process is said to come from: it counts where the process is that of the model, and another
    /// model of the loop takes its place where the process is that one's.
    model_id: Option<Uuid>,
    /// The trial that it was changed from: the difference becomes its name.
    changed_from: Option<Uuid>,
    /// A name of its own, up to 120 characters; it goes before the difference.
    label: Option<String>,
    /// A trial that was only passed through on the way to this one: it makes room for it, unless it was starred, pinned or
    /// annotated.
    #[serde(default)]
    replaces: Option<Uuid>,
}

/// The model of the loop that a trial stands on, by its process: the one that is claimed where that is true. An edited
/// process is no model's any more.
fn origin(models: &[ModelRow], process: &ProcessSpec, claimed: Option<Uuid>) -> Option<Uuid> {
    let same: Vec<Uuid> =
        models.iter().filter(|row| row.model.as_process().is_ok_and(|own| own == *process)).map(|row| row.id).collect();
    claimed.filter(|id| same.contains(id)).or_else(|| same.first().copied())
}

/// Runs a trial and keeps it at the end of the trail. One that is there already is not kept twice.
#[utoipa::path(post, path = "/api/v1/loops/{tag}/trials", tag = "control",
    params(("tag" = String, Path, description = "Tag of the loop")), request_body = KeepRequest,
    responses((status = 201, body = TrialRow), (status = 404, body = Problem), (status = 422, body = Problem)))]
async fn keep_trial(
    State(state): State<AppState>,
    Path(tag): Path<String>,
    Body(request): Body<KeepRequest>,
) -> Result<(StatusCode, Json<TrialRow>), Problem> {
    let found = state.store.find_loop(&tag).await?;
    let label = match (request.label.map(|label| label.trim().to_owned()), request.changed_from) {
        (Some(label), _) if label.chars().count() > 120 => {
            return Err(Problem::invalid("label is longer than 120 characters"));
        }
        (Some(label), _) if !label.is_empty() => label,
        (_, Some(before)) => {
            let before = state.store.trial(before).await?;
            let changes = request.trial.difference(&before.trial);
            if changes.is_empty() { "as before".to_owned() } else { changes.join(", ") }
        }
        _ => "first".to_owned(),
    };
    let assessment = assessed(&state, &request.trial).await?;
    let label = with_reading(label, &request.trial).await?;
    let new = NewTrial {
        model_id: match &request.trial.plant.process {
            process @ (ProcessSpec::Linear(_) | ProcessSpec::Detailed(DetailedSpec::TransferFunctions(_))) => {
                origin(&state.store.models(found.id).await?, process, request.model_id)
            }
            // A balance is that of a physical model only where it is said to be.
            process @ ProcessSpec::Detailed(_) if request.model_id.is_some() => {
                origin(&state.store.models(found.id).await?, process, request.model_id)
            }
            ProcessSpec::Detailed(_) => None,
        },
        label: &label,
        trial: &request.trial,
        assessment: &assessment,
        replaces: request.replaces,
    };
    let id = state.store.add_trial(found.id, new).await?;
    Ok((StatusCode::CREATED, Json(state.store.trial(id).await?)))
}

/// What a relay experiment has shown stands with its row.
async fn with_reading(label: String, trial: &Trial) -> Result<String, Problem> {
    if !matches!(trial.candidate.controller, ControllerSpec::Relay(_)) {
        return Ok(label);
    }
    let own = trial.clone();
    let reading = compute(move || read_relay(&own, &own.run()?)).await?;
    Ok(match reading {
        Ok(reading) => {
            let (gain, period) = (readable(reading.ultimate_gain), readable_duration(reading.ultimate_period));
            format!("{label}: Ku {gain} %/%, Pu {period}")
        }
        Err(_) => label,
    })
}

/// Runs a trial of the trail again: the same trial gives the same trace.
#[utoipa::path(get, path = "/api/v1/trials/{id}/trace", tag = "control",
    params(("id" = Uuid, Path, description = "Identifier of the trial"), Drawing),
    responses((status = 200, body = TrialResult), (status = 404, body = Problem)))]
async fn trial_trace(
    State(state): State<AppState>,
    Path(id): Path<Uuid>,
    Query(drawing): Query<Drawing>,
) -> Result<Json<TrialResult>, Problem> {
    let row = state.store.trial(id).await?;
    Ok(Json(run(row.trial, drawing.rows()?, drawing.balances).await?))
}

/// What is edited of a trial of the trail.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
struct TrialChange {
    /// What it is called, 1 to 120 characters.
    label: String,
    /// What there is to say about it.
    #[serde(default)]
    remark: String,
    /// Whether it is starred, to be found again.
    starred: bool,
}

/// Renames, annotates and stars a trial of the trail.
#[utoipa::path(put, path = "/api/v1/trials/{id}", tag = "control",
    params(("id" = Uuid, Path, description = "Identifier of the trial"), ("If-Match" = String, Header, description = "Revision that is changed")),
    request_body = TrialChange,
    responses((status = 200, body = TrialRow), (status = 404, body = Problem), (status = 412, body = Problem),
        (status = 422, body = Problem), (status = 428, body = Problem)))]
async fn change_trial(
    State(state): State<AppState>,
    Path(id): Path<Uuid>,
    IfMatch(expected): IfMatch,
    Body(change): Body<TrialChange>,
) -> Result<Revised<TrialRow>, Problem> {
    let label = name_of("label", &change.label, 120)?;
    let edit = TrialEdit { label: &label, remark: annotation("remark", &change.remark)?, starred: change.starred };
    let done = state.store.set_trial(id, expected, edit).await;
    let row = state.store.trial(id).await?;
    if let Err(Error::Changed) = done {
        return Err(Problem::changed(&format!("the trial “{}”", row.label), expected, row.revision, &row));
    }
    done?;
    Ok(Revised(row.revision, row))
}

/// Puts a trial into the bin.
#[utoipa::path(delete, path = "/api/v1/trials/{id}", tag = "control",
    params(("id" = Uuid, Path, description = "Identifier of the trial")),
    responses((status = 200, body = BinItem), (status = 404, body = Problem)))]
async fn delete_trial(State(state): State<AppState>, Path(id): Path<Uuid>) -> Result<Json<BinItem>, Problem> {
    Ok(Json(state.store.delete(DeletionKind::Trial, id).await?))
}

/// Whether a trial is pinned.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
struct Pin {
    /// Whether others are to be compared with it.
    pinned: bool,
}

/// Pins a trial in place of the one pinned before, or unpins it.
#[utoipa::path(put, path = "/api/v1/trials/{id}/pin", tag = "control",
    params(("id" = Uuid, Path, description = "Identifier of the trial")), request_body = Pin,
    responses((status = 200, body = TrialRow), (status = 404, body = Problem)))]
async fn pin_trial(
    State(state): State<AppState>,
    Path(id): Path<Uuid>,
    Body(pin): Body<Pin>,
) -> Result<Json<TrialRow>, Problem> {
    state.store.pin_trial(id, pin.pinned).await?;
    Ok(Json(state.store.trial(id).await?))
}

/// What is to be measured on which trial.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
struct MeasureRequest {
    /// The trial.
    trial: Trial,
    /// The signal, the window and the limits.
    question: Question,
}

/// Metrics of any signal of a trial, over any window and against any limits.
#[utoipa::path(post, path = "/api/v1/metrics", tag = "control", request_body = MeasureRequest,
    responses((status = 200, body = SignalMetrics), (status = 422, body = Problem)))]
async fn measure_signal(Body(request): Body<MeasureRequest>) -> Result<Json<SignalMetrics>, Problem> {
    let MeasureRequest { trial, question } = request;
    Ok(Json(compute(move || measure(&Simulation::with_balances(&trial)?.run(), &question)).await??))
}

/// How a trial leaves.
#[derive(Debug, Deserialize, IntoParams)]
struct Export {
    /// Ending of the file name: `json` for the trial itself; `csv`, `tsv`, `xlsx` or `parquet` for its trace, every scan and
    /// every column, the terms of the balances included.
    format: String,
}

/// A trial, or its trace, as a file.
#[utoipa::path(get, path = "/api/v1/trials/{id}/export", tag = "control",
    params(("id" = Uuid, Path, description = "Identifier of the trial"), Export),
    responses((status = 200, content_type = "application/octet-stream", body = Vec<u8>), (status = 404, body = Problem), (status = 422, body = Problem)))]
async fn export_trial(
    State(state): State<AppState>,
    Path(id): Path<Uuid>,
    Query(export): Query<Export>,
) -> Result<Response, Problem> {
    let format = Format::of_ending(&export.format)?;
    let row = state.store.trial(id).await?;
    let name = format!("{} trial {}", row.trial.plant.pv.tag, letter(row.number));
    let file = compute(move || -> Result<Vec<u8>, Problem> {
        if format == Format::Json {
            return serde_json::to_vec_pretty(&row.trial).map_err(|_| Problem::internal());
        }
        let trace = Simulation::with_balances(&row.trial)?.run();
        content(&trace.as_table()?, 0.0, format)
    })
    .await??;
    Ok(attachment(&name, format, file))
}
