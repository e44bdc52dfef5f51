//! Events for any number of readers, as server-sent events. A reader that falls behind misses some, and receives their
//! number.

use std::convert::Infallible;
use std::pin::Pin;
use std::task::{Context, Poll};
use std::time::Duration;

use hyper::body::{Body, Bytes, Frame};
use pindrel_engine::Event;
use tokio::sync::broadcast::error::RecvError;
use tokio::sync::{broadcast, mpsc};

use crate::output::EventLine;

/// How many events a reader may be behind.
const BEHIND: usize = 1_024;
/// How many pieces wait to be sent to one reader, and how long it may take for one.
const WAITING: usize = 16;
const READ_WITHIN: Duration = Duration::from_secs(30);
/// How often something is sent on an idle connection, to show that it is alive.
const ALIVE_EVERY: Duration = Duration::from_secs(15);

/// All readers.
pub(crate) struct Events(broadcast::Sender<Bytes>);

impl Default for Events {
    fn default() -> Events {
        Events(broadcast::Sender::new(BEHIND))
    }
}

impl Events {
    /// Sends an event to all readers.
    pub(crate) fn send(&self, event: &Event) {
        if self.0.receiver_count() == 0 {
            return;
        }
        if let Ok(line) = serde_json::to_string(&EventLine::new(event)) {
            // Without a reader by now nobody misses it.
            let _ = self.0.send(Bytes::from(format!("data: {line}\n\n")));
        }
    }

    /// Begins to read.
    pub(super) fn read(&self) -> Stream {
        let mut events = self.0.subscribe();
        let (sender, pieces) = mpsc::channel(WAITING);
        tokio::spawn(async move {
            let mut piece = Bytes::from_static(b"retry: 2000\n\n");
            loop {
                // One that reads nothing more is left.
                if !matches!(tokio::time::timeout(READ_WITHIN, sender.send(piece)).await, Ok(Ok(()))) {
                    return;
                }
                piece = match tokio::time::timeout(ALIVE_EVERY, events.recv()).await {
                    Ok(Ok(event)) => event,
                    Ok(Err(RecvError::Lagged(missed))) => {
                        Bytes::from(format!("event: missed\ndata: {{\"missed\":{missed}}}\n\n"))
                    }
                    Ok(Err(RecvError::Closed)) => return,
                    Err(_) => Bytes::from_static(b": alive\n\n"),
                };
            }
        });
        Stream(pieces)
    }
}

/// The events of one reader, as the body of a response.
pub(super) struct Stream(mpsc::Receiver<Bytes>);

impl Body for Stream {
    type Data = Bytes;
    type Error = Infallible;

    fn poll_frame(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
    ) -> Poll<Option<Result<Frame<Bytes>, Infallible>>> {
        self.0.poll_recv(context).map(|piece| piece.map(|piece| Ok(Frame::data(piece))))
    }
}
