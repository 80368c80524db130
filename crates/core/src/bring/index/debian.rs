//! A Debian archive (the Debian Repository Format): `InRelease` vouches for `Packages`, and that for each package.

use std::collections::HashMap;
use std::io::Read;
use std::path::Path;
use std::sync::{Arc, Mutex, PoisonError};

use deb822_fast::borrowed::iter_paragraphs_borrowed;
use kladder_choose::address::without_password;

use super::apt::{Archive, Keys, archives};
use super::release::Release;
use super::{Around, Asking, IndexError, Listed, Sum, segments};
use crate::base::digest::Digest;
use crate::base::files;
use crate::bring::fetch::{Reading, YardError};
use crate::settings::IndexSetting;

/// What processors are looked at where nobody says.
const ARCHITECTURES: [&str; 2] = ["amd64", "arm64"];
/// Most bytes of an unpacked `Packages`; those of a whole archive have a fifth of this.
const MOST: u64 = 256 << 20;
/// Most bytes of an `InRelease`.
const MOST_RELEASE: u64 = 4 << 20;

/// The processor in a package's name; empty for what is for all of them.
pub(super) fn architecture(file: &str) -> &str {
    let middle = file.strip_suffix(".deb").and_then(|stem| stem.rsplit('_').next()).unwrap_or_default();
    if middle == "all" { ARCHITECTURES[0] } else { middle }
}

/// The packages of one list, by name.
type Packages = HashMap<String, Vec<Listed>>;

/// What archives have told so far.
#[derive(Debug, Default)]
pub(super) struct Archives {
    releases: Mutex<HashMap<String, Arc<Release>>>,
    packages: Mutex<HashMap<Digest, Arc<Packages>>>,
}

impl Archives {
    /// The packages of one name, in all suites and components.
    pub(super) fn listed(
        &self,
        setting: &IndexSetting,
        around: &Around,
        architecture: &str,
        asking: &Asking<'_>,
    ) -> Result<Vec<Listed>, IndexError> {
        let all = of(setting);
        if all.is_empty() {
            return Err(IndexError::NotConfigured { index: asking.index.to_owned(), client: "apt" });
        }
        let architectures = if architecture.is_empty() { &ARCHITECTURES[..] } else { &[architecture][..] };
        let (mut found, mut first) = (Vec::<Listed>::new(), None);
        for archive in &all {
            let url = asking.network.origins.mirrored(&archive.url);
            let archive = Archive { url, ..archive.clone() };
            match self.lists(&archive, architectures, around, asking) {
                Ok(lists) => {
                    let more = lists.iter().filter_map(|list| list.get(asking.project)).flatten();
                    let place = |one: &Listed| Listed {
                        url: [&archive.url, segments(&one.url).as_str()].concat(),
                        ..one.clone()
                    };
                    found.extend(more.map(place));
                }
                // Of several archives one that does not answer counts only where no other one has the package.
                Err(error) => first = first.or(Some(error)),
            }
        }
        // What is for all processors stands in the list of each.
        found.sort_by(|a, b| a.url.cmp(&b.url));
        found.dedup();
        let url = || all.iter().map(|archive| without_password(&archive.url)).collect::<Vec<_>>().join(", ");
        let missing = || IndexError::NoSuch { url: url(), project: asking.project.to_owned() };
        if found.is_empty() { Err(first.unwrap_or_else(missing)) } else { Ok(found) }
    }

    fn lists(
        &self,
        archive: &Archive,
        architectures: &[&str],
        around: &Around,
        asking: &Asking<'_>,
    ) -> Result<Vec<Arc<Packages>>, IndexError> {
        let mut lists = Vec::new();
        for suite in &archive.suites {
            let at = format!("{}dists/{suite}/", archive.url);
            let release = self.release(&at, suite, archive, asking)?;
            for component in &archive.components {
                for architecture in architectures {
                    let path = format!("{component}/binary-{architecture}/Packages");
                    lists.extend(self.packages(&at, &path, &release, around, asking)?);
                }
            }
        }
        Ok(lists)
    }

    fn release(
        &self,
        at: &str,
        suite: &str,
        archive: &Archive,
        asking: &Asking<'_>,
    ) -> Result<Arc<Release>, IndexError> {
        let mut known = self.releases.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(known) = known.get(at) {
            return Ok(Arc::clone(known));
        }
        let url = format!("{at}InRelease");
        let text = String::from_utf8_lossy(&read(&url, MOST_RELEASE, asking)?).into_owned();
        let now = jiff::Timestamp::now();
        let unsigned = |why| IndexError::Unsigned { url: without_password(&url), why };
        let release = Release::read(&text, &archive.keys, now).map_err(unsigned)?;
        release.check(suite, now).map_err(unsigned)?;
        let release = Arc::new(release);
        known.insert(at.to_owned(), Arc::clone(&release));
        Ok(release)
    }

