//! What a deviation measured on its own past days, as it was kept: see `jobs/usual.rs`.

use crate::error::Result;
use crate::state::Base;
use calvex_answer::watch::{Rule as Compiled, Usual, decode_usual_day};
use std::io::Read;
use std::sync::Arc;

/// Bytes of a day when it is unpacked, at most.
const MAX_BYTES: u64 = 8 << 20;

/// What is kept of a deviation over what is read of that text ([`crate::auth::ReadScope::key`]); nothing for a rule of another form. A day that is damaged is left out.
///
/// # Errors
/// Where the database fails.
pub async fn kept(base: &Base, rule_id: u32, compiled: &Compiled, scope: &str) -> Result<Arc<Usual>> {
    let Some(key) = compiled.usual_key(scope) else { return Ok(Arc::default()) };
    let mut usual = Usual::default();
    for kept in base.store.usual(rule_id, key).await? {
        match unpacked(&kept.figures).as_deref().and_then(decode_usual_day) {
            Some(day) => usual.add(i64::from(kept.day), kept.step_ns, day),
            None => tracing::warn!(rule_id, day = kept.day, "a kept day of a rule is damaged and left out"),
        }
    }
    Ok(Arc::new(usual))
}

fn unpacked(packed: &[u8]) -> Option<Vec<u8>> {
    let mut bytes = Vec::new();
    zstd::Decoder::new(packed).ok()?.take(MAX_BYTES).read_to_end(&mut bytes).ok()?;
    Some(bytes)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_unpacked_is_bounded() {
        let bomb = zstd::encode_all(vec![0u8; 64 << 20].as_slice(), 3).unwrap();
        assert_eq!(unpacked(&bomb).unwrap().len() as u64, MAX_BYTES);
        assert_eq!(unpacked(b"no frame"), None);
    }
}
