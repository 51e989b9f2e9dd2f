//! What the target is to hold, put together out of the source while it is read: bytes as they are, and volumes shown
//! anew. The engines read this in the places of the target and know nothing of where it comes from.

use badger_drive::buffer::Buffer;
use badger_drive::clock::Clock;
use badger_drive::flight::{Flight, Landed};
use badger_drive::in_turn;
use badger_drive::{Control, Geometry, Identity, Medium, Patience, ReadError, Refusal, Source, Stretch};
use badger_fs::{View, Wanted, Weight};
use badger_layout::Plan;
use badger_layout::plan::Draft;
use std::collections::VecDeque;
use std::fs::File;
use std::sync::Arc;

use badger_inspect::volumes::{self, Surveyed};

/// One stretch, in bytes.
struct Span {
    to: u64,
    len: u64,
    what: What,
}

enum What {
    /// The source, from a byte on.
    Source(u64),
    /// A volume from its first byte on.
    View(Arc<View>),
}

/// What the target is to hold, without what the plan writes besides.
pub struct Image {
    source: Source,
    geometry: Geometry,
    /// Sorted by `to`, without overlaps.
    spans: Vec<Span>,
}

/// Shows a volume anew and goes over what came out, before anything is written anywhere.
fn shown(volume: &Surveyed, recast: &badger_layout::plan::Recast, plan: &Plan, control: &Control) -> Result<Arc<View>, Refusal> {
    let name = volumes::name(volume.number, &volume.volume);
    let refuse = |code, text: String| Refusal::new(code, format!("{name}: {text}"));
    let missing = || refuse("volume-whole", "it is only recognised, not read: it can only be copied as it is".into());
    let (fs, survey) = volume.walked.as_ref().ok_or_else(missing)?;
    let sector = plan.target.sector;
    let fresh = <[u8; 16]>::try_from(recast.id.as_slice()).ok();
    let wanted = Wanted { len: recast.len, start: recast.to / u64::from(sector), sector, fresh };
    let view = Arc::new(fs.resized(survey, &wanted).map_err(|finding| refuse(finding.code, finding.text))?);
    let unsound = |text: String| refuse("resize-unsound", format!("shown with its new size it would not be sound ({text}); nothing was written"));
    let drive = Source::detached(view.clone());
    drive.obey(control);
    let after = badger_fs::open(&drive, 0, recast.len).map_err(|finding| unsound(finding.text))?.survey();
    if let Some(finding) = after.findings.iter().find(|finding| finding.weight > Weight::Note) {
        return Err(unsound(finding.text.clone()));
    }
    if (after.files, after.directories) != (survey.files, survey.directories) {
        return Err(unsound(format!("{} files where there were {}", after.files, survey.files)));
    }
    Ok(view)
}

impl Image {
    /// Goes over every volume that is shown anew, and makes the plan final: what must be copied of them is known then.
    ///
    /// # Errors
    /// A refusal where a volume cannot be shown as the draft wants it.
    pub fn settle(source: &Source, draft: Draft, surveyed: &[Surveyed], control: &Control) -> Result<(Plan, Self), Refusal> {
        let before = draft.plan().clone();
        let mut views = Vec::new();
        let plan = draft.settle(|recast| {
            let volume = surveyed.iter().find(|volume| volume.number == recast.number);
            let missing = || Refusal::new("volume-gone", format!("partition {} is not there as it was when the plan was made", recast.number));
            let view = shown(volume.ok_or_else(missing)?, recast, &before, control);
            if control.is_stopped() {
                return Err(Refusal::new("stopped", "stopped while the plan was gone over; nothing was written"));
            }
            let view = view?;
            let needed = view.needed();
            views.push(Span { to: recast.to, len: recast.len, what: What::View(view) });
            Ok(needed)
        })?;
        let image = Self::put_together(source, &plan, views);
        Ok((plan, image))
    }

    /// What a plan says that shows no volume anew.
    pub fn plain(source: &Source, plan: &Plan) -> Self {
        Self::put_together(source, plan, Vec::new())
    }

    fn put_together(source: &Source, plan: &Plan, views: Vec<Span>) -> Self {
        let raw = plan.moves.iter().filter(|step| step.volume.is_none());
        let mut spans: Vec<Span> = raw.map(|step| Span { to: step.to, len: step.len, what: What::Source(step.from) }).collect();
        spans.extend(views);
        spans.sort_by_key(|span| span.to);
        let sector = plan.source.sector.min(plan.target.sector).max(512);
        let geometry = Geometry { size_bytes: plan.size(), logical_sector: sector, physical_sector: sector };
        Self { source: source.clone(), geometry, spans }
    }

    /// The spans that a stretch touches: the part of the stretch, and the span.
    fn within(&self, offset: u64, end: u64) -> impl Iterator<Item = (u64, u64, &Span)> {
        let first = self.spans.partition_point(|span| span.to + span.len <= offset);
        self.spans[first..].iter().take_while(move |span| span.to < end).map(move |span| (span.to.max(offset), (span.to + span.len).min(end), span))
    }

