//! The web console, built by Vite and embedded in the binary.

use rocket::{
    http::{ContentType, Header},
    response::{Responder, Response},
};
use rust_embed::RustEmbed;

#[derive(RustEmbed)]
#[folder = "../../console/dist"]
#[allow_missing = true]
struct Files;

/// A file of the console. Its pages live behind one HTML file, so what is no file is that.
pub struct ConsoleFile {
    kind: ContentType,
    body: Vec<u8>,
    lasting: bool,
}

impl ConsoleFile {
    /// `base` is what stands before every path that people open.
    pub fn at(path: &str, base: &str) -> Option<Self> {
        let (path, file) = match Files::get(path) {
            Some(file) if !path.is_empty() => (path, file),
            _ if path.starts_with("assets/") => return None,
            _ => ("index.html", Files::get("index.html")?),
        };
        let kind = path
            .rsplit('.')
            .next()
            .and_then(ContentType::from_extension)
            .unwrap_or(ContentType::Binary);
        let body = match path {
            "index.html" if !base.is_empty() => based(&file.data, base).into_bytes(),
            _ => file.data.into_owned(),
        };
        Some(Self {
            kind,
            body,
            lasting: path.starts_with("assets/"),
        })
    }
}

/// The page with its own files, and what the console reads of where it is, under `base`.
fn based(page: &[u8], base: &str) -> String {
    let page = String::from_utf8_lossy(page);
    page.replace("=\"/", &format!("=\"{base}/")).replace(
        "name=\"base\" content=\"\"",
        &format!("name=\"base\" content=\"{base}\""),
    )
}

impl<'r> Responder<'r, 'static> for ConsoleFile {
    fn respond_to(self, request: &'r rocket::Request<'_>) -> rocket::response::Result<'static> {
        // Names under assets/ hold a digest of their content, so they never change.
        let cache = if self.lasting {
            "public, max-age=31536000, immutable"
        } else {
            "no-cache"
        };
        Response::build_from((self.kind, self.body).respond_to(request)?)
            .header(Header::new("Cache-Control", cache))
            .header(Header::new(
                "Content-Security-Policy",
                "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors 'self'; base-uri 'none'; form-action 'self'",
            ))
            .ok()
    }
}
