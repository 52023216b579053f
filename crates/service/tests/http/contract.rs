//! The interface keeps to its description, whatever it is asked: values of every shape, made
//! from the description itself, in every operation.
//!
//! `MAPLE_LARK_CALLS=10000` asks longer than a test of every day does.

use std::collections::BTreeMap;

use jsonschema::Validator;
use proptest::{
    prelude::*,
    strategy::{BoxedStrategy, Union, ValueTree},
    test_runner::TestRunner,
};
use reqwest::{Client, Method};
use serde_json::{Map, Value, json};

use super::Place;

/// What ends the sign-in that it is asked with, or goes on without end.
const NOT_ASKED: [&str; 4] = [
    "follow_run",
    "revoke_token",
    "sign_out",
    "sign_out_everywhere",
];
const CALLS: usize = 700;

/// Words that mean something here, and some that would elsewhere.
fn word() -> BoxedStrategy<String> {
    let known = prop::sample::select(vec![
        "r",
        "d",
        "plain",
        "q",
        "report",
        "dashboard",
        "source",
        "secrets",
        "a",
        "",
        "UTC",
        "Atlantic/Faroe",
        "2026-11-01",
        "2026-11-20",
        "2026-10-25T00:00:00Z",
        "0000-00-00",
        "+262142-01-01T00:00:00Z",
        "019a0000-0000-7000-8000-000000000000",
        "csv",
        "pdf",
        "all",
        "../../etc/passwd",
        "%00",
        "' or 1=1 --",
        "ann@orrin-sound.example",
        "previous",
        "1",
        "-1",
        "9223372036854775807",
        "select 1",
        "select pg_sleep(0)",
        "\u{202e}x",
        "{{ x }}",
    ]);
    prop_oneof![6 => known.prop_map(str::to_owned), 1 => any::<String>(), 1 => "[a-z-]{1,20}"]
        .boxed()
}

fn anything() -> BoxedStrategy<Value> {
    prop_oneof![
        Just(Value::Null),
        any::<bool>().prop_map(Value::from),
        any::<i64>().prop_map(Value::from),
        any::<f64>().prop_map(Value::from),
        word().prop_map(Value::from),
        Just(json!([])),
        Just(json!({ "a": [1] })),
    ]
    .boxed()
}

struct Description(Value);

impl Description {
    fn resolve<'d>(&'d self, mut schema: &'d Value) -> &'d Value {
        while let Some(reference) = schema["$ref"].as_str() {
            schema = self.0.pointer(reference.trim_start_matches('#')).unwrap();
        }
        schema
    }

    /// Values of a schema, of which one in twelve is something else.
    fn values(&self, schema: &Value, depth: usize) -> BoxedStrategy<Value> {
        prop_oneof![11 => self.fitting(schema, depth), 1 => anything()].boxed()
    }

    fn fitting(&self, schema: &Value, depth: usize) -> BoxedStrategy<Value> {
        let schema = self.resolve(schema);
        if depth > 6 {
            return anything();
        }
        for one_of in ["oneOf", "anyOf", "allOf"] {
            if let Some(kinds) = schema[one_of].as_array() {
                return Union::new(kinds.iter().map(|kind| self.values(kind, depth + 1))).boxed();
            }
        }
        if let Some(words) = schema["enum"].as_array() {
            return prop::sample::select(words.clone()).boxed();
        }
        let kind = match &schema["type"] {
            Value::Array(kinds) => kinds[0].as_str().unwrap(),
            kind => kind.as_str().unwrap_or_default(),
        };
        match kind {
            "boolean" => any::<bool>().prop_map(Value::from).boxed(),
            "integer" => prop::sample::select(vec![0, 1, 2, 20, 1000, -1, i64::MAX, i64::MIN])
                .prop_map(Value::from)
                .boxed(),
            "number" => any::<f64>().prop_map(Value::from).boxed(),
            "string" => word().prop_map(Value::from).boxed(),
            "array" => prop::collection::vec(self.values(&schema["items"], depth + 1), 0..3)
                .prop_map(Value::from)
                .boxed(),
            "object" => self.object(schema, depth),
            _ => anything(),
        }
    }

