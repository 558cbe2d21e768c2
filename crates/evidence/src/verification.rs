//! An image against its record, its evidence and the keys that are trusted.

use crate::envelope::{self, Envelope, PAYLOAD_TYPE};
use crate::keys::PublicKey;
use crate::provenance::{PREDICATE, STATEMENT};
use content::BlobDigest;
use content::store::Store;
use model::Result;
use serde::Serialize;
use serde_json::Value;
use std::collections::BTreeSet;
use workshop::inspect::OpenImage;

/// How something turned out.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Verdict {
    /// It holds.
    Holds,
    /// There is nothing to look at.
    Missing,
    /// It does not hold.
    Fails,
}

/// One thing that was looked at.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Finding {
    /// What, in a word or two.
    pub what: &'static str,
    /// How it turned out.
    pub verdict: Verdict,
    /// What was found.
    pub detail: String,
}

/// A document attached to an image.
#[derive(Debug, Clone)]
pub struct Evidence {
    /// What it is.
    pub media_type: String,
    /// The document.
    pub bytes: Vec<u8>,
}

/// Looks at everything. `trusted` are the keys of which one has to have signed; without any, signatures are only told.
pub fn verify(
    store: &Store,
    image: &OpenImage,
    evidence: &[Evidence],
    trusted: &[PublicKey],
) -> Result<Vec<Finding>> {
    let mut findings = vec![blobs(store, image)];
    findings.extend(image.platforms().iter().map(record));
    let (statement, signature) = statement(evidence, trusted);
    findings.push(signature);
    match &statement {
        Some(statement) => {
            findings.push(subject(image, statement));
            findings.extend(documents(evidence, statement));
        }
        None => findings.push(finding("provenance", Verdict::Missing, "no provenance")),
    }
    Ok(findings)
}

fn finding(what: &'static str, verdict: Verdict, detail: impl Into<String>) -> Finding {
    Finding { what, verdict, detail: detail.into() }
}

/// Every document and layer has the digest that it is named by.
fn blobs(store: &Store, image: &OpenImage) -> Finding {
    let mut digests = BTreeSet::from([image.digest]);
    for variant in image.all_variants() {
        digests.extend([variant.digest, variant.manifest.config.digest]);
        digests.extend(variant.manifest.layers.iter().map(|layer| layer.digest));
    }
    match digests.iter().find(|digest| store.verify_blob(**digest).is_err()) {
        Some(digest) => finding("contents", Verdict::Fails, format!("{digest} is damaged or missing")),
        None => finding("contents", Verdict::Holds, format!("{} documents and layers", digests.len())),
    }
}

/// The record says what the images of all process types are made of.
fn record(image: &OpenImage) -> Finding {
    let recorded: Vec<_> = image.record.layers.iter().map(|layer| (layer.digest, layer.size)).collect();
    let diff_ids: Vec<_> = image.record.layers.iter().map(|layer| layer.diff_id).collect();
    for variant in &image.variants {
        let layers: Vec<_> = variant.manifest.layers.iter().map(|layer| (layer.digest, layer.size)).collect();
        let fails =
            |detail: &str| finding("record", Verdict::Fails, format!("{}: {detail}", variant.process));
        if layers != recorded || variant.config.rootfs.diff_ids != diff_ids {
            return fails("its layers do not match its record");
        }
        if !image.record.processes.iter().any(|process| process.name == variant.process) {
            return fails("the record has no such process type");
        }
    }
    let count = image.record.layers.len();
    finding("record", Verdict::Holds, format!("{count} layers, {} packages", image.record.packages.len()))
}

