//! From an entry's name to its path: what is left out, stripped, moved. Pure; nothing here asks the file system.
//!
//! In this order: the name is taken apart at its slashes and refused unless all parts are plain; the leading folders that
//! the definition strips are left out; what it leaves out is left out, patterns being held against the path and every folder
//! above it; the longest rule of `move` that fits is applied.

use std::collections::BTreeSet;
use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};

use globset::{GlobBuilder, GlobSet, GlobSetBuilder};

use super::Refusal;
use kladder_choose::catalog::{AbsoluteLinks, Artifact, Layout, Unpacking};

/// A name may have this many bytes: what the common file systems take.
const LONGEST_NAME: usize = 255;
/// A path may have this many bytes; the folder above it needs some of the 4096 that systems take.
const LONGEST_PATH: usize = 3072;

/// A name or target for a message, cut where it is longer than anybody reads.
pub(super) fn shown(name: &[u8]) -> String {
    const MOST: usize = 300;
    let cut = if name.len() > MOST { "…" } else { "" };
    String::from_utf8_lossy(&name[..name.len().min(MOST)]).into_owned() + cut
}

/// A pattern that is none.
#[derive(Debug)]
pub(super) struct NoPattern {
    pub(super) pattern: String,
    pub(super) source: globset::Error,
}

/// How the names of one archive become paths.
#[derive(Default)]
pub(super) struct Naming {
    layout: Option<Layout>,
    into: PathBuf,
    strip: usize,
    moves: Vec<(PathBuf, PathBuf)>,
    out: GlobSet,
    runs: GlobSet,
    depth: usize,
    pub(super) absolute: AbsoluteLinks,
    pub(super) case_clashes: bool,
}

/// Where the names of an artifact lead.
pub(in crate::bring) struct Placing(Naming);

impl Placing {
    /// Those of an artifact; `None` where its patterns are none.
    pub(in crate::bring) fn of(artifact: &Artifact) -> Option<Self> {
        Naming::new(&artifact.unpack, artifact.layout(), DEEPEST).ok().map(Self)
    }

    /// The path of a file; `None` for what is left out, or refused.
    pub(in crate::bring) fn place(&self, raw: &[u8]) -> Option<PathBuf> {
        self.0.place(raw).ok().flatten()
    }
}

impl Naming {
    pub(super) fn new(unpacking: &Unpacking, layout: Layout, depth: usize) -> Result<Self, NoPattern> {
        let mut moves: Vec<_> =
            unpacking.moves.iter().map(|(from, to)| (from.as_str().into(), to.as_str().into())).collect();
        // The longest one that fits applies.
        moves.sort_by_key(|(from, _): &(PathBuf, PathBuf)| std::cmp::Reverse(from.components().count()));
        Ok(Self {
            layout: Some(layout),
            into: unpacking.into.as_ref().map(|into| into.as_str().into()).unwrap_or_default(),
            strip: unpacking.strip,
            moves,
            out: patterns(&unpacking.leave_out)?,
            runs: patterns(&unpacking.executable)?,
            depth,
            absolute: unpacking.absolute_links,
            case_clashes: unpacking.case_clashes,
        })
    }

    /// Whether the definition says that a file may be run.
    pub(super) fn runs(&self, path: &Path) -> bool {
        let is_script = self.layout == Some(Layout::Wheel) && path.starts_with(self.into.join("bin"));
        is_script || self.runs.is_match(path)
    }

    /// The path of a file or link; `None` for what the definition leaves out.
    pub(super) fn place(&self, raw: &[u8]) -> Result<Option<PathBuf>, Refusal> {
        let named = self.path(raw)?;
        if named.is_none() && self.is_left_out(raw) {
            return Ok(None);
        }
        let path = named.ok_or_else(|| self.stripped(&Tops::default()))?;
        Ok(self.kept(&path).then(|| self.moved(&path)))
    }

    /// Whether the layout has no place for a name.
    fn is_left_out(&self, raw: &[u8]) -> bool {
        laid_out(self.layout, plain_names(raw)).is_empty() && !plain_names(raw).is_empty()
    }

