//! Benches on other computers: cards are written there, whatever becomes of the line, and nothing false is recorded.

use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use rustix::process::Signal;
use serde_json::Value;
use testbed::lines::says_unfinished;
use testbed::{FarBench, Said, Testbed};

/// Slow enough that something can happen meanwhile.
pub const SLOW: &[&str] = &["--rate", "8MB"];
pub const CARD: &str = "3965190144";

fn with_bench(flags: &[&str]) -> (Testbed, FarBench) {
    let bed = Testbed::start_with(&[&["--private-addresses"], flags].concat());
    bed.load_catalogue();
    bed.add_device("quay-01");
    let loft = FarBench::start(&bed, "loft");
    (bed, loft)
}

/// A write that is under way, once some of it is on the card.
pub struct UnderWay {
    child: std::process::Child,
    pub job: i64,
}

pub fn begin_to_write(bed: &Testbed, loft: &FarBench) -> UnderWay {
    let label = bed.json(&["write", "quay-01", "--slot", &loft.slot(1), "--plan"])["card"]
        .as_str()
        .unwrap()
        .to_owned();
    let mut command =
        bed.cli_command(&["write", "quay-01", "--slot", &loft.slot(1), "--yes", &label]);
    command.stdout(Stdio::piped()).stderr(Stdio::piped());
    let mut under_way = UnderWay {
        child: command.spawn().unwrap(),
        job: 0,
    };
    let begun = Instant::now();
    while under_way.job == 0 {
        let jobs = bed.json(&["job", "list"]);
        let job = &jobs["items"][0];
        let progress = &job["progress"];
        if job["kind"] == "write"
            && progress["stage"] == "writing"
            && progress["done"].as_u64() > Some(4_000_000)
        {
            under_way.job = job["id"].as_i64().unwrap();
        }
        assert!(
            begun.elapsed() < Duration::from_secs(60),
            "nothing is written: {job}"
        );
        std::thread::sleep(Duration::from_millis(50));
    }
    under_way
}

impl UnderWay {
    pub fn end(self) -> Said {
        self.child.wait_with_output().unwrap().into()
    }
}

/// A slot as it is typed: the service's own are numbers.
fn typed(name: &Value) -> String {
    name.as_str()
        .map_or_else(|| name.to_string(), str::to_owned)
}

/// Waits until the card in a slot of the bench is seen so.
pub fn until_seen(bed: &Testbed, slot: &str, occupant: &str) -> Value {
    let begun = Instant::now();
    loop {
        let slots = bed.json(&["slot", "list"]);
        let seen = slots
            .as_array()
            .unwrap()
            .iter()
            .find(|one| typed(&one["name"]) == slot);
        if let Some(seen) = seen
            && seen["card"]["occupant"] == *occupant
        {
            return seen.clone();
        }
        assert!(
            begun.elapsed() < Duration::from_secs(40),
            "{slot} is not {occupant}: {slots}"
        );
        std::thread::sleep(Duration::from_millis(100));
    }
}

