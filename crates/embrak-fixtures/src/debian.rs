//! Debian-format repositories in a directory.

use embrak_tree::tar::{Version, write_tree};
use embrak_tree::{Digest, Entry, MemoryBlobs, Tree};
use pgp::composed::{
    ArmorOptions, CleartextSignedMessage, DetachedSignature, KeyType, SecretKeyParamsBuilder, SignedPublicKey,
    SignedSecretKey, SubkeyParamsBuilder,
};
use pgp::crypto::hash::HashAlgorithm;
use pgp::types::Password;
use rand::thread_rng;
use std::fs;
use std::io::Write;
use std::path::{Path, PathBuf};

/// A package to be.
#[derive(Debug, Clone, Default)]
pub struct Deb {
    /// Lines of its control file besides Package, Version, Architecture and Description.
    pub fields: Vec<(String, String)>,
    /// Its name.
    pub name: String,
    /// Its version.
    pub version: String,
    /// Its files: path, content, mode.
    pub files: Vec<(String, Vec<u8>, u32)>,
    /// Entries of any other kind.
    pub entries: Vec<(String, Entry)>,
    /// Maintainer scripts and other control members.
    pub control: Vec<(String, String)>,
}

impl Deb {
    /// A package without anything in it but its changelog.
    pub fn new(name: &str, version: &str) -> Self {
        let changelog = (format!("/usr/share/doc/{name}/changelog"), format!("{name} {version}\n").into_bytes(), 0o644);
        Deb { name: name.into(), version: version.into(), files: vec![changelog], ..Deb::default() }
    }

    /// With one more field.
    #[must_use]
    pub fn field(mut self, name: &str, value: &str) -> Self {
        self.fields.push((name.into(), value.into()));
        self
    }

    /// With `Depends`.
    #[must_use]
    pub fn depends(self, on: &str) -> Self {
        self.field("Depends", on)
    }

    /// With one more file.
    #[must_use]
    pub fn file(mut self, path: &str, content: &str, mode: u32) -> Self {
        self.files.push((path.into(), content.as_bytes().to_vec(), mode));
        self
    }

    /// With an entry of any kind.
    #[must_use]
    pub fn entry(mut self, path: &str, entry: Entry) -> Self {
        self.entries.push((path.into(), entry));
        self
    }

    /// With a member of the control archive.
    #[must_use]
    pub fn control(mut self, name: &str, text: &str) -> Self {
        self.control.push((name.into(), text.into()));
        self
    }

    /// The bytes of its file, its data compressed with `xz`, `gz` or `zst`.
    pub fn bytes(&self, compression: &str) -> Vec<u8> {
        let blobs = MemoryBlobs::default();
        let mut tree = Tree::new();
        let mut put = |path: &str, content: &[u8], mode: u32| {
            let (digest, size) = blobs.add(content);
            let mut entry = Entry::file(digest, size).dated(1_700_000_000);
            entry.mode = mode;
            tree.insert(path.parse().unwrap(), entry);
        };
        for (path, content, mode) in &self.files {
            put(path, content, *mode);
        }
        for (path, entry) in &self.entries {
            tree.insert(path.parse().unwrap(), entry.clone());
        }
        tree.add_missing_directories(1_700_000_000);
        let mut control = Tree::new();
        let stanza = self.stanza(&[]);
        let members = std::iter::once(("control".to_string(), stanza)).chain(self.control.iter().cloned());
        for (name, text) in members {
            let (digest, size) = blobs.add(text.as_bytes());
            let mut entry = Entry::file(digest, size);
            entry.mode = if name == "control" || name == "conffiles" { 0o644 } else { 0o755 };
            control.insert(format!("/{name}").parse().unwrap(), entry);
        }
        let control = write_tree(&control, Version::default(), &blobs, Vec::new()).unwrap();
        let data = write_tree(&tree, Version::default(), &blobs, Vec::new()).unwrap();
        let mut out = b"!<arch>\n".to_vec();
        let members = [
            ("debian-binary".to_string(), b"2.0\n".to_vec()),
            ("control.tar.gz".to_string(), compress(&control, "gz")),
            (format!("data.tar.{compression}"), compress(&data, compression)),
        ];
        for (name, content) in members {
            let header = format!("{name:<16}{:<12}{:<6}{:<6}{:<8}{:<10}`\n", 0, 0, 0, 100644, content.len());
            out.extend_from_slice(header.as_bytes());
            out.extend_from_slice(&content);
            out.resize(out.len().next_multiple_of(2), b'\n');
        }
        out
    }

