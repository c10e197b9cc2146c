//! `map`: which node of one rig is which of another, proposed.

use std::io::Write as _;

use nimble_curve_core::address::Addresses;
use nimble_curve_core::ops::pairing::{Confidence, Proposal, Proposed, ProposedRigs, propose};
use nimble_curve_core::ops::{apart, body_part};
use nimble_curve_core::scene::Scene;
use nimble_curve_formats::name_map::proposal_text;
use serde::Serialize;

use crate::args::Map;
use crate::failure::Failure;
use crate::files::{self, InputArgs};
use crate::report;
use crate::table::{Align, Table};
use crate::terminal::Line;
use crate::terminal::{Report, Style};

#[derive(Serialize)]
struct MapJson<'a> {
    #[serde(skip_serializing_if = "Vec::is_empty")]
    rigs: Vec<RigsJson<'a>>,
    pairs: Vec<PairJson<'a>>,
    numbers: Vec<NumberJson<'a>>,
    source_left: &'a [String],
    target_left: &'a [String],
    numbers_left: &'a [String],
    target_numbers_left: &'a [String],
}

#[derive(Serialize)]
struct RigsJson<'a> {
    source: &'a str,
    target: &'a str,
    #[serde(skip_serializing_if = "Option::is_none")]
    held: Option<&'a str>,
}

#[derive(Serialize)]
struct PairJson<'a> {
    source: &'a [String],
    target: &'a [String],
    sureness: &'static str,
    why: &'a str,
    orientation_degrees: f64,
    #[serde(skip_serializing_if = "Option::is_none")]
    direction_degrees: Option<f64>,
}

#[derive(Serialize)]
struct NumberJson<'a> {
    source: &'a str,
    target: &'a str,
    sureness: &'static str,
    why: &'a str,
}

impl<'a> MapJson<'a> {
    fn new(proposal: &'a Proposal) -> MapJson<'a> {
        let pair = |pair: &'a Proposed| PairJson {
            source: &pair.source,
            target: &pair.target,
            sureness: pair.sureness.name(),
            why: &pair.why,
            orientation_degrees: pair.orientation.to_degrees(),
            direction_degrees: pair.direction.map(f64::to_degrees),
        };
        let numbers = proposal.numbers.iter().map(|number| NumberJson {
            source: &number.pair.source,
            target: &number.pair.target,
            sureness: number.sureness.name(),
            why: &number.why,
        });
        let rigs = |rigs: &'a ProposedRigs| RigsJson {
            source: &rigs.source,
            target: &rigs.target,
            held: rigs.held.as_deref(),
        };
        MapJson {
            rigs: proposal.rigs.iter().map(rigs).collect(),
            pairs: proposal.pairs.iter().map(pair).collect(),
            numbers: numbers.collect(),
            source_left: &proposal.source_left,
            target_left: &proposal.target_left,
            numbers_left: &proposal.numbers_left,
            target_numbers_left: &proposal.target_numbers_left,
        }
    }
}

pub fn run(args: &Map) -> Result<(), Failure> {
    let source = files::read(&args.source, args.input)?.scene;
    let target = files::read(&args.target, InputArgs::default())?.scene;
    for (path, scene) in [(&args.source, &source), (&args.target, &target)] {
        if scene.rigs.is_empty() {
            return Err(Failure::new(format!("{}: there is no rig in it", path.display())));
        }
    }
    // Bodies that a file holds side by side are rigs, whatever it calls them.
    let (source, target) = (apart(&source).into_owned(), apart(&target).into_owned());
    let proposal = propose(&source, &target);
    let name = |path: &std::path::Path, scene: &Scene| match path.file_stem() {
        Some(stem) if path.as_os_str() != "-" => stem.to_string_lossy().into_owned(),
        _ => scene.rigs[0].name.clone(),
    };
    let at_least = if args.take_guesses { Confidence::Guess } else { Confidence::Likely };
    let names = (name(&args.source, &source), name(&args.target, &target));
    let text = proposal_text(&proposal, &names.0, &names.1, at_least);
    let mut out = Report::out();
    if let Some(path) = &args.output {
        if path.as_os_str() == "-" {
            report::print_text(&mut out, &text)?;
            return Ok(());
        }
        // A map may hold hours of somebody's work.
        if path.exists() && !args.replace {
            return Err(Failure::new(format!(
                "{}: is there already: say --replace to write over it",
                path.display()
            )));
        }
        nimble_curve_formats::write_bytes(text.as_bytes(), path)?;
    }
    if args.json {
        return Ok(report::print_json(&mut out, &MapJson::new(&proposal))?);
    }
    print(&mut out, args, &proposal, &source)
}

