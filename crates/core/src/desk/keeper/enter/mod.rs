//! A release that a definition lacks: its files are found as those of the newest one there were, hashed, and written down.

mod alike;

use std::collections::BTreeMap;

use kladder_choose::catalog::{CatalogError, Definition, Origin, Piece, Published};
use kladder_choose::digest::Digest;
use kladder_choose::document::Source as Text;
use kladder_choose::version::Version;
use toml_edit::{DocumentMut, Item, Table};

use self::alike::{even, expected, front_of, is_of, is_packaged_later, renamed};
use super::block::{FileBlock, PieceBlock, inserted, release};
use super::metadata::{Needed, in_wheel, needed};
use super::names::{OF_ONE_INTERPRETER, fit, is_preview};
use super::{OnFile, Source, sources, version_of};
use crate::base::event::Observer;
use crate::bring::fetch::{Cache, Network, UnknownError, receive};
use crate::bring::index::{IndexError, Listed};

/// Packages that only a system's own package manager has a use for.
const OF_THE_SYSTEM: [&str; 16] = [
    "adduser",
    "base-files",
    "cdebconf",
    "debconf",
    "debconf-2.0",
    "debianutils",
    "dpkg",
    "gcc-12-base",
    "init-system-helpers",
    "install-info",
    "lsb-base",
    "media-types",
    "mime-support",
    "passwd",
    "sensible-utils",
    "ucf",
];

/// Files that one needs beside itself; whoever lists more does not mean it.
const MOST_NEEDED: usize = 500;

/// Why a release was not entered.
#[derive(Debug, thiserror::Error)]
pub enum EnterError {
    /// Neither an index nor an earlier release says where its files could be.
    #[error("nothing says where files of {tool} are")]
    NoSource {
        /// The tool.
        tool: String,
    },
    /// No file of that version is there.
    #[error("no file of {tool} {version} is there that could be taken")]
    NoFile {
        /// The tool.
        tool: String,
        /// The version.
        version: String,
        /// Versions that are there, newest first.
        there: Vec<String>,
    },
    /// An index could not be asked.
    #[error(transparent)]
    Index(#[from] IndexError),
    /// A file could not be received.
    #[error(transparent)]
    Receive(#[from] UnknownError),
    /// The definition cannot be added to, or would be wrong with the release in it.
    #[error("the release cannot be written into {path}")]
    Written {
        /// The definition.
        path: String,
        /// What is wrong.
        source: Box<CatalogError>,
    },
    /// Its releases are not written so that one can be put beside them.
    #[error("{path} writes its releases in one line; write them as `[[releases]]`")]
    InOneLine {
        /// The definition.
        path: String,
    },
}

/// With what a release is entered.
#[derive(Clone, Copy)]
pub struct Entering<'e> {
    /// The way to indexes and makers.
    pub network: &'e Network,
    /// Where files are kept.
    pub cache: &'e Cache,
    /// An index's word on a digest is enough: nothing is fetched where it lists one.
    pub as_listed: bool,
    /// Who looks on.
    pub observer: &'e dyn Observer,
}

/// A file that was entered.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct EnteredFile {
    /// For which platforms.
    pub scopes: Vec<String>,
    /// Its name.
    pub file: String,
    /// Bytes.
    pub size: u64,
    /// Its digest.
    pub sha256: Digest,
    /// Its bytes were received and hashed here.
    pub hashed: bool,
}

/// What came of it.
#[derive(Clone, Debug, Default)]
pub struct Entered {
    /// The definition's new text; `None` where the release is there already.
    pub text: Option<String>,
    /// What is new in it.
    pub block: String,
    /// The files, with those that belong to them.
    pub files: Vec<EnteredFile>,
    /// Platforms that the newest release has a file for, and this one has not.
    pub missing: Vec<String>,
}

