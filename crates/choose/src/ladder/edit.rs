//! Changing a ladder's file: what people wrote around it stays.
//!
//! The file is read by a library that keeps what stands between values, changed in one place, and written as it was but for
//! that: order, blanks and remarks are the person's.

use toml_edit::{Array, Decor, DocumentMut, InlineTable, Item, TableLike, Value, value};

use super::{HostPolicy, Range};
use crate::document::{DocumentError, Source};
use crate::version::Requirement;

/// What a wish says, apart from its tool.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Terms {
    /// Which versions will do.
    pub range: Range,
    /// Whether what the host has will do.
    pub host: HostPolicy,
}

impl Terms {
    /// The value as it stands in a ladder: a string where that says it all, else a table.
    pub fn to_value(&self) -> Value {
        let fields = self.fields();
        let is_short = self.range.pieces.is_empty() && self.host == HostPolicy::Allow;
        match &fields[..] {
            [(_, Some(only))] if is_short => only.clone(),
            _ if is_short && self.range.series.is_none() => self.range.requirement.to_string().into(),
            [(_, None), (_, Some(series)), ..] if is_short => series.clone(),
            _ => {
                let mut table = InlineTable::new();
                table.extend(fields.into_iter().filter_map(|(key, value)| Some((key, value?))));
                Value::InlineTable(table)
            }
        }
    }

    /// The keys of the table form; `None` for those that need not be said.
    fn fields(&self) -> [(&'static str, Option<Value>); 4] {
        let Range { requirement, series, pieces } = &self.range;
        let said = *requirement != Requirement::any() || (series.is_none() && pieces.is_empty());
        [
            ("version", said.then(|| requirement.to_string().into())),
            ("series", series.as_deref().map(Value::from)),
            ("pieces", (!pieces.is_empty()).then(|| pieces.iter().map(String::as_str).collect::<Array>().into())),
            ("host", (self.host != HostPolicy::Allow).then(|| self.host.to_string().into())),
        ]
    }
}

/// The ladder's text with a wish added at the end, or changed where it stands.
///
/// # Errors
/// [`DocumentError`] where the ladder's text is not TOML, or its rungs are no table.
pub fn with_wish(source: &Source, tool: &str, terms: &Terms) -> Result<String, DocumentError> {
    let mut document = parse(source)?;
    let rungs = document.entry("rungs").or_insert_with(toml_edit::table);
    let Some(rungs) = rungs.as_table_like_mut() else { return Err(source.invalid(0..0, "`rungs` is no table")) };
    match rungs.get_mut(tool) {
        Some(Item::Table(table)) => {
            for (key, value) in terms.fields() {
                set(table, key, value);
            }
        }
        Some(item) => {
            let decor = item.as_value().map(|old| old.decor().clone()).unwrap_or_default();
            *item = Item::Value(with_decor(terms.to_value(), decor));
        }
        None => drop(rungs.insert(tool, value(terms.to_value()))),
    }
    Ok(document.to_string())
}

fn set(table: &mut dyn TableLike, key: &str, new: Option<Value>) {
    match (table.get_mut(key), new) {
        (Some(item), Some(new)) => {
            let decor = item.as_value().map(|old| old.decor().clone()).unwrap_or_default();
            *item = Item::Value(with_decor(new, decor));
        }
        (None, Some(new)) => drop(table.insert(key, value(new))),
        (_, None) => drop(table.remove(key)),
    }
}

fn with_decor(mut value: Value, decor: Decor) -> Value {
    *value.decor_mut() = decor;
    value
}

/// The ladder's text without a wish; `None` when it has no such wish. A comment behind the wish goes with it, and so does
/// one right above it unless the next line goes on without a gap: then it may be about both.
///
/// # Errors
/// [`DocumentError`] where the ladder's text is not TOML.
pub fn without_wish(source: &Source, tool: &str) -> Result<Option<String>, DocumentError> {
    let Some(lines) = lines_of(source, tool)? else {
        let mut document = parse(source)?;
        let removed = document.get_mut("rungs").and_then(Item::as_table_like_mut).and_then(|rungs| rungs.remove(tool));
        return Ok(removed.map(|_| document.to_string()));
    };
    let all: Vec<&str> = source.text.split_inclusive('\n').collect();
    let goes_on =
        all.get(lines.end).is_some_and(|next| !next.trim().is_empty() && !next.trim_start().starts_with(['#', '[']));
    let above = all[..lines.start].iter().rev().take_while(|line| line.trim_start().starts_with('#')).count();
    let from = if goes_on { lines.start } else { lines.start - above };
    Ok(Some(all[..from].iter().chain(&all[lines.end..]).copied().collect()))
}

/// The lines that a wish takes up, from 0; `None` when it does not have lines of its own.
fn lines_of(source: &Source, tool: &str) -> Result<Option<std::ops::Range<usize>>, DocumentError> {
    let document = toml_edit::Document::parse(source.text.as_str()).map_err(|error| wrong(source, &error))?;
    let Some(rungs) = document.get("rungs").and_then(Item::as_table) else { return Ok(None) };
    let Some((key, Item::Value(wish))) = rungs.get_key_value(tool) else { return Ok(None) };
    let Some((start, end)) = key.span().zip(wish.span()).map(|(key, wish)| (key.start, wish.end)) else {
        return Ok(None);
    };
    let line = |at: usize| source.text[..at].matches('\n').count();
    Ok(Some(line(start)..line(end) + 1))
}

fn parse(source: &Source) -> Result<DocumentMut, DocumentError> {
    source.text.parse().map_err(|error| wrong(source, &error))
}

fn wrong(source: &Source, error: &toml_edit::TomlError) -> DocumentError {
    source.invalid(error.span().unwrap_or(0..0), error.message())
}

#[cfg(test)]
mod tests {
    use super::*;

