//! A bale of a ladder is made.

use std::collections::{BTreeMap, BTreeSet};
use std::io;
use std::path::{Path, PathBuf};

use kladder_choose::address::without_password;
use kladder_choose::document::{DocumentError, Source};
use kladder_choose::ladder::{CodeSource, STARTER, address_of};
use kladder_choose::names::ToolName;
use kladder_choose::pins::Pins;
use kladder_choose::sets::LibrarySet;
use kladder_choose::setting::Content as SettingContent;
use toml_edit::{DocumentMut, Value};

use super::needed::{Needed, NeededError, Wanted};
use crate::base::digest::{Digest, of_file};
use crate::base::event::{Cancelled, Event, Observer, check_cancelled};
use crate::base::files::{self, Attach, FileError};
use crate::bring::bale::{
    Bale, BaleError, Content, Contents, Index, LADDER, Member, YARD, bundle_path, is_path, write,
};
use crate::bring::fetch::FetchError;
use crate::climb::WhyMissing;
use crate::desk::catalogs::fetched;
use crate::desk::{Desk, FILE_NAME};

/// The folder of a ladder's catalogs, beside it.
pub const CATALOGS: &str = "catalogs";
/// The folder of catalogs from elsewhere, each by the digest of its address.
pub const FETCHED: &str = "fetched";

/// What a bale is to be.
#[derive(Clone, Debug, Default)]
pub struct Order {
    /// Where.
    pub file: PathBuf,
    /// Another one, whose artifacts are left out.
    pub since: Option<PathBuf>,
    /// Bytes of a file, where it is to be several.
    pub volume: Option<u64>,
    /// The machines; all of the ladder where there is none.
    pub machines: Vec<String>,
    /// How to do it by hand, in Markdown.
    pub guide: String,
    /// Whether repositories of code are left out.
    pub without_code: bool,
    /// Programs that come along, by the platform that each is for (`linux/x86_64`).
    pub programs: BTreeMap<String, PathBuf>,
}

