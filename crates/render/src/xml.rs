//! XML for programs (XML 1.0): the same words, figures and rows as JSON, under the same names.

use std::{borrow::Cow, fmt, io};

use quick_xml::{
    Writer,
    events::{BytesDecl, BytesEnd, BytesStart, BytesText, Event},
};
use serde::de::{DeserializeSeed, Deserializer as _, Error as _, MapAccess, SeqAccess, Visitor};

use crate::RenderError;

/// The namespace of what is written, with the version of the layout that JSON has, too.
const NAMESPACE: &str = "urn:maple-lark:document:";
/// Blanks for each level.
const INDENT: usize = 1;

/// A document's JSON as XML: an object is an element with one element for each of its names, a
/// list is an element of `item`s, and what is missing is an element with `nil="true"`. Signs that
/// XML cannot hold read as U+FFFD.
///
/// # Errors
/// If there is no room.
pub fn xml(json: &[u8], layout: u32) -> Result<Vec<u8>, RenderError> {
    let mut writer = Writer::new_with_indent(Vec::with_capacity(json.len() * 2), b' ', INDENT);
    writer.write_event(Event::Decl(BytesDecl::new("1.0", Some("UTF-8"), None)))?;
    let mut root = BytesStart::new("document");
    root.push_attribute(("xmlns", &*format!("{NAMESPACE}{layout}")));
    serde_json::Deserializer::from_slice(json)
        .deserialize_any(Element {
            writer: &mut writer,
            start: root,
        })
        .map_err(io::Error::other)?;
    let mut bytes = writer.into_inner();
    bytes.push(b'\n');
    Ok(bytes)
}

/// Writes one value as an element, as it is read.
struct Element<'a, 'n> {
    writer: &'a mut Writer<Vec<u8>>,
    start: BytesStart<'n>,
}

impl Element<'_, '_> {
    fn text<E: serde::de::Error>(self, text: &str) -> Result<(), E> {
        let text = possible(text);
        let end = self.start.to_end().into_owned();
        let mut write = || -> io::Result<()> {
            self.writer.write_event(Event::Start(self.start.borrow()))?;
            self.writer
                .write_event(Event::Text(BytesText::new(&text)))?;
            self.writer.write_event(Event::End(end.borrow()))
        };
        write().map_err(E::custom)
    }

    fn nil<E: serde::de::Error>(mut self) -> Result<(), E> {
        self.start.push_attribute(("nil", "true"));
        let written = self.writer.write_event(Event::Empty(self.start));
        written.map_err(E::custom)
    }

    fn empty<E: serde::de::Error>(self) -> Result<(), E> {
        let written = self.writer.write_event(Event::Empty(self.start));
        written.map_err(E::custom)
    }

    fn open<E: serde::de::Error>(&mut self) -> Result<BytesEnd<'static>, E> {
        let written = self.writer.write_event(Event::Start(self.start.borrow()));
        written.map_err(E::custom)?;
        Ok(self.start.to_end().into_owned())
    }
}

/// A text without signs that XML 1.0 cannot hold.
pub fn possible(text: &str) -> Cow<'_, str> {
    let holds = |c: char| matches!(c, '\t' | '\n' | '\r' | ' '..='\u{D7FF}' | '\u{E000}'..='\u{FFFD}' | '\u{10000}'..);
    if text.chars().all(holds) {
        return Cow::Borrowed(text);
    }
    let signs = text.chars();
    Cow::Owned(
        signs
            .map(|c| if holds(c) { c } else { '\u{FFFD}' })
            .collect(),
    )
}

/// Whether a name can be an element's; ours all can, and those of columns may not.
fn is_name(name: &str) -> bool {
    name.starts_with(|c: char| c.is_ascii_alphabetic() || c == '_')
        && name
            .chars()
            .all(|c| c.is_ascii_alphanumeric() || matches!(c, '_' | '-' | '.'))
}

