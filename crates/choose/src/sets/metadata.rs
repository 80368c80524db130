//! What a wheel says of itself: "Core metadata specifications" (PEP 566, 643, 685), as far as choosing goes.

use std::collections::BTreeSet;
use std::str::FromStr;

use pep508_rs::{Requirement, VerbatimUrl};

use super::lock::normalised;
use super::markers::{first_line, is_too_long};

/// Things that one library needs; whoever lists more does not mean it.
const MOST_NEEDS: usize = 5_000;

/// What a wheel says of itself.
#[derive(Clone, Debug)]
pub struct Metadata {
    /// Its name, normalised (PEP 503).
    pub name: String,
    /// Its version, as it says it.
    pub version: String,
    /// The runtime's versions that it wants (PEP 440).
    pub requires_python: Option<String>,
    /// What it needs (PEP 508).
    pub needs: Vec<Requirement<VerbatimUrl>>,
    /// Its optional pieces, normalised.
    pub pieces: BTreeSet<String>,
}

impl Metadata {
    /// Reads the head of a `METADATA` file.
    ///
    /// # Errors
    /// The first line that cannot be read.
    pub fn parse(text: &str) -> Result<Self, String> {
        let (mut name, mut version, mut requires_python) = (None, None, None);
        let (mut needs, mut pieces) = (Vec::new(), BTreeSet::new());
        // A line that begins with a space goes on with the one before it, also where there is nothing else in it (RFC 5322, 2.2.3).
        let lines = text.lines().take_while(|line| !line.is_empty()).filter(|line| !line.starts_with([' ', '\t']));
        for line in lines {
            let Some((key, value)) = line.split_once(':') else { continue };
            let value = value.trim();
            match key.to_ascii_lowercase().as_str() {
                "name" => name = Some(normalised(value)),
                "version" => version = Some(value.to_owned()),
                "requires-python" => requires_python = Some(value.to_owned()),
                "provides-extra" => {
                    pieces.insert(normalised(value));
                }
                "requires-dist" if needs.len() < MOST_NEEDS => needs.push(need(value)?),
                "requires-dist" => return Err("it needs more than anything does".to_owned()),
                _ => {}
            }
        }
        let (name, version) = name.zip(version).ok_or("it says no name and no version")?;
        Ok(Self { name, version, requires_python, needs, pieces })
    }
}

fn need(text: &str) -> Result<Requirement<VerbatimUrl>, String> {
    let unreadable = |why: &str| format!("`{}` cannot be read: {why}", text.chars().take(200).collect::<String>());
    if is_too_long(text) {
        return Err(unreadable("it is longer than what people write"));
    }
    Requirement::from_str(text).map_err(|error| unreadable(&first_line(&error.to_string())))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_head_is_read_and_nothing_below_it() {
        let text = "Metadata-Version: 2.1\nName: Tide_Table\nVersion: 1.2\nRequires-Python: >=3.9\nProvides-Extra: Plot_It\n\
                    License: So be it.\n\x20       \n\x20       Requires-Dist: law\n\
                    Requires-Dist: gauge (>=2)\nRequires-Dist: lamp[oil]<3,>=1; extra == 'plot-it'\n\nRequires-Dist: none\n";
        let read = Metadata::parse(text).unwrap();
        assert_eq!((read.name.as_str(), read.version.as_str()), ("tide-table", "1.2"));
        assert_eq!((read.needs.len(), read.pieces.contains("plot-it")), (2, true));
        let deep = format!("Name: a\nVersion: 1\nRequires-Dist: b; {}os_name == 'x'\n", "(".repeat(20_000));
        for wrong in ["", "Name: a\n", "Name: a\nVersion: 1\nRequires-Dist: pytz>dev\n", deep.as_str()] {
            assert!(Metadata::parse(wrong).is_err(), "{}", &wrong[..wrong.len().min(80)]);
        }
    }
}
