//! What people and drives say: descriptions, settings, sizes; previews of files; health.

use crate::sound::{Sound, folder, text};
use badger_bench::{Config, workshop};
use badger_drive::health::{Ask, ask};
use badger_drive::{Bus, size};
use badger_fs::{Folder, Tree};
use badger_licences::Book;
use badger_network::Uri;
use badger_people::kind::{self, Encoding};
use badger_salvage::limits;
use std::cell::Cell;
use std::io;

/// The description of a simulated drive, beside a file that it can have as its content.
pub fn description(input: &[u8]) {
    let dir = folder();
    std::fs::write(dir.path().join("weir.img"), vec![7; 1 << 20]).expect("a file");
    let path = dir.path().join("weir.drive.toml");
    std::fs::write(&path, input).expect("a description");
    let mut workshop = workshop();
    workshop.no_waiting = true;
    let Ok(drive) = workshop.source(&path) else { return };
    let size = drive.geometry().size_bytes;
    let sector = u64::from(drive.geometry().logical_sector);
    let mut buffer = vec![0; 64 << 10];
    for at in [0, size / 2 / sector * sector, size.saturating_sub(64 << 10) / sector * sector] {
        let len = (buffer.len() as u64).min(size - at) as usize;
        let _ = drive.read_at(at, &mut buffer[..len]);
    }
}

pub fn descriptions() -> Vec<Vec<u8>> {
    let head = "backing = \"weir.img\"\n[identity]\nmodel = \"Ostrel Plain\"\nserial = \"SN-1\"\nbus = \"usb\"\nadapter = \"Box\"\nrotational = true\nlogical_sector = 512\nphysical_sector = 4096\n";
    let faults = "[[fault]]\nkind = \"unreadable\"\nlba = 100\nsectors = 8\nms = 2.5\n[[fault]]\nkind = \"flaky\"\nlba = 200\nsectors = 8\nchance = 0.5\n[[fault]]\nkind = \"drops\"\nafter_reads = 2\n";
    let pace = "[pace]\nread_mb_s = 100.0\nwrite_mb_s = 90\nseek_ms = 8\n";
    vec![format!("{head}{pace}{faults}").into_bytes(), format!("size = 1048576\n{}", head.replace("backing", "# ")).into_bytes()]
}

/// Settings, a book of licences, and whatever else is typed.
pub fn settings(input: &[u8]) {
    let dir = folder();
    let path = dir.path().join("config.toml");
    std::fs::write(&path, input).expect("a file");
    let _ = Config::read(&path);
    let typed = String::from_utf8_lossy(input);
    if let Ok(bytes) = size::parse(&typed) {
        let _ = (size::human(bytes), size::thousands(bytes));
    }
    let _ = (limits::spanned(&typed), limits::rests(&typed), badger_layout::Guid::parse(&typed));
    let _ = Uri::parse(&typed);
    if let Ok(book) = Book::parse(&typed) {
        assert!(Book::parse(&book.text()).is_ok(), "a book that is kept is read again");
    }
}

pub fn some_settings() -> Vec<Vec<u8>> {
    let uris = ["nbd://weir.example:10809/drive%201", "nbds://[::1]/x", "nbd+unix:///export?socket=/run/badger.sock"];
    let texts = [badger_licences::SAMPLE, "destination = \"/srv/bench\"\ncolours = \"light\"\n", "1.5 TiB", "90s", "2m/10m"];
    uris.iter().chain(&texts).map(|text| text.as_bytes().to_vec()).collect()
}

/// A file that somebody looks at.
pub fn preview(input: &[u8]) {
    let dir = folder();
    std::fs::write(dir.path().join("file"), input).expect("a file");
    let tree = Folder::open(dir.path()).expect("a folder");
    let node = badger_fs::tree::find(&tree, "file").expect("the file");
    let content = tree.open(&node, "").expect("its content");
    let format = kind::format(&input[..input.len().min(4096)]);
    let _ = kind::facts(&content, input, format);
    if let Some(encoding) = Encoding::of(input) {
        let _ = encoding.decode(input);
    }
}

