//! `make fuzz`: damaged tables of devices and damaged feeds, through the real service. It answers each
//! with a refusal or a report, in bounded time, takes over all of a table or nothing, and goes on.
//! FUZZ_ROUNDS makes it longer, FUZZ_SEED makes it other damage.

use std::time::{Duration, Instant};

use api::ClientError;
use testbed::model::Chance;
use testbed::{Publisher, Testbed};

fn number(name: &str, usual: u64) -> u64 {
    std::env::var(name)
        .ok()
        .and_then(|text| text.parse().ok())
        .unwrap_or(usual)
}

/// Pieces that such texts are made of, and such that they should not be.
const PIECES: [&str; 28] = [
    ",",
    ";",
    "\"",
    "\"\"",
    "\n",
    "\r\n",
    "\u{feff}",
    "name",
    "quay-01",
    "macs",
    "02:00:00:00:00:01",
    "=1+1",
    "'",
    "host_name",
    "wifi_passphrase",
    "\0",
    "\u{202e}",
    "\u{1b}[2J",
    "{",
    "}",
    "[",
    "]",
    ":",
    "\\u0000",
    "1e999",
    "-1",
    "null",
    "plover",
];

fn damage(chance: &mut Chance, text: &str) -> Vec<u8> {
    let mut bytes = text.as_bytes().to_vec();
    for _ in 0..1 + chance.below(6) {
        let at = chance.below(bytes.len() as u64 + 1) as usize;
        let piece = PIECES[chance.below(PIECES.len() as u64) as usize];
        match chance.below(6) {
            0 => bytes.truncate(at),
            1 => {
                let many = piece.repeat(1 + chance.below(3000) as usize);
                bytes.splice(at..at, many.into_bytes());
            }
            2 if at < bytes.len() => bytes[at] = chance.below(256) as u8,
            3 => {
                let end = (at + chance.below(200) as usize).min(bytes.len());
                let part = bytes[at..end].to_vec();
                bytes.splice(at..at, part);
            }
            4 => {
                let end = (at + chance.below(20) as usize).min(bytes.len());
                bytes.drain(at..end);
            }
            _ => {
                bytes.splice(at..at, piece.bytes());
            }
        }
    }
    bytes
}

/// No answer may be a breakdown.
fn fine<T: std::fmt::Debug>(answer: Result<T, ClientError>, input: &str) -> Option<T> {
    match answer {
        Ok(found) => Some(found),
        Err(ClientError::Refused(problem)) => {
            assert!(
                (400..500).contains(&problem.status),
                "{problem:?} for {input:?}"
            );
            None
        }
        Err(e) => panic!("{e} for {input:?}"),
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn no_table_and_no_feed_stops_the_service_or_is_half_taken_over() {
    let bed = Testbed::start();
    bed.load_catalogue();
    for device in ["quay-01", "quay-02", "quay-03"] {
        bed.add_device(device);
    }
    std::fs::create_dir(bed.dir().join("publisher")).unwrap();
    let publisher = Publisher::start(&bed.dir().join("publisher"));
    let feed_file = bed.dir().join("publisher/feed.json");
    let good_feed = r#"{"duplicarium_feed": 1, "title": "x", "releases": [
        {"id": "a", "appliance": "quaylink", "version": "2.5", "file": "q.img.xz", "size": 3, "sha256": "00"}]}"#;
    let client = bed.client();
    let mut feed_is_followed = false;
    let mut chance = Chance::new(number("FUZZ_SEED", 1));
    let rounds = number("FUZZ_ROUNDS", 120);
    let (mut taken, mut refused) = (0, 0);
    for round in 0..rounds {
        let before = client.device_table().await.unwrap();
        let table = damage(&mut chance, &before);
        let text = String::from_utf8_lossy(&table).into_owned();
        let begun = Instant::now();
        let dry = round % 2 == 0;
        let report = fine(client.put_device_table(text.clone(), dry).await, &text);
        assert!(begun.elapsed() < Duration::from_secs(10), "{text:?}");
        let after = client.device_table().await.unwrap();
        match report {
            Some(report) if report.done => {
                assert!(!dry && report.problems.is_empty(), "{report:?}");
                taken += 1;
                // What came out went in: it comes out the same again.
                let again = client.put_device_table(after, false).await.unwrap();
                assert!(
                    again.new.is_empty() && again.changed.is_empty(),
                    "{again:?}"
                );
            }
            _ => {
                assert_eq!(before, after, "refused, and yet taken over: {text:?}");
                refused += 1;
            }
        }

        std::fs::write(&feed_file, damage(&mut chance, good_feed)).unwrap();
        let begun = Instant::now();
        if !feed_is_followed {
            std::fs::write(&feed_file, good_feed).unwrap();
            let new = api::NewFeed {
                url: publisher.url("feed.json"),
                user: None,
                password: None,
            };
            client.put_feed("commons", &new).await.unwrap();
            feed_is_followed = true;
        }
        fine(client.look_at_feed("commons").await, "a feed");
        assert!(begun.elapsed() < Duration::from_secs(10));
    }
    println!("{taken} tables taken over, {refused} refused or tried");
    assert!(taken > 0 && refused > 0);
    let log = std::fs::read_to_string(bed.log()).unwrap();
    assert!(!log.contains("panicked"), "{log}");
}
