//! The state of the screens, and who gets a key.

use crate::bench::{self, BenchView};
use crate::dig::{self, Dig};
use crate::draw::{inset, loud, print, print_right, rule, say, sheet};
use crate::job::{self, JobView, Listed, OpenJobs};
use crate::ledger::LedgerView;
use crate::message::{Hit, Hits, Message, PLACES, Place};
use crate::palette::{Action, Field, Palette};
use crate::past::Past;
use crate::theme::{self, Mean};
use crate::{help, ledger, palette};
use badger_bench::Bench;
use badger_bench::ledger::{JobRow, local, now};
use badger_bench::sheet::SheetData;
use badger_bench::shelf::{Item, Shelf};
use badger_jobs::salvage::SalvageOrder;
use badger_jobs::{ImageOrder, Order};
use crossterm::event::{KeyCode, KeyEvent, KeyEventKind, KeyModifiers, MouseButton, MouseEvent, MouseEventKind};
use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::widgets::Block;
use std::path::PathBuf;

/// Columns and lines below which nothing can be read, and so nothing but leaving works.
const LEAST: (u16, u16) = (80, 24);

/// What lies over the place.
pub enum Overlay {
    /// Keys and meanings of the place.
    Help,
    /// Finds anything.
    Palette(Palette),
    /// Asks whether to leave while runs go on.
    Leave,
}

/// Everything the screens know.
pub struct App {
    /// Where jobs are done.
    bench: Bench,
    shelf: Shelf,
    generation: u64,
    place: Place,
    /// The drives on the bench.
    shown: BenchView,
    jobs: OpenJobs,
    ledger: LedgerView,
    dig: Dig,
    overlay: Option<Overlay>,
    message: Option<(Mean, String)>,
    hits: Hits,
    workshop: String,
    technician: String,
    left: bool,
    rights_told: bool,
    /// The screen is too small to be read: only leaving works.
    too_small: bool,
}

impl App {
    /// The bench, with looking for drives begun.
    pub fn new(bench: Bench) -> Self {
        let shelf = Shelf::start(bench.clone());
        let ledger = bench.read_ledger();
        let named = |what: &str| bench.named(ledger.as_ref().ok().and_then(Option::as_ref), what);
        let (workshop, technician) = (named("workshop"), named("technician"));
        let message = ledger.as_ref().err().map(|error| (Mean::Stop, error.to_string()));
        let mut app = Self {
            bench,
            shelf,
            generation: 0,
            place: Place::Bench,
            shown: BenchView::default(),
            jobs: OpenJobs::default(),
            ledger: LedgerView::default(),
            dig: Dig::default(),
            overlay: None,
            message,
            hits: Vec::new(),
            workshop,
            technician,
            left: false,
            rights_told: false,
            too_small: false,
        };
        app.read_ledger();
        app
    }

    /// Whether the technician left.
    pub fn is_left(&self) -> bool {
        self.left
    }

    /// Whether the first look round for drives is still going on, or has not been shown.
    pub fn is_looking(&self) -> bool {
        self.shown.items.is_empty() && (self.shelf.looking() || self.shelf.generation() != self.generation)
    }

    /// Stops what still runs, in order, so that it can be picked up again.
    pub fn close(&mut self) {
        self.shelf.stop();
        self.dig.close();
        self.jobs.list.iter_mut().for_each(JobView::stop_and_wait);
    }

    /// Reads the jobs of the ledger anew.
    fn read_ledger(&mut self) {
        let read = || -> Result<_, badger_bench::ledger::Error> {
            Ok(match self.bench.read_ledger()? {
                Some(ledger) => (ledger.jobs()?, ledger.drives()?),
                None => (Vec::new(), Vec::new()),
            })
        };
        match read() {
            Ok((jobs, drives)) => {
                self.jobs.past = jobs.clone();
                self.ledger.fill(jobs, drives);
            }
            Err(error) => self.message = Some((Mean::Stop, error.to_string())),
        }
    }

