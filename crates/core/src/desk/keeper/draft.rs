//! A first definition of a tool, out of what its maker publishes: the archive is unpacked and looked into, and its programs are asked,
//! shut in, for their versions. What is guessed says so.

use std::ffi::OsString;
use std::fmt::Write as _;
use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::time::Duration;

use kladder_choose::catalog::{Artifact, Layout, Unpacking};
use kladder_choose::names::{ToolName, is_plain};
use kladder_choose::path::InnerPath;
use regex::Regex;

use super::block::{self, FileBlock};
use super::names::{fit, is_preview};
use super::{Source, version_of};
use crate::base::digest::Digest;
use crate::base::event::{Observer, Silent};
use crate::base::files::{self, Attach, FileError};
use crate::bring::fetch::{Cache, Network, UnknownError, receive, receive_from};
use crate::bring::index::{IndexError, Listed};
use crate::bring::intake::{IntakeError, unpack_files};
use crate::host::confine::{Cell, Network as Reach, Reads};
use crate::host::process::{Ended, Setting, run};
use crate::host::survey::{Host, scratch};
use crate::prove::wants::{Said, said_by};

/// Commands that are written down; a package of more has them by the hundred, and few are typed.
const COMMANDS: usize = 12;
/// Programs that are asked for their versions.
const ASKED: usize = 4;
/// How long each may think.
const LIMIT: Duration = Duration::from_secs(5);
/// How large an archive may get when it is looked into.
const MOST: u64 = 16 << 30;

/// What a draft is made of.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Draftable {
    /// A file on this machine.
    File(PathBuf),
    /// An address.
    Address(String),
    /// What an index calls it.
    Listed {
        /// The index.
        index: String,
        /// The name.
        project: String,
    },
}

