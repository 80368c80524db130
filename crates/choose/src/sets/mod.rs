//! Sets: the libraries of one project, pinned like rungs.
//!
//! A set becomes a tool of a catalog of its own: one release for each minor version of its runtime that its libraries are to be
//! had for, with their files as its artifacts. So everything that holds for rungs (pins, digests, the shelf, landings, `verify`)
//! holds for sets, and the resolver chooses the runtime together with them.
//!
//! ```toml
//! [sets.tides]
//! of = "python"                            # the runtime's tool
//! folder = "env"                            # it is seen there, too, beside the ladder
//! kernel = "Tide tables"                   # notebooks know it by this name
//! wired = true                             # its commands answer where the ladder counts
//! indexes = ["wheels", "harbour"]          # as the settings call them
//! libraries.gauge = ">=2"
//! libraries.tide-table = { version = "1.4", pieces = ["plot"] }
//! devices.graphics = "import gauge; print(*gauge.lamps(), sep='\\n')"   # what they see is held against what there is
//! from.gauge = "harbour"                   # where several indexes have it
//!
//! [sets.buoys]
//! lock = "pylock.toml"                     # or as somebody's lock file has it (PEP 751), beside the ladder
//!
//! [sets.chart]
//! packages.chart = "2.1"                   # packages of Node, chosen from the registry that the settings call `packages`
//! packages."@tide/nail" = ">=3"
//!
//! [sets.site]
//! lock = "package-lock.json"               # or those of a lock file (version 3)
//! unbuilt = ["nail"]                       # which need not run the scripts that they want to be installed by
//! ```

mod define;
mod kernel;
mod lock;
mod markers;
mod metadata;
mod packages;
mod resolve;
mod tags;
mod wished;

use std::collections::BTreeMap;

pub use define::{SetError, Without, definition, interpreters};
pub use kernel::kernel_rehearsal;
pub use lock::{Library, Lock, LockError, Wheel, normalised};
pub use metadata::Metadata;
pub use packages::{
    ListedPackage, PACKAGES, Package, PackageRelease, PackageSays, PackageWish, Packages, PackagesError, Registry, Sum,
    Sums, SumsFile, choose_packages,
};
pub use pep508_rs::pep440_rs::Version as LibraryVersion;
pub use resolve::{
    Catalogue, LibraryClash, LibraryRelease, NeedsThere, NotChosen, Offered, OnOffer, Wanting, WayOut, choose,
};
use serde::Deserialize;
pub use tags::{Interpreter, Tag};
use toml::Spanned;
pub use wished::{Libraries, LibraryWish, OF_CATALOGS};

use crate::catalog::Devices;
use crate::digest::{Canonical, Digest};
use crate::document::{DocumentError, Place, Source};
use crate::names::ToolName;
use crate::path::InnerPath;

/// A set, as a ladder wants it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LibrarySet {
    /// Its name, which its rung has too.
    pub name: ToolName,
    /// The tool that is its runtime.
    pub of: ToolName,
    /// The file that says which libraries at which versions, below the ladder's folder.
    pub lock: InnerPath,
    /// The packages that it has in the place of libraries.
    pub packages: Option<PackageSet>,
    /// The libraries that the lock file is made from; `None` where it is somebody else's.
    pub libraries: Option<Libraries>,
    /// What the lock file holds, or will hold, where it is written here, once that is known.
    pub locked: Option<String>,
    /// Whether its commands answer where the ladder counts; where it is not said, the only set of a runtime does.
    pub wired: Option<bool>,
    /// Where in the project's folder it should be seen.
    pub folder: Option<InnerPath>,
    /// What notebooks call it, where they should know it.
    pub kernel: Option<String>,
    /// What its libraries say of devices: by kind a program of its runtime that prints a line for each one that they see.
    pub devices: Vec<(Devices, String)>,
    /// Where its name stands in the ladder.
    pub place: Place,
}

/// Packages of a set.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PackageSet {
    /// Their lock file, below the ladder's folder.
    pub lock: InnerPath,
    /// Those whose scripts need not be run.
    pub unbuilt: Vec<String>,
    /// Those that the lock file is made from; `None` where it is somebody else's.
    pub wanted: Option<Vec<PackageWish>>,
    /// What the lock file holds, or will hold, where it is written here, once that is known.
    pub locked: Option<String>,
}

impl PackageSet {
    /// A digest of what they are chosen by, for versions of their runtime.
    pub fn wishes(&self, of: &ToolName, runtime: &str) -> Option<Digest> {
        let mut digest =
            Canonical::new("kladder packages wished", 1).field("of", of.as_str()).field("runtime", runtime);
        for wish in self.wanted.as_ref()? {
            digest = digest.field("package", &wish.name).field("versions", &wish.versions);
        }
        Some(digest.finish())
    }
}

impl LibrarySet {
    /// The files beside the ladder that say what it has.
    pub fn files(&self) -> impl Iterator<Item = &InnerPath> {
        std::iter::once(&self.lock).chain(self.packages.iter().map(|packages| &packages.lock))
    }

    /// The files beside the ladder that are written here, with what they hold or will hold.
    pub fn written(&self) -> impl Iterator<Item = (&InnerPath, &str)> {
        let packages = self.packages.iter().map(|own| (&own.lock, own.locked.as_deref()));
        let all = std::iter::once((&self.lock, self.locked.as_deref())).chain(packages);
        all.filter_map(|(file, text)| Some((file, text?)))
    }

    /// What the ladder says of one of its libraries, where it wishes for that itself.
    pub fn wish(&self, library: &str) -> Option<&str> {
        let packages = self.packages.iter().flat_map(|own| &own.wanted).flatten();
        let packages = packages.map(|wish| (&wish.name, &wish.written));
        let libraries = self.libraries.iter().flat_map(|own| &own.wishes).map(|wish| (&wish.name, &wish.written));
        libraries.chain(packages).find(|(name, _)| *name == library).map(|(_, written)| written.as_str())
    }

