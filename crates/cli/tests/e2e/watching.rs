//! What a process that runs on says of itself over HTTP.

use std::io::{Read as _, Write as _};
use std::net::{SocketAddr, TcpStream};
use std::path::Path;
use std::process::Command;
use std::time::Duration;

use pindrel_testkit::require;
use serde_json::Value;

use crate::commands::{assert_fits, schema};
use crate::health::Keep;
use crate::{edit, quick, sandboxed};

const TONIGHT: &str = "[hostname.\"tonight.larkfield.example\"]\nendpoints = [\"queue-north\", \"queue-south\"]\n\
                       policy = \"standby\"\nttl = \"1s\"\n";
const HEALTH: &str = "health = { path = \"/\", every = \"1s\", timeout = \"1s\", down_after = 2, up_after = 2 }\n";
const LISTEN: &str = "[keep]\nlisten = \"127.0.0.1:0\"\n";

/// Sends octets; returns what comes back until the connection ends, or nothing more comes for two seconds.
fn exchange(address: SocketAddr, sent: &[u8]) -> String {
    let mut stream = TcpStream::connect(address).unwrap();
    stream.set_read_timeout(Some(Duration::from_secs(2))).unwrap();
    // A server that has heard enough closes before all is sent.
    let _ = stream.write_all(sent);
    let mut answer = Vec::new();
    let mut piece = [0; 65_536];
    while let Ok(length @ 1..) = stream.read(&mut piece) {
        answer.extend_from_slice(&piece[..length]);
    }
    String::from_utf8_lossy(&answer).into_owned()
}

/// The status and the body of an answer.
fn ask(address: SocketAddr, method: &str, path: &str, host: &str) -> (u16, String) {
    let answer =
        exchange(address, format!("{method} {path} HTTP/1.1\r\nHost: {host}\r\nConnection: close\r\n\r\n").as_bytes());
    let (head, body) = answer.split_once("\r\n\r\n").unwrap_or_else(|| panic!("{method} {path}: {answer:?}"));
    (head.split(' ').nth(1).unwrap().parse().unwrap(), body.to_owned())
}

/// Waits until it says where it answers, past the first `from` events.
async fn address_of(keep: &Keep, from: usize) -> (SocketAddr, usize) {
    let is = |event: &Value| event["says"].as_str().is_some_and(|says| says.starts_with("listening at http://"));
    let (event, from) = keep.until("word where it answers", from, is).await;
    let says = event["says"].as_str().unwrap().trim_start_matches("listening at http://");
    (says.split(": ").next().unwrap().parse().unwrap(), from)
}

async fn eventually(what: &str, is: impl Fn() -> bool) {
    for _ in 0..300 {
        if is() {
            return;
        }
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    panic!("never: {what}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_process_that_runs_on_says_how_everything_is() {
    let (workspace, sandbox) = sandboxed(quick(), |manifest, listing| {
        let manifest = manifest.endpoint(listing, "queue-north", "gateway").with(HEALTH);
        manifest.endpoint(listing, "queue-south", "gateway").with(HEALTH).with(TONIGHT).with(LISTEN)
    })
    .await;
    workspace.run(&["settle"]).ended(0);
    let keep = Keep::start(&workspace);
    let (address, from) = address_of(&keep, 0).await;
    let get = |path: &str| ask(address, "GET", path, &address.to_string());
    keep.until("verdicts of both", from, |event| event["event"] == "verdict" && event["to"] == "up").await;
    assert_eq!((get("/live").0, get("/ready"), get("/../etc/passwd").0), (200, (200, "ok\n".into()), 404));
    let (status, document) = get("/status.json");
    let document: Value = serde_json::from_str(&document).unwrap();
    assert_fits(&schema("status"), &document);
    assert_eq!((status, &document["held"], &document["total"]), (200, &1.into(), &1.into()));
    // Nothing can be changed here, and a stranger's name leads nobody here.
    assert_eq!(ask(address, "POST", "/status.json", "localhost").0, 405);
    assert_eq!(
        (ask(address, "GET", "/live", "localhost").0, ask(address, "GET", "/live", "evil.example").0),
        (200, 421)
    );

    // A failover is sent to readers of events, and shows in the figures.
    let reader = std::thread::spawn(move || {
        let mut stream = TcpStream::connect(address).unwrap();
        stream.set_read_timeout(Some(Duration::from_secs(20))).unwrap();
        stream.write_all(format!("GET /events HTTP/1.1\r\nHost: {address}\r\n\r\n").as_bytes()).unwrap();
        let (mut told, mut piece) = (String::new(), [0; 4_096]);
        while !told.contains("\"switched\"") {
            let length = stream.read(&mut piece).unwrap();
            assert!(length > 0, "it ended: {told}");
            told.push_str(&String::from_utf8_lossy(&piece[..length]));
        }
        told
    });
    // Clients that say nothing, or more than any question holds, are in nobody's way.
    let silent: Vec<TcpStream> = (0..100).map(|_| TcpStream::connect(address).unwrap()).collect();
    let endless = format!("GET /live HTTP/1.1\r\nHost: {address}\r\nX: {}\r\n\r\n", "x".repeat(1 << 20));
    assert!(!exchange(address, endless.as_bytes()).contains("200 OK"));
    assert!(sandbox.switch("endpoint-down=queue-north", true));
    let told = reader.join().unwrap();
    assert!(told.contains("text/event-stream") && told.contains("data: {\"event\":\"verdict\""), "{told}");
    // They are what the state has, which follows within seconds.
    for line in [
        "pindrel_hostname_pin{hostname=\"tonight.larkfield.example\",pin=\"answer\",state=\"held\"} 1.0\n",
        "pindrel_check_up{check=\"queue-north\"} 0.0\n",
        "pindrel_check_up{check=\"queue-south\"} 1.0\n",
        "pindrel_given{hostname=\"tonight.larkfield.example\",endpoint=\"queue-south\"} 1.0\n",
        "pindrel_switches_total 1\n",
        "pindrel_state_readable 1.0\n",
        "# EOF\n",
    ] {
        eventually(line, || get("/metrics").1.contains(line)).await;
    }
    drop(silent);

    // A manifest with mistakes is reported, and the listener follows the manifest.
    let good = workspace.read("pindrel.toml");
    workspace.write("pindrel.toml", &good.replace("policy = \"standby\"", "policy = \"stand\""));
    keep.until("the mistake", from, |event| event["says"].as_str().is_some_and(|says| says.contains("cannot be used")))
        .await;
    let (status, why) = get("/ready");
    assert!(status == 503 && why.contains("there is no policy \"stand\""), "{status} {why}");
    assert_eq!(get("/live").0, 200);
    workspace.write("pindrel.toml", &good);
    edit(&workspace, "127.0.0.1:0", "[::1]:0");
    let (other, _) = address_of(&keep, from).await;
    assert_eq!(ask(other, "GET", "/ready", &other.to_string()), (200, "ok\n".into()));
    assert!(TcpStream::connect(address).is_err(), "it no longer answers there");
}

/// The alert rules of the documentation, by the checker of the system that they are for.
#[test]
fn the_alert_rules_tell_what_they_should() {
    if !require("the_alert_rules_tell_what_they_should", &[("promtool", "prometheus")]) {
        return;
    }
    let examples = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/examples");
    let tested = Command::new("promtool").args(["test", "rules", "alerts-test.yml"]).current_dir(examples).output();
    let tested = tested.unwrap();
    assert!(
        tested.status.success(),
        "{}{}",
        String::from_utf8_lossy(&tested.stdout),
        String::from_utf8_lossy(&tested.stderr)
    );
}
