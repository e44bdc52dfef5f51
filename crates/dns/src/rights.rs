//! Finding out what a TSIG key may do, without changing anything: what is asked to be deleted is not there.
//!
//! A server checks the right to update before it looks whether there is anything to do, and a zone in which nothing
//! changes keeps its serial (RFC 2136 §3.3, §3.6).

use std::hash::{BuildHasher as _, Hasher as _, RandomState};
use std::net::{Ipv4Addr, Ipv6Addr, SocketAddr};

use futures::{StreamExt as _, stream};
use hickory_proto::rr::RData;
use hickory_proto::rr::rdata::{A, AAAA, CNAME, MX, NS, TXT};
use pindrel_core::names::name::DnsName;
use pindrel_core::zones::records::RecordType;
use pindrel_core::zones::rights::{Beyond, Right, RightsView};

use crate::transfer::open_transfers;
use crate::update::Rfc2136;
use crate::update_error::UpdateError;
use crate::wire::wire_name;

/// How many updates are under way at once.
const UPDATES_AT_ONCE: usize = 8;
/// What at the apex decides who serves the zone, and who takes its mail.
const APEX_TYPES: [RecordType; 2] = [RecordType::Ns, RecordType::Mx];

/// Data of a type that nobody has; `None` for types that are not tried.
fn nobodys_data(record_type: RecordType) -> Option<RData> {
    let random = RandomState::new().build_hasher().finish();
    let [_, a, b, c, d, e, f, g] = random.to_be_bytes();
    let segment = |high, low| u16::from_be_bytes([high, low]);
    let name = || format!("p{random:016x}.invalid").parse::<DnsName>().ok().map(|name| wire_name(&name));
    Some(match record_type {
        // No host has an address of 0.0.0.0/8 (RFC 1122 §3.2.1.3), nor one for documentation (RFC 3849).
        RecordType::A => RData::A(A(Ipv4Addr::new(0, a, b, c))),
        RecordType::Aaaa => {
            RData::AAAA(AAAA(Ipv6Addr::new(0x2001, 0xdb8, 0, 0, segment(a, b), segment(c, d), segment(e, f), g.into())))
        }
        RecordType::Cname => RData::CNAME(CNAME(name()?)),
        RecordType::Txt => RData::TXT(TXT::new(vec![format!("{random:016x}")])),
        RecordType::Mx => RData::MX(MX::new(0, name()?)),
        RecordType::Ns => RData::NS(NS(name()?)),
        _ => return None,
    })
}

impl Rfc2136 {
    /// Tries the rights that are needed, and some that nobody needs: on any name, at the apex, in `others`. The
    /// `servers` are asked whether they transfer the zone to whoever asks.
    ///
    /// # Errors
    /// [`UpdateError`]: the key is not accepted at all, or the server cannot be asked.
    pub(crate) async fn try_rights(
        &self,
        needed: &[Right],
        others: &[DnsName],
        servers: &[SocketAddr],
    ) -> Result<RightsView, UpdateError> {
        let mut view = RightsView { tried: needed.len(), ..RightsView::default() };
        let tries = needed.iter().cloned().map(|right| async move {
            let lacks = self.lacks(self.zone_name(), &right).await;
            (right, lacks)
        });
        let mut tries = stream::iter(tries).buffered(UPDATES_AT_ONCE);
        while let Some((right, lacks)) = tries.next().await {
            view.lacking.extend(lacks?.map(|code| (right, code)));
        }
        let random = RandomState::new().build_hasher().finish();
        if let Ok(unused) = self.zone_name().below(&format!("_pindrel-{random:016x}")) {
            let any = Right { owner: unused, record_type: RecordType::Txt };
            if self.lacks(self.zone_name(), &any).await?.is_none() {
                view.beyond.insert(Beyond::AnyName);
            }
        }
        let mut at_apex = Vec::new();
        for record_type in APEX_TYPES {
            let right = Right { owner: self.zone_name().clone(), record_type };
            if self.lacks(self.zone_name(), &right).await?.is_none() {
                at_apex.push(record_type);
            }
        }
        if !at_apex.is_empty() {
            view.beyond.insert(Beyond::Apex(at_apex));
        }
        for other in others {
            let right = Right { owner: other.clone(), record_type: RecordType::Txt };
            // A key that is not known for that zone is as it should be.
            if matches!(self.lacks(other, &right).await, Ok(None)) {
                view.beyond.insert(Beyond::Zone(other.clone()));
            }
        }
        view.beyond.extend(open_transfers(self.zone_name(), servers).await);
        Ok(view)
    }

    /// Returns the code with which the server refuses a right in a zone; `None` where it grants it.
    async fn lacks(&self, zone: &DnsName, right: &Right) -> Result<Option<String>, UpdateError> {
        let Some(data) = nobodys_data(right.record_type) else { return Ok(None) };
        match self.delete_nothing(zone, &right.owner, data).await {
            Ok(()) => Ok(None),
            Err(UpdateError::Refused { code, .. }) => Ok(Some(code)),
            Err(error) => Err(error),
        }
    }
}
