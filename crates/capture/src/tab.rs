//! One page of the browser in a context of its own, and what happens on it.

use std::{
    collections::{HashMap, HashSet},
    sync::{Arc, Mutex, PoisonError},
    time::{Duration, Instant},
};

use chromiumoxide::{
    Page,
    cdp::IntoEventKind,
    cdp::{
        browser_protocol::{
            browser::{BrowserContextId, EventDownloadProgress},
            emulation::{
                MediaFeature, SetDeviceMetricsOverrideParams, SetEmulatedMediaParams,
                SetLocaleOverrideParams, SetTimezoneOverrideParams,
            },
            fetch::{
                ContinueRequestParams, EnableParams, EventRequestPaused, HeaderEntry,
                RequestPattern,
            },
            network::{
                EventLoadingFailed, EventLoadingFinished, EventRequestWillBeSent,
                EventResponseReceived, ResourceType, SetUserAgentOverrideParams,
            },
            page::{
                CreateIsolatedWorldParams, DialogType, EventJavascriptDialogOpening,
                HandleJavaScriptDialogParams,
            },
            target::{CloseTargetParams, EventTargetCreated},
        },
        js_protocol::runtime::{EvaluateParams, ExecutionContextId, TimeDelta},
    },
};
use futures::{Stream, StreamExt};
use serde::de::DeserializeOwned;
use tokio::task::JoinSet;

use crate::{
    Order, Problem,
    fresh::{Crash, Fresh},
    gate::OpenGate,
    running::Running,
};

/// What the page is looked at with.
const SCRIPT: &str = include_str!("page.js");
/// How long one look at the page may take, in milliseconds.
const LOOK: f64 = 20_000.0;
/// A page of its own.
pub(crate) struct Tab<'o> {
    pub(crate) page: Page,
    pub(crate) order: &'o Order,
    pub(crate) running: &'o Running,
    pub(crate) context: BrowserContextId,
    pub(crate) gate: OpenGate,
    pub(crate) crash: Arc<Crash>,
    _watched: JoinSet<()>,
    pub(crate) seen: Arc<Seen>,
    world: Mutex<Option<ExecutionContextId>>,
    /// They listen as long as this lives.
    _listeners: JoinSet<()>,
}

/// What has happened on a page.
#[derive(Default)]
pub(crate) struct Seen {
    requests: Mutex<Requests>,
    pub(crate) download: Mutex<Option<EventDownloadProgress>>,
}

/// Events of one kind come in order, those of two kinds may not: a request can be heard of first
/// when it ends.
#[derive(Default)]
struct Requests {
    begun: HashSet<String>,
    ended: HashSet<String>,
    last: Option<Instant>,
    /// The requests that became, or did not become, the page, with what came of them.
    documents: HashMap<String, Document>,
    /// The last of them that began.
    document: Option<String>,
}

/// What came of a request for a whole page.
#[derive(Debug, Clone, Default)]
pub(crate) struct Document {
    pub(crate) status: Option<i64>,
    pub(crate) error: Option<String>,
}

impl Seen {
    /// For how long no request has been under way.
    pub(crate) fn quiet(&self) -> Duration {
        let requests = self.requests.lock().unwrap_or_else(PoisonError::into_inner);
        match requests.last {
            _ if !requests.begun.is_subset(&requests.ended) => Duration::ZERO,
            Some(last) => last.elapsed(),
            None => Duration::MAX,
        }
    }

    fn request(&self, change: impl FnOnce(&mut Requests)) {
        let mut requests = self.requests.lock().unwrap_or_else(PoisonError::into_inner);
        change(&mut requests);
        requests.last = Some(Instant::now());
    }

    /// Forgets the page that was there, before another is gone to.
    pub(crate) fn leave(&self) {
        self.request(|requests| requests.document = None);
    }

