//! What a system of the NT family says of its licence, and what becomes of that on another machine.

use crate::machine::Machine;
use crate::places::Places;
use crate::windows::hive;
use badger_drive::Source;
use badger_drive::field::{le32, le64};
use badger_inspect::{Line, Looked, Verdict};

/// How a licence was sold.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Channel {
    /// To people, who may take it along.
    Retail,
    /// With a machine, its key in the machine's firmware.
    Firmware,
    /// With a machine, its key on a label or the maker's.
    Maker,
    /// To a company that has a key server of its own.
    Server,
    /// To a company, a key for many machines.
    Many,
    /// Another one, as it is written.
    Other(String),
}

impl Channel {
    fn of(text: &str) -> Self {
        match text {
            "Retail" => Self::Retail,
            "OEM:DM" => Self::Firmware,
            text if text.starts_with("OEM") => Self::Maker,
            "Volume:GVLK" => Self::Server,
            "Volume:MAK" => Self::Many,
            other => Self::Other(other.into()),
        }
    }

    /// The word for it.
    pub fn word(&self) -> String {
        match self {
            Self::Retail => "retail".into(),
            Self::Firmware => "with the machine, key in its firmware".into(),
            Self::Maker => "with the machine, by its maker".into(),
            Self::Server => "volume, by a key server".into(),
            Self::Many => "volume, a key for many".into(),
            Self::Other(text) => text.clone(),
        }
    }
}

/// What becomes of a licence.
#[derive(Clone, Copy, Debug, PartialEq, Eq, serde::Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Forecast {
    /// Nothing needs to be done.
    CarriesOver,
    /// It has to be activated again.
    NeedsActivation,
    /// It belongs to the old machine.
    StaysBehind,
    /// Nobody can say.
    Unknown,
}

impl Forecast {
    /// The words for it.
    pub fn word(self) -> &'static str {
        match self {
            Self::CarriesOver => "carries over",
            Self::NeedsActivation => "needs activation",
            Self::StaysBehind => "stays behind",
            Self::Unknown => "unknown",
        }
    }
}

/// What a system says of its licence.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Licence {
    /// Name of the product.
    pub product: String,
    /// Edition.
    pub edition: String,
    /// Version and build.
    pub version: String,
    /// How it was installed: client, server.
    pub install: String,
    /// Product id.
    pub product_id: String,
    /// The whole key, where it is kept; shown only where somebody asks.
    key: Option<String>,
    /// How it was sold; `None` where that is not kept.
    pub channel: Option<Channel>,
}

/// Letters of keys.
const LETTERS: &[u8; 24] = b"BCDFGHJKMPQRTVWXY2346789";

/// A key out of the fifteen bytes in which it is kept; `None` where there is none.
pub fn decoded(kept: &[u8]) -> Option<String> {
    let mut bytes: Vec<u8> = kept.get(..15)?.to_vec();
    if bytes.iter().all(|byte| *byte == 0) {
        return None;
    }
    // Newer keys have the letter N somewhere, and a bit says so.
    let has_n = bytes[14] & 8 != 0;
    bytes[14] &= 0xf7;
    let mut out: Vec<u8> = Vec::new();
    let mut last = 0;
    for _ in 0..25 {
        let mut rest = 0u32;
        for byte in bytes.iter_mut().rev() {
            let value = rest << 8 | u32::from(*byte);
            *byte = (value / 24) as u8;
            rest = value % 24;
        }
        out.insert(0, LETTERS[rest as usize]);
        last = rest as usize;
    }
    if has_n {
        out.remove(0);
        out.insert(last, b'N');
    }
    let text: Vec<String> = out.chunks(5).map(|part| String::from_utf8_lossy(part).into_owned()).collect();
    Some(text.join("-"))
}

/// A key, all but its last group masked.
pub fn masked(key: &str) -> String {
    format!("*****-*****-*****-*****-{}", key.rsplit('-').next().unwrap_or_default())
}

impl Licence {
    /// The key, all but its last group masked unless asked for.
    pub fn key(&self, whole: bool) -> Option<String> {
        let key = self.key.as_ref()?;
        Some(if whole { key.clone() } else { masked(key) })
    }

