//! A picture that is part of a definition.

use std::{collections::HashMap, str::FromStr};

use base64::{Engine, engine::general_purpose::STANDARD};
use roxmltree::{Document, Node};
use serde::{Deserialize, Serialize};

use crate::limits;

/// A picture's bytes and what they are.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Picture {
    /// `image/png`, `image/jpeg` or `image/svg+xml`.
    pub media_type: String,
    /// In base 64, as a data URL (RFC 2397) has them.
    pub base64: String,
}

/// Why a text is no picture.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum BadPicture {
    #[error("must be a data URL such as \"data:image/png;base64,…\" of a PNG, JPEG or SVG picture")]
    NotADataUrl,
    #[error("is larger than 1 MB; make the picture smaller")]
    TooLarge,
    #[error("cannot be read as a {0} picture")]
    Unreadable(&'static str),
    #[error(
        "has {width} × {height} pixels; the limit is {most} pixels in all",
        most = limits::PICTURE_PIXELS
    )]
    TooManyPixels { width: usize, height: usize },
    #[error(
        "draws more than {most} elements, or nests them more than {deep} deep; simplify the picture",
        most = limits::PICTURE_ELEMENTS,
        deep = limits::PICTURE_DEPTH
    )]
    TooIntricate,
    #[error("contains <{0}>, which is not supported; remove it, or use a PNG")]
    Element(&'static str),
}

/// What SVG has that makes a small file a lot of work, and no logo needs.
const NOT_DRAWN: [&str; 4] = ["filter", "image", "foreignObject", "script"];

impl FromStr for Picture {
    type Err = BadPicture;

    /// Reads a data URL. A picture is a part of its definition, so that a document can be
    /// made again from its snapshot alone.
    fn from_str(text: &str) -> Result<Self, BadPicture> {
        let (media_type, base64) = text
            .strip_prefix("data:")
            .and_then(|rest| rest.split_once(";base64,"))
            .ok_or(BadPicture::NotADataUrl)?;
        if !["image/png", "image/jpeg", "image/svg+xml"].contains(&media_type) {
            return Err(BadPicture::NotADataUrl);
        }
        let base64: String = base64.chars().filter(|c| !c.is_whitespace()).collect();
        if base64.is_empty()
            || !base64
                .chars()
                .all(|c| c.is_ascii_alphanumeric() || matches!(c, '+' | '/' | '='))
        {
            return Err(BadPicture::NotADataUrl);
        }
        if base64.len() > limits::PICTURE_BYTES {
            return Err(BadPicture::TooLarge);
        }
        let bytes = STANDARD.decode(&base64);
        let bytes = bytes.map_err(|_| BadPicture::NotADataUrl)?;
        match media_type {
            "image/svg+xml" => check_drawing(&bytes)?,
            "image/png" => check_pixels(&bytes, "PNG")?,
            _ => check_pixels(&bytes, "JPEG")?,
        }
        Ok(Self {
            media_type: media_type.to_owned(),
            base64,
        })
    }
}

fn check_pixels(bytes: &[u8], format: &'static str) -> Result<(), BadPicture> {
    let size = imagesize::blob_size(bytes).map_err(|_| BadPicture::Unreadable(format))?;
    if size.width.saturating_mul(size.height) > limits::PICTURE_PIXELS {
        return Err(BadPicture::TooManyPixels {
            width: size.width,
            height: size.height,
        });
    }
    Ok(())
}

fn check_drawing(bytes: &[u8]) -> Result<(), BadPicture> {
    let unreadable = BadPicture::Unreadable("SVG");
    let text = std::str::from_utf8(bytes).map_err(|_| unreadable)?;
    // Before it is read: what is nested is read by functions that call themselves.
    if text.matches('<').count() > 2 * limits::PICTURE_ELEMENTS {
        return Err(BadPicture::TooIntricate);
    }
    let document = Document::parse(text).map_err(|_| unreadable)?;
    let mut drawing = Drawing::default();
    for node in document.descendants().filter(Node::is_element) {
        let name = node.tag_name().name();
        if let Some(name) = NOT_DRAWN.iter().find(|other| **other == name) {
            return Err(BadPicture::Element(name));
        }
        if let Some(id) = node.attribute("id") {
            drawing.by_id.insert(id, node);
        }
    }
    match drawing.elements(document.root_element(), 0) {
        Some(count) if count <= limits::PICTURE_ELEMENTS => Ok(()),
        _ => Err(BadPicture::TooIntricate),
    }
}

