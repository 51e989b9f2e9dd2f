//! The state of the screens, and who gets a key.

use crate::dig::{self, Dig};
use crate::draw::{inset, loud, put, put_right, rule, say};
use crate::job::{JobView, Step};
use crate::ledger::LedgerView;
use crate::palette::{Action, Palette};
use crate::shelf::{Item, Shelf};
use crate::theme::{self, Mean};
use crate::{bench, help, ledger, palette};
use badger_bench::Bench;
use badger_bench::ledger::{JobRow, local, now};
use badger_jobs::Order;
use crossterm::event::{KeyCode, KeyEvent, KeyEventKind, KeyModifiers, MouseButton, MouseEvent, MouseEventKind};
use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::widgets::Block;
use std::path::PathBuf;

/// The places there are.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Place {
    /// The shelf of drives.
    Bench,
    /// One job and its five steps.
    Job,
    /// Files of a drive.
    Dig,
    /// What was done before.
    Ledger,
}

/// Columns and lines below which nothing can be read, and so nothing but leaving works.
const LEAST: (u16, u16) = (80, 24);

/// Every place with its key and name, in the order of the bar.
pub const PLACES: [(Place, char, &str); 4] =
    [(Place::Bench, '1', "Bench"), (Place::Job, '2', "Job"), (Place::Dig, '3', "Dig"), (Place::Ledger, '5', "Ledger")];

/// What lies over the place.
pub enum Overlay {
    /// Keys and meanings of the place.
    Help,
    /// Finds anything.
    Palette(Palette),
    /// Asks whether to leave while runs go on.
    Leave,
}

/// What a click on an area means.
#[derive(Clone, Copy, Debug)]
pub enum Hit {
    /// Go to a place.
    Place(Place),
    /// Choose a drive.
    Drive(usize),
    /// Open a job of the list.
    Job(usize),
    /// Look at a step.
    Step(Step),
    /// Choose a line.
    Line(usize),
    /// The surface; the cell follows from where in the area it was hit.
    Surface,
}

/// A job in the list beside the shelf.
pub enum Listed {
    /// Open in this program, by its index.
    Open(usize),
    /// Known from the ledger.
    Past(Box<JobRow>),
}

