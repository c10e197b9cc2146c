//! Names made of parts, such as `{stem}_{clip:lower}_{frames}.glb`.

use nimble_curve_core::similar::similar;

/// What is filled in.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Hole {
    /// The source's name without its ending.
    Stem,
    /// The same, as people say who think of scenes.
    Scene,
    /// The source's ending.
    Ending,
    /// The source's folders below the part of the pattern without wildcards, or the take's in a library.
    Folder,
    /// The source's path, as the recipe finds it.
    Source,
    /// The take that a file is written for.
    Take,
    /// The clip that a file is written for.
    Clip,
    /// How many frames it has, both ends counted.
    Frames,
    /// Its first frame.
    First,
    /// Its last frame.
    Last,
    /// Its frames a second.
    Rate,
    /// Its number among those that are written, from 1 on.
    Index,
    /// What a star of a pattern stands for.
    Star,
}

impl Hole {
    /// All of them, those first that are known before a file is read.
    const EVERY: &[Hole] = &[
        Hole::Ending,
        Hole::Source,
        Hole::Stem,
        Hole::Folder,
        Hole::Scene,
        Hole::Take,
        Hole::Clip,
        Hole::Frames,
        Hole::First,
        Hole::Last,
        Hole::Rate,
        Hole::Index,
        Hole::Star,
    ];
    /// Those that are known of a source before it is read.
    pub const OF_SOURCE: &[Hole] = Hole::EVERY.split_at(5).0;
    /// Those of files that are written.
    pub const ALL: &[Hole] = Hole::EVERY.split_at(12).0;
    /// Those of pictures and sheets of a file.
    pub const OF_FILES: &[Hole] = Hole::ALL.split_at(2).1;
    /// Those of new names of clips and takes.
    pub const OF_NAMES: &[Hole] = Hole::EVERY.split_at(4).1;

    /// As it is written, without braces.
    pub fn name(self) -> &'static str {
        match self {
            Hole::Stem => "stem",
            Hole::Scene => "scene",
            Hole::Ending => "ending",
            Hole::Folder => "folder",
            Hole::Source => "source",
            Hole::Take => "take",
            Hole::Clip => "clip",
            Hole::Frames => "frames",
            Hole::First => "first",
            Hole::Last => "last",
            Hole::Rate => "rate",
            Hole::Index => "index",
            Hole::Star => "*",
        }
    }

    /// Whether what is in a file says it, and not its name.
    pub fn is_of_contents(self) -> bool {
        !Hole::OF_SOURCE.contains(&self)
    }
}

/// How what is filled in is written.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Form {
    AsItIs,
    Lower,
    Upper,
    /// Small letters, words apart by underlines.
    Snake,
    /// At least so many digits.
    Digits(usize),
}

impl Form {
    fn parse(text: &str) -> Option<Form> {
        Some(match text {
            "lower" => Form::Lower,
            "upper" => Form::Upper,
            "snake" => Form::Snake,
            digits => {
                let digits: usize = digits.strip_prefix('0')?.parse().ok()?;
                (1..=9).contains(&digits).then_some(Form::Digits(digits))?
            }
        })
    }

    /// As it is written behind the name.
    fn said(self) -> String {
        match self {
            Form::AsItIs => String::new(),
            Form::Lower => ":lower".to_owned(),
            Form::Upper => ":upper".to_owned(),
            Form::Snake => ":snake".to_owned(),
            Form::Digits(digits) => format!(":0{digits}"),
        }
    }

    fn of(self, text: String) -> String {
        match self {
            Form::AsItIs => text,
            Form::Lower => text.to_lowercase(),
            Form::Upper => text.to_uppercase(),
            Form::Snake => snake(&text),
            Form::Digits(digits) => match text.strip_prefix('-') {
                Some(number) => format!("-{number:0>digits$}"),
                None => format!("{text:0>digits$}"),
            },
        }
    }
}

/// `Walk Start-L` and `WalkStartL` as `walk_start_l`.
fn snake(text: &str) -> String {
    let mut made = String::with_capacity(text.len() + 4);
    let mut was_small = false;
    for sign in text.chars() {
        if !sign.is_alphanumeric() {
            if !made.is_empty() && !made.ends_with('_') {
                made.push('_');
            }
            was_small = false;
            continue;
        }
        if sign.is_uppercase() && was_small {
            made.push('_');
        }
        was_small = sign.is_lowercase() || sign.is_numeric();
        made.extend(sign.to_lowercase());
    }
    made.trim_end_matches('_').to_owned()
}

/// A text with holes.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Pattern {
    parts: Vec<Part>,
}

#[derive(Clone, Debug, PartialEq, Eq)]
enum Part {
    Text(String),
    Hole(Hole, Form),
}

impl Pattern {
    /// The text with the holes filled that a source's name fills; the others stay, for what is made of it.
    pub fn filled_by_source(&self, fill: impl Fn(Hole) -> String) -> String {
        let part = |part: &Part| match part {
            Part::Text(text) => text.clone(),
            Part::Hole(hole, form) if hole.is_of_contents() => format!("{{{}{}}}", hole.name(), form.said()),
            Part::Hole(hole, form) => form.of(fill(*hole)),
        };
        self.parts.iter().map(part).collect()
    }

