//! Several jobs at a time.

use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Mutex, OnceLock, PoisonError};

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

/// Starts the threads for what is done in parallel in this process: so many, or one a core where it is not said. The first call
/// counts.
pub fn use_threads(threads: Option<usize>) -> Result<(), Failure> {
    static MADE: OnceLock<Result<(), String>> = OnceLock::new();
    let cores = || std::thread::available_parallelism().map_or(1, usize::from);
    let make = || {
        let threads = threads.unwrap_or_else(cores);
        ThreadPoolBuilder::new().num_threads(threads).build_global().map_err(|error| error.to_string())
    };
    let made = MADE.get_or_init(make).clone();
    made.map_err(|error| Failure::new(format!("threads cannot be started: {error}")))
}

/// Workers, each of which does one job at a time.
///
/// What a job does in parallel is done by threads that all workers share, so that the last long file has all of them. The workers
/// are none of these: a thread that waits for its part may take up a part of another job then, but never another job.
pub struct WorkerPool {
    workers: usize,
}

impl WorkerPool {
    /// As many workers as there are threads, or jobs.
    pub fn new(jobs: usize) -> WorkerPool {
        WorkerPool { workers: rayon::current_num_threads().min(jobs.max(1)) }
    }

    /// What becomes of each of the jobs, as long as they can `go_on` and are not asked to end; `None` for those that were not
    /// begun.
    pub fn each<T: Send>(
        &self,
        jobs: &[&Job<'_>],
        work: impl Fn(&Job<'_>) -> T + Sync,
        go_on: impl Fn() -> bool + Sync,
    ) -> Vec<Option<T>> {
        let next = AtomicUsize::new(0);
        let results: Mutex<Vec<Option<T>>> = Mutex::new(jobs.iter().map(|_| None).collect());
        std::thread::scope(|scope| {
            for _ in 0..self.workers {
                scope.spawn(|| {
                    while !is_stopping() && go_on() {
                        let index = next.fetch_add(1, Ordering::SeqCst);
                        let Some(job) = jobs.get(index) else { break };
                        let result = work(job);
                        results.lock().unwrap_or_else(PoisonError::into_inner)[index] = Some(result);
                    }
                });
            }
        });
        results.into_inner().unwrap_or_else(PoisonError::into_inner)
    }
}
