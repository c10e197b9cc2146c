//! `schema`: the JSON Schemas of `.ncurve` files and of recipes.

use std::io::Write as _;

use crate::args::SchemaOf;
use crate::batch;
use crate::failure::Failure;
use crate::report::print_json;
use crate::terminal::Report;

pub fn run(of: SchemaOf) -> Result<(), Failure> {
    let mut out = Report::out();
    match of {
        SchemaOf::Ncurve => out.write_all(nimble_curve_formats::ncurve::schema().as_bytes())?,
        SchemaOf::Recipe => print_json(&mut out, &batch::schema())?,
    }
    Ok(())
}
