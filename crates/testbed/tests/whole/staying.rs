//! An installation that stays: what whoever watches it is told, what becomes of records of another version, and the
//! look at everything that the service rests on.

use std::collections::BTreeMap;
use std::io::{Read as _, Write as _};
use std::os::unix::fs::PermissionsExt;
use std::process::Command;
use std::time::{Duration, Instant};

use testbed::{Testbed, fetch, path};

/// The head and the body of an answer to a request with these lines in its head.
fn ask(bed: &Testbed, at: &str, head: &str) -> (String, String) {
    let url = bed.url();
    let address = url.strip_prefix("http://").unwrap();
    let mut line = std::net::TcpStream::connect(address).unwrap();
    write!(
        line,
        "GET {at} HTTP/1.1\r\nHost: {address}\r\n{head}Connection: close\r\n\r\n"
    )
    .unwrap();
    let mut answer = String::new();
    line.read_to_string(&mut answer).unwrap();
    let (head, body) = answer.split_once("\r\n\r\n").unwrap();
    (head.to_lowercase(), body.to_owned())
}

/// Figures by name and labels, as the text format has them; whatever is not of the format is a failure.
fn figures(text: &str) -> BTreeMap<String, f64> {
    let mut found = BTreeMap::new();
    let mut about = String::new();
    for line in text.lines() {
        if let Some(rest) = line.strip_prefix("# HELP ") {
            about = rest.split(' ').next().unwrap().to_owned();
            continue;
        }
        if let Some(rest) = line.strip_prefix("# TYPE ") {
            let (name, kind) = rest.split_once(' ').unwrap();
            assert!(
                name == about && matches!(kind, "gauge" | "counter"),
                "{line}"
            );
            continue;
        }
        let (name, value) = line.rsplit_once(' ').unwrap();
        let plain = name.split('{').next().unwrap();
        assert_eq!(plain, about, "{line}");
        assert!(
            plain
                .bytes()
                .all(|byte| byte.is_ascii_lowercase() || byte == b'_'),
            "{line}"
        );
        let before = found.insert(name.to_owned(), value.parse().unwrap());
        assert!(before.is_none(), "{line} is said twice");
    }
    found
}

#[test]
fn whoever_watches_the_service_gets_figures_and_numbers() {
    let bed = Testbed::start_with(&["--private-addresses", "--vault-hours", "0", "--log-json"]);
    bed.load_catalogue();
    bed.add_device("quay-01");
    bed.make_card("mica", "700000256", &[]);
    bed.put("mica", 1);
    let plan = bed.json(&["write", "quay-01", "--slot", "1", "--plan"]);
    let label = plan["card"].as_str().unwrap();
    bed.done(&["write", "quay-01", "--slot", "1", "--yes", label]);
    std::thread::sleep(Duration::from_secs(2));
    let (head, text) = ask(&bed, "/metrics", "");
    assert!(
        head.contains("content-type: text/plain; version=0.0.4"),
        "{head}"
    );
    let seen = figures(&text);
    let at = |name: &str| *seen.get(name).unwrap_or_else(|| panic!("{name}: {text}"));
    assert_eq!(
        at("duplicarium_jobs_ended_total{kind=\"write\",state=\"done\"}"),
        1.0
    );
    assert_eq!(
        at("duplicarium_jobs_ended_total{kind=\"import\",state=\"done\"}"),
        2.0
    );
    assert_eq!(at("duplicarium_cards{state=\"imprinted\"}"), 1.0);
    assert_eq!(at("duplicarium_devices{state=\"carded\"}"), 1.0);
    assert_eq!(at("duplicarium_slots{state=\"card\"}"), 1.0);
    assert_eq!(at("duplicarium_slots{state=\"empty\"}"), 3.0);
    let written = bed.json(&["card", "show", label])["imprints"][0]["written"].as_f64();
    assert_eq!(Some(at("duplicarium_written_bytes_total")), written);
    let waits = at("duplicarium_unproven_seconds");
    assert!(waits >= 1.0, "{waits}");
    // A proof that holds ends the wait, one that is lost with its backup begins it anew.
    let name = bed.json(&["backup", "take", "--slot", "1"])["name"]
        .as_str()
        .unwrap()
        .to_owned();
    bed.done(&["backup", "prove", &name]);
    let later = figures(&fetch(&format!("{}/metrics", bed.url())));
    assert!(later["duplicarium_unproven_seconds"] < waits, "{later:?}");
    assert_eq!(later["duplicarium_backups"], 1.0);
    assert!(later["duplicarium_vault_bytes"] > 1e6 && later["duplicarium_vault_free_bytes"] > 1e6);

    // Each request has a number, in its answer, in what is refused and in the log.
    let (head, body) = ask(
        &bed,
        "/api/v1/devices/nobody",
        "X-Request-Id: lamp-post-7\r\n",
    );
    assert!(
        head.contains("404") && head.contains("x-request-id: lamp-post-7"),
        "{head}"
    );
    let problem: serde_json::Value = serde_json::from_str(&body).unwrap();
    assert_eq!(problem["request"], "lamp-post-7", "{body}");
    let (head, _) = ask(
        &bed,
        "/api/v1/devices/nobody",
        "X-Request-Id: no \"word\"\r\n",
    );
    let id = head
        .split("x-request-id: ")
        .nth(1)
        .unwrap()
        .lines()
        .next()
        .unwrap();
    assert!(
        id.len() == 16 && id.bytes().all(|byte| byte.is_ascii_hexdigit()),
        "{head}"
    );
    assert!(ask(&bed, "/api/v1/alive", "").0.contains("204"));
    let log = std::fs::read_to_string(bed.log()).unwrap();
    assert!(log.lines().count() > 1);
    for line in log.lines() {
        let said: serde_json::Value =
            serde_json::from_str(line).unwrap_or_else(|e| panic!("{line}: {e}"));
        assert!(
            said["level"].is_string() && said["timestamp"].is_string(),
            "{line}"
        );
    }
}

