use chrono::{Datelike, NaiveDate, Timelike, Weekday};
use proptest::prelude::*;

use super::*;

fn at(text: &str) -> NaiveDateTime {
    NaiveDateTime::parse_from_str(text, "%Y-%m-%d %H:%M").unwrap()
}

fn first(rule: &str, from: &str, count: usize) -> Vec<String> {
    let rule = Rule::new(rule, at(from)).unwrap_or_else(|error| panic!("{error}"));
    rule.occurrences()
        .take(count)
        .map(|at| at.format("%Y-%m-%d %H:%M").to_string())
        .collect()
}

fn refused(rule: &str) -> String {
    Rule::new(rule, at("2026-12-01 07:30"))
        .unwrap_err()
        .to_string()
}

#[test]
fn short_periods_are_limited_by_hours_and_days() {
    assert_eq!(
        first(
            "FREQ=MINUTELY;INTERVAL=90;BYHOUR=11,12,14",
            "2026-12-01 20:36",
            3
        ),
        ["2026-12-02 11:36", "2026-12-02 14:36", "2026-12-03 11:36"]
    );
    assert_eq!(
        first(
            "FREQ=MINUTELY;INTERVAL=15;BYDAY=SU,FR,SA;BYHOUR=4,5,8",
            "2026-12-01 02:45",
            2
        ),
        ["2026-12-04 04:00", "2026-12-04 04:15"]
    );
    assert_eq!(
        first(
            "FREQ=HOURLY;INTERVAL=5;BYHOUR=0;BYDAY=MO",
            "2026-12-01 03:10",
            1
        ),
        ["2026-12-28 00:10"]
    );
    assert_eq!(
        first(
            "FREQ=SECONDLY;INTERVAL=7;BYMONTH=2;BYMONTHDAY=29;BYHOUR=3",
            "2026-12-01 00:00",
            1
        ),
        ["2028-02-29 03:00"]
    );
}

#[test]
fn plain_and_numbered_weekdays_stand_together() {
    assert_eq!(
        first("FREQ=MONTHLY;BYDAY=1MO,FR", "2026-12-01 07:30", 5),
        [
            "2026-12-04 07:30",
            "2026-12-07 07:30",
            "2026-12-11 07:30",
            "2026-12-18 07:30",
            "2026-12-25 07:30"
        ]
    );
    assert_eq!(
        first("FREQ=YEARLY;BYDAY=20MO,-1SU", "2026-01-01 07:30", 3),
        ["2026-05-18 07:30", "2026-12-27 07:30", "2027-05-17 07:30"]
    );
    assert_eq!(
        first("FREQ=YEARLY;BYMONTH=11;BYDAY=4TH", "2026-01-01 07:30", 2),
        ["2026-11-26 07:30", "2027-11-25 07:30"]
    );
}

#[test]
fn weeks_belong_to_the_year_that_most_of_their_days_are_in() {
    let sundays = first("FREQ=YEARLY;BYWEEKNO=53;BYDAY=SU", "2026-01-01 00:00", 4);
    assert_eq!(
        sundays,
        [
            "2027-01-03 00:00",
            "2033-01-02 00:00",
            "2038-01-03 00:00",
            "2044-01-03 00:00"
        ]
    );
    let sundays = first("FREQ=YEARLY;BYWEEKNO=52;BYDAY=SU", "2021-06-01 00:00", 3);
    assert_eq!(
        sundays,
        ["2022-01-02 00:00", "2023-01-01 00:00", "2023-12-31 00:00"]
    );
    let mondays = first("FREQ=YEARLY;BYWEEKNO=-1;BYDAY=MO", "2026-01-01 00:00", 2);
    assert_eq!(mondays, ["2026-12-28 00:00", "2027-12-27 00:00"]);
}

#[test]
fn an_end_in_utc_is_an_instant() {
    let rule = Rule::new("FREQ=DAILY;UNTIL=20270105T000000Z", at("2027-01-01 20:00")).unwrap();
    assert_eq!(
        rule.until().unwrap().to_rfc3339(),
        "2027-01-05T00:00:00+00:00"
    );
    let civil = first("FREQ=DAILY;UNTIL=20270103", "2027-01-01 20:00", 9);
    assert_eq!(
        civil,
        ["2027-01-01 20:00", "2027-01-02 20:00", "2027-01-03 20:00"]
    );
}

