//! An ACME authority: what it is asked and what it answers are RFC 8555's messages.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::time::Duration;

use jiff::{SignedDuration, Timestamp};
use pindrel_core::certificates::acme::account::AccountStatus;
use pindrel_core::certificates::acme::jws::{Payload, dns01_text};
use pindrel_core::certificates::acme::objects::{Directory, DirectoryMeta};
use pindrel_core::certificates::acme::order::{ChallengeRecord, Reply};
use pindrel_core::certificates::acme::problem::Problem;
use pindrel_core::names::name::Hostname;
use pindrel_core::values::Ttl;
use pindrel_core::zones::records::ZoneRecord;
use rcgen::{
    BasicConstraints, CertificateParams, CertificateSigningRequestParams, DnType, IsCa, Issuer, KeyPair, SerialNumber,
};
use serde_json::{Value, json};

/// The directory URL.
pub const DIRECTORY: &str = "https://authority.test/directory";

/// How long certificates live.
#[derive(Debug, Clone, Copy)]
pub struct Life(pub Duration);

/// What the authority does wrong.
#[derive(Debug, Clone, Default)]
pub struct AuthorityFaults {
    /// It does not answer.
    pub down: bool,
    /// It refuses new orders until then, as rate-limited.
    pub limited_until: Option<Timestamp>,
    /// Names that it cannot validate.
    pub invalid: BTreeSet<String>,
    /// How many of a hundred validations fail, by a die that falls the same each time.
    pub failures_percent: u64,
    /// The answer to the next order is lost on its way.
    pub lose_next_answer: bool,
}

struct MemoryOrder {
    account: String,
    names: Vec<Hostname>,
    /// The thumbprint with which challenges are answered, and when they were.
    responded: HashMap<usize, (String, Duration)>,
    /// Whether each name was validated, once that is over.
    validated: HashMap<usize, bool>,
    deactivated: BTreeSet<usize>,
    finalized: Option<(Vec<u8>, Duration)>,
    chain: Option<String>,
}

pub(crate) struct MemoryAuthority {
    issuer: Issuer<'static, KeyPair>,
    pub(crate) root: String,
    pub(crate) directory: Directory,
    /// The URLs of all accounts, by the thumbprints of their keys.
    pub(crate) accounts: BTreeMap<String, String>,
    /// How often all of them were forgotten.
    forgotten: usize,
    orders: Vec<MemoryOrder>,
    pub(crate) life: Life,
    /// How long those live whose first name begins so.
    pub(crate) lives: Vec<(String, Life)>,
    pub(crate) requests: usize,
    /// When each certificate was issued, with its first name.
    pub(crate) issued: Vec<(Timestamp, Hostname)>,
    /// The accounts that certificates were revoked by; none where the certificate's own key signed.
    pub(crate) revoked: Vec<Option<String>>,
    /// When each order was made.
    pub(crate) ordered: Vec<(Timestamp, Vec<Hostname>)>,
}

/// What the authority sees when it validates.
pub(crate) trait Validation {
    fn all_servers_have(&self, record: &ZoneRecord) -> bool;
}

fn problem(error: &str, detail: &str, status: u16) -> Problem {
    let kind = format!("urn:ietf:params:acme:error:{error}");
    Problem { kind: kind.into(), detail: detail.into(), status: Some(status), ..Problem::default() }
}

