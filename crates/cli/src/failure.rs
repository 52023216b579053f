//! Why a command failed, and the exit code that says so to scripts.

use std::process::ExitCode;

use maple_lark_api::ProblemDetails;

#[derive(Debug, thiserror::Error)]
pub enum Failure {
    #[error(
        "the service at {address} cannot be reached: {words}. Check that it runs, and --address or MAPLE_LARK_ADDRESS"
    )]
    Unreachable { address: String, words: String },
    #[error(
        "you are not signed in; run \"maple-lark sign-in --address URL\" first, or set MAPLE_LARK_TOKEN"
    )]
    NotSignedIn,
    #[error("{}", refused(.0))]
    Refused(ProblemDetails),
    /// Somebody was asked, and did not say yes.
    #[error("{0}")]
    Declined(&'static str),
    #[error("{0}")]
    Local(String),
    #[cfg(feature = "serve")]
    #[error(transparent)]
    Serve(#[from] maple_lark_service::ServeError),
}

fn refused(problem: &ProblemDetails) -> String {
    if problem.problems.is_empty() {
        return problem.detail.clone();
    }
    let lines: Vec<String> = problem
        .problems
        .iter()
        .map(|one| {
            let key = if one.key.is_empty() {
                String::new()
            } else {
                format!("{}: ", one.key)
            };
            format!(
                "  {}:{}:{}: {key}{}",
                one.file, one.line, one.column, one.message
            )
        })
        .collect();
    format!(
        "the definitions are not valid; nothing was changed\n{}",
        lines.join("\n")
    )
}

impl Failure {
    /// The same for programs: problem details (RFC 9457).
    pub fn details(&self) -> ProblemDetails {
        match self {
            Self::Refused(problem) => problem.clone(),
            Self::Unreachable { .. } => ProblemDetails::new(503, "Not reached", self.to_string()),
            Self::NotSignedIn => ProblemDetails::new(401, "Not signed in", self.to_string()),
            _ => ProblemDetails::new(400, "Not done", self.to_string()),
        }
    }

    /// Whether the same goes with a code of a second factor.
    pub fn needs_code(&self) -> bool {
        matches!(self, Self::Refused(problem) if problem.needs_code)
    }

    pub fn exit_code(&self) -> ExitCode {
        ExitCode::from(match self {
            Failure::Unreachable { .. } => 3,
            Failure::NotSignedIn => 4,
            Failure::Refused(problem) => match problem.status {
                401 | 403 | 429 => 4,
                500.. => 3,
                _ => 5,
            },
            Failure::Local(_) | Failure::Declined(_) => 1,
            // As sysexits(3) has it: to start it again is of no use.
            #[cfg(feature = "serve")]
            Failure::Serve(maple_lark_service::ServeError::Config(_)) => 78,
            #[cfg(feature = "serve")]
            Failure::Serve(_) => 1,
        })
    }
}
