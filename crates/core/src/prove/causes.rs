//! What a failure probably comes from: rules over what a program wrote.
//!
//! The patterns are the wordings of the GNU and musl dynamic linkers, of shells and env(1), and of common interpreters. A
//! rule that matches names a cause and never decides: the check has failed already.

use std::path::Path;
use std::sync::LazyLock;

use regex::{Captures, Regex};

use super::wants;
use crate::base::event::Cause;

/// A wording, and the cause that it tells of.
struct Rule {
    pattern: &'static str,
    cause: fn(&Captures<'_>) -> Cause,
}

fn part(found: &Captures<'_>, name: &str) -> String {
    found.name(name).map(|part| part.as_str().to_owned()).unwrap_or_default()
}

/// The C library's own versions are told as such: a newer system is what helps there.
fn old_library(found: &Captures<'_>) -> Cause {
    let (library, wanted) = (part(found, "library"), part(found, "wanted"));
    match wanted.strip_prefix("GLIBC_") {
        Some(wanted) => Cause::OldCLibrary { wanted: wanted.to_owned(), found: None },
        None => Cause::OldLibrary { library, wanted },
    }
}

fn no_library(found: &Captures<'_>) -> Cause {
    Cause::NoLibrary { library: part(found, "library"), by: Vec::new() }
}

const RULES: [Rule; 18] = [
    Rule {
        pattern: r"(?<library>[\w.+-]+\.so[\w.]*): version `(?<wanted>[A-Za-z]\w*_[0-9.]+)' not found",
        cause: old_library,
    },
    Rule {
        pattern: r"error while loading shared libraries: (?<library>[^:\s]+): cannot open shared object file",
        cause: no_library,
    },
    Rule { pattern: r"Error loading shared library (?<library>[^:\s]+): No such file or directory", cause: no_library },
    Rule { pattern: r"Library not loaded: (?<library>\S+)", cause: no_library },
    Rule {
        pattern: r"env: .?[‘'`](?<interpreter>[^’'`]+)[’'`]: No such file or directory",
        cause: |found| Cause::NoInterpreter { interpreter: part(found, "interpreter") },
    },
    Rule {
        pattern: r"env: (?<interpreter>[\w.+/-]+): No such file or directory",
        cause: |found| Cause::NoInterpreter { interpreter: part(found, "interpreter") },
    },
    Rule {
        pattern: r"(?<interpreter>/[^\s:]+): bad interpreter: No such file or directory",
        cause: |found| Cause::NoInterpreter { interpreter: part(found, "interpreter") },
    },
    Rule {
        pattern: r"Cannot find (?:module|package) '(?<module>[^']+)'",
        cause: |found| Cause::NoCompanion { module: part(found, "module") },
    },
    Rule {
        pattern: r"(?:ModuleNotFoundError|ImportError): No module named '?(?<module>[\w.]+)'?",
        cause: |found| Cause::NoCompanion { module: part(found, "module") },
    },
    Rule {
        pattern: r"Can't locate (?<module>[\w/]+)\.pm in @INC",
        cause: |found| Cause::NoCompanion { module: part(found, "module").replace('/', "::") },
    },
    Rule {
        pattern: r"(?m)^(?:\S+: )*(?<file>/[^\s:]+): Permission denied$",
        cause: |found| Cause::NotExecutable { file: Some(part(found, "file")) },
    },
    Rule { pattern: r"(?i)exec format error|cannot execute binary file", cause: |_| Cause::OtherProcessor },
    Rule {
        pattern: r#"(?i)(?:cannot|can't|could not|unable to) (?:touch|create|write|make|open)[^\n'‘`"]*['‘`"](?<path>/[^'’`"\n]+)['’`"][^\n]*: Permission denied"#,
        cause: |found| Cause::WantsToWrite { path: part(found, "path") },
    },
    Rule { pattern: r"(?i)no space left on device|disk quota exceeded|ENOSPC", cause: |_| Cause::DiskFull },
    Rule { pattern: r"(?i)address already in use|EADDRINUSE", cause: |_| Cause::PortTaken },
    Rule { pattern: r"(?i)connection refused|ECONNREFUSED", cause: |_| Cause::Stopped { services: Vec::new() } },
    Rule {
        pattern: r"(?i)temporary failure in name resolution|network is unreachable|could not resolve host|EAI_AGAIN",
        cause: |_| Cause::WantsNetwork,
    },
    Rule {
        pattern: r"(?i)(?:EROFS: )?read-only file system:? ?[,']* ?(?:\w+ ')?(?<path>/[^\s']*)?",
        cause: |found| Cause::WantsToWrite { path: part(found, "path") },
    },
];

/// A compiled pattern with what it tells.
type Compiled = (Regex, fn(&Captures<'_>) -> Cause);

static COMPILED: LazyLock<Vec<Compiled>> = LazyLock::new(|| {
    // Each pattern was seen to compile in a test.
    RULES.iter().filter_map(|rule| Some((Regex::new(rule.pattern).ok()?, rule.cause))).collect()
});

/// The causes that what a program wrote tells of, each once, in the order of the rules.
pub fn of_output(text: &str) -> Vec<Cause> {
    let mut causes = Vec::new();
    for (pattern, cause) in COMPILED.iter() {
        for found in pattern.captures_iter(text) {
            let cause = told_of_host(cause(&found));
            if !causes.contains(&cause) {
                causes.push(cause);
            }
        }
    }
    if let Some(cause) = started_in_vain(text).filter(|cause| !causes.contains(cause)) {
        causes.push(cause);
    }
    causes
}

/// Commands that were not found, as shells and those who start others say it.
const NOT_FOUND: [&str; 7] = [
    r"(?m)(?:^|[\s:])(?<command>[\w.+-]+): (?:command )?not found\s*$",
    r"(?m)(?:[Cc]ommand not found|Unknown command): (?<command>[\w.+-]+)",
    r"['‘`](?<command>[\w.+-]+)['’]: (?:execvp: )?No such file or directory",
    r"(?:env|make|nice|nohup|xargs|timeout): (?<command>[\w.+-]+): No such file or directory",
    r#"[Cc]annot run program "(?<command>[\w.+-]+)""#,
    r#"exec: "(?<command>[\w.+-]+)": executable file not found"#,
    r"(?:spawn (?<command>[\w.+-]+) ENOENT)|(?:No such file or directory: '(?<file>[\w.+-]+)')",
];

static NOT_FOUND_COMPILED: LazyLock<Vec<Regex>> =
    LazyLock::new(|| NOT_FOUND.iter().filter_map(|pattern| Regex::new(pattern).ok()).collect());

/// Names of commands that a program says it did not find, each once.
pub(crate) fn commands_not_found(text: &str) -> Vec<String> {
    let mut commands: Vec<String> = Vec::new();
    for found in NOT_FOUND_COMPILED.iter().flat_map(|pattern| pattern.captures_iter(text)) {
        let name = found.name("command").or_else(|| found.name("file")).map(|name| name.as_str().to_owned());
        commands.extend(name.filter(|name| !commands.contains(name)));
    }
    commands
}

/// A script that is there and cannot be started lacks the interpreter that its first line names.
fn started_in_vain(text: &str) -> Option<Cause> {
    const SAID: (&str, &str) = ("cannot start ", ": No such file or directory");
    let (file, _) = text.split_once(SAID.0)?.1.split_once(SAID.1)?;
    let interpreter = wants::script_interpreter(Path::new(file))?;
    Some(Cause::NoInterpreter { interpreter })
}

/// What the program did not say of the host is added.
fn told_of_host(cause: Cause) -> Cause {
    match cause {
        Cause::OldCLibrary { wanted, found: None } => Cause::OldCLibrary { wanted, found: wants::c_library() },
        other => other,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_wording_is_told_by_one_rule_and_no_other() {
        assert_eq!(COMPILED.len(), RULES.len(), "a pattern does not compile");
        let library = |library: &str| Cause::NoLibrary { library: library.into(), by: Vec::new() };
        let interpreter = |interpreter: &str| Cause::NoInterpreter { interpreter: interpreter.into() };
        let companion = |module: &str| Cause::NoCompanion { module: module.into() };
        let cases = [
            (
                "skerroc: /lib/x86_64-linux-gnu/libc.so.6: version `GLIBC_2.38' not found (required by skerroc)",
                Cause::OldCLibrary { wanted: "2.38".into(), found: wants::c_library() },
            ),
            (
                "x: /usr/lib/libstdc++.so.6: version `GLIBCXX_3.4.32' not found (required by x)",
                Cause::OldLibrary { library: "libstdc++.so.6".into(), wanted: "GLIBCXX_3.4.32".into() },
            ),
            (
                "x: error while loading shared libraries: libtide.so.2: cannot open shared object file: No such file",
                library("libtide.so.2"),
            ),
            (
                "Error loading shared library libtide.so.2: No such file or directory (needed by x)",
                library("libtide.so.2"),
            ),
            ("dyld[7]: Library not loaded: @rpath/libtide.dylib", library("@rpath/libtide.dylib")),
            ("/usr/bin/env: ‘skerrow’: No such file or directory", interpreter("skerrow")),
            ("env: skerrow: No such file or directory", interpreter("skerrow")),
            ("sh: 1: ./x: /opt/skerrow: bad interpreter: No such file or directory", interpreter("/opt/skerrow")),
            ("Error: Cannot find module 'tide-table'", companion("tide-table")),
            ("ModuleNotFoundError: No module named 'tide'", companion("tide")),
            ("Can't locate Tide/Table.pm in @INC (you may need", companion("Tide::Table")),
            ("sh: 1: /s/bin/gauge: Permission denied", Cause::NotExecutable { file: Some("/s/bin/gauge".into()) }),
            ("sh: ./gauge: cannot execute binary file: Exec format error", Cause::OtherProcessor),
            ("touch: cannot touch '/usr/tide': Permission denied", Cause::WantsToWrite { path: "/usr/tide".into() }),
            ("dd: error writing 'x': No space left on device", Cause::DiskFull),
            ("bind: Address already in use", Cause::PortTaken),
            ("connect ECONNREFUSED 127.0.0.1:4100", Cause::Stopped { services: Vec::new() }),
            ("fetch: Temporary failure in name resolution", Cause::WantsNetwork),
            ("touch: cannot touch '/s/x': Read-only file system", Cause::WantsToWrite { path: String::new() }),
        ];
        for (text, cause) in cases {
            assert_eq!(of_output(text), [cause], "{text}");
        }
        assert_eq!(NOT_FOUND_COMPILED.len(), NOT_FOUND.len(), "a pattern does not compile");
        let said = [
            "sh: 1: tidal: not found",
            "./x: line 3: tidal: command not found",
            "zsh:1: command not found: tidal",
            "fish: Unknown command: tidal",
            "cc: fatal error: cannot execute 'tidal': execvp: No such file or directory",
            "/usr/bin/env: ‘tidal’: No such file or directory",
            "make: tidal: No such file or directory",
            "java.io.IOException: Cannot run program \"tidal\" (in directory \".\")",
            "exec: \"tidal\": executable file not found in $PATH",
            "Error: spawn tidal ENOENT",
            "FileNotFoundError: [Errno 2] No such file or directory: 'tidal'",
        ];
        for text in said {
            assert_eq!(commands_not_found(text), ["tidal"], "{text}");
        }
        assert!(of_output("warning: the tide is high\nPermission denied\nno such file").is_empty());
    }
}
