//! What a program wants of those beside it, read from the file itself, as the loader would read it.
//!
//! Sources: the System V ABI, "Dynamic Linking" (`PT_INTERP`, `DT_NEEDED`, `DT_RUNPATH`), the Linux Standard Base, "Symbol
//! Versioning" (`SHT_GNU_verneed`, `SHT_GNU_verdef`), and ld.so(8) for where libraries are looked for. What the loader
//! might still find in a way that is not followed here counts as there: nothing is called missing that could be found.

use std::cell::OnceCell;
use std::collections::{BTreeSet, HashMap};
use std::ffi::OsString;
use std::fs::{self, File};
use std::io::Read;
use std::os::unix::ffi::OsStringExt;
use std::path::{Path, PathBuf};

use elf::abi::{DT_NEEDED, DT_RPATH, DT_RUNPATH, PT_INTERP, SHT_GNU_VERDEF, SHT_GNU_VERNEED, VER_FLG_WEAK};
use elf::endian::AnyEndian;
use elf::gnu_symver::{VerDefIterator, VerNeedIterator};
use elf::section::SectionHeader;
use elf::string_table::StringTable;
use elf::{ElfStream, ParseError};

use crate::base::event::Cause;
use crate::sys;

/// Tables of names longer than this, in bytes, are not read: those of the largest programs have a few million.
const LONGEST_TABLE: u64 = 64 << 20;
/// Entries of a table that are looked at.
const MOST: usize = 10_000;
/// Files of a rung that are looked through for libraries.
const FILES: usize = 200_000;
/// Bytes of a first line that names an interpreter; kernels read no more.
const FIRST_LINE: usize = 256;

/// What an ELF file wants and has.
#[derive(Debug, Default, PartialEq, Eq)]
struct Wants {
    /// Bits and processor, as the file's head has them: only files of one kind are loaded together.
    machine: (u8, u16),
    /// What loads it; `None` for a library, and for a program that needs nobody.
    interpreter: Option<PathBuf>,
    /// File names of the libraries that are loaded with it.
    libraries: Vec<String>,
    /// Folders where it has them looked for, `$ORIGIN` not filled in.
    folders: Vec<String>,
    /// Versions that it wants of libraries: the library's file name and the version's.
    versions: Vec<(String, String)>,
    /// Versions that it has, being a library.
    has: BTreeSet<String>,
}

impl Wants {
    /// What a file wants; `None` for one that is no whole ELF file.
    fn of(file: &Path) -> Option<Self> {
        Self::read(File::open(file).ok()?).ok()
    }

    fn read(file: File) -> Result<Self, ParseError> {
        let mut elf = ElfStream::<AnyEndian, _>::open_stream(file)?;
        let mut wants = Self { machine: (elf.ehdr.class as u8, elf.ehdr.e_machine), ..Self::default() };
        if let Some(segment) = elf.segments().iter().find(|segment| segment.p_type == PT_INTERP).copied() {
            let mut path = elf.segment_data(&segment)?.to_vec();
            path.truncate(path.iter().position(|byte| *byte == 0).unwrap_or(path.len()));
            wants.interpreter = Some(OsString::from_vec(path).into());
        }
        let tagged: Vec<_> = match elf.dynamic()? {
            Some(table) => table.iter().take(MOST).map(|entry| (entry.d_tag, entry.d_val())).collect(),
            None => return Ok(wants),
        };
        let Some(names) = elf.section_header_by_name(".dynstr")?.copied().filter(is_readable) else { return Ok(wants) };
        wants.names(&elf.section_data_as_strtab(&names)?, &tagged)?;
        wants.wanted_versions(&mut elf, &names)?;
        wants.own_versions(&mut elf, &names)?;
        Ok(wants)
    }

    fn names(&mut self, names: &StringTable<'_>, tagged: &[(i64, u64)]) -> Result<(), ParseError> {
        for (tag, at) in tagged {
            let name = || names.get(usize::try_from(*at)?).map(str::to_owned);
            match *tag {
                DT_NEEDED => self.libraries.push(name()?),
                DT_RPATH | DT_RUNPATH => self.folders.extend(name()?.split(':').map(str::to_owned)),
                _ => {}
            }
        }
        Ok(())
    }

