//! A yard that is a repository of a registry of images (OCI Distribution Specification 1.1): each artifact is a blob by its digest,
//! and the one layer of an image that keeps it from being tidied away (OCI Image Specification 1.1, "Guidelines for Artifact Usage").
//!
//! An artifact is asked for by its digest, so that no tag can lead anywhere else. Tags are for people, and for a look whether it is
//! there: the file's name and the first digits of the digest.

use std::io::{self, Read};
use std::sync::{Mutex, PoisonError};
use std::time::Duration;

use kladder_choose::address::without_password;
use kladder_choose::catalog::Artifact;
use kladder_choose::path::InnerPath;
use serde_json::json;
use ureq::SendBody;

use super::network::{Network, is_loopback};
use super::redirect::{Bounds, Question, resolved};
use super::server::{Answer, get, header, open_with, unanswered};
use super::sign_in::Authorization;
use super::token::token;
use super::yard::{Offer, Stock, Yard, YardError};
use crate::base::digest::Digest;
use crate::settings::host_of;

/// What kind of image holds an artifact.
const KIND: &str = "application/vnd.kladder.artifact.v1";
const MANIFEST: &str = "application/vnd.oci.image.manifest.v1+json";
/// Configuration of an image that has none, and its type (OCI Image Specification, "Guidance for an Empty Descriptor").
const EMPTY: (&[u8], &str) = (b"{}", "application/vnd.oci.empty.v1+json");
/// Characters that a tag may have.
const LONGEST_TAG: usize = 128;
/// Digits of a digest in a tag.
const DIGITS: usize = 12;
/// Bytes of what a registry says of an error.
const LONGEST_WORD: u64 = 64 << 10;
/// A registry that takes fewer bytes in a second than this is not waited for.
const SLOWEST: u64 = 16 << 10;

/// A repository.
#[derive(Debug)]
pub(super) struct Registry {
    /// As it was written.
    address: String,
    /// `https://HOST/v2/NAME/`.
    base: String,
    network: Network,
    token: Mutex<Option<Authorization>>,
}

impl Registry {
    /// By an address with `oci://` or `oci+http://`.
    pub(super) fn new(address: &str, network: &Network) -> Self {
        let (scheme, rest) = address.split_once("://").unwrap_or(("oci", address));
        let (host, name) = rest.split_once('/').unwrap_or((rest, ""));
        let near = format!("http://{host}/");
        let scheme = if scheme.ends_with("+http") || is_loopback(&near) { "http" } else { "https" };
        let base = format!("{scheme}://{host}/v2/{name}/");
        Self { address: address.to_owned(), base, network: network.clone(), token: Mutex::default() }
    }

    fn blob(&self, digest: &Digest) -> String {
        format!("{}blobs/sha256:{}", self.base, digest.hex())
    }

    fn manifest(&self, artifact: &Artifact) -> String {
        format!("{}manifests/{}", self.base, tag(artifact))
    }

    /// Asks with the token that there is, or with one that the registry wants.
    fn asked<T>(&self, mut ask: impl FnMut(Option<&Authorization>) -> Result<T, YardError>) -> Result<T, YardError> {
        let known = || self.token.lock().unwrap_or_else(PoisonError::into_inner);
        let own = known().clone();
        match ask(own.as_ref()) {
            Err(YardError::WhoAsks { how: Some(how), told, host }) => {
                let Some(token) = token(&how, &self.base, &self.network)? else {
                    return Err(YardError::WhoAsks { how: None, told, host });
                };
                *known() = Some(token.clone());
                ask(Some(&token))
            }
            other => other,
        }
    }

    /// How large what is at an address is, or a stand-in where it does not tell; `None` where nothing is there.
    fn looked_at(&self, url: &str) -> Result<Option<u64>, YardError> {
        let look = |authorization: Option<&Authorization>| {
            let question = Question { head: true, accept: Some(MANIFEST), authorization, ..Question::default() };
            get(url, question, &self.network, Bounds::Anywhere)
        };
        match self.asked(look) {
            Ok(answer) => Ok(Some(header(&answer, "content-length").and_then(|text| text.parse().ok()).unwrap_or(0))),
            Err(YardError::NotThere) => Ok(None),
            Err(error) => Err(error),
        }
    }

