//! What a team with ten thousand devices waits for: its lists, one of each thing, a table, a plan.

use std::process::Command;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use anyhow::{Result, ensure};
use api::{Client, NewPlan, NewPreset, SettingsChange, Site};
use testbed::Testbed;

use crate::place::{Place, Row};

const DEVICES: usize = 10_000;
const SITES: usize = 100;
const PRESETS: usize = 200;
/// The longest that one in a hundred may wait.
const BAR: Duration = Duration::from_millis(50);
/// How often each question is asked.
const ASKED: usize = 200;

/// Imprints, and in how many parts they come: space of what was changed is used again between them.
const IMPRINTS: u64 = 50_000;
const PARTS: u64 = 10;

/// The rows of a team with thousands of devices.
pub fn rows(place: &Place) -> Result<Vec<Row>> {
    let runtime = &place.runtime;
    let bed = Testbed::start();
    bed.load_catalogue();
    bed.make_card("mica", "3965190144", &[]);
    bed.put("mica", 1);
    let client = bed.client();
    let mut rows = runtime.block_on(fill(&bed, &client))?;
    records(&bed)?;
    let http = reqwest::Client::new();
    for (name, paths) in questions() {
        let mut took = runtime.block_on(ask(&http, &bed.url(), &paths))?;
        took.sort();
        let (p99, slowest) = took[took.len() * 99 / 100];
        if p99 > BAR {
            eprintln!("slow: {slowest} {p99:?}");
        }
        rows.push(Row {
            name,
            value: p99.as_secs_f64() * 1e3,
            unit: "ms p99",
            bar: Some(BAR.as_secs_f64() * 1e3),
        });
    }
    rows.push(runtime.block_on(plan(&client))?);
    std::thread::sleep(Duration::from_secs(3));
    rows.push(Row {
        name: "memory of the service with 10,000 devices, after all of this",
        value: bed.service_memory() as f64 / 1e6,
        unit: "MB",
        bar: None,
    });
    Ok(rows)
}

/// Registers the devices by a table and makes the presets; what the table cost.
async fn fill(bed: &Testbed, client: &Client) -> Result<Vec<Row>> {
    for number in 0..SITES {
        let name = format!("site-{number:03}");
        let title = format!("Site {number}");
        client.put_site(&Site { name, title }).await?;
    }
    let mut table = String::from("name,board,appliance,site,notes,macs,host_name,wifi_country\n");
    for number in 0..DEVICES {
        let board = if number % 3 == 0 { "plover" } else { "curlew" };
        let mac = format!("5a:17:00:{:02x}:{:02x}:01", number >> 8, number & 255);
        table += &format!(
            "unit-{number:05},{board},quaylink,site-{:03},row {number},{mac},unit-{number:05},NO\n",
            number % SITES
        );
    }
    // Somebody else asks meanwhile whether the service is there.
    let over = Arc::new(AtomicBool::new(false));
    let asking = tokio::spawn({
        let (over, client) = (over.clone(), bed.client());
        async move {
            let mut longest = Duration::ZERO;
            while !over.load(Ordering::Relaxed) {
                let begun = Instant::now();
                client.health().await?;
                longest = longest.max(begun.elapsed());
                tokio::time::sleep(Duration::from_millis(10)).await;
            }
            Ok::<_, api::ClientError>(longest)
        }
    });
    let begun = Instant::now();
    let report = client.put_device_table(table.clone(), false).await?;
    let fresh = begun.elapsed();
    ensure!(
        report.done && report.new.len() == DEVICES,
        "{:?}",
        report.problems.first()
    );
    let begun = Instant::now();
    let changed = client
        .put_device_table(table.replace(",row ", ",line "), false)
        .await?;
    let again = begun.elapsed();
    ensure!(
        changed.done && changed.changed.len() == DEVICES,
        "{:?}",
        changed.problems.first()
    );
    over.store(true, Ordering::Relaxed);
    let longest = asking.await??;
    let of_team = NewPreset {
        name: "team".into(),
        title: String::new(),
        site: None,
    };
    client.add_preset(&of_team).await?;
    let value = |field: &str, value: String| (field.to_owned(), Some(value));
    let set = [value("wifi_passphrase", "of the whole team".into())].into();
    client
        .change_preset("team", &SettingsChange { set }, false)
        .await?;
    for number in 0..PRESETS {
        let name = format!("preset-{number:03}");
        let new = NewPreset {
            name: name.clone(),
            title: String::new(),
            site: Some(format!("site-{:03}", number / 2)),
        };
        client.add_preset(&new).await?;
        let set = match number % 2 {
            0 => [value("wifi_network", format!("Net-{number}"))].into(),
            _ => [value("bus_number", "7".into())].into(),
        };
        client
            .change_preset(&name, &SettingsChange { set }, false)
            .await?;
    }
    let row = |name, value: Duration, bar| Row {
        name,
        value: value.as_secs_f64(),
        unit: "s",
        bar: Some(bar),
    };
    Ok(vec![
        row("a table of 10,000 new devices", fresh, 15.0),
        row("the same table with a change in each row", again, 15.0),
        Row {
            name: "the longest answer of health meanwhile",
            value: longest.as_secs_f64() * 1e3,
            unit: "ms",
            bar: Some(100.0),
        },
    ])
}

