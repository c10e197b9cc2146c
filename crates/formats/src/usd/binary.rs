//! Binary layers, read and written; splines among their fields are our own, the rest is of the `openusd` crate.

use std::borrow::Cow;
use std::collections::HashMap;
use std::io::Cursor;

use anyhow::{Context as _, Result, anyhow, ensure};
use openusd::sdf::{AbstractData as _, Data, Path, SpecType, Value};
use openusd::usdc::{CrateData, CrateFile};

use super::spline::text::cut;
use super::spline::{self, CLOCK, FIELD, MARK, Spline};
use super::{check, crate_file};

/// What a binary layer says, as far as it is read here: values of other kinds, such as those of meshes, stay where they are.
///
/// # Errors
/// Where its tables do not fit together, or a spline is broken.
pub fn read(bytes: &[u8]) -> Result<(Data, Vec<Spline>)> {
    let bytes = &*readable(bytes);
    check::tables(bytes)?;
    let file = CrateFile::open(Cursor::new(bytes)).map_err(|_| broken())?;
    let readable = check::fields(bytes, &file);
    // For each spec, by its path, the fields that can be read.
    let mut fields: HashMap<&str, HashMap<&str, bool>> = HashMap::with_capacity(file.specs.len());
    for spec in &file.specs {
        let path = file.paths.get(spec.path_index).context("a spec has no path")?;
        let set = file.fieldsets.get(spec.fieldset_index..).context("a spec has no fields")?;
        let mut own: HashMap<&str, bool> = HashMap::new();
        for index in set.iter().map_while(|index| *index) {
            let field = file.fields.get(index).context("a spec has a field that is not there")?;
            let name = file.tokens.get(field.token_index).context("a field has no name")?;
            let name = if name == "properties" { "propertyChildren" } else { name.as_str() };
            // Of two fields of one name it is not known which one counts.
            *own.entry(name).or_insert(true) &= readable[index];
        }
        ensure!(fields.insert(path.as_str(), own).is_none(), "the spec '{path}' is there twice");
    }
    let splines = splines(bytes, &file)?;
    let data = CrateData::open(Cursor::new(bytes), true).map_err(|_| broken())?;
    let (mut made, mut all) = (Data::new(), Vec::with_capacity(splines.len()));
    for path in data.spec_paths() {
        let Some(kind) = data.spec_type(&path) else { continue };
        let known = fields.get(path.as_str());
        let mut read = Vec::new();
        for name in data.list_fields(&path).unwrap_or_default() {
            if name == FIELD
                && let Some(spline) = splines.get(path.as_str())
            {
                let spec = made.create_spec(beside(&path, MARK)?, SpecType::Attribute);
                spec.add("default", Value::String(all.len().to_string()));
                all.push(spline.clone());
                continue;
            }
            let value = match known.is_some_and(|known| known.get(name.as_str()) == Some(&true)) {
                true => data.try_field(&path, &name).map_err(|_| broken())?.map(Cow::into_owned),
                false => None,
            };
            // That there is one is worth knowing, such as of references.
            read.push((name, value.unwrap_or(Value::None)));
        }
        let spec = made.create_spec(path, kind);
        for (name, value) in read {
            spec.add(&name, value);
        }
    }
    Ok((made, all))
}

/// In place of what the reader of binary layers says, which speaks of its own insides.
fn broken() -> anyhow::Error {
    anyhow!("it is broken: its tables do not fit together")
}

/// A layer as the `openusd` crate reads it: version 0.13 is 0.12 with rules in splines, which are read here.
fn readable(bytes: &[u8]) -> Cow<'_, [u8]> {
    match bytes.get(8..10) {
        Some([0, 13]) => {
            let mut older = bytes.to_vec();
            older[9] = 12;
            Cow::Owned(older)
        }
        _ => Cow::Borrowed(bytes),
    }
}

/// The splines of a layer, by the paths of their attributes.
fn splines<'a, R>(bytes: &[u8], file: &'a CrateFile<R>) -> Result<HashMap<&'a str, Spline>> {
    let mut places = HashMap::new();
    for (index, field) in file.fields.iter().enumerate() {
        let name = file.tokens.get(field.token_index).context("a field has no name")?;
        let value = field.value_rep.0;
        if name == FIELD && value >> 48 == spline::binary::KIND {
            places.insert(index, (value & ((1 << 48) - 1)) as usize);
        }
    }
    let mut made = HashMap::with_capacity(places.len());
    if places.is_empty() {
        return Ok(made);
    }
    // Fields may say one place again and again; no more is read than the file can hold.
    let mut left = 64 * bytes.len();
    for spec in &file.specs {
        let path = file.paths.get(spec.path_index).context("a spec has no path")?;
        let set = file.fieldsets.get(spec.fieldset_index..).context("a spec has no fields")?;
        for index in set.iter().map_while(|index| *index) {
            let Some(&at) = places.get(&index) else { continue };
            let read = spline::binary::read(bytes, at).with_context(|| format!("the spline of {path}"))?;
            left = left.checked_sub(read.size()).context("its splines are too many")?;
            made.insert(path.as_str(), read);
        }
    }
    Ok(made)
}

