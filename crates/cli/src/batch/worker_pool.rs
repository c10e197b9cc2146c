//! Several jobs at a time.

use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Mutex, PoisonError};

use rayon::ThreadPoolBuilder;

use super::plan::Job;
use super::record::{Outcome, Record};
use crate::failure::Failure;

/// Whether no job is to be begun any more.
static STOPPING: AtomicBool = AtomicBool::new(false);

/// Lets the first Ctrl-C, or a request to end, finish the jobs under way, and the second end the program.
pub fn stop_at_interrupt() -> Result<(), Failure> {
    let stop = || {
        if STOPPING.swap(true, Ordering::SeqCst) {
            std::process::exit(130);
        }
    };
    ctrlc::set_handler(stop).map_err(|error| Failure::new(format!("Ctrl-C cannot be listened to: {error}")))
}

/// Whether the program was asked to end.
pub fn is_stopping() -> bool {
    STOPPING.load(Ordering::SeqCst)
}

/// Sees jobs begin and end.
pub trait ProgressObserver: Sync {
    fn begins(&self, job: &Job);
    fn ends(&self, job: &Job, record: &Record);
}

/// Workers, each of which does one job at a time.
pub struct WorkerPool {
    workers: usize,
    /// Threads that a worker's job may use for its channels.
    threads: usize,
}

impl WorkerPool {
    /// A crew for so many jobs that uses so many threads in all; as many as there are cores where it is not said.
    pub fn new(threads: Option<usize>, jobs: usize) -> WorkerPool {
        let cores = || std::thread::available_parallelism().map_or(1, usize::from);
        let threads = threads.unwrap_or_else(cores).max(1);
        let workers = threads.min(jobs.max(1));
        WorkerPool { workers, threads: threads / workers }
    }

    /// Does the jobs, as long as it can `go_on` and is not asked to end; those that were not begun have no record.
    pub fn work_through(
        &self,
        jobs: &[&Job],
        work: impl Fn(&Job) -> Record + Sync,
        go_on: impl Fn() -> bool + Sync,
        onlooker: &impl ProgressObserver,
    ) -> Result<Vec<Option<Record>>, Failure> {
        let next = AtomicUsize::new(0);
        let records: Mutex<Vec<Option<Record>>> = Mutex::new(vec![None; jobs.len()]);
        // A pool a worker: one for all would let a thread that waits for channels begin another job, and hold both.
        let pools = (0..self.workers)
            .map(|_| ThreadPoolBuilder::new().num_threads(self.threads).build())
            .collect::<Result<Vec<_>, _>>()
            .map_err(|error| Failure::new(format!("threads cannot be started: {error}")))?;
        std::thread::scope(|scope| {
            for pool in &pools {
                scope.spawn(|| {
                    while !is_stopping() && go_on() {
                        let index = next.fetch_add(1, Ordering::SeqCst);
                        let Some(job) = jobs.get(index) else { break };
                        onlooker.begins(job);
                        let record = pool.install(|| catch_unwind(AssertUnwindSafe(|| work(job))));
                        let record = record.unwrap_or_else(|_| broken(job));
                        onlooker.ends(job, &record);
                        records.lock().unwrap_or_else(PoisonError::into_inner)[index] = Some(record);
                    }
                });
            }
        });
        Ok(records.into_inner().unwrap_or_else(PoisonError::into_inner))
    }
}

/// What is said of a job that met an error of the program itself, which must not end the others.
fn broken(job: &Job) -> Record {
    Record {
        source: job.source.clone(),
        outcome: Outcome::Failed,
        program: env!("CARGO_PKG_VERSION").to_owned(),
        steps: job.steps.clone(),
        inputs: job.inputs.clone(),
        outputs: Vec::new(),
        earlier: Vec::new(),
        error: Some("the program failed on this file; please report it with the file".to_owned()),
        seconds: 0.0,
    }
}
