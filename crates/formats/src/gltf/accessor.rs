//! Numbers out of accessors: strides, normalised integers, sparse replacements, every bound checked.

use std::borrow::Cow;
use std::cell::{Cell, OnceCell};

use super::container::{self, Folder};
use super::document::{Accessor, Document, SparsePart};
use crate::error::Fault;

/// An accessor without bytes of its own may be this long: it costs a file nothing.
const MOST_ZEROS: usize = 1 << 20;

/// All numbers of a file.
pub struct Numbers<'a> {
    document: &'a Document,
    binary: Option<&'a [u8]>,
    folder: Folder<'a>,
    /// Buffers are read when they are first asked for: those of meshes and pictures never are.
    buffers: Vec<OnceCell<Result<Cow<'a, [u8]>, String>>>,
    /// How many numbers may still be asked for, so that a small file cannot ask for many.
    budget: Cell<usize>,
}

impl<'a> Numbers<'a> {
    pub fn new(document: &'a Document, binary: Option<&'a [u8]>, folder: Folder<'a>) -> Numbers<'a> {
        let buffers = document.buffers.iter().map(|_| OnceCell::new()).collect();
        Numbers { document, binary, folder, buffers, budget: Cell::new(4 * MOST_ZEROS) }
    }

    fn buffer(&self, index: usize) -> Result<&[u8], Fault> {
        let fault = |message: String| Fault::in_part(format!("buffer {index}"), message);
        let (Some(cell), Some(buffer)) = (self.buffers.get(index), self.document.buffers.get(index)) else {
            return Err(fault("there is no such buffer".into()));
        };
        let loaded = cell.get_or_init(|| {
            let bytes = container::buffer(
                (buffer.uri.as_deref(), buffer.byte_length),
                self.binary,
                index,
                self.folder,
            )?;
            if bytes.len() < buffer.byte_length {
                return Err(format!(
                    "has {} bytes, but says {}: it is cut off",
                    bytes.len(),
                    buffer.byte_length
                ));
            }
            self.budget.set(self.budget.get() + 4 * bytes.len());
            Ok(bytes)
        });
        match loaded {
            Ok(bytes) => Ok(bytes),
            Err(message) => Err(fault(message.clone())),
        }
    }

    /// The bytes of a view from an offset on, and the view's stride.
    fn view(&self, index: usize, offset: usize) -> Result<(&[u8], Option<usize>), Fault> {
        let fault = |message: &str| Fault::in_part(format!("buffer view {index}"), message);
        let view = self.document.buffer_views.get(index).ok_or_else(|| fault("there is no such view"))?;
        let bytes = self.buffer(view.buffer)?;
        let end = view.byte_offset.checked_add(view.byte_length).filter(|end| *end <= bytes.len());
        let end = end.ok_or_else(|| fault("reaches beyond its buffer"))?;
        let start = view.byte_offset.checked_add(offset).filter(|start| *start <= end);
        let start = start.ok_or_else(|| fault("an accessor starts beyond its end"))?;
        Ok((&bytes[start..end], view.byte_stride))
    }

    /// How many elements an accessor has and how many numbers each.
    pub fn shape(&self, index: usize) -> Result<(usize, usize), Fault> {
        let accessor = self.accessor(index)?;
        Ok((accessor.count, width(index, accessor)?))
    }

    fn accessor(&self, index: usize) -> Result<&Accessor, Fault> {
        let found = self.document.accessors.get(index);
        found.ok_or_else(|| Fault::in_part(format!("accessor {index}"), "there is no such accessor"))
    }

    /// All numbers of an accessor, element after element.
    pub fn read(&self, index: usize) -> Result<Vec<f64>, Fault> {
        let accessor = self.accessor(index)?;
        let fault = |message: &str| Fault::in_part(format!("accessor {index}"), message);
        let width = width(index, accessor)?;
        let total = accessor.count.checked_mul(width).ok_or_else(|| fault("its count is too large"))?;
        let mut values = match accessor.buffer_view {
            Some(view) => {
                let (bytes, stride) = self.view(view, accessor.byte_offset)?;
                self.spend(total).ok_or_else(|| fault("its count is larger than the file"))?;
                elements(bytes, stride, accessor.component_type, accessor.normalized, accessor.count, width)
                    .map_err(fault)?
            }
            None if total > MOST_ZEROS => return Err(fault("has no buffer view, but a huge count")),
            None => vec![0.0; total],
        };
        if let Some(sparse) = &accessor.sparse {
            if sparse.count > accessor.count {
                return Err(fault("has more sparse values than elements"));
            }
            let part = |part: &SparsePart, kind: u32, normalized: bool, width: usize| {
                let (bytes, _) = self.view(part.buffer_view, part.byte_offset)?;
                elements(bytes, None, kind, normalized, sparse.count, width).map_err(fault)
            };
            let places = part(&sparse.indices, sparse.indices.component_type, false, 1)?;
            let new = part(&sparse.values, accessor.component_type, accessor.normalized, width)?;
            for (place, new) in places.iter().zip(new.chunks_exact(width)) {
                let start = *place as usize * width;
                let old = values.get_mut(start..start + width);
                old.ok_or_else(|| fault("a sparse index is out of range"))?.copy_from_slice(new);
            }
        }
        match values.iter().all(|value| value.is_finite()) {
            true => Ok(values),
            false => Err(fault("holds a number that is not finite")),
        }
    }

    fn spend(&self, count: usize) -> Option<()> {
        self.budget.set(self.budget.get().checked_sub(count)?);
        Some(())
    }
}

fn width(index: usize, accessor: &Accessor) -> Result<usize, Fault> {
    Ok(match accessor.shape.as_str() {
        "SCALAR" => 1,
        "VEC2" => 2,
        "VEC3" => 3,
        "VEC4" | "MAT2" => 4,
        "MAT3" => 9,
        "MAT4" => 16,
        other => {
            let shown: String = other.chars().take(24).collect();
            return Err(Fault::in_part(
                format!("accessor {index}"),
                format!("'{shown}' is not a type of accessor"),
            ));
        }
    })
}

fn elements(
    bytes: &[u8],
    stride: Option<usize>,
    kind: u32,
    normalized: bool,
    count: usize,
    width: usize,
) -> Result<Vec<f64>, &'static str> {
    let (size, of): (usize, fn(&[u8]) -> f64) = match (kind, normalized) {
        (5120, false) => (1, |b| f64::from(b[0] as i8)),
        (5120, true) => (1, |b| (f64::from(b[0] as i8) / 127.0).max(-1.0)),
        (5121, false) => (1, |b| f64::from(b[0])),
        (5121, true) => (1, |b| f64::from(b[0]) / 255.0),
        (5122, false) => (2, |b| f64::from(i16::from_le_bytes([b[0], b[1]]))),
        (5122, true) => (2, |b| (f64::from(i16::from_le_bytes([b[0], b[1]])) / 32767.0).max(-1.0)),
        (5123, false) => (2, |b| f64::from(u16::from_le_bytes([b[0], b[1]]))),
        (5123, true) => (2, |b| f64::from(u16::from_le_bytes([b[0], b[1]])) / 65535.0),
        (5125, _) => (4, |b| f64::from(u32::from_le_bytes([b[0], b[1], b[2], b[3]]))),
        (5126, _) => (4, |b| f64::from(f32::from_le_bytes([b[0], b[1], b[2], b[3]]))),
        _ => return Err("has an unknown component type"),
    };
    let element = size * width;
    let stride = stride.unwrap_or(element).max(1);
    let needed =
        count.checked_sub(1).map_or(Some(0), |before| before.checked_mul(stride)?.checked_add(element));
    if needed.is_none_or(|needed| needed > bytes.len()) {
        return Err("reaches beyond its buffer view");
    }
    let mut values = Vec::with_capacity(count * width);
    for index in 0..count {
        let at = &bytes[index * stride..index * stride + element];
        values.extend(at.chunks_exact(size).map(of));
    }
    Ok(values)
}
