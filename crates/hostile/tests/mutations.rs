//! Every target with inputs that come of its seeds by chance, with the stable toolchain.
//!
//! `PINDREL_HOSTILE_INPUTS` (1,000) says how many inputs each gets, `PINDREL_HOSTILE_SECONDS` for how long it goes on
//! instead, and `PINDREL_HOSTILE_SEED` (1) where chance begins. An input that fails is written beside the target folder's
//! tests, and its path told.

#![allow(clippy::unwrap_used, reason = "what cannot be set up fails the test")]
#![allow(clippy::print_stdout, reason = "how far it got")]

use std::panic::catch_unwind;
use std::time::{Duration, Instant};

use pindrel_hostile::{TARGETS, Target};

/// What formats are made of, and what is at their borders.
const TOKENS: [&[u8]; 22] = [
    b"\"\"\"",
    b"'''",
    b"[",
    b"]",
    b"{",
    b"}",
    b"\\",
    b"\n",
    b"\0",
    b"\r\n",
    b"(",
    b")",
    b"\xff\xff",
    b"\x00\x00",
    b"\xc0\x0c",
    b"18446744073709551616",
    b"-1",
    b"null",
    b"\"\"",
    b"-----BEGIN ",
    b"\x30\x82",
    b"\xe2\x80\xae",
];
/// The longest input.
const LONGEST: usize = 16 << 10;
/// How long any one input may take, on a machine that does much else.
const FAR_TOO_LONG: Duration = Duration::from_secs(30);

/// Numbers by chance (splitmix64).
struct Chance(u64);

impl Chance {
    fn next(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut mixed = self.0;
        mixed = (mixed ^ (mixed >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        mixed = (mixed ^ (mixed >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        mixed ^ (mixed >> 31)
    }

    /// A number below `most`, which is at least 1.
    fn below(&mut self, most: usize) -> usize {
        (self.next() % most as u64) as usize
    }

    /// A range within so many octets.
    fn range(&mut self, length: usize) -> std::ops::Range<usize> {
        let begin = self.below(length + 1);
        begin..begin + self.below((length - begin).min(64) + 1)
    }
}

/// Changes an input in one place.
fn change(input: &mut Vec<u8>, other: &[u8], chance: &mut Chance) {
    let range = chance.range(input.len());
    match chance.below(7) {
        0 if !input.is_empty() => {
            let at = chance.below(input.len());
            input[at] ^= 1 << chance.below(8);
        }
        1 => drop(input.drain(range)),
        2 => drop(input.splice(range.start..range.start, TOKENS[chance.below(TOKENS.len())].iter().copied())),
        3 => {
            let copied = input[range.clone()].repeat(1 + chance.below(8));
            drop(input.splice(range.end..range.end, copied));
        }
        4 => drop(input.splice(range, other[chance.range(other.len())].iter().copied())),
        5 => input.truncate(range.end),
        _ => {
            let made: Vec<u8> = (0..chance.below(8)).map(|_| chance.next() as u8).collect();
            drop(input.splice(range, made));
        }
    }
    input.truncate(LONGEST);
}

fn number(variable: &str) -> Option<u64> {
    std::env::var(variable).ok().map(|text| text.parse().unwrap())
}

fn attack(target: &Target) {
    let seeds = (target.seeds)();
    let mut chance = Chance(number("PINDREL_HOSTILE_SEED").unwrap_or(1));
    let (most, seconds) = (number("PINDREL_HOSTILE_INPUTS").unwrap_or(1_000), number("PINDREL_HOSTILE_SECONDS"));
    let (begun, mut count, mut slowest) = (Instant::now(), 0, Duration::ZERO);
    let goes_on = |count: u64| match seconds {
        Some(seconds) => begun.elapsed() < Duration::from_secs(seconds),
        None => count < most,
    };
    while goes_on(count) {
        let mut input = seeds[chance.below(seeds.len())].clone();
        // The seeds themselves come first.
        if let Some(seed) = seeds.get(count as usize) {
            input.clone_from(seed);
        } else {
            for _ in 0..=chance.below(6) {
                let other = &seeds[chance.below(seeds.len())];
                change(&mut input, other, &mut chance);
            }
        }
        let (run, at) = (target.run, Instant::now());
        let ended = catch_unwind(|| run(&input));
        slowest = slowest.max(at.elapsed());
        if ended.is_err() || at.elapsed() > FAR_TOO_LONG {
            let path = std::path::Path::new(env!("CARGO_TARGET_TMPDIR")).join(format!("{}-{count}", target.name));
            std::fs::write(&path, &input).unwrap();
            panic!("{} fails or takes too long ({:?}) with {}", target.name, at.elapsed(), path.display());
        }
        count += 1;
    }
    println!("{}: {count} inputs, the slowest {slowest:?}", target.name);
}

macro_rules! targets {
    ($($name:ident)+) => {
        $(#[test]
        fn $name() {
            attack(TARGETS.iter().find(|target| target.name == stringify!($name)).unwrap());
        })+

        #[test]
        fn every_target_is_attacked_here_and_has_a_file_for_cargo_fuzz() {
            let mut here = vec![$(stringify!($name)),+];
            let mut all: Vec<&str> = TARGETS.iter().map(|target| target.name).collect();
            here.sort_unstable();
            all.sort_unstable();
            assert_eq!(here, all);
            for name in all {
                let path = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join(format!("../../fuzz/fuzz_targets/{name}.rs"));
                let text = std::fs::read_to_string(&path).unwrap_or_else(|error| panic!("{}: {error}", path.display()));
                assert!(text.contains(&format!("pindrel_hostile::run(\"{name}\"")), "{text}");
            }
        }
    };
}

targets! {
    manifest included_files zone_file dns_replies authority platform programs name_server_api balancer certificate_files
}
