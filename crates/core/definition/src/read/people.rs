//! Reads people and groups from their tables.

use maple_lark_data::number_format::NumberFormat;
use maple_lark_time::Zone;

use crate::{
    model::{
        mailbox::Mailbox,
        people::{Addressee, Group, Person},
    },
    problem::Placed,
    read::{
        name::{read_name, read_team},
        node::Node,
    },
    set::people::same,
};

pub(crate) fn read_person(root: &Node<'_>) -> Option<Person> {
    let node = root.table("person")?;
    let name = read_name(&node);
    let teams = read_team(&node);
    let title = node
        .text("title")
        .map_or_else(|| name.clone(), |title| title.value);
    node.required("address");
    let mailbox = node.parsed::<Mailbox>("address");
    if mailbox
        .as_ref()
        .is_some_and(|mailbox| mailbox.name.is_some())
    {
        node.report(
            "address",
            "write the address alone; the name shown with it is the title",
        );
    }
    let zone = node.parsed::<Zone>("time-zone");
    let (numbers, dates) = (
        node.choice("numbers", &NumberFormat::NUMBERS),
        node.choice("dates", &NumberFormat::DATES),
    );
    let number_format = (numbers.is_some() || dates.is_some())
        .then(|| NumberFormat::like(numbers.unwrap_or_default(), dates.unwrap_or_default()));
    let active = node.truth("active").unwrap_or(true);
    if name == "me" {
        node.report("name", "\"me\" means whoever asks; choose another name");
    }
    let user = node.text("user").map(|user| user.value);
    let place = node.place();
    node.close();
    Some(Person {
        name,
        teams,
        title,
        address: mailbox?.address,
        zone,
        number_format,
        active,
        user,
        place,
    })
}

pub(crate) fn read_group(root: &Node<'_>) -> Option<Group> {
    let node = root.table("group")?;
    let name = read_name(&node);
    let teams = read_team(&node);
    let title = node
        .text("title")
        .map_or_else(|| name.clone(), |title| title.value);
    let members = read_addressees(&node, "members");
    if members.is_empty() {
        node.report_empty("members", "a group needs members, such as members = [\"runa-holm\", \"harbour@orrin-sound.example\"]");
    }
    let place = node.place();
    node.close();
    Some(Group {
        name,
        teams,
        title,
        members,
        place,
    })
}

/// A list of people, groups and mail addresses; nobody may stand in it twice.
pub(crate) fn read_addressees(node: &Node<'_>, key: &'static str) -> Vec<Placed<Addressee>> {
    let mut found: Vec<Placed<Addressee>> = Vec::new();
    for text in node.texts(key) {
        match text.value.parse::<Addressee>() {
            Ok(value) if found.iter().any(|earlier| same(&earlier.value, &value)) => {
                node.report_at(&text.place, format!("{} is named twice", text.value))
            }
            Ok(value) => found.push(Placed {
                value,
                place: text.place,
            }),
            Err(error) => node.report_at(
                &text.place,
                format!("{error}, or the name of a person or a group"),
            ),
        }
    }
    found
}