    const LADDER: &str = "\
# The desk's.
[ladder]
title = \"Desk\"

[rungs]
# for the buoys
skerroc = \"1.4\"   # the pilots' firmware
tidlow = { version = \"any\", pieces = [
    \"tracer\",
] }

# only on Mondays
wrackle = \"any\"
";

    fn source(text: &str) -> Source {
        Source::new("ladder.toml", text)
    }

    fn terms(requirement: &str, pieces: &[&str]) -> Terms {
        let pieces = pieces.iter().map(|&piece| piece.to_owned()).collect();
        let range = Range { requirement: requirement.parse().unwrap(), series: None, pieces };
        Terms { range, host: HostPolicy::Allow }
    }

    #[test]
    fn a_wish_is_added_or_changed_and_nothing_else() {
        let added = with_wish(&source(LADDER), "oarweld", &terms(">=2, <3", &[])).unwrap();
        assert_eq!(added, format!("{LADDER}oarweld = \">=2, <3\"\n"));
        let changed = with_wish(&source(LADDER), "skerroc", &terms("1.5", &["lens"])).unwrap();
        let line = "skerroc = { version = \"1.5\", pieces = [\"lens\"] }   # the pilots' firmware";
        assert_eq!(changed, LADDER.replace("skerroc = \"1.4\"   # the pilots' firmware", line));
        let own_table = with_wish(&source("[rungs.skerroc]\nversion = \"1\" # old\n"), "skerroc", &terms("2", &[]));
        assert_eq!(own_table.unwrap(), "[rungs.skerroc]\nversion = \"2\" # old\n");
        let first = with_wish(&source("[ladder]\n"), "skerroc", &terms("any", &[])).unwrap();
        assert_eq!(first, "[ladder]\n\n[rungs]\nskerroc = \"any\"\n");
    }

    #[test]
    fn a_wish_that_goes_takes_its_own_comments_along() {
        let without = |text: &str, tool: &str| without_wish(&source(text), tool).unwrap();
        let skerroc = LADDER.replace("skerroc = \"1.4\"   # the pilots' firmware\n", "");
        assert_eq!(without(LADDER, "skerroc").unwrap(), skerroc, "the comment above may be about tidlow too");
        assert_eq!(without(LADDER, "wrackle").unwrap(), LADDER.replace("# only on Mondays\nwrackle = \"any\"\n", ""));
        let tidlow = LADDER.replace("tidlow = { version = \"any\", pieces = [\n    \"tracer\",\n] }\n", "");
        assert_eq!(without(LADDER, "tidlow").unwrap(), tidlow);
        assert_eq!(without(LADDER, "oarweld"), None);
        assert_eq!(without("rungs = { a = \"1\", b = \"2\" }\n", "a").unwrap(), "rungs = { b = \"2\" }\n");
        assert_eq!(without("[rungs.a]\nversion = \"1\"\n[rungs.b]\n", "a").unwrap(), "[rungs.b]\n");
    }
}
