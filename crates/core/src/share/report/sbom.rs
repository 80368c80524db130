//! A report as a software bill of materials: `CycloneDX` 1.6 (ECMA-424) and SPDX 2.3 (ISO/IEC 5962), both as JSON; packages are named by
//! package URLs (ECMA-427).

use std::collections::{BTreeMap, BTreeSet};

use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, utf8_percent_encode};
use serde_json::{Value, json};

use super::{Report, ReportFile, ReportLibrary, ReportRung};
use crate::base::digest::Digest;

/// What stands in a package URL as it is.
const PLAIN: &AsciiSet = &NON_ALPHANUMERIC.remove(b'-').remove(b'.').remove(b'_').remove(b'~').remove(b':');

/// One thing of which a workstation consists.
struct Part<'r> {
    /// Tells it from all others.
    key: String,
    name: &'r str,
    version: &'r str,
    summary: Option<&'r str>,
    licence: Option<&'r str>,
    url: String,
    files: &'r [ReportFile],
    needs: Vec<String>,
}

/// All parts, rungs before the libraries of sets.
fn parts(report: &Report) -> Vec<Part<'_>> {
    let versions: BTreeMap<&str, &str> = report.rungs.iter().map(|rung| (&*rung.rung, &*rung.version)).collect();
    let rungs = report.rungs.iter().map(|rung| of_rung(rung, &versions));
    let libraries = report.rungs.iter().flat_map(|set| set.libraries.iter().map(|library| part_of(set, library)));
    rungs.chain(libraries).collect()
}

fn key(rung: &str, version: &str) -> String {
    format!("{rung}@{version}")
}

fn of_rung<'r>(rung: &'r ReportRung, versions: &BTreeMap<&str, &str>) -> Part<'r> {
    let needs = rung.needs.iter().filter_map(|need| Some(key(need, versions.get(need.as_str())?)));
    let own = rung.libraries.iter().map(|library| of_library(rung, library));
    Part {
        key: key(&rung.rung, &rung.version),
        name: &rung.rung,
        version: &rung.version,
        summary: Some(&rung.summary),
        licence: rung.licence.as_deref(),
        url: package_url(rung),
        // Those of a set are its libraries'.
        files: if rung.libraries.is_empty() { &rung.files } else { &[] },
        needs: needs.chain(own).collect(),
    }
}

fn part_of<'r>(set: &'r ReportRung, library: &'r ReportLibrary) -> Part<'r> {
    let there = |name: &&String| set.libraries.iter().find(|other| other.name == **name);
    let needs = library.depends.iter().filter_map(|name| Some(of_library(set, there(&name)?)));
    let needs: BTreeSet<String> = needs.collect();
    Part {
        key: of_library(set, library),
        name: &library.name,
        version: &library.version,
        summary: None,
        licence: None,
        url: library_url(library),
        files: &[],
        needs: needs.into_iter().collect(),
    }
}

fn of_library(set: &ReportRung, library: &ReportLibrary) -> String {
    format!("{}/{}@{}", set.rung, library.name, library.version)
}

fn encoded(text: &str) -> String {
    utf8_percent_encode(text, PLAIN).to_string()
}

fn library_url(library: &ReportLibrary) -> String {
    let kind = if library.index == "npm" { "npm" } else { "pypi" };
    let name = library.name.split('/').map(encoded).collect::<Vec<_>>().join("/");
    format!("pkg:{kind}/{name}@{}", encoded(&library.version))
}

/// By the index that its maker publishes it at, where that is one of a kind that package URLs know; else by its file and digest.
fn package_url(rung: &ReportRung) -> String {
    let version = encoded(&rung.version);
    let own = if rung.libraries.is_empty() { rung.files.as_slice() } else { &[] };
    let index = own.iter().flat_map(|file| &file.origins).find_map(|origin| {
        let (index, name) = origin.strip_prefix("index:")?.split_once('/')?;
        Some((index, name.split('/').map(encoded).collect::<Vec<_>>().join("/")))
    });
    match index {
        Some(("wheels", name)) => format!("pkg:pypi/{}@{version}", name.to_ascii_lowercase()),
        Some(("packages", name)) => format!("pkg:npm/{name}@{version}"),
        Some(("debian", name)) => format!("pkg:deb/debian/{name}@{version}"),
        _ => {
            let sum = own.first().map(|file| format!("?checksum=sha256:{}", file.sha256)).unwrap_or_default();
            format!("pkg:generic/{}@{version}{sum}", encoded(rung.rung.rsplit('/').next().unwrap_or(&rung.rung)))
        }
    }
}

/// An origin is a folder, or the file itself where it ends with its name.
fn address(file: &ReportFile) -> Option<String> {
    let origin = file.origins.iter().find(|origin| origin.starts_with("https://") || origin.starts_with("http://"))?;
    let name = file.file.rsplit('/').next().unwrap_or(&file.file);
    Some(if origin.ends_with('/') { format!("{origin}{name}") } else { origin.clone() })
}

