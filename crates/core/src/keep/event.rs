//! What happens to a process that keeps running, and what it does about it.

use std::collections::{HashMap, HashSet};
use std::sync::Arc;
use std::time::Duration;

use jiff::Timestamp;

use super::Unstored;
use crate::desired::{CertificateId, CheckId, Desired, EndpointId, HostnameId};
use crate::health::policy::{Choice, Reason};
use crate::health::{CheckRecord, Measured, Verdict};
use crate::judging::facts::{Drained, EndpointView, Fact, HeldCertificate, HostnameKnowledge, Knowledge, ZoneView};
use crate::judging::findings::Finding;
use crate::names::name::Hostname;

/// A moment, on both clocks.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Now {
    /// The time of day.
    pub wall: Timestamp,
    /// The time since the process began, on the clock that nobody sets.
    pub elapsed: Duration,
}

/// Something that happened.
#[derive(Debug)]
pub enum Event {
    /// Time has gone on: something may be due.
    Tick,
    /// A check was made.
    CheckMade {
        /// Which.
        check: CheckId,
        /// The number that it was asked for with.
        round: u64,
        /// What was found, by address; `None` where it ended without a result.
        results: Option<Vec<(String, Measured)>>,
    },
    /// A switch has ended.
    SwitchEnded(Box<SwitchReport>),
    /// A pass has ended.
    PassEnded(Box<PassReport>),
    /// The state has answered a question, or has not in time.
    Answered {
        /// The number of the manifest that it was about.
        generation: u64,
        /// The answer.
        answer: Answer,
    },
    /// Somebody has changed the manifest.
    ManifestChanged(Arc<Desired>),
    /// A changed manifest is ready to be taken up, or why it is not.
    ManifestLoaded(Result<Box<LoadedManifest>, String>),
    /// It is to end.
    Stop,
}

/// What is to be done.
#[derive(Debug)]
pub enum Action {
    /// A check is to be made.
    Probe {
        /// Which.
        check: CheckId,
        /// Comes back with what was found.
        round: u64,
    },
    /// The checks under way are to be dropped: their results are no longer wanted.
    AbandonProbes,
    /// An alias is to give something else.
    Switch(Box<SwitchOrder>),
    /// What is wanted is to be brought about, as far as it is due.
    Pass(PassOrder),
    /// The state is to be asked or told, each kind of question once at a time.
    Ask {
        /// The number of the manifest that it is about.
        generation: u64,
        /// The question.
        question: Question,
    },
    /// People are to be told.
    Tell(News),
    /// What drivers have cached is to be forgotten.
    RenewDrivers,
}

/// What the state is asked or told.
#[derive(Debug)]
pub enum Question {
    /// What is known of hostnames that are to be decided about.
    Recall(Vec<HostnameId>),
    /// Which endpoints somebody has drained.
    Drained,
    /// Which hostnames and certificates of the manifest are due, at most so many of each. Those that are returned are
    /// taken: nobody else takes them for a while.
    Due(usize),
    /// When some are due next.
    Postpone(Vec<DueSubject>),
    /// Which of these checks no other process makes: they are this one's from then on.
    Claim(Vec<CheckId>),
    /// What checks found is to be stored.
    Store(Unstored),
    /// What is stored of checks is to be merged by its age.
    Thin,
    /// What is known by a manifest is to be loaded.
    Load(Arc<Desired>),
}

/// Which question is meant.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
#[expect(missing_docs, reason = "the questions say what they are")]
pub enum Topic {
    Recall,
    Drained,
    Due,
    Postpone,
    Claim,
    Store,
    Thin,
    Load,
}

impl Question {
    /// Returns which question it is.
    pub fn topic(&self) -> Topic {
        match self {
            Question::Recall(_) => Topic::Recall,
            Question::Drained => Topic::Drained,
            Question::Due(_) => Topic::Due,
            Question::Postpone(_) => Topic::Postpone,
            Question::Claim(_) => Topic::Claim,
            Question::Store(_) => Topic::Store,
            Question::Thin => Topic::Thin,
            Question::Load(_) => Topic::Load,
        }
    }
}

/// What came of a question. What the state did not say in time is missing.
#[derive(Debug)]
pub enum Answer {
    /// What it said of some of the hostnames.
    Recalled {
        /// Those that were asked about.
        ids: Vec<HostnameId>,
        /// What it said.
        said: Vec<Recalled>,
    },
    /// The endpoints that are drained.
    Drained(Option<HashMap<EndpointId, Drained>>),
    /// What is due and was taken.
    Due(Option<Vec<DueSubject>>),
    /// Those that could not be stored.
    Postponed(Vec<DueSubject>),
    /// The checks that are this process's.
    Claimed(Option<HashSet<CheckId>>),
    /// What was to be stored, with what is stored of it.
    Stored(Unstored),
    /// What is stored is thinned, as far as it could be.
    Thinned,
}

impl Answer {
    /// Returns which question it answers.
    pub fn topic(&self) -> Topic {
        match self {
            Answer::Recalled { .. } => Topic::Recall,
            Answer::Drained(_) => Topic::Drained,
            Answer::Due(_) => Topic::Due,
            Answer::Postponed(_) => Topic::Postpone,
            Answer::Claimed(_) => Topic::Claim,
            Answer::Stored(_) => Topic::Store,
            Answer::Thinned => Topic::Thin,
        }
    }
}

/// What the state says of one hostname.
#[derive(Debug, Clone, PartialEq)]
pub struct Recalled {
    /// Which.
    pub id: HostnameId,
    /// What is known of it; `None` where nothing is.
    pub own: Option<HostnameKnowledge>,
    /// Its certificate.
    pub certificate: Option<HeldCertificate>,
    /// What was seen of its endpoints.
    pub endpoints: Vec<(EndpointId, Fact<EndpointView>)>,
}

