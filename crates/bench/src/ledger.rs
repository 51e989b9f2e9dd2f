//! The workshop's database of drives, jobs, runs and events. Described in `docs/formats/ledger.md`.
//!
//! SQLite in write-ahead mode: it survives a kill at any moment, and two programs may use it at once.

use badger_drive::discover::Found;
use badger_drive::health::Facts;
use badger_drive::{Geometry, Identity};
use badger_transfer::Report;
use rusqlite::{Connection, OpenFlags, OptionalExtension, Row, params};
use std::os::unix::fs::{FileExt, MetadataExt};
use std::path::{Path, PathBuf};
use std::time::Duration;

/// What can go wrong with the ledger.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    /// SQLite's own words.
    #[error("the ledger {path}: {error}")]
    Sqlite {
        /// The file.
        path: PathBuf,
        /// What SQLite said.
        error: rusqlite::Error,
    },
    /// The file is no ledger.
    #[error("{path} is there already and is no ledger of this program: nothing was written to it; name another file with --ledger")]
    NotOurs {
        /// The file.
        path: PathBuf,
    },
    /// The database contradicts itself.
    #[error("the ledger {path} is damaged: {what}; keep a copy of it, and name another one with --ledger")]
    Damaged {
        /// The file.
        path: PathBuf,
        /// The first thing that SQLite's own check names.
        what: String,
    },
    /// Written by a later version of this program.
    #[error("the ledger {path} has schema {found}, this program knows up to {known}: use the later version of the program")]
    Newer {
        /// The file.
        path: PathBuf,
        /// Schema found.
        found: i64,
        /// Highest schema known.
        known: i64,
    },
}

/// What tells a ledger from other databases (`PRAGMA application_id`): "ZBLD".
const APPLICATION: i32 = 0x5a42_4c44;

/// Each step brings the schema from its index to the next version. Steps are never changed, only added.
const MIGRATIONS: [&str; 3] = [
    "
    CREATE TABLE setting (name TEXT PRIMARY KEY, value TEXT NOT NULL) STRICT;
    CREATE TABLE drive (
        key TEXT PRIMARY KEY, model TEXT NOT NULL, serial TEXT NOT NULL, firmware TEXT NOT NULL, bus TEXT NOT NULL,
        size_bytes INTEGER NOT NULL, logical_sector INTEGER NOT NULL, first_seen INTEGER NOT NULL, last_seen INTEGER NOT NULL) STRICT;
    CREATE TABLE job (
        id INTEGER PRIMARY KEY AUTOINCREMENT, ticket TEXT NOT NULL, customer TEXT NOT NULL, technician TEXT NOT NULL,
        created INTEGER NOT NULL, source_key TEXT NOT NULL, target_key TEXT NOT NULL, keep_until INTEGER, handed_over INTEGER) STRICT;
    CREATE INDEX job_by_source ON job (source_key);
    CREATE INDEX job_by_target ON job (target_key);
    CREATE TABLE run (
        id INTEGER PRIMARY KEY AUTOINCREMENT, job INTEGER NOT NULL REFERENCES job (id), started INTEGER NOT NULL, ended INTEGER,
        outcome TEXT, report TEXT, sheet TEXT) STRICT;
    CREATE INDEX run_by_job ON run (job);
    CREATE TABLE event (
        id INTEGER PRIMARY KEY AUTOINCREMENT, run INTEGER NOT NULL REFERENCES run (id), at INTEGER NOT NULL, text TEXT NOT NULL) STRICT;
    CREATE INDEX event_by_run ON event (run);
    CREATE TABLE proof (
        run INTEGER NOT NULL REFERENCES run (id), line INTEGER NOT NULL, what TEXT NOT NULL, result TEXT NOT NULL, text TEXT NOT NULL,
        PRIMARY KEY (run, line)) STRICT;
",
    "
    CREATE TABLE health (drive TEXT NOT NULL, at INTEGER NOT NULL, facts TEXT NOT NULL, PRIMARY KEY (drive, at)) STRICT;
",
    "
    ALTER TABLE job ADD COLUMN uid TEXT NOT NULL DEFAULT '';
    UPDATE job SET uid = lower(hex(randomblob(16)));
    CREATE UNIQUE INDEX job_by_uid ON job (uid);
",
];

