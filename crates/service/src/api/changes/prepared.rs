//! What a change would do, worked out before anything is done.

use std::collections::{HashMap, HashSet, hash_map::Entry};

use chrono::{DateTime, Utc};
use maple_lark_api::{Change, ChangeAction, DefinitionFile, Files};
use maple_lark_definition::{Definition, DefinitionSet, Kind, Problem as FileProblem};
use maple_lark_store::{definitions::StoredDefinition, teams::Sight};

use super::files::check_names;
use crate::{
    api::{
        difference::difference,
        problem::Problem,
        seen::{self, Shares},
    },
    engine::parse_all,
};

/// How many of the next instants a change shows.
const NEXT: usize = 3;

/// A checked change: what it does, and the set that it leads to.
#[derive(Default)]
pub struct Prepared {
    pub changes: Vec<Change>,
    pub unchanged: usize,
    pub put: Vec<StoredDefinition>,
    pub remove: Vec<(String, String)>,
    pub set: DefinitionSet,
}

/// A change that goes together with the definitions that whoever makes it sees, and with the others,
/// of which nothing is told.
///
/// # Errors
/// What is wrong with it, without a word about what is hidden: whose it is comes before whether its name
/// is taken, and a name is in a name space that whoever chooses it sees all of.
pub fn checked(
    files: &Files,
    shares: Shares,
    (user, sight): (&str, &Sight),
    now: DateTime<Utc>,
) -> Result<Prepared, Problem> {
    let (stored, mut others) = (shares.whole, shares.by_name);
    let prepared = prepare(files, &stored, &others, user, now).map_err(Problem::definitions)?;
    prepared.is_theirs(sight)?;
    if shares.hidden.is_empty() {
        return Ok(prepared);
    }
    others.extend(shares.hidden);
    prepare(files, &stored, &others, user, now).map_err(|_| {
        Problem::new(
            409,
            "Does not go together",
            "this does not go together with definitions that you do not see: something still needs what you change, or a name is taken. Ask an administrator, or choose another name",
        )
    })
}

/// Works a change out over what is stored: `stored` may be changed, `others` are only there.
fn prepare(
    files: &Files,
    stored: &[StoredDefinition],
    others: &[StoredDefinition],
    user: &str,
    now: DateTime<Utc>,
) -> Result<Prepared, Vec<FileProblem>> {
    check_names(files, stored)?;
    let texts = files.files.iter();
    let given = parse_all(texts.map(|file| (file.file.as_str(), file.text.as_str())))?;
    doubles(&given)?;
    let (mut prepared, mut places) = (Prepared::default(), Places::default());
    let names: HashSet<(&str, &str)> = given
        .iter()
        .map(|one| (one.kind().name(), one.name()))
        .collect();
    for one in others {
        if names.contains(&(one.kind.as_str(), one.name.as_str())) {
            let problem = FileProblem::of_a_file(&one.file, "the name is taken");
            places.problems.push(problem);
        }
        prepared.keeps(one);
    }
    for one in stored {
        let is_given = names.contains(&(one.kind.as_str(), one.name.as_str()));
        if !is_given && !files.remove_others {
            places.keeps(one);
        }
        if is_given || !files.remove_others {
            prepared.keeps(one);
        } else {
            prepared.removes(one);
        }
    }
    drop(names);
    let before: HashMap<(&str, &str), &StoredDefinition> = stored
        .iter()
        .map(|one| ((one.kind.as_str(), one.name.as_str()), one))
        .collect();
    for (definition, file) in given.into_iter().zip(&files.files) {
        let (kind, name) = (definition.kind(), definition.name());
        let before = before.get(&(kind.name(), name)).copied();
        places.puts(&file.file, kind.name(), name);
        places
            .problems
            .extend(definition.misnamed(before.is_some()));
        if before.is_some() && file.based_on.as_deref() == Some("") {
            let words = format!(
                "there is a {} \"{name}\" already; choose another name",
                kind.name()
            );
            places.problems.push(definition.place().problem(words));
        }
        prepared.puts(definition, file, before, user, now);
    }
    prepared.says_when(now);
    let mut problems = prepared.set.check();
    problems.extend(places.problems);
    if problems.is_empty() {
        Ok(prepared)
    } else {
        Err(problems)
    }
}

impl Prepared {
    /// What is stored was checked when it came in; if it cannot be read any more it is left as it is.
    fn keeps(&mut self, one: &StoredDefinition) {
        if let Ok(definition) = Definition::parse(&one.file, &one.text) {
            self.set.put(definition);
        }
    }

