//! Stopped at each journal entry in turn, then run again.

use pindrel_sandbox::{Listing, Sandbox};
use pindrel_testkit::{ManifestText, Workspace, dice};

use crate::{PINDREL, edit, one_name, quick, sandboxed};

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

/// A certificate that is delivered, and followed by a command.
fn delivered(listing: &Listing, name: &str) -> ManifestText {
    let declared = format!(
        "\n[certificate.edge]\nnames = [\"{name}\"]\n\
         deliver = [{{ file = \"edge.pem\", holds = [\"key\", \"leaf\", \"intermediates\"] }}]\n\
         after = [{{ run = [\"/bin/sh\", \"-c\", \"echo run >> runs\"] }}]\n"
    );
    ManifestText::sandbox(listing).with(&declared)
}

/// Runs a command that is stopped at an entry, settles, and looks at everything; says
/// whether the command was stopped at all.
fn stop_command(sandbox: &Sandbox, command: &[&str], name: &str, stop: &str, orders: usize) -> bool {
    let mut workspace = Workspace::new(PINDREL);
    workspace.write("pindrel.toml", delivered(sandbox.listing(), name).text());
    std::os::unix::fs::symlink(sandbox.folder(), workspace.path().join("sandbox")).unwrap();
    workspace.run(&["settle", "-q"]).ended(0);
    let shown = || workspace.run(&["cert", "show", "edge", "--format", "json"]).ended(0).json();
    let first = shown();

    workspace.set("PINDREL_STOP_AT", stop);
    let stopped = workspace.run(command);
    if stopped.status == 0 {
        return false;
    }
    let stopped = stopped.ended(STOPPED);
    workspace.unset("PINDREL_STOP_AT");
    let ran = workspace.run(&["settle", "--max-age", "0"]).ended(0);
    let place = format!("{command:?} {stop}\n{}\n{}", stopped.stderr, ran.stderr);
    let after = workspace.run(&["cert", "show", "edge", "--format", "json"]).ended(0).json();
    assert_ne!(after["sha256"], first["sha256"], "{place}");
    assert_eq!(sandbox.authority().orders_for(&[name]), orders, "one order more, and no second: {place}");
    assert!(workspace.run(&["cert", "list"]).ended(0).stdout.contains("1 of 1 certificate held"), "{place}");
    assert_eq!(workspace.read("edge.pem").matches("BEGIN CERTIFICATE").count(), 2, "{place}");
    // At least once for each of both certificates.
    assert!(workspace.read("runs").lines().count() >= 2, "{place}");
    if command.contains(&"revoke") {
        assert!(!after["former"][0]["revoked"].is_null(), "{place}");
    }
    for server in [sandbox.primary(), sandbox.secondary()] {
        assert_eq!(server.texts(&format!("_acme-challenge.{name}")), [""; 0], "{place}");
    }
    true
}

