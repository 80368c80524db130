//! The difference that a change makes in a file.

use kladder_core::wire::Change;
use kladder_tell::text::clean;
use similar::TextDiff;

use super::text::{FAINT, STRONG, shown, styled};

/// Columns that a path has together with what is noted of it.
const ROOM: usize = 76;

/// The difference in a file, with the line before and after it.
pub(crate) fn difference(change: &Change) -> String {
    // That a last line got an end is no difference that could be seen.
    let text = |bytes: &Option<Vec<u8>>| {
        let text = String::from_utf8_lossy(bytes.as_deref().unwrap_or_default()).into_owned();
        if text.is_empty() || text.ends_with('\n') { text } else { text + "\n" }
    };
    let (before, after) = (text(&change.before), text(&change.after));
    let mut notes = Vec::new();
    match (&change.before, &change.after) {
        (None, _) => notes.push("a new file".to_owned()),
        (_, None) => notes.push("removed, since nothing else is in it".to_owned()),
        _ => {}
    }
    if change.target != change.file.path && change.before.is_some() {
        notes.push(format!("a link to {}", shown(&change.target)));
    }
    notes.extend(change.repository.as_ref().map(|folder| format!("under version control in {}", shown(folder))));
    let (path, notes) = (shown(&change.file.path), notes.join(", "));
    // What would not fit beside the path stands below it.
    let between = if path.chars().count() + notes.chars().count() > ROOM { "\n  " } else { "  " };
    let notes = if notes.is_empty() { notes } else { between.to_owned() + &styled(FAINT, notes) };
    let mut lines = vec![format!("{}{notes}", styled(STRONG, path))];
    let diff = TextDiff::from_lines(&before, &after);
    for group in diff.grouped_ops(1) {
        for line in group.iter().flat_map(|operation| diff.iter_changes(operation)) {
            let value = clean(line.value().trim_end_matches(['\r', '\n']));
            lines.push(match line.tag() {
                similar::ChangeTag::Equal => styled(FAINT, format!("    {value}")),
                similar::ChangeTag::Insert => format!("  + {value}"),
                similar::ChangeTag::Delete => format!("  - {value}"),
            });
        }
    }
    lines.join("\n") + "\n"
}
