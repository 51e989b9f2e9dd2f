//! The ways from firmware to login that a proof tells of, link by link, as a screen and a paper draw them.

use badger_inspect::{Line, Verdict};

/// One way, or what a machine takes and does not take.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Way<'a> {
    /// The word for it.
    pub word: &'static str,
    /// Whether each link rests on the one before it.
    pub is_chain: bool,
    /// Names of links, and whether they hold.
    pub links: Vec<(&'a str, Verdict)>,
}

/// Links of one way: its own, then those that both ways go through.
fn of_way<'a>(proof: &'a [Line], way: &str) -> Vec<(&'a str, Verdict)> {
    let boot = || proof.iter().filter(|line| line.what == "boot" && !line.link.is_empty() && line.link != "rehearsal");
    let own: Vec<_> = boot().filter_map(|line| Some((line.link.strip_prefix(way)?, line.result))).collect();
    if own.is_empty() {
        return own;
    }
    own.into_iter().chain(boot().filter(|line| !line.link.contains('/')).map(|line| (line.link.as_str(), line.result))).collect()
}

/// All that a proof tells of.
pub fn ways(proof: &[Line]) -> Vec<Way<'_>> {
    let fits = || proof.iter().filter_map(|line| Some((line.link.strip_prefix("machine/")?, line.result))).collect();
    let all = [
        Way { word: "UEFI", is_chain: true, links: of_way(proof, "uefi/") },
        Way { word: "BIOS", is_chain: true, links: of_way(proof, "bios/") },
        Way { word: "fits", is_chain: false, links: fits() },
    ];
    all.into_iter().filter(|way| !way.links.is_empty()).collect()
}
