//! Colour and streams: colour only where a terminal shows it, results and messages kept apart.

use std::io::{self, IsTerminal as _, Write};

use anstyle::{AnsiColor, Style as Ansi};

/// The few ways in which text stands out.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Style {
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
            Style::Strong => Ansi::new().bold(),
            Style::Faint => Ansi::new().dimmed(),
            Style::Good => Ansi::new().fg_color(Some(AnsiColor::Green.into())),
            Style::Warn => Ansi::new().fg_color(Some(AnsiColor::Yellow.into())),
            Style::Bad => Ansi::new().fg_color(Some(AnsiColor::Red.into())).bold(),
        };
        format!("{style}{text}{style:#}")
    }
}

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

/// Values as a row of bars, from the lowest to the highest.
pub fn spark(values: &[f64]) -> String {
    const BARS: [char; 8] = ['▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];
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