/// Enters a release of a version into a definition; nothing is written yet.
///
/// # Errors
/// [`EnterError`].
pub fn enter(on_file: &OnFile, version: &Version, entering: Entering<'_>) -> Result<Entered, EnterError> {
    let OnFile { definition, text, path } = on_file;
    if definition.release(version).is_some() {
        return Ok(Entered::default());
    }
    let shown = path.display().to_string();
    let document: DocumentMut = text.parse().map_err(|_| EnterError::InOneLine { path: shown.clone() })?;
    let written = document.get("releases");
    if written.is_some_and(|item| item.as_array_of_tables().is_none()) {
        return Err(EnterError::InOneLine { path: shown });
    }
    let mut work =
        Work { definition, version, entering, listed: BTreeMap::new(), entered: Entered::default(), date: None };
    let newest = definition.releases.iter().find(|release| !release.artifacts.is_empty());
    let old = newest.and_then(|newest| table_of(&document, newest.version.as_str()));
    let blocks = match (newest, old) {
        (Some(newest), Some(old)) => work.like(&newest.artifacts, old)?,
        _ => work.anew()?,
    };
    if blocks.is_empty() {
        let (tool, version, there) = (definition.tool.to_string(), version.to_string(), work.there());
        return Err(EnterError::NoFile { tool, version, there });
    }
    let more = old.map(|old| kept(old, &["version", "date", "said", "artifacts", "pieces"])).unwrap_or_default();
    let is_series = |line: &String| line.starts_with("series");
    let more: Vec<String> = more.into_iter().filter(|line| !(is_preview(version) && is_series(line))).collect();
    let pieces = match (newest, old) {
        (Some(newest), Some(old)) => work.pieces(&newest.pieces, old)?,
        _ => Vec::new(),
    };
    let block = release(version.as_str(), work.date.as_deref(), &more, &blocks, &pieces);
    let new = inserted(text, &block, place(on_file, version));
    let source = Text::new(path, new.clone());
    Definition::parse(&source, definition.tool.as_str())
        .map_err(|source| EnterError::Written { path: shown, source: Box::new(source) })?;
    Ok(Entered { text: Some(new), block, ..work.entered })
}

/// Where the first release begins that is older, in the order of the file.
fn place(OnFile { definition, text, .. }: &OnFile, version: &Version) -> Option<usize> {
    let starts: Vec<usize> =
        text.match_indices("[[releases]]").map(|(at, _)| at).filter(|at| is_line(text, *at)).collect();
    let is_older = |at: &usize| {
        let rest = &text[*at..];
        let told = rest.lines().find_map(|line| line.trim().strip_prefix("version")?.trim_start().strip_prefix('='));
        let told = told.and_then(|value| value.trim().trim_matches(['"', '\'']).parse::<Version>().ok());
        told.is_none_or(|told| definition.scheme.compare(&told, version).is_lt())
    };
    starts.into_iter().find(is_older)
}

fn is_line(text: &str, at: usize) -> bool {
    text[..at].rsplit('\n').next().is_some_and(|front| front.trim().is_empty())
}

/// The table of a release.
fn table_of<'d>(document: &'d DocumentMut, version: &str) -> Option<&'d Table> {
    let all = document.get("releases")?.as_array_of_tables()?;
    all.iter().find(|table| table.get("version").and_then(Item::as_str) == Some(version))
}

/// The lines of a table but those of some keys.
fn kept(table: &dyn toml_edit::TableLike, but: &[&str]) -> Vec<String> {
    let each = table.iter().filter(|(key, _)| !but.contains(key));
    let line = |(key, item): (&str, &Item)| {
        let mut value = item.clone().into_value().ok()?;
        value.decor_mut().clear();
        Some(format!("{key} = {}", value.to_string().trim()))
    };
    each.filter_map(line).collect()
}

/// The tables in a list, however it is written.
fn tables(item: Option<&Item>) -> Vec<&dyn toml_edit::TableLike> {
    match item {
        Some(Item::ArrayOfTables(all)) => all.iter().map(|table| table as &dyn toml_edit::TableLike).collect(),
        Some(Item::Value(toml_edit::Value::Array(all))) => {
            all.iter().filter_map(|value| Some(value.as_inline_table()? as &dyn toml_edit::TableLike)).collect()
        }
        _ => Vec::new(),
    }
}

