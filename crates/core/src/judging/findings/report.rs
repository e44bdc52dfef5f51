//! What a peer, or a part that speaks to one, puts into words itself.

use serde::{Deserialize, Serialize};

use super::subject::{Naming, Subject};
use super::words::Words;
use super::{Again, Code, Judged};
use crate::judging::pin::Pin;

/// A report in somebody else's words: of a driver, a library, an older version.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct Report {
    code: Code,
    pin: Pin,
    says: Text,
    evidence: Vec<String>,
    remedy: Text,
    again: Again,
}

/// A text in the pieces between which it names what it is about.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(transparent)]
struct Text(Vec<String>);

impl Text {
    fn new(text: impl Into<String>) -> Text {
        Text(vec![text.into()])
    }

    /// The same with `name` left out, where it stands by itself.
    fn without(self, name: &str) -> Text {
        let is_of_name = |c: char| c.is_alphanumeric() || matches!(c, '.' | '-' | '_' | '*');
        let text = self.0.join("");
        let (mut pieces, mut piece, mut rest) = (Vec::new(), String::new(), text.as_str());
        while let Some(at) = rest.find(name).filter(|_| !name.is_empty()) {
            let (before, after) = (&rest[..at], &rest[at + name.len()..]);
            // A dot at the end of a sentence is none of the name's.
            let goes_on = after.chars().next().is_some_and(is_of_name) && !(after == "." || after.starts_with(". "));
            piece.push_str(before);
            if goes_on || before.chars().next_back().is_some_and(is_of_name) {
                piece.push_str(name);
            } else {
                pieces.push(std::mem::take(&mut piece));
            }
            rest = after;
        }
        piece.push_str(rest);
        pieces.push(piece);
        Text(pieces)
    }

    fn with(&self, name: &str) -> String {
        self.0.join(name)
    }
}

impl Report {
    /// A report of such a kind, about the pin that it is usually about.
    pub fn new(code: Code, says: impl Into<String>, remedy: impl Into<String>) -> Report {
        let (says, remedy) = (Text::new(says), Text::new(remedy));
        Report { code, pin: code.pin(), says, evidence: Vec::new(), remedy, again: code.again() }
    }

    /// Says that it is about another pin.
    #[must_use]
    pub fn on(self, pin: Pin) -> Report {
        Report { pin, ..self }
    }

    /// Says whether trying again helps, where that is known better than by the code.
    #[must_use]
    pub fn again(self, again: Again) -> Report {
        Report { again, ..self }
    }

    pub(super) fn seen(self, evidence: Vec<String>) -> Report {
        Report { evidence, ..self }
    }

    /// The same, where it names `subject` as it would name another.
    pub(super) fn about(self, subject: &Subject) -> Report {
        let [first, _] = subject.names();
        let Some(name) = first else { return self };
        Report { says: self.says.without(name), remedy: self.remedy.without(name), ..self }
    }

    pub(super) fn judged(&self) -> Judged {
        Judged { code: self.code, pin: self.pin, again: self.again }
    }

    pub(super) fn words(&self, naming: Naming<'_>) -> Words {
        let name = naming.hostname();
        Words::new(self.says.with(&name.to_string()), self.remedy.with(name.typed())).seen(self.evidence.clone())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_name_is_left_out_only_where_it_stands_by_itself() {
        let table = [
            ("www.a.example and a.example.", "www.a.example and each."),
            ("PUT https://edge.test/a.example failed", "PUT https://edge.test/each failed"),
            ("a.example.test, not-a.example", "a.example.test, not-a.example"),
            ("nothing of it", "nothing of it"),
        ];
        for (says, of_each) in table {
            let text = Text::new(says).without("a.example");
            assert_eq!((text.with("a.example").as_str(), text.with("each").as_str()), (says, of_each));
        }
    }
}
