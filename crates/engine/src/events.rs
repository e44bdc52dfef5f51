//! What a run reports while it is under way: the one contract between work and output.

use std::collections::BTreeMap;
use std::time::Duration;

use jiff::Timestamp;
use pindrel_core::health::{CheckRecord, Verdict};
use pindrel_core::judging::findings::{Code, Finding, Words};
use pindrel_core::judging::pins::{Pin, PinState};
use pindrel_core::names::name::Hostname;
use serde::{Serialize, Serializer};

/// Something that happened. Each is one JSON object a line with `--format json`.
#[derive(Debug, Clone, PartialEq, Serialize)]
#[serde(tag = "event", rename_all = "snake_case")]
pub enum Event {
    /// The world is looked at.
    Looking {
        /// How many hostnames are looked at; the others are known to be held.
        hostnames: usize,
        /// How many there are in all.
        total: usize,
    },
    /// The steps are decided.
    Planned {
        /// How many there are.
        steps: usize,
    },
    /// A step has begun.
    StepStarted {
        /// Its number.
        id: u32,
        /// The first hostname that needs it.
        hostname: Hostname,
        /// What it does.
        action: &'static str,
        /// What it does it to.
        target: String,
    },
    /// A step has succeeded.
    StepEnded {
        /// Its number.
        id: u32,
        /// The first hostname that needs it.
        hostname: Hostname,
        /// What it did.
        action: &'static str,
        /// What it did it to.
        target: String,
        /// How long it took.
        seconds: f64,
    },
    /// A step has failed; the steps that need it are left out.
    StepFailed {
        /// Its number.
        id: u32,
        /// The first hostname that needs it.
        hostname: Hostname,
        /// What it did.
        action: &'static str,
        /// What it did it to.
        target: String,
        /// What went wrong, and what to do.
        #[serde(flatten, serialize_with = "code_says_and_remedy")]
        finding: Finding,
    },
    /// A step is put off to a later run; the steps that need it are left out.
    StepPutOff {
        /// Its number.
        id: u32,
        /// The first hostname that needs it.
        hostname: Hostname,
        /// What it does.
        action: &'static str,
        /// What it does it to.
        target: String,
        /// What it waits for.
        #[serde(flatten, serialize_with = "code_and_says")]
        finding: Finding,
        /// When to look again, where that is known.
        #[serde(skip_serializing_if = "Option::is_none")]
        next: Option<Timestamp>,
    },
    /// A step waits for the world.
    Waiting {
        /// The first hostname that needs it.
        hostname: Hostname,
        /// What it does.
        action: &'static str,
        /// What it waits for.
        what: String,
        /// When the wait is over at the latest.
        #[serde(skip_serializing_if = "Option::is_none")]
        until: Option<Timestamp>,
    },
    /// How the pins of a hostname stand now.
    Pins {
        /// The hostname.
        hostname: Hostname,
        /// The state of each.
        pins: BTreeMap<Pin, PinState>,
    },
    /// A pin of a hostname stands otherwise than before.
    Changed {
        /// The hostname.
        hostname: Hostname,
        /// The pin.
        pin: Pin,
        /// How it stood: when it was last reported, or by what was stored.
        from: PinState,
        /// How it stands.
        to: PinState,
    },
    /// A hostname that no step can bring further.
    Stuck {
        /// The hostname.
        hostname: Hostname,
        /// Whether something failed; else a person is needed.
        failed: bool,
        /// What is wrong, and what to do.
        #[serde(flatten, serialize_with = "code_says_and_remedy")]
        finding: Finding,
        /// When trying again is worth while, where that is known.
        #[serde(skip_serializing_if = "Option::is_none")]
        next: Option<Timestamp>,
    },
    /// Something is still there of a hostname that the manifest no longer names.
    LeftOver {
        /// The hostname.
        hostname: Hostname,
        /// What is there.
        what: Vec<LeftoverKind>,
        /// The same in one sentence, and what to do.
        #[serde(flatten, serialize_with = "code_says_and_remedy")]
        finding: Finding,
    },
    /// The verdict of a health check has changed.
    Verdict {
        /// The check's name.
        check: String,
        /// The endpoint that it looks at.
        #[serde(skip_serializing_if = "Option::is_none")]
        endpoint: Option<String>,
        /// What it was.
        from: Verdict,
        /// What it is.
        to: Verdict,
        /// What failed last, in one sentence, where it is down.
        #[serde(skip_serializing_if = "Option::is_none")]
        says: Option<String>,
        /// When.
        at: Timestamp,
    },
    /// What the alias of a hostname with several endpoints gives, where that or its reason is another than was
    /// told last.
    Gives {
        /// The hostname.
        hostname: Hostname,
        /// The endpoints.
        endpoints: Vec<String>,
        /// Why these.
        why: String,
    },
    /// An alias gives other endpoints than before.
    Switched {
        /// The hostname.
        hostname: Hostname,
        /// The endpoints that it gave.
        from: Vec<String>,
        /// The endpoints that it gives.
        to: Vec<String>,
        /// Why.
        why: String,
        /// When the first failure was seen that led to it, where a failure did.
        #[serde(skip_serializing_if = "Option::is_none")]
        seen: Option<Timestamp>,
        /// When it was decided.
        decided: Timestamp,
        /// When the zone's primary had it.
        #[serde(skip_serializing_if = "Option::is_none")]
        primary: Option<Timestamp>,
        /// When every server of the zone that answers was seen to have it.
        everywhere: Timestamp,
        /// When no cache gives the old answer any longer.
        #[serde(skip_serializing_if = "Option::is_none")]
        until: Option<Timestamp>,
    },
    /// Something worth knowing that stops nothing.
    Note {
        /// What, in one sentence.
        says: String,
    },
    /// A pass of a process that runs on has ended.
    Passed(Summary),
    /// The run is over; always the last event.
    Summary(Summary),
}

