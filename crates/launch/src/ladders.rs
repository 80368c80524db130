//! The table of ladders: which of them counts in a folder, and where its landings are.
//!
//! Format, version 1: the line `kladder ladders table 1`, then fields that each end with a NUL byte:
//!
//! ```text
//! LANDINGS                                     of the workstation's own ladder; empty where it has none
//! ( FOLDER DEVICE INODE BORN LANDINGS )*       projects: the folder that has the ladder, and what tells it from all
//! ```
//!
//! Numbers are decimal digits; `BORN` is in nanoseconds since 1970, and all three are empty where the file system does not
//! say when a folder was made.

use std::ffi::OsStr;
use std::fs;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::time::UNIX_EPOCH;

const HEADER: &[u8] = b"kladder ladders table 1\n";

/// What tells a folder from all others, whatever it is called.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Identity {
    /// The file system's number.
    pub device: u64,
    /// The folder's number there.
    pub inode: u64,
    /// When it was made, in nanoseconds since 1970.
    pub born: u128,
}

impl Identity {
    /// That of a folder; `None` where the file system does not say when it was made, or there is none.
    pub fn of(folder: &Path) -> Option<Self> {
        let meta = fs::metadata(folder).ok()?;
        let born = meta.created().ok()?.duration_since(UNIX_EPOCH).ok()?.as_nanos();
        Some(Self { device: meta.dev(), inode: meta.ino(), born })
    }
}

/// A ladder that somebody climbed in a project's folder.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Project {
    /// The folder.
    pub folder: PathBuf,
    /// What tells it from all others.
    pub identity: Option<Identity>,
    /// Where its landings are.
    pub landings: PathBuf,
}

/// All ladders that were climbed.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Ladders {
    /// Where the landings of the workstation's own ladder are.
    pub own: Option<PathBuf>,
    /// Those of projects.
    pub projects: Vec<Project>,
}

impl Ladders {
    /// The table in the format above.
    pub fn to_bytes(&self) -> Vec<u8> {
        let mut out = HEADER.to_vec();
        let mut field = |value: &OsStr| {
            out.extend_from_slice(value.as_bytes());
            out.push(0);
        };
        field(self.own.as_deref().unwrap_or(Path::new("")).as_os_str());
        for Project { folder, identity, landings } in &self.projects {
            field(folder.as_os_str());
            let numbers = identity.map(|id| [id.device.to_string(), id.inode.to_string(), id.born.to_string()]);
            numbers.unwrap_or_default().iter().for_each(|number| field(number.as_ref()));
            field(landings.as_os_str());
        }
        out
    }

    /// Reads a table; `None` where it is none.
    pub fn of_bytes(bytes: &[u8]) -> Option<Self> {
        let rest = bytes.strip_prefix(HEADER)?.strip_suffix(b"\0")?;
        let mut fields = rest.split(|&byte| byte == 0);
        let path = |bytes: &[u8]| PathBuf::from(OsStr::from_bytes(bytes));
        let own = fields.next().filter(|own| !own.is_empty()).map(path);
        let mut projects = Vec::new();
        while let Some(folder) = fields.next() {
            let numbers = [fields.next()?, fields.next()?, fields.next()?];
            let number = |at: usize| std::str::from_utf8(numbers[at]).ok()?.parse::<u128>().ok();
            let small = |at: usize| u64::try_from(number(at)?).ok();
            let identity = || Some(Identity { device: small(0)?, inode: small(1)?, born: number(2)? });
            projects.push(Project { folder: path(folder), identity: identity(), landings: path(fields.next()?) });
        }
        Some(Self { own, projects })
    }

    /// The nearest project from `folder` upwards whose ladder is still there: by its path, or, where it was moved or renamed
    /// since, by what it is.
    pub fn project(&self, folder: &Path) -> Option<&Project> {
        folder.ancestors().find_map(|above| {
            let by_path = self.projects.iter().find(|project| project.folder == above);
            let by_identity = || {
                let identity = Identity::of(above)?;
                self.projects.iter().find(|project| project.identity == Some(identity))
            };
            let found = by_path.or_else(by_identity)?;
            above.join("ladder.toml").is_file().then_some(found)
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_nearest_project_counts_also_after_it_was_moved_and_only_with_its_ladder() {
        let root = tempfile::tempdir().unwrap();
        let root = root.path().canonicalize().unwrap();
        let project = |name: &str| {
            let folder = root.join(name);
            fs::create_dir_all(&folder).unwrap();
            fs::write(folder.join("ladder.toml"), "").unwrap();
            let (identity, landings) = (Identity::of(&folder), root.join("landings").join(name));
            Project { folder, identity, landings }
        };
        let ladders = Ladders { own: None, projects: vec![project("one"), project("one/in\nside")] };
        assert_eq!(Ladders::of_bytes(&ladders.to_bytes()).as_ref(), Some(&ladders));
        let found = |folder: &str| {
            let found = ladders.project(&root.join(folder))?;
            Some(found.landings.strip_prefix(root.join("landings")).unwrap().to_str().unwrap().to_owned())
        };
        assert_eq!(found("one/deep/er").as_deref(), Some("one"));
        assert_eq!(found("one/in\nside/deep").as_deref(), Some("one/in\nside"));
        assert_eq!(found("other"), None);
        fs::rename(root.join("one"), root.join("two")).unwrap();
        let known = ladders.projects[0].identity.is_some();
        assert_eq!(found("two/deep").is_some(), known, "it is told by what it is, where the file system can");
        fs::remove_file(root.join("two/ladder.toml")).unwrap();
        assert_eq!(found("two/deep"), None);
    }

    #[test]
    fn what_is_cut_is_no_table() {
        let identity = Some(Identity { device: 1, inode: 2, born: 3 });
        let project = Project { folder: "/a".into(), identity, landings: "/l".into() };
        let ladders = Ladders { own: Some("/own".into()), projects: vec![project] };
        let bytes = ladders.to_bytes();
        for cut in 0..bytes.len() {
            assert_ne!(Ladders::of_bytes(&bytes[..cut]).as_ref(), Some(&ladders), "cut at {cut}");
        }
    }
}
