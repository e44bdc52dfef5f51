//! Servers on this machine: what is written, what is taken back, and a runtime socket that is not like the
//! tested one.

#![allow(clippy::unwrap_used, reason = "what cannot be set up fails the test")]

use std::fs;
use std::os::unix::fs::PermissionsExt as _;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use futures::future::join_all;
use pindrel_core::endpoints::endpoint::{
    Binding, ClientCertificates, ClientNeed, Deployment, EndpointKind, Route, TlsVersion,
};
use pindrel_core::endpoints::load_balancer::LoadBalancer;
use pindrel_core::endpoints::web_server::{OriginTls, Service, ServicePlace, WebServer};
use pindrel_core::names::name::Hostname;
use pindrel_core::values::Fingerprint;
use pindrel_edge::{EdgeError, Haproxy, Nginx, Platform, StoreRemoval};
use rcgen::{CertificateParams, KeyPair};
use secrecy::{ExposeSecret as _, SecretString};
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use tokio::net::UnixListener;

fn hostname(name: &str) -> Hostname {
    name.parse().unwrap()
}

fn certificate(name: &str) -> (String, SecretString, Fingerprint) {
    let key = KeyPair::generate().unwrap();
    let made = CertificateParams::new(vec![name.to_owned()]).unwrap().self_signed(&key).unwrap();
    (made.pem(), key.serialize_pem().into(), Fingerprint::of(made.der()))
}

fn route(prefix: &str, service: &str, release: Option<&str>) -> Route {
    Route { prefix: prefix.into(), service: service.into(), release: release.map(str::to_owned) }
}

fn plain(certificate: Fingerprint) -> Binding {
    Binding::plain(Some(certificate))
}

/// A web server whose test and reload are scripts, which note that they ran.
struct Web {
    folder: PathBuf,
    nginx: Arc<Nginx>,
    runs: PathBuf,
    refuse: PathBuf,
    _temporary: tempfile::TempDir,
}

impl Web {
    fn new() -> Web {
        let temporary = tempfile::tempdir().unwrap();
        let folder = temporary.path().join("included");
        let (runs, refuse) = (temporary.path().join("runs"), temporary.path().join("refuse"));
        let script = |word: &str| {
            let text = format!(
                "echo {word} >> {runs}; if test -f {refuse} && grep -q {word} {refuse}; then echo 'no {word} today' >&2; exit 7; fi",
                runs = runs.display(),
                refuse = refuse.display()
            );
            vec!["sh".to_owned(), "-c".to_owned(), text]
        };
        let place = |url: &str, weight| ServicePlace { url: url.parse().unwrap(), weight };
        let service = |name: &str, places| Service { name: name.into(), places };
        let server = WebServer {
            folder: folder.clone(),
            services: vec![
                service("one", vec![place("http://127.0.0.1:9001", 1), place("http://127.0.0.1:9002", 3)]),
                service("one@next", vec![place("https://origin.example:9443", 1)]),
            ],
            service: Some("one".into()),
            listen: vec!["192.0.2.10:8443".parse().unwrap(), "[2001:db8::10]:8443".parse().unwrap()],
            listen_http: vec!["192.0.2.10:8080".parse().unwrap()],
            default_name: None,
            test: script("test"),
            reload: script("reload"),
            origin: OriginTls::default(),
            default_document: None,
        };
        let nginx = Arc::new(Nginx::new("web", EndpointKind::Gateway, server, folder.clone()));
        Web { folder, nginx, runs, refuse, _temporary: temporary }
    }

    async fn store(&self, name: &str) -> Fingerprint {
        let (chain, key, sha256) = certificate(name);
        self.nginx.put_certificate("local", sha256, &chain, key).await.unwrap();
        sha256
    }

    fn text(&self, name: &str) -> String {
        fs::read_to_string(self.folder.join(name)).unwrap_or_default()
    }

