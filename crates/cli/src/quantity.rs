//! Quantities as people write them: `0.1deg`, `0.5mm`, `2%`.

use nimble_curve_core::ops::Tolerance;
use nimble_curve_core::space::Space;
use nimble_curve_core::validate::MOST_FRAMES;

/// An angle in degrees or radians, as radians.
pub fn angle(text: &str) -> Result<f64, String> {
    match parse(text)? {
        Quantity::Angle(radians) => Ok(radians),
        _ => Err(format!("'{text}' is not an angle: write it like 0.05deg")),
    }
}

/// A length, as metres.
pub fn length(text: &str) -> Result<f64, String> {
    match parse(text)? {
        Quantity::Length(metres) => Ok(metres),
        _ => Err(format!("'{text}' is not a length: write it like 0.5mm")),
    }
}

/// A range of frames, `FIRST:LAST`, both included.
pub fn frames(text: &str) -> Result<(f64, f64), String> {
    let bad = || format!("'{text}' is not a range of frames: write it like 1:48");
    let (first, last) = text.split_once(':').ok_or_else(bad)?;
    let number =
        |text: &str| text.trim().parse::<f64>().ok().filter(|frame| frame.is_finite()).ok_or_else(bad);
    let (first, last) = (number(first)?, number(last)?);
    if first > last {
        return Err(format!("'{text}' ends before it starts: write the first frame first"));
    }
    if last - first > MOST_FRAMES as f64 {
        return Err(format!(
            "'{text}' is a range of more than {MOST_FRAMES} frames, which are not worked with at once"
        ));
    }
    Ok((first, last))
}

/// Whole frames, `FIRST` or `FIRST:LAST`.
pub fn frames_from(text: &str) -> Result<(i64, Option<i64>), String> {
    let bad = || {
        format!("'{text}' is not a range of whole frames: write it like 12:48, or 12 for all from there on")
    };
    let number = |text: &str| text.trim().parse::<i64>().ok().filter(|frame| frame.abs() <= MOST_FRAMES);
    let (first, last) = match text.split_once(':') {
        None => (text, None),
        Some((first, last)) => (first, Some(number(last).ok_or_else(bad)?)),
    };
    Ok((number(first).ok_or_else(bad)?, last))
}

/// A tolerance: quantities separated by commas; kinds that are not given keep their default.
pub fn tolerance(text: &str) -> Result<Tolerance, String> {
    // A lone number is nearly always an angle or a length whose unit was forgotten; beside others it is that of numbers.
    if let Ok(Quantity::Number(_)) = parse(text)
        && !text.contains('%')
    {
        let text = text.trim();
        return Err(format!(
            "'{text}' has no unit: write {text}deg or {text}mm, or {text}% for numbers without one"
        ));
    }
    let has_unit = |part: &str| part.contains('%') || !matches!(parse(part), Ok(Quantity::Number(_)));
    if !text.split(',').map(str::trim).any(has_unit) {
        return Err(format!("'{text}' has no units: write them like 0.05deg,0.1mm,0.001"));
    }
    tolerance_over(Tolerance::default(), text)
}

/// A tolerance in which kinds that are not given are those of another.
pub fn tolerance_over(mut tolerance: Tolerance, text: &str) -> Result<Tolerance, String> {
    for part in text.split(',').map(str::trim) {
        match parse(part)? {
            Quantity::Angle(radians) => tolerance.angle = radians,
            Quantity::Length(metres) => tolerance.length = metres,
            Quantity::Number(number) => tolerance.number = number,
        }
    }
    Ok(tolerance)
}

/// The metres in a unit given by name (`cm`) or number (`0.01`).
pub fn unit(text: &str) -> Result<f64, String> {
    let metres = Space::unit_metres(text).or_else(|| text.parse().ok());
    metres
        .filter(|m: &f64| m.is_finite() && *m > 0.0)
        .ok_or_else(|| format!("'{text}' is not a unit: write m, cm, mm, in, ft, or the metres in one unit"))
}

/// Beyond it a weight without a percent sign is taken for one that was forgotten.
const MOST_WEIGHT: f64 = 10.0;

