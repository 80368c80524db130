//! Styles, tables and paragraphs, fitted to the terminal.

use std::path::Path;

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

/// A path as a person would write it: from the current folder, where it lies in it; without what could drive a terminal.
pub(crate) fn shown(path: &Path) -> String {
    let here = std::env::current_dir().unwrap_or_default();
    kladder_tell::text::clean(&path.strip_prefix(&here).unwrap_or(path).to_string_lossy())
}

/// Columns of text, two blanks from the edge and between each other; columns in `right` are flush right. Where they are
/// wider than `width`, cells are broken.
pub(crate) fn columns(head: &[&str], rows: Vec<Vec<String>>, right: &[usize], width: Option<usize>) -> String {
    let mut table = Table::new();
    table.load_style(presets::NOTHING).set_content_arrangement(ContentArrangement::Disabled);
    if let Some(width) = width {
        table.set_content_arrangement(ContentArrangement::Dynamic).set_width(u16::try_from(width).unwrap_or(u16::MAX));
    }
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

/// A text whose lines are broken at `width`; what is broken goes on below its beginning.
pub(crate) fn wrapped(text: &str, width: usize) -> String {
    let line = |line: &str| {
        if textwrap::core::display_width(line) <= width {
            return line.to_owned();
        }
        let indent: String = line.chars().take_while(|c| *c == ' ').take(width / 2).collect();
        let options = textwrap::Options::new(width.max(10))
            .subsequent_indent(&indent)
            .word_splitter(textwrap::WordSplitter::NoHyphenation);
        textwrap::fill(line, options)
    };
    text.split('\n').map(line).collect::<Vec<_>>().join("\n")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn paragraphs_are_broken_below_their_beginning_and_styles_do_not_count() {
        assert_eq!(wrapped("  the tide is high tonight", 16), "  the tide is\n  high tonight");
        let strong = styled(STRONG, "the tide");
        assert_eq!(wrapped(&format!("{strong} is high"), 16), format!("{strong} is high"));
        let long = "x".repeat(50);
        assert!(wrapped(&long, 20).lines().all(|line| line.len() <= 20));
    }

    #[test]
    fn tables_fit() {
        let rows = vec![vec![
            "skerroc".to_owned(),
            "a compiler for the Skerrow language, with all that belongs to it".to_owned(),
        ]];
        let table = columns(&["tool", "what it does"], rows, &[], Some(40));
        assert!(table.lines().all(|line| textwrap::core::display_width(line) <= 40), "{table}");
    }
}
