//! A stand-in live page, and orders for captures of it.

use std::sync::Arc;

use maple_lark_capture::{
    Act, Browser, Captured, Failed, Gate, Kept, Order, Part, Settings, Typed,
};
use maple_lark_definition::{Finished, Keep, PageStep, PageView, PartAsk};
use maple_lark_demo::{WebServices, live_page};
use url::Url;

pub fn open_gate() -> Gate {
    Arc::new(|host, port| {
        Box::pin(async move {
            if port == 9 || host == "169.254.169.254" {
                return Err("it is out of bounds".into());
            }
            Ok(tokio::net::lookup_host((host, port)).await?.collect())
        })
    })
}

pub struct Office {
    pub web: WebServices,
    pub browser: Arc<Browser>,
}

impl Office {
    pub async fn new() -> Self {
        Self::with(Settings::default()).await
    }

    pub async fn with(settings: Settings) -> Self {
        Self {
            web: WebServices::start().await.unwrap(),
            browser: Browser::new(settings),
        }
    }

    pub fn order(&self, path: &str) -> Order {
        let address = self.web.url(&format!("/port-office/{path}"));
        Order {
            view: PageView {
                width: 1000,
                height: 700,
                scale: 1,
                ..PageView::default()
            },
            zone: "Atlantic/Faroe".to_owned(),
            ..Order::of(
                "port-office".to_owned(),
                Url::parse(&address).unwrap(),
                open_gate(),
            )
        }
    }

    pub fn board(&self) -> Order {
        Order {
            sign_in: door(live_page::PASSWORD),
            finished: Finished {
                there: vec!["body.complete".to_owned()],
                ..Finished::default()
            },
            hide: vec!["nav".to_owned(), "#consent".to_owned()],
            ..self.order("board?from=2026-07-06T00:00:00Z&to=2026-07-13T00:00:00Z")
        }
    }

    pub async fn captured(&self, order: &Order) -> Captured {
        self.browser
            .capture(order)
            .await
            .unwrap_or_else(|failed| panic!("{}: {:?}", failed.problem, failed.steps))
    }

    pub async fn failed(&self, order: &Order) -> Failed {
        *self.browser.capture(order).await.unwrap_err()
    }

    pub async fn sign_ins(&self) -> usize {
        let order = Order {
            keep: keep_text(),
            ..self.order("sign-ins")
        };
        parts(&self.captured(&order).await)[0].text.parse().unwrap()
    }
}

pub fn keep_text() -> Keep {
    Keep::Look {
        parts: Vec::new(),
        printed: false,
    }
}

pub fn typed(text: &str, secret: bool) -> Typed {
    Typed {
        text: text.to_owned(),
        secret_for: secret.then(|| vec!["127.0.0.1".to_owned()]),
    }
}

pub fn door(password: &str) -> Vec<Act> {
    vec![
        PageStep::Open("/port-office/sign-in".to_owned()),
        PageStep::Fill {
            field: "Name".to_owned(),
            with: typed(live_page::USER, false),
        },
        PageStep::Fill {
            field: "#pass".to_owned(),
            with: typed(password, true),
        },
        PageStep::Press("Sign in".to_owned()),
        PageStep::WaitFor("#berths".to_owned()),
    ]
}

pub fn parts(captured: &Captured) -> &[Part] {
    let Kept::Look { parts, .. } = &captured.kept else {
        panic!("no look")
    };
    parts
}

pub fn part(selector: &str) -> PartAsk {
    PartAsk {
        selector: selector.to_owned(),
        title: None,
        description: None,
    }
}

pub fn look_at(selectors: &[&str]) -> Keep {
    Keep::Look {
        parts: selectors.iter().map(|selector| part(selector)).collect(),
        printed: false,
    }
}

pub async fn words(office: &Office, order: &Order) -> String {
    parts(&office.captured(order).await)[0].text.clone()
}
