//! Parts of a town.
