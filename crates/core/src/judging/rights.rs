//! What follows from what a credential may do in a zone.

use crate::desired::{Zone, ZoneDriver};
use crate::judging::findings::{Finding, ZoneCause};
use crate::zones::rights::{Beyond, RightsView};

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
    use std::collections::BTreeSet;
    use std::net::SocketAddr;

    use super::*;
    use crate::desired::resolved;
    use crate::judging::findings::Code;
    use crate::zones::records::RecordType;
    use crate::zones::rights::Right;

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
        assert_eq!(advice.len(), parts.len(), "servers that transfer the zone are reported together");
        for (found, part) in advice.iter().zip(parts) {
            assert!(found.says().contains(part) && !found.remedy().is_empty(), "{part}: {found:?}");
        }
    }
}
