//! A picture that is part of a definition.

use std::str::FromStr;

use serde::{Deserialize, Serialize};

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
}

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
        if base64.len() > 1_400_000 {
            return Err(BadPicture::TooLarge);
        }
        Ok(Self {
            media_type: media_type.to_owned(),
            base64,
        })
    }
}
