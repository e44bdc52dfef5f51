//! A real PostgreSQL server on loopback, with TLS, for one test.

use std::net::SocketAddr;
use std::os::unix::fs::{MetadataExt as _, PermissionsExt as _};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::Duration;

use tempfile::TempDir;

use super::free_port;
use crate::real::certified::certified;
use crate::real::programs::find;
use crate::{Program, eventually, require};

const PROGRAMS: &[(&str, &str)] = &[("initdb", "postgresql"), ("postgres", "postgresql")];
const PATIENCE: Duration = Duration::from_secs(60);
const USER: &str = "pindrel";

/// A database server until dropped.
pub struct RealPostgres {
    /// Where it listens.
    pub address: SocketAddr,
    /// The password of its only user, `pindrel`.
    pub password: &'static str,
    /// The root of its TLS certificate, in PEM.
    pub root: String,
    /// The server.
    pub process: Program,
    _folder: TempDir,
}

impl RealPostgres {
    /// Starts a server with the empty database `postgres`; `None` where a program is missing,
    /// which is said.
    pub async fn start(test: &str) -> Option<RealPostgres> {
        if !require(test, PROGRAMS) {
            return None;
        }
        let folder =
            TempDir::with_prefix("pindrel-postgres-").unwrap_or_else(|error| panic!("no temporary folder: {error}"));
        let password = "a made-up password";
        let user = other_user(folder.path());
        let data = folder.path().join("data");
        make_cluster(folder.path(), &data, user, password);
        let made = certified(&["127.0.0.1", "localhost"]).unwrap_or_else(|error| panic!("no certificate: {error}"));
        private(&data.join("server.crt"), made.leaf.pem().as_bytes(), user);
        private(&data.join("server.key"), made.key.serialize_pem().as_bytes(), user);
        let address = free_port();
        let args = [
            "-D".to_owned(),
            data.display().to_string(),
            format!("-clisten_addresses={}", address.ip()),
            format!("-cport={}", address.port()),
            "-cunix_socket_directories=".to_owned(),
            "-cssl=on".to_owned(),
            "-cfsync=off".to_owned(),
        ];
        let args: Vec<&str> = args.iter().map(String::as_str).collect();
        let mut process = Program::start_as(user, "postgres", folder.path(), &args, &[]);
        eventually("PostgreSQL", PATIENCE, async || {
            process.assert_running();
            // It listens before it takes connections; the last line of this file says when it does.
            let status = std::fs::read_to_string(data.join("postmaster.pid")).unwrap_or_default();
            status.lines().last().is_some_and(|line| line.trim() == "ready")
        })
        .await;
        let root = made.root.pem();
        Some(RealPostgres { address, password, root, process, _folder: folder })
    }

    /// The URL of the database `postgres`, without a password.
    pub fn url(&self) -> String {
        format!("postgres://{USER}@{}/postgres", self.address)
    }
}

/// The ids of a user who is not root: PostgreSQL refuses to run as root. `None` where the test
/// does not run as root.
fn other_user(folder: &Path) -> Option<(u32, u32)> {
    let own = std::fs::metadata(folder).ok()?.uid();
    if own != 0 {
        return None;
    }
    let users = std::fs::read_to_string("/etc/passwd").unwrap_or_default();
    let ids = |name: &str| {
        let line = users.lines().find(|line| line.split(':').next() == Some(name))?;
        let mut fields = line.split(':').skip(2).map(|field| field.parse::<u32>().ok());
        Some((fields.next()??, fields.next()??))
    };
    let user = ids("postgres").or_else(|| ids("nobody")).unwrap_or((65_534, 65_534));
    let chown = std::os::unix::fs::chown(folder, Some(user.0), Some(user.1));
    chown.unwrap_or_else(|error| panic!("{} cannot be given away: {error}", folder.display()));
    Some(user)
}

fn make_cluster(folder: &Path, data: &Path, user: Option<(u32, u32)>, password: &str) {
    let password_file = folder.join("password");
    private(&password_file, password.as_bytes(), user);
    let mut command = Command::new(find("initdb").unwrap_or_else(|| PathBuf::from("initdb")));
    if let Some((uid, gid)) = user {
        use std::os::unix::process::CommandExt as _;
        command.uid(uid).gid(gid);
    }
    let made = command
        .arg("-D")
        .arg(data)
        .arg(format!("--pwfile={}", password_file.display()))
        .args(["-U", USER, "-A", "scram-sha-256", "-E", "UTF8", "--locale=C", "--no-sync"])
        .current_dir(folder)
        .stdin(Stdio::null())
        .output()
        .unwrap_or_else(|error| panic!("initdb does not start: {error}"));
    assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
}

/// Writes a file that only the server's user can read.
fn private(path: &Path, bytes: &[u8], user: Option<(u32, u32)>) {
    let written = std::fs::write(path, bytes)
        .and_then(|()| std::fs::set_permissions(path, std::fs::Permissions::from_mode(0o600)))
        .and_then(|()| match user {
            Some((uid, gid)) => std::os::unix::fs::chown(path, Some(uid), Some(gid)),
            None => Ok(()),
        });
    written.unwrap_or_else(|error| panic!("{} cannot be written: {error}", path.display()));
}
