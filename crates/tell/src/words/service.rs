//! Services in words.

use kladder_core::serve::Standing;

/// How a service stands, in a word.
pub fn standing(standing: &Standing) -> &'static str {
    match standing {
        Standing::Stopped => "stopped",
        Standing::Starting => "starting",
        Standing::Ready => "ready",
        Standing::Failing => "failing",
        Standing::Left => "left",
    }
}

/// How a service ended.
pub fn ended(ended: &Result<i32, String>) -> String {
    match ended {
        Ok(status @ 129..=192) => format!("by signal {}", status - 128),
        Ok(status) => format!("with status {status}"),
        Err(why) => format!("it could not be started: {why}"),
    }
}
