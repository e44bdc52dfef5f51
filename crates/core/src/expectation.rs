//! What a request must be answered with, and what holds where the manifest says nothing.

use crate::endpoint::Route;

/// What the HTTP answer must be like.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct Expectation {
    /// The path that is asked for.
    pub path: String,
    /// The lowest and the highest status that is accepted.
    pub status: (u16, u16),
    /// A text that the body must contain.
    pub body: Option<String>,
}

impl Expectation {
    /// What holds unless the manifest says otherwise: the first route answers with success
    /// or a redirect.
    pub fn for_routes(routes: &[Route]) -> Expectation {
        let path = routes.first().map_or("/", |route| route.prefix.as_str()).to_owned();
        Expectation { path, status: (200, 399), body: None }
    }

    /// What holds for a name that is redirected to the primary one.
    pub fn redirect() -> Expectation {
        Expectation { path: "/".into(), status: (300, 399), body: None }
    }
}