/// Counts what an SVG picture draws.
#[derive(Default)]
struct Drawing<'d> {
    by_id: HashMap<&'d str, Node<'d, 'd>>,
    /// What is drawn for an element that was counted.
    counted: HashMap<roxmltree::NodeId, usize>,
}

impl<'d> Drawing<'d> {
    /// How many elements are drawn for one; nothing if it is too deep, as one is that uses
    /// itself.
    fn elements(&mut self, node: Node<'d, 'd>, depth: usize) -> Option<usize> {
        if depth > limits::PICTURE_DEPTH {
            return None;
        }
        if let Some(known) = self.counted.get(&node.id()) {
            return Some(*known);
        }
        let mut count = 1_usize;
        for child in node.children().filter(Node::is_element) {
            count = count.saturating_add(self.elements(child, depth + 1)?);
        }
        // Whatever refers to another element may draw it: by href, or by url(#…) in a style.
        for attribute in node.attributes() {
            let value = attribute.value();
            let direct = value
                .strip_prefix('#')
                .filter(|_| attribute.name() == "href");
            let named = value
                .split("url(#")
                .skip(1)
                .filter_map(|rest| rest.split(')').next());
            for id in direct.into_iter().chain(named) {
                let Some(target) = self.by_id.get(id).copied() else {
                    continue;
                };
                count = count.saturating_add(self.elements(target, depth + 1)?);
            }
        }
        self.counted.insert(node.id(), count);
        Some(count)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn svg(inside: &str) -> Result<Picture, BadPicture> {
        let text = format!(
            "<svg xmlns=\"http://www.w3.org/2000/svg\" xmlns:xlink=\"http://www.w3.org/1999/xlink\">{inside}</svg>"
        );
        format!("data:image/svg+xml;base64,{}", STANDARD.encode(text)).parse()
    }

    #[test]
    fn a_small_file_that_draws_a_lot_is_refused() {
        assert!(
            svg("<defs><linearGradient id='a'/></defs><g fill='url(#a)'><path d='M0 0'/></g>")
                .is_ok()
        );
        // Ten times as much on each level.
        let levels: String = (1..9)
            .map(|n| {
                format!(
                    "<g id='l{n}'>{}</g>",
                    format!("<use xlink:href='#l{}'/>", n - 1).repeat(10)
                )
            })
            .collect();
        let laughs = format!("<defs><rect id='l0'/>{levels}</defs><use href='#l8'/>");
        assert_eq!(svg(&laughs), Err(BadPicture::TooIntricate));
        assert_eq!(
            svg("<g id='a'><use href='#b'/></g><g id='b'><use href='#a'/></g>"),
            Err(BadPicture::TooIntricate)
        );
        let deep = |n: usize| format!("{}{}", "<g>".repeat(n), "</g>".repeat(n));
        assert!(svg(&deep(40)).is_ok());
        assert_eq!(svg(&deep(5_000)), Err(BadPicture::TooIntricate));
        assert_eq!(svg(&deep(100_000)), Err(BadPicture::TooIntricate));
        assert_eq!(
            svg("<filter id='f'><feTurbulence/></filter>"),
            Err(BadPicture::Element("filter"))
        );
        assert_eq!(svg("<g>"), Err(BadPicture::Unreadable("SVG")));
    }

    #[test]
    fn a_picture_of_too_many_pixels_is_refused_by_its_head() {
        let png = |width: u32, height: u32| {
            let mut bytes = b"\x89PNG\r\n\x1a\n\0\0\0\x0dIHDR".to_vec();
            bytes.extend(width.to_be_bytes());
            bytes.extend(height.to_be_bytes());
            bytes.extend([8, 6, 0, 0, 0, 0, 0, 0, 0]);
            format!("data:image/png;base64,{}", STANDARD.encode(bytes)).parse::<Picture>()
        };
        assert!(png(4_000, 4_000).is_ok());
        assert_eq!(
            png(20_000, 20_000),
            Err(BadPicture::TooManyPixels {
                width: 20_000,
                height: 20_000
            })
        );
        let words = "data:image/png;base64,bm8gcGljdHVyZQ==".parse::<Picture>();
        assert_eq!(words, Err(BadPicture::Unreadable("PNG")));
    }
}