#[test]
fn counted_rules_end_after_as_many() {
    assert_eq!(
        first("FREQ=MONTHLY;COUNT=3;BYMONTHDAY=31", "2026-12-01 07:30", 9).len(),
        3
    );
    let rule = Rule::new("FREQ=DAILY;COUNT=700", at("2026-12-01 07:30")).unwrap();
    assert_eq!(rule.occurrences().count(), 700);
    let last = rule.occurrences().last().unwrap();
    assert_eq!(rule.next(last - TimeDelta::minutes(1)), Some(last));
    assert_eq!(rule.next(last), None);
    assert!(refused("FREQ=DAILY;COUNT=100001").contains("COUNT is at most 100000"));
}

#[test]
fn positions_count_in_the_whole_period() {
    assert_eq!(
        first(
            "FREQ=MONTHLY;BYDAY=MO,TU,WE,TH,FR;BYSETPOS=-2",
            "2026-12-01 07:30",
            2
        ),
        ["2026-12-30 07:30", "2027-01-28 07:30"]
    );
    // The week of Thursday 3 December began on Monday the 30th, which is its first.
    assert_eq!(
        first("FREQ=WEEKLY;BYDAY=MO,FR;BYSETPOS=1", "2026-12-03 07:30", 1),
        ["2026-12-07 07:30"]
    );
    assert_eq!(
        first(
            "FREQ=DAILY;BYHOUR=6,18;BYMINUTE=0,30;BYSETPOS=1,-1",
            "2026-12-01 00:00",
            3
        ),
        ["2026-12-01 06:00", "2026-12-01 18:30", "2026-12-02 06:00"]
    );
}

#[test]
fn what_has_no_meaning_is_refused_with_the_reason() {
    for (rule, reason) in [
        ("", "it is empty"),
        ("FREQ=DAILY;;", "between two semicolons"),
        ("FREQ=DAILY;", "after the last one"),
        ("INTERVAL=2", "has no FREQ"),
        ("FREQ=DAILY;FREQ=WEEKLY", "FREQ stands in it twice"),
        ("FREQ=FORTNIGHTLY", "FREQ cannot be \"FORTNIGHTLY\""),
        ("FREQ=DAILY;INTERVAL=0", "INTERVAL cannot be \"0\""),
        ("FREQ=DAILY;COUNT=+3", "COUNT cannot be \"+3\""),
        ("FREQ=DAILY;BYEASTER=1", "BYEASTER is not a part"),
        ("FREQ=DAILY;DAYS", "\"DAYS\" is not a part such as"),
        ("FREQ=WEEKLY;BYDAY=1MO", "a numbered weekday"),
        ("FREQ=DAILY;BYDAY=2TU", "a numbered weekday"),
        ("FREQ=YEARLY;BYWEEKNO=20;BYDAY=1MO", "a numbered weekday"),
        ("FREQ=MONTHLY;BYDAY=MON", "BYDAY cannot be \"MON\""),
        ("FREQ=MONTHLY;BYDAY=0MO", "BYDAY cannot be \"0MO\""),
        ("FREQ=MONTHLY;BYMONTHDAY=0", "BYMONTHDAY cannot be \"0\""),
        ("FREQ=MONTHLY;BYMONTHDAY=1,,2", "BYMONTHDAY cannot be \"\""),
        ("FREQ=MONTHLY;BYMONTHDAY=?", "BYMONTHDAY cannot be \"?\""),
        (
            "FREQ=WEEKLY;BYMONTHDAY=1",
            "BYMONTHDAY has no meaning with FREQ=WEEKLY",
        ),
        (
            "FREQ=DAILY;BYYEARDAY=1",
            "BYYEARDAY has no meaning with FREQ=DAILY",
        ),
        (
            "FREQ=MONTHLY;BYWEEKNO=1",
            "BYWEEKNO has no meaning with FREQ=MONTHLY",
        ),
        ("FREQ=DAILY;BYSETPOS=1", "BYSETPOS chooses among"),
        ("FREQ=DAILY;UNTIL=20270101;COUNT=3", "COUNT and UNTIL both"),
        ("FREQ=DAILY;UNTIL=20261131", "UNTIL cannot be \"20261131\""),
        ("FREQ=DAILY;UNTIL=20261130", "it ends before it begins"),
        ("FREQ=DAILY;BYHOUR=24", "BYHOUR cannot be \"24\""),
        ("FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=30", "it never fires"),
    ] {
        let error = refused(rule);
        assert!(error.contains(reason), "{rule}: {error}");
    }
    let long = format!("FREQ=DAILY;BYMONTH={}", "1".repeat(900));
    assert!(refused(&long).len() < 700, "{}", refused(&long));
    assert!(refused(&"X".repeat(3000)).contains("longer than 2000 characters"));
}

