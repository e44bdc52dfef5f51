//! What benches run the built program against, and what they are measured beside.

use std::net::SocketAddr;
use std::process::Command;
use std::time::Duration;

use pindrel_sandbox::{Options, Sandbox};
use pindrel_testkit::{ManifestText, Workspace};

/// A sandbox without any delay of its own, and a manifest for it.
pub async fn sandboxed(
    program: &str,
    more: impl FnOnce(ManifestText, &Sandbox) -> ManifestText,
) -> (Workspace, Sandbox) {
    let workspace = Workspace::new(program);
    let options = Options {
        lag: Duration::ZERO,
        deploy: Duration::ZERO,
        negative_ttl: Duration::from_secs(1),
        ..Options::default()
    };
    let sandbox = Sandbox::start(&workspace.path().join("sandbox"), options).await.unwrap();
    let manifest = more(ManifestText::sandbox(sandbox.listing()), &sandbox);
    workspace.write("pindrel.toml", manifest.text());
    (workspace, sandbox)
}

/// Requests a second of the load tool, each over a connection of its own.
pub fn load_tool(address: SocketAddr, name: &str, requests: usize, at_once: usize) -> Option<f64> {
    // It takes the name for SNI out of the URL, so the name must lead there.
    let url = format!("https://{name}:{}/", address.port());
    let hosts = std::env::temp_dir().join(format!("pindrel-hosts-{}", std::process::id()));
    std::fs::write(&hosts, format!("{} {name}\n", address.ip())).ok()?;
    let arguments =
        format!("mount --bind {} /etc/hosts && exec ab -q -n {requests} -c {at_once} -f TLS1.3 {url}", hosts.display());
    let output = Command::new("unshare").args(["--mount", "--map-root-user", "sh", "-c", &arguments]).output().ok()?;
    let _ = std::fs::remove_file(hosts);
    let text = String::from_utf8_lossy(&output.stdout).into_owned();
    let line = text.lines().find(|line| line.starts_with("Requests per second:"))?;
    line.split_whitespace().nth(3)?.parse().ok()
}
