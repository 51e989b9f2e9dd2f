//! Run, of a drive that fails: the surface, the pass and where it is, what is saved, and whether it is worth going on.

use super::asking::Asking;
use super::run::under;
use super::view::JobView;
use crate::draw::{chart, cut, loud, pad, pad_left, print, print_right, say, surface};
use crate::message::{Hit, Hits};
use crate::step::Step;
use crate::theme::Mean;
use badger_bench::Bench;
use badger_drive::size::{human, span, thousands};
use badger_drive::{Extents, Phase};
use badger_salvage::map::{Map, State};
use badger_salvage::run::{Steer, Watch};
use badger_salvage::strategy::{Pass, Worth};
use crossterm::event::KeyCode;
use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::text::Span;
use std::ops::Range;
use std::time::Duration;

type Line = Vec<Span<'static>>;

/// The last so many seconds tell what there is to hope for.
const LATELY: f64 = 600.0;

impl JobView {
    /// Steers the run; false where the key is another one's.
    pub(super) fn steer_key(&self, code: KeyCode) -> bool {
        let (Some(rescue), Some(_)) = (&self.rescue, &self.running) else { return false };
        let wish = match (code, self.under_cursor()) {
            (KeyCode::Char('b'), _) => {
                let mut watch = rescue.seat.watch.lock().expect("watch lock");
                watch.backwards = !watch.backwards;
                Steer::Backwards(watch.backwards)
            }
            (KeyCode::Char('g'), Some(here)) => Steer::Here(here.start),
            (KeyCode::Char('p'), Some(here)) => Steer::Value(std::iter::once(here).collect(), Some(Worth::Picked)),
            (KeyCode::Char('n'), Some(here)) => Steer::Value(std::iter::once(here).collect(), None),
            (KeyCode::Char('z'), _) => Steer::Rest(Duration::from_secs(120)),
            _ => return false,
        };
        rescue.seat.wishes.lock().expect("wishes lock").push_back(wish);
        true
    }
}

impl JobView {
    /// The place under the cursor, in bytes.
    fn under_cursor(&self) -> Option<Range<u64>> {
        let size = self.rescue.as_ref()?.sight.as_ref()?.sizes.0;
        let count = usize::from(self.field.0.max(1)) * usize::from(self.field.1.max(1));
        self.cursor.map(|cursor| surface::share(cursor.min(count - 1), count, size))
    }

    /// Asks what is to be known of a drive that is being salvaged, as far as it is seen.
    pub(super) fn rescue_asks(&mut self, bench: &Bench) {
        let (at, is_seen) = (self.under_cursor(), self.step == Step::Run && self.running.is_some());
        if let Some(rescue) = self.rescue.as_mut().filter(|_| is_seen) {
            let seconds = rescue.seat.watch.lock().expect("watch lock").seconds;
            rescue.asking.turn(bench, &rescue.order.map, at, seconds);
        }
    }
}

/// Whose the place under the cursor is.
fn whose(asking: &Asking) -> String {
    match &asking.owners {
        None => "looking whose that is ...".into(),
        Some(None) => "whose that is cannot be told yet".into(),
        Some(Some(owners)) if owners.names.is_empty() => "no file there, as far as folders are saved".into(),
        Some(Some(owners)) => format!("{}{}", owners.names.join(" · "), if owners.more { " · and more" } else { "" }),
    }
}

/// The map as the surface draws it.
fn drawn(map: &Map) -> Extents<surface::State> {
    let mut out = Extents::new();
    for (range, state) in map.iter() {
        match state {
            State::Saved => out.set(range, surface::State::Saved),
            State::Deferred(_) => out.set(range, surface::State::Deferred),
            State::Lost => out.set(range, surface::State::Lost),
            State::Unread => {}
        }
    }
    out
}

/// What it does, and why there.
fn doing(watch: &Watch) -> String {
    if let Some(waits) = &watch.waits {
        return waits.clone();
    }
    let Some(ask) = &watch.now else { return "it begins, or ends".into() };
    let why = match ask.pass {
        _ if ask.worth == Worth::Structure => "looking for tables and what the file systems keep",
        Pass::Skim => "long reads; trouble is left at once",
        Pass::Edge => "into what was jumped over, from where it reads well",
        Pass::Comb => "sector by sector between bad ones",
        Pass::Insist => "what failed, once more",
    };
    format!("{} · {why} · {}", ask.pass.word(), ask.worth.word())
}

/// Seconds that what is left takes about, the least and the most.
fn left(watch: &Watch) -> Option<(f64, f64)> {
    let (failure, rate) = watch.pace;
    let totals = watch.totals;
    if rate <= 0.0 || watch.timeline.len() < 3 {
        return None;
    }
    let least = (totals.unread + totals.deferred) as f64 / rate;
    // Should all that is deferred be bad, each of its sectors costs a failure.
    let most = totals.unread as f64 / rate + totals.deferred as f64 / 512.0 * failure.max(0.001);
    Some((least, most.max(least)))
}

