//! Bills of materials: what is in an image, as SPDX 2.3 and CycloneDX 1.5, for our images and for anybody's.

use crate::TOOL_VERSION;
use crate::error::Result;
use crate::inspect::Artifact;
use crate::outputs::OutputFile;
use crate::record::RunRecord;
use embrak_disk::Guid;
use embrak_store::Store;
use embrak_tree::{BlobSource, Digest, Kind, TreePath};
use serde::Serialize;
use serde_json::{Value, json};
use std::collections::{BTreeMap, BTreeSet};

/// A package as bills name it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[serde(rename_all = "camelCase")]
pub struct BillPackage {
    /// Its name.
    pub name: String,
    /// Its version.
    pub version: String,
    /// Its architecture, as its own format writes it.
    pub architecture: String,
    /// SPDX licence expression, if one is known.
    pub license: Option<String>,
    /// Who maintains it.
    pub supplier: Option<String>,
    /// The source it is made of; its name when that is the same.
    pub source: String,
    /// Whose packages these are: `debian`, `alpine`, `embrak`.
    pub namespace: String,
    /// `deb`, `apk` or `generic`.
    pub kind: String,
    /// Digest of its file, when that is known.
    pub digest: Option<Digest>,
    /// Names of packages it needs, of those that are in the image.
    pub requires: Vec<String>,
}

impl BillPackage {
    /// A package that a recipe made.
    fn own(name: &str, version: &str, architecture: &str) -> BillPackage {
        BillPackage {
            name: name.to_string(),
            version: version.to_string(),
            architecture: architecture.to_string(),
            license: None,
            supplier: None,
            source: name.to_string(),
            namespace: OWN.into(),
            kind: "generic".into(),
            digest: None,
            requires: Vec::new(),
        }
    }

    /// Its package URL.
    pub fn purl(&self) -> String {
        let part = |text: &str| -> String {
            text.bytes()
                .map(|b| match b {
                    b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b'.' | b'-' | b'_' | b'~' => (b as char).to_string(),
                    other => format!("%{other:02X}"),
                })
                .collect()
        };
        let namespace = if self.kind == "generic" { String::new() } else { format!("{}/", part(&self.namespace)) };
        let arch =
            if self.architecture.is_empty() { String::new() } else { format!("?arch={}", part(&self.architecture)) };
        format!("pkg:{}/{namespace}{}@{}{arch}", self.kind, part(&self.name), part(&self.version))
    }
}

/// What is in an image.
#[derive(Debug, Clone, Serialize)]
#[serde(rename_all = "camelCase")]
pub struct Bill {
    /// Name of the image, or of the file.
    pub name: String,
    /// Its version, if it has one.
    pub version: String,
    /// Digest of the artifact.
    pub artifact: Digest,
    /// The second it is as of: the image's epoch, or 0.
    pub created: i64,
    /// The packages in order of their names.
    pub packages: Vec<BillPackage>,
    /// Files with digests and sizes, when they were asked for.
    pub files: Vec<(String, Digest, u64)>,
}

/// The value of a field of a stanza.
fn field<'t>(stanza: &'t str, name: &str) -> Option<&'t str> {
    stanza.lines().find_map(|l| l.strip_prefix(name)?.strip_prefix(':')).map(str::trim).filter(|v| !v.is_empty())
}

fn needed(text: &str) -> Vec<String> {
    text.split(',')
        .filter_map(|one| one.split('|').next()?.trim().split([' ', '(', ':', '>', '<', '=', '~']).next())
        .filter(|name| !name.is_empty() && !name.starts_with(['!', '/']))
        .map(str::to_string)
        .collect()
}

/// Packages by a database of the Debian format.
/// Namespace of packages that recipes make.
pub(crate) const OWN: &str = "embrak";

fn from_status(text: &str, namespace: &str) -> Vec<BillPackage> {
    text.split("\n\n")
        .filter(|stanza| field(stanza, "Status").is_some_and(|s| s.ends_with(" installed")))
        .filter_map(|stanza| {
            let name = field(stanza, "Package")?.to_string();
            let source = field(stanza, "Source").map_or(name.as_str(), |s| s.split(' ').next().unwrap_or(s));
            let requires = [field(stanza, "Pre-Depends"), field(stanza, "Depends")];
            Some(BillPackage {
                version: field(stanza, "Version")?.to_string(),
                architecture: field(stanza, "Architecture").unwrap_or_default().to_string(),
                license: None,
                supplier: field(stanza, "Maintainer").map(str::to_string),
                source: source.to_string(),
                namespace: namespace.to_string(),
                kind: "deb".into(),
                digest: None,
                requires: requires.into_iter().flatten().flat_map(needed).collect(),
                name,
            })
        })
        .collect()
}

