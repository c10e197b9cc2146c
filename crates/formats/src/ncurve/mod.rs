//! Our own format, `.ncurve`: complete, and made to be read, compared and edited by people.

mod layout;
pub mod model;
mod number;
mod read;
mod units;
mod write;

use nimble_curve_core::address::Addresses;
use nimble_curve_core::constraint::Constraint;
use nimble_curve_core::rig::{Attribute, Node};
use nimble_curve_core::scene::Scene;
use nimble_curve_core::space::Space;
use nimble_curve_core::time::FrameRate;
use serde::Deserialize;

use crate::error::Fault;

/// Reads a scene from the text of a file.
///
/// # Errors
/// Where it is not JSON, has fields that do not exist, is of a newer version, or does not make a scene.
pub fn read(text: &str) -> Result<Scene, Fault> {
    match serde_json::from_str::<model::File>(text) {
        Ok(file) if file.ncurve == model::VERSION => read::scene(&file),
        Ok(file) => Err(wrong_version(file.ncurve.into())),
        Err(error) => {
            // A newer version may well have fields that are unknown here: that is the thing to say.
            #[derive(Deserialize)]
            struct Version {
                ncurve: u64,
            }
            match serde_json::from_str::<Version>(text) {
                Ok(Version { ncurve }) if ncurve != u64::from(model::VERSION) => Err(wrong_version(ncurve)),
                _ => Err(Fault::on_line(error.line(), crate::said::json(&error))),
            }
        }
    }
}

fn wrong_version(version: u64) -> Fault {
    Fault::of_whole(if version > u64::from(model::VERSION) {
        format!(
            "written in version {version} of the format, this program reads version {}: use a newer nimble-curve",
            model::VERSION
        )
    } else {
        format!("there is no version {version} of the format: write \"ncurve\": {}", model::VERSION)
    })
}

/// A constraint as it stands in a file.
pub(crate) use model::Constraint as FileConstraint;

/// Constraints of a file on the rigs of a scene.
pub(crate) fn read_constraints(
    scene: &Scene,
    addresses: &Addresses,
    constraints: &[FileConstraint],
) -> Result<Vec<Constraint>, Fault> {
    read::constraints::read_all(scene, addresses, units::Units::new(scene.rate), constraints)
}

/// An attribute as it stands in a file; a rate matters to none.
pub(crate) fn read_attribute(json: &str) -> Result<Attribute, String> {
    let file: model::Attribute = serde_json::from_str(json).map_err(|error| crate::said::json(&error))?;
    read::nodes::attribute(&file, &units::Units::new(FrameRate::FPS_24))
}

/// The text of an attribute as it stands in a file.
pub(crate) fn write_attribute(scene: &Scene, attribute: &Attribute) -> String {
    serde_json::to_string(&write::attribute(scene, attribute)).expect("the model is valid JSON")
}

/// A node as it stands in a file, with the name of its parent; a rate matters to none.
pub(crate) fn read_node(json: &str) -> Result<(Node, Option<String>), String> {
    let file: model::Node = serde_json::from_str(json).map_err(|error| crate::said::json(&error))?;
    let node = read::nodes::read_node(&file, &units::Units::new(FrameRate::FPS_24))?;
    Ok((node, file.parent))
}

/// A space as it stands in a file.
pub(crate) fn read_space(json: &str) -> Result<Space, String> {
    let file: model::Space = serde_json::from_str(json).map_err(|error| crate::said::json(&error))?;
    read::space(&file)
}

/// The text of a file that holds a scene.
pub fn write(scene: &Scene) -> String {
    // The shapes hold no maps with keys other than text and no numbers that JSON lacks.
    let compact = serde_json::to_string(&write::file(scene)).expect("the model is valid JSON");
    layout::lay_out(&compact)
}

/// The JSON Schema of the format.
pub fn schema() -> String {
    let schema = schemars::schema_for!(model::File);
    layout::lay_out(&serde_json::to_string(&schema).expect("a schema is valid JSON"))
}
