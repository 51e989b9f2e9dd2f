//! What a frame costs, for every main view, with twelve drives on the shelf.

use badger_bench::Bench;
use badger_drive::Workshop;
use badger_tui::app::App;
use criterion::{Criterion, criterion_group, criterion_main};
use crossterm::event::{KeyCode, KeyEvent, KeyModifiers};
use ratatui::Terminal;
use ratatui::backend::TestBackend;
use std::fs::{self, File};
use std::time::{Duration, Instant};

fn key(app: &mut App, code: KeyCode) {
    app.key(KeyEvent::new(code, KeyModifiers::NONE));
}

fn typed(app: &mut App, text: &str) {
    text.chars().for_each(|c| key(app, KeyCode::Char(c)));
}

/// Lets the threads behind the screen find what they look for.
fn settle(app: &mut App, span: Duration) {
    let start = Instant::now();
    while start.elapsed() < span {
        app.refresh();
        std::thread::sleep(Duration::from_millis(20));
    }
}

fn frames(criterion: &mut Criterion) {
    let dir = tempfile::tempdir().expect("a temporary directory");
    for number in 0..12 {
        File::create(dir.path().join(format!("{number:02}.img"))).and_then(|file| file.set_len(250_059_350_016)).expect("a sparse file");
        let text = format!(
            "backing = \"{number:02}.img\"\n[identity]\nmodel = \"Corvane {number}\"\nserial = \"CN-00{number:02}\"\nbus = \"sata\"\n[pace]\nread_mb_s = 400.0\nwrite_mb_s = 400.0\nreal = true\n"
        );
        fs::write(dir.path().join(format!("{number:02}.drive.toml")), text).expect("a description");
    }
    let workshop = Workshop { shelf: Some(dir.path().to_path_buf()), ..Workshop::default() };
    let mut app = App::new(Bench { workshop, ledger: dir.path().join("ledger.db"), config: Default::default() });
    settle(&mut app, Duration::from_secs(2));
    let mut terminal = Terminal::new(TestBackend::new(220, 60)).expect("a terminal in memory");
    let mut measure = |name: &str, app: &mut App, criterion: &mut Criterion| {
        criterion.bench_function(name, |bencher| {
            bencher.iter(|| {
                app.refresh();
                terminal.draw(|frame| app.draw(frame)).expect("memory takes every frame");
            });
        });
    };
    key(&mut app, KeyCode::Enter);
    measure("bench_220x60", &mut app, criterion);
    typed(&mut app, "s");
    key(&mut app, KeyCode::Down);
    typed(&mut app, "tj");
    settle(&mut app, Duration::from_secs(1));
    key(&mut app, KeyCode::Enter);
    measure("plan_220x60", &mut app, criterion);
    key(&mut app, KeyCode::Enter);
    typed(&mut app, "0001");
    key(&mut app, KeyCode::Enter);
    settle(&mut app, Duration::from_secs(1));
    measure("run_220x60", &mut app, criterion);
    typed(&mut app, "/cor");
    measure("palette_220x60", &mut app, criterion);
    app.close();
}

criterion_group!(benches, frames);
criterion_main!(benches);
