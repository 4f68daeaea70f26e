//! Values that stand in several pages of a column, moved into one dictionary that all of them use.
#![cfg_attr(
    not(test),
    expect(clippy::indexing_slicing, reason = "writes what this process built: numbers that it gave out itself")
)]

use super::LEVEL;
use crate::columns::{Blobs, Column, Dictionary, Interner, Joined, Texts, Values, encode_blobs, encode_texts};
use std::collections::HashMap;
use std::sync::Arc;

/// Moves values that stand in several pages into one dictionary for all; how many and their block.
pub fn share(made: &mut [Option<Column>]) -> Option<(usize, Vec<u8>)> {
    let first = made.iter().flatten().next()?;
    let mut block = Vec::new();
    let count = match &first.values {
        Values::Texts { .. } | Values::Messages(_) => {
            let mut coded: Vec<(&mut Texts, &mut Vec<u32>)> = made
                .iter_mut()
                .flatten()
                .filter_map(|c| match &mut c.values {
                    Values::Texts { dictionary, codes } => Some((dictionary, codes)),
                    Values::Messages(m) => Some((&mut m.templates, &mut m.codes)),
                    _ => None,
                })
                .collect();
            let shared = shared_of(&mut coded)?;
            encode_texts(&shared, LEVEL, &mut block);
            shared.len()
        }
        Values::Blobs { .. } => {
            let mut coded: Vec<(&mut Blobs, &mut Vec<u32>)> = made
                .iter_mut()
                .flatten()
                .filter_map(|c| match &mut c.values {
                    Values::Blobs { dictionary, codes } => Some((dictionary, codes)),
                    _ => None,
                })
                .collect();
            let shared = shared_of(&mut coded)?;
            encode_blobs(&shared, LEVEL, &mut block);
            shared.len()
        }
        _ => return None,
    };
    Some((count, block))
}

/// Finds what to share and recodes the pages by it; the most frequent values get the smallest codes.
fn shared_of<T: Joined>(coded: &mut [(&mut Dictionary<T>, &mut Vec<u32>)]) -> Option<Arc<Dictionary<T>>> {
    // In how many pages a value must stand to be worth reading for every page.
    let wanted = (coded.len() / 8).max(2);
    if coded.len() < 2 {
        return None;
    }
    let mut interner = Interner::<T>::default();
    let mut seen: Vec<(usize, usize)> = Vec::new();
    let mut global: Vec<Vec<u32>> = Vec::with_capacity(coded.len());
    for (dictionary, codes) in coded.iter() {
        let mut rows = vec![0usize; dictionary.len()];
        codes.iter().for_each(|c| rows[*c as usize] += 1);
        let mut ids = Vec::with_capacity(dictionary.len());
        for (value, rows) in dictionary.iter().zip(rows) {
            let code = interner.code(value);
            seen.resize(interner.len(), (0, 0));
            seen[code as usize].0 += 1;
            seen[code as usize].1 += rows;
            ids.push(code);
        }
        global.push(ids);
    }
    let mut common: Vec<u32> = (0..seen.len() as u32).filter(|c| seen[*c as usize].0 >= wanted).collect();
    if common.is_empty() {
        return None;
    }
    common.sort_by_key(|c| std::cmp::Reverse(seen[*c as usize].1));
    let mut shared = Dictionary::<T>::default();
    let mut shared_code: HashMap<u32, u32> = HashMap::with_capacity(common.len());
    for code in common {
        shared_code.insert(code, shared.push(interner.dictionary.get(code as usize)));
    }
    let shared = Arc::new(shared);
    for ((dictionary, codes), ids) in coded.iter_mut().zip(global) {
        let mut fresh = Dictionary { shared: Some(shared.clone()), ..Dictionary::default() };
        let recode: Vec<u32> = ids
            .iter()
            .enumerate()
            .map(|(old, id)| shared_code.get(id).copied().unwrap_or_else(|| fresh.push(dictionary.get(old))))
            .collect();
        codes.iter_mut().for_each(|c| *c = recode[*c as usize]);
        **dictionary = fresh;
    }
    Some(shared)
}
