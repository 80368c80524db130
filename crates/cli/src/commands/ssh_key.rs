//! The SSH key that a ladder wants the person to have: one is made if there is none, and none is ever changed.

use std::os::unix::fs::DirBuilderExt;
use std::path::Path;
use std::process::Command;

use inquire::Confirm;
use kladder_choose::ladder::Ladder;
use kladder_core::host::survey::answers;
use kladder_core::wire::{PublicKey, new_key, public_keys};
use kladder_tell::problem::Problem;
use kladder_tell::text::{clean, shell_word};

use crate::context::Context;
use crate::person::is_present;
use crate::render::text::{TOLD, shown, styled};
use crate::render::{Out, asking, look};

/// The system's program that makes keys.
const MAKER: &str = "ssh-keygen";

/// Sees that the person has a key: asks at a terminal, makes one without a passphrase where everything was agreed to before, and
/// otherwise says how. `changed`: the landing is new, so that a key that is there is told of too.
pub(super) fn see_to(context: &Context, ladder: &Ladder, changed: bool, yes: bool, out: &Out) -> Result<(), Problem> {
    let Some(wanted) = &ladder.ssh_key else { return Ok(()) };
    let Some(home) = &context.around.host.person else { return Ok(()) };
    let to = wanted.at.as_ref().map(|at| format!(" Its public half goes to {}:", clean(at))).unwrap_or_default();
    if let Some(PublicKey { file, line }) = public_keys(home).into_iter().next() {
        if changed {
            out.say(format!("\nYou have an SSH key, {}, and keep it.{to}\n", shown(&file)))?;
            out.verbatim(format!("    {}", clean(&line)))?;
        }
        return Ok(());
    }
    let file = new_key(home);
    let made = match answers(MAKER, &context.around.host.path) {
        Some(maker) if !file.exists() => make(&maker, &file, yes, out),
        _ => false,
    };
    if let Some(PublicKey { file, line }) = public_keys(home).into_iter().next().filter(|_| made) {
        out.say(format!("\nYour new SSH key is {}.{to}\n", shown(&file.with_extension(""))))?;
        return out.verbatim(format!("    {}", clean(&line)));
    }
    let command = format!("{MAKER} -t ed25519 -f {}", clean(&shell_word(&file)));
    out.say("\nThe ladder wants you to have an SSH key, and there is none in ~/.ssh. This makes one:\n")?;
    out.verbatim(format!("    {}", styled(TOLD, command)))
}

/// Makes a key; at a terminal its maker asks for the passphrase itself.
fn make(maker: &Path, file: &Path, yes: bool, out: &Out) -> bool {
    let present = is_present(out) && !yes;
    if present {
        let question = "Make an SSH key? Its passphrase is asked for next.";
        let confirm = Confirm::new(question).with_default(true).with_render_config(look());
        if !asking(|| confirm.prompt()).unwrap_or(false) {
            return false;
        }
    } else if !yes {
        return false;
    }
    let mut command = Command::new(maker);
    command.args(["-q", "-t", "ed25519", "-f"]).arg(file);
    if !present {
        command.args(["-N", ""]).stdin(std::process::Stdio::null()).stdout(std::process::Stdio::null());
    }
    let folder = file.parent().unwrap_or(file);
    // What cannot be made is told by the one who wants to write there.
    let _ = std::fs::DirBuilder::new().recursive(true).mode(0o700).create(folder);
    command.status().is_ok_and(|status| status.success())
}
