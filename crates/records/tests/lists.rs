//! Long lists against a real PostgreSQL: whatever is asked for, in whatever order and pages, while
//! others add and take away. The oracle sorts and filters in memory.

use std::collections::BTreeSet;

use records::boards::{BoardModel, Site};
use records::cards::Told;
use records::devices::{About, Change, Device, NewDevice, OwnFieldsOf, TableRow, Wanted};
use records::lists::{Asked, Page};
use records::{OwnServer, RecordError, Records};
use sqlx::Connection;

/// The same numbers at each run, in no pattern.
struct Chance(u64);

impl Chance {
    fn below(&mut self, most: usize) -> usize {
        self.0 = self
            .0
            .wrapping_mul(6_364_136_223_846_793_005)
            .wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 33) as usize % most
    }

    fn one<'a>(&mut self, of: &[&'a str]) -> &'a str {
        of[self.below(of.len())]
    }
}

const BOARDS: [&str; 3] = ["curlew", "plover", "plover-field"];
const SITES: [&str; 4] = ["loft", "quay", "sands", "workshop"];

async fn start(dir: &std::path::Path) -> (OwnServer, Records) {
    let open = std::os::unix::fs::PermissionsExt::from_mode(0o755);
    std::fs::set_permissions(dir, open).unwrap();
    let server = OwnServer::start(dir).await.unwrap();
    let records = Records::open(server.url()).await.unwrap();
    for name in BOARDS {
        let board = BoardModel {
            name: name.into(),
            title: name.into(),
            architecture: "arm64".into(),
            memory_mb: None,
            ports: String::new(),
            power: String::new(),
            lamps: String::new(),
            boot_minutes: None,
            card_sits: String::new(),
            lamp_table: serde_json::json!([]),
        };
        records.put_board(&board).await.unwrap();
    }
    for name in SITES {
        let site = Site {
            name: name.into(),
            title: name.into(),
        };
        records.put_site(&site).await.unwrap();
    }
    (server, records)
}

#[tokio::test(flavor = "multi_thread")]
async fn lists_keep_their_word() {
    let dir = tempfile::tempdir().unwrap();
    let (server, records) = start(dir.path()).await;
    a_digest_tells_any_change_of_devices(&records, server.url()).await;
    pages_are_the_list(&records).await;
    a_page_begins_where_the_last_one_ended(&records).await;
    what_is_no_place_is_refused(&records).await;
    a_table_is_taken_whole_or_not_at_all(&records, server.url()).await;
    a_revision_counts_what_changes_a_device(&records).await;
    devices_are_found_by_what_is_set_on_them(&records).await;
    what_seldom_changes_is_counted(&records).await;
    cards_are_told_and_found(&records).await;
    labels_go_on_behind_four_digits(&records, server.url()).await;
    records.close().await;
    server.stop().unwrap();
}

fn new(name: &str, chance: &mut Chance) -> NewDevice {
    let variant = chance.one(&["", "", "night"]);
    NewDevice {
        name: name.into(),
        board: chance.one(&BOARDS).into(),
        appliance: chance.one(&["quaylink", "tidegauge"]).into(),
        variant: (!variant.is_empty()).then(|| variant.into()),
        site: chance.one(&SITES).into(),
        notes: chance
            .one(&["", "100%_sure", "by the crane", "Kran"])
            .into(),
        added_by: "marit".into(),
    }
}

async fn every(records: &Records, wanted: &Wanted, asked: &Asked) -> Vec<Device> {
    let (mut rows, mut after) = (Vec::new(), None);
    loop {
        let asked = Asked {
            after,
            ..asked.clone()
        };
        let page: Page<Device> = records.device_page(wanted, &asked).await.unwrap();
        assert!(page.items.len() as i64 <= asked.limit);
        rows.extend(page.items);
        if page.next.is_none() {
            assert_eq!(page.total, rows.len() as i64, "{wanted:?}");
            return rows;
        }
        after = page.next;
    }
}