/// The path of what stands in for the spline of an attribute, or tells its times.
fn beside(attribute: &Path, what: &str) -> Result<Path> {
    Path::new(&format!("{}:{what}", attribute.as_str()))
}

/// A layer for composition with others: where it has splines, they are taken out, numbered from `first` on, and attributes
/// stand in for them as [`cut_for_composition`](super::spline::text::cut_for_composition) has it.
///
/// # Errors
/// As [`read`].
pub fn for_composition(bytes: &[u8], first: usize) -> Result<(Vec<u8>, Vec<Spline>)> {
    let bytes = readable(bytes);
    check::tables(&bytes)?;
    let file = CrateFile::open(Cursor::new(&*bytes)).map_err(|_| broken())?;
    let mut splines = splines(&bytes, &file)?;
    if splines.is_empty() {
        return Ok((bytes.into_owned(), Vec::new()));
    }
    let data = CrateData::open(Cursor::new(&*bytes), true).map_err(|_| broken())?;
    let (mut made, mut all) = (Data::new(), Vec::new());
    let mut more: HashMap<Path, Vec<String>> = HashMap::new();
    for path in data.spec_paths() {
        let Some(kind) = data.spec_type(&path) else { continue };
        let own = splines.remove(path.as_str());
        let spec = made.create_spec(path.clone(), kind);
        for name in data.list_fields(&path).unwrap_or_default() {
            if own.is_some() && name == FIELD {
                continue;
            }
            if let Some(value) = data.try_field(&path, &name)?.filter(|value| !matches!(**value, Value::None))
            {
                spec.add(&name, value.into_owned());
            }
        }
        let Some(spline) = own else { continue };
        let mark = made.create_spec(beside(&path, MARK)?, SpecType::Attribute);
        mark.add("typeName", Value::Token("string".into()));
        mark.add("default", Value::String((first + all.len()).to_string()));
        let clock = made.create_spec(beside(&path, CLOCK)?, SpecType::Attribute);
        clock.add("typeName", Value::Token("double".into()));
        clock.add(
            "timeSamples",
            Value::TimeSamples(vec![(0.0, Value::Double(0.0)), (1.0, Value::Double(1.0))]),
        );
        all.push(spline);
        let prim = path.prim_path();
        let name = path.as_str().rsplit('.').next().unwrap_or_default();
        more.entry(prim).or_default().extend([MARK, CLOCK].map(|what| format!("{name}:{what}")));
    }
    for (prim, names) in more {
        if let Some(spec) = made.spec_mut(&prim)
            && let Some(Value::TokenVec(listed)) = spec.get("propertyChildren")
        {
            let mut listed = listed.clone();
            listed.extend(names.iter().map(|name| name.as_str().into()));
            spec.add("propertyChildren", Value::TokenVec(listed));
        }
    }
    Ok((crate_file::bytes(&made, &[])?, all))
}

/// The binary form of a text.
///
/// # Errors
/// Where the text cannot be read, or the layer not be made.
pub fn write(text: &str) -> Result<Vec<u8>> {
    let cut = cut(text).map_err(|fault| anyhow!(fault.message))?;
    let mut data = openusd::usda::parse(&cut.text)?;
    let marks: Vec<Path> =
        data.spec_paths().into_iter().filter(|path| path.as_str().ends_with(MARK)).collect();
    let ending = format!(":{MARK}");
    for mark in marks {
        let number = data.erase_spec(&mark);
        let number = number.as_ref().and_then(|spec| spec.get("default")).and_then(Value::as_str);
        let number = number.and_then(|number| number.parse::<i32>().ok()).context("a spline was mislaid")?;
        let own = mark.as_str().strip_suffix(&ending).context("a spline was mislaid")?;
        let spec = data.spec_mut(&Path::new(own)?).context("a spline has no attribute")?;
        // A number in its place, which is set right when the bytes are there.
        spec.add(FIELD, Value::Int(number));
        let name = mark.as_str().rsplit('.').next().unwrap_or_default();
        let prim = data.spec_mut(&mark.prim_path()).context("a spline has no prim")?;
        if let Some(Value::TokenVec(listed)) = prim.get("propertyChildren") {
            let rest = listed.iter().filter(|listed| listed.as_str() != name).cloned().collect();
            prim.add("propertyChildren", Value::TokenVec(rest));
        }
    }
    for path in data.spec_paths() {
        let Some(spec) = data.spec_mut(&path) else { continue };
        // The parser of texts leaves switches over time as words.
        if spec.get("typeName").and_then(Value::as_str) == Some("bool")
            && let Some(Value::TimeSamples(samples)) = spec.get("timeSamples")
        {
            let switch = |value: &Value| value.as_str().and_then(|word| word.parse::<bool>().ok());
            let samples = samples
                .iter()
                .map(|(time, value)| (*time, switch(value).map_or_else(|| value.clone(), Value::Bool)));
            let samples = Value::TimeSamples(samples.collect());
            spec.add("timeSamples", samples);
        }
    }
    crate_file::bytes(&data, &cut.splines)
}
