//! Reads names.

use crate::{
    model::name::{is_definition_name, is_name},
    problem::Placed,
    read::node::Node,
};

/// Reads the `name` of a definition: what it is called everywhere, in small letters.
pub(crate) fn read_name(node: &Node<'_>) -> String {
    let name = node.required("name");
    if !name.value.is_empty() && !is_definition_name(&name.value) {
        node.report("name", format!("\"{}\" is not a name: use up to 60 small letters, digits and hyphens, such as \"ferry-operations\"; what belongs to a team has the team's name and a dot before it", name.value));
    }
    name.value
}

/// Reads the `team` that a definition belongs to; none if it belongs to all.
pub(crate) fn read_team(node: &Node<'_>) -> Vec<Placed<String>> {
    let team: Vec<Placed<String>> = node.text("team").into_iter().collect();
    check_teams(node, "team", &team);
    team
}

/// Reads the `teams` that may use a definition; all if there are none.
pub(crate) fn read_teams(node: &Node<'_>) -> Vec<Placed<String>> {
    let teams = node.texts("teams");
    check_teams(node, "teams", &teams);
    teams
}

fn check_teams(node: &Node<'_>, key: &'static str, teams: &[Placed<String>]) {
    for team in teams.iter().filter(|team| !is_name(&team.value)) {
        let words = format!(
            "\"{}\" is not the name of a team: use up to 60 small letters, digits and hyphens, such as \"port-operations\"",
            team.value
        );
        node.report(key, words);
    }
}

/// A name that can stand behind a colon in SQL.
pub(crate) fn read_identifier(node: &Node<'_>, key: &'static str) -> String {
    let name = node.required(key).value;
    if !name.is_empty()
        && (name.starts_with(|c: char| c.is_ascii_digit())
            || !name
                .chars()
                .all(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '_'))
    {
        node.report(key, format!("\"{name}\" is not a name here: use small letters, digits and underscores, such as \"by_port\""));
    }
    name
}