    fn stanza(&self, more: &[(&str, String)]) -> String {
        let has = |name: &str| self.fields.iter().any(|(field, _)| field == name);
        let mut out = format!("Package: {}\nVersion: {}\n", self.name, self.version);
        if !has("Architecture") {
            out += "Architecture: amd64\n";
        }
        for (name, value) in &self.fields {
            out += &format!("{name}: {value}\n");
        }
        for (name, value) in more {
            out += &format!("{name}: {value}\n");
        }
        if !has("Description") {
            out += &format!("Description: The {} of the mainland\n A longer text.\n", self.name);
        }
        out
    }
}

fn compress(bytes: &[u8], how: &str) -> Vec<u8> {
    match how {
        "gz" => {
            let mut encoder = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
            encoder.write_all(bytes).unwrap();
            encoder.finish().unwrap()
        }
        "xz" => {
            let mut encoder = liblzma::write::XzEncoder::new(Vec::new(), 1);
            encoder.write_all(bytes).unwrap();
            encoder.finish().unwrap()
        }
        "zst" => zstd::encode_all(bytes, 1).unwrap(),
        _ => bytes.to_vec(),
    }
}

/// Somebody with an OpenPGP key.
pub struct Signer {
    key: SignedSecretKey,
}

impl Signer {
    /// Makes a key with a signing subkey, as repositories have them.
    pub fn new(user: &str) -> Self {
        let subkey = SubkeyParamsBuilder::default().key_type(KeyType::Ed25519Legacy).can_sign(true).build().unwrap();
        let mut params = SecretKeyParamsBuilder::default();
        params
            .key_type(KeyType::Ed25519Legacy)
            .can_certify(true)
            .can_sign(true)
            .primary_user_id(user.into())
            .subkeys(vec![subkey]);
        Signer { key: params.build().unwrap().generate(thread_rng()).unwrap() }
    }

    /// The armored certificate.
    pub fn certificate(&self) -> String {
        SignedPublicKey::from(self.key.clone()).to_armored_string(ArmorOptions::default()).unwrap()
    }

    /// A document with its signature around it, by the primary key or the subkey.
    pub fn inline(&self, text: &str, by_subkey: bool) -> String {
        let password = Password::empty();
        let signed = match by_subkey {
            true => CleartextSignedMessage::sign(thread_rng(), text, &self.key.secret_subkeys[0].key, &password),
            false => CleartextSignedMessage::sign(thread_rng(), text, &self.key.primary_key, &password),
        };
        signed.unwrap().to_armored_string(ArmorOptions::default()).unwrap()
    }

    /// An armored signature to put beside a document.
    pub fn detached(&self, bytes: &[u8]) -> String {
        let key = &self.key.primary_key;
        let made =
            DetachedSignature::sign_binary_data(thread_rng(), key, &Password::empty(), HashAlgorithm::Sha256, bytes);
        made.unwrap().to_armored_string(ArmorOptions::default()).unwrap()
    }
}

/// A suite to be published.
#[derive(Debug, Clone)]
pub struct Suite {
    /// Its name.
    pub name: String,
    /// Its Label.
    pub label: String,
    /// Its Date, seconds since 1970.
    pub date: i64,
    /// Its Valid-Until.
    pub valid_until: Option<i64>,
    /// How indexes are compressed.
    pub compression: String,
    /// How packages are compressed.
    pub packages: String,
    /// Whether files are there by their digest too.
    pub by_hash: bool,
    /// Whether the signature is around the document, or beside it.
    pub inline: bool,
    /// Whether it is signed at all.
    pub signed: bool,
    /// Whether there is a list of files.
    pub contents: bool,
}

impl Default for Suite {
    fn default() -> Self {
        Suite {
            name: "stable".into(),
            label: "Mainland".into(),
            date: 1_772_323_200,
            valid_until: None,
            compression: "xz".into(),
            packages: "xz".into(),
            by_hash: true,
            inline: true,
            signed: true,
            contents: false,
        }
    }
}

/// A repository in a directory.
pub struct Mirror {
    /// The directory.
    pub dir: PathBuf,
    /// Who signs it.
    pub signer: Signer,
}