#[test]
fn a_card_is_written_backed_up_and_checked_at_another_bench() {
    let (bed, loft) = with_bench(&[]);
    loft.drawer.make_card("mica", CARD, &[]);
    loft.drawer.put("mica", 1);
    // The own slot of that number is another one, with another card.
    bed.make_card("chalk", CARD, &[]);
    bed.put("chalk", 1);

    let listed = bed.done(&["slot", "list"]);
    assert!(
        listed.contains("loft:1") && listed.contains("loft:2"),
        "{listed}"
    );
    let plan = bed.json(&["write", "quay-01", "--slot", "loft:1", "--plan"]);
    let label = plan["card"].as_str().unwrap();
    let wrong = bed.refused(&["write", "quay-01", "--slot", "1", "--yes", label]);
    assert!(!wrong.is_empty(), "the card is not in that slot");
    let down = loft.line.down();
    let written = bed.done(&["write", "quay-01", "--slot", "loft:1", "--yes", label]);
    assert!(written.contains("safe to pull"), "{written}");
    let first = loft.line.down() - down;

    let card = bed.json(&["card", "show", label]);
    assert_eq!(card["imprints"][0]["slot"], "loft:1");
    assert_eq!(card["imprints"][0]["state"], "verified");
    assert_eq!(
        bed.sql("select slot, reader from jobs where kind = 'write' order by id desc limit 1")
            .trim(),
        "loft:1|loft/stand-in"
    );
    let seen = until_seen(&bed, "loft:1", "ours");
    assert_eq!(
        (&seen["bench"], &seen["card"]["label"]),
        (&"loft".into(), &label.into())
    );

    // The board there comes up: nobody but the bench touched the card.
    let board = loft.drawer.boot("mica", "curlew");
    assert_eq!(board["joined"], "Saltmarsh-Quay", "{board}");
    loft.drawer.order(&["halt", "mica"]);
    loft.drawer.put("mica", 1);
    until_seen(&bed, "loft:1", "ours");

    // A backup brings what the vault has not.
    let up = loft.line.up();
    let backup = bed.json(&["backup", "take", "--slot", "loft:1"]);
    assert_eq!(backup["device"], "quay-01");
    let came = loft.line.up() - up;
    let content = backup["content"].as_u64().unwrap();
    assert!(
        came < content / 10,
        "{came} of {content} came from the bench"
    );
    let shown = bed.json(&["backup", "show", backup["name"].as_str().unwrap()]);
    assert!(
        shown
            .to_string()
            .contains("compared with what the vault gives back"),
        "{shown}"
    );

    // The next card of the same release costs next to nothing.
    bed.add_device("quay-02");
    loft.drawer.make_card("flint", CARD, &[]);
    loft.drawer.put("flint", 2);
    let plan = bed.json(&["write", "quay-02", "--slot", "loft:2", "--plan"]);
    let down = loft.line.down();
    bed.done(&[
        "write",
        "quay-02",
        "--slot",
        "loft:2",
        "--yes",
        plan["card"].as_str().unwrap(),
    ]);
    let second = loft.line.down() - down;
    assert!(second < first / 5, "{first}, then {second}");
    // What stays at the bench tells nobody anything.
    let told = Command::new("grep")
        .args(["-rl", "ebb and flow"])
        .arg(loft.worker_dir())
        .output()
        .unwrap();
    assert_eq!(
        String::from_utf8_lossy(&told.stdout),
        "",
        "a passphrase lies readable at the bench"
    );

    // Of a card that nobody here knows comes what the vault does not have: of an image that somebody else has put on it
    // next to nothing.
    loft.drawer.make_card("found", CARD, &[]);
    let image = testbed::demo_image("quaylink-2.4.img.xz");
    let put = format!(
        "xz -dc {} | dd of={} bs=1M conv=notrunc,sparse",
        image.display(),
        loft.drawer.card_file("found").display()
    );
    let put = Command::new("sh").args(["-c", &put]).output().unwrap();
    assert!(put.status.success(), "{put:?}");
    loft.drawer.order(&["pull", "--slot", "2"]);
    loft.drawer.put("found", 2);
    until_seen(&bed, "loft:2", "foreign");
    let up = loft.line.up();
    let found = bed.json(&["backup", "take", "--slot", "loft:2"]);
    let came = loft.line.up() - up;
    let content = found["content"].as_u64().unwrap();
    assert!(
        content > 30_000_000 && came < content / 10,
        "{came} of {content} came from the bench: {found}"
    );
    loft.drawer.order(&["pull", "--slot", "2"]);
    loft.drawer.put("flint", 2);
    until_seen(&bed, "loft:2", "ours");

    // Checked there, and what is on it is on it afterwards.
    let before = loft.drawer.card_digest("flint");
    let said = bed.done(&[
        "card",
        "check",
        "--slot",
        "loft:2",
        "--yes",
        plan["card"].as_str().unwrap(),
    ]);
    assert!(said.contains("No sign of forgery"), "{said}");
    assert_eq!(loft.drawer.card_digest("flint"), before);
    let files = bed.done(&["card", "compare", "loft:2"]);
    assert!(!files.is_empty());

    // Somebody swaps the card behind the plan.
    let plan = bed.json(&["write", "quay-02", "--slot", "loft:2", "--plan"]);
    loft.drawer.order(&["pull", "--slot", "2"]);
    loft.drawer.make_card("slate", CARD, &[]);
    loft.drawer.put("slate", 2);
    let label = plan["card"].as_str().unwrap();
    let refused = bed.refused(&["write", "quay-02", "--slot", "loft:2", "--yes", label]);
    assert!(refused.contains(label), "{refused}");
    loft.drawer.make_card("untouched", CARD, &[]);
    assert_eq!(
        loft.drawer.card_digest("slate"),
        loft.drawer.card_digest("untouched")
    );
}