/// Writes a finding as its code, its sentence and its remedy.
fn code_says_and_remedy<S: Serializer>(finding: &Finding, serializer: S) -> Result<S::Ok, S::Error> {
    #[derive(Serialize)]
    struct Told {
        code: Code,
        says: String,
        remedy: String,
    }
    // Events come from a run, which has already tried what another run of settle could mend.
    let Words { says, remedy, .. } = finding.words().after_settle();
    Told { code: finding.code(), says, remedy }.serialize(serializer)
}

/// Writes a finding as its code and its sentence.
fn code_and_says<S: Serializer>(finding: &Finding, serializer: S) -> Result<S::Ok, S::Error> {
    #[derive(Serialize)]
    struct Told {
        code: Code,
        says: String,
    }
    Told { code: finding.code(), says: finding.says() }.serialize(serializer)
}

/// What came of a run.
#[derive(Debug, Clone, Default, PartialEq, Serialize)]
pub struct Summary {
    /// How many hostnames are held, with the certificates that none of them uses.
    pub held: usize,
    /// How many there are.
    pub total: usize,
    /// How many of these are certificates that no hostname uses.
    pub certificates: usize,
    /// For how many something failed.
    pub failed: usize,
    /// How many go on with a later run, and nothing failed for them.
    pub waiting: usize,
    /// How many hostnames that the manifest no longer names have something left.
    pub leftovers: usize,
    /// Of how many hostnames that the manifest no longer names all was taken away.
    pub retired: usize,
    /// How many steps succeeded.
    pub steps: usize,
    /// How many there were.
    pub planned: usize,
    /// How long the run took.
    pub seconds: f64,
    /// For how much of that nothing could be done but wait.
    pub waited_seconds: f64,
    /// How many signed requests went to authorities.
    pub acme_requests: u64,
    /// How many of them only asked again whether something had changed.
    pub acme_waiting_requests: u64,
    /// How many orders were lost because their answer never came.
    pub lost_orders: u64,
}

/// Receives the events of a run, from several threads; must not block for long.
pub trait Listener: Send + Sync {
    /// Takes one event.
    fn on(&self, event: Event);

    /// Takes note that the loop of a process that runs on has turned: it does what is due, and waits for nothing else.
    fn on_turn(&self) {}

    /// Takes note of one check that was made, of which there may be hundreds a second: its name, what it has
    /// concluded, and how long it took where it passed.
    fn on_check(&self, _check: &str, _record: &CheckRecord, _took: Option<Duration>) {}
}

/// Takes no notice.
impl Listener for () {
    fn on(&self, _event: Event) {}
}

/// What can be left over of a hostname.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum LeftoverKind {
    /// Its alias records.
    Alias,
    /// Its binding at an endpoint.
    Binding,
    /// Its certificate, valid still.
    Certificate,
}

impl LeftoverKind {
    /// Returns the word for it.
    pub fn as_str(self) -> &'static str {
        match self {
            LeftoverKind::Alias => "alias",
            LeftoverKind::Binding => "binding",
            LeftoverKind::Certificate => "certificate",
        }
    }
}
