//! A drive whose system really gives no answer: a raw file on a mount whose server was put to sleep.

use crate::support::{Mounted, file, source};
use badger_drive::{Control, ReadError};
use std::fs;
use std::path::Path;
use std::process::Command;
use std::time::{Duration, Instant};

/// Who serves a mount. It ends with the test, asleep or not: a mount that gives no answer holds up whoever looks at mounts.
struct Server(String);

impl Server {
    fn of(raw: &Path) -> Self {
        let out = Command::new("pgrep").args(["-f", &format!("^ntfs-3g {}", raw.display())]).output().unwrap();
        let pids = String::from_utf8(out.stdout).unwrap();
        Self(pids.lines().next().expect("somebody serves it").to_string())
    }

    fn signal(&self, name: &str) {
        assert!(Command::new("kill").args([name, &self.0]).status().unwrap().success());
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        let _ = Command::new("kill").args(["-KILL", &self.0]).status();
    }
}

#[test]
fn a_read_without_an_answer_ends_with_the_patience_or_a_stop() {
    let dir = tempfile::tempdir().unwrap();
    let raw = file(&dir, "volume.img", 64);
    assert!(Command::new("mkntfs").args(["-q", "-F"]).arg(&raw).output().unwrap().status.success());
    let mounted = Mounted::by(dir.path().join("mnt"), "ntfs-3g", &[raw.as_os_str()]);
    let server = Server::of(&raw);
    let inner = mounted.0.join("inner.img");
    fs::write(&inner, vec![7; 4 << 20]).unwrap();
    // Nothing of it may lie in memory.
    let written = fs::File::open(&inner).unwrap();
    written.sync_all().unwrap();
    rustix::fs::fadvise(&written, 0, None, rustix::fs::Advice::DontNeed).unwrap();
    let drive = source(&inner);
    let mut bytes = vec![0; 4096];
    drive.read_at(0, &mut bytes).unwrap();
    server.signal("-STOP");
    drive.wait_at_most(Duration::from_millis(300));
    let began = Instant::now();
    let error = drive.read_at(2 << 20, &mut bytes).unwrap_err();
    assert!(matches!(error, ReadError::Silent { offset, .. } if offset == 2 << 20), "{error}");
    assert!(began.elapsed() < Duration::from_secs(20));
    let control = Control::new();
    drive.obey(&control);
    drive.wait_at_most(Duration::from_secs(600));
    std::thread::scope(|scope| {
        scope.spawn(|| {
            std::thread::sleep(Duration::from_millis(200));
            control.stop();
        });
        assert!(matches!(drive.read_at(3 << 20, &mut bytes), Err(ReadError::Gone(_))));
    });
    assert!(began.elapsed() < Duration::from_secs(40));
    server.signal("-CONT");
    drive.obey(&Control::new());
    drive.read_at(3 << 20, &mut bytes).unwrap();
    assert!(bytes.iter().all(|byte| *byte == 7));
}
