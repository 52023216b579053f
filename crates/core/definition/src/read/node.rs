//! Reads TOML into checked values and says where something is wrong: file, line, column,
//! key and the nearest valid word. All problems of a file are reported, not just the first.

use std::{cell::RefCell, fmt, str::FromStr};

use maple_lark_time::{
    english::quoted_list,
    nearest::{nearest, suggestion},
    span::Span,
};
use toml_edit::{Item, TableLike};

use crate::{
    limits,
    problem::{MissingKey, Place, Placed, Problem},
};

/// A length of time in seconds, within bounds.
pub(crate) fn read_seconds(
    node: &Node<'_>,
    key: &'static str,
    least: &str,
    most: &str,
) -> Option<u64> {
    let seconds =
        |span: Span| (span.months == 0).then_some(span.seconds + u64::from(span.days) * 86_400);
    let bound = |text: &str| {
        text.parse::<Span>()
            .ok()
            .and_then(seconds)
            .unwrap_or_default()
    };
    match seconds(node.parsed::<Span>(key)?) {
        Some(seconds) if (bound(least)..=bound(most)).contains(&seconds) => Some(seconds),
        _ => {
            node.report(key, format!("must be between \"{least}\" and \"{most}\", made of weeks, days, hours, minutes and seconds"));
            None
        }
    }
}

/// One file being read.
pub(crate) struct Reader<'a> {
    file: &'a str,
    text: &'a str,
    /// Where each line begins.
    lines: Vec<usize>,
    problems: RefCell<Vec<Problem>>,
}

impl<'a> Reader<'a> {
    pub fn new(file: &'a str, text: &'a str) -> Self {
        Self {
            file,
            text,
            lines: std::iter::once(0)
                .chain(text.match_indices('\n').map(|(at, _)| at + 1))
                .collect(),
            problems: RefCell::default(),
        }
    }

    pub fn place(&self, offset: usize, key: &str) -> Place {
        let offset = offset.min(self.text.len());
        let line = self.lines.partition_point(|begin| *begin <= offset);
        let begin = self.lines[line.saturating_sub(1)];
        Place {
            file: self.file.to_owned(),
            line,
            column: self.text[begin..offset].chars().count() + 1,
            key: key.to_owned(),
        }
    }

    pub fn report(&self, offset: usize, key: &str, message: impl ToString) {
        if !self.is_full() {
            self.push(self.place(offset, key).problem(message));
        }
    }

    fn report_missing(
        &self,
        offset: usize,
        key: &str,
        missing: MissingKey,
        message: impl ToString,
    ) {
        if !self.is_full() {
            let mut problem = self.place(offset, key).problem(message);
            problem.missing = Some(Box::new(missing));
            self.push(problem);
        }
    }

    /// Whether something is wrong with a key already.
    fn has_said(&self, key: &str) -> bool {
        let problems = self.problems.borrow();
        problems.iter().any(|problem| problem.key == key)
    }

    fn push(&self, problem: Problem) {
        if !self.is_full() {
            self.problems.borrow_mut().push(problem);
        }
    }

    /// Whether so much is wrong already that more would help nobody.
    fn is_full(&self) -> bool {
        self.problems.borrow().len() >= limits::PROBLEMS
    }

    pub fn into_problems(self) -> Vec<Problem> {
        let mut problems = self.problems.into_inner();
        problems.sort_by_key(|problem| (problem.line, problem.column));
        problems
    }
}

/// A table being read. Every key asked for is known; [`Node::close`] reports the others.
pub(crate) struct Node<'a> {
    reader: &'a Reader<'a>,
    table: &'a dyn TableLike,
    path: String,
    offset: usize,
    known: RefCell<Vec<&'static str>>,
}

impl<'a> Node<'a> {
    pub fn new(
        reader: &'a Reader<'a>,
        table: &'a dyn TableLike,
        path: &str,
        offset: usize,
    ) -> Self {
        Self {
            reader,
            table,
            path: path.to_owned(),
            offset,
            known: RefCell::default(),
        }
    }

    /// The full path of a key of this table.
    pub fn path(&self, key: &str) -> String {
        if self.path.is_empty() {
            key.to_owned()
        } else {
            format!("{}.{key}", self.path)
        }
    }

