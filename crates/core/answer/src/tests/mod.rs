//! Tests that ask every kind of question of one set of events.

mod partly;
