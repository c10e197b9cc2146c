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

/// How several workers divide the work.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Division {
    /// By names: this one's share is fixed.
    Fixed(Shard),
    /// By claims: each takes the next file that nobody has.
    Dynamic,
}

impl Shard {
    /// Whether a job is in the share; `hash` is one of its name.
    pub fn holds(self, hash: u64) -> bool {
        hash % self.count == self.index - 1
    }

    /// The share of a task, by its number alone: the same whatever tasks run beside it, and whichever number is the first.
    /// Tasks with numbers in a row have all shares between them.
    fn of_task(task: u64, count: u64) -> Shard {
        let place = task % count;
        Shard { index: if place == 0 { count } else { place }, count }
    }

    /// The share that the task of an array job has, by the variables that its queue sets, of `count` where it is given.
    fn of_queue(count: Option<u64>, variable: impl Fn(&str) -> Option<String>) -> Result<Shard, String> {
        let number = |name: &str| variable(name).and_then(|text| text.parse::<u64>().ok());
        let Some((queue, task)) = QUEUES.iter().find_map(|queue| Some((queue, number(queue.task)?))) else {
            let names: Vec<&str> = QUEUES.iter().map(|queue| queue.task).collect();
            return Err(format!("this is no task of an array job: none of {} is set", names.join(", ")));
        };
        let first = queue.first.and_then(number).unwrap_or(1);
        let step = queue.step.and_then(number).unwrap_or(1).max(1);
        let tasks = match (queue.count.and_then(number), queue.last.and_then(number)) {
            (Some(count), _) => Some(count),
            (None, Some(last)) if last >= first => Some((last - first) / step + 1),
            _ => None,
        };
        let Some(count) = count.or(tasks).filter(|count| *count > 0) else {
            return Err(format!(
                "the queue sets {} and not how many tasks there are: say --shard queue/N",
                queue.task
            ));
        };
        // Of a part of an array nobody can say how its tasks were numbered; of a whole one it shows.
        if tasks == Some(count) && step > 1 && common_divisor(step, count) > 1 {
            return Err(format!(
                "the tasks are numbered by steps of {step}, so that some shares would have two and others none: number them \
                 in a row"
            ));
        }
        if tasks == Some(count)
            && queue
                .last
                .and_then(number)
                .is_some_and(|last| last.saturating_sub(first) != step.saturating_mul(count - 1))
        {
            return Err(format!(
                "the tasks of the array are not numbered in a row, as those of a part of one: say --shard queue/N with the \
                 number of tasks of the whole array ({} is {task})",
                queue.task
            ));
        }
        Ok(Shard::of_task(task, count))
    }

    /// `VARIABLE/N`: the share of the task whose number stands in a variable of the environment.
    pub fn from_variable(text: &str) -> Result<Shard, String> {
        let bad = || format!("'{text}' is no share: write VARIABLE/N, such as TASK/8");
        let (name, count) = text.rsplit_once('/').ok_or_else(bad)?;
        let count = count.parse::<u64>().ok().filter(|count| *count > 0).ok_or_else(bad)?;
        let task = std::env::var(name).map_err(|_| format!("{name} is not set"))?;
        let number = task.trim().parse::<u64>();
        number
            .map(|task| Shard::of_task(task, count))
            .map_err(|_| format!("{name} is '{task}', which is no number"))
    }
}

