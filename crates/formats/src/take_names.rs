//! Takes told apart where only their names tell them apart.

use std::collections::HashSet;
use std::hash::Hash;

use nimble_curve_core::scene::Take;

/// Whether two takes go by one key.
pub fn has_namesakes<K: Eq + Hash>(takes: &[Take], key: impl Fn(&Take) -> K) -> bool {
    let mut met = HashSet::new();
    takes.iter().any(|take| !met.insert(key(take)))
}

/// Gives takes that go by the key of one before them, which their names are a part of, a number behind their names, and says so.
pub fn tell_apart<K: Eq + Hash>(takes: &mut [Take], key: impl Fn(&Take) -> K) -> Vec<String> {
    // All of them: a name with a number may be another one's own.
    let mut taken: HashSet<K> = takes.iter().map(&key).collect();
    let mut met: HashSet<K> = HashSet::new();
    let mut notes = Vec::new();
    for take in takes {
        if met.insert(key(take)) {
            continue;
        }
        let name = take.name.clone();
        for number in 2.. {
            take.name = format!("{name} {number}");
            if taken.insert(key(take)) {
                break;
            }
        }
        notes.push(format!("a second take is called '{name}': it is '{}' here", take.name));
    }
    notes
}