/// Puts 12,000 cards, 50,000 imprints and 5,000 backups into the records, as years of work would.
fn records(bed: &Testbed) -> Result<()> {
    let port = testbed::postgres_port(&bed.data_dir());
    let password = std::fs::read_to_string(bed.data_dir().join("postgres.password"))?;
    let settings = r#"[{"name":"wifi_network","label":"Wi-Fi network","kind":"network-name","required":true,"secret":false,"value":"Net","applies":true}]"#;
    let run = |sql: &str| psql(port, password.trim(), sql);
    run(
        "insert into jobs (kind, state, subject, operator, finished_at) values ('write', 'done', 'many', 'marit', now());
         insert into cards (size, kind, edges, added_by) select 4000000000 + g, 'SD card', '\\x01', 'marit'
            from generate_series(1, 12000) g;
         insert into events (operator, kind, subject, summary) select 'marit', 'device.changed', 'x', 'x'
            from generate_series(1, 50000)",
    )?;
    for part in 0..PARTS {
        let (from, until) = (part * IMPRINTS / PARTS, (part + 1) * IMPRINTS / PARTS);
        run(&format!(
            "insert into imprints (card_id, device_id, release_id, base, job_id, slot, operator, state, settings, files,
                    manifest, written, verified, finished_at, origin_release_id)
                select c.id, d.id, r.id, r.name, (select max(id) from jobs), 1, 'marit', 'verified', '{settings}', '[]',
                    '\\x01', 1, 1, now(), r.id
                from generate_series({from}, {until} - 1) g
                join (select id, row_number() over (order by id) - 1 as n from cards) c on c.n = g % 12000
                join (select id, row_number() over (order by name) - 1 as n from devices) d on d.n = g % 10000,
                    (select id, name from releases where appliance = 'quaylink') r
                order by g"
        ))?;
        // What PostgreSQL does by itself within a minute, time and again over the years.
        run("vacuum analyze")?;
    }
    run(
        "insert into backups (name, card_id, device_id, imprint_id, job_id, card_size, content, smallest_card, table_kind,
                partitions, manifest, stored, verified, slot, insertion, taken_by, whole_card)
            select 'backup-' || i.id, i.card_id, i.device_id, i.id, i.job_id, 4000000000, 1, 1, 'MBR', '[]', '\\x01', 1,
                'read twice', 1, 1, 'marit', 1 from imprints i where i.id % 10 = 0",
    )?;
    run("vacuum analyze")
}

