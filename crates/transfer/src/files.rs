//! Proof by files: the same tree and the same content, read through the source's and the target's file system.

use crate::copy::{Break, Context};
use badger_drive::buffer::Buffer;
use badger_drive::events::{Event, Phase};
use badger_drive::size::{human, thousands};
use badger_drive::{Extents, Source};
use badger_fs::tree::{Node, NodeKind};
use badger_fs::walk::{Step, Turned, Walk};
use badger_fs::{Content, Finding, Use, Volume};
use badger_inspect::{Line, Verdict, volumes};
use badger_layout::plan::{InUse, Sparing};

/// Bytes read at once.
const STEP: usize = 4 << 20;
/// Files are read in groups of so many, in the order in which they lie.
const GROUP: usize = 4096;
/// So many differences are named.
const MOST_NAMED: usize = 50;

/// A stream to be read: the path, its node on both sides, the name of the stream, and where it begins.
struct Wanted {
    path: String,
    there: Node,
    here: Node,
    stream: String,
    begin: u64,
}

struct Pair<'a> {
    context: &'a Context<'a>,
    there: Box<dyn Volume>,
    here: Box<dyn Volume>,
    files: u64,
    bytes: u64,
    unread: u64,
    differ: Vec<String>,
    count: u64,
    /// Where the volume begins on the source, in bytes.
    start: u64,
    /// Places of the volume that were compared block by block.
    compared: Extents<()>,
    /// Bytes of files that lie there, at the same places on both sides.
    placed: u64,
}

/// One line for each volume of which only what is in use was copied.
///
/// # Errors
/// [`Break::Stopped`].
pub fn prove(context: &Context, sparing: &Sparing, blocks: &Blocks) -> Result<Vec<Line>, Break> {
    let total = sparing.volumes.iter().map(|volume| volume.used).sum();
    context.observer.event(&Event::Phase { phase: Phase::Files, total, done: 0, files: None });
    sparing.volumes.iter().map(|volume| prove_volume(context, volume, blocks)).collect()
}

/// What the proof of the blocks found.
pub struct Blocks<'a> {
    /// Whether all that was copied was read back and is as it should be.
    pub hold: bool,
    /// Places of the target that hold zeroes because the source could not be read.
    pub lost: &'a Extents<()>,
}

impl Blocks<'_> {
    /// The places of a volume, counted from its beginning, that hold on the target what the source gave, at the same distance from there.
    fn of(&self, context: &Context, volume: &InUse, at: u64) -> Extents<()> {
        let mut out = Extents::new();
        if !self.hold || context.plan.recast(volume.number).is_some() {
            return out;
        }
        for each in context.plan.moves.iter().filter(|each| each.volume.is_none()) {
            let (start, end) = (each.from.max(volume.start), (each.from + each.len).min(volume.start + volume.len));
            if start < end && i128::from(each.to) - i128::from(each.from) == i128::from(at) - i128::from(volume.start) {
                out.set(start - volume.start..end - volume.start, ());
            }
        }
        let patches = context.plan.patches.iter().map(|patch| patch.at..patch.at + patch.bytes.len() as u64);
        for range in patches.chain(self.lost.iter().map(|(range, ())| range)) {
            out.clear(range.start.saturating_sub(at)..range.end.saturating_sub(at));
        }
        out
    }
}

fn prove_volume(context: &Context, volume: &InUse, blocks: &Blocks) -> Result<Line, Break> {
    let name = badger_fs::recognise(&**context.source, volume.start, volume.len)
        .map_or_else(|| format!("partition {}", volume.number), |found| volumes::name(volume.number, &found));
    let place = context.plan.planned(volume.number).filter(|planned| planned.number != 0 || context.plan.fit.is_some());
    let (at, len) = place.map_or((volume.start, volume.len), |planned| planned.place(context.plan.target.sector));
    let opened = |drive: &Source, start, len| badger_fs::open(drive, start, len);
    let (there, here) = match (opened(context.source, volume.start, volume.len), opened(&context.target_source(), at, len)) {
        (Ok(there), Ok(here)) => (there, here),
        (Err(finding), _) | (_, Err(finding)) => return Ok(Line::new("files", Verdict::Fails, format!("{name}: {}", finding.text))),
    };
    let compared = blocks.of(context, volume, at);
    let mut pair =
        Pair { context, there, here, files: 0, bytes: 0, unread: 0, differ: Vec::new(), count: 0, start: volume.start, compared, placed: 0 };
    pair.walk()?;
    let covered = covered(context, &*pair.here, volume, at)?;
    let mut line = pair.line(&name);
    line.evidence.push(covered.told());
    if covered.differ > 0 {
        line.result = Verdict::Fails;
        line.text = format!("{name}: {} that are in use by its own map are not the same on the target", human(covered.differ));
    }
    line.evidence.push(
        "not covered by this line: what neither its map nor its structures call used, and whether its own system reads it as it was read here".into(),
    );
    Ok(line)
}