/// A long span without its minutes.
fn rough(seconds: f64) -> String {
    if (36_000.0..172_000.0).contains(&seconds) { format!("{:.0} h", seconds / 3600.0) } else { span(seconds) }
}

/// What the last minutes brought, and what is still to come.
fn worth(watch: &Watch, asking: &Asking) -> Line {
    let since = watch.seconds - LATELY;
    let then = watch.timeline.iter().rev().find(|(at, _)| *at <= since).or(watch.timeline.first()).map_or(0, |(_, saved)| *saved);
    let brought = watch.totals.saved.saturating_sub(then);
    let still = watch.totals.unread + watch.totals.deferred;
    let lately = span(watch.seconds.min(LATELY));
    let files = match asking.became_whole(since) {
        None => String::new(),
        Some((_, whole)) if watch.seconds < LATELY => format!(", {} whole files", thousands(whole)),
        Some((more, whole)) => format!(" and {} whole files of {}", thousands(more), thousands(whole)),
    };
    vec![
        say(Mean::Quiet, "worth going on?  "),
        say(Mean::Text, format!("the last {lately} brought {}{files}; still to come at best {}", human(brought), human(still))),
    ]
}

/// Draws the step.
pub(super) fn draw(job: &mut JobView, frame: &mut Frame, area: Rect, hits: &mut Hits) -> Vec<(Rect, usize)> {
    let (Some(rescue), Some(running)) = (&job.rescue, &job.running) else { return Vec::new() };
    let watch = {
        let mut watch = rescue.seat.watch.lock().expect("watch lock");
        watch.wants_map = true;
        watch.clone()
    };
    let size = rescue.sight.as_ref().map_or(1, |sight| sight.sizes.0.max(1));
    let phase = running.look(|progress| progress.phase);
    let (paused, share) = (running.control.is_paused(), running.look(|progress| progress.meter.share()));
    let wide = area.width >= 84;
    let beside = if wide { 31 } else { 0 };
    let above = if wide { 2 } else { 5 };
    let charted = if area.height >= 26 { 5 } else { 2 };
    let below = charted + 5;
    let field = Rect { y: area.y + above, width: area.width - beside, height: area.height.saturating_sub(above + below).max(3), ..area };
    let buf = frame.buffer_mut();
    let map = watch.map.as_ref().map(drawn).unwrap_or_default();
    let head = watch.now.as_ref().map(|ask| ask.range.start);
    let what = match phase {
        Some(Phase::Prove) => format!("reading the target back, {:.0} %", share * 100.0),
        _ if paused && watch.waits.is_none() => "held".into(),
        _ => doing(&watch),
    };
    print(
        buf,
        area.x,
        area.y,
        area.width,
        vec![loud(if paused || watch.waits.is_some() { Mean::Mind } else { Mean::Focus }, cut(&format!("▸ {what}"), usize::from(area.width)))],
    );
    surface::draw(buf, field, &map, size, head, job.cursor);
    let facts = facts(&watch, size, wide);
    if wide {
        for (spans, y) in facts.into_iter().zip(field.y..field.bottom()) {
            print(buf, field.right() + 3, y, beside - 3, spans);
        }
    } else {
        for (at, spans) in facts.into_iter().enumerate() {
            print(buf, area.x + (at % 2) as u16 * (area.width / 2), area.y + 2 + at as u16 / 2, area.width / 2 - 1, spans);
        }
    }
    let sector = rescue.sight.as_ref().map_or(512, |sight| u64::from(sight.sector));
    let (who, bytes) = under((job.cursor, head.unwrap_or(0)), field, size);
    print(buf, area.x, field.bottom(), area.width, place(&watch, &map, (who, bytes), sector));
    let whose = if job.cursor.is_some() { whose(&rescue.asking) } else { "arrows put a cursor there: whose a place is".into() };
    print(buf, area.x, field.bottom() + 1, area.width, vec![say(Mean::Quiet, cut(&whose, usize::from(area.width)))]);
    print(buf, area.x, field.bottom() + 2, area.width, worth(&watch, &rescue.asking));
    let y = field.bottom() + 4;
    print(buf, area.x, y - 1, area.width, vec![say(Mean::Quiet, "saved over time")]);
    print_right(buf, area, y - 1, vec![say(Mean::Quiet, format!("{} of {}", human(watch.totals.saved), human(size)))]);
    let place = Rect { y, height: charted.min(area.bottom().saturating_sub(y)), ..area };
    chart::draw(buf, place, &curve(&watch, usize::from(area.width)), watch.totals.saved as f64, Mean::Source);
    job.field = (field.width, field.height);
    hits.push((field, Hit::Surface));
    Vec::new()
}