/// Why no draft was made.
#[derive(Debug, thiserror::Error)]
pub enum DraftError {
    /// An index could not be asked.
    #[error(transparent)]
    Index(#[from] IndexError),
    /// A file could not be received.
    #[error(transparent)]
    Receive(#[from] UnknownError),
    /// There is no file for this machine.
    #[error("the index {index} has no file of {project} for this machine")]
    NoFile {
        /// The index.
        index: String,
        /// The name.
        project: String,
    },
    /// It could not be unpacked.
    #[error("{file} could not be looked into")]
    Unpack {
        /// The file.
        file: String,
        /// Why not.
        source: Box<IntakeError>,
    },
    /// Nothing in it can be run.
    #[error("nothing in {file} can be run")]
    NothingRuns {
        /// The file.
        file: String,
        /// What stands at its top.
        top: Vec<String>,
    },
    /// A file could not be read or written.
    #[error(transparent)]
    File(#[from] FileError),
}

/// A definition, not yet in a catalog.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Drafted {
    /// What it is called.
    pub tool: ToolName,
    /// Its version, where that was found out.
    pub version: Option<String>,
    /// The text, with a comment at each guess.
    pub text: String,
}

/// With what a draft is made.
#[derive(Clone, Copy)]
pub struct Drafting<'d> {
    /// The machine; programs are asked on it.
    pub host: &'d Host,
    /// The way to indexes and makers.
    pub network: &'d Network,
    /// Where files are kept.
    pub cache: &'d Cache,
    /// Who looks on.
    pub observer: &'d dyn Observer,
}

/// Makes a draft.
///
/// # Errors
/// [`DraftError`]; nothing is written then.
pub fn draft(what: &Draftable, drafting: Drafting<'_>) -> Result<Drafted, DraftError> {
    let found = drafting.found(what)?;
    let work = tempfile::Builder::new()
        .prefix(&scratch())
        .tempdir_in(&drafting.host.temporary)
        .on("make a folder in", &drafting.host.temporary)?;
    let folder = work.path().join("files");
    let unpack = drafting.unpacked(&found, &folder)?;
    let programs = programs(&folder);
    if programs.is_empty() {
        let mut top: Vec<String> =
            files::names(&folder)?.iter().map(|name| name.to_string_lossy().into_owned()).take(8).collect();
        top.sort();
        files::remove_tree(work.path())?;
        return Err(DraftError::NothingRuns { file: found.file, top });
    }
    let looked = Looked::into(&folder, &programs, drafting.host);
    let drafted = written(&found, &unpack, &programs, &looked.cleaned());
    // What was unpacked may be read-only.
    files::remove_tree(work.path())?;
    Ok(drafted)
}

/// A file in the cache, and from where it came.
struct Found {
    file: String,
    path: PathBuf,
    sha256: Digest,
    size: u64,
    scope: String,
    version: Option<String>,
    date: Option<String>,
    origin: Option<String>,
    /// What it is called, where an index says so.
    name: Option<String>,
}

impl Drafting<'_> {
    fn found(&self, what: &Draftable) -> Result<Found, DraftError> {
        let scope = |file: &str| fit(file).map_or_else(|| "any".to_owned(), |fit| fit.scope);
        match what {
            Draftable::File(path) => {
                let file = path.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
                let (sha256, size) = crate::base::digest::of_file(path).on("read", path)?;
                let (scope, version) = (scope(&file), in_name(&file));
                let (date, origin, name) = (None, None, None);
                Ok(Found { path: path.clone(), scope, version, file, sha256, size, date, origin, name })
            }
            Draftable::Address(address) => {
                let plain = address.split(['?', '#']).next().unwrap_or_default();
                let file = plain.rsplit('/').next().filter(|name| !name.is_empty()).unwrap_or("file").to_owned();
                let (sha256, size) = receive_from(address, &file, self.cache, self.network, self.observer)?;
                let version = in_name(&file).or_else(|| in_name(plain));
                let above = address.strip_suffix(&["/", &file].concat()).unwrap_or(address);
                let origin =
                    Some(version.as_ref().map_or_else(|| above.to_owned(), |it| above.replace(it, "{version}")));
                let path = self.cache.path(&sha256);
                Ok(Found { scope: scope(&file), path, file, sha256, size, version, date: None, origin, name: None })
            }
            Draftable::Listed { index, project } => {
                let source = Source { index: index.clone(), project: project.clone(), scopes: Vec::new() };
                let best = self.best(&source.listed(self.network)?);
                let none = || DraftError::NoFile { index: index.clone(), project: project.clone() };
                let (listed, scope) = best.ok_or_else(none)?;
                let (sha256, size) = receive(&listed, self.cache, self.network, self.observer)?;
                Ok(Found {
                    path: self.cache.path(&sha256),
                    sha256,
                    size,
                    scope,
                    version: version_of(&listed).map(|version| version.to_string()),
                    date: listed.date,
                    file: listed.file,
                    origin: Some(format!("index:{index}/{project}")),
                    name: project.rsplit('/').next().map(str::to_owned),
                })
            }
        }
    }

    /// The newest file for this machine that is no preview.
    fn best(&self, listed: &[Listed]) -> Option<(Listed, String)> {
        let here = &self.host.platform;
        let fits = |file: &&Listed| !file.withdrawn && version_of(file).is_none_or(|version| !is_preview(&version));
        let scoped = listed.iter().filter(fits).filter_map(|file| Some((file, fit(&file.file)?)));
        let mine = scoped.filter(|(_, fit)| {
            let scope = fit.scope.parse::<kladder_choose::platform::Scope>();
            scope.is_ok_and(|scope| scope.holds_on(here))
        });
        let scheme = kladder_choose::version::Scheme::default();
        let newest = mine.reduce(|best, one| {
            let order = version_of(one.0).zip(version_of(best.0)).map(|(one, best)| scheme.compare(&one, &best));
            match order {
                Some(std::cmp::Ordering::Greater) => one,
                Some(std::cmp::Ordering::Equal) | None if one.1.rank < best.1.rank => one,
                _ => best,
            }
        });
        newest.map(|(file, fit)| (file.clone(), fit.scope))
    }

