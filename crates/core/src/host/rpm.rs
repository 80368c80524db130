//! The package database of RPM, where `SQLite` holds it. It is read as it stands: opening it otherwise would make files beside
//! it.
//!
//! Sources: the tables `Packages(hnum, blob)` and `Name(key, hnum)` of rpm's own `lib/backend/sqlite.c`, and the structure of
//! headers in the description of package format 4: two numbers, of index entries and of bytes of data; entries of a tag, a
//! type, an offset and a count; the data. All numbers are of four bytes, the highest first.

use std::path::Path;

use rusqlite::{Connection, OpenFlags, OptionalExtension};

use crate::base::database::as_it_stands;

const VERSION: u32 = 1001;
const RELEASE: u32 = 1002;
const EPOCH: u32 = 1003;

/// The version of a package as `EPOCH:VERSION-RELEASE`, without an epoch where it has none; `None` inside where it is not
/// installed.
///
/// # Errors
/// That of `SQLite` where the database cannot be read.
pub fn version(database: &Path, name: &str) -> rusqlite::Result<Option<String>> {
    let uri = as_it_stands(database);
    let flags = OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_URI;
    let connection = Connection::open_with_flags(uri, flags)?;
    let query = "SELECT blob FROM Packages JOIN Name USING (hnum) WHERE key = ?1 ORDER BY hnum DESC LIMIT 1";
    let header: Option<Vec<u8>> = connection.query_row(query, [name], |row| row.get(0)).optional()?;
    Ok(header.and_then(|header| in_header(&header)))
}

fn in_header(header: &[u8]) -> Option<String> {
    let number = |at: usize| Some(u32::from_be_bytes(header.get(at..at.checked_add(4)?)?.try_into().ok()?));
    let entries = usize::try_from(number(0)?).ok()?;
    let data = entries.checked_mul(16)?.checked_add(8)?;
    let start = |wanted: u32| {
        let at = (0..entries).map(|entry| 8 + entry * 16).take_while(|at| *at < header.len());
        let at = at.into_iter().find(|at| number(*at) == Some(wanted))?;
        data.checked_add(usize::try_from(number(at + 8)?).ok()?)
    };
    let text = |wanted: u32| {
        let bytes = header.get(start(wanted)?..)?;
        std::str::from_utf8(bytes.split(|byte| *byte == 0).next()?).ok()
    };
    let epoch = start(EPOCH).and_then(number).map_or_else(String::new, |epoch| format!("{epoch}:"));
    Some(format!("{epoch}{}-{}", text(VERSION)?, text(RELEASE)?))
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A header as rpm 4.18 writes them: the region's own entry first, then tags in rising order.
    fn header(epoch: Option<u32>) -> Vec<u8> {
        let data = b"C\0tideglass\x002.1\x003.fc41\0\0";
        let (epoch_at, mut entries) =
            (24_u32, vec![(100, 8, 0, 1), (1000, 6, 2, 1), (VERSION, 6, 12, 1), (RELEASE, 6, 16, 1)]);
        entries.extend(epoch.map(|_| (EPOCH, 4, epoch_at, 1)));
        let mut bytes = Vec::new();
        let count = u32::try_from(entries.len()).unwrap();
        bytes.extend(count.to_be_bytes());
        bytes.extend(28_u32.to_be_bytes());
        for (tag, kind, offset, count) in entries {
            for number in [tag, kind, offset, count] {
                bytes.extend(u32::to_be_bytes(number));
            }
        }
        bytes.extend(data);
        bytes.extend(epoch.unwrap_or_default().to_be_bytes());
        bytes
    }

    #[test]
    fn versions_are_read_from_headers_and_damaged_ones_are_none() {
        assert_eq!(in_header(&header(Some(1))).as_deref(), Some("1:2.1-3.fc41"));
        assert_eq!(in_header(&header(None)).as_deref(), Some("2.1-3.fc41"));
        let whole = header(Some(1));
        for end in 0..whole.len() - 12 {
            let told = in_header(&whole[..end]);
            assert!(told.is_none() || told.as_deref().is_some_and(|told| !told.contains("fc41")), "{end}: {told:?}");
        }
        let huge = [&[0xff; 4], &whole[4..]].concat();
        assert_eq!(in_header(&huge), None);
    }

    #[test]
    fn a_database_is_asked_and_left_as_it_is() {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("rpm db?.sqlite");
        assert!(version(&file, "tideglass").is_err());
        let made = Connection::open(&file).unwrap();
        made.execute_batch(
            "CREATE TABLE 'Packages' (hnum INTEGER PRIMARY KEY AUTOINCREMENT, blob BLOB NOT NULL);
             CREATE TABLE 'Name' (key 'TEXT' NOT NULL, hnum INTEGER NOT NULL, idx INTEGER NOT NULL);",
        )
        .unwrap();
        made.execute("INSERT INTO Packages (hnum, blob) VALUES (7, ?1)", [header(None)]).unwrap();
        made.execute("INSERT INTO Name VALUES ('tideglass', 7, 0)", []).unwrap();
        drop(made);
        assert_eq!(version(&file, "tideglass").unwrap().as_deref(), Some("2.1-3.fc41"));
        assert_eq!(version(&file, "other").unwrap(), None);
        assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 1);
    }
}
