//! Proves the archive, day by day: a chain of digests over what was made.

use chrono::NaiveDate;
use maple_lark_api::{
    ArchiveDayPage, ArchiveDayProof, ArchiveDayView, ArchiveFault, ProblemDetails,
};
use maple_lark_store::{
    Store,
    archive_chain::{ArchiveDay, Found},
};
use rocket::{Route, State, get, routes, serde::json::Json};

use super::{Answer, body::whole, problem::Problem};
use crate::access::Administrator;

pub fn routes() -> Vec<Route> {
    routes![days, day]
}

fn day_view(one: ArchiveDay) -> ArchiveDayView {
    ArchiveDayView {
        day: one.day,
        documents: one.documents,
        sha256: one.sha256,
        sealed_at: one.sealed_at,
        intact: one.intact,
    }
}

fn faults(found: Vec<Found>) -> Vec<ArchiveFault> {
    let fault = |one: Found| ArchiveFault {
        document: one.document_id,
        run: one.run_id,
        file_name: one.file_name,
    };
    found.into_iter().map(fault).collect()
}

/// The days of the archive, the latest first: whether each is chained to the one before it and to
/// the audit trail.
#[utoipa::path(get, operation_id = "list_archive_days", path = "/archive/days", tag = "archive", params(("page" = Option<u64>, Query, description = "counted from 1"), ("size" = Option<u64>, Query, description = "at most 400")), responses((status = 200, body = ArchiveDayPage), (status = 422, body = ProblemDetails)))]
#[get("/archive/days?<page>&<size>")]
async fn days(
    _user: Administrator,
    page: Option<&str>,
    size: Option<&str>,
    store: &State<Store>,
) -> Answer<ArchiveDayPage> {
    let page = whole("page", page)?.unwrap_or(1).clamp(1, 1 << 40);
    let size = whole("size", size)?.unwrap_or(31).clamp(1, 400);
    let found = store.archive_days(page, size).await?;
    Ok(Json(ArchiveDayPage {
        items: found.items.into_iter().map(day_view).collect(),
        total: found.total,
        page,
        size,
    }))
}

/// What has become of the documents of a day: altered, missing, added, or let go as the terms say.
/// All of their bytes are read for it.
#[utoipa::path(get, operation_id = "prove_archive_day", path = "/archive/days/{day}", tag = "archive", params(("day" = String, Path, description = "such as 2026-11-27, in UTC")), responses((status = 200, body = ArchiveDayProof), (status = 404, body = ProblemDetails), (status = 422, body = ProblemDetails)))]
#[get("/archive/days/<day>")]
async fn day(_user: Administrator, day: &str, store: &State<Store>) -> Answer<ArchiveDayProof> {
    let date: NaiveDate = day.parse().map_err(|_| {
        let words = format!("\"{day}\" is not a day such as 2026-11-27");
        Problem::new(422, "Not understood", words)
    })?;
    let nothing = || Problem::not_found(format!("sealed day {date}"));
    let found = store.prove_day(date).await?.ok_or_else(nothing)?;
    let whole = [&found.altered, &found.missing, &found.added];
    Ok(Json(ArchiveDayProof {
        intact: found.day.intact && whole.iter().all(|all| all.is_empty()),
        day: day_view(found.day),
        altered: faults(found.altered),
        missing: faults(found.missing),
        added: faults(found.added),
        let_go: found.let_go,
    }))
}
