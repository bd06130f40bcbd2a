//! What needs a person is told, once, until it arrives. What arrived is read past the product.

use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use serde_json::Value;
use testbed::{Testbed, binary, free_port, path};

/// Somebody who is told, gone when this is dropped.
pub struct Told {
    child: Child,
    dir: PathBuf,
    port: u16,
}

impl Drop for Told {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

impl Told {
    pub fn start(kind: &str, dir: &Path, refuse: u32) -> Self {
        let port = free_port();
        let child = Command::new(binary("duplicarium-standin"))
            .args([kind, "--listen", &format!("127.0.0.1:{port}"), "--refuse"])
            .args([&refuse.to_string(), "--dir", path(dir)])
            .stdout(Stdio::null())
            .spawn()
            .unwrap();
        let begun = Instant::now();
        while std::net::TcpStream::connect(("127.0.0.1", port)).is_err() {
            assert!(begun.elapsed() < Duration::from_secs(20));
            std::thread::sleep(Duration::from_millis(30));
        }
        Self {
            child,
            dir: dir.into(),
            port,
        }
    }

    /// What it got so far.
    fn got(&self) -> Vec<String> {
        let files = std::fs::read_dir(&self.dir).unwrap().flatten();
        let mut files: Vec<_> = files
            .map(|file| file.path())
            .filter(|path| path.extension().is_some_and(|kind| kind != "part"))
            .collect();
        files.sort();
        let text = |file: &PathBuf| std::fs::read_to_string(file).unwrap();
        // The page of another test may still ask for a service that had this port before.
        let stray = |text: &String| text.starts_with("GET /api/");
        files.iter().map(text).filter(|text| !stray(text)).collect()
    }

    /// Where it is called.
    pub fn url(&self) -> String {
        format!("http://127.0.0.1:{}/in", self.port)
    }

