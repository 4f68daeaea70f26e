//! Step 11: questions. Each is planned for one reader, run on the search threads within a budget, and written as the
//! interface has it.

pub mod budgets;
pub mod compare;
pub mod complete;
pub mod errors;
pub mod explain;
pub mod export;
pub mod measure;
pub mod overview;
pub mod reads;
pub mod rehearse;
pub mod run;
pub mod search;
pub mod search_pool;
pub mod story;
pub mod tail;
pub mod usual;