/// What the database would answer, found out in memory.
fn expected(all: &[Device], wanted: &Wanted, asked: &Asked) -> Vec<String> {
    let is = |wanted: &Option<String>, have: &str| wanted.as_ref().is_none_or(|word| word == have);
    let mut rows: Vec<&Device> = all
        .iter()
        .filter(|one| is(&wanted.state, &one.state) && is(&wanted.site, &one.site))
        .filter(|one| is(&wanted.board, &one.board) && is(&wanted.appliance, &one.appliance))
        .filter(|one| !wanted.active || one.state != "retired")
        .filter(|one| {
            let ids = wanted.ids.as_ref();
            ids.is_none_or(|ids| ids.contains(&one.id))
        })
        .filter(|one| {
            let text = wanted
                .search
                .clone()
                .unwrap_or_default()
                .trim()
                .to_lowercase();
            let have = format!("{} {}", one.name, one.notes).to_lowercase();
            have.contains(&text)
        })
        .collect();
    let key = |one: &Device| match asked.sort.as_deref() {
        Some("site") => one.site.clone(),
        Some("state") => one.state.clone(),
        Some("board") => one.board.clone(),
        Some("appliance") => format!("{} {}", one.appliance, one.variant.as_deref().unwrap_or("")),
        Some("card") => one.card.clone().unwrap_or_default(),
        Some("added") => format!("{:020}", one.id),
        _ => one.name.clone(),
    };
    rows.sort_by_key(|one| (key(one), one.id));
    if asked.descending {
        rows.reverse();
    }
    rows.into_iter().map(|one| one.name.clone()).collect()
}

async fn pages_are_the_list(records: &Records) {
    let mut chance = Chance(7);
    for number in 0..120 {
        let device = new(&format!("post{:03}", (number * 37) % 120), &mut chance);
        records.add_device(&device).await.unwrap();
    }
    for device in records.devices().await.unwrap().iter().step_by(9) {
        let about = About {
            retired: Some(true),
            ..About::default()
        };
        records.describe_device(device.id, &about).await.unwrap();
    }
    let all = records.devices().await.unwrap();
    let sorts = [
        "name",
        "site",
        "state",
        "board",
        "appliance",
        "card",
        "added",
    ];
    for _ in 0..150 {
        let some = |chance: &mut Chance, of: &[&str]| {
            (chance.below(3) == 0).then(|| chance.one(of).to_owned())
        };
        let ids = (chance.below(4) == 0).then(|| {
            let some = all.iter().map(|one| one.id).filter(|id| id % 3 == 0);
            some.collect()
        });
        let wanted = Wanted {
            search: some(
                &mut chance,
                &["7", "post1", "KRAN", "100%", "_", "%", " crane ", "\\"],
            ),
            state: some(&mut chance, &["planned", "retired", "nothing"]),
            site: some(&mut chance, &SITES),
            board: some(&mut chance, &BOARDS),
            appliance: some(&mut chance, &["quaylink", "tidegauge"]),
            active: chance.below(3) == 0,
            carries: None,
            ids,
        };
        let asked = Asked {
            after: None,
            limit: 1 + chance.below(40) as i64,
            sort: (chance.below(4) > 0).then(|| chance.one(&sorts).to_owned()),
            descending: chance.below(2) == 0,
        };
        let found: Vec<_> = every(records, &wanted, &asked)
            .await
            .into_iter()
            .map(|one| one.name)
            .collect();
        assert_eq!(
            found,
            expected(&all, &wanted, &asked),
            "{wanted:?} {asked:?}"
        );
    }
}

