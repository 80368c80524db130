//! Whether the window of a graphical command comes up: on a display of its own that nobody sees (Xvfb(1)), asked over the X11
//! protocol for the titles of its windows (`_NET_WM_NAME` of the Extended Window Manager Hints, else `WM_NAME`).

use std::ffi::OsString;
use std::path::Path;
use std::thread;
use std::time::{Duration, Instant};

use kladder_choose::catalog::{DesktopEntry, Pattern};
use x11rb::connection::Connection;
use x11rb::protocol::xproto::{AtomEnum, ConnectionExt, Window};
use x11rb::rust_connection::RustConnection;

use super::{Bench, VerifyError};
use crate::base::event::{Event, Finding, Outcome, Output, Skipped, Subject, Verdict, check_cancelled};
use crate::host::confine::Network;
use crate::host::process::{Lasting, Setting};
use crate::host::survey::answers;
use crate::tasks::Rung;

/// The program that is a display.
const DISPLAY: &str = "Xvfb";
/// How long a display may take to come up, and then a window.
const PATIENCE: Duration = Duration::from_secs(30);
/// How often what is waited for is looked at.
const GLANCE: Duration = Duration::from_millis(50);

impl Bench<'_> {
    /// Whether the windows of a rung's entries come up that say how to see that; passed over where there is no display for it.
    ///
    /// # Errors
    /// [`VerifyError`] where the user asked for an end.
    pub fn windows(&self, rung: &Rung) -> Result<Vec<Verdict>, VerifyError> {
        let mut verdicts = Vec::new();
        for entry in &rung.definition.says.desktop {
            let Some(pattern) = entry.window.as_ref().filter(|_| rung.commands.contains_key(&entry.command)) else {
                continue;
            };
            let started = Instant::now();
            let name = format!("a window of `{}` comes up", entry.command);
            let subject = Subject::Check { rung: rung.key.clone(), name };
            self.observer.event(&Event::Checking { subject: subject.clone() });
            let outcome = match answers(DISPLAY, &self.host.path) {
                Some(display) => self.window(rung, entry, pattern, &display)?,
                None => passed_over(format!("there is no {DISPLAY} here, on which it could be seen")),
            };
            verdicts.push(self.conclude(subject, started, outcome));
        }
        Ok(verdicts)
    }

    fn window(
        &self,
        rung: &Rung,
        entry: &DesktopEntry,
        pattern: &Pattern,
        display: &Path,
    ) -> Result<Outcome, VerifyError> {
        let scratch = &self.nook("windows", &rung.key.folder_name())?;
        let variables = self.environment(&rung.key.household, scratch);
        // Sockets without a file are kept from programs in cells, and would be tried first.
        let arguments =
            ["-displayfd", "1", "-screen", "0", "1280x800x24", "-nolisten", "tcp", "-nolisten", "local", "-noreset"];
        let run: Vec<OsString> = [display.into()].into_iter().chain(arguments.map(Into::into)).collect();
        let setting = |run, variables, cell| Setting {
            run,
            input: "",
            folder: scratch,
            variables,
            limit: PATIENCE,
            cell,
            encloser: None,
            watched: None,
            most: None,
        };
        let Ok(screen) = Lasting::start(&setting(&run, &variables, None)) else {
            return Ok(passed_over(format!("{DISPLAY} cannot be started")));
        };
        let began = Instant::now();
        let number = loop {
            check_cancelled(self.observer)?;
            if let Ok(number) = screen.said().0.trim().parse::<u32>() {
                break number;
            }
            if began.elapsed() > PATIENCE {
                return Ok(passed_over(format!("{DISPLAY} does not come up")));
            }
            thread::sleep(GLANCE);
        };
        let mut variables = variables.clone();
        variables.push(("DISPLAY".into(), format!(":{number}").into()));
        let writes = self.corners.iter().cloned().chain([scratch.clone()]).collect();
        // The display listens on a socket among temporary files.
        let cell = self.keeping.cell(writes, Network::All, &["/tmp/.X11-unix".into()]);
        let nearest = self.wiring.fronts(&rung.key.household).into_iter().next().unwrap_or_default();
        let command = [self.landing.join(nearest).join(entry.command.as_str()).into_os_string()];
        let mut program = match Lasting::start(&setting(&command, &variables, Some(&cell))) {
            Ok(program) => program,
            Err(error) => {
                let (command, error) = (entry.command.to_string(), error.to_string());
                return Ok(Outcome::failed(Finding::NotStarted { command, error }));
            }
        };
        let (regex, began) = (pattern.regex(), Instant::now());
        let mut seen = Vec::new();
        while began.elapsed() < PATIENCE {
            check_cancelled(self.observer)?;
            seen = titles(number).unwrap_or(seen);
            if seen.iter().any(|title| regex.is_match(title)) {
                return Ok(Outcome::Passed);
            }
            if let Some(status) = program.ended().ok().flatten() {
                return Ok(failed(Finding::EndedEarly { status }, &program));
            }
            thread::sleep(GLANCE);
        }
        Ok(failed(Finding::NoWindow { pattern: pattern.as_str().to_owned(), seen }, &program))
    }
}

fn passed_over(reason: String) -> Outcome {
    Outcome::Skipped(Skipped::PassedOver { reason })
}

fn failed(finding: Finding, program: &Lasting) -> Outcome {
    let (stdout, stderr) = program.said();
    Outcome::Failed { finding, output: Output::of(&[stdout, stderr].concat()), causes: Vec::new() }
}

/// The titles of all windows of a display; `None` where it cannot be asked.
fn titles(display: u32) -> Option<Vec<String>> {
    let (connection, screen) = x11rb::connect(Some(&format!(":{display}"))).ok()?;
    let named = connection.intern_atom(true, b"_NET_WM_NAME").ok()?.reply().ok()?.atom;
    let root = connection.setup().roots.get(screen)?.root;
    let (mut open, mut titles) = (vec![root], Vec::new());
    while let Some(window) = open.pop() {
        // One that went meanwhile is none.
        let Some(tree) = connection.query_tree(window).ok().and_then(|asked| asked.reply().ok()) else { continue };
        let own = [named, AtomEnum::WM_NAME.into()].into_iter().find_map(|name| title(&connection, window, name));
        titles.extend(own);
        open.extend(tree.children);
    }
    Some(titles)
}

fn title(connection: &RustConnection, window: Window, name: u32) -> Option<String> {
    const MOST: u32 = 1024;
    let reply = connection.get_property(false, window, name, AtomEnum::ANY, 0, MOST).ok()?.reply().ok()?;
    let text = String::from_utf8_lossy(&reply.value).into_owned();
    (!text.is_empty()).then_some(text)
}
