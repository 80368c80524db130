//! A Debian archive that we made and signed, and what it takes to believe one.

use std::collections::BTreeMap;
use std::fs;
use std::io::Write;
use std::path::PathBuf;

use kladder_choose::catalog::Artifact;
use kladder_core::base::digest::Digest;
use kladder_core::base::event::{Silent, chain};
use kladder_core::bring::fetch::{Cache, FetchError, Fetched, Network, Sources, fetch};
use kladder_core::bring::index::Around;
use kladder_core::settings::{IndexKind, IndexSetting, Manners, Settings};
use kladder_yard::Yard;
use pgp::composed::{
    ArmorOptions, CleartextSignedMessage, EncryptionCaps, KeyType, SecretKeyParamsBuilder, SignedPublicKey,
    SignedSecretKey, SubkeyParamsBuilder,
};
use pgp::ser::Serialize;
use pgp::types::Password;

use crate::artifact;

const PACKAGE: &str = "plank_1.0-2_amd64.deb";

/// A key whose subkey signs, as those of real archives do.
fn key() -> SignedSecretKey {
    let mut sub = SubkeyParamsBuilder::default();
    sub.key_type(KeyType::Ed25519).can_sign(true).can_encrypt(EncryptionCaps::None).can_authenticate(false);
    let mut whole = SecretKeyParamsBuilder::default();
    whole.key_type(KeyType::Ed25519).can_certify(true).can_sign(false).can_encrypt(EncryptionCaps::None);
    whole.primary_user_id("Harbour archive <archive@harbour.example>".into()).subkeys(vec![sub.build().unwrap()]);
    whole.build().unwrap().generate(rand::thread_rng()).unwrap()
}

struct Scene {
    folder: tempfile::TempDir,
    server: Yard,
    key: SignedSecretKey,
    artifact: Artifact,
}

impl Scene {
    fn new() -> Self {
        let folder = tempfile::tempdir().unwrap();
        let archive = folder.path().join("archive");
        let package = archive.join("pool/main/p").join(PACKAGE);
        fs::create_dir_all(package.parent().unwrap()).unwrap();
        fs::write(&package, "planks").unwrap();
        let server = Yard::serve(&archive, ([127, 0, 0, 1], 0).into()).unwrap();
        let artifact =
            Artifact { origins: vec!["index:debian/plank".to_owned()], ..artifact(PACKAGE, 6, Digest::of(b"planks")) };
        let scene = Self { folder, server, key: key(), artifact };
        fs::write(scene.keyring(), SignedPublicKey::from(scene.key.clone()).to_bytes().unwrap()).unwrap();
        scene.publish(&[], &scene.key);
        scene
    }

    fn keyring(&self) -> PathBuf {
        self.folder.path().join("keyring.gpg")
    }

    fn archive(&self, path: &str) -> PathBuf {
        self.folder.path().join("archive").join(path)
    }

    /// Publishes the archive's lists, with some fields of the release changed, signed by a key.
    fn publish(&self, fields: &[(&str, &str)], key: &SignedSecretKey) {
        let digest = &self.artifact.sha256;
        let list = format!(
            "Package: ebb\nVersion: 1\nFilename: pool/ebb.deb\nSize: 1\nSHA256: {digest}\n\n\
             Package: plank\nVersion: 1.0-2\nDescription: planks\n and more of them\nFilename: pool/main/p/{PACKAGE}\nSize: 6\nSHA256: {digest}\n"
        );
        let mut packed = liblzma::write::XzEncoder::new(Vec::new(), 6);
        packed.write_all(list.as_bytes()).unwrap();
        let packed = packed.finish().unwrap();
        let sum = Digest::of(&packed);
        let by_hash = self.archive(&format!("dists/calm/main/binary-amd64/by-hash/SHA256/{sum}"));
        fs::create_dir_all(by_hash.parent().unwrap()).unwrap();
        fs::write(by_hash, &packed).unwrap();
        let mut all: BTreeMap<&str, &str> =
            [("Suite", "calm"), ("Codename", "calm"), ("Acquire-By-Hash", "yes")].into();
        all.extend(fields.iter().copied());
        let head: String = all.iter().map(|(name, value)| format!("{name}: {value}\n")).collect();
        let text = format!("{head}SHA256:\n {sum} {} main/binary-amd64/Packages.xz\n", packed.len());
        let signing = &key.secret_subkeys[0].key;
        let signed = CleartextSignedMessage::sign(rand::thread_rng(), &text, signing, &Password::empty()).unwrap();
        fs::write(self.archive("dists/calm/InRelease"), signed.to_armored_string(ArmorOptions::default()).unwrap())
            .unwrap();
    }

