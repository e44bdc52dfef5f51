//! What the machine asks and tells the state, each within its time: a state that hangs, or is away, holds up no check and
//! no end.

use std::collections::{HashMap, HashSet};
use std::sync::Arc;
use std::time::Duration;

use futures::{StreamExt as _, stream};
use jiff::{SignedDuration, Timestamp};
use pindrel_core::desired::{CertificateId, CheckId, Desired, EndpointId, HostnameId};
use pindrel_core::judging::facts::Drained;
use pindrel_core::keep::{Answer, DueSubject, Event, LoadedManifest, Question, Recalled, Subject};
use pindrel_state::{DueRow, HostnameRow, State, StateError};
use tokio::sync::Mutex;

use super::{COMMAND, Ended, Held, RunContext, guarded};
use crate::drivers::{Trusted, within};
use crate::failure::EngineError;
use crate::health::{drained, issuer, store};

/// How long the state may take for one answer, and for what checks found.
const ANSWERED_WITHIN: Duration = Duration::from_secs(5);
const STORED_WITHIN: Duration = Duration::from_secs(30);
/// How long thinning may take, and loading a manifest.
const THINNED_WITHIN: Duration = Duration::from_secs(600);
/// How many reads of the state are under way at once.
const READS_AT_ONCE: usize = 16;
/// How many rows of what is due are read at once, and at most: others may be of another manifest.
const PAGE: u32 = 5_000;
const MOST_PAGES: usize = 50;
/// For how long what is taken is nobody else's: longer than a pass that takes its time.
const TAKEN_FOR: SignedDuration = SignedDuration::from_mins(15);

/// The claims on checks.
#[derive(Default)]
pub(super) struct Claims(Mutex<HashMap<CheckKey, Held>>);

/// The name of a check.
type CheckKey = String;

impl Claims {
    /// Claims those of some checks that nobody else makes, and gives back all others; returns those that are claimed.
    async fn claim(
        &self,
        context: &RunContext,
        desired: &Desired,
        ids: &[CheckId],
    ) -> Result<HashSet<CheckId>, StateError> {
        let mut claims = self.0.lock().await;
        let wanted: HashMap<CheckKey, CheckId> =
            ids.iter().map(|id| (format!("check {}", desired.check(*id).name), *id)).collect();
        claims.retain(|key, held| wanted.contains_key(key) && !held.is_lost());
        let free: Vec<CheckKey> = wanted.keys().filter(|key| !claims.contains_key(*key)).cloned().collect();
        let leases = &context.home.leases;
        leases.give_back_left().await;
        if !free.is_empty() {
            for held in leases.claim_free(free, COMMAND, &context.clock).await? {
                claims.insert(held.key().to_owned(), held);
            }
        }
        Ok(claims.keys().filter_map(|key| wanted.get(key).copied()).collect())
    }
}

/// Loads what was concluded by the checks of a manifest, and what is known of what follows them.
pub(super) async fn load(
    context: &RunContext,
    claims: &Claims,
    desired: Arc<Desired>,
) -> Result<(LoadedManifest, HashMap<CertificateId, Trusted>), EngineError> {
    let engine = context.engine(&desired, Arc::new(()), context.bounds).await?;
    let ids: Vec<CheckId> = desired.check_ids().collect();
    engine.health.load().await?;
    engine.health.look_at_endpoints(&ids).await?;
    let issuers = desired.checks.iter().filter_map(issuer).collect();
    let trusted = engine.health.trusted_issuers(issuers).await?;
    for id in desired.hostname_ids().filter(|id| desired.hostname(*id).follows_checks(&desired)) {
        engine.surveyor.load_once(id).await?;
    }
    let made: Vec<CheckId> = ids.into_iter().filter(|id| desired.check(*id).combination().is_none()).collect();
    let claimed = claims.claim(context, &desired, &made).await?;
    let known = engine.context.known().clone();
    Ok((LoadedManifest { desired, known, claimed }, trusted))
}

/// Answers a question of the machine; what the state does not say in time is missing.
pub(super) async fn answer(
    context: Arc<RunContext>,
    claims: Arc<Claims>,
    desired: Arc<Desired>,
    generation: u64,
    question: Question,
) -> Ended {
    let answer = match question {
        Question::Load(next) => return loaded(&context, &claims, next).await,
        Question::Recall(ids) => {
            let said = recall(&context, &desired, &ids).await;
            Answer::Recalled { ids, said }
        }
        Question::Drained => {
            let asking = async {
                context.replay_switches().await?;
                Ok::<_, EngineError>(read_drained(&context, &desired).await?)
            };
            Answer::Drained(
                in_time(&context, ANSWERED_WITHIN, "which endpoints are drained is not known", asking).await,
            )
        }
        Question::Due(most) => {
            let asking = take_due(&context, &desired, most);
            Answer::Due(in_time(&context, ANSWERED_WITHIN, "what is due is not known", asking).await)
        }
        Question::Claim(ids) => {
            let asking = claims.claim(&context, &desired, &ids);
            let unknown = "which checks other processes make is not known";
            Answer::Claimed(in_time(&context, ANSWERED_WITHIN, unknown, asking).await)
        }
        Question::Postpone(rows) => {
            let storing = persist_due(&context, &desired, &rows);
            let stored = in_time(&context, ANSWERED_WITHIN, "what is due next cannot be stored", storing).await;
            Answer::Postponed(if stored.is_some() { Vec::new() } else { rows })
        }
        Question::Store(mut unstored) => {
            let storing = store(&mut unstored, &*context.home.state);
            in_time(&context, STORED_WITHIN, "what checks found cannot be stored", storing).await;
            Answer::Stored(unstored)
        }
        Question::Thin => {
            let thinning = async {
                let engine = context.engine(&desired, Arc::new(()), context.bounds).await?;
                engine.health.thin_checks().await
            };
            in_time(&context, THINNED_WITHIN, "what is stored of checks cannot be thinned", thinning).await;
            Answer::Thinned
        }
    };
    Event::Answered { generation, answer }.into()
}

