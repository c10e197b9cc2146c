//! `check`: what would go wrong later.

use std::io::Write;
use std::path::Path;
use std::process::ExitCode;
use std::sync::Arc;

use nimble_curve_core::ops::check::{CheckOptions, Code, Finding, Severity, check};
use nimble_curve_core::ops::profile::Profile;
use nimble_curve_core::scene::Scene;
use nimble_curve_formats::profile::read_profile;
use serde::Serialize;

use crate::args::{Check, Level};
use crate::failure::Failure;
use crate::files::{self, InputArgs};
use crate::report::{counted, frame, print_json};
use crate::step::{SceneCache, Step, StepOutput};
use crate::table::{Align, Table};
use crate::terminal::{self, Report, Style};

#[derive(Serialize)]
struct FileJson {
    file: String,
    errors: usize,
    warnings: usize,
    notes: usize,
    findings: Vec<FindingJson>,
}

#[derive(Serialize)]
struct FindingJson {
    code: Code,
    severity: Severity,
    take: Option<String>,
    place: String,
    first_frame: Option<f64>,
    last_frame: Option<f64>,
    detail: String,
    remedy: String,
}

/// What is checked against.
struct Against {
    rig: Option<Arc<Scene>>,
    profile: Option<Profile>,
}

impl Against {
    fn new(args: &Check, shelf: &SceneCache) -> Result<Against, Failure> {
        let rig = args.target.as_ref().map(|path| shelf.scene(path, args.input)).transpose()?;
        let profile = args.profile.as_ref().map(|path| read_profile(path)).transpose()?;
        Ok(Against { rig, profile })
    }

    /// What is found in a scene and not allowed.
    fn findings(&self, scene: &Scene, mended: &[String], args: &Check) -> Result<Vec<Finding>, Failure> {
        let options = CheckOptions { rig: self.rig.as_deref(), profile: self.profile.as_ref(), mended };
        let mut findings = check(scene, &options)?;
        findings.retain(|finding| !args.ignore.contains(&finding.code));
        Ok(findings)
    }
}

/// In a recipe, findings are warnings; those that are denied end the work on the file.
impl Step for Check {
    fn work(&self, scene: &Scene, _: &Path, shelf: &SceneCache) -> Result<StepOutput, Failure> {
        let findings = Against::new(self, shelf)?.findings(scene, &[], self)?;
        let said = |findings: &[&Finding]| {
            let groups = findings.chunk_by(|a, b| a.code == b.code);
            let of = |group: &[&Finding]| format!("{} × {}", group.len(), group[0].code.name());
            groups.map(of).collect::<Vec<_>>().join(", ")
        };
        let denied = self.fail_on.map(Level::severity);
        let is_denied = |finding: &&Finding| denied.is_some_and(|denied| finding.code.severity() >= denied);
        let refused: Vec<&Finding> = findings.iter().filter(is_denied).collect();
        if !refused.is_empty() {
            return Err(Failure::new(format!("found {}", said(&refused))));
        }
        let mut worked = StepOutput::unchanged(scene);
        let warned = |finding: &&Finding| finding.code.severity() >= Severity::Warning;
        let warnings: Vec<&Finding> = findings.iter().filter(warned).collect();
        if !warnings.is_empty() {
            worked.warnings.push(format!("check found {}", said(&warnings)));
        }
        Ok(worked)
    }
}

pub fn run(args: &Check) -> Result<ExitCode, Failure> {
    let against = Against::new(args, &SceneCache::default())?;
    let mut out = Report::out();
    let (mut worst, mut all) = (None, Vec::new());
    for (index, path) in args.files.iter().enumerate() {
        // What its reader mended is among the findings.
        let loaded = files::read_quietly(path, args.input)?;
        let findings = against.findings(&loaded.scene, &loaded.mended, args)?;
        worst = worst.max(findings.iter().map(|finding| finding.code.severity()).max());
        if args.json {
            all.push(as_json(path, findings, args));
        } else {
            if index > 0 {
                writeln!(out)?;
            }
            print(&mut out, path, &findings, args)?;
        }
    }
    if args.json {
        print_json(&mut out, &all)?;
    }
    let denied = args.fail_on.map(Level::severity);
    let is_denied = denied.is_some_and(|denied| worst.is_some_and(|worst| worst >= denied));
    Ok(if is_denied { ExitCode::FAILURE } else { ExitCode::SUCCESS })
}

