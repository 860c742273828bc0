//! What changes, told to every page that listens.

use antistasis_store::{Change, Store};
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::{broadcast, watch};

/// Changes that a slow listener may be behind; beyond, it is told to look at everything again.
const BACKLOG: usize = 1024;
/// Pause before the database is asked again.
const PAUSE: Duration = Duration::from_millis(500);

/// What a page is told.
#[derive(Debug, Clone)]
pub(crate) enum Event {
    /// One row changed.
    Changed(Change),
    /// Any number may have changed unseen: look at everything again.
    Lost,
}

/// The changes of the database as they happen.
#[derive(Clone)]
pub(crate) struct Events {
    sender: broadcast::Sender<Event>,
    ended: Arc<watch::Sender<bool>>,
}

impl Events {
    /// Listens to the database as long as the application runs.
    pub fn of(store: Store) -> Self {
        let (sender, _) = broadcast::channel(BACKLOG);
        let (ended, mut end) = watch::channel(false);
        let events = Self { sender, ended: Arc::new(ended) };
        let sender = events.sender.clone();
        tokio::spawn(async move {
            tokio::select! {
                () = pass_on(store, sender) => {}
                _ = end.wait_for(|ended| *ended) => {}
            }
        });
        events
    }

    /// The events from now on.
    pub fn subscribe(&self) -> broadcast::Receiver<Event> {
        self.sender.subscribe()
    }

    /// Done when the application ends.
    pub fn ending(&self) -> watch::Receiver<bool> {
        self.ended.subscribe()
    }

    /// Lets every listener go.
    pub fn end(&self) {
        let _ = self.ended.send(true);
    }
}

async fn pass_on(store: Store, sender: broadcast::Sender<Event>) {
    loop {
        match store.listen().await {
            Ok(mut changes) => {
                let _ = sender.send(Event::Lost);
                loop {
                    match changes.next().await {
                        Ok(Some(change)) => _ = sender.send(Event::Changed(change)),
                        Ok(None) => _ = sender.send(Event::Lost),
                        Err(error) => {
                            tracing::warn!(%error, "changes are not heard for the moment");
                            break;
                        }
                    }
                }
            }
            Err(error) => tracing::debug!(%error, "the database cannot be listened to"),
        }
        tokio::time::sleep(PAUSE).await;
    }
}
