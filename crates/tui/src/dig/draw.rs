//! How Dig looks.

use super::view::{Against, Choice, Dig, Entry, Mode, Search, View, choices, rule};
use crate::draw::{bar, cut_start, inset, loud, pad, pad_left, picture, print, print_right, say, wrap};
use crate::message::{Hit, Hits};
use crate::theme::Mean;
use badger_bench::browse::preview::{Body, Look};
use badger_bench::browse::rows::{Counted, Row};
use badger_bench::browse::work::Copying;
use badger_bench::shelf::Item;
use badger_drive::size::{human, span, thousands};
use badger_fs::tree::{NodeKind, Resolution, Time};
use badger_people::changes::{Change, Side};
use ratatui::Frame;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::text::Span;

type Lines = Vec<Vec<Span<'static>>>;

fn written(time: Option<Time>, pattern: &str) -> String {
    let moment = time.and_then(|time| jiff::Timestamp::new(time.seconds, time.nanos.min(999_999_999) as i32).ok());
    moment.map_or_else(|| "-".into(), |moment| moment.strftime(pattern).to_string())
}

/// Draws the place.
pub fn draw(dig: &Dig, items: &[Item], frame: &mut Frame, body: Rect, hits: &mut Hits) {
    let area = inset(body, 1);
    match &dig.view {
        None => volumes(dig, items, frame.buffer_mut(), area, hits),
        Some(view) => {
            let tray = tray_lines(view, dig.entry.as_ref(), usize::from(area.width));
            let below = tray.len() as u16 + 1;
            let above = Rect { height: area.height.saturating_sub(below), ..area };
            let left = (above.width * 46 / 100).max(36).min(above.width);
            let buf = frame.buffer_mut();
            tree(view, buf, Rect { width: left, ..above }, hits);
            let x = above.x + left + 1;
            (above.y..above.bottom()).for_each(|y| print(buf, x, y, 1, vec![say(Mean::Quiet, "│")]));
            preview(view, buf, Rect { x: x + 2, width: above.right().saturating_sub(x + 2), ..above });
            crate::draw::rule(buf, body, above.bottom());
            for (line, y) in tray.into_iter().zip(above.bottom() + 1..area.bottom()) {
                print(buf, area.x, y, area.width, line);
            }
        }
    }
}

fn volumes(dig: &Dig, items: &[Item], buf: &mut Buffer, area: Rect, hits: &mut Hits) {
    let choices = choices(items, dig.only.as_deref());
    let title = match (dig.opening.is_some(), choices.len()) {
        (true, _) => "opening the volume ...".to_string(),
        (_, 0) => "no volume on the bench yet: attach a drive, or wait until it was looked at".into(),
        (_, count) => format!("Dig into one of {count} volumes"),
    };
    print(buf, area.x, area.y, area.width, vec![say(Mean::Quiet, title)]);
    if let Some(Entry::Folder(text)) = &dig.entry {
        let mut line = field("look into", text);
        line.push(say(Mean::Quiet, "   a folder of this machine, by its path"));
        print(buf, area.x, area.bottom().saturating_sub(1), area.width, line);
    }
    let rows = usize::from(area.height.saturating_sub(4));
    let skip = dig.chosen.saturating_sub(rows.saturating_sub(1));
    let head = format!("  {} {} {} {} {}", pad("drive", 22), pad("volume", 24), pad("format", 10), pad_left("size", 9), pad_left("in use", 9));
    print(buf, area.x, area.y + 2, area.width, vec![say(Mean::Quiet, head)]);
    for (at, choice) in choices.iter().enumerate().skip(skip).take(rows) {
        let y = area.y + 3 + (at - skip) as u16;
        let chosen = at == dig.chosen;
        let Choice { drive, number, name, content, len, used, .. } = choice;
        let share = used.map(|used| used as f64 / (*len).max(1) as f64);
        let used = used.map_or_else(|| "-".into(), human);
        let text = format!(
            "{} {} {} {} {}",
            pad(drive, 22),
            pad(&format!("{} {name}", number.unwrap_or_default()), 24),
            pad(content, 10),
            pad_left(&human(*len), 9),
            pad_left(&used, 9)
        );
        let mut spans =
            vec![loud(Mean::Focus, if chosen { "▌ " } else { "  " }), if chosen { loud(Mean::Text, text) } else { say(Mean::Text, text) }];
        if let Some(share) = share {
            let (full, rest) = bar(share, usize::from(area.width.saturating_sub(94)).min(40));
            spans.extend([say(Mean::Quiet, format!(" {:>5.1} %  ", share * 100.0)), say(Mean::Source, full), say(Mean::Quiet, rest)]);
        }
        print(buf, area.x, y, area.width, spans);
        hits.push((Rect { y, height: 1, ..area }, Hit::Line(at)));
    }
}

