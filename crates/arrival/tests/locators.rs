//! Every way of finding boards under one suite; and what a board says when it is looked at.

use std::collections::BTreeMap;
use std::io::{Read as _, Write as _};
use std::net::{IpAddr, Ipv4Addr, SocketAddr, TcpListener};
use std::path::PathBuf;
use std::process::Command;
use std::sync::{Arc, Mutex};

use arrival::conformance::{Hands, locates};
use arrival::locate::{Fixed, Locator, Mdns, Neighbours, Sighting, Sought, StandIn};
use arrival::look::{Login, PageError, host_key, port_answers, read_page};
use base64::Engine as _;
use base64::prelude::BASE64_STANDARD as BASE64;
use bench::wire::{BoardState, Reply, Request, receive, send};

struct Listening(Option<TcpListener>, SocketAddr);

impl Hands for Listening {
    fn appear(&mut self) -> Sought {
        self.0 = Some(TcpListener::bind(self.1).unwrap());
        self.1 = self.0.as_ref().unwrap().local_addr().unwrap();
        Sought {
            address: Some(self.1.ip()),
            port: self.1.port(),
            ..Sought::default()
        }
    }

    fn vanish(&mut self) {
        self.0 = None;
    }

    fn nobody(&self) -> Sought {
        Sought {
            host_name: Some("somebody".into()),
            ..Sought::default()
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_fixed_address() {
    let mut hands = Listening(None, "127.0.0.1:0".parse().unwrap());
    locates(&Fixed, &mut hands).await;
}

struct Table(PathBuf);

impl Table {
    fn write(&self, lines: &str) {
        let head =
            "IP address       HW type     Flags       HW address            Mask     Device\n";
        std::fs::write(&self.0, format!("{head}{lines}")).unwrap();
    }
}

impl Hands for Table {
    fn appear(&mut self) -> Sought {
        self.write("192.0.2.7  0x1  0x2  5a:17:00:00:00:07  *  eth0\n192.0.2.9  0x1  0x2  5a:17:00:00:00:09  *  eth0\n");
        Sought {
            macs: vec!["5a:17:00:00:00:01".into(), "5a:17:00:00:00:07".into()],
            ..Sought::default()
        }
    }

    fn vanish(&mut self) {
        self.write("192.0.2.7  0x1  0x0  00:00:00:00:00:00  *  eth0\n");
    }

    fn nobody(&self) -> Sought {
        Sought {
            macs: vec!["5a:17:00:00:00:08".into()],
            ..Sought::default()
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn the_table_of_neighbours() {
    let folder = tempfile::tempdir().unwrap();
    let mut hands = Table(folder.path().join("arp"));
    hands.write("");
    let neighbours = Neighbours::in_file(&hands.0);
    locates(&neighbours, &mut hands).await;
    let blind = Neighbours::in_file(folder.path().join("none"));
    let why = blind.find(&[hands.nobody()]).await.unwrap_err();
    assert!(why.to_string().contains("cannot be read"), "{why}");
}

/// Another computer on the same network, that says its name by a responder of its own.
struct Responder {
    daemon: Option<mdns_sd::ServiceDaemon>,
    port: u16,
    /// The name that it got, where that is not the one that is sought.
    renamed: Option<&'static str>,
}

const MDNS_NAME: &str = "quay-mdns";

impl Hands for Responder {
    fn appear(&mut self) -> Sought {
        let daemon = mdns_sd::ServiceDaemon::new_with_port(self.port).unwrap();
        daemon.disable_interface(mdns_sd::IfKind::All).unwrap();
        daemon
            .enable_interface(mdns_sd::IfKind::LoopbackV4)
            .unwrap();
        let service = mdns_sd::ServiceInfo::new(
            "_dup-test._tcp.local.",
            "board",
            &format!("{}.local.", self.renamed.unwrap_or(MDNS_NAME)),
            "127.0.0.1",
            8080,
            [("serial", "5A-17-00-00-00-07")].as_slice(),
        );
        daemon.register(service.unwrap()).unwrap();
        self.daemon = Some(daemon);
        Sought {
            host_name: Some(MDNS_NAME.into()),
            services: match self.renamed {
                Some(_) => vec!["_dup-test._tcp".into()],
                None => Vec::new(),
            },
            ..Sought::default()
        }
    }

    fn vanish(&mut self) {
        let daemon = self.daemon.take().unwrap();
        let gone = daemon.unregister("board._dup-test._tcp.local.");
        let _ = gone.unwrap().recv();
        let _ = daemon.shutdown().unwrap().recv();
    }

    fn nobody(&self) -> Sought {
        Sought {
            host_name: Some("nobody-here".into()),
            services: vec!["_dup-test._tcp".into()],
            macs: vec!["5a:17:00:00:00:08".into()],
            ..Sought::default()
        }
    }
}

/// Whether what is sent to a group comes back on loopback: there are machines that let nobody do so.
fn hears_itself(port: u16) -> std::io::Result<()> {
    let group = Ipv4Addr::new(224, 0, 0, 251);
    let hears = std::net::UdpSocket::bind(("0.0.0.0", port))?;
    hears.join_multicast_v4(&group, &Ipv4Addr::LOCALHOST)?;
    hears.set_read_timeout(Some(std::time::Duration::from_secs(1)))?;
    let says = std::net::UdpSocket::bind((Ipv4Addr::LOCALHOST, 0))?;
    rustix::net::sockopt::set_ip_multicast_if(&says, &Ipv4Addr::LOCALHOST)?;
    says.send_to(b"anybody?", (group, port))?;
    hears.recv(&mut [0; 16]).map(|_| ())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_name_by_multicast_dns() {
    let port = 15_353;
    if let Err(why) = hears_itself(port + 1) {
        eprintln!("SKIPPED: there is no multicast on loopback here: {why}");
        return;
    }
    let mut hands = Responder {
        daemon: None,
        port,
        renamed: None,
    };
    locates(&Mdns::on_loopback(port), &mut hands).await;
}

/// Two boards were given one name: the second one took another, and says what it serves.
#[tokio::test(flavor = "multi_thread")]
async fn a_service_of_a_board_whose_name_was_taken() {
    let port = 15_453;
    if let Err(why) = hears_itself(port + 1) {
        eprintln!("SKIPPED: there is no multicast on loopback here: {why}");
        return;
    }
    let mut hands = Responder {
        daemon: None,
        port,
        renamed: Some("quay-mdns-2"),
    };
    let locator = Mdns::on_loopback(port);
    locates(&locator, &mut hands).await;
    let ours = hands.appear();
    // By the end of its hardware address too, which the text of the service tells.
    let by_mac = Sought {
        host_name: Some("other".into()),
        macs: vec!["5a:17:00:00:00:07".into()],
        ..ours
    };
    let begun = std::time::Instant::now();
    loop {
        let found = locator.find(std::slice::from_ref(&by_mac)).await.unwrap();
        if let Some(one) = found[0].first() {
            assert_eq!(one.host_name.as_deref(), Some("quay-mdns-2"));
            break;
        }
        assert!(begun.elapsed().as_secs() < 20, "it is not found");
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
    }
    hands.vanish();
}

/// A stand-in with a drawer of its own, that knows only which boards are on.
struct StandInBoards {
    boards: Arc<Mutex<Vec<BoardState>>>,
    at: SocketAddr,
}

impl StandInBoards {
    fn start() -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let (at, boards) = (
            listener.local_addr().unwrap(),
            Arc::<Mutex<Vec<BoardState>>>::default(),
        );
        let told = boards.clone();
        std::thread::spawn(move || {
            for stream in listener.incoming() {
                let (mut stream, told) = (stream.unwrap(), told.clone());
                std::thread::spawn(move || {
                    while let Ok((Request::Boards, _)) = receive(&mut stream) {
                        let reply = Reply::Boards(told.lock().unwrap().clone());
                        send(&mut stream, &reply, &[]).unwrap();
                    }
                });
            }
        });
        Self { boards, at }
    }
}

impl Hands for StandInBoards {
    fn appear(&mut self) -> Sought {
        let board = |name: &str, joined: bool| BoardState {
            model: "curlew".into(),
            card: "mica".into(),
            lamp: "steady".into(),
            meaning: "running".into(),
            appliance: None,
            root_bytes: None,
            host_name: Some(name.into()),
            joined: joined.then(|| "Saltmarsh-Quay".into()),
            not_joined: None,
            found: Vec::new(),
            page: None,
            mac: Some("5a:17:00:00:00:07".into()),
            ports: [(80, 40_080)].into(),
            own_network: None,
        };
        let boards = vec![board("quay-07", true), board("quay-08", false)];
        *self.boards.lock().unwrap() = boards;
        Sought {
            host_name: Some("quay-07".into()),
            ..Sought::default()
        }
    }

    fn vanish(&mut self) {
        self.boards.lock().unwrap().clear();
    }

    fn nobody(&self) -> Sought {
        // It is on, and has not joined.
        Sought {
            host_name: Some("quay-08".into()),
            ..Sought::default()
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn the_boards_of_the_stand_in() {
    let mut hands = StandInBoards::start();
    let locator = StandIn::at(hands.at);
    locates(&locator, &mut hands).await;
    let sought = hands.appear();
    let seen = locator.find(&[sought]).await.unwrap();
    assert_eq!(seen[0][0].at(80).port(), 40_080);
    assert_eq!(seen[0][0].at(22).port(), 22);
}

/// A program that ends with the test.
struct Running(std::process::Child);

impl Drop for Running {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

fn free_port() -> u16 {
    TcpListener::bind("127.0.0.1:0")
        .unwrap()
        .local_addr()
        .unwrap()
        .port()
}

async fn is_up(at: SocketAddr) {
    for _ in 0..200 {
        if port_answers(at).await {
            return;
        }
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
    }
    panic!("nothing came up at {at}");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_key_of_a_real_ssh_server_is_the_one_that_its_own_tool_prints() {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("key");
    let made = Command::new("dropbearkey")
        .args(["-t", "ed25519", "-f"])
        .arg(&file)
        .output()
        .expect("dropbearkey is installed");
    let text = String::from_utf8(made.stdout).unwrap();
    let key = text
        .lines()
        .find_map(|line| line.strip_prefix("ssh-ed25519 "))
        .unwrap();
    let key = BASE64.decode(key.split(' ').next().unwrap()).unwrap();
    let expected = hex::encode(ring::digest::digest(&ring::digest::SHA256, &key));
    let at: SocketAddr = ([127, 0, 0, 1], free_port()).into();
    let server = Command::new("/usr/sbin/dropbear")
        .args(["-F", "-E", "-p", &at.to_string(), "-r"])
        .arg(&file)
        .stderr(std::process::Stdio::null())
        .spawn();
    let _server = Running(server.expect("dropbear is installed"));
    is_up(at).await;
    assert_eq!(host_key(at).await.as_deref(), Ok(expected.as_str()));
}

#[tokio::test(flavor = "multi_thread")]
async fn the_certificate_of_a_real_server_is_the_one_that_its_own_tool_reads() {
    let folder = tempfile::tempdir().unwrap();
    let path = |name: &str| folder.path().join(name).to_str().unwrap().to_owned();
    let openssl = |words: &[&str]| {
        let done = Command::new("openssl").args(words).output();
        let done = done.expect("openssl is installed");
        assert!(
            done.status.success(),
            "{words:?}: {}",
            String::from_utf8_lossy(&done.stderr)
        );
        String::from_utf8(done.stdout).unwrap()
    };
    let (key, certificate) = (path("key"), path("certificate"));
    openssl(&[
        "req",
        "-x509",
        "-newkey",
        "rsa:2048",
        "-nodes",
        "-subj",
        "/CN=quay-01",
        "-days",
        "40",
        "-keyout",
        &key,
        "-out",
        &certificate,
    ]);
    let print = openssl(&[
        "x509",
        "-in",
        &certificate,
        "-noout",
        "-fingerprint",
        "-sha256",
        "-enddate",
        "-dateopt",
        "iso_8601",
    ]);
    let at: SocketAddr = ([127, 0, 0, 1], free_port()).into();
    let server = Command::new("openssl")
        .args([
            "s_server",
            "-quiet",
            "-www",
            "-key",
            &key,
            "-cert",
            &certificate,
            "-accept",
            &at.to_string(),
        ])
        .stdout(std::process::Stdio::null())
        .stderr(std::process::Stdio::null())
        .spawn();
    let _server = Running(server.unwrap());
    is_up(at).await;
    let mut board = self::at(at);
    board.ports.insert(443, at.port());
    let page = read_page(&board, "https://quay-01/", None).await.unwrap();
    assert_eq!(page.status, 200);
    let seen = page.certificate.unwrap();
    let line = |start: &str| {
        print
            .lines()
            .find_map(|line| line.strip_prefix(start))
            .unwrap()
            .to_owned()
    };
    let fingerprint = line("sha256 Fingerprint=").replace(':', "").to_lowercase();
    assert_eq!(seen.fingerprint, fingerprint);
    let until = seen.until.unwrap();
    let (hour, minute, second) = until.time().as_hms();
    let shown = format!("{} {hour:02}:{minute:02}:{second:02}Z", until.date());
    assert_eq!(shown, line("notAfter="));
}

/// Answers each visitor with these bytes, to its question or before it.
fn says(at_once: bool, bytes: &'static [u8]) -> SocketAddr {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let at = listener.local_addr().unwrap();
    std::thread::spawn(move || {
        for stream in listener.incoming() {
            let mut stream = stream.unwrap();
            std::thread::spawn(move || {
                let mut heard = [0; 4096];
                if !at_once {
                    let _ = stream.read(&mut heard);
                }
                let _ = stream.write_all(bytes);
                if at_once {
                    let _ = stream.read(&mut heard);
                }
            });
        }
    });
    at
}

fn at(address: SocketAddr) -> Sighting {
    Sighting {
        address: IpAddr::V4(Ipv4Addr::LOCALHOST),
        ports: BTreeMap::from([
            (80, address.port()),
            (443, address.port()),
            (22, address.port()),
        ]),
        mac: None,
        host_name: None,
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_board_says_is_bounded_and_said_in_words() {
    let page = "http://quay-01/status";
    let good = at(says(
        false,
        b"HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nup",
    ));
    let read = read_page(&good, page, None).await.unwrap();
    assert_eq!((read.status, read.text.as_str()), (200, "up"));
    // What breaks off is read as far as it came.
    let cut = at(says(
        false,
        b"HTTP/1.1 200 OK\r\nContent-Length: 900\r\n\r\nhalf",
    ));
    let half = read_page(&cut, page, None).await.unwrap();
    assert_eq!(
        (half.text.as_str(), half.cut, read.cut),
        ("half", true, false)
    );
    let endless: &'static [u8] = {
        let head = b"HTTP/1.1 200 OK\r\n\r\n".to_vec();
        Box::leak([head, vec![b'x'; 2 << 20]].concat().into_boxed_slice())
    };
    let long = read_page(&at(says(false, endless)), page, None)
        .await
        .unwrap();
    assert!(long.text.len() <= 256 << 10, "{}", long.text.len());
    let wild = at(says(false, b"\xff\xfe\x00 nonsense\r\n\r\n"));
    let why = read_page(&wild, page, None).await.unwrap_err();
    assert!(matches!(why, PageError::Nonsense { .. }), "{why:?}");
    let why = read_page(&wild, "https://quay-01/", None)
        .await
        .unwrap_err();
    assert!(why.to_string().contains("cannot be understood"), "{why}");
    let wild = at(says(true, b"\xff\xfe\x00 nonsense\r\n\r\n"));
    let why = host_key(wild.at(22)).await.unwrap_err();
    assert!(why.contains("SSH server"), "{why}");
    let closed = {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        listener.local_addr().unwrap()
    };
    assert!(!port_answers(closed).await);
    let why = read_page(&at(closed), page, None).await.unwrap_err();
    assert_eq!(why, PageError::NoAnswer(closed));
    let why = read_page(&good, "ftp://quay-01/", None).await.unwrap_err();
    assert!(matches!(why, PageError::Address(_)));
    // A server that shows a key and does not prove that it holds it.
    let thief = host_key(at(says(true, b"SSH-2.0-x\r\n\0\0\0\x0c\x04\x14nonsense")).at(22)).await;
    assert!(thief.is_err(), "{thief:?}");
    let silent = TcpListener::bind("127.0.0.1:0").unwrap();
    let why = read_page(&at(silent.local_addr().unwrap()), page, None)
        .await
        .unwrap_err();
    assert!(matches!(why, PageError::Slow(_)), "{why:?}");
    let login = Login {
        user: "keeper".into(),
        password: "keeper".into(),
    };
    assert_eq!(
        read_page(&good, page, Some(&login)).await.unwrap().status,
        200
    );
}
