//! What is made of the command line's own description: completions for shells, the manual, the version with its build.

use crate::{Cli, code};
use badger_drive::{Refusal, keep};
use clap::CommandFactory;
use clap_complete::Shell;
use std::fs::Permissions;
use std::io::Write;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;

/// Version and build, as a bug report needs them: `0.1.0 (f441bb0 of 2026-11-26, x86_64-linux)`.
pub const VERSION: &str = env!("BADGER_VERSION");

/// What every page of this manual says within its first bytes.
const PAGE: &[u8] = b".TH badger";

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
    let made = tempfile::tempdir().map_err(failed)?;
    clap_mangen::generate_to(Cli::command(), made.path()).map_err(failed)?;
    // Pages that are there are replaced; nothing else that has such a name is.
    let is_page = |head: &[u8]| head.windows(PAGE.len()).any(|part| part == PAGE);
    for page in std::fs::read_dir(made.path()).map_err(failed)? {
        let page = page.map_err(failed)?;
        let text = std::fs::read(page.path()).map_err(failed)?;
        keep::replace(&dir.join(page.file_name()), &is_page, |file| {
            file.set_permissions(Permissions::from_mode(0o644))?;
            file.write_all(&text)
        })
        .map_err(failed)?;
    }
    Ok(code::DONE)
}