/// A drive the workshop has seen.
#[derive(Clone, Debug, PartialEq, Eq, serde::Serialize)]
pub struct DriveRow {
    /// Stable key.
    pub key: String,
    /// Model.
    pub model: String,
    /// Serial.
    pub serial: String,
    /// Bytes.
    pub size_bytes: u64,
    /// Seconds since 1970.
    pub first_seen: i64,
    /// Seconds since 1970.
    pub last_seen: i64,
}

/// A job with the outcome of its last run. Times are seconds since 1970.
#[derive(Clone, Debug, PartialEq, Eq, serde::Serialize)]
pub struct JobRow {
    /// Number.
    pub id: i64,
    /// The customer's ticket; may be empty.
    pub ticket: String,
    /// Customer; may be empty.
    pub customer: String,
    /// Who did it.
    pub technician: String,
    /// When it was begun.
    pub created: i64,
    /// Key of the source.
    pub source_key: String,
    /// Key of the target.
    pub target_key: String,
    /// Until when the old drive is kept.
    pub keep_until: Option<i64>,
    /// When it was handed over.
    pub handed_over: Option<i64>,
    /// Start of the last run.
    pub started: Option<i64>,
    /// End of the last run; `None` while it goes on or after a kill.
    pub ended: Option<i64>,
    /// Outcome of the last run.
    pub outcome: Option<String>,
    /// Names the job in every ledger, journal and map: 32 hexadecimal digits.
    pub uid: String,
}

/// Who ordered a job, and between which drives it goes.
#[derive(Clone, Copy, Debug)]
pub struct NewJob<'a> {
    /// The customer's ticket; may be empty.
    pub ticket: &'a str,
    /// Customer; may be empty.
    pub customer: &'a str,
    /// Who does it; may be empty.
    pub technician: &'a str,
    /// Key of the source.
    pub source_key: &'a str,
    /// Key of the target.
    pub target_key: &'a str,
}

/// The open ledger.
pub struct Ledger {
    db: Connection,
    path: PathBuf,
}

/// The directory of journals that belongs to the ledger at `path`, whether it is open or not.
pub fn journals_beside(path: &Path) -> PathBuf {
    let mut name = path.file_stem().unwrap_or_default().to_os_string();
    name.push("-journals");
    path.with_file_name(name)
}

/// Seconds since 1970, now.
pub fn now() -> i64 {
    jiff::Timestamp::now().as_second()
}

/// A moment as the workshop writes it, local time: `2026-11-25 14:22`.
pub fn written(seconds: i64) -> String {
    local(seconds, "%Y-%m-%d %H:%M")
}

/// A day as the workshop writes it: `2026-11-25`.
pub fn day(seconds: i64) -> String {
    local(seconds, "%Y-%m-%d")
}

/// A moment in local time by a strftime pattern.
pub fn local(seconds: i64, pattern: &str) -> String {
    let moment = jiff::Timestamp::from_second(seconds).unwrap_or_default();
    moment.to_zoned(jiff::tz::TimeZone::system()).strftime(pattern).to_string()
}

const JOB: &str =
    "SELECT job.id, ticket, customer, technician, created, source_key, target_key, keep_until, handed_over, run.started, run.ended, run.outcome, uid
    FROM job LEFT JOIN run ON run.id = (SELECT max(id) FROM run WHERE run.job = job.id)";

fn job_row(row: &Row) -> rusqlite::Result<JobRow> {
    Ok(JobRow {
        id: row.get(0)?,
        ticket: row.get(1)?,
        customer: row.get(2)?,
        technician: row.get(3)?,
        created: row.get(4)?,
        source_key: row.get(5)?,
        target_key: row.get(6)?,
        keep_until: row.get(7)?,
        handed_over: row.get(8)?,
        started: row.get(9)?,
        ended: row.get(10)?,
        outcome: row.get(11)?,
        uid: row.get(12)?,
    })
}

/// So long another program is waited for.
const BUSY: Duration = Duration::from_secs(10);

