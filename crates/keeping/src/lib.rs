//! The commands that keep what stands besides events: people and their rights, lanes and rules, the services that this
//! client knows. One file each. In: what the command line parsed, and answers of the service. Out: tables, lines and NDJSON
//! on standard output, by the means of `calvex-client`.
//!
//! Each asks a few times and prints some rows, so that this crate is compiled without optimisation.
#![warn(missing_docs)]

mod alerts;
mod audit;
mod contact;
mod dial;
mod fields;
mod grant;
mod lane;
mod password;
mod pattern;
mod person;
mod profile;
mod rule;
mod team;
mod tie;
mod transform;
mod whoami;

pub use audit::verify as verify_trail;
use calvex_client::Work;
use clap::Subcommand;

/// What is kept besides events: people and their rights, lanes and rules, the services that this client knows.
#[derive(Subcommand)]
#[allow(missing_docs, reason = "a command documents itself in its help, which is its first line here or at its type")]
pub enum Keeping {
    /// People who sign in: added, changed, disabled
    Person(person::Person),
    Team(team::Team),
    Grant(grant::Grant),
    Audit(audit::Audit),
    /// Change one's own password, or set it by a code
    Password(password::Password),
    /// Who asks, and what that may read
    Whoami(whoami::WhoAmI),
    /// Lanes and their retention
    Lane(lane::Lane),
    /// Routes to lanes
    Route(lane::Route),
    /// Transform rules: what is done to events on purpose before they are kept
    Transform(transform::Transform),
    /// Dials: the least severity kept for some events, for a while
    Dial(dial::Dial),
    /// Ties: ids that tie events together, and the spellings that mean them
    Tie(tie::Tie),
    /// Line patterns, tried on lines and proposed from them
    Pattern(pattern::Pattern),
    /// The fields of a lane: types, values, first and last seen
    Fields(fields::Fields),
    /// Alert rules: checked, played over the past, applied from files
    Rule(rule::Rule),
    /// Contacts: whom rules notify, by mail or a signed webhook
    Contact(contact::Contacts),
    /// Alerts: what was raised, when, and who was notified
    Alerts(alerts::Alerts),
    /// Services by name, with their addresses and tokens
    Profile(profile::Profile),
}

impl Keeping {
    /// Runs the command.
    ///
    /// # Errors
    /// What the command line reports in one line.
    pub fn run(self) -> Work {
        Box::pin(async move {
            match self {
                Keeping::Person(c) => c.run().await,
                Keeping::Team(c) => c.run().await,
                Keeping::Grant(c) => c.run().await,
                Keeping::Audit(c) => c.run().await,
                Keeping::Password(c) => c.run().await,
                Keeping::Whoami(c) => c.run().await,
                Keeping::Lane(c) => c.run().await,
                Keeping::Route(c) => c.run().await,
                Keeping::Transform(c) => c.run().await,
                Keeping::Dial(c) => c.run().await,
                Keeping::Tie(c) => c.run().await,
                Keeping::Pattern(c) => c.run(),
                Keeping::Fields(c) => c.run().await,
                Keeping::Rule(c) => c.run().await,
                Keeping::Contact(c) => c.run().await,
                Keeping::Alerts(c) => c.run().await,
                Keeping::Profile(c) => c.run().await,
            }
        })
    }
}
