//! Whatever a program replies that speaks for a name server or a platform, it is read, or refused with a reason.

#![no_main]

use libfuzzer_sys::fuzz_target;
use pindrel_core::endpoint::{Binding, EndpointInfo};
use pindrel_edge::{StoredCertificate, TokenScope};

fuzz_target!(|output: &[u8]| {
    pindrel_dns::fuzzing::program_replies(&"larkfield.example".parse().expect("a name"), output);
    let _ = serde_json::from_slice::<Vec<StoredCertificate>>(output);
    let _ = serde_json::from_slice::<TokenScope>(output).map(|scope| scope.beyond_need());
    let _ = serde_json::from_slice::<Vec<EndpointInfo>>(output);
    let _ = serde_json::from_slice::<Binding>(output);
});