    /// One list; `None` where the archive has none for that processor.
    fn packages(
        &self,
        at: &str,
        path: &str,
        release: &Release,
        around: &Around,
        asking: &Asking<'_>,
    ) -> Result<Option<Arc<Packages>>, IndexError> {
        let packed = [".xz", ".gz", ""].iter().find_map(|ending| {
            let path = [path, ending].concat();
            release.of(&path).map(|(size, digest)| (path, size, digest))
        });
        let Some((path, size, digest)) = packed else { return Ok(None) };
        let mut known = self.packages.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(known) = known.get(&digest) {
            return Ok(Some(Arc::clone(known)));
        }
        let kept = around.cache.join("packages").join(digest.to_string());
        let bytes = match kept_as(&kept, &digest) {
            Some(bytes) => bytes,
            None => fetched(at, &path, size, &digest, release.by_hash, &kept, asking)?,
        };
        let wrong = |why: String| IndexError::Wrong { url: [at, &path].concat(), kind: "debian", why };
        let list = Arc::new(parsed(&unpacked(&path, &bytes).map_err(wrong)?).map_err(wrong)?);
        known.insert(digest, Arc::clone(&list));
        Ok(Some(list))
    }
}

fn of(setting: &IndexSetting) -> Vec<Archive> {
    let keys = match &setting.keyring {
        _ if setting.unsigned => Keys::Nobody,
        Some(file) => Keys::Files(vec![file.clone()]),
        None => Keys::System,
    };
    let (suites, components) = (setting.suites.clone(), setting.components.clone());
    let Some(url) = setting.address.clone() else {
        let mut all = archives(Path::new("/"));
        for archive in &mut all {
            archive.suites.retain(|suite| suites.is_empty() || suites.contains(suite));
        }
        return all;
    };
    vec![Archive { url, suites, components, keys }]
}

fn read(url: &str, most: u64, asking: &Asking<'_>) -> Result<Vec<u8>, IndexError> {
    let failed = |source: YardError| IndexError::Asked { url: without_password(url), source: Box::new(source) };
    Ok(asking.network.read_of_index(url, Reading::of(most)).map_err(failed)?.bytes)
}

/// What was kept, where it is still what it was.
fn kept_as(path: &Path, digest: &Digest) -> Option<Vec<u8>> {
    let bytes = files::read(path).ok()?;
    (Digest::of(&bytes) == *digest).then_some(bytes)
}

fn fetched(
    at: &str,
    path: &str,
    size: u64,
    digest: &Digest,
    by_hash: bool,
    keep: &Path,
    asking: &Asking<'_>,
) -> Result<Vec<u8>, IndexError> {
    let folder = path.rsplit_once('/').map_or("", |(folder, _)| folder);
    // By its digest a list stays what it is while the archive moves on.
    let url = if by_hash { format!("{at}{folder}/by-hash/SHA256/{digest}") } else { [at, path].concat() };
    let bytes = read(&url, size, asking)?;
    if Digest::of(&bytes) != *digest {
        let why = "its bytes are not those that InRelease vouches for".to_owned();
        return Err(IndexError::Unsigned { url: without_password(&url), why });
    }
    if let Some(folder) = keep.parent() {
        files::create_folder(folder)?;
    }
    files::replace(keep, &bytes)?;
    Ok(bytes)
}

fn unpacked(path: &str, bytes: &[u8]) -> Result<String, String> {
    let reader: Box<dyn Read + '_> = match path.rsplit('.').next() {
        Some("xz") => Box::new(liblzma::read::XzDecoder::new(bytes)),
        Some("gz") => Box::new(flate2::read::GzDecoder::new(bytes)),
        _ => Box::new(bytes),
    };
    let mut text = Vec::new();
    let got = reader.take(MOST + 1).read_to_end(&mut text).map_err(|error| error.to_string())?;
    if got as u64 > MOST {
        return Err(format!("it has more than {MOST} bytes"));
    }
    String::from_utf8(text).map_err(|_| "it is no text".to_owned())
}

/// The first of each group of alternatives, without versions (deb-control(5)).
fn depends(field: &str) -> Vec<String> {
    let first = |group: &str| group.split(['|', '(', '[', ':']).next().map(|name| name.trim().to_owned());
    // Names are written into definitions (Debian Policy, section 5.6.1).
    let is_name = |name: &String| {
        let fits = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || "+-.".contains(c);
        name.len() > 1 && name.chars().all(fits)
    };
    field.split(',').filter_map(first).filter(is_name).collect()
}

fn parsed(text: &str) -> Result<Packages, String> {
    let mut packages = Packages::new();
    // One after the other: all of an archive at once would take hundreds of megabytes.
    for one in iter_paragraphs_borrowed(text) {
        let one = one.map_err(|error| error.to_string())?;
        // A field may go on over several lines (deb822(5)).
        let field = |name: &str| one.get(name).map(|lines| lines.join(" ").trim().to_owned());
        let (Some(package), Some(path)) = (field("Package"), field("Filename")) else { continue };
        packages.entry(package).or_default().push(Listed {
            file: path.rsplit('/').next().unwrap_or(&path).to_owned(),
            version: field("Version"),
            size: field("Size").and_then(|size| size.parse().ok()),
            sum: field("SHA256").and_then(|digits| digits.parse().ok()).map(Sum::Sha256),
            depends: ["Pre-Depends", "Depends"]
                .into_iter()
                .filter_map(field)
                .flat_map(|field| depends(&field))
                .collect(),
            url: path,
            ..Listed::default()
        });
    }
    Ok(packages)
}
