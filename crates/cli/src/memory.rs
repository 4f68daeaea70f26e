//! The allocator, and how soon it gives freed memory back to the system.

use libmimalloc_sys::{mi_option_get, mi_option_set, mi_option_t};

#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

/// `mi_option_purge_delay` of mimalloc 3: milliseconds for which freed memory is kept, to be used again.
const PURGE_DELAY: mi_option_t = 15;
/// What bursts of requests took is given back soon after them: of the second that is usual, several bursts add up.
const DELAY_MS: std::ffi::c_long = 100;

/// Gives freed memory back a tenth of a second after it was freed, unless the environment has another delay.
#[allow(unsafe_code)]
pub fn give_back_soon() {
    if std::env::var_os("MIMALLOC_PURGE_DELAY").is_none() {
        // SAFETY: the option is one that the allocator has, and both functions may be called at any time.
        unsafe {
            // Only where the option is what it is taken for: its default says so.
            if mi_option_get(PURGE_DELAY) == 1000 {
                mi_option_set(PURGE_DELAY, DELAY_MS);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    #[allow(unsafe_code)]
    fn the_delay_is_the_option_that_is_set() {
        give_back_soon();
        // SAFETY: as above.
        assert_eq!(unsafe { mi_option_get(PURGE_DELAY) }, DELAY_MS, "the allocator's options have other numbers now");
    }
}
