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
    let mut nushell = Vec::new();
    generate(Nushell, &mut Arguments::command(), NAME, &mut nushell);
    all.push((PathBuf::from("nushell/kladder.nu"), nushell));
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

fn page(command: Command, name: String) -> (PathBuf, Vec<u8>) {
    let mut bytes = Vec::new();
    // Writing into memory does not fail.
    let _ = Man::new(command).render(&mut bytes);
    (PathBuf::from(format!("man/man1/{name}.1")), bytes)
}