    /// Whether the screen may change without a key: a run, a look at a drive, an arrival that is counted in seconds.
    pub fn is_busy(&self) -> bool {
        let fresh = |item: &Item| item.looked.is_none() && item.trouble.is_none() || !item.from_start && item.since.elapsed() < bench::JUST_IN;
        self.is_looking() || self.shown.items.iter().any(fresh) || self.jobs.list.iter().any(JobView::is_busy) || self.dig.is_busy()
    }

    /// Says once how to get the rights to read what lies on the bench.
    fn tell_rights(&mut self) {
        let forbidden = self.shown.items.iter().filter(|item| badger_drive::open::is_forbidden(item.path())).count();
        if forbidden > 0 && self.message.is_none() && !std::mem::replace(&mut self.rights_told, true) {
            let drives = if forbidden == 1 { "1 drive" } else { &format!("{forbidden} drives") };
            self.message = Some((Mean::Mind, format!("{drives} may not be read: {}", badger_drive::open::RIGHTS)));
        }
    }

    /// Takes in what the threads found since the last frame. True where something new is to be shown.
    pub fn refresh(&mut self) -> bool {
        let mut changed = false;
        if self.shelf.generation() != self.generation {
            self.generation = self.shelf.generation();
            changed = true;
            let marked = self.dig.marked(&self.shown.items);
            self.shown.fill(self.shelf.items());
            self.dig.keep_marked(marked, &self.shown.items);
            self.tell_rights();
            if let Some(refusal) = self.shelf.take_refusal() {
                self.message = Some((Mean::Mind, refusal.text));
            }
        }
        match self.dig.refresh(self.bench.config.destination.as_deref()) {
            Ok(news) => changed |= news,
            Err(message) => (self.message, changed) = (Some(message), true),
        }
        if let Some((path, places)) = self.dig.take_wanted()
            && !self.jobs.want_next(&path, places)
        {
            self.message = Some((Mean::Mind, "no salvage goes on with this map: what comes first is named before it begins".into()));
        }
        if self.place == Place::Ledger
            && let Some(job) = self.ledger.wanted()
        {
            let read = self.bench.read_ledger().ok().flatten().and_then(|ledger| ledger.last_run(job).ok().flatten());
            let sheet = read.and_then(|(report, sheet)| Some(SheetData { report, ..serde_json::from_str::<SheetData>(&sheet).ok()? }));
            self.ledger.show(Past { job, sheet });
            changed = true;
        }
        let mut ended = Vec::new();
        // What a thread has just brought to its end is drawn too.
        changed |= self.jobs.list.iter().any(JobView::is_busy);
        for job in &mut self.jobs.list {
            if job.refresh(&self.bench) {
                ended.push(job.order.target.clone());
            }
        }
        if !ended.is_empty() {
            ended.iter().for_each(|path| self.shelf.look_again(path));
            self.read_ledger();
            changed = true;
        }
        changed
    }

    /// Takes pasted text. It is never a row of keys: what somebody copied somewhere must not steer anything here.
    pub fn paste(&mut self, text: &str) {
        if self.too_small || self.overlay.is_some() {
            return;
        }
        let said = match self.place {
            Place::Job => self.jobs.in_hand().and_then(|job| job.paste(text)),
            Place::Bench => {
                if let Some(held) = &mut self.shown.bringing {
                    held.extend(text.chars().filter(|c| !c.is_control()));
                }
                None
            }
            _ => None,
        };
        if let Some(said) = said {
            self.message = Some((Mean::Mind, said.into()));
        }
    }

    /// Makes a job of the marked source and target and goes to it.
    fn new_job(&mut self) {
        let (Some(source), Some(target)) = (self.shown.source.clone(), self.shown.target.clone()) else {
            self.message = Some((Mean::Mind, "choose a drive and press s for the source, another one and t for the target".into()));
            return;
        };
        self.open_job(source, target, String::new(), String::new());
    }

    fn open_job(&mut self, source: PathBuf, target: PathBuf, ticket: String, customer: String) {
        let order = Order { ticket, customer, technician: self.technician.clone(), ..Order::new(source, target) };
        self.jobs.begin(order, &self.bench);
        self.place = Place::Job;
        (self.shown.source, self.shown.target) = (None, None);
    }

