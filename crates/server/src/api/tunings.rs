//! Tuning by rule, by experiment and by optimisation.

use crate::gate::{compute, compute_job};
use crate::jobs::{Job, Stage};
use crate::problem::{Body, Path, Problem};
use crate::state::AppState;
use crate::tunings::{TuningOutcome, TuningRequest, run};
use antistasis_core::assessment::scan_verdicts;
use antistasis_core::controller::{ControllerSpec, InNotation, Notation, PidSettings};
use antistasis_core::process::LinearSpec;
use antistasis_core::simulation::{Plant, Trial};
use antistasis_core::tuning::{
    Another, Beginning, Controlled, ControllerKind, Demands, InOrder, RelayReading, Rule, RuleChoice, RuleTuning,
    another_controller, begin_with, read_relay, tune_by_rule, tune_in_order,
};
use antistasis_core::units::Span;
use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use serde::{Deserialize, Serialize};
use std::sync::Arc;
use utoipa::ToSchema;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;
use uuid::Uuid;

pub(super) fn router() -> OpenApiRouter<AppState> {
    OpenApiRouter::new()
        .routes(routes!(tune_by_rules))
        .routes(routes!(read_relay_experiment))
        .routes(routes!(in_order))
        .routes(routes!(another))
        .routes(routes!(begin_controller))
        .routes(routes!(write_settings))
        .routes(routes!(read_settings))
        .routes(routes!(start_tuning))
        .routes(routes!(tuning_state, cancel_tuning))
}

/// A plant to be tuned for by rules.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
struct RulesRequest {
    /// The plant.
    plant: Plant,
    /// Scan of the controller in s, half of which is dead time to it; null for one that can be neglected.
    #[serde(default)]
    scan: Option<f64>,
    /// What the engineer chooses.
    #[serde(default)]
    choice: RuleChoice,
}

/// What a rule gives, or why it gives nothing.
#[derive(Debug, Serialize, ToSchema)]
struct RuleOutcome {
    /// The rule.
    rule: Rule,
    /// What it is called.
    title: String,
    /// Its settings.
    tuning: Option<RuleTuning>,
    /// Why there are none.
    without: Option<String>,
}

/// What all rules give.
#[derive(Debug, Serialize, ToSchema)]
struct RulesOutcome {
    /// The process that they go by: the plant's own, or the low-order one nearest to it, as the controller sees it: with
    /// half a scan, and lag, dead time and filter of the sensor by the half rule.
    process: LinearSpec,
    /// The rules, in the order of their publication.
    rules: Vec<RuleOutcome>,
}

/// The settings of all rules for a plant, with their sources, ranges and warnings.
#[utoipa::path(post, path = "/api/v1/tune/rules", tag = "tuning", request_body = RulesRequest,
    responses((status = 200, body = RulesOutcome), (status = 422, body = Problem)))]
async fn tune_by_rules(Body(request): Body<RulesRequest>) -> Result<Json<RulesOutcome>, Problem> {
    let outcome = compute(move || {
        let scan = request.scan.unwrap_or(0.0);
        if !(0.0..=1e6).contains(&scan) {
            return Err(antistasis_core::Error::invalid("scan", format!("{scan} s"), "0 to 1000000 s"));
        }
        let process = Controlled::of(&request.plant)?.as_seen(scan);
        let span = &request.plant.pv.span;
        let rules = Rule::ALL
            .into_iter()
            .map(|rule| {
                let found = tune_by_rule(&process, span, rule, &request.choice);
                let (tuning, without) = match found {
                    Ok(mut tuning) => {
                        let typed_in = ControllerSpec::Pid(tuning.to_type_in.clone());
                        tuning.warnings.extend(scan_verdicts(&typed_in, scan));
                        (Some(tuning), None)
                    }
                    Err(error) => (None, Some(error.to_string())),
                };
                RuleOutcome { rule, title: rule.title().to_owned(), tuning, without }
            })
            .collect();
        Ok::<_, antistasis_core::Error>(RulesOutcome { process, rules })
    });
    Ok(Json(outcome.await??))
}

/// Runs a trial whose controller is a relay and reads ultimate gain and period from its end.
#[utoipa::path(post, path = "/api/v1/tune/relay", tag = "tuning", request_body = Trial,
    responses((status = 200, body = RelayReading), (status = 422, body = Problem)))]
async fn read_relay_experiment(Body(trial): Body<Trial>) -> Result<Json<RelayReading>, Problem> {
    Ok(Json(compute(move || read_relay(&trial, &trial.run()?)).await??))
}

/// Tunes the controllers of a trial one after the other, of a cascade the inner one first, each with those before it closed.
#[utoipa::path(post, path = "/api/v1/tune/in-order", tag = "tuning", request_body = Trial,
    responses((status = 200, body = InOrder), (status = 422, body = Problem)))]
async fn in_order(Body(trial): Body<Trial>) -> Result<Json<InOrder>, Problem> {
    Ok(Json(compute(move || tune_in_order(&trial)).await??))
}

/// One more controller for a trial: of what none measures yet, on an OP that none sets yet, tuned there; where all are set it overrides
/// the first one.
#[utoipa::path(post, path = "/api/v1/tune/another", tag = "tuning", request_body = Trial,
    responses((status = 200, body = Another), (status = 422, body = Problem)))]
async fn another(Body(trial): Body<Trial>) -> Result<Json<Another>, Problem> {
    Ok(Json(compute(move || another_controller(&trial)).await??))
}

