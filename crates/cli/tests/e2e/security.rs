//! What colleagues, peers and files could do: each line of `SECURITY.md` that the program itself keeps.

use std::io::Write as _;
use std::os::unix::net::UnixStream;
use std::path::Path;
use std::process::Stdio;
use std::time::{Duration, Instant};

use pindrel_testkit::{ScriptedServer, Workspace, answer, udp_and_tcp};
use serde_json::{Value, json};
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};

use crate::{PINDREL, edit, one_name, quick, sandboxed};

/// Far longer than any run here takes whose waits are bounded.
const FAR_TOO_LONG: Duration = Duration::from_secs(60);

/// A manifest that names no peer, with files that it includes.
fn included(files: &[(&str, &str)]) -> Workspace {
    let workspace = Workspace::new(PINDREL);
    workspace.write(
        "pindrel.toml",
        "manifest = 1\ninclude = [\"*.inc.toml\"]\n[zone.\"larkfield.example\"]\ndriver = \"none\"\nservers = [\"127.0.0.1:9\"]\n\
         [authority.main]\ndirectory = \"https://127.0.0.1:9/directory\"\nagree_to_terms = true\n\
         [endpoint.edge]\nkind = \"gateway\"\ndriver = \"static\"\ndefault_name = \"edge7.vendor.test.\"\naddresses = [\"127.0.0.1\"]\n",
    );
    for (name, text) in files {
        workspace.write(name, text);
    }
    workspace
}

/// What one included file leaves open, another one closes, and goes on with an endpoint that runs a program.
#[test]
fn included_files_run_nothing() {
    let hostname = "[hostname.\"a.larkfield.example\"]\nendpoint = \"edge\"\n";
    let evil = "[endpoint.evil]\nkind = \"gateway\"\ndriver = \"program\"\nprogram = [\"sh\", \"-c\", \"touch ran\"]\n";
    for (open, close) in [("note = \"\"\"\n", "\"\"\"\n"), ("labels = [\n", "]\n"), ("", "")] {
        let (first, second) = (format!("{hostname}{open}"), format!("{close}{evil}"));
        let workspace = included(&[("a.inc.toml", &first), ("b.inc.toml", &second)]);
        for args in [&["endpoint", "list"][..], &["check", "--online"], &["settle", "--patience", "1s"], &["status"]] {
            let ran = workspace.run(args).ended(2);
            let said = format!("{}{}", ran.stdout, ran.stderr);
            assert!(said.contains("inc.toml"), "{args:?}: {said}");
        }
        assert!(!workspace.path().join("ran").exists(), "{open}");
    }
    // A link shows nothing of what it leads to.
    let workspace = included(&[("secrets/sealing.key", "c2VhbGluZyBrZXk=\n")]);
    std::os::unix::fs::symlink("secrets/sealing.key", workspace.path().join("a.inc.toml")).unwrap();
    let ran = workspace.run(&["check"]).ended(2);
    let said = format!("{}{}", ran.stdout, ran.stderr);
    assert!(said.contains("leads to a file that") && !said.contains("c2Vhb"), "{said}");
    let health = "health = { url = \"http://a.larkfield.example:6379/\", method = \"POST\", send = \"QUIT\" }\n";
    let workspace = included(&[("a.inc.toml", &format!("{hostname}{health}"))]);
    let ran = workspace.run(&["health", "run"]).ended(2);
    assert!(ran.stderr.contains("at the endpoint's own port"), "{}", ran.stderr);
}

