//! Setting variables in the languages of shells.

use std::ffi::{OsStr, OsString};
use std::os::unix::ffi::OsStrExt;

use kladder_launch::variables::{How, split};

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

    /// A line that adds to a list, in front or behind, what it does not have yet.
    fn add(self, name: &OsStr, value: &OsStr, front: bool) -> Vec<u8> {
        let (word, name) = (self.word(value), name.as_bytes());
        let old = |sign: &[u8]| [b"${", name, sign].concat();
        match self {
            Self::Posix => {
                let joined = if front {
                    [&word, &b"\""[..], &old(b":+:$"), name, b"}\""].concat()
                } else {
                    [b"\"", &old(b":+$")[..], name, b":}\"", &word].concat()
                };
                let case = [b"case \":", &old(b"-}")[..], b":\" in *:", &word, b":*) ;; *) export "].concat();
                [&case, name, b"=", &joined, b" ;; esac\n"].concat()
            }
            Self::Fish => {
                let all = [b"(string split -- : \"$", name, b"\")"].concat();
                let joined = if front { [&word, &b" "[..], &all].concat() } else { [&all, &b" "[..], &word].concat() };
                let contains = [b"contains -- ", &word[..], b" ", &all, b"; or set -gx "].concat();
                let joined = [b" (string join -- : ", &joined[..], b" | string trim -c :)\n"].concat();
                [&contains, name, &joined].concat()
            }
            Self::PowerShell => {
                let old = [b"$(if (${env:", name, b"}) { "].concat();
                let joined = if front {
                    [&word, &b" + "[..], &old, b"':' + ${env:", name, b"} })"].concat()
                } else {
                    [&old, &b"${env:"[..], name, b"} + ':' }) + ", &word].concat()
                };
                [
                    b"if (-not ((\"${env:",
                    name,
                    b"}\" -split ':') -contains ",
                    &word,
                    b")) { ${env:",
                    name,
                    b"} = ",
                    &joined,
                    b" }\n",
                ]
                .concat()
            }
            Self::Nushell => {
                let old = [b"($env.", name, b"? | default \"\" | split row ':')"].concat();
                let both = if front {
                    [&word, &b" | append "[..], &old].concat()
                } else {
                    [&old, &b" | append "[..], &word].concat()
                };
                [b"$env.", name, b" = (", &both, b" | where $it != \"\" | uniq | str join ':')\n"].concat()
            }
        }
    }

    /// A line that sets a variable where nothing is set.
    fn set_unless(self, name: &OsStr, value: &OsStr) -> Vec<u8> {
        let set = self.set(name, value);
        let name = name.as_bytes();
        match self {
            Self::Posix => [b"[ -n \"${", name, b"-}\" ] || ", &set].concat(),
            Self::Fish => [b"test -n \"$", name, b"\"; or ", &set].concat(),
            Self::PowerShell => [b"if (-not ${env:", name, b"}) { ", set.trim_ascii_end(), b" }\n"].concat(),
            Self::Nushell => [b"if ($env.", name, b"? | is-empty) { ", set.trim_ascii_end(), b" }\n"].concat(),
        }
    }

    /// Lines that set variables, or add to them, by the signs of their names.
    pub fn set_all(self, variables: &[(OsString, OsString)]) -> Vec<u8> {
        let line = |(name, value): &(OsString, OsString)| match split(name) {
            (How::Set, name) => self.set(name, value),
            (How::Front, name) => self.add(name, value, true),
            (How::Behind, name) => self.add(name, value, false),
            (How::UnlessSet, name) => self.set_unless(name, value),
        };
        variables.iter().flat_map(line).collect()
    }
}
