//! Processes that take parts of the work.

use serde_json::Value;

use crate::place::{Place, Service, small_report, text, until, wait_for};

const PARTS: &str = "MAPLE_LARK_WORK";

async fn status(service: &Service, path: &str) -> u16 {
    let answer = reqwest::get(format!("http://{}{path}", service.address)).await;
    answer.unwrap().status().as_u16()
}

#[tokio::test(flavor = "multi_thread")]
async fn each_part_of_the_work_is_done_by_the_process_that_takes_it() {
    let place = Place::new().await;
    let wrong = place.lark(&["serve", "--config", "none", "--work", "api,printing"]);
    assert_eq!(wrong.status.code(), Some(2));
    let said = text(&wrong.stderr);
    assert!(
        said.contains("schedule, collect, render, deliver, api"),
        "{said}"
    );

    let front = place.serve_in(&[(PARTS, "api,schedule")]);
    place.sign_in();
    place.apply_small(&small_report());
    let run = place.json(&["run", "small", "--detach"]);
    let id = run["id"].as_str().unwrap();
    let is = |state: &'static str| move |run: &Value| run["state"] == state;
    // Nobody collects, renders or delivers before there is somebody for it.
    let collects = place.serve_another_in(&[(PARTS, "collect")]);
    until("it is collected", || {
        collects
            .log()
            .contains("another process makes the documents")
            .then_some(())
    });
    assert_eq!(place.json(&["show", id])["state"], "rendering");
    let renders = place.serve_another_in(&[(PARTS, "render")]);
    let run = wait_for(&place, id, "it is rendered", is("delivering"));
    assert!(place.mail.messages().is_empty(), "{run}");
    let _delivers = place.serve_another_in(&[(PARTS, "deliver")]);
    assert_eq!(place.settled(id)["state"], "delivered");
    assert_eq!(place.mail.messages().len(), 2);
    assert!(!collects.log().contains("deliveries are in the outbox"));
    assert!(renders.log().contains("deliveries are in the outbox"));

    // Only the first answers people; all say how they are.
    for (path, of_the_first, of_others) in [
        ("/ready", 200, 200),
        ("/health", 200, 200),
        ("/reports", 200, 404),
        ("/api/v1/openapi.json", 200, 404),
        ("/sign-in", 200, 404),
    ] {
        assert_eq!(status(&front, path).await, of_the_first, "{path}");
        assert_eq!(status(&renders, path).await, of_others, "{path}");
    }
}
