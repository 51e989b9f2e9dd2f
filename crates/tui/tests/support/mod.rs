//! A bench for tests of the screens.

use badger_bench::Bench;
use badger_drive::Workshop;
use badger_tui::app::App;
use crossterm::event::{KeyCode, KeyEvent, KeyModifiers};
use ratatui::Terminal;
use ratatui::backend::TestBackend;
use std::fs::{self, File};
use std::path::PathBuf;
use std::time::{Duration, Instant};
use tempfile::TempDir;
use unicode_width::UnicodeWidthStr;

/// A bench with its own shelf and ledger, and the program on a screen that nobody sees.
pub struct Room {
    pub dir: TempDir,
    pub app: App,
    pub bench: Bench,
}

impl Room {
    /// Three drives: one with a table, one full of something, one empty.
    pub fn new() -> Self {
        let dir = tempfile::tempdir().unwrap();
        let mut divided = vec![0u8; 8 << 20];
        let mut mbr = badger_layout::mbr::Mbr::empty(0x209);
        mbr.entries[0] = badger_layout::mbr::Entry::new(0x07, 2048, 4096, true);
        mbr.entries[1] = badger_layout::mbr::Entry::new(0x83, 6144, 2048, false);
        divided[..512].copy_from_slice(&mbr.write(512)[0].1);
        for (name, bytes) in [("aa", divided), ("bb", vec![7; 8 << 20])] {
            fs::write(dir.path().join(format!("{name}.img")), bytes).unwrap();
        }
        File::create(dir.path().join("cc.img")).unwrap().set_len(16 << 20).unwrap();
        for name in ["aa", "bb", "cc"] {
            let text = format!(
                "backing = \"{name}.img\"\n[identity]\nmodel = \"Dunmore {name}\"\nserial = \"DS-{name}77\"\nbus = \"usb-sata\"\nadapter = \"Portable\"\n"
            );
            fs::write(dir.path().join(format!("{name}.drive.toml")), text).unwrap();
        }
        let workshop = Workshop { shelf: Some(dir.path().to_path_buf()), ..Workshop::default() };
        let bench = Bench { workshop, ledger: dir.path().join("ledger.db"), config: Default::default() };
        let mut room = Self { dir, app: App::new(bench.clone()), bench };
        room.wait_for("On the bench · 3 drives");
        room.wait_for("looks empty");
        room
    }

    pub fn screen(&mut self, width: u16, height: u16) -> String {
        let mut terminal = Terminal::new(TestBackend::new(width, height)).unwrap();
        self.app.refresh();
        terminal.draw(|frame| self.app.draw(frame)).unwrap();
        let buffer = terminal.backend().buffer();
        let line = |y: u16| {
            let cells: String = (0..width).map(|x| buffer[(x, y)].symbol()).collect();
            assert!(cells.width() <= usize::from(width) + cells.matches('\u{fe0f}').count());
            cells.trim_end().to_string()
        };
        (0..height).map(line).collect::<Vec<_>>().join("\n")
    }

    pub fn wait_for(&mut self, words: &str) -> String {
        self.wait_until(words, |screen| screen.contains(words))
    }

    /// Waits for a screen of which something holds.
    pub fn wait_until(&mut self, what: &str, holds: impl Fn(&str) -> bool) -> String {
        let start = Instant::now();
        loop {
            let screen = self.screen(120, 40);
            if holds(&screen) {
                return screen;
            }
            assert!(start.elapsed() < Duration::from_secs(20), "\"{what}\" does not come up in\n{screen}");
            std::thread::sleep(Duration::from_millis(5));
        }
    }

    pub fn key(&mut self, code: KeyCode) {
        self.app.key(KeyEvent::new(code, KeyModifiers::NONE));
    }

    /// Esc and another key in haste, as a terminal hands them over: in one piece.
    pub fn escape_and(&mut self, code: KeyCode) {
        self.app.key(KeyEvent::new(code, KeyModifiers::ALT));
    }

    /// Does what the palette finds under some words.
    pub fn find(&mut self, words: &str) {
        self.key(KeyCode::Char('/'));
        self.typed(words);
        self.key(KeyCode::Enter);
    }

    pub fn typed(&mut self, text: &str) {
        text.chars().for_each(|c| self.key(KeyCode::Char(c)));
    }

    pub fn content(&self, name: &str) -> Vec<u8> {
        fs::read(self.dir.path().join(format!("{name}.img"))).unwrap()
    }

    /// Source aa, target bb, up to the plan.
    pub fn up_to_the_plan(&mut self) {
        self.typed("s");
        self.key(KeyCode::Down);
        self.typed("tj");
        self.wait_for("At stake");
        self.key(KeyCode::Enter);
        self.wait_for("to copy");
    }

    /// The same, up to the question for the tail.
    pub fn up_to_the_release(&mut self) {
        self.up_to_the_plan();
        self.key(KeyCode::Enter);
        self.wait_for("Type bb77 to release Dunmore bb");
    }
}

/// Numbers that look like nothing in particular, each below what is asked for; the same for the same seed.
pub fn numbers(seed: u64) -> impl FnMut(u64) -> u64 {
    let mut random = seed.wrapping_mul(0x9e37_79b9_7f4a_7c15) | 1;
    move |below| {
        random ^= random << 13;
        random ^= random >> 7;
        random ^= random << 17;
        random % below
    }
}

/// A room with one drive more, which has files of every kind.
pub fn room_with_files() -> (Room, PathBuf) {
    let mut room = Room::new();
    let data = room.dir.path().join("data");
    for (name, bytes) in [
        ("Counts/2026/count-1.csv", b"day,species\n1,trout\n".repeat(500)),
        ("Counts/latin.txt", b"M\xe4nnerstimmen\n".to_vec()),
        ("Covers/cover.png", {
            let mut png = std::io::Cursor::new(Vec::new());
            image::RgbImage::from_fn(90, 60, |x, y| image::Rgb([x as u8, y as u8, 128])).write_to(&mut png, image::ImageFormat::Png).unwrap();
            png.into_inner()
        }),
        ("Covers/torn.png", b"\x89PNG\r\n\x1a\n torn".to_vec()),
        (".hidden", vec![0; 3]),
        ("empty", Vec::new()),
        ("large.bin", vec![9; 300_000]),
    ] {
        let path = data.join(name);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, bytes).unwrap();
    }
    std::os::unix::fs::symlink("Counts/latin.txt", data.join("link")).unwrap();
    let image = room.dir.path().join("files.img");
    File::create(&image).unwrap().set_len(24 << 20).unwrap();
    let made = std::process::Command::new("mke2fs").args(["-q", "-F", "-t", "ext4", "-L", "weir", "-d"]).arg(&data).arg(&image).status().unwrap();
    assert!(made.success());
    let text = "backing = \"files.img\"\n[identity]\nmodel = \"Brindle zz\"\nserial = \"BR-zz77\"\nbus = \"sata\"\n";
    fs::write(room.dir.path().join("zz.drive.toml"), text).unwrap();
    room.wait_for("On the bench · 4 drives");
    room.wait_for("weir");
    (room, image)
}

pub fn find_files(room: &mut Room) {
    room.key(KeyCode::Char('/'));
    "files of brindle".chars().for_each(|letter| room.key(KeyCode::Char(letter)));
    room.key(KeyCode::Enter);
    room.wait_for("by name");
    room.wait_for("Counts");
}
