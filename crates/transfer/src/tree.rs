//! Hashes of whole drives as trees, so that a difference is found and not only stated, and so that empty stretches
//! of any length cost nothing. The construction is described in `docs/formats/hash-tree.md`.

use blake3::Hasher;

/// Bytes under one leaf.
pub const LEAF: u64 = 1 << 20;

/// A BLAKE3 hash.
pub type Hash = [u8; 32];

const NODE: &str = "zealous-badger hash tree node v1";
const ROOT: &str = "zealous-badger hash tree root v1";

/// The hash of one leaf: plain BLAKE3 of its bytes.
pub fn leaf(bytes: &[u8]) -> Hash {
    *blake3::hash(bytes).as_bytes()
}

/// Lower-case hex.
pub fn hex(hash: &Hash) -> String {
    blake3::Hash::from_bytes(*hash).to_hex().to_string()
}

/// Leaves of a drive of `size` bytes.
pub fn leaves(size: u64) -> u64 {
    size.div_ceil(LEAF)
}

/// Builds the root out of leaves in order, with memory for one hash a level.
pub struct Builder {
    node: Hasher,
    /// Complete subtrees, largest first: level and hash.
    stack: Vec<(u32, Hash)>,
    /// `zero[n]` is the subtree of 2^n leaves that are all zero.
    zero: Vec<Hash>,
    count: u64,
}

impl Default for Builder {
    fn default() -> Self {
        Self::new()
    }
}

impl Builder {
    /// An empty tree.
    pub fn new() -> Self {
        Self { node: Hasher::new_derive_key(NODE), stack: Vec::new(), zero: vec![leaf(&vec![0; LEAF as usize])], count: 0 }
    }

    fn join(&self, left: &Hash, right: &Hash) -> Hash {
        let mut hasher = self.node.clone();
        hasher.update(left);
        hasher.update(right);
        *hasher.finalize().as_bytes()
    }

    /// The hash of a whole leaf of zeroes.
    pub fn zero_leaf(&self) -> Hash {
        self.zero[0]
    }

    /// Adds a leaf.
    pub fn push(&mut self, leaf: Hash) {
        self.subtree(0, leaf);
    }

    fn subtree(&mut self, mut level: u32, mut hash: Hash) {
        self.count += 1 << level;
        while let Some((top, left)) = self.stack.last().copied()
            && top == level
        {
            self.stack.pop();
            hash = self.join(&left, &hash);
            level += 1;
        }
        self.stack.push((level, hash));
    }

    /// Adds `count` whole leaves of zeroes.
    pub fn push_zero(&mut self, mut count: u64) {
        while count > 0 {
            let fits = count.ilog2();
            let level = if self.count == 0 { fits } else { fits.min(self.count.trailing_zeros()) };
            while self.zero.len() <= level as usize {
                let last = self.zero[self.zero.len() - 1];
                self.zero.push(self.join(&last, &last));
            }
            self.subtree(level, self.zero[level as usize]);
            count -= 1 << level;
        }
    }

    /// The root for a drive of `size` bytes.
    pub fn root(&self, size: u64) -> Hash {
        let top = self.stack.iter().rev().map(|(_, hash)| *hash).reduce(|right, left| self.join(&left, &right));
        let mut hasher = Hasher::new_derive_key(ROOT);
        hasher.update(&size.to_le_bytes());
        hasher.update(&top.unwrap_or_default());
        *hasher.finalize().as_bytes()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    /// The definition, read straight from the description.
    fn by_definition(leaves: &[Hash]) -> Hash {
        if leaves.len() == 1 {
            return leaves[0];
        }
        let left = 1 << (leaves.len() - 1).ilog2();
        let mut hasher = Hasher::new_derive_key(NODE);
        hasher.update(&by_definition(&leaves[..left]));
        hasher.update(&by_definition(&leaves[left..]));
        *hasher.finalize().as_bytes()
    }

    proptest! {
        #[test]
        fn runs_of_zeroes_are_only_a_shortcut(runs in prop::collection::vec((any::<bool>(), 1u64..70), 1..8)) {
            let (mut long, mut short, mut all) = (Builder::new(), Builder::new(), Vec::new());
            for (zero, count) in runs {
                let hash = if zero { long.zero_leaf() } else { leaf(&[1]) };
                for _ in 0..count {
                    long.push(hash);
                    all.push(hash);
                }
                if zero { short.push_zero(count) } else { (0..count).for_each(|_| short.push(hash)) }
            }
            prop_assert_eq!(long.root(5), short.root(5));
            let mut hasher = Hasher::new_derive_key(ROOT);
            hasher.update(&5u64.to_le_bytes());
            hasher.update(&by_definition(&all));
            prop_assert_eq!(long.root(5), *hasher.finalize().as_bytes());
        }
    }

    #[rstest]
    fn a_petabyte_of_nothing_costs_nothing() {
        let mut builder = Builder::new();
        builder.push_zero(1 << 30);
        builder.push_zero((1 << 30) - 1);
        assert_eq!(builder.count, (1 << 31) - 1);
    }
}
