//! One file a command.

pub(crate) mod account;
pub(crate) mod adopt;
pub(crate) mod cert;
pub(crate) mod check;
pub(crate) mod completions;
pub(crate) mod demo;
pub(crate) mod endpoint;
pub(crate) mod handoff;
pub(crate) mod health;
pub(crate) mod init;
pub(crate) mod keep;
pub(crate) mod man;
pub(crate) mod retire;
pub(crate) mod sandbox;
pub(crate) mod schema;
pub(crate) mod settle;
pub(crate) mod state;
pub(crate) mod status;
pub(crate) mod zone;

use std::ffi::OsString;

use clap::{Args as _, Subcommand};

use crate::context::Context;
use crate::error::{CliError, Status};

/// The commands.
#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    Init(Box<init::InitArgs>),
    Check(check::CheckArgs),
    Settle(settle::SettleArgs),
    Status(status::StatusArgs),
    #[command(subcommand)]
    Health(health::HealthCommand),
    Keep(keep::KeepArgs),
    #[command(subcommand)]
    Cert(cert::CertCommand),
    #[command(subcommand)]
    Account(account::AccountCommand),
    #[command(subcommand)]
    Endpoint(endpoint::EndpointCommand),
    #[command(subcommand)]
    Zone(zone::ZoneCommand),
    Handoff(handoff::HandoffArgs),
    Adopt(adopt::AdoptArgs),
    Retire(retire::RetireArgs),
    #[command(subcommand)]
    State(state::StateCommand),
    #[command(subcommand)]
    Sandbox(sandbox::SandboxCommand),
    Demo(demo::DemoArgs),
    Schema(schema::SchemaArgs),
    Completions(completions::CompletionsArgs),
    Man(man::ManArgs),
}

/// Adds all commands to the program.
pub(crate) fn all(program: clap::Command) -> clap::Command {
    group::<Command>(program)
}

/// Adds those commands that are among the words that were typed; all where none is, or help is asked for before, so
/// that help and suggestions have them. Describing every command takes longer than all else of a start.
pub(crate) fn typed(program: clap::Command, words: &[OsString]) -> clap::Command {
    if words.get(1).is_some_and(|word| word == "--version" || word == "-V") {
        return program;
    }
    let is_help = |word: &&OsString| ["help", "--help", "-h"].iter().any(|help| *word == help);
    let before: Vec<&OsString> = words.iter().skip(1).take_while(|word| !is_help(word)).collect();
    let named: Vec<_> = DESCRIBED.iter().filter(|(name, _)| before.iter().any(|word| *word == name)).collect();
    if named.is_empty() {
        return all(program);
    }
    named
        .into_iter()
        .fold(grouped(program), |program, (name, describe)| program.subcommand(describe(clap::Command::new(*name))))
}

/// Describes one command.
type Describe = fn(clap::Command) -> clap::Command;

/// A command that is one of several.
fn group<C: Subcommand>(command: clap::Command) -> clap::Command {
    C::augment_subcommands(grouped(command))
}

/// A command that does nothing without one of its own.
fn grouped(command: clap::Command) -> clap::Command {
    command.subcommand_required(true).arg_required_else_help(true)
}

/// How each command is described.
const DESCRIBED: [(&str, Describe); 19] = [
    ("init", init::InitArgs::augment_args),
    ("check", check::CheckArgs::augment_args),
    ("settle", settle::SettleArgs::augment_args),
    ("status", status::StatusArgs::augment_args),
    ("health", group::<health::HealthCommand>),
    ("keep", keep::KeepArgs::augment_args),
    ("cert", group::<cert::CertCommand>),
    ("account", group::<account::AccountCommand>),
    ("endpoint", group::<endpoint::EndpointCommand>),
    ("zone", group::<zone::ZoneCommand>),
    ("handoff", handoff::HandoffArgs::augment_args),
    ("adopt", adopt::AdoptArgs::augment_args),
    ("retire", retire::RetireArgs::augment_args),
    ("state", group::<state::StateCommand>),
    ("sandbox", group::<sandbox::SandboxCommand>),
    ("demo", demo::DemoArgs::augment_args),
    ("schema", schema::SchemaArgs::augment_args),
    ("completions", completions::CompletionsArgs::augment_args),
    ("man", man::ManArgs::augment_args),
];

/// Runs one command; `program` describes the whole command line.
pub(crate) async fn run(
    context: &Context,
    command: Command,
    program: fn() -> clap::Command,
) -> Result<Status, CliError> {
    match command {
        Command::Init(args) => init::run(context, &args),
        Command::Check(args) => check::run(context, &args).await,
        Command::Settle(args) => settle::run(context, &args).await,
        Command::Cert(command) => cert::run(context, &command).await,
        Command::Account(command) => account::run(context, &command).await,
        Command::Endpoint(command) => endpoint::run(context, &command).await,
        Command::Zone(command) => zone::run(context, &command).await,
        Command::Handoff(args) => handoff::run(context, &args).await,
        Command::Adopt(args) => adopt::run(context, &args).await,
        Command::Retire(args) => retire::run(context, &args).await,
        Command::Status(args) => status::run(context, &args).await,
        Command::Health(command) => health::run(context, &command).await,
        Command::Keep(args) => keep::run(context, &args).await,
        Command::State(command) => state::run(context, &command).await,
        Command::Sandbox(command) => sandbox::run(context, command).await,
        Command::Demo(args) => demo::run(context, &args).await,
        Command::Schema(args) => schema::run(context, &args),
        Command::Completions(args) => completions::run(&args),
        Command::Man(args) => man::run(&args, program()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A command that is described by itself is the same as among all.
    #[test]
    fn each_command_is_described_by_itself_as_among_all() {
        let mut whole = all(clap::Command::new("pindrel"));
        let names: Vec<&str> = whole.get_subcommands().map(clap::Command::get_name).collect();
        assert_eq!(names, DESCRIBED.map(|(name, _)| name));
        for (name, _) in DESCRIBED {
            let mut own = typed(clap::Command::new("pindrel"), &["pindrel".into(), name.into()]);
            let help =
                |program: &mut clap::Command| program.find_subcommand_mut(name).unwrap().render_long_help().to_string();
            assert_eq!(help(&mut own), help(&mut whole), "{name}");
        }
    }
}
