//! Setting variables in the languages of shells.

use std::ffi::{OsStr, OsString};
use std::os::unix::ffi::OsStrExt;

/// The language of a shell.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Dialect {
    /// sh and all that read what it reads: bash, zsh, dash, ksh (POSIX.1-2017, shell command language).
    Posix,
    /// fish.
    Fish,
    /// PowerShell.
    PowerShell,
    /// Nushell.
    Nushell,
}

impl Dialect {
    /// A word that stands for just this text.
    ///
    /// ```
    /// use kladder_core::base::dialect::Dialect;
    ///
    /// assert_eq!(Dialect::Posix.word("it's $5".as_ref()), br"'it'\''s $5'");
    /// assert_eq!(Dialect::Fish.word(r"it's \".as_ref()), br"'it\'s \\'");
    /// assert_eq!(Dialect::PowerShell.word("it's $5".as_ref()), b"'it''s $5'");
    /// assert_eq!(Dialect::Nushell.word("say \"$5\"".as_ref()), br#""say \"$5\"""#);
    /// ```
    pub fn word(self, text: &OsStr) -> Vec<u8> {
        let quote = if self == Self::Nushell { b'"' } else { b'\'' };
        let mut word = vec![quote];
        for &byte in text.as_bytes() {
            match (self, byte) {
                (Self::Posix, b'\'') => word.extend(br"'\''"),
                (Self::PowerShell, b'\'') => word.extend(b"''"),
                (Self::Fish, b'\'' | b'\\') | (Self::Nushell, b'"' | b'\\') => word.extend([b'\\', byte]),
                (Self::Nushell, b'\n') => word.extend(br"\n"),
                _ => word.push(byte),
            }
        }
        word.push(quote);
        word
    }

    /// A line that sets a variable for all that the shell starts. PATH is a list where the shell has lists.
    pub fn set(self, name: &OsStr, value: &OsStr) -> Vec<u8> {
        let has_lists = matches!(self, Self::Fish | Self::Nushell) && name == "PATH";
        let words = || std::env::split_paths(value).map(|folder| self.word(folder.as_os_str())).collect::<Vec<_>>();
        let value = if has_lists { words().join(&b' ') } else { self.word(value) };
        let (before, between, after): (&[u8], &[u8], &[u8]) = match self {
            Self::Posix => (b"export ", b"=", b"\n"),
            Self::Fish => (b"set -gx ", b" ", b"\n"),
            Self::PowerShell => (b"${env:", b"} = ", b"\n"),
            Self::Nushell if has_lists => (b"$env.", b" = [", b"]\n"),
            Self::Nushell => (b"$env.", b" = ", b"\n"),
        };
        [before, name.as_bytes(), between, &value, after].concat()
    }

    /// A line that gives a command a short name in an interactive shell, where the name means nothing there yet.
    pub fn alias(self, name: &str, stands_for: &str) -> Vec<u8> {
        let word = self.word(stands_for.as_ref());
        let (name, lines) = (name.as_bytes(), |parts: [&[u8]; 5]| parts.concat());
        match self {
            Self::Posix => {
                let check: &[u8] = b"case $- in *i*) command -v ";
                lines([
                    check,
                    name,
                    b" >/dev/null 2>&1 || alias ",
                    &[name, b"="].concat(),
                    &[&word, b" ;; esac\n".as_slice()].concat(),
                ])
            }
            Self::Fish => {
                let check: &[u8] = b"status is-interactive; and not type -q ";
                lines([check, name, b"; and alias ", &[name, b" "].concat(), &[&word, b"\n".as_slice()].concat()])
            }
            // They take no such texts from here.
            Self::PowerShell | Self::Nushell => Vec::new(),
        }
    }

    /// Lines that set variables.
    pub fn set_all(self, variables: &[(OsString, OsString)]) -> Vec<u8> {
        variables.iter().flat_map(|(name, value)| self.set(name, value)).collect()
    }
}
