//! The seam behind which zones are changed.

use std::collections::HashMap;
use std::net::SocketAddr;
use std::sync::{Arc, LazyLock, Mutex, PoisonError};

use async_trait::async_trait;
use pindrel_core::names::name::DnsName;
use pindrel_core::zones::records::ZoneChange;
use pindrel_core::zones::rights::{Right, RightsView};
use pindrel_core::zones::zone_data::{NameKey, ZoneBuilder, ZoneData};
use tokio::sync::OwnedMutexGuard;

use crate::sets::{self, SetChange};
use crate::transfer::open_transfers;
use crate::zone_error::ZoneError;

/// How often a change is made that somebody else's change of the same set came before.
const MOST_TRIES: usize = 5;

/// Changes one zone. Every change is verified by reading the server that took it; doing it
/// twice is the same as doing it once.
#[async_trait]
pub trait ZoneDriver: Send + Sync {
    /// Returns the apex of the zone.
    fn zone(&self) -> &DnsName;

    /// Makes one change. Where it is made of whole sets, those of one zone are made one after another: each is read
    /// before it is written.
    ///
    /// # Errors
    /// [`ZoneError`]; nothing is changed then, or the next look tells.
    async fn change(&self, change: &ZoneChange) -> Result<(), ZoneError> {
        let _turn = turn(self.zone()).await;
        let names = sets::owners(change);
        let read = sets::names_to_read(change, self.zone());
        let shown = || names.iter().map(DnsName::as_str).collect::<Vec<_>>().join(" and ");
        let changed = || ZoneError::Changed {
            says: format!("the records of {} were changed by someone else in the meantime", shown()),
            remedy: "Run settle: it looks again before it changes anything".into(),
        };
        let may_repeat = !matches!(change, ZoneChange::Replace(_));
        let mut made = Err(changed());
        for _ in 0..MOST_TRIES {
            let now = self.read_names(&read).await?;
            if let Some(hidden) = sets::hidden(change, self.zone(), &now) {
                return Err(hidden.into());
            }
            made = self.change_sets(&sets::set_changes(change, &now).ok_or_else(changed)?).await;
            // Somebody else may have put a value of their own into the same set.
            if !(may_repeat && matches!(made, Err(ZoneError::Changed { .. }))) {
                break;
            }
        }
        made?;
        if sets::is_made(change, &self.read_names(&names).await?) {
            return Ok(());
        }
        Err(ZoneError::WithoutEffect {
            says: format!("a change of {} was accepted, and has not been made", shown()),
            remedy: "Check the log of the zone's server for why".into(),
        })
    }

    /// Reads the whole zone.
    ///
    /// # Errors
    /// [`ZoneError`]; [`ZoneError::Refused`] where it can still be read name by name.
    async fn read(&self) -> Result<ZoneData, ZoneError>;

    /// Returns what reads the zone without the driver's key; `None` where there is no other way to read it. What it
    /// reads is shown, and nothing is changed by it.
    fn unsigned(&self) -> Option<Arc<dyn ZoneDriver>> {
        None
    }

    /// Reads the whole zone again, where what it was before may spare reading all of it.
    ///
    /// # Errors
    /// [`ZoneError`], as of [`ZoneDriver::read`].
    async fn read_again(&self, _before: &ZoneData) -> Result<ZoneData, ZoneError> {
        self.read().await
    }

    /// Reads what stands at some names.
    ///
    /// # Errors
    /// [`ZoneError`].
    async fn read_names(&self, names: &[DnsName]) -> Result<ZoneData, ZoneError> {
        let whole = self.read().await?;
        let mut part = ZoneBuilder::default();
        for name in names {
            for entry in whole.at(&NameKey::from(name)) {
                let added = part.add(&entry.owner(), entry.code, entry.ttl, entry.data, entry.place);
                added.map_err(|error| ZoneError::Unreachable { says: error.to_string(), remedy: String::new() })?;
            }
        }
        Ok(part.finish(Some(whole.apex().clone())))
    }

    /// Finds out what the credential may do, without changing anything.
    ///
    /// # Errors
    /// [`ZoneError`]: the credential is not accepted at all, or whoever takes changes cannot be asked.
    async fn rights(&self, tried: &TriedRights<'_>) -> Result<RightsView, ZoneError> {
        // Whoever reads with it may change with it, as far as can be seen without a change.
        self.read_names(std::slice::from_ref(self.zone())).await?;
        let beyond = open_transfers(self.zone(), tried.servers).await;
        Ok(RightsView { beyond, ..RightsView::default() })
    }

    /// Makes whole record sets what they shall be, each only where it is what is expected.
    ///
    /// # Errors
    /// [`ZoneError`]; sets that are changed already stay so, and the next comparison tells.
    async fn change_sets(&self, changes: &[SetChange]) -> Result<(), ZoneError>;
}

/// Waits until nobody else of this process changes a zone.
async fn turn(zone: &DnsName) -> OwnedMutexGuard<()> {
    static TURNS: LazyLock<Mutex<HashMap<DnsName, Arc<tokio::sync::Mutex<()>>>>> = LazyLock::new(Mutex::default);
    let turn = {
        let mut turns = TURNS.lock().unwrap_or_else(PoisonError::into_inner);
        turns.entry(zone.clone()).or_default().clone()
    };
    turn.lock_owned().await
}

/// What is found out about a credential.
#[derive(Debug, Clone, Copy)]
pub struct TriedRights<'t> {
    /// What the manifest needs.
    pub needed: &'t [Right],
    /// Zones that it should not change.
    pub others: &'t [DnsName],
    /// The zone's servers, none of which should transfer it to whoever asks.
    pub servers: &'t [SocketAddr],
}