impl Level {
    fn severity(self) -> Severity {
        match self {
            Level::Note => Severity::Note,
            Level::Warning => Severity::Warning,
            Level::Error => Severity::Error,
        }
    }
}

fn number_of(findings: &[Finding], severity: Severity) -> usize {
    findings.iter().filter(|finding| finding.code.severity() == severity).count()
}

fn as_json(path: &Path, findings: Vec<Finding>, args: &Check) -> FileJson {
    let file = typed(path, args.input);
    let number = |severity| number_of(&findings, severity);
    let (errors, warnings, notes) =
        (number(Severity::Error), number(Severity::Warning), number(Severity::Note));
    let finding = |finding: Finding| FindingJson {
        code: finding.code,
        severity: finding.code.severity(),
        first_frame: finding.frames.map(|frames| frames.0),
        last_frame: finding.frames.map(|frames| frames.1),
        remedy: remedy(&finding, &file),
        take: finding.take,
        place: finding.place,
        detail: finding.detail,
    };
    let findings = findings.into_iter().map(finding).collect();
    FileJson { file: path.display().to_string(), errors, warnings, notes, findings }
}

fn print(out: &mut impl Write, path: &Path, findings: &[Finding], args: &Check) -> Result<(), Failure> {
    let name = Style::Strong.paint(&path.display().to_string());
    if findings.is_empty() {
        writeln!(out, "{name}  {}", Style::Good.paint("nothing found"))?;
        return Ok(());
    }
    let counts: Vec<String> = [Severity::Error, Severity::Warning, Severity::Note]
        .into_iter()
        .map(|severity| (severity, number_of(findings, severity)))
        .filter(|(_, count)| *count > 0)
        .map(|(severity, count)| counted(count, &severity.to_string()))
        .collect();
    writeln!(out, "{name}  {}", counts.join(", "))?;
    let file = typed(path, args.input);
    for group in findings.chunk_by(|a, b| a.code == b.code) {
        let code = group[0].code;
        let style = match code.severity() {
            Severity::Error => Style::Bad,
            Severity::Warning => Style::Warn,
            Severity::Note => Style::Strong,
        };
        let head = format!("{:<7}  {}", code.severity().to_string(), code.name());
        writeln!(out, "\n  {}  {}", style.paint(&head), code.meaning())?;
        places(out, group, args.rows)?;
        for line in terminal::wrapped("           → ", &remedy(&group[0], &file), 13) {
            writeln!(out, "{}", Style::Faint.paint(&line))?;
        }
    }
    Ok(())
}

fn places(out: &mut impl Write, group: &[Finding], most: usize) -> Result<(), Failure> {
    let shown = if most == 0 { group.len() } else { most };
    let has_frames = group.iter().any(|finding| finding.frames.is_some());
    let columns = if has_frames { 4 } else { 3 };
    let mut table = Table::plain(&[Align::Left; 4][..columns]);
    for finding in group.iter().take(shown) {
        let frames = match finding.frames {
            Some((first, last)) if first == last => format!("frame {}", frame(first)),
            Some((first, last)) => format!("frames {}:{}", frame(first), frame(last)),
            None => String::new(),
        };
        let mut cells = vec!["       ".to_owned(), finding.place.clone()];
        if has_frames {
            cells.push(frames);
        }
        cells.push(finding.detail.clone());
        table.row(cells);
    }
    table.print_wrapped(out)?;
    if group.len() > shown {
        let more = format!("           and {} more: --rows 0 lists all", group.len() - shown);
        writeln!(out, "{}", Style::Faint.paint(&more))?;
    }
    Ok(())
}

/// A file as it is typed on a command line, with what was said of it.
fn typed(path: &Path, input: InputArgs) -> String {
    let name = path.display().to_string();
    let is_plain = |c: char| c.is_alphanumeric() || "/\\._-+:@%,=~".contains(c);
    let mut typed =
        if name.chars().all(is_plain) { name } else { format!("'{}'", name.replace('\'', r"'\''")) };
    for flag in input.stated() {
        typed.push(' ');
        typed.push_str(&flag);
    }
    typed
}

