//! Values as typed, and what they can be compared as.

use std::cmp::Ordering;

/// A number that compares exactly with integers and as usual with floats.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Num {
    /// Set where it is a whole number.
    pub whole: Option<i128>,
    /// The nearest float.
    pub float: f64,
}

impl Num {
    /// A whole number.
    pub fn int(n: i128) -> Self {
        Num { whole: Some(n), float: n as f64 }
    }

    /// A float; it counts as whole where it is.
    pub fn float(f: f64) -> Self {
        let whole = (f.fract() == 0.0 && f.abs() < 1e30).then_some(f as i128);
        Num { whole, float: f }
    }

    /// From text like `409`, `-0.5`, `1e3`; `None` for anything else or beyond a float.
    pub fn parse(text: &str) -> Option<Self> {
        let digits = text.strip_prefix('-').unwrap_or(text);
        if !digits.starts_with(|c: char| c.is_ascii_digit()) || text.len() > 40 {
            return None;
        }
        if let Ok(n) = text.parse::<i128>() {
            return Some(Num::int(n));
        }
        text.parse::<f64>().ok().filter(|f| f.is_finite()).map(Num::float)
    }

    /// A number written in JSON that no narrower form holds; beyond a float it is infinite.
    pub fn decimal(text: &str) -> Self {
        match text.parse::<i128>() {
            Ok(n) => Num::int(n),
            Err(_) => Num::float(text.parse().unwrap_or(f64::NAN)),
        }
    }

    /// How the two stand to each other; `None` for NaN.
    pub fn order(self, other: Num) -> Option<Ordering> {
        match (self.whole, other.whole) {
            (Some(a), Some(b)) => Some(a.cmp(&b)),
            _ => self.float.partial_cmp(&other.float),
        }
    }

    /// The nearest double.
    pub fn rounded(self) -> f64 {
        self.float
    }

    /// Equal numbers give equal bits, whatever they are stored as.
    pub fn key_bits(self) -> u64 {
        (self.float + 0.0).to_bits()
    }
}

/// A value in a query.
#[derive(Debug, Clone, PartialEq)]
pub struct Literal {
    /// As typed, escapes resolved.
    pub text: String,
    /// Between quotes: means text only.
    pub quoted: bool,
    /// What it is against a number of the field at hand: units converted, times in nanoseconds.
    pub number: Option<Num>,
}

impl Literal {
    /// Whether it asks for numbers when an order is asked.
    pub fn is_numeric(&self) -> bool {
        self.number.is_some()
    }
}

/// Nanoseconds of a duration such as `250ms`, `1.5s`, `2h`, `1d`; the case of the unit makes no difference.
pub fn parse_duration_ns(text: &str) -> Option<f64> {
    const UNITS: [(&str, f64); 10] = [
        ("ns", 1.0),
        ("us", 1e3),
        ("ms", 1e6),
        ("s", 1e9),
        ("m", 60e9),
        ("h", 3600e9),
        ("d", 86_400e9),
        ("w", 604_800e9),
        ("sec", 1e9),
        ("min", 60e9),
    ];
    with_unit(text, &UNITS)
}

/// Seconds as a duration is written: `45s`, `15m`, `2h`, `7d`.
pub fn written_duration_s(s: u32) -> String {
    match s {
        s if s >= 86_400 && s % 86_400 == 0 => format!("{}d", s / 86_400),
        s if s >= 3600 && s % 3600 == 0 => format!("{}h", s / 3600),
        s if s >= 60 && s % 60 == 0 => format!("{}m", s / 60),
        s => format!("{s}s"),
    }
}

/// Bytes of a size such as `64KiB`, `2MB`; the case of the unit makes no difference.
pub fn parse_size_bytes(text: &str) -> Option<f64> {
    const UNITS: [(&str, f64); 7] = [
        ("B", 1.0),
        ("kB", 1e3),
        ("MB", 1e6),
        ("GB", 1e9),
        ("KiB", 1024.0),
        ("MiB", 1_048_576.0),
        ("GiB", 1_073_741_824.0),
    ];
    with_unit(text, &UNITS)
}

fn with_unit(text: &str, units: &[(&str, f64)]) -> Option<f64> {
    let split = text.find(|c: char| c.is_ascii_alphabetic())?;
    let (number, unit) = text.split_at(split);
    let (_, each) = units.iter().find(|(name, _)| name.eq_ignore_ascii_case(unit))?;
    Num::parse(number).map(|n| n.float * each)
}

/// What one unit of a field measures, known by the last word of its name.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum FieldUnit {
    /// Nanoseconds each.
    Duration(f64),
    /// Bytes each.
    Size(f64),
}

impl FieldUnit {
    /// The short name of the unit.
    pub fn name(self) -> &'static str {
        const DURATIONS: [(f64, &str); 7] =
            [(1.0, "ns"), (1e3, "us"), (1e6, "ms"), (1e9, "s"), (60e9, "min"), (3600e9, "h"), (86_400e9, "d")];
        const SIZES: [(f64, &str); 3] = [(1.0, "bytes"), (1024.0, "KiB"), (1_048_576.0, "MiB")];
        let (table, each): (&[(f64, &'static str)], f64) = match self {
            FieldUnit::Duration(each) => (&DURATIONS, each),
            FieldUnit::Size(each) => (&SIZES, each),
        };
        table.iter().find(|(unit, _)| *unit == each).map_or("", |(_, name)| name)
    }
}

/// The unit a field's name carries: `took_ms`, `wait_seconds`, `body_bytes`.
pub fn unit_of_field(name: &str) -> Option<FieldUnit> {
    let last = name.rsplit(['.', '_', '-']).next().unwrap_or(name);
    Some(match last {
        "ns" | "nanos" | "nanoseconds" => FieldUnit::Duration(1.0),
        "us" | "micros" | "microseconds" => FieldUnit::Duration(1e3),
        "ms" | "millis" | "milliseconds" => FieldUnit::Duration(1e6),
        "s" | "sec" | "secs" | "seconds" => FieldUnit::Duration(1e9),
        "minutes" | "mins" => FieldUnit::Duration(60e9),
        "hours" => FieldUnit::Duration(3600e9),
        "days" => FieldUnit::Duration(86_400e9),
        "bytes" => FieldUnit::Size(1.0),
        "kib" => FieldUnit::Size(1024.0),
        "mib" => FieldUnit::Size(1_048_576.0),
        _ => return None,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_compare_exactly() {
        let big = Num::int(9_007_199_254_740_993);
        assert_eq!(big.order(Num::int(9_007_199_254_740_992)), Some(Ordering::Greater));
        assert_eq!(Num::float(409.0).order(Num::int(409)), Some(Ordering::Equal));
        assert_eq!(Num::float(f64::NAN).order(Num::int(1)), None);
        assert_eq!(Num::float(-0.0).key_bits(), Num::int(0).key_bits());
        assert_eq!(Num::parse("1e10000000000000"), None);
    }

    #[test]
    fn units() {
        assert_eq!(parse_duration_ns("1.5s"), Some(1.5e9));
        assert_eq!(parse_duration_ns("1.5 s"), None);
        assert_eq!(parse_size_bytes("64KiB"), Some(65536.0));
        assert_eq!(unit_of_field("http.took_ms"), Some(FieldUnit::Duration(1e6)));
        assert_eq!(unit_of_field("plan"), None);
    }
}
