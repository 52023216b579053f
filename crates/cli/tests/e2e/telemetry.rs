//! Traces of runs and the service's own measures, at a collector.

use maple_lark_demo::WebReceiver;
use opentelemetry_proto::tonic::{
    collector::{metrics::v1::ExportMetricsServiceRequest, trace::v1::ExportTraceServiceRequest},
    common::v1::any_value::Value as AnyValue,
    trace::v1::{Span, status::StatusCode},
};
use prost::Message;

use crate::place::{Place, small_report, until};

/// The spans that the collector has got of a run.
fn spans(collector: &WebReceiver, run: &str) -> Vec<Span> {
    let trace = uuid::Uuid::parse_str(run).unwrap().as_bytes().to_vec();
    let posted = collector.received().into_iter();
    let traces = posted.filter(|request| request.path == "/v1/traces");
    traces
        .map(|request| ExportTraceServiceRequest::decode(&request.body[..]).unwrap())
        .flat_map(|request| request.resource_spans)
        .flat_map(|resource| resource.scope_spans)
        .flat_map(|scope| scope.spans)
        .filter(|span| span.trace_id == trace)
        .collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_run_is_a_trace_and_measures_are_sent() {
    let place = Place::new().await;
    let folder = tempfile::TempDir::new().unwrap();
    let collector = WebReceiver::start("127.0.0.1:0", folder.path().to_owned())
        .await
        .unwrap();
    let token = folder.path().join("token");
    std::fs::write(&token, "Bearer quay-2\n").unwrap();
    place.add_to_configuration(&format!(
        "\n[telemetry]\nendpoint = \"http://{}\"\nheaders = {{ authorization = \"file:{}\" }}\nevery = \"PT1S\"\n",
        collector.address,
        token.display()
    ));
    // What is refused comes again.
    collector.refuse(&[503]);
    let _service = place.serve();
    place.sign_in();
    place.apply_small(&small_report());
    let run = place.json(&["run", "small"]);
    let id = run["id"].as_str().unwrap();
    let all = until("the trace", || {
        let all = spans(&collector, id);
        (!all.is_empty()).then_some(all)
    });
    let root = all
        .iter()
        .find(|span| span.parent_span_id.is_empty())
        .unwrap();
    assert_eq!(root.name, "run small");
    assert_eq!(
        root.status.as_ref().unwrap().code,
        i32::from(StatusCode::Ok)
    );
    let names: Vec<&str> = all.iter().map(|span| span.name.as_str()).collect();
    for wanted in ["due", "collect small / q", "attempt"] {
        assert!(names.contains(&wanted), "{wanted} in {names:?}");
    }
    for kind in ["snapshot ", "render "] {
        assert!(
            names.iter().any(|name| name.starts_with(kind)),
            "{kind} in {names:?}"
        );
    }
    assert_eq!(
        names.iter().filter(|name| **name == "attempt").count(),
        run["deliveries"].as_array().unwrap().len()
    );
    let mut numbers: Vec<&[u8]> = all.iter().map(|span| &span.span_id[..]).collect();
    numbers.sort_unstable();
    numbers.dedup();
    assert_eq!(
        numbers.len(),
        all.len(),
        "each span has a number of its own"
    );
    for span in &all {
        assert!(
            span.start_time_unix_nano > 0 && span.end_time_unix_nano >= span.start_time_unix_nano
        );
        assert!(span.parent_span_id.is_empty() || span.parent_span_id == root.span_id);
    }
    assert!(!format!("{all:?}").contains('@'), "nobody is named");

    let measures: Vec<_> = collector
        .received()
        .into_iter()
        .filter(|request| request.path == "/v1/metrics")
        .collect();
    let last = measures.last().unwrap();
    assert_eq!(last.header("authorization"), Some("Bearer quay-2"));
    assert_eq!(last.header("content-type"), Some("application/x-protobuf"));
    let request = ExportMetricsServiceRequest::decode(&last.body[..]).unwrap();
    let resource = &request.resource_metrics[0];
    let service = &resource.resource.as_ref().unwrap().attributes[0];
    assert_eq!(
        service.value.as_ref().unwrap().value,
        Some(AnyValue::StringValue("maple-lark".into()))
    );
    let names: Vec<&str> = resource.scope_metrics[0]
        .metrics
        .iter()
        .map(|metric| metric.name.as_str())
        .collect();
    assert!(
        names.contains(&"maple_lark_resident_memory_bytes"),
        "{names:?}"
    );
}
