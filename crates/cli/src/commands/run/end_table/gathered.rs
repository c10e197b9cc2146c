//! The jobs of a plan, by what is to become of them.

use rayon::prelude::*;

use super::row::{Detail, Row};
use crate::batch::{Job, Leftover, Made, Plan, Verdict, of_job};

/// What is only counted.
#[derive(Clone, Debug, Default)]
pub struct Tally {
    pub files: usize,
    /// Those with something that a person should look at.
    pub to_look_at: usize,
    pub before: usize,
    pub after: usize,
    /// The largest errors of rotations, positions and numbers.
    pub error: [Option<f64>; 3],
}

impl Tally {
    /// With one more file that was made.
    pub fn with(mut self, made: &Made) -> Tally {
        self.before += made.before;
        self.after += made.after;
        for (most, own) in self.error.iter_mut().zip([made.rotation_deg, made.position_mm, made.number]) {
            *most = [*most, own].into_iter().flatten().reduce(f64::max);
        }
        self
    }

    fn and(mut self, other: Tally) -> Tally {
        self.files += other.files;
        self.to_look_at += other.to_look_at;
        self.before += other.before;
        self.after += other.after;
        for (most, own) in self.error.iter_mut().zip(other.error) {
            *most = [*most, own].into_iter().flatten().reduce(f64::max);
        }
        self
    }
}

/// The jobs of a plan: those that are to be done, and what is to be told of the others.
#[derive(Default)]
pub struct Gathered<'p> {
    /// By source.
    pub to_do: Vec<Job<'p>>,
    pub rows: Vec<Row>,
    pub tally: Tally,
    /// Files that jobs made once and make no more.
    pub leftovers: Vec<Leftover>,
}

impl<'p> Gathered<'p> {
    /// Looks at all jobs, several at a time.
    pub fn of(plan: &'p Plan<'_>, detail: Detail) -> Gathered<'p> {
        let one = |gathered: Gathered<'p>, job: Job<'p>| gathered.with(job, detail);
        plan.jobs().fold(Gathered::default, one).reduce(Gathered::default, Gathered::and)
    }

    fn with(mut self, job: Job<'p>, detail: Detail) -> Gathered<'p> {
        match job.verdict {
            Verdict::ToDo(_) => {
                self.to_do.push(job);
                return self;
            }
            Verdict::UpToDate => {
                self.leftovers.extend(job.record.iter().flat_map(|record| of_job(job.source.id(), record)));
            }
            Verdict::FailsAsBefore | Verdict::Broken(_) => {}
        }
        match &job.record {
            Some(record) if detail == Detail::Counted && job.verdict == Verdict::UpToDate => {
                let animations = || record.outputs.iter().filter(|made| made.is_animation);
                let own = Tally {
                    files: 1,
                    to_look_at: usize::from(animations().any(Made::needs_a_look)),
                    ..Tally::default()
                };
                self.tally = self.tally.and(animations().fold(own, Tally::with));
            }
            _ => self.rows.push(Row::unchanged(job, detail)),
        }
        self
    }

    fn and(mut self, mut other: Gathered<'p>) -> Gathered<'p> {
        self.to_do.append(&mut other.to_do);
        self.rows.append(&mut other.rows);
        self.leftovers.append(&mut other.leftovers);
        self.tally = self.tally.and(other.tally);
        self
    }
}
