//! Step 11: questions. Each is planned for one reader, run on the search threads within a budget, and written as the
//! interface has it.

pub mod complete;
pub mod export;
pub mod measure;
pub mod overview;
pub mod search;
pub mod search_pool;
pub mod tail;