fn tree(view: &View, buf: &mut Buffer, area: Rect, hits: &mut Hits) {
    let (rows, chosen) = view.shown();
    let choice = &view.choice;
    let by = format!(" by {}", view.sort.word());
    let (head, right) = match &view.search {
        None => {
            let number = choice.number.map(|number| format!("{number} ")).unwrap_or_default();
            let volume = format!("  {number}{} {}", view.opened.label, view.opened.what);
            (vec![loud(Mean::Source, choice.drive.clone()), say(Mean::Quiet, volume)], by)
        }
        Some(Search { against: Some(against), text, rows, .. }) => {
            let state = match &against.sum {
                Some(sum) if sum.cut.is_some() || !sum.findings.is_empty() => " not all compared".to_string(),
                Some(_) => format!(" {} changed", thousands(rows.len() as u64)),
                None => format!(" {} so far ...", thousands(rows.len() as u64)),
            };
            (vec![say(Mean::Quiet, "since  "), loud(Mean::Text, text.clone())], state)
        }
        Some(search) => {
            let state = match search.over {
                Some(over) => format!(
                    " {}{} of {} fit{}",
                    if over.is_cut { "the first " } else { "" },
                    thousands(search.rows.len() as u64),
                    thousands(over.entries),
                    if over.unread > 0 { format!(", ▲ {} not read", thousands(over.unread)) } else { String::new() }
                ),
                None => format!(" {} so far ...", thousands(search.rows.len() as u64)),
            };
            let sort = if area.width >= 56 { format!(" ·{by}") } else { String::new() };
            (vec![say(Mean::Quiet, "find  "), loud(Mean::Text, search.text.clone())], format!("{state}{sort}"))
        }
    };
    print(buf, area.x, area.y, area.width.saturating_sub(right.chars().count() as u16), head);
    print_right(buf, area, area.y, vec![say(Mean::Quiet, right)]);
    let height = usize::from(area.height.saturating_sub(2));
    // The chosen row stays away from the edges where it can.
    let skip = chosen.saturating_sub(height / 2).min(rows.len().saturating_sub(height));
    let wide = area.width >= 56;
    let name = usize::from(area.width).saturating_sub(if wide { 24 } else { 13 });
    for (at, row) in rows.iter().enumerate().skip(skip).take(height) {
        let y = area.y + 2 + (at - skip) as u16;
        print(buf, area.x, y, area.width, line(view, row, at == chosen, name, wide));
        hits.push((Rect { y, height: 1, ..area }, Hit::Line(at)));
    }
    if rows.is_empty() {
        let text = match &view.search {
            Some(Search { against: Some(Against { sum: Some(sum), .. }), .. }) if sum.is_same() => "● the same by names, sizes, times and attributes",
            Some(Search { against: Some(against), .. }) => {
                if against.sum.is_some() {
                    "○ not all of it could be compared"
                } else {
                    "comparing ..."
                }
            }
            Some(Search { over: Some(over), .. }) if over.unread > 0 => "▲ nothing of what could be read fits; not all of it could be read",
            Some(search) if search.over.is_some() => "nothing fits; f changes the words, a colon names a kind: :picture",
            Some(_) => "searching ...",
            None => "reading ...",
        };
        print(buf, area.x, area.y + 2, area.width, vec![say(Mean::Quiet, text)]);
    }
}