    fn ran(&self) -> usize {
        fs::read_to_string(&self.runs).unwrap_or_default().lines().count()
    }
}

#[tokio::test]
async fn what_a_web_server_is_told_reads_back_as_it_was_told() {
    let web = Web::new();
    let sha256 = web.store("api.larkfield.example").await;
    let routed = |routes: Vec<Route>| Binding { routes, ..plain(sha256) };
    let roots = Fingerprint::of(b"roots");
    web.nginx.put_trust_bundle("local", roots, "roots").await.unwrap();
    let clients =
        |need| Binding { client_certificates: Some(Box::new(ClientCertificates { roots, need })), ..plain(sha256) };
    let bundle = format!("ssl_client_certificate \"{}/certificates/{roots}.roots.pem\";", web.folder.display());
    let table: [(&str, Binding, &[&str], &[&str]); 8] = [
        ("api.larkfield.example", clients(ClientNeed::Required), &[&bundle, "ssl_verify_client on;"], &[]),
        ("api.larkfield.example", clients(ClientNeed::Optional), &[&bundle, "ssl_verify_client optional;"], &[]),
        (
            "api.larkfield.example",
            plain(sha256),
            &["listen [2001:db8::10]:8443 ssl http2;", "location \"/\" {"],
            &["426"],
        ),
        (
            "api.larkfield.example",
            routed(vec![route("/v1", "one", None), route("/v1/a\"b$c\\", "one", Some("next"))]),
            // A quote, a variable and a backslash of the manifest are those characters to the server too.
            &[
                "location \"/v1/\" {",
                "location = \"/v1\" {",
                "\"/v1/a\\\"b$c\\\\/\"",
                "return 404;",
                "proxy_ssl_verify on",
            ],
            &["location \"/\" {"],
        ),
        ("api.larkfield.example", routed(vec![route("/", "one", None)]), &["location \"/\" {"], &["return 404"]),
        (
            "www.larkfield.example",
            Binding { redirect_to: Some(hostname("larkfield.example")), ..plain(sha256) },
            &["return 308 https://larkfield.example:8443$request_uri;"],
            &["proxy_pass"],
        ),
        (
            "*.stations.larkfield.example",
            Binding { minimum_tls: TlsVersion::V1_3, ..plain(sha256) },
            &["server_name *.stations.larkfield.example;", "ssl_protocols TLSv1.3;", "return 426;"],
            &["TLSv1.2"],
        ),
        ("xn--sternwarte-9db.larkfield.example", plain(sha256), &[], &[]),
    ];
    for (name, binding, has, lacks) in &table {
        let name = hostname(name);
        let known = web.nginx.binding("web", &name).await.unwrap();
        let put = web.nginx.put_binding("web", &name, binding, known.as_ref()).await.unwrap();
        assert_eq!((&put.binding, &put.deployment), (binding, &Deployment::Deployed));
        assert_eq!(web.nginx.binding("web", &name).await.unwrap().unwrap(), put);
        let text = web.text(&format!("{}.conf", name.to_string().replace('*', "_")));
        for part in *has {
            assert!(text.contains(part), "{part}: {text}");
        }
        for part in *lacks {
            assert!(!text.contains(part), "{part}: {text}");
        }
        // As it was read before, or as somebody else has it: not changed.
        let again = web.nginx.put_binding("web", &name, &plain(sha256), known.as_ref()).await;
        assert_eq!(again, Err(EdgeError::Changed(name.clone())), "{name}");
    }
    assert!(web.text("00-services-web.conf").contains("server \"127.0.0.1:9002\" weight=3;"));
    let mut bound: Vec<String> =
        web.nginx.bindings("web").await.unwrap().into_iter().map(|(name, _)| name.to_string()).collect();
    bound.sort();
    assert_eq!(bound.len(), 4, "{bound:?}");
    assert_eq!(web.nginx.delete_certificate("local", sha256).await, Ok(StoreRemoval::InUse));
    for name in &bound {
        let name = hostname(name);
        let known = web.nginx.binding("web", &name).await.unwrap().unwrap();
        web.nginx.delete_binding("web", &name, &known).await.unwrap();
        web.nginx.delete_binding("web", &name, &known).await.unwrap();
        assert_eq!(web.nginx.binding("web", &name).await, Ok(None));
    }
    let stored = web.nginx.certificates("local").await.unwrap();
    assert_eq!((stored.len(), stored[0].used_by), (1, Some(0)));
    assert_eq!(web.nginx.delete_certificate("local", sha256).await, Ok(StoreRemoval::Gone));
    assert_eq!(fs::read_dir(web.folder.join("certificates")).unwrap().count(), 1, "the key is gone too");
    let issued = web.nginx.put_binding("web", &hostname("app.larkfield.example"), &Binding::plain(None), None).await;
    assert!(issued.unwrap_err().to_string().contains("issues no certificates"));
}

