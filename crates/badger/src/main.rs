//! The command line of Zealous Badger. Every job can be done from here; the screens run the same engine.

/// Prints a line for people: nothing in it steers the terminal. Whoever reads it may have gone away, which is no reason to
/// break off a run; that it could not be written shows at the end.
macro_rules! tell {
    ($($part:tt)*) => {
        $crate::output::print(&format!("{}\n", badger_drive::text::plain_lines(&format!($($part)*))))
    };
}

/// Prints as it is, without a line's end: documents, and what this program itself steers the terminal with.
macro_rules! tell_part {
    ($($part:tt)*) => {
        $crate::output::print(&format!($($part)*))
    };
}

/// Prints a line where troubles go.
macro_rules! complain {
    ($($part:tt)*) => {{
        use std::io::Write as _;
        let _ = writeln!(std::io::stderr(), "{}", badger_drive::text::plain_lines(&format!($($part)*)));
    }};
}

mod changes;
mod commands;
mod demo;
mod document;
mod files;
mod follow;
mod images;
mod lend;
mod licence;
mod licence_service;
mod log;
mod machines;
mod mend;
mod output;
mod papers;
mod rehearse;
mod salvage;
mod waiting;

use badger_bench::{Bench, Config};
use badger_drive::{OwnFile, OwnKind, Refusal, own, size};
use badger_layout::Rules;
use badger_layout::plan::{Ids, Rest};
use badger_people::Collision;
use badger_transfer::Outcome;
use clap::{Args, Parser, Subcommand, ValueEnum};
use std::io::IsTerminal;
use std::path::PathBuf;
use std::process::ExitCode;
use tracing::info;

#[derive(Parser)]
#[command(name = "badger", version = papers::VERSION, about = "The bench of a repair technician: tell drives apart, clone them, prove the result")]
struct Cli {
    #[command(subcommand)]
    command: Option<Command>,
    #[command(flatten)]
    common: Common,
}

/// Options every command takes.
#[derive(Args, Clone)]
pub struct Common {
    /// Print one JSON document at the end and nothing else
    #[arg(long, global = true)]
    pub json: bool,
    /// Print one JSON object a line while it runs
    #[arg(long, global = true)]
    pub events: bool,
    /// The workshop's ledger
    #[arg(long, global = true, value_name = "FILE")]
    pub ledger: Option<PathBuf>,
    /// The workshop's settings, instead of the usual file
    #[arg(long, global = true, value_name = "FILE")]
    pub config: Option<PathBuf>,
    /// A file with the passphrase of locked images, in its first line
    #[arg(long, global = true, value_name = "FILE")]
    pub passphrase_file: Option<PathBuf>,
    /// A licence service that is asked what becomes of a system's licence on the described machine: http://HOST:PORT
    #[arg(long, global = true, value_name = "URL")]
    pub licence_service: Option<String>,
    /// Take files as images of this format, or as raw drives, where names and contents disagree: raw, zbi, qcow2, vhd, vhdx, vmdk, vdi
    #[arg(long = "as", global = true, value_name = "FORMAT")]
    pub as_format: Option<String>,
    /// The destination is on another drive than the source, although the system cannot show what lies below it
    #[arg(long, global = true)]
    pub trust_destination: bool,
    /// Let the log name people's files too
    #[arg(long, global = true)]
    pub log_names: bool,
    /// Say more
    #[arg(short, long, global = true)]
    pub verbose: bool,
}

