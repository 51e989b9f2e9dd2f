//! A container that is open, as a drive.

use crate::held::Held;
use crate::layer::{Layer, Packing, Place, Result, Wrong};
pub use crate::parts::Format;
use crate::parts::{Below, MOST_UNPACKED, Opened, beside};
use crate::read;
use badger_drive::medium::inside;
use badger_drive::raw::RawFile;
use badger_drive::{Bus, Geometry, Holds, Identity, Medium, Patience, ReadError, Standing, Stretch};
use lru::LruCache;
use std::collections::HashSet;
use std::fs::File;
use std::io::{self, Read};
use std::num::NonZeroUsize;
use std::os::unix::fs::MetadataExt;
use std::path::Path;
use std::sync::{Arc, Mutex};

/// Unpacked bytes that are remembered.
const REMEMBERED: NonZeroUsize = NonZeroUsize::new(64).expect("it is not zero");
/// No drive is larger than this, in bytes: sums of places stay within 64 bits.
pub(crate) const MOST_BYTES: u64 = 1 << 60;
/// More layers lie on each other in no chain that anybody uses.
const MOST_LAYERS: usize = 64;
/// Unpacked pieces by file and place.
type Unpacked = LruCache<(usize, u64), Arc<[u8]>>;

/// A drive in a container.
pub struct Container {
    format: Format,
    layer: Box<dyn Layer>,
    files: Arc<Vec<Held>>,
    below: Option<Arc<dyn Medium>>,
    /// What lies below it, and how sure that is, a sentence for each layer.
    notes: Vec<String>,
    link: Option<String>,
    unpacked: Mutex<Unpacked>,
    identity: Identity,
    geometry: Geometry,
}

/// Which container a file is; `None` where it is none that is known.
///
/// # Errors
/// What the system says.
pub fn format_of(path: &Path) -> io::Result<Option<Format>> {
    read::format_of(path)
}

/// Opens the container that a path names; `None` where the file is none that is known. `snapshot` is the name or number of a state that was kept
/// in it.
///
/// # Errors
/// What is wrong with it and where, and what of it is not there.
pub fn open(path: &Path, snapshot: Option<&str>) -> io::Result<Option<Container>> {
    open_layer(path, snapshot, &mut HashSet::new())
}

fn open_layer(path: &Path, snapshot: Option<&str>, met: &mut HashSet<(u64, u64)>) -> io::Result<Option<Container>> {
    let Some(format) = read::format_of(path)? else { return Ok(None) };
    let bad = |wrong: Wrong| io::Error::new(io::ErrorKind::InvalidData, format!("{} image: {wrong}", format.word()));
    let meta = std::fs::metadata(path)?;
    if !met.insert((meta.dev(), meta.ino())) || met.len() > MOST_LAYERS {
        return Err(bad(Wrong::new("what lies below it leads back to itself, or there are too many layers")));
    }
    let Opened { layer, files, below, link } = read::open(format, path, snapshot).map_err(bad)?;
    if layer.size() == 0 {
        return Err(bad(Wrong::new("there is nothing in it")));
    }
    if layer.size() > MOST_BYTES {
        return Err(bad(Wrong::new(format!("it claims {} bytes, more than any drive has", layer.size()))));
    }
    let (below, notes) = match below {
        None => (None, Vec::new()),
        Some(below) => {
            let opened = open_below(path, &below, met).map_err(|error| io::Error::new(error.kind(), format!("{} image: {error}", format.word())));
            opened.map(|(below, notes)| (Some(below), notes))?
        }
    };
    let mut identity = Identity::of_file(path);
    (identity.read_only, identity.bus) = (true, Bus::Image);
    let (logical_sector, physical_sector) = layer.sectors();
    let geometry = Geometry { size_bytes: layer.size(), logical_sector, physical_sector };
    let unpacked = Mutex::new(LruCache::new(REMEMBERED));
    Ok(Some(Container { format, layer, files, below, notes, link, unpacked, identity, geometry }))
}