/// What the state says within its time. Where it says nothing, `problem` is logged.
async fn in_time<T, E: std::fmt::Display>(
    context: &RunContext,
    limit: Duration,
    problem: &'static str,
    asking: impl Future<Output = Result<T, E>>,
) -> Option<T> {
    let answer = guarded("a question to the state", within(&*context.clock, limit, asking)).await.flatten();
    match answer {
        Some(answer) => answer.inspect_err(|error| tracing::warn!(%error, "{problem}")).ok(),
        None => {
            tracing::warn!("{problem}: the state does not answer");
            None
        }
    }
}

async fn loaded(context: &RunContext, claims: &Claims, desired: Arc<Desired>) -> Ended {
    let loading = within(&*context.clock, THINNED_WITHIN, load(context, claims, desired));
    match guarded("loading a manifest", loading).await.flatten() {
        Some(Ok((loaded, trusted))) => Ended { event: Event::ManifestLoaded(Ok(Box::new(loaded))), trusted },
        Some(Err(error)) => Event::ManifestLoaded(Err(error.to_string())).into(),
        None => Event::ManifestLoaded(Err(EngineError::Fault.to_string())).into(),
    }
}

async fn recall(context: &RunContext, desired: &Desired, ids: &[HostnameId]) -> Vec<Recalled> {
    let mut said = Vec::with_capacity(ids.len());
    let state = &*context.home.state;
    let replaying = context.replay_switches();
    let problem = "what was switched meanwhile cannot be stored";
    if in_time(context, ANSWERED_WITHIN, problem, replaying).await.is_none() {
        return said;
    }
    let mut reads = stream::iter(ids.to_vec()).map(|id| recall_one(desired, state, id)).buffer_unordered(READS_AT_ONCE);
    let reading = async {
        while let Some(read) = reads.next().await {
            match read {
                Ok(read) => said.push(read),
                Err(error) => tracing::warn!(%error, "the state does not say what is known of a hostname"),
            }
        }
    };
    let _ = guarded("a question to the state", within(&*context.clock, ANSWERED_WITHIN, reading)).await;
    drop(reads);
    said
}

async fn recall_one(desired: &Desired, state: &dyn State, id: HostnameId) -> Result<Recalled, StateError> {
    let wanted = desired.hostname(id);
    let row = state.hostname(&wanted.hostname).await?;
    let own = row.map(HostnameRow::into_known);
    let certificate = state.certificate(&desired.certificate(wanted.certificate).name).await?.map(|row| row.held);
    let mut endpoints = Vec::new();
    for endpoint in wanted.endpoints() {
        if let Some(fact) = state.endpoint(&desired.endpoint(endpoint).key()).await? {
            endpoints.push((endpoint, fact));
        }
    }
    Ok(Recalled { id, own, certificate, endpoints })
}

async fn read_drained(context: &RunContext, desired: &Desired) -> Result<HashMap<EndpointId, Drained>, StateError> {
    let holds = context.home.state.endpoint_holds().await?;
    let now = context.clock.now();
    Ok(drained(desired, holds.into_iter().filter(|hold| hold.is_in_force(now))))
}

/// The hostnames and certificates of a manifest by the names under which they are due.
fn subjects(desired: &Desired) -> HashMap<String, Subject> {
    let hostnames = desired.hostname_ids().map(Subject::Hostname);
    let certificates = desired.unused_certificates().into_iter().map(Subject::Certificate);
    hostnames.chain(certificates).map(|subject| (subject_name(desired, subject), subject)).collect()
}

fn subject_name(desired: &Desired, subject: Subject) -> String {
    match subject {
        Subject::Hostname(id) => format!("hostname {}", desired.hostname(id).hostname),
        Subject::Certificate(id) => format!("certificate {}", desired.certificate(id).name),
    }
}

async fn take_due(context: &RunContext, desired: &Desired, most: usize) -> Result<Vec<DueSubject>, StateError> {
    let (state, now) = (&*context.home.state, context.clock.now());
    let mut wanted: Vec<DueRow> = Vec::new();
    let mut page = state.due(now, None, PAGE).await?;
    if page.is_empty() {
        return Ok(Vec::new());
    }
    let known = subjects(desired);
    for _ in 0..MOST_PAGES {
        let last = page.last().cloned();
        let is_last = page.len() < PAGE as usize;
        wanted.extend(page.into_iter().filter(|row| known.contains_key(&row.subject)));
        if is_last || wanted.len() >= most {
            break;
        }
        page = state.due(now, last.as_ref(), PAGE).await?;
    }
    wanted.truncate(most);
    let until = now.checked_add(TAKEN_FOR).unwrap_or(Timestamp::MAX);
    let taken = state.take_due(wanted, until).await?;
    let due = taken.into_iter().filter_map(|DueRow { subject, next, failures }| {
        Some(DueSubject { subject: *known.get(&subject)?, next, failures })
    });
    Ok(due.collect())
}

async fn persist_due(context: &RunContext, desired: &Desired, rows: &[DueSubject]) -> Result<(), StateError> {
    let rows = rows.iter().map(|due| DueRow {
        subject: subject_name(desired, due.subject),
        next: due.next,
        failures: due.failures,
    });
    context.home.state.persist_due(&rows.collect::<Vec<_>>()).await
}
