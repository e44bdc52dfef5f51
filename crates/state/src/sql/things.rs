//! How what Pindrel wrote for a hostname, and what was seen of it, lies in rows: one for each thing, one for each fact.

use std::collections::BTreeMap;

use jiff::Timestamp;
use pindrel_core::endpoints::endpoint::{AskedRecord, Binding};
use pindrel_core::judging::facts::{EndpointKey, Fact, FormerAlias, HostnameFacts, Ownership, Written};
use pindrel_core::zones::records::RecordSet;
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};

use super::{read_json, write_json};
use crate::StateError;

pub(crate) const THINGS: &str = "things";
pub(crate) const FACTS: &str = "facts";

/// The alias records with what changed with them.
const ALIAS: &str = "alias";
/// The binding at an endpoint, by the key of that.
const BINDING: &str = "binding ";
/// The records that the platform of an endpoint asked for.
const RECORDS: &str = "records ";
/// That the hostname is being taken away.
const RETIREMENT: &str = "retirement";
/// What clients get.
const ANSWER: &str = "answer";

/// The row of an alias.
#[derive(Default, PartialEq, Serialize, Deserialize)]
struct AliasThing {
    #[serde(default, skip_serializing_if = "Written::is_empty")]
    records: Written<Vec<RecordSet>>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    former: Option<FormerAlias>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    switched: Option<Timestamp>,
}

/// Returns the rows of what was written: the name of each thing, with its value as JSON.
pub(crate) fn to_rows(ownership: &Ownership) -> Result<BTreeMap<String, String>, StateError> {
    let Ownership { alias, bindings, records, former_alias, switched, retiring } = ownership;
    let mut rows = BTreeMap::new();
    let alias = AliasThing { records: alias.clone(), former: *former_alias, switched: *switched };
    if alias != AliasThing::default() {
        rows.insert(ALIAS.to_owned(), write_json(THINGS, &alias)?);
    }
    for (key, binding) in bindings {
        rows.insert(format!("{BINDING}{key}"), write_json(THINGS, binding)?);
    }
    for (key, asked) in records {
        rows.insert(format!("{RECORDS}{key}"), write_json(THINGS, asked)?);
    }
    if let Some(since) = retiring {
        rows.insert(RETIREMENT.to_owned(), write_json(THINGS, since)?);
    }
    Ok(rows)
}

/// Puts one row back into what was written.
pub(crate) fn take_row(ownership: &mut Ownership, thing: &str, value: &str) -> Result<(), StateError> {
    fn read<T: DeserializeOwned>(value: &str) -> Result<T, StateError> {
        read_json(THINGS, value)
    }
    let stored = |key: &str| EndpointKey::stored(key.to_owned());
    if let Some(key) = thing.strip_prefix(BINDING) {
        ownership.bindings.insert(stored(key), read::<Written<Binding>>(value)?);
    } else if let Some(key) = thing.strip_prefix(RECORDS) {
        ownership.records.insert(stored(key), read::<Vec<AskedRecord>>(value)?);
    } else if thing == RETIREMENT {
        ownership.retiring = read(value)?;
    } else if thing == ALIAS {
        let AliasThing { records, former, switched } = read(value)?;
        (ownership.alias, ownership.former_alias, ownership.switched) = (records, former, switched);
    } else {
        return Err(StateError::Corrupt { table: THINGS, why: format!("the unknown thing {thing:?}") });
    }
    Ok(())
}

/// One fact as a row.
pub(crate) struct FactRow {
    pub(crate) about: String,
    /// In milliseconds since 1970.
    pub(crate) seen: i64,
    pub(crate) fact: String,
}

fn fact_row<T: Serialize>(about: String, fact: &Fact<T>) -> Result<FactRow, StateError> {
    Ok(FactRow { about, seen: fact.seen.as_millisecond(), fact: write_json(FACTS, fact)? })
}

/// Returns the rows of what was seen.
pub(crate) fn to_fact_rows(facts: &HostnameFacts) -> Result<Vec<FactRow>, StateError> {
    let HostnameFacts { bindings, alias, answer } = facts;
    let mut rows = Vec::with_capacity(bindings.len() + 2);
    for (key, fact) in bindings {
        rows.push(fact_row(format!("{BINDING}{key}"), fact)?);
    }
    rows.extend(alias.as_ref().map(|fact| fact_row(ALIAS.to_owned(), fact)).transpose()?);
    rows.extend(answer.as_ref().map(|fact| fact_row(ANSWER.to_owned(), fact)).transpose()?);
    Ok(rows)
}

/// Puts one row back into what was seen.
pub(crate) fn take_fact_row(facts: &mut HostnameFacts, about: &str, fact: &str) -> Result<(), StateError> {
    if let Some(key) = about.strip_prefix(BINDING) {
        facts.bindings.insert(EndpointKey::stored(key.to_owned()), read_json(FACTS, fact)?);
    } else if about == ALIAS {
        facts.alias = Some(read_json(FACTS, fact)?);
    } else if about == ANSWER {
        facts.answer = Some(read_json(FACTS, fact)?);
    } else {
        return Err(StateError::Corrupt { table: FACTS, why: format!("the unknown fact {about:?}") });
    }
    Ok(())
}

/// What the schemas before stored of a hostname in two texts, as rows of things.
pub(crate) fn things_of_texts(ours: &str) -> Result<BTreeMap<String, String>, StateError> {
    to_rows(&read_json::<Ownership>(THINGS, ours)?)
}

/// The same for what was seen: what an earlier version cannot read is looked at again.
pub(crate) fn facts_of_texts(facts: &str) -> Result<Vec<FactRow>, StateError> {
    to_fact_rows(&serde_json::from_str::<HostnameFacts>(facts).unwrap_or_default())
}