/// Files of the names that Pindrel uses, written by somebody else, stay as they are, and it is said which is in the way.
#[tokio::test]
async fn what_somebody_else_wrote_is_never_replaced() {
    for name in ["00-services-web.conf", "01-unknown-names-web.conf", "api.larkfield.example.conf"] {
        let web = Web::new();
        let sha256 = web.store("api.larkfield.example").await;
        fs::write(web.folder.join(name), "# by hand\n").unwrap();
        let put = web.nginx.put_binding("web", &hostname("api.larkfield.example"), &plain(sha256), None).await;
        let error = put.unwrap_err();
        assert!(matches!(&error, EdgeError::Foreign { path } if path.ends_with(name)), "{error}");
        assert_eq!((web.text(name).as_str(), web.ran()), ("# by hand\n", 0), "{name}");
    }
    let folder = tempfile::tempdir().unwrap();
    answering(&folder.path().join("socket"), |_| Some("# files/list.txt\n".into()));
    let balancer = balancer(folder.path());
    let (chain, key, sha256) = certificate("api.larkfield.example");
    balancer.put_certificate("local", sha256, &chain, key).await.unwrap();
    let theirs = folder.path().join("files/api.larkfield.example.pem");
    fs::write(&theirs, "by hand\n").unwrap();
    let put = balancer.put_binding("balance", &hostname("api.larkfield.example"), &plain(sha256), None).await;
    assert!(matches!(put, Err(EdgeError::Foreign { .. })), "{put:?}");
    assert_eq!(fs::read_to_string(&theirs).unwrap(), "by hand\n");
}

#[tokio::test]
async fn many_hostnames_at_once_are_loaded_together_and_one_fault_takes_none_away() {
    let web = Web::new();
    let sha256 = web.store("api.larkfield.example").await;
    let names: Vec<Hostname> = (0..40).map(|n| hostname(&format!("n{n}.larkfield.example"))).collect();
    let put = |binding: Binding| {
        let (nginx, names) = (web.nginx.clone(), names.clone());
        async move {
            join_all(names.iter().map(async |name| {
                let known = nginx.binding("web", name).await.unwrap();
                nginx.put_binding("web", name, &binding, known.as_ref()).await
            }))
            .await
        }
    };
    assert!(put(plain(sha256)).await.iter().all(Result::is_ok));
    assert!(web.ran() <= 4, "{} commands for 40 hostnames", web.ran());
    let ran = web.ran();
    assert!(put(plain(sha256)).await.iter().all(Result::is_ok));
    assert_eq!(web.ran(), ran, "nothing has changed");

    let stricter = Binding { minimum_tls: TlsVersion::V1_3, ..plain(sha256) };
    for refused in ["test", "reload"] {
        fs::write(&web.refuse, refused).unwrap();
        let failed = put(stricter.clone()).await;
        for end in &failed {
            assert!(
                matches!(end, Err(EdgeError::Command { says, .. }) if says == &format!("exit status 7: no {refused} today")),
                "{end:?}"
            );
        }
        for name in &names {
            assert_eq!(web.nginx.binding("web", name).await.unwrap().unwrap().binding, plain(sha256), "put back");
        }
    }
    fs::remove_file(&web.refuse).unwrap();
    assert!(put(stricter.clone()).await.iter().all(Result::is_ok));
    for name in &names {
        let bound = web.nginx.binding("web", name).await.unwrap().unwrap();
        assert_eq!((bound.binding, bound.deployment), (stricter.clone(), Deployment::Deployed));
    }
}