impl MemoryAuthority {
    pub(crate) fn new() -> MemoryAuthority {
        let made = || {
            let mut params = CertificateParams::new(Vec::new())?;
            params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
            params.distinguished_name.push(DnType::CommonName, "Larkfield Test Root");
            let key = KeyPair::generate()?;
            let root = params.self_signed(&key)?.pem();
            Ok::<_, rcgen::Error>((Issuer::new(params, key), root))
        };
        let (issuer, root) = made().unwrap_or_else(|error| panic!("no root: {error}"));
        let url = |path: &str| format!("https://authority.test/{path}");
        let directory = Directory {
            new_nonce: url("nonce"),
            new_account: url("account"),
            new_order: url("order"),
            revoke_cert: Some(url("revoke")),
            key_change: None,
            renewal_info: None,
            meta: DirectoryMeta::default(),
        };
        let life = Life(Duration::from_secs(90 * 86_400));
        MemoryAuthority {
            issuer,
            root,
            directory,
            accounts: BTreeMap::new(),
            forgotten: 0,
            orders: Vec::new(),
            life,
            lives: Vec::new(),
            requests: 0,
            issued: Vec::new(),
            revoked: Vec::new(),
            ordered: Vec::new(),
        }
    }

    /// Opens the account of a key, or finds it.
    pub(crate) fn account(&mut self, thumbprint: String, make: bool) -> Option<(String, AccountStatus)> {
        self.requests += 1;
        let number = self.accounts.len() + 1;
        let url = match self.accounts.get(&thumbprint) {
            Some(url) => url.clone(),
            None if make => {
                let url = format!("https://authority.test/account/{}-{number}", self.forgotten);
                self.accounts.insert(thumbprint, url.clone());
                url
            }
            None => return None,
        };
        Some((url, AccountStatus::Valid))
    }

    /// Refuses who has no account (RFC 8555 §6.2).
    pub(crate) fn check_account(&self, url: &str) -> Result<(), Problem> {
        let known = self.accounts.values().any(|known| known == url);
        if known { Ok(()) } else { Err(problem("accountDoesNotExist", "there is no such account", 400)) }
    }

    /// Forgets all accounts, as an authority does that was set up anew.
    pub(crate) fn forget_accounts(&mut self) {
        self.accounts.clear();
        self.forgotten += 1;
    }

    pub(crate) fn order_urls(&mut self, account: &str) -> Vec<String> {
        self.requests += 1;
        let own = self.orders.iter().enumerate().filter(|(_, order)| order.account == account);
        own.map(|(number, _)| format!("https://authority.test/order/{number}")).collect()
    }

    #[expect(clippy::too_many_arguments, reason = "all that a request depends on")]
    pub(crate) fn answer(
        &mut self,
        account: &str,
        thumbprint: &str,
        url: Option<&str>,
        payload: &Payload,
        validation: &dyn Validation,
        faults: &AuthorityFaults,
        validate: Duration,
        (now, wall): (Duration, Timestamp),
    ) -> Result<Reply, Problem> {
        self.requests += 1;
        self.check_account(account)?;
        let posted = match payload {
            Payload::Json(value) => Some(value),
            Payload::PostAsGet => None,
        };
        let Some(url) = url else {
            return self.new_order(account, posted.unwrap_or(&Value::Null), faults, wall);
        };
        let path: Vec<&str> = url.trim_start_matches("https://authority.test/").split('/').collect();
        let number = path.get(1).and_then(|number| number.parse::<usize>().ok()).unwrap_or(usize::MAX);
        if number >= self.orders.len() {
            return Err(problem("malformed", "there is no such order", 404));
        }
        self.catch_up(number, validation, faults, validate, now, wall)?;
        let of = |index: Option<&&str>| index.and_then(|index| index.parse::<usize>().ok()).unwrap_or(0);
        match (path[0], posted) {
            ("order", _) => Ok(self.show_order(number)),
            ("authorization", posted) => {
                let index = of(path.get(2));
                if posted.is_some() {
                    self.orders[number].deactivated.insert(index);
                }
                Ok(self.show_authorization(number, index))
            }
            ("challenge", Some(_)) => {
                let index = of(path.get(2));
                let order = &mut self.orders[number];
                if order.responded.contains_key(&index) {
                    return Err(problem("malformed", "the challenge was answered already", 400));
                }
                order.responded.insert(index, (thumbprint.to_owned(), now));
                Ok(reply(&self.challenge(number, index), None))
            }
            ("finalize", Some(posted)) => {
                if self.status(number) != "ready" {
                    return Err(problem("orderNotReady", "the order is not ready", 403));
                }
                let csr = posted["csr"].as_str().and_then(decode).unwrap_or_default();
                self.orders[number].finalized = Some((csr, now));
                Ok(self.show_order(number))
            }
            ("certificate", _) => match &self.orders[number].chain {
                Some(chain) => Ok(Reply { body: chain.clone().into_bytes(), ..Reply::default() }),
                None => Err(problem("malformed", "there is no certificate yet", 404)),
            },
            _ => Err(problem("malformed", "there is nothing here", 404)),
        }
    }

