//! Where this system's loader looks for shared libraries, ld.so(8).

use std::fs;
use std::path::{Path, PathBuf};

/// The file that lists further folders.
const LIST: &str = "/etc/ld.so.conf";
/// The folder of the files that it usually includes.
const LISTS: &str = "/etc/ld.so.conf.d";
/// Folders that are looked into without being listed, and those below which systems for several processors keep one each.
const ALWAYS: [&str; 7] = ["/lib", "/usr/lib", "/lib64", "/usr/lib64", "/lib32", "/usr/lib32", "/usr/local/lib"];

/// The folders of shared libraries that are there, below a folder laid out like `/`; `None` where programs are loaded in another way.
#[allow(clippy::unnecessary_wraps)] // not every system has an answer
pub(crate) fn folders(root: &Path) -> Option<Vec<PathBuf>> {
    let at = |path: &str| root.join(path.trim_start_matches('/'));
    let named = fs::read_dir(at(LISTS)).into_iter().flatten().filter_map(Result::ok).map(|entry| entry.path());
    let lists = named.chain([at(LIST)]).filter_map(|list| fs::read_to_string(list).ok());
    let listed: Vec<PathBuf> = lists
        .flat_map(|text| text.lines().map(str::trim).map(PathBuf::from).collect::<Vec<_>>())
        .filter(|folder| folder.is_absolute())
        .map(|folder| at(&folder.to_string_lossy()))
        .collect();
    let below = |folder: &str| fs::read_dir(at(folder)).into_iter().flatten().filter_map(Result::ok);
    let of_one = below("/lib").chain(below("/usr/lib")).map(|entry| entry.path());
    let of_one = of_one.filter(|path| path.file_name().is_some_and(|name| name.to_string_lossy().contains("-linux-")));
    let all = listed.into_iter().chain(of_one).chain(ALWAYS.map(at));
    Some(all.filter(|folder| folder.is_dir()).collect())
}
