//! Every driver on a real server, by one trial; and what each meets beside it.

#![allow(clippy::unwrap_used, reason = "what cannot be set up fails the test")]

use std::path::{Path, PathBuf};
use std::time::Duration;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use pindrel_core::certificates::delivery::Command;
use pindrel_core::names::name::DnsName;
use pindrel_core::values::{TsigAlgorithm, Ttl};
use pindrel_core::zones::records::{AliasPlace, NameChange, RecordData, RecordSet, ZoneChange, ZoneRecord};
use pindrel_core::zones::zone_data::{NameKey, TypeCode};
use pindrel_dns::conformance::trial;
use pindrel_dns::{HandedOff, PowerDns, Rfc2136, SetChange, TriedRights, ZoneDriver, ZoneError, ZoneFile, ZoneProgram};
use pindrel_sandbox::{TSIG_NAME, ZONE};
use pindrel_testkit::{
    Program, RealOptions, RealPowerDns, RealWorld, TSIG_SECRET, dig, eventually, free_port, require,
};

/// How long a transfer may take.
const WITHIN: Duration = Duration::from_secs(30);

fn dns(name: &str) -> DnsName {
    name.parse().unwrap()
}

/// Goes through the trial, and fails with every clause that is not met.
async fn assert_conforms(driver: &dyn ZoneDriver, zone: &str) {
    let place = dns(&format!("pindrel-trial.{zone}"));
    let clauses = trial(driver, &dns(zone), &place).await.unwrap();
    let broken: Vec<_> = clauses.iter().filter(|(_, kept)| kept.is_err()).collect();
    assert!(broken.is_empty(), "{broken:#?}");
    assert_eq!(clauses.len(), 13);
}

/// Nothing is written where a zone cut or a DNAME hides it, whoever takes the change.
async fn assert_sees_what_hides(driver: &dyn ZoneDriver, zone: &str) {
    let target = b"\x02ns\x09elsewhere\x04test\x00".to_vec();
    let hiding = |label: &str, code| {
        let owner = NameKey::from(&dns(&format!("{label}.{zone}")));
        SetChange { owner, code, expected: Vec::new(), ttl: 3600, wanted: vec![target.clone()] }
    };
    let made = [hiding("cut", TypeCode::NS), hiding("moved", TypeCode::DNAME)];
    driver.change_sets(&made).await.unwrap();
    for (owner, says) in [
        ("_acme-challenge.deep.cut", format!("cut.{zone} is delegated to other servers")),
        ("cut", format!("cut.{zone} is delegated")),
        ("api.moved", format!("the DNAME record of moved.{zone}")),
    ] {
        let owner = format!("{owner}.{zone}");
        let error = driver.change(&ZoneChange::Add(vec![txt(&owner, "token")])).await.unwrap_err();
        assert!(matches!(&error, ZoneError::Refused { .. }) && error.to_string().contains(&says), "{owner}: {error}");
        assert!(
            driver
                .read_names(&[dns(&owner)])
                .await
                .unwrap()
                .at(&NameKey::from(&dns(&owner)))
                .all(|entry| entry.code != TypeCode::TXT)
        );
    }
    // Beside a DNAME there may be other records (RFC 6672 §2.4).
    let beside = vec![txt(&format!("moved.{zone}"), "token")];
    driver.change(&ZoneChange::Add(beside.clone())).await.unwrap();
    driver.change(&ZoneChange::Delete(beside)).await.unwrap();
    let gone = made.map(|set| SetChange { expected: set.wanted, wanted: Vec::new(), ..set });
    driver.change_sets(&gone).await.unwrap();
}

fn txt(owner: &str, text: &str) -> ZoneRecord {
    ZoneRecord { owner: dns(owner), ttl: Ttl::MINUTE, data: RecordData::Txt(text.into()) }
}

fn rfc2136(world: &RealWorld) -> Rfc2136 {
    let secret = STANDARD.decode(TSIG_SECRET).unwrap();
    Rfc2136::new(dns(ZONE), world.primary, dns(TSIG_NAME), TsigAlgorithm::HmacSha256, secret, WITHIN).unwrap()
}