/// What of a volume's own allocation was copied.
struct Covered {
    /// Bytes in use by its map or its structures.
    used: u64,
    /// Those that the plan did not copy, compared one by one.
    beside: u64,
    /// Those of them that differ.
    differ: u64,
}

impl Covered {
    fn told(&self) -> String {
        let used = human(self.used);
        match (self.beside, self.differ) {
            (0, _) => format!("block by block: {used} are in use by its own map or its structures, read from the target; all of them were copied"),
            (beside, 0) => format!("block by block: of {used} in use {} were not copied; they are equal all the same", human(beside)),
            (beside, differ) => format!("block by block: of {used} in use {} were not copied, and {} differ", human(beside), human(differ)),
        }
    }
}

/// Goes over the target's own allocation, whatever the source's survey said: every block in use must have been copied.
/// What was not is compared with the source. `at` is where the volume begins on the target.
///
/// A volume that was shown anew has structures of its own that need no content, such as tables that were never written
/// to; of such a volume the data counts.
fn covered(context: &Context, here: &dyn Volume, volume: &InUse, at: u64) -> Result<Covered, Break> {
    let recast = context.plan.recast(volume.number).is_some();
    let survey = here.survey();
    if context.control.is_stopped() {
        return Err(Break::Stopped);
    }
    let mut copied: Extents<()> = Extents::new();
    context.plan.stretches().into_iter().for_each(|(start, len)| copied.set(start..start + len, ()));
    let counts = |use_: &Use| !recast || *use_ == Use::Data;
    let mut out = Covered { used: survey.usage.total(counts), beside: 0, differ: 0 };
    let (mut one, mut other) = (Buffer::new(STEP), Buffer::new(STEP));
    for (range, _) in survey.usage.iter().filter(|(_, use_)| counts(use_)) {
        let (mut from, end) = (at + range.start, at + range.end);
        let held: Vec<_> = copied.within(from..end).map(|(range, ())| range).chain(std::iter::once(end..end)).collect();
        for range in held {
            while from < range.start {
                if !context.control.go_on() {
                    return Err(Break::Stopped);
                }
                let len = (range.start - from).min(STEP as u64) as usize;
                out.beside += len as u64;
                let there = volume.start + (from - at);
                // In another arrangement nothing says where it would lie on the source: not copied is not the same then.
                let read =
                    !recast && context.source.read_at(there, &mut one[..len]).is_ok() && context.target.read_at(from, &mut other[..len]).is_ok();
                if !read || one[..len] != other[..len] {
                    out.differ += len as u64;
                }
                from += len as u64;
            }
            from = from.max(range.end);
        }
    }
    Ok(out)
}