/// What lies below an image, and what there is to know of that.
fn open_below(path: &Path, below: &Below, met: &mut HashSet<(u64, u64)>) -> io::Result<(Arc<dyn Medium>, Vec<String>)> {
    let found = beside(path, &below.names).map_err(|wrong| io::Error::new(io::ErrorKind::NotFound, wrong.to_string()))?;
    let container = if below.is_raw { None } else { open_layer(&found, None, met)? };
    let (shown, link) = (found.display(), container.as_ref().and_then(|container| container.link.clone()));
    // An image of changes over another base than its own is a mixture of two drives.
    let note = match (&below.links[..], link) {
        ([], _) => format!("rests on {shown}, which the format names and does not identify: whether it is the right one, unchanged, is not known"),
        (links, Some(link)) if links.contains(&link) => format!("rests on {shown}, which has the identifier that the format asks for ({link})"),
        (links, link) => {
            let has = link.map_or_else(|| "no identifier".into(), |link| format!("the identifier {link}"));
            let text = format!("it rests on {shown}, which has {has} and not {}: it was changed, or is another one", links.join(" or "));
            return Err(io::Error::new(io::ErrorKind::InvalidData, text));
        }
    };
    Ok(match container {
        Some(container) => {
            let notes = [vec![note], container.notes.clone()].concat();
            (Arc::new(container), notes)
        }
        None => (Arc::new(RawFile::open(&found)?), vec![note]),
    })
}

impl Container {
    /// Which format it has.
    pub fn format(&self) -> Format {
        self.format
    }

    /// The unpacked bytes of a piece.
    fn unpack(&self, file: usize, at: u64, len: usize, whole: usize, packing: Packing) -> Result<Arc<[u8]>> {
        let key = (file, at);
        if let Some(bytes) = self.unpacked.lock().expect("cache lock").get(&key).filter(|bytes| bytes.len() == whole) {
            return Ok(bytes.clone());
        }
        let broken = |what: &str| Wrong::new(format!("the packed piece at byte {at} {what}"));
        if len > MOST_UNPACKED || whole > MOST_UNPACKED {
            return Err(broken("claims more than any has"));
        }
        let mut packed = vec![0; len.min(self.files[file].len().saturating_sub(at) as usize)];
        self.files[file].read_plain(at, &mut packed).map_err(|error| Wrong::new(error.to_string()))?;
        let mut out = vec![0; whole];
        let unpacked = match packing {
            Packing::Deflate => flate2::read::DeflateDecoder::new(&packed[..]).read_exact(&mut out),
            Packing::Zlib => flate2::read::ZlibDecoder::new(&packed[..]).read_exact(&mut out),
            Packing::Zstd => zstd::stream::read::Decoder::with_buffer(&packed[..]).and_then(|mut decoder| decoder.read_exact(&mut out)),
        };
        unpacked.map_err(|_| broken("cannot be unpacked"))?;
        let bytes: Arc<[u8]> = out.into();
        self.unpacked.lock().expect("cache lock").put(key, bytes.clone());
        Ok(bytes)
    }

    /// Reads from what lies below: what that is shorter by is zero.
    fn read_below(&self, offset: u64, buf: &mut [u8], patience: &Patience) -> std::result::Result<(), ReadError> {
        let Some(below) = &self.below else {
            buf.fill(0);
            return Ok(());
        };
        let inside = below.geometry().size_bytes.saturating_sub(offset).min(buf.len() as u64) as usize;
        buf[inside..].fill(0);
        if inside == 0 { Ok(()) } else { below.read_within(offset, &mut buf[..inside], patience) }
    }

