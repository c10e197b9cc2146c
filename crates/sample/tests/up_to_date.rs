//! The files in `cli/demo/` are what the generator makes.

#[test]
fn the_checked_in_scenario_is_what_the_generator_makes() {
    for (name, contents) in nimble_curve_sample::files() {
        let path = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../cli/demo").join(name);
        let checked_in = std::fs::read_to_string(&path).unwrap();
        assert!(
            checked_in == contents,
            "{name} differs: run cargo run -p nimble-curve-sample --bin make-sample -- demo"
        );
    }
}
