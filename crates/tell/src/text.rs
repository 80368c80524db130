//! Numbers and foreign text, as they are shown.

use std::fmt::Write as _;
use std::time::Duration;

/// A number of bytes: `312 B`, `48.3 kB`, `1.2 GB`.
pub fn bytes(count: u64) -> String {
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
pub fn time(took: Duration) -> String {
    match took.as_secs() {
        0 => format!("{} ms", took.as_millis()),
        1..60 => format!("{:.1} s", took.as_secs_f64()),
        seconds => format!("{} min {} s", seconds / 60, seconds % 60),
    }
}

/// A text of at most so many characters: of a longer one its beginning and its end.
pub fn shortened(text: &str, most: usize) -> String {
    let length = text.chars().count();
    if length <= most {
        return text.to_owned();
    }
    let end = most / 4;
    let first = text.chars().take(most - end - 1);
    first.chain(['…']).chain(text.chars().skip(length - end)).collect()
}

/// `1 rung`, `3 rungs`, `2 wishes`.
pub fn count(number: usize, one: &str) -> String {
    match number {
        1 => format!("1 {one}"),
        _ if one.ends_with("ary") => format!("{number} {}ies", &one[..one.len() - 1]),
        _ if one.ends_with("sh") => format!("{number} {one}es"),
        _ => format!("{number} {one}s"),
    }
}

/// `a`, `a or b`, `a, b or c`.
pub fn either<T: ToString>(names: &[T]) -> String {
    match plain(names).as_slice() {
        [] => String::new(),
        [one] => one.clone(),
        [most @ .., last] => format!("{} or {last}", most.join(", ")),
    }
}

/// `a`, `a and b`, `a, b and c`.
pub fn both<T: ToString>(names: &[T]) -> String {
    match plain(names).as_slice() {
        [] => String::new(),
        [one] => one.clone(),
        [most @ .., last] => format!("{} and {last}", most.join(", ")),
    }
}

/// Each in backquotes.
pub fn quoted<T: ToString>(names: &[T]) -> Vec<String> {
    names.iter().map(|name| format!("`{}`", name.to_string())).collect()
}

/// Each as text.
pub fn plain<T: ToString>(names: &[T]) -> Vec<String> {
    names.iter().map(ToString::to_string).collect()
}

/// A path or another text as one word of a POSIX shell (IEEE 1003.1, section 2.2).
pub fn shell_word(path: impl AsRef<std::path::Path>) -> String {
    let text = path.as_ref().display().to_string();
    let is_plain = |char: char| char.is_ascii_alphanumeric() || "/._-+,@%:".contains(char);
    if !text.is_empty() && text.chars().all(is_plain) { text } else { format!("'{}'", text.replace('\'', r"'\''")) }
}

/// Foreign text without what could drive a terminal: control characters of both sets, and those that turn the direction
/// of writing (Unicode TR 36, section 2.7).
pub fn clean(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for c in text.chars() {
        match c {
            '\t' => out.push(' '),
            c if c.is_control() || is_turning(c) => {
                // Writing to a string does not fail.
                let _ = write!(out, "{}", c.escape_default());
            }
            c => out.push(c),
        }
    }
    out
}

fn is_turning(c: char) -> bool {
    matches!(c, '\u{200e}' | '\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}' | '\u{2028}' | '\u{2029}')
}