impl Ledger {
    /// Opens a ledger, makes it where there is none, and brings an older one up to date.
    ///
    /// # Errors
    /// See [`Error`].
    pub fn open(path: &Path) -> Result<Self, Error> {
        if let Some(dir) = path.parent() {
            // Whatever is wrong with the directory shows in the next step with its name.
            let _ = std::fs::create_dir_all(dir);
        }
        refuse_strangers(path)?;
        let wrap = |error| Error::Sqlite { path: path.to_path_buf(), error };
        let mut db = Connection::open(path).map_err(wrap)?;
        db.busy_timeout(BUSY).map_err(wrap)?;
        // SQLite does not wait for this step where several programs make the same ledger at once.
        let began = std::time::Instant::now();
        while let Err(error) = db.pragma_update(None, "journal_mode", "WAL") {
            if error.sqlite_error_code() != Some(rusqlite::ErrorCode::DatabaseBusy) || began.elapsed() > BUSY {
                return Err(wrap(error));
            }
            std::thread::sleep(Duration::from_millis(20));
        }
        // A job that begins or ends must survive a loss of power: its drives change from then on.
        db.pragma_update(None, "synchronous", "FULL").map_err(wrap)?;
        db.pragma_update(None, "foreign_keys", true).map_err(wrap)?;
        let change = db.transaction_with_behavior(rusqlite::TransactionBehavior::Immediate).map_err(wrap)?;
        let version: i64 = change.pragma_query_value(None, "user_version", |row| row.get(0)).map_err(wrap)?;
        let known = MIGRATIONS.len() as i64;
        if version > known {
            return Err(Error::Newer { path: path.to_path_buf(), found: version, known });
        }
        for step in MIGRATIONS.iter().skip(version as usize) {
            change.execute_batch(step).map_err(wrap)?;
        }
        change.pragma_update(None, "application_id", APPLICATION).map_err(wrap)?;
        change.pragma_update(None, "user_version", known).map_err(wrap)?;
        change.commit().map_err(wrap)?;
        Ok(Self { db, path: path.to_path_buf() })
    }

    /// Opens a ledger without being able to write to it; `None` where there is none, or one of another version that has to
    /// be opened for writing first.
    ///
    /// # Errors
    /// See [`Error`].
    pub fn read(path: &Path) -> Result<Option<Self>, Error> {
        if !path.exists() {
            return Ok(None);
        }
        let wrap = |error| Error::Sqlite { path: path.to_path_buf(), error };
        let db = Connection::open_with_flags(path, OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_NO_MUTEX).map_err(wrap)?;
        db.busy_timeout(BUSY).map_err(wrap)?;
        let version: i64 = match db.pragma_query_value(None, "user_version", |row| row.get(0)) {
            // Its making was killed in the middle. Any other ledger that only a writer can recover holds something: that is an error.
            Err(error) if is_unmade(&error, path) => return Ok(None),
            version => version.map_err(wrap)?,
        };
        Ok((version == MIGRATIONS.len() as i64).then(|| Self { db, path: path.to_path_buf() }))
    }

    /// The file.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Where the journals of unfinished runs are.
    pub fn journals(&self) -> PathBuf {
        journals_beside(&self.path)
    }

    fn wrap<T>(&self, result: rusqlite::Result<T>) -> Result<T, Error> {
        result.map_err(|error| Error::Sqlite { path: self.path.clone(), error })
    }

    /// A setting of the workshop, such as its name.
    ///
    /// # Errors
    /// See [`Error`].
    pub fn setting(&self, name: &str) -> Result<Option<String>, Error> {
        self.wrap(self.db.query_row("SELECT value FROM setting WHERE name = ?1", [name], |row| row.get(0)).optional())
    }

    /// Changes a setting.
    ///
    /// # Errors
    /// See [`Error`].
    pub fn set(&self, name: &str, value: &str) -> Result<(), Error> {
        self.wrap(self.db.execute("INSERT INTO setting VALUES (?1, ?2) ON CONFLICT (name) DO UPDATE SET value = ?2", [name, value]))?;
        Ok(())
    }

