//! Manifests for tests, piece by piece.

use std::fmt::Write as _;

use pindrel_sandbox::{Listing, VALIDATION_ZONE};

/// The text of a manifest under construction.
#[derive(Debug, Clone, Default)]
pub struct ManifestText {
    text: String,
}

impl ManifestText {
    /// Starts a manifest with one authority and one zone.
    pub fn new(directory: &str, servers: &[String], parent: &str, resolver: &str) -> ManifestText {
        let text = format!(
            "manifest = 1

[authority.main]
directory = \"{directory}\"
contact = [\"mailto:tls@larkfield.example\"]
agree_to_terms = true
api_roots = \"authority-root.pem\"
issued_roots = \"issuing-root.pem\"

[zone.\"larkfield.example\"]
driver = \"rfc2136\"
servers = {servers:?}
parents = [\"{parent}\"]
resolvers = [\"{resolver}\"]
tsig = {{ name = \"pindrel.\", algorithm = \"hmac-sha256\", secret = \"env:TSIG_SECRET\" }}
"
        );
        ManifestText { text }
    }

    /// Starts a manifest for a sandbox whose files are in `sandbox/`.
    pub fn sandbox(listing: &Listing) -> ManifestText {
        let servers = [listing.primary.to_string(), listing.secondary.to_string()];
        let made =
            ManifestText::new(&listing.directory, &servers, &listing.parent.to_string(), &listing.resolver.to_string());
        let text = made
            .text
            .replace("authority-root.pem", "sandbox/api-root.pem")
            .replace("issuing-root.pem", "sandbox/issuing-root.pem")
            .replace("env:TSIG_SECRET", "file:sandbox/tsig.secret");
        ManifestText { text }
    }

    /// Adds an endpoint of the sandbox's platform, under its own id.
    #[must_use]
    pub fn endpoint(mut self, listing: &Listing, id: &str, kind: &str) -> ManifestText {
        let _ = write!(
            self.text,
            "
[endpoint.{id}]
kind = \"{kind}\"
driver = \"http\"
url = \"{}\"
token = \"file:sandbox/edge.token\"
api_roots = \"sandbox/api-root.pem\"
",
            listing.platform
        );
        self
    }

    /// Adds a hostname with further lines of its table.
    #[must_use]
    pub fn hostname(mut self, hostname: &str, endpoint: &str, more: &str) -> ManifestText {
        let _ = write!(self.text, "\n[hostname.\"{hostname}\"]\nendpoint = \"{endpoint}\"\n{more}\n");
        self
    }

    /// Adds the sandbox's zone that challenges may be delegated into.
    #[must_use]
    pub fn validation_zone(mut self, listing: &Listing) -> ManifestText {
        let _ = write!(
            self.text,
            "
[zone.\"{VALIDATION_ZONE}\"]
driver = \"rfc2136\"
servers = [\"{}\", \"{}\"]
parents = [\"{}\"]
resolvers = [\"{}\"]
tsig = {{ name = \"pindrel.\", secret = \"file:sandbox/tsig.secret\" }}
",
            listing.primary, listing.secondary, listing.parent, listing.resolver
        );
        self
    }

    /// Has the sandbox's authority rehearsed at the one for practice.
    #[must_use]
    pub fn rehearsed(mut self, listing: &Listing) -> ManifestText {
        self.text = self.text.replace("[authority.main]\n", "[authority.main]\nrehearsal = \"practice\"\n");
        self.text = self.text.replace("manifest = 1\n", "manifest = 1\ndefaults.authority = \"main\"\n");
        let _ = write!(
            self.text,
            "
[authority.practice]
directory = \"{}\"
agree_to_terms = true
api_roots = \"sandbox/api-root.pem\"
issued_roots = \"sandbox/practice-root.pem\"
",
            listing.practice
        );
        self
    }

    /// Adds lines to the table of the authority.
    #[must_use]
    pub fn authority(mut self, lines: &str) -> ManifestText {
        self.text = self.text.replace("[authority.main]\n", &format!("[authority.main]\n{lines}\n"));
        self
    }

    /// Adds any text.
    #[must_use]
    pub fn with(mut self, text: &str) -> ManifestText {
        self.text.push_str(text);
        self
    }

    /// Returns the text.
    pub fn text(&self) -> &str {
        &self.text
    }
}
