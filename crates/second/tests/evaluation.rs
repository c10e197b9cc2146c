//! The program's evaluation beside the second one, on random scenes.

use nimble_curve_second::random::{Contents, text};

use crate::agreement::compare;

#[test]
fn both_evaluators_agree() {
    let cases: u64 = std::env::var("CASES").ok().and_then(|n| n.parse().ok()).unwrap_or(150);
    let (mut channels, mut either) = (0, 0);
    for seed in 0..cases {
        let text = text(seed, &Contents::ALL);
        if std::env::var("KEEP").is_ok_and(|own| own == seed.to_string()) {
            std::fs::write("/tmp/second.ncurve", &text).unwrap();
        }
        let found = compare(&text).unwrap_or_else(|difference| panic!("seed {seed}: {difference}"));
        channels += found.looked_at;
        either += found.either_way;
    }
    assert!(either * 200 < channels, "{either} of {channels} nodes can be read in two ways");
    assert!(channels > 300, "{channels} nodes were looked at");
}