fn psql(port: u16, password: &str, sql: &str) -> Result<()> {
    let out = Command::new("psql")
        .env("PGPASSWORD", password)
        .args(["-q", "-v", "ON_ERROR_STOP=1", "-h", "127.0.0.1"])
        .args(["-U", "duplicarium", "-d", "duplicarium"])
        .args(["-p", &port.to_string(), "-c", sql])
        .output()?;
    ensure!(
        out.status.success(),
        "{}",
        String::from_utf8_lossy(&out.stderr)
    );
    Ok(())
}

/// What is asked for, and how: each a few ways.
fn questions() -> Vec<(&'static str, Vec<String>)> {
    let devices = (0..50).map(|number| format!("unit-{:05}", number * 197));
    let words = |paths: &[&str]| {
        paths
            .iter()
            .map(|path| (*path).to_owned())
            .collect::<Vec<_>>()
    };
    vec![
        (
            "a page of the devices, of 10,000",
            words(&[
                "devices",
                "devices?search=unit-0777",
                "devices?site=site-042&sort=board",
                "devices?state=planned&sort=added&descending=true",
                "devices?standing=outdated",
                "devices?carries=quaylink%202.4&limit=500",
            ]),
        ),
        (
            "one device",
            devices
                .clone()
                .map(|name| format!("devices/{name}"))
                .collect(),
        ),
        (
            "who is due for another card",
            words(&[
                "devices?standing=to%20write",
                "devices?standing=to%20write&site=site-007",
            ]),
        ),
        (
            "a page of the cards, of 12,000",
            words(&[
                "cards",
                "cards?search=unit-0777",
                "cards?state=imprinted&sort=size",
                "cards?sort=device",
            ]),
        ),
        (
            "one card",
            (1..50)
                .map(|number| format!("cards/C-{:04}", number * 199))
                .collect(),
        ),
        (
            "a page of the backups, of 5,000",
            words(&["backups", "backups?search=unit-07", "backups?sort=device"]),
        ),
        (
            "a page of the presets, of 200",
            words(&["presets", "presets?search=07"]),
        ),
        (
            "one preset",
            (0..50)
                .map(|number| format!("presets/preset-{:03}", number * 4))
                .collect(),
        ),
        (
            "a preset of the whole team, and a page of whom it touches",
            words(&[
                "presets/team",
                "presets/team/touches",
                "presets/team/touches?after=unit-05000",
                "presets/team/touches?search=0777",
            ]),
        ),
        ("which networks are on which cards", words(&["networks"])),
        (
            "the catalogue, and a page of who carries a release",
            words(&[
                "catalogue",
                "releases/quaylink%202.4",
                "releases/quaylink%202.4/carriers",
            ]),
        ),
        (
            "jobs and history",
            words(&["jobs", "activity", "activity?before=25000"]),
        ),
    ]
}

async fn ask<'a>(
    http: &reqwest::Client,
    url: &str,
    paths: &'a [String],
) -> Result<Vec<(Duration, &'a str)>> {
    let mut took = Vec::new();
    for number in 0..ASKED + 5 {
        let path = &paths[number % paths.len()];
        let begun = Instant::now();
        let answer = http.get(format!("{url}/api/v1/{path}")).send().await?;
        ensure!(
            answer.status().is_success(),
            "{path}: {}",
            answer.text().await?
        );
        answer.bytes().await?;
        // The first ones warm up what anybody's first look warms up.
        if number >= 5 {
            took.push((begun.elapsed(), path.as_str()));
        }
    }
    Ok(took)
}

/// A plan for one device, all of it: settings, what others have, composing.
async fn plan(client: &Client) -> Result<Row> {
    let mut took = Vec::new();
    for number in 0..15 {
        let new = NewPlan {
            device: Some(format!("unit-{:05}", number * 200)),
            slot: api::SlotName::here(1),
            ..NewPlan::default()
        };
        let begun = Instant::now();
        client.plan(&new).await?;
        took.push(begun.elapsed());
    }
    took.sort();
    Ok(Row {
        name: "a plan with 10,000 devices, composing included",
        value: took[took.len() / 2].as_secs_f64() * 1e3,
        unit: "ms",
        bar: Some(150.0),
    })
}
