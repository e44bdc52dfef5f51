//! The stable words of findings, and what follows from each.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use crate::judging::pin::Pin;

macro_rules! codes {
    ($($pin:ident: { $($(#[doc = $doc:literal])+ $variant:ident = $word:literal, $again:expr;)+ })+) => {
        /// The stable word of a kind of finding; each is explained in `docs/findings.md`.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
        pub enum Code {
            $($($(#[doc = $doc])+ #[serde(rename = $word)] $variant,)+)+
        }

        impl Code {
            /// All codes, pin by pin.
            pub const ALL: &'static [Code] = &[$($(Code::$variant),+),+];

            /// Returns the word.
            pub fn as_str(self) -> &'static str {
                match self {
                    $($(Code::$variant => $word,)+)+
                }
            }

            /// Returns the pin that such a finding is usually about.
            pub fn pin(self) -> Pin {
                match self {
                    $($(Code::$variant => Pin::$pin,)+)+
                }
            }

            /// Returns whether trying again usually helps.
            pub(super) fn again(self) -> Again {
                match self {
                    $($(Code::$variant => $again,)+)+
                }
            }
        }
    };
}

/// Whether trying again helps.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Again {
    /// At once: the next run may find it otherwise.
    Now,
    /// Not before this time, which a peer or a limit named.
    At(Timestamp),
    /// When something else changes.
    WhenChanged,
    /// Only once a person has done something.
    Person,
}

impl Again {
    /// Returns the time, where one was named.
    pub fn at(self) -> Option<Timestamp> {
        match self {
            Again::At(at) => Some(at),
            _ => None,
        }
    }
}

use Again::{Now, Person, WhenChanged};

codes! {
    Zone: {
        /// The zone above does not delegate the zone.
        DelegationMissing = "delegation-missing", Person;
        /// The delegation names other servers than the zone does.
        DelegationDiffers = "delegation-differs", Person;
        /// The servers of the zone above do not answer.
        ParentUnreachable = "parent-unreachable", Now;
        /// A server of the zone does not answer.
        ServerUnreachable = "server-unreachable", Now;
        /// A server answers without authority for the zone.
        ServerLame = "server-lame", Person;
        /// The zone's servers name different servers.
        ServersDiffer = "servers-differ", Person;
        /// Servers of the zone above say different things of its delegation.
        ParentsDiffer = "parents-differ", Person;
        /// A name in the zone's NS set is an alias.
        NameServerAliased = "name-server-aliased", Person;
        /// The zone above gives a server of the zone another address than the zone does.
        GlueDiffers = "glue-differs", Person;
        /// The zone above names a server of the zone that lies in it without its address.
        GlueMissing = "glue-missing", Person;
        /// No server that the zone is delegated to answers for it.
        DelegationDead = "delegation-dead", Now;
        /// A server of the zone answers over UDP alone.
        ServerWithoutTcp = "server-without-tcp", Person;
        /// A signed zone is about to be served by others, and old and new servers lack each other's keys.
        KeysNotShared = "keys-not-shared", Person;
        /// No DS record of the zone above matches a key of the zone.
        KeysUnmatched = "keys-unmatched", Person;
        /// Signatures of the zone have ended, or end soon.
        SignaturesEnding = "signatures-ending", Person;
        /// The zone is signed and does not validate.
        ZoneBogus = "zone-bogus", Person;
        /// The zone's server refuses updates with this key.
        UpdateRefused = "update-refused", Person;
        /// The zone has no marker yet, and the manifest wants one.
        ZoneUnmarked = "zone-unmarked", Now;
        /// Another installation of Pindrel has marked the zone.
        ZoneMarkedByOther = "zone-marked-by-other", Person;
        /// The credential may not change a record that the manifest needs.
        RightMissing = "right-missing", Person;
        /// The credential may do more than is needed.
        RightsTooWide = "rights-too-wide", Person;
        /// A server transfers the zone to whoever asks.
        TransferOpen = "transfer-open", Person;
        /// The zone's server accepted an update and changed nothing.
        UpdateWithoutEffect = "update-without-effect", Person;
    }
    Certificate: {
        /// No certificate covers the name yet.
        CertificateMissing = "certificate-missing", Now;
        /// The certificate is due for renewal.
        CertificateDue = "certificate-due", Now;
        /// The certificate has expired.
        CertificateExpired = "certificate-expired", Now;
        /// The certificate is from another authority, or covers other names, than the manifest says.
        CertificateDiffers = "certificate-differs", Now;
        /// The certificate was revoked, or a renewal was requested.
        CertificateReplaced = "certificate-replaced", Now;
        /// The certificate was revoked, and is not replaced as asked for.
        CertificateRevoked = "certificate-revoked", Person;
        /// A certificate that is issued elsewhere is not there, or ends soon.
        CertificateAwaited = "certificate-awaited", Person;
        /// The platform has not issued the certificate yet.
        PlatformCertificateAwaited = "platform-certificate-awaited", WhenChanged;
        /// The certificate is not in all the files that it should be in.
        CertificateUndelivered = "certificate-undelivered", Now;
        /// A command that follows the certificate failed.
        CommandFailed = "command-failed", Now;
        /// A file cannot be written.
        DeliveryFailed = "delivery-failed", Person;
        /// The authority does not answer.
        AuthorityUnreachable = "authority-unreachable", Now;
        /// The authority refuses a request.
        AuthorityRefuses = "authority-refuses", Person;
        /// There is no open account at the authority.
        AccountMissing = "account-missing", Person;
        /// The authority limits how often it may be asked.
        RateLimited = "rate-limited", Now;
        /// A limit in the manifest would be passed.
        LimitReached = "limit-reached", Now;
        /// CAA records forbid the authority to issue.
        CaaForbids = "caa-forbids", Person;
        /// Whether CAA records allow the authority to issue is not known.
        CaaUncertain = "caa-uncertain", Person;
        /// The authority does not offer the certificate profile.
        ProfileNotOffered = "profile-not-offered", Person;
        /// A challenge record belongs where the manifest has no zone, cannot be placed, or would take a
        /// name off the wildcard that answers it.
        ChallengeMisplaced = "challenge-misplaced", Person;
        /// Whoever edits the zone has not led the challenge name to a zone that Pindrel changes.
        ChallengeAwaited = "challenge-awaited", WhenChanged;
        /// Not every authoritative server returns the challenge record.
        ChallengeLagging = "challenge-lagging", Now;
        /// The authority could not validate a name.
        ValidationFailed = "validation-failed", Person;
        /// An order came to nothing.
        OrderFailed = "order-failed", Now;
        /// What the authority issued cannot be used.
        IssuedUnusable = "issued-unusable", Person;
        /// Files that were given do not make up a certificate that can be used.
        ImportRefused = "import-refused", Person;
        /// A secret or a file that the manifest names cannot be read.
        SecretUnreadable = "secret-unreadable", Person;
        /// The state cannot be read or written, or does not open with this key.
        StateUnusable = "state-unusable", Person;
        /// Another process is working on it.
        WorkedOnElsewhere = "worked-on-elsewhere", Now;
        /// A fault of Pindrel's own.
        InternalFault = "internal-fault", Person;
    }
    Binding: {
        /// The platform does not answer.
        PlatformUnreachable = "platform-unreachable", Now;
        /// The platform does not accept the token, or refuses a request.
        PlatformRefuses = "platform-refuses", Person;
        /// The platform has no such endpoint.
        EndpointUnknown = "endpoint-unknown", Person;
        /// The name that aliases to the endpoint point at has no address.
        DefaultNameDangling = "default-name-dangling", Person;
        /// The name that aliases to the endpoint point at leads to what does not serve the certificate.
        DefaultNameElsewhere = "default-name-elsewhere", Now;
        /// The server on this machine is not ready to take hostnames.
        EndpointUnready = "endpoint-unready", Person;
        /// The platform calls the endpoint otherwise than the manifest does.
        KindDiffers = "kind-differs", Person;
        /// The endpoint accepts no custom hostnames.
        CustomHostnamesRefused = "custom-hostnames-refused", Person;
        /// The endpoint does not know the hostname.
        BindingMissing = "binding-missing", Now;
        /// The binding is not the wanted one.
        BindingDiffers = "binding-differs", Now;
        /// A binding that Pindrel did not create stands in the way.
        BindingForeign = "binding-foreign", Person;
        /// A binding was changed by someone else between looking and writing.
        BindingChanged = "binding-changed", Now;
        /// The platform is still deploying the binding.
        BindingDeploying = "binding-deploying", WhenChanged;
        /// The platform failed to deploy the binding.
        BindingFailed = "binding-failed", Now;
        /// The endpoint serves another certificate than it was given.
        ServedCertificateDiffers = "served-certificate-differs", Now;
        /// The endpoint serves the certificate, and does not answer as expected.
        ServedAnswerDiffers = "served-answer-differs", Now;
        /// The endpoint answers clients of an older TLS version than the lowest that is wanted.
        OldTlsServed = "old-tls-served", Now;
        /// The endpoint cannot do what the manifest asks of it.
        NotOffered = "not-offered", Person;
        /// A record that the platform asks for is missing.
        AskedRecordMissing = "asked-record-missing", Now;
        /// A record that the platform asked for is no longer needed.
        AskedRecordLeft = "asked-record-left", Now;
        /// A record that the platform asks for is not in any zone of the manifest, or something stands there.
        AskedRecordMisplaced = "asked-record-misplaced", Person;
        /// The endpoint, or the store that it takes certificates from, is full.
        QuotaReached = "quota-reached", Person;
        /// The hostname has moved, and is still bound where it was.
        FormerBinding = "former-binding", Now;
    }
    Alias: {
        /// The alias record is absent.
        AliasMissing = "alias-missing", Now;
        /// The alias record points elsewhere.
        AliasDiffers = "alias-differs", Now;
        /// A record that Pindrel did not create stands in the alias's place.
        AliasConflict = "alias-conflict", Person;
        /// A DNAME record above the hostname leads all below it elsewhere.
        AliasRedirected = "alias-redirected", Person;
        /// The alias points at a name that does not exist.
        AliasDangling = "alias-dangling", Person;
        /// Records of others stand at the name, which the manifest says may go.
        AliasReplaces = "alias-replaces", Now;
        /// Whoever edits the zone has not made the alias record yet.
        AliasAwaited = "alias-awaited", WhenChanged;
        /// Not every server returns the alias record yet.
        AliasLagging = "alias-lagging", WhenChanged;
        /// The alias has no target: the endpoint lists no addresses to flatten it to.
        AliasTargetMissing = "alias-target-missing", Person;
        /// The endpoint is ready, and the alias is held back as asked for.
        AliasHeldBack = "alias-held-back", Person;
        /// The manifest no longer names a hostname whose alias or binding is still there.
        LeftOver = "left-over", Person;
        /// Records were changed by someone else between looking and updating.
        RecordsChanged = "records-changed", Now;
    }
    Answer: {
        /// A resolver returns no address.
        AnswerUnresolved = "answer-unresolved", Now;
        /// No connection to what the name resolves to.
        AnswerUnreachable = "answer-unreachable", Now;
        /// The certificate that a client is served does not verify.
        AnswerUnverified = "answer-unverified", Now;
        /// A client is served another certificate.
        AnswerStale = "answer-stale", Now;
        /// The HTTP answer is not the expected one.
        AnswerUnexpected = "answer-unexpected", Now;
        /// Clients are answered without the certificate that they must show.
        ClientCertificateNotRequired = "client-certificate-not-required", Now;
    }
}

impl Code {
    /// Says whether nothing failed: a limit, a record or a right stands in the way, which was known or said before
    /// anything was done. A later run goes on, or a person does something first.
    pub fn is_hindrance(self) -> bool {
        matches!(
            self,
            Code::LimitReached | Code::CaaForbids | Code::UpdateRefused | Code::RightMissing | Code::EndpointUnready
        )
    }

    /// Says whether the cause is that something could not be reached: no step is begun
    /// while it lasts, and the run counts as failed.
    pub fn is_outage(self) -> bool {
        matches!(
            self,
            Code::ServerUnreachable | Code::PlatformUnreachable | Code::PlatformRefuses | Code::AuthorityUnreachable
        )
    }
}

impl std::fmt::Display for Code {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.pad(self.as_str())
    }
}
