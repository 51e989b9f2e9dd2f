//! What Dig shows of a tree: previews, searches and counts, and what is said where not all of it can be read.

use badger_bench::Bench;
use badger_bench::browse::preview::{BYTES, Body, Look, Looker, Wish};
use badger_bench::browse::rows::{Counted, Row, Sort};
use badger_bench::browse::work::{self, News, Searched};
use badger_bench::volume::Opened;
use badger_drive::Workshop;
use badger_fs::tree::{NodeKind, find};
use rstest::rstest;
use std::fs;
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use std::sync::mpsc::channel;
use std::time::{Duration, Instant};
use tempfile::TempDir;

fn png(width: u32, height: u32) -> Vec<u8> {
    let mut out = std::io::Cursor::new(Vec::new());
    image::RgbImage::from_fn(width, height, |x, y| image::Rgb([x as u8, y as u8, 128])).write_to(&mut out, image::ImageFormat::Png).unwrap();
    out.into_inner()
}

fn bench() -> Bench {
    Bench { workshop: Workshop::default(), ledger: "/nowhere/ledger.db".into(), config: Default::default() }
}

/// A folder with files of every kind, opened.
fn folder() -> (TempDir, Arc<Opened>) {
    let dir = tempfile::tempdir().unwrap();
    let utf16 = |text: &str| [vec![0xff, 0xfe], text.encode_utf16().flat_map(u16::to_le_bytes).collect()].concat();
    let high = |text: &str| [vec![0xfe, 0xff], text.encode_utf16().flat_map(u16::to_be_bytes).collect()].concat();
    let files: [(&str, Vec<u8>); 10] = [
        ("notes/plain.txt", "day\tspecies\r\n1\ttrout\r\n".into()),
        ("notes/western.txt", b"M\xe4nnerstimmen\n".to_vec()),
        ("notes/low.txt", utf16("Fähre 7\n")),
        ("notes/high.txt", high("Fähre 8\n")),
        ("notes/long.txt", "a line of the count\n".repeat(20_000).into()),
        ("covers/cover.png", png(90, 60)),
        ("covers/torn.png", png(90, 60)[..80].to_vec()),
        ("covers/wrong.png", [&png(9, 6)[..16], &[0xff; 40]].concat()),
        ("tape.bin", (0u32..900_000).map(|at| (at.wrapping_mul(2_654_435_761) >> 24) as u8).collect()),
        ("empty", Vec::new()),
    ];
    for (name, bytes) in files {
        let path = dir.path().join(name);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, bytes).unwrap();
    }
    std::os::unix::fs::symlink("notes/plain.txt", dir.path().join("link")).unwrap();
    let opened = Arc::new(bench().open_tree(dir.path(), None).unwrap());
    (dir, opened)
}

fn looked(opened: &Arc<Opened>, path: &str, offset: u64, through: bool) -> Look {
    let looker = Looker::start(opened.clone());
    looker.wish(Wish { path: path.into(), node: find(&*opened.tree, path).unwrap(), offset, through });
    let start = Instant::now();
    loop {
        if let Some(look) = looker.take() {
            return look;
        }
        assert!(start.elapsed() < Duration::from_secs(20), "no preview of {path}");
        std::thread::sleep(Duration::from_millis(2));
    }
}

#[rstest]
#[case::plain("notes/plain.txt", "UTF-8", "day    species", 2)]
#[case::western("notes/western.txt", "Windows-1252", "Männerstimmen", 1)]
#[case::low("notes/low.txt", "UTF-16, low byte first", "Fähre 7", 1)]
#[case::high("notes/high.txt", "UTF-16, high byte first", "Fähre 8", 1)]
fn text_is_shown_in_its_own_letters(#[case] path: &str, #[case] encoding: &str, #[case] first: &str, #[case] count: usize) {
    let (_dir, opened) = folder();
    match looked(&opened, path, 0, false).body {
        Body::Text(said, lines) => assert_eq!((said, lines[0].trim_start_matches('\u{feff}'), lines.len()), (encoding, first, count)),
        _ => panic!("{path} is no text"),
    }
}

#[test]
fn a_long_text_says_how_much_more_there_is() {
    let (_dir, opened) = folder();
    let Body::Text(_, lines) = looked(&opened, "notes/long.txt", 0, false).body else { panic!("no text") };
    assert_eq!(lines.last().unwrap(), "… 268,928 more bytes");
}

#[rstest]
#[case::whole("covers/cover.png", Some((90, 60)))]
#[case::torn("covers/torn.png", None)]
#[case::wrong("covers/wrong.png", None)]
fn a_picture_is_drawn_or_is_not_one(#[case] path: &str, #[case] wanted: Option<(u32, u32)>) {
    let (_dir, opened) = folder();
    let look = looked(&opened, path, 0, false);
    match (look.body, wanted) {
        (Body::Picture { size, width, dots }, Some(wanted)) => assert!(size == wanted && (dots.len() as u32).is_multiple_of(width)),
        (Body::Picture { .. }, None) => panic!("{path} is drawn"),
        (_, wanted) => assert!(wanted.is_none(), "{path} is not drawn"),
    }
    assert_eq!(look.format.unwrap().name, "PNG");
}

#[test]
fn bytes_are_shown_from_wherever_somebody_is() {
    let (dir, opened) = folder();
    let tape = fs::read(dir.path().join("tape.bin")).unwrap();
    for offset in [0, 1024, 899_072] {
        let look = looked(&opened, "tape.bin", offset as u64, offset == 0);
        assert!(look.bytes == tape[offset..tape.len().min(offset + BYTES)] && look.read_through == (offset == 0));
        assert!(look.lost.is_empty() && look.trouble.is_none() && look.sector.is_none());
    }
}