/// Text of others stays text: in a command line that is proposed, in what a shell completes, on the terminal.
#[tokio::test(flavor = "multi_thread")]
async fn text_of_others_is_never_a_command() {
    let (workspace, _sandbox) = sandboxed(quick(), |manifest, listing| {
        let more = "expect = { path = \"/v2/$(touch${IFS}ran)\", status = \"100-599\" }\nnote = \"one\\n\\u001b[2Jtwo\"\nlabels = [\"a\\u001b]0;b\\u0007\"]";
        manifest.endpoint(listing, "catalogue", "gateway").hostname("api.larkfield.example", "catalogue", more)
    })
    .await;
    workspace.run(&["settle", "--hold-alias"]);
    let held = workspace.run(&["settle", "--hold-alias"]);
    let said = format!("{}{}", held.stdout, held.stderr);
    let curl =
        said.split("Look with: ").nth(1).and_then(|rest| rest.split(';').next()).unwrap_or_else(|| panic!("{said}"));
    assert!(curl.contains("'https://api.larkfield.example:") && curl.contains("$(touch"), "{curl}");
    // As it is when pasted.
    let pasted = curl.replacen("curl", "true", 1);
    let status = std::process::Command::new("sh").args(["-c", &pasted]).current_dir(workspace.path()).status().unwrap();
    assert!(status.success() && !workspace.path().join("ran").exists(), "{curl}");

    for args in [&["cert", "list"][..], &["cert", "show", "api.larkfield.example"], &["status"], &["state", "journal"]]
    {
        for args in [args.to_vec(), [args, &["--format", "json"]].concat()] {
            let ran = workspace.run(&args);
            let said = format!("{}{}", ran.stdout, ran.stderr);
            assert!(!said.contains(['\u{1b}', '\u{7}']) && !said.contains("\ntwo"), "{args:?}: {said:?}");
        }
    }
    edit(&workspace, "endpoint.catalogue]", "endpoint.\"$(touch ran)\"]");
    edit(&workspace, "endpoint = \"catalogue\"", "endpoint = \"$(touch ran)\"");
    let ran = workspace.run(&["check"]).ended(2);
    assert!(ran.stdout.contains("is no name for [endpoint.NAME]"), "{}{}", ran.stdout, ran.stderr);
    let mut completing = workspace.command(&["--", "pindrel", "endpoint", "show", ""]);
    completing.env("PINDREL_COMPLETE", "bash").env("_CLAP_COMPLETE_INDEX", "3").env("_CLAP_COMPLETE_COMP_TYPE", "9");
    let output = completing.output().unwrap();
    assert!(!String::from_utf8_lossy(&output.stdout).contains("touch"), "{output:?}");
}

fn bytes_below(folder: &Path) -> Vec<u8> {
    let entries = std::fs::read_dir(folder).unwrap().flatten();
    entries.flat_map(|entry| std::fs::read(entry.path()).unwrap_or_default()).collect()
}

/// A platform that answers with what it was sent: the private key and the token stand in no output, no journal and no
/// file of the state.
#[tokio::test(flavor = "multi_thread")]
async fn a_platform_that_repeats_a_key_does_not_make_it_known() {
    let (workspace, sandbox) = sandboxed(quick(), one_name).await;
    // A name that exists: nothing is sent to an endpoint that clients are not led to.
    let default_name = sandbox.listing().endpoints[0].default_name.clone();
    let server = ScriptedServer::start(&["localhost"], move |_, request| {
        let all = format!("{}\n{:?}", String::from_utf8_lossy(&request.body), request.headers);
        match request.line.split_once(' ').unwrap_or_default() {
            ("GET", target) if target.ends_with("/endpoints") => {
                let endpoint = json!({ "id": "catalogue", "kind": "gateway", "site": "north", "certificate_site": "north",
                    "default_name": default_name, "addresses": ["127.0.0.1"], "port": 9 });
                answer(200, &[], &json!({ "endpoints": [endpoint] }).to_string())
            }
            ("GET", _) => answer(404, &[], "{}"),
            _ => answer(422, &[], &json!({ "title": all, "detail": format!("cannot use {all}") }).to_string()),
        }
    })
    .await;
    let own = format!("https://localhost:{}/", server.address.port());
    let manifest = workspace.read("pindrel.toml").replace(&sandbox.listing().platform, &own);
    workspace
        .write("pindrel.toml", &manifest.replace("api_roots = \"sandbox/api-root.pem\"", "api_roots = \"roots.pem\""));
    workspace.write("roots.pem", &format!("{}{}", server.root_pem, workspace.read("sandbox/api-root.pem")));
    let mut shown = String::new();
    for args in [
        &["settle", "-vvv", "--patience", "2s"][..],
        &["settle", "--format", "json", "--max-age", "0", "--patience", "2s"],
        &["status"],
        &["status", "--format", "json"],
        &["state", "journal"],
        &["state", "journal", "--format", "json"],
    ] {
        let ran = workspace.run(args);
        shown.push_str(&ran.stdout);
        shown.push_str(&ran.stderr);
    }
    let sent = server.received();
    let put = sent.iter().find(|request| request.line.starts_with("PUT")).unwrap_or_else(|| panic!("{shown}"));
    let body: Value = serde_json::from_slice(&put.body).unwrap();
    let key = body["key"].as_str().unwrap();
    assert!(
        key.contains("PRIVATE KEY") && shown.contains("refused the certificate (status 422): cannot use"),
        "{shown}"
    );
    let token = workspace.read("sandbox/edge.token");
    let kept = bytes_below(&workspace.path().join(".pindrel"));
    let kept = String::from_utf8_lossy(&kept);
    // The secret number of the key; its public part stands in the certificate as well.
    let lines: Vec<&str> = key.lines().collect();
    for part in [&lines[1][48..], &lines[2][..24], token.trim(), "PRIVATE KEY-----"] {
        assert!(!shown.contains(part), "shown: {part}: {shown}");
        assert!(!kept.contains(part), "kept: {part}");
    }
}