    /// Refuses what would belong to a team that somebody is not in.
    fn is_theirs(&self, sight: &Sight) -> Result<(), Problem> {
        if *sight == Sight::All {
            return Ok(());
        }
        let put = self.put.iter();
        let read = put.filter_map(|one| Definition::parse(&one.file, &one.text).ok());
        for definition in read {
            seen::is_own(sight, &definition)?;
        }
        Ok(())
    }

    /// A kind that this version does not know any more goes without a word.
    fn removes(&mut self, one: &StoredDefinition) {
        self.remove.push((one.kind.clone(), one.name.clone()));
        if let Some(kind) = Kind::from_name(&one.kind) {
            let difference = difference(&one.text, "");
            let action = ChangeAction::Remove;
            self.changes
                .push(change(action, kind, &one.name, &one.file, difference));
        }
    }

    fn puts(
        &mut self,
        definition: Definition,
        file: &DefinitionFile,
        before: Option<&StoredDefinition>,
        user: &str,
        now: DateTime<Utc>,
    ) {
        if before.is_some_and(|before| before.text == file.text && before.file == file.file) {
            self.unchanged += 1;
            self.set.put(definition);
            return;
        }
        let (action, old) = match before {
            Some(before) => (ChangeAction::Alter, before.text.as_str()),
            None => (ChangeAction::Add, ""),
        };
        let (kind, name) = (definition.kind(), definition.name());
        let difference = difference(old, &file.text);
        self.changes
            .push(change(action, kind, name, &file.file, difference));
        self.put.push(StoredDefinition {
            kind: kind.name().to_owned(),
            name: name.to_owned(),
            title: definition.title().to_owned(),
            file: file.file.clone(),
            text: file.text.clone(),
            updated_at: now,
            updated_by: user.to_owned(),
        });
        self.set.put(definition);
    }

    /// Of each changed report, in words and instants, when it is made.
    fn says_when(&mut self, now: DateTime<Utc>) {
        let stays = |one: &&mut Change| one.action != ChangeAction::Remove;
        for change in self.changes.iter_mut().filter(stays) {
            let report = self.set.reports.get(&change.name);
            let Some(report) = report.filter(|_| change.kind == Kind::Report) else {
                continue;
            };
            if let Some(plan) = self.set.plan(report) {
                change.schedule = Some(format!("{}, {}", plan.schedule.sentence(), report.zone));
                change.next = plan
                    .instants(now, DateTime::<Utc>::MAX_UTC)
                    .take(NEXT)
                    .map(|at| report.zone.rfc3339(at))
                    .collect();
            }
        }
    }
}

/// Which file each definition is in: a file holds one. Each name space has files of its own, so that nobody
/// is told of a file that they do not see.
#[derive(Default)]
struct Places {
    by_file: HashMap<(Option<String>, String), (String, String)>,
    problems: Vec<FileProblem>,
}

impl Places {
    fn keeps(&mut self, one: &StoredDefinition) {
        let taken = (one.kind.clone(), one.name.clone());
        self.by_file.insert(place(&one.file, &one.name), taken);
    }

    fn puts(&mut self, file: &str, kind: &str, name: &str) {
        match self.by_file.entry(place(file, name)) {
            Entry::Vacant(free) => drop(free.insert((kind.to_owned(), name.to_owned()))),
            Entry::Occupied(taken) => {
                let (other, of) = taken.get();
                let words = format!(
                    "the file already holds the {other} \"{of}\"; put the {kind} \"{name}\" in a file of its own"
                );
                self.problems.push(FileProblem::of_a_file(file, &words));
            }
        }
    }
}

/// A file among those of the name space of what it holds.
fn place(file: &str, name: &str) -> (Option<String>, String) {
    let space = name.split_once('.').map(|(team, _)| team.to_owned());
    (space, file.to_owned())
}

fn doubles(parsed: &[Definition]) -> Result<(), Vec<FileProblem>> {
    let mut problems = Vec::new();
    let mut known: HashMap<(Kind, &str), &Definition> = HashMap::new();
    for one in parsed {
        let first = *known.entry((one.kind(), one.name())).or_insert(one);
        if !std::ptr::eq(first, one) {
            problems.push(one.place().problem(format!(
                "the {} \"{}\" is already defined in {}",
                one.kind().name(),
                one.name(),
                first.place().file
            )));
        }
    }
    if problems.is_empty() {
        Ok(())
    } else {
        Err(problems)
    }
}

fn change(action: ChangeAction, kind: Kind, name: &str, file: &str, diff: String) -> Change {
    Change {
        action,
        kind,
        name: name.to_owned(),
        file: file.to_owned(),
        diff,
        schedule: None,
        next: Vec::new(),
        lets_go: None,
    }
}
