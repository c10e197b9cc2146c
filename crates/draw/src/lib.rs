//! Pictures of animation, from core types to SVG and PNG.

mod axes;
pub mod curves;
mod image;
pub mod keys;
pub mod path;
pub mod poses;
mod svg;

pub use image::{DrawError, to_png};

/// Colours that colour-blind people can tell apart (Okabe and Ito, 2008), in the order in which they are used.
pub const COLOURS: [&str; 6] = ["#0072B2", "#D55E00", "#009E73", "#CC79A7", "#E69F00", "#56B4E9"];

/// The size of a picture in pixels.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Size {
    /// Width.
    pub width: f64,
    /// Height.
    pub height: f64,
}

impl Default for Size {
    /// 1280 by 800.
    fn default() -> Size {
        Size { width: 1280.0, height: 800.0 }
    }
}