#[test]
fn a_line_that_is_cut_ends_nothing_as_long_as_the_bench_comes_back() {
    let (bed, loft) = with_bench(&[]);
    loft.drawer.make_card("mica", CARD, SLOW);
    loft.drawer.put("mica", 1);
    until_seen(&bed, "loft:1", "blank");
    let under_way = begin_to_write(&bed, &loft);
    for away in [0, 1500, 200] {
        loft.line.block(true);
        std::thread::sleep(Duration::from_millis(away));
        loft.line.block(false);
        std::thread::sleep(Duration::from_millis(900));
    }
    let job = under_way.job;
    let said = under_way.end();
    assert_eq!(said.code, 0, "{said:?}");
    let job = bed.json(&["job", "show", &job.to_string()]);
    assert_eq!(job["state"], "done", "{job}");
    until_seen(&bed, "loft:1", "ours");
    let board = loft.drawer.boot("mica", "curlew");
    assert_eq!(board["joined"], "Saltmarsh-Quay", "{board}");
}

#[test]
fn a_bench_that_stays_away_leaves_a_card_that_says_so() {
    let (bed, loft) = with_bench(&["--bench-seconds", "5"]);
    loft.drawer.make_card("mica", CARD, SLOW);
    loft.drawer.put("mica", 1);
    until_seen(&bed, "loft:1", "blank");
    let under_way = begin_to_write(&bed, &loft);
    loft.line.block(true);
    let job = under_way.job;
    let said = under_way.end();
    assert_eq!(said.code, 1, "{said:?}");
    assert!(
        said.err.contains("bench loft") && said.err.contains("5 seconds"),
        "{said:?}"
    );
    loft.until_it_is(&bed, "away");
    let listed = bed.json(&["slot", "list"]);
    assert!(
        !listed.to_string().contains("loft:1"),
        "what is in its slots is not known: {listed}"
    );
    let refused = bed.refused(&["write", "quay-01", "--slot", "loft:1", "--plan"]);
    assert!(refused.contains("bench loft is away"), "{refused}");

    // The bench gave up by itself meanwhile; the medium says so, and then the records.
    let begun = Instant::now();
    while !says_unfinished(&loft.drawer.card_file("mica")) {
        assert!(
            begun.elapsed() < Duration::from_secs(30),
            "the card does not say so"
        );
        std::thread::sleep(Duration::from_millis(100));
    }
    loft.line.block(false);
    until_seen(&bed, "loft:1", "unfinished");
    let state = bed.sql(&format!(
        "select state, left_as from imprints where job_id = {job}"
    ));
    assert_eq!(state.trim(), "incomplete|unfinished");
    // And the same card is written again.
    loft.drawer.order(&["fault", "mica"]);
    let plan = bed.json(&["write", "quay-01", "--slot", "loft:1", "--plan"]);
    bed.done(&[
        "write",
        "quay-01",
        "--slot",
        "loft:1",
        "--yes",
        plan["card"].as_str().unwrap(),
    ]);
}

