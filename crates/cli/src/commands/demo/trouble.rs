//! What goes wrong, and the way out of it: wishes that clash, a file that was changed, a change that one does not want after all.

use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::PathBuf;

use kladder_core::base::files;
use kladder_core::keep::landing::Landings;
use kladder_tell::problem::{Code, Problem};

use super::Demo;
use crate::args::{BackOptions, PinOptions};
use crate::commands::{climb, edit, landings, pin};

impl Demo<'_> {
    pub(super) fn trouble(&self) -> Result<(), Problem> {
        self.clash()?;
        self.mended()?;
        self.back()
    }

    fn ladder(&self) -> PathBuf {
        self.layout.desk.join("ladder.toml")
    }

    /// Wishes that clash, told, and taken back.
    fn clash(&self) -> Result<(), Problem> {
        let text = files::text_of_at_most(&self.ladder(), 1 << 20).unwrap_or_default();
        let newer = text.replacen("skerroc = \"1.4\"", "skerroc = \"1.5\"", 1);
        files::replace(&self.ladder(), (newer + "oarweld = \"<3\"\n").as_bytes())?;
        self.step("Somebody wishes for what does not go together", "kladder pin")?;
        let told = match pin::run(&self.inner, self.out, &PinOptions::default()) {
            Ok(_) => Err(Problem::new(Code::Failed, "wishes that clash were pinned")),
            Err(problem) => self.out.tell_problem(&problem),
        };
        files::replace(&self.ladder(), text.as_bytes())?;
        told
    }

    /// A file that was changed behind everybody's back.
    fn mended(&self) -> Result<(), Problem> {
        let all = Landings::of(&self.inner.around.home.ladders(), &self.ladder());
        let landing = all.current()?.ok_or_else(|| Problem::new(Code::NotClimbed, "the demo has no landing"))?;
        let rung = landing.rungs.iter().find(|rung| rung.key.tool == *"skerroc");
        let rung = rung.ok_or_else(|| Problem::new(Code::Failed, "skerroc is no rung of the demo"))?;
        let file = rung.folder.join("files/bin/skerroc");
        let broken = |error: std::io::Error| Problem::new(Code::Failed, error.to_string()).at(&file);
        fs::set_permissions(&file, fs::Permissions::from_mode(0o755)).map_err(broken)?;
        fs::write(&file, "#!/bin/sh\necho nothing works any more\n").map_err(broken)?;
        self.step("The compiler was overwritten; the next climb sees it", "kladder climb")?;
        climb::run(&self.inner, self.out, &Self::consent())?;
        self.start(&["skerroc", "--version"], "1.4")
    }

    /// A change, and the way back from it.
    fn back(&self) -> Result<(), Problem> {
        self.step("Another change: the editor leaves", "kladder drop whimbrow")?;
        edit::drop(&self.inner, self.out, "whimbrow")?;
        self.step("It is climbed", "kladder climb")?;
        climb::run(&self.inner, self.out, &Self::consent())?;
        self.step("And was a mistake", "kladder back --with-ladder")?;
        landings::back(&self.inner, self.out, &BackOptions { number: None, with_ladder: true })?;
        self.step("Where it has been", "kladder landings")?;
        landings::list(&self.inner, self.out).map(drop)
    }
}
