//! `reorder`: other rotation orders, which of them are good, and flips repaired.

use std::io::Write;
use std::path::Path;

use nimble_curve_core::address::Addresses;
use nimble_curve_core::fit::Handles;
use nimble_curve_core::judge::Sampling;
use nimble_curve_core::ledger::{Entry, Fate, Ledger};
use nimble_curve_core::ops::Tolerance;
use nimble_curve_core::ops::reorder::{NewOrder, NodeSurvey, ReorderOptions, reorder, survey};
use nimble_curve_core::ops::unwind::unwind;
use nimble_curve_core::scene::Scene;
use serde::Serialize;

use crate::args::Reorder;
use crate::failure::Failure;
use crate::files::{self, Output};
use crate::report::{self, LedgerJson, counted};
use crate::step::{BoxedStep, SceneCache, Step, StepOutput, between_files};
use crate::table::{Align, Table};
use crate::terminal::{Report, Style};

impl Step for Reorder {
    fn work(&self, source: &Scene, file: &Path, _: &SceneCache) -> Result<StepOutput, Failure> {
        let only = self.choice.nodes(source, file)?;
        let result = match self.to {
            Some(to) => {
                let options = ReorderOptions {
                    to,
                    only,
                    tolerance: self.tolerance,
                    handles: self.tangents.map(Handles::from),
                };
                reorder(source, &options)
            }
            None => unwind(source, &only),
        };
        let (scene, ledger) = result?;
        let tolerance = Tolerance { angle: self.tolerance, ..Tolerance::default() };
        let mut worked = StepOutput::same(source, scene, ledger, tolerance);
        if let Some(promise) = worked.promise.as_mut().filter(|_| self.unwind) {
            // Flips lie between keys, and go.
            promise.claim.sampling = Sampling::Keys;
        }
        Ok(worked)
    }

    fn closer(&self, factor: f64) -> Option<BoxedStep> {
        Some(Box::new(Reorder { tolerance: self.tolerance * factor, ..self.clone() }))
    }
}

pub fn run(args: &Reorder) -> Result<(), Failure> {
    let Some(output) = &args.output else { return run_survey(args) };
    let output = Output::new(output.clone(), args.over);
    let (scene, StepOutput { ledger, outcome, closing, .. }) =
        between_files(args, &args.file, args.input, &output)?;
    let what = match args.to {
        Some(NewOrder::To(order)) => format!(" in {order}"),
        Some(NewOrder::Best) => " in the best orders".to_owned(),
        None => " without flips".to_owned(),
    };
    let surveyed = match args.to {
        Some(NewOrder::Best) => survey_for(args, &scene)?,
        _ => Vec::new(),
    };
    let mut out = Report::beside(&output.path);
    if args.json {
        return Ok(report::print_json(&mut out, &LedgerJson::new(&ledger, &scene.space))?);
    }
    let arrow = format!("{} → {}{what}", args.file.display(), output.path.display());
    report::head(&mut out, &arrow, &outcome)?;
    if !surveyed.is_empty() {
        print_survey(&mut out, &scene, &surveyed)?;
    }
    print_ledger(&mut out, &scene, &ledger, args.unwind)?;
    Ok(report::close(&mut out, &closing)?)
}

fn print_ledger(out: &mut impl Write, scene: &Scene, ledger: &Ledger, unwound: bool) -> Result<(), Failure> {
    let is_plain = |entry: &&Entry| entry.fate == Fate::Kept && entry.note.is_empty();
    let kept = ledger.entries.iter().filter(is_plain).count();
    let changed = ledger.entries.iter().filter(|entry| !is_plain(entry));
    report::print_entries(out, changed, &scene.space)?;
    if kept > 0 {
        let why = if unwound { "no flip" } else { "that order already, and kept" };
        writeln!(out, "  {} with {why}", counted(kept, "rotation track"))?;
    }
    report::print_remarks(out, &ledger.notes)?;
    Ok(())
}

fn survey_for(args: &Reorder, scene: &Scene) -> Result<Vec<NodeSurvey>, Failure> {
    let only = args.choice.nodes(scene, &args.file)?;
    Ok(survey(scene, &only, args.tolerance, args.tangents.map(Handles::from))?)
}