    /// Makes a job that keeps a drive in an image, and goes to it.
    fn keep(&mut self, source: PathBuf, file: Option<PathBuf>, (ticket, customer): (String, String)) {
        let identity = self.shown.items.iter().find(|item| *item.path() == source).map(|item| item.found.identity.clone());
        let usual = || identity.map(|identity| job::usual_file(&self.bench, &identity.model, &identity.serial)).unwrap_or_default();
        let file = file.unwrap_or_else(usual);
        let order = ImageOrder { source, file, ticket, customer, technician: self.technician.clone(), ..ImageOrder::default() };
        self.jobs.keep(order, &self.bench);
        self.place = Place::Job;
        (self.shown.source, self.shown.target) = (None, None);
    }

    /// Makes a job that salvages a drive, onto the marked target or a new file, and goes to it.
    fn salvage(&mut self, source: PathBuf) {
        let identity = self.shown.items.iter().find(|item| *item.path() == source).map(|item| item.found.identity.clone());
        let usual = || {
            let identity = identity.as_ref()?;
            Some(job::usual_file(&self.bench, &identity.model, &identity.serial).with_extension("img"))
        };
        let target = self.shown.target.clone().filter(|target| *target != source).or_else(usual).unwrap_or_default();
        let map = job::map_beside(&self.bench, &target);
        let order = SalvageOrder { source, target, map, technician: self.technician.clone(), ..SalvageOrder::default() };
        self.jobs.salvage(order, &self.bench);
        self.place = Place::Job;
        (self.shown.source, self.shown.target) = (None, None);
    }

    /// Opens a job of the list: one that is open, one to be picked up again, or one that is over.
    fn open_listed(&mut self, index: usize) {
        match self.jobs.listed().into_iter().nth(index) {
            Some(Listed::Open(at)) => (self.jobs.current, self.place) = (at, Place::Job),
            Some(Listed::Past(row)) => self.open_past(&row),
            None => {}
        }
    }

    /// Opens a job of the ledger.
    fn open_past(&mut self, row: &JobRow) {
        let unfinished = row.outcome.as_deref().is_none_or(|outcome| outcome == "interrupted");
        if self.jobs.find(row.id) {
            self.place = Place::Job;
        } else if unfinished {
            let find = |key: &str| self.shown.items.iter().find(|item| item.found.key() == key).map(|item| item.path().clone());
            match (find(&row.source_key), find(&row.target_key)) {
                (Some(source), None) if row.target_key.starts_with("image ") => {
                    let file = row.target_key.strip_prefix("image ").map(PathBuf::from);
                    self.keep(source, file, (row.ticket.clone(), row.customer.clone()));
                }
                (Some(source), Some(target)) => self.open_job(source, target, row.ticket.clone(), row.customer.clone()),
                _ => self.message = Some((Mean::Mind, format!("to pick up job {} attach both of its drives", row.id))),
            }
        } else if self.jobs.reopen(row, &self.bench) {
            self.place = Place::Job;
        } else {
            self.message = Some((Mean::Mind, format!("job {} has no finished run", row.id)));
        }
    }

    /// Does what a screen asked for.
    fn take(&mut self, message: Message) {
        match message {
            Message::Go(place) => self.go(place),
            Message::Say(mean, text) => self.message = Some((mean, text)),
            Message::Dig(path) => {
                // A map, for one, lies on no shelf before somebody wants to look into it, and says more every time.
                if self.shelf.is_brought(&path) {
                    self.shelf.look_again(&path);
                } else if path.is_file() && !self.shown.items.iter().any(|item| *item.path() == path) {
                    self.shelf.bring(&self.bench, path.clone());
                }
                self.dig_into(path);
            }
            Message::NewJob => self.new_job(),
            Message::Keep(path) => self.keep(path, None, (String::new(), String::new())),
            Message::Salvage(path) => self.salvage(path),
            Message::Bring(path) => {
                let path = if path.exists() { std::path::absolute(&path).unwrap_or(path) } else { path };
                self.shown.wanted = Some(path.clone());
                self.shelf.bring(&self.bench, path);
            }
            Message::OpenPast(row) => self.open_past(&row),
            Message::LedgerChanged => self.read_ledger(),
        }
    }

