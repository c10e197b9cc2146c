//! Colour and streams: colour only where a terminal shows it, results and messages kept apart.

use std::io::{self, Write};

use anstyle::{AnsiColor, Style as Ansi};

/// The few ways in which text stands out.
#[derive(Clone, Copy, PartialEq, Eq)]
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

/// One line of error on standard error.
pub fn complain(sentence: &str) {
    let _ = writeln!(anstream::stderr(), "{} {sentence}", Style::Bad.paint("error:"));
}

/// One line of remark on standard error.
pub fn remark(sentence: &str) {
    let _ = writeln!(anstream::stderr(), "{} {sentence}", Style::Warn.paint("note:"));
}