    fn send(&self, sent: Sent<'_>, body: SendBody<'_>, who: Option<&Authorization>) -> Result<Answer, YardError> {
        let failed = |source| YardError::SignIn { host: host_of(sent.url).unwrap_or_default().to_owned(), source };
        let own = self.network.sign_ins.at(sent.url).map_err(failed)?;
        let agent = self.network.agent(sent.url);
        let request = if sent.begins { agent.post(sent.url) } else { agent.put(sent.url) };
        let time = self.network.patience + Duration::from_secs(sent.size / SLOWEST);
        let mut request = request.config().timeout_send_body(Some(time)).build().content_type(sent.kind);
        request = request.header("Content-Length", sent.size.to_string());
        if let Some(who) = who.or(own.as_ref()) {
            request = request.header("Authorization", who.value());
        }
        let answer = request.send(body).map_err(|error| unanswered(error.into_io()))?;
        let host = || host_of(sent.url).unwrap_or_default().to_owned();
        match answer.status().as_u16() {
            200..=299 => Ok(answer),
            401 => {
                let how = header(&answer, "www-authenticate").map(str::to_owned);
                Err(YardError::WhoAsks { host: host(), told: who.or(own.as_ref()).is_some(), how })
            }
            403 => Err(YardError::WhoAsks { host: host(), told: true, how: None }),
            400..=499 => Err(ended(answer)),
            status => Err(YardError::Status { status, pause: None }),
        }
    }

    /// Puts a blob there in one go ("Pushing blobs: POST then PUT").
    fn push(&self, digest: &Digest, size: u64, body: &mut dyn Read) -> Result<(), YardError> {
        let uploads = format!("{}blobs/uploads/", self.base);
        let begin = Sent { url: &uploads, begins: true, kind: "application/octet-stream", size: 0 };
        let begun = self.asked(|who| self.send(begin, SendBody::none(), who))?;
        let to = header(&begun, "location").and_then(|to| resolved(&uploads, to)).ok_or(YardError::NotThere)?;
        let mark = if to.contains('?') { '&' } else { '?' };
        let to = format!("{to}{mark}digest=sha256%3A{}", digest.hex());
        // What an upload is continued at may be another host's, which gets no token of this one.
        let same = host_of(&to) == host_of(&self.base);
        let own = self.token.lock().unwrap_or_else(PoisonError::into_inner).clone().filter(|_| same);
        let sent = Sent { url: &to, begins: false, kind: "application/octet-stream", size };
        match self.send(sent, SendBody::from_reader(&mut body.take(size)), own.as_ref()) {
            // Where two put the same there at once, some let neither end what it began.
            Err(YardError::Unwritten { .. }) if self.looked_at(&self.blob(digest))?.is_some() => Ok(()),
            sent => sent.map(drop),
        }
    }
}

/// What a registry did not take, and its word for why ("Error Codes"): where another one puts the same there, it may take it the next time.
fn ended(answer: Answer) -> YardError {
    #[derive(serde::Deserialize)]
    struct Said {
        errors: Vec<One>,
    }
    #[derive(serde::Deserialize)]
    struct One {
        code: String,
        #[serde(default)]
        message: String,
    }
    let status = answer.status().as_u16();
    let mut text = Vec::new();
    // What cannot be read says nothing; the status does.
    let _ = answer.into_body().into_reader().take(LONGEST_WORD).read_to_end(&mut text);
    let said = serde_json::from_slice::<Said>(&text).ok().and_then(|said| said.errors.into_iter().next());
    let said = said.map(|one| format!(": {} ({})", one.message, one.code)).unwrap_or_default();
    let why = format!("it ended an upload with status {status}{said}");
    YardError::Unwritten { source: io::Error::new(io::ErrorKind::ConnectionAborted, why) }
}

/// What is sent somewhere.
#[derive(Clone, Copy)]
struct Sent<'s> {
    url: &'s str,
    /// An upload begins (POST), else something is put there (PUT).
    begins: bool,
    /// The type of what is sent.
    kind: &'s str,
    /// Its bytes.
    size: u64,
}

