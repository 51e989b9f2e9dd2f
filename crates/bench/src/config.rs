//! What a workshop settles once: one TOML file, `docs/guide.md` says where it lies.

use badger_drive::{Refusal, keep, size::Units};
use serde::Deserialize;
use std::io::ErrorKind;
use std::path::{Path, PathBuf};

/// Settings are no longer than this, in bytes.
const MOST: u64 = 1 << 20;

/// The settings. What the file does not name keeps its default; a word it does not know is refused.
#[derive(Clone, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct Config {
    /// Name of the workshop, for the head of the screens and of papers.
    pub workshop: String,
    /// Who works here where an order does not say it.
    pub technician: String,
    /// How sizes are written.
    pub units: Units,
    /// Where files are copied to where nothing else is said.
    pub destination: Option<PathBuf>,
    /// Certificates (PEM) by which benches that lend enciphered drives are known.
    pub trusted: Option<PathBuf>,
    /// The licence service that a proof asks, as `http://HOST:PORT`.
    #[serde(rename = "licence-service")]
    pub licence_service: Option<String>,
    /// What the terminal's ground is.
    pub theme: Theme,
}

/// The ground that the screens are made for.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Theme {
    /// Light letters on a dark ground.
    #[default]
    Dark,
    /// Dark letters on a light ground.
    Light,
}

impl Config {
    /// Where the file is looked for where none is named: below `XDG_CONFIG_HOME`, or `.config` of the home directory.
    pub fn usual_path() -> Option<PathBuf> {
        let named = std::env::var_os("XDG_CONFIG_HOME").map(PathBuf::from).filter(|dir| dir.is_absolute());
        let home = || Some(PathBuf::from(std::env::var_os("HOME")?).join(".config"));
        Some(named.or_else(home)?.join("zealous-badger/config.toml"))
    }

    /// Reads a file.
    ///
    /// # Errors
    /// `config`: it cannot be read, is no plain file, is longer than 1 MiB, is no TOML, or names something that there is not; the text says where.
    pub fn read(path: &Path) -> Result<Self, Refusal> {
        let text = keep::text(path, MOST).map_err(|error| Refusal::new("config", format!("{}: {error}", path.display())))?;
        let config: Self =
            toml::from_str(&text).map_err(|error| Refusal::new("config", format!("{}: {}", path.display(), error.to_string().trim_end())))?;
        match &config.destination {
            Some(to) if !to.is_absolute() => {
                Err(Refusal::new("config", format!("{}: destination has to be a path from the root, such as /srv/bench", path.display())))
            }
            _ => Ok(config),
        }
    }

    /// The settings of a named file, or of the usual one; a usual one that is not there leaves everything as it is.
    ///
    /// # Errors
    /// See [`Config::read`].
    pub fn find(named: Option<&Path>) -> Result<Self, Refusal> {
        match (named, Self::usual_path()) {
            (Some(path), _) => Self::read(path),
            (None, Some(path)) if !matches!(path.symlink_metadata(), Err(error) if error.kind() == ErrorKind::NotFound) => Self::read(&path),
            _ => Ok(Self::default()),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn read(text: &str) -> Result<Config, Refusal> {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("config.toml");
        std::fs::write(&path, text).unwrap();
        Config::read(&path)
    }

    #[test]
    fn all_of_it_is_read() {
        let text = "workshop = \"Lantern Row Repairs\"\ntechnician = \"Ines\"\nunits = \"binary\"\ndestination = \"/srv/bench\"\ntrusted = \"/srv/lenders.pem\"\nlicence-service = \"http://bench:8380\"\ntheme = \"light\"\n";
        let whole = Config {
            workshop: "Lantern Row Repairs".into(),
            technician: "Ines".into(),
            units: Units::Binary,
            destination: Some("/srv/bench".into()),
            trusted: Some("/srv/lenders.pem".into()),
            licence_service: Some("http://bench:8380".into()),
            theme: Theme::Light,
        };
        assert_eq!(read(text).unwrap(), whole);
        assert_eq!(read("").unwrap(), Config::default());
    }

    #[rstest]
    #[case("technicain = \"Ines\"", "technicain")]
    #[case("units = \"dozens\"", "dozens")]
    #[case("theme = 7", "line 1")]
    #[case("destination = \"bench\"", "from the root")]
    fn what_it_does_not_know_is_named(#[case] text: &str, #[case] named: &str) {
        let refusal = read(text).unwrap_err();
        assert_eq!(refusal.code, "config");
        assert!(refusal.text.contains(named), "{}", refusal.text);
    }

    #[test]
    fn a_named_file_has_to_be_there() {
        assert_eq!(Config::find(Some(Path::new("/nowhere/config.toml"))).unwrap_err().code, "config");
    }
}
