//! A bill of materials in CycloneDX 1.6 (ECMA-424).

use crate::hashes;
use crate::{TOOL, TOOL_VERSION};
use content::digest::Sha256;
use model::PackageFact;
use model::licence::Licence;
use serde_json::{Value, json};
use std::collections::{BTreeMap, BTreeSet};
use workshop::inspect::{OpenImage, ProcessImage};

/// The media type of the document.
pub(crate) const MEDIA_TYPE: &str = "application/vnd.cyclonedx+json";

/// The document for an image.
pub(crate) fn document(image: &OpenImage) -> Value {
    let record = &image.record;
    let own = format!("pkg:oci/{}@{}", record.name, image.digest.to_string().replace(':', "%3A"));
    let mut components: BTreeMap<&str, Value> = BTreeMap::new();
    for package in &record.packages {
        components
            .entry(&package.purl)
            .and_modify(|known| add_layer(known, package, image))
            .or_insert_with(|| component(package, image));
    }
    let needs = needs_by_url(&record.packages);
    let needed: BTreeSet<&str> = needs.values().flatten().copied().collect();
    let first: Vec<&str> = components.keys().copied().filter(|one| !needed.contains(one)).collect();
    let mut dependencies = vec![json!({ "ref": own, "dependsOn": first })];
    dependencies.extend(components.keys().map(|one| match needs.get(one) {
        Some(needs) => json!({ "ref": one, "dependsOn": needs }),
        None => json!({ "ref": one }),
    }));
    let created = image.variants.first().map(|ProcessImage { config, .. }| config.created.clone());
    json!({
        "$schema": "http://cyclonedx.org/schema/bom-1.6.schema.json",
        "bomFormat": "CycloneDX",
        "specVersion": "1.6",
        "serialNumber": format!("urn:uuid:{}", uuid(&format!("cyclonedx {} {}", image.digest, record.platform))),
        "version": 1,
        "metadata": {
            "timestamp": created,
            "tools": { "components": [{ "type": "application", "name": TOOL, "version": TOOL_VERSION }] },
            "component": {
                "type": "container",
                "bom-ref": own,
                "name": record.name,
                "version": image.digest.to_string(),
                "purl": own,
                "hashes": [{ "alg": "SHA-256", "content": image.digest.hex() }],
                "properties": [{ "name": "shtetl:platform", "value": record.platform }],
            },
        },
        "components": components.into_values().collect::<Vec<_>>(),
        "dependencies": dependencies,
    })
}

/// By package URL, the URLs of the packages that are needed.
pub(crate) fn needs_by_url(packages: &[PackageFact]) -> BTreeMap<&str, BTreeSet<&str>> {
    let mut needs: BTreeMap<&str, BTreeSet<&str>> = BTreeMap::new();
    for package in packages {
        let urls = package.needs.iter().filter_map(|place| packages.get(*place)).map(|one| one.purl.as_str());
        let urls: BTreeSet<&str> = urls.filter(|url| *url != package.purl).collect();
        if !urls.is_empty() {
            needs.entry(&package.purl).or_default().extend(urls);
        }
    }
    needs
}

fn component(package: &PackageFact, image: &OpenImage) -> Value {
    let mut component = json!({
        "type": "library",
        "bom-ref": package.purl,
        "name": package.name,
        "version": package.version,
        "purl": package.purl,
    });
    let hashes: Vec<Value> = hashes::of_integrity(&package.integrity)
        .into_iter()
        .map(|hash| json!({ "alg": algorithm(hash.algorithm), "content": hash.hex }))
        .collect();
    if !hashes.is_empty() {
        component["hashes"] = hashes.into();
    }
    if let Some(declared) = package.licence.as_deref().filter(|text| !text.trim().is_empty()) {
        component["licenses"] = match Licence::of(declared) {
            Licence::Expression(expression) => json!([{ "expression": expression }]),
            Licence::Name(name) => json!([{ "license": { "name": name } }]),
        };
    }
    if !package.patched.is_empty() {
        component["pedigree"] = json!({ "patches": package.patched.iter().map(|_| json!({ "type": "unofficial" })).collect::<Vec<_>>() });
    }
    add_layer(&mut component, package, image);
    component
}

/// Notes the layer that a package is in.
fn add_layer(component: &mut Value, package: &PackageFact, image: &OpenImage) {
    let Some(layer) = package.layer.and_then(|number| image.record.layers.get(number)) else { return };
    let property = json!({ "name": "shtetl:layer", "value": layer.digest.to_string() });
    match component["properties"].as_array_mut() {
        Some(properties) if properties.contains(&property) => {}
        Some(properties) => properties.push(property),
        None => component["properties"] = json!([property]),
    }
}

/// The name of a hash algorithm in these documents.
fn algorithm(name: &str) -> &str {
    match name {
        "md5" => "MD5",
        "sha1" => "SHA-1",
        "sha256" => "SHA-256",
        "sha384" => "SHA-384",
        _ => "SHA-512",
    }
}

/// A UUID that a text alone decides (RFC 9562, version 8).
pub(crate) fn uuid(text: &str) -> String {
    let mut bytes = [0; 16];
    bytes.copy_from_slice(&Sha256::of(text.as_bytes()).bytes()[..16]);
    bytes[6] = bytes[6] & 0x0f | 0x80;
    bytes[8] = bytes[8] & 0x3f | 0x80;
    let hex: String = bytes.iter().map(|byte| format!("{byte:02x}")).collect();
    format!("{}-{}-{}-{}-{}", &hex[..8], &hex[8..12], &hex[12..16], &hex[16..20], &hex[20..])
}
