//! What would be done, and why.

use std::io::Write as _;

use serde::Serialize;

use super::end_table::{Detail, Gathered, LeftoverJson, print_leftovers};
use crate::args::Run;
use crate::batch::{self, Plan, Verdict};
use crate::failure::Failure;
use crate::report::{counted, print_json};
use crate::table::{Align, Table};
use crate::terminal::{Report, Style};

#[derive(Serialize)]
struct PlanJson<'a> {
    recipe: String,
    files: usize,
    to_do: Vec<ToDoJson<'a>>,
    left_from_earlier: Vec<LeftoverJson<'a>>,
}

#[derive(Serialize)]
struct ToDoJson<'a> {
    source: &'a str,
    why: &'a [String],
}

/// What would be done, and why.
pub fn print_plan(out: &mut Report, args: &Run, plan: &Plan<'_>) -> Result<(), Failure> {
    let Gathered { to_do, rows, leftovers, .. } = Gathered::of(plan, Detail::Counted);
    let leftovers = batch::leftovers(plan, leftovers)?;
    let leftovers = leftovers.as_slice();
    let broken =
        rows.iter().filter(|row| row.is_broken).map(|row| ToDoJson { source: &row.source, why: &row.why });
    let to_do = to_do.iter().map(|job| match &job.verdict {
        Verdict::ToDo(why) => ToDoJson { source: &job.source.name, why },
        _ => ToDoJson { source: &job.source.name, why: &[] },
    });
    let mut to_do: Vec<ToDoJson<'_>> = to_do.chain(broken).collect();
    to_do.sort_by_key(|job| job.source);
    let recipe = plan.recipe;
    let files = plan.sources.len();
    if args.json {
        return Ok(print_json(
            out,
            &PlanJson {
                recipe: recipe.path().display().to_string(),
                files,
                to_do,
                left_from_earlier: LeftoverJson::all(leftovers),
            },
        )?);
    }
    let title = Style::Strong.paint(&recipe.path().display().to_string());
    let rest = files - to_do.len();
    let unchanged = if rest > 0 { format!(", {rest} unchanged") } else { String::new() };
    writeln!(out, "{title}  {} to do{unchanged}", counted(to_do.len(), "file"))?;
    let mut table = Table::new(&[("file", Align::Left), ("why", Align::Left)]);
    let most = if args.rows == 0 { usize::MAX } else { args.rows };
    for job in to_do.iter().take(most) {
        table.row([job.source.to_owned(), job.why.join(", ")]);
    }
    if !to_do.is_empty() {
        table.print(out)?;
    }
    if to_do.len() > most {
        let text = format!("and {} (--rows 0 lists all)", counted(to_do.len() - most, "more file"));
        writeln!(out, "  {}", Style::Faint.paint(&text))?;
    }
    print_leftovers(out, args, leftovers, &[])
}
