//! Environment variables: every option can be one, named after it.

use std::ffi::OsString;

use clap::builder::BoolishValueParser;
use clap::error::{ContextKind, ContextValue};
use clap::{Arg, ArgAction, Command, Error};
use pindrel_core::manifest::nearest;

/// What all variables begin with.
const PREFIX: &str = "PINDREL_";
/// The variables that are no option's.
const OTHERS: [&str; 5] =
    [crate::completion::VARIABLE, "PINDREL_SEALING_KEY", "PINDREL_CERTIFICATE", "PINDREL_NAMES", "PINDREL_STOP_AT"];

/// Gives every option its variable. Flags take 1, true, yes or on and their opposites; options that
/// may be repeated take a list with commas.
pub(crate) fn with_variables(command: Command) -> Command {
    let command = command.mut_args(with_variable);
    let names: Vec<String> = command.get_subcommands().map(|inner| inner.get_name().to_owned()).collect();
    names.into_iter().fold(command, |command, name| command.mut_subcommand(name, with_variables))
}

fn with_variable(arg: Arg) -> Arg {
    let Some(long) = arg.get_long().map(str::to_owned) else { return arg };
    if matches!(arg.get_action(), ArgAction::Help | ArgAction::HelpShort | ArgAction::HelpLong | ArgAction::Version) {
        return arg;
    }
    let arg = match arg.get_action() {
        ArgAction::SetTrue => arg.value_parser(BoolishValueParser::new()),
        ArgAction::Append => arg.value_delimiter(','),
        _ => arg,
    };
    if arg.get_env().is_some() { arg } else { arg.env(variable(&long)).hide_env(true) }
}

fn variable(long: &str) -> String {
    format!("{PREFIX}{}", long.replace('-', "_").to_uppercase())
}

/// Names the variable that a refused value comes from: nobody typed it on this line.
pub(crate) fn explained(mut error: Error, command: &Command, typed: &[OsString]) -> Error {
    let Some(ContextValue::String(option)) = error.get(ContextKind::InvalidArg) else { return error };
    let long = option.trim_start_matches('-').split([' ', '=']).next().unwrap_or_default().to_owned();
    let written = format!("--{long}");
    let Some((_, short, variable)) = variables(command).into_iter().find(|(name, ..)| *name == long) else {
        return error;
    };
    let is_typed = |word: &OsString| {
        let word = word.to_string_lossy();
        word == written
            || word.starts_with(&format!("{written}="))
            || short.is_some_and(|short| has_short(&word, short))
    };
    if std::env::var_os(&variable).is_some() && !typed.iter().any(is_typed) {
        error.insert(
            ContextKind::InvalidArg,
            ContextValue::String(format!("{option}, from the environment variable {variable}")),
        );
    }
    error
}

/// Says whether a command line that cannot be understood asks for JSON all the same.
pub(crate) fn wants_json(typed: &[OsString]) -> bool {
    let is_json = |value: &str| value.eq_ignore_ascii_case("json");
    let words: Vec<_> = typed.iter().map(|word| word.to_string_lossy()).collect();
    words.iter().any(|word| word.strip_prefix("--format=").is_some_and(is_json))
        || words.windows(2).any(|pair| pair[0] == "--format" && is_json(&pair[1]))
        || std::env::var(variable("format")).is_ok_and(|value| is_json(&value))
}

/// Says whether a word may hold an option of one letter, by itself or among others.
fn has_short(word: &str, short: char) -> bool {
    word.starts_with('-') && !word.starts_with("--") && word.contains(short)
}

/// All options with their letters and variables.
fn variables(command: &Command) -> Vec<(String, Option<char>, String)> {
    let own = command.get_arguments().filter_map(|arg| {
        let variable = arg.get_env()?.to_str()?;
        Some((arg.get_long()?.to_owned(), arg.get_short(), variable.to_owned()))
    });
    own.chain(command.get_subcommands().flat_map(variables)).collect()
}

/// Returns a note for each variable that looks like an option's and is none: a slip in
/// `PINDREL_DRY_RUN` must not go unseen.
pub(crate) fn misspelt(program: fn() -> Command) -> Vec<String> {
    let set = std::env::vars_os().filter_map(|(name, _)| name.into_string().ok());
    let set: Vec<String> = set.filter(|name| name.starts_with(PREFIX) && !OTHERS.contains(&name.as_str())).collect();
    if set.is_empty() {
        return Vec::new();
    }
    let known: Vec<String> = variables(&program()).into_iter().map(|(.., variable)| variable).collect();
    let unknown = set.into_iter().filter(|name| !known.contains(name));
    unknown
        .filter_map(|name| {
            let near = nearest(&name, known.iter().map(String::as_str))?;
            Some(format!("the environment variable {name} is no option's; did you mean {near}?"))
        })
        .collect()
}
