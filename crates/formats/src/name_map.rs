//! Name maps: which node of a source goes to which node of a target, as a TOML file.

use std::ops::Range;
use std::path::Path;

use nimble_curve_core::ops::carry::NameMap;
use serde::Deserialize;
use toml::Spanned;

use crate::error::{Fault, FormatError};

/// The file, as serde sees it.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct File {
    #[serde(default)]
    nodes: toml::Table,
}

/// Reads a name map.
///
/// # Errors
/// See [`FormatError`].
pub fn read_name_map(path: &Path) -> Result<NameMap, FormatError> {
    let text = std::fs::read_to_string(path)
        .map_err(|source| FormatError::Read { path: path.to_owned(), source })?;
    parse_name_map(&text).map_err(|fault| fault.in_file(path))
}

/// Reads a name map from its text.
///
/// # Errors
/// With the line on which something is wrong.
pub fn parse_name_map(text: &str) -> Result<NameMap, Fault> {
    let line = |span: Option<Range<usize>>| {
        span.map_or(1, |span| text[..span.start.min(text.len())].matches('\n').count() + 1)
    };
    let file: Spanned<File> = toml::from_str(text)
        .map_err(|error| Fault::on_line(line(error.span()), error.message().to_owned()))?;
    let mut map = NameMap::default();
    for (source, target) in file.into_inner().nodes {
        let Some(target) = target.as_str() else {
            return Err(Fault::in_part(format!("nodes, '{source}'"), "write it as SOURCE = \"TARGET\""));
        };
        map.nodes.push((source, target.to_owned()));
    }
    Ok(map)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::error::Place;

    #[test]
    fn a_map_is_a_table_of_pairs() {
        let map = parse_name_map("[nodes]\nhips = \"Pelvis\"\n\"a:b\" = \"x/y#2\"\n").unwrap();
        let expected = [("hips", "Pelvis"), ("a:b", "x/y#2")].map(|(a, b)| (a.to_owned(), b.to_owned()));
        assert_eq!(map.nodes.iter().collect::<std::collections::BTreeSet<_>>(), expected.iter().collect());
    }

    #[test]
    fn mistakes_are_named_with_their_line() {
        for (text, line) in
            [("[nodes]\nhips = \n", 2), ("[nodes]\n[joints]\n", 2), ("[nodes]\nhips = 3\n", 0)]
        {
            let fault = parse_name_map(text).unwrap_err();
            match fault.place {
                Place::Line(found) => assert_eq!(found, line, "{text}"),
                _ => assert_eq!(line, 0, "{text}"),
            }
        }
    }
}
