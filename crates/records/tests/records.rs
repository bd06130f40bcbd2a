//! The records against a real PostgreSQL: the service's own, started and stopped by the code
//! under test.

use records::boards::{BoardModel, Site};
use records::devices::{Change, NewDevice};
use records::imprints::{Base, NewImprint, NotedImprint, Spoilt};
use records::jobs::{Ending, NewJob, Outcome, RequestKey};
use records::lists::Asked;
use records::releases::{NewRelease, NewSheet};
use records::{OwnServer, OwnServerError, RecordError, Records};
use serde_json::json;
use sqlx::Connection;

fn device(name: &str, site: &str) -> NewDevice {
    NewDevice {
        name: name.into(),
        board: "plover".into(),
        appliance: "quaylink".into(),
        variant: None,
        site: site.into(),
        notes: String::new(),
        added_by: "marit".into(),
    }
}

fn job(kind: &'static str, key: Option<&str>) -> NewJob {
    NewJob {
        kind,
        subject: "something".into(),
        at: None,
        card: None,
        operator: "marit".into(),
        request_key: key.map(|key| RequestKey {
            key: key.into(),
            digest: vec![1],
        }),
    }
}

fn ending(job: i64, outcome: Outcome) -> Ending {
    Ending {
        job,
        outcome,
        operator: "marit".into(),
        summary: "it ended".into(),
        speeds: None,
    }
}

/// The end of a job that is made for it, well.
async fn done(records: &Records) -> Ending {
    let (id, _) = records.add_job(&job("import", None)).await.unwrap();
    ending(id, Outcome::Done(json!({})))
}

fn release(version: &str, boards: &[&str]) -> NewRelease {
    NewRelease {
        name: format!("quaylink {version}"),
        appliance: "quaylink".into(),
        variant: None,
        version: version.into(),
        dated: None,
        boards: boards.iter().map(|board| (*board).into()).collect(),
        sheet: String::new(),
        source: "file".into(),
        packing: "plain".into(),
        packed_size: 1,
        packed_sha256: vec![1],
        raw_size: 1,
        raw_sha256: vec![1],
        smallest_card: 1,
        table_kind: "MBR".into(),
        disk_id: "0".into(),
        partitions: json!([]),
        state: "released".into(),
        computed_card: 1,
        shrunk_card: None,
        content: 1,
        inspection: json!({}),
        origin: json!({}),
        kept: false,
        manifest: vec![1],
        stored: 1,
        added_by: "marit".into(),
    }
}

/// One server for all checks; each part uses names of its own.
#[tokio::test(flavor = "multi_thread")]
async fn records_keep_their_word() {
    let dir = tempfile::tempdir().unwrap();
    let open = std::os::unix::fs::PermissionsExt::from_mode(0o755);
    std::fs::set_permissions(dir.path(), open).unwrap();
    let server = OwnServer::start(dir.path()).await.unwrap();
    let records = Records::open(server.url()).await.unwrap();
    let board = BoardModel {
        name: "plover".into(),
        title: "Plover".into(),
        architecture: "arm64".into(),
        memory_mb: Some(1024),
        ports: "wired".into(),
        power: String::new(),
        lamps: String::new(),
        boot_minutes: Some(1.5),
        card_sits: String::new(),
        lamp_table: serde_json::json!([]),
    };
    records.put_board(&board).await.unwrap();
    for site in ["quay", "workshop"] {
        let site = Site {
            name: site.into(),
            title: site.into(),
        };
        records.put_site(&site).await.unwrap();
    }

    host_names_are_unique_on_a_site(&records).await;
    settings_change_all_or_none(&records).await;
    a_request_key_gives_one_job(&records).await;
    events_are_numbered_in_commit_order(&records).await;
    a_release_keeps_its_history(&records).await;
    a_feed_tells_its_news(&records).await;
    imprints_tell_the_truth_after_a_crash(&records).await;
    what_is_at_hand_is_what_the_imprints_say(&records, server.url()).await;
    what_the_vault_tells_of_is_put_back_once(&records).await;

    // A second start adopts the running server; a stop ends it; a start after that finds the data.
    records.close().await;
    let adopted = OwnServer::start(dir.path()).await.unwrap();
    assert_eq!(
        adopted.url(),
        server.url(),
        "the same server on the same port"
    );
    adopted.stop().unwrap();
    let again = OwnServer::start(dir.path()).await.unwrap();
    let records = Records::open(again.url()).await.unwrap();
    assert!(records.device("quay-01").await.is_ok());
    let password = std::fs::read_to_string(dir.path().join("postgres.password")).unwrap();
    let wrong = again.url().replace(&password, "guess");
    assert!(
        Records::open(&wrong).await.is_err(),
        "no password, no records"
    );
    records.close().await;
    again.stop().unwrap();

    // Half made: said, and left alone.
    std::fs::remove_file(dir.path().join("postgres/duplicarium-made")).unwrap();
    let half = OwnServer::start(dir.path()).await.unwrap_err();
    assert!(matches!(half, OwnServerError::HalfMade(_)), "{half}");
}