/// The tag of an artifact: what of its file's name a tag may have, and digits of its digest.
fn tag(artifact: &Artifact) -> String {
    let name = artifact.file.as_str().rsplit('/').next().unwrap_or_default();
    let plain = |c: char| if c.is_ascii_alphanumeric() || "._-".contains(c) { c } else { '_' };
    let name: String = name.chars().map(plain).take(LONGEST_TAG - DIGITS - 1).collect();
    let name = name.trim_start_matches(['.', '-']);
    format!("{}-{}", if name.is_empty() { "artifact" } else { name }, &artifact.sha256.hex()[..DIGITS])
}

impl Yard for Registry {
    fn shown(&self) -> String {
        without_password(&self.address)
    }

    fn open(&self, artifact: &Artifact, from: u64) -> Result<Offer, YardError> {
        let url = self.blob(&artifact.sha256);
        self.asked(|authorization| {
            let question = Question { from, authorization, ..Question::default() };
            open_with(&url, artifact, question, &self.network, Bounds::Anywhere)
        })
    }

    /// It knows no files by name.
    fn size(&self, _file: &InnerPath) -> Result<Option<u64>, YardError> {
        Err(YardError::NotThere)
    }

    fn answers(&self, patience: Duration) -> bool {
        super::server::connects(&self.base, patience)
    }
}

impl Stock for Registry {
    fn has(&self, artifact: &Artifact) -> Result<bool, YardError> {
        let blob = self.looked_at(&self.blob(&artifact.sha256))?;
        Ok(blob.is_some() && self.looked_at(&self.manifest(artifact))?.is_some())
    }

    fn put(&self, artifact: &Artifact, body: &mut dyn Read) -> Result<(), YardError> {
        if self.looked_at(&self.blob(&artifact.sha256))?.is_none() {
            self.push(&artifact.sha256, artifact.size, body)?;
        }
        let empty = Digest::of(EMPTY.0);
        if self.looked_at(&self.blob(&empty))?.is_none() {
            self.push(&empty, EMPTY.0.len() as u64, &mut { EMPTY.0 })?;
        }
        let described = |digest: &Digest, size: u64, kind: &str| json!({ "mediaType": kind, "digest": format!("sha256:{}", digest.hex()), "size": size });
        let mut layer = described(&artifact.sha256, artifact.size, "application/octet-stream");
        layer["annotations"] = json!({ "org.opencontainers.image.title": artifact.file.as_str() });
        let manifest = json!({
            "schemaVersion": 2,
            "mediaType": MANIFEST,
            "artifactType": KIND,
            "config": described(&empty, EMPTY.0.len() as u64, EMPTY.1),
            "layers": [layer],
        });
        let bytes = manifest.to_string().into_bytes();
        let url = self.manifest(artifact);
        let sent = Sent { url: &url, begins: false, kind: MANIFEST, size: bytes.len() as u64 };
        self.asked(|who| self.send(sent, SendBody::from_reader(&mut bytes.as_slice()), who)).map(drop)
    }

    fn remove(&self, artifact: &Artifact) -> Result<(), YardError> {
        Err(YardError::Keeps { digest: artifact.sha256 })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_tag_is_one_whatever_the_file_is_called() {
        let of = |file: &str| {
            let (file, sha256) = (InnerPath::new(file).unwrap(), Digest::of(b"gannet"));
            let (unpack, origins) = (kladder_choose::catalog::Unpacking::default(), Vec::new());
            tag(&Artifact { file, size: 6, sha256, unpacked: None, unpack, origins, by_person: None })
        };
        let digits = &Digest::of(b"gannet").hex()[..12];
        assert_eq!(of("skerroc/1.4/skerroc-1.4.2+b.tar.xz"), format!("skerroc-1.4.2_b.tar.xz-{digits}"));
        assert_eq!(of(".--"), format!("artifact-{digits}"));
        assert_eq!(of(&"a".repeat(200)).len(), 128);
    }
}
