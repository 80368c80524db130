//! What helps against a failure, in words.

use kladder_core::base::event::Subject;
use kladder_core::climb::gates::Standing;
use kladder_core::prove::mend::Mend;

use super::{anew_do, found, needed};
use crate::text::shell_word;

/// The commands that help, one a line; `None` where none does. `closed` are the gates that are.
pub fn mend_command(mend: &Mend, closed: &[Standing]) -> Option<String> {
    Some(match mend {
        Mend::Climb => "kladder climb".to_owned(),
        Mend::Replace { path } => {
            let file = shell_word(path.display().to_string());
            format!("mv {file} {file}.before\nkladder climb")
        }
        Mend::Accept { licence } => format!("kladder climb --accept-licence {licence}"),
        Mend::Move { tool } => format!("kladder pin --move {tool}"),
        Mend::Start { service } => format!("kladder services {service} --start"),
        Mend::Service { service } => format!("kladder services {service}"),
        Mend::Again { service } => {
            format!("kladder services {service} --stop\nkladder services {service} --start")
        }
        Mend::Wire => "kladder wire".to_owned(),
        Mend::Shell { shell, login } => format!("{shell} -{}", if *login { "l" } else { "i" }),
        Mend::Why { command } => format!("kladder why {command}"),
        Mend::Unset { variables } => format!("unset {}", variables.join(" ")),
        Mend::Open { gate } => {
            let standing = closed.iter().find(|standing| standing.gate == *gate)?;
            return (!standing.admin.is_empty()).then(|| standing.admin.join("\n"));
        }
        Mend::Clear => "kladder clear".to_owned(),
        Mend::Log => "kladder log".to_owned(),
        Mend::Settle => "kladder climb --take-settings".to_owned(),
        Mend::Anew(_) | Mend::Clock | Mend::Reopen { .. } => return None,
    })
}

/// What helps, as a sentence without its end.
pub fn mend(mend: &Mend, closed: &[Standing]) -> String {
    let command = mend_command(mend, closed).unwrap_or_default();
    match mend {
        Mend::Climb => format!("`{command}` brings it anew"),
        Mend::Replace { .. } => format!("`{}` put the ladder's in its place", command.replace('\n', "` and `")),
        Mend::Accept { licence } => format!("`{command}` accepts it; `kladder terms show {licence}` shows its text"),
        Mend::Settle => format!("`{command}` lets the ladder's settings take the place of yours; yours are kept"),
        Mend::Reopen { tool } => format!("end {tool}, and start it again"),
        Mend::Move { .. } => format!("`{command}` pins what the host has now"),
        Mend::Start { .. } => format!("`{command}` starts it"),
        Mend::Service { .. } => format!("`{command}` shows what it wrote"),
        Mend::Again { .. } => format!("`{}` start it anew", command.replace('\n', "` and `")),
        Mend::Wire => format!("`{command}` puts them there again"),
        Mend::Shell { .. } => format!("start `{command}`, and see what the files do that it reads then"),
        Mend::Why { .. } => format!("`{command}` tells where which file answers, and why"),
        Mend::Unset { .. } => format!("`{command}` in this terminal, and take it out of the file that sets it"),
        Mend::Open { gate } => open(closed.iter().find(|standing| standing.gate == *gate)),
        Mend::Anew(anew) => anew_do(*anew).to_owned(),
        Mend::Clear => format!("`{command}` shows what nothing uses any more, and removes it"),
        Mend::Clock => "set the machine's clock".to_owned(),
        Mend::Log => format!("`{command}` has all that it wrote"),
    }
}

fn open(standing: Option<&Standing>) -> String {
    let Some(standing) = standing else { return "see its definition".to_owned() };
    let admin = (!standing.admin.is_empty()).then(|| format!("as administrator: {}", standing.admin.join("; ")));
    let ways = [admin, standing.person.clone(), standing.advice.clone()];
    let told: Vec<String> = ways.into_iter().flatten().collect();
    if told.is_empty() { "its definition says of no way to open it".to_owned() } else { told.join("; ") }
}

/// What a closed gate needs, and what was found; `None` for everything else.
pub fn closed(subject: &Subject, closed: &[Standing]) -> Option<String> {
    let Subject::Gate { rung, gate } = subject else { return None };
    let is_it = |standing: &&Standing| standing.gate == *gate && standing.tool.as_ref() == Some(&rung.tool);
    let standing = closed.iter().find(is_it)?;
    Some(format!("it needs {}; found: {}", needed(&standing.needed), found(&standing.found)))
}