#[tokio::test]
async fn dynamic_update_keeps_every_clause_and_replaces_leftovers_of_any_type() {
    let test = "dynamic_update_keeps_every_clause_and_replaces_leftovers_of_any_type";
    let Some(world) = RealWorld::start(test, RealOptions::default()).await else { return };
    let driver = rfc2136(&world);
    assert_conforms(&driver, ZONE).await;
    assert_sees_what_hides(&driver, ZONE).await;
    // Leftovers whose shown form says less than they hold: a text in pieces, a mail server.
    for (record_type, data) in [("TXT", "\"v=spf1 \" \"-all\""), ("MX", "10 Mail.example."), ("A", "192.0.2.7")] {
        world.update("old", record_type, data);
    }
    let view = pindrel_dns::lookup::alias(&[world.primary], &dns("old.larkfield.example"), AliasPlace::Name).await;
    let expected = view.servers[0].gives.clone().unwrap();
    let wanted = RecordSet::group([(Ttl::MINUTE, RecordData::Cname(dns("gw-1.api.edge.larkfield.test")))]);
    let owner = dns("old.larkfield.example");
    let change = |expected| {
        ZoneChange::Replace(NameChange {
            owner: owner.clone(),
            expected,
            wanted: wanted.clone(),
            place: AliasPlace::Name,
        })
    };
    world.update("old", "TXT", "\"one more\"");
    let late = driver.change(&change(expected)).await;
    assert!(matches!(late, Err(ZoneError::Changed { .. })), "{late:?}");
    let view = pindrel_dns::lookup::alias(&[world.primary], &owner, AliasPlace::Name).await;
    driver.change(&change(view.servers[0].gives.clone().unwrap())).await.unwrap();
    assert_eq!(world.dig(world.primary, "old.larkfield.example", "ANY"), "gw-1.api.edge.larkfield.test.\n");
    // What somebody else edits is looked at, and never changed.
    let handed = HandedOff::new(dns(ZONE), world.primary, WITHIN);
    assert!(
        handed.read_names(std::slice::from_ref(&owner)).await.unwrap().len() == 1
            && handed.read().await.unwrap().len() > 3
    );
    handed.change(&ZoneChange::Add(vec![txt("_acme-challenge.old.larkfield.example", "x")])).await.unwrap();
    let refused = handed.change(&change(Vec::new())).await.unwrap_err();
    assert!(refused.to_string().contains("edited by somebody else"), "{refused}");
}

#[tokio::test(flavor = "multi_thread")]
async fn powerdns_keeps_every_clause_and_knows_alias_records() {
    let test = "powerdns_keeps_every_clause_and_knows_alias_records";
    let Some(world) = RealWorld::start(test, RealOptions::default()).await else { return };
    let Some(server) = RealPowerDns::start(test, ZONE, world.resolver).await else { return };
    let driver = |key: &str, zone: &str| {
        PowerDns::new(dns(zone), server.api.parse().unwrap(), key.to_owned().into(), None).unwrap()
    };
    let own = driver(server.key, ZONE);
    assert_conforms(&own, ZONE).await;
    assert_sees_what_hides(&own, ZONE).await;
    let target = world.sandbox.listing().endpoints[0].default_name.clone();
    let target = target.as_str();
    let alias = RecordSet::group([(Ttl::MINUTE, RecordData::Alias(dns(target)))]);
    let change = |expected: &[RecordSet], wanted: &[RecordSet]| {
        let (owner, place) = (dns(ZONE), AliasPlace::Apex);
        ZoneChange::Replace(NameChange { owner, expected: expected.to_vec(), wanted: wanted.to_vec(), place })
    };
    own.change(&change(&[], &alias)).await.unwrap();
    let addresses = world.dig(world.resolver, target, "A");
    assert!(!addresses.is_empty());
    eventually("the server resolves it itself", Duration::from_secs(10), async || {
        dig(server.server, ZONE, "A") == addresses
    })
    .await;
    // Twice is once; the apex keeps what else stands there.
    own.change(&change(&[], &alias)).await.unwrap();
    own.change(&change(&alias, &[])).await.unwrap();
    assert_eq!(dig(server.server, ZONE, "A"), "");
    assert!(dig(server.server, ZONE, "NS").contains("ns1."));
    // What is wrong is told as what it is.
    let wrong = driver("another", ZONE).read().await.unwrap_err();
    assert!(matches!(wrong, ZoneError::Credential { .. }), "{wrong}");
    assert!(!wrong.to_string().contains("another"), "no key is shown: {wrong}");
    let unknown = driver(server.key, "nowhere.example").read().await.unwrap_err();
    assert!(unknown.to_string().contains("has no zone nowhere.example"), "{unknown}");
    let gone =
        PowerDns::new(dns(ZONE), format!("http://{}", free_port()).parse().unwrap(), "k".to_owned().into(), None);
    assert!(matches!(gone.unwrap().read().await, Err(ZoneError::Unreachable { .. })));
}