    fn new_order(
        &mut self,
        account: &str,
        posted: &Value,
        faults: &AuthorityFaults,
        wall: Timestamp,
    ) -> Result<Reply, Problem> {
        if let Some(until) = faults.limited_until.filter(|until| *until > wall) {
            let limited = problem("rateLimited", "too many orders of this account", 429);
            return Err(Problem { retry_at: Some(until), ..limited });
        }
        let identifiers = posted["identifiers"].as_array().cloned().unwrap_or_default();
        let names: Vec<Hostname> =
            identifiers.iter().filter_map(|identifier| identifier["value"].as_str()?.parse().ok()).collect();
        self.ordered.push((wall, names.clone()));
        self.orders.push(MemoryOrder {
            account: account.to_owned(),
            names,
            responded: HashMap::new(),
            validated: HashMap::new(),
            deactivated: BTreeSet::new(),
            finalized: None,
            chain: None,
        });
        let number = self.orders.len() - 1;
        let shown = self.show_order(number);
        Ok(Reply { location: Some(format!("https://authority.test/order/{number}")), ..shown })
    }

    /// Does what has become due: validations, and the certificate.
    fn catch_up(
        &mut self,
        number: usize,
        validation: &dyn Validation,
        faults: &AuthorityFaults,
        validate: Duration,
        now: Duration,
        wall: Timestamp,
    ) -> Result<(), Problem> {
        for index in 0..self.orders[number].names.len() {
            let order = &self.orders[number];
            let Some((thumbprint, at)) = order.responded.get(&index) else { continue };
            if order.validated.contains_key(&index) || *at + validate > now {
                continue;
            }
            let name = &order.names[index];
            let text = dns01_text(&token(number, index), thumbprint);
            let record = ChallengeRecord { name: name.challenge_name(), text }.in_zone(Ttl::CHALLENGE);
            let unlucky = dice(number as u64, index as u64) % 100 < faults.failures_percent;
            let valid = validation.all_servers_have(&record) && !unlucky && !faults.invalid.contains(name.as_str());
            self.orders[number].validated.insert(index, valid);
        }
        let due = self.orders[number].finalized.as_ref().is_some_and(|(_, at)| *at + validate <= now);
        if due && self.orders[number].chain.is_none() {
            let csr = self.orders[number].finalized.as_ref().map(|(csr, _)| csr.clone()).unwrap_or_default();
            let chain = self.issue(&csr, number, wall);
            let chain = chain.map_err(|error| problem("badCSR", &error.to_string(), 400))?;
            self.orders[number].chain = Some(chain);
            self.issued.push((wall, self.orders[number].names[0].clone()));
        }
        Ok(())
    }

    pub(crate) fn issue(&self, csr: &[u8], number: usize, wall: Timestamp) -> Result<String, rcgen::Error> {
        let mut csr = CertificateSigningRequestParams::from_der(&csr.to_vec().into())?;
        let at = |moment: Timestamp| {
            let secs = u64::try_from(moment.as_second()).unwrap_or_default();
            rcgen::date_time_ymd(1970, 1, 1) + Duration::from_secs(secs)
        };
        let first = csr.params.subject_alt_names.first().and_then(|name| match name {
            rcgen::SanType::DnsName(name) => Some(name.as_str().to_owned()),
            _ => None,
        });
        let special = self.lives.iter().find(|(begin, _)| first.as_ref().is_some_and(|name| name.starts_with(begin)));
        let life = special.map_or(self.life, |(_, life)| *life);
        let life = SignedDuration::try_from(life.0).unwrap_or(SignedDuration::MAX);
        csr.params.not_before = at(wall);
        csr.params.not_after = at(wall.checked_add(life).unwrap_or(Timestamp::MAX));
        csr.params.serial_number = Some(SerialNumber::from(number as u64 + 1));
        let leaf = csr.signed_by(&self.issuer)?;
        Ok(leaf.pem())
    }

