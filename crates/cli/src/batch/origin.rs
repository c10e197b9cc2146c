//! By whom something was made: machine, process, job of a queue, and when.

use std::time::SystemTime;

use serde::{Deserialize, Serialize};

/// By whom, where and when.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Origin {
    pub machine: String,
    pub process: u32,
    /// What tells the process from others of its number, on other machines and at other times.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub mark: String,
    /// What a batch queue calls the job, with the task of its array.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub job: Option<String>,
    /// In universal time.
    pub date: String,
}

impl Origin {
    /// This process, now.
    pub fn now() -> Origin {
        Origin {
            machine: nimble_curve_formats::machine(),
            process: std::process::id(),
            mark: nimble_curve_formats::mark().to_owned(),
            job: job(|name| std::env::var(name).ok()),
            date: humantime::format_rfc3339_seconds(SystemTime::now()).to_string(),
        }
    }

    /// The job of a queue, or else the process.
    pub fn worker(&self) -> String {
        self.job.clone().unwrap_or_else(|| self.process.to_string())
    }
}

/// The variables in which queues say the number of a job, and of the task of an array; and whether 0 is such a number.
const JOBS: [(&str, &str, bool); 5] = [
    ("SLURM_ARRAY_JOB_ID", "SLURM_ARRAY_TASK_ID", true),
    ("SLURM_JOB_ID", "", false),
    ("LSB_JOBID", "LSB_JOBINDEX", false),
    ("PBS_JOBID", "PBS_ARRAY_INDEX", true),
    ("JOB_ID", "SGE_TASK_ID", false),
];

fn job(variable: impl Fn(&str) -> Option<String>) -> Option<String> {
    let (job, task, has_zero) =
        JOBS.iter().find_map(|(job, task, has_zero)| Some((variable(job)?, *task, *has_zero)))?;
    // Outside arrays some queues set the number of the task to 0, or to a word.
    let is_task = |task: &String| task.parse::<u64>().is_ok_and(|task| task > 0 || has_zero);
    let task = variable(task).filter(is_task);
    Some(task.map_or_else(|| job.clone(), |task| format!("{job}_{task}")))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_queue_says_which_job_it_is() {
        let of = |set: &[(&str, &str)]| {
            job(|name| set.iter().find(|(own, _)| *own == name).map(|(_, value)| (*value).to_owned()))
        };
        assert_eq!(of(&[]), None);
        let array = [("SLURM_JOB_ID", "13"), ("SLURM_ARRAY_JOB_ID", "12"), ("SLURM_ARRAY_TASK_ID", "0")];
        assert_eq!(of(&array).as_deref(), Some("12_0"));
        assert_eq!(of(&array[..1]).as_deref(), Some("13"));
        assert_eq!(of(&[("JOB_ID", "5"), ("SGE_TASK_ID", "undefined")]).as_deref(), Some("5"));
        assert_eq!(of(&[("LSB_JOBID", "5"), ("LSB_JOBINDEX", "2")]).as_deref(), Some("5_2"));
        assert_eq!(of(&[("LSB_JOBID", "5"), ("LSB_JOBINDEX", "0")]).as_deref(), Some("5"));
    }
}