    /// Jobs whose run goes on.
    fn runs(&self) -> usize {
        self.jobs.running() + usize::from(self.dig.is_copying())
    }

    /// Takes a key.
    pub fn key(&mut self, key: KeyEvent) {
        if key.kind == KeyEventKind::Release {
            return;
        }
        // A terminal sends Esc as the byte that begins a key held with Alt as well: Esc and a key right after it may come as one.
        // Nothing here is held with Alt, so they are two; an Enter after it must not do what Esc called off.
        let may_be_two = matches!(key.code, KeyCode::Char(_) | KeyCode::Enter | KeyCode::Tab | KeyCode::Backspace);
        if may_be_two && key.modifiers.contains(KeyModifiers::ALT) {
            self.key(KeyEvent::new(KeyCode::Esc, KeyModifiers::NONE));
            self.key(KeyEvent::new(key.code, key.modifiers - KeyModifiers::ALT));
            return;
        }
        if key.modifiers.contains(KeyModifiers::CONTROL) && key.code == KeyCode::Char('c') {
            self.ask_to_leave();
            return;
        }
        if self.too_small {
            match (self.overlay.is_some(), key.code) {
                (false, KeyCode::Char('q')) => self.ask_to_leave(),
                (true, KeyCode::Char('y')) if matches!(self.overlay, Some(Overlay::Leave)) => self.left = true,
                (true, KeyCode::Esc) => self.overlay = None,
                _ => {}
            }
            return;
        }
        self.message = None;
        if let Some(overlay) = self.overlay.take() {
            self.overlay_key(overlay, key);
            return;
        }
        let typing = match self.place {
            Place::Job => self.jobs.is_typing(),
            Place::Ledger => self.ledger.is_typing(),
            Place::Dig => self.dig.is_typing(),
            Place::Bench => self.shown.bringing.is_some(),
        };
        if !typing {
            match key.code {
                KeyCode::Char('?') => return self.overlay = Some(Overlay::Help),
                KeyCode::Char('/') => return self.overlay = Some(Overlay::Palette(Palette::default())),
                KeyCode::Char('q') => return self.ask_to_leave(),
                KeyCode::Tab | KeyCode::BackTab => return self.next_place(key.code == KeyCode::Tab),
                KeyCode::Char(c) if PLACES.iter().any(|(_, number, _)| *number == c) => {
                    let to = PLACES.iter().find(|(_, number, _)| *number == c).map(|(place, ..)| *place);
                    return self.go(to.unwrap_or(Place::Bench));
                }
                _ => {}
            }
        }
        let message = match self.place {
            Place::Bench => self.shown.key(key.code, &self.shelf, &self.bench),
            Place::Job => self.jobs.key(key.code, &self.bench),
            Place::Ledger => ledger::key(&mut self.ledger, key.code),
            Place::Dig => dig::key(&mut self.dig, &self.shown.items, key.code, &self.bench),
        };
        if let Some(message) = message {
            self.take(message);
        }
    }

    /// Goes to the files of a drive.
    fn dig_into(&mut self, path: PathBuf) {
        let choices = dig::choices(&self.shown.items, None);
        self.dig.on_drive(path, &choices, &self.bench);
        self.place = Place::Dig;
    }

    fn go(&mut self, place: Place) {
        self.place = place;
        if place == Place::Ledger {
            self.read_ledger();
        }
    }

    fn next_place(&mut self, forward: bool) {
        let at = PLACES.iter().position(|(place, ..)| *place == self.place).unwrap_or(0);
        let step = if forward { 1 } else { PLACES.len() - 1 };
        self.go(PLACES[(at + step) % PLACES.len()].0);
    }

    fn ask_to_leave(&mut self) {
        if self.runs() > 0 { self.overlay = Some(Overlay::Leave) } else { self.left = true }
    }

