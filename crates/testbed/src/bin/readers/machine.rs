//! A virtual machine with this computer's files under it, a serial line to type commands on, and a monitor
//! (QMP, the machine protocol of QEMU) through which readers are plugged and pulled.

use std::io::{BufRead, BufReader, Write};
use std::os::unix::net::UnixStream;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use anyhow::{Context, Result, bail, ensure};
use serde_json::{Value, json};

/// Modules of the kernel that the machine needs, whatever each depends on among them.
const MODULES: &[&str] = &[
    "usb-common",
    "usbcore",
    "xhci-hcd",
    "xhci-pci",
    "scsi_common",
    "scsi_mod",
    "crc-t10dif",
    "crct10dif_common",
    "t10-pi",
    "crc64",
    "crc64-rocksoft",
    "sd_mod",
    "usb-storage",
    "uas",
    "netfs",
    "fscache",
    "virtio",
    "virtio_ring",
    "virtio_pci_modern_dev",
    "virtio_pci_legacy_dev",
    "virtio_pci",
    "virtio_blk",
    "9pnet",
    "9pnet_virtio",
    "9p",
    "overlay",
    "fat",
    "vfat",
    "nls_cp437",
    "nls_ascii",
    "crc16",
    "mbcache",
    "jbd2",
    "crc32c_generic",
    "libcrc32c",
    "ext4",
];

