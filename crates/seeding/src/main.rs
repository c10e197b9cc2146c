//! `seed_changes ROOT LIST.json [PREFIX=COUNT …]`: weaves changes of a list into the sources under ROOT, which is a copy, and prints
//! one line for each: its number, its name. `scripts/seeded_changes` drives it.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

use anyhow::{Context, Result, bail, ensure};
use nimble_curve_seeding::{Change, SWITCH, shuffled, weave};

fn main() -> Result<()> {
    let mut arguments = std::env::args().skip(1);
    let (Some(root), Some(list)) = (arguments.next(), arguments.next()) else {
        bail!("seed_changes ROOT LIST.json [PREFIX=COUNT …]");
    };
    let text = std::fs::read_to_string(&list).with_context(|| list.clone())?;
    let list = shuffled(serde_json::from_str(&text).with_context(|| list.clone())?);
    // Numbers are places in the shuffled list, so that one number means one change whatever else is chosen.
    let mut chosen = BTreeSet::new();
    for wish in arguments {
        let (prefix, count) =
            wish.split_once('=').with_context(|| format!("\"{wish}\" is not PREFIX=COUNT"))?;
        let count: usize = count.parse().with_context(|| format!("\"{wish}\" is not PREFIX=COUNT"))?;
        let matching: Vec<usize> = (0..list.len())
            .filter(|index| !chosen.contains(index) && list[*index].file.starts_with(prefix))
            .take(count)
            .collect();
        ensure!(matching.len() == count, "{prefix} has {} changes, not {count}", matching.len());
        chosen.extend(matching);
    }
    write(Path::new(&root), &list, &chosen)
}

fn write(root: &Path, list: &[Change], chosen: &BTreeSet<usize>) -> Result<()> {
    let mut by_file: BTreeMap<&str, Vec<(u32, Change)>> = BTreeMap::new();
    for &index in chosen {
        by_file.entry(&list[index].file).or_default().push((u32::try_from(index)?, list[index].clone()));
    }
    let mut roots = BTreeSet::new();
    for (file, changes) in by_file {
        let path = root.join(file);
        let source = std::fs::read_to_string(&path).with_context(|| path.display().to_string())?;
        let woven = weave(&source, &changes).with_context(|| path.display().to_string())?;
        std::fs::write(&path, woven.text).with_context(|| path.display().to_string())?;
        for (number, change) in &changes {
            match woven.without.iter().find(|(without, _)| without == number) {
                Some((_, reason)) => eprintln!("not woven: {} ({reason})", change.name),
                None => println!("{number} {}", change.name),
            }
        }
        let crate_root = path
            .ancestors()
            .find(|folder| folder.ends_with("src"))
            .with_context(|| format!("{file} is in no crate"))?;
        roots.insert(crate_root.join("lib.rs"));
    }
    for crate_root in roots {
        let source =
            std::fs::read_to_string(&crate_root).with_context(|| crate_root.display().to_string())?;
        std::fs::write(&crate_root, source + SWITCH).with_context(|| crate_root.display().to_string())?;
    }
    Ok(())
}
