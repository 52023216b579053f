//! `maple-lark`: the command line. Every command but `serve` speaks only the public API.

mod client;
mod command;
mod failure;
mod instants;
mod output;
mod saved;
mod typed;
mod words;

use std::{process::ExitCode, sync::LazyLock};

use clap::{CommandFactory, Parser, Subcommand};
use maple_lark_api::ProblemDetails;

use command::{
    agenda, apply, archive, ask, audit, backfill, capture, condition, define, deliver, download,
    explain, export, history, keeping, list, publish, run, second_factor, secret, sessions,
    sign_in, source, teams, template, tokens, users,
};
#[cfg(feature = "serve")]
use command::{check, init, serve};
use failure::Failure;
use output::Output;

/// Layout makes and drops very many small things; this allocator lays out a report in
/// noticeably less time than the system's.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

/// Snapshots monitoring data on a schedule, makes documents of it and mails them.
///
/// Start with "maple-lark sign-in", then "maple-lark apply FOLDER" with your definitions and
/// "maple-lark run REPORT" to see one made and sent.
#[derive(Parser)]
#[command(version = VERSION.as_str(), max_term_width = 100, after_long_help = EXIT_CODES)]
struct Arguments {
    /// Where the service is; remembered by "sign-in"
    #[arg(long, global = true, env = "MAPLE_LARK_ADDRESS", value_name = "URL", value_parser = client::address_of)]
    address: Option<String>,
    /// How answers are printed
    #[arg(long, short, global = true, value_enum, default_value_t = Output::Table)]
    output: Output,
    #[command(subcommand)]
    command: Command,
}

/// The version of the program, and of the rules of time zones on this machine.
static VERSION: LazyLock<String> = LazyLock::new(|| {
    let own = maple_lark_time::zone::rules_in_use().version;
    // Where the system has none, or older ones, the program's own are used.
    let system = maple_lark_zones::version(&maple_lark_zones::folder());
    let rules = match system.ok().filter(|version| *version >= own) {
        Some(version) => format!("{version}, this system's"),
        None => format!("{own}, the program's own"),
    };
    format!("{}\nTime zone rules {rules}", env!("CARGO_PKG_VERSION"))
});

const EXIT_CODES: &str = "\
Exit codes:
  0  it went well
  1  a run did not end well, a source refused its test, or a question was not answered with yes
  2  the command line is wrong
  3  the service cannot be reached
  4  not signed in, or not permitted
  5  the service refused what it was given; nothing was changed
  78  the configuration of the service is wrong
  130  interrupted (Ctrl-C) while following a run, which goes on

Environment:
  MAPLE_LARK_ADDRESS   where the service is
  MAPLE_LARK_TOKEN     an API token, instead of a saved sign-in
  MAPLE_LARK_PASSWORD  the password for \"sign-in\"";

#[derive(Subcommand)]
enum Command {
    SignIn(sign_in::SignIn),
    SignOut(sign_in::SignOut),
    Accept(sign_in::Accept),
    Apply(apply::Apply),
    Export(export::Export),
    Copy(apply::Copy),
    New(define::New),
    Set(define::Set),
    Templates(template::Templates),
    Use(template::Use),
    Remove(apply::Remove),
    History(history::History),
    Restore(history::Restore),
    /// List the sources
    Sources,
    /// List the dashboards
    Dashboards,
    /// List the calendars with the next days that they name
    Calendars,
    /// List the reports with their last and next runs
    Reports {
        /// Only those with this tag; may be given several times
        #[arg(long = "tag", value_name = "TAG")]
        tags: Vec<String>,
    },
    Runs(list::Runs),
    /// List the samplers with how much history each has kept
    Samplers,
    Test(source::Test),
    Catalogue(ask::Catalogue),
    Query(ask::Query),
    Preview(ask::Preview),
    Capture(Box<capture::Capture>),
    Parameters(ask::Parameters),
    Secret(secret::Secret),
    Users(users::Users),
    Password(users::Password),
    SecondFactor(second_factor::SecondFactor),
    Teams(teams::Teams),
    Audit(audit::Audit),
    Tokens(tokens::Tokens),
    Sessions(sessions::Sessions),
    Passkeys(sessions::Passkeys),
    Roles(tokens::Roles),
    Run(run::Run),
    Show(run::Show),
    Publish(publish::Publish),
    Archive(Box<archive::Archive>),
    Keeping(keeping::Keeping),
    Download(download::Download),
    Render(download::Render),
    Verify(download::Verify),
    Send(deliver::Send),
    Resend(deliver::Resend),
    Release(deliver::Release),
    Channels(deliver::Channels),
    Recipients(deliver::Recipients),
    /// List notices to owners: runs held, failed or late, and suppressed addresses
    Notices,
    Cancel(backfill::Cancel),
    Backfill(backfill::Backfill),
    Explain(explain::Explain),
    Agenda(agenda::Agenda),
    /// Pause the schedule of a report
    Pause {
        report: String,
    },
    /// Resume the schedule of a report
    Resume {
        report: String,
    },
    #[cfg(feature = "serve")]
    Serve(serve::Serve),
    #[cfg(feature = "serve")]
    Init(init::Init),
    #[cfg(feature = "serve")]
    Check(check::Check),
    Condition(condition::Condition),
    /// Print what completes commands and options in a shell
    ///
    /// For bash: maple-lark completions bash > /etc/bash_completion.d/maple-lark
    Completions {
        shell: clap_complete::Shell,
    },
    /// Write manual pages, one for each command, into a folder
    Manual {
        folder: std::path::PathBuf,
    },
    /// Print the description of the API (OpenAPI 3.1)
    #[cfg(feature = "serve")]
    Openapi,
}