async fn host_names_are_unique_on_a_site(records: &Records) {
    for (name, site) in [
        ("quay-01", "quay"),
        ("quay-02", "quay"),
        ("shop-01", "workshop"),
    ] {
        records.add_device(&device(name, site)).await.unwrap();
    }
    let twice = records
        .add_device(&device("quay-01", "quay"))
        .await
        .unwrap_err();
    assert!(
        matches!(&twice, RecordError::Conflict(said) if said.contains("quay-01")),
        "{twice}"
    );
    let set = async |name: &str, host: &str| {
        let device = records.device(name).await.unwrap();
        let change = [("host_name".to_owned(), Change::HostName(host.into()))];
        records.change_settings(&device, &change, "marit").await
    };
    set("quay-01", "box").await.unwrap();
    let taken = set("quay-02", "BOX").await.unwrap_err();
    assert!(
        matches!(&taken, RecordError::Conflict(said) if said.contains("BOX")),
        "{taken}"
    );
    set("shop-01", "box").await.unwrap();
    set("quay-01", "crate").await.unwrap();
    set("quay-02", "box").await.unwrap();
}

async fn settings_change_all_or_none(records: &Records) {
    let device = records.device("quay-02").await.unwrap();
    let before = records.settings(device.id).await.unwrap().len();
    let changes = [
        ("colour".to_owned(), Change::Plain("blue".into())),
        ("host_name".to_owned(), Change::HostName("crate".into())),
    ];
    records
        .change_settings(&device, &changes, "marit")
        .await
        .unwrap_err();
    assert_eq!(
        records.settings(device.id).await.unwrap().len(),
        before,
        "nothing was kept"
    );
    let changes = [
        ("colour".to_owned(), Change::Plain("blue".into())),
        ("passphrase".to_owned(), Change::Sealed(vec![1, 2, 3])),
    ];
    records
        .change_settings(&device, &changes, "marit")
        .await
        .unwrap();
    records
        .change_settings(&device, &[("colour".to_owned(), Change::Clear)], "marit")
        .await
        .unwrap();
    let kept = records.settings(device.id).await.unwrap();
    let names: Vec<_> = kept.iter().map(|setting| setting.field.as_str()).collect();
    assert_eq!(names, ["host_name", "passphrase"]);
    assert_eq!(
        (&kept[1].value, kept[1].sealed.as_deref()),
        (&None, Some(&[1, 2, 3][..]))
    );
}

async fn a_request_key_gives_one_job(records: &Records) {
    let (first, added) = records.add_job(&job("backup", Some("key"))).await.unwrap();
    assert!(added);
    assert_eq!(
        records.add_job(&job("backup", Some("key"))).await.unwrap(),
        (first, false)
    );
    assert_ne!(
        records.add_job(&job("backup", None)).await.unwrap().0,
        first
    );
    let mut other = job("backup", Some("key"));
    if let Some(key) = &mut other.request_key {
        key.digest = vec![2];
    }
    let refused = records.add_job(&other).await.unwrap_err();
    assert!(
        matches!(refused, RecordError::OtherRequest { job } if job == first),
        "{refused}"
    );
    let failed = Outcome::Failed("verify-failed".into(), "said why".into());
    records.end_job(&ending(first, failed)).await.unwrap();
    // A job ends once.
    let again = ending(first, Outcome::Done(json!({})));
    records.end_job(&again).await.unwrap();
    let ended = records.job(first).await.unwrap();
    assert_eq!(
        (ended.state.as_str(), ended.error_code.as_deref()),
        ("failed", Some("verify-failed"))
    );
    assert!(ended.finished_at.is_some());
}

