//! What a node does with what comes and with what is asked. In: bytes on sockets, questions. Out: events in the store,
//! answers. All that an event or a question passes is here; what surrounds it (the HTTP interface, jobs, notifications,
//! start and stop) is `calvex-service`, which is built with less optimisation.
//!
//! A folder for each concern: [`config`] what a node is set to and knows; [`auth`] who asks; [`listen`] the sockets;
//! [`admission`] how much of what an outsider asks for is let in, and when; [`intake`] bytes to batches; [`pipeline`]
//! batches to the journal, heads and chunks; [`answer`] questions; [`http`] what surrounds a request, and the handlers of
//! questions; [`nodes`] other nodes of the database. [`state`] has the parts of a running node.

#![warn(missing_docs)]

pub mod admission;
pub mod answer;
pub mod auth;
pub mod config;
pub mod described;
pub mod error;
pub mod http;
pub mod intake;
pub mod listen;
pub mod metrics;
pub mod nodes;
pub mod pipeline;
pub mod state;
