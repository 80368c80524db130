//! What a rung brings that the host has.

use std::collections::BTreeMap;

use kladder_choose::catalog::{Command, CommandName};
use kladder_choose::path::InnerPath;
use kladder_choose::pins::HostCopy;

use super::found::Found;

/// The commands of a rung; of what the host has those that are there, under the name that it was looked for by as well.
pub(super) fn commands(found: &Found<'_>) -> BTreeMap<CommandName, Command> {
    let own = found.definition.says.commands.clone();
    let by_probe = || found.definition.host.as_ref().and_then(|probe| probe.command.clone());
    let named = |file: &str| {
        let command = Command::of_file(file)?;
        Some((by_probe()?, command))
    };
    match &found.pin.host {
        None | Some(HostCopy::Itself(_) | HostCopy::Package { .. }) => own,
        Some(HostCopy::Aside { file }) => file.file_name().and_then(|name| named(name.to_str()?)).into_iter().collect(),
        Some(HostCopy::Laid { folder }) => {
            let is_there = |path: &InnerPath| path.below(folder).is_file();
            let mut all: BTreeMap<CommandName, Command> =
                own.into_iter().filter(|(_, command)| is_there(&command.file.at(&found.pin.version))).collect();
            let usual = by_probe().filter(|name| !all.contains_key(name)).into_iter();
            let usual = usual.flat_map(|name| [name.to_string(), ["bin/", name.as_str()].concat()]);
            let file = usual.into_iter().find(|path| folder.join(path).is_file());
            all.extend(file.and_then(|file| named(&file)));
            all
        }
    }
}
