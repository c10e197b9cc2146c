//! Recipes on many files: what stands in them, which files need doing, and the doing of it.
//!
//! A recipe names sources, steps and where results go. Each source is one job; a job has a record beside the recipe that
//! says from what it was made and what came of it. What the record was made from decides whether a job is done again:
//! contents, unless the user says that sizes and times do.

mod claims;
mod inputs;
mod item;
mod job;
mod leftovers;
mod origin;
mod plan;
mod recipe;
mod record;
mod schema;
mod shard;
mod sources;
mod worker_pool;
mod writer;

pub use claims::Claims;
pub use inputs::{Proof, read_files};
pub use job::JobRunner;
pub use leftovers::{Leftover, leftovers, of_job};
pub use origin::Origin;
pub use plan::{Choice, Job, Plan, Verdict, plan};
pub use recipe::{EXAMPLE, Recipe};
#[cfg(test)]
pub use record::LeftOut;
pub use record::{Id, Made, Outcome, Record, Records, digest_of_file};
pub use schema::schema;
pub use shard::{Division, Shard};
pub use worker_pool::{WorkerPool, is_stopping, stop_at_interrupt, use_threads};
pub use writer::{Overwrite, sweep};