impl<'de> DeserializeSeed<'de> for Element<'_, '_> {
    type Value = ();

    fn deserialize<D: serde::Deserializer<'de>>(self, deserializer: D) -> Result<(), D::Error> {
        deserializer.deserialize_any(self)
    }
}

/// An entry of a list, which is opened by its first.
struct Item<'l, 'a, 'n> {
    list: &'l mut Element<'a, 'n>,
    end: &'l mut Option<BytesEnd<'static>>,
}

impl<'de> DeserializeSeed<'de> for Item<'_, '_, '_> {
    type Value = ();

    fn deserialize<D: serde::Deserializer<'de>>(self, deserializer: D) -> Result<(), D::Error> {
        if self.end.is_none() {
            *self.end = Some(self.list.open()?);
        }
        deserializer.deserialize_any(Element {
            writer: self.list.writer,
            start: BytesStart::new("item"),
        })
    }
}

impl<'de> Visitor<'de> for Element<'_, '_> {
    type Value = ();

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("a value of JSON")
    }

    fn visit_bool<E: serde::de::Error>(self, truth: bool) -> Result<(), E> {
        self.text(if truth { "true" } else { "false" })
    }

    fn visit_i64<E: serde::de::Error>(self, number: i64) -> Result<(), E> {
        self.text(&number.to_string())
    }

    fn visit_u64<E: serde::de::Error>(self, number: u64) -> Result<(), E> {
        self.text(&number.to_string())
    }

    fn visit_f64<E: serde::de::Error>(self, number: f64) -> Result<(), E> {
        let written = serde_json::to_string(&number).map_err(E::custom)?;
        self.text(&written)
    }

    fn visit_str<E: serde::de::Error>(self, text: &str) -> Result<(), E> {
        self.text(text)
    }

    fn visit_unit<E: serde::de::Error>(self) -> Result<(), E> {
        self.nil()
    }

    fn visit_seq<A: SeqAccess<'de>>(mut self, mut list: A) -> Result<(), A::Error> {
        let mut end = None;
        while list
            .next_element_seed(Item {
                list: &mut self,
                end: &mut end,
            })?
            .is_some()
        {}
        let Some(end) = end else {
            return self.empty();
        };
        let written = self.writer.write_event(Event::End(end));
        written.map_err(A::Error::custom)
    }

    fn visit_map<A: MapAccess<'de>>(mut self, mut map: A) -> Result<(), A::Error> {
        let end = self.open()?;
        while let Some(name) = map.next_key::<String>()? {
            let start = if is_name(&name) {
                BytesStart::new(name)
            } else {
                let mut start = BytesStart::new("item");
                start.push_attribute(("name", &*possible(&name)));
                start
            };
            map.next_value_seed(Element {
                writer: self.writer,
                start,
            })?;
        }
        let written = self.writer.write_event(Event::End(end));
        written.map_err(A::Error::custom)
    }
}

#[cfg(test)]
mod tests {
    use super::xml;

    #[test]
    fn lists_names_and_what_is_missing_have_a_form_each() {
        let json = r#"{"layout":3,"title":"a < b & \"c\"\u0001","rows":[[1,null],[2.50,"x"]],"of":{"used [%]":true},"none":[]}"#;
        let written = String::from_utf8(xml(json.as_bytes(), 3).unwrap()).unwrap();
        assert_eq!(
            written,
            r#"<?xml version="1.0" encoding="UTF-8"?>
<document xmlns="urn:maple-lark:document:3">
 <layout>3</layout>
 <title>a &lt; b &amp; &quot;c&quot;�</title>
 <rows>
  <item>
   <item>1</item>
   <item nil="true"/>
  </item>
  <item>
   <item>2.5</item>
   <item>x</item>
  </item>
 </rows>
 <of>
  <item name="used [%]">true</item>
 </of>
 <none/>
</document>
"#
        );
    }
}
