//! Clips listed.

use std::io::Write;

use nimble_curve_core::ops::clips::Summary;
use nimble_curve_core::scene::Scene;
use nimble_curve_core::value::Quantity;
use serde_json::{Value, json};

use super::{all_summaries, no_take};
use crate::args::Clips;
use crate::failure::Failure;
use crate::files::{self};
use crate::report::{amount, counted, degrees, frame, print_json};
use crate::table::{Align, Table};
use crate::terminal::{Report, Style};

pub(super) fn list(args: &Clips) -> Result<(), Failure> {
    let Some(file) = &args.file else { return Err(Failure::new("name a file whose clips to list")) };
    let scene = files::read(file, args.input)?.scene;
    if scene.takes.is_empty() {
        return Err(no_take(file));
    }
    let all = all_summaries(&scene)?;
    let mut out = Report::out();
    if args.json {
        let rows: Vec<Value> = all.iter().map(|summary| as_json(&scene, summary)).collect();
        return Ok(print_json(&mut out, &rows)?);
    }
    let title = Style::Strong.paint(&file.display().to_string());
    let takes = counted(scene.takes.len(), "take");
    writeln!(out, "{title}  {takes}, {} at {} fps", counted(all.len(), "clip"), scene.rate)?;
    table(&scene, &all).print(&mut out)?;
    Ok(())
}

pub(super) fn table(scene: &Scene, all: &[Summary]) -> Table {
    let mut table = Table::new(&[
        ("clip", Align::Left),
        ("take", Align::Left),
        ("first", Align::Right),
        ("last", Align::Right),
        ("frames", Align::Right),
        ("seconds", Align::Right),
        ("keys", Align::Right),
        ("tracks move", Align::Right),
        ("travels", Align::Right),
        ("turns", Align::Right),
        ("loops", Align::Left),
    ]);
    for summary in all {
        let rate = scene.rate;
        let is_whole = summary.name == summary.take;
        let take = if is_whole { String::new() } else { summary.take.clone() };
        table.row([
            summary.name.clone(),
            take,
            frame(rate.frame(summary.range.first)),
            frame(rate.frame(summary.range.last)),
            summary.range.frames(rate).to_string(),
            format!("{:.2}", summary.range.seconds()),
            summary.keys.to_string(),
            summary.moving.to_string(),
            amount(summary.travel.distance, Quantity::Length, &scene.space),
            degrees(summary.travel.turn),
            loops(summary),
        ]);
    }
    table.without_empty_columns()
}

/// Whether a clip loops, and how far it is from that.
pub(super) fn loops(summary: &Summary) -> String {
    let ends = &summary.travel.ends;
    if ends.is_loop() {
        return "yes".into();
    }
    if ends.reach < 1e-6 {
        return "stands still".into();
    }
    if ends.angle > 12_f64.to_radians() || ends.angle > 0.3 * ends.reach {
        return "no".into();
    }
    match ends.angle > nimble_curve_core::ops::travel::Ends::MEET {
        true => format!("nearly: {:.2} deg apart at {}", ends.angle.to_degrees(), ends.node),
        false => format!("nearly: {:.0} deg/s faster at {}", ends.speed.to_degrees(), ends.speed_node),
    }
}

pub(super) fn as_json(scene: &Scene, summary: &Summary) -> Value {
    let (travel, ends) = (&summary.travel, &summary.travel.ends);
    let metres = scene.space.metres_per_unit;
    json!({
        "name": summary.name,
        "take": summary.take,
        "first": scene.rate.frame(summary.range.first),
        "last": scene.rate.frame(summary.range.last),
        "frames": summary.range.frames(scene.rate),
        "seconds": summary.range.seconds(),
        "keys": summary.keys,
        "moving_tracks": summary.moving,
        "loops": ends.is_loop(),
        "ends_apart_deg": ends.angle.to_degrees(),
        "ends_speed_deg_s": ends.speed.to_degrees(),
        "travel_m": travel.distance * metres,
        "way_m": travel.path_length * metres,
        "turn_deg": travel.turn.to_degrees(),
        "climb_m": travel.height_change * metres,
        "note": summary.note,
    })
}
