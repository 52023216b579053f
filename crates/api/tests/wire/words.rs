//! Words: states, causes, roles and the like are the same in JSON, in tables, on the command line and
//! in the API's description.

use std::{collections::BTreeSet, fmt::Display, str::FromStr};

use maple_lark_api::*;
use maple_lark_definition::ChannelKind;
use serde::{Serialize, de::DeserializeOwned};
use utoipa::PartialSchema;

/// Each has one word, in JSON as well. Enums of the core have no more than that; the API describes them by hand.
fn have_words<T: Words + Serialize + DeserializeOwned>() -> Vec<&'static str> {
    let words: Vec<&str> = T::ALL.iter().map(|one| one.word()).collect();
    let different: BTreeSet<&str> = words.iter().copied().collect();
    assert_eq!(different.len(), words.len(), "two of one word: {words:?}");
    for one in T::ALL {
        let word = one.word();
        assert_eq!(T::from_word(word).as_ref(), Ok(one));
        let json = serde_json::to_value(one).unwrap();
        assert_eq!(json, word, "{}", T::WHAT);
        assert_eq!(&serde_json::from_value::<T>(json).unwrap(), one);
        let plain = |sign: char| sign.is_ascii_lowercase() || sign == '-';
        assert!(word.chars().all(plain), "{word}");
    }
    words
}

fn hold<T>()
where
    T: Words + Serialize + DeserializeOwned + PartialSchema + Display + FromStr<Err = UnknownWord>,
{
    let words = have_words::<T>();
    let described = serde_json::to_value(T::schema()).unwrap();
    assert_eq!(described["enum"], serde_json::json!(words), "{}", T::WHAT);
    for one in T::ALL {
        assert_eq!(one.to_string(), one.word());
        assert_eq!(one.word().parse::<T>().as_ref(), Ok(one));
    }
    let error = "Nonsense".parse::<T>().unwrap_err().to_string();
    assert_eq!(
        error,
        format!(
            "\"Nonsense\" is no {}; it is one of {}",
            T::WHAT,
            words.join(", ")
        )
    );
}

#[test]
fn every_word_is_one_everywhere() {
    hold::<RunState>();
    hold::<Cause>();
    hold::<StepKind>();
    hold::<StepState>();
    hold::<DeliveryState>();
    hold::<AttemptOutcome>();
    have_words::<ChannelType>();
    have_words::<Format>();
    hold::<ReportFilter>();
    hold::<ReportOrder>();
    hold::<RecipientRole>();
    hold::<Role>();
    hold::<NoticeKind>();
    hold::<TokenScope>();
    hold::<AuditOutcome>();
    hold::<ChangeAction>();
    hold::<SavedFrom>();
    hold::<KeepStage>();
    hold::<KeepWhy>();
    hold::<PlanState>();
    hold::<Stands>();
}

/// A kind of channel that is left out of the list could be sent by, and not be read again.
#[test]
fn every_kind_of_channel_has_its_way_to_travel() {
    for kind in ChannelKind::NAMES {
        let word = if kind == "mail-server" { "mail" } else { kind };
        assert!(ChannelType::from_word(word).is_ok(), "{word}");
    }
    // One more: a channel that was removed.
    assert_eq!(ChannelType::ALL.len(), ChannelKind::NAMES.len() + 1);
}

/// The agenda mixes states of runs with states of instants that have none, so no word may be both.
#[test]
fn a_state_of_the_agenda_is_of_a_run_or_of_a_plan() {
    for plan in PlanState::ALL {
        assert!(plan.word().parse::<RunState>().is_err(), "{plan}");
        let read: AgendaState = serde_json::from_value(plan.word().into()).unwrap();
        assert_eq!(read, AgendaState::Plan(*plan));
    }
    for run in RunState::ALL {
        let read: AgendaState = serde_json::from_value(run.word().into()).unwrap();
        assert_eq!(read, AgendaState::Run(*run));
    }
}

/// What somebody typed comes back in the error, but not megabytes of it.
#[test]
fn a_long_word_is_cut_in_its_error() {
    let error = "x".repeat(1_000_000).parse::<Role>().unwrap_err();
    assert!(error.to_string().len() < 400);
}

#[test]
fn a_token_gives_no_more_than_the_one_that_it_is_made_with() {
    use TokenScope as S;
    for scope in [S::All, S::Run, S::Read, S::Agenda] {
        assert!(scope.is_within(scope));
    }
    assert!(S::Read.is_within(S::Run) && S::Run.is_within(S::All));
    for (wider, narrower) in [(S::All, S::Run), (S::Run, S::Read), (S::Agenda, S::All)] {
        assert!(!wider.is_within(narrower), "{wider} in {narrower}");
    }
}

#[test]
fn owners_are_told_of_what_they_must_see_to() {
    let told: Vec<RunState> = RunState::ALL
        .iter()
        .copied()
        .filter(|state| NoticeKind::of_run(*state).is_some())
        .collect();
    assert_eq!(
        told,
        [
            RunState::AwaitingApproval,
            RunState::PartlyDelivered,
            RunState::Held,
            RunState::Failed
        ]
    );
    for state in told {
        let kind = NoticeKind::of_run(state).unwrap();
        assert_eq!(kind.word(), state.word(), "one thing has one word");
        assert!(!kind.is_good() && !state.is_good());
    }
}