    fn overlay_key(&mut self, overlay: Overlay, key: KeyEvent) {
        match overlay {
            Overlay::Help => {}
            Overlay::Leave => match key.code {
                KeyCode::Char('y') => self.left = true,
                KeyCode::Esc | KeyCode::Char('n' | 'q') => {}
                _ => self.overlay = Some(Overlay::Leave),
            },
            Overlay::Palette(mut palette) => match palette.key(key.code, Field { items: &self.shown.items, jobs: &self.jobs }) {
                palette::Answer::Open => self.overlay = Some(Overlay::Palette(palette)),
                palette::Answer::Closed => {}
                palette::Answer::Chosen(action) => self.act(action),
            },
        }
    }

    fn act(&mut self, action: Action) {
        match action {
            Action::Go(place) => self.go(place),
            Action::Drive(path) => {
                self.shown.chosen = self.shown.place_of(&path).unwrap_or(0);
                self.shown.drawer = true;
                self.place = Place::Bench;
            }
            Action::Dig(path) => self.dig_into(path),
            Action::Source(path) => (self.shown.source, self.place) = (Some(path), Place::Bench),
            Action::Target(path) => (self.shown.target, self.place) = (Some(path), Place::Bench),
            Action::OpenJob(at) => (self.jobs.current, self.place) = (at, Place::Job),
            Action::PastJob(row) => self.open_past(&row),
            Action::NewJob => self.new_job(),
            Action::Help => self.overlay = Some(Overlay::Help),
            Action::Leave => self.ask_to_leave(),
        }
    }

    /// Takes the mouse: it chooses, it never releases anything.
    pub fn mouse(&mut self, mouse: MouseEvent) {
        if self.too_small {
            return;
        }
        let down = matches!(mouse.kind, MouseEventKind::Down(MouseButton::Left));
        let wheel = match mouse.kind {
            MouseEventKind::ScrollDown => Some(KeyCode::Down),
            MouseEventKind::ScrollUp => Some(KeyCode::Up),
            _ => None,
        };
        if let Some(code) = wheel
            && self.overlay.is_none()
        {
            self.key(KeyEvent::new(code, KeyModifiers::NONE));
            return;
        }
        if !down || self.overlay.is_some() {
            return;
        }
        let place = ratatui::layout::Position { x: mouse.column, y: mouse.row };
        let Some((area, hit)) = self.hits.iter().rev().find(|(area, _)| area.contains(place)).copied() else { return };
        match hit {
            Hit::Place(place) => self.go(place),
            Hit::Drive(at) => {
                self.shown.drawer = self.shown.chosen == at && !self.shown.drawer;
                self.shown.chosen = at;
            }
            Hit::Job(at) => self.open_listed(at),
            Hit::Line(at) => match self.place {
                Place::Ledger => self.ledger.choose(at),
                Place::Dig => self.dig.choose(at),
                _ => {
                    if let Some(job) = self.jobs.in_hand() {
                        job.choose(at);
                    }
                }
            },
            Hit::Step(step) => {
                if let Some(job) = self.jobs.in_hand() {
                    job.show(step);
                }
            }
            Hit::Surface => {
                let cell = usize::from(place.y - area.y) * usize::from(area.width) + usize::from(place.x - area.x);
                if let Some(job) = self.jobs.in_hand() {
                    job.cursor = Some(cell);
                }
            }
        }
    }

