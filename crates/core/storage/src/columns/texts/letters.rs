//! Which letters texts hold: what is known of a list without its texts rules most words out.

/// ASCII letters in either case: those that a text must hold if words are to stand in it, or those that texts do hold. A
/// bit each, and one for what lies beyond ASCII.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Letters(u32);

/// Set where a text holds what lies beyond ASCII.
const BEYOND: u32 = 1 << 26;
/// Set in [`Letters::bits`].
const KNOWN: u32 = 1 << 31;

impl Letters {
    /// None.
    pub const NONE: Letters = Letters(0);
    /// All of them.
    pub const ALL: Letters = Letters(BEYOND | (BEYOND - 1));

    /// Those of a text.
    pub fn of(text: &str) -> Self {
        let bit = |byte: u8| match byte {
            0x80.. => BEYOND,
            b'a'..=b'z' | b'A'..=b'Z' => 1 << ((byte | 0x20) - b'a'),
            _ => 0,
        };
        Letters(text.bytes().fold(0, |all, byte| all | bit(byte)))
    }

    /// Both.
    #[must_use]
    pub fn with(self, other: Letters) -> Self {
        Letters(self.0 | other.0)
    }

    /// Whether texts of these letters may hold folded words of `wanted`. Letters beyond ASCII may fold to ASCII, and words
    /// may hold what lies beyond it where texts do not: folding makes some of ASCII.
    pub fn may_hold(self, wanted: Letters) -> bool {
        self.0 & BEYOND != 0 || wanted.0 & !self.0 & !BEYOND == 0
    }

    /// As a number that is not 0.
    pub fn bits(self) -> u32 {
        self.0 | KNOWN
    }

    /// From [`Letters::bits`]; none of 0.
    pub fn from_bits(bits: u32) -> Option<Self> {
        (bits & KNOWN != 0).then_some(Letters(bits & Letters::ALL.0))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn words_stand_where_their_letters_do() {
        let holds = |text: &str, word: &str| Letters::of(text).may_hold(Letters::of(word));
        assert!(holds("PX-00417", "px") && holds("Rear door", "rare3") && holds("", "12"));
        assert!(!holds("PX-00417", "pxa") && !holds("", "a"));
        // The sign for kelvin folds to k.
        assert!(holds("\u{212a}", "k"));
        assert_eq!(Letters::from_bits(Letters::of("az").bits()), Some(Letters::of("za")));
        assert_eq!((Letters::from_bits(0), Letters::from_bits(Letters::NONE.bits())), (None, Some(Letters::NONE)));
    }
}