/// Each of these once ran for minutes, or never came back.
#[test]
fn a_rule_that_finds_nothing_is_given_up() {
    for rule in [
        "FREQ=MINUTELY;BYDAY=MO;BYSETPOS=-2",
        "FREQ=SECONDLY;BYDAY=MO;BYSETPOS=2",
        "FREQ=SECONDLY;BYMONTH=2;BYMONTHDAY=30",
        "FREQ=HOURLY;INTERVAL=24;BYHOUR=8",
        "FREQ=MINUTELY;INTERVAL=1440;BYMINUTE=31",
        "FREQ=YEARLY;INTERVAL=97;BYMONTH=4;BYMONTHDAY=31",
        "FREQ=DAILY;INTERVAL=7;BYDAY=MO",
        "FREQ=MONTHLY;BYDAY=MO;BYSETPOS=6",
    ] {
        assert!(refused(rule).contains("it never fires"), "{rule}");
    }
}

/// A second, deliberately plain reading of a rule, which shares nothing with the first but its
/// text: it walks through units one by one and asks of each whether it belongs.
mod plain {
    use super::*;

    pub struct Plain {
        parts: Vec<(String, String)>,
        first: NaiveDateTime,
    }

    const DAYS: [&str; 7] = ["MO", "TU", "WE", "TH", "FR", "SA", "SU"];

    impl Plain {
        pub fn new(text: &str, first: NaiveDateTime) -> Self {
            let part = |part: &str| {
                let (name, value) = part.split_once('=').unwrap();
                (name.to_owned(), value.to_owned())
            };
            Self {
                parts: text.split(';').map(part).collect(),
                first,
            }
        }

        fn get(&self, name: &str) -> Option<&str> {
            let found = self.parts.iter().find(|(known, _)| known == name);
            found.map(|(_, value)| value.as_str())
        }

        fn numbers(&self, name: &str) -> Option<Vec<i64>> {
            Some(
                self.get(name)?
                    .split(',')
                    .map(|n| n.parse().unwrap())
                    .collect(),
            )
        }

        fn has(&self, name: &str, shown: i64) -> bool {
            self.numbers(name).is_none_or(|list| list.contains(&shown))
        }

        fn frequency(&self) -> &str {
            self.get("FREQ").unwrap()
        }

        fn week_of(&self, date: NaiveDate) -> NaiveDate {
            let starts = self.get("WKST").unwrap_or("MO");
            let mut date = date;
            while DAYS[date.weekday().num_days_from_monday() as usize] != starts {
                date = date.pred_opt().unwrap();
            }
            date
        }

        /// Which period a moment is in, counted from an arbitrary one.
        fn period(&self, at: NaiveDateTime) -> i64 {
            let days = i64::from(at.date().num_days_from_ce());
            let hours = days * 24 + i64::from(at.hour());
            match self.frequency() {
                "YEARLY" => i64::from(at.year()),
                "MONTHLY" => i64::from(at.year()) * 12 + i64::from(at.month0()),
                "WEEKLY" => i64::from(self.week_of(at.date()).num_days_from_ce()).div_euclid(7),
                "DAILY" => days,
                "HOURLY" => hours,
                _ => hours * 60 + i64::from(at.minute()),
            }
        }

        /// The number of a week in its year, and of its year's last, by counting from the week
        /// that holds 4 January.
        fn week_number(&self, date: NaiveDate) -> (i64, i64) {
            let week = self.week_of(date);
            let begins = |year| self.week_of(NaiveDate::from_ymd_opt(year, 1, 4).unwrap());
            let mut year = date.year() + 1;
            while begins(year) > week {
                year -= 1;
            }
            let weeks = |from: NaiveDate, to: NaiveDate| (to - from).num_days() / 7;
            (
                weeks(begins(year), week) + 1,
                weeks(begins(year), begins(year + 1)),
            )
        }

        fn weekday_fits(&self, date: NaiveDate) -> bool {
            let Some(list) = self.get("BYDAY") else {
                let unsaid = ["BYWEEKNO", "BYYEARDAY", "BYMONTHDAY"];
                let free = self.frequency() != "WEEKLY"
                    || unsaid.iter().any(|name| self.get(name).is_some());
                return free || date.weekday() == self.first.weekday();
            };
            let name = DAYS[date.weekday().num_days_from_monday() as usize];
            let in_month = self.frequency() == "MONTHLY" || self.get("BYMONTH").is_some();
            let same = |other: &NaiveDate| {
                other.year() == date.year() && (!in_month || other.month() == date.month())
            };
            let mut before = 0;
            let mut other = date;
            while same(&other) {
                before += 1;
                other -= TimeDelta::days(7);
            }
            let mut behind = 0;
            other = date;
            while same(&other) {
                behind += 1;
                other += TimeDelta::days(7);
            }
            list.split(',').any(|one| {
                one == name || one == format!("{before}{name}") || one == format!("-{behind}{name}")
            })
        }