    fn status(&self, number: usize) -> &'static str {
        let order = &self.orders[number];
        let all = |valid: bool| (0..order.names.len()).all(|index| order.validated.get(&index) == Some(&valid));
        if order.validated.values().any(|valid| !valid) {
            "invalid"
        } else if order.chain.is_some() {
            "valid"
        } else if order.finalized.is_some() {
            "processing"
        } else if all(true) {
            "ready"
        } else {
            "pending"
        }
    }

    fn show_order(&self, number: usize) -> Reply {
        let order = &self.orders[number];
        let url = |kind: &str| format!("https://authority.test/{kind}/{number}");
        let identifiers: Vec<Value> =
            order.names.iter().map(|name| json!({ "type": "dns", "value": name.as_str() })).collect();
        let authorizations: Vec<String> =
            (0..order.names.len()).map(|index| format!("{}/{index}", url("authorization"))).collect();
        let mut shown = json!({
            "status": self.status(number), "identifiers": identifiers, "authorizations": authorizations,
            "finalize": url("finalize"),
        });
        if order.chain.is_some() {
            shown["certificate"] = url("certificate").into();
        }
        reply(&shown, None)
    }

    fn authorization_status(&self, number: usize, index: usize) -> &'static str {
        let order = &self.orders[number];
        match order.validated.get(&index) {
            _ if order.deactivated.contains(&index) => "deactivated",
            Some(true) => "valid",
            Some(false) => "invalid",
            None => "pending",
        }
    }

    fn challenge(&self, number: usize, index: usize) -> Value {
        let status = match self.authorization_status(number, index) {
            "pending" if self.orders[number].responded.contains_key(&index) => "processing",
            "deactivated" => "pending",
            status => status,
        };
        let mut challenge = json!({
            "type": "dns-01", "status": status, "token": token(number, index),
            "url": format!("https://authority.test/challenge/{number}/{index}"),
        });
        if status == "invalid" {
            let detail = "the TXT record was not found";
            challenge["error"] = json!({ "type": "urn:ietf:params:acme:error:dns", "detail": detail });
        }
        challenge
    }

    fn show_authorization(&self, number: usize, index: usize) -> Reply {
        let name = &self.orders[number].names[index];
        let shown = json!({
            "status": self.authorization_status(number, index),
            "identifier": { "type": "dns", "value": name.base() },
            "wildcard": name.is_wildcard(),
            "challenges": [self.challenge(number, index)],
        });
        reply(&shown, None)
    }
}

fn reply(body: &Value, retry_at: Option<Timestamp>) -> Reply {
    Reply { retry_at, body: body.to_string().into_bytes(), ..Reply::default() }
}

fn token(number: usize, index: usize) -> String {
    format!("token-{number}-{index}")
}

fn decode(text: &str) -> Option<Vec<u8>> {
    use base64::Engine as _;
    base64::engine::general_purpose::URL_SAFE_NO_PAD.decode(text).ok()
}

/// A number that looks random and is the same on every run.
fn dice(one: u64, two: u64) -> u64 {
    let mut mixed = one.wrapping_mul(0x9e37_79b9_7f4a_7c15) ^ two.wrapping_mul(0xbf58_476d_1ce4_e5b9) ^ 0x94d0;
    for _ in 0..3 {
        mixed ^= mixed >> 31;
        mixed = mixed.wrapping_mul(0x94d0_49bb_1331_11eb);
    }
    mixed
}