    fn read_piece(&self, offset: u64, place: Place, buf: &mut [u8], patience: &Patience) -> std::result::Result<(), ReadError> {
        let wanted = buf.len() as u64;
        let unreadable = |why: String| ReadError::Unreadable { offset, len: wanted, why };
        match place {
            Place::Zero => buf.fill(0),
            Place::Below => self.read_below(offset, buf, patience)?,
            Place::File { file, at } => {
                let read = self.files[file].read_plain(at, buf);
                read.map_err(|error| match error {
                    ReadError::Unreadable { offset: place, len, why } => {
                        ReadError::Unreadable { offset: offset + place.saturating_sub(at), len, why }
                    }
                    ReadError::Gone(why) => ReadError::Gone(why),
                    error => unreadable(format!("the image is cut off or damaged: {error}")),
                })?;
            }
            Place::Packed { file, at, len, whole, inner, packing } => {
                let bytes = self.unpack(file, at, len, whole, packing).map_err(|wrong| unreadable(wrong.to_string()))?;
                let piece = bytes.get(inner..inner + buf.len()).ok_or_else(|| unreadable("its packed piece is short".into()))?;
                buf.copy_from_slice(piece);
            }
        }
        Ok(())
    }
}

impl Medium for Container {
    fn geometry(&self) -> Geometry {
        self.geometry
    }

    fn identity(&self) -> &Identity {
        &self.identity
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> std::result::Result<(), ReadError> {
        self.read_within(offset, buf, &Patience::default())
    }

    fn read_within(&self, offset: u64, buf: &mut [u8], patience: &Patience) -> std::result::Result<(), ReadError> {
        let len = buf.len() as u64;
        inside(offset, buf.len(), self.geometry.size_bytes)?;
        let mut done = 0;
        while done < len {
            let at = offset + done;
            let whole = len - done;
            let cannot = |wrong: Wrong| ReadError::Unreadable { offset: at, len: whole, why: wrong.to_string() };
            let (here, place) = self.layer.locate(at, whole).map_err(cannot)?;
            let here = here.clamp(1, whole);
            let piece = &mut buf[done as usize..(done + here) as usize];
            self.read_piece(at, place, piece, patience).map_err(|error| match error {
                // Lengths count to the end of the call.
                ReadError::Unreadable { offset: place, why, .. } => ReadError::Unreadable { offset: place, len: offset + len - place, why },
                error => error,
            })?;
            done += here;
        }
        Ok(())
    }

    fn stretch(&self, offset: u64, max: u64) -> Stretch {
        let end = offset.saturating_add(max).min(self.geometry.size_bytes);
        let mut at = offset;
        let parts = std::iter::from_fn(|| {
            let rest = end.checked_sub(at).filter(|rest| *rest > 0)?;
            let Ok((here, place)) = self.layer.locate(at, rest) else { return Some((rest, Stretch { len: 1, holds: Holds::Bytes })) };
            let here = here.clamp(1, rest);
            let known = match place {
                Place::Zero => Stretch { len: here, holds: Holds::Zero },
                Place::File { file, at } => self.files[file].stretch(at, here),
                Place::Packed { .. } => Stretch { len: here, holds: Holds::Bytes },
                Place::Below => match &self.below {
                    Some(below) if at < below.geometry().size_bytes => below.stretch(at, here),
                    _ => Stretch { len: here, holds: Holds::Zero },
                },
            };
            at += here;
            // What the file is cut off before is bytes that cannot be read.
            let known = if known.len == 0 { Stretch { len: here, holds: Holds::Bytes } } else { known };
            Some((here, known))
        });
        // So many parts are asked in one go; a chain of layers with little in it must not hold anybody up.
        Stretch::joined(parts.take(4096))
    }

    fn notes(&self) -> Vec<String> {
        self.notes.clone()
    }

    fn standing(&self) -> Standing {
        self.files.first().map(|held| held.file.standing()).unwrap_or_default()
    }

    fn rests_on(&self) -> Vec<&File> {
        let own = self.files.iter().flat_map(|held| held.file.rests_on());
        own.chain(self.below.iter().flat_map(|below| below.rests_on())).collect()
    }
}
