//! `badger licence`: what a system on a drive says of its licence, and what becomes of that.

use crate::{Common, code, commands, machines};
use badger_bench::Bench;
use badger_drive::Refusal;
use badger_inspect::{Line, Looked};
use badger_jobs::activation;
use badger_licences::Wish;
use badger_system::licence::{self, Channel, Licence, masked};
use badger_system::{Machine, firmware_key};
use clap::Args;
use serde_json::{Value, json};
use std::io::Read;
use std::path::{Path, PathBuf};

/// `badger licence`.
#[derive(Args, Clone)]
pub struct LicenceArgs {
    /// A drive, or an image of one
    pub drive: PathBuf,
    /// The machine that it goes into: one that comes along (badger machines), or a file
    #[arg(long, value_name = "MACHINE")]
    pub machine: Option<String>,
    /// The key in the firmware of the machine that this runs on, or in a copy of its table
    #[arg(long, value_name = "FILE", num_args = 0..=1, default_missing_value = firmware_key::HERE)]
    pub firmware: Option<PathBuf>,
    /// Ask the licence service (--licence-service) to activate it on the machine
    #[arg(long, requires = "machine", conflicts_with = "release")]
    pub activate: bool,
    /// Ask it to take it off the machine
    #[arg(long, requires = "machine")]
    pub release: bool,
    /// Show keys whole
    #[arg(long)]
    pub keys: bool,
}

/// The key in a firmware's table; what is wrong with it as text.
fn of_firmware(path: &Path) -> Result<Option<String>, String> {
    let mut table = Vec::new();
    let file = match std::fs::File::open(path) {
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(None),
        file => file.map_err(|error| error.to_string())?,
    };
    file.take(1 << 16).read_to_end(&mut table).map_err(|error| error.to_string())?;
    firmware_key::read(&table)
}

/// What becomes of a licence on a machine, as a document.
fn forecast(licence: &Licence, is_same: bool) -> Value {
    let (what, why, steps) = licence.forecast(is_same);
    json!({ "forecast": what, "why": why, "steps": steps })
}

fn tell_forecast(licence: &Licence, on: &str, is_same: bool) {
    let (what, why, steps) = licence.forecast(is_same);
    tell!("  {on}: {}, {why}", what.word());
    steps.iter().for_each(|step| tell!("    before: {step}"));
}

/// What the licence service says or does, where there is one and a machine.
fn asked(bench: &Bench, args: &LicenceArgs, machine: Option<&Machine>, licence: &Licence) -> Option<Line> {
    let (service, machine) = (bench.config.licence_service.as_ref()?, machine?);
    let wish = match (args.activate, args.release) {
        (true, _) => Wish::Activate,
        (_, true) => Wish::Release,
        _ => Wish::Look,
    };
    Some(activation::line(machine, activation::asked(service, licence, machine, wish)))
}

/// `badger licence`.
pub fn licence(bench: &Bench, args: &LicenceArgs, common: &Common) -> Result<u8, Refusal> {
    let machine: Option<Machine> = args.machine.as_deref().map(machines::find).transpose()?;
    if (args.activate || args.release) && bench.config.licence_service.is_none() {
        return Err(Refusal::new("usage", "no licence service is named: --licence-service, or licence-service in the settings"));
    }
    let drive = bench.workshop.source(&args.drive)?;
    let found = licence::of(&drive, &Looked::at_structures(&drive));
    let firmware = args.firmware.as_ref().map(|path| of_firmware(path));
    let shown = |key: &str| if args.keys { key.to_string() } else { masked(key) };
    // Whether the machine that this runs on is the one that the system was sold with.
    let belongs = |licence: &Licence| match &firmware {
        Some(Ok(Some(key))) if licence.channel == Some(Channel::Firmware) => licence.key(true).map(|own| own == *key),
        _ => None,
    };
    if common.json {
        let system = |(volume, read): &(String, Result<Licence, String>)| match read {
            Err(why) => json!({ "volume": volume, "not_read": why }),
            Ok(licence) => json!({
                "volume": volume, "product": licence.product, "edition": licence.edition, "version": licence.version, "install": licence.install,
                "product_id": licence.product_id, "channel": licence.channel.as_ref().map(Channel::word), "key": licence.key(args.keys),
                "same_machine": forecast(licence, true), "other_machine": forecast(licence, false),
                "machine": machine.as_ref().map(|machine| forecast(licence, machine.same)), "key_is_firmwares": belongs(licence),
                "service": asked(bench, args, machine.as_ref(), licence),
            }),
        };
        let firmware = firmware.as_ref().map(|read| match read {
            Ok(key) => json!({ "key": key.as_deref().map(shown) }),
            Err(why) => json!({ "not_read": why }),
        });
        commands::print_json(&json!({ "systems": found.iter().map(system).collect::<Vec<_>>(), "firmware": firmware }));
        return Ok(code::DONE);
    }
    for (volume, read) in &found {
        let licence = match read {
            Ok(licence) => licence,
            Err(why) => {
                tell!("{volume}: not read: {why}");
                continue;
            }
        };
        tell!("{}  {}  on {volume}", licence.product, licence.version);
        let channel = licence.channel.as_ref().map_or_else(|| "not kept".into(), Channel::word);
        tell!("  edition {}, {}, product id {}, sold: {channel}", licence.edition, licence.install, licence.product_id);
        tell!("  key {}", licence.key(args.keys).unwrap_or_else(|| "not kept".into()));
        match &machine {
            Some(machine) => tell_forecast(licence, &machine.name, machine.same),
            None => {
                tell_forecast(licence, "on the same machine", true);
                tell_forecast(licence, "on another machine", false);
            }
        }
        if let Some(line) = asked(bench, args, machine.as_ref(), licence) {
            tell!("  {}", line.text);
        }
        match belongs(licence) {
            Some(true) => tell!("  its key is the one in this machine's firmware: it belongs to this machine"),
            Some(false) => tell!("  its key is not the one in this machine's firmware: it belongs to another machine"),
            None => {}
        }
    }
    if found.is_empty() {
        tell!("no system with a licence that is known here was found");
    }
    match &firmware {
        None => {}
        Some(Ok(Some(key))) => tell!("this machine's firmware holds a key, {}", shown(key)),
        Some(Ok(None)) => tell!("this machine's firmware holds no key"),
        Some(Err(why)) => tell!("whether this machine's firmware holds a key is not known: {why}"),
    }
    Ok(code::DONE)
}
