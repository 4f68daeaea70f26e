//! Syslog messages out of a stream of bytes (RFC 6587), each known by its own first bytes:
//!
//! | begins with | ends |
//! | --- | --- |
//! | `LENGTH SP <`, LENGTH a number without leading zero | after so many bytes behind the blank |
//! | anything else | at the next LF or NUL, whichever this stream uses, or where it ends |
//!
//! A stream uses one of the two. Its first message decides: where a priority or a length follows an LF, LF ends messages;
//! where a NUL comes before any such LF, NUL does, and an LF is text. Where neither comes within 8 KiB, it is LF. A first
//! message without a priority ends at the first of either.
//!
//! A stream that rests before any end was marked in it was written by a sender that marks no ends at all; what is there
//! then is cut where a priority and the beginning of a header follow. Once an end was marked, a rest means nothing: the
//! network may pause within any message.

/// Digits of a length at most.
const MAX_LENGTH_DIGITS: usize = 8;

/// Bytes of a first message in which it shows whether LF or NUL ends it.
const LOOK_AHEAD: usize = 8 << 10;

/// Cuts a stream into messages.
#[derive(Debug)]
pub struct Framer {
    held: Vec<u8>,
    max_bytes: usize,
    /// A message beyond the limit that is being passed over.
    passing: Option<Passing>,
    /// Whether the end of a message was marked, by a count or by a line's end.
    marked: bool,
    /// What ends messages without a length, once it is known.
    end: Option<u8>,
}

/// What is known of the end of a message without a length.
enum End {
    At(usize),
    /// More bytes are needed.
    Open,
}

/// How much of a message beyond the limit is passed over.
#[derive(Debug, Clone, Copy)]
enum Passing {
    /// So many bytes more; it is reported already.
    Counted(usize),
    /// Up to its end; so many bytes were passed. It is reported then, so that its size does not hang on where the network
    /// cut the stream.
    ToEnd(usize),
}

/// A message, or how large one was that was passed over.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Frame {
    /// Its bytes, without what marked its end.
    Message(Vec<u8>),
    /// It was larger than the limit.
    TooLarge(usize),
}

impl Frame {
    /// Bytes that it holds.
    pub fn bytes(&self) -> usize {
        match self {
            Frame::Message(bytes) => bytes.len(),
            Frame::TooLarge(_) => 0,
        }
    }
}

enum Head {
    /// Length of the message and of what stands before it.
    Counted(usize, usize),
    Delimited,
    /// More bytes are needed to decide.
    Unknown,
}

fn head(bytes: &[u8]) -> Head {
    let digits = bytes.iter().take(MAX_LENGTH_DIGITS + 1).take_while(|b| b.is_ascii_digit()).count();
    match bytes.first() {
        None => Head::Unknown,
        Some(b'1'..=b'9') if digits <= MAX_LENGTH_DIGITS => match bytes.get(digits) {
            None => Head::Unknown,
            Some(b' ') if bytes.get(digits + 1).is_none() => Head::Unknown,
            Some(b' ') if bytes.get(digits + 1) == Some(&b'<') => {
                let length = bytes.iter().take(digits).fold(0usize, |n, b| n * 10 + usize::from(b - b'0'));
                Head::Counted(length, digits + 1)
            }
            Some(_) => Head::Delimited,
        },
        Some(_) => Head::Delimited,
    }
}

impl Framer {
    /// For messages of at most `max_bytes`.
    pub fn new(max_bytes: usize) -> Self {
        Framer { held: Vec::new(), max_bytes, passing: None, marked: false, end: None }
    }

    /// Bytes of a message that has not ended.
    pub fn held_bytes(&self) -> usize {
        self.held.len()
    }

    /// Whether a rest of the stream may end the message that is held: only where none was ever marked.
    pub fn ends_by_rest(&self) -> bool {
        !self.marked && !self.held.is_empty() && matches!(head(&self.held), Head::Delimited)
    }

    /// Whether part of a message is held.
    pub fn is_empty(&self) -> bool {
        self.held.is_empty()
    }

    /// Takes bytes and gives the messages that are whole now.
    pub fn feed(&mut self, bytes: &[u8], out: &mut Vec<Frame>) {
        self.held.extend_from_slice(bytes);
        let mut at = 0;
        while let Some(used) = self.next(at, out) {
            at += used;
        }
        self.held.drain(..at.min(self.held.len()));
    }

