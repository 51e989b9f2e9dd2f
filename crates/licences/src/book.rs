//! What a simulated service keeps: licences, where they are active, and when it is not there.

use crate::{Answer, State, Wish, identifier, is_identifier};
use serde::{Deserialize, Serialize};

/// What a licence allows.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Kind {
    /// It belongs to the first device that it was active on.
    DeviceBound,
    /// It may be taken from device to device, so many times.
    Transferable,
    /// It may be active on so many devices at a time.
    Volume,
}

/// A licence.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Licence {
    /// Its identifier, or its key, which becomes one when the book is read.
    pub licence: String,
    /// What it allows.
    pub kind: Kind,
    /// Devices that it is active on: identifiers, or names, which become some.
    #[serde(default)]
    pub active: Vec<String>,
    /// And those that it ever was.
    #[serde(default)]
    pub ever: Vec<String>,
    /// Transfers that are left, of one that may be transferred; devices at a time, of one for many.
    #[serde(default)]
    pub most: u32,
}

/// When it is not there, so that this can be tried.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields, default)]
pub struct Outage {
    /// Of so many requests one is turned away; 0 for none.
    pub every: u32,
    /// Of so many requests one gets no answer; 0 for none.
    pub silent_every: u32,
}

/// A service's book.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Book {
    /// Its licences.
    #[serde(default, rename = "licence")]
    pub licences: Vec<Licence>,
    /// When it is not there.
    #[serde(default)]
    pub outage: Outage,
}

/// One of each kind, made up, for practising.
pub const SAMPLE: &str = include_str!("../sample.toml");

impl Book {
    /// Reads a book.
    ///
    /// # Errors
    /// What is wrong in it, and where.
    pub fn parse(text: &str) -> Result<Self, String> {
        let mut book: Self = toml::from_str(text).map_err(|error| error.to_string())?;
        for licence in &mut book.licences {
            for (what, texts) in [("device", &mut licence.active), ("device", &mut licence.ever)] {
                texts.iter_mut().filter(|text| !is_identifier(text)).for_each(|text| *text = identifier(what, text));
            }
            if !is_identifier(&licence.licence) {
                licence.licence = identifier("key", &licence.licence);
            }
            let more: Vec<String> = licence.active.iter().filter(|device| !licence.ever.contains(device)).cloned().collect();
            licence.ever.extend(more);
        }
        let mut all: Vec<&str> = book.licences.iter().map(|licence| licence.licence.as_str()).collect();
        all.sort_unstable();
        if let Some(pair) = all.windows(2).find(|pair| pair[0] == pair[1]) {
            return Err(format!("the licence {} stands in it twice", pair[0]));
        }
        Ok(book)
    }

    /// The book as it is kept.
    pub fn text(&self) -> String {
        toml::to_string(self).unwrap_or_default()
    }

    /// Answers, and does what is wished where that may be. Second: whether the book is another now.
    pub fn answer(&mut self, licence: &str, device: &str, wish: Wish) -> (Answer, bool) {
        let Some(licence) = self.licences.iter_mut().find(|other| other.licence == licence) else {
            return (Answer { state: State::Unknown, why: "the service does not know this licence".into(), left: None }, false);
        };
        match wish {
            Wish::Release if licence.active.iter().any(|other| other == device) => {
                licence.active.retain(|other| other != device);
                (licence.stands(device), true)
            }
            Wish::Activate if licence.stands(device).state == State::Free => {
                if licence.kind == Kind::Transferable && licence.is_transfer(device) {
                    licence.most -= 1;
                }
                licence.active.push(device.into());
                if !licence.ever.iter().any(|other| other == device) {
                    licence.ever.push(device.into());
                }
                (licence.stands(device), true)
            }
            _ => (licence.stands(device), false),
        }
    }
}

impl Licence {
    /// Whether to be active on a device takes one of its transfers.
    fn is_transfer(&self, device: &str) -> bool {
        self.ever.last().is_some_and(|last| last != device)
    }