    /// Notes that a drive was seen now. True where it was never seen before.
    ///
    /// # Errors
    /// See [`Error`].
    pub fn seen(&self, identity: &Identity, geometry: Geometry) -> Result<bool, Error> {
        let key = identity.key(geometry.size_bytes);
        let new = self.drive(&key)?.is_none();
        self.wrap(self.db.execute(
            "INSERT INTO drive VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?8) ON CONFLICT (key) DO UPDATE SET last_seen = ?8",
            params![
                key,
                identity.model,
                identity.serial,
                identity.firmware,
                identity.bus.to_string(),
                geometry.size_bytes as i64,
                geometry.logical_sector,
                now()
            ],
        ))?;
        Ok(new)
    }

    /// Notes a drive that discovery found.
    ///
    /// # Errors
    /// See [`Error`].
    pub fn seen_found(&self, found: &Found) -> Result<bool, Error> {
        self.seen(&found.identity, found.geometry)
    }

    /// Keeps what a drive said of its health at a moment.
    ///
    /// # Errors
    /// See [`Error`].
    pub fn note_health(&self, key: &str, at: i64, facts: &Facts) -> Result<(), Error> {
        let text = serde_json::to_string(facts).unwrap_or_default();
        self.wrap(self.db.execute("INSERT OR REPLACE INTO health VALUES (?1, ?2, ?3)", params![key, at, text]))?;
        Ok(())
    }

    /// The latest that a drive said of its health before a moment, and when.
    ///
    /// # Errors
    /// See [`Error`].
    pub fn health_before(&self, key: &str, before: i64) -> Result<Option<(i64, Facts)>, Error> {
        let sql = "SELECT at, facts FROM health WHERE drive = ?1 AND at < ?2 ORDER BY at DESC LIMIT 1";
        let row = self.wrap(self.db.query_row(sql, params![key, before], |row| Ok((row.get(0)?, row.get::<_, String>(1)?))).optional())?;
        Ok(row.and_then(|(at, text)| Some((at, serde_json::from_str(&text).ok()?))))
    }

    /// What is known of a drive.
    ///
    /// # Errors
    /// See [`Error`].
    pub fn drive(&self, key: &str) -> Result<Option<DriveRow>, Error> {
        let row = self.db.query_row("SELECT key, model, serial, size_bytes, first_seen, last_seen FROM drive WHERE key = ?1", [key], drive_row);
        self.wrap(row.optional())
    }

    /// Every drive ever seen, the latest first.
    ///
    /// # Errors
    /// See [`Error`].
    pub fn drives(&self) -> Result<Vec<DriveRow>, Error> {
        self.wrap(self.rows("SELECT key, model, serial, size_bytes, first_seen, last_seen FROM drive ORDER BY last_seen DESC, key", drive_row))
    }

    fn rows<T>(&self, sql: &str, each: impl FnMut(&Row) -> rusqlite::Result<T>) -> rusqlite::Result<Vec<T>> {
        let mut statement = self.db.prepare_cached(sql)?;
        statement.query_map([], each)?.collect()
    }

    /// Opens a job: its number, and what names it everywhere.
    ///
    /// # Errors
    /// See [`Error`].
    pub fn new_job(&self, job: &NewJob) -> Result<(i64, String), Error> {
        let uid: String = self.wrap(self.db.query_row("SELECT lower(hex(randomblob(16)))", [], |row| row.get(0)))?;
        Ok((self.insert(job, &uid)?, uid))
    }

    fn insert(&self, job: &NewJob, uid: &str) -> Result<i64, Error> {
        let sql = "INSERT INTO job (ticket, customer, technician, created, source_key, target_key, uid) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)";
        let NewJob { ticket, customer, technician, source_key, target_key } = *job;
        self.wrap(self.db.execute(sql, params![ticket, customer, technician, now(), source_key, target_key, uid]))?;
        Ok(self.db.last_insert_rowid())
    }

    /// The job that a journal or a map names, between these drives. A ledger that does not know it, because it is another one or was
    /// lost, takes it in. The number, and the name where that had to change.
    ///
    /// # Errors
    /// See [`Error`].
    pub fn job_named(&self, uid: &str, job: &NewJob) -> Result<(i64, String), Error> {
        let is_name = uid.len() == 32 && uid.bytes().all(|byte| byte.is_ascii_hexdigit());
        let known = self.wrap(self.db.query_row(&format!("{JOB} WHERE uid = ?1"), [uid], job_row).optional())?;
        match known {
            Some(row) if (row.source_key.as_str(), row.target_key.as_str()) == (job.source_key, job.target_key) => Ok((row.id, uid.into())),
            None if is_name => Ok((self.insert(job, uid)?, uid.into())),
            _ => self.new_job(job),
        }
    }