    /// The refusal of what vanishes, where an archive's names are these.
    pub(super) fn stripped(&self, tops: &Tops) -> Refusal {
        let (top, fits) =
            (tops.names.iter().map(|name| shown(name)).collect(), tops.shared.as_ref().map_or(0, Vec::len));
        Refusal::Stripped { strip: self.strip, top, fits: fits.min(self.strip) }
    }

    /// The path of a folder; `None` for what is left out or stripped away altogether, which is no loss.
    pub(super) fn folder(&self, raw: &[u8]) -> Result<Option<PathBuf>, Refusal> {
        let path = self.path(raw)?.filter(|path| self.kept(path));
        Ok(path.map(|path| self.moved(&path)).filter(|path| !path.as_os_str().is_empty()))
    }

    fn kept(&self, path: &Path) -> bool {
        !path.ancestors().any(|path| self.out.is_match(path))
    }

    fn moved(&self, path: &Path) -> PathBuf {
        let moved = self.moves.iter().find_map(|(from, to)| Some((to, path.strip_prefix(from).ok()?)));
        let moved =
            moved.map_or_else(|| path.to_path_buf(), |(to, rest)| to.components().chain(rest.components()).collect());
        self.into.join(moved)
    }

    /// The plain path below the root after stripping; `None` when nothing is left.
    fn path(&self, raw: &[u8]) -> Result<Option<PathBuf>, Refusal> {
        if raw.starts_with(b"/") {
            return Err(Refusal::Absolute);
        }
        if raw.is_empty() || raw.contains(&0) {
            return Err(Refusal::NoPath);
        }
        let names = plain_names(raw);
        if names.contains(&b"..".as_slice()) {
            return Err(Refusal::Climbs);
        }
        if names.len() > self.depth {
            return Err(Refusal::Limit(format!("{} folders", self.depth)));
        }
        if names.iter().any(|name| name.len() > LONGEST_NAME) {
            return Err(Refusal::Limit(format!("{LONGEST_NAME} bytes in a name")));
        }
        if raw.len() > LONGEST_PATH {
            return Err(Refusal::Limit(format!("{LONGEST_PATH} bytes in a path")));
        }
        let names = laid_out(self.layout, names);
        let kept: PathBuf = names.iter().skip(self.strip).map(|name| OsStr::from_bytes(name)).collect();
        Ok((!kept.as_os_str().is_empty()).then_some(kept))
    }
}

/// The names as a layout has them. What a wheel says goes elsewhere lies in `NAME-VERSION.data/WHERE`.
fn laid_out(layout: Option<Layout>, names: Vec<&[u8]>) -> Vec<&[u8]> {
    match (layout, names.as_slice()) {
        (Some(Layout::Npm), [b"package", rest @ ..]) => rest.to_vec(),
        (Some(Layout::Wheel), [top, rest @ ..]) if top.ends_with(b".data") => match rest {
            [b"scripts", rest @ ..] => [&[b"bin".as_slice()], rest].concat(),
            [b"headers", rest @ ..] => [&[b"include".as_slice()], rest].concat(),
            [b"purelib" | b"platlib", rest @ ..] => [&[b"site".as_slice()], rest].concat(),
            [b"data", rest @ ..] => rest.to_vec(),
            _ => Vec::new(),
        },
        (Some(Layout::Wheel), names) => [&[b"site".as_slice()], names].concat(),
        (Some(Layout::Debian), names) => debian(names),
        _ => names,
    }
}

/// The names of a Debian package.
fn debian<'n>(names: &[&'n [u8]]) -> Vec<&'n [u8]> {
    const DOCUMENTS: [&[u8]; 6] = [b"doc", b"man", b"info", b"lintian", b"doc-base", b"bug"];
    let is_loader = |name: &[u8]| name.starts_with(b"ld-") && name.windows(4).any(|part| part == b".so.");
    let names = if let [b"usr", rest @ ..] = names { rest } else { names };
    match names {
        [b"lib64", ..] => Vec::new(),
        [b"share", b"doc", .., b"copyright"] => names.to_vec(),
        [b"share", kind, ..] if DOCUMENTS.contains(kind) => Vec::new(),
        [b"lib", b"x86_64-linux-gnu" | b"aarch64-linux-gnu", rest @ ..] => match rest {
            [name] if is_loader(name) => vec![b"libs", b"ld.so"],
            rest => [&[b"libs".as_slice()], rest].concat(),
        },
        names => names.to_vec(),
    }
}