async fn events_are_numbered_in_commit_order(records: &Records) {
    let last = records.last_event().await.unwrap();
    let writers: Vec<_> = (0..8)
        .map(|writer| {
            let records = records.clone();
            tokio::spawn(async move {
                for number in 0..10 {
                    let subject = format!("{writer}-{number}");
                    records
                        .add_event("marit", "test", &subject, "said")
                        .await
                        .unwrap();
                }
            })
        })
        .collect();
    // A reader that goes on behind the last one it saw misses none, whatever the writers do.
    let (mut seen, mut at) = (Vec::new(), last);
    while seen.len() < 80 {
        for event in records.events_after(at, 7).await.unwrap() {
            assert!(event.id > at);
            at = event.id;
            seen.push(event.subject);
        }
    }
    for writer in writers {
        writer.await.unwrap();
    }
    for writer in 0..8 {
        let own: Vec<_> = seen
            .iter()
            .filter(|subject| subject.starts_with(&format!("{writer}-")))
            .cloned()
            .collect();
        let wanted: Vec<_> = (0..10).map(|number| format!("{writer}-{number}")).collect();
        assert_eq!(own, wanted);
    }
    let newest = records.events(None, 5).await.unwrap();
    assert_eq!(newest[0].id, at);
    let older = records.events(Some(newest[4].id), 5).await.unwrap();
    assert!(older[0].id < newest[4].id);
}

async fn a_release_keeps_its_history(records: &Records) {
    let old = records
        .add_release(
            &release("2.3", &["plover", "curlew"]),
            None,
            "added",
            &done(records).await,
        )
        .await
        .unwrap();
    let new = records
        .add_release(
            &release("2.4", &["plover"]),
            None,
            "added",
            &done(records).await,
        )
        .await
        .unwrap();
    let twice = records
        .add_release(
            &release("2.4", &["plover"]),
            None,
            "added",
            &done(records).await,
        )
        .await
        .unwrap_err();
    assert!(matches!(twice, RecordError::Conflict(_)), "{twice}");
    let unknown = records.release("tidegauge 9").await;
    assert!(matches!(
        unknown,
        Err(RecordError::Unknown {
            noun: "release",
            ..
        })
    ));
    let same = records.releases_with_content(&[1]).await.unwrap();
    assert_eq!(same, ["quaylink 2.3", "quaylink 2.4"]);

    // Which is current changes; what was current stays in the history.
    let (first, second) = (
        records.release("quaylink 2.3").await.unwrap(),
        records.release("quaylink 2.4").await.unwrap(),
    );
    records
        .set_current(&first, "plover", "marit")
        .await
        .unwrap();
    records.set_current(&second, "plover", "tor").await.unwrap();
    let unknown = records.set_current(&second, "heron", "tor").await;
    assert!(matches!(unknown, Err(RecordError::Conflict(_))));
    let currents = records.currents().await.unwrap();
    let seen: Vec<_> = currents
        .iter()
        .map(|one| (one.release.as_str(), one.until_at.is_none()))
        .collect();
    assert_eq!(seen, [("quaylink 2.4", true), ("quaylink 2.3", false)]);

    // A withdrawn one is current nowhere any more.
    records
        .set_release_state(new, "withdrawn", "loses its clock", "marit")
        .await
        .unwrap();
    let states = records.release_states(new).await.unwrap();
    let told: Vec<_> = states
        .iter()
        .map(|one| (one.state.as_str(), one.reason.as_str()))
        .collect();
    assert_eq!(told, [("withdrawn", "loses its clock"), ("released", "")]);
    assert!(
        records
            .currents()
            .await
            .unwrap()
            .iter()
            .all(|one| one.until_at.is_some())
    );
    records
        .set_release_state(new, "released", "", "marit")
        .await
        .unwrap();

    let sheet = NewSheet {
        sheet: "other".into(),
        dated: Some("2026-01-01".into()),
        boards: vec!["plover".into()],
        smallest_card: 7,
    };
    assert_eq!(records.revise_sheet(old, &sheet, "tor").await.unwrap(), 2);
    let revisions = records.sheet_revisions(old).await.unwrap();
    let texts: Vec<_> = revisions
        .iter()
        .map(|one| (one.revision, one.sheet.as_str()))
        .collect();
    assert_eq!(texts, [(2, "other"), (1, "")]);
    assert_eq!(
        records.release("quaylink 2.3").await.unwrap().smallest_card,
        7
    );

    records
        .add_evidence(old, "plover", false, "no lamp", "marit")
        .await
        .unwrap();
    let seen = records.evidence().await.unwrap();
    assert_eq!(
        (seen[0].release.as_str(), seen[0].boots),
        ("quaylink 2.3", false)
    );
}

