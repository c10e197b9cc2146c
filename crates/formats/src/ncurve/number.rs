//! Numbers that survive the change of unit between file and core bit for bit.
//!
//! The file has degrees and frames, core has radians and ticks. A factor that is not a power of two loses bits in
//! both directions: about one radian value in ten has no `f64` of degrees that leads back to it. So a number is
//! read at twice the precision (as the unevaluated sum of two `f64`, after Dekker, Numer. Math. 18, 1971), and
//! written with as many digits as it takes to come back exactly: fifteen or fewer for what a person typed,
//! eighteen at times.

use std::borrow::Cow;

use schemars::{JsonSchema, Schema, SchemaGenerator, json_schema};
use serde::{Deserialize, Deserializer, Serialize, Serializer, de};
use serde_json::value::RawValue;

/// The largest power of ten that numbers are taken apart by: beyond it the second half of a sum would vanish.
const FARTHEST: i32 = 280;

/// Powers of ten that are `f64` exactly.
const POWERS: [f64; 23] = [
    1e0, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8, 1e9, 1e10, 1e11, 1e12, 1e13, 1e14, 1e15, 1e16, 1e17, 1e18,
    1e19, 1e20, 1e21, 1e22,
];

/// An unevaluated sum of two `f64`, the second at most half an ulp of the first.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Double {
    high: f64,
    low: f64,
}

impl Double {
    /// One.
    pub const ONE: Double = Double { high: 1.0, low: 0.0 };
    /// Radians in a degree, π/180.
    pub const RADIANS_PER_DEGREE: Double = Double { high: 0.017453292519943295, low: 2.9486522708701687e-19 };

    /// A quotient of whole numbers.
    pub fn ratio(numerator: i64, denominator: i64) -> Double {
        Double::whole(numerator.into()).divided_by(Double::whole(denominator.into()))
    }

    fn whole(n: i128) -> Double {
        let high = n as f64;
        Double { high, low: (n - high as i128) as f64 }
    }

    fn sum(a: f64, b: f64) -> Double {
        let high = a + b;
        let other = high - a;
        Double { high, low: (a - (high - other)) + (b - other) }
    }

    fn product(a: f64, b: f64) -> Double {
        let high = a * b;
        Double { high, low: a.mul_add(b, -high) }
    }

    /// The product.
    pub fn times(self, other: Double) -> Double {
        let p = Double::product(self.high, other.high);
        Double::sum(p.high, p.low + (self.high * other.low + self.low * other.high))
    }

    fn divided_by(self, other: Double) -> Double {
        let first = self.high / other.high;
        let rest = self.minus(other.times(Double { high: first, low: 0.0 }));
        let second = rest.high / other.high;
        let rest = rest.minus(other.times(Double { high: second, low: 0.0 }));
        let q = Double::sum(first, second);
        Double::sum(q.high, q.low + rest.high / other.high)
    }

    fn minus(self, other: Double) -> Double {
        let s = Double::sum(self.high, -other.high);
        Double::sum(s.high, s.low + (self.low - other.low))
    }

    fn power_of_ten(exponent: u32) -> Double {
        (0..exponent).fold(Double::ONE, |power, _| power.times(Double { high: 10.0, low: 0.0 }))
    }

    /// The nearest `f64`.
    fn rounded(self) -> f64 {
        self.high + self.low
    }

