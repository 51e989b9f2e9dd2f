//! Volumes: each made small by its own maker, and filled.

use crate::sound::{Sound, list, shell, survey, text, tool, volume};
use std::path::Path;
use std::sync::LazyLock;

pub fn fat(input: &[u8]) {
    static SOUND: LazyLock<Sound> = LazyLock::new(|| {
        volume(1440, |path, data| {
            tool(&["mkfs.fat", "-F", "12", path]);
            for entry in std::fs::read_dir(data).expect("the data").flatten() {
                tool(&["mcopy", "-s", "-i", path, text(&entry.path()), "::/"]);
            }
        })
    });
    survey(SOUND.broken(input));
}

/// Its checksum over the boot region and over each entry set.
fn exfat_sums(bytes: &mut [u8]) {
    for region in bytes[..24 * 512].chunks_mut(12 * 512) {
        let sum = region[..11 * 512].iter().enumerate().filter(|(at, _)| !matches!(at, 106 | 107 | 112));
        let sum = sum.fold(0u32, |sum, (_, byte)| sum.rotate_right(1).wrapping_add(u32::from(*byte)));
        region[11 * 512..].chunks_mut(4).for_each(|word| word.copy_from_slice(&sum.to_le_bytes()));
    }
    for at in (24 * 512..bytes.len() - 32).step_by(32).filter(|at| at % 32 == 0) {
        let len = (usize::from(bytes[at + 1]) + 1) * 32;
        if bytes[at] != 0x85 || !(3..=19).contains(&(len / 32)) || at + len > bytes.len() || bytes[at + 32] != 0xc0 {
            continue;
        }
        let set = &mut bytes[at..at + len];
        let sum = set.iter().enumerate().filter(|(at, _)| !matches!(at, 2 | 3));
        let sum = sum.fold(0u16, |sum, (_, byte)| sum.rotate_right(1).wrapping_add(u16::from(*byte)));
        set[2..4].copy_from_slice(&sum.to_le_bytes());
    }
}

pub fn exfat(input: &[u8]) {
    static SOUND: LazyLock<Sound> = LazyLock::new(|| {
        volume(4096, |path, data| {
            tool(&["mkfs.exfat", "-c", "4K", path]);
            // Its driver insists on a block device; the loop device has it for as long as it is filled.
            shell(&format!(
                "d=$(losetup -f --show {path}); mkdir {path}.mnt; mount.exfat-fuse $d {path}.mnt; cp -r {}/. {path}.mnt; umount {path}.mnt; sync; losetup -d $d",
                data.display()
            ));
        })
    });
    let mut bytes = SOUND.broken(input);
    exfat_sums(&mut bytes);
    survey(bytes);
}

pub fn ntfs(input: &[u8]) {
    static SOUND: LazyLock<Sound> = LazyLock::new(|| {
        volume(2048, |path, data| {
            tool(&["mkntfs", "-q", "-F", "-Q", "-c", "512", path]);
            shell(&format!("mkdir {path}.mnt; ntfs-3g {path} {path}.mnt; cp -r {}/. {path}.mnt; umount {path}.mnt", data.display()));
        })
    });
    survey(SOUND.broken(input));
}

fn ext_volume(features: &str) -> Sound {
    volume(1024, |path, data| {
        tool(&["mke2fs", "-q", "-F", "-t", "ext4", "-b", "1024", "-O", features, "-I", "256", "-d", text(data), path]);
    })
}

pub fn ext(input: &[u8]) {
    static SOUND: LazyLock<Sound> = LazyLock::new(|| ext_volume("^has_journal,^metadata_csum,inline_data"));
    survey(SOUND.broken(input));
}

fn le32(bytes: &[u8], at: usize) -> u32 {
    u32::from_le_bytes(bytes[at..at + 4].try_into().expect("four bytes"))
}

/// As ext4 counts it: begun with a seed, never inverted.
fn ext_sum(seed: u32, bytes: &[u8]) -> u32 {
    !crc32c::crc32c_append(!seed, bytes)
}

/// The checksums of the superblock, of the descriptor of the only group, and of each inode.
fn ext_sums_right(bytes: &mut [u8], table: usize) {
    let seed = ext_sum(u32::MAX, &bytes[1024 + 104..1024 + 120]);
    for number in 1..=le32(bytes, 1024 + 40).min(256) {
        let at = table + (number as usize - 1) * 256;
        let Some(inode) = bytes.get_mut(at..at + 256) else { break };
        let seed = ext_sum(ext_sum(seed, &number.to_le_bytes()), &inode[100..104]);
        inode[124..126].fill(0);
        inode[130..132].fill(0);
        let sum = ext_sum(seed, inode).to_le_bytes();
        inode[124..126].copy_from_slice(&sum[..2]);
        inode[130..132].copy_from_slice(&sum[2..]);
    }
    let group = &mut bytes[2048..2112];
    group[30..32].fill(0);
    let sum = ext_sum(ext_sum(seed, &0u32.to_le_bytes()), group).to_le_bytes();
    group[30..32].copy_from_slice(&sum[..2]);
    let sum = ext_sum(u32::MAX, &bytes[1024..2044]).to_le_bytes();
    bytes[2044..2048].copy_from_slice(&sum);
}

pub fn ext_sums(input: &[u8]) {
    static SOUND: LazyLock<Sound> = LazyLock::new(|| ext_volume("^has_journal,metadata_csum,64bit,inline_data"));
    let table = le32(&SOUND, 2048 + 8) as usize * 1024;
    let mut bytes = SOUND.broken(input);
    ext_sums_right(&mut bytes, table);
    survey(bytes);
}

/// Folders with files, as the maker of XFS takes them.
fn prototype(data: &Path) -> String {
    let file = data.join("folder 0/a longer name for sheet 0.csv");
    let copied = data.join("file");
    std::fs::copy(file, &copied).expect("a file");
    let mut out = "- \n0 0\nd--755 0 0\n".to_string();
    for folder in 0..5 {
        out += &format!("folder-{folder} d--755 0 0\n");
        (0..60).for_each(|number| out += &format!("a-longer-name-for-sheet-{number}.csv ---644 0 0 {}\n", copied.display()));
        out += "$\n";
    }
    out + "link l--777 0 0 folder-1\n$\n"
}

pub fn xfs(input: &[u8]) {
    static SOUND: LazyLock<Sound> = LazyLock::new(|| {
        volume(16 << 10, |path, data| {
            let proto = data.join("proto");
            std::fs::write(&proto, prototype(data)).expect("a list");
            // Without checksums: what stands behind one would not be reached.
            tool(&["mkfs.xfs", "-q", "--unsupported", "-m", "crc=0", "-p", text(&proto), path]);
        })
    });
    list(SOUND.broken(input));
}

pub fn btrfs(input: &[u8]) {
    static SOUND: LazyLock<Sound> =
        LazyLock::new(|| volume(16 << 10, |path, data| tool(&["mkfs.btrfs", "-q", "-n", "4096", "--mixed", "--rootdir", text(data), path])));
    let mut bytes = SOUND.broken(input);
    let id = SOUND[65_536 + 32..65_536 + 48].to_vec();
    for block in bytes.chunks_mut(4096).filter(|block| block.len() == 4096 && block[32..48] == id[..]) {
        let sum = crc32c::crc32c(&block[32..]).to_le_bytes();
        block[..4].copy_from_slice(&sum);
    }
    list(bytes);
}