#[derive(Subcommand)]
enum Command {
    /// Make the sample workshop (once) and open the bench on it
    Demo {
        /// Where the sample workshop is
        #[arg(long, value_name = "DIR")]
        dir: Option<PathBuf>,
        /// Go through the whole example without screens
        #[arg(long)]
        run: bool,
        /// Let the sample drives' time pass so many times faster
        #[arg(long, value_name = "TIMES", default_value_t = 1)]
        hurry: u32,
    },
    /// Drives attached now
    Drives,
    /// Identity, partition table, partitions, file systems, hazards of a drive
    Show {
        /// Block device, raw file or simulated drive
        drive: PathBuf,
    },
    /// Everything that can be proved about a drive without writing
    Check {
        /// Block device, raw file or simulated drive
        drive: PathBuf,
        /// The machine that it goes into: one that comes along (badger machines), or a file
        #[arg(long, value_name = "MACHINE")]
        machine: Option<String>,
    },
    /// What a system says of its licence, and what becomes of that on a machine
    Licence(licence::LicenceArgs),
    /// A simulated licence service, to practise the move of a licence with, until it is stopped
    LicenceService(licence_service::ServiceArgs),
    /// Machines that come along, as descriptions to be edited; one as a file on standard output
    Machines {
        /// Its name
        name: Option<String>,
    },
    /// Clone a drive onto another one and prove it
    Clone(CloneArgs),
    /// Keep a drive in an image that the bench can look into, prove and put back
    Image(ImageArgs),
    /// Make a whole image of a damaged one, with what is damaged taken from elsewhere where its hash proves it
    Repair(RepairArgs),
    /// Put an image back onto a drive and prove it
    Restore(CloneArgs),
    /// Copy a drive that fails: what is most worth first, as gently as it can be, with a map of every place
    Salvage(salvage::SalvageArgs),
    /// Set right what keeps a target from starting, or take that back
    Mend(mend::MendArgs),
    /// Start a drive in a virtual machine without writing to it, and read what comes of it
    Rehearse(rehearse::RehearseArgs),
    /// Compare two drives or images; an image alone with its own hashes
    Verify {
        /// One
        a: PathBuf,
        /// The other
        b: Option<PathBuf>,
        /// The root hash that the paper of an image names: the image must have that one
        #[arg(long, value_name = "HASH", conflicts_with = "b")]
        root: Option<String>,
    },
    /// Files of a drive: ls DRIVE[#PART] [PATH]
    Ls {
        /// Drive, with #NUMBER for one of its partitions
        drive: PathBuf,
        /// Directory or file, from the root of the volume
        #[arg(default_value = "/")]
        path: String,
        /// Everything below it too
        #[arg(short, long)]
        recursive: bool,
    },
    /// Copy files and folders out of a drive: fetch DRIVE[#PART] PATH... --into DIR
    Fetch(FetchArgs),
    /// What is not the same in two drives or images of one drive, file by file
    Changes(changes::ChangesArgs),
    /// Lend drives to other benches over the network, until it is stopped
    Lend(lend::LendArgs),
    /// Jobs in the ledger
    Jobs,
    /// The paper of a job
    Sheet {
        /// Number of the job
        job: i64,
        /// Write it as SVG
        #[arg(long, value_name = "FILE")]
        svg: Option<PathBuf>,
        /// Write it as PDF
        #[arg(long, value_name = "FILE")]
        pdf: Option<PathBuf>,
    },
    /// What a shell needs to complete commands and options, on standard output
    Completions {
        /// The shell
        shell: clap_complete::Shell,
    },
    /// Write the manual's pages into a directory
    Man {
        /// Where to; made where it is not there
        dir: PathBuf,
    },
}

/// What every run is told that goes into the ledger as a job.
#[derive(Args, Clone)]
pub struct JobArgs {
    /// Read no faster than this, a second
    #[arg(long, value_name = "SIZE", value_parser = size::parse)]
    pub rate: Option<u64>,
    /// The customer's ticket
    #[arg(long, default_value = "")]
    pub ticket: String,
    /// The customer
    #[arg(long, default_value = "")]
    pub customer: String,
    /// The technician
    #[arg(long, default_value = "")]
    pub technician: String,
}