    /// The byte of the source that lies at a byte of the target, where it comes from there as it is.
    pub fn origin(&self, at: u64) -> Option<u64> {
        let (_, _, span) = self.within(at, at + 1).next()?;
        match &span.what {
            What::Source(from) => Some(from + (at - span.to)),
            What::View(view) => view.origin(at - span.to),
        }
    }

    /// Where on the source a stretch of the target comes from, piece by piece: start and length in bytes. `grain` is the
    /// least piece.
    pub fn origins(&self, start: u64, len: u64, grain: u64) -> Vec<(u64, u64)> {
        let mut out: Vec<(u64, u64)> = Vec::new();
        let mut at = start;
        while at < start + len {
            let step = grain.min(start + len - at);
            let from = self.origin(at).unwrap_or(at);
            match out.last_mut() {
                Some((before, held)) if *before + *held == from => *held += step,
                _ => out.push((from, step)),
            }
            at += step;
        }
        out
    }

    /// Bytes of the volume shown at a byte of the target that lie elsewhere in it than they did.
    pub fn moved(&self, to: u64) -> u64 {
        let view = self.spans.iter().find_map(|span| if let (true, What::View(view)) = (span.to == to, &span.what) { Some(view) } else { None });
        view.map_or(0, |view| view.moved())
    }
}

/// Reads in flight: those of stretches that lie on the source as they are. All else is read when it is waited for.
struct Through<'a> {
    image: &'a Image,
    source: Box<dyn Flight + 'a>,
    order: VecDeque<Begun>,
}

enum Begun {
    /// On the source; where the stretch lies in the image.
    There(u64),
    Here(u64, usize, Buffer),
}

impl Flight for Through<'_> {
    fn has_room(&self) -> bool {
        self.source.has_room() && !self.order.iter().any(|begun| matches!(begun, Begun::Here(..)))
    }

    fn begin(&mut self, offset: u64, len: usize, buffer: Buffer) {
        let end = offset + len as u64;
        let whole = self.image.within(offset, end).next().filter(|(from, to, _)| (*from, *to) == (offset, end));
        match whole.map(|(_, _, span)| (span.to, &span.what)) {
            Some((to, What::Source(first))) => {
                self.source.begin(first + (offset - to), len, buffer);
                self.order.push_back(Begun::There(offset));
            }
            _ => self.order.push_back(Begun::Here(offset, len, buffer)),
        }
    }

    fn land(&mut self) -> Option<Landed> {
        match self.order.pop_front()? {
            Begun::There(offset) => {
                let landed = self.source.land()?;
                let outcome = landed.outcome.map_err(|error| placed(error, landed.offset, offset));
                Some(Landed { offset, outcome, ..landed })
            }
            Begun::Here(offset, len, mut buffer) => {
                let outcome = self.image.read_at(offset, &mut buffer[..len]);
                Some(Landed { offset, len, buffer, outcome })
            }
        }
    }
}

/// An error where it shows in the image: what lies at `place` of what is read lies at `at`.
fn placed(error: ReadError, place: u64, at: u64) -> ReadError {
    let shift = |offset: u64| at + offset.saturating_sub(place);
    match error {
        ReadError::Unreadable { offset, len, why } => ReadError::Unreadable { offset: shift(offset), len, why },
        ReadError::Silent { offset, after } => ReadError::Silent { offset: shift(offset), after },
        other => other,
    }
}

impl Medium for Image {
    fn geometry(&self) -> Geometry {
        self.geometry
    }

    fn identity(&self) -> &Identity {
        self.source.identity()
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<(), ReadError> {
        let end = offset + buf.len() as u64;
        let mut at = offset;
        for (from, to, span) in self.within(offset, end) {
            buf[(at - offset) as usize..(from - offset) as usize].fill(0);
            let inner = from - span.to;
            let out = &mut buf[(from - offset) as usize..(to - offset) as usize];
            let (place, read) = match &span.what {
                What::Source(first) => (first + inner, self.source.read_at(first + inner, out)),
                What::View(view) => (inner, view.read_at(inner, out)),
            };
            read.map_err(|error| placed(error, place, from))?;
            at = to;
        }
        buf[(at - offset) as usize..].fill(0);
        Ok(())
    }

    fn flight(&self, depth: u32, patience: &Patience) -> Option<Box<dyn Flight + '_>> {
        Some(Box::new(Through { image: self, source: in_turn::flight(&*self.source, depth, patience), order: VecDeque::new() }))
    }

    fn stretch(&self, offset: u64, max: u64) -> Stretch {
        let end = offset.saturating_add(max).min(self.geometry.size_bytes);
        let spans = self.within(offset, end).map(|(from, to, span)| (from..to, span));
        Stretch::put_together(offset, end, spans, |at, len, span| match &span.what {
            What::Source(first) => self.source.stretch(first + (at - span.to), len),
            What::View(view) => view.stretch(at - span.to, len),
        })
    }

    fn rests_on(&self) -> Vec<&File> {
        self.source.rests_on()
    }

    fn present(&self) -> bool {
        self.source.present()
    }

    fn clock(&self) -> Option<Arc<dyn Clock>> {
        self.source.clock()
    }
}
