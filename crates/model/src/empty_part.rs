//! What an empty base can have all the same.

/// Something that an empty base can have all the same.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum EmptyPart {
    /// Certificates that are trusted, from Debian's package of them.
    Certificates,
    /// Time zones, from Debian's package of them.
    TimeZones,
    /// Names of users and groups.
    Users,
}

impl EmptyPart {
    /// All of them.
    pub const ALL: [Self; 3] = [Self::Certificates, Self::TimeZones, Self::Users];

    /// The name in configuration.
    pub fn name(self) -> &'static str {
        match self {
            Self::Certificates => "certificates",
            Self::TimeZones => "time-zones",
            Self::Users => "users",
        }
    }

    /// The part of this name.
    pub fn named(name: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|part| part.name() == name)
    }

    /// The package that it is taken from.
    pub fn package(self) -> Option<&'static str> {
        match self {
            Self::Certificates => Some("ca-certificates"),
            Self::TimeZones => Some("tzdata"),
            Self::Users => None,
        }
    }
}
