//! Real card readers, as far as a computer can have them without hands: a virtual machine starts the
//! service, and emulated USB readers are plugged, pulled and changed under it. Prints each case and ends
//! badly if one does. `make readers` sets everything up.

mod machine;

use std::fs::File;
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::{Duration, Instant};

use anyhow::{Context, Result, bail, ensure};
use machine::{Machine, Medium};
use serde_json::Value;
use testbed::{binary, demo_image, demo_sheet, workspace};

/// Size of an ordinary card here, in bytes.
const CARD: u64 = 700_000_256;

/// The bench in the machine.
struct Bench {
    machine: Machine,
    cards: u32,
    /// The newest job before work was begun in the background.
    before: i64,
}

type Case = (&'static str, fn(&mut Bench) -> Result<()>);

const CASES: &[Case] = &[
    ("the system's own disk is never offered", system_disk),
    (
        "a reader is proposed, bound and noticed within a second",
        insertion,
    ),
    (
        "a card is written, judged by the system's tools, and known again",
        written,
    ),
    ("an equal card swapped in after the plan voids it", swapped),
    (
        "a reader pulled in the middle of a write",
        pulled_while_writing,
    ),
    (
        "a reader pulled in the middle of verifying",
        pulled_while_verifying,
    ),
    (
        "a reader pulled in the middle of a backup",
        pulled_in_backup,
    ),
    ("a locked card is seen as locked and not written", locked),
    ("a reader with several places", several_units),
    ("a medium changed while its reader stays", changed_medium),
    (
        "a medium changed in the middle of a write: the new one is not touched",
        changed_while_writing,
    ),
    ("a region that takes no writes", bad_region),
    ("a card mounted by the computer is let go of first", mounted),
    (
        "a disk the computer lives on is not written, even in a slot",
        lives_on,
    ),
    (
        "two readers of one model stay what they are",
        two_of_one_model,
    ),
    (
        "a service that may not open the device says how it may",
        unprivileged,
    ),
];

fn main() -> Result<()> {
    let arguments: Vec<_> = std::env::args().skip(1).collect();
    let kernel = arguments
        .first()
        .context("usage: readers KERNEL-FOLDER [CASE]")?;
    let only = arguments.get(1);
    // Where the machine sees it: it has a /tmp of its own.
    let place = workspace().join("target/readers");
    std::fs::create_dir_all(&place)?;
    let dir = tempfile::tempdir_in(&place)?;
    let begun = Instant::now();
    let mut bench = Bench {
        machine: Machine::start(dir.path(), Path::new(kernel))?,
        cards: 0,
        before: 0,
    };
    println!(
        "the machine is up after {:.0} s",
        begun.elapsed().as_secs_f64()
    );
    if let Err(error) = bench.begin() {
        let log = bench
            .machine
            .run("tail -20 /tmp/service.log | cut -c1-200; duplicarium status")?
            .text;
        bail!("{error:#}\n{log}");
    }
    println!(
        "the service is ready after {:.0} s",
        begun.elapsed().as_secs_f64()
    );
    let mut report = String::new();
    let mut failed = 0;
    for (number, (name, case)) in CASES.iter().enumerate() {
        if only.is_some_and(|only| !name.contains(only.as_str())) && number > 1 {
            continue;
        }
        let begun = Instant::now();
        let (word, why) = match case(&mut bench) {
            Ok(()) => ("ok", String::new()),
            Err(error) => {
                failed += 1;
                ("FAILED", format!("\n      {error:#}"))
            }
        };
        let line = format!(
            "{:>2}  {word:<6}  {name}  ({:.0} s){why}",
            number + 1,
            begun.elapsed().as_secs_f64()
        );
        println!("{line}");
        report += &line;
        report.push('\n');
        // Whatever a case left plugged in.
        if let Err(error) = bench.tidy() {
            let log = std::fs::read_to_string(dir.path().join("qemu.log")).unwrap_or_default();
            bail!("the machine is of no use any more: {error:#}\n{log}");
        }
    }
    let kernel = bench.machine.done("uname -sr")?;
    let head = format!(
        "Card readers in a virtual machine ({kernel}), {} of {} cases as they should be.\n\n",
        CASES.len() - failed,
        CASES.len()
    );
    let place = workspace().join("target/readers/report.txt");
    std::fs::write(&place, format!("{head}{report}"))?;
    println!("{head}The report is in target/readers/report.txt.");
    if failed > 0 {
        println!(
            "{}",
            bench
                .machine
                .run("tail -20 /tmp/service.log | cut -c1-200")?
                .text
        );
        bail!("{failed} cases failed");
    }
    Ok(())
}

impl Bench {
    /// Starts the service in the machine and gives it a catalogue and devices.
    fn begin(&mut self) -> Result<()> {
        // Copies, so that a build meanwhile changes nothing under way.
        let bin = self.machine.dir().join("bin");
        std::fs::create_dir(&bin)?;
        for name in ["duplicarium", "duplicariumd"] {
            std::fs::copy(binary(name), bin.join(name))?;
        }
        self.machine
            .done(&format!("ln -s {}/* /usr/local/bin/", bin.display()))?;
        // The machine's system disk, in use as such a disk is.
        self.machine
            .done("mkfs.ext4 -q /dev/vda && mkdir -p /system && mount /dev/vda /system")?;
        self.start_service("")?;
        let lines = [
            "for board in curlew plover plover-field; do duplicarium board add $board --title $board \
             --architecture armhf; done"
                .to_owned(),
            "duplicarium site add quay --title Quay".into(),
            format!(
                "duplicarium release add {} --sheet {}",
                demo_image("quaylink-2.4.img.xz").display(),
                demo_sheet("quaylink-2.4.toml").display()
            ),
            "echo 'ebb and flow 1907' > /tmp/word".into(),
        ];
        for line in lines {
            self.machine.done(&line)?;
        }
        for name in ["quay-01", "quay-02"] {
            self.machine.done(&format!(
                "duplicarium device add {name} --board curlew --appliance quaylink --site quay && duplicarium device \
                 set {name} host_name={name} wifi_network=Saltmarsh-Quay --secret-file wifi_passphrase=/tmp/word"
            ))?;
        }
        Ok(())
    }

    fn start_service(&mut self, prefix: &str) -> Result<()> {
        self.machine.done(&format!(
            "{prefix} setsid duplicariumd --data-dir /srv/duplicarium > /tmp/service.log 2>&1 & true"
        ))?;
        self.until("the service is ready", 120, |bench| {
            Ok(bench.machine.run("duplicarium status")?.code == 0)
        })
    }

    /// Pulls what is plugged in and unbinds all slots.
    fn tidy(&mut self) -> Result<()> {
        for reader in ["one", "two", "many"] {
            let _ = self.machine.pull(reader);
        }
        let slots = self.json("bench slots")?;
        for slot in slots.as_array().into_iter().flatten() {
            let number = slot["number"].as_u64().unwrap_or_default();
            // A job that ends badly may take a moment to let go.
            self.until("slots can be unbound", 60, |bench| {
                let said = bench
                    .machine
                    .run(&format!("duplicarium bench unbind {number}"))?;
                Ok(said.code == 0)
            })?;
        }
        Ok(())
    }

    fn json(&mut self, words: &str) -> Result<Value> {
        let text = self.machine.done(&format!("duplicarium {words} --json"))?;
        serde_json::from_str(&text).with_context(|| format!("{words}: {text}"))
    }

    fn until(
        &mut self,
        what: &str,
        seconds: u64,
        mut holds: impl FnMut(&mut Self) -> Result<bool>,
    ) -> Result<()> {
        let begun = Instant::now();
        while !holds(self)? {
            ensure!(
                begun.elapsed() < Duration::from_secs(seconds),
                "{what}: never"
            );
            std::thread::sleep(Duration::from_millis(50));
        }
        Ok(())
    }

    /// A fresh card: its name and the file of its bytes.
    fn card(&mut self, how: &Medium) -> Result<(String, PathBuf)> {
        self.cards += 1;
        let name = format!("card{}", self.cards);
        let file = self.machine.dir().join(format!("{name}.img"));
        File::create(&file)?.set_len(CARD)?;
        self.machine.medium(&name, &file, how)?;
        Ok((name, file))
    }

    /// A card in reader `one` at port 1, which is slot 3.
    fn ready(&mut self, how: &Medium) -> Result<(String, PathBuf)> {
        let (name, file) = self.card(how)?;
        self.machine.plug("one", "1", &name, "GULL-1")?;
        self.bind(3, "1", 0)?;
        self.wait_for(3, "a card", |card| card["occupant"] == "blank")?;
        Ok((name, file))
    }

    /// Binds a place at a port of the machine's controller.
    fn bind(&mut self, slot: u32, chain: &str, unit: u32) -> Result<()> {
        let mut port = None;
        self.until("the reader is there", 20, |bench| {
            port = bench.disk(chain, unit)?["port"].as_str().map(str::to_owned);
            Ok(port.is_some())
        })?;
        let port = port.unwrap_or_default();
        self.machine.done(&format!(
            "duplicarium bench bind {slot} --port {port} --unit {unit}"
        ))?;
        Ok(())
    }

    /// The disk at a port, as the scan shows it.
    fn disk(&mut self, chain: &str, unit: u32) -> Result<Value> {
        let bench = self.json("bench scan")?;
        let disks = bench["disks"].as_array().cloned().unwrap_or_default();
        let at = |disk: &&Value| {
            let port = disk["port"].as_str().unwrap_or_default();
            port.rsplit('/').next() == Some(chain) && disk["unit"] == unit
        };
        Ok(disks.iter().find(at).cloned().unwrap_or_default())
    }

    fn slot(&mut self, number: u32) -> Result<Value> {
        let slots = self.json("slot list")?;
        let slots = slots.as_array().cloned().unwrap_or_default();
        let own = slots.into_iter().find(|slot| slot["number"] == number);
        own.with_context(|| format!("there is no slot {number}"))
    }

    fn wait_for(&mut self, slot: u32, what: &str, holds: impl Fn(&Value) -> bool) -> Result<()> {
        let mut last = Value::Null;
        self.until(what, 30, |bench| {
            last = bench.slot(slot)?;
            Ok(holds(&last["card"]))
        })
        .with_context(|| format!("slot {slot}: {last}"))
    }

    /// The label that the card in a slot gets, by a plan that is not carried out.
    fn label(&mut self, slot: u32) -> Result<String> {
        let said = self.machine.run(&format!(
            "duplicarium write quay-01 --slot {slot} --yes C-9999"
        ))?;
        ensure!(
            said.code != 0,
            "a label that is not there was taken: {}",
            said.text
        );
        self.slot(slot)?["card"]["label"]
            .as_str()
            .map(str::to_owned)
            .context("no label")
    }

    fn write(&mut self, device: &str, slot: u32) -> Result<machine::Said> {
        let label = self.label(slot)?;
        self.machine.run(&format!(
            "duplicarium write {device} --slot {slot} --yes {label} {AGREED}"
        ))
    }

    /// Begins work in the background.
    fn begin_work(&mut self, line: &str) -> Result<()> {
        let newest = self.json("job list")?["items"][0]["id"].take();
        self.before = newest.as_i64().unwrap_or(0);
        self.machine.done(&format!(
            "rm -f /tmp/work*; ( {line} > /tmp/work 2>&1; echo $? > /tmp/work.code ) & true"
        ))?;
        Ok(())
    }

    /// Waits until the newest job is at a stage, past this many bytes.
    fn wait_for_stage(&mut self, stage: &str, bytes: u64) -> Result<()> {
        let mut last = Value::Null;
        self.until(stage, 120, |bench| {
            last = bench.json("job list")?["items"][0].take();
            if last["id"].as_i64() <= Some(bench.before) {
                return Ok(false);
            }
            ensure!(last["finished_at"].is_null(), "it ended before: {last}");
            let progress = &last["progress"];
            Ok(progress["stage"] == stage && progress["done"].as_u64() > Some(bytes))
        })
        .with_context(|| format!("{last}"))
    }

    /// Waits for work in the background and gives the job that it was.
    fn end_of_work(&mut self) -> Result<Value> {
        self.until("the work ends", 180, |bench| {
            Ok(bench.machine.run("test -s /tmp/work.code")?.code == 0)
        })?;
        let job = self.json("job list")?["items"][0].take();
        ensure!(job["id"].as_i64() > Some(self.before), "no job was begun");
        Ok(job)
    }
}

/// What block 0 of a card says.
fn says_unfinished(file: &Path) -> Result<bool> {
    let mut head = [0; 64];
    File::open(file)?.read_exact_at(&mut head, 0)?;
    Ok(String::from_utf8_lossy(&head).contains("THIS CARD IS UNFINISHED"))
}

fn has_no_table(file: &Path) -> Result<()> {
    let said = Command::new("sfdisk").arg("--dump").arg(file).output()?;
    ensure!(
        !said.status.success(),
        "sfdisk finds a table: {}",
        String::from_utf8_lossy(&said.stdout)
    );
    Ok(())
}

fn is_zero(file: &Path) -> Result<()> {
    let mut buf = vec![0; 1 << 20];
    let file = File::open(file)?;
    for at in (0..CARD).step_by(buf.len()) {
        let len = buf.len().min((CARD - at) as usize);
        file.read_exact_at(&mut buf[..len], at)?;
        ensure!(
            buf[..len].iter().all(|byte| *byte == 0),
            "it was touched near byte {at}"
        );
    }
    Ok(())
}

fn system_disk(bench: &mut Bench) -> Result<()> {
    let scan = bench.json("bench scan")?;
    let disks = scan["disks"].as_array().context("disks")?;
    let own = disks
        .iter()
        .find(|disk| disk["node"] == "/dev/vda")
        .context("vda")?;
    ensure!(
        own["offered"] == false && own["in_use"] == "mounted at /system",
        "{own}"
    );
    ensure!(
        own["why"]
            .as_str()
            .is_some_and(|why| why.starts_with("never")),
        "{own}"
    );
    ensure!(
        bench
            .json("slot list")?
            .as_array()
            .is_some_and(Vec::is_empty),
        "slots without a word"
    );
    Ok(())
}

fn insertion(bench: &mut Bench) -> Result<()> {
    let (name, _) = bench.card(&Medium::default())?;
    bench.machine.plug("one", "1", &name, "GULL-1")?;
    bench.until("it is proposed", 20, |bench| {
        Ok(bench.json("bench scan")?["proposal"]
            .as_array()
            .is_some_and(|slots| slots.len() == 1))
    })?;
    let disk = bench.disk("1", 0)?;
    ensure!(
        disk["offered"] == false && disk["removable"] == true && disk["size"] == CARD,
        "{disk}"
    );
    ensure!(disk["serial"] == "GULL-1", "{disk}");
    bench.machine.done("duplicarium bench adopt")?;
    bench.wait_for(1, "the card is seen", |card| card["occupant"] == "blank")?;
    // An emulated command line takes its time to ask.
    let asked = Instant::now();
    bench.slot(1)?;
    let asking = asked.elapsed();
    bench.machine.pull("one")?;
    let begun = Instant::now();
    bench.until("the slot is empty", 10, |bench| {
        let slot = bench.slot(1)?;
        Ok(slot["card"].is_null() && slot["trouble"].is_string())
    })?;
    let (name, _) = bench.card(&Medium::default())?;
    let seen = begun.elapsed();
    bench.machine.plug("one", "1", &name, "GULL-1")?;
    bench.wait_for(1, "the next card is seen", |card| {
        card["occupant"] == "blank"
    })?;
    ensure!(
        seen < Duration::from_secs(1) + 3 * asking,
        "noticed after {seen:?}, where asking takes {asking:?}"
    );
    Ok(())
}

fn written(bench: &mut Bench) -> Result<()> {
    let (name, file) = bench.ready(&Medium::default())?;
    let said = bench.write("quay-01", 3)?;
    ensure!(
        said.code == 0 && said.text.contains("safe to pull"),
        "{}",
        said.text
    );
    let image = file.to_str().context("a path")?;
    let verified = Command::new("sfdisk").args(["--verify", image]).output()?;
    ensure!(
        String::from_utf8_lossy(&verified.stdout).contains("No errors"),
        "{}",
        String::from_utf8_lossy(&verified.stdout)
    );
    // The machine's own kernel sees the new partitions, and its own tools find the file system sound.
    let node = bench.disk("1", 0)?["node"]
        .as_str()
        .context("node")?
        .to_owned();
    bench.until("the kernel knows the partitions", 10, |bench| {
        Ok(bench.machine.run(&format!("test -b {node}2"))?.code == 0)
    })?;
    bench.machine.done(&format!("e2fsck -fn {node}2"))?;
    bench.machine.done(&format!(
        "mount -o ro {node}1 /mnt && ls /mnt/quaylink/link.toml; umount /mnt"
    ))?;
    bench.machine.pull("one")?;
    bench.machine.plug("one", "1", &name, "GULL-1")?;
    bench.wait_for(3, "it is known", |card| card["device"] == "quay-01")
}

fn swapped(bench: &mut Bench) -> Result<()> {
    bench.ready(&Medium::default())?;
    let label = bench.label(3)?;
    let plan = bench.json("write quay-01 --slot 3 --plan")?;
    let plan = plan["id"].as_str().context("a plan")?.to_owned();
    let (other, file) = bench.card(&Medium::default())?;
    bench.machine.pull("one")?;
    bench.machine.plug("one", "1", &other, "GULL-1")?;
    bench.wait_for(3, "the other is seen", |card| card["occupant"] == "blank")?;
    let said = bench.machine.run(&format!(
        "python3 -c \"import urllib.request as u; u.urlopen(u.Request('http://127.0.0.1:7640/api/v1/plans/{plan}/confirm', \
         b'{{\\\"card\\\": \\\"{label}\\\"}}', {{'content-type': 'application/json'}}))\""
    ))?;
    ensure!(said.code != 0 && said.text.contains("409"), "{}", said.text);
    ensure!(
        bench.json("job list")?["items"]
            .as_array()
            .is_some_and(|jobs| jobs.len() < 3),
        "a job"
    );
    is_zero(&file)
}

/// Whatever there is to be careful about is accepted: that is not what these cases are about.
const AGREED: &str = "--accept second-card,other-device,old-data,much-larger";

const SLOW: Medium = Medium {
    locked: false,
    rate: Some(4_000_000),
    bad: None,
};

fn pulled_while_writing(bench: &mut Bench) -> Result<()> {
    let (name, file) = bench.ready(&SLOW)?;
    let label = bench.label(3)?;
    bench.begin_work(&format!(
        "duplicarium write quay-01 --slot 3 --yes {label} {AGREED}"
    ))?;
    bench.wait_for_stage("writing", 8 << 20)?;
    bench.machine.pull("one")?;
    let job = bench.end_of_work()?;
    ensure!(
        job["state"] == "failed" && job["error_code"] == "card-gone",
        "{job}"
    );
    ensure!(
        says_unfinished(&file)?,
        "block 0 does not say that it is unfinished"
    );
    has_no_table(&file)?;
    let card = bench.json(&format!("card show {label}"))?;
    ensure!(
        card["card"]["state"] == "incomplete" || card["state"] == "incomplete",
        "{card}"
    );
    // In another reader at another port it is known, and can be written again.
    bench.machine.plug("two", "2", &name, "GULL-2")?;
    bench.bind(4, "2", 0)?;
    bench.wait_for(4, "it says itself", |card| {
        card["occupant"] == "unfinished" && card["label"].is_string()
    })?;
    let said = bench.write("quay-01", 4)?;
    ensure!(said.code == 0, "{}", said.text);
    Ok(())
}

fn pulled_while_verifying(bench: &mut Bench) -> Result<()> {
    let (_, file) = bench.ready(&SLOW)?;
    let label = bench.label(3)?;
    bench.begin_work(&format!(
        "duplicarium write quay-01 --slot 3 --yes {label} {AGREED}"
    ))?;
    bench.wait_for_stage("verifying", 4 << 20)?;
    bench.machine.pull("one")?;
    let job = bench.end_of_work()?;
    ensure!(
        job["state"] == "failed" && job["error_code"] == "card-gone",
        "{job}"
    );
    ensure!(
        says_unfinished(&file)?,
        "block 0 does not say that it is unfinished"
    );
    has_no_table(&file)
}

fn pulled_in_backup(bench: &mut Bench) -> Result<()> {
    let (name, file) = bench.ready(&SLOW)?;
    let said = bench.write("quay-02", 3)?;
    ensure!(said.code == 0, "{}", said.text);
    let before = std::fs::read(&file)?;
    bench.begin_work("duplicarium backup take --slot 3")?;
    bench.wait_for_stage("reading", 4 << 20)?;
    bench.machine.pull("one")?;
    let job = bench.end_of_work()?;
    ensure!(
        job["state"] == "failed" && job["error_code"] == "card-gone",
        "{job}"
    );
    ensure!(
        bench.json("backup list")?["items"]
            .as_array()
            .is_some_and(Vec::is_empty),
        "a backup"
    );
    ensure!(std::fs::read(&file)? == before, "reading changed the card");
    bench.machine.plug("one", "1", &name, "GULL-1")?;
    bench.wait_for(3, "it is known", |card| card["device"] == "quay-02")?;
    bench.machine.done("duplicarium backup take --slot 3")?;
    Ok(())
}

fn locked(bench: &mut Bench) -> Result<()> {
    let (name, file) = bench.card(&Medium {
        locked: true,
        ..Medium::default()
    })?;
    bench.machine.plug("one", "1", &name, "GULL-1")?;
    bench.bind(3, "1", 0)?;
    bench.wait_for(3, "the lock is seen", |card| card["locked"] == true)?;
    let said = bench.machine.run(&format!(
        "duplicarium write quay-01 --slot 3 --yes C-0001 {AGREED}"
    ))?;
    ensure!(
        said.code == 1 && said.text.contains("locked"),
        "{}",
        said.text
    );
    is_zero(&file)
}

fn several_units(bench: &mut Bench) -> Result<()> {
    let mut cards = Vec::new();
    for _ in 0..3 {
        cards.push(bench.card(&Medium::default())?);
    }
    let names: Vec<_> = cards.iter().map(|(name, _)| name.as_str()).collect();
    bench.machine.plug_many("many", "3", &names)?;
    // The slots in another order than the places.
    for (slot, unit) in [(11, 2), (12, 0)] {
        bench.bind(slot, "3", unit)?;
        bench.wait_for(slot, "a card", |card| card["occupant"] == "blank")?;
    }
    let (first, second) = (bench.label(11)?, bench.label(12)?);
    bench.begin_work(&format!(
        "duplicarium write quay-01 --slot 11 --yes {first} {AGREED} & duplicarium write quay-02 --slot 12 --yes {second} {AGREED}; wait"
    ))?;
    bench.end_of_work()?;
    bench.wait_for(11, "written", |card| card["device"] == "quay-01")?;
    bench.wait_for(12, "written", |card| card["device"] == "quay-02")?;
    is_zero(&cards[1].1).context("the place between, which is no slot")?;
    let scan = bench.disk("3", 1)?;
    ensure!(scan["offered"] == false && scan["slot"].is_null(), "{scan}");
    Ok(())
}

fn changed_medium(bench: &mut Bench) -> Result<()> {
    let (first, _) = bench.card(&Medium::default())?;
    let (second, _) = bench.card(&Medium::default())?;
    bench.machine.plug_many("many", "3", &[&first])?;
    bench.bind(5, "3", 0)?;
    bench.wait_for(5, "a card", |card| card["occupant"] == "blank")?;
    let before = bench.slot(5)?["card"]["insertion"].clone();
    bench.machine.take_out("many-0")?;
    bench.wait_for(5, "it is empty", Value::is_null)?;
    let slot = bench.slot(5)?;
    ensure!(
        slot["trouble"].is_null(),
        "an empty reader is no trouble: {slot}"
    );
    bench.machine.put_in("many-0", &second)?;
    bench.wait_for(5, "the next card", |card| {
        card["occupant"] == "blank" && card["insertion"] != before
    })
}

fn changed_while_writing(bench: &mut Bench) -> Result<()> {
    let (first, file) = bench.card(&Medium::default())?;
    let (second, other) = bench.card(&Medium::default())?;
    bench.machine.plug_many("many", "3", &[&first])?;
    bench.bind(5, "3", 0)?;
    bench.wait_for(5, "a card", |card| card["occupant"] == "blank")?;
    let label = bench.label(5)?;
    // Every byte of it, so that there is time to change it.
    bench.begin_work(&format!(
        "duplicarium card check --full --slot 5 --yes {label}"
    ))?;
    bench.wait_for_stage("writing", 32 << 20)?;
    bench.machine.take_out("many-0")?;
    bench.machine.put_in("many-0", &second)?;
    let job = bench.end_of_work()?;
    ensure!(
        job["state"] == "failed" && job["error_code"] == "card-gone",
        "{job}"
    );
    is_zero(&other).context("the card that was put in")?;
    ensure!(
        says_unfinished(&file)?,
        "the card that was taken out does not say that it is unfinished"
    );
    // It may be known by its edges, but not as the one that was taken out.
    bench.wait_for(5, "the other is seen", |card| {
        card["occupant"] == "blank" && card["label"] != label
    })
}

fn bad_region(bench: &mut Bench) -> Result<()> {
    // Where the first partition begins: every image has something there.
    let bad = 4 << 20;
    let (_, file) = bench.ready(&Medium {
        bad: Some((bad, bad + 4096)),
        ..Medium::default()
    })?;
    let said = bench.write("quay-01", 3)?;
    ensure!(said.code == 1, "{}", said.text);
    let job = bench.json("job list")?["items"][0].take();
    ensure!(job["error_code"] == "card-failed", "{job}");
    ensure!(
        job["error"]
            .as_str()
            .is_some_and(|error| error.contains("byte")),
        "{job}"
    );
    ensure!(
        says_unfinished(&file)?,
        "block 0 does not say that it is unfinished"
    );
    has_no_table(&file)
}

fn mounted(bench: &mut Bench) -> Result<()> {
    bench.ready(&Medium::default())?;
    let node = bench.disk("1", 0)?["node"]
        .as_str()
        .context("node")?
        .to_owned();
    bench.machine.done(&format!(
        "mkfs.vfat -I {node} > /dev/null && mount {node} /mnt && echo kept > /mnt/file"
    ))?;
    bench.wait_for(3, "the use is seen", |card| {
        card["in_use"] == "mounted at /mnt"
    })?;
    let said = bench.machine.run(&format!(
        "duplicarium write quay-01 --slot 3 --yes C-0001 {AGREED}"
    ))?;
    ensure!(
        said.code == 1 && said.text.contains("/mnt"),
        "{}",
        said.text
    );
    ensure!(
        bench.machine.done("cat /mnt/file")? == "kept",
        "the mounted card"
    );
    bench.machine.done("duplicarium slot release 3")?;
    let said = bench.write("quay-01", 3)?;
    ensure!(said.code == 0, "{}", said.text);
    Ok(())
}

fn lives_on(bench: &mut Bench) -> Result<()> {
    let (name, _) = bench.ready(&Medium::default())?;
    let node = bench.disk("1", 0)?["node"]
        .as_str()
        .context("node")?
        .to_owned();
    // In use where the service cannot see it: swap, and a mount in a name space of its own.
    bench
        .machine
        .done(&format!("mkswap -q {node} && swapon {node}"))?;
    bench.wait_for(3, "the use is seen", |card| card["in_use"] == "swap")?;
    let said = bench.machine.run("duplicarium slot release 3")?;
    ensure!(
        said.code == 1 && said.text.contains("swap"),
        "{}",
        said.text
    );
    bench
        .machine
        .done(&format!("swapoff {node} && mkfs.ext4 -q -F {node}"))?;
    // A card is looked at once for each insertion.
    bench.machine.pull("one")?;
    bench.machine.plug("one", "1", &name, "GULL-1")?;
    bench.wait_for(3, "it is seen", |card| card["occupant"] == "foreign")?;
    let node = bench.disk("1", 0)?["node"]
        .as_str()
        .context("node")?
        .to_owned();
    bench.machine.done(&format!(
        "mkdir -p /tmp/hidden; unshare -m sh -c 'mount {node} /tmp/hidden; sleep 1000' > /dev/null 2>&1 & sleep 3; true"
    ))?;
    bench.wait_for(3, "nothing shows", |card| {
        card["occupant"] == "foreign" && card["in_use"].is_null()
    })?;
    let said = bench.write("quay-01", 3)?;
    ensure!(
        said.code == 1 && said.text.contains("in use"),
        "{}",
        said.text
    );
    bench.machine.done("pkill -f 'sleep 1000'; true")?;
    Ok(())
}

fn two_of_one_model(bench: &mut Bench) -> Result<()> {
    let (first, _) = bench.card(&Medium::default())?;
    let (second, _) = bench.card(&Medium::default())?;
    // One model, one serial number, as cheap readers have it.
    bench.machine.plug("one", "1", &first, "0001")?;
    bench.machine.plug("two", "2", &second, "0001")?;
    bench.bind(1, "1", 0)?;
    bench.bind(2, "2", 0)?;
    for slot in [1, 2] {
        bench.wait_for(slot, "a card", |card| card["occupant"] == "blank")?;
    }
    let (one, two) = (bench.label(1)?, bench.label(2)?);
    for (slot, device, label) in [(1, "quay-01", &one), (2, "quay-02", &two)] {
        bench.machine.done(&format!(
            "duplicarium write {device} --slot {slot} --yes {label} {AGREED}"
        ))?;
    }
    // Pulled both and plugged in in the other order: the kernel's names change places, the slots do not.
    bench.machine.pull("one")?;
    bench.machine.pull("two")?;
    bench.machine.plug("two", "2", &second, "0001")?;
    bench.wait_for(2, "known", |card| card["label"] == *two)?;
    bench.machine.plug("one", "1", &first, "0001")?;
    bench.wait_for(1, "known", |card| card["label"] == *one)?;
    let (first, second) = (bench.disk("1", 0)?, bench.disk("2", 0)?);
    ensure!(
        first["slot"] == 1 && second["slot"] == 2 && first["node"] != second["node"],
        "{first} {second}"
    );
    Ok(())
}

fn unprivileged(bench: &mut Bench) -> Result<()> {
    bench.ready(&Medium::default())?;
    let node = bench.disk("1", 0)?["node"]
        .as_str()
        .context("node")?
        .to_owned();
    bench.machine.done(
        "pkill -TERM duplicariumd; while pgrep duplicariumd > /dev/null; do sleep 0.2; done",
    )?;
    bench.machine.done("chmod 600 /dev/sd*; mkdir -p /tmp/other; cp /srv/duplicarium/bench.toml /tmp/other/; chown -R nobody /tmp/other")?;
    let nobody = "setpriv --reuid=nobody --regid=nogroup --clear-groups env HOME=/tmp/other";
    bench.machine.done(&format!(
        "{nobody} setsid duplicariumd --data-dir /tmp/other > /tmp/service.log 2>&1 & true"
    ))?;
    bench.until("the service is ready", 120, |bench| {
        Ok(bench.machine.run("duplicarium status")?.code == 0)
    })?;
    let mut slot = Value::Null;
    bench
        .until("it says so", 20, |bench| {
            slot = bench.slot(3)?;
            Ok(slot["trouble"]
                .as_str()
                .is_some_and(|trouble| trouble.contains("may not open")))
        })
        .with_context(|| format!("{slot}"))?;
    let rule = bench.machine.done("duplicarium bench rule")?;
    ensure!(
        rule.contains("SUBSYSTEM==\"block\"") && rule.contains("-1:*"),
        "{rule}"
    );
    bench.machine.done(&format!("chown nobody {node}"))?;
    bench.wait_for(3, "it may now", |card| card["occupant"] == "blank")
}
