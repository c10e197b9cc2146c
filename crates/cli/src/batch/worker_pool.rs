//! Several jobs at a time.

use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Mutex, PoisonError};

use rayon::ThreadPoolBuilder;

use super::plan::Job;
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

    /// What becomes of each of the jobs, as long as they can `go_on` and are not asked to end; `None` for those that were not
    /// begun.
    pub fn each<T: Send>(
        &self,
        jobs: &[&Job<'_>],
        work: impl Fn(&Job<'_>) -> T + Sync,
        go_on: impl Fn() -> bool + Sync,
    ) -> Result<Vec<Option<T>>, Failure> {
        let next = AtomicUsize::new(0);
        let results: Mutex<Vec<Option<T>>> = Mutex::new(jobs.iter().map(|_| None).collect());
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
                        let result = pool.install(|| work(job));
                        results.lock().unwrap_or_else(PoisonError::into_inner)[index] = Some(result);
                    }
                });
            }
        });
        Ok(results.into_inner().unwrap_or_else(PoisonError::into_inner))
    }
}