        fn date_fits(&self, date: NaiveDate) -> bool {
            let next_month = (date.with_day(1).unwrap() + chrono::Months::new(1))
                .pred_opt()
                .unwrap();
            let length = i64::from(next_month.day());
            let year = i64::from(
                NaiveDate::from_ymd_opt(date.year(), 12, 31)
                    .unwrap()
                    .ordinal(),
            );
            let day = i64::from(date.day());
            let ordinal = i64::from(date.ordinal());
            let days_said = ["BYWEEKNO", "BYYEARDAY", "BYMONTHDAY", "BYDAY"];
            let unsaid = !days_said.iter().any(|name| self.get(name).is_some());
            if unsaid
                && matches!(self.frequency(), "YEARLY" | "MONTHLY")
                && date.day() != self.first.day()
            {
                return false;
            }
            let whole_date =
                unsaid && self.frequency() == "YEARLY" && self.get("BYMONTH").is_none();
            if whole_date && date.month() != self.first.month() {
                return false;
            }
            let either = |name: &str, one: i64, of: i64| {
                self.numbers(name)
                    .is_none_or(|list| list.contains(&one) || list.contains(&(one - of - 1)))
            };
            let week = self.numbers("BYWEEKNO").is_none_or(|list| {
                let (number, last) = self.week_number(date);
                list.contains(&number) || list.contains(&(number - last - 1))
            });
            week && self.has("BYMONTH", i64::from(date.month()))
                && either("BYMONTHDAY", day, length)
                && either("BYYEARDAY", ordinal, year)
                && self.weekday_fits(date)
        }

        fn fits(&self, at: NaiveDateTime) -> bool {
            let rank = ["MINUTELY", "HOURLY", "DAILY", "WEEKLY", "MONTHLY", "YEARLY"]
                .iter()
                .position(|name| *name == self.frequency())
                .unwrap();
            let or_first = |name: &str, shown: u32, own: u32, free: bool| match self.numbers(name) {
                Some(list) => list.contains(&i64::from(shown)),
                None => free || shown == own,
            };
            let interval = self.get("INTERVAL").map_or(1, |text| text.parse().unwrap());
            (self.period(at) - self.period(self.first)).rem_euclid(interval) == 0
                && or_first("BYHOUR", at.hour(), self.first.hour(), rank <= 1)
                && or_first("BYMINUTE", at.minute(), self.first.minute(), rank == 0)
                && self.date_fits(at.date())
        }

        /// All up to `until`, by walking through every minute, or through the minutes of the
        /// hours that may fit.
        pub fn until(&self, until: NaiveDateTime) -> Vec<NaiveDateTime> {
            // From well before the first time, so that its period is whole.
            let start = self.first.date() - TimeDelta::days(370);
            let mut found: Vec<NaiveDateTime> = Vec::new();
            let mut date = start;
            while date <= until.date() + TimeDelta::days(370) {
                if self.date_fits(date) {
                    let midnight = date.and_hms_opt(0, 0, 0).unwrap();
                    let minutes = (0..1440).map(|minute| midnight + TimeDelta::minutes(minute));
                    found.extend(minutes.filter(|at| self.fits(*at)));
                }
                date += TimeDelta::days(1);
            }
            if let Some(positions) = self.numbers("BYSETPOS") {
                let mut chosen = Vec::new();
                for group in found.chunk_by(|a, b| self.period(*a) == self.period(*b)) {
                    let mut taken: Vec<usize> = positions
                        .iter()
                        .map(|position| {
                            if *position > 0 {
                                *position - 1
                            } else {
                                group.len() as i64 + position
                            }
                        })
                        .filter(|place| (0..group.len() as i64).contains(place))
                        .map(|place| place as usize)
                        .collect();
                    taken.sort_unstable();
                    taken.dedup();
                    chosen.extend(taken.into_iter().map(|place| group[place]));
                }
                found = chosen;
            }
            found.retain(|at| *at >= self.first && *at <= until);
            found
        }
    }
}

/// Numbers apart by commas, under a name, or nothing.
fn part(name: &'static str, values: Vec<i32>) -> impl Strategy<Value = String> {
    let list = proptest::sample::subsequence(values.clone(), 1..=values.len().min(3));
    prop_oneof![
        3 => Just(String::new()),
        1 => list.prop_map(move |list| {
            let list: Vec<String> = list.iter().map(ToString::to_string).collect();
            format!(";{name}={}", list.join(","))
        }),
    ]
}

