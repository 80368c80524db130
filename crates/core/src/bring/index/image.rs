//! An image as one file: the tar of an OCI image layout (OCI Image Specification 1.1, "Image Layout"), which a tool that runs
//! images reads. Its bytes follow from the image's digests alone, so that one SHA-256 pins all of it wherever it is put together.

use std::collections::BTreeMap;

use serde_json::json;
use tar::Header;

/// Bytes of a block of a tar.
const BLOCK: usize = 512;

/// A part of a file that is put together while it is fetched.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(in crate::bring) enum Part {
    /// These bytes.
    Bytes(Vec<u8>),
    /// What lies at an address.
    At {
        /// The address.
        url: String,
        /// Its length in bytes.
        size: u64,
    },
}

impl Part {
    /// Its length in bytes.
    pub(in crate::bring) fn size(&self) -> u64 {
        match self {
            Self::Bytes(bytes) => bytes.len() as u64,
            Self::At { size, .. } => *size,
        }
    }
}

/// What an image consists of, by the hexadecimal digits of the SHA-256 digests.
#[derive(Default)]
pub(super) struct Blobs(BTreeMap<String, Part>);

impl Blobs {
    pub(super) fn add(&mut self, digits: &str, part: Part) {
        self.0.insert(digits.to_owned(), part);
    }

    /// The layout, for an image whose uppermost manifest has these digits, this type and this size.
    pub(super) fn layout(self, digits: &str, media_type: &str, size: u64) -> Vec<Part> {
        let marker = json!({ "imageLayoutVersion": "1.0.0" }).to_string();
        let top = json!({ "mediaType": media_type, "digest": format!("sha256:{digits}"), "size": size });
        let index = json!({ "schemaVersion": 2, "manifests": [top] }).to_string();
        let mut tar = Tar::default();
        tar.file("oci-layout", Part::Bytes(marker.into()));
        tar.file("index.json", Part::Bytes(index.into()));
        for (digits, part) in self.0 {
            tar.file(&format!("blobs/sha256/{digits}"), part);
        }
        tar.plain(&[0; 2 * BLOCK]);
        tar.parts
    }
}

/// A tar in the making; what is known already is joined.
#[derive(Default)]
struct Tar {
    parts: Vec<Part>,
}

impl Tar {
    fn plain(&mut self, bytes: &[u8]) {
        match self.parts.last_mut() {
            Some(Part::Bytes(last)) => last.extend_from_slice(bytes),
            _ => self.parts.push(Part::Bytes(bytes.to_vec())),
        }
    }

    /// Adds a file; the names are short ones of ours.
    fn file(&mut self, name: &str, part: Part) {
        let size = part.size();
        let mut head = Header::new_gnu();
        head.as_old_mut().name[..name.len()].copy_from_slice(name.as_bytes());
        head.set_size(size);
        head.set_mode(0o644);
        head.set_mtime(0);
        head.set_cksum();
        self.plain(head.as_bytes());
        match part {
            Part::Bytes(bytes) => self.plain(&bytes),
            at @ Part::At { .. } => self.parts.push(at),
        }
        let padding = usize::try_from(size.wrapping_neg() % BLOCK as u64).unwrap_or(0);
        self.plain(&vec![0; padding]);
    }
}