    /// What becomes of it, on the same machine or on another, why, and what to do before.
    pub fn forecast(&self, is_same_machine: bool) -> (Forecast, &'static str, &'static [&'static str]) {
        match (&self.channel, is_same_machine) {
            (None | Some(Channel::Other(_)), _) => {
                (Forecast::Unknown, "how it was sold is not kept on the drive", &["look it up before the old machine is gone"])
            }
            (Some(Channel::Server), _) => (
                Forecast::NeedsActivation,
                "it activates by itself where it reaches the company's key server, and again and again",
                &["let it reach that server once after the move"],
            ),
            (Some(_), true) => (Forecast::CarriesOver, "the machine stays the same but for its drive", &[]),
            (Some(Channel::Retail), false) => (
                Forecast::NeedsActivation,
                "it may be taken along, to one machine at a time",
                &["note the key down, or link the licence with its owner's account", "take it off the old machine", "activate it on the new one"],
            ),
            (Some(Channel::Many), false) => {
                (Forecast::NeedsActivation, "each activation uses up one of those that the company has", &["ask the company for one more activation"])
            }
            (Some(Channel::Firmware), false) => (
                Forecast::StaysBehind,
                "its key is in the firmware of the machine it came with",
                &["the new machine needs a licence of its own, of the same edition or another"],
            ),
            (Some(Channel::Maker), false) => (
                Forecast::StaysBehind,
                "it was sold with the machine",
                &["the new machine needs a licence of its own, of the same edition or another"],
            ),
        }
    }
}

/// A text of two bytes a character out of a structure.
fn wide(bytes: &[u8], at: usize, units: usize) -> String {
    let part = bytes.get(at..at.saturating_add(units * 2)).unwrap_or_default();
    let units: Vec<u16> = part.chunks_exact(2).map(|pair| u16::from_le_bytes([pair[0], pair[1]])).take_while(|unit| *unit != 0).collect();
    String::from_utf16_lossy(&units)
}

/// Looks for a system of the NT family on a drive; what cannot be read is told as text.
pub fn of(drive: &Source, looked: &Looked) -> Vec<(String, Result<Licence, String>)> {
    let places = Places::of(drive, looked);
    let mut out = Vec::new();
    for place in &places.all {
        let path = "/Windows/System32/config/SOFTWARE";
        let hive = match hive(place, path) {
            Ok(None) => continue,
            Err(_) if place.files.is_err() => continue,
            Err(why) => {
                out.push((place.name(), Err(why)));
                continue;
            }
            Ok(Some(hive)) => hive,
        };
        let key = r"Microsoft\Windows NT\CurrentVersion";
        let text = |name: &str| hive.find(key, name).ok().flatten().and_then(|value| value.text()).unwrap_or_default();
        let data = |name: &str| hive.find(key, name).ok().flatten().map(|value| value.data).unwrap_or_default();
        let (old, new) = (data("DigitalProductId"), data("DigitalProductId4"));
        // The newer of both says its own length, and how it was sold.
        let is_new = new.len() >= 0x4f8 && le32(&new, 0) as usize <= new.len();
        let channel = is_new.then(|| wide(&new, 1016, 64)).filter(|text| !text.is_empty()).map(|text| Channel::of(&text));
        let kept = if is_new { new.get(808..823) } else { old.get(52..67) };
        let build = [
            text("CurrentBuild"),
            hive.find(key, "UBR").ok().flatten().and_then(|value| value.number()).map(|number| number.to_string()).unwrap_or_default(),
        ];
        let build: Vec<&str> = build.iter().map(String::as_str).filter(|part| !part.is_empty()).collect();
        let product = text("ProductName");
        if product.is_empty() && build.is_empty() {
            out.push((place.name(), Err("the registry does not say which system that is".into())));
            continue;
        }
        out.push((
            place.name(),
            Ok(Licence {
                product,
                edition: text("EditionID"),
                version: [text("DisplayVersion"), build.join(".")]
                    .iter()
                    .filter(|part| !part.is_empty())
                    .cloned()
                    .collect::<Vec<_>>()
                    .join(", build "),
                install: text("InstallationType"),
                product_id: text("ProductId"),
                key: kept.and_then(decoded),
                channel,
            }),
        ));
    }
    out
}

/// The same as lines of a proof; nobody asked for keys.
/// For a machine that is known it is told what becomes of the licence there.
pub fn lines(drive: &Source, looked: &Looked, machine: Option<&Machine>) -> Vec<Line> {
    let found = of(drive, looked);
    if found.is_empty() {
        return vec![Line::new("licence", Verdict::NotChecked, "no system with a licence that is known here was found")];
    }
    let line = |(name, licence): (String, Result<Licence, String>)| match licence {
        Err(why) => Line { link: "system".into(), ..Line::new("licence", Verdict::NotChecked, format!("{name}: {why}")) },
        Ok(licence) => {
            let channel = licence.channel.as_ref().map_or_else(|| "how it was sold is not kept".into(), Channel::word);
            let (same, other) = (licence.forecast(true), licence.forecast(false));
            let which = match machine {
                Some(machine) if machine.same => format!("on the same machine it {}", said(same.0)),
                Some(machine) => format!("on \"{}\" it {}", machine.name, said(other.0)),
                None => format!("on the same machine it {}, on another it {}", said(same.0), said(other.0)),
            };
            let text = format!("{} {}: {which}", licence.product, licence.version);
            let mut evidence = vec![
                format!("edition {}, {}, product id {}", dash(&licence.edition), dash(&licence.install), dash(&licence.product_id)),
                format!("sold: {channel}"),
                format!("key {}", licence.key(false).unwrap_or_else(|| "not kept".into())),
                format!("on another machine: {}", other.1),
            ];
            evidence.extend(other.2.iter().map(|step| format!("before: {step}")));
            evidence.push("whether it is activated was not asked: that is known on the machine only".into());
            Line { link: "system".into(), evidence, ..Line::new("licence", Verdict::NotChecked, text) }
        }
    };
    found.into_iter().map(line).collect()
}

fn dash(text: &str) -> &str {
    if text.is_empty() { "-" } else { text }
}

fn said(forecast: Forecast) -> &'static str {
    match forecast {
        Forecast::Unknown => "may or may not be taken along (unknown)",
        other => other.word(),
    }
}

