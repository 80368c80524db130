//! SSH keys of a person, by the files that their public halves lie in (sshd(8), on the file of keys that are let in).

use std::path::{Path, PathBuf};

use crate::base::files;

/// The public half of a key.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PublicKey {
    /// Its file.
    pub file: PathBuf,
    /// Its one line.
    pub line: String,
}

/// Where a new key is made in a home; its public half lies beside it.
pub fn new_key(home: &Path) -> PathBuf {
    home.join(".ssh/id_ed25519")
}

/// The public halves in a home that have a private one beside them, sorted by name.
pub fn public_keys(home: &Path) -> Vec<PublicKey> {
    let folder = home.join(".ssh");
    let key = |name: std::ffi::OsString| {
        let file = folder.join(name);
        let is_public = file.extension().is_some_and(|ending| ending == "pub") && file.with_extension("").is_file();
        let text = files::text_of_at_most(&file, 1 << 16).filter(|_| is_public)?;
        let line = text.lines().next()?.trim().to_owned();
        let kind = line.split_whitespace().next().unwrap_or_default();
        let is_key = ["ssh-", "ecdsa-", "sk-ssh-", "sk-ecdsa-"].iter().any(|begin| kind.starts_with(begin));
        is_key.then_some(PublicKey { file, line })
    };
    let mut names = files::names(&folder).unwrap_or_default();
    names.sort();
    names.into_iter().filter_map(key).collect()
}
