//! Others reach the service: over TLS, by a certificate that was compared, past proxies that are known, and beside
//! clients that want to hold it up.

use std::io::{Read, Write};
use std::net::TcpStream;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use testbed::{Said, Testbed, path};

const PASSWORD: &str = "ebb and flow 7";

/// A service beside the testbed's own start, ended when this is dropped.
pub struct Service(Child);

impl Drop for Service {
    fn drop(&mut self) {
        let _ = Command::new("kill")
            .args(["-TERM", &self.0.id().to_string()])
            .status();
        let _ = self.0.wait();
    }
}

pub fn address(bed: &Testbed) -> String {
    bed.url().replace("http://", "")
}

/// Starts the service with more flags, and waits until it takes connections.
pub fn start(bed: &Testbed, flags: &[&str]) -> Service {
    let log = std::fs::File::options()
        .create(true)
        .append(true)
        .open(bed.log())
        .unwrap();
    let service = Service(
        bed.service_command()
            .args(flags)
            .stderr(log)
            .spawn()
            .unwrap(),
    );
    let ready = || {
        std::fs::read_to_string(bed.log())
            .unwrap()
            .matches("ready at https://")
            .count()
    };
    let (before, begun) = (ready(), Instant::now());
    while ready() == before {
        assert!(
            begun.elapsed() < Duration::from_secs(60),
            "{}",
            std::fs::read_to_string(bed.log()).unwrap()
        );
        std::thread::sleep(Duration::from_millis(100));
    }
    service
}

fn openssl(words: &[&str]) -> String {
    let out = Command::new("openssl")
        .args(words)
        .stdin(Stdio::null())
        .output()
        .unwrap();
    String::from_utf8_lossy(&[out.stdout, out.stderr].concat()).into_owned()
}

/// The certificate that an address shows, and its fingerprint, as openssl sees them.
pub fn shown(address: &str, folder: &Path) -> String {
    let said = openssl(&["s_client", "-connect", address, "-alpn", "h2"]);
    assert!(said.contains("ALPN protocol: h2"), "{said}");
    let begin = said
        .find("-----BEGIN CERTIFICATE-----")
        .unwrap_or_else(|| panic!("{said}"));
    let end = said.find("-----END CERTIFICATE-----").unwrap();
    let file = folder.join("shown.pem");
    std::fs::write(
        &file,
        format!("{}-----END CERTIFICATE-----\n", &said[begin..end]),
    )
    .unwrap();
    let said = openssl(&[
        "x509",
        "-in",
        path(&file),
        "-noout",
        "-fingerprint",
        "-sha256",
    ]);
    said.trim()
        .split('=')
        .nth(1)
        .unwrap_or_else(|| panic!("{said}"))
        .to_owned()
}

fn typed(bed: &Testbed, service: &str, words: &[&str], line: &str) -> Said {
    let mut child = bed
        .cli_command(words)
        .env("DUPLICARIUM_SERVICE", service)
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    child
        .stdin
        .take()
        .unwrap()
        .write_all(line.as_bytes())
        .unwrap();
    Said::from(child.wait_with_output().unwrap())
}

fn make_owner(bed: &Testbed) {
    let out = bed.service_command().arg("--first-owner").output().unwrap();
    let code = String::from_utf8(out.stdout).unwrap();
    let words = ["welcome", "--name", "Maren", "--code", code.trim()];
    let said = typed(bed, &bed.url(), &words, &format!("{PASSWORD}\n"));
    assert_eq!(said.code, 0, "{said:?}");
}

/// What a start says that is refused.
fn refused_start(bed: &Testbed, flags: &[&str]) -> String {
    // Of two flags the later one would be one too many.
    let mut command = Command::new(testbed::binary("duplicariumd"));
    command
        .args(["--data-dir", path(&bed.data_dir())])
        .args(flags)
        .stderr(Stdio::piped());
    let mut child = command.spawn().unwrap();
    let begun = Instant::now();
    while child.try_wait().unwrap().is_none() {
        if begun.elapsed() > Duration::from_secs(60) {
            let _ = child.kill();
            panic!("{flags:?} is not refused");
        }
        std::thread::sleep(Duration::from_millis(50));
    }
    let mut said = String::new();
    child
        .stderr
        .take()
        .unwrap()
        .read_to_string(&mut said)
        .unwrap();
    assert!(!child.wait().unwrap().success());
    said
}