impl Pair<'_> {
    fn differs(&mut self, what: String) {
        self.count += 1;
        if self.differ.len() < MOST_NAMED {
            self.differ.push(what);
        }
    }

    fn walk(&mut self) -> Result<(), Break> {
        let (Ok(there), Ok(here)) = (self.there.root(), self.here.root()) else {
            self.differs("the root directory cannot be read".into());
            return Ok(());
        };
        let mut group: Vec<Wanted> = Vec::new();
        let mut walk = Walk::of(&*self.there, there, (String::new(), here));
        while let Some(Step { node: there, with: (path, here), .. }) = walk.take() {
            let (first, second) = (self.there.list(&there), self.here.list(&here));
            if first.findings.iter().map(|finding| finding.code).ne(second.findings.iter().map(|finding| finding.code)) {
                self.differs(format!("{path}/ is damaged on one side only"));
            }
            if !walk.has_room_for(&first) {
                self.differs(format!("{path}/ and what follows was not compared: the directories name more entries than the volume has room for"));
                break;
            }
            // A directory keeps its order even where what it names lies elsewhere.
            let mut others = second.entries.into_iter().peekable();
            for entry in first.entries {
                let full = format!("{path}/{}", entry.name.shown);
                let other = others.next_if(|other| other.name == entry.name && entry.node.is_same_elsewhere(&other.node));
                let Some(other) = other else {
                    self.differs(format!("{full} is not the same on both sides"));
                    others.next_if(|other| other.name == entry.name);
                    continue;
                };
                match (self.there.attributes(&entry.node), self.here.attributes(&other.node)) {
                    (Err(_), Err(_)) => self.unread += 1,
                    (Ok(there), Ok(here)) if there == here => {}
                    _ => self.differs(format!("{full} has other extended attributes")),
                }
                let streams = self.there.streams(&entry.node).unwrap_or_else(|_| {
                    self.unread += 1;
                    Vec::new()
                });
                if entry.node.kind == NodeKind::Directory {
                    streams.iter().for_each(|stream| group.extend(self.wanted(&full, &entry.node, &other.node, &stream.name.shown)));
                }
                match entry.node.kind {
                    NodeKind::Directory => {
                        // One that leads back was compared already.
                        if walk.enter(&entry.node, (full.clone(), other.node)) == Err(Turned::TooDeep) {
                            self.differs(format!("{full} was not compared: it is too deep"));
                        }
                        continue;
                    }
                    NodeKind::File => {}
                    NodeKind::Link => {
                        if self.there.link(&entry.node).ok() != self.here.link(&other.node).ok() {
                            self.differs(format!("{full} leads elsewhere"));
                        }
                        continue;
                    }
                    _ => continue,
                }
                self.files += 1;
                let all = streams.iter().map(|stream| stream.name.shown.as_str()).chain([""]);
                all.for_each(|stream| group.extend(self.wanted(&full, &entry.node, &other.node, stream)));
                if group.len() >= GROUP {
                    self.read(std::mem::take(&mut group))?;
                }
            }
            for more in others {
                self.differs(format!("{path}/{} is only on the target", more.name.shown));
            }
        }
        self.read(group)
    }

    /// A stream that has to be read on both sides; `None` where it is known to be equal: on both it lies at the same places, and those were
    /// compared.
    fn wanted(&mut self, path: &str, there: &Node, here: &Node, stream: &str) -> Option<Wanted> {
        let content = opened(&*self.there, there, stream).ok();
        let begin = content.as_ref().and_then(|content| content.pieces().iter().find_map(|piece| piece.at));
        let placed = content.filter(|content| self.is_compared(content)).map(|content| (content.size(), content.plain_pieces().map(<[_]>::to_vec)));
        if let Some((size, pieces)) = placed
            && opened(&*self.here, here, stream).is_ok_and(|other| other.size() == size && other.plain_pieces().map(<[_]>::to_vec) == pieces)
        {
            self.bytes += size;
            self.placed += size;
            if size > 0 {
                self.context.observer.event(&Event::Moved { start: self.start, len: size, at: self.context.seconds() });
            }
            return None;
        }
        Some(Wanted { path: path.to_string(), there: there.clone(), here: here.clone(), stream: stream.to_string(), begin: begin.unwrap_or(0) })
    }

    fn is_compared(&self, content: &Content) -> bool {
        let Some(pieces) = content.plain_pieces().filter(|pieces| !pieces.is_empty()) else { return false };
        let inside = |at: u64, len: u64| at.checked_add(len).is_some_and(|end| self.compared.gaps(at..end).next().is_none());
        pieces.iter().all(|piece| piece.at.is_none_or(|at| inside(at, piece.len)))
    }

    /// Reads a group on both sides at once and compares.
    fn read(&mut self, mut group: Vec<Wanted>) -> Result<(), Break> {
        group.sort_by_key(|wanted| wanted.begin);
        let (context, start) = (self.context, self.start);
        let hashes = |fs: &dyn Volume, tell: bool| -> Option<Vec<Hashed>> {
            let mut buffer = Buffer::new(STEP);
            let hash = |wanted: &Wanted| {
                let node = if tell { &wanted.here } else { &wanted.there };
                let hashed = hash(context, fs, node, &wanted.stream, &mut buffer)?;
                if let Some((bytes, ..)) = hashed.as_ref().ok().filter(|(bytes, ..)| tell && *bytes > 0) {
                    context.observer.event(&Event::Moved { start, len: *bytes, at: context.seconds() });
                }
                Some(hashed)
            };
            group.iter().map(hash).collect()
        };
        let (there, here) = std::thread::scope(|scope| {
            let there = scope.spawn(|| hashes(&*self.there, false));
            let here = hashes(&*self.here, true);
            (there.join().expect("the reader does not panic"), here)
        });
        let (Some(there), Some(here)) = (there, here) else { return Err(Break::Stopped) };
        for ((wanted, there), here) in group.iter().zip(there).zip(here) {
            let name = if wanted.stream.is_empty() { wanted.path.clone() } else { format!("{} (stream {})", wanted.path, wanted.stream) };
            match (there, here) {
                (Ok((bytes, first, lost)), Ok((_, second, _))) => {
                    self.bytes += bytes;
                    self.unread += u64::from(lost);
                    if first != second {
                        self.differs(name);
                    }
                }
                // What cannot be opened on the source cannot be opened on its copy either.
                (Err(_), Err(_)) => self.unread += 1,
                _ => self.differs(name),
            }
        }
        Ok(())
    }

    fn line(self, name: &str) -> Line {
        let held = format!("{} files, {}", thousands(self.files), human(self.bytes));
        let mut line = if self.count == 0 {
            Line::new("files", Verdict::Holds, format!("{name}: {held} found through the target's own file system equal the source's"))
        } else {
            Line::new(
                "files",
                Verdict::Fails,
                format!("{name}: {} of {} files are not the same on the target", thousands(self.count), thousands(self.files)),
            )
        };
        line.evidence = self.differ;
        if self.count as usize > line.evidence.len() {
            line.evidence.push(format!("and {} more", thousands(self.count - line.evidence.len() as u64)));
        }
        if self.unread > 0 {
            line.evidence.push(format!("{} files cannot be read whole on the source either", thousands(self.unread)));
        }
        if self.count == 0 {
            let (placed, read) = (human(self.placed), human(self.bytes - self.placed));
            line.evidence
                .push(format!("{placed} lie at the same places on both, in blocks that were read back and compared; {read} were read again on both"));
        }
        line
    }
}