/// `badger clone`.
#[derive(Args, Clone)]
pub struct CloneArgs {
    /// Read, never written to
    pub source: PathBuf,
    /// Overwritten
    pub target: PathBuf,
    /// The target's tail: the last four letters or digits of its serial, or of its file name
    #[arg(long, value_name = "TAIL", default_value = "")]
    pub confirm: String,
    /// Make the target file first, with this size
    #[arg(long, value_name = "SIZE", value_parser = size::parse)]
    pub new_size: Option<u64>,
    /// Keep the disk and partition identifiers, or give the target fresh ones
    #[arg(long, value_enum, default_value_t = IdsArg::Keep)]
    pub ids: IdsArg,
    /// Begin anew where an unfinished run could be gone on with
    #[arg(long)]
    pub restart: bool,
    /// Read the source a second time after the proof
    #[arg(long)]
    pub again: bool,
    /// Copy only what is in use; unknown and unsound volumes are copied whole
    #[arg(long)]
    pub used: bool,
    /// What becomes of the rest of the target
    #[arg(long, value_enum, default_value_t = RestArg::Leave, requires = "used")]
    pub rest: RestArg,
    /// Fit the partitions to the target: auto, or rules such as 3=200GiB,4=out (see the guide)
    #[arg(long, value_name = "RULES")]
    pub fit: Option<Rules>,
    /// The machine that the target goes into: one that comes along (badger machines), or a file
    #[arg(long, value_name = "MACHINE")]
    pub machine: Option<String>,
    /// A system that only slept starts afresh on the target: what was open in it is lost there
    #[arg(long)]
    pub afresh: bool,
    /// Every driver for storage that the system has starts with it on the target
    #[arg(long)]
    pub drivers: bool,
    /// What goes into the ledger.
    #[command(flatten)]
    pub job: JobArgs,
}

/// `badger image`.
#[derive(Args, Clone)]
pub struct ImageArgs {
    /// Read, never written to
    pub source: PathBuf,
    /// The image, NAME.zbi; - for standard output
    pub file: PathBuf,
    /// zbi (our own), qcow2, vhd, vhdx, vmdk, vdi or raw; without it the name's ending tells
    #[arg(long, value_name = "FORMAT")]
    pub format: Option<String>,
    /// Give every byte a place of its own: vhd, vhdx, vmdk, vdi
    #[arg(long, conflicts_with = "packed")]
    pub fixed: bool,
    /// Pack it: qcow2, vmdk (our own format always is)
    #[arg(long)]
    pub packed: bool,
    /// For old programs: qcow2 in its version 2, packed by Deflate
    #[arg(long)]
    pub old: bool,
    /// Copy only what is in use; unknown and unsound volumes are copied whole
    #[arg(long)]
    pub used: bool,
    /// Go on from an earlier image of the same drive: only what changed is stored
    #[arg(long, value_name = "IMAGE")]
    pub parent: Option<PathBuf>,
    /// Cut it into volumes of this size; a raw drive into pieces, NAME.001 and so on
    #[arg(long, value_name = "SIZE", value_parser = size::parse)]
    pub split: Option<u64>,
    /// Lock it with the passphrase of --passphrase-file
    #[arg(long, requires = "passphrase_file")]
    pub lock: bool,
    /// Level of packing, 1 to 19; without it as high as the drive leaves time for
    #[arg(long, value_parser = clap::value_parser!(i32).range(1..=19))]
    pub level: Option<i32>,
    /// Begin anew where an unfinished image could be gone on with
    #[arg(long)]
    pub restart: bool,
    /// What goes into the ledger.
    #[command(flatten)]
    pub job: JobArgs,
}

/// `badger repair`.
#[derive(Args, Clone)]
pub struct RepairArgs {
    /// The damaged image; it is only read
    pub image: PathBuf,
    /// The new one, NAME.zbi
    pub file: PathBuf,
    /// The drive, another image of it, a clone: may be given several times
    #[arg(long, value_name = "DRIVE")]
    pub from: Vec<PathBuf>,
    /// Lock the new one with the passphrase of --passphrase-file
    #[arg(long, requires = "passphrase_file")]
    pub lock: bool,
}

/// `badger fetch`.
#[derive(Args, Clone)]
pub struct FetchArgs {
    /// Drive, with #NUMBER for one of its partitions
    pub drive: PathBuf,
    /// Files and folders, from the root of the volume
    #[arg(required = true, value_name = "PATH")]
    pub paths: Vec<String>,
    /// Where to, made where it is not there; without it the settings' destination
    #[arg(long, value_name = "DIR")]
    pub into: Option<PathBuf>,
    /// What happens where something is there already
    #[arg(long, value_enum, default_value_t = CollisionArg::Skip)]
    pub collision: CollisionArg,
    /// Read no faster than this, a second
    #[arg(long, value_name = "SIZE", value_parser = size::parse)]
    pub rate: Option<u64>,
}

/// `--collision`.
#[derive(Clone, Copy, ValueEnum)]
pub enum CollisionArg {
    /// What is there stays.
    Skip,
    /// The new one gets a number.
    KeepBoth,
    /// The new one takes the place of an older one.
    ReplaceIfNewer,
    /// Ask each time.
    Ask,
}

