//! Job sheets of all kinds of jobs: everything stays on the page, and other programs can read both forms.

use badger_bench::drawing::{Anchor, Drawing, Fill, Shape, width};
use badger_bench::ribbon::{Part, Ribbon};
use badger_bench::sheet::{CELLS, DriveFacts, SheetData, Surface, draw};
use badger_inspect::Stretch;
use badger_transfer::{Line, Outcome, Report, Verdict};
use rstest::rstest;
use std::process::Command;

fn facts(name: &str, parts: u64) -> DriveFacts {
    let part = |at: u64| Part {
        number: at as u32 + 1,
        name: format!("{name} {at}"),
        content: if at.is_multiple_of(3) { String::new() } else { "NTFS".into() },
        start: at * 1_000_000_000,
        len: 900_000_000,
        used: (!at.is_multiple_of(2)).then_some(500_000_000),
    };
    DriveFacts {
        model: name.into(),
        serial: "TM25-0091-7F3C".into(),
        firmware: "1.04".into(),
        connection: "SATA in a USB box".into(),
        path: "/dev/sdb".into(),
        size_bytes: 250_059_350_016,
        sectors: (512, 4096),
        ribbon: Ribbon { size: 250_059_350_016, table: "GPT".into(), parts: (0..parts).map(part).collect(), said: String::new() },
    }
}

fn sheet(parts: u64, lost: u64, outcome: Outcome, long: bool) -> SheetData {
    let words =
        if long { "a very long name that goes on and on and nobody would ever write so on a drive or a job ".repeat(4) } else { "Tamarack".into() };
    let mut report = Report::new("/dev/sdb".into(), "/dev/sdc".into());
    report.outcome = outcome;
    report.reason = words.clone();
    report.lost = (0..lost).map(|at| Stretch { start: at * 777_777, sectors: 1 + at % 9 }).collect();
    report.lost_bytes = lost * 2048;
    report.hash.source = "ab".repeat(32);
    report.hash.target = "cd".repeat(32);
    for what in ["blocks", "table", "file-system", "boot", "licence"] {
        report.proof.push(Line::new(what, Verdict::Holds, words.clone()));
    }
    // Both ways of a long chain, broken in the middle, and what a machine takes.
    let links = ["uefi/system-partition", "uefi/loader", "uefi/stub", "bios/first-sector", "bios/core", "configuration", "kernel", "root", "initial"];
    let links = links.into_iter().chain(["drivers", "mounts", "machine/slot", "machine/firmware"]);
    for (link, at) in links.zip(0..) {
        let result = [Verdict::Holds, Verdict::Differs, Verdict::Fails, Verdict::NotChecked][at % 4];
        report.proof.push(Line { link: link.into(), ..Line::new("boot", result, "a link") });
    }
    let rates = (0..300).map(|at| (at % 7 != 0).then_some(1e8 + f64::from(at) * 1e5)).collect();
    SheetData {
        job: 12,
        workshop: words.clone(),
        ticket: "LR-207".into(),
        customer: words.clone(),
        technician: "Tobiah".into(),
        started: 1_790_000_000,
        ended: 1_790_000_900,
        keep_until: Some(1_793_000_000),
        source: facts(&words, parts),
        target: facts("Corvane NX", parts),
        rates,
        report,
        surface: None,
    }
}

fn inside(drawing: &Drawing) {
    let on_page = |x: f32, y: f32| (0.0..=drawing.width).contains(&x) && (0.0..=drawing.height).contains(&y);
    for shape in drawing.pages.iter().flatten() {
        match shape {
            Shape::Text { x, y, size, bold, anchor, text } => {
                let wide = width(text, *size, *bold);
                let (left, right) = if *anchor == Anchor::Right { (x - wide, *x) } else { (*x, x + wide) };
                assert!(on_page(left, *y) && on_page(right, *y), "\"{text}\" from {left} to {right} at {y}");
            }
            Shape::Line { points, .. } => points.iter().for_each(|(x, y)| assert!(on_page(*x, *y), "line at {x} {y}")),
            Shape::Rect { x, y, w, h, .. } => assert!(on_page(*x, *y) && on_page(x + w, y + h), "rectangle at {x} {y}, {w} by {h}"),
        }
    }
}

/// Texts on the same line must not run into each other.
fn apart(drawing: &Drawing) {
    for page in &drawing.pages {
        apart_on(page);
    }
}

fn apart_on(page: &[Shape]) {
    let mut texts: Vec<(i32, f32, f32, &str)> = Vec::new();
    for shape in page {
        if let Shape::Text { x, y, size, bold, anchor, text } = shape {
            let wide = width(text, *size, *bold);
            let left = if *anchor == Anchor::Right { x - wide } else { *x };
            texts.push(((y * 100.0) as i32, left, left + wide, text));
        }
    }
    texts.sort_by(|a, b| (a.0, a.1).partial_cmp(&(b.0, b.1)).unwrap());
    for pair in texts.windows(2) {
        assert!(pair[0].0 != pair[1].0 || pair[0].2 <= pair[1].1 + 0.5, "\"{}\" runs into \"{}\"", pair[0].3, pair[1].3);
    }
}

#[rstest]
fn everything_stays_on_the_page(
    #[values(0, 1, 4, 60)] parts: u64,
    #[values(0, 3, 5000)] lost: u64,
    #[values(Outcome::Proved, Outcome::Incomplete, Outcome::Interrupted)] outcome: Outcome,
    #[values(false, true)] long: bool,
) {
    let drawing = draw(&sheet(parts, lost, outcome, long));
    inside(&drawing);
    apart(&drawing);
}

