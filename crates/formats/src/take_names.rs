//! Takes told apart where only their names tell them apart.

use std::collections::HashSet;
use std::hash::Hash;

use nimble_curve_core::scene::Take;

/// Takes of which no two go by the same key, which their names are a part of, and what is called otherwise: the second of one name has a
/// number. None where no two go by one as they are.
pub fn told_apart<K: Eq + Hash>(
    takes: &[Take],
    key: impl Fn(&Take) -> K,
) -> Option<(Vec<Take>, Vec<String>)> {
    let mut taken: HashSet<K> = HashSet::new();
    // All of them: a name with a number may be another one's own.
    let count = takes.iter().filter(|take| !taken.insert(key(take))).count();
    if count == 0 {
        return None;
    }
    let mut met: HashSet<K> = HashSet::new();
    let mut notes = Vec::with_capacity(count);
    let own = |take: &Take| {
        let mut made = take.clone();
        if met.insert(key(take)) {
            return made;
        }
        for number in 2.. {
            made.name = format!("{} {number}", take.name);
            if taken.insert(key(&made)) {
                break;
            }
        }
        notes.push(format!("a second take is called '{}': it is '{}' here", take.name, made.name));
        made
    };
    Some((takes.iter().map(own).collect(), notes))
}
