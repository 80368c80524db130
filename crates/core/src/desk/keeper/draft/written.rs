//! The text of a draft, with a comment at each guess.

use std::fmt::Write as _;
use std::path::PathBuf;

use kladder_choose::catalog::{Layout, Unpacking};
use kladder_choose::names::{ToolName, is_plain};

use super::looked::{Looked, SaysVersion};
use super::menu;
use super::{Drafted, Found};
use crate::desk::keeper::block::{self, FileBlock, key, quoted};

/// Commands that are written down; a package of more has them by the hundred, and few are typed.
const COMMANDS: usize = 12;

pub(super) fn written(found: &Found, unpack: &Unpacking, programs: &[PathBuf], looked: &Looked) -> Drafted {
    let first = programs.first().and_then(|path| path.file_name()).and_then(|name| name.to_str()).unwrap_or("tool");
    let named = found.name.clone().unwrap_or_else(|| first.to_owned());
    let tool: ToolName = named.parse().or_else(|_| first.parse()).unwrap_or_else(|_| known_name());
    let version = found.version.clone().or_else(|| looked.version.as_ref().map(|says| says.said.clone()));
    let menu = menu::written(&looked.menu);
    let parts = [head(&tool, found, looked), unpacking(unpack), notes(looked), commands(programs), menu];
    let mut text = parts.concat() + &check(looked, version.as_deref());
    match &version {
        Some(version) => text.push_str(&release(found, version)),
        None => text.push_str("\n# its version was not found out, so that no release is written\n"),
    }
    Drafted { tool, version, text }
}

/// What it is called, under which licence it is, from where it comes, and what it needs.
fn head(tool: &ToolName, found: &Found, looked: &Looked) -> String {
    let mut text =
        format!("tool = {}\nsummary = \"\"   # to be written: one line on what it does\n", quoted(tool.as_str()));
    if let Some((spdx, file)) = &looked.licence {
        let _ = writeln!(text, "spdx = \"{spdx}\"   # guessed from {file}");
    }
    if let Some(origin) = &found.origin {
        let _ = writeln!(text, "origins = [{}]", quoted(origin));
    }
    let needs: Vec<String> = looked.interpreters.iter().filter_map(|name| need(name)).collect();
    if !needs.is_empty() {
        let each: Vec<String> = needs.iter().map(|name| format!("{} = \"any\"", key(name))).collect();
        let _ = writeln!(text, "needs = {{ {} }}   # guessed from the first lines of its scripts", each.join(", "));
    }
    text.push_str(&gates(looked));
    if looked.has_fonts {
        text.push_str("fonts = [\"share/fonts\"]\n");
    }
    text
}

/// What its programs were linked with, and do not bring.
fn gates(looked: &Looked) -> String {
    let c_library = looked.said.c_library.iter().map(|version| format!("{{ c-library = \"gnu >={version}\" }}"));
    let libraries = looked.said.libraries.iter().map(|library| format!("{{ library = {} }}", quoted(library)));
    match c_library.chain(libraries).collect::<Vec<_>>().as_slice() {
        [] => String::new(),
        [one] => format!("gates = [{one}]   # what its programs were linked with\n"),
        all => {
            let lines: String = all.iter().map(|gate| format!("    {gate},\n")).collect();
            format!(
                "gates = [   # what its programs were linked with; a library may be a rung's own, by `needs`\n{lines}]\n"
            )
        }
    }
}

fn unpacking(unpack: &Unpacking) -> String {
    match (unpack.strip, unpack.layout) {
        (0, Some(Layout::Debian)) => "unpack = { layout = \"debian\", absolute-links = \"leave-out\" }\n".to_owned(),
        (0, _) => String::new(),
        (strip, _) => format!("unpack = {{ strip = {strip} }}   # one folder is around everything\n"),
    }
}

fn notes(looked: &Looked) -> String {
    looked.notes.iter().map(|note| format!("# {note}\n")).collect()
}

fn commands(programs: &[PathBuf]) -> String {
    let more = programs.len().saturating_sub(COMMANDS);
    let more = if more > 0 { format!("   # {more} more can be run") } else { String::new() };
    let line = |program: &PathBuf| {
        let name = program.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
        format!("{} = {}\n", key(&name), quoted(&program.display().to_string()))
    };
    format!("\n[commands]{more}\n{}", programs.iter().take(COMMANDS).map(line).collect::<String>())
}

fn check(looked: &Looked, version: Option<&str>) -> String {
    let Some(SaysVersion { run, pattern, said }) = &looked.version else {
        return "\n# no program said a version when it was asked; write a check of your own\n".to_owned();
    };
    let run: Vec<String> = run.iter().map(|word| quoted(word)).collect();
    let remark = if version == Some(said) { String::new() } else { format!("   # it said {said}") };
    let pattern = if pattern.contains('\'') { "(?<version>\\S+)" } else { pattern };
    format!(
        "\n[[checks]]\nname = \"says its version\"\nrun = [{}]\nexpect = {{ stdout = '{pattern}' }}{remark}\n",
        run.join(", ")
    )
}

fn release(found: &Found, version: &str) -> String {
    let file = FileBlock {
        scopes: vec![found.scope.clone()],
        file: found.file.clone(),
        size: found.size,
        sha256: found.sha256,
        more: Vec::new(),
        also: Vec::new(),
    };
    ["\n", &block::release(version, found.date.as_deref(), &[], &[file], &[])].concat()
}

/// The name of the tool that is probably meant by an interpreter; none for what every system has.
fn need(interpreter: &str) -> Option<String> {
    match interpreter {
        "sh" | "bash" => None,
        name if name.starts_with("python") => Some("python".to_owned()),
        "nodejs" => Some("node".to_owned()),
        name => is_plain(name).then(|| name.to_owned()),
    }
}

fn known_name() -> ToolName {
    "tool".parse().expect("it is a plain name")
}
