//! Strict reading of TOML: every key must be known, every value of its type, and every fault keeps
//! its place in the text.

use model::{Complaint, Fault};
use std::cell::RefCell;
use std::collections::BTreeMap;
use std::ops::Range;
use toml::Spanned;
use toml::de::{DeTable, DeValue};

/// A parsed file.
pub(super) struct Document<'t> {
    root: Spanned<DeTable<'t>>,
    text: &'t str,
    /// Where each line begins, in bytes.
    lines: Vec<usize>,
    complaints: RefCell<Vec<Complaint>>,
    leaves: RefCell<BTreeMap<String, Leaf>>,
}

/// Where a single value is written.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Leaf {
    /// Bytes of the text.
    pub(super) span: Range<usize>,
    /// The line that it begins on, from 1, where lines mean something.
    pub(super) line: Option<u32>,
    /// As it is written.
    pub(super) text: String,
}

impl<'t> Document<'t> {
    /// Parses `text`; without valid syntax, no key is looked at.
    pub(super) fn parse(text: &'t str) -> Result<Self, Vec<Complaint>> {
        let (root, errors) = DeTable::parse_recoverable(text);
        if errors.is_empty() {
            let breaks = text.match_indices('\n').map(|(at, _)| at + 1);
            let lines = std::iter::once(0).chain(breaks).collect();
            return Ok(Self {
                root,
                text,
                lines,
                complaints: RefCell::default(),
                leaves: RefCell::default(),
            });
        }
        let complaint = |e: toml::de::Error| Complaint {
            span: e.span().unwrap_or(0..0),
            fault: Fault::Syntax { detail: e.message().to_owned() },
        };
        Err(errors.into_iter().map(complaint).collect())
    }

    /// The line that a byte lies on, from 1.
    fn line_of(&self, offset: usize) -> u32 {
        u32::try_from(self.lines.partition_point(|begin| *begin <= offset)).unwrap_or(u32::MAX)
    }

    /// The root table.
    pub(super) fn root(&self) -> Table<'_, 't> {
        Table { document: self, table: self.root.get_ref(), name: String::new(), known: RefCell::default() }
    }

    /// What was found wrong, in the order of the text, and every value that was looked at.
    pub(super) fn done(self) -> (Vec<Complaint>, BTreeMap<String, Leaf>) {
        let mut all = self.complaints.into_inner();
        all.sort_by_key(|c| c.span.start);
        (all, self.leaves.into_inner())
    }

    /// Notes where the value of `key` is written, unless it is a table.
    fn note(&self, key: &str, value: &Spanned<DeValue<'t>>) {
        if matches!(value.get_ref(), DeValue::Table(_)) {
            return;
        }
        let span = value.span();
        let leaf = Leaf {
            line: Some(self.line_of(span.start)),
            text: self.text.get(span.clone()).unwrap_or_default().to_owned(),
            span,
        };
        self.leaves.borrow_mut().insert(key.to_owned(), leaf);
    }
}

/// One table; unknown keys are reported by [`Table::done`].
pub(super) struct Table<'d, 't> {
    document: &'d Document<'t>,
    table: &'d DeTable<'t>,
    name: String,
    known: RefCell<Vec<String>>,
}

/// One value with its key.
pub(super) struct Value<'d, 't> {
    document: &'d Document<'t>,
    value: &'d Spanned<DeValue<'t>>,
    key: String,
}

impl<'d, 't> Table<'d, 't> {
    /// The value of a key that this table knows.
    pub(super) fn value(&self, key: &str) -> Option<Value<'d, 't>> {
        self.known.borrow_mut().push(key.to_owned());
        let value = self.table.get(key)?;
        self.document.note(&self.full(key), value);
        Some(Value { document: self.document, value, key: self.full(key) })
    }

