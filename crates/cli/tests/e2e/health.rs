//! Health, failover and running on, by the built program.

use std::io::{BufRead as _, BufReader};
use std::net::SocketAddr;
use std::process::{Child, Command, Stdio};
use std::sync::atomic::{AtomicU8, Ordering};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use pindrel_sandbox::Sandbox;
use pindrel_testkit::{Asked, Clients, RealHaproxy, RealNginx, RealPostgres, Workspace};
use serde_json::Value;
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use tokio::net::TcpListener;

use crate::commands::{assert_fits, schema};
use crate::state::on_postgres;
use crate::{edit, one_name, quick, sandboxed};

const TONIGHT: &str = "tonight.larkfield.example";
/// A failure is seen within 3 s: two failures in a row of a check each second, and its timeout.
const HEALTH: &str = "health = { path = \"/\", every = \"1s\", timeout = \"1s\", down_after = 2, up_after = 2 }\n";

/// The hostname on two endpoints.
fn standby(first: &str, second: &str, more: &str) -> String {
    format!(
        "\n[hostname.\"{TONIGHT}\"]\nendpoints = [\"{first}\", \"{second}\"]\npolicy = \"standby\"\n\
         back_after = \"1s\"\nttl = \"1s\"\n{more}"
    )
}

/// A running `keep` with the lines that it has written.
pub(crate) struct Keep {
    child: Child,
    lines: Arc<Mutex<Vec<String>>>,
}