/// Why a bale cannot be made.
#[derive(Debug, thiserror::Error)]
pub enum MakeError {
    /// It is not known what goes into it.
    #[error(transparent)]
    Needed(#[from] NeededError),
    /// Something that goes into it cannot be had.
    #[error(transparent)]
    Fetch(#[from] FetchError),
    /// It cannot be written, or the other one cannot be used.
    #[error(transparent)]
    Bale(#[from] BaleError),
    /// Some code of the ladder cannot be had.
    #[error("the code of {name} cannot come along")]
    Code {
        /// Its name in the ladder.
        name: String,
        /// Why not.
        why: WhyMissing,
    },
    /// The person asked for an end.
    #[error(transparent)]
    Cancelled(#[from] Cancelled),
    /// A file that goes into it cannot be read.
    #[error(transparent)]
    File(#[from] FileError),
    /// The ladder's file has a path that is outside of its folder, or too long.
    #[error("`{0}` cannot come along: it is outside of the ladder's folder, or its path is too long")]
    Outside(String),
    /// The settings are wrong.
    #[error(transparent)]
    Document(#[from] DocumentError),
    /// The ladder cannot be written anew.
    #[error("the ladder cannot be written with its catalogs beside it")]
    Ladder(#[source] Box<toml_edit::TomlError>),
}

/// A bale that was made.
#[derive(Debug)]
pub struct Made {
    /// Its files.
    pub files: Vec<PathBuf>,
    /// What is in it.
    pub index: Index,
}

/// A plain script for a machine that has nothing but a shell.
const BEGIN: &str = include_str!("begin.sh");

/// Makes a bale of a ladder and its pins, which stand on file.
///
/// # Errors
/// [`MakeError`]; nothing stands in its place then that did not before.
pub fn make(desk: &Desk, pins: &Pins, order: &Order, observer: &dyn Observer) -> Result<Made, MakeError> {
    let since = order.since.as_deref().map(Bale::open).transpose()?;
    let mut needed = Needed::of(desk, pins, &order.machines)?;
    let machines = std::mem::take(&mut needed.machines);
    let mut parts = Parts { all: Vec::new() };
    parts.ladder(desk, pins)?;
    let bundles = tempfile::tempdir_in(&desk.surroundings.host.temporary)
        .on("make a folder in", &desk.surroundings.host.temporary)?;
    if !order.without_code {
        parts.code(desk, pins, bundles.path(), observer)?;
    }
    for (platform, program) in &order.programs {
        parts.file(&format!("kladder/{}", platform.replace('/', "-")), program)?;
    }
    if !order.guide.is_empty() {
        parts.bytes("guide.md".to_owned(), order.guide.clone().into_bytes())?;
    }
    if !order.programs.is_empty() {
        parts.bytes("begin".to_owned(), BEGIN.as_bytes().to_vec())?;
    }
    let has = |digest: &Digest| since.iter().any(|bale| bale.index.files.values().any(|one| one.sha256 == *digest));
    let mut seen = BTreeSet::new();
    // In the order of their names: whoever has a path first keeps it. What several names mean is there once.
    needed.all.retain(|(_, digest), _| seen.insert(*digest));
    let (left, taken): (BTreeMap<_, _>, BTreeMap<_, _>) =
        needed.all.into_iter().partition(|((_, digest), _)| has(digest));
    let needed = Needed { machines: Vec::new(), all: taken };
    let cache = needed.bring(desk, observer)?;
    let mut paths = BTreeSet::new();
    let mut member = |Wanted { artifact, of }: &Wanted| {
        let path = in_yard(artifact.file.as_str(), &artifact.sha256, &mut paths);
        (path, Member { size: artifact.size, sha256: artifact.sha256, of: Some(of.join(", ")) })
    };
    for wanted in needed.all.values() {
        let (path, member) = member(wanted);
        let content = Content::File(cache.path(&member.sha256));
        parts.all.push((path, member, content));
    }
    let elsewhere = left.values().map(member).collect();
    parts.all.sort_by(|(one, ..), (other, ..)| one.cmp(other));
    let index = Index {
        kladder: env!("CARGO_PKG_VERSION").to_owned(),
        title: desk.ladder.title.clone(),
        machines,
        volume: order.volume,
        files: parts.all.iter().map(|(path, member, _)| (path.clone(), member.clone())).collect(),
        elsewhere,
    };
    let mut anew = BTreeSet::new();
    let files = loop {
        match write(&order.file, &index, &parts.all, observer) {
            // What the cache has is not what it should be: it is brought anew, once.
            Err(BaleError::OtherBytes(path)) if path.starts_with(cache.folder()) && anew.insert(path.clone()) => {
                files::vanish(&path)?;
                needed.bring(desk, observer)?;
            }
            made => break made?,
        }
    };
    Ok(Made { files, index })
}

/// The path of an artifact in the yard of a bale: its own, or by its digest where that is taken or too long.
fn in_yard(file: &str, digest: &Digest, taken: &mut BTreeSet<String>) -> String {
    let own = [YARD, "/", file].concat();
    let path = if is_path(&own) && !taken.contains(&own) { own } else { [YARD, "/", &digest.to_string()].concat() };
    taken.insert(path.clone());
    path
}

/// What goes into a bale.
struct Parts {
    all: Contents,
}

impl Parts {
    fn bytes(&mut self, path: String, bytes: Vec<u8>) -> Result<(), MakeError> {
        if !is_path(&path) {
            return Err(MakeError::Outside(path));
        }
        let member = Member { size: bytes.len() as u64, sha256: Digest::of(&bytes), of: None };
        self.all.retain(|(there, ..)| *there != path);
        self.all.push((path, member, Content::Bytes(bytes)));
        Ok(())
    }

    fn file(&mut self, path: &str, file: &Path) -> Result<(), MakeError> {
        let (sha256, size) = of_file(file).on("read", file)?;
        self.all.push((path.to_owned(), Member { size, sha256, of: None }, Content::File(file.to_path_buf())));
        Ok(())
    }

    /// The repositories of the ladder's code, each as one file.
    fn code(&mut self, desk: &Desk, pins: &Pins, folder: &Path, observer: &dyn Observer) -> Result<(), MakeError> {
        let site = desk.site(pins);
        let sources = desk.ladder.code.iter().flat_map(|code| &code.sources);
        for (name, source) in sources {
            let CodeSource::Repository { address, .. } = source else { continue };
            let path = bundle_path(address);
            if self.all.iter().any(|(there, ..)| *there == path) {
                continue;
            }
            check_cancelled(observer)?;
            observer.event(&Event::Code { name: name.clone(), from: without_password(address) });
            let file = folder.join(format!("{}.bundle", self.all.len()));
            let made = site.bundle(address, &file, observer);
            check_cancelled(observer)?;
            made.map_err(|why| MakeError::Code { name: name.clone(), why })?;
            self.file(&path, &file)?;
            if let Some((_, member, _)) = self.all.last_mut() {
                member.of = Some("the ladder's code".to_owned());
            }
        }
        Ok(())
    }

    /// The ladder, its pins, what lies beside it, and its catalogs.
    fn ladder(&mut self, desk: &Desk, pins: &Pins) -> Result<(), MakeError> {
        let ladder = &desk.ladder;
        let folder = ladder.path.parent().unwrap_or(Path::new("."));
        self.bytes([LADDER, "/ladder.pinned.toml"].concat(), pins.to_toml().into_bytes())?;
        let locks = ladder.sets.iter().flat_map(LibrarySet::files).map(|file| file.as_str().to_owned());
        let from = ladder.settings.iter().filter_map(|setting| match &setting.content {
            SettingContent::From { path, .. } => Some(path.clone()),
            _ => None,
        });
        for file in locks.chain(from) {
            self.bytes([LADDER, "/", &file].concat(), files::read(&folder.join(&file))?)?;
        }
        let mut named = Vec::new();
        let pinned: BTreeSet<&ToolName> = pins.all().into_iter().map(|(tool, _)| tool).collect();
        for (number, catalog) in desk.surroundings.catalogs_in_use(ladder)?.into_iter().enumerate() {
            named.push(self.catalog(desk, &catalog, number + 1, &pinned)?);
        }
        let text = with_catalogs(&Source::new(&ladder.path, ladder.text.clone()), &named)?;
        self.bytes([LADDER, "/", FILE_NAME].concat(), text.into_bytes())
    }

    /// A catalog, as far as it is needed; returns what the ladder calls it.
    fn catalog(
        &mut self,
        desk: &Desk,
        catalog: &Path,
        number: usize,
        pinned: &BTreeSet<&ToolName>,
    ) -> Result<String, MakeError> {
        if catalog == Path::new(STARTER) {
            return Ok(STARTER.to_owned());
        }
        let (from, into, name) = if let Some(address) = address_of(catalog) {
            let into = format!("{FETCHED}/{}", Digest::of(address.as_bytes()).hex());
            (fetched::kept(address, &desk.surroundings), into, address.to_owned())
        } else {
            let name = format!("{CATALOGS}/{number}");
            (catalog.to_path_buf(), format!("{LADDER}/{name}"), name)
        };
        for entry in walkdir::WalkDir::new(&from).sort_by_file_name() {
            let entry = entry.map_err(io::Error::from).on("read the folder", &from)?;
            let inner = entry.path().strip_prefix(&from).unwrap_or(entry.path());
            let Some(inner) = inner.to_str().filter(|_| entry.file_type().is_file()) else { continue };
            let tool = inner.strip_prefix("tools/").and_then(|name| name.strip_suffix(".toml"));
            let is_needed = match tool {
                Some(tool) => pinned.iter().any(|pinned| ***pinned == *tool),
                None => ["catalog.toml", "licences/", "rehearsals/"].iter().any(|start| inner.starts_with(start)),
            };
            if is_needed {
                self.bytes([into.as_str(), "/", inner].concat(), files::read(entry.path())?)?;
            }
        }
        Ok(name)
    }
}

/// The ladder with other names for its catalogs; everything else in it stays.
fn with_catalogs(source: &Source, named: &[String]) -> Result<String, MakeError> {
    let mut document: DocumentMut = source.text.parse().map_err(|error| MakeError::Ladder(Box::new(error)))?;
    let value: Value = match named {
        [one] => one.as_str().into(),
        several => several.iter().map(String::as_str).collect(),
    };
    if named != [STARTER] {
        document["ladder"]["catalog"] = toml_edit::value(value);
    }
    Ok(document.to_string())
}
