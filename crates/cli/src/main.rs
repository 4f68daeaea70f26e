//! The `calvex` binary: one command line. The commands that send and read events are in `calvex-client`, those that keep
//! people, lanes and rules in `calvex-keeping`, those of whoever runs a service in `calvex-operator`.

mod completions;
mod memory;

use calvex_client::{Ended, Reading, Sending, client, output, proposed};
use calvex_keeping::Keeping;
use calvex_operator as operator;
use clap::error::ErrorKind;
use clap::{CommandFactory, Parser, Subcommand};
use std::process::ExitCode;
use std::time::Duration;

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
    Serve(operator::Serve),
    #[command(flatten)]
    Sending(Sending),
    /// Send a marked event by each way in and report each step, up to found by search
    Probe(operator::Probe),
    #[command(flatten)]
    Reading(Reading),
    /// Keys with which senders send
    Key(operator::Key),
    /// Tokens with which clients read
    Token(operator::Token),
    #[command(flatten)]
    Keeping(Keeping),
    /// The effective settings and where each came from
    Settings(operator::ShowSettings),
    /// Backup, restore and upkeep
    Admin(operator::Admin),
    /// The demo: nine days of Fennmark Lockers, the night of the short leases last
    Demo(operator::Demo),
    /// Completions for a shell
    Completions(completions::Completions),
    /// Manual pages
    Manual(completions::Manual),
    Provider(operator::Provider),
    Receiver(operator::Receiver),
}

fn main() -> ExitCode {
    memory::give_back_soon();
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
        Command::Sending(c) => c.run().await,
        Command::Probe(c) => c.run().await,
        Command::Reading(c) => c.run().await,
        Command::Key(c) => c.run().await,
        Command::Token(c) => c.run().await,
        Command::Keeping(c) => c.run().await,
        Command::Settings(c) => c.run(),
        Command::Admin(c) => c.run().await,
        Command::Demo(c) => c.run().await,
        Command::Completions(c) => c.run(),
        Command::Manual(c) => c.run(Cli::command()),
        Command::Provider(c) => c.run().await,
        Command::Receiver(c) => c.run().await,
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