struct Work<'w> {
    definition: &'w Definition,
    version: &'w Version,
    entering: Entering<'w>,
    listed: BTreeMap<(String, String), Vec<Listed>>,
    entered: Entered,
    date: Option<String>,
}

impl Work<'_> {
    /// What versions there are, newest first.
    fn there(&self) -> Vec<String> {
        let mut all: Vec<Version> = self.listed.values().flatten().filter_map(version_of).collect();
        all.sort_by(|a, b| self.definition.scheme.compare(b, a));
        all.dedup();
        all.iter().take(8).map(ToString::to_string).collect()
    }

    fn list(&mut self, index: &str, project: &str) -> Result<&[Listed], EnterError> {
        let key = (index.to_owned(), project.to_owned());
        if !self.listed.contains_key(&key) {
            let source = Source { index: key.0.clone(), project: key.1.clone(), scopes: Vec::new() };
            self.listed.insert(key.clone(), source.listed(self.entering.network)?);
        }
        Ok(&self.listed[&key])
    }

    /// Files for whatever platforms there are.
    fn anew(&mut self) -> Result<Vec<FileBlock>, EnterError> {
        let all = sources(self.definition, self.version);
        if all.is_empty() {
            return Err(EnterError::NoSource { tool: self.definition.tool.to_string() });
        }
        let mut best: BTreeMap<String, (u32, Listed)> = BTreeMap::new();
        for source in all {
            let version = self.version;
            let scheme = self.definition.scheme;
            for file in self.list(&source.index, &source.project)? {
                let Some(fit) = fit(&file.file).filter(|_| is_of(scheme, file, version) && !file.withdrawn) else {
                    continue;
                };
                // What an origin for one platform lists is for that platform, whatever it is called.
                let scope = match source.scopes.as_slice() {
                    [] => fit.scope,
                    [one, ..] => one.to_string(),
                };
                let is_better = best.get(&scope).is_none_or(|(rank, known)| {
                    fit.rank < *rank || (fit.rank == *rank && is_packaged_later(file, known))
                });
                if is_better {
                    best.insert(scope, (fit.rank, file.clone()));
                }
            }
        }
        // What is built for one version of an interpreter is not wanted where something runs everywhere; that in turn only where
        // nothing is built for a platform.
        let runs_everywhere = best.get("any").is_some_and(|(rank, _)| *rank < OF_ONE_INTERPRETER);
        best.retain(|_, (rank, _)| !runs_everywhere || *rank < OF_ONE_INTERPRETER);
        if best.len() > 1 && self.definition.says.unpack.is_none() {
            best.remove("any");
        }
        let mut blocks = Vec::new();
        for (scope, (_, file)) in best {
            let block = self.block(vec![scope.clone()], &file, Vec::new())?;
            blocks.push(FileBlock { also: self.what_it_needs(&file, &scope)?, ..block });
        }
        Ok(blocks)
    }

    /// What a file cannot do without, as far as its index or its maker says so: each with where it is listed.
    fn what_it_needs(&mut self, file: &Listed, scope: &str) -> Result<Vec<FileBlock>, EnterError> {
        let (is_wheel, is_package) = (file.is_wheel(), file.is_package());
        let Some(source) = sources(self.definition, self.version).into_iter().next().filter(|_| is_wheel || is_package)
        else {
            return Ok(Vec::new());
        };
        let (mut wanted, mut seen, mut also) = (self.needs_of(file), std::collections::BTreeSet::new(), Vec::new());
        seen.insert(source.project.to_lowercase().replace('_', "-"));
        while let Some(Needed { project, versions }) = wanted.pop() {
            // Some write one name in several ways.
            let is_new = seen.insert(project.to_lowercase().replace('_', "-"));
            if OF_THE_SYSTEM.contains(&project.as_str()) || !is_new || also.len() >= MOST_NEEDED {
                continue;
            }
            let does = |one: &&Listed| {
                let fits = fit(&one.file).is_some_and(|fit| [scope, "linux", "any"].contains(&fit.scope.as_str()));
                let version = version_of(one);
                let will = version.as_ref().is_some_and(|it| versions.as_ref().is_none_or(|range| range.allows(it)));
                fits && !one.withdrawn && (is_package || (will && !version.as_ref().is_some_and(is_preview)))
            };
            let list = match self.list(&source.index, &project) {
                Ok(list) => list,
                // A name that several packages provide is nobody's own.
                Err(EnterError::Index(IndexError::NoSuch { .. })) => {
                    self.entered.missing.push(project);
                    continue;
                }
                Err(error) => return Err(error),
            };
            let newest = |best: Listed, one: Listed| {
                let rank = |file: &Listed| fit(&file.file).map_or(u32::MAX, |fit| fit.rank);
                let same = one.version == best.version;
                if is_packaged_later(&one, &best) || (same && rank(&one) < rank(&best)) { one } else { best }
            };
            match list.iter().filter(does).cloned().reduce(newest) {
                Some(one) => {
                    wanted.extend(self.needs_of(&one));
                    let origin = format!("origins = [\"index:{}/{project}\"]", source.index);
                    also.push(self.block(Vec::new(), &one, vec![origin])?);
                }
                None => self.entered.missing.push(project),
            }
        }
        also.sort_by(|a, b| a.file.cmp(&b.file));
        Ok(also)
    }

    /// What a file needs, as its index lists it or, for a wheel, as the text beside it says.
    fn needs_of(&self, file: &Listed) -> Vec<Needed> {
        if file.is_wheel() {
            // An index need not have it; then the keeper has to see what is missing.
            return self.metadata(file).map(|text| needed(&text)).unwrap_or_default();
        }
        file.depends.iter().map(|name| Needed { project: name.clone(), versions: None }).collect()
    }

    /// The text in which a wheel says what it is: as its index has it, or out of the wheel.
    fn metadata(&self, file: &Listed) -> Option<String> {
        let Entering { network, cache, observer, .. } = self.entering;
        network.beside(file, ".metadata").or_else(|| {
            let (digest, _) = receive(file, cache, network, observer).ok()?;
            in_wheel(&cache.path(&digest))
        })
    }

    /// Files like those of another release.
    fn like(&mut self, artifacts: &[Published], old: &dyn toml_edit::TableLike) -> Result<Vec<FileBlock>, EnterError> {
        let written = tables(old.get("artifacts"));
        let mut blocks = Vec::new();
        for (at, artifact) in artifacts.iter().enumerate() {
            let scopes: Vec<String> = artifact.scopes.iter().map(ToString::to_string).collect();
            let Some(file) = self.counterpart(artifact, &scopes, true)? else {
                self.entered.missing.extend(scopes);
                continue;
            };
            let table = written.get(at);
            let more = table.map(|table| own_lines(*table)).unwrap_or_default();
            let below = table.map(|table| tables(table.get("also"))).unwrap_or_default();
            let mut block = self.block(scopes.clone(), &file, more)?;
            for (at, further) in artifact.also.iter().enumerate() {
                let more = below.get(at).map(|table| own_lines(*table)).unwrap_or_default();
                match self.counterpart(further, &scopes, false)? {
                    Some(file) => block.also.push(self.block(Vec::new(), &file, more)?),
                    None => self.entered.missing.push(further.file.to_string()),
                }
            }
            blocks.push(block);
        }
        Ok(blocks)
    }

    /// The pieces of another release, with files of this one. A piece of which there is no file is left out.
    fn pieces(&mut self, pieces: &BTreeMap<String, Piece>, old: &Table) -> Result<Vec<PieceBlock>, EnterError> {
        let written = old.get("pieces").and_then(Item::as_table_like);
        let mut blocks = Vec::new();
        for (name, piece) in pieces {
            let Some(table) = written.and_then(|all| all.get(name)).and_then(Item::as_table_like) else { continue };
            let missing = self.entered.missing.len();
            let files = self.like(&piece.artifacts, table)?;
            for scope in &mut self.entered.missing[missing..] {
                *scope = format!("{name} for {scope}");
            }
            if !files.is_empty() || piece.artifacts.is_empty() {
                blocks.push(PieceBlock { name: name.clone(), more: kept(table, &["artifacts"]), files });
            }
        }
        Ok(blocks)
    }

    /// The file that stands where an old one did: of this version, or for what belongs to it the newest there is.
    fn counterpart(&mut self, old: &Published, scopes: &[String], own: bool) -> Result<Option<Listed>, EnterError> {
        let (version, scheme) = (self.version, self.definition.scheme);
        let platform = scopes.first().cloned().unwrap_or_else(|| "any".to_owned());
        for origin in old.said_origins().iter().filter(|origin| origin.is_asked()) {
            let Some((index, project)) = origin.listed(version) else {
                return Ok(own.then(|| renamed(origin, old, self.definition, version, &platform)).flatten());
            };
            let said_for_one = self_scoped(self.definition, &index, &project);
            let is_wanted = |scope: &str| {
                let is_common = (scope == "linux" && platform.starts_with("linux")) || (!own && scope == "any");
                said_for_one || is_common || scopes.iter().any(|one| one == scope) || scopes.is_empty()
            };
            let fits = |file: &&Listed| {
                let is_version = !own || is_of(scheme, file, version);
                !file.withdrawn && is_version && fit(&file.file).is_some_and(|fit| is_wanted(&fit.scope))
            };
            // Of several files of one version the one that is called likewise, up to the version at least.
            let front = front_of(old, self.definition).filter(|_| own).map(even);
            let is_alike = |file: &&Listed| front.as_ref().is_none_or(|front| even(&file.file).starts_with(front));
            let expected = expected(old, self.definition, version).filter(|_| own);
            let list = self.list(&index, &project)?;
            if let Some(file) = list.iter().filter(fits).find(|file| expected.as_ref() == Some(&file.file)) {
                return Ok(Some(file.clone()));
            }
            let best = list.iter().filter(fits).filter(is_alike).cloned().reduce(|best, file| {
                let rank = |file: &Listed| fit(&file.file).map_or(u32::MAX, |fit| fit.rank);
                let newer = !own && is_packaged_later(&file, &best);
                let same =
                    own && (rank(&file) < rank(&best) || rank(&file) == rank(&best) && is_packaged_later(&file, &best));
                if newer || same { file } else { best }
            });
            if best.is_some() {
                return Ok(best);
            }
        }
        Ok(None)
    }

    fn block(&mut self, scopes: Vec<String>, file: &Listed, more: Vec<String>) -> Result<FileBlock, EnterError> {
        let Entering { network, cache, as_listed, observer } = self.entering;
        let told = file.sha256().zip(file.size).filter(|_| as_listed);
        let (sha256, size) = match told {
            Some(told) => told,
            None => receive(file, cache, network, observer)?,
        };
        let hashed = told.is_none();
        self.date = self.date.take().or_else(|| file.date.clone());
        self.entered.files.push(EnteredFile { scopes: scopes.clone(), file: file.file.clone(), size, sha256, hashed });
        Ok(FileBlock { scopes, file: file.file.clone(), size, sha256, more, also: Vec::new() })
    }
}

/// Whether an origin stands in a block for one platform, so that its files are for that one whatever they are called.
fn self_scoped(definition: &Definition, index: &str, project: &str) -> bool {
    let is_it = |origin: &Origin| origin.is_listed_as(index, project);
    definition.also.iter().any(|block| !block.when.on.is_empty() && block.says.origins.iter().any(is_it))
}

fn own_lines(table: &dyn toml_edit::TableLike) -> Vec<String> {
    kept(table, &["for", "file", "size", "sha256", "unpacked", "also"])
}
