//! What drives answer about their health, built from the published layouts, and what is made of it.

use badger_drive::Bus;
use badger_drive::health::{Ask, Facts, Health, State, ask};
use proptest::prelude::*;
use rstest::rstest;
use std::collections::HashMap;
use std::io;

/// A drive that answers what it was given, and nothing else.
#[derive(Clone, Default)]
struct Recorded {
    smart: Option<[u8; 512]>,
    thresholds: Option<[u8; 512]>,
    sound: Option<bool>,
    statistics: HashMap<u8, [u8; 512]>,
    nvme: Option<[u8; 512]>,
    scsi: HashMap<u8, Vec<u8>>,
}

fn given<T>(answer: Option<T>) -> io::Result<T> {
    answer.ok_or_else(|| io::Error::other("not passed on"))
}

impl Ask for Recorded {
    fn smart(&self) -> io::Result<[u8; 512]> {
        given(self.smart)
    }
    fn thresholds(&self) -> io::Result<[u8; 512]> {
        given(self.thresholds)
    }
    fn calls_itself_sound(&self) -> io::Result<bool> {
        given(self.sound)
    }
    fn statistics(&self, page: u8) -> io::Result<[u8; 512]> {
        given(self.statistics.get(&page).copied())
    }
    fn nvme_log(&self, page: u8) -> io::Result<[u8; 512]> {
        given(self.nvme.filter(|_| page == 2))
    }
    fn scsi_log(&self, page: u8) -> io::Result<Vec<u8>> {
        given(self.scsi.get(&page).cloned())
    }
}

/// SMART READ DATA with attributes: number, flags, value, raw.
fn smart(attributes: &[(u8, u16, u8, u64)]) -> [u8; 512] {
    let mut data = [0u8; 512];
    data[0] = 16;
    for (entry, (id, flags, value, raw)) in data[2..362].chunks_exact_mut(12).zip(attributes) {
        entry[0] = *id;
        entry[1..3].copy_from_slice(&flags.to_le_bytes());
        (entry[3], entry[4]) = (*value, *value);
        entry[5..11].copy_from_slice(&raw.to_le_bytes()[..6]);
    }
    data[511] = data.iter().fold(0u8, |sum, byte| sum.wrapping_sub(*byte));
    data
}

fn thresholds(limits: &[(u8, u8)]) -> [u8; 512] {
    let mut data = [0u8; 512];
    for (entry, (id, limit)) in data[2..362].chunks_exact_mut(12).zip(limits) {
        (entry[0], entry[1]) = (*id, *limit);
    }
    data[511] = data.iter().fold(0u8, |sum, byte| sum.wrapping_sub(*byte));
    data
}

fn torn(mut data: [u8; 512]) -> [u8; 512] {
    data[400] ^= 1;
    data
}

/// A page of the device statistics: place to value, supported and good.
fn page(number: u8, values: &[(usize, u64)]) -> (u8, [u8; 512]) {
    let mut data = [0u8; 512];
    (data[0], data[2]) = (1, number);
    for (at, value) in values {
        data[*at..*at + 8].copy_from_slice(&(value | 0xc0 << 56).to_le_bytes());
    }
    (number, data)
}

/// The pages of a drive, and the one that lists them.
fn statistics(pages: &[(u8, [u8; 512])]) -> HashMap<u8, [u8; 512]> {
    let (_, mut list) = page(0, &[]);
    list[8] = pages.len() as u8 + 1;
    for (at, (number, _)) in (10..).zip(pages) {
        list[at] = *number;
    }
    pages.iter().copied().chain([(0, list)]).collect()
}

fn nvme(change: impl FnOnce(&mut [u8; 512])) -> [u8; 512] {
    let mut log = [0u8; 512];
    log[1..3].copy_from_slice(&311u16.to_le_bytes());
    (log[3], log[4], log[5]) = (100, 10, 7);
    log[48..56].copy_from_slice(&2_000_000u64.to_le_bytes());
    log[112..120].copy_from_slice(&88u64.to_le_bytes());
    log[128..136].copy_from_slice(&4321u64.to_le_bytes());
    change(&mut log);
    log
}

fn sata(attributes: &[(u8, u16, u8, u64)]) -> Recorded {
    Recorded { smart: Some(smart(attributes)), sound: Some(true), ..Recorded::default() }
}

