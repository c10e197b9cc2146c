//! From SVG to PNG, with a font that is shipped inside the program.

use std::sync::Arc;

use resvg::{tiny_skia, usvg};
use thiserror::Error;

const FONT: &[u8] = include_bytes!("../fonts/DejaVuSans.ttf");

/// A picture that cannot be made.
#[derive(Debug, Error)]
pub enum DrawError {
    /// The drawing is not valid, which is a mistake in this crate.
    #[error("the drawing cannot be rendered: {0}")]
    Render(String),
    /// The picture is too large for memory.
    #[error("a picture of {0}x{1} pixels cannot be made")]
    Size(u32, u32),
}

/// Renders SVG as PNG at its own size.
///
/// # Errors
/// See [`DrawError`].
pub fn to_png(svg: &str) -> Result<Vec<u8>, DrawError> {
    let mut options = usvg::Options { font_family: "DejaVu Sans".into(), ..usvg::Options::default() };
    Arc::make_mut(&mut options.fontdb).load_font_data(FONT.to_vec());
    let tree = usvg::Tree::from_str(svg, &options).map_err(|error| DrawError::Render(error.to_string()))?;
    let size = tree.size().to_int_size();
    let mut pixels = tiny_skia::Pixmap::new(size.width(), size.height())
        .ok_or(DrawError::Size(size.width(), size.height()))?;
    resvg::render(&tree, tiny_skia::Transform::identity(), &mut pixels.as_mut());
    pixels.encode_png().map_err(|error| DrawError::Render(error.to_string()))
}
