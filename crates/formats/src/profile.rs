//! Profiles as TOML files: what a receiving application holds.

use std::path::Path;

use nimble_curve_core::ops::adapt::{Capabilities, Rotations};
use nimble_curve_core::ops::profile::{Case, NameRules, Profile};
use nimble_curve_core::rotation::RotationOrder;
use nimble_curve_core::space::{Space, UpAxis};
use nimble_curve_core::time::FrameRate;
use serde::Deserialize;

use crate::error::{Fault, FormatError};

/// Profiles that come with the program, by name.
pub const SHIPPED: [(&str, &str); 4] = [
    ("curves", include_str!("profiles/curves.toml")),
    ("plain-curves", include_str!("profiles/plain-curves.toml")),
    ("quaternions", include_str!("profiles/quaternions.toml")),
    ("samples", include_str!("profiles/samples.toml")),
];

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct File {
    name: String,
    rate: Option<toml::Value>,
    unit: Option<toml::Value>,
    up: Option<String>,
    first_frame: Option<i64>,
    #[serde(default = "yes")]
    curves: bool,
    #[serde(default = "yes")]
    layers: bool,
    #[serde(default = "yes")]
    weighted: bool,
    #[serde(default = "yes")]
    loops: bool,
    #[serde(default = "yes")]
    step_lists: bool,
    #[serde(default)]
    rotations: Held,
    #[serde(default)]
    orders: Vec<String>,
    #[serde(default)]
    names: Names,
}

fn yes() -> bool {
    true
}

#[derive(Clone, Copy, Default, Deserialize)]
#[serde(rename_all = "lowercase")]
enum Held {
    #[default]
    Angles,
    Quaternions,
}

#[derive(Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
struct Names {
    length: Option<usize>,
    characters: Option<String>,
    case: NameCase,
    namespaces: Option<bool>,
    unique: bool,
}

#[derive(Clone, Copy, Default, Deserialize)]
#[serde(rename_all = "lowercase")]
enum NameCase {
    #[default]
    Any,
    Lower,
    Upper,
}

/// Reads a profile: a file, or one of [`SHIPPED`] by its name.
///
/// # Errors
/// See [`FormatError`].
pub fn read_profile(path: &Path) -> Result<Profile, FormatError> {
    let shipped = SHIPPED.iter().find(|(name, _)| path.as_os_str() == *name);
    if let Some((_, text)) = shipped {
        return parse_profile(text).map_err(|fault| fault.in_file(path));
    }
    let text = std::fs::read_to_string(path)
        .map_err(|source| FormatError::Read { path: path.to_owned(), source })?;
    parse_profile(&text).map_err(|fault| fault.in_file(path))
}

/// Reads a profile from its text.
///
/// # Errors
/// With the line on which something is wrong, or the entry.
pub fn parse_profile(text: &str) -> Result<Profile, Fault> {
    let file: File = toml::from_str(text).map_err(|error| {
        let line =
            error.span().map_or(1, |span| text[..span.start.min(text.len())].matches('\n').count() + 1);
        Fault::on_line(line, crate::said::toml(error.message()))
    })?;
    let shown = |value: &toml::Value| value.as_str().map_or_else(|| value.to_string(), str::to_owned);
    let rate = file.rate.map(|rate| {
        let text = shown(&rate);
        text.parse::<FrameRate>().map_err(|error| Fault::in_part("rate", error.to_string()))
    });
    let unit = file.unit.map(|unit| {
        let text = shown(&unit);
        Space::unit_metres(&text)
            .or_else(|| text.parse().ok().filter(|metres: &f64| metres.is_finite() && *metres > 0.0))
            .ok_or_else(|| Fault::in_part("unit", format!("is '{text}': write m, cm, mm, in, ft, or metres")))
    });
    let up = file.up.map(|up| match up.as_str() {
        "x" => Ok(UpAxis::X),
        "y" => Ok(UpAxis::Y),
        "z" => Ok(UpAxis::Z),
        other => Err(Fault::in_part("up", format!("is '{other}': write \"x\", \"y\" or \"z\""))),
    });
    let orders = file.orders.iter().map(|order| {
        order.parse::<RotationOrder>().map_err(|error| Fault::in_part("orders", error.to_string()))
    });
    let rotations = match file.rotations {
        Held::Angles => Rotations::Angles,
        Held::Quaternions => Rotations::Quaternions,
    };
    Ok(Profile {
        name: file.name,
        rate: rate.transpose()?,
        metres_per_unit: unit.transpose()?,
        up: up.transpose()?,
        first_frame: file.first_frame,
        holds: Capabilities {
            layers: file.layers,
            rotations,
            weighted: file.weighted,
            outside: file.loops,
            lists: file.step_lists,
            inverses: file.step_lists,
        },
        curves: file.curves,
        orders: orders.collect::<Result<_, _>>()?,
        names: NameRules {
            length: file.names.length.filter(|length| *length > 0),
            besides_letters: file.names.characters,
            case: match file.names.case {
                NameCase::Any => Case::Any,
                NameCase::Lower => Case::Lower,
                NameCase::Upper => Case::Upper,
            },
            namespaces: file.names.namespaces.unwrap_or(true),
            unique: file.names.unique,
        },
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn shipped_profiles_are_read_and_differ() {
        let all: Vec<Profile> = SHIPPED.iter().map(|(_, text)| parse_profile(text).unwrap()).collect();
        for (profile, (name, _)) in all.iter().zip(&SHIPPED) {
            assert_eq!(&profile.name, name);
        }
        assert!(all[0].holds.layers && !all[1].holds.layers);
        assert_eq!(all[2].holds.rotations, Rotations::Quaternions);
        assert!(!all[3].curves);
    }

    #[test]
    fn mistakes_are_named() {
        for (text, said) in [
            ("rate = 24", "name"),
            ("name = \"a\"\nrate = \"fast\"", "frame rate"),
            ("name = \"a\"\nunit = \"ell\"", "ell"),
            ("name = \"a\"\nup = \"w\"", "\"z\""),
            ("name = \"a\"\norders = [\"xyy\"]", "xyy"),
            ("name = \"a\"\nlayer = false", "layer"),
        ] {
            let fault = parse_profile(text).unwrap_err();
            assert!(fault.message.contains(said), "{text}: {}", fault.message);
        }
    }
}