    pub fn until(&self, count: usize) -> Vec<String> {
        let begun = Instant::now();
        loop {
            let got = self.got();
            if got.len() >= count {
                return got;
            }
            assert!(
                begun.elapsed() < Duration::from_secs(60),
                "{count} are not there: {got:?}"
            );
            std::thread::sleep(Duration::from_millis(200));
        }
    }
}

/// An ordinary mail as text: encoded words and soft breaks are undone.
fn plain(mail: &str) -> String {
    mail.replace("=\r\n", "").replace("=3D", "=")
}

#[test]
fn a_job_that_failed_is_told_by_mail_and_by_call_once_and_until_it_arrives() {
    let folder = tempfile::tempdir().unwrap();
    let mailbox = Told::start("mailbox", &folder.path().join("mail"), 1);
    let program = Told::start("program", &folder.path().join("calls"), 2);
    let server = format!("smtp://127.0.0.1:{}", mailbox.port);
    let bed = Testbed::start_with(&[
        "--private-addresses",
        "--mail-server",
        &server,
        "--mail-from",
        "Duplicarium <bench@saltmarsh.example>",
    ]);
    bed.load_catalogue();
    bed.add_device("quay-01");
    let secret = folder.path().join("secret");
    std::fs::write(&secret, "ebb and flow 1907 by the quay\n").unwrap();
    let url = format!("http://127.0.0.1:{}/in", program.port);
    bed.done(&[
        "notice",
        "mail",
        "Team",
        "--to",
        "team@saltmarsh.example",
        "--about",
        "job-failed",
    ]);
    bed.done(&[
        "notice",
        "call",
        "alarm",
        "--url",
        &url,
        "--secret-file",
        path(&secret),
    ]);
    assert!(
        !bed.sql("select encode(secret, 'escape') from notice_ways")
            .contains("ebb and flow")
    );

    // A card fails while it is written.
    bed.make_card("mica", "3965190144", &[]);
    bed.put("mica", 1);
    let plan = bed.json(&["write", "quay-01", "--slot", "1", "--plan"]);
    let label = plan["card"].as_str().unwrap().to_owned();
    bed.standin(&["fault", "mica", "vanishes=9MB"]);
    bed.refused(&["write", "quay-01", "--slot", "1", "--yes", &label]);

    // Both turn it away at first.
    let mail = plain(&mailbox.until(1)[0]);
    assert!(
        mail.contains("To: team@saltmarsh.example") && mail.contains("Subject: Duplicarium: "),
        "{mail}"
    );
    assert!(
        mail.contains(&label) && mail.contains("job-failed"),
        "{mail}"
    );
    let call = &program.until(1)[0];
    let (head, body) = call.split_once("\r\n\r\n").unwrap();
    let body_value: Value = serde_json::from_str(body).unwrap();
    assert_eq!(body_value["notices"][0]["kind"], "job-failed");
    judge_signature(head, body, &url, "ebb and flow 1907 by the quay");

    // It is told once, also by a service that was started anew.
    let mut bed = bed;
    bed.stop_service();
    bed.start_service();
    std::thread::sleep(Duration::from_secs(14));
    assert_eq!((mailbox.got().len(), program.got().len()), (1, 1));
    let told = bed.json(&["notice", "told"]);
    let states: Vec<_> = told
        .as_array()
        .unwrap()
        .iter()
        .map(|one| (&one["state"], &one["trouble"]))
        .collect();
    assert_eq!(
        states,
        vec![(&Value::from("told"), &Value::Null); 2],
        "{told}"
    );
    assert!(told[0]["tries"].as_u64() > Some(1), "{told}");

    // What is of another kind is told only to those who want it.
    bed.done(&["notice", "try", "Team"]);
    assert!(plain(&mailbox.until(2)[1]).contains("marit tries whether notices arrive"));
    bed.done(&["notice", "remove", "alarm"]);
    let gone = bed.refused(&["notice", "try", "alarm"]);
    assert!(gone.contains("no way of the name"), "{gone}");
}

/// Checks the signature of a call as RFC 9421 describes it, with the system's own tool.
fn judge_signature(head: &str, body: &str, url: &str, secret: &str) {
    let header = |name: &str| {
        let line = head.lines().find_map(|line| {
            let (own, value) = line.split_once(':')?;
            own.eq_ignore_ascii_case(name)
                .then(|| value.trim().to_owned())
        });
        line.unwrap_or_else(|| panic!("{name} is missing: {head}"))
    };
    let openssl = |args: &[&str], input: &str| {
        use std::io::Write;
        let mut child = Command::new("openssl")
            .args(args)
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .spawn()
            .unwrap();
        child
            .stdin
            .take()
            .unwrap()
            .write_all(input.as_bytes())
            .unwrap();
        let out = child.wait_with_output().unwrap();
        assert!(out.status.success());
        let mut encode = Command::new("base64")
            .arg("-w0")
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .spawn()
            .unwrap();
        encode.stdin.take().unwrap().write_all(&out.stdout).unwrap();
        String::from_utf8(encode.wait_with_output().unwrap().stdout).unwrap()
    };
    let digest = format!(
        "sha-256=:{}:",
        openssl(&["dgst", "-sha256", "-binary"], body)
    );
    assert_eq!(header("content-digest"), digest);
    let input = header("signature-input");
    let (name, params) = input.split_once('=').unwrap();
    assert!(
        params.starts_with("(\"@method\" \"@target-uri\" \"content-digest\");"),
        "{params}"
    );
    let base = format!(
        "\"@method\": POST\n\"@target-uri\": {url}\n\"content-digest\": {digest}\n\"@signature-params\": {params}"
    );
    let key = format!("key:{secret}");
    let tag = openssl(
        &[
            "dgst", "-sha256", "-mac", "HMAC", "-macopt", &key, "-binary",
        ],
        &base,
    );
    assert_eq!(header("signature"), format!("{name}=:{tag}:"));
}

#[test]
fn who_cannot_be_told_is_refused_before_anything_is_kept() {
    let bed = Testbed::start();
    let said = bed.refused(&["notice", "mail", "Team", "--to", "team@saltmarsh.example"]);
    assert!(said.contains("mail_server"), "{said}");
    for (url, why) in [("ftp://example.org", "https://"), ("nonsense", "https://")] {
        let said = bed.refused(&["notice", "call", "alarm", "--url", url]);
        assert!(said.contains(why), "{said}");
    }
    let said = bed.refused(&[
        "notice",
        "call",
        "alarm",
        "--url",
        "http://127.0.0.1:9/in",
        "--about",
        "weather",
    ]);
    assert!(said.contains("job-failed"), "{said}");
    let short = bed.dir().join("short");
    std::fs::write(&short, "short").unwrap();
    let said = bed.refused(&[
        "notice",
        "call",
        "alarm",
        "--url",
        "http://127.0.0.1:9/in",
        "--secret-file",
        path(&short),
    ]);
    assert!(said.contains("16 characters"), "{said}");
    assert_eq!(bed.sql("select count(*) from notice_ways").trim(), "0");
    bed.done(&["notice", "call", "alarm", "--url", "http://127.0.0.1:9/in"]);
    let twice = bed.refused(&["notice", "call", "ALARM", "--url", "http://127.0.0.1:9/in"]);
    assert!(twice.contains("already"), "{twice}");
    let nobody = bed.refused(&["notice", "try", "alarm"]);
    assert!(nobody.contains("cannot be told"), "{nobody}");
    // The service says itself what is wrong with its configuration.
    let out = bed
        .service_command()
        .args(["--mail-server", "smtp://127.0.0.1:25", "--check"])
        .output()
        .unwrap();
    let said = String::from_utf8_lossy(&[out.stdout, out.stderr].concat()).into_owned();
    assert!(said.contains("mail_from"), "{said}");
}
