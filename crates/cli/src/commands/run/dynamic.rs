//! Work that several workers divide among themselves by claims.

use std::collections::HashMap;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use super::progress::Progress;
use crate::batch::{Claims, Id, Job, Outcome, Plan, WorkerPool, is_stopping};
use crate::failure::Failure;
use crate::report::counted;
use crate::terminal;

/// How long until jobs that others have are looked at again.
const PAUSE: Duration = Duration::from_millis(500);

/// What came of a job at one look.
enum Came<T> {
    Done(Box<T>),
    /// Another worker did it.
    Elsewhere,
    /// Another worker has it.
    Held,
}

/// Says that all is over when it goes, however that comes about: who waits for it would wait for ever.
struct Over<'a>(&'a AtomicBool);

impl Drop for Over<'_> {
    fn drop(&mut self) {
        self.0.store(true, Ordering::SeqCst);
    }
}

/// Does jobs that other workers do, too: each that nobody has claimed, and that nobody has done since it was looked at. Those
/// that others have are waited for, in case one of them is killed. Gives what came of them, and how many others did.
pub fn by_claims<T: Send>(
    plan: &Plan<'_>,
    jobs: &[Job<'_>],
    (crew, progress): (&WorkerPool, &Progress),
    work: impl Fn(&Job<'_>) -> T + Sync,
    goes_on: impl Fn() -> bool + Sync,
) -> Result<(Vec<Option<T>>, usize), Failure> {
    let claims = Claims::new(plan.records);
    let is_over = AtomicBool::new(false);
    let came = |job: &Job<'_>| {
        let came = at_one_look(plan, &claims, job, &work);
        if matches!(came, Came::Elsewhere) {
            progress.skips();
        }
        came
    };
    let mut made: HashMap<Id, T> = HashMap::new();
    let mut elsewhere = 0;
    std::thread::scope(|scope| -> Result<(), Failure> {
        let _over = Over(&is_over);
        scope.spawn(|| claims.renew_until(|| is_over.load(Ordering::SeqCst)));
        let mut left: Vec<&Job<'_>> = jobs.iter().collect();
        let mut looks = 0;
        while !left.is_empty() && !is_stopping() && goes_on() {
            let mut held = Vec::new();
            for (job, came) in left.iter().zip(crew.each(&left, came, &goes_on)) {
                match came {
                    Some(Came::Done(done)) => drop(made.insert(job.source.id(), *done)),
                    Some(Came::Elsewhere) => elsewhere += 1,
                    Some(Came::Held) | None => held.push(*job),
                }
            }
            left = held;
            looks += 1;
            // Most of those that others had at the first look are done at the second.
            if looks == 1 || left.is_empty() || is_stopping() {
                continue;
            }
            if looks == 2 {
                let said = counted(left.len(), "file");
                terminal::remark(&format!("waiting for {said} that other workers have"));
            }
            std::thread::sleep(PAUSE);
        }
        Ok(())
    })?;
    Ok((jobs.iter().map(|job| made.remove(&job.source.id())).collect(), elsewhere))
}

fn at_one_look<T>(
    plan: &Plan<'_>,
    claims: &Claims<'_>,
    job: &Job<'_>,
    work: impl Fn(&Job<'_>) -> T,
) -> Came<T> {
    let _claim = match claims.claim(job.source.id()) {
        Ok(Some(claim)) => Some(claim),
        Ok(None) => return Came::Held,
        // Without a claim two workers may do one job, and write the same.
        Err(error) => {
            terminal::remark(&format!("{}: cannot be claimed: {error}", job.source.name));
            None
        }
    };
    let now = plan.job(job.source);
    match &now.record {
        Some(record) if now.record != job.record && record.outcome != Outcome::Begun => Came::Elsewhere,
        _ => Came::Done(Box::new(work(&now))),
    }
}
