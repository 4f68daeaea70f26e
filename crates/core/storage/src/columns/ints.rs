//! Whole numbers as bytes. The form is chosen by size; how many there are is known from outside.
//!
//! ```text
//! ints    := 0  value:zigzag                                         all equal
//!          | 1  runs:varint  (value:zigzag length:varint)*           runs of equal ones
//!          | 2  packed                                               each by itself
//!          | 3  first:zigzag  packed (of the steps, one fewer)       each by its step from the one before
//!          | 4  value:zigzag*                                        few, one behind another
//!          | 5  ints                                                 codes, by their distance from the newest
//! packed  := least:zigzag  unit:varint  width:u8  exceptions:varint  (gap:varint  high:varint)*  bits
//! ```
//!
//! A packed number is `least + unit * n` (wrapping); the low `width` bits of the `n`s stand one behind another, least
//! significant first, and fill whole bytes. Where a few `n`s are wider, an exception has its distance from the last
//! one (the first counts from 0) and the bits above: outliers do not widen the rest (after "patched" frame of
//! reference, Zukowski et al., "Super-Scalar RAM-CPU Cache Compression", 2006). Width 57 and above is written as 64.
//!
//! A code's distance is how far it lies below the next new one: 0 is a value not met before, where a dictionary stands in
//! the order in which its values come. What many interleaved requests repeat for a while (a trace, a parcel) has small
//! distances whatever its codes are.
#![cfg_attr(
    not(test),
    expect(clippy::indexing_slicing, reason = "writes what this process built: numbers that it gave out itself")
)]

use calvex_language::model::{put_varint, take_varint, unzigzag, zigzag};

/// Numbers of one list at most; a page has fewer, a dictionary of a chunk may have more.
const MAX_COUNT: usize = 1 << 22;
/// Steps of a long list that are looked at first.
const SAMPLE: usize = 64;
/// A list this short is tried one number behind another.
const FEW: usize = 32;
/// Widest packing that an unaligned read of eight bytes serves.
const MAX_WIDTH: u32 = 56;

fn varint_size(n: u64) -> usize {
    (64 - (n | 1).leading_zeros() as usize).div_ceil(7)
}

/// Appends `numbers`.
pub(super) fn encode(numbers: &[i64], out: &mut Vec<u8>) {
    let first = numbers.first().copied().unwrap_or(0);
    let runs = 1 + numbers.windows(2).filter(|w| w[0] != w[1]).count();
    if numbers.is_empty() || runs == 1 {
        out.push(0);
        return put_varint(out, zigzag(first));
    }
    let plain = Packing::of(numbers);
    let steps: Vec<i64> = if may_step(numbers, &plain) { steps_of(numbers).collect() } else { Vec::new() };
    let stepped = if steps.is_empty() { Packing::NONE } else { Packing::of(&steps) };
    if numbers.len() <= FEW {
        let plainly: usize = numbers.iter().map(|n| varint_size(zigzag(*n))).sum();
        if plainly <= plain.bytes.min(stepped.bytes + 2) {
            out.push(4);
            return numbers.iter().for_each(|n| put_varint(out, zigzag(*n)));
        }
    }
    let by_runs = if runs < numbers.len() / 4 { run_bytes(numbers) } else { usize::MAX };
    if by_runs <= plain.bytes.min(stepped.bytes + 9) {
        out.push(1);
        put_varint(out, runs as u64);
        for (value, length) in runs_of(numbers) {
            put_varint(out, zigzag(value));
            put_varint(out, length as u64);
        }
    } else if plain.bytes <= stepped.bytes + 9 {
        out.push(2);
        plain.write(numbers, out);
    } else {
        out.push(3);
        put_varint(out, zigzag(first));
        stepped.write(&steps, out);
    }
}

fn steps_of(numbers: &[i64]) -> impl Iterator<Item = i64> + '_ {
    numbers.windows(2).map(|w| w[1].wrapping_sub(w[0]))
}

/// Whether packing by steps could be the shorter, known by some of the steps: to look at all of them costs as much as
/// packing, and most lists are in no order.
fn may_step(numbers: &[i64], plain: &Packing) -> bool {
    if numbers.len() <= SAMPLE * 2 {
        return true;
    }
    let every = numbers.len() / SAMPLE;
    let sample: Vec<i64> = numbers.chunks(every).flat_map(|some| steps_of(&some[..some.len().min(2)])).collect();
    // Numbers all over a span have steps all over twice that span.
    Packing::of(&sample).width < plain.width
}

