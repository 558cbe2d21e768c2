//! Image documents and the two ways by which images leave the store as files.

mod documents;
mod layout;

pub use documents::{
    Config, Descriptor, History, Index, Manifest, Platform, RootFs, RunConfig, media, to_json,
};
pub use layout::{
    may_become_layout, read_layout, stream_archive, unpack_archive, unpack_stream, write_archive,
    write_layout,
};
