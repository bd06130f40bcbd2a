//! The interface: plans bound to what was seen, idempotent starts, cancelling, events in order,
//! crashes that leave the truth.

use std::io::{BufRead, BufReader, Read, Write};
use std::net::TcpStream;
use std::time::Duration;

use api::{ClientError, NewPlan, NewUpload, Problem};
use testbed::{Testbed, path};

fn problem<T: std::fmt::Debug>(answer: Result<T, ClientError>) -> Problem {
    match answer {
        Err(ClientError::Refused(problem)) => problem,
        other => panic!("a refusal was expected: {other:?}"),
    }
}

fn ready() -> Testbed {
    let bed = Testbed::start();
    bed.load_catalogue();
    bed.add_device("quay-01");
    bed.make_card("mica", "3965190144", &[]);
    bed.make_card("flint", "3965190144", &[]);
    bed.put("mica", 1);
    bed
}

fn for_device(slot: u32) -> NewPlan {
    NewPlan {
        device: Some("quay-01".into()),
        slot: slot.into(),
        ..NewPlan::default()
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_plan_holds_for_the_very_insertion_that_was_seen() {
    let mut bed = ready();
    let client = bed.client();
    let plan = client.plan(&for_device(1)).await.unwrap();

    // An equal card in its place, and even the same card put in again, void the plan.
    bed.put("flint", 1);
    let refused = problem(client.confirm(&plan.id, plan.agreed(), None).await);
    assert_eq!(
        (refused.code.as_str(), refused.status),
        ("card-swapped", 409),
        "{refused:?}"
    );
    assert!(
        refused.detail.contains("slot 1") && refused.detail.contains("Nothing was touched"),
        "{refused:?}"
    );
    let plan = client.plan(&for_device(1)).await.unwrap();
    bed.put("flint", 1);
    assert_eq!(
        problem(client.confirm(&plan.id, plan.agreed(), None).await).code,
        "card-swapped"
    );
    let plan = client.plan(&for_device(1)).await.unwrap();
    bed.standin(&["pull", "--slot", "1"]);
    assert_eq!(
        problem(client.confirm(&plan.id, plan.agreed(), None).await).code,
        "slot-empty"
    );

    // A wrong label voids it too: the second try with the right one comes too late.
    bed.put("mica", 1);
    let plan = client.plan(&for_device(1)).await.unwrap();
    assert_eq!(
        problem(client.confirm(&plan.id, "C-0099", None).await).code,
        "wrong-label"
    );
    let late = problem(client.confirm(&plan.id, plan.agreed(), None).await);
    assert_eq!((late.code.as_str(), late.status), ("plan-void", 410));

    // So does a restart of the service.
    let plan = client.plan(&for_device(1)).await.unwrap();
    bed.stop_service();
    bed.start_service();
    assert_eq!(
        problem(client.confirm(&plan.id, plan.agreed(), None).await).code,
        "plan-void"
    );
    for card in ["mica", "flint"] {
        let mut head = vec![0; 1 << 20];
        std::fs::File::open(bed.card_file(card))
            .unwrap()
            .read_exact(&mut head)
            .unwrap();
        assert!(head.iter().all(|byte| *byte == 0), "{card} was touched");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_slot_works_for_one_job_at_a_time_and_a_request_starts_one_job() {
    let bed = ready();
    let client = bed.client();
    let plan = client.plan(&for_device(1)).await.unwrap();
    let job = client
        .confirm(&plan.id, plan.agreed(), Some("once"))
        .await
        .unwrap();
    let again = client
        .confirm(&plan.id, plan.agreed(), Some("once"))
        .await
        .unwrap();
    assert_eq!(job.id, again.id, "the same request gives the same job");
    assert_eq!(client.follow(job.id, |_| {}).await.unwrap().state, "done");

    // While a backup reads the card, nothing is written to it.
    bed.standin(&["fault", "mica"]);
    // Slow enough that the card's limit shows on the busiest of machines.
    bed.make_card("chalk", "3965190144", &["--rate", "2MB"]);
    bed.put("chalk", 2);
    let plan = client
        .plan(&NewPlan {
            slot: api::SlotName::here(2),
            ..for_device(2)
        })
        .await
        .unwrap();
    let job = client.confirm(&plan.id, plan.agreed(), None).await.unwrap();
    let busy = problem(client.plan(&for_device(2)).await);
    assert_eq!(busy.code, "slot-busy", "{busy:?}");
    assert_eq!(
        problem(client.take_backup(&testbed::backup_of(2), None).await).code,
        "slot-busy"
    );
    let mut seen = Vec::new();
    let enough = tokio::sync::Notify::new();
    let cancelled = client.follow(job.id, |job| {
        if let Some(progress) = &job.progress
            && progress.stage == "writing"
            && progress.seconds_left.is_some()
        {
            seen.push(progress.clone());
            if seen.len() == 10 {
                enough.notify_one();
            }
        }
    });
    let cancel = async {
        tokio::time::timeout(Duration::from_secs(60), enough.notified())
            .await
            .expect("progress was seen");
        client.cancel(job.id).await.unwrap();
    };
    let (cancelled, ()) = tokio::join!(cancelled, cancel);
    let cancelled = cancelled.unwrap();
    assert_eq!(
        (cancelled.state.as_str(), cancelled.error_code.as_deref()),
        ("cancelled", Some("cancelled"))
    );
    let last = seen.last().expect("progress was seen");
    assert!(
        (1.5e6..2.5e6).contains(&last.rate) && last.total > 40_000_000,
        "{last:?}"
    );
    let card = client.card(&plan.card).await.unwrap();
    assert_eq!(card.card.state, "incomplete");
    assert_eq!(card.imprints[0].state, "incomplete");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_backup_in_progress_keeps_writers_away() {
    let bed = ready();
    let client = bed.client();
    let plan = client.plan(&for_device(1)).await.unwrap();
    let job = client.confirm(&plan.id, plan.agreed(), None).await.unwrap();
    client.follow(job.id, |_| {}).await.unwrap();
    let other = client.plan(&for_device(1)).await.unwrap();
    let backup = client
        .take_backup(&testbed::backup_of(1), Some("backup-1"))
        .await
        .unwrap();
    assert_eq!(
        client
            .take_backup(&testbed::backup_of(1), Some("backup-1"))
            .await
            .unwrap()
            .id,
        backup.id
    );
    let refused = problem(client.confirm(&other.id, other.agreed(), None).await);
    assert_eq!(
        refused.code, "slot-busy",
        "a write to the card that a backup reads from"
    );
    let done = client.follow(backup.id, |_| {}).await.unwrap();
    assert_eq!(done.state, "done", "{done:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn uploads_resume_where_they_were_cut() {
    let bed = ready();
    let client = bed.client();
    let new = NewUpload {
        file_name: "../../etc/image.img".into(),
        size: 1000,
        sheet: None,
        key: None,
    };
    let upload = client.begin_upload(&new).await.unwrap();
    client.send_part(&upload.id, 0, vec![1; 600]).await.unwrap();
    let wrong = problem(client.send_part(&upload.id, 0, vec![1; 100]).await);
    assert!(wrong.detail.contains("has 600 of 1000 bytes"), "{wrong:?}");
    assert_eq!(client.upload(&upload.id).await.unwrap().received, 600);
    let sheet = std::fs::read_to_string(testbed::demo_sheet("quaylink-2.4.toml"))
        .unwrap()
        .replace("2.4", "2.6");
    let early = api::NewRelease {
        upload: Some(upload.id.clone()),
        sheet: Some(sheet),
        ..api::NewRelease::default()
    };
    assert_eq!(
        problem(client.add_release(&early, None).await).code,
        "upload-not-whole"
    );
    assert_eq!(
        problem(client.send_part(&upload.id, 600, vec![1; 401]).await).code,
        "wrong-offset"
    );
    client
        .send_part(&upload.id, 600, vec![1; 400])
        .await
        .unwrap();
    let job = client.add_release(&early, None).await.unwrap();
    let failed = client.follow(job.id, |_| {}).await.unwrap();
    assert_eq!(failed.error_code.as_deref(), Some("not-an-image"));
    assert!(
        failed.error.unwrap().starts_with("image.img: "),
        "a name never becomes a path"
    );
    assert_eq!(problem(client.upload("..%2f..").await).code, "unknown");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_service_killed_half_way_comes_up_with_the_truth() {
    let mut bed = ready();
    let client = bed.client();
    // Slow enough that the card's limit shows on the busiest of machines.
    bed.make_card("chalk", "3965190144", &["--rate", "2MB"]);
    bed.put("chalk", 2);
    let plan = client.plan(&for_device(2)).await.unwrap();
    let job = client.confirm(&plan.id, plan.agreed(), None).await.unwrap();
    loop {
        let progress = client.job(job.id).await.unwrap().progress;
        if progress
            .is_some_and(|progress| progress.stage == "writing" && progress.done > 20_000_000)
        {
            break;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    bed.kill_service();
    bed.start_service();
    let log = std::fs::read_to_string(bed.log()).unwrap();
    assert!(
        log.contains("adopted the PostgreSQL that was running"),
        "{log}"
    );
    let job = client.job(job.id).await.unwrap();
    assert_eq!(job.state, "interrupted");
    assert!(job.error.unwrap().contains("what it is will be found out"));
    // The card is in its slot still: it is looked at, and is what it is.
    let again = client.plan(&for_device(2)).await.unwrap();
    let card = client.card(&plan.card).await.unwrap();
    assert_eq!(
        (card.card.state.as_str(), card.imprints[0].state.as_str()),
        ("incomplete", "incomplete")
    );
    assert_eq!(card.imprints[0].left_as.as_deref(), Some("unfinished"));
    let plan = again;
    assert_eq!(
        plan.card, card.card.label,
        "the card says itself which one it is"
    );
    assert!(
        plan.card_holds.contains("unfinished"),
        "{}",
        plan.card_holds
    );
    bed.standin(&["fault", "chalk"]);
    let job = client.confirm(&plan.id, plan.agreed(), None).await.unwrap();
    assert_eq!(client.follow(job.id, |_| {}).await.unwrap().state, "done");
    assert_eq!(
        client.card(&plan.card).await.unwrap().card.state,
        "imprinted"
    );
}

/// Reads server-sent events by hand: name, id, data.
pub fn listen(
    bed: &Testbed,
    last: Option<i64>,
) -> impl Iterator<Item = (String, Option<i64>, String)> + use<> {
    let address = bed.url().replace("http://", "");
    let mut stream = TcpStream::connect(&address).unwrap();
    stream
        .set_read_timeout(Some(Duration::from_secs(20)))
        .unwrap();
    let last = last
        .map(|id| format!("Last-Event-ID: {id}\r\n"))
        .unwrap_or_default();
    write!(
        stream,
        "GET /api/v1/events HTTP/1.1\r\nHost: {address}\r\n{last}\r\n"
    )
    .unwrap();
    let mut lines = BufReader::new(stream).lines();
    std::iter::from_fn(move || {
        let (mut name, mut id, mut data) = (String::new(), None, String::new());
        loop {
            let line = lines.next()?.ok()?;
            match line.split_once(": ") {
                Some(("event", value)) => name = value.into(),
                Some(("id", value)) => id = value.parse().ok(),
                Some(("data", value)) => data.push_str(value),
                _ if line.is_empty() && !name.is_empty() => return Some((name, id, data)),
                _ => {}
            }
        }
    })
}

#[tokio::test(flavor = "multi_thread")]
async fn events_come_in_order_and_are_read_again_after_a_cut() {
    let bed = ready();
    let mut stream = listen(&bed, None);
    let (name, _, slots) = stream.next().unwrap();
    assert!(
        name == "slots" && slots.contains("\"number\":4"),
        "the state of the slots comes first: {slots}"
    );
    bed.done(&["site", "add", "pier", "--title", "Pier"]);
    let first = stream
        .find_map(|(name, id, _)| (name == "event").then_some(id))
        .flatten()
        .unwrap();
    drop(stream);
    for site in ["lock", "weir", "ford"] {
        bed.done(&["site", "add", site, "--title", site]);
    }
    let missed: Vec<_> = listen(&bed, Some(first))
        .filter(|(name, ..)| name == "event")
        .take(3)
        .collect();
    let ids: Vec<_> = missed.iter().map(|(_, id, _)| id.unwrap()).collect();
    assert!(
        ids.windows(2).all(|pair| pair[0] < pair[1]) && ids[0] > first,
        "{ids:?}"
    );
    assert!(
        missed[0].2.contains("lock") && missed[2].2.contains("ford"),
        "{missed:?}"
    );

    // Progress is told live, and a card put in is seen without asking.
    let mut stream = listen(&bed, Some(ids[2]));
    bed.put("flint", 3);
    assert!(stream.any(|(name, _, data)| {
        let slots: Vec<api::Slot> = match name.as_str() {
            "slots" => serde_json::from_str(&data).unwrap(),
            _ => return false,
        };
        let third = slots.into_iter().find(|slot| slot.number == 3);
        third.is_some_and(|slot| slot.card.is_some())
    }));
}

#[tokio::test(flavor = "multi_thread")]
async fn secrets_are_nowhere_but_on_the_card() {
    let bed = ready();
    let client = bed.client();
    let plan = client.plan(&for_device(1)).await.unwrap();
    let job = client.confirm(&plan.id, plan.agreed(), None).await.unwrap();
    assert_eq!(client.follow(job.id, |_| {}).await.unwrap().state, "done");
    let answers = [
        serde_json::to_string(&client.device("quay-01").await.unwrap()).unwrap(),
        serde_json::to_string(&client.card(&plan.card).await.unwrap()).unwrap(),
        serde_json::to_string(&client.jobs(None).await.unwrap()).unwrap(),
        serde_json::to_string(&plan).unwrap(),
        reqwest::get(format!("{}/api/v1/activity", bed.url()))
            .await
            .unwrap()
            .text()
            .await
            .unwrap(),
    ];
    assert!(
        answers
            .iter()
            .all(|answer| !answer.contains("ebb and flow"))
    );
    let grep = |place: &str| {
        let out = std::process::Command::new("grep")
            .args(["-rlaF", "ebb and flow", place])
            .output()
            .unwrap();
        String::from_utf8_lossy(&out.stdout).into_owned()
    };
    assert_eq!(
        grep(path(&bed.data_dir())),
        "",
        "neither database nor vault nor uploads hold it"
    );
    assert_eq!(grep(path(&bed.log())), "");
    assert!(
        grep(path(&bed.card_file("mica"))).contains("mica"),
        "the card does: the board needs it"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn the_document_describes_the_interface_and_errors_are_problem_details() {
    let bed = Testbed::start();
    let get = |path: &str| reqwest::get(format!("{}/api/v1/{path}", bed.url()));
    let document: serde_json::Value = get("openapi.json").await.unwrap().json().await.unwrap();
    assert_eq!(document["openapi"], "3.1.0");
    let mut named = std::collections::BTreeSet::new();
    let paths = document["paths"].as_object().unwrap();
    for (path, item) in paths {
        for (method, operation) in item.as_object().unwrap() {
            let name = operation["operationId"].as_str().unwrap_or_default();
            assert!(
                named.insert(name),
                "{method} {path} is called {name:?} like another"
            );
        }
    }
    let kept = std::fs::read_to_string(testbed::workspace().join("docs/openapi.json")).unwrap();
    let kept: serde_json::Value = serde_json::from_str(&kept).unwrap();
    assert_eq!(
        document, kept,
        "docs/openapi.json is old; run `make openapi`"
    );
    let answer = get("devices/nobody").await.unwrap();
    assert_eq!(answer.headers()["content-type"], "application/problem+json");
    let problem: Problem = answer.json().await.unwrap();
    assert_eq!((problem.status, problem.code.as_str()), (404, "unknown"));
}
