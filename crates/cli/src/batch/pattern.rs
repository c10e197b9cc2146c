//! Names with holes in them, such as `{stem}_{clip}.glb`.

use nimble_curve_core::similar::similar;

/// What is filled in.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Hole {
    /// The source's name without its ending.
    Stem,
    /// The source's ending.
    Ending,
    /// The source's folders below the part of the pattern without wildcards.
    Folder,
    /// The source's path, as the recipe finds it.
    Source,
    /// The take that a file is written for.
    Take,
    /// The clip that a file is written for.
    Clip,
}

impl Hole {
    /// Those that are known of a source before it is read.
    pub const OF_SOURCE: [Hole; 4] = [Hole::Stem, Hole::Ending, Hole::Folder, Hole::Source];
    /// All of them.
    pub const ALL: [Hole; 6] = [Hole::Stem, Hole::Ending, Hole::Folder, Hole::Source, Hole::Take, Hole::Clip];

    /// As it is written, without braces.
    pub fn name(self) -> &'static str {
        match self {
            Hole::Stem => "stem",
            Hole::Ending => "ending",
            Hole::Folder => "folder",
            Hole::Source => "source",
            Hole::Take => "take",
            Hole::Clip => "clip",
        }
    }
}

/// A text with holes.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Pattern {
    parts: Vec<Part>,
}

#[derive(Clone, Debug, PartialEq, Eq)]
enum Part {
    Text(String),
    Hole(Hole),
}

impl Pattern {
    /// Takes a text apart; the error is a sentence without its place.
    pub fn parse(text: &str, allowed: &[Hole]) -> Result<Pattern, String> {
        let mut parts = Vec::new();
        let mut rest = text;
        while let Some(at) = rest.find(['{', '}']) {
            let (before, from) = rest.split_at(at);
            let inner = from.strip_prefix('{').and_then(|from| from.split_once('}'));
            let Some((name, after)) = inner else {
                return Err(format!("'{text}' has a brace without its partner"));
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
            parts.push(Part::Hole(*hole));
            rest = after;
        }
        if !rest.is_empty() {
            parts.push(Part::Text(rest.to_owned()));
        }
        Ok(Pattern { parts })
    }

    /// Whether a hole is in it.
    pub fn has(&self, hole: Hole) -> bool {
        self.parts.contains(&Part::Hole(hole))
    }

    /// The text with its holes filled.
    pub fn filled(&self, fill: impl Fn(Hole) -> String) -> String {
        let part = |part: &Part| match part {
            Part::Text(text) => text.clone(),
            Part::Hole(hole) => fill(*hole),
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
                if !text.starts_with('/') || matches!(self.parts.first(), Some(Part::Hole(_))) =>
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
            let pattern = Pattern::parse(text, &Hole::ALL).unwrap();
            assert_eq!(pattern.path(fill), path, "{text}");
        }
    }

    #[test]
    fn what_cannot_be_filled_is_named_with_what_can() {
        for (text, said) in [
            ("{stam}.glb", "did you mean {stem}?"),
            ("{clip}.glb", "{clip} cannot be filled in here: {stem}, {ending}, {folder}, {source}"),
            ("{stem.glb", "a brace without its partner"),
            ("stem}.glb", "a brace without its partner"),
        ] {
            let error = Pattern::parse(text, &Hole::OF_SOURCE).unwrap_err();
            assert!(error.contains(said), "{text}: {error}");
        }
    }
}