    /// Unpacks it as it probably should be; says how.
    fn unpacked(&self, found: &Found, into: &Path) -> Result<Unpacking, DraftError> {
        let mut unpack = Unpacking::default();
        if found.file.to_ascii_lowercase().ends_with(".deb") {
            unpack.layout = Some(Layout::Debian);
            unpack.absolute_links = kladder_choose::catalog::AbsoluteLinks::LeaveOut;
        }
        let file = InnerPath::new(&found.file.replace('/', "-")).unwrap_or_default();
        let failed = |source: IntakeError| DraftError::Unpack { file: found.file.clone(), source: Box::new(source) };
        let artifact = |unpack: &Unpacking| Artifact {
            file: file.clone(),
            size: found.size,
            sha256: found.sha256,
            unpacked: Some(MOST / 2),
            unpack: unpack.clone(),
            origins: Vec::new(),
            by_person: None,
        };
        let bring = |unpack: &Unpacking| {
            unpack_files(std::slice::from_ref(&found.path), &[artifact(unpack)], into, self.observer).map_err(failed)
        };
        bring(&unpack)?;
        let top = files::names(into)?;
        let is_one_folder = matches!(top.as_slice(), [one] if into.join(one).is_dir());
        if is_one_folder && artifact(&unpack).layout() == Layout::AsItIs {
            files::remove_tree(into)?;
            unpack.strip = 1;
            bring(&unpack)?;
        }
        Ok(unpack)
    }
}

/// A version in a name: digits with dots between them.
fn in_name(text: &str) -> Option<String> {
    let pattern = Regex::new(r"(?:^|[-_/v])(\d+(?:\.\d+)+(?:[-.]?(?:rc|alpha|beta)\.?\d+)?)").ok()?;
    pattern.captures(text).map(|captures| captures[1].to_owned())
}

