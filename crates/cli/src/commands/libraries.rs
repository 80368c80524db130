//! Libraries of sets, as several commands tell of them.

use std::process::ExitCode;

use kladder_choose::names::ToolName;
use kladder_core::desk::{Desk, LibraryMove, LibraryThere, Misplaced};
use kladder_tell::problem::Problem;
use kladder_tell::shapes::WhyLibrary;
use kladder_tell::text::{clean, count};

use crate::render::Out;
use crate::render::text::{FAINT, STRONG, shown, styled};

/// Libraries of a set that are told one by one.
const NAMED: usize = 12;

/// What `pin` tells of a set: how many libraries it has, and those that moved; of a new one those that the ladder wishes for.
pub(super) fn rows(desk: &Desk, set: &ToolName, is_new: bool, moves: &[LibraryMove]) -> Option<Vec<Vec<String>>> {
    let libraries = desk.libraries(set.as_str())?;
    let own: Vec<&LibraryMove> = moves.iter().filter(|one| one.set == *set).collect();
    let note = match (is_new, own.len()) {
        (true, _) => "new".to_owned(),
        (false, 0) => "the same libraries".to_owned(),
        (false, moved) => format!("{moved} of them moved"),
    };
    let is_of_packages = desk.ladder.sets.iter().any(|one| one.name == *set && one.packages.is_some());
    let one = if is_of_packages { "package" } else { "library" };
    let mut rows = vec![vec![styled(STRONG, set), count(libraries.len(), one), styled(FAINT, note)]];
    if is_new {
        let wished: Vec<_> = libraries.iter().filter(|library| library.is_wished).collect();
        rows.extend(wished.iter().take(NAMED).map(|library| {
            let version = library.version.clone().unwrap_or_default();
            vec![format!("  {}", clean(&library.name)), clean(&version), String::new()]
        }));
        rows.extend(more(wished.len()));
    } else {
        rows.extend(own.iter().take(NAMED).map(|one| moved(one)));
        rows.extend(more(own.len()));
    }
    Some(rows)
}

fn more(number: usize) -> Option<Vec<String>> {
    let more = number.checked_sub(NAMED).filter(|more| *more > 0)?;
    Some(vec![format!("  and {more} more"), String::new(), String::new()])
}

fn moved(one: &LibraryMove) -> Vec<String> {
    let note = match (&one.was, &one.now) {
        (None, _) => "new".to_owned(),
        (Some(was), Some(_)) => format!("was {was}"),
        (Some(_), None) => "not needed any more".to_owned(),
    };
    let version = one.now.as_ref().or(one.was.as_ref()).map(|version| clean(version)).unwrap_or_default();
    vec![format!("  {}", clean(&one.library)), version, styled(FAINT, clean(&note))]
}

/// `LIBRARY 2.1 would be 2.2`, for each.
pub(super) fn would(moves: &[LibraryMove]) -> Vec<String> {
    let line = |LibraryMove { set, library, was, now }: &LibraryMove| {
        let library = format!("{} in {set}", styled(STRONG, clean(library)));
        match (was, now) {
            (Some(was), Some(now)) => format!("{library}: {} after {}", clean(now), clean(was)),
            (None, Some(now)) => format!("{library}: {} would be new", clean(now)),
            (_, None) => format!("{library} would not be needed any more"),
        }
    };
    let more = moves.len().saturating_sub(NAMED);
    let more = (more > 0).then(|| format!("and {} more", count(more, "library")));
    moves.iter().take(NAMED).map(line).chain(more).collect()
}

/// Why a library is there, in each set that has it.
pub(super) fn why(desk: &Desk, there: &[LibraryThere], out: &Out) -> Result<ExitCode, Problem> {
    let misplaced = there.first().map(|one| desk.misplaced(&one.library.name)).unwrap_or_default();
    let worked_in = desk.worked_in();
    out.value(&WhyLibrary::of(there, &misplaced, worked_in.clone()))?;
    for LibraryThere { set, of, library, wish, askers, way } in there {
        let version = library.version.as_deref().unwrap_or_default();
        out.say(format!("{} {} in the set {set}, for {of}", styled(STRONG, clean(&library.name)), clean(version)))?;
        if let Some(wish) = wish {
            out.say(format!("  the ladder wishes for it: {}", clean(wish)))?;
        }
        for (asker, version) in askers {
            let version = version.as_deref().unwrap_or_default();
            out.say(format!("  {} {} needs it", clean(asker), clean(version)))?;
        }
        if wish.is_none() && way.len() > 2 {
            out.say(format!("  the ladder's wish that leads to it: {}", clean(&way.join(", which needs "))))?;
        }
        if !library.pieces.is_empty() {
            out.say(format!("  with {}", clean(&library.pieces.join(", "))))?;
        }
        if let Some(marker) = &library.marker {
            out.say(format!("  only where {}", clean(marker)))?;
        }
        if let Some(index) = &library.index {
            out.say(format!("  from the index {index}"))?;
        }
    }
    for Misplaced { folder, version, by } in &misplaced {
        let by = by.as_ref().map(|by| format!(", put there by {}", clean(by))).unwrap_or_default();
        out.say(format!("Another one, {}, lies in {}{by}: no set sees it.", clean(version), shown(folder)))?;
    }
    if let Some(set) = worked_in {
        out.say(format!("You work in the set {set} here."))?;
    }
    Ok(ExitCode::SUCCESS)
}