fn line(view: &View, row: &Row, chosen: bool, width: usize, wide: bool) -> Vec<Span<'static>> {
    let picked = !view.tray.is_empty() && view.is_picked(&row.path());
    let mark = match row.entry.node.kind {
        NodeKind::Directory if row.waits => "…",
        NodeKind::Directory if row.open => "▾",
        NodeKind::Directory => "▸",
        NodeKind::Link => "→",
        NodeKind::Other => "?",
        // Its content is kept in another way, or another place; the look at it says how.
        NodeKind::File if row.entry.node.what.is_some() => "◌",
        NodeKind::File => " ",
    };
    let indent = usize::from(row.depth).min(width / 3) * 2;
    let shown = match &view.search {
        // The name comes first: it tells hits apart.
        Some(_) if !row.parent.is_empty() => format!("{}  in {}", row.entry.name.shown, row.parent),
        _ => row.entry.name.shown.clone(),
    };
    let hidden = row.entry.node.attributes & 2 != 0 || row.entry.name.shown.starts_with('.');
    let change = row.change.as_deref().map(change_mark);
    let mean = match () {
        () if change.is_some_and(|(mark, _)| mark == '-') => Mean::Quiet,
        () if row.trouble.is_some() => Mean::Mind,
        () if picked => Mean::Target,
        () if hidden => Mean::Quiet,
        () => Mean::Text,
    };
    let trouble = if row.trouble.is_some() { " ▲" } else { "" };
    let width = if change.is_some() { width.saturating_sub(2) } else { width };
    let text = pad(&format!("{}{mark} {shown}{trouble}", " ".repeat(indent)), width);
    let size = if row.is_folder() { "-".into() } else { human(row.entry.node.size) };
    let mut spans = vec![
        loud(Mean::Focus, if chosen { "▌" } else { " " }),
        loud(Mean::Target, if picked { "●" } else { " " }),
        if chosen { loud(if mean == Mean::Text { Mean::Focus } else { mean }, text) } else { say(mean, text) },
        say(Mean::Quiet, format!(" {}", pad_left(&size, 9))),
    ];
    if let Some((mark, mean)) = change {
        spans.insert(2, loud(mean, format!("{mark} ")));
    }
    if wide {
        spans.push(say(Mean::Quiet, format!(" {}", pad_left(&written(row.entry.node.modified, "%Y-%m-%d"), 10))));
    }
    spans
}

/// How a change is marked: it came, it is gone, it is another, or nobody knows.
fn change_mark(change: &Change) -> (char, Mean) {
    match (change.before, change.after) {
        (None, _) => ('+', Mean::Target),
        (_, None) => ('-', Mean::Lost),
        _ if change.what.is_empty() => ('?', Mean::Mind),
        _ => ('~', Mean::Source),
    }
}

/// What a change is, in lines.
fn change_lines(change: &Change) -> Lines {
    let side = |side: Option<Side>| {
        side.map_or_else(|| "not there".to_string(), |side| format!("{} of {}", human(side.size), written(side.modified, "%Y-%m-%d %H:%M")))
    };
    let mut lines = vec![fact("earlier", side(change.before)), fact("now", side(change.after))];
    if !change.what.is_empty() {
        lines.push(fact("differs in", change.what.join(", ")));
    }
    lines.push(Vec::new());
    lines
}

fn preview(view: &View, buf: &mut Buffer, area: Rect) {
    let tab = |mode: Mode, word: &'static str| if view.mode == mode { loud(Mean::Focus, word) } else { say(Mean::Quiet, word) };
    let gap = || say(Mean::Quiet, "  ");
    let tabs = vec![tab(Mode::Content, "content"), gap(), tab(Mode::Properties, "properties"), gap(), tab(Mode::Bytes, "bytes")];
    print(buf, area.x, area.y, area.width, tabs);
    let Some(look) = view.look.as_ref().filter(|look| view.row().is_some_and(|row| row.path() == look.path)) else {
        print(buf, area.x, area.y + 2, area.width, vec![say(Mean::Quiet, if view.row().is_some() { "looking ..." } else { "" })]);
        return;
    };
    let inside = Rect { y: area.y + 2, height: area.height.saturating_sub(2), ..area };
    let mut lines = view.row().and_then(|row| row.change.as_deref()).map(change_lines).unwrap_or_default();
    lines.extend(lost_lines(look));
    if let Some(trouble) = &look.trouble {
        lines.extend(
            wrap(trouble, usize::from(area.width).saturating_sub(2)).into_iter().map(|text| vec![loud(Mean::Mind, "▲ "), say(Mean::Text, text)]),
        );
    }
    match view.mode {
        Mode::Content => {
            lines.extend(fact_lines(look));
            if let Body::Picture { width, dots, .. } = &look.body {
                let y = inside.y + lines.len() as u16 + 1;
                picture::draw(buf, Rect { y, height: inside.bottom().saturating_sub(y), ..inside }, *width, dots);
            } else {
                let shown = body_lines(look, usize::from(area.width));
                if !lines.is_empty() && !shown.is_empty() {
                    lines.push(Vec::new());
                }
                let room = usize::from(inside.height).saturating_sub(lines.len());
                let last = shown.len().saturating_sub(room);
                lines.extend(shown.into_iter().skip(view.scroll.min(last)));
            }
        }
        Mode::Properties => {
            let shown = property_lines(view, look);
            let last = (shown.len() + lines.len()).saturating_sub(usize::from(inside.height));
            lines.extend(shown.into_iter().skip(view.scroll.min(last)));
        }
        Mode::Bytes => lines.extend(byte_lines(look, usize::from(area.width))),
    }
    for (line, y) in lines.into_iter().zip(inside.y..inside.bottom()) {
        print(buf, inside.x, y, inside.width, line);
    }
}

