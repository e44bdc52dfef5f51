//! Whole zones by the built program: checked, compared, exported and imported, on a real server and in files.

use pindrel_testkit::{RealOptions, RealWorld, Workspace};

use crate::commands::{assert_fits, schema};
use crate::{PINDREL, one_name, quick, sandboxed};

const GOOD: &str =
    "$TTL 600\n@ IN SOA ns1 hostmaster 7 3600 900 604800 300\n@ NS ns1\nns1 A 192.0.2.1\nwww A 192.0.2.8\n";

#[test]
fn a_file_is_checked_and_compared_without_a_manifest() {
    let workspace = Workspace::new(PINDREL);
    workspace.write("larkfield.example.zone", GOOD);
    let right = workspace.run(&["zone", "check", "larkfield.example.zone"]).ended(0);
    assert!(right.stdout.contains("is right: larkfield.example. with 4 records, serial 7"), "{}", right.stdout);
    let bad = format!("{GOOD}x IN CNMAE www\ny MX mail\nz\\999 A 192.0.2.1\n");
    workspace.write("larkfield.example.zone", &bad);
    let ran = workspace.run(&["zone", "check", "larkfield.example.zone"]).ended(1);
    assert!(ran.stdout.contains("did you mean CNAME?") && ran.stdout.contains("has 3 mistakes"), "{}", ran.stdout);
    let json = workspace.run(&["zone", "check", "larkfield.example.zone", "--format", "json"]).ended(1).json();
    assert_fits(&schema("zone-check"), &json);
    let places: Vec<_> =
        json["errors"].as_array().unwrap().iter().map(|one| (one["line"].clone(), one["column"].clone())).collect();
    assert_eq!(places, [(6.into(), 6.into()), (7.into(), 6.into()), (8.into(), 1.into())]);
    // A comparison of what cannot be read is refused, and shows why.
    workspace.write("old.zone", GOOD);
    let ran = workspace.run(&["zone", "compare", "old.zone", "larkfield.example.zone"]).ended(1);
    assert!(ran.stderr.contains("nothing was done") && ran.stdout.is_empty(), "{}", ran.stderr);
    workspace.write("larkfield.example.zone", &GOOD.replace("192.0.2.8", "192.0.2.9").replace(" 7 ", " 8 "));
    let args = ["zone", "compare", "old.zone", "larkfield.example.zone"];
    let ran = workspace.run(&args).ended(3);
    assert!(ran.stdout.contains("- 192.0.2.8") && ran.stdout.contains("1 record set differs"), "{}", ran.stdout);
    let json = workspace.run(&[&args[..], &["--format", "json"]].concat()).ended(3).json();
    assert_fits(&schema("zone-compare"), &json);
    assert_eq!(json["differences"][0]["left"][0], "192.0.2.8");
    assert_eq!(workspace.run(&["zone", "compare", "old.zone", "old.zone"]).ended(0).stdout.lines().count(), 1);
    for (args, says) in [
        (&["zone", "check", "nothing.zone"][..], "nothing.zone cannot be read: there is no such file"),
        (&["zone", "check", "larkfield.test"], "there is no file larkfield.test, and no manifest"),
        (&["zone", "check", "manifest"], "the manifest is checked otherwise"),
        (&["zone", "compare", "manifest", "manifest"], "there is no manifest"),
        (&["zone", "check", "."], "cannot be read: it is a directory"),
    ] {
        let ran = workspace.run(args);
        assert!(ran.status > 0 && ran.stderr.contains(says), "{args:?}: {}", ran.stderr);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_zone_of_a_real_server_is_exported_and_a_file_brought_into_it() {
    let test = "a_zone_of_a_real_server_is_exported_and_a_file_brought_into_it";
    let Some(world) = RealWorld::start(test, RealOptions::default()).await else { return };
    let workspace = world.workspace(PINDREL, |manifest| one_name(manifest, world.sandbox.listing()));
    let exported = workspace.run(&["zone", "export", "larkfield.example"]).ended(0).stdout;
    assert!(exported.starts_with("$ORIGIN larkfield.example.\nlarkfield.example.\t"), "{exported}");
    workspace.write("larkfield.example.zone", &exported);
    workspace.run(&["zone", "check", "larkfield.example.zone"]).ended(0);
    let same = workspace.run(&["zone", "compare", "larkfield.example.zone", "larkfield.example"]).ended(0).stdout;
    assert!(same.contains("have the same records"), "{same}");
    // Both servers have it, each asked by itself.
    let at = |server| format!("larkfield.example@{server}");
    workspace.run(&["zone", "compare", &at(world.primary), &at(world.secondary)]).ended(0);
    let json = workspace.run(&["zone", "export", "larkfield.example", "--format", "json"]).ended(0).json();
    assert_fits(&schema("zone-export"), &json);
    assert_eq!(json["partial"], false);
    let listed = workspace.run(&["zone", "list", "--format", "json"]).json();
    assert_fits(&schema("zone-list"), &listed);
    assert_eq!(listed["zones"][0]["driver"], "rfc2136");

    // A file is shown first, then brought in, and a second time there is nothing to do.
    world.update("old", "A", "192.0.2.50");
    workspace.write("more.zone", "$TTL 300\nold A 192.0.2.51\nnew MX 10 old\nnew TXT \"x\" \"y\"\n");
    let import = ["zone", "import", "more.zone", "--into", "larkfield.example"];
    let shown = workspace.run(&import).ended(3).stdout;
    assert!(shown.contains("- 60 192.0.2.50") && shown.contains("3 record sets would change"), "{shown}");
    assert_eq!(world.dig(world.primary, "old.larkfield.example", "A").trim(), "192.0.2.50");
    let yes = [&import[..], &["--yes"]].concat();
    let done = workspace.run(&yes).ended(0).stdout;
    assert!(done.contains("3 record sets changed"), "{done}");
    assert_eq!(world.dig(world.primary, "old.larkfield.example", "A").trim(), "192.0.2.51");
    assert!(workspace.run(&yes).ended(0).stdout.contains("nothing to change"));
    // All that the file does not have goes only where that is asked for; the zone's own records stay.
    let rest = workspace.run(&[&import[..], &["--delete"]].concat()).ended(3).stdout;
    assert!(!rest.contains(" SOA") && !rest.contains("larkfield.example. NS"), "{rest}");
    // A name of another zone, and a slip, are refused before anything is changed.
    for (text, says) in [
        ("$TTL 60\nx.larkfield.test. A 192.0.2.1\n", "does not lie in larkfield.example"),
        ("$TTL 60\nx CNAME y\nx A 192.0.2.1\n", "more.zone:3: x.larkfield.example. has a CNAME record"),
    ] {
        workspace.write("more.zone", text);
        let ran = workspace.run(&yes).ended(2);
        assert!(ran.stderr.contains(says), "{}", ran.stderr);
    }
    let unknown = workspace.run(&["zone", "export", "larkfeild.example"]).ended(2).stderr;
    assert!(unknown.contains("Did you mean \"larkfield.example\"?"), "{unknown}");
    let silent = workspace.run(&["zone", "export", "larkfield.example@127.99.99.99:9"]).ended(1).stderr;
    assert!(silent.contains("cannot be asked to transfer larkfield.example: connection refused"), "{silent}");
}

/// A server that transfers to nobody shows the names of the manifest, and it is said that there may be more.
#[tokio::test(flavor = "multi_thread")]
async fn what_the_manifest_wants_is_compared_with_what_is() {
    let (workspace, _sandbox) = sandboxed(quick(), one_name).await;
    workspace.run(&["settle", "-q"]).ended(0);
    let ran = workspace.run(&["zone", "compare", "manifest", "larkfield.example"]).ended(0);
    assert!(ran.stdout.contains("have the same records"), "{}", ran.stdout);
    let exported = workspace.run(&["zone", "export", "larkfield.example"]).ended(0);
    assert!(exported.stdout.contains("api.larkfield.example.\t600\tIN\tCNAME\t"), "{}", exported.stdout);
}
