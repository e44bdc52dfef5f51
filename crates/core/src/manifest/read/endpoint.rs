//! The tables `[endpoint.NAME]`.

use super::common::{owned, read_driver, read_path, read_secret, read_url};
use crate::manifest::section::{Section, parse};
use crate::manifest::{At, Diagnostics, EndpointEntry};

pub(super) const ENDPOINT_KEYS: &[&str] = &["kind", "driver", "id", "url", "token", "api_roots"];

pub(super) fn read_endpoint(
    name: At<&str>,
    section: &Section<'_>,
    problems: &mut Diagnostics,
) -> Option<EndpointEntry> {
    let kind = section.needed_text("kind", "\"gateway\"", problems);
    let kind = kind.and_then(|kind| parse(kind, "write \"gateway\", \"distribution\" or \"balancer\"", problems));
    read_driver(section, &["http"], problems);
    let url = read_url(section, "url", "\"https://127.0.0.1:9443\"", problems);
    let token = read_secret(section, "token", "EDGE_TOKEN", problems);
    let id = section.text("id", problems).map_or(name.value, |id| id.value).to_owned();
    Some(EndpointEntry {
        name: owned(name),
        id,
        kind: kind?.value,
        url: url?,
        token: token?,
        api_roots: read_path(section, "api_roots", problems),
    })
}
