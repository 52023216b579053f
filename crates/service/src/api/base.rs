//! The path under which people reach the service, where it is not the root of its address.

use std::sync::Arc;

use rocket::{
    Data, Request,
    fairing::{Fairing, Info, Kind},
};

use crate::Config;

/// Takes the path of `public-url` off what is asked for. A proxy may have done so already, and who is on the
/// machine itself need not know of it, so what lacks it is answered, too.
pub struct Base;

#[rocket::async_trait]
impl Fairing for Base {
    fn info(&self) -> Info {
        Info {
            name: "base",
            kind: Kind::Request,
        }
    }

    async fn on_request(&self, request: &mut Request<'_>, _: &mut Data<'_>) {
        let config = request.rocket().state::<Arc<Config>>();
        let base = config.map_or("", |config| config.base());
        if base.is_empty() {
            return;
        }
        let rest = request.uri().path().as_str().strip_prefix(base);
        let Some(rest) = rest.filter(|rest| rest.is_empty() || rest.starts_with('/')) else {
            return;
        };
        let query = request.uri().query().map(|query| format!("?{query}"));
        let rest = if rest.is_empty() { "/" } else { rest };
        let uri = format!("{rest}{}", query.unwrap_or_default());
        if let Ok(uri) = rocket::http::uri::Origin::parse_owned(uri) {
            request.set_uri(uri);
        }
    }
}