#[test]
fn others_reach_it_only_over_tls_and_only_with_an_owner() {
    let mut bed = Testbed::start();
    bed.stop_service();
    let said = refused_start(&bed, &["--listen", "0.0.0.0:0"]);
    assert!(
        said.contains("nobody belongs to the team yet") && said.contains("--first-owner"),
        "{said}"
    );
    let said = refused_start(&bed, &["--listen", "0.0.0.0:0", "--tls", "false"]);
    assert!(said.contains("without TLS"), "{said}");
    let said = refused_start(
        &bed,
        &["--listen", "0.0.0.0:0", "--loopback-person", "Maren"],
    );
    assert!(said.contains("loopback_person"), "{said}");
    bed.start_service();
    make_owner(&bed);
    bed.stop_service();

    // With one, TLS is spoken, under a certificate that was made here and whose fingerprint stands in the log.
    let service = start(&bed, &["--tls"]);
    let at = address(&bed);
    let fingerprint = shown(&at, bed.dir());
    let log = std::fs::read_to_string(bed.log()).unwrap();
    assert!(log.contains(&fingerprint), "{fingerprint}: {log}");
    let key = std::fs::metadata(bed.data_dir().join("tls.key.der")).unwrap();
    assert_eq!(
        std::os::unix::fs::PermissionsExt::mode(&key.permissions()) & 0o777,
        0o600
    );
    // What is not TLS gets nothing.
    let mut plain = TcpStream::connect(&at).unwrap();
    plain
        .write_all(b"GET /api/v1/health HTTP/1.1\r\nHost: localhost\r\n\r\n")
        .unwrap();
    let mut answer = Vec::new();
    let _ = plain.read_to_end(&mut answer);
    assert!(
        !answer.starts_with(b"HTTP"),
        "{}",
        String::from_utf8_lossy(&answer)
    );

    // The command line sends no password to a certificate that nobody compared.
    let url = format!("https://{at}");
    let words = ["sign-in", "--name", "Maren"];
    let said = typed(&bed, &url, &words, &format!("{PASSWORD}\n"));
    assert!(
        said.code == 1 && said.err.contains(&fingerprint) && said.err.contains("--fingerprint"),
        "{said:?}"
    );
    let wrong = format!("{}00", &fingerprint[..fingerprint.len() - 2]);
    let said = typed(
        &bed,
        &url,
        &["sign-in", "--name", "Maren", "--fingerprint", &wrong],
        &format!("{PASSWORD}\n"),
    );
    assert_eq!(said.code, 3, "{said:?}");
    let said = typed(
        &bed,
        &url,
        &["sign-in", "--name", "Maren", "--fingerprint", &fingerprint],
        &format!("{PASSWORD}\n"),
    );
    assert_eq!(said.code, 0, "{said:?}");
    let said = typed(&bed, &url, &["site", "add", "pier", "--title", "Pier"], "");
    assert_eq!(said.code, 0, "{said:?}");
    // A client that shares nothing with ours: cookies are for TLS only, browsers are told to stay with it.
    let program = format!(
        "import http.client,json,ssl
c=http.client.HTTPSConnection('{at}',context=ssl._create_unverified_context())
c.request('POST','/api/v1/sign-in',json.dumps({{'name':'Maren','password':'{PASSWORD}'}}),{{'Content-Type':'application/json'}})
a=c.getresponse(); print(a.status,a.headers)"
    );
    let out = Said::from(
        Command::new("python3")
            .args(["-c", &program])
            .output()
            .unwrap(),
    );
    assert!(
        out.out.starts_with("200 ")
            && out.out.contains("; Secure")
            && out
                .out
                .to_lowercase()
                .contains("strict-transport-security: max-age="),
        "{out:?}"
    );
    drop(service);

    // Another certificate in its place is noticed, and nothing is sent.
    std::fs::remove_file(bed.data_dir().join("tls.der")).unwrap();
    let _service = start(&bed, &["--tls"]);
    assert_ne!(shown(&at, bed.dir()), fingerprint);
    let said = typed(&bed, &url, &["site", "list"], "");
    assert_eq!(said.code, 3, "{said:?}");
}

