//! What changes, as server-sent events.

use crate::events::Event;
use crate::state::AppState;
use antistasis_store::Change;
use axum::extract::State;
use axum::response::sse::{Event as Sent, KeepAlive, Sse};
use futures_util::stream::{Stream, StreamExt, unfold};
use std::convert::Infallible;
use tokio::sync::broadcast::error::RecvError;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

pub(super) fn router() -> OpenApiRouter<AppState> {
    OpenApiRouter::new().routes(routes!(listen))
}

/// Changes as they happen (server-sent events): `change` with what was made, changed or deleted, whoever did it; `lost` when
/// some may have been missed, so that everything must be looked at again.
#[utoipa::path(get, path = "/api/v1/events", tag = "server",
    responses((status = 200, content_type = "text/event-stream", body = Change)))]
async fn listen(State(state): State<AppState>) -> Sse<impl Stream<Item = Result<Sent, Infallible>>> {
    let mut ending = state.events.ending();
    let told = unfold(state.events.subscribe(), async |mut events| {
        let event = match events.recv().await {
            Ok(Event::Changed(change)) => Sent::default().event("change").json_data(&change).unwrap_or_default(),
            Ok(Event::Lost) | Err(RecvError::Lagged(_)) => Sent::default().event("lost").data("{}"),
            Err(RecvError::Closed) => return None,
        };
        Some((Ok(event), events))
    });
    // The first line tells that the connection stands.
    let hello = futures_util::stream::iter([Ok(Sent::default().event("hello").data("{}"))]);
    let ended = async move {
        let _ = ending.wait_for(|ended| *ended).await;
    };
    Sse::new(hello.chain(told).take_until(Box::pin(ended))).keep_alive(KeepAlive::default())
}
