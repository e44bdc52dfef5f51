//! What asks the program to stop.

use tokio::signal::unix::{SignalKind, signal};

use crate::error::Signal;

/// Waits until a person or the system asks the program to stop.
pub(crate) async fn stop_signal() -> std::io::Result<Signal> {
    let (mut interrupt, mut terminate) = (signal(SignalKind::interrupt())?, signal(SignalKind::terminate())?);
    tokio::select! {
        _ = interrupt.recv() => Ok(Signal::Interrupt),
        _ = terminate.recv() => Ok(Signal::Terminate),
    }
}
