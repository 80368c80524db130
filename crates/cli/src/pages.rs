//! The program's own manual pages, and its completions for shells.

use std::path::{Path, PathBuf};

use clap::{Command, CommandFactory};
use clap_complete::env::Shells;
use clap_complete::generate;
use clap_complete_nushell::Nushell;
use clap_mangen::Man;
use kladder_core::base::files::{self, FileError};

use crate::args::Arguments;
use crate::complete::ASKED;

const NAME: &str = "kladder";

/// Puts them into a folder that is laid out as /usr/share is; what is there already and true is left.
pub(crate) fn put(share: &Path) -> Result<(), FileError> {
    for (path, bytes) in all() {
        let path = share.join(path);
        if !files::read(&path).is_ok_and(|there| there == bytes) {
            files::create_folder(path.parent().unwrap_or(share))?;
            files::replace(&path, &bytes)?;
        }
    }
    Ok(())
}

fn all() -> Vec<(PathBuf, Vec<u8>)> {
    let mut all: Vec<(PathBuf, Vec<u8>)> = SCRIPTS.iter().filter_map(|(path, shell)| script(path, shell)).collect();
    all.push((PathBuf::from("nushell/kladder.nu"), nushell().into_bytes()));
    let mut command = Arguments::command();
    command.build();
    all.push(page(command.clone(), NAME.to_owned()));
    for sub in command.get_subcommands().filter(|sub| !sub.is_hide_set()) {
        let name = format!("{NAME}-{}", sub.get_name());
        all.push(page(sub.clone(), name));
    }
    all
}

/// Where shells look for what they offer; those that look nowhere read it where the person says so.
const SCRIPTS: [(&str, &str); 4] = [
    ("bash-completion/completions/kladder", "bash"),
    ("zsh/site-functions/_kladder", "zsh"),
    ("fish/vendor_completions.d/kladder.fish", "fish"),
    ("powershell/kladder.ps1", "powershell"),
];

/// The script that asks `kladder` for what a shell should offer.
fn script(path: &str, shell: &str) -> Option<(PathBuf, Vec<u8>)> {
    let shells = Shells::builtins();
    let mut bytes = Vec::new();
    shells.completer(shell)?.write_registration(ASKED, NAME, NAME, NAME, &mut bytes).ok()?;
    if shell == "zsh" {
        // Read at the first question, it has to answer that, too.
        bytes.extend_from_slice(b"\n_clap_dynamic_completer_kladder \"$@\"\n");
    }
    Some((PathBuf::from(path), bytes))
}

/// What asks `kladder` in nushell, in the words in which fish asks: the words so far, and the one that is being typed. What comes back is a
/// line for each, a tab before what it is.
const ASKING: &str = r#"
  def "nu-complete kladder asked" [context: string, position: int] {
    let words = ($context | str substring ..<$position | split row -r '\s+')
    let told = (with-env { KLADDER_COMPLETE: "fish" } { do { ^kladder -- ...$words } | complete })
    $told.stdout | lines | each { |line| $line | split row "\t" | { value: $in.0, description: ($in.1? | default "") } }
  }
"#;

/// Commands and options as nushell is told them, and for every value the question what can stand there.
fn nushell() -> String {
    let mut bytes = Vec::new();
    generate(Nushell, &mut Arguments::command(), NAME, &mut bytes);
    let text = String::from_utf8_lossy(&bytes);
    let mut out = String::with_capacity(text.len() * 2);
    for line in text.lines() {
        let (said, words) = line.split_once(" # ").unwrap_or((line, ""));
        if said.trim_end().ends_with(": string") {
            out.push_str(said.trim_end());
            out.push_str("@\"nu-complete kladder asked\"");
            if !words.is_empty() {
                out.push_str(" # ");
                out.push_str(words);
            }
        } else {
            out.push_str(line);
        }
        out.push('\n');
        if line.starts_with("module ") {
            out.push_str(ASKING);
        }
    }
    out
}

fn page(command: Command, name: String) -> (PathBuf, Vec<u8>) {
    let mut bytes = Vec::new();
    // Writing into memory does not fail.
    let _ = Man::new(command).render(&mut bytes);
    (PathBuf::from(format!("man/man1/{name}.1")), bytes)
}
