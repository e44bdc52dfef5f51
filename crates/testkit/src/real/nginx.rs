//! A real web server on loopback, with two services behind it, for one test.

use std::fs;
use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::time::Duration;

use tempfile::TempDir;

use super::free_port;
use super::programs::find;
use crate::{Program, eventually, require};

const PROGRAMS: &[(&str, &str)] = &[("nginx", "nginx-light")];
const PATIENCE: Duration = Duration::from_secs(20);

/// A web server until dropped.
pub struct RealNginx {
    /// Where it serves TLS.
    pub listen: SocketAddr,
    /// Where it answers plain HTTP.
    pub listen_http: SocketAddr,
    /// The services behind it: `one` answers "one PATH", `two` answers "two PATH".
    pub services: [SocketAddr; 2],
    /// The folder of the files that are included.
    pub included: PathBuf,
    /// Its configuration test.
    pub test: Vec<String>,
    /// Its reload: notes each in a file, and fails where there is a file `reload-fails`.
    pub reload: Vec<String>,
    /// The server.
    pub process: Program,
    folder: TempDir,
}

impl RealNginx {
    /// Starts a server; `None` where the program is missing, which is said.
    pub async fn start(test: &str) -> Option<RealNginx> {
        if !require(test, PROGRAMS) {
            return None;
        }
        let folder = TempDir::with_prefix("pindrel-nginx-").unwrap_or_else(|error| panic!("no folder: {error}"));
        let path = folder.path();
        let (listen, listen_http, one, two) = (free_port(), free_port(), free_port(), free_port());
        let included = path.join("pindrel.d");
        for made in [path.join("others.d"), included.clone(), path.join("logs")] {
            fs::create_dir(made).unwrap_or_else(|error| panic!("no folder: {error}"));
        }
        let at = path.display();
        let service = |address: SocketAddr, name: &str| {
            format!("server {{ listen {address}; location / {{ return 200 \"{name} $uri\\n\"; }} }}\n")
        };
        let temporary = ["client_body", "proxy", "fastcgi", "uwsgi", "scgi"]
            .map(|of| format!("{of}_temp_path {at}/{of};\n"))
            .concat();
        let text = format!(
            "daemon off;\npid {at}/nginx.pid;\nerror_log {at}/logs/error.log;\n\
             events {{ worker_connections 512; }}\nhttp {{\naccess_log off;\n{temporary}{}{}\
             include {at}/others.d/*.conf;\ninclude {at}/pindrel.d/*.conf;\n}}\n",
            service(one, "one"),
            service(two, "two")
        );
        write(&path.join("nginx.conf"), &text);
        let program = find("nginx").map(|path| path.display().to_string()).unwrap_or_default();
        let prefix = format!("{at}/");
        let words = |of: &[&str]| of.iter().map(|word| (*word).to_owned()).collect::<Vec<_>>();
        let conf = format!("{at}/nginx.conf");
        let reload = format!(
            "echo reloaded >> {at}/reloads; test ! -e {at}/reload-fails || {{ echo no reload today >&2; exit 7; }}; \
             exec {program} -s reload -c {conf} -p {prefix}"
        );
        let process = Program::start("nginx", path, &["-c", &conf, "-p", &prefix], &[]);
        let server = RealNginx {
            listen,
            listen_http,
            services: [one, two],
            included,
            test: words(&[&program, "-t", "-q", "-c", &conf, "-p", &prefix]),
            reload: words(&["sh", "-c", &reload]),
            process,
            folder,
        };
        eventually("the web server", PATIENCE, async || tokio::net::TcpStream::connect(one).await.is_ok()).await;
        Some(server)
    }

    /// How often it was told to take its configuration over.
    pub fn reloads(&self) -> usize {
        fs::read_to_string(self.folder.path().join("reloads")).unwrap_or_default().lines().count()
    }

    /// Makes its reload fail, or work again.
    pub fn fail_reloads(&self, fail: bool) {
        let path = self.folder.path().join("reload-fails");
        if fail { write(&path, "") } else { fs::remove_file(&path).unwrap_or_else(|error| panic!("{error}")) }
    }

    /// Breaks its configuration as somebody else would, or mends it.
    pub fn break_configuration(&self, broken: bool) {
        let path = self.folder.path().join("others.d/theirs.conf");
        write(&path, if broken { "server { lisen 80; }\n" } else { "" });
    }

    /// The table of the endpoint in a manifest.
    pub fn endpoint(&self, name: &str, kind: &str, more: &str) -> String {
        let [one, two] = self.services;
        format!(
            "\n[endpoint.{name}]\nkind = \"{kind}\"\ndriver = \"nginx\"\nfolder = \"{}\"\n\
             services = {{ one = \"http://{one}\", two = \"http://{two}\" }}\nservice = \"one\"\n\
             listen = [\"{}\"]\nlisten_http = [\"{}\"]\ntest = {:?}\nreload = {:?}\n{more}\n",
            self.included.display(),
            self.listen,
            self.listen_http,
            self.test,
            self.reload
        )
    }
}

fn write(path: &Path, text: &str) {
    fs::write(path, text).unwrap_or_else(|error| panic!("{}: {error}", path.display()));
}
