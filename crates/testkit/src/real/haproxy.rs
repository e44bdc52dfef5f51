//! A real load balancer on loopback, in front of one service, for one test.

use std::fs;
use std::net::{Ipv4Addr, SocketAddr};
use std::path::PathBuf;
use std::time::Duration;

use tempfile::TempDir;

use super::free_port;
use crate::{Program, eventually, require};

const PROGRAMS: &[(&str, &str)] = &[("haproxy", "haproxy")];
const PATIENCE: Duration = Duration::from_secs(20);

/// A load balancer until dropped.
pub struct RealHaproxy {
    /// Where it serves TLS.
    pub listen: SocketAddr,
    /// Its runtime socket.
    pub socket: PathBuf,
    /// The folder of its certificates; `list.txt` in it is its certificate list.
    pub certificates: PathBuf,
    /// The server.
    pub process: Program,
    folder: TempDir,
}

impl RealHaproxy {
    /// Starts a balancer in front of `service`; `None` where the program is missing, which is said.
    pub async fn start(test: &str, service: SocketAddr) -> Option<RealHaproxy> {
        if !require(test, PROGRAMS) {
            return None;
        }
        let folder = TempDir::with_prefix("pindrel-haproxy-").unwrap_or_else(|error| panic!("no folder: {error}"));
        let path = folder.path();
        // Not where the web server listens: an alias can tell them apart by their addresses alone.
        let listen = SocketAddr::from((Ipv4Addr::new(127, 0, 0, 2), free_port().port()));
        let (socket, certificates) = (path.join("admin.sock"), path.join("certificates"));
        fs::create_dir(&certificates).unwrap_or_else(|error| panic!("no folder: {error}"));
        let text = format!(
            "global\n    stats socket {} mode 600 level admin\n\ndefaults\n    mode http\n    timeout connect 5s\n    \
             timeout client 30s\n    timeout server 30s\n\nfrontend web\n    bind {listen} ssl strict-sni crt-list {}\n    \
             default_backend services\n\nbackend services\n    server one {service} check\n",
            socket.display(),
            certificates.join("list.txt").display()
        );
        let write = |name: PathBuf, text: &str| fs::write(name, text).unwrap_or_else(|error| panic!("{error}"));
        write(path.join("haproxy.cfg"), &text);
        write(certificates.join("list.txt"), "");
        let process = RealHaproxy::run(&folder);
        let balancer = RealHaproxy { listen, socket, certificates, process, folder };
        balancer.wait().await;
        Some(balancer)
    }

    fn run(folder: &TempDir) -> Program {
        let configuration = folder.path().join("haproxy.cfg").display().to_string();
        Program::start("haproxy", folder.path(), &["-db", "-f", &configuration], &[])
    }

    async fn wait(&self) {
        let ready = async || tokio::net::UnixStream::connect(&self.socket).await.is_ok();
        eventually("the load balancer", PATIENCE, ready).await;
    }

    /// Stops it and starts it again: it has what stands in its files.
    pub async fn restart(&mut self) {
        self.process.kill();
        self.process = RealHaproxy::run(&self.folder);
        self.wait().await;
    }

    /// The table of the endpoint in a manifest.
    pub fn endpoint(&self, name: &str) -> String {
        format!(
            "\n[endpoint.{name}]\nkind = \"balancer\"\ndriver = \"haproxy\"\nsocket = \"{}\"\nfolder = \"{}\"\n\
             addresses = [\"{}\"]\nport = {}\n",
            self.socket.display(),
            self.certificates.display(),
            self.listen.ip(),
            self.listen.port()
        )
    }
}
