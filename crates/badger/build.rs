//! The version with its build: the commit where there is one, and the machine it is for.

use std::process::Command;

fn main() {
    let git = |args: &[&str]| {
        let out = Command::new("git").args(args).output().ok().filter(|out| out.status.success())?;
        Some(String::from_utf8_lossy(&out.stdout).trim().to_string())
    };
    // A source tree without its history says so by saying less.
    let commit = git(&["log", "-1", "--format=%h of %cs"]).map(|commit| format!("{commit}, ")).unwrap_or_default();
    let var = |name: &str| std::env::var(name).unwrap_or_default();
    let machine = format!("{}-{}", var("CARGO_CFG_TARGET_ARCH"), var("CARGO_CFG_TARGET_OS"));
    println!("cargo::rustc-env=BADGER_VERSION={} ({commit}{machine})", var("CARGO_PKG_VERSION"));
    println!("cargo::rerun-if-changed=build.rs");
    if let Some(head) = git(&["rev-parse", "--git-path", "logs/HEAD"]).filter(|path| std::path::Path::new(path).exists()) {
        println!("cargo::rerun-if-changed={head}");
    }
}
