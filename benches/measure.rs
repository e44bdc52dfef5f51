//! Runs the benches that have aims, says which aim is missed and by how much, and writes the figures into
//! `benches/README.md`: `cargo run --release -p pindrel-benches --bin measure [BENCH…]`.

#![allow(clippy::print_stdout, clippy::unwrap_used, reason = "it prints, and stops at what it cannot set up")]

use std::path::Path;
use std::process::{Command, ExitCode};
use std::time::Instant;

use pindrel_benches::figures::{COLLECTED, Figure};

/// Each bench, and what it is about.
const BENCHES: [(&str, &str); 7] = [
    ("scale", "Start-up, and a dry run of what is held"),
    ("databases", "PostgreSQL beside SQLite"),
    ("endpoints", "Endpoints"),
    ("health", "Health"),
    ("zones", "Zone files"),
    ("dns", "Updates and look-ups"),
    ("issue", "Issuing"),
];
/// How long checks are held at their interval: enough for a figure, not for a judgement of memory.
const SECONDS: &str = "20";
const BEGIN: &str = "<!-- figures: written by `measure` -->\n";
const END: &str = "<!-- end of the figures -->\n";

fn main() -> ExitCode {
    let asked: Vec<String> = std::env::args().skip(1).collect();
    if let Some(unknown) = asked.iter().find(|name| !BENCHES.iter().any(|(bench, _)| bench == name)) {
        println!("there is no bench \"{unknown}\"; there are {}", BENCHES.map(|(bench, _)| bench).join(", "));
        return ExitCode::FAILURE;
    }
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("..").canonicalize().unwrap();
    let folder = tempfile::tempdir().unwrap();
    let (mut sections, mut missed, mut failed) = (Vec::new(), Vec::new(), Vec::new());
    for (bench, about) in BENCHES.iter().filter(|(bench, _)| asked.is_empty() || asked.iter().any(|name| name == bench))
    {
        let collected = folder.path().join(bench);
        let begun = Instant::now();
        println!("\n{about} ({bench})");
        let status = Command::new(env!("CARGO"))
            .args(["bench", "-q", "-p", "pindrel-benches", "--bench", bench])
            .env(COLLECTED, &collected)
            .env("PINDREL_SECONDS", SECONDS)
            .current_dir(&root)
            .status()
            .unwrap();
        println!("  after {:.0} s", begun.elapsed().as_secs_f64());
        if !status.success() {
            failed.push(*bench);
        }
        let lines = std::fs::read_to_string(&collected).unwrap_or_default();
        let figures: Vec<Figure> = lines.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
        missed.extend(figures.iter().filter(|figure| figure.missed_by().is_some()).cloned());
        sections.push((*about, figures));
    }
    println!();
    for figure in &missed {
        println!("missed: {figure}");
    }
    if !failed.is_empty() {
        println!("These did not end: {}.", failed.join(", "));
        return ExitCode::FAILURE;
    }
    if missed.is_empty() {
        println!("No aim is missed.");
    }
    let readme = root.join("benches/README.md");
    let text = std::fs::read_to_string(&readme).unwrap();
    std::fs::write(&readme, with_figures(&text, &sections)).unwrap();
    ExitCode::SUCCESS
}

/// The text with these sections of figures in the place of what it has of them; others stay.
fn with_figures(text: &str, sections: &[(&str, Vec<Figure>)]) -> String {
    let begin = text.find(BEGIN).unwrap() + BEGIN.len();
    let end = text.find(END).unwrap();
    let old = &text[begin..end];
    let of = |about: &str| old.split("### ").find(|section| section.lines().next() == Some(about));
    let mut figures = String::new();
    for (_, about) in BENCHES {
        let section = match sections.iter().find(|(measured, _)| *measured == about) {
            Some((_, rows)) => {
                let now = jiff::Timestamp::now().to_string();
                let today = now.split_once('T').map_or(now.as_str(), |(date, _)| date);
                let rows: Vec<String> = rows.iter().map(Figure::row).collect();
                format!("{about}\n\nOn {today}:\n\n| What | Figure | Aim |\n|---|---|---|\n{}\n\n", rows.join("\n"))
            }
            None => of(about).unwrap_or_default().to_owned(),
        };
        if !section.is_empty() {
            figures.push_str(&format!("### {section}"));
        }
    }
    format!("{}\n{figures}{}", &text[..begin], &text[end..])
}