/// A hostname or certificate that is due, or will be.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DueSubject {
    /// Which.
    pub subject: Subject,
    /// When.
    pub next: Timestamp,
    /// How often in a row it was not as it should be.
    pub failures: u32,
}

/// What is looked at again and again.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Subject {
    /// A hostname.
    Hostname(HostnameId),
    /// A certificate that no hostname uses.
    Certificate(CertificateId),
}

/// A manifest, and what is known by it.
#[derive(Debug)]
pub struct LoadedManifest {
    /// The manifest.
    pub desired: Arc<Desired>,
    /// What is known of its checks, and of hostnames whose alias follows them.
    pub known: Knowledge,
    /// The checks that this process makes.
    pub claimed: HashSet<CheckId>,
}

/// That an alias is to give something else, with all that this was decided by.
#[derive(Debug)]
pub struct SwitchOrder {
    /// The manifest that it was decided by.
    pub desired: Arc<Desired>,
    /// Its number.
    pub generation: u64,
    /// Whose alias.
    pub id: HostnameId,
    /// What it gives now.
    pub from: Vec<EndpointId>,
    /// What it is to give.
    pub to: Vec<EndpointId>,
    /// What was decided.
    pub choice: Option<Choice>,
    /// When the first failure was seen that led to it.
    pub seen: Option<Timestamp>,
    /// When it was decided.
    pub decided: Timestamp,
    /// The verdicts that it was decided by.
    pub verdicts: HashMap<CheckId, CheckRecord>,
    /// The endpoints that were drained.
    pub drained: HashMap<EndpointId, Drained>,
    /// What was known of endpoints.
    pub endpoints: HashMap<EndpointId, Fact<EndpointView>>,
    /// What was known of the hostname: it is switched by that where the state does not answer.
    pub known: Option<HostnameKnowledge>,
    /// What was known of its zone.
    pub zone: Option<Fact<ZoneView>>,
}

/// How a switch ended.
#[derive(Debug)]
pub struct SwitchReport {
    /// What was to be done.
    pub order: SwitchOrder,
    /// When the primary of the zone had it.
    pub primary: Option<Timestamp>,
    /// When it ended.
    pub ended: Timestamp,
    /// What went wrong.
    pub outcome: Result<(), Finding>,
    /// Who does not say whether it gives the new answer.
    pub behind: Option<Finding>,
    /// What is known of the hostname by then.
    pub known: Option<HostnameKnowledge>,
}

/// What a pass is over.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct PassOrder {
    /// The number of the manifest.
    pub generation: u64,
    /// These hostnames, with all that they need.
    pub hostnames: Vec<HostnameId>,
    /// These certificates also, which no hostname uses.
    pub certificates: Vec<CertificateId>,
    /// Whether it is over all of the manifest, and what that no longer names.
    pub is_whole: bool,
    /// What this process has concluded about checks.
    pub verdicts: HashMap<CheckId, CheckRecord>,
}

/// How a pass ended.
#[derive(Debug)]
pub struct PassReport {
    /// What it was over.
    pub order: PassOrder,
    /// What was seen, or why it could not be made.
    pub outcome: Result<PassSeen, String>,
}

/// What was seen in a pass.
#[derive(Debug, Default)]
pub struct PassSeen {
    /// What is not as it should be, by hostname (of a certificate its first name), with the time at which trying again
    /// is worth while, where that is known.
    pub stuck: HashMap<Hostname, Option<Timestamp>>,
    /// What was seen of endpoints.
    pub endpoints: HashMap<EndpointId, Fact<EndpointView>>,
    /// The certificates.
    pub certificates: HashMap<CertificateId, HeldCertificate>,
}

/// News for the user.
#[derive(Debug, Clone, PartialEq)]
pub enum News {
    /// A check was made.
    Checked {
        /// Which.
        check: CheckId,
        /// How long it took, where it passed.
        took: Option<Duration>,
    },
    /// The verdict of a check has changed.
    Verdict {
        /// Which.
        check: CheckId,
        /// What it was.
        from: Verdict,
        /// What it is.
        to: Verdict,
    },
    /// What an alias gives, and why.
    Gives {
        /// Whose.
        id: HostnameId,
        /// The endpoints.
        endpoints: Vec<EndpointId>,
        /// Why these.
        reason: Reason,
    },
    /// An alias gives something else.
    Switched(Box<Switched>),
    /// What keeps clients from the answer that is wanted.
    InTheWay {
        /// Whose.
        hostname: Hostname,
        /// What it is.
        finding: Finding,
        /// Whether something failed.
        failed: bool,
    },
    /// Something worth knowing that stops nothing, in one sentence.
    Note(String),
}

/// That an alias gives something else.
#[derive(Debug, Clone, PartialEq)]
pub struct Switched {
    /// Whose.
    pub hostname: Hostname,
    /// The names of the endpoints that it gave.
    pub from: Vec<String>,
    /// The names of those that it gives.
    pub to: Vec<String>,
    /// Why; `None` where only addresses of the same endpoints have changed.
    pub reason: Option<Reason>,
    /// When the first failure was seen that led to it.
    pub seen: Option<Timestamp>,
    /// When it was decided.
    pub decided: Timestamp,
    /// When the zone's primary had it.
    pub primary: Option<Timestamp>,
    /// When every server that answers was seen to have it.
    pub everywhere: Timestamp,
    /// When no cache gives the old answer any longer.
    pub until: Option<Timestamp>,
}
