//! Relationships between packages (Debian Policy Manual, section 7.1).

use super::version::compare;

/// How a version must compare to the one that is named.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Sense {
    /// `<<`.
    Earlier,
    /// `<=`.
    EarlierOrSame,
    /// `=`.
    Same,
    /// `>=`.
    LaterOrSame,
    /// `>>`.
    Later,
}

/// One package that would do.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Alternative {
    /// Its name, without the architecture behind a colon.
    pub name: String,
    /// The versions that would do.
    pub version: Option<(Sense, String)>,
}

/// Packages of which one is needed, in order of preference.
pub type Relation = Vec<Alternative>;

impl Sense {
    /// As it is written.
    pub fn sign(self) -> &'static str {
        match self {
            Self::Earlier => "<<",
            Self::EarlierOrSame => "<=",
            Self::Same => "=",
            Self::LaterOrSame => ">=",
            Self::Later => ">>",
        }
    }
}

impl Alternative {
    /// Whether this version would do.
    pub fn accepts(&self, version: &str) -> bool {
        let Some((sense, named)) = &self.version else { return true };
        let order = compare(version, named);
        match sense {
            Sense::Earlier => order.is_lt(),
            Sense::EarlierOrSame => order.is_le(),
            Sense::Same => order.is_eq(),
            Sense::LaterOrSame => order.is_ge(),
            Sense::Later => order.is_gt(),
        }
    }

    fn parse(text: &str) -> Option<Self> {
        let (name, version) = match text.split_once('(') {
            None => (text, None),
            Some((name, rest)) => (name, Some(rest.split(')').next()?.trim())),
        };
        // What is in brackets (architectures, build profiles) means nothing in a binary package.
        let name = name.split(['[', '<', ':']).next()?.trim().to_owned();
        let version = match version {
            None => None,
            Some(text) => {
                let at = text.find(|c: char| !matches!(c, '<' | '>' | '='))?;
                let sense = match &text[..at] {
                    "<<" => Sense::Earlier,
                    "<=" | "<" => Sense::EarlierOrSame,
                    "=" => Sense::Same,
                    ">=" | ">" => Sense::LaterOrSame,
                    ">>" => Sense::Later,
                    _ => return None,
                };
                Some((sense, text[at..].trim().to_owned()))
            }
        };
        (!name.is_empty()).then_some(Self { name, version })
    }
}

/// Reads a field such as `Depends`; what does not follow the policy is left out.
pub(super) fn parse(field: &str) -> Vec<Relation> {
    let relation = |text: &str| text.split('|').filter_map(Alternative::parse).collect::<Relation>();
    field.split(',').map(relation).filter(|r: &Relation| !r.is_empty()).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn fields_are_read_with_versions_and_alternatives() {
        let read = parse("libfog1 (>= 1.2~), horn:any | horn-next (<< 3) , lamp(=1-1)");
        let named = |name: &str, version| Alternative { name: name.to_owned(), version };
        assert_eq!(
            read,
            [
                vec![named("libfog1", Some((Sense::LaterOrSame, "1.2~".to_owned())))],
                vec![named("horn", None), named("horn-next", Some((Sense::Earlier, "3".to_owned())))],
                vec![named("lamp", Some((Sense::Same, "1-1".to_owned())))],
            ]
        );
        assert!(read[0][0].accepts("1.2") && !read[0][0].accepts("1.1") && !read[2][0].accepts("1-1+b1"));
    }
}