async fn a_feed_tells_its_news(records: &Records) {
    records
        .put_feed(
            "commons",
            "http://127.0.0.1/feed.json",
            None,
            Some(&[1]),
            "marit",
        )
        .await
        .unwrap();
    let item = |name: &str| (name.to_owned(), json!({ "id": name }));
    let look = async |items: &[(String, serde_json::Value)]| {
        records.looked_at_feed("commons", Ok(items)).await.unwrap();
        let items = records.feed_items("commons").await.unwrap();
        let mut seen: Vec<_> = items
            .into_iter()
            .map(|one| (one.item, one.known, one.release))
            .collect();
        seen.sort();
        seen
    };
    let (a, b) = (item("a"), item("b"));
    assert_eq!(
        look(std::slice::from_ref(&a)).await,
        [("a".into(), false, None)]
    );
    let second = look(&[a.clone(), b.clone()]).await;
    assert_eq!(
        second,
        [("a".into(), true, None), ("b".into(), false, None)]
    );
    let mut fetched = self::release("2.9", &["plover"]);
    fetched.name = "quaylink 2.9".into();
    let item = ("commons".to_owned(), "a".to_owned());
    records
        .add_release(&fetched, Some(&item), "added", &done(records).await)
        .await
        .unwrap();
    // What the publisher takes back is gone, but for what became a release.
    let third = look(&[]).await;
    assert_eq!(third, [("a".into(), true, Some("quaylink 2.9".into()))]);
    records
        .looked_at_feed("commons", Err("no answer"))
        .await
        .unwrap();
    assert_eq!(
        records.feed("commons").await.unwrap().trouble.as_deref(),
        Some("no answer")
    );
    records.remove_feed("commons").await.unwrap();
    assert!(records.feed("commons").await.is_err());
}

