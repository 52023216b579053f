//! The states of runs, their steps and deliveries, and which state may follow which.

use crate::words::{Words, words};

words!(
    /// A part of the work that a process of the service may take.
    Work, "part of the work", {
    /// Makes runs of instants that have come, tells people, keeps to terms.
    Schedule = "schedule",
    /// Waits for data and asks sources.
    Collect = "collect",
    /// Makes documents and puts them into the outbox.
    Render = "render",
    /// Carries out what is in the outbox.
    Deliver = "deliver",
    /// Answers the console, the command line and whoever opens a link.
    Api = "api",
});

words!(
    /// Where a run stands.
    RunState, "state of a run", {
    /// Its instant has come; nobody has begun with it.
    Due = "due",
    /// It waits until its data is ready.
    Waiting = "waiting",
    Collecting = "collecting",
    Rendering = "rendering",
    /// Somebody must approve it before it is sent.
    AwaitingApproval = "awaiting-approval",
    /// It was approved or released and is on its way to the outbox.
    Releasing = "releasing",
    Delivering = "delivering",
    Delivered = "delivered",
    /// Some of its deliveries were refused.
    PartlyDelivered = "partly-delivered",
    /// Its documents were made; nothing was to be sent.
    Completed = "completed",
    /// Nothing in it was worth sending.
    Quiet = "quiet",
    /// Something in it failed; it is not sent unless somebody releases it.
    Held = "held",
    Failed = "failed",
    Cancelled = "cancelled",
    /// Its instant passed while no service ran, or its data was never ready.
    Skipped = "skipped",
});

impl RunState {
    /// The states that may follow this one.
    pub fn next(self) -> &'static [RunState] {
        use RunState as S;
        match self {
            S::Due | S::Waiting => &[
                S::Waiting,
                S::Collecting,
                S::Held,
                S::Skipped,
                S::Failed,
                S::Cancelled,
            ],
            S::Collecting => &[S::Collecting, S::Rendering, S::Failed, S::Cancelled],
            S::Rendering => &[
                S::Collecting,
                S::Rendering,
                S::Held,
                S::Completed,
                S::AwaitingApproval,
                S::Quiet,
                S::Delivering,
                S::Failed,
                S::Cancelled,
            ],
            S::AwaitingApproval => &[S::Releasing, S::Cancelled],
            // What was only made can be sent later.
            S::Held | S::Completed => &[S::Releasing],
            // What a restored database does not know to have been sent is held, too.
            S::Releasing => &[S::Held, S::Quiet, S::Delivering, S::Failed, S::Cancelled],
            S::Delivering => &[
                S::Held,
                S::Delivered,
                S::PartlyDelivered,
                S::Failed,
                S::Cancelled,
            ],
            S::Delivered
            | S::PartlyDelivered
            | S::Quiet
            | S::Failed
            | S::Cancelled
            | S::Skipped => &[],
        }
    }

    /// Whether `next` may follow this state.
    pub fn may_become(self, next: RunState) -> bool {
        self.next().contains(&next)
    }

    /// The states that `self` may follow.
    pub fn previous(self) -> impl Iterator<Item = RunState> {
        Self::ALL
            .iter()
            .copied()
            .filter(move |state| state.may_become(self))
    }

    /// Whether the service has something to do for it, or waits for somebody.
    pub fn is_open(self) -> bool {
        use RunState as S;
        match self {
            S::Due
            | S::Waiting
            | S::Collecting
            | S::Rendering
            | S::AwaitingApproval
            | S::Releasing
            | S::Delivering => true,
            S::Delivered
            | S::PartlyDelivered
            | S::Completed
            | S::Quiet
            | S::Held
            | S::Failed
            | S::Cancelled
            | S::Skipped => false,
        }
    }

    /// Whether the service is to bring it further by itself: it is open, and waits for nobody.
    pub fn is_under_way(self) -> bool {
        self.is_open() && self != RunState::AwaitingApproval
    }

    /// Whether a worker may claim it: it has work to do and its next step is a worker's.
    pub fn is_work(self) -> bool {
        self.work().is_some()
    }

    /// The part of the work that its next step is, if a worker may claim it.
    pub fn work(self) -> Option<Work> {
        use RunState as S;
        match self {
            S::Due | S::Waiting | S::Collecting => Some(Work::Collect),
            S::Rendering | S::Releasing => Some(Work::Render),
            _ => None,
        }
    }

    /// Whether it went as it should, or as somebody wanted it to.
    pub fn is_good(self) -> bool {
        use RunState as S;
        matches!(
            self,
            S::Delivered | S::Completed | S::Quiet | S::Cancelled | S::Skipped
        )
    }

    /// The states that `is` is true of.
    pub fn which(is: impl Fn(RunState) -> bool) -> Vec<RunState> {
        Self::ALL
            .iter()
            .copied()
            .filter(|state| is(*state))
            .collect()
    }
}

words!(
    /// Why a run was made.
    Cause, "cause of a run", {
    Schedule = "schedule",
    Request = "request",
});

words!(
    /// What a step of a run does.
    StepKind, "kind of step", {
    /// Waits until the data is ready.
    Wait = "wait",
    /// Finds the audiences.
    Audiences = "audiences",
    Collect = "collect",
    Snapshot = "snapshot",
    Render = "render",
    Send = "send",
});

words!(
    /// Where a step stands.
    StepState, "state of a step", {
    Running = "running",
    Done = "done",
    Failed = "failed",
    /// There was nothing to do for it.
    Quiet = "quiet",
});

