//! What a file is by its content, and what can be told of it without opening it in a program.

use badger_fs::Content;
use quick_xml::events::Event;
use serde::Serialize;
use std::io::{Read, Seek, SeekFrom};

/// Kinds of content.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Kind {
    /// Plain text of any kind.
    Text,
    /// Photos and drawings.
    Picture,
    /// Written documents, tables, slides.
    Document,
    /// Recordings.
    Sound,
    /// Moving pictures.
    Film,
    /// Packed files.
    Archive,
    /// Databases.
    Database,
    /// Mail.
    Mail,
    /// Programs and their parts.
    Program,
    /// Nothing that is known.
    Other,
}

impl Kind {
    /// Every kind.
    pub const ALL: [Self; 10] =
        [Self::Text, Self::Picture, Self::Document, Self::Sound, Self::Film, Self::Archive, Self::Database, Self::Mail, Self::Program, Self::Other];

    /// The word for a screen, and for searching.
    pub fn word(self) -> &'static str {
        match self {
            Self::Text => "text",
            Self::Picture => "picture",
            Self::Document => "document",
            Self::Sound => "sound",
            Self::Film => "film",
            Self::Archive => "archive",
            Self::Database => "database",
            Self::Mail => "mail",
            Self::Program => "program",
            Self::Other => "other",
        }
    }
}

/// A kind, and the format by its usual name.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Format {
    /// Kind.
    pub kind: Kind,
    /// Name of the format.
    pub name: &'static str,
}

