//! What a Debian archive says of itself: `InRelease`, signed in the clear (RFC 9580, section 7; the Debian Repository Format).

use std::path::{Path, PathBuf};

use deb822_fast::Deb822;
use pgp::composed::{CleartextSignedMessage, Deserializable, SignedPublicKey, SignedPublicSubKey};
use pgp::packet::{Signature, SignatureType};
use pgp::types::{KeyDetails, SignedUser, Tag};

use super::apt::Keys;
use crate::base::digest::Digest;
use crate::base::files;

/// Where a system keeps the keys that it trusts for any archive, as apt does (apt-secure(8)). Other folders hold keys that are trusted for
/// one archive only, which says so.
const TRUSTED: &str = "/etc/apt/trusted.gpg.d";
const TRUSTED_FILE: &str = "/etc/apt/trusted.gpg";

/// A signed list of an archive's indexes.
#[derive(Clone, Debug)]
pub(super) struct Release {
    sums: Vec<(String, u64, Digest)>,
    pub(super) by_hash: bool,
    suite: Vec<String>,
    valid_until: Option<jiff::Timestamp>,
}

impl Release {
    /// Reads `InRelease` after its signature was seen to be one of `keys`'.
    pub(super) fn read(text: &str, keys: &Keys, now: jiff::Timestamp) -> Result<Self, String> {
        let signed = match keys {
            Keys::Nobody if !text.contains("-----BEGIN PGP SIGNED MESSAGE-----") => text.to_owned(),
            Keys::Nobody => message(text)?.signed_text(),
            keys => verified(text, &all_of(keys)?, now)?,
        };
        let all: Deb822 = signed.replace("\r\n", "\n").parse().map_err(|_| "it cannot be read".to_owned())?;
        let fields = all.iter().next().ok_or("it is empty")?;
        let sums = fields.get("SHA256").ok_or("it has no SHA256 sums")?.lines().filter_map(sum).collect();
        let named = |name| fields.get(name).map(|text| text.trim().to_owned());
        let valid_until = fields.get("Valid-Until").and_then(moment);
        let by_hash = fields.get("Acquire-By-Hash").is_some_and(|text| text.trim() == "yes");
        Ok(Self { sums, by_hash, suite: ["Suite", "Codename"].into_iter().filter_map(named).collect(), valid_until })
    }

    /// Sees that it tells of the suite that was asked for, and still does.
    pub(super) fn check(&self, suite: &str, now: jiff::Timestamp) -> Result<(), String> {
        if !self.suite.iter().any(|known| known == suite) {
            return Err(format!("it tells of {} where {suite} was asked for", self.suite.join(", ")));
        }
        match self.valid_until {
            Some(until) if until < now => Err(format!("it was valid until {until}")),
            _ => Ok(()),
        }
    }

    /// Size and digest of one of its files.
    pub(super) fn of(&self, path: &str) -> Option<(u64, Digest)> {
        self.sums.iter().find(|(known, ..)| known == path).map(|(_, size, digest)| (*size, *digest))
    }
}

/// `DIGEST SIZE PATH`.
fn sum(line: &str) -> Option<(String, u64, Digest)> {
    let mut words = line.split_whitespace();
    let (digest, size, path) = (words.next()?.parse().ok()?, words.next()?.parse().ok()?, words.next()?);
    Some((path.to_owned(), size, digest))
}

fn moment(text: &str) -> Option<jiff::Timestamp> {
    let text = text.trim().replace(" UTC", " +0000");
    jiff::fmt::rfc2822::parse(&text).ok().map(|zoned| zoned.timestamp())
}

fn message(text: &str) -> Result<CleartextSignedMessage, String> {
    // What stands before or behind the message is nobody's word.
    let message = CleartextSignedMessage::from_string(text).map_err(|error| format!("it is not signed: {error}"))?.0;
    Ok(message)
}