#[tokio::main]
async fn main() -> ExitCode {
    end_quietly_without_a_reader();
    let arguments = match Arguments::try_parse() {
        Ok(arguments) => arguments,
        Err(error) => return not_understood(&error),
    };
    let output = arguments.output;
    match run(arguments).await {
        Ok(code) => code,
        Err(failure) if output == Output::Json => {
            let details = serde_json::to_string_pretty(&failure.details());
            eprintln!("{}", details.unwrap_or_default());
            failure.exit_code()
        }
        Err(failure) => {
            eprintln!(
                "{} {failure}",
                console::style("error:").for_stderr().red().bold()
            );
            failure.exit_code()
        }
    }
}

/// What the command line is not understood for, or the help that it asked for. As JSON where that
/// is asked for, as far as it can be made out.
fn not_understood(error: &clap::Error) -> ExitCode {
    let given: Vec<String> = std::env::args().collect();
    let json = given.windows(2).any(|pair| {
        let [name, value] = pair else { return false };
        ["-o", "--output"].contains(&name.as_str()) && value == "json"
    }) || given
        .iter()
        .any(|one| one == "-ojson" || one == "--output=json");
    if json && error.use_stderr() {
        let words = error.render().to_string();
        // What follows says how the command is used, and where its help is.
        let detail = words.split("\n\nUsage").next().unwrap_or(&words);
        let detail = detail.split("\n\nFor more").next().unwrap_or(detail);
        let detail = detail.trim_start_matches("error: ").trim();
        let details = ProblemDetails::new(400, "Not understood", detail.to_owned());
        eprintln!(
            "{}",
            serde_json::to_string_pretty(&details).unwrap_or_default()
        );
    } else {
        // Nobody may be there to read it.
        let _ = error.print();
    }
    ExitCode::from(u8::try_from(error.exit_code()).unwrap_or(2))
}

/// Whoever reads our output may have seen enough ("… | head"); printing more to nobody is no
/// fault of the program. Where there is no room for it, that is said.
fn end_quietly_without_a_reader() {
    let usual = std::panic::take_hook();
    std::panic::set_hook(Box::new(move |panic| {
        let words = panic.payload().downcast_ref::<String>();
        match words.and_then(|words| words.strip_prefix("failed printing to stdout: ")) {
            Some(reason) if reason.contains("os error 32") => std::process::exit(0),
            Some(reason) => {
                eprintln!("error: the answer cannot be printed: {reason}");
                std::process::exit(1);
            }
            None => usual(panic),
        }
    }));
}

