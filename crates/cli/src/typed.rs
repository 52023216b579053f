//! What somebody types in answer to a question, or has put into the environment.

use std::io::{BufRead, Write};

use crate::failure::Failure;

/// The password of the environment, or one that is typed.
pub fn password(prompt: &str) -> Result<String, Failure> {
    match std::env::var("MAPLE_LARK_PASSWORD") {
        Ok(password) if !password.is_empty() => Ok(password),
        _ => rpassword::prompt_password(prompt)
            .map_err(|error| Failure::Local(format!("no password was given: {error}"))),
    }
}

/// The token of the environment.
pub fn token_of_the_environment() -> Option<String> {
    let given = std::env::var("MAPLE_LARK_TOKEN").ok();
    given.filter(|token| !token.is_empty())
}

/// The token of the environment, or one that is typed.
pub fn token() -> Result<String, Failure> {
    if let Some(token) = token_of_the_environment() {
        return Ok(token);
    }
    let typed = rpassword::prompt_password("Token: ");
    let typed = typed.map_err(|error| Failure::Local(format!("no token was given: {error}")))?;
    Ok(typed.trim().to_owned())
}

/// A code of the environment, or one that is typed.
pub fn code(prompt: &str) -> Result<String, Failure> {
    if let Ok(code) = std::env::var("MAPLE_LARK_CODE")
        && !code.is_empty()
    {
        return Ok(code);
    }
    print!("{prompt}");
    let _ = std::io::stdout().flush();
    let mut typed = String::new();
    let read = std::io::stdin().lock().read_line(&mut typed);
    match read {
        Ok(signs) if signs > 0 => Ok(typed.trim().to_owned()),
        _ => Err(Failure::Local(
            "no code was given; type it, or set MAPLE_LARK_CODE".to_owned(),
        )),
    }
}