/// Packages by a database of the apk format: one-letter fields.
fn from_apk(text: &str, namespace: &str) -> Vec<BillPackage> {
    text.split("\n\n")
        .filter_map(|stanza| {
            let name = field(stanza, "P")?.to_string();
            Some(BillPackage {
                version: field(stanza, "V")?.to_string(),
                architecture: field(stanza, "A").unwrap_or_default().to_string(),
                license: field(stanza, "L").map(str::to_string),
                supplier: field(stanza, "m").map(str::to_string),
                source: field(stanza, "o").unwrap_or(&name).to_string(),
                namespace: namespace.to_string(),
                kind: "apk".into(),
                digest: None,
                requires: needed(&field(stanza, "D").unwrap_or_default().replace(' ', ",")),
                name,
            })
        })
        .collect()
}

impl Artifact {
    /// A file as text, from whichever tree has it.
    pub(crate) fn text(&self, path: &str) -> Option<String> {
        let bytes = self.find_file(&TreePath::new(path).ok()?).ok()?;
        Some(String::from_utf8_lossy(&bytes).into_owned())
    }

    /// Everything that databases in it tell of its packages.
    pub fn materials(&self) -> Vec<BillPackage> {
        materials(&|path| self.text(path))
    }
}

/// Everything that databases of a root tell of its packages; `text` reads a file.
fn materials(text: &dyn Fn(&str) -> Option<String>) -> Vec<BillPackage> {
    let release = text("/usr/lib/os-release").or_else(|| text("/etc/os-release")).unwrap_or_default();
    let id = release.lines().find_map(|l| l.strip_prefix("ID=")).map(|v| v.trim_matches('"').to_string());
    let mut all = Vec::new();
    if let Some(text) = text("/var/lib/dpkg/status") {
        all.extend(from_status(&text, id.as_deref().unwrap_or("debian")));
    }
    if let Some(text) = text("/lib/apk/db/installed").or_else(|| text("/usr/lib/apk/db/installed")) {
        all.extend(from_apk(&text, id.as_deref().unwrap_or("alpine")));
    }
    let known: BTreeSet<String> = all.iter().map(|p: &BillPackage| p.name.clone()).collect();
    let identity = text("/usr/lib/embrak/image.json").and_then(|t| serde_json::from_str::<Value>(&t).ok());
    let own = identity.as_ref().and_then(|i| i["packages"].as_array()).cloned().unwrap_or_default();
    for package in own {
        let (Some(name), Some(version)) = (package["name"].as_str(), package["version"].as_str()) else { continue };
        if !known.contains(name) {
            all.push(BillPackage::own(name, version, ""));
        }
    }
    all
}

/// Adds what a run recorded of the packages of an image: licences, digests, what they need.
fn recorded(packages: &mut Vec<BillPackage>, record: &RunRecord, image: &str) {
    for info in record.packages.get(image).into_iter().flatten() {
        let at = packages.iter().position(|p| p.name == info.name).unwrap_or_else(|| {
            packages.push(BillPackage::own(&info.name, &info.version, &info.architecture));
            packages.len() - 1
        });
        let package = &mut packages[at];
        if !info.license.is_empty() {
            package.license = Some(info.license.clone());
        }
        match &info.ready_made {
            Some(ready) => package.digest = Some(ready.file),
            None => {
                let workspace = record.workspace.rsplit('/').next().unwrap_or_default();
                package.supplier = package.supplier.take().or(Some(workspace.to_string()).filter(|w| !w.is_empty()));
                package.architecture.clone_from(&info.architecture);
            }
        }
        if package.requires.is_empty() {
            package.requires = info.requires.iter().flat_map(|r| needed(r)).collect();
        }
    }
}

/// Puts packages in order, and leaves of what they need what is there.
fn in_order(mut packages: Vec<BillPackage>) -> Vec<BillPackage> {
    packages.sort_by(|a, b| (&a.name, &a.version).cmp(&(&b.name, &b.version)));
    let names: BTreeSet<String> = packages.iter().map(|p| p.name.clone()).collect();
    for package in &mut packages {
        let own = package.name.clone();
        package.requires.retain(|r| names.contains(r) && *r != own);
        package.requires.sort();
        package.requires.dedup();
    }
    packages
}

