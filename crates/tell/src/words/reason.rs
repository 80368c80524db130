//! Why a release was not taken, in words.

use kladder_choose::pins::{Asker, Beside, Met, Reason, Rule, Shift, Withheld};

use super::clash::{sentences, wished};
use super::demanded;
use crate::text::{clean, either};

/// The reason as a clause, and what to type where something can be done.
pub fn reason(tool: &str, reason: &Reason) -> String {
    match reason {
        Reason::Withheld(Withheld::Preview) => "a preview, and none was asked for".into(),
        Reason::Withheld(Withheld::NoArtifact(platforms)) => {
            format!("there is no artifact for {}", either(platforms))
        }
        Reason::Withheld(Withheld::Gate { machine, demand }) => {
            format!("it needs {}, which {machine} does not have", demanded(demand))
        }
        Reason::Withheld(Withheld::NoPiece(pieces)) => format!("it lacks the piece {}", pieces.join(", ")),
        Reason::Withheld(Withheld::HostOnly) | Reason::HostTaken => "what this host has was taken".into(),
        Reason::LeftOut(asker) => asked(asker),
        Reason::Pinned(shifts) if shifts.is_empty() => {
            format!("the pin holds it back; `kladder newer --take {tool}` takes it")
        }
        Reason::Pinned(shifts) => {
            format!("the pin holds it back; `kladder newer --take {tool}` takes it, and {}", moves(shifts))
        }
        Reason::ComesLater(shifts) => format!("it would cost more than it gives: {}", moves(shifts)),
        Reason::Clash(report) => {
            let wishes = report.wishes.iter().filter(|wish| wish.position.is_some());
            let wishes =
                wishes.map(|wish| format!("line {} wishes for {}", wish.place.line, wished(&wish.tool, &wish.range)));
            clean(&sentences(report).into_iter().chain(wishes).collect::<Vec<_>>().join("; "))
        }
        Reason::GaveUp => "the resolver gave up over it".into(),
    }
}

/// Which capability a rung stands for, and why it does and no other tool.
pub fn met(met: &Met) -> String {
    let (capability, others) = (&met.capability, either(&met.others));
    match met.rule {
        Rule::Alone => format!("stands for {capability}, which nobody else provides"),
        Rule::Chosen => format!("stands for {capability} too, as {others} could: it is a rung anyway"),
        Rule::HostPreferred => format!("stands for {capability} and not {others}: the wish prefers what the host has"),
        Rule::Preferred => format!("stands for {capability} and not {others}: the wish prefers it"),
        Rule::ByCatalog => format!("stands for {capability} and not {others}: the catalog prefers it"),
        Rule::First => format!("stands for {capability} and not {others}: it comes first by name"),
        Rule::OthersOut => format!("stands for {capability}: {others} cannot be had together with the rest"),
    }
}

/// Why what the host has was not taken.
pub fn beside(beside: &Beside) -> String {
    let version = &beside.version;
    match &beside.left_out {
        Some(asker) => format!("the host has {version}, and {}", asked(asker)),
        None => format!(
            "the host has {version}; a release of the catalog comes first, `host = \"prefer\"` turns that round"
        ),
    }
}

/// Who asks for a tool, and for what of it.
pub fn asked(asker: &Asker) -> String {
    match asker {
        Asker::Wish { name, range, place } => format!("line {} wishes for {}", place.line, wished(name, range)),
        Asker::Rung { tool, version, need } => clean(&format!("{tool} {version} needs {need}")),
    }
}

/// `oarweld goes from 3.0.0 to 2.2.1`.
pub fn moves(shifts: &[Shift]) -> String {
    let one = |Shift { tool, from, to }: &Shift| match (from, to) {
        (Some(from), Some(to)) => format!("{tool} goes from {from} to {to}"),
        (None, Some(to)) => format!("{tool} {to} comes"),
        (_, None) => format!("{tool} goes"),
    };
    let shown: Vec<String> = shifts.iter().take(4).map(one).collect();
    let left = shifts.len().saturating_sub(4);
    let more = if left == 0 { String::new() } else { format!(", and {left} more") };
    format!("{}{more}", shown.join(", "))
}
