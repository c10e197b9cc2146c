//! What a name map would bring over that names alone do not.

use std::collections::HashSet;
use std::path::Path;

use nimble_curve_core::ledger::{Fate, Ledger};
use nimble_curve_core::ops::pairing::{Confidence, propose};
use nimble_curve_core::scene::Scene;

use crate::report::counted;

/// What to do where names pair little: how many of the tracks that were left out are on nodes for which partners can be
/// proposed. `None` where there are none.
pub(super) fn remedy(
    (source, source_file): (&Scene, &Path),
    (target, target_file): (&Scene, &Path),
    ledger: &Ledger,
) -> Option<String> {
    let left_out: Vec<&str> = (ledger.entries.iter())
        .filter(|entry| entry.fate == Fate::LeftOut)
        .filter_map(|entry| entry.channel.rsplit_once(':').map(|(node, _)| node))
        .collect();
    if left_out.is_empty() {
        return None;
    }
    let proposal = propose(source, target);
    let paired: HashSet<&str> = (proposal.pairs.iter())
        .filter(|pair| pair.sureness <= Confidence::Likely)
        .flat_map(|pair| pair.source.iter().map(String::as_str))
        .collect();
    let found = left_out.iter().filter(|node| paired.contains(*node)).count();
    (found > 0).then(|| {
        format!(
            "{} left out {} a likely partner of another name: nimble-curve map {} {} -o MAP.toml, then carry with --map MAP.toml",
            counted(found, "track"),
            if found == 1 { "has" } else { "have" },
            source_file.display(),
            target_file.display()
        )
    })
}