const AGED: [(u8, u16, u8, u64); 6] = [
    (5, 0x33, 99, 3),
    (9, 0x32, 88, 0x1_0000_2bc4),
    (12, 0x32, 99, 2117),
    (194, 0x22, 66, 0x0028_0010_0022),
    (197, 0x32, 100, 0),
    (199, 0x3e, 200, 41),
];

#[rstest]
#[case::aged(sata(&AGED), State::Good, "3 sectors replaced · 11,204 h on")]
#[case::cannot_be_read(sata(&[(5, 0x33, 9, 96), (197, 0x32, 1, 688)]), State::Failing, "fails: 688 sectors cannot be read · 96 sectors replaced")]
#[case::replaced(sata(&[(5, 0x33, 90, 18)]), State::Worn, "worn: 18 sectors replaced")]
#[case::says_so(Recorded { sound: Some(false), ..sata(&AGED) }, State::Failing, "fails: it says itself that it fails · 3 sectors replaced · 11,204 h on")]
#[case::fell_to_its_limit(
    Recorded { thresholds: Some(thresholds(&[(5, 99)])), ..sata(&AGED) },
    State::Failing,
    "fails: its value 5 has fallen to 99, as low as its maker allows · 3 sectors replaced · 11,204 h on"
)]
#[case::limits_that_are_torn(Recorded { thresholds: Some(torn(thresholds(&[(5, 99)]))), ..sata(&AGED) }, State::Good, "3 sectors replaced · 11,204 h on")]
#[case::above_its_limit(Recorded { thresholds: Some(thresholds(&[(5, 36), (9, 255)])), ..sata(&AGED) }, State::Good, "3 sectors replaced · 11,204 h on")]
#[case::statistics_count_more(
    Recorded { statistics: statistics(&[page(1, &[(16, 12_000)]), page(7, &[(8, 29)])]), ..sata(&AGED) },
    State::Good,
    "3 sectors replaced · 71 % of its writes left · 12,000 h on"
)]
#[case::statistics_of_another_page(Recorded { statistics: statistics(&[(7, page(1, &[(8, 99)]).1)]), ..sata(&AGED) }, State::Good, "3 sectors replaced · 11,204 h on")]
#[case::not_listed(Recorded { statistics: [page(7, &[(8, 104)])].into(), ..sata(&AGED) }, State::Good, "3 sectors replaced · 11,204 h on")]
#[case::used_up(Recorded { statistics: statistics(&[page(7, &[(8, 104)])]), ..sata(&AGED) }, State::Worn, "worn: 3 sectors replaced · 0 % of its writes left · 11,204 h on")]
#[case::hours_say_nothing(sata(&[(9, 0x32, 88, 7)]), State::Unknown, "unknown: it says no more than 7 h on")]
#[case::no_attribute_at_all(sata(&[]), State::Unknown, "unknown: it answers, but says nothing")]
#[case::not_passed_on(Recorded::default(), State::Unknown, "unknown: it cannot be asked: not passed on")]
fn of_sata(#[case] drive: Recorded, #[case] state: State, #[case] text: &str) {
    let health = ask(&drive, Bus::Sata);
    assert_eq!((health.state, health.text.as_str()), (state, text), "{health:?}");
}

#[test]
fn what_is_torn_is_not_taken_for_an_answer() {
    let health = ask(&Recorded { smart: Some(torn(smart(&AGED))), ..Recorded::default() }, Bus::UsbSata);
    assert_eq!((health.state, health.text.as_str()), (State::Unknown, "unknown: what it answers is no health data"));
}

