//! An SSH server that lets somebody in by a password, which a real one does for accounts of the machine only.
//! Behind it answers the real SFTP server.

use std::{net::SocketAddr, process::Stdio, sync::Arc, time::Duration};

use maple_lark_demo::ssh_server;
use russh::{
    Channel, ChannelId, MethodKind, MethodSet,
    keys::decode_secret_key,
    server::{self, Auth, ChannelOpenHandle, Handler, Msg, Response, Session},
};
use tokio::{io::copy_bidirectional, net::TcpListener, process::Command};

pub const USER: &str = "reports";
pub const PASSWORD: &str = "quay-and-lantern";

pub struct StandIn {
    pub address: SocketAddr,
    pub host_key: String,
}

impl StandIn {
    /// One that is told the password, or one that asks for it.
    pub async fn start(asks: bool) -> Self {
        let folder = tempfile::tempdir().unwrap();
        let key = folder.path().join("host");
        ssh_server::make_key(&key, "ed25519", "").unwrap();
        let text = std::fs::read_to_string(&key).unwrap();
        let method = if asks {
            MethodKind::KeyboardInteractive
        } else {
            MethodKind::Password
        };
        let config = Arc::new(server::Config {
            methods: MethodSet::from(&[method][..]),
            auth_rejection_time: Duration::ZERO,
            keys: vec![decode_secret_key(&text, None).unwrap()],
            ..server::Config::default()
        });
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let address = listener.local_addr().unwrap();
        tokio::spawn(async move {
            while let Ok((stream, _)) = listener.accept().await {
                let guest = Guest {
                    asks,
                    channel: None,
                };
                let config = Arc::clone(&config);
                tokio::spawn(async move {
                    if let Ok(session) = server::run_stream(config, stream, guest).await {
                        // A guest that has gone is no fault of this.
                        drop(session.await);
                    }
                });
            }
        });
        Self {
            address,
            host_key: ssh_server::fingerprint(&folder.path().join("host.pub")).unwrap(),
        }
    }
}

struct Guest {
    asks: bool,
    channel: Option<Channel<Msg>>,
}

impl Handler for Guest {
    type Error = russh::Error;

    async fn auth_password(&mut self, user: &str, password: &str) -> Result<Auth, Self::Error> {
        if !self.asks && user == USER && password == PASSWORD {
            Ok(Auth::Accept)
        } else {
            Ok(Auth::reject())
        }
    }

    async fn auth_keyboard_interactive<'a>(
        &'a mut self,
        user: &str,
        _: &str,
        response: Option<Response<'a>>,
    ) -> Result<Auth, Self::Error> {
        let Some(mut response) = response.filter(|_| self.asks) else {
            return Ok(Auth::Partial {
                name: "".into(),
                instructions: "".into(),
                prompts: vec![("Password: ".into(), false)].into(),
            });
        };
        if user == USER && response.next().is_some_and(|said| said == PASSWORD) {
            Ok(Auth::Accept)
        } else {
            Ok(Auth::reject())
        }
    }

    async fn channel_open_session(
        &mut self,
        channel: Channel<Msg>,
        reply: ChannelOpenHandle,
        _: &mut Session,
    ) -> Result<(), Self::Error> {
        self.channel = Some(channel);
        reply.accept().await;
        Ok(())
    }

    async fn subsystem_request(
        &mut self,
        id: ChannelId,
        _: &str,
        session: &mut Session,
    ) -> Result<(), Self::Error> {
        session.channel_success(id)?;
        let channel = self.channel.take().unwrap();
        let mut real = Command::new("/usr/lib/openssh/sftp-server")
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .kill_on_drop(true)
            .spawn()
            .unwrap();
        let mut both = tokio::io::join(real.stdout.take().unwrap(), real.stdin.take().unwrap());
        tokio::spawn(async move {
            // It is over when the guest goes.
            drop(copy_bidirectional(&mut channel.into_stream(), &mut both).await);
            drop(real);
        });
        Ok(())
    }
}