#[test]
fn folders_links_and_nothing_say_what_they_are() {
    let (_dir, opened) = folder();
    let Body::Folder(folders, files, bytes) = looked(&opened, "/", 0, false).body else { panic!("no folder") };
    assert_eq!((folders, files), (2, 3));
    assert!(bytes >= 900_000);
    assert!(matches!(looked(&opened, "link", 0, false).body, Body::Link(to) if to == "notes/plain.txt"));
    assert!(matches!(looked(&opened, "empty", 0, true), Look { body: Body::Nothing, read_through: true, .. }));
}

/// All that a search says, until it is over.
fn searched(opened: &Arc<Opened>, text: &str) -> (Vec<String>, Searched) {
    let (send, news) = channel();
    work::search(opened, text, 3, &Arc::new(AtomicBool::new(false)), &send);
    let mut rows: Vec<Row> = Vec::new();
    loop {
        match news.recv_timeout(Duration::from_secs(20)).unwrap() {
            News::Found(3, more) => rows.extend(more),
            News::Searched(3, over) => {
                let mut names: Vec<String> = rows.iter().map(Row::path).collect();
                names.sort();
                return (names, over);
            }
            _ => panic!("news of something else"),
        }
    }
}

fn counted(opened: &Arc<Opened>, path: &str) -> Counted {
    let (send, news) = channel();
    work::count(opened, path.into(), find(&*opened.tree, path).unwrap(), &send);
    match news.recv_timeout(Duration::from_secs(20)).unwrap() {
        News::Counted(_, counted) => counted,
        _ => panic!("news of something else"),
    }
}

#[rstest]
#[case::words("long txt", &["/notes/long.txt"])]
#[case::letters_of_any_size("PLAIN", &["/notes/plain.txt"])]
#[case::kind(":pic", &["/covers/cover.png", "/covers/torn.png", "/covers/wrong.png"])]
#[case::both("cover :picture", &["/covers/cover.png"])]
#[case::no_such_kind(":weir", &[])]
#[case::nothing("nowhere", &[])]
fn a_search_finds_by_words_and_by_content(#[case] text: &str, #[case] wanted: &[&str]) {
    let (_dir, opened) = folder();
    let (found, over) = searched(&opened, text);
    assert_eq!(found, wanted);
    assert_eq!(over, Searched { entries: 13, unread: 0, is_cut: false });
}

#[test]
fn a_pick_is_counted() {
    let (_dir, opened) = folder();
    assert_eq!(counted(&opened, "covers").files, 3);
    assert_eq!(counted(&opened, "tape.bin"), Counted { files: 1, bytes: 900_000, unread: 0 });
    assert_eq!(counted(&opened, "/").files, 10);
    let both = counted(&opened, "covers").with(counted(&opened, "notes"));
    assert_eq!((both.files, both.unread), (8, 0));
}

/// A folder whose block is gone holds nobody knows what: neither a search nor a count makes nothing of that.
#[test]
fn what_cannot_be_read_is_not_called_nothing() {
    let dir = tempfile::tempdir().unwrap();
    let (data, drive) = (dir.path().join("data"), dir.path().join("drive.img"));
    for name in ["letters/to-the-weir.txt", "tapes/one.wav", "tapes/two.wav"] {
        let path = data.join(name);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, "high water\n").unwrap();
    }
    let run = |command: &mut std::process::Command| {
        let out = command.output().unwrap();
        assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
        String::from_utf8(out.stdout).unwrap()
    };
    fs::File::create(&drive).unwrap().set_len(8 << 20).unwrap();
    run(std::process::Command::new("mke2fs").args(["-q", "-F", "-t", "ext4", "-b", "4096", "-O", "^inline_data", "-d"]).arg(&data).arg(&drive));
    let open = |path: &Path| Arc::new(bench().open_tree(path, None).unwrap());
    let whole = open(&drive);
    assert_eq!((counted(&whole, "tapes").files, counted(&whole, "tapes").unread), (2, 0));
    assert_eq!(searched(&whole, "wav").0.len(), 2);
    let block: usize = run(std::process::Command::new("debugfs").args(["-R", "blocks /tapes"]).arg(&drive)).trim().parse().unwrap();
    let mut bytes = fs::read(&drive).unwrap();
    bytes[block * 4096..(block + 1) * 4096].fill(0xff);
    fs::write(&drive, bytes).unwrap();
    let broken = open(&drive);
    let (found, over) = searched(&broken, "wav");
    assert!(found.is_empty() && over.unread == 1 && over.entries > 2, "{over:?}");
    let count = counted(&broken, "tapes");
    assert!(count.files == 0 && count.unread > 0, "{count:?}");
}

#[test]
fn a_folder_is_listed_with_its_rows() {
    let (_dir, opened) = folder();
    let (send, news) = channel();
    work::list(&opened, opened.tree.root().unwrap(), String::new(), 0, Sort::Size, &send);
    let News::Listed(path, rows, trouble) = news.recv_timeout(Duration::from_secs(20)).unwrap() else { panic!("no listing") };
    let names: Vec<&str> = rows.iter().map(|row| row.entry.name.shown.as_str()).collect();
    assert_eq!((path.as_str(), trouble), ("", None));
    assert_eq!(names, ["covers", "notes", "tape.bin", "link", "empty"]);
    assert!(rows[0].is_folder() && !rows[2].is_folder() && rows[2].entry.node.kind == NodeKind::File);
}
