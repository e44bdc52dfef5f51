//! Stopped at each journal entry in turn, then run again.

use pindrel_sandbox::{Listing, Sandbox};
use pindrel_testkit::{ManifestText, Workspace};

use crate::{PINDREL, one_name, quick, sandboxed};

/// The exit status of a run that was stopped at a journal entry.
const STOPPED: i32 = 86;
/// More entries than a run of one hostname writes.
const MOST_ENTRIES: u32 = 60;

fn manifest_for(listing: &Listing, name: &str) -> ManifestText {
    ManifestText::sandbox(listing).endpoint(listing, "home", "distribution").hostname(
        name,
        "home",
        "routes = [{ prefix = \"/\", service = \"home\" }]",
    )
}

/// Stops one run at an entry, runs again, and looks at everything; says whether the
/// first run was stopped at all.
fn stop_and_go_on(sandbox: &Sandbox, entry: u32, side: &str) -> bool {
    let name = format!("{side}-{entry}.larkfield.example");
    let mut workspace = Workspace::new(PINDREL);
    workspace.write("pindrel.toml", manifest_for(sandbox.listing(), &name).text());
    std::os::unix::fs::symlink(sandbox.folder(), workspace.path().join("sandbox")).unwrap();

    workspace.set("PINDREL_STOP_AT", &format!("{entry}:{side}"));
    let first = workspace.run(&["settle", "--format", "json"]);
    if first.status == 0 {
        return false;
    }
    let first = first.ended(STOPPED);
    workspace.unset("PINDREL_STOP_AT");
    let second = workspace.run(&["settle", "--format", "json"]).ended(0);
    let place = format!("{side} entry {entry}\n{}\n{}", first.stdout, second.stdout);
    assert_eq!(second.summary()["held"], 1, "{place}");
    // The same order with the same key: another would have needed another order.
    assert_eq!(sandbox.authority().orders_for(&[&name]), 1, "{place}");
    for server in [sandbox.primary(), sandbox.secondary()] {
        assert_eq!(server.texts(&format!("_acme-challenge.{name}")), [""; 0], "{place}");
    }
    true
}

#[tokio::test(flavor = "multi_thread")]
async fn goes_on_wherever_it_was_stopped() {
    let (_keep, sandbox) = sandboxed(quick(), one_name).await;
    let sandbox = std::sync::Arc::new(sandbox);
    let sides = ["before", "after"].map(|side| {
        let sandbox = sandbox.clone();
        let all = move || (1..MOST_ENTRIES).take_while(|entry| stop_and_go_on(&sandbox, *entry, side)).count();
        tokio::task::spawn_blocking(all)
    });
    let [before, after] = sides;
    let stopped = [before.await.unwrap(), after.await.unwrap()];
    // Each of the seven steps begins and ends, and so does each write of an order.
    assert!(stopped[0] >= 22 && stopped[0] == stopped[1], "{stopped:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn finds_an_order_whose_answer_was_lost_or_counts_it() {
    for order_list in [true, false] {
        let (workspace, sandbox) = sandboxed(pindrel_sandbox::Options { order_list, ..quick() }, one_name).await;
        sandbox.authority().lose_next_order();
        let first = workspace.run(&["settle", "--format", "json"]).ended(1);
        assert!(first.stdout.contains("gave no whole response"), "{}", first.stdout);
        let second = workspace.run(&["settle", "--format", "json"]).ended(0);
        let summary = second.summary();
        let orders = sandbox.authority().orders_for(&["api.larkfield.example"]);
        let lost = usize::from(!order_list);
        assert_eq!((orders, &summary["lost_orders"]), (1 + lost, &lost.into()), "{}", second.stdout);
        assert_eq!(second.stdout.contains("was lost with the run before"), !order_list);
    }
}
