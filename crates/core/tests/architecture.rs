//! What docs/architecture.md says of the house holds: crates import downwards only, files never in a circle.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::fs;
use std::path::{Path, PathBuf};

/// The path of a module within its crate, or of an item in one.
type Names = Vec<String>;

fn crates() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("..")
}

/// The rows of the page's table of floors: a crate, and those that it may depend on.
fn floors() -> Vec<(String, BTreeSet<String>)> {
    let page = include_str!("../../../docs/architecture.md");
    let table = page.split("## Floors").nth(1).and_then(|rest| rest.split("\n## ").next()).unwrap();
    let rows = table.lines().filter(|line| line.starts_with("| `"));
    rows.map(|row| {
        let cells: Vec<&str> = row.split('|').map(str::trim).collect();
        let marked = |cell: &str| cell.split('`').skip(1).step_by(2).map(str::to_owned).collect::<Vec<_>>();
        (marked(cells[1]).remove(0), marked(cells[2]).into_iter().collect())
    })
    .collect()
}

#[test]
fn crates_depend_on_those_below_them_only() {
    let floors = floors();
    let folders: BTreeSet<String> = fs::read_dir(crates())
        .unwrap()
        .map(|entry| entry.unwrap().file_name().into_string().unwrap())
        .filter(|name| crates().join(name).join("Cargo.toml").is_file())
        .collect();
    assert_eq!(
        floors.iter().map(|(name, _)| name.clone()).collect::<BTreeSet<_>>(),
        folders,
        "the table of floors"
    );
    let mut below = BTreeSet::new();
    for (name, allowed) in &floors {
        let manifest = fs::read_to_string(crates().join(name).join("Cargo.toml")).unwrap();
        let section = manifest.split("[dependencies]").nth(1).unwrap_or("").split("\n[").next().unwrap();
        let own = section.lines().filter_map(|line| line.strip_prefix("nimble-curve-"));
        let own: BTreeSet<String> =
            own.map(|line| line.split(['.', ' ', '=']).next().unwrap().to_owned()).collect();
        assert_eq!(&own, allowed, "{name} depends on other crates than the page says");
        assert!(allowed.is_subset(&below), "{name} depends on {allowed:?}, which do not all stand above it");
        below.insert(name.clone());
    }
}

/// The modules of a crate, and what they name elsewhere in it.
#[derive(Default)]
struct House {
    files: BTreeMap<Names, String>,
    /// Names that a module hands on, with what they stand for.
    handed_on: HashMap<Names, Names>,
}

impl House {
    fn of(name: &str) -> House {
        let mut house = House::default();
        let root = crates().join(name).join("src");
        house.enter(&root, &root);
        let handed_on: Vec<(Names, Names)> = house
            .files
            .iter()
            .flat_map(|(module, text)| {
                imports(text, true).into_iter().filter_map(|path| {
                    let name = [module.as_slice(), &path[path.len() - 1..]].concat();
                    Some((name, house.absolute(module, &path)?))
                })
            })
            .collect();
        house.handed_on = handed_on.into_iter().collect();
        house
    }

    fn enter(&mut self, root: &Path, folder: &Path) {
        for entry in fs::read_dir(folder).unwrap() {
            let path = entry.unwrap().path();
            if path.is_dir() {
                self.enter(root, &path);
            } else if path.extension().is_some_and(|ending| ending == "rs") {
                let relative = path.strip_prefix(root).unwrap().with_extension("");
                let mut module: Names =
                    relative.iter().map(|part| part.to_str().unwrap().to_owned()).collect();
                if ["mod", "lib", "main"].contains(&module[module.len() - 1].as_str()) {
                    module.pop();
                }
                self.files.insert(module, code(&fs::read_to_string(&path).unwrap()));
            }
        }
    }

    /// What a path in a module stands for, from the crate's root on; none where it leads out of the crate.
    fn absolute(&self, module: &[String], path: &[String]) -> Option<Names> {
        let first = path.first()?.as_str();
        match first {
            "crate" => Some(path[1..].to_vec()),
            "self" => Some([module, &path[1..]].concat()),
            "super" => {
                let ups = path.iter().take_while(|part| *part == "super").count();
                let above = module.len().checked_sub(ups)?;
                Some([&module[..above], &path[ups..]].concat())
            }
            child => {
                let below = [module, &[child.to_owned()]].concat();
                self.files.contains_key(&below).then(|| [module, path].concat())
            }
        }
    }

    /// The module in which the thing stands that a path means, through all that hand it on.
    fn home(&self, path: &[String]) -> Names {
        let mut path = path.to_vec();
        for _ in 0..8 {
            let module =
                (0..=path.len()).rev().find(|end| self.files.contains_key(&path[..*end])).unwrap_or(0);
            let next = path.get(..=module).and_then(|name| self.handed_on.get(name));
            match next {
                Some(target) if *target != path => path = [target, &path[module + 1..]].concat(),
                _ => {
                    path.truncate(module);
                    return path;
                }
            }
        }
        path
    }

    /// The modules that each one takes something from; what stands in a module around it is its own.
    fn edges(&self) -> BTreeMap<&Names, BTreeSet<Names>> {
        let of = |module: &Names, text: &str| -> BTreeSet<Names> {
            let named = imports(text, false).into_iter().chain(mentions(text));
            let homes = named.filter_map(|path| Some(self.home(&self.absolute(module, &path)?)));
            homes.filter(|home| !module.starts_with(home)).collect()
        };
        self.files.iter().map(|(module, text)| (module, of(module, text))).collect()
    }
}

/// A file's code without its comments and tests.
fn code(text: &str) -> String {
    let own = text.split("#[cfg(test)]\nmod tests").next().unwrap();
    own.lines().map(|line| line.split("//").next().unwrap()).collect::<Vec<_>>().join("\n")
}

