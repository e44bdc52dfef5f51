//! Many bindings at a platform that is busy and counts requests.

use std::fmt::Write as _;
use std::time::Instant;

use crate::{quick, sandboxed};

/// How many hostnames, and how many requests a second; `PINDREL_BINDINGS=1000` and `PINDREL_CALLS=20` take
/// eight minutes.
fn sizes() -> (usize, u32) {
    let of = |name: &str, usual: &str| std::env::var(name).unwrap_or_else(|_| usual.to_owned()).parse().unwrap();
    (of("PINDREL_BINDINGS", "60"), of("PINDREL_CALLS", "40") as u32)
}

#[tokio::test(flavor = "multi_thread")]
async fn all_are_held_at_a_busy_platform_and_its_limit_is_never_passed() {
    let (bindings, calls) = sizes();
    let (workspace, sandbox) = sandboxed(quick(), |manifest, listing| {
        let mut many =
            String::from("[certificate.all]\nnames = [\"*.many.larkfield.example\"]\n[defaults]\nttl = \"1m\"\n");
        many.push_str("endpoint = \"catalogue\"\n[hostname]\n");
        for n in 0..bindings {
            let _ = writeln!(many, "\"n{n}.many.larkfield.example\" = {{}}");
        }
        let paced = manifest.endpoint(listing, "catalogue", "gateway");
        paced.with(&format!("calls_per_second = {calls}\n")).with(&many)
    })
    .await;
    for fault in [format!("limit={calls}"), "busy=1".to_owned()] {
        assert!(sandbox.switch(&fault, true), "{fault}");
    }
    let begun = Instant::now();
    let ran = workspace.run(&["settle", "--patience", "20m"]).ended(0);
    assert!(ran.stdout.contains(&format!("{bindings} of {bindings} hostnames held")), "{}", ran.stdout);
    assert_eq!(sandbox.platform().limited(), 0, "requests over the limit");
    let seconds = begun.elapsed().as_secs_f64();
    println!("{bindings} hostnames at {calls} requests a second in {seconds:.1} s");
    assert_eq!(sandbox.authority().issued().0, 1);
}
