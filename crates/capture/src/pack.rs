//! Pictures in fewer bytes.

use oxipng::{FilterStrategy, Options, StripChunks, optimize_from_memory};

use crate::order::{Captured, Kept};

/// How much is tried. Pages are flat colours and letters, which are packed best as they are; what
/// more than this gains is a tenth, and takes five times as long.
const EFFORT: u8 = 0;

impl Captured {
    /// The same with its pictures in fewer bytes; every pixel of them stays as it is. Equal
    /// pictures stay equal. A picture that cannot be packed further is left alone.
    ///
    /// This is work for a processor: some tenths of a second for a large page.
    #[must_use]
    pub fn packed(mut self) -> Self {
        if let Kept::Look { parts, .. } = &mut self.kept {
            let mut options = Options::from_preset(EFFORT);
            options.strip = StripChunks::Safe;
            options.filters = [FilterStrategy::NONE].into_iter().collect();
            for part in parts {
                if let Ok(packed) = optimize_from_memory(&part.png, &options) {
                    part.png = packed;
                }
            }
        }
        self
    }
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use super::*;
    use crate::order::Part;

    fn captured(png: Vec<u8>) -> Captured {
        let part = Part {
            asked: None,
            title: String::new(),
            text: String::new(),
            x: 0,
            y: 0,
            width: 1,
            height: 1,
            cuts: Vec::new(),
            png,
        };
        Captured {
            title: String::new(),
            address: String::new(),
            browser: String::new(),
            finished_after: Duration::ZERO,
            steps: Vec::new(),
            note: None,
            kept: Kept::Look {
                parts: vec![part],
                width: 1,
                height: 1,
                printed: None,
            },
            outline: Vec::new(),
        }
    }

    fn packed(png: &[u8]) -> Vec<u8> {
        match captured(png.to_vec()).packed().kept {
            Kept::Look { mut parts, .. } => parts.remove(0).png,
            _ => unreachable!("it was a picture"),
        }
    }

    fn drawn(png: &[u8]) -> (u32, u32, Vec<u8>) {
        let picture = resvg::tiny_skia::Pixmap::decode_png(png).unwrap();
        (picture.width(), picture.height(), picture.take())
    }

    #[test]
    fn pictures_take_fewer_bytes_and_keep_every_pixel() {
        // Bars in few colours, packed badly.
        let mut picture = resvg::tiny_skia::Pixmap::new(640, 300).unwrap();
        for (place, pixel) in picture.pixels_mut().iter_mut().enumerate() {
            let bar = u8::try_from(place % 640 / 80).unwrap() * 30;
            *pixel = resvg::tiny_skia::ColorU8::from_rgba(bar, 40, 255 - bar, 255).premultiply();
        }
        let badly = Options {
            force: true,
            deflater: oxipng::Deflater::Libdeflater { compression: 0 },
            ..Options::from_preset(0)
        };
        let before = picture.encode_png().unwrap();
        let before = optimize_from_memory(&before, &badly).unwrap();
        let after = packed(&before);
        assert!(
            after.len() * 3 < before.len() * 2,
            "{} of {}",
            after.len(),
            before.len()
        );
        assert_eq!(drawn(&after), drawn(&before));
        assert_eq!(packed(&before), after, "equal ones stay equal");
        assert_eq!(packed(b"no picture"), b"no picture");
    }
}
