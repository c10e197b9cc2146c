//! `schema`: the JSON Schema of `.ncurve` files.

use std::io::Write as _;

use crate::failure::Failure;

pub fn run() -> Result<(), Failure> {
    Ok(std::io::stdout().lock().write_all(nimble_curve_formats::ncurve::schema().as_bytes())?)
}