#[rstest]
#[case::good(nvme(|_| ()), State::Good, "93 % of its writes left · 4,321 h on")]
#[case::cells(nvme(|log| log[0] = 1), State::Failing, "fails: its spare cells run out · 93 % of its writes left · 4,321 h on")]
#[case::two(
    nvme(|log| log[0] = 0b1100),
    State::Failing,
    "fails: it says that it is not reliable any more · it takes no more writes · 93 % of its writes left · 4,321 h on"
)]
#[case::media(nvme(|log| log[160] = 3), State::Worn, "worn: 3 reads failed · 93 % of its writes left · 4,321 h on")]
#[case::hot(nvme(|log| log[1..3].copy_from_slice(&350u16.to_le_bytes())), State::Good, "93 % of its writes left · 4,321 h on · hot, 77 °C")]
#[case::empty([0; 512], State::Unknown, "unknown: its health log is empty")]
fn of_nvme(#[case] log: [u8; 512], #[case] state: State, #[case] text: &str) {
    let health = ask(&Recorded { nvme: Some(log), ..Recorded::default() }, Bus::Nvme);
    assert_eq!((health.state, health.text.as_str()), (state, text), "{health:?}");
    assert!(health.facts.lines().iter().any(|(name, value)| (*name, value.as_str()) == ("written to it", "1.02 TB")) || state == State::Unknown);
}

fn log(page: u8, parameters: &[(u16, &[u8])]) -> (u8, Vec<u8>) {
    let mut body = Vec::new();
    for (number, value) in parameters {
        body.extend(number.to_be_bytes());
        body.extend([0x03, value.len() as u8]);
        body.extend(*value);
    }
    (page, [&[page, 0][..], &(body.len() as u16).to_be_bytes(), &body].concat())
}

#[test]
fn a_box_that_passes_no_ata_on_is_asked_as_a_scsi_drive() {
    let pages = [log(0x0d, &[(0, &[0, 39]), (1, &[0, 65])]), log(0x11, &[(1, &[0, 0, 0, 12])]), log(0x2f, &[(0, &[0, 0, 39])])];
    let drive = Recorded { scsi: pages.into(), ..Recorded::default() };
    let health = ask(&drive, Bus::Usb);
    assert_eq!((health.state, health.text.as_str(), health.facts.celsius), (State::Good, "88 % of its writes left", Some(39)));
    let pages = [log(0x2f, &[(0, &[0x5d, 0x10, 39])])];
    let health = ask(&Recorded { scsi: pages.into(), ..drive }, Bus::Scsi);
    assert_eq!((health.state, health.text.as_str()), (State::Failing, "fails: it says itself that it fails soon"));
    assert_eq!(ask(&Recorded::default(), Bus::UsbNvme).text, "unknown: the box passes no question about it on to the drive");
}

#[rstest]
#[case(Bus::File)]
#[case(Bus::Loop)]
#[case(Bus::Virtio)]
fn what_is_no_drive_is_not_asked(#[case] bus: Bus) {
    assert_eq!(ask(&sata(&AGED), bus).state, State::Unknown);
}

#[test]
fn what_grew_is_said_and_what_is_not_known_did_not_grow() {
    let before = Facts { replaced: Some(3), waiting: None, cable_errors: Some(41), ..Facts::default() };
    let now = Facts { replaced: Some(18), waiting: Some(8), cable_errors: Some(42), ..Facts::default() };
    assert_eq!(now.grown_since(&before), "15 more replaced · 1 error more on the cable");
    assert_eq!(before.grown_since(&now), "");
}

proptest! {
    /// Whatever a drive or a box answers, it is read to its end without harm, and nothing good is made of it.
    #[test]
    fn no_answer_does_harm(bytes in proptest::collection::vec(any::<u8>(), 512), scsi in proptest::collection::vec(any::<u8>(), 0..512), number in 0u8..64) {
        let mut data: [u8; 512] = bytes.try_into().unwrap();
        let all = |data: [u8; 512]| Recorded {
            smart: Some(data),
            thresholds: Some(data),
            statistics: (0..8).map(|page| { let mut data = data; (data[2], data[8]) = (page, 255); (page, data) }).collect(),
            nvme: Some(data),
            scsi: [(number, scsi.clone()), (0x0d, scsi.clone()), (0x2f, scsi.clone())].into(),
            sound: None,
        };
        let mut texts: Vec<Health> = [Bus::Sata, Bus::Nvme, Bus::Usb].iter().map(|bus| ask(&all(data), *bus)).collect();
        data[511] = 0;
        data[511] = data.iter().fold(0u8, |sum, byte| sum.wrapping_sub(*byte));
        texts.push(ask(&all(data), Bus::Sata));
        for health in texts {
            prop_assert!(!health.text.is_empty() && (health.state == State::Unknown) == health.text.starts_with("unknown"), "{:?}", health);
        }
    }
}