/// Everything the screens know.
pub struct App {
    /// Where jobs are done.
    pub(crate) bench: Bench,
    pub(crate) shelf: Shelf,
    pub(crate) items: Vec<Item>,
    generation: u64,
    pub(crate) place: Place,
    pub(crate) chosen: usize,
    pub(crate) drawer: bool,
    pub(crate) source: Option<PathBuf>,
    pub(crate) target: Option<PathBuf>,
    pub(crate) jobs: Vec<JobView>,
    pub(crate) current: usize,
    pub(crate) past: Vec<JobRow>,
    pub(crate) ledger: LedgerView,
    pub(crate) dig: Dig,
    overlay: Option<Overlay>,
    pub(crate) message: Option<(Mean, String)>,
    pub(crate) hits: Vec<(Rect, Hit)>,
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
            items: Vec::new(),
            generation: 0,
            place: Place::Bench,
            chosen: 0,
            drawer: false,
            source: None,
            target: None,
            jobs: Vec::new(),
            current: 0,
            past: Vec::new(),
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
        self.items.is_empty() && (self.shelf.looking() || self.shelf.generation() != self.generation)
    }

    /// Stops what still runs, in order, so that it can be picked up again.
    pub fn close(&mut self) {
        self.shelf.stop();
        self.dig.close();
        self.jobs.iter_mut().for_each(JobView::stop_and_wait);
    }

    /// Reads the jobs of the ledger anew.
    pub(crate) fn read_ledger(&mut self) {
        let read = || -> Result<_, badger_bench::ledger::Error> {
            Ok(match self.bench.read_ledger()? {
                Some(ledger) => (ledger.jobs()?, ledger.drives()?),
                None => (Vec::new(), Vec::new()),
            })
        };
        match read() {
            Ok((jobs, drives)) => {
                self.past = jobs.clone();
                self.ledger.fill(jobs, drives);
            }
            Err(error) => self.message = Some((Mean::Stop, error.to_string())),
        }
    }

    /// Whether the screen may change without a key: a run, a look at a drive, an arrival that is counted in seconds.
    pub fn is_busy(&self) -> bool {
        let fresh = |item: &Item| item.looked.is_none() && item.trouble.is_none() || !item.from_start && item.since.elapsed() < bench::JUST_IN;
        self.is_looking() || self.items.iter().any(fresh) || self.jobs.iter().any(JobView::is_busy) || self.dig.is_busy()
    }

    /// Says once how to get the rights to read what lies on the bench.
    fn tell_rights(&mut self) {
        let forbidden = self.items.iter().filter(|item| badger_drive::open::is_forbidden(item.path())).count();
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
            let path = self.items.get(self.chosen).map(|item| item.path().clone());
            self.items = self.shelf.items();
            // The choice stays with its drive when others come and go.
            self.chosen = path.and_then(|path| self.items.iter().position(|item| *item.path() == path)).unwrap_or(0);
            self.tell_rights();
        }
        match self.dig.refresh(self.bench.config.destination.as_deref()) {
            Ok(news) => changed |= news,
            Err(message) => (self.message, changed) = (Some(message), true),
        }
        let mut ended = Vec::new();
        // What a thread has just brought to its end is drawn too.
        changed |= self.jobs.iter().any(JobView::is_busy);
        for job in &mut self.jobs {
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
            Place::Job => self.jobs.get_mut(self.current).and_then(|job| job.paste(text)),
            _ => None,
        };
        if let Some(said) = said {
            self.message = Some((Mean::Mind, said.into()));
        }
    }

    /// Jobs beside the shelf: the open ones, then those of the ledger.
    pub(crate) fn listed(&self) -> Vec<Listed> {
        let open = (0..self.jobs.len()).rev().map(Listed::Open);
        let shown: Vec<i64> = self.jobs.iter().filter_map(JobView::number).collect();
        open.chain(self.past.iter().filter(|row| !shown.contains(&row.id)).cloned().map(|row| Listed::Past(Box::new(row)))).collect()
    }

    /// Makes a job of the marked source and target and goes to it.
    pub(crate) fn new_job(&mut self) {
        let (Some(source), Some(target)) = (self.source.clone(), self.target.clone()) else {
            self.message = Some((Mean::Mind, "choose a drive and press s for the source, another one and t for the target".into()));
            return;
        };
        self.open_job(source, target, String::new(), String::new());
    }

    fn open_job(&mut self, source: PathBuf, target: PathBuf, ticket: String, customer: String) {
        if let Some(open) = self.jobs.iter().position(|job| job.order.source == source && job.order.target == target && job.is_live()) {
            self.current = open;
        } else {
            let order = Order { ticket, customer, technician: self.technician.clone(), ..Order::new(source, target) };
            self.jobs.push(JobView::new(order, &self.bench));
            self.current = self.jobs.len() - 1;
        }
        self.place = Place::Job;
        (self.source, self.target) = (None, None);
    }

    /// Opens a job of the list: one that is open, one to be picked up again, or one that is over.
    pub(crate) fn open_listed(&mut self, index: usize) {
        match self.listed().into_iter().nth(index) {
            Some(Listed::Open(at)) => {
                self.current = at;
                self.place = Place::Job;
            }
            Some(Listed::Past(row)) => self.open_past(&row),
            None => {}
        }
    }

    /// Opens a job of the ledger.
    pub(crate) fn open_past(&mut self, row: &JobRow) {
        if let Some(open) = self.jobs.iter().position(|job| job.number() == Some(row.id)) {
            self.current = open;
            self.place = Place::Job;
            return;
        }
        let unfinished = row.outcome.as_deref().is_none_or(|outcome| outcome == "interrupted");
        if unfinished {
            let find = |key: &str| self.items.iter().find(|item| item.found.key() == key).map(|item| item.path().clone());
            match (find(&row.source_key), find(&row.target_key)) {
                (Some(source), Some(target)) => self.open_job(source, target, row.ticket.clone(), row.customer.clone()),
                _ => self.message = Some((Mean::Mind, format!("to pick up job {} attach both of its drives", row.id))),
            }
            return;
        }
        match JobView::past(row, &self.bench) {
            Some(view) => {
                self.jobs.push(view);
                self.current = self.jobs.len() - 1;
                self.place = Place::Job;
            }
            None => self.message = Some((Mean::Mind, format!("job {} has no finished run", row.id))),
        }
    }

    /// Jobs whose run goes on.
    fn runs(&self) -> usize {
        self.jobs.iter().filter(|job| job.is_running()).count() + usize::from(self.dig.is_copying())
    }

    /// Takes a key.
    pub fn key(&mut self, key: KeyEvent) {
        if key.kind == KeyEventKind::Release {
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
            Place::Job => self.jobs.get(self.current).is_some_and(JobView::is_typing),
            Place::Ledger => self.ledger.is_typing(),
            Place::Dig => self.dig.is_typing(),
            Place::Bench => false,
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
        match self.place {
            Place::Bench => bench::key(self, key.code),
            Place::Job => self.job_key(key.code),
            Place::Ledger => ledger::key(self, key.code),
            Place::Dig => dig::key(self, key.code),
        }
    }

    fn job_key(&mut self, code: KeyCode) {
        let count = self.jobs.len();
        match (self.jobs.get_mut(self.current), code) {
            (None, KeyCode::Esc) => self.place = Place::Bench,
            (None, _) => {}
            (Some(job), code) if job.is_typing() => job.key(code, &self.bench),
            (Some(_), KeyCode::Char(']')) => self.current = (self.current + 1) % count,
            (Some(_), KeyCode::Char('[')) => self.current = (self.current + count - 1) % count,
            (Some(job), KeyCode::Esc) => {
                if !job.back() {
                    self.place = Place::Bench;
                }
            }
            (Some(job), code) => job.key(code, &self.bench),
        }
        if self.jobs.get_mut(self.current).is_some_and(|job| std::mem::take(&mut job.ledger_changed)) {
            self.read_ledger();
        }
    }

    /// Goes to the files of a drive.
    pub(crate) fn dig_into(&mut self, path: PathBuf) {
        let choices = dig::choices(self);
        self.dig.on_drive(path, &choices, &self.bench);
        self.place = Place::Dig;
    }

    pub(crate) fn go(&mut self, place: Place) {
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

    pub(crate) fn ask_to_leave(&mut self) {
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
            Overlay::Palette(mut palette) => match palette.key(key.code, self) {
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
                self.chosen = self.items.iter().position(|item| *item.path() == path).unwrap_or(0);
                self.drawer = true;
                self.place = Place::Bench;
            }
            Action::Dig(path) => self.dig_into(path),
            Action::Source(path) => (self.source, self.place) = (Some(path), Place::Bench),
            Action::Target(path) => (self.target, self.place) = (Some(path), Place::Bench),
            Action::OpenJob(at) => (self.current, self.place) = (at, Place::Job),
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
                self.drawer = self.chosen == at && !self.drawer;
                self.chosen = at;
            }
            Hit::Job(at) => self.open_listed(at),
            Hit::Line(at) => match self.place {
                Place::Ledger => self.ledger.choose(at),
                Place::Dig => self.dig.choose(at),
                _ => {
                    if let Some(job) = self.jobs.get_mut(self.current) {
                        job.choose(at);
                    }
                }
            },
            Hit::Step(step) => {
                if let Some(job) = self.jobs.get_mut(self.current) {
                    job.show(step);
                }
            }
            Hit::Surface => {
                let cell = usize::from(place.y - area.y) * usize::from(area.width) + usize::from(place.x - area.x);
                if let Some(job) = self.jobs.get_mut(self.current) {
                    job.cursor = Some(cell);
                }
            }
        }
    }

    /// Draws everything.
    pub fn draw(&mut self, frame: &mut Frame) {
        let area = frame.area();
        self.hits.clear();
        let buf = frame.buffer_mut();
        buf.set_style(area, theme::ground());
        self.too_small = area.width < LEAST.0 || area.height < LEAST.1;
        if self.too_small {
            put(buf, area.x, area.y, area.width, vec![loud(Mean::Mind, format!("▲ {} x {} needed", LEAST.0, LEAST.1))]);
            let asked = matches!(self.overlay, Some(Overlay::Leave));
            let says = if asked { "runs go on: y leaves, Esc stays" } else { "q leaves, no other key works" };
            put(buf, area.x, area.y + 1, area.width, vec![say(Mean::Text, says)]);
            return;
        }
        self.top(frame);
        let body = Rect { y: area.y + 2, height: area.height - 4, ..area };
        match self.place {
            Place::Bench => bench::draw(self, frame, body),
            Place::Job => crate::job::draw(self, frame, body),
            Place::Ledger => ledger::draw(self, frame, body),
            Place::Dig => dig::draw(self, frame, body),
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
            Some(Overlay::Palette(palette)) => palette.draw(self, frame, body),
        }
    }

    fn top(&mut self, frame: &mut Frame) {
        let area = frame.area();
        let buf = frame.buffer_mut();
        put(buf, area.x + 1, area.y, 16, vec![loud(Mean::Text, "Zealous Badger")]);
        let mut x = area.x + 19;
        for (place, number, name) in PLACES {
            let here = place == self.place;
            let spans = vec![
                say(if here { Mean::Focus } else { Mean::Quiet }, format!("{number} ")),
                if here { loud(Mean::Focus, name) } else { say(Mean::Text, name) },
            ];
            put(buf, x, area.y, 12, spans);
            self.hits.push((Rect { x, y: area.y, width: 9, height: 1 }, Hit::Place(place)));
            x += 11;
        }
        let clock = local(now(), "%a %H:%M");
        let workshop = if area.width >= 100 { self.workshop.as_str() } else { "" };
        let mut facts: Vec<&str> = [workshop, self.technician.as_str()].into_iter().filter(|fact| !fact.is_empty()).collect();
        facts.push(&clock);
        let right = inset(Rect { x, width: area.right().saturating_sub(x), ..area }, 1);
        put_right(buf, right, area.y, vec![say(Mean::Quiet, facts.join(" · "))]);
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
        put_right(buf, inset(area, 1), y, vec![say(if self.runs() > 0 { Mean::Good } else { Mean::Quiet }, runs.clone())]);
        let width = area.width.saturating_sub(runs.len() as u16 + 4);
        if let Some((mean, text)) = &self.message {
            let mark = if *mean == Mean::Stop { "◆" } else { "▲" };
            put(buf, area.x + 1, y, width, vec![loud(*mean, format!("{mark} {text}"))]);
            return;
        }
        let hints = match self.place {
            Place::Bench => bench::hints(self),
            Place::Job => crate::job::hints(self),
            Place::Ledger => ledger::hints(self),
            Place::Dig => dig::hints(self),
        };
        let mut x = area.x + 1;
        for (key, what) in hints.into_iter().chain([("?", "help"), ("/", "find")]) {
            let wide = (key.chars().count() + what.len() + 1) as u16;
            // A hint that does not fit whole is left out; help lists them all.
            if x + wide > area.x + width {
                break;
            }
            put(buf, x, y, wide, vec![loud(Mean::Focus, key), say(Mean::Quiet, format!(" {what}"))]);
            x += wide + 3;
        }
    }
}

/// A raised sheet in the middle of the screen with some lines on it.
pub fn sheet(frame: &mut Frame, body: Rect, width: u16, lines: Vec<Vec<ratatui::text::Span<'static>>>) {
    let width = width.min(body.width.saturating_sub(2));
    let height = (lines.len() as u16 + 2).min(body.height);
    let area = Rect { x: body.x + (body.width - width) / 2, y: body.y + (body.height - height) / 3, width, height };
    let raised = theme::raised(Mean::Text);
    frame.render_widget(ratatui::widgets::Clear, area);
    frame.render_widget(Block::new().style(raised), area);
    let buf = frame.buffer_mut();
    for (line, y) in lines.into_iter().zip(area.y + 1..area.bottom().saturating_sub(1)) {
        let spans = line.into_iter().map(|span| ratatui::text::Span::styled(span.content, raised.patch(span.style)));
        put(buf, area.x + 2, y, width - 4, spans.collect());
    }
    if height > 0 {
        (area.y..area.bottom()).for_each(|y| put(buf, area.x, y, 1, vec![loud(Mean::Focus, "▌")]));
    }
}
