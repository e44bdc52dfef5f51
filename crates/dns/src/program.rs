//! Changing a zone through a program that speaks for its name server: one process and one line of JSON each way for a
//! call. `docs/zone-program.md` describes the messages.

use std::path::PathBuf;
use std::time::Duration;

use async_trait::async_trait;
use pindrel_core::names::name::DnsName;
use pindrel_core::text::sent_secrets::SentSecrets;
use pindrel_core::zones::zone_data::{NameKey, Place, TypeCode, ZoneBuilder, ZoneData, rdata};
use pindrel_core::zones::zone_file::read_data;
use pindrel_machine::Program;
use secrecy::{ExposeSecret as _, SecretString};
use serde::{Deserialize, Serialize};
use tokio::sync::OnceCell;

use crate::driver::ZoneDriver;
use crate::sets::SetChange;
use crate::zone_error::ZoneError;

/// The version of the messages.
const VERSION: u32 = 1;
/// How long a call may take unless the program says otherwise, and how long it may say.
const PATIENCE: Duration = Duration::from_secs(60);
const LONGEST_PATIENCE: u64 = 600;
/// The longest reply that is read, in bytes.
const MAX_REPLY: usize = 64 << 20;

/// A program that speaks for the name server of a zone.
#[derive(Debug)]
pub struct ZoneProgram {
    zone: DnsName,
    /// The program and its arguments.
    words: Vec<String>,
    /// The folder that it is run in.
    folder: PathBuf,
    /// What it is given to sign in with.
    token: Option<SecretString>,
    /// What the program must not be shown to have said.
    sent: SentSecrets,
    abilities: OnceCell<Abilities>,
}

/// What a program says of the name server that it speaks for.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub struct Abilities {
    /// Whether a change is made only where the records are what is expected, in one step; else Pindrel reads them
    /// before, and somebody else's change in between may be lost.
    #[serde(default)]
    pub conditional: bool,
    /// The least and the greatest TTL that it takes, in seconds.
    #[serde(default)]
    pub least_ttl: Option<u32>,
    /// See there.
    #[serde(default)]
    pub greatest_ttl: Option<u32>,
    /// How many records of one name and type it takes.
    #[serde(default)]
    pub records_per_set: Option<usize>,
    /// How long a call may take, in seconds.
    #[serde(default)]
    pub seconds: Option<u64>,
}

#[derive(Serialize)]
struct Request<'r> {
    version: u32,
    #[serde(rename = "do")]
    action: &'static str,
    zone: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    token: Option<&'r str>,
    #[serde(skip_serializing_if = "Option::is_none")]
    names: Option<Vec<String>>,
    #[serde(skip_serializing_if = "Option::is_none")]
    sets: Option<Vec<SetMessage>>,
}

/// One set to be changed.
#[derive(Serialize)]
struct SetMessage {
    name: String,
    #[serde(rename = "type")]
    record_type: String,
    expected: Vec<String>,
    ttl: u32,
    wanted: Vec<String>,
}

#[derive(Deserialize)]
struct RecordMessage {
    name: String,
    #[serde(rename = "type")]
    record_type: String,
    ttl: u32,
    data: String,
}

#[derive(Deserialize)]
struct ErrorMessage {
    is: String,
    says: String,
    #[serde(default)]
    remedy: String,
}

#[derive(Deserialize)]
struct Response<T> {
    #[serde(default)]
    error: Option<ErrorMessage>,
    #[serde(flatten)]
    content: Option<T>,
}

#[derive(Deserialize)]
struct Records {
    records: Vec<RecordMessage>,
}

#[derive(Deserialize)]
struct Done {
    done: bool,
}

impl ZoneProgram {
    /// Makes a driver that speaks through a program, which is run in `folder`.
    pub fn new(zone: DnsName, words: Vec<String>, folder: PathBuf, token: Option<SecretString>) -> ZoneProgram {
        let sent = token.iter().map(|token| token.expose_secret()).collect();
        ZoneProgram { zone, words, folder, token, sent, abilities: OnceCell::new() }
    }

    /// Asks the program what its name server can do.
    ///
    /// # Errors
    /// [`ZoneError`].
    pub async fn abilities(&self) -> Result<&Abilities, ZoneError> {
        let ask = || self.call::<Abilities>("describe", None, None, PATIENCE);
        self.abilities.get_or_try_init(ask).await
    }

    fn broken(&self, why: impl std::fmt::Display) -> ZoneError {
        ZoneError::Unreachable {
            says: format!("{} gave no usable reply for {}: {why}", self.words.join(" "), self.zone),
            remedy: "Run `pindrel zone conformance` with this zone: it says what the program does wrong".into(),
        }
    }

    async fn call<T: for<'d> Deserialize<'d>>(
        &self,
        action: &'static str,
        names: Option<Vec<String>>,
        sets: Option<Vec<SetMessage>>,
        within: Duration,
    ) -> Result<T, ZoneError> {
        let token = self.token.as_ref().map(|token| token.expose_secret());
        let request = Request { version: VERSION, action, zone: format!("{}.", self.zone), token, names, sets };
        let mut line = serde_json::to_vec(&request).map_err(|error| self.broken(error))?;
        line.push(b'\n');
        let program = Program {
            words: &self.words,
            folder: Some(&self.folder),
            variables: &[],
            input: &line,
            most: MAX_REPLY,
            within,
        };
        let output = program.output().await.map_err(|says| self.broken(self.sent.shown(&says)))?;
        if output.len() > MAX_REPLY {
            return Err(self.broken(format!("it is longer than {} MiB", MAX_REPLY >> 20)));
        }
        self.read_reply(action, &output)
    }