/// The bill of an output of a run, by what the run recorded; the output itself is not read.
pub(crate) fn bill_of_run(store: &Store, record: &RunRecord, output: &OutputFile) -> Result<Bill> {
    let tree = crate::sources::get_tree(store, &output.tree)?;
    let text = |path: &str| -> Option<String> {
        let entry = tree.get(&TreePath::new(path).ok()?)?;
        let Kind::File { digest, .. } = tree.resolve_link(entry).kind else { return None };
        Some(String::from_utf8_lossy(&store.read(&digest).ok()?).into_owned())
    };
    let mut packages = materials(&text);
    recorded(&mut packages, record, &output.image);
    let identity = text("/usr/lib/embrak/image.json").and_then(|t| serde_json::from_str::<Value>(&t).ok());
    let identity = identity.unwrap_or_default();
    Ok(Bill {
        name: output.image.clone(),
        version: identity["version"].as_str().unwrap_or_default().to_string(),
        artifact: output.artifact,
        created: identity["epoch"].as_i64().unwrap_or(0),
        packages: in_order(packages),
        files: Vec::new(),
    })
}

/// The bill of an artifact. What a run recorded of its packages is added: licences, digests, what they need.
///
/// # Errors
/// The artifact cannot be read.
pub fn bill(artifact: &Artifact, record: Option<&RunRecord>, files: bool) -> Result<Bill> {
    let digest = artifact.digest()?;
    let identity = artifact.identity();
    let text = |key: &str| identity.as_ref().and_then(|i| i[key].as_str()).map(str::to_string);
    let file_name = artifact.path.file_name().unwrap_or_default().to_string_lossy().into_owned();
    let mut packages = artifact.materials();
    if let Some(record) = record
        && let Some(output) = record.outputs.iter().find(|o| o.artifact == digest)
    {
        recorded(&mut packages, record, &output.image);
    }
    let packages = in_order(packages);
    let listed =
        |place: &str, path: &TreePath| if place.is_empty() { path.to_string() } else { format!("{place}: {path}") };
    let mut all_files = Vec::new();
    if files {
        for (place, tree) in artifact.trees() {
            for (path, entry) in tree.iter() {
                if let Kind::File { digest, size } = entry.kind {
                    all_files.push((listed(&place, path), digest, size));
                }
            }
        }
    }
    Ok(Bill {
        name: text("image").unwrap_or(file_name),
        version: text("version").unwrap_or_default(),
        artifact: digest,
        created: identity.as_ref().and_then(|i| i["epoch"].as_i64()).unwrap_or(0),
        packages,
        files: all_files,
    })
}

impl Bill {
    fn time(&self) -> String {
        jiff::Timestamp::from_second(self.created).map(|t| t.to_string()).unwrap_or_default()
    }

    fn identifier(&self) -> String {
        Guid::derived(&self.artifact, "bill of materials").to_string().to_lowercase()
    }

    /// As SPDX 2.3 (ISO/IEC 5962), JSON.
    pub fn spdx(&self) -> Value {
        let none = "NOASSERTION";
        let ids: BTreeMap<&str, String> =
            self.packages.iter().enumerate().map(|(n, p)| (p.name.as_str(), format!("SPDXRef-Package-{n}"))).collect();
        let mut packages = vec![json!({
            "SPDXID": "SPDXRef-Image",
            "name": self.name,
            "versionInfo": self.version,
            "downloadLocation": none,
            "filesAnalyzed": false,
            "primaryPackagePurpose": "OPERATING-SYSTEM",
            "licenseConcluded": none, "licenseDeclared": none, "copyrightText": none,
            "checksums": [{ "algorithm": "SHA256", "checksumValue": self.artifact.hex() }],
        })];
        let relation = |from: &str, kind: &str, to: &str| json!({ "spdxElementId": from, "relationshipType": kind, "relatedSpdxElement": to });
        let mut relations = vec![relation("SPDXRef-DOCUMENT", "DESCRIBES", "SPDXRef-Image")];
        for (n, package) in self.packages.iter().enumerate() {
            let id = format!("SPDXRef-Package-{n}");
            let supplier = package.supplier.as_ref().map_or(none.to_string(), |s| format!("Organization: {s}"));
            let mut value = json!({
                "SPDXID": id,
                "name": package.name,
                "versionInfo": package.version,
                "supplier": supplier,
                "downloadLocation": none,
                "filesAnalyzed": false,
                "licenseConcluded": none,
                "licenseDeclared": package.license.as_deref().unwrap_or(none),
                "copyrightText": none,
                "externalRefs": [{
                    "referenceCategory": "PACKAGE-MANAGER", "referenceType": "purl", "referenceLocator": package.purl(),
                }],
            });
            if let Some(digest) = package.digest {
                value["checksums"] = json!([{ "algorithm": "SHA256", "checksumValue": digest.hex() }]);
            }
            packages.push(value);
            relations.push(relation("SPDXRef-Image", "CONTAINS", &id));
            for needed in package.requires.iter().filter_map(|r| ids.get(r.as_str())) {
                relations.push(relation(&id, "DEPENDS_ON", needed));
            }
        }
        let mut document = json!({
            "spdxVersion": "SPDX-2.3",
            "dataLicense": "CC0-1.0",
            "SPDXID": "SPDXRef-DOCUMENT",
            "name": format!("{} {}", self.name, self.version).trim(),
            "documentNamespace": format!("https://embrak.example/bill/{}", self.identifier()),
            "creationInfo": { "created": self.time(), "creators": [format!("Tool: embrak-{TOOL_VERSION}")] },
            "packages": packages,
        });
        if !self.files.is_empty() {
            let mut files = Vec::new();
            for (n, (path, digest, _)) in self.files.iter().enumerate() {
                let id = format!("SPDXRef-File-{n}");
                relations.push(relation("SPDXRef-Image", "CONTAINS", &id));
                files.push(json!({
                    "SPDXID": id, "fileName": path,
                    "checksums": [{ "algorithm": "SHA256", "checksumValue": digest.hex() }],
                    "licenseConcluded": none, "copyrightText": none,
                }));
            }
            document["files"] = json!(files);
        }
        document["relationships"] = json!(relations);
        document
    }