/// A name server that serves one zone out of a file.
struct FileServer {
    folder: tempfile::TempDir,
    address: std::net::SocketAddr,
    _process: Program,
}

const FILE: &str = "; Larkfield's archive. Lines stay as they are.
$TTL 1h
@   IN SOA ns1 hostmaster (
        2026112601 ; serial
        1h 10m 4w 5m )
    IN NS  ns1
ns1 IN A   127.0.0.1     ; the only one
www IN CNAME @
";

impl FileServer {
    async fn start(test: &str) -> Option<FileServer> {
        if !require(test, &[("named", "bind9"), ("dig", "bind9-dnsutils")]) {
            return None;
        }
        let folder = tempfile::tempdir().unwrap();
        let (path, address) = (folder.path(), free_port());
        std::fs::write(path.join("archive.zone"), FILE).unwrap();
        let shown = path.display();
        let text = format!(
            "options {{ directory \"{shown}\"; pid-file \"{shown}/pid\"; session-keyfile \"{shown}/session.key\"; \
             managed-keys-directory \"{shown}\"; lock-file none; listen-on port {} {{ 127.0.0.1; }}; listen-on-v6 {{ none; }}; \
             recursion no; dnssec-validation no; notify no; }};\ncontrols {{ }};\n\
             zone \"archive.example\" {{ type primary; file \"archive.zone\"; }};\n",
            address.port()
        );
        std::fs::write(path.join("named.conf"), text).unwrap();
        let conf = path.join("named.conf").display().to_string();
        let process = Program::start("named", path, &["-f", "-c", &conf], &[]);
        eventually("the server of the file", Duration::from_secs(20), async || {
            dig(address, "archive.example", "SOA").contains("hostmaster")
        })
        .await;
        Some(FileServer { folder, address, _process: process })
    }

    fn file(&self) -> PathBuf {
        self.folder.path().join("archive.zone")
    }

    fn driver(&self, after: &[&str]) -> ZoneFile {
        let run = after.iter().map(|word| (*word).to_owned()).collect();
        let after = if after.is_empty() { vec![] } else { vec![Command { run, within: Duration::from_secs(10) }] };
        ZoneFile::new(&dns("archive.example"), self.file(), self.folder.path().to_owned(), after)
    }
}