    /// Reads a decimal number; `None` where it is none or not finite.
    fn parse(text: &str) -> Option<Double> {
        let high: f64 = text.parse().ok()?;
        if !high.is_finite() || !text.bytes().next_back()?.is_ascii_digit() {
            return None;
        }
        let plain = Double { high, low: 0.0 };
        let (digits, exponent) = text.split_once(['e', 'E']).unwrap_or((text, "0"));
        let mut exponent: i32 = exponent.parse().ok()?;
        // Up to fifteen significant digits the f64 is taken at its word: it prints as these digits again.
        let count = digits.bytes().filter(u8::is_ascii_digit).skip_while(|&digit| digit == b'0').count();
        if !(16..=30).contains(&count) {
            return Some(plain);
        }
        let mut whole: i128 = 0;
        let mut after_point = false;
        for byte in digits.bytes() {
            match byte {
                b'0'..=b'9' => {
                    whole = whole * 10 + i128::from(byte - b'0');
                    exponent -= i32::from(after_point);
                }
                b'.' => after_point = true,
                _ => {}
            }
        }
        if exponent.abs() > FARTHEST {
            return Some(plain);
        }
        let power = Double::power_of_ten(exponent.unsigned_abs());
        let size = Double::whole(whole);
        let exact = if exponent < 0 { size.divided_by(power) } else { size.times(power) };
        let exact =
            if digits.starts_with('-') { Double { high: -exact.high, low: -exact.low } } else { exact };
        // `high` is the correctly rounded text; the rest is what rounding left out.
        Some(Double { high, low: exact.minus(plain).rounded() })
    }
}

/// A number of the file.
#[derive(Clone, Debug, PartialEq)]
pub struct Num {
    value: Double,
    /// How it is written, where its `f64` alone does not say enough.
    text: Option<String>,
}

impl Num {
    /// The number of the file that stands for `value` when one unit of the file is `factor` units in core.
    pub fn from_core(value: f64, factor: Double) -> Num {
        let plain = |high: f64| Num { value: Double { high, low: 0.0 }, text: None };
        if factor == Double::ONE || value == 0.0 {
            return plain(value);
        }
        let exact = Double { high: value, low: 0.0 }.divided_by(factor);
        // Twelve digits for what a person typed, fifteen where these do: their f64 is taken at its word.
        for digits in [12, 15] {
            if let Some(short) = exact.to_short(digits).map(plain)
                && short.to_core(factor) == value
            {
                return short;
            }
        }
        // The shortest digits that lead back to the f64 (Żmij, 2025), which mean a little more or less than it.
        let mut buffer = zmij::Buffer::new();
        let text = buffer.format(exact.high);
        if Num::parse(text).is_some_and(|num| num.to_core(factor) == value) {
            // Written as an f64 it has just these digits.
            return plain(exact.high);
        }
        for digits in 18..=21 {
            if let Some(text) = exact.to_digits(digits)
                && let Some(num) = Num::parse(&text)
                && num.to_core(factor) == value
            {
                return Num { text: Some(text), ..num };
            }
        }
        plain(exact.high)
    }

    fn parse(text: &str) -> Option<Num> {
        Some(Num { value: Double::parse(text)?, text: None })
    }

    /// The value in core when one unit of the file is `factor` units in core.
    pub fn to_core(&self, factor: Double) -> f64 {
        if factor == Double::ONE || self.value.high == 0.0 {
            // No sum here: it would lose the sign of a zero.
            return self.value.high;
        }
        self.value.times(factor).rounded()
    }
}

impl Double {
    /// The `f64` of the number with this many significant digits, at most fifteen; `None` where that takes more than one
    /// correctly rounded division (Clinger, PLDI 1990).
    fn to_short(self, digits: i32) -> Option<f64> {
        let exponent = self.high.abs().log10().floor() as i32;
        let shift = digits - 1 - exponent;
        if !(0..=22).contains(&shift) {
            return None;
        }
        let power = POWERS[shift as usize];
        let scaled = self.times(Double { high: power, low: 0.0 });
        Some((scaled.high.round() + (scaled.high - scaled.high.round() + scaled.low).round()) / power)
    }

    /// The number with this many significant digits; `None` where it is too large or small for that.
    fn to_digits(self, digits: u32) -> Option<String> {
        let exponent = self.high.abs().log10().floor() as i32;
        let shift = digits as i32 - 1 - exponent;
        if shift.abs() > FARTHEST {
            return None;
        }
        let power = Double::power_of_ten(shift.unsigned_abs());
        let scaled = if shift < 0 { self.divided_by(power) } else { self.times(power) };
        let whole = scaled.high.trunc() as i128;
        let fraction = (scaled.high - scaled.high.trunc()) + scaled.low;
        let whole = whole + fraction.round() as i128;
        Some(with_point(whole, shift))
    }
}

