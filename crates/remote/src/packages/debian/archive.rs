//! Package files: an `ar` archive whose member `data.tar` holds the installed files, and `control.tar` the metadata of the
//! package (deb(5)).

use super::control::paragraphs;
use flate2::read::MultiGzDecoder;
use liblzma::read::XzDecoder;
use std::io::{self, Read};
use std::ops::Range;

/// The maximum size of a package's metadata, in bytes.
const LONGEST_CONTROL: u64 = 4 << 20;

/// A package file, opened.
pub struct PackageFile<'r> {
    /// The source package, with its version where it is not that of the package: `openssl (3.5.1-1)`.
    pub source: Option<String>,
    /// The names of the packages that it depends on; of alternatives, all of them.
    pub depends: Vec<String>,
    /// The tar bytes of the files that it installs.
    pub data: Box<dyn Read + 'r>,
}

/// Opens a package file.
pub fn open_package<'r>(mut package: impl Read + 'r) -> io::Result<PackageFile<'r>> {
    let mut said = Control::default();
    let bad = |detail: &str| io::Error::new(io::ErrorKind::InvalidData, detail.to_owned());
    let mut magic = [0; 8];
    package.read_exact(&mut magic).map_err(|_| bad("not an ar archive"))?;
    if magic != *b"!<arch>\n" {
        return Err(bad("not an ar archive"));
    }
    let mut head = [0; 60];
    while package.read_exact(&mut head).is_ok() {
        let field = |range: Range<usize>| String::from_utf8_lossy(&head[range]).trim().to_owned();
        let name = field(0..16).trim_end_matches('/').to_owned();
        let size: u64 = field(48..58).parse().map_err(|_| bad("an archive member without a length"))?;
        if let Some(ending) = name.strip_prefix("data.tar") {
            let data = unpacked(ending, package.take(size))?.ok_or_else(|| bad("unknown compression"))?;
            let Control { source, depends } = said;
            return Ok(PackageFile { source, depends, data });
        }
        let mut skipped = size;
        if let Some(ending) = name.strip_prefix("control.tar").filter(|_| size <= LONGEST_CONTROL) {
            let mut member = Vec::new();
            package.by_ref().take(size).read_to_end(&mut member)?;
            said = unpacked(ending, &member[..])?.and_then(control_in).unwrap_or_default();
            skipped -= member.len() as u64;
        }
        // Members begin at even places.
        skipped += size % 2;
        if io::copy(&mut package.by_ref().take(skipped), &mut io::sink())? < skipped {
            return Err(bad("cut off"));
        }
    }
    Err(bad("no data.tar in it"))
}

/// What is behind the compression that the name of a member ends with; nothing for one that is not known.
fn unpacked<'r>(ending: &str, member: impl Read + 'r) -> io::Result<Option<Box<dyn Read + 'r>>> {
    Ok(Some(match ending {
        "" => Box::new(member),
        ".xz" => Box::new(XzDecoder::new_multi_decoder(member)),
        ".gz" => Box::new(MultiGzDecoder::new(member)),
        ".zst" => Box::new(zstd::Decoder::new(member)?),
        _ => return Ok(None),
    }))
}

/// What the control file says.
#[derive(Default)]
struct Control {
    source: Option<String>,
    depends: Vec<String>,
}

/// Reads the control file; what cannot be read says nothing.
fn control_in(control: impl Read) -> Option<Control> {
    let mut archive = tar::Archive::new(control.take(LONGEST_CONTROL));
    let mut entries = archive.entries().ok()?.flatten();
    let mut file = entries.find(|entry| {
        entry.path().is_ok_and(|path| path.file_name().is_some_and(|name| name == "control"))
    })?;
    let mut text = String::new();
    file.read_to_string(&mut text).ok()?;
    let paragraph = paragraphs(&text).next()?;
    let fields = ["Pre-Depends", "Depends"].into_iter().filter_map(|field| paragraph.get(field));
    let names = fields.flat_map(|field| field.split([',', '|'])).filter_map(|one| {
        let name = one.trim().split([' ', '(', ':', '[', '<']).next()?;
        (!name.is_empty()).then(|| name.to_owned())
    });
    Some(Control { source: paragraph.get("Source").map(str::to_owned), depends: names.collect() })
}