/// Another kind of controller for a trial.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
struct BeginRequest {
    /// The trial.
    trial: Trial,
    /// The kind.
    kind: ControllerKind,
}

/// Settings of another kind of controller to begin with, and the scenario that suits it.
#[utoipa::path(post, path = "/api/v1/tune/begin", tag = "tuning", request_body = BeginRequest,
    responses((status = 200, body = Beginning), (status = 422, body = Problem)))]
async fn begin_controller(Body(request): Body<BeginRequest>) -> Result<Json<Beginning>, Problem> {
    Ok(Json(compute(move || begin_with(request.kind, &request.trial)).await??))
}

/// Settings to be written in a notation.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
struct WriteRequest {
    /// The settings.
    settings: PidSettings,
    /// The notation.
    notation: Notation,
    /// Span of the PV; needed where the gain is over its engineering unit.
    #[serde(default = "of_percent")]
    pv_span: Span,
}

fn of_percent() -> Span {
    Span::new(0.0, 100.0, "%")
}

/// PID settings in the form and units in which a controller on the plant takes them.
#[utoipa::path(post, path = "/api/v1/notation/write", tag = "tuning", request_body = WriteRequest,
    responses((status = 200, body = InNotation), (status = 422, body = Problem)))]
async fn write_settings(Body(request): Body<WriteRequest>) -> Result<Json<InNotation>, Problem> {
    Ok(Json(request.notation.write(&request.settings, &request.pv_span)?))
}

/// Settings as a controller on the plant shows them.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
struct ShownSettings {
    /// The notation.
    notation: Notation,
    /// Gain, proportional gain or proportional band.
    proportional: f64,
    /// Integral time, rate or repeats; null without integral action.
    integral: Option<f64>,
    /// Derivative time or gain; 0 without.
    #[serde(default)]
    derivative: f64,
    /// Everything else.
    others: PidSettings,
    /// Span of the PV; needed where the gain is over its engineering unit.
    #[serde(default = "of_percent")]
    pv_span: Span,
}

/// PID settings from the form and units in which a controller on the plant shows them.
#[utoipa::path(post, path = "/api/v1/notation/read", tag = "tuning", request_body = ShownSettings,
    responses((status = 200, body = PidSettings), (status = 422, body = Problem)))]
async fn read_settings(Body(request): Body<ShownSettings>) -> Result<Json<PidSettings>, Problem> {
    let ShownSettings { notation, proportional, integral, derivative, others, pv_span } = request;
    Ok(Json(notation.read(proportional, integral, derivative, (&others, &pv_span))?))
}

/// A search for settings in the background.
#[derive(Debug, Serialize, ToSchema)]
struct TuningState {
    /// Identifier, good for an hour.
    id: Uuid,
    /// How it stands.
    stage: Stage,
    /// Which share is done, 0 to 1; for an optimum about.
    share: f64,
    /// What was found, once it is done; of a trade-off that is under way, what there is so far.
    #[schema(value_type = Option<TuningOutcome>)]
    outcome: Option<Arc<TuningOutcome>>,
    /// What is wrong.
    problem: Option<Problem>,
}

impl TuningState {
    fn of(id: Uuid, job: &Job<TuningOutcome>) -> Self {
        let (stage, outcome, problem) = job.standing();
        Self { id, stage, share: job.share(), outcome, problem }
    }
}

/// Begins a search for settings: an optimum under demands, or the trade-off between load error and maximum sensitivity.
#[utoipa::path(post, path = "/api/v1/tunings", tag = "tuning", request_body = TuningRequest,
    responses((status = 202, body = TuningState), (status = 422, body = Problem)))]
async fn start_tuning(
    State(state): State<AppState>,
    Body(request): Body<TuningRequest>,
) -> Result<(StatusCode, Json<TuningState>), Problem> {
    let request = compute(move || {
        let trial = &request.trial;
        trial.validate().and_then(|()| trial.check_stands_alone()).map(|()| request)
    })
    .await??;
    request.demands.validate()?;
    if let Some(words) = &request.demands_in_words {
        Demands::read(words)?;
    }
    let (id, job) = state.tunings.begin()?;
    let running = Arc::clone(&job);
    tokio::spawn(async move {
        let working = Arc::clone(&running);
        let done = compute_job(move || {
            let found = run(request, &working);
            if working.is_cancelled() { Err(Problem::cancelled("The search was cancelled.")) } else { found }
        });
        running.finish(done.await.and_then(|outcome| outcome));
    });
    Ok((StatusCode::ACCEPTED, Json(TuningState::of(id, &job))))
}

/// How far a search for settings is, and what it found.
#[utoipa::path(get, path = "/api/v1/tunings/{id}", tag = "tuning",
    params(("id" = Uuid, Path, description = "Identifier of the search")),
    responses((status = 200, body = TuningState), (status = 404, body = Problem)))]
async fn tuning_state(State(state): State<AppState>, Path(id): Path<Uuid>) -> Result<Json<TuningState>, Problem> {
    Ok(Json(TuningState::of(id, &*state.tunings.find(id)?)))
}

/// Ends a search for settings.
#[utoipa::path(delete, path = "/api/v1/tunings/{id}", tag = "tuning",
    params(("id" = Uuid, Path, description = "Identifier of the search")),
    responses((status = 200, body = TuningState), (status = 404, body = Problem)))]
async fn cancel_tuning(State(state): State<AppState>, Path(id): Path<Uuid>) -> Result<Json<TuningState>, Problem> {
    let job = state.tunings.find(id)?;
    job.cancel();
    Ok(Json(TuningState::of(id, &job)))
}
