//! What a check of a catalog found, in words.

use kladder_choose::catalog::Fault;

use crate::text::{both, either, quoted};

/// More archives than these are counted.
const FEW: usize = 3;

/// What is wrong, or may be.
pub fn fault(fault: &Fault) -> String {
    match fault {
        Fault::NothingMeets { release, need, near } => {
            format!("release {release} needs {need}, and nothing here meets that{}", meant(near))
        }
        Fault::NoText { licence } => format!("there is no text for the licence `{licence}`: licences/{licence}.txt"),
        Fault::NoSuchTool { name, near } => format!("nothing here is or provides `{name}`{}", meant(near)),
        Fault::NoSuchSeries { tool, series } => format!("no release of {tool} is in the series `{series}`"),
        Fault::NoRunner { by } => format!("no tool here has the program `{by}`"),
        Fault::NotNeeded { tool } => format!("{tool} is named, and no need brings it"),
        Fault::CannotFail { claim } => format!("`{claim}` cannot fail: its pattern is like anything, nothing too"),
        Fault::Lacks { release, platform } => {
            format!("release {release} has no artifact for {platform}, which another one has")
        }
        Fault::LoansMeet { other, to, at } => format!("{other} lends {to} the same `{at}`"),
        Fault::TakesNone { tool } => format!("{tool} takes no extensions: its definition has no `extensions`"),
        Fault::NotAProvider { tool, capability } => {
            format!("{tool} is preferred for {capability}, which it does not provide")
        }
        Fault::NoFile { archives, command, file, near, not_executable } => {
            let more = archives.len().saturating_sub(FEW);
            let more = if more == 0 { String::new() } else { format!(" and {more} more") };
            let named = archives.iter().take(FEW).cloned().collect::<Vec<_>>().join(", ");
            let lacks = if *not_executable { "may not be run in" } else { "is not in" };
            format!("the command `{command}` is the file `{file}`, which {lacks} {named}{more}{}", meant(near))
        }
        Fault::NotUnpacked { release, file, why } => format!("{file} of release {release} cannot be unpacked: {why}"),
        Fault::OtherBytes { file, at } => format!("{at} is not the {file} that has this digest"),
        Fault::NoProjectFile { file } => format!("there is no file `{file}` beside the rehearsal"),
        Fault::NotProved { need } => format!("no rehearsal has it at work together with {need}, which it needs"),
        Fault::Circle { tools } => {
            format!("{} need each other in a circle; they are climbed together", both(tools))
        }
    }
}

fn meant(near: &[String]) -> String {
    if near.is_empty() { String::new() } else { format!("; {} is there", either(&quoted(near))) }
}
