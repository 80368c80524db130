//! Libraries that are tools of the ladder's catalogs: wheels that whoever keeps a catalog has signed for, in the place of an index.

use kladder_choose::catalog::{Artifact, CatalogError, Catalogs, Layout, Published};

use crate::base::event::Silent;
use crate::bring::fetch::{FetchError, Sources, fetch};
use crate::bring::index::{Listed, Sum};
use crate::desk::keeper::in_wheel;

/// Why a library of a catalog cannot be taken.
#[derive(Debug, thiserror::Error)]
pub enum InCatalogsError {
    /// It lies in a folder of a yard, and lock files name no folders there.
    #[error("{library} is {file} in its catalog's yard, and a library must lie at a yard's top or have an origin")]
    Folder {
        /// The library.
        library: String,
        /// Its path in a yard.
        file: String,
    },
    /// Neither its definition nor a yard says how large it is.
    #[error("no yard has {file}, of {library}")]
    NoSize {
        /// The library.
        library: String,
        /// Its path in a yard.
        file: String,
    },
    /// The catalog cannot be used.
    #[error(transparent)]
    Catalog(#[from] CatalogError),
    /// A file of it could not be fetched.
    #[error(transparent)]
    Fetch(#[from] FetchError),
}

/// A wheel as an index would list it, and as it is fetched.
pub(super) type InCatalogs = (Listed, Artifact);

/// The wheels of the tool of this name, of all its releases; none where no catalog has it.
///
/// # Errors
/// [`InCatalogsError`] where its definition cannot be used, or a wheel lies where a lock file cannot name it.
pub(super) fn listed(
    library: &str,
    catalogs: &Catalogs,
    sources: Sources<'_>,
) -> Result<Vec<InCatalogs>, InCatalogsError> {
    let Some(definition) = catalogs.tool(library)? else { return Ok(Vec::new()) };
    let mut all = Vec::new();
    for release in &definition.releases {
        let files = release.artifacts.iter().flat_map(|artifact| std::iter::once(artifact).chain(&artifact.also));
        for published in files.filter(|published| is_wheel(published)) {
            let artifact = artifact_of(published, sources);
            all.push((listed_as(published, &artifact, release.version.as_str(), library)?, artifact));
        }
    }
    Ok(all)
}

fn is_wheel(published: &Published) -> bool {
    let unpacking = published.unpack.clone().unwrap_or_default();
    unpacking.layout_of(published.file.as_str()) == Layout::Wheel
}

fn artifact_of(published: &Published, sources: Sources<'_>) -> Artifact {
    let asked = || sources.yards.iter().find_map(|yard| yard.size(&published.file).ok()?);
    Artifact {
        file: published.file.clone(),
        size: published.size.or_else(asked).unwrap_or_default(),
        sha256: published.sha256,
        unpacked: published.unpacked,
        unpack: published.unpack.clone().unwrap_or_default(),
        origins: published.origins.clone(),
        by_person: published.by_person.clone(),
    }
}

fn listed_as(
    published: &Published,
    artifact: &Artifact,
    version: &str,
    library: &str,
) -> Result<Listed, InCatalogsError> {
    let path = artifact.file.as_str();
    let file = path.rsplit('/').next().unwrap_or(path);
    let ends_so = |address: &&String| address.contains("://") && address.ends_with(&format!("/{file}"));
    let url = match artifact.origins.iter().find(ends_so) {
        Some(address) => address.clone(),
        None if path == file => file.to_owned(),
        None => return Err(InCatalogsError::Folder { library: library.to_owned(), file: path.to_owned() }),
    };
    let mut listed = Listed::at(file.to_owned(), url);
    listed.version = Some(version.to_owned());
    listed.size = published.size;
    listed.sum = Some(Sum::Sha256(artifact.sha256));
    Ok(listed)
}

/// What a wheel says of itself; it is fetched for that, and stays in the cache.
///
/// # Errors
/// [`InCatalogsError::NoSize`] and [`InCatalogsError::Fetch`].
pub(super) fn text(library: &str, artifact: &Artifact, sources: Sources<'_>) -> Result<String, InCatalogsError> {
    // No wheel is empty.
    if artifact.size == 0 {
        return Err(InCatalogsError::NoSize { library: library.to_owned(), file: artifact.file.to_string() });
    }
    let fetched = fetch(artifact, sources, &mut (), &Silent)?;
    Ok(in_wheel(&fetched.path).unwrap_or_default())
}
