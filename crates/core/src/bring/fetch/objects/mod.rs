//! A yard that is a bucket of an object store: `s3://BUCKET/BEFORE` and whatever speaks that protocol, `gs://`, `az://`.
//!
//! The protocols are the library's; the way to servers is ours, so that proxies, certificates and patience are those of the
//! settings. Who asks is what `[sign-in]` says of the bucket, else the variables that the stores' own clients read. Without either, a
//! bucket is asked as anybody may.

mod body;
mod way;

use std::io::{self, Read};
use std::sync::{Arc, OnceLock};
use std::time::Duration;

use futures_util::StreamExt;
use kladder_choose::address::without_password;
use kladder_choose::catalog::Artifact;
use kladder_choose::path::InnerPath;
use object_store::aws::{AmazonS3Builder, AmazonS3ConfigKey};
use object_store::azure::MicrosoftAzureBuilder;
use object_store::gcp::GoogleCloudStorageBuilder;
use object_store::path::Path;
use object_store::{
    ClientOptions, Error, GetOptions, GetRange, ObjectStore, ObjectStoreExt, PutPayload, RetryConfig, WriteMultipart,
};
use tokio::runtime::{Builder, Runtime};

use self::body::Streamed;
use self::way::Way;
use super::network::Network;
use super::sign_in::{Named, SignInError};
use super::yard::{Offer, Stock, Yard, YardError, check_size};

/// Bytes of a part of an upload; smaller files go in one. Ten thousand parts are the most (80 GB).
const PART: usize = 8 << 20;
/// Parts on their way at once.
const AT_ONCE: usize = 2;

/// A bucket, and what stands before each path in it.
#[derive(Debug)]
pub(super) struct Objects {
    address: String,
    network: Network,
    opened: OnceLock<Result<Opened, Closed>>,
}

/// What is needed to ask a bucket.
#[derive(Clone, Debug)]
struct Opened {
    store: Arc<dyn ObjectStore>,
    before: Path,
    runtime: Arc<Runtime>,
    /// Whether it is told who asks.
    signs: bool,
}

/// Why a bucket cannot be asked.
#[derive(Clone, Debug)]
enum Closed {
    SignIn(SignInError),
    Other(String),
}

/// A builder that knows what variables say; each has the same words, and they have no trait in common.
macro_rules! configured {
    ($builder:expr, $variables:expr) => {
        $variables
            .filter_map(|(key, value)| Some((key.parse().ok()?, value)))
            .fold($builder, |builder, (key, value)| builder.with_config(key, value))
    };
}

impl Objects {
    pub(super) fn new(address: &str, network: &Network) -> Self {
        Self { address: address.to_owned(), network: network.clone(), opened: OnceLock::new() }
    }

    fn bucket(&self) -> &str {
        let rest = self.address.split_once("://").map_or("", |(_, rest)| rest);
        rest.split(['/', '?']).next().unwrap_or_default()
    }

    fn opened(&self) -> Result<&Opened, YardError> {
        self.opened.get_or_init(|| self.open_store()).as_ref().map_err(|closed| match closed {
            Closed::SignIn(source) => YardError::SignIn { host: self.bucket().to_owned(), source: source.clone() },
            Closed::Other(why) => YardError::Unasked { source: io::Error::other(why.clone()) },
        })
    }

    fn open_store(&self) -> Result<Opened, Closed> {
        let other = |error: &dyn std::error::Error| Closed::Other(innermost(error));
        let (place, query) = self.address.split_once('?').unwrap_or((&self.address, ""));
        let (scheme, rest) = place.split_once("://").unwrap_or(("", place));
        let before = rest.split_once('/').map_or("", |(_, before)| before);
        let own = self.network.sign_ins.named(self.bucket()).map_err(Closed::SignIn)?;
        let known = who_asks(scheme).iter().any(|start| self.variables(start).next().is_some());
        let signs = own.is_some() || known;
        let retry = RetryConfig { max_retries: 0, retry_timeout: self.network.patience, ..RetryConfig::default() };
        macro_rules! built {
            ($builder:expr) => {
                $builder
                    .with_url(format!("{scheme}://{}", self.bucket()))
                    .with_client_options(ClientOptions::new().with_allow_http(true))
                    .with_retry(retry)
                    .with_skip_signature(!signs)
                    .with_http_connector(Way(self.network.clone()))
                    .build()
                    .map(|store| Arc::new(store) as Arc<dyn ObjectStore>)
                    .map_err(|error| other(&error))
            };
        }
        let store = match scheme.to_ascii_lowercase().as_str() {
            "gs" => built!(self.gs(own)),
            "az" => built!(self.az(own)?),
            _ => built!(self.s3(query, own)?),
        }?;
        let runtime = Builder::new_current_thread().enable_time().build().map_err(|error| other(&error))?;
        let before = Path::parse(before).map_err(|error| other(&error))?;
        Ok(Opened { store, before, runtime: Arc::new(runtime), signs })
    }

