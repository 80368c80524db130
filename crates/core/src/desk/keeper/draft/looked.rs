//! What can be found out of what was unpacked: by looking at its files, and by asking its programs, shut in.

use std::ffi::OsString;
use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::time::Duration;

use kladder_choose::names::is_plain;
use regex::Regex;

use super::menu::Entry;
use crate::base::event::Silent;
use crate::base::files;
use crate::host::confine::{Cell, Network, Reads};
use crate::host::process::{Ended, Setting, run};
use crate::host::survey::{Host, scratch};
use crate::prove::wants::{Said, said_by};

/// Programs that are asked for their versions.
const ASKED: usize = 4;
/// How long each may think.
const LIMIT: Duration = Duration::from_secs(5);

/// What can be run: in `bin` where there is such a folder, otherwise wherever it lies; shortest paths first.
pub(super) fn programs(folder: &Path) -> Vec<PathBuf> {
    let entries = walkdir::WalkDir::new(folder).into_iter().flatten();
    let runs = entries.filter(|entry| {
        let is_marked = || entry.metadata().is_ok_and(|meta| meta.permissions().mode() & 0o111 != 0);
        let is_link = entry.path_is_symlink() && entry.path().is_file();
        (entry.file_type().is_file() || is_link) && is_marked() && is_program(entry.path())
    });
    let mut all: Vec<PathBuf> =
        runs.filter_map(|entry| Some(entry.path().strip_prefix(folder).ok()?.to_path_buf())).collect();
    let in_bin =
        |path: &PathBuf| path.parent().and_then(Path::file_name).is_some_and(|name| name == "bin" || name == "sbin");
    if all.iter().any(in_bin) {
        all.retain(in_bin);
    }
    // What has a file of its own is called as it is; links are other names.
    let is_link = |path: &PathBuf| folder.join(path).is_symlink();
    all.sort_by_key(|path| (path.components().count(), is_link(path), path.clone()));
    all.retain(|path| path.file_name().and_then(|name| name.to_str()).is_some_and(is_plain));
    all
}

/// Whether it begins as a program does: ELF, Mach-O, or a line that names an interpreter. No library is meant.
fn is_program(path: &Path) -> bool {
    let name = path.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
    let is_archive = path.extension().is_some_and(|ending| ending == "dylib" || ending == "a");
    if name.contains(".so") || is_archive {
        return false;
    }
    let mut head = [0; 4];
    let read = fs::File::open(path).and_then(|mut file| std::io::Read::read_exact(&mut file, &mut head));
    read.is_ok()
        && (head.starts_with(b"#!")
            || head == *b"\x7fELF"
            || [0xfeed_face, 0xfeed_facf].contains(&u32::from_le_bytes(head)))
}

/// How a program says its version.
pub(super) struct SaysVersion {
    /// What was run.
    pub(super) run: Vec<String>,
    /// A pattern for what it said.
    pub(super) pattern: String,
    /// The version that it said.
    pub(super) said: String,
}

/// What was found out by looking and asking.
#[derive(Default)]
pub(super) struct Looked {
    pub(super) said: Said,
    pub(super) interpreters: Vec<String>,
    pub(super) licence: Option<(&'static str, String)>,
    pub(super) version: Option<SaysVersion>,
    pub(super) menu: Vec<Entry>,
    pub(super) has_fonts: bool,
    pub(super) notes: Vec<String>,
}

impl Looked {
    /// Without what could break out of a comment or a text.
    pub(super) fn cleaned(mut self) -> Self {
        for library in &mut self.said.libraries {
            *library = one_line(library);
        }
        self.licence = self.licence.map(|(spdx, file)| (spdx, one_line(&file)));
        let is_plain_text = |text: &str| !text.chars().any(char::is_control);
        self.version = self.version.filter(|says| is_plain_text(&says.pattern));
        self
    }