/// A weight: a number or a percentage, zero and below allowed.
pub fn weight(text: &str) -> Result<f64, String> {
    let (number, unit) = text.strip_suffix('%').map_or((text, 1.0), |number| (number, 0.01));
    match number.trim().parse::<f64>() {
        Ok(weight) if weight.abs() > MOST_WEIGHT && unit == 1.0 => {
            Err(format!("a weight of {text} is {}%: write {text}% if that is meant", weight * 100.0))
        }
        Ok(weight) if weight.is_finite() => Ok(weight * unit),
        _ => Err(format!("'{text}' is not a weight: write a number like 0.5, or 50%")),
    }
}

/// A factor above zero.
pub fn factor(text: &str) -> Result<f64, String> {
    match parse(text)? {
        Quantity::Number(factor) => Ok(factor),
        _ => Err(format!("'{text}' is not a factor: write a number like 1.2, or 120%")),
    }
}

#[derive(Debug, PartialEq)]
enum Quantity {
    /// Radians.
    Angle(f64),
    /// Metres.
    Length(f64),
    Number(f64),
}

fn parse(text: &str) -> Result<Quantity, String> {
    let end = text
        .find(|c: char| c.is_alphabetic() && c != 'e' && c != 'E' || c == '%' || c == '°')
        .unwrap_or(text.len());
    let (number, unit) = (text[..end].trim(), text[end..].trim());
    let bad = || format!("'{text}' is not a quantity: write a number and a unit, like 0.1deg, 0.5mm or 2%");
    let number: f64 = number.parse().map_err(|_| bad())?;
    if !(number.is_finite() && number > 0.0) {
        return Err(format!("'{text}' must be above zero"));
    }
    match unit {
        "deg" | "°" => Ok(Quantity::Angle(number.to_radians())),
        "rad" => Ok(Quantity::Angle(number)),
        "%" => Ok(Quantity::Number(number / 100.0)),
        "" => Ok(Quantity::Number(number)),
        unit => Space::unit_metres(unit).map(|metres| Quantity::Length(number * metres)).ok_or_else(bad),
    }
}

/// A whole number between two others, both included.
pub fn whole<T>(least: i64, most: i64) -> impl Fn(&str) -> Result<T, String> + Clone + Send + Sync + 'static
where
    T: TryFrom<i64>,
{
    move |text: &str| {
        let wrong = |why: &str| Err(format!("'{text}' {why}"));
        let Ok(number) = text.trim().parse::<i64>() else {
            return wrong("is not a whole number: write one like 12");
        };
        match T::try_from(number) {
            _ if number < least => wrong(&format!("is too small: {least} at least")),
            Ok(number_of) if number <= most => Ok(number_of),
            _ => wrong(&format!("is too large: {most} at most")),
        }
    }
}

/// A frame, or a number of frames, parts of them allowed.
pub fn frame_number(text: &str) -> Result<f64, String> {
    let number = text.trim().parse::<f64>().ok().filter(|number| number.is_finite());
    number.ok_or_else(|| format!("'{text}' is not a frame: write a number like 12 or 12.5"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn quantities_carry_units() {
        for (text, expected) in [
            ("180deg", Quantity::Angle(std::f64::consts::PI)),
            ("0.5 mm", Quantity::Length(0.0005)),
            ("1e-1cm", Quantity::Length(0.001)),
            ("2%", Quantity::Number(0.02)),
            ("0.25", Quantity::Number(0.25)),
        ] {
            assert_eq!(parse(text), Ok(expected), "{text}");
        }
        for text in ["", "deg", "0deg", "-1mm", "1parsec", "nan", "1deg2"] {
            assert!(parse(text).is_err(), "{text}");
        }
    }

    #[test]
    fn a_tolerance_sets_the_kinds_it_names() {
        let found = tolerance("1rad, 3mm").unwrap();
        assert_eq!((found.angle, found.length, found.number), (1.0, 0.003, Tolerance::default().number));
        assert!(tolerance("1deg,").is_err());
        assert!(tolerance("0.1").unwrap_err().contains("0.1deg"));
        assert_eq!(tolerance("1deg,0.1").unwrap().number, 0.1);
        assert_eq!(weight("80%"), Ok(0.8));
        assert!(weight("80").unwrap_err().contains("80%"));
    }
}
