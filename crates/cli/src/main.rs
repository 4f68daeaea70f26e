//! The `calvex` binary: the service, its client, and the demo. One file a command.

mod addresses;
mod client;
mod commands;
mod figures;
mod options;
mod output;
mod proposed;
mod shown;

use clap::error::ErrorKind;
use clap::{CommandFactory, Parser, Subcommand};
use std::process::ExitCode;
use std::time::Duration;

#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

/// Calvex keeps log events and finds them again.
#[derive(Parser)]
#[command(name = "calvex", version, about, propagate_version = true, max_term_width = 100)]
struct Cli {
    #[command(subcommand)]
    command: Command,
    /// Trust the certificate authorities in this PEM file, and no others, where the address begins with https
    #[arg(
        long,
        env = "CALVEX_CA",
        value_name = "FILE",
        global = true,
        hide_env_values = true,
        help_heading = "Service"
    )]
    ca: Option<std::path::PathBuf>,
}

#[derive(Subcommand)]
enum Command {
    /// Run the service
    Serve(commands::serve::Serve),
    /// Send NDJSON from files or standard input
    Send(commands::send::Send),
    /// Follow files, or standard input, and have each line stored once
    Ship(commands::ship::Ship),
    /// What came from each sender, service and host, and what became of it
    Arrivals(commands::arrivals::Arrivals),
    /// Mark a change: a release, a setting, what somebody did
    Mark(commands::mark::Mark),
    /// Send a marked event by each way in and report each step, up to found by search
    Probe(commands::probe::Probe),
    /// Search events
    Search(commands::search::Search),
    /// How things stand: services against their usual, alerts, marks
    Now(commands::now::Now),
    /// Searches that were saved
    Saved(commands::saved::Saved),
    /// Show events as they come
    Tail(commands::tail::Tail),
    /// Write every event a query finds, or its figures, as NDJSON or CSV
    Export(commands::export::Export),
    /// Top values of fields among the events found
    Breakdown(commands::breakdown::Breakdown),
    /// Events folded by the shape of their message, with their trend
    Shapes(commands::shapes::Shapes),
    /// Error groups: failures folded into problems, and how far each is
    Errors(commands::errors::Errors),
    /// Show everything tied to one id, drawn
    Story(commands::story::Story),
    /// What differs between two sets of events, the best explanation first
    Compare(commands::compare::Compare),
    /// Keys with which senders send
    Key(commands::key::Key),
    /// Tokens with which clients read
    Token(commands::token::Token),
    /// People who sign in: added, changed, disabled
    Person(commands::person::Person),
    Team(commands::team::Team),
    Grant(commands::grant::Grant),
    Audit(commands::audit::Audit),
    /// Change one's own password, or set it by a code
    Password(commands::password::Password),
    /// Who asks, and what that may read
    Whoami(commands::whoami::WhoAmI),
    /// Lanes and their retention
    Lane(commands::lane::Lane),
    /// Routes to lanes
    Route(commands::lane::Route),
    /// Transform rules: what is done to events on purpose before they are kept
    Transform(commands::transform::Transform),
    /// Dials: the least severity kept for some events, for a while
    Dial(commands::dial::Dial),
    /// Ties: ids that tie events together, and the spellings that mean them
    Tie(commands::tie::Tie),
    /// Line patterns, tried on lines and proposed from them
    Pattern(commands::pattern::Pattern),
    /// The fields of a lane: types, values, first and last seen
    Fields(commands::fields::Fields),
    /// Alert rules: checked, played over the past, applied from files
    Rule(commands::rule::Rule),
    /// Contacts: whom rules notify, by mail or a signed webhook
    Contact(commands::contact::Contacts),
    /// Alerts: what was raised, when, and who was notified
    Alerts(commands::alerts::Alerts),
    /// The effective settings and where each came from
    Settings(commands::serve::ShowSettings),
    /// Backup, restore and upkeep
    Admin(commands::admin::Admin),
    /// Services by name, with their addresses and tokens
    Profile(commands::profile::Profile),
    /// The demo: nine days of Fennmark Lockers, the night of the short leases last
    Demo(commands::demo::Demo),
    /// Completions for a shell
    Completions(commands::completions::Completions),
    /// Manual pages
    Manual(commands::completions::Manual),
    /// A stand-in receiver of webhooks and mail that shows what arrives
    Provider(commands::provider::Provider),
    Receiver(commands::receiver::Receiver),
}

/// What a command ended with.
pub enum Ended {
    /// 0: done, or something was found.
    Well,
    /// 1: nothing was found.
    Nothing,
}

fn main() -> ExitCode {
    // Where a shell asks for proposals, they are printed and nothing else is done.
    clap_complete::CompleteEnv::with_factory(Cli::command).var(proposed::VARIABLE).complete();
    match tokio::runtime::Runtime::new() {
        Ok(runtime) => {
            let code = runtime.block_on(run());
            // What still runs on threads of its own, a search that nobody waits for, must not keep the process.
            runtime.shutdown_timeout(Duration::from_secs(2));
            code
        }
        Err(e) => {
            eprintln!("calvex: no threads can be started: {e}");
            ExitCode::from(2)
        }
    }
}

