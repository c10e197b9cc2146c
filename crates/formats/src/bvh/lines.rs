//! The lines of a file's first part.

use crate::error::Fault;

/// The lines of the first part of a file, trimmed, with their numbers.
pub struct Lines<'a> {
    pub bytes: &'a [u8],
    /// Just behind the last line that was read.
    pub at: usize,
    /// Number of the last line that was read, from 1.
    pub number: usize,
    /// What is not as it should be, but plainly meant; each once.
    pub mended: Vec<String>,
}

impl<'a> Lines<'a> {
    /// The next line that is not blank; `None` at the end.
    pub fn next_line(&mut self) -> Result<Option<&'a str>, Fault> {
        while self.at < self.bytes.len() {
            let rest = &self.bytes[self.at..];
            let length = rest.iter().position(|&byte| byte == b'\n').unwrap_or(rest.len());
            self.at += (length + 1).min(rest.len());
            self.number += 1;
            let line =
                std::str::from_utf8(&rest[..length]).map_err(|_| self.fault("this is not text"))?.trim();
            if !line.is_empty() {
                return Ok(Some(line));
            }
        }
        Ok(None)
    }

    /// What follows a label and a colon on the next line; spaces in it do not matter.
    pub fn labelled(&mut self, label: &str) -> Result<&'a str, Fault> {
        let line = self.next_line()?.ok_or_else(|| self.fault(format!("the file ends before '{label}:'")))?;
        let letters = |text: &str| text.split_whitespace().collect::<String>().to_ascii_lowercase();
        match line.split_once(':') {
            Some((start, rest)) if letters(start) == letters(label) => Ok(rest.trim()),
            _ => Err(self.fault(format!("expected '{label}:' here"))),
        }
    }

    /// Notes what is not as it should be, but plainly meant; of many alike the first.
    pub fn mend(&mut self, what: &'static str) {
        if !self.mended.iter().any(|known| known.ends_with(what)) {
            self.mended.push(format!("line {}: {what}", self.number.max(1)));
        }
    }

    /// A fault on the current line.
    pub fn fault(&self, message: impl Into<String>) -> Fault {
        Fault::on_line(self.number.max(1), message)
    }
}