#[expect(clippy::too_many_lines, reason = "one line a command")]
async fn run(arguments: Arguments) -> Result<ExitCode, Failure> {
    let output = arguments.output;
    let address = arguments.address;
    let client = || client::Client::signed_in(address.clone());
    match arguments.command {
        Command::SignIn(command) => command.run(address).await?,
        Command::SignOut(command) => command.run(address).await?,
        Command::Accept(command) => command.run().await?,
        Command::Apply(command) => command.run(&client()?, output).await?,
        Command::Copy(command) => command.run(&client()?, output).await?,
        Command::New(command) => command.run(&client()?, output).await?,
        Command::Set(command) => command.run(&client()?, output).await?,
        Command::Templates(command) => command.run(&client()?, output).await?,
        Command::Use(command) => command.run(&client()?, output).await?,
        Command::Remove(command) => command.run(&client()?, output).await?,
        Command::History(command) => command.run(&client()?, output).await?,
        Command::Restore(command) => command.run(&client()?, output).await?,
        Command::Agenda(command) => command.run(&client()?, output).await?,
        Command::Export(command) => command.run(&client()?).await?,
        Command::Sources => list::sources(&client()?, output).await?,
        Command::Dashboards => list::dashboards(&client()?, output).await?,
        Command::Calendars => list::calendars(&client()?, output).await?,
        Command::Reports { tags } => list::reports(&client()?, &tags, output).await?,
        Command::Runs(command) => command.run(&client()?, output).await?,
        Command::Samplers => ask::samplers(&client()?, output).await?,
        Command::Catalogue(command) => command.run(&client()?, output).await?,
        Command::Query(command) => command.run(&client()?, output).await?,
        Command::Preview(command) => command.run(&client()?, output).await?,
        Command::Parameters(command) => command.run(&client()?, output).await?,
        Command::Secret(command) => command.run(&client()?, output).await?,
        Command::Users(command) => command.run(&client()?, output).await?,
        Command::Password(command) => command.run(&client()?).await?,
        Command::SecondFactor(command) => command.run(&client()?, output).await?,
        Command::Audit(command) => return command.run(&client()?, output).await,
        Command::Teams(command) => command.run(&client()?, output).await?,
        Command::Tokens(command) => command.run(&client()?, output).await?,
        Command::Sessions(command) => command.run(&client()?, output).await?,
        Command::Passkeys(command) => command.run(&client()?, output).await?,
        Command::Roles(command) => command.run(output),
        Command::Test(command) => return command.run(&client()?, output).await,
        Command::Capture(command) => return command.run(&client()?, output).await,
        Command::Run(command) => return command.run(&client()?, output).await,
        Command::Show(command) => command.run(&client()?, output).await?,
        Command::Publish(command) => command.run(&client()?, output).await?,
        Command::Archive(command) => command.run(&client()?, output).await?,
        Command::Keeping(command) => command.run(&client()?, output).await?,
        Command::Download(command) => command.run(&client()?, output).await?,
        Command::Render(command) => command.run(&client()?, output).await?,
        Command::Verify(command) => return command.run(&client()?, output).await,
        Command::Send(command) => return command.run(&client()?, output).await,
        Command::Resend(command) => command.run(&client()?, output).await?,
        Command::Release(command) => command.run(&client()?, output).await?,
        Command::Channels(command) => return command.run(&client()?, output).await,
        Command::Recipients(command) => command.run(&client()?, output).await?,
        Command::Notices => deliver::notices(&client()?, output).await?,
        Command::Cancel(command) => command.run(&client()?, output).await?,
        Command::Backfill(command) => command.run(&client()?, output).await?,
        Command::Explain(command) => command.run(&client()?, output).await?,
        Command::Pause { report } => list::pause(&client()?, &report, true, output).await?,
        Command::Resume { report } => list::pause(&client()?, &report, false, output).await?,
        Command::Completions { shell } => {
            let mut command = Arguments::command();
            let mut script = Vec::new();
            clap_complete::generate(shell, &mut command, "maple-lark", &mut script);
            print!("{}", String::from_utf8_lossy(&script));
        }
        Command::Manual { folder } => manual(&folder)?,
        #[cfg(feature = "serve")]
        Command::Serve(command) => command.run().await?,
        #[cfg(feature = "serve")]
        Command::Init(command) => command.run(output).await?,
        #[cfg(feature = "serve")]
        Command::Check(command) => {
            if !command.run(output).await? {
                return Ok(ExitCode::FAILURE);
            }
        }
        Command::Condition(command) => {
            if !command.run(&client()?, output).await? {
                return Ok(ExitCode::FAILURE);
            }
        }
        #[cfg(feature = "serve")]
        Command::Openapi => println!("{}", maple_lark_service::openapi()),
    }
    Ok(ExitCode::SUCCESS)
}