    fn stands(&self, device: &str) -> Answer {
        let is = |list: &[String]| list.iter().any(|other| other == device);
        let left = match self.kind {
            Kind::DeviceBound => None,
            Kind::Transferable => Some(self.most),
            Kind::Volume => Some(self.most.saturating_sub(self.active.len() as u32)),
        };
        let (state, why) = match self.kind {
            _ if is(&self.active) => (State::Active, "it is active on this device"),
            Kind::DeviceBound if self.ever.is_empty() || is(&self.ever) => (State::Free, "it is for this device, and not activated yet"),
            Kind::DeviceBound => (State::Refused, "it belongs to another device, for good"),
            Kind::Transferable if self.is_transfer(device) && self.most == 0 => (State::Refused, "its transfers are used up"),
            Kind::Transferable if !self.active.is_empty() => (State::Elsewhere, "it is active on another device: take it off there first"),
            Kind::Transferable => (State::Free, "it may be activated on this device"),
            Kind::Volume if left == Some(0) => (State::Refused, "it is active on as many devices as it may be"),
            Kind::Volume => (State::Free, "it may be activated on this device"),
        };
        Answer { state, why: why.into(), left }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn book() -> Book {
        Book::parse(SAMPLE).unwrap()
    }

    fn state(book: &mut Book, key: &str, device: &str, wish: Wish) -> (State, Option<u32>) {
        let (answer, _) = book.answer(&identifier("key", key), &identifier("device", device), wish);
        (answer.state, answer.left)
    }

    #[test]
    fn what_belongs_to_a_device_stays_there() {
        let (mut book, key) = (book(), "BBBBB-CCCCC-DDDDD-FFFFF-GGGGG");
        assert_eq!(state(&mut book, key, "old", Wish::Look).0, State::Active);
        assert_eq!(state(&mut book, key, "new", Wish::Activate).0, State::Refused);
        assert_eq!(state(&mut book, key, "old", Wish::Release).0, State::Free);
        assert_eq!(state(&mut book, key, "new", Wish::Activate).0, State::Refused);
    }

    #[test]
    fn transfers_are_counted() {
        let (mut book, key) = (book(), "BBBBB-CCCCC-DDDDD-FFFFF-HHHHH");
        assert_eq!(state(&mut book, key, "new", Wish::Activate), (State::Elsewhere, Some(1)));
        assert_eq!(state(&mut book, key, "old", Wish::Release), (State::Free, Some(1)));
        // On the device that it came from it costs none.
        assert_eq!(state(&mut book, key, "old", Wish::Activate), (State::Active, Some(1)));
        assert_eq!(state(&mut book, key, "old", Wish::Release), (State::Free, Some(1)));
        assert_eq!(state(&mut book, key, "new", Wish::Activate), (State::Active, Some(0)));
        assert_eq!(state(&mut book, key, "new", Wish::Release), (State::Free, Some(0)));
        assert_eq!(state(&mut book, key, "third", Wish::Activate), (State::Refused, Some(0)));
    }

    #[test]
    fn a_volume_is_for_so_many() {
        let (mut book, key) = (book(), "BBBBB-CCCCC-DDDDD-FFFFF-JJJJJ");
        assert_eq!(state(&mut book, key, "one", Wish::Activate), (State::Active, Some(0)));
        assert_eq!(state(&mut book, key, "two", Wish::Activate), (State::Refused, Some(0)));
        assert_eq!(state(&mut book, key, "one", Wish::Release), (State::Free, Some(1)));
        assert_eq!(state(&mut book, key, "two", Wish::Look), (State::Free, Some(1)));
        assert_eq!(state(&mut book, "no key", "two", Wish::Activate).0, State::Unknown);
    }

    #[test]
    fn a_book_is_written_as_it_is_read() {
        let mut book = book();
        state(&mut book, "BBBBB-CCCCC-DDDDD-FFFFF-JJJJJ", "one", Wish::Activate);
        assert_eq!(Book::parse(&book.text()).unwrap(), book);
        assert!(!book.text().contains("BBBBB"), "keys are not kept");
    }

    #[rstest]
    #[case("[[licence]]\nlicence = \"a\"\nkind = \"rented\"", "rented")]
    #[case("[[licence]]\nlicence = \"a\"\nkind = \"volume\"\n[[licence]]\nlicence = \"a\"\nkind = \"volume\"", "twice")]
    #[case("[outage]\nevry = 1", "evry")]
    fn a_wrong_book_says_what_is_wrong(#[case] text: &str, #[case] says: &str) {
        let why = Book::parse(text).unwrap_err();
        assert!(why.contains(says), "{why}");
    }
}
