//! A real PowerDNS server on loopback with a zone of its own, for one test.

use std::net::SocketAddr;
use std::process::Command;
use std::time::Duration;

use tempfile::TempDir;

use super::programs::find;
use super::{dig, free_port};
use crate::{Program, eventually, require};

const PROGRAMS: &[(&str, &str)] =
    &[("pdns_server", "pdns-server"), ("pdnsutil", "pdns-server"), ("sqlite3", "sqlite3")];
const PATIENCE: Duration = Duration::from_secs(20);

/// A PowerDNS server until dropped.
pub struct RealPowerDns {
    /// Where it answers DNS.
    pub server: SocketAddr,
    /// The URL that its API is at.
    pub api: String,
    /// The API's key.
    pub key: &'static str,
    /// The server.
    pub process: Program,
    folder: TempDir,
}

impl RealPowerDns {
    /// Starts a server of `zone`, which resolves ALIAS records at `resolver`; `None` where a program is missing,
    /// which is said.
    pub async fn start(test: &str, zone: &str, resolver: SocketAddr) -> Option<RealPowerDns> {
        if !require(test, PROGRAMS) {
            return None;
        }
        let folder = TempDir::with_prefix("pindrel-powerdns-").unwrap_or_else(|error| panic!("no folder: {error}"));
        let (path, server, api) = (folder.path(), free_port(), free_port());
        let database = path.join("zones.sqlite3");
        let key = "key-of-the-tests";
        let text = format!(
            "launch=gsqlite3\ngsqlite3-database={}\nlocal-address={}\nlocal-port={}\nsocket-dir={}\ndaemon=no\nguardian=no\n\
             api=yes\napi-key={key}\nwebserver=yes\nwebserver-address={}\nwebserver-port={}\nwebserver-allow-from=127.0.0.0/8\n\
             expand-alias=yes\nresolver={resolver}\ncache-ttl=0\nquery-cache-ttl=0\nnegquery-cache-ttl=0\n",
            database.display(),
            server.ip(),
            server.port(),
            path.display(),
            api.ip(),
            api.port()
        );
        std::fs::write(path.join("pdns.conf"), text).unwrap_or_else(|error| panic!("{error}"));
        let schema = "/usr/share/doc/pdns-backend-sqlite3/schema.sqlite3.sql";
        let make = Command::new("sqlite3").arg(&database).arg(format!(".read {schema}")).status();
        assert!(make.is_ok_and(|status| status.success()), "no database for PowerDNS out of {schema}");
        let config = format!("--config-dir={}", path.display());
        let steps: [&[&str]; 4] = [
            &["create-zone", zone, &format!("ns1.{zone}")],
            &["add-record", zone, "@", "NS", &format!("ns2.{zone}")],
            &["add-record", zone, "ns1", "A", "127.0.0.1"],
            &["add-record", zone, "ns2", "A", "127.0.0.1"],
        ];
        for words in steps {
            let util = find("pdnsutil").unwrap_or_default();
            let made = Command::new(util).arg(&config).args(words).output();
            assert!(made.is_ok_and(|made| made.status.success()), "pdnsutil {words:?} failed");
        }
        let process = Program::start("pdns_server", path, &[&config], &[]);
        let mut started = RealPowerDns { server, api: format!("http://{api}"), key, process, folder };
        eventually("PowerDNS", PATIENCE, async || {
            started.process.assert_running();
            dig(server, zone, "NS").contains("ns1.")
        })
        .await;
        Some(started)
    }

    /// The folder that it runs in.
    pub fn folder(&self) -> &std::path::Path {
        self.folder.path()
    }
}