/// First bytes, where they stand, and what they mean.
const MARKS: &[(usize, &[u8], Kind, &str)] = &[
    (0, b"\x89PNG\r\n\x1a\n", Kind::Picture, "PNG"),
    (0, b"\xff\xd8\xff", Kind::Picture, "JPEG"),
    (0, b"GIF87a", Kind::Picture, "GIF"),
    (0, b"GIF89a", Kind::Picture, "GIF"),
    (0, b"II*\0", Kind::Picture, "TIFF"),
    (0, b"MM\0*", Kind::Picture, "TIFF"),
    (8, b"WEBP", Kind::Picture, "WebP"),
    (4, b"ftypheic", Kind::Picture, "HEIC"),
    (4, b"ftypavif", Kind::Picture, "AVIF"),
    (0, b"%PDF-", Kind::Document, "PDF"),
    (0, b"{\\rtf", Kind::Document, "RTF"),
    (0, b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1", Kind::Document, "compound document"),
    (8, b"WAVE", Kind::Sound, "WAV"),
    (0, b"fLaC", Kind::Sound, "FLAC"),
    (0, b"ID3", Kind::Sound, "MP3"),
    (0, b"\xff\xfb", Kind::Sound, "MP3"),
    (0, b"OggS", Kind::Sound, "Ogg"),
    (4, b"ftypM4A", Kind::Sound, "MPEG-4 sound"),
    (0, b"MThd", Kind::Sound, "MIDI"),
    (8, b"AIFF", Kind::Sound, "AIFF"),
    (8, b"AVI ", Kind::Film, "AVI"),
    (4, b"ftyp", Kind::Film, "MPEG-4"),
    (0, b"\x1aE\xdf\xa3", Kind::Film, "Matroska"),
    (0, b"\0\0\x01\xba", Kind::Film, "MPEG"),
    (0, b"SQLite format 3\0", Kind::Database, "SQLite"),
    (4, b"Standard Jet DB", Kind::Database, "Jet"),
    (4, b"Standard ACE DB", Kind::Database, "ACE"),
    (0, b"!BDN", Kind::Mail, "mail store"),
    (0, b"From ", Kind::Mail, "mailbox"),
    (0, b"Return-Path:", Kind::Mail, "message"),
    (0, b"Received:", Kind::Mail, "message"),
    (0, b"7z\xbc\xaf\x27\x1c", Kind::Archive, "7z"),
    (0, b"Rar!\x1a\x07", Kind::Archive, "RAR"),
    (0, b"\x1f\x8b", Kind::Archive, "gzip"),
    (0, b"BZh", Kind::Archive, "bzip2"),
    (0, b"\xfd7zXZ\0", Kind::Archive, "xz"),
    (0, b"\x28\xb5\x2f\xfd", Kind::Archive, "zstd"),
    (257, b"ustar", Kind::Archive, "tar"),
    (0, b"MZ", Kind::Program, "program"),
    (0, b"\x7fELF", Kind::Program, "ELF"),
    (0, b"#!", Kind::Program, "script"),
    (0, b"PK\x05\x06", Kind::Archive, "zip"),
];

/// What begins with these bytes. 4096 of them tell as much as can be told.
pub fn format(head: &[u8]) -> Format {
    if head.starts_with(b"PK\x03\x04") {
        return zipped(head);
    }
    let mark = MARKS.iter().find(|(at, mark, ..)| head.get(*at..at + mark.len()) == Some(mark));
    if let Some((_, _, kind, name)) = mark {
        return Format { kind: *kind, name };
    }
    if head.starts_with(b"BM") && head.len() > 26 && head[14..18] == [40, 0, 0, 0] {
        return Format { kind: Kind::Picture, name: "BMP" };
    }
    match Encoding::of(head) {
        None => Format { kind: Kind::Other, name: if head.is_empty() { "empty" } else { "not known" } },
        Some(encoding) => {
            let text = encoding.decode(&head[..head.len().min(512)]);
            let name = match text.trim_start() {
                text if text.starts_with("<?xml") && text.contains("<svg") || text.starts_with("<svg") => {
                    return Format { kind: Kind::Picture, name: "SVG" };
                }
                text if text.starts_with("<?xml") => "XML",
                text if text.starts_with("<!DOCTYPE html") || text.starts_with("<html") => "HTML",
                _ => "text",
            };
            Format { kind: Kind::Text, name }
        }
    }
}

/// A zip file is what its first entries say.
fn zipped(head: &[u8]) -> Format {
    let has = |text: &[u8]| head.windows(text.len()).any(|window| window == text);
    let (kind, name) = match () {
        () if has(b"mimetypeapplication/vnd.oasis.opendocument.text") => (Kind::Document, "OpenDocument text"),
        () if has(b"mimetypeapplication/vnd.oasis.opendocument.spreadsheet") => (Kind::Document, "OpenDocument table"),
        () if has(b"mimetypeapplication/vnd.oasis.opendocument") => (Kind::Document, "OpenDocument"),
        () if has(b"mimetypeapplication/epub+zip") => (Kind::Document, "EPUB"),
        () if has(b"word/") => (Kind::Document, "Office Open XML text"),
        () if has(b"xl/") => (Kind::Document, "Office Open XML table"),
        () if has(b"ppt/") => (Kind::Document, "Office Open XML slides"),
        () if has(b"[Content_Types].xml") => (Kind::Document, "Office Open XML"),
        () => (Kind::Archive, "zip"),
    };
    Format { kind, name }
}

/// How text is encoded.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Encoding {
    /// UTF-8, plain ASCII among it.
    Utf8,
    /// UTF-16, the low byte first.
    Utf16Low,
    /// UTF-16, the high byte first.
    Utf16High,
    /// The code page of western European systems.
    Western,
}

impl Encoding {
    /// The encoding of text that begins with these bytes; `None` where they are no text.
    pub fn of(head: &[u8]) -> Option<Self> {
        if head.is_empty() {
            return None;
        }
        match head {
            [0xff, 0xfe, ..] => return Some(Self::Utf16Low),
            [0xfe, 0xff, ..] => return Some(Self::Utf16High),
            _ => {}
        }
        let control = |byte: &u8| *byte < 0x20 && !matches!(byte, b'\t' | b'\n' | b'\r' | 0x0c | 0x1b);
        if head.iter().any(control) {
            // Every second byte zero is Latin text in UTF-16 without its mark.
            let zeroes = |offset: usize| head.iter().skip(offset).step_by(2).filter(|byte| **byte == 0).count() * 4 >= head.len();
            let other = |offset: usize| head.iter().skip(offset).step_by(2).all(|byte| *byte >= 0x20 || matches!(byte, b'\t' | b'\n' | b'\r'));
            return match () {
                () if head.len() >= 8 && zeroes(1) && other(0) => Some(Self::Utf16Low),
                () if head.len() >= 8 && zeroes(0) && other(1) => Some(Self::Utf16High),
                () => None,
            };
        }
        match std::str::from_utf8(head) {
            Ok(_) => Some(Self::Utf8),
            // A letter may be cut at the end.
            Err(error) if error.error_len().is_none() => Some(Self::Utf8),
            Err(_) => {
                let letters = head.iter().filter(|byte| byte.is_ascii_graphic() || byte.is_ascii_whitespace()).count();
                (letters * 10 >= head.len() * 7).then_some(Self::Western)
            }
        }
    }

