//! What the main commands print on the demo data, kept as snapshots: a change of words is seen in review. Accept one with
//! `INSTA_UPDATE=always cargo test --workspace --test e2e snapshots`.

use std::sync::LazyLock;

use pindrel_sandbox::Sandbox;
use pindrel_testkit::Workspace;
use regex::Regex;

use crate::{PINDREL, quick};

const DEMO: &str = include_str!("../../../../demo/pindrel.toml");

/// What differs from run to run, and what stands for it.
static VARYING: LazyLock<Vec<(Regex, &str)>> = LazyLock::new(|| {
    [
        (r"thumbprint [\w-]+", "thumbprint <thumbprint>"),
        (r"\b[0-9a-f]{2}(:[0-9a-f]{2}){7,}\b", "<hex>"),
        (r"\b(intermediate|root) [0-9a-f]{6}\b", "$1 <hex>"),
        (r"\d{4}-\d\d-\d\dT[\d:.]+Z", "<time>"),
        (r"\d{4}-\d\d-\d\d( \d\d:\d\d(:\d\d)?)?", "<date>"),
        (r"\b\d\d:\d\d:\d\d\b", "<clock>"),
        (r"\b[0-9a-f]{8,}\b", "<hex>"),
        (r"\b\d+(\.\d+)?( ?)(ms|s|min|h|d)\b", "<span>"),
    ]
    .map(|(pattern, instead)| (Regex::new(pattern).unwrap(), instead))
    .into()
});

fn steady(text: &str, net: &str) -> String {
    let mut text = text.replace(&format!("{net}."), "127.47.0.");
    for (varying, instead) in VARYING.iter() {
        text = varying.replace_all(&text, *instead).into_owned();
    }
    // Columns are as wide as what varies.
    let spaces = Regex::new(" {2,}").unwrap();
    text.lines().map(|line| spaces.replace_all(line.trim_end(), "  ").into_owned() + "\n").collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn the_main_commands_print_what_was_reviewed() {
    let workspace = Workspace::new(PINDREL);
    let sandbox = Sandbox::start(&workspace.path().join("sandbox"), quick()).await.unwrap();
    let net = sandbox.listing().net.clone();
    workspace.write("pindrel.toml", &DEMO.replace("127.47.0.", &format!("{net}.")));
    let print = |name: &str, args: &[&str], status: i32| {
        let ran = workspace.run(args).ended(status);
        let printed = steady(&format!("{}{}", ran.stdout, ran.stderr), &net);
        insta::assert_snapshot!(name, printed, &args.join(" "));
    };
    print("check", &["check"], 0);
    print("settle_dry_run", &["settle", "--dry-run"], 3);
    print("status_before", &["status"], 3);
    workspace.run(&["settle"]).ended(0);
    print("settle_again", &["settle"], 0);
    print("status", &["status"], 0);
    print("status_of_one", &["status", "--only", "api.larkfield.example", "--verbose"], 0);
    print("cert_list", &["cert", "list"], 0);
    print("cert_show", &["cert", "show", "api.larkfield.example"], 0);
    print("endpoint_list", &["endpoint", "list"], 0);
    print("account_show", &["account", "show"], 0);
}
