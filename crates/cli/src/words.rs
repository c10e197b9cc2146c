//! Words that people of the trade try first, and the command that does it here.

/// For a word, what does it.
const TRIED: [(&[&str], &str); 22] = [
    (&["retarget", "transfer", "apply"], "carry SOURCE --target RIG -o OUT"),
    (&["reduce", "simplify", "decimate", "fit", "clean", "sparse"], "unbake FILE -o OUT"),
    (&["merge", "collapse", "flatten"], "layers flatten FILE -o OUT"),
    (
        &["diff", "difference"],
        "compare A B; as a layer: layers difference FILE --against OTHER --name NAME -o OUT",
    ),
    (&["export", "import", "save", "open"], "convert FILE OUT"),
    (&["euler", "unflip", "filter", "unwind"], "reorder FILE --unwind -o OUT"),
    (&["rotate-order", "order", "rotation-order"], "reorder FILE --to ORDER -o OUT"),
    (&["fps", "rate", "resample"], "convert FILE OUT --to-rate RATE"),
    (&["unit", "units", "scale"], "convert FILE OUT --to-unit UNIT"),
    (&["sample", "sampling"], "bake FILE -o OUT"),
    (&["info", "show", "list", "ls", "stat"], "inspect FILE"),
    (&["lint", "validate", "verify", "test"], "check FILE"),
    (&["draw", "graph", "preview", "render"], "plot FILE -o PICTURE.png"),
    (&["loop", "cycles"], "cycle close FILE -o OUT, or cycle find FILE"),
    (&["trim", "crop"], "clips trim FILE -o OUT"),
    (&["cut", "split", "slice"], "clips split FILE -o FOLDER"),
    (&["join", "append", "concat", "concatenate"], "clips join FILE FILE -o OUT"),
    (&["retime", "stretch", "speed"], "clips stretch FILE --to-frames N -o OUT"),
    (&["shift", "offset", "move"], "clips shift FILE --to FRAME -o OUT"),
    (&["in-place", "inplace"], "root in-place FILE -o OUT"),
    (&["batch", "farm"], "run RECIPE.toml"),
    (&["pair", "match", "names", "namemap"], "map SOURCE TARGET -o MAP.toml"),
];

/// What no command does yet.
const MISSING: [&str; 3] = ["mirror", "blend", "smooth"];

/// One line for a command that is not there, where the word is known.
pub fn answer(word: &str) -> Option<String> {
    let tried = word.to_lowercase().replace('_', "-");
    if MISSING.contains(&tried.as_str()) {
        return Some(format!("'{word}' is not there yet; nimble-curve --help lists what is"));
    }
    let (_, does) = TRIED.iter().find(|(words, _)| words.contains(&tried.as_str()))?;
    Some(format!("'{word}' goes by another name here: nimble-curve {does}"))
}

#[cfg(test)]
mod tests {
    use clap::CommandFactory as _;

    use super::*;

    #[test]
    fn every_answer_names_commands_and_options_that_are_there() {
        let program = crate::args::Cli::command();
        for (words, does) in TRIED {
            assert!(words.iter().all(|word| program.find_subcommand(word).is_none()), "{words:?}");
            for part in does.split([';', ',']).map(|part| part.trim()) {
                let part = part.trim_start_matches("as a layer: ").trim_start_matches("or ");
                let mut command = &program;
                for word in part.split(' ') {
                    if let Some(option) = word.strip_prefix("--") {
                        assert!(command.get_arguments().any(|own| own.get_long() == Some(option)), "{part}");
                    } else if let Some(own) = command.find_subcommand(word) {
                        command = own;
                    }
                }
                assert!(command.get_name() != program.get_name(), "{part}");
            }
        }
    }
}