    /// The word for a screen.
    pub fn word(self) -> &'static str {
        match self {
            Self::Utf8 => "UTF-8",
            Self::Utf16Low => "UTF-16, low byte first",
            Self::Utf16High => "UTF-16, high byte first",
            Self::Western => "Windows-1252",
        }
    }

    /// Bytes as text; what is none becomes the replacement character.
    pub fn decode(self, bytes: &[u8]) -> String {
        let encoding = match self {
            Self::Utf8 => encoding_rs::UTF_8,
            Self::Utf16Low => encoding_rs::UTF_16LE,
            Self::Utf16High => encoding_rs::UTF_16BE,
            Self::Western => encoding_rs::WINDOWS_1252,
        };
        encoding.decode_with_bom_removal(bytes).0.into_owned()
    }
}

/// An opened file as something that can be read and sought in. What cannot be read ends it with an error.
pub struct Reading<'a> {
    content: &'a Content<'a>,
    at: u64,
}

impl<'a> Reading<'a> {
    /// From its start.
    pub fn new(content: &'a Content<'a>) -> Self {
        Self { content, at: 0 }
    }
}

impl Read for Reading<'_> {
    fn read(&mut self, buf: &mut [u8]) -> std::io::Result<usize> {
        let count = self.content.read(self.at, buf).map_err(|finding| std::io::Error::other(finding.text))?;
        self.at += count as u64;
        Ok(count)
    }
}

impl Seek for Reading<'_> {
    fn seek(&mut self, to: SeekFrom) -> std::io::Result<u64> {
        let place = match to {
            SeekFrom::Start(at) => Some(at),
            SeekFrom::End(by) => self.content.size().checked_add_signed(by),
            SeekFrom::Current(by) => self.at.checked_add_signed(by),
        };
        self.at = place.ok_or_else(|| std::io::Error::from(std::io::ErrorKind::InvalidInput))?;
        Ok(self.at)
    }
}

fn number<const N: usize>(bytes: &[u8], at: usize, high_first: bool) -> u64 {
    let mut out = bytes.get(at..at + N).unwrap_or(&[0; N]).to_vec();
    if high_first {
        out.reverse();
    }
    out.iter().rev().fold(0, |value, byte| value << 8 | u64::from(*byte))
}

/// The longest document of which more than its start is read for its facts.
const MOST_READ: u64 = 64 << 20;

/// What can be told of a file: a name and a value for each fact.
pub fn facts(content: &Content, head: &[u8], format: Format) -> Vec<(&'static str, String)> {
    match format.name {
        "WAV" => wav(head).unwrap_or_default(),
        "SQLite" => vec![
            ("pages", format!("{} of {} bytes", number::<4>(head, 28, true), number::<2>(head, 16, true))),
            ("user version", number::<4>(head, 60, true).to_string()),
        ],
        "PDF" => pdf(content, head),
        _ if head.starts_with(b"PK") => zip_facts(Reading::new(content)),
        "mailbox" => vec![("first", first_line(head, "Subject:").unwrap_or_default())],
        "message" => {
            ["From:", "Subject:", "Date:"].into_iter().filter_map(|name| Some((name.trim_end_matches(':'), first_line(head, name)?))).collect()
        }
        _ => Vec::new(),
    }
}

fn first_line(head: &[u8], name: &str) -> Option<String> {
    let text = String::from_utf8_lossy(head);
    let line = text.lines().find(|line| line.starts_with(name))?;
    Some(line[name.len()..].trim().to_string())
}

/// Microsoft's and IBM's "Multimedia Programming Interface and Data Specifications": chunks of a RIFF file.
fn wav(head: &[u8]) -> Option<Vec<(&'static str, String)>> {
    let (mut at, mut rate, mut out) = (12, 0, Vec::new());
    while at + 8 <= head.len() {
        let len = number::<4>(head, at + 4, false);
        match &head[at..at + 4] {
            b"fmt " => {
                rate = number::<4>(head, at + 16, false);
                out.push(("channels", number::<2>(head, at + 10, false).to_string()));
                out.push(("samples", format!("{} Hz, {} bits", number::<4>(head, at + 12, false), number::<2>(head, at + 22, false))));
            }
            b"data" if rate > 0 => {
                out.push(("length", badger_drive::size::span(len as f64 / rate as f64)));
                break;
            }
            _ => {}
        }
        at = at.checked_add(8 + usize::try_from(len + len % 2).ok()?)?;
    }
    Some(out)
}