/// `whole · 10^-shift`, with a decimal point where that is short, else with an exponent.
fn with_point(whole: i128, shift: i32) -> String {
    if !(1..=24).contains(&shift) {
        return format!("{whole}e{}", -shift);
    }
    let width = shift as usize + 1;
    let digits = format!("{:0>width$}", whole.unsigned_abs());
    let (integer, fraction) = digits.split_at(digits.len() - shift as usize);
    format!("{}{integer}.{fraction}", if whole < 0 { "-" } else { "" })
}

impl Serialize for Num {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        if let Some(text) = &self.text {
            let raw = RawValue::from_string(text.clone()).map_err(serde::ser::Error::custom)?;
            return raw.serialize(serializer);
        }
        let value = self.value.high;
        let is_whole =
            value.fract() == 0.0 && value.abs() < 1e15 && !(value == 0.0 && value.is_sign_negative());
        if is_whole { serializer.serialize_i64(value as i64) } else { serializer.serialize_f64(value) }
    }
}

impl<'de> Deserialize<'de> for Num {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Num, D::Error> {
        let raw = <&RawValue>::deserialize(deserializer)?.get();
        Num::parse(raw).ok_or_else(|| de::Error::custom(format!("expected a number, found {}", shown(raw))))
    }
}

/// The beginning of a piece of JSON, for a message.
pub fn shown(raw: &str) -> String {
    let short: String = raw.chars().take(24).collect();
    if short.len() < raw.len() { format!("{short}…") } else { short }
}

impl JsonSchema for Num {
    fn schema_name() -> Cow<'static, str> {
        "Number".into()
    }

    fn inline_schema() -> bool {
        true
    }

    fn json_schema(_: &mut SchemaGenerator) -> Schema {
        json_schema!({ "type": "number" })
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn written(num: &Num) -> String {
        serde_json::to_string(num).unwrap()
    }

    fn frames() -> Double {
        Double::ratio(705_600_000, 30)
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(20_000))]
        #[test]
        fn every_radian_survives_being_written_in_degrees(mantissa in any::<u64>(), power in -40..40_i32) {
            let value = f64::from_bits(mantissa & 0x800f_ffff_ffff_ffff | 0x3ff0_0000_0000_0000) * 2f64.powi(power);
            let text = written(&Num::from_core(value, Double::RADIANS_PER_DEGREE));
            let back: Num = serde_json::from_str(&text).unwrap();
            prop_assert_eq!(back.to_core(Double::RADIANS_PER_DEGREE).to_bits(), value.to_bits(), "{}", text);
        }

        #[test]
        fn ordinary_radians_do_too(value in -30.0..30.0_f64) {
            for factor in [Double::RADIANS_PER_DEGREE, Double::RADIANS_PER_DEGREE.times(Double::ratio(24000, 1001)), frames()] {
                let text = written(&Num::from_core(value, factor));
                let back: Num = serde_json::from_str(&text).unwrap();
                prop_assert_eq!(back.to_core(factor).to_bits(), value.to_bits(), "{}", text);
            }
        }

        #[test]
        fn what_a_person_typed_is_written_as_typed(thousandths in -3_600_000..3_600_000_i64) {
            let typed = thousandths as f64 / 1000.0;
            let num: Num = serde_json::from_str(&typed.to_string()).unwrap();
            let back = written(&Num::from_core(num.to_core(Double::RADIANS_PER_DEGREE), Double::RADIANS_PER_DEGREE));
            prop_assert_eq!(back, typed.to_string());
        }
    }

    #[test]
    fn what_is_no_number_is_refused() {
        for text in ["\"12\"", "null", "[1]", "1e999", "NaN"] {
            assert!(serde_json::from_str::<Num>(text).is_err(), "{text}");
        }
        assert_eq!(written(&Num::from_core(-0.0, Double::ONE)), "-0.0");
        assert_eq!(written(&Num::from_core(30.0, Double::ONE)), "30");
        let zero: Num = serde_json::from_str("-0.0").unwrap();
        assert!(
            zero.to_core(Double::ONE).is_sign_negative()
                && zero.to_core(Double::RADIANS_PER_DEGREE).is_sign_negative()
        );
    }
}
