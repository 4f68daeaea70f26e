//! Numbers: their extent, and the narrowest form that holds them exactly.

use super::Scalar;

/// The length of the number at the start of `bytes`; `None` where it is none by the grammar.
pub(super) fn length(bytes: &[u8]) -> Option<usize> {
    let digits = |from: usize| bytes.iter().skip(from).take_while(|b| b.is_ascii_digit()).count();
    let mut at = usize::from(bytes.first() == Some(&b'-'));
    let whole = digits(at);
    // A leading zero stands alone; what follows it is then refused as a value too many.
    let whole = if bytes.get(at) == Some(&b'0') { 1 } else { whole };
    if whole == 0 {
        return None;
    }
    at += whole;
    if bytes.get(at) == Some(&b'.') {
        let fraction = digits(at + 1);
        if fraction == 0 {
            return None;
        }
        at += 1 + fraction;
    }
    if matches!(bytes.get(at), Some(b'e' | b'E')) {
        let sign = usize::from(matches!(bytes.get(at + 1), Some(b'+' | b'-')));
        let exponent = digits(at + 1 + sign);
        if exponent == 0 {
            return None;
        }
        at += 1 + sign + exponent;
    }
    Some(at)
}

/// The number written as `text`, which the grammar allows.
pub(super) fn read(text: &str) -> Scalar<'_> {
    let whole = text.bytes().all(|b| b.is_ascii_digit() || b == b'-');
    if whole && text != "-0" {
        if let Ok(n) = text.parse() {
            return Scalar::Int(n);
        }
        return text.parse().map_or(Scalar::Decimal(text.into()), Scalar::UInt);
    }
    match text.parse::<f64>() {
        Ok(float) if float.is_finite() && holds(float, text) => Scalar::Float(float),
        _ => Scalar::Decimal(text.into()),
    }
}

/// Whether `float`, the nearest to `text`, gives back every digit of it.
fn holds(float: f64, text: &str) -> bool {
    // Any decimal of 15 significant digits survives a double, away from the ends of its range.
    let short = text.len() <= 15 && float.abs() > 1e-290 || !text.contains(['e', 'E']) && text.len() <= 16;
    short || digits_of(text) == digits_of(&format!("{float:e}"))
}

/// Significant digits and the exponent of the first one; equal for equal numbers.
fn digits_of(text: &str) -> (String, i64) {
    let (mantissa, exponent) = match text.split_once(['e', 'E']) {
        // An exponent beyond 64 bits is no double's; zero is known by its digits alone.
        Some((m, e)) => (m, e.strip_prefix('+').unwrap_or(e).parse().unwrap_or(i64::MAX / 2)),
        None => (text, 0),
    };
    let mantissa = mantissa.strip_prefix('-').unwrap_or(mantissa);
    let (whole, fraction) = mantissa.split_once('.').unwrap_or((mantissa, ""));
    let all = format!("{whole}{fraction}");
    let kept = all.trim_start_matches('0');
    let lead = (all.len() - kept.len()) as i64;
    let kept = kept.trim_end_matches('0');
    if kept.is_empty() {
        return (String::new(), 0);
    }
    (kept.to_owned(), exponent + whole.len() as i64 - lead)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_number_in_the_narrowest_exact_form() {
        for (text, expected) in [
            ("0", Scalar::Int(0)),
            ("-0", Scalar::Float(-0.0)),
            ("9223372036854775807", Scalar::Int(i64::MAX)),
            ("-9223372036854775808", Scalar::Int(i64::MIN)),
            ("18446744073709551615", Scalar::UInt(u64::MAX)),
            ("18446744073709551616", Scalar::Decimal("18446744073709551616".into())),
            ("-9223372036854775809", Scalar::Decimal("-9223372036854775809".into())),
            ("1e400", Scalar::Decimal("1e400".into())),
            ("1e-400", Scalar::Decimal("1e-400".into())),
            ("0e-999999999999999999999", Scalar::Float(0.0)),
            ("0.1", Scalar::Float(0.1)),
            ("1.0", Scalar::Float(1.0)),
            ("5e-324", Scalar::Float(5e-324)),
            ("1.7976931348623157e308", Scalar::Float(f64::MAX)),
            ("0.30000000000000004", Scalar::Float(0.30000000000000004)),
            ("0.3000000000000000444", Scalar::Decimal("0.3000000000000000444".into())),
            ("100000000000000000000.0", Scalar::Float(1e20)),
            ("1.10", Scalar::Float(1.1)),
        ] {
            assert_eq!(read(text), expected, "{text}");
        }
    }
}
