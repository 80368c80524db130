//! Which file of one version stands where another one did in an earlier version, by its name.

use kladder_choose::catalog::{Definition, Origin, Published, Release};
use kladder_choose::version::{Scheme, Version};

use crate::bring::index::Listed;
use crate::desk::keeper::version_of;

pub(super) fn is_of(scheme: Scheme, file: &Listed, version: &Version) -> bool {
    match version_of(file) {
        Some(told) => scheme.compare(&told, version).is_eq(),
        // Where an index tells no versions, names have them.
        None => file.version.is_none() && file.file.contains(version.as_str()),
    }
}

/// Whether of two packages of one version the first was packaged later.
pub(super) fn is_packaged_later(one: &Listed, other: &Listed) -> bool {
    let version = |file: &Listed| file.version.as_deref().and_then(|text| text.parse::<Version>().ok());
    version(one).zip(version(other)).is_some_and(|(one, other)| Scheme::Packaged.compare(&one, &other).is_gt())
}

/// The version that a file belongs to.
fn version_with<'d>(file: &Published, definition: &'d Definition) -> Option<&'d Version> {
    let is_it = |one: &Published| one.sha256 == file.sha256;
    let has_it = |release: &&Release| {
        let of_pieces = release.pieces.values().flat_map(|piece| &piece.artifacts);
        release.artifacts.iter().chain(of_pieces).any(is_it)
    };
    definition.releases.iter().find(has_it).map(|release| &release.version)
}

/// What a file is called in another version.
pub(super) fn expected(old: &Published, definition: &Definition, version: &Version) -> Option<String> {
    Some(old.file.as_str().replace(version_with(old, definition)?.as_str(), version.as_str()))
}

/// A file's name up to its version.
pub(super) fn front_of<'o>(old: &'o Published, definition: &Definition) -> Option<&'o str> {
    let name = old.file.as_str().rsplit('/').next()?;
    name.split_once(version_with(old, definition)?.as_str()).map(|(front, _)| front)
}

/// A name without what makers write now one way, now another.
pub(super) fn even(name: &str) -> String {
    name.to_lowercase().replace(['_', '.'], "-")
}

/// The file at a maker's whose name has the version in it.
pub(super) fn renamed(
    origin: &Origin,
    old: &Published,
    definition: &Definition,
    version: &Version,
    platform: &str,
) -> Option<Listed> {
    let file = expected(old, definition, version)?;
    let path = kladder_choose::path::InnerPath::new(&file).ok()?;
    Some(Listed::at(file, origin.of(version, &path, platform)))
}