fn pdf(content: &Content, head: &[u8]) -> Vec<(&'static str, String)> {
    let mut out = vec![("version", String::from_utf8_lossy(&head[5..head.len().min(8)]).into_owned())];
    let mut bytes = vec![0; content.size().min(MOST_READ) as usize];
    let Ok(count) = content.read(0, &mut bytes) else { return out };
    bytes.truncate(count);
    let find = |name: &[u8]| bytes.windows(name.len()).position(|window| window == name);
    let pages = bytes.windows(11).filter(|window| window.starts_with(b"/Type /Page") || window.starts_with(b"/Type/Page")).count();
    let trees = bytes.windows(12).filter(|window| window.starts_with(b"/Type /Pages") || window.starts_with(b"/Type/Pages")).count();
    if pages > trees {
        out.push(("pages", (pages - trees).to_string()));
    }
    if let Some(at) = find(b"/Title (").or_else(|| find(b"/Title(")) {
        let start = at + bytes[at..].iter().position(|byte| *byte == b'(').unwrap_or(0) + 1;
        let end = bytes[start..].iter().take(200).position(|byte| *byte == b')').unwrap_or(0);
        out.push(("title", String::from_utf8_lossy(&bytes[start..start + end]).into_owned()));
    }
    if find(b"/Encrypt").is_some() {
        out.push(("locked", "needs its password".into()));
    }
    let whole = bytes.len() as u64 == content.size() && bytes.windows(5).rev().take(2048).any(|window| window == b"%%EOF");
    out.push(("end", if whole { "is there" } else { "is missing: cut off or longer than was read" }.into()));
    out
}

/// So many bytes of a part of a packed document are unpacked at the most.
const MOST_PART: u64 = 1 << 20;

fn zip_facts(reading: impl Read + Seek) -> Vec<(&'static str, String)> {
    let mut archive = match zip::ZipArchive::new(reading) {
        Ok(archive) => archive,
        Err(error) => return vec![("damaged", error.to_string())],
    };
    let mut out = vec![("parts", archive.len().to_string())];
    for name in ["docProps/core.xml", "docProps/app.xml", "meta.xml"] {
        let Ok(part) = archive.by_name(name) else { continue };
        let mut text = Vec::new();
        if part.take(MOST_PART).read_to_end(&mut text).is_err() {
            continue;
        }
        let text = String::from_utf8_lossy(&text).into_owned();
        let tags = [
            ("dc:title", "title"),
            ("dc:creator", "author"),
            ("dcterms:modified", "changed"),
            ("dc:date", "changed"),
            ("Pages", "pages"),
            ("Words", "words"),
            ("Slides", "slides"),
        ];
        out.extend(tags.into_iter().filter_map(|(tag, label)| Some((label, element(&text, tag)?))));
    }
    out
}

/// The text of an element, where it has any.
fn element(xml: &str, tag: &str) -> Option<String> {
    let mut reader = quick_xml::Reader::from_str(xml);
    let (mut inside, mut text) = (false, String::new());
    loop {
        match reader.read_event().ok()? {
            Event::Start(start) if start.name().as_ref() == tag.as_bytes() => inside = true,
            Event::End(end) if inside && end.name().as_ref() == tag.as_bytes() => break,
            Event::Text(part) if inside => text.push_str(&part.decode().ok()?),
            Event::CData(part) if inside => text.push_str(&part.decode().ok()?),
            Event::GeneralRef(name) if inside => match name.resolve_char_ref().ok()? {
                Some(letter) => text.push(letter),
                None => text.push_str(quick_xml::escape::resolve_predefined_entity(&name.decode().ok()?)?),
            },
            Event::Eof => return None,
            _ => {}
        }
    }
    Some(text.trim().to_string()).filter(|text| !text.is_empty())
}

