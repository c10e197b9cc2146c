//! Writes the sample scenario into a folder: `cargo run -p nimble-curve-sample --bin make-sample -- demo`.

fn main() -> std::io::Result<()> {
    let folder = std::env::args().nth(1).unwrap_or_else(|| "crates/cli/demo".to_owned());
    std::fs::create_dir_all(&folder)?;
    for (name, contents) in nimble_curve_sample::files() {
        std::fs::write(std::path::Path::new(&folder).join(name), contents)?;
    }
    Ok(())
}