async fn a_page_begins_where_the_last_one_ended(records: &Records) {
    let mut chance = Chance(8);
    let before: BTreeSet<_> = names(records.devices().await.unwrap());
    let (mut seen, mut after) = (Vec::new(), None);
    let mut gone = BTreeSet::new();
    for round in 0.. {
        let asked = Asked {
            after,
            limit: 7,
            sort: Some("site".into()),
            descending: false,
        };
        let page = records
            .device_page(&Wanted::default(), &asked)
            .await
            .unwrap();
        seen.extend(page.items.iter().map(|one| one.name.clone()));
        // Others come and go meanwhile, also the very row that the page ended with.
        records
            .add_device(&new(&format!("new-{round:02}"), &mut chance))
            .await
            .unwrap();
        if let Some(last) = page.items.last() {
            records.remove_device(last).await.unwrap();
            gone.insert(last.name.clone());
        }
        after = page.next;
        if after.is_none() {
            break;
        }
    }
    let once: BTreeSet<_> = seen.iter().cloned().collect();
    assert_eq!(once.len(), seen.len(), "no row twice");
    assert!(
        before.is_subset(&once),
        "none hidden: {:?}",
        before.difference(&once)
    );
    assert!(!gone.is_empty());
}

fn names(devices: Vec<Device>) -> BTreeSet<String> {
    devices.into_iter().map(|one| one.name).collect()
}

async fn what_is_no_place_is_refused(records: &Records) {
    let first = Asked {
        limit: 3,
        ..Asked::default()
    };
    let place = records
        .device_page(&Wanted::default(), &first)
        .await
        .unwrap()
        .next
        .unwrap();
    for (after, sort) in [
        (Some("zz".to_owned()), None),
        (Some(hex::encode("name\nx\ny")), None),
        (Some(hex::encode("name\n1")), None),
        (Some(hex::encode([0xff, 0xfe])), None),
        // A place in another order, and a key that is no number where one belongs.
        (Some(place), Some("site".to_owned())),
        (Some(hex::encode("added\n1\nx")), Some("added".to_owned())),
        (None, Some("password".to_owned())),
    ] {
        let asked = Asked {
            after,
            sort,
            ..first.clone()
        };
        let refused = records.device_page(&Wanted::default(), &asked).await;
        assert!(
            matches!(refused, Err(RecordError::Asked(_))),
            "{asked:?}: {refused:?}"
        );
    }
}

fn row(device: &Device, fresh: bool, changes: &[(&str, Change)]) -> TableRow {
    let changes = changes
        .iter()
        .map(|(field, change)| ((*field).into(), change.clone()));
    TableRow {
        device: device.clone(),
        fresh,
        changes: changes.collect(),
    }
}

async fn host_name(records: &Records, name: &str) -> Option<String> {
    records.device(name).await.unwrap().host_name
}