fn lost_lines(look: &Look) -> Lines {
    let mut lines: Lines = look
        .lost
        .iter()
        .take(4)
        .map(|(start, len, sector)| {
            let place = sector.map(|sector| format!(", at sector {}", thousands(sector))).unwrap_or_default();
            vec![
                loud(Mean::Lost, "╳ cannot be read  "),
                say(Mean::Text, format!("bytes {}–{}{place}", thousands(*start), thousands(start + len - 1))),
            ]
        })
        .collect();
    if look.lost.len() > 4 {
        lines.push(vec![say(Mean::Lost, format!("╳ and {} more stretches", look.lost.len() - 4))]);
    }
    if look.read_through && look.lost.is_empty() {
        lines.push(vec![loud(Mean::Good, "● "), say(Mean::Text, "read through: whole")]);
    }
    lines
}

fn fact(name: &str, value: String) -> Vec<Span<'static>> {
    vec![say(Mean::Quiet, pad(name, 14)), say(Mean::Text, value)]
}

fn fact_lines(look: &Look) -> Lines {
    let mut lines = Lines::new();
    if let Some(format) = look.format {
        let name = if format.name == format.kind.word() { String::new() } else { format!(" · {}", format.name) };
        let more = match &look.body {
            Body::Text(encoding, _) => format!(" · {encoding}"),
            Body::Picture { size, .. } => format!(" · {} × {} dots", thousands(size.0.into()), thousands(size.1.into())),
            _ => String::new(),
        };
        let text = format!("{}{name}{more}", format.kind.word());
        lines.push(fact("is", format!("{text} · {}", human(look.node.size))));
    }
    lines.extend(look.facts.iter().map(|(name, value)| fact(name, value.clone())));
    lines
}

fn body_lines(look: &Look, width: usize) -> Lines {
    match &look.body {
        Body::Text(_, lines) => {
            let digits = lines.len().max(1).ilog10() as usize + 1;
            let numbered = lines.iter().zip(1..).map(|(line, number)| {
                vec![
                    say(Mean::Quiet, format!("{} ", pad_left(&number.to_string(), digits))),
                    say(Mean::Text, crate::draw::cut(line, width.saturating_sub(digits + 1))),
                ]
            });
            numbered.collect()
        }
        Body::Folder(folders, files, bytes) => {
            vec![fact("folders", thousands(*folders)), fact("files", thousands(*files)), fact("bytes", format!("{} right here", human(*bytes)))]
        }
        Body::Link(target) => vec![fact("leads to", target.clone())],
        Body::Nothing | Body::Picture { .. } => Vec::new(),
    }
}

/// How finely a time is kept, in words.
fn fineness(nanos: u64) -> String {
    match nanos {
        1 => "to a nanosecond".into(),
        100 => "to 100 ns".into(),
        nanos if nanos < 1_000_000_000 => format!("to {} ms", nanos / 1_000_000),
        nanos if nanos < 86_400_000_000_000 => format!("to {} s", nanos / 1_000_000_000),
        _ => "to the day".into(),
    }
}

