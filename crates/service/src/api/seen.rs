//! What somebody sees: what belongs to their teams, and what belongs to all. The rest is not there.

use maple_lark_definition::{Definition, Kind, Problem as FileProblem};
use maple_lark_store::{
    Store, definitions::StoredDefinition, pictures::WholeSnapshot, runs::Run, teams::Sight,
};
use uuid::Uuid;

use super::problem::Problem;
use crate::access::SignedIn;

/// A run, if somebody sees it. Who is held to values sees none as a whole.
pub async fn run(store: &Store, sight: &Sight, id: Uuid) -> Result<Run, Problem> {
    let found = store.run(id).await?.filter(|run| sight.sees(&run.team));
    let whole = found.filter(|_| !matches!(sight, Sight::Within { .. }));
    whole.ok_or_else(|| Problem::not_found(format!("run {id}")))
}

/// The run of a snapshot, if somebody sees that snapshot.
pub async fn run_of(
    store: &Store,
    sight: &Sight,
    (run, snapshot): (Uuid, Uuid),
) -> Result<Option<Run>, Problem> {
    if !store.is_within(snapshot, sight).await? {
        return Ok(None);
    }
    Ok(store.run(run).await?.filter(|run| sight.sees(&run.team)))
}

/// The run of a snapshot whose documents somebody may have: they see it, or it was sent to them.
pub async fn run_of_documents(
    store: &Store,
    user: &SignedIn,
    (run, snapshot): (Uuid, Uuid),
) -> Result<Option<Run>, Problem> {
    let seen = run_of(store, &user.1, (run, snapshot)).await?;
    if seen.is_some() || !store.was_sent_to(snapshot, user.reader()).await? {
        return Ok(seen);
    }
    Ok(store.run(run).await?)
}

/// A snapshot that somebody sees, with its run.
///
/// # Errors
/// If there is none for them, or its bytes went.
pub async fn snapshot(
    store: &Store,
    sight: &Sight,
    id: Uuid,
) -> Result<(WholeSnapshot, Run), Problem> {
    whole(store, id, async |of| run_of(store, sight, of).await).await
}

/// A snapshot that somebody sees, or that was sent to them, with its run.
///
/// # Errors
/// As for [`snapshot`].
pub async fn snapshot_of_documents(
    store: &Store,
    user: &SignedIn,
    id: Uuid,
) -> Result<(WholeSnapshot, Run), Problem> {
    whole(store, id, async |of| {
        run_of_documents(store, user, of).await
    })
    .await
}

async fn whole(
    store: &Store,
    id: Uuid,
    run_of: impl AsyncFnOnce((Uuid, Uuid)) -> Result<Option<Run>, Problem>,
) -> Result<(WholeSnapshot, Run), Problem> {
    let nothing = || Problem::not_found(format!("snapshot {id}"));
    let (run_id, removed_at) = store.snapshot_place(id).await?.ok_or_else(nothing)?;
    let run = run_of((run_id, id)).await?.ok_or_else(nothing)?;
    if let Some(at) = removed_at {
        return Err(Problem::gone("the snapshots of this run", at));
    }
    let kept = store.whole_snapshot(id).await?.ok_or_else(nothing)?;
    Ok((kept, run))
}

/// That a name cannot be used, because something that is not seen has it.
pub fn taken(kind: Kind, name: &str) -> Problem {
    let words = format!(
        "the name \"{name}\" cannot be used for a {}; choose another",
        kind.name()
    );
    Problem::new(409, "Name taken", words)
}

/// What is wrong with the name of a definition that is looked at before it is saved. A new one of nobody in
/// the name space of the one team that they are in will be given to the team when it is saved.
pub fn misnamed(sight: &Sight, definition: &Definition, is_there: bool) -> Option<FileProblem> {
    let space = definition.name().split_once('.').map(|(team, _)| team);
    let given = definition.teams().is_empty()
        && sight
            .teams()
            .is_some_and(|own| matches!(&own[..], [team] if Some(team.as_str()) == space));
    if given {
        None
    } else {
        definition.misnamed(is_there)
    }
}

/// Refuses what is to belong to a team that somebody is not in.
pub fn is_own(sight: &Sight, definition: &Definition) -> Result<(), Problem> {
    match definition
        .teams()
        .iter()
        .find(|team| !sight.sees(&team.value))
    {
        None => Ok(()),
        Some(team) => {
            let words = format!("you are not in a team \"{}\"", team.value);
            Err(Problem::definitions(vec![team.place.problem(words)]))
        }
    }
}

/// How much of a definition somebody sees.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Share {
    Nothing,
    /// That it is there: a source or a channel that is shared with a team is used by its name, and its
    /// settings are the administrator's.
    Name,
    All,
}

/// How much somebody sees of a definition with this text. One that cannot be read any more is the
/// administrator's to mend.
pub fn share(sight: &Sight, file: &str, text: &str) -> Share {
    if *sight == Sight::All {
        return Share::All;
    }
    let Ok(definition) = Definition::parse(file, text) else {
        return Share::Nothing;
    };
    let teams = definition.teams();
    if teams.is_empty() {
        return Share::All;
    }
    let own = teams.iter().any(|team| sight.sees(&team.value));
    match (own, definition.kind()) {
        (false, _) => Share::Nothing,
        (true, Kind::Source | Kind::Channel) => Share::Name,
        (true, _) => Share::All,
    }
}

/// All definitions by how much somebody sees of them.
#[derive(Default)]
pub struct Shares {
    /// Those whose texts they see.
    pub whole: Vec<StoredDefinition>,
    /// Those that they use by their names.
    pub by_name: Vec<StoredDefinition>,
    pub hidden: Vec<StoredDefinition>,
}

/// What somebody sees of the definitions.
pub fn shares(sight: &Sight, stored: Vec<StoredDefinition>) -> Shares {
    let mut found = Shares::default();
    for one in stored {
        match share(sight, &one.file, &one.text) {
            Share::All => found.whole.push(one),
            Share::Name => found.by_name.push(one),
            Share::Nothing => found.hidden.push(one),
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_shared_source_is_used_by_its_name_and_nothing_of_others_is_seen() {
        let port = Sight::Teams(vec!["port".to_owned()]);
        let nobody = Sight::Teams(Vec::new());
        let person = |team: &str| {
            format!("[person]\nname = \"ann\"\naddress = \"ann@orrin-sound.example\"\n{team}")
        };
        let source = "[source]\nname = \"s\"\nkind = \"files\"\nfolder = \"/srv\"\nteams = [\"port\", \"crew\"]\n";
        let own = person("team = \"port\"\n");
        for (text, to_port, to_nobody) in [
            (person(""), Share::All, Share::All),
            (own, Share::All, Share::Nothing),
            (person("team = \"crew\"\n"), Share::Nothing, Share::Nothing),
            (source.to_owned(), Share::Name, Share::Nothing),
            (
                "not a definition".to_owned(),
                Share::Nothing,
                Share::Nothing,
            ),
        ] {
            assert_eq!(share(&port, "f.toml", &text), to_port, "{text}");
            assert_eq!(share(&nobody, "f.toml", &text), to_nobody, "{text}");
            assert_eq!(share(&Sight::All, "f.toml", &text), Share::All, "{text}");
        }
    }
}
