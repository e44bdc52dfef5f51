use std::collections::BTreeSet;
use std::path::Path;

use super::*;

/// The tables of the documentation are those that the description makes; `PINDREL_WRITE_DOCS=1` writes them.
#[test]
fn the_documentation_has_the_tables_as_they_are() {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/manifest.md");
    let text = std::fs::read_to_string(&path).unwrap();
    let (mut made, mut rest) = (String::new(), text.as_str());
    let mut documented = BTreeSet::new();
    while let Some((before, marked)) = rest.split_once("<!-- keys of ") {
        let (name, after) = marked.split_once(" -->\n").unwrap();
        let (_, after) = after.split_once("<!-- end of keys -->").unwrap();
        let table = tables().into_iter().find(|table| table.name == name).unwrap_or_else(|| panic!("no table {name}"));
        documented.insert(name);
        made.push_str(&format!("{before}<!-- keys of {name} -->\n{}<!-- end of keys -->", key_table(table)));
        rest = after;
    }
    made.push_str(rest);
    if std::env::var_os("PINDREL_WRITE_DOCS").is_some() {
        std::fs::write(&path, &made).unwrap();
    }
    assert!(
        text == made,
        "docs/manifest.md is not what the description says: run PINDREL_WRITE_DOCS=1 cargo test -p pindrel-core"
    );
    // The manifest's own keys are its sections there, and the terms of checks are told with `health`.
    let own_sections = ["manifest", "health_terms"];
    for table in tables().into_iter().filter(|table| !own_sections.contains(&table.name)) {
        assert!(documented.contains(table.name), "{} is not documented", table.name);
    }
}

#[test]
fn tables_and_keys_are_described_once() {
    let tables = tables();
    let names: BTreeSet<&str> = tables.iter().map(|table| table.name).collect();
    assert_eq!(names.len(), tables.len());
    for table in tables {
        let keys: BTreeSet<&str> = table.names().collect();
        assert_eq!(keys.len(), table.keys.len(), "{}", table.name);
        for key in table.keys {
            assert!(!key.doc.is_empty() && !key.doc.contains('\n'), "{}.{}", table.name, key.name);
            let needed = key.needed_by.iter().all(|driver| *driver == "*" || key.of.contains(driver));
            assert!(needed, "{}.{} is needed by whom it is not of", table.name, key.name);
        }
    }
}