/// The text, where a key that holds has signed it.
fn verified(text: &str, keys: &[SignedPublicKey], now: jiff::Timestamp) -> Result<String, String> {
    let message = message(text)?;
    let by_subkey = |key: &SignedPublicKey| {
        let mut signed = key.public_subkeys.iter().filter(|sub| message.verify(&sub.key).is_ok());
        signed.any(|sub| holds_below(key, sub, now))
    };
    let has_signed = |key: &SignedPublicKey| message.verify(&key.primary_key).is_ok() || by_subkey(key);
    if keys.iter().any(|key| has_signed(key) && holds(key, now)) {
        return Ok(message.signed_text());
    }
    let known: Vec<String> = keys.iter().map(|key| key.legacy_key_id().to_string().to_uppercase()).collect();
    Err(format!("none of the keys that are trusted for it has signed it ({})", known.join(", ")))
}

/// Whether a key says of itself what it is, has not been taken back, and is not over. What others say of it counts for nothing.
fn holds(key: &SignedPublicKey, now: jiff::Timestamp) -> bool {
    let (details, primary) = (&key.details, &key.primary_key);
    let of_user = |user: &'_ SignedUser| {
        let own = |one: &&Signature| one.verify_certification(primary, Tag::UserId, &user.id).is_ok();
        user.signatures.iter().filter(own).cloned().collect::<Vec<_>>()
    };
    let direct = details.direct_signatures.iter().filter(|one| one.verify_key(primary).is_ok()).cloned();
    let own: Vec<Signature> = details.users.iter().flat_map(of_user).chain(direct).collect();
    let is_revoked = details.revocation_signatures.iter().any(|one| one.verify_key(primary).is_ok());
    !own.is_empty() && !is_revoked && !is_over(primary.created_at().as_secs(), own.iter(), now)
}

/// Whether a key below another one belongs to it, and holds.
fn holds_below(key: &SignedPublicKey, sub: &SignedPublicSubKey, now: jiff::Timestamp) -> bool {
    let is_revoked = sub.signatures.iter().any(|one| one.typ() == Some(SignatureType::SubkeyRevocation));
    let is_over = is_over(sub.key.created_at().as_secs(), sub.signatures.iter(), now);
    sub.verify_bindings(&key.primary_key).is_ok() && !is_revoked && !is_over
}

/// Whether the time of a key made at `made` (in seconds) is over, as the newest signature has it that says something of it
/// (RFC 9580, section 5.2.3.13).
fn is_over<'s>(made: u32, signatures: impl Iterator<Item = &'s Signature>, now: jiff::Timestamp) -> bool {
    let newest = signatures.max_by_key(|one| one.created().map(pgp::types::Timestamp::as_secs));
    let lasts = newest.and_then(Signature::key_expiration_time).map(|time| i64::from(time.as_secs()));
    lasts.filter(|lasts| *lasts > 0).is_some_and(|lasts| i64::from(made) + lasts < now.as_second())
}

/// The keys that count.
fn all_of(keys: &Keys) -> Result<Vec<SignedPublicKey>, String> {
    let found: Vec<SignedPublicKey> = match keys {
        Keys::Inline(text) => parsed(text.as_bytes()),
        Keys::Files(paths) => paths.iter().flat_map(|path| in_file(path)).collect(),
        Keys::System => in_folder(Path::new(TRUSTED)).into_iter().chain(in_file(Path::new(TRUSTED_FILE))).collect(),
        Keys::Nobody => Vec::new(),
    };
    if found.is_empty() { Err("there is no key here that could vouch for it".to_owned()) } else { Ok(found) }
}

fn in_folder(folder: &Path) -> Vec<SignedPublicKey> {
    let names = files::names(folder).unwrap_or_default();
    let is_key = |path: &PathBuf| path.extension().is_some_and(|ending| ending == "gpg" || ending == "asc");
    names.into_iter().map(|name| folder.join(name)).filter(is_key).flat_map(|path| in_file(&path)).collect()
}

fn in_file(path: &Path) -> Vec<SignedPublicKey> {
    files::read(path).map(|bytes| parsed(&bytes)).unwrap_or_default()
}

/// The keys in a file, armoured or not; one that cannot be read is one that vouches for nothing.
fn parsed(bytes: &[u8]) -> Vec<SignedPublicKey> {
    if bytes.starts_with(b"-----") {
        let keys = SignedPublicKey::from_armor_many(bytes).map(|(keys, _)| keys.flatten().collect());
        return keys.unwrap_or_default();
    }
    SignedPublicKey::from_bytes_many(bytes).map(|keys| keys.flatten().collect()).unwrap_or_default()
}