#[tokio::test]
async fn a_zone_file_keeps_every_clause_and_all_lines_that_are_not_concerned() {
    let test = "a_zone_file_keeps_every_clause_and_all_lines_that_are_not_concerned";
    let Some(server) = FileServer::start(test).await else { return };
    let zone = "archive.example";
    assert_conforms(&server.driver(&[]), zone).await;
    assert_sees_what_hides(&server.driver(&[]), zone).await;
    let text = std::fs::read_to_string(server.file()).unwrap();
    let without_serial =
        |text: &str| text.lines().filter(|line| !line.contains("; serial")).map(str::to_owned).collect::<Vec<_>>();
    assert_eq!(without_serial(&text), without_serial(FILE), "after the trial only the serial is another");
    // A change is served once the command has made the server read the file, also one that a run was stopped before.
    let reload = ["sh", "-c", "kill -HUP $(cat pid); echo reloaded >> log"];
    let driver = server.driver(&reload);
    let record = txt("_acme-challenge.www.archive.example", "token");
    server.driver(&[]).change(&ZoneChange::Add(vec![record.clone()])).await.unwrap();
    assert_eq!(dig(server.address, record.owner.as_str(), "TXT"), "");
    driver.change(&ZoneChange::Add(vec![record.clone()])).await.unwrap();
    eventually("the record is served", Duration::from_secs(10), async || {
        dig(server.address, record.owner.as_str(), "TXT").contains("token")
    })
    .await;
    let failing = server.driver(&["sh", "-c", "echo no such zone >&2; exit 1"]);
    let failed = failing.change(&ZoneChange::Add(vec![record.clone()])).await.unwrap_err().to_string();
    assert!(failed.contains("exit status 1: no such zone"), "{failed}");
    driver.change(&ZoneChange::Delete(vec![record.clone()])).await.unwrap();

    // Ten at once, as ten certificates of one zone: none is lost, and the file stays whole.
    let many: Vec<ZoneRecord> = (0..10).map(|n| txt(record.owner.as_str(), &format!("token {n}"))).collect();
    let changes = many.iter().map(|one| {
        let driver = server.driver(&[]);
        let change = ZoneChange::Add(vec![one.clone()]);
        async move { driver.change(&change).await }
    });
    futures::future::try_join_all(changes).await.unwrap();
    let checked = std::process::Command::new("named-checkzone").arg("-q").arg(zone).arg(server.file()).status();
    assert!(checked.unwrap().success());
    let read = driver.read_names(std::slice::from_ref(&record.owner)).await.unwrap();
    assert_eq!(read.len(), 10);
    driver.change(&ZoneChange::Delete(many)).await.unwrap();
    assert_eq!(without_serial(&std::fs::read_to_string(server.file()).unwrap()), without_serial(FILE));
}

#[tokio::test]
async fn a_zone_file_that_must_not_be_changed_stays_as_it_is() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("archive.example.zone");
    let driver = ZoneFile::new(&dns("archive.example"), path.clone(), folder.path().to_owned(), Vec::new());
    let add = ZoneChange::Add(vec![txt("_acme-challenge.archive.example", "token")]);
    let included = folder.path().join("more.inc");
    std::fs::write(&included, "_acme-challenge TXT \"of others\"\n").unwrap();
    let journal = folder.path().join("archive.example.zone.jnl");
    let table: [(&str, &str, &str); 4] = [
        ("archive.example.zone cannot be read: there is no such file", "", ""),
        ("takes dynamic updates", FILE, "journal"),
        ("archive.example.zone:9: ", "\nwww A 192.0.2.300\n", ""),
        ("stands in line 1 of", "\n$INCLUDE more.inc\n", ""),
    ];
    for (says, text, with) in table {
        let text = text.strip_prefix('\n').map_or_else(|| text.to_owned(), |more| format!("{FILE}{more}"));
        if !text.is_empty() {
            std::fs::write(&path, &text).unwrap();
        }
        if with == "journal" {
            std::fs::write(&journal, "").unwrap();
        }
        // What is included by another file is seen only when a record of it is to be changed.
        let tried = TriedRights { needed: &[], others: &[], servers: &[] };
        let rights = driver.rights(&tried).await;
        assert_eq!(rights.is_err(), !says.contains("line 1"), "{says}: {rights:?}");
        let error = driver.change(&add).await.unwrap_err().to_string();
        assert!(error.contains(says), "{says}: {error}");
        let _ = std::fs::remove_file(&journal);
        assert_eq!(std::fs::read_to_string(&path).unwrap_or_default(), text, "{says}");
    }
    // A link stays a link, and mode and owner stay.
    let real = folder.path().join("real.zone");
    std::fs::write(&real, FILE).unwrap();
    std::fs::remove_file(&path).unwrap();
    std::os::unix::fs::symlink("real.zone", &path).unwrap();
    use std::os::unix::fs::PermissionsExt as _;
    std::fs::set_permissions(&real, std::fs::Permissions::from_mode(0o640)).unwrap();
    driver.change(&add).await.unwrap();
    assert_eq!(std::fs::read_link(&path).unwrap(), Path::new("real.zone"));
    assert_eq!(std::fs::metadata(&real).unwrap().permissions().mode() & 0o777, 0o640);
    assert!(std::fs::read_to_string(&real).unwrap().contains("token"));
}