    /// The number here of the job that a journal or a map names.
    ///
    /// # Errors
    /// See [`Error`].
    pub fn number_of(&self, uid: &str) -> Result<Option<i64>, Error> {
        self.wrap(self.db.query_row("SELECT id FROM job WHERE uid = ?1", [uid], |row| row.get(0)).optional())
    }

    /// Whether the database is whole, by SQLite's own check. A run must not begin that cannot be noted.
    ///
    /// # Errors
    /// [`Error::Damaged`], or see [`Error`].
    pub fn check(&self) -> Result<(), Error> {
        let said: Result<String, _> = self.db.query_row("PRAGMA quick_check(1)", [], |row| row.get(0));
        match said {
            Ok(said) if said == "ok" => Ok(()),
            Ok(what) => Err(Error::Damaged { path: self.path.clone(), what }),
            Err(error) => Err(Error::Damaged { path: self.path.clone(), what: error.to_string() }),
        }
    }

    /// All jobs, the latest first.
    ///
    /// # Errors
    /// See [`Error`].
    pub fn jobs(&self) -> Result<Vec<JobRow>, Error> {
        self.wrap(self.rows(&format!("{JOB} ORDER BY job.id DESC"), job_row))
    }

    /// One job.
    ///
    /// # Errors
    /// See [`Error`].
    pub fn job(&self, id: i64) -> Result<Option<JobRow>, Error> {
        self.wrap(self.db.query_row(&format!("{JOB} WHERE job.id = ?1"), [id], job_row).optional())
    }

    /// The latest job a drive took part in.
    ///
    /// # Errors
    /// See [`Error`].
    pub fn last_job_of(&self, key: &str) -> Result<Option<JobRow>, Error> {
        let sql = format!("{JOB} WHERE source_key = ?1 OR target_key = ?1 ORDER BY job.id DESC LIMIT 1");
        self.wrap(self.db.query_row(&sql, [key], job_row).optional())
    }

    /// Opens a run of a job and gives its number.
    ///
    /// # Errors
    /// See [`Error`].
    pub fn begin_run(&self, job: i64) -> Result<i64, Error> {
        self.wrap(self.db.execute("INSERT INTO run (job, started) VALUES (?1, ?2)", params![job, now()]))?;
        Ok(self.db.last_insert_rowid())
    }

    /// Notes something that happened in a run.
    ///
    /// # Errors
    /// See [`Error`].
    pub fn note(&self, run: i64, text: &str) -> Result<(), Error> {
        self.wrap(self.db.execute("INSERT INTO event (run, at, text) VALUES (?1, ?2, ?3)", params![run, now(), text]))?;
        Ok(())
    }

    /// What happened in the runs of a job: when, and what.
    ///
    /// # Errors
    /// See [`Error`].
    pub fn events(&self, job: i64) -> Result<Vec<(i64, String)>, Error> {
        let sql = format!("SELECT at, text FROM event JOIN run ON run.id = event.run WHERE run.job = {job} ORDER BY event.id");
        self.wrap(self.rows(&sql, |row| Ok((row.get(0)?, row.get(1)?))))
    }

    /// Closes a run with its outcome and everything its papers need, in one step.
    ///
    /// # Errors
    /// See [`Error`].
    pub fn end_run(&mut self, run: i64, report: &Report, sheet: &str) -> Result<(), Error> {
        let path = self.path.clone();
        let mut write = || -> rusqlite::Result<()> {
            let change = self.db.transaction()?;
            let json = serde_json::to_string(report).unwrap_or_default();
            change.execute(
                "UPDATE run SET ended = ?2, outcome = ?3, report = ?4, sheet = ?5 WHERE id = ?1",
                params![run, now(), word(report.outcome), json, sheet],
            )?;
            for (line, number) in report.proof.iter().zip(1i64..) {
                change.execute("INSERT INTO proof VALUES (?1, ?2, ?3, ?4, ?5)", params![run, number, line.what, word(line.result), line.text])?;
            }
            change.commit()
        };
        write().map_err(|error| Error::Sqlite { path, error })
    }

