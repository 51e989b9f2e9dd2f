//! What is made of the command line's own description: completions for shells, the manual, the version with its build.

use crate::{Cli, code};
use badger_drive::Refusal;
use clap::CommandFactory;
use clap_complete::Shell;
use std::path::Path;

/// Version and build, as a bug report needs them: `0.1.0 (f441bb0 of 2026-11-26, x86_64-linux)`.
pub const VERSION: &str = env!("BADGER_VERSION");

/// `badger completions`.
pub fn completions(shell: Shell) -> u8 {
    let mut text = Vec::new();
    clap_complete::generate(shell, &mut Cli::command(), "badger", &mut text);
    tell_part!("{}", String::from_utf8_lossy(&text));
    code::DONE
}

/// `badger man`: a page for the program and one for each command.
pub fn man(dir: &Path) -> Result<u8, Refusal> {
    let failed = |error: std::io::Error| Refusal::new("not-written", format!("{}: {error}", dir.display()));
    std::fs::create_dir_all(dir).map_err(failed)?;
    clap_mangen::generate_to(Cli::command(), dir).map_err(failed)?;
    Ok(code::DONE)
}