#[tokio::test(flavor = "multi_thread")]
async fn a_renewal_and_a_revocation_go_on_wherever_they_were_stopped() {
    let (_keep, sandbox) = sandboxed(quick(), one_name).await;
    let sandbox = std::sync::Arc::new(sandbox);
    let commands: [(&str, &[&str]); 2] =
        [("renew", &["cert", "renew", "edge"]), ("revoke", &["cert", "revoke", "edge", "--reason", "key-compromise"])];
    let all = commands.map(|(what, command)| {
        let sandbox = sandbox.clone();
        tokio::task::spawn_blocking(move || {
            let stops = (1..MOST_ENTRIES).take_while(|entry| {
                // Before an entry and after the one before it are the same but for the entry.
                let stop = format!("{entry}:{}", if entry % 2 == 0 { "before" } else { "after" });
                stop_command(&sandbox, command, &format!("{what}-{entry}.larkfield.example"), &stop, 2)
            });
            stops.count()
        })
    });
    let [renew, revoke] = all;
    let counts = [renew.await.unwrap(), revoke.await.unwrap()];
    // Issue and deliver begin and end, and so do order, challenge, file and command.
    assert!(counts[0] >= 14 && counts[1] >= counts[0], "{counts:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn finds_an_order_whose_answer_was_lost_or_counts_it() {
    for order_list in [true, false] {
        let (workspace, sandbox) = sandboxed(pindrel_sandbox::Options { order_list, ..quick() }, one_name).await;
        sandbox.authority().lose_next_order();
        let first = workspace.run(&["settle", "--format", "json"]).ended(1);
        assert!(first.stdout.contains("returned no complete response"), "{}", first.stdout);
        let second = workspace.run(&["settle", "--format", "json"]).ended(0);
        let summary = second.summary();
        let orders = sandbox.authority().orders_for(&["api.larkfield.example"]);
        let lost = usize::from(!order_list);
        assert_eq!((orders, &summary["lost_orders"]), (1 + lost, &lost.into()), "{}", second.stdout);
        assert_eq!(second.stdout.contains("was lost in the previous run"), !order_list);
    }
}

/// A hostname at one endpoint with another to go to, and one that stays.
fn movable(listing: &Listing, name: &str) -> ManifestText {
    ManifestText::sandbox(listing)
        .endpoint(listing, "catalogue", "gateway")
        .endpoint(listing, "home", "distribution")
        .hostname(&format!("stays-{name}"), "catalogue", "ttl = \"1s\"")
        .hostname(name, "catalogue", "ttl = \"1s\"")
}

/// How a hostname leaves the endpoint where it is.
#[derive(Debug, Clone, Copy, PartialEq)]
enum Leaving {
    Moves,
    Retires,
    /// Its move is undone.
    ComesBack,
}

/// Stops what makes a hostname leave its endpoint at an entry and goes on; says whether it was stopped at
/// all.
fn stop_leaving(sandbox: &Sandbox, how: Leaving, name: &str, stop: &str) -> bool {
    let mut workspace = Workspace::new(PINDREL);
    workspace.write("pindrel.toml", movable(sandbox.listing(), name).text());
    std::os::unix::fs::symlink(sandbox.folder(), workspace.path().join("sandbox")).unwrap();
    workspace.run(&["settle", "-q"]).ended(0);
    let certificate = workspace.run(&["cert", "show", name, "--format", "json"]).ended(0).json();
    let table = format!("[hostname.\"{name}\"]\nendpoint = \"catalogue\"\nttl = \"1s\"\n");
    let moved = table.replace("catalogue", "home");
    let command: &[&str] = match how {
        Leaving::Retires => {
            edit(&workspace, &table, "");
            &["retire", name, "--yes", "--revoke"]
        }
        Leaving::Moves => {
            edit(&workspace, &table, &moved);
            &["settle", "--max-age", "0"]
        }
        Leaving::ComesBack => {
            edit(&workspace, &table, &moved);
            workspace.run(&["settle", "-q"]).ended(0);
            &["settle", "--undo", "2", "--max-age", "0"]
        }
    };
    workspace.set("PINDREL_STOP_AT", stop);
    let stopped = workspace.run(command);
    workspace.unset("PINDREL_STOP_AT");
    if stopped.status == 0 {
        return false;
    }
    let stopped = stopped.ended(STOPPED);
    let ran = workspace.run(command).ended(0);
    let place = format!("{command:?} {stop}\n{}{}\n{}{}", stopped.stdout, stopped.stderr, ran.stdout, ran.stderr);
    let bound = |endpoint: &str| sandbox.platform().binding(endpoint, name).is_some();
    assert_eq!((bound("catalogue"), bound("home")), (how == Leaving::ComesBack, how == Leaving::Moves), "{place}");
    assert_eq!(sandbox.authority().orders_for(&[name]), 1, "{place}");
    if how == Leaving::ComesBack {
        edit(&workspace, &moved, &table);
    }
    let last = workspace.run(&["settle", "--max-age", "0"]).ended(0);
    let held = if how == Leaving::Retires { "1 of 1 hostname held" } else { "2 of 2 hostnames held" };
    assert!(last.stdout.contains(held), "{place}\n{}", last.stdout);
    let listed = workspace.run(&["endpoint", "list", "--format", "json"]).ended(0).json();
    let copies = |endpoint: usize| {
        let copies = listed["endpoints"][endpoint]["certificates"].as_array().unwrap().iter();
        copies.filter(|copy| copy["sha256"] == certificate["sha256"]).count()
    };
    let expected = match how {
        Leaving::Moves => (0, 1),
        Leaving::Retires => (0, 0),
        Leaving::ComesBack => (1, 0),
    };
    assert_eq!((copies(0), copies(1)), expected, "{place}");
    true
}

#[tokio::test(flavor = "multi_thread")]
async fn a_move_a_retirement_and_an_undoing_go_on_wherever_they_were_stopped() {
    let (_keep, sandbox) = sandboxed(quick(), one_name).await;
    let sandbox = std::sync::Arc::new(sandbox);
    const SHARES: u32 = 2;
    let shares: Vec<_> = [("move", Leaving::Moves), ("retire", Leaving::Retires), ("undo", Leaving::ComesBack)]
        .into_iter()
        .flat_map(|kind| (1..=SHARES).map(move |first| (kind, first)))
        .map(|((what, how), first)| {
            let sandbox = sandbox.clone();
            tokio::task::spawn_blocking(move || {
                let stops = (first..MOST_ENTRIES).step_by(SHARES as usize).take_while(|entry| {
                    let stop = format!("{entry}:{}", if entry % 2 == 0 { "before" } else { "after" });
                    stop_leaving(&sandbox, how, &format!("{what}-{entry}.larkfield.example"), &stop)
                });
                (how as usize, stops.count())
            })
        })
        .collect();
    let mut counts = [0, 0, 0];
    for share in shares {
        let (how, stops) = share.await.unwrap();
        counts[how] += stops;
    }
    assert_eq!(sandbox.authority().issued().1, counts[1] + SHARES as usize, "each retired name's certificate, once");
    // Each step begins and ends: eight of a move, four and a revocation of a retirement.
    assert!(counts[0] >= 14 && counts[1] >= 6 && counts[2] >= 14, "{counts:?}");
}

/// The names of the world in which commands are killed at random, the last of which comes and goes.
const NAMES: [&str; 4] = ["h0", "h1", "h2", "h3"];

fn table(label: &str) -> String {
    format!("\n[hostname.\"{label}.larkfield.example\"]\nendpoint = \"catalogue\"\nttl = \"1s\"\n")
}

/// What people and timers do on one state, whatever else is under way.
fn at_random(throw: u64) -> Vec<String> {
    let name = format!("{}.larkfield.example", NAMES[(throw >> 8) as usize % NAMES.len()]);
    let last = format!("{}.larkfield.example", NAMES[3]);
    let words = match throw % 8 {
        0 | 1 => vec!["settle"],
        2 => vec!["settle", "--max-age", "0"],
        3 => vec!["cert", "renew", &name],
        4 => vec!["keep", "--once"],
        5 => vec!["keep"],
        6 => vec!["adopt", "--all", "--yes"],
        _ => vec!["retire", &last],
    };
    words.into_iter().map(str::to_owned).collect()
}

/// Commands beside each other on one state, each killed at some moment: in the end all is as the manifest wants it, one
/// account was opened, and nobody has ordered twice what was ordered already.
#[tokio::test(flavor = "multi_thread")]
async fn commands_at_once_that_are_killed_at_random_lose_nothing_and_do_nothing_twice() {
    let rounds = std::env::var("PINDREL_ROUNDS").ok().and_then(|text| text.parse().ok()).unwrap_or(12);
    let seed: u64 = std::env::var("PINDREL_SEED").ok().and_then(|text| text.parse().ok()).unwrap_or(1);
    let mut throws = (0..).map(|throw| dice(seed, throw));
    let mut throw = || throws.next().unwrap();
    let (workspace, sandbox) = sandboxed(quick(), |manifest, listing| {
        let start = manifest.endpoint(listing, "catalogue", "gateway");
        NAMES.iter().fold(start, |manifest, label| manifest.with(&table(label)))
    })
    .await;
    // What each name may be ordered for: at first, by each renewal, and anew where its order was given up.
    let mut reasons = [1; NAMES.len()];
    let mut done: Vec<String> = Vec::new();
    for round in 0..rounds {
        let mut running = Vec::new();
        for _ in 0..3 {
            let words = at_random(throw());
            let args: Vec<&str> = words.iter().map(String::as_str).collect();
            if let ["cert", "renew", name] = args[..] {
                let of = NAMES.iter().position(|label| name.starts_with(label));
                reasons[of.unwrap()] += 1;
            }
            let mut command = workspace.command(&args);
            command.stdout(std::process::Stdio::null()).stderr(std::process::Stdio::null());
            done.push(format!("{round}: {}", args.join(" ")));
            running.push(command.spawn().unwrap());
        }
        // The last name comes and goes.
        match round % 4 {
            1 => {
                edit(&workspace, &table(NAMES[3]), "");
                // An order that is under way is given up: the manifest no longer wants it.
                reasons[3] += 1;
            }
            3 => workspace.write("pindrel.toml", &(workspace.read("pindrel.toml") + &table(NAMES[3]))),
            _ => {}
        }
        for mut child in running {
            tokio::time::sleep(std::time::Duration::from_millis(throw() % 1_200)).await;
            child.kill().unwrap();
            child.wait().unwrap();
        }
    }
    let text = workspace.read("pindrel.toml");
    if !text.contains(&table(NAMES[3])) {
        workspace.write("pindrel.toml", &(text + &table(NAMES[3])));
    }
    let ran = workspace.run(&["settle", "--max-age", "0"]);
    let place = format!("{done:#?}\n{}{}", ran.stdout, ran.stderr);
    assert!(ran.status == 0 && ran.stdout.contains("4 of 4 hostnames held"), "{place}");
    let again = workspace.run(&["settle", "--max-age", "0", "--dry-run"]);
    assert!(again.status == 0 && again.stdout.contains("Nothing to do"), "{place}{}", again.stdout);
    assert_eq!(sandbox.authority().accounts().len(), 1, "{place}");
    for (label, reasons) in NAMES.iter().zip(reasons) {
        let name = format!("{label}.larkfield.example");
        let orders = sandbox.authority().orders_for(&[&name]);
        assert!((1..=reasons).contains(&orders), "{name}: {orders} orders for {reasons} reasons\n{place}");
        assert!(sandbox.platform().binding("catalogue", &name).is_some(), "{name}\n{place}");
        for server in [sandbox.primary(), sandbox.secondary()] {
            assert_eq!(server.texts(&format!("_acme-challenge.{name}")), [""; 0], "{name}\n{place}");
        }
    }
    let listed = workspace.run(&["endpoint", "list", "--format", "json"]).ended(0).json();
    let copies = listed["endpoints"][0]["certificates"].as_array().unwrap().len();
    assert_eq!(copies, NAMES.len(), "one copy for each, and none that nothing uses: {listed}\n{place}");
}
