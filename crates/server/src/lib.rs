//! The web application: the API under `/api/v1`, its OpenAPI document, and the built front end.

mod access;
mod api;
pub mod archive;
mod connections;
mod contract;
pub mod dossier;
mod download;
mod events;
mod fitting;
mod frontend;
mod gate;
mod guard;
mod jobs;
mod licences;
mod problem;
mod queue;
mod revision;
mod state;
mod tunings;
mod uploads;

pub use access::{Access, Token};
pub use api::openapi;
pub use contract::satisfiable;
pub use gate::end_all_work;
pub use licences::licences;
pub use problem::Problem;
pub use queue::work;
pub use state::AppState;

use axum::Router;
use axum::extract::{DefaultBodyLimit, Request};
use axum::middleware;
use std::future::Future;
use std::time::Duration;
use tokio::net::TcpListener;
use tower_http::catch_panic::CatchPanicLayer;
use tower_http::compression::CompressionLayer;
use tower_http::timeout::{RequestBodyTimeoutLayer, TimeoutLayer};
use tower_http::trace::{DefaultOnResponse, TraceLayer};
use tracing::Level;

/// Largest JSON body; uploads have a limit of their own.
const BODY_LIMIT: usize = 2 * 1024 * 1024;
/// Longest time that a request may take.
const REQUEST_TIME: Duration = Duration::from_secs(300);
/// Longest pause in the middle of a request's body.
const BODY_TIME: Duration = Duration::from_secs(30);
/// Longest wait for requests under way when the server ends.
const GRACE: Duration = Duration::from_secs(1);

/// The whole application.
pub fn application(state: AppState) -> Router {
    let (api, _) = api::router().split_for_parts();
    Router::new()
        .merge(api)
        .route("/licences", axum::routing::get(licences::show))
        .fallback(frontend::serve)
        .layer(DefaultBodyLimit::max(BODY_LIMIT))
        .layer(middleware::from_fn_with_state(state.clone(), access::known_only))
        .layer(middleware::from_fn_with_state(state.clone(), guard::own_site_only))
        .layer(middleware::from_fn(guard::security_headers))
        .layer(middleware::from_fn(guard::readable_address))
        .layer(RequestBodyTimeoutLayer::new(BODY_TIME))
        .layer(CompressionLayer::new())
        .layer(TimeoutLayer::with_status_code(axum::http::StatusCode::REQUEST_TIMEOUT, REQUEST_TIME))
        .layer(CatchPanicLayer::new())
        .layer(
            TraceLayer::new_for_http()
                // Of the address only the path: a token has no place in a log.
                .make_span_with(|request: &Request| {
                    tracing::info_span!("request", method = %request.method(), path = request.uri().path())
                })
                .on_response(DefaultOnResponse::new().level(Level::INFO)),
        )
        .with_state(state)
}

/// Serves until `shutdown` is done, then finishes the requests under way.
pub async fn serve(
    listener: TcpListener,
    state: AppState,
    shutdown: impl Future<Output = ()> + Send + 'static,
) -> std::io::Result<()> {
    let events = state.events.clone();
    let (end, ended) = tokio::sync::watch::channel(false);
    let ending = async move {
        shutdown.await;
        // Whoever listens would hold the end up.
        events.end();
        let _ = end.send(true);
    };
    let (store, threads) = (state.store.clone(), state.worker_threads);
    let (begun, has_begun) = tokio::sync::oneshot::channel();
    // The worker ends with the server, whatever ends that.
    let mut worker = tokio::task::JoinSet::new();
    worker.spawn(async move {
        queue::begin_queue(&store).await;
        let _ = begun.send(());
        if threads > 0 {
            work(store, threads, ended).await;
        }
    });
    // While the database is away the server answers all the same, and says so.
    let _ = tokio::time::timeout(GRACE, has_begun).await;
    connections::serve(listener, application(state), ending).await?;
    let _ = tokio::time::timeout(GRACE, worker.join_next()).await;
    Ok(())
}
