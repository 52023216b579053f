//! The real mail server answers each address as it is documented to, so that what sends by it meets what
//! real servers say.

use std::{
    io::{BufRead, BufReader, Write},
    net::TcpStream,
    time::{Duration, Instant},
};

use maple_lark_demo::RealMailServer;

/// A client that speaks SMTP (RFC 5321) line by line.
struct Client(BufReader<TcpStream>);

impl Client {
    fn new(server: &RealMailServer) -> Self {
        let stream = TcpStream::connect(("127.0.0.1", server.port)).unwrap();
        stream
            .set_read_timeout(Some(Duration::from_secs(30)))
            .unwrap();
        let mut client = Self(BufReader::new(stream));
        assert!(client.answer().starts_with("220"));
        assert!(
            client
                .say("EHLO test.orrin-sound.example")
                .starts_with("250")
        );
        client
    }

    /// The last line of an answer.
    fn answer(&mut self) -> String {
        loop {
            let mut line = String::new();
            self.0.read_line(&mut line).unwrap();
            if line.as_bytes().get(3) != Some(&b'-') {
                return line.trim().to_owned();
            }
        }
    }

    fn say(&mut self, line: &str) -> String {
        write!(self.0.get_mut(), "{line}\r\n").unwrap();
        self.answer()
    }

    /// What is said of a mail to one address.
    fn mail(&mut self, to: &str, subject: &str) -> String {
        assert!(
            self.say("MAIL FROM:<bounces@orrin-sound.example>")
                .starts_with("250")
        );
        let taken = self.say(&format!("RCPT TO:<{to}>"));
        if !taken.starts_with("250") {
            assert!(self.say("RSET").starts_with("250"));
            return taken;
        }
        assert!(self.say("DATA").starts_with("354"));
        self.say(&format!("Subject: {subject}\r\nFrom: lark@orrin-sound.example\r\nMessage-ID: <{subject}@orrin-sound.example>\r\n\r\nA text.\r\n."))
    }
}

fn until(what: &str, is_so: impl Fn() -> bool) {
    let began = Instant::now();
    while !is_so() {
        assert!(began.elapsed() < Duration::from_secs(60), "{what}");
        std::thread::sleep(Duration::from_millis(50));
    }
}

#[test]
fn each_address_is_answered_as_documented() {
    let server = RealMailServer::start().unwrap();
    let mut client = Client::new(&server);
    for (to, status) in [
        ("nobody@orrin-sound.example", "550 5.1.1"),
        ("later@orrin-sound.example", "451 4.7.1"),
        ("full@orrin-sound.example", "451 4.2.2"),
        ("anybody@elsewhere.example", "550"),
        ("runa@orrin-sound.example", "250"),
    ] {
        let said = client.mail(to, "first");
        assert!(said.starts_with(status), "{to}: {said}");
    }
    // Delivered is who was taken, with their own address.
    until("it is delivered", || !server.messages().is_empty());
    let delivered = server.messages();
    assert_eq!(delivered.len(), 1);
    assert_eq!(delivered[0].0, "runa@orrin-sound.example");
    assert!(String::from_utf8_lossy(&delivered[0].1).contains("Subject: first"));
    // Who was put off gets it once the time has come; a full disk stays full.
    std::fs::write(server.path("open"), "").unwrap();
    assert!(
        client
            .mail("later@orrin-sound.example", "second")
            .starts_with("250")
    );
    assert!(
        client
            .mail("full@orrin-sound.example", "second")
            .starts_with("451 4.2.2")
    );
    until("the second is delivered", || server.messages().len() == 2);
    // Who has gone is taken, and comes back.
    assert!(
        client
            .mail("gone@orrin-sound.example", "third")
            .starts_with("250")
    );
    let bounces = server.path("bounces").join("new");
    let back = || std::fs::read_dir(&bounces).is_ok_and(|mut all| all.next().is_some());
    until("it comes back", back);
    assert!(client.say("QUIT").starts_with("221"));
}