impl From<CollisionArg> for Collision {
    fn from(arg: CollisionArg) -> Self {
        match arg {
            CollisionArg::Skip => Self::Skip,
            CollisionArg::KeepBoth => Self::KeepBoth,
            CollisionArg::ReplaceIfNewer => Self::ReplaceIfNewer,
            CollisionArg::Ask => Self::Ask,
        }
    }
}

/// `--ids`.
#[derive(Clone, Copy, ValueEnum)]
pub enum IdsArg {
    /// The source's.
    Keep,
    /// New ones.
    Fresh,
}

impl From<IdsArg> for Ids {
    fn from(arg: IdsArg) -> Self {
        match arg {
            IdsArg::Keep => Self::Keep,
            IdsArg::Fresh => Self::Fresh,
        }
    }
}

/// `--rest`.
#[derive(Clone, Copy, ValueEnum)]
pub enum RestArg {
    /// It keeps what it holds.
    Leave,
    /// The drive is told that it is not wanted.
    Discard,
    /// It becomes zero, and the proof reads it.
    Zero,
}

impl From<RestArg> for Rest {
    fn from(arg: RestArg) -> Self {
        match arg {
            RestArg::Leave => Self::Leave,
            RestArg::Discard => Self::Discard,
            RestArg::Zero => Self::Zero,
        }
    }
}

/// Exit codes that scripts may rely on.
pub mod code {
    /// Done and proved.
    pub const DONE: u8 = 0;
    /// Done, with loss, or not all of it proved.
    pub const LOSS: u8 = 1;
    /// Refused before anything was written.
    pub const REFUSED: u8 = 2;
    /// Broken off; can be resumed.
    pub const BROKEN_OFF: u8 = 3;
    /// Stopped by the user.
    pub const STOPPED: u8 = 130;
}

/// The exit code of an outcome.
pub fn exit_code(outcome: Outcome, stopped: bool) -> u8 {
    match outcome {
        Outcome::Proved => code::DONE,
        Outcome::Finished | Outcome::Incomplete => code::LOSS,
        Outcome::Refused => code::REFUSED,
        Outcome::Interrupted if stopped => code::STOPPED,
        Outcome::Interrupted => code::BROKEN_OFF,
    }
}

/// A directory of this user's, named by the environment or below the home directory.
fn user_dir(variable: &str, usual: &str) -> PathBuf {
    let home = || PathBuf::from(std::env::var_os("HOME").unwrap_or_else(|| "/root".into())).join(usual);
    std::env::var_os(variable).map(PathBuf::from).filter(|dir| dir.is_absolute()).unwrap_or_else(home).join("zealous-badger")
}

/// Where this user's data is kept.
pub fn data_dir() -> PathBuf {
    user_dir("XDG_DATA_HOME", ".local/share")
}

/// Where what happened is kept.
pub fn state_dir() -> PathBuf {
    user_dir("XDG_STATE_HOME", ".local/state")
}

fn main() -> ExitCode {
    let cli = Cli::parse();
    let done = settled(cli.command, &cli.common);
    let code = match done {
        Ok(code) => {
            info!(code, "it ends");
            code
        }
        Err(refusal) => {
            // Its text may name somebody's files.
            let text = if cli.common.log_names { refusal.text.as_str() } else { "" };
            info!(code = refusal.code, text, "refused");
            complain!("refused ({}): {}", refusal.code, refusal.text);
            code::REFUSED
        }
    };
    log::settle();
    ExitCode::from(code)
}

