//! Tables whose columns line up.

use std::borrow::Cow;
use std::io::{self, Write};

use nimble_curve_core::address::visible;
use unicode_width::UnicodeWidthStr as _;

use crate::terminal::{self, Style};

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
    least: Vec<&'static str>,
}

impl Table {
    pub fn new(heads: &[(&'static str, Align)]) -> Table {
        Table { heads: heads.to_vec(), rows: Vec::new(), least: Vec::new() }
    }

    /// A table without a heading.
    pub fn plain(aligns: &[Align]) -> Table {
        Table {
            heads: aligns.iter().map(|align| ("", *align)).collect(),
            rows: Vec::new(),
            least: Vec::new(),
        }
    }

    pub fn row(&mut self, cells: impl IntoIterator<Item = impl Into<String>>) {
        self.push(cells, None);
    }

    pub fn styled(&mut self, style: Style, cells: impl IntoIterator<Item = impl Into<String>>) {
        self.push(cells, Some(style));
    }

    fn push(&mut self, cells: impl IntoIterator<Item = impl Into<String>>, style: Option<Style>) {
        let shown = |cell: String| match visible(&cell) {
            Cow::Borrowed(_) => cell,
            Cow::Owned(shown) => shown,
        };
        self.rows.push((cells.into_iter().map(|cell| shown(cell.into())).collect(), style));
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

    /// The table with the columns that may be missing where the terminal is too narrow for all, the least telling first.
    pub fn least_telling(mut self, heads: &[&'static str]) -> Table {
        self.least = heads.to_vec();
        self
    }

    /// Writes the table with the last column as sentences, which go on below themselves where the terminal ends.
    pub fn print_wrapped(&self, out: &mut impl Write) -> io::Result<()> {
        let last = self.heads.len() - 1;
        let widths = self.fit(None).widths;
        let indent: usize = 2 + widths[..last].iter().flatten().map(|width| width + 2).sum::<usize>();
        for (cells, _) in &self.rows {
            let before = cells[..last].iter().zip(&widths).map(|(cell, width)| {
                format!("{cell}{}", " ".repeat(width.unwrap_or(0).saturating_sub(cell.width()) + 2))
            });
            let start = format!("  {}", before.collect::<String>());
            let text = cells.get(last).map_or("", String::as_str);
            for line in terminal::wrapped(&start, text, indent) {
                writeln!(out, "{line}")?;
            }
        }
        Ok(())
    }

    /// Writes the table, each line after two spaces, and no wider than the terminal.
    pub fn print(&self, out: &mut impl Write) -> io::Result<()> {
        let Fit { widths, dropped } = self.fit(terminal::width());
        let line = |cells: &[&str]| {
            let mut text = String::from("  ");
            for ((cell, &width), (_, align)) in cells.iter().zip(&widths).zip(&self.heads) {
                let Some(width) = width else { continue };
                let cell = shortened(cell, width);
                let pad = " ".repeat(width - cell.width());
                match align {
                    Align::Left => text.extend([cell.as_str(), pad.as_str(), "  "]),
                    Align::Right => text.extend([pad.as_str(), cell.as_str(), "  "]),
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
        if !dropped.is_empty() {
            let note = format!("  no room for: {} (--wide)", dropped.join(", "));
            writeln!(out, "{}", Style::Faint.paint(&note))?;
        }
        Ok(())
    }

    /// The widths of the columns within a line of some width: first texts give way, the widest first, then columns go.
    fn fit(&self, most: Option<usize>) -> Fit {
        let mut widths: Vec<Option<usize>> = self.heads.iter().map(|(head, _)| Some(head.width())).collect();
        for (cells, _) in &self.rows {
            for (width, cell) in widths.iter_mut().zip(cells) {
                *width = width.map(|width| width.max(cell.width()));
            }
        }
        let mut dropped = Vec::new();
        if !terminal::is_wide() {
            widths.iter_mut().flatten().for_each(|width| *width = (*width).min(LONGEST));
        }
        let Some(most) = most else { return Fit { widths, dropped } };
        let full = widths.clone();
        loop {
            let total: usize = widths.iter().flatten().map(|width| width + 2).sum();
            let over = total.saturating_sub(most);
            if over == 0 {
                return Fit { widths, dropped };
            }
            if let Some(bars) = (0..widths.len()).find(|column| self.is_bars(*column))
                && let Some(width) = widths[bars].filter(|width| *width > FEWEST_BARS)
            {
                widths[bars] = Some(width.saturating_sub(over).max(FEWEST_BARS));
                continue;
            }
            let least = |column: usize| self.heads[column].0.width().max(SHORTEST);
            let texts = (0..widths.len()).filter(|column| self.heads[*column].1 == Align::Left);
            let widest = texts
                .filter_map(|column| Some((column, widths[column]?)))
                .filter(|(column, width)| *width > least(*column))
                .max_by_key(|(_, width)| *width);
            if let Some((column, width)) = widest {
                // Step by step, so that the next one gives way as soon as it is the widest.
                let step = (over / 4).max(1);
                widths[column] = Some((width - step.min(width - least(column))).max(least(column)));
                continue;
            }
            let there = |column: &usize| *column > 0 && widths[*column].is_some();
            let named = self.least.iter().find_map(|head| {
                (0..widths.len()).filter(there).find(|column| self.heads[*column].0 == *head)
            });
            let Some(column) = named.or_else(|| (0..widths.len()).rev().find(there)) else {
                return Fit { widths, dropped };
            };
            widths[column] = None;
            dropped.push(self.heads[column].0);
            // What was cut for its sake may have room again.
            for (own, full) in widths.iter_mut().zip(&full) {
                *own = own.and(*full);
            }
        }
    }
}

impl Table {
    /// Whether a column holds bars.
    fn is_bars(&self, column: usize) -> bool {
        let bars =
            |cell: &String| !cell.is_empty() && cell.chars().all(|sign| terminal::BARS.contains(&sign));
        self.rows.first().is_some_and(|(cells, _)| cells.get(column).is_some_and(bars))
    }
}

/// How a table fits a line.
struct Fit {
    /// The width of each column; none for one that is left out.
    widths: Vec<Option<usize>>,
    /// The heads of those that are left out.
    dropped: Vec<&'static str>,
}

/// Rows of bars are not made shorter than this.
const FEWEST_BARS: usize = 10;

/// Cells are not wider than this, whatever names there are, where they may not be as wide as they like.
const LONGEST: usize = 160;

/// Texts are not made shorter than this.
const SHORTEST: usize = 14;

/// A cell within a width: bars as fewer bars, anything else without its middle, as names begin and end alike seldom.
fn shortened(cell: &str, width: usize) -> String {
    if cell.width() <= width {
        return cell.to_owned();
    }
    let signs: Vec<char> = cell.chars().collect();
    if signs.iter().all(|sign| terminal::BARS.contains(sign)) {
        return (0..width).map(|index| signs[index * signs.len() / width]).collect();
    }
    let ends = width.saturating_sub(1);
    let (head, tail) = (ends / 2, ends - ends / 2);
    let mut text = String::new();
    for sign in &signs {
        if text.width() + unicode_width::UnicodeWidthChar::width(*sign).unwrap_or(0) > head {
            break;
        }
        text.push(*sign);
    }
    let mut end: Vec<char> = Vec::new();
    let mut room = tail;
    for sign in signs.iter().rev() {
        let wide = unicode_width::UnicodeWidthChar::width(*sign).unwrap_or(0);
        if wide > room {
            break;
        }
        room -= wide;
        end.push(*sign);
    }
    text.push('…');
    text.extend(end.into_iter().rev());
    text
}

#[cfg(test)]
mod tests {
    use super::*;

    fn table() -> Table {
        let mut table = Table::new(&[
            ("channel", Align::Left),
            ("keys", Align::Right),
            ("shape", Align::Left),
            ("note", Align::Left),
        ]);
        table.row(["courier:hand_l_end:rotation.x", "1234", "▁▂▃▄▅▆▇█▁▂▃▄▅▆▇█▁▂▃▄▅▆▇█", "stands still"]);
        table.row(["courier:hips:translation", "7", "▁▁▁▁▁▁▁▁▁▁▁▁▁▁▁▁▁▁▁▁▁▁▁▁", ""]);
        table.least_telling(&["note"])
    }

    #[test]
    fn no_line_is_wider_than_it_may_be_and_numbers_stay_whole() {
        for most in [120, 80, 60, 44, 30, 24] {
            let Fit { widths, dropped } = table().fit(Some(most));
            let total: usize = widths.iter().flatten().map(|width| width + 2).sum();
            assert!(total <= most, "{total} for {most}");
            assert!(widths[1].is_none_or(|width| width == 4), "{widths:?}");
            assert_eq!(dropped.is_empty(), most >= 60, "{dropped:?} at {most}");
        }
        assert_eq!(table().fit(Some(44)).dropped, ["note"]);
        assert_eq!(table().fit(None).widths, [Some(29), Some(4), Some(24), Some(12)].map(|width| width));
    }

    #[test]
    fn a_name_without_end_is_cut_and_what_does_not_show_is_shown() {
        let mut table = Table::new(&[("channel", Align::Left), ("keys", Align::Right)]);
        table.row(["x".repeat(100_000), "1".to_owned()]);
        table.row(["a\nb\u{1b}[2J", "2"]);
        let mut out = Vec::new();
        table.print(&mut out).unwrap();
        let text = String::from_utf8(out).unwrap();
        assert!(text.lines().count() == 3 && text.lines().all(|line| line.chars().count() < 260), "{text}");
        assert!(text.contains("a\\nb\\u001b[2J"), "{text}");
    }

    #[test]
    fn names_lose_their_middle_and_bars_some_of_them() {
        assert_eq!(shortened("courier:hand_l_end:rotation.x", 15), "courier…ation.x");
        assert_eq!(shortened("▁▂▃▄▅▆▇█", 4), "▁▃▅▇");
        assert_eq!(shortened("short", 15), "short");
        for width in 1..20 {
            assert!(shortened("nœud漢字の長い名前:rotation", width).width() <= width);
        }
    }
}