/// Many writes at once, of few devices onto many cards, with every end; then what is kept at hand is held
/// against its definition, asked of the imprints alone.
async fn what_is_at_hand_is_what_the_imprints_say(records: &Records, url: &str) {
    let base = records.release("quaylink 2.3").await.unwrap();
    let mut devices = Vec::new();
    for number in 0..3 {
        let name = format!("busy-{number}");
        devices.push(records.add_device(&device(&name, "quay")).await.unwrap());
    }
    let mut hands = Vec::new();
    for hand in 0..6_u64 {
        let (records, devices, base) = (records.clone(), devices.clone(), base.clone());
        hands.push(tokio::spawn(async move {
            let mut cards = Vec::new();
            for _ in 0..2 {
                let card = records
                    .add_card(5_000_000_000, "SD card", &[9], "marit")
                    .await;
                cards.push(card.unwrap().id);
            }
            let mut chance = 0x9e37_79b9_7f4a_7c15_u64 ^ hand;
            let mut below = |end: u64| {
                chance ^= chance << 13;
                chance ^= chance >> 7;
                chance ^= chance << 17;
                chance % end
            };
            for _ in 0..25 {
                let (job, _) = records.add_job(&job("write", None)).await.unwrap();
                let new = NewImprint {
                    card: cards[below(2) as usize],
                    device: devices.get(below(4) as usize).copied(),
                    base: Base::Release(base.id),
                    base_name: base.name.clone(),
                    job,
                    slot: "1".into(),
                    operator: "marit".into(),
                    settings: json!([]),
                    files: json!([]),
                    override_reason: None,
                    accepted: Vec::new(),
                    growth: None,
                    left_out: Vec::new(),
                    settings_known: below(3) > 0,
                    behind: None,
                };
                let id = records.begin_imprint(&new).await.unwrap();
                if below(5) > 0 {
                    records.touch_card(id, &[1]).await.unwrap();
                }
                let spoilt = match below(5) {
                    0 => Spoilt::Untouched,
                    1 => Spoilt::Unfinished,
                    2 => Spoilt::MayBoot,
                    3 => continue,
                    _ => {
                        let well = ending(job, Outcome::Done(json!({})));
                        let done = records.finish_imprint(id, 1, 1, false, &well).await;
                        done.unwrap();
                        continue;
                    }
                };
                let badly = ending(job, Outcome::Cancelled("asked".into()));
                records
                    .spoil_imprint(id, spoilt, None, &badly)
                    .await
                    .unwrap();
            }
        }));
    }
    for hand in hands {
        hand.await.unwrap();
    }
    let mut connection = sqlx::PgConnection::connect(url).await.unwrap();
    let wrong: Vec<String> = sqlx::query_scalar(
        "with on_it as (
            select distinct on (card_id) * from imprints where state not in ('planned', 'void')
            order by card_id, id desc),
         carries as (
            select distinct on (device_id) * from on_it where device_id is not null
            order by device_id, id desc)
         select 'card ' || c.id || ' has ' || coalesce(c.imprint_id, 0) || ', on it is ' || coalesce(o.id, 0)
            from cards c left join on_it o on o.card_id = c.id
            where (c.imprint_id, c.imprint_state, c.device_id, c.carried_release_id) is distinct from
                (o.id, o.state, o.device_id, case o.state when 'verified' then o.origin_release_id end)
         union all
         select 'device ' || d.name || ' has ' || coalesce(d.imprint_id, 0) || ', it carries ' || coalesce(k.id, 0)
            || ', it is ' || d.state
            from devices d left join carries k on k.device_id = d.id
            where (d.imprint_id, d.card_id, d.card_state, d.carried_release_id) is distinct from
                (k.id, k.card_id, k.state, case k.state when 'verified' then k.origin_release_id end)
                or d.carried_known <> coalesce(k.state = 'verified' and k.settings_known, true)
                or d.state <> case when k.state = 'verified' then 'carded' else 'planned' end",
    )
    .fetch_all(&mut connection)
    .await
    .unwrap();
    assert!(wrong.is_empty(), "{wrong:#?}");
    let written: i64 = sqlx::query_scalar("select count(*) from imprints where state = 'verified'")
        .fetch_one(&mut connection)
        .await
        .unwrap();
    assert!(written > 20, "{written}");
    records.sort_out_interrupted().await.unwrap();
}

