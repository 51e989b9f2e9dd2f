//! The hashes that directory indexes are sorted by, as the kernel's "ext4 Data Structures and Algorithms" names them: the
//! legacy one, half MD4 and TEA, each over signed or unsigned bytes.

/// Ways to hash, as the root of an index names them; the unsigned ones come three behind.
const LEGACY: u8 = 0;
const HALF_MD4: u8 = 1;
const TEA: u8 = 2;
/// The greatest hash: it would be the end of a directory that is read in the order of hashes.
const END: u32 = 0x7fff_ffff;

/// How the names of a directory are hashed.
#[derive(Clone, Copy, Debug)]
pub struct Hasher {
    version: u8,
    is_signed: bool,
    seed: [u32; 4],
}

impl Hasher {
    /// By the version in the root of an index and what the super block says of signs; `None` where it is not known.
    pub fn new(version: u8, is_unsigned: bool, seed: [u32; 4]) -> Option<Self> {
        match version {
            LEGACY | HALF_MD4 | TEA => Some(Self { version, is_signed: !is_unsigned, seed }),
            3..=5 => Some(Self { version: version - 3, is_signed: false, seed }),
            _ => None,
        }
    }

    fn unit(self, byte: u8) -> u32 {
        if self.is_signed { byte as i8 as u32 } else { u32::from(byte) }
    }

    /// The hash of a name; its lowest bit is always clear.
    pub fn hash(self, name: &[u8]) -> u32 {
        let mut state = [0x6745_2301, 0xefcd_ab89, 0x98ba_dcfe, 0x1032_5476];
        if self.seed != [0; 4] {
            state = self.seed;
        }
        let hash = match self.version {
            LEGACY => self.legacy(name),
            HALF_MD4 => {
                for start in (0..name.len()).step_by(32) {
                    half_md4(&mut state, &self.words::<8>(&name[start..]));
                }
                state[1]
            }
            _ => {
                for start in (0..name.len()).step_by(16) {
                    tea(&mut state, &self.words::<4>(&name[start..]));
                }
                state[0]
            }
        } & !1;
        if hash == END << 1 { (END - 1) << 1 } else { hash }
    }

    fn legacy(self, name: &[u8]) -> u32 {
        let (mut first, mut second) = (0x12a3_fe2du32, 0x37ab_e8f9u32);
        for byte in name {
            let mut hash = second.wrapping_add(first ^ self.unit(*byte).wrapping_mul(7_152_373));
            if hash & 0x8000_0000 != 0 {
                hash = hash.wrapping_sub(0x7fff_ffff);
            }
            (second, first) = (first, hash);
        }
        first << 1
    }

    /// The beginning of a name as words, the first byte highest, filled up with its length.
    fn words<const N: usize>(self, name: &[u8]) -> [u32; N] {
        let len = name.len() as u32;
        let pad = len | len << 8;
        let pad = pad | pad << 16;
        let mut out = [pad; N];
        for (word, bytes) in out.iter_mut().zip(name.chunks(4)) {
            *word = bytes.iter().fold(pad, |word, byte| self.unit(*byte).wrapping_add(word << 8));
        }
        out
    }
}

fn half_md4(state: &mut [u32; 4], words: &[u32; 8]) {
    let choose = |x: u32, y: u32, z: u32| z ^ (x & (y ^ z));
    let most = |x: u32, y: u32, z: u32| (x & y).wrapping_add((x ^ y) & z);
    let parity = |x: u32, y: u32, z: u32| x ^ y ^ z;
    type Mix<'a> = &'a dyn Fn(u32, u32, u32) -> u32;
    let rounds: [(Mix, u32, [usize; 8], [u32; 4]); 3] = [
        (&choose, 0, [0, 1, 2, 3, 4, 5, 6, 7], [3, 7, 11, 19]),
        (&most, 0x5a82_7999, [1, 3, 5, 7, 0, 2, 4, 6], [3, 5, 9, 13]),
        (&parity, 0x6ed9_eba1, [3, 7, 2, 6, 1, 5, 0, 4], [3, 9, 11, 15]),
    ];
    let mut now = *state;
    for (mix, add, order, turns) in rounds {
        for (step, word) in order.into_iter().enumerate() {
            // The four words of the state take turns, from the last one back.
            let [a, b, c, d] = [0usize, 1, 2, 3].map(|place| (place + 4 - step % 4) % 4);
            now[a] = now[a].wrapping_add(mix(now[b], now[c], now[d])).wrapping_add(words[word].wrapping_add(add)).rotate_left(turns[step % 4]);
        }
    }
    state.iter_mut().zip(now).for_each(|(old, new)| *old = old.wrapping_add(new));
}

fn tea(state: &mut [u32; 4], key: &[u32; 4]) {
    let (mut low, mut high, mut sum) = (state[0], state[1], 0u32);
    for _ in 0..16 {
        sum = sum.wrapping_add(0x9e37_79b9);
        low = low.wrapping_add((high << 4).wrapping_add(key[0]) ^ high.wrapping_add(sum) ^ (high >> 5).wrapping_add(key[1]));
        high = high.wrapping_add((low << 4).wrapping_add(key[2]) ^ low.wrapping_add(sum) ^ (low >> 5).wrapping_add(key[3]));
    }
    state[0] = state[0].wrapping_add(low);
    state[1] = state[1].wrapping_add(high);
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    const LONG: &str = "Übung_für_Männerstimmen_und_ein_langer_Name";

    /// What `debugfs -R "dx_hash -h … -s …"` says.
    #[rstest]
    #[case::legacy(0, "hello", false, 0x3225_2546)]
    #[case::half_md4(1, "hello", false, 0x1746_da32)]
    #[case::tea(2, "hello", false, 0x6f5b_b1a8)]
    #[case::legacy_long(0, LONG, true, 0x88a5_0566)]
    #[case::half_md4_long(1, LONG, true, 0x3bd3_f54c)]
    #[case::tea_long(2, LONG, true, 0x31dd_e418)]
    fn names_hash_as_the_format_says(#[case] version: u8, #[case] name: &str, #[case] with_seed: bool, #[case] wanted: u32) {
        let seed = if with_seed { [0x0403_0201, 0x0807_0605, 0x0c0b_0a09, 0x100f_0e0d] } else { [0; 4] };
        assert_eq!(Hasher::new(version, false, seed).unwrap().hash(name.as_bytes()), wanted);
    }
}
