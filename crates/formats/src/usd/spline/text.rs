//! Splines in the text form: cut out of the text before the rest is parsed, each with its knots.
//!
//! A knot is `time: value; pre (width, slope); post curve (width, slope)`, with `left & value` where it has two values. A
//! word behind a slope is the rule that set the tangent.

use nimble_curve_core::curve::{Behaviour, Curve, Interpolation, Tangent, Ticks};
use nimble_curve_core::time::FrameRate;
use nimble_curve_core::validate::is_usable;

use super::{CLOCK, Knot, MARK, Outside, Spline};
use crate::error::Fault;

/// The deepest nesting of braces, brackets and parentheses that is read: the parser behind this calls itself.
const MAX_DEPTH: usize = 256;
/// The rules that may set a tangent (*OpenUSD*, `TsTangentAlgorithm`), in layers of version 1.1.
const RULES: [&str; 2] = ["autoEase", "custom"];
/// How texts begin that hold rules, and what is the same without them.
const WITH_RULES: &str = "#usda 1.1";
const WITHOUT_RULES: &str = "#usda 1.0";

/// A text without splines, and the splines.
pub struct Cut {
    /// The text: where a spline stood there is an attribute `NAME:nimbleCurveSpline` that holds its number.
    pub text: String,
    /// The splines.
    pub splines: Vec<Spline>,
    /// Where the text goes on behind each of them, and where it does so in the text that they were cut out of.
    seams: Vec<(usize, usize)>,
}

impl Cut {
    /// The line of the text that this was cut out of, by a line of this one; both count from 1.
    pub fn own_line(&self, line: usize, whole: &str) -> usize {
        let start = match line.checked_sub(2) {
            Some(before) => {
                self.text.match_indices('\n').nth(before).map_or(self.text.len(), |(at, _)| at + 1)
            }
            None => 0,
        };
        let seam = self.seams.partition_point(|(here, _)| *here <= start);
        let (here, there) = seam.checked_sub(1).map_or((0, 0), |seam| self.seams[seam]);
        lines(&whole[..there]) + lines(&self.text[here..start]) + 1
    }
}

/// Cuts the splines out of a text.
pub fn cut(text: &str) -> Result<Cut, Fault> {
    cut_out(text, |_, name, number| format!("\nuniform string {name}:{MARK} = \"{number}\"\n"))
}

/// The same for a layer that is composed with others: splines are numbered from `first` on, the attribute itself stays
/// declared, and a clock tells what becomes of times.
pub fn cut_for_composition(text: &str, first: usize) -> Result<Cut, Fault> {
    cut_out(text, |kind, name, number| {
        let number = first + number;
        format!(
            "\n{kind} {name}\nuniform string {name}:{MARK} = \"{number}\"\ndouble {name}:{CLOCK}.timeSamples = {{ 0: 0, 1: 1, }}\n"
        )
    })
}

/// Cuts the splines out of a text; `instead` says what comes in the place of each, from its type, its name and its number.
fn cut_out(text: &str, instead: impl Fn(&str, &str, usize) -> String) -> Result<Cut, Fault> {
    let mut scanner = Scanner { text, at: 0 };
    let mut made = Cut { text: String::with_capacity(text.len()), splines: Vec::new(), seams: Vec::new() };
    let (mut copied, mut depth) = (0, 0_usize);
    let mut word_start = 0;
    while let Some(token) = scanner.token()? {
        match token {
            Token::Sign(b'{' | b'[' | b'(') => {
                depth += 1;
                if depth > MAX_DEPTH {
                    return Err(scanner.fault(format!("brackets are nested more than {MAX_DEPTH} deep")));
                }
            }
            Token::Sign(b'}' | b']' | b')') => depth = depth.saturating_sub(1),
            Token::Word(word) => {
                if let Some(name) = word.strip_suffix(".spline") {
                    // `double NAME.spline = { … }`: the type before the name goes as well.
                    made.text.push_str(text[copied..word_start.max(copied)].trim_end());
                    let kind = text[word_start..scanner.at - word.len()].trim();
                    let number = made.splines.len();
                    made.splines.push(scanner.spline()?);
                    made.text.push_str(&instead(kind, name, number));
                    copied = scanner.at;
                    made.seams.push((made.text.len(), copied));
                }
                // Where a statement's type starts, to be cut along with it.
                word_start = scanner.at - word.len();
            }
            _ => {}
        }
    }
    made.text.push_str(&text[copied..]);
    if made.text.starts_with(WITH_RULES) {
        made.text.replace_range(..WITH_RULES.len(), WITHOUT_RULES);
    }
    Ok(made)
}