#[test]
fn certificate_files_are_taken_anew_when_they_change() {
    let mut bed = Testbed::start();
    make_owner(&bed);
    bed.stop_service();
    let (certificate, key) = (bed.dir().join("own.pem"), bed.dir().join("own.key"));
    let make = |name: &str| {
        let said = openssl(&[
            "req",
            "-x509",
            "-newkey",
            "ec",
            "-pkeyopt",
            "ec_paramgen_curve:prime256v1",
            "-nodes",
            "-days",
            "3",
            "-subj",
            &format!("/CN={name}"),
            "-addext",
            &format!("subjectAltName=DNS:{name}"),
            "-keyout",
            path(&key),
            "-out",
            path(&certificate),
        ]);
        assert!(certificate.exists(), "{said}");
        let said = openssl(&[
            "x509",
            "-in",
            path(&certificate),
            "-noout",
            "-fingerprint",
            "-sha256",
        ]);
        said.trim().split('=').nth(1).unwrap().to_owned()
    };
    let first = make("first.example");
    let flags = [
        "--tls-certificate",
        path(&certificate),
        "--tls-key",
        path(&key),
    ];
    let _service = start(&bed, &flags);
    let at = address(&bed);
    assert_eq!(shown(&at, bed.dir()), first);
    // Half of a change is not taken: the key of one certificate with another one.
    let kept = std::fs::read(&key).unwrap();
    let second = make("second.example");
    let new_key = std::fs::read(&key).unwrap();
    std::fs::write(&key, &kept).unwrap();
    std::thread::sleep(Duration::from_secs(7));
    assert_eq!(shown(&at, bed.dir()), first);
    std::fs::write(&key, new_key).unwrap();
    let begun = Instant::now();
    while shown(&at, bed.dir()) != second {
        assert!(begun.elapsed() < Duration::from_secs(30));
        std::thread::sleep(Duration::from_millis(500));
    }
}

/// Where a request comes from is what a known proxy says, and nobody else.
#[test]
fn only_known_proxies_say_where_a_request_comes_from() {
    let mut bed = Testbed::start();
    make_owner(&bed);
    let at = address(&bed);
    let ask = |lines: &str, host: &str| {
        let mut stream = TcpStream::connect(&at).unwrap();
        let body = "{\"name\":\"Maren\",\"password\":\"not this one\"}";
        write!(
            stream,
            "POST /api/v1/sign-in HTTP/1.1\r\nHost: {host}\r\nConnection: close\r\nContent-Type: application/json\r\nContent-Length: {}\r\n{lines}\r\n{body}",
            body.len()
        )
        .unwrap();
        let mut answer = String::new();
        stream.read_to_string(&mut answer).unwrap();
        answer.split(' ').nth(1).unwrap().to_owned()
    };
    let origin = |bed: &Testbed| {
        bed.sql("select origin from history order by id desc limit 1")
            .trim()
            .to_owned()
    };
    assert_eq!(ask("X-Forwarded-For: 198.51.100.7\r\n", "localhost"), "401");
    assert_eq!(origin(&bed), "127.0.0.1");
    assert_eq!(ask("", "bench.example"), "403");
    bed.stop_service();
    let log = std::fs::File::create(bed.dir().join("proxied.log")).unwrap();
    let service = bed
        .service_command()
        .args([
            "--trusted-proxies",
            "127.0.0.1",
            "--host-names",
            "bench.example",
        ])
        .stderr(log)
        .spawn()
        .unwrap();
    let _service = Service(service);
    let begun = Instant::now();
    while TcpStream::connect(address(&bed)).is_err()
        || !std::fs::read_to_string(bed.dir().join("proxied.log"))
            .unwrap()
            .contains("ready at")
    {
        assert!(begun.elapsed() < Duration::from_secs(60));
        std::thread::sleep(Duration::from_millis(100));
    }
    // The last address is the one that the proxy saw; those before it anybody may have written.
    assert_eq!(
        ask(
            "X-Forwarded-For: 10.9.9.9, 198.51.100.7\r\n",
            "bench.example"
        ),
        "401"
    );
    assert_eq!(origin(&bed), "198.51.100.7");
    assert_eq!(ask("X-Forwarded-For: made up\r\n", "bench.example"), "401");
    assert_eq!(origin(&bed), "? behind 127.0.0.1");
    assert_eq!(ask("", "elsewhere.example"), "403");
}