    /// The secret is a service account's key, the JSON document that the store hands out; whose it is stands in there.
    fn gs(&self, own: Option<Named>) -> GoogleCloudStorageBuilder {
        let is_own = own.is_some();
        let says_who = move |name: &str| who_asks("gs").iter().any(|start| name.eq_ignore_ascii_case(start));
        let known = self.variables("GOOGLE_").filter(|(name, _)| !(is_own && says_who(name)));
        let builder = configured!(GoogleCloudStorageBuilder::new(), known);
        match own {
            Some(own) => builder.with_service_account_key(own.document()),
            None => builder,
        }
    }

    /// The name is the account's, the secret its key.
    fn az(&self, own: Option<Named>) -> Result<MicrosoftAzureBuilder, Closed> {
        let builder = configured!(MicrosoftAzureBuilder::new(), self.variables("AZURE_"));
        let Some((account, key)) = own.map(Named::pair).transpose().map_err(Closed::SignIn)? else {
            return Ok(builder);
        };
        Ok(builder.with_account(account).with_access_key(key))
    }

    fn s3(&self, query: &str, own: Option<Named>) -> Result<AmazonS3Builder, Closed> {
        let mut builder = configured!(AmazonS3Builder::new(), self.variables("AWS_"));
        for (key, value) in query.split('&').filter_map(|pair| pair.split_once('=')) {
            let key = match key {
                "endpoint" => AmazonS3ConfigKey::Endpoint,
                "region" => AmazonS3ConfigKey::Region,
                _ => return Err(Closed::Other(format!("`{key}` in its address is none of endpoint, region"))),
            };
            builder = builder.with_config(key, value);
        }
        let Some((name, key)) = own.map(Named::pair).transpose().map_err(Closed::SignIn)? else { return Ok(builder) };
        Ok(builder.with_access_key_id(name).with_secret_access_key(key))
    }

    /// The caller's variables of a kind of store, their names in small letters.
    fn variables(&self, kind: &str) -> impl Iterator<Item = (String, String)> {
        let all = self.network.environment.all();
        let kind = kind.to_owned();
        all.filter_map(move |(name, value)| {
            let name = name.to_str().filter(|name| name.starts_with(&kind))?;
            Some((name.to_ascii_lowercase(), value.to_str()?.to_owned()))
        })
    }

    /// What the library says, as the rest of the program has it.
    fn error(&self, error: Error) -> YardError {
        match error {
            Error::NotFound { .. } => YardError::NotThere,
            Error::PermissionDenied { .. } | Error::Unauthenticated { .. } => {
                let told = self.opened().is_ok_and(|opened| opened.signs);
                YardError::WhoAsks { host: self.bucket().to_owned(), told, how: None }
            }
            other => {
                let why = innermost(&other);
                match status_in(&why) {
                    Some(status) => YardError::Status { status, pause: None },
                    None => YardError::Unreachable { source: io::Error::other(why) },
                }
            }
        }
    }
}

/// How the names of the variables begin that say who asks at a kind of store.
fn who_asks(scheme: &str) -> &'static [&'static str] {
    match scheme {
        "gs" => &["GOOGLE_SERVICE_ACCOUNT", "GOOGLE_APPLICATION_CREDENTIALS"],
        "az" => &[
            "AZURE_STORAGE_ACCESS_KEY",
            "AZURE_STORAGE_ACCOUNT_KEY",
            "AZURE_STORAGE_SAS",
            "AZURE_CLIENT_",
            "AZURE_FEDERATED_",
        ],
        _ => &["AWS_ACCESS_KEY_ID", "AWS_WEB_IDENTITY_", "AWS_CONTAINER_"],
    }
}

