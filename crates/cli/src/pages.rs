//! The program's own manual pages, and its completions for shells.

use std::path::{Path, PathBuf};

use clap::{Command, CommandFactory};
use clap_complete::{Shell, generate};
use clap_mangen::Man;
use kladder_core::base::files::{self, FileError};

use crate::args::Arguments;

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
    let completions = [
        ("bash-completion/completions/kladder", Shell::Bash),
        ("zsh/site-functions/_kladder", Shell::Zsh),
        ("fish/vendor_completions.d/kladder.fish", Shell::Fish),
    ];
    let completion = |(path, shell): (&str, Shell)| {
        let mut bytes = Vec::new();
        generate(shell, &mut Arguments::command(), NAME, &mut bytes);
        (PathBuf::from(path), bytes)
    };
    let mut command = Arguments::command();
    command.build();
    let mut all = completions.map(completion).to_vec();
    all.push(page(command.clone(), NAME.to_owned()));
    for sub in command.get_subcommands().filter(|sub| !sub.is_hide_set()) {
        let name = format!("{NAME}-{}", sub.get_name());
        all.push(page(sub.clone(), name));
    }
    all
}

fn page(command: Command, name: String) -> (PathBuf, Vec<u8>) {
    let mut bytes = Vec::new();
    // Writing into memory does not fail.
    let _ = Man::new(command).render(&mut bytes);
    (PathBuf::from(format!("man/man1/{name}.1")), bytes)
}
