//! The boot chain, drawn: from firmware to login, a knot for each link, open behind one that does not hold.

use super::{loud, pad, say};
use crate::theme::Mean;
use badger_bench::sheet::verdict;
use badger_bench::ways::{Way, ways};
use badger_inspect::{Line, Verdict};
use ratatui::text::Span;

/// Columns before the first knot.
const HEAD: usize = 6;

/// The meaning of a verdict.
pub fn mean(result: Verdict) -> Mean {
    match result {
        Verdict::Holds => Mean::Good,
        Verdict::Differs => Mean::Focus,
        Verdict::Fails => Mean::Stop,
        Verdict::NotChecked => Mean::Quiet,
    }
}

/// A line or more for each way that a proof tells of.
pub fn lines(proof: &[Line], width: usize) -> Vec<Vec<Span<'static>>> {
    let mut out: Vec<Vec<Span<'static>>> = Vec::new();
    for Way { word, is_chain, links } in ways(proof) {
        let (mut line, mut used) = (vec![say(Mean::Quiet, pad(word, HEAD))], HEAD);
        let mut is_open = false;
        for (at, (name, result)) in links.iter().enumerate() {
            let thread = match (at, is_open) {
                (0, _) => "",
                (_, true) => " ┄┄ ",
                (_, false) => " ── ",
            };
            // Nothing of a machine rests on what stands before it.
            let thread = if at > 0 && !is_chain { "    " } else { thread };
            let need = thread.chars().count() + 2 + name.chars().count();
            if used + need > width && used > HEAD {
                out.push(std::mem::replace(&mut line, vec![say(Mean::Quiet, pad("", HEAD))]));
                used = HEAD;
            }
            is_open |= *result == Verdict::Fails && is_chain;
            let (mark, _) = verdict(*result);
            line.extend([say(Mean::Quiet, thread), loud(mean(*result), format!("{mark} ")), say(Mean::Text, name.to_string())]);
            used += need;
        }
        out.push(line);
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(200, &["UEFI  ● loader ── ◆ stub ┄┄ ● kernel", "BIOS  ● core ── ● kernel", "fits  ○ slot    ● firmware"])]
    #[case(24, &["UEFI  ● loader ── ◆ stub", "       ┄┄ ● kernel", "BIOS  ● core ── ● kernel", "fits  ○ slot", "          ● firmware"])]
    fn ways_are_drawn(#[case] width: usize, #[case] expected: &[&str]) {
        let line = |link: &str, result| Line { link: link.into(), ..Line::new("boot", result, "") };
        use Verdict::{Fails, Holds, NotChecked};
        let proof = [
            line("uefi/loader", Holds),
            line("uefi/stub", Fails),
            line("kernel", Holds),
            line("bios/core", Holds),
            line("machine/slot", NotChecked),
            line("machine/firmware", Holds),
            line("rehearsal", Holds),
        ];
        let drawn: Vec<String> = lines(&proof, width).iter().map(|line| line.iter().map(|span| span.content.as_ref()).collect()).collect();
        assert_eq!(drawn, expected);
        assert!(lines(&proof[..0], width).is_empty());
    }
}