/// What `--check` says of the service of a testbed, and whether all is well.
fn check_up(bed: &Testbed) -> (bool, String) {
    let out = bed.service_command().arg("--check").output().unwrap();
    let said = String::from_utf8_lossy(&[out.stdout, out.stderr].concat()).into_owned();
    (out.status.success(), said)
}

#[test]
fn records_of_another_version_are_kept_before_they_change_or_refused() {
    let mut bed = Testbed::start_with(&["--private-addresses", "--vault-hours", "0"]);
    bed.done(&["site", "add", "pier", "--title", "Pier"]);
    // As the version before the last step left them.
    bed.sql(
        "alter table tries drop column until; alter table passes drop column password_at; drop table recovery_codes;
         delete from _sqlx_migrations where version = 22",
    );
    bed.stop_service();
    let (fine, said) = check_up(&bed);
    assert!(fine && said.contains("of an older version"), "{said}");
    bed.start_service();
    let listed = bed.done(&["vault", "list"]);
    assert!(listed.contains("before another form"), "{listed}");
    assert_eq!(
        bed.sql("select max(version) from _sqlx_migrations").trim(),
        "22"
    );
    assert!(bed.done(&["site", "list"]).contains("Pier"));
    // What was kept is what was there: it is read in on another computer, and brought to this form there.
    bed.stop_service();
    let fresh = tempfile::tempdir().unwrap();
    std::fs::set_permissions(fresh.path(), PermissionsExt::from_mode(0o755)).unwrap();
    let data = fresh.path().join("service");
    let copied = Command::new("cp")
        .args(["-r", path(&bed.data_dir().join("vault"))])
        .arg(fresh.path())
        .status();
    assert!(copied.unwrap().success());
    std::fs::create_dir(&data).unwrap();
    std::fs::rename(fresh.path().join("vault"), data.join("vault")).unwrap();
    std::fs::copy(bed.data_dir().join("team.key"), data.join("team.key")).unwrap();
    let out = Command::new(testbed::binary("duplicariumd"))
        .args(["--data-dir", path(&data), "--recover"])
        .output()
        .unwrap();
    let said = String::from_utf8_lossy(&[out.stdout, out.stderr].concat()).into_owned();
    assert!(
        out.status.success() && said.contains("Everything is back"),
        "{said}"
    );

    // Records that a newer version worked with are left alone.
    bed.start_service();
    bed.sql(
        "insert into _sqlx_migrations (version, description, success, checksum, execution_time)
            values (9000, 'of the future', true, '\\x00', 0)",
    );
    bed.stop_service();
    let (fine, said) = check_up(&bed);
    assert!(
        !fine && said.contains("WRONG") && said.contains("newer version of Duplicarium"),
        "{said}"
    );
    let mut service = bed
        .service_command()
        .stderr(std::fs::File::create(bed.dir().join("refused.log")).unwrap())
        .spawn()
        .unwrap();
    let begun = Instant::now();
    while service.try_wait().unwrap().is_none() {
        assert!(begun.elapsed() < Duration::from_secs(30), "it goes on");
        std::thread::sleep(Duration::from_millis(50));
    }
    let said = std::fs::read_to_string(bed.dir().join("refused.log")).unwrap();
    assert!(
        said.contains("start that version, or a newer one. Nothing was changed"),
        "{said}"
    );
}