async fn a_table_is_taken_whole_or_not_at_all(records: &Records, url: &str) {
    let mut chance = Chance(9);
    for name in ["swap-a", "swap-b"] {
        let device = NewDevice {
            site: "quay".into(),
            ..new(name, &mut chance)
        };
        records.add_device(&device).await.unwrap();
        let device = records.device(name).await.unwrap();
        let called = [("host_name".into(), Change::HostName(name.into()))];
        records
            .change_settings(&device, &called, "marit")
            .await
            .unwrap();
    }
    let (a, b) = (
        records.device("swap-a").await.unwrap(),
        records.device("swap-b").await.unwrap(),
    );
    let fresh = Device {
        id: -1,
        name: "fresh-1".into(),
        attached: vec!["probe; with a comma, too".into(), "lamp".into()],
        macs: vec!["5a:17:00:00:00:01".into()],
        host_name: None,
        ..a.clone()
    };
    let mut told = b.clone();
    (told.notes, told.attached) = ("told".into(), vec!["lamp".into()]);
    let rows = [
        row(
            &a,
            false,
            &[("host_name", Change::HostName("swap-b".into()))],
        ),
        row(
            &told,
            false,
            &[
                ("host_name", Change::HostName("swap-a".into())),
                ("old", Change::Clear),
            ],
        ),
        row(
            &fresh,
            true,
            &[
                ("host_name", Change::HostName("fresh".into())),
                ("pin", Change::Sealed(vec![1])),
            ],
        ),
    ];
    records.take_table(&rows, "tor").await.unwrap();
    assert_eq!(
        host_name(records, "swap-a").await.as_deref(),
        Some("swap-b"),
        "names change hands"
    );
    assert_eq!(
        host_name(records, "swap-b").await.as_deref(),
        Some("swap-a")
    );
    let got = records.device("fresh-1").await.unwrap();
    assert_eq!((&got.attached, &got.macs), (&fresh.attached, &fresh.macs));
    assert_eq!(got.host_name.as_deref(), Some("fresh"));
    assert_eq!(records.device("swap-b").await.unwrap().notes, "told");

    // Read before somebody else changed one of them: nothing of it is taken over.
    let fresh = Device {
        name: "fresh-2".into(),
        ..fresh
    };
    let late = [
        row(&a, false, &[("x", Change::Plain("1".into()))]),
        row(&fresh, true, &[]),
    ];
    let refused = records.take_table(&late, "tor").await;
    let sentence = refused.unwrap_err().to_string();
    assert!(
        sentence.contains("changed device swap-a") && sentence.contains("nothing was taken over"),
        "{sentence}"
    );
    assert!(records.device("fresh-2").await.is_err(), "all or nothing");

    // A name that is taken by another device meanwhile takes the whole table back.
    let (a, b) = (
        records.device("swap-a").await.unwrap(),
        records.device("swap-b").await.unwrap(),
    );
    let clash = [
        row(&b, false, &[("note", Change::Plain("kept?".into()))]),
        row(
            &a,
            false,
            &[("host_name", Change::HostName("fresh".into()))],
        ),
    ];
    let refused = records.take_table(&clash, "tor").await;
    assert!(
        matches!(refused, Err(RecordError::Conflict(_))),
        "{refused:?}"
    );
    let mut connection = sqlx::PgConnection::connect(url).await.unwrap();
    let kept: i64 =
        sqlx::query_scalar("select count(*) from settings where field in ('note', 'x')")
            .fetch_one(&mut connection)
            .await
            .unwrap();
    assert_eq!(kept, 0);
    assert_eq!(
        host_name(records, "swap-a").await.as_deref(),
        Some("swap-b")
    );
}

async fn a_revision_counts_what_changes_a_device(records: &Records) {
    let device = async || records.device("swap-a").await.unwrap();
    let revision = async || device().await.revision;
    let before = revision().await;
    records.pin_device(device().await.id, None).await.unwrap();
    assert_eq!(
        revision().await,
        before,
        "what it follows stands in no table"
    );
    let set = [("x".to_owned(), Change::Plain("1".into()))];
    records
        .change_settings(&device().await, &set, "marit")
        .await
        .unwrap();
    let set_once = revision().await;
    assert!(set_once > before);
    let clear = [("x".to_owned(), Change::Clear)];
    records
        .change_settings(&device().await, &clear, "marit")
        .await
        .unwrap();
    let cleared = revision().await;
    assert!(cleared > set_once);
    let about = About {
        site: Some("loft".into()),
        ..About::default()
    };
    records
        .describe_device(device().await.id, &about)
        .await
        .unwrap();
    assert!(revision().await > cleared);
    let moved = revision().await;
    records
        .describe_device(device().await.id, &about)
        .await
        .unwrap();
    assert_eq!(revision().await, moved, "the same again is no change");

    records.rename_site("loft", "attic").await.unwrap();
    assert_eq!(device().await.site, "attic", "devices go along");
    let refused = records.rename_site("attic", "quay").await;
    assert!(
        matches!(refused, Err(RecordError::Conflict(_))),
        "{refused:?}"
    );
    let refused = records.rename_site("nowhere", "else").await;
    assert!(
        matches!(refused, Err(RecordError::Unknown { .. })),
        "{refused:?}"
    );
}

