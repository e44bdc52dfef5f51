//! Whatever lies in the files of a certificate or a key, reading them neither panics nor
//! takes much memory.

#![no_main]

use libfuzzer_sys::fuzz_target;
use pindrel_keys::bundle::{Bundle, LooseFile};
use pindrel_keys::{AccountKey, Chain};

fuzz_target!(|data: &[u8]| {
    let half = data.len() / 2;
    let file = |name: &str, bytes: &[u8]| LooseFile { name: name.into(), bytes: bytes.to_vec() };
    let password = "password".to_owned().into();
    let _ = Bundle::assemble(&[file("whole", data)], None, Some(&password));
    let _ = Bundle::assemble(&[file("first", &data[..half]), file("second", &data[half..])], None, None);
    if let Ok(text) = std::str::from_utf8(data) {
        let _ = Chain::from_pem(text);
        let _ = AccountKey::from_text(&text.to_owned().into());
    }
});
