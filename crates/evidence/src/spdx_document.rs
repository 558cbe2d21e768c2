//! A bill of materials in SPDX 2.3 (ISO/IEC 5962), in JSON.

use crate::cyclonedx::needs_by_url;
use crate::hashes;
use crate::{TOOL, TOOL_VERSION};
use model::PackageFact;
use model::licence::Licence;
use serde_json::{Value, json};
use std::collections::BTreeMap;
use workshop::inspect::OpenImage;

/// The media type of the document.
pub(crate) const MEDIA_TYPE: &str = "application/spdx+json";
/// The placeholder for unknown values.
const NOTHING_SAID: &str = "NOASSERTION";
/// The image, in the document.
const IMAGE: &str = "SPDXRef-Image";

/// The document for an image.
pub(crate) fn document(image: &OpenImage) -> Value {
    let record = &image.record;
    let packages: BTreeMap<&str, &PackageFact> =
        record.packages.iter().map(|package| (package.purl.as_str(), package)).collect();
    let mut names = BTreeMap::new();
    let mut all = vec![json!({
        "SPDXID": IMAGE,
        "name": record.name,
        "versionInfo": image.digest.to_string(),
        "downloadLocation": NOTHING_SAID,
        "filesAnalyzed": false,
        "primaryPackagePurpose": "CONTAINER",
        "licenseConcluded": NOTHING_SAID,
        "licenseDeclared": NOTHING_SAID,
        "copyrightText": NOTHING_SAID,
        "checksums": [{ "algorithm": "SHA256", "checksumValue": image.digest.hex() }],
    })];
    let mut relationships = vec![relationship("SPDXRef-DOCUMENT", "DESCRIBES", IMAGE)];
    let ids: BTreeMap<&str, String> = packages
        .keys()
        .enumerate()
        .map(|(number, url)| (*url, format!("SPDXRef-Package-{number}")))
        .collect();
    for (url, package) in &packages {
        let id = ids[url].clone();
        all.push(listed(&id, package, &mut names));
        relationships.push(relationship(IMAGE, "CONTAINS", &id));
    }
    for (url, needs) in needs_by_url(&record.packages) {
        relationships.extend(needs.iter().map(|need| relationship(&ids[url], "DEPENDS_ON", &ids[need])));
    }
    let mut document = json!({
        "spdxVersion": "SPDX-2.3",
        "dataLicense": "CC0-1.0",
        "SPDXID": "SPDXRef-DOCUMENT",
        "name": record.name,
        "documentNamespace": format!("urn:shtetl:spdx:{}:{}", image.digest, record.platform.replace('/', "-")),
        "creationInfo": {
            "created": image.variants.first().map(|variant| variant.config.created.clone()),
            "creators": [format!("Tool: {TOOL}-{TOOL_VERSION}")],
        },
        "packages": all,
        "relationships": relationships,
    });
    if !names.is_empty() {
        let other = |(name, id): (String, String)| json!({ "licenseId": id, "name": name, "extractedText": format!("The package declares: {name}") });
        document["hasExtractedLicensingInfos"] = names.into_iter().map(other).collect::<Vec<_>>().into();
    }
    document
}

fn relationship(from: &str, kind: &str, to: &str) -> Value {
    json!({ "spdxElementId": from, "relationshipType": kind, "relatedSpdxElement": to })
}

/// A package; a licence that is no expression gets an id in `names`.
fn listed(id: &str, package: &PackageFact, names: &mut BTreeMap<String, String>) -> Value {
    let declared = package.licence.as_deref().filter(|text| !text.trim().is_empty());
    let licence = declared.map_or_else(
        || NOTHING_SAID.to_owned(),
        |declared| match Licence::of(declared) {
            Licence::Expression(expression) => expression,
            Licence::Name(name) => {
                let next = format!("LicenseRef-{}", names.len() + 1);
                names.entry(name).or_insert(next).clone()
            }
        },
    );
    let checksums: Vec<Value> = hashes::of_integrity(&package.integrity)
        .into_iter()
        .map(|hash| json!({ "algorithm": hash.algorithm.to_uppercase(), "checksumValue": hash.hex }))
        .collect();
    let mut listed = json!({
        "SPDXID": id,
        "name": package.name,
        "versionInfo": package.version,
        "downloadLocation": NOTHING_SAID,
        "filesAnalyzed": false,
        "licenseConcluded": NOTHING_SAID,
        "licenseDeclared": licence,
        "copyrightText": NOTHING_SAID,
        "externalRefs": [{
            "referenceCategory": "PACKAGE-MANAGER", "referenceType": "purl", "referenceLocator": package.purl,
        }],
    });
    if !checksums.is_empty() {
        listed["checksums"] = checksums.into();
    }
    listed
}
