//! What people type out of habit, and our words for it.

use std::io::Write;
use std::process::ExitCode;

use clap::error::{ContextKind, ContextValue, ErrorKind};

use kladder_tell::problem::Code;

/// Verbs from elsewhere, and the command that does it here.
const HABITS: [(&[&str], &str); 11] = [
    (&["install", "sync", "apply", "up", "setup"], "climb"),
    (&["lock", "resolve", "freeze"], "pin"),
    (&["update", "upgrade", "outdated"], "newer"),
    (&["remove", "rm", "uninstall", "delete"], "drop TOOL"),
    (&["find", "list", "ls"], "search"),
    (&["info", "show"], "about TOOL"),
    (&["explain"], "why TOOL"),
    (&["plan", "diff", "tree"], "route"),
    (&["check", "test", "validate"], "verify"),
    (&["exec", "x", "shell"], "run -- CMD"),
    (&["serve", "server"], "yard serve FOLDER"),
];

/// Prints what clap has to say, with our word for a wrong verb.
pub(crate) fn answer(error: &clap::Error) -> ExitCode {
    // There is nowhere to tell it if the terminal is gone.
    let _ = error.print();
    if error.kind() == ErrorKind::InvalidSubcommand
        && let Some(ContextValue::String(typed)) = error.get(ContextKind::InvalidSubcommand)
    {
        let ours = HABITS.iter().find(|(verbs, _)| verbs.contains(&typed.as_str()));
        let hint = ours.map(|(_, ours)| format!("\nHere that is `kladder {ours}`.\n"));
        let _ = write!(std::io::stderr(), "{}", hint.unwrap_or_default());
    }
    if error.use_stderr() { Code::Usage.into() } else { ExitCode::SUCCESS }
}