    /// Draws everything.
    pub fn draw(&mut self, frame: &mut Frame) {
        let area = frame.area();
        self.hits.clear();
        frame.render_widget(Block::new().style(theme::ground()), area);
        let buf = frame.buffer_mut();
        self.too_small = area.width < LEAST.0 || area.height < LEAST.1;
        if self.too_small {
            print(buf, area.x, area.y, area.width, vec![loud(Mean::Mind, format!("▲ {} x {} needed", LEAST.0, LEAST.1))]);
            let asked = matches!(self.overlay, Some(Overlay::Leave));
            let says = if asked { "runs go on: y leaves, Esc stays" } else { "q leaves, no other key works" };
            print(buf, area.x, area.y + 1, area.width, vec![say(Mean::Text, says)]);
            return;
        }
        self.top(frame);
        let body = Rect { y: area.y + 2, height: area.height - 4, ..area };
        match self.place {
            Place::Bench => self.shown.draw(&self.jobs, self.shelf.looking(), frame, body, &mut self.hits),
            Place::Job => job::draw(&mut self.jobs, self.bench.workshop.clock.factor(), frame, body, &mut self.hits),
            Place::Ledger => ledger::draw(&self.ledger, frame, body, &mut self.hits),
            Place::Dig => dig::draw(&self.dig, &self.shown.items, frame, body, &mut self.hits),
        }
        self.bottom(frame);
        match &self.overlay {
            None => {}
            Some(Overlay::Help) => help::draw(frame, body, self.place),
            Some(Overlay::Leave) => {
                let runs = self.runs();
                let what = if runs == 1 { "1 run goes on".into() } else { format!("{runs} runs go on") };
                let lines = vec![
                    vec![loud(Mean::Mind, format!("▲ {what}"))],
                    vec![say(Mean::Text, "Leaving stops in order; everything copied so far is kept,")],
                    vec![say(Mean::Text, "and the run is picked up again from its job in the list.")],
                    vec![],
                    vec![loud(Mean::Focus, "y"), say(Mean::Text, " leave    "), loud(Mean::Focus, "Esc"), say(Mean::Text, " stay")],
                ];
                sheet(frame, body, 62, lines);
            }
            Some(Overlay::Palette(palette)) => palette.draw(Field { items: &self.shown.items, jobs: &self.jobs }, frame, body),
        }
    }

    fn top(&mut self, frame: &mut Frame) {
        let area = frame.area();
        let buf = frame.buffer_mut();
        print(buf, area.x + 1, area.y, 16, vec![loud(Mean::Text, "Zealous Badger")]);
        let mut x = area.x + 19;
        for (place, number, name) in PLACES {
            let here = place == self.place;
            let spans = vec![
                say(if here { Mean::Focus } else { Mean::Quiet }, format!("{number} ")),
                if here { loud(Mean::Focus, name) } else { say(Mean::Text, name) },
            ];
            print(buf, x, area.y, 12, spans);
            self.hits.push((Rect { x, y: area.y, width: 9, height: 1 }, Hit::Place(place)));
            x += 11;
        }
        let clock = local(now(), "%a %H:%M");
        let workshop = if area.width >= 100 { self.workshop.as_str() } else { "" };
        let mut facts: Vec<&str> = [workshop, self.technician.as_str()].into_iter().filter(|fact| !fact.is_empty()).collect();
        facts.push(&clock);
        let right = inset(Rect { x, width: area.right().saturating_sub(x), ..area }, 1);
        print_right(buf, right, area.y, vec![say(Mean::Quiet, facts.join(" · "))]);
        rule(buf, area, area.y + 1);
    }

    fn bottom(&mut self, frame: &mut Frame) {
        let area = frame.area();
        let y = area.bottom() - 1;
        let runs = match self.runs() {
            0 => "no run".into(),
            1 => "1 run".into(),
            runs => format!("{runs} runs"),
        };
        let buf = frame.buffer_mut();
        rule(buf, area, y - 1);
        print_right(buf, inset(area, 1), y, vec![say(if self.runs() > 0 { Mean::Good } else { Mean::Quiet }, runs.clone())]);
        let width = area.width.saturating_sub(runs.len() as u16 + 4);
        if let Some((mean, text)) = &self.message {
            let mark = if *mean == Mean::Stop { "◆" } else { "▲" };
            print(buf, area.x + 1, y, width, vec![loud(*mean, format!("{mark} {text}"))]);
            return;
        }
        let hints = match self.place {
            Place::Bench => self.shown.hints(),
            Place::Job => job::hints(&self.jobs),
            Place::Ledger => ledger::hints(&self.ledger),
            Place::Dig => dig::hints(&self.dig),
        };
        let mut x = area.x + 1;
        for (key, what) in hints.into_iter().chain([("?", "help"), ("/", "find")]) {
            let wide = (key.chars().count() + what.len() + 1) as u16;
            // A hint that does not fit whole is left out; help lists them all.
            if x + wide > area.x + width {
                break;
            }
            print(buf, x, y, wide, vec![loud(Mean::Focus, key), say(Mean::Quiet, format!(" {what}"))]);
            x += wide + 3;
        }
    }
}
