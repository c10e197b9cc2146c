//! The formats, by their endings and first bytes, and what is taken for granted where one does not say.

use std::path::Path;

use nimble_curve_core::space::UpAxis;
use nimble_curve_core::time::FrameRate;

/// The first bytes of a binary glTF.
pub(crate) const GLB_MAGIC: &[u8; 4] = b"glTF";

/// The first bytes of a layer as text.
const USDA_MAGIC: &[u8] = b"#usda";

/// The first bytes of a binary layer.
pub(crate) const USDC_MAGIC: &[u8] = b"PXR-USDC";

/// The first bytes of a package.
pub(crate) const USDZ_MAGIC: &[u8] = b"PK\x03\x04";

/// The formats that are read and written.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Format {
    /// Our own, `.ncurve`.
    Ncurve,
    /// `.bvh`.
    Bvh,
    /// glTF 2.0 as text, `.gltf`.
    Gltf,
    /// glTF 2.0 as a binary container, `.glb`.
    Glb,
    /// COLLADA, `.dae`.
    Collada,
    /// USD as text, `.usda`.
    Usda,
    /// USD as binary, `.usdc` (and `.usd`).
    Usdc,
    /// USD as a package, `.usdz`.
    Usdz,
    /// A table of keys or samples, `.csv`.
    Csv,
}

/// The endings of all formats, for messages.
pub const ENDINGS: &str = ".ncurve, .glb, .gltf, .dae, .usda, .usdc, .usdz, .bvh, .csv";

impl Format {
    /// Whether it is one of USD's.
    pub fn is_usd(self) -> bool {
        matches!(self, Format::Usda | Format::Usdc | Format::Usdz)
    }

    /// The format that a file's ending names.
    pub fn of_path(path: &Path) -> Option<Format> {
        match path.extension()?.to_str()?.to_ascii_lowercase().as_str() {
            "ncurve" => Some(Format::Ncurve),
            "bvh" => Some(Format::Bvh),
            "gltf" => Some(Format::Gltf),
            "glb" => Some(Format::Glb),
            "dae" => Some(Format::Collada),
            "usda" => Some(Format::Usda),
            "usdc" | "usd" => Some(Format::Usdc),
            "usdz" => Some(Format::Usdz),
            "csv" => Some(Format::Csv),
            _ => None,
        }
    }

    /// The format that a file's first bytes show.
    pub fn of_content(bytes: &[u8]) -> Option<Format> {
        let bytes = bytes.strip_prefix(b"\xef\xbb\xbf").unwrap_or(bytes).trim_ascii_start();
        if bytes.starts_with(GLB_MAGIC) {
            Some(Format::Glb)
        } else if bytes.starts_with(b"# rate=") {
            Some(Format::Csv)
        } else if bytes.starts_with(USDA_MAGIC) {
            Some(Format::Usda)
        } else if bytes.starts_with(USDC_MAGIC) {
            Some(Format::Usdc)
        } else if bytes.starts_with(USDZ_MAGIC) {
            Some(Format::Usdz)
        } else if bytes.starts_with(b"{") {
            // Ours says so at its start; the other says "asset" somewhere.
            let head = &bytes[..bytes.len().min(200)];
            let says = |text: &[u8], word: &[u8]| text.windows(word.len()).any(|at| at == word);
            let is_gltf = !says(head, b"\"ncurve\"") && says(bytes, b"\"asset\"");
            Some(if is_gltf { Format::Gltf } else { Format::Ncurve })
        } else if bytes.starts_with(b"<") {
            // Other XML is not read; that it is none of ours is said by its first element.
            bytes.windows(8).any(|at| at == b"<COLLADA").then_some(Format::Collada)
        } else if bytes.len() >= 9 && bytes[..9].eq_ignore_ascii_case(b"hierarchy") {
            Some(Format::Bvh)
        } else {
            None
        }
    }

    /// The format's name for people.
    pub fn name(self) -> &'static str {
        match self {
            Format::Ncurve => "ncurve",
            Format::Bvh => "BVH",
            Format::Gltf | Format::Glb => "glTF",
            Format::Collada => "COLLADA",
            Format::Usda | Format::Usdc | Format::Usdz => "USD",
            Format::Csv => "CSV",
        }
    }
}

/// What a reader takes for granted where the format does not say.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Assume {
    /// Metres in one unit.
    pub metres_per_unit: Option<f64>,
    /// The up axis.
    pub up: Option<UpAxis>,
    /// Frames per second.
    pub rate: Option<FrameRate>,
    /// Follow files that lie outside the folder of a file, too: layers of USD, buffers of glTF.
    pub files_anywhere: bool,
    /// Read what the format says by itself, as other programs do, whatever extra data of ours is in it.
    pub without_extra: bool,
}
