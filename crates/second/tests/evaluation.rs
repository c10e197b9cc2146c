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

/// Found by the fuzzer: at the middle of a piece whose handles reach across all of it the curve goes straight up, so that two
/// evaluations which know the instant to the last digit are a millionth of the handles' height apart.
#[test]
fn where_a_curve_goes_straight_up_both_are_as_near_as_the_instant_says() {
    for (height, keys, instants) in [(0.1667, [25, 28], [0, 27]), (26.6659, [7, 10], [0, 12])] {
        let key = |frame: i64| {
            let handle = format!("[3.0,{height}]");
            format!(r#"{{"frame":{frame},"value":1.0,"in":{handle},"out":{handle},"broken":true}}"#)
        };
        let [from, to] = keys;
        let text = format!(
            r#"{{"ncurve":1,"rate":"30","space":{{"metres_per_unit":0.01,"up":"y","handedness":"right"}},
            "rigs":[{{"name":"r","nodes":[{{"name":"n","attributes":[{{"name":"a","number":{{"default":0.0}}}}]}}]}}],
            "takes":[{{"name":"t","range":{instants:?},"layers":[{{"name":"l","tracks":[{{"channel":"n:a","controller":{{
                "components":[{{"keys":[{},{}],"inner_loop":{{"frames":[{from},{to}],"before":0,"after":0,"offset":-0.19376}},
                "after":"loop-oscillate","before":"loop-offset"}}]}}}}]}}]}}]}}"#,
            key(from),
            key(to)
        );
        assert_eq!(compare(&text).map(|compared| compared.looked_at), Ok(1), "{keys:?}");
    }
}
