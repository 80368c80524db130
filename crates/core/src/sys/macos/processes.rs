//! Processes that were left behind: the system has no way to adopt them.

/// Never so here.
pub(crate) fn adopt_orphans() -> bool {
    false
}

/// None that could be told: the files of other processes are not.
pub(crate) fn running(_is_its: &dyn Fn(&std::path::Path) -> bool) -> Vec<(i32, std::time::SystemTime)> {
    Vec::new()
}

/// Does nothing: what left its group is not found.
pub(crate) fn kill_descendants(_mark: &str) {}

/// Nothing that could be told: what others take is not found.
pub(crate) fn usage(_mark: &str, _with_strays: bool) -> crate::sys::Usage {
    crate::sys::Usage::default()
}

/// Does nothing: what left its group is not found.
pub(crate) fn end_descendants(_mark: &str) {}

/// Does nothing: nobody is handed to this process.
pub(crate) fn end_strays() {}

/// Does nothing: the environment of other processes is not told.
pub(crate) fn end_left_behind(_beginning: &str) {}

/// Never so here: the environment of other processes is not told.
pub(crate) fn any_marked(_mark: &str) -> bool {
    false
}
