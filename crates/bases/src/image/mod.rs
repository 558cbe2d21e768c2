//! Bases that are foreign images: pulled from a registry, or taken from a layout on this machine.

mod layer;
mod location;
mod runtime_detection;
mod view;

pub use location::Location;

use content::layer::{Entry, LayerWriter};
use content::store::Store;
use engine::{Action, Step, StepContext};
use engine::{Fingerprint, Recipe};
use layer::PulledLayer;
use model::error::{BaseError, PackageError};
use model::pins::{Carried, ImagePin};
use model::places::{APP_HOME, APP_USER};
use model::{Error, PackageFact, Result, Role, RuntimeInUse};
use planning::{Base, Provided};
use remote::oci::{CredentialFiles, ForeignConfig, ForeignManifest, ImageSource, Part};
use remote::{Fetcher, RemoteError};
use std::collections::BTreeMap;
use std::fmt::Display;
use std::sync::Arc;
use view::View;

/// A base whose image is pinned.
pub struct ImageBase {
    /// As the configuration names it.
    pub name: String,
    /// Where it is.
    pub location: Location,
    /// Credentials for registries.
    pub credentials: Arc<CredentialFiles>,
    /// Its documents; `None` before they are known.
    pub documents: Option<(ForeignManifest, ForeignConfig)>,
    /// The runtimes in it.
    pub runtimes: BTreeMap<String, Carried>,
}

impl Base for ImageBase {
    fn has_shell(&self) -> bool {
        self.runtimes.contains_key(runtime_detection::SHELL)
    }

    fn runtime(&self, runtime: &str) -> Result<Provided> {
        let missing = || {
            Error::Base(BaseError::RuntimeNotInBase { runtime: runtime.to_owned(), base: self.name.clone() })
        };
        let carried = self.runtimes.get(runtime).ok_or_else(missing)?;
        let folder = carried.program.rsplit_once('/').map_or("/usr/bin", |(folder, _)| folder);
        let in_use = RuntimeInUse {
            name: runtime.to_owned(),
            version: carried.version.clone(),
            origin: self.name.clone(),
            bin_folder: folder.to_owned(),
        };
        Ok(Provided { runtime: in_use, steps: Vec::new(), notes: Vec::new() })
    }

    fn tool(&self, _tool: &str) -> Result<RuntimeInUse> {
        Err(Error::Base(BaseError::NoBuildRoot { base: self.name.clone() }))
    }

    fn build_root(&self) -> Result<Vec<Step>> {
        Err(Error::Base(BaseError::NoBuildRoot { base: self.name.clone() }))
    }

    fn below(&self) -> Result<(Vec<Step>, Vec<String>)> {
        let layers = self.documents.iter().flat_map(|(m, c)| m.layers.iter().zip(c.diff_ids()));
        let number = layers.clone().count();
        let mut steps = Vec::new();
        for (index, (part, diff_id)) in layers.enumerate() {
            let work = PulledLayer {
                location: self.location.clone(),
                credentials: Arc::clone(&self.credentials),
                part: part.clone(),
                diff_id: *diff_id,
            };
            steps.push(Step::new(format!("base layer {} of {number}", index + 1), Role::Base, work));
        }
        steps.push(Step::new("app home", Role::Base, AppHome));
        Ok((steps, Vec::new()))
    }

    fn env(&self) -> BTreeMap<String, String> {
        self.documents.as_ref().map(|(_, config)| config.env()).unwrap_or_default()
    }
}

/// The folders that every process may count on.
struct AppHome;

impl Action for AppHome {
    fn fingerprint(&self) -> Fingerprint {
        Fingerprint::of(Recipe::new("app home", 1))
    }

    fn run(&self, layer: &mut LayerWriter<'_>, _cx: &StepContext<'_>) -> Result<Vec<PackageFact>> {
        layer.part::<Error>(|tar| {
            tar.entry(&Entry::folder("home"))?;
            tar.entry(&Entry { owner: APP_USER, ..Entry::folder(APP_HOME) })?;
            tar.entry(&Entry { mode: 0o1777, ..Entry::folder("tmp") })?;
            Ok(())
        })?;
        Ok(Vec::new())
    }
}

/// What is needed to get an image.
pub struct Getting<'a> {
    /// Where it is.
    pub location: &'a Location,
    /// Gets it.
    pub fetcher: &'a Fetcher,
    /// Credentials for registries.
    pub credentials: &'a CredentialFiles,
    /// Keeps it.
    pub store: &'a Store,
}

impl Getting<'_> {
    /// Pins what the name stands for now on a platform: gets the whole image and looks into it.
    pub fn pin(&self, platform: &str) -> Result<ImagePin> {
        let source = self.location.open(self.fetcher, self.credentials, self.store)?;
        let (digest, bytes) = source.newest(platform).map_err(remote(self.location))?;
        self.store.put_blob(&bytes)?;
        let (manifest, config) = self.documents_from(&source, &bytes)?;
        let own = format!("{}/{}", config.os, config.architecture);
        if own != platform {
            let (base, platform) = (source.label(), platform.to_owned());
            return Err(Error::Base(BaseError::PlatformNotInBase { base, platform }));
        }
        let mut view = View::default();
        for part in &manifest.layers {
            layer::take_in(self.store, &source, part)?;
            view.add(self.store, part)?;
        }
        Ok(ImagePin { manifest: digest.to_string(), runtimes: runtime_detection::find(&view, &config) })
    }

    /// The documents of a pinned image, from the store or from where it is.
    pub fn documents(&self, pin: &ImagePin) -> Result<(ForeignManifest, ForeignConfig)> {
        let digest = pin.manifest.parse().map_err(|_| {
            Error::Package(PackageError::Damaged {
                package: self.location.to_string(),
                detail: "shtetl.lock holds an invalid digest for it".to_owned(),
            })
        })?;
        let source = self.location.open(self.fetcher, self.credentials, self.store)?;
        let bytes = match self.store.read_blob(digest) {
            Ok(bytes) => bytes,
            Err(_) => {
                let bytes = source.manifest(digest).map_err(remote(self.location))?;
                self.store.put_blob(&bytes)?;
                bytes
            }
        };
        self.documents_from(&source, &bytes)
    }

    fn documents_from(
        &self,
        source: &ImageSource<'_>,
        manifest: &[u8],
    ) -> Result<(ForeignManifest, ForeignConfig)> {
        let manifest = source.read_manifest(manifest).map_err(remote(self.location))?;
        let config = self.document(source, &manifest.config)?;
        let config = source.read_config(&config, manifest.layers.len()).map_err(remote(self.location))?;
        Ok((manifest, config))
    }

    fn document(&self, source: &ImageSource<'_>, part: &Part) -> Result<Vec<u8>> {
        if let Ok(bytes) = self.store.read_blob(part.digest) {
            return Ok(bytes);
        }
        let mut bytes = Vec::new();
        source.blob(part, &mut bytes).map_err(remote(self.location))?;
        self.store.put_blob(&bytes)?;
        Ok(bytes)
    }
}

/// What went wrong with `base`.
fn remote(base: &dyn Display) -> impl Fn(RemoteError) -> Error {
    let base = base.to_string();
    move |source| Error::Base(BaseError::Image { base: base.clone(), source })
}