    fn wanted_versions(&mut self, elf: &mut Stream, names: &SectionHeader) -> Result<(), ParseError> {
        let Some((section, data)) = data_of(elf, SHT_GNU_VERNEED)? else { return Ok(()) };
        let (endian, class) = (elf.ehdr.endianness, elf.ehdr.class);
        let names = elf.section_data_as_strtab(names)?;
        for (library, versions) in VerNeedIterator::new(endian, class, section.sh_info.into(), 0, &data).take(MOST) {
            for version in versions.take(MOST).filter(|version| version.vna_flags & VER_FLG_WEAK == 0) {
                let (library, version) = (names.get(library.vn_file as usize)?, names.get(version.vna_name as usize)?);
                self.versions.push((library.to_owned(), version.to_owned()));
            }
        }
        Ok(())
    }

    fn own_versions(&mut self, elf: &mut Stream, names: &SectionHeader) -> Result<(), ParseError> {
        let Some((section, data)) = data_of(elf, SHT_GNU_VERDEF)? else { return Ok(()) };
        let (endian, class) = (elf.ehdr.endianness, elf.ehdr.class);
        let names = elf.section_data_as_strtab(names)?;
        for (_, mut called) in VerDefIterator::new(endian, class, section.sh_info.into(), 0, &data).take(MOST) {
            // The first name is its own, those behind it are its ancestors'.
            if let Some(name) = called.next() {
                self.has.insert(names.get(name.vda_name as usize)?.to_owned());
            }
        }
        Ok(())
    }
}

type Stream = ElfStream<AnyEndian, File>;

fn is_readable(section: &SectionHeader) -> bool {
    section.sh_size <= LONGEST_TABLE
}

fn data_of(elf: &mut Stream, kind: u32) -> Result<Option<(SectionHeader, Vec<u8>)>, ParseError> {
    let section = elf.section_headers().iter().find(|section| section.sh_type == kind && is_readable(section)).copied();
    section.map(|section| Ok((section, elf.section_data(&section)?.0.to_vec()))).transpose()
}

/// What a program says of the libraries that it is loaded with, for those who write a definition.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct Said {
    /// File names of libraries.
    pub(crate) libraries: Vec<String>,
    /// The newest version of the GNU C library that it wants, as `2.28`.
    pub(crate) c_library: Option<String>,
}

/// Reads what a program says; `None` for one that is no ELF file.
pub(crate) fn said_by(file: &Path) -> Option<Said> {
    let wants = Wants::of(file)?;
    let numbers = |version: &str| -> Vec<u32> { version.split('.').filter_map(|part| part.parse().ok()).collect() };
    let versions = wants.versions.iter().filter_map(|(_, version)| version.strip_prefix("GLIBC_"));
    let newest = versions.filter(|version| !numbers(version).is_empty()).max_by_key(|version| numbers(version));
    Some(Said { c_library: newest.map(str::to_owned), libraries: wants.libraries })
}

/// Where a rung's programs may find what they want.
pub(super) struct Around {
    /// Folders whose files count wherever they lie: the rung's own, and those of the rungs that it stands on.
    rungs: Vec<PathBuf>,
    /// Folders of the host's libraries.
    host: Vec<PathBuf>,
    /// The libraries of `rungs` by name; looked for once it is needed.
    found: OnceCell<HashMap<OsString, Vec<PathBuf>>>,
}

impl Around {
    /// The surroundings of programs in these folders; `None` where this system's programs are not ELF.
    pub(super) fn of(rungs: Vec<PathBuf>) -> Option<Self> {
        Some(Self { rungs, host: sys::libraries::folders(Path::new("/"))?, found: OnceCell::new() })
    }

    /// Why the loader, or the kernel before it, would refuse to start a program. `knows` says whether a command is there.
    pub(super) fn causes(&self, program: &Path, knows: impl Fn(&str) -> bool) -> Vec<Cause> {
        if let Some(target) = lost_link(program) {
            return vec![Cause::LostLink { file: program.display().to_string(), target }];
        }
        if let Some(interpreter) = script_interpreter(program) {
            // Where a relative path leads is only known once it is run.
            let is_there = |path: &str| match (path.starts_with('/'), path.contains('/')) {
                (true, _) => Path::new(path).exists(),
                (false, true) => true,
                (false, false) => knows(path),
            };
            let missing = Some(interpreter).filter(|interpreter| !is_there(interpreter));
            return missing.into_iter().map(|interpreter| Cause::NoInterpreter { interpreter }).collect();
        }
        let Ok(program) = fs::canonicalize(program) else { return Vec::new() };
        let Some(wants) = Wants::of(&program) else { return Vec::new() };
        if let Some(interpreter) = wants.interpreter.as_ref().filter(|interpreter| !interpreter.exists()) {
            return vec![Cause::NoInterpreter { interpreter: interpreter.display().to_string() }];
        }
        self.libraries(program, wants)
    }

