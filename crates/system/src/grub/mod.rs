//! GRUB: what its configurations start.

mod menu;
mod script;

pub(crate) use menu::{Chosen, Outcome, run};
use std::ops::Range;

/// The parts of a configuration that start systems of other disks, as `os-prober` found them when it was written: bytes.
pub(crate) fn foreign(text: &str) -> Vec<Range<usize>> {
    let (mut out, mut from, mut at) = (Vec::new(), None, 0);
    // A part that the configuration marks as such, or one entry; with how many braces are open.
    let mut depth = None;
    for line in text.split_inclusive('\n') {
        let plain = line.trim();
        let is_entry = (plain.starts_with("menuentry ") || plain.starts_with("submenu ")) && plain.contains("osprober-");
        if from.is_none() && (is_entry || plain.starts_with("### BEGIN") && plain.contains("30_os-prober")) {
            (from, depth) = (Some(at), is_entry.then_some(0i64));
        }
        if let Some(depth) = &mut depth {
            *depth += plain.matches('{').count() as i64 - plain.matches('}').count() as i64;
        }
        at += line.len();
        let is_end = depth.map_or_else(|| plain.starts_with("### END"), |depth| depth <= 0);
        if is_end && let Some(from) = from.take() {
            out.push(from..at);
            depth = None;
        }
    }
    out.extend(from.map(|from| from..text.len()));
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn entries_of_other_disks_are_told_apart() {
        let entry = "menuentry 'Other' --id osprober-x {\n if true; then {\n linux /k\n }; fi\n}\n";
        let text = format!(
            "menuentry 'Own' {{\n linux /k\n}}\n{entry}### BEGIN /etc/grub.d/30_os-prober ###\nany\n### END /etc/grub.d/30_os-prober ###\nlast\n"
        );
        let found: Vec<&str> = foreign(&text).into_iter().map(|range| &text[range]).collect();
        assert_eq!(found.len(), 2, "{found:?}");
        assert_eq!(found[0], entry);
        assert!(found[1].starts_with("### BEGIN") && found[1].ends_with("###\n"));
        assert_eq!(foreign(&text[..text.find("linux /k\n }").unwrap()]).len(), 1);
    }
}
