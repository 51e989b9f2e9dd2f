//! Where a lent drive is: the URIs of the NBD project's `doc/uri.md`.

use std::path::{Path, PathBuf};

/// The port where none is named, registered for NBD.
pub const PORT: u16 = 10809;

/// How a server is reached.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Way {
    /// Host name or address, and port.
    Tcp(String, u16),
    /// A socket of this machine.
    Unix(PathBuf),
}

/// A drive that is lent somewhere.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Uri {
    /// How its server is reached.
    pub way: Way,
    /// Whether what is said is enciphered.
    pub tls: bool,
    /// Its name there; empty for the server's usual one.
    pub export: String,
}

impl Uri {
    /// `nbd://HOST[:PORT]/EXPORT`, `nbds://` the same enciphered, `nbd+unix:///EXPORT?socket=PATH`; `None` for anything else that
    /// is no such URI at all.
    ///
    /// # Errors
    /// What of it cannot be understood.
    pub fn parse(text: &str) -> Option<Result<Self, String>> {
        let (scheme, rest) = text.split_once("://")?;
        let (tls, unix) = match scheme {
            "nbd" => (false, false),
            "nbds" => (true, false),
            "nbd+unix" => (false, true),
            "nbds+unix" => (true, true),
            _ => return None,
        };
        Some(if unix { Self::unix(rest, tls) } else { Self::tcp(rest, tls) })
    }

    fn tcp(rest: &str, tls: bool) -> Result<Self, String> {
        let (place, export) = rest.split_once('/').unwrap_or((rest, ""));
        let bracketed = place.strip_prefix('[').and_then(|place| place.split_once(']'));
        let (host, port) = match bracketed {
            Some((host, rest)) => (host, rest.strip_prefix(':')),
            None => place.rsplit_once(':').map_or((place, None), |(host, port)| (host, Some(port))),
        };
        if host.is_empty() {
            return Err("it names no host: nbd://HOST[:PORT]/EXPORT".into());
        }
        let number = |port: &str| port.parse().map_err(|_| format!("\"{port}\" is no port"));
        let port = port.map(number).transpose()?.unwrap_or(PORT);
        Ok(Self { way: Way::Tcp(decoded(host)?, port), tls, export: decoded(export)? })
    }

    fn unix(rest: &str, tls: bool) -> Result<Self, String> {
        let (export, query) = rest.split_once('?').unwrap_or((rest, ""));
        let socket = query.split('&').find_map(|part| part.strip_prefix("socket=")).ok_or("it names no socket: nbd+unix:///EXPORT?socket=PATH")?;
        let export = export.split_once('/').map_or("", |(_, export)| export);
        Ok(Self { way: Way::Unix(decoded(socket)?.into()), tls, export: decoded(export)? })
    }

    /// The same in a path, as drives are named.
    pub fn of_path(path: &Path) -> Option<Result<Self, String>> {
        Self::parse(path.to_str()?)
    }
}

/// `%41` is `A`.
fn decoded(text: &str) -> Result<String, String> {
    let (mut out, mut bytes) = (Vec::with_capacity(text.len()), text.bytes());
    while let Some(byte) = bytes.next() {
        if byte == b'%' {
            let digit = |byte: Option<u8>| byte.and_then(|byte| char::from(byte).to_digit(16));
            let (high, low) = (digit(bytes.next()), digit(bytes.next()));
            let (high, low) = high.zip(low).ok_or_else(|| format!("\"{text}\" has a % without two hexadecimal digits"))?;
            out.push((high * 16 + low) as u8);
        } else {
            out.push(byte);
        }
    }
    String::from_utf8(out).map_err(|_| format!("\"{text}\" is not Unicode"))
}

/// A name as it stands in a URI.
pub fn encoded(text: &str) -> String {
    let plain = |byte: &u8| byte.is_ascii_alphanumeric() || b"-._~/".contains(byte);
    text.bytes().map(|byte| if plain(&byte) { char::from(byte).to_string() } else { format!("%{byte:02X}") }).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("nbd://bench2/lr-204", Way::Tcp("bench2".into(), 10809), false, "lr-204")]
    #[case("nbd://bench2:1234", Way::Tcp("bench2".into(), 1234), false, "")]
    #[case("nbds://[fe80::1]:99/a/b%20c", Way::Tcp("fe80::1".into(), 99), true, "a/b c")]
    #[case("nbd://[::1]/x", Way::Tcp("::1".into(), 10809), false, "x")]
    #[case("nbd+unix:///x?socket=/run/a%3fb", Way::Unix("/run/a?b".into()), false, "x")]
    #[case("nbd+unix://?socket=/run/s", Way::Unix("/run/s".into()), false, "")]
    fn uris(#[case] text: &str, #[case] way: Way, #[case] tls: bool, #[case] export: &str) {
        assert_eq!(Uri::parse(text), Some(Ok(Uri { way, tls, export: export.into() })));
    }

    #[rstest]
    #[case("nbd:///x")]
    #[case("nbd://host:port/x")]
    #[case("nbd://host:99999/x")]
    #[case("nbd+unix:///x")]
    #[case("nbd://host/%4")]
    #[case("nbd://host/%ff")]
    fn what_cannot_be_understood_is_said(#[case] text: &str) {
        assert!(Uri::parse(text).unwrap().is_err());
    }

    #[rstest]
    #[case("/dev/sdb")]
    #[case("http://host/x")]
    #[case("nbd:host")]
    fn other_names_are_others(#[case] text: &str) {
        assert_eq!(Uri::parse(text), None);
    }

    #[test]
    fn a_name_comes_back_from_its_uri() {
        let name = "Fotos & Ärger#2.zbi";
        assert_eq!(Uri::parse(&format!("nbd://h/{}", encoded(name))).unwrap().unwrap().export, name);
    }
}