    /// Works on what is held from `at`; how many bytes are done with, or `None` where more are needed.
    fn next(&mut self, at: usize, out: &mut Vec<Frame>) -> Option<usize> {
        let rest = self.held.get(at..).filter(|r| !r.is_empty())?;
        let end_of_line = || match self.end {
            Some(end) => memchr::memchr(end, rest),
            None => memchr::memchr2(b'\n', 0, rest),
        };
        match self.passing {
            Some(Passing::Counted(left)) => {
                let passed = left.min(rest.len());
                self.passing = (passed < left).then_some(Passing::Counted(left - passed));
                return Some(passed);
            }
            Some(Passing::ToEnd(passed)) => {
                let end = end_of_line();
                let here = end.unwrap_or(rest.len());
                self.passing = match end {
                    Some(_) => {
                        out.push(Frame::TooLarge(passed + here));
                        self.marked = true;
                        None
                    }
                    None => Some(Passing::ToEnd(passed.saturating_add(here))),
                };
                return Some(end.map_or(here, |end| end + 1));
            }
            None => {}
        }
        match head(rest) {
            Head::Unknown => None,
            Head::Counted(length, before) if length > self.max_bytes => {
                out.push(Frame::TooLarge(length));
                self.passing = Some(Passing::Counted(length));
                self.marked = true;
                Some(before)
            }
            Head::Counted(length, before) => {
                let message = rest.get(before..before + length)?;
                push(message, out);
                self.marked = true;
                Some(before + length)
            }
            Head::Delimited => match self.end_of(rest) {
                End::At(end) => {
                    match end <= self.max_bytes {
                        true => push(rest.get(..end).unwrap_or(rest), out),
                        false => out.push(Frame::TooLarge(end)),
                    }
                    self.marked = true;
                    self.end = rest.get(end).copied();
                    Some(end + 1)
                }
                End::Open if rest.len() > self.max_bytes => {
                    self.passing = Some(Passing::ToEnd(rest.len()));
                    Some(rest.len())
                }
                End::Open => None,
            },
        }
    }

    /// Where a message without a length ends.
    fn end_of(&self, rest: &[u8]) -> End {
        let first = |end: Option<usize>| end.map_or(End::Open, End::At);
        if let Some(end) = self.end {
            return first(memchr::memchr(end, rest));
        }
        let Some(line) = memchr::memchr2(b'\n', 0, rest) else { return End::Open };
        if rest.first() != Some(&b'<') || rest.get(line) == Some(&0) {
            return End::At(line);
        }
        // Looked through again at each read, so no more than so much; and nothing beyond decides, so that the outcome does
        // not hang on where the network cut the stream.
        let most = self.max_bytes.min(LOOK_AHEAD);
        let seen = rest.get(..=most).unwrap_or(rest);
        let lines = memchr::memchr2_iter(b'\n', 0, seen).map(|at| (at, seen.get(at + 1)));
        for (at, behind) in lines {
            match (seen.get(at), behind) {
                (Some(0), _) => return End::At(at),
                (_, Some(b'<' | b'1'..=b'9')) => return End::At(line),
                _ => {}
            }
        }
        if seen.len() > most { End::At(line) } else { End::Open }
    }

    /// Gives what is held as it is: the stream ended, or rests.
    pub fn flush(&mut self, out: &mut Vec<Frame>) {
        let held = std::mem::take(&mut self.held);
        match self.passing.take() {
            Some(Passing::ToEnd(passed)) => return out.push(Frame::TooLarge(passed)),
            Some(Passing::Counted(_)) => return,
            None => {}
        }
        let mut from = 0;
        for at in 1..held.len() {
            let (before, rest) = held.split_at(at);
            let message = before.get(from..).unwrap_or_default();
            if self.end.is_none() && rest.first() == Some(&b'\n') {
                push(message, out);
                from = at + 1;
            } else if begins(rest) {
                push(message, out);
                from = at;
            }
        }
        push(held.get(from..).unwrap_or_default(), out);
    }
}

fn push(message: &[u8], out: &mut Vec<Frame>) {
    let message = message.strip_suffix(b"\r").unwrap_or(message);
    let message = message.trim_ascii_end();
    if !message.is_empty() {
        out.push(Frame::Message(message.to_vec()));
    }
}

/// Whether a priority and the beginning of a header stand here.
fn begins(bytes: &[u8]) -> bool {
    let Some(rest) = bytes.strip_prefix(b"<") else { return false };
    let digits = rest.iter().take(4).take_while(|b| b.is_ascii_digit()).count();
    let Some(header) = rest.get(digits..).and_then(|r| r.strip_prefix(b">")) else { return false };
    (1..=3).contains(&digits) && (is_versioned(header) || super::old::month(header).is_some())
}

