//! Links of a boot chain as tests hold them against what was broken.

use badger_inspect::{Line, Verdict};

/// All of them, for whoever reads why a test failed.
pub fn told(lines: &[Line]) -> String {
    lines.iter().map(|line| format!("{:?} {} {}\n", line.result, line.link, line.text)).collect()
}

/// Those that do not hold; `?` in front of what could not be followed.
pub fn named(lines: &[Line]) -> Vec<String> {
    lines
        .iter()
        .filter_map(|line| match line.result {
            Verdict::Fails => Some(line.link.clone()),
            Verdict::NotChecked => Some(format!("?{}", line.link)),
            _ => None,
        })
        .collect()
}