    /// The place of the table itself.
    pub fn place(&self) -> Place {
        self.reader.place(self.offset, &self.path)
    }

    pub fn keys(&self) -> Vec<String> {
        self.table.iter().map(|(key, _)| key.to_owned()).collect()
    }

    /// Where a key stands; where the table does if it is not there.
    fn offset_of(&self, key: &str) -> usize {
        let span = self.table.get(key).and_then(Item::span);
        span.map_or(self.offset, |span| span.start)
    }

    pub fn report(&self, key: &str, message: impl ToString) {
        self.reader
            .report(self.offset_of(key), &self.path(key), message);
    }

    /// Reports something found later about a place that was read.
    pub fn report_at(&self, place: &Place, message: impl ToString) {
        self.reader.push(place.problem(message));
    }

    pub fn report_self(&self, message: impl ToString) {
        self.reader.report(self.offset, &self.path, message);
    }

    /// That this table must have a key and has not, with the words that it may be.
    pub fn report_missing(&self, key: &str, one_of: &[&str], message: impl ToString) {
        let missing = MissingKey {
            key: self.path(key),
            one_of: one_of.iter().map(|word| (*word).to_owned()).collect(),
        };
        self.reader
            .report_missing(self.offset, &self.path, missing, message);
    }

    /// That a key is empty or not there, and must hold something.
    pub fn report_empty(&self, key: &str, message: impl ToString) {
        let missing = MissingKey {
            key: self.path(key),
            one_of: Vec::new(),
        };
        self.reader
            .report_missing(self.offset_of(key), &self.path(key), missing, message);
    }

    pub fn has(&self, key: &str) -> bool {
        self.table.contains_key(key)
    }

    fn get(&self, key: &'static str) -> Option<&'a Item> {
        self.known.borrow_mut().push(key);
        self.table.get(key)
    }

    /// Points at a key that nobody has asked for and that reads nearly like a missing one.
    pub fn instead(&self, key: &str) -> String {
        let known = self.known.borrow();
        let others = self
            .table
            .iter()
            .map(|(other, _)| other)
            .filter(|other| !known.contains(other));
        nearest(key, others)
            .map(|other| format!("; \"{other}\" stands in its place"))
            .unwrap_or_default()
    }

    fn wrong_type(&self, key: &str, item: &Item, wanted: &str) {
        self.report(key, format!("must be {wanted}, but is {}", kind_of(item)));
    }

    pub fn text(&self, key: &'static str) -> Option<Placed<String>> {
        let item = self.get(key)?;
        let Some(text) = item.as_str() else {
            self.wrong_type(key, item, "a text in quotes");
            return None;
        };
        let offset = item.span().map_or(self.offset, |span| span.start);
        Some(Placed {
            value: text.to_owned(),
            place: self.reader.place(offset, &self.path(key)),
        })
    }

    /// A text that must be there and not be blank. Where it is missing, that is reported
    /// and an empty text stands in, so that reading can go on to the next problem.
    pub fn required(&self, key: &'static str) -> Placed<String> {
        let present = self.table.contains_key(key);
        match self.text(key) {
            Some(text) if !text.value.trim().is_empty() => text,
            found => {
                if found.is_some() {
                    self.report(key, "must not be empty");
                } else if !present {
                    let words = format!("the key \"{key}\" is missing here{}", self.instead(key));
                    self.report_missing(key, &[], words);
                }
                Placed {
                    value: String::new(),
                    place: self.place(),
                }
            }
        }
    }

    pub fn parsed<T>(&self, key: &'static str) -> Option<T>
    where
        T: FromStr,
        T::Err: fmt::Display,
    {
        let text = self.text(key)?;
        text.value
            .parse()
            .map_err(|error: T::Err| self.report(key, error.to_string()))
            .ok()
    }

    pub fn choice(&self, key: &'static str, words: &[&'static str]) -> Option<&'static str> {
        let text = self.text(key)?.value;
        let found = words.iter().find(|word| **word == text);
        if found.is_none() {
            let near = match renamed(&text).filter(|new| words.contains(new)) {
                Some(new) => format!(" It is called \"{new}\" now."),
                None => suggestion(&text, words.iter().copied()),
            };
            self.report(
                key,
                format!("\"{text}\" is not one of {}.{near}", quoted_list(words)),
            );
        }
        found.copied()
    }