async fn devices_are_found_by_what_is_set_on_them(records: &Records) {
    let device = records.device("fresh-1").await.unwrap();
    let set = [
        (
            "address".to_owned(),
            Change::Plain("192.0.2.17/24 gateway 192.0.2.1".into()),
        ),
        ("secret".to_owned(), Change::Sealed(vec![7])),
    ];
    records
        .change_settings(&device, &set, "marit")
        .await
        .unwrap();
    let with = async |word: &str| records.devices_with_word(&[word.to_owned()]).await.unwrap();
    assert_eq!(with("192.0.2.17").await, [device.id]);
    assert_eq!(
        with("fresh").await,
        [device.id],
        "a host name, in small letters"
    );
    assert!(with("192.0.2.1").await.is_empty(), "not somewhere inside");
    let sealed = records
        .devices_with_secret(&["secret".into()])
        .await
        .unwrap();
    assert_eq!(sealed, [device.id]);
    let own = records
        .own_fields(&OwnFieldsOf {
            site: Some(&device.site),
            ..OwnFieldsOf::default()
        })
        .await
        .unwrap();
    let own = own.into_iter().find(|one| one.id == device.id).unwrap();
    assert!(
        ["address", "secret", "host_name"]
            .iter()
            .all(|field| own.fields.contains(&(*field).into()))
    );
    let taken = async |mac: &str, but: &str| records.mac_taken(&[mac.into()], but).await.unwrap();
    let mac = "5a:17:00:00:00:01";
    assert_eq!(
        taken(mac, "swap-a").await,
        Some(("fresh-1".into(), mac.into()))
    );
    assert_eq!(taken(mac, "fresh-1").await, None, "its own");
    assert_eq!(taken("5a:17:00:00:00:02", "swap-a").await, None);
}

async fn a_digest_tells_any_change_of_devices(records: &Records, url: &str) {
    let mut chance = Chance(11);
    let mut seen = BTreeSet::from([records.devices_digest().await.unwrap()]);
    let mut differs = async |what: &str| {
        let new = seen.insert(records.devices_digest().await.unwrap());
        assert!(new, "{what}: the digest is one of before");
    };
    let id = records
        .add_device(&new("digest-a", &mut chance))
        .await
        .unwrap();
    differs("added").await;
    let device = records.device("digest-a").await.unwrap();
    for sealed in [vec![1], vec![2], vec![1]] {
        let set = [("secret".to_owned(), Change::Sealed(sealed))];
        records
            .change_settings(&device, &set, "marit")
            .await
            .unwrap();
        differs("a secret changed").await;
    }
    // As other ways of the records do it, and by hand.
    let mut by_hand = sqlx::PgConnection::connect(url).await.unwrap();
    for change in [
        "set site = 'sands' where site <> 'sands' and",
        "set site = 'loft' where",
        "set name = 'digest-b' where",
        "set state = 'retired' where",
        "set state = 'planned' where",
    ] {
        let change = format!("update devices {change} id = {id}");
        sqlx::query(sqlx::AssertSqlSafe(change.clone()))
            .execute(&mut by_hand)
            .await
            .unwrap();
        if !change.contains("planned") && !change.contains("sands") {
            differs(&change).await;
        }
    }
    let mut carried = BTreeSet::from([records.carried_digest().await.unwrap()]);
    for change in ["carried_known = not carried_known", "name = 'digest-e'"] {
        let change = format!("update devices set {change} where id = {id}");
        sqlx::query(sqlx::AssertSqlSafe(change.clone()))
            .execute(&mut by_hand)
            .await
            .unwrap();
        let new = carried.insert(records.carried_digest().await.unwrap());
        assert!(new, "{change}: the digest is one of before");
    }
    let back = format!("update devices set name = 'digest-b' where id = {id}");
    sqlx::query(sqlx::AssertSqlSafe(back))
        .execute(&mut by_hand)
        .await
        .unwrap();
    let device = records.device("digest-b").await.unwrap();
    records.remove_device(&device).await.unwrap();
    records
        .add_device(&new("digest-c", &mut chance))
        .await
        .unwrap();
    differs("one went and one came").await;
    let device = records.device("digest-c").await.unwrap();
    records.remove_device(&device).await.unwrap();
}