    /// Walks from a program to the libraries that are loaded with it, and names what is not there.
    fn libraries(&self, program: PathBuf, wants: Wants) -> Vec<Cause> {
        let is_musl = wants.interpreter.as_ref().is_some_and(|path| path.to_string_lossy().contains("ld-musl"));
        let mut causes = Vec::new();
        let mut seen: BTreeSet<String> = BTreeSet::new();
        let mut left = vec![(program, wants)];
        while let Some((file, wants)) = left.pop() {
            for library in &wants.libraries {
                let candidates = self.candidates(&file, &wants, library);
                if candidates.is_empty() {
                    // The loader of musl is its C library too, under any name that its distributions gave it.
                    let is_loader = is_musl && (library.starts_with("libc.") || library.starts_with("ld-musl"));
                    if !is_loader && seen.insert(library.clone()) {
                        causes.push(Cause::NoLibrary { library: library.clone(), by: Vec::new() });
                    }
                    continue;
                }
                if !is_musl {
                    causes.extend(lacking(library, &wants, &candidates));
                }
                // What the host has is in order by itself.
                let own = candidates.into_iter().find(|(path, _)| self.rungs.iter().any(|rung| path.starts_with(rung)));
                if let Some(own) = own.filter(|_| seen.insert(library.clone())) {
                    left.push(own);
                }
            }
        }
        causes.sort();
        causes.dedup();
        causes
    }

    /// The files of a library's name that fit the one that wants it, in about the order of the loader.
    fn candidates(&self, file: &Path, wants: &Wants, library: &str) -> Vec<(PathBuf, Wants)> {
        let origin = file.parent().unwrap_or(file).to_string_lossy();
        let filled = |folder: &String| folder.replace("${ORIGIN}", "$ORIGIN").replace("$ORIGIN", &origin);
        let near = wants.folders.iter().map(|folder| PathBuf::from(filled(folder)).join(library));
        let host = self.host.iter().map(|folder| folder.join(library));
        let elsewhere = self.found.get_or_init(|| libraries_below(&self.rungs));
        let elsewhere = elsewhere.get(std::ffi::OsStr::new(library)).into_iter().flatten().cloned();
        let given = library.contains('/').then(|| PathBuf::from(library));
        given.into_iter().chain(near).chain(elsewhere).chain(host).filter_map(|path| fitting(&path, wants)).collect()
    }
}

fn fitting(path: &Path, wants: &Wants) -> Option<(PathBuf, Wants)> {
    let path = fs::canonicalize(path).ok()?;
    let found = Wants::of(&path)?;
    (found.machine == wants.machine).then_some((path, found))
}

/// The versions of a library that no file of its name has. A library without any versions is taken as it is, as the loader
/// does.
fn lacking(library: &str, wants: &Wants, candidates: &[(PathBuf, Wants)]) -> Vec<Cause> {
    let has = |version: &str| candidates.iter().any(|(_, found)| found.has.is_empty() || found.has.contains(version));
    let wanted = wants.versions.iter().filter(|(of, version)| of == library && !has(version));
    let newest = wanted.max_by_key(|(_, version)| numbers(version));
    let cause = newest.map(|(_, version)| match version.strip_prefix("GLIBC_") {
        Some(wanted) => {
            let found =
                candidates.iter().filter_map(|(_, found)| c_library_in(found)).max_by_key(|found| numbers(found));
            Cause::OldCLibrary { wanted: wanted.to_owned(), found }
        }
        None => Cause::OldLibrary { library: library.to_owned(), wanted: version.clone() },
    });
    cause.into_iter().collect()
}

/// The version of the host's GNU C library, as the library has it; `None` where there is none.
pub(super) fn c_library() -> Option<String> {
    let folders = sys::libraries::folders(Path::new("/"))?;
    let found = folders.iter().find_map(|folder| Wants::of(&folder.join("libc.so.6")))?;
    c_library_in(&found)
}