fn property_lines(view: &View, look: &Look) -> Lines {
    let node = &look.node;
    let Resolution { modified, accessed, created } = view.opened.tree.resolution();
    let time = |time: Option<Time>, fine: u64| match time {
        Some(_) => format!("{}  {}", written(time, "%Y-%m-%d %H:%M:%S UTC"), fineness(fine)),
        None => "-".into(),
    };
    let mut lines = vec![
        fact("path", look.path.clone()),
        fact("size", format!("{} · {} bytes", human(node.size), thousands(node.size))),
        fact("changed", time(node.modified, modified)),
        fact("read", time(node.accessed, accessed)),
        fact("made", time(node.created, created)),
    ];
    if let Some(mode) = node.mode {
        let owner = node.owner.map(|(user, group)| format!("  user {user}, group {group}")).unwrap_or_default();
        lines.push(fact("permissions", format!("{mode:04o}{owner}")));
    }
    let flags = [(1, "read-only"), (2, "hidden"), (4, "system"), (32, "archive")];
    let set: Vec<&str> = flags.iter().filter(|(bit, _)| node.attributes & bit != 0).map(|(_, word)| *word).collect();
    if !set.is_empty() {
        lines.push(fact("attributes", set.join(", ")));
    }
    lines.push(fact("names", node.links.to_string()));
    lines.push(fact("number", thousands(node.id)));
    lines.extend(look.streams.iter().map(|stream| fact("stream", format!("{}  {}", stream.name.shown, human(stream.size)))));
    lines.extend(look.attributes.iter().map(|(name, len)| fact("attribute", format!("{name}  {len} bytes"))));
    let (count, packed) = (look.places.len(), if look.packed { ", packed" } else { "" });
    let Some(sector) = look.sector else { return lines };
    if count > 0 {
        lines.push(Vec::new());
        lines.push(fact("lies in", format!("{} {}{packed}", thousands(count as u64), if count == 1 { "piece" } else { "pieces" })));
        for (at, len) in look.places.iter().take(2000) {
            let text = match at {
                Some(first) => format!("sectors {}–{}", thousands(*first), thousands(first + len.div_ceil(sector).max(1) - 1)),
                None => "a hole, reads as zero".into(),
            };
            lines.push(vec![say(Mean::Quiet, pad("", 14)), say(Mean::Text, pad(&text, 36)), say(Mean::Quiet, pad_left(&human(*len), 9))]);
        }
    } else if node.kind == NodeKind::File && node.size > 0 && look.trouble.is_none() {
        lines.push(fact("lies in", "its own entry".into()));
    }
    lines
}

fn byte_lines(look: &Look, width: usize) -> Lines {
    let each = if width >= 78 { 16 } else { 8 };
    let lines = look.bytes.chunks(each).zip((look.offset..).step_by(each)).map(|(bytes, at)| {
        let hex: Vec<String> = bytes.iter().map(|byte| format!("{byte:02x}")).collect();
        let text: String = bytes.iter().map(|byte| if (0x20..0x7f).contains(byte) { *byte as char } else { '·' }).collect();
        vec![say(Mean::Quiet, format!("{at:>10x}  ")), say(Mean::Text, pad(&hex.join(" "), each * 3)), say(Mean::Source, format!(" {text}"))]
    });
    lines.collect()
}

fn field(word: &str, text: &str) -> Vec<Span<'static>> {
    vec![loud(Mean::Focus, pad(word, 12)), loud(Mean::Text, text.to_string()), loud(Mean::Focus, "▏")]
}