    /// Takes a text apart; the error is a sentence without its place.
    pub fn parse(text: &str, allowed: &[Hole]) -> Result<Pattern, String> {
        let mut parts = Vec::new();
        let mut rest = text;
        while let Some(at) = rest.find(['{', '}']) {
            let (before, from) = rest.split_at(at);
            let inner = from.strip_prefix('{').and_then(|from| from.split_once('}'));
            let Some((inner, after)) = inner else {
                return Err(format!("'{text}' has a brace without its partner"));
            };
            let (name, form) = match inner.split_once(':') {
                Some((name, form)) => {
                    let known = Form::parse(form).ok_or_else(|| {
                        format!(
                            "{{{inner}}} cannot be written so: lower, upper, snake, or 03 for three digits"
                        )
                    })?;
                    (name, known)
                }
                None => (inner, Form::AsItIs),
            };
            let names = || allowed.iter().map(|hole| hole.name());
            let Some(hole) = allowed.iter().find(|hole| hole.name() == name) else {
                let hint = match similar(name, names()) {
                    Some(name) => format!("did you mean {{{name}}}?"),
                    None => names().map(|name| format!("{{{name}}}")).collect::<Vec<_>>().join(", "),
                };
                return Err(format!("{{{name}}} cannot be filled in here: {hint}"));
            };
            if !before.is_empty() {
                parts.push(Part::Text(before.to_owned()));
            }
            parts.push(Part::Hole(*hole, form));
            rest = after;
        }
        if !rest.is_empty() {
            parts.push(Part::Text(rest.to_owned()));
        }
        Ok(Pattern { parts })
    }

    /// Whether one of its holes is filled in by what is in a file.
    pub fn needs_contents(&self) -> bool {
        self.parts.iter().any(|part| matches!(part, Part::Hole(hole, _) if hole.is_of_contents()))
    }

    /// Whether a hole is in it.
    pub fn has(&self, hole: Hole) -> bool {
        self.parts.iter().any(|part| matches!(part, Part::Hole(own, _) if *own == hole))
    }

    /// The text with its holes filled.
    pub fn filled(&self, fill: impl Fn(Hole) -> String) -> String {
        let part = |part: &Part| match part {
            Part::Text(text) => text.clone(),
            Part::Hole(hole, form) => form.of(fill(*hole)),
        };
        self.parts.iter().map(part).collect()
    }

    /// The path with its holes filled: a hole that is filled with nothing makes no folder.
    pub fn path(&self, fill: impl Fn(Hole) -> String) -> String {
        let text = self.filled(fill);
        let parts: Vec<&str> = text
            .split('/')
            .enumerate()
            .filter(|(at, part)| *at == 0 || !part.is_empty())
            .map(|p| p.1)
            .collect();
        match parts.split_first() {
            // An empty first part is that of an absolute path, or a hole without a folder.
            Some((&"", below))
                if !text.starts_with('/') || matches!(self.parts.first(), Some(Part::Hole(..))) =>
            {
                below.join("/")
            }
            _ => parts.join("/"),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn holes_are_filled_and_empty_folders_left_out() {
        let fill = |hole: Hole| match hole {
            Hole::Folder => String::new(),
            hole => hole.name().to_uppercase(),
        };
        for (text, path) in [
            ("game/{folder}/{stem}_{clip}.glb", "game/STEM_CLIP.glb"),
            ("{folder}/{stem}.{ending}", "STEM.ENDING"),
            ("/show/{folder}/{take}.bvh", "/show/TAKE.bvh"),
            ("plain.csv", "plain.csv"),
            ("a/{source}", "a/SOURCE"),
        ] {
            let pattern = Pattern::parse(text, Hole::ALL).unwrap();
            assert_eq!(pattern.path(fill), path, "{text}");
        }
    }

    #[test]
    fn what_is_filled_in_is_written_as_asked_for() {
        let fill = |hole: Hole| match hole {
            Hole::Index => "7".to_owned(),
            Hole::First => "-3".to_owned(),
            _ => "Walk Start-L2".to_owned(),
        };
        let of = |text: &str| Pattern::parse(text, Hole::ALL).unwrap().filled(fill);
        assert_eq!(of("{clip:snake}_{index:03}"), "walk_start_l2_007");
        assert_eq!(of("{clip:lower}|{clip:upper}|{first:04}"), "walk start-l2|WALK START-L2|-0003");
        assert_eq!(snake("WalkStartL"), "walk_start_l");
        let wrong = Pattern::parse("{clip:title}", Hole::ALL).unwrap_err();
        assert!(wrong.contains("lower, upper, snake"), "{wrong}");
    }

    #[test]
    fn what_cannot_be_filled_is_named_with_what_can() {
        for (text, said) in [
            ("{stam}.glb", "did you mean {stem}?"),
            ("{clip}.glb", "{clip} cannot be filled in here: {ending}, {source}, {stem}, {folder}, {scene}"),
            ("{stem.glb", "a brace without its partner"),
            ("stem}.glb", "a brace without its partner"),
        ] {
            let error = Pattern::parse(text, Hole::OF_SOURCE).unwrap_err();
            assert!(error.contains(said), "{text}: {error}");
        }
    }
}
