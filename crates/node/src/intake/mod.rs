//! Steps 1 to 6: bytes from a sender to normalised events on their way to a lane.

mod account;
mod body;
mod events;
mod grpc;
mod grpc_call;
mod idempotency;
pub mod ledger;
pub mod limits;
mod lines;
mod otlp;
mod prepare;
pub mod probe;
pub mod sender;
mod streams;
mod syslog;
mod take;

pub use events::post_events;
pub use grpc::router as grpc_router;
pub use lines::serve as serve_lines;
pub use otlp::{post_logs, post_metrics, post_traces};
pub use syslog::{serve_tcp as serve_syslog_tcp, serve_tls as serve_syslog_tls, serve_udp as serve_syslog_udp};

pub use account::refuse;
use take::{Body, admit, not_drained, take};
