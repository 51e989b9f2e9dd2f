//! The system's own tools, which the tests of several crates make and judge things with.

use std::process::Command;

/// Runs one, which has to succeed.
pub fn run(command: &[&str]) {
    let go = || Command::new(command[0]).args(&command[1..]).output().unwrap_or_else(|error| panic!("{}: {error}", command[0]));
    let mut out = go();
    // Another test's program may hold what it was born with for a moment.
    for _ in 0..50 {
        if command[0] != "umount" || out.status.success() || !String::from_utf8_lossy(&out.stderr).contains("busy") {
            break;
        }
        std::thread::sleep(std::time::Duration::from_millis(100));
        out = go();
    }
    assert!(out.status.success(), "{command:?}: {}{}", String::from_utf8_lossy(&out.stdout), String::from_utf8_lossy(&out.stderr));
}
