//! CSV: one row a key, or one row a sample, for spreadsheets and scripts.
//!
//! A first line that starts with `#` says rate, unit and up axis; the row of names says the units. Angles are in degrees,
//! slopes in value per frame. A table of keys has the columns `take, channel, unit, order, frame, value` and more; a table
//! of samples has a frame and then a column for each number. Times may be seconds or time code as well. There is no rig in
//! either: nodes are read without a hierarchy.

mod build;
mod cells;
mod columns;
mod keys;
mod read;
mod samples;
mod times;
mod write;

use nimble_curve_core::ledger::{Entry, Fate};
use nimble_curve_core::ops::Tolerance;
use nimble_curve_core::ops::adapt::{Capabilities, adapt};
use nimble_curve_core::scene::Scene;

use crate::encoded::{Encoded, by_address};
use crate::error::Fault;
use crate::format::Format;

pub use columns::Columns;
pub(crate) use read::read;
pub use times::TableTimes;

/// What a table of keys holds of an animation.
const HOLDS: Capabilities = Capabilities::ANGLES;

/// The columns of a table of keys.
const COLUMNS: [&str; 16] = [
    "take",
    "channel",
    "unit",
    "order",
    "frame",
    "value",
    "left",
    "interpolation",
    "in_mode",
    "in_slope",
    "in_frames",
    "out_mode",
    "out_slope",
    "out_frames",
    "before",
    "after",
];

/// A table that holds a scene's animation.
///
/// # Errors
/// Where layers cannot be written together, or time code cannot say when a key is.
pub fn write(scene: &Scene, tolerance: &Tolerance, times: TableTimes) -> Result<Encoded, Fault> {
    let (adapted, mut ledger) =
        adapt(scene, &HOLDS, tolerance).map_err(|error| Fault::of_whole(error.to_string()))?;
    let mut adapted = adapted;
    crate::ends::keep_ranges(&mut adapted, &mut ledger);
    let (text, left_out) = write::write(&adapted, times)?;
    for (take, target) in left_out {
        let is_it = |entry: &&mut Entry| entry.take == take && entry.target.as_ref() == Some(&target);
        for entry in ledger.entries.iter_mut().filter(is_it) {
            let note = "a table holds angles, vectors, numbers, switches and texts".to_owned();
            *entry = Entry { fate: Fate::LeftOut, after: 0, error: None, note, ..entry.clone() };
        }
    }
    ledger.notes.push("a table holds no rig: its nodes are read without a hierarchy".to_owned());
    let hidden = crate::extra_data::hidden(&ledger, &adapted.takes);
    Ok(Encoded {
        format: Format::Csv,
        bytes: text.into_bytes(),
        buffer: None,
        ledger,
        nodes: by_address(scene),
        hidden,
        is_skeletal: false,
        states: None,
        shifts: Vec::new(),
        unscaled: None,
    })
}
