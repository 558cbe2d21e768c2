//! How an image was built: an in-toto Statement v1 with SLSA provenance v1.

use crate::hashes;
use crate::{TOOL, TOOL_VERSION};
use content::BlobDigest;
use model::PackageFact;
use serde_json::{Map, Value, json};
use std::collections::BTreeMap;
use workshop::inspect::{OpenImage, ProcessImage};

/// The type of the predicate.
pub(crate) const PREDICATE: &str = "https://slsa.dev/provenance/v1";
/// The type of the statement.
pub(crate) const STATEMENT: &str = "https://in-toto.io/Statement/v1";
/// How to read the parameters: `docs/evidence.md`.
const BUILD_TYPE: &str = "urn:shtetl:build:1";

/// Another document about the image, which the statement vouches for.
pub(crate) struct Byproduct<'a> {
    pub(crate) name: &'a str,
    pub(crate) media_type: &'a str,
    pub(crate) digest: BlobDigest,
}

/// The statement for an image.
pub(crate) fn statement(image: &OpenImage, byproducts: &[Byproduct<'_>]) -> Value {
    let record = &image.record;
    let subject =
        |name: &str, digest: BlobDigest| json!({ "name": name, "digest": { "sha256": digest.hex() } });
    let mut subjects = vec![subject(&record.name, image.digest)];
    let on = |platform: &str| match image.others.is_empty() {
        true => String::new(),
        false => format!(" on {platform}"),
    };
    for of_platform in image.platforms() {
        let on = on(&of_platform.record.platform);
        let named = |one: &ProcessImage| subject(&format!("{} {}{on}", record.name, one.process), one.digest);
        subjects.extend(of_platform.variants.iter().map(named));
    }
    let mut dependencies: Vec<Value> = record
        .revision
        .iter()
        .map(|revision| {
            json!({
                "name": "source",
                "digest": { "gitCommit": revision.commit },
                "annotations": { "tree": record.source.to_string() },
            })
        })
        .collect();
    let packages: BTreeMap<&str, &PackageFact> =
        image.records().flat_map(|record| &record.packages).map(|one| (one.purl.as_str(), one)).collect();
    dependencies.extend(packages.values().map(|package| {
        let digests: Map<String, Value> = hashes::of_integrity(&package.integrity)
            .into_iter()
            .map(|hash| (hash.algorithm.to_owned(), hash.hex.into()))
            .collect();
        match digests.is_empty() {
            true => json!({ "uri": package.purl }),
            false => json!({ "uri": package.purl, "digest": digests }),
        }
    }));
    let byproducts = byproducts.iter().map(|one| {
        json!({ "name": one.name, "mediaType": one.media_type, "digest": { "sha256": one.digest.hex() } })
    });
    let platforms: Vec<&str> = image.records().map(|record| record.platform.as_str()).collect();
    let steps: Vec<Value> = image
        .records()
        .flat_map(|record| &record.steps)
        .map(|step| json!({ "name": step.name, "key": step.key.to_string() }))
        .collect();
    let tools = record.runtimes.iter().chain(&record.tools);
    json!({
        "_type": STATEMENT,
        "subject": subjects,
        "predicateType": PREDICATE,
        "predicate": {
            "buildDefinition": {
                "buildType": BUILD_TYPE,
                "externalParameters": {
                    "source": { "tree": record.source.to_string(), "revision": record.revision.as_ref().map(|one| &one.commit) },
                    "platform": platforms.join(","),
                    "base": record.base,
                },
                "internalParameters": {
                    "steps": steps,
                    "tools": tools.map(|tool| json!({ "name": tool.name, "version": tool.version })).collect::<Vec<_>>(),
                },
                "resolvedDependencies": dependencies,
            },
            "runDetails": {
                "builder": { "id": "urn:shtetl:builder", "version": { TOOL: TOOL_VERSION } },
                "byproducts": byproducts.collect::<Vec<_>>(),
            },
        },
    })
}
