//! Who listens where: the system has no file that tells it.

/// Never told here.
pub(crate) fn holder(_port: u16) -> Option<(u32, String)> {
    None
}

/// Never so here: networks of one's own are not had.
pub(crate) fn listens_in(_network: crate::sys::Network, _port: u16) -> bool {
    false
}

/// Not told.
pub(crate) fn is_open(_port: u16) -> bool {
    false
}
