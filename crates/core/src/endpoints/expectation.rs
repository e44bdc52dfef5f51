//! What a request must be answered with, and what holds where the manifest says nothing.

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

use crate::endpoints::endpoint::Route;

/// A sample request, and what its HTTP answer must be like.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct Expectation {
    /// The path that is asked for.
    pub path: String,
    /// The lowest and the highest status that is accepted.
    pub status: (u16, u16),
    /// A text that the body must contain.
    pub body: Option<String>,
    /// The method of the request.
    pub method: SampleMethod,
    /// The `Origin` header of the request (RFC 6454 §7), for a service that answers other sites.
    pub origin: Option<String>,
}

/// The method of a sample request: one that changes nothing (RFC 9110 §9.2.1).
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "UPPERCASE")]
#[expect(missing_docs, reason = "the names are the standard's own")]
pub enum SampleMethod {
    #[default]
    Get,
    Head,
    Options,
}

impl SampleMethod {
    /// Returns the method as it is sent.
    pub fn as_str(self) -> &'static str {
        match self {
            SampleMethod::Get => "GET",
            SampleMethod::Head => "HEAD",
            SampleMethod::Options => "OPTIONS",
        }
    }
}

impl fmt::Display for SampleMethod {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.as_str())
    }
}

impl FromStr for SampleMethod {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let all = [SampleMethod::Get, SampleMethod::Head, SampleMethod::Options];
        let found = all.into_iter().find(|method| method.as_str() == text);
        found.ok_or_else(|| format!("\"{text}\" is not a method that a sample request may have"))
    }
}

impl Expectation {
    /// What holds unless the manifest says otherwise: the first route answers with success
    /// or a redirect.
    pub fn for_routes(routes: &[Route]) -> Expectation {
        Expectation::at(routes.first().map_or("/", |route| route.prefix.as_str()))
    }

    /// What holds for a path of which the manifest says nothing else.
    pub fn at(path: &str) -> Expectation {
        let method = SampleMethod::Get;
        Expectation { path: path.to_owned(), status: (200, 399), body: None, method, origin: None }
    }

    /// What holds for a name that is redirected to the primary one.
    pub fn redirect() -> Expectation {
        Expectation { status: (300, 399), ..Expectation::at("/") }
    }
}
