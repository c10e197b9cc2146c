//! `schema`: the JSON Schemas of `.ncurve` files and of recipes.

use crate::args::SchemaOf;
use crate::batch;
use crate::failure::Failure;
use crate::report::{print_json, print_text};
use crate::terminal::Report;

pub fn run(of: SchemaOf) -> Result<(), Failure> {
    let mut out = Report::out();
    match of {
        SchemaOf::Ncurve => print_text(&mut out, &nimble_curve_formats::ncurve::schema())?,
        SchemaOf::Recipe => print_json(&mut out, &batch::schema())?,
    }
    Ok(())
}