/// A report as a `CycloneDX` document.
pub fn cyclonedx(report: &Report) -> Value {
    let parts = parts(report);
    let component = |part: &Part<'_>| {
        let mut value = json!({
            "type": "application", "bom-ref": part.key, "name": part.name, "version": part.version, "purl": part.url,
        });
        if let Some(summary) = part.summary {
            value["description"] = json!(summary);
        }
        if let Some(licence) = part.licence {
            value["licenses"] = json!([{ "expression": licence }]);
        }
        if let [one] = part.files {
            value["hashes"] = json!([{ "alg": "SHA-256", "content": one.sha256 }]);
        }
        let references: Vec<Value> = part
            .files
            .iter()
            .filter_map(|file| {
                let hashes = json!([{ "alg": "SHA-256", "content": file.sha256 }]);
                Some(json!({ "type": "distribution", "url": address(file)?, "hashes": hashes }))
            })
            .collect();
        if !references.is_empty() {
            value["externalReferences"] = json!(references);
        }
        value
    };
    let dependency = |part: &Part<'_>| json!({ "ref": part.key, "dependsOn": part.needs });
    let top: Vec<&str> = parts[..report.rungs.len()].iter().map(|part| part.key.as_str()).collect();
    let mut dependencies: Vec<Value> = parts.iter().map(dependency).collect();
    dependencies.insert(0, json!({ "ref": "workstation", "dependsOn": top }));
    json!({
        "$schema": "http://cyclonedx.org/schema/bom-1.6.schema.json",
        "bomFormat": "CycloneDX",
        "specVersion": "1.6",
        "version": 1,
        "metadata": {
            "timestamp": report.made,
            "tools": { "components": [{ "type": "application", "name": "kladder", "version": report.kladder }] },
            "component": { "type": "platform", "bom-ref": "workstation", "name": named(report) },
        },
        "components": parts.iter().map(component).collect::<Vec<_>>(),
        "dependencies": dependencies,
    })
}

fn named(report: &Report) -> &str {
    if report.title.is_empty() { &report.machine } else { &report.title }
}

/// A report as an SPDX document.
pub fn spdx(report: &Report) -> Value {
    let parts = parts(report);
    // Identifiers have letters, digits, dots and hyphens only, so that two keys could come to one: a number tells them apart.
    let plain = |key: &str| {
        key.chars().map(|c| if c.is_ascii_alphanumeric() || c == '.' { c } else { '-' }).collect::<String>()
    };
    let ids: BTreeMap<&str, String> = parts
        .iter()
        .enumerate()
        .map(|(number, part)| (part.key.as_str(), format!("SPDXRef-{number}-{}", plain(&part.key))))
        .collect();
    let package = |part: &Part<'_>| {
        let location = part.files.iter().find_map(address).unwrap_or_else(|| "NOASSERTION".to_owned());
        let mut value = json!({
            "SPDXID": ids[part.key.as_str()],
            "name": part.name,
            "versionInfo": part.version,
            "downloadLocation": location,
            "filesAnalyzed": false,
            "licenseConcluded": "NOASSERTION",
            "licenseDeclared": part.licence.unwrap_or("NOASSERTION"),
            "copyrightText": "NOASSERTION",
            "externalRefs": [{
                "referenceCategory": "PACKAGE-MANAGER", "referenceType": "purl", "referenceLocator": part.url,
            }],
        });
        if let Some(summary) = part.summary {
            value["summary"] = json!(summary);
        }
        if let [one] = part.files {
            value["checksums"] = json!([{ "algorithm": "SHA256", "checksumValue": one.sha256 }]);
        }
        value
    };
    let relation = |from: &str, kind: &str, to: &str| json!({ "spdxElementId": from, "relationshipType": kind, "relatedSpdxElement": to });
    let rungs = parts[..report.rungs.len()].iter();
    let mut relations: Vec<Value> =
        rungs.map(|part| relation("SPDXRef-DOCUMENT", "DESCRIBES", &ids[part.key.as_str()])).collect();
    for part in &parts {
        let needs = part.needs.iter().filter_map(|need| ids.get(need.as_str()));
        relations.extend(needs.map(|need| relation(&ids[part.key.as_str()], "DEPENDS_ON", need)));
    }
    let packages: Vec<Value> = parts.iter().map(package).collect();
    let digest = Digest::of(format!("{} {} {}", report.machine, report.made, json!(packages)).as_bytes());
    json!({
        "spdxVersion": "SPDX-2.3",
        "dataLicense": "CC0-1.0",
        "SPDXID": "SPDXRef-DOCUMENT",
        "name": named(report),
        "documentNamespace": format!("urn:kladder:report:{digest}"),
        "creationInfo": { "created": report.made, "creators": [format!("Tool: kladder-{}", report.kladder)] },
        "packages": packages,
        "relationships": relations,
    })
}