/// Bytes, hash, and whether a part could not be read; or why it cannot be opened.
type Hashed = Result<(u64, blake3::Hash, bool), Finding>;

/// What a stream holds, or what is stored for it where that cannot be understood: encrypted, or kept elsewhere.
fn opened<'a>(fs: &'a dyn Volume, node: &Node, stream: &str) -> badger_fs::tree::Result<Content<'a>> {
    fs.open(node, stream).or_else(|finding| fs.stored(node, stream).map_err(|_| finding))
}

/// Hashes a stream; `None` where the run was stopped. What cannot be read counts as zero, as on the target.
fn hash(context: &Context, fs: &dyn Volume, node: &Node, stream: &str, buffer: &mut Buffer) -> Option<Hashed> {
    let content = match opened(fs, node, stream) {
        Ok(content) => content,
        Err(finding) => return Some(Err(finding)),
    };
    let (mut hasher, mut at, mut lost) = (blake3::Hasher::new(), 0, Vec::new());
    while at < content.size() {
        if !context.control.go_on() {
            return None;
        }
        // A hole counts by its length alone; it may be longer than anybody wants to read.
        let hole = content.hole(at);
        if hole > 0 {
            hasher.update(&hole.to_le_bytes());
            at += hole;
            continue;
        }
        let count = content.read_hard(at, buffer, &mut lost);
        if count == 0 {
            break;
        }
        hasher.update(&buffer[..count]);
        at += count as u64;
    }
    Some(Ok((at, hasher.finalize(), !lost.is_empty())))
}
