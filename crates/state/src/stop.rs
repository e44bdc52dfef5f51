//! A test's way to stop the process at a chosen journal entry.
//!
//! With the feature `stop-points`, in debug builds only, `PINDREL_STOP_AT=N:before`
//! ends the process at once before the N-th entry of this run is written, and
//! `N:after` once it is. A release build has none of this.

#[cfg(all(feature = "stop-points", debug_assertions))]
mod active {
    use std::sync::atomic::{AtomicU64, Ordering};

    static COUNT: AtomicU64 = AtomicU64::new(0);

    /// The exit status that tells the test that it was this stop.
    const STOPPED: i32 = 86;

    pub(crate) async fn around<T>(write: impl Future<Output = T>) -> T {
        let number = COUNT.fetch_add(1, Ordering::SeqCst) + 1;
        let wanted = std::env::var("PINDREL_STOP_AT").unwrap_or_default();
        let stop_if = |side: &str| {
            if wanted == format!("{number}:{side}") {
                std::process::exit(STOPPED);
            }
        };
        stop_if("before");
        let result = write.await;
        stop_if("after");
        result
    }
}

#[cfg(not(all(feature = "stop-points", debug_assertions)))]
mod active {
    pub(crate) async fn around<T>(write: impl Future<Output = T>) -> T {
        write.await
    }
}

pub(crate) use active::around;
