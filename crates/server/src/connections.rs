//! Connections: how many, and how long one may take to say what it wants.

use crate::GRACE;
use axum::Router;
use hyper::server::conn::http1::Builder;
use hyper_util::rt::{TokioIo, TokioTimer};
use hyper_util::server::graceful::GracefulShutdown;
use hyper_util::service::TowerToHyperService;
use std::future::Future;
use std::sync::Arc;
use std::time::Duration;
use tokio::net::TcpListener;
use tokio::sync::Semaphore;

/// Most connections at once; others wait until one is free.
const MOST_CONNECTIONS: usize = 512;
/// Longest time in which the head of a request must have come.
const HEAD_TIME: Duration = Duration::from_secs(10);
/// Pause after a connection could not be taken: no file handle was free, most of the time.
const PAUSE: Duration = Duration::from_millis(100);

/// Serves until `ending` is done, then finishes the requests under way as far as they are quick.
pub(crate) async fn serve(
    listener: TcpListener,
    application: Router,
    ending: impl Future<Output = ()>,
) -> std::io::Result<()> {
    let places = Arc::new(Semaphore::new(MOST_CONNECTIONS));
    let graceful = GracefulShutdown::new();
    // One version only: whoever would wait for the first bytes to tell another would wait for ever.
    let mut builder = Builder::new();
    builder.timer(TokioTimer::new()).header_read_timeout(HEAD_TIME);
    tokio::pin!(ending);
    loop {
        let accepted = async {
            let place = Arc::clone(&places).acquire_owned().await;
            (listener.accept().await, place)
        };
        let (accepted, place) = tokio::select! {
            () = &mut ending => break,
            accepted = accepted => accepted,
        };
        let stream = match accepted {
            Ok((stream, _)) => stream,
            Err(error) => {
                tracing::warn!(%error, "a connection could not be taken");
                tokio::time::sleep(PAUSE).await;
                continue;
            }
        };
        let service = TowerToHyperService::new(application.clone());
        let connection = builder.serve_connection(TokioIo::new(stream), service);
        let watched = graceful.watch(connection);
        tokio::spawn(async move {
            let _place = place;
            // What goes wrong with a single connection is the other side's business.
            let _ = watched.await;
        });
    }
    drop(listener);
    // A browser that keeps a connection open must not hold up the end.
    let _ = tokio::time::timeout(GRACE, graceful.shutdown()).await;
    Ok(())
}
