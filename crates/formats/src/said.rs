//! What readers of JSON and TOML complain of, in the words of this program: what is there, what belongs there, what to do.

/// What is wrong with a JSON text, without its line.
pub fn json(error: &serde_json::Error) -> String {
    use serde_json::error::Category;
    let full = error.to_string();
    let message = full.split(" at line ").next().unwrap_or(&full);
    match error.classify() {
        Category::Eof => {
            "the file ends in the middle: it was cut off, or not written to its end; make it again".to_owned()
        }
        Category::Data => of_data(message),
        Category::Syntax | Category::Io => format!("is not JSON here: {}", quoted(message)),
    }
}

/// What is wrong with a TOML text.
pub fn toml(message: &str) -> String {
    let known = [
        "unknown field",
        "missing field",
        "invalid type",
        "invalid value",
        "unknown variant",
        "invalid length",
    ];
    let message = message.replace('\n', ", ");
    if known.iter().any(|start| message.starts_with(start)) || message.contains('\'') {
        return of_data(&message);
    }
    format!("is not TOML here ({}): lines are like name = \"value\"", quoted(&message))
}

/// Well-formed, and something else than belongs there.
fn of_data(message: &str) -> String {
    if let Some(rest) = message.strip_prefix("missing field ") {
        return format!("the field {} is missing", quoted(rest));
    }
    for start in ["invalid type: ", "invalid value: ", "invalid length "] {
        if let Some((found, expected)) =
            message.strip_prefix(start).and_then(|rest| rest.split_once(", expected "))
        {
            return format!("found {} where {} belongs", thing(found), thing(expected));
        }
    }
    let unknown = message.strip_prefix("unknown field ").or_else(|| message.strip_prefix("unknown variant "));
    match unknown.and_then(|rest| rest.split_once(", expected ")) {
        Some((name, others)) => {
            let others =
                quoted(others.trim_start_matches("one of ").trim_start_matches("there are no fields"));
            let list: Vec<&str> = others.split(", ").map(|name| name.trim_matches('\'')).collect();
            let name = name.trim_matches('`');
            match nimble_curve_core::similar::similar(name, list.iter().copied()) {
                Some(near) => format!("there is no '{name}' here: did you mean '{near}'?"),
                None => format!("there is no '{name}' here: there are {}", list.join(", ")),
            }
        }
        None => quoted(message),
    }
}

/// A thing as people call it.
fn thing(text: &str) -> String {
    let text = quoted(text);
    let named = [
        ("map", "an object"),
        ("sequence", "a list"),
        ("unit", "nothing"),
        ("null", "nothing"),
        ("a sequence", "a list"),
        ("a map", "an object"),
        ("f64", "a number"),
        ("u32", "a whole number"),
        ("u64", "a whole number"),
    ];
    if let Some((_, name)) = named.iter().find(|(own, _)| *own == text) {
        return (*name).to_owned();
    }
    // Numbers come in code marks.
    for kind in ["floating point ", "integer "] {
        if let Some(number) = text.strip_prefix(kind) {
            return format!("the number {}", number.trim_matches('\''));
        }
    }
    text.replace("boolean ", "the switch ")
        .replace("string ", "the text ")
        .replace("a the text ", "a string ")
        .replace("an array of length", "a list of")
        .replace("struct ", "an object of ")
}

/// With quotation marks in place of code marks.
fn quoted(text: &str) -> String {
    text.replace('`', "'")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn complaints_of_readers_are_sentences_of_ours() {
        let of = |text: &str| json(&serde_json::from_str::<Vec<[f64; 2]>>(text).unwrap_err());
        assert!(of("[[1, 2], [3").starts_with("the file ends in the middle"));
        assert_eq!(of("[{\"a\": 1}]"), "found an object where a list of 2 belongs");
        assert_eq!(of("[[1, \"x\"]]"), "found the text \"x\" where a number belongs");
        assert!(of("[[1 2]]").starts_with("is not JSON here: "));
        assert_eq!(toml("missing field `from`"), "the field 'from' is missing");
        let unknown = "unknown field `toleranze`, expected one of `tolerance`, `output`";
        assert_eq!(toml(unknown), "there is no 'toleranze' here: did you mean 'tolerance'?");
        assert!(toml("extra `=`, expected nothing").contains("lines are like name ="));
    }
}
