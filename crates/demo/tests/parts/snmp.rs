//! The agent and the receiver of notifications, spoken to in the octets of SNMP (RFC 3416) themselves.

use std::{
    net::UdpSocket,
    time::{Duration, Instant},
};

use maple_lark_demo::{NotificationReceiver, SnmpAgent, notification_receiver, snmp_agent};

/// How long something that must come is waited for.
const PATIENCE: Duration = Duration::from_secs(60);
/// `sysName.0`
const NAME: &[u8] = &[0x2b, 6, 1, 2, 1, 1, 5, 0];
/// `sysUpTime.0`
const UP_TIME: &[u8] = &[0x2b, 6, 1, 2, 1, 1, 3, 0];
/// `snmpTrapOID.0`
const TRAP: &[u8] = &[0x2b, 6, 1, 6, 3, 1, 1, 4, 1, 0];
/// `coldStart`
const COLD_START: &[u8] = &[0x2b, 6, 1, 6, 3, 1, 1, 5, 1];

/// A value in the basic encoding rules, of fewer than 128 octets.
fn encoded(tag: u8, parts: &[&[u8]]) -> Vec<u8> {
    let body = parts.concat();
    assert!(body.len() < 128);
    let mut all = vec![tag, body.len() as u8];
    all.extend(body);
    all
}

fn variable(name: &[u8], tag: u8, value: &[u8]) -> Vec<u8> {
    encoded(0x30, &[&encoded(6, &[name]), &encoded(tag, &[value])])
}

/// A message of version 2c.
fn message(community: &str, kind: u8, variables: &[&[u8]]) -> Vec<u8> {
    let number = |n: u8| encoded(2, &[&[n]]);
    let rest = encoded(0x30, variables);
    let body = encoded(kind, &[&number(7), &number(0), &number(0), &rest]);
    encoded(
        0x30,
        &[&number(1), &encoded(4, &[community.as_bytes()]), &body],
    )
}

fn socket(to: &str) -> UdpSocket {
    let socket = UdpSocket::bind("127.0.0.1:0").unwrap();
    socket.connect(to).unwrap();
    socket.set_read_timeout(Some(PATIENCE)).unwrap();
    socket
}

#[test]
fn the_agent_tells_its_community_its_name_and_nobody_else() {
    let agent = SnmpAgent::start().unwrap();
    let (stranger, known) = (socket(&agent.address()), socket(&agent.address()));
    let asked = |community: &str| message(community, 0xa0, &[&variable(NAME, 5, &[])]);
    stranger.send(&asked("public")).unwrap();
    known.send(&asked(snmp_agent::COMMUNITY)).unwrap();
    let mut answer = [0; 1500];
    let length = known.recv(&mut answer).unwrap();
    let name = b"kai-2.orrin-sound.example";
    assert!(answer[..length].windows(name.len()).any(|at| at == name));
    // It answers in turn: what is not answered by now is not going to be.
    stranger.set_nonblocking(true).unwrap();
    assert!(stranger.recv(&mut answer).is_err());
}

#[test]
fn the_receiver_writes_down_what_its_community_tells_and_nothing_else() {
    let receiver = NotificationReceiver::start("0x80001f8804736f6d65").unwrap();
    let socket = socket(&receiver.address());
    for (community, name) in [
        ("public", "a stranger"),
        (notification_receiver::COMMUNITY, "kai-3"),
    ] {
        let variables = [
            variable(UP_TIME, 0x43, &[1]),
            variable(TRAP, 6, COLD_START),
            variable(NAME, 4, name.as_bytes()),
        ];
        let variables: Vec<&[u8]> = variables.iter().map(Vec::as_slice).collect();
        socket.send(&message(community, 0xa7, &variables)).unwrap();
    }
    let began = Instant::now();
    while !receiver.heard().contains("kai-3") {
        assert!(began.elapsed() < PATIENCE, "{}", receiver.heard());
        std::thread::sleep(Duration::from_millis(20));
    }
    assert!(!receiver.heard().contains("a stranger"));
}