/// What `use` brings in, each as a path; with `handed_on` what is handed on to others instead.
fn imports(text: &str, handed_on: bool) -> Vec<Names> {
    let mut found = Vec::new();
    let mut rest = text;
    while let Some(at) = rest.find("use ") {
        let line_start = rest[..at].rfind('\n').map_or(0, |end| end + 1);
        let before = rest[line_start..at].trim();
        let Some(end) = rest[at..].find(';') else { break };
        let is_public = before.starts_with("pub");
        if is_public == handed_on && (is_public || before.is_empty()) {
            tree(&rest[at + 4..at + end], &[], &mut found);
        }
        rest = &rest[at + 4..];
    }
    found
}

/// The paths of a tree of imports.
fn tree(text: &str, above: &[String], found: &mut Vec<Names>) {
    let text = text.trim();
    let (head, list) = match text.split_once('{') {
        Some((head, list)) => (head, Some(&list[..list.rfind('}').unwrap_or(list.len())])),
        None => (text.split(" as ").next().unwrap(), None),
    };
    let parts = head.split("::").map(|part| part.trim().to_owned()).filter(|part| !part.is_empty());
    let path: Names = above.iter().cloned().chain(parts).collect();
    let Some(list) = list else {
        found.extend((!path.is_empty()).then_some(path));
        return;
    };
    let (mut depth, mut start) = (0, 0);
    for (at, sign) in list.char_indices().chain([(list.len(), ',')]) {
        match sign {
            '{' => depth += 1,
            '}' => depth -= 1,
            ',' if depth == 0 => {
                let item = list[start..at].trim();
                if !item.is_empty() && item != "self" {
                    tree(item, &path, found);
                }
                start = at + 1;
            }
            _ => {}
        }
    }
}

/// Paths that code names where it uses them.
fn mentions(text: &str) -> Vec<Names> {
    let is_part = |c: char| c.is_alphanumeric() || c == '_' || c == ':';
    let words = text.split(|c: char| !is_part(c));
    let inside =
        words.filter(|word| ["crate::", "super::", "self::"].iter().any(|start| word.starts_with(start)));
    inside.map(|word| word.split("::").filter(|part| !part.is_empty()).map(str::to_owned).collect()).collect()
}

#[test]
fn no_files_import_each_other_in_a_circle() {
    let mut circles = Vec::new();
    for (name, _) in floors() {
        let house = House::of(&name);
        let edges = house.edges();
        assert!(!edges.is_empty(), "{name} has files");
        let reached: BTreeMap<&Names, BTreeSet<&Names>> = edges
            .keys()
            .map(|start| {
                let (mut seen, mut open) = (BTreeSet::new(), vec![*start]);
                while let Some(module) = open.pop() {
                    let next = edges.get(module).into_iter().flatten();
                    open.extend(next.filter(|target| seen.insert(*target)));
                }
                (*start, seen)
            })
            .collect();
        for (module, to) in &edges {
            let back = |target: &&Names| reached.get(*target).is_some_and(|seen| seen.contains(module));
            let circle: Vec<String> = to.iter().filter(back).map(|target| target.join("::")).collect();
            if !circle.is_empty() {
                circles.push(format!("{name}: {} -> {}", module.join("::"), circle.join(", ")));
            }
        }
    }
    assert!(circles.is_empty(), "in a circle:\n{}", circles.join("\n"));
}

#[test]
fn what_is_built_in_lies_in_its_own_crate() {
    let (mut count, mut outside) = (0, Vec::new());
    for (name, _) in floors() {
        let root = fs::canonicalize(crates().join(&name)).unwrap();
        let mut open = vec![root.join("src")];
        while let Some(path) = open.pop() {
            if path.is_dir() {
                open.extend(fs::read_dir(&path).unwrap().map(|entry| entry.unwrap().path()));
                continue;
            }
            let text = fs::read_to_string(&path).unwrap();
            for start in ["include_str!(\"", "include_bytes!(\""] {
                for rest in text.split(start).skip(1) {
                    let file = path.parent().unwrap().join(rest.split('"').next().unwrap());
                    let file = fs::canonicalize(&file).unwrap_or_else(|_| panic!("{}", file.display()));
                    count += 1;
                    outside.extend((!file.starts_with(&root)).then_some(file));
                }
            }
        }
    }
    assert!(count > 10 && outside.is_empty(), "{count}: {outside:?}");
}

#[test]
fn every_file_that_the_page_names_is_there() {
    let page = include_str!("../../../docs/architecture.md");
    let marked = page.split('`').skip(1).step_by(2);
    let paths: Vec<&str> = marked.filter(|text| text.contains('/') && !text.contains(' ')).collect();
    assert!(paths.len() > 50, "{}", paths.len());
    let is_there = |path: &&str| crates().join(path).exists() || crates().join("..").join(path).exists();
    let missing: Vec<&&str> = paths.iter().filter(|path| !is_there(path)).collect();
    assert!(missing.is_empty(), "{missing:?}");
}

#[test]
fn paths_are_read_as_the_compiler_reads_them() {
    let paths = |text: &str| -> Vec<String> {
        imports(&code(text), false).into_iter().map(|path| path.join("::")).collect()
    };
    assert_eq!(
        paths(
            "use crate::a::{self, B, c::{D as E, F}};\npub use super::g::H; // use x::Y;\n#[cfg(test)]\nmod tests { use i::J; }"
        ),
        ["crate::a::B", "crate::a::c::D", "crate::a::c::F"]
    );
    assert_eq!(mentions("let x = crate::a::b(super::c::D);"), [["crate", "a", "b"], ["super", "c", "D"]]);
}
