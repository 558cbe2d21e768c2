//! YAML documents (1.2) with comments, always written in the same way.

use serde_json::Value;

/// A value of a document.
#[derive(Debug, Clone, PartialEq)]
pub(crate) enum Node {
    /// A text, number or truth.
    Scalar(Value),
    /// Values in order.
    List(Vec<Node>),
    /// Named values in order, each perhaps with a comment above it.
    Map(Vec<Field>),
}

/// A named value.
#[derive(Debug, Clone, PartialEq)]
pub(crate) struct Field {
    name: String,
    comment: Option<String>,
    value: Node,
}

macro_rules! scalars {
    ($($kind:ty),*) => {
        $(impl From<$kind> for Node {
            fn from(value: $kind) -> Self {
                Self::Scalar(value.into())
            }
        })*
    };
}

scalars!(&str, String, bool, i32, u16, u32);

/// A map that is being written down.
#[derive(Debug, Default)]
pub(crate) struct Map(Vec<Field>);

impl Map {
    /// An empty one.
    pub(crate) fn new() -> Self {
        Self::default()
    }

    /// With one more value.
    pub(crate) fn with(mut self, name: &str, value: impl Into<Node>) -> Self {
        self.0.push(Field { name: name.to_owned(), comment: None, value: value.into() });
        self
    }

    /// With one more value, and a comment above it.
    pub(crate) fn with_comment(mut self, name: &str, comment: &str, value: impl Into<Node>) -> Self {
        self.0.push(Field { name: name.to_owned(), comment: Some(comment.to_owned()), value: value.into() });
        self
    }

    /// With one more value, if there is one.
    pub(crate) fn with_some(self, name: &str, value: Option<impl Into<Node>>) -> Self {
        match value {
            Some(value) => self.with(name, value),
            None => self,
        }
    }

    /// Whether nothing is in it.
    pub(crate) fn is_empty(&self) -> bool {
        self.0.is_empty()
    }
}

impl From<Map> for Node {
    fn from(map: Map) -> Self {
        Self::Map(map.0)
    }
}

impl From<Vec<Node>> for Node {
    fn from(list: Vec<Node>) -> Self {
        Self::List(list)
    }
}

/// A document with lines of comment above it.
pub(crate) fn document(comments: &[&str], root: impl Into<Node>) -> String {
    let mut text: String = comments.iter().map(|line| format!("# {line}\n")).collect();
    write(&root.into(), 0, &mut text);
    text
}

fn write(node: &Node, depth: usize, text: &mut String) {
    let indent = "  ".repeat(depth);
    match node {
        Node::Scalar(value) => text.push_str(&format!("{indent}{}\n", scalar(value))),
        Node::List(items) => {
            for item in items {
                // What is inside begins on the line of the dash.
                let mut inside = String::new();
                write(item, depth + 1, &mut inside);
                text.push_str(&format!("{indent}- {}", inside.trim_start()));
            }
        }
        Node::Map(fields) => {
            for Field { name, comment, value } in fields {
                for line in comment.iter().flat_map(|comment| comment.lines()) {
                    text.push_str(&format!("{indent}# {line}\n"));
                }
                let name = scalar(&Value::String(name.clone()));
                match value {
                    Node::Scalar(value) => text.push_str(&format!("{indent}{name}: {}\n", scalar(value))),
                    Node::List(items) if items.is_empty() => text.push_str(&format!("{indent}{name}: []\n")),
                    Node::Map(fields) if fields.is_empty() => {
                        text.push_str(&format!("{indent}{name}: {{}}\n"))
                    }
                    inside => {
                        text.push_str(&format!("{indent}{name}:\n"));
                        write(inside, depth + 1, text);
                    }
                }
            }
        }
    }
}

/// A text without quotes where every reader takes it for the same text; otherwise as JSON, which YAML has in it.
fn scalar(value: &Value) -> String {
    match value {
        Value::String(text) if is_plain(text) => text.clone(),
        value => value.to_string(),
    }
}

fn is_plain(text: &str) -> bool {
    const WORDS: [&str; 10] = ["true", "false", "yes", "no", "on", "off", "null", "y", "n", "~"];
    let begins = text.chars().next().is_some_and(|first| first.is_ascii_alphabetic() || first == '/');
    let is_word = WORDS.contains(&text.to_lowercase().as_str());
    begins && !is_word && text.chars().all(|c| c.is_ascii_alphanumeric() || "-_./@".contains(c))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn documents_are_read_as_they_were_meant() {
        let inner = Map::new().with("name", "web").with("port", 8080).with("on", "yes");
        let map = Map::new()
            .with_comment("kind", "what it is\nin two lines", "App")
            .with("list", vec![Node::from(inner), Node::from("a: b"), Node::from("8080:8080")])
            .with("empty", Map::new())
            .with_some("missing", None::<&str>)
            .with("text", "line\nbreak \"quoted\" # no comment");
        assert_eq!(
            document(&["written by a test"], map),
            "# written by a test\n# what it is\n# in two lines\nkind: App\nlist:\n  - name: web\n    port: 8080\n    \"on\": \"yes\"\n  \
             - \"a: b\"\n  - \"8080:8080\"\nempty: {}\ntext: \"line\\nbreak \\\"quoted\\\" # no comment\"\n"
        );
    }
}
