//! Names: unique, allowed, without leftovers.

use std::collections::{HashMap, HashSet};

use nimble_curve_scene::address::{Addresses, without_namespace};
use nimble_curve_scene::scene::Scene;

use super::{Code, Finding};
use crate::profile::{Profile, ruled};

pub(super) fn findings(scene: &Scene, addresses: &Addresses, profile: Option<&Profile>) -> Vec<Finding> {
    let mut found = Vec::new();
    for (index, rig) in scene.rigs.iter().enumerate() {
        let mut count: HashMap<&str, usize> = HashMap::new();
        for (_, node) in rig.nodes() {
            *count.entry(&node.name).or_default() += 1;
        }
        let mut seen = HashSet::new();
        let namespace = |name: &str| {
            let bare = without_namespace(name);
            name[..name.len() - bare.len()].trim_end_matches(':').to_owned()
        };
        let mut namespaces: HashMap<String, usize> = HashMap::new();
        for (_, node) in rig.nodes() {
            *namespaces.entry(namespace(&node.name)).or_default() += 1;
        }
        // The namespace that most nodes have; of several as common ones, the first by name.
        let usual = namespaces.iter().max_by(|a, b| a.1.cmp(b.1).then_with(|| b.0.cmp(a.0)));
        let usual = usual.map_or(String::new(), |(name, _)| name.clone());
        for (id, node) in rig.nodes() {
            let place = || addresses.node((index, id)).to_owned();
            let name = node.name.as_str();
            if count[name] > 1 && seen.insert(name) {
                let detail = format!("{} nodes are called '{name}'", count[name]);
                found.push(Finding::new(Code::SameName, place(), detail));
            }
            if let Some(left) = leftover(scene, name, &namespace(name), &usual) {
                found.push(Finding::new(Code::LeftoverName, place(), left));
            }
            if let Some(profile) = profile {
                let allowed = ruled(name, &profile.names);
                if allowed != name {
                    let detail = format!("'{}' would make it '{allowed}'", profile.name);
                    found.push(Finding::new(Code::NameNotAllowed, place(), detail));
                }
            }
        }
    }
    found
}

/// What another file left in a name.
fn leftover(scene: &Scene, name: &str, namespace: &str, usual: &str) -> Option<String> {
    if namespace.contains(':') {
        return Some(format!("namespace in a namespace, '{namespace}'"));
    }
    if namespace != usual {
        let said = |namespace: &str| {
            if namespace.is_empty() { "no namespace".to_owned() } else { format!("namespace '{namespace}'") }
        };
        return Some(format!("{}, others have {}", said(namespace), said(usual)));
    }
    let take = scene.takes.iter().find(|take| {
        let ends = |mark: char| {
            let rest =
                name.strip_suffix(take.name.as_str()).or_else(|| name.strip_prefix(take.name.as_str()));
            rest.is_some_and(|rest| rest.ends_with(mark) || rest.starts_with(mark))
        };
        // Shorter ones stand in names by chance: sides, numbers.
        take.name.chars().count() > 2 && ['_', '|', ':', '.', '-'].into_iter().any(ends)
    });
    take.map(|take| format!("carries the name of take '{}'", take.name))
}