/// Hundreds of clients that do not finish what they began, in TLS and in its greeting, hold up nobody for long.
#[test]
fn hundreds_of_slow_and_hostile_clients_hold_up_nobody() {
    let mut bed = Testbed::start();
    make_owner(&bed);
    bed.stop_service();
    let service = start(&bed, &["--tls"]);
    let at = address(&bed);
    let fingerprint = shown(&at, bed.dir());
    let url = format!("https://{at}");
    let said = typed(
        &bed,
        &url,
        &["sign-in", "--name", "Maren", "--fingerprint", &fingerprint],
        &format!("{PASSWORD}\n"),
    );
    assert_eq!(said.code, 0, "{said:?}");
    let mut held = Vec::new();
    for number in 0..360 {
        let mut stream = TcpStream::connect(&at).unwrap();
        let begun: &[u8] = match number % 4 {
            0 => b"",
            // The beginning of a greeting that promises more than comes.
            1 => &[0x16, 3, 1, 0x3f, 0xff, 1, 0, 0x3f],
            2 => b"GET / HTTP/1.1\r\nHost: localhost\r\n\r\n",
            _ => &[0xff; 600],
        };
        let _ = stream.write_all(begun);
        held.push(stream);
    }
    let begun = Instant::now();
    let said = typed(&bed, &url, &["site", "list"], "");
    assert_eq!(said.code, 0, "{said:?}");
    assert!(
        begun.elapsed() < Duration::from_secs(8),
        "{:?}",
        begun.elapsed()
    );
    // Beyond the last place further ones wait, until those who do nothing have lost theirs.
    for _ in 0..200 {
        held.push(TcpStream::connect(&at).unwrap());
    }
    let begun = Instant::now();
    let said = typed(&bed, &url, &["site", "list"], "");
    assert_eq!(said.code, 0, "{said:?}");
    assert!(
        begun.elapsed() < Duration::from_secs(45),
        "{:?}",
        begun.elapsed()
    );
    drop(held);
    // Heads without an end, and a body that promises more than anybody sends.
    let program = format!(
        "import socket,ssl
def line():
    c=ssl._create_unverified_context(); h,p='{at}'.split(':')
    return c.wrap_socket(socket.create_connection((h,int(p)),20))
def answer(what):
    s=line(); s.settimeout(40)
    try:
        s.sendall(what); return s.recv(12)
    except OSError: return b'closed'
print(answer(b'GET / HTTP/1.1\\r\\nHost: localhost\\r\\nX: '+b'a'*200000+b'\\r\\n\\r\\n'))
print(answer(b'GET / HTTP/1.1\\r\\nHost: localhost\\r\\n'+b'X: a\\r\\n'*5000+b'\\r\\n'))
print(answer(b'POST /api/v1/sign-in HTTP/1.1\\r\\nHost: localhost\\r\\nContent-Type: application/json\\r\\nContent-Length: 99999999999\\r\\n\\r\\n{{'))"
    );
    let out = Said::from(
        Command::new("python3")
            .args(["-c", &program])
            .output()
            .unwrap(),
    );
    assert_eq!(out.code, 0, "{out:?}");
    for line in out.out.lines() {
        assert!(!line.contains(" 200"), "{out:?}");
    }
    assert_eq!(typed(&bed, &url, &["site", "list"], "").code, 0);
    drop(service);
}
