//! What a credential may do in a zone: too little for what the manifest wants, or more than it needs.

use std::collections::BTreeSet;
use std::net::SocketAddr;

use serde::{Deserialize, Serialize};

use crate::desired::{Zone, ZoneDriver};
use crate::judging::findings::{Finding, ZoneCause};
use crate::names::name::DnsName;
use crate::zones::records::RecordType;

/// The right to change the records of one type at a name.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
pub struct Right {
    /// The name.
    pub owner: DnsName,
    /// The type.
    pub record_type: RecordType,
}

/// What was found out about a credential, without changing anything with it.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct RightsView {
    /// The rights that were tried.
    pub tried: usize,
    /// Those that it lacks, with the response code of the server.
    pub lacking: Vec<(Right, String)>,
    /// What it may do that was not asked for.
    pub beyond: BTreeSet<Beyond>,
}

/// Something that a credential may do and Pindrel does not need.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
pub enum Beyond {
    /// It changes names that are none of the manifest's.
    AnyName,
    /// It changes records of these types at the apex: who serves the zone, who takes its mail.
    Apex(Vec<RecordType>),
    /// It changes this zone as well.
    Zone(DnsName),
    /// It changes every zone of its server, so many, and the server's settings.
    Server(usize),
    /// This server transfers the zone to whoever asks.
    Transfer(SocketAddr),
}

/// Judges what was found out: what stops the manifest's work, and what is wider than it must be.
pub fn judge(zone: &Zone, view: &RightsView) -> (Vec<Finding>, Vec<Finding>) {
    let credential = match &zone.driver {
        ZoneDriver::Rfc2136(tsig) => format!("the TSIG key {}", tsig.name),
        ZoneDriver::PowerDns(_) => "the API key".into(),
        _ => "the credential".into(),
    };
    let finding = |cause| Finding::zone(&zone.name, cause);
    let lacking = ZoneCause::rights_missing(credential.clone(), &view.lacking);
    let mut transfers = Vec::new();
    let mut beyond = Vec::new();
    for one in &view.beyond {
        match one {
            Beyond::Transfer(server) => transfers.push(*server),
            one => beyond.push(ZoneCause::RightsTooWide { credential: credential.clone(), beyond: one.clone() }),
        }
    }
    beyond.extend((!transfers.is_empty()).then_some(ZoneCause::TransferOpen(transfers)));
    (lacking.into_iter().map(finding).collect(), beyond.into_iter().map(finding).collect())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::desired::resolved;
    use crate::judging::findings::Code;

    const MANIFEST: &str = "manifest = 1\n[zone.\"larkfield.example\"]\ndriver = \"rfc2136\"\n\
        tsig = { name = \"pindrel\", secret = \"env:SECRET\" }\n";

    #[test]
    fn what_a_credential_lacks_stops_and_what_it_has_beyond_warns() {
        let desired = resolved(MANIFEST);
        let zone = &desired.zones[0];
        let right = |n: usize| Right {
            owner: format!("h{n}.larkfield.example").parse().unwrap(),
            record_type: RecordType::Cname,
        };
        let lacking = |count: usize| (0..count).map(|n| (right(n), "REFUSED".to_owned())).collect::<Vec<_>>();
        for (count, says) in [
            (0, ""),
            (1, "the TSIG key pindrel may not change CNAME of h0.larkfield.example in the zone larkfield.example"),
            (9, "CNAME of h4.larkfield.example and 4 more in the zone"),
        ] {
            let view = RightsView { tried: 9, lacking: lacking(count), beyond: BTreeSet::new() };
            let (findings, advice) = judge(zone, &view);
            assert_eq!((findings.len(), advice.len()), (usize::from(count > 0), 0));
            assert!(
                findings.iter().all(|found| found.code() == Code::RightMissing && found.says().contains(says)),
                "{findings:?}"
            );
            assert!(findings.iter().all(|found| found.words().evidence.len() == count.min(5)));
        }
        let server = |last: u8| SocketAddr::from(([192, 0, 2, last], 53));
        let beyond = [
            Beyond::AnyName,
            Beyond::Apex(vec![RecordType::Ns, RecordType::Mx]),
            Beyond::Zone("example".parse().unwrap()),
            Beyond::Server(40),
            Beyond::Transfer(server(1)),
            Beyond::Transfer(server(2)),
        ];
        let view = RightsView { beyond: beyond.into_iter().collect(), ..RightsView::default() };
        let (findings, advice) = judge(zone, &view);
        assert_eq!(findings, [], "nothing of it stops the work");
        let parts = [
            "every name of larkfield.example",
            "the NS and MX records of larkfield.example itself",
            "the zone example",
            "all 40 zones of that server",
            "192.0.2.1:53 and 192.0.2.2:53 transfer the whole zone",
        ];
        assert_eq!(advice.len(), parts.len(), "servers that transfer are told together");
        for (found, part) in advice.iter().zip(parts) {
            assert!(found.says().contains(part) && !found.remedy().is_empty(), "{part}: {found:?}");
        }
    }
}
