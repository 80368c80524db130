//! A made-up catalog as a folder.

use std::collections::BTreeMap;
use std::fs;
use std::io;
use std::path::Path;

use toml_edit::{Array, ArrayOfTables, DocumentMut, InlineTable, Item, Table, Value, value};

use crate::{Made, Need, Release, Tool, Way};

const HEAD: &str = "[catalog]\nformat = 2\nname = \"made-up\"\ntitle = \"Made-up tools\"\n";

impl Made {
    /// By tool: the text of its definition.
    pub fn texts(&self) -> impl Iterator<Item = (&str, String)> {
        self.tools.iter().map(|tool| (tool.name.as_str(), definition(tool).to_string()))
    }

    /// Writes it into `folder`, which becomes a catalog.
    ///
    /// # Errors
    /// When a file cannot be written.
    pub fn write(&self, folder: &Path) -> io::Result<()> {
        fs::create_dir_all(folder.join("tools"))?;
        fs::write(folder.join("catalog.toml"), HEAD)?;
        let mut texts = self.texts();
        texts.try_for_each(|(tool, text)| fs::write(folder.join("tools").join(format!("{tool}.toml")), text))
    }
}

fn definition(tool: &Tool) -> DocumentMut {
    let mut document = DocumentMut::new();
    document.insert("tool", value(&tool.name));
    document.insert("kind", value("made up"));
    document.insert("summary", value(format!("The made-up tool {}", tool.name)));
    if !tool.provides.is_empty() {
        document.insert("provides", value(strings(&tool.provides)));
    }
    if !tool.excludes.is_empty() {
        document.insert("excludes", value(ranges(&tool.excludes)));
    }
    if let Some(scheme) = &tool.scheme {
        document.insert("scheme", value(scheme));
    }
    if let Some(command) = &tool.host {
        let mut probe = InlineTable::new();
        probe.insert("command", command.as_str().into());
        document.insert("host", value(probe));
    }
    let releases: ArrayOfTables = tool.releases.iter().map(|one| release(&tool.name, one)).collect();
    if !releases.is_empty() {
        document.insert("releases", Item::ArrayOfTables(releases));
    }
    document
}

fn release(tool: &str, release: &Release) -> Table {
    let mut table = Table::new();
    table.insert("version", value(&release.version));
    if let Some(date) = release.date.as_ref().and_then(|date| date.parse::<toml_edit::Datetime>().ok()) {
        table.insert("date", value(date));
    }
    if !release.series.is_empty() {
        table.insert("series", value(strings(&release.series)));
    }
    let (single, choices): (Vec<&Need>, Vec<&Need>) = release.needs.iter().partition(|need| need.ways.len() == 1);
    if !single.is_empty() {
        table.insert("needs", value(needs(&single)));
    }
    if !choices.is_empty() {
        let lists = choices.iter().map(|need| Value::Array(need.ways.iter().map(text).collect()));
        table.insert("one-of", value(lists.collect::<Array>()));
    }
    if !release.excludes.is_empty() {
        table.insert("excludes", value(ranges(&release.excludes)));
    }
    if !release.provides.is_empty() {
        let provides = release.provides.iter().map(|(name, version)| (name.as_str(), Value::from(version.as_str())));
        table.insert("provides", value(provides.collect::<InlineTable>()));
    }
    table.insert("artifacts", value(artifacts(&release.platforms, &format!("{tool}-{}", release.version))));
    let mut pieces = Table::new();
    pieces.set_implicit(true);
    for (name, of) in &release.pieces {
        let mut piece = Table::new();
        piece.insert("summary", value(format!("The piece {name}")));
        if !of.is_empty() {
            piece.insert("needs", value(needs(&of.iter().collect::<Vec<_>>())));
        }
        piece.insert("artifacts", value(artifacts(&release.platforms, &format!("{tool}-{name}-{}", release.version))));
        pieces.insert(name, Item::Table(piece));
    }
    if !pieces.is_empty() {
        table.insert("pieces", Item::Table(pieces));
    }
    table
}

fn strings(texts: &[String]) -> Array {
    texts.iter().map(String::as_str).collect()
}

fn ranges(ways: &[Way]) -> InlineTable {
    ways.iter().map(|way| (way.name.as_str(), Value::from(way.range.as_str()))).collect()
}

/// By name; several of one name are a list.
fn needs(all: &[&Need]) -> InlineTable {
    let mut by_name: BTreeMap<&str, Vec<Value>> = BTreeMap::new();
    for need in all {
        for way in &need.ways {
            by_name.entry(&way.name).or_default().push(wanted(need, way));
        }
    }
    let one = |mut values: Vec<Value>| {
        if values.len() == 1 { values.remove(0) } else { Value::Array(values.into_iter().collect()) }
    };
    by_name.into_iter().map(|(name, values)| (name, one(values))).collect()
}

fn wanted(need: &Need, way: &Way) -> Value {
    if !need.private && need.on.is_empty() && way.pieces.is_empty() {
        return way.range.as_str().into();
    }
    let mut table = InlineTable::new();
    table.insert("version", way.range.as_str().into());
    if !way.pieces.is_empty() {
        table.insert("pieces", strings(&way.pieces).into());
    }
    if need.private {
        table.insert("private", true.into());
    }
    if !need.on.is_empty() {
        table.insert("for", strings(&need.on).into());
    }
    table.into()
}

fn text(way: &Way) -> Value {
    format!("{} {}", way.name, way.range).into()
}

/// Files that do not exist, each with a digest of its own.
fn artifacts(platforms: &[String], stem: &str) -> Array {
    let any = ["any".to_owned()];
    let platforms = if platforms.is_empty() { &any } else { platforms };
    let artifact = |platform: &String| {
        let file = format!("{stem}-{}.tar.gz", platform.replace('/', "-"));
        let mut artifact = InlineTable::new();
        artifact.insert("for", strings(std::slice::from_ref(platform)).into());
        artifact.insert("sha256", digest(&file).into());
        artifact.insert("file", file.into());
        artifact.insert("size", 1.into());
        Value::InlineTable(artifact)
    };
    platforms.iter().map(artifact).collect()
}

/// Sixty-four digits that differ from file to file; no digest of anything (FNV-1a, four times).
fn digest(file: &str) -> String {
    let hash = |seed: u64| file.bytes().fold(seed, |hash, byte| (hash ^ u64::from(byte)).wrapping_mul(0x100_0000_01b3));
    let part = |part: u64| format!("{:016x}", hash(0xcbf2_9ce4_8422_2325 + part));
    [part(0), part(1), part(2), part(3)].concat()
}
