//! Kernels of sets, put where notebooks look for them ("Kernel specs" of the Jupyter client's documentation): a folder for each below
//! the person's data folder, with a `kernel.json`.

use std::path::PathBuf;

use kladder_choose::sets::LibrarySet;
use kladder_launch::SETS;
use serde_json::json;

use super::Site;
use crate::wire::placed::{Want, Wanted};

/// The variable that names the folder otherwise.
const NAMED: &str = "JUPYTER_DATA_DIR";

impl Site<'_> {
    /// What notebooks should know of the ladder's sets.
    pub(super) fn kernels(&self) -> Vec<Wanted> {
        let Some(folder) = self.kernels_folder() else { return Vec::new() };
        let current = self.landings().current_link();
        let wanted = |set: &LibrarySet| {
            let shown = set.kernel.as_ref()?;
            let runtime = current.join(SETS).join(set.name.as_str()).join("bin").join(set.of.as_str());
            let spec = json!({
                "argv": [runtime.to_str()?, "-m", "ipykernel_launcher", "-f", "{connection_file}"],
                "display_name": shown,
                "language": "python",
                "metadata": { "debugger": true },
            });
            let text = serde_json::to_string_pretty(&spec).ok()? + "\n";
            let path = folder.join(set.name.as_str()).join("kernel.json");
            Some(Wanted { path, want: Want::Always(text.into_bytes()) })
        };
        self.ladder.sets.iter().filter_map(wanted).collect()
    }

    fn kernels_folder(&self) -> Option<PathBuf> {
        let named = self.host.environment.get(NAMED).map(PathBuf::from).filter(|path| path.is_absolute());
        let usual = || {
            let mac = self.host.person.as_ref().map(|home| home.join("Library/Jupyter"));
            if cfg!(target_os = "macos") { mac } else { Some(self.person_data()?.join("jupyter")) }
        };
        Some(named.or_else(usual)?.join("kernels"))
    }
}
