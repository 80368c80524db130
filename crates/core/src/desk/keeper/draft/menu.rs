//! What a maker's own menu entries say of a graphical program (Desktop Entry Specification 1.5), as far as a definition has words
//! for it.

use std::fmt::Write as _;
use std::path::{Path, PathBuf};

use ini::{Ini, ParseOption};

use crate::base::files;
use crate::desk::keeper::block::quoted;

/// An entry may be this long.
const MOST: u64 = 64 << 10;
/// Endings of icons that every desktop draws, best first.
const ICONS: [&str; 2] = ["svg", "png"];

/// An entry, with what of it names files and commands of the archive.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Entry {
    name: String,
    command: String,
    icon: Option<String>,
    categories: Vec<String>,
    terminal: bool,
    types: Vec<String>,
    /// The file that says so.
    from: String,
}

/// The entries that start one of the programs.
pub(super) fn entries(folder: &Path, programs: &[PathBuf]) -> Vec<Entry> {
    let is_entry = |path: &Path| path.extension().is_some_and(|ending| ending == "desktop");
    let all = walkdir::WalkDir::new(folder).sort_by_file_name().into_iter().flatten();
    let all = all.filter(|entry| entry.file_type().is_file() && is_entry(entry.path()));
    all.filter_map(|entry| read(folder, entry.path(), programs)).collect()
}

fn read(folder: &Path, path: &Path, programs: &[PathBuf]) -> Option<Entry> {
    let text = files::text_of_at_most(path, MOST)?;
    let plain = ParseOption { enabled_quote: false, enabled_escape: false, ..ParseOption::default() };
    let entry = Ini::load_from_str_opt(&text, plain).ok()?;
    let section = entry.section(Some("Desktop Entry"))?;
    let line = |key: &str| section.get(key).map(|value| value.trim().replace(char::is_control, " "));
    let list = |key: &str| {
        let words = line(key).unwrap_or_default();
        words.split(';').filter(|word| is_word(word)).map(str::to_owned).collect()
    };
    let exec = line("Exec")?;
    let command = exec.split_whitespace().next()?.trim_matches('"').rsplit('/').next()?.to_owned();
    let is_own = programs.iter().any(|program| program.file_name().is_some_and(|name| name.to_str() == Some(&command)));
    let from = path.strip_prefix(folder).ok()?.display().to_string().replace(char::is_control, "?");
    is_own.then_some(Entry {
        name: line("Name")?,
        command,
        icon: line("Icon").and_then(|icon| found(folder, &icon)),
        categories: list("Categories"),
        terminal: line("Terminal").is_some_and(|value| value == "true"),
        types: list("MimeType"),
        from,
    })
}

fn is_word(word: &str) -> bool {
    !word.is_empty() && word.chars().all(|c| c.is_ascii_alphanumeric() || "-+./_".contains(c))
}

/// The file of an icon that is called so, the largest of those there are.
fn found(folder: &Path, icon: &str) -> Option<String> {
    let all = walkdir::WalkDir::new(folder).into_iter().flatten().filter(|entry| entry.file_type().is_file());
    let named = all.filter_map(|entry| {
        let path = entry.path().strip_prefix(folder).ok()?.to_path_buf();
        let ending = path.extension()?.to_str()?;
        let rank = ICONS.iter().position(|known| *known == ending)?;
        let is_it = path.file_stem()?.to_str()? == icon || path.file_name()?.to_str()? == icon;
        let size = entry.metadata().ok()?.len();
        is_it.then(|| (rank, std::cmp::Reverse(size), path.display().to_string()))
    });
    named.min().map(|(_, _, path)| path).filter(|path| !path.contains(char::is_control))
}

/// The tables, a comment at each.
pub(super) fn written(entries: &[Entry]) -> String {
    let one = |entry: &Entry| {
        let mut text = format!("\n[[desktop]]   # as {} has it\nname = {}\n", entry.from, quoted(&entry.name));
        let _ = writeln!(text, "command = {}", quoted(&entry.command));
        if let Some(icon) = &entry.icon {
            let _ = writeln!(text, "icon = {}", quoted(icon));
        }
        if !entry.categories.is_empty() {
            let all: Vec<String> = entry.categories.iter().map(|word| quoted(word)).collect();
            let _ = writeln!(text, "categories = [{}]", all.join(", "));
        }
        if entry.terminal {
            text.push_str("terminal = true\n");
        }
        if !entry.types.is_empty() {
            let all: Vec<String> = entry.types.iter().map(|word| format!("{} = \"\"", quoted(word))).collect();
            let _ = writeln!(text, "opens = {{ {} }}", all.join(", "));
        }
        text
    };
    entries.iter().map(one).collect()
}