    /// Reads what the program replied.
    fn read_reply<T: for<'d> Deserialize<'d>>(&self, action: &str, output: &[u8]) -> Result<T, ZoneError> {
        let response: Response<T> =
            serde_json::from_slice(output).map_err(|error| self.broken(self.sent.shown(&error.to_string())))?;
        if let Some(error) = response.error {
            let (says, remedy) = (self.sent.shown(&error.says), self.sent.shown(&error.remedy));
            return Err(match error.is.as_str() {
                "changed" => ZoneError::Changed { says, remedy },
                "refused" => ZoneError::Refused { says, remedy },
                "credential" => ZoneError::Credential { says, remedy },
                "unreachable" => ZoneError::Unreachable { says, remedy },
                other => self.broken(format!("it knows an error \"{}\": {says}", self.sent.shown(other))),
            });
        }
        response.content.ok_or_else(|| self.broken(format!("it lacks what \"{action}\" returns")))
    }

    async fn patience(&self) -> Result<Duration, ZoneError> {
        let seconds = self.abilities().await?.seconds;
        Ok(seconds.map_or(PATIENCE, |seconds| Duration::from_secs(seconds.clamp(1, LONGEST_PATIENCE))))
    }

    async fn read_some(&self, names: Option<&[DnsName]>) -> Result<ZoneData, ZoneError> {
        let within = self.patience().await?;
        let asked = names.map(|names| names.iter().map(|name| format!("{name}.")).collect());
        let Records { records } = self.call("read", asked, None, within).await?;
        self.zone_of(records)
    }

    /// Makes a zone of the records that the program knows.
    fn zone_of(&self, records: Vec<RecordMessage>) -> Result<ZoneData, ZoneError> {
        let (apex, root) = (NameKey::from(&self.zone), NameKey::root());
        let mut builder = ZoneBuilder::default();
        for RecordMessage { name, record_type, ttl, data } in records {
            let wrong = |why: String| {
                self.broken(format!("the record {} {}: {why}", self.sent.shown(&name), self.sent.shown(&record_type)))
            };
            let owner = NameKey::parse(name.as_bytes(), &root).map_err(|error| wrong(error.to_string()))?;
            if !owner.is_within(&apex) {
                return Err(wrong(format!("it does not lie in {}", self.zone)));
            }
            let code: TypeCode = record_type.parse().map_err(|()| wrong("no type has that name".into()))?;
            let wire = read_data(code, &data).map_err(|error| wrong(error.says))?;
            let added = builder.add(&owner, code, ttl, &wire, Place::default());
            added.map_err(|error| wrong(error.to_string()))?;
        }
        Ok(builder.finish(Some(apex)))
    }
}

/// Reads some octets as each of the replies that a program may give.
#[cfg(feature = "hostile")]
pub fn read_any(zone: &DnsName, output: &[u8]) {
    let program = ZoneProgram::new(zone.clone(), Vec::new(), PathBuf::new(), None);
    let _ = program.read_reply::<Abilities>("describe", output);
    let _ = program.read_reply::<Done>("change", output);
    if let Ok(Records { records }) = program.read_reply("read", output)
        && let Ok(data) = program.zone_of(records)
    {
        assert!(data.entries().all(|entry| entry.owner().is_within(&NameKey::from(zone))));
    }
}

#[async_trait]
impl ZoneDriver for ZoneProgram {
    fn zone(&self) -> &DnsName {
        &self.zone
    }

    async fn read(&self) -> Result<ZoneData, ZoneError> {
        self.read_some(None).await
    }

    async fn read_names(&self, names: &[DnsName]) -> Result<ZoneData, ZoneError> {
        self.read_some(Some(names)).await
    }

    async fn change_sets(&self, changes: &[SetChange]) -> Result<(), ZoneError> {
        if changes.is_empty() {
            return Ok(());
        }
        let within = self.patience().await?;
        let abilities = self.abilities().await?;
        let mut sets = Vec::with_capacity(changes.len());
        for change in changes {
            if let Some(most) = abilities.records_per_set.filter(|most| change.wanted.len() > *most) {
                let says = format!(
                    "{} takes at most {most} records of a type at a name, and {} {} would have {}",
                    self.words.join(" "),
                    change.owner,
                    change.code,
                    change.wanted.len()
                );
                return Err(ZoneError::Refused { says, remedy: "Take fewer of them at a time".into() });
            }
            let written =
                |data: &Vec<Vec<u8>>| data.iter().map(|data| rdata::presentation(change.code, data)).collect();
            sets.push(SetMessage {
                name: change.owner.to_string(),
                record_type: change.code.to_string(),
                expected: written(&change.expected),
                ttl: change.ttl.max(abilities.least_ttl.unwrap_or(0)).min(abilities.greatest_ttl.unwrap_or(u32::MAX)),
                wanted: written(&change.wanted),
            });
        }
        let Done { done } = self.call("change", None, Some(sets), within).await?;
        if done { Ok(()) } else { Err(self.broken("it was not done, and no error says why")) }
    }
}
