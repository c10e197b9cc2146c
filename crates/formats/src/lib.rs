//! Readers and writers of animation files, one module a format, all to and from [`nimble_curve_core::scene::Scene`].

mod apart;
pub mod bvh;
pub mod collada;
mod encoded;
mod ends;
pub mod error;
pub mod extra_data;
mod files;
mod format;
pub mod gltf;
mod grid;
pub mod name_map;
pub mod ncurve;
pub mod profile;
mod read_back;
pub mod rig_sheet;
pub mod said;
pub mod sheet;
mod steps;
pub mod table;
mod take_names;
mod text;
pub mod usd;
mod writing;

pub use encoded::Encoded;
pub use error::{FormatError, reason};
pub use files::{
    Loaded, Saving, encode, encoded, files_beside, output_format, read, read_bytes, read_table, write,
    write_encoded,
};
pub use format::{Assume, ENDINGS, Format};
pub use read_back::ReadBack;
pub use writing::{
    is_running, machine, mark, take_away_left_overs, try_writing, write_bytes, write_bytes_only,
};
