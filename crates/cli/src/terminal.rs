//! Colour and streams: colour only where a terminal shows it, results and messages kept apart.

use std::io::{self, IsTerminal as _, Write};

use anstyle::{AnsiColor, Style as Ansi};

/// The few ways in which text stands out.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Style {
    Plain,
    Strong,
    Faint,
    Good,
    Warn,
    Bad,
}

impl Style {
    /// The text with its style's marks; the streams below drop them where they would not show.
    pub fn paint(self, text: &str) -> String {
        let style = match self {
            Style::Plain => Ansi::new(),
            Style::Strong => Ansi::new().bold(),
            Style::Faint => Ansi::new().dimmed(),
            Style::Good => Ansi::new().fg_color(Some(AnsiColor::Green.into())),
            Style::Warn => Ansi::new().fg_color(Some(AnsiColor::Yellow.into())),
            Style::Bad => Ansi::new().fg_color(Some(AnsiColor::Red.into())).bold(),
        };
        format!("{style}{text}{style:#}")
    }
}

/// A line of a report, and how it is shown.
pub type Line = (Style, String);

/// Where a command's report goes: standard output, or standard error where that carries a file.
pub enum Report {
    Out(anstream::AutoStream<io::Stdout>),
    Err(anstream::AutoStream<io::Stderr>),
}

impl Report {
    /// The stream for a report beside an output file.
    pub fn beside(output: &std::path::Path) -> Report {
        if output == std::path::Path::new("-") { Report::Err(anstream::stderr()) } else { Report::out() }
    }

    pub fn out() -> Report {
        Report::Out(anstream::stdout())
    }
}

impl Write for Report {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        match self {
            Report::Out(stream) => stream.write(bytes),
            Report::Err(stream) => stream.write(bytes),
        }
    }

    fn flush(&mut self) -> io::Result<()> {
        match self {
            Report::Out(stream) => stream.flush(),
            Report::Err(stream) => stream.flush(),
        }
    }
}

/// Whether a person reads standard output.
pub fn is_read_by_a_person() -> bool {
    io::stdout().is_terminal()
}

/// Whether tables may be wider than the terminal.
static WIDE: std::sync::atomic::AtomicBool = std::sync::atomic::AtomicBool::new(false);

/// Lets tables be as wide as their contents from now on.
pub fn be_wide() {
    WIDE.store(true, std::sync::atomic::Ordering::Relaxed);
}

/// How wide a table may be: as wide as the terminal; as it likes where there is none.
pub fn width() -> Option<usize> {
    if WIDE.load(std::sync::atomic::Ordering::Relaxed) || !is_read_by_a_person() {
        return None;
    }
    terminal_size::terminal_size().map(|(terminal_size::Width(columns), _)| usize::from(columns))
}

/// A text behind a start, in lines no wider than the terminal; those after the first begin after `indent` spaces.
pub fn wrapped(start: &str, text: &str, indent: usize) -> Vec<String> {
    use unicode_width::UnicodeWidthStr as _;
    let most = width().unwrap_or(usize::MAX);
    // Where there is hardly any room beside, the text goes on below.
    let indent = if indent + 20 > most { 8 } else { indent };
    let mut lines = vec![start.to_owned()];
    let mut is_empty = true;
    for word in text.split(' ') {
        let line = lines.last_mut().expect("there is a first line");
        if !is_empty && line.width() + 1 + word.width() > most {
            lines.push(format!("{}{word}", " ".repeat(indent)));
            continue;
        }
        if !is_empty {
            line.push(' ');
        }
        line.push_str(word);
        is_empty = false;
    }
    lines
}

/// The bars of [`spark`].
pub const BARS: [char; 8] = ['▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];

/// Values as a row of bars, from the lowest to the highest.
pub fn spark(values: &[f64]) -> String {
    let (low, high) =
        values.iter().fold((f64::INFINITY, f64::NEG_INFINITY), |(low, high), v| (low.min(*v), high.max(*v)));
    let bar = |value: &f64| BARS[(((value - low) / (high - low).max(1e-300) * 7.0).round() as usize).min(7)];
    values.iter().map(bar).collect()
}

/// One line of error on standard error.
pub fn complain(sentence: &str) {
    let _ = writeln!(anstream::stderr(), "{} {sentence}", Style::Bad.paint("error:"));
}

/// One line of remark on standard error.
pub fn remark(sentence: &str) {
    let _ = writeln!(anstream::stderr(), "{} {sentence}", Style::Warn.paint("note:"));
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn bars_follow_the_values() {
        assert_eq!(spark(&[0.0, 1.0, 0.5, -1.0]), "▅█▆▁");
        assert_eq!(spark(&[2.0, 2.0]), "▁▁");
        assert_eq!(spark(&[]), "");
    }
}