#[test]
fn a_check_up_names_what_is_wrong_and_what_to_do() {
    let mut bed = Testbed::start_with(&["--private-addresses", "--vault-hours", "0"]);
    let (fine, said) = check_up(&bed);
    assert!(fine && said.contains("runs and is ready"), "{said}");
    bed.stop_service();
    let (fine, said) = check_up(&bed);
    assert!(fine, "{said}");
    for words in [
        "ok     configuration",
        "ok     key",
        "ok     vault",
        "ok     records",
        "ok     bench",
        "ok     clock",
    ] {
        assert!(said.contains(words), "{words}: {said}");
    }
    let key = bed.data_dir().join("team.key");
    std::fs::set_permissions(&key, PermissionsExt::from_mode(0o644)).unwrap();
    let (fine, said) = check_up(&bed);
    assert!(!fine && said.contains("chmod 600"), "{said}");
    let away = bed.dir().join("away.key");
    std::fs::rename(&key, &away).unwrap();
    let (fine, said) = check_up(&bed);
    assert!(!fine && said.contains("--enter-key"), "{said}");
    assert!(!key.exists(), "it makes none");
    std::fs::rename(&away, &key).unwrap();
    std::fs::set_permissions(&key, PermissionsExt::from_mode(0o600)).unwrap();
    // Something else at its address.
    let url = bed.url();
    let held = std::net::TcpListener::bind(url.strip_prefix("http://").unwrap()).unwrap();
    let (fine, said) = check_up(&bed);
    assert!(!fine && said.contains("choose another address"), "{said}");
    drop(held);
    // After all of it, the service starts as ever.
    bed.start_service();
    let (fine, said) = check_up(&bed);
    assert!(fine && said.contains("runs and is ready"), "{said}");
}

/// systemd hears that the service is ready, that it lives, and that it ends.
#[test]
fn systemd_is_told_how_the_service_is() {
    let mut bed = Testbed::start();
    bed.stop_service();
    let socket = bed.dir().join("notify");
    let line = std::os::unix::net::UnixDatagram::bind(&socket).unwrap();
    line.set_read_timeout(Some(Duration::from_secs(60)))
        .unwrap();
    let hear = || {
        let mut words = [0; 64];
        let len = line.recv(&mut words).unwrap();
        String::from_utf8_lossy(&words[..len]).into_owned()
    };
    bed.environment = vec![
        ("NOTIFY_SOCKET".into(), path(&socket).into()),
        ("WATCHDOG_USEC".into(), "3000000".into()),
    ];
    let log = std::fs::File::create(bed.dir().join("told.log")).unwrap();
    let mut service = bed.service_command().stderr(log).spawn().unwrap();
    // A start takes as long as it takes: records of an older version are not left half-way.
    assert!(hear().starts_with("EXTEND_TIMEOUT_USEC="));
    assert_eq!(hear(), "READY=1");
    // Ready means ready: what is asked now is answered.
    assert!(bed.cli(&["status"]).code == 0);
    for _ in 0..2 {
        assert_eq!(hear(), "WATCHDOG=1");
    }
    // A service that stands still says nothing, and is started again by whoever listens.
    let pid = service.id().to_string();
    assert!(
        Command::new("kill")
            .args(["-STOP", &pid])
            .status()
            .unwrap()
            .success()
    );
    line.set_read_timeout(Some(Duration::from_millis(500)))
        .unwrap();
    let mut words = [0; 64];
    while line.recv(&mut words).is_ok() {}
    line.set_read_timeout(Some(Duration::from_secs(4))).unwrap();
    assert!(line.recv(&mut words).is_err());
    line.set_read_timeout(Some(Duration::from_secs(60)))
        .unwrap();
    assert!(
        Command::new("kill")
            .args(["-CONT", &pid])
            .status()
            .unwrap()
            .success()
    );
    assert!(
        Command::new("kill")
            .args(["-TERM", &pid])
            .status()
            .unwrap()
            .success()
    );
    let begun = Instant::now();
    while hear() != "STOPPING=1" {
        assert!(begun.elapsed() < Duration::from_secs(30));
    }
    assert!(service.wait().unwrap().success());
    bed.environment.clear();
    bed.start_service();
}