/// What a customer is told of a drive that could not be read whole: a drawing of it, and no word that is not so.
#[test]
fn a_salvaged_drive_is_drawn() {
    let mut data = sheet(3, 40, Outcome::Incomplete, false);
    let cells: String = (0..CELLS)
        .map(|at| {
            if at % 97 == 0 {
                'l'
            } else if at % 50 == 1 {
                'd'
            } else if at > 1000 {
                'u'
            } else {
                's'
            }
        })
        .collect();
    data.surface =
        Some(Surface { cells, bytes: [200 << 30, 30 << 30, 5 << 20, 1 << 20], filled: "left on the target as it was".into(), files: (1200, 3) });
    let drawing = draw(&data);
    inside(&drawing);
    apart(&drawing);
    let texts: Vec<&str> =
        drawing.pages.iter().flatten().filter_map(|shape| if let Shape::Text { text, .. } = shape { Some(text.as_str()) } else { None }).collect();
    let all = texts.join(" ");
    for said in ["Surface", "saved 215 GB", "lost 1.05 MB", "deferred 5.24 MB", "3 are not", "left on the target as it was"] {
        assert!(all.contains(said), "{said}: {all}");
    }
    assert!(!all.contains("zero on the target"), "{all}");
    let black =
        drawing.pages.iter().flatten().filter(|shape| matches!(shape, Shape::Rect { fill: Some(Fill::Grey(grey)), .. } if *grey == 0.0)).count();
    assert!(black >= CELLS / 97, "{black}");
    // What was kept before there were such drawings is read as ever.
    let mut old = serde_json::to_value(&data).unwrap();
    old.as_object_mut().unwrap().remove("surface");
    assert_eq!(serde_json::from_value::<SheetData>(old).unwrap().surface, None);
}

#[test]
fn other_programs_read_both_forms() {
    let dir = tempfile::tempdir().unwrap();
    let drawing = draw(&sheet(4, 30, Outcome::Incomplete, false));
    let (pdf, svg) = (dir.path().join("sheet.pdf"), dir.path().join("sheet.svg"));
    std::fs::write(&pdf, badger_bench::pdf::write(&drawing)).unwrap();
    std::fs::write(&svg, drawing.svg()).unwrap();
    let out = Command::new("pdftotext").arg("-layout").arg(&pdf).arg("-").output().unwrap();
    let text = String::from_utf8_lossy(&out.stdout).into_owned();
    assert!(out.stderr.is_empty(), "{}", String::from_utf8_lossy(&out.stderr));
    for words in ["INCOMPLETE", "LR-207", "Tobiah", "serial TM25-0091-7F3C", "blake3 tree hash of the source"] {
        assert!(text.contains(words), "{words} in {text}");
    }
    assert!(Command::new("rsvg-convert").arg("-o").arg(dir.path().join("sheet.png")).arg(&svg).status().unwrap().success());
    let svg = std::fs::read_to_string(&svg).unwrap();
    for shape in drawing.pages.iter().flatten() {
        if let Shape::Text { text, .. } = shape {
            assert!(svg.contains(&text.replace('&', "&amp;")), "{text}");
        }
    }
}

/// A text as it is compared: without the blanks that lines and pages put between.
fn squeezed(text: &str) -> String {
    text.chars().filter(|c| !c.is_whitespace()).collect()
}

/// Lists as long as they are, names in every script, and the fonts for them within: another program reads all of it.
#[test]
fn nothing_is_cut_and_every_script_is_there() {
    let dir = tempfile::tempdir().unwrap();
    let mut data = sheet(60, 900, Outcome::Incomplete, false);
    data.customer = "Łukasz Žižka, Αλέξανδρος, Жанна Щукина, الملفات, Đorđe Ñandú".into();
    data.report.proof[0] =
        Line { evidence: (0..200).map(|at| format!("sector {}", at * 1003)).collect(), ..Line::new("blocks", Verdict::Fails, "x") };
    let drawing = draw(&data);
    assert!(drawing.pages.len() > 4, "{} pages", drawing.pages.len());
    inside(&drawing);
    apart(&drawing);
    let pdf = dir.path().join("sheet.pdf");
    std::fs::write(&pdf, badger_bench::pdf::write(&drawing)).unwrap();
    let out = Command::new("pdftotext").arg("-raw").arg(&pdf).arg("-").output().unwrap();
    let text = squeezed(&String::from_utf8_lossy(&out.stdout));
    for words in ["Łukasz Žižka", "Αλέξανδρος", "Жанна Щукина", "Đorđe Ñandú", "sector 199597", "60 Corvane NX 59".trim_start_matches("60 ")]
    {
        assert!(text.contains(&squeezed(words)), "{words} in {text}");
    }
    for stretch in &data.report.lost {
        assert!(text.contains(&format!("{}+{}", stretch.start, stretch.sectors)), "{stretch:?}");
    }
    let fonts = Command::new("pdffonts").arg(&pdf).output().unwrap();
    let fonts = String::from_utf8_lossy(&fonts.stdout).into_owned();
    let rows: Vec<&str> = fonts.lines().skip(2).collect();
    assert!(!rows.is_empty());
    for row in rows {
        // Embedded, a subset, and with a way back to letters.
        assert!(row.split_whitespace().collect::<Vec<_>>().windows(3).any(|three| three == ["yes", "yes", "yes"]), "{row}");
    }
    assert!(std::fs::metadata(&pdf).unwrap().len() < 400 << 10);
}