fn tray_lines(view: &View, entry: Option<&Entry>, width: usize) -> Lines {
    let mut lines = Lines::new();
    match entry {
        Some(Entry::Find(text)) => {
            lines.push(field("find", text));
            lines.push(vec![say(
                Mean::Quiet,
                "words of the name; a colon names a kind of content: :picture :document :sound :text :database :mail ...",
            )]);
            return lines;
        }
        Some(Entry::Earlier(text)) => {
            lines.push(field("since", text));
            lines.push(vec![say(
                Mean::Quiet,
                "an earlier image or drive, or a folder; # and a number for one of its partitions; compared by names, sizes and times",
            )]);
            return lines;
        }
        Some(Entry::Into(text)) => {
            lines.push(field("copy out to", text));
            lines.push(vec![say(Mean::Quiet, "a folder on another drive than this one; it is made where it is not there")]);
            return lines;
        }
        Some(Entry::Folder(_)) | None => {}
    }
    if let Some((clash, _)) = &view.clash {
        let of = |(size, time): (u64, Option<Time>)| format!("{} of {}", human(size), written(time, "%Y-%m-%d %H:%M"));
        lines.push(vec![loud(Mean::Mind, "▲ there already  "), say(Mean::Text, clash.to.display().to_string())]);
        lines.push(vec![
            say(Mean::Quiet, "there "),
            say(Mean::Text, of(clash.there)),
            say(Mean::Quiet, "   comes "),
            say(Mean::Text, of(clash.comes)),
        ]);
        return lines;
    }
    if let Some(copying) = &view.copying {
        return copy_lines(copying);
    }
    if let Some((mean, said)) = &view.said {
        return said.iter().map(|text| vec![say(*mean, text.clone())]).collect();
    }
    if view.tray.is_empty() {
        lines.push(vec![say(Mean::Quiet, "the tray is empty: Space puts files and folders into it, c copies them out")]);
        return lines;
    }
    picked_lines(view, width)
}

/// How far a copy is.
fn copy_lines(copying: &Copying) -> Lines {
    let mut lines = Lines::new();
    let progress = copying.progress.lock().expect("progress lock");
    let share = progress.meter.share();
    let (full, rest) = bar(share, 30);
    let left = progress.meter.left(progress.now).map(|left| format!("{} left", span(left))).unwrap_or_default();
    let (done, total) = progress.meter.amounts();
    lines.push(vec![
        loud(Mean::Focus, "▸ copying out  "),
        say(Mean::Target, full),
        say(Mean::Quiet, rest),
        say(
            Mean::Text,
            format!("  {:.0} %  {} of {}  {}/s  {left}", share * 100.0, human(done), human(total), human(progress.meter.rate(progress.now) as u64)),
        ),
    ]);
    lines.push(vec![say(Mean::Quiet, format!("{} files proved   {}", thousands(progress.files), progress.last))]);
    lines
}

/// What stands before the place that files go to, and the columns that the place has in any case.
const TO: &str = "  to    ";
const PATH: usize = 16;

/// What is picked, how much it is, and where it goes.
fn picked_lines(view: &View, width: usize) -> Lines {
    let mut lines = Lines::new();
    let names: Vec<String> = view.tray.iter().rev().map(|picked| picked.path.trim_start_matches('/').to_string()).collect();
    let total = view.total();
    let held = match total {
        Some(total) if total.unread > 0 => {
            format!("▲ at least {} files, {}: {} places not read", thousands(total.files), human(total.bytes), thousands(total.unread))
        }
        Some(total) => format!("{} files, {}", thousands(total.files), human(total.bytes)),
        None => "counting ...".into(),
    };
    lines.push(vec![
        loud(Mean::Target, "● tray  "),
        loud(Mean::Text, held),
        say(Mean::Quiet, format!("   {}", crate::draw::cut(&names.join(" · "), width.saturating_sub(32)))),
    ]);
    let into = view.into.as_ref().map_or_else(|| "nowhere yet: o names a folder".into(), |into| into.display().to_string());
    let mut after = Vec::new();
    if let (Some(free), Some(Counted { bytes, .. })) = (view.free, total) {
        let (full, rest) = bar(bytes as f64 / free.max(1) as f64, if width < 100 { 10 } else { 16 });
        let fits = bytes <= free;
        after.extend([
            say(Mean::Quiet, "   "),
            say(if fits { Mean::Target } else { Mean::Stop }, full),
            say(Mean::Quiet, rest),
            say(Mean::Text, if fits { format!("  {} free", human(free)) } else { format!("  ◆ {} too little", human(bytes - free)) }),
        ]);
    }
    after.push(say(Mean::Quiet, format!("   {}", rule(view.collision))));
    // What does not fit is said whole, however long the path.
    let room = width.saturating_sub(TO.len() + after.iter().map(Span::width).sum::<usize>());
    lines.push([vec![say(Mean::Quiet, TO), say(Mean::Text, cut_start(&into, room.max(PATH)))], after].concat());
    lines
}