#[tokio::test]
async fn what_somebody_else_put_into_the_folder_is_left_alone() {
    let web = Web::new();
    let sha256 = web.store("api.larkfield.example").await;
    let name = hostname("api.larkfield.example");
    let file = web.folder.join("api.larkfield.example.conf");
    for foreign in
        ["server {}\n", "", "# Written by Pindrel; what is changed here by hand is overwritten.\n# binding {\n"]
    {
        fs::write(&file, foreign).unwrap();
        let put = web.nginx.put_binding("web", &name, &plain(sha256), None).await;
        assert!(matches!(put, Err(EdgeError::Foreign { .. })), "{foreign:?}: {put:?}");
        assert_eq!(fs::read_to_string(&file).unwrap(), foreign);
        assert_eq!(web.nginx.bindings("web").await.unwrap(), []);
    }
    fs::remove_file(&file).unwrap();
    fs::create_dir(&file).unwrap();
    assert!(matches!(web.nginx.put_binding("web", &name, &plain(sha256), None).await, Err(EdgeError::File { .. })));
    fs::remove_dir(&file).unwrap();
    fs::write(web.folder.join("notes.txt"), [0xff, 0xfe]).unwrap();
    web.nginx.put_binding("web", &name, &plain(sha256), None).await.unwrap();
    let key = web.folder.join(format!("certificates/{sha256}.key"));
    assert_eq!(fs::metadata(&key).unwrap().permissions().mode() & 0o777, 0o600, "nobody else reads the key");
}

/// Answers each command on a socket with what `answer` says; `None` closes without a word.
fn answering(socket: &Path, answer: impl Fn(&str) -> Option<String> + Send + Sync + 'static) {
    let listener = UnixListener::bind(socket).unwrap();
    tokio::spawn(async move {
        while let Ok((mut stream, _)) = listener.accept().await {
            let mut command = String::new();
            let _ = stream.read_to_string(&mut command).await;
            if let Some(text) = answer(command.trim()) {
                let _ = stream.write_all(text.as_bytes()).await;
            }
        }
    });
}

fn balancer(folder: &Path) -> Haproxy {
    let balancer = LoadBalancer {
        socket: folder.join("socket"),
        folder: folder.join("files"),
        list: folder.join("files/list.txt"),
        default_name: None,
        addresses: vec!["192.0.2.20".parse().unwrap()],
        port: 443,
    };
    Haproxy::new("balance", EndpointKind::Balancer, balancer)
}