    pub fn required_choice(
        &self,
        key: &'static str,
        words: &[&'static str],
    ) -> Option<&'static str> {
        if !self.table.contains_key(key) {
            self.get(key);
            let told = format!(
                "the key \"{key}\" is missing here{}; it is one of {}",
                self.instead(key),
                quoted_list(words)
            );
            self.report_missing(key, words, told);
            return None;
        }
        self.choice(key, words)
    }

    pub fn number(&self, key: &'static str) -> Option<f64> {
        let item = self.get(key)?;
        let number = item
            .as_float()
            .or_else(|| item.as_integer().map(|n| n as f64))
            .filter(|n| n.is_finite());
        if number.is_none() {
            self.wrong_type(key, item, "a number");
        }
        number
    }

    /// A list of numbers.
    pub fn numbers(&self, key: &'static str) -> Vec<f64> {
        let Some(item) = self.get(key) else {
            return Vec::new();
        };
        let number = |value: &toml_edit::Value| {
            value
                .as_float()
                .or_else(|| value.as_integer().map(|n| n as f64))
                .filter(|n| n.is_finite())
        };
        let count = item.as_array().map_or(0, toml_edit::Array::len);
        if self.are_too_many(key, count, limits::ENTRIES) {
            return Vec::new();
        }
        let numbers = item
            .as_array()
            .and_then(|array| array.iter().map(number).collect::<Option<Vec<f64>>>());
        numbers.unwrap_or_else(|| {
            self.wrong_type(key, item, "a list of numbers");
            Vec::new()
        })
    }

    /// `true` or `false`.
    pub fn truth(&self, key: &'static str) -> Option<bool> {
        let item = self.get(key)?;
        let truth = item.as_bool();
        if truth.is_none() {
            self.wrong_type(key, item, "true or false");
        }
        truth
    }

    /// A whole number within `range`.
    pub fn whole(&self, key: &'static str, range: std::ops::RangeInclusive<i64>) -> Option<i64> {
        let item = self.get(key)?;
        match item.as_integer() {
            Some(n) if range.contains(&n) => Some(n),
            Some(n) => {
                self.report(
                    key,
                    format!(
                        "must be between {} and {}, but is {n}",
                        range.start(),
                        range.end()
                    ),
                );
                None
            }
            None => {
                self.wrong_type(key, item, "a whole number");
                None
            }
        }
    }

    /// Whether a list is too long, which is reported.
    fn are_too_many(&self, key: &str, count: usize, most: usize) -> bool {
        if count > most {
            self.report(key, format!("has {count} entries; the limit is {most}"));
        }
        count > most
    }

    /// One text or a list of texts.
    pub fn texts(&self, key: &'static str) -> Vec<Placed<String>> {
        let Some(item) = self.get(key) else {
            return Vec::new();
        };
        let values: Vec<&toml_edit::Value> = match item.as_array() {
            Some(array) => array.iter().collect(),
            None => item.as_value().into_iter().collect(),
        };
        let mut texts = Vec::new();
        if self.are_too_many(key, values.len(), limits::ENTRIES) {
            return texts;
        }
        for (index, value) in values.iter().enumerate() {
            let offset = value.span().map_or(self.offset, |span| span.start);
            let path = if item.is_array() {
                format!("{}[{}]", self.path(key), index + 1)
            } else {
                self.path(key)
            };
            match value.as_str() {
                Some(text) => texts.push(Placed {
                    value: text.to_owned(),
                    place: self.reader.place(offset, &path),
                }),
                None => self.reader.report(
                    offset,
                    &path,
                    format!("must be a text in quotes, but is {}", value.type_name()),
                ),
            }
        }
        if values.is_empty() && !item.is_array() {
            self.wrong_type(key, item, "a text or a list of texts");
        }
        texts
    }

