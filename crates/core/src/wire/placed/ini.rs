//! Files of sections in brackets and lines with an equals sign, as git-config(1) and the Desktop Entry Specification have them;
//! names of sections and keys are the same in either case. Only the line of a key is ever touched.

/// Where the lines of a section are: after its head, up to the next head.
fn section(lines: &[&str], name: &str) -> Option<std::ops::Range<usize>> {
    let head = |line: &&str| {
        let line = line.trim();
        Some(line.strip_prefix('[')?.split(']').next()?.trim().to_owned())
    };
    let from = lines.iter().position(|line| head(line).is_some_and(|head| head.eq_ignore_ascii_case(name)))? + 1;
    let end = lines[from..].iter().position(|line| head(line).is_some()).map_or(lines.len(), |at| from + at);
    Some(from..end)
}

fn is_key(line: &str, key: &str) -> bool {
    line.split_once('=').is_some_and(|(name, _)| name.trim().eq_ignore_ascii_case(key))
}

fn lines(text: &str) -> Vec<&str> {
    text.split_inclusive('\n').collect()
}

/// The value of a key.
pub(super) fn get(text: &str, name: &str, key: &str) -> Option<String> {
    let lines = lines(text);
    let line = lines[section(&lines, name)?].iter().rev().find(|line| is_key(line, key))?;
    let value = line.split_once('=')?.1.trim();
    let quoted = value.strip_prefix('"').and_then(|value| value.strip_suffix('"'));
    Some(quoted.map_or_else(|| value.to_owned(), |value| value.replace("\\\"", "\"").replace("\\\\", "\\")))
}

/// The text with a value for a key: in its line, else at the end of its section, else in a new section at the end.
pub(super) fn set(text: &str, name: &str, key: &str, value: &str) -> String {
    let mut lines: Vec<String> = lines(text).into_iter().map(str::to_owned).collect();
    if let Some(last) = lines.last_mut().filter(|last| !last.ends_with('\n')) {
        last.push('\n');
    }
    let shown: Vec<&str> = lines.iter().map(String::as_str).collect();
    let found = section(&shown, name);
    let indent = |line: &str| line[..line.len() - line.trim_start().len()].trim_end_matches('\n').to_owned();
    let written = |indent: &str| format!("{indent}{key} = {}\n", quoted(value));
    match found {
        Some(range) => {
            let at = range.clone().rev().find(|at| is_key(&lines[*at], key));
            // Beside its fellows, not behind blank lines and remarks that belong to what follows.
            let last = range.clone().rev().find(|at| lines[*at].contains('='));
            if let Some(at) = at {
                lines[at] = written(&indent(&lines[at]));
            } else {
                let indent = last.map(|at| indent(&lines[at])).unwrap_or_default();
                lines.insert(last.map_or(range.start, |at| at + 1), written(&indent));
            }
        }
        None => lines.extend([format!("[{name}]\n"), written("\t")]),
    }
    lines.concat()
}

/// The text without a key.
pub(super) fn remove(text: &str, name: &str, key: &str) -> String {
    let mut lines = lines(text);
    let at = section(&lines, name).and_then(|range| range.rev().find(|at| is_key(lines[*at], key)));
    if let Some(at) = at {
        lines.remove(at);
    }
    lines.concat()
}

fn quoted(value: &str) -> String {
    let is_plain = !value.contains(['#', ';', '"', '\\']) && value.trim() == value;
    if is_plain { value.to_owned() } else { format!("\"{}\"", value.replace('\\', "\\\\").replace('"', "\\\"")) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sections_keys_and_odd_values_are_found_again() {
        let text = "[remote \"a\"]\n\turl = x\n\n# about b\n[b]\n";
        let set_to = set(text, "remote \"a\"", "fetch", "+refs; \"all\" \\");
        assert_eq!(set_to, "[remote \"a\"]\n\turl = x\n\tfetch = \"+refs; \\\"all\\\" \\\\\"\n\n# about b\n[b]\n");
        assert_eq!(get(&set_to, "Remote \"a\"", "FETCH").as_deref(), Some("+refs; \"all\" \\"));
        assert_eq!(remove(&set_to, "remote \"a\"", "fetch"), text);
        assert_eq!(set("x", "user", "name", "A B"), "x\n[user]\n\tname = A B\n");
    }
}