fn any_rule() -> impl Strategy<Value = String> {
    let frequency = proptest::sample::select(vec![
        "YEARLY", "MONTHLY", "WEEKLY", "DAILY", "HOURLY", "MINUTELY",
    ]);
    let days = prop_oneof![
        2 => Just(String::new()),
        1 => proptest::sample::subsequence(vec!["MO", "WE", "FR", "SA", "SU"], 1..4)
            .prop_map(|days| format!(";BYDAY={}", days.join(","))),
        1 => proptest::sample::subsequence(vec!["1MO", "-1FR", "2SU", "TU", "5TH", "-53SA"], 1..3)
            .prop_map(|days| format!(";BYDAY={}", days.join(","))),
    ];
    let week_starts = proptest::sample::select(vec!["", ";WKST=SU", ";WKST=TH"]);
    (
        (frequency, 1i64..5, prop_oneof![Just(1i64), Just(1), 2i64..5], days, week_starts),
        part("BYMONTH", vec![1, 2, 4, 12]),
        part("BYMONTHDAY", vec![1, 13, 29, 31, -1, -30]),
        part("BYYEARDAY", vec![1, 60, 200, 366, -1, -366]),
        part("BYWEEKNO", vec![1, 20, 52, 53, -1, -53]),
        part("BYHOUR", vec![0, 7, 12, 23]),
        part("BYMINUTE", vec![0, 30, 59]),
        part("BYSETPOS", vec![1, 2, 3, -1, -2]),
    )
        .prop_map(|((frequency, _, interval, days, week_starts), month, month_day, year_day, week, hour, minute, position)| {
            let interval = if interval == 1 { String::new() } else { format!(";INTERVAL={interval}") };
            format!("FREQ={frequency}{interval}{week_starts}{month}{month_day}{year_day}{week}{days}{hour}{minute}{position}")
        })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(150))]

    #[test]
    fn unrolling_agrees_with_walking_through_every_minute(
        text in any_rule(),
        first_day in 0i64..1500,
        minute in proptest::sample::select(vec![0i64, 450, 719, 1439]),
    ) {
        let day = NaiveDate::from_ymd_opt(2023, 12, 20).unwrap().and_hms_opt(0, 0, 0).unwrap();
        let first = day + TimeDelta::days(first_day) + TimeDelta::minutes(minute);
        let until = first + TimeDelta::days(if text.contains("YEARLY") { 800 } else { 60 });
        let walked = || plain::Plain::new(&text, first).until(until);
        match Rule::read(&text, first) {
            Ok(rule) => {
                let found: Vec<NaiveDateTime> = rule.occurrences().take_while(|at| *at <= until).collect();
                prop_assert_eq!(found, walked(), "{} from {}", text, first);
            }
            Err(BadRule::Never) => prop_assert_eq!(walked(), Vec::new(), "{} from {}", text, first),
            // What must not stand together is refused whatever it would give.
            Err(_) => {}
        }
    }

    /// Looking on from anywhere gives what unrolling from the beginning gives.
    #[test]
    fn a_rule_is_the_same_from_wherever_it_is_asked(
        text in any_rule(),
        first_day in 0i64..1500,
        asked in proptest::collection::vec(0i64..5_000_000, 1..6),
    ) {
        let day = NaiveDate::from_ymd_opt(2023, 12, 20).unwrap().and_hms_opt(7, 30, 0).unwrap();
        let first = day + TimeDelta::days(first_day);
        let Ok(rule) = Rule::new(&text, first) else { return Ok(()) };
        for minutes in asked {
            let after = first - TimeDelta::days(3) + TimeDelta::minutes(minutes);
            let walked = rule.occurrences().take(200_000).take_while(|at| *at <= after + TimeDelta::days(4000)).find(|at| *at > after);
            if let Some(walked) = walked {
                prop_assert_eq!(rule.next(after), Some(walked), "{} from {} after {}", text, first, after);
            }
        }
    }
}

#[test]
fn weekdays_of_the_standard_are_known() {
    for (name, day) in [("MO", Weekday::Mon), ("SU", Weekday::Sun)] {
        let found = first(&format!("FREQ=WEEKLY;BYDAY={name}"), "2026-12-01 07:30", 1);
        let date: NaiveDate = found[0][..10].parse().unwrap();
        assert_eq!(date.weekday(), day);
    }
}