/// Folders above a file that is looked for; what was unpacked is no deeper.
const DEEPEST: usize = 1_000;

/// Names at the top that are told.
const TOP: usize = 5;

/// What stands at an archive's top, and the folders that everything in it has above it.
#[derive(Default)]
pub(super) struct Tops {
    names: BTreeSet<Vec<u8>>,
    shared: Option<Vec<Vec<u8>>>,
}

impl Tops {
    /// Takes note of a file or link.
    pub(super) fn see(&mut self, raw: &[u8]) {
        let names = plain_names(raw);
        let Some((_, above)) = names.split_last() else { return };
        match &mut self.shared {
            None => self.shared = Some(above.iter().map(|name| name.to_vec()).collect()),
            Some(shared) => {
                let same = shared.iter().zip(above).take_while(|(one, other)| one.as_slice() == **other).count();
                shared.truncate(same);
            }
        }
        if self.names.len() < TOP && !self.names.contains(names[0]) {
            self.names.insert(names[0].to_vec());
        }
    }
}

/// The names between the slashes, without those that say nothing.
fn plain_names(raw: &[u8]) -> Vec<&[u8]> {
    raw.split(|&byte| byte == b'/').filter(|name| !matches!(*name, b"" | b".")).collect()
}

/// The target of a link at `path`, as it may be written; `None` when the definition leaves it out.
pub(super) fn target(path: &Path, raw: &[u8], absolute: AbsoluteLinks) -> Result<Option<PathBuf>, Refusal> {
    let text = || shown(raw);
    let above = path.components().count() - 1;
    let names = plain_names(raw);
    if raw.starts_with(b"/") {
        return match absolute {
            AbsoluteLinks::Refuse => Err(Refusal::LinkAbsolute(text())),
            AbsoluteLinks::LeaveOut => Ok(None),
            AbsoluteLinks::Inside if names.contains(&b"..".as_slice()) => Err(Refusal::LinkOut(text())),
            AbsoluteLinks::Inside => {
                let up = std::iter::repeat_n(b"..".as_slice(), above);
                Ok(Some(up.chain(names).map(OsStr::from_bytes).collect()))
            }
        };
    }
    let up = names.iter().take_while(|name| **name == b"..").count();
    if raw.is_empty() || raw.contains(&0) || up > above || names[up..].contains(&b"..".as_slice()) {
        return Err(Refusal::LinkOut(text()));
    }
    Ok(Some(PathBuf::from(OsStr::from_bytes(raw))))
}

/// Refuses a link that something other than an archive left: absolute ones, and those that lead out of the folder that
/// `path` starts in.
///
/// # Errors
/// [`Refusal`] for such a link.
pub fn link_stays_inside(path: &Path, to: &Path) -> Result<(), Refusal> {
    target(path, to.as_os_str().as_bytes(), AbsoluteLinks::Refuse).map(drop)
}