async fn imprints_tell_the_truth_after_a_crash(records: &Records) {
    let card = records
        .add_card(4_000_000_000, "SD card", &[7], "marit")
        .await
        .unwrap();
    let other = records
        .add_card(4_000_000_000, "SD card", &[7], "marit")
        .await
        .unwrap();
    assert!(card.label.starts_with("C-0") && card.state == "blank");
    let known = records
        .unstamped_card(4_000_000_000, &[7], std::slice::from_ref(&card.label))
        .await
        .unwrap();
    assert_eq!(
        known,
        Some(other.label.clone()),
        "a card that is in another slot is not this one"
    );
    assert_eq!(
        records
            .unstamped_card(4_000_000_001, &[7], &[])
            .await
            .unwrap(),
        None
    );

    let device = records.device("quay-01").await.unwrap();
    let base = records.release("quaylink 2.3").await.unwrap();
    let imprint = async |card_id: i64| {
        let (id, _) = records.add_job(&job("write", None)).await.unwrap();
        let new = NewImprint {
            card: card_id,
            device: Some(device.id),
            base: Base::Release(base.id),
            base_name: base.name.clone(),
            job: id,
            slot: "1".into(),
            operator: "marit".into(),
            settings: json!([]),
            files: json!([]),
            override_reason: None,
            accepted: Vec::new(),
            growth: None,
            left_out: Vec::new(),
            settings_known: true,
            behind: None,
        };
        (id, records.begin_imprint(&new).await.unwrap())
    };
    let (done, verified) = imprint(card.id).await;
    records.touch_card(verified, &[1]).await.unwrap();
    assert_eq!(records.card(&card.label).await.unwrap().state, "writing");
    let well = ending(done, Outcome::Done(json!({})));
    records
        .finish_imprint(verified, 100, 99, false, &well)
        .await
        .unwrap();
    assert_eq!(records.job(done).await.unwrap().state, "done", "at once");
    let device = async || records.device("quay-01").await.unwrap();
    let card_state = async |label: &str| records.card(label).await.unwrap().state;
    let carriers = async || {
        let all = records.carriers(base.id, &Asked::default()).await.unwrap();
        let counted = records.carried_counts(None).await.unwrap();
        let counted = counted.get(&base.id).copied().unwrap_or_default();
        assert_eq!(counted.cards, all.total, "counted as listed");
        let all = all.items.into_iter();
        all.filter(|one| one.carried)
            .map(|one| one.card)
            .collect::<Vec<_>>()
    };
    let now = device().await;
    assert_eq!(
        (now.whole_card(), now.state.as_str()),
        (Some(card.label.as_str()), "carded")
    );
    assert_eq!(carriers().await, std::slice::from_ref(&card.label));

    // A second write that touched nothing leaves all as it was.
    let (failed, untouched) = imprint(card.id).await;
    records.touch_card(untouched, &[2]).await.unwrap();
    assert_eq!(card_state(&card.label).await, "writing");
    assert_eq!(device().await.state, "planned");
    let badly = ending(failed, Outcome::Cancelled("asked".into()));
    records
        .spoil_imprint(untouched, Spoilt::Untouched, None, &badly)
        .await
        .unwrap();
    assert_eq!(card_state(&card.label).await, "imprinted");
    assert_eq!(device().await.state, "carded");
    assert_eq!(carriers().await, std::slice::from_ref(&card.label));

    // One that failed half-way: nobody says any more that the device carries the release.
    let (failed, spoilt) = imprint(card.id).await;
    records.touch_card(spoilt, &[2]).await.unwrap();
    let badly = ending(failed, Outcome::Failed("card-gone".into(), "gone".into()));
    records
        .spoil_imprint(spoilt, Spoilt::MayBoot, None, &badly)
        .await
        .unwrap();
    let now = device().await;
    assert_eq!(
        (
            now.whole_card(),
            now.card_state.as_deref(),
            now.state.as_str()
        ),
        (None, Some("incomplete"), "planned")
    );
    assert_eq!(card_state(&card.label).await, "incomplete");
    assert!(carriers().await.is_empty());

    // One under way, one that touched nothing yet, when the service ends.
    let (_, writing) = imprint(other.id).await;
    records.touch_card(writing, &[1]).await.unwrap();
    let (_, planned) = imprint(card.id).await;
    let interrupted = records.sort_out_interrupted().await.unwrap();
    assert!(
        interrupted.len() >= 2 && !interrupted.contains(&done),
        "{interrupted:?}"
    );
    let state = async |id: i64| records.imprint(id).await.unwrap().unwrap().state;
    assert_eq!(state(verified).await, "verified");
    assert_eq!(state(writing).await, "in doubt");
    assert_eq!(state(planned).await, "void");
    assert_eq!(card_state(&other.label).await, "incomplete");
    assert!(
        records.sort_out_interrupted().await.unwrap().is_empty(),
        "sorted out once"
    );

    // Seen again: it is what it is, and that is said once.
    let doubts = records.doubts(4_000_000_000, None).await.unwrap();
    let doubt = doubts.iter().find(|doubt| doubt.imprint == writing);
    assert!(doubt.is_some_and(|doubt| doubt.open && doubt.card == other.label));
    assert!(records.settle_doubt(writing, None, "whole").await.unwrap());
    assert!(!records.settle_doubt(writing, None, "whole").await.unwrap());
    let now = device().await;
    assert_eq!(
        (now.whole_card(), now.state.as_str()),
        (Some(other.label.as_str()), "carded")
    );
    assert_eq!(carriers().await, [other.label]);
}

