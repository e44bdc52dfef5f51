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

use clap::Subcommand;

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
