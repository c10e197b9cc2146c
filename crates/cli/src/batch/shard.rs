//! Shares of the work for several machines.

use std::fmt;
use std::str::FromStr;

/// One of several shares: each job belongs to just one of them, by its name, whatever other jobs there are.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Shard {
    /// From 1 on.
    index: u64,
    count: u64,
}

impl Shard {
    /// Whether a job is in the share; `hash` is one of its name.
    pub fn holds(self, hash: u64) -> bool {
        hash % self.count == self.index - 1
    }

    /// The share that the task of an array job has, by the variables that its queue sets.
    pub fn of_queue(variable: impl Fn(&str) -> Option<String>) -> Result<Shard, String> {
        let number = |name: &str| variable(name).and_then(|text| text.parse::<u64>().ok());
        for queue in &QUEUES {
            let Some(task) = number(queue.task) else { continue };
            let first = queue.first.and_then(number).unwrap_or(1);
            let step = queue.step.and_then(number).unwrap_or(1).max(1);
            let count = match (queue.count.and_then(number), queue.last.and_then(number)) {
                (Some(count), _) => count,
                (None, Some(last)) if last >= first => (last - first) / step + 1,
                _ => {
                    return Err(format!(
                        "the queue sets {} and not how many tasks there are: say --shard queue/N",
                        queue.task
                    ));
                }
            };
            let at = task.checked_sub(first).filter(|by| by % step == 0).map(|by| by / step);
            return at.filter(|at| *at < count).map(|at| Shard { index: at + 1, count }).ok_or_else(|| {
                format!(
                    "the tasks of the array are not evenly spaced: {} is {task}; say --shard K/N",
                    queue.task
                )
            });
        }
        let names: Vec<&str> = QUEUES.iter().map(|queue| queue.task).collect();
        Err(format!("this is no task of an array job: none of {} is set", names.join(", ")))
    }

    /// The same where the number of tasks is given: tasks with numbers in a row have all shares between them.
    fn of_queue_with(count: u64, variable: impl Fn(&str) -> Option<String>) -> Result<Shard, String> {
        let task = QUEUES.iter().find_map(|queue| variable(queue.task)?.parse::<u64>().ok());
        match task {
            Some(task) => Ok(Shard { index: task % count + 1, count }),
            None => Shard::of_queue(variable),
        }
    }
}

/// The variables in which one kind of batch queue says which task of an array this is.
struct Queue {
    task: &'static str,
    first: Option<&'static str>,
    last: Option<&'static str>,
    step: Option<&'static str>,
    count: Option<&'static str>,
}

const QUEUES: [Queue; 4] = [
    Queue {
        task: "SLURM_ARRAY_TASK_ID",
        first: Some("SLURM_ARRAY_TASK_MIN"),
        last: Some("SLURM_ARRAY_TASK_MAX"),
        step: Some("SLURM_ARRAY_TASK_STEP"),
        count: Some("SLURM_ARRAY_TASK_COUNT"),
    },
    Queue {
        task: "SGE_TASK_ID",
        first: Some("SGE_TASK_FIRST"),
        last: Some("SGE_TASK_LAST"),
        step: Some("SGE_TASK_STEPSIZE"),
        count: None,
    },
    Queue {
        task: "LSB_JOBINDEX",
        first: None,
        last: Some("LSB_JOBINDEX_END"),
        step: Some("LSB_JOBINDEX_STEP"),
        count: None,
    },
    Queue { task: "PBS_ARRAY_INDEX", first: None, last: None, step: None, count: None },
];

impl fmt::Display for Shard {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}/{}", self.index, self.count)
    }
}

impl FromStr for Shard {
    type Err = String;

    /// `K/N`, or `queue` and `queue/N` for what the environment says.
    fn from_str(text: &str) -> Result<Shard, String> {
        let variable = |name: &str| std::env::var(name).ok();
        let bad = || format!("'{text}' is no share: write K/N, such as 2/8, or queue in an array job");
        if text == "queue" {
            return Shard::of_queue(variable);
        }
        let (index, count) = text.split_once('/').ok_or_else(bad)?;
        let count = count.parse::<u64>().ok().filter(|count| *count > 0).ok_or_else(bad)?;
        if index == "queue" {
            return Shard::of_queue_with(count, variable);
        }
        let index = index.parse::<u64>().ok().filter(|index| (1..=count).contains(index)).ok_or_else(bad)?;
        Ok(Shard { index, count })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn queue(variables: &[(&str, &str)]) -> Result<Shard, String> {
        Shard::of_queue(|name| variables.iter().find(|(own, _)| *own == name).map(|(_, v)| (*v).to_owned()))
    }

    #[test]
    fn shares_are_typed_as_one_of_several() {
        assert_eq!("2/8".parse(), Ok(Shard { index: 2, count: 8 }));
        for bad in ["0/4", "5/4", "1/0", "x/4", "3", "", "-1/4"] {
            assert!(bad.parse::<Shard>().is_err(), "{bad}");
        }
    }

    #[test]
    fn every_job_is_in_one_share() {
        for count in 1..=7 {
            for hash in [0, 1, 6, u64::MAX, 1 << 40] {
                let of = |index| Shard { index, count }.holds(hash);
                assert_eq!((1..=count).filter(|index| of(*index)).count(), 1);
            }
        }
    }

    #[test]
    fn array_jobs_say_which_share_is_theirs() {
        let share = |index, count| Ok(Shard { index, count });
        let slurm = |task, first, count, step| {
            queue(&[
                ("SLURM_ARRAY_TASK_ID", task),
                ("SLURM_ARRAY_TASK_MIN", first),
                ("SLURM_ARRAY_TASK_COUNT", count),
                ("SLURM_ARRAY_TASK_STEP", step),
            ])
        };
        assert_eq!(slurm("0", "0", "4", "1"), share(1, 4));
        assert_eq!(slurm("3", "0", "4", "1"), share(4, 4));
        assert_eq!(slurm("4", "1", "4", "1"), share(4, 4));
        assert_eq!(slurm("30", "10", "3", "10"), share(3, 3));
        // An array such as 1,2,9 is not evenly spaced.
        assert!(slurm("9", "1", "3", "1").unwrap_err().contains("not evenly spaced"));
        let sge = [
            ("SGE_TASK_ID", "5"),
            ("SGE_TASK_FIRST", "1"),
            ("SGE_TASK_LAST", "9"),
            ("SGE_TASK_STEPSIZE", "2"),
        ];
        assert_eq!(queue(&sge), share(3, 5));
        assert_eq!(queue(&[("LSB_JOBINDEX", "2"), ("LSB_JOBINDEX_END", "4")]), share(2, 4));
        assert!(queue(&[("PBS_ARRAY_INDEX", "2")]).unwrap_err().contains("--shard queue/N"));
        assert!(queue(&[]).unwrap_err().contains("no task of an array job"));
        // Outside array jobs some queues set the variable to a word.
        assert!(queue(&[("SGE_TASK_ID", "undefined")]).is_err());
    }

    #[test]
    fn tasks_in_a_row_have_all_shares_between_them() {
        let share = |task: u64| {
            let variable = |name: &str| (name == "PBS_ARRAY_INDEX").then(|| task.to_string());
            Shard::of_queue_with(4, variable).unwrap().index
        };
        for first in [0, 1, 7] {
            let mut all: Vec<u64> = (first..first + 4).map(share).collect();
            all.sort_unstable();
            assert_eq!(all, [1, 2, 3, 4]);
        }
    }
}
