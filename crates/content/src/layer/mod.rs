//! Layers: normalised tar bytes, compressed in blocks that depend on nothing but the content.
//!
//! A layer is the concatenation of parts, each compressed on its own: pieces of one package that
//! were compressed before ([`Fragment`]) and entries written directly. Its bytes do not depend on
//! the number of threads, the clock, the user or the folder.

mod codec;
mod entry;
mod fragment;
mod unpack;
mod verify;
mod writer;

pub use codec::Codec;
pub(crate) use entry::Whiteout;
pub use entry::{Entry, FILE_TIME, Kind, Owner, TarWriter, is_whiteout};
pub use fragment::{Fragment, FragmentWriter};
pub use unpack::{Owners, unpack};
pub use writer::{LayerWriter, WrittenLayer};

/// Version of the way layers are written; part of every step key, so that a change of it
/// makes nothing that was written before pass for new.
pub const LAYER_FORMAT: u32 = 1;