/// What can be run: in `bin` where there is such a folder, otherwise wherever it lies; shortest paths first.
fn programs(folder: &Path) -> Vec<PathBuf> {
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

/// What was found out by looking and asking.
#[derive(Default)]
struct Looked {
    said: Said,
    interpreters: Vec<String>,
    licence: Option<(&'static str, String)>,
    /// The words that made a program say its version, and a pattern for what it said.
    version: Option<(Vec<String>, String, String)>,
    notes: Vec<String>,
}

impl Looked {
    /// Without what could break out of a comment or a text.
    fn cleaned(mut self) -> Self {
        for library in &mut self.said.libraries {
            *library = one_line(library);
        }
        self.licence = self.licence.map(|(spdx, file)| (spdx, one_line(&file)));
        let is_plain_text = |text: &str| !text.chars().any(char::is_control);
        self.version = self.version.filter(|(_, pattern, _)| is_plain_text(pattern));
        self
    }

    fn into(folder: &Path, programs: &[PathBuf], host: &Host) -> Self {
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

/// Asks a program for its version, shut in: nothing but a folder of its own can be written, and no network.
fn asked(folder: &Path, program: &Path, host: &Host) -> Option<(Vec<String>, String, String)> {
    let name = program.file_name()?.to_str()?.to_owned();
    let path = folder.join(program);
    let own = tempfile::Builder::new().prefix(&scratch()).tempdir_in(&host.temporary).ok()?;
    let variables =
        [("PATH".into(), host.path.clone()), ("HOME".into(), own.path().into()), ("LC_ALL".into(), "C".into())];
    let cell = Cell { reads: Reads::Everything, writes: vec![own.path().to_path_buf()], network: Reach::None };
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
        };
        let Ok(ran) = run(&setting, &Silent) else { continue };
        if !matches!(ran.ended, Ended::Status(0)) {
            continue;
        }
        if let Some(line) = ran.stdout.lines().find(|line| number.is_match(line)) {
            let found = number.find(line)?;
            let before = regex::escape(&line[..found.start()]).replace("\\-", "-");
            return Some((vec![name, word.to_owned()], format!("{before}(?<version>\\S+)"), found.as_str().to_owned()));
        }
    }
    None
}

/// What else is in it, for which a definition has words.
fn notes(folder: &Path) -> Vec<String> {
    let found = |path: &str| folder.join(path).exists();
    let said = [
        ("share/man", "manual pages: wired shells find them where they lie"),
        ("share/applications", "entries for a menu: see `desktop`"),
        ("share/bash-completion", "completions: wired shells find them where they lie"),
        ("share/fonts", "fonts: `fonts = [\"share/fonts\"]`"),
    ];
    said.iter().filter(|(path, _)| found(path)).map(|(path, what)| format!("{path} has {what}")).collect()
}

fn written(found: &Found, unpack: &Unpacking, programs: &[PathBuf], looked: &Looked) -> Drafted {
    let first = programs.first().and_then(|path| path.file_name()).and_then(|name| name.to_str()).unwrap_or("tool");
    let named = found.name.clone().unwrap_or_else(|| first.to_owned());
    let tool: ToolName = named.parse().or_else(|_| first.parse()).unwrap_or_else(|_| known_name());
    let quoted = |text: &str| toml::Value::String(text.to_owned()).to_string();
    let mut text =
        format!("tool = {}\nsummary = \"\"   # to be written: one line on what it does\n", quoted(tool.as_str()));
    if let Some((spdx, file)) = &looked.licence {
        let _ = writeln!(text, "spdx = \"{spdx}\"   # guessed from {file}");
    }
    if let Some(origin) = &found.origin {
        let _ = writeln!(text, "origins = [{}]", quoted(origin));
    }
    let needs: Vec<String> = looked.interpreters.iter().filter_map(|name| need(name)).collect();
    if !needs.is_empty() {
        let each: Vec<String> = needs.iter().map(|name| format!("{name} = \"any\"")).collect();
        let _ = writeln!(text, "needs = {{ {} }}   # guessed from the first lines of its scripts", each.join(", "));
    }
    if let Some(version) = &looked.said.c_library {
        let _ =
            writeln!(text, "gates = [{{ c-library = \"gnu >={version}\" }}]   # what its programs were linked with");
    }
    if !looked.said.libraries.is_empty() {
        let _ = writeln!(text, "# libraries that it does not bring: {}", looked.said.libraries.join(", "));
    }
    match (unpack.strip, unpack.layout) {
        (0, Some(Layout::Debian)) => {
            text.push_str("unpack = { layout = \"debian\", absolute-links = \"leave-out\" }\n");
        }
        (strip, _) if strip > 0 => {
            let _ = writeln!(text, "unpack = {{ strip = {strip} }}   # one folder is around everything");
        }
        _ => {}
    }
    for note in &looked.notes {
        let _ = writeln!(text, "# {note}");
    }
    text.push_str("\n[commands]");
    if programs.len() > COMMANDS {
        let _ = write!(text, "   # {} more can be run", programs.len() - COMMANDS);
    }
    text.push('\n');
    for program in programs.iter().take(COMMANDS) {
        let name = program.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
        let key =
            if name.chars().all(|c| c.is_ascii_alphanumeric() || "-_".contains(c)) { name } else { quoted(&name) };
        let _ = writeln!(text, "{key} = {}", quoted(&program.display().to_string()));
    }
    let version = found.version.clone().or_else(|| looked.version.as_ref().map(|(_, _, version)| version.clone()));
    match &looked.version {
        Some((run, pattern, said)) => {
            let run: Vec<String> = run.iter().map(|word| quoted(word)).collect();
            let remark = match &version {
                Some(version) if version != said => format!("   # it said {said}"),
                _ => String::new(),
            };
            let pattern = if pattern.contains('\'') { "(?<version>\\S+)".to_owned() } else { pattern.clone() };
            let _ = write!(
                text,
                "\n[[checks]]\nname = \"says its version\"\nrun = [{}]\nexpect = {{ stdout = '{pattern}' }}{remark}\n",
                run.join(", ")
            );
        }
        None => text.push_str("\n# no program said a version when it was asked; write a check of your own\n"),
    }
    if let Some(version) = &version {
        let file = FileBlock {
            scopes: vec![found.scope.clone()],
            file: found.file.clone(),
            size: found.size,
            sha256: found.sha256,
            more: Vec::new(),
            also: Vec::new(),
        };
        text.push('\n');
        text.push_str(&block::release(version, found.date.as_deref(), &[], &[file]));
    } else {
        text.push_str("\n# its version was not found out, so that no release is written\n");
    }
    Drafted { tool, version, text }
}

/// The name of the tool that is probably meant by an interpreter; none for what every system has.
fn need(interpreter: &str) -> Option<String> {
    match interpreter {
        "sh" | "bash" => None,
        name if name.starts_with("python") => Some("python".to_owned()),
        "nodejs" => Some("node".to_owned()),
        name => is_plain(name).then(|| name.to_owned()),
    }
}

fn known_name() -> ToolName {
    "tool".parse().expect("it is a plain name")
}
