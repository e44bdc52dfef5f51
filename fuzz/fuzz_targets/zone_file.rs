#![no_main]

libfuzzer_sys::fuzz_target!(|input: &[u8]| pindrel_hostile::run("zone_file", input));
