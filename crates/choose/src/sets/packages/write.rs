//! A lock file of packages (`package-lock.json`, version 3), written: the same packages are the same bytes.

use std::collections::BTreeMap;

use serde_json::{Map, Value, json};

use super::PackageWish;
use super::listed::PackageSays;
use super::tree::{ROOT, Tree};
use crate::digest::{Digest, is_sealed, sealed};

/// What packages were chosen by.
pub(super) struct Chosen<'c> {
    /// A digest of the wishes.
    pub(super) wishes: Option<Digest>,
    /// The version of the runtime.
    pub(super) on: &'c str,
}

/// The file of a project's packages. What the format has no place for stands in `kladder`: what it was chosen by, and the digest of
/// the text without that digest.
pub(super) fn lock(project: &str, wished: &[PackageWish], by: &Chosen<'_>, tree: &Tree) -> String {
    let needed = tree.needed();
    let wanted: BTreeMap<&str, &str> = wished.iter().map(|wish| (&*wish.name, &*wish.versions)).collect();
    let mut packages = BTreeMap::from([(String::new(), json!({ "name": project, "dependencies": wanted }))]);
    for (at, placed) in tree.all.iter().enumerate().skip(ROOT + 1) {
        let Some((name, taken)) = &placed.package else { continue };
        let release = taken.release();
        let mut entry = said(&release.says);
        if *name != placed.called {
            entry.insert("name".to_owned(), json!(name));
        }
        entry.insert("version".to_owned(), json!(release.written));
        if !needed.contains(&at) {
            entry.insert("optional".to_owned(), json!(true));
        }
        packages.insert(tree.path(at), Value::Object(entry));
    }
    let wishes = by.wishes.map(|digest| digest.to_string());
    let own = json!({ "wishes": wishes, "runtime": by.on, "whole": "" });
    let file = json!({
        "name": project, "lockfileVersion": 3, "requires": true, "packages": packages, "kladder": own,
    });
    let text = serde_json::to_string_pretty(&file).unwrap_or_default() + "\n";
    sealed(&text, WHOLE)
}

/// Where the digest stands in the text.
const WHOLE: &str = "\"whole\": \"";

/// Whether a file is what was written here.
pub(super) fn is_whole(text: &str) -> bool {
    is_sealed(text, WHOLE)
}

fn said(says: &PackageSays) -> Map<String, Value> {
    let mut entry = Map::new();
    let mut put = |name: &str, value: Value| {
        let is_empty = match &value {
            Value::Null | Value::Bool(false) => true,
            Value::Array(all) => all.is_empty(),
            Value::Object(all) => all.is_empty(),
            _ => false,
        };
        if !is_empty {
            entry.insert(name.to_owned(), value);
        }
    };
    put("resolved", json!(says.dist.tarball));
    put("integrity", json!(says.dist.integrity));
    put("dependencies", json!(says.dependencies));
    put("optionalDependencies", json!(says.optional_dependencies));
    put("peerDependencies", json!(says.peer_dependencies));
    let optional = says.peer_dependencies_meta.iter().filter(|(_, meta)| meta.optional);
    put("peerDependenciesMeta", optional.map(|(name, _)| (name.clone(), json!({ "optional": true }))).collect());
    put("bin", json!(says.bin));
    put("engines", json!(says.engines));
    put("os", json!(says.os.all()));
    put("cpu", json!(says.cpu.all()));
    put("libc", json!(says.libc.all()));
    put("hasInstallScript", json!(says.is_built()));
    entry
}