    pub(super) fn into(folder: &Path, programs: &[PathBuf], host: &Host) -> Self {
        let mut looked = Self::default();
        for program in programs {
            let path = folder.join(program);
            if let Some(said) = said_by(&path) {
                looked.said.libraries.extend(said.libraries);
                let numbers = |text: &Option<String>| -> Vec<u32> {
                    text.iter().flat_map(|text| text.split('.')).filter_map(|part| part.parse().ok()).collect()
                };
                if numbers(&said.c_library) > numbers(&looked.said.c_library) {
                    looked.said.c_library = said.c_library;
                }
            } else if let Some(line) = files::read(&path).ok().and_then(|bytes| first_line(&bytes)) {
                looked.interpreters.push(line);
            }
        }
        let own: Vec<String> = walkdir::WalkDir::new(folder)
            .into_iter()
            .flatten()
            .map(|entry| entry.file_name().to_string_lossy().into_owned())
            .collect();
        looked.said.libraries.sort();
        looked.said.libraries.dedup();
        looked.said.libraries.retain(|library| !own.contains(library) && !OF_THE_C_LIBRARY.contains(&library.as_str()));
        looked.interpreters.sort();
        looked.interpreters.dedup();
        looked.licence = licence(folder);
        looked.version = programs.iter().take(ASKED).find_map(|program| asked(folder, program, host));
        looked.menu = super::menu::entries(folder, programs);
        looked.has_fonts = folder.join("share/fonts").is_dir();
        looked.notes = notes(folder);
        looked
    }
}

/// A name out of an archive as it can stand in a comment.
fn one_line(text: &str) -> String {
    text.chars().map(|c| if c.is_control() { '?' } else { c }).collect()
}

/// Libraries that come with the C library, and that every Linux desktop has.
const OF_THE_C_LIBRARY: [&str; 10] = [
    "libc.so.6",
    "libm.so.6",
    "libdl.so.2",
    "libpthread.so.0",
    "librt.so.1",
    "ld-linux-x86-64.so.2",
    "ld-linux-aarch64.so.1",
    "libgcc_s.so.1",
    "libstdc++.so.6",
    "libutil.so.1",
];

/// The interpreter that a script names.
fn first_line(bytes: &[u8]) -> Option<String> {
    let line = bytes.strip_prefix(b"#!")?.split(|byte| *byte == b'\n').next()?;
    let words = String::from_utf8_lossy(line).into_owned();
    let mut words = words.split_whitespace().map(|word| word.rsplit('/').next().unwrap_or(word).to_owned());
    let first = words.next()?;
    if first == "env" { words.find(|word| !word.starts_with('-')) } else { Some(first) }
}

/// A licence by what its text says, and where that lies.
fn licence(folder: &Path) -> Option<(&'static str, String)> {
    const TEXTS: [(&str, &[&str]); 9] = [
        ("Apache-2.0", &["Apache License", "Version 2.0"]),
        ("GPL-3.0-or-later", &["GNU GENERAL PUBLIC LICENSE", "Version 3"]),
        ("GPL-2.0-or-later", &["GNU GENERAL PUBLIC LICENSE", "Version 2"]),
        ("LGPL-3.0-or-later", &["GNU LESSER GENERAL PUBLIC LICENSE", "Version 3"]),
        ("MPL-2.0", &["Mozilla Public License", "2.0"]),
        ("MIT", &["Permission is hereby granted, free of charge", "without restriction"]),
        ("BSD-3-Clause", &["Redistribution and use in source and binary forms", "endorse or promote"]),
        ("BSD-2-Clause", &["Redistribution and use in source and binary forms"]),
        ("ISC", &["Permission to use, copy, modify, and/or distribute this software"]),
    ];
    let is_named = |name: &str| {
        ["LICENSE", "LICENCE", "COPYING", "COPYRIGHT"].iter().any(|word| name.to_uppercase().starts_with(word))
    };
    let entries = walkdir::WalkDir::new(folder).sort_by_file_name().into_iter().flatten();
    let files = entries.filter(|entry| entry.file_type().is_file() && is_named(&entry.file_name().to_string_lossy()));
    let known = |path: &Path| {
        let text = files::text_of_at_most(path, 1 << 20)?;
        let text = text.split_whitespace().collect::<Vec<_>>().join(" ");
        let found = TEXTS.iter().find(|(_, words)| words.iter().all(|word| text.contains(word)))?;
        Some((found.0, path.strip_prefix(folder).ok()?.display().to_string()))
    };
    files.into_iter().find_map(|entry| known(entry.path()))
}

/// Asks a program for its version, shut in: nothing but a folder of its own can be written, nothing but the system and what was
/// unpacked can be read, and there is no network.
fn asked(folder: &Path, program: &Path, host: &Host) -> Option<SaysVersion> {
    let name = program.file_name()?.to_str()?.to_owned();
    let path = folder.join(program);
    let own = tempfile::Builder::new().prefix(&scratch()).tempdir_in(&host.temporary).ok()?;
    let variables =
        [("PATH".into(), host.path.clone()), ("HOME".into(), own.path().into()), ("LC_ALL".into(), "C".into())];
    let cell = Cell {
        reads: Reads::SystemAnd(vec![folder.to_path_buf()]),
        writes: vec![own.path().to_path_buf()],
        network: Network::None,
        shown: Vec::new(),
    };
    let encloser = host.encloser();
    let number = Regex::new(r"\d+(?:\.\d+)+[0-9A-Za-z.+-]*").ok()?;
    for word in ["--version", "version", "-V", "-v"] {
        let words: Vec<OsString> = vec![path.clone().into(), word.into()];
        let setting = Setting {
            run: &words,
            input: "",
            folder: own.path(),
            variables: &variables,
            limit: LIMIT,
            cell: Some(&cell),
            encloser: encloser.as_ref(),
            watched: None,
            most: None,
        };
        let Ok(ran) = run(&setting, &Silent) else { continue };
        if !matches!(ran.ended, Ended::Status(0)) {
            continue;
        }
        if let Some(line) = ran.stdout.lines().find(|line| number.is_match(line)) {
            let found = number.find(line)?;
            let before = regex::escape(&line[..found.start()]).replace("\\-", "-");
            let (pattern, said) = (format!("{before}(?<version>\\S+)"), found.as_str().to_owned());
            return Some(SaysVersion { run: vec![name, word.to_owned()], pattern, said });
        }
    }
    None
}

/// What else is in it, for which a definition has words.
fn notes(folder: &Path) -> Vec<String> {
    let found = |path: &str| folder.join(path).exists();
    let said = [
        ("share/man", "manual pages: wired shells find them where they lie"),
        ("share/bash-completion", "completions: wired shells find them where they lie"),
    ];
    said.iter().filter(|(path, _)| found(path)).map(|(path, what)| format!("{path} has {what}")).collect()
}