/// Appends `codes`, by their distances where that is shorter.
pub(super) fn encode_codes(codes: &[u32], out: &mut Vec<u8>) {
    let from = out.len();
    encode(&codes.iter().map(|c| i64::from(*c)).collect::<Vec<_>>(), out);
    let plainly = out.len() - from;
    if plainly <= codes.len() / 4 {
        return;
    }
    out.push(5);
    encode(&turned(codes.iter().map(|c| i64::from(*c)), |code, _| code), out);
    let by_distance = out.len() - from - plainly;
    if by_distance < plainly {
        out.drain(from..from + plainly);
    } else {
        out.truncate(from + plainly);
    }
}

/// Codes to distances, or distances to codes: both are what is left of the next new code; `code_of` returns the code by
/// the number and its counterpart.
fn turned(numbers: impl Iterator<Item = i64>, code_of: impl Fn(i64, i64) -> i64) -> Vec<i64> {
    let mut next = 0i64;
    let turn = |number: i64| {
        let other = next.wrapping_sub(number);
        next = next.max(code_of(number, other).saturating_add(1));
        other
    };
    numbers.map(turn).collect()
}

fn runs_of(numbers: &[i64]) -> impl Iterator<Item = (i64, usize)> + '_ {
    numbers.chunk_by(|a, b| a == b).map(|run| (run[0], run.len()))
}

fn run_bytes(numbers: &[i64]) -> usize {
    runs_of(numbers).map(|(value, length)| varint_size(zigzag(value)) + varint_size(length as u64)).sum()
}

/// How a list is packed, and what that takes.
struct Packing {
    least: i64,
    unit: u64,
    width: u32,
    /// How many numbers are wider.
    exceptions: usize,
    bytes: usize,
}

impl Packing {
    /// No packing at all: any other is shorter.
    const NONE: Packing = Packing { least: 0, unit: 1, width: 64, exceptions: 0, bytes: usize::MAX / 2 };

    fn of(numbers: &[i64]) -> Self {
        let count = numbers.len();
        let least = numbers.iter().min().copied().unwrap_or(0);
        let mut unit = 0u64;
        for n in numbers {
            unit = gcd(n.wrapping_sub(least) as u64, unit);
            if unit == 1 {
                break;
            }
        }
        let unit = unit.max(1);
        let width_of = |n: &i64| {
            let n = n.wrapping_sub(least) as u64;
            64 - (if unit == 1 { n } else { n / unit }).leading_zeros() as usize
        };
        // Counted in four places, for neighbours are mostly of one width, and one count would wait for the other.
        let mut counted = [[0u32; 65]; 4];
        let mut fours = numbers.chunks_exact(4);
        for four in fours.by_ref() {
            counted.iter_mut().zip(four).for_each(|(of_width, n)| of_width[width_of(n)] += 1);
        }
        fours.remainder().iter().for_each(|n| counted[0][width_of(n)] += 1);
        let of_width = |width: usize| counted.iter().map(|of_width| of_width[width] as usize).sum::<usize>();
        // From the widest down: what is wider than the width under trial becomes an exception.
        let (mut best, mut best_bytes, mut best_exceptions) = (64, count * 8, 0);
        let mut exceptions = 0;
        for width in (0..=64u32).rev() {
            let taken = if width > MAX_WIDTH { 64 } else { width as usize };
            let bytes = (count * taken).div_ceil(8) + exceptions * (2 + (64 - width as usize).div_ceil(7).min(4));
            if bytes < best_bytes {
                (best, best_bytes, best_exceptions) = (taken as u32, bytes, exceptions);
            }
            exceptions += of_width(width as usize);
        }
        let header = varint_size(zigzag(least)) + varint_size(unit) + 2;
        Packing { least, unit, width: best, exceptions: best_exceptions, bytes: best_bytes + header }
    }

    fn write(&self, numbers: &[i64], out: &mut Vec<u8>) {
        put_varint(out, zigzag(self.least));
        put_varint(out, self.unit);
        out.push(self.width as u8);
        let n = |value: i64| {
            let distance = value.wrapping_sub(self.least) as u64;
            if self.unit == 1 { distance } else { distance / self.unit }
        };
        let high = |n: u64| if self.width >= 64 { 0 } else { n >> self.width };
        let wide: Vec<(usize, u64)> = match self.exceptions {
            0 => Vec::new(),
            _ => numbers.iter().enumerate().map(|(at, v)| (at, high(n(*v)))).filter(|(_, high)| *high > 0).collect(),
        };
        put_varint(out, wide.len() as u64);
        let mut before = 0;
        for (at, high) in wide {
            put_varint(out, (at - before) as u64);
            put_varint(out, high);
            before = at;
        }
        let mask = if self.width >= 64 { u64::MAX } else { (1 << self.width) - 1 };
        let (mut held, mut bits) = (0u64, 0);
        out.reserve((numbers.len() * self.width as usize).div_ceil(8));
        for value in numbers {
            let low = n(*value) & mask;
            held |= low << bits;
            bits += self.width;
            if bits >= 64 {
                out.extend_from_slice(&held.to_le_bytes());
                bits -= 64;
                // What did not fit of the number; all of it did where it ends the word.
                held = low.checked_shr(self.width - bits).unwrap_or(0);
            }
        }
        out.extend_from_slice(&held.to_le_bytes()[..bits.div_ceil(8) as usize]);
    }
}

