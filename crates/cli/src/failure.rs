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
    pub fn exit_code(&self) -> ExitCode {
        ExitCode::from(match self {
            Failure::Unreachable { .. } => 3,
            Failure::NotSignedIn => 4,
            Failure::Refused(problem) => match problem.status {
                401 | 403 | 429 => 4,
                500.. => 3,
                _ => 5,
            },
            Failure::Local(_) => 1,
            #[cfg(feature = "serve")]
            Failure::Serve(_) => 1,
        })
    }
}
