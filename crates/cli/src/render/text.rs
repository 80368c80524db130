//! Small pieces of text: sizes, times, columns, styles.

use std::fmt::Write as _;
use std::path::Path;
use std::time::Duration;

use anstyle::{AnsiColor, Style};
use comfy_table::{CellAlignment, ContentArrangement, Table, presets};

pub(crate) const STRONG: Style = Style::new().bold();
pub(crate) const FAINT: Style = Style::new().dimmed();
pub(crate) const GOOD: Style = AnsiColor::Green.on_default();
pub(crate) const BAD: Style = AnsiColor::Red.on_default().bold();
pub(crate) const TOLD: Style = AnsiColor::Cyan.on_default();

/// `text` in a style.
pub(crate) fn styled(style: Style, text: impl std::fmt::Display) -> String {
    format!("{style}{text}{style:#}")
}

/// A number of bytes: `312 B`, `48.3 kB`, `1.2 GB`.
pub(crate) fn bytes(count: u64) -> String {
    const UNITS: [&str; 4] = ["kB", "MB", "GB", "TB"];
    if count < 1000 {
        return format!("{count} B");
    }
    #[allow(clippy::cast_precision_loss, reason = "three digits are shown")]
    let mut value = count as f64 / 1000.0;
    let mut unit = 0;
    while value >= 999.95 && unit + 1 < UNITS.len() {
        value /= 1000.0;
        unit += 1;
    }
    format!("{value:.1} {}", UNITS[unit])
}

/// A stretch of time: `40 ms`, `2.1 s`, `3 min 20 s`.
pub(crate) fn time(took: Duration) -> String {
    match took.as_secs() {
        0 => format!("{} ms", took.as_millis()),
        1..60 => format!("{:.1} s", took.as_secs_f64()),
        seconds => format!("{} min {} s", seconds / 60, seconds % 60),
    }
}

/// `1 rung`, `3 rungs`.
pub(crate) fn count(number: usize, one: &str) -> String {
    if number == 1 { format!("1 {one}") } else { format!("{number} {one}s") }
}

/// Foreign text without what could drive a terminal.
pub(crate) fn clean(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for c in text.chars() {
        match c {
            '\t' => out.push(' '),
            c if c.is_control() => {
                // Writing to a string does not fail.
                let _ = write!(out, "{}", c.escape_default());
            }
            c => out.push(c),
        }
    }
    out
}

/// A path as a person would write it: from the current folder, where it lies in it.
pub(crate) fn shown(path: &Path) -> String {
    let here = std::env::current_dir().unwrap_or_default();
    path.strip_prefix(&here).unwrap_or(path).display().to_string()
}

/// Columns of text, two blanks from the edge and between each other; columns in `right` are flush right.
pub(crate) fn columns(head: &[&str], rows: Vec<Vec<String>>, right: &[usize]) -> String {
    let mut table = Table::new();
    table.load_style(presets::NOTHING).set_content_arrangement(ContentArrangement::Disabled);
    if !head.is_empty() {
        // A style around nothing would keep blanks at the line's end.
        table.set_header(head.iter().map(|title| if title.is_empty() { String::new() } else { styled(FAINT, title) }));
    }
    table.add_rows(rows);
    for column in table.column_iter_mut() {
        let at = column.index;
        column.set_padding((2, 0));
        if right.contains(&at) {
            column.set_cell_alignment(CellAlignment::Right);
        }
    }
    table.to_string().lines().map(str::trim_end).collect::<Vec<_>>().join("\n")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sizes_and_times_have_three_digits_and_a_unit() {
        let sizes = [(999, "999 B"), (1000, "1.0 kB"), (999_949, "999.9 kB"), (999_950, "1.0 MB"), (1 << 40, "1.1 TB")];
        for (count, text) in sizes {
            assert_eq!(bytes(count), text);
        }
        assert_eq!(time(Duration::from_millis(40)), "40 ms");
        assert_eq!(time(Duration::from_secs(200)), "3 min 20 s");
    }

    #[test]
    fn foreign_text_cannot_drive_the_terminal() {
        assert_eq!(clean("a\x1b[31mb\tc\u{9b}"), "a\\u{1b}[31mb c\\u{9b}");
    }
}
