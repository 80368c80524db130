//! Services that start with the person's session: units of the system's own manager of user services (systemd.unit(5),
//! systemd.service(5)), placed and taken back like settings. They start and stop services as a person would.

use std::ffi::OsString;
use std::path::{Path, PathBuf};
use std::time::Duration;

use kladder_choose::ladder::StartsWith;

use super::Site;
use super::route::Route;
use super::settings::SettingPlaced;
use crate::base::digest::Digest;
use crate::base::event::Silent;
use crate::host::process::{self, Setting};
use crate::host::survey::{Host, answers};
use crate::wire::placed::{Want, Wanted};

/// Whether this system has a manager of user services that we know.
pub fn has_user_services(host: &Host) -> bool {
    // The system's is there while it runs (sd_booted(3)), the person's own while that runs (pam_systemd(8)).
    let own = host.environment.get("XDG_RUNTIME_DIR").map(|folder| Path::new(folder).join("systemd"));
    own.is_some_and(|folder| folder.is_dir()) || host.root.join("run/systemd/system").is_dir()
}

impl Site<'_> {
    /// The names of services that are to start with the session.
    pub fn starting_with_session<'r>(&'r self, route: &'r Route) -> impl Iterator<Item = &'r str> {
        let services = route.rungs.iter().flat_map(|rung| &rung.definition.says.services);
        let wished = |name: &str| self.ladder.services.get(name).and_then(|wish| wish.start);
        services.map(|service| service.name.as_str()).filter(move |name| wished(name) == Some(StartsWith::Session))
    }

    /// The units for services that start with the session; none where the system has no use for them.
    pub(super) fn units(&self, route: &Route) -> Vec<Wanted> {
        let Some(kladder) = self.host.installed.as_ref().filter(|_| has_user_services(self.host)) else {
            return Vec::new();
        };
        let Some(folder) = self.units_folder() else { return Vec::new() };
        let ladder = Digest::of(self.ladder.path.as_os_str().as_encoded_bytes()).short();
        let whole = |path: PathBuf, text: String| Wanted { path, want: Want::Whole(text.into_bytes()) };
        let of_service = |name: &str| {
            let unit = format!("kite-ladder-{ladder}-{name}.service");
            let call = format!("{} --ladder {} services {name}", word(kladder), word(&self.ladder.path));
            let text = format!(
                "[Unit]\nDescription={name} of {}\n\n[Service]\nType=oneshot\nRemainAfterExit=yes\nExecStart={call} --start\nExecStop={call} --stop\n",
                plain(&self.ladder.title)
            );
            // A part of the target that every session reaches, without a link that would have to be made.
            let wants = format!("[Unit]\nWants={unit}\n");
            [whole(folder.join("default.target.d").join(format!("{unit}.conf")), wants), whole(folder.join(unit), text)]
        };
        self.starting_with_session(route).flat_map(of_service).collect()
    }

    /// Has the system's manager read units anew that were placed or taken back, where it listens.
    pub(super) fn tell_session(&self, placed: &[SettingPlaced]) {
        let Some(folder) = self.units_folder() else { return };
        let is_changed = placed.iter().any(|one| one.changed && one.path.starts_with(&folder));
        let Some(file) = is_changed.then(|| answers("systemctl", &self.host.path)).flatten() else { return };
        let run: [OsString; 3] = [file.into(), "--user".into(), "daemon-reload".into()];
        let variables: Vec<_> = self.host.environment.all().collect();
        let setting = Setting::open(&run, Path::new("/"), &variables, Duration::from_secs(30));
        // Whoever is not in a session reads them at the next one.
        let _ = process::run(&setting, &Silent);
    }

    /// Where a person's own units are.
    fn units_folder(&self) -> Option<PathBuf> {
        Some(self.person_settings()?.join("systemd/user"))
    }
}

/// A text in one line, with what the manager would fill in written twice.
fn plain(text: &str) -> String {
    let text: String = text.chars().map(|char| if char.is_control() { ' ' } else { char }).collect();
    text.replace('%', "%%")
}

/// A path as one word of a command line.
fn word(path: &Path) -> String {
    let mut word = String::from("\"");
    for char in plain(&path.display().to_string()).chars() {
        match char {
            '"' | '\\' => word.extend(['\\', char]),
            '$' => word.push_str("$$"),
            char => word.push(char),
        }
    }
    word.push('"');
    word
}
