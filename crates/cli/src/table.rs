//! Tables whose columns line up.

use std::io::{self, Write};

use unicode_width::UnicodeWidthStr as _;

use crate::terminal::Style;

/// On which side a column's entries line up.
#[derive(Clone, Copy, PartialEq, Eq)]
pub enum Align {
    Left,
    Right,
}

/// Rows below a heading.
pub struct Table {
    heads: Vec<(&'static str, Align)>,
    rows: Vec<(Vec<String>, Option<Style>)>,
}

impl Table {
    pub fn new(heads: &[(&'static str, Align)]) -> Table {
        Table { heads: heads.to_vec(), rows: Vec::new() }
    }

    /// A table without a heading.
    pub fn plain(aligns: &[Align]) -> Table {
        Table { heads: aligns.iter().map(|align| ("", *align)).collect(), rows: Vec::new() }
    }

    pub fn row(&mut self, cells: impl IntoIterator<Item = impl Into<String>>) {
        self.rows.push((cells.into_iter().map(Into::into).collect(), None));
    }

    pub fn styled(&mut self, style: Style, cells: impl IntoIterator<Item = impl Into<String>>) {
        self.rows.push((cells.into_iter().map(Into::into).collect(), Some(style)));
    }

    /// The table without the columns in which every cell is empty.
    pub fn without_empty_columns(mut self) -> Table {
        let filled: Vec<bool> = (0..self.heads.len())
            .map(|column| self.rows.iter().any(|(cells, _)| cells.get(column).is_some_and(|c| !c.is_empty())))
            .collect();
        let mut keep = filled.iter();
        self.heads.retain(|_| *keep.next().unwrap_or(&true));
        for (cells, _) in &mut self.rows {
            let mut keep = filled.iter();
            cells.retain(|_| *keep.next().unwrap_or(&true));
        }
        self
    }

    /// Writes the table, each line after two spaces.
    pub fn print(&self, out: &mut impl Write) -> io::Result<()> {
        let mut widths: Vec<usize> = self.heads.iter().map(|(head, _)| head.width()).collect();
        for (cells, _) in &self.rows {
            for (width, cell) in widths.iter_mut().zip(cells) {
                *width = (*width).max(cell.width());
            }
        }
        let line = |cells: &[&str]| {
            let mut text = String::from("  ");
            for ((cell, &width), (_, align)) in cells.iter().zip(&widths).zip(&self.heads) {
                let pad = " ".repeat(width - cell.width());
                match align {
                    Align::Left => text.extend([*cell, pad.as_str(), "  "]),
                    Align::Right => text.extend([pad.as_str(), *cell, "  "]),
                }
            }
            text.truncate(text.trim_end().len());
            text
        };
        let heads: Vec<&str> = self.heads.iter().map(|(head, _)| *head).collect();
        if heads.iter().any(|head| !head.is_empty()) {
            writeln!(out, "{}", Style::Faint.paint(&line(&heads)))?;
        }
        for (cells, style) in &self.rows {
            let text = line(&cells.iter().map(String::as_str).collect::<Vec<_>>());
            match style {
                Some(style) => writeln!(out, "{}", style.paint(&text))?,
                None => writeln!(out, "{text}")?,
            }
        }
        Ok(())
    }
}
