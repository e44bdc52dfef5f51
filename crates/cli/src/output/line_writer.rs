//! Lines that a thread writes: a reader that stands still, as a pager does, stops nobody who tells something.

use std::io;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::mpsc::{Receiver, SyncSender, TrySendError, sync_channel};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

/// How many lines wait for the reader; more are left out, and counted.
const MOST_WAITING: usize = 10_000;
/// How long the end waits for the reader.
const PATIENCE: Duration = Duration::from_secs(2);

/// Where lines go.
pub(crate) struct Lines {
    sender: SyncSender<Option<String>>,
    written: Mutex<Receiver<()>>,
    lost: AtomicU64,
    failed: Arc<Mutex<Option<io::Error>>>,
}

impl Lines {
    /// Begins to write; `write` writes one line with its end.
    pub(crate) fn start(write: impl Fn(&str) -> io::Result<()> + Send + 'static) -> Lines {
        let (sender, lines) = sync_channel::<Option<String>>(MOST_WAITING);
        let (done, written) = sync_channel(1);
        let failed: Arc<Mutex<Option<io::Error>>> = Arc::default();
        let failure = failed.clone();
        std::thread::spawn(move || {
            while let Ok(Some(line)) = lines.recv() {
                if let Err(error) = write(&line) {
                    failure.lock().unwrap_or_else(PoisonError::into_inner).get_or_insert(error);
                }
            }
            let _ = done.send(());
        });
        Lines { sender, written: Mutex::new(written), lost: AtomicU64::new(0), failed }
    }

    /// Writes a line when the reader takes it; `lost` says how many were left out before it, where there were any.
    pub(crate) fn write(&self, line: String, lost: impl Fn(u64) -> String) {
        let before = self.lost.swap(0, Ordering::Relaxed);
        if before > 0 && self.sender.try_send(Some(lost(before))).is_err() {
            self.lost.fetch_add(before, Ordering::Relaxed);
        }
        if let Err(TrySendError::Full(_)) = self.sender.try_send(Some(line)) {
            self.lost.fetch_add(1, Ordering::Relaxed);
        }
    }

    /// Waits, for a bounded time, until all is written; says whether it is.
    ///
    /// # Errors
    /// The first that writing met.
    pub(crate) fn finish(&self) -> io::Result<bool> {
        let begun = std::time::Instant::now();
        let mut is_told = false;
        while !is_told && begun.elapsed() < PATIENCE {
            is_told = self.sender.try_send(None).is_ok();
            if !is_told {
                std::thread::sleep(Duration::from_millis(10));
            }
        }
        let left = PATIENCE.saturating_sub(begun.elapsed());
        let written = self.written.lock().unwrap_or_else(PoisonError::into_inner);
        let is_written = is_told && written.recv_timeout(left).is_ok();
        match self.failed.lock().unwrap_or_else(PoisonError::into_inner).take() {
            Some(error) => Err(error),
            None => Ok(is_written),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_reader_that_stands_still_stops_nobody_and_is_told_what_it_missed() {
        let (gate, wait) = sync_channel::<()>(0);
        let seen: Arc<Mutex<Vec<String>>> = Arc::default();
        let (taken, wait) = (seen.clone(), Mutex::new(wait));
        let lines = Lines::start(move |line| {
            let _ = wait.lock().unwrap().recv();
            taken.lock().unwrap().push(line.to_owned());
            Ok(())
        });
        let lost = |number| format!("{number} lost");
        for n in 0..MOST_WAITING + 50 {
            lines.write(n.to_string(), lost);
        }
        // The reader goes on, and takes all that is left.
        gate.send(()).unwrap();
        gate.send(()).unwrap();
        std::thread::sleep(Duration::from_millis(50));
        lines.write("last".into(), lost);
        drop(gate);
        assert!(lines.finish().unwrap());
        let seen = seen.lock().unwrap();
        assert_eq!(seen.last().map(String::as_str), Some("last"));
        let told: u64 = seen[seen.len() - 2].strip_suffix(" lost").unwrap().parse().unwrap();
        assert_eq!(seen.len() as u64 - 2 + told, MOST_WAITING as u64 + 50);
    }

    #[test]
    fn a_reader_that_never_goes_on_is_waited_for_a_bounded_time() {
        let lines = Lines::start(|_| {
            std::thread::sleep(Duration::from_secs(60));
            Ok(())
        });
        lines.write("one".into(), |_| String::new());
        let begun = std::time::Instant::now();
        assert!(!lines.finish().unwrap());
        assert!(begun.elapsed() < PATIENCE * 2);
    }
}