    fn fetch(&self) -> Result<Fetched, FetchError> {
        let setting = IndexSetting {
            kind: IndexKind::Debian,
            address: Some(format!("{}/", self.server.url())),
            suites: vec!["calm".to_owned()],
            components: vec!["main".to_owned()],
            keyring: Some(self.keyring()),
            unsigned: false,
        };
        let settings = Settings { indexes: [("debian".to_owned(), setting)].into(), ..Settings::default() };
        let around = Around { cache: self.folder.path().join("listed"), ..Around::default() };
        let manners = Manners { retries: 0, patience: 1, ..Manners::default() };
        let network = Network::new(&manners).unwrap().asking(&settings, around);
        let cache = Cache::new(&self.folder.path().join("cache"));
        let _ = fs::remove_dir_all(self.folder.path().join("cache"));
        fetch(&self.artifact, Sources { yards: &[], cache: &cache, network: &network }, &mut (), &Silent)
    }

    /// Why it was not fetched.
    fn refused(&self) -> String {
        match self.fetch().unwrap_err() {
            FetchError::AllFailed { attempts, .. } => chain(&attempts[0].error),
            other => panic!("{other}"),
        }
    }
}

#[test]
fn a_signed_archive_leads_to_its_packages_and_its_lists_are_kept() {
    let scene = Scene::new();
    assert!(!scene.fetch().unwrap().cached);
    let asked = scene.server.requests();
    assert_eq!(asked, 3, "the release, the list, the package");
    let _ = scene.fetch().unwrap();
    assert_eq!(scene.server.requests(), asked + 2, "the list did not move");
    // A list that was kept and is damaged is fetched anew.
    let kept = fs::read_dir(scene.folder.path().join("listed/packages")).unwrap().next().unwrap().unwrap().path();
    fs::write(&kept, "damaged").unwrap();
    let _ = scene.fetch().unwrap();
    assert_eq!(scene.server.requests(), asked + 2 + 3);
}

#[test]
fn an_archive_is_believed_only_where_its_own_key_vouches_for_it_now() {
    let scene = Scene::new();
    scene.publish(&[], &key());
    assert!(scene.refused().contains("none of the keys that are trusted for it has signed it"), "{}", scene.refused());
    scene.publish(&[("Suite", "storm"), ("Codename", "storm")], &scene.key);
    assert!(scene.refused().contains("it tells of storm, storm where calm was asked for"), "{}", scene.refused());
    scene.publish(&[("Valid-Until", "Sat, 11 Jul 2015 10:16:37 UTC")], &scene.key);
    assert!(scene.refused().contains("it was valid until 2015-07-11"), "{}", scene.refused());
    scene.publish(&[("Valid-Until", "Sat, 11 Jul 2815 10:16:37 UTC")], &scene.key);
    let _ = scene.fetch().unwrap();
    // One word of it is another.
    let release = scene.archive("dists/calm/InRelease");
    let text = fs::read_to_string(&release).unwrap();
    fs::write(&release, text.replace("Codename: calm", "Codename: clam")).unwrap();
    assert!(scene.refused().contains("has signed it"), "{}", scene.refused());
    // What is signed stands behind what is not.
    fs::write(&release, format!("Suite: calm\nSHA256:\n\n{text}")).unwrap();
    assert!(scene.refused().contains("it is not signed"), "{}", scene.refused());
    fs::write(&release, "Suite: calm\nSHA256:\n").unwrap();
    assert!(scene.refused().contains("it is not signed"), "{}", scene.refused());
    fs::write(scene.keyring(), "no key").unwrap();
    fs::write(&release, text).unwrap();
    assert!(scene.refused().contains("there is no key here that could vouch for it"), "{}", scene.refused());
}

#[test]
fn a_list_that_is_not_the_one_that_was_vouched_for_is_refused() {
    let scene = Scene::new();
    let folder = scene.archive("dists/calm/main/binary-amd64/by-hash/SHA256");
    let list = fs::read_dir(folder).unwrap().next().unwrap().unwrap().path();
    let size = fs::metadata(&list).unwrap().len();
    fs::write(&list, vec![0; usize::try_from(size).unwrap()]).unwrap();
    assert!(scene.refused().contains("its bytes are not those that InRelease vouches for"), "{}", scene.refused());
    fs::write(&list, vec![0; usize::try_from(size + 1).unwrap()]).unwrap();
    assert!(scene.refused().contains("it sent more than"), "{}", scene.refused());
}
