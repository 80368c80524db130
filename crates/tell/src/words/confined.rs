//! What a process is kept from, in words.

use kladder_core::base::event::{Confined, Kept};

use crate::text::both;

fn word(kept: Kept) -> &'static str {
    match kept {
        Kept::Writing => "writing elsewhere",
        Kept::Reading => "reading your files",
        Kept::Attributes => "changing modes and times elsewhere",
        Kept::Tcp => "TCP",
        Kept::Network => "all other networks",
        Kept::LocalSockets => "sockets of other programs",
        Kept::Signals => "signals to other processes",
        Kept::Processes => "looking into other processes",
        Kept::Lingering => "leaving processes behind",
    }
}

/// What a process is kept from, and what this system cannot keep it from.
pub fn confined(confined: &Confined) -> String {
    let kept: Vec<&str> = Confined::ALL.into_iter().filter(|what| confined.from(*what)).map(word).collect();
    let not: Vec<&str> = confined.not_from().map(word).collect();
    match (kept.as_slice(), not.as_slice()) {
        ([], _) => "kept from nothing: this system cannot".to_owned(),
        (_, []) => format!("kept from {}", both(&kept)),
        _ => format!("kept from {}; not from {}", both(&kept), both(&not)),
    }
}
