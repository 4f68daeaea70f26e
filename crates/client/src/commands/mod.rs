//! One file a command.

pub mod arrivals;
pub mod breakdown;
pub mod compare;
pub mod errors;
pub mod export;
pub mod mark;
pub mod now;
pub mod saved;
pub mod search;
pub mod send;
pub mod shapes;
pub mod ship;
pub mod story;
pub mod tail;