fn print(out: &mut Report, args: &Map, proposal: &Proposal, source: &Scene) -> Result<(), Failure> {
    let arrow = format!("{} → {}", args.source.display(), args.target.display());
    report::head(out, &arrow, &verdict(proposal))?;
    let addresses = Addresses::new(source);
    let mut rigs: Vec<String> = Vec::new();
    for pair in &proposal.rigs {
        let held = pair.held.as_ref().map_or(String::new(), |held| format!(", held by {held}"));
        report::print_remarks(out, [&format!("rig {} → {}{held}", pair.source, pair.target)])?;
        let name = std::iter::once(pair.source.clone());
        rigs.extend(name.chain(std::iter::repeat(String::new())).take(pair.pairs));
    }
    let mut table = Table::new(&[
        ("rig", Align::Left),
        ("part", Align::Left),
        ("source", Align::Left),
        ("target", Align::Left),
        ("how sure", Align::Left),
        ("why", Align::Left),
        ("axes at rest", Align::Right),
        ("bone at rest", Align::Right),
    ]);
    let mut last_part = String::new();
    for (index, pair) in proposal.pairs.iter().enumerate() {
        let part = (addresses.find_in_any_namespace(&pair.source[0]))
            .map(|(rig, id)| body_part(&source.rigs[rig], id))
            .unwrap_or_default();
        let rig = rigs.get(index).cloned().unwrap_or_default();
        let shown = if part == last_part && rig.is_empty() { String::new() } else { part.clone() };
        last_part = part;
        let degrees =
            |angle: f64| if angle < 5e-4 { "=".to_owned() } else { format!("{:.1} deg", angle.to_degrees()) };
        let cells = [
            rig,
            shown,
            joined(&pair.source),
            joined(&pair.target),
            pair.sureness.name().to_owned(),
            pair.why.clone(),
            degrees(pair.orientation),
            pair.direction.map_or(String::new(), degrees),
        ];
        if pair.doubted || pair.sureness == Confidence::Guess {
            table.styled(Style::Warn, cells);
        } else {
            table.row(cells);
        }
    }
    table.without_empty_columns().print(out)?;
    if !proposal.numbers.is_empty() {
        writeln!(out)?;
        let mut table = Table::new(&[
            ("attribute", Align::Left),
            ("target", Align::Left),
            ("how sure", Align::Left),
            ("why", Align::Left),
        ]);
        for number in &proposal.numbers {
            let pair = &number.pair;
            table.row([
                pair.source.clone(),
                pair.target.clone(),
                number.sureness.name().to_owned(),
                number.why.clone(),
            ]);
        }
        table.print(out)?;
    }
    side_by_side(out, proposal)?;
    match &args.output {
        Some(path) => {
            writeln!(
                out,
                "  written to {}: look it over, then carry with --map {}",
                path.display(),
                path.display()
            )?;
        }
        None => writeln!(
            out,
            "  {}",
            Style::Faint.paint("write it to a file with -o MAP.toml, to be edited and used by carry")
        )?,
    }
    Ok(())
}

/// How sure the pairs are, and how many names have none.
fn verdict(proposal: &Proposal) -> Line {
    let count = |sureness| proposal.pairs.iter().filter(|pair| pair.sureness == sureness).count();
    let (sure, likely, guess) =
        (count(Confidence::Sure), count(Confidence::Likely), count(Confidence::Guess));
    let mut said = report::counted(proposal.pairs.len(), "pair");
    let each: Vec<String> = [(sure, "sure"), (likely, "likely"), (guess, "guessed")]
        .into_iter()
        .filter(|(count, _)| *count > 0)
        .map(|(count, name)| format!("{count} {name}"))
        .collect();
    if !each.is_empty() {
        said.push_str(&format!(": {}", each.join(", ")));
    }
    let left = proposal.source_left.len() + proposal.numbers_left.len();
    let target_left = proposal.target_left.len() + proposal.target_numbers_left.len();
    if left + target_left > 0 {
        said.push_str(&format!("; without a partner: {left} of the source, {target_left} of the target"));
    }
    (if guess == 0 && !proposal.pairs.is_empty() { Style::Good } else { Style::Warn }, said)
}

/// A chain's first and last name, and how many there are.
fn joined(names: &[String]) -> String {
    match names {
        [only] => only.clone(),
        [first, second] => format!("{first}, {second}"),
        [first, .., last] => format!("{first} … {last} ({})", names.len()),
        [] => String::new(),
    }
}

/// What is left on both sides, one beside the other.
fn side_by_side(out: &mut Report, proposal: &Proposal) -> Result<(), Failure> {
    let source: Vec<&String> = proposal.source_left.iter().chain(&proposal.numbers_left).collect();
    let target: Vec<&String> = proposal.target_left.iter().chain(&proposal.target_numbers_left).collect();
    if source.is_empty() && target.is_empty() {
        return Ok(());
    }
    let mut table = Table::new(&[("no partner: source", Align::Left), ("no partner: target", Align::Left)]);
    writeln!(out)?;
    const MOST: usize = 12;
    for row in 0..source.len().max(target.len()).min(MOST) {
        let of = |name: Option<&String>| name.cloned().unwrap_or_default();
        table.styled(Style::Warn, [of(source.get(row).copied()), of(target.get(row).copied())]);
    }
    let more = |count: usize| if count > MOST { format!("and {} more", count - MOST) } else { String::new() };
    if source.len() > MOST || target.len() > MOST {
        table.styled(Style::Warn, [more(source.len()), more(target.len())]);
    }
    table.print(out)?;
    Ok(())
}
