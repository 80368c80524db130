//! Variables that a table sets, or adds to.
//!
//! In a table a name has a sign in front where its value is not simply set: `<` puts it in front of a list, `>` behind it, `?` sets
//! it where nothing is set. Lists have colons between their parts, like PATH; what a list has already is not added again.

use std::ffi::{OsStr, OsString};
use std::os::unix::ffi::{OsStrExt, OsStringExt};

/// How a variable gets its value.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum How {
    /// It is set.
    Set,
    /// The value is put in front of a list.
    Front,
    /// The value is put behind a list.
    Behind,
    /// It is set where nothing is set.
    UnlessSet,
}

const SIGNS: [(u8, How); 3] = [(b'<', How::Front), (b'>', How::Behind), (b'?', How::UnlessSet)];

/// A name as a table has it.
pub fn signed(how: How, name: &OsStr) -> OsString {
    let sign = SIGNS.iter().find(|(_, known)| *known == how).map(|(sign, _)| *sign);
    OsString::from_vec(sign.into_iter().chain(name.as_bytes().iter().copied()).collect())
}

/// How a name of a table is meant, and the name itself.
pub fn split(name: &OsStr) -> (How, &OsStr) {
    let bytes = name.as_bytes();
    let sign = bytes.first().and_then(|first| SIGNS.iter().find(|(sign, _)| sign == first));
    sign.map_or((How::Set, name), |(_, how)| (*how, OsStr::from_bytes(&bytes[1..])))
}

/// The name itself.
pub fn name_of(name: &OsStr) -> &OsStr {
    split(name).1
}

/// The variables as they are set over what `current` has; the last of a name is the one that counts.
///
/// ```
/// use kladder_launch::variables::{How, applied, signed};
/// use std::ffi::OsString;
///
/// let pairs = [(signed(How::Front, "LIBS".as_ref()), OsString::from("/a")), (OsString::from("ROOT"), "/r".into())];
/// let set = applied(&pairs, |name| (name == "LIBS").then(|| "/b".into()));
/// assert_eq!(set, [("LIBS".into(), OsString::from("/a:/b")), ("ROOT".into(), "/r".into())]);
/// ```
pub fn applied(
    pairs: &[(OsString, OsString)],
    current: impl Fn(&OsStr) -> Option<OsString>,
) -> Vec<(OsString, OsString)> {
    let mut set: Vec<(OsString, OsString)> = Vec::with_capacity(pairs.len());
    for (name, value) in pairs {
        let (how, name) = split(name);
        let there = || set.iter().rev().find(|(known, _)| known == name).map(|(_, value)| value.clone());
        let there = if how == How::Set { None } else { there().or_else(|| current(name)) };
        let value = match (how, there.filter(|there| !there.is_empty())) {
            (How::Set, _) | (_, None) => value.clone(),
            (How::UnlessSet, Some(there)) => there,
            (How::Front, Some(there)) => joined(value, &there, value),
            (How::Behind, Some(there)) => joined(&there, value, value),
        };
        set.push((name.to_owned(), value));
    }
    set
}

/// Two lists as one; the other one alone, where it has `new` already.
fn joined(front: &OsStr, behind: &OsStr, new: &OsStr) -> OsString {
    let old = if front == new { behind } else { front };
    if old.as_bytes().split(|byte| *byte == b':').any(|part| part == new.as_bytes()) {
        return old.to_owned();
    }
    OsString::from_vec([front.as_bytes(), b":", behind.as_bytes()].concat())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lists_grow_once_and_what_is_set_stays_where_it_may() {
        let pair = |how, name: &str, value: &str| (signed(how, name.as_ref()), OsString::from(value));
        let pairs = [
            pair(How::Front, "L", "/a"),
            pair(How::Front, "L", "/b"),
            pair(How::Behind, "L", "/z"),
            pair(How::UnlessSet, "U", "mine"),
            pair(How::Set, "S", "new"),
        ];
        let told = |current: fn(&OsStr) -> Option<OsString>| -> Vec<String> {
            let set = applied(&pairs, current);
            set.iter().map(|(name, value)| format!("{}={}", name.display(), value.display())).collect()
        };
        assert_eq!(told(|_| None), ["L=/a", "L=/b:/a", "L=/b:/a:/z", "U=mine", "S=new"]);
        let there = |name: &OsStr| Some(if name == "L" { "/z:/x".into() } else { "theirs".into() });
        assert_eq!(told(there), ["L=/a:/z:/x", "L=/b:/a:/z:/x", "L=/b:/a:/z:/x", "U=theirs", "S=new"]);
    }
}
