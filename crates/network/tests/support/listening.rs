//! Whether a server listens: its socket is there a little earlier, and refuses.

use std::path::Path;

/// Whether somebody listens at a socket of this machine. Nobody is called for that: some servers count who calls.
pub fn listens(socket: &Path) -> bool {
    let table = std::fs::read_to_string("/proc/net/unix").unwrap();
    // The fourth field has the bit of those that accept (Linux: `__SO_ACCEPTCON`).
    table.lines().any(|line| line.split_whitespace().nth(3) == Some("00010000") && line.ends_with(&format!(" {}", socket.display())))
}
