//! What end-to-end tests, benchmarks and pictures share: the real binary, its database, and a browser.

pub mod browser;
pub mod buckets;
pub mod galera;
pub mod hostile;
pub mod load;
pub mod lone;
pub mod machines;
pub mod mariadb;
pub mod overdue;
pub mod pump;
pub mod receiver;
pub mod scale;
pub mod second_load;
pub mod service;
pub mod stage;