/// A name server that answers over UDP and drips over TCP, without an end.
async fn dripping_server() -> std::net::SocketAddr {
    let (socket, listener) = udp_and_tcp().await;
    let address = socket.local_addr().unwrap();
    // The question comes back as an answer with authority and one record: for whatever is asked an address.
    let reply = |question: &[u8]| {
        let mut reply = question[..question.len().min(12)].to_vec();
        let end = 12 + question[12..].iter().position(|octet| *octet == 0).unwrap() + 5;
        reply.extend_from_slice(&question[12..end]);
        (reply[2], reply[3]) = (0x84, 0);
        reply[6..12].copy_from_slice(&[0, 1, 0, 0, 0, 0]);
        let (kind, data): (u8, Vec<u8>) = match question[end - 3] {
            // An SOA record: two root names and five numbers.
            6 | 251 | 252 => (6, [vec![0, 0], [[0, 0, 0, 7]; 5].concat()].concat()),
            2 => (2, vec![0xc0, 12]),
            _ => (1, vec![192, 0, 2, 66]),
        };
        reply.extend_from_slice(&[0xc0, 12, 0, kind, 0, 1, 0, 0, 0, 60, 0, data.len() as u8]);
        reply.extend_from_slice(&data);
        reply
    };
    tokio::spawn(async move {
        let mut buffer = vec![0; 4096];
        while let Ok((length, client)) = socket.recv_from(&mut buffer).await {
            let _ = socket.send_to(&reply(&buffer[..length]), client).await;
        }
    });
    tokio::spawn(async move {
        while let Ok((mut stream, _)) = listener.accept().await {
            tokio::spawn(async move {
                let length = stream.read_u16().await?;
                let mut question = vec![0; usize::from(length)];
                stream.read_exact(&mut question).await?;
                loop {
                    let reply = reply(&question);
                    stream.write_u16(reply.len() as u16).await?;
                    stream.write_all(&reply).await?;
                    tokio::time::sleep(Duration::from_secs(1)).await;
                    // After the first, records of the zone.
                    question.truncate(question.len().min(12 + 5 + 16));
                }
                #[allow(unreachable_code)]
                Ok::<(), std::io::Error>(())
            });
        }
    });
    address
}

/// One zone's server drips: each command ends all the same, and the other zone's hostname is held.
#[tokio::test(flavor = "multi_thread")]
async fn a_name_server_that_drips_holds_nobody_up() {
    let slow = dripping_server().await;
    let (workspace, _sandbox) = sandboxed(quick(), |manifest, listing| {
        let zone = format!(
            "\n[zone.\"slow.example\"]\ndriver = \"rfc2136\"\nservers = [\"{slow}\"]\nparents = [\"{slow}\"]\nresolvers = [\"{}\"]\n\
             tsig = {{ name = \"pindrel.\", secret = \"file:sandbox/tsig.secret\" }}\n",
            listing.resolver
        );
        one_name(manifest, listing).with(&zone).hostname("www.slow.example", "catalogue", "")
    })
    .await;
    for (args, status) in [
        (&["settle", "--patience", "5s"][..], 3),
        (&["settle", "--dry-run", "--max-age", "0", "--patience", "5s"], 3),
        (&["status", "--max-age", "0"], 3),
        (&["zone", "check", "slow.example", "--patience", "5s"], 1),
    ] {
        let begun = Instant::now();
        let ran = workspace.run(args);
        assert!(begun.elapsed() < FAR_TOO_LONG, "{args:?}: {:?}", begun.elapsed());
        assert_eq!(ran.status, status, "{args:?}: {}{}", ran.stdout, ran.stderr);
    }
    let held = workspace.run(&["status", "--format", "json"]).json();
    let api = held["hostnames"].as_array().unwrap().iter().find(|one| one["hostname"] == "api.larkfield.example");
    assert_eq!(api.unwrap()["held"], true, "{held}");
}