/// What to do about a finding.
fn remedy(finding: &Finding, file: &str) -> String {
    let place = match finding.place.contains(|c: char| c.is_whitespace() || c == '\'') {
        true => format!("\"{}\"", finding.place),
        false => finding.place.clone(),
    };
    match finding.code {
        Code::NotANumber => "export the file again: its numbers are lost".into(),
        Code::Flip => format!("nimble-curve reorder {file} --unwind -o OUT"),
        Code::NegativeScale | Code::UnevenScale => "freeze the scale in the rig, and export it again".into(),
        Code::RestScale => format!(
            "nimble-curve convert {file} OUT --unscale, where it is the same along all axes; else freeze it in the rig"
        ),
        Code::NotOnRig | Code::OtherRest => {
            format!("nimble-curve map {file} TARGET -o MAP.toml, and carry with --map MAP.toml")
        }
        Code::KeysOutsideRange => format!("nimble-curve clips trim {file} -o OUT"),
        Code::EmptyTake => format!("nimble-curve clips extract {file} the others -o OUT"),
        Code::RangePastKeys => format!("nimble-curve clips range {file} --to-keys -o OUT"),
        Code::ClipOutsideTake | Code::UnevenParts => {
            format!("set the range, or nimble-curve convert {file} OUT --frames FIRST:LAST")
        }
        Code::FirstFrame => format!("nimble-curve clips shift {file} --to FRAME -o OUT"),
        Code::NotToStandard => format!("nimble-curve convert {file} OUT writes it as its standard says"),
        Code::CrowdedKeys | Code::OffFrameKeys => {
            "meant, if the motion was stretched or captured; else move the keys onto frames".into()
        }
        Code::LongWay => "add a whole turn to the angle behind the gap, if the turn is not meant".into(),
        Code::SlidingFoot => {
            let take = finding.take.as_deref().unwrap_or("TAKE");
            format!(
                "nimble-curve carry {file} --target {file} --take {take} --feet hold --place overwrite --target-take {take} -o OUT"
            )
        }
        Code::Jump => "if it is a cut, name clips on both sides; else carry what comes behind again, with --place and --go-on".into(),
        Code::Spike | Code::Dropout => {
            format!("nimble-curve unbake {file} -o OUT --bridge puts it where the motion around it leads")
        }
        Code::OffGround => {
            "meant, on steps or in the air; else carry it anew: travel by the legs puts feet on the ground"
                .into()
        }
        Code::SilentLayer => {
            format!("nimble-curve layers set {file} --layer {place} --unmute -o OUT, or layers flatten")
        }
        Code::BeyondLimits => "widen the limits in the rig, or give the range in the name map".into(),
        Code::DrivenKeys => format!("nimble-curve rig {file}, and key what drives it"),
        Code::OutOfReach => "bring the goal nearer, or give the limb stretch or slack".into(),
        Code::PoleOnLine => "move the pole aside".into(),
        Code::RollFar => "turn the source less far from its rest, or let several rolls share it".into(),
        Code::HalfSwitch => "key the switch as a hold: 0 or 1".into(),
        Code::LockedMoves => "unlock the channel in the rig, or leave it out with --except".into(),
        Code::UnitScale => {
            format!("say the unit with --unit, or nimble-curve convert {file} OUT --to-unit UNIT")
        }
        Code::SameName | Code::LeftoverName => {
            "rename the nodes in the rig; a name map can pair them by path".into()
        }
        Code::NameNotAllowed | Code::NotInProfile => {
            format!("nimble-curve convert {file} OUT --profile PROFILE changes it, and says how")
        }
        Code::Baked => format!("nimble-curve unbake {file} -o OUT"),
        Code::StillChannel => "leave it, if the pose is meant to be held by keys; else take them out".into(),
        Code::NearGimbalLock => format!("nimble-curve reorder {file} --survey, then --to best"),
        Code::NoRoot => format!("fine for shots; engines want one: nimble-curve root lift {file} -o OUT"),
        Code::LocatorMoves => format!("nimble-curve convert {file} OUT --only the nodes that are wanted"),
        Code::PartialWeight => {
            format!(
                "if that is not meant: nimble-curve layers set {file} --layer {place} --weight 100% -o OUT"
            )
        }
        Code::NearlyLoops => {
            let (first, last) = finding.frames.unwrap_or_default();
            let take = finding.take.as_deref().unwrap_or("TAKE");
            let frames = format!("{}:{}", frame(first), frame(last));
            format!(
                "if it is to loop: nimble-curve cycle close {file} --take {take} --frames {frames} -o OUT"
            )
        }
    }
}
