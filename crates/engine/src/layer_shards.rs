//! Which of several layers a package goes into: by its name alone, so that the others stay as they are
//! when one package changes, comes or goes.

use content::digest::Sha256;

/// The number of the group, from 0.
pub fn shard_of(name: &str, groups: usize) -> usize {
    let [first, second, ..] = *Sha256::of(name.as_bytes()).bytes();
    usize::from(u16::from_be_bytes([first, second])) % groups.max(1)
}