fn manual(folder: &std::path::Path) -> Result<(), Failure> {
    let written = std::fs::create_dir_all(folder)
        .and_then(|()| clap_mangen::generate_to(Arguments::command(), folder));
    written.map_err(|error| {
        Failure::Local(format!("{} cannot be written: {error}", folder.display()))
    })?;
    println!(
        "The manual pages are in {}; read one with \"man -l FILE\".",
        folder.display()
    );
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn every_command(
        command: &clap::Command,
        path: &str,
        each: &mut impl FnMut(&clap::Command, &str),
    ) {
        let path = format!("{path} {}", command.get_name()).trim().to_owned();
        each(command, &path);
        for inner in command
            .get_subcommands()
            .filter(|inner| inner.get_name() != "help")
        {
            every_command(inner, &path, each);
        }
    }

    #[test]
    fn the_command_line_is_consistent() {
        Arguments::command().debug_assert();
    }

    /// Whoever reads the help should not have to guess.
    #[test]
    fn every_command_and_every_option_says_what_it_is_for() {
        let mut commands = 0;
        let mut silent = Vec::new();
        every_command(&Arguments::command(), "", &mut |command, path| {
            commands += 1;
            if command.get_about().is_none() {
                silent.push(path.to_owned());
            }
            for argument in command.get_arguments() {
                let plain = argument.is_positional() && argument.get_help().is_none();
                // A place such as REPORT or RUN says itself what goes there.
                if argument.get_help().is_none() && !plain {
                    silent.push(format!("{path} --{}", argument.get_id()));
                }
                let help = argument
                    .get_help()
                    .map(ToString::to_string)
                    .unwrap_or_default();
                assert!(
                    !help.ends_with('.'),
                    "{path}: \"{help}\" ends unlike the others"
                );
            }
        });
        assert_eq!(silent, Vec::<String>::new());
        assert!(commands > 35, "{commands}");
    }

    #[test]
    fn examples_in_the_help_are_commands_that_there_are() {
        let mut tried = 0;
        every_command(&Arguments::command(), "", &mut |command, path| {
            let texts = [command.get_after_help(), command.get_after_long_help()]
                .into_iter()
                .flatten()
                .map(ToString::to_string);
            let examples: Vec<String> = texts
                .flat_map(|text| {
                    text.lines()
                        .map(|line| line.trim().to_owned())
                        .collect::<Vec<_>>()
                })
                .collect();
            for example in examples
                .iter()
                .filter_map(|line| line.strip_prefix("maple-lark "))
            {
                // What it does stands behind it, some way off; another program may follow.
                let words = words(
                    example
                        .split("  ")
                        .next()
                        .and_then(|line| line.split(" && ").next())
                        .unwrap_or_default(),
                );
                let given: Vec<&str> = words
                    .iter()
                    .map(String::as_str)
                    .filter(|word| *word != "|" && *word != "…")
                    .collect();
                // An id is cut short in the help.
                let given = given.iter().map(|word| {
                    if word.ends_with('…') {
                        "01a20778-04ba-70ff-853b-f952290418d2"
                    } else {
                        word
                    }
                });
                let parsed = Arguments::try_parse_from(["maple-lark"].into_iter().chain(given));
                assert!(
                    parsed.is_ok(),
                    "{path}: {example}: {}",
                    parsed
                        .err()
                        .map(|error| error.to_string())
                        .unwrap_or_default()
                );
                tried += 1;
            }
        });
        assert!(tried > 15, "{tried}");
    }

    /// As a shell takes a line apart, as far as the examples need it.
    fn words(line: &str) -> Vec<String> {
        let (mut words, mut word, mut quote, mut escaped) =
            (Vec::new(), None::<String>, None, false);
        for letter in line.chars() {
            match (quote, letter) {
                _ if escaped => {
                    word.get_or_insert_default().push(letter);
                    escaped = false;
                }
                (Some('"'), '\\') => escaped = true,
                (Some(open), letter) if letter == open => quote = None,
                (Some(_), letter) => word.get_or_insert_default().push(letter),
                (None, '\'' | '"') => {
                    quote = Some(letter);
                    word.get_or_insert_default();
                }
                (None, ' ') => words.extend(word.take()),
                (None, letter) => word.get_or_insert_default().push(letter),
            }
        }
        words.extend(word);
        words
    }
}