/// How many lines end in a text.
fn lines(text: &str) -> usize {
    text.bytes().filter(|byte| *byte == b'\n').count()
}

enum Token<'a> {
    Word(&'a str),
    Sign(u8),
    Text,
}

struct Scanner<'a> {
    text: &'a str,
    at: usize,
}

impl<'a> Scanner<'a> {
    fn fault(&self, message: impl Into<String>) -> Fault {
        let line = self.text.as_bytes()[..self.at].iter().filter(|&&byte| byte == b'\n').count() + 1;
        Fault::on_line(line, message)
    }

    /// The next word, sign or string; white space and comments are passed over.
    fn token(&mut self) -> Result<Option<Token<'a>>, Fault> {
        let bytes = self.text.as_bytes();
        loop {
            match bytes.get(self.at) {
                None => return Ok(None),
                Some(byte) if byte.is_ascii_whitespace() => self.at += 1,
                Some(b'#') => {
                    while bytes.get(self.at).is_some_and(|byte| *byte != b'\n') {
                        self.at += 1;
                    }
                }
                Some(&quote @ (b'"' | b'\'')) => return self.string(quote).map(Some),
                Some(b'@') => {
                    let long = bytes[self.at..].starts_with(b"@@@");
                    let end: &str = if long { "@@@" } else { "@" };
                    let start = self.at + end.len();
                    let length = self.text[start..]
                        .find(end)
                        .ok_or_else(|| self.fault("an asset path does not end"))?;
                    self.at = start + length + end.len();
                    return Ok(Some(Token::Text));
                }
                Some(b'<') => {
                    let length =
                        self.text[self.at..].find('>').ok_or_else(|| self.fault("a path does not end"))?;
                    self.at += length + 1;
                    return Ok(Some(Token::Text));
                }
                Some(&sign @ (b'{' | b'}' | b'[' | b']' | b'(' | b')' | b',' | b';' | b'=' | b'&')) => {
                    self.at += 1;
                    return Ok(Some(Token::Sign(sign)));
                }
                Some(_) => {
                    let start = self.at;
                    let ends = |byte: &u8| byte.is_ascii_whitespace() || b"{}[](),;=&\"'@<#".contains(byte);
                    while bytes.get(self.at).is_some_and(|byte| !ends(byte)) {
                        self.at += 1;
                    }
                    // Something that starts no token, such as a lone quote sign of another alphabet, is one by itself.
                    self.at = self.at.max(start + 1);
                    return Ok(Some(Token::Word(&self.text[start..self.at])));
                }
            }
        }
    }

    fn string(&mut self, quote: u8) -> Result<Token<'a>, Fault> {
        let bytes = self.text.as_bytes();
        let triple = bytes[self.at..].starts_with(&[quote; 3]);
        let start = self.at;
        self.at += if triple { 3 } else { 1 };
        loop {
            match bytes.get(self.at) {
                None => {
                    self.at = start;
                    return Err(self.fault("a string does not end"));
                }
                Some(b'\\') => self.at += 2,
                Some(b'\n') if !triple => {
                    self.at = start;
                    return Err(self.fault("a string does not end on its line"));
                }
                Some(&byte) if byte == quote => {
                    if !triple {
                        self.at += 1;
                        return Ok(Token::Text);
                    }
                    if bytes[self.at..].starts_with(&[quote; 3]) {
                        self.at += 3;
                        return Ok(Token::Text);
                    }
                    self.at += 1;
                }
                Some(_) => self.at += 1,
            }
        }
    }

    fn expect(&mut self, wanted: u8) -> Result<(), Fault> {
        match self.token()? {
            Some(Token::Sign(sign)) if sign == wanted => Ok(()),
            _ => Err(self.fault(format!("expected '{}' in a spline", wanted as char))),
        }
    }

    fn is_next(&mut self, wanted: u8) -> Result<bool, Fault> {
        let before = self.at;
        let found = matches!(self.token()?, Some(Token::Sign(sign)) if sign == wanted);
        if !found {
            self.at = before;
        }
        Ok(found)
    }

    fn word(&mut self) -> Result<&'a str, Fault> {
        match self.token()? {
            Some(Token::Word(word)) => Ok(word),
            _ => Err(self.fault("expected a word or number in a spline")),
        }
    }

    fn number(&mut self) -> Result<f64, Fault> {
        let word = self.word()?;
        let number = word.parse::<f64>().ok().filter(|number| is_usable(*number));
        number.ok_or_else(|| {
            let shown: String = word.chars().take(24).collect();
            self.fault(format!("'{shown}' is not a finite number"))
        })
    }

    fn numbers(&mut self) -> Result<Vec<f64>, Fault> {
        self.expect(b'(')?;
        let mut all = vec![self.number()?];
        while self.is_next(b',')? {
            all.push(self.number()?);
        }
        self.expect(b')')?;
        Ok(all)
    }

    /// The width and the slope of a tangent, or the slope alone; and whether a rule set it.
    fn tangent(&mut self) -> Result<((Option<f64>, f64), bool), Fault> {
        self.expect(b'(')?;
        let (mut all, mut is_ruled) = (vec![self.number()?], false);
        while self.is_next(b',')? {
            let before = self.at;
            match RULES.contains(&self.word()?) {
                true => is_ruled = true,
                false => {
                    self.at = before;
                    all.push(self.number()?);
                }
            }
        }
        self.expect(b')')?;
        Ok((tangent(&all), is_ruled))
    }

    /// What follows the name of a spline: `= { … }`.
    fn spline(&mut self) -> Result<Spline, Fault> {
        self.expect(b'=')?;
        self.expect(b'{')?;
        let mut spline = Spline::default();
        loop {
            if self.is_next(b'}')? {
                return Ok(spline);
            }
            if self.is_next(b',')? || self.is_next(b';')? {
                continue;
            }
            let word = self.word()?;
            match word {
                "bezier" => spline.is_hermite = false,
                "hermite" => spline.is_hermite = true,
                "pre:" | "pre" => spline.before = self.outside()?,
                "post:" | "post" => spline.after = self.outside()?,
                "loop:" | "loop" => {
                    let all = self.numbers()?;
                    let five = <[f64; 5]>::try_from(all);
                    spline.inner =
                        Some(five.map_err(|_| self.fault("the loop of a spline needs five numbers"))?);
                }
                word => {
                    let time = word.trim_end_matches(':').parse::<f64>().ok().filter(|time| time.is_finite());
                    let shown: String = word.chars().take(24).collect();
                    let time = time.ok_or_else(|| self.fault(format!("'{shown}' is no part of a spline")))?;
                    let knot = self.knot(time, &mut spline)?;
                    if spline.knots.last().is_some_and(|last| last.time >= knot.time) {
                        return Err(
                            self.fault(format!("the knot at {time} is not later than the one before it"))
                        );
                    }
                    spline.knots.push(knot);
                }
            }
        }
    }

    fn outside(&mut self) -> Result<Outside, Fault> {
        let mut word = self.word()?;
        if word == ":" {
            word = self.word()?;
        }
        Ok(match word {
            "held" => Outside::Held,
            "linear" => Outside::Linear,
            "none" => Outside::None,
            "sloped" => {
                let all = self.numbers()?;
                Outside::Sloped(all[0])
            }
            "loop" => match self.word()? {
                "repeat" => Outside::Repeat,
                "reset" => Outside::Reset,
                "oscillate" => Outside::Oscillate,
                _ => return Err(self.fault("a spline loops by repeat, reset or oscillate")),
            },
            other => {
                let shown: String = other.chars().take(24).collect();
                return Err(self.fault(format!("'{shown}' is nothing that a spline does outside its knots")));
            }
        })
    }

    fn knot(&mut self, time: f64, of: &mut Spline) -> Result<Knot, Fault> {
        let before = self.at;
        if self.word()? != ":" {
            self.at = before;
        }
        let first = self.number()?;
        let (left, value) = match self.is_next(b'&')? {
            true => (Some(first), self.number()?),
            false => (None, first),
        };
        let mut knot =
            Knot { time, left, value, pre: (None, 0.0), way: Interpolation::Hold, post: (None, 0.0) };
        while self.is_next(b';')? {
            if self.is_next(b'{')? {
                of.has_data = true;
                let mut open = 1;
                while open > 0 {
                    match self.token()? {
                        Some(Token::Sign(b'{')) => open += 1,
                        Some(Token::Sign(b'}')) => open -= 1,
                        Some(_) => {}
                        None => return Err(self.fault("the data of a knot does not end")),
                    }
                }
                continue;
            }
            match self.word()? {
                "pre" => {
                    let (tangent, is_ruled) = self.tangent()?;
                    knot.pre = tangent;
                    of.has_rules |= is_ruled;
                }
                "post" => {
                    knot.way = match self.word()? {
                        "held" => Interpolation::Hold,
                        "linear" => Interpolation::Linear,
                        "curve" => Interpolation::Cubic,
                        "none" => Interpolation::None,
                        _ => return Err(self.fault("after a knot comes held, linear, curve or none")),
                    };
                    let at = self.at;
                    if self.is_next(b'(')? {
                        self.at = at;
                        let (tangent, is_ruled) = self.tangent()?;
                        knot.post = tangent;
                        of.has_rules |= is_ruled;
                    }
                }
                _ => return Err(self.fault("a knot has pre and post, and nothing else")),
            }
        }
        Ok(knot)
    }
}

