//! `rig find`: what drives what, found in an export.

use std::io::Write;
use std::path::Path;

use nimble_curve_core::address::Addresses;
use nimble_curve_core::ops::control_rig::{
    FindOptions, Finding, FoundRig, SolveError, Stretch, Unexplained, find,
};
use nimble_curve_core::scene::Scene;
use nimble_curve_formats::rig_sheet::rig_sheet_with;
use serde::Serialize;

use super::{Row, write_sheet};
use crate::args::RigFind;
use crate::failure::Failure;
use crate::files;
use crate::report::{self, counted};
use crate::table::{Align, Table};
use crate::terminal::{Report, Style};

/// How many nodes are named at the end of a report.
const MOST_NAMED: usize = 8;

/// What was found, as JSON.
#[derive(Serialize)]
struct FoundJson {
    frames: usize,
    found: Vec<FindingJson>,
    unexplained: Vec<String>,
}

/// A constraint that was found.
#[derive(Serialize)]
struct FindingJson {
    #[serde(flatten)]
    row: Row,
    sure: bool,
    millimetres: f64,
    degrees: f64,
    as_well: Vec<String>,
    when: Vec<String>,
}

pub fn run(args: &RigFind) -> Result<(), Failure> {
    let scene = files::read(&args.file, args.input)?.scene;
    let options = FindOptions { controls: args.controls.clone() };
    let named = |error: SolveError| {
        let what_to_do = match error {
            SolveError::NoControlKnown => ": say which are, as in --controls '*_ctrl'",
            SolveError::HasConstraints => ": rig sheet writes it as a sheet",
            _ => "",
        };
        Failure::new(format!("{}: {error}{what_to_do}", args.file.display()))
    };
    let found = find(&scene, &options).map_err(named)?;
    let whole = found.scene(true).map_err(named)?;
    let addresses = Addresses::new(&whole);
    let rows: Vec<FindingJson> =
        found.findings.iter().map(|own| FindingJson::new(&whole, &addresses, own)).collect();
    let unexplained: Vec<String> =
        found.unexplained.iter().map(|own| unexplained_in_words(&addresses, own)).collect();
    let sure = rows.iter().filter(|own| own.sure).count();
    let mut out = Report::out();
    let on_sheet = if args.with_unsure { rows.len() } else { sure };
    let written = match &args.output {
        Some(path) if on_sheet > 0 => {
            write_sheet(&sheet(&found, &args.file, args.with_unsure)?, path, args.replace)?;
            Some(path)
        }
        _ => None,
    };
    if args.json {
        return Ok(report::print_json(
            &mut out,
            &FoundJson { frames: found.frames, found: rows, unexplained },
        )?);
    }
    let head = match written {
        Some(path) => format!("{} → {}", args.file.display(), path.display()),
        None => args.file.display().to_string(),
    };
    let what = format!(
        "{} found on {}, {sure} sure",
        counted(rows.len(), "constraint"),
        counted(found.frames, "frame")
    );
    report::head(&mut out, &head, &(if sure > 0 { Style::Good } else { Style::Warn }, what))?;
    if !rows.is_empty() {
        table(rows).print(&mut out)?;
    }
    if !unexplained.is_empty() {
        let named = unexplained.iter().take(MOST_NAMED).cloned().collect::<Vec<_>>().join(", ");
        let more = unexplained.len().saturating_sub(MOST_NAMED);
        let more = if more > 0 { format!(" and {more} more") } else { String::new() };
        let moves = if unexplained.len() == 1 { "moves" } else { "move" };
        writeln!(out, "  {named}{more} {moves} by nothing that was found")?;
    }
    match (&args.output, written) {
        (Some(_), None) => {
            let why = if sure == found.findings.len() {
                "nothing was found"
            } else {
                "nothing is sure, see --with-unsure"
            };
            writeln!(out, "  no sheet was written: {why}")?;
        }
        (Some(_), Some(_)) if on_sheet < found.findings.len() => {
            writeln!(out, "  on the sheet is what is sure; --with-unsure puts the rest on it as well")?;
        }
        _ => {}
    }
    Ok(())
}

/// A node, and in what it moves where the rest of it is explained.
fn unexplained_in_words(addresses: &Addresses, own: &Unexplained) -> String {
    let name = addresses.node(own.node);
    if own.is_whole {
        return name.to_owned();
    }
    let parts = ["translation", "rotation", "scale"].into_iter().zip(own.parts);
    let parts: Vec<&str> = parts.filter(|(_, is_open)| *is_open).map(|(part, _)| part).collect();
    format!("{name} ({})", parts.join(", "))
}

fn table(rows: Vec<FindingJson>) -> Table {
    let mut table = Table::new(&[
        ("driven", Align::Left),
        ("by", Align::Left),
        ("from", Align::Left),
        ("off by", Align::Right),
        ("", Align::Left),
        ("explained as well by", Align::Left),
        ("from frame", Align::Left),
    ]);
    for own in rows {
        table.row(vec![
            own.row.driven.join(", "),
            own.row.kind,
            own.row.from.join(", "),
            format!("{:.3} mm {:.3}°", own.millimetres, own.degrees),
            if own.sure { "sure".to_owned() } else { "not sure".to_owned() },
            own.as_well.join(", "),
            own.when.join(", "),
        ]);
    }
    table.without_empty_columns().least_telling(&["from frame", "explained as well by"])
}

impl FindingJson {
    fn new(scene: &Scene, addresses: &Addresses, found: &Finding) -> FindingJson {
        let when = |own: &Stretch| {
            let take = scene.takes.get(own.take).filter(|_| scene.takes.len() > 1);
            let take = take.map(|take| format!("{} ", take.name)).unwrap_or_default();
            format!("{take}{} {}", scene.rate.frame(own.from), own.holds)
        };
        FindingJson {
            row: Row::new(scene, addresses, &found.constraint),
            sure: found.is_sure,
            millimetres: found.residual.place * scene.space.metres_per_unit * 1e3,
            degrees: found.residual.angle.to_degrees(),
            as_well: found.rivals.clone(),
            when: found.stretches.iter().map(when).collect(),
        }
    }
}

/// The sheet of what was found, with a line above each constraint that says how well it fits.
fn sheet(found: &FoundRig, file: &Path, with_unsure: bool) -> Result<String, Failure> {
    let of_file = |error: SolveError| Failure::new(format!("{}: {error}", file.display()));
    let scene = found.scene(with_unsure).map_err(of_file)?;
    let addresses = Addresses::new(&scene);
    let listed: Vec<&Finding> = found.findings.iter().filter(|own| own.is_sure || with_unsure).collect();
    let text = rig_sheet_with(&scene, |index| {
        let Some(own) = listed.get(index).map(|own| FindingJson::new(&scene, &addresses, own)) else {
            return Vec::new();
        };
        let mut lines = vec![format!("off by {:.4} mm, {:.4} deg", own.millimetres, own.degrees)];
        if !own.as_well.is_empty() {
            lines.push(format!("not sure: explained as well by {}", own.as_well.join(", ")));
        } else if !own.sure {
            lines.push("not sure: farther off than what is".to_owned());
        }
        if !own.when.is_empty() {
            lines.push(format!("from frame {}", own.when.join(", ")));
        }
        lines
    });
    text.map_err(|fault| Failure::from(fault.in_file(file)))
}