/// Does what is asked for, by the workshop's settings.
fn settled(command: Option<Command>, common: &Common) -> Result<u8, Refusal> {
    let mut workshop = badger_bench::workshop();
    let config = match command {
        // Made of the program alone, also while it is being packed.
        Some(Command::Completions { .. } | Command::Man { .. }) => Config::default(),
        _ => {
            log::begin(common.log_names, workshop.no_log.clone());
            workshop.own = own::outputs();
            workshop.own.push(OwnFile { path: log::path(), kind: OwnKind::Log });
            workshop.own.push(OwnFile { path: std::env::temp_dir(), kind: OwnKind::Temporary });
            let config = Config::find(common.config.as_deref())?;
            let licence_service = common.licence_service.clone().or_else(|| config.licence_service.clone());
            Config { licence_service, ..config }
        }
    };
    size::settle(config.units);
    badger_tui::theme::settle(config.theme);
    let ledger = common.ledger.clone().unwrap_or_else(|| data_dir().join("ledger.db"));
    workshop.trust_destination = common.trust_destination;
    workshop.as_format = common.as_format.as_deref().map(as_format).transpose()?;
    workshop.passphrase = common.passphrase_file.as_deref().map(passphrase).transpose()?;
    workshop.trusted.clone_from(&config.trusted);
    let bench = Bench { workshop, ledger, config };
    let done = match command {
        None => open(bench),
        Some(Command::Completions { shell }) => Ok(papers::completions(shell)),
        Some(Command::Man { dir }) => papers::man(&dir),
        Some(Command::Demo { dir, run, hurry }) => demo::demo(dir, run, hurry, bench, common),
        Some(Command::Drives) => commands::drives(&bench, common),
        Some(Command::Show { drive }) => commands::show(&bench, &drive, common),
        Some(Command::Check { drive, machine }) => commands::check(&bench, &drive, machine.as_deref(), common),
        Some(Command::Licence(args)) => licence::licence(&bench, &args, common),
        Some(Command::Machines { name }) => machines::machines(name.as_deref(), common),
        Some(Command::Clone(args)) => commands::clone(&bench, &args, common),
        Some(Command::Image(args)) => images::image(&bench, &args, common),
        Some(Command::Repair(args)) => images::repair(&bench, &args, common),
        Some(Command::Restore(args)) => images::restore(&bench, &args, common),
        Some(Command::Salvage(args)) => salvage::salvage(&bench, &args, common),
        Some(Command::Mend(args)) => mend::mend(&bench, &args, common),
        Some(Command::Rehearse(args)) => rehearse::rehearse(&bench, &args, common),
        Some(Command::Verify { a, b: Some(b), .. }) => commands::verify(&bench, &a, &b, common),
        Some(Command::Verify { a, b: None, root }) => images::verify(&bench, &a, root.as_deref(), common),
        Some(Command::Ls { drive, path, recursive }) => files::ls(&bench, &drive, &path, recursive, common),
        Some(Command::Fetch(args)) => files::fetch(&bench, &args, common),
        Some(Command::Changes(args)) => changes::compare(&bench, &args, common),
        Some(Command::LicenceService(args)) => licence_service::serve(&args, common),
        Some(Command::Lend(args)) => lend::lend(&bench, &args, common),
        Some(Command::Jobs) => commands::jobs(&bench, common),
        Some(Command::Sheet { job, svg, pdf }) => commands::sheet(&bench, job, svg, pdf),
    };
    done.map(|code| output::settle(code, common))
}

/// A format as `--as` names it.
fn as_format(word: &str) -> Result<String, Refusal> {
    let format = badger_image::Format::of_word(word).filter(|_| word != "001");
    let known = format.map(|format| format.map_or("zbi", badger_image::Format::option).to_string());
    known.ok_or_else(|| Refusal::new("usage", format!("\"{word}\" is no format: raw, zbi, qcow2, vhd, vhdx, vmdk or vdi")))
}

/// The first line of a file.
fn passphrase(path: &std::path::Path) -> Result<String, Refusal> {
    let text = std::fs::read_to_string(path).map_err(|error| Refusal::new("no-passphrase", format!("{}: {error}", path.display())))?;
    let line = text.lines().next().unwrap_or_default().to_string();
    if line.is_empty() {
        return Err(Refusal::new("no-passphrase", format!("{}: its first line is empty", path.display())));
    }
    Ok(line)
}

/// Opens the screens.
pub fn open(bench: Bench) -> Result<u8, Refusal> {
    if !std::io::stdout().is_terminal() || !std::io::stdin().is_terminal() {
        return Err(Refusal::new("no-terminal", "the bench needs a terminal; without one give a command, see badger --help"));
    }
    log::settle();
    badger_tui::open(bench).map_err(|error| Refusal::new("terminal", format!("the terminal: {error}")))?;
    Ok(code::DONE)
}
