//! Processes and plants: what there is, what is wrong with equations, where a plant rests and how it answers.

use crate::gate::compute;
use crate::problem::{Body, Problem};
use crate::state::AppState;
use antistasis_core::Error;
use antistasis_core::assessment::{Interaction, InteractionQuestion, PlantAnalysis, SignalOffers, analyse};
use antistasis_core::process::{Description, EquationsSpec, Offer, ProcessSpec, StepTable, TextFault, offers};
use antistasis_core::simulation::Plant;
use antistasis_core::tuning::{
    FurtherSignal, LoadQuestion, LoopsAnswer, LoopsQuestion, OverLoad, begin_loops, over_load, with_further,
};
use axum::Json;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

pub(super) fn router() -> OpenApiRouter<AppState> {
    OpenApiRouter::new()
        .routes(routes!(list_processes))
        .routes(routes!(describe_process))
        .routes(routes!(step_responses))
        .routes(routes!(check_equations))
        .routes(routes!(read_equations))
        .routes(routes!(equations_text))
        .routes(routes!(usual_plant))
        .routes(routes!(analyse_plant))
        .routes(routes!(interaction_of))
        .routes(routes!(loops_of))
        .routes(routes!(over_its_load))
        .routes(routes!(further_signals))
}

/// Everything that can be simulated, each with values to begin with.
#[utoipa::path(get, path = "/api/v1/processes", tag = "plants",
    responses((status = 200, body = Vec<Offer>)))]
async fn list_processes() -> Json<Vec<Offer>> {
    Json(offers())
}

/// A plant over its range of operation: what it is like at each load, whether the settings of the trial do for all, and a gain
/// schedule with the trial that goes through the range.
#[utoipa::path(post, path = "/api/v1/plants/over-load", tag = "plants", request_body = LoadQuestion,
    responses((status = 200, body = OverLoad), (status = 422, body = Problem)))]
async fn over_its_load(Body(question): Body<LoadQuestion>) -> Result<Json<OverLoad>, Problem> {
    Ok(Json(compute(move || over_load(&question)).await??))
}

/// A process to make a plant of.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
struct UsualRequest {
    /// The process.
    process: ProcessSpec,
    /// What goes before `.PV` and `.OP` in the tags.
    tag: String,
}

/// A plant to begin with: the process driven and measured as usual, where it usually is.
#[utoipa::path(post, path = "/api/v1/plants/usual", tag = "plants", request_body = UsualRequest,
    responses((status = 200, body = Plant), (status = 422, body = Problem)))]
async fn usual_plant(Body(request): Body<UsualRequest>) -> Result<Json<Plant>, Problem> {
    Ok(Json(compute(move || Plant::usual(request.process, &request.tag)).await??))
}

/// A process to be described.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
struct DescribeRequest {
    /// The process.
    process: ProcessSpec,
    /// Unit of the PV, which is that of the output of a low-order linear process.
    pv_unit: String,
}

/// The states, inputs, outputs, parameters and balances of a process, with units and ranges.
#[utoipa::path(post, path = "/api/v1/processes/describe", tag = "plants", request_body = DescribeRequest,
    responses((status = 200, body = Description), (status = 422, body = Problem)))]
async fn describe_process(Body(request): Body<DescribeRequest>) -> Result<Json<Description>, Problem> {
    Ok(Json(compute(move || request.process.describe(&request.pv_unit)).await??))
}

/// The responses of every output of a linear process to a unit step of every input.
#[utoipa::path(post, path = "/api/v1/processes/responses", tag = "plants", request_body = DescribeRequest,
    responses((status = 200, body = StepTable), (status = 422, body = Problem)))]
async fn step_responses(Body(request): Body<DescribeRequest>) -> Result<Json<StepTable>, Problem> {
    let table = compute(move || match request.process.linear_process(&request.pv_unit)? {
        Some(process) => process.step_table(),
        None => Err(Error::said("process", "Only a linear process has step responses that hold everywhere.")),
    });
    Ok(Json(table.await??))
}

/// Equations as a person writes them.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
struct EquationsText {
    /// A line each; see the user guide for the form.
    text: String,
}

/// Equations out of text, and what is wrong with it, line by line.
#[derive(Debug, Serialize, ToSchema)]
struct ReadEquations {
    /// The equations as far as they can be read.
    equations: EquationsSpec,
    /// What is wrong.
    faults: Vec<TextFault>,
}

/// Reads equations of one's own from text: states with rates, inputs, parameters, definitions and outputs, a line each.
#[utoipa::path(post, path = "/api/v1/processes/read", tag = "plants", request_body = EquationsText,
    responses((status = 200, body = ReadEquations), (status = 422, body = Problem)))]
async fn read_equations(Body(EquationsText { text }): Body<EquationsText>) -> Result<Json<ReadEquations>, Problem> {
    let (equations, faults) = compute(move || EquationsSpec::read(&text)).await?;
    Ok(Json(ReadEquations { equations, faults }))
}

/// Writes equations as text, as they are read again.
#[utoipa::path(post, path = "/api/v1/processes/write", tag = "plants", request_body = EquationsSpec,
    responses((status = 200, body = EquationsText), (status = 422, body = Problem)))]