    /// What came of the last request for a whole page.
    pub(crate) fn document(&self) -> Option<Document> {
        let requests = self.requests.lock().unwrap_or_else(PoisonError::into_inner);
        let last = requests.document.as_ref()?;
        Some(requests.documents.get(last).cloned().unwrap_or_default())
    }
}

impl<'o> Tab<'o> {
    pub(crate) async fn open(running: &'o Running, order: &'o Order) -> Result<Self, Problem> {
        let opened = Self::open_once(running, order).await;
        match opened {
            // What was kept ready has crashed by itself: nothing of the order is in it yet.
            Err(Problem::Crashed) => Self::open_once(running, order).await,
            opened => opened,
        }
    }

    async fn open_once(running: &'o Running, order: &'o Order) -> Result<Self, Problem> {
        let fresh = running.ready.take(&running.browser).await?;
        fresh.gate.let_through(order.gate.clone());
        let (context, crash) = (fresh.context.clone(), fresh.crash.clone());
        let opened = tokio::select! {
            opened = Self::of(running, order, fresh) => opened,
            () = crash.happens() => Err(Problem::Crashed),
        };
        if opened.is_err() {
            running.dispose(context).await;
        }
        opened
    }

    async fn of(running: &'o Running, order: &'o Order, fresh: Fresh) -> Result<Self, Problem> {
        let mut tab = Self {
            page: fresh.page,
            order,
            running,
            context: fresh.context,
            gate: fresh.gate,
            crash: fresh.crash,
            _watched: fresh.watched,
            seen: Arc::default(),
            world: Mutex::default(),
            _listeners: JoinSet::new(),
        };
        tab.listen().await?;
        tab.look_as_asked().await?;
        Ok(tab)
    }

    /// Size, colours, style, zone and language.
    async fn look_as_asked(&self) -> Result<(), Problem> {
        let (view, page) = (&self.order.view, &self.page);
        let feature = |name: &str, value: &str| MediaFeature::new(name, value);
        let mut features = vec![feature("prefers-reduced-motion", "reduce")];
        if let Some(dark) = view.dark {
            let scheme = if dark { "dark" } else { "light" };
            features.push(feature("prefers-color-scheme", scheme));
        }
        let style = if view.print_style { "print" } else { "screen" };
        let media = SetEmulatedMediaParams::builder()
            .media(style)
            .features(features)
            .build();
        let zone = SetTimezoneOverrideParams::new(self.order.zone.as_str());
        let locale = SetLocaleOverrideParams::builder()
            .locale(view.locale.as_str())
            .build();
        let agent = SetUserAgentOverrideParams::builder()
            .user_agent(self.running.agent.as_str())
            .accept_language(view.locale.as_str())
            .build()
            .map_err(Problem::Protocol)?;
        let told = async {
            tokio::try_join!(
                page.execute(media),
                page.execute(zone),
                page.execute(locale),
                page.execute(agent)
            )
            .map_err(Problem::from)
        };
        tokio::try_join!(told, self.resize(view.height, view.scale))?;
        Ok(())
    }

    pub(crate) async fn resize(&self, height: u32, scale: u32) -> Result<(), Problem> {
        let width = i64::from(self.order.view.width);
        let metrics = SetDeviceMetricsOverrideParams::new(width, height, f64::from(scale), false);
        self.page.execute(metrics).await?;
        Ok(())
    }

    async fn events<T: IntoEventKind + Unpin>(
        &self,
    ) -> Result<impl Stream<Item = Arc<T>> + use<T>, Problem> {
        Ok(self.page.event_listener::<T>().await?)
    }

