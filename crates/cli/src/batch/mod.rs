//! Recipes on many files: what stands in them, which files need doing, and the doing of it.
//!
//! A recipe names sources, steps and where results go. Each source is one job; a job has a record beside the recipe that
//! says from what it was made and what came of it. What the record was made from decides whether a job is done again:
//! contents, never dates.

mod job;
mod plan;
mod recipe;
mod record;
mod schema;
mod shard;
mod sources;
mod worker_pool;

pub use job::{JobRunner, Overwrite};
pub use plan::{Choice, Job, Leftover, Plan, Verdict, plan, read_files};
pub use recipe::{EXAMPLE, Recipe};
#[cfg(test)]
pub use record::LeftOut;
pub use record::{Made, Outcome, Record, Records, digest_of_file};
pub use schema::schema;
pub use shard::Shard;
pub use worker_pool::{ProgressObserver, WorkerPool, is_stopping, stop_at_interrupt};