/// Records of an earlier day are told of an imprint by the vault; numbers on cards are not given twice.
async fn what_the_vault_tells_of_is_put_back_once(records: &Records) {
    let first = records.leave_room().await.unwrap();
    let card = records
        .add_card(4_000_000_000, "SD card", &[8], "marit")
        .await
        .unwrap();
    assert_eq!(card.label, first, "as it was said");
    assert!(card.label.ends_with("01"), "{}", card.label);
    let (job_here, _) = records.add_job(&job("write", None)).await.unwrap();
    assert_eq!(job_here % 1000, 1);

    // Made behind these records, onto a card that they do not know.
    let found = NotedImprint {
        imprint: job_here * 2,
        card: "C-0777".into(),
        card_size: 5_000_000_000,
        card_kind: "SD card".into(),
        edges: "0a".repeat(32),
        device: Some("quay-01".into()),
        made: NewImprint {
            // Numbers of other records.
            card: 1_000_000,
            device: Some(1_000_000),
            base: Base::Release(1_000_000),
            base_name: "quaylink 2.3".into(),
            job: job_here * 3,
            slot: "loft:2".into(),
            operator: "Ilse".into(),
            settings: json!([]),
            files: json!([]),
            override_reason: None,
            growth: None,
            left_out: Vec::new(),
            settings_known: true,
            behind: None,
            accepted: vec!["old-data".into()],
        },
    };
    let at = time::OffsetDateTime::UNIX_EPOCH + time::Duration::days(20_000);
    let put = async |found: &NotedImprint| {
        let put = records.found_imprint(found, &[9], at, "marit");
        put.await
    };
    let mut strange = found.clone();
    strange.device = Some("nowhere-01".into());
    assert!(matches!(
        put(&strange).await,
        Err(RecordError::Unknown { .. })
    ));
    strange = found.clone();
    strange.made.base_name = "quaylink 9.9".into();
    assert!(matches!(
        put(&strange).await,
        Err(RecordError::Unknown { .. })
    ));
    strange = found.clone();
    strange.made.job = job_here;
    let refused = put(&strange).await.unwrap_err().to_string();
    assert!(refused.contains("is something else"), "{refused}");
    strange = found.clone();
    strange.card = card.label.clone();
    let refused = put(&strange).await.unwrap_err().to_string();
    assert!(refused.contains("of another size"), "{refused}");
    assert!(
        records.card("C-0777").await.is_err(),
        "what was refused left nothing"
    );

    assert!(
        records
            .unknown_imprints(&[found.imprint])
            .await
            .unwrap()
            .len()
            == 1
    );
    put(&found).await.unwrap();
    assert!(
        records
            .unknown_imprints(&[found.imprint])
            .await
            .unwrap()
            .is_empty()
    );
    assert!(put(&found).await.is_err(), "once");
    let imprint = records.imprint(found.imprint).await.unwrap().unwrap();
    assert_eq!(
        (imprint.state.as_str(), imprint.card.as_str()),
        ("in doubt", "C-0777")
    );
    assert_eq!(
        (imprint.operator.as_str(), imprint.slot.as_str()),
        ("Ilse", "loft:2")
    );
    assert_eq!(
        (imprint.started_at, imprint.accepted),
        (at, found.made.accepted)
    );
    assert_eq!(
        records.job(found.made.job).await.unwrap().state,
        "interrupted"
    );
    let doubts = records
        .doubts(found.card_size, Some("C-0777"))
        .await
        .unwrap();
    assert_eq!((doubts.len(), doubts[0].imprint), (1, found.imprint));
    assert!(
        records
            .settle_doubt(found.imprint, None, "it is whole")
            .await
            .unwrap()
    );
    assert_eq!(records.card("C-0777").await.unwrap().state, "imprinted");
    // Whatever comes next is behind all of them.
    let next = records
        .add_card(4_000_000_000, "SD card", &[9], "marit")
        .await
        .unwrap();
    assert!(next.label.as_str() > "C-0777", "{}", next.label);
    let (next, _) = records.add_job(&job("write", None)).await.unwrap();
    assert_eq!(next, found.made.job + 1);
}