    pub fn table(&self, key: &'static str) -> Option<Node<'a>> {
        let item = self.get(key)?;
        match item.as_table_like() {
            Some(table) => Some(Node::new(
                self.reader,
                table,
                &self.path(key),
                item.span().map_or(self.offset, |span| span.start),
            )),
            None => {
                self.wrong_type(key, item, &format!("a table, written [{}]", self.path(key)));
                None
            }
        }
    }

    /// The entries of `[[key]]`.
    pub fn tables(&self, key: &'static str) -> Vec<Node<'a>> {
        let Some(item) = self.get(key) else {
            return Vec::new();
        };
        let entry =
            |index: usize, table: &'a dyn TableLike, span: Option<std::ops::Range<usize>>| {
                Node::new(
                    self.reader,
                    table,
                    &format!("{}[{}]", self.path(key), index + 1),
                    span.map_or(self.offset, |span| span.start),
                )
            };
        let listed = item.as_array_of_tables().map(|tables| tables.len());
        let inline = item.as_array().map(toml_edit::Array::len);
        if self.are_too_many(key, listed.or(inline).unwrap_or(0), limits::TABLES) {
            return Vec::new();
        }
        if let Some(tables) = item.as_array_of_tables() {
            return tables
                .iter()
                .enumerate()
                .map(|(i, table)| entry(i, table, table.span()))
                .collect();
        }
        if let Some(array) = item.as_array()
            && array.iter().all(|value| value.is_inline_table())
        {
            return array
                .iter()
                .enumerate()
                .filter_map(|(i, value)| Some(entry(i, value.as_inline_table()?, value.span())))
                .collect();
        }
        self.wrong_type(
            key,
            item,
            &format!("a list of tables, each written [[{}]]", self.path(key)),
        );
        Vec::new()
    }

    /// Marks a key as known that is read by [`Node::value_of`].
    /// Whether anything of the file is wrong so far.
    pub fn is_wrong(&self) -> bool {
        !self.reader.problems.borrow().is_empty()
    }

    pub fn known_key(&self, key: &'static str) {
        self.known.borrow_mut().push(key);
    }

    /// The raw value of a key that the caller names itself (parameter values).
    pub fn value_of(&self, key: &str) -> Option<(&'a toml_edit::Value, Place)> {
        let item = self.table.get(key)?;
        let offset = item.span().map_or(self.offset, |span| span.start);
        Some((item.as_value()?, self.reader.place(offset, &self.path(key))))
    }

    /// Reports every key that nobody asked for.
    pub fn close(self) {
        let known = self.known.borrow();
        for (key, item) in self.table.iter() {
            if !known.contains(&key)
                && !self.reader.is_full()
                && !self.reader.has_said(&self.path(key))
            {
                let offset = self
                    .table
                    .get_key_value(key)
                    .and_then(|(key, _)| key.span())
                    .or_else(|| item.span())
                    .map_or(self.offset, |span| span.start);
                let near = match renamed(key).filter(|new| known.contains(new)) {
                    Some(new) => format!(" It is called \"{new}\" now."),
                    None => suggestion(key, known.iter().copied()),
                };
                let mut words = known.clone();
                words.sort_unstable();
                words.dedup();
                self.reader.report(
                    offset,
                    &self.path(key),
                    format!(
                        "unknown key \"{key}\".{near} Known here: {}",
                        words.join(", ")
                    ),
                );
            }
        }
    }
}

/// Keys and words of definitions that had another name in early versions.
const RENAMED: [(&str, &str); 17] = [
    ("at-a-time", "max-concurrency"),
    ("at-once", "concurrency"),
    ("a-minute", "rate-per-minute"),
    ("give-up", "retry-for"),
    ("largest", "max-size"),
    ("most", "max-pages"),
    ("heading", "has-header"),
    ("thin", "downsample"),
    ("leaving", "unsubscribe"),
    ("look", "theme"),
    ("wording", "template"),
    ("theme", "mode"),
    ("keep", "filter"),
    ("choose", "select"),
    ("[look]", "[theme]"),
    ("[wording]", "[message-template]"),
    ("zone", "time-zone"),
];

/// What a word of an early version is called now.
pub(crate) fn renamed(old: &str) -> Option<&'static str> {
    RENAMED
        .iter()
        .find(|(known, _)| *known == old)
        .map(|(_, new)| *new)
}

fn kind_of(item: &Item) -> String {
    match item {
        Item::Value(value) => {
            let name = value.type_name();
            let article = if name.starts_with(['a', 'i']) {
                "an"
            } else {
                "a"
            };
            format!("{article} {name}")
        }
        Item::Table(_) => "a table".to_owned(),
        Item::ArrayOfTables(_) => "a list of tables".to_owned(),
        Item::None => "nothing".to_owned(),
    }
}
