//! Severity: the 24 numbers of the OpenTelemetry data model, in six named ranges of four.
#![cfg_attr(not(test), expect(clippy::indexing_slicing, reason = "the rank of a severity is below six"))]

/// The six names in their order; each covers four numbers, the first of which is meant when the name is sent.
pub const SEVERITY_NAMES: [&str; 6] = ["trace", "debug", "info", "warn", "error", "fatal"];

/// How many severities have a name.
pub const SEVERITY_COUNT: usize = SEVERITY_NAMES.len();

/// 1 (least) to 24.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Severity(pub u8);

impl Default for Severity {
    fn default() -> Self {
        Severity::INFO
    }
}

impl Severity {
    /// What an event without a severity gets.
    pub const INFO: Severity = Severity(9);

    /// From a number of the data model.
    pub fn from_number(number: i64) -> Option<Self> {
        (1..=24).contains(&number).then_some(Severity(number as u8))
    }

    /// From one of the six names, in lower case.
    pub fn from_name(name: &str) -> Option<Self> {
        SEVERITY_NAMES.iter().position(|n| *n == name).map(|i| Severity(i as u8 * 4 + 1))
    }

    /// 0 (trace) to 5 (fatal).
    pub fn rank(self) -> usize {
        (usize::from(self.0.clamp(1, 24)) - 1) / 4
    }

    /// The name of its range.
    pub fn name(self) -> &'static str {
        SEVERITY_NAMES[self.rank()]
    }
}