async fn equations_text(Body(equations): Body<EquationsSpec>) -> Result<Json<EquationsText>, Problem> {
    Ok(Json(EquationsText { text: compute(move || equations.written()).await? }))
}

/// What is wrong at one place.
#[derive(Debug, Serialize, ToSchema)]
struct Fault {
    /// The field, for example `rates[1].equals`.
    field: Option<String>,
    /// What is wrong and what is allowed.
    message: String,
}

/// Everything that is wrong with equations of one's own, in the order in which they are written; empty when they can be
/// simulated.
#[utoipa::path(post, path = "/api/v1/processes/check", tag = "plants", request_body = EquationsSpec,
    responses((status = 200, body = Vec<Fault>), (status = 422, body = Problem)))]
async fn check_equations(Body(equations): Body<EquationsSpec>) -> Result<Json<Vec<Fault>>, Problem> {
    let fault =
        |error: antistasis_core::Error| Fault { field: error.field().map(str::to_owned), message: error.to_string() };
    Ok(Json(compute(move || equations.problems().into_iter().map(fault).collect()).await?))
}

/// Where a plant can rest, its steady states and whether they are stable, its linearisation, and the low-order model that
/// comes nearest.
#[utoipa::path(post, path = "/api/v1/plants/analyse", tag = "plants", request_body = Plant,
    responses((status = 200, body = PlantAnalysis), (status = 422, body = Problem)))]
async fn analyse_plant(Body(plant): Body<Plant>) -> Result<Json<PlantAnalysis>, Problem> {
    Ok(Json(compute(move || analyse(&plant)).await??))
}

/// A plant with several inputs and outputs.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
struct InteractionRequest {
    /// The plant, which is looked at where it rests.
    plant: Plant,
    /// Between which signals, on which spans; null for the first ones of its process on what is usual.
    #[serde(default)]
    question: Option<InteractionQuestion>,
}

/// How loops on a plant act on each other.
#[derive(Debug, Serialize, ToSchema)]
struct InteractionAnswer {
    /// What was asked.
    question: InteractionQuestion,
    /// Relative gains, pairings, singular values and zeros.
    interaction: Interaction,
    /// All signals that can be asked for, on their usual spans.
    offers: SignalOffers,
}

/// How several loops on one plant act on each other: relative gains, pairings, singular values, zeros with their directions. Refused
/// (422) where its process has not two inputs and two outputs.
#[utoipa::path(post, path = "/api/v1/plants/interaction", tag = "plants", request_body = InteractionRequest,
    responses((status = 200, body = InteractionAnswer), (status = 422, body = Problem)))]
async fn interaction_of(Body(request): Body<InteractionRequest>) -> Result<Json<InteractionAnswer>, Problem> {
    let answer = compute(move || {
        let InteractionRequest { plant, question } = request;
        let question = match question {
            Some(question) => question,
            None => InteractionQuestion::usual(&plant)?.ok_or_else(|| {
                Error::said(
                    "plant.process",
                    "A process with one input or one output has no loops that could act on each other.",
                )
            })?,
        };
        let offers = SignalOffers::of(&plant)?;
        Interaction::of(&plant, &question).map(|interaction| InteractionAnswer { question, interaction, offers })
    });
    Ok(Json(answer.await??))
}

/// Several loops set up on one plant: a trial with a PI controller a pair of signals, detuned together by the largest log modulus,
/// with or without decouplers. Refused (422) where a pair does not fit, or a loop cannot be tuned so.
#[utoipa::path(post, path = "/api/v1/plants/loops", tag = "plants", request_body = LoopsQuestion,
    responses((status = 200, body = LoopsAnswer), (status = 422, body = Problem)))]
async fn loops_of(Body(question): Body<LoopsQuestion>) -> Result<Json<LoopsAnswer>, Problem> {
    Ok(Json(compute(move || begin_loops(&question)).await??))
}

/// A plant that is to have a further signal.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
struct FurtherRequest {
    /// The plant.
    plant: Plant,
    /// The output that is to be measured, too; null for none.
    #[serde(default)]
    output: Option<String>,
    /// The input that is to be driven, too; null for none.
    #[serde(default)]
    input: Option<String>,
    /// The input that is to be measured as a disturbance; null for none.
    #[serde(default)]
    disturbance: Option<String>,
}

/// The plant with a further measured or driven signal, or a measured disturbance, on the span that is usual for it. Refused (422) where its process has no such
/// signal, or it is measured or driven already.
#[utoipa::path(post, path = "/api/v1/plants/further", tag = "plants", request_body = FurtherRequest,
    responses((status = 200, body = Plant), (status = 422, body = Problem)))]
async fn further_signals(Body(request): Body<FurtherRequest>) -> Result<Json<Plant>, Problem> {
    let FurtherRequest { plant, output, input, disturbance } = request;
    let with = move || {
        let signals = [
            output.as_deref().map(FurtherSignal::Output),
            input.as_deref().map(FurtherSignal::Driven),
            disturbance.as_deref().map(FurtherSignal::Disturbance),
        ];
        with_further(&plant, &signals.into_iter().flatten().collect::<Vec<_>>())
    };
    Ok(Json(compute(with).await??))
}