fn patterns(texts: &[String]) -> Result<GlobSet, NoPattern> {
    let mut set = GlobSetBuilder::new();
    for pattern in texts {
        let glob = GlobBuilder::new(pattern).literal_separator(true).build();
        set.add(glob.map_err(|source| NoPattern { pattern: pattern.clone(), source })?);
    }
    set.build().map_err(|source| NoPattern { pattern: texts.join(", "), source })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn naming(toml: &str) -> Naming {
        Naming::new(&toml::from_str(toml).unwrap(), Layout::AsItIs, 128).unwrap()
    }

    #[test]
    fn folders_are_stripped_then_left_out_then_moved() {
        let naming =
            naming("strip = 1\nleave-out = ['share/doc', '**/*.a']\nmove = { usr = '', 'usr/lib' = 'lib/skerroc' }");
        let place = |raw: &str| naming.place(raw.as_bytes()).map(|path| path.map(|path| path.display().to_string()));
        for (raw, path) in [
            ("top/usr/bin/x", Some("bin/x")),
            ("./top//usr/./lib/deep/y", Some("lib/skerroc/deep/y")),
            ("top/usr/library", Some("library")),
            ("top/share/docs/z", Some("share/docs/z")),
            ("top/share/doc/deep/z", None),
            ("top/usr/lib/x.a", None),
        ] {
            assert_eq!(place(raw), Ok(path.map(str::to_owned)), "{raw}");
        }
        assert!(matches!(place("top"), Err(Refusal::Stripped { strip: 1, .. })));
        assert_eq!(naming.folder(b"top/").unwrap(), None);
        assert_eq!(naming.folder(b"top/usr").unwrap(), None);
    }

    #[test]
    fn layouts_have_a_place_for_every_name_or_leave_it_out() {
        let place = |layout: Layout, raw: &str| {
            let naming = Naming::new(&Unpacking::default(), layout, 128).unwrap();
            naming.place(raw.as_bytes()).map(|path| path.map(|path| path.display().to_string()))
        };
        for (layout, raw, path) in [
            (Layout::Wheel, "tide/lint.py", Some("site/tide/lint.py")),
            (Layout::Wheel, "tide-1.2.dist-info/METADATA", Some("site/tide-1.2.dist-info/METADATA")),
            (Layout::Wheel, "tide-1.2.data/scripts/tide", Some("bin/tide")),
            (Layout::Wheel, "tide-1.2.data/data/share/tide/a", Some("share/tide/a")),
            (Layout::Wheel, "tide-1.2.data/platlib/_tide.so", Some("site/_tide.so")),
            (Layout::Wheel, "tide-1.2.data/headers/tide.h", Some("include/tide.h")),
            (Layout::Wheel, "tide-1.2.data/elsewhere/x", None),
            (Layout::Npm, "package/lib/a.js", Some("lib/a.js")),
            (Layout::Npm, "other/lib/a.js", Some("other/lib/a.js")),
            (Layout::Debian, "./usr/bin/tide", Some("bin/tide")),
            (Layout::Debian, "./bin/tide", Some("bin/tide")),
            (Layout::Debian, "usr/lib/x86_64-linux-gnu/libtide.so.1", Some("libs/libtide.so.1")),
            (Layout::Debian, "lib/aarch64-linux-gnu/ld-linux-aarch64.so.1", Some("libs/ld.so")),
            (Layout::Debian, "usr/lib/x86_64-linux-gnu/tide/plug.so", Some("libs/tide/plug.so")),
            (Layout::Debian, "usr/lib/tide/helper", Some("lib/tide/helper")),
            (Layout::Debian, "lib64/ld-linux-x86-64.so.2", None),
            (Layout::Debian, "usr/share/doc/tide/changelog.gz", None),
            (Layout::Debian, "usr/share/doc/tide/copyright", Some("share/doc/tide/copyright")),
            (Layout::Debian, "usr/share/man/man1/tide.1.gz", None),
            (Layout::Debian, "etc/tide.conf", Some("etc/tide.conf")),
        ] {
            assert_eq!(place(layout, raw), Ok(path.map(str::to_owned)), "{raw}");
        }
        for layout in [Layout::Wheel, Layout::Npm, Layout::Debian] {
            assert_eq!(place(layout, "tide-1.2.data/scripts/../../x"), Err(Refusal::Climbs));
            assert_eq!(place(layout, "/usr/bin/x"), Err(Refusal::Absolute));
        }
        let into =
            Unpacking { into: kladder_choose::path::InnerPath::new("node_modules/nail").ok(), ..Unpacking::default() };
        let naming = Naming::new(&into, Layout::Npm, 128).unwrap();
        assert_eq!(naming.place(b"package/nail.js"), Ok(Some("node_modules/nail/nail.js".into())));
    }

    #[test]
    fn absolute_links_are_what_the_definition_says() {
        let path = Path::new("lib/deep/x");
        assert_eq!(target(path, b"/usr/y", AbsoluteLinks::Refuse), Err(Refusal::LinkAbsolute("/usr/y".into())));
        assert_eq!(target(path, b"/usr/y", AbsoluteLinks::LeaveOut), Ok(None));
        assert_eq!(target(path, b"/usr//y", AbsoluteLinks::Inside), Ok(Some("../../usr/y".into())));
        assert!(target(path, b"/usr/../../y", AbsoluteLinks::Inside).is_err());
    }
}