fn common_divisor(a: u64, b: u64) -> u64 {
    if b == 0 { a } else { common_divisor(b, a % b) }
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

impl FromStr for Division {
    type Err = String;

    /// `K/N`, `queue` and `queue/N` for what the environment says, or `dynamic`.
    fn from_str(text: &str) -> Result<Division, String> {
        let variable = |name: &str| std::env::var(name).ok();
        let bad =
            || format!("'{text}' is no share: write K/N, such as 2/8, queue in an array job, or dynamic");
        if text == "dynamic" {
            return Ok(Division::Dynamic);
        }
        if text == "queue" {
            return Shard::of_queue(None, variable).map(Division::Fixed);
        }
        let (index, count) = text.split_once('/').ok_or_else(bad)?;
        let count = count.parse::<u64>().ok().filter(|count| *count > 0).ok_or_else(bad)?;
        if index == "queue" {
            return Shard::of_queue(Some(count), variable).map(Division::Fixed);
        }
        let index = index.parse::<u64>().ok().filter(|index| (1..=count).contains(index)).ok_or_else(bad)?;
        Ok(Division::Fixed(Shard { index, count }))
    }
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;

    use super::*;

    fn queue(count: Option<u64>, variables: &[(&str, String)]) -> Result<Shard, String> {
        Shard::of_queue(count, |name| variables.iter().find(|(own, _)| *own == name).map(|(_, v)| v.clone()))
    }

    /// What the queue that says most sets for a task of an array of these numbers.
    fn array(tasks: &[u64], task: u64) -> Vec<(&'static str, String)> {
        let step = tasks.windows(2).map(|pair| pair[1] - pair[0]).reduce(common_divisor).unwrap_or(1);
        vec![
            ("SLURM_ARRAY_TASK_ID", task.to_string()),
            ("SLURM_ARRAY_TASK_MIN", tasks[0].to_string()),
            ("SLURM_ARRAY_TASK_MAX", tasks[tasks.len() - 1].to_string()),
            ("SLURM_ARRAY_TASK_COUNT", tasks.len().to_string()),
            ("SLURM_ARRAY_TASK_STEP", step.to_string()),
        ]
    }

    #[test]
    fn shares_are_typed_as_one_of_several() {
        assert_eq!("2/8".parse(), Ok(Division::Fixed(Shard { index: 2, count: 8 })));
        assert_eq!("dynamic".parse(), Ok(Division::Dynamic));
        for bad in ["0/4", "5/4", "1/0", "x/4", "3", "", "-1/4", "queue/0"] {
            assert!(bad.parse::<Division>().is_err(), "{bad}");
        }
        assert!(Shard::from_variable("NO_SUCH_VARIABLE/4").unwrap_err().contains("is not set"));
        assert!(Shard::from_variable("PATH/4").unwrap_err().contains("no number"));
        assert!(Shard::from_variable("PATH").unwrap_err().contains("VARIABLE/N"));
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
    fn tasks_have_all_shares_between_them_and_keep_them_in_a_part_of_the_array() {
        for count in 1..=9_u64 {
            for first in [0, 1, 2, 7, 1000] {
                let all: Vec<u64> = (first..first + count).collect();
                let share = |task: u64| queue(Some(count), &array(&all, task)).unwrap();
                let shares: BTreeSet<u64> = all.iter().map(|task| share(*task).index).collect();
                assert_eq!(shares, (1..=count).collect());
                for task in &all {
                    // Whether their number is said or not, and whichever others are sent again with it.
                    assert_eq!(queue(None, &array(&all, *task)), Ok(share(*task)));
                    for part in [vec![*task], all.iter().copied().filter(|own| *own >= *task).collect()] {
                        assert_eq!(queue(Some(count), &array(&part, *task)), Ok(share(*task)));
                    }
                }
            }
        }
    }

    #[test]
    fn arrays_that_are_not_numbered_in_a_row_are_told() {
        assert!(queue(None, &array(&[10, 20, 30, 40], 20)).unwrap_err().contains("steps of 10"));
        assert!(queue(None, &array(&[1, 2, 9], 9)).unwrap_err().contains("not numbered in a row"));
        assert!(queue(Some(9), &array(&[1, 2, 9], 9)).is_ok());
        // Numbers by steps that come round to all shares do.
        let odd = [1, 3, 5, 7, 9];
        let shares: BTreeSet<u64> =
            odd.iter().map(|task| queue(None, &array(&odd, *task)).unwrap().index).collect();
        assert_eq!(shares.len(), 5);
    }

    #[test]
    fn queues_say_what_they_do_in_variables_of_their_own() {
        let text = |set: &[(&'static str, &str)]| -> Vec<(&'static str, String)> {
            set.iter().map(|(name, value)| (*name, (*value).to_owned())).collect()
        };
        let share = |index, count| Ok(Shard { index, count });
        let sge = [
            ("SGE_TASK_ID", "5"),
            ("SGE_TASK_FIRST", "1"),
            ("SGE_TASK_LAST", "9"),
            ("SGE_TASK_STEPSIZE", "1"),
        ];
        assert_eq!(queue(None, &text(&sge)), share(5, 9));
        assert_eq!(queue(None, &text(&[("LSB_JOBINDEX", "2"), ("LSB_JOBINDEX_END", "4")])), share(2, 4));
        let pbs = text(&[("PBS_ARRAY_INDEX", "0")]);
        assert!(queue(None, &pbs).unwrap_err().contains("--shard queue/N"));
        assert_eq!(queue(Some(4), &pbs), share(4, 4));
        let odd = text(&[
            ("SLURM_ARRAY_TASK_ID", "18446744073709551615"),
            ("SLURM_ARRAY_TASK_MIN", "9"),
            ("SLURM_ARRAY_TASK_MAX", "1"),
            ("SLURM_ARRAY_TASK_COUNT", "18446744073709551615"),
            ("SLURM_ARRAY_TASK_STEP", "7"),
        ]);
        assert!(queue(None, &odd).is_err() && queue(Some(u64::MAX), &odd).is_err());
        assert_eq!(queue(Some(4), &odd), share(3, 4));
        assert!(queue(None, &[]).unwrap_err().contains("no task of an array job"));
        // Outside array jobs some queues set the variable to a word.
        assert!(queue(None, &text(&[("SGE_TASK_ID", "undefined")])).is_err());
    }
}
