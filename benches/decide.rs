//! The core's decisions, from data alone: `cargo bench -p pindrel-benches --bench decide`.
//!
//! Each is measured at two sizes, so that growth shows.

#![allow(missing_docs, reason = "criterion's macros make undocumented functions")]

use std::hint::black_box;

use criterion::{BenchmarkId, Criterion, Throughput, criterion_group, criterion_main};
use pindrel_benches::{desired, manifest};
use pindrel_core::manifest::{Diagnostics, read};

fn decide(c: &mut Criterion) {
    let mut group = c.benchmark_group("decide");
    group.sample_size(10);
    for hostnames in [1_000, 10_000] {
        let text = manifest(hostnames);
        group.throughput(Throughput::Elements(hostnames as u64));
        group.bench_with_input(BenchmarkId::new("floor: parse TOML", hostnames), &text, |b, text| {
            b.iter(|| toml::from_str::<toml::Table>(black_box(text)).is_ok());
        });
        group.bench_with_input(BenchmarkId::new("read manifest", hostnames), &text, |b, text| {
            b.iter(|| read(black_box(text), &mut Diagnostics::default()).hostnames.len());
        });
        let wanted = desired(&text);
        group.bench_with_input(BenchmarkId::new("digest what is wanted", hostnames), &wanted, |b, wanted| {
            let digests = wanted.digests();
            b.iter(|| wanted.hostname_ids().fold(0u64, |sum, id| sum ^ digests.of(wanted, id)));
        });
    }
    group.finish();
}

criterion_group!(benches, decide);
criterion_main!(benches);