/// The status that the library's text tells of: it has it in no other form.
fn status_in(text: &str) -> Option<u16> {
    text.strip_prefix("Server returned non-2xx status code: ")?.get(..3)?.parse().ok()
}

/// The cause of causes: what is around it are the library's own names.
fn innermost(error: &dyn std::error::Error) -> String {
    let mut last = error;
    while let Some(source) = last.source() {
        last = source;
    }
    last.to_string()
}

impl Opened {
    fn key(&self, file: &InnerPath) -> Path {
        file.as_str().split('/').fold(self.before.clone(), Path::join)
    }
}

impl Yard for Objects {
    fn shown(&self) -> String {
        without_password(&self.address)
    }

    fn open(&self, artifact: &Artifact, from: u64) -> Result<Offer, YardError> {
        let opened = self.opened()?;
        let range = (from > 0).then_some(GetRange::Offset(from));
        let options = GetOptions { range, ..GetOptions::default() };
        let got = opened.runtime.block_on(opened.store.get_opts(&opened.key(&artifact.file), options));
        let got = got.map_err(|error| self.error(error))?;
        check_size(got.meta.size, artifact)?;
        let from = got.range.start;
        Ok(Offer { from, body: Box::new(Streamed::new(got.into_stream(), &opened.runtime)) })
    }

    fn size(&self, file: &InnerPath) -> Result<Option<u64>, YardError> {
        let opened = self.opened()?;
        let head = opened.runtime.block_on(opened.store.head(&opened.key(file)));
        head.map(|meta| Some(meta.size)).map_err(|error| self.error(error))
    }

    fn answers(&self, patience: Duration) -> bool {
        let Ok(opened) = self.opened() else { return false };
        let first = async { opened.store.list(Some(&opened.before)).next().await };
        let first = opened.runtime.block_on(async { tokio::time::timeout(patience, first).await });
        // Whoever may not look into it may still read what is there.
        let refused = |error: Error| !matches!(self.error(error), YardError::Unreachable { .. });
        first.is_ok_and(|first| first.is_none_or(|one| one.map_or_else(refused, |_| true)))
    }
}

impl Stock for Objects {
    fn has(&self, artifact: &Artifact) -> Result<bool, YardError> {
        match self.size(&artifact.file) {
            Ok(size) => Ok(size == Some(artifact.size)),
            Err(YardError::NotThere) => Ok(false),
            Err(error) => Err(error),
        }
    }

    fn put(&self, artifact: &Artifact, body: &mut dyn Read) -> Result<(), YardError> {
        let opened = self.opened()?;
        let key = opened.key(&artifact.file);
        let unread = |source| YardError::Unwritten { source };
        let mut part = block(body).map_err(unread)?;
        if part.len() < PART {
            let put = opened.runtime.block_on(opened.store.put(&key, PutPayload::from(part)));
            return put.map(drop).map_err(|error| self.error(error));
        }
        let failed = |error| self.error(error);
        let upload = opened.runtime.block_on(opened.store.put_multipart(&key)).map_err(failed)?;
        // Its parts are tasks, which run while something is waited for.
        let mut write = opened.runtime.block_on(async { WriteMultipart::new_with_chunk_size(upload, PART) });
        while !part.is_empty() {
            let ready = opened.runtime.block_on(async {
                write.wait_for_capacity(AT_ONCE).await?;
                write.write(&part);
                Ok(())
            });
            part = match ready.map_err(failed).and_then(|()| block(body).map_err(unread)) {
                Ok(part) => part,
                Err(error) => {
                    // Why it failed is what matters; what came until now is nobody's file.
                    let _ = opened.runtime.block_on(write.abort());
                    return Err(error);
                }
            };
        }
        opened.runtime.block_on(write.finish()).map(drop).map_err(failed)
    }

    fn remove(&self, artifact: &Artifact) -> Result<(), YardError> {
        let opened = self.opened()?;
        let gone = opened.runtime.block_on(opened.store.delete(&opened.key(&artifact.file)));
        gone.map_err(|error| self.error(error))
    }
}

/// The next bytes of a body: a whole part, or less at its end.
fn block(body: &mut dyn Read) -> io::Result<Vec<u8>> {
    let mut bytes = Vec::new();
    body.take(PART as u64).read_to_end(&mut bytes)?;
    Ok(bytes)
}
