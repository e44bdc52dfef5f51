//! The same cause told once, with everything that it concerns.

use std::collections::HashMap;
use std::hash::Hash;

use pindrel_core::judging::findings::{Finding, Words};

/// The most names that are listed under what they have in common.
const MOST_NAMED: usize = 5;

/// What is found of some names alike.
pub(super) struct Group<'n, T> {
    /// The names, in their order.
    pub(super) names: Vec<&'n str>,
    /// What is found of the first of them.
    pub(super) finding: Option<&'n Finding>,
    /// What else the first of them has.
    pub(super) first: T,
}

impl<T> Group<'_, T> {
    /// Returns whom it is about: the name, or how many.
    pub(super) fn label(&self) -> String {
        match self.names.as_slice() {
            [only] => (*only).to_owned(),
            names => super::count(names.len(), "hostname"),
        }
    }

    /// Returns what is found, as it reads of all of them.
    pub(super) fn words(&self) -> Option<Words> {
        self.finding.map(|finding| match self.names.as_slice() {
            [first, _, ..] => finding.words_of_each(first),
            _ => finding.words(),
        })
    }

    /// Returns the names, where there are several.
    pub(super) fn listed(&self) -> Option<String> {
        let named = &self.names[..self.names.len().min(MOST_NAMED)];
        let more = match self.names.len() - named.len() {
            0 => String::new(),
            more => format!(" and {more} more"),
        };
        (self.names.len() > 1).then(|| format!("{}{more}", named.join(", ")))
    }
}

/// Groups what is found of names, in the order of their first appearance. What is alike but for the name, and has the
/// same key, is one.
pub(super) fn grouped<'n, K: Hash + Eq, T>(
    found: impl IntoIterator<Item = (&'n str, Option<&'n Finding>, K, T)>,
) -> Vec<Group<'n, T>> {
    let mut groups: Vec<Group<'n, T>> = Vec::new();
    let mut places = HashMap::new();
    for (name, finding, key, first) in found {
        let alike = finding.map(|finding| finding.alike(name));
        let place = *places.entry((alike, key)).or_insert(groups.len());
        match groups.get_mut(place) {
            Some(group) => group.names.push(name),
            None => groups.push(Group { names: vec![name], finding, first }),
        }
    }
    groups
}

#[cfg(test)]
mod tests {
    use pindrel_core::judging::findings::{AliasCause, ZoneCause};

    use super::*;

    #[test]
    fn what_differs_by_the_name_alone_is_told_once() {
        let alias = |name: &str| Finding::alias(&name.parse().unwrap(), AliasCause::OtherTtl);
        let zone = Finding::zone(&"example".parse().unwrap(), ZoneCause::Bogus);
        let [a, b, c, www] = ["a.example", "b.example", "c.example", "www.example"].map(alias);
        let found = [
            ("a.example", Some(&a), 1, ()),
            ("b.example", Some(&b), 1, ()),
            ("b.example", Some(&zone), 1, ()),
            ("c.example", Some(&c), 2, ()),
            ("www.example", Some(&www), 1, ()),
            ("c.example", None, 1, ()),
        ];
        let groups: Vec<_> = grouped(found)
            .into_iter()
            .map(|group| (group.label(), group.words().map_or_else(String::new, |words| words.says), group.listed()))
            .collect();
        let expected = [
            (
                "3 hostnames",
                "the alias of each does not have the TTL that the manifest says",
                Some("a.example, b.example, www.example"),
            ),
            ("b.example", "example is signed, but its signatures do not validate", None),
            ("c.example", "the alias of c.example does not have the TTL that the manifest says", None),
            ("c.example", "", None),
        ];
        let expected =
            expected.map(|(label, says, listed)| (label.to_owned(), says.to_owned(), listed.map(str::to_owned)));
        assert_eq!(groups, expected);
        let many: Vec<String> = (0..9).map(|n| format!("n{n}")).collect();
        let groups = grouped(many.iter().map(|name| (name.as_str(), Some(&zone), (), ())));
        assert_eq!(groups[0].listed().unwrap(), "n0, n1, n2, n3, n4 and 4 more");
    }
}