/// A computer that lost its power, or a service that was killed with all that belongs to it: it starts again at once.
#[test]
fn service_and_database_killed_together_start_again() {
    let mut bed = Testbed::start_with(&["--vault-hours", "0"]);
    bed.done(&["site", "add", "pier", "--title", "Pier"]);
    for round in 0..4 {
        let file = bed.data_dir().join("postgres/postmaster.pid");
        let text = std::fs::read_to_string(file).unwrap();
        let pid = text.lines().next().unwrap().to_owned();
        let mut kill = Command::new("kill").args(["-9", &pid]).spawn().unwrap();
        bed.kill_service();
        kill.wait().unwrap();
        bed.start_service();
        assert!(
            bed.done(&["site", "list"]).contains("Pier"),
            "round {round}"
        );
    }
}

/// Authorities of certificates are needed where a foreign certificate is to be believed, and nowhere else.
#[test]
fn a_computer_without_certificate_authorities_runs_all_programs() {
    let none = [("SSL_CERT_FILE", "/dev/null"), ("SSL_CERT_DIR", "/nowhere")];
    let mut bed = Testbed::start_after(&["--vault-hours", "0"], |bed| {
        let none = none.map(|(name, value)| (name.to_owned(), value.to_owned()));
        bed.environment.extend(none);
    });
    bed.done(&["site", "add", "pier", "--title", "Pier"]);
    let mut command = bed.cli_command(&["site", "list"]);
    let out = command.envs(none).output().unwrap();
    let said = String::from_utf8_lossy(&out.stdout);
    assert!(out.status.success() && said.contains("Pier"), "{out:?}");
    let out = Command::new(testbed::binary("duplicarium-standin"))
        .arg("--help")
        .envs(none)
        .output();
    assert!(out.unwrap().status.success());
    bed.stop_service();
}

/// Who reads a command's output may stop reading: the command goes on, says nothing of it, and ends with its own code.
#[test]
fn a_reader_that_stops_changes_no_exit_code() {
    let mut bed = Testbed::start_with(&["--vault-hours", "0"]);
    bed.load_catalogue();
    let cut = |bed: &Testbed, words: &[&str]| {
        let mut child = bed
            .cli_command(words)
            .stdout(std::process::Stdio::piped())
            .stderr(std::process::Stdio::piped())
            .spawn()
            .unwrap();
        drop(child.stdout.take());
        let out = child.wait_with_output().unwrap();
        (
            out.status.code(),
            String::from_utf8_lossy(&out.stderr).into_owned(),
        )
    };
    for words in [
        &["release", "list"][..],
        &["status"],
        &["vault", "inspect"],
        &["completions", "bash"],
        &["release", "list", "--json"],
    ] {
        assert_eq!(cut(&bed, words), (Some(0), String::new()), "{words:?}");
    }
    let (code, said) = cut(&bed, &["device", "show", "nobody"]);
    assert!(code == Some(1) && said.contains("nobody"), "{said}");
    bed.stop_service();
    assert_eq!(cut(&bed, &["release", "list"]).0, Some(3));
}
