//! A syslog line (RFC 5424), by UDP (RFC 5426) or TCP with counted octets (RFC 6587).

use std::time::Duration;

use chrono::{DateTime, SecondsFormat, Utc};
use tokio::{
    io::AsyncWriteExt,
    net::{TcpStream, UdpSocket},
    time::timeout,
};

use crate::DeliveryError;

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Severity {
    Error = 3,
    Warning = 4,
    Informational = 6,
}

/// What is told of one run.
#[derive(Debug, Clone)]
pub struct SyslogLine {
    pub facility: u8,
    pub severity: Severity,
    pub at: DateTime<Utc>,
    pub host: String,
    /// Names the kind of message: the run's state.
    pub message_id: String,
    /// Names and values for programs.
    pub data: Vec<(&'static str, String)>,
    pub text: String,
}

impl std::fmt::Display for SyslogLine {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let priority = u16::from(self.facility) * 8 + self.severity as u16;
        let at = self.at.to_rfc3339_opts(SecondsFormat::Millis, true);
        write!(
            f,
            "<{priority}>1 {at} {} maple-lark - {} [run@32473",
            token(&self.host, 255),
            token(&self.message_id, 32)
        )?;
        for (name, value) in &self.data {
            let value: String = value
                .chars()
                .map(|c| if c.is_control() { ' ' } else { c })
                .collect();
            // The three characters that a value must not hold bare.
            write!(
                f,
                " {name}=\"{}\"",
                value
                    .replace('\\', "\\\\")
                    .replace('"', "\\\"")
                    .replace(']', "\\]")
            )?;
        }
        let text: String = self
            .text
            .chars()
            .map(|c| if c.is_control() { ' ' } else { c })
            .collect();
        write!(f, "] \u{feff}{text}")
    }
}

/// Printable ASCII without spaces, as the head of a line wants it.
fn token(text: &str, longest: usize) -> String {
    let token: String = text
        .chars()
        .filter(char::is_ascii_graphic)
        .take(longest)
        .collect();
    if token.is_empty() {
        "-".to_owned()
    } else {
        token
    }
}

/// Sends one line. By UDP nobody confirms that it came; that it left is all that is known.
///
/// # Errors
/// If the receiver cannot be reached.
pub async fn send_line(
    address: &str,
    tcp: bool,
    patience: Duration,
    line: &SyslogLine,
) -> Result<String, DeliveryError> {
    let unreachable = |words: String| DeliveryError::Unreachable {
        server: format!("the syslog receiver {address}"),
        words,
    };
    let line = line.to_string();
    let sent = async {
        if tcp {
            let mut stream = TcpStream::connect(address).await?;
            stream
                .write_all(format!("{} {line}", line.len()).as_bytes())
                .await?;
            stream.shutdown().await?;
            return Ok("written to its connection");
        }
        let target = tokio::net::lookup_host(address)
            .await?
            .next()
            .ok_or_else(|| std::io::Error::other("the name has no address"))?;
        let socket = UdpSocket::bind(if target.is_ipv4() {
            "0.0.0.0:0"
        } else {
            "[::]:0"
        })
        .await?;
        socket.send_to(line.as_bytes(), target).await?;
        Ok("sent; by UDP nobody confirms")
    };
    match timeout(patience, sent).await {
        Ok(Ok(words)) => Ok(words.to_owned()),
        Ok(Err::<_, std::io::Error>(error)) => Err(unreachable(error.to_string())),
        Err(_) => Err(unreachable(format!(
            "no connection within {} s",
            patience.as_secs()
        ))),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_line_has_the_form_of_the_standard() {
        let line = SyslogLine {
            facility: 16,
            severity: Severity::Warning,
            at: "2026-11-23T07:30:00.5Z".parse().unwrap(),
            host: "lark one".into(),
            message_id: "partly-delivered".into(),
            data: vec![
                ("report", "ferries".into()),
                ("problem", "a \"b\" ]\\\nnext".into()),
            ],
            text: "Ferries: 1 of 3\r\nrefused".into(),
        };
        assert_eq!(
            line.to_string(),
            "<132>1 2026-11-23T07:30:00.500Z larkone maple-lark - partly-delivered \
             [run@32473 report=\"ferries\" problem=\"a \\\"b\\\" \\]\\\\ next\"] \u{feff}Ferries: 1 of 3  refused"
        );
    }

    #[tokio::test]
    async fn a_line_arrives_by_udp_and_by_tcp() {
        let line = SyslogLine {
            facility: 16,
            severity: Severity::Informational,
            at: Utc::now(),
            host: "h".into(),
            message_id: "delivered".into(),
            data: Vec::new(),
            text: "all well".into(),
        };
        let udp = UdpSocket::bind("127.0.0.1:0").await.unwrap();
        send_line(
            &udp.local_addr().unwrap().to_string(),
            false,
            Duration::from_secs(5),
            &line,
        )
        .await
        .unwrap();
        let mut buffer = [0; 2048];
        let length = udp.recv(&mut buffer).await.unwrap();
        assert_eq!(
            std::str::from_utf8(&buffer[..length]).unwrap(),
            line.to_string()
        );

        let tcp = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
        let address = tcp.local_addr().unwrap().to_string();
        let (sent, mut stream) = tokio::join!(
            send_line(&address, true, Duration::from_secs(5), &line),
            async { tcp.accept().await.unwrap().0 }
        );
        sent.unwrap();
        let mut received = String::new();
        tokio::io::AsyncReadExt::read_to_string(&mut stream, &mut received)
            .await
            .unwrap();
        assert_eq!(received, format!("{} {line}", line.to_string().len()));
        drop((stream, tcp));
        assert!(
            send_line(&address, true, Duration::from_secs(5), &line)
                .await
                .unwrap_err()
                .is_temporary()
        );
    }
}
