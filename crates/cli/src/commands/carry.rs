//! `carry`: animation from one rig onto another.

use std::io::Write as _;

use nimble_curve_core::ledger::Fate;
use nimble_curve_core::ops::carry::{CarryOptions, NameMap, carry};
use nimble_curve_formats::name_map::read_name_map;
use serde::Serialize;

use crate::args::{Carry, Travel};
use crate::failure::Failure;
use crate::files::{self, InputArgs};
use crate::report::{self, ErrorJson, LedgerJson, amount, frame};
use crate::terminal::{Report, Style};

#[derive(Serialize)]
struct CarryJson<'a> {
    pairs: usize,
    translation_scale: f64,
    world_error: ErrorJson,
    #[serde(flatten)]
    ledger: LedgerJson<'a>,
}

pub fn run(args: &Carry) -> Result<(), Failure> {
    args.output.check(&[&args.source, &args.onto])?;
    let source = files::read(&args.source, args.input)?.scene;
    let target = files::read(&args.onto, InputArgs::default())?.scene;
    let map = match &args.map {
        Some(path) => read_name_map(path)?,
        None => NameMap::default(),
    };
    let scale = match args.travel {
        Travel::Hips => None,
        Travel::Factor(factor) => Some(factor),
    };
    let carried = carry(
        &source,
        &target,
        &map,
        &CarryOptions {
            tolerance: nimble_curve_core::ops::Tolerance { angle: args.tolerance, ..Default::default() },
            scale,
            ..CarryOptions::default()
        },
    )?;
    let space = carried.scene.space;
    let json = CarryJson {
        pairs: carried.pairs,
        translation_scale: carried.translation_scale,
        world_error: ErrorJson::new(&carried.world_error, &space),
        ledger: LedgerJson::new(&carried.ledger, &space),
    };
    args.output.write(&carried.scene, &args.onto)?;
    if let Some(path) = &args.ledger {
        let mut bytes = Vec::new();
        report::print_json(&mut bytes, &json)?;
        nimble_curve_formats::write_bytes(&bytes, path)?;
    }
    let mut out = Report::beside(&args.output.output);
    if args.json {
        return Ok(report::print_json(&mut out, &json)?);
    }
    let arrow = format!(
        "{} → {} on the rig of {}",
        args.source.display(),
        args.output.output.display(),
        args.onto.display()
    );
    writeln!(out, "{}", Style::Strong.paint(&arrow))?;
    let in_metres = carried.translation_scale * target.space.metres_per_unit / source.space.metres_per_unit;
    writeln!(
        out,
        "  {} have partners; travel is scaled by {:.3}{}",
        report::counted(carried.pairs, "node"),
        in_metres,
        if args.travel == Travel::Hips { " (ratio of hip heights)" } else { "" },
    )?;
    report::print_fates(&mut out, &carried.ledger, &space)?;
    report::print_left_out(&mut out, &carried.ledger)?;
    for note in &carried.ledger.notes {
        writeln!(out, "  {note}")?;
    }
    let error = carried.world_error;
    let verdict = format!(
        "  world rotations relative to rest agree within {}{}",
        amount(error.largest, error.quantity, &space),
        match &carried.worst_node {
            Some(node) if error.largest > 0.0 => format!(" (worst: {node} at frame {})", frame(error.frame)),
            _ => String::new(),
        }
    );
    let left_out = carried.ledger.count(Fate::LeftOut);
    let style = if error.largest <= args.tolerance { Style::Good } else { Style::Warn };
    writeln!(out, "{}", style.paint(&verdict))?;
    if error.largest > args.tolerance {
        let why = if left_out > 0 { ": motion was left out above, see the list" } else { "" };
        writeln!(
            out,
            "  that is more than the {} allowed{why}",
            amount(args.tolerance, error.quantity, &space)
        )?;
    }
    Ok(())
}