#[test]
fn a_service_that_dies_meanwhile_comes_up_with_the_truth() {
    let (mut bed, mut loft) = with_bench(&[]);
    loft.drawer.make_card("mica", CARD, SLOW);
    loft.drawer.put("mica", 1);
    until_seen(&bed, "loft:1", "blank");
    let under_way = begin_to_write(&bed, &loft);
    let job = under_way.job;
    bed.kill_service();
    under_way.end();
    bed.start_service();
    until_seen(&bed, "loft:1", "unfinished");
    assert!(says_unfinished(&loft.drawer.card_file("mica")));
    let state = bed.sql(&format!(
        "select j.state, i.state from jobs j join imprints i on i.job_id = j.id where j.id = {job}"
    ));
    assert_eq!(state.trim(), "interrupted|incomplete");

    // The worker's computer loses its power: the card is as far as it came.
    let under_way = begin_to_write(&bed, &loft);
    let job = under_way.job;
    loft.end(Signal::KILL);
    assert!(says_unfinished(&loft.drawer.card_file("mica")));
    loft.run();
    let said = under_way.end();
    assert_eq!(said.code, 1, "{said:?}");
    until_seen(&bed, "loft:1", "unfinished");
    let state = bed.sql(&format!("select state from imprints where job_id = {job}"));
    assert_eq!(state.trim(), "incomplete");

    // One that is stopped puts its mark first.
    let under_way = begin_to_write(&bed, &loft);
    loft.end(Signal::TERM);
    assert!(says_unfinished(&loft.drawer.card_file("mica")));
    loft.run();
    assert_eq!(under_way.end().code, 1);
}