/// The structure in which newer systems keep key and channel, for files that are made.
pub fn kept(key: &[u8; 15], channel: &str) -> Vec<u8> {
    let mut out = vec![0; 0x4f8];
    out[..4].copy_from_slice(&0x4f8u32.to_le_bytes());
    out[4] = 4;
    out[808..823].copy_from_slice(key);
    for (at, unit) in channel.encode_utf16().enumerate().take(63) {
        out[1016 + at * 2..1018 + at * 2].copy_from_slice(&unit.to_le_bytes());
    }
    debug_assert!(le64(&out, 808) == le64(key, 0));
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A key is a number of 25 digits of 24; this writes one, so that reading it can be told from doing nothing.
    fn encoded(key: &str) -> [u8; 15] {
        let mut bytes = [0u8; 15];
        for letter in key.bytes().filter(|letter| *letter != b'-') {
            let mut carry = LETTERS.iter().position(|other| *other == letter).unwrap() as u32;
            for byte in &mut bytes {
                carry += u32::from(*byte) * 24;
                *byte = carry as u8;
                carry >>= 8;
            }
        }
        bytes
    }

    #[test]
    fn a_key_is_read_and_masked() {
        let key = "BBBBB-CCCCC-DDDDD-FFFFF-GGGGG";
        assert_eq!(decoded(&encoded(key)).as_deref(), Some(key));
        assert_eq!(decoded(&[0; 15]), None);
        assert_eq!(decoded(&[1; 4]), None);
        let licence = Licence {
            product: String::new(),
            edition: String::new(),
            version: String::new(),
            install: String::new(),
            product_id: String::new(),
            key: decoded(&encoded(key)),
            channel: Some(Channel::of("OEM:DM")),
        };
        assert_eq!(licence.key(false).as_deref(), Some("*****-*****-*****-*****-GGGGG"));
        assert_eq!(licence.key(true).as_deref(), Some(key));
        assert_eq!(licence.forecast(false).0, Forecast::StaysBehind);
        assert_eq!(licence.forecast(true).0, Forecast::CarriesOver);
    }
}
