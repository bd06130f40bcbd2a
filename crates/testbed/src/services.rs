//! Several services on one database and one vault.

use std::path::{Path, PathBuf};

use records::OwnServer;

use crate::Testbed;

/// What services share.
struct Shared {
    server: OwnServer,
    vault: PathBuf,
    dir: tempfile::TempDir,
}

impl Shared {
    fn make() -> Self {
        let dir = tempfile::Builder::new()
            .prefix("duplicarium-shared-")
            .tempdir()
            .expect("a temporary folder");
        let open = std::os::unix::fs::PermissionsExt::from_mode(0o755);
        std::fs::set_permissions(dir.path(), open).expect("the folder is ours");
        let database = dir.path().join("database");
        std::fs::create_dir(&database).expect("the folder is ours");
        // On a thread of its own: whoever starts this may be in a runtime already.
        let started = std::thread::spawn(move || {
            let runtime = tokio::runtime::Runtime::new().expect("a runtime");
            runtime.block_on(OwnServer::start(&database))
        });
        let server = started
            .join()
            .expect("nothing panicked")
            .expect("PostgreSQL starts");
        Self {
            server,
            vault: dir.path().join("vault"),
            dir,
        }
    }

    /// Starts a service, with the key of another one or with its own.
    fn service(&self, flags: &[&str], more: &[&str], key: Option<&Path>) -> Testbed {
        Testbed::start_after(flags, |bed| {
            bed.database = Some(self.server.url().to_owned());
            let own = [
                "--private-addresses",
                "--database-url",
                self.server.url(),
                "--vault-store",
                crate::path(&self.vault),
                "--service-address",
                &bed.url(),
            ]
            .map(str::to_owned);
            bed.flags.extend(own);
            bed.flags.extend(more.iter().map(|flag| (*flag).to_owned()));
            if let Some(key) = key {
                std::fs::create_dir_all(bed.data_dir()).expect("the folder is ours");
                std::fs::copy(key, bed.data_dir().join("team.key")).expect("a key file");
            }
        })
    }

    fn of(self, one: Testbed, two: Testbed) -> Services {
        Services {
            one,
            two,
            shared: self,
        }
    }
}

/// Two services that share everything but their memory and their data folders.
pub struct Services {
    /// The first one; the reader of its computer is the own one of the team.
    pub one: Testbed,
    /// The second one.
    pub two: Testbed,
    shared: Shared,
}

impl Services {
    /// Starts both, one after the other, with these flags besides.
    pub fn start(flags: &[&str]) -> Self {
        let shared = Shared::make();
        let one = shared.service(flags, &["--own-slots"], None);
        let two = shared.service(flags, &[], Some(&one.data_dir().join("team.key")));
        shared.of(one, two)
    }

    /// Starts both at the same moment: the first one of them to begin with the database and the vault is left to chance.
    pub fn start_at_once() -> Self {
        let shared = Shared::make();
        let key = shared.dir.path().join("team.key");
        let root = vault::Root::by_chance().expect("the system gives chance");
        root.save(&key).expect("the folder is ours");
        let (one, two) = std::thread::scope(|scope| {
            let two = scope.spawn(|| shared.service(&[], &[], Some(&key)));
            let one = shared.service(&[], &["--own-slots"], Some(&key));
            (one, two.join().expect("the second one starts"))
        });
        shared.of(one, two)
    }

    /// Kills both and starts them at the same moment.
    pub fn start_again_at_once(&mut self) {
        self.one.kill_service();
        self.two.kill_service();
        std::thread::scope(|scope| {
            scope.spawn(|| self.one.start_service());
            self.two.start_service();
        });
    }

    /// Stops both; their commands start them over TLS from then on.
    pub fn change_to_tls(&mut self) {
        for bed in [&mut self.one, &mut self.two] {
            bed.stop_service();
            let own = bed.url();
            for flag in &mut bed.flags {
                if *flag == own {
                    *flag = own.replace("http://", "https://");
                }
            }
            bed.flags.push("--tls".into());
        }
    }

    /// Address of the database.
    pub fn database(&self) -> &str {
        self.shared.server.url()
    }

    /// Where the vault lies.
    pub fn vault(&self) -> &Path {
        &self.shared.vault
    }

    /// The folder that both share.
    pub fn dir(&self) -> &Path {
        self.shared.dir.path()
    }
}

impl Drop for Services {
    fn drop(&mut self) {
        self.one.stop_service();
        self.two.stop_service();
        if let Err(e) = self.shared.server.stop() {
            eprintln!("PostgreSQL of both services: {e}");
        }
    }
}
