//! The command line of `run`.

use std::path::PathBuf;

use clap::Args;

use crate::batch::{Division, Shard};
use crate::quantity;

/// Do the steps of a recipe on many files: only what changed, several at a time, with one table at the end
#[derive(Args, Clone, Debug)]
#[command(group = clap::ArgGroup::new("mode"))]
pub struct Run {
    /// Recipe to do: a TOML file, as --example prints one
    #[arg(value_name = "RECIPE.toml", required_unless_present = "example")]
    pub recipe: Option<PathBuf>,
    /// Sources to do, by path or pattern with *; all where left out
    #[arg(long, value_name = "SOURCE", num_args = 1..)]
    pub source: Vec<String>,
    /// Take files whose size and time are as they were for unchanged, without a look into them
    #[arg(long)]
    pub quick: bool,
    /// Do files again whose sources, maps, steps and outputs are as they were
    #[arg(long)]
    pub all: bool,
    /// Write over outputs that are there and not as a run wrote them
    #[arg(long)]
    pub replace: bool,
    /// Remove files of earlier runs that nothing makes any more
    #[arg(long)]
    pub prune: bool,
    /// Cores to use [default: all]
    #[arg(long, value_name = "N", value_parser = quantity::whole::<u16>(1, 65_535))]
    pub jobs: Option<u16>,
    /// List what would be done and why, and do nothing
    #[arg(long, group = "mode")]
    pub dry_run: bool,
    /// Run again whenever a source, a map or the recipe changes, until Ctrl-C
    #[arg(long, group = "mode")]
    pub watch: bool,
    /// Do one share of the sources: 2/8; queue, or queue/8, for the one of this task of an array job; or dynamic: each
    /// worker takes the next file that no other has, the largest first
    #[arg(long, value_name = "K/N", help_heading = "Several machines")]
    pub shard: Option<Division>,
    /// Do the share of the task whose number stands in a variable of the environment, of N
    #[arg(long, value_name = "VARIABLE/N", conflicts_with = "shard", value_parser = Shard::from_variable, help_heading = "Several machines")]
    pub shard_from: Option<Shard>,
    /// Print the sources that are to be done, one a line, for another runner; each is done with --source
    #[arg(long, group = "mode", help_heading = "Several machines")]
    pub list: bool,
    /// Print the table of all that was done, by whichever run or machine
    #[arg(long, group = "mode", help_heading = "Several machines")]
    pub merge_tables: bool,
    /// Of that table, print only the sources that failed or are not done, one a line
    #[arg(long, requires = "merge_tables", conflicts_with = "json", help_heading = "Several machines")]
    pub failed: bool,
    /// Write a text file for each source that is done, below a folder: when, where, what came of it
    #[arg(long, value_name = "FOLDER", help_heading = "Reports")]
    pub logs: Option<PathBuf>,
    /// Write the table to a file, too: .md, .csv or .json
    #[arg(long, value_name = "FILE", help_heading = "Reports")]
    pub summary: Option<PathBuf>,
    /// How many files to list, those that failed first; 0 lists all
    #[arg(long, value_parser = quantity::whole::<usize>(0, 1_000_000_000), value_name = "N", default_value_t = 20, help_heading = "Reports")]
    pub rows: usize,
    /// Print JSON
    #[arg(long, help_heading = "Reports")]
    pub json: bool,
    /// Print a recipe with comments, to start from
    #[arg(long, group = "mode", conflicts_with_all = ["recipe", "json"], help_heading = "Reports")]
    pub example: bool,
}