/// Whatever a balancer answers, nothing is taken for loaded that is not, and its own words are shown.
#[tokio::test]
async fn a_balancer_that_answers_otherwise_is_told_in_its_own_words() {
    const LIST: &str = "# files/list.txt\n";
    /// What is answered to a command.
    type Answer = fn(&str) -> Option<String>;
    let refusals: [(&str, Answer, &str); 8] = [
        ("silent", |_| None, "failed"),
        ("no such list", |_| Some("ERROR: crt-list 'list.txt' does not exist!\n".into()), "does not exist!"),
        ("no rights", |_| Some("Permission denied\n".into()), "Permission denied"),
        (
            "refuses the key",
            |command| match command {
                _ if command.starts_with("show ssl crt-list") => Some(LIST.into()),
                _ if command.starts_with("new ssl cert") => Some("New empty certificate store 'x'!\n".into()),
                _ => Some("unable to load certificate chain from file\nCan't update x!\n".into()),
            },
            "unable to load certificate chain from file; Can't update x!",
        ),
        (
            "does not commit",
            |command| match command {
                _ if command.starts_with("show ssl crt-list") => Some(LIST.into()),
                _ if command.starts_with("new ssl cert") => Some("New empty certificate store 'x'!\n".into()),
                _ if command.starts_with("set ssl cert") => Some("Transaction created for certificate x!\n".into()),
                _ => Some("No ongoing transaction!\n".into()),
            },
            "No ongoing transaction!",
        ),
        (
            "repeats the key",
            |command| match command {
                _ if command.starts_with("show ssl crt-list") => Some(LIST.into()),
                _ if command.starts_with("new ssl cert") => Some("New empty certificate store 'x'!\n".into()),
                _ => Some(format!("unknown command {command}\n{}\n\u{1b}[2J", command.replace('\n', " "))),
            },
            "unknown command set ssl cert",
        ),
        ("never ends", |_| Some("word ".repeat(3 << 20)), "word word"),
        (
            "takes no entry",
            |command| match command {
                _ if command.starts_with("show ssl crt-list") => Some(LIST.into()),
                _ if command.starts_with("add ssl crt-list") => Some("Can't edit the crt-list!\n".into()),
                _ if command.starts_with("set ssl cert") => Some("Transaction created\n".into()),
                _ => Some("New empty; Success!\n".into()),
            },
            "Can't edit the crt-list!",
        ),
    ];
    let name = hostname("api.larkfield.example");
    for (what, answer, expected) in refusals {
        let folder = tempfile::tempdir().unwrap();
        let balancer = balancer(folder.path());
        let unreachable = balancer.endpoints().await;
        assert!(matches!(unreachable, Err(EdgeError::Unreachable { .. })), "no socket yet: {unreachable:?}");
        let (chain, key, sha256) = certificate("api.larkfield.example");
        balancer.put_certificate("local", sha256, &chain, key.clone()).await.unwrap();
        answering(&folder.path().join("socket"), answer);
        let put = balancer.put_binding("balance", &name, &plain(sha256), None).await;
        let told = put.unwrap_err().to_string();
        assert!(told.contains(expected), "{what}: {told}");
        let inner = key.expose_secret().lines().skip(1).map(|line| &line[..line.len().min(12)]);
        assert!(inner.into_iter().chain(["PRIVATE KEY"]).all(|part| !told.contains(part)), "{what}: {told}");
        assert!(told.len() < 1_000 && !told.contains('\u{1b}'), "{what}: {told}");
        assert!(!folder.path().join("files/list.txt").exists(), "{what}: the next start does not load it either");
    }
}

#[tokio::test]
async fn a_balancers_servers_are_read_by_the_names_of_the_columns() {
    let table = [
        (
            "# pxname,svname,status,last_chk,\nweb,FRONTEND,OPEN,,\nweb,one,UP,L7OK,\nweb,two,DOWN,,\nweb,BACKEND,UP,,\n",
            2,
        ),
        ("# svname,weight,pxname,status,\none,3,web,MAINT,\n", 1),
        ("# pxname,svname,status,\nweb\n\n,,\n", 0),
        ("Unknown command: 'show stat'\n", 0),
        ("", 0),
    ];
    for (answer, expected) in table {
        let folder = tempfile::tempdir().unwrap();
        answering(&folder.path().join("socket"), move |_| Some(answer.into()));
        let servers = balancer(folder.path()).servers().await.unwrap();
        assert_eq!(servers.len(), expected, "{answer:?}: {servers:?}");
        if let Some(first) = servers.first() {
            assert_eq!((first.group.as_str(), first.server.as_str()), ("web", "one"));
        }
    }
}
