//! What the preview shows of one file or folder, made in a thread of its own.

use crate::volume::Opened;
use badger_drive::size::thousands;
use badger_fs::cached::Cached;
use badger_fs::tree::{Node, NodeKind, Stream, Tree};
use badger_people::kind::{self, Encoding, Format, Reading};
use image::{ImageReader, Limits, imageops::FilterType};
use std::io::BufReader;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::mpsc::{Receiver, Sender, channel};
use std::sync::{Arc, Mutex};

/// Text is shown up to so many bytes.
const MOST_TEXT: u64 = 128 << 10;
/// Pictures are made as wide and high as this, in dots.
const DOTS: (u32, u32) = (200, 160);
/// Bytes in view at once.
pub const BYTES: usize = 64 * 16;

/// The part of a preview that shows the content.
#[derive(Clone)]
pub enum Body {
    /// Lines of text and how they were encoded.
    Text(&'static str, Vec<String>),
    /// A picture: its size, and dots of red, green and blue for the screen.
    Picture {
        /// Wide and high as it is.
        size: (u32, u32),
        /// Dots in a line.
        width: u32,
        /// Red, green and blue, line by line.
        dots: Vec<[u8; 3]>,
    },
    /// What a folder holds: folders, files, bytes of the files right in it.
    Folder(u64, u64, u64),
    /// Where a link leads.
    Link(String),
    /// Nothing that can be drawn.
    Nothing,
}

/// A preview.
#[derive(Clone)]
pub struct Look {
    /// The path it belongs to.
    pub path: String,
    /// What the tree says of it.
    pub node: Node,
    /// What it is by its content.
    pub format: Option<Format>,
    /// Names and what they say.
    pub facts: Vec<(&'static str, String)>,
    /// Its content.
    pub body: Body,
    /// Where its bytes lie: first sector of the drive (`None` for a hole) and bytes.
    pub places: Vec<(Option<u64>, u64)>,
    /// Whether it is compressed where it lies.
    pub packed: bool,
    /// Bytes of a sector of the drive it lies on, where it lies on one.
    pub sector: Option<u64>,
    /// Its further streams.
    pub streams: Vec<Stream>,
    /// Its attributes: name and bytes.
    pub attributes: Vec<(String, usize)>,
    /// Where the bytes in view begin.
    pub offset: u64,
    /// Bytes from `offset` on.
    pub bytes: Vec<u8>,
    /// What of it cannot be read: start and length in bytes, and the first sector.
    pub lost: Vec<(u64, u64, Option<u64>)>,
    /// It was read to its end.
    pub read_through: bool,
    /// Why there is nothing to see.
    pub trouble: Option<String>,
}

/// What is asked of the thread.
pub struct Wish {
    /// The path of the file or folder.
    pub path: String,
    /// What the tree says of it.
    pub node: Node,
    /// Where the bytes in view begin.
    pub offset: u64,
    /// Read all of it and say what is missing.
    pub through: bool,
}

/// The thread that looks; only the latest wish counts.
pub struct Looker {
    wishes: Sender<Wish>,
    latest: Arc<Mutex<Option<Look>>>,
}

impl Looker {
    /// Begins.
    pub fn start(opened: Arc<Opened>) -> Self {
        let (wishes, wished) = channel();
        let latest = Arc::new(Mutex::new(None));
        let shown = latest.clone();
        std::thread::spawn(move || answer(&opened, &wished, &shown));
        Self { wishes, latest }
    }

    /// Asks for a preview.
    pub fn wish(&self, wish: Wish) {
        // A thread that has gone shows nothing new; what is shown stays.
        let _ = self.wishes.send(wish);
    }

