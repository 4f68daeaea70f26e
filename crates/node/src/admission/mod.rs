//! How much of what outsiders ask for is let in, and when: connections, memory, places for work.

pub mod accept;
pub mod behind;
pub mod budget;
pub mod connections;
pub mod lifting;
pub mod priority;
pub mod remembered;
pub mod slots;