    /// A digest of what its libraries are chosen by: wishes, indexes, and the runtimes that they are for.
    pub fn wishes(&self, platforms: &[Interpreter]) -> Option<Digest> {
        let Libraries { wishes, indexes, from } = self.libraries.as_ref()?;
        let mut digest = Canonical::new("kladder libraries", 1).field("of", self.of.as_str()).list("indexes", indexes);
        for wish in wishes {
            digest = digest.field("library", &wish.name).field("versions", wish.versions.to_string());
            digest = digest.list("pieces", &wish.pieces);
        }
        for (library, index) in from {
            digest = digest.field("from", library).field("index", index);
        }
        for Interpreter { platform, has, .. } in platforms {
            digest = digest.field("platform", platform.as_str()).field("has", format!("{has:?}"));
        }
        Some(digest.finish())
    }
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct SetForm {
    of: Option<ToolName>,
    lock: Option<InnerPath>,
    #[serde(default)]
    unbuilt: Vec<String>,
    libraries: Option<wished::WishForms>,
    packages: Option<packages::PackageForms>,
    indexes: Option<Vec<String>>,
    #[serde(default)]
    from: BTreeMap<Spanned<String>, String>,
    wired: Option<bool>,
    kernel: Option<String>,
    folder: Option<InnerPath>,
    #[serde(default)]
    devices: BTreeMap<Spanned<String>, String>,
}

impl SetForm {
    /// The set that stands there under a name.
    pub(crate) fn named(
        mut self,
        name: ToolName,
        source: &Source,
        span: std::ops::Range<usize>,
    ) -> Result<LibrarySet, DocumentError> {
        let wrong = |message: &str| Err(source.invalid(span.clone(), message));
        if self.kernel.as_ref().is_some_and(|shown| shown.trim().is_empty() || shown.contains(char::is_control)) {
            return wrong("`kernel` is what notebooks show: a few words in one line");
        }
        let mut devices = Vec::new();
        for (kind, program) in std::mem::take(&mut self.devices) {
            let kind = Devices::try_from(kind.get_ref().clone()).map_err(|why| source.invalid(kind.span(), why))?;
            devices.push((kind, program));
        }
        let is_of_packages = |lock: &InnerPath| lock.as_str().rsplit('.').next() == Some("json");
        if self.packages.is_some() || self.lock.as_ref().is_some_and(is_of_packages) {
            if self.kernel.is_some() || !devices.is_empty() {
                return wrong(OF_PACKAGES);
            }
            return self.of_packages(name, source, span);
        }
        if !self.unbuilt.is_empty() {
            return wrong("`unbuilt` goes with packages");
        }
        let is_plain = self.indexes.is_none() && self.from.is_empty();
        let (lock, libraries) = match (self.lock, self.libraries) {
            (Some(lock), None) if is_plain => (lock, None),
            (Some(_), None) => return wrong("a lock file says itself where its libraries come from"),
            (None, Some(forms)) if !forms.is_empty() => {
                let libraries = Libraries::read(source, forms, self.indexes, self.from)?;
                let file = format!("pylock.{name}.toml");
                (
                    InnerPath::new(&file).map_err(|_| source.invalid(span.clone(), "it cannot be called so"))?,
                    Some(libraries),
                )
            }
            (Some(_), Some(_)) => return wrong("either `libraries` or `lock` says which libraries it has"),
            (None, _) => return wrong("which libraries has it? `libraries` or `lock` says so"),
        };
        Ok(LibrarySet {
            name,
            of: self.of.unwrap_or_else(|| plain("python")),
            lock,
            packages: None,
            libraries,
            locked: None,
            wired: self.wired,
            kernel: self.kernel,
            folder: self.folder,
            devices,
            place: source.place(span),
        })
    }

    /// The set of packages that stands there.
    fn of_packages(
        self,
        name: ToolName,
        source: &Source,
        span: std::ops::Range<usize>,
    ) -> Result<LibrarySet, DocumentError> {
        let wrong = |message: &str| Err(source.invalid(span.clone(), message));
        if self.libraries.is_some() || self.indexes.is_some() || !self.from.is_empty() {
            return wrong(OF_PACKAGES);
        }
        let beside =
            |file: &str| InnerPath::new(file).map_err(|_| source.invalid(span.clone(), "it cannot be called so"));
        let (lock, wanted) = match (self.lock, self.packages) {
            (Some(lock), None) => (lock, None),
            (None, Some(forms)) if !forms.is_empty() => {
                (beside(&format!("package-lock.{name}.json"))?, Some(packages::wishes(source, forms)?))
            }
            (None, _) => return wrong("which packages has it? `packages` or `lock` says so"),
            (Some(_), Some(_)) => return wrong("either `packages` or `lock` says which packages it has"),
        };
        Ok(LibrarySet {
            of: self.of.unwrap_or_else(|| plain("node")),
            lock: beside(&format!("sums.{name}.toml"))?,
            name,
            packages: Some(PackageSet { lock, unbuilt: self.unbuilt, wanted, locked: None }),
            libraries: None,
            locked: None,
            wired: self.wired,
            kernel: None,
            folder: self.folder,
            devices: Vec::new(),
            place: source.place(span),
        })
    }
}

/// What a set of packages may say.
const OF_PACKAGES: &str =
    "a set of packages has `of`, `packages` or `lock`, `unbuilt`, `folder` and `wired`, and nothing else";

/// The name of a runtime whose libraries are known by an open lock file.
fn plain(name: &'static str) -> ToolName {
    name.parse().expect("a plain name")
}
