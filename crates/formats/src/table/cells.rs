//! The cells of a table, and what stands between them.

use crate::error::Fault;

/// A row of a table, and the line that it starts on.
pub struct Row {
    pub line: usize,
    pub record: csv::StringRecord,
}

/// The line that starts with `#`, where there is one, and the rest.
pub fn without_head(text: &str) -> (&str, &str) {
    match text.starts_with('#') {
        true => text.split_at(text.find('\n').map_or(text.len(), |end| end + 1)),
        false => ("", text),
    }
}

/// What stands between the cells of a table, by its row of names.
pub fn delimiter(text: &str) -> u8 {
    let names = text.lines().next().unwrap_or_default();
    let count = |sign: u8| names.bytes().filter(|byte| *byte == sign).count();
    // Of as many the first.
    [b',', b';', b'\t'].into_iter().rev().max_by_key(|sign| count(*sign)).unwrap_or(b',')
}

/// How cells are read.
#[derive(Clone, Copy, Debug)]
pub struct Cells {
    /// Whether a comma may stand before decimals, as where it is not what stands between cells.
    pub has_commas: bool,
}

impl Cells {
    /// The number in a cell, if it is one.
    pub fn parsed(self, cell: &str) -> Option<f64> {
        let number = match cell.parse::<f64>() {
            Ok(number) => number,
            Err(_) if self.has_commas && cell.matches(',').count() == 1 => {
                cell.replacen(',', ".", 1).parse().ok()?
            }
            Err(_) => return None,
        };
        number.is_finite().then_some(number)
    }

    /// The number in a cell of a line.
    pub fn number(self, cell: &str, line: usize) -> Result<f64, Fault> {
        self.parsed(cell).ok_or_else(|| {
            let shown: String = cell.chars().take(24).collect();
            Fault::on_line(line, format!("'{shown}' is not a finite number"))
        })
    }
}
