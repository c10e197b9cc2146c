//! A layer of a USD file: what its fields say, and the values of its attributes over time.

use nimble_curve_core::validate::is_usable;
use std::borrow::Cow;
use std::collections::HashSet;

use openusd::sdf::{AbstractData as _, Data, Path, Value};

use super::spline::{MARK, Spline};
use crate::error::Fault;

/// A layer and the splines that were cut out of it.
pub struct Layer<'a> {
    pub data: &'a Data,
    pub splines: &'a [Spline],
}

impl Layer<'_> {
    /// A field of a spec.
    pub fn field(&self, path: &Path, name: &str) -> Option<Cow<'_, Value>> {
        self.data.try_field(path, name).ok().flatten()
    }

    /// Names in a field that lists them.
    pub fn names(&self, path: &Path, field: &str) -> Vec<String> {
        match self.field(path, field).as_deref() {
            Some(Value::TokenVec(names)) => names.iter().map(|name| name.as_str().to_owned()).collect(),
            _ => Vec::new(),
        }
    }

    /// The attributes of a prim; one whose spline was cut out may stand in that alone.
    pub fn attributes(&self, prim: &Path) -> Vec<String> {
        let mark = format!(":{MARK}");
        let mut all: Vec<String> = Vec::new();
        let mut seen = HashSet::new();
        for property in self.names(prim, "propertyChildren") {
            let name = property.strip_suffix(&mark).unwrap_or(&property);
            if seen.insert(name.to_owned()) {
                all.push(name.to_owned());
            }
        }
        all
    }

    /// Whether an attribute says something over time, be it readable or not.
    pub fn is_animated(&self, attribute: &Path) -> bool {
        let has_mark = Path::new(&format!("{}:{MARK}", attribute.as_str()))
            .is_ok_and(|mark| self.data.has_field(&mark, "default"));
        has_mark || self.data.has_field(attribute, "spline") || self.data.has_field(attribute, "timeSamples")
    }

    /// The text of a field.
    pub fn text(&self, path: &Path, field: &str) -> Option<String> {
        self.field(path, field)?.as_str().map(str::to_owned)
    }

    /// A text in the layer's own data.
    pub fn own(&self, key: &str) -> Option<String> {
        let own = self.field(&Path::abs_root(), "customLayerData")?;
        let Value::Dictionary(own) = own.as_ref() else { return None };
        own.get(key)?.as_str().map(str::to_owned)
    }

    pub fn number(&self, field: &str) -> Option<f64> {
        let field = self.field(&Path::abs_root(), field)?;
        numbers(&field)
            .and_then(|all| all.first().copied())
            .filter(|number| number.is_finite() && *number > 0.0)
    }

    /// What an attribute says over time, if anything.
    pub fn values(&self, attribute: &Path) -> Result<Option<Values<'_>>, Fault> {
        let fault = |message: &str| Fault::in_part(attribute.as_str(), message);
        if let Ok(mark) = Path::new(&format!("{}:{MARK}", attribute.as_str()))
            && let Some(number) = self.text(&mark, "default").and_then(|number| number.parse::<usize>().ok())
            && let Some(spline) = self.splines.get(number)
        {
            return Ok(Some(Values::Spline(spline)));
        }
        if self.data.has_field(attribute, "spline") {
            return Err(fault(
                "holds a spline in a package with other layers, which is not read: unpack it, or save it as .usda",
            ));
        }
        let Some(samples) = self.field(attribute, "timeSamples") else { return Ok(None) };
        let Value::TimeSamples(samples) = samples.as_ref() else { return Ok(None) };
        let (mut codes, mut values, mut width) = (Vec::with_capacity(samples.len()), Vec::new(), 0);
        let mut gaps = Vec::new();
        for (code, value) in samples {
            if matches!(value, Value::ValueBlock) {
                gaps.push(*code);
                continue;
            }
            let row = numbers(value).ok_or_else(|| fault("holds a value of a kind that is not read"))?;
            if width == 0 {
                width = row.len();
            }
            if row.len() != width || width == 0 {
                return Err(fault("its time samples are of different kinds"));
            }
            if !code.is_finite() || !row.iter().copied().all(is_usable) {
                return Err(fault("holds a number that is not finite"));
            }
            if codes.last().is_some_and(|last| last >= code) {
                return Err(fault("its time samples are not in order of time"));
            }
            codes.push(*code);
            values.extend(row);
        }
        Ok((!codes.is_empty()).then_some(Values::Samples { codes, width, values, gaps }))
    }
}

/// What an attribute says over time.
pub enum Values<'a> {
    Spline(&'a Spline),
    /// Rows of `width` numbers at time codes; from each code of `gaps` to the next row there is none.
    Samples {
        codes: Vec<f64>,
        width: usize,
        values: Vec<f64>,
        gaps: Vec<f64>,
    },
}

/// The numbers of a value; quaternions as x, y, z, w.
pub fn numbers(value: &Value) -> Option<Vec<f64>> {
    Some(match value {
        Value::Double(v) => vec![*v],
        Value::Float(v) => vec![f64::from(*v)],
        Value::Half(v) => vec![f64::from(f32::from(*v))],
        Value::Int(v) => vec![f64::from(*v)],
        Value::Uint(v) => vec![f64::from(*v)],
        Value::Uchar(v) => vec![f64::from(*v)],
        Value::Int64(v) => vec![*v as f64],
        Value::Uint64(v) => vec![*v as f64],
        Value::Vec3d(v) => vec![v.x, v.y, v.z],
        Value::Vec3f(v) => [v.x, v.y, v.z].map(f64::from).to_vec(),
        Value::Vec3h(v) => [v.x, v.y, v.z].map(|v| f64::from(f32::from(v))).to_vec(),
        Value::Quatd(q) => vec![q.x, q.y, q.z, q.w],
        Value::Quatf(q) => [q.x, q.y, q.z, q.w].map(f64::from).to_vec(),
        Value::Quath(q) => [q.x, q.y, q.z, q.w].map(|v| f64::from(f32::from(v))).to_vec(),
        Value::Matrix4d(m) => m.0.to_vec(),
        _ => return None,
    })
}

impl Layer<'_> {
    pub fn number_or_zero(&self, field: &str) -> Option<f64> {
        let field = self.field(&Path::abs_root(), field)?;
        numbers(&field)
            .and_then(|all| all.first().copied())
            .filter(|number| number.is_finite() && number.abs() < 1e9)
    }
}