impl Drop for Keep {
    fn drop(&mut self) {
        // A test that fails leaves none behind.
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

impl Keep {
    pub(crate) fn start(workspace: &Workspace) -> Keep {
        let mut command: Command = workspace.command(&["keep", "--format", "json"]);
        let mut child = command.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
        let lines: Arc<Mutex<Vec<String>>> = Arc::default();
        let (written, out) = (lines.clone(), child.stdout.take().unwrap());
        std::thread::spawn(move || {
            for line in BufReader::new(out).lines().map_while(Result::ok) {
                written.lock().unwrap().push(line);
            }
        });
        Keep { child, lines }
    }

    fn events(&self) -> Vec<Value> {
        self.lines.lock().unwrap().iter().map(|line| serde_json::from_str(line).unwrap()).collect()
    }

    /// Waits for an event; those before `from` are passed over. Returns it, and how many there were before.
    pub(crate) async fn until(&self, what: &str, from: usize, is: impl Fn(&Value) -> bool) -> (Value, usize) {
        for _ in 0..300 {
            let events = self.events();
            if let Some((n, event)) = events.iter().enumerate().skip(from).find(|(_, event)| is(event)) {
                return (event.clone(), n + 1);
            }
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
        panic!("no {what}: {:#?}", self.events());
    }

    pub(crate) fn signal(&self, signal: &str) {
        let pid = self.child.id().to_string();
        assert!(Command::new("kill").args([signal, &pid]).status().unwrap().success());
    }

    /// Tells it to stop; returns its exit status and its events.
    pub(crate) fn stop(mut self) -> (i32, Vec<Value>) {
        self.signal("-TERM");
        let begun = Instant::now();
        let status = self.child.wait().unwrap();
        assert!(begun.elapsed() < Duration::from_secs(11), "{:?}", begun.elapsed());
        std::thread::sleep(Duration::from_millis(100));
        (status.code().unwrap_or(-1), self.events())
    }

    fn kill(mut self) {
        self.child.kill().unwrap();
        self.child.wait().unwrap();
    }
}

fn switched_to(endpoint: &'static str) -> impl Fn(&Value) -> bool {
    move |event| event["event"] == "switched" && event["to"][0] == endpoint
}

fn is_up(check: &'static str) -> impl Fn(&Value) -> bool {
    move |event| event["event"] == "verdict" && event["check"] == check && event["to"] == "up"
}

pub(crate) fn is_note(word: &'static str) -> impl Fn(&Value) -> bool {
    move |event| event["event"] == "note" && event["says"].as_str().is_some_and(|says| says.contains(word))
}

async fn queue() -> (Workspace, Sandbox) {
    let (workspace, sandbox) = unsettled_queue().await;
    workspace.run(&["settle"]).ended(0);
    (workspace, sandbox)
}

async fn unsettled_queue() -> (Workspace, Sandbox) {
    let (workspace, sandbox) = sandboxed(quick(), |manifest, listing| {
        manifest
            .endpoint(listing, "queue-north", "balancer")
            .endpoint(listing, "queue-south", "balancer")
            .with(&standby("queue-north", "queue-south", HEALTH))
    })
    .await;
    (workspace, sandbox)
}

fn clients(workspace: &Workspace, sandbox: &Sandbox, ports: Vec<SocketAddr>) -> Clients {
    let asked = Asked {
        hostname: TONIGHT.into(),
        path: "/".into(),
        port: sandbox.listing().endpoints[0].address.port(),
        ports: ports.into_iter().map(|place| (place.ip(), place.port())).collect(),
        resolver: sandbox.listing().resolver,
        roots: workspace.read("sandbox/issuing-root.pem"),
    };
    Clients::start(4, &asked)
}

/// For how long users may suffer, as the forecast says.
fn forecast(workspace: &Workspace) -> Duration {
    let forecast = workspace.run(&["health", "forecast", "--format", "json"]).ended(0).json();
    assert_fits(&schema("health-forecast"), &forecast);
    let worst = forecast["checks"].as_array().unwrap().iter().filter_map(|row| row["users_suffer_seconds"].as_f64());
    Duration::from_secs_f64(worst.fold(0.0, f64::max))
}

/// Under load, killed at random in between: users suffer for no longer than was forecast, and what one process
/// leaves undone the next one does.
#[tokio::test(flavor = "multi_thread")]
async fn endpoints_fail_and_come_back_under_load_and_whoever_is_killed_is_followed() {
    let (workspace, sandbox) = queue().await;
    let most = forecast(&workspace);
    assert_eq!(most, Duration::from_secs(3 + 2 + 1), "two checks and a timeout, publishing, and the TTL");
    let clients = clients(&workspace, &sandbox, Vec::new());
    let mut keep = Keep::start(&workspace);
    let north = "tonight.larkfield.example/queue-north";
    let (_, mut from) = keep.until("verdict", 0, is_up(north)).await;
    let mut worst = Duration::ZERO;
    for round in 0..4_u64 {
        assert_eq!(clients.failed_for(), None, "round {round}: all was well before");
        assert!(sandbox.switch("endpoint-down=queue-north", true));
        if round % 2 == 1 {
            // Killed before, while, or after it switches, and taken up by the next one.
            tokio::time::sleep(Duration::from_millis(900 + round * 300)).await;
            keep.kill();
            keep = Keep::start(&workspace);
            from = 0;
        }
        let begun = Instant::now();
        while clients.failed_for().is_some() || begun.elapsed() < Duration::from_secs(1) {
            tokio::time::sleep(Duration::from_secs(1)).await;
            worst = worst.max(begun.elapsed());
            assert!(begun.elapsed() < Duration::from_secs(20), "{:#?}", keep.events());
        }
        assert!(sandbox.switch("endpoint-down=queue-north", false));
        (_, from) = keep.until("return", from, switched_to("queue-north")).await;
        tokio::time::sleep(Duration::from_millis(2_500)).await;
    }
    let events = keep.events();
    let (status, _) = keep.stop();
    assert_eq!(status, 0);
    let (requests, _) = clients.stop().await;
    eprintln!("{requests} requests; users suffered for {worst:?} at most, {most:?} was forecast for a failover");
    // A killed process costs the time until another one has seen two failures.
    assert!(worst <= most * 2, "{worst:?}");
    events.iter().for_each(|event| assert_fits(&schema("event"), event));
}

/// A database that hangs, with all its connections, stops no check, no switch and no end. What was switched meanwhile is
/// nobody else's for whoever comes next, also where the process is killed before it could tell the database.
#[tokio::test(flavor = "multi_thread")]
async fn a_state_that_hangs_stops_no_check_no_switch_and_no_end() {
    let name = "a_state_that_hangs_stops_no_check_no_switch_and_no_end";
    let Some(database) = RealPostgres::start(name).await else { return };
    let (mut workspace, sandbox) = unsettled_queue().await;
    on_postgres(&mut workspace, &database);
    workspace.run(&["settle"]).ended(0);
    let untold = workspace.path().join(".pindrel/switches/tonight.larkfield.example.json");
    let keep = Keep::start(&workspace);
    for check in ["tonight.larkfield.example/queue-north", "tonight.larkfield.example/queue-south"] {
        keep.until("verdict", 0, is_up(check)).await;
    }
    let mut from = keep.events().len();
    for _ in 0..2 {
        database.process.hang(true);
        assert!(sandbox.switch("endpoint-down=queue-north", true));
        (_, from) = keep.until("switch", from, switched_to("queue-south")).await;
        assert!(untold.exists());
        database.process.hang(false);
        assert!(sandbox.switch("endpoint-down=queue-north", false));
        (_, from) = keep.until("return", from, switched_to("queue-north")).await;
        assert!(!untold.exists(), "the database knows");
    }
    // What is stored before it hangs is what counts afterwards.
    let begun = Instant::now();
    while workspace.run(&["status"]).status != 0 {
        assert!(begun.elapsed() < Duration::from_secs(60), "the verdict is not stored");
        tokio::time::sleep(Duration::from_millis(200)).await;
    }
    database.process.hang(true);
    tokio::time::sleep(Duration::from_secs(3)).await;
    let (status, _) = keep.stop();
    assert_eq!(status, 0);
    database.process.hang(false);
    workspace.run(&["status"]).ended(0);

    let keep = Keep::start(&workspace);
    let (_, from) = keep.until("word on its alias", 0, |event| event["event"] == "gives").await;
    database.process.hang(true);
    assert!(sandbox.switch("endpoint-down=queue-north", true));
    keep.until("switch", from, switched_to("queue-south")).await;
    keep.kill();
    database.process.hang(false);
    assert!(sandbox.switch("endpoint-down=queue-north", false));
    // It takes the alias for its own, whichever endpoint it gives by then.
    workspace.run(&["settle", "--max-age", "0"]).ended(0);
    assert!(!untold.exists());
    let journal = workspace.run(&["state", "journal"]).ended(0).stdout;
    assert!(journal.contains("was switched while the state did not answer"), "{journal}");
}

/// What a supervisor starts comes up whatever is missing at that moment, and tells it so: a database that starts later, a
/// manifest that somebody is writing.
#[tokio::test(flavor = "multi_thread")]
async fn a_start_survives_what_is_missing_for_a_while_and_a_supervisor_is_told() {
    let name = "a_start_survives_what_is_missing_for_a_while_and_a_supervisor_is_told";
    let Some(database) = RealPostgres::start(name).await else { return };
    let (mut workspace, _sandbox) = sandboxed(quick(), one_name).await;
    on_postgres(&mut workspace, &database);
    workspace.run(&["settle"]).ended(0);
    let socket = std::os::unix::net::UnixDatagram::bind(workspace.path().join("supervisor")).unwrap();
    socket.set_read_timeout(Some(Duration::from_secs(60))).unwrap();
    workspace.set("NOTIFY_SOCKET", &workspace.path().join("supervisor").display().to_string());
    workspace.set("WATCHDOG_USEC", "900000");
    let hear = |word: &str| {
        let mut heard = Vec::new();
        while !heard.iter().any(|told: &String| told.starts_with(word)) {
            let mut told = [0; 4096];
            let length = socket.recv(&mut told).unwrap_or_else(|error| panic!("no {word} ({error}): {heard:?}"));
            heard.push(String::from_utf8_lossy(&told[..length]).into_owned());
        }
        heard
    };

    database.process.hang(true);
    let keep = Keep::start(&workspace);
    keep.until("word on the state", 0, is_note("waiting for the state")).await;
    let heard = hear("EXTEND_TIMEOUT_USEC=");
    assert!(!heard.iter().any(|told| told.contains("READY")), "{heard:?}");
    database.process.hang(false);
    hear("READY=1");
    for _ in 0..3 {
        hear("WATCHDOG=1");
    }
    assert_eq!(keep.stop().0, 0);
    hear("STOPPING=1");

    edit(&workspace, "[endpoint.catalogue]", "[endpoint.catalogue");
    workspace.run(&["settle"]).ended(2);
    let keep = Keep::start(&workspace);
    let (note, from) = keep.until("word on the mistake", 0, is_note("the last good one, of")).await;
    assert!(note["says"].as_str().unwrap().contains("pindrel.toml:"), "{note}");
    hear("READY=1");
    edit(&workspace, "[endpoint.catalogue", "[endpoint.catalogue]");
    keep.until("word on the change", from, is_note("is taken up")).await;
    assert_eq!(keep.stop().0, 0);

    // Who waits for a database is stopped as well.
    database.process.hang(true);
    let keep = Keep::start(&workspace);
    keep.until("word on the state", 0, is_note("waiting for the state")).await;
    assert_eq!(keep.stop().0, 0);
    database.process.hang(false);
}

/// Two share the work; one that is killed is followed at once by the other, in the middle of a failure.
#[tokio::test(flavor = "multi_thread")]
async fn of_two_that_keep_running_the_second_takes_over_from_one_that_is_killed() {
    let (workspace, sandbox) = queue().await;
    let first = Keep::start(&workspace);
    first.until("verdict", 0, is_up("tonight.larkfield.example/queue-south")).await;
    let second = Keep::start(&workspace);
    let (_, from) = second.until("word on the checks", 0, is_note("another process makes")).await;
    assert!(sandbox.switch("endpoint-down=queue-north", true));
    first.kill();
    let (_, from) = second.until("word on the checks", from, is_note("all checks are made by this process now")).await;
    second.until("switch", from, switched_to("queue-south")).await;
    let (status, events) = second.stop();
    assert_eq!(status, 0);
    let says = |event: &Value, of: &str, what: &str| event["event"] == of && event["to"] == what;
    assert!(!events[..from].iter().any(|event| says(event, "verdict", "up")), "it made none before: {events:#?}");
}

/// What a person does beside it: a broken manifest, a hold, a stop.
#[tokio::test(flavor = "multi_thread")]
async fn a_process_that_runs_on_takes_manifests_and_holds_and_ends_in_order() {
    let (workspace, sandbox) = queue().await;
    let keep = Keep::start(&workspace);
    let (_, from) = keep.until("verdict", 0, is_up("tonight.larkfield.example/queue-south")).await;
    // Other commands run beside it.
    let list = workspace.run(&["health", "list", "--format", "json"]);
    assert_fits(&schema("health-list"), &list.json());
    workspace.run(&["settle", "--max-age", "0"]).ended(0);

    workspace.run(&["health", "hold", "queue-north"]).ended(2);
    workspace.run(&["health", "hold", "queue-nroth", "--because", "new disks"]).ended(1);
    workspace.run(&["health", "hold", "queue-north", "--until", "10m", "--because", "new disks"]).ended(0);
    let (_, from) = keep.until("switch", from, switched_to("queue-south")).await;
    let text = workspace.run(&["health", "list"]).ended(3).stdout;
    assert!(text.contains("queue-north is held out of answers") && text.contains("new disks"), "{text}");
    let status = workspace.run(&["status", "--format", "json"]).json();
    assert_fits(&schema("status"), &status);
    let given = status["hostnames"].as_array().unwrap().iter().find(|row| row["hostname"] == TONIGHT).unwrap();
    let given = &given["given"];
    assert_eq!((&given["endpoint"], &given["due"]), (&"queue-south".into(), &serde_json::json!([])), "{given}");
    assert_eq!(given["because"], "a preferred endpoint is held out of answers");
    assert!(given["since"].is_string(), "{given}");
    let text = workspace.run(&["status", "--only", TONIGHT]).stdout;
    assert!(text.contains("queue-south (+1)") && text.contains("points to queue-south since"), "{text}");
    workspace.run(&["health", "hold", "queue-north", "--release"]).ended(0);
    let (_, from) = keep.until("return", from, switched_to("queue-north")).await;

    edit(&workspace, "policy = \"standby\"", "policy = \"stanby\"");
    let (note, from) = keep.until("word on the mistake", from, is_note("cannot be used")).await;
    assert!(note["says"].as_str().unwrap().contains("pindrel.toml:"), "{note}");
    edit(&workspace, "policy = \"stanby\"", "policy = \"standby\"");
    edit(&workspace, "[\"queue-north\", \"queue-south\"]", "[\"queue-south\", \"queue-north\"]");
    keep.signal("-HUP");
    let (_, from) = keep.until("word on the change", from, is_note("is taken up")).await;
    keep.until("switch by preference", from, switched_to("queue-south")).await;
    assert!(sandbox.platform().binding("queue-north", TONIGHT).is_some());
    let (status, events) = keep.stop();
    assert_eq!((status, &events.last().unwrap()["event"]), (0, &"summary".into()));
    events.iter().for_each(|event| assert_fits(&schema("event"), event));

    let history = workspace.run(&["health", "history", "tonight.larkfield.example/queue-north", "--format", "json"]);
    assert_fits(&schema("health-history"), &history.ended(0).json());
    for (option, begin) in [("--svg", &b"<svg"[..]), ("--png", b"\x89PNG\r\n")] {
        workspace.run(&["health", "history", "tonight.larkfield.example/queue-south", option, "picture"]).ended(0);
        let picture = std::fs::read(workspace.path().join("picture")).unwrap();
        assert!(picture.starts_with(begin) && picture.len() > 2_000, "{option}");
    }
    workspace.run(&["health", "history", "tonight.larkfield.example/queue-nroth"]).ended(2);
    workspace.run(&["keep", "--once"]).ended(0);
}

/// How the service behind the servers behaves.
const WELL: u8 = 0;
const ERROR_TEXT: u8 = 1;
const SLOW: u8 = 2;
const HUNG: u8 = 3;

async fn service(mode: Arc<AtomicU8>) -> SocketAddr {
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let address = listener.local_addr().unwrap();
    tokio::spawn(async move {
        while let Ok((mut stream, _)) = listener.accept().await {
            let mode = mode.clone();
            tokio::spawn(async move {
                let mut request = [0; 2_048];
                let _ = stream.read(&mut request).await;
                let text = match mode.load(Ordering::SeqCst) {
                    ERROR_TEXT => "database is away\n",
                    SLOW => {
                        tokio::time::sleep(Duration::from_millis(2_500)).await;
                        "all is well\n"
                    }
                    HUNG => std::future::pending().await,
                    _ => "all is well\n",
                };
                let head = format!("HTTP/1.1 200 OK\r\nconnection: close\r\ncontent-length: {}\r\n\r\n", text.len());
                let _ = stream.write_all(format!("{head}{text}").as_bytes()).await;
            });
        }
    });
    address
}

/// A real web server and a real load balancer behind one hostname: each way to fail is its own finding, and each
/// is left for the other server.
#[tokio::test(flavor = "multi_thread")]
async fn each_way_to_fail_of_real_servers_is_told_apart_and_left() {
    let test = "each_way_to_fail_of_real_servers_is_told_apart_and_left";
    let (mode, other) = (Arc::new(AtomicU8::new(WELL)), Arc::new(AtomicU8::new(WELL)));
    let (behind_web, behind_balancer) = (service(mode.clone()).await, service(other.clone()).await);
    let Some(web) = RealNginx::start(test).await else { return };
    let Some(balancer) = RealHaproxy::start(test, behind_balancer).await else { return };
    let health = "health = { path = \"/\", every = \"1s\", timeout = \"1s\", down_after = 2, up_after = 2, \
                  expect = { status = \"200\", body = \"all is well\" } }\n";
    let web_table = web.endpoint("web", "gateway", "").replace(
        &format!("services = {{ one = \"http://{}\"", web.services[0]),
        &format!("services = {{ one = \"http://{behind_web}\""),
    );
    let (workspace, sandbox) = sandboxed(quick(), |manifest, _| {
        let dead = format!(
            "\n[endpoint.half]\nkind = \"gateway\"\ndriver = \"static\"\ndefault_name = \"half.larkfield.test.\"\n\
             addresses = [\"{}\", \"127.99.99.99\"]\nport = {}\nhealth = {{ url = \"https://{TONIGHT}/\" }}\n",
            web.listen.ip(),
            web.listen.port()
        );
        let more = format!(
            "\n[health.untrusted]\nurl = \"https://{TONIGHT}:{0}/\"\nroots = \"sandbox/api-root.pem\"\n\
             [health.unknown-name]\ntls = \"{1}\"\nname = \"nobody.larkfield.example\"\n\
             [health.short]\ntls = \"{1}\"\nname = \"{TONIGHT}\"\ndays_left = 400\n\
             [health.refused]\ntcp = \"127.99.99.99:9\"\nevery = \"1s\"\ntimeout = \"1s\"\n\
             [health.not-authoritative]\ndns = {{ server = \"{2}\", name = \"larkfield.test\" }}\n\
             [health.program]\nprogram = [\"sh\", \"-c\", \"echo too deep >&2; exit 3\"]\nevery = \"1s\"\n\
             timeout = \"1s\"\n\
             [health.all]\nof = [\"refused\", \"program\"]\nneed = \"any\"\n",
            web.listen.port(),
            web.listen,
            sandbox_server(&manifest)
        );
        manifest
            .with(&web_table)
            .with(&balancer.endpoint("balance"))
            .with(&dead)
            .with(&standby("web", "balance", health))
            .with(&more)
    })
    .await;
    workspace.run(&["settle"]).ended(0);
    let codes = |name: &str| -> Vec<String> {
        let ran = workspace.run(&["health", "run", name, "--format", "json"]).json();
        assert_fits(&schema("health-run"), &ran);
        let rows = ran["checks"].as_array().unwrap().iter().filter(|row| row["name"] == name);
        let results = rows.flat_map(|row| row["results"].as_array().unwrap().clone());
        results.map(|result| result["code"].as_str().unwrap_or("passed").to_owned()).collect()
    };
    let of_web = "tonight.larkfield.example/web";
    assert_eq!(
        (codes(of_web), codes("tonight.larkfield.example/balance")),
        (vec!["passed".into()], vec!["passed".into()])
    );
    for (name, code) in [
        ("unknown-name", "tls-failed"),
        ("short", "certificate-ends"),
        ("refused", "connection-refused"),
        ("not-authoritative", "dns-refused"),
        ("program", "program-failed"),
    ] {
        assert_eq!(codes(name), [code], "{name}");
    }
    assert_eq!(codes("half"), ["passed", "connection-refused"], "one of two addresses");
    let text = workspace.run(&["health", "run"]).ended(1).stdout;
    assert!(text.contains("exit status 3: too deep") && text.contains("any of refused, program"), "{text}");

    let keep = Keep::start(&workspace);
    // That both are up is known from the checks before, and is no news.
    let (_, mut from) = keep.until("verdict", 0, |event| event["check"] == "all" && event["to"] == "down").await;
    let clients = clients(&workspace, &sandbox, vec![web.listen, balancer.listen]);
    for (bad, code) in [(ERROR_TEXT, "text-missing"), (SLOW, "response-timeout"), (HUNG, "response-timeout")] {
        mode.store(bad, Ordering::SeqCst);
        (_, from) = keep.until("switch", from, switched_to("balance")).await;
        assert_eq!(codes(of_web), [code]);
        mode.store(WELL, Ordering::SeqCst);
        (_, from) = keep.until("return", from, switched_to("web")).await;
    }
    drop(web);
    (_, from) = keep.until("switch", from, switched_to("balance")).await;
    assert_eq!(codes(of_web), ["connection-refused"]);
    // The balancer's own servers are away too: nothing is left to turn to.
    other.store(HUNG, Ordering::SeqCst);
    let stays =
        |event: &Value| event["event"] == "gives" && event["why"].as_str().is_some_and(|why| why.contains("stays"));
    keep.until("word that none is up", from, stays).await;
    let (requests, _) = clients.stop().await;
    assert!(requests > 100);
    assert_eq!(keep.stop().0, 0);
}

/// The first server of the sandbox's zone, out of a manifest.
fn sandbox_server(manifest: &pindrel_testkit::ManifestText) -> String {
    let text = manifest.text();
    let begin = text.find("servers = [\"").unwrap() + "servers = [\"".len();
    text[begin..].split('"').next().unwrap().to_owned()
}