#[tokio::test]
async fn the_example_program_keeps_every_clause_and_a_broken_one_is_told_apart() {
    let test = "the_example_program_keeps_every_clause_and_a_broken_one_is_told_apart";
    if !require(test, &[("python3", "python3")]) {
        return;
    }
    let (folder, zone) = (tempfile::tempdir().unwrap(), "stations.test");
    let example = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/examples/dns-adapter.py");
    let apex = r#"[["stations.test.","NS",{"ttl":3600,"data":["ns1.stations.test."]}],
        ["stations.test.","SOA",{"ttl":3600,"data":["ns1.stations.test. hostmaster.stations.test. 1 60 5 86400 5"]}]]"#;
    std::fs::write(folder.path().join("stations.test.json"), apex).unwrap();
    let program = |words: Vec<String>| {
        let token = Some(String::from("s3cret").into());
        ZoneProgram::new(dns(zone), words, folder.path().to_owned(), token)
    };
    let words = ["python3", &example.display().to_string(), "."].map(str::to_owned).to_vec();
    assert_conforms(&program(words.clone()), zone).await;
    assert_sees_what_hides(&program(words.clone()), zone).await;
    assert!(program(words.clone()).abilities().await.unwrap().conditional);
    let nowhere = ZoneProgram::new(dns("nowhere.test"), words, folder.path().to_owned(), None);
    let refused = nowhere.read().await.unwrap_err();
    assert!(matches!(&refused, ZoneError::Refused { remedy, .. } if remedy == "Create the zone first"), "{refused}");
    // What a program gets wrong.
    let table = [
        ("exit 3", "exit status 3"),
        ("echo hello", "gave no usable reply"),
        (
            "echo \"$line\" | sed 's/.*token\":\"\\([^\"]*\\)\".*/\\1 is the token/' >&2; exit 1",
            "exit status 1: … is the token",
        ),
        (
            "echo '{\"records\":[{\"name\":\"www.elsewhere.test.\",\"type\":\"A\",\"ttl\":1,\"data\":\"192.0.2.1\"}]}'",
            "does not lie in stations.test",
        ),
        (
            "echo '{\"records\":[{\"name\":\"www.stations.test.\",\"type\":\"A\",\"ttl\":1,\"data\":\"192.0.2.300\"}]}'",
            "www.stations.test. A",
        ),
        (
            "echo '{\"records\":[{\"name\":\"www.stations.test.\",\"type\":\"NEW\",\"ttl\":1,\"data\":\"x\"}]}'",
            "no type has that name",
        ),
        ("echo '{}'", "lacks what \"read\" returns"),
        ("echo '{\"error\":{\"is\":\"odd\",\"says\":\"so\"}}'", "it knows an error \"odd\": so"),
    ];
    for (script, says) in table {
        // The first call asks for what the server can do.
        let script = format!("read -r line; case $line in *describe*) echo '{{}}';; *) {script};; esac");
        let broken = program(["sh", "-c", &script].map(str::to_owned).to_vec());
        let error = broken.read().await.unwrap_err().to_string();
        assert!(error.contains(says) && !error.contains("s3cret"), "{script}: {error}");
    }
}
