//! The same cause told once, with everything that it concerns.

use std::collections::HashMap;
use std::hash::Hash;

/// The most names that are listed under what they have in common.
const MOST_NAMED: usize = 5;
/// What stands for a name in a sentence about several.
const EACH: &str = "each";
/// What stands for it where something is to be typed.
pub(super) const ANY: &str = "HOSTNAME";

/// What is told of some names in the same words.
pub(super) struct Group<'n, T> {
    /// The names, in their order.
    pub(super) names: Vec<&'n str>,
    /// The sentence, as it reads of all of them.
    pub(super) says: String,
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

    /// Returns a text about the first of them as it reads of all.
    pub(super) fn generally(&self, text: &str) -> String {
        match self.names.as_slice() {
            [first, _, ..] => text.replace(first, ANY),
            _ => text.to_owned(),
        }
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

/// Groups what is told of names, in the order of their first appearance. What is told in the same
/// words but for the name, and with the same key, is one.
pub(super) fn grouped<'n, K: Hash + Eq, T>(
    told: impl IntoIterator<Item = (&'n str, &'n str, K, T)>,
) -> Vec<Group<'n, T>> {
    let mut groups: Vec<Group<'n, T>> = Vec::new();
    let mut places: HashMap<(String, K), usize> = HashMap::new();
    let mut first_says: Vec<&'n str> = Vec::new();
    for (name, says, key, first) in told {
        let general = with_each(says, name);
        let place = *places.entry((general.clone(), key)).or_insert(groups.len());
        match groups.get_mut(place) {
            Some(group) => group.names.push(name),
            None => {
                groups.push(Group { names: vec![name], says: general, first });
                first_says.push(says);
            }
        }
    }
    for (group, says) in groups.iter_mut().zip(first_says) {
        if group.names.len() == 1 {
            says.clone_into(&mut group.says);
        }
    }
    groups
}

/// Writes "each" in the place of a name, where it stands by itself.
fn with_each(says: &str, name: &str) -> String {
    let is_of_name = |c: char| c.is_alphanumeric() || matches!(c, '.' | '-' | '_' | '*');
    let mut general = String::with_capacity(says.len());
    let mut rest = says;
    while let Some(at) = rest.find(name).filter(|_| !name.is_empty()) {
        let (before, after) = (&rest[..at], &rest[at + name.len()..]);
        let follows = after.chars().next();
        // A dot at the end of a sentence is none of the name's.
        let goes_on = follows.is_some_and(is_of_name) && !(after == "." || after.starts_with(". "));
        let is_alone = !before.chars().next_back().is_some_and(is_of_name) && !goes_on;
        general.push_str(before);
        general.push_str(if is_alone { EACH } else { name });
        rest = after;
    }
    general.push_str(rest);
    general
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_differs_by_the_name_alone_is_told_once() {
        let told = [
            ("a.example", "the alias of a.example points elsewhere", 1, ()),
            ("b.example", "the alias of b.example points elsewhere", 1, ()),
            ("b.example", "the zone example does not answer", 1, ()),
            ("c.example", "the alias of c.example points elsewhere", 2, ()),
            ("example", "the alias of example points elsewhere", 1, ()),
        ];
        let groups: Vec<_> =
            grouped(told).into_iter().map(|group| (group.label(), group.says.clone(), group.listed())).collect();
        let expected = [
            ("3 hostnames", "the alias of each points elsewhere", Some("a.example, b.example, example")),
            ("b.example", "the zone example does not answer", None),
            ("c.example", "the alias of c.example points elsewhere", None),
        ];
        let expected =
            expected.map(|(label, says, listed)| (label.to_owned(), says.to_owned(), listed.map(str::to_owned)));
        assert_eq!(groups, expected);
        assert_eq!(with_each("www.a.example and a.example.", "a.example"), "www.a.example and each.");
        let many: Vec<String> = (0..9).map(|n| format!("n{n}")).collect();
        let groups = grouped(many.iter().map(|name| (name.as_str(), "down", (), ())));
        assert_eq!(groups[0].listed().unwrap(), "n0, n1, n2, n3, n4 and 4 more");
    }
}
