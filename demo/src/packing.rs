//! From a tool's source and its definition to archives and a definition with digests.

use std::fs;
use std::path::Path;

use include_dir::Dir;
use kladder_core::base::digest::of_file;
use kladder_core::base::files::Attach;
use kladder_pack::{Entry, Format, pack};
use toml_edit::{DocumentMut, InlineTable, Item, Table};

use crate::DemoError;

/// Packs every artifact of every definition in `definitions` into `yard`; returns how many there are.
pub(crate) fn pack_all(tools: &Dir<'_>, pieces: &Dir<'_>, definitions: &Path, yard: &Path) -> Result<usize, DemoError> {
    let mut packed = 0;
    for tool in tools.dirs() {
        let name = tool.path().to_string_lossy().into_owned();
        let path = definitions.join(format!("{name}.toml"));
        let text = fs::read_to_string(&path).on("read", &path)?;
        let wrong = |message: String| DemoError::Definition { tool: name.clone(), message };
        let mut document: DocumentMut = text.parse().map_err(|e: toml_edit::TomlError| wrong(e.to_string()))?;
        // What is said once for all artifacts: whether there is a folder to leave out.
        let strips = document.get("unpack").is_some_and(|unpack| unpack.get("strip").is_some());
        let releases = document.get_mut("releases").and_then(Item::as_array_of_tables_mut);
        for release in releases.ok_or_else(|| wrong("there are no releases".into()))?.iter_mut() {
            packed +=
                pack_release(tool, pieces, release, strips, yard).map_err(|failed| failed.unwrap_or_else(wrong))?;
        }
        fs::write(&path, document.to_string()).on("write", &path)?;
    }
    Ok(packed)
}

/// What went wrong with one release: with the definition in words, or elsewhere.
enum Failed {
    Words(String),
    Other(DemoError),
}

impl Failed {
    fn unwrap_or_else(self, wrong: impl Fn(String) -> DemoError) -> DemoError {
        match self {
            Self::Words(words) => wrong(words),
            Self::Other(error) => error,
        }
    }
}

fn missing(what: &str) -> Failed {
    Failed::Words(format!("a release without {what}"))
}

fn pack_release(
    tool: &Dir<'_>,
    pieces: &Dir<'_>,
    release: &mut Table,
    strips: bool,
    yard: &Path,
) -> Result<usize, Failed> {
    let version = release.get("version").and_then(Item::as_str).ok_or_else(|| missing("version"))?.to_owned();
    let mut packed = pack_artifacts(tool, &version, release, strips, yard)?;
    let Some(taken) = release.get_mut("pieces").and_then(Item::as_table_mut) else { return Ok(packed) };
    for (name, piece) in taken.iter_mut() {
        let source = pieces.get_dir(tool.path().join(name.get())).ok_or_else(|| missing("the source of a piece"))?;
        let table = piece.as_table_mut().ok_or_else(|| missing("a table for a piece"))?;
        packed += pack_artifacts(source, &version, table, strips, yard)?;
    }
    Ok(packed)
}

fn pack_artifacts(
    source: &Dir<'_>,
    version: &str,
    table: &mut Table,
    strips: bool,
    yard: &Path,
) -> Result<usize, Failed> {
    let Some(artifacts) = table.get_mut("artifacts").and_then(Item::as_array_mut) else { return Ok(0) };
    for artifact in artifacts.iter_mut() {
        let line = artifact.as_inline_table_mut().ok_or_else(|| missing("inline artifacts"))?;
        pack_artifact(source, version, line, strips, yard)?;
        line.decor_mut().set_prefix("\n    ");
    }
    Ok(artifacts.len())
}

fn pack_artifact(
    source: &Dir<'_>,
    version: &str,
    line: &mut InlineTable,
    strips: bool,
    yard: &Path,
) -> Result<(), Failed> {
    let scopes = line.get("for").and_then(toml_edit::Value::as_array);
    let platform = scopes.and_then(|scopes| scopes.get(0)?.as_str()).unwrap_or("any").to_owned();
    let file = line.get("file").and_then(toml_edit::Value::as_str).unwrap_or_default().to_owned();
    let format = Format::of_name(&file).ok_or_else(|| Failed::Words(format!("`{file}` has an unknown ending")))?;
    let folder = if strips { format!("release-{version}/") } else { String::new() };
    let mut entries = Vec::new();
    collect(source, source, &folder, &[("@VERSION@", version), ("@PLATFORM@", &platform)], &mut entries);
    entries.sort_by(|a, b| a.path.cmp(&b.path));
    let path = yard.join(&file);
    let failed = |source| Failed::Other(DemoError::Pack { path: path.clone(), source });
    pack(format, &entries, &path).map_err(failed)?;
    let (digest, size) = of_file(&path).map_err(failed)?;
    line.insert("size", i64::try_from(size).unwrap_or(i64::MAX).into());
    line.insert("sha256", digest.hex().into());
    line.fmt();
    Ok(())
}

/// The files of a tool below `folder`, with the marks in their text replaced; what lies in `bin/` may be run.
fn collect(root: &Dir<'_>, dir: &Dir<'_>, folder: &str, marks: &[(&str, &str)], entries: &mut Vec<Entry>) {
    for file in dir.files() {
        let relative = file.path().strip_prefix(root.path()).unwrap_or(file.path());
        let mut text = String::from_utf8_lossy(file.contents()).into_owned();
        for (mark, with) in marks {
            text = text.replace(mark, with);
        }
        let make = if relative.starts_with("bin") { Entry::program } else { Entry::file };
        entries.push(make(&format!("{folder}{}", relative.to_string_lossy()), text));
    }
    for inner in dir.dirs() {
        collect(root, inner, folder, marks, entries);
    }
}