/// The first bytes of a file, up to 4096.
///
/// # Errors
/// Where it cannot be read.
pub fn head(content: &Content) -> Result<Vec<u8>, badger_fs::Finding> {
    let mut bytes = vec![0; content.size().min(4096) as usize];
    let count = content.read(0, &mut bytes)?;
    bytes.truncate(count);
    Ok(bytes)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use std::io::Cursor;

    #[rstest]
    #[case(b"\x89PNG\r\n\x1a\n\0\0\0\rIHDR", Kind::Picture, "PNG")]
    #[case(b"RIFF\0\0\0\0WAVEfmt ", Kind::Sound, "WAV")]
    #[case(b"date,species,count\n2026-05-01,trout,31\n", Kind::Text, "text")]
    #[case(b"<?xml version=\"1.0\"?>\n<svg xmlns=\"x\"/>", Kind::Picture, "SVG")]
    #[case(b"From wenna@weir Thu\nSubject: tide\n", Kind::Mail, "mailbox")]
    #[case(b"PK\x03\x04aaaa[Content_Types].xml word/document.xml", Kind::Document, "Office Open XML text")]
    #[case(b"\0\x01\x02\x03\x04", Kind::Other, "not known")]
    #[case(b"", Kind::Other, "empty")]
    fn content_tells_the_kind(#[case] head: &[u8], #[case] kind: Kind, #[case] name: &'static str) {
        assert_eq!(format(head), Format { kind, name });
    }

    #[rstest]
    #[case(b"M\xc3\xa4nnerstimmen", Some(Encoding::Utf8), "Männerstimmen")]
    #[case(b"M\xe4nnerstimmen", Some(Encoding::Western), "Männerstimmen")]
    #[case(b"\xff\xfet\0i\0d\0e\0", Some(Encoding::Utf16Low), "tide")]
    #[case(b"\0t\0i\0d\0e\0 \0l\0o\0g", Some(Encoding::Utf16High), "tide log")]
    #[case(b"M\xc3", Some(Encoding::Utf8), "M\u{fffd}")]
    #[case(b"\x01\x02binary", None, "")]
    fn text_shows_its_encoding(#[case] bytes: &[u8], #[case] wanted: Option<Encoding>, #[case] text: &str) {
        let encoding = Encoding::of(bytes);
        assert_eq!(encoding, wanted);
        assert_eq!(encoding.map(|encoding| encoding.decode(bytes)).unwrap_or_default(), text);
    }

    #[test]
    fn a_recording_tells_its_length() {
        let mut head = b"RIFF\0\0\0\0WAVEfmt \x10\0\0\0\x01\0\x02\0".to_vec();
        head.extend(48_000u32.to_le_bytes());
        head.extend(192_000u32.to_le_bytes());
        head.extend([4, 0, 16, 0]);
        head.extend(b"data");
        head.extend((192_000u32 * 90).to_le_bytes());
        let facts = wav(&head).unwrap();
        assert_eq!(facts[0], ("channels", "2".into()));
        assert!(facts.contains(&("samples", "48000 Hz, 16 bits".into())) && facts[2].0 == "length", "{facts:?}");
    }

    #[test]
    fn a_packed_document_tells_its_author() {
        let mut bytes = Cursor::new(Vec::new());
        let mut writer = zip::ZipWriter::new(&mut bytes);
        writer.start_file("docProps/core.xml", zip::write::SimpleFileOptions::default()).unwrap();
        std::io::Write::write_all(&mut writer, b"<cp><dc:title>Rota</dc:title><dc:creator>Oda Fennimore</dc:creator></cp>").unwrap();
        writer.finish().unwrap();
        let facts = zip_facts(bytes);
        assert_eq!(facts, [("parts", "1".to_string()), ("title", "Rota".into()), ("author", "Oda Fennimore".into())]);
        assert_eq!(zip_facts(Cursor::new(b"PK\x03\x04 torn"))[0].0, "damaged");
    }

    #[rstest]
    #[case("<a><dc:title xml:lang='en'>Eels &amp; elvers &#8211; 2</dc:title></a>", Some("Eels & elvers – 2"))]
    #[case("<dc:title><![CDATA[a < b]]></dc:title>", Some("a < b"))]
    #[case("<dc:title> </dc:title>", None)]
    #[case("<dc:title/><b>Rota</b>", None)]
    #[case("<dc:title>cut off", None)]
    #[case("<dc:title>&nobody;</dc:title>", None)]
    fn a_title_is_read_as_xml_has_it(#[case] xml: &str, #[case] title: Option<&str>) {
        assert_eq!(element(xml, "dc:title").as_deref(), title);
    }
}
