//! Reads calendars from iCalendar files.

use maple_lark_data::digest::sha256;
use maple_lark_time::calendar::Calendar;

use crate::{
    model::{calendar::CalendarFile, name::is_name},
    problem::{Place, Problem},
};

/// Reads an iCalendar file; the file's name is the calendar's name.
pub(super) fn read(file: &str, text: &str) -> Result<CalendarFile, Vec<Problem>> {
    let place = |line: usize, key: &str| Place {
        file: file.to_owned(),
        line,
        column: 1,
        key: key.to_owned(),
    };
    let name = file
        .rsplit('/')
        .next()
        .unwrap_or(file)
        .trim_end_matches(".ics");
    if !is_name(name) {
        return Err(vec![place(1, "").problem(format!(
            "the file's name is the calendar's name, and \"{name}\" is none: use up to 60 small letters, digits and hyphens, such as \"holidays.ics\""
        ))]);
    }
    match Calendar::parse(text) {
        Ok(calendar) => Ok(CalendarFile {
            name: name.to_owned(),
            calendar,
            sha256: sha256(text.as_bytes()),
            place: place(1, ""),
        }),
        Err(problems) => Err(problems
            .into_iter()
            .map(|problem| place(problem.line, &problem.event).problem(problem.message))
            .collect()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_problem_in_a_calendar_has_its_file_line_and_event() {
        let text = "BEGIN:VCALENDAR\r\nBEGIN:VEVENT\r\nSUMMARY:Broken\r\nDTSTART;VALUE=DATE:20261324\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n";
        let problems = read("calendars/holidays.ics", text).unwrap_err();
        assert!(
            problems[0]
                .to_string()
                .starts_with("calendars/holidays.ics:4:1: Broken: DTSTART: \"20261324\""),
            "{}",
            problems[0]
        );
    }

    #[test]
    fn a_calendar_is_named_by_its_file() {
        let text = "BEGIN:VCALENDAR\r\nBEGIN:VEVENT\r\nDTSTART;VALUE=DATE:20261224\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n";
        let calendar = read("calendars/holidays.ics", text).unwrap();
        assert_eq!(
            (calendar.name.as_str(), calendar.title()),
            ("holidays", "holidays")
        );
        let problems = read("Our Holidays.ics", text).unwrap_err();
        assert!(problems[0].message.contains("is none"), "{}", problems[0]);
    }
}
