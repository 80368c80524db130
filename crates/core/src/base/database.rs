//! Names by which `SQLite` opens files (`file:` URIs, as its page "Uniform Resource Identifiers" has them).

use std::path::Path;

/// What stays as it is in the path of a `file:` URI.
const URI: &percent_encoding::AsciiSet =
    &percent_encoding::NON_ALPHANUMERIC.remove(b'/').remove(b'-').remove(b'.').remove(b'_').remove(b'~');

/// A file by its path, whatever is in it.
pub fn uri(path: &Path) -> String {
    format!("file:{}", percent_encoding::utf8_percent_encode(&path.to_string_lossy(), URI))
}

/// The same, to be read without making any file beside it: what others write meanwhile is not seen.
pub fn as_it_stands(path: &Path) -> String {
    uri(path) + "?immutable=1"
}
