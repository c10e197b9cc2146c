//! Name maps: which node of a source goes to which node of a target, as a TOML file.

use std::fmt::Write as _;
use std::ops::Range;
use std::path::Path;

use nimble_curve_core::ops::carry::{
    AttributePair, Chain, NameMap, NodePair, NumberRange, PairSpace, RigPair,
};
use nimble_curve_core::ops::pairing::{Confidence, Proposal, Proposed};
use nimble_curve_core::scene::NodeSet;
use serde::Deserialize;
use serde_json::Value as Json;
use toml::{Spanned, Value};

use crate::error::{Fault, FormatError};

/// The file, as serde sees it.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct File {
    mirror: Option<String>,
    #[serde(default)]
    leave_out: Vec<String>,
    #[serde(default)]
    rename: Vec<(String, String)>,
    #[serde(default)]
    nodes: toml::Table,
    #[serde(default)]
    rigs: Vec<RigsFile>,
    #[serde(default)]
    chains: Vec<ChainFile>,
    #[serde(default)]
    numbers: toml::Table,
    #[serde(default)]
    sets: std::collections::BTreeMap<String, Vec<String>>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct RigsFile {
    from: String,
    to: String,
    held: Option<String>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct ChainFile {
    from: Vec<String>,
    to: Vec<String>,
    #[serde(default)]
    parts: Vec<f64>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct NodeFile {
    to: Names,
    space: Option<String>,
    held: Option<String>,
    reach: Option<String>,
    #[serde(default)]
    parts: Vec<f64>,
}

#[derive(Deserialize)]
#[serde(untagged)]
enum Names {
    One(String),
    Many(Vec<String>),
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct NumberFile {
    to: String,
    gain: Option<f64>,
    offset: Option<f64>,
    points: Option<Vec<(f64, f64)>>,
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
/// With the line on which something is wrong, or the entry.
pub fn parse_name_map(text: &str) -> Result<NameMap, Fault> {
    let line = |span: Option<Range<usize>>| {
        span.map_or(1, |span| text[..span.start.min(text.len())].matches('\n').count() + 1)
    };
    let file: Spanned<File> = toml::from_str(text)
        .map_err(|error| Fault::on_line(line(error.span()), crate::said::toml(error.message())))?;
    let file = file.into_inner();
    let mut map = NameMap { leave_out: file.leave_out, ..NameMap::default() };
    map.mirror = match file.mirror.as_deref() {
        None => None,
        Some(axis) => Some(["x", "y", "z"].iter().position(|name| *name == axis).ok_or_else(|| {
            Fault::in_part("mirror", format!("is '{axis}': write the axis across, \"x\", \"y\" or \"z\""))
        })?),
    };
    for (from, to) in &file.rename {
        let stars = |pattern: &str| pattern.matches('*').count();
        if stars(from) != stars(to) {
            return Err(Fault::in_part("rename", format!("'{from}' and '{to}' do not have as many *")));
        }
    }
    map.rename = file.rename;
    map.rigs = file
        .rigs
        .into_iter()
        .map(|rigs| RigPair { source: rigs.from, target: rigs.to, held: rigs.held })
        .collect();
    for (source, value) in file.nodes {
        node(&mut map, source, value)?;
    }
    for chain in file.chains {
        map.chains.push(Chain { source: chain.from, target: chain.to, parts: chain.parts });
    }
    for (source, value) in file.numbers {
        map.numbers.push(number(source, value)?);
    }
    map.sets = file.sets.into_iter().map(|(name, patterns)| NodeSet { name, patterns }).collect();
    Ok(map)
}

fn node(map: &mut NameMap, source: String, value: Value) -> Result<(), Fault> {
    let place = || format!("nodes, '{source}'");
    let file = match value {
        Value::String(to) => {
            NodeFile { to: Names::One(to), space: None, held: None, reach: None, parts: Vec::new() }
        }
        Value::Array(_) => {
            let to = value.try_into().map_err(|_| Fault::in_part(place(), "takes a list of names"))?;
            NodeFile { to: Names::Many(to), space: None, held: None, reach: None, parts: Vec::new() }
        }
        Value::Table(_) => value
            .try_into()
            .map_err(|error: toml::de::Error| Fault::in_part(place(), crate::said::toml(error.message())))?,
        _ => return Err(Fault::in_part(place(), "write it as SOURCE = \"TARGET\"")),
    };
    let space = match file.space.as_deref() {
        None | Some("world") => PairSpace::World,
        Some("parent") => PairSpace::Parent,
        Some(other) => {
            return Err(Fault::in_part(
                place(),
                format!("space is '{other}': write \"world\" or \"parent\""),
            ));
        }
    };
    if let Some(by) = file.held {
        map.held.push((source.clone(), by));
    }
    if let Some(of) = file.reach {
        map.reach.push((source.clone(), of));
    }
    match file.to {
        Names::One(target) => map.nodes.push(NodePair { source, target, space }),
        Names::Many(target) => map.chains.push(Chain { source: vec![source], target, parts: file.parts }),
    }
    Ok(())
}

fn number(source: String, value: Value) -> Result<AttributePair, Fault> {
    let place = || format!("numbers, '{source}'");
    let file = match value {
        Value::String(to) => NumberFile { to, gain: None, offset: None, points: None },
        Value::Table(_) => value
            .try_into()
            .map_err(|error: toml::de::Error| Fault::in_part(place(), crate::said::toml(error.message())))?,
        _ => return Err(Fault::in_part(place(), "write it as SOURCE = \"TARGET\"")),
    };
    let range = match file.points {
        Some(_) if file.gain.is_some() || file.offset.is_some() => {
            return Err(Fault::in_part(place(), "has points and a gain or offset: give one of the two"));
        }
        Some(points) => {
            if points.len() < 2 || points.windows(2).any(|pair| pair[0].0 >= pair[1].0) {
                return Err(Fault::in_part(place(), "needs two points or more, their first numbers rising"));
            }
            NumberRange::Points(points)
        }
        None => NumberRange::Linear { gain: file.gain.unwrap_or(1.0), offset: file.offset.unwrap_or(0.0) },
    };
    Ok(AttributePair { source, target: file.to, range })
}

/// A name as a key or string of TOML.
pub fn toml_text(name: &str) -> String {
    // A text of JSON is one of TOML, but for one sign; and it stands on one line, whatever is in it.
    Json::from(name).to_string().replace('\u{7f}', "\\u007f")
}

/// A name as a key of TOML: bare where it can be.
pub fn toml_key(name: &str) -> String {
    let is_bare = !name.is_empty() && name.chars().all(|c| c.is_ascii_alphanumeric() || c == '_' || c == '-');
    if is_bare { name.to_owned() } else { toml_text(name) }
}

fn number_line(pair: &AttributePair) -> String {
    let to = toml_text(&pair.target);
    let value = match &pair.range {
        range if *range == NumberRange::SAME => to,
        NumberRange::Linear { gain, offset } => {
            format!("{{ to = {to}, gain = {gain:?}, offset = {offset:?} }}")
        }
        NumberRange::Points(points) => {
            let listed: Vec<String> = points.iter().map(|(a, b)| format!("[{a:?}, {b:?}]")).collect();
            format!("{{ to = {to}, points = [{}] }}", listed.join(", "))
        }
    };
    format!("{} = {value}", toml_key(&pair.source))
}

/// The text of a proposed map, made to be edited: pairs that are less sure than `at_least`, and what has no partner, stand in it as
/// comments.
pub fn proposal_text(proposal: &Proposal, source: &str, target: &str, at_least: Confidence) -> String {
    let mut text = format!(
        "# Which node of {source} moves which node of {target}, as proposed: edit what is wrong.\n\
         # Lines behind # do not count; what has no partner stands at the end.\n"
    );
    let list = |names: &[String]| {
        let quoted: Vec<String> = names.iter().map(|name| toml_text(name)).collect();
        format!("[{}]", quoted.join(", "))
    };
    let is_single = |pair: &&Proposed| pair.source.len() == 1 && pair.target.len() == 1;
    let singles: Vec<(String, &Proposed)> = (proposal.pairs.iter().filter(is_single))
        .map(|pair| (format!("{} = {}", toml_key(&pair.source[0]), toml_text(&pair.target[0])), pair))
        .collect();
    let width = singles.iter().map(|(line, _)| line.chars().count()).max().unwrap_or(0);
    let remark = |sureness: Confidence, why: &str| match sureness {
        Confidence::Sure => String::new(),
        sureness => format!("# {}: {why}", sureness.name()),
    };
    for rigs in &proposal.rigs {
        let (from, to) = (toml_text(&rigs.source), toml_text(&rigs.target));
        let _ = writeln!(text, "\n[[rigs]]\nfrom = {from}\nto = {to}");
        if let Some(held) = &rigs.held {
            let _ = writeln!(text, "held = {}", toml_text(held));
        }
    }
    text.push_str("\n[nodes]\n");
    for (line, pair) in &singles {
        let hidden = if pair.sureness > at_least { "# " } else { "" };
        let line = format!("{hidden}{line:<width$}  {}", remark(pair.sureness, &pair.why));
        let _ = writeln!(text, "{}", line.trim_end());
    }
    for pair in proposal.pairs.iter().filter(|pair| !is_single(pair)) {
        let _ = writeln!(text, "\n# {}", pair.why);
        let hidden = if pair.sureness > at_least { "# " } else { "" };
        let _ = writeln!(text, "{hidden}[[chains]]");
        let _ = writeln!(text, "{hidden}from = {}\n{hidden}to = {}", list(&pair.source), list(&pair.target));
    }
    if !proposal.numbers.is_empty() {
        text.push_str("\n[numbers]\n");
    }
    for number in &proposal.numbers {
        let hidden = if number.sureness > at_least { "# " } else { "" };
        let line = format!("{hidden}{}", number_line(&number.pair));
        let remark = remark(number.sureness, &number.why);
        let _ = writeln!(text, "{}", format!("{line}  {remark}").trim_end());
    }
    for (what, names) in [
        ("nodes of the source without a partner", &proposal.source_left),
        ("nodes of the target without a partner", &proposal.target_left),
        ("attributes of the source without a partner", &proposal.numbers_left),
        ("attributes of the target without a partner", &proposal.target_numbers_left),
    ] {
        if !names.is_empty() {
            let _ = writeln!(text, "\n# {what}: {}", names.join(", "));
        }
    }
    text
}

#[cfg(test)]
mod tests {
    use nimble_curve_core::ops::pairing::ProposedNumber;

    use super::*;
    use crate::error::Place;

    const WHOLE: &str = r#"mirror = "x"
leave_out = ["ear_*"]
[nodes]
"a:b" = "x/y#2"
hips = { to = "Pelvis", space = "parent" }
twist = ["t1", "t2"]

[[chains]]
from = ["spine_01", "spine_02"]
to = ["Back1", "Back2", "Back3"]
parts = [1.0, 1.0, 2.0]

[numbers]
"face:blink" = { to = "Lids:close", gain = 100.0, offset = 0.5 }
"face:brow" = { to = "Brow:up", points = [[0.0, 0.0], [0.5, 0.2], [1.0, 1.0]] }
"face:smile" = "Mouth:smile"

[sets]
arms = ["*arm*"]
"#;

    #[test]
    fn all_that_a_map_says_is_read_and_written_back() {
        let map = parse_name_map(WHOLE).unwrap();
        assert_eq!((map.mirror, map.leave_out.len(), map.sets.len()), (Some(0), 1, 1));
        assert_eq!(map.nodes.iter().find(|pair| pair.source == "hips").unwrap().space, PairSpace::Parent);
        let twist = map.chains.iter().find(|chain| chain.source == ["twist"]).unwrap();
        assert_eq!(twist.target, ["t1", "t2"]);
        assert_eq!(map.numbers.len(), 3);
        let bent = |value| map.numbers[1].range.value(value);
        assert!((bent(0.75) - 0.6).abs() < 1e-12);
        assert!((bent(2.0) - 2.6).abs() < 1e-12, "a line goes on beyond its last point");
    }

    #[test]
    fn a_proposal_is_read_back_as_what_is_not_a_guess() {
        let pair = |source: &[&str], target: &[&str], sureness| Proposed {
            source: source.iter().map(|name| (*name).to_owned()).collect(),
            target: target.iter().map(|name| (*name).to_owned()).collect(),
            sureness,
            doubted: false,
            why: "why".into(),
            orientation: 0.0,
            direction: None,
        };
        let number = |source: &str, range, sureness| ProposedNumber {
            pair: AttributePair { source: source.into(), target: "Mask:x".into(), range },
            sureness,
            why: "why".into(),
        };
        let proposal = Proposal {
            pairs: vec![
                pair(&["a"], &["odd \"name\"/#2"], Confidence::Sure),
                pair(&["b:c"], &["d"], Confidence::Likely),
                pair(&["e"], &["f"], Confidence::Guess),
                pair(&["g", "h"], &["i"], Confidence::Likely),
                pair(&["j", "k"], &["l"], Confidence::Guess),
            ],
            numbers: vec![
                number("face:a", NumberRange::SAME, Confidence::Sure),
                number("face:b", NumberRange::Linear { gain: 100.0, offset: -0.5 }, Confidence::Likely),
                number("face:c", NumberRange::Points(vec![(0.0, 0.0), (1.0, 2.5)]), Confidence::Likely),
                number("face:d", NumberRange::SAME, Confidence::Guess),
            ],
            source_left: vec!["m".into()],
            ..Proposal::default()
        };
        let text = proposal_text(&proposal, "one", "other", Confidence::Likely);
        assert_eq!(parse_name_map(&text).unwrap(), proposal.map(Confidence::Likely));
        for hidden in ["# e = \"f\"", "# from = [\"j\", \"k\"]", "# \"face:d\"", "without a partner: m"] {
            assert!(text.contains(hidden), "{hidden}: {text}");
        }
    }

    #[test]
    fn mistakes_are_named_with_their_line_or_entry() {
        for (text, line, said) in [
            ("[nodes]\nhips = \n", 2, ""),
            ("[nodes]\n[joints]\n", 2, "joints"),
            ("[nodes]\nhips = 3\n", 0, "SOURCE = \"TARGET\""),
            ("[nodes]\nhips = { to = \"a\", spaces = \"parent\" }\n", 0, "spaces"),
            ("[nodes]\nhips = { to = \"a\", space = \"local\" }\n", 0, "world"),
            ("mirror = \"side\"\n", 0, "axis across"),
            ("[numbers]\na = { to = \"b\", points = [[1.0, 0.0], [0.0, 1.0]] }\n", 0, "rising"),
            (
                "[numbers]\na = { to = \"b\", gain = 2.0, points = [[0.0, 0.0], [1.0, 1.0]] }\n",
                0,
                "one of the two",
            ),
        ] {
            let fault = parse_name_map(text).unwrap_err();
            match fault.place {
                Place::Line(found) => assert_eq!(found, line, "{text}"),
                _ => assert_eq!(line, 0, "{text}"),
            }
            assert!(fault.message.contains(said), "{text}: {}", fault.message);
        }
    }
}
