//! Readers and writers of animation files, one module a format, all to and from [`nimble_curve_core::scene::Scene`].

pub mod bvh;
pub mod collada;
pub mod companion;
mod encoded;
mod ends;
pub mod error;
mod files;
pub mod gltf;
mod grid;
pub mod name_map;
pub mod ncurve;
pub mod profile;
pub mod said;
pub mod sheet;
mod steps;
pub mod table;
pub mod usd;

pub use encoded::{Encoded, ReadBack};
pub use error::FormatError;
pub use files::{
    Assume, ENDINGS, Format, Loaded, Saving, encode, encoded, files_beside, output_format, read, read_bytes,
    write, write_bytes, write_bytes_by, write_encoded,
};
