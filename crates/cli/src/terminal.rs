//! Colour and streams: colour only where a terminal shows it, results and messages kept apart.

use std::hash::{BuildHasher as _, RandomState};
use std::io::{self, IsTerminal as _, Write};
use std::sync::LazyLock;

use anstyle::{AnsiColor, Style as Ansi};
use nimble_curve_core::address::visible;

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

/// What stands for the escape of a style until it is written: names may hold escapes of their own, which are not to act, and
/// no file can know what stands for ours.
static MARK: LazyLock<String> =
    LazyLock::new(|| format!("\u{f4a7}{:016x}", RandomState::new().hash_one(std::process::id())));

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
        let [start, end] =
            [format!("{style}"), format!("{style:#}")].map(|said| said.replace('\u{1b}', &MARK));
        format!("{start}{text}{end}")
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
        // Pieces are whole texts: those of a format, and what is filled in. Only the former begin lines.
        let text = std::str::from_utf8(bytes).map(|text| {
            let inside = text.trim_end_matches('\n');
            match inside.trim_matches([' ', '\n']).is_empty() {
                true => text.to_owned(),
                false => safe(inside) + &text[inside.len()..],
            }
        });
        let safe = text.as_ref().map_or(bytes, |text| text.as_bytes());
        match self {
            Report::Out(stream) => stream.write_all(safe)?,
            Report::Err(stream) => stream.write_all(safe)?,
        }
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        match self {
            Report::Out(stream) => stream.flush(),
            Report::Err(stream) => stream.flush(),
        }
    }
}

/// A text as it may go to a terminal, on one line: what does not show, such as escapes in names, is made visible, marks of
/// styles act.
pub fn safe(text: &str) -> String {
    visible(text).replace(&**MARK, "\u{1b}")
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

/// Whether tables may be as wide as their contents.
pub fn is_wide() -> bool {
    WIDE.load(std::sync::atomic::Ordering::Relaxed)
}

/// How wide a table may be: as wide as the terminal; as it likes where there is none.
pub fn width() -> Option<usize> {
    if is_wide() || !is_read_by_a_person() {
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
    say(Style::Bad.paint("error:"), sentence);
}

/// One line of remark on standard error.
pub fn remark(sentence: &str) {
    say(Style::Warn.paint("note:"), sentence);
}

/// One line on standard error.
pub fn tell(sentence: &str) {
    // There is nobody to tell that nobody can be told.
    let _ = writeln!(anstream::stderr(), "{}", safe(sentence));
}

fn say(head: String, sentence: &str) {
    tell(&format!("{head} {sentence}"));
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nothing_in_a_name_steers_a_terminal_and_styles_do() {
        let name = "ca\u{1b}[31mrt\u{7}\n\u{202e}\u{9b}2J\u{f4a7}[1m";
        let shown = safe(name);
        assert_eq!(shown, "ca\\u001b[31mrt\\u0007\\n\\u202e\\u009b2J\u{f4a7}[1m");
        assert_eq!(safe(&Style::Bad.paint("error:")), "\u{1b}[1m\u{1b}[31merror:\u{1b}[0m");
    }

    #[test]
    fn bars_follow_the_values() {
        assert_eq!(spark(&[0.0, 1.0, 0.5, -1.0]), "▅█▆▁");
        assert_eq!(spark(&[2.0, 2.0]), "▁▁");
        assert_eq!(spark(&[]), "");
    }
}
