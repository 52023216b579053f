use super::*;
use crate::zone::Zone;

fn calendar(events: &str) -> Result<Calendar, String> {
    let text = format!(
        "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//Orrin Sound//EN\r\nX-WR-CALNAME:Holidays\\, Orrin Sound\r\n{}END:VCALENDAR\r\n",
        {
            let mut lines = String::new();
            for event in events.split("--") {
                lines += "BEGIN:VEVENT\r\n";
                for line in event.split_whitespace() {
                    lines += &format!("{}\r\n", line.replace('~', " "));
                }
                lines += "END:VEVENT\r\n";
            }
            lines
        }
    );
    Calendar::parse(&text).map_err(|problems| {
        let CalendarProblem {
            line,
            event,
            message,
        } = &problems[0];
        format!("{line}: {event}: {message}")
    })
}

fn days(events: &str, from: &str, to: &str) -> Vec<String> {
    let days = calendar(events)
        .unwrap()
        .days("Atlantic/Faroe".parse().unwrap());
    days.between(from.parse().unwrap(), to.parse().unwrap())
        .map(|(date, name)| format!("{date} {name}"))
        .collect()
}

#[test]
fn events_have_their_instants_in_the_windows_zone() {
    let events = "SUMMARY:Whole~day LOCATION:Havnes DTSTART;VALUE=DATE:20261025 -- SUMMARY:Night DTSTART;TZID=Atlantic/Faroe:20261020T230000 DTEND;TZID=Atlantic/Faroe:20261021T030000 RRULE:FREQ=WEEKLY;COUNT=3 -- SUMMARY:Anywhere DTSTART:20261026T120000 DURATION:PT30M -- SUMMARY:Before DTSTART:20261001T000000Z DTEND:20261024T230000Z -- SUMMARY:Point DTSTART:20261025T100000Z";
    let zone: Zone = "Atlantic/Faroe".parse().unwrap();
    let window = Window {
        from: "2026-10-24T23:00:00Z".parse().unwrap(),
        to: "2026-10-28T02:00:00Z".parse().unwrap(),
        zone,
        within: None,
    };
    let found: Vec<String> = calendar(events)
        .unwrap()
        .events_in(&window)
        .iter()
        .map(|event| {
            let hours = (event.to - event.from).num_minutes() as f64 / 60.0;
            let said = &event.said;
            format!("{} {hours} h {} {}", event.from, said.title, said.location)
        })
        .collect();
    assert_eq!(
        found,
        [
            // The day on which the hour changes has 25.
            "2026-10-24 23:00:00 UTC 25 h Whole day Havnes",
            "2026-10-25 10:00:00 UTC 0 h Point ",
            "2026-10-26 12:00:00 UTC 0.5 h Anywhere ",
            "2026-10-27 23:00:00 UTC 4 h Night ",
        ]
    );
}

#[test]
fn all_day_events_name_their_days_and_the_end_is_not_one_of_them() {
    let found = days(
        "SUMMARY:Christmas DTSTART;VALUE=DATE:20261224 DTEND;VALUE=DATE:20261227 -- SUMMARY:One~day DTSTART;VALUE=DATE:20261231",
        "2026-01-01",
        "2027-12-31",
    );
    assert_eq!(
        found,
        [
            "2026-12-24 Christmas",
            "2026-12-25 Christmas",
            "2026-12-26 Christmas",
            "2026-12-31 One day"
        ]
    );
    let calendar = calendar("SUMMARY:Christmas DTSTART;VALUE=DATE:20261224").unwrap();
    assert_eq!(
        (calendar.title.as_deref(), calendar.events),
        (Some("Holidays, Orrin Sound"), 1)
    );
}

#[test]
fn recurring_events_have_exceptions_additions_and_moved_occurrences() {
    let found = days(
        "UID:a SUMMARY:Stock-taking DTSTART;VALUE=DATE:20260105 RRULE:FREQ=MONTHLY;BYDAY=1MO;COUNT=4 EXDATE;VALUE=DATE:20260202 RDATE;VALUE=DATE:20260220 \
         -- UID:a SUMMARY:Stock-taking,~moved DTSTART;VALUE=DATE:20260303 RECURRENCE-ID;VALUE=DATE:20260302",
        "2026-01-01",
        "2027-01-01",
    );
    assert_eq!(
        found,
        [
            "2026-01-05 Stock-taking",
            "2026-02-20 Stock-taking",
            "2026-03-03 Stock-taking, moved",
            "2026-04-06 Stock-taking"
        ]
    );
    let yearly = days(
        "SUMMARY:New~Year DTSTART;VALUE=DATE:20000101 RRULE:FREQ=YEARLY",
        "2098-06-01",
        "2200-01-01",
    );
    assert_eq!(yearly, ["2099-01-01 New Year", "2100-01-01 New Year"]);
}

#[test]
fn events_with_times_name_the_days_they_touch_in_the_zone_asked_for() {
    // 23:30 UTC on 14 July is 00:30 of the 15th in the Faroes.
    assert_eq!(
        days(
            "SUMMARY:Work DTSTART:20260714T233000Z DTEND:20260715T030000Z",
            "2026-01-01",
            "2027-01-01"
        ),
        ["2026-07-15 Work"]
    );
    assert_eq!(
        days(
            "SUMMARY:Work DTSTART;TZID=Atlantic/Faroe:20260714T220000 DURATION:PT4H",
            "2026-01-01",
            "2027-01-01"
        ),
        ["2026-07-14 Work", "2026-07-15 Work"]
    );
    assert_eq!(
        days(
            "SUMMARY:Work DTSTART:20260714T220000 DTEND:20260715T000000",
            "2026-01-01",
            "2027-01-01"
        ),
        ["2026-07-14 Work"]
    );
    // The last one the rule gives begins at its UNTIL, given in UTC.
    assert_eq!(
        days(
            "SUMMARY:Night DTSTART;TZID=Atlantic/Faroe:20260714T003000 RRULE:FREQ=DAILY;UNTIL=20260715T233000Z",
            "2026-01-01",
            "2027-01-01"
        ),
        ["2026-07-14 Night", "2026-07-15 Night", "2026-07-16 Night"]
    );
}