fn c_library_in(library: &Wants) -> Option<String> {
    let versions = library.has.iter().filter_map(|version| version.strip_prefix("GLIBC_"));
    let numbered = versions.filter(|version| version.starts_with(|c: char| c.is_ascii_digit()));
    numbered.max_by_key(|version| numbers(version)).map(str::to_owned)
}

fn numbers(version: &str) -> Vec<u64> {
    version.split(|c: char| !c.is_ascii_digit()).filter_map(|number| number.parse().ok()).collect()
}

fn libraries_below(folders: &[PathBuf]) -> HashMap<OsString, Vec<PathBuf>> {
    let mut found: HashMap<OsString, Vec<PathBuf>> = HashMap::new();
    let walks = folders.iter().flat_map(|folder| walkdir::WalkDir::new(folder).into_iter().filter_map(Result::ok));
    for entry in walks.take(FILES).filter(|entry| entry.file_name().to_string_lossy().contains(".so")) {
        found.entry(entry.file_name().to_owned()).or_default().push(entry.into_path());
    }
    found
}

/// The first bytes of a file.
fn head(file: &Path) -> Option<Vec<u8>> {
    let mut bytes = Vec::new();
    File::open(file).ok()?.take(FIRST_LINE as u64).read_to_end(&mut bytes).ok()?;
    Some(bytes)
}

/// What a script's first line names, execve(2): a path, or the command that env(1) is to look for.
pub(super) fn script_interpreter(file: &Path) -> Option<String> {
    let head = head(file)?;
    let line = head.strip_prefix(b"#!")?.split(|byte| *byte == b'\n').next()?;
    let line = String::from_utf8_lossy(line).into_owned();
    let mut words = line.split_whitespace();
    let first = words.next()?;
    let asks_env = Path::new(first).file_name().is_some_and(|name| name == "env") && Path::new(first).exists();
    match words.next().filter(|word| asks_env && !word.starts_with('-') && !word.contains('=')) {
        Some(command) => Some(command.to_owned()),
        None => Some(first.to_owned()),
    }
}

/// The target of a link that an archive's format could not hold, so that its text became a file.
fn lost_link(file: &Path) -> Option<String> {
    let head = head(file).filter(|head| head.len() < FIRST_LINE && !head.is_empty())?;
    let text = String::from_utf8(head).ok()?;
    let is_path = !text.starts_with("#!") && !text.contains(|c: char| c.is_whitespace() || c.is_control());
    let target = file.parent()?.join(&text);
    (is_path && target != *file && target.is_file()).then_some(text)
}

#[cfg(all(test, target_os = "linux"))]
mod tests {
    use super::*;

    #[test]
    fn a_program_of_this_host_is_read_as_its_loader_does() {
        let this = std::env::current_exe().unwrap();
        let wants = Wants::of(&this).unwrap();
        assert!(wants.libraries.iter().any(|library| library.starts_with("libc.")), "{wants:?}");
        let around = Around::of(Vec::new()).unwrap();
        assert_eq!(around.causes(&this, |_| false), []);
        // One version more than the host has, and a library that nobody has.
        let mut newer = Wants::of(&this).unwrap();
        newer.libraries.push("libtide.so.7".into());
        newer.versions.extend(["GLIBC_2.99", "GLIBC_2.101"].map(|version| ("libc.so.6".into(), version.into())));
        let told = around.libraries(this, newer);
        assert_eq!(told.len(), 2, "{told:?}");
        assert!(matches!(&told[0], Cause::OldCLibrary { wanted, found } if wanted == "2.101" && *found == c_library()));
        assert!(matches!(&told[1], Cause::NoLibrary { library, .. } if library == "libtide.so.7"));
        assert!(c_library().unwrap().starts_with("2."));
    }

    #[test]
    fn damaged_files_want_nothing() {
        let folder = tempfile::tempdir().unwrap();
        let whole = fs::read(std::env::current_exe().unwrap()).unwrap();
        let file = folder.path().join("damaged");
        for cut in [0, 3, 17, 64, 65, 200, 1000] {
            fs::write(&file, &whole[..cut]).unwrap();
            assert_eq!(Around::of(Vec::new()).unwrap().causes(&file, |_| true), [], "cut at {cut}");
        }
        // Every byte of the head in turn, so that counts and places of tables lead anywhere.
        for at in 16..64 {
            let mut other = whole[..whole.len().min(1 << 20)].to_vec();
            other[at] ^= 0xff;
            fs::write(&file, &other).unwrap();
            let _ = Wants::of(&file);
        }
    }
}