/// Width, where there is one, and slope.
fn tangent(numbers: &[f64]) -> (Option<f64>, f64) {
    match numbers {
        [width, slope, ..] => (Some(width.max(0.0)), *slope),
        [slope] => (None, *slope),
        [] => (None, 0.0),
    }
}

/// A curve as the text of a spline, without its name; `shown` says a value as it is written, `rise` a difference of values.
pub fn text(curve: &Curve, rate: FrameRate, shown: impl Fn(f64) -> f64, rise: f64, indent: &str) -> String {
    let curve = curve.unrolled();
    let frame = rate.ticks_per_frame();
    let per_frame = |slope: f64| slope * rise / rate.fps();
    let outside = |behaviour: Behaviour| match behaviour {
        Behaviour::Held => "held".to_owned(),
        Behaviour::Linear => "linear".to_owned(),
        Behaviour::Sloped(slope) => format!("sloped({})", per_frame(slope) + 0.0),
        Behaviour::LoopOffset => "loop repeat".to_owned(),
        Behaviour::Loop => "loop reset".to_owned(),
        Behaviour::LoopOscillate => "loop oscillate".to_owned(),
        Behaviour::None => "none".to_owned(),
    };
    let mut text = format!(
        "{{\n{indent}    bezier,\n{indent}    pre: {},\n{indent}    post: {},\n",
        outside(curve.before),
        outside(curve.after)
    );
    let keys = curve.keys();
    for (index, key) in keys.iter().enumerate() {
        let tangent = |tangent: Tangent, gap: Option<Ticks>| {
            let gap = gap.map_or(frame, Ticks::as_f64);
            let (dt, dv) = tangent.handle_in_gap(gap);
            // A vertical handle leans a hair, as its slope has to be a number.
            let width = (dt / frame).max(if dv == 0.0 { 0.0 } else { 1e-6 });
            let slope = match tangent.length() {
                None => per_frame(tangent.slope_per_second()),
                Some(_) if width == 0.0 => 0.0,
                Some(_) => dv * rise / width,
            };
            format!("({}, {})", width, slope + 0.0)
        };
        let before = index.checked_sub(1).map(|before| &keys[before]);
        let gap_before = before.map(|before| key.time - before.time);
        let gap_after = keys.get(index + 1).map(|next| next.time - key.time);
        let held = before.filter(|before| before.interpolation == Interpolation::Hold);
        let left = match (key.value_before, held) {
            (Some(left), None) => format!("{} & ", shown(left) + 0.0),
            _ => String::new(),
        };
        let way = match key.interpolation {
            Interpolation::Hold => "held".to_owned(),
            Interpolation::Linear => "linear".to_owned(),
            Interpolation::None => "none".to_owned(),
            Interpolation::Cubic => format!("curve {}", tangent(key.tangent_out, gap_after.or(gap_before))),
        };
        let time = rate.frame(key.time);
        // A piece that is no cubic has no tangents.
        let arrives = before.is_none_or(|before| before.interpolation == Interpolation::Cubic);
        let pre = match arrives {
            true => format!("pre {}; ", tangent(key.tangent_in, gap_before.or(gap_after))),
            false => String::new(),
        };
        text.push_str(&format!("{indent}    {time}: {left}{}; {pre}post {way},\n", shown(key.value) + 0.0));
    }
    text.push_str(&format!("{indent}}}"));
    text
}