    /// Report and sheet data of a job's last finished run.
    ///
    /// # Errors
    /// See [`Error`].
    pub fn last_run(&self, job: i64) -> Result<Option<(Report, String)>, Error> {
        let sql = "SELECT report, sheet FROM run WHERE job = ?1 AND report IS NOT NULL ORDER BY id DESC LIMIT 1";
        let row: Option<(String, String)> = self.wrap(self.db.query_row(sql, [job], |row| Ok((row.get(0)?, row.get(1)?))).optional())?;
        Ok(row.and_then(|(report, sheet)| Some((serde_json::from_str(&report).ok()?, sheet))))
    }

    /// Notes that a job was handed over now, and until when the old drive is kept.
    ///
    /// # Errors
    /// See [`Error`].
    pub fn hand_over(&self, job: i64, keep_until: i64) -> Result<(), Error> {
        self.wrap(self.db.execute("UPDATE job SET handed_over = ?2, keep_until = ?3 WHERE id = ?1", params![job, now(), keep_until]))?;
        Ok(())
    }

    /// Changes ticket and customer of a job.
    ///
    /// # Errors
    /// See [`Error`].
    pub fn rename(&self, job: i64, ticket: &str, customer: &str) -> Result<(), Error> {
        self.wrap(self.db.execute("UPDATE job SET ticket = ?2, customer = ?3 WHERE id = ?1", params![job, ticket, customer]))?;
        Ok(())
    }
}

/// The files that SQLite keeps beside a ledger: write-ahead log, its index, rollback journal.
pub(crate) fn files_beside(path: &Path) -> [PathBuf; 3] {
    ["-wal", "-shm", "-journal"].map(|ending| {
        let mut name = path.as_os_str().to_owned();
        name.push(ending);
        PathBuf::from(name)
    })
}

/// Refuses a file that is there and is no ledger, before SQLite writes anything to it. Links beside it are never followed.
fn refuse_strangers(path: &Path) -> Result<(), Error> {
    let not_ours = || Error::NotOurs { path: path.to_path_buf() };
    for beside in files_beside(path) {
        if std::fs::symlink_metadata(&beside).is_ok_and(|meta| !meta.is_file() || meta.nlink() > 1) {
            return Err(Error::NotOurs { path: beside });
        }
    }
    let Ok(meta) = std::fs::symlink_metadata(path) else { return Ok(()) };
    // A link to a ledger is the workshop's way to share one; a link to nothing would make a file where it leads.
    let Ok(there) = std::fs::metadata(path) else { return Err(not_ours()) };
    if !there.is_file() || there.nlink() > 1 || meta.is_symlink() && there.len() == 0 {
        return Err(not_ours());
    }
    if there.len() == 0 {
        return Ok(());
    }
    let mut head = [0; 100];
    let read = std::fs::File::open(path).and_then(|file| file.read_exact_at(&mut head, 0));
    if read.is_err() || !head.starts_with(b"SQLite format 3\0") {
        return Err(not_ours());
    }
    if head[68..72] == APPLICATION.to_be_bytes() {
        return Ok(());
    }
    // Ledgers of before this mark have the tables, one whose making was killed has none, and one whose mark is not in the file yet has
    // it beside the file.
    let asked = Connection::open_with_flags(path, OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_NO_MUTEX).and_then(|db| {
        db.busy_timeout(BUSY)?;
        let id: i32 = db.pragma_query_value(None, "application_id", |row| row.get(0))?;
        let count = |sql: &str| db.query_row(sql, [], |row| row.get::<_, i64>(0));
        let all = count("SELECT count(*) FROM sqlite_schema")?;
        let ours = count("SELECT count(*) FROM sqlite_schema WHERE type = 'table' AND name IN ('setting', 'drive', 'job', 'run', 'event', 'proof')")?;
        Ok(id == APPLICATION || id == 0 && (all == 0 || ours == 6))
    });
    match asked {
        Err(error) if is_unmade(&error, path) => Ok(()),
        Ok(true) => Ok(()),
        Ok(false) => Err(not_ours()),
        Err(error) => Err(Error::Sqlite { path: path.to_path_buf(), error }),
    }
}