fn gcd(mut a: u64, mut b: u64) -> u64 {
    while b != 0 {
        (a, b) = (b, a % b);
    }
    a
}

/// Reads `count` numbers and moves `at` behind them; `None` where they do not decode.
pub(super) fn decode(bytes: &[u8], at: &mut usize, count: usize) -> Option<Vec<i64>> {
    if count > MAX_COUNT {
        return None;
    }
    let form = *bytes.get(*at)?;
    *at += 1;
    match form {
        0 => Some(vec![unzigzag(take_varint(bytes, at)?); count]),
        1 => {
            let mut out = Vec::with_capacity(count);
            for _ in 0..take_varint(bytes, at)? {
                let value = unzigzag(take_varint(bytes, at)?);
                let length = usize::try_from(take_varint(bytes, at)?).ok()?;
                if length > count - out.len() {
                    return None;
                }
                out.resize(out.len() + length, value);
            }
            (out.len() == count).then_some(out)
        }
        2 => unpack(bytes, at, count),
        3 => {
            let mut before = unzigzag(take_varint(bytes, at)?);
            let steps = unpack(bytes, at, count.checked_sub(1)?)?;
            let mut out = Vec::with_capacity(count);
            out.push(before);
            out.extend(steps.into_iter().map(|step| {
                before = before.wrapping_add(step);
                before
            }));
            Some(out)
        }
        4 => (0..count).map(|_| Some(unzigzag(take_varint(bytes, at)?))).collect(),
        // Not one within another: it would be read as deep as it is nested.
        5 if *bytes.get(*at)? != 5 => Some(turned(decode(bytes, at, count)?.into_iter(), |_, code| code)),
        _ => None,
    }
}

/// Moves `at` behind `count` numbers without reading them; `None` where they do not decode.
pub(super) fn skip(bytes: &[u8], at: &mut usize, count: usize) -> Option<()> {
    let form = *bytes.get(*at)?;
    *at += 1;
    match form {
        0 => take_varint(bytes, at).map(|_| ()),
        1 => {
            let runs = take_varint(bytes, at)?;
            skip_varints(bytes, at, runs.checked_mul(2)?)
        }
        2 => skip_packed(bytes, at, count),
        3 => {
            take_varint(bytes, at)?;
            skip_packed(bytes, at, count.checked_sub(1)?)
        }
        4 => skip_varints(bytes, at, count as u64),
        5 if *bytes.get(*at)? != 5 => skip(bytes, at, count),
        _ => None,
    }
}

fn skip_varints(bytes: &[u8], at: &mut usize, count: u64) -> Option<()> {
    (0..count).try_for_each(|_| take_varint(bytes, at).map(|_| ()))
}

fn skip_packed(bytes: &[u8], at: &mut usize, count: usize) -> Option<()> {
    skip_varints(bytes, at, 2)?;
    let width = *bytes.get(*at)? as usize;
    *at += 1;
    let wide = take_varint(bytes, at)?;
    skip_varints(bytes, at, wide.checked_mul(2)?)?;
    let length = count.checked_mul(width)?.div_ceil(8);
    *at = at.checked_add(length).filter(|end| *end <= bytes.len())?;
    Some(())
}

/// Reads `count` codes below `distinct` and moves `at` behind them; `None` where they do not decode.
pub(super) fn decode_codes(bytes: &[u8], at: &mut usize, count: usize, distinct: usize) -> Option<Vec<u32>> {
    let numbers = decode(bytes, at, count)?;
    let known = numbers.iter().all(|n| (*n as u64) < distinct as u64) && distinct <= u32::MAX as usize;
    known.then(|| numbers.into_iter().map(|n| n as u32).collect())
}

/// As [`decode`], of which only the numbers at some ascending indexes are asked for: others may be 0.
pub(super) fn decode_few(bytes: &[u8], at: &mut usize, count: usize, indexes: &[usize]) -> Option<Vec<i64>> {
    if count > MAX_COUNT || *bytes.get(*at)? != 2 {
        return decode(bytes, at, count);
    }
    *at += 1;
    let packed = Packed::open(bytes, at, count)?;
    let mut out = vec![0; count];
    for index in indexes {
        *out.get_mut(*index)? = packed.number(*index)?;
    }
    Some(out)
}