    /// Every key with its value, for tables whose keys are free.
    pub(super) fn each(&self) -> impl Iterator<Item = (&'d str, Range<usize>, Value<'d, 't>)> + '_ {
        self.table.iter().map(|(key, value)| {
            let name: &'d str = key.get_ref();
            self.document.note(&self.full(name), value);
            let value = Value { document: self.document, value, key: self.full(name) };
            (name, key.span(), value)
        })
    }

    /// Complains of every key that was not asked for.
    pub(super) fn done(self) {
        self.done_but(|_| false);
    }

    /// As [`Table::done`], but for keys that are `free`.
    pub(super) fn done_but(self, free: impl Fn(&str) -> bool) {
        let known = self.known.into_inner();
        for (key, _) in self.table.iter() {
            let name: &str = key.get_ref();
            if !known.iter().any(|k| k == name) && !free(name) {
                let nearest =
                    model::names::nearest(name, known.iter().map(String::as_str)).map(str::to_owned);
                let fault = Fault::UnknownKey {
                    key: name.to_owned(),
                    table: self.name.clone(),
                    nearest,
                    known: known.clone(),
                };
                self.document.complaints.borrow_mut().push(Complaint { span: key.span(), fault });
            }
        }
    }

    fn full(&self, key: &str) -> String {
        if self.name.is_empty() { key.to_owned() } else { format!("{}.{key}", self.name) }
    }
}

impl<'d, 't> Value<'d, 't> {
    /// The text of a string.
    pub(super) fn string(&self) -> Option<String> {
        match self.value.get_ref() {
            DeValue::String(text) => Some(text.to_string()),
            _ => self.wrong_type("a string"),
        }
    }

    /// A whole number in the range of `T`.
    pub(super) fn number<T: TryFrom<i64>>(&self, range: &str) -> Option<T> {
        let DeValue::Integer(number) = self.value.get_ref() else { return self.wrong_type("a whole number") };
        let plain = i64::from_str_radix(&number.as_str().replace('_', ""), number.radix()).ok();
        let fitting = plain.and_then(|n| T::try_from(n).ok());
        if fitting.is_none() {
            self.bad(format!("must be {range}"));
        }
        fitting
    }

    /// `true` or `false`.
    pub(super) fn truth(&self) -> Option<bool> {
        match self.value.get_ref() {
            DeValue::Boolean(truth) => Some(*truth),
            _ => self.wrong_type("true or false"),
        }
    }

    /// A list of strings.
    pub(super) fn strings(&self) -> Option<Vec<String>> {
        let DeValue::Array(values) = self.value.get_ref() else {
            return self.wrong_type("a list of strings");
        };
        let item = |value| Value { document: self.document, value, key: self.key.clone() }.string();
        values.iter().map(item).collect()
    }

    /// A table.
    pub(super) fn table(&self) -> Option<Table<'d, 't>> {
        match self.value.get_ref() {
            DeValue::Table(table) => Some(Table {
                document: self.document,
                table,
                name: self.key.clone(),
                known: RefCell::default(),
            }),
            _ => self.wrong_type("a table"),
        }
    }

    pub(super) fn is_string(&self) -> bool {
        matches!(self.value.get_ref(), DeValue::String(_))
    }

    pub(super) fn is_bool(&self) -> bool {
        matches!(self.value.get_ref(), DeValue::Boolean(_))
    }

    pub(super) fn is_table(&self) -> bool {
        matches!(self.value.get_ref(), DeValue::Table(_))
    }

    /// The line that the value begins on, from 1.
    pub(super) fn line(&self) -> u32 {
        self.document.line_of(self.value.span().start)
    }

    /// Complains of the value.
    pub(super) fn bad(&self, detail: String) {
        let fault = Fault::BadValue { key: self.key.clone(), detail };
        self.document.complaints.borrow_mut().push(Complaint { span: self.value.span(), fault });
    }

    fn wrong_type<T>(&self, expected: &'static str) -> Option<T> {
        let found = match self.value.get_ref() {
            DeValue::String(_) => "a string",
            DeValue::Integer(_) => "a whole number",
            DeValue::Float(_) => "a fraction",
            DeValue::Boolean(_) => "true or false",
            DeValue::Datetime(_) => "a date",
            DeValue::Array(_) => "a list",
            DeValue::Table(_) => "a table",
        };
        let fault = Fault::WrongType { key: self.key.clone(), expected, found };
        self.document.complaints.borrow_mut().push(Complaint { span: self.value.span(), fault });
        None
    }
}

pub(super) fn with_table<'d, 't>(
    root: &Table<'d, 't>,
    key: &'static str,
    mut read: impl FnMut(&Table<'d, 't>),
) {
    if let Some(table) = root.value(key).and_then(|v| v.table()) {
        read(&table);
        table.done();
    }
}