/// The smallest files of some formats that say something of themselves.
pub fn files() -> Vec<Vec<u8>> {
    let dir = folder();
    let raw = dir.path().join("raw");
    std::fs::write(&raw, "name,rooms\nMossgate,4\n").expect("a file");
    let made = |command: String| std::process::Command::new("sh").args(["-ec", &command]).output().expect("a tool").stdout;
    let tar = made(format!("tar -C {} -c raw | head -c 2048", text(dir.path())));
    let mut jpeg = vec![0xff, 0xd8, 0xff, 0xe1, 0, 0x40];
    jpeg.extend(
        b"Exif\0\0II*\0\x08\0\0\0\x02\0\x0f\x01\x02\0\x05\0\0\0\x26\0\0\0\x32\x01\x02\0\x14\0\0\0\x2b\0\0\0\0\0\0\0Tide\0\x32026:01:02 03:04:05\0",
    );
    jpeg.extend([0xff, 0xc0, 0, 0x11, 8, 0, 16, 0, 16, 3, 1, 0x22, 0, 2, 0x11, 1, 3, 0x11, 1, 0xff, 0xd9]);
    let mut wave = b"RIFF\x24\0\0\0WAVEfmt \x10\0\0\0\x01\0\x02\0\x44\xac\0\0\x10\xb1\x02\0\x04\0\x10\0data\0\0\0\0".to_vec();
    wave.extend([0; 8]);
    let pdf =
        b"%PDF-1.4\n1 0 obj<</Type/Catalog/Pages 2 0 R>>endobj\n2 0 obj<</Type/Pages/Count 1/Kids[]>>endobj\ntrailer<</Root 1 0 R>>\n%%EOF".to_vec();
    let movie = b"\0\0\0\x14ftypisom\0\0\0\0isom\0\0\0\x74moov\0\0\0\x6cmvhd\0\0\0\0\0\0\0\0\0\0\0\0\0\0\x03\xe8\0\0\x07\xd0".to_vec();
    let tagged = b"ID3\x04\0\0\0\0\0\x1fTIT2\0\0\0\x05\0\0\x03TideTPE1\0\0\0\x05\0\0\x03Weir\xff\xfb\x90\0".to_vec();
    let gif = b"GIF89a\x10\0\x10\0\x80\0\0\0\0\0\xff\xff\xff;".to_vec();
    let mut zip = b"PK\x03\x04\x14\0\0\0\0\0".to_vec();
    zip.extend([0; 16]);
    zip.extend(b"\x08\0\0\0mimetypeapplication/vnd.oasis.opendocument.text");
    vec![tar, jpeg, wave, pdf, movie, tagged, gif, zip, vec![0xff, 0xfe, b'a', 0], b"<?xml version=\"1.0\"?><svg width=\"4\"/>".to_vec()]
}

/// A drive that answers with the next 512 bytes of the input.
struct Answers<'a>(&'a [u8], Cell<usize>);

impl Answers<'_> {
    fn next(&self) -> io::Result<[u8; 512]> {
        let at = self.1.replace(self.1.get() + 512);
        let bytes = self.0.get(at..at + 512).ok_or(io::ErrorKind::TimedOut)?;
        Ok(bytes.try_into().expect("so many"))
    }

    /// All bytes of such a page add up to nothing.
    fn summed(&self) -> io::Result<[u8; 512]> {
        let mut page = self.next()?;
        page[511] = 0;
        page[511] = page.iter().fold(0u8, |sum, byte| sum.wrapping_sub(*byte));
        Ok(page)
    }
}

impl Ask for Answers<'_> {
    fn smart(&self) -> io::Result<[u8; 512]> {
        self.summed()
    }
    fn thresholds(&self) -> io::Result<[u8; 512]> {
        self.summed()
    }
    fn calls_itself_sound(&self) -> io::Result<bool> {
        Ok(self.0[0] & 1 == 0)
    }
    fn statistics(&self, _page: u8) -> io::Result<[u8; 512]> {
        self.next()
    }
    fn nvme_log(&self, _page: u8) -> io::Result<[u8; 512]> {
        self.next()
    }
    fn scsi_log(&self, _page: u8) -> io::Result<Vec<u8>> {
        let page = self.next()?;
        Ok(page[..usize::from(page[0]) * 2].to_vec())
    }
}

pub fn health(input: &[u8]) {
    // Attributes, their thresholds, a list of pages of statistics and two of them.
    let mut sound = vec![0; 8 * 512];
    for (number, id) in [1u8, 5, 9, 12, 187, 194, 197, 198, 199, 231].into_iter().enumerate() {
        let at = 2 + number * 12;
        sound[at..at + 12].copy_from_slice(&[id, 0x33, 0, 100, 100, number as u8, 1, 0, 0, 0, 0, 0]);
        sound[512 + at..512 + at + 2].copy_from_slice(&[id, 10]);
    }
    sound[1024..1032].copy_from_slice(&[1, 0, 0, 0, 0, 0, 0, 0]);
    sound[1032..1040].copy_from_slice(&[7, 0, 1, 3, 4, 5, 6, 7]);
    let answers = Sound::new(sound).broken(input);
    let parsed = badger_drive::ata::AtaIdentity::parse(&answers[..512]);
    let _ = parsed.map(|identify| format!("{identify:?}"));
    for bus in [Bus::Sata, Bus::Nvme, Bus::Usb] {
        let health = ask(&Answers(&answers, Cell::new(0)), bus);
        let _ = (format!("{health:?}"), health.facts.lines(), health.facts.grown_since(&health.facts));
    }
}