words!(
    /// Where a delivery stands.
    DeliveryState, "state of a delivery", {
    Waiting = "waiting",
    /// The other side has taken it.
    Accepted = "accepted",
    Refused = "refused",
    /// It was accepted and came back.
    Bounced = "bounced",
    Cancelled = "cancelled",
});

impl DeliveryState {
    /// The states that may follow this one.
    pub fn next(self) -> &'static [DeliveryState] {
        use DeliveryState as S;
        match self {
            S::Waiting => &[S::Waiting, S::Accepted, S::Refused, S::Cancelled],
            S::Accepted => &[S::Bounced],
            S::Refused | S::Bounced | S::Cancelled => &[],
        }
    }
}

words!(
    /// How an attempt at a delivery ended.
    AttemptOutcome, "outcome of an attempt", {
    Accepted = "accepted",
    /// It is tried again later.
    Postponed = "postponed",
    Refused = "refused",
    /// Handed over, but not confirmed: it may have arrived.
    Unknown = "unknown",
});

words!(
    /// Which reports a list shows.
    ReportFilter, "filter of reports", {
    /// On a schedule that is not paused.
    Scheduled = "scheduled",
    Paused = "paused",
    /// Without a schedule.
    Request = "request",
    /// The last run failed, is held or awaits approval.
    Trouble = "trouble",
    /// Without a run.
    Never = "never",
});

words!(
    /// How a list of reports is sorted.
    ReportOrder, "order of reports", {
    Title = "title",
    /// The next run first.
    Next = "next",
    /// The last run first.
    Last = "last",
});

words!(
    /// How a recipient stands in the head of a mail.
    RecipientRole, "role of a recipient", {
    To = "to",
    Cc = "cc",
    Bcc = "bcc",
});

words!(
    /// What a user may do; each may do what those before it may.
    Role, "role", {
    Viewer = "viewer",
    Author = "author",
    Administrator = "administrator",
});

words!(
    /// Who says that a user is who they say.
    SignsInBy, "way to sign in", {
    /// Their password here.
    Password = "password",
    /// The organisation's directory.
    Directory = "directory",
    /// The organisation's identity provider.
    Provider = "provider",
});

words!(
    /// What a notice tells.
    NoticeKind, "kind of notice", {
    Failed = "failed",
    Held = "held",
    /// A run did not reach everybody.
    PartlyDelivered = "partly-delivered",
    /// A run was to be delivered by now and is not.
    Late = "late",
    AwaitingApproval = "awaiting-approval",
    /// A report's run went well again.
    Recovered = "recovered",
    /// A report has had nothing worth sending for a week.
    StillQuiet = "still-quiet",
    /// An address gets nothing more, since its mails came back.
    Suppressed = "suppressed",
    /// A source has failed in several runs in a row.
    SourceDown = "source-down",
    /// A source answers again.
    SourceUp = "source-up",
});

impl NoticeKind {
    /// What an owner is told of a run that came to this state; nothing of most.
    pub fn of_run(state: RunState) -> Option<Self> {
        match state {
            RunState::Failed => Some(Self::Failed),
            RunState::Held => Some(Self::Held),
            RunState::PartlyDelivered => Some(Self::PartlyDelivered),
            RunState::AwaitingApproval => Some(Self::AwaitingApproval),
            _ => None,
        }
    }

    /// Whether it tells of something good, or of nothing that anybody must mend.
    pub fn is_good(self) -> bool {
        matches!(self, Self::Recovered | Self::StillQuiet | Self::SourceUp)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_state_has_one_word_which_is_read_back() {
        for state in RunState::ALL {
            assert_eq!(state.word().parse(), Ok(*state));
            let json = serde_json::to_value(state).unwrap();
            assert_eq!(json, state.word());
        }
        let error = "sent".parse::<RunState>().unwrap_err().to_string();
        assert!(
            error.starts_with("\"sent\" is no state of a run; it is one of due, waiting,"),
            "{error}"
        );
    }

    #[test]
    fn open_states_lead_somewhere_and_only_what_was_held_or_not_sent_comes_back() {
        for state in RunState::ALL {
            let leads = !state.next().is_empty();
            assert_eq!(
                leads,
                state.is_open() || matches!(state, RunState::Held | RunState::Completed),
                "{state}"
            );
        }
    }

    #[test]
    fn every_open_run_can_be_cancelled_and_nothing_becomes_due() {
        for state in RunState::ALL {
            assert_eq!(state.may_become(RunState::Cancelled), state.is_open());
            assert!(!state.may_become(RunState::Due));
        }
    }

    #[test]
    fn whatever_a_worker_has_in_hand_can_fail() {
        for state in RunState::which(RunState::is_work) {
            assert!(state.may_become(RunState::Failed), "{state}");
        }
        assert_eq!(
            RunState::Delivering.previous().collect::<Vec<_>>(),
            [RunState::Rendering, RunState::Releasing]
        );
    }

    #[test]
    fn a_delivery_is_settled_once_and_only_an_accepted_one_bounces() {
        let bounce: Vec<DeliveryState> = DeliveryState::ALL
            .iter()
            .copied()
            .filter(|state| state.next().contains(&DeliveryState::Bounced))
            .collect();
        assert_eq!(bounce, [DeliveryState::Accepted]);
    }

    #[test]
    fn roles_are_in_the_order_of_what_they_may_do() {
        assert!(Role::Viewer < Role::Author && Role::Author < Role::Administrator);
    }
}