/// What the argument parser prints in several lines, in one: what is wrong, the cure if it has one, and where to read on.
fn misused(reported: &str, arguments: impl Iterator<Item = String>) -> String {
    let mut lines = reported.lines().map(str::trim);
    let wrong: Vec<&str> = lines.by_ref().take_while(|line| !line.is_empty()).collect();
    let wrong = wrong.join(" ");
    let mut one = wrong.strip_prefix("error: ").unwrap_or(&wrong).to_owned();
    for tip in lines.filter_map(|line| line.strip_prefix("tip: ")) {
        one.push_str("; ");
        one.push_str(tip);
    }
    let (mut command, mut name) = (Cli::command(), "calvex".to_owned());
    for argument in arguments {
        let Some(next) = command.find_subcommand(&argument) else { break };
        name = format!("{name} {argument}");
        command = next.clone();
    }
    format!("{one}; see `{name} --help`")
}

async fn run() -> ExitCode {
    // The one TLS implementation of every client in this process; a second call could only say it is there already.
    let _ = rustls::crypto::ring::default_provider().install_default();
    let cli = match Cli::try_parse() {
        Ok(cli) => cli,
        // Help and version, asked for or for want of a command, are printed whole.
        Err(e) if !e.use_stderr() || e.kind() == ErrorKind::DisplayHelpOnMissingArgumentOrSubcommand => {
            let _ = e.print();
            return ExitCode::from(if e.use_stderr() { 2 } else { 0 });
        }
        Err(e) => {
            eprintln!(
                "calvex: {}",
                misused(&e.to_string(), std::env::args_os().skip(1).map_while(|a| a.into_string().ok()))
            );
            return ExitCode::from(2);
        }
    };
    if let Some(Err(e)) = cli.ca.as_deref().map(client::trust) {
        eprintln!("calvex: {e:#}");
        return ExitCode::from(2);
    }
    let ended = match cli.command {
        Command::Serve(c) => c.run().await,
        Command::Send(c) => c.run().await,
        Command::Ship(c) => c.run().await,
        Command::Arrivals(c) => c.run().await,
        Command::Mark(c) => c.run().await,
        Command::Probe(c) => c.run().await,
        Command::Search(c) => c.run().await,
        Command::Now(c) => c.run().await,
        Command::Saved(c) => c.run().await,
        Command::Profile(c) => c.run().await,
        Command::Tail(c) => c.run().await,
        Command::Export(c) => c.run().await,
        Command::Breakdown(c) => c.run().await,
        Command::Shapes(c) => c.run().await,
        Command::Errors(c) => c.run().await,
        Command::Story(c) => c.run().await,
        Command::Compare(c) => c.run().await,
        Command::Key(c) => c.run().await,
        Command::Token(c) => c.run().await,
        Command::Person(c) => c.run().await,
        Command::Team(c) => c.run().await,
        Command::Grant(c) => c.run().await,
        Command::Audit(c) => c.run().await,
        Command::Password(c) => c.run().await,
        Command::Whoami(c) => c.run().await,
        Command::Lane(c) => c.run().await,
        Command::Route(c) => c.run().await,
        Command::Transform(c) => c.run().await,
        Command::Dial(c) => c.run().await,
        Command::Tie(c) => c.run().await,
        Command::Pattern(c) => c.run(),
        Command::Fields(c) => c.run().await,
        Command::Rule(c) => c.run().await,
        Command::Contact(c) => c.run().await,
        Command::Alerts(c) => c.run().await,
        Command::Settings(c) => c.run(),
        Command::Admin(c) => c.run().await,
        Command::Demo(c) => c.run().await,
        Command::Provider(c) => c.run().await,
        Command::Receiver(c) => c.run().await,
        Command::Completions(c) => c.run(),
        Command::Manual(c) => c.run(Cli::command()),
    };
    match ended {
        Ok(Ended::Well) => ExitCode::SUCCESS,
        Ok(Ended::Nothing) => ExitCode::from(1),
        Err(e) if output::is_broken_pipe(&e) => ExitCode::SUCCESS,
        Err(e) => {
            eprintln!("calvex: {}", format!("{e:#}").replace('\n', " "));
            ExitCode::from(2)
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn misuse_is_told_in_one_line() {
        for (line, reported) in [
            (
                "calvex breakdown",
                "the following required arguments were not provided: <FIELDS>...; see `calvex breakdown --help`",
            ),
            (
                "calvex serach door",
                "unrecognized subcommand 'serach'; some similar subcommands exist: 'serve', 'search'; see `calvex --help`",
            ),
            (
                "calvex search --colums a",
                "unexpected argument '--colums' found; a similar argument exists: '--columns'; see `calvex search --help`",
            ),
            (
                "calvex search -n many",
                "invalid value 'many' for '--limit <LIMIT>': invalid digit found in string; see `calvex search --help`",
            ),
        ] {
            let error = Cli::try_parse_from(line.split(' '))
                .err()
                .map(|e| misused(&e.to_string(), line.split(' ').skip(1).map(str::to_owned)));
            assert_eq!(error.as_deref(), Some(reported), "{line}");
        }
    }
}
