//! A run that is cut off anywhere is gone on with.

use std::time::Duration;

use pindrel_testkit::dice;
use pindrel_testkit::memory::{Pace, Setting};

use crate::several;

#[tokio::test(start_paused = true)]
async fn runs_that_are_cut_off_at_any_moment_end_with_one_order_for_each_and_no_leftovers() {
    let mut cut = 0;
    for seed in 0..40 {
        let setting = Setting::new(Pace::default(), &several(3));
        for throw in 0..4 {
            let millis = dice(seed, throw) % 7_000;
            cut += usize::from(!setting.settle_for(Duration::from_millis(millis)).await);
        }
        let summary = setting.settle().await;
        assert_eq!((summary.held, summary.failed), (3, 0), "seed {seed}: {:?}", setting.recorder.take());
        assert_eq!(setting.challenge_records(), 0, "seed {seed}");
        assert_eq!(setting.authority_counts().2, 3, "seed {seed}: orders {:?}", setting.orders());
        assert_eq!(setting.settle().await.planned, 0, "seed {seed}");
    }
    assert!(cut > 50, "only {cut} runs were cut off");
}
