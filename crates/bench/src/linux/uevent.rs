//! What the kernel says when a device comes, goes or changes: datagrams of zero-terminated words on a
//! netlink socket (`NETLINK_KOBJECT_UEVENT`, group 1; netlink(7)). They only end a wait early: what there
//! is, sysfs says.

use std::os::fd::OwnedFd;
use std::time::{Duration, Instant};

use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::net::netlink::{KOBJECT_UEVENT, SocketAddrNetlink};
use rustix::net::{AddressFamily, RecvFlags, SocketFlags, SocketType, bind, recv, socket_with};

/// Long enough for every message of the kernel, whose own limit is 2048 bytes.
const MOST: usize = 4096;

/// The group of the kernel's own messages.
const KERNEL: u32 = 1;

/// Listens to the kernel.
pub struct Listener(OwnedFd);

impl Listener {
    /// Nothing where the kernel lets nobody listen; then waits run to their end.
    pub fn new() -> Option<Self> {
        let socket = socket_with(
            AddressFamily::NETLINK,
            SocketType::DGRAM,
            SocketFlags::CLOEXEC | SocketFlags::NONBLOCK,
            Some(KOBJECT_UEVENT),
        )
        .ok()?;
        bind(&socket, &SocketAddrNetlink::new(0, KERNEL)).ok()?;
        Some(Self(socket))
    }

    /// Waits for news of a block device, at most so long.
    pub fn wait(&self, most: Duration) {
        let end = Instant::now() + most;
        loop {
            let left = end.saturating_duration_since(Instant::now());
            let left = Timespec {
                tv_sec: left.as_secs() as i64,
                tv_nsec: i64::from(left.subsec_nanos()),
            };
            let mut fds = [PollFd::new(&self.0, PollFlags::IN)];
            match poll(&mut fds, Some(&left)) {
                Ok(1..) => {}
                Err(rustix::io::Errno::INTR) => continue,
                _ => return,
            }
            let mut news = false;
            let mut message = [0; MOST];
            // Several come at once: one look answers all of them.
            while let Ok((len, _)) = recv(&self.0, &mut message[..], RecvFlags::DONTWAIT) {
                let mut words = message[..len.min(MOST)].split(|byte| *byte == 0);
                news |= words.any(|word| word == b"SUBSYSTEM=block");
            }
            if news {
                return;
            }
        }
    }
}