/// What the machine does first: loads modules, puts a writable layer over this computer's files, and does
/// what it is told on its second serial line.
const INIT: &str = r#"#!/bin/busybox sh
b=/bin/busybox
$b mount -t proc none /proc
$b mount -t sysfs none /sys
$b mount -t devtmpfs none /dev
# Each needs others; whichever can be loaded is, until all are.
for pass in 1 2 3 4 5 6; do for module in /modules/*.ko; do $b insmod $module 2>/dev/null; done; done
$b mount -t 9p -o trans=virtio,version=9p2000.L,msize=262144,ro,cache=loose host /host
$b mount -t tmpfs -o size=3g none /over
$b mkdir -p /over/up /over/work
$b mount -t overlay -o lowerdir=/host,upperdir=/over/up,workdir=/over/work none /root
for place in proc sys dev; do $b mount -o move /$place /root/$place; done
$b mount -t tmpfs none /root/tmp
$b chmod 1777 /root/tmp
$b mkdir -p /root/dev/shm
$b mount -t tmpfs none /root/dev/shm
$b cp /bin/busybox /root/tmp/busybox
$b ifconfig lo 127.0.0.1 up
exec $b switch_root /root /bin/sh -c '
export PATH=/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin HOME=/root
/tmp/busybox stty -F /dev/ttyS1 raw -echo
exec < /dev/ttyS1 > /dev/ttyS1
echo READY
while read -r line; do
    ( eval "$line" ) > /tmp/out 2>&1 < /dev/null
    code=$?
    cat /tmp/out
    echo
    echo "<<<$code>>>"
done'
"#;

pub struct Machine {
    qemu: Child,
    line: BufReader<UnixStream>,
    monitor: BufReader<UnixStream>,
    dir: PathBuf,
}

/// What a command in the machine said.
pub struct Said {
    pub code: i32,
    pub text: String,
}

impl Machine {
    /// Starts one in a folder, with a kernel as Debian packs it, unpacked in another.
    pub fn start(dir: &Path, kernel: &Path) -> Result<Self> {
        let boot = kernel.join("boot");
        let image = std::fs::read_dir(&boot)?
            .flatten()
            .map(|entry| entry.path());
        let image = image
            .filter(|path| path.display().to_string().contains("vmlinuz"))
            .max()
            .context("no kernel")?;
        let first = initial_files(dir, &kernel.join("lib/modules"))?;
        let system = dir.join("system.img");
        std::fs::File::create(&system)?.set_len(64 << 20)?;
        let mut command = Command::new("qemu-system-x86_64");
        command
            .args([
                "-accel",
                "tcg,thread=multi",
                "-cpu",
                "max",
                "-m",
                "4096",
                "-smp",
                "2",
            ])
            .args(["-nographic", "-no-reboot", "-nodefaults"])
            .arg("-kernel")
            .arg(image)
            .arg("-initrd")
            .arg(first)
            .args(["-append", "console=ttyS0 panic=-1 quiet"])
            .args([
                "-virtfs",
                "local,path=/,mount_tag=host,security_model=passthrough,readonly=on,multidevs=remap",
            ])
            .args(["-device", "qemu-xhci,id=usb,p2=8,p3=8"])
            .arg("-drive")
            .arg(format!("if=virtio,format=raw,file={}", system.display()))
            .arg("-serial")
            .arg(format!("file:{}", dir.join("console.log").display()))
            .args(["-serial", &listen(dir, "line")])
            .args(["-qmp", &listen(dir, "monitor")]);
        let qemu = command
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(std::fs::File::create(dir.join("qemu.log"))?)
            .spawn()
            .context("qemu-system-x86_64")?;
        let line = connect(&dir.join("line"))?;
        line.set_read_timeout(Some(Duration::from_secs(300)))?;
        let monitor = connect(&dir.join("monitor"))?;
        monitor.set_read_timeout(Some(Duration::from_secs(30)))?;
        let mut machine = Self {
            qemu,
            line: BufReader::new(line),
            monitor: BufReader::new(monitor),
            dir: dir.into(),
        };
        machine.message()?;
        machine.ask("qmp_capabilities", json!({}))?;
        let mut ready = String::new();
        machine
            .line
            .read_line(&mut ready)
            .context("the machine did not start; see console.log")?;
        ensure!(ready.contains("READY"), "the machine said {ready:?}");
        Ok(machine)
    }

    /// Runs a line of shell in the machine.
    pub fn run(&mut self, line: &str) -> Result<Said> {
        writeln!(self.line.get_mut(), "{}", line.replace('\n', "; "))?;
        let mut text = String::new();
        loop {
            let mut next = String::new();
            let read = self.line.read_line(&mut next);
            read.with_context(|| format!("no answer to {line:?}; so far: {text}"))?;
            ensure!(!next.is_empty(), "the machine ended during {line:?}");
            if let Some(code) = next.trim().strip_prefix("<<<") {
                let code = code.trim_end_matches('>').parse()?;
                return Ok(Said {
                    code,
                    text: text.trim().to_owned(),
                });
            }
            text += &next.replace('\r', "");
        }
    }

    /// Runs a line of shell that must end well.
    pub fn done(&mut self, line: &str) -> Result<String> {
        let said = self.run(line)?;
        ensure!(
            said.code == 0,
            "{line:?} ended with {}: {}",
            said.code,
            said.text
        );
        Ok(said.text)
    }

    fn message(&mut self) -> Result<Value> {
        let mut line = String::new();
        self.monitor.read_line(&mut line)?;
        Ok(serde_json::from_str(&line)?)
    }

    /// Asks the monitor.
    pub fn ask(&mut self, what: &str, with: Value) -> Result<Value> {
        let request = json!({ "execute": what, "arguments": with });
        writeln!(self.monitor.get_mut(), "{request}")?;
        loop {
            let mut message = self.message()?;
            if let Some(error) = message.get("error") {
                bail!("{what} {with}: {error}");
            }
            if message.get("return").is_some() {
                return Ok(message["return"].take());
            }
        }
    }

    /// Waits until the monitor tells of something.
    fn hear(&mut self, event: &str) -> Result<()> {
        let begun = Instant::now();
        while begun.elapsed() < Duration::from_secs(30) {
            if self.message()?["event"] == event {
                return Ok(());
            }
        }
        bail!("the monitor never told of {event}")
    }

    /// A file as a medium.
    pub fn medium(&mut self, name: &str, file: &Path, how: &Medium) -> Result<()> {
        let mut node = json!({
            "driver": "raw", "node-name": name, "read-only": how.locked, "cache": { "direct": false },
            "file": { "driver": "file", "filename": file, "read-only": how.locked, "locking": "off" },
        });
        if let Some(rate) = how.rate {
            let group = format!("group-{name}");
            let limits = json!({ "bps-total": rate });
            self.ask(
                "object-add",
                json!({ "qom-type": "throttle-group", "id": group, "limits": limits }),
            )?;
            node["node-name"] = json!(format!("{name}-raw"));
            node = json!({ "driver": "throttle", "node-name": name, "throttle-group": group, "file": node });
        }
        if let Some((first, behind)) = how.bad {
            let of = |sector: u64| json!({ "event": "none", "iotype": "write", "errno": 5, "sector": sector });
            let _ = behind;
            node["node-name"] = json!(format!("{name}-good"));
            node = json!({ "driver": "blkdebug", "node-name": name, "image": node,
                "inject-error": [of(first / 512)] });
        }
        self.ask("blockdev-add", node)?;
        Ok(())
    }

    /// Plugs a reader with one place in, with a medium in it.
    pub fn plug(&mut self, id: &str, port: &str, medium: &str, serial: &str) -> Result<()> {
        self.ask(
            "device_add",
            json!({ "driver": "usb-storage", "id": id, "bus": "usb.0", "port": port, "drive": medium,
                "serial": serial, "removable": true }),
        )?;
        Ok(())
    }

    /// Plugs a reader with several places in, each with a medium.
    pub fn plug_many(&mut self, id: &str, port: &str, media: &[&str]) -> Result<()> {
        self.ask(
            "device_add",
            json!({ "driver": "usb-bot", "id": id, "bus": "usb.0", "port": port, "attached": false }),
        )?;
        for (unit, medium) in media.iter().enumerate() {
            self.ask(
                "device_add",
                json!({ "driver": "scsi-hd", "id": format!("{id}-{unit}"), "bus": format!("{id}.0"),
                    "scsi-id": 0, "lun": unit, "drive": medium, "removable": true }),
            )?;
        }
        let path = format!("/machine/peripheral/{id}");
        self.ask(
            "qom-set",
            json!({ "path": path, "property": "attached", "value": true }),
        )?;
        Ok(())
    }

    /// Pulls a reader with all that is in it.
    pub fn pull(&mut self, id: &str) -> Result<()> {
        self.ask("device_del", json!({ "id": id }))?;
        self.hear("DEVICE_DELETED")
    }

    /// Takes the medium out of a place that stays.
    pub fn take_out(&mut self, place: &str) -> Result<()> {
        // A tray that is locked asks its machine first; pulling a card does not.
        self.ask("blockdev-open-tray", json!({ "id": place, "force": true }))?;
        self.ask("blockdev-remove-medium", json!({ "id": place }))?;
        Ok(())
    }

    /// Puts a medium into a place that stays.
    pub fn put_in(&mut self, place: &str, medium: &str) -> Result<()> {
        self.ask(
            "blockdev-insert-medium",
            json!({ "id": place, "node-name": medium }),
        )?;
        self.ask("blockdev-close-tray", json!({ "id": place }))?;
        Ok(())
    }

    /// The folder of this machine.
    pub fn dir(&self) -> &Path {
        &self.dir
    }
}

impl Drop for Machine {
    fn drop(&mut self) {
        let _ = self.qemu.kill();
        let _ = self.qemu.wait();
    }
}

/// What a medium is like.
#[derive(Default)]
pub struct Medium {
    pub locked: bool,
    /// Bytes a second at most.
    pub rate: Option<u64>,
    /// First byte and byte behind of a region that takes no writes.
    pub bad: Option<(u64, u64)>,
}

fn listen(dir: &Path, name: &str) -> String {
    format!("unix:{},server=on,wait=off", dir.join(name).display())
}

fn connect(path: &Path) -> Result<UnixStream> {
    let begun = Instant::now();
    loop {
        match UnixStream::connect(path) {
            Ok(stream) => return Ok(stream),
            Err(e) if begun.elapsed() > Duration::from_secs(20) => {
                return Err(e).with_context(|| format!("{}; see qemu.log", path.display()));
            }
            Err(_) => std::thread::sleep(Duration::from_millis(50)),
        }
    }
}

/// The files that the kernel starts from, as an archive in the form that it wants (`newc`).
fn initial_files(dir: &Path, modules: &Path) -> Result<PathBuf> {
    let root = dir.join("first");
    for place in [
        "bin", "modules", "proc", "sys", "dev", "host", "over", "root",
    ] {
        std::fs::create_dir_all(root.join(place))?;
    }
    let busybox = ["/bin/busybox", "/usr/bin/busybox"]
        .iter()
        .find(|path| Path::new(path).exists())
        .context("busybox is missing")?;
    std::fs::copy(busybox, root.join("bin/busybox"))?;
    let found = Command::new("find")
        .arg(modules)
        .args(["-name", "*.ko"])
        .output()?;
    for path in String::from_utf8_lossy(&found.stdout)
        .lines()
        .map(Path::new)
    {
        let stem = path
            .file_stem()
            .unwrap_or_default()
            .to_string_lossy()
            .into_owned();
        if MODULES.contains(&stem.as_str()) {
            std::fs::copy(path, root.join("modules").join(format!("{stem}.ko")))?;
        }
    }
    let init = root.join("init");
    std::fs::write(&init, INIT)?;
    std::fs::set_permissions(&init, std::os::unix::fs::PermissionsExt::from_mode(0o755))?;
    let packed = dir.join("first.cpio");
    let done = Command::new("sh")
        .current_dir(&root)
        .args(["-c", "find . | cpio --quiet -o -H newc > ../first.cpio"])
        .status()?;
    ensure!(done.success(), "cpio failed");
    Ok(packed)
}