    /// What was found since the last time.
    pub fn take(&self) -> Option<Look> {
        self.latest.lock().expect("preview lock").take()
    }
}

fn answer(opened: &Opened, wished: &Receiver<Wish>, shown: &Mutex<Option<Look>>) {
    while let Ok(mut wish) = wished.recv() {
        while let Ok(later) = wished.try_recv() {
            wish = later;
        }
        // What decodes pictures is not ours: where it gives up, the next file is shown all the same.
        let found = catch_unwind(AssertUnwindSafe(|| look(opened, &wish)))
            .unwrap_or_else(|_| Look { trouble: Some("it cannot be shown: what it is made of breaks what reads it".into()), ..blank(&wish) });
        *shown.lock().expect("preview lock") = Some(found);
    }
}

/// A look before anything was read.
fn blank(wish: &Wish) -> Look {
    Look {
        path: wish.path.clone(),
        node: wish.node.clone(),
        format: None,
        facts: Vec::new(),
        body: Body::Nothing,
        places: Vec::new(),
        packed: false,
        sector: None,
        streams: Vec::new(),
        attributes: Vec::new(),
        offset: wish.offset,
        bytes: Vec::new(),
        lost: Vec::new(),
        read_through: false,
        trouble: None,
    }
}

fn look(opened: &Opened, wish: &Wish) -> Look {
    let (tree, node) = (&*opened.tree, &wish.node);
    let mut look = Look {
        streams: tree.streams(node).unwrap_or_default(),
        attributes: tree.attributes(node).unwrap_or_default().into_iter().map(|(name, value)| (name, value.len())).collect(),
        ..blank(wish)
    };
    if node.kind != NodeKind::File {
        no_file(tree, node, &mut look);
        return look;
    }
    let content = match tree.open(node, "") {
        Ok(content) => content,
        Err(finding) => {
            look.trouble = Some(finding.text);
            return look;
        }
    };
    let volume = tree.origin().cached();
    let on_drive = |at: u64| volume.map(|volume| (volume.start() + at) / volume.sector());
    look.sector = volume.map(Cached::sector);
    look.places = content.pieces().iter().map(|piece| (piece.at.and_then(on_drive), piece.len)).collect();
    look.packed = content.is_packed();
    let mut lost = Vec::new();
    let mut head = vec![0; content.size().min(MOST_TEXT) as usize];
    content.read_hard(0, &mut head, &mut lost);
    look.bytes = vec![0; content.size().saturating_sub(wish.offset).min(BYTES as u64) as usize];
    content.read_hard(wish.offset, &mut look.bytes, &mut Vec::new());
    let format = kind::format(&head[..head.len().min(4096)]);
    look.format = Some(format);
    if wish.through {
        lost.clear();
        let mut buffer = vec![0; 1 << 20];
        let mut at = 0;
        while at < content.size() {
            match content.hole(at) {
                0 => match content.read_hard(at, &mut buffer, &mut lost) {
                    0 => break,
                    count => at += count as u64,
                },
                hole => at += hole,
            }
        }
        look.read_through = true;
    }
    look.lost = lost.iter().map(|(start, len)| (*start, *len, content.place(*start).and_then(on_drive))).collect();
    if lost.is_empty() {
        look.facts = kind::facts(&content, &head, format);
    }
    look.body = picture(&content, format).or_else(|| text(&head, content.size())).unwrap_or(Body::Nothing);
    look
}

/// What is to be said of what has no content of its own.
fn no_file(tree: &dyn Tree, node: &Node, look: &mut Look) {
    match node.kind {
        NodeKind::Directory => {
            let listing = tree.list(node);
            let folders = listing.entries.iter().filter(|entry| entry.node.kind == NodeKind::Directory).count() as u64;
            let bytes = listing.entries.iter().map(|entry| entry.node.size).sum();
            look.body = Body::Folder(folders, listing.entries.len() as u64 - folders, bytes);
            look.trouble = listing.findings.first().map(|finding| finding.text.clone());
        }
        NodeKind::Link => match tree.link(node) {
            Ok(name) => look.body = Body::Link(name.shown),
            Err(finding) => look.trouble = Some(finding.text),
        },
        NodeKind::Other => {
            let what = node.what.as_deref().unwrap_or("device, pipe or socket");
            look.trouble = Some(format!("no file: {what}"));
        }
        NodeKind::File => {}
    }
}

fn picture(content: &badger_fs::Content, format: Format) -> Option<Body> {
    if format.kind != kind::Kind::Picture || !matches!(format.name, "PNG" | "JPEG" | "GIF" | "BMP" | "TIFF" | "WebP") {
        return None;
    }
    let mut reader = ImageReader::new(BufReader::with_capacity(1 << 16, Reading::new(content))).with_guessed_format().ok()?;
    let mut limits = Limits::default();
    limits.max_alloc = Some(256 << 20);
    (limits.max_image_width, limits.max_image_height) = (Some(20_000), Some(20_000));
    reader.limits(limits);
    let decoded = reader.decode().ok()?;
    let size = (decoded.width(), decoded.height());
    // Cells of a terminal are about twice as high as wide, and hold two dots.
    let small = decoded.resize(DOTS.0, DOTS.1, FilterType::Triangle).to_rgb8();
    Some(Body::Picture { size, width: small.width(), dots: small.pixels().map(|dot| dot.0).collect() })
}

fn text(head: &[u8], size: u64) -> Option<Body> {
    let encoding = Encoding::of(head)?;
    let mut lines: Vec<String> =
        encoding.decode(head).lines().map(|line| line.replace('\t', "    ").chars().filter(|c| !c.is_control()).collect()).collect();
    if size > head.len() as u64 {
        lines.push(format!("… {} more bytes", thousands(size - head.len() as u64)));
    }
    Some(Body::Text(encoding.word(), lines))
}