    /// As CycloneDX 1.5 (ECMA-424), JSON.
    pub fn cyclonedx(&self) -> Value {
        let reference = |p: &BillPackage| p.purl();
        let by_name: BTreeMap<&str, String> = self.packages.iter().map(|p| (p.name.as_str(), reference(p))).collect();
        let image = format!("image:{}@{}", self.name, self.version);
        let mut components: Vec<Value> = self
            .packages
            .iter()
            .map(|p| {
                let mut value = json!({
                    "type": "library", "bom-ref": reference(p), "name": p.name, "version": p.version, "purl": p.purl(),
                });
                if let Some(supplier) = &p.supplier {
                    value["supplier"] = json!({ "name": supplier });
                }
                if let Some(license) = &p.license {
                    value["licenses"] = json!([{ "expression": license }]);
                }
                if let Some(digest) = p.digest {
                    value["hashes"] = json!([{ "alg": "SHA-256", "content": digest.hex() }]);
                }
                value
            })
            .collect();
        components.extend(self.files.iter().map(|(path, digest, _)| {
            json!({ "type": "file", "name": path, "hashes": [{ "alg": "SHA-256", "content": digest.hex() }] })
        }));
        let all: Vec<&String> = by_name.values().collect();
        let mut dependencies = vec![json!({ "ref": image, "dependsOn": all })];
        dependencies.extend(self.packages.iter().map(|p| {
            let on: Vec<&String> = p.requires.iter().filter_map(|r| by_name.get(r.as_str())).collect();
            json!({ "ref": reference(p), "dependsOn": on })
        }));
        json!({
            "bomFormat": "CycloneDX",
            "specVersion": "1.5",
            "serialNumber": format!("urn:uuid:{}", self.identifier()),
            "version": 1,
            "metadata": {
                "timestamp": self.time(),
                "tools": { "components": [{ "type": "application", "name": "embrak", "version": TOOL_VERSION }] },
                "component": {
                    "type": "operating-system", "bom-ref": image, "name": self.name, "version": self.version,
                    "hashes": [{ "alg": "SHA-256", "content": self.artifact.hex() }],
                },
            },
            "components": components,
            "dependencies": dependencies,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn databases_of_distributions_tell_their_packages() {
        let status = "Package: lampd\nStatus: install ok installed\nSource: lamp (2)\nVersion: 1:2.0+b1\nArchitecture: amd64\nMaintainer: Keeper <k@holm.example>\nDepends: libgauge (>= 1) | x, siren:any\n\nPackage: gone\nStatus: deinstall ok config-files\nVersion: 1\n\nPackage: siren\nStatus: install ok installed\nVersion: 1\n";
        let found = from_status(status, "mainland");
        assert_eq!(found.iter().map(|p| p.name.as_str()).collect::<Vec<_>>(), ["lampd", "siren"]);
        assert_eq!(found[0].source, "lamp");
        assert_eq!(found[0].requires, ["libgauge", "siren"]);
        assert_eq!(found[0].purl(), "pkg:deb/mainland/lampd@1%3A2.0%2Bb1?arch=amd64");
        let apk = "P:musl\nV:1.2-r0\nA:x86_64\nL:MIT\no:musl\n\nP:busy\nV:1\nD:musl>=1 so:libc.so\n";
        let found = from_apk(apk, "alpine");
        assert_eq!(found[0].license.as_deref(), Some("MIT"));
        assert_eq!(found[1].requires, ["musl", "so"]);
    }
}