/// Saved over time, one value a column.
fn curve(watch: &Watch, columns: usize) -> Vec<f64> {
    let mut points = watch.timeline.iter().peekable();
    let mut saved = 0.0;
    let value = |column: usize| {
        let until = watch.seconds * (column + 1) as f64 / columns.max(1) as f64;
        while let Some((_, bytes)) = points.next_if(|(at, _)| *at <= until) {
            saved = *bytes as f64;
        }
        saved
    };
    (0..columns).map(value).collect()
}

/// What has become of the drive's bytes, and where there is room also how it goes and what went wrong last.
fn facts(watch: &Watch, size: u64, wide: bool) -> Vec<Line> {
    let totals = watch.totals;
    let line = |mark: &str, mean: Mean, name: &str, bytes: u64| {
        let share = bytes as f64 * 100.0 / size as f64;
        vec![
            loud(mean, format!("{mark} ")),
            say(Mean::Text, pad(name, 9)),
            say(Mean::Text, pad_left(&human(bytes), 8)),
            say(Mean::Quiet, format!(" {share:>6.2} %")),
        ]
    };
    let mut facts = vec![
        line("█", Mean::Source, "saved", totals.saved),
        line("▒", Mean::Mind, "deferred", totals.deferred),
        line("╳", Mean::Lost, "lost", totals.lost),
        line("·", Mean::Quiet, "unread", totals.unread),
    ];
    if !wide {
        return facts;
    }
    let left = left(watch)
        .map_or_else(|| "-".into(), |(least, most)| if most < least * 1.2 { span(most) } else { format!("{}–{}", span(least), rough(most)) });
    facts.push(vec![]);
    facts.push(vec![say(Mean::Quiet, "  reads    "), say(Mean::Text, format!("{}/s at best", human(watch.pace.1 as u64)))]);
    facts.push(vec![say(Mean::Quiet, "  fails    "), say(Mean::Text, format!("{:.2} s each", watch.pace.0))]);
    facts.push(vec![say(Mean::Quiet, "  left     "), say(Mean::Text, left)]);
    facts.push(vec![say(Mean::Quiet, "  so far   "), say(Mean::Text, span(watch.seconds))]);
    facts.push(vec![]);
    if !watch.troubles.is_empty() {
        facts.push(vec![say(Mean::Quiet, "  sector      cost   ago")]);
    }
    facts.extend(watch.troubles.iter().rev().map(|(at, byte, took)| {
        let ago = format!(" {}", span(watch.seconds - at));
        vec![say(Mean::Lost, "╳ "), say(Mean::Text, pad(&thousands(byte / 512), 11)), say(Mean::Quiet, format!(" {took:>4.1} s{ago}"))]
    }));
    facts
}

/// What is at the cursor, or where it is read.
fn place(watch: &Watch, map: &Extents<surface::State>, (who, bytes): (&str, Range<u64>), sector: u64) -> Line {
    let of = |wanted: surface::State| human(map.total_within(bytes.clone(), |state| *state == wanted));
    let place = watch.places.iter().find(|(range, _)| range.contains(&bytes.start) || range.contains(&(bytes.end - 1)));
    let place = place.map_or(if watch.places.is_empty() { "partitions not known yet" } else { "no partition" }, |(_, name)| name);
    let counts = [of(surface::State::Saved), of(surface::State::Deferred), of(surface::State::Lost)];
    vec![
        say(Mean::Quiet, format!("{who}  ")),
        say(Mean::Text, format!("sectors {}–{}", thousands(bytes.start / sector), thousands(bytes.end.div_ceil(sector).saturating_sub(1)))),
        say(Mean::Text, format!(" · {place}")),
        say(Mean::Quiet, format!(" · {} saved, {} deferred, {} lost", counts[0], counts[1], counts[2])),
    ]
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_curve_has_a_value_for_each_column() {
        let watch = Watch { seconds: 10.0, timeline: vec![(0.0, 0), (2.0, 20), (5.0, 50), (10.0, 60)], ..Watch::default() };
        assert_eq!(curve(&watch, 5), [20.0, 20.0, 50.0, 50.0, 60.0]);
    }

    #[test]
    fn what_is_left_is_a_range() {
        let mut watch = Watch { pace: (1.0, 1e6), timeline: vec![(0.0, 0); 3], ..Watch::default() };
        (watch.totals.unread, watch.totals.deferred) = (10_000_000, 512 * 100);
        let (least, most) = left(&watch).unwrap();
        assert!((10.0..10.1).contains(&least) && (110.0..110.1).contains(&most), "{least} {most}");
    }
}