/// A zone file that somebody sends shows no line of any other file, and holds nobody up.
#[test]
fn a_zone_file_of_somebody_else_shows_no_other_file() {
    let workspace = Workspace::new(PINDREL);
    let secret = "c2VhbGluZyBrZXkgb2YgbGFya2ZpZWxkIGFuZCBub2JvZHkgZWxzZQ==";
    workspace.write("sealing.key", &format!("{secret}\n"));
    workspace.write("inbox/secret.txt", &format!("{secret}\n"));
    std::os::unix::fs::symlink("../sealing.key", workspace.path().join("inbox/link.zone")).unwrap();
    let ran = workspace.run(&["zone", "check", "inbox/link.zone"]).ended(1);
    let said = format!("{}{}", ran.stdout, ran.stderr);
    assert!(said.contains("it leads to what is no zone file") && !said.contains(&secret[..8]), "{said}");
    for included in ["../sealing.key", "secret.txt", "/etc/passwd", "/dev/zero", "/proc/self/environ"] {
        let text = format!("@ 1h IN SOA ns1 hostmaster 7 1h 10m 4w 5m\n@ 1h NS ns1\n$INCLUDE {included}\n");
        workspace.write("inbox/larkfield.example.zone", &text);
        for format in ["text", "json"] {
            let args = ["zone", "check", "inbox/larkfield.example.zone", "--format", format];
            let ran = workspace.run(&args).ended(1);
            let said = format!("{}{}", ran.stdout, ran.stderr);
            assert!(said.contains("cannot be included"), "{said}");
            assert!(!said.contains(&secret[..8]) && !said.contains("root:") && !said.contains("PATH="), "{said}");
        }
    }
}

/// What reads PKCS#12 files has no rights: it can open nothing, reach nobody, start nothing, and gain none.
#[test]
fn what_reads_files_of_others_has_no_rights() {
    let workspace = Workspace::new(PINDREL);
    let mut command = workspace.command(&["open-pkcs12-confined"]);
    let mut child = command.stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().unwrap();
    let status = format!("/proc/{}/status", child.id());
    let begun = Instant::now();
    // As soon as it is confined; it waits for its input then.
    let confined = loop {
        let status = std::fs::read_to_string(&status).unwrap();
        if status.contains("Seccomp:\t2") {
            break status;
        }
        assert!(begun.elapsed() < FAR_TOO_LONG, "{status}");
        std::thread::sleep(Duration::from_millis(5));
    };
    assert!(confined.contains("NoNewPrivs:\t1"), "{confined}");
    let limits = std::fs::read_to_string(format!("/proc/{}/limits", child.id())).unwrap();
    assert!(limits.lines().any(|line| line.starts_with("Max file size") && line.contains(" 0 ")), "{limits}");
    child.stdin.take().unwrap().write_all(&[0, 0, 0, 0, 0, 0, 0, 1, b'x', 0x30, 0x82]).unwrap();
    let output = child.wait_with_output().unwrap();
    assert_eq!((output.status.code(), &*output.stdout), (Some(0), &b"null"[..]), "{output:?}");
    // What is no request is none.
    let mut child = workspace.command(&["open-pkcs12-confined"]).stdin(Stdio::piped()).spawn().unwrap();
    child.stdin.take().unwrap().write_all(&[0xff; 64]).unwrap();
    assert_eq!(child.wait().unwrap().code(), Some(1));
}

/// Clients of the sandbox's socket that say nothing keep nobody else waiting.
#[tokio::test(flavor = "multi_thread")]
async fn idle_clients_do_not_keep_the_sandbox_busy() {
    let workspace = Workspace::new(PINDREL);
    workspace.run(&["sandbox", "up", "--detach"]).ended(0);
    let socket = workspace.path().join("sandbox/control.sock");
    let idle: Vec<UnixStream> = (0..20).map(|_| UnixStream::connect(&socket).unwrap()).collect();
    let begun = Instant::now();
    let listed = workspace.run(&["sandbox", "list", "--format", "json"]);
    let took = begun.elapsed();
    drop(idle);
    workspace.run(&["sandbox", "down"]).ended(0);
    listed.ended(0);
    assert!(took < Duration::from_secs(4), "{took:?}");
}