    fn object(&self, schema: &Value, depth: usize) -> BoxedStrategy<Value> {
        let required = schema["required"].as_array().cloned().unwrap_or_default();
        let mut all = Just(Map::new()).boxed();
        for (name, about) in schema["properties"].as_object().into_iter().flatten() {
            let given = if required.contains(&json!(name)) {
                0.97
            } else {
                0.4
            };
            let value = prop::option::weighted(given, self.values(about, depth + 1));
            let name = name.clone();
            all = (all, value)
                .prop_map(move |(mut all, value)| {
                    all.extend(value.map(|value| (name.clone(), value)));
                    all
                })
                .boxed();
        }
        (all, prop::bool::weighted(0.03))
            .prop_map(|(mut all, more)| {
                if more {
                    all.insert("unheard-of".to_owned(), Value::Bool(true));
                }
                Value::Object(all)
            })
            .boxed()
    }

    fn validator(&self, schema: &Value) -> Validator {
        let mut whole = schema.clone();
        whole["components"] = self.0["components"].clone();
        jsonschema::validator_for(&whole).unwrap()
    }
}

/// One operation, ready to be asked.
struct Operation {
    name: String,
    method: Method,
    path: String,
    /// Where a parameter stands, its name, and its values; without one now and then.
    parameters: Vec<(String, String, BoxedStrategy<Option<Value>>)>,
    body: Option<BoxedStrategy<Value>>,
    /// By status: the media type and what its content must be.
    answers: BTreeMap<String, (Option<String>, Option<Validator>)>,
}

fn operations(description: &Description) -> Vec<Operation> {
    let mut all = Vec::new();
    for (path, methods) in description.0["paths"].as_object().unwrap() {
        let base = if methods.get("servers").is_some() {
            ""
        } else {
            "/api/v1"
        };
        for (method, about) in methods.as_object().unwrap() {
            let Some(name) = about["operationId"].as_str() else {
                continue;
            };
            if NOT_ASKED.contains(&name) {
                continue;
            }
            let parameter = |about: &Value| {
                let is_needed = about["required"] == true;
                let given = if is_needed { 0.98 } else { 0.3 };
                let text = |key: &str| about[key].as_str().unwrap().to_owned();
                let values = description.values(&about["schema"], 0);
                let values = if about["in"] == "path" {
                    values.prop_map(Some).boxed()
                } else {
                    prop::option::weighted(given, values).boxed()
                };
                (text("in"), text("name"), values)
            };
            let body = &about["requestBody"]["content"]["application/json"]["schema"];
            let answer = |about: &Value| {
                let content = about["content"].as_object();
                let content = content.and_then(|content| content.iter().next());
                let schema = content.map(|(_, content)| &content["schema"]);
                let is_json = content.is_some_and(|(kind, _)| kind.contains("json"));
                (
                    content.map(|(kind, _)| kind.clone()),
                    schema
                        .filter(|_| is_json)
                        .map(|schema| description.validator(schema)),
                )
            };
            let answers = about["responses"].as_object().unwrap();
            all.push(Operation {
                name: name.to_owned(),
                method: method.to_uppercase().parse().unwrap(),
                path: format!("{base}{path}"),
                parameters: about["parameters"]
                    .as_array()
                    .into_iter()
                    .flatten()
                    .map(parameter)
                    .collect(),
                body: (!body.is_null()).then(|| description.values(body, 0)),
                answers: answers
                    .iter()
                    .map(|(status, about)| (status.clone(), answer(about)))
                    .collect(),
            });
        }
    }
    all
}

