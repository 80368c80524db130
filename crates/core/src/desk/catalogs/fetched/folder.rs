//! A catalog in a folder that a web server shows: its pages list what is in each folder, and links lead to it.

use std::path::Path;

use kladder_choose::path::InnerPath;

use crate::base::event::{Observer, check_cancelled};
use crate::base::files::{self, Attach};
use crate::bring::fetch::{Network, YardError, read_anywhere};
use crate::bring::index::links_below;

/// More files, bytes of one file, or folders within folders are no catalog's.
const MOST_FILES: usize = 20_000;
const MOST_BYTES: u64 = 16 << 20;
const DEEPEST: usize = 8;

/// Why a folder could not be brought.
#[derive(Debug, thiserror::Error)]
pub enum FolderError {
    /// An address did not answer.
    #[error("{at} could not be fetched")]
    Asked {
        /// The address.
        at: String,
        /// Why not.
        source: YardError,
    },
    /// It is too much.
    #[error("it has more than {MOST_FILES} files, or folders deeper than {DEEPEST}")]
    TooMuch,
    /// A file could not be written.
    #[error(transparent)]
    File(#[from] files::FileError),
    /// The person asked for an end.
    #[error(transparent)]
    Cancelled(#[from] crate::base::event::Cancelled),
}

/// Brings what a server shows below an address, which ends with a slash, into a new folder.
pub(super) fn bring(address: &str, into: &Path, network: &Network, observer: &dyn Observer) -> Result<(), FolderError> {
    let (mut open, mut count) = (vec![(address.to_owned(), String::new(), 0)], 0);
    files::create_folder(into)?;
    while let Some((url, path, depth)) = open.pop() {
        check_cancelled(observer)?;
        count += 1;
        if count > MOST_FILES || depth > DEEPEST {
            return Err(FolderError::TooMuch);
        }
        let document = match read_anywhere(&url, MOST_BYTES, network) {
            Ok(document) => document,
            // A page may list what its server does not give.
            Err(YardError::NotThere) if depth > 0 => continue,
            Err(source) => {
                return Err(FolderError::Asked { at: kladder_choose::address::without_password(&url), source });
            }
        };
        if !url.ends_with('/') {
            let to = into.join(&path);
            files::create_folder(to.parent().unwrap_or(into))?;
            std::fs::write(&to, &document.bytes).on("write", &to)?;
            continue;
        }
        for name in links_below(&document) {
            let plain = name.trim_end_matches('/');
            // What is no plain name leads somewhere else, or nowhere.
            let Ok(inner) = InnerPath::new(&[path.as_str(), plain].concat()) else { continue };
            let ending = if name.ends_with('/') { "/" } else { "" };
            open.push((format!("{url}{}{ending}", percent(plain)), format!("{inner}{ending}"), depth + 1));
        }
    }
    Ok(())
}

/// A name as it stands in an address.
fn percent(name: &str) -> String {
    percent_encoding::utf8_percent_encode(name, percent_encoding::NON_ALPHANUMERIC).to_string()
}