/// Whether a version of the standard header stands here.
fn is_versioned(header: &[u8]) -> bool {
    let short = header.get(..header.len().min(4)).unwrap_or_default();
    std::str::from_utf8(short).is_ok_and(|text| super::message::version(text).is_some())
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn all(pieces: &[&[u8]], max: usize) -> Vec<Frame> {
        let (mut framer, mut out) = (Framer::new(max), Vec::new());
        pieces.iter().for_each(|p| framer.feed(p, &mut out));
        framer.flush(&mut out);
        out
    }

    fn message(text: &str) -> Frame {
        Frame::Message(text.as_bytes().to_vec())
    }

    #[test]
    fn a_rest_ends_an_unmarked_message_only() {
        let mut framer = Framer::new(9000);
        let mut out = Vec::new();
        framer.feed(b"<13>no end is marked", &mut out);
        assert!(framer.ends_by_rest());
        for (marked, begun) in
            [(&b"9 <13>door "[..], &b"20 <13>half of a cou"[..]), (b"<13>a line\n", b"<13>half of a li")]
        {
            let (mut framer, mut out) = (Framer::new(9000), Vec::new());
            framer.feed(marked, &mut out);
            framer.feed(begun, &mut out);
            assert!(!framer.is_empty() && !framer.ends_by_rest(), "{begun:?}");
        }
        let (mut framer, mut out) = (Framer::new(9000), Vec::new());
        framer.feed(b"22 <13>a first half", &mut out);
        assert!(!framer.ends_by_rest(), "a count says how much is to come");
        framer.feed(b"!<13>n", &mut out);
        assert_eq!((out, framer.held_bytes()), (vec![message("<13>a first half!<13>n")], 0));
    }

    #[test]
    fn framings_are_told_apart() {
        let expected = [message("<13>door 1 opened"), message("<13>door 2 opened"), message("<13>door 3\nopened")];
        let reported = all(&[b"<13>door 1 opened\n<13>door 2 opened\r\n17 <13>door 3\nopened"], 100);
        assert_eq!(reported, expected, "lines, then counted");
        assert_eq!(all(&[b"<13>a\0<13>b\0"], 100), [message("<13>a"), message("<13>b")]);
        assert_eq!(all(&[b"<13>only one, no end"], 100), [message("<13>only one, no end")]);
        let unmarked = b"<13>1 - - - - - - a <b><34>Oct  4 02:10:00 x y: b<13>1 - - - - - - c";
        assert_eq!(all(&[unmarked], 100).len(), 3, "no ends at all");
        let (mut framer, mut out) = (Framer::new(9000), Vec::new());
        framer.feed(b"2026 was a year\n", &mut out);
        assert_eq!(out, [message("2026 was a year")], "a number without a priority behind it counts nothing");
    }

    #[test]
    fn an_end_by_nul_keeps_the_lines() {
        let two = [message("<13>a stack\n at lease\n at door"), message("<14>n\nm")];
        assert_eq!(all(&[b"<13>a stack\n at lease\n at door\0<14>n\nm\0"], 100), two);
        let lines = [message("<13>a stack"), message(" at lease"), message("<14>n"), message("m")];
        assert_eq!(all(&[b"<13>a stack\n at lease\n<14>n\nm\n"], 100), lines, "without a NUL each line is one");
        assert_eq!(all(&[b"<13>a stack\n at lease\n"], 100), lines[..2], "also where nothing follows");
        assert_eq!(all(&[b"123 bottles\n<13>b\n"], 100), [message("123 bottles"), message("<13>b")]);
    }

    #[test]
    fn what_ends_messages_is_decided_within_a_bound() {
        let (mut framer, mut out) = (Framer::new(1 << 20), Vec::new());
        framer.feed(b"<13>a", &mut out);
        framer.feed("\nb".repeat(LOOK_AHEAD / 2 - 10).as_bytes(), &mut out);
        assert!(out.is_empty(), "not decided yet");
        framer.feed("\nb".repeat(20).as_bytes(), &mut out);
        assert_eq!(out.len(), LOOK_AHEAD / 2 + 10, "each line but the last, which has not ended");
    }

    #[test]
    fn large_ones_are_passed_over_and_the_next_is_taken() {
        let reported = all(&[b"30 <", &[b'x'; 29], b"5 <ello", &[b'y'; 40], b"\nok\n"], 20);
        assert_eq!(reported, [Frame::TooLarge(30), message("<ello"), Frame::TooLarge(40), message("ok")]);
        let reported = all(&[&[b'y'; 15], &[b'y'; 15], b"yy\nok\n"], 20);
        assert_eq!(reported, [Frame::TooLarge(32), message("ok")], "its whole size, wherever it was cut");
        assert_eq!(all(&[&[b'y'; 15], &[b'y'; 15]], 20), [Frame::TooLarge(30)], "one that the stream's end ends");
    }

    proptest! {
        #[test]
        fn however_it_is_cut(bytes in prop::collection::vec(prop_oneof![Just(b'\n'), Just(0), Just(b'1'), Just(b' '), Just(b'<'), any::<u8>()], 0..80), cut in 0usize..80, max in 12usize..100) {
            let whole = all(&[&bytes], max);
            let (left, right) = bytes.split_at(cut.min(bytes.len()));
            prop_assert_eq!(all(&[left, right], max), whole);
        }
    }
}