async fn what_seldom_changes_is_counted(records: &Records) {
    let before = records.changes().await.unwrap();
    records
        .add_preset("loft", "", Some("attic"), "marit")
        .await
        .unwrap();
    let after = records.changes().await.unwrap();
    assert!(after.presets > before.presets && after.catalogue == before.catalogue);
    let preset = records.preset("loft").await.unwrap();
    let set = [("country".to_owned(), Change::Plain("NO".into()))];
    records
        .change_preset(preset.id, &set, "marit")
        .await
        .unwrap();
    assert!(records.changes().await.unwrap().presets > after.presets);
    records
        .rename_preset(preset.id, Some("attic"), None)
        .await
        .unwrap();
    let preset = records.preset("attic").await.unwrap();
    let board = records.boards().await.unwrap().remove(0);
    records.put_board(&board).await.unwrap();
    assert!(records.changes().await.unwrap().catalogue > before.catalogue);
    let count = records.changes().await.unwrap().presets;
    records.remove_preset(preset.id).await.unwrap();
    assert!(records.changes().await.unwrap().presets > count);
}

async fn cards_are_told_and_found(records: &Records) {
    let mut labels = Vec::new();
    for size in [4, 8, 2] {
        labels.push(
            records
                .add_card(size, "SD card", &[1], "marit")
                .await
                .unwrap(),
        );
    }
    let card = &labels[1];
    records
        .tell_card(
            card.id,
            &Told {
                notes: Some("a scratch".into()),
                state: Some("lost"),
                ..Told::default()
            },
        )
        .await
        .unwrap();
    let page = async |wanted: records::cards::Wanted, sort: Option<&str>| {
        let asked = Asked {
            sort: sort.map(str::to_owned),
            ..Asked::default()
        };
        let page = records.card_page(&wanted, &asked).await.unwrap();
        page.items
            .into_iter()
            .map(|one| one.size)
            .collect::<Vec<_>>()
    };
    let all = records::cards::Wanted::default;
    assert_eq!(page(all(), None).await, [4, 8, 2], "by label");
    assert_eq!(page(all(), Some("size")).await, [2, 4, 8]);
    let lost = records::cards::Wanted {
        state: Some("lost".into()),
        ..all()
    };
    assert_eq!(page(lost, None).await, [8]);
    let scratched = records::cards::Wanted {
        search: Some("Scratch".into()),
        ..all()
    };
    assert_eq!(page(scratched, None).await, [8]);
    records
        .tell_card(
            card.id,
            &Told {
                state: Some("blank"),
                ..Told::default()
            },
        )
        .await
        .unwrap();
    let again = records.card(&card.label).await.unwrap();
    assert_eq!(
        (again.state.as_str(), again.notes.as_str()),
        ("blank", "a scratch")
    );
}

async fn labels_go_on_behind_four_digits(records: &Records, url: &str) {
    let mut connection = sqlx::PgConnection::connect(url).await.unwrap();
    sqlx::query("select setval(pg_get_serial_sequence('cards', 'id'), 9998)")
        .execute(&mut connection)
        .await
        .unwrap();
    for wanted in ["C-9999", "C-10000", "C-10001"] {
        let card = records.add_card(4, "SD card", &[1], "marit").await.unwrap();
        assert_eq!(card.label, wanted);
        assert_eq!(records.card(wanted).await.unwrap().id, card.id);
    }
}
