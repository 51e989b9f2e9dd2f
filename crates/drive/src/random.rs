//! Random numbers from the system, for samples that nobody can prepare for.

/// A random number.
///
/// # Panics
/// Where the system has no randomness to give, which only a machine that is not fully started does.
pub fn random() -> u64 {
    getrandom::u64().expect("the system gives random bytes")
}

/// A random number below `most`, or 0 where `most` is 0.
pub fn random_below(most: u64) -> u64 {
    random() % most.max(1)
}