#[test]
fn cancelled_events_do_not_count() {
    assert!(
        days(
            "SUMMARY:Gone STATUS:CANCELLED DTSTART;VALUE=DATE:20261224",
            "2026-01-01",
            "2027-01-01"
        )
        .is_empty()
    );
}

#[test]
fn what_cannot_be_read_is_said_with_its_line() {
    let error = calendar(
        "SUMMARY:Fine DTSTART;VALUE=DATE:20261224 -- SUMMARY:Broken DTSTART;VALUE=DATE:20261324",
    )
    .unwrap_err();
    assert!(
        error.starts_with("11: Broken: DTSTART: \"20261324\" is not a date"),
        "{error}"
    );
    let error = calendar("SUMMARY:Work DTSTART;TZID=Mean~Time:20260714T220000").unwrap_err();
    assert!(error.contains("not an IANA time zone"), "{error}");
    assert!(
        calendar("SUMMARY:Work DTSTART:20260714T220000 RRULE:FREQ=SOMETIMES")
            .unwrap_err()
            .contains("FREQ cannot be \"SOMETIMES\"")
    );
    assert!(
        Calendar::parse("hello").unwrap_err()[0]
            .message
            .contains("not an iCalendar file")
    );
    let endless =
        calendar("SUMMARY:Ticks DTSTART:20260101T000000 RRULE:FREQ=SECONDLY").unwrap_err();
    assert!(
        endless.contains("more than 100000 occurrences"),
        "{endless}"
    );
}

#[test]
fn working_days_are_monday_to_friday_without_a_name() {
    let days = calendar("SUMMARY:Christmas DTSTART;VALUE=DATE:20261225")
        .unwrap()
        .days(Zone::UTC);
    let working = |text: &str| days.is_working_day(text.parse().unwrap());
    assert!(
        working("2026-12-24")
            && !working("2026-12-25")
            && !working("2026-12-26")
            && working("2026-12-28")
    );
}

/// The days of one event in Berlin.
fn in_berlin(event: &str) -> Vec<String> {
    let days = calendar(&format!("SUMMARY:x {event}"))
        .unwrap()
        .days("Europe/Berlin".parse().unwrap());
    days.between("2026-01-01".parse().unwrap(), "2026-12-31".parse().unwrap())
        .map(|(date, _)| date.to_string())
        .collect()
}

#[test]
fn the_end_of_an_event_goes_by_its_own_zone_across_a_change_of_the_hour() {
    let zoned = |start: &str, end: &str| {
        in_berlin(&format!(
            "DTSTART;TZID=Europe/Berlin:{start} DTEND;TZID=Europe/Berlin:{end}"
        ))
    };
    assert_eq!(
        zoned("20260328T000000", "20260330T000000"),
        ["2026-03-28", "2026-03-29"]
    );
    assert_eq!(
        zoned("20261024T233000", "20261026T003000"),
        ["2026-10-24", "2026-10-25", "2026-10-26"]
    );
    assert_eq!(
        in_berlin("DTSTART;TZID=Europe/Berlin:20260329T000000 DURATION:P1D"),
        ["2026-03-29"]
    );
    assert_eq!(
        in_berlin("DTSTART;TZID=Europe/Berlin:20260329T000000 DURATION:PT24H"),
        ["2026-03-29", "2026-03-30"]
    );
    // Ten hours on the way from Berlin to Tokyo.
    assert_eq!(
        in_berlin(
            "DTSTART;TZID=Europe/Berlin:20260701T120000 DTEND;TZID=Asia/Tokyo:20260702T070000"
        ),
        ["2026-07-01"]
    );
}

#[test]
fn an_event_in_another_zone_names_the_days_that_the_asking_zone_shows() {
    assert_eq!(
        in_berlin(
            "DTSTART;TZID=America/New_York:20260704T200000 DTEND;TZID=America/New_York:20260704T230000"
        ),
        ["2026-07-05"]
    );
}

#[test]
fn what_would_take_the_reader_too_far_is_refused() {
    let nested = format!("BEGIN:VCALENDAR\r\n{}", "BEGIN:VEVENT\r\n".repeat(2500));
    let problem = &Calendar::parse(&nested).unwrap_err()[0];
    assert_eq!(problem.line, 9);
    assert!(problem.message.contains("deeper than 8 levels"));
    let long = calendar(
        "SUMMARY:Long DTSTART;VALUE=DATE:20260101 DTEND;VALUE=DATE:20351231 RRULE:FREQ=DAILY;COUNT=3000",
    );
    assert!(long.unwrap_err().contains("more than 500000 days"));
    let backwards = calendar("SUMMARY:Back DTSTART;VALUE=DATE:20260102 DTEND;VALUE=DATE:20260101");
    assert_eq!(
        backwards.unwrap_err(),
        "8: Back: DTEND: the event ends before it begins"
    );
    let torn = Calendar::parse("BEGIN:VCALENDAR\r\nBEGIN:VEVENT\r\nSUMMARY\r\n").unwrap_err();
    assert!(
        torn[0].message.contains("each BEGIN needs its END"),
        "{torn:?}"
    );
}
