//! Promises of the README and of the interface, each attacked: cards that lie about their size,
//! requests that come twice or at once, a database and a reader that go away, clients that do not
//! read, foreign text, and starts that are cut off.

use std::io::{Read, Write};
use std::net::TcpStream;
use std::time::{Duration, Instant};

use api::{Client, ClientError, NewPlan, NewRelease, NewUpload, Problem};
use testbed::model::{Medium, medium};
use testbed::{Testbed, demo_image, demo_sheet, path};

fn problem<T: std::fmt::Debug>(answer: Result<T, ClientError>) -> Problem {
    match answer {
        Err(ClientError::Refused(problem)) => problem,
        other => panic!("a refusal was expected: {other:?}"),
    }
}

fn device(name: &str, slot: u32) -> NewPlan {
    NewPlan {
        device: Some(name.into()),
        slot: slot.into(),
        ..NewPlan::default()
    }
}

async fn until<T, F: Future<Output = Option<T>>>(what: &str, ask: impl Fn() -> F) -> T {
    until_within(40, what, ask).await
}

async fn until_within<T, F: Future<Output = Option<T>>>(
    seconds: u64,
    what: &str,
    ask: impl Fn() -> F,
) -> T {
    let begun = Instant::now();
    loop {
        if let Some(found) = ask().await {
            return found;
        }
        assert!(begun.elapsed() < Duration::from_secs(seconds), "{what}");
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
}

/// Writes a card for quay-01 in slot 1 and gives the job's end.
async fn write(client: &Client, name: &str, slot: u32) -> api::Job {
    let plan = client.plan(&device(name, slot)).await.unwrap();
    let job = client.confirm(&plan.id, plan.agreed(), None).await.unwrap();
    client.follow(job.id, |_| {}).await.unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn forged_cards_are_refused_also_where_the_image_fits_into_what_is_there() {
    let bed = Testbed::start();
    bed.load_catalogue();
    bed.add_device("quay-01");
    let client = bed.client();
    for (number, (size, fault)) in [
        ("4005242880", "wraps=1000000000"),
        ("4005242880", "wraps=3995000000"),
        ("4005242880", "wraps=3910000000"),
        ("3980394496", "wraps=3980000000"),
        ("500000256", "wraps=205520896"),
        ("4005242880", "drops=1000000000"),
        ("16009658368", "wraps=2000000000"),
        ("32010928128", "wraps=8000000000"),
    ]
    .into_iter()
    .enumerate()
    {
        let name = format!("opal-{number}");
        bed.make_card(&name, size, &["--fault", fault]);
        bed.put(&name, 1);
        let ended = write(&client, "quay-01", 1).await;
        assert_eq!(
            (ended.state.as_str(), ended.error_code.as_deref()),
            ("failed", Some("card-lies")),
            "{size}, {fault}: {ended:?}"
        );
        assert!(matches!(
            medium(&bed.card_file(&name)),
            Medium::Unfinished { .. }
        ));
        assert_eq!(bed.boot(&name, "curlew")["lamp"], "dark", "{size}, {fault}");
    }
    // An honest one is written, and nobody says more of its size than is known.
    bed.make_card("jade", "4005242880", &[]);
    bed.put("jade", 1);
    let plan = client.plan(&device("quay-01", 1)).await.unwrap();
    assert!(!plan.size_proven);
    let ended = write(&client, "quay-01", 1).await;
    assert_eq!(ended.state, "done", "{ended:?}");
    assert_eq!(ended.result.unwrap()["size_proven"], false);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_request_that_comes_twice_or_at_once_does_its_work_once() {
    let bed = Testbed::start();
    bed.load_catalogue();
    let client = bed.client();
    let bytes = std::fs::read(demo_image("quaylink-2.3.zip")).unwrap();
    let sheet = std::fs::read_to_string(demo_sheet("quaylink-2.3.toml")).unwrap();
    let begun = client
        .begin_upload(&NewUpload {
            file_name: "quaylink-2.3.zip".into(),
            size: bytes.len() as u64,
            sheet: None,
            key: None,
        })
        .await
        .unwrap();
    let new = NewRelease {
        upload: Some(begun.id.clone()),
        sheet: Some(sheet),
        ..NewRelease::default()
    };
    // A refusal takes nothing away: the sender completes it and goes on.
    let half = bytes.len() / 2;
    client
        .send_part(&begun.id, 0, bytes[..half].to_vec())
        .await
        .unwrap();
    let refused = problem(client.add_release(&new, Some("k-1")).await);
    assert_eq!(refused.code, "upload-not-whole");
    let mut wrong = new.clone();
    wrong.sha256 = Some("no digits".into());
    assert_eq!(
        problem(client.add_release(&wrong, None).await).code,
        "bad-checksum"
    );
    client
        .send_part(&begun.id, half as u64, bytes[half..].to_vec())
        .await
        .unwrap();
    wrong.sha256 = Some("0".repeat(64));
    let failed = client.add_release(&wrong, None).await.unwrap();
    let failed = client.follow(failed.id, |_| {}).await.unwrap();
    assert_eq!(failed.error_code.as_deref(), Some("checksum"), "{failed:?}");

    // Two at once under one key, and one under another key: one job.
    let (one, two, other) = tokio::join!(
        client.add_release(&new, Some("k-2")),
        client.add_release(&new, Some("k-2")),
        client.add_release(&new, Some("k-3"))
    );
    let mut jobs: Vec<i64> = [&one, &two, &other]
        .into_iter()
        .filter_map(|one| one.as_ref().ok())
        .map(|job| job.id)
        .collect();
    jobs.dedup();
    assert_eq!(jobs.len(), 1, "{one:?} {two:?} {other:?}");
    let ended = client.follow(jobs[0], |_| {}).await.unwrap();
    assert_eq!(ended.state, "done", "{ended:?}");
    assert_eq!(
        client.release("quaylink 2.3").await.unwrap().release.name,
        "quaylink 2.3"
    );

    // The key stands for that very request.
    let mut third = new.clone();
    third.draft = true;
    let used = if one.is_ok() { "k-2" } else { "k-3" };
    assert_eq!(
        problem(client.add_release(&third, Some(used)).await).code,
        "other-request"
    );
    let again = client.add_release(&new, Some(used)).await.unwrap();
    assert_eq!(again.id, jobs[0]);
    // Whoever else comes by the key gets nothing for it.
    let other = Client::new(&bed.url(), "Ilse");
    assert_eq!(
        problem(other.add_release(&new, Some(used)).await).code,
        "other-request"
    );
}

fn database(bed: &Testbed, signal: &str) {
    let file = bed.data_dir().join("postgres/postmaster.pid");
    let text = std::fs::read_to_string(file).unwrap();
    let pid = text.lines().next().unwrap().trim();
    // The whole group: those that answer, not only the one that starts them.
    let killed = std::process::Command::new("pkill")
        .args([signal, "-P", pid])
        .status()
        .unwrap();
    assert!(killed.success());
    std::process::Command::new("kill")
        .args([signal, pid])
        .status()
        .unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_database_that_is_away_gives_no_card_a_second_label_and_loses_no_end_of_a_job() {
    let bed = Testbed::start();
    bed.load_catalogue();
    bed.add_device("quay-01");
    bed.make_card("mica", "3965190144", &["--rate", "60MB"]);
    bed.put("mica", 1);
    let client = bed.client();
    let plan = client.plan(&device("quay-01", 1)).await.unwrap();
    let job = client.confirm(&plan.id, plan.agreed(), None).await.unwrap();
    until("the card is being written", || async {
        let now = client.job(job.id).await.ok()?;
        now.progress.filter(|progress| progress.stage == "writing")
    })
    .await;
    // Frozen while the write ends, and while the card is put in anew.
    database(&bed, "-STOP");
    tokio::time::sleep(Duration::from_secs(4)).await;
    database(&bed, "-CONT");
    let ended = client.follow(job.id, |_| {}).await.unwrap();
    assert_eq!(ended.state, "done", "{ended:?}");
    assert_eq!(client.card("C-0001").await.unwrap().card.state, "imprinted");

    bed.standin(&["pull", "--slot", "1"]);
    database(&bed, "-STOP");
    bed.put("mica", 2);
    tokio::time::sleep(Duration::from_secs(2)).await;
    let new = device("quay-01", 2);
    let refused = tokio::time::timeout(Duration::from_secs(25), client.plan(&new)).await;
    assert!(!matches!(refused, Ok(Ok(_))), "{refused:?}");
    database(&bed, "-CONT");
    let slot = until("the slot asks again by itself", || async {
        let slots = client.slots().await.ok()?;
        slots[1].card.clone().filter(|card| card.label.is_some())
    })
    .await;
    assert_eq!(slot.label.as_deref(), Some("C-0001"));
    assert_eq!(
        client
            .cards(&api::CardQuery::default(), &api::Paging::default())
            .await
            .unwrap()
            .total,
        1,
        "one card, one label"
    );
    assert_eq!(
        client
            .device("quay-01")
            .await
            .unwrap()
            .device
            .card
            .as_deref(),
        Some("C-0001")
    );
}

/// Where the stamp lies cannot be read: whose card it is cannot be told then, and is not guessed.
#[tokio::test(flavor = "multi_thread")]
async fn a_card_with_a_bad_region_under_its_stamp_gets_no_second_label() {
    let bed = Testbed::start();
    bed.load_catalogue();
    bed.add_device("quay-01");
    bed.make_card("mica", "3965190144", &[]);
    let client = bed.client();
    bed.put("mica", 1);
    assert_eq!(write(&client, "quay-01", 1).await.state, "done");
    // The whole boot partition.
    let before = client.slots().await.unwrap()[0].card.clone().unwrap();
    bed.standin(&["fault", "mica", "bad=4194304+50331648"]);
    bed.put("mica", 1);
    let occupant = async || {
        let slots = client.slots().await.unwrap();
        let card = slots[0].card.clone()?;
        let looked_at = card.insertion != before.insertion && card.occupant != "busy";
        looked_at.then_some((card.occupant, card.summary, card.label))
    };
    let (occupant, summary, label) = until("it is looked at", &occupant).await;
    assert_eq!(
        (occupant.as_str(), label),
        ("unreadable", None),
        "{summary}"
    );
    assert!(
        summary.contains("cannot be read") && summary.contains("at byte"),
        "{summary}"
    );
    let refused = problem(client.plan(&device("quay-01", 1)).await);
    assert_eq!(refused.code, "card-unreadable", "{refused:?}");
    let cards = client
        .cards(&api::CardQuery::default(), &api::Paging::default())
        .await
        .unwrap();
    assert_eq!(cards.total, 1, "no second label");
    // Where it can be read again, it is what it was.
    bed.standin(&["fault", "mica"]);
    bed.put("mica", 1);
    let plan = client.plan(&device("quay-01", 1)).await.unwrap();
    assert_eq!(plan.card, "C-0001");
    assert!(plan.lost[0].contains("quay-01"), "{:?}", plan.lost);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_card_that_does_not_answer_holds_up_nobody_else() {
    let bed = Testbed::start();
    bed.load_catalogue();
    bed.add_device("quay-01");
    bed.make_card("tar", "3965190144", &["--rate", "2000"]);
    bed.make_card("mica", "3965190144", &[]);
    bed.put("tar", 1);
    bed.put("mica", 2);
    let client = bed.client();
    let begun = Instant::now();
    until("the other card is seen", || async {
        let slots = client.slots().await.ok()?;
        slots[1]
            .card
            .clone()
            .filter(|card| card.occupant == "blank")
    })
    .await;
    let ended = write(&client, "quay-01", 2).await;
    assert_eq!(ended.state, "done", "{ended:?}");
    assert!(
        begun.elapsed() < Duration::from_secs(25),
        "{:?}",
        begun.elapsed()
    );
    let refused = problem(client.plan(&device("quay-01", 1)).await);
    assert!(
        matches!(refused.code.as_str(), "card-gone" | "card-unreadable"),
        "{refused:?}"
    );
}

/// A request by hand; gives status, headers and body.
fn ask(bed: &Testbed, head: &str, body: &[u8]) -> (u16, String, String) {
    let address = bed.url().trim_start_matches("http://").to_owned();
    let mut stream = TcpStream::connect(&address).unwrap();
    let len = body.len();
    write!(
        stream,
        "{head} HTTP/1.1\r\nHost: {address}\r\nConnection: close\r\nContent-Type: application/json\r\nContent-Length: {len}\r\n\r\n"
    )
    .unwrap();
    stream.write_all(body).unwrap();
    let mut answer = Vec::new();
    stream.read_to_end(&mut answer).unwrap();
    let answer = String::from_utf8_lossy(&answer).into_owned();
    let (head, body) = answer.split_once("\r\n\r\n").unwrap_or_default();
    let status = head
        .split(' ')
        .nth(1)
        .and_then(|code| code.parse().ok())
        .unwrap();
    (status, head.to_ascii_lowercase(), body.to_owned())
}

#[tokio::test(flavor = "multi_thread")]
async fn every_refusal_is_a_problem_and_every_page_says_what_it_may_do() {
    let bed = Testbed::start();
    for (head, body, status) in [
        ("GET /api", &b""[..], 404),
        ("GET /api/v2/cards", b"", 404),
        ("GET /api/v1/nothing/here", b"", 404),
        ("DELETE /api/v1/cards", b"", 405),
        ("GET /api/v1/jobs/many", b"", 400),
        ("GET /api/v1/jobs?before=x", b"", 400),
        ("POST /api/v1/plans", b"{", 422),
        ("POST /api/v1/plans", b"\xff\xfe", 422),
        (
            "PUT /api/v1/sites/pier",
            b"{\"name\":\"pier\",\"title\":\"a\\u0000b\"}",
            422,
        ),
        ("POST /api/v1/devices", b"[1]", 422),
    ] {
        let (found, headers, text) = ask(&bed, head, body);
        assert_eq!(found, status, "{head}: {text}");
        assert!(
            headers.contains("content-type: application/problem+json"),
            "{head}: {headers}"
        );
        let said: Problem =
            serde_json::from_str(&text).unwrap_or_else(|e| panic!("{head}: {e}: {text}"));
        assert!(
            !said.code.is_empty() && said.detail.len() > 10,
            "{head}: {said:?}"
        );
        assert!(
            !text.contains("records cannot be reached"),
            "{head}: {text}"
        );
    }
    for page in ["GET /", "GET /devices/any", "GET /api/v1/health"] {
        let (status, headers, _) = ask(&bed, page, b"");
        assert_eq!(status, 200, "{page}");
        for wanted in [
            "content-security-policy: default-src 'none'; script-src 'self';",
            "frame-ancestors 'none'",
            "x-frame-options: deny",
            "x-content-type-options: nosniff",
        ] {
            assert!(headers.contains(wanted), "{page}: {headers}");
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_thousand_clients_that_stand_still_stop_no_write_and_take_no_memory() {
    let bed = Testbed::start();
    bed.load_catalogue();
    bed.add_device("quay-01");
    bed.make_card("mica", "3965190144", &["--rate", "40MB"]);
    bed.put("mica", 1);
    let client = bed.client();
    let plan = client.plan(&device("quay-01", 1)).await.unwrap();
    let job = client.confirm(&plan.id, plan.agreed(), None).await.unwrap();
    let before = bed.service_memory();
    let address = bed.url().trim_start_matches("http://").to_owned();
    let mut idle = Vec::new();
    for number in 0..1000 {
        let Ok(mut stream) = TcpStream::connect(&address) else {
            continue;
        };
        let sent = match number % 4 {
            // A head that never ends, a body that never comes, a stream that nobody reads.
            0 => stream.write_all(b"GET /api/v1/hea"),
            1 => write!(
                stream,
                "PATCH /api/v1/uploads/00?offset=0 HTTP/1.1\r\nHost: {address}\r\nContent-Length: 8000000\r\n\r\nxxxx"
            ),
            2 => write!(
                stream,
                "GET /api/v1/events HTTP/1.1\r\nHost: {address}\r\n\r\n"
            ),
            _ => Ok(()),
        };
        let _ = sent;
        idle.push(stream);
    }
    // While all of them stand there, what is under way goes on; and when they have timed out,
    // others are served.
    let card = bed.card_file("mica");
    let begun = Instant::now();
    while !matches!(medium(&card), Medium::Whole { .. }) {
        assert!(
            begun.elapsed() < Duration::from_secs(30),
            "the write stands still"
        );
        tokio::time::sleep(Duration::from_millis(200)).await;
    }
    let memory = bed.service_memory();
    assert!(
        memory < before + (200 << 20),
        "{before} bytes before, {memory} then"
    );
    let ended = until_within(120, "others are served again", || async {
        let job = tokio::time::timeout(Duration::from_secs(2), client.job(job.id)).await;
        job.ok()?.ok().filter(|job| job.state == "done")
    })
    .await;
    assert_eq!(ended.state, "done");
    drop(idle);
    let log = std::fs::read_to_string(bed.log()).unwrap();
    assert!(!log.contains("too many open files"), "{log}");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_was_set_as_a_secret_stays_one_whatever_a_later_sheet_says() {
    let bed = Testbed::start();
    bed.load_catalogue();
    bed.add_device("quay-01");
    let client = bed.client();
    const SECRET: &str = "ebb and flow 1907";
    let text = std::fs::read_to_string(demo_sheet("quaylink-2.4.toml")).unwrap();
    let open = text.replace("kind = \"passphrase\"", "kind = \"text\"");
    assert_ne!(open, text);
    let revised = api::NewSheet { sheet: open };
    client.revise_sheet("quaylink 2.4", &revised).await.unwrap();
    bed.make_card("mica", "3965190144", &[]);
    bed.put("mica", 1);
    let plan = client.plan(&device("quay-01", 1)).await.unwrap();
    assert!(
        plan.cautions.iter().any(|one| one.name == "plain-secret"),
        "{:?}",
        plan.cautions
    );
    let ended = {
        let job = client.confirm(&plan.id, plan.agreed(), None).await.unwrap();
        client.follow(job.id, |_| {}).await.unwrap()
    };
    assert_eq!(ended.state, "done", "{ended:?}");
    for page in [
        "GET /api/v1/devices/quay-01",
        "GET /api/v1/devices/quay-01/preview",
        "GET /api/v1/device-table",
        "GET /api/v1/cards/C-0001",
        "GET /api/v1/presets",
        "GET /api/v1/networks",
        "GET /api/v1/activity",
    ] {
        let (status, _, text) = ask(&bed, page, b"");
        assert_eq!(status, 200, "{page}");
        assert!(!text.contains(SECRET), "{page}: {text}");
    }
    // Set anew under the sheet that calls it text, it is sealed all the same.
    let change = br#"{"set":{"wifi_passphrase":"spring tide 1953"}}"#;
    let (status, _, said) = ask(&bed, "PATCH /api/v1/devices/quay-01/settings", change);
    assert_eq!(status, 200, "{said}");
    assert!(!said.contains("spring tide"), "{said}");
    let (_, _, table) = ask(&bed, "GET /api/v1/device-table", b"");
    assert!(!table.contains("spring tide"), "{table}");

    // Reading a sealed fact leaves a trace.
    let fact = br#"{"value":"the harbour master's own"}"#;
    ask(&bed, "PUT /api/v1/devices/quay-01/facts/account", fact);
    let (_, _, value) = ask(&bed, "GET /api/v1/devices/quay-01/facts/account", b"");
    assert!(value.contains("harbour master"), "{value}");
    let (_, _, history) = ask(&bed, "GET /api/v1/activity", b"");
    assert!(
        history.contains("Fact account of quay-01 was read"),
        "{history}"
    );

    // No cell of the table is a formula to a spreadsheet, and it comes in as it was meant.
    let notes = br#"{"notes":"=HYPERLINK(\"http://x\")"}"#;
    let (status, _, said) = ask(&bed, "PATCH /api/v1/devices/quay-01", notes);
    assert_eq!(status, 200, "{said}");
    let (_, _, table) = ask(&bed, "GET /api/v1/device-table", b"");
    assert!(
        table.contains("'=HYPERLINK") && !table.contains(",=HYPERLINK"),
        "{table}"
    );
    let back = client.put_device_table(table, false).await.unwrap();
    assert!(back.problems.is_empty(), "{back:?}");
    let notes = client.device("quay-01").await.unwrap().device.notes;
    assert_eq!(notes, "=HYPERLINK(\"http://x\")");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_restore_carries_the_settings_of_what_it_restores() {
    let bed = Testbed::start();
    bed.load_catalogue();
    bed.add_device("quay-01");
    for card in ["mica", "flint", "slate"] {
        bed.make_card(card, "3965190144", &[]);
    }
    let client = bed.client();
    bed.put("mica", 1);
    assert_eq!(write(&client, "quay-01", 1).await.state, "done");
    let job = client
        .take_backup(&testbed::backup_of(1), None)
        .await
        .unwrap();
    let job = client.follow(job.id, |_| {}).await.unwrap();
    let backup = job.result.unwrap()["backup"].as_str().unwrap().to_owned();
    bed.put("flint", 2);
    let new = NewPlan {
        backup: Some(backup.clone()),
        slot: api::SlotName::here(2),
        ..NewPlan::default()
    };
    let plan = client.plan(&new).await.unwrap();
    let job = client.confirm(&plan.id, plan.agreed(), None).await.unwrap();
    assert_eq!(client.follow(job.id, |_| {}).await.unwrap().state, "done");
    let imprint = client.card(&plan.card).await.unwrap().imprints.remove(0);
    assert!(imprint.settings_known && imprint.from_backup);
    assert!(
        imprint
            .settings
            .iter()
            .any(|one| one.name == "wifi_network")
    );
    let networks = client.networks().await.unwrap();
    assert!(
        networks.iter().any(|one| one.devices.names == ["quay-01"]),
        "{networks:?}"
    );

    // However many backups and restores lie between, a release is known to be on the card.
    let job = client
        .take_backup(&testbed::backup_of(2), None)
        .await
        .unwrap();
    let job = client.follow(job.id, |_| {}).await.unwrap();
    bed.put("slate", 3);
    let again = NewPlan {
        backup: Some(job.result.unwrap()["backup"].as_str().unwrap().to_owned()),
        slot: api::SlotName::here(3),
        ..NewPlan::default()
    };
    let third = client.plan(&again).await.unwrap();
    let job = client
        .confirm(&third.id, third.agreed(), None)
        .await
        .unwrap();
    assert_eq!(client.follow(job.id, |_| {}).await.unwrap().state, "done");
    let carriers = client.release("quaylink 2.4").await.unwrap().carriers;
    let on: Vec<_> = carriers.iter().map(|one| one.card.as_str()).collect();
    assert!(on.contains(&third.card.as_str()) && on.len() == 3, "{on:?}");
    let standing = client.device("quay-01").await.unwrap();
    assert_eq!(standing.device.card.as_deref(), Some(third.card.as_str()));

    // A plan names a backup only of what is on the card now.
    bed.put("mica", 1);
    let plan = client.plan(&device("quay-01", 1)).await.unwrap();
    assert!(
        plan.lost[0].contains(&format!("its newest backup is {backup}")),
        "{:?}",
        plan.lost
    );
    let job = client.confirm(&plan.id, plan.agreed(), None).await.unwrap();
    assert_eq!(client.follow(job.id, |_| {}).await.unwrap().state, "done");
    let plan = client.plan(&device("quay-01", 1)).await.unwrap();
    assert!(
        plan.lost[0].contains("no backup of what is on it now"),
        "{:?}",
        plan.lost
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_cancel_while_composing_leaves_a_blank_card_blank_with_its_label() {
    let bed = Testbed::start();
    bed.load_catalogue();
    bed.add_device("quay-01");
    bed.make_card("mica", "3965190144", &[]);
    bed.put("mica", 1);
    let client = bed.client();
    let mut untouched = 0;
    for _ in 0..12 {
        let before = medium(&bed.card_file("mica"));
        let plan = client.plan(&device("quay-01", 1)).await.unwrap();
        assert_eq!(plan.card, "C-0001");
        let job = client.confirm(&plan.id, plan.agreed(), None).await.unwrap();
        let _ = client.cancel(job.id).await;
        let ended = client.follow(job.id, |_| {}).await.unwrap();
        let told = ended.error.clone().unwrap_or_default();
        let after = medium(&bed.card_file("mica"));
        if told.contains("Nothing on it was touched") {
            untouched += 1;
            assert_eq!(after, before, "{told}");
        }
        if before == Medium::Blank && after == Medium::Blank {
            assert_eq!(client.card("C-0001").await.unwrap().card.state, "blank");
        }
    }
    assert!(untouched > 0, "a cancel that comes at once is in time");
}

#[test]
fn a_first_start_that_is_killed_at_any_moment_can_be_started_again() {
    let dir = tempfile::tempdir().unwrap();
    let open = std::os::unix::fs::PermissionsExt::from_mode(0o755);
    std::fs::set_permissions(dir.path(), open).unwrap();
    for round in 0..6 {
        let data = dir.path().join(format!("data-{round}"));
        for moment in [40 + 90 * round, 300 + 200 * round] {
            let mut child = std::process::Command::new(testbed::binary("duplicariumd"))
                .args(["--listen", "127.0.0.1:0", "--data-dir", path(&data)])
                .stderr(std::process::Stdio::null())
                .spawn()
                .unwrap();
            std::thread::sleep(Duration::from_millis(moment));
            child.kill().unwrap();
            child.wait().unwrap();
        }
        let log = dir.path().join(format!("log-{round}"));
        let mut child = std::process::Command::new(testbed::binary("duplicariumd"))
            .args(["--listen", "127.0.0.1:0", "--data-dir", path(&data)])
            .stderr(std::fs::File::create(&log).unwrap())
            .spawn()
            .unwrap();
        let begun = Instant::now();
        while !std::fs::read_to_string(&log).unwrap().contains("ready at") {
            let said = std::fs::read_to_string(&log).unwrap();
            assert!(child.try_wait().unwrap().is_none(), "round {round}: {said}");
            assert!(
                begun.elapsed() < Duration::from_secs(40),
                "round {round}: {said}"
            );
            std::thread::sleep(Duration::from_millis(50));
        }
        let pid = rustix::process::Pid::from_raw(child.id() as i32).unwrap();
        rustix::process::kill_process(pid, rustix::process::Signal::TERM).unwrap();
        assert!(child.wait().unwrap().success());
    }
}

/// A reader that counts in larger blocks than a file system of the image: the card would be right byte for byte, and no
/// computer with such a reader could use it. That is refused before the card is touched.
#[test]
fn a_reader_of_other_blocks_is_no_target() {
    let bed = Testbed::start();
    bed.load_catalogue();
    bed.add_device("quay-01");
    bed.make_card("opal", "700000256", &["--block", "4096"]);
    let before = bed.card_digest("opal");
    bed.put("opal", 1);
    let said = bed.refused(&["write", "quay-01", "--slot", "1", "--plan"]);
    assert!(
        said.contains("4096 bytes") && said.contains("a reader with blocks of 512 bytes"),
        "{said}"
    );
    assert_eq!(bed.card_digest("opal"), before);
    // What needs no table is done there.
    let plan = bed.json(&["card", "check", "--slot", "1", "--plan"]);
    let label = plan["card"].as_str().unwrap();
    bed.done(&["card", "check", "--slot", "1", "--yes", label]);
}