/// The provenance of the build, preferably signed with a trusted key.
fn statement(evidence: &[Evidence], trusted: &[PublicKey]) -> (Option<Value>, Finding) {
    let envelopes = evidence.iter().filter(|one| one.media_type == envelope::MEDIA_TYPE);
    let envelopes: Vec<Envelope> =
        envelopes.filter_map(|one| serde_json::from_slice(&one.bytes).ok()).collect();
    let read = |envelope: &Envelope| {
        let is_statement = envelope.payload_type == PAYLOAD_TYPE;
        let document = envelope.document().filter(|_| is_statement)?;
        serde_json::from_slice::<Value>(&document).ok().filter(is_provenance)
    };
    for envelope in &envelopes {
        if let (Some(key), Some(statement)) = (envelope.signed_by(trusted), read(envelope)) {
            let detail = format!("with the trusted key {}", short(&key.id()));
            return (Some(statement), finding("signature", Verdict::Holds, detail));
        }
    }
    let unsigned = evidence.iter().filter(|one| one.media_type == PAYLOAD_TYPE);
    let mut unsigned =
        unsigned.filter_map(|one| serde_json::from_slice(&one.bytes).ok()).filter(is_provenance);
    let statement = envelopes.iter().find_map(read).or_else(|| unsigned.next());
    let ids: Vec<String> = envelopes
        .iter()
        .flat_map(|envelope| &envelope.signatures)
        .map(|one| one.keyid.as_deref().map_or_else(|| "a key without a name".to_owned(), short))
        .collect();
    let signature = match (ids.is_empty(), trusted.is_empty()) {
        (true, true) => finding("signature", Verdict::Missing, "none, and no trusted key is configured"),
        (true, false) => {
            finding("signature", Verdict::Fails, "none, and a signature with a trusted key is required")
        }
        (false, true) => finding(
            "signature",
            Verdict::Missing,
            format!("with {}; no trusted key is configured, so it proves nothing", ids.join(", ")),
        ),
        (false, false) => finding(
            "signature",
            Verdict::Fails,
            format!("with {}, which is not a trusted key", ids.join(", ")),
        ),
    };
    (statement, signature)
}

fn is_provenance(document: &Value) -> bool {
    document["_type"] == STATEMENT && document["predicateType"] == PREDICATE
}

fn short(id: &str) -> String {
    id.chars().take(16).collect()
}

/// The statement is about this image, and about all of its process types.
fn subject(image: &OpenImage, statement: &Value) -> Finding {
    let subjects = statement["subject"].as_array().into_iter().flatten();
    let named: BTreeSet<&str> = subjects.filter_map(|one| one["digest"]["sha256"].as_str()).collect();
    let own = [image.digest].into_iter().chain(image.all_variants().map(|one| one.digest));
    match own.map(|digest| digest.hex()).find(|hex| !named.contains(hex.as_str())) {
        Some(hex) => finding(
            "provenance",
            Verdict::Fails,
            format!("it describes another image: it does not name sha256:{hex}"),
        ),
        None => {
            let source = &statement["predicate"]["buildDefinition"]["externalParameters"]["source"];
            let from = match source["revision"].as_str() {
                Some(commit) => format!("from commit {commit}"),
                None => {
                    format!(
                        "built from the source {}",
                        source["tree"].as_str().unwrap_or("that it does not name")
                    )
                }
            };
            finding("provenance", Verdict::Holds, from)
        }
    }
}

/// The documents that the statement vouches for are the ones that are there.
fn documents(evidence: &[Evidence], statement: &Value) -> Vec<Finding> {
    let byproducts = statement["predicate"]["runDetails"]["byproducts"].as_array();
    let one = |byproduct: &Value| {
        let media_type = byproduct["mediaType"].as_str()?;
        let digest = byproduct["digest"]["sha256"].as_str()?;
        let what = if media_type.contains("cyclonedx") { "CycloneDX" } else { "SPDX" };
        let mut there = evidence.iter().filter(|one| one.media_type == media_type).peekable();
        if there.peek().is_none() {
            return Some(finding(what, Verdict::Missing, "the list of packages is missing"));
        }
        Some(match there.any(|one| BlobDigest::of(&one.bytes).hex() == digest) {
            true => finding(what, Verdict::Holds, "the list of packages matches the provenance"),
            false => finding(what, Verdict::Fails, "the list of packages does not match the provenance"),
        })
    };
    byproducts.into_iter().flatten().filter_map(one).collect()
}