fn as_text(value: &Value) -> String {
    value
        .as_str()
        .map_or_else(|| value.to_string(), str::to_owned)
}

#[tokio::test(flavor = "multi_thread")]
async fn whatever_is_asked_the_answer_is_as_described() {
    let place = Place::new().await;
    let client = Client::new();
    let token = place.signed_in("administrator").await;
    place.with_report(&client, &token).await;
    let text = include_str!("../../../../docs/openapi.json");
    let description = Description(serde_json::from_str(text).unwrap());
    let operations = operations(&description);
    let calls = std::env::var("MAPLE_LARK_CALLS")
        .ok()
        .map_or(CALLS, |calls| calls.parse().unwrap());
    let mut runner = TestRunner::deterministic();
    let mut answered: BTreeMap<String, usize> = BTreeMap::new();
    for operation in operations.iter().cycle().take(calls) {
        let mut path = operation.path.clone();
        let mut query = Vec::new();
        let mut headers = Vec::new();
        for (place, name, values) in &operation.parameters {
            let Some(value) = values.new_tree(&mut runner).unwrap().current() else {
                continue;
            };
            let value = as_text(&value);
            match place.as_str() {
                "path" => {
                    let value = url_encoded(&value);
                    path = path.replace(&format!("{{{name}}}"), &value);
                }
                "query" => query.push((name.clone(), value)),
                _ => headers.extend(
                    reqwest::header::HeaderValue::from_str(&value)
                        .ok()
                        .map(|value| (name.clone(), value)),
                ),
            }
        }
        let mut request = client
            .request(operation.method.clone(), format!("{}{path}", place.base))
            .query(&query)
            .bearer_auth(&token);
        for (name, value) in headers {
            request = request.header(name, value);
        }
        let body = operation
            .body
            .as_ref()
            .map(|values| values.new_tree(&mut runner).unwrap().current());
        if let Some(body) = &body {
            request = request.json(body);
        }
        let answer = request.send().await.unwrap();
        let status = answer.status();
        let asked = format!(
            "{} {} {path} {query:?} {body:?}: {status}",
            operation.name, operation.method
        );
        let kind = answer
            .headers()
            .get("content-type")
            .map(|kind| kind.to_str().unwrap().to_owned());
        let bytes = answer.bytes().await.unwrap();
        let said = || {
            String::from_utf8_lossy(&bytes)
                .chars()
                .take(2000)
                .collect::<String>()
        };
        assert!(!status.is_server_error(), "{asked}\n{}", said());
        *answered.entry(status.to_string()).or_default() += 1;
        // A path that a value makes another one is answered without the operation.
        let described = operation.answers.get(status.as_str()).or_else(|| {
            status
                .is_client_error()
                .then(|| operation.answers.get("default"))
                .flatten()
        });
        let Some((media_type, content)) = described else {
            panic!("{asked} is not described\n{}", said());
        };
        if let Some(media_type) = media_type {
            let kind = kind.unwrap_or_default();
            assert!(kind.starts_with(media_type), "{asked}: {kind}");
        }
        if let Some(content) = content {
            let value: Value = serde_json::from_slice(&bytes).unwrap();
            let wrong: Vec<String> = content
                .iter_errors(&value)
                .map(|error| format!("{}: {error}", error.instance_path()))
                .collect();
            assert!(wrong.is_empty(), "{asked}\n{wrong:?}\n{}", said());
        }
    }
    println!("{answered:?}");
    assert!(
        answered.contains_key("200 OK") && answered.len() > 4,
        "{answered:?}"
    );
}

/// Every sign that means something in an address is written as a number.
fn url_encoded(text: &str) -> String {
    let mut url = reqwest::Url::parse("http://x/").unwrap();
    url.path_segments_mut().unwrap().pop().push(text);
    match url.path().trim_start_matches('/') {
        // The address of another operation.
        "" => "nothing".to_owned(),
        encoded => encoded.to_owned(),
    }
}