/// Whether reading failed because the program was killed while it made the ledger: a rollback journal waits beside the file, and the file was
/// empty before (SQLite's file format, section 3: bytes 16 to 20 of the journal hold the number of pages of before).
fn is_unmade(error: &rusqlite::Error, path: &Path) -> bool {
    if error.sqlite_error_code() != Some(rusqlite::ErrorCode::ReadOnly) {
        return false;
    }
    let [_, _, journal] = files_beside(path);
    let mut head = [0; 28];
    let read = std::fs::File::open(journal).and_then(|file| file.read_exact_at(&mut head, 0));
    read.is_ok() && head.starts_with(&[0xd9, 0xd5, 0x05, 0xf9, 0x20, 0xa1, 0x63, 0xd7]) && head[16..20] == [0; 4]
}

fn drive_row(row: &Row) -> rusqlite::Result<DriveRow> {
    let size: i64 = row.get(3)?;
    Ok(DriveRow {
        key: row.get(0)?,
        model: row.get(1)?,
        serial: row.get(2)?,
        size_bytes: size as u64,
        first_seen: row.get(4)?,
        last_seen: row.get(5)?,
    })
}

/// The name an enumeration has in JSON.
fn word(value: impl serde::Serialize) -> String {
    serde_json::to_value(value).ok().and_then(|value| value.as_str().map(str::to_string)).unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_later_schema_is_left_alone() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("ledger.db");
        drop(Ledger::open(&path).unwrap());
        let db = Connection::open(&path).unwrap();
        db.pragma_update(None, "user_version", 99).unwrap();
        drop(db);
        assert!(matches!(Ledger::open(&path), Err(Error::Newer { found: 99, .. })));
    }

    #[test]
    fn health_of_an_earlier_visit_is_kept() {
        let dir = tempfile::tempdir().unwrap();
        let ledger = Ledger::open(&dir.path().join("ledger.db")).unwrap();
        let facts = |replaced| Facts { replaced: Some(replaced), warnings: vec!["hot".into()], ..Facts::default() };
        for (at, replaced) in [(100, 3), (200, 5), (300, 9)] {
            ledger.note_health("drive", at, &facts(replaced)).unwrap();
        }
        assert_eq!(ledger.health_before("drive", 300).unwrap(), Some((200, facts(5))));
        assert_eq!((ledger.health_before("drive", 100).unwrap(), ledger.health_before("other", 900).unwrap()), (None, None));
    }

    #[test]
    fn an_older_schema_is_brought_up_to_date() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("ledger.db");
        let db = Connection::open(&path).unwrap();
        db.execute_batch(MIGRATIONS[0]).unwrap();
        db.pragma_update(None, "user_version", 1).unwrap();
        drop(db);
        assert!(Ledger::read(&path).unwrap().is_none(), "it is not changed by who only reads");
        let ledger = Ledger::open(&path).unwrap();
        ledger.note_health("drive", 1, &Facts::default()).unwrap();
    }

    #[test]
    fn two_programs_at_once_do_not_harm_it() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("ledger.db");
        std::thread::scope(|scope| {
            for worker in 0..4 {
                let path = &path;
                scope.spawn(move || {
                    let ledger = Ledger::open(path).unwrap();
                    for turn in 0..25 {
                        let job = ledger
                            .new_job(&NewJob {
                                ticket: &format!("LR-{worker}-{turn}"),
                                customer: "",
                                technician: "Ines",
                                source_key: "a",
                                target_key: "b",
                            })
                            .unwrap()
                            .0;
                        let run = ledger.begin_run(job).unwrap();
                        ledger.note(run, "begun").unwrap();
                    }
                });
            }
        });
        let ledger = Ledger::open(&path).unwrap();
        assert_eq!(ledger.jobs().unwrap().len(), 100);
        let sound: String = ledger.db.query_row("PRAGMA integrity_check", [], |row| row.get(0)).unwrap();
        assert_eq!(sound, "ok");
    }
}
