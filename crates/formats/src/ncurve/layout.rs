//! Lays JSON out for people: what fits on a line stands on one, longer things are broken one element a line.

/// The length that a line tries not to exceed.
const WIDTH: usize = 116;

/// Lays out compact JSON, as it comes from the serializer.
pub fn lay_out(compact: &str) -> String {
    let bytes = compact.as_bytes();
    let ends = Ends::of(bytes);
    let mut out = String::with_capacity(compact.len() * 5 / 4);
    let mut writer = Writer { text: compact, bytes, ends: &ends, out: &mut out };
    writer.value(0, 0, 0);
    out.push('\n');
    out
}

/// For each opening bracket: where it closes, and whether it holds numbers alone.
struct Ends {
    close: Vec<(u32, u32)>,
}

impl Ends {
    fn of(bytes: &[u8]) -> Ends {
        let mut close = Vec::new();
        let mut open: Vec<usize> = Vec::new();
        let mut position = 0;
        while position < bytes.len() {
            match bytes[position] {
                b'"' => position = end_of_string(bytes, position) - 1,
                b'[' | b'{' => {
                    open.push(close.len());
                    close.push((position as u32, 0));
                }
                b']' | b'}' => {
                    if let Some(index) = open.pop() {
                        close[index].1 = position as u32;
                    }
                }
                _ => {}
            }
            position += 1;
        }
        Ends { close }
    }

    fn close_of(&self, open: usize) -> usize {
        let found = self.close.binary_search_by_key(&(open as u32), |&(open, _)| open);
        found.map_or(open, |index| self.close[index].1 as usize)
    }
}

/// Just behind the string that starts at `start`.
fn end_of_string(bytes: &[u8], start: usize) -> usize {
    let mut position = start + 1;
    while bytes[position] != b'"' {
        position += if bytes[position] == b'\\' { 2 } else { 1 };
    }
    position + 1
}

struct Writer<'a> {
    text: &'a str,
    bytes: &'a [u8],
    ends: &'a Ends,
    out: &'a mut String,
}

impl Writer<'_> {
    /// Writes the value at `start` and returns where it ends; `used` is how much of its line stands before it.
    fn value(&mut self, start: usize, indent: usize, used: usize) -> usize {
        let open = self.bytes[start];
        if open != b'{' && open != b'[' {
            let end = self.end_of_scalar(start);
            self.out.push_str(&self.text[start..end]);
            return end;
        }
        let close = self.ends.close_of(start);
        // Spaces after commas and colons make it about a seventh longer.
        if used + (close - start) * 8 / 7 <= WIDTH {
            self.in_line(start, close);
            return close + 1;
        }
        self.out.push(char::from(open));
        let scalars = open == b'[' && !matches!(self.bytes[start + 1], b'[' | b'{' | b'"');
        let mut position = start + 1;
        let mut column = WIDTH;
        while position < close {
            let end = if scalars { self.end_of_scalar(position) } else { 0 };
            if scalars && column + (end - position) + 2 < WIDTH {
                self.out.push(' ');
                column += end - position + 2;
            } else {
                self.line(indent + 1);
                column = indent + 2 + end.saturating_sub(position);
            }
            let mut used = indent + 1;
            if open == b'{' {
                let key = end_of_string(self.bytes, position);
                self.out.push_str(&self.text[position..key]);
                self.out.push_str(": ");
                used += key - position + 2;
                position = key + 1;
            }
            position = self.value(position, indent + 1, used);
            if self.bytes[position] == b',' {
                self.out.push(',');
                position += 1;
            }
        }
        self.line(indent);
        self.out.push(char::from(self.bytes[close]));
        close + 1
    }

    /// Writes a bracketed value on the current line.
    fn in_line(&mut self, start: usize, close: usize) {
        let mut position = start;
        while position <= close {
            match self.bytes[position] {
                b'"' => {
                    let end = end_of_string(self.bytes, position);
                    self.out.push_str(&self.text[position..end]);
                    position = end;
                    continue;
                }
                b',' => self.out.push_str(", "),
                b':' => self.out.push_str(": "),
                byte => self.out.push(char::from(byte)),
            }
            position += 1;
        }
    }

    fn end_of_scalar(&self, start: usize) -> usize {
        if self.bytes[start] == b'"' {
            return end_of_string(self.bytes, start);
        }
        let length = self.bytes[start..].iter().position(|b| matches!(b, b',' | b']' | b'}'));
        length.map_or(self.bytes.len(), |length| start + length)
    }

    fn line(&mut self, indent: usize) {
        self.out.push('\n');
        self.out.extend(std::iter::repeat_n(' ', indent));
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn layout_changes_nothing_but_white_space() {
        let value = serde_json::json!({
            "short": [1, 2, {"a": "b, c: [\"d\"] \\"}],
            "empty": [], "none": {}, "word": "x".repeat(200),
            "numbers": (0..200).map(f64::from).collect::<Vec<_>>(),
            "keys": (0..40).map(|i| serde_json::json!({"frame": i, "value": 1.5})).collect::<Vec<_>>(),
            "deep": [[[[["x".repeat(120)]]]]],
        });
        let laid_out = lay_out(&value.to_string());
        assert_eq!(serde_json::from_str::<serde_json::Value>(&laid_out).unwrap(), value);
        assert!(laid_out.contains("\n  {\"frame\": 7, \"value\": 1.5},\n"), "{laid_out}");
        assert!(laid_out.lines().all(|line| line.len() <= WIDTH + 130));
        for text in ["1", "\"a\"", "[]", "{}"] {
            assert_eq!(lay_out(text), format!("{text}\n"));
        }
    }
}