#[test]
fn a_computer_becomes_a_bench_by_a_code_that_is_good_once() {
    let (bed, loft) = with_bench(&[]);
    let refused = bed.refused(&["bench", "add", "loft"]);
    assert!(refused.contains("already"), "{refused}");
    for bad in ["Loft", "a-name-that-is-too-long", "1st", "x-", "über"] {
        let refused = bed.refused(&["bench", "add", bad]);
        assert!(refused.contains("small letters"), "{refused}");
    }
    let guessed = loft.enrol("AAAAA-AAAAA-AAAAA-AAAAA");
    assert!(
        guessed.code != 0 && guessed.err.contains("not good"),
        "{guessed:?}"
    );

    // Another computer takes its place; what the first one shows is good no more.
    let code = bed.json(&["bench", "code", "loft"])["code"]
        .as_str()
        .unwrap()
        .to_owned();
    let kept = std::fs::read_to_string(loft.worker_dir().join("enrolled.json")).unwrap();
    let mode = std::fs::metadata(loft.worker_dir().join("enrolled.json")).unwrap();
    assert_eq!(std::os::unix::fs::MetadataExt::mode(&mode) & 0o777, 0o600);
    let other = FarBench::start(&bed, "yard");
    let said = other.enrol(&code);
    assert_eq!(said.code, 0, "{said:?}");
    let again = other.enrol(&code);
    assert!(
        again.code != 0 && again.err.contains("not good"),
        "{again:?}"
    );
    loft.until_it_is(&bed, "away");
    std::thread::sleep(Duration::from_secs(2));
    assert!(
        loft.log().contains("is no bench of this service"),
        "{}",
        loft.log()
    );
    let credential: Value = serde_json::from_str(&kept).unwrap();
    let credential = credential["credential"].as_str().unwrap();
    assert!(
        !bed.sql("select encode(credential, 'escape') from benches")
            .contains(credential)
    );

    let removed = bed.done(&["bench", "remove", "yard"]);
    assert!(removed.contains("no bench any more"), "{removed}");
    other.until_gone(&bed);
    let unknown = bed.refused(&["bench", "remove", "yard"]);
    assert!(unknown.contains("yard"), "{unknown}");
    let history = bed.json(&["history", "list"]);
    for act in [
        "added a bench",
        "made a code for a bench",
        "made a computer a bench",
        "removed a bench",
    ] {
        assert!(history.to_string().contains(act), "{act}: {history}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn who_calls_as_a_bench_must_be_one_and_speak_the_same() {
    let (bed, loft) = with_bench(&[]);
    let client = bed.client();
    let kept = std::fs::read_to_string(loft.worker_dir().join("enrolled.json")).unwrap();
    let kept: Value = serde_json::from_str(&kept).unwrap();
    let credential = kept["credential"].as_str().unwrap();
    let call = api::BenchCall {
        protocol: 2,
        version: "0.0.1".into(),
        session: String::new(),
        seen: 0,
        start: "a test".into(),
        attempt: 1,
    };
    let why = |called: Result<_, api::ClientError>| match called {
        Err(api::ClientError::Refused(problem)) => problem,
        Err(e) => panic!("{e}"),
        Ok(_) => panic!("it is let in"),
    };
    let stranger = why(client.call_as_bench("guessed", &call).await.map(drop));
    assert_eq!(stranger.code, "not-enrolled");
    let old = api::BenchCall {
        protocol: 1,
        ..call.clone()
    };
    let old = why(client.call_as_bench(credential, &old).await.map(drop));
    assert_eq!(old.code, "other-version");
    assert!(
        old.detail.contains("0.0.1") && old.detail.contains("install"),
        "{old:?}"
    );
    // Somebody who speaks nonsense holds nothing up, and the bench comes back.
    let (_, mut line) = client.call_as_bench(credential, &call).await.unwrap();
    tokio::io::AsyncWriteExt::write_all(&mut line, &[0xff; 4096])
        .await
        .unwrap();
    let mut rest = Vec::new();
    let _ = tokio::time::timeout(
        Duration::from_secs(10),
        tokio::io::AsyncReadExt::read_to_end(&mut line, &mut rest),
    )
    .await
    .expect("a line of nonsense is ended");
    loft.until_it_is(&bed, "connected");
}

#[test]
fn places_of_a_bench_become_slots_from_afar() {
    let (bed, loft) = with_bench(&[]);
    let scan = bed.json(&["bench", "scan", "--bench", "loft"]);
    assert!(scan["disks"].is_array(), "{scan}");
    bed.done(&[
        "bench",
        "bind",
        "7",
        "--bench",
        "loft",
        "--port",
        "0000:00:14.0/9",
        "--note",
        "by the window",
    ]);
    let written = std::fs::read_to_string(loft.worker_dir().join("bench.toml")).unwrap();
    assert!(written.contains("by the window"), "{written}");
    assert!(
        !bed.data_dir().join("bench.toml").exists(),
        "the own places stay"
    );
    let listed = bed.done(&["bench", "slots", "--bench", "loft"]);
    assert!(listed.contains("by the window"), "{listed}");
    let twice = bed.refused(&["bench", "bind", "0", "--bench", "loft", "--port", "x"]);
    assert!(!twice.is_empty());
    bed.done(&["bench", "unbind", "7", "--bench", "loft"]);
    let nobody = bed.refused(&["bench", "scan", "--bench", "attic"]);
    assert!(nobody.contains("attic"), "{nobody}");
}

#[test]
fn whatever_becomes_of_line_worker_and_service_nothing_false_is_said() {
    let seed = std::env::var("LINES_SEED")
        .ok()
        .and_then(|seed| seed.parse().ok());
    let seed = seed.unwrap_or(u64::from(std::process::id()));
    let played = testbed::lines::play(seed, 4);
    assert_eq!(played.writes, 4, "{played:?}");
}
