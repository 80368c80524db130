//! A registry of images (OCI Distribution Specification 1.1, OCI Image Specification 1.1): what is called so by a manifest has
//! layers, and a layer that says its title is a file. The image as a whole is one too, `NAME.oci.tar`: its layout.

use std::collections::BTreeMap;
use std::sync::Arc;

use serde::Deserialize;

use super::configured::Address;
use super::image::{Blobs, Part};
use super::{Asking, IndexError, Listed, Sum, segments, text};
use crate::base::digest::Digest;
use crate::bring::fetch::{Document, YardError, token};
use kladder_choose::address::without_password;

const MANIFESTS: &str = "application/vnd.oci.image.index.v1+json, application/vnd.oci.image.manifest.v1+json";
const INDEX: &str = "application/vnd.oci.image.index.v1+json";
const MANIFEST: &str = "application/vnd.oci.image.manifest.v1+json";
/// The annotation that names a file (OCI Image Specification, annotations).
const TITLE: &str = "org.opencontainers.image.title";
/// More manifests than these are not looked at for one name: one for each platform.
const MOST: usize = 32;
/// No image has more layers, all of its platforms together.
const MOST_LAYERS: usize = 4096;

/// Either kind of answer.
#[derive(Deserialize)]
#[serde(rename_all = "camelCase")]
struct Manifest {
    schema_version: u32,
    #[serde(default)]
    media_type: Option<String>,
    #[serde(default)]
    config: Option<Descriptor>,
    #[serde(default)]
    manifests: Vec<Descriptor>,
    #[serde(default)]
    layers: Vec<Descriptor>,
}

#[derive(Deserialize)]
struct Descriptor {
    digest: String,
    size: u64,
    #[serde(default)]
    annotations: BTreeMap<String, String>,
}

/// The files of `NAME:TAG` or `NAME@DIGEST`; without either, of the tag `latest`.
pub(super) fn list(address: &Address, asking: &Asking<'_>) -> Result<Vec<Listed>, IndexError> {
    let (name, reference) = match asking.project.split_once('@') {
        Some((name, digest)) => (name, digest),
        None => asking.project.rsplit_once(':').unwrap_or((asking.project, "latest")),
    };
    let registry = format!("{}v2/{}/", address.url, segments(name));
    let mut asked = Asked { address: address.clone(), asking };
    let top = asked.manifest(&registry, reference)?;
    let inner: Vec<_> = top
        .0
        .manifests
        .iter()
        .take(MOST)
        .map(|one| asked.manifest(&registry, &one.digest))
        .collect::<Result<_, _>>()?;
    let layers = inner.iter().map(|(manifest, _)| manifest).chain([&top.0]).flat_map(|manifest| &manifest.layers);
    let listed = layers.filter_map(|layer| {
        let sum = layer.digest.strip_prefix("sha256:").and_then(|digits| digits.parse().ok()).map(Sum::Sha256);
        Some(Listed {
            file: layer.annotations.get(TITLE)?.clone(),
            url: format!("{registry}blobs/{}", layer.digest),
            size: Some(layer.size),
            sum,
            version: Some(reference.to_owned()),
            authorization: asked.address.authorization.clone(),
            ..Listed::default()
        })
    });
    let mut listed: Vec<_> = listed.collect();
    listed.extend(whole(&registry, &top, &inner).map(|parts| Listed {
        file: format!("{}.oci.tar", name.rsplit('/').next().unwrap_or(name)),
        url: format!("{registry}manifests/{reference}"),
        size: Some(parts.iter().map(Part::size).fold(0, u64::saturating_add)),
        version: Some(reference.to_owned()),
        authorization: asked.address.authorization.clone(),
        parts: Arc::new(parts),
        ..Listed::default()
    }));
    Ok(listed)
}

/// A manifest and its bytes.
type Read = (Manifest, Vec<u8>);

/// The image as one file; `None` where not all of it is known, or has other digests than SHA-256.
fn whole(registry: &str, top: &Read, inner: &[Read]) -> Option<Vec<Part>> {
    let layers: usize = inner.iter().chain([top]).map(|(manifest, _)| manifest.layers.len()).sum();
    if top.0.manifests.len() > inner.len() || layers > MOST_LAYERS {
        return None;
    }
    let mut blobs = Blobs::default();
    for (manifest, bytes) in inner.iter().chain([top]) {
        blobs.add(&Digest::of(bytes).hex(), Part::Bytes(bytes.clone()));
        for blob in manifest.config.iter().chain(&manifest.layers) {
            let url = format!("{registry}blobs/{}", blob.digest);
            blobs.add(
                blob.digest.strip_prefix("sha256:").filter(|digits| digits.parse::<Digest>().is_ok())?,
                Part::At { url, size: blob.size },
            );
        }
    }
    let kind = if top.0.manifests.is_empty() { MANIFEST } else { INDEX };
    let kind = top.0.media_type.as_deref().unwrap_or(kind);
    Some(blobs.layout(&Digest::of(&top.1).hex(), kind, top.1.len() as u64))
}

/// A registry, and the token that it gave.
struct Asked<'a> {
    address: Address,
    asking: &'a Asking<'a>,
}

impl Asked<'_> {
    fn manifest(&mut self, registry: &str, reference: &str) -> Result<Read, IndexError> {
        let url = format!("{registry}manifests/{reference}");
        let wrong = |why: String| IndexError::Wrong { url: without_password(&url), kind: "oci", why };
        let document = self.document(&url)?;
        // What is asked for by its digest is what has that digest.
        if let Some(digits) = reference.strip_prefix("sha256:")
            && Digest::of(&document.bytes).hex() != digits
        {
            return Err(wrong("its bytes have another digest than they were asked for by".to_owned()));
        }
        let manifest: Manifest = text(&document)
            .and_then(|text| serde_json::from_str(text).map_err(|error| error.to_string()))
            .map_err(wrong)?;
        if manifest.schema_version != 2 {
            return Err(wrong(format!("it has a manifest of version {}, and 2 is known", manifest.schema_version)));
        }
        Ok((manifest, document.bytes))
    }

    fn document(&mut self, url: &str) -> Result<Document, IndexError> {
        match self.asking.document(url, Some(MANIFESTS), &self.address) {
            Err(IndexError::Asked { source, url: shown }) => match *source {
                YardError::WhoAsks { how: Some(how), told, host } => {
                    let network = self.asking.network;
                    let token = token(&how, &self.address.url, network)
                        .map_err(|source| IndexError::Asked { url: shown.clone(), source: Box::new(source) })?;
                    let Some(token) = token else {
                        let source = Box::new(YardError::WhoAsks { how: None, told, host });
                        return Err(IndexError::Asked { url: shown, source });
                    };
                    self.address.authorization = Some(token);
                    self.asking.document(url, Some(MANIFESTS), &self.address)
                }
                source => Err(IndexError::Asked { url: shown, source: Box::new(source) }),
            },
            other => other,
        }
    }
}