    #[expect(clippy::too_many_lines, reason = "one listener after the other")]
    async fn listen(&mut self) -> Result<(), Problem> {
        let browser = &self.running.browser;
        let mut listeners = JoinSet::new();

        let (mut events, seen) = (
            self.events::<EventRequestWillBeSent>().await?,
            self.seen.clone(),
        );
        let main = self.page.mainframe().await?;
        let of = main.clone();
        listeners.spawn(async move {
            while let Some(event) = events.next().await {
                if event.r#type == Some(ResourceType::Document) && event.frame_id == of {
                    seen.request(|requests| {
                        requests.document = Some(event.request_id.inner().clone());
                        // What the page before still asked for is not heard of again.
                        requests.begun.clear();
                    });
                }
                // These stay open by design.
                let stays = matches!(
                    event.r#type,
                    Some(ResourceType::EventSource | ResourceType::WebSocket | ResourceType::Ping)
                );
                if !stays {
                    seen.request(|requests| {
                        requests.begun.insert(event.request_id.inner().clone());
                    });
                }
            }
        });
        let (mut events, seen) = (
            self.events::<EventLoadingFinished>().await?,
            self.seen.clone(),
        );
        listeners.spawn(async move {
            while let Some(event) = events.next().await {
                seen.request(|requests| {
                    requests.ended.insert(event.request_id.inner().clone());
                });
            }
        });
        let (mut events, seen) = (
            self.events::<EventLoadingFailed>().await?,
            self.seen.clone(),
        );
        listeners.spawn(async move {
            while let Some(event) = events.next().await {
                let id = event.request_id.inner();
                seen.request(|requests| {
                    requests.ended.insert(id.clone());
                    if event.r#type == ResourceType::Document {
                        requests.documents.entry(id.clone()).or_default().error =
                            Some(event.error_text.clone());
                    }
                });
            }
        });
        let (mut events, seen) = (
            self.events::<EventResponseReceived>().await?,
            self.seen.clone(),
        );
        listeners.spawn(async move {
            while let Some(event) = events.next().await {
                if event.r#type == ResourceType::Document && event.frame_id == main {
                    let id = event.request_id.inner().clone();
                    seen.request(|requests| {
                        requests.documents.entry(id).or_default().status =
                            Some(event.response.status);
                    });
                }
            }
        });
        let mut events = self.events::<EventJavascriptDialogOpening>().await?;
        let page = self.page.clone();
        listeners.spawn(async move {
            while let Some(event) = events.next().await {
                // Who wants to leave, leaves; everything else is answered with no.
                let leaves = event.r#type == DialogType::Beforeunload;
                let _ = page
                    .execute(HandleJavaScriptDialogParams::new(leaves))
                    .await;
            }
        });
        let mut events = browser.event_listener::<EventTargetCreated>().await?;
        let (close, context, own) = (
            self.page.clone(),
            self.context.clone(),
            self.page.target_id().clone(),
        );
        listeners.spawn(async move {
            while let Some(event) = events.next().await {
                let target = &event.target_info;
                if target.browser_context_id.as_ref() == Some(&context)
                    && target.target_id != own
                    && target.r#type == "page"
                {
                    let _ = close
                        .execute(CloseTargetParams::new(target.target_id.clone()))
                        .await;
                }
            }
        });
        let (mut events, seen) = (
            browser.event_listener::<EventDownloadProgress>().await?,
            self.seen.clone(),
        );
        listeners.spawn(async move {
            while let Some(event) = events.next().await {
                *seen.download.lock().unwrap_or_else(PoisonError::into_inner) =
                    Some((*event).clone());
            }
        });
        if !self.order.headers.is_empty() {
            listeners.spawn(self.signed().await?);
        }
        self._listeners = listeners;
        Ok(())
    }

    /// Puts the source's headers on requests to its own origin, hop by hop, so that they are
    /// carried nowhere else.
    async fn signed(&self) -> Result<impl Future<Output = ()> + use<>, Problem> {
        let mut events = self.events::<EventRequestPaused>().await?;
        let origin = self.order.address.origin().ascii_serialization();
        let pattern = RequestPattern::builder()
            .url_pattern(format!("{origin}/*"))
            .build();
        let enable = EnableParams::builder().pattern(pattern).build();
        self.page.execute(enable).await?;
        let (page, headers, origin) = (
            self.page.clone(),
            self.order.headers.clone(),
            self.order.address.origin(),
        );
        Ok(async move {
            while let Some(event) = events.next().await {
                let mut request = ContinueRequestParams::new(event.request_id.clone());
                let same = url::Url::parse(&event.request.url)
                    .is_ok_and(|address| address.origin() == origin);
                if same {
                    request.headers = Some(with_headers(event.request.headers.inner(), &headers));
                }
                let _ = page.execute(request).await;
            }
        })
    }

    /// Asks the script that looks at pages, in a world that the page's own scripts do not share.
    pub(crate) async fn look<T: DeserializeOwned>(&self, call: &str) -> Result<T, Problem> {
        // A page that goes elsewhere meanwhile takes the world with it.
        let mut last = None;
        for _ in 0..5 {
            let world = self.in_own_world().await?;
            match self.evaluate(&format!("lark.{call}"), Some(world)).await {
                Ok(value) => {
                    return serde_json::from_value(value)
                        .map_err(|error| Problem::Protocol(error.to_string()));
                }
                Err(Problem::Ended) => return Err(Problem::Ended),
                Err(problem) => {
                    *self.world.lock().unwrap_or_else(PoisonError::into_inner) = None;
                    last = Some(problem);
                    tokio::time::sleep(Duration::from_millis(50)).await;
                }
            }
        }
        Err(last.unwrap_or(Problem::Ended))
    }

    async fn in_own_world(&self) -> Result<ExecutionContextId, Problem> {
        let known = *self.world.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(known) = known {
            return Ok(known);
        }
        let main = self.page.mainframe().await?.ok_or(Problem::Ended)?;
        let world = CreateIsolatedWorldParams::builder()
            .frame_id(main)
            .world_name("maple-lark")
            .build()
            .map_err(Problem::Protocol)?;
        let world = self.page.execute(world).await?.result.execution_context_id;
        let script = format!("globalThis.lark = (() => {{ {SCRIPT}; return lark; }})(); true");
        self.evaluate(&script, Some(world)).await?;
        *self.world.lock().unwrap_or_else(PoisonError::into_inner) = Some(world);
        Ok(world)
    }

    /// The value of an expression, in the page's own world unless another is named.
    pub(crate) async fn evaluate(
        &self,
        expression: &str,
        world: Option<ExecutionContextId>,
    ) -> Result<serde_json::Value, Problem> {
        let mut evaluate = EvaluateParams::builder()
            .expression(expression)
            .return_by_value(true)
            .await_promise(true)
            .silent(true)
            .timeout(TimeDelta::new(LOOK));
        if let Some(world) = world {
            evaluate = evaluate.context_id(world);
        }
        let evaluate = evaluate.build().map_err(Problem::Protocol)?;
        let returned = self.page.execute(evaluate).await?.result;
        if let Some(exception) = returned.exception_details {
            let said = exception
                .exception
                .and_then(|object| object.description)
                .unwrap_or(exception.text);
            let first = said.lines().next().unwrap_or_default();
            return Err(Problem::Expression(first.chars().take(300).collect()));
        }
        Ok(returned.result.value.unwrap_or_default())
    }
}

/// A request's own headers with those of the source in their place.
fn with_headers(own: &serde_json::Value, headers: &[(String, String)]) -> Vec<HeaderEntry> {
    let own = own.as_object().into_iter().flatten();
    own.filter(|(name, _)| {
        !headers
            .iter()
            .any(|(other, _)| other.eq_ignore_ascii_case(name))
    })
    .filter_map(|(name, value)| Some(HeaderEntry::new(name.clone(), value.as_str()?)))
    .chain(
        headers
            .iter()
            .map(|(name, value)| HeaderEntry::new(name.clone(), value.clone())),
    )
    .collect()
}