fn run_survey(args: &Reorder) -> Result<(), Failure> {
    let scene = files::read(&args.file, args.input)?.scene;
    let surveyed = survey_for(args, &scene)?;
    let mut out = Report::out();
    if args.json {
        let addresses = Addresses::new(&scene);
        let nodes: Vec<SurveyJson<'_>> =
            surveyed.iter().map(|survey| SurveyJson::new(survey, &addresses)).collect();
        return Ok(report::print_json(&mut out, &nodes)?);
    }
    let title = args.file.display().to_string();
    if surveyed.is_empty() {
        let none = "no chosen node has a rotation that moves".to_owned();
        return Ok(report::head(&mut out, &title, &(Style::Warn, none))?);
    }
    let better = surveyed.iter().filter(|survey| survey.best().order != survey.current).count();
    let all = counted(surveyed.len(), "node");
    let outcome = match better {
        0 => (Style::Good, format!("{all}: all are in their best order")),
        better => (Style::Warn, format!("{all}: {better} would do better in another order (--to best)")),
    };
    report::head(&mut out, &title, &outcome)?;
    print_survey(&mut out, &scene, &surveyed)
}

/// A row a node: how near it comes to the pole of each order, with the keys that the order needs.
fn print_survey(out: &mut impl Write, scene: &Scene, surveyed: &[NodeSurvey]) -> Result<(), Failure> {
    let mut table = Table::new(&[
        ("node", Align::Left),
        ("now", Align::Left),
        ("best", Align::Left),
        ("xyz", Align::Right),
        ("xzy", Align::Right),
        ("yxz", Align::Right),
        ("yzx", Align::Right),
        ("zxy", Align::Right),
        ("zyx", Align::Right),
        ("why", Align::Left),
    ]);
    let addresses = Addresses::new(scene);
    for survey in surveyed {
        let best = survey.best();
        let mut cells =
            vec![addresses.node(survey.node).to_owned(), survey.current.to_string(), best.order.to_string()];
        cells.extend(survey.orders.iter().map(|order| {
            let keys = if order.keys == 0 { String::new() } else { format!("/{}", order.keys) };
            let degrees = order.closest.to_degrees();
            if degrees < 10.0 { format!("{degrees:.1}°{keys}") } else { format!("{degrees:.0}°{keys}") }
        }));
        cells.push(why(survey));
        let now = survey.orders.iter().find(|order| order.order == survey.current);
        if now.is_some_and(|now| now.closest < 0.175) {
            table.styled(Style::Warn, cells)
        } else {
            table.row(cells)
        }
    }
    table.least_telling(&["why", "now"]).print(out)?;
    writeln!(
        out,
        "  {}",
        Style::Faint.paint("how near it comes to the gimbal lock of each order / keys that it needs")
    )?;
    Ok(())
}

/// Why the best order is the best, in a few words.
fn why(survey: &NodeSurvey) -> String {
    let best = survey.best();
    let Some(now) = survey.orders.iter().find(|order| order.order == survey.current) else {
        return String::new();
    };
    if best.order == survey.current {
        return "as it is".into();
    }
    let mut reasons = Vec::new();
    if best.closest > now.closest + 0.02 {
        reasons.push(format!("{:.0}° farther from gimbal lock", (best.closest - now.closest).to_degrees()));
    }
    if best.keys < now.keys {
        reasons.push(counted(now.keys - best.keys, "key") + " fewer");
    }
    if best.keys > now.keys {
        reasons.push(counted(best.keys - now.keys, "key") + " more");
    }
    reasons.join(", ")
}

#[derive(Serialize)]
struct SurveyJson<'a> {
    node: &'a str,
    current: &'static str,
    best: &'static str,
    orders: Vec<OrderJson>,
}

#[derive(Serialize)]
struct OrderJson {
    order: &'static str,
    closest_degrees: f64,
    at_frame: f64,
    keys: usize,
}

impl<'a> SurveyJson<'a> {
    fn new(survey: &NodeSurvey, addresses: &'a Addresses) -> SurveyJson<'a> {
        let orders = survey.orders.iter().map(|order| OrderJson {
            order: order.order.name(),
            closest_degrees: order.closest.to_degrees(),
            at_frame: order.frame,
            keys: order.keys,
        });
        SurveyJson {
            node: addresses.node(survey.node),
            current: survey.current.name(),
            best: survey.best().order.name(),
            orders: orders.collect(),
        }
    }
}