/// As [`decode_codes`], of which only those at some ascending indexes are asked for: others may be 0.
pub(super) fn decode_few_codes(
    bytes: &[u8],
    at: &mut usize,
    count: usize,
    distinct: usize,
    indexes: &[usize],
) -> Option<Vec<u32>> {
    let numbers = decode_few(bytes, at, count, indexes)?;
    let mut codes = vec![0; count];
    for index in indexes {
        let code = numbers.get(*index).and_then(|n| u32::try_from(*n).ok());
        *codes.get_mut(*index)? = code.filter(|code| (*code as usize) < distinct)?;
    }
    Some(codes)
}

/// A packed list, as it stands.
struct Packed<'a> {
    least: i64,
    unit: u64,
    width: usize,
    /// The indexes of wider numbers, ascending, and their high bits.
    exceptions: Vec<(usize, u64)>,
    bits: &'a [u8],
}

impl<'a> Packed<'a> {
    /// Reads what stands before the bits of `count` numbers, and moves `at` behind these.
    fn open(bytes: &'a [u8], at: &mut usize, count: usize) -> Option<Self> {
        let least = unzigzag(take_varint(bytes, at)?);
        let unit = take_varint(bytes, at)?;
        let width = *bytes.get(*at)? as usize;
        *at += 1;
        if width > MAX_WIDTH as usize && width != 64 {
            return None;
        }
        let wide = usize::try_from(take_varint(bytes, at)?).ok().filter(|n| *n <= count)?;
        let mut exceptions = Vec::with_capacity(wide);
        let mut index = 0usize;
        for _ in 0..wide {
            index = index.checked_add(usize::try_from(take_varint(bytes, at)?).ok()?)?;
            exceptions.push((index, take_varint(bytes, at)?));
        }
        let length = (count * width).div_ceil(8);
        let bits = bytes.get(*at..at.checked_add(length)?)?;
        *at += length;
        Some(Packed { least, unit, width, exceptions, bits })
    }

    fn value(&self, n: u64) -> i64 {
        self.least.wrapping_add(n.wrapping_mul(self.unit) as i64)
    }

    /// The number at `index`.
    fn number(&self, index: usize) -> Option<i64> {
        let bit = index.checked_mul(self.width)?;
        let rest = self.bits.get(bit >> 3..)?;
        let word = rest.first_chunk().copied().unwrap_or_else(|| {
            let mut last = [0; 8];
            last.iter_mut().zip(rest).for_each(|(to, from)| *to = *from);
            last
        });
        let mask = if self.width == 64 { u64::MAX } else { (1 << self.width) - 1 };
        let low = (u64::from_le_bytes(word) >> (bit & 7)) & mask;
        let high = match self.exceptions.binary_search_by_key(&index, |(index, _)| *index) {
            Ok(at) => self.exceptions.get(at)?.1.checked_shl(self.width as u32)?,
            Err(_) => 0,
        };
        Some(self.value(low | high))
    }
}

fn unpack(bytes: &[u8], at: &mut usize, count: usize) -> Option<Vec<i64>> {
    let packed = Packed::open(bytes, at, count)?;
    let (least, unit, width) = (packed.least, packed.unit, packed.width);
    let mut out: Vec<i64> = match width {
        0 => vec![least; count],
        64 => {
            let words = packed.bits.chunks_exact(8);
            words.map(|c| packed.value(u64::from_le_bytes(c.try_into().unwrap_or_default()))).collect()
        }
        _ => {
            let mask = (1u64 << width) - 1;
            // Eight bytes more, so that the last number is read like the first.
            let mut padded = Vec::with_capacity(packed.bits.len() + 8);
            padded.extend_from_slice(packed.bits);
            padded.resize(packed.bits.len() + 8, 0);
            let read = |n: usize| {
                let bit = n * width;
                let word = padded.get(bit >> 3..).and_then(|b| b.first_chunk()).map_or(0, |b| u64::from_le_bytes(*b));
                (word >> (bit & 7)) & mask
            };
            if unit == 1 {
                (0..count).map(|n| least.wrapping_add(read(n) as i64)).collect()
            } else {
                (0..count).map(|n| packed.value(read(n))).collect()
            }
        }
    };
    for (index, high) in &packed.exceptions {
        let low = out.get(*index)?.wrapping_sub(least) as u64 / unit.max(1);
        let n = low | high.checked_shl(width as u32)?;
        *out.get_mut(*index)? = packed.value(n);
    }
    Some(out)
}

#[cfg(test)]
mod tests;