impl Mirror {
    /// An empty repository and a new key, written to `DIR.asc`.
    pub fn new(dir: &Path) -> Self {
        fs::create_dir_all(dir).unwrap();
        let mirror =
            Mirror { dir: dir.to_path_buf(), signer: Signer::new("Mainland Archive <archive@mainland.invalid>") };
        fs::write(mirror.keyring(), mirror.signer.certificate()).unwrap();
        mirror
    }

    /// Where its certificate is.
    pub fn keyring(&self) -> PathBuf {
        self.dir.with_extension("asc")
    }

    /// Its URL as a directory.
    pub fn url(&self) -> String {
        format!("file://{}", self.dir.display())
    }

    /// Publishes a suite of these packages, and no others: what was there before goes, as on a real mirror, but for
    /// indexes by their digest.
    pub fn publish(&self, suite: &Suite, packages: &[Deb]) {
        let mut index = String::new();
        let mut contents = String::new();
        let pool = self.dir.join(format!("pool/{}", suite.name));
        let _ = fs::remove_dir_all(&pool);
        for deb in packages {
            let bytes = deb.bytes(&suite.packages);
            let architecture = deb.fields.iter().find(|(n, _)| n == "Architecture").map_or("amd64", |(_, v)| v);
            let path =
                format!("pool/{}/{}_{}_{architecture}.deb", suite.name, deb.name, deb.version.replace(':', "%3a"));
            fs::create_dir_all(&pool).unwrap();
            fs::write(self.dir.join(&path), &bytes).unwrap();
            let installed = deb.files.iter().map(|(_, c, _)| c.len() as u64).sum::<u64>().div_ceil(1024) + 1;
            index += &deb.stanza(&[
                ("Installed-Size", installed.to_string()),
                ("Filename", path),
                ("Size", bytes.len().to_string()),
                ("SHA256", Digest::of(&bytes).hex()),
            ]);
            index.push('\n');
            for (path, ..) in &deb.files {
                contents += &format!("{}     misc/{}\n", path.trim_start_matches('/'), deb.name);
            }
        }
        let mut files = vec![("main/binary-amd64/Packages".to_string(), index)];
        if suite.contents {
            files.push(("main/Contents-amd64".to_string(), contents));
        }
        self.write_suite(suite, &files);
    }

    /// Writes the indexes of a suite and its Release.
    pub fn write_suite(&self, suite: &Suite, files: &[(String, String)]) {
        let base = self.dir.join(format!("dists/{}", suite.name));
        let mut listed = String::new();
        for (path, text) in files {
            listed += &format!(" {} {} {path}\n", Digest::of(text).hex(), text.len());
            let ending = if suite.compression.is_empty() { String::new() } else { format!(".{}", suite.compression) };
            let bytes = compress(text.as_bytes(), &suite.compression);
            let digest = Digest::of(&bytes).hex();
            let file = base.join(format!("{path}{ending}"));
            fs::create_dir_all(file.parent().unwrap()).unwrap();
            fs::write(&file, &bytes).unwrap();
            if suite.by_hash {
                let by_hash = file.parent().unwrap().join("by-hash/SHA256");
                fs::create_dir_all(&by_hash).unwrap();
                fs::write(by_hash.join(&digest), &bytes).unwrap();
            }
            listed += &format!(" {digest} {} {path}{ending}\n", bytes.len());
        }
        let date = |seconds: i64| {
            let at = jiff::Timestamp::from_second(seconds).unwrap().to_zoned(jiff::tz::TimeZone::UTC);
            jiff::fmt::rfc2822::to_string(&at).unwrap()
        };
        let mut release = format!(
            "Origin: Mainland\nLabel: {}\nSuite: {}\nCodename: {}\nDate: {}\n",
            suite.label,
            suite.name,
            suite.name,
            date(suite.date)
        );
        if let Some(until) = suite.valid_until {
            release += &format!("Valid-Until: {}\n", date(until));
        }
        if suite.by_hash {
            release += "Acquire-By-Hash: yes\n";
        }
        release += &format!("Architectures: all amd64\nComponents: main\nSHA256:\n{listed}");
        for old in ["InRelease", "Release", "Release.gpg"] {
            let _ = fs::remove_file(base.join(old));
        }
        fs::create_dir_all(&base).unwrap();
        if suite.inline && suite.signed {
            fs::write(base.join("InRelease"), self.signer.inline(&release, true)).unwrap();
        } else {
            fs::write(base.join("Release"), &release).unwrap();
            if suite.signed {
                fs::write(base.join("Release.gpg"), self.signer.detached(release.as_bytes())).unwrap();
            }
        }
    }
}
